//! Compression of layers and archives.

use flate2::bufread::MultiGzDecoder;
use miniz_oxide::deflate::core::{CompressorOxide, create_comp_flags_from_zip_params};
use miniz_oxide::deflate::stream::deflate;
use miniz_oxide::{MZFlush, MZStatus};
use std::io::{self, BufReader, Read, Write};

/// A gzip member (RFC 1952) around one deflate stream, level 6.
///
/// Faster encoders choose their matches by what the processor can do, so that the same input gives other bytes on
/// another machine. This one does not, and whichever encoder other parts of the program bring along, it stays this one.
struct GzipWriter<W> {
    out: W,
    encoder: Box<CompressorOxide>,
    crc: crc32fast::Hasher,
    length: u32,
    buffer: Vec<u8>,
}

impl<W: Write> GzipWriter<W> {
    fn new(mut out: W) -> io::Result<Self> {
        // Neither name nor time; the operating system is 255, "unknown", whatever this runs on.
        out.write_all(&[0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255])?;
        // A negative window: deflate without the zlib header around it.
        let flags = create_comp_flags_from_zip_params(6, -15, 0);
        Ok(GzipWriter {
            out,
            encoder: Box::new(CompressorOxide::new(flags)),
            crc: crc32fast::Hasher::new(),
            length: 0,
            buffer: vec![0; 64 << 10],
        })
    }

    /// Hands input to the encoder until it is used up, or at the end until nothing more comes.
    fn step(&mut self, mut input: &[u8], flush: MZFlush) -> io::Result<()> {
        loop {
            let result = deflate(&mut self.encoder, input, &mut self.buffer, flush);
            self.out.write_all(&self.buffer[..result.bytes_written])?;
            input = &input[result.bytes_consumed..];
            match result.status {
                Ok(MZStatus::StreamEnd) => return Ok(()),
                Ok(_) if flush == MZFlush::None && input.is_empty() && result.bytes_written < self.buffer.len() => {
                    return Ok(());
                }
                Ok(_) => {}
                // Nothing to be done is no error.
                Err(_) if input.is_empty() && flush == MZFlush::None => return Ok(()),
                Err(error) => return Err(io::Error::other(format!("gzip: {error:?}"))),
            }
        }
    }

    fn finish(mut self) -> io::Result<W> {
        self.step(&[], MZFlush::Finish)?;
        self.out.write_all(&self.crc.finalize().to_le_bytes())?;
        self.out.write_all(&self.length.to_le_bytes())?;
        Ok(self.out)
    }
}

impl<W: Write> Write for GzipWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.crc.update(bytes);
        // ISIZE is the length modulo 2^32.
        self.length = self.length.wrapping_add(bytes.len() as u32);
        self.step(bytes, MZFlush::None)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

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
                let mut encoder = GzipWriter::new(out)?;
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
