//! Decompression by file name or by the first bytes, with a limit on what comes out.

use std::io::{self, BufReader, Read};

/// How something is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Compression {
    None,
    Gzip,
    Xz,
    Zstd,
}

impl Compression {
    /// By the end of a file's name; none when it is not known.
    pub(crate) fn of_name(name: &str) -> Option<Self> {
        match name.rsplit_once('.').map(|(_, end)| end) {
            Some("gz") => Some(Compression::Gzip),
            Some("xz") => Some(Compression::Xz),
            Some("zst") => Some(Compression::Zstd),
            Some("bz2" | "lzma" | "lz4") => None,
            _ => Some(Compression::None),
        }
    }

    /// A reader over what was compressed, of at most `limit` bytes: reading beyond is an error.
    pub(crate) fn reader<'a>(self, input: impl Read + Send + 'a, limit: u64) -> io::Result<Box<dyn Read + Send + 'a>> {
        let inner: Box<dyn Read + Send + 'a> = match self {
            Compression::None => Box::new(input),
            Compression::Gzip => Box::new(flate2::read::MultiGzDecoder::new(BufReader::new(input))),
            Compression::Xz => {
                // The dictionary of `xz -9` is 64 MiB; nothing sensible needs more.
                let stream = liblzma::stream::Stream::new_stream_decoder(160 << 20, liblzma::stream::CONCATENATED)?;
                Box::new(liblzma::read::XzDecoder::new_stream(input, stream))
            }
            Compression::Zstd => {
                let mut decoder = zstd::Decoder::new(input)?;
                decoder.window_log_max(27)?;
                Box::new(decoder)
            }
        };
        Ok(Box::new(Limited { inner, left: limit, limit }))
    }
}

/// A reader over an archive in memory, plain or packed with gzip, xz or zstd, told by its first bytes. It gives at
/// most `limit` bytes.
///
/// # Errors
/// The first bytes promise what the rest is not.
pub fn open_archive(bytes: &[u8], limit: u64) -> io::Result<Box<dyn Read + Send + '_>> {
    let compression = match bytes {
        [0x1f, 0x8b, ..] => Compression::Gzip,
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Compression::Xz,
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Compression::Zstd,
        _ => Compression::None,
    };
    compression.reader(bytes, limit)
}

/// Fails rather than give more bytes than allowed.
struct Limited<R> {
    inner: R,
    left: u64,
    limit: u64,
}

impl<R: Read> Read for Limited<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buf)?;
        self.left = self.left.checked_sub(n as u64).ok_or_else(|| {
            let what = format!("it unpacks to more than the {} bytes allowed", self.limit);
            io::Error::new(io::ErrorKind::InvalidData, what)
        })?;
        Ok(n)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_unpacks_to_too_much_is_refused() {
        let packed = zstd::encode_all(&vec![0u8; 1 << 20][..], 1).unwrap();
        let read = |limit| {
            let mut out = Vec::new();
            Compression::Zstd.reader(packed.as_slice(), limit).unwrap().read_to_end(&mut out)
        };
        assert_eq!(read(1 << 20).unwrap(), 1 << 20);
        let error = read((1 << 20) - 1).unwrap_err().to_string();
        assert!(error.contains("more than the 1048575 bytes"), "{error}");
    }

    #[test]
    fn every_kind_is_told_by_its_name() {
        for (name, kind) in [
            ("Packages.xz", Some(Compression::Xz)),
            ("Packages", Some(Compression::None)),
            ("data.tar", Some(Compression::None)),
            ("data.tar.zst", Some(Compression::Zstd)),
            ("data.tar.bz2", None),
        ] {
            assert_eq!(Compression::of_name(name), kind, "{name}");
        }
    }
}
