//! Lists of the files of all packages of a repository (`Contents-ARCH`), made searchable.
//!
//! ```text
//!   0  "EMBRAKCT"  format 1 (u32)  number of blocks (u32)
//!  16  for each block: where it begins, its length (u32 each), its length unpacked (u32), CRC-32 (u32)
//!      blocks, each zstd: lines `PATH\tPACKAGE[,PACKAGE..]\n`, paths without the leading slash
//! ```

use crate::compression::Compression;
use memchr::memmem;
use std::io::{self, BufRead, BufReader, Read};

pub(crate) const FORMAT: u32 = 1;
const MAGIC: &[u8; 8] = b"EMBRAKCT";
const BLOCK: usize = 1 << 20;
const LINE_LIMIT: u64 = 1 << 20;

/// A loaded list.
pub struct Contents {
    bytes: Vec<u8>,
    blocks: usize,
}

impl Contents {
    /// Turns a list as repositories have it into the searchable form.
    ///
    /// # Errors
    /// It cannot be read or unpacks to more than `limit` bytes.
    pub fn build(input: impl Read + Send, name: &str, limit: u64) -> io::Result<Vec<u8>> {
        let wrong = |what: &str| io::Error::new(io::ErrorKind::InvalidData, what.to_string());
        let compression = Compression::of_name(name).ok_or_else(|| wrong("compressed in a way not known here"))?;
        let mut reader = BufReader::with_capacity(1 << 20, compression.reader(input, limit)?);
        let (mut table, mut data) = (Vec::new(), Vec::new());
        let mut block: Vec<u8> = Vec::with_capacity(BLOCK + 4096);
        let mut line = Vec::new();
        loop {
            line.clear();
            let n = (&mut reader).take(LINE_LIMIT).read_until(b'\n', &mut line)?;
            if n as u64 == LINE_LIMIT {
                return Err(wrong("a line of more than 1 MiB"));
            }
            if (n == 0 && !block.is_empty()) || block.len() >= BLOCK {
                let packed = zstd::bulk::compress(&block, 3)?;
                table.push([data.len() as u32, packed.len() as u32, block.len() as u32, crc32fast::hash(&packed)]);
                data.extend_from_slice(&packed);
                block.clear();
            }
            if n == 0 {
                break;
            }
            // `usr/bin/lampd    beacon/lampd,beacon/lampd-small`: the sections are of no interest.
            let text = line.trim_ascii();
            let Some(at) = text.iter().rposition(|b| b.is_ascii_whitespace()) else { continue };
            block.extend_from_slice(text[..at].trim_ascii_end());
            block.push(b'\t');
            for (n, package) in text[at + 1..].split(|&b| b == b',').enumerate() {
                if n > 0 {
                    block.push(b',');
                }
                block.extend_from_slice(package.rsplit(|&b| b == b'/').next().unwrap_or_default());
            }
            block.push(b'\n');
        }
        let mut out = MAGIC.to_vec();
        out.extend_from_slice(&FORMAT.to_le_bytes());
        out.extend_from_slice(&(table.len() as u32).to_le_bytes());
        for entry in &table {
            entry.iter().for_each(|n| out.extend_from_slice(&n.to_le_bytes()));
        }
        out.extend_from_slice(&data);
        Ok(out)
    }

    /// Takes the bytes of the searchable form.
    ///
    /// # Errors
    /// They are not that.
    pub fn load(bytes: Vec<u8>) -> Result<Contents, String> {
        let number = |at: usize| bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes);
        if bytes.get(..8) != Some(MAGIC) || number(8) != Some(FORMAT) {
            return Err("not a list of files of this format".into());
        }
        let blocks = number(12).unwrap_or_default() as usize;
        if blocks.checked_mul(16).is_none_or(|n| n + 16 > bytes.len()) {
            return Err("its table is cut short".into());
        }
        Ok(Contents { bytes, blocks })
    }

    fn block(&self, n: usize) -> Option<Vec<u8>> {
        let field = |f: usize| {
            let at = 16 + n * 16 + f * 4;
            self.bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes)
        };
        let start = 16 + self.blocks * 16 + field(0)? as usize;
        let packed = self.bytes.get(start..start.checked_add(field(1)? as usize)?)?;
        if crc32fast::hash(packed) != field(3)? {
            return None;
        }
        zstd::bulk::decompress(packed, (field(2)? as usize).min(BLOCK + LINE_LIMIT as usize)).ok()
    }

    /// Files whose paths hold a text, with the packages that have them; at most `limit`, in order.
    pub fn find(&self, text: &str, limit: usize) -> Vec<(String, String)> {
        // A path from the root is one that begins so.
        let (text, rooted) = text.strip_prefix('/').map_or((text, false), |t| (t, true));
        if text.is_empty() {
            return Vec::new();
        }
        let finder = memmem::Finder::new(text.as_bytes());
        let search = |n: usize| {
            let mut found = Vec::new();
            let Some(block) = self.block(n) else { return found };
            let mut at = 0;
            while let Some(hit) = finder.find(&block[at..]).map(|hit| hit + at) {
                let start = memchr::memrchr(b'\n', &block[..hit]).map_or(0, |n| n + 1);
                let end = memchr::memchr(b'\n', &block[hit..]).map_or(block.len(), |n| n + hit);
                at = end;
                let line = String::from_utf8_lossy(&block[start..end]);
                let Some((path, packages)) = line.split_once('\t') else { continue };
                if path.contains(text) && (!rooted || hit == start) {
                    found.push((format!("/{path}"), packages.to_string()));
                }
                if found.len() >= limit {
                    break;
                }
            }
            found
        };
        let halves = self.blocks.div_ceil(2);
        let (mut first, second) = std::thread::scope(|scope| {
            let later = scope.spawn(|| (halves..self.blocks).flat_map(search).take(limit).collect::<Vec<_>>());
            let first: Vec<(String, String)> = (0..halves).flat_map(search).take(limit).collect();
            (first, later.join().unwrap_or_default())
        });
        first.extend(second);
        first.truncate(limit);
        first
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_found_with_their_packages() {
        let mut list = String::new();
        for n in 0..30_000 {
            list += &format!("usr/share/tide/{n:05}.table      science/tide-tables,extra/tides-{}\n", n % 7);
        }
        list += "usr/bin/a file with spaces    beacon/lampd\n";
        let bytes = Contents::build(list.as_bytes(), "Contents-amd64", 1 << 30).unwrap();
        let contents = Contents::load(bytes.clone()).unwrap();
        assert!(contents.blocks > 1, "more than one block");
        assert_eq!(
            contents.find("29999.table", 5),
            [("/usr/share/tide/29999.table".into(), "tide-tables,tides-4".into())]
        );
        assert_eq!(contents.find("/usr/bin/a file", 5)[0].1, "lampd");
        assert!(contents.find("/share/tide", 5).is_empty() && contents.find("science", 5).is_empty());
        assert_eq!(contents.find("share/tide", 5).len(), 5);
        for cut in [0, 12, 20] {
            assert!(Contents::load(bytes[..cut].to_vec()).is_err());
        }
        let mut damaged = bytes;
        let last = damaged.len() - 1;
        damaged[last] ^= 1;
        assert!(Contents::load(damaged).unwrap().find("a file with", 5).is_empty());
    }
}
