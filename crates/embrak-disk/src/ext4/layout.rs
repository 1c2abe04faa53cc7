//! The arithmetic of a filesystem: groups, backups, tables.

use super::{DESCRIPTOR_SIZE, FIRST_INODE, INODE_SIZE, WriteError};

/// Groups whose tables lie together.
const FLEX: u64 = 16;
/// Bytes of filesystem for which there is one inode at least.
const BYTES_PER_INODE: u64 = 16384;
/// A filesystem can be grown on line to this many times its size, up to [`GROW_LIMIT`].
const GROW: u64 = 1024;
const GROW_LIMIT: u64 = 1 << 40;

/// Where everything of a filesystem of a certain size lies.
#[derive(Debug, Clone)]
pub(super) struct Layout {
    pub(super) block_size: u64,
    pub(super) blocks: u64,
    pub(super) first_block: u64,
    pub(super) groups: u64,
    pub(super) inodes_per_group: u64,
    /// Blocks of one group's inode table.
    pub(super) table_blocks: u64,
    pub(super) descriptor_blocks: u64,
    pub(super) reserved_descriptor_blocks: u64,
    pub(super) flex: u64,
}

impl Layout {
    pub(super) fn new(size: u64, inodes: u64) -> Result<Layout, WriteError> {
        if !(1 << 20..=16 << 40).contains(&size) {
            return Err(WriteError::Size(size));
        }
        // Small filesystems waste less in small blocks.
        let block_size: u64 = if size < 32 << 20 { 1024 } else { 4096 };
        let first_block = u64::from(block_size == 1024);
        let per_group = block_size * 8;
        let mut blocks = size / block_size;
        loop {
            let groups = (blocks - first_block).div_ceil(per_group);
            let wanted = inodes.max(size / BYTES_PER_INODE).max(u64::from(FIRST_INODE) + 5);
            let per_table_block = block_size / INODE_SIZE as u64;
            let table_blocks = wanted.div_ceil(groups).div_ceil(per_table_block);
            // The bitmap of inodes is counted in whole bytes.
            let table_blocks = table_blocks.next_multiple_of(8u64.div_ceil(per_table_block));
            let inodes_per_group = table_blocks * per_table_block;
            let per_block = block_size / DESCRIPTOR_SIZE as u64;
            let descriptor_blocks = groups.div_ceil(per_block);
            let grown = (blocks.saturating_mul(GROW)).min(GROW_LIMIT / block_size).max(blocks);
            let grown_blocks = grown.div_ceil(per_group).div_ceil(per_block);
            let reserved_descriptor_blocks = grown_blocks.saturating_sub(descriptor_blocks).min(block_size / 4);
            let base = 1 + descriptor_blocks + reserved_descriptor_blocks;
            let mut flex = FLEX;
            while flex > 1 && base + flex * (2 + table_blocks) > per_group / 2 {
                flex /= 2;
            }
            if inodes_per_group > per_group || base + flex * (2 + table_blocks) > per_group - 16 {
                // More inodes than the groups have room for: only a larger filesystem helps.
                let needed = inodes * INODE_SIZE as u64 * 2;
                return Err(WriteError::TooSmall { needed: needed.max(size + 1), have: size });
            }
            let layout = Layout {
                block_size,
                blocks,
                first_block,
                groups,
                inodes_per_group,
                table_blocks,
                descriptor_blocks,
                reserved_descriptor_blocks,
                flex,
            };
            // A last group that could hold little more than its own tables is left out.
            let last = blocks - layout.group_start(groups - 1);
            let least = if layout.has_backup(groups - 1) { base } else { 0 } + 2 + table_blocks + 50;
            if groups > 1 && last < least {
                blocks -= last;
                continue;
            }
            return Ok(layout);
        }
    }

    pub(super) fn blocks_per_group(&self) -> u64 {
        self.block_size * 8
    }

    pub(super) fn group_start(&self, group: u64) -> u64 {
        self.first_block + group * self.blocks_per_group()
    }

    pub(super) fn group_blocks(&self, group: u64) -> u64 {
        (self.blocks - self.group_start(group)).min(self.blocks_per_group())
    }

    pub(super) fn inodes(&self) -> u64 {
        self.inodes_per_group * self.groups
    }

    /// Whether a group begins with a copy of the superblock.
    pub(super) fn has_backup(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power *= base;
            }
            power == group
        };
        group <= 1 || power_of(3) || power_of(5) || power_of(7)
    }

    /// Groups other than the first that hold backups.
    pub(super) fn backups(&self) -> impl Iterator<Item = u64> + '_ {
        (1..self.groups).filter(|&group| self.has_backup(group))
    }

    /// Blocks that the superblock's copy and the descriptors take at the start of a group.
    pub(super) fn base_blocks(&self, group: u64) -> u64 {
        if self.has_backup(group) { 1 + self.descriptor_blocks + self.reserved_descriptor_blocks } else { 0 }
    }

    /// First block of the tables of the flexible group that a group belongs to, and how many groups share them.
    fn tables(&self, group: u64) -> (u64, u64, u64) {
        let first = group / self.flex * self.flex;
        let count = self.flex.min(self.groups - first);
        (self.group_start(first) + self.base_blocks(first), first, count)
    }

    pub(super) fn block_bitmap(&self, group: u64) -> u64 {
        let (start, first, _) = self.tables(group);
        start + group - first
    }

    pub(super) fn inode_bitmap(&self, group: u64) -> u64 {
        let (start, first, count) = self.tables(group);
        start + count + group - first
    }

    pub(super) fn inode_table(&self, group: u64) -> u64 {
        let (start, first, count) = self.tables(group);
        start + 2 * count + (group - first) * self.table_blocks
    }

    /// Blocks of a group that are taken before any data, from its start.
    pub(super) fn taken(&self, group: u64) -> u64 {
        let (_, first, count) = self.tables(group);
        self.base_blocks(group) + if group == first { count * (2 + self.table_blocks) } else { 0 }
    }
}
