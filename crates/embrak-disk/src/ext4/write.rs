//! Writing: place everything, then put the extents in order.

use super::content::{Body, Child, Content, Node};
use super::hash::half_md4;
use super::layout::Layout;
use super::xattr::{self, Attribute};
use super::{
    DESCRIPTOR_SIZE, EXTENT_MAGIC, EXTENTS_FLAG, Ext4Options, FIRST_INODE, INDEX_FLAG, INODE_SIZE, JOURNAL_INODE,
    MAGIC, RESIZE_INODE, WriteError, checksum, inode_seed,
};
use crate::bytes::{put16, put32, put32_be};
use crate::{Extents, round_up};
use embrak_tree::Digest;
use std::collections::BTreeMap;

/// The most blocks one extent covers.
const LONGEST_EXTENT: u64 = 32768;
/// Bytes at the end of a directory block for its checksum.
const TAIL: usize = 12;
/// Bytes of `lost+found`, so that a checker finds room for what it rescues.
const LOST_AND_FOUND: u64 = 16384;

const COMPATIBLE: u32 = 0x8 | 0x20; // ext_attr, dir_index
const HAS_JOURNAL: u32 = 0x4;
const RESIZE: u32 = 0x10;
const INCOMPATIBLE: u32 = 0x2 | 0x40 | 0x80 | 0x200; // filetype, extents, 64bit, flex_bg
const READ_ONLY: u32 = 0x1 | 0x2 | 0x8 | 0x20 | 0x40 | 0x400; // sparse_super, large_file, huge_file, dir_nlink, extra_isize, metadata_csum

/// Gives out blocks from the front, around what is taken before any data.
struct Allocator<'a> {
    layout: &'a Layout,
    group: u64,
    /// The next free block within the group.
    at: u64,
    used: Vec<u64>,
    /// Blocks asked for that there were not.
    missing: u64,
}

impl<'a> Allocator<'a> {
    fn new(layout: &'a Layout) -> Self {
        let used = vec![0; layout.groups as usize];
        Allocator { layout, group: 0, at: layout.taken(0), used, missing: 0 }
    }

    /// Runs of blocks, together as many as asked for unless the filesystem is full.
    fn take(&mut self, mut count: u64) -> Vec<(u64, u64)> {
        let mut out: Vec<(u64, u64)> = Vec::new();
        while count > 0 {
            if self.group == self.layout.groups {
                self.missing += count;
                break;
            }
            let free = self.layout.group_blocks(self.group).saturating_sub(self.at);
            if free == 0 {
                self.group += 1;
                if self.group < self.layout.groups {
                    self.at = self.layout.taken(self.group);
                }
                continue;
            }
            let n = free.min(count);
            let start = self.layout.group_start(self.group) + self.at;
            match out.last_mut() {
                Some((first, length)) if *first + *length == start => *length += n,
                _ => out.push((start, n)),
            }
            self.used[self.group as usize] += n;
            self.at += n;
            count -= n;
        }
        out
    }

    fn one(&mut self) -> u64 {
        self.take(1).first().map_or(0, |run| run.0)
    }
}

/// An inode being put together.
struct Inode {
    bytes: Vec<u8>,
    seed: u32,
}

impl Inode {
    fn new(seed: u32, number: u32, mode: u32, links: u32, made: i64) -> Self {
        let mut bytes = vec![0; INODE_SIZE];
        put16(&mut bytes, 0, mode as u16);
        put16(&mut bytes, 0x1a, links as u16);
        put16(&mut bytes, 0x80, 32);
        let mut inode = Inode { bytes, seed: inode_seed(seed, number, 0) };
        inode.time(0x90, 0x94, made);
        inode.times(made);
        inode
    }

    /// Seconds in 34 bits: two more in the extra word.
    fn time(&mut self, at: usize, extra: usize, seconds: i64) {
        let seconds = seconds.clamp(-(1 << 31), (1 << 33) + (1 << 32) + (1 << 31) - 1);
        put32(&mut self.bytes, at, seconds as u32);
        put32(&mut self.bytes, extra, ((seconds - i64::from(seconds as i32)) >> 32) as u32 & 3);
    }

    fn times(&mut self, mtime: i64) {
        self.time(0x8, 0x8c, mtime);
        self.time(0xc, 0x84, mtime);
        self.time(0x10, 0x88, mtime);
    }

    fn owner(&mut self, (user, group): (u32, u32)) {
        put16(&mut self.bytes, 0x2, user as u16);
        put16(&mut self.bytes, 0x18, group as u16);
        put16(&mut self.bytes, 0x78, (user >> 16) as u16);
        put16(&mut self.bytes, 0x7a, (group >> 16) as u16);
    }

    fn size(&mut self, size: u64) {
        put32(&mut self.bytes, 0x4, size as u32);
        put32(&mut self.bytes, 0x6c, (size >> 32) as u32);
    }

    /// Space it takes, in units of 512 bytes.
    fn space(&mut self, sectors: u64) {
        put32(&mut self.bytes, 0x1c, sectors as u32);
        put16(&mut self.bytes, 0x74, (sectors >> 32) as u16);
    }

    fn flag(&mut self, flag: u32) {
        let flags = crate::bytes::get32(&self.bytes, 0x20) | flag;
        put32(&mut self.bytes, 0x20, flags);
    }

    fn finish(mut self) -> Vec<u8> {
        let sum = checksum(self.seed, &self.bytes);
        put16(&mut self.bytes, 0x7c, sum as u16);
        put16(&mut self.bytes, 0x82, (sum >> 16) as u16);
        self.bytes
    }
}

/// What lies where: first block and contents.
type Pieces = Vec<(u64, Extents)>;

/// One extent: logical block, physical block, blocks.
type Run = (u64, u64, u64);

struct Writer<'a> {
    layout: &'a Layout,
    seed: u32,
    hash_seed: [u32; 4],
    blocks: Allocator<'a>,
    inodes: BTreeMap<u32, Vec<u8>>,
    pieces: Pieces,
    /// Blocks of attributes by content: block, users, where in `pieces`.
    attribute_blocks: BTreeMap<Vec<u8>, (u64, u32, usize)>,
    journal: Vec<u8>,
}

impl Content {
    /// The smallest size that holds the content, in whole MiB.
    ///
    /// # Errors
    /// It cannot be held at all.
    pub fn smallest_size(&self, options: &Ext4Options) -> Result<u64, WriteError> {
        let mut size = round_up(options.size.max(1), 1 << 20);
        loop {
            match self.place(&Ext4Options { size, ..options.clone() }, &mut |_, _| {}) {
                Ok(()) => return Ok(size),
                Err(WriteError::TooSmall { needed, have }) => size += round_up((needed - have).max(1), 1 << 20),
                Err(error) => return Err(error),
            }
        }
    }

    /// Writes the content as a filesystem of the size in the options.
    ///
    /// # Errors
    /// It does not fit.
    pub fn write(&self, options: &Ext4Options) -> Result<Extents, WriteError> {
        let mut out = Extents::new();
        self.place(options, &mut |layout, mut pieces: Pieces| {
            pieces.sort_by_key(|(block, _)| *block);
            for (block, piece) in pieces {
                out.pad_to(block * layout.block_size);
                out.append(piece);
            }
            out.pad_to(options.size);
        })?;
        Ok(out)
    }

    fn place(&self, options: &Ext4Options, done: &mut dyn FnMut(&Layout, Pieces)) -> Result<(), WriteError> {
        let layout = Layout::new(options.size, self.inodes())?;
        let digest = Digest::of([b"ext4 hash seed".as_slice(), &options.uuid].concat());
        let word = |n: usize| crate::bytes::get32(digest.raw().as_slice(), n * 4);
        let mut writer = Writer {
            layout: &layout,
            seed: checksum(!0, &options.uuid),
            hash_seed: [word(0), word(1), word(2), word(3)],
            blocks: Allocator::new(&layout),
            inodes: BTreeMap::new(),
            pieces: Vec::new(),
            attribute_blocks: BTreeMap::new(),
            journal: Vec::new(),
        };
        writer.resize_inode(options);
        writer.journal(options);
        let (directories, others): (Vec<&Node>, Vec<&Node>) =
            self.nodes.iter().partition(|n| matches!(n.body, Body::Directory { .. }));
        for node in directories.into_iter().chain(others) {
            writer.node(node, options)?;
        }
        if writer.blocks.missing > 0 {
            let have = layout.blocks * layout.block_size;
            return Err(WriteError::TooSmall { needed: have + writer.blocks.missing * layout.block_size, have });
        }
        let pieces = writer.finish(self, options);
        done(&layout, pieces);
        Ok(())
    }
}

impl Writer<'_> {
    fn bytes(&mut self, block: u64, bytes: Vec<u8>) {
        let mut piece = Extents::new();
        piece.bytes(bytes);
        self.pieces.push((block, piece));
    }

    /// Inode 7: it owns the blocks kept for descriptors of groups to come, by the old map of blocks.
    fn resize_inode(&mut self, options: &Ext4Options) {
        let layout = self.layout;
        let reserved = layout.reserved_descriptor_blocks;
        if reserved == 0 {
            return;
        }
        let pointers = layout.block_size / 4;
        let first = layout.first_block + 1 + layout.descriptor_blocks;
        let mut double = vec![0; layout.block_size as usize];
        for n in 0..reserved {
            put32(&mut double, ((layout.descriptor_blocks + n) % pointers * 4) as usize, (first + n) as u32);
            let mut block = vec![0; layout.block_size as usize];
            for (slot, group) in layout.backups().take(pointers as usize).enumerate() {
                put32(&mut block, slot * 4, (layout.group_start(group) + 1 + layout.descriptor_blocks + n) as u32);
            }
            self.bytes(first + n, block);
        }
        let at = self.blocks.one();
        self.bytes(at, double);
        let mut inode = Inode::new(self.seed, RESIZE_INODE, 0o100_600, 1, options.mtime);
        inode.size((pointers * pointers + pointers + 12) * layout.block_size);
        let owned = 1 + reserved * (1 + layout.backups().count() as u64);
        inode.space(owned * layout.block_size / 512);
        put32(&mut inode.bytes, 0x28 + 13 * 4, at as u32);
        self.inodes.insert(RESIZE_INODE, inode.finish());
    }

    /// Inode 8, and in its first block the journal's own superblock (big-endian, version 2).
    fn journal(&mut self, options: &Ext4Options) {
        if !options.journal || self.layout.blocks * self.layout.block_size < 8 << 20 {
            return;
        }
        let count = (self.layout.blocks / 64).clamp(1024, 16384);
        let runs = self.blocks.take(count);
        let block_size = self.layout.block_size;
        let mut head = vec![0; 1024];
        let words = [(0, 0xc03b_3998), (4, 4), (12, block_size as u32), (16, count as u32), (20, 1), (24, 1), (64, 1)];
        for (at, value) in words {
            put32_be(&mut head, at, value);
        }
        head[48..64].copy_from_slice(&options.uuid);
        if let Some((first, _)) = runs.first() {
            self.bytes(*first, head);
        }
        let mut inode = Inode::new(self.seed, JOURNAL_INODE, 0o100_600, 1, options.mtime);
        inode.size(count * block_size);
        let extents = logical(&runs);
        let more = self.extents(&mut inode, &extents);
        inode.space((count + more) * block_size / 512);
        // The superblock keeps a copy of where the journal lies.
        self.journal = inode.bytes[0x28..0x28 + 60].to_vec();
        self.journal.extend_from_slice(&((count * block_size) >> 32).to_le_bytes()[..4]);
        self.journal.extend_from_slice(&(count * block_size).to_le_bytes()[..4]);
        self.inodes.insert(JOURNAL_INODE, inode.finish());
    }

    fn node(&mut self, node: &Node, options: &Ext4Options) -> Result<(), WriteError> {
        let block_size = self.layout.block_size;
        let kind: u32 = match &node.body {
            Body::Directory { .. } => 0o04_0000,
            Body::File { .. } => 0o10_0000,
            Body::Link(_) => 0o12_0000,
            Body::Device { character: true, .. } => 0o02_0000,
            Body::Device { .. } => 0o06_0000,
            Body::Fifo => 0o01_0000,
        };
        let mut inode = Inode::new(self.seed, node.inode, kind | node.mode & 0o7777, node.links, options.mtime);
        inode.times(node.mtime);
        inode.owner(node.owner);
        let mut space = self.attributes(node, &mut inode)?;
        match &node.body {
            Body::Directory { parent, children } => {
                let bytes = self.directory(node, *parent, children, &mut inode)?;
                let runs = self.blocks.take(bytes.len() as u64 / block_size);
                let mut at = 0;
                for (start, count) in &runs {
                    let length = (count * block_size) as usize;
                    self.bytes(*start, bytes[at..at + length].to_vec());
                    at += length;
                }
                inode.size(bytes.len() as u64);
                space += bytes.len() as u64 / block_size + self.extents(&mut inode, &logical(&runs));
            }
            Body::File { digest, size, data } => {
                let mut extents = Vec::new();
                for &(offset, length) in data {
                    let mut from = offset;
                    for (start, count) in self.blocks.take(length.div_ceil(block_size)) {
                        let bytes = (count * block_size).min(offset + length - from);
                        let mut piece = Extents::new();
                        if bytes == *size {
                            piece.blob(*digest, *size);
                        } else {
                            piece.part(*digest, from, bytes);
                        }
                        self.pieces.push((start, piece));
                        extents.push((from / block_size, start, count));
                        from += bytes;
                        space += count;
                    }
                }
                inode.size(*size);
                space += self.extents(&mut inode, &extents);
            }
            Body::Link(target) if target.len() < 60 => {
                inode.size(target.len() as u64);
                inode.bytes[0x28..0x28 + target.len()].copy_from_slice(target);
            }
            Body::Link(target) => {
                let limit = block_size as usize - 1;
                if target.len() > limit {
                    return Err(WriteError::Target { path: node.path.clone(), length: target.len(), limit });
                }
                inode.size(target.len() as u64);
                let runs = self.blocks.take(1);
                if let Some((start, _)) = runs.first() {
                    self.bytes(*start, target.clone());
                }
                space += 1 + self.extents(&mut inode, &logical(&runs));
            }
            Body::Device { major, minor, .. } => {
                if *major < 256 && *minor < 256 {
                    put32(&mut inode.bytes, 0x28, major << 8 | minor);
                } else {
                    put32(&mut inode.bytes, 0x2c, minor & 0xff | major << 8 | (minor & !0xff) << 12);
                }
            }
            Body::Fifo => {}
        }
        inode.space(space * block_size / 512);
        self.inodes.insert(node.inode, inode.finish());
        Ok(())
    }

    /// Puts attributes into the inode, or into a block that may be shared; the blocks it took.
    fn attributes(&mut self, node: &Node, inode: &mut Inode) -> Result<u64, WriteError> {
        let list: &[Attribute] = &node.attributes;
        if list.is_empty() {
            return Ok(0);
        }
        // 32 bytes of the second half are fields, four are the magic number.
        if let Some(packed) = xattr::pack(list, INODE_SIZE - 0xa4, 0) {
            put32(&mut inode.bytes, 0xa0, xattr::MAGIC);
            inode.bytes[0xa4..].copy_from_slice(&packed);
            return Ok(0);
        }
        let space = self.layout.block_size as usize - xattr::BLOCK_HEADER;
        let Some(packed) = xattr::pack(list, space, xattr::BLOCK_HEADER) else {
            let why = format!("are larger than a block of {} bytes", self.layout.block_size);
            return Err(WriteError::Attributes { path: node.path.clone(), why });
        };
        let mut block = vec![0; xattr::BLOCK_HEADER];
        put32(&mut block, 0, xattr::MAGIC);
        put32(&mut block, 8, 1);
        put32(&mut block, 12, xattr::block_hash(list));
        block.extend_from_slice(&packed);
        let known = self.attribute_blocks.get(&block).copied().filter(|(_, users, _)| *users < 1024);
        let (at, users, piece) = match known {
            Some(known) => known,
            None => {
                let at = self.blocks.one();
                self.pieces.push((at, Extents::new()));
                (at, 0, self.pieces.len() - 1)
            }
        };
        self.attribute_blocks.insert(block.clone(), (at, users + 1, piece));
        put32(&mut block, 4, users + 1);
        let sum = checksum(self.seed, &at.to_le_bytes());
        let sum = checksum(sum, &block);
        put32(&mut block, 16, sum);
        let mut extents = Extents::new();
        extents.bytes(block);
        self.pieces[piece].1 = extents;
        put32(&mut inode.bytes, 0x68, at as u32);
        put16(&mut inode.bytes, 0x76, (at >> 32) as u16);
        Ok(1)
    }

    /// Writes the tree of extents; how many blocks of its own it took.
    fn extents(&mut self, inode: &mut Inode, runs: &[Run]) -> u64 {
        inode.flag(EXTENTS_FLAG);
        let mut entries: Vec<[u8; 12]> = Vec::new();
        let mut firsts: Vec<u64> = Vec::new();
        for &(mut logical, mut physical, mut count) in runs {
            while count > 0 {
                let n = count.min(LONGEST_EXTENT);
                let mut e = [0; 12];
                put32(&mut e, 0, logical as u32);
                put16(&mut e, 4, n as u16);
                put16(&mut e, 6, (physical >> 32) as u16);
                put32(&mut e, 8, physical as u32);
                entries.push(e);
                firsts.push(logical);
                (logical, physical, count) = (logical + n, physical + n, count - n);
            }
        }
        let block_size = self.layout.block_size as usize;
        let capacity = (block_size - 16) / 12;
        let mut depth = 0;
        let mut taken = 0;
        while entries.len() > 4 {
            let mut above = Vec::new();
            let mut above_firsts = Vec::new();
            for (chunk, first) in entries.chunks(capacity).zip(firsts.chunks(capacity)) {
                let mut block = extent_header(chunk.len(), capacity, depth);
                block.extend(chunk.iter().flatten());
                block.resize(12 + capacity * 12, 0);
                let sum = checksum(inode.seed, &block);
                block.extend_from_slice(&sum.to_le_bytes());
                block.resize(block_size, 0);
                let at = self.blocks.one();
                taken += 1;
                self.bytes(at, block);
                let mut e = [0; 12];
                put32(&mut e, 0, first[0] as u32);
                put32(&mut e, 4, at as u32);
                put16(&mut e, 8, (at >> 32) as u16);
                above.push(e);
                above_firsts.push(first[0]);
            }
            (entries, firsts) = (above, above_firsts);
            depth += 1;
        }
        let mut root = extent_header(entries.len(), 4, depth);
        root.extend(entries.iter().flatten());
        inode.bytes[0x28..0x28 + root.len()].copy_from_slice(&root);
        taken
    }

    /// The blocks of a directory.
    fn directory(
        &self,
        node: &Node,
        parent: u32,
        children: &[Child],
        inode: &mut Inode,
    ) -> Result<Vec<u8>, WriteError> {
        let block_size = self.layout.block_size as usize;
        let dots = [(b".".to_vec(), node.inode, 2), (b"..".to_vec(), parent, 2)];
        let length: usize = dots.iter().chain(children).map(|(name, ..)| record(name)).sum();
        if length + TAIL <= block_size {
            let all: Vec<&Child> = dots.iter().chain(children).collect();
            let mut bytes = leaf(&all, block_size, inode.seed);
            if node.inode == FIRST_INODE {
                while (bytes.len() as u64) < LOST_AND_FOUND {
                    bytes.extend(leaf(&[], block_size, inode.seed));
                }
            }
            return Ok(bytes);
        }
        inode.flag(INDEX_FLAG);
        let mut hashed: Vec<(u32, &Child)> =
            children.iter().map(|child| (half_md4(&child.0, &self.hash_seed), child)).collect();
        hashed.sort();
        let mut leaves: Vec<(u32, Vec<u8>)> = Vec::new();
        let mut current = Vec::new();
        let (mut first, mut filled, mut last) = (0, 0, None);
        for (hash, child) in hashed {
            if filled + record(&child.0) + TAIL > block_size {
                leaves.push((first, leaf(&current, block_size, inode.seed)));
                current.clear();
                filled = 0;
                // The lowest bit says that the block before ends with the same hash.
                first = hash | u32::from(last == Some(hash));
            }
            filled += record(&child.0);
            current.push(child);
            last = Some(hash);
        }
        leaves.push((first, leaf(&current, block_size, inode.seed)));

        let root_capacity = (block_size - 32 - 8) / 8;
        let node_capacity = (block_size - 8 - 8) / 8;
        let deep = leaves.len() > root_capacity;
        let index_blocks = if deep { leaves.len().div_ceil(node_capacity) } else { 0 };
        if index_blocks > root_capacity {
            let why = format!("has {} entries, more than an index of two levels holds", children.len());
            return Err(WriteError::Tree { path: node.path.clone(), why });
        }
        let of_leaves: Vec<(u32, u32)> =
            leaves.iter().zip(1 + index_blocks as u32..).map(|((hash, _), block)| (*hash, block)).collect();
        let mut root = vec![0; block_size];
        put_record(&mut root, 12, &dots[0]);
        put_record(&mut root[12..], block_size - 12, &dots[1]);
        root[28] = 1; // half MD4
        root[29] = 8;
        root[30] = u8::from(deep);
        if deep {
            let nodes: Vec<(u32, u32)> = of_leaves.chunks(node_capacity).map(|c| c[0].0).zip(1..).collect();
            index(&mut root, 32, root_capacity, &nodes, inode.seed);
        } else {
            index(&mut root, 32, root_capacity, &of_leaves, inode.seed);
        }
        let mut out = root;
        if deep {
            for chunk in of_leaves.chunks(node_capacity) {
                let mut block = vec![0; block_size];
                put16(&mut block, 4, block_size as u16);
                index(&mut block, 8, node_capacity, chunk, inode.seed);
                out.extend(block);
            }
        }
        out.extend(leaves.into_iter().flat_map(|(_, bytes)| bytes));
        Ok(out)
    }

    /// Inode tables, bitmaps, descriptors, superblocks.
    fn finish(mut self, content: &Content, options: &Ext4Options) -> Pieces {
        let layout = self.layout;
        let block_size = layout.block_size as usize;
        let mut directories = vec![0u32; layout.groups as usize];
        for node in content.nodes.iter().filter(|n| matches!(n.body, Body::Directory { .. })) {
            directories[(u64::from(node.inode - 1) / layout.inodes_per_group) as usize] += 1;
        }
        let highest = content.inodes();
        let mut descriptors = vec![0; (layout.descriptor_blocks as usize) * block_size];
        let (mut free_blocks, mut free_inodes) = (0, 0);
        let inodes = std::mem::take(&mut self.inodes);
        for group in 0..layout.groups {
            let used = layout.taken(group) + self.blocks.used[group as usize];
            let free = layout.group_blocks(group) - used;
            let first = group * layout.inodes_per_group;
            let used_inodes = highest.saturating_sub(first).min(layout.inodes_per_group);
            free_blocks += free;
            free_inodes += layout.inodes_per_group - used_inodes;
            let mut flags = 4; // the table is zeroed
            let empty = self.blocks.used[group as usize] == 0
                && layout.taken(group) == layout.base_blocks(group)
                && group + 1 < layout.groups;
            let (mut block_sum, mut inode_sum) = (0, 0);
            if empty {
                flags |= 2;
            } else {
                let bits = bitmap(used, layout.group_blocks(group), block_size);
                block_sum = checksum(self.seed, &bits);
                self.bytes(layout.block_bitmap(group), bits);
            }
            if used_inodes == 0 {
                flags |= 1;
            } else {
                let bits = bitmap(used_inodes, layout.inodes_per_group, block_size);
                inode_sum = checksum(self.seed, &bits[..(layout.inodes_per_group / 8) as usize]);
                self.bytes(layout.inode_bitmap(group), bits);
                let mut table = vec![0; used_inodes as usize * INODE_SIZE];
                for (slot, number) in table.chunks_mut(INODE_SIZE).zip(first as u32 + 1..) {
                    // An inode of zeros is not in use and needs no checksum.
                    if let Some(bytes) = inodes.get(&number) {
                        slot.copy_from_slice(bytes);
                    }
                }
                self.bytes(layout.inode_table(group), table);
            }
            let d = &mut descriptors[group as usize * DESCRIPTOR_SIZE..][..DESCRIPTOR_SIZE];
            let split = |d: &mut [u8], low: usize, high: usize, value: u64| {
                put32(d, low, value as u32);
                put32(d, high, (value >> 32) as u32);
            };
            split(d, 0x0, 0x20, layout.block_bitmap(group));
            split(d, 0x4, 0x24, layout.inode_bitmap(group));
            split(d, 0x8, 0x28, layout.inode_table(group));
            let halves = |d: &mut [u8], low: usize, high: usize, value: u64| {
                put16(d, low, value as u16);
                put16(d, high, (value >> 16) as u16);
            };
            halves(d, 0xc, 0x2c, free);
            halves(d, 0xe, 0x2e, layout.inodes_per_group - used_inodes);
            halves(d, 0x10, 0x30, u64::from(directories[group as usize]));
            put16(d, 0x12, flags);
            halves(d, 0x18, 0x38, u64::from(block_sum));
            halves(d, 0x1a, 0x3a, u64::from(inode_sum));
            halves(d, 0x1c, 0x32, layout.inodes_per_group - used_inodes);
            let sum = checksum(checksum(self.seed, &(group as u32).to_le_bytes()), d);
            put16(d, 0x1e, sum as u16);
        }
        let superblock = self.superblock(options, free_blocks, free_inodes);
        for group in (0..layout.groups).filter(|&g| layout.has_backup(g)) {
            let mut copy = superblock.clone();
            put16(&mut copy, 0x5a, group as u16);
            let sum = checksum(!0, &copy[..0x3fc]);
            put32(&mut copy, 0x3fc, sum);
            let start = layout.group_start(group);
            if group == 0 && layout.first_block == 0 {
                copy.splice(0..0, vec![0; 1024]);
            }
            self.bytes(start, copy);
            self.bytes(start + 1, descriptors.clone());
        }
        self.pieces
    }

    fn superblock(&self, options: &Ext4Options, free_blocks: u64, free_inodes: u64) -> Vec<u8> {
        let layout = self.layout;
        let mut s = vec![0; 1024];
        let reserved = layout.blocks / 100 * u64::from(options.reserved_percent.min(50));
        let log = layout.block_size.trailing_zeros() - 10;
        let time = options.mtime;
        let compatible = COMPATIBLE
            | if self.journal.is_empty() { 0 } else { HAS_JOURNAL }
            | if layout.reserved_descriptor_blocks > 0 { RESIZE } else { 0 };
        for (at, value) in [
            (0x0, layout.inodes() as u32),
            (0x4, layout.blocks as u32),
            (0x8, reserved as u32),
            (0xc, free_blocks as u32),
            (0x10, free_inodes as u32),
            (0x14, layout.first_block as u32),
            (0x18, log),
            (0x1c, log),
            (0x20, layout.blocks_per_group() as u32),
            (0x24, layout.blocks_per_group() as u32),
            (0x28, layout.inodes_per_group as u32),
            (0x30, time as u32),
            (0x40, time as u32),
            (0x4c, 1),
            (0x54, FIRST_INODE),
            (0x5c, compatible),
            (0x60, INCOMPATIBLE),
            (0x64, READ_ONLY),
            (0xe0, if self.journal.is_empty() { 0 } else { JOURNAL_INODE }),
            (0x100, 0xc), // user attributes and access control lists unless mounted otherwise
            (0x108, time as u32),
            (0x150, (layout.blocks >> 32) as u32),
            (0x154, (reserved >> 32) as u32),
            (0x158, (free_blocks >> 32) as u32),
            (0x160, 2), // directory hashes over unsigned characters
        ] {
            put32(&mut s, at, value);
        }
        for (at, value) in [
            (0x36, 0xffff),
            (0x38, MAGIC),
            (0x3a, 1),
            (0x3c, 1),
            (0x58, INODE_SIZE as u16),
            (0xce, layout.reserved_descriptor_blocks as u16),
            (0xfe, DESCRIPTOR_SIZE as u16),
            (0x15c, 32),
            (0x15e, 32),
        ] {
            put16(&mut s, at, value);
        }
        s[0x68..0x78].copy_from_slice(&options.uuid);
        let label = &options.label.as_bytes()[..options.label.len().min(16)];
        s[0x78..0x78 + label.len()].copy_from_slice(label);
        for (n, word) in self.hash_seed.iter().enumerate() {
            put32(&mut s, 0xec + 4 * n, *word);
        }
        s[0xfc] = 1; // half MD4
        if !self.journal.is_empty() {
            s[0xfd] = 1;
            s[0x10c..0x10c + 68].copy_from_slice(&self.journal);
        }
        s[0x174] = layout.flex.trailing_zeros() as u8;
        s[0x175] = 1; // CRC-32C
        s
    }
}

fn logical(runs: &[(u64, u64)]) -> Vec<Run> {
    let mut at = 0;
    runs.iter()
        .map(|&(start, count)| {
            at += count;
            (at - count, start, count)
        })
        .collect()
}

fn extent_header(entries: usize, capacity: usize, depth: u16) -> Vec<u8> {
    let mut h = vec![0; 12];
    put16(&mut h, 0, EXTENT_MAGIC);
    put16(&mut h, 2, entries as u16);
    put16(&mut h, 4, capacity as u16);
    put16(&mut h, 6, depth);
    h
}

/// The first `used` of `count` bits set, and all behind `count`.
fn bitmap(used: u64, count: u64, block_size: usize) -> Vec<u8> {
    let mut bits = vec![0u8; block_size];
    let mut set = |from: u64, to: u64| {
        let mut at = from;
        while at < to {
            if at.is_multiple_of(8) && to - at >= 8 {
                bits[(at / 8) as usize] = 0xff;
                at += 8;
            } else {
                bits[(at / 8) as usize] |= 1 << (at % 8);
                at += 1;
            }
        }
    };
    set(0, used);
    set(count, block_size as u64 * 8);
    bits
}

/// Bytes an entry of a directory takes.
fn record(name: &[u8]) -> usize {
    8 + name.len().next_multiple_of(4)
}

fn put_record(bytes: &mut [u8], length: usize, (name, inode, kind): &Child) {
    put32(bytes, 0, *inode);
    put16(bytes, 4, length as u16);
    bytes[6] = name.len() as u8;
    bytes[7] = *kind;
    bytes[8..8 + name.len()].copy_from_slice(name);
}

/// A block of entries; the last one reaches to the checksum.
fn leaf(entries: &[&Child], block_size: usize, seed: u32) -> Vec<u8> {
    let mut block = vec![0; block_size];
    let end = block_size - TAIL;
    let mut at = 0;
    for (n, entry) in entries.iter().enumerate() {
        let length = if n + 1 == entries.len() { end - at } else { record(&entry.0) };
        put_record(&mut block[at..], length, entry);
        at += length;
    }
    if entries.is_empty() {
        put16(&mut block, 4, end as u16);
    }
    put16(&mut block, end + 4, TAIL as u16);
    block[end + 7] = 0xde;
    let sum = checksum(seed, &block[..end]);
    put32(&mut block, end + 8, sum);
    block
}

/// A list of hashes and blocks, its limit and count in the first slot, a checksum behind the last.
fn index(block: &mut [u8], at: usize, capacity: usize, entries: &[(u32, u32)], seed: u32) {
    for (n, (hash, child)) in entries.iter().enumerate() {
        if n > 0 {
            put32(block, at + 8 * n, *hash);
        }
        put32(block, at + 8 * n + 4, *child);
    }
    put16(block, at, capacity as u16);
    put16(block, at + 2, entries.len() as u16);
    let tail = at + 8 * capacity;
    let sum = checksum(seed, &block[..at + 8 * entries.len()]);
    let sum = checksum(checksum(sum, &[0; 4]), &[0; 4]);
    put32(block, tail + 4, sum);
}
