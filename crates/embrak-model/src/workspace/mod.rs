//! A workspace with all its layers, read, merged and checked.

mod check;
mod load;

use crate::definitions::{Architecture, BoardDef, ImageDef, LayerDef, LayerSource, RecipeDef, WorkspaceDef};
use crate::{Amendment, Node, ParamSources, Params, Problem};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Gets layers from elsewhere: this crate knows nothing of networks.
pub trait RemoteLayers: fmt::Debug {
    /// The directory with the layer's files, which stay as they are, and the digest of their tree. Relative paths
    /// are from the workspace's directory, `root`.
    ///
    /// # Errors
    /// It cannot be had, or is not what it has to be.
    fn layer(&self, root: &Path, source: &LayerSource) -> Result<(PathBuf, String), Problem>;
}

/// For what definitions are merged: amendments may depend on it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Target {
    /// The board, if one matters.
    pub board: Option<String>,
    /// The architecture, if it is known.
    pub architecture: Option<String>,
}

impl Target {
    /// Whether an amendment applies to this target.
    pub(crate) fn fits(&self, amendment: &Amendment) -> bool {
        amendment.when.iter().all(|(key, wanted)| {
            let mine = if key == "board" { &self.board } else { &self.architecture };
            mine.as_ref().is_some_and(|mine| wanted.contains(mine))
        })
    }
}

/// What the command line adds to the files.
#[derive(Debug, Clone, Default)]
pub struct WorkspaceOptions {
    /// Where parameters get their values.
    pub params: ParamSources,
    /// `--set KIND:NAME.KEY=VALUE`, in order: the last amendments of all.
    pub set: Vec<String>,
    /// Who gets layers from elsewhere; none: such layers are a problem.
    pub remote: Option<Arc<dyn RemoteLayers>>,
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
    /// Its path as the workspace names it; for one from elsewhere, a short name.
    pub path: String,
    /// Where it is from.
    pub source: LayerSource,
    /// Digest of the tree of its files, when it is from elsewhere.
    pub tree: Option<String>,
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
    /// The URLs of its repositories as written, parameters not filled in.
    pub repository_urls: Vec<String>,
    /// What the definitions are merged for: the default board, if there is one.
    pub target: Target,
    raws: Arc<load::Raws>,
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
                if problems.is_empty() {
                    problems = workspace.check_all();
                }
                if problems.is_empty() { Ok(workspace) } else { Err(problems) }
            }
            Some(workspace) => {
                check::check(&workspace, &mut problems);
                Err(dedup(problems))
            }
            None => Err(dedup(problems)),
        }
    }

    /// The target of a board, or of an architecture when no board matters.
    pub fn target_of(&self, board: Option<&str>, architecture: Option<Architecture>) -> Target {
        let of_board = || {
            let raws = self.raws.get("board")?;
            let raw = raws.iter().find(|r| r.node.text("board") == board)?;
            raw.node.text("architecture").map(String::from)
        };
        let architecture = architecture.map(|a| a.to_string()).or_else(|| board.and_then(|_| of_board()));
        Target { board: board.map(String::from), architecture }
    }

    /// The workspace with its definitions merged for a target; itself when that makes no difference.
    ///
    /// # Errors
    /// Every problem the definitions have for that target.
    pub fn at(&self, target: &Target) -> Result<Cow<'_, Workspace>, Vec<Problem>> {
        if *target == self.target || self.amendments.iter().all(|a| self.target.fits(a) == target.fits(a)) {
            return Ok(Cow::Borrowed(self));
        }
        let mut problems = Vec::new();
        let mut workspace = Workspace { target: target.clone(), ..self.clone() };
        load::merge(&mut workspace, &mut problems);
        check::check(&workspace, &mut problems);
        if problems.is_empty() { Ok(Cow::Owned(workspace)) } else { Err(dedup(problems)) }
    }

    /// Every problem for any of the boards.
    fn check_all(&self) -> Vec<Problem> {
        let mut problems = Vec::new();
        for board in self.boards.values() {
            let target = self.target_of(Some(&board.def.board.value), Some(board.def.architecture));
            if let Err(more) = self.at(&target) {
                problems.extend(more);
            }
        }
        dedup(problems)
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
