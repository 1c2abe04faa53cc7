//! Reading ext2, ext3 and ext4, whoever made them. What a header says is checked before it is used.

use super::{EXTENT_MAGIC, EXTENTS_FLAG, MAGIC, ROOT_INODE, checksum, inode_seed, xattr};
use crate::ReadAt;
use crate::bytes::{get16, get32};
use embrak_tree::{BlobSink, Digest, Entry, Kind, Tree, TreePath};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};

/// Why there is nothing to be read.
#[derive(Debug, thiserror::Error)]
pub enum Ext4Error {
    /// The superblock does not describe an ext2, ext3 or ext4 filesystem.
    #[error("not an ext4 filesystem: {0}")]
    NotExt4(String),
    /// Something in it is not as it should be.
    #[error("ext4 filesystem damaged: {0}")]
    Damaged(String),
    /// There is no such file.
    #[error("there is no such file")]
    Missing,
    /// Reading the disk or keeping contents fails.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// What the superblock says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Ext4Info {
    /// `ext2`, `ext3` or `ext4`, by its features.
    pub kind: &'static str,
    /// Its label.
    pub label: String,
    /// Its UUID.
    pub uuid: String,
    /// Bytes in a block.
    pub block_size: u64,
    /// Blocks in all.
    pub blocks: u64,
    /// Blocks that are free.
    pub free_blocks: u64,
    /// Blocks only root can use.
    pub reserved_blocks: u64,
    /// Inodes in all.
    pub inodes: u64,
    /// Inodes that are free.
    pub free_inodes: u64,
    /// Names of its features.
    pub features: Vec<String>,
    /// When it was made, seconds since 1970.
    pub made: i64,
    /// Whether it was unmounted cleanly.
    pub clean: bool,
}

const COMPATIBLE: [(u32, &str); 7] = [
    (0x4, "has_journal"),
    (0x8, "ext_attr"),
    (0x10, "resize_inode"),
    (0x20, "dir_index"),
    (0x200, "sparse_super2"),
    (0x400, "fast_commit"),
    (0x1000, "orphan_file"),
];
const INCOMPATIBLE: [(u32, &str); 15] = [
    (0x1, "compression"),
    (0x2, "filetype"),
    (0x4, "needs_recovery"),
    (0x8, "journal_dev"),
    (0x10, "meta_bg"),
    (0x40, "extents"),
    (0x80, "64bit"),
    (0x100, "mmp"),
    (0x200, "flex_bg"),
    (0x400, "ea_inode"),
    (0x2000, "metadata_csum_seed"),
    (0x4000, "large_dir"),
    (0x8000, "inline_data"),
    (0x1_0000, "encrypt"),
    (0x2_0000, "casefold"),
];
const READ_ONLY: [(u32, &str); 13] = [
    (0x1, "sparse_super"),
    (0x2, "large_file"),
    (0x8, "huge_file"),
    (0x10, "uninit_bg"),
    (0x20, "dir_nlink"),
    (0x40, "extra_isize"),
    (0x100, "quota"),
    (0x200, "bigalloc"),
    (0x400, "metadata_csum"),
    (0x1000, "readonly"),
    (0x2000, "project"),
    (0x8000, "verity"),
    (0x1_0000, "orphan_present"),
];
/// What a reader has to understand and this one does not.
const NOT_READ: u32 = 0x1 | 0x8 | 0x400 | 0x1_0000;
const CHECKSUMS: u32 = 0x400;

/// No more complaints than these are kept.
const MOST_DAMAGE: usize = 100;

/// An opened filesystem.
pub struct Volume<'a> {
    disk: &'a dyn ReadAt,
    info: Ext4Info,
    first_block: u64,
    blocks_per_group: u64,
    inodes_per_group: u64,
    inode_size: usize,
    descriptor_size: u64,
    incompatible: u32,
    first_meta: u64,
    sparse: bool,
    /// Seed of checksums, when there are any.
    seed: Option<u32>,
    damage: Vec<String>,
}

struct Inode {
    number: u32,
    bytes: Vec<u8>,
    seed: u32,
    size: u64,
    mode: u32,
    flags: u32,
    links: u16,
}

/// Logical block, physical block or none for zeros, count.
type Run = (u64, Option<u64>, u64);

/// Takes the contents of an inode and says what it is to be known by, and how long it is.
type Take<'t, 'a> = dyn FnMut(u32, Content<'a>) -> io::Result<(Digest, u64)> + 't;

/// Where the contents of a file lie.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located {
    block_size: u64,
    size: u64,
    runs: Vec<Run>,
}

impl Located {
    /// Bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Where its first byte lies that is not in a hole.
    pub fn start(&self) -> u64 {
        self.runs.iter().find_map(|r| r.1).unwrap_or(0) * self.block_size
    }

    /// Its contents, read from the filesystem it is of.
    pub fn reader<'a>(&self, disk: &'a dyn ReadAt) -> impl Read + use<'a> {
        let runs = self.runs.clone();
        Content { disk, block_size: self.block_size, size: self.size, runs, run: 0, at: 0 }
    }
}

impl<'a> Volume<'a> {
    /// Reads the superblock.
    ///
    /// # Errors
    /// It is none, or one of a kind that is not read here.
    pub fn open(disk: &'a dyn ReadAt) -> Result<Volume<'a>, Ext4Error> {
        let not = |why: &str| Ext4Error::NotExt4(why.to_string());
        let s = disk.read_vec(1024, 1024).map_err(|_| not("shorter than a superblock"))?;
        if get16(&s, 0x38) != MAGIC {
            return Err(not("no magic number"));
        }
        let incompatible = get32(&s, 0x60);
        if incompatible & NOT_READ != 0 {
            let names = INCOMPATIBLE.iter().filter(|(bit, _)| incompatible & NOT_READ & bit != 0).map(|(_, n)| *n);
            return Err(not(&format!("it uses {}, which is not read here", names.collect::<Vec<_>>().join(", "))));
        }
        let log = get32(&s, 0x18);
        if log > 6 {
            return Err(not("blocks of more than 64 KiB"));
        }
        let block_size = 1024u64 << log;
        let wide = incompatible & 0x80 != 0;
        let high = |at: usize| if wide { u64::from(get32(&s, at)) << 32 } else { 0 };
        let blocks = u64::from(get32(&s, 0x4)) | high(0x150);
        let (compatible, read_only) = (get32(&s, 0x5c), get32(&s, 0x64));
        let revision = get32(&s, 0x4c);
        let inode_size = if revision == 0 { 128 } else { usize::from(get16(&s, 0x58)) };
        let descriptor_size = if wide { u64::from(get16(&s, 0xfe)) } else { 32 };
        let (blocks_per_group, inodes_per_group) = (u64::from(get32(&s, 0x20)), u64::from(get32(&s, 0x28)));
        let sound = (128..=block_size as usize).contains(&inode_size)
            && inode_size.is_power_of_two()
            && (32..=1024).contains(&descriptor_size)
            && descriptor_size.is_power_of_two()
            && (1..=block_size * 8).contains(&inodes_per_group)
            && (8..=block_size * 8 * if read_only & 0x200 != 0 { 1 << 16 } else { 1 }).contains(&blocks_per_group);
        if !sound {
            return Err(not("its sizes make no sense"));
        }
        if blocks.checked_mul(block_size).is_none_or(|bytes| bytes > disk.size()) {
            let what = format!("it says it has {blocks} blocks of {block_size} bytes, more than are there");
            return Err(Ext4Error::Damaged(what));
        }
        let mut damage = Vec::new();
        let uuid: [u8; 16] = s[0x68..0x78].try_into().unwrap_or_default();
        let seed = (read_only & CHECKSUMS != 0)
            .then(|| if incompatible & 0x2000 != 0 { get32(&s, 0x270) } else { checksum(!0, &uuid) });
        if seed.is_some() && checksum(!0, &s[..0x3fc]) != get32(&s, 0x3fc) {
            damage.push("the superblock's checksum does not match".to_string());
        }
        let names = |bits: u32, table: &[(u32, &str)]| {
            table.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, name)| (*name).to_string()).collect::<Vec<_>>()
        };
        let features =
            [names(compatible, &COMPATIBLE), names(incompatible, &INCOMPATIBLE), names(read_only, &READ_ONLY)].concat();
        let kind = match () {
            () if incompatible & !0x6 != 0 || read_only & !0x7 != 0 => "ext4",
            () if compatible & 0x4 != 0 => "ext3",
            () => "ext2",
        };
        let hex = hex::encode(uuid);
        let info = Ext4Info {
            kind,
            label: text(&s[0x78..0x88]),
            uuid: [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-"),
            block_size,
            blocks,
            free_blocks: (u64::from(get32(&s, 0xc)) | high(0x158)).min(blocks),
            reserved_blocks: u64::from(get32(&s, 0x8)) | high(0x154),
            inodes: u64::from(get32(&s, 0)),
            free_inodes: u64::from(get32(&s, 0x10)),
            features,
            made: i64::from(get32(&s, 0x108)),
            clean: get16(&s, 0x3a) & 1 == 1 && incompatible & 0x4 == 0,
        };
        Ok(Volume {
            disk,
            info,
            first_block: u64::from(get32(&s, 0x14)),
            blocks_per_group,
            inodes_per_group,
            inode_size,
            descriptor_size,
            incompatible,
            first_meta: u64::from(get32(&s, 0x104)),
            sparse: read_only & 1 != 0,
            seed,
            damage,
        })
    }

    /// What the superblock says.
    pub fn info(&self) -> &Ext4Info {
        &self.info
    }

    fn block(&self, number: u64) -> Result<Vec<u8>, Ext4Error> {
        let offset = number.checked_mul(self.info.block_size).filter(|_| number < self.info.blocks);
        let offset = offset.ok_or_else(|| Ext4Error::Damaged(format!("block {number} is beyond the end")))?;
        Ok(self.disk.read_vec(offset, self.info.block_size)?)
    }

    fn descriptor(&self, group: u64) -> Result<Vec<u8>, Ext4Error> {
        let per_block = self.info.block_size / self.descriptor_size;
        let (block, slot) = (group / per_block, group % per_block);
        let at = if self.incompatible & 0x10 != 0 && block >= self.first_meta {
            // Descriptors of a meta group lie in its first group, behind a backup of the superblock if it has one.
            let first = block * per_block;
            let power = |base: u64| std::iter::successors(Some(base), |p| p.checked_mul(base)).find(|p| *p >= first);
            let backup = !self.sparse || first <= 1 || [3, 5, 7].iter().any(|b| power(*b) == Some(first));
            self.first_block
                .saturating_add(first.saturating_mul(self.blocks_per_group))
                .saturating_add(u64::from(backup))
        } else {
            self.first_block + 1 + block
        };
        let start = (slot * self.descriptor_size) as usize;
        let d = self.block(at)?;
        Ok(d[start..start + self.descriptor_size as usize].to_vec())
    }

    fn inode(&self, number: u32, damage: &mut Vec<String>) -> Result<Inode, Ext4Error> {
        if number == 0 || u64::from(number) > self.info.inodes {
            return Err(Ext4Error::Damaged(format!("there is no inode {number}")));
        }
        let (group, slot) =
            (u64::from(number - 1) / self.inodes_per_group, u64::from(number - 1) % self.inodes_per_group);
        let d = self.descriptor(group)?;
        let table = u64::from(get32(&d, 8)) | u64::from(get32(&d, 0x28)) << 32;
        let offset = table
            .checked_mul(self.info.block_size)
            .and_then(|o| o.checked_add(slot * self.inode_size as u64))
            .filter(|_| table < self.info.blocks)
            .ok_or_else(|| Ext4Error::Damaged(format!("the inode table of group {group} is beyond the end")))?;
        let bytes = self.disk.read_vec(offset, self.inode_size as u64)?;
        let seed = self.seed.map_or(0, |seed| inode_seed(seed, number, get32(&bytes, 0x64)));
        if self.seed.is_some() && bytes.iter().any(|b| *b != 0) {
            let mut zeroed = bytes.clone();
            zeroed[0x7c..0x7e].fill(0);
            let mut told = u32::from(get16(&bytes, 0x7c));
            let mut mask = 0xffff;
            if self.inode_size > 128 && get16(&bytes, 0x80) >= 4 {
                zeroed[0x82..0x84].fill(0);
                told |= u32::from(get16(&bytes, 0x82)) << 16;
                mask = u32::MAX;
            }
            if checksum(seed, &zeroed) & mask != told {
                complain(damage, format!("the checksum of inode {number} does not match"));
            }
        }
        Ok(Inode {
            number,
            seed,
            size: u64::from(get32(&bytes, 4)) | u64::from(get32(&bytes, 0x6c)) << 32,
            mode: u32::from(get16(&bytes, 0)),
            flags: get32(&bytes, 0x20),
            links: get16(&bytes, 0x1a),
            bytes,
        })
    }

    /// Where the blocks of an inode lie, in order.
    fn runs(&self, inode: &Inode, damage: &mut Vec<String>) -> Result<Vec<Run>, Ext4Error> {
        let mut out = Vec::new();
        let mut seen = BTreeSet::new();
        if inode.flags & EXTENTS_FLAG != 0 {
            self.extents(inode, &inode.bytes[0x28..0x64], 5, &mut out, &mut seen, damage)?;
        } else {
            let blocks = inode.size.div_ceil(self.info.block_size);
            for n in 0..12.min(blocks) {
                push(&mut out, n, get32(&inode.bytes, 0x28 + 4 * n as usize));
            }
            let mut at = 12;
            for level in 1..=3 {
                let pointer = get32(&inode.bytes, 0x28 + 4 * (11 + level));
                at = self.indirect(pointer, level, at, blocks, &mut out, &mut seen)?;
            }
        }
        out.sort_unstable();
        let overlap = |pair: &[Run]| pair[0].0.checked_add(pair[0].2).is_none_or(|end| end > pair[1].0);
        if out.windows(2).any(overlap) {
            return Err(Ext4Error::Damaged(format!("extents of inode {} overlap", inode.number)));
        }
        Ok(out)
    }

    fn extents(
        &self,
        inode: &Inode,
        node: &[u8],
        deepest: u16,
        out: &mut Vec<Run>,
        seen: &mut BTreeSet<u64>,
        damage: &mut Vec<String>,
    ) -> Result<(), Ext4Error> {
        let wrong = |why: &str| Ext4Error::Damaged(format!("the extents of inode {} {why}", inode.number));
        let (entries, depth) = (usize::from(get16(node, 2)), get16(node, 6));
        if get16(node, 0) != EXTENT_MAGIC || depth > deepest || 12 + entries * 12 > node.len() {
            return Err(wrong("cannot be read"));
        }
        for e in node[12..12 + entries * 12].chunks(12) {
            if depth == 0 {
                let length = get16(e, 4);
                // More than 32768 means blocks that are reserved, not written: they read as zeros.
                let (count, written) = if length > 32768 { (length - 32768, false) } else { (length, true) };
                let start = u64::from(get32(e, 8)) | u64::from(get16(e, 6)) << 32;
                if written && start + u64::from(count) > self.info.blocks {
                    return Err(wrong("reach beyond the end"));
                }
                out.push((u64::from(get32(e, 0)), written.then_some(start), u64::from(count)));
                continue;
            }
            let below = u64::from(get32(e, 4)) | u64::from(get16(e, 8)) << 32;
            if !seen.insert(below) {
                return Err(wrong("lead in a circle"));
            }
            let block = self.block(below)?;
            let tail = 12 + usize::from(get16(&block, 4)) * 12;
            if self.seed.is_some() && block.get(..tail).is_some_and(|b| checksum(inode.seed, b) != get32(&block, tail))
            {
                complain(damage, format!("the checksum of an extent block of inode {} does not match", inode.number));
            }
            self.extents(inode, &block, depth - 1, out, seen, damage)?;
        }
        Ok(())
    }

    /// Blocks by the old map; the logical block behind what the pointer covers.
    fn indirect(
        &self,
        pointer: u32,
        level: usize,
        at: u64,
        blocks: u64,
        out: &mut Vec<Run>,
        seen: &mut BTreeSet<u64>,
    ) -> Result<u64, Ext4Error> {
        let per_block = self.info.block_size / 4;
        let end = at.saturating_add(per_block.saturating_pow(level as u32));
        if pointer == 0 || at >= blocks {
            return Ok(end);
        }
        if !seen.insert(u64::from(pointer)) {
            return Err(Ext4Error::Damaged("a map of blocks leads in a circle".into()));
        }
        let block = self.block(u64::from(pointer))?;
        let mut at = at;
        for slot in 0..per_block as usize {
            let below = get32(&block, slot * 4);
            if level == 1 {
                if at < blocks {
                    push(out, at, below);
                }
                at += 1;
            } else {
                at = self.indirect(below, level - 1, at, blocks, out, seen)?;
            }
        }
        Ok(end)
    }

    fn content(&self, inode: &Inode, damage: &mut Vec<String>) -> Result<Content<'a>, Ext4Error> {
        if inode.flags & 0x1000_0000 != 0 {
            return Err(Ext4Error::Damaged(format!(
                "inode {} keeps its data inline, which is not read here",
                inode.number
            )));
        }
        let runs = self.runs(inode, damage)?;
        Ok(Content { disk: self.disk, block_size: self.info.block_size, size: inode.size, runs, run: 0, at: 0 })
    }

    /// Entries of a directory: name and inode.
    fn directory(&self, inode: &Inode, damage: &mut Vec<String>) -> Result<Vec<(Vec<u8>, u32)>, Ext4Error> {
        let mut out = Vec::new();
        if inode.size > self.info.blocks * self.info.block_size {
            return Err(Ext4Error::Damaged(format!("the directory of inode {} is larger than all", inode.number)));
        }
        let mut content = self.content(inode, damage)?;
        let block_size = self.info.block_size as usize;
        let mut block = vec![0; block_size];
        for number in 0..inode.size / self.info.block_size {
            content.read_exact(&mut block)?;
            let mut at = 0;
            while at + 8 <= block_size {
                let (child, length) = (get32(&block, at), usize::from(get16(&block, at + 4)));
                let length = if length == 65535 || length == 0 && block_size == 65536 { 65536 } else { length };
                let name = &block[at + 8..(at + 8 + usize::from(block[at + 6])).min(block_size)];
                if length < 8 || at + length > block_size || name.len() + 8 > length {
                    complain(damage, format!("block {number} of the directory of inode {} is torn", inode.number));
                    break;
                }
                if at + length == block_size && child == 0 && block[at + 7] == 0xde && length == 12 {
                    if self.seed.is_some() && checksum(inode.seed, &block[..at]) != get32(&block, at + 8) {
                        complain(
                            damage,
                            format!("a checksum in the directory of inode {} does not match", inode.number),
                        );
                    }
                } else if child != 0 && name != b"." && name != b".." {
                    out.push((name.to_vec(), child));
                }
                at += length;
            }
        }
        Ok(out)
    }

    fn attributes(&self, inode: &Inode, damage: &mut Vec<String>) -> Result<BTreeMap<Vec<u8>, Vec<u8>>, Ext4Error> {
        let mut out = BTreeMap::new();
        let start = 0x80 + usize::from(get16(&inode.bytes, 0x80));
        if self.inode_size > 128 && get32(&inode.bytes, start) == xattr::MAGIC {
            xattr::unpack(&inode.bytes, start + 4, start + 4, &mut out, damage);
        }
        let wide = self.incompatible & 0x80 != 0;
        let block =
            u64::from(get32(&inode.bytes, 0x68)) | if wide { u64::from(get16(&inode.bytes, 0x76)) << 32 } else { 0 };
        if block != 0 {
            let bytes = self.block(block)?;
            if get32(&bytes, 0) != xattr::MAGIC {
                return Err(Ext4Error::Damaged(format!("inode {} has no attributes where it says", inode.number)));
            }
            if let Some(seed) = self.seed {
                let mut zeroed = bytes.clone();
                zeroed[16..20].fill(0);
                if checksum(checksum(seed, &block.to_le_bytes()), &zeroed) != get32(&bytes, 16) {
                    complain(damage, format!("the checksum of attributes of inode {} does not match", inode.number));
                }
            }
            xattr::unpack(&bytes, xattr::BLOCK_HEADER, 0, &mut out, damage);
        }
        Ok(out)
    }

    /// All files with their metadata, contents put into `blobs`; and what is not as it should be.
    ///
    /// # Errors
    /// The root cannot be read.
    pub fn tree(&self, blobs: &dyn BlobSink) -> Result<(Tree, Vec<String>), Ext4Error> {
        self.walk(&mut |_, mut content| blobs.put(&mut content))
    }

    /// The same without reading contents: in place of a file's digest stands one that is made of `mark` and its inode,
    /// and by that, where its contents lie.
    ///
    /// # Errors
    /// As [`Volume::tree`].
    #[allow(clippy::type_complexity)] // what a tree is, and what goes with it
    pub fn outline(&self, mark: &str) -> Result<(Tree, Vec<String>, BTreeMap<Digest, Located>), Ext4Error> {
        let mut located = BTreeMap::new();
        let (tree, damage) = self.walk(&mut |number, content| {
            let stand_in = Digest::of(format!("{mark} {number}"));
            let size = content.size;
            located.insert(stand_in, Located { block_size: content.block_size, size, runs: content.runs });
            Ok((stand_in, size))
        })?;
        Ok((tree, damage, located))
    }

    fn walk(&self, take: &mut Take<'_, 'a>) -> Result<(Tree, Vec<String>), Ext4Error> {
        let mut damage = self.damage.clone();
        self.check_descriptors(&mut damage)?;
        let mut tree = Tree::new();
        let mut names: BTreeMap<u32, TreePath> = BTreeMap::new();
        let mut directories = BTreeSet::from([ROOT_INODE]);
        // What files may be longer than the blocks they have, all together: a torn size must not keep us for years.
        let mut zeros = self.disk.size().saturating_mul(16).saturating_add(64 << 20);
        let root = self.inode(ROOT_INODE, &mut damage)?;
        let entry = Entry { xattrs: self.attributes(&root, &mut damage)?, ..metadata(&root, Kind::Directory) };
        tree.insert(TreePath::root(), entry);
        let mut waiting = vec![(TreePath::root(), root)];
        while let Some((path, directory)) = waiting.pop() {
            let entries = match self.directory(&directory, &mut damage) {
                Ok(entries) => entries,
                Err(error) => {
                    complain(&mut damage, format!("{path}: {error}"));
                    continue;
                }
            };
            for (name, number) in entries {
                let Ok(at) = path.join(&name) else {
                    complain(&mut damage, format!("{path} has an entry without a proper name"));
                    continue;
                };
                if name.contains(&b'/') || tree.get(&at).is_some() {
                    complain(&mut damage, format!("{path} has an entry twice, or with a slash in its name"));
                    continue;
                }
                match self.entry(number, &at, &mut names, &mut directories, &mut zeros, take, &mut damage) {
                    Ok((entry, below)) => {
                        tree.insert(at.clone(), entry);
                        waiting.extend(below.map(|inode| (at, inode)));
                    }
                    Err(error) => complain(&mut damage, format!("{at}: {error}")),
                }
            }
        }
        settle_links(&mut tree);
        Ok((tree, damage))
    }

    #[expect(clippy::too_many_arguments, reason = "one step of the walk, with all its state")]
    fn entry(
        &self,
        number: u32,
        at: &TreePath,
        names: &mut BTreeMap<u32, TreePath>,
        directories: &mut BTreeSet<u32>,
        zeros: &mut u64,
        take: &mut Take<'_, 'a>,
        damage: &mut Vec<String>,
    ) -> Result<(Entry, Option<Inode>), Ext4Error> {
        if let Some(first) = names.get(&number) {
            return Ok((Entry::new(Kind::Hardlink { target: first.clone() }, 0), None));
        }
        let inode = self.inode(number, damage)?;
        let i = &inode.bytes;
        let kind = match inode.mode >> 12 {
            0o04 => {
                if !directories.insert(number) {
                    return Err(Ext4Error::Damaged("a directory that lies in two places".into()));
                }
                Kind::Directory
            }
            0o10 => {
                let content = self.content(&inode, damage)?;
                let held: u64 = content.runs.iter().filter(|r| r.1.is_some()).map(|r| r.2).sum();
                let held = held.saturating_mul(self.info.block_size);
                let more = inode.size.saturating_sub(held);
                let Some(left) = zeros.checked_sub(more).filter(|_| held <= self.disk.size()) else {
                    return Err(Ext4Error::Damaged(format!(
                        "says it has {} bytes, which is out of proportion",
                        inode.size
                    )));
                };
                *zeros = left;
                let (digest, size) = take(number, content)?;
                Kind::File { digest, size }
            }
            0o12 => {
                if inode.size > 4096.max(self.info.block_size) {
                    return Err(Ext4Error::Damaged("a link longer than a path can be".into()));
                }
                let target = if inode.size < 60 && inode.flags & EXTENTS_FLAG == 0 {
                    i[0x28..0x28 + inode.size as usize].to_vec()
                } else {
                    let mut target = Vec::new();
                    self.content(&inode, damage)?.read_to_end(&mut target)?;
                    target
                };
                Kind::Symlink { target }
            }
            0o01 => Kind::Fifo,
            kind @ (0o02 | 0o06) => {
                let (old, new) = (get32(i, 0x28), get32(i, 0x2c));
                let (major, minor) = if old != 0 {
                    (old >> 8 & 0xff, old & 0xff)
                } else {
                    (new >> 8 & 0xfff, new & 0xff | new >> 12 & 0xf_ff00)
                };
                if kind == 0o02 { Kind::CharDevice { major, minor } } else { Kind::BlockDevice { major, minor } }
            }
            0o14 => return Err(Ext4Error::Damaged("a socket, which no tree keeps".into())),
            other => return Err(Ext4Error::Damaged(format!("an inode of no known kind ({other:#o})"))),
        };
        if !matches!(kind, Kind::Directory) && inode.links > 1 {
            names.insert(number, at.clone());
        }
        let xattrs = self.attributes(&inode, damage)?;
        let below = matches!(kind, Kind::Directory);
        let entry = Entry { xattrs, ..metadata(&inode, kind) };
        Ok((entry, below.then_some(inode)))
    }

    fn check_descriptors(&self, damage: &mut Vec<String>) -> Result<(), Ext4Error> {
        let Some(seed) = self.seed else { return Ok(()) };
        let groups = self.info.blocks.saturating_sub(self.first_block).div_ceil(self.blocks_per_group);
        for group in 0..groups.min(self.info.blocks) {
            let mut d = self.descriptor(group)?;
            let told = get16(&d, 0x1e);
            d[0x1e..0x20].fill(0);
            let sum = checksum(checksum(seed, &(group as u32).to_le_bytes()), &d);
            if sum as u16 != told {
                complain(damage, format!("the checksum of the descriptor of group {group} does not match"));
            }
        }
        Ok(())
    }

    fn find(&self, path: &TreePath) -> Result<Inode, Ext4Error> {
        let mut damage = Vec::new();
        let mut inode = self.inode(ROOT_INODE, &mut damage)?;
        for part in path.relative().split(|b| *b == b'/').filter(|p| !p.is_empty()) {
            if inode.mode >> 12 != 0o04 {
                return Err(Ext4Error::Missing);
            }
            let entries = self.directory(&inode, &mut damage)?;
            let number = entries.iter().find(|(name, _)| name == part).ok_or(Ext4Error::Missing)?.1;
            inode = self.inode(number, &mut damage)?;
        }
        Ok(inode)
    }

    /// A reader over the contents of a file.
    ///
    /// # Errors
    /// It is not there, or no file.
    pub fn open_file(&self, path: &TreePath) -> Result<impl Read + '_, Ext4Error> {
        let inode = self.find(path)?;
        if inode.mode >> 12 != 0o10 {
            return Err(Ext4Error::Missing);
        }
        self.content(&inode, &mut Vec::new())
    }
}

/// The first name in path order is the one that counts, whatever order directories were read in.
fn settle_links(tree: &mut Tree) {
    let mut others: BTreeMap<TreePath, TreePath> = BTreeMap::new();
    for (path, entry) in tree.iter() {
        if let Kind::Hardlink { target } = &entry.kind
            && path < target
        {
            others.entry(target.clone()).or_insert_with(|| path.clone());
        }
    }
    for (old, new) in &others {
        if let Some(entry) = tree.get(old).cloned() {
            tree.insert(new.clone(), entry);
            tree.insert(old.clone(), Entry::new(Kind::Hardlink { target: new.clone() }, 0));
        }
    }
    let resolved: Vec<(TreePath, Entry)> = tree
        .iter()
        .filter_map(|(path, entry)| {
            let Kind::Hardlink { target } = &entry.kind else { return None };
            let target = others.get(target).unwrap_or(target);
            let meta = tree.get(target)?;
            let kind = Kind::Hardlink { target: target.clone() };
            Some((path.clone(), Entry { kind, xattrs: BTreeMap::new(), ..meta.clone() }))
        })
        .collect();
    for (path, entry) in resolved {
        tree.insert(path, entry);
    }
}

fn metadata(inode: &Inode, kind: Kind) -> Entry {
    let i = &inode.bytes;
    let mut mtime = i64::from(get32(i, 0x10) as i32);
    if i.len() > 128 && get16(i, 0x80) >= 12 {
        mtime += i64::from(get32(i, 0x88) & 3) << 32;
    }
    Entry {
        kind,
        mode: inode.mode & 0o7777,
        uid: u32::from(get16(i, 2)) | u32::from(get16(i, 0x78)) << 16,
        gid: u32::from(get16(i, 0x18)) | u32::from(get16(i, 0x7a)) << 16,
        mtime,
        xattrs: BTreeMap::new(),
    }
}

fn push(out: &mut Vec<Run>, logical: u64, physical: u32) {
    if physical == 0 {
        return;
    }
    let physical = u64::from(physical);
    match out.last_mut() {
        Some((start, Some(first), count)) if *start + *count == logical && *first + *count == physical => *count += 1,
        _ => out.push((logical, Some(physical), 1)),
    }
}

fn complain(damage: &mut Vec<String>, what: String) {
    if damage.len() < MOST_DAMAGE {
        damage.push(what);
    }
}

fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|b| *b == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}

/// The contents of a file, read in order.
struct Content<'a> {
    disk: &'a dyn ReadAt,
    block_size: u64,
    size: u64,
    runs: Vec<Run>,
    run: usize,
    at: u64,
}

impl Read for Content<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let end_of = |run: &Run| (run.0 + run.2) * self.block_size;
        while self.runs.get(self.run).is_some_and(|run| end_of(run) <= self.at) {
            self.run += 1;
        }
        let left = (self.size - self.at).min(buffer.len() as u64);
        let n = match self.runs.get(self.run) {
            Some((start, Some(first), count)) if start * self.block_size <= self.at => {
                let n = left.min((start + count) * self.block_size - self.at);
                let offset = first * self.block_size + (self.at - start * self.block_size);
                self.disk.read_exact_at(&mut buffer[..n as usize], offset)?;
                n
            }
            other => {
                let next = match other {
                    Some((start, None, count)) if start * self.block_size <= self.at => {
                        (start + count) * self.block_size
                    }
                    Some((start, ..)) => start * self.block_size,
                    None => self.size,
                };
                let n = left.min(next - self.at);
                buffer[..n as usize].fill(0);
                n
            }
        };
        self.at += n;
        Ok(n as usize)
    }
}
