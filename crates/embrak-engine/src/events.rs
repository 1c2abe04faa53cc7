//! What happens on the way, for whoever wants to show it.

use std::path::PathBuf;

/// How an action got its result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ActionStatus {
    /// It was carried out.
    Built,
    /// Its result was known already.
    Reused,
}

/// Something happened.
#[derive(Debug, Clone)]
pub enum Event {
    /// So many actions lie ahead.
    Planned(usize),
    /// An action begins.
    Started(String),
    /// An action has ended well.
    Finished {
        /// Which.
        label: String,
        /// How.
        status: ActionStatus,
        /// How long it took.
        seconds: f64,
    },
    /// Bytes of an output have been written.
    Written {
        /// The file.
        path: PathBuf,
        /// Its size.
        bytes: u64,
    },
    /// So much has to be fetched.
    Fetching {
        /// How many things.
        items: usize,
        /// Their bytes.
        bytes: u64,
    },
    /// More bytes have arrived.
    Fetched(u64),
    /// One thing has arrived whole.
    Arrived(String),
    /// A ready-made package has been unpacked.
    Unpacked {
        /// Which.
        label: String,
        /// How long it took.
        seconds: f64,
    },
    /// Something worth knowing.
    Note(String),
    /// A line of an emulator's console.
    Console(String),
}

/// Is told what happens. Called from several threads.
pub trait Observer: Sync {
    /// Something happened.
    fn event(&self, event: Event);
}

/// Looks away.
pub struct Silent;

impl Observer for Silent {
    fn event(&self, _: Event) {}
}
