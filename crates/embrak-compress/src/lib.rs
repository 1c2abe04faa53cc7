//! Compression that gives the same bytes everywhere, and whatever undoes it.
//!
//! Encoders run in one thread with fixed settings, write neither name nor time, and do not look at what the processor
//! can do.

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
    /// xz, preset 6, with the 32-bit checksum that the kernel's decoder wants.
    Xz,
    /// LZ4 in the legacy frame of the Linux kernel: blocks of 8 MiB.
    Lz4,
}

/// The kernel's magic number of LZ4 streams.
const LZ4_MAGIC: [u8; 4] = [0x02, 0x21, 0x4c, 0x18];
const LZ4_BLOCK: usize = 8 << 20;
/// The most memory an xz decoder may take; the dictionary of `xz -9` is 64 MiB.
const XZ_MEMORY: u64 = 160 << 20;

/// Collects blocks and writes each with its length.
struct Lz4Writer<W> {
    out: W,
    block: Vec<u8>,
}

impl<W: Write> Lz4Writer<W> {
    fn block(&mut self) -> io::Result<()> {
        let packed = lz4_flex::block::compress(&self.block);
        self.out.write_all(&u32::try_from(packed.len()).map_err(io::Error::other)?.to_le_bytes())?;
        self.out.write_all(&packed)?;
        self.block.clear();
        Ok(())
    }
}

impl<W: Write> Write for Lz4Writer<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let n = bytes.len().min(LZ4_BLOCK - self.block.len());
        self.block.extend_from_slice(&bytes[..n]);
        if self.block.len() == LZ4_BLOCK {
            self.block()?;
        }
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Reads the kernel's LZ4 frames. What follows the last block and is no block is left unread.
struct Lz4Reader<R> {
    input: R,
    block: Vec<u8>,
    at: usize,
    done: bool,
}

impl<R: Read> Lz4Reader<R> {
    fn next(&mut self) -> io::Result<()> {
        let mut word = [0; 4];
        loop {
            let mut filled = 0;
            while filled < 4 {
                match self.input.read(&mut word[filled..])? {
                    0 => break,
                    n => filled += n,
                }
            }
            if filled < 4 || word == [0; 4] {
                self.done = true;
                return Ok(());
            }
            if word != LZ4_MAGIC {
                break;
            }
        }
        let length = u32::from_le_bytes(word) as usize;
        if length > lz4_flex::block::get_maximum_output_size(LZ4_BLOCK) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "an LZ4 block longer than any can be"));
        }
        let mut packed = Vec::new();
        (&mut self.input).take(length as u64).read_to_end(&mut packed)?;
        if packed.len() < length {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "an LZ4 block is cut off"));
        }
        self.block.resize(LZ4_BLOCK, 0);
        let n = lz4_flex::block::decompress_into(&packed, &mut self.block)
            .map_err(|e| io::Error::new(io::ErrorKind::InvalidData, e.to_string()))?;
        self.block.truncate(n);
        self.at = 0;
        Ok(())
    }
}

impl<R: Read> Read for Lz4Reader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.block.len() && !self.done {
            self.next()?;
        }
        let n = buffer.len().min(self.block.len() - self.at);
        buffer[..n].copy_from_slice(&self.block[self.at..self.at + n]);
        self.at += n;
        Ok(n)
    }
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
            Compression::Xz => {
                let stream = liblzma::stream::Stream::new_easy_encoder(6, liblzma::stream::Check::Crc32)?;
                let mut encoder = liblzma::write::XzEncoder::new_stream(out, stream);
                write(&mut encoder)?;
                encoder.finish()
            }
            Compression::Lz4 => {
                let mut out = out;
                out.write_all(&LZ4_MAGIC)?;
                let mut encoder = Lz4Writer { out, block: Vec::new() };
                write(&mut encoder)?;
                if !encoder.block.is_empty() {
                    encoder.block()?;
                }
                Ok(encoder.out)
            }
        }
    }

    /// The compression that bytes beginning so have.
    pub fn detect(start: &[u8]) -> Compression {
        match start {
            [0x1f, 0x8b, ..] => Compression::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Compression::Zstd,
            [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Compression::Xz,
            [0x02, 0x21, 0x4c, 0x18, ..] => Compression::Lz4,
            _ => Compression::None,
        }
    }

    /// Its name; `none` when there is none.
    pub fn name(self) -> &'static str {
        match self {
            Compression::None => "none",
            Compression::Gzip => "gzip",
            Compression::Zstd => "zstd",
            Compression::Xz => "xz",
            Compression::Lz4 => "lz4",
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
            Compression::Zstd => {
                let mut decoder = zstd::Decoder::new(input)?;
                decoder.window_log_max(27)?;
                Box::new(decoder)
            }
            Compression::Xz => {
                let stream = liblzma::stream::Stream::new_stream_decoder(XZ_MEMORY, liblzma::stream::CONCATENATED)?;
                Box::new(liblzma::read::XzDecoder::new_stream(input, stream))
            }
            Compression::Lz4 => Box::new(Lz4Reader { input, block: Vec::new(), at: 0, done: false }),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_come_back_and_headers_hold_no_time_or_host() {
        for compression in [Compression::None, Compression::Gzip, Compression::Zstd, Compression::Xz, Compression::Lz4]
        {
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
