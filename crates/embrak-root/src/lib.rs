//! What makes a root of unpacked packages a system.
//!
//! Packages bring files, and scripts that do the rest when they are installed on a running machine. Here nothing of
//! them runs. Their scripts are read by an interpreter of our own that knows the commands such scripts use, and works on
//! the tree alone; what it cannot follow is listed. What the triggers of a distribution would make, caches and indexes,
//! is written by our own code, in the order of names, without a time or number that another build would not have.
//!
//! ```text
//!   tree of packages --usr merged--> accounts --scripts read--> alternatives, units, files
//!                    --> library cache, module indexes, certificates, login rules --> package database
//! ```

mod accounts;
mod alternatives;
mod certificates;
mod commands;
mod database;
mod elf;
mod libraries;
mod login;
mod merged;
mod modules;
mod script;
mod shell;
mod units;

pub use accounts::{Accounts, Group, User};
pub use database::{Conffile, Installed};
pub use elf::needed;
pub use merged::merge_usr;
pub use modules::{ModuleIndex, index_modules};
pub use script::{Leftover, PackageScripts, Report, settle};
pub use units::{Unit, disable, enable, mask, preset};

use embrak_tree::{BlobSink, BlobSource, Entry, Kind, Tree, TreePath};
use std::io;

/// Where contents come from and go to.
pub trait Blobs: BlobSource + BlobSink {}
impl<T: BlobSource + BlobSink> Blobs for T {}

/// Why a root cannot be settled.
#[derive(Debug, thiserror::Error)]
pub enum RootError {
    /// Contents cannot be read or kept.
    #[error("{path}: {source}")]
    Io {
        /// Of what.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// A file that is not what it should be.
    #[error("{path}: {what}")]
    Content {
        /// Which.
        path: String,
        /// What is wrong with it.
        what: String,
    },
    /// A path that leads in a circle or nowhere.
    #[error("{path} leads through more links than {MOST_LINKS}: they go in a circle")]
    Circle {
        /// Which.
        path: String,
    },
}

/// Shorthand.
pub type Result<T> = std::result::Result<T, RootError>;

/// No path leads through more symbolic links.
const MOST_LINKS: usize = 40;

/// A root being made.
pub struct Root<'a> {
    /// Its files.
    pub tree: Tree,
    /// Their contents.
    pub blobs: &'a dyn Blobs,
    /// The time of everything that is made here.
    pub epoch: i64,
}

impl<'a> Root<'a> {
    /// A root of these files.
    pub fn new(tree: Tree, blobs: &'a dyn Blobs, epoch: i64) -> Self {
        Root { tree, blobs, epoch }
    }

    /// Where a path leads when every symbolic link on the way to its last part is followed; with `last`, that one too.
    ///
    /// # Errors
    /// Links go in a circle.
    pub fn resolve(&self, path: &str, last: bool) -> Result<TreePath> {
        let mut links = 0;
        let mut waiting: Vec<Vec<u8>> = parts(path.as_bytes());
        let mut at = TreePath::root();
        while let Some(part) = waiting.pop() {
            if part == b".." {
                at = at.parent().unwrap_or_else(TreePath::root);
                continue;
            }
            let Ok(next) = at.join(&part) else { continue };
            match self.tree.get(&next).map(|e| &e.kind) {
                Some(Kind::Symlink { target }) if last || !waiting.is_empty() => {
                    links += 1;
                    if links > MOST_LINKS {
                        return Err(RootError::Circle { path: path.to_string() });
                    }
                    if target.starts_with(b"/") {
                        at = TreePath::root();
                    }
                    waiting.extend(parts(target));
                }
                _ => at = next,
            }
        }
        Ok(at)
    }

    /// The entry a path leads to, links followed.
    pub fn entry(&self, path: &str) -> Option<&Entry> {
        let found = self.tree.get(&self.resolve(path, true).ok()?)?;
        Some(self.tree.resolve_link(found))
    }

    /// Whether there is something, a link to nothing included.
    pub fn exists(&self, path: &str) -> bool {
        self.resolve(path, false).is_ok_and(|p| p.is_root() || self.tree.get(&p).is_some())
    }

    /// Whether there is a directory.
    pub fn is_directory(&self, path: &str) -> bool {
        self.resolve(path, true).is_ok_and(|p| p.is_root() || self.tree.get(&p).is_some_and(Entry::is_directory))
    }

    /// The bytes of a file; nothing when there is none.
    ///
    /// # Errors
    /// They cannot be read.
    pub fn read(&self, path: &str) -> Result<Option<Vec<u8>>> {
        match self.entry(path).map(|e| &e.kind) {
            Some(Kind::File { digest, .. }) => {
                self.blobs.read(digest).map(Some).map_err(|source| RootError::Io { path: path.to_string(), source })
            }
            _ => Ok(None),
        }
    }

    /// The text of a file, empty when there is none.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn text(&self, path: &str) -> Result<String> {
        Ok(self.read(path)?.map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default())
    }

    fn place(&self, path: &str) -> Result<TreePath> {
        self.resolve(path, false)
    }

    /// Writes a file, and the directories it lies in that are not there.
    ///
    /// # Errors
    /// Contents cannot be kept.
    pub fn write(&mut self, path: &str, bytes: impl AsRef<[u8]>, mode: u32, owner: (u32, u32)) -> Result<()> {
        let kept = self.blobs.put(&mut bytes.as_ref());
        let (digest, size) = kept.map_err(|source| RootError::Io { path: path.to_string(), source })?;
        self.insert(path, Entry::new(Kind::File { digest, size }, mode), owner)
    }

    /// Writes a root's file of mode 0644.
    ///
    /// # Errors
    /// Contents cannot be kept.
    pub fn put(&mut self, path: &str, bytes: impl AsRef<[u8]>) -> Result<()> {
        self.write(path, bytes, 0o644, (0, 0))
    }

    /// Makes a directory, unless it is there.
    ///
    /// # Errors
    /// Links on the way go in a circle.
    pub fn directory(&mut self, path: &str, mode: u32, owner: (u32, u32)) -> Result<()> {
        if self.is_directory(path) { Ok(()) } else { self.insert(path, Entry::new(Kind::Directory, mode), owner) }
    }

    /// Makes a symbolic link in place of whatever was there.
    ///
    /// # Errors
    /// Links on the way go in a circle.
    pub fn link(&mut self, path: &str, target: &str) -> Result<()> {
        self.insert(path, Entry::symlink(target.as_bytes()), (0, 0))
    }

    /// Puts an entry, dated, with the directories it lies in.
    ///
    /// # Errors
    /// Links on the way go in a circle.
    pub fn insert(&mut self, path: &str, entry: Entry, (uid, gid): (u32, u32)) -> Result<()> {
        let at = self.place(path)?;
        let mut above = at.parent();
        while let Some(parent) = above {
            if parent.is_root() || self.tree.get(&parent).is_some() {
                break;
            }
            self.tree.insert(parent.clone(), Entry::directory().dated(self.epoch));
            above = parent.parent();
        }
        let mut entry = entry.dated(self.epoch);
        (entry.uid, entry.gid) = (uid, gid);
        self.tree.insert(at, entry);
        Ok(())
    }

    /// Names of what lies in a directory.
    pub fn list(&self, path: &str) -> Vec<String> {
        let Ok(at) = self.resolve(path, true) else { return Vec::new() };
        self.below(&at)
            .filter(|(p, _)| p.parent().as_ref() == Some(&at))
            .map(|(p, _)| String::from_utf8_lossy(p.name()).into_owned())
            .collect()
    }

    /// Everything below a directory, in path order.
    pub fn below(&self, at: &TreePath) -> impl Iterator<Item = (&TreePath, &Entry)> {
        self.tree.below(at)
    }

    /// Files of `.d` directories by name: what lies earlier in the list of directories replaces what has the same name
    /// later.
    fn fragments(&self, directories: &[&str], suffix: &str) -> Vec<String> {
        let mut found = std::collections::BTreeMap::new();
        for dir in directories.iter().rev() {
            for name in self.list(dir).into_iter().filter(|n| n.ends_with(suffix)) {
                found.insert(name.clone(), format!("{dir}/{name}"));
            }
        }
        found.into_values().collect()
    }
}

/// Makes what triggers of a distribution would make out of what is there now: library cache, module indexes,
/// certificates, login rules, shells. What there was of each is counted in the report.
///
/// # Errors
/// Files cannot be read or kept.
pub fn caches(root: &mut Root<'_>, report: &mut Report) -> Result<Vec<ModuleIndex>> {
    let mut note = |what: &str, count: usize| {
        if count > 0 {
            report.done.insert(what.to_string(), count);
        }
    };
    note("login rules", login::write_rules(root)?);
    login::write_shells(root)?;
    note("certificates", certificates::write_bundle(root)?);
    note("libraries in the cache", libraries::write_cache(root)?);
    let kernels = index_modules(root)?;
    note("kernel modules", kernels.iter().map(|k| k.names().count()).sum());
    Ok(kernels)
}

/// Has the units started that scripts name, as far as presets do not say otherwise, and makes the chosen alternatives.
///
/// # Errors
/// Files cannot be read or kept.
pub fn apply(root: &mut Root<'_>, report: &Report) -> Result<()> {
    report.alternatives.write(root)?;
    for unit in &report.enabled {
        if preset(root, unit)? != Some(false) {
            enable(root, unit)?;
        }
    }
    Ok(())
}

/// Writes the database of packages, as the distribution's own tools expect it.
///
/// # Errors
/// Control files cannot be read.
pub fn write_database(root: &mut Root<'_>, packages: &[Installed<'_>], report: &Report) -> Result<()> {
    database::write(root, packages, report)
}

/// The parts of a path, the last one first.
fn parts(path: &[u8]) -> Vec<Vec<u8>> {
    path.split(|b| *b == b'/').rev().filter(|p| !p.is_empty() && *p != b".").map(<[u8]>::to_vec).collect()
}

/// An absolute path out of a directory and what is written from there.
fn joined(dir: &str, path: &str) -> String {
    if path.starts_with('/') { path.to_string() } else { format!("{}/{path}", dir.trim_end_matches('/')) }
}
