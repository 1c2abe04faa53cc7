//! The SQLite index: action cache, digests of host files by their stat, pruning.

use crate::{Doing, Result, Store, StoreError};
use embrak_tree::{Digest, on_all_cores};
use rusqlite::{Connection, OptionalExtension, TransactionBehavior, params};
use std::collections::{BTreeSet, HashMap};
use std::fs::{self, File, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

const SCHEMA_VERSION: i64 = 2;

const SCHEMA: &str = "
CREATE TABLE actions (
    key TEXT PRIMARY KEY,      -- digest of everything that can change the result
    result TEXT NOT NULL,      -- JSON; its meaning is the engine's
    made INTEGER NOT NULL      -- seconds since 1970
) WITHOUT ROWID;
CREATE TABLE action_objects (key TEXT NOT NULL, digest TEXT NOT NULL, PRIMARY KEY (key, digest)) WITHOUT ROWID;
CREATE TABLE runs (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    workspace TEXT NOT NULL,
    started INTEGER NOT NULL,  -- milliseconds since 1970
    finished INTEGER,
    status TEXT NOT NULL,      -- running, done, failed, interrupted
    record TEXT NOT NULL       -- JSON
);
CREATE TABLE run_actions (run INTEGER NOT NULL, key TEXT NOT NULL, PRIMARY KEY (run, key)) WITHOUT ROWID;
CREATE TABLE run_objects (run INTEGER NOT NULL, digest TEXT NOT NULL, PRIMARY KEY (run, digest)) WITHOUT ROWID;
CREATE TABLE host_files (
    path TEXT PRIMARY KEY, stamp TEXT NOT NULL, digest TEXT NOT NULL
) WITHOUT ROWID;
";

/// What version 2 has more: things kept by name until somebody drops them.
const SCHEMA_2: &str = "
CREATE TABLE kept (name TEXT PRIMARY KEY, text TEXT NOT NULL, made INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE kept_objects (name TEXT NOT NULL, digest TEXT NOT NULL, PRIMARY KEY (name, digest)) WITHOUT ROWID;
";

/// How long others may have the index locked before that is an error.
const PATIENCE: Duration = Duration::from_secs(30);

/// Does something to the index again and again while it is locked by others.
pub(crate) fn patiently<T>(mut work: impl FnMut() -> rusqlite::Result<T>) -> rusqlite::Result<T> {
    use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
    let started = Instant::now();
    loop {
        match work() {
            Err(error)
                if matches!(error.sqlite_error_code(), Some(DatabaseBusy | DatabaseLocked))
                    && started.elapsed() < PATIENCE =>
            {
                std::thread::sleep(Duration::from_millis(10));
            }
            result => return result,
        }
    }
}

pub(crate) fn open(path: &Path) -> Result<Connection> {
    let wrap = |source| StoreError::Index { path: path.to_path_buf(), source };
    let (db, version) = patiently(|| {
        let mut db = Connection::open(path)?;
        db.busy_timeout(PATIENCE)?;
        db.pragma_update(None, "journal_mode", "WAL")?;
        db.pragma_update(None, "synchronous", "NORMAL")?;
        let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let version: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if version == 0 {
            transaction.execute_batch(SCHEMA)?;
        }
        if version < 2 {
            transaction.execute_batch(SCHEMA_2)?;
            transaction.pragma_update(None, "user_version", SCHEMA_VERSION)?;
        }
        transaction.commit()?;
        Ok((db, version))
    })
    .map_err(wrap)?;
    match version {
        0..=SCHEMA_VERSION => Ok(db),
        found => Err(StoreError::Newer { path: path.to_path_buf(), found, known: SCHEMA_VERSION }),
    }
}

fn remember(db: &Connection, path: &Path, meta: &Metadata, digest: &Digest) -> rusqlite::Result<()> {
    db.prepare_cached("INSERT OR REPLACE INTO host_files (path, stamp, digest) VALUES (?1, ?2, ?3)")?
        .execute(params![path.to_string_lossy(), stamp(meta), digest.hex()])
        .map(drop)
}

/// Held while one process computes an action, so that a second one waits and then finds the result.
pub struct ActionLock {
    _file: File,
}

/// What pruning took.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Pruned {
    /// Runs no longer on record.
    pub runs: usize,
    /// Action results forgotten.
    pub actions: usize,
    /// Objects removed.
    pub objects: usize,
    /// Their bytes.
    pub bytes: u64,
}

impl Store {
    /// The result of an action, if it is known and every object it refers to is there.
    ///
    /// # Errors
    /// The index cannot be read.
    pub fn action(&self, key: &Digest) -> Result<Option<String>> {
        let key = key.hex();
        let (result, objects) = self.index(|db| {
            let result: Option<String> = db
                .prepare_cached("SELECT result FROM actions WHERE key = ?1")?
                .query_row([&key], |row| row.get(0))
                .optional()?;
            let mut statement = db.prepare_cached("SELECT digest FROM action_objects WHERE key = ?1")?;
            let objects: Vec<String> =
                statement.query_map([&key], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
            Ok((result, objects))
        })?;
        let whole = objects.iter().all(|hex| Digest::from_hex(hex).is_ok_and(|d| self.has(&d)));
        Ok(result.filter(|_| whole))
    }

    /// Remembers the result of an action and the objects it refers to.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn record_action(&self, key: &Digest, result: &str, objects: &BTreeSet<Digest>) -> Result<()> {
        let key = key.hex();
        self.index(|db| {
            let t = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
            t.execute(
                "INSERT OR REPLACE INTO actions (key, result, made) VALUES (?1, ?2, ?3)",
                params![key, result, seconds_now()],
            )?;
            t.execute("DELETE FROM action_objects WHERE key = ?1", [&key])?;
            for digest in objects {
                t.execute("INSERT INTO action_objects (key, digest) VALUES (?1, ?2)", params![key, digest.hex()])?;
            }
            t.commit()
        })
    }

    /// Waits until no other process computes this action, and keeps others waiting until dropped.
    ///
    /// # Errors
    /// The lock file cannot be made.
    pub fn lock_action(&self, key: &Digest) -> Result<ActionLock> {
        // A lock per action would leave a file per action; 256 shared ones are enough, and two different
        // actions waiting for each other's lock only costs time.
        let path = self.root().join("locks").join(&key.hex()[..2]);
        let file = fs::OpenOptions::new().create(true).append(true).open(&path).doing("open", &path)?;
        file.lock().doing("lock", &path)?;
        Ok(ActionLock { _file: file })
    }

    /// The digest and size of a file outside the store; it is only read when it changed since the last time. With
    /// `keep` its bytes are kept as an object, too.
    ///
    /// # Errors
    /// It cannot be read, or the object or the index cannot be written.
    pub fn host_file(&self, path: &Path, keep: bool) -> Result<(Digest, u64)> {
        let mut found = self.host_files(&[path], keep)?;
        Ok(found.remove(0))
    }

    /// The same of many files, in their order: what is known is looked up at once, the others are read on all cores.
    ///
    /// # Errors
    /// As [`Store::host_file`].
    pub fn host_files(&self, paths: &[impl AsRef<Path> + Sync], keep: bool) -> Result<Vec<(Digest, u64)>> {
        let metas: Vec<Metadata> = on_all_cores(paths.len(), |n| {
            let path = paths[n].as_ref();
            fs::metadata(path).doing("read", path)
        })?;
        let stamps: Vec<String> = metas.iter().map(stamp).collect();
        // What this process has looked at before need not be looked up again.
        let seen: Vec<Option<Digest>> = {
            let seen = self.seen();
            let as_now = |n: usize| seen.get(paths[n].as_ref()).filter(|s| s.0 == stamps[n] && (s.2 || !keep));
            (0..paths.len()).map(|n| as_now(n).map(|s| s.1)).collect()
        };
        let known: Vec<Option<String>> = self.index(|db| {
            let transaction = db.transaction()?;
            let mut statement =
                transaction.prepare_cached("SELECT digest FROM host_files WHERE path = ?1 AND stamp = ?2")?;
            let mut look_up = |n: usize| {
                if seen[n].is_some() {
                    return Ok(None);
                }
                let name = paths[n].as_ref().to_string_lossy();
                statement.query_row(params![name, stamps[n]], |row| row.get(0)).optional()
            };
            (0..paths.len()).map(&mut look_up).collect()
        })?;
        let found: Vec<(Digest, u64, bool)> = on_all_cores(paths.len(), |n| {
            if let Some(digest) = seen[n] {
                return Ok((digest, metas[n].size(), false));
            }
            let known = known[n].as_ref().and_then(|hex| Digest::from_hex(hex).ok());
            if let Some(digest) = known.filter(|digest| !keep || self.has(digest)) {
                return Ok((digest, metas[n].size(), false));
            }
            let path = paths[n].as_ref();
            let (digest, size) = if keep {
                self.put_file(path)?
            } else {
                let file = File::open(path).doing("read", path)?;
                embrak_tree::HashingReader::new(file).finish().doing("read", path)?
            };
            Ok((digest, size, true))
        })?;
        // A file changed a moment ago could change again within the clock's grain: not remembered.
        let fresh = |n: &usize| found[*n].2 && is_settled(&metas[*n]);
        if (0..paths.len()).any(|n| fresh(&n)) {
            self.index(|db| {
                let transaction = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
                for n in (0..paths.len()).filter(fresh) {
                    remember(&transaction, paths[n].as_ref(), &metas[n], &found[n].0)?;
                }
                transaction.commit()
            })?;
        }
        let mut memory = self.seen();
        for (n, stamp) in stamps.into_iter().enumerate().filter(|(n, _)| seen[*n].is_none()) {
            memory.insert(paths[n].as_ref().to_path_buf(), (stamp, found[n].0, keep));
        }
        Ok(found.into_iter().map(|(digest, size, _)| (digest, size)).collect())
    }

    pub(crate) fn seen(&self) -> MutexGuard<'_, HashMap<PathBuf, (String, Digest, bool)>> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A text that changes whenever a file, directory or link outside the store changes; none when it is not there.
    pub fn stamp(path: &Path) -> Option<String> {
        let (link, target) = (fs::symlink_metadata(path).ok()?, fs::metadata(path).ok()?);
        Some(if link.is_symlink() { format!("{} {}", stamp(&link), stamp(&target)) } else { stamp(&target) })
    }

    /// The same, but none when it changed so lately that it could change again unnoticed.
    pub fn settled_stamp(path: &Path) -> Option<String> {
        is_settled(&fs::metadata(path).ok()?).then(|| Store::stamp(path)).flatten()
    }

    /// Remembers the digest of a file outside the store that was just written by ourselves.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn remember_file(&self, path: &Path, digest: &Digest) -> Result<()> {
        let meta = fs::metadata(path).doing("read", path)?;
        self.index(|db| remember(db, path, &meta, digest))
    }

    /// Forgets runs beyond the newest `keep_runs`, then every action no run on record used, then every
    /// object that neither a run nor a remaining action refers to.
    ///
    /// # Errors
    /// Another process is at work in the store, whose objects are not on record yet; or the index or the objects
    /// cannot be written.
    pub fn prune(&self, keep_runs: usize) -> Result<Pruned> {
        if self.others_alive() {
            return Err(StoreError::Busy { root: self.root().to_path_buf() });
        }
        self.seen().clear();
        let mut pruned = Pruned::default();
        let live: BTreeSet<String> = self.index(|db| {
            let t = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
            pruned.runs = t.execute(
                "DELETE FROM runs WHERE status != 'running' AND id NOT IN (SELECT id FROM runs ORDER BY id DESC LIMIT ?1)",
                [keep_runs as i64],
            )?;
            t.execute("DELETE FROM run_actions WHERE run NOT IN (SELECT id FROM runs)", [])?;
            t.execute("DELETE FROM run_objects WHERE run NOT IN (SELECT id FROM runs)", [])?;
            pruned.actions = t.execute("DELETE FROM actions WHERE key NOT IN (SELECT key FROM run_actions)", [])?;
            t.execute("DELETE FROM action_objects WHERE key NOT IN (SELECT key FROM actions)", [])?;
            t.execute("DELETE FROM host_files", [])?;
            let live = t
                .prepare(
                    "SELECT digest FROM action_objects UNION SELECT digest FROM run_objects
                     UNION SELECT digest FROM kept_objects",
                )?
                .query_map([], |row| row.get(0))?
                .collect::<rusqlite::Result<_>>()?;
            t.commit()?;
            Ok(live)
        })?;
        self.forget_views()?;
        for dir in [self.partials(), self.indexes()] {
            for file in fs::read_dir(&dir).doing("list", &dir)?.flatten() {
                let _ = fs::remove_file(file.path());
            }
        }
        for (digest, path) in self.list_objects()? {
            if !live.contains(&digest.hex()) {
                pruned.bytes += fs::metadata(&path).map_or(0, |m| m.size());
                fs::remove_file(&path).doing("remove", &path)?;
                pruned.objects += 1;
            }
        }
        Ok(pruned)
    }
}

fn is_settled(meta: &fs::Metadata) -> bool {
    let changed = meta.modified().unwrap_or(SystemTime::UNIX_EPOCH);
    SystemTime::now().duration_since(changed).is_ok_and(|age| age > Duration::from_secs(2))
}

fn stamp(meta: &fs::Metadata) -> String {
    format!(
        "{}:{}:{}:{}.{}:{}.{}",
        meta.dev(),
        meta.ino(),
        meta.size(),
        meta.mtime(),
        meta.mtime_nsec(),
        meta.ctime(),
        meta.ctime_nsec()
    )
}

pub(crate) fn seconds_now() -> i64 {
    SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |d| d.as_secs() as i64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_action_whose_object_is_gone_is_not_known() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let object = store.put_bytes("result").unwrap();
        let key = Digest::of("steps and sources");
        assert_eq!(store.action(&key).unwrap(), None);
        store.record_action(&key, "{}", &[object].into()).unwrap();
        let again = Store::open(dir.path()).unwrap();
        assert_eq!(again.action(&key).unwrap().as_deref(), Some("{}"));
        fs::remove_file(store.object_path(&object)).unwrap();
        assert_eq!(store.action(&key).unwrap(), None);
    }

    #[test]
    fn a_changed_host_file_gets_another_digest() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path().join("store")).unwrap();
        let file = dir.path().join("cc");
        let long_ago = SystemTime::now() - Duration::from_secs(1000);
        for content in ["one", "two"] {
            fs::write(&file, content).unwrap();
            File::options().write(true).open(&file).unwrap().set_modified(long_ago).unwrap();
            for _ in 0..2 {
                assert_eq!(store.host_file(&file, false).unwrap(), (Digest::of(content), 3));
            }
        }
    }

    #[test]
    fn what_is_kept_by_name_outlives_pruning_and_the_first_format_is_brought_forward() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path()).unwrap();
        let old = Connection::open(dir.path().join("index.sqlite")).unwrap();
        old.execute_batch(SCHEMA).unwrap();
        old.pragma_update(None, "user_version", 1).unwrap();
        drop(old);
        let store = Store::open(dir.path()).unwrap();
        let object = store.put_bytes("index").unwrap();
        store.keep("snapshot a", "{}", &[object].into()).unwrap();
        store.keep("snapshot b", "[]", &BTreeSet::new()).unwrap();
        store.prune(0).unwrap();
        assert_eq!(store.kept("snapshot a").unwrap().as_deref(), Some("{}"));
        let names: Vec<String> = store.kept_named("snapshot ").unwrap().into_iter().map(|k| k.name).collect();
        assert_eq!(names, ["snapshot a", "snapshot b"]);
        store.drop_kept("snapshot a").unwrap();
        assert_eq!(store.kept("snapshot a").unwrap(), None);
        assert_eq!(store.prune(0).unwrap().objects, 1);
    }

    #[test]
    fn pruning_keeps_what_a_run_on_record_needs() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let (kept, lost) = (store.put_bytes("kept").unwrap(), store.put_bytes("lost").unwrap());
        let (used, unused) = (Digest::of("used"), Digest::of("unused"));
        store.record_action(&used, "{}", &[kept].into()).unwrap();
        store.record_action(&unused, "{}", &[lost].into()).unwrap();
        let log = store.put_bytes("log").unwrap();
        let run = store.start_run("/w", "{}").unwrap();
        store.finish_run(run, "done", "{}", &[used], &[log].into()).unwrap();
        let pruned = store.prune(5).unwrap();
        assert_eq!(pruned, Pruned { runs: 0, actions: 1, objects: 1, bytes: 4 });
        assert!(store.has(&kept) && store.has(&log) && !store.has(&lost));
        assert_eq!(store.prune(0).unwrap().objects, 2);
    }
}
