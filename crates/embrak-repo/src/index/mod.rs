//! The binary form of an index: made once, then loaded by reading one file.
//!
//! A distribution's index is some 50 MB of text for 60,000 packages, of which one image needs a few hundred. So
//! the text is read once into tables that are searched in place; a package's requirements are parsed when the
//! solver asks for that package.
//!
//! ```text
//!   0  "EMBRAKIX"  format 1 (u32)  CRC-32 of all that follows (u32)
//!  16  number of: packages, names, provided names, providers, bytes of strings, bytes of search text (u32 each)
//!  40  syntax (u8: 0 Debian, 1 ours), 7 zeros
//!  48  packages       104 bytes each, by name, the newest version first    (see `row`)
//!      names          8 bytes each, sorted: string, first package
//!      provided       8 bytes each, sorted: string, first provider
//!      providers      8 bytes each: package, version string or NONE
//!      search starts  4 bytes for each name: where its search text begins
//!      strings        each its length (u32) and bytes
//!      search text    for each name: name 0 summary 0 provided names \n, in lower case
//! ```
//!
//! All numbers are little-endian. The file is a cache: one that does not hold together is made again.

mod build;
mod read;

pub use build::IndexBuilder;
pub use read::{Found, Index};

use crate::RepositoryError;
use embrak_store::Store;
use embrak_tree::Digest;

/// The index kept in the store by a key, made when it is not there or does not hold together.
pub(crate) fn cached(
    store: &Store,
    key: &Digest,
    load: impl Fn(Vec<u8>) -> Result<Index, String>,
    build: impl FnOnce() -> Result<Vec<u8>, String>,
    damaged: impl Fn(String) -> RepositoryError,
) -> crate::Result<Index> {
    if let Some(index) = std::fs::read(store.index_path(key)).ok().and_then(|bytes| load(bytes).ok()) {
        return Ok(index);
    }
    let bytes = build().map_err(&damaged)?;
    store.put_index(key, &bytes)?;
    load(bytes).map_err(damaged)
}

const MAGIC: &[u8; 8] = b"EMBRAKIX";
/// Changes whenever the layout or what goes into it changes; part of the key the file is kept by.
pub(crate) const FORMAT: u32 = 1;
const HEADER: usize = 48;
const NONE: u32 = u32::MAX;

/// Offsets in a package's row.
mod row {
    pub(super) const NAME: usize = 0;
    pub(super) const VERSION: usize = 4;
    pub(super) const ARCHITECTURE: usize = 8;
    pub(super) const SUMMARY: usize = 12;
    pub(super) const SOURCE: usize = 16;
    pub(super) const LICENSE: usize = 20;
    pub(super) const PATH: usize = 24;
    pub(super) const REQUIRES: usize = 28;
    pub(super) const RECOMMENDS: usize = 32;
    pub(super) const CONFLICTS: usize = 36;
    pub(super) const REPLACES: usize = 40;
    pub(super) const PROVIDES: usize = 44;
    pub(super) const LINE: usize = 48;
    /// Bit 0: essential. Bit 1: it has a digest.
    pub(super) const FLAGS: usize = 52;
    pub(super) const SIZE: usize = 56;
    pub(super) const INSTALLED: usize = 64;
    pub(super) const DIGEST: usize = 72;
    pub(super) const LENGTH: usize = 104;
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PackageRecord;
    use crate::record::Syntax;
    use embrak_resolve::Catalog;
    use embrak_tree::Digest;
    use proptest::prelude::*;

    fn record(name: &str, version: &str, provides: &str) -> PackageRecord {
        PackageRecord {
            name: name.into(),
            version: version.into(),
            architecture: "amd64".into(),
            summary: format!("About the {name}"),
            path: format!("pool/{name}.deb"),
            size: 7,
            installed: 4096,
            digest: Some(Digest::of(name)),
            essential: name == "lampd",
            requires: "libgauge (>= 0.3), horn | siren".into(),
            provides: provides.into(),
            line: 12,
            ..PackageRecord::default()
        }
    }

    fn index(records: Vec<PackageRecord>) -> Vec<u8> {
        let mut builder = IndexBuilder::new(Syntax::Debian, "amd64");
        for record in &records {
            builder.add(record);
        }
        builder.finish()
    }

    fn sample() -> Vec<u8> {
        index(vec![
            record("tidelog", "1.0", "gauge-logger (= 2)"),
            record("lampd", "2", ""),
            record("tidelog", "1.10", "gauge-logger, tide-any"),
            record("Bad Name", "1", ""),
            record("horn", "not a version!", ""),
        ])
    }

    #[test]
    fn what_goes_in_comes_out() {
        let index = Index::load(sample(), "mainland stable/main", 3, "amd64").unwrap();
        assert_eq!(index.len(), 3);
        assert_eq!(index.names().collect::<Vec<_>>(), ["lampd", "tidelog"]);
        let range = index.named("tidelog");
        assert_eq!(range, 1..3);
        assert_eq!(index.record(1), record("tidelog", "1.10", "gauge-logger, tide-any"));
        assert_eq!(index.record(2).version, "1.0");
        assert!(index.named("horn").is_empty() && index.named("zz").is_empty() && index.named("").is_empty());
        let providing: Vec<(usize, Option<String>)> =
            index.providing("gauge-logger").into_iter().map(|(n, v)| (n, v.map(|v| v.to_string()))).collect();
        assert_eq!(providing, [(1, None), (2, Some("2".into()))]);
        let candidate = index.candidate(0);
        assert_eq!(candidate.requires[1].0.to_string(), "horn | siren");
        assert_eq!((candidate.origin.as_str(), candidate.rank), ("mainland stable/main:12", 3));
        assert_eq!(index.essential(), [0]);
    }

    #[test]
    fn words_are_found_in_names_summaries_and_provided_names() {
        let index = Index::load(sample(), "", 0, "amd64").unwrap();
        let names = |words: &[&str]| -> Vec<(String, bool)> {
            let words: Vec<String> = words.iter().map(ToString::to_string).collect();
            index.find(&words).into_iter().map(|f| (index.record(f.number).name, f.in_name)).collect()
        };
        assert_eq!(names(&["tide"]), [("tidelog".into(), true)]);
        assert_eq!(names(&["about", "the"]), [("lampd".into(), false), ("tidelog".into(), false)]);
        assert_eq!(names(&["tide-any"]), [("tidelog".into(), false)]);
        assert!(names(&["tide", "lamp"]).is_empty());
        assert_eq!(names(&["t\u{0}a"]), []);
    }

    #[test]
    fn any_flipped_byte_is_noticed() {
        let bytes = sample();
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x10;
            assert!(Index::load(damaged, "", 0, "amd64").is_err(), "byte {at}");
        }
        for cut in [0, 10, 47, bytes.len() - 1] {
            assert!(Index::load(bytes[..cut].to_vec(), "", 0, "amd64").is_err());
        }
    }

    proptest! {
        /// With a right checksum over wrong tables, nothing may panic either.
        #[test]
        fn wrong_tables_never_panic(at in 16usize..400, to in any::<u8>(), name in "[a-z]{0,6}") {
            let mut bytes = sample();
            let at = at % bytes.len();
            if at >= 16 {
                bytes[at] = to;
                let crc = crc32fast::hash(&bytes[16..]);
                bytes[12..16].copy_from_slice(&crc.to_le_bytes());
            }
            if let Ok(index) = Index::load(bytes, "", 0, "amd64") {
                let _ = (index.named(&name), index.providing(&name), index.find(std::slice::from_ref(&name)), index.essential());
                for number in 0..index.len().min(10) {
                    let _ = index.candidate(number);
                }
            }
        }
    }
}
