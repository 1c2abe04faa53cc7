//! Disks: partition tables, filesystems. Computed, never mounted.
//!
//! A filesystem writer is a function `Tree -> Extents`, a partition table puts extents one behind the other, and
//! emitting streams them once into a file, hashing on the way and leaving holes where there are zeros. The way
//! back is `ReadAt -> Tree`. What a header says is never believed without a check: readers survive any bytes.

mod bytes;
pub mod ext4;
pub mod fat;
pub mod gpt;
mod guid;
pub mod mbr;
pub mod pe;
pub mod qcow2;
mod read_at;

pub use embrak_tree::{Chunk, Emitted, Extent, Extents, emit};
pub use guid::{Guid, GuidError, partition_type, partition_type_name};
pub use read_at::{ReadAt, Slice, read_alike};

/// Bytes in a sector; everything here counts in sectors of 512 bytes.
pub const SECTOR: u64 = 512;

/// Rounds up to a multiple of `unit`.
pub fn round_up(value: u64, unit: u64) -> u64 {
    value.div_ceil(unit).saturating_mul(unit)
}
