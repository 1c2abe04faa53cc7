//! Auditing images: hands what is in an artifact to the rules.

use crate::error::{Doing, EngineError, Result};
use crate::inspect::{Artifact, Content};
use embrak_audit::{BootFile, Fill, Package, Profile, Subject};
use embrak_disk::{ReadAt, Slice, ext4, fat};
use embrak_model::Workspace;
use embrak_tree::{BlobSource, Kind, Tree, TreePath};
use std::io::Read;
use std::path::{Path, PathBuf};

impl Artifact {
    /// Gives the bytes of many files of one place, one by one; what cannot be read is left out. The filesystem is opened
    /// once.
    pub fn each_file(&self, place: &str, paths: &[&TreePath], take: &mut dyn FnMut(&TreePath, &[u8])) {
        let Some((_, tree)) = self.trees().into_iter().find(|(p, _)| p == place) else { return };
        let from_volume = |slice: &dyn ReadAt, take: &mut dyn FnMut(&TreePath, &[u8])| {
            if let Ok(volume) = ext4::Volume::open(slice) {
                for path in paths {
                    let mut bytes = Vec::new();
                    if volume.open_file(path).is_ok_and(|mut file| file.read_to_end(&mut bytes).is_ok()) {
                        take(path, &bytes);
                    }
                }
            } else if let Ok(volume) = fat::Volume::open(slice) {
                for path in paths {
                    if let Ok(bytes) = volume.read_file(path) {
                        take(path, &bytes);
                    }
                }
            }
        };
        match &self.content {
            Content::Disk { partitions, .. } => {
                let found = partitions.iter().find(|p| crate::inspect::partition_name(&p.partition) == place);
                let Some(p) = found.map(|v| &v.partition) else { return };
                let _ = self.with_disk(|disk| {
                    from_volume(&Slice { inner: disk, start: p.start, length: p.size }, take);
                    Ok(())
                });
            }
            Content::Filesystem { .. } => {
                let _ = self.with_disk(|disk| {
                    from_volume(disk, take);
                    Ok(())
                });
            }
            Content::Directory(_) => {
                for path in paths {
                    if let Ok(bytes) = self.read_file(place, path) {
                        take(path, &bytes);
                    }
                }
            }
            _ => {
                for path in paths {
                    let Some(entry) = tree.get(path) else { continue };
                    if let Kind::File { digest, .. } = tree.resolve_link(entry).kind
                        && let Ok(bytes) = self.scratch.read(&digest)
                    {
                        take(path, &bytes);
                    }
                }
            }
        }
    }

    /// Hands what is in it to something that judges it.
    pub fn audited<T>(&self, judge: impl FnOnce(&Subject<'_>) -> T) -> T {
        let read = |place: &str, paths: &[&TreePath], take: &mut dyn FnMut(&TreePath, &[u8])| {
            self.each_file(place, paths, take);
        };
        let epoch = self.identity().and_then(|i| i["epoch"].as_i64());
        // Advisories for one release say nothing of the packages of another.
        let release = self.os_release("VERSION_ID");
        let packages = self.materials().into_iter().map(|p| Package {
            name: p.name,
            version: p.version,
            source: p.source,
            ecosystem: match &release {
                Some(release) if p.namespace != crate::bill::OWN => format!("{}:{release}", p.namespace),
                _ => p.namespace,
            },
        });
        judge(&Subject {
            trees: self.trees(),
            read: &read,
            fills: self.fills(),
            boot: self
                .boot_entries()
                .into_iter()
                .map(|b| BootFile {
                    program: b.kind != "loader entry",
                    path: b.path,
                    signed: b.signed,
                    command_line: b.command_line,
                })
                .collect(),
            packages: packages.collect(),
            newest: epoch.unwrap_or_else(|| jiff::Timestamp::now().as_second()),
        })
    }

    fn fills(&self) -> Vec<Fill> {
        let Content::Disk { partitions, .. } = &self.content else { return Vec::new() };
        partitions
            .iter()
            .filter_map(|view| {
                let (used, size) = view.filesystem.as_ref()?.fill();
                let (grows, read_only) = (1 << 59, 1u64 << 60);
                Some(Fill {
                    place: crate::inspect::partition_name(&view.partition),
                    used,
                    size,
                    fixed: view.partition.attributes & (grows | read_only) != 0,
                })
            })
            .collect()
    }
}

/// The profiles of a workspace's layers: files in their `profiles` directories, by name.
///
/// # Errors
/// One cannot be read or is none.
pub fn profiles(workspace: &Workspace) -> Result<Vec<(Profile, PathBuf)>> {
    let mut all = Vec::new();
    for layer in &workspace.layers {
        let dir = layer.dir.join("profiles");
        let mut files: Vec<PathBuf> = match std::fs::read_dir(&dir) {
            Ok(entries) => entries.flatten().map(|e| e.path()).collect(),
            Err(_) => continue,
        };
        files.retain(|p| p.extension().is_some_and(|e| e == "toml"));
        files.sort();
        for file in files {
            all.push((profile(&file)?, file));
        }
    }
    Ok(all)
}

/// A profile of a file.
///
/// # Errors
/// It cannot be read or is none.
pub fn profile(path: &Path) -> Result<Profile> {
    let text = std::fs::read_to_string(path).doing("read", path)?;
    Profile::parse(&text, &path.display().to_string()).map_err(|e| EngineError::Definition {
        message: e.to_string(),
        help: "docs/audit.md tells what can stand there".into(),
    })
}

/// The texts of advisories below a directory, or in a tar archive, with their names.
///
/// # Errors
/// They cannot be read.
pub fn advisory_texts(path: &Path) -> Result<Vec<(String, String)>> {
    if path.is_file() {
        let name = path.to_string_lossy().into_owned();
        if name.ends_with(".json") || name.ends_with(".jsonl") {
            return Ok(vec![(name, std::fs::read_to_string(path).doing("read", path)?)]);
        }
    }
    let artifact = crate::open_artifact(path)?;
    let mut out = Vec::new();
    for (place, tree) in artifact.trees() {
        let paths = documents(tree);
        artifact.each_file(&place, &paths, &mut |path, bytes| {
            out.push((path.to_string(), String::from_utf8_lossy(bytes).into_owned()));
        });
    }
    Ok(out)
}

fn documents(tree: &Tree) -> Vec<&TreePath> {
    let is_document = |path: &TreePath| path.as_bytes().ends_with(b".json") || path.as_bytes().ends_with(b".jsonl");
    tree.iter().filter(|(p, e)| is_document(p) && !e.is_directory()).map(|(p, _)| p).collect()
}
