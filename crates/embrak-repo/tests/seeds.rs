//! What the fuzz targets start from, read as they read it; every prefix of it, and every one of it with a byte changed.

use embrak_repo::{Index, Limits, Release, Stanza, Stanzas, parse_relations, read_package, unpack_deb};
use embrak_resolve::{Alternatives, Version};
use embrak_tree::MemoryBlobs;
use embrak_tree::tar::{read_tree, write_tree};
use std::path::Path;

fn try_all(kind: &str, data: &[u8]) {
    match kind {
        "stanzas" => {
            let (mut stanzas, mut stanza) = (Stanzas::new(data), Stanza::default());
            while let Ok(true) = stanzas.next_into(&mut stanza) {
                for (_, value) in stanza.iter() {
                    let _ = parse_relations(value, "amd64");
                }
            }
            let _ = Release::parse(&String::from_utf8_lossy(data));
        }
        "package" => {
            let limits = Limits { data: 1 << 22, control: 1 << 20 };
            let _ = unpack_deb("seed", data, &MemoryBlobs::default(), limits);
            let _ = read_package("seed", data, &MemoryBlobs::default());
        }
        "archive" => {
            let blobs = MemoryBlobs::default();
            if let Ok(tree) = read_tree(data, &blobs) {
                let again = write_tree(&tree, &blobs, Vec::new()).unwrap();
                assert_eq!(read_tree(again.as_slice(), &blobs).unwrap(), tree);
            }
        }
        "version" => {
            let text = String::from_utf8_lossy(data);
            let _ = text.parse::<Alternatives>();
            let versions: Vec<Version> = text.split('\n').filter_map(|t| t.parse().ok()).collect();
            if let [a, b, ..] = versions.as_slice() {
                assert_eq!(a.cmp(b), b.cmp(a).reverse());
            }
        }
        "index" => {
            let _ = Index::load(data.to_vec(), "seed", 0, "amd64");
        }
        other => panic!("no fuzz target {other}"),
    }
}

#[test]
fn seeds_are_read_or_refused_whole_cut_and_changed() {
    let dir = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
    let mut seen = 0;
    for kind in std::fs::read_dir(dir).unwrap().flatten() {
        for seed in std::fs::read_dir(kind.path()).unwrap().flatten() {
            let data = std::fs::read(seed.path()).unwrap();
            let kind = kind.file_name().to_string_lossy().into_owned();
            try_all(&kind, &data);
            // A prime step, so that every kind of place is hit in a seed of a few thousand bytes.
            for at in (0..data.len()).step_by(13) {
                try_all(&kind, &data[..at]);
                let mut changed = data.clone();
                changed[at] ^= 1 << (at % 8);
                try_all(&kind, &changed);
            }
            seen += 1;
        }
    }
    assert!(seen >= 9, "{seen} seeds");
}
