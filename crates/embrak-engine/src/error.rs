//! Everything that can go wrong on the road, in sentences for the person who reads them.

use embrak_model::Problem;
use embrak_resolve::Unsolvable;
use embrak_tree::Conflict;
use std::io;
use std::path::PathBuf;

/// The result of an engine function.
pub type Result<T> = std::result::Result<T, EngineError>;

/// Why something could not be done.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The definitions have problems.
    #[error("the definitions have {} problem(s)", .0.len())]
    Definitions(Vec<Problem>),
    /// No set of packages meets what is asked.
    #[error("{who} cannot be resolved")]
    Unsolvable {
        /// Which image or recipe.
        who: String,
        /// Why.
        why: Box<Unsolvable>,
    },
    /// Recipes need each other to be built.
    #[error("these recipes need each other to be built:\n{}", .0.join("\n"))]
    Cycle(Vec<String>),
    /// The lock does not say what the definitions say.
    #[error("embrak.lock is out of date:\n{}", .0.join("\n"))]
    LockStale(Vec<String>),
    /// The lock file cannot be read.
    #[error("embrak.lock cannot be used: {0}")]
    LockFormat(String),
    /// A step of a recipe failed.
    #[error("{package}: step `{step}` {how}")]
    StepFailed {
        /// Package and version.
        package: String,
        /// Which step.
        step: String,
        /// `ended with status 2`.
        how: String,
        /// The last lines of its log.
        tail: Vec<String>,
        /// The whole log.
        log: PathBuf,
    },
    /// Two packages have the same file.
    #[error("packages of {image} do not go together")]
    Conflicts {
        /// Which image.
        image: String,
        /// Where.
        conflicts: Vec<Conflict>,
    },
    /// Something about one definition, found while building.
    #[error("{message}")]
    Definition {
        /// What.
        message: String,
        /// What to do.
        help: String,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] embrak_store::StoreError),
    /// A repository or a package of it cannot be used.
    #[error(transparent)]
    Repository(#[from] embrak_repo::RepositoryError),
    /// Isolation is not possible.
    #[error(transparent)]
    Sandbox(#[from] embrak_sandbox::SandboxError),
    /// A file operation failed.
    #[error("cannot {doing} {}: {source}", path.display())]
    Io {
        /// What was being done.
        doing: &'static str,
        /// To which file.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// It was asked to stop.
    #[error("interrupted; what was finished is kept, and the next build goes on from there")]
    Interrupted,
    /// Anything else, with advice.
    #[error("{message}")]
    Other {
        /// What.
        message: String,
        /// What to do.
        help: String,
    },
}

impl EngineError {
    /// An error with advice.
    pub fn other(message: impl Into<String>, help: impl Into<String>) -> Self {
        EngineError::Other { message: message.into(), help: help.into() }
    }

    /// What to do about it; empty when the message says it all.
    pub fn help(&self) -> String {
        match self {
            EngineError::Definition { help, .. } | EngineError::Other { help, .. } => help.clone(),
            EngineError::Repository(error) => error.help(),
            EngineError::LockStale(_) => "run `embrak lock`, look at what moved, and build again".into(),
            EngineError::LockFormat(_) => "restore it from version control, or remove it and run `embrak lock`".into(),
            EngineError::Cycle(_) => {
                "break the circle: split one of them, or drop a `needs.link` or `needs.build`".into()
            }
            EngineError::StepFailed { log, .. } => format!("the whole log is {}", log.display()),
            EngineError::Conflicts { .. } => {
                "leave one of the packages out, or let one of them `split` the file into a package of its own".into()
            }
            EngineError::Io { source, path, .. } if source.kind() == io::ErrorKind::StorageFull => {
                format!(
                    "the filesystem of {} is full: make room (`embrak store prune` helps when the store is there)",
                    path.display()
                )
            }
            EngineError::Store(embrak_store::StoreError::Io { source, .. })
                if source.kind() == io::ErrorKind::StorageFull =>
            {
                "the store's filesystem is full: run `embrak store prune`, or give another place with --store".into()
            }
            _ => String::new(),
        }
    }
}

/// Adds to an [`io::Error`] what was being done to which file.
pub(crate) trait Doing<T> {
    fn doing(self, doing: &'static str, path: impl Into<PathBuf>) -> Result<T>;
}

impl<T> Doing<T> for io::Result<T> {
    fn doing(self, doing: &'static str, path: impl Into<PathBuf>) -> Result<T> {
        self.map_err(|source| EngineError::Io { doing, path: path.into(), source })
    }
}
