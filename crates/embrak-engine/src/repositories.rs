//! Repositories as one plan uses them: which state of them, and what is in it.
//!
//! The lock says which state that is. It is opened from the store, or fetched by digest; when neither can be had, what
//! the lock itself tells of the packages is enough to build what was locked, and nothing else.

use crate::error::{EngineError, Result};
use crate::events::Event;
use crate::lock::{LockedFile, LockedIndex, LockedRepository};
use crate::vendor::Vendored;
use crate::{Engine, Lock};
use embrak_model::definitions::{Architecture, RepositoryDef, RepositoryFormat};
use embrak_repo::{
    Contents, DebianRepository, FetchEvent, Fetcher, Index, Keyring, OwnRepository, PackageRecord, Repository,
    RepositoryError, Snapshot, Syntax, architecture_name, with_credentials,
};
use embrak_resolve::{Candidate, Catalog};
use embrak_tree::Digest;
use embrak_trust::PublicKey;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// A repository, open.
pub(crate) struct OpenRepository {
    pub(crate) def: RepositoryDef,
    pub(crate) architecture: Architecture,
    pub(crate) repository: Arc<dyn Repository>,
    /// What the lock will say of it, packages left out.
    pub(crate) locked: LockedRepository,
    /// Its indexes; none when only the lock is known.
    pub(crate) indexes: Vec<Arc<Index>>,
    /// What the lock knew of it, when that is all there is.
    pub(crate) lock_alone: Vec<LockedFile>,
    /// Lower is preferred.
    pub(crate) rank: u32,
}

/// A package of a repository that is going to be used.
#[derive(Clone)]
pub(crate) struct PlannedFile {
    pub(crate) record: PackageRecord,
    pub(crate) repository: Arc<dyn Repository>,
    /// The repository's name.
    pub(crate) name: String,
    pub(crate) syntax: Syntax,
    pub(crate) security: bool,
}

impl OpenRepository {
    /// What is known of one of its packages.
    pub(crate) fn planned(&self, name: &str, version: &str) -> Option<PlannedFile> {
        let planned = |record, syntax, security| PlannedFile {
            record,
            repository: self.repository.clone(),
            name: self.def.name.value.to_string(),
            syntax,
            security,
        };
        let of_index = |index: &Arc<Index>| Some(planned(index.exact(name, version)?, index.syntax(), index.security));
        self.indexes.iter().find_map(of_index).or_else(|| {
            let file = self.lock_alone.iter().find(|f| f.name == name && f.version == version)?;
            Some(planned(record_of(file), Syntax::Own, false))
        })
    }

    /// Candidates that only the lock knows.
    pub(crate) fn candidates(&self) -> Vec<Candidate> {
        let known = |f: &LockedFile| {
            Some(Candidate {
                name: f.name.clone(),
                version: f.version.parse().ok()?,
                requires: vec![],
                recommends: vec![],
                provides: vec![],
                conflicts: vec![],
                origin: format!("{}, as embrak.lock knows it", self.def.name.value),
                rank: self.rank,
            })
        };
        self.lock_alone.iter().filter_map(known).collect()
    }

    /// Its essential packages: name, and the origin of the repository's declaration.
    pub(crate) fn essential(&self) -> BTreeSet<String> {
        let names = |i: &Arc<Index>| i.essential().into_iter().map(|n| i.record(n).name).collect::<Vec<_>>();
        self.indexes.iter().flat_map(names).collect()
    }
}

pub(crate) fn record_of(file: &LockedFile) -> PackageRecord {
    PackageRecord {
        name: file.name.clone(),
        version: file.version.clone(),
        architecture: file.architecture.clone(),
        path: file.path.clone(),
        size: file.size,
        installed: file.installed,
        digest: Some(file.digest),
        ..PackageRecord::default()
    }
}

/// What the lock says of a package's file.
pub(crate) fn locked_file(record: &PackageRecord) -> Option<LockedFile> {
    Some(LockedFile {
        name: record.name.clone(),
        version: record.version.clone(),
        architecture: record.architecture.clone(),
        digest: record.digest?,
        size: record.size,
        installed: record.installed,
        path: record.path.clone(),
    })
}

/// Turns events of fetching into ours.
pub(crate) fn report(engine: &Engine<'_>, event: FetchEvent<'_>) {
    match event {
        FetchEvent::Planned { items, bytes } => engine.observer.event(Event::Fetching { items, bytes }),
        FetchEvent::Advanced(bytes) => engine.observer.event(Event::Fetched(bytes)),
        FetchEvent::Arrived(label) => engine.observer.event(Event::Arrived(label.to_string())),
        FetchEvent::Again(why) => engine.observer.event(Event::Note(format!("{why}: trying again"))),
    }
}

/// Does something with a fetcher that reports to the engine's observer.
pub(crate) fn with_fetcher<T>(engine: &Engine<'_>, work: impl FnOnce(&Fetcher<'_>) -> T) -> T {
    let reporting = |event: FetchEvent<'_>| report(engine, event);
    let fetcher = Fetcher::new(&reporting, engine.stop)
        .hiding(engine.workspace.params.secrets())
        .offline(engine.vendored.is_some());
    work(&fetcher)
}

fn declared(def: &RepositoryDef, written: &str) -> Digest {
    let parts = (written, &def.format, &def.suites, &def.components, def.contents);
    Digest::of(serde_json::json!(parts).to_string())
}

/// The repository of a declaration, nothing of it read yet but its keys.
pub(crate) fn instance(
    engine: &Engine<'_>,
    def: &RepositoryDef,
    architecture: Architecture,
    rank: u32,
) -> Result<Arc<dyn Repository>> {
    match def.format {
        RepositoryFormat::Debian => Ok(Arc::new(debian(engine, def, architecture, rank)?)),
        RepositoryFormat::Embrak => {
            let keys = def.keys.iter().map(|k| PublicKey::load(&engine.workspace.root.join(&k.value)));
            Ok(Arc::new(OwnRepository {
                name: def.name.value.to_string(),
                url: url(engine, def),
                keys: keys
                    .collect::<std::result::Result<_, _>>()
                    .map_err(|e| EngineError::other(e.to_string(), "run `embrak check`"))?,
                trusted: def.trusted,
                architecture: architecture.to_string(),
                rank,
            }))
        }
    }
}

fn url(engine: &Engine<'_>, def: &RepositoryDef) -> String {
    let url = def.url.value.trim_end_matches('/');
    if url.contains("://") {
        return url.to_string();
    }
    let path = engine.workspace.root.join(url.strip_prefix("file:").unwrap_or(url));
    format!("file://{}", path.display())
}

fn debian(engine: &Engine<'_>, def: &RepositoryDef, architecture: Architecture, rank: u32) -> Result<DebianRepository> {
    let (mut keyring, mut keyring_digest) = (None, None);
    if let Some(file) = &def.keyring {
        let path = engine.workspace.root.join(&file.value);
        let bytes = std::fs::read(&path).map_err(|source| EngineError::Io { doing: "read", path, source })?;
        let parsed = Keyring::parse(&bytes, &file.value).map_err(|what| EngineError::Definition {
            message: format!("repository `{}`: {what}", def.name.value),
            help: format!("{}: name a file with the repository's OpenPGP public keys", file.at),
        })?;
        keyring_digest = Some(Digest::of(&bytes));
        keyring = Some(parsed);
    }
    Ok(DebianRepository {
        name: def.name.value.to_string(),
        url: url(engine, def),
        suites: def.suites.clone(),
        components: def.components.clone(),
        architecture: architecture_name(architecture.as_str()).to_string(),
        keyring,
        keyring_digest,
        trusted: def.trusted,
        expired: def.expired,
        contents: def.contents,
        rank,
        now: jiff::Timestamp::now().as_second(),
    })
}

/// Opens every repository of the workspace for an architecture.
pub(crate) fn open_all(
    engine: &Engine<'_>,
    architecture: Architecture,
    previous: Option<&Lock>,
    update: bool,
) -> Result<Vec<OpenRepository>> {
    let workspace = engine.workspace;
    let mut priorities: Vec<i32> = workspace.def.repository.iter().map(|r| r.priority).collect();
    priorities.sort_unstable_by(|a, b| b.cmp(a));
    priorities.dedup();
    let mut out = Vec::new();
    for (number, def) in workspace.def.repository.iter().enumerate() {
        if !def.architectures.is_empty() && !def.architectures.contains(&architecture) {
            continue;
        }
        // What recipes make has rank 0.
        let rank = 1 + priorities.iter().position(|p| *p == def.priority).unwrap_or(0) as u32;
        let written = workspace.repository_urls.get(number).map_or("", String::as_str);
        let before = previous
            .and_then(|l| l.repository(&def.name.value, architecture.as_str()))
            .filter(|l| l.declared == declared(def, written));
        let repository = instance(engine, def, architecture, rank)?;
        out.push(open(engine, def, architecture, repository, before, update, rank, written)?);
    }
    Ok(out)
}

#[expect(clippy::too_many_arguments, reason = "one caller; they are what the opened repository consists of")]
fn open(
    engine: &Engine<'_>,
    def: &RepositoryDef,
    architecture: Architecture,
    repository: Arc<dyn Repository>,
    before: Option<&LockedRepository>,
    update: bool,
    rank: u32,
    written: &str,
) -> Result<OpenRepository> {
    let name = def.name.value.to_string();
    let note = |text: String| engine.observer.event(Event::Note(text));
    let made = |snapshot: &Snapshot, indexes: Vec<Arc<Index>>| OpenRepository {
        def: def.clone(),
        architecture,
        repository: repository.clone(),
        locked: LockedRepository {
            name: name.clone(),
            architecture: architecture.to_string(),
            url: with_credentials(written, ""),
            declared: declared(def, written),
            date: snapshot.date.clone(),
            snapshot: snapshot.digest,
            signed_by: snapshot.signed_by.clone(),
            indexes: snapshot.indexes.iter().cloned().map(LockedIndex).collect(),
            packages: vec![],
        },
        indexes,
        lock_alone: vec![],
        rank,
    };
    if let Some(vendored) = &engine.vendored {
        let before = before.ok_or_else(|| {
            EngineError::other(
                format!("embrak.lock does not say in which state repository {name} is used"),
                "vendor a workspace whose lock is up to date",
            )
        })?;
        let indexes = vendored.indexes(&name, architecture, rank)?;
        let mut open = made(&snapshot_of(before), indexes);
        open.locked.indexes.clone_from(&before.indexes);
        return Ok(open);
    }
    with_fetcher(engine, |fetcher| {
        if let (Some(before), false) = (before, update) {
            let snapshot = snapshot_of(before);
            return match repository.open(engine.store, fetcher, &snapshot) {
                Ok(indexes) => Ok(made(&snapshot, indexes)),
                Err(error @ RepositoryError::Fetch { .. }) => {
                    note(format!("{error}; going on with what embrak.lock alone says of {name}"));
                    let mut open = made(&snapshot, vec![]);
                    open.lock_alone.clone_from(&before.packages);
                    Ok(open)
                }
                Err(error) => Err(error.into()),
            };
        }
        note(format!("reading repository {name}"));
        let prefix = format!("snapshot {} ", repository.key().hex());
        let refreshed = repository.refresh(engine.store, fetcher);
        let snapshot = match refreshed {
            Ok(snapshot) => {
                let mut objects: BTreeSet<Digest> = snapshot.documents.iter().copied().collect();
                objects.extend(snapshot.indexes.iter().map(|i| i.digest));
                let text = serde_json::to_string(&snapshot).unwrap_or_default();
                engine.store.keep(&format!("{prefix}{}", snapshot.digest.hex()), &text, &objects)?;
                snapshot
            }
            Err(error) if error.is_unreachable() && !update => {
                let kept = engine.store.kept_named(&prefix)?;
                let newest = kept.iter().max_by_key(|k| k.made);
                let known: Option<Snapshot> = newest.and_then(|k| serde_json::from_str(&k.text).ok());
                let Some(known) = known else { return Err(error.into()) };
                note(format!("{error}; going on with what {name} offered on {}", known.date));
                known
            }
            Err(error) => return Err(error.into()),
        };
        let indexes = repository.open(engine.store, fetcher, &snapshot)?;
        Ok(made(&snapshot, indexes))
    })
}

fn snapshot_of(locked: &LockedRepository) -> Snapshot {
    Snapshot {
        digest: locked.snapshot,
        date: locked.date.clone(),
        valid_until: None,
        signed_by: locked.signed_by.clone(),
        indexes: locked.indexes.iter().map(|i| i.0.clone()).collect(),
        documents: vec![],
    }
}

/// How long the state of a repository is kept that is not its newest.
const KEPT_FOR: i64 = 90 * 86_400;

/// Forgets states of repositories that are old and not the newest known; a lock that names one of them still can be
/// built from, as long as its packages can be had.
///
/// # Errors
/// The store cannot be used.
pub fn forget_old_snapshots(store: &embrak_store::Store) -> Result<usize> {
    let mut newest: BTreeMap<String, i64> = BTreeMap::new();
    let kept = store.kept_named("snapshot ")?;
    let repository = |name: &str| name.rsplit_once(' ').map_or("", |(repository, _)| repository).to_string();
    for k in &kept {
        let made = newest.entry(repository(&k.name)).or_insert(k.made);
        *made = (*made).max(k.made);
    }
    let now = jiff::Timestamp::now().as_second();
    let old = |k: &&embrak_store::Kept| k.made + KEPT_FOR < now && newest.get(&repository(&k.name)) != Some(&k.made);
    let mut forgotten = 0;
    for k in kept.iter().filter(old) {
        store.drop_kept(&k.name)?;
        forgotten += 1;
    }
    Ok(forgotten)
}

/// A package of a repository that `find` has found.
#[derive(Debug, Clone, serde::Serialize)]
pub struct FoundPackage {
    /// Its name.
    pub name: String,
    /// Its newest version.
    pub version: String,
    /// The repository.
    pub repository: String,
    /// Suite and component, or the repository's own name.
    pub of: String,
    /// One line about it.
    pub summary: String,
    /// What it provides besides its name.
    pub provides: String,
    /// Whether the words are all in its name.
    pub in_name: bool,
    /// The file that was looked for, when it was one.
    pub file: Option<String>,
}

/// Looks in the repositories' states that the store knows, without the network: in names, summaries and provided
/// names, and for words with a slash in the lists of files. Words are in lower case.
///
/// # Errors
/// A key of a repository cannot be read, or the store cannot be used.
pub fn find_packages(engine: &Engine<'_>, words: &[String], limit: usize) -> Result<(Vec<FoundPackage>, Vec<String>)> {
    let lock = Lock::load(&engine.workspace.root.join("embrak.lock"))?;
    let mut architectures: BTreeSet<Architecture> = Architecture::host().into_iter().collect();
    architectures.extend(lock.iter().flat_map(|l| &l.repositories).filter_map(|r| {
        serde_json::from_value::<Architecture>(serde_json::Value::String(r.architecture.clone())).ok()
    }));
    let mut unread = Vec::new();
    let mut found: BTreeMap<(String, String), FoundPackage> = BTreeMap::new();
    let mut files = Vec::new();
    for def in &engine.workspace.def.repository {
        let name = def.name.value.to_string();
        let mut read = false;
        for architecture in &architectures {
            let repository = instance(engine, def, *architecture, 1)?;
            let locked = lock.as_ref().and_then(|l| l.repository(&name, architecture.as_str())).map(snapshot_of);
            let kept = engine.store.kept_named(&format!("snapshot {} ", repository.key().hex()))?;
            let newest = kept.iter().max_by_key(|k| k.made).and_then(|k| serde_json::from_str(&k.text).ok());
            let Some(snapshot) = locked.or(newest) else { continue };
            let missing = snapshot.indexes.iter().any(|i| !i.files && !engine.store.has(&i.digest));
            if missing {
                continue;
            }
            let indexes = with_fetcher(engine, |fetcher| repository.open(engine.store, fetcher, &snapshot))?;
            read = true;
            if let (Some(path), RepositoryFormat::Debian) = (words.iter().find(|w| w.contains('/')), def.format) {
                let lists: Vec<Contents> = debian(engine, def, *architecture, 1)?.contents(engine.store, &snapshot)?;
                for (file, packages) in lists.iter().flat_map(|list| list.find(path, limit)) {
                    for package in packages.split(',') {
                        let index = indexes.iter().find(|i| !i.named(package).is_empty());
                        let Some(index) = index else { continue };
                        let record = index.record(index.named(package).start);
                        files.push(describe(&record, &name, index, false, Some(file.clone())));
                    }
                }
                continue;
            }
            for index in &indexes {
                for hit in index.find(words) {
                    let record = index.record(hit.number);
                    let key = (record.name.clone(), name.clone());
                    let newer = found.get(&key).is_none_or(|known| {
                        let parsed = |v: &str| v.parse::<embrak_resolve::Version>().ok();
                        parsed(&known.version) < parsed(&record.version)
                    });
                    if newer {
                        found.insert(key, describe(&record, &name, index, hit.in_name, None));
                    }
                }
            }
        }
        if !read {
            unread.push(name);
        }
    }
    files.truncate(limit);
    files.extend(found.into_values());
    Ok((files, unread))
}

fn describe(
    record: &PackageRecord,
    repository: &str,
    index: &Index,
    in_name: bool,
    file: Option<String>,
) -> FoundPackage {
    let origin = index.origin();
    let of = origin
        .strip_prefix(repository)
        .unwrap_or(origin)
        .trim()
        .trim_end_matches(" Packages")
        .trim_end_matches("index")
        .to_string();
    FoundPackage {
        name: record.name.clone(),
        version: record.version.clone(),
        repository: repository.to_string(),
        of,
        summary: record.summary.clone(),
        provides: record.provides.clone(),
        in_name,
        file,
    }
}

impl Vendored {
    /// The catalog of a repository as it was vendored.
    fn indexes(&self, name: &str, architecture: Architecture, rank: u32) -> Result<Vec<Arc<Index>>> {
        let Some((syntax, records)) = self.records(name, architecture) else { return Ok(vec![]) };
        let words = match syntax {
            Syntax::Debian => architecture_name(architecture.as_str()),
            Syntax::Own => architecture.as_str(),
        };
        let mut builder = embrak_repo::IndexBuilder::new(syntax, words);
        for record in records {
            builder.add(record);
        }
        let index = Index::load(builder.finish(), &format!("{name}, vendored"), rank, words)
            .map_err(|what| EngineError::other(what, "vendor it again"))?;
        Ok(vec![Arc::new(index)])
    }
}
