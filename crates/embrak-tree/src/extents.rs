//! Extents: the second currency. What a file of a known size consists of, without its bytes.

use crate::{BlobSource, Digest};
use std::io::{self, Read, Write};

/// A run of bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Extent {
    /// These bytes.
    Bytes(Vec<u8>),
    /// The first `length` bytes of a blob.
    Blob {
        /// Which blob.
        digest: Digest,
        /// Its whole length.
        length: u64,
    },
    /// A part of a blob.
    Part {
        /// Which blob.
        digest: Digest,
        /// Where in it the part begins.
        offset: u64,
        /// How long the part is.
        length: u64,
    },
    /// So many zeros.
    Zeros(u64),
}

impl Extent {
    /// Its length in bytes.
    pub fn length(&self) -> u64 {
        match self {
            Extent::Bytes(bytes) => bytes.len() as u64,
            Extent::Blob { length, .. } | Extent::Part { length, .. } | Extent::Zeros(length) => *length,
        }
    }
}

/// An ordered list of extents and their total length.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Extents {
    items: Vec<Extent>,
    total: u64,
}

/// What streaming extents hands over.
pub enum Chunk<'a> {
    /// Bytes.
    Data(&'a [u8]),
    /// So many zeros.
    Zeros(u64),
}

impl Extents {
    /// Nothing yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Total length in bytes.
    pub fn total(&self) -> u64 {
        self.total
    }

    /// The extents in order.
    pub fn items(&self) -> &[Extent] {
        &self.items
    }

    /// Adds bytes.
    pub fn bytes(&mut self, bytes: impl Into<Vec<u8>>) {
        let bytes = bytes.into();
        self.total += bytes.len() as u64;
        match self.items.last_mut() {
            _ if bytes.is_empty() => {}
            Some(Extent::Bytes(last)) => last.extend_from_slice(&bytes),
            _ => self.items.push(Extent::Bytes(bytes)),
        }
    }

    /// Adds a whole blob.
    pub fn blob(&mut self, digest: Digest, length: u64) {
        self.total += length;
        if length > 0 {
            self.items.push(Extent::Blob { digest, length });
        }
    }

    /// Adds a part of a blob.
    pub fn part(&mut self, digest: Digest, offset: u64, length: u64) {
        self.total += length;
        if length > 0 {
            self.items.push(Extent::Part { digest, offset, length });
        }
    }

    /// Adds zeros.
    pub fn zeros(&mut self, length: u64) {
        self.total += length;
        match self.items.last_mut() {
            _ if length == 0 => {}
            Some(Extent::Zeros(last)) => *last += length,
            _ => self.items.push(Extent::Zeros(length)),
        }
    }

    /// Adds zeros up to an offset from the start. Does nothing when that is passed already.
    pub fn pad_to(&mut self, offset: u64) {
        self.zeros(offset.saturating_sub(self.total));
    }

    /// Adds other extents behind these.
    pub fn append(&mut self, other: Extents) {
        for item in other.items {
            match item {
                Extent::Bytes(bytes) => self.bytes(bytes),
                Extent::Blob { digest, length } => self.blob(digest, length),
                Extent::Part { digest, offset, length } => self.part(digest, offset, length),
                Extent::Zeros(length) => self.zeros(length),
            }
        }
    }

    /// Writes all bytes in order.
    ///
    /// # Errors
    /// As [`Extents::stream`].
    pub fn write_to(&self, blobs: &dyn BlobSource, out: &mut dyn Write) -> io::Result<()> {
        self.stream(blobs, |chunk| match chunk {
            Chunk::Data(bytes) => out.write_all(bytes),
            Chunk::Zeros(n) => io::copy(&mut io::repeat(0).take(n), out).map(drop),
        })
    }

    /// Hands all bytes over in order. Memory is bounded whatever the size of blobs.
    ///
    /// # Errors
    /// A blob cannot be read or has another length than it should, or `take` fails.
    pub fn stream(&self, blobs: &dyn BlobSource, mut take: impl FnMut(Chunk<'_>) -> io::Result<()>) -> io::Result<()> {
        let mut buffer = vec![0; 256 * 1024];
        for item in &self.items {
            match item {
                Extent::Bytes(bytes) => take(Chunk::Data(bytes))?,
                Extent::Zeros(length) => take(Chunk::Zeros(*length))?,
                Extent::Part { digest, offset, length } => {
                    let mut reader = blobs.open_at(digest, *offset)?;
                    let mut left = *length;
                    while left > 0 {
                        let wanted = left.min(buffer.len() as u64) as usize;
                        let n = reader.read(&mut buffer[..wanted])?;
                        if n == 0 {
                            let what = format!("blob {digest} ends before the byte {}", offset + length);
                            return Err(io::Error::new(io::ErrorKind::InvalidData, what));
                        }
                        take(Chunk::Data(&buffer[..n]))?;
                        left -= n as u64;
                    }
                }
                Extent::Blob { digest, length } => {
                    let mut reader = blobs.open(digest)?;
                    let mut left = *length;
                    loop {
                        let n = reader.read(&mut buffer)?;
                        if n as u64 > left || (n == 0 && left > 0) {
                            let what = format!("blob {digest} does not have the {length} bytes it should");
                            return Err(io::Error::new(io::ErrorKind::InvalidData, what));
                        }
                        if n == 0 {
                            break;
                        }
                        take(Chunk::Data(&buffer[..n]))?;
                        left -= n as u64;
                    }
                }
            }
        }
        Ok(())
    }

    /// All bytes in memory, for what is known to be small.
    ///
    /// # Errors
    /// As [`Extents::stream`].
    pub fn to_vec(&self, blobs: &dyn BlobSource) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        self.stream(blobs, |chunk| {
            match chunk {
                Chunk::Data(bytes) => out.extend_from_slice(bytes),
                Chunk::Zeros(n) => out.resize(out.len() + n as usize, 0),
            }
            Ok(())
        })?;
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::MemoryBlobs;

    #[test]
    fn neighbours_join_and_lengths_add_up() {
        let blobs = MemoryBlobs::default();
        let (digest, length) = blobs.add("tide");
        let mut extents = Extents::new();
        extents.bytes(*b"ab");
        extents.bytes(*b"c");
        extents.pad_to(5);
        extents.zeros(1);
        extents.blob(digest, length);
        extents.pad_to(3);
        assert_eq!((extents.items().len(), extents.total()), (3, 10));
        assert_eq!(extents.to_vec(&blobs).unwrap(), b"abc\0\0\0tide");
    }

    #[test]
    fn a_blob_of_another_length_is_an_error() {
        let blobs = MemoryBlobs::default();
        let (digest, _) = blobs.add("tide");
        for wrong in [3, 5] {
            let mut extents = Extents::new();
            extents.blob(digest, wrong);
            assert!(extents.to_vec(&blobs).is_err(), "{wrong}");
        }
    }
}
