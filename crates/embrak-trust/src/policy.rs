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
    policy: Vec<FileRule>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileSigner {
    key: PathBuf,
    may: Vec<StatementKind>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileRule {
    images: Vec<String>,
    require: BTreeMap<StatementKind, usize>,
}

/// Somebody who may say something.
#[derive(Debug, Clone)]
pub struct Signer {
    /// The name the policy gives.
    pub name: String,
    /// Their key.
    pub key: PublicKey,
    /// What they may say.
    pub may: Vec<StatementKind>,
}

/// What has to be said about some images.
#[derive(Debug, Clone)]
pub struct PolicyRule {
    /// The globs as written.
    pub images: Vec<String>,
    matchers: Vec<GlobMatcher>,
    /// How many different signers have to say each kind.
    pub require: BTreeMap<StatementKind, usize>,
}

/// A policy.
#[derive(Debug, Clone)]
pub struct Policy {
    /// Who may say something.
    pub signers: Vec<Signer>,
    rules: Vec<PolicyRule>,
}

impl Policy {
    /// One key, trusted to say how anything was made: what is meant when only a key is given.
    pub fn of_key(name: &str, key: PublicKey) -> Self {
        let signer = Signer { name: name.to_string(), key, may: vec![StatementKind::Provenance] };
        let everything = PolicyRule {
            images: vec!["*".into()],
            matchers: Glob::new("*").map(|g| g.compile_matcher()).into_iter().collect(),
            require: [(StatementKind::Provenance, 1)].into(),
        };
        Policy { signers: vec![signer], rules: vec![everything] }
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
            signers.push(Signer { name, key, may: signer.may });
        }
        let mut rules = Vec::new();
        for rule in file.policy {
            let mut matchers = Vec::new();
            for glob in &rule.images {
                matchers.push(Glob::new(glob).map_err(|e| fail(e.to_string()))?.compile_matcher());
            }
            if rule.require.values().any(|n| *n == 0) {
                return Err(fail("a rule requires nothing: 0 signers".into()));
            }
            rules.push(PolicyRule { images: rule.images, matchers, require: rule.require });
        }
        Ok(Policy { signers, rules })
    }

    /// The rules that speak of an image.
    pub fn rules_for<'a>(&'a self, image: &'a str) -> impl Iterator<Item = &'a PolicyRule> {
        self.rules.iter().filter(move |rule| rule.matchers.iter().any(|m| m.is_match(image)))
    }
}
