//! How an artifact was made, as its evidence tells: SLSA provenance v1, written and read.

use crate::error::{EngineError, Result};
use crate::lock::WriterVersions;
use crate::outputs::OutputFile;
use crate::record::RunRecord;
use crate::reproduce::{Recorded, RecordedOutput};
use crate::vendor::Inputs;
use embrak_model::definitions::Output;
use embrak_store::RunRow;
use embrak_tree::Digest;
use embrak_trust::{PROVENANCE, Statement, read_evidence};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

const BUILD_TYPE: &str = "https://embrak.example/build/v1";
const BUILDER: &str = "https://embrak.example/builder/local";

/// SLSA provenance v1 of one output.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Provenance {
    build_definition: BuildDefinition,
    run_details: RunDetails,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct BuildDefinition {
    build_type: String,
    external_parameters: External,
    internal_parameters: Internal,
    resolved_dependencies: Vec<Resolved>,
}

/// What was asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct External {
    workspace: String,
    image: String,
    target: String,
    output: Output,
    #[serde(default)]
    board: Option<String>,
    parameters: BTreeMap<String, String>,
    /// Their names alone.
    #[serde(default)]
    secret_parameters: Vec<String>,
    amendments: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Internal {
    epoch: String,
    input: Option<Digest>,
    writers: WriterVersions,
    host_tools_used: bool,
    layers: Vec<String>,
    repositories: BTreeSet<String>,
    /// Where in the workspace's tree the workspace lies.
    #[serde(default)]
    workspace_at: String,
}

/// Something it was made of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Resolved {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    uri: Option<String>,
    digest: BTreeMap<String, String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct RunDetails {
    builder: Builder,
    metadata: Metadata,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Builder {
    id: String,
    version: BTreeMap<String, String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Metadata {
    invocation_id: String,
    started_on: String,
    finished_on: Option<String>,
}

/// Of the bytes, or of a tree's manifest.
const SHA256: &str = "sha256";
const TREE: &str = "embrakTree";

// What names in the list of dependencies begin with.
const LOCK: &str = "lock";
const WORKSPACE: &str = "workspace";
const TOOL: &str = "host tool ";
const LAYER: &str = "layer from ";
const PACKAGE: &str = "package ";
const FILE: &str = "file of ";

impl Resolved {
    fn new(name: impl Into<String>, kind: &str, digest: Digest) -> Self {
        Resolved { name: name.into(), uri: None, digest: [(kind.to_string(), digest.hex())].into() }
    }

    fn tree(&self) -> Option<Digest> {
        format!("sha256:{}", self.digest.get(TREE)?).parse().ok()
    }

    fn bytes(&self) -> Option<Digest> {
        format!("sha256:{}", self.digest.get(SHA256)?).parse().ok()
    }
}

fn time(ms: i64) -> String {
    jiff::Timestamp::from_millisecond(ms).map(|t| t.to_string()).unwrap_or_default()
}

impl Provenance {
    /// Of an output of a run.
    pub(crate) fn of(row: &RunRow, record: &RunRecord, output: &OutputFile) -> Self {
        let mut resolved = vec![
            Resolved { uri: Some("embrak.lock".into()), ..Resolved::new(LOCK, SHA256, record.lock) },
            Resolved::new(WORKSPACE, TREE, record.snapshot),
        ];
        let tools = record.host_tools.iter();
        resolved.extend(tools.map(|(name, digest)| Resolved::new(format!("{TOOL}{name}"), TREE, *digest)));
        let layers = record.layers.iter();
        resolved.extend(layers.map(|(source, tree)| Resolved::new(format!("{LAYER}{}", source.hex()), TREE, *tree)));
        let packages = record.packages.get(&output.image).into_iter().flatten();
        let package =
            |p: &crate::PackageInfo| Resolved::new(format!("{PACKAGE}{} {}", p.name, p.version), TREE, p.tree);
        resolved.extend(packages.clone().map(package));
        for file in &record.files {
            let known = &file.record;
            if let Some(digest) = known.digest {
                let name = format!("{FILE}{} {} {}", known.name, known.version, known.architecture);
                let uri = Some(format!("{}/{}", file.repository, known.path));
                resolved.push(Resolved { uri, ..Resolved::new(name, SHA256, digest) });
            }
        }
        let repositories = packages.filter_map(|p| p.ready_made.as_ref().map(|r| r.repository.clone())).collect();
        Provenance {
            build_definition: BuildDefinition {
                build_type: BUILD_TYPE.into(),
                external_parameters: External {
                    workspace: record.workspace.clone(),
                    image: output.image.clone(),
                    target: output.target.clone(),
                    output: output.output,
                    board: record.board.clone(),
                    parameters: record.params.clone(),
                    secret_parameters: record.secrets.clone(),
                    amendments: record.set.clone(),
                },
                internal_parameters: Internal {
                    epoch: record.epoch.clone(),
                    input: record.inputs.get(&output.image).copied(),
                    writers: record.writers,
                    host_tools_used: !record.host_tools.is_empty(),
                    layers: record.layer_names.clone(),
                    repositories,
                    workspace_at: record.workspace_at.clone(),
                },
                resolved_dependencies: resolved,
            },
            run_details: RunDetails {
                builder: Builder { id: BUILDER.into(), version: [("embrak".to_string(), record.tool.clone())].into() },
                metadata: Metadata {
                    invocation_id: format!("run {}", row.id),
                    started_on: time(row.started),
                    finished_on: row.finished.map(time),
                },
            },
        }
    }

    pub(crate) fn predicate(&self) -> serde_json::Value {
        serde_json::to_value(self).unwrap_or_default()
    }

    fn find(&self, name: &str) -> Option<&Resolved> {
        self.build_definition.resolved_dependencies.iter().find(|r| r.name == name)
    }

    /// Everything whose name begins so, by the rest of the name.
    fn named<'a>(&'a self, beginning: &'a str) -> impl Iterator<Item = (&'a str, &'a Resolved)> {
        let all = self.build_definition.resolved_dependencies.iter();
        all.filter_map(move |r| Some((r.name.strip_prefix(beginning)?, r)))
    }
}

/// What evidence tells of how an artifact was made. Whether its signer is to be believed is another question: a rebuild
/// answers for itself.
#[derive(Debug, Clone)]
pub struct Told {
    provenance: Provenance,
    output: RecordedOutput,
}

/// Reads how an artifact was made from its evidence.
///
/// # Errors
/// It cannot be read, or does not tell.
pub fn told(path: &Path, evidence: Option<&Path>, artifact: &Digest) -> Result<Told> {
    let (file, text) = crate::evidence::evidence_text(path, evidence)?;
    let wrong = |why: String| {
        EngineError::other(
            format!("{}: {why}", file.display()),
            "get the evidence again from whoever made the artifact",
        )
    };
    let envelopes = read_evidence(&text).map_err(wrong)?;
    let about = |s: &Statement| {
        s.predicate_type == PROVENANCE && s.subject.iter().any(|s| s.digest.get(SHA256) == Some(&artifact.hex()))
    };
    let statement = envelopes.iter().filter_map(|e| e.statement().ok()).find(about);
    let Some(statement) = statement else {
        return Err(wrong(format!("no statement in it says how {artifact} was made")));
    };
    let provenance: Provenance = serde_json::from_value(statement.predicate)
        .map_err(|e| wrong(format!("it says how it was made in words this Embrak does not know: {e}")))?;
    if provenance.build_definition.build_type != BUILD_TYPE {
        let kind = &provenance.build_definition.build_type;
        return Err(wrong(format!("it was made by something else: `{kind}`")));
    }
    let tree = statement.subject.iter().find_map(|s| format!("sha256:{}", s.digest.get(TREE)?).parse().ok());
    let output = RecordedOutput {
        image: provenance.build_definition.external_parameters.image.clone(),
        name: statement.subject.first().map(|s| s.name.clone()).unwrap_or_default(),
        path: path.to_path_buf(),
        artifact: *artifact,
        tree: tree.ok_or_else(|| wrong("it does not tell the digest of the tree".into()))?,
    };
    Ok(Told { provenance, output })
}

impl Told {
    /// The image it is of.
    pub fn images(&self) -> Vec<String> {
        vec![self.output.image.clone()]
    }

    /// The board it was made for, if one was asked for.
    pub fn board(&self) -> Option<String> {
        self.provenance.build_definition.external_parameters.board.clone()
    }

    /// With the inputs, which have to be those it tells of.
    ///
    /// # Errors
    /// They are others; each is named with both digests.
    pub fn with(self, inputs: &Gathered) -> Result<Recorded> {
        let Told { provenance, output } = self;
        let inputs = &inputs.0;
        let mut other = Vec::new();
        let mut same = |what: &str, told: Option<Digest>, here: Option<Digest>| {
            if told != here {
                let shown = |d: Option<Digest>| d.map_or("none".to_string(), |d| d.to_string());
                other.push(format!("{what}: recorded {}, here {}", shown(told), shown(here)));
            }
        };
        same("embrak.lock", provenance.find(LOCK).and_then(Resolved::bytes), Some(inputs.lock));
        same("workspace", provenance.find(WORKSPACE).and_then(Resolved::tree), inputs.snapshot);
        for (name, resolved) in provenance.named(TOOL) {
            same(&format!("host tool {name}"), resolved.tree(), inputs.tools.get(name).copied());
        }
        for (source, resolved) in provenance.named(LAYER) {
            let here = inputs.layers.iter().find(|(s, _)| s.hex() == source).map(|(_, tree)| *tree);
            same(&format!("layer from {source}"), resolved.tree(), here);
        }
        let files: BTreeSet<Digest> = inputs.packages.iter().filter_map(|p| p.record.digest).collect();
        for (name, resolved) in provenance.named(FILE) {
            same(&format!("file of {name}"), resolved.bytes(), resolved.bytes().filter(|d| files.contains(d)));
        }
        if !other.is_empty() {
            return Err(EngineError::other(
                format!("{} inputs are not those the artifact was made of:\n  {}", other.len(), other.join("\n  ")),
                "check out the state of the workspace it was made from, or get a vendor directory of it",
            ));
        }
        let packages = provenance.named(PACKAGE).filter(|(_, r)| r.digest.contains_key(TREE));
        let packages = packages.filter_map(|(name, r)| Some((name.to_string(), r.tree()?))).collect();
        let definition = provenance.build_definition;
        let asked = definition.external_parameters;
        let started: Option<jiff::Timestamp> = provenance.run_details.metadata.started_on.parse().ok();
        Ok(Recorded {
            run: None,
            started: started.map(|t| t.as_millisecond()),
            workspace_path: None,
            workspace_at: definition.internal_parameters.workspace_at,
            tool: provenance.run_details.builder.version.get("embrak").cloned().unwrap_or_default(),
            writers: definition.internal_parameters.writers,
            images: vec![asked.image.clone()],
            board: asked.board,
            params: asked.parameters,
            secrets: asked.secret_parameters,
            set: asked.amendments,
            packages: [(asked.image, packages)].into(),
            outputs: vec![output],
            inputs: inputs.clone(),
        })
    }
}

/// Every input of a build, brought together in a store.
#[derive(Debug, Clone)]
pub struct Gathered(pub(crate) Inputs);
