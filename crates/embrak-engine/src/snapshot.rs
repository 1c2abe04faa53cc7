//! Everything a workspace consists of as one tree, so that a build can be done again from the store alone.

use crate::error::Result;
use crate::lock::Lock;
use crate::{Engine, sources};
use embrak_tree::{Entry, Tree, TreePath, overlay};

/// Where in a snapshot the workspace lies: below the root when layers lie beside the workspace.
///
/// # Errors
/// A layer lies where no snapshot could have it.
pub(crate) fn workspace_at(engine: &Engine<'_>) -> Result<String> {
    let own = || engine.workspace.layers.iter().filter(|l| l.tree.is_none());
    // A layer `../shared` lies one directory up, so the workspace is put one directory down.
    let ups = own().map(|l| l.path.split('/').take_while(|part| *part == "..").count()).max().unwrap_or(0);
    let at = (1..=ups).map(|n| format!("level-{n}")).collect::<Vec<_>>().join("/");
    for layer in own() {
        place(&at, &layer.path)?;
    }
    Ok(at)
}

/// The workspace file, the lock of this build and all layers; contents go into the store. The lock is the one that was
/// built by, which with amendments of the command line is not the one on disk.
pub(crate) fn snapshot(engine: &Engine<'_>, lock: &Lock) -> Result<Tree> {
    let workspace = engine.workspace;
    let workspace_at = workspace_at(engine)?;
    let mut tree = Tree::new();
    let (digest, size) = engine.store.host_file(&workspace.root.join("embrak.toml"), true)?;
    tree.insert(place(&workspace_at, "embrak.toml")?, Entry::file(digest, size));
    let lock = lock.to_text();
    let digest = engine.store.put_bytes(&lock)?;
    tree.insert(place(&workspace_at, "embrak.lock")?, Entry::file(digest, lock.len() as u64));
    // The files repositories are checked with; layers from elsewhere are recorded by digest.
    let keys = workspace.def.repository.iter().flat_map(|r| r.keyring.iter().chain(&r.keys));
    for file in keys.filter(|f| !f.value.starts_with('/')) {
        let (digest, size) = engine.store.host_file(&workspace.root.join(&file.value), true)?;
        tree.insert(place(&workspace_at, &file.value)?, Entry::file(digest, size));
    }
    for layer in workspace.layers.iter().filter(|l| l.tree.is_none()) {
        let at = place(&workspace_at, &layer.path)?;
        let mut inside =
            sources::directory_tree(sources::Contents::Keep(engine.store), &layer.dir, 0, sources::Metadata::Plain)?;
        // Who signs a layer later makes it no other.
        crate::signed::without_evidence(&mut inside)?;
        let mut moved = Tree::new();
        for (path, entry) in inside {
            let to = at.join(path.relative()).map_err(|e| crate::EngineError::other(e.to_string(), "rename it"))?;
            moved.insert(to, entry);
        }
        overlay(&mut tree, &moved);
    }
    tree.add_missing_directories(0);
    Ok(tree)
}

/// Where a path of the workspace lies in the snapshot.
fn place(workspace_at: &str, path: &str) -> Result<TreePath> {
    let mut parts: Vec<&str> = workspace_at.split('/').filter(|p| !p.is_empty()).collect();
    for part in path.split('/') {
        match part {
            ".." => {
                parts.pop();
            }
            "" | "." => {}
            part => parts.push(part),
        }
    }
    let inside = TreePath::from_relative(parts.join("/"));
    inside.ok().filter(|_| !path.starts_with('/')).ok_or_else(|| {
        crate::EngineError::other(
            format!("the layer `{path}` is named by an absolute path, so a build of it cannot be recorded and done again elsewhere"),
            "name it from the directory of embrak.toml, such as `../shared/layer`",
        )
    })
}
