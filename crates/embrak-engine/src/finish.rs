//! Programs of the image run inside its root: finishing steps, and maintainer scripts when the image asks for that.

use crate::error::{EngineError, Result};
use crate::plan::PlannedImage;
use crate::Engine;
use embrak_root::{Installed, Report};
use embrak_tree::Tree;

pub(crate) fn finish(_engine: &Engine<'_>, _image: &PlannedImage, _tree: Tree) -> Result<Tree> {
    Err(EngineError::other("not yet", ""))
}

pub(crate) fn run_scripts(
    _engine: &Engine<'_>,
    _image: &PlannedImage,
    _tree: Tree,
    _packages: &[Installed<'_>],
) -> Result<(Tree, Report)> {
    Err(EngineError::other("not yet", ""))
}
