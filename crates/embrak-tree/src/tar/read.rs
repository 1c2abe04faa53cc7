//! Reading tar archives: ours, and those of others (ustar, pax, GNU long names).

use super::BLOCK;
use crate::{BlobSink, Digest, Entry, Kind, PathError, Tree, TreePath};
use std::collections::BTreeMap;
use std::io::{self, Read};

/// Pax headers and long names above this many bytes are refused rather than read into memory.
const HEADER_LIMIT: u64 = 1 << 20;

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum TarError {
    /// Reading failed.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// The archive is not as the format says.
    #[error("archive damaged at byte {offset}: {what}")]
    Damaged {
        /// Where the header begins, bytes from the start.
        offset: u64,
        /// What is wrong.
        what: String,
    },
    /// An entry's name leads out of the tree or cannot be one.
    #[error("archive entry refused: {0}")]
    Path(#[from] PathError),
}

/// Reads an archive from start to end and hands every entry to `visit`, with a reader over the content of
/// files (empty for others). The digest of files is not known yet: it is left as the digest of nothing.
/// What `visit` does not read is skipped.
///
/// # Errors
/// The archive is damaged or refused, or `visit` fails.
pub fn read_archive<R: Read>(
    mut input: R,
    mut visit: impl FnMut(TreePath, Entry, &mut dyn Read) -> Result<(), TarError>,
) -> Result<(), TarError> {
    let mut offset = 0u64;
    let mut pax: BTreeMap<Vec<u8>, Vec<u8>> = BTreeMap::new();
    let mut zero_blocks = 0;
    loop {
        let mut block = [0; BLOCK];
        let got = read_full(&mut input, &mut block)?;
        let start = offset;
        let damaged = |what: &str| TarError::Damaged { offset: start, what: what.to_string() };
        match got {
            0 if zero_blocks > 0 => return Ok(()),
            0 => return Err(damaged("it ends without the blocks that close an archive: cut short?")),
            BLOCK => {}
            _ => return Err(damaged("it ends in the middle of a header")),
        }
        if block.iter().all(|&b| b == 0) {
            zero_blocks += 1;
            offset += BLOCK as u64;
            if zero_blocks == 2 {
                return Ok(());
            }
            continue;
        }
        let header = RawHeader::parse(&block).map_err(|what| damaged(&what))?;
        let size = match pax.get(b"size".as_slice()) {
            Some(text) if header.has_content() => decimal(text).ok_or_else(|| damaged("bad pax size"))?,
            _ => header.size,
        };
        let padded = size.div_ceil(BLOCK as u64).checked_mul(BLOCK as u64).ok_or_else(|| damaged("absurd size"))?;
        offset = offset
            .checked_add(padded)
            .and_then(|o| o.checked_add(BLOCK as u64))
            .ok_or_else(|| damaged("absurd size"))?;
        let cut = || TarError::Damaged { offset: start, what: "its content ends before its size".into() };
        match header.typeflag {
            b'x' | b'L' | b'K' | b'g' => {
                if size > HEADER_LIMIT {
                    return Err(damaged("an extended header of more than 1 MiB"));
                }
                let mut bytes = vec![0; padded as usize];
                if read_full(&mut input, &mut bytes)? < bytes.len() {
                    return Err(cut());
                }
                bytes.truncate(size as usize);
                match header.typeflag {
                    b'x' => parse_pax(&bytes, &mut pax).map_err(|what| damaged(&what))?,
                    b'g' => {}
                    other => {
                        while bytes.last() == Some(&0) {
                            bytes.pop();
                        }
                        let key = if other == b'L' { b"path".as_slice() } else { b"linkpath".as_slice() };
                        pax.insert(key.to_vec(), bytes);
                    }
                }
            }
            _ => {
                let (path, entry) = header.into_entry(std::mem::take(&mut pax), size).map_err(|e| match e {
                    EntryError::Path(e) => TarError::Path(e),
                    EntryError::Other(what) => TarError::Damaged { offset: start, what },
                })?;
                if path.is_root() && !entry.is_directory() {
                    return Err(damaged("an entry without a name that is not a directory"));
                }
                let has_content = matches!(entry.kind, Kind::File { .. });
                let mut content = (&mut input).take(if has_content { size } else { 0 });
                visit(path, entry, &mut content)?;
                let left = content.limit() + if has_content { padded - size } else { padded };
                if io::copy(&mut (&mut input).take(left), &mut io::sink())? < left {
                    return Err(cut());
                }
            }
        }
    }
}

/// Reads an archive into a tree, putting file contents into `blobs`.
///
/// # Errors
/// As [`read_archive`]; also a hard link whose target has not come before it.
pub fn read_tree<R: Read>(input: R, blobs: &dyn BlobSink) -> Result<Tree, TarError> {
    let mut tree = Tree::new();
    read_archive(input, |path, mut entry, content| {
        if let Kind::File { digest, size } = &mut entry.kind {
            let (found, length) = blobs.put(content)?;
            if length != *size {
                return Err(TarError::Damaged { offset: 0, what: format!("{path} ends before its size") });
            }
            *digest = found;
        }
        if let Kind::Hardlink { target } = &entry.kind {
            match tree.get(target).map(|e| &e.kind) {
                Some(Kind::File { .. }) => {}
                Some(Kind::Hardlink { target: first }) => entry.kind = Kind::Hardlink { target: first.clone() },
                _ => {
                    let what = format!("{path} is a hard link to {target}, which is not a file before it");
                    return Err(TarError::Damaged { offset: 0, what });
                }
            }
        }
        tree.insert(path, entry);
        Ok(())
    })?;
    Ok(tree)
}

struct RawHeader {
    name: Vec<u8>,
    link: Vec<u8>,
    typeflag: u8,
    mode: u32,
    uid: u64,
    gid: u64,
    size: u64,
    mtime: i64,
    device: (u32, u32),
}

enum EntryError {
    Path(PathError),
    Other(String),
}

impl RawHeader {
    fn parse(block: &[u8; BLOCK]) -> Result<Self, String> {
        let stored = number(&block[148..156]).ok_or("bad checksum field")?;
        let sum: u64 =
            block.iter().enumerate().map(|(i, &b)| if (148..156).contains(&i) { 32 } else { u64::from(b) }).sum();
        if sum != stored {
            return Err(format!("header checksum is {stored}, its bytes add up to {sum}"));
        }
        let field = |from: usize, to: usize, name: &str| number(&block[from..to]).ok_or(format!("bad {name}"));
        let mut name = text(&block[..100]);
        let prefix = text(&block[345..500]);
        if &block[257..262] == b"ustar" && block[262] == 0 && !prefix.is_empty() {
            name = [prefix.as_slice(), b"/", name.as_slice()].concat();
        }
        let device = match block[156] {
            b'3' | b'4' => (field(329, 337, "device")? as u32, field(337, 345, "device")? as u32),
            _ => (0, 0),
        };
        Ok(RawHeader {
            name,
            link: text(&block[157..257]),
            typeflag: block[156],
            mode: (field(100, 108, "mode")? & 0o7777) as u32,
            uid: field(108, 116, "uid")?,
            gid: field(116, 124, "gid")?,
            size: field(124, 136, "size")?,
            mtime: i64::try_from(field(136, 148, "mtime")?).map_err(|_| "bad mtime")?,
            device,
        })
    }

    /// Whether blocks of content follow this header.
    fn has_content(&self) -> bool {
        matches!(self.typeflag, b'0' | 0 | b'7')
    }

    fn into_entry(self, pax: BTreeMap<Vec<u8>, Vec<u8>>, size: u64) -> Result<(TreePath, Entry), EntryError> {
        let other = |what: &str| EntryError::Other(what.to_string());
        let name = pax.get(b"path".as_slice()).unwrap_or(&self.name);
        let path = TreePath::from_relative(name).map_err(EntryError::Path)?;
        let link = pax.get(b"linkpath".as_slice()).unwrap_or(&self.link).clone();
        let id = |key: &[u8], raw: u64| match pax.get(key) {
            Some(value) => decimal(value).and_then(|n| u32::try_from(n).ok()),
            None => u32::try_from(raw).ok(),
        };
        let mtime = match pax.get(b"mtime".as_slice()) {
            // Fractions of a second are dropped: trees count whole seconds.
            Some(value) => std::str::from_utf8(value)
                .ok()
                .and_then(|t| t.split('.').next())
                .and_then(|t| t.parse().ok())
                .ok_or_else(|| other("bad pax mtime"))?,
            None => self.mtime,
        };
        let (major, minor) = self.device;
        let kind = match self.typeflag {
            b'0' | 0 | b'7' if name.ends_with(b"/") => Kind::Directory,
            b'0' | 0 | b'7' => Kind::File { digest: Digest::of(b""), size },
            b'1' => Kind::Hardlink { target: TreePath::from_relative(&link).map_err(EntryError::Path)? },
            b'2' => Kind::Symlink { target: link },
            b'3' => Kind::CharDevice { major, minor },
            b'4' => Kind::BlockDevice { major, minor },
            b'5' => Kind::Directory,
            b'6' => Kind::Fifo,
            t => return Err(EntryError::Other(format!("entry of unknown type {:?}", char::from(t)))),
        };
        let mut xattrs = BTreeMap::new();
        for (key, value) in &pax {
            if let Some(name) = key.strip_prefix(b"SCHILY.xattr.") {
                xattrs.insert(name.to_vec(), value.clone());
            }
        }
        let entry = Entry {
            kind,
            mode: self.mode,
            uid: id(b"uid", self.uid).ok_or_else(|| other("bad uid"))?,
            gid: id(b"gid", self.gid).ok_or_else(|| other("bad gid"))?,
            mtime,
            xattrs,
        };
        Ok((path, entry))
    }
}

fn text(field: &[u8]) -> Vec<u8> {
    field.split(|&b| b == 0).next().unwrap_or_default().to_vec()
}

/// An octal field, or a base-256 one (first bit set) as GNU tar writes for large values.
fn number(field: &[u8]) -> Option<u64> {
    if field[0] & 0x80 != 0 {
        let mut value = u64::from(field[0] & 0x7f);
        for &b in &field[1..] {
            value = value.checked_mul(256)?.checked_add(u64::from(b))?;
        }
        return Some(value);
    }
    let text = std::str::from_utf8(field).ok()?;
    let digits = text.trim_matches(|c| c == ' ' || c == '\0');
    if digits.is_empty() { Some(0) } else { u64::from_str_radix(digits, 8).ok() }
}

fn decimal(text: &[u8]) -> Option<u64> {
    std::str::from_utf8(text).ok()?.parse().ok()
}

fn parse_pax(mut bytes: &[u8], into: &mut BTreeMap<Vec<u8>, Vec<u8>>) -> Result<(), String> {
    while !bytes.is_empty() {
        let space = bytes.iter().position(|&b| b == b' ').ok_or("bad pax record")?;
        let length = decimal(&bytes[..space]).ok_or("bad pax record length")? as usize;
        let record = bytes.get(space + 1..length).ok_or("pax record longer than its header")?;
        let body = record.strip_suffix(b"\n").ok_or("pax record without line feed")?;
        let equals = body.iter().position(|&b| b == b'=').ok_or("pax record without `=`")?;
        into.insert(body[..equals].to_vec(), body[equals + 1..].to_vec());
        bytes = &bytes[length..];
    }
    Ok(())
}

/// Fills the buffer as far as the input goes.
fn read_full(input: &mut impl Read, buf: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buf.len() {
        match input.read(&mut buf[filled..]) {
            Ok(0) => break,
            Ok(n) => filled += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::super::{Version, write_tree};
    use super::*;
    use crate::MemoryBlobs;
    use proptest::prelude::*;

    /// The strategies' files have contents that only the strategy knows; give each file new bytes of its size.
    fn with_contents(mut tree: Tree) -> (Tree, MemoryBlobs) {
        let blobs = MemoryBlobs::default();
        for (path, entry) in tree.iter_mut() {
            if let Kind::File { digest, size } = &mut entry.kind {
                let bytes: Vec<u8> = path.as_bytes().iter().copied().cycle().take(*size as usize).collect();
                *digest = blobs.add(bytes).0;
            }
        }
        (tree, blobs)
    }

    proptest! {
        #[test]
        fn any_tree_written_and_read_back_is_the_same(tree in crate::tree::strategies::tree()) {
            let (tree, blobs) = with_contents(tree);
            for version in Version::ALL {
                let archive = write_tree(&tree, version, &blobs, Vec::new()).unwrap();
                prop_assert_eq!(archive.len() % BLOCK, 0);
                let back = read_tree(&archive[..], &MemoryBlobs::default()).unwrap();
                prop_assert_eq!(&back, &tree);
            }
        }

        #[test]
        fn a_damaged_header_is_noticed(tree in crate::tree::strategies::tree(), at in any::<usize>(), flip in 1u8..=255) {
            let (tree, blobs) = with_contents(tree);
            prop_assume!(!tree.is_empty());
            let mut archive = write_tree(&tree, Version::default(), &blobs, Vec::new()).unwrap();
            // The bytes 500..512 of a header are padding that counts in the checksum too. In the checksum field
            // itself some flips only exchange a space for a NUL.
            let at = at % BLOCK;
            prop_assume!(!(154..156).contains(&at));
            archive[at] ^= flip;
            prop_assert!(read_tree(&archive[..], &MemoryBlobs::default()).is_err());
        }

        #[test]
        fn a_short_archive_is_an_error(tree in crate::tree::strategies::tree(), cut in any::<usize>()) {
            let (tree, blobs) = with_contents(tree);
            let archive = write_tree(&tree, Version::default(), &blobs, Vec::new()).unwrap();
            let at = cut % (archive.len() - BLOCK);
            prop_assert!(read_tree(&archive[..at], &MemoryBlobs::default()).is_err());
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..2000)) {
            let _ = read_tree(&bytes[..], &MemoryBlobs::default());
        }
    }

    #[test]
    fn names_that_lead_out_are_refused() {
        for name in ["../evil", "a/../../evil"] {
            let mut archive = super::super::ArchiveWriter::new(Vec::new());
            archive.entry(name.as_bytes(), &Entry::new(Kind::Fifo, 0o644), &mut io::empty()).unwrap();
            let bytes = archive.finish().unwrap();
            let error = read_tree(&bytes[..], &MemoryBlobs::default()).unwrap_err();
            assert!(matches!(error, TarError::Path(PathError::Dots(_))), "{error}");
        }
    }

    #[test]
    fn hard_links_come_back_as_links_to_the_first_name() {
        let blobs = MemoryBlobs::default();
        let (digest, size) = blobs.add("shared");
        let mut tree = Tree::new();
        tree.insert("/a".parse().unwrap(), Entry::file(digest, size));
        tree.insert("/b".parse().unwrap(), Entry::new(Kind::Hardlink { target: "/a".parse().unwrap() }, 0o644));
        let archive = write_tree(&tree, Version::default(), &blobs, Vec::new()).unwrap();
        assert_eq!(read_tree(&archive[..], &MemoryBlobs::default()).unwrap(), tree);
    }

    #[test]
    fn the_writer_is_pinned() {
        let blobs = MemoryBlobs::default();
        let (digest, size) = blobs.add("station = holm\n");
        let mut tree = Tree::new();
        tree.insert("/etc/beacon.conf".parse().unwrap(), Entry::file(digest, size).dated(1_772_323_200));
        tree.insert(format!("/etc/{}", "long".repeat(40)).parse().unwrap(), Entry::symlink("beacon.conf"));
        tree.add_missing_directories(1_772_323_200);
        let archive = write_tree(&tree, Version::default(), &blobs, Vec::new()).unwrap();
        assert_eq!(
            Digest::of(&archive).hex(),
            "2c13c680093c04f019aaecfa8b1f5913cb9b1c3eff955210e5f1669d82a3ea18",
            "the bytes changed: raise WRITER_VERSION and pin the new digest"
        );
    }
}
