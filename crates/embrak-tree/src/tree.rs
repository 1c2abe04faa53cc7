//! The tree itself.

use crate::{Digest, TreePath};
use std::collections::BTreeMap;

/// What an entry is, with what belongs to that kind only.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A regular file; its bytes are a blob.
    File {
        /// Digest of the contents.
        digest: Digest,
        /// Length of the contents in bytes.
        size: u64,
    },
    /// A directory.
    Directory,
    /// A symbolic link.
    Symlink {
        /// What it points to, as written.
        target: Vec<u8>,
    },
    /// Another name for the file at `target`, which is in the same tree and is not itself a hard link.
    Hardlink {
        /// The first name.
        target: TreePath,
    },
    /// A character device.
    CharDevice {
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
    /// A block device.
    BlockDevice {
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
    /// A named pipe.
    Fifo,
}

impl Kind {
    /// The kind's name in manifests and messages.
    pub fn name(&self) -> &'static str {
        match self {
            Kind::File { .. } => "file",
            Kind::Directory => "directory",
            Kind::Symlink { .. } => "symlink",
            Kind::Hardlink { .. } => "hardlink",
            Kind::CharDevice { .. } => "char-device",
            Kind::BlockDevice { .. } => "block-device",
            Kind::Fifo => "fifo",
        }
    }
}

/// One entry of a tree: what it is, and the metadata every kind has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub kind: Kind,
    /// Permission bits, set-id and sticky bits: 0 to 0o7777.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Modification time, seconds since 1970-01-01 UTC.
    pub mtime: i64,
    /// Extended attributes by full name, such as `security.capability`.
    pub xattrs: BTreeMap<Vec<u8>, Vec<u8>>,
}

impl Entry {
    /// An entry of root's, dated 0, without extended attributes.
    pub fn new(kind: Kind, mode: u32) -> Self {
        Entry { kind, mode, uid: 0, gid: 0, mtime: 0, xattrs: BTreeMap::new() }
    }

    /// A directory of mode 0755.
    pub fn directory() -> Self {
        Entry::new(Kind::Directory, 0o755)
    }

    /// A file of mode 0644.
    pub fn file(digest: Digest, size: u64) -> Self {
        Entry::new(Kind::File { digest, size }, 0o644)
    }

    /// A symbolic link.
    pub fn symlink(target: impl Into<Vec<u8>>) -> Self {
        Entry::new(Kind::Symlink { target: target.into() }, 0o777)
    }

    /// The same with this modification time.
    #[must_use]
    pub fn dated(mut self, mtime: i64) -> Self {
        self.mtime = mtime;
        self
    }

    /// Whether this is a directory.
    pub fn is_directory(&self) -> bool {
        self.kind == Kind::Directory
    }
}

/// An ordered map from path to entry.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tree {
    entries: BTreeMap<TreePath, Entry>,
}

impl Tree {
    /// A tree of nothing.
    pub fn new() -> Self {
        Self::default()
    }

    /// Puts an entry, replacing what was there.
    pub fn insert(&mut self, path: TreePath, entry: Entry) -> Option<Entry> {
        self.entries.insert(path, entry)
    }

    /// Takes one entry out; what lies below a directory stays.
    pub fn remove(&mut self, path: &TreePath) -> Option<Entry> {
        self.entries.remove(path)
    }

    /// Takes out an entry and all below it.
    pub fn remove_below(&mut self, path: &TreePath) {
        self.entries.retain(|p, _| !p.starts_with(path));
    }

    /// The entry at a path.
    pub fn get(&self, path: &TreePath) -> Option<&Entry> {
        self.entries.get(path)
    }

    /// The entry at a path, to change.
    pub fn get_mut(&mut self, path: &TreePath) -> Option<&mut Entry> {
        self.entries.get_mut(path)
    }

    /// All entries in path order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = (&TreePath, &Entry)> {
        self.entries.iter()
    }

    /// All entries in path order, to change.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = (&TreePath, &mut Entry)> {
        self.entries.iter_mut()
    }

    /// A directory and everything below it, in path order.
    pub fn below<'a>(&'a self, at: &TreePath) -> impl Iterator<Item = (&'a TreePath, &'a Entry)> {
        // Names that go on behind the directory's own, such as `a-b` after `a`, lie in between.
        let (start, base) = (at.clone(), at.clone());
        self.entries
            .range(start.clone()..)
            .take_while(move |(path, _)| path.as_bytes().starts_with(start.as_bytes()))
            .filter(move |(path, _)| path.starts_with(&base))
    }

    /// Number of entries.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is no entry.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Sum of the sizes of all files, hard links counted once, in bytes.
    pub fn content_size(&self) -> u64 {
        self.entries.values().map(|e| if let Kind::File { size, .. } = e.kind { size } else { 0 }).sum()
    }

    /// Adds the directories that entries lie in but that have no entry, the root included: mode 0755,
    /// root's, with the given modification time.
    pub fn add_missing_directories(&mut self, mtime: i64) {
        let mut missing = BTreeMap::new();
        if !self.entries.contains_key(&TreePath::root()) {
            missing.insert(TreePath::root(), Entry::directory().dated(mtime));
        }
        for path in self.entries.keys() {
            let mut at = path.parent();
            while let Some(parent) = at {
                if self.entries.contains_key(&parent) || missing.contains_key(&parent) {
                    break;
                }
                at = parent.parent();
                missing.insert(parent, Entry::directory().dated(mtime));
            }
        }
        self.entries.extend(missing);
    }

    /// The digests of every blob the tree refers to, each once, in order.
    pub fn blobs(&self) -> impl Iterator<Item = (Digest, u64)> + '_ {
        let all: BTreeMap<Digest, u64> = self
            .entries
            .values()
            .filter_map(|e| if let Kind::File { digest, size } = e.kind { Some((digest, size)) } else { None })
            .collect();
        all.into_iter()
    }

    /// The entry that a path leads to, hard links followed.
    pub fn resolve_link<'a>(&'a self, entry: &'a Entry) -> &'a Entry {
        match &entry.kind {
            Kind::Hardlink { target } => self.entries.get(target).unwrap_or(entry),
            _ => entry,
        }
    }
}

impl FromIterator<(TreePath, Entry)> for Tree {
    fn from_iter<I: IntoIterator<Item = (TreePath, Entry)>>(iter: I) -> Self {
        Tree { entries: iter.into_iter().collect() }
    }
}

impl IntoIterator for Tree {
    type Item = (TreePath, Entry);
    type IntoIter = std::collections::btree_map::IntoIter<TreePath, Entry>;
    fn into_iter(self) -> Self::IntoIter {
        self.entries.into_iter()
    }
}

#[cfg(test)]
pub(crate) mod strategies {
    //! Random trees for property tests.
    use super::*;
    use proptest::prelude::*;

    fn kind() -> impl Strategy<Value = Kind> {
        prop_oneof![
            4 => proptest::collection::vec(any::<u8>(), 0..40)
                .prop_map(|bytes| Kind::File { digest: Digest::of(&bytes), size: bytes.len() as u64 }),
            3 => Just(Kind::Directory),
            1 => "[a-z/.]{1,130}".prop_map(|target| Kind::Symlink { target: target.into_bytes() }),
            1 => (0u32..4096, 0u32..255).prop_map(|(major, minor)| Kind::CharDevice { major, minor }),
            1 => Just(Kind::Fifo),
        ]
    }

    /// A well-formed tree: every parent is a directory of the tree; names from a small alphabet, so that
    /// trees meet each other; some long and some not UTF-8.
    pub fn tree() -> impl Strategy<Value = Tree> {
        let name = prop_oneof![
            8 => "[a-c]{1,2}".prop_map(String::into_bytes),
            1 => "[x-z]{90,200}".prop_map(String::into_bytes),
            1 => Just(vec![b'n', 0xff, b'%']),
        ];
        let path = proptest::collection::vec(name, 1..4);
        let meta = (0u32..0o10000, 0u32..70000, 0u32..3_000_000, -10i64..2_000_000_000);
        let xattrs = proptest::collection::btree_map(
            "user[.][a-z]{1,5}".prop_map(String::into_bytes),
            proptest::collection::vec(any::<u8>(), 0..20),
            0..2,
        );
        proptest::collection::vec((path, kind(), meta, xattrs), 0..12).prop_map(|items| {
            let mut tree = Tree::new();
            for (parts, kind, (mode, uid, gid, mtime), xattrs) in items {
                let path = TreePath::from_relative(parts.join(&b'/')).unwrap();
                let mut ancestors: Vec<_> = std::iter::successors(path.parent(), TreePath::parent).collect();
                ancestors.reverse();
                if ancestors.iter().any(|a| tree.get(a).is_some_and(|e| !e.is_directory())) || tree.get(&path).is_some()
                {
                    continue;
                }
                for ancestor in ancestors {
                    if tree.get(&ancestor).is_none() {
                        tree.insert(ancestor, Entry::directory().dated(7));
                    }
                }
                let mode = if matches!(kind, Kind::Symlink { .. }) { 0o777 } else { mode };
                tree.insert(path, Entry { kind, mode, uid, gid, mtime, xattrs });
            }
            tree
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn missing_directories_are_added_up_to_the_root() {
        let mut tree = Tree::new();
        tree.insert("/a/b/c".parse().unwrap(), Entry::file(Digest::of(""), 0));
        tree.add_missing_directories(5);
        let paths: Vec<String> = tree.iter().map(|(p, _)| p.to_string()).collect();
        assert_eq!(paths, ["/", "/a", "/a/b", "/a/b/c"]);
        assert_eq!(tree.get(&"/a".parse().unwrap()).unwrap().mtime, 5);
    }

    #[test]
    fn removing_below_takes_only_that_directory() {
        let file = || Entry::file(Digest::of(""), 0);
        let mut tree: Tree = ["/a", "/a/x", "/a-b", "/ab"].iter().map(|p| (p.parse().unwrap(), file())).collect();
        tree.remove_below(&"/a".parse().unwrap());
        assert_eq!(tree.len(), 2);
    }
}
