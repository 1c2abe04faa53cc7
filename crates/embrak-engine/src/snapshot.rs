//! Everything a workspace consists of as one tree, so that a build can be done again from the store alone.

use crate::error::Result;
use crate::{Engine, sources};
use embrak_tree::{Entry, Tree, TreePath, overlay};

/// The workspace file, the lock and all layers; contents go into the store.
pub(crate) fn snapshot(engine: &Engine<'_>) -> Result<Tree> {
    let workspace = engine.workspace;
    let mut tree = Tree::new();
    for name in ["embrak.toml", "embrak.lock"] {
        let path = workspace.root.join(name);
        if path.is_file() {
            let (digest, size) = engine.store.host_file(&path, true)?;
            tree.insert(place(name)?, Entry::file(digest, size));
        }
    }
    for layer in &workspace.layers {
        let at = place(&layer.path)?;
        let inside =
            sources::directory_tree(sources::Contents::Keep(engine.store), &layer.dir, 0, sources::Metadata::Plain)?;
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

fn place(path: &str) -> Result<TreePath> {
    TreePath::from_relative(path).map_err(|e| {
        crate::EngineError::other(
            format!("the layer `{path}` does not lie in the workspace: {e}"),
            "put layers below the directory of embrak.toml, so that a build can be recorded whole",
        )
    })
}
