//! Evidence: signed statements beside an artifact, in `NAME.evidence.jsonl`.

use crate::error::{Doing, EngineError, Result};
use crate::outputs::{OutputFile, artifact_digest, write_beside};
use crate::provenance::Provenance;
use crate::record::{RunRecord, find_run};
use crate::reproduce::Reproduction;
use embrak_oci::Referrer;
use embrak_store::Store;
use embrak_tree::Digest;
use embrak_trust::{
    BILL_CYCLONEDX, BILL_SPDX, CHECKS, Checked, Envelope, KeyId, PROVENANCE, Policy, REPRODUCTION, SigningKey,
    Statement, Subject, Subjects, read_evidence, verify,
};
use serde_json::json;
use std::path::{Path, PathBuf};

/// What was signed.
#[derive(Debug, Clone)]
pub struct SignReport {
    /// The artifact.
    pub path: PathBuf,
    /// The evidence file.
    pub evidence: PathBuf,
    /// Digest of the artifact.
    pub artifact: Digest,
    /// The run it came from, when this store has it.
    pub run: Option<i64>,
    /// Who signed.
    pub key: KeyId,
}

/// Where the evidence of an artifact lies.
pub fn evidence_path(artifact: &Path) -> PathBuf {
    let mut name = artifact.file_name().unwrap_or_default().to_os_string();
    name.push(".evidence.jsonl");
    artifact.with_file_name(name)
}

/// Signs how an artifact was made, as its run recorded it. An older statement of the same kind by the same key is
/// replaced; all others stay.
///
/// # Errors
/// No run on record has made the artifact, or the evidence cannot be written.
pub fn sign(store: &Store, path: &Path, key: &SigningKey) -> Result<SignReport> {
    let artifact = known_digest(store, path)?;
    let (row, record) = find_run(store, None, Some(&artifact))?;
    let output = output_of(&record, &artifact)?;
    let bill = crate::bill::bill_of_run(store, &record, output)?;
    let about = |kind: &str, predicate| Statement::new(subject(path, output), kind, predicate);
    let statements = [
        about(PROVENANCE, Provenance::of(&row, &record, output).predicate()),
        about(BILL_SPDX, bill.spdx()),
        about(BILL_CYCLONEDX, bill.cyclonedx()),
    ];
    let evidence = append(path, &statements, key)?;
    Ok(SignReport { path: path.to_path_buf(), evidence, artifact, run: Some(row.id), key: key.public().id() })
}

/// Signs that an artifact was made again, and with which result.
///
/// # Errors
/// The evidence cannot be written.
pub fn sign_reproduction(
    store: &Store,
    path: &Path,
    reproduction: &Reproduction,
    key: &SigningKey,
) -> Result<SignReport> {
    let artifact = known_digest(store, path)?;
    let Some(output) = reproduction.outputs.iter().find(|o| o.expected == artifact) else {
        return Err(EngineError::other(
            format!("{} was not among what was made again", path.display()),
            "reproduce this file",
        ));
    };
    let predicate = json!({
        "result": if output.identical { "identical" } else { "different" },
        "tool": { "name": "embrak", "version": reproduction.tool },
        "originalTool": reproduction.original_tool,
        "writers": reproduction.writers,
        "otherWriters": reproduction.other_writers,
        "variations": reproduction.variations,
        "rebuilt": output.found.map(|d| json!({ "sha256": d.hex() })),
        "packages": { "identical": reproduction.packages.iter().filter(|p| p.identical).count(), "all": reproduction.packages.len() },
    });
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let statement = Statement::new(Subject::new(&name, &artifact, &output.tree), REPRODUCTION, predicate);
    let evidence = append(path, &[statement], key)?;
    Ok(SignReport { path: path.to_path_buf(), evidence, artifact, run: reproduction.run, key: key.public().id() })
}

/// Signs that an artifact was started and checked, and with which result.
///
/// # Errors
/// No run on record has made the artifact, or the evidence cannot be written.
pub fn sign_checks(store: &Store, path: &Path, report: &crate::BootReport, key: &SigningKey) -> Result<SignReport> {
    let artifact = known_digest(store, path)?;
    let (row, record) = find_run(store, None, Some(&artifact))?;
    let output = output_of(&record, &artifact)?;
    let named = |met: bool| -> Vec<&str> {
        report.checks.iter().filter(|(_, when)| when.is_some() == met).map(|(text, _)| text.as_str()).collect()
    };
    let predicate = json!({
        "result": if report.good() { "PASSED" } else { "FAILED" },
        "configuration": [{ "name": "console checks of the image", "digest": { "sha256": record.lock.hex() } }],
        "passedTests": named(true),
        "failedTests": named(false),
    });
    let evidence = append(path, &[Statement::new(subject(path, output), CHECKS, predicate)], key)?;
    Ok(SignReport { path: path.to_path_buf(), evidence, artifact, run: Some(row.id), key: key.public().id() })
}

/// The digest of a file we have written ourselves and that has not changed since, without reading it again.
pub(crate) fn known_digest(store: &Store, path: &Path) -> Result<Digest> {
    if path.is_dir() { artifact_digest(path) } else { Ok(store.host_file(path, false)?.0) }
}

pub(crate) fn output_of<'a>(record: &'a RunRecord, artifact: &Digest) -> Result<&'a OutputFile> {
    record
        .outputs
        .iter()
        .find(|o| o.artifact == *artifact)
        .ok_or_else(|| EngineError::other(format!("the run did not make {artifact}"), "build it again"))
}

pub(crate) fn subject(path: &Path, output: &OutputFile) -> Subject {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    Subject::new(&name, &output.artifact, &output.tree)
}

/// Puts statements behind what others have said; what the same key said of the same kind before is replaced.
pub(crate) fn append(path: &Path, statements: &[Statement], key: &SigningKey) -> Result<PathBuf> {
    let evidence = evidence_path(path);
    let signed =
        |s: &Statement| Envelope::sign(s, key).map_err(|e| EngineError::other(e.to_string(), "look at the key"));
    let envelopes = statements.iter().map(signed).collect::<Result<Vec<_>>>()?;
    let before = match std::fs::read_to_string(&evidence) {
        Ok(text) => read_evidence(&text).map_err(|why| {
            EngineError::other(
                format!("{}: {why}", evidence.display()),
                "move the damaged file away; what it said has to be signed again",
            )
        })?,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let inside = crate::layout::statements(path)?.unwrap_or_default();
            inside.iter().filter_map(|line| Envelope::from_line(line).ok()).collect()
        }
        Err(error) => return Err(error).doing("read", &evidence),
    };
    let replaced = |old: &Envelope| {
        let same = |s: &Statement| statements.iter().any(|new| new.predicate_type == s.predicate_type);
        old.signed_by(&key.public()) && old.statement().is_ok_and(|s| same(&s))
    };
    let lines: String =
        before.iter().filter(|old| !replaced(old)).chain(&envelopes).map(|e| e.to_line() + "\n").collect();
    write_beside(&evidence, lines.as_bytes())?;
    if crate::layout::is_layout(path) {
        let said = |line: &str| {
            let statement = Envelope::from_line(line).ok().and_then(|e| e.statement().ok());
            let predicate_type = statement.map(|s| s.predicate_type).unwrap_or_default();
            Referrer { envelope: line.to_string(), predicate_type }
        };
        crate::layout::put_statements(path, &lines.lines().map(said).collect::<Vec<_>>())?;
    }
    Ok(evidence)
}

/// Checks an artifact's evidence against a policy.
///
/// # Errors
/// The artifact or its evidence cannot be read; everything else is in the result.
pub fn verify_artifact(path: &Path, evidence: Option<&Path>, policy: &Policy) -> Result<(Digest, Checked)> {
    let artifact = artifact_digest(path)?;
    Ok((artifact, verify_known(path, &artifact, evidence, policy)?))
}

/// The same, for an artifact whose digest has been taken already.
///
/// # Errors
/// The evidence cannot be read.
pub fn verify_known(path: &Path, artifact: &Digest, evidence: Option<&Path>, policy: &Policy) -> Result<Checked> {
    let (_, text) = evidence_text(path, evidence)?;
    let subject = Subjects {
        name: path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        artifact: *artifact,
        image: None,
    };
    Ok(verify(&subject, &text, policy))
}

/// The evidence of an artifact, and where it is from: the file given, or the one beside.
pub(crate) fn evidence_text(path: &Path, evidence: Option<&Path>) -> Result<(PathBuf, String)> {
    let evidence = evidence.map_or_else(|| evidence_path(path), Path::to_path_buf);
    let bytes = match std::fs::read(&evidence) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            // A layout that was carried elsewhere has its evidence with it.
            if let Some(inside) = crate::layout::statements(path)?.filter(|s| !s.is_empty()) {
                return Ok((path.to_path_buf(), inside.join("\n") + "\n"));
            }
            return Err(EngineError::other(
                format!("{} has no evidence: {} is not there", path.display(), evidence.display()),
                "get it from whoever made the artifact, or make it with `embrak sign`",
            ));
        }
        Err(error) => return Err(error).doing("read", &evidence),
    };
    // What is not UTF-8 cannot be JSON; replacing what is wrong makes the check fail in words.
    let text = String::from_utf8_lossy(&bytes).into_owned();
    Ok((evidence, text))
}
