//! Everything that reads bytes from outside, behind one function each: the fuzz targets call them, and ordinary tests
//! call them with every seed, whole, cut and changed. A function here must return, whatever it is given.

mod disks;

use embrak_audit::{Date, Decisions, Package, exposures, read_advisories};
use embrak_compress::Compression;
use embrak_oci::{read_layout, referrers, without_referrers};
use embrak_repo::{Index, Limits, Release, Stanza, Stanzas, parse_relations, read_package, unpack_deb};
use embrak_resolve::{Alternatives, Version};
use embrak_root::{Accounts, PackageScripts, Root};
use embrak_tree::{Digest, MemoryBlobs, Tree, cpio, parse_manifest, tar};
use embrak_trust::{Policy, PublicKey, SigningKey, Subjects, read_evidence, verify};
use std::io::{BufRead, Read};

pub use disks::{BASES, base, changed};

/// A function that reads untrusted bytes.
pub type Target = fn(&[u8]);

/// All of them, by the names of the fuzz targets and of their seeds' directories.
pub const TARGETS: &[(&str, Target)] = &[
    ("advisory", advisory),
    ("archive", archive),
    ("disk", disks::disk),
    ("evidence", evidence),
    ("index", index),
    ("initrd", initrd),
    ("layout", layout),
    ("manifest", manifest),
    ("package", package),
    ("program", disks::program),
    ("script", script),
    ("stanzas", stanzas),
    ("version", version),
];

/// The function of a name.
pub fn target(name: &str) -> Option<Target> {
    TARGETS.iter().find(|(known, _)| *known == name).map(|(_, target)| *target)
}

/// Tar archives: what is read can be written and read again as the same tree.
fn archive(data: &[u8]) {
    let blobs = MemoryBlobs::default();
    if let Ok(tree) = tar::read_tree(data, &blobs) {
        let again = tar::archive(&tree, tar::Version::default()).to_vec(&blobs).unwrap_or_default();
        assert_eq!(tar::read_tree(again.as_slice(), &blobs).ok(), Some(tree));
    }
}

/// Release and index files of repositories.
fn stanzas(data: &[u8]) {
    let (mut stanzas, mut stanza) = (Stanzas::new(data), Stanza::default());
    while let Ok(true) = stanzas.next_into(&mut stanza) {
        for (_, value) in stanza.iter() {
            let _ = parse_relations(value, "amd64");
        }
    }
    let _ = Release::parse(&String::from_utf8_lossy(data));
}

/// Package files of both formats.
fn package(data: &[u8]) {
    let limits = Limits { data: 1 << 22, control: 1 << 20 };
    let _ = unpack_deb("seed", data, &MemoryBlobs::default(), limits);
    let _ = read_package("seed", data, &MemoryBlobs::default());
}

/// Advisories, and the matching of them.
fn advisory(data: &[u8]) {
    let Ok(advisories) = read_advisories(&String::from_utf8_lossy(data), "seed") else { return };
    let package = |version: &str| Package {
        name: "horn".into(),
        version: version.into(),
        source: "horn".into(),
        ecosystem: "Debian:12".into(),
    };
    let packages = [package("1:2.0~rc1-1"), package("0")];
    let told = exposures(&packages, &advisories, &Decisions::default(), Date::constant(2026, 3, 1));
    assert!(told.len() <= 2 * advisories.len(), "each package at most once for each");
}

/// Evidence: nothing that is signed by nobody known is ever believed.
fn evidence(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let subject = Subjects { name: "seed".into(), artifact: Digest::of(data), image: None };
    let policy = Policy::of_key("nobody", SigningKey::from_seed([7; 32]).public());
    assert!(!verify(&subject, &text, &policy).good());
    if let Ok(envelopes) = read_evidence(&text) {
        let again: String = envelopes.iter().map(|e| e.to_line() + "\n").collect();
        assert_eq!(again, text, "a line is written one way");
        let _ = envelopes.iter().filter_map(|e| e.statement().ok()).count();
    }
    let _ = PublicKey::from_pem(&text, "seed");
}

/// Archives of OCI layouts: taking statements out twice is taking them out once.
fn layout(data: &[u8]) {
    let blobs = MemoryBlobs::default();
    let Ok(tree) = tar::read_tree(data, &blobs) else { return };
    let _ = read_layout(&tree, &blobs, &blobs);
    let _ = referrers(&tree, &blobs);
    if let Ok(plain) = without_referrers(&tree, &blobs, &blobs) {
        assert_eq!(without_referrers(&plain, &blobs, &blobs).ok(), Some(plain));
    }
}

/// Versions and requirements; their order is one.
fn version(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let _ = text.parse::<Alternatives>();
    let versions: Vec<Version> = text.split('\n').filter_map(|t| t.parse().ok()).collect();
    for a in versions.iter().take(8) {
        for b in versions.iter().take(8) {
            assert_eq!(a.cmp(b), b.cmp(a).reverse());
        }
    }
}

/// The binary index.
fn index(data: &[u8]) {
    let _ = Index::load(data.to_vec(), "seed", 0, "amd64");
}

/// Tree manifests: one tree has one manifest.
fn manifest(data: &[u8]) {
    if let Ok(tree) = parse_manifest(&String::from_utf8_lossy(data)) {
        assert_eq!(parse_manifest(&tree.manifest()).ok(), Some(tree));
    }
}

/// Initial file systems: archives one behind the other, each perhaps compressed.
fn initrd(data: &[u8]) {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    let mut rest = std::io::BufReader::new(data);
    while let Ok(start) = rest.fill_buf() {
        if start.is_empty() || tree.len() > 4096 {
            break;
        }
        let compression = Compression::detect(start);
        let done = match compression {
            Compression::None => cpio::read_into(&mut tree, &mut rest, &blobs).is_ok(),
            packed => packed
                .decompress(&mut rest)
                .is_ok_and(|plain| cpio::read_into(&mut tree, &mut plain.take(1 << 22), &blobs).is_ok()),
        };
        if !done {
            break;
        }
    }
    let written = cpio::write_tree(&tree, &blobs, Vec::new());
    assert!(written.is_ok() || tree.iter().any(|(path, _)| path.as_bytes().len() > 4000), "{written:?}");
}

/// Maintainer scripts, followed over a small tree.
fn script(data: &[u8]) {
    let blobs = MemoryBlobs::default();
    let mut tree = Tree::new();
    for (path, text) in [("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\n"), ("/etc/group", "root:x:0:\n")] {
        let (digest, size) = blobs.add(text);
        if let Ok(path) = path.parse() {
            tree.insert(path, embrak_tree::Entry::file(digest, size));
        }
    }
    tree.add_missing_directories(0);
    let mut root = Root::new(tree.clone(), &blobs, 0);
    let Ok(mut accounts) = Accounts::read(&root) else { return };
    let text = String::from_utf8_lossy(data).into_owned();
    let packages = [PackageScripts {
        package: "lamp",
        architecture: "amd64",
        tree: &tree,
        preinst: Some(text.clone()),
        postinst: Some(text.clone()),
        templates: Some(text),
    }];
    if let Ok(report) = embrak_root::settle(&mut root, &mut accounts, &packages) {
        let _ = accounts.write(&mut root);
        let _ = embrak_root::apply(&mut root, &report);
    }
    // Whatever a script says, the result is a tree that can be named.
    assert_ne!(root.tree.digest(), Digest::of(""));
}
