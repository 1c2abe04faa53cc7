//! Temporary places, and the sweeping of those whose process is gone.

use crate::{Doing, Result, Store};
use std::fs::{self, File};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

/// One process's part of `tmp/`: a directory, and a lock file beside it held for as long as we live.
pub(crate) struct Session {
    dir: PathBuf,
    lock_path: PathBuf,
    _lock: File,
    counter: AtomicU64,
}

impl Session {
    pub(crate) fn start(tmp: &Path) -> Result<Session> {
        sweep(tmp);
        loop {
            let named = tempfile::Builder::new().prefix("s").suffix(".lock").tempfile_in(tmp).doing("write in", tmp)?;
            let (lock, lock_path) = named.keep().map_err(|e| e.error).doing("write in", tmp)?;
            lock.lock().doing("lock", &lock_path)?;
            // A sweeper may have taken the file between its making and its locking.
            let ours = lock.metadata().doing("read", &lock_path)?.ino();
            if fs::metadata(&lock_path).is_ok_and(|m| m.ino() == ours) {
                let dir = lock_path.with_extension("");
                fs::create_dir(&dir).doing("make", &dir)?;
                return Ok(Session { dir, lock_path, _lock: lock, counter: AtomicU64::new(0) });
            }
        }
    }

    /// A path in this session's directory that nothing has used yet.
    pub(crate) fn fresh(&self) -> PathBuf {
        self.dir.join(self.counter.fetch_add(1, Ordering::Relaxed).to_string())
    }
}

/// Whether a session other than this one is alive.
pub(crate) fn others_alive(tmp: &Path, own: &Session) -> bool {
    let locks = fs::read_dir(tmp).into_iter().flatten().flatten().map(|e| e.path());
    locks
        .filter(|path| path.extension().is_some_and(|e| e == "lock") && *path != own.lock_path)
        .any(|path| File::open(&path).is_ok_and(|file| file.try_lock().is_err()))
}

impl Drop for Session {
    fn drop(&mut self) {
        remove_tree(&self.dir);
        let _ = fs::remove_file(&self.lock_path);
    }
}

fn sweep(tmp: &Path) {
    for entry in fs::read_dir(tmp).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.extension().is_some_and(|e| e == "lock") {
            let Ok(file) = File::open(&path) else { continue };
            if file.try_lock().is_ok() {
                remove_tree(&path.with_extension(""));
                let _ = fs::remove_file(&path);
            }
        }
    }
}

/// Removes a directory even when steps have left directories in it that may not be written.
fn remove_tree(dir: &Path) {
    if fs::remove_dir_all(dir).is_err() {
        make_writable(dir);
        let _ = fs::remove_dir_all(dir);
    }
}

fn make_writable(dir: &Path) {
    use std::os::unix::fs::PermissionsExt;
    let _ = fs::set_permissions(dir, fs::Permissions::from_mode(0o700));
    for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
        if entry.file_type().is_ok_and(|t| t.is_dir()) {
            make_writable(&entry.path());
        }
    }
}

/// A directory to work in; removed when dropped.
pub struct Workplace {
    path: PathBuf,
}

impl Workplace {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for Workplace {
    fn drop(&mut self) {
        remove_tree(&self.path);
    }
}

impl Store {
    /// A new, empty directory to work in, on the same filesystem as the objects.
    ///
    /// # Errors
    /// It cannot be made.
    pub fn workplace(&self) -> Result<Workplace> {
        let path = self.session.fresh();
        fs::create_dir(&path).doing("make", &path)?;
        Ok(Workplace { path })
    }

    pub(crate) fn fresh_path(&self) -> PathBuf {
        self.session.fresh()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_dead_session_left_is_swept_and_a_live_one_kept() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let live = store.workplace().unwrap();
        let tmp = store.root().join("tmp");
        fs::write(tmp.join("sdead.lock"), "").unwrap();
        fs::create_dir_all(tmp.join("sdead/1")).unwrap();
        let second = Store::open(dir.path()).unwrap();
        assert!(!tmp.join("sdead").exists() && !tmp.join("sdead.lock").exists());
        assert!(live.path().exists());
        drop((second, live));
        drop(store);
        assert_eq!(fs::read_dir(tmp).unwrap().count(), 0);
    }
}
