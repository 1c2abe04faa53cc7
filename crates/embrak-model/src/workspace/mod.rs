//! A workspace with all its layers, read, merged and checked.

mod check;
mod load;

use crate::definitions::{BoardDef, ImageDef, LayerDef, RecipeDef, WorkspaceDef};
use crate::{Amendment, Node, ParamSources, Params, Problem};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// What the command line adds to the files.
#[derive(Debug, Clone, Default)]
pub struct WorkspaceOptions {
    /// Where parameters get their values.
    pub params: ParamSources,
    /// `--set KIND:NAME.KEY=VALUE`, in order: the last amendments of all.
    pub set: Vec<String>,
}

/// A definition as it is after merging, with where it is from.
#[derive(Debug, Clone)]
pub struct Defined<T> {
    /// The layer's name.
    pub layer: String,
    /// The file, from the workspace.
    pub file: String,
    /// The directory relative paths in it start from.
    pub base: PathBuf,
    /// The merged values with their histories.
    pub node: Node,
    /// The typed definition.
    pub def: T,
}

/// A merged recipe; its `base` is the recipe's own directory.
pub type Recipe = Defined<RecipeDef>;
/// A merged board.
pub type Board = Defined<BoardDef>;
/// A merged image.
pub type Image = Defined<ImageDef>;

/// A layer.
#[derive(Debug, Clone)]
pub struct Layer {
    /// Its definition.
    pub def: LayerDef,
    /// Its path as the workspace names it.
    pub path: String,
    /// Its directory.
    pub dir: PathBuf,
    /// Names of what it brings, as `kind:name`.
    pub contributes: Vec<String>,
    /// What it amends, as `kind:name`.
    pub amends: Vec<String>,
}

/// A workspace with everything in it.
#[derive(Debug, Clone)]
pub struct Workspace {
    /// Its directory.
    pub root: PathBuf,
    /// `embrak.toml`.
    pub def: WorkspaceDef,
    /// The values behind it.
    pub node: Node,
    /// Its layers in order.
    pub layers: Vec<Layer>,
    /// Recipes by name, the layers' order within a name.
    pub recipes: BTreeMap<String, Vec<Recipe>>,
    /// Boards by name.
    pub boards: BTreeMap<String, Board>,
    /// Images by name.
    pub images: BTreeMap<String, Image>,
    /// All amendments in the order they are applied.
    pub amendments: Vec<Amendment>,
    /// Parameters.
    pub params: Params,
}

impl Workspace {
    /// Reads the workspace in a directory.
    ///
    /// # Errors
    /// Every problem found.
    pub fn load(root: &Path, options: &WorkspaceOptions) -> Result<Workspace, Vec<Problem>> {
        let mut problems = Vec::new();
        let workspace = load::load(root, options, &mut problems);
        match workspace {
            Some(workspace) if problems.is_empty() => {
                check::check(&workspace, &mut problems);
                if problems.is_empty() { Ok(workspace) } else { Err(problems) }
            }
            Some(workspace) => {
                check::check(&workspace, &mut problems);
                Err(dedup(problems))
            }
            None => Err(dedup(problems)),
        }
    }

    /// An image by name.
    ///
    /// # Errors
    /// There is none; says what there is.
    pub fn image(&self, name: &str) -> Result<&Image, Problem> {
        self.images.get(name).ok_or_else(|| unknown("image", name, self.images.keys()))
    }

    /// A board by name.
    ///
    /// # Errors
    /// There is none; says what there is.
    pub fn board(&self, name: &str) -> Result<&Board, Problem> {
        self.boards.get(name).ok_or_else(|| unknown("board", name, self.boards.keys()))
    }
}

fn unknown<'a>(kind: &str, name: &str, known: impl Iterator<Item = &'a String> + Clone) -> Problem {
    let close = crate::source::suggestion(name, known.clone().map(String::as_str));
    let list = known.cloned().collect::<Vec<_>>().join(", ");
    Problem::new(format!("no {kind} `{name}` in this workspace")).help(match close {
        Some(close) => format!("did you mean `{close}`?"),
        None if list.is_empty() => format!("it has no {kind} at all"),
        None => format!("it has {list}"),
    })
}

/// A problem in a definition that several others extend is found once for each.
fn dedup(problems: Vec<Problem>) -> Vec<Problem> {
    let mut out: Vec<Problem> = Vec::new();
    for problem in problems {
        if !out.contains(&problem) {
            out.push(problem);
        }
    }
    out
}

/// The workspace a directory lies in: it or the nearest directory above it with an `embrak.toml`.
pub fn find_workspace(from: &Path) -> Option<PathBuf> {
    from.ancestors().find(|dir| dir.join("embrak.toml").is_file()).map(Path::to_path_buf)
}
