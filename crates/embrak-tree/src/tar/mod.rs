//! POSIX tar archives in the pax interchange format (IEEE Std 1003.1-2017, `pax`, "ustar Interchange Format"
//! and "pax Extended Header").
//!
//! ```text
//!   offset  length  field
//!        0     100  name
//!      100       8  mode, octal
//!      108       8  uid
//!      116       8  gid
//!      124      12  size
//!      136      12  mtime
//!      148       8  checksum: six octal digits, NUL, space
//!      156       1  typeflag: 0 file, 1 hard link, 2 symlink, 3 char, 4 block, 5 directory, 6 fifo, x/g pax
//!      157     100  linkname
//!      257       8  "ustar\0" "00"
//!      265      64  user and group name (left empty: names are the target's business)
//!      329      16  device major, minor
//!      345     155  prefix
//! ```
//!
//! What does not fit (long or non-ASCII names, large numbers, extended attributes as `SCHILY.xattr.NAME`)
//! goes into a pax header before the entry. The writer is version [`WRITER_VERSION`].

mod read;
mod write;

pub use read::{TarError, read_archive, read_tree};
pub use write::{ArchiveWriter, archive, write_tree};

/// Version of the bytes the writer makes; a change of bytes is a new version. Old ones stay, so that what was made
/// with them can be made again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum Version {
    /// Entries in the order of their paths' bytes.
    ByPath,
    /// All of a directory right behind it: programs that unpack archives set a directory's time when they leave it, and
    /// must not come back.
    #[default]
    ByDirectory,
}

impl Version {
    /// All, the oldest first.
    pub const ALL: [Version; 2] = [Version::ByPath, Version::ByDirectory];

    /// As locks write it, from 1.
    pub fn number(self) -> u32 {
        self as u32 + 1
    }

    /// The version of a number, if there is one.
    pub fn of(number: u32) -> Option<Version> {
        Version::ALL.into_iter().find(|v| v.number() == number)
    }
}

/// The newest version.
pub const WRITER_VERSION: u32 = Version::ByDirectory as u32 + 1;

pub(crate) const BLOCK: usize = 512;
