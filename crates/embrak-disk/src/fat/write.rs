//! Writing FAT filesystems: plan everything, then put the extents in order.

use super::names::{long_entries, long_name, short_name};
use super::{FatType, dos_time};
use crate::bytes::{put16, put32};
use crate::{Extents, SECTOR, round_up};
use embrak_tree::{Digest, Kind, Tree, TreePath};
use std::collections::{BTreeMap, BTreeSet};

/// What a filesystem is to be like.
#[derive(Debug, Clone)]
pub struct FatOptions {
    /// Its size in bytes, whole sectors.
    pub size: u64,
    /// Its label: at most 11 characters, written in capitals.
    pub label: String,
    /// Its serial number.
    pub serial: u32,
    /// Time of the root directory and the label, seconds since 1970.
    pub mtime: i64,
    /// Sectors before it on the disk.
    pub hidden_sectors: u32,
}

/// Why a tree cannot be written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WriteError {
    /// The content does not fit.
    #[error("the content needs {needed} bytes in clusters, {} bytes more than there are", needed - have)]
    TooSmall {
        /// Bytes of clusters needed.
        needed: u64,
        /// Bytes of clusters there are.
        have: u64,
    },
    /// The filesystem itself does not fit.
    #[error("{0} bytes are too few for a FAT filesystem or more than it can address (64 KiB to 2 TiB)")]
    Size(u64),
    /// An entry FAT has no way to hold.
    #[error("{path} is a {kind}, which FAT cannot hold")]
    Kind {
        /// Which.
        path: TreePath,
        /// What it is.
        kind: &'static str,
    },
    /// A name FAT cannot hold.
    #[error("the name of {path} {why}, which FAT cannot hold")]
    Name {
        /// Which.
        path: TreePath,
        /// What is wrong with it.
        why: String,
    },
    /// Two names that are one to FAT.
    #[error("{first} and {second} differ only in case, which FAT cannot hold")]
    Case {
        /// The one.
        first: TreePath,
        /// The other.
        second: TreePath,
    },
    /// A file that is too large.
    #[error("{0} is 4 GiB or larger, which FAT cannot hold")]
    FileSize(TreePath),
    /// More entries in the root than FAT12 and FAT16 have room for.
    #[error("the root directory needs {0} entries, and FAT12 and FAT16 have 512; make the partition larger for FAT32")]
    RootFull(usize),
}

/// The arithmetic of a filesystem of a certain size.
#[derive(Debug, Clone, Copy)]
struct Geometry {
    kind: FatType,
    sectors: u64,
    reserved: u64,
    fat_sectors: u64,
    root_sectors: u64,
    sectors_per_cluster: u64,
    clusters: u64,
}

const ROOT_ENTRIES: u64 = 512;

impl Geometry {
    /// FAT32 wherever there can be enough clusters: it is what firmware expects on fixed disks.
    fn of_size(size: u64) -> Result<Geometry, WriteError> {
        let sectors = size / SECTOR;
        let fits = |geometry: &Geometry| {
            // The type follows from the count, so the count has to be on the right side, with a margin against
            // implementations that are off by a few.
            match geometry.kind {
                FatType::Fat12 => geometry.clusters < 4085 - 16,
                FatType::Fat16 => geometry.clusters >= 4085 + 16 && geometry.clusters < 65525 - 16,
                FatType::Fat32 => geometry.clusters >= 65525 + 16 && geometry.clusters < 0x0fff_fff0,
            }
        };
        let preferred = match size >> 20 {
            0..260 => 1,
            260..8192 => 8,
            8192..16384 => 16,
            16384..32768 => 32,
            _ => 64,
        };
        let choices = [(FatType::Fat32, preferred)]
            .into_iter()
            .chain([1, 2, 4, 8, 16, 32, 64].map(|s| (FatType::Fat16, s)))
            .chain([1, 2, 4, 8, 16].map(|s| (FatType::Fat12, s)));
        if !(128..=u64::from(u32::MAX)).contains(&sectors) {
            return Err(WriteError::Size(size));
        }
        choices
            .filter_map(|(kind, per_cluster)| Geometry::new(kind, sectors, per_cluster))
            .find(fits)
            .ok_or(WriteError::Size(size))
    }

    fn new(kind: FatType, sectors: u64, sectors_per_cluster: u64) -> Option<Geometry> {
        let reserved = if kind == FatType::Fat32 { 32 } else { 1 };
        let root_sectors = if kind == FatType::Fat32 { 0 } else { ROOT_ENTRIES * 32 / SECTOR };
        let bits = match kind {
            FatType::Fat12 => 12,
            FatType::Fat16 => 16,
            FatType::Fat32 => 32,
        };
        // A FAT for as many clusters as there would be without FATs is at most a little too large.
        let most = sectors.checked_sub(reserved + root_sectors)? / sectors_per_cluster;
        let fat_sectors = ((most + 2) * bits).div_ceil(8 * SECTOR);
        let clusters = sectors.checked_sub(reserved + root_sectors + 2 * fat_sectors)? / sectors_per_cluster;
        Some(Geometry { kind, sectors, reserved, fat_sectors, root_sectors, sectors_per_cluster, clusters })
    }

    fn cluster_bytes(&self) -> u64 {
        self.sectors_per_cluster * SECTOR
    }
}

/// A directory entry before it has a place.
struct Child {
    short: [u8; 11],
    long: Option<Vec<u16>>,
    mtime: i64,
    target: Target,
}

enum Target {
    Directory(TreePath),
    File { digest: Digest, size: u64 },
}

impl Child {
    fn slots(&self) -> usize {
        1 + self.long.as_ref().map_or(0, |units| units.len().div_ceil(13))
    }
}

/// The children of every directory, checked and named.
type Directories = BTreeMap<TreePath, Vec<Child>>;

fn directories(tree: &Tree) -> Result<Directories, WriteError> {
    let mut all = Directories::new();
    all.insert(TreePath::root(), Vec::new());
    let mut shorts: BTreeMap<TreePath, BTreeSet<[u8; 11]>> = BTreeMap::new();
    let mut folded: BTreeMap<(TreePath, String), TreePath> = BTreeMap::new();
    let mut whole = tree.clone();
    whole.add_missing_directories(0);
    for (path, entry) in whole.iter() {
        let Some(parent) = path.parent() else { continue };
        let target = match &whole.resolve_link(entry).kind {
            Kind::Directory => Target::Directory(path.clone()),
            Kind::File { size, .. } if *size > u64::from(u32::MAX) => return Err(WriteError::FileSize(path.clone())),
            Kind::File { digest, size } => Target::File { digest: *digest, size: *size },
            other => return Err(WriteError::Kind { path: path.clone(), kind: other.name() }),
        };
        let units = long_name(path.name()).map_err(|why| WriteError::Name { path: path.clone(), why })?;
        let text = String::from_utf16_lossy(&units);
        if let Some(first) = folded.insert((parent.clone(), text.to_lowercase()), path.clone()) {
            return Err(WriteError::Case { first, second: path.clone() });
        }
        let (short, needs_long) = short_name(&text, shorts.entry(parent.clone()).or_default());
        if entry.is_directory() {
            all.insert(path.clone(), Vec::new());
        }
        let child = Child { short, long: needs_long.then_some(units), mtime: entry.mtime, target };
        all.entry(parent).or_default().push(child);
    }
    Ok(all)
}

/// Where everything comes to lie.
struct Plan {
    geometry: Geometry,
    /// First cluster and bytes of each directory but a fixed root.
    directory_clusters: BTreeMap<TreePath, u32>,
    /// First clusters of files, in order of directories and children.
    chains: Vec<(u32, u64)>,
    used: u64,
}

fn slots(path: &TreePath, children: &[Child]) -> usize {
    // The label in the root; `.` and `..` everywhere else.
    children.iter().map(Child::slots).sum::<usize>() + if path.is_root() { 1 } else { 2 }
}

fn plan(directories: &Directories, geometry: Geometry) -> Result<Plan, WriteError> {
    let cluster = geometry.cluster_bytes();
    let mut next = 2u64;
    let mut chains = Vec::new();
    let mut directory_clusters = BTreeMap::new();
    let mut take = |bytes: u64, chains: &mut Vec<(u32, u64)>| {
        let count = bytes.div_ceil(cluster);
        let first = if count == 0 { 0 } else { next };
        chains.push((u32::try_from(first).unwrap_or(u32::MAX), count));
        next += count;
        u32::try_from(first).unwrap_or(u32::MAX)
    };
    for (path, children) in directories {
        let slots = slots(path, children);
        if path.is_root() && geometry.kind != FatType::Fat32 {
            if slots as u64 > ROOT_ENTRIES {
                return Err(WriteError::RootFull(slots));
            }
            continue;
        }
        let first = take((slots as u64 * 32).max(1), &mut chains);
        directory_clusters.insert(path.clone(), first);
    }
    for child in directories.values().flatten() {
        if let Target::File { size, .. } = child.target {
            take(size, &mut chains);
        }
    }
    let used = next - 2;
    if used > geometry.clusters {
        return Err(WriteError::TooSmall { needed: used * cluster, have: geometry.clusters * cluster });
    }
    Ok(Plan { geometry, directory_clusters, chains, used })
}

/// The smallest size that holds a tree, in whole MiB.
///
/// # Errors
/// The tree holds what FAT cannot.
pub fn smallest_size(tree: &Tree, options: &FatOptions) -> Result<u64, WriteError> {
    let directories = directories(tree)?;
    let content: u64 =
        directories.values().flatten().map(|c| if let Target::File { size, .. } = c.target { size } else { 0 }).sum();
    let mut size = round_up(content.max(options.size).max(1), 1 << 20);
    loop {
        match Geometry::of_size(size).and_then(|geometry| plan(&directories, geometry)) {
            Ok(_) => return Ok(size),
            Err(WriteError::TooSmall { needed, have }) => size += round_up((needed - have) / 2, 1 << 20).max(1 << 20),
            Err(WriteError::RootFull(_)) => size = size.max(33 << 20) + (1 << 20),
            Err(WriteError::Size(_)) if size < 1 << 40 => size += 1 << 20,
            Err(error) => return Err(error),
        }
    }
}

/// Writes a tree as a filesystem of exactly the size in the options.
///
/// # Errors
/// It does not fit, or the tree holds what FAT cannot.
pub fn write(tree: &Tree, options: &FatOptions) -> Result<Extents, WriteError> {
    let directories = directories(tree)?;
    let geometry = Geometry::of_size(options.size)?;
    let plan = plan(&directories, geometry)?;

    let mut out = Extents::new();
    let boot = boot_sector(&geometry, options);
    out.bytes(boot.clone());
    if geometry.kind == FatType::Fat32 {
        let information = fs_information(&plan);
        out.bytes(information.clone());
        // The backup of both begins at sector 6.
        out.pad_to(6 * SECTOR);
        out.bytes(boot);
        out.bytes(information);
    }
    out.pad_to(geometry.reserved * SECTOR);
    let fat = fat(&plan);
    for copy in 1..=2 {
        out.bytes(fat.clone());
        out.pad_to((geometry.reserved + copy * geometry.fat_sectors) * SECTOR);
    }

    let mut files = plan.chains.iter().skip(plan.directory_clusters.len());
    let mut contents = Vec::new();
    // Directory bytes come first, in order of paths; the files' first clusters are needed for them.
    for (path, children) in &directories {
        let mut bytes = Vec::new();
        if path.is_root() {
            bytes.extend_from_slice(&slot(&label_bytes(&options.label), 0x08, options.mtime, 0, 0));
        } else {
            let mtime = tree.get(path).map_or(options.mtime, |e| e.mtime);
            let own = plan.directory_clusters.get(path).copied().unwrap_or(0);
            let parent = path
                .parent()
                .filter(|p| !p.is_root())
                .and_then(|p| plan.directory_clusters.get(&p).copied())
                .unwrap_or(0);
            bytes.extend_from_slice(&slot(b".          ", 0x10, mtime, own, 0));
            bytes.extend_from_slice(&slot(b"..         ", 0x10, mtime, parent, 0));
        }
        for child in children {
            if let Some(units) = &child.long {
                for entry in long_entries(units, &child.short) {
                    bytes.extend_from_slice(&entry);
                }
            }
            match &child.target {
                Target::Directory(path) => {
                    let first = plan.directory_clusters.get(path).copied().unwrap_or(0);
                    bytes.extend_from_slice(&slot(&child.short, 0x10, child.mtime, first, 0));
                }
                Target::File { digest, size } => {
                    let first = files.next().map_or(0, |(first, _)| *first);
                    bytes.extend_from_slice(&slot(&child.short, 0x20, child.mtime, first, *size as u32));
                    contents.push((*digest, *size));
                }
            }
        }
        let start = out.total();
        out.bytes(bytes);
        let length = if path.is_root() && geometry.kind != FatType::Fat32 {
            geometry.root_sectors * SECTOR
        } else {
            round_up(out.total() - start, geometry.cluster_bytes())
        };
        out.pad_to(start + length);
    }
    for (digest, size) in contents {
        let start = out.total();
        out.blob(digest, size);
        out.pad_to(start + round_up(size, geometry.cluster_bytes()));
    }
    out.pad_to(options.size);
    Ok(out)
}

fn label_bytes(label: &str) -> [u8; 11] {
    let mut out = [b' '; 11];
    let clean = label
        .chars()
        .map(|c| c.to_ascii_uppercase())
        .map(|c| if c.is_ascii_alphanumeric() || "-_ ".contains(c) { c as u8 } else { b'_' });
    for (slot, byte) in out.iter_mut().zip(clean) {
        *slot = byte;
    }
    if out == [b' '; 11] { *b"NO NAME    " } else { out }
}

/// The boot sector with its parameter block (FAT specification, section 3).
fn boot_sector(geometry: &Geometry, options: &FatOptions) -> Vec<u8> {
    let mut b = vec![0; SECTOR as usize];
    let fat32 = geometry.kind == FatType::Fat32;
    b[..3].copy_from_slice(if fat32 { &[0xeb, 0x58, 0x90] } else { &[0xeb, 0x3c, 0x90] });
    b[3..11].copy_from_slice(b"EMBRAK  ");
    put16(&mut b, 11, SECTOR as u16);
    b[13] = geometry.sectors_per_cluster as u8;
    put16(&mut b, 14, geometry.reserved as u16);
    b[16] = 2;
    put16(&mut b, 17, if fat32 { 0 } else { ROOT_ENTRIES as u16 });
    let small = !fat32 && geometry.sectors < 0x10000;
    put16(&mut b, 19, if small { geometry.sectors as u16 } else { 0 });
    b[21] = 0xf8;
    put16(&mut b, 22, if fat32 { 0 } else { geometry.fat_sectors as u16 });
    put16(&mut b, 24, 63);
    put16(&mut b, 26, 255);
    put32(&mut b, 28, options.hidden_sectors);
    put32(&mut b, 32, if small { 0 } else { geometry.sectors as u32 });
    let at = if fat32 {
        put32(&mut b, 36, geometry.fat_sectors as u32);
        put32(&mut b, 44, 2);
        put16(&mut b, 48, 1);
        put16(&mut b, 50, 6);
        64
    } else {
        36
    };
    b[at] = 0x80;
    b[at + 2] = 0x29;
    put32(&mut b, at + 3, options.serial);
    b[at + 7..at + 18].copy_from_slice(&label_bytes(&options.label));
    b[at + 18..at + 26].copy_from_slice(match geometry.kind {
        FatType::Fat12 => b"FAT12   ",
        FatType::Fat16 => b"FAT16   ",
        FatType::Fat32 => b"FAT32   ",
    });
    // A machine that tries to run this stops: cli; hlt; jmp to hlt.
    b[at + 26..at + 30].copy_from_slice(&[0xfa, 0xf4, 0xeb, 0xfd]);
    b[510..].copy_from_slice(&[0x55, 0xaa]);
    b
}

fn fs_information(plan: &Plan) -> Vec<u8> {
    let mut b = vec![0; SECTOR as usize];
    b[..4].copy_from_slice(b"RRaA");
    b[484..488].copy_from_slice(b"rrAa");
    put32(&mut b, 488, (plan.geometry.clusters - plan.used) as u32);
    put32(&mut b, 492, (2 + plan.used) as u32);
    b[510..].copy_from_slice(&[0x55, 0xaa]);
    b
}

/// One file allocation table; everything is laid out in one piece, so a chain counts up.
fn fat(plan: &Plan) -> Vec<u8> {
    let mut entries: Vec<u32> = vec![0x0fff_fff8, 0x0fff_ffff];
    for (first, count) in plan.chains.iter().filter(|(_, count)| *count > 0) {
        entries.extend((first + 1..*first + *count as u32).chain([0x0fff_ffff]));
    }
    match plan.geometry.kind {
        FatType::Fat32 => entries.iter().flat_map(|e| e.to_le_bytes()).collect(),
        FatType::Fat16 => entries.iter().flat_map(|e| (*e as u16).to_le_bytes()).collect(),
        FatType::Fat12 => entries
            .chunks(2)
            .flat_map(|pair| {
                let (a, b) = (pair[0] & 0xfff, pair.get(1).copied().unwrap_or(0) & 0xfff);
                let packed = a | b << 12;
                let bytes = packed.to_le_bytes();
                [bytes[0], bytes[1], bytes[2]]
            })
            .collect(),
    }
}

/// A short directory entry (FAT specification, section 6).
fn slot(name: &[u8; 11], attributes: u8, mtime: i64, first: u32, size: u32) -> [u8; 32] {
    let mut s = [0u8; 32];
    s[..11].copy_from_slice(name);
    // A first byte of 0xE5 would mean "deleted".
    if s[0] == 0xe5 {
        s[0] = 0x05;
    }
    s[11] = attributes;
    let (date, time) = dos_time(mtime);
    put16(&mut s, 14, time);
    put16(&mut s, 16, date);
    put16(&mut s, 18, date);
    put16(&mut s, 20, (first >> 16) as u16);
    put16(&mut s, 22, time);
    put16(&mut s, 24, date);
    put16(&mut s, 26, first as u16);
    put32(&mut s, 28, size);
    s
}
