//! What would be built: packages and why, disk, outputs, and what differs from the last run.

use crate::Engine;
use crate::build::last_packages;
use crate::error::Result;
use crate::outputs::{PartitionSummary, file_name};
use crate::plan::{Plan, PlannedImage, Why, disk_of};
use embrak_model::SizeSpec;
use embrak_model::definitions::{ImageDef, Output};
use embrak_tree::{BlobSource, Digest, Kind, Tree};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// Why a package is in an image, in one word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// The image asks for it.
    Image,
    /// The board asks for it.
    Board,
    /// The repository says every system of it needs it.
    Essential,
    /// Something in the image recommends it.
    Recommended,
    /// Something in the image needs it.
    Needed,
}

impl Reason {
    /// In words, for a heading.
    pub fn words(self) -> &'static str {
        match self {
            Reason::Image => "asked for by the image",
            Reason::Board => "needed by the board",
            Reason::Essential => "essential to a repository",
            Reason::Recommended => "recommended",
            Reason::Needed => "needed by others",
        }
    }
}

/// A package that would be in an image.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct PreviewPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The file of the recipe that makes it, or the repository it is from.
    pub from: String,
    /// Bytes of its files: as last built, or as the repository says; none when neither is known.
    pub size: Option<u64>,
    /// Bytes to be fetched for it; 0 when it is in the store or made here.
    pub fetch: u64,
    /// Why it is there, in one word.
    pub reason: Reason,
    /// Who asks for it.
    pub why: Vec<Why>,
}

/// A package that came, went or moved since the last finished run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct PreviewChange {
    /// Its name.
    pub name: String,
    /// The version before; none: it is added.
    pub from: Option<String>,
    /// The version now; none: it is removed.
    pub to: Option<String>,
    /// By how many bytes the image changes through it, if that is known.
    pub bytes: Option<i64>,
}

fn reason(why: &[Why]) -> Reason {
    let of = |w: &Why| match w.by.as_str() {
        by if by.starts_with("image ") => Reason::Image,
        by if by.starts_with("board ") => Reason::Board,
        by if by.ends_with("(essential)") => Reason::Essential,
        by if by.ends_with("which recommends it") => Reason::Recommended,
        _ => Reason::Needed,
    };
    why.iter().map(of).min().unwrap_or(Reason::Needed)
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
    /// Its size in bytes, when it is written so.
    pub bytes: Option<u64>,
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

fn warnings(def: &ImageDef, disk: Option<&PreviewDisk>, units: &[Unit]) -> Vec<String> {
    let mut out = Vec::new();
    for (name, user) in &def.users {
        let password = user.password.as_ref().is_some_and(|p| p.value != "locked");
        if password && user.ssh_keys.is_empty() {
            out.push(format!("user {name} logs in by password and has no key"));
        }
    }
    for unit in units {
        for port in &unit.open_ports {
            out.push(format!("{} listens on every address, port {port} [{}]", unit.name, unit.from));
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

/// A unit of systemd.unit(5) that an image starts or can start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Unit {
    /// `lampd.service`
    pub name: String,
    /// The package or overlay it is from.
    pub from: String,
    /// Whether something in the image wants it started.
    pub enabled: bool,
    /// Ports it opens on every address: `ListenStream=` without an address, or with `0.0.0.0` or `[::]`.
    pub open_ports: Vec<String>,
}

/// The services and sockets in trees that are known already.
fn units(engine: &Engine<'_>, trees: &[(String, Tree)]) -> Vec<Unit> {
    let mut found: BTreeMap<String, Unit> = BTreeMap::new();
    let mut wanted: BTreeSet<String> = BTreeSet::new();
    for (from, tree) in trees {
        for (path, entry) in tree.iter() {
            let text = path.to_string();
            let Some((dir, name)) = text.rsplit_once('/') else { continue };
            let kind = name.ends_with(".service") || name.ends_with(".socket");
            if !kind || !dir.contains("/systemd/system") {
                continue;
            }
            if dir.ends_with(".wants") || dir.ends_with(".requires") {
                wanted.insert(name.to_string());
                continue;
            }
            let Kind::File { digest, size } = &entry.kind else { continue };
            let mut unit = Unit { name: name.to_string(), from: from.clone(), enabled: false, open_ports: vec![] };
            if *size < 1 << 20
                && let Ok(bytes) = engine.store.read(digest)
            {
                let listens = String::from_utf8_lossy(&bytes).into_owned();
                let ports =
                    listens.lines().filter_map(|l| l.trim().strip_prefix("ListenStream=")).filter_map(open_port);
                unit.open_ports = ports.collect();
            }
            found.insert(name.to_string(), unit);
        }
    }
    for (name, unit) in &mut found {
        unit.enabled = wanted.contains(name);
    }
    found.into_values().collect()
}

/// The port of an address that is every address.
fn open_port(address: &str) -> Option<String> {
    let port = address
        .trim()
        .strip_prefix("0.0.0.0:")
        .or_else(|| address.trim().strip_prefix("[::]:"))
        .unwrap_or(address.trim());
    (!port.is_empty() && port.bytes().all(|b| b.is_ascii_digit())).then(|| port.to_string())
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
    /// Services and sockets in packages the store has already, and in overlays.
    pub units: Vec<Unit>,
    /// Repositories in use: name and date.
    pub repositories: Vec<(String, String)>,
    /// What should be looked at, in sentences.
    pub warnings: Vec<String>,
    /// Packages added, removed and moved since the last finished run; none when there was no run.
    pub changes: Option<Vec<PreviewChange>>,
}

/// Previews the selected images of a plan.
///
/// # Errors
/// An image has gone.
pub fn preview(engine: &Engine<'_>, plan: &Plan) -> Result<Vec<Preview>> {
    let mut out = Vec::new();
    for planned in &plan.images {
        let (image, board) = (&planned.image, planned.board.as_ref());
        let last = last_packages(engine.store, &planned.target);
        let mut trees: Vec<(String, Tree)> = Vec::new();
        let mut packages = Vec::new();
        for p in &planned.locked.packages {
            let why = planned.why.get(&p.name).cloned().unwrap_or_default();
            let built = last.iter().find(|l| l.name == p.name && l.version == p.version);
            let file = plan.files.get(&(planned.target.architecture, p.clone()));
            let (from, size, fetch) = match file {
                Some(file) => {
                    let there = file.record.digest.is_some_and(|d| engine.store.has(&d));
                    (file.name.clone(), Some(file.record.installed), if there { 0 } else { file.record.size })
                }
                None => {
                    let made = p.recipe().and_then(|id| plan.lock.recipe(id)).map(|r| r.file.clone());
                    (made.unwrap_or_default(), built.map(|b| b.size), 0)
                }
            };
            let known = built.map(|b| b.tree).or_else(|| file.and_then(|f| crate::unpack::known_tree(engine, f)));
            if let Some(tree) = known.and_then(|digest| crate::sources::get_tree(engine.store, &digest).ok()) {
                trees.push((p.name.clone(), tree));
            }
            let reason = reason(&why);
            packages.push(PreviewPackage {
                name: p.name.clone(),
                version: p.version.clone(),
                from,
                size,
                fetch,
                reason,
                why,
            });
        }
        for (line, tree) in planned.locked.overlays.iter().zip(&planned.overlays) {
            trees.push((line.split(' ').next().unwrap_or_default().to_string(), tree.clone()));
        }
        let units = units(engine, &trees);
        let partitions = disk_of(image, board).map(|d| d.partition).unwrap_or_default();
        let before: BTreeMap<&str, (&str, i64)> =
            last.iter().map(|p| (p.name.as_str(), (p.version.as_str(), p.size as i64))).collect();
        let mut changes = Vec::new();
        for p in &packages {
            let size = p.size.map(|s| s as i64);
            let change = |from: Option<&str>, bytes| PreviewChange {
                name: p.name.clone(),
                from: from.map(String::from),
                to: Some(p.version.clone()),
                bytes,
            };
            match before.get(p.name.as_str()) {
                None => changes.push(change(None, size)),
                Some((old, old_size)) if *old != p.version => {
                    changes.push(change(Some(old), size.map(|s| s - old_size)))
                }
                Some(_) => {}
            }
        }
        let gone = before.iter().filter(|(name, _)| !packages.iter().any(|p| p.name == **name));
        changes.extend(gone.map(|(name, (version, size))| PreviewChange {
            name: (*name).to_string(),
            from: Some((*version).to_string()),
            to: None,
            bytes: Some(-size),
        }));
        let last_disk = crate::build::last_output(engine.store, &planned.target, Output::DiskRaw)
            .map(|o| PreviewDisk { size: o.size, partitions: o.partitions });
        out.push(Preview {
            warnings: plan.warnings.iter().cloned().chain(warnings(&image.def, last_disk.as_ref(), &units)).collect(),
            repositories: repositories_of(plan, planned),
            units,
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
                    bytes: match p.size.value {
                        SizeSpec::Fixed(size) => Some(size.0),
                        _ => None,
                    },
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

/// The repositories an image takes packages from, with their dates.
fn repositories_of(plan: &Plan, planned: &PlannedImage) -> Vec<(String, String)> {
    let used: BTreeSet<&str> = planned.locked.packages.iter().filter_map(|p| p.repository()).collect();
    let date = |name: &&str| {
        let locked = plan.lock.repository(name, planned.target.architecture.as_str())?;
        Some(((*name).to_string(), locked.date.clone()))
    };
    used.iter().filter_map(date).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_that_are_every_address() {
        let ports: Vec<Option<String>> =
            ["22", "0.0.0.0:8471", "[::]:80", "127.0.0.1:22", "/run/lamp.sock", "", "%t/x"].map(open_port).into();
        assert_eq!(ports, [Some("22".into()), Some("8471".into()), Some("80".into()), None, None, None, None]);
    }
}
