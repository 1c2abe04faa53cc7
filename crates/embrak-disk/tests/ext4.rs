//! ext4 written by us and judged by the system's own checker and kernel; and read back, damaged or whole.

mod common;

use common::judge;
use embrak_disk::ext4::{Content, Ext4Options, Volume, WriteError};
use embrak_disk::{Extents, emit};
use embrak_tree::{Digest, DigestOnly, Entry, Kind, MemoryBlobs, Tree, TreePath, difference};
use proptest::prelude::*;
use std::fs;

fn options(size: u64) -> Ext4Options {
    Ext4Options {
        size,
        label: "lantern".into(),
        uuid: *b"\x5a\x11\x22\x33\x44\x55\x86\x77\x88\x99\xaa\xbb\xcc\xdd\xee\xff",
        mtime: 1_772_323_200,
        reserved_percent: 1,
        journal: true,
    }
}

fn path(text: &str) -> TreePath {
    text.parse().unwrap()
}

/// A tree with one of everything.
fn everything(blobs: &MemoryBlobs) -> Tree {
    let mut tree = Tree::new();
    let file = |tree: &mut Tree, at: &str, bytes: Vec<u8>| {
        let (digest, size) = blobs.add(bytes);
        tree.insert(path(at), Entry::file(digest, size).dated(1_772_000_000));
    };
    file(&mut tree, "/empty", vec![]);
    file(&mut tree, "/small", b"a lamp".to_vec());
    file(&mut tree, "/odd", (0..70_001u32).map(|n| n as u8).collect());
    let mut sparse = vec![0; 6 << 20];
    sparse[..5000].fill(7);
    sparse[(3 << 20)..(3 << 20) + 9000].fill(9);
    *sparse.last_mut().unwrap() = 1;
    file(&mut tree, "/sparse", sparse);
    file(&mut tree, "/large", (0..3_000_000u32).map(|n| (n % 251) as u8 | 1).collect());
    for n in 0..3000 {
        file(&mut tree, &format!("/crowd/a file with a rather long name, number {n}"), format!("{n}").into_bytes());
    }
    for n in 0..40 {
        tree.insert(path(&format!("/many/{n:03}")), Entry::directory().dated(5));
    }
    tree.insert(path("/hard"), Entry::new(Kind::Hardlink { target: path("/small") }, 0));
    tree.insert(path("/zz/hard"), Entry::new(Kind::Hardlink { target: path("/small") }, 0));
    tree.insert(path("/link"), Entry::symlink("small").dated(-5));
    tree.insert(path("/long-link"), Entry::symlink(format!("/{}", "x".repeat(300))).dated(4_000_000_000));
    tree.insert(path("/fifo"), Entry::new(Kind::Fifo, 0o640));
    tree.insert(path("/tty"), Entry::new(Kind::CharDevice { major: 5, minor: 0 }, 0o666));
    tree.insert(path("/disk"), Entry::new(Kind::BlockDevice { major: 259, minor: 70_000 }, 0o660));
    let capability = vec![1, 0, 0, 2, 0, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    let mut entry = tree.get(&path("/odd")).unwrap().clone();
    (entry.mode, entry.uid, entry.gid) = (0o4755, 100_000, 70_000);
    entry.xattrs.insert(b"security.capability".to_vec(), capability);
    tree.insert(path("/odd"), entry);
    let mut acl = 2u32.to_le_bytes().to_vec();
    for (tag, permissions, id) in
        [(1u16, 6u16, u32::MAX), (2, 4, 1000), (4, 4, u32::MAX), (16, 4, u32::MAX), (32, 0, u32::MAX)]
    {
        acl.extend(tag.to_le_bytes());
        acl.extend(permissions.to_le_bytes());
        acl.extend(id.to_le_bytes());
    }
    for at in ["/large", "/many"] {
        let mut entry = tree.get(&path(at)).cloned().unwrap_or_else(Entry::directory);
        entry.xattrs.insert(b"system.posix_acl_access".to_vec(), acl.clone());
        entry.xattrs.insert(b"user.note".to_vec(), vec![b'n'; 400]);
        entry.mode = if entry.is_directory() { 0o755 } else { 0o640 };
        tree.insert(path(at), entry);
    }
    tree.add_missing_directories(9);
    tree
}

/// What a reader gives back for a tree.
fn as_read(tree: &Tree, mtime: i64) -> Tree {
    let mut out = tree.clone();
    out.add_missing_directories(mtime);
    if out.get(&path("/lost+found")).is_none() {
        out.insert(path("/lost+found"), Entry::new(Kind::Directory, 0o700).dated(mtime));
    }
    let links: Vec<_> = out
        .iter()
        .filter(|(_, e)| matches!(e.kind, Kind::Hardlink { .. }))
        .map(|(p, e)| (p.clone(), e.clone()))
        .collect();
    for (at, link) in links {
        let target = out.resolve_link(&link).clone();
        out.insert(at, Entry { kind: link.kind, xattrs: Default::default(), ..target });
    }
    // The first name in path order holds the file.
    let moved: Vec<(TreePath, TreePath)> = out
        .iter()
        .filter_map(|(p, e)| {
            if let Kind::Hardlink { target } = &e.kind {
                (p < target).then(|| (p.clone(), target.clone()))
            } else {
                None
            }
        })
        .collect();
    for (first, old) in moved {
        if matches!(out.get(&first).unwrap().kind, Kind::Hardlink { .. })
            && !matches!(out.get(&old).unwrap().kind, Kind::Hardlink { .. })
        {
            let entry = out.get(&old).unwrap().clone();
            out.insert(first.clone(), entry.clone());
            let again: Vec<TreePath> = out
                .iter()
                .filter(|(p, e)| **p == old || matches!(&e.kind, Kind::Hardlink { target } if *target == old))
                .map(|(p, _)| p.clone())
                .collect();
            for at in again.into_iter().filter(|p| *p != first) {
                let kind = Kind::Hardlink { target: first.clone() };
                out.insert(at, Entry { kind, xattrs: Default::default(), ..entry.clone() });
            }
        }
    }
    out
}

fn assert_same(wanted: &Tree, got: &Tree) {
    let changes: Vec<String> = difference(wanted, got).iter().map(|c| format!("{c:?}")).collect();
    assert!(changes.is_empty(), "{}", changes[..changes.len().min(5)].join("\n"));
}

fn written(extents: &Extents, blobs: &MemoryBlobs) -> tempfile::NamedTempFile {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    emit(extents, blobs, file.as_file_mut()).unwrap();
    file
}

#[test]
fn one_of_everything_is_sound_and_reads_back_at_several_sizes() {
    let blobs = MemoryBlobs::default();
    let tree = everything(&blobs);
    let content = Content::of(&tree, &blobs, 77).unwrap();
    let smallest = content.smallest_size(&options(0)).unwrap();
    assert!(smallest < 20 << 20, "{smallest}");
    for size in [smallest, 24 << 20, 32 << 20, 200 << 20, 3 << 30] {
        let extents = content.write(&options(size)).unwrap();
        assert_eq!(extents.total(), size);
        let file = written(&extents, &blobs);
        let image = file.path().to_string_lossy().into_owned();
        if judge("e2fsck", &["-fn", &image]).is_some() {
            let said = judge("dumpe2fs", &["-h", &image]).unwrap();
            for wanted in ["lantern", "5a112233-4455-8677-8899-aabbccddeeff", "metadata_csum", "resize_inode", "64bit"]
            {
                assert!(said.contains(wanted), "{wanted} in {said}");
            }
            assert_eq!(said.contains("has_journal"), size >= 8 << 20);
        }
        let volume = Volume::open(file.as_file()).unwrap();
        let (read, damage) = volume.tree(&DigestOnly).unwrap();
        assert!(damage.is_empty(), "{damage:?}");
        assert_same(&as_read(&tree, 77), &read);
    }
    let too_small = content.write(&options(smallest - (1 << 20)));
    assert!(matches!(too_small, Err(WriteError::TooSmall { .. })));
}

#[test]
fn holes_take_no_room() {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    let mut bytes = vec![0; 40 << 20];
    bytes[20 << 20] = 1;
    let (digest, size) = blobs.add(bytes);
    tree.insert(path("/sparse"), Entry::file(digest, size));
    let content = Content::of(&tree, &blobs, 0).unwrap();
    assert!(content.smallest_size(&options(0)).unwrap() <= 2 << 20);
}

#[test]
fn the_largest_filesystem_can_be_addressed() {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    let (digest, size) = blobs.add("x");
    tree.insert(path("/x"), Entry::file(digest, size));
    let content = Content::of(&tree, &blobs, 0).unwrap();
    assert_eq!(content.write(&options(16 << 40)).unwrap().total(), 16 << 40);
    assert!(matches!(content.write(&options((16 << 40) + 1)), Err(WriteError::Size(_))));
    assert!(matches!(content.write(&options(1000)), Err(WriteError::Size(_))));
}

#[test]
fn a_very_large_directory_has_an_index_of_two_levels() {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    for n in 0..9000 {
        let name = format!("/d/{n:05}-{}", "y".repeat(240));
        tree.insert(path(&name), Entry::new(Kind::Fifo, 0o600));
    }
    // 1 KiB blocks: three entries to a block, 123 blocks to an index.
    let extents = Content::of(&tree, &blobs, 0).unwrap().write(&options(24 << 20)).unwrap();
    let file = written(&extents, &blobs);
    judge("e2fsck", &["-fn", &file.path().to_string_lossy()]);
    assert_eq!(Volume::open(file.as_file()).unwrap().tree(&DigestOnly).unwrap().0.len(), 9003);
}

#[test]
fn what_others_made_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let source = dir.path().join("tree");
    fs::create_dir_all(source.join("deep/er")).unwrap();
    fs::write(source.join("deep/er/file"), vec![b'q'; 300_000]).unwrap();
    fs::write(source.join("small"), "s").unwrap();
    std::os::unix::fs::symlink("small", source.join("link")).unwrap();
    for (kind, wanted) in [("ext2", "ext2"), ("ext3", "ext3"), ("ext4", "ext4")] {
        let image = dir.path().join(kind);
        let args = ["-q", "-t", kind, "-d", &source.to_string_lossy(), &image.to_string_lossy(), "20M"];
        if judge("mke2fs", &args).is_none() {
            return;
        }
        let file = fs::File::open(&image).unwrap();
        let volume = Volume::open(&file).unwrap();
        assert_eq!(volume.info().kind, wanted);
        let (tree, damage) = volume.tree(&DigestOnly).unwrap();
        assert!(damage.is_empty(), "{damage:?}");
        let file = tree.get(&path("/deep/er/file")).unwrap();
        assert_eq!(file.kind, Kind::File { digest: Digest::of(vec![b'q'; 300_000]), size: 300_000 });
        assert_eq!(tree.get(&path("/link")).unwrap().kind, Kind::Symlink { target: b"small".to_vec() });
        let mut read = Vec::new();
        std::io::Read::read_to_end(&mut volume.open_file(&path("/deep/er/file")).unwrap(), &mut read).unwrap();
        assert_eq!(read.len(), 300_000);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_tree_reads_back(files in proptest::collection::vec(("[a-c/]{1,9}", 0usize..9000, 0u32..0o10000, -9i64..9_000_000_000), 0..30)) {
        let blobs = MemoryBlobs::default();
        let mut tree = Tree::new();
        for (name, length, mode, mtime) in files {
            let Ok(at) = TreePath::from_relative(&name) else { continue };
            let above = std::iter::successors(at.parent(), TreePath::parent);
            if at.is_root() || tree.get(&at).is_some() || above.clone().any(|p| tree.get(&p).is_some_and(|e| !e.is_directory())) {
                continue;
            }
            let (digest, size) = blobs.add(vec![mode as u8; length]);
            tree.insert(at, Entry { mode, uid: mode * 100, ..Entry::file(digest, size).dated(mtime) });
        }
        tree.add_missing_directories(3);
        let tree: Tree = tree.clone().into_iter().filter(|(p, e)| e.is_directory() || !tree.iter().any(|(q, _)| q != p && q.starts_with(p))).collect();
        let content = Content::of(&tree, &blobs, 3).unwrap();
        let size = content.smallest_size(&options(0)).unwrap();
        let bytes = content.write(&options(size)).unwrap().to_vec(&blobs).unwrap();
        let (read, damage) = Volume::open(&bytes).unwrap().tree(&DigestOnly).unwrap();
        prop_assert!(damage.is_empty(), "{:?}", damage);
        assert_same(&as_read(&tree, 3), &read);
    }

    #[test]
    fn damage_is_survived(hits in proptest::collection::vec((0usize..1 << 20, any::<u8>()), 1..40)) {
        let blobs = MemoryBlobs::default();
        let mut tree = Tree::new();
        for n in 0..60 {
            let (digest, size) = blobs.add(vec![n; 3000]);
            tree.insert(path(&format!("/d{}/{n}", n % 3)), Entry::file(digest, size));
        }
        let mut bytes = Content::of(&tree, &blobs, 3).unwrap().write(&options(1 << 20)).unwrap().to_vec(&blobs).unwrap();
        for (at, value) in hits {
            // Most of what matters lies in the first part.
            bytes[at % if at % 3 == 0 { 1 << 20 } else { 60_000 }] = value;
        }
        if let Ok(volume) = Volume::open(&bytes) {
            let _ = volume.tree(&DigestOnly);
            let _ = volume.open_file(&path("/d0/0")).map(|mut r| std::io::copy(&mut r, &mut std::io::sink()));
        }
    }
}
