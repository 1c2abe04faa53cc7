//! Writing image layouts.

use crate::Compression;
use crate::types::{
    CONFIG, Config, Descriptor, History, INDEX, ImageConfig, Index, LAYER, MANIFEST, Manifest, Platform, RootFs,
};
use embrak_tree::{BlobSink, BlobSource, Digest, Entry, HashingWriter, Tree, TreePath, tar};
use std::collections::BTreeMap;
use std::io::{self, Seek, SeekFrom, Write};

/// An image to be written.
#[derive(Debug, Clone)]
pub struct NewImage<'a> {
    /// Its files.
    pub tree: &'a Tree,
    /// `amd64`, `arm64` and so on.
    pub architecture: &'a str,
    /// When it is said to have been made (RFC 3339), and all files of the layout's tree.
    pub created: &'a str,
    /// The same in seconds since 1970.
    pub mtime: i64,
    /// Name to find it by in the index.
    pub reference: &'a str,
    /// How to run it.
    pub config: Config,
    /// Notes on the manifest.
    pub annotations: BTreeMap<String, String>,
    /// How the layer is compressed.
    pub compression: Compression,
    /// How the layer is archived.
    pub archive: tar::Version,
}

/// A layout that was written.
#[derive(Debug, Clone)]
pub struct Written {
    /// The layout as a tree; its files are in the blob sink.
    pub layout: Tree,
    /// Digest of the manifest, by which registries know the image.
    pub manifest: Digest,
}

/// Writes an image of one layer.
///
/// # Errors
/// A blob cannot be read or written.
pub fn write_layout(image: &NewImage<'_>, source: &dyn BlobSource, sink: &dyn BlobSink) -> io::Result<Written> {
    // The layer goes through an unnamed temporary file, because its digest is known only at its end.
    let mut diff_id = Digest::of("");
    let mut packed = image.compression.compress(tempfile::tempfile()?, |out| {
        let writer = tar::write_tree(image.tree, image.archive, source, HashingWriter::new(out))?;
        diff_id = writer.finish().1;
        Ok(())
    })?;
    packed.flush()?;
    packed.seek(SeekFrom::Start(0))?;
    let (layer, layer_size) = sink.put(&mut packed)?;

    let config = ImageConfig {
        created: Some(image.created.to_string()),
        architecture: image.architecture.to_string(),
        os: "linux".to_string(),
        config: image.config.clone(),
        rootfs: RootFs { kind: "layers".to_string(), diff_ids: vec![diff_id] },
        history: vec![History { created: Some(image.created.to_string()), created_by: Some("embrak".to_string()) }],
    };
    let mut files: BTreeMap<String, (Digest, u64)> = BTreeMap::new();
    let mut keep = |media_type: &str, bytes: Vec<u8>| -> io::Result<Descriptor> {
        let (digest, size) = sink.put(&mut bytes.as_slice())?;
        files.insert(format!("/blobs/sha256/{}", digest.hex()), (digest, size));
        Ok(descriptor(media_type, digest, size))
    };
    let config = keep(CONFIG, serde_json::to_vec(&config)?)?;
    let manifest = Manifest {
        schema_version: 2,
        media_type: MANIFEST.to_string(),
        artifact_type: None,
        config,
        layers: vec![descriptor(&format!("{LAYER}{}", crate::suffix(image.compression)), layer, layer_size)],
        subject: None,
        annotations: image.annotations.clone(),
    };
    let mut manifest = keep(MANIFEST, serde_json::to_vec(&manifest)?)?;
    let manifest_digest = manifest.digest;
    files.insert(format!("/blobs/sha256/{}", layer.hex()), (layer, layer_size));
    manifest.platform = Some(Platform { architecture: image.architecture.to_string(), os: "linux".to_string() });
    manifest.annotations.insert("org.opencontainers.image.ref.name".to_string(), image.reference.to_string());
    let index = Index { schema_version: 2, media_type: INDEX.to_string(), manifests: vec![manifest] };
    let index = serde_json::to_vec(&index)?;
    for (path, bytes) in [("/index.json", index), ("/oci-layout", br#"{"imageLayoutVersion":"1.0.0"}"#.to_vec())] {
        files.insert(path.to_string(), sink.put(&mut bytes.as_slice())?);
    }
    let mut layout = Tree::new();
    for (path, (digest, size)) in files {
        let path = TreePath::new(path).map_err(io::Error::other)?;
        layout.insert(path, Entry::file(digest, size).dated(image.mtime));
    }
    layout.add_missing_directories(image.mtime);
    Ok(Written { layout, manifest: manifest_digest })
}

pub(crate) fn descriptor(media_type: &str, digest: Digest, size: u64) -> Descriptor {
    let annotations = BTreeMap::new();
    Descriptor { media_type: media_type.to_string(), digest, size, artifact_type: None, platform: None, annotations }
}
