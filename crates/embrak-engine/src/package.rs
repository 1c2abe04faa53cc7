//! Packages: what a recipe yields.

use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What is known about a package besides its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct PackageInfo {
    /// Its name.
    pub name: String,
    /// Its version with revision.
    pub version: String,
    /// The architecture it is for.
    pub architecture: String,
    /// One line about it.
    pub summary: String,
    /// SPDX licence expression.
    pub license: String,
    /// What it needs in an image.
    pub requires: Vec<String>,
    /// What it provides besides its name, each a requirement.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub provides: Vec<String>,
    /// What cannot be there with it, each a requirement.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<String>,
    /// Digest of its tree.
    pub tree: Digest,
    /// Bytes of its files.
    pub size: u64,
    /// Number of its files and links.
    pub files: usize,
    /// What else there is about a package that was not made by a recipe.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ready_made: Option<ReadyMade>,
}

/// What is known of a package out of a repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct ReadyMade {
    /// The repository.
    pub repository: String,
    /// SHA-256 of the package's file.
    pub file: Digest,
    /// Digest of the tree of its scripts, checksums and the like.
    pub control: Digest,
    /// Its configuration files.
    pub conffiles: Vec<String>,
    /// Its maintainer scripts.
    pub scripts: Vec<String>,
    /// Whose files it may replace, each a requirement.
    pub replaces: Vec<String>,
}

/// The result of building a recipe, as the action cache keeps it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct BuiltRecipe {
    /// The main package first.
    pub(crate) packages: Vec<PackageInfo>,
    /// The log of all steps.
    pub(crate) log: Digest,
    /// How long the steps took.
    pub(crate) seconds: f64,
    /// Every object the packages consist of.
    pub(crate) objects: BTreeSet<Digest>,
}
