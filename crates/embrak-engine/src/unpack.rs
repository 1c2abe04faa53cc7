//! Ready-made packages: fetched into the store and made into trees, each once.

use crate::error::Result;
use crate::events::{ActionStatus, Event};
use crate::lock::LockedPackage;
use crate::package::{PackageInfo, ReadyMade};
use crate::record::ActionRecord;
use crate::repositories::{PlannedFile, with_fetcher};
use crate::{Engine, EngineError, sources};
use embrak_model::definitions::Architecture;
use embrak_repo::FetchItem;
use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Instant;

/// Version of what unpacking yields; a change is a new version.
const UNPACK_VERSION: u32 = 1;

/// The result of unpacking, as the action cache keeps it. What an index says besides is not in it.
#[derive(Serialize, Deserialize)]
struct UnpackedPackage {
    tree: Digest,
    control: Digest,
    size: u64,
    files: usize,
    conffiles: Vec<String>,
    scripts: Vec<String>,
    requires: Vec<String>,
    replaces: Vec<String>,
}

fn key(file: &PlannedFile) -> Option<Digest> {
    let digest = file.record.digest?;
    let kind = file.record.path.rsplit_once('.').map_or("", |(_, end)| end);
    Some(Digest::of(serde_json::json!(["unpack", UNPACK_VERSION, kind, digest]).to_string()))
}

/// The tree of a package that has been unpacked before.
pub(crate) fn known_tree(engine: &Engine<'_>, file: &PlannedFile) -> Option<Digest> {
    let text = engine.store.action(&key(file)?).ok()??;
    serde_json::from_str::<UnpackedPackage>(&text).ok().map(|u| u.tree)
}

/// Fetches and unpacks all the packages that are not in the store yet; what is known of each, by how the lock names it.
pub(crate) fn unpack_all(
    engine: &Engine<'_>,
    files: &BTreeMap<(Architecture, LockedPackage), PlannedFile>,
    jobs: usize,
    started: Instant,
    actions: &mut Vec<ActionRecord>,
) -> Result<BTreeMap<(Architecture, LockedPackage), PackageInfo>> {
    let mut out = BTreeMap::new();
    let mut missing = Vec::new();
    for (package, file) in files {
        let Some(key) = key(file) else {
            return Err(EngineError::other(
                format!("the index gives no digest of {}", package.1),
                "use another repository",
            ));
        };
        match engine.store.action(&key)?.and_then(|text| serde_json::from_str(&text).ok()) {
            Some(known) => {
                actions.push(action(&package.1, key, ActionStatus::Reused, started, started));
                out.insert(package.clone(), info(file, known));
            }
            None => missing.push((package, file, key)),
        }
    }
    if missing.is_empty() {
        return Ok(out);
    }
    fetch(engine, missing.iter().map(|(_, file, _)| *file))?;
    let next = AtomicUsize::new(0);
    let done = Mutex::new(Vec::new());
    let failure: Mutex<Option<EngineError>> = Mutex::new(None);
    // The largest first, so that the last one does not run alone.
    missing.sort_by(|a, b| b.1.record.size.cmp(&a.1.record.size).then_with(|| a.0.cmp(b.0)));
    std::thread::scope(|scope| {
        for _ in 0..jobs.clamp(1, missing.len()) {
            scope.spawn(|| {
                while let Some((package, file, key)) = missing.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if failure.lock().unwrap_or_else(|e| e.into_inner()).is_some() {
                        return;
                    }
                    let begun = Instant::now();
                    let result = crate::build::interrupted(engine).and_then(|()| unpack(engine, file, key));
                    match result {
                        Ok(unpacked) => {
                            let seconds = begun.elapsed().as_secs_f64();
                            let record = action(&package.1, *key, ActionStatus::Built, started, begun);
                            engine.observer.event(Event::Unpacked { label: record.label.clone(), seconds });
                            let row = ((*package).clone(), info(file, unpacked), record);
                            done.lock().unwrap_or_else(|e| e.into_inner()).push(row);
                        }
                        Err(error) => {
                            failure.lock().unwrap_or_else(|e| e.into_inner()).get_or_insert(error);
                        }
                    }
                }
            });
        }
    });
    if let Some(error) = failure.into_inner().unwrap_or_else(|e| e.into_inner()) {
        return Err(error);
    }
    let mut done = done.into_inner().unwrap_or_else(|e| e.into_inner());
    done.sort_by(|a, b| a.2.started.total_cmp(&b.2.started));
    for (package, info, record) in done {
        actions.push(record);
        out.insert(package, info);
    }
    Ok(out)
}

/// Gets the files of packages into the store.
pub(crate) fn fetch<'f>(engine: &Engine<'_>, files: impl Iterator<Item = &'f PlannedFile>) -> Result<()> {
    let mut by_repository: BTreeMap<&str, Vec<FetchItem>> = BTreeMap::new();
    for file in files {
        let Some(digest) = file.record.digest else { continue };
        by_repository.entry(&file.name).or_default().push(FetchItem {
            url: file.repository.url(&file.record),
            digest,
            size: file.record.size,
            label: format!("{} {}", file.record.name, file.record.version),
        });
    }
    for (repository, items) in by_repository {
        with_fetcher(engine, |fetcher| fetcher.all(engine.store, &items)).map_err(|source| match source {
            embrak_repo::FetchError::Interrupted => EngineError::Interrupted,
            embrak_repo::FetchError::Store(error) => error.into(),
            source => embrak_repo::RepositoryError::Fetch { repository: repository.to_string(), source }.into(),
        })?;
    }
    Ok(())
}

fn action(
    package: &LockedPackage,
    key: Digest,
    status: ActionStatus,
    started: Instant,
    begun: Instant,
) -> ActionRecord {
    ActionRecord {
        label: format!("unpack {} {}", package.name, package.version),
        key,
        status,
        started: begun.duration_since(started).as_secs_f64(),
        seconds: if status == ActionStatus::Built { begun.elapsed().as_secs_f64() } else { 0.0 },
        log: None,
    }
}

fn unpack(engine: &Engine<'_>, file: &PlannedFile, key: &Digest) -> Result<UnpackedPackage> {
    let digest = file.record.digest.unwrap_or_else(|| Digest::of(""));
    let made = file.repository.unpack(engine.store, &file.record, &engine.store.object_path(&digest))?;
    let unpacked = UnpackedPackage {
        tree: sources::put_tree(engine.store, &made.tree)?,
        control: sources::put_tree(engine.store, &made.control)?,
        size: made.tree.content_size(),
        files: made.tree.iter().filter(|(_, e)| !e.is_directory()).count(),
        conffiles: made.conffiles,
        scripts: made.scripts,
        requires: made.requires,
        replaces: made.replaces,
    };
    let mut objects: BTreeSet<Digest> = [digest, unpacked.tree, unpacked.control].into();
    objects.extend(made.tree.blobs().chain(made.control.blobs()).map(|(digest, _)| digest));
    engine.store.record_action(key, &serde_json::to_string(&unpacked).unwrap_or_default(), &objects)?;
    Ok(unpacked)
}

fn info(file: &PlannedFile, unpacked: UnpackedPackage) -> PackageInfo {
    let record = &file.record;
    PackageInfo {
        name: record.name.clone(),
        version: record.version.clone(),
        architecture: record.architecture.clone(),
        summary: record.summary.clone(),
        license: record.license.clone(),
        requires: unpacked.requires,
        provides: vec![],
        conflicts: vec![],
        tree: unpacked.tree,
        size: unpacked.size,
        files: unpacked.files,
        ready_made: Some(ReadyMade {
            repository: file.name.clone(),
            file: record.digest.unwrap_or_else(|| Digest::of("")),
            control: unpacked.control,
            conffiles: unpacked.conffiles,
            scripts: unpacked.scripts,
            replaces: unpacked.replaces,
        }),
    }
}
