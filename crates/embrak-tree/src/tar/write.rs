//! Writing tar archives.

use super::{BLOCK, Version};
use crate::{BlobSource, Entry, Extents, Kind, Tree, TreePath};
use std::collections::BTreeMap;
use std::io::{self, Read, Write};

/// What of an entry goes into its header.
struct Header<'a> {
    path: &'a [u8],
    link: &'a [u8],
    typeflag: u8,
    size: u64,
    device: (u32, u32),
}

/// Writes entries one after the other. Call [`ArchiveWriter::finish`] at the end.
pub struct ArchiveWriter<W> {
    out: W,
}

impl<W: Write> ArchiveWriter<W> {
    /// Starts an archive.
    pub fn new(out: W) -> Self {
        ArchiveWriter { out }
    }

    /// Writes one entry under the given name, without a leading slash. `content` must give exactly the
    /// entry's size; it is not read for anything but files.
    ///
    /// # Errors
    /// Writing fails, or the content is shorter or longer than the entry says.
    pub fn entry(&mut self, name: &[u8], entry: &Entry, content: &mut dyn Read) -> io::Result<()> {
        self.out.write_all(&head(name, entry))?;
        if let Kind::File { size, .. } = entry.kind {
            let copied = io::copy(&mut content.take(size), &mut self.out)?;
            let mut more = [0; 1];
            if copied != size || content.read(&mut more)? != 0 {
                let name = crate::escape_bytes(name);
                let what = format!("{name} changed while it was archived: its size is no longer {size}");
                return Err(io::Error::new(io::ErrorKind::InvalidData, what));
            }
            self.out.write_all(padding(size))?;
        }
        Ok(())
    }

    /// Writes the two zero blocks that end an archive and gives the writer back.
    ///
    /// # Errors
    /// Writing fails.
    pub fn finish(mut self) -> io::Result<W> {
        self.out.write_all(&END)?;
        Ok(self.out)
    }
}

/// What ends an archive.
const END: [u8; 2 * BLOCK] = [0; 2 * BLOCK];

/// What fills up the last block of so many bytes.
fn padding(size: u64) -> &'static [u8] {
    let over = (size % BLOCK as u64) as usize;
    if over > 0 { &END[..BLOCK - over] } else { &[] }
}

/// What stands before the content of one entry under the given name, without a leading slash.
fn head(name: &[u8], entry: &Entry) -> Vec<u8> {
    let mut path = name.to_vec();
    if entry.is_directory() && !path.ends_with(b"/") {
        path.push(b'/');
    }
    let (typeflag, link, size, device) = match &entry.kind {
        Kind::File { size, .. } => (b'0', &[][..], *size, (0, 0)),
        Kind::Hardlink { target } => (b'1', target.relative(), 0, (0, 0)),
        Kind::Symlink { target } => (b'2', target.as_slice(), 0, (0, 0)),
        Kind::CharDevice { major, minor } => (b'3', &[][..], 0, (*major, *minor)),
        Kind::BlockDevice { major, minor } => (b'4', &[][..], 0, (*major, *minor)),
        Kind::Directory => (b'5', &[][..], 0, (0, 0)),
        Kind::Fifo => (b'6', &[][..], 0, (0, 0)),
    };
    let header = Header { path: &path, link, typeflag, size, device };
    let records = pax_records(&header, entry);
    let mut out = Vec::with_capacity(BLOCK);
    if !records.is_empty() {
        let size = records.len() as u64;
        let pax = Header { path: b"././@PaxHeader", link: &[], typeflag: b'x', size, device: (0, 0) };
        out.extend_from_slice(&block(&pax, &Entry::new(Kind::Fifo, 0o644)));
        out.extend_from_slice(&records);
        out.extend_from_slice(padding(size));
    }
    out.extend_from_slice(&block(&header, entry));
    out
}

/// A whole tree as an archive. The root's own entry is written as `./`, all others without a leading slash.
pub fn archive(tree: &Tree, version: Version) -> Extents {
    let mut archive = Extents::new();
    let mut all: Vec<(&TreePath, &Entry)> = tree.iter().collect();
    if version >= Version::ByDirectory {
        let parts =
            |path: &TreePath| -> Vec<u8> { path.as_bytes().iter().map(|c| if *c == b'/' { 0 } else { *c }).collect() };
        all.sort_by_cached_key(|(path, _)| parts(path));
    }
    // The name of a file that comes first has its bytes; the others are links to that.
    let mut firsts: BTreeMap<&TreePath, &TreePath> = BTreeMap::new();
    for (path, entry) in all {
        let name = if path.is_root() { b"./".as_slice() } else { path.relative() };
        let (of, real) = match &entry.kind {
            Kind::Hardlink { target } => (target, tree.get(target).unwrap_or(entry)),
            _ => (path, entry),
        };
        let first = *firsts.entry(of).or_insert(path);
        let link;
        let entry = match real.kind {
            Kind::File { .. } if first != path => {
                link = Entry { kind: Kind::Hardlink { target: first.clone() }, ..entry.clone() };
                &link
            }
            Kind::File { .. } => real,
            _ => entry,
        };
        archive.bytes(head(name, entry));
        if let Kind::File { digest, size } = entry.kind {
            archive.blob(digest, size);
            archive.bytes(padding(size));
        }
    }
    archive.bytes(END);
    archive
}

/// Writes a whole tree as [`archive`] has it.
///
/// # Errors
/// Reading a blob or writing fails.
pub fn write_tree<W: Write>(tree: &Tree, version: Version, blobs: &dyn BlobSource, mut out: W) -> io::Result<W> {
    archive(tree, version).write_to(blobs, &mut out)?;
    Ok(out)
}

/// Splits a path into prefix and name as ustar wants; none when it does not fit.
fn split(path: &[u8]) -> Option<(&[u8], &[u8])> {
    if path.len() <= 100 {
        return Some((&[], path));
    }
    let end = path.len().checked_sub(1)?;
    (1..=end.min(155))
        .rev()
        .filter(|&at| path[at] == b'/')
        .map(|at| (&path[..at], &path[at + 1..]))
        .find(|(_, name)| !name.is_empty() && name.len() <= 100)
}

const OCTAL_7: u64 = 0o7_777_777;
const OCTAL_11: u64 = 0o77_777_777_777;

fn pax_records(header: &Header<'_>, entry: &Entry) -> Vec<u8> {
    let mut out = Vec::new();
    let mut record = |key: &[u8], value: &[u8]| {
        // The length counts itself: grow it until it is right.
        let body = key.len() + value.len() + 3;
        let mut total = body + 1;
        while body + total.to_string().len() != total {
            total = body + total.to_string().len();
        }
        out.extend_from_slice(format!("{total} ").as_bytes());
        out.extend_from_slice(key);
        out.push(b'=');
        out.extend_from_slice(value);
        out.push(b'\n');
    };
    if split(header.path).is_none() || !header.path.is_ascii() {
        record(b"path", header.path);
    }
    if header.link.len() > 100 || !header.link.is_ascii() {
        record(b"linkpath", header.link);
    }
    if header.size > OCTAL_11 {
        record(b"size", header.size.to_string().as_bytes());
    }
    if u64::from(entry.uid) > OCTAL_7 {
        record(b"uid", entry.uid.to_string().as_bytes());
    }
    if u64::from(entry.gid) > OCTAL_7 {
        record(b"gid", entry.gid.to_string().as_bytes());
    }
    if entry.mtime < 0 || entry.mtime as u64 > OCTAL_11 {
        record(b"mtime", entry.mtime.to_string().as_bytes());
    }
    for (name, value) in &entry.xattrs {
        record(&[b"SCHILY.xattr.", name.as_slice()].concat(), value);
    }
    out
}

fn block(header: &Header<'_>, entry: &Entry) -> [u8; BLOCK] {
    let mut block = [0; BLOCK];
    let (prefix, name) = split(header.path).unwrap_or_else(|| (&[], &header.path[..100]));
    block[..name.len()].copy_from_slice(name);
    octal(&mut block[100..108], u64::from(entry.mode));
    octal(&mut block[108..116], u64::from(entry.uid).min(OCTAL_7));
    octal(&mut block[116..124], u64::from(entry.gid).min(OCTAL_7));
    octal(&mut block[124..136], header.size.min(OCTAL_11));
    octal(&mut block[136..148], u64::try_from(entry.mtime).unwrap_or(0).min(OCTAL_11));
    block[156] = header.typeflag;
    let link = &header.link[..header.link.len().min(100)];
    block[157..157 + link.len()].copy_from_slice(link);
    block[257..265].copy_from_slice(b"ustar\x0000");
    octal(&mut block[329..337], u64::from(header.device.0));
    octal(&mut block[337..345], u64::from(header.device.1));
    block[345..345 + prefix.len()].copy_from_slice(prefix);
    block[148..156].fill(b' ');
    let sum: u32 = block.iter().map(|&b| u32::from(b)).sum();
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    block
}

/// An octal number with leading zeros and a NUL, filling the field. Numbers are already cut to what fits.
fn octal(field: &mut [u8], value: u64) {
    let width = field.len() - 1;
    let text = format!("{value:0width$o}");
    field[..width].copy_from_slice(&text.as_bytes()[text.len() - width..]);
}
