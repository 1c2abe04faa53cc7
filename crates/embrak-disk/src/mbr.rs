//! Master boot records: four partitions, for boards whose first-stage loader knows nothing else; and, reading, the
//! chain of logical partitions in an extended one.

use crate::bytes::{get16, get32, put32};
use crate::gpt::{Layout, LayoutError, NewPartition, RawPiece, assemble, placed};
use crate::{Extents, ReadAt, SECTOR};
use serde::Serialize;

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// Partitions a record has room for.
const MOST: usize = 4;
/// No chain of logical partitions is longer.
const MOST_LOGICAL: u32 = 128;

/// Lays partitions one behind the other.
///
/// # Errors
/// More than four, more than 2 TiB, or they do not fit.
pub fn plan(partitions: &[NewPartition], disk_size: Option<u64>) -> Result<Layout, LayoutError> {
    if partitions.len() > MOST {
        return Err(LayoutError::TooMany { count: partitions.len(), most: MOST as u64 });
    }
    let (placements, at) = placed(partitions);
    let limit = u64::from(u32::MAX) * SECTOR;
    match disk_size {
        Some(have) if have < at => Err(LayoutError::TooSmall { needed: at, have }),
        _ if at > limit => Err(LayoutError::TooSmall { needed: at, have: limit }),
        size => Ok(Layout { placements, disk_size: size.map_or(at, |s| s / SECTOR * SECTOR) }),
    }
}

/// The type byte of a partition, by the type's name.
pub fn type_byte(kind: &str) -> Option<u8> {
    Some(match kind {
        "esp" => 0xef,
        "basic-data" | "xbootldr" => 0x0c,
        "swap" => 0x82,
        "root" | "usr" | "home" | "srv" | "var" | "tmp" | "linux-generic" => 0x83,
        other => u8::from_str_radix(other.strip_prefix("0x")?, 16).ok().filter(|b| *b != 0 && *b != 0xee)?,
    })
}

/// Puts the record, the partitions' contents and raw pieces together. `types` gives the byte of each partition and
/// whether it is marked as the one to start from.
///
/// # Errors
/// A raw piece overlaps the record or a partition.
pub fn write(
    layout: &Layout,
    signature: u32,
    types: &[(u8, bool)],
    partitions: &[NewPartition],
    contents: Vec<Extents>,
    raw: Vec<RawPiece>,
) -> Result<Extents, LayoutError> {
    let mut record = vec![0; SECTOR as usize];
    put32(&mut record, 440, signature);
    for ((placement, (kind, start)), entry) in layout.placements.iter().zip(types).zip(record[446..510].chunks_mut(16))
    {
        entry[0] = if *start { 0x80 } else { 0 };
        // Cylinders, heads and sectors mean nothing any more; these say "look at the sector numbers".
        entry[1..4].copy_from_slice(&[0xfe, 0xff, 0xff]);
        entry[4] = *kind;
        entry[5..8].copy_from_slice(&[0xfe, 0xff, 0xff]);
        put32(entry, 8, (placement.start / SECTOR) as u32);
        put32(entry, 12, (placement.size / SECTOR) as u32);
    }
    record[510..].copy_from_slice(&[0x55, 0xaa]);
    let taken = vec![(0, SECTOR, "the partition table".to_string())];
    assemble(layout, partitions, contents, raw, taken, record, Extents::new())
}

/// A partition as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct MbrPartition {
    /// Its number, from 1; logical ones from 5.
    pub number: u32,
    /// Its type byte.
    pub kind: u8,
    /// Whether it is marked as the one to start from.
    pub active: bool,
    /// Offset in bytes.
    pub start: u64,
    /// Size in bytes.
    pub size: u64,
}

/// A record as it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Record {
    /// The disk's signature.
    pub signature: u32,
    /// The partitions.
    pub partitions: Vec<MbrPartition>,
    /// What is not as it should be.
    pub damage: Vec<String>,
}

/// Reads a record with at least one sensible partition; nothing when there is none.
pub fn read(disk: &dyn ReadAt) -> Option<Record> {
    let first = disk.read_vec(0, SECTOR).ok()?;
    if get16(&first, 510) != 0xaa55 {
        return None;
    }
    let mut record = Record { signature: get32(&first, 440), partitions: Vec::new(), damage: Vec::new() };
    for (number, e) in (1..).zip(first[446..510].chunks(16)) {
        let (kind, start, sectors) = (e[4], u64::from(get32(e, 8)), u64::from(get32(e, 12)));
        if kind == 0 {
            continue;
        }
        // Boot code of filesystems lies where a record would have its entries.
        if !matches!(e[0], 0 | 0x80) || kind == 0xee || start == 0 || sectors == 0 {
            return None;
        }
        if matches!(kind, 0x05 | 0x0f | 0x85) {
            logical(disk, start, &mut record);
            continue;
        }
        let (start, size) = (start * SECTOR, sectors * SECTOR);
        if start + size > disk.size() {
            record.damage.push(format!("partition {number} reaches beyond the end of the disk"));
        }
        record.partitions.push(MbrPartition { number, kind, active: e[0] == 0x80, start, size });
    }
    (!record.partitions.is_empty()).then_some(record)
}

fn logical(disk: &dyn ReadAt, extended: u64, record: &mut Record) {
    let mut at = extended;
    for number in 5..5 + MOST_LOGICAL {
        let Ok(sector) = disk.read_vec(at.saturating_mul(SECTOR), SECTOR) else {
            record.damage.push("the chain of logical partitions leads beyond the end of the disk".into());
            return;
        };
        let (e, next) = (&sector[446..462], &sector[462..478]);
        if get16(&sector, 510) != 0xaa55 {
            record.damage.push("the chain of logical partitions is torn".into());
            return;
        }
        if e[4] != 0 {
            let start = (at + u64::from(get32(e, 8))) * SECTOR;
            let size = u64::from(get32(e, 12)) * SECTOR;
            record.partitions.push(MbrPartition { number, kind: e[4], active: e[0] == 0x80, start, size });
        }
        if next[4] == 0 {
            return;
        }
        let following = extended + u64::from(get32(next, 8));
        if following <= at {
            record.damage.push("the chain of logical partitions leads in a circle".into());
            return;
        }
        at = following;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Guid;
    use embrak_tree::MemoryBlobs;

    fn partition(size: u64) -> NewPartition {
        NewPartition { kind: Guid::default(), guid: Guid::default(), label: "p".into(), size, attributes: 0 }
    }

    #[test]
    fn what_is_written_is_read_and_raw_bytes_may_lie_behind_the_record() {
        let partitions = [partition(3 << 20), partition(1)];
        let layout = plan(&partitions, None).unwrap();
        let mut content = Extents::new();
        content.bytes(vec![9; 4000]);
        let piece = |offset| RawPiece { what: "loader".into(), offset, content: content.clone() };
        let types = [(type_byte("esp").unwrap(), true), (type_byte("root").unwrap(), false)];
        let contents = || vec![Extents::new(), Extents::new()];
        let bytes = write(&layout, 0x1234_5678, &types, &partitions, contents(), vec![piece(512)]).unwrap();
        let bytes = bytes.to_vec(&MemoryBlobs::default()).unwrap();
        assert_eq!(bytes.len(), 5 << 20);
        assert!(bytes[512..4512].iter().all(|b| *b == 9));
        let record = read(&bytes).unwrap();
        assert_eq!((record.signature, record.damage.len()), (0x1234_5678, 0));
        let found: Vec<_> = record.partitions.iter().map(|p| (p.number, p.kind, p.active, p.start, p.size)).collect();
        assert_eq!(found, [(1, 0xef, true, 1 << 20, 3 << 20), (2, 0x83, false, 4 << 20, 1 << 20)]);
        let error = write(&layout, 0, &types, &partitions, contents(), vec![piece(100)]).unwrap_err();
        assert!(error.to_string().contains("partition table"), "{error}");
    }

    #[test]
    fn five_partitions_are_too_many_and_a_small_disk_says_so() {
        let five: Vec<_> = (0..5).map(|_| partition(1)).collect();
        assert!(plan(&five, None).unwrap_err().to_string().contains('4'));
        assert!(matches!(plan(&five[..2], Some(1 << 20)), Err(LayoutError::TooSmall { .. })));
    }
}
