//! What is known of a package before it is fetched, and after.

use crate::{parse_relations, parse_requirements};
use embrak_resolve::{Alternatives, Candidate, Provided, Requirement, Version};
use embrak_tree::{Digest, Tree};
use serde::{Deserialize, Serialize};

/// One ready-made package as an index tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct PackageRecord {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its architecture, as the repository's format writes it; `all` or `any` for every one.
    pub architecture: String,
    /// One line about it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub summary: String,
    /// The source it is made of, when that has another name.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub source: String,
    /// SPDX licence expression, if the format tells.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub license: String,
    /// Where its file lies below the repository.
    pub path: String,
    /// Length of its file in bytes.
    pub size: u64,
    /// Bytes it takes when unpacked, as it says itself.
    #[serde(default)]
    pub installed: u64,
    /// SHA-256 of its file.
    pub digest: Option<Digest>,
    /// Needed by every system of this distribution without being asked for.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub essential: bool,
    /// What it needs, one requirement in a line.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub requires: String,
    /// What it recommends.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub recommends: String,
    /// What cannot be there with it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub conflicts: String,
    /// Whose files it may replace.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub replaces: String,
    /// What it provides.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub provides: String,
    /// The line of the index it begins in, from 1; 0 when that means nothing.
    #[serde(default, skip)]
    pub line: u32,
}

/// How the requirements of a record are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Syntax {
    /// Debian Policy chapter 7, fields joined by line ends.
    Debian,
    /// As in our definitions, one in a line.
    Own,
}

impl PackageRecord {
    /// What it needs.
    pub fn requires(&self, syntax: Syntax, architecture: &str) -> Vec<Alternatives> {
        relations(&self.requires, syntax, architecture)
    }

    /// Whose files it may replace.
    pub fn replaces(&self, syntax: Syntax, architecture: &str) -> Vec<Requirement> {
        singles(&self.replaces, syntax, architecture)
    }

    /// What it provides besides its name.
    pub fn provides(&self, syntax: Syntax, architecture: &str) -> Vec<Provided> {
        provided(&self.provides, syntax, architecture)
    }

    /// What the solver has to know; `origin` is where the index is from, in words.
    ///
    /// None: its version is not one.
    pub fn candidate(&self, syntax: Syntax, architecture: &str, origin: &str, rank: u32) -> Option<Candidate> {
        let version: Version = self.version.parse().ok()?;
        let place = if self.line > 0 { format!("{origin}:{}", self.line) } else { origin.to_string() };
        let placed = |list: Vec<Alternatives>| list.into_iter().map(|a| (a, place.clone())).collect();
        Some(Candidate {
            name: self.name.clone(),
            version,
            requires: placed(self.requires(syntax, architecture)),
            recommends: placed(relations(&self.recommends, syntax, architecture)),
            provides: self.provides(syntax, architecture),
            conflicts: singles(&self.conflicts, syntax, architecture).into_iter().map(|r| (r, place.clone())).collect(),
            origin: place,
            rank,
        })
    }
}

fn relations(text: &str, syntax: Syntax, architecture: &str) -> Vec<Alternatives> {
    match syntax {
        Syntax::Debian => parse_relations(text, architecture),
        Syntax::Own => parse_requirements(text),
    }
}

fn singles(text: &str, syntax: Syntax, architecture: &str) -> Vec<Requirement> {
    relations(text, syntax, architecture).into_iter().flat_map(|a| a.0).collect()
}

pub(crate) fn provided(text: &str, syntax: Syntax, architecture: &str) -> Vec<Provided> {
    let of = |r: Requirement| Provided { version: r.bounds.into_iter().next().map(|(_, v)| v), name: r.name };
    singles(text, syntax, architecture).into_iter().map(of).collect()
}

/// What a repository offered at one time, everything by digest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct Snapshot {
    /// Digest of the documents that name everything else.
    pub digest: Digest,
    /// When the repository says it was made, as `2026-03-01T00:00:00Z`; the newest of several suites.
    pub date: String,
    /// Until when it may be used, if it says so.
    pub valid_until: Option<String>,
    /// Fingerprints of the keys that signed it; none: it is used without a signature.
    pub signed_by: Vec<String>,
    /// Its indexes.
    pub indexes: Vec<SnapshotIndex>,
    /// The documents themselves, kept as objects.
    pub documents: Vec<Digest>,
}

/// One index of a snapshot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct SnapshotIndex {
    /// What it is of: `bookworm/main`.
    pub of: String,
    /// Where it lies below the repository, compressed.
    pub path: String,
    /// Another place that does not change when the repository moves on.
    pub by_hash: Option<String>,
    /// SHA-256 of the compressed file.
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
    /// Its length when unpacked, if the repository says so.
    pub unpacked: Option<u64>,
    /// Whether what is in it mends security faults.
    pub security: bool,
    /// Whether this is a list of files, not of packages.
    #[serde(default)]
    pub files: bool,
}

/// A package as trees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unpacked {
    /// Its files.
    pub tree: Tree,
    /// What the repository's format says about it besides: scripts, checksums, triggers. Empty when there is
    /// nothing.
    pub control: Tree,
    /// Configuration files, by absolute path.
    pub conffiles: Vec<String>,
    /// Maintainer scripts there are: `postinst`.
    pub scripts: Vec<String>,
    /// What it needs, as the package itself says, each a requirement.
    pub requires: Vec<String>,
    /// Whose files it may replace, each a requirement.
    pub replaces: Vec<String>,
}
