//! cpio archives in the form `newc` (Linux kernel documentation, "initramfs buffer format").
//!
//! Entries come in path order with inode numbers counted from 1; a file of several names has its bytes with the last.
//! The format has no place for extended attributes and none for times before 1970 or files of 4 GiB.

use crate::{BlobSink, BlobSource, Entry, Kind, Tree, TreePath};
use std::collections::BTreeMap;
use std::io::{self, Read, Write};

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// Bytes an archive begins with; `070702` has checksums, which nothing writes any more.
pub const MAGIC: &[u8] = b"070701";
const TRAILER: &[u8] = b"TRAILER!!!";
/// A whole archive is padded to this, as block devices want it.
const BLOCK: u64 = 512;

/// Why an archive cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum CpioError {
    /// Its bytes make no sense.
    #[error("cpio archive damaged at byte {at}: {what}")]
    Damaged {
        /// Where.
        at: u64,
        /// What is wrong.
        what: String,
    },
    /// Reading fails.
    #[error(transparent)]
    Io(#[from] io::Error),
}

struct Writer<W> {
    out: W,
    at: u64,
}

impl<W: Write> Writer<W> {
    fn bytes(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.at += bytes.len() as u64;
        self.out.write_all(bytes)
    }

    fn pad(&mut self, unit: u64) -> io::Result<()> {
        let zeros = [0; BLOCK as usize];
        let gap = self.at.next_multiple_of(unit) - self.at;
        self.bytes(&zeros[..gap as usize])
    }

    fn header(&mut self, name: &[u8], fields: [u64; 8], device: (u32, u32)) -> io::Result<()> {
        // inode, mode, uid, gid, links, mtime, size, device of the file, device it is, name, checksum
        let [inode, mode, uid, gid, links, mtime, size, _] = fields;
        let numbers = [inode, mode, uid, gid, links, mtime, size, 0, 0, device.0.into(), device.1.into()];
        let mut text = String::from("070701");
        for number in numbers.into_iter().chain([name.len() as u64 + 1, 0]) {
            text += &format!("{number:08X}");
        }
        self.bytes(text.as_bytes())?;
        self.bytes(name)?;
        self.bytes(&[0])?;
        self.pad(4)
    }
}

/// Writes a tree as one archive.
///
/// # Errors
/// A file is too large for the format, its contents are not there, or writing fails.
pub fn write_tree<W: Write>(tree: &Tree, blobs: &dyn BlobSource, out: W) -> io::Result<W> {
    let mut whole = tree.clone();
    whole.add_missing_directories(0);
    let mut names: BTreeMap<&TreePath, Vec<&TreePath>> = BTreeMap::new();
    for (path, entry) in whole.iter() {
        match &entry.kind {
            Kind::Hardlink { target } => names.entry(target).or_default().push(path),
            _ => names.entry(path).or_default().push(path),
        }
    }
    let numbers: BTreeMap<&TreePath, u64> = names.keys().copied().zip(1..).collect();
    let mut writer = Writer { out, at: 0 };
    for (path, entry) in whole.iter() {
        let of = if let Kind::Hardlink { target } = &entry.kind { target } else { path };
        let (real, all) = (whole.resolve_link(entry), &names[of]);
        let last = all.iter().max() == Some(&path);
        let mut device = (0, 0);
        let mut size = 0;
        let kind: u32 = match &real.kind {
            Kind::File { size: length, .. } => {
                size = if last { *length } else { 0 };
                0o10_0000
            }
            Kind::Directory => 0o04_0000,
            Kind::Symlink { target } => {
                size = target.len() as u64;
                0o12_0000
            }
            Kind::CharDevice { major, minor } => {
                device = (*major, *minor);
                0o02_0000
            }
            Kind::BlockDevice { major, minor } => {
                device = (*major, *minor);
                0o06_0000
            }
            Kind::Fifo => 0o01_0000,
            Kind::Hardlink { .. } => {
                let what = format!("{path} is another name of a file that is not there");
                return Err(io::Error::new(io::ErrorKind::InvalidInput, what));
            }
        };
        if size > u64::from(u32::MAX) {
            let what = format!("{path} has 4 GiB or more, which cpio cannot hold");
            return Err(io::Error::new(io::ErrorKind::InvalidInput, what));
        }
        let name = if path.is_root() { b"." } else { path.relative() };
        let mtime = real.mtime.clamp(0, i64::from(u32::MAX)) as u64;
        let links = if real.is_directory() { 2 } else { all.len() as u64 };
        let mode = u64::from(kind | real.mode);
        writer.header(name, [numbers[of], mode, real.uid.into(), real.gid.into(), links, mtime, size, 0], device)?;
        match &real.kind {
            Kind::File { digest, .. } if last => {
                let copied = io::copy(&mut blobs.open(digest)?, &mut writer.out)?;
                if copied != size {
                    let what = format!("{path} does not have the {size} bytes it should");
                    return Err(io::Error::new(io::ErrorKind::InvalidData, what));
                }
                writer.at += size;
            }
            Kind::Symlink { target } => writer.bytes(target)?,
            _ => {}
        }
        writer.pad(4)?;
    }
    writer.header(TRAILER, [0, 0, 0, 0, 1, 0, 0, 0], (0, 0))?;
    writer.pad(BLOCK)?;
    Ok(writer.out)
}

/// Reads one archive up to its end into a tree, over what is there already, as the kernel unpacks several one behind
/// the other. The reader is left behind the archive's trailer.
///
/// # Errors
/// It is damaged, or contents cannot be kept.
pub fn read_into(tree: &mut Tree, input: &mut dyn Read, blobs: &dyn BlobSink) -> Result<(), CpioError> {
    let mut input = Counted { inner: input, at: 0 };
    // First names of files with several, by inode.
    let mut linked: BTreeMap<u64, Vec<TreePath>> = BTreeMap::new();
    loop {
        let at = input.at;
        let damaged = |what: &str| CpioError::Damaged { at, what: what.to_string() };
        let mut header = [0; 110];
        input.read_exact(&mut header)?;
        if !matches!(&header[..6], b"070701" | b"070702") {
            return Err(damaged("no header where one should be"));
        }
        let mut fields = [0u64; 13];
        for (field, digits) in fields.iter_mut().zip(header[6..].chunks(8)) {
            let text = std::str::from_utf8(digits).map_err(|_| damaged("a number that is none"))?;
            *field = u64::from_str_radix(text, 16).map_err(|_| damaged("a number that is none"))?;
        }
        let [inode, mode, uid, gid, links, mtime, size, _, _, major, minor, name_length, _] = fields;
        if !(1..=4096).contains(&name_length) {
            return Err(damaged("a name of an impossible length"));
        }
        let mut name = vec![0; name_length as usize];
        input.read_exact(&mut name)?;
        name.pop();
        input.skip_to(4)?;
        if name == TRAILER {
            return Ok(());
        }
        let path = TreePath::from_relative(&name).map_err(|e| damaged(&e.to_string()))?;
        let number = |n: u64| n as u32;
        let kind = match mode >> 12 & 0o17 {
            0o10 => {
                let (digest, read) = blobs.put(&mut (&mut input).take(size))?;
                if read != size {
                    return Err(damaged("a file is cut off"));
                }
                Kind::File { digest, size }
            }
            0o12 if size <= 4096 => {
                let mut target = vec![0; size as usize];
                input.read_exact(&mut target)?;
                Kind::Symlink { target }
            }
            0o04 => Kind::Directory,
            0o02 => Kind::CharDevice { major: number(major), minor: number(minor) },
            0o06 => Kind::BlockDevice { major: number(major), minor: number(minor) },
            0o01 => Kind::Fifo,
            _ => return Err(damaged("an entry of no known kind")),
        };
        input.skip_to(4)?;
        let entry = Entry {
            mode: (mode & 0o7777) as u32,
            uid: number(uid),
            gid: number(gid),
            mtime: mtime as i64,
            xattrs: BTreeMap::new(),
            kind,
        };
        if matches!(entry.kind, Kind::File { .. }) && links > 1 {
            join_names(tree, linked.entry(inode).or_default(), path, entry);
        } else {
            tree.insert(path, entry);
        }
    }
}

/// Whichever name came with the bytes gives them to the first in path order.
fn join_names(tree: &mut Tree, names: &mut Vec<TreePath>, path: TreePath, entry: Entry) {
    let content = |e: &Entry| matches!(e.kind, Kind::File { size, .. } if size > 0);
    let old = names.first().and_then(|first| tree.get(first).cloned());
    let held = match old {
        Some(old) if content(&old) && !content(&entry) => old,
        _ => entry,
    };
    names.push(path);
    names.sort();
    names.dedup();
    for (n, name) in names.iter().enumerate() {
        let kind = if n == 0 { held.kind.clone() } else { Kind::Hardlink { target: names[0].clone() } };
        tree.insert(name.clone(), Entry { kind, ..held.clone() });
    }
}

struct Counted<'a> {
    inner: &'a mut dyn Read,
    at: u64,
}

impl Counted<'_> {
    fn skip_to(&mut self, unit: u64) -> io::Result<()> {
        let gap = self.at.next_multiple_of(unit) - self.at;
        self.read_exact(&mut [0; 4][..gap as usize])
    }
}

impl Read for Counted<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.at += n as u64;
        Ok(n)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tree::strategies;
    use crate::{Digest, DigestOnly, MemoryBlobs};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_tree_comes_back(tree in strategies::tree(), damage in proptest::collection::vec((any::<usize>(), any::<u8>()), 0..4)) {
            let blobs = MemoryBlobs::default();
            let mut tree = tree;
            let mut wanted = Tree::new();
            for (path, entry) in tree.iter_mut() {
                if let Kind::File { digest, size } = &mut entry.kind {
                    let made = blobs.add(path.as_bytes().to_vec());
                    (*digest, *size) = made;
                }
                entry.mtime = entry.mtime.max(0);
                entry.xattrs.clear();
                wanted.insert(path.clone(), entry.clone());
            }
            let root = tree.get(&TreePath::root()).is_some();
            let mut bytes = write_tree(&tree, &blobs, Vec::new()).unwrap();
            prop_assert_eq!(bytes.len() % 512, 0);
            let mut read = Tree::new();
            read_into(&mut read, &mut bytes.as_slice(), &DigestOnly).unwrap();
            if !root {
                read.remove(&TreePath::root());
            }
            prop_assert_eq!(read, wanted);
            for (at, value) in damage {
                let at = at % bytes.len();
                bytes[at] = value;
            }
            let _ = read_into(&mut Tree::new(), &mut bytes.as_slice(), &DigestOnly);
        }
    }

    #[test]
    fn a_file_of_several_names_has_its_bytes_once() {
        let blobs = MemoryBlobs::default();
        let (digest, size) = blobs.add("beam");
        let mut tree = Tree::new();
        tree.insert("/m".parse().unwrap(), Entry::file(digest, size));
        for other in ["/a", "/z"] {
            tree.insert(other.parse().unwrap(), Entry::new(Kind::Hardlink { target: "/m".parse().unwrap() }, 0o644));
        }
        let bytes = write_tree(&tree, &blobs, Vec::new()).unwrap();
        assert_eq!(bytes.windows(4).filter(|w| w == b"beam").count(), 1);
        let mut read = Tree::new();
        read_into(&mut read, &mut bytes.as_slice(), &DigestOnly).unwrap();
        assert_eq!(read.get(&"/a".parse().unwrap()).unwrap().kind, Kind::File { digest: Digest::of("beam"), size: 4 });
        assert!(
            matches!(&read.get(&"/z".parse().unwrap()).unwrap().kind, Kind::Hardlink { target } if target.as_bytes() == b"/a")
        );
    }
}
