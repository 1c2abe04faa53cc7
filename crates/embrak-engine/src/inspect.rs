//! Looking into images, whoever made them. Formats are told by content, not by name.
//!
//! What is found is peeled like an onion: packed file, disk container, partition table, filesystems, and within those
//! unified kernel images, entries of loaders, package databases.

use crate::error::{Doing, EngineError, Result};
use crate::sources;
use embrak_compress::Compression;
use embrak_disk::ext4::{self, Ext4Info};
use embrak_disk::fat::{self, FatInfo};
use embrak_disk::gpt::{self, Partition, Table};
use embrak_disk::qcow2::{self, Qcow2Info};
use embrak_disk::{ReadAt, Slice, mbr, partition_type_name, pe};
use embrak_oci::{OciImage, read_layout};
use embrak_store::Store;
use embrak_tree::{BlobSink, BlobSource, Digest, DigestOnly, Kind, Tree, TreePath, cpio, tar};
use serde::Serialize;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// What a filesystem says of itself.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(untagged)]
pub enum Filesystem {
    /// FAT12, FAT16 or FAT32.
    Fat(FatInfo),
    /// ext2, ext3 or ext4.
    Ext4(Ext4Info),
}

impl Filesystem {
    /// `FAT32`, `ext4` and so on.
    pub fn kind(&self) -> String {
        match self {
            Filesystem::Fat(info) => info.kind.to_string(),
            Filesystem::Ext4(info) => info.kind.to_string(),
        }
    }

    /// Bytes that hold data, and bytes in all.
    pub fn fill(&self) -> (u64, u64) {
        match self {
            Filesystem::Fat(info) => {
                let used = info.clusters.saturating_sub(info.free_clusters);
                (used.saturating_mul(info.cluster_size), info.clusters.saturating_mul(info.cluster_size))
            }
            Filesystem::Ext4(info) => {
                let used = info.blocks.saturating_sub(info.free_blocks);
                (used.saturating_mul(info.block_size), info.blocks.saturating_mul(info.block_size))
            }
        }
    }
}

/// A partition and what is on it.
#[derive(Debug, Clone)]
pub struct PartitionView {
    /// Its entry in the table.
    pub partition: Partition,
    /// The name of its type, if it has one.
    pub kind: Option<String>,
    /// Its filesystem, if it is one we read.
    pub filesystem: Option<Filesystem>,
    /// Its files.
    pub tree: Tree,
    /// What is not as it should be.
    pub damage: Vec<String>,
}

/// What a disk is divided by.
#[derive(Debug, Clone)]
pub enum DiskTable {
    /// A GUID partition table.
    Gpt(Table),
    /// A master boot record.
    Mbr(mbr::Record),
}

impl DiskTable {
    /// The disk's own identifier.
    pub fn id(&self) -> String {
        match self {
            DiskTable::Gpt(table) => table.disk.to_string(),
            DiskTable::Mbr(record) => format!("{:08x}", record.signature),
        }
    }

    /// What is not as it should be.
    pub fn damage(&self) -> &[String] {
        match self {
            DiskTable::Gpt(table) => &table.damage,
            DiskTable::Mbr(record) => &record.damage,
        }
    }

    /// `GPT` or `MBR`.
    pub fn name(&self) -> &'static str {
        match self {
            DiskTable::Gpt(_) => "GPT",
            DiskTable::Mbr(_) => "MBR",
        }
    }
}

/// Layers around what is looked into, from the outside.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub enum Wrapping {
    /// The whole file is packed.
    Packed(&'static str),
    /// A disk container.
    Qcow2(Qcow2Info),
}

/// A way a system starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct BootEntry {
    /// The file: a unified kernel image or an entry of a loader.
    pub path: String,
    /// `unified kernel image`, `loader entry` or `UEFI program`.
    pub kind: &'static str,
    /// What it starts, for people.
    pub title: String,
    /// The kernel's version.
    pub kernel: String,
    /// The kernel's command line.
    pub command_line: String,
    /// Sections of a program, or files an entry names.
    pub parts: Vec<String>,
    /// Whether it carries a signature for UEFI Secure Boot.
    pub signed: bool,
}

/// An installed package, as a database in an image has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct InstalledPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
}

/// What an artifact is.
#[derive(Debug, Clone)]
pub enum Content {
    /// A disk with a partition table.
    Disk {
        /// The table.
        table: DiskTable,
        /// The partitions in order.
        partitions: Vec<PartitionView>,
    },
    /// A filesystem on its own.
    Filesystem {
        /// What its first sectors say.
        info: Filesystem,
        /// Its files.
        tree: Tree,
        /// What is not as it should be.
        damage: Vec<String>,
    },
    /// Container images.
    Oci {
        /// Whether it is an archive or a directory.
        archive: bool,
        /// The images.
        images: Vec<OciImage>,
    },
    /// A tar archive.
    Archive {
        /// `gzip`, `zstd` or `none`.
        compression: &'static str,
        /// Its files.
        tree: Tree,
    },
    /// cpio archives, one behind the other, as kernels take them.
    Initrd {
        /// How each is packed.
        parts: Vec<&'static str>,
        /// All their files, the later over the earlier.
        tree: Tree,
    },
    /// A package file, of the Debian format or of ours.
    Package {
        /// Its files.
        tree: Tree,
        /// Its scripts, checksums and the like.
        control: Tree,
    },
    /// A UEFI program.
    Program(pe::Program),
    /// A tree manifest.
    Manifest(Tree),
    /// A directory.
    Directory(Tree),
    /// Something we do not read.
    Bytes,
}

/// An opened artifact.
pub struct Artifact {
    /// Where it is.
    pub path: PathBuf,
    /// Bytes.
    pub size: u64,
    digest: OnceLock<Digest>,
    /// By place, where the contents of files lie whose trees were read without them.
    pub(crate) outlines: Outlines,
    /// Of those, what is known to be alike in two artifacts.
    pub(crate) settled: BTreeSet<Digest>,
    /// What lies around its content.
    pub wrappings: Vec<Wrapping>,
    /// What it is.
    pub content: Content,
    /// The file, unpacked when it was packed.
    plain: Option<File>,
    pub(crate) scratch: Store,
    _dir: tempfile::TempDir,
}

/// Opens an artifact and reads its structure.
///
/// # Errors
/// It cannot be read, or is damaged beyond reading.
pub fn open_artifact(path: &Path) -> Result<Artifact> {
    let dir = tempfile::tempdir().doing("make", std::env::temp_dir())?;
    let scratch = Store::open(dir.path())?;
    let damaged =
        |e: &dyn std::fmt::Display| EngineError::other(format!("{}: {e}", path.display()), "get or build it again");
    if path.is_dir() {
        let is_layout = path.join("oci-layout").is_file();
        let contents = if is_layout { sources::Contents::Keep(&scratch) } else { sources::Contents::Digest };
        let tree = crate::layout::tree_of(contents, path)?;
        let (digest, size) = (tree.digest(), tree.content_size());
        let content = if is_layout {
            Content::Oci { archive: false, images: read_layout(&tree, &scratch, &scratch).map_err(|e| damaged(&e))? }
        } else {
            Content::Directory(tree)
        };
        let path = path.to_path_buf();
        let digest = OnceLock::from(digest);
        return Ok(Artifact {
            path,
            size,
            digest,
            outlines: BTreeMap::new(),
            settled: BTreeSet::new(),
            wrappings: Vec::new(),
            content,
            plain: None,
            scratch,
            _dir: dir,
        });
    }
    let file = File::open(path).doing("read", path)?;
    let size = ReadAt::size(&file);
    // The digest of a large file is taken beside reading what is in it.
    let (content, digest) = std::thread::scope(|scope| {
        let digest = scope.spawn(|| File::open(path).and_then(|f| embrak_tree::HashingReader::new(f).finish()));
        let content = unwrapped(file, path, &scratch, None);
        (content, digest.join().unwrap_or_else(|_| Err(std::io::Error::other("hashing failed"))))
    });
    let (plain, wrappings, content) = content?;
    let digest = OnceLock::from(digest.doing("read", path)?.0);
    let (path, plain) = (path.to_path_buf(), Some(plain));
    let (outlines, settled) = (BTreeMap::new(), BTreeSet::new());
    Ok(Artifact { path, size, digest, outlines, settled, wrappings, content, plain, scratch, _dir: dir })
}

/// By place, where the contents of files lie.
pub(crate) type Outlines = BTreeMap<String, BTreeMap<Digest, ext4::Located>>;

/// Opens an artifact without reading the contents of its files: their digests are stand-ins, made of `mark`. None when
/// it holds no filesystem that can be looked into so.
pub(crate) fn outlined(path: &Path, mark: &str) -> Result<Option<Artifact>> {
    if path.is_dir() {
        return Ok(None);
    }
    let dir = tempfile::tempdir().doing("make", std::env::temp_dir())?;
    let scratch = Store::open(dir.path())?;
    let file = File::open(path).doing("read", path)?;
    let size = ReadAt::size(&file);
    if !may_be_outlined(&file) {
        return Ok(None);
    }
    let mut outlines = BTreeMap::new();
    let (plain, wrappings, content) = unwrapped(file, path, &scratch, Some((mark, &mut outlines)))?;
    let (path, plain, digest) = (path.to_path_buf(), Some(plain), OnceLock::new());
    let settled = BTreeSet::new();
    let artifact = Artifact { path, size, digest, outlines, settled, wrappings, content, plain, scratch, _dir: dir };
    // By their places files are found again: two of one name would be one.
    let mut places: Vec<String> = artifact.trees().into_iter().map(|(place, _)| place).collect();
    places.sort();
    let unique = places.windows(2).all(|pair| pair[0] != pair[1]);
    Ok((unique && !artifact.outlines.is_empty()).then_some(artifact))
}

/// Whether a file is a disk or a filesystem, plain or in a container, so that nothing of it has to be unpacked.
fn may_be_outlined(file: &File) -> bool {
    let start = file.read_vec(0, ReadAt::size(file).min(4096)).unwrap_or_default();
    start.starts_with(b"QFI\xfb") || gpt::is_gpt(file) || mbr::read(file).is_some() || ext4::Volume::open(file).is_ok()
}

/// Unpacks a file that is packed and holds something else than an archive, then looks into it.
fn unwrapped(file: File, path: &Path, scratch: &Store, outline: Outline<'_>) -> Result<(File, Vec<Wrapping>, Content)> {
    let mut wrappings = Vec::new();
    let start = file.read_vec(0, ReadAt::size(&file).min(64)).doing("read", path)?;
    let compression = Compression::detect(&start);
    let mut file = file;
    if compression != Compression::None {
        let open = || compression.decompress(BufReader::new(File::open(path)?));
        let mut head = Vec::new();
        open().doing("read", path)?.take(512).read_to_end(&mut head).ok();
        let is_tar = head.len() == 512 && &head[257..262] == b"ustar";
        if is_tar || head.starts_with(cpio::MAGIC) || head.len() < 512 {
            let content = content_of(&file, path, scratch, outline)?;
            return Ok((file, wrappings, content));
        }
        let mut plain = tempfile::tempfile().doing("make", std::env::temp_dir())?;
        let limit = ReadAt::size(&file).saturating_mul(2000).max(1 << 30);
        unpack_sparse(&mut open().doing("read", path)?.take(limit), &mut plain).doing("unpack", path)?;
        wrappings.push(Wrapping::Packed(compression.name()));
        file = plain;
    }
    let content = if qcow2::is_qcow2(&file) {
        let image = qcow2::Image::open(&file)
            .map_err(|e| EngineError::other(format!("{}: {e}", path.display()), "get or build it again"))?;
        wrappings.push(Wrapping::Qcow2(image.info().clone()));
        content_of(&image, path, scratch, outline)?
    } else {
        content_of(&file, path, scratch, outline)?
    };
    Ok((file, wrappings, content))
}

/// Writes with holes where there are zeros.
fn unpack_sparse(from: &mut dyn Read, to: &mut File) -> std::io::Result<()> {
    let mut buffer = vec![0; 64 << 10];
    let mut length = 0u64;
    loop {
        let mut filled = 0;
        while filled < buffer.len() {
            match from.read(&mut buffer[filled..])? {
                0 => break,
                n => filled += n,
            }
        }
        if filled == 0 {
            break;
        }
        length += filled as u64;
        if buffer[..filled].iter().all(|b| *b == 0) {
            to.seek(SeekFrom::Start(length))?;
        } else {
            to.write_all(&buffer[..filled])?;
        }
    }
    to.set_len(length)
}

/// With what stand-ins are marked, and where it is noted what they stand for.
type Outline<'o> = Option<(&'o str, &'o mut Outlines)>;

fn filesystem(slice: &dyn ReadAt, place: &str, outline: Outline<'_>) -> Option<(Filesystem, Tree, Vec<String>)> {
    let failed = |e: String| (Tree::new(), vec![e]);
    let blobs = &DigestOnly;
    if let Ok(volume) = ext4::Volume::open(slice) {
        if let Some((mark, outlines)) = outline {
            let found = volume.outline(&format!("{mark} {place}"));
            let (tree, damage, located) = found.unwrap_or_else(|e| (Tree::new(), vec![e.to_string()], BTreeMap::new()));
            outlines.insert(place.to_string(), located);
            return Some((Filesystem::Ext4(volume.info().clone()), tree, damage));
        }
        let (tree, damage) = volume.tree(blobs).unwrap_or_else(|e| failed(e.to_string()));
        return Some((Filesystem::Ext4(volume.info().clone()), tree, damage));
    }
    if let Ok(volume) = fat::Volume::open(slice) {
        let (tree, damage) = volume.tree(blobs).unwrap_or_else(|e| failed(e.to_string()));
        return Some((Filesystem::Fat(volume.info().clone()), tree, damage));
    }
    None
}

fn content_of(file: &dyn ReadAt, path: &Path, scratch: &Store, mut outline: Outline<'_>) -> Result<Content> {
    let damaged =
        |e: &dyn std::fmt::Display| EngineError::other(format!("{}: {e}", path.display()), "get or build it again");
    if file.read_vec(0, 8).is_ok_and(|magic| magic == b"!<arch>\n") {
        let limits = embrak_repo::Limits { data: 16 << 30, control: 64 << 20 };
        let opened = File::open(path).doing("read", path)?;
        if let Ok(package) = embrak_repo::unpack_deb(&path.to_string_lossy(), opened, scratch, limits) {
            return Ok(Content::Package { tree: package.tree, control: package.control });
        }
    }
    if gpt::is_gpt(file) {
        let table = gpt::read(file).map_err(|e| damaged(&e))?;
        let view = |p: &Partition| partition_view(file, p, partition_type_name(&p.kind), reborrow(&mut outline));
        let partitions = table.partitions.iter().map(view).collect();
        return Ok(Content::Disk { table: DiskTable::Gpt(table), partitions });
    }
    if let Some((info, tree, damage)) = filesystem(file, "", reborrow(&mut outline)) {
        return Ok(Content::Filesystem { info, tree, damage });
    }
    if let Ok(program) = pe::read(file) {
        return Ok(Content::Program(program));
    }
    if let Some(record) = mbr::read(file) {
        let partitions = record
            .partitions
            .iter()
            .map(|p| {
                let as_gpt = Partition {
                    number: p.number,
                    kind: embrak_disk::Guid::default(),
                    guid: embrak_disk::Guid::default(),
                    label: String::new(),
                    start: p.start,
                    size: p.size,
                    attributes: u64::from(p.active) << 2,
                };
                partition_view(file, &as_gpt, Some(format!("type {:#04x}", p.kind)), reborrow(&mut outline))
            })
            .collect();
        return Ok(Content::Disk { table: DiskTable::Mbr(record), partitions });
    }
    let start = file.read_vec(0, file.size().min(512)).doing("read", path)?;
    if start.starts_with(b"{\"embrak-tree\":") {
        let text = std::fs::read_to_string(path).doing("read", path)?;
        return Ok(Content::Manifest(embrak_tree::parse_manifest(&text).map_err(|e| damaged(&e))?));
    }
    let compression = Compression::detect(&start);
    let open = || compression.decompress(BufReader::new(Streamed { file, at: 0 }));
    let mut head = Vec::new();
    open().doing("read", path)?.take(512).read_to_end(&mut head).ok();
    if head.starts_with(cpio::MAGIC) {
        let (parts, tree) = read_initrd(file, scratch).map_err(|e| damaged(&e))?;
        return Ok(Content::Initrd { parts, tree });
    }
    if head.len() < 512 || &head[257..262] != b"ustar" {
        return Ok(Content::Bytes);
    }
    let tree = tar::read_tree(open().doing("read", path)?, scratch).map_err(|e| damaged(&e))?;
    if tree.get(&TreePath::new("/oci-layout").unwrap_or_else(|_| TreePath::root())).is_some() {
        return Ok(Content::Oci {
            archive: true,
            images: read_layout(&tree, scratch, scratch).map_err(|e| damaged(&e))?,
        });
    }
    if tree.get(&TreePath::new("/package.json").unwrap_or_else(|_| TreePath::root())).is_some()
        && let Ok(package) = embrak_repo::read_package(&path.to_string_lossy(), open().doing("read", path)?, scratch)
    {
        let mut control = tree;
        let inside: Vec<TreePath> = control
            .iter()
            .map(|(p, _)| p.clone())
            .filter(|p| !p.is_root() && p.relative() != b"package.json")
            .collect();
        inside.iter().for_each(|path| drop(control.remove(path)));
        return Ok(Content::Package { tree: package.tree, control });
    }
    Ok(Content::Archive { compression: compression.name(), tree })
}

/// Reads from something that is read at offsets, in order.
struct Streamed<'a> {
    file: &'a dyn ReadAt,
    at: u64,
}

impl Read for Streamed<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let n = self.file.size().saturating_sub(self.at).min(buffer.len() as u64) as usize;
        self.file.read_exact_at(&mut buffer[..n], self.at)?;
        self.at += n as u64;
        Ok(n)
    }
}

/// Archives one behind the other, packed or not, zeros in between, as kernels read them: a packed one is the last.
fn read_initrd(
    file: &dyn ReadAt,
    blobs: &dyn BlobSink,
) -> std::result::Result<(Vec<&'static str>, Tree), cpio::CpioError> {
    let (mut parts, mut tree) = (Vec::new(), Tree::new());
    let mut input = Streamed { file, at: 0 };
    while input.at < file.size() {
        let start = file.read_vec(input.at, (file.size() - input.at).min(8))?;
        if start.iter().all(|b| *b == 0) {
            input.at += start.len().min(4) as u64;
            continue;
        }
        let compression = Compression::detect(&start);
        parts.push(compression.name());
        if compression == Compression::None {
            cpio::read_into(&mut tree, &mut input, blobs)?;
            continue;
        }
        let mut unpacked = BufReader::new(compression.decompress(BufReader::new(input))?);
        loop {
            let mut next = [0; 1];
            // Zeros fill up what is packed, too; another archive may follow inside.
            match unpacked.read(&mut next)? {
                0 => return Ok((parts, tree)),
                _ if next[0] == 0 => {}
                _ => cpio::read_into(&mut tree, &mut next.chain(&mut unpacked), blobs)?,
            }
        }
    }
    Ok((parts, tree))
}

fn reborrow<'o>(outline: &'o mut Outline<'_>) -> Outline<'o> {
    outline.as_mut().map(|(mark, outlines)| (*mark, &mut **outlines))
}

fn partition_view(
    file: &dyn ReadAt,
    partition: &Partition,
    kind: Option<String>,
    outline: Outline<'_>,
) -> PartitionView {
    let slice = Slice { inner: file, start: partition.start, length: partition.size };
    let mut view =
        PartitionView { partition: partition.clone(), kind, filesystem: None, tree: Tree::new(), damage: Vec::new() };
    if let Some((info, tree, damage)) = filesystem(&slice, &partition_name(partition), outline) {
        (view.filesystem, view.tree, view.damage) = (Some(info), tree, damage);
    }
    view
}

impl Artifact {
    /// Digest of its bytes; of a directory, as evidence counts it.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn digest(&self) -> Result<Digest> {
        if let Some(digest) = self.digest.get() {
            return Ok(*digest);
        }
        let digest = crate::outputs::artifact_digest(&self.path)?;
        Ok(*self.digest.get_or_init(|| digest))
    }

    /// The trees inside, to be corrected.
    pub(crate) fn trees_mut(&mut self) -> Vec<(String, &mut Tree)> {
        match &mut self.content {
            Content::Disk { partitions, .. } => {
                partitions.iter_mut().map(|p| (partition_name(&p.partition), &mut p.tree)).collect()
            }
            Content::Filesystem { tree, .. } => vec![(String::new(), tree)],
            _ => Vec::new(),
        }
    }

    /// Does something with the filesystem at a place.
    pub(crate) fn with_place<T>(&self, place: &str, use_it: impl FnOnce(&dyn ReadAt) -> Result<T>) -> Result<T> {
        match &self.content {
            Content::Disk { partitions, .. } => {
                let found = partitions.iter().find(|p| partition_name(&p.partition) == place);
                let p = found.ok_or_else(|| EngineError::other(format!("there is no {place}"), ""))?.partition.clone();
                self.with_disk(|disk| use_it(&Slice { inner: disk, start: p.start, length: p.size }))
            }
            _ => self.with_disk(use_it),
        }
    }

    /// The trees inside, each with the place it lies at: `partition boot`, `image 2026.3`, or nothing.
    pub fn trees(&self) -> Vec<(String, &Tree)> {
        match &self.content {
            Content::Disk { partitions, .. } => partitions
                .iter()
                .filter(|p| p.filesystem.is_some())
                .map(|p| (partition_name(&p.partition), &p.tree))
                .collect(),
            Content::Filesystem { tree, .. }
            | Content::Archive { tree, .. }
            | Content::Initrd { tree, .. }
            | Content::Manifest(tree)
            | Content::Directory(tree) => {
                vec![(String::new(), tree)]
            }
            Content::Package { tree, control } => vec![(String::new(), tree), ("control".to_string(), control)],
            Content::Oci { images, .. } => images.iter().map(|i| (image_name(i), &i.tree)).collect(),
            Content::Program(_) | Content::Bytes => Vec::new(),
        }
    }

    /// The plain bytes of the disk, container taken off.
    pub(crate) fn with_disk<T>(&self, use_it: impl FnOnce(&dyn ReadAt) -> Result<T>) -> Result<T> {
        let Some(file) = &self.plain else { return Err(EngineError::other("it is no file", "")) };
        if self.wrappings.iter().any(|w| matches!(w, Wrapping::Qcow2(_))) {
            let image = qcow2::Image::open(file)
                .map_err(|e| EngineError::other(format!("{}: {e}", self.path.display()), "get or build it again"))?;
            return use_it(&image);
        }
        use_it(file)
    }

    /// The bytes of a file in one of the trees.
    ///
    /// # Errors
    /// It is not there, or the artifact holds only its digest.
    pub fn read_file(&self, place: &str, path: &TreePath) -> Result<Vec<u8>> {
        if let Content::Directory(_) = &self.content {
            use std::os::unix::ffi::OsStrExt;
            let host = self.path.join(std::ffi::OsStr::from_bytes(path.relative()));
            return std::fs::read(&host).doing("read", host);
        }
        let shown = if place.is_empty() { path.to_string() } else { format!("{place}: {path}") };
        let fail = |e: &dyn std::fmt::Display| {
            EngineError::other(format!("{shown}: {e}"), "`embrak inspect --files` lists what is there")
        };
        // A link is read as what it leads to.
        let tree = self.trees().into_iter().find(|(p, _)| p == place).map(|(_, tree)| tree);
        let path = &tree.map_or_else(|| path.clone(), |tree| led_to(tree, path));
        let read = |slice: &dyn ReadAt| -> Result<Vec<u8>> {
            if let Ok(volume) = ext4::Volume::open(slice) {
                let mut bytes = Vec::new();
                let mut reader = volume.open_file(path).map_err(|e| fail(&e))?;
                reader.read_to_end(&mut bytes).map_err(|e| fail(&e))?;
                return Ok(bytes);
            }
            fat::Volume::open(slice).and_then(|v| v.read_file(path)).map_err(|e| fail(&e))
        };
        match &self.content {
            Content::Disk { partitions, .. } => {
                let found = partitions.iter().find(|p| partition_name(&p.partition) == place);
                let p = &found.ok_or_else(|| fail(&"no such partition"))?.partition;
                self.with_disk(|disk| read(&Slice { inner: disk, start: p.start, length: p.size }))
            }
            Content::Filesystem { .. } => self.with_disk(read),
            _ => {
                let entry = tree.and_then(|tree| tree.get(path).map(|e| tree.resolve_link(e).kind.clone()));
                let Some(Kind::File { digest, .. }) = entry else { return Err(fail(&"there is no such file")) };
                self.scratch.read(&digest).map_err(|_| fail(&"only its digest is known here, not its bytes"))
            }
        }
    }

    /// A file by its path in whichever tree has it.
    ///
    /// # Errors
    /// No tree has it.
    pub fn find_file(&self, path: &TreePath) -> Result<Vec<u8>> {
        let has = |tree: &Tree| tree.get(&led_to(tree, path)).is_some_and(|e| !e.is_directory());
        match self.trees().into_iter().find(|(_, tree)| has(tree)) {
            Some((place, _)) => self.read_file(&place, path),
            None => Err(EngineError::other(
                format!("{path} is not in {}", self.path.display()),
                "`embrak inspect --files` lists what is there",
            )),
        }
    }

    /// Identity that Embrak stamped into it, if it did.
    pub fn identity(&self) -> Option<serde_json::Value> {
        let path = TreePath::new("/usr/lib/embrak/image.json").ok()?;
        let bytes = self.find_file(&path).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    /// `PRETTY_NAME` of os-release(5), whoever made the image.
    pub fn system_name(&self) -> Option<String> {
        self.os_release("PRETTY_NAME")
    }

    /// A value of os-release(5).
    pub(crate) fn os_release(&self, key: &str) -> Option<String> {
        let bytes = self.find_file(&TreePath::new("/usr/lib/os-release").ok()?).ok()?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let value = text.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix('='))?;
        Some(value.trim_matches('"').to_string())
    }

    /// Packages by the stamped identity, or else by the distribution's database.
    pub fn packages(&self) -> Vec<InstalledPackage> {
        if let Some(list) = self.identity().as_ref().and_then(|i| i["packages"].as_array()) {
            let text = |v: &serde_json::Value| v.as_str().unwrap_or("?").to_string();
            return list
                .iter()
                .map(|p| InstalledPackage { name: text(&p["name"]), version: text(&p["version"]) })
                .collect();
        }
        let Some(bytes) = TreePath::new("/var/lib/dpkg/status").ok().and_then(|p| self.find_file(&p).ok()) else {
            return Vec::new();
        };
        let text = String::from_utf8_lossy(&bytes).into_owned();
        text.split("\n\n")
            .filter(|stanza| {
                stanza.contains("\nStatus: install ok installed") || stanza.starts_with("Status: install ok")
            })
            .filter_map(|stanza| {
                let field = |name: &str| stanza.lines().find_map(|l| l.strip_prefix(name)).map(str::trim);
                Some(InstalledPackage { name: field("Package:")?.to_string(), version: field("Version:")?.to_string() })
            })
            .collect()
    }

    /// How a system in it starts.
    pub fn boot_entries(&self) -> Vec<BootEntry> {
        if let Content::Program(program) = &self.content {
            let made = self.with_disk(|file| Ok(program_entry(file, program, self.path.display().to_string())));
            return made.into_iter().collect();
        }
        let mut out = Vec::new();
        for (place, tree) in self.trees() {
            for (path, entry) in tree.iter() {
                let lower = path.to_string().to_lowercase();
                let Kind::File { size, .. } = entry.kind else { continue };
                if lower.starts_with("/efi/") && lower.ends_with(".efi") && size < 1 << 30 {
                    let Ok(bytes) = self.read_file(&place, path) else { continue };
                    if let Ok(program) = pe::read(&bytes) {
                        out.push(program_entry(&bytes, &program, path.to_string()));
                    }
                } else if lower.starts_with("/loader/entries/") && lower.ends_with(".conf") {
                    let text = self.read_file(&place, path).unwrap_or_default();
                    out.push(loader_entry(&String::from_utf8_lossy(&text), path.to_string()));
                }
            }
        }
        out
    }
}

/// Where a path leads when the links on its way are followed, within one tree.
fn led_to(tree: &Tree, path: &TreePath) -> TreePath {
    let nothing = embrak_tree::MemoryBlobs::default();
    if tree.get(path).is_some_and(|e| !matches!(e.kind, Kind::Symlink { .. })) {
        return path.clone();
    }
    let root = embrak_root::Root::new(tree.clone(), &nothing, 0);
    root.resolve(&path.to_string(), true).unwrap_or_else(|_| path.clone())
}

fn program_entry(file: &dyn ReadAt, program: &pe::Program, path: String) -> BootEntry {
    let text = |name: &str| {
        let bytes = program.section(name).and_then(|s| pe::section_bytes(file, s, 64 << 10).ok()).unwrap_or_default();
        String::from_utf8_lossy(&bytes).trim_end_matches(['\0', '\n']).to_string()
    };
    let unified = program.section(".linux").is_some();
    let release = text(".osrel");
    let title = release.lines().find_map(|l| l.strip_prefix("PRETTY_NAME=")).map(|t| t.trim_matches('"').to_string());
    BootEntry {
        path,
        kind: if unified { "unified kernel image" } else { "UEFI program" },
        title: title.unwrap_or_default(),
        kernel: text(".uname"),
        command_line: text(".cmdline"),
        parts: program
            .sections
            .iter()
            .filter(|s| !unified || [".linux", ".initrd", ".osrel", ".cmdline", ".uname"].contains(&s.name.as_str()))
            .map(|s| format!("{} {}", s.name, crate::build::human(s.size)))
            .collect(),
        signed: program.signed,
    }
}

fn loader_entry(text: &str, path: String) -> BootEntry {
    let field = |name: &str| {
        let found = text.lines().find_map(|l| l.strip_prefix(name).filter(|r| r.starts_with([' ', '\t'])));
        found.map(|v| v.trim().to_string()).unwrap_or_default()
    };
    let parts = ["linux", "initrd"].iter().map(|n| field(n)).filter(|v| !v.is_empty()).collect();
    BootEntry {
        path,
        kind: "loader entry",
        title: field("title"),
        kernel: field("version"),
        command_line: field("options"),
        parts,
        signed: false,
    }
}

/// How a partition is named in places.
pub(crate) fn partition_name(partition: &Partition) -> String {
    if partition.label.is_empty() {
        format!("partition {}", partition.number)
    } else {
        format!("partition {}", partition.label)
    }
}

pub(crate) fn image_name(image: &OciImage) -> String {
    let name = image.descriptor.annotations.get("org.opencontainers.image.ref.name").cloned();
    format!("image {}", name.unwrap_or_else(|| image.descriptor.digest.short()))
}

/// What an artifact is, as a document.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Summary {
    /// `disk image`, `OCI archive` and so on.
    pub format: String,
    /// Bytes.
    pub size: u64,
    /// Digest of its bytes.
    pub digest: Digest,
    /// What lies around the content: packing, disk container.
    pub wrappings: Vec<Wrapping>,
    /// Identity stamped into it.
    pub identity: Option<serde_json::Value>,
    /// The system's own name, by os-release(5).
    pub system: Option<String>,
    /// Packages in it, whoever made it.
    pub packages: Vec<InstalledPackage>,
    /// How it starts.
    pub boot: Vec<BootEntry>,
    /// What is inside, by format.
    pub inside: serde_json::Value,
    /// What is not as it should be.
    pub damage: Vec<String>,
}

/// An artifact with its summary.
pub struct Inspection {
    /// The artifact.
    pub artifact: Artifact,
    /// The summary.
    pub summary: Summary,
}

/// Looks into an artifact.
///
/// # Errors
/// It cannot be read.
pub fn inspect(path: &Path) -> Result<Inspection> {
    let artifact = open_artifact(path)?;
    let files = |tree: &Tree| tree.iter().filter(|(_, e)| !e.is_directory()).count();
    let mut damage = Vec::new();
    let (format, inside) = match &artifact.content {
        Content::Disk { table, partitions } => {
            damage.extend(table.damage().iter().cloned());
            for view in partitions {
                damage.extend(view.damage.iter().map(|d| format!("{}: {d}", partition_name(&view.partition))));
            }
            let views: Vec<_> = partitions
                .iter()
                .map(|v| {
                    json!({
                        "partition": v.partition, "type": v.kind, "filesystem": v.filesystem,
                        "files": files(&v.tree), "contentBytes": v.tree.content_size(), "tree": v.tree.digest(),
                    })
                })
                .collect();
            let outside = match table {
                DiskTable::Gpt(table) => Some(table.outside_is_zero),
                DiskTable::Mbr(_) => None,
            };
            let inside = json!({ "table": table.name().to_lowercase(), "disk": table.id(), "partitions": views, "outsideIsZero": outside });
            ("disk image".to_string(), inside)
        }
        Content::Filesystem { info, tree, damage: found } => {
            damage.extend(found.iter().cloned());
            (
                format!("{} filesystem", info.kind()),
                json!({ "filesystem": info, "files": files(tree), "tree": tree.digest() }),
            )
        }
        Content::Initrd { parts, tree } => {
            let inside = json!({ "parts": parts, "files": files(tree), "contentBytes": tree.content_size(), "tree": tree.digest() });
            ("initial file system (cpio)".to_string(), inside)
        }
        Content::Package { tree, control } => {
            let inside = json!({ "files": files(tree), "contentBytes": tree.content_size(), "tree": tree.digest(), "control": control.digest() });
            ("package (Debian format)".to_string(), inside)
        }
        Content::Program(program) => ("UEFI program".to_string(), json!({ "program": program })),
        Content::Oci { archive, images } => {
            let views: Vec<_> = images
                .iter()
                .map(|i| {
                    json!({
                        "name": image_name(i), "manifest": i.descriptor.digest, "config": i.config, "layers": i.manifest.layers,
                        "files": files(&i.tree), "contentBytes": i.tree.content_size(), "tree": i.tree.digest(),
                    })
                })
                .collect();
            let format = if *archive { "OCI archive" } else { "OCI layout directory" };
            (format.to_string(), json!({ "images": views }))
        }
        Content::Archive { compression, tree } => {
            let inside = json!({ "compression": compression, "files": files(tree), "contentBytes": tree.content_size(), "tree": tree.digest() });
            ("tar archive".to_string(), inside)
        }
        Content::Manifest(tree) | Content::Directory(tree) => {
            let format = if matches!(artifact.content, Content::Manifest(_)) { "tree manifest" } else { "directory" };
            (
                format.to_string(),
                json!({ "files": files(tree), "contentBytes": tree.content_size(), "tree": tree.digest() }),
            )
        }
        Content::Bytes => ("unknown".to_string(), json!(null)),
    };
    let identity = artifact.identity();
    let summary = Summary {
        format,
        size: artifact.size,
        digest: artifact.digest()?,
        wrappings: artifact.wrappings.clone(),
        identity,
        system: artifact.system_name(),
        packages: artifact.packages(),
        boot: artifact.boot_entries(),
        inside,
        damage,
    };
    Ok(Inspection { artifact, summary })
}
