//! GUID partition tables (UEFI specification 2.10, chapter 5).
//!
//! ```text
//!   sector 0            protective MBR
//!   sector 1            primary header
//!   sectors 2..34       128 entries of 128 bytes
//!   sector 2048         first partition; every partition begins at a multiple of 1 MiB
//!   ...
//!   last 33..1          entries again
//!   last                backup header
//! ```

use crate::bytes::{put32, put64};
use crate::{Extents, Guid, ReadAt, SECTOR, round_up};
use embrak_tree::Digest;
use serde::Serialize;

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// Alignment of partitions in bytes.
pub const ALIGNMENT: u64 = 1 << 20;

const ENTRY_COUNT: u64 = 128;
const ENTRY_SIZE: u64 = 128;
const TABLE_SECTORS: u64 = ENTRY_COUNT * ENTRY_SIZE / SECTOR;
/// Bytes of the backup entries and header at the end.
const TAIL: u64 = (TABLE_SECTORS + 1) * SECTOR;

/// A partition to be written.
#[derive(Debug, Clone)]
pub struct NewPartition {
    /// Its type.
    pub kind: Guid,
    /// Its own GUID.
    pub guid: Guid,
    /// Its name, at most 36 UTF-16 units.
    pub label: String,
    /// Its size in bytes; rounded up to whole MiB.
    pub size: u64,
    /// Attribute bits of its type.
    pub attributes: u64,
}

/// Where a partition comes to lie, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placement {
    /// Offset of its first byte.
    pub start: u64,
    /// Its size.
    pub size: u64,
}

/// A planned table.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Partitions in order.
    pub placements: Vec<Placement>,
    /// Size of the whole disk in bytes.
    pub disk_size: u64,
}

/// Bytes at a fixed place outside every partition.
#[derive(Debug, Clone)]
pub struct RawPiece {
    /// What it is, for messages.
    pub what: String,
    /// Offset from the start of the disk.
    pub offset: u64,
    /// Its bytes.
    pub content: Extents,
}

/// Why a disk cannot be laid out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LayoutError {
    /// More partitions than the table has entries.
    #[error("{count} partitions are more than the {most} a table holds")]
    TooMany {
        /// How many.
        count: usize,
        /// How many there can be.
        most: u64,
    },
    /// The partitions need more than the disk has.
    #[error("the partitions need a disk of {needed} bytes, and it has {have}: {} bytes are missing", needed - have)]
    TooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes there are.
        have: u64,
    },
    /// Raw bytes lie where something else does.
    #[error("{what} at {offset}, {length} bytes long, overlaps {other}")]
    Overlap {
        /// The raw piece.
        what: String,
        /// Its offset.
        offset: u64,
        /// Its length.
        length: u64,
        /// What lies there.
        other: String,
    },
}

/// Lays partitions one behind the other.
///
/// # Errors
/// Too many partitions, or they do not fit a disk of the given size.
pub fn plan(partitions: &[NewPartition], disk_size: Option<u64>) -> Result<Layout, LayoutError> {
    if partitions.len() as u64 > ENTRY_COUNT {
        return Err(LayoutError::TooMany { count: partitions.len(), most: ENTRY_COUNT });
    }
    let (placements, at) = placed(partitions);
    let needed = round_up(at.saturating_add(TAIL), ALIGNMENT);
    match disk_size {
        Some(have) if have < at + TAIL => Err(LayoutError::TooSmall { needed, have }),
        size => Ok(Layout { placements, disk_size: size.map_or(needed, |s| s / SECTOR * SECTOR) }),
    }
}

/// Places of partitions one behind the other, and the end of the last.
pub(crate) fn placed(partitions: &[NewPartition]) -> (Vec<Placement>, u64) {
    let mut at = ALIGNMENT;
    let mut placements = Vec::new();
    for partition in partitions {
        let size = round_up(partition.size.max(1), ALIGNMENT);
        placements.push(Placement { start: at, size });
        at = at.saturating_add(size);
    }
    (placements, at)
}

/// Puts the table, the partitions' contents and raw pieces together. `contents` gives one entry per partition, none
/// longer than its placement.
///
/// # Errors
/// A raw piece overlaps the table or a partition.
pub fn write(
    layout: &Layout,
    disk: Guid,
    partitions: &[NewPartition],
    contents: Vec<Extents>,
    raw: Vec<RawPiece>,
) -> Result<Extents, LayoutError> {
    let sectors = layout.disk_size / SECTOR;
    let mut table = vec![0; (ENTRY_COUNT * ENTRY_SIZE) as usize];
    for ((partition, placement), entry) in
        partitions.iter().zip(&layout.placements).zip(table.chunks_mut(ENTRY_SIZE as usize))
    {
        entry[..16].copy_from_slice(&partition.kind.0);
        entry[16..32].copy_from_slice(&partition.guid.0);
        put64(entry, 32, placement.start / SECTOR);
        put64(entry, 40, (placement.start + placement.size) / SECTOR - 1);
        put64(entry, 48, partition.attributes);
        for (unit, slot) in partition.label.encode_utf16().zip(entry[56..].chunks_mut(2)) {
            slot.copy_from_slice(&unit.to_le_bytes());
        }
    }
    let taken = vec![
        (0, (2 + TABLE_SECTORS) * SECTOR, "the partition table".to_string()),
        (layout.disk_size - TAIL, layout.disk_size, "the backup partition table".to_string()),
    ];
    let head = [protective_mbr(sectors), header(1, sectors - 1, 2, sectors, disk, &table), table.clone()].concat();
    let mut tail = Extents::new();
    tail.bytes(table.clone());
    tail.bytes(header(sectors - 1, 1, sectors - 1 - TABLE_SECTORS, sectors, disk, &table));
    assemble(layout, partitions, contents, raw, taken, head, tail)
}

/// Puts a table's head, the partitions' contents, raw pieces and the table's tail in order.
pub(crate) fn assemble(
    layout: &Layout,
    partitions: &[NewPartition],
    contents: Vec<Extents>,
    mut raw: Vec<RawPiece>,
    taken: Vec<(u64, u64, String)>,
    head: Vec<u8>,
    tail: Extents,
) -> Result<Extents, LayoutError> {
    check_raw(layout, partitions, &mut raw, taken)?;
    let mut out = Extents::new();
    out.bytes(head);
    let mut pieces: Vec<(u64, Extents)> = raw.into_iter().map(|piece| (piece.offset, piece.content)).collect();
    pieces.extend(layout.placements.iter().map(|p| p.start).zip(contents));
    pieces.sort_by_key(|(offset, _)| *offset);
    for (offset, content) in pieces {
        out.pad_to(offset);
        out.append(content);
    }
    out.pad_to(layout.disk_size - tail.total());
    out.append(tail);
    Ok(out)
}

fn check_raw(
    layout: &Layout,
    partitions: &[NewPartition],
    raw: &mut [RawPiece],
    mut taken: Vec<(u64, u64, String)>,
) -> Result<(), LayoutError> {
    raw.sort_by_key(|piece| piece.offset);
    for (partition, placement) in partitions.iter().zip(&layout.placements) {
        taken.push((placement.start, placement.start + placement.size, format!("partition `{}`", partition.label)));
    }
    for piece in raw {
        let (start, end) = (piece.offset, piece.offset.saturating_add(piece.content.total()));
        let beyond = (layout.disk_size, u64::MAX, "the end of the disk".to_string());
        if let Some((_, _, other)) = taken.iter().chain([&beyond]).find(|(from, to, _)| start < *to && end > *from) {
            return Err(LayoutError::Overlap {
                what: piece.what.clone(),
                offset: start,
                length: end - start,
                other: other.clone(),
            });
        }
        taken.push((start, end, piece.what.clone()));
    }
    Ok(())
}

/// One partition of type 0xEE over the whole disk (section 5.2.3).
fn protective_mbr(sectors: u64) -> Vec<u8> {
    let mut mbr = vec![0; SECTOR as usize];
    let entry = &mut mbr[446..462];
    entry[1..4].copy_from_slice(&[0x00, 0x02, 0x00]);
    entry[4] = 0xee;
    entry[5..8].copy_from_slice(&[0xff, 0xff, 0xff]);
    put32(entry, 8, 1);
    put32(entry, 12, u32::try_from(sectors - 1).unwrap_or(u32::MAX));
    mbr[510..].copy_from_slice(&[0x55, 0xaa]);
    mbr
}

fn header(mine: u64, other: u64, entries: u64, sectors: u64, disk: Guid, table: &[u8]) -> Vec<u8> {
    let mut h = vec![0; SECTOR as usize];
    h[..8].copy_from_slice(b"EFI PART");
    put32(&mut h, 8, 0x0001_0000);
    put32(&mut h, 12, 92);
    put64(&mut h, 24, mine);
    put64(&mut h, 32, other);
    put64(&mut h, 40, 2 + TABLE_SECTORS);
    put64(&mut h, 48, sectors - TABLE_SECTORS - 2);
    h[56..72].copy_from_slice(&disk.0);
    put64(&mut h, 72, entries);
    put32(&mut h, 80, ENTRY_COUNT as u32);
    put32(&mut h, 84, ENTRY_SIZE as u32);
    put32(&mut h, 88, crc32fast::hash(table));
    let crc = crc32fast::hash(&h[..92]);
    put32(&mut h, 16, crc);
    h
}

/// A partition as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Partition {
    /// Its number, from 1.
    pub number: u32,
    /// Its type as a GUID.
    #[serde(serialize_with = "as_text")]
    pub kind: Guid,
    /// Its own GUID.
    #[serde(serialize_with = "as_text")]
    pub guid: Guid,
    /// Its name.
    pub label: String,
    /// Offset in bytes.
    pub start: u64,
    /// Size in bytes.
    pub size: u64,
    /// Attribute bits.
    pub attributes: u64,
}

fn as_text<S: serde::Serializer>(guid: &Guid, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(guid)
}

/// A table as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Table {
    /// The disk's GUID.
    #[serde(serialize_with = "as_text")]
    pub disk: Guid,
    /// The partitions in order of their numbers.
    pub partitions: Vec<Partition>,
    /// What is not as it should be, though the table can be used.
    pub damage: Vec<String>,
    /// Digest of the bytes outside every partition and the table itself, zeros when nothing lies there.
    pub outside_is_zero: bool,
}

/// Why there is no table to be read.
#[derive(Debug, thiserror::Error)]
pub enum GptError {
    /// Neither header can be used.
    #[error("no usable GUID partition table: primary: {primary}; backup: {backup}")]
    Unusable {
        /// What is wrong with the primary header.
        primary: String,
        /// What is wrong with the backup header.
        backup: String,
    },
}

/// Whether there is a GPT header in the second sector, sound or not.
pub fn is_gpt(disk: &dyn ReadAt) -> bool {
    disk.read_vec(SECTOR, 8).is_ok_and(|bytes| bytes == b"EFI PART")
}

/// Reads a table; falls back on the backup when the primary is damaged, and says so.
///
/// # Errors
/// Neither can be used.
pub fn read(disk: &dyn ReadAt) -> Result<Table, GptError> {
    let last = (disk.size() / SECTOR).saturating_sub(1);
    let (primary, backup) = (read_one(disk, 1), read_one(disk, last));
    let mut damage = Vec::new();
    let (disk_guid, partitions) = match (primary, backup) {
        (Ok(a), Ok(b)) => {
            if a != b {
                damage.push("the backup table says something else than the primary".to_string());
            }
            a
        }
        (Ok(a), Err(why)) => {
            damage.push(format!("the backup table cannot be used: {why}"));
            a
        }
        (Err(why), Ok(b)) => {
            damage.push(format!("the primary table cannot be used, the backup was read: {why}"));
            b
        }
        (Err(primary), Err(backup)) => return Err(GptError::Unusable { primary, backup }),
    };
    match disk.read_vec(0, SECTOR) {
        Ok(mbr) if mbr[510..] == [0x55, 0xaa] && (0..4).any(|i| mbr[446 + 16 * i + 4] == 0xee) => {}
        _ => damage.push("there is no protective MBR".to_string()),
    }
    for (index, a) in partitions.iter().enumerate() {
        if a.start.saturating_add(a.size) > disk.size() {
            damage.push(format!("partition {} reaches beyond the end of the disk", a.number));
        }
        for b in &partitions[index + 1..] {
            if a.start < b.start.saturating_add(b.size) && b.start < a.start.saturating_add(a.size) {
                damage.push(format!("partitions {} and {} overlap", a.number, b.number));
            }
        }
    }
    let outside_is_zero = outside_is_zero(disk, &partitions);
    Ok(Table { disk: disk_guid, partitions, damage, outside_is_zero })
}

/// Whether all that is neither table nor partition is zero.
fn outside_is_zero(disk: &dyn ReadAt, partitions: &[Partition]) -> bool {
    let mut taken: Vec<(u64, u64)> = partitions.iter().map(|p| (p.start, p.start.saturating_add(p.size))).collect();
    taken.push((0, (2 + TABLE_SECTORS) * SECTOR));
    taken.push((disk.size().saturating_sub(TAIL), disk.size()));
    taken.sort_unstable();
    let mut at = 0;
    for (start, end) in taken {
        let mut from = at;
        while from < start.min(disk.size()) {
            let length = (start.min(disk.size()) - from).min(1 << 20);
            if disk.read_vec(from, length).is_ok_and(|bytes| bytes.iter().any(|&b| b != 0)) {
                return false;
            }
            from += length;
        }
        at = at.max(end);
    }
    true
}

fn read_one(disk: &dyn ReadAt, sector: u64) -> Result<(Guid, Vec<Partition>), String> {
    let header = disk.read_vec(sector.saturating_mul(SECTOR), SECTOR).map_err(|e| e.to_string())?;
    let get32 = |at: usize| u32::from_le_bytes([header[at], header[at + 1], header[at + 2], header[at + 3]]);
    let get64 = |at: usize| u64::from(get32(at)) | u64::from(get32(at + 4)) << 32;
    if &header[..8] != b"EFI PART" {
        return Err("no signature".into());
    }
    let size = get32(12) as usize;
    if !(92..=SECTOR as usize).contains(&size) {
        return Err(format!("header size {size}"));
    }
    let mut unsigned = header.clone();
    unsigned[16..20].fill(0);
    if crc32fast::hash(&unsigned[..size]) != get32(16) {
        return Err("wrong header checksum".into());
    }
    if get64(24) != sector {
        return Err(format!("it says it lies at sector {}, not {sector}", get64(24)));
    }
    let (count, entry_size) = (u64::from(get32(80)), u64::from(get32(84)));
    if count == 0 || count > 1024 || !(128..=4096).contains(&entry_size) || entry_size % 8 != 0 {
        return Err(format!("{count} entries of {entry_size} bytes"));
    }
    let table = disk.read_vec(get64(72).saturating_mul(SECTOR), count * entry_size).map_err(|e| e.to_string())?;
    if crc32fast::hash(&table) != get32(88) {
        return Err("wrong checksum of the entries".into());
    }
    let mut disk_guid = Guid::default();
    disk_guid.0.copy_from_slice(&header[56..72]);
    let mut partitions = Vec::new();
    for (index, entry) in table.chunks_exact(entry_size as usize).enumerate() {
        let guid = |at: usize| {
            let mut guid = Guid::default();
            guid.0.copy_from_slice(&entry[at..at + 16]);
            guid
        };
        if guid(0) == Guid::default() {
            continue;
        }
        let number = |at: usize| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(&entry[at..at + 8]);
            u64::from_le_bytes(bytes)
        };
        let (first, last) = (number(32), number(40));
        if last < first {
            return Err(format!("partition {} ends before it begins", index + 1));
        }
        let units: Vec<u16> =
            entry[56..128].chunks_exact(2).map(|c| u16::from_le_bytes([c[0], c[1]])).take_while(|&u| u != 0).collect();
        partitions.push(Partition {
            number: index as u32 + 1,
            kind: guid(0),
            guid: guid(16),
            label: String::from_utf16_lossy(&units),
            start: first.saturating_mul(SECTOR),
            size: (last - first).saturating_add(1).saturating_mul(SECTOR),
            attributes: number(48),
        });
    }
    Ok((disk_guid, partitions))
}

/// The digest of a partition's bytes.
///
/// # Errors
/// It cannot be read.
pub fn partition_digest(disk: &dyn ReadAt, partition: &Partition) -> std::io::Result<Digest> {
    use std::io::Write;
    let mut hasher = embrak_tree::HashingWriter::new(std::io::sink());
    let mut at = 0;
    while at < partition.size {
        let length = (partition.size - at).min(1 << 20);
        hasher.write_all(&disk.read_vec(partition.start.saturating_add(at), length)?)?;
        at += length;
    }
    Ok(hasher.finish().1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::partition_type;
    use embrak_tree::MemoryBlobs;
    use proptest::prelude::*;

    fn partition(label: &str, size: u64) -> NewPartition {
        let seed = Digest::of("test");
        NewPartition {
            kind: partition_type("esp", "").unwrap(),
            guid: Guid::derived(&seed, label),
            label: label.into(),
            size,
            attributes: 0,
        }
    }

    fn disk(partitions: &[NewPartition]) -> Vec<u8> {
        let layout = plan(partitions, None).unwrap();
        let contents = partitions.iter().map(|_| Extents::new()).collect();
        let extents = write(&layout, Guid::derived(&Digest::of("d"), "disk"), partitions, contents, vec![]).unwrap();
        assert_eq!(extents.total(), layout.disk_size);
        extents.to_vec(&MemoryBlobs::default()).unwrap()
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(sizes in proptest::collection::vec(1u64..3_000_000, 0..5), label in "[a-zé]{0,18}") {
            let partitions: Vec<_> = sizes.iter().enumerate().map(|(i, s)| partition(&format!("{label}{i}"), *s)).collect();
            let table = read(&disk(&partitions)).unwrap();
            prop_assert_eq!(&table.damage, &Vec::<String>::new());
            prop_assert!(table.outside_is_zero);
            prop_assert_eq!(table.partitions.len(), partitions.len());
            for (read, written) in table.partitions.iter().zip(&partitions) {
                prop_assert_eq!((&read.label, read.guid, read.kind), (&written.label, written.guid, written.kind));
                prop_assert!(read.size >= written.size && read.size < written.size + ALIGNMENT && read.start % ALIGNMENT == 0);
            }
        }

        #[test]
        fn a_flipped_byte_of_the_table_is_noticed(at in 512usize..512 + 92, entry in 1024usize..1024 + 256, bit in 0u8..8) {
            let partitions = [partition("a", 1), partition("b", 1)];
            let good = disk(&partitions);
            for at in [at, entry] {
                let mut bad = good.clone();
                bad[at] ^= 1 << bit;
                let table = read(&bad).unwrap();
                prop_assert!(!table.damage.is_empty(), "byte {}", at);
                prop_assert_eq!(table.partitions.len(), 2, "the backup serves");
            }
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..4096), at in 0usize..2000) {
            let _ = read(&bytes);
            let mut real = disk(&[partition("a", 1)]);
            let n = bytes.len().min(64);
            real[at..at + n].copy_from_slice(&bytes[..n]);
            let _ = read(&real);
        }
    }

    #[test]
    fn a_disk_too_small_says_by_how_much() {
        let error = plan(&[partition("a", 5 << 20)], Some(4 << 20)).unwrap_err();
        assert_eq!(error, LayoutError::TooSmall { needed: 7 << 20, have: 4 << 20 });
        assert!(error.to_string().contains("3145728 bytes are missing"), "{error}");
    }

    #[test]
    fn raw_bytes_go_to_their_place_or_are_refused() {
        let partitions = [partition("a", 1)];
        let layout = plan(&partitions, None).unwrap();
        let put = |offset: u64| {
            let mut content = Extents::new();
            content.bytes(vec![9; 1000]);
            let piece = RawPiece { what: "loader".into(), offset, content };
            write(&layout, Guid::default(), &partitions, vec![Extents::new()], vec![piece])
        };
        let bytes = put(64 << 10).unwrap().to_vec(&MemoryBlobs::default()).unwrap();
        assert!(bytes[64 << 10..(64 << 10) + 1000].iter().all(|&b| b == 9));
        assert!(!read(&bytes).unwrap().outside_is_zero);
        for (offset, other) in
            [(8 << 10, "the partition table"), ((1 << 20) - 1, "partition `a`"), (1 << 40, "the end of the disk")]
        {
            let error = put(offset).unwrap_err().to_string();
            assert!(error.contains(other), "{error}");
        }
    }
}
