//! Trees laid out as directories: read-only views for sandboxes, and copies to work in.

use crate::{Doing, Result, Store};
use embrak_tree::{BlobSource, Digest, Kind, Tree, TreePath};
use std::ffi::OsStr;
use std::fs::{self, File, FileTimes};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// How file contents get into a directory.
#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    /// Hard links to the objects: fast, never to be written to.
    Link,
    /// Copies, with the mode and time of the entry.
    Copy,
}

impl Store {
    /// A directory with the tree's files, to be read only. Made once per tree and kept.
    ///
    /// # Errors
    /// A blob is missing, or the directory cannot be written.
    pub fn view(&self, tree: &Tree) -> Result<PathBuf> {
        let place = self.root().join("views").join(tree.digest().hex());
        if place.exists() {
            return Ok(place);
        }
        let beside = self.fresh_path();
        fs::create_dir(&beside).doing("make", &beside)?;
        self.lay_out(tree, &beside, How::Link)?;
        match fs::rename(&beside, &place) {
            Ok(()) => {}
            // Another process was faster with the same view.
            Err(_) if place.exists() => {
                let _ = fs::remove_dir_all(&beside);
            }
            Err(error) => return Err(error).doing("write", &place),
        }
        Ok(place)
    }

    /// Writes the tree's entries below `dir`, as copies that may be changed. Owners and device nodes are left
    /// out: only who is privileged could make them.
    ///
    /// # Errors
    /// A blob is missing or damaged, or the directory cannot be written.
    pub fn copy_out(&self, tree: &Tree, dir: &Path) -> Result<()> {
        self.lay_out(tree, dir, How::Copy)
    }

    fn lay_out(&self, tree: &Tree, dir: &Path, how: How) -> Result<()> {
        let place = |path: &TreePath| dir.join(OsStr::from_bytes(path.relative()));
        for (path, entry) in tree.iter() {
            let to = place(path);
            match &entry.kind {
                Kind::Directory => fs::create_dir_all(&to).doing("make", &to)?,
                Kind::Symlink { target } => {
                    make_parent(&to)?;
                    std::os::unix::fs::symlink(OsStr::from_bytes(target), &to).doing("make", &to)?;
                }
                Kind::Hardlink { target } => {
                    make_parent(&to)?;
                    fs::hard_link(place(target), &to).doing("make", &to)?;
                }
                Kind::File { digest, .. } => {
                    make_parent(&to)?;
                    match how {
                        How::Link => self.link_object(digest, &to)?,
                        How::Copy => {
                            let mut file = File::create_new(&to).doing("write", &to)?;
                            let mut content =
                                BlobSource::open(self, digest).doing("read", &self.object_path(digest))?;
                            io::copy(&mut content, &mut file).doing("write", &to)?;
                            file.set_permissions(fs::Permissions::from_mode(entry.mode & 0o777 | 0o600))
                                .doing("write", &to)?;
                            let time = SystemTime::UNIX_EPOCH + Duration::from_secs(entry.mtime.max(0) as u64);
                            file.set_times(FileTimes::new().set_modified(time)).doing("write", &to)?;
                        }
                    }
                }
                Kind::CharDevice { .. } | Kind::BlockDevice { .. } | Kind::Fifo => {}
            }
        }
        Ok(())
    }

    fn link_object(&self, digest: &Digest, to: &Path) -> Result<()> {
        let object = self.object_path(digest);
        match fs::hard_link(&object, to) {
            Ok(()) => Ok(()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                // Notes the damage, so that the object is made again.
                BlobSource::open(self, digest).map(drop).doing("read", &object)
            }
            // Too many links, or a filesystem without them.
            Err(_) => fs::copy(&object, to).map(drop).doing("copy", &object),
        }
    }

    /// Drops every view; they are made again when they are wanted.
    pub(crate) fn forget_views(&self) -> Result<()> {
        let views = self.root().join("views");
        for entry in fs::read_dir(&views).doing("list", &views)?.flatten() {
            let _ = fs::remove_dir_all(entry.path());
        }
        Ok(())
    }
}

fn make_parent(path: &Path) -> Result<()> {
    match path.parent() {
        Some(parent) if !parent.exists() => fs::create_dir_all(parent).doing("make", parent),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::Entry;

    #[test]
    fn a_view_shares_bytes_and_a_copy_does_not() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let digest = store.put_bytes("#!/bin/sh\n").unwrap();
        let mut tree = Tree::new();
        tree.insert("/bin/run".parse().unwrap(), Entry::file(digest, 10).dated(1000));
        tree.insert("/sh".parse().unwrap(), Entry::symlink("bin/run"));
        let view = store.view(&tree).unwrap();
        assert_eq!(store.view(&tree).unwrap(), view);
        assert_eq!(fs::read(view.join("sh")).unwrap(), b"#!/bin/sh\n");

        let work = store.workplace().unwrap();
        store.copy_out(&tree, work.path()).unwrap();
        fs::write(work.path().join("bin/run"), "changed").unwrap();
        assert_eq!(store.read(&digest).unwrap(), b"#!/bin/sh\n");
    }
}
