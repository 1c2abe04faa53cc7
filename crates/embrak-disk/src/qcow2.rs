//! The qcow2 disk container, version 3 (QEMU documentation, "The qcow2 image format").
//!
//! ```text
//!   cluster 0    header
//!   then         reference count table and blocks | first-level table | second-level tables | clusters with data
//! ```
//!
//! Clusters of 64 KiB in which nothing but zeros lies are not there. Plain images are computed like every other disk;
//! compressed ones are written in one pass, their tables behind the data. The reader knows versions 2 and 3.

use crate::bytes::{get32_be, get64_be, put32_be, put64_be};
use crate::{Chunk, Extent, Extents, ReadAt, round_up};
use embrak_tree::{BlobSource, Digest, HashingWriter};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::Mutex;

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

const CLUSTER_BITS: u32 = 16;
const CLUSTER: u64 = 1 << CLUSTER_BITS;
/// Entries of one second-level table.
const PER_TABLE: u64 = CLUSTER / 8;
/// Reference counts, of two bytes, in one block.
const PER_REFCOUNTS: u64 = CLUSTER / 2;
/// Set in an entry whose cluster has one user only.
const COPIED: u64 = 1 << 63;
const COMPRESSED: u64 = 1 << 62;
/// Level of compression: fast, since each cluster stands alone.
const LEVEL: i32 = 3;

/// Where tables come to lie when there are so many clusters with data and tables to find them.
struct Places {
    refcount_table: u64,
    refcount_table_clusters: u64,
    refcount_blocks: u64,
    first_level: u64,
    first_level_entries: u64,
    second_level: u64,
    tables: u64,
    end: u64,
}

/// Clusters of tables from `start` on, when `others` clusters exist besides and `tables` second-level tables.
fn places(start: u64, size: u64, tables: u64, others: u64) -> Places {
    let entries = size.div_ceil(CLUSTER * PER_TABLE);
    let first_level_clusters = (entries * 8).div_ceil(CLUSTER).max(1);
    let (mut blocks, mut table) = (1, 1);
    // Reference counts count themselves.
    loop {
        let all = others + first_level_clusters + tables + blocks + table;
        let (b, t) = (all.div_ceil(PER_REFCOUNTS), (all.div_ceil(PER_REFCOUNTS) * 8).div_ceil(CLUSTER));
        if (b, t) == (blocks, table) {
            break;
        }
        (blocks, table) = (b.max(blocks), t.max(table));
    }
    let refcount_blocks = start + table;
    let first_level = refcount_blocks + blocks;
    let second_level = first_level + first_level_clusters;
    Places {
        refcount_table: start,
        refcount_table_clusters: table,
        refcount_blocks,
        first_level,
        first_level_entries: entries,
        second_level,
        tables,
        end: second_level + tables,
    }
}

fn header(size: u64, places: &Places, compressed: bool) -> Vec<u8> {
    let mut h = vec![0; CLUSTER as usize];
    h[..4].copy_from_slice(b"QFI\xfb");
    put32_be(&mut h, 4, 3);
    put32_be(&mut h, 20, CLUSTER_BITS);
    put64_be(&mut h, 24, size);
    put32_be(&mut h, 36, places.first_level_entries as u32);
    put64_be(&mut h, 40, places.first_level * CLUSTER);
    put64_be(&mut h, 48, places.refcount_table * CLUSTER);
    put32_be(&mut h, 56, places.refcount_table_clusters as u32);
    // Bit 3: clusters are compressed with what byte 104 says, 1 being zstd.
    put64_be(&mut h, 72, if compressed { 8 } else { 0 });
    put32_be(&mut h, 96, 4);
    put32_be(&mut h, 100, 112);
    h[104] = u8::from(compressed);
    h
}

/// The reference count table and its blocks, from counts of clusters in order.
fn refcounts(places: &Places, counts: &[u16]) -> Vec<u8> {
    let blocks = places.first_level - places.refcount_blocks;
    let mut out = vec![0; ((places.refcount_table_clusters + blocks) * CLUSTER) as usize];
    for n in 0..blocks {
        put64_be(&mut out, n as usize * 8, (places.refcount_blocks + n) * CLUSTER);
    }
    let start = (places.refcount_table_clusters * CLUSTER) as usize;
    for (count, slot) in counts.iter().zip(out[start..].chunks_mut(2)) {
        slot.copy_from_slice(&count.to_be_bytes());
    }
    out
}

/// First- and second-level tables, from the entries of all clusters that are there, by number.
fn tables(places: &Places, entries: &[(u64, u64)]) -> Vec<u8> {
    let first_length = ((places.second_level - places.first_level) * CLUSTER) as usize;
    let mut out = vec![0; first_length + (places.tables * CLUSTER) as usize];
    let mut table = 0;
    let mut last = None;
    for &(cluster, entry) in entries {
        let number = cluster / PER_TABLE;
        if last != Some(number) {
            last = Some(number);
            put64_be(&mut out, number as usize * 8, ((places.second_level + table) * CLUSTER) | COPIED);
            table += 1;
        }
        let at = first_length + ((table - 1) * CLUSTER) as usize + (cluster % PER_TABLE) as usize * 8;
        put64_be(&mut out, at, entry);
    }
    out
}

/// Puts a disk into a container. Pure: clusters are told by the extents, contents are not looked at.
pub fn wrap(disk: &Extents) -> Extents {
    let size = round_up(disk.total(), 512);
    // Runs of clusters in which something lies.
    let mut runs: Vec<(u64, u64)> = Vec::new();
    let mut at = 0;
    for item in disk.items() {
        let length = item.length();
        if !matches!(item, Extent::Zeros(_)) {
            let (first, end) = (at / CLUSTER, (at + length).div_ceil(CLUSTER));
            match runs.last_mut() {
                Some((_, known)) if *known >= first => *known = end.max(*known),
                _ => runs.push((first, end)),
            }
        }
        at += length;
    }
    let clusters: Vec<u64> = runs.iter().flat_map(|(from, to)| *from..*to).collect();
    let mut numbers: Vec<u64> = clusters.iter().map(|c| c / PER_TABLE).collect();
    numbers.dedup();
    let places = places(1, size, numbers.len() as u64, 1 + clusters.len() as u64);
    let entries: Vec<(u64, u64)> =
        clusters.iter().zip(places.end..).map(|(cluster, place)| (*cluster, (place * CLUSTER) | COPIED)).collect();
    let counts = vec![1u16; (places.end as usize) + clusters.len()];

    let mut out = Extents::new();
    out.bytes(header(size, &places, false));
    out.bytes(refcounts(&places, &counts));
    out.bytes(tables(&places, &entries));
    let mut at = 0;
    let mut runs = runs.into_iter().peekable();
    for item in disk.items() {
        let end = at + item.length();
        match item {
            Extent::Zeros(_) => {
                // Of zeros, what lies in clusters that are there.
                let mut from = at;
                while let Some(&(first, last)) = runs.peek() {
                    let (first, last) = (first * CLUSTER, last * CLUSTER);
                    let (a, b) = (from.max(first), end.min(last));
                    if a < b {
                        out.zeros(b - a);
                        from = b;
                    }
                    if last > end {
                        break;
                    }
                    runs.next();
                }
            }
            Extent::Bytes(bytes) => out.bytes(bytes.clone()),
            Extent::Blob { digest, length } => out.blob(*digest, *length),
            Extent::Part { digest, offset, length } => out.part(*digest, *offset, *length),
        }
        at = end;
    }
    out.pad_to((places.end + clusters.len() as u64) * CLUSTER);
    out
}

/// Writes a disk into an empty file as a container with compressed clusters; its digest and size.
///
/// # Errors
/// Reading blobs or writing fails.
pub fn write_compressed(disk: &Extents, blobs: &dyn BlobSource, file: &mut File) -> io::Result<(Digest, u64)> {
    let size = round_up(disk.total(), 512);
    let places = write_body(disk, blobs, file, size)?;
    file.seek(SeekFrom::Start(0))?;
    file.write_all(&header(size, &places, true))?;
    file.seek(SeekFrom::Start(0))?;
    let mut hasher = HashingWriter::new(io::sink());
    io::copy(file, &mut hasher)?;
    Ok((hasher.finish().1, places.end * CLUSTER))
}

/// All but the header: clusters, then tables.
fn write_body(disk: &Extents, blobs: &dyn BlobSource, file: &mut File, size: u64) -> io::Result<Places> {
    let mut packer = Packer {
        out: io::BufWriter::with_capacity(1 << 20, file),
        at: CLUSTER,
        entries: Vec::new(),
        counts: vec![1],
        cluster: Vec::with_capacity(CLUSTER as usize),
        number: 0,
        batch: Vec::new(),
    };
    packer.out.write_all(&vec![0; CLUSTER as usize])?;
    disk.stream(blobs, |chunk| match chunk {
        Chunk::Data(bytes) => packer.bytes(bytes),
        Chunk::Zeros(length) => packer.zeros(length),
    })?;
    packer.zeros(CLUSTER - packer.cluster.len() as u64)?;
    packer.pack()?;
    let Packer { mut out, at, entries, mut counts, .. } = packer;
    let data_end = at.div_ceil(CLUSTER);
    out.write_all(&vec![0; (data_end * CLUSTER - at) as usize])?;
    let mut tables_used: Vec<u64> = entries.iter().map(|(c, _)| c / PER_TABLE).collect();
    tables_used.dedup();
    let places = places(data_end, size, tables_used.len() as u64, data_end);
    counts.resize(data_end as usize, 0);
    counts.resize(places.end as usize, 1);
    out.write_all(&refcounts(&places, &counts))?;
    out.write_all(&tables(&places, &entries))?;
    out.flush()?;
    Ok(places)
}

struct Packer<W> {
    out: W,
    /// Where the next cluster's bytes go.
    at: u64,
    entries: Vec<(u64, u64)>,
    counts: Vec<u16>,
    /// The cluster being filled, and its number.
    cluster: Vec<u8>,
    number: u64,
    /// Clusters waiting to be compressed.
    batch: Vec<(u64, Vec<u8>)>,
}

impl<W: Write> Packer<W> {
    fn bytes(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            let n = bytes.len().min(CLUSTER as usize - self.cluster.len());
            self.cluster.extend_from_slice(&bytes[..n]);
            bytes = &bytes[n..];
            if self.cluster.len() == CLUSTER as usize {
                let full = std::mem::replace(&mut self.cluster, Vec::with_capacity(CLUSTER as usize));
                if full.iter().any(|b| *b != 0) {
                    self.batch.push((self.number, full));
                }
                self.number += 1;
                if self.batch.len() == 256 {
                    self.pack()?;
                }
            }
        }
        Ok(())
    }

    fn zeros(&mut self, length: u64) -> io::Result<()> {
        let zeros = [0; CLUSTER as usize];
        let fill = length.min((CLUSTER - self.cluster.len() as u64) % CLUSTER);
        self.bytes(&zeros[..fill as usize])?;
        // Whole clusters of zeros are skipped at once.
        self.number += (length - fill) / CLUSTER;
        self.bytes(&zeros[..((length - fill) % CLUSTER) as usize])
    }

    /// Compresses clusters side by side and writes them in order.
    fn pack(&mut self) -> io::Result<()> {
        let clusters = std::mem::take(&mut self.batch);
        let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(8);
        let each = clusters.len().div_ceil(threads).max(1);
        let packed: Vec<io::Result<Vec<Vec<u8>>>> = std::thread::scope(|scope| {
            let work: Vec<_> = clusters
                .chunks(each)
                .map(|part| {
                    scope.spawn(move || {
                        let mut compressor = zstd::bulk::Compressor::new(LEVEL)?;
                        part.iter().map(|(_, bytes)| compressor.compress(bytes)).collect()
                    })
                })
                .collect();
            work.into_iter().map(|w| w.join().unwrap_or_else(|_| Err(io::Error::other("compressing failed")))).collect()
        });
        let mut numbers = clusters.iter();
        for part in packed {
            for bytes in part? {
                let Some((number, plain)) = numbers.next() else { continue };
                if bytes.len() as u64 >= CLUSTER {
                    let gap = round_up(self.at, CLUSTER) - self.at;
                    self.put(&vec![0; gap as usize], false)?;
                    self.entries.push((*number, self.at | COPIED));
                    self.put(plain, true)?;
                    continue;
                }
                // Bits 54 to 61 tell how many sectors follow the one it begins in.
                let sectors = (self.at % 512 + bytes.len() as u64 - 1) / 512;
                self.entries.push((*number, self.at | sectors << 54 | COMPRESSED));
                self.put(&bytes, true)?;
            }
        }
        Ok(())
    }

    fn put(&mut self, bytes: &[u8], counted: bool) -> io::Result<()> {
        self.out.write_all(bytes)?;
        if counted && !bytes.is_empty() {
            let (first, last) = (self.at / CLUSTER, (self.at + bytes.len() as u64 - 1) / CLUSTER);
            self.counts.resize(self.counts.len().max(last as usize + 1), 0);
            for cluster in first..=last {
                self.counts[cluster as usize] += 1;
            }
        }
        self.at += bytes.len() as u64;
        Ok(())
    }
}

/// Why a container cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum Qcow2Error {
    /// It is none, or of a kind that is not read here.
    #[error("not a qcow2 image that can be read: {0}")]
    Unreadable(String),
    /// Reading fails.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// Whether a file begins as a container.
pub fn is_qcow2(file: &dyn ReadAt) -> bool {
    file.read_vec(0, 4).is_ok_and(|b| b == b"QFI\xfb")
}

/// What a container says of itself.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Qcow2Info {
    /// 2 or 3.
    pub version: u32,
    /// Size of the disk in it, in bytes.
    pub disk_size: u64,
    /// Bytes in a cluster.
    pub cluster_size: u64,
    /// How clusters are compressed that are.
    pub compression: &'static str,
    /// Clusters that are there.
    pub clusters: u64,
    /// Those of them that are compressed.
    pub compressed: u64,
}

/// The disk in a container.
pub struct Image<'a> {
    file: &'a dyn ReadAt,
    info: Qcow2Info,
    first_level: Vec<u64>,
    /// Second-level tables and unpacked clusters that were read, a few of each.
    tables: Mutex<BTreeMap<u64, Vec<u8>>>,
    unpacked: Mutex<BTreeMap<u64, Vec<u8>>>,
}

const OFFSET: u64 = 0x00ff_ffff_ffff_fe00;
/// Tables or clusters kept at most.
const KEPT: usize = 64;

impl<'a> Image<'a> {
    /// Reads the header and the first-level table.
    ///
    /// # Errors
    /// It is none, damaged, encrypted, or needs another file.
    pub fn open(file: &'a dyn ReadAt) -> Result<Image<'a>, Qcow2Error> {
        let wrong = |why: &str| Qcow2Error::Unreadable(why.to_string());
        let h = file.read_vec(0, 112.min(file.size()))?;
        if !h.starts_with(b"QFI\xfb") || h.len() < 72 {
            return Err(wrong("no header"));
        }
        let (version, bits, size) = (get32_be(&h, 4), get32_be(&h, 20), get64_be(&h, 24));
        let features = if version >= 3 { get64_be(&h, 72) } else { 0 };
        match () {
            () if !(2..=3).contains(&version) => return Err(wrong(&format!("version {version}"))),
            () if get64_be(&h, 8) != 0 => return Err(wrong("it is only a difference to another file")),
            () if get32_be(&h, 32) != 0 => return Err(wrong("it is encrypted")),
            () if !(9..=21).contains(&bits) => return Err(wrong("clusters of an impossible size")),
            // Dirty, corrupt and the kind of compression can be dealt with.
            () if features & !0xb != 0 => return Err(wrong("it uses features that are not known here")),
            () if size > 1 << 60 => return Err(wrong("a disk of an impossible size")),
            () => {}
        }
        let kind = if features & 8 != 0 { h.get(104).copied().unwrap_or(0) } else { 0 };
        let compression = match kind {
            0 => "deflate",
            1 => "zstd",
            _ => return Err(wrong("clusters are compressed in an unknown way")),
        };
        let cluster_size = 1u64 << bits;
        let entries = u64::from(get32_be(&h, 36));
        if entries < size.div_ceil(cluster_size * (cluster_size / 8)) {
            return Err(wrong("its first table is too short for its size"));
        }
        // Reading refuses what is longer than the file before it allocates.
        let bytes = file.read_vec(get64_be(&h, 40), entries * 8)?;
        let first_level: Vec<u64> = bytes.chunks_exact(8).map(|b| get64_be(b, 0)).collect();
        let info = Qcow2Info { version, disk_size: size, cluster_size, compression, clusters: 0, compressed: 0 };
        let mut image = Image { file, info, first_level, tables: Mutex::default(), unpacked: Mutex::default() };
        let per_table = cluster_size / 8;
        for offset in image.first_level.iter().map(|e| e & OFFSET).filter(|o| *o != 0) {
            let Ok(table) = file.read_vec(offset, per_table * 8) else { continue };
            for entry in table.chunks_exact(8).map(|b| get64_be(b, 0)) {
                image.info.compressed += u64::from(entry & COMPRESSED != 0);
                image.info.clusters += u64::from(entry & COMPRESSED != 0 || entry & OFFSET != 0);
            }
        }
        Ok(image)
    }

    /// What it says of itself.
    pub fn info(&self) -> &Qcow2Info {
        &self.info
    }

    fn entry(&self, cluster: u64) -> io::Result<u64> {
        let per_table = self.info.cluster_size / 8;
        let table = self.first_level.get((cluster / per_table) as usize).map_or(0, |e| e & OFFSET);
        if table == 0 {
            return Ok(0);
        }
        let mut tables = self.tables.lock().unwrap_or_else(|e| e.into_inner());
        if !tables.contains_key(&table) {
            if tables.len() >= KEPT {
                tables.pop_first();
            }
            tables.insert(table, self.file.read_vec(table, self.info.cluster_size)?);
        }
        Ok(tables.get(&table).map_or(0, |t| get64_be(t, (cluster % per_table) as usize * 8)))
    }

    fn unpack(&self, entry: u64) -> io::Result<Vec<u8>> {
        let bits = 62 - (self.info.cluster_size.trailing_zeros() - 8);
        let offset = entry & ((1 << bits) - 1);
        let sectors = (entry & !COMPRESSED & !COPIED) >> bits;
        let length = ((sectors + 1) * 512 - offset % 512).min(self.file.size().saturating_sub(offset));
        let packed = self.file.read_vec(offset, length)?;
        let wrong = || io::Error::new(io::ErrorKind::InvalidData, "a compressed cluster cannot be unpacked");
        let size = self.info.cluster_size as usize;
        let mut plain = vec![0; size];
        if self.info.compression == "zstd" {
            let decoder = zstd::Decoder::new(packed.as_slice())?;
            let mut out = Vec::new();
            // What lies behind the frame is another cluster's.
            decoder.single_frame().take(size as u64).read_to_end(&mut out)?;
            plain[..out.len()].copy_from_slice(&out);
            return Ok(plain);
        }
        let mut state = miniz_oxide::inflate::core::DecompressorOxide::new();
        let flags = miniz_oxide::inflate::core::inflate_flags::TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
        let (status, _, _) = miniz_oxide::inflate::core::decompress(&mut state, &packed, &mut plain, 0, flags);
        match status {
            miniz_oxide::inflate::TINFLStatus::Done | miniz_oxide::inflate::TINFLStatus::HasMoreOutput => Ok(plain),
            _ => Err(wrong()),
        }
    }
}

impl ReadAt for Image<'_> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        if offset.checked_add(buffer.len() as u64).is_none_or(|end| end > self.info.disk_size) {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let (mut at, mut buffer) = (offset, buffer);
        while !buffer.is_empty() {
            let (cluster, within) = (at / self.info.cluster_size, at % self.info.cluster_size);
            let n = ((self.info.cluster_size - within) as usize).min(buffer.len());
            let (part, rest) = buffer.split_at_mut(n);
            let entry = self.entry(cluster)?;
            if entry & COMPRESSED != 0 {
                let mut unpacked = self.unpacked.lock().unwrap_or_else(|e| e.into_inner());
                if !unpacked.contains_key(&entry) {
                    if unpacked.len() >= KEPT {
                        unpacked.pop_first();
                    }
                    unpacked.insert(entry, self.unpack(entry)?);
                }
                let plain = unpacked.get(&entry).map_or(&[][..], Vec::as_slice);
                part.copy_from_slice(&plain[within as usize..within as usize + n]);
            } else if entry & OFFSET == 0 || (self.info.version >= 3 && entry & 1 != 0) {
                part.fill(0);
            } else {
                self.file.read_exact_at(part, (entry & OFFSET).saturating_add(within))?;
            }
            at += n as u64;
            buffer = rest;
        }
        Ok(())
    }

    fn size(&self) -> u64 {
        self.info.disk_size
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::emit;
    use embrak_tree::MemoryBlobs;
    use proptest::prelude::*;

    fn disk(blobs: &MemoryBlobs, parts: &[(u64, usize, u8)]) -> Extents {
        let mut out = Extents::new();
        for (gap, length, byte) in parts {
            out.zeros(*gap);
            let mut state = u32::from(*byte) + 1;
            let bytes: Vec<u8> = (0..*length)
                .map(|_| {
                    state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    // Half of them do not compress.
                    if byte % 2 == 0 { (state >> 24) as u8 } else { *byte }
                })
                .collect();
            let (digest, size) = blobs.add(bytes);
            out.blob(digest, size);
        }
        out.zeros(CLUSTER * 3);
        out.pad_to(round_up(out.total(), 512));
        out
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        #[test]
        fn what_is_wrapped_is_read(parts in proptest::collection::vec((0u64..300_000, 0usize..200_000, any::<u8>()), 0..6)) {
            let blobs = MemoryBlobs::default();
            let disk = disk(&blobs, &parts);
            let plain = disk.to_vec(&blobs).unwrap();
            let wrapped = wrap(&disk).to_vec(&blobs).unwrap();
            let mut file = tempfile::tempfile().unwrap();
            let (digest, size) = write_compressed(&disk, &blobs, &mut file).unwrap();
            let packed = file.read_vec(0, size).unwrap();
            prop_assert_eq!(digest, Digest::of(&packed));
            for (container, compressed) in [(wrapped, false), (packed, true)] {
                let image = Image::open(&container).unwrap();
                prop_assert_eq!(image.size(), plain.len() as u64);
                prop_assert!(image.read_vec(0, image.size()).unwrap() == plain);
                prop_assert!(compressed || image.info().compressed == 0);
            }
        }

        #[test]
        fn damage_is_survived(hits in proptest::collection::vec((0usize..500_000, any::<u8>()), 1..20)) {
            let blobs = MemoryBlobs::default();
            let disk = disk(&blobs, &[(1000, 100_000, 3), (70_000, 50_000, 4)]);
            let mut file = tempfile::tempfile().unwrap();
            let (_, size) = write_compressed(&disk, &blobs, &mut file).unwrap();
            for mut bytes in [wrap(&disk).to_vec(&blobs).unwrap(), file.read_vec(0, size).unwrap()] {
                for &(at, value) in &hits {
                    let at = if at % 2 == 0 { at % 112 } else { at % bytes.len() };
                    bytes[at] = value;
                }
                if let Ok(image) = Image::open(&bytes) {
                    let _ = image.read_vec(0, image.size().min(1 << 20));
                }
            }
        }
    }

    #[test]
    fn another_program_finds_both_sound_and_the_same_as_raw() {
        let blobs = MemoryBlobs::default();
        let disk = disk(&blobs, &[(1000, 3_000_000, 3), (70_000_000, 500_001, 4), (600 << 20, 10, 2)]);
        let dir = tempfile::tempdir().unwrap();
        let name = |n: &str| dir.path().join(n).to_string_lossy().into_owned();
        emit(&disk, &blobs, &mut File::create(name("raw")).unwrap()).unwrap();
        emit(&wrap(&disk), &blobs, &mut File::create(name("plain")).unwrap()).unwrap();
        write_compressed(
            &disk,
            &blobs,
            &mut File::options().create(true).truncate(true).read(true).write(true).open(name("packed")).unwrap(),
        )
        .unwrap();
        for container in ["plain", "packed"] {
            for args in [
                vec!["check".to_string(), "-f".into(), "qcow2".into(), name(container)],
                vec![
                    "compare".into(),
                    "-f".into(),
                    "raw".into(),
                    "-F".into(),
                    "qcow2".into(),
                    name("raw"),
                    name(container),
                ],
            ] {
                match std::process::Command::new("qemu-img").args(&args).output() {
                    Ok(output) => assert!(output.status.success(), "{args:?}: {output:?}"),
                    Err(error) => {
                        assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "qemu-img is missing: {error}");
                        return;
                    }
                }
            }
        }
        // And what it makes, deflate included, is read by us.
        let convert = ["convert", "-c", "-O", "qcow2", &name("raw"), &name("theirs")].map(String::from);
        assert!(std::process::Command::new("qemu-img").args(convert).status().unwrap().success());
        let theirs = File::open(name("theirs")).unwrap();
        let image = Image::open(&theirs).unwrap();
        assert!(image.info().compressed > 0 && image.info().compression == "deflate");
        let raw = File::open(name("raw")).unwrap();
        for at in [0, 1000, 70_000_000, 73_000_000, image.size() - 4096] {
            assert_eq!(image.read_vec(at, 4096).unwrap(), raw.read_vec(at, 4096).unwrap());
        }
    }
}
