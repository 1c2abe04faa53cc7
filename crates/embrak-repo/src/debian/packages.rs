//! From a `Packages` file to the binary index.

use crate::SnapshotIndex;
use crate::compression::Compression;
use crate::control::{Stanza, Stanzas};
use crate::index::IndexBuilder;
use crate::record::{PackageRecord, Syntax};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest};
use std::io::BufReader;

/// Reads the index of a snapshot out of the store.
pub(super) fn build(store: &Store, entry: &SnapshotIndex, architecture: &str, limit: u64) -> Result<Vec<u8>, String> {
    let compression = Compression::of_name(&entry.path).ok_or("it is compressed in a way not known here")?;
    let object = store.open(&entry.digest).map_err(|e| e.to_string())?;
    let limit = entry.unpacked.unwrap_or(limit).min(limit);
    let reader = compression.reader(object, limit).map_err(|e| e.to_string())?;
    let mut stanzas = Stanzas::new(BufReader::with_capacity(1 << 20, reader));
    let mut builder = IndexBuilder::new(Syntax::Debian, architecture);
    let mut stanza = Stanza::default();
    while stanzas.next_into(&mut stanza).map_err(|e| e.to_string())? {
        if let Some(record) = record(&stanza, architecture) {
            builder.add(&record);
        }
    }
    Ok(builder.finish())
}

/// A stanza as a record; none when it is for another architecture or lacks what it must have.
pub(crate) fn record(stanza: &Stanza, architecture: &str) -> Option<PackageRecord> {
    let mut record = PackageRecord { line: stanza.line, ..PackageRecord::default() };
    let mut before = "";
    let mut breaks = "";
    let mut allowed = false;
    for (name, value) in stanza.iter() {
        // By length first: most fields are of no interest, and a distribution has a million of them.
        match name {
            "Package" => record.name = value.into(),
            "Version" => record.version = value.into(),
            "Architecture" => record.architecture = value.into(),
            "Source" => record.source = value.split_whitespace().next().unwrap_or_default().into(),
            "Filename" => record.path = value.into(),
            "Size" => record.size = value.parse().ok()?,
            "Installed-Size" => record.installed = value.parse::<u64>().unwrap_or(0).saturating_mul(1024),
            "SHA256" => record.digest = Digest::from_hex(value).ok(),
            "Essential" => record.essential = value == "yes",
            "Multi-Arch" => allowed = value == "allowed",
            "Pre-Depends" => before = value,
            "Depends" => record.requires = value.into(),
            "Recommends" => record.recommends = value.into(),
            "Conflicts" => record.conflicts = value.into(),
            "Breaks" => breaks = value,
            "Replaces" => record.replaces = value.into(),
            "Provides" => record.provides = value.into(),
            "Description" => record.summary = value.lines().next().unwrap_or_default().into(),
            _ => {}
        }
    }
    join(&mut record.requires, before);
    join(&mut record.conflicts, breaks);
    if allowed {
        // `NAME:any` may be met by it whatever its architecture.
        let any = format!("{}:any (= {})", record.name, record.version);
        join(&mut record.provides, &any);
    }
    let inside = !record.path.starts_with('/') && !record.path.split('/').any(|p| p == "..");
    let ours = record.architecture == architecture || record.architecture == "all";
    (ours && inside && !record.path.is_empty()).then_some(record)
}

fn join(list: &mut String, more: &str) {
    if !more.is_empty() {
        if !list.is_empty() {
            list.push_str(", ");
        }
        list.push_str(more);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Option<PackageRecord> {
        let mut stanza = Stanza::default();
        Stanzas::new(text.as_bytes()).next_into(&mut stanza).unwrap();
        record(&stanza, "amd64")
    }

    const LAMPD: &str = "Package: lampd\nSource: lamp (2-1)\nVersion: 2\nArchitecture: amd64\nMulti-Arch: allowed\nInstalled-Size: 12\n\
        Pre-Depends: libc6\nDepends: horn\nConflicts: old\nBreaks: older\nFilename: pool/l/lampd.deb\nSize: 9\n\
        SHA256: e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\nDescription: Turns the lamp\n and more\n";

    #[test]
    fn a_stanza_becomes_a_record() {
        let record = read(LAMPD).unwrap();
        assert_eq!((record.requires.as_str(), record.conflicts.as_str()), ("horn, libc6", "old, older"));
        assert_eq!((record.installed, record.source.as_str()), (12 * 1024, "lamp"));
        assert_eq!(record.provides, "lampd:any (= 2)");
        assert_eq!(record.summary, "Turns the lamp");
    }

    #[test]
    fn what_is_for_others_or_leads_elsewhere_is_passed_over() {
        assert!(read(&LAMPD.replace("Architecture: amd64", "Architecture: arm64")).is_none());
        assert!(read(&LAMPD.replace("Architecture: amd64", "Architecture: all")).is_some());
        assert!(read(&LAMPD.replace("pool/", "../pool/")).is_none());
        assert!(read(&LAMPD.replace("Size: 9", "Size: huge")).is_none());
    }
}
