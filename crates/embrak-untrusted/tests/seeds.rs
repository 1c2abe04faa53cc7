//! What the fuzz targets start from, read as they read it; every prefix of it, and every one of it with a byte changed.

use embrak_untrusted::{BASES, TARGETS, base, target};
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::path::Path;

#[test]
fn seeds_are_read_or_refused_whole_cut_and_changed() {
    let dir = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
    let mut seen = BTreeSet::new();
    for kind in std::fs::read_dir(dir).unwrap().flatten() {
        let name = kind.file_name().to_string_lossy().into_owned();
        let read = target(&name).unwrap_or_else(|| panic!("no target is called {name}"));
        for seed in std::fs::read_dir(kind.path()).unwrap().flatten() {
            let data = std::fs::read(seed.path()).unwrap();
            read(&data);
            // A prime step, so that every kind of place is hit in a seed of a few thousand bytes.
            for at in (0..data.len()).step_by(13) {
                read(&data[..at]);
                let mut changed = data.clone();
                changed[at] ^= 1 << (at % 8);
                read(&changed);
            }
            seen.insert(name.clone());
        }
    }
    let known: BTreeSet<String> = TARGETS.iter().map(|(name, _)| (*name).to_string()).collect();
    assert_eq!(seen, known, "each target has seeds");
}

#[test]
fn every_target_has_a_program_that_fuzzes_it() {
    let dir = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz");
    let manifest = std::fs::read_to_string(dir.join("Cargo.toml")).unwrap();
    for (name, _) in TARGETS {
        let program = std::fs::read_to_string(dir.join(format!("fuzz_targets/{name}.rs"))).unwrap();
        assert!(program.contains(&format!("\"{name}\"")), "{program}");
        assert!(manifest.contains(&format!("name = \"{name}\"")), "{name} is not in the manifest");
    }
}

#[test]
fn every_image_to_change_is_one() {
    for number in 0..BASES {
        assert!(base(number).len() >= 1 << 16, "image {number} has {} bytes", base(number).len());
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    // Where headers lie: the first sectors, the tables behind, the first blocks of each partition.
    #[test]
    fn images_with_changes_where_it_hurts(
        choice in 0u8..BASES as u8,
        hits in proptest::collection::vec(
            (prop_oneof![0u32..0x2000, 0x10_0000u32..0x10_4000, 0x20_0000u32..0x20_9000], any::<[u8; 4]>()), 1..6)
    ) {
        let mut data = vec![choice];
        for (at, bytes) in hits {
            data.extend(&at.to_le_bytes()[..3]);
            data.push(4);
            data.extend(bytes);
        }
        target("disk").unwrap()(&data);
    }
}
