//! Reading FAT filesystems, whoever made them.

use super::names::{UNIT_OFFSETS, checksum};
use super::{FatType, unix_time};
use crate::{ReadAt, SECTOR};
use embrak_tree::{BlobSink, Entry, Kind, Tree, TreePath};
use serde::Serialize;
use std::collections::BTreeSet;
use std::io::{self, Read};

/// Directories with more bytes than the format allows (65536 entries) are refused.
const DIRECTORY_LIMIT: u64 = 65536 * 32;
/// Directories nested deeper than this are refused.
const DEPTH_LIMIT: usize = 64;

/// Why a filesystem cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum FatError {
    /// The boot sector does not describe a FAT filesystem.
    #[error("not a FAT filesystem: {0}")]
    NotFat(String),
    /// Something in it is not as it should be.
    #[error("FAT filesystem damaged: {0}")]
    Damaged(String),
    /// A file that is not there.
    #[error("{0} is not in the filesystem")]
    NoFile(TreePath),
    /// Reading failed.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// What the boot sector and the FAT say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FatInfo {
    /// Which FAT.
    pub kind: FatType,
    /// Label in the root directory, or in the boot sector when there is none.
    pub label: String,
    /// Serial number.
    pub serial: u32,
    /// Bytes per cluster.
    pub cluster_size: u64,
    /// Clusters for data.
    pub clusters: u64,
    /// Clusters not in use.
    pub free_clusters: u64,
    /// Size in bytes.
    pub size: u64,
    /// Who formatted it, as the boot sector says.
    pub made_by: String,
}

/// An open filesystem.
pub struct Volume<'a> {
    disk: &'a dyn ReadAt,
    info: FatInfo,
    /// The whole first FAT, decoded.
    fat: Vec<u32>,
    data_start: u64,
    root: Root,
}

#[derive(Clone, Copy)]
enum Root {
    Fixed { start: u64, length: u64 },
    Chain(u32),
}

/// What an entry of a directory says.
struct Found {
    name: String,
    directory: bool,
    first: u32,
    size: u32,
    mtime: i64,
}

impl<'a> Volume<'a> {
    /// Reads the boot sector and the FAT.
    ///
    /// # Errors
    /// It is not a FAT filesystem or reaches beyond what is there.
    pub fn open(disk: &'a dyn ReadAt) -> Result<Volume<'a>, FatError> {
        let not = |why: &str| FatError::NotFat(why.to_string());
        let b = disk.read_vec(0, SECTOR).map_err(|_| not("shorter than a sector"))?;
        let get16 = |at: usize| u64::from(u16::from_le_bytes([b[at], b[at + 1]]));
        let get32 = |at: usize| u32::from_le_bytes([b[at], b[at + 1], b[at + 2], b[at + 3]]);
        if b[510..] != [0x55, 0xaa] || !matches!(b[0], 0xeb | 0xe9) {
            return Err(not("no boot sector"));
        }
        let (bytes, per_cluster) = (get16(11), u64::from(b[13]));
        if !matches!(bytes, 512 | 1024 | 2048 | 4096) || !per_cluster.is_power_of_two() {
            return Err(not("absurd sector or cluster size"));
        }
        let (reserved, copies, root_entries) = (get16(14), u64::from(b[16]), get16(17));
        let sectors = if get16(19) != 0 { get16(19) } else { u64::from(get32(32)) };
        let fat_sectors = if get16(22) != 0 { get16(22) } else { u64::from(get32(36)) };
        let root_sectors = (root_entries * 32).div_ceil(bytes);
        if reserved == 0 || !(1..=4).contains(&copies) || fat_sectors == 0 {
            return Err(not("no room for a FAT"));
        }
        let data_sector = reserved + copies * fat_sectors + root_sectors;
        let data_sectors = sectors.checked_sub(data_sector).ok_or_else(|| not("smaller than its own tables"))?;
        if sectors.saturating_mul(bytes) > disk.size() {
            return Err(FatError::Damaged(format!(
                "it says it has {} bytes, and there are {}",
                sectors * bytes,
                disk.size()
            )));
        }
        let clusters = data_sectors / per_cluster;
        let kind = FatType::of_cluster_count(clusters);
        if (kind == FatType::Fat32) != (get16(22) == 0) {
            return Err(not("the number of clusters does not go with its kind of FAT"));
        }
        let extended = if kind == FatType::Fat32 { 64 } else { 36 };
        let text = |from: usize, to: usize| String::from_utf8_lossy(&b[from..to]).trim_end().to_string();
        let (serial, label) = match b[extended + 2] {
            0x29 => (get32(extended + 3), text(extended + 7, extended + 18)),
            _ => (0, String::new()),
        };
        let raw = disk.read_vec(reserved * bytes, fat_sectors * bytes)?;
        let fat = decode_fat(&raw, kind, clusters)?;
        let free_clusters = fat.iter().skip(2).filter(|&&e| e == 0).count() as u64;
        let root = match kind {
            FatType::Fat32 => Root::Chain(get32(44)),
            _ => Root::Fixed { start: (reserved + copies * fat_sectors) * bytes, length: root_entries * 32 },
        };
        let info = FatInfo {
            kind,
            label,
            serial,
            cluster_size: per_cluster * bytes,
            clusters,
            free_clusters,
            size: sectors * bytes,
            made_by: text(3, 11),
        };
        let mut volume = Volume { disk, info, fat, data_start: data_sector * bytes, root };
        let root = volume.root_bytes()?;
        if let Some(label) =
            root.chunks_exact(32).take_while(|s| s[0] != 0).find(|s| s[0] != 0xe5 && s[11] & 0x3f == 0x08)
        {
            volume.info.label = String::from_utf8_lossy(&label[..11]).trim_end().to_string();
        }
        Ok(volume)
    }

    /// What the boot sector and the FAT say.
    pub fn info(&self) -> &FatInfo {
        &self.info
    }

    fn root_bytes(&self) -> Result<Vec<u8>, FatError> {
        match self.root {
            Root::Fixed { start, length } => Ok(self.disk.read_vec(start, length)?),
            Root::Chain(first) => self.read_chain(first, DIRECTORY_LIMIT),
        }
    }

    /// The clusters of a chain in order.
    fn chain(&self, first: u32, limit: u64) -> Result<Vec<u32>, FatError> {
        let mut clusters = Vec::new();
        let mut at = first;
        while (at as u64) < self.info.clusters + 2 {
            if at < 2 || clusters.len() as u64 * self.info.cluster_size > limit {
                return Err(FatError::Damaged(format!(
                    "the chain from cluster {first} runs into cluster {at} or in a circle"
                )));
            }
            clusters.push(at);
            at = self.fat[at as usize];
        }
        match at {
            0x0fff_fff8..=0x0fff_ffff => Ok(clusters),
            _ => Err(FatError::Damaged(format!(
                "the chain from cluster {first} leads to cluster {at}, which is not there"
            ))),
        }
    }

    fn cluster_offset(&self, cluster: u32) -> u64 {
        self.data_start + u64::from(cluster - 2) * self.info.cluster_size
    }

    fn read_chain(&self, first: u32, limit: u64) -> Result<Vec<u8>, FatError> {
        let mut bytes = Vec::new();
        for cluster in self.chain(first, limit)? {
            bytes.extend(self.disk.read_vec(self.cluster_offset(cluster), self.info.cluster_size)?);
        }
        Ok(bytes)
    }

    /// All files and directories, contents put into `blobs`; and what is damaged but could be passed over.
    ///
    /// # Errors
    /// The root cannot be read, or `blobs` fails.
    pub fn tree(&self, blobs: &dyn BlobSink) -> Result<(Tree, Vec<String>), FatError> {
        let mut walk = Walk { volume: self, tree: Tree::new(), damage: Vec::new(), seen: BTreeSet::new() };
        let root = self.root_bytes()?;
        walk.directory(&TreePath::root(), &root, blobs)?;
        walk.tree.add_missing_directories(0);
        let mtime = root.chunks_exact(32).find(|s| s[11] == 0x08).map(times);
        if let (Some(root), Some(mtime)) = (walk.tree.get_mut(&TreePath::root()), mtime) {
            root.mtime = mtime;
        }
        Ok((walk.tree, walk.damage))
    }

    /// The bytes of one file.
    ///
    /// # Errors
    /// It is not there, or damaged.
    pub fn read_file(&self, path: &TreePath) -> Result<Vec<u8>, FatError> {
        let mut bytes = self.root_bytes()?;
        let parts: Vec<&[u8]> = path.relative().split(|&b| b == b'/').collect();
        for (depth, part) in parts.iter().enumerate() {
            let wanted = String::from_utf8_lossy(part).to_lowercase();
            let (entries, _) = parse_directory(&bytes);
            let found = entries
                .into_iter()
                .find(|e| e.name.to_lowercase() == wanted)
                .ok_or_else(|| FatError::NoFile(path.clone()))?;
            let last = depth + 1 == parts.len();
            if found.directory == last {
                return Err(FatError::NoFile(path.clone()));
            }
            if last {
                let mut out = Vec::new();
                self.reader(&found)?.read_to_end(&mut out)?;
                return Ok(out);
            }
            bytes = self.read_chain(found.first, DIRECTORY_LIMIT)?;
        }
        Err(FatError::NoFile(path.clone()))
    }

    fn reader(&self, found: &Found) -> Result<ChainReader<'_>, FatError> {
        let clusters = if found.size == 0 { Vec::new() } else { self.chain(found.first, u64::from(found.size))? };
        if (clusters.len() as u64) < u64::from(found.size).div_ceil(self.info.cluster_size) {
            return Err(FatError::Damaged(format!("{} is longer than its chain", found.name)));
        }
        Ok(ChainReader { volume: self, clusters, at: 0, size: u64::from(found.size) })
    }
}

fn decode_fat(raw: &[u8], kind: FatType, clusters: u64) -> Result<Vec<u32>, FatError> {
    let count = clusters as usize + 2;
    // Ends of chains and bad clusters look the same in all three once widened.
    let widen = |entry: u32, bits: u32| {
        if entry >= (1 << bits) - 16 { entry | 0x0fff_ffff & !((1 << bits) - 1) } else { entry }
    };
    let fat: Vec<u32> = match kind {
        FatType::Fat32 => raw
            .chunks_exact(4)
            .take(count)
            .map(|c| u32::from_le_bytes([c[0], c[1], c[2], c[3]]) & 0x0fff_ffff)
            .collect(),
        FatType::Fat16 => {
            raw.chunks_exact(2).take(count).map(|c| widen(u32::from(u16::from_le_bytes([c[0], c[1]])), 16)).collect()
        }
        FatType::Fat12 => raw
            .chunks_exact(3)
            .flat_map(|c| {
                let packed = u32::from_le_bytes([c[0], c[1], c[2], 0]);
                [widen(packed & 0xfff, 12), widen(packed >> 12, 12)]
            })
            .take(count)
            .collect(),
    };
    if fat.len() < count {
        return Err(FatError::Damaged(format!("the FAT has {} entries for {clusters} clusters", fat.len())));
    }
    Ok(fat)
}

/// Reads a file cluster by cluster.
struct ChainReader<'a> {
    volume: &'a Volume<'a>,
    clusters: Vec<u32>,
    at: u64,
    size: u64,
}

impl Read for ChainReader<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let cluster_size = self.volume.info.cluster_size;
        let Some(&cluster) = self.clusters.get((self.at / cluster_size) as usize).filter(|_| self.at < self.size)
        else {
            return Ok(0);
        };
        let within = self.at % cluster_size;
        // Neighbouring clusters are read in one go.
        let mut run = cluster_size - within;
        let mut index = (self.at / cluster_size) as usize;
        while self.clusters.get(index + 1) == Some(&(self.clusters[index] + 1)) && run < buffer.len() as u64 {
            run += cluster_size;
            index += 1;
        }
        let n = (buffer.len() as u64).min(run).min(self.size - self.at) as usize;
        self.volume.disk.read_exact_at(&mut buffer[..n], self.volume.cluster_offset(cluster) + within)?;
        self.at += n as u64;
        Ok(n)
    }
}

struct Walk<'a> {
    volume: &'a Volume<'a>,
    tree: Tree,
    damage: Vec<String>,
    seen: BTreeSet<u32>,
}

impl Walk<'_> {
    fn directory(&mut self, path: &TreePath, bytes: &[u8], blobs: &dyn BlobSink) -> Result<(), FatError> {
        let (entries, damage) = parse_directory(bytes);
        self.damage.extend(damage.into_iter().map(|what| format!("{path}: {what}")));
        for found in entries {
            let Ok(child) = path.join(found.name.as_bytes()) else {
                self.damage.push(format!("{path}: an entry with the impossible name {:?}", found.name));
                continue;
            };
            let result = if found.directory {
                self.tree.insert(child.clone(), Entry { mtime: found.mtime, ..Entry::directory() });
                self.subdirectory(&child, &found, blobs)
            } else {
                self.file(&child, &found, blobs)
            };
            match result {
                Err(FatError::Io(error)) if error.kind() != io::ErrorKind::UnexpectedEof => {
                    return Err(FatError::Io(error));
                }
                Err(error) => self.damage.push(format!("{child}: {error}")),
                Ok(()) => {}
            }
        }
        Ok(())
    }

    fn subdirectory(&mut self, path: &TreePath, found: &Found, blobs: &dyn BlobSink) -> Result<(), FatError> {
        if !self.seen.insert(found.first) || path.depth() > DEPTH_LIMIT {
            return Err(FatError::Damaged("a directory that is inside itself".into()));
        }
        let bytes = self.volume.read_chain(found.first, DIRECTORY_LIMIT)?;
        self.directory(path, &bytes, blobs)
    }

    fn file(&mut self, path: &TreePath, found: &Found, blobs: &dyn BlobSink) -> Result<(), FatError> {
        let (digest, size) = blobs.put(&mut self.volume.reader(found)?)?;
        self.tree.insert(path.clone(), Entry { mtime: found.mtime, ..Entry::new(Kind::File { digest, size }, 0o644) });
        Ok(())
    }
}

fn times(slot: &[u8]) -> i64 {
    unix_time(u16::from_le_bytes([slot[24], slot[25]]), u16::from_le_bytes([slot[22], slot[23]]))
}

/// The files and directories a directory lists, `.` and `..` and the label left out.
fn parse_directory(bytes: &[u8]) -> (Vec<Found>, Vec<String>) {
    let (mut found, mut damage) = (Vec::new(), Vec::new());
    // Units of the long name collected so far, from the end; its checksum; the next number expected.
    let mut long: Option<(Vec<u16>, u8, u8)> = None;
    for slot in bytes.chunks_exact(32) {
        match slot[0] {
            0 => break,
            0xe5 => {
                long = None;
                continue;
            }
            _ => {}
        }
        if slot[11] & 0x3f == 0x0f {
            let units = UNIT_OFFSETS.map(|at| u16::from_le_bytes([slot[at], slot[at + 1]]));
            let number = slot[0] & 0x1f;
            long = match long.take() {
                _ if slot[0] & 0x40 != 0 && number > 0 => Some((units.to_vec(), slot[13], number)),
                Some((rest, sum, next)) if next == number + 1 && sum == slot[13] && number > 0 => {
                    Some(([units.as_slice(), rest.as_slice()].concat(), sum, number))
                }
                _ => {
                    damage.push("a part of a long name out of order".to_string());
                    None
                }
            };
            continue;
        }
        if slot[11] & 0x08 != 0 || &slot[..11] == b".          " || &slot[..11] == b"..         " {
            long = None;
            continue;
        }
        let mut short = [0; 11];
        short.copy_from_slice(&slot[..11]);
        let name = match long.take() {
            Some((units, sum, 1)) if sum == checksum(&short) => {
                let end = units.iter().position(|&u| u == 0).unwrap_or(units.len());
                String::from_utf16_lossy(&units[..end])
            }
            Some(_) => {
                damage.push("a long name that does not belong to the short one after it".to_string());
                short_text(&short)
            }
            None => short_text(&short),
        };
        let word = |at: usize| u32::from(u16::from_le_bytes([slot[at], slot[at + 1]]));
        found.push(Found {
            name,
            directory: slot[11] & 0x10 != 0,
            first: word(20) << 16 | word(26),
            size: word(30) << 16 | word(28),
            mtime: times(slot),
        });
    }
    (found, damage)
}

fn short_text(short: &[u8; 11]) -> String {
    let mut fixed = *short;
    if fixed[0] == 0x05 {
        fixed[0] = 0xe5;
    }
    let part = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end_matches(' ').to_string();
    let (base, extension) = (part(&fixed[..8]), part(&fixed[8..]));
    if extension.is_empty() { base } else { format!("{base}.{extension}") }
}
