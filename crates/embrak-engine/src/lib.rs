//! The road from definitions to verified artifacts.
//!
//! ```text
//! definitions --merge--> Definition --resolve--> Lock --build--> Packages --compose--> Tree
//!      Tree --layout--> Extents --emit--> Artifact --attest--> Evidence
//! and back:
//!      Artifact --read--> Tree        (inspect, diff)
//!      Evidence + Artifact --check--> Verified<..>
//! ```
//!
//! Each step's result is cached by the digest of its inputs. Nothing here prints: results are values, progress goes
//! to an [`Observer`].

mod audit;
mod bill;
mod boot;
mod build;
mod causes;
mod compose;
mod diff;
mod documents;
mod error;
mod events;
mod evidence;
mod experiment;
mod finish;
mod inside;
mod inspect;
mod kernel;
mod layout;
mod lock;
mod outputs;
mod package;
mod plan;
mod preview;
mod provenance;
mod publish;
mod record;
mod release;
mod remote;
mod repositories;
mod reproduce;
mod scripts;
mod settle;
mod signed;
mod snapshot;
mod sources;
mod toolchain;
mod unpack;
mod vary;
mod vendor;

pub use audit::{advisory_texts, profile, profiles};
pub use bill::{Bill, BillPackage, bill};
pub use boot::{BootOptions, BootReport, ConsoleCheck, DirectStart, boot, find_emulator};
pub use build::{BuildOptions, BuildResult, build, probe};
pub use causes::{Cause, explain_bytes};
pub use diff::{DiffOptions, DiffReport, Difference, DirectoryChange, MovedInside, diff, diff_with};
pub use documents::diff_runs;
pub use embrak_root::{Leftover, Report};
pub use error::{EngineError, Result};
pub use events::{ActionStatus, Event, Observer, Silent};
pub use evidence::{SignReport, evidence_path, sign, sign_checks, sign_reproduction, verify_artifact, verify_known};
pub use inspect::{
    Artifact, BootEntry, Content, DiskTable, Filesystem, Inspection, InstalledPackage, PartitionView, Summary,
    Wrapping, inspect, open_artifact,
};
pub use lock::{
    Lock, LockedFile, LockedImage, LockedPackage, LockedRecipe, LockedRepository, LockedTool, Maker, Moved,
    MovedPackage, WriterVersions,
};
pub use outputs::{OutputFile, PartitionSummary, write_beside};
pub use package::{PackageInfo, ReadyMade};
pub use plan::{Plan, Selection, Target, Update, Why, plan};
pub use preview::{Preview, PreviewChange, PreviewDisk, PreviewPackage, PreviewPartition, Reason, Unit, preview};
pub use provenance::{Gathered, Told, told};
pub use publish::publish_run;
pub use record::{ActionRecord, RunRecord, find_run, run_record};
pub use release::{ReleaseLog, head_path, release};
pub use remote::LayerFetcher;
pub use repositories::{FoundPackage, find_packages, forget_old_snapshots};
pub use reproduce::{
    Recorded, RecordedOutput, ReproduceOptions, ReproducedOutput, ReproducedPackage, Reproduction, reproduce,
};

pub use scripts::{MaintainerScripts, maintainer_scripts};
pub use signed::{check_definition, definition, is_definition, sign_definition};
pub use vary::{Probe, Vary, compile_shim};
pub use vendor::{RecordedFile, VendorReport, Vendored, gather, vendor};

use embrak_model::Workspace;
use embrak_store::Store;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// What every part of the road works with.
pub struct Engine<'a> {
    /// The definitions.
    pub workspace: &'a Workspace,
    /// Where results are kept.
    pub store: &'a Store,
    /// Who is told about progress.
    pub observer: &'a dyn Observer,
    /// Inputs to use instead of the network.
    pub vendored: Option<Arc<Vendored>>,
    /// The workspace's policy, when it asks for signed layers or a signed lock.
    pub demands: Option<Arc<embrak_trust::Policy>>,
    /// How steps run otherwise than usual.
    pub probe: Probe,
    /// Set to stop: running steps are ended and nothing half-made is kept.
    pub stop: &'a AtomicBool,
}

/// The version of this program, as recorded and signed.
pub const TOOL_VERSION: &str = env!("CARGO_PKG_VERSION");
