//! Disks that are compared without being digested: same files, laid out otherwise.

use embrak_disk::ext4::{Content, Ext4Options};
use embrak_engine::diff;
use embrak_tree::{Digest, Entry, Kind, MemoryBlobs, Tree, TreePath};
use std::path::{Path, PathBuf};

fn path(text: &str) -> TreePath {
    text.parse().unwrap()
}

/// A tree of files whose contents follow from their names, with one as given.
fn tree(blobs: &MemoryBlobs, station: &str) -> Tree {
    let mut tree = Tree::new();
    for n in 0..40u32 {
        let bytes: Vec<u8> = (0..n * 977).map(|i| (i * (n + 3) % 251) as u8).collect();
        let (digest, size) = blobs.add(bytes);
        tree.insert(path(&format!("/d{}/f{n}", n % 5)), Entry::file(digest, size));
    }
    let (digest, size) = blobs.add(station);
    tree.insert(path("/etc/station"), Entry::file(digest, size));
    tree.insert(path("/etc/link"), Entry::new(Kind::Hardlink { target: path("/d1/f11") }, 0o644));
    tree.add_missing_directories(0);
    tree
}

fn written(dir: &Path, name: &str, tree: &Tree, blobs: &MemoryBlobs, size: u64) -> PathBuf {
    let label = "root".to_string();
    let options = Ext4Options { size, label, uuid: [7; 16], mtime: 0, reserved_percent: 5, journal: false };
    let content = Content::of(tree, blobs, 0).unwrap();
    let to = dir.join(name);
    std::fs::write(&to, content.write(&options).unwrap().to_vec(blobs).unwrap()).unwrap();
    to
}

#[test]
fn the_same_files_laid_out_otherwise_are_the_same() {
    let (dir, blobs) = (tempfile::tempdir().unwrap(), MemoryBlobs::default());
    let a = written(dir.path(), "a", &tree(&blobs, "holm\n"), &blobs, 8 << 20);
    let b = written(dir.path(), "b", &tree(&blobs, "holm\n"), &blobs, 12 << 20);
    let report = diff(&a, &b).unwrap();
    assert!(!report.identical && report.same_content, "{report:?}");
    assert!(report.differences.iter().all(|d| !d.place.contains('/')), "{report:?}");
    let same = diff(&a, &a).unwrap();
    assert!(same.identical && same.differences.is_empty(), "{same:?}");
    assert_eq!(same.first, Some(Digest::of(std::fs::read(&a).unwrap())));
}

#[test]
fn only_what_differs_is_told_and_by_its_real_digest() {
    let (dir, blobs) = (tempfile::tempdir().unwrap(), MemoryBlobs::default());
    let (one, mut two) = (tree(&blobs, "holm\n"), tree(&blobs, "rock\n"));
    let (digest, size) = blobs.add("new");
    two.insert(path("/d0/new"), Entry::file(digest, size));
    two.remove(&path("/d2/f7"));
    let (digest, size) = blobs.add(vec![3; 9 * 977]);
    two.insert(path("/d4/f9"), Entry::file(digest, size));
    let a = written(dir.path(), "a", &one, &blobs, 8 << 20);
    let b = written(dir.path(), "b", &two, &blobs, 8 << 20);
    let report = diff(&a, &b).unwrap();
    let mut places: Vec<&str> =
        report.differences.iter().map(|d| d.place.trim_start_matches(": ")).filter(|p| p.starts_with('/')).collect();
    places.dedup();
    assert_eq!(places, ["/d0/new", "/d2/f7", "/d4/f9", "/etc/station"]);
    let station = report.differences.iter().find(|d| d.place.ends_with("/etc/station")).unwrap();
    assert!(station.lines.as_ref().is_some_and(|l| l.contains("-holm") && l.contains("+rock")), "{station:?}");
    // The same is found when one side is digested, because the other is no disk.
    let manifest = dir.path().join("two.jsonl");
    let mut with_lost = two;
    let mut lost = Entry::new(Kind::Directory, 0o700);
    lost.mtime = 0;
    with_lost.insert(path("/lost+found"), lost);
    std::fs::write(&manifest, with_lost.manifest()).unwrap();
    let report = diff(&b, &manifest).unwrap();
    assert!(report.same_content, "{:?}", report.differences);
}
