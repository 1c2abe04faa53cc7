//! SHA-256 digests, and readers and writers that compute them on the way.

use ring::digest::{Context, SHA256};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::io::{self, Read, Write};
use std::str::FromStr;

/// A SHA-256 digest. Written `sha256:` followed by 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest([u8; 32]);

/// Why a text is not a digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a digest: expected `sha256:` and 64 lower-case hexadecimal digits")]
pub struct DigestParseError(String);

impl Digest {
    /// The digest of some bytes in memory.
    pub fn of(bytes: impl AsRef<[u8]>) -> Self {
        let mut hasher = Context::new(&SHA256);
        hasher.update(bytes.as_ref());
        Digest::finished(hasher)
    }

    fn finished(hasher: Context) -> Self {
        let mut raw = [0; 32];
        raw.copy_from_slice(hasher.finish().as_ref());
        Digest(raw)
    }

    /// The digest whose 32 raw bytes are given.
    pub const fn from_raw(raw: [u8; 32]) -> Self {
        Digest(raw)
    }

    /// The 32 raw bytes.
    pub const fn raw(&self) -> &[u8; 32] {
        &self.0
    }

    /// The 64 hexadecimal digits without the algorithm's name, as used in file names and in evidence.
    pub fn hex(&self) -> String {
        hex::encode(self.0)
    }

    /// Reads 64 hexadecimal digits without the algorithm's name.
    ///
    /// # Errors
    /// Anything but 64 lower-case hexadecimal digits.
    pub fn from_hex(text: &str) -> Result<Self, DigestParseError> {
        let bad = || DigestParseError(text.to_string());
        if text.bytes().any(|b| b.is_ascii_uppercase()) {
            return Err(bad());
        }
        let mut raw = [0; 32];
        hex::decode_to_slice(text, &mut raw).map_err(|_| bad())?;
        Ok(Digest(raw))
    }

    /// The first 12 hexadecimal digits, for people.
    pub fn short(&self) -> String {
        self.hex()[..12].to_string()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "sha256:{}", self.hex())
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Digest({})", self.short())
    }
}

impl FromStr for Digest {
    type Err = DigestParseError;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.strip_prefix("sha256:") {
            Some(rest) => Digest::from_hex(rest),
            None => Err(DigestParseError(text.to_string())),
        }
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// Passes bytes to an inner writer, counting and hashing them.
pub struct HashingWriter<W> {
    inner: W,
    hasher: Context,
    written: u64,
}

impl<W: Write> HashingWriter<W> {
    /// Starts with nothing hashed.
    pub fn new(inner: W) -> Self {
        HashingWriter { inner, hasher: Context::new(&SHA256), written: 0 }
    }

    /// How many bytes have passed so far.
    pub fn written(&self) -> u64 {
        self.written
    }

    /// Ends: the inner writer, the digest and the number of bytes.
    pub fn finish(self) -> (W, Digest, u64) {
        (self.inner, Digest::finished(self.hasher), self.written)
    }
}

impl<W: Write> Write for HashingWriter<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let n = self.inner.write(buf)?;
        self.hasher.update(&buf[..n]);
        self.written += n as u64;
        Ok(n)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// Passes bytes on from an inner reader, counting and hashing them.
pub struct HashingReader<R> {
    inner: R,
    hasher: Context,
    read: u64,
}

impl<R: Read> HashingReader<R> {
    /// Starts with nothing hashed.
    pub fn new(inner: R) -> Self {
        HashingReader { inner, hasher: Context::new(&SHA256), read: 0 }
    }

    /// Reads the rest and gives the digest and the number of bytes of everything.
    ///
    /// # Errors
    /// What the inner reader reports.
    pub fn finish(mut self) -> io::Result<(Digest, u64)> {
        let mut buf = vec![0; 128 * 1024];
        while self.read(&mut buf)? > 0 {}
        Ok((Digest::finished(self.hasher), self.read))
    }
}

impl<R: Read> Read for HashingReader<R> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buf)?;
        self.hasher.update(&buf[..n]);
        self.read += n as u64;
        Ok(n)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_digest_reads_back() {
        let digest = Digest::of(b"abc");
        assert_eq!(digest.hex(), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert_eq!(digest.to_string().parse::<Digest>().unwrap(), digest);
        assert_eq!(digest.short(), "ba7816bf8f01");
    }

    #[test]
    fn other_spellings_are_refused() {
        let hex = Digest::of(b"abc").hex();
        for text in [hex.clone(), format!("sha256:{}", hex.to_uppercase()), "sha256:ba".into(), format!("sha512:{hex}")]
        {
            assert!(text.parse::<Digest>().is_err(), "{text}");
        }
    }

    #[test]
    fn streams_hash_like_memory() {
        let mut writer = HashingWriter::new(Vec::new());
        writer.write_all(b"lamp ").unwrap();
        writer.write_all(b"on").unwrap();
        let (bytes, digest, n) = writer.finish();
        assert_eq!((digest, n), (Digest::of(b"lamp on"), 7));
        assert_eq!(HashingReader::new(&bytes[..]).finish().unwrap(), (digest, 7));
    }
}
