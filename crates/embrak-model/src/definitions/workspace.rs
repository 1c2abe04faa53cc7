//! `embrak.toml` and `layer.toml`.

use super::{Architecture, StepsDef};
use crate::{Epoch, Located, Name};
use embrak_resolve::Version;
use schemars::JsonSchema;
use serde::de::value::MapAccessDeserializer;
use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;

/// The workspace: which layers, which defaults.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct WorkspaceDef {
    /// Its name.
    pub workspace: Name,
    /// Default for every timestamp in every output.
    pub epoch: Epoch,
    /// Layers: directories, or where to fetch them; later ones amend earlier ones.
    pub layers: Vec<Located<LayerSource>>,
    /// The board when none is named.
    pub default_board: Option<Located<Name>>,
    /// The images when none is named.
    #[serde(default)]
    pub default_images: Vec<Located<Name>>,
    /// What builds recipes.
    #[serde(default)]
    pub toolchain: ToolchainDef,
    /// Repositories of ready-made packages.
    #[serde(default)]
    pub repository: Vec<RepositoryDef>,
    /// Settings of single recipes for every image.
    #[serde(default)]
    pub recipe: BTreeMap<Name, RecipeSettings>,
    /// Declared parameters; read apart, because they are needed before the rest.
    #[serde(default, rename = "params")]
    #[schemars(with = "BTreeMap<String, ParamForm>")]
    _params: BTreeMap<String, Ignored>,
    /// Amendments of the workspace itself; read apart.
    #[serde(default, rename = "amend")]
    #[schemars(with = "Vec<AmendmentForm>")]
    _amend: Vec<Ignored>,
}

/// Where a layer is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LayerSource {
    /// A directory, from the workspace's.
    Directory(String),
    /// A commit of a git repository.
    Git {
        /// The repository's URL.
        git: String,
        /// The commit, all 40 hexadecimal digits of it.
        commit: String,
        /// The layer's directory in the repository; its top when not said.
        path: Option<String>,
    },
    /// A tar archive, compressed or not.
    Archive {
        /// Its URL, or its path from the workspace's directory.
        archive: String,
        /// SHA-256 of its bytes, 64 hexadecimal digits.
        sha256: String,
        /// The layer's directory in the archive; its top when not said.
        path: Option<String>,
    },
}

impl LayerSource {
    /// The directory, if it is one.
    pub fn directory(&self) -> Option<&str> {
        match self {
            LayerSource::Directory(path) => Some(path),
            _ => None,
        }
    }
}

impl fmt::Display for LayerSource {
    /// As few words as identify it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let last = |url: &str| {
            let name = url.trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_string();
            name.trim_end_matches(".git").to_string()
        };
        let inside = |path: &Option<String>| path.as_ref().map_or(String::new(), |p| format!("/{p}"));
        match self {
            LayerSource::Directory(path) => f.write_str(path),
            LayerSource::Git { git, commit, path } => {
                write!(f, "{}@{}{}", last(git), &commit[..commit.len().min(12)], inside(path))
            }
            LayerSource::Archive { archive, sha256, path } => {
                write!(f, "{}@{}{}", last(archive), &sha256[..sha256.len().min(12)], inside(path))
            }
        }
    }
}

/// The table forms, with the keys as they are written.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct LayerTable {
    /// URL of a git repository.
    git: Option<String>,
    /// The commit, all 40 hexadecimal digits.
    commit: Option<String>,
    /// URL or path of a tar archive.
    archive: Option<String>,
    /// SHA-256 of the archive.
    sha256: Option<String>,
    /// The layer's directory inside.
    path: Option<String>,
}

impl<'de> Deserialize<'de> for LayerSource {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visit;
        impl<'de> Visitor<'de> for Visit {
            type Value = LayerSource;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a directory, or a table with git and commit, or with archive and sha256")
            }
            fn visit_str<E: de::Error>(self, text: &str) -> Result<LayerSource, E> {
                Ok(LayerSource::Directory(text.to_string()))
            }
            fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<LayerSource, A::Error> {
                let table = LayerTable::deserialize(MapAccessDeserializer::new(map))?;
                let hex = |text: &str, length: usize, what: &str| {
                    let good =
                        text.len() == length && text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
                    if good {
                        Ok(text.to_string())
                    } else {
                        Err(de::Error::custom(format!(
                            "`{text}` is not {what}: {length} lower-case hexadecimal digits"
                        )))
                    }
                };
                if let Some(path) = &table.path
                    && (path.starts_with('/') || path.split('/').any(|p| p == ".."))
                {
                    return Err(de::Error::custom(format!("`{path}` leads out of the layer's source")));
                }
                match (table.git, table.commit, table.archive, table.sha256) {
                    (Some(git), Some(commit), None, None) => {
                        Ok(LayerSource::Git { git, commit: hex(&commit, 40, "a commit")?, path: table.path })
                    }
                    (None, None, Some(archive), Some(sha256)) => {
                        Ok(LayerSource::Archive { archive, sha256: hex(&sha256, 64, "a SHA-256")?, path: table.path })
                    }
                    _ => Err(de::Error::custom("a layer is a directory, or { git, commit }, or { archive, sha256 }")),
                }
            }
        }
        deserializer.deserialize_any(Visit)
    }
}

impl JsonSchema for LayerSource {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "LayerSource".into()
    }
    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let table = generator.subschema_for::<LayerTable>();
        schemars::json_schema!({
            "description": "A directory, or { git, commit }, or { archive, sha256 }",
            "anyOf": [{ "type": "string" }, table]
        })
    }
}

/// A repository of ready-made packages.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RepositoryDef {
    /// As it is called here.
    pub name: Located<Name>,
    /// How it is laid out.
    pub format: RepositoryFormat,
    /// Where it is: `https://`, `http://` or `file:`; a path from the workspace's directory.
    pub url: Located<String>,
    /// For Debian's format: its suites, all as good as another.
    #[serde(default)]
    pub suites: Vec<String>,
    /// For Debian's format: the components to use; all when not said.
    #[serde(default)]
    pub components: Vec<String>,
    /// For Debian's format: a file of OpenPGP certificates of which one has to have signed it.
    pub keyring: Option<Located<String>>,
    /// For our format: public keys, files in PEM, of which one has to have signed it.
    #[serde(default)]
    pub keys: Vec<Located<String>>,
    /// Use it whoever signed it, or nobody. Every summary says so.
    #[serde(default)]
    pub trusted: bool,
    /// Use it though it says itself that it is out of date: for archives.
    #[serde(default)]
    pub expired: bool,
    /// Its packages are preferred to those of repositories with a lower number, whatever their versions.
    #[serde(default)]
    pub priority: i32,
    /// Whether an image that takes a package from it gets its essential packages too.
    #[serde(default = "yes")]
    pub essential: bool,
    /// For Debian's format: fetch the lists of files too, so that `find` can look for paths.
    #[serde(default)]
    pub contents: bool,
    /// Architectures it is used for; none named: any.
    #[serde(default)]
    pub architectures: Vec<Architecture>,
}

fn yes() -> bool {
    true
}

/// How a repository is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RepositoryFormat {
    /// `dists/`, `InRelease`, `Packages` and `.deb` files.
    Debian,
    /// What `embrak publish` writes.
    Embrak,
}

/// What an image or the workspace wants otherwise about one recipe.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RecipeSettings {
    /// Options to switch on and off.
    #[serde(default)]
    pub options: BTreeMap<Name, bool>,
    /// Environment variables of its steps.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Steps to run instead of its own.
    #[serde(default)]
    pub steps: StepsDef,
}

/// A parameter: its value, or a table about it.
#[derive(JsonSchema)]
#[schemars(untagged)]
#[expect(dead_code, reason = "only its schema is used: parameters are read before the rest")]
enum ParamForm {
    Value(String),
    Table(ParamTable),
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
#[expect(dead_code, reason = "only its schema is used")]
struct ParamTable {
    /// Its value when nothing gives another.
    default: Option<String>,
    /// What it is for.
    help: Option<String>,
    /// Whether it is an error that nothing gives a value.
    required: Option<bool>,
    /// Whether it must never reach anything that is built or recorded.
    secret: Option<bool>,
}

/// A change to a definition of a layer.
#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
#[expect(dead_code, reason = "only its schema is used: amendments are read as values")]
pub(crate) struct AmendmentForm {
    /// `image:NAME`, `board:NAME` or `recipe:NAME`.
    #[schemars(regex(pattern = r"^(image|board|recipe):.+$"))]
    amends: String,
    /// Only for these targets.
    when: Option<WhenForm>,
    /// Whether it is no error that there is nothing of that name.
    optional: Option<bool>,
    /// Values to replace.
    set: Option<serde_json::Map<String, serde_json::Value>>,
    /// Values to append to lists, keys to put into tables.
    add: Option<serde_json::Map<String, serde_json::Value>>,
    /// Values and keys to remove.
    drop: Option<serde_json::Map<String, serde_json::Value>>,
}

#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
#[expect(dead_code, reason = "only its schema is used")]
struct WhenForm {
    /// Architectures.
    architecture: Option<OneOrMany>,
    /// Boards.
    board: Option<OneOrMany>,
}

#[derive(JsonSchema)]
#[schemars(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

/// What builds recipes.
#[derive(Debug, Clone, PartialEq, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ToolchainDef {
    /// Programs of the host that recipes may ask for: read-only, digested and recorded.
    #[serde(default)]
    pub host: Vec<Located<String>>,
}

/// A directory of definitions that can be shared.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LayerDef {
    /// Its name.
    pub layer: Name,
    /// Its version.
    #[schemars(with = "String")]
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
