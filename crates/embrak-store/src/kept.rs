//! Things kept by name, objects on their way in, and files made for fast reading.

use crate::index::seconds_now;
use crate::{Doing, Result, Store};
use embrak_tree::{Digest, HashingReader};
use rusqlite::{OptionalExtension, TransactionBehavior, params};
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Something kept by name, with objects that pruning leaves alone as long as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// Its name.
    pub name: String,
    /// What is known of it; its meaning is the caller's.
    pub text: String,
    /// When it was kept, seconds since 1970.
    pub made: i64,
}

/// The bytes that have arrived of an object; one process at a time works on them.
pub struct Partial {
    path: PathBuf,
    file: File,
}

impl Partial {
    /// The file to append to.
    pub fn file(&mut self) -> &mut File {
        &mut self.file
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Store {
    /// Keeps a text and objects by name, replacing what was kept so before.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn keep(&self, name: &str, text: &str, objects: &BTreeSet<Digest>) -> Result<()> {
        self.index(|db| {
            let t = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
            t.execute("DELETE FROM kept_objects WHERE name = ?1", [name])?;
            t.execute("INSERT OR REPLACE INTO kept VALUES (?1, ?2, ?3)", params![name, text, seconds_now()])?;
            for object in objects {
                t.execute("INSERT INTO kept_objects VALUES (?1, ?2)", params![name, object.hex()])?;
            }
            t.commit()
        })
    }

    /// What is kept by a name.
    ///
    /// # Errors
    /// The index cannot be read.
    pub fn kept(&self, name: &str) -> Result<Option<String>> {
        self.index(|db| db.query_row("SELECT text FROM kept WHERE name = ?1", [name], |row| row.get(0)).optional())
    }

    /// Everything kept by names that begin so, in order of the names.
    ///
    /// # Errors
    /// The index cannot be read.
    pub fn kept_named(&self, prefix: &str) -> Result<Vec<Kept>> {
        self.index(|db| {
            db.prepare("SELECT name, text, made FROM kept WHERE substr(name, 1, length(?1)) = ?1 ORDER BY name")?
                .query_map([prefix], |row| Ok(Kept { name: row.get(0)?, text: row.get(1)?, made: row.get(2)? }))?
                .collect()
        })
    }

    /// Keeps it no longer.
    ///
    /// # Errors
    /// The index cannot be written.
    pub fn drop_kept(&self, name: &str) -> Result<()> {
        self.index(|db| {
            let t = db.transaction_with_behavior(TransactionBehavior::Immediate)?;
            t.execute("DELETE FROM kept_objects WHERE name = ?1", [name])?;
            t.execute("DELETE FROM kept WHERE name = ?1", [name])?;
            t.commit()
        })
    }

    pub(crate) fn partials(&self) -> PathBuf {
        self.root().join("partial")
    }

    pub(crate) fn indexes(&self) -> PathBuf {
        self.root().join("indexes")
    }

    /// Where a file made for fast reading lies, whether it is there or not.
    pub fn index_path(&self, key: &Digest) -> PathBuf {
        self.indexes().join(key.hex())
    }

    /// Writes such a file, beside and renamed.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn put_index(&self, key: &Digest, bytes: &[u8]) -> Result<()> {
        let (temporary, path) = (self.fresh_path(), self.index_path(key));
        fs::write(&temporary, bytes).doing("write", &temporary)?;
        fs::rename(&temporary, &path).doing("write", &path)
    }

    /// Opens what has arrived of an object, waiting while another process works on it.
    ///
    /// # Errors
    /// It cannot be opened.
    pub fn partial(&self, digest: &Digest) -> Result<Partial> {
        let path = self.partials().join(digest.hex());
        loop {
            let file = File::options().read(true).write(true).create(true).truncate(false).open(&path);
            let file = file.doing("write", &path)?;
            file.lock().doing("lock", &path)?;
            // Whoever had it before may have finished and removed it: then this is a file without a name.
            let same = fs::metadata(&path).ok().zip(file.metadata().ok()).is_some_and(|(a, b)| {
                use std::os::unix::fs::MetadataExt;
                (a.dev(), a.ino()) == (b.dev(), b.ino())
            });
            if same {
                return Ok(Partial { path, file });
            }
        }
    }

    /// Takes a finished file in as an object if its bytes are the object's; else removes it.
    ///
    /// # Errors
    /// It cannot be read or moved.
    pub fn adopt_partial(&self, partial: Partial, digest: &Digest) -> Result<std::result::Result<u64, Digest>> {
        let path = &partial.path;
        let (found, size) = File::open(path).and_then(|f| HashingReader::new(f).finish()).doing("read", path)?;
        if found != *digest {
            fs::remove_file(path).doing("remove", path)?;
            return Ok(Err(found));
        }
        partial.file.set_permissions(fs::Permissions::from_mode(0o555)).doing("write", path)?;
        self.adopt(path, digest)?;
        Ok(Ok(size))
    }
}
