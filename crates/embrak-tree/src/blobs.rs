//! Where file contents come from and go to.

use crate::Digest;
use std::collections::BTreeMap;
use std::io::{self, Cursor, Read};
use std::sync::Mutex;

/// Gives the bytes of a blob by its digest.
pub trait BlobSource: Sync {
    /// A reader over the whole blob.
    ///
    /// # Errors
    /// The blob is not there or cannot be opened.
    fn open(&self, digest: &Digest) -> io::Result<Box<dyn Read + Send + '_>>;

    /// A reader over the blob from an offset on. What is read this way is not checked against the digest.
    ///
    /// # Errors
    /// As [`BlobSource::open`], or it ends before the offset.
    fn open_at(&self, digest: &Digest, offset: u64) -> io::Result<Box<dyn Read + Send + '_>> {
        let mut reader = self.open(digest)?;
        let skipped = io::copy(&mut reader.by_ref().take(offset), &mut io::sink())?;
        if skipped < offset {
            return Err(io::Error::new(
                io::ErrorKind::UnexpectedEof,
                format!("blob {digest} has only {skipped} bytes"),
            ));
        }
        Ok(reader)
    }

    /// The whole blob in memory.
    ///
    /// # Errors
    /// As [`BlobSource::open`], or reading fails.
    fn read(&self, digest: &Digest) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        self.open(digest)?.read_to_end(&mut bytes)?;
        Ok(bytes)
    }
}

/// Takes bytes and tells under which digest they are kept.
pub trait BlobSink: Sync {
    /// Reads to the end and keeps the bytes; their digest and number.
    ///
    /// # Errors
    /// What the reader or the place of keeping reports.
    fn put(&self, content: &mut dyn Read) -> io::Result<(Digest, u64)>;
}

/// Blobs in memory, for tests and for small things.
#[derive(Default)]
pub struct MemoryBlobs(Mutex<BTreeMap<Digest, Vec<u8>>>);

impl MemoryBlobs {
    /// Keeps some bytes.
    pub fn add(&self, bytes: impl Into<Vec<u8>>) -> (Digest, u64) {
        let bytes = bytes.into();
        let (digest, size) = (Digest::of(&bytes), bytes.len() as u64);
        self.0.lock().unwrap_or_else(|e| e.into_inner()).insert(digest, bytes);
        (digest, size)
    }
}

impl BlobSource for MemoryBlobs {
    fn open(&self, digest: &Digest) -> io::Result<Box<dyn Read + Send + '_>> {
        match self.0.lock().unwrap_or_else(|e| e.into_inner()).get(digest) {
            Some(bytes) => Ok(Box::new(Cursor::new(bytes.clone()))),
            None => Err(io::Error::new(io::ErrorKind::NotFound, format!("no blob {digest}"))),
        }
    }
}

impl BlobSink for MemoryBlobs {
    fn put(&self, content: &mut dyn Read) -> io::Result<(Digest, u64)> {
        let mut bytes = Vec::new();
        content.read_to_end(&mut bytes)?;
        Ok(self.add(bytes))
    }
}

/// Keeps nothing: only tells what the bytes digest to.
#[derive(Debug, Default, Clone, Copy)]
pub struct DigestOnly;

impl BlobSink for DigestOnly {
    fn put(&self, content: &mut dyn Read) -> io::Result<(Digest, u64)> {
        crate::HashingReader::new(content).finish()
    }
}
