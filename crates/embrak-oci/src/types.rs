//! The JSON documents of the specification, keys in a fixed order.

use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

pub(crate) const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
pub(crate) const INDEX: &str = "application/vnd.oci.image.index.v1+json";
pub(crate) const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
pub(crate) const LAYER: &str = "application/vnd.oci.image.layer.v1.tar";

/// A content descriptor (`descriptor.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What it is.
    pub media_type: String,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// Of a manifest about another: what kind of thing it says.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub artifact_type: Option<String>,
    /// What it runs on.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub platform: Option<Platform>,
    /// Notes.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub annotations: BTreeMap<String, String>,
}

/// What an image runs on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// `amd64`, `arm64` and so on.
    pub architecture: String,
    /// `linux`.
    pub os: String,
}

/// An image index (`image-index.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Index {
    /// 2.
    pub schema_version: u32,
    /// What it is.
    #[serde(default)]
    pub media_type: String,
    /// The images.
    pub manifests: Vec<Descriptor>,
}

/// An image manifest (`manifest.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Manifest {
    /// 2.
    pub schema_version: u32,
    /// What it is.
    #[serde(default)]
    pub media_type: String,
    /// Of a manifest about another: what kind of thing it says.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub artifact_type: Option<String>,
    /// How to run it.
    pub config: Descriptor,
    /// Its layers, the lowest first.
    pub layers: Vec<Descriptor>,
    /// What it is about, if it is about another manifest.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub subject: Option<Descriptor>,
    /// Notes.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub annotations: BTreeMap<String, String>,
}

/// An image configuration (`config.md`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImageConfig {
    /// When it was made.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub created: Option<String>,
    /// `amd64`, `arm64` and so on.
    pub architecture: String,
    /// `linux`.
    pub os: String,
    /// How to run it.
    #[serde(default)]
    pub config: Config,
    /// Digests of the uncompressed layers.
    pub rootfs: RootFs,
    /// How the layers came about.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub history: Vec<History>,
}

/// How to run an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
#[serde(rename_all = "PascalCase")]
pub struct Config {
    /// User and group.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub user: String,
    /// Ports it listens on.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub exposed_ports: BTreeMap<String, Empty>,
    /// Environment, `NAME=VALUE`.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub env: Vec<String>,
    /// Program and fixed arguments.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub entrypoint: Vec<String>,
    /// Default arguments.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub cmd: Vec<String>,
    /// Directories whose contents outlive the container.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub volumes: BTreeMap<String, Empty>,
    /// Working directory.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub working_dir: String,
    /// Labels.
    #[serde(skip_serializing_if = "BTreeMap::is_empty", default)]
    pub labels: BTreeMap<String, String>,
}

/// `{}`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Default)]
pub struct Empty {}

/// Digests of the uncompressed layers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RootFs {
    /// `layers`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The lowest first.
    pub diff_ids: Vec<Digest>,
}

/// How a layer came about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct History {
    /// When.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub created: Option<String>,
    /// By what.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub created_by: Option<String>,
}
