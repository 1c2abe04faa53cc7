//! Packages in exchange form, `NAME_VERSION_ARCH.embpkg`: an uncompressed POSIX tar archive of `package.json`, then
//! `tree.jsonl` (the tree manifest), then `blobs/<sha256>` for each content, compressed with zstd.
//!
//! The digest of `package.json` is the package's identity: it names the digest of the tree, which names everything
//! else. The same package is always the same bytes.

use crate::{RepositoryError, Result};
use embrak_tree::tar::{ArchiveWriter, TarError, read_archive};
use embrak_tree::{BlobSink, BlobSource, Digest, Entry, Kind, Tree, parse_manifest};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::io::{self, Read, Write};

/// Changes when the bytes of a package would.
const FORMAT: u32 = 1;
/// `package.json` above this many bytes is refused.
const HEAD_LIMIT: u64 = 1 << 20;
/// A manifest above this many bytes is refused.
const MANIFEST_LIMIT: u64 = 1 << 30;
const LEVEL: i32 = 6;

/// What is known of a package besides its files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct PackageHead {
    /// Version of this format.
    pub embrak_package: u32,
    /// Its name.
    pub name: String,
    /// Its version with revision.
    pub version: String,
    /// The architecture it is for.
    pub architecture: String,
    /// One line about it.
    pub summary: String,
    /// SPDX licence expression.
    pub license: String,
    /// What it needs, each a requirement.
    pub requires: Vec<String>,
    /// What it provides besides its name.
    pub provides: Vec<String>,
    /// What cannot be there with it.
    pub conflicts: Vec<String>,
    /// Digest of its tree.
    pub tree: Digest,
    /// Bytes of its files.
    pub size: u64,
    /// Number of its files and links.
    pub files: usize,
}

/// A package read from its exchange form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageFile {
    /// What is known of it.
    pub head: PackageHead,
    /// Its files.
    pub tree: Tree,
    /// Digest of `package.json`.
    pub identity: Digest,
}

impl PackageHead {
    /// The version of this format that is written.
    pub const FORMAT: u32 = FORMAT;
}

/// Writes a package.
///
/// # Errors
/// A content is missing, or writing fails.
pub fn write_package<W: Write>(head: &PackageHead, tree: &Tree, blobs: &dyn BlobSource, out: W) -> io::Result<W> {
    let mut archive = ArchiveWriter::new(out);
    let mut member = |name: &str, bytes: &[u8]| {
        archive.entry(name.as_bytes(), &Entry::file(Digest::of(""), bytes.len() as u64), &mut &bytes[..])
    };
    member("package.json", serde_json::to_string(head).map_err(io::Error::other)?.as_bytes())?;
    member("tree.jsonl", tree.manifest().as_bytes())?;
    let contents: BTreeSet<Digest> = tree.blobs().map(|(digest, _)| digest).collect();
    for digest in contents {
        let packed = zstd::encode_all(blobs.open(&digest)?, LEVEL)?;
        member(&format!("blobs/{}", digest.hex()), &packed)?;
    }
    archive.finish()
}

/// Reads a package, contents going to `blobs`; everything is checked against its digest.
///
/// # Errors
/// It is damaged, or not in this format.
pub fn read_package(name: &str, input: impl Read, blobs: &dyn BlobSink) -> Result<PackageFile> {
    let fail = |what: String| RepositoryError::Package { package: name.to_string(), what };
    let (mut head, mut tree, mut identity): (Option<PackageHead>, Option<Tree>, _) = (None, None, Digest::of(""));
    let mut missing: BTreeSet<Digest> = BTreeSet::new();
    let mut sizes = std::collections::BTreeMap::new();
    let wrong = |what: String| TarError::Io(io::Error::new(io::ErrorKind::InvalidData, what));
    let read = read_archive(input, |path, entry, content| {
        let Kind::File { size, .. } = entry.kind else { return Err(wrong(format!("{path} does not belong there"))) };
        let whole = |content: &mut dyn Read, limit: u64| {
            let mut bytes = Vec::new();
            if size > limit {
                return Err(wrong(format!("{path} has more than {limit} bytes")));
            }
            content.read_to_end(&mut bytes)?;
            Ok(bytes)
        };
        match (path.to_string().as_str(), &head, &tree) {
            ("/package.json", None, None) => {
                let bytes = whole(content, HEAD_LIMIT)?;
                let read: PackageHead =
                    serde_json::from_slice(&bytes).map_err(|e| wrong(format!("package.json: {e}")))?;
                if read.embrak_package != FORMAT {
                    return Err(wrong(format!("it has format {}, this Embrak knows {FORMAT}", read.embrak_package)));
                }
                identity = Digest::of(&bytes);
                head = Some(read);
            }
            ("/tree.jsonl", Some(head), None) => {
                let text = String::from_utf8(whole(content, MANIFEST_LIMIT)?).map_err(|e| wrong(e.to_string()))?;
                let read = parse_manifest(&text).map_err(|e| wrong(format!("tree.jsonl: {e}")))?;
                if Digest::of(&text) != head.tree {
                    return Err(wrong("its tree is not the one package.json names".into()));
                }
                for (digest, size) in read.blobs() {
                    missing.insert(digest);
                    sizes.insert(digest, size);
                }
                tree = Some(read);
            }
            (text, _, Some(_)) => {
                let digest = text.strip_prefix("/blobs/").and_then(|hex| Digest::from_hex(hex).ok());
                let digest = digest
                    .filter(|d| missing.remove(d))
                    .ok_or_else(|| wrong(format!("{text} does not belong there")))?;
                let limit = sizes[&digest] + 1;
                let unpacked = zstd::Decoder::new(content)?;
                let (found, _) = blobs.put(&mut unpacked.take(limit))?;
                if found != digest {
                    return Err(wrong(format!("{text} digests to {found}")));
                }
            }
            (other, ..) => return Err(wrong(format!("{other} does not belong there"))),
        }
        Ok(())
    });
    read.map_err(|e| fail(e.to_string()))?;
    let (Some(head), Some(tree)) = (head, tree) else { return Err(fail("it lacks package.json or tree.jsonl".into())) };
    if let Some(digest) = missing.first() {
        return Err(fail(format!("it lacks the content {digest}")));
    }
    crate::deb::check_parents(&tree).map_err(fail)?;
    Ok(PackageFile { head, tree, identity })
}

/// Where a package's file is named after it.
pub(crate) fn place(digest: &Digest) -> String {
    let hex = digest.hex();
    format!("packages/{}/{hex}.embpkg", &hex[..2])
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::{MemoryBlobs, TreePath};

    pub(crate) fn sample(blobs: &MemoryBlobs) -> (PackageHead, Tree) {
        let (digest, size) = blobs.add("turns the lamp");
        let tree: Tree = [
            ("/usr".parse().unwrap(), Entry::directory()),
            ("/usr/lampd".parse::<TreePath>().unwrap(), Entry::file(digest, size)),
        ]
        .into_iter()
        .collect();
        let head = PackageHead {
            embrak_package: FORMAT,
            name: "lampd".into(),
            version: "2.0-1".into(),
            architecture: "x86_64".into(),
            summary: "Turns the lamp".into(),
            license: "MIT".into(),
            requires: vec!["libgauge >= 0.3".into()],
            provides: vec![],
            conflicts: vec![],
            tree: tree.digest(),
            size,
            files: 1,
        };
        (head, tree)
    }

    #[test]
    fn a_package_comes_back_and_any_changed_byte_is_noticed() {
        let blobs = MemoryBlobs::default();
        let (head, tree) = sample(&blobs);
        let bytes = write_package(&head, &tree, &blobs, Vec::new()).unwrap();
        assert_eq!(bytes, write_package(&head, &tree, &blobs, Vec::new()).unwrap());
        let read = read_package("lampd", bytes.as_slice(), &MemoryBlobs::default()).unwrap();
        assert_eq!((&read.head, &read.tree), (&head, &tree));
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x40;
            if let Ok(read) = read_package("lampd", damaged.as_slice(), &MemoryBlobs::default()) {
                // Padding, and header fields a reader need not look at: the content is the same, or another package.
                assert!(
                    read.tree == tree
                        && (read.head == head || read.identity != Digest::of(serde_json::to_string(&head).unwrap())),
                    "byte {at}"
                );
            }
        }
        for cut in 0..bytes.len() / 512 - 2 {
            assert!(read_package("lampd", &bytes[..cut * 512], &MemoryBlobs::default()).is_err(), "cut at block {cut}");
        }
    }
}
