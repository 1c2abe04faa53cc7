//! Directories that are artifacts: OCI layouts, with statements about them inside.

use crate::error::{Doing, EngineError, Result};
use crate::{sources, write_beside};
use embrak_oci::{OciError, Referrer, referrers, with_referrers, without_referrers};
use embrak_tree::{BlobSource, Digest, Kind, MemoryBlobs, Tree};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// The files of a directory by their digests, and what was made for it in memory.
struct Files {
    by_digest: BTreeMap<Digest, PathBuf>,
    made: MemoryBlobs,
}

impl BlobSource for Files {
    fn open(&self, digest: &Digest) -> io::Result<Box<dyn Read + Send + '_>> {
        match self.by_digest.get(digest) {
            Some(path) => Ok(Box::new(File::open(path)?)),
            None => self.made.open(digest),
        }
    }
}

impl Files {
    fn of(dir: &Path, tree: &Tree) -> Files {
        let file = |(path, entry): (&embrak_tree::TreePath, &embrak_tree::Entry)| match &entry.kind {
            Kind::File { digest, .. } => {
                use std::os::unix::ffi::OsStrExt;
                Some((*digest, dir.join(std::ffi::OsStr::from_bytes(path.relative()))))
            }
            _ => None,
        };
        Files { by_digest: tree.iter().filter_map(file).collect(), made: MemoryBlobs::default() }
    }
}

pub(crate) fn is_layout(path: &Path) -> bool {
    path.join("oci-layout").is_file()
}

fn whole(contents: sources::Contents<'_>, path: &Path) -> Result<Tree> {
    sources::directory_tree(contents, path, 0, sources::Metadata::Plain)
}

/// A directory as an artifact: of a layout, without the statements about it.
pub(crate) fn tree_of(contents: sources::Contents<'_>, path: &Path) -> Result<Tree> {
    let tree = whole(contents, path)?;
    if !is_layout(path) {
        return Ok(tree);
    }
    let files = Files::of(path, &tree);
    let plain = without_referrers(&tree, &files, &files.made).doing("read", path)?;
    // Whoever reads contents from a store has the index there, too.
    if let sources::Contents::Keep(store) = contents
        && let Some(Kind::File { digest, .. }) = plain.get(&index()?).map(|e| &e.kind)
        && let Ok(text) = files.made.read(digest)
    {
        store.put_bytes(text)?;
    }
    Ok(plain)
}

fn index() -> Result<embrak_tree::TreePath> {
    embrak_tree::TreePath::new("/index.json").map_err(|e| EngineError::other(e.to_string(), ""))
}

/// The lines of evidence a layout has in it; none when it is no layout.
pub(crate) fn statements(path: &Path) -> Result<Option<Vec<String>>> {
    if !is_layout(path) {
        return Ok(None);
    }
    let tree = whole(sources::Contents::Digest, path)?;
    Ok(Some(referrers(&tree, &Files::of(path, &tree)).doing("read", path)?))
}

/// Puts statements about a layout into it, in place of those that are there.
pub(crate) fn put_statements(path: &Path, statements: &[Referrer]) -> Result<()> {
    let before = whole(sources::Contents::Digest, path)?;
    let files = Files::of(path, &before);
    let after = with_referrers(&before, statements, &files, &files.made).map_err(|e: OciError| {
        EngineError::other(format!("{}: {e}", path.display()), "sign the layout as `embrak build` wrote it")
    })?;
    let host = |tree_path: &embrak_tree::TreePath| {
        use std::os::unix::ffi::OsStrExt;
        path.join(std::ffi::OsStr::from_bytes(tree_path.relative()))
    };
    // What is new first, the index that names it last, what nothing names any more at the end.
    let index = index()?;
    let mut new: Vec<_> = after.iter().filter(|(p, e)| before.get(p).map(|b| &b.kind) != Some(&e.kind)).collect();
    new.sort_by_key(|(p, _)| **p == index);
    for (tree_path, entry) in new {
        if let Kind::File { digest, .. } = &entry.kind {
            let to = host(tree_path);
            write_beside(&to, &files.read(digest).doing("read", &to)?)?;
        }
    }
    for (tree_path, _) in before.iter().filter(|(p, _)| after.get(p).is_none()) {
        let gone = host(tree_path);
        std::fs::remove_file(&gone).doing("remove", &gone)?;
    }
    Ok(())
}
