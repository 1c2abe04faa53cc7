//! Directories of the host as trees: recipes' sources, overlays, whole workspaces.

use crate::error::{Doing, EngineError, Result};
use embrak_store::Store;
use embrak_tree::{Entry, Kind, Tree, TreePath};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::Path;

/// How much of the host's metadata is taken over.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Metadata {
    /// Only whether the owner may execute: what version control keeps.
    Plain,
    /// All permission bits: what an install step has set.
    Modes,
}

/// Reads a directory into a tree; contents go into the store. Owners are root, times are `mtime`.
///
/// # Errors
/// Something cannot be read, or is neither file, directory nor link.
pub(crate) fn directory_tree(
    store: &Store,
    dir: &Path,
    mtime: i64,
    metadata: Metadata,
    skip: &dyn Fn(&TreePath) -> bool,
) -> Result<Tree> {
    let mut tree = Tree::new();
    let mut links = std::collections::BTreeMap::new();
    walk(store, dir, &TreePath::root(), mtime, metadata, skip, &mut tree, &mut links)?;
    Ok(tree)
}

/// First names of files with several links, by device and inode.
type Links = std::collections::BTreeMap<(u64, u64), TreePath>;

#[allow(clippy::too_many_arguments)]
fn walk(
    store: &Store,
    dir: &Path,
    at: &TreePath,
    mtime: i64,
    metadata: Metadata,
    skip: &dyn Fn(&TreePath) -> bool,
    tree: &mut Tree,
    links: &mut Links,
) -> Result<()> {
    let mut names: Vec<_> = std::fs::read_dir(dir)
        .and_then(|entries| entries.map(|e| e.map(|e| e.file_name())).collect::<std::io::Result<Vec<_>>>())
        .doing("list", dir)?;
    names.sort();
    for name in names {
        let host = dir.join(&name);
        let path = at
            .join(name.as_bytes())
            .map_err(|e| EngineError::other(format!("{}: {e}", host.display()), "rename it"))?;
        if skip(&path) {
            continue;
        }
        let meta = std::fs::symlink_metadata(&host).doing("read", &host)?;
        let kind = meta.file_type();
        let mode = match metadata {
            Metadata::Modes => meta.permissions().mode() & 0o7777,
            Metadata::Plain if kind.is_dir() || meta.permissions().mode() & 0o100 != 0 => 0o755,
            Metadata::Plain => 0o644,
        };
        if kind.is_dir() {
            tree.insert(path.clone(), Entry::new(Kind::Directory, mode).dated(mtime));
            walk(store, &host, &path, mtime, metadata, skip, tree, links)?;
        } else if kind.is_symlink() {
            let target = std::fs::read_link(&host).doing("read", &host)?;
            tree.insert(path, Entry::symlink(target.as_os_str().as_bytes()).dated(mtime));
        } else if kind.is_file() {
            let first = (metadata == Metadata::Modes && meta.nlink() > 1)
                .then(|| links.get(&(meta.dev(), meta.ino())))
                .flatten();
            let kind = match first {
                Some(target) => Kind::Hardlink { target: target.clone() },
                None => {
                    links.insert((meta.dev(), meta.ino()), path.clone());
                    let (digest, size) = store.host_file(&host, true)?;
                    Kind::File { digest, size }
                }
            };
            tree.insert(path, Entry::new(kind, mode).dated(mtime));
        } else if kind.is_fifo() && metadata == Metadata::Modes {
            tree.insert(path, Entry::new(Kind::Fifo, mode).dated(mtime));
        } else {
            let message = format!("{} is neither a file, a directory nor a symbolic link", host.display());
            return Err(EngineError::other(message, "remove it; device nodes are declared, not copied"));
        }
    }
    Ok(())
}

/// Keeps a tree's manifest in the store; its digest is the tree's.
pub(crate) fn put_tree(store: &Store, tree: &Tree) -> Result<embrak_tree::Digest> {
    Ok(store.put_bytes(tree.manifest())?)
}

/// A tree by its digest.
pub(crate) fn get_tree(store: &Store, digest: &embrak_tree::Digest) -> Result<Tree> {
    use embrak_tree::BlobSource;
    let bytes = store.read(digest).doing("read", store.object_path(digest))?;
    let text = String::from_utf8(bytes).map_err(|e| EngineError::other(e.to_string(), "run `embrak store check`"))?;
    embrak_tree::parse_manifest(&text).map_err(|e| EngineError::other(e.to_string(), "run `embrak store check`"))
}
