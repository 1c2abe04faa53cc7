//! `trust.toml`: which keys may say what about which images, and what has to be said.

use crate::{KeyId, PublicKey, StatementKind};
use globset::{Glob, GlobMatcher};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Why a policy cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum PolicyError {
    /// The file cannot be read.
    #[error("cannot read the policy {path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// The file is not a policy.
    #[error("{path} is not a policy: {why}")]
    Format {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// A key it names cannot be used.
    #[error("signer `{signer}` of the policy: {source}")]
    Key {
        /// Which signer.
        signer: String,
        /// Why.
        source: crate::KeyError,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    signer: BTreeMap<String, FileSigner>,
    #[serde(default)]
    revoked: Vec<FileRevoked>,
    #[serde(default)]
    policy: Vec<FileRule>,
    definitions: Option<FileDefinitions>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileDefinitions {
    #[serde(default)]
    lock: usize,
    #[serde(default)]
    layer: Vec<FileLayers>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileLayers {
    names: Vec<String>,
    signers: usize,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileSigner {
    key: PathBuf,
    may: Vec<StatementKind>,
    until: Option<toml::value::Datetime>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileRevoked {
    key: String,
    reason: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct FileRule {
    images: Vec<String>,
    require: BTreeMap<StatementKind, usize>,
    made_after: Option<toml::value::Datetime>,
    made_before: Option<toml::value::Datetime>,
    repositories: Option<Vec<String>>,
    layers: Option<Vec<String>>,
    #[serde(default)]
    forbidden_licenses: Vec<String>,
}

/// A day.
pub type Day = jiff::civil::Date;

/// Somebody who may say something.
#[derive(Debug, Clone)]
pub struct Signer {
    /// The name the policy gives.
    pub name: String,
    /// Their key.
    pub key: PublicKey,
    /// What they may say.
    pub may: Vec<StatementKind>,
    /// The last day their key is believed.
    pub until: Option<Day>,
}

/// What has to be said about some images.
#[derive(Debug, Clone)]
pub struct PolicyRule {
    /// The globs as written.
    pub images: Vec<String>,
    matchers: Vec<GlobMatcher>,
    /// How many different signers have to say each kind.
    pub require: BTreeMap<StatementKind, usize>,
    /// The first day it may have been made.
    pub made_after: Option<Day>,
    /// The last day it may have been made.
    pub made_before: Option<Day>,
    /// Repositories its packages may come from.
    pub repositories: Option<Vec<String>>,
    /// Layers its definitions may come from.
    pub layers: Option<Vec<String>>,
    /// Licences, by SPDX identifier, that nothing in it may be under.
    pub forbidden_licenses: Vec<String>,
}

/// A policy.
#[derive(Debug, Clone)]
pub struct Policy {
    /// Who may say something.
    pub signers: Vec<Signer>,
    /// Keys that are not believed any more, by whole identity or its beginning, and why.
    pub revoked: Vec<(String, String)>,
    /// The day it is: keys end.
    pub today: Day,
    rules: Vec<PolicyRule>,
    /// How many have to sign the lock.
    lock: usize,
    /// How many have to sign layers of these names.
    layers: Vec<(Vec<GlobMatcher>, usize)>,
}

fn today() -> Day {
    jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date()
}

/// The day of a written date or time.
fn day(written: &toml::value::Datetime) -> Result<Day, String> {
    let text = written.to_string();
    let date = text.split(['T', ' ']).next().unwrap_or_default();
    date.parse().map_err(|e| format!("`{text}` is no day: {e}"))
}

fn compiled(globs: &[String]) -> Result<Vec<GlobMatcher>, String> {
    globs.iter().map(|glob| Ok(Glob::new(glob).map_err(|e| e.to_string())?.compile_matcher())).collect()
}

impl Policy {
    /// Why a key is not believed any more, if it is not.
    pub fn distrust(&self, signer: &Signer) -> Option<String> {
        let id = signer.key.id().0;
        let name = &signer.name;
        if let Some((_, reason)) = self.revoked.iter().find(|(known, _)| id.starts_with(known.as_str())) {
            return Some(format!("the key of {name} is revoked: {reason}"));
        }
        let until = signer.until.filter(|until| *until < self.today)?;
        Some(format!("the key of {name} was good until {until}"))
    }

    /// One key, trusted to say how anything was made: what is meant when only a key is given.
    pub fn of_key(name: &str, key: PublicKey) -> Self {
        let may =
            [StatementKind::Provenance, StatementKind::Bill, StatementKind::Checks, StatementKind::Release].to_vec();
        let signer = Signer { name: name.to_string(), key, may, until: None };
        let everything = PolicyRule {
            images: vec!["*".into()],
            matchers: Glob::new("*").map(|g| g.compile_matcher()).into_iter().collect(),
            require: [(StatementKind::Provenance, 1)].into(),
            made_after: None,
            made_before: None,
            repositories: None,
            layers: None,
            forbidden_licenses: Vec::new(),
        };
        Policy {
            signers: vec![signer],
            revoked: Vec::new(),
            today: today(),
            rules: vec![everything],
            lock: 0,
            layers: Vec::new(),
        }
    }

    /// Reads a policy; keys lie relative to it.
    ///
    /// # Errors
    /// It cannot be read, is not a policy, or names a key that cannot be used.
    pub fn load(path: &Path) -> Result<Self, PolicyError> {
        let text =
            std::fs::read_to_string(path).map_err(|source| PolicyError::Io { path: path.to_path_buf(), source })?;
        let fail = |why: String| PolicyError::Format { path: path.to_path_buf(), why };
        let file: File = toml::from_str(&text).map_err(|e| fail(e.to_string()))?;
        let base = path.parent().unwrap_or(Path::new("."));
        let mut signers = Vec::new();
        let mut ids: BTreeMap<KeyId, String> = BTreeMap::new();
        for (name, signer) in file.signer {
            let key = PublicKey::load(&base.join(&signer.key))
                .map_err(|source| PolicyError::Key { signer: name.clone(), source })?;
            if let Some(other) = ids.insert(key.id(), name.clone()) {
                // Two names for one key would let one person count twice.
                return Err(fail(format!("signers `{other}` and `{name}` have the same key")));
            }
            let until = signer.until.as_ref().map(|d| day(d).map_err(&fail)).transpose()?;
            signers.push(Signer { name, key, may: signer.may, until });
        }
        let mut rules = Vec::new();
        for rule in file.policy {
            let matchers = compiled(&rule.images).map_err(&fail)?;
            if rule.require.values().any(|n| *n == 0) {
                return Err(fail("a rule requires nothing: 0 signers".into()));
            }
            let read = |d: &Option<toml::value::Datetime>| d.as_ref().map(|d| day(d).map_err(&fail)).transpose();
            rules.push(PolicyRule {
                images: rule.images,
                matchers,
                require: rule.require,
                made_after: read(&rule.made_after)?,
                made_before: read(&rule.made_before)?,
                repositories: rule.repositories,
                layers: rule.layers,
                forbidden_licenses: rule.forbidden_licenses,
            });
        }
        let mut revoked = Vec::new();
        for entry in file.revoked {
            if entry.key.len() < 12 || !entry.key.bytes().all(|b| b.is_ascii_hexdigit()) {
                return Err(fail(format!("`{}` is no key id: at least 12 hexadecimal digits", entry.key)));
            }
            revoked.push((entry.key.to_lowercase(), entry.reason));
        }
        let (mut lock, mut layers) = (0, Vec::new());
        if let Some(definitions) = file.definitions {
            lock = definitions.lock;
            for rule in definitions.layer {
                layers.push((compiled(&rule.names).map_err(&fail)?, rule.signers));
            }
        }
        Ok(Policy { signers, revoked, today: today(), rules, lock, layers })
    }

    /// Reads a policy if it asks anything of definitions: signed layers or a signed lock. A workspace without such a
    /// policy, or without any, is none.
    ///
    /// # Errors
    /// As [`Policy::load`].
    pub fn of_definitions(path: &Path) -> Result<Option<Self>, PolicyError> {
        #[derive(Deserialize)]
        struct Only {
            definitions: Option<toml::Table>,
        }
        // Whatever else is wrong with it is told when it is used.
        let text = std::fs::read_to_string(path).unwrap_or_default();
        let asks = toml::from_str::<Only>(&text).is_ok_and(|only| only.definitions.is_some());
        if asks { Policy::load(path).map(Some) } else { Ok(None) }
    }

    /// How many signers a layer or a lock has to have.
    pub fn signers_of(&self, kind: StatementKind, name: &str) -> usize {
        match kind {
            StatementKind::Lock => self.lock,
            StatementKind::Layer => {
                let of = |globs: &[GlobMatcher]| globs.iter().any(|g| g.is_match(name));
                self.layers.iter().filter(|(globs, _)| of(globs)).map(|(_, signers)| *signers).max().unwrap_or(0)
            }
            _ => 0,
        }
    }

    /// The rules that speak of an image.
    pub fn rules_for<'a>(&'a self, image: &'a str) -> impl Iterator<Item = &'a PolicyRule> {
        self.rules.iter().filter(move |rule| rule.matchers.iter().any(|m| m.is_match(image)))
    }
}
