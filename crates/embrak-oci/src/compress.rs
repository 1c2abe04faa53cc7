//! Compression of layers and archives.

use flate2::{Compression as Level, GzBuilder, bufread::MultiGzDecoder};
use std::io::{self, BufReader, Read, Write};

/// How bytes are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    None,
    /// gzip (RFC 1952), level 6, without name and time.
    Gzip,
    /// zstd (RFC 8878), level 9, one thread, with checksum.
    Zstd,
}

impl Compression {
    /// Compresses what `write` writes.
    ///
    /// # Errors
    /// What `write` or the writer reports.
    pub fn compress<W: Write>(self, out: W, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<W> {
        match self {
            Compression::None => {
                let mut out = out;
                write(&mut out)?;
                Ok(out)
            }
            Compression::Gzip => {
                // The header's operating system byte is 255, "unknown", whatever this runs on.
                let mut encoder = GzBuilder::new().operating_system(255).write(out, Level::new(6));
                write(&mut encoder)?;
                encoder.finish()
            }
            Compression::Zstd => {
                let mut encoder = zstd::Encoder::new(out, 9)?;
                encoder.include_checksum(true)?;
                write(&mut encoder)?;
                encoder.finish()
            }
        }
    }

    /// The compression that bytes beginning so have.
    pub fn detect(start: &[u8]) -> Compression {
        match start {
            [0x1f, 0x8b, ..] => Compression::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Compression::Zstd,
            _ => Compression::None,
        }
    }

    /// Reads compressed bytes.
    ///
    /// # Errors
    /// The decoder cannot be made.
    pub fn decompress<'a, R: Read + 'a>(self, input: R) -> io::Result<Box<dyn Read + 'a>> {
        Ok(match self {
            Compression::None => Box::new(input),
            Compression::Gzip => Box::new(MultiGzDecoder::new(BufReader::new(input))),
            Compression::Zstd => Box::new(zstd::Decoder::new(input)?),
        })
    }

    /// The end of a layer's media type: empty, `+gzip` or `+zstd`.
    pub(crate) fn suffix(self) -> &'static str {
        match self {
            Compression::None => "",
            Compression::Gzip => "+gzip",
            Compression::Zstd => "+zstd",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_come_back_and_headers_hold_no_time_or_host() {
        for compression in [Compression::None, Compression::Gzip, Compression::Zstd] {
            let packed = compression.compress(Vec::new(), |out| out.write_all(&[b'x'; 5000])).unwrap();
            assert_eq!(Compression::detect(&packed), compression);
            let mut back = Vec::new();
            compression.decompress(&packed[..]).unwrap().read_to_end(&mut back).unwrap();
            assert_eq!(back, vec![b'x'; 5000]);
            if compression == Compression::Gzip {
                assert_eq!(packed[3..8], [0, 0, 0, 0, 0], "flags and time");
                assert_eq!(packed[9], 255, "operating system");
            }
        }
    }
}
