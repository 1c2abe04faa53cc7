//! From a composed root to files: disks, archives, container layouts.

use crate::build::{BuildOptions, human, interrupted};
use crate::compose::Composed;
use crate::error::{Doing, EngineError, Result};
use crate::events::{ActionStatus, Event};
use crate::lock::WriterVersions;
use crate::plan::{PlannedImage, Target, disk_of};
use crate::record::ActionRecord;
use crate::{Engine, kernel, sources};
use embrak_disk::fat::{self, FatOptions};
use embrak_disk::gpt::{self, NewPartition, RawPiece};
use embrak_disk::{Extents, Guid, emit, ext4, mbr, partition_type, qcow2};
use embrak_model::definitions::{
    Architecture, BoardDef, DiskDef, FilesystemKind, ImageDef, LayerCompression, Output, PartitionAttribute,
    PartitionDef, TableKind,
};
use embrak_model::{ByteSize, SizeSpec};
use embrak_oci::{Compression, Config, NewImage, write_layout};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, Entry, HashingWriter, Kind, Tree, TreePath, tar};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use std::time::Instant;

/// One output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct OutputFile {
    /// The image.
    pub image: String,
    /// Board or architecture.
    pub target: String,
    /// `disk:raw` and so on.
    pub output: Output,
    /// File name.
    pub name: String,
    /// Where it was written.
    pub path: PathBuf,
    /// Bytes; of a directory, of all its files.
    pub size: u64,
    /// Digest of its bytes; of a directory, of its manifest with plain modes and times of 0.
    pub artifact: Digest,
    /// Content digest of the image's root.
    pub tree: Digest,
    /// What to do with it.
    pub advice: String,
    /// For disks, how it is divided.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub partitions: Vec<PartitionSummary>,
}

/// A partition of an output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct PartitionSummary {
    /// Its label.
    pub label: String,
    /// Its type as written.
    pub kind: String,
    /// `fat` and so on.
    pub filesystem: String,
    /// Offset in bytes.
    pub start: u64,
    /// Size in bytes.
    pub size: u64,
    /// Bytes of files in it.
    pub content: u64,
}

/// What `write_outputs` made.
pub(crate) struct Made {
    pub(crate) files: Vec<OutputFile>,
    pub(crate) actions: Vec<ActionRecord>,
}

/// A known result of an output.
#[derive(Serialize, Deserialize)]
struct Known {
    artifact: Digest,
    size: u64,
    partitions: Vec<PartitionSummary>,
}

/// Writes a small file: beside, synced, renamed.
///
/// # Errors
/// It cannot be written; what was there stays.
pub fn write_beside(path: &Path, bytes: &[u8]) -> Result<()> {
    let dir = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(dir).doing("write in", dir)?;
    file.write_all(bytes).and_then(|()| file.as_file().sync_all()).doing("write", path)?;
    use std::os::unix::fs::PermissionsExt;
    file.as_file().set_permissions(std::fs::Permissions::from_mode(0o644)).doing("write", path)?;
    file.persist(path).map_err(|e| e.error).doing("write", path)?;
    Ok(())
}

pub(crate) fn extension(output: Output) -> &'static str {
    match output {
        Output::DiskRaw => "raw",
        Output::DiskRawGz => "raw.gz",
        Output::DiskRawZst => "raw.zst",
        Output::DiskQcow2 => "qcow2",
        Output::DiskQcow2Compressed => "compressed.qcow2",
        Output::RootExt4 => "ext4",
        Output::InitrdCpio => "cpio",
        Output::InitrdCpioGz => "cpio.gz",
        Output::InitrdCpioXz => "cpio.xz",
        Output::InitrdCpioZst => "cpio.zst",
        Output::InitrdCpioLz4 => "cpio.lz4",
        Output::Kernel => "vmlinuz",
        Output::Uki => "efi",
        Output::RootTar => "tar",
        Output::RootTarGz => "tar.gz",
        Output::RootTarZst => "tar.zst",
        Output::ContainerOci => "oci",
        Output::ContainerOciArchive => "oci.tar",
        Output::Manifest => "tree.jsonl",
    }
}

/// The file name of an output: image, version, target, and the form's usual extension.
pub(crate) fn file_name(def: &ImageDef, target: &Target, output: Output) -> String {
    format!("{}-{}-{}.{}", target.image, def.version, target.label(), extension(output))
}

pub(crate) fn write_outputs(
    engine: &Engine<'_>,
    options: &BuildOptions,
    image: &PlannedImage,
    composed: &Composed,
    writers: WriterVersions,
    started: Instant,
) -> Result<Made> {
    let def = &image.image.def;
    let dir = options.out.join(&image.target.image).join(image.target.label());
    std::fs::create_dir_all(&dir).doing("make", &dir)?;
    // Two builds into one directory take turns.
    let lock_path = dir.join(".lock");
    let lock = File::options().create(true).append(true).open(&lock_path).doing("open", &lock_path)?;
    lock.lock().doing("lock", &lock_path)?;
    let mut made = Made { files: Vec::new(), actions: Vec::new() };
    for output in def.outputs.iter().map(|o| o.value).collect::<BTreeSet<_>>() {
        interrupted(engine)?;
        let begun = Instant::now();
        let name = file_name(def, &image.target, output);
        let path = dir.join(&name);
        let writer = Writer { engine, image, def, composed, writers, path: path.clone() };
        let key = writer.key(output);
        let known: Option<Known> = engine.store.action(&key)?.and_then(|text| serde_json::from_str(&text).ok());
        let there = known.filter(|known| digest_on_disk(engine, &path) == Some(known.artifact));
        let status = if there.is_some() { ActionStatus::Reused } else { ActionStatus::Built };
        let known = match there {
            Some(known) => known,
            None => {
                engine.observer.event(Event::Started(name.clone()));
                let known = writer.write(output)?;
                engine.store.record_action(
                    &key,
                    &serde_json::to_string(&known).unwrap_or_default(),
                    &BTreeSet::new(),
                )?;
                engine.observer.event(Event::Written { path: path.clone(), bytes: known.size });
                known
            }
        };
        let seconds = begun.elapsed().as_secs_f64();
        engine.observer.event(Event::Finished { label: name.clone(), status, seconds });
        made.actions.push(ActionRecord {
            label: name.clone(),
            key,
            status,
            started: begun.duration_since(started).as_secs_f64(),
            seconds,
            log: None,
        });
        made.files.push(OutputFile {
            image: image.target.image.clone(),
            target: image.target.label().to_string(),
            output,
            name,
            path,
            size: known.size,
            artifact: known.artifact,
            tree: composed.digest,
            advice: output.advice().to_string(),
            partitions: known.partitions,
        });
    }
    Ok(made)
}

/// The artifact digest of what lies at a path, file or directory.
fn digest_on_disk(engine: &Engine<'_>, path: &Path) -> Option<Digest> {
    if path.is_dir() {
        return crate::layout::tree_of(sources::Contents::Known(engine.store), path).ok().map(|t| t.digest());
    }
    engine.store.host_file(path, false).ok().map(|(digest, _)| digest)
}

/// The digest by which evidence knows a file or directory.
///
/// # Errors
/// It cannot be read.
pub(crate) fn artifact_digest(path: &Path) -> Result<Digest> {
    if path.is_dir() {
        return Ok(crate::layout::tree_of(sources::Contents::Digest, path)?.digest());
    }
    let file = File::open(path).doing("read", path)?;
    Ok(embrak_tree::HashingReader::new(file).finish().doing("read", path)?.0)
}

struct Writer<'a> {
    engine: &'a Engine<'a>,
    image: &'a PlannedImage,
    def: &'a ImageDef,
    composed: &'a Composed,
    /// As locked.
    writers: WriterVersions,
    path: PathBuf,
}

impl Writer<'_> {
    fn key(&self, output: Output) -> Digest {
        let key = serde_json::json!({
            "output": output,
            "tree": self.composed.digest,
            "definition": self.image.locked.definition,
            "input": self.image.locked.input,
            "writers": self.writers,
            "path": self.path,
        });
        Digest::of(key.to_string())
    }

    /// How archives are written.
    fn archive(&self) -> Result<tar::Version> {
        self.writers.tar()
    }

    fn epoch(&self) -> i64 {
        self.engine.workspace.def.epoch.0
    }

    fn write(&self, output: Output) -> Result<Known> {
        let tree = &self.composed.tree;
        let store = self.engine.store;
        match output {
            Output::DiskRaw
            | Output::DiskRawGz
            | Output::DiskRawZst
            | Output::DiskQcow2
            | Output::DiskQcow2Compressed => self.disk(output),
            Output::RootExt4 => {
                let extents = whole_root(&self.input()?)?;
                self.emitted(&extents, Vec::new())
            }
            Output::InitrdCpio => self.initrd(Compression::None),
            Output::InitrdCpioGz => self.initrd(Compression::Gzip),
            Output::InitrdCpioXz => self.initrd(Compression::Xz),
            Output::InitrdCpioZst => self.initrd(Compression::Zstd),
            Output::InitrdCpioLz4 => self.initrd(Compression::Lz4),
            Output::Kernel => {
                let kernel = kernel::kernel_of(tree, &self.image.target.image)?;
                self.file(|out| std::io::copy(&mut store.open(&kernel.digest)?, out).map(drop))
            }
            Output::Uki => {
                let extents = kernel::unified(&self.input()?)?;
                self.emitted(&extents, Vec::new())
            }
            Output::RootTar => self.emitted(&tar::archive(tree, self.archive()?), Vec::new()),
            Output::RootTarGz => self.packed(Compression::Gzip),
            Output::RootTarZst => self.packed(Compression::Zstd),
            Output::Manifest => self.file(|out| out.write_all(tree.manifest().as_bytes())),
            Output::ContainerOciArchive => self.emitted(&tar::archive(&self.container()?, self.archive()?), Vec::new()),
            Output::ContainerOci => self.directory(&self.container()?),
        }
    }

    fn packed(&self, compression: Compression) -> Result<Known> {
        let (tree, store, version) = (&self.composed.tree, self.engine.store, self.archive()?);
        self.file(|out| {
            compression.compress(out, |inner| tar::write_tree(tree, version, store, inner).map(drop)).map(drop)
        })
    }

    /// Writes a file beside its place, hashing on the way, then puts it there.
    fn file(&self, write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> Result<Known> {
        let beside = self.beside()?;
        let mut out = HashingWriter::new(BufWriter::with_capacity(1 << 20, beside.as_file()));
        write(&mut out).doing("write", &self.path)?;
        out.flush().doing("write", &self.path)?;
        let (_, artifact, size) = out.finish();
        self.finish(beside, artifact, size, Vec::new())
    }

    fn beside(&self) -> Result<tempfile::NamedTempFile> {
        let dir = self.path.parent().unwrap_or(Path::new("."));
        tempfile::Builder::new().prefix(".embrak-").tempfile_in(dir).doing("write in", dir)
    }

    fn finish(
        &self,
        file: tempfile::NamedTempFile,
        artifact: Digest,
        size: u64,
        partitions: Vec<PartitionSummary>,
    ) -> Result<Known> {
        use std::os::unix::fs::PermissionsExt;
        let handle = file.as_file();
        handle
            .set_permissions(std::fs::Permissions::from_mode(0o644))
            .and_then(|()| handle.sync_all())
            .doing("write", &self.path)?;
        // An old directory of the same name would be in the way.
        file.persist(&self.path).map_err(|e| e.error).doing("write", &self.path)?;
        self.engine.store.remember_file(&self.path, &artifact)?;
        Ok(Known { artifact, size, partitions })
    }

    /// Writes a directory beside its place, then exchanges it for what is there.
    fn directory(&self, tree: &Tree) -> Result<Known> {
        let dir = self.path.parent().unwrap_or(Path::new("."));
        let beside = tempfile::Builder::new().prefix(".embrak-").tempdir_in(dir).doing("write in", dir)?;
        let new = beside.path().join("new");
        std::fs::create_dir(&new).doing("make", &new)?;
        self.engine.store.copy_out(tree, &new)?;
        if self.path.exists() {
            std::fs::rename(&self.path, beside.path().join("old")).doing("replace", &self.path)?;
        }
        std::fs::rename(&new, &self.path).doing("write", &self.path)?;
        let artifact = digest_on_disk(self.engine, &self.path).ok_or_else(|| {
            EngineError::other(format!("{} cannot be read back", self.path.display()), "look at its permissions")
        })?;
        Ok(Known { artifact, size: tree.content_size(), partitions: Vec::new() })
    }

    fn container(&self) -> Result<Tree> {
        let store = self.engine.store;
        let Some(container) = &self.def.container else {
            return Err(EngineError::other(
                format!("image {} has no [container]", self.image.target.image),
                "add one, or drop the output",
            ));
        };
        let user = match &container.user {
            None => String::new(),
            Some(user) => {
                let (uid, gid) = self.composed.owner(user)?;
                format!("{uid}:{gid}")
            }
        };
        let named = |list: &[embrak_model::Located<String>]| {
            list.iter().map(|p| (p.value.clone(), Default::default())).collect()
        };
        let config = Config {
            user,
            exposed_ports: named(&container.ports),
            env: container.env.iter().map(|(name, value)| format!("{name}={value}")).collect(),
            entrypoint: container.entrypoint.clone(),
            cmd: container.command.clone(),
            volumes: named(&container.volumes),
            working_dir: container.workdir.clone().unwrap_or_default(),
            labels: container.labels.clone(),
        };
        if let Some(program) = container.entrypoint.first()
            && TreePath::new(program).is_ok_and(|path| self.composed.tree.get(&path).is_none())
        {
            return Err(EngineError::Definition {
                message: format!("the entrypoint {program} is not in the image {}", self.image.target.image),
                help: "add the package that has it, or correct `entrypoint` under [container]".into(),
            });
        }
        let annotations: BTreeMap<String, String> = [
            ("org.opencontainers.image.title", self.image.target.image.clone()),
            ("org.opencontainers.image.version", self.def.version.clone()),
            ("example.embrak.input", self.image.locked.input.to_string()),
            ("example.embrak.tree", self.composed.digest.to_string()),
        ]
        .map(|(name, value)| (name.to_string(), value))
        .into();
        let image = NewImage {
            tree: &self.composed.tree,
            architecture: self.image.target.architecture.oci(),
            created: &self.engine.workspace.def.epoch.to_string(),
            mtime: self.epoch(),
            reference: &self.def.version,
            config,
            annotations,
            compression: match container.compression {
                LayerCompression::Gzip => Compression::Gzip,
                LayerCompression::Zstd => Compression::Zstd,
            },
            archive: self.archive()?,
        };
        Ok(write_layout(&image, store, store).doing("write", &self.path)?.layout)
    }

    fn input(&self) -> Result<DiskInput<'_>> {
        let (image, board) = (&self.image.image, self.image.board.as_ref());
        Ok(DiskInput {
            tree: &self.composed.tree,
            disk: disk_of(image, board),
            board: board.map(|b| &b.def),
            image: &image.def,
            seed: seed_of(self.image),
            epoch: self.epoch(),
            store: self.engine.store,
            target: self.image.target.architecture,
        })
    }

    fn initrd(&self, compression: Compression) -> Result<Known> {
        let store = self.engine.store;
        let input = self.input()?;
        let tree = match &self.def.initrd {
            Some(def) if def.file.is_none() => kernel::initrd_tree(&input, def)?,
            Some(_) => {
                let Some((digest, _)) = kernel::initrd(&input)? else {
                    return Err(EngineError::other("there is no initial file system", "look at [initrd]"));
                };
                return self.file(|out| std::io::copy(&mut store.open(&digest)?, out).map(drop));
            }
            None => {
                let mut tree = self.composed.tree.clone();
                let init = TreePath::root().join("init").unwrap_or_else(|_| TreePath::root());
                if tree.get(&init).is_none() {
                    tree.insert(init, Entry::symlink("sbin/init").dated(self.epoch()));
                }
                tree
            }
        };
        self.file(|out| {
            compression.compress(out, |inner| embrak_tree::cpio::write_tree(&tree, store, inner).map(drop)).map(drop)
        })
    }

    /// Writes what is computed, with holes.
    fn emitted(&self, extents: &Extents, partitions: Vec<PartitionSummary>) -> Result<Known> {
        let beside = self.beside()?;
        let mut file = beside.as_file().try_clone().doing("write", &self.path)?;
        let emitted = emit(extents, self.engine.store, &mut file).doing("write", &self.path)?;
        self.finish(beside, emitted.digest, emitted.size, partitions)
    }

    fn disk(&self, output: Output) -> Result<Known> {
        let store = self.engine.store;
        let planned = plan_disk(&self.input()?)?;
        let packed = |compression: Compression| {
            let mut known =
                self.file(|out| compression.compress(out, |inner| planned.extents.write_to(store, inner)).map(drop))?;
            known.partitions = planned.partitions.clone();
            Ok(known)
        };
        match output {
            Output::DiskRawGz => packed(Compression::Gzip),
            Output::DiskRawZst => packed(Compression::Zstd),
            Output::DiskQcow2 => self.emitted(&qcow2::wrap(&planned.extents), planned.partitions),
            Output::DiskQcow2Compressed => {
                let beside = self.beside()?;
                let mut file = beside.as_file().try_clone().doing("write", &self.path)?;
                let (digest, size) =
                    qcow2::write_compressed(&planned.extents, store, &mut file).doing("write", &self.path)?;
                self.finish(beside, digest, size, planned.partitions)
            }
            _ => self.emitted(&planned.extents, planned.partitions),
        }
    }
}

/// What every identifier of an image's outputs follows from.
pub(crate) fn seed_of(image: &PlannedImage) -> Digest {
    Digest::of(format!("embrak identifiers 1\n{}\n{}", image.target.image, image.locked.input))
}

/// What a disk is made of.
pub(crate) struct DiskInput<'a> {
    pub(crate) tree: &'a Tree,
    pub(crate) disk: Option<DiskDef>,
    pub(crate) board: Option<&'a BoardDef>,
    pub(crate) image: &'a ImageDef,
    pub(crate) seed: Digest,
    pub(crate) epoch: i64,
    pub(crate) store: &'a Store,
    pub(crate) target: Architecture,
}

impl DiskInput<'_> {
    /// The architecture things are for: the board's, or the target's.
    pub(crate) fn architecture(&self) -> Architecture {
        self.board.map_or(self.target, |b| b.architecture)
    }

    /// The UUID of the filesystem of a partition by its place in the list, most significant byte first.
    fn filesystem_uuid(&self, index: usize) -> [u8; 16] {
        let text = Guid::derived(&self.seed, &format!("filesystem {}", index + 1)).to_string().replace('-', "");
        let mut out = [0; 16];
        for (byte, digits) in out.iter_mut().zip(text.as_bytes().chunks(2)) {
            *byte = std::str::from_utf8(digits).ok().and_then(|d| u8::from_str_radix(d, 16).ok()).unwrap_or(0);
        }
        out
    }

    /// How the kernel's command line names the partition of the root; nothing when no partition is.
    pub(crate) fn root_partition(&self) -> Option<String> {
        let (index, _) = self.disk.as_ref()?.partition.iter().enumerate().find(|(_, p)| {
            p.filesystem.value == FilesystemKind::Ext4 && p.mount.as_ref().is_some_and(|m| m.value == "/")
        })?;
        // The kernel alone knows partitions only; an initial file system can look into them.
        Some(match self.image.initrd {
            Some(_) => format!("UUID={}", Guid::derived(&self.seed, &format!("filesystem {}", index + 1))),
            None => format!("PARTUUID={}", Guid::derived(&self.seed, &format!("partition {}", index + 1))),
        })
    }
}

/// A disk that only has to be written.
pub(crate) struct PlannedDisk {
    pub(crate) extents: Extents,
    pub(crate) partitions: Vec<PartitionSummary>,
}

/// A partition while the disk is planned.
struct Content {
    tree: Tree,
    /// Prepared for ext4, when that is what it is to be.
    ext4: Option<ext4::Content>,
}

/// Computes a whole disk: blobs are named, not read, but for what is small or has holes.
pub(crate) fn plan_disk(input: &DiskInput<'_>) -> Result<PlannedDisk> {
    let Some(disk) = &input.disk else {
        return Err(EngineError::other(
            format!("neither image {} nor its board says how the disk is divided", input.image.image.value),
            "add [disk] with [[disk.partition]]",
        ));
    };
    let mounts: Vec<&str> = disk.partition.iter().filter_map(|p| p.mount.as_ref()).map(|m| m.value.as_str()).collect();
    let mut contents = Vec::new();
    let mut partitions = Vec::new();
    for (index, def) in disk.partition.iter().enumerate() {
        let help = || format!("written at {}", def.kind.at);
        let kind = match (disk.table, partition_type(&def.kind.value, input.architecture().as_str())) {
            (TableKind::Mbr, _) if mbr::type_byte(&def.kind.value).is_none() => {
                return Err(EngineError::Definition {
                    message: format!("`{}` is no partition type of a master boot record", def.kind.value),
                    help: format!("write such as `esp`, `root` or a byte such as `0x0c`; {}", help()),
                });
            }
            (TableKind::Mbr, kind) => kind.unwrap_or_default(),
            (TableKind::Gpt, Ok(kind)) => kind,
            (TableKind::Gpt, Err(message)) => return Err(EngineError::Definition { message, help: help() }),
        };
        let mut tree = subtree(input.tree, def.mount.as_ref().map(|m| m.value.as_str()), &mounts)?;
        if def.kind.value == "esp" {
            kernel::boot_files(&mut tree, input)?;
        }
        let ext4 = match def.filesystem.value {
            FilesystemKind::Ext4 => {
                let made = ext4::Content::of(&tree, input.store, input.epoch);
                Some(made.map_err(|e| ext4_error(def, &tree, &e))?)
            }
            _ => None,
        };
        let content = Content { tree, ext4 };
        let size = partition_size(def, index, &content, input)?;
        let guid = Guid::derived(&input.seed, &format!("partition {}", index + 1));
        partitions.push(NewPartition { kind, guid, label: def.label.value.clone(), size, attributes: attributes(def) });
        contents.push(content);
    }
    let disk_size = rest(disk, &mut partitions)?;
    let planned = match disk.table {
        TableKind::Gpt => gpt::plan(&partitions, disk_size),
        TableKind::Mbr => mbr::plan(&partitions, disk_size),
    };
    let layout = planned.map_err(|e| EngineError::Definition {
        message: e.to_string(),
        help: "make partitions smaller or fewer, or the disk larger".into(),
    })?;
    let mut bodies = Vec::new();
    let mut summaries = Vec::new();
    for (index, ((def, content), placement)) in disk.partition.iter().zip(&contents).zip(&layout.placements).enumerate()
    {
        bodies.push(filesystem(def, index, content, placement, input)?);
        summaries.push(PartitionSummary {
            label: def.label.value.clone(),
            kind: def.kind.value.clone(),
            filesystem: match def.filesystem.value {
                FilesystemKind::Fat => "fat".into(),
                FilesystemKind::Ext4 => "ext4".into(),
                FilesystemKind::None => "none".into(),
            },
            start: placement.start,
            size: placement.size,
            content: content.tree.content_size(),
        });
    }
    let raw = raw_pieces(input)?;
    let written = match disk.table {
        TableKind::Gpt => gpt::write(&layout, Guid::derived(&input.seed, "disk"), &partitions, bodies, raw),
        TableKind::Mbr => {
            let types: Vec<(u8, bool)> = disk
                .partition
                .iter()
                .map(|p| {
                    let start = p.attributes.contains(&PartitionAttribute::LegacyBoot);
                    (mbr::type_byte(&p.kind.value).unwrap_or(0x83), start)
                })
                .collect();
            let guid = Guid::derived(&input.seed, "disk").0;
            let signature = u32::from_le_bytes([guid[0], guid[1], guid[2], guid[3]]);
            mbr::write(&layout, signature, &types, &partitions, bodies, raw)
        }
    };
    let extents = written
        .map_err(|e| EngineError::Definition { message: e.to_string(), help: "look at the board's [[raw]]".into() })?;
    Ok(PlannedDisk { extents, partitions: summaries })
}

/// Gives the partition that takes the rest of the disk its size; the disk's size, when one is said.
fn rest(disk: &DiskDef, partitions: &mut [NewPartition]) -> Result<Option<u64>> {
    let rest: Vec<usize> =
        disk.partition.iter().enumerate().filter(|(_, p)| p.size.value == SizeSpec::Rest).map(|(i, _)| i).collect();
    let disk_size = disk.size.as_ref().map(|s| s.value.0);
    let Some(&index) = rest.first() else { return Ok(disk_size) };
    let def = &disk.partition[index];
    let help = format!("written at {}", def.size.at);
    let Some(total) = disk_size else {
        let message = format!("partition `{}` takes the rest of the disk, and the disk has no `size`", def.label.value);
        return Err(EngineError::Definition { message, help });
    };
    if rest.len() > 1 {
        return Err(EngineError::Definition { message: "two partitions take the rest of the disk".into(), help });
    }
    let others: u64 = partitions
        .iter()
        .enumerate()
        .filter(|(i, _)| *i != index)
        .map(|(_, p)| embrak_disk::round_up(p.size, gpt::ALIGNMENT))
        .sum();
    partitions[index].size = total.saturating_sub(others + 2 * gpt::ALIGNMENT).max(gpt::ALIGNMENT);
    Ok(disk_size)
}

/// Attribute bits (UEFI specification 5.3.3; Discoverable Partitions Specification).
fn attributes(def: &PartitionDef) -> u64 {
    let own = def.attributes.iter().map(|a| match a {
        PartitionAttribute::Required => 1,
        PartitionAttribute::LegacyBoot => 1 << 2,
        PartitionAttribute::ReadOnly => 1 << 60,
        PartitionAttribute::NoAuto => 1 << 63,
    });
    // Bit 59: the filesystem grows to the size of its partition.
    own.chain([u64::from(def.grow) << 59]).fold(0, |all, bit| all | bit)
}

/// The entries below a mount point, other mount points' left out, with paths from there.
fn subtree(tree: &Tree, mount: Option<&str>, mounts: &[&str]) -> Result<Tree> {
    let path = |text: &str| TreePath::new(text).map_err(|e| EngineError::other(e.to_string(), "run `embrak check`"));
    let Some(mount) = mount else { return Ok(Tree::new()) };
    let base = path(mount)?;
    let mut others = Vec::new();
    for other in mounts {
        let other = path(other)?;
        if other != base && other.starts_with(&base) {
            others.push(other);
        }
    }
    let skip = if base.is_root() { 0 } else { base.as_bytes().len() };
    let mut out = Tree::new();
    for (at, entry) in tree.iter().filter(|(at, _)| at.starts_with(&base)) {
        if others.iter().any(|other| at.starts_with(other) && at != other) {
            continue;
        }
        let mut entry = entry.clone();
        if let Kind::Hardlink { target } = &entry.kind {
            if !target.starts_with(&base) || others.iter().any(|o| target.starts_with(o)) {
                entry = tree.resolve_link(&entry).clone();
            } else {
                entry.kind = Kind::Hardlink {
                    target: TreePath::from_relative(&target.as_bytes()[skip..]).unwrap_or_else(|_| TreePath::root()),
                };
            }
        }
        let to = TreePath::from_relative(&at.as_bytes()[skip..])
            .map_err(|e| EngineError::other(e.to_string(), "shorten the path"))?;
        out.insert(to, entry);
    }
    Ok(out)
}

fn fat_options(def: &PartitionDef, size: u64, start: u64, input: &DiskInput<'_>) -> FatOptions {
    let serial = Digest::of(format!("{}\nserial\n{}", input.seed, def.label.value));
    let raw = serial.raw();
    FatOptions {
        size,
        label: def.label.value.clone(),
        serial: u32::from_le_bytes([raw[0], raw[1], raw[2], raw[3]]),
        mtime: input.epoch,
        hidden_sectors: u32::try_from(start / embrak_disk::SECTOR).unwrap_or(u32::MAX),
    }
}

fn ext4_options(def: &PartitionDef, index: usize, size: u64, input: &DiskInput<'_>) -> ext4::Ext4Options {
    ext4::Ext4Options {
        size,
        label: def.label.value.clone(),
        uuid: input.filesystem_uuid(index),
        mtime: input.epoch,
        reserved_percent: def.reserved.unwrap_or(1),
        journal: true,
    }
}

fn partition_size(def: &PartitionDef, index: usize, content: &Content, input: &DiskInput<'_>) -> Result<u64> {
    let (percent, extra) = match def.size.value {
        SizeSpec::Fixed(size) => return Ok(size.0),
        SizeSpec::Rest => return Ok(0),
        SizeSpec::Fit { percent, extra } => (u64::from(percent), extra.0),
    };
    if def.filesystem.value == FilesystemKind::None {
        return Err(EngineError::Definition {
            message: format!(
                "partition `{}` has no filesystem, so there is no content its size could fit",
                def.label.value
            ),
            help: format!("give a size such as `64MiB`; written at {}", def.size.at),
        });
    }
    if let Some(ext4) = &content.ext4 {
        let smallest = ext4
            .smallest_size(&ext4_options(def, index, 1 << 20, input))
            .map_err(|e| ext4_error(def, &content.tree, &e))?;
        let wanted = smallest.saturating_add(smallest / 100 * percent).saturating_add(extra);
        return Ok(embrak_disk::round_up(wanted, 1 << 20));
    }
    let bytes = content.tree.content_size();
    let wanted = bytes.saturating_add(bytes / 100 * percent).saturating_add(extra);
    fat::smallest_size(&content.tree, &fat_options(def, wanted, 0, input))
        .map_err(|e| filesystem_error(def, &content.tree, &e))
}

/// The root alone as a filesystem, as large as it has to be.
fn whole_root(input: &DiskInput<'_>) -> Result<Extents> {
    let fail = |e: ext4::WriteError| EngineError::other(format!("the root as ext4: {e}"), "look at the files it names");
    let content = ext4::Content::of(input.tree, input.store, input.epoch).map_err(fail)?;
    let mut options = ext4::Ext4Options {
        size: 1 << 20,
        label: "root".into(),
        uuid: input.filesystem_uuid(0),
        mtime: input.epoch,
        reserved_percent: 1,
        journal: true,
    };
    options.size = content.smallest_size(&options).map_err(fail)?;
    content.write(&options).map_err(fail)
}

/// The largest directories, for whoever has to make room.
fn largest(tree: &Tree) -> String {
    let mut sizes: BTreeMap<Vec<u8>, u64> = BTreeMap::new();
    for (path, entry) in tree.iter() {
        if let Kind::File { size, .. } = entry.kind {
            let parts: Vec<&[u8]> = path.relative().split(|b| *b == b'/').collect();
            let shown = parts[..parts.len().saturating_sub(1).min(3)].join(&b'/');
            *sizes.entry([b"/".as_slice(), &shown].concat()).or_default() += size;
        }
    }
    let mut sizes: Vec<_> = sizes.into_iter().collect();
    sizes.sort_by_key(|(_, size)| std::cmp::Reverse(*size));
    let shown: Vec<String> = sizes
        .iter()
        .take(4)
        .map(|(path, size)| format!("{} {}", String::from_utf8_lossy(path), human(*size)))
        .collect();
    format!("the largest directories are {}", shown.join(", "))
}

fn ext4_error(def: &PartitionDef, tree: &Tree, error: &ext4::WriteError) -> EngineError {
    let message = format!("partition `{}`: {error}", def.label.value);
    let help = match error {
        ext4::WriteError::TooSmall { needed, have } => format!(
            "make it at least {} larger, or `fit+20%`; {}; written at {}",
            human(needed - have),
            largest(tree),
            def.size.at
        ),
        _ => format!("written at {}", def.filesystem.at),
    };
    EngineError::Definition { message, help }
}

fn filesystem_error(def: &PartitionDef, tree: &Tree, error: &fat::WriteError) -> EngineError {
    let message = format!("partition `{}`: {error}", def.label.value);
    let help = match error {
        fat::WriteError::TooSmall { needed, have } => {
            let more = human(needed - have);
            format!("make it at least {more} larger, or `fit+20%`; {}; written at {}", largest(tree), def.size.at)
        }
        _ => format!("written at {}", def.filesystem.at),
    };
    EngineError::Definition { message, help }
}

fn filesystem(
    def: &PartitionDef,
    index: usize,
    content: &Content,
    placement: &gpt::Placement,
    input: &DiskInput<'_>,
) -> Result<Extents> {
    match (def.filesystem.value, &content.ext4) {
        (FilesystemKind::Ext4, Some(ext4)) => {
            ext4.write(&ext4_options(def, index, placement.size, input)).map_err(|e| ext4_error(def, &content.tree, &e))
        }
        (FilesystemKind::Fat, _) => {
            let options = fat_options(def, placement.size, placement.start, input);
            fat::write(&content.tree, &options).map_err(|e| filesystem_error(def, &content.tree, &e))
        }
        (FilesystemKind::None | FilesystemKind::Ext4, _) => Ok(Extents::new()),
    }
}

fn raw_pieces(input: &DiskInput<'_>) -> Result<Vec<RawPiece>> {
    let mut pieces = Vec::new();
    for raw in input.board.iter().flat_map(|b| &b.raw) {
        let missing = || EngineError::Definition {
            message: format!(
                "{} is to be written at {}, and is not in the image",
                raw.from.value,
                ByteSize(raw.offset.value.0)
            ),
            help: format!("add the package that has it to the board; written at {}", raw.from.at),
        };
        let path = TreePath::new(&raw.from.value).map_err(|_| missing())?;
        let Some(Kind::File { digest, size }) = input.tree.get(&path).map(|e| e.kind.clone()) else {
            return Err(missing());
        };
        let mut content = Extents::new();
        content.blob(digest, size);
        pieces.push(RawPiece { what: raw.from.value.clone(), offset: raw.offset.value.0, content });
    }
    Ok(pieces)
}
