//! Disks, filesystems and programs. An image of some size is mostly zeros, so what is given is not the image but what to
//! change in one of ours: the first byte chooses it, then come offsets of three bytes, a length and the new bytes.

use embrak_disk::gpt::{self, NewPartition};
use embrak_disk::{Extents, Guid, ReadAt, Slice, ext4, fat, mbr, partition_type, pe, qcow2};
use embrak_tree::{Digest, DigestOnly, Entry, Kind, MemoryBlobs, Tree, TreePath};
use std::io::{Read, Seek};
use std::sync::OnceLock;

/// How many images there are to change.
pub const BASES: usize = 6;

fn tree(blobs: &MemoryBlobs) -> Tree {
    let mut tree = Tree::new();
    let mut put = |path: &str, entry: Entry| {
        if let Ok(path) = path.parse::<TreePath>() {
            tree.insert(path, entry.dated(1_772_323_200));
        }
    };
    for (path, bytes) in
        [("/EFI/BOOT/BOOTX64.EFI", vec![b'l'; 5000]), ("/a station with a long name", b"holm".to_vec()), ("/e", vec![])]
    {
        let (digest, size) = blobs.add(bytes);
        put(path, Entry::file(digest, size));
    }
    for n in 0..40 {
        let (digest, size) = blobs.add(format!("{n}"));
        put(&format!("/crowd/number {n}"), Entry::file(digest, size));
    }
    tree.add_missing_directories(0);
    tree
}

fn volume(blobs: &MemoryBlobs) -> Extents {
    let options =
        fat::FatOptions { size: 1 << 20, label: "lantern".into(), serial: 7, mtime: 1_772_323_200, hidden_sectors: 0 };
    fat::write(&tree(blobs), &options).unwrap_or_default()
}

fn filesystem(blobs: &MemoryBlobs) -> Extents {
    let mut tree = tree(blobs);
    for (path, kind) in [
        ("/link", Kind::Symlink { target: vec![b'x'; 200] }),
        ("/tty", Kind::CharDevice { major: 5, minor: 0 }),
        ("/other", Kind::Hardlink { target: "/e".parse().unwrap_or_else(|_| TreePath::root()) }),
    ] {
        let mut entry = Entry::new(kind, 0o644);
        entry.xattrs.insert(b"user.note".to_vec(), vec![b'n'; 100]);
        if let Ok(path) = path.parse() {
            tree.insert(path, entry);
        }
    }
    let options = ext4::Ext4Options {
        size: 2 << 20,
        label: "lantern".into(),
        uuid: [7; 16],
        mtime: 1_772_323_200,
        reserved_percent: 1,
        journal: true,
    };
    ext4::Content::of(&tree, blobs, 0).and_then(|content| content.write(&options)).unwrap_or_default()
}

fn disk_of(blobs: &MemoryBlobs, table: bool) -> Extents {
    let partitions: Vec<NewPartition> = [("boot", "esp", 1 << 20), ("root", "root", 2 << 20)]
        .into_iter()
        .map(|(label, kind, size)| NewPartition {
            kind: partition_type(kind, "x86_64").unwrap_or_default(),
            guid: Guid::derived(&Digest::of("seed"), label),
            label: label.into(),
            size,
            attributes: 0,
        })
        .collect();
    let bodies = vec![volume(blobs), filesystem(blobs)];
    let made = if table {
        gpt::plan(&partitions, None).and_then(|l| gpt::write(&l, Guid::default(), &partitions, bodies, vec![]))
    } else {
        let types = [(0x0c, true), (0x83, false)];
        mbr::plan(&partitions, None).and_then(|l| mbr::write(&l, 7, &types, &partitions, bodies, vec![]))
    };
    made.unwrap_or_default()
}

/// One of our images, by its number.
pub fn base(number: usize) -> &'static [u8] {
    static MADE: OnceLock<Vec<Vec<u8>>> = OnceLock::new();
    let made = MADE.get_or_init(|| {
        let blobs = MemoryBlobs::default();
        let disk = disk_of(&blobs, true);
        let packed = || -> std::io::Result<Vec<u8>> {
            let mut file = tempfile::tempfile()?;
            qcow2::write_compressed(&disk, &blobs, &mut file)?;
            file.rewind()?;
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes)?;
            Ok(bytes)
        };
        let plain =
            [volume(&blobs), filesystem(&blobs), disk_of(&blobs, false), disk.clone(), qcow2::wrap(&disk)].into_iter();
        let mut all: Vec<Vec<u8>> = plain.map(|extents| extents.to_vec(&blobs).unwrap_or_default()).collect();
        all.push(packed().unwrap_or_default());
        all
    });
    &made[number % BASES]
}

/// The image that some bytes mean: the chosen one with its changes, or what follows as it is.
pub fn changed(data: &[u8]) -> Vec<u8> {
    let Some((&choice, mut rest)) = data.split_first() else { return Vec::new() };
    if usize::from(choice) >= BASES {
        return rest.to_vec();
    }
    let mut image = base(usize::from(choice)).to_vec();
    while let [a, b, c, length, following @ ..] = rest {
        let at = usize::from(*a) | usize::from(*b) << 8 | usize::from(*c) << 16;
        let n = usize::from(*length).min(following.len());
        let end = (at + n).min(image.len());
        if at < end {
            image[at..end].copy_from_slice(&following[..end - at]);
        }
        rest = &following[n..];
    }
    image
}

/// Partition tables, containers and filesystems, each looked into as far as it goes.
pub(crate) fn disk(data: &[u8]) {
    look(&changed(data), 0);
}

fn look(image: &dyn ReadAt, depth: usize) {
    if depth > 3 {
        return;
    }
    if qcow2::is_qcow2(image)
        && let Ok(inner) = qcow2::Image::open(image)
        && inner.size() <= 64 << 20
    {
        look(&inner, depth + 1);
    }
    let mut parts = Vec::new();
    if let Ok(table) = gpt::read(image) {
        parts.extend(table.partitions.iter().map(|p| (p.start, p.size)));
    }
    if let Some(record) = mbr::read(image) {
        parts.extend(record.partitions.iter().map(|p| (p.start, p.size)));
    }
    for (start, length) in parts.into_iter().take(8) {
        if start.checked_add(length).is_some_and(|end| end <= image.size()) && (start, length) != (0, image.size()) {
            look(&Slice { inner: image, start, length }, depth + 1);
        }
    }
    if let Ok(volume) = ext4::Volume::open(image)
        && let Ok((tree, _)) = volume.tree(&DigestOnly)
    {
        for (path, _) in tree.iter().take(64) {
            if let Ok(file) = volume.open_file(path) {
                let _ = std::io::copy(&mut file.take(1 << 20), &mut std::io::sink());
            }
        }
    }
    if let Ok(volume) = fat::Volume::open(image)
        && let Ok((tree, _)) = volume.tree(&DigestOnly)
    {
        for (path, _) in tree.iter().take(64) {
            let _ = volume.read_file(path);
        }
    }
}

/// Programs of firmware and of the system.
pub(crate) fn program(data: &[u8]) {
    let _ = embrak_root::needed(data);
    if let Ok(program) = pe::read(&data.to_vec()) {
        for section in &program.sections {
            let _ = pe::section_bytes(&data.to_vec(), section, 1 << 20);
        }
        let mut more = Extents::new();
        more.bytes(*b"ID=coast\n");
        if let Ok(made) = pe::with_sections(data, vec![(".osrel", more)]) {
            assert!(made.total() >= data.len() as u64);
        }
    }
}
