//! Repositories of ready-made packages.
//!
//! A [`Repository`] is read in three steps. [`Repository::refresh`] fetches what it offers now, checks the
//! signature, and keeps that as a [`Snapshot`] in the store. [`Repository::catalog`] opens a snapshot for the
//! solver: each of its indexes is turned once into a binary form that loads in milliseconds ([`Index`]).
//! [`Repository::unpack`] makes a fetched package file into trees. What is fetched is fetched by digest
//! ([`Fetcher`]), so after the snapshot nothing the server does can change what comes out.
//!
//! Two formats are known: Debian's ([`DebianRepository`]) and ours ([`OwnRepository`]).

mod compression;
mod contents;
mod control;
mod deb;
mod debian;
mod fetch;
mod index;
mod openpgp;
mod own;
mod package_file;
mod record;
mod relation;

pub use compression::open_archive;
pub use contents::Contents;
pub use control::{Stanza, Stanzas};
pub use deb::{Limits, unpack_deb};
pub use debian::{DebianRepository, Release, architecture_name};
pub use fetch::{FetchError, FetchEvent, FetchItem, Fetcher, with_credentials};
pub use index::{Found, Index, IndexBuilder};
pub use openpgp::{Keyring, SignedBy};
pub use own::{OwnRepository, Published, publish};
pub use package_file::{PackageFile, PackageHead, read_package, write_package};
pub use record::{PackageRecord, Snapshot, SnapshotIndex, Syntax, Unpacked};
pub use relation::{parse_relations, parse_requirements};

use embrak_store::{Store, StoreError};
use embrak_tree::Digest;
use std::path::Path;
use std::sync::Arc;

/// What can go wrong with a repository.
#[derive(Debug, thiserror::Error)]
pub enum RepositoryError {
    /// Something could not be fetched.
    #[error("repository {repository}: {source}")]
    Fetch {
        /// Its name.
        repository: String,
        /// Why.
        source: FetchError,
    },
    /// It is not signed by any declared key.
    #[error("repository {repository}: {what}")]
    Untrusted {
        /// Its name.
        repository: String,
        /// What is wrong with the signature.
        what: String,
    },
    /// What it promised is over.
    #[error("repository {repository}: {what}")]
    Expired {
        /// Its name.
        repository: String,
        /// Which document, and since when.
        what: String,
    },
    /// Something it offers is not as the format says.
    #[error("repository {repository}: {what}")]
    Damaged {
        /// Its name.
        repository: String,
        /// What, where.
        what: String,
    },
    /// A package file is not as the format says.
    #[error("package {package}: {what}")]
    Package {
        /// Which package.
        package: String,
        /// What is wrong.
        what: String,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl RepositoryError {
    /// Whether asking again later could help: nobody answered, or the answer was cut off.
    pub fn is_unreachable(&self) -> bool {
        matches!(self, RepositoryError::Fetch { .. })
    }

    /// What to do about it.
    pub fn help(&self) -> String {
        match self {
            RepositoryError::Fetch { source, .. } => source.help(),
            RepositoryError::Untrusted { .. } => {
                "name the right key with `keyring` or `key`; only if you mean it, write `trusted = true` for this repository".into()
            }
            RepositoryError::Expired { .. } => {
                "the mirror may have stopped: try another one; if the repository is an archive on purpose, write `expired = true` for it".into()
            }
            RepositoryError::Damaged { .. } => {
                "nothing was changed, the earlier snapshot stays in use; try again later, or another mirror".into()
            }
            RepositoryError::Package { .. } => "fetch it anew: `embrak store check` removes damaged files".into(),
            RepositoryError::Store(_) => String::new(),
        }
    }
}

/// The result of a repository operation.
pub type Result<T> = std::result::Result<T, RepositoryError>;

/// Where packages come from that somebody else has made.
pub trait Repository: Send + Sync {
    /// As the workspace calls it.
    fn name(&self) -> &str;
    /// What the identity of its snapshots depends on: format, place, suites, keys.
    fn key(&self) -> Digest;
    /// Fetches what it offers now and checks it; the store keeps the documents.
    ///
    /// # Errors
    /// It cannot be reached, is not rightly signed, has expired, or is damaged. Nothing kept before is lost.
    fn refresh(&self, store: &Store, fetcher: &Fetcher) -> Result<Snapshot>;
    /// Opens the indexes of a snapshot, fetching by digest those the store does not have.
    ///
    /// # Errors
    /// An index is nowhere to be had any more, or is damaged.
    fn open(&self, store: &Store, fetcher: &Fetcher, snapshot: &Snapshot) -> Result<Vec<Arc<Index>>>;
    /// Where a package is fetched from.
    fn url(&self, record: &PackageRecord) -> String;
    /// Makes a package file into trees, contents going to the store.
    ///
    /// # Errors
    /// The file is damaged or refused.
    fn unpack(&self, store: &Store, record: &PackageRecord, file: &Path) -> Result<Unpacked>;
}
