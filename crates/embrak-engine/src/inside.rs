//! What differs inside a file that has parts of its own: sections of a program, members of an archive, the header of
//! what is packed.

use embrak_compress::Compression;
use embrak_disk::pe;
use embrak_tree::{ChangeKind, MemoryBlobs, Tree, difference, tar};
use object::read::archive::ArchiveFile;
use object::{Object, ObjectSection};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

/// More parts than this are not listed; the rest is counted.
const MOST: usize = 40;
/// More is not unpacked.
const UNPACKED: u64 = 256 << 20;

/// Every part of two files of a kind that is not the same, in words; nothing when they are of no kind that has parts.
pub(crate) fn parts(a: &[u8], b: &[u8]) -> Vec<String> {
    let mut out = packed(a, b).or_else(|| plain(a, b));
    let all = out.get_or_insert_default();
    if all.len() > MOST {
        let more = all.len() - MOST;
        all.truncate(MOST);
        all.push(format!("and {more} more"));
    }
    out.unwrap_or_default()
}

/// What is not packed.
fn plain(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    archive(a, b).or_else(|| program(a, b)).or_else(|| uefi_program(a, b)).or_else(|| tarred(a, b))
}

/// Programs for firmware, and what is put together in one: kernel, command line, initial file system.
fn uefi_program(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    type Read = (pe::Program, BTreeMap<String, Vec<u8>>);
    let read = |bytes: &[u8]| -> Option<Read> {
        let file = bytes.to_vec();
        let program = pe::read(&file).ok()?;
        let data = |s: &pe::Section| Some((s.name.clone(), pe::section_bytes(&file, s, UNPACKED).ok()?));
        let sections = program.sections.iter().map(data).collect::<Option<_>>()?;
        Some((program, sections))
    };
    let ((p, x), (q, y)) = (read(a)?, read(b)?);
    let mut out = compared("section", &x, &y);
    if p.stamp != q.stamp {
        out.push(format!("time stamp of linking: {} -> {}", p.stamp, q.stamp));
    }
    if p.signed != q.signed {
        let said = |signed: bool| if signed { "signed" } else { "not signed" };
        out.push(format!("signature: {} -> {}", said(p.signed), said(q.signed)));
    }
    Some(out)
}

/// Named parts of both, compared: what they are for, and what they consist of.
fn compared(kind: &str, x: &BTreeMap<String, Vec<u8>>, y: &BTreeMap<String, Vec<u8>>) -> Vec<String> {
    let names: BTreeSet<&String> = x.keys().chain(y.keys()).collect();
    let mut out = Vec::new();
    for name in names {
        let what = format!("{kind} {name}");
        match (x.get(name), y.get(name)) {
            (Some(p), None) => out.push(format!("{what}: {} bytes only in the first", p.len())),
            (None, Some(q)) => out.push(format!("{what}: {} bytes only in the second", q.len())),
            (Some(p), Some(q)) if p.len() != q.len() => {
                out.push(format!("{what}: {} bytes -> {} bytes", p.len(), q.len()));
            }
            (Some(p), Some(q)) if p != q => {
                let (first, count) = differing(p, q);
                out.push(format!("{what}: {count} of {} bytes differ, the first at {first}", p.len()));
            }
            _ => {}
        }
    }
    out
}

fn differing(a: &[u8], b: &[u8]) -> (usize, usize) {
    let at = a.iter().zip(b).enumerate().filter(|(_, (x, y))| x != y).map(|(at, _)| at);
    let first = at.clone().next().unwrap_or(0);
    (first, at.count())
}

fn program(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    let sections = |bytes: &[u8]| -> Option<BTreeMap<String, Vec<u8>>> {
        let file = object::File::parse(bytes).ok()?;
        let mut out = BTreeMap::new();
        for section in file.sections() {
            let name = String::from_utf8_lossy(section.name_bytes().ok()?).into_owned();
            // Several may have one name.
            let name = if out.contains_key(&name) { format!("{name} ({})", section.index().0) } else { name };
            out.insert(name, section.data().unwrap_or_default().to_vec());
        }
        Some(out)
    };
    Some(compared("section", &sections(a)?, &sections(b)?))
}

/// `ar` archives: static libraries, package files.
fn archive(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    type Members = (BTreeMap<String, Vec<u8>>, BTreeMap<String, String>);
    let members = |bytes: &[u8]| -> Option<Members> {
        let file = ArchiveFile::parse(bytes).ok()?;
        let (mut data, mut heads) = (BTreeMap::new(), BTreeMap::new());
        for member in file.members() {
            let member = member.ok()?;
            let name = String::from_utf8_lossy(member.name()).into_owned();
            let name = if data.contains_key(&name) { format!("{name} ({})", data.len()) } else { name };
            let (date, uid, gid) = (member.date(), member.uid(), member.gid());
            let shown = |n: Option<u64>| n.map_or("none".to_string(), |n| n.to_string());
            heads.insert(name.clone(), format!("time {}, owner {}:{}", shown(date), shown(uid), shown(gid)));
            data.insert(name, member.data(bytes).ok()?.to_vec());
        }
        Some((data, heads))
    };
    let ((x, heads_x), (y, heads_y)) = (members(a)?, members(b)?);
    let mut out = compared("member", &x, &y);
    for (name, head) in &heads_x {
        if let Some(other) = heads_y.get(name).filter(|other| *other != head) {
            out.push(format!("member {name}: {head} -> {other}"));
        }
    }
    Some(out)
}

fn tarred(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    let is_tar = |bytes: &[u8]| bytes.get(257..262) == Some(b"ustar");
    if !is_tar(a) || !is_tar(b) {
        return None;
    }
    let (blobs, others) = (MemoryBlobs::default(), MemoryBlobs::default());
    let read = |bytes: &[u8], into: &MemoryBlobs| -> Option<Tree> { tar::read_tree(bytes, into).ok() };
    let mut out = Vec::new();
    for change in difference(&read(a, &blobs)?, &read(b, &others)?) {
        let path = change.path;
        match change.kind {
            ChangeKind::Added(_) => out.push(format!("member {path}: only in the second")),
            ChangeKind::Removed(_) => out.push(format!("member {path}: only in the first")),
            ChangeKind::Changed { fields, .. } => {
                out.extend(fields.iter().map(|f| format!("member {path}: {} {} -> {}", f.field, f.before, f.after)));
            }
        }
    }
    if out.is_empty() {
        out.push("the members are the same, in another order or written otherwise".into());
    }
    Some(out)
}

/// Both packed the same way: the header, and what differs in what is packed.
fn packed(a: &[u8], b: &[u8]) -> Option<Vec<String>> {
    let kind = Compression::detect(a);
    if kind == Compression::None || kind != Compression::detect(b) {
        return None;
    }
    let unpacked = |bytes: &[u8]| -> Option<Vec<u8>> {
        let mut out = Vec::new();
        kind.decompress(std::io::Cursor::new(bytes.to_vec())).ok()?.take(UNPACKED).read_to_end(&mut out).ok()?;
        Some(out)
    };
    let mut out = Vec::new();
    if kind == Compression::Gzip {
        // RFC 1952, section 2.3.1.
        let time = |bytes: &[u8]| bytes.get(4..8).and_then(|t| Some(u32::from_le_bytes(t.try_into().ok()?)));
        if time(a) != time(b) {
            let shown = |bytes: &[u8]| time(bytes).map_or("none".to_string(), |t| t.to_string());
            out.push(format!("gzip header: time {} -> {}", shown(a), shown(b)));
        }
    }
    let (x, y) = (unpacked(a)?, unpacked(b)?);
    if x == y {
        out.push("what is packed is the same".into());
    } else {
        out.push(format!("what is packed differs: {} bytes -> {} bytes", x.len(), y.len()));
        // What is packed twice is not unpacked twice.
        out.extend(plain(&x, &y).unwrap_or_default());
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::Entry;

    /// An `ar` archive of members with their times.
    fn ar(members: &[(&str, u32, &str)]) -> Vec<u8> {
        let mut out = b"!<arch>\n".to_vec();
        for (name, time, text) in members {
            out.extend(format!("{name:<16}{time:<12}0     0     100644  {:<10}`\n", text.len()).into_bytes());
            out.extend(text.as_bytes());
            out.extend(vec![b'\n'; text.len() % 2]);
        }
        out
    }

    fn archived(files: &[(&str, &str)], version: tar::Version) -> Vec<u8> {
        let blobs = MemoryBlobs::default();
        let mut tree = Tree::new();
        for (path, text) in files {
            let (digest, size) = blobs.add(*text);
            tree.insert(path.parse().unwrap(), Entry::file(digest, size));
        }
        tree.add_missing_directories(0);
        tar::write_tree(&tree, version, &blobs, Vec::new()).unwrap()
    }

    #[test]
    fn members_and_their_headers_are_named() {
        let a = ar(&[("one/", 100, "same"), ("two/", 100, "text"), ("old/", 0, "x")]);
        let b = ar(&[("one/", 200, "same"), ("two/", 100, "next"), ("new/", 0, "long")]);
        assert_eq!(
            parts(&a, &b),
            [
                "member new: 4 bytes only in the second",
                "member old: 1 bytes only in the first",
                "member two: 1 of 4 bytes differ, the first at 0",
                "member one: time 100, owner 0:0 -> time 200, owner 0:0",
            ]
        );
    }

    #[test]
    fn archives_are_looked_into_packed_or_not() {
        let now = tar::Version::default();
        let (a, b) = (archived(&[("/d/a", "one"), ("/b", "x")], now), archived(&[("/d/a", "two"), ("/c", "x")], now));
        let told = parts(&a, &b);
        assert_eq!(told.len(), 3, "{told:?}");
        assert!(told[0].starts_with("member /b: only in the first"), "{told:?}");
        assert!(told[2].starts_with("member /d/a: content "), "{told:?}");
        let pack = |bytes: &[u8]| {
            let mut out = Vec::new();
            Compression::Gzip.compress(&mut out, |to| std::io::Write::write_all(to, bytes)).unwrap();
            out
        };
        let (mut p, q) = (pack(&a), pack(&b));
        assert_eq!(parts(&p, &q)[1..], told);
        let same = p.clone();
        p[4..8].copy_from_slice(&7u32.to_le_bytes());
        assert_eq!(parts(&same, &p), ["gzip header: time 0 -> 7", "what is packed is the same"]);
        let other = archived(&[("/d/a", "one"), ("/d-b", "x")], tar::Version::ByPath);
        let order = parts(&other, &archived(&[("/d/a", "one"), ("/d-b", "x")], now));
        assert_eq!(order, ["the members are the same, in another order or written otherwise"]);
    }

    #[test]
    fn sections_of_this_very_program_are_named() {
        let program = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        let file = object::File::parse(&*program).unwrap();
        let (start, _) = file.section_by_name(".rodata").unwrap().file_range().unwrap();
        let mut other = program.clone();
        other[start as usize + 8] ^= 1;
        let told = parts(&program, &other);
        assert_eq!(told.len(), 1, "{told:?}");
        assert!(told[0].starts_with("section .rodata: 1 of ") && told[0].ends_with("the first at 8"), "{told:?}");
        assert!(parts(b"plain text", b"other text").is_empty());
    }
}
