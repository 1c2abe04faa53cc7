//! The ext4 filesystem (Linux kernel documentation, "ext4 Data Structures and Algorithms").
//!
//! ```text
//!   group 0          superblock | descriptors | room for more of them | bitmaps and inode tables of 16 groups | data
//!   groups 1, 3^n,   backup of superblock and descriptors | data
//!     5^n, 7^n
//!   group 16, 32..   bitmaps and inode tables of the next 16 groups | data
//! ```
//!
//! Written with extents, 64-bit block numbers, checksums over all metadata, hashed indexes of large directories,
//! sparse backups of the superblock, and room for descriptors so that the filesystem can be grown on line. Every
//! number follows from the tree and the options: inodes in path order, blocks in path order, no random identifier.

mod content;
mod hash;
mod layout;
mod read;
mod write;
mod xattr;

pub use content::Content;
pub use read::{Ext4Error, Ext4Info, Located, Volume};

use embrak_tree::TreePath;

/// Version of the bytes the writer makes.
pub const WRITER_VERSION: u32 = 1;

/// What a filesystem is to be like.
#[derive(Debug, Clone)]
pub struct Ext4Options {
    /// Its size in bytes: from 1 MiB to 16 TiB.
    pub size: u64,
    /// Its label: at most 16 bytes are kept.
    pub label: String,
    /// Its UUID, as it is written: most significant byte first.
    pub uuid: [u8; 16],
    /// Time of making, seconds since 1970.
    pub mtime: i64,
    /// Blocks only root can use, in percent: 0 to 50.
    pub reserved_percent: u32,
    /// Whether it has a journal. Filesystems below 8 MiB never do.
    pub journal: bool,
}

/// Why a tree cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The content does not fit.
    #[error("the content needs {needed} bytes with its metadata, {} bytes more than there are", needed - have)]
    TooSmall {
        /// Bytes needed.
        needed: u64,
        /// Bytes there are.
        have: u64,
    },
    /// The filesystem itself does not fit.
    #[error("{0} bytes are too few for an ext4 filesystem or more than we address (1 MiB to 16 TiB)")]
    Size(u64),
    /// A file that is too large.
    #[error("{0} is larger than 16 TiB, which ext4 cannot hold")]
    FileSize(TreePath),
    /// A symbolic link that is too long.
    #[error("the target of {path} has {length} bytes, and links in this filesystem hold {limit}")]
    Target {
        /// Which link.
        path: TreePath,
        /// Bytes of its target.
        length: usize,
        /// Bytes that would do.
        limit: usize,
    },
    /// Extended attributes that do not fit.
    #[error("the extended attributes of {path} {why}, which ext4 cannot hold")]
    Attributes {
        /// Whose.
        path: TreePath,
        /// What is wrong with them.
        why: String,
    },
    /// More names for one file than there can be.
    #[error("{0} has more than 65000 names, which ext4 cannot hold")]
    Links(TreePath),
    /// Something in the tree that cannot be.
    #[error("{path}: {why}")]
    Tree {
        /// Where.
        path: TreePath,
        /// What.
        why: String,
    },
    /// A file's contents cannot be read.
    #[error("{path}: {source}")]
    Read {
        /// Which file.
        path: TreePath,
        /// Why.
        source: std::io::Error,
    },
}

pub(crate) const ROOT_INODE: u32 = 2;
pub(crate) const RESIZE_INODE: u32 = 7;
pub(crate) const JOURNAL_INODE: u32 = 8;
/// The first inode that is free for files; `lost+found` has it by custom.
pub(crate) const FIRST_INODE: u32 = 11;
pub(crate) const INODE_SIZE: usize = 256;
pub(crate) const DESCRIPTOR_SIZE: usize = 64;
pub(crate) const EXTENTS_FLAG: u32 = 0x8_0000;
pub(crate) const INDEX_FLAG: u32 = 0x1000;
pub(crate) const MAGIC: u16 = 0xef53;
pub(crate) const EXTENT_MAGIC: u16 = 0xf30a;

/// CRC-32C as ext4 chains it: without the inversion at the end.
pub(crate) fn checksum(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// The seed of everything that belongs to an inode.
pub(crate) fn inode_seed(seed: u32, inode: u32, generation: u32) -> u32 {
    checksum(checksum(seed, &inode.to_le_bytes()), &generation.to_le_bytes())
}
