//! A tree made ready to be written: inodes numbered, names sorted, holes found.

use super::xattr::{self, Attribute};
use super::{FIRST_INODE, ROOT_INODE, WriteError};
use embrak_tree::{BlobSource, Digest, Entry, Kind, Tree, TreePath};
use std::collections::BTreeMap;
use std::io::{self, Read};

/// Files from this size on are looked through for holes.
const HOLES_FROM: u64 = 1 << 20;
/// One block in so many bytes is looked at; a zero one lets the whole file be read. So a hole of twice this length is
/// always found.
const SAMPLE: u64 = 256 << 10;
/// Holes are whole blocks of the largest kind.
const HOLE_BLOCK: u64 = 4096;

/// A name in a directory: the name, its inode, what kind of thing that is.
pub(super) type Child = (Vec<u8>, u32, u8);

pub(super) enum Body {
    Directory { parent: u32, children: Vec<Child> },
    File { digest: Digest, size: u64, data: Vec<(u64, u64)> },
    Link(Vec<u8>),
    Device { character: bool, major: u32, minor: u32 },
    Fifo,
}

pub(super) struct Node {
    pub(super) inode: u32,
    pub(super) path: TreePath,
    pub(super) mode: u32,
    pub(super) owner: (u32, u32),
    pub(super) mtime: i64,
    pub(super) links: u32,
    pub(super) attributes: Vec<Attribute>,
    pub(super) body: Body,
}

/// A tree made ready to be written, at whatever size.
pub struct Content {
    /// In order of inode numbers, the root first.
    pub(super) nodes: Vec<Node>,
}

fn file_type(kind: &Kind) -> u8 {
    match kind {
        Kind::File { .. } | Kind::Hardlink { .. } => 1,
        Kind::Directory => 2,
        Kind::CharDevice { .. } => 3,
        Kind::BlockDevice { .. } => 4,
        Kind::Fifo => 5,
        Kind::Symlink { .. } => 7,
    }
}

impl Content {
    /// Prepares a tree. A directory `lost+found`, which checkers want, is added when there is none.
    ///
    /// # Errors
    /// The tree holds what ext4 cannot, or a large file cannot be read.
    pub fn of(tree: &Tree, blobs: &dyn BlobSource, mtime: i64) -> Result<Content, WriteError> {
        let mut whole = tree.clone();
        whole.add_missing_directories(mtime);
        let lost = TreePath::new("/lost+found").unwrap_or_else(|_| TreePath::root());
        if whole.get(&lost).is_none() {
            whole.insert(lost.clone(), Entry::new(Kind::Directory, 0o700).dated(mtime));
        }
        let mut numbers: BTreeMap<&TreePath, u32> = BTreeMap::new();
        let mut next = FIRST_INODE + 1;
        for (path, entry) in whole.iter() {
            let number = match &entry.kind {
                _ if path.is_root() => ROOT_INODE,
                _ if *path == lost => FIRST_INODE,
                Kind::Hardlink { .. } => continue,
                _ => {
                    next += 1;
                    next - 1
                }
            };
            numbers.insert(path, number);
        }
        let mut nodes: BTreeMap<u32, Node> = BTreeMap::new();
        let mut children: BTreeMap<u32, Vec<Child>> = BTreeMap::new();
        let mut more_links: BTreeMap<u32, u32> = BTreeMap::new();
        for (path, entry) in whole.iter() {
            let wrong = |why: &str| WriteError::Tree { path: path.clone(), why: why.to_string() };
            let above = path.parent().and_then(|p| numbers.get(&p).copied());
            let number = match &entry.kind {
                Kind::Hardlink { target } => {
                    let number =
                        *numbers.get(target).ok_or_else(|| wrong("another name of a file that is not there"))?;
                    *more_links.entry(number).or_default() += 1;
                    number
                }
                _ => numbers[path],
            };
            if let Some(above) = above {
                let name = path.name().to_vec();
                children.entry(above).or_default().push((name, number, file_type(&whole.resolve_link(entry).kind)));
            }
            let body = match &entry.kind {
                Kind::Hardlink { .. } => continue,
                Kind::Directory => {
                    if let Some(above) = above {
                        *more_links.entry(above).or_default() += 1;
                    }
                    Body::Directory { parent: above.unwrap_or(ROOT_INODE), children: Vec::new() }
                }
                Kind::File { size, .. } if *size > 16 << 40 => return Err(WriteError::FileSize(path.clone())),
                Kind::File { digest, size } => {
                    let read = |source| WriteError::Read { path: path.clone(), source };
                    Body::File { digest: *digest, size: *size, data: data(blobs, digest, *size).map_err(read)? }
                }
                Kind::Symlink { target } => Body::Link(target.clone()),
                Kind::CharDevice { major, minor } => Body::Device { character: true, major: *major, minor: *minor },
                Kind::BlockDevice { major, minor } => Body::Device { character: false, major: *major, minor: *minor },
                Kind::Fifo => Body::Fifo,
            };
            let attributes =
                xattr::on_disk(&entry.xattrs).map_err(|why| WriteError::Attributes { path: path.clone(), why })?;
            let node = Node {
                inode: number,
                path: path.clone(),
                mode: entry.mode,
                owner: (entry.uid, entry.gid),
                mtime: entry.mtime,
                links: if entry.is_directory() { 2 } else { 1 },
                attributes,
                body,
            };
            nodes.insert(number, node);
        }
        for (number, node) in &mut nodes {
            node.links += more_links.get(number).copied().unwrap_or(0);
            match &mut node.body {
                Body::Directory { children: list, .. } => {
                    *list = children.remove(number).unwrap_or_default();
                    list.sort();
                    // A directory with more subdirectories than can be counted says 1.
                    if node.links > 65000 {
                        node.links = 1;
                    }
                }
                _ if node.links > 65000 => return Err(WriteError::Links(node.path.clone())),
                _ => {}
            }
        }
        if let Some((above, _)) = children.first_key_value() {
            let path = numbers.iter().find(|(_, n)| *n == above).map_or_else(TreePath::root, |(p, _)| (*p).clone());
            return Err(WriteError::Tree { path, why: "is no directory, and something lies below it".into() });
        }
        Ok(Content { nodes: nodes.into_values().collect() })
    }

    /// How many inodes it needs, those that are reserved included.
    pub(super) fn inodes(&self) -> u64 {
        self.nodes.last().map_or(0, |node| u64::from(node.inode)).max(u64::from(FIRST_INODE))
    }
}

/// The parts of a file that are not holes, in bytes, each beginning at a block.
fn data(blobs: &dyn BlobSource, digest: &Digest, size: u64) -> io::Result<Vec<(u64, u64)>> {
    let all = if size == 0 { vec![] } else { vec![(0, size)] };
    if size < HOLES_FROM {
        return Ok(all);
    }
    let mut block = [0; HOLE_BLOCK as usize];
    let mut zero = false;
    for at in (0..size / SAMPLE).map(|n| n * SAMPLE + SAMPLE / 2).filter(|at| at + HOLE_BLOCK <= size) {
        blobs.open_at(digest, at)?.read_exact(&mut block)?;
        if block.iter().all(|b| *b == 0) {
            zero = true;
            break;
        }
    }
    if !zero {
        return Ok(all);
    }
    let mut out: Vec<(u64, u64)> = Vec::new();
    let mut reader = io::BufReader::with_capacity(1 << 20, blobs.open(digest)?);
    let mut at = 0;
    while at < size {
        let length = HOLE_BLOCK.min(size - at);
        let part = &mut block[..length as usize];
        reader.read_exact(part)?;
        if part.iter().any(|b| *b != 0) {
            match out.last_mut() {
                Some((start, known)) if *start + *known == at => *known += length,
                _ => out.push((at, length)),
            }
        }
        at += length;
    }
    Ok(out)
}
