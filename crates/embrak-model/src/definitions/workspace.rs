//! `embrak.toml` and `layer.toml`.

use crate::{Epoch, Located, Name};
use embrak_resolve::Version;
use serde::Deserialize;
use std::collections::BTreeMap;

/// The workspace: which layers, which defaults.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct WorkspaceDef {
    /// Its name.
    pub workspace: Name,
    /// Default for every timestamp in every output.
    pub epoch: Epoch,
    /// Directories of layers; later ones amend earlier ones.
    pub layers: Vec<Located<String>>,
    /// The board when none is named.
    pub default_board: Option<Located<Name>>,
    /// The images when none is named.
    #[serde(default)]
    pub default_images: Vec<Located<Name>>,
    /// What builds recipes.
    #[serde(default)]
    pub toolchain: ToolchainDef,
    /// Declared parameters; read apart, because they are needed before the rest.
    #[serde(default, rename = "params")]
    _params: BTreeMap<String, Ignored>,
    /// Amendments of the workspace itself; read apart.
    #[serde(default, rename = "amend")]
    _amend: Vec<Ignored>,
}

/// What builds recipes.
#[derive(Debug, Clone, PartialEq, Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ToolchainDef {
    /// Programs of the host that recipes may ask for: read-only, digested and recorded.
    #[serde(default)]
    pub host: Vec<Located<String>>,
}

/// A directory of definitions that can be shared.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LayerDef {
    /// Its name.
    pub layer: Name,
    /// Its version.
    pub version: Version,
    /// One line about it.
    #[serde(default)]
    pub summary: String,
    /// Layers that have to come before it, with the versions that will do.
    #[serde(default)]
    pub requires: BTreeMap<Name, Located<String>>,
}

/// A value that is read elsewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Ignored;

impl<'de> Deserialize<'de> for Ignored {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        serde::de::IgnoredAny::deserialize(deserializer).map(|_| Ignored)
    }
}
