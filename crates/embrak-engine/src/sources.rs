//! Directories of the host as trees: recipes' sources, overlays, whole workspaces.

use crate::error::{Doing, EngineError, Result};
use embrak_store::Store;
use embrak_tree::{Digest, Entry, Kind, Tree, TreePath};
use std::collections::BTreeMap;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// How much of the host's metadata is taken over.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Metadata {
    /// Only whether the owner may execute: what version control keeps.
    Plain,
    /// All permission bits: what an install step has set.
    Modes,
    /// Permission bits and owners.
    Owners,
}

/// What becomes of the contents of files.
#[derive(Clone, Copy)]
pub(crate) enum Contents<'a> {
    /// They are kept in the store.
    Keep(&'a Store),
    /// They are only digested; what the store knows of unchanged files is used.
    Known(&'a Store),
    /// They are only digested.
    Digest,
}

impl Contents<'_> {
    fn take(self, paths: &[PathBuf]) -> Result<Vec<(Digest, u64)>> {
        match self {
            Contents::Keep(store) => Ok(store.host_files(paths, true)?),
            Contents::Known(store) => Ok(store.host_files(paths, false)?),
            Contents::Digest => {
                let digest = |path: &PathBuf| {
                    let file = std::fs::File::open(path).doing("read", path)?;
                    embrak_tree::HashingReader::new(file).finish().doing("read", path)
                };
                paths.iter().map(digest).collect()
            }
        }
    }
}

/// Reads a directory into a tree. Owners are root, times are `mtime`.
///
/// # Errors
/// Something cannot be read, or is neither file, directory nor link.
pub(crate) fn directory_tree(contents: Contents<'_>, dir: &Path, mtime: i64, metadata: Metadata) -> Result<Tree> {
    let mut walk =
        Walk { mtime, metadata, tree: Tree::new(), links: BTreeMap::new(), names: Vec::new(), files: Vec::new() };
    walk.directory(dir, &TreePath::root())?;
    let Walk { mut tree, names, files, .. } = walk;
    for (path, (found, length)) in names.iter().zip(contents.take(&files)?) {
        if let Some(Entry { kind: Kind::File { digest, size }, .. }) = tree.get_mut(path) {
            (*digest, *size) = (found, length);
        }
    }
    Ok(tree)
}

struct Walk {
    mtime: i64,
    metadata: Metadata,
    tree: Tree,
    /// First names of files with several links, by device and inode.
    links: BTreeMap<(u64, u64), TreePath>,
    /// Files whose contents are still to be taken, and where they lie.
    names: Vec<TreePath>,
    files: Vec<PathBuf>,
}

impl Walk {
    fn directory(&mut self, dir: &Path, at: &TreePath) -> Result<()> {
        let mut names: Vec<_> = std::fs::read_dir(dir)
            .and_then(|entries| entries.map(|e| e.map(|e| e.file_name())).collect::<std::io::Result<Vec<_>>>())
            .doing("list", dir)?;
        names.sort();
        for name in names {
            let host = dir.join(&name);
            let path = at
                .join(name.as_bytes())
                .map_err(|e| EngineError::other(format!("{}: {e}", host.display()), "rename it"))?;
            self.entry(host, path)?;
        }
        Ok(())
    }

    fn entry(&mut self, host: PathBuf, path: TreePath) -> Result<()> {
        let meta = std::fs::symlink_metadata(&host).doing("read", &host)?;
        let kind = meta.file_type();
        let mode = match self.metadata {
            Metadata::Modes | Metadata::Owners => meta.permissions().mode() & 0o7777,
            Metadata::Plain if kind.is_dir() || meta.permissions().mode() & 0o100 != 0 => 0o755,
            Metadata::Plain => 0o644,
        };
        let entry = if kind.is_dir() {
            let mut entry = Entry::new(Kind::Directory, mode).dated(self.mtime);
            if self.metadata == Metadata::Owners {
                (entry.uid, entry.gid) = (meta.uid(), meta.gid());
            }
            self.tree.insert(path.clone(), entry);
            return self.directory(&host, &path);
        } else if kind.is_symlink() {
            let target = std::fs::read_link(&host).doing("read", &host)?;
            Entry::symlink(target.as_os_str().as_bytes())
        } else if kind.is_file() {
            let inode = (meta.dev(), meta.ino());
            match self.links.get(&inode).filter(|_| self.metadata != Metadata::Plain && meta.nlink() > 1) {
                Some(first) => Entry::new(Kind::Hardlink { target: first.clone() }, mode),
                None => {
                    self.links.insert(inode, path.clone());
                    self.names.push(path.clone());
                    self.files.push(host);
                    Entry::new(Kind::File { digest: Digest::from_raw([0; 32]), size: 0 }, mode)
                }
            }
        } else if kind.is_fifo() && self.metadata != Metadata::Plain {
            Entry::new(Kind::Fifo, mode)
        } else {
            let message = format!("{} is neither a file, a directory nor a symbolic link", host.display());
            return Err(EngineError::other(message, "remove it; device nodes are declared, not copied"));
        };
        let mut entry = entry.dated(self.mtime);
        if self.metadata == Metadata::Owners {
            (entry.uid, entry.gid) = (meta.uid(), meta.gid());
        }
        self.tree.insert(path, entry);
        Ok(())
    }
}

/// Keeps a tree's manifest in the store; its digest is the tree's.
pub(crate) fn put_tree(store: &Store, tree: &Tree) -> Result<Digest> {
    Ok(store.put_bytes(tree.manifest())?)
}

/// A tree by its digest.
pub(crate) fn get_tree(store: &Store, digest: &Digest) -> Result<Tree> {
    use embrak_tree::BlobSource;
    let bytes = store.read(digest).doing("read", store.object_path(digest))?;
    let text = String::from_utf8(bytes).map_err(|e| EngineError::other(e.to_string(), "run `embrak store check`"))?;
    embrak_tree::parse_manifest(&text).map_err(|e| EngineError::other(e.to_string(), "run `embrak store check`"))
}
