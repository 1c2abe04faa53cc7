//! From a composed root to files: disks, archives, container layouts.

use crate::build::{BuildOptions, human, interrupted};
use crate::compose::Composed;
use crate::error::{Doing, EngineError, Result};
use crate::events::{ActionStatus, Event};
use crate::lock::WriterVersions;
use crate::plan::{PlannedImage, Target, disk_of};
use crate::record::ActionRecord;
use crate::{Engine, sources};
use embrak_disk::fat::{self, FatOptions};
use embrak_disk::gpt::{self, NewPartition, RawPiece};
use embrak_disk::{Extents, Guid, emit, partition_type};
use embrak_model::definitions::{
    BoardDef, BootMethod, DiskDef, FilesystemKind, ImageDef, LayerCompression, Output, PartitionDef,
};
use embrak_model::{ByteSize, SizeSpec};
use embrak_oci::{Compression, Config, NewImage, write_layout};
use embrak_tree::{Digest, Entry, HashingWriter, Kind, Tree, TreePath, tar};
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
        let writer = Writer { engine, image, def, composed, path: path.clone() };
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
        return sources::directory_tree(sources::Contents::Known(engine.store), path, 0, sources::Metadata::Plain)
            .ok()
            .map(|t| t.digest());
    }
    engine.store.host_file(path, false).ok().map(|(digest, _)| digest)
}

/// The digest by which evidence knows a file or directory.
///
/// # Errors
/// It cannot be read.
pub(crate) fn artifact_digest(path: &Path) -> Result<Digest> {
    if path.is_dir() {
        return Ok(sources::directory_tree(sources::Contents::Digest, path, 0, sources::Metadata::Plain)?.digest());
    }
    let file = File::open(path).doing("read", path)?;
    Ok(embrak_tree::HashingReader::new(file).finish().doing("read", path)?.0)
}

struct Writer<'a> {
    engine: &'a Engine<'a>,
    image: &'a PlannedImage,
    def: &'a ImageDef,
    composed: &'a Composed,
    path: PathBuf,
}

impl Writer<'_> {
    fn key(&self, output: Output) -> Digest {
        let key = serde_json::json!({
            "output": output,
            "tree": self.composed.digest,
            "definition": self.image.locked.definition,
            "input": self.image.locked.input,
            "writers": WriterVersions::CURRENT,
            "path": self.path,
        });
        Digest::of(key.to_string())
    }

    fn epoch(&self) -> i64 {
        self.engine.workspace.def.epoch.0
    }

    fn write(&self, output: Output) -> Result<Known> {
        let tree = &self.composed.tree;
        let store = self.engine.store;
        match output {
            Output::DiskRaw => self.disk(),
            Output::RootTar => self.file(|out| tar::write_tree(tree, store, out).map(drop)),
            Output::RootTarGz => self.packed(Compression::Gzip),
            Output::RootTarZst => self.packed(Compression::Zstd),
            Output::Manifest => self.file(|out| out.write_all(tree.manifest().as_bytes())),
            Output::ContainerOciArchive => {
                let layout = self.container()?;
                self.file(|out| tar::write_tree(&layout, store, out).map(drop))
            }
            Output::ContainerOci => self.directory(&self.container()?),
        }
    }

    fn packed(&self, compression: Compression) -> Result<Known> {
        let (tree, store) = (&self.composed.tree, self.engine.store);
        self.file(|out| compression.compress(out, |inner| tar::write_tree(tree, store, inner).map(drop)).map(drop))
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
                let (uid, gid) = self.composed.users.owner(user)?;
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
        };
        Ok(write_layout(&image, store, store).doing("write", &self.path)?.layout)
    }

    fn disk(&self) -> Result<Known> {
        let (image, board) = (&self.image.image, self.image.board.as_ref());
        let Some(disk) = disk_of(image, board) else {
            return Err(EngineError::other(
                format!("neither image {} nor its board says how the disk is divided", self.image.target.image),
                "add [disk] with [[disk.partition]]",
            ));
        };
        let seed =
            Digest::of(format!("embrak identifiers 1\n{}\n{}", self.image.target.image, self.image.locked.input));
        let planned = plan_disk(&DiskInput {
            tree: &self.composed.tree,
            disk: &disk,
            board: board.map(|b| &b.def),
            seed,
            epoch: self.epoch(),
        })?;
        let beside = self.beside()?;
        let mut file = beside.as_file().try_clone().doing("write", &self.path)?;
        let emitted = emit(&planned.extents, self.engine.store, &mut file).doing("write", &self.path)?;
        self.finish(beside, emitted.digest, emitted.size, planned.partitions)
    }
}

/// What a disk is made of.
pub(crate) struct DiskInput<'a> {
    pub(crate) tree: &'a Tree,
    pub(crate) disk: &'a DiskDef,
    pub(crate) board: Option<&'a BoardDef>,
    pub(crate) seed: Digest,
    pub(crate) epoch: i64,
}

/// A disk that only has to be written.
pub(crate) struct PlannedDisk {
    pub(crate) extents: Extents,
    pub(crate) partitions: Vec<PartitionSummary>,
}

/// Computes a whole disk. Pure: blobs are named, not read.
pub(crate) fn plan_disk(input: &DiskInput<'_>) -> Result<PlannedDisk> {
    let architecture = input.board.map_or("x86_64", |b| b.architecture.as_str());
    let mounts: Vec<&str> =
        input.disk.partition.iter().filter_map(|p| p.mount.as_ref()).map(|m| m.value.as_str()).collect();
    let mut trees = Vec::new();
    let mut partitions = Vec::new();
    for (index, def) in input.disk.partition.iter().enumerate() {
        let kind = partition_type(&def.kind.value, architecture)
            .map_err(|message| EngineError::Definition { message, help: format!("written at {}", def.kind.at) })?;
        let mut tree = subtree(input.tree, def.mount.as_ref().map(|m| m.value.as_str()), &mounts)?;
        if def.kind.value == "esp" {
            add_boot_files(&mut tree, input)?;
        }
        let size = partition_size(def, &tree, input)?;
        let guid = Guid::derived(&input.seed, &format!("partition {}", index + 1));
        partitions.push(NewPartition { kind, guid, label: def.label.value.clone(), size });
        trees.push(tree);
    }
    let rest: Vec<usize> = input
        .disk
        .partition
        .iter()
        .enumerate()
        .filter(|(_, p)| p.size.value == SizeSpec::Rest)
        .map(|(i, _)| i)
        .collect();
    let disk_size = input.disk.size.as_ref().map(|s| s.value.0);
    if let Some(&index) = rest.first() {
        let def = &input.disk.partition[index];
        let help = format!("written at {}", def.size.at);
        let Some(total) = disk_size else {
            let message =
                format!("partition `{}` takes the rest of the disk, and the disk has no `size`", def.label.value);
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
    }
    let layout = gpt::plan(&partitions, disk_size).map_err(|e| EngineError::Definition {
        message: e.to_string(),
        help: "make partitions smaller or the disk larger".into(),
    })?;
    let mut contents = Vec::new();
    let mut summaries = Vec::new();
    for ((def, tree), placement) in input.disk.partition.iter().zip(&trees).zip(&layout.placements) {
        contents.push(filesystem(def, tree, placement, input)?);
        summaries.push(PartitionSummary {
            label: def.label.value.clone(),
            kind: def.kind.value.clone(),
            filesystem: match def.filesystem.value {
                FilesystemKind::Fat => "fat".into(),
                FilesystemKind::None => "none".into(),
            },
            start: placement.start,
            size: placement.size,
            content: tree.content_size(),
        });
    }
    let raw = raw_pieces(input)?;
    let extents = gpt::write(&layout, Guid::derived(&input.seed, "disk"), &partitions, contents, raw)
        .map_err(|e| EngineError::Definition { message: e.to_string(), help: "look at the board's [[raw]]".into() })?;
    Ok(PlannedDisk { extents, partitions: summaries })
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

/// What the firmware looks for on the EFI system partition.
fn add_boot_files(tree: &mut Tree, input: &DiskInput<'_>) -> Result<()> {
    let Some(board) = input.board.filter(|b| b.boot == BootMethod::EfiApp) else { return Ok(()) };
    let Some(app) = &board.efi_app else { return Ok(()) };
    let from =
        TreePath::new(&app.value).map_err(|e| EngineError::other(e.to_string(), format!("written at {}", app.at)))?;
    let Some(entry @ Entry { kind: Kind::File { .. }, .. }) = input.tree.get(&from) else {
        return Err(EngineError::Definition {
            message: format!("board {} starts {}, which is not in the image", board.board.value, app.value),
            help: format!("add the package that has it to the image or the board; written at {}", app.at),
        });
    };
    let at = TreePath::new(format!("/EFI/BOOT/{}", board.architecture.efi_default_name()))
        .unwrap_or_else(|_| TreePath::root());
    tree.insert(at, Entry { mtime: input.epoch, ..entry.clone() });
    tree.add_missing_directories(input.epoch);
    Ok(())
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

fn partition_size(def: &PartitionDef, tree: &Tree, input: &DiskInput<'_>) -> Result<u64> {
    match (def.size.value, def.filesystem.value) {
        (SizeSpec::Fixed(size), _) => Ok(size.0),
        (SizeSpec::Rest, _) => Ok(0),
        (SizeSpec::Fit { percent, extra }, FilesystemKind::Fat) => {
            let content = tree.content_size();
            let wanted = content.saturating_add(content / 100 * u64::from(percent)).saturating_add(extra.0);
            fat::smallest_size(tree, &fat_options(def, wanted, 0, input)).map_err(|e| filesystem_error(def, &e))
        }
        (SizeSpec::Fit { .. }, FilesystemKind::None) => Err(EngineError::Definition {
            message: format!(
                "partition `{}` has no filesystem, so there is no content its size could fit",
                def.label.value
            ),
            help: format!("give a size such as `64MiB`; written at {}", def.size.at),
        }),
    }
}

fn filesystem_error(def: &PartitionDef, error: &fat::WriteError) -> EngineError {
    let message = format!("partition `{}`: {error}", def.label.value);
    let help = match error {
        fat::WriteError::TooSmall { needed, have } => {
            format!("make it at least {} larger, or `fit+20%`; written at {}", human(needed - have), def.size.at)
        }
        _ => format!("written at {}", def.filesystem.at),
    };
    EngineError::Definition { message, help }
}

fn filesystem(def: &PartitionDef, tree: &Tree, placement: &gpt::Placement, input: &DiskInput<'_>) -> Result<Extents> {
    match def.filesystem.value {
        FilesystemKind::None => Ok(Extents::new()),
        FilesystemKind::Fat => {
            let options = fat_options(def, placement.size, placement.start, input);
            fat::write(tree, &options).map_err(|e| filesystem_error(def, &e))
        }
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
