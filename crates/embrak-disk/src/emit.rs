//! Writing extents into a file: once, with holes, hashed on the way.

use crate::{Chunk, Extents};
use embrak_tree::{BlobSource, Digest, HashingWriter};
use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::sync::mpsc;

/// What was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Emitted {
    /// Digest of all bytes, holes read as zeros.
    pub digest: Digest,
    /// Length in bytes.
    pub size: u64,
}

/// Zeros shorter than this are written; a hole would save nothing.
const SMALLEST_HOLE: u64 = 4096;

enum ToHash {
    Data(Vec<u8>),
    Zeros(u64),
}

/// Streams extents into an empty file. Hashing runs beside writing on a thread of its own.
///
/// # Errors
/// Reading a blob or writing fails.
pub fn emit(extents: &Extents, blobs: &dyn BlobSource, file: &mut File) -> io::Result<Emitted> {
    let zeros = vec![0u8; 1 << 20];
    let (sender, receiver) = mpsc::sync_channel::<ToHash>(16);
    let digest = std::thread::scope(|scope| {
        let hashing = scope.spawn(|| {
            let mut hasher = HashingWriter::new(io::sink());
            for chunk in receiver {
                match chunk {
                    ToHash::Data(bytes) => hasher.write_all(&bytes)?,
                    ToHash::Zeros(mut left) => {
                        while left > 0 {
                            let n = left.min(zeros.len() as u64);
                            hasher.write_all(&zeros[..n as usize])?;
                            left -= n;
                        }
                    }
                }
            }
            io::Result::Ok(hasher.finish().1)
        });
        let gone = |_| io::Error::other("the hashing thread has ended");
        extents.stream(blobs, |chunk| match chunk {
            Chunk::Data(bytes) => {
                file.write_all(bytes)?;
                sender.send(ToHash::Data(bytes.to_vec())).map_err(gone)
            }
            Chunk::Zeros(length) => {
                if length < SMALLEST_HOLE {
                    file.write_all(&zeros[..length as usize])?;
                } else {
                    file.seek(SeekFrom::Current(i64::try_from(length).map_err(io::Error::other)?))?;
                }
                sender.send(ToHash::Zeros(length)).map_err(gone)
            }
        })?;
        drop(sender);
        hashing.join().map_err(|_| io::Error::other("the hashing thread has failed"))?
    })?;
    // A hole at the end exists only once the file is that long.
    file.set_len(extents.total())?;
    Ok(Emitted { digest, size: extents.total() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::MemoryBlobs;
    use std::os::unix::fs::MetadataExt;

    #[test]
    fn holes_are_left_and_the_digest_is_of_all_bytes() {
        let blobs = MemoryBlobs::default();
        let (digest, length) = blobs.add(vec![7; 70_000]);
        let mut extents = Extents::new();
        extents.bytes(*b"head");
        extents.pad_to(8 << 20);
        extents.blob(digest, length);
        extents.pad_to(16 << 20);
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("disk.raw");
        let mut file = File::create(&path).unwrap();
        let emitted = emit(&extents, &blobs, &mut file).unwrap();
        let bytes = std::fs::read(&path).unwrap();
        assert_eq!(bytes, extents.to_vec(&blobs).unwrap());
        assert_eq!(emitted, Emitted { digest: Digest::of(&bytes), size: 16 << 20 });
        assert!(file.metadata().unwrap().blocks() * 512 < 1 << 20, "the zeros take space");
    }

    #[test]
    fn a_missing_blob_is_an_error() {
        let mut extents = Extents::new();
        extents.blob(Digest::of("absent"), 6);
        let mut file = tempfile::tempfile().unwrap();
        assert!(emit(&extents, &MemoryBlobs::default(), &mut file).is_err());
    }
}
