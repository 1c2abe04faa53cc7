//! `recipe.toml`: how packages are made from sources.

use super::Architecture;
use crate::{Located, Name};
use embrak_resolve::Version;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How packages are made from sources.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RecipeDef {
    /// Name of the main package.
    pub name: Located<Name>,
    /// Upstream version.
    #[schemars(with = "String")]
    pub version: Located<Version>,
    /// Our revision of it, from 1.
    #[serde(default = "one")]
    pub revision: u32,
    /// One line about it.
    pub summary: String,
    /// SPDX licence expression.
    pub license: Located<String>,
    /// Architectures it can be built for; none named: any.
    #[serde(default)]
    pub architectures: Vec<Architecture>,
    /// Other names it can be required by, with or without `= VERSION`.
    #[serde(default)]
    pub provides: Vec<Located<String>>,
    /// What cannot be in an image with it.
    #[serde(default)]
    pub conflicts: Vec<Located<String>>,
    /// Where the sources come from, laid over one another in this order.
    #[serde(default)]
    pub source: Vec<SourceDef>,
    /// What it needs.
    #[serde(default)]
    pub needs: NeedsDef,
    /// What an image can switch on and off.
    #[serde(default)]
    pub option: BTreeMap<Name, OptionDef>,
    /// Fills in steps that are not written.
    pub method: Option<Method>,
    /// The commands.
    #[serde(default)]
    pub steps: StepsDef,
    /// Environment variables of the steps.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Seconds all steps together may take.
    pub time_limit: Option<super::Seconds>,
    /// Packages made of a part of the files.
    #[serde(default)]
    pub split: Vec<SplitDef>,
}

fn one() -> u32 {
    1
}

impl RecipeDef {
    /// The version packages carry: `VERSION-REVISION`.
    pub fn full_version(&self) -> String {
        format!("{}-{}", self.version.value, self.revision)
    }
}

/// One source.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SourceDef {
    /// A directory beside the recipe.
    pub dir: Located<String>,
    /// Unified diffs beside the recipe, applied in this order.
    #[serde(default)]
    pub patches: Vec<Located<String>>,
}

/// What a recipe needs, each a requirement such as `libgauge >= 0.3` or `syslog | journal`.
#[derive(Debug, Clone, PartialEq, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NeedsDef {
    /// Tools that run while building.
    #[serde(default)]
    pub build: Vec<Located<String>>,
    /// Libraries for the target, in the sysroot.
    #[serde(default)]
    pub link: Vec<Located<String>>,
    /// Packages that have to be in the image.
    #[serde(default)]
    pub run: Vec<Located<String>>,
}

/// Something an image can switch on and off.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OptionDef {
    /// Whether it is on when the image does not say.
    #[serde(default)]
    pub default: bool,
    /// One line about it.
    pub summary: String,
    /// What it needs when on.
    #[serde(default)]
    pub needs: NeedsDef,
    /// Environment variables of the steps when on.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
}

/// A usual way of building.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// `make`, then `make install DESTDIR="$OUT"`.
    Make,
    /// Nothing is run: the sources are the files of the package.
    Copy,
}

/// The commands, run in this order by `sh -eu` in the source directory. Empty: nothing to do.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct StepsDef {
    /// Before everything.
    pub prepare: Option<String>,
    /// Find out what the target has.
    pub configure: Option<String>,
    /// Make the programs.
    pub compile: Option<String>,
    /// Run the tests.
    pub check: Option<String>,
    /// Put the files into `$OUT`.
    pub install: Option<String>,
}

impl StepsDef {
    /// These steps, but those that `other` says.
    #[must_use]
    pub fn replaced_by(self, other: StepsDef) -> StepsDef {
        StepsDef {
            prepare: other.prepare.or(self.prepare),
            configure: other.configure.or(self.configure),
            compile: other.compile.or(self.compile),
            check: other.check.or(self.check),
            install: other.install.or(self.install),
        }
    }

    /// The steps by name in the order they run, the method's filled in, empty ones left out.
    pub fn in_order(&self, method: Option<Method>) -> Vec<(&'static str, String)> {
        let (compile, install) = match method {
            Some(Method::Make) => (Some("make -j\"$JOBS\""), Some("make install DESTDIR=\"$OUT\"")),
            Some(Method::Copy) | None => (None, None),
        };
        [
            ("prepare", &self.prepare, None),
            ("configure", &self.configure, None),
            ("compile", &self.compile, compile),
            ("check", &self.check, None),
            ("install", &self.install, install),
        ]
        .into_iter()
        .filter_map(|(name, written, default)| {
            let script = written.as_deref().or(default)?;
            (!script.trim().is_empty()).then(|| (name, script.to_string()))
        })
        .collect()
    }
}

/// A package made of a part of the files.
#[derive(Debug, Clone, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SplitDef {
    /// Its name.
    pub name: Located<Name>,
    /// One line about it.
    pub summary: String,
    /// Globs over absolute paths; `**` crosses directories.
    pub take: Vec<Located<String>>,
    /// What it needs in the image.
    #[serde(default)]
    pub run: Vec<Located<String>>,
}
