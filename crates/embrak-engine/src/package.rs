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
    /// Digest of its tree.
    pub tree: Digest,
    /// Bytes of its files.
    pub size: u64,
    /// Number of its files and links.
    pub files: usize,
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
