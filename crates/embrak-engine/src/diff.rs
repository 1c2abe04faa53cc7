//! What differs between two artifacts: table, filesystem, tree, file, byte.

use crate::causes::{Cause, explain_bytes};
use crate::error::{Doing, Result};
use crate::inspect::{Artifact, Content, Filesystem, image_name, open_artifact, partition_name};
use embrak_disk::gpt;
use embrak_tree::{ChangeKind, Digest, Kind, Tree, difference};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::Path;

/// Files larger than this are compared by digest only.
const COMPARE_LIMIT: u64 = 64 << 20;

/// One difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Difference {
    /// Where: `partition boot: /usr/bin/foghorn`.
    pub place: String,
    /// Which field: `mode`, `content at byte 4096 (.rodata)`, `only in the first`.
    pub field: String,
    /// Value in the first.
    pub before: String,
    /// Value in the second.
    pub after: String,
    /// A likely cause.
    pub cause: Option<Cause>,
}

/// The result of a comparison.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct DiffReport {
    /// Digest of the first's bytes.
    pub first: Digest,
    /// Digest of the second's bytes.
    pub second: Digest,
    /// Whether the bytes are the same.
    pub identical: bool,
    /// Whether the trees inside are the same, so that only the encoding differs.
    pub same_content: bool,
    /// What differs.
    pub differences: Vec<Difference>,
}

/// Compares two artifacts.
///
/// # Errors
/// One of them cannot be read.
pub fn diff(a: &Path, b: &Path) -> Result<DiffReport> {
    let (a, b) = (open_artifact(a)?, open_artifact(b)?);
    let identical = a.digest == b.digest;
    let mut out = Vec::new();
    if !identical {
        structure(&a, &b, &mut out);
    }
    let digests =
        |x: &Artifact| x.trees().iter().map(|(place, tree)| (place.clone(), tree.digest())).collect::<Vec<_>>();
    let same_content = digests(&a) == digests(&b) && (identical || !a.trees().is_empty());
    if !identical {
        trees(&a, &b, &mut out);
        if out.is_empty() {
            raw_bytes(&a, &b, &mut out)?;
        }
    }
    Ok(DiffReport { first: a.digest, second: b.digest, identical, same_content, differences: out })
}

fn push(out: &mut Vec<Difference>, place: &str, field: &str, before: impl ToString, after: impl ToString) {
    let (before, after) = (before.to_string(), after.to_string());
    if before != after {
        out.push(Difference { place: place.to_string(), field: field.to_string(), before, after, cause: None });
    }
}

fn format_name(content: &Content) -> &'static str {
    match content {
        Content::Disk { .. } => "disk image",
        Content::Filesystem { .. } => "filesystem",
        Content::Initrd { .. } => "initial file system",
        Content::Program(_) => "UEFI program",
        Content::Oci { .. } => "OCI images",
        Content::Archive { .. } => "tar archive",
        Content::Manifest(_) => "tree manifest",
        Content::Directory(_) => "directory",
        Content::Bytes => "unknown",
    }
}

/// What the formats themselves say, files left out.
fn structure(a: &Artifact, b: &Artifact, out: &mut Vec<Difference>) {
    push(out, "", "format", format_name(&a.content), format_name(&b.content));
    push(out, "", "size", a.size, b.size);
    match (&a.content, &b.content) {
        (Content::Disk { table: x, partitions: p }, Content::Disk { table: y, partitions: q }) => {
            push(out, "partition table", "kind", x.name(), y.name());
            push(out, "partition table", "disk GUID", x.id(), y.id());
            push(out, "partition table", "number of partitions", p.len(), q.len());
            push(out, "partition table", "damage", x.damage().join("; "), y.damage().join("; "));
            for (u, v) in p.iter().zip(q) {
                let place = partition_name(&u.partition);
                push(out, &place, "label", &u.partition.label, &v.partition.label);
                push(out, &place, "type", u.partition.kind, v.partition.kind);
                push(out, &place, "GUID", u.partition.guid, v.partition.guid);
                push(out, &place, "start", u.partition.start, v.partition.start);
                push(out, &place, "size", u.partition.size, v.partition.size);
                match (&u.filesystem, &v.filesystem) {
                    (Some(f), Some(g)) => filesystems(out, &place, f, g),
                    (f, g) => push(out, &place, "filesystem", shown(f.as_ref()), shown(g.as_ref())),
                }
            }
        }
        (Content::Filesystem { info: f, .. }, Content::Filesystem { info: g, .. }) => {
            filesystems(out, "filesystem", f, g);
        }
        (Content::Initrd { parts: x, .. }, Content::Initrd { parts: y, .. }) => {
            push(out, "", "compression", x.join(", "), y.join(", "));
        }
        (Content::Program(x), Content::Program(y)) => {
            values(out, "program", &serde_json::json!(x), &serde_json::json!(y));
        }
        (Content::Oci { images: p, .. }, Content::Oci { images: q, .. }) => {
            push(out, "index", "number of images", p.len(), q.len());
            for (u, v) in p.iter().zip(q) {
                let place = image_name(u);
                push(out, &place, "manifest", u.descriptor.digest, v.descriptor.digest);
                let fields = |i: &embrak_oci::OciImage| {
                    let mut all = BTreeMap::new();
                    flatten("config", &serde_json::to_value(&i.config).unwrap_or_default(), &mut all);
                    flatten(
                        "manifest.annotations",
                        &serde_json::to_value(&i.manifest.annotations).unwrap_or_default(),
                        &mut all,
                    );
                    all
                };
                let (x, y) = (fields(u), fields(v));
                for key in x.keys().chain(y.keys()).collect::<BTreeSet<_>>() {
                    let value = |m: &BTreeMap<String, String>| m.get(key).cloned().unwrap_or_else(|| "absent".into());
                    push(out, &place, key, value(&x), value(&y));
                }
                for (index, (x, y)) in u.manifest.layers.iter().zip(&v.manifest.layers).enumerate() {
                    push(out, &place, &format!("layer {} type", index + 1), &x.media_type, &y.media_type);
                    push(out, &place, &format!("layer {} bytes", index + 1), x.digest, y.digest);
                }
            }
        }
        (Content::Archive { compression: x, .. }, Content::Archive { compression: y, .. }) => {
            push(out, "", "compression", x, y)
        }
        _ => {}
    }
}

fn shown(found: Option<&Filesystem>) -> String {
    found.map_or("none we read".into(), Filesystem::kind)
}

fn filesystems(out: &mut Vec<Difference>, place: &str, f: &Filesystem, g: &Filesystem) {
    match (f, g) {
        (Filesystem::Fat(f), Filesystem::Fat(g)) => fat(out, place, f, g),
        (f, g) if f.kind() != g.kind() => push(out, place, "filesystem", f.kind(), g.kind()),
        (f, g) => values(out, place, &serde_json::json!(f), &serde_json::json!(g)),
    }
}

/// Everything two documents of a kind say otherwise.
fn values(out: &mut Vec<Difference>, place: &str, a: &serde_json::Value, b: &serde_json::Value) {
    let (mut x, mut y) = (BTreeMap::new(), BTreeMap::new());
    flatten("", a, &mut x);
    flatten("", b, &mut y);
    for key in x.keys().chain(y.keys()).collect::<BTreeSet<_>>() {
        let value = |m: &BTreeMap<String, String>| m.get(key).cloned().unwrap_or_else(|| "absent".into());
        push(out, place, key.trim_start_matches('.'), value(&x), value(&y));
    }
}

fn fat(out: &mut Vec<Difference>, place: &str, f: &embrak_disk::fat::FatInfo, g: &embrak_disk::fat::FatInfo) {
    push(out, place, "FAT type", f.kind, g.kind);
    push(out, place, "filesystem label", &f.label, &g.label);
    push(out, place, "serial number", format!("{:08x}", f.serial), format!("{:08x}", g.serial));
    push(out, place, "cluster size", f.cluster_size, g.cluster_size);
    push(out, place, "free clusters", f.free_clusters, g.free_clusters);
    push(out, place, "made by", &f.made_by, &g.made_by);
}

/// JSON as paths to scalars.
fn flatten(at: &str, value: &serde_json::Value, out: &mut BTreeMap<String, String>) {
    match value {
        serde_json::Value::Object(map) => map.iter().for_each(|(k, v)| flatten(&format!("{at}.{k}"), v, out)),
        serde_json::Value::Array(list) => {
            list.iter().enumerate().for_each(|(i, v)| flatten(&format!("{at}[{i}]"), v, out))
        }
        serde_json::Value::String(text) => {
            out.insert(at.to_string(), text.clone());
        }
        other => {
            out.insert(at.to_string(), other.to_string());
        }
    }
}

fn trees(a: &Artifact, b: &Artifact, out: &mut Vec<Difference>) {
    let (x, y) = (a.trees(), b.trees());
    // One tree each is compared whatever the places are called: a disk against an archive of its root.
    type Placed<'t> = (String, &'t Tree);
    let pairs: Vec<(&Placed<'_>, &Placed<'_>)> = if x.len() == 1 && y.len() == 1 {
        vec![(&x[0], &y[0])]
    } else {
        x.iter().filter_map(|p| y.iter().find(|q| q.0 == p.0).map(|q| (p, q))).collect()
    };
    for ((place_a, tree_a), (place_b, tree_b)) in pairs {
        let read = |first: bool, path: &embrak_tree::TreePath| {
            let (artifact, place) = if first { (a, place_a) } else { (b, place_b) };
            artifact.read_file(place, path).ok()
        };
        compare_trees(place_a, tree_a, tree_b, &read, out);
    }
}

/// Compares two trees; `read` gives the bytes of a file of the first or second.
pub(crate) fn compare_trees(
    place: &str,
    a: &Tree,
    b: &Tree,
    read: &dyn Fn(bool, &embrak_tree::TreePath) -> Option<Vec<u8>>,
    out: &mut Vec<Difference>,
) {
    for change in difference(a, b) {
        let at = if place.is_empty() { change.path.to_string() } else { format!("{place}: {}", change.path) };
        let describe = |entry: &embrak_tree::Entry| match &entry.kind {
            Kind::File { size, .. } => format!("file of {size} bytes"),
            other => other.name().to_string(),
        };
        match change.kind {
            ChangeKind::Added(entry) => push(out, &at, "only in the second", "absent", describe(&entry)),
            ChangeKind::Removed(entry) => push(out, &at, "only in the first", describe(&entry), "absent"),
            ChangeKind::Changed { before, after, fields } => {
                for field in fields {
                    if field.field != "content" {
                        let cause = metadata_cause(&field.field, &field.before, &field.after);
                        out.push(Difference {
                            place: at.clone(),
                            field: field.field,
                            before: field.before,
                            after: field.after,
                            cause,
                        });
                        continue;
                    }
                    let small = [&before, &after]
                        .iter()
                        .all(|e| matches!(e.kind, Kind::File { size, .. } if size <= COMPARE_LIMIT));
                    let bytes = if small { read(true, &change.path).zip(read(false, &change.path)) } else { None };
                    out.push(content_difference(&at, field.before, field.after, bytes));
                }
            }
        }
    }
}

fn content_difference(place: &str, before: String, after: String, bytes: Option<(Vec<u8>, Vec<u8>)>) -> Difference {
    match bytes.and_then(|(x, y)| explain_bytes(&x, &y)) {
        Some(explained) => {
            let section = explained.section.map_or(String::new(), |s| format!(" in {s}"));
            let count = explained.differing.map_or(String::new(), |n| format!(", {n} bytes differ"));
            Difference {
                place: place.to_string(),
                field: format!("content at byte {}{section}{count}", explained.offset),
                before: explained.before,
                after: explained.after,
                cause: explained.cause,
            }
        }
        None => Difference { place: place.to_string(), field: "content".into(), before, after, cause: None },
    }
}

fn metadata_cause(field: &str, before: &str, after: &str) -> Option<Cause> {
    let cause = |name: &str, advice: &str| {
        Some(Cause { name: name.into(), evidence: format!("{field} is {before} and {after}"), advice: advice.into() })
    };
    match field {
        "mtime" => cause("time stamp", "set the times of files to SOURCE_DATE_EPOCH"),
        "uid" | "gid" => cause("user", "install with fixed owners: `install -o root -g root`"),
        "mode" => cause("umask", "install with fixed modes: `install -m 0755`"),
        _ => None,
    }
}

/// Nothing in the structure differs that we read: say where the bytes do.
fn raw_bytes(a: &Artifact, b: &Artifact, out: &mut Vec<Difference>) -> Result<()> {
    if a.path.is_dir() || b.path.is_dir() {
        return Ok(());
    }
    use embrak_disk::ReadAt;
    let (x, y) = (File::open(&a.path).doing("read", &a.path)?, File::open(&b.path).doing("read", &b.path)?);
    let shorter = a.size.min(b.size);
    let mut at = 0;
    while at < shorter {
        let length = (shorter - at).min(1 << 20);
        let (p, q) = (x.read_vec(at, length).doing("read", &a.path)?, y.read_vec(at, length).doing("read", &b.path)?);
        if let Some(explained) = explain_bytes(&p, &q) {
            let place = where_on_disk(a, at + explained.offset);
            let field = format!("byte {}", at + explained.offset);
            out.push(Difference {
                place,
                field,
                before: explained.before,
                after: explained.after,
                cause: explained.cause,
            });
            return Ok(());
        }
        at += length;
    }
    Ok(())
}

fn where_on_disk(artifact: &Artifact, offset: u64) -> String {
    let Content::Disk { partitions, .. } = &artifact.content else { return String::new() };
    let inside = |p: &&crate::inspect::PartitionView| {
        (p.partition.start..p.partition.start + p.partition.size).contains(&offset)
    };
    match partitions.iter().find(inside) {
        Some(p) => format!("{}, outside its files", partition_name(&p.partition)),
        None if offset < gpt::ALIGNMENT => "before the first partition".to_string(),
        None => "outside every partition".to_string(),
    }
}
