//! The record of a run: what was built from what, how long it took, what came out.

use crate::error::{EngineError, Result};
use crate::events::ActionStatus;
use crate::lock::WriterVersions;
use crate::outputs::OutputFile;
use crate::package::PackageInfo;
use crate::vendor::RecordedFile;
use embrak_store::{RunRow, Store};
use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// One action of a run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct ActionRecord {
    /// What was done: a recipe's id, or an output.
    pub label: String,
    /// Digest of everything that could change its result.
    pub key: Digest,
    /// Whether it was carried out or its result known.
    pub status: ActionStatus,
    /// Seconds after the start of the run when it began.
    pub started: f64,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Its log, if it has one.
    pub log: Option<Digest>,
}

/// One run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct RunRecord {
    /// Version of Embrak.
    pub tool: String,
    /// Versions of the writers.
    pub writers: WriterVersions,
    /// Name of the workspace.
    pub workspace: String,
    /// Digest of the lock's text.
    pub lock: Digest,
    /// Digest of the tree of everything the workspace consists of.
    pub snapshot: Digest,
    /// Where in it the workspace lies.
    #[serde(default)]
    pub workspace_at: String,
    /// The epoch, as written.
    pub epoch: String,
    /// The images asked for.
    pub images: Vec<String>,
    /// The board asked for.
    pub board: Option<String>,
    /// Values of parameters that are not secret.
    pub params: BTreeMap<String, String>,
    /// Amendments of the command line.
    pub set: Vec<String>,
    /// Host tools and the digests of their trees.
    pub host_tools: BTreeMap<String, Digest>,
    /// What was done.
    pub actions: Vec<ActionRecord>,
    /// What came out.
    pub outputs: Vec<OutputFile>,
    /// Packages by image.
    pub packages: BTreeMap<String, Vec<PackageInfo>>,
    /// Input digests by image.
    pub inputs: BTreeMap<String, Digest>,
    /// Ready-made packages it used, with what was known of them.
    #[serde(default)]
    pub files: Vec<RecordedFile>,
    /// Layers from elsewhere: digest of where they are from, digest of their trees.
    #[serde(default)]
    pub layers: BTreeMap<Digest, Digest>,
    /// Names of all layers.
    #[serde(default)]
    pub layer_names: Vec<String>,
    /// Names of secret parameters; their values are nowhere.
    #[serde(default)]
    pub secrets: Vec<String>,
    /// By image, what became of what packages' scripts would do.
    #[serde(default)]
    pub reports: BTreeMap<String, embrak_root::Report>,
    /// Why it failed, if it did.
    pub error: Option<String>,
}

/// What the engine recorded about a run.
///
/// # Errors
/// The record is not one this version reads.
pub fn run_record(row: &RunRow) -> Result<RunRecord> {
    serde_json::from_str(&row.record).map_err(|e| {
        EngineError::other(
            format!("the record of run {} cannot be read: {e}", row.id),
            "it was made by another version of Embrak",
        )
    })
}

/// A run by number (`12` or `r12`), or the newest run one of whose outputs has this digest.
///
/// # Errors
/// There is none.
pub fn find_run(store: &Store, number: Option<i64>, artifact: Option<&Digest>) -> Result<(RunRow, RunRecord)> {
    if let Some(number) = number {
        let row = store.run(number)?.ok_or_else(|| {
            EngineError::other(
                format!("there is no run {number} on record"),
                "`embrak list runs` shows those there are",
            )
        })?;
        let record = run_record(&row)?;
        return Ok((row, record));
    }
    for row in store.runs()? {
        if let Ok(record) = run_record(&row)
            && row.status == "done"
            && artifact.is_none_or(|digest| record.outputs.iter().any(|o| o.artifact == *digest))
        {
            return Ok((row, record));
        }
    }
    Err(match artifact {
        Some(digest) => EngineError::other(
            format!("no run on record has made anything with the digest {digest}"),
            "build it again with this store, or give the store it was built with by --store",
        ),
        None => EngineError::other("no finished run is on record", "run `embrak build` first"),
    })
}
