//! Reading image layouts, whoever made them.

use crate::Compression;
use crate::types::{Descriptor, INDEX, ImageConfig, Index, Manifest};
use embrak_tree::{BlobSink, BlobSource, Digest, Entry, HashingReader, Kind, Tree, TreePath, tar};
use serde::de::DeserializeOwned;
use std::io::{self, Read};

/// JSON documents larger than this are refused.
const DOCUMENT_LIMIT: u64 = 4 << 20;

/// Why a layout cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum OciError {
    /// Something the layout refers to is not in it, or is not what its digest says.
    #[error("OCI layout damaged: {0}")]
    Damaged(String),
    /// A layer cannot be unpacked.
    #[error("OCI layer {layer}: {source}")]
    Layer {
        /// Its digest.
        layer: Digest,
        /// Why.
        source: tar::TarError,
    },
    /// Reading failed.
    #[error(transparent)]
    Io(#[from] io::Error),
}

/// An image found in a layout.
#[derive(Debug, Clone)]
pub struct OciImage {
    /// Its entry in the index.
    pub descriptor: Descriptor,
    /// Its manifest.
    pub manifest: Manifest,
    /// How to run it.
    pub config: ImageConfig,
    /// All layers, one over the other.
    pub tree: Tree,
}

/// Reads all images of a layout given as a tree. Every digest on the way is checked.
///
/// # Errors
/// Something is missing or is not what its digest says.
pub fn read_layout(layout: &Tree, source: &dyn BlobSource, sink: &dyn BlobSink) -> Result<Vec<OciImage>, OciError> {
    let reader = Layout { tree: layout, source };
    reader.file("/oci-layout")?;
    let index: Index = reader.document("/index.json")?;
    let mut images = Vec::new();
    reader.images(&index, sink, &mut images, 0)?;
    Ok(images)
}

struct Layout<'a> {
    tree: &'a Tree,
    source: &'a dyn BlobSource,
}

impl Layout<'_> {
    fn file(&self, path: &str) -> Result<(Digest, u64), OciError> {
        let entry = TreePath::new(path).ok().and_then(|path| self.tree.get(&path));
        match entry.map(|e| &self.tree.resolve_link(e).kind) {
            Some(Kind::File { digest, size }) => Ok((*digest, *size)),
            _ => Err(OciError::Damaged(format!("{path} is missing"))),
        }
    }

    fn document<T: DeserializeOwned>(&self, path: &str) -> Result<T, OciError> {
        let (digest, size) = self.file(path)?;
        if size > DOCUMENT_LIMIT {
            return Err(OciError::Damaged(format!("{path} has {size} bytes, more than a document may have")));
        }
        serde_json::from_slice(&self.source.read(&digest)?).map_err(|e| OciError::Damaged(format!("{path}: {e}")))
    }

    /// The path of what a descriptor points to, after checking size and digest.
    fn blob(&self, descriptor: &Descriptor) -> Result<String, OciError> {
        let path = format!("/blobs/sha256/{}", descriptor.digest.hex());
        let (digest, size) = self.file(&path)?;
        if digest != descriptor.digest {
            return Err(OciError::Damaged(format!("the bytes of {path} digest to {digest}")));
        }
        if size != descriptor.size {
            return Err(OciError::Damaged(format!("{path} has {size} bytes, and {} are announced", descriptor.size)));
        }
        Ok(path)
    }

    fn images(&self, index: &Index, sink: &dyn BlobSink, out: &mut Vec<OciImage>, depth: u32) -> Result<(), OciError> {
        for descriptor in &index.manifests {
            let path = self.blob(descriptor)?;
            if descriptor.media_type == INDEX {
                if depth > 4 {
                    return Err(OciError::Damaged("indexes nested more than four deep".into()));
                }
                self.images(&self.document(&path)?, sink, out, depth + 1)?;
                continue;
            }
            let manifest: Manifest = self.document(&path)?;
            if manifest.subject.is_some() || manifest.artifact_type.is_some() {
                // It says something about an image and is none.
                continue;
            }
            let config: ImageConfig = self.document(&self.blob(&manifest.config)?)?;
            if config.rootfs.diff_ids.len() != manifest.layers.len() {
                return Err(OciError::Damaged(
                    "the configuration names another number of layers than the manifest".into(),
                ));
            }
            let mut tree = Tree::new();
            for (layer, diff_id) in manifest.layers.iter().zip(&config.rootfs.diff_ids) {
                self.apply(layer, diff_id, &mut tree, sink)?;
            }
            out.push(OciImage { descriptor: descriptor.clone(), manifest, config, tree });
        }
        Ok(())
    }

    /// Lays a layer over what is there, whiteouts included (`layer.md`).
    fn apply(
        &self,
        layer: &Descriptor,
        diff_id: &Digest,
        tree: &mut Tree,
        sink: &dyn BlobSink,
    ) -> Result<(), OciError> {
        self.blob(layer)?;
        let mut start = [0; 4];
        let n = self.source.open(&layer.digest)?.read(&mut start)?;
        let packed = self.source.open(&layer.digest)?;
        let mut plain = HashingReader::new(Compression::detect(&start[..n]).decompress(packed)?);
        let fail = |source| OciError::Layer { layer: layer.digest, source };
        tar::read_archive(&mut plain, |path, entry, content| place(tree, path, entry, content, sink)).map_err(fail)?;
        let (found, _) = plain.finish()?;
        if found != *diff_id {
            return Err(OciError::Damaged(format!(
                "layer {} unpacks to {found}, and {diff_id} is announced",
                layer.digest
            )));
        }
        Ok(())
    }
}

fn place(
    tree: &mut Tree,
    path: TreePath,
    mut entry: Entry,
    content: &mut dyn Read,
    sink: &dyn BlobSink,
) -> Result<(), tar::TarError> {
    if let Some(hidden) = path.name().strip_prefix(b".wh.") {
        let parent = path.parent().unwrap_or_else(TreePath::root);
        if hidden == b".wh..opq" {
            let kept = tree.get(&parent).cloned();
            tree.remove_below(&parent);
            if let Some(entry) = kept {
                tree.insert(parent, entry);
            }
        } else {
            tree.remove_below(&parent.join(hidden)?);
        }
        return Ok(());
    }
    if let Kind::File { digest, .. } = &mut entry.kind {
        *digest = sink.put(content)?.0;
    }
    if !entry.is_directory() && tree.get(&path).is_some_and(Entry::is_directory) {
        tree.remove_below(&path);
    }
    tree.insert(path, entry);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Config, NewImage, write_layout};
    use embrak_tree::MemoryBlobs;

    fn sample(blobs: &MemoryBlobs) -> Tree {
        let (digest, size) = blobs.add("tide");
        let mut tree = Tree::new();
        tree.insert("/usr/bin/tidelog".parse().unwrap(), Entry::file(digest, size).dated(9));
        tree.add_missing_directories(9);
        tree
    }

    fn written(compression: Compression, blobs: &MemoryBlobs, tree: &Tree) -> crate::Written {
        let config =
            Config { entrypoint: vec!["/usr/bin/tidelog".into()], user: "1000:1000".into(), ..Config::default() };
        let image = NewImage {
            tree,
            architecture: "amd64",
            created: "2026-03-01T00:00:00Z",
            mtime: 9,
            reference: "2026.3",
            config,
            annotations: [("org.opencontainers.image.version".to_string(), "2026.3".to_string())].into(),
            compression,
            archive: tar::Version::default(),
        };
        write_layout(&image, blobs, blobs).unwrap()
    }

    #[test]
    fn what_is_written_is_read() {
        for compression in [Compression::None, Compression::Gzip, Compression::Zstd] {
            let blobs = MemoryBlobs::default();
            let tree = sample(&blobs);
            let layout = written(compression, &blobs, &tree);
            let images = read_layout(&layout.layout, &blobs, &blobs).unwrap();
            assert_eq!(images.len(), 1);
            assert_eq!(images[0].tree, tree);
            assert_eq!(images[0].descriptor.digest, layout.manifest);
            assert_eq!(images[0].config.config.user, "1000:1000");
            assert!(images[0].manifest.layers[0].media_type.ends_with(crate::suffix(compression)));
        }
    }

    #[test]
    fn a_changed_blob_is_noticed() {
        let blobs = MemoryBlobs::default();
        let layout = written(Compression::Gzip, &blobs, &sample(&blobs)).layout;
        let paths: Vec<TreePath> =
            layout.iter().filter(|(p, e)| !e.is_directory() && p.depth() == 3).map(|(p, _)| p.clone()).collect();
        assert_eq!(paths.len(), 3);
        for path in paths {
            let mut changed = layout.clone();
            let (digest, size) = blobs.add("something else");
            changed.insert(path.clone(), Entry::file(digest, size));
            let error = read_layout(&changed, &blobs, &blobs).unwrap_err().to_string();
            assert!(error.contains("damaged"), "{path}: {error}");
        }
    }

    #[test]
    fn the_uncompressed_layer_does_not_depend_on_the_compressor() {
        let blobs = MemoryBlobs::default();
        let tree = sample(&blobs);
        let diff_ids: Vec<_> = [Compression::Gzip, Compression::Zstd]
            .map(|c| {
                read_layout(&written(c, &blobs, &tree).layout, &blobs, &blobs).unwrap()[0]
                    .config
                    .rootfs
                    .diff_ids
                    .clone()
            })
            .into();
        assert_eq!(diff_ids[0], diff_ids[1]);
    }

    #[test]
    fn whiteouts_hide_what_is_below() {
        let blobs = MemoryBlobs::default();
        let mut tree = sample(&blobs);
        let mut put = |path: &str| {
            place(&mut tree, path.parse().unwrap(), Entry::file(Digest::of(""), 0), &mut io::empty(), &blobs).unwrap();
        };
        put("/usr/share/a");
        put("/usr/share/b");
        put("/usr/share/.wh.a");
        put("/usr/bin/.wh..wh..opq");
        let paths: Vec<String> = tree.iter().map(|(p, _)| p.to_string()).collect();
        assert_eq!(paths, ["/", "/usr", "/usr/bin", "/usr/share/b"]);
    }

    #[test]
    fn the_writer_is_pinned() {
        let blobs = MemoryBlobs::default();
        let tree = sample(&blobs);
        let what = "the bytes changed: raise WRITER_VERSION and pin the new digest";
        assert_eq!(written(Compression::Gzip, &blobs, &tree).layout.digest().short(), "d8c953f2caf3", "{what}");
        assert_eq!(written(Compression::Zstd, &blobs, &tree).layout.digest().short(), "cbf27369004c", "{what}");
    }
}
