//! Looking into images, whoever made them. Formats are told by content, not by name.

use crate::error::{Doing, EngineError, Result};
use crate::sources;
use embrak_disk::fat::{FatInfo, Volume};
use embrak_disk::gpt::{self, Partition, Table};
use embrak_disk::{ReadAt, Slice, partition_type_name};
use embrak_oci::{Compression, OciImage, read_layout};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, DigestOnly, Kind, Tree, TreePath, tar};
use serde::Serialize;
use serde_json::json;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

/// A partition and what is on it.
#[derive(Debug, Clone)]
pub struct PartitionView {
    /// Its entry in the table.
    pub partition: Partition,
    /// The name of its type, if it has one.
    pub kind: Option<String>,
    /// Its filesystem, if it is one we read.
    pub filesystem: Option<FatInfo>,
    /// Its files.
    pub tree: Tree,
    /// What is not as it should be.
    pub damage: Vec<String>,
}

/// What an artifact is.
#[derive(Debug, Clone)]
pub enum Content {
    /// A disk with a partition table.
    Disk {
        /// The table.
        table: Table,
        /// The partitions in order.
        partitions: Vec<PartitionView>,
    },
    /// A FAT filesystem on its own.
    Fat {
        /// What its boot sector says.
        info: FatInfo,
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
    /// Digest of its bytes; of a directory, as evidence counts it.
    pub digest: Digest,
    /// What it is.
    pub content: Content,
    scratch: Store,
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
        let tree = sources::directory_tree(contents, path, 0, sources::Metadata::Plain)?;
        let (digest, size) = (tree.digest(), tree.content_size());
        let content = if is_layout {
            Content::Oci { archive: false, images: read_layout(&tree, &scratch, &scratch).map_err(|e| damaged(&e))? }
        } else {
            Content::Directory(tree)
        };
        return Ok(Artifact { path: path.to_path_buf(), size, digest, content, scratch, _dir: dir });
    }
    let file = File::open(path).doing("read", path)?;
    let size = ReadAt::size(&file);
    let content = content_of(&file, path, &scratch)?;
    let digest = embrak_tree::HashingReader::new(File::open(path).doing("read", path)?).finish().doing("read", path)?.0;
    Ok(Artifact { path: path.to_path_buf(), size, digest, content, scratch, _dir: dir })
}

fn content_of(file: &File, path: &Path, scratch: &Store) -> Result<Content> {
    let damaged =
        |e: &dyn std::fmt::Display| EngineError::other(format!("{}: {e}", path.display()), "get or build it again");
    if gpt::is_gpt(file) {
        let table = gpt::read(file).map_err(|e| damaged(&e))?;
        let partitions = table.partitions.iter().map(|p| partition_view(file, p)).collect();
        return Ok(Content::Disk { table, partitions });
    }
    if let Ok(volume) = Volume::open(file) {
        let (tree, damage) = volume.tree(&DigestOnly).map_err(|e| damaged(&e))?;
        return Ok(Content::Fat { info: volume.info().clone(), tree, damage });
    }
    let start = file.read_vec(0, ReadAt::size(file).min(64)).doing("read", path)?;
    if start.starts_with(b"{\"embrak-tree\":") {
        let text = std::fs::read_to_string(path).doing("read", path)?;
        return Ok(Content::Manifest(embrak_tree::parse_manifest(&text).map_err(|e| damaged(&e))?));
    }
    let compression = Compression::detect(&start);
    let open = || File::open(path).and_then(|f| compression.decompress(std::io::BufReader::new(f)));
    let mut head = Vec::new();
    open().doing("read", path)?.take(512).read_to_end(&mut head).ok();
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
    let compression = compression.name();
    Ok(Content::Archive { compression, tree })
}

fn partition_view(file: &File, partition: &Partition) -> PartitionView {
    let slice = Slice { inner: file, start: partition.start, length: partition.size };
    let mut view = PartitionView {
        partition: partition.clone(),
        kind: partition_type_name(&partition.kind),
        filesystem: None,
        tree: Tree::new(),
        damage: Vec::new(),
    };
    if let Ok(volume) = Volume::open(&slice) {
        view.filesystem = Some(volume.info().clone());
        match volume.tree(&DigestOnly) {
            Ok((tree, damage)) => (view.tree, view.damage) = (tree, damage),
            Err(error) => view.damage.push(error.to_string()),
        }
    }
    view
}

impl Artifact {
    /// The trees inside, each with the place it lies at: `partition boot`, `image 2026.3`, or nothing.
    pub fn trees(&self) -> Vec<(String, &Tree)> {
        match &self.content {
            Content::Disk { partitions, .. } => partitions
                .iter()
                .filter(|p| p.filesystem.is_some())
                .map(|p| (partition_name(&p.partition), &p.tree))
                .collect(),
            Content::Fat { tree, .. }
            | Content::Archive { tree, .. }
            | Content::Manifest(tree)
            | Content::Directory(tree) => {
                vec![(String::new(), tree)]
            }
            Content::Oci { images, .. } => images.iter().map(|i| (image_name(i), &i.tree)).collect(),
            Content::Bytes => Vec::new(),
        }
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
        let file = File::open(&self.path).doing("read", &self.path)?;
        let slice = match &self.content {
            Content::Disk { partitions, .. } => {
                let found = partitions.iter().find(|p| partition_name(&p.partition) == place);
                let p = &found.ok_or_else(|| fail(&"no such partition"))?.partition;
                Slice { inner: &file, start: p.start, length: p.size }
            }
            Content::Fat { .. } => Slice { inner: &file, start: 0, length: self.size },
            _ => {
                let tree = self.trees().into_iter().find(|(p, _)| p == place).map(|(_, tree)| tree);
                let entry = tree.and_then(|tree| tree.get(path).map(|e| tree.resolve_link(e).kind.clone()));
                let Some(Kind::File { digest, .. }) = entry else { return Err(fail(&"there is no such file")) };
                return self.scratch.read(&digest).map_err(|_| fail(&"only its digest is known here, not its bytes"));
            }
        };
        Volume::open(&slice).and_then(|v| v.read_file(path)).map_err(|e| fail(&e))
    }

    /// A file by its path in whichever tree has it.
    ///
    /// # Errors
    /// No tree has it.
    pub fn find_file(&self, path: &TreePath) -> Result<Vec<u8>> {
        let holder = self.trees().into_iter().find(|(_, tree)| tree.get(path).is_some_and(|e| !e.is_directory()));
        match holder {
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
    /// Identity stamped into it.
    pub identity: Option<serde_json::Value>,
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
            damage.extend(table.damage.iter().cloned());
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
            let inside = json!({ "table": "gpt", "disk": table.disk.to_string(), "partitions": views, "outsideIsZero": table.outside_is_zero });
            ("disk image".to_string(), inside)
        }
        Content::Fat { info, tree, damage: found } => {
            damage.extend(found.iter().cloned());
            (
                format!("{} filesystem", info.kind),
                json!({ "filesystem": info, "files": files(tree), "tree": tree.digest() }),
            )
        }
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
    let summary = Summary { format, size: artifact.size, digest: artifact.digest, identity, inside, damage };
    Ok(Inspection { artifact, summary })
}
