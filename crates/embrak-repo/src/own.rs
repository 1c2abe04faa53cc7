//! Our own repositories: a directory, or the same over any HTTP server.
//!
//! ```text
//!   repository.json                   a DSSE envelope around: name, date, the parts of the index by digest
//!   parts/<sha256>.jsonl.zst          package records, one JSON object in a line; never changed, only added
//!   packages/ab/<sha256>.embpkg       package files
//! ```
//!
//! Publishing adds a part and signs anew; who has read the repository before fetches only the new parts.

use crate::fetch::{FetchError, FetchItem, Fetcher};
use crate::index::{FORMAT, Index, IndexBuilder, cached};
use crate::package_file::{PackageHead, place, read_package, write_package};
use crate::record::{PackageRecord, Snapshot, SnapshotIndex, Syntax, Unpacked};
use crate::{Repository, RepositoryError, Result};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, HashingWriter, Tree};
use embrak_trust::{Envelope, PublicKey, SigningKey};
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::path::Path;
use std::sync::Arc;

/// The payload type of the signed document.
const PAYLOAD_TYPE: &str = "application/vnd.embrak.repository+json";
const HEAD: &str = "repository.json";
const HEAD_LIMIT: u64 = 16 << 20;
const PART_LIMIT: u64 = 1 << 30;

/// The signed document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
struct Head {
    embrak_repository: u32,
    name: String,
    date: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
struct Part {
    digest: Digest,
    size: u64,
    unpacked: u64,
    packages: usize,
}

fn part_path(digest: &Digest) -> String {
    format!("parts/{}.jsonl.zst", digest.hex())
}

/// A repository of this format, as a workspace declares it.
pub struct OwnRepository {
    /// As the workspace calls it.
    pub name: String,
    /// Where it is, without a slash at the end.
    pub url: String,
    /// The keys that may have signed it.
    pub keys: Vec<PublicKey>,
    /// Whether to use it whoever signed it.
    pub trusted: bool,
    /// The architecture of the packages to use, in our words.
    pub architecture: String,
    /// How its packages rank among others; lower is preferred.
    pub rank: u32,
}

impl OwnRepository {
    fn fail(&self, source: FetchError) -> RepositoryError {
        match source {
            FetchError::Store(e) => RepositoryError::Store(e),
            source => RepositoryError::Fetch { repository: self.name.clone(), source },
        }
    }

    fn damaged(&self, what: String) -> RepositoryError {
        RepositoryError::Damaged { repository: self.name.clone(), what }
    }

    fn item(&self, index: &SnapshotIndex) -> FetchItem {
        FetchItem {
            url: format!("{}/{}", self.url, index.path),
            digest: index.digest,
            size: index.size,
            label: format!("index of {}", self.name),
        }
    }
}

impl Repository for OwnRepository {
    fn name(&self) -> &str {
        &self.name
    }

    fn key(&self) -> Digest {
        let keys: Vec<String> = self.keys.iter().map(|k| k.id().to_string()).collect();
        Digest::of(serde_json::json!(["embrak", &self.url, keys, self.trusted, &self.architecture]).to_string())
    }

    fn refresh(&self, store: &Store, fetcher: &Fetcher) -> Result<Snapshot> {
        let bytes = fetcher.document(&format!("{}/{HEAD}", self.url), HEAD_LIMIT).map_err(|e| self.fail(e))?;
        let text = String::from_utf8_lossy(&bytes);
        let envelope = Envelope::from_line(text.trim_end()).map_err(|e| self.damaged(format!("{HEAD}: {e}")))?;
        let (payload, signed_by) = match envelope.opened_by(PAYLOAD_TYPE, &self.keys) {
            Some((payload, key)) => (payload, vec![key.id().to_string()]),
            None if self.trusted => {
                (envelope.unverified_payload().map_err(|e| self.damaged(format!("{HEAD}: {e}")))?, vec![])
            }
            None => {
                let what = match self.keys.len() {
                    0 => "no key is declared to check it with".to_string(),
                    _ => format!("{HEAD} is not signed by a declared key"),
                };
                return Err(RepositoryError::Untrusted { repository: self.name.clone(), what });
            }
        };
        let head: Head = serde_json::from_slice(&payload).map_err(|e| self.damaged(format!("{HEAD}: {e}")))?;
        if head.embrak_repository != 1 {
            return Err(self.damaged(format!("{HEAD} has format {}, known is 1", head.embrak_repository)));
        }
        let snapshot = Snapshot {
            digest: Digest::of(&payload),
            date: head.date,
            valid_until: None,
            signed_by,
            indexes: head
                .parts
                .iter()
                .map(|p| SnapshotIndex {
                    of: head.name.clone(),
                    path: part_path(&p.digest),
                    by_hash: None,
                    digest: p.digest,
                    size: p.size,
                    unpacked: Some(p.unpacked),
                    security: false,
                    files: false,
                })
                .collect(),
            documents: vec![store.put_bytes(&bytes)?],
        };
        let items: Vec<FetchItem> = snapshot.indexes.iter().map(|i| self.item(i)).collect();
        fetcher.all(store, &items).map_err(|e| self.fail(e))?;
        Ok(snapshot)
    }

    fn open(&self, store: &Store, fetcher: &Fetcher, snapshot: &Snapshot) -> Result<Vec<Arc<Index>>> {
        let items: Vec<FetchItem> = snapshot.indexes.iter().map(|i| self.item(i)).collect();
        fetcher.all(store, &items).map_err(|e| self.fail(e))?;
        let mut out = Vec::new();
        for entry in &snapshot.indexes {
            let key = Digest::of(format!("index {FORMAT} own {} {}", self.architecture, entry.digest));
            let origin = format!("{} index", self.name);
            let limit = entry.unpacked.unwrap_or(PART_LIMIT).min(PART_LIMIT);
            let index = cached(
                store,
                &key,
                |bytes| Index::load(bytes, &origin, self.rank, &self.architecture),
                || build(store, &entry.digest, &self.architecture, limit),
                |what| self.damaged(format!("{}: {what}", entry.path)),
            )?;
            out.push(Arc::new(index));
        }
        Ok(out)
    }

    fn url(&self, record: &PackageRecord) -> String {
        format!("{}/{}", self.url, record.path)
    }

    fn unpack(&self, store: &Store, record: &PackageRecord, file: &Path) -> Result<Unpacked> {
        let name = format!("{} {}", record.name, record.version);
        let fail = |what: String| RepositoryError::Package { package: name.clone(), what };
        let input = File::open(file).map_err(|e| fail(e.to_string()))?;
        let package = read_package(&name, BufReader::with_capacity(256 << 10, input), store)?;
        if (&package.head.name, &package.head.version) != (&record.name, &record.version) {
            return Err(fail(format!("the file holds {} {}", package.head.name, package.head.version)));
        }
        Ok(Unpacked {
            tree: package.tree,
            control: Tree::new(),
            conffiles: vec![],
            scripts: vec![],
            requires: package.head.requires,
            replaces: vec![],
        })
    }
}

/// Turns a part into the binary index.
fn build(store: &Store, digest: &Digest, architecture: &str, limit: u64) -> std::result::Result<Vec<u8>, String> {
    let object = store.open(digest).map_err(|e| e.to_string())?;
    let decoder = zstd::Decoder::new(object).map_err(|e| e.to_string())?;
    let mut reader = BufReader::new(decoder.take(limit));
    let mut builder = IndexBuilder::new(Syntax::Own, architecture);
    let mut line = String::new();
    for number in 1.. {
        line.clear();
        if reader.read_line(&mut line).map_err(|e| e.to_string())? == 0 {
            break;
        }
        let mut record: PackageRecord = serde_json::from_str(&line).map_err(|e| format!("line {number}: {e}"))?;
        let inside = !record.path.starts_with('/') && !record.path.split('/').any(|p| p == "..");
        if inside && (record.architecture == architecture || record.architecture == "any") {
            record.line = number;
            builder.add(&record);
        }
    }
    Ok(builder.finish())
}

/// What publishing did.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Published {
    /// Packages that are new in the repository: `NAME VERSION`.
    pub added: Vec<String>,
    /// Packages that were there already, with the same content.
    pub present: Vec<String>,
}

/// Puts packages into the repository in a directory, making it when it is not there, and signs it. `date` is the
/// present time as `2026-03-01T00:00:00Z`.
///
/// # Errors
/// The directory cannot be written, holds a repository another key signed, or has one of the packages with other
/// content.
pub fn publish(
    dir: &Path,
    name: &str,
    packages: &[(PackageHead, Tree)],
    blobs: &dyn BlobSource,
    key: &SigningKey,
    date: &str,
) -> Result<Published> {
    let damaged = |what: String| RepositoryError::Damaged { repository: name.to_string(), what };
    let io = |doing: &str, path: &Path, e: std::io::Error| damaged(format!("cannot {doing} {}: {e}", path.display()));
    let head_path = dir.join(HEAD);
    let mut head = Head { embrak_repository: 1, name: name.to_string(), date: date.to_string(), parts: Vec::new() };
    if let Ok(text) = fs::read_to_string(&head_path) {
        let envelope = Envelope::from_line(text.trim_end()).map_err(|e| damaged(format!("{HEAD}: {e}")))?;
        let keys = [key.public()];
        let Some((payload, _)) = envelope.opened_by(PAYLOAD_TYPE, &keys) else {
            let what = format!("{} is signed by another key than this one", head_path.display());
            return Err(RepositoryError::Untrusted { repository: name.to_string(), what });
        };
        head = serde_json::from_slice(&payload).map_err(|e| damaged(format!("{HEAD}: {e}")))?;
        head.date = date.to_string();
    }
    let mut there = std::collections::BTreeMap::new();
    for part in &head.parts {
        let path = dir.join(part_path(&part.digest));
        let bytes = fs::read(&path).map_err(|e| io("read", &path, e))?;
        if Digest::of(&bytes) != part.digest {
            return Err(damaged(format!("{} is not what {HEAD} says", path.display())));
        }
        let text = zstd::decode_all(bytes.as_slice()).map_err(|e| io("read", &path, e))?;
        for line in text.split(|&b| b == b'\n').filter(|l| !l.is_empty()) {
            let record: PackageRecord =
                serde_json::from_slice(line).map_err(|e| damaged(format!("{}: {e}", path.display())))?;
            there.insert((record.name, record.version, record.architecture), record.digest);
        }
    }
    let mut done = Published::default();
    let mut part = String::new();
    let mut count = 0;
    for (package, tree) in packages {
        let said = format!("{} {}", package.name, package.version);
        let beside = dir.join(format!(".{}-{}.new", package.name, std::process::id()));
        fs::create_dir_all(dir).map_err(|e| io("make", dir, e))?;
        let written = File::create(&beside)
            .and_then(|file| write_package(package, tree, blobs, HashingWriter::new(BufWriter::new(file))))
            .and_then(|mut w| w.flush().map(|()| w));
        let (_, digest, size) = match written {
            Ok(writer) => writer.finish(),
            Err(error) => {
                let _ = fs::remove_file(&beside);
                return Err(io("write", &beside, error));
            }
        };
        let identity = (package.name.clone(), package.version.clone(), package.architecture.clone());
        match there.get(&identity) {
            Some(Some(known)) if *known == digest => {
                let _ = fs::remove_file(&beside);
                done.present.push(said);
                continue;
            }
            Some(_) => {
                let _ = fs::remove_file(&beside);
                let what = format!(
                    "{said} is there already with other content: raise its `revision`, a published package never changes"
                );
                return Err(damaged(what));
            }
            None => {}
        }
        let path = dir.join(place(&digest));
        let parent = path.parent().unwrap_or(dir);
        fs::create_dir_all(parent).map_err(|e| io("make", parent, e))?;
        fs::rename(&beside, &path).map_err(|e| io("write", &path, e))?;
        let record = PackageRecord {
            name: package.name.clone(),
            version: package.version.clone(),
            architecture: package.architecture.clone(),
            summary: package.summary.clone(),
            license: package.license.clone(),
            path: place(&digest),
            size,
            installed: package.size,
            digest: Some(digest),
            requires: package.requires.join("\n"),
            conflicts: package.conflicts.join("\n"),
            provides: package.provides.join("\n"),
            ..PackageRecord::default()
        };
        part += &(serde_json::to_string(&record).map_err(|e| damaged(e.to_string()))? + "\n");
        count += 1;
        done.added.push(said);
    }
    if count > 0 || !head_path.exists() {
        if count > 0 {
            let packed = zstd::encode_all(part.as_bytes(), 9).map_err(|e| io("write", dir, e))?;
            let digest = Digest::of(&packed);
            let path = dir.join(part_path(&digest));
            fs::create_dir_all(dir.join("parts")).map_err(|e| io("make", dir, e))?;
            fs::write(&path, &packed).map_err(|e| io("write", &path, e))?;
            let unpacked = part.len() as u64;
            head.parts.push(Part { digest, size: packed.len() as u64, unpacked, packages: count });
        }
        fs::create_dir_all(dir).map_err(|e| io("make", dir, e))?;
        let payload = serde_json::to_vec(&head).map_err(|e| damaged(e.to_string()))?;
        let line =
            Envelope::sign_bytes(PAYLOAD_TYPE, &payload, key).map_err(|e| damaged(e.to_string()))?.to_line() + "\n";
        // The signed document last: until then, readers see the repository as it was.
        let beside = dir.join(format!(".{HEAD}.new"));
        fs::write(&beside, line).map_err(|e| io("write", &beside, e))?;
        fs::rename(&beside, &head_path).map_err(|e| io("write", &head_path, e))?;
    }
    Ok(done)
}
