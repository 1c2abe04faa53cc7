//! Layers and locks that carry signatures, as the workspace's policy asks.

use crate::error::{Doing, EngineError, Result};
use crate::evidence::{append, evidence_path, evidence_text};
use crate::lock::Lock;
use crate::{Engine, sources};
use embrak_tree::{Digest, Tree, TreePath};
use embrak_trust::{
    Check, Checked, Definition, LAYER, LOCK, Policy, SigningKey, Statement, StatementKind, Subject, verify_definition,
};
use std::path::{Path, PathBuf};

/// Where the signatures of a layer lie, in it. They are no part of what is signed.
pub(crate) const LAYER_EVIDENCE: &str = "layer.evidence.jsonl";

const LOCK_NAME: &str = "embrak.lock";

/// Whether a path is a layer's or a lock's rather than an artifact's.
pub fn is_definition(path: &Path) -> bool {
    path.join("layer.toml").is_file() || path.file_name().is_some_and(|name| name == LOCK_NAME)
}

/// Takes a layer's signatures out of its tree.
pub(crate) fn without_evidence(tree: &mut Tree) -> Result<()> {
    let path = TreePath::from_relative(LAYER_EVIDENCE).map_err(|e| EngineError::other(e.to_string(), ""))?;
    tree.remove(&path);
    Ok(())
}

/// The digest of a layer's files, whatever their times and owners are.
fn layer_digest(dir: &Path) -> Result<Digest> {
    let mut tree = sources::directory_tree(sources::Contents::Digest, dir, 0, sources::Metadata::Plain)?;
    without_evidence(&mut tree)?;
    Ok(tree.digest())
}

/// A layer or a lock as it lies there.
///
/// # Errors
/// It cannot be read, or is neither.
pub fn definition(path: &Path) -> Result<Definition> {
    if path.is_dir() {
        let file = path.join("layer.toml");
        let text = std::fs::read_to_string(&file).doing("read", &file)?;
        let name = text.parse::<toml::Table>().ok().and_then(|t| Some(t.get("layer")?.as_str()?.to_string()));
        let name = name.ok_or_else(|| {
            EngineError::other(format!("{} does not say `layer = \"NAME\"`", file.display()), "correct it")
        })?;
        return Ok(Definition { kind: StatementKind::Layer, name, digest: layer_digest(path)? });
    }
    let text = std::fs::read(path).doing("read", path)?;
    Ok(Definition { kind: StatementKind::Lock, name: LOCK_NAME.into(), digest: Digest::of(text) })
}

/// Where a layer's or lock's signatures are said to belong: what [`append`] writes beside.
fn signed_path(path: &Path) -> PathBuf {
    if path.is_dir() { path.join("layer") } else { path.to_path_buf() }
}

/// Signs a layer or a lock. What the same key said before of another state of it is replaced.
///
/// # Errors
/// It cannot be read or its evidence not written.
pub fn sign_definition(path: &Path, key: &SigningKey) -> Result<(Definition, PathBuf)> {
    let definition = definition(path)?;
    let (subject, kind) = match definition.kind {
        StatementKind::Layer => (Subject::of_tree(&definition.name, &definition.digest), LAYER),
        _ => (Subject::of_file(&definition.name, &definition.digest), LOCK),
    };
    let evidence = append(&signed_path(path), &[Statement::new(subject, kind, serde_json::json!({}))], key)?;
    Ok((definition, evidence))
}

/// Checks a layer or a lock against a policy.
///
/// # Errors
/// It cannot be read.
pub fn check_definition(path: &Path, policy: &Policy) -> Result<(Definition, Checked)> {
    let definition = definition(path)?;
    let checked = check(&definition, path, policy)?;
    Ok((definition, checked))
}

fn check(definition: &Definition, path: &Path, policy: &Policy) -> Result<Checked> {
    let beside = signed_path(path);
    let text = match evidence_path(&beside).exists() {
        true => Some(evidence_text(&beside, None)?.1),
        false => None,
    };
    Ok(verify_definition(definition, text.as_deref(), policy))
}

fn refused(definition: &Definition, checked: &Checked, advice: String) -> EngineError {
    let not_met = |c: &Check| format!("  {}: {}", c.rule, c.because);
    let why: Vec<String> = checked.checks.iter().filter(|c| !c.good).map(not_met).collect();
    EngineError::other(
        format!("the policy of this workspace does not let {} be used:\n{}", definition.name, why.join("\n")),
        advice,
    )
}

/// Refuses when a layer is not signed as the workspace's policy asks.
pub(crate) fn demand_layers(engine: &Engine<'_>) -> Result<()> {
    let Some(policy) = &engine.demands else { return Ok(()) };
    for layer in &engine.workspace.layers {
        let name = layer.def.layer.to_string();
        if policy.signers_of(StatementKind::Layer, &name) == 0 {
            continue;
        }
        let definition = Definition { kind: StatementKind::Layer, name, digest: layer_digest(&layer.dir)? };
        let checked = check(&definition, &layer.dir, policy)?;
        if !checked.good() {
            return Err(refused(
                &definition,
                &checked,
                format!("look at what changed in it, then `embrak sign {} --key FILE`", layer.path),
            ));
        }
    }
    Ok(())
}

/// Refuses when the lock something is built by is not signed as the workspace's policy asks.
pub(crate) fn demand_lock(engine: &Engine<'_>, lock: &Lock) -> Result<()> {
    let Some(policy) = &engine.demands else { return Ok(()) };
    if policy.signers_of(StatementKind::Lock, LOCK_NAME) == 0 {
        return Ok(());
    }
    let definition = Definition { kind: StatementKind::Lock, name: LOCK_NAME.into(), digest: lock.digest() };
    let checked = check(&definition, &engine.workspace.root.join(LOCK_NAME), policy)?;
    if checked.good() {
        return Ok(());
    }
    let advice =
        "bring it up to date with `embrak lock`, look at what moved, then `embrak sign embrak.lock --key FILE`";
    Err(refused(&definition, &checked, advice.to_string()))
}
