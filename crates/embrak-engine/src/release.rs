//! The log of what was released from a store: append-only, with signed heads and proofs beside each artifact.

use crate::error::{Doing, EngineError, Result};
use crate::evidence::{append, known_digest, output_of, subject};
use crate::outputs::write_beside;
use crate::record::find_run;
use embrak_store::Store;
use embrak_tree::Digest;
use embrak_trust::log::{Head, Released, consistency, inclusion, is_consistent, leaf, root};
use embrak_trust::{Envelope, PublicKey, RELEASE, SigningKey, Statement};
use serde_json::{Value, json};
use std::fs::File;
use std::path::PathBuf;

/// Type of a signed head.
const HEAD_TYPE: &str = "application/vnd.embrak.log-head+json";

/// A log as it lies in a store.
pub struct ReleaseLog {
    dir: PathBuf,
    /// The entries as they are written.
    pub entries: Vec<String>,
    /// The newest signed head.
    pub head: Option<Head>,
}

fn rewritten(why: &str) -> EngineError {
    EngineError::other(
        format!("the log of releases was rewritten: {why}"),
        "do not release from this store; compare its `releases` directory with a copy, and ask who has changed it",
    )
}

fn damaged(why: &dyn std::fmt::Display) -> EngineError {
    EngineError::other(format!("the head of the log cannot be read: {why}"), "get it again")
}

/// A head and the envelope it is in.
fn signed_head(text: &str) -> Result<(Head, Envelope)> {
    let envelope = Envelope::from_line(text.trim_end_matches('\n')).map_err(|e| damaged(&e))?;
    let payload = envelope.unverified_payload().map_err(|e| damaged(&e))?;
    let value: Value = serde_json::from_slice(&payload).map_err(|e| damaged(&e))?;
    let head = serde_json::from_value(value["head"].clone()).map_err(|e| damaged(&e))?;
    Ok((head, envelope))
}

impl ReleaseLog {
    /// Reads the log of a store, and checks that its entries are what the newest head was signed over.
    ///
    /// # Errors
    /// It cannot be read, or was rewritten.
    pub fn open(store: &Store) -> Result<ReleaseLog> {
        let dir = store.root().join("releases");
        let read = |name: &str| {
            let path = dir.join(name);
            match std::fs::read_to_string(&path) {
                Ok(text) => Ok(Some(text)),
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
                Err(error) => Err(error).doing("read", &path),
            }
        };
        let head = read("head.json")?.map(|text| signed_head(&text)).transpose()?.map(|(head, _)| head);
        let text = read("log.jsonl")?.unwrap_or_default();
        let mut entries: Vec<String> = text.lines().map(str::to_string).collect();
        let size = head.as_ref().map_or(0, |h| h.size as usize);
        if entries.len() < size {
            return Err(rewritten(&format!("{} entries are there, its head was signed over {size}", entries.len())));
        }
        // What was written and never signed was interrupted; it stands nowhere else.
        entries.truncate(size);
        let log = ReleaseLog { dir, entries, head };
        if let Some(head) = &log.head
            && root(&log.leaves()) != head.root
        {
            return Err(rewritten("its entries are not those its head was signed over"));
        }
        Ok(log)
    }

    /// The hashes of the entries.
    pub fn leaves(&self) -> Vec<Digest> {
        self.entries.iter().map(|e| leaf(e.as_bytes())).collect()
    }

    /// Whether an older head, as somebody has kept it, is the beginning of this log; it has to be signed by one of the
    /// keys, when any are given.
    ///
    /// # Errors
    /// It is not, or is signed by none of the keys.
    pub fn continues(&self, kept: &str, keys: &[PublicKey]) -> Result<Head> {
        let (old, envelope) = signed_head(kept)?;
        if !keys.is_empty() && envelope.opened_by(HEAD_TYPE, keys).is_none() {
            return Err(EngineError::other(
                "the kept head is signed by none of the given keys",
                "give its signer's key",
            ));
        }
        let leaves = self.leaves();
        let new = Head::of(&leaves);
        if old.size > new.size {
            return Err(rewritten(&format!("the kept head has {} entries, the log only {}", old.size, new.size)));
        }
        let proof = consistency(old.size as usize, &leaves);
        if !is_consistent(old.size, new.size, &proof, &old.root, &new.root) {
            let why = format!("its first {} entries are not those of the kept head: it was forked", old.size);
            return Err(rewritten(&why));
        }
        Ok(old)
    }

    fn write(&mut self, entry: String, key: &SigningKey) -> Result<Released> {
        let previous = Head::of(&self.leaves());
        self.entries.push(entry.clone());
        let leaves = self.leaves();
        let head = Head::of(&leaves);
        let index = leaves.len() - 1;
        let payload = json!({ "embrakLog": 1, "head": head }).to_string();
        let signed = Envelope::sign_bytes(HEAD_TYPE, payload.as_bytes(), key)
            .map_err(|e| EngineError::other(e.to_string(), "look at the key"))?;
        let text: String = self.entries.iter().map(|e| format!("{e}\n")).collect();
        // The entries first: an entry without its head is as if it had not been written.
        write_beside(&self.dir.join("log.jsonl"), text.as_bytes())?;
        write_beside(&self.dir.join("head.json"), (signed.to_line() + "\n").as_bytes())?;
        self.head = Some(head.clone());
        Ok(Released {
            entry,
            index: index as u64,
            inclusion: inclusion(index, &leaves),
            consistency: consistency(previous.size as usize, &leaves),
            head,
            previous,
        })
    }
}

/// Puts artifacts into the log of a store and the proof of it into their evidence.
///
/// # Errors
/// The log was rewritten, no run has made an artifact, or something cannot be written.
pub fn release(store: &Store, paths: &[PathBuf], key: &SigningKey) -> Result<Vec<(PathBuf, Released)>> {
    let dir = store.root().join("releases");
    std::fs::create_dir_all(&dir).doing("make", &dir)?;
    // Two releases at once take turns.
    let lock_path = dir.join(".lock");
    let lock = File::options().create(true).append(true).open(&lock_path).doing("open", &lock_path)?;
    lock.lock().doing("lock", &lock_path)?;
    let mut log = ReleaseLog::open(store)?;
    let mut out = Vec::new();
    for path in paths {
        let artifact = known_digest(store, path)?;
        let (_, record) = find_run(store, None, Some(&artifact))?;
        let output = output_of(&record, &artifact)?;
        let time = jiff::Timestamp::now().as_second();
        let entry = json!({
            "artifact": artifact, "tree": output.tree, "name": output.name, "image": output.image,
            "target": output.target, "time": time, "key": key.public().id(),
        });
        let released = log.write(entry.to_string(), key)?;
        let predicate = serde_json::to_value(&released).unwrap_or_default();
        append(path, &[Statement::new(subject(path, output), RELEASE, predicate)], key)?;
        out.push((path.clone(), released));
    }
    Ok(out)
}

/// Where the newest signed head of a store's log lies, to be given to others.
pub fn head_path(store: &Store) -> PathBuf {
    store.root().join("releases/head.json")
}
