//! Every input of a lock in one directory, so that it builds without a network, also when the places it came from are
//! gone.
//!
//! ```text
//!   vendor.json               a DSSE envelope around: what is in here, and what was known of it
//!   objects/ab/cdef...        package files; trees and files of layers from elsewhere, of the workspace and of the host
//!                             tools it is built with; all by SHA-256
//! ```

use crate::error::{Doing, EngineError, Result};
use crate::plan::Plan;
use crate::provenance::Gathered;
use crate::{Engine, sources, unpack};
use embrak_model::Workspace;
use embrak_model::definitions::Architecture;
use embrak_repo::{PackageRecord, Syntax};
use embrak_store::Store;
use embrak_tree::{Digest, Kind};
use embrak_trust::{Envelope, PublicKey, SigningKey};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

const PAYLOAD_TYPE: &str = "application/vnd.embrak.vendor+json";
const HEAD: &str = "vendor.json";

/// A package file with all that was known of it when it was chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct RecordedFile {
    /// The repository.
    pub repository: String,
    /// The architecture it was chosen for.
    pub architecture: String,
    /// Whether its requirements are written as Debian writes them.
    pub debian: bool,
    /// What the index said.
    pub record: PackageRecord,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
struct Head {
    embrak_vendor: u32,
    workspace: String,
    /// Digest of the lock's text.
    lock: Digest,
    packages: Vec<RecordedFile>,
    /// Layers from elsewhere: digest of where they are from, digest of the tree.
    layers: BTreeMap<Digest, Digest>,
    /// Digest of the tree of the workspace.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    snapshot: Option<Digest>,
    /// Host tools with the digests of their trees.
    #[serde(default)]
    tools: BTreeMap<String, Digest>,
    /// Objects with their lengths.
    objects: BTreeMap<Digest, u64>,
}

/// Every input of a build.
#[derive(Debug, Clone)]
pub(crate) struct Inputs {
    pub(crate) workspace: String,
    /// Digest of the lock's text.
    pub(crate) lock: Digest,
    pub(crate) packages: Vec<RecordedFile>,
    /// Layers from elsewhere: digest of where they are from, digest of the tree.
    pub(crate) layers: BTreeMap<Digest, Digest>,
    /// Digest of the tree of the workspace.
    pub(crate) snapshot: Option<Digest>,
    pub(crate) tools: BTreeMap<String, Digest>,
}

impl Inputs {
    /// Those that a store does not have, in words. Nothing can be made without them.
    pub(crate) fn missing(&self, store: &Store) -> Vec<String> {
        let mut out = Vec::new();
        for file in &self.packages {
            if let Some(digest) = file.record.digest.filter(|d| !store.has(d)) {
                out.push(format!("package {} {} {digest}", file.record.name, file.record.version));
            }
        }
        let layers = self.layers.iter().map(|(source, tree)| (format!("layer from {}", source.short()), *tree));
        let tools = self.tools.iter().map(|(name, tree)| (format!("host tool {name}"), *tree));
        let snapshot = self.snapshot.iter().map(|tree| ("workspace".to_string(), *tree));
        for (what, digest) in layers.chain(tools).chain(snapshot) {
            match sources::get_tree(store, &digest) {
                Err(_) => out.push(format!("{what} {digest}")),
                Ok(tree) => {
                    let files = tree.iter().filter_map(|(path, entry)| match &entry.kind {
                        Kind::File { digest, .. } if !store.has(digest) => Some(format!("{what}: {path} {digest}")),
                        _ => None,
                    });
                    out.extend(files);
                }
            }
        }
        out
    }

    /// Every object they consist of.
    fn objects(&self, store: &Store) -> Result<BTreeSet<Digest>> {
        let mut out: BTreeSet<Digest> = self.packages.iter().filter_map(|p| p.record.digest).collect();
        for tree in self.layers.values().chain(self.tools.values()).chain(&self.snapshot) {
            out.insert(*tree);
            out.extend(sources::get_tree(store, tree)?.blobs().map(|(digest, _)| digest));
        }
        Ok(out)
    }
}

/// What vendoring has put together.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct VendorReport {
    /// Where.
    pub dir: PathBuf,
    /// Number of package files.
    pub packages: usize,
    /// Number of layers from elsewhere.
    pub layers: usize,
    /// Number of host tools.
    pub tools: usize,
    /// Number of objects.
    pub objects: usize,
    /// Their bytes.
    pub bytes: u64,
}

/// A vendor directory, opened.
#[derive(Debug)]
pub struct Vendored {
    head: Head,
    /// By repository and architecture: whether they are written as Debian writes them, and the records.
    records: BTreeMap<(String, String), (bool, Vec<PackageRecord>)>,
}

fn place(dir: &Path, digest: &Digest) -> PathBuf {
    let hex = digest.hex();
    dir.join("objects").join(&hex[..2]).join(&hex[2..])
}

/// Puts every input of a plan into a directory, fetching what the store does not have.
///
/// # Errors
/// Something cannot be fetched or written.
pub fn vendor(engine: &Engine<'_>, plan: &Plan, dir: &Path, key: &SigningKey) -> Result<VendorReport> {
    write(engine.store, gather(engine, plan)?.0, dir, key)
}

/// Brings every input of a plan together in the store, fetching what it does not have.
///
/// # Errors
/// Something cannot be fetched or read.
pub fn gather(engine: &Engine<'_>, plan: &Plan) -> Result<Gathered> {
    crate::signed::demand_lock(engine, &plan.lock)?;
    unpack::fetch(engine, plan.files.values())?;
    let snapshot = crate::snapshot::snapshot(engine, &plan.lock)?;
    Ok(Gathered(Inputs {
        workspace: engine.workspace.def.workspace.to_string(),
        lock: plan.lock.digest(),
        packages: plan.recorded_files(),
        layers: layers_of(engine.workspace),
        snapshot: Some(sources::put_tree(engine.store, &snapshot)?),
        tools: plan.tools.iter().map(|(name, tool)| (name.clone(), tool.digest)).collect(),
    }))
}

/// Layers of a workspace from elsewhere: digest of where they are from, digest of their tree.
pub(crate) fn layers_of(workspace: &Workspace) -> BTreeMap<Digest, Digest> {
    let of = |l: &embrak_model::Layer| Some((crate::remote::source_key(&l.source), l.tree.as_deref()?.parse().ok()?));
    workspace.layers.iter().filter_map(of).collect()
}

pub(crate) fn write(store: &Store, inputs: Inputs, dir: &Path, key: &SigningKey) -> Result<VendorReport> {
    let missing = inputs.missing(store);
    if !missing.is_empty() {
        return Err(EngineError::other(
            format!("{} inputs cannot be had any more:\n  {}", missing.len(), missing.join("\n  ")),
            "build it again with the network, or give the store it was built with by --store",
        ));
    }
    let wanted = inputs.objects(store)?;
    let Inputs { workspace, lock, packages, layers, snapshot, tools } = inputs;
    let mut head =
        Head { embrak_vendor: 1, workspace, lock, packages, layers, snapshot, tools, objects: BTreeMap::new() };
    for digest in wanted {
        let from = store.object_path(&digest);
        let to = place(dir, &digest);
        let size = std::fs::metadata(&from).doing("read", &from)?.len();
        head.objects.insert(digest, size);
        if std::fs::metadata(&to).is_ok_and(|m| m.len() == size) {
            continue;
        }
        if let Some(parent) = to.parent() {
            std::fs::create_dir_all(parent).doing("make", parent)?;
        }
        let beside = to.with_extension("new");
        let _ = std::fs::remove_file(&beside);
        std::fs::copy(&from, &beside).doing("write", &beside)?;
        std::fs::set_permissions(&beside, std::os::unix::fs::PermissionsExt::from_mode(0o644))
            .doing("write", &beside)?;
        std::fs::rename(&beside, &to).doing("write", &to)?;
    }
    std::fs::create_dir_all(dir).doing("make", dir)?;
    let payload = serde_json::to_vec(&head).map_err(|e| EngineError::other(e.to_string(), ""))?;
    let line = Envelope::sign_bytes(PAYLOAD_TYPE, &payload, key)
        .map_err(|e| EngineError::other(e.to_string(), "look at the key"))?
        .to_line()
        + "\n";
    crate::write_beside(&dir.join(HEAD), line.as_bytes())?;
    Ok(VendorReport {
        dir: dir.to_path_buf(),
        packages: head.packages.len(),
        layers: head.layers.len(),
        tools: head.tools.len(),
        objects: head.objects.len(),
        bytes: head.objects.values().sum(),
    })
}

impl Vendored {
    /// Opens a vendor directory that one of the keys has signed, and takes into the store what it lacks.
    ///
    /// # Errors
    /// It is no vendor directory, is not rightly signed, or something in it is missing or damaged.
    pub fn open(dir: &Path, keys: &[PublicKey], store: &Store) -> Result<Vendored> {
        let path = dir.join(HEAD);
        let text = std::fs::read_to_string(&path).doing("read", &path)?;
        let wrong = |what: String| {
            EngineError::other(format!("{}: {what}", path.display()), "make the directory anew with `embrak vendor`")
        };
        let envelope = Envelope::from_line(text.trim_end()).map_err(|e| wrong(e.to_string()))?;
        let Some((payload, _)) = envelope.opened_by(PAYLOAD_TYPE, keys) else {
            return Err(EngineError::other(
                format!("{} is not signed by a key this workspace knows", path.display()),
                "put the public key into keys/, or name it with --vendor-key",
            ));
        };
        let head: Head = serde_json::from_slice(&payload).map_err(|e| wrong(e.to_string()))?;
        if head.embrak_vendor != 1 {
            return Err(wrong(format!("it has format {}, this Embrak knows 1", head.embrak_vendor)));
        }
        let mut bad = Vec::new();
        for digest in head.objects.keys().filter(|d| !store.has(d)) {
            let from = place(dir, digest);
            match store.put_file(&from) {
                Ok((found, _)) if found == *digest => {}
                Ok((found, _)) => bad.push(format!("  {} digests to {found}", from.display())),
                Err(error) => bad.push(format!("  {} ({error})", from.display())),
            }
        }
        if !bad.is_empty() {
            return Err(EngineError::other(
                format!("{} inputs of {} are missing or damaged:\n{}", bad.len(), dir.display(), bad.join("\n")),
                "copy the directory again from where it was made",
            ));
        }
        let mut records: BTreeMap<(String, String), (bool, Vec<PackageRecord>)> = BTreeMap::new();
        for file in &head.packages {
            let key = (file.repository.clone(), file.architecture.clone());
            records.entry(key).or_insert((file.debian, vec![])).1.push(file.record.clone());
        }
        Ok(Vendored { head, records })
    }

    /// What is in it; all of it is in the store now.
    pub fn gathered(&self) -> Gathered {
        let Head { workspace, lock, packages, layers, snapshot, tools, .. } = self.head.clone();
        Gathered(Inputs { workspace, lock, packages, layers, snapshot, tools })
    }

    /// The records of a repository, and how they are written.
    pub(crate) fn records(&self, name: &str, architecture: Architecture) -> Option<(Syntax, &[PackageRecord])> {
        let (debian, records) = self.records.get(&(name.to_string(), architecture.to_string()))?;
        Some((if *debian { Syntax::Debian } else { Syntax::Own }, records))
    }

    /// The tree of a layer, by the digest of where it is from.
    pub(crate) fn layer(&self, source: &Digest) -> Option<Digest> {
        self.head.layers.get(source).copied()
    }
}
