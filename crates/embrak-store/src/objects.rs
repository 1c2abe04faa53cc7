//! Immutable bytes, named by their SHA-256.

use crate::{Doing, Result, Store};
use embrak_tree::{BlobSink, BlobSource, Digest, HashingReader, HashingWriter};
use std::fs::{self, File};
use std::io::{self, Read, Seek, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::time::{Duration, SystemTime};

/// An object that is not what its name says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damage {
    /// Its name.
    pub digest: Digest,
    /// What its bytes really digest to; none when it cannot be read.
    pub found: Option<Digest>,
}

impl Store {
    /// Where an object lies, whether it is there or not.
    pub fn object_path(&self, digest: &Digest) -> PathBuf {
        let hex = digest.hex();
        self.root().join("objects/sha256").join(&hex[..2]).join(&hex[2..])
    }

    /// Whether an object is there; its bytes are not read.
    pub fn has(&self, digest: &Digest) -> bool {
        self.object_path(digest).exists()
    }

    /// Keeps bytes from memory.
    ///
    /// # Errors
    /// They cannot be written.
    pub fn put_bytes(&self, bytes: impl AsRef<[u8]>) -> Result<Digest> {
        let digest = Digest::of(bytes.as_ref());
        if !self.has(&digest) {
            self.put_reader(&mut bytes.as_ref())?;
        }
        Ok(digest)
    }

    /// Keeps the bytes of a file.
    ///
    /// # Errors
    /// It cannot be read, or the object cannot be written.
    pub fn put_file(&self, path: &Path) -> Result<(Digest, u64)> {
        let mut file = File::open(path).doing("read", path)?;
        self.put_reader(&mut file)
    }

    /// Keeps the bytes of a reader.
    ///
    /// # Errors
    /// Reading or writing fails.
    pub fn put_reader(&self, content: &mut dyn Read) -> Result<(Digest, u64)> {
        let temporary = self.fresh_path();
        let file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&temporary);
        let mut writer = HashingWriter::new(file.doing("write", &temporary)?);
        let copied = io::copy(content, &mut writer).and_then(|_| writer.flush());
        if let Err(error) = copied {
            let _ = fs::remove_file(&temporary);
            return Err(error).doing("write", &temporary);
        }
        let (file, digest, size) = writer.finish();
        // Executable, because views are hard links and programs are run from there.
        file.set_permissions(fs::Permissions::from_mode(0o555)).doing("write", &temporary)?;
        mark_sound(&file, &digest);
        self.adopt(&temporary, &digest)?;
        Ok((digest, size))
    }

    /// Renames a finished temporary file to its place.
    pub(crate) fn adopt(&self, temporary: &Path, digest: &Digest) -> Result<()> {
        let path = self.object_path(digest);
        let moved = fs::rename(temporary, &path).or_else(|error| match (error.kind(), path.parent()) {
            (io::ErrorKind::NotFound, Some(parent)) => {
                fs::create_dir_all(parent)?;
                fs::rename(temporary, &path)
            }
            _ => Err(error),
        });
        moved.doing("write", &path)
    }

    /// Takes an object over from another store, by hard link where the filesystem allows it. Its bytes are
    /// checked on the way.
    ///
    /// # Errors
    /// It is not there, it is damaged, or it cannot be written.
    pub fn import(&self, from: &Store, digest: &Digest) -> Result<()> {
        if self.has(digest) {
            return Ok(());
        }
        let source = from.object_path(digest);
        let file = File::open(&source).doing("read", &source)?;
        let mut reader = Verifying { store: from, digest: *digest, reader: Some(HashingReader::new(file)) };
        io::copy(&mut reader, &mut io::sink()).doing("read", &source)?;
        let temporary = self.fresh_path();
        if fs::hard_link(&source, &temporary).is_err() {
            fs::copy(&source, &temporary).doing("copy", &source)?;
        }
        self.adopt(&temporary, digest)
    }

    /// The objects whose bytes were found not to match their name since the last call; they are removed, so
    /// that whatever made them is made again.
    pub fn take_damaged(&self) -> Vec<Digest> {
        let found = std::mem::take(&mut *self.damaged.lock().unwrap_or_else(PoisonError::into_inner));
        if !found.is_empty() {
            self.seen().clear();
        }
        for digest in &found {
            let _ = fs::remove_file(self.object_path(digest));
            // A view is hard links: any of them may show the damaged bytes.
            let _ = self.forget_views();
        }
        found.into_iter().collect()
    }

    fn note_damage(&self, digest: Digest) {
        self.damaged.lock().unwrap_or_else(PoisonError::into_inner).insert(digest);
    }

    /// Reads every object and compares it with its name. Calls `progress` with bytes done.
    ///
    /// # Errors
    /// The directory cannot be listed.
    pub fn check_objects(&self, mut progress: impl FnMut(u64)) -> Result<Vec<Damage>> {
        let mut damage = Vec::new();
        for (digest, path) in self.list_objects()? {
            let found = File::open(&path).and_then(|f| HashingReader::new(f).finish());
            match found {
                Ok((found, size)) => {
                    progress(size);
                    if found != digest {
                        damage.push(Damage { digest, found: Some(found) });
                    }
                }
                Err(_) => damage.push(Damage { digest, found: None }),
            }
        }
        for damage in &damage {
            self.note_damage(damage.digest);
        }
        Ok(damage)
    }

    /// All objects in order of their digests.
    pub(crate) fn list_objects(&self) -> Result<Vec<(Digest, PathBuf)>> {
        let top = self.root().join("objects/sha256");
        let mut all = Vec::new();
        for dir in fs::read_dir(&top).doing("list", &top)? {
            let dir = dir.doing("list", &top)?.path();
            for file in fs::read_dir(&dir).doing("list", &dir)? {
                let path = file.doing("list", &dir)?.path();
                let hex: String =
                    [dir.file_name(), path.file_name()].iter().flatten().map(|n| n.to_string_lossy()).collect();
                if let Ok(digest) = Digest::from_hex(&hex) {
                    all.push((digest, path));
                }
            }
        }
        all.sort();
        Ok(all)
    }

    /// Number of objects and their bytes.
    ///
    /// # Errors
    /// The directory cannot be listed.
    pub fn usage(&self) -> Result<(usize, u64)> {
        let objects = self.list_objects()?;
        let bytes = objects.iter().filter_map(|(_, p)| fs::metadata(p).ok()).map(|m| m.size()).sum();
        Ok((objects.len(), bytes))
    }
}

/// The time of an object that was seen to be what its name says. Whoever writes into it afterwards gives it another, so
/// an object is read without being verified again as long as it has this one.
fn time_of_sound(digest: &Digest) -> SystemTime {
    let raw = digest.raw();
    let word = |at: usize| u32::from_le_bytes([raw[at], raw[at + 1], raw[at + 2], raw[at + 3]]);
    // Always past, for programs that compare times of the files they are given.
    let seconds = 1_000_000_000 + u64::from(word(0) % 500_000_000);
    SystemTime::UNIX_EPOCH + Duration::new(seconds, word(4) % 1_000_000_000)
}

/// Without the mark an object is only read more slowly, so failing is no failure.
fn mark_sound(file: &File, digest: &Digest) {
    let _ = file.set_times(fs::FileTimes::new().set_modified(time_of_sound(digest)));
}

fn is_marked_sound(file: &File, digest: &Digest) -> bool {
    file.metadata().and_then(|m| m.modified()).is_ok_and(|time| time == time_of_sound(digest))
}

/// Hashes while reading and refuses to end well when the bytes are not the object's.
struct Verifying<'a> {
    store: &'a Store,
    digest: Digest,
    reader: Option<HashingReader<File>>,
}

impl Read for Verifying<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let Some(reader) = &mut self.reader else { return Ok(0) };
        let n = reader.read(buf)?;
        if n == 0 && !buf.is_empty() {
            let (found, _) = self.reader.take().map_or_else(|| unreachable!(), HashingReader::finish)?;
            if found == self.digest
                && let Ok(file) = File::open(self.store.object_path(&self.digest))
            {
                mark_sound(&file, &self.digest);
            }
            if found != self.digest {
                self.store.note_damage(self.digest);
                let what = format!("object {} is damaged: its bytes digest to {found}", self.digest);
                return Err(io::Error::new(io::ErrorKind::InvalidData, what));
            }
        }
        Ok(n)
    }
}

impl BlobSource for Store {
    fn open(&self, digest: &Digest) -> io::Result<Box<dyn Read + Send + '_>> {
        match File::open(self.object_path(digest)) {
            Ok(file) if is_marked_sound(&file, digest) => Ok(Box::new(file)),
            Ok(file) => {
                Ok(Box::new(Verifying { store: self, digest: *digest, reader: Some(HashingReader::new(file)) }))
            }
            Err(error) => {
                self.note_damage(*digest);
                Err(io::Error::new(error.kind(), format!("object {digest} is not in the store ({error})")))
            }
        }
    }

    fn open_at(&self, digest: &Digest, offset: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let mut file = File::open(self.object_path(digest)).map_err(|error| {
            self.note_damage(*digest);
            io::Error::new(error.kind(), format!("object {digest} is not in the store ({error})"))
        })?;
        file.seek(io::SeekFrom::Start(offset))?;
        Ok(Box::new(file))
    }
}

impl BlobSink for Store {
    fn put(&self, content: &mut dyn Read) -> io::Result<(Digest, u64)> {
        self.put_reader(content).map_err(|e| match e {
            crate::StoreError::Io { source, .. } => source,
            other => io::Error::other(other),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn objects_come_back_and_damage_is_noticed_on_reading() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let digest = store.put_bytes("lamp on").unwrap();
        assert_eq!(store.read(&digest).unwrap(), b"lamp on");
        assert!(store.check_objects(|_| ()).unwrap().is_empty());

        let path = store.object_path(&digest);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        fs::write(&path, "lamp off").unwrap();
        let error = store.read(&digest).unwrap_err();
        assert!(error.to_string().contains("is damaged"), "{error}");
        assert_eq!(store.take_damaged(), [digest]);
        assert!(!store.has(&digest));
        assert!(store.take_damaged().is_empty());
        assert_eq!(store.put_bytes("lamp on").unwrap(), digest);
        assert_eq!(store.read(&digest).unwrap(), b"lamp on");
    }

    #[test]
    fn a_missing_object_is_reported_as_damage() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path()).unwrap();
        let digest = Digest::of("never put");
        assert!(store.read(&digest).is_err());
        assert_eq!(store.take_damaged(), [digest]);
    }

    #[test]
    fn another_store_takes_only_sound_objects() {
        let (a, b) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (from, to) = (Store::open(a.path()).unwrap(), Store::open(b.path()).unwrap());
        let digest = from.put_bytes("tide").unwrap();
        to.import(&from, &digest).unwrap();
        assert_eq!(to.read(&digest).unwrap(), b"tide");

        let other = from.put_bytes("ebb").unwrap();
        let path = from.object_path(&other);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        fs::write(path, "flood").unwrap();
        assert!(to.import(&from, &other).is_err());
        assert!(!to.has(&other));
    }
}
