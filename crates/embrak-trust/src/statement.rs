//! Statements about artifacts: in-toto Statement v1.

use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// `_type` of every statement.
pub const STATEMENT_TYPE: &str = "https://in-toto.io/Statement/v1";
/// Predicate of how an artifact was made: SLSA provenance v1.
pub const PROVENANCE: &str = "https://slsa.dev/provenance/v1";
/// Predicate of an artifact having been made again, and with which result. Ours: no open one exists.
pub const REPRODUCTION: &str = "https://embrak.example/reproduction/v1";

/// Predicate of a bill of materials: SPDX 2.3.
pub const BILL_SPDX: &str = "https://spdx.dev/Document/v2.3";
/// Predicate of a bill of materials: CycloneDX.
pub const BILL_CYCLONEDX: &str = "https://cyclonedx.org/bom";
/// Predicate of checks having been made: in-toto test result.
pub const CHECKS: &str = "https://in-toto.io/attestation/test-result/v0.1";
/// Predicate of an artifact standing in a log of releases. Ours: no open one exists.
pub const RELEASE: &str = "https://embrak.example/release/v1";
/// Predicate of a layer being as its maker wants it. Ours: no open one exists.
pub const LAYER: &str = "https://embrak.example/layer/v1";
/// Predicate of a lock having been looked at and found good. Ours: no open one exists.
pub const LOCK: &str = "https://embrak.example/lock/v1";

/// What kind of thing a statement says; what policies speak of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StatementKind {
    /// How it was made.
    Provenance,
    /// That it was made again.
    Reproduction,
    /// What is in it.
    Bill,
    /// That it was checked, and with which result.
    Checks,
    /// That it stands in a log of releases.
    Release,
    /// That a layer is as its maker wants it.
    Layer,
    /// That a lock was looked at and found good.
    Lock,
}

impl StatementKind {
    /// As policies write it.
    pub fn as_str(self) -> &'static str {
        match self {
            StatementKind::Provenance => "provenance",
            StatementKind::Reproduction => "reproduction",
            StatementKind::Bill => "bill",
            StatementKind::Checks => "checks",
            StatementKind::Release => "release",
            StatementKind::Layer => "layer",
            StatementKind::Lock => "lock",
        }
    }

    /// The kind of a predicate type, if it is one of these.
    pub fn of(predicate_type: &str) -> Option<Self> {
        match predicate_type {
            PROVENANCE => Some(StatementKind::Provenance),
            REPRODUCTION => Some(StatementKind::Reproduction),
            BILL_SPDX | BILL_CYCLONEDX => Some(StatementKind::Bill),
            CHECKS => Some(StatementKind::Checks),
            RELEASE => Some(StatementKind::Release),
            LAYER => Some(StatementKind::Layer),
            LOCK => Some(StatementKind::Lock),
            _ => None,
        }
    }
}

impl std::fmt::Display for StatementKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What a statement is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subject {
    /// The artifact's file name.
    pub name: String,
    /// Digests by algorithm: `sha256` of the bytes, `embrakTree` the content digest of the tree.
    pub digest: BTreeMap<String, String>,
}

impl Subject {
    /// A tree of files.
    pub fn of_tree(name: &str, tree: &Digest) -> Self {
        Subject { name: name.to_string(), digest: [("embrakTree".to_string(), tree.hex())].into() }
    }

    /// A file.
    pub fn of_file(name: &str, digest: &Digest) -> Self {
        Subject { name: name.to_string(), digest: [("sha256".to_string(), digest.hex())].into() }
    }

    /// An artifact with both digests.
    pub fn new(name: &str, artifact: &Digest, tree: &Digest) -> Self {
        let digest = [("sha256".to_string(), artifact.hex()), ("embrakTree".to_string(), tree.hex())];
        Subject { name: name.to_string(), digest: digest.into() }
    }
}

/// A statement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Statement {
    /// [`STATEMENT_TYPE`].
    #[serde(rename = "_type")]
    pub kind: String,
    /// What it is about.
    pub subject: Vec<Subject>,
    /// What kind of thing it says.
    pub predicate_type: String,
    /// What it says.
    pub predicate: serde_json::Value,
}

impl Statement {
    /// A statement about one artifact.
    pub fn new(subject: Subject, predicate_type: &str, predicate: serde_json::Value) -> Self {
        Statement {
            kind: STATEMENT_TYPE.to_string(),
            subject: vec![subject],
            predicate_type: predicate_type.to_string(),
            predicate,
        }
    }
}
