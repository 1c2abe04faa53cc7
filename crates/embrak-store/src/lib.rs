//! The store: content-addressed objects, the action cache and the runs on record.
//!
//! ```text
//!   STORE/
//!     objects/sha256/ab/cdef..   immutable bytes, named by their SHA-256, mode 0555
//!     views/<tree digest>/       a tree laid out as a directory, files hard-linked to objects
//!     index.sqlite               actions (key -> result), runs, digests of host files by their stat
//!     locks/<action key>         one process at a time computes one action
//!     tmp/<session>/             work in progress; swept when its session is gone
//!     partial/<digest>           what has arrived of an object that is being fetched, kept to go on from there
//!     indexes/<key>              files made of objects for fast reading; made again when they are gone
//! ```
//!
//! Several processes may use one store at once: objects and views are written beside and renamed, SQLite
//! serialises the rest. Nothing here knows what the objects mean.

mod index;
mod kept;
mod objects;
mod runs;
mod session;
mod views;

pub use index::{ActionLock, Pruned};
pub use kept::{Kept, Partial};
pub use objects::Damage;
pub use runs::RunRow;
pub use session::Workplace;

use rusqlite::Connection;
use std::collections::{BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// What can go wrong with the store itself.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// A file operation failed.
    #[error("store: cannot {doing} {}: {source}", path.display())]
    Io {
        /// What was being done.
        doing: &'static str,
        /// To which file.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// The index cannot be read or written.
    #[error("store: the index {} cannot be used: {source}", path.display())]
    Index {
        /// The database file.
        path: PathBuf,
        /// Why.
        source: rusqlite::Error,
    },
    /// Somebody else is at work in the store.
    #[error("store: another Embrak is at work in {}: wait until it has ended", root.display())]
    Busy {
        /// The store.
        root: PathBuf,
    },
    /// The store was made by a newer Embrak.
    #[error("store: {} has format {found}, this Embrak knows up to {known}: use a newer Embrak or another --store", path.display())]
    Newer {
        /// The database file.
        path: PathBuf,
        /// Its version.
        found: i64,
        /// Ours.
        known: i64,
    },
}

/// The result of a store operation.
pub type Result<T> = std::result::Result<T, StoreError>;

/// Adds to an [`io::Error`] what was being done to which file.
pub(crate) trait Doing<T> {
    fn doing(self, doing: &'static str, path: &Path) -> Result<T>;
}

impl<T> Doing<T> for io::Result<T> {
    fn doing(self, doing: &'static str, path: &Path) -> Result<T> {
        self.map_err(|source| StoreError::Io { doing, path: path.to_path_buf(), source })
    }
}

/// An open store.
pub struct Store {
    root: PathBuf,
    db: Mutex<Connection>,
    session: session::Session,
    damaged: Mutex<BTreeSet<embrak_tree::Digest>>,
    /// Files outside that were digested before: what they were like, their digest, whether their bytes are kept.
    seen: Mutex<HashMap<PathBuf, (String, embrak_tree::Digest, bool)>>,
}

impl Store {
    /// Opens the store at `root`, making it when it is not there, and sweeps what dead sessions left.
    ///
    /// # Errors
    /// The directory cannot be written or the index cannot be used.
    pub fn open(root: impl Into<PathBuf>) -> Result<Store> {
        let root = root.into();
        for dir in ["objects/sha256", "views", "locks", "tmp", "partial", "indexes"] {
            let path = root.join(dir);
            std::fs::create_dir_all(&path).doing("make", &path)?;
        }
        // Sandboxed steps see paths below the store, so the path has to be absolute.
        let root = root.canonicalize().doing("find", &root)?;
        let db = index::open(&root.join("index.sqlite"))?;
        let session = session::Session::start(&root.join("tmp"))?;
        Ok(Store { root, db: Mutex::new(db), session, damaged: Mutex::default(), seen: Mutex::default() })
    }

    /// The store's directory.
    pub fn root(&self) -> &Path {
        &self.root
    }

    pub(crate) fn others_alive(&self) -> bool {
        session::others_alive(&self.root.join("tmp"), &self.session)
    }

    /// Works on the index. While another process has it locked in a way that SQLite's own waiting does not cover (a
    /// log being set up or taken down), tries again.
    pub(crate) fn index<T>(&self, mut work: impl FnMut(&mut Connection) -> rusqlite::Result<T>) -> Result<T> {
        index::patiently(|| work(&mut self.db.lock().unwrap_or_else(PoisonError::into_inner)))
            .map_err(|source| StoreError::Index { path: self.root.join("index.sqlite"), source })
    }
}
