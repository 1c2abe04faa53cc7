//! What would be built: packages and why, disk, outputs, and what differs from the last run.

use crate::Engine;
use crate::build::last_packages;
use crate::error::{EngineError, Result};
use crate::outputs::{PartitionSummary, file_name};
use crate::plan::{Plan, Why, disk_of};
use embrak_model::definitions::{ImageDef, Output};
use embrak_tree::Digest;
use serde::Serialize;
use std::collections::BTreeMap;

/// A package that would be in an image.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct PreviewPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The file of the recipe that makes it.
    pub file: String,
    /// Bytes of its files as last built; none when it never was.
    pub size: Option<u64>,
    /// Who asks for it.
    pub why: Vec<Why>,
}

/// A partition that would be on the disk.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct PreviewPartition {
    /// Its label.
    pub label: String,
    /// Its type.
    pub kind: String,
    /// Its size as written.
    pub size: String,
    /// Its filesystem.
    pub filesystem: String,
    /// Where it is mounted.
    pub mount: Option<String>,
}

/// A disk as it was last built.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct PreviewDisk {
    /// Its size in bytes.
    pub size: u64,
    /// Its partitions.
    pub partitions: Vec<PartitionSummary>,
}

/// A partition this full is worth a warning: there is no room for an update.
const NEARLY_FULL: u64 = 95;

fn warnings(def: &ImageDef, disk: Option<&PreviewDisk>) -> Vec<String> {
    let mut out = Vec::new();
    for (name, user) in &def.users {
        let password = user.password.as_ref().is_some_and(|p| p.value != "locked");
        if password && user.ssh_keys.is_empty() {
            out.push(format!("user {name} logs in by password and has no key"));
        }
    }
    for p in disk.iter().flat_map(|d| &d.partitions) {
        let percent = p.content * 100 / p.size.max(1);
        if percent >= NEARLY_FULL {
            out.push(format!("partition {} was {percent} % full when last built", p.label));
        }
    }
    out
}

/// An image that would be built.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Preview {
    /// Its name.
    pub image: String,
    /// Its version.
    pub version: String,
    /// One line about it.
    pub summary: String,
    /// Board or architecture.
    pub target: String,
    /// Digest of all inputs.
    pub input: Digest,
    /// Its packages by name.
    pub packages: Vec<PreviewPackage>,
    /// Its partitions, when it has a disk.
    pub partitions: Vec<PreviewPartition>,
    /// Users besides root.
    pub users: Vec<String>,
    /// Names of outputs and what to do with them.
    pub outputs: Vec<(String, String)>,
    /// Host tools its recipes use.
    pub host_tools: Vec<String>,
    /// The disk as last built, when it was.
    pub last_disk: Option<PreviewDisk>,
    /// What should be looked at, in sentences.
    pub warnings: Vec<String>,
    /// Packages added, removed and moved since the last finished run, in sentences; none when there was no run.
    pub changes: Option<Vec<String>>,
}

/// Previews the selected images of a plan.
///
/// # Errors
/// An image has gone.
pub fn preview(engine: &Engine<'_>, plan: &Plan) -> Result<Vec<Preview>> {
    let mut out = Vec::new();
    for planned in &plan.images {
        let image = engine.workspace.image(&planned.target.image).map_err(|p| EngineError::Definitions(vec![p]))?;
        let board = planned.target.board.as_deref().map(|b| engine.workspace.board(b)).transpose();
        let board = board.map_err(|p| EngineError::Definitions(vec![p]))?;
        let last = last_packages(engine.store, &planned.target);
        let packages: Vec<PreviewPackage> = planned
            .locked
            .packages
            .iter()
            .map(|p| PreviewPackage {
                name: p.name.clone(),
                version: p.version.clone(),
                file: plan.lock.recipe(&p.recipe).map(|r| r.file.clone()).unwrap_or_default(),
                size: last.iter().find(|l| l.name == p.name && l.version == p.version).map(|l| l.size),
                why: planned.why.get(&p.name).cloned().unwrap_or_default(),
            })
            .collect();
        let partitions = disk_of(image, board).map(|d| d.partition).unwrap_or_default();
        let before: BTreeMap<&str, &str> = last.iter().map(|p| (p.name.as_str(), p.version.as_str())).collect();
        let now: BTreeMap<&str, &str> = packages.iter().map(|p| (p.name.as_str(), p.version.as_str())).collect();
        let mut changes = Vec::new();
        for (name, version) in &now {
            match before.get(name) {
                None => changes.push(format!("+ {name} {version}")),
                Some(old) if old != version => changes.push(format!("~ {name} {old} -> {version}")),
                Some(_) => {}
            }
        }
        changes.extend(
            before.iter().filter(|(name, _)| !now.contains_key(*name)).map(|(name, v)| format!("- {name} {v}")),
        );
        let last_disk = crate::build::last_output(engine.store, &planned.target, Output::DiskRaw)
            .map(|o| PreviewDisk { size: o.size, partitions: o.partitions });
        out.push(Preview {
            warnings: warnings(&image.def, last_disk.as_ref()),
            last_disk,
            image: planned.target.image.clone(),
            version: image.def.version.clone(),
            summary: image.def.summary.clone(),
            target: planned.target.label().to_string(),
            input: planned.locked.input,
            packages,
            partitions: partitions
                .iter()
                .map(|p| PreviewPartition {
                    label: p.label.value.clone(),
                    kind: p.kind.value.clone(),
                    size: p.size.value.to_string(),
                    filesystem: format!("{:?}", p.filesystem.value).to_lowercase(),
                    mount: p.mount.as_ref().map(|m| m.value.clone()),
                })
                .collect(),
            users: image.def.users.keys().map(ToString::to_string).collect(),
            outputs: image
                .def
                .outputs
                .iter()
                .map(|o| (file_name(&image.def, &planned.target, o.value), o.value.advice().to_string()))
                .collect(),
            host_tools: plan.tools.keys().cloned().collect(),
            changes: (!last.is_empty()).then_some(changes),
        });
    }
    Ok(out)
}
