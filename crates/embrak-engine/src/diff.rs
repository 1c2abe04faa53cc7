//! What differs between two artifacts: table, filesystem, tree, file, byte.

use crate::causes::{Cause, explain_bytes};
use crate::error::{Doing, Result};
use crate::inside;
use crate::inspect::{Artifact, Content, Filesystem, image_name, open_artifact, outlined, partition_name};
use crate::settle::{same_bytes, settle};
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
    /// For texts, the lines that differ, as a unified diff.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lines: Option<String>,
    /// For programs, archives and what is packed, the parts that differ, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<String>,
}

/// What of two artifacts is compared.
#[derive(Debug, Clone, Default)]
pub struct DiffOptions {
    /// Fields of files that do not count: `mtime`, `uid`, `gid`, `mode`.
    pub ignored_fields: BTreeSet<String>,
    /// Paths that do not count.
    pub ignored_paths: Vec<String>,
    /// Only these paths count; all when there are none.
    pub only: Vec<String>,
}

/// A package that is in one of two images, or in both with another version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct MovedInside {
    /// Its name.
    pub name: String,
    /// Its version in the first.
    pub before: Option<String>,
    /// Its version in the second.
    pub after: Option<String>,
}

/// What differs below one directory.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct DirectoryChange {
    /// Files only in the second.
    pub added: usize,
    /// Files only in the first.
    pub removed: usize,
    /// Files that differ.
    pub changed: usize,
    /// By how many bytes it grew.
    pub bytes: i64,
}

/// The result of a comparison.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct DiffReport {
    /// Digest of the first's bytes; of large disks, which are compared without it, none.
    pub first: Option<Digest>,
    /// Digest of the second's bytes, likewise.
    pub second: Option<Digest>,
    /// Whether the bytes are the same.
    pub identical: bool,
    /// Whether the trees inside are the same, so that only the encoding differs.
    pub same_content: bool,
    /// Packages that came, went or moved.
    pub packages: Vec<MovedInside>,
    /// Files by their first two directories.
    pub directories: BTreeMap<String, DirectoryChange>,
    /// What differs.
    pub differences: Vec<Difference>,
}

/// Compares two artifacts.
///
/// # Errors
/// One of them cannot be read, or a glob is none.
pub fn diff(a: &Path, b: &Path) -> Result<DiffReport> {
    diff_with(a, b, &DiffOptions::default())
}

/// Compares two artifacts as far as it is asked.
///
/// # Errors
/// As [`diff`].
pub fn diff_with(a: &Path, b: &Path, options: &DiffOptions) -> Result<DiffReport> {
    if let Some(report) = crate::documents::documents(a, b) {
        return Ok(report);
    }
    let (a, b, identical) = opened(a, b)?;
    let digest = |x: &Artifact| (x.outlines.is_empty() || x.size <= DIGEST_LIMIT).then(|| x.digest()).transpose();
    let mut report = DiffReport {
        first: digest(&a)?,
        second: digest(&b)?,
        identical,
        same_content: identical,
        packages: Vec::new(),
        directories: BTreeMap::new(),
        differences: Vec::new(),
    };
    if identical {
        return Ok(report);
    }
    let digests =
        |x: &Artifact| x.trees().iter().map(|(place, tree)| (place.clone(), tree.digest())).collect::<Vec<_>>();
    report.same_content = digests(&a) == digests(&b) && !a.trees().is_empty();
    let filter = Filter {
        fields: &options.ignored_fields,
        ignored: crate::build::globs(options.ignored_paths.iter().map(String::as_str))?,
        only: match options.only.is_empty() {
            true => None,
            false => Some(crate::build::globs(options.only.iter().map(String::as_str))?),
        },
    };
    let out = &mut report.differences;
    if filter.only.is_none() {
        structure(&a, &b, out);
    }
    trees(&a, &b, &filter, out, &mut report.directories);
    if out.is_empty()
        && options.only.is_empty()
        && options.ignored_fields.is_empty()
        && options.ignored_paths.is_empty()
    {
        raw_bytes(&a, &b, out)?;
    }
    report.packages = packages(&a, &b);
    Ok(report)
}

/// Disks larger than this are not digested only to be compared.
const DIGEST_LIMIT: u64 = 128 << 20;

/// Both artifacts, and whether their bytes are the same. Where it can be, contents are compared side by side and not
/// digested.
fn opened(a: &Path, b: &Path) -> Result<(Artifact, Artifact, bool)> {
    fn both<T: Send>(first: impl FnOnce() -> T + Send, second: impl FnOnce() -> T + Send) -> (T, T) {
        std::thread::scope(|scope| {
            let second = scope.spawn(second);
            (first(), second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        })
    }
    let (first, second) = both(|| outlined(a, "first"), || outlined(b, "second"));
    if let (Some(mut first), Some(mut second)) = (first?, second?) {
        let identical = same_bytes(a, b).doing("compare", a)?;
        if !identical {
            settle(&mut first, &mut second)?;
        }
        return Ok((first, second, identical));
    }
    let (first, second) = both(|| open_artifact(a), || open_artifact(b));
    let (first, second) = (first?, second?);
    let identical = first.digest()? == second.digest()?;
    Ok((first, second, identical))
}

/// What does not count.
struct Filter<'a> {
    fields: &'a BTreeSet<String>,
    ignored: globset::GlobSet,
    only: Option<globset::GlobSet>,
}

impl Filter<'_> {
    fn counts(&self, path: &str) -> bool {
        !self.ignored.is_match(path) && self.only.as_ref().is_none_or(|only| only.is_match(path))
    }
}

fn packages(a: &Artifact, b: &Artifact) -> Vec<MovedInside> {
    let all =
        |x: &Artifact| -> BTreeMap<String, String> { x.materials().into_iter().map(|p| (p.name, p.version)).collect() };
    let (x, y) = (all(a), all(b));
    let names: BTreeSet<&String> = x.keys().chain(y.keys()).collect();
    names
        .into_iter()
        .filter(|name| x.get(*name) != y.get(*name))
        .map(|name| MovedInside { name: name.clone(), before: x.get(name).cloned(), after: y.get(name).cloned() })
        .collect()
}

fn push(out: &mut Vec<Difference>, place: &str, field: &str, before: impl ToString, after: impl ToString) {
    let (before, after) = (before.to_string(), after.to_string());
    if before != after {
        out.push(Difference {
            place: place.to_string(),
            field: field.to_string(),
            before,
            after,
            cause: None,
            lines: None,
            parts: Vec::new(),
        });
    }
}

fn format_name(content: &Content) -> &'static str {
    match content {
        Content::Disk { .. } => "disk image",
        Content::Filesystem { .. } => "filesystem",
        Content::Initrd { .. } => "initial file system",
        Content::Package { .. } => "package",
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
pub(crate) fn values(out: &mut Vec<Difference>, place: &str, a: &serde_json::Value, b: &serde_json::Value) {
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

fn trees(
    a: &Artifact,
    b: &Artifact,
    filter: &Filter<'_>,
    out: &mut Vec<Difference>,
    directories: &mut BTreeMap<String, DirectoryChange>,
) {
    let (x, y) = (a.trees(), b.trees());
    // One tree each is compared whatever the places are called: a disk against an archive of its root.
    type Placed<'t> = (String, &'t Tree);
    let mut pairs: Vec<(&Placed<'_>, &Placed<'_>)> =
        x.iter().filter_map(|p| y.iter().find(|q| q.0 == p.0).map(|q| (p, q))).collect();
    if pairs.is_empty() {
        let root = |all: &[Placed<'_>]| {
            let largest = all.iter().enumerate().max_by_key(|(n, (_, tree))| (tree.len(), all.len() - n));
            largest.map(|(n, _)| n)
        };
        if let (Some(p), Some(q)) = (root(&x), root(&y)) {
            pairs.push((&x[p], &y[q]));
        }
    }
    for ((place_a, tree_a), (place_b, tree_b)) in pairs {
        let read = |first: bool, path: &embrak_tree::TreePath| {
            let (artifact, place) = if first { (a, place_a) } else { (b, place_b) };
            artifact.read_file(place, path).ok()
        };
        let mut changed = Vec::new();
        let counted = |path: &embrak_tree::TreePath| filter.counts(&path.to_string());
        compare_counted(place_a, tree_a, tree_b, &read, &counted, &mut changed);
        out.extend(changed.into_iter().filter(|d| !filter.fields.contains(&d.field)));
        by_directory(tree_a, tree_b, &counted, directories);
    }
}

/// Counts what differs by the first two directories.
fn by_directory(
    a: &Tree,
    b: &Tree,
    counts: &dyn Fn(&embrak_tree::TreePath) -> bool,
    out: &mut BTreeMap<String, DirectoryChange>,
) {
    let size = |entry: &embrak_tree::Entry| if let Kind::File { size, .. } = entry.kind { size as i64 } else { 0 };
    for change in difference(a, b).into_iter().filter(|c| counts(&c.path)) {
        let text = change.path.to_string();
        let parts: Vec<&str> = text.split('/').skip(1).collect();
        let shown = parts.len().saturating_sub(1).min(2);
        let entry = out.entry(format!("/{}", parts[..shown].join("/"))).or_default();
        match &change.kind {
            ChangeKind::Added(e) if !e.is_directory() => {
                entry.added += 1;
                entry.bytes += size(e);
            }
            ChangeKind::Removed(e) if !e.is_directory() => {
                entry.removed += 1;
                entry.bytes -= size(e);
            }
            ChangeKind::Changed { before, after, .. } => {
                entry.changed += 1;
                entry.bytes += size(after) - size(before);
            }
            _ => {}
        }
    }
    out.retain(|_, d| *d != DirectoryChange::default());
}

/// Compares two trees; `read` gives the bytes of a file of the first or second.
pub(crate) fn compare_trees(
    place: &str,
    a: &Tree,
    b: &Tree,
    read: &dyn Fn(bool, &embrak_tree::TreePath) -> Option<Vec<u8>>,
    out: &mut Vec<Difference>,
) {
    compare_counted(place, a, b, read, &|_| true, out);
}

fn compare_counted(
    place: &str,
    a: &Tree,
    b: &Tree,
    read: &dyn Fn(bool, &embrak_tree::TreePath) -> Option<Vec<u8>>,
    counts: &dyn Fn(&embrak_tree::TreePath) -> bool,
    out: &mut Vec<Difference>,
) {
    for change in difference(a, b).into_iter().filter(|c| counts(&c.path)) {
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
                            lines: None,
                            parts: Vec::new(),
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
    let lines = bytes.as_ref().and_then(|(x, y)| text_lines(x, y));
    let parts = bytes.as_ref().filter(|_| lines.is_none()).map(|(x, y)| inside::parts(x, y)).unwrap_or_default();
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
                lines,
                parts,
            }
        }
        None => {
            Difference { place: place.to_string(), field: "content".into(), before, after, cause: None, lines, parts }
        }
    }
}

/// The lines of two texts that differ; none when one is no text, or is long.
fn text_lines(a: &[u8], b: &[u8]) -> Option<String> {
    const LONGEST: usize = 1 << 20;
    let text = |bytes: &[u8]| -> Option<String> {
        let usual = bytes.len() <= LONGEST && !bytes.contains(&0);
        usual.then(|| String::from_utf8(bytes.to_vec()).ok()).flatten()
    };
    let (x, y) = (text(a)?, text(b)?);
    let patch = diffy::DiffOptions::new().set_context_len(1).create_patch(&x, &y).to_string();
    // The two lines with names say nothing here.
    Some(patch.lines().skip(2).collect::<Vec<_>>().join("\n"))
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
    const TEXT: u64 = 1 << 20;
    if a.size.max(b.size) <= TEXT {
        let (p, q) = (x.read_vec(0, a.size).doing("read", &a.path)?, y.read_vec(0, b.size).doing("read", &b.path)?);
        let lines = text_lines(&p, &q);
        if lines.is_some() {
            let mut found = content_difference("", String::new(), String::new(), Some((p, q)));
            found.lines = lines;
            out.push(found);
            return Ok(());
        }
    }
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
                lines: None,
                parts: Vec::new(),
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
