//! Reading at an offset, as images are looked into.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::FileExt;

/// Something of a known size that can be read anywhere.
pub trait ReadAt: Sync {
    /// Fills the buffer from an offset.
    ///
    /// # Errors
    /// It reaches beyond the end, or reading fails.
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()>;

    /// Size in bytes.
    fn size(&self) -> u64;

    /// So many bytes from an offset, as a new vector. Refuses what lies beyond the end before it allocates.
    ///
    /// # Errors
    /// As [`ReadAt::read_exact_at`].
    fn read_vec(&self, offset: u64, length: u64) -> io::Result<Vec<u8>> {
        if offset.checked_add(length).is_none_or(|end| end > self.size()) {
            let what = format!("{length} bytes at {offset} reach beyond the end at {}", self.size());
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, what));
        }
        let mut buffer = vec![0; length as usize];
        self.read_exact_at(&mut buffer, offset)?;
        Ok(buffer)
    }
}

/// Whether two readers give the same bytes.
///
/// # Errors
/// One of them fails.
pub fn read_alike(mut a: impl Read, mut b: impl Read) -> io::Result<bool> {
    const PIECE: usize = 256 << 10;
    fn full(from: &mut impl Read, buffer: &mut Vec<u8>) -> io::Result<()> {
        buffer.clear();
        from.take(PIECE as u64).read_to_end(buffer).map(drop)
    }
    let (mut x, mut y) = (Vec::new(), Vec::new());
    loop {
        full(&mut a, &mut x)?;
        full(&mut b, &mut y)?;
        if x != y {
            return Ok(false);
        }
        if x.len() < PIECE {
            return Ok(true);
        }
    }
}

impl ReadAt for File {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        FileExt::read_exact_at(self, buffer, offset)
    }
    fn size(&self) -> u64 {
        self.metadata().map_or(0, |m| m.len())
    }
}

impl ReadAt for Vec<u8> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let range = usize::try_from(offset).ok().and_then(|start| Some(start..start.checked_add(buffer.len())?));
        match range.and_then(|range| self.get(range)) {
            Some(bytes) => {
                buffer.copy_from_slice(bytes);
                Ok(())
            }
            None => Err(io::ErrorKind::UnexpectedEof.into()),
        }
    }
    fn size(&self) -> u64 {
        self.len() as u64
    }
}

/// A part of something, such as a partition of a disk.
pub struct Slice<'a> {
    /// The whole.
    pub inner: &'a dyn ReadAt,
    /// Where the part begins, in bytes.
    pub start: u64,
    /// How long it is, in bytes.
    pub length: u64,
}

impl ReadAt for Slice<'_> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        if offset.checked_add(buffer.len() as u64).is_none_or(|end| end > self.length) {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.inner.read_exact_at(buffer, self.start + offset)
    }
    fn size(&self) -> u64 {
        self.length
    }
}
