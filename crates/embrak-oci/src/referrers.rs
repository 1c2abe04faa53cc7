//! Documents about an image, kept in its layout: manifests with a `subject` (OCI Image Format Specification 1.1,
//! "image manifest", `subject` and `artifactType`; empty descriptor "Guidance for an Empty Descriptor").
//!
//! A layout without its referrers is what it was before they were put in, byte for byte: whoever signs an image does
//! not make it another.

use crate::types::{Descriptor, Index, Manifest};
use crate::{OciError, write::descriptor};
use embrak_tree::{BlobSink, BlobSource, Digest, Entry, Kind, Tree, TreePath};
use std::collections::{BTreeMap, BTreeSet};
use std::io;

/// `artifactType` of a manifest about another, whose one layer is a signed in-toto statement.
pub const IN_TOTO: &str = "application/vnd.in-toto+json";
/// Media type of such a layer.
pub const ENVELOPE: &str = "application/vnd.dsse.envelope.v1+json";
/// Media type of a configuration that says nothing.
pub const EMPTY: &str = "application/vnd.oci.empty.v1+json";
/// Such a configuration.
const NOTHING: &[u8] = b"{}";
/// Annotation with the type of what the statement says.
const PREDICATE: &str = "in-toto.io/predicate-type";

/// Documents larger than this are none of ours.
const LIMIT: u64 = 64 << 20;

/// A signed statement to be put beside an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Referrer {
    /// The envelope, without an end of line.
    pub envelope: String,
    /// The type of what it says.
    pub predicate_type: String,
}

fn blob_path(digest: &Digest) -> io::Result<TreePath> {
    TreePath::new(format!("/blobs/sha256/{}", digest.hex())).map_err(io::Error::other)
}

fn index_path() -> io::Result<TreePath> {
    TreePath::new("/index.json").map_err(io::Error::other)
}

/// A layout taken apart: the entries of its index that are images, and those that are referrers of ours with the
/// digests of their envelopes.
struct Parts {
    index: Index,
    images: Vec<Descriptor>,
    referrers: Vec<(Descriptor, Digest)>,
}

/// None when the index is not as this writer would write it: then nothing can be taken out without a trace.
fn parts(layout: &Tree, source: &dyn BlobSource) -> io::Result<Option<Parts>> {
    let Some((digest, _)) = file(layout, &index_path()?) else { return Ok(None) };
    let text = source.read(&digest)?;
    let Ok(index) = serde_json::from_slice::<Index>(&text) else { return Ok(None) };
    if serde_json::to_vec(&index)? != text {
        return Ok(None);
    }
    let (mut images, mut referrers) = (Vec::new(), Vec::new());
    let plain: BTreeSet<Digest> =
        index.manifests.iter().filter(|d| d.artifact_type.is_none()).map(|d| d.digest).collect();
    for entry in &index.manifests {
        match envelope_of(layout, source, entry, &plain)? {
            Some(envelope) => referrers.push((entry.clone(), envelope)),
            None => images.push(entry.clone()),
        }
    }
    Ok(Some(Parts { index, images, referrers }))
}

fn file(layout: &Tree, path: &TreePath) -> Option<(Digest, u64)> {
    match &layout.get(path)?.kind {
        Kind::File { digest, size } => Some((*digest, *size)),
        _ => None,
    }
}

/// The envelope of an entry that is a referrer exactly as this writer writes it, about one of these images.
fn envelope_of(
    layout: &Tree,
    source: &dyn BlobSource,
    entry: &Descriptor,
    images: &BTreeSet<Digest>,
) -> io::Result<Option<Digest>> {
    if entry.artifact_type.as_deref() != Some(IN_TOTO) {
        return Ok(None);
    }
    // What lies under a digest must be what has it.
    let sound = |d: &Descriptor| -> io::Result<bool> {
        let found = file(layout, &blob_path(&d.digest)?);
        Ok(d.size <= LIMIT && found == Some((d.digest, d.size)))
    };
    if !sound(entry)? {
        return Ok(None);
    }
    let Ok(manifest) = serde_json::from_slice::<Manifest>(&source.read(&entry.digest)?) else { return Ok(None) };
    let about = manifest.subject.as_ref().is_some_and(|s| images.contains(&s.digest));
    let [layer] = manifest.layers.as_slice() else { return Ok(None) };
    let ours = about
        && manifest.artifact_type.as_deref() == Some(IN_TOTO)
        && manifest.config.media_type == EMPTY
        && manifest.config.digest == Digest::of(NOTHING)
        && sound(&manifest.config)?
        && layer.media_type == ENVELOPE
        && sound(layer)?;
    Ok(ours.then_some(layer.digest))
}

/// The envelopes kept in a layout.
///
/// # Errors
/// Something cannot be read.
pub fn referrers(layout: &Tree, source: &dyn BlobSource) -> io::Result<Vec<String>> {
    let Some(parts) = parts(layout, source)? else { return Ok(Vec::new()) };
    let text = |digest: &Digest| String::from_utf8(source.read(digest)?).map_err(io::Error::other);
    parts.referrers.iter().map(|(_, envelope)| text(envelope)).collect()
}

/// A layout as it is without its referrers. Its index goes into the sink.
///
/// # Errors
/// Something cannot be read or written.
pub fn without_referrers(layout: &Tree, source: &dyn BlobSource, sink: &dyn BlobSink) -> io::Result<Tree> {
    let Some(parts) = parts(layout, source)? else { return Ok(layout.clone()) };
    if parts.referrers.is_empty() {
        return Ok(layout.clone());
    }
    let mut out = layout.clone();
    let empty = Digest::of(NOTHING);
    for (manifest, envelope) in &parts.referrers {
        for digest in [&manifest.digest, envelope, &empty] {
            out.remove(&blob_path(digest)?);
        }
    }
    put_index(&mut out, Index { manifests: parts.images, ..parts.index }, sink)?;
    Ok(out)
}

fn put_index(layout: &mut Tree, index: Index, sink: &dyn BlobSink) -> io::Result<()> {
    let (digest, size) = sink.put(&mut serde_json::to_vec(&index)?.as_slice())?;
    if let Some(entry) = layout.get_mut(&index_path()?) {
        entry.kind = Kind::File { digest, size };
    }
    Ok(())
}

/// A layout of one image with these statements about it, and no others.
///
/// # Errors
/// It is not a layout of one image, or something cannot be read or written.
pub fn with_referrers(
    layout: &Tree,
    statements: &[Referrer],
    source: &dyn BlobSource,
    sink: &dyn BlobSink,
) -> Result<Tree, OciError> {
    let other = |what: &str| OciError::Damaged(what.to_string());
    let mut parts =
        parts(layout, source)?.ok_or_else(|| other("index.json is not written as this program writes it"))?;
    let mut out = without_referrers(layout, source, sink)?;
    let [image] = parts.images.as_slice() else { return Err(other("the layout has more than one image")) };
    let subject = Descriptor { platform: None, annotations: BTreeMap::new(), ..image.clone() };
    let mtime = layout.get(&index_path()?).map_or(0, |e| e.mtime);
    let mut keep = |media_type: &str, bytes: &[u8]| -> io::Result<Descriptor> {
        let (digest, size) = sink.put(&mut &*bytes)?;
        out.insert(blob_path(&digest)?, Entry::file(digest, size).dated(mtime));
        Ok(descriptor(media_type, digest, size))
    };
    for statement in statements {
        let annotations: BTreeMap<String, String> = [(PREDICATE.to_string(), statement.predicate_type.clone())].into();
        let manifest = Manifest {
            schema_version: 2,
            media_type: crate::types::MANIFEST.to_string(),
            artifact_type: Some(IN_TOTO.to_string()),
            config: keep(EMPTY, NOTHING)?,
            layers: vec![keep(ENVELOPE, statement.envelope.as_bytes())?],
            subject: Some(subject.clone()),
            annotations: annotations.clone(),
        };
        let text = serde_json::to_vec(&manifest).map_err(io::Error::from)?;
        let entry = keep(crate::types::MANIFEST, &text)?;
        parts.images.push(Descriptor { artifact_type: Some(IN_TOTO.to_string()), annotations, ..entry });
    }
    put_index(&mut out, Index { manifests: parts.images, ..parts.index }, sink)?;
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Compression, Config, NewImage, read_layout, write_layout};
    use embrak_tree::{MemoryBlobs, tar};

    fn layout(blobs: &MemoryBlobs) -> Tree {
        let (digest, size) = blobs.add("tide");
        let mut tree = Tree::new();
        tree.insert("/tide".parse().unwrap(), Entry::file(digest, size));
        tree.add_missing_directories(0);
        let image = NewImage {
            tree: &tree,
            architecture: "amd64",
            created: "2026-03-01T00:00:00Z",
            mtime: 0,
            reference: "1",
            config: Config::default(),
            annotations: BTreeMap::new(),
            compression: Compression::Gzip,
            archive: tar::Version::default(),
        };
        write_layout(&image, blobs, blobs).unwrap().layout
    }

    fn said(what: &str) -> Referrer {
        Referrer {
            envelope: format!("{{\"payload\":\"{what}\"}}"),
            predicate_type: format!("https://e.example/{what}"),
        }
    }

    #[test]
    fn what_is_put_in_comes_out_and_leaves_no_trace() {
        let blobs = MemoryBlobs::default();
        let plain = layout(&blobs);
        let one = with_referrers(&plain, &[said("a"), said("b")], &blobs, &blobs).unwrap();
        assert_eq!(referrers(&one, &blobs).unwrap(), [said("a").envelope, said("b").envelope]);
        assert_eq!(read_layout(&one, &blobs, &blobs).unwrap().len(), 1, "statements are no images");
        assert_eq!(without_referrers(&one, &blobs, &blobs).unwrap(), plain);
        let other = with_referrers(&one, &[said("c")], &blobs, &blobs).unwrap();
        assert_eq!(referrers(&other, &blobs).unwrap(), [said("c").envelope]);
        assert_eq!(without_referrers(&other, &blobs, &blobs).unwrap(), plain);
    }

    #[test]
    fn what_is_not_exactly_a_statement_stays_part_of_the_layout() {
        let blobs = MemoryBlobs::default();
        let plain = layout(&blobs);
        let good = with_referrers(&plain, &[said("a")], &blobs, &blobs).unwrap();
        let index = good.get(&index_path().unwrap()).unwrap();
        let Kind::File { digest, .. } = index.kind else { panic!("{index:?}") };
        let text = String::from_utf8(blobs.read(&digest).unwrap()).unwrap();
        let stays = |tree: &Tree, what: &str| {
            assert_ne!(without_referrers(tree, &blobs, &blobs).unwrap(), plain, "{what}");
        };
        for (what, changed) in [
            ("another kind of artifact", text.replace("in-toto+json", "other+json")),
            ("a space in the index", text.replacen("{", "{ ", 1)),
        ] {
            let mut tree = good.clone();
            let (digest, size) = blobs.add(changed);
            tree.get_mut(&index_path().unwrap()).unwrap().kind = Kind::File { digest, size };
            stays(&tree, what);
        }
        let envelope = Digest::of(said("a").envelope);
        let mut tree = good.clone();
        let (digest, size) = blobs.add("something else");
        tree.get_mut(&blob_path(&envelope).unwrap()).unwrap().kind = Kind::File { digest, size };
        stays(&tree, "an envelope that is not what its digest says");
        let mut tree = good;
        tree.insert("/blobs/sha256/stowaway".parse().unwrap(), Entry::file(digest, size));
        stays(&tree, "a file nothing refers to");
    }
}
