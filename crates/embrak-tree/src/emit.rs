//! Writing extents into a file: once, with holes, hashed on the way.

use crate::{BlobSource, Chunk, Digest, Extent, Extents, HashingWriter};
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::sync::atomic::{AtomicUsize, Ordering};
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
/// Bytes handed over at once.
const PIECE: usize = 512 * 1024;
/// Pieces on their way at once.
const PIECES: usize = 8;

enum Piece {
    Data(Vec<u8>),
    Zeros(u64),
}

/// Joins chunks into pieces worth handing over.
struct Pieces<F> {
    piece: Vec<u8>,
    /// Where the piece begins.
    at: u64,
    /// Takes a full piece and its place, and gives an empty one.
    full: F,
}

impl<F: FnMut(Vec<u8>, u64) -> io::Result<Vec<u8>>> Pieces<F> {
    fn data(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            let n = bytes.len().min(PIECE - self.piece.len());
            self.piece.extend_from_slice(&bytes[..n]);
            bytes = &bytes[n..];
            if self.piece.len() == PIECE {
                self.flush()?;
            }
        }
        Ok(())
    }

    fn flush(&mut self) -> io::Result<()> {
        if !self.piece.is_empty() {
            let length = self.piece.len() as u64;
            self.piece = (self.full)(std::mem::take(&mut self.piece), self.at)?;
            self.piece.clear();
            self.at += length;
        }
        Ok(())
    }

    /// Zeros short enough to be written are; longer ones are said to be skipped.
    fn zeros(&mut self, length: u64) -> io::Result<bool> {
        if length < SMALLEST_HOLE {
            self.data(&[0; SMALLEST_HOLE as usize][..length as usize])?;
            return Ok(false);
        }
        self.flush()?;
        self.at += length;
        Ok(true)
    }
}

/// After so many bytes, what was written is sent on its way to the disk, beside the work: whoever syncs the file at the
/// end has not to wait for all of it.
const SYNC_EVERY: u64 = 96 << 20;

/// Streams extents into an empty file. Hashing runs beside reading and writing, on a thread of its own.
///
/// # Errors
/// Reading a blob or writing fails.
pub fn emit(extents: &Extents, blobs: &dyn BlobSource, file: &mut File) -> io::Result<Emitted> {
    let (sender, receiver) = mpsc::sync_channel::<Piece>(PIECES);
    let (done, emptied) = mpsc::channel::<Vec<u8>>();
    let file: &File = file;
    let digest = std::thread::scope(|scope| {
        let (written, much) = mpsc::sync_channel::<()>(1);
        scope.spawn(move || {
            for () in much {
                // Only a head start: that it fails is told to whoever syncs at the end.
                let _ = file.sync_data();
            }
        });
        let hashing = scope.spawn(move || {
            let mut hasher = HashingWriter::new(io::sink());
            let zeros = vec![0u8; 64 * 1024];
            for piece in receiver {
                match piece {
                    Piece::Data(bytes) => {
                        hasher.write_all(&bytes)?;
                        // Whoever fills pieces may have ended.
                        let _ = done.send(bytes);
                    }
                    Piece::Zeros(mut left) => {
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
        let mut unsynced = 0;
        let full = |bytes: Vec<u8>, at| {
            file.write_all_at(&bytes, at)?;
            unsynced += bytes.len() as u64;
            if unsynced >= SYNC_EVERY && written.try_send(()).is_ok() {
                unsynced = 0;
            }
            sender.send(Piece::Data(bytes)).map_err(gone)?;
            Ok(emptied.try_recv().unwrap_or_else(|_| Vec::with_capacity(PIECE)))
        };
        let mut pieces = Pieces { piece: Vec::with_capacity(PIECE), at: 0, full };
        extents.stream(blobs, |chunk| match chunk {
            Chunk::Data(bytes) => pieces.data(bytes),
            Chunk::Zeros(length) => match pieces.zeros(length)? {
                true => sender.send(Piece::Zeros(length)).map_err(gone),
                false => Ok(()),
            },
        })?;
        pieces.flush()?;
        drop(pieces);
        drop(sender);
        hashing.join().map_err(|_| io::Error::other("the hashing thread has failed"))?
    })?;
    // A hole at the end exists only once the file is that long.
    file.set_len(extents.total())?;
    Ok(Emitted { digest, size: extents.total() })
}

/// Fills an empty file on all cores, without digesting it: for files nobody has to know by their digest.
///
/// # Errors
/// Reading a blob or writing fails.
pub fn fill(extents: &Extents, blobs: &dyn BlobSource, file: &File) -> io::Result<()> {
    file.set_len(extents.total())?;
    // Runs of items of about so many bytes, with their places; a long blob is cut.
    const RUN: u64 = 8 << 20;
    let mut runs: Vec<(u64, Extents)> = Vec::new();
    let mut at = 0;
    for item in extents.items() {
        let length = item.length();
        let mut from = 0;
        while from < length && !matches!(item, Extent::Zeros(n) if *n >= SMALLEST_HOLE) {
            let joins =
                matches!(runs.last(), Some((start, run)) if start + run.total() == at + from && run.total() < RUN);
            if !joins {
                runs.push((at + from, Extents::new()));
            }
            let Some((_, run)) = runs.last_mut() else { break };
            let n = (length - from).min(RUN - run.total().min(RUN - 1));
            match item {
                Extent::Bytes(bytes) => run.bytes(&bytes[from as usize..(from + n) as usize]),
                Extent::Blob { digest, .. } if n == length => run.blob(*digest, length),
                Extent::Blob { digest, .. } => run.part(*digest, from, n),
                Extent::Part { digest, offset, .. } => run.part(*digest, offset + from, n),
                Extent::Zeros(_) => run.zeros(n),
            }
            from += n;
        }
        at += length;
    }
    let next = AtomicUsize::new(0);
    let work = || -> io::Result<()> {
        while let Some((start, run)) = runs.get(next.fetch_add(1, Ordering::Relaxed)) {
            let full = |bytes: Vec<u8>, at| file.write_all_at(&bytes, at).map(|()| bytes);
            let mut pieces = Pieces { piece: Vec::with_capacity(PIECE), at: *start, full };
            run.stream(blobs, |chunk| match chunk {
                Chunk::Data(bytes) => pieces.data(bytes),
                Chunk::Zeros(length) => pieces.zeros(length).map(drop),
            })?;
            pieces.flush()?;
        }
        Ok(())
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(runs.len().max(1));
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
        let mut result = work();
        for other in others {
            result = result.and(other.join().unwrap_or_else(|_| Err(io::Error::other("a writing thread has failed"))));
        }
        result
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::MemoryBlobs;
    use std::os::unix::fs::MetadataExt;

    fn example(blobs: &MemoryBlobs) -> Extents {
        let mut extents = Extents::new();
        extents.bytes(*b"head");
        extents.pad_to(8 << 20);
        for (n, length) in [(1, 70_000), (2, 3 << 20), (3, 19 << 20), (4, 1)] {
            let (digest, length) = blobs.add((0..length).map(|i| (i * n % 251) as u8).collect::<Vec<_>>());
            extents.blob(digest, length);
            extents.pad_to(extents.total().next_multiple_of(1024));
            extents.part(digest, length / 3, length / 2);
        }
        extents.pad_to(72 << 20);
        extents
    }

    #[test]
    fn holes_are_left_and_the_digest_is_of_all_bytes() {
        let blobs = MemoryBlobs::default();
        let extents = example(&blobs);
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("disk.raw");
        let mut file = File::create(&path).unwrap();
        let emitted = emit(&extents, &blobs, &mut file).unwrap();
        let bytes = std::fs::read(&path).unwrap();
        assert!(bytes == extents.to_vec(&blobs).unwrap());
        assert_eq!(emitted, Emitted { digest: Digest::of(&bytes), size: 72 << 20 });
        assert!(file.metadata().unwrap().blocks() * 512 < 50 << 20, "the zeros take space");

        let filled = File::create(dir.path().join("filled")).unwrap();
        fill(&extents, &blobs, &filled).unwrap();
        assert!(std::fs::read(dir.path().join("filled")).unwrap() == bytes);
        assert!(filled.metadata().unwrap().blocks() * 512 < 50 << 20, "the zeros take space");
    }

    #[test]
    fn a_missing_blob_is_an_error() {
        let mut extents = Extents::new();
        extents.blob(Digest::of("absent"), 6);
        let mut file = tempfile::tempfile().unwrap();
        assert!(emit(&extents, &MemoryBlobs::default(), &mut file).is_err());
        assert!(fill(&extents, &MemoryBlobs::default(), &file).is_err());
    }
}
