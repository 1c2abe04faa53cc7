//! From definitions to a lock: which packages, made by which recipes, with which inputs.

mod reasons;
mod settings;

use self::reasons::{beside, reasons, recommendations};
use self::settings::{options_of, settings_of, with_settings};
use crate::error::{Doing, EngineError, Result};
use crate::lock::{
    Lock, LockedImage, LockedLayer, LockedPackage, LockedRecipe, LockedTool, Maker, Moved, WriterVersions,
};
use crate::repositories::{self, OpenRepository, PlannedFile};
use crate::toolchain::{self, BASE_NAME, HostTool};
use crate::vendor::RecordedFile;
use crate::{Engine, sources};
use embrak_model::definitions::{Architecture, DiskDef, NeedsDef, Output, RecipeSettings};
use embrak_model::{Board, Image, Located, Name, Node, Recipe, Value, Workspace};
use embrak_repo::Syntax;
use embrak_resolve::{
    Alternatives, Candidate, CandidateId, Catalog, Exclusion, Need, Prefer, Provided, Request, Requirement, Universe,
    Unsolvable, Version, solve,
};
use embrak_tree::{Digest, Tree};
use std::collections::{BTreeMap, BTreeSet};

/// Which images are asked for, and for which board.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// Names of images; none: the workspace's default ones, or all.
    pub images: Vec<String>,
    /// Name of the board; none: the workspace's default one.
    pub board: Option<String>,
    /// What to ask for besides, for every image: to find out what that would do.
    pub also: Vec<String>,
}

/// An image for one board, or for one architecture when no board matters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Target {
    /// The image's name.
    pub image: String,
    /// The board's name, if one matters.
    pub board: Option<String>,
    /// The architecture.
    pub architecture: Architecture,
}

impl Target {
    /// The board, or the architecture: the directory of the outputs, and the target in the lock.
    pub fn label(&self) -> &str {
        self.board.as_deref().unwrap_or(self.architecture.as_str())
    }
}

/// Whether versions stay as they are locked.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Update {
    /// All stay, as far as they go together.
    #[default]
    Nothing,
    /// All move to the newest, but those an image holds.
    Everything,
    /// Only these may move.
    Only(BTreeSet<String>),
}

impl Update {
    /// Whether something of this name may move.
    fn moves(&self, name: &str) -> bool {
        match self {
            Update::Nothing => false,
            Update::Everything => true,
            Update::Only(names) => names.contains(name),
        }
    }
}

/// Why a package is in an image: a chain of names from what is asked to the package.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Why {
    /// The requirement as written.
    pub wanted: String,
    /// Who wants it: `image beacon-console`, `lampd 2.0-1`.
    pub by: String,
    /// File and line.
    pub origin: String,
}

/// A recipe to be built, with all that can change its result but the contents of other packages.
#[derive(Debug, Clone)]
pub(crate) struct PlannedRecipe {
    pub(crate) locked: LockedRecipe,
    pub(crate) recipe: Recipe,
    pub(crate) architecture: Architecture,
    pub(crate) options: BTreeMap<Name, bool>,
    pub(crate) sources: Tree,
}

/// An image to be composed.
#[derive(Debug, Clone)]
pub(crate) struct PlannedImage {
    pub(crate) target: Target,
    pub(crate) locked: LockedImage,
    pub(crate) overlays: Vec<Tree>,
    pub(crate) files: Vec<PlannedText>,
    pub(crate) why: BTreeMap<String, Vec<Why>>,
    /// Its definition as merged for the target.
    pub(crate) image: Image,
    /// The board's, likewise.
    pub(crate) board: Option<Board>,
}

/// A file the image's definition has, with its contents.
#[derive(Debug, Clone)]
pub(crate) struct PlannedText {
    pub(crate) path: String,
    pub(crate) bytes: Vec<u8>,
    pub(crate) mode: u32,
    pub(crate) owner: Option<Located<String>>,
}

/// What is to be done.
pub struct Plan {
    /// The new lock: what was locked before, and the selected images anew.
    pub lock: Lock,
    /// What the new lock says otherwise than the old one.
    pub moved: Vec<Moved>,
    /// What should be said with every summary: repositories used without a signature.
    pub warnings: Vec<String>,
    pub(crate) images: Vec<PlannedImage>,
    pub(crate) recipes: BTreeMap<String, PlannedRecipe>,
    pub(crate) tools: BTreeMap<String, HostTool>,
    pub(crate) files: BTreeMap<(Architecture, LockedPackage), PlannedFile>,
}

impl Plan {
    /// The selected images.
    pub fn targets(&self) -> impl Iterator<Item = (&Target, &LockedImage)> {
        self.images.iter().map(|i| (&i.target, &i.locked))
    }

    /// Why each package of an image is in it.
    pub fn why(&self, image: &str) -> Option<&BTreeMap<String, Vec<Why>>> {
        self.images.iter().find(|i| i.target.image == image).map(|i| &i.why)
    }

    /// All package files with what is known of them.
    pub(crate) fn recorded_files(&self) -> Vec<RecordedFile> {
        let recorded = |((architecture, _), file): (&(Architecture, LockedPackage), &PlannedFile)| RecordedFile {
            repository: file.name.clone(),
            architecture: architecture.to_string(),
            debian: file.syntax == Syntax::Debian,
            record: file.record.clone(),
        };
        self.files.iter().map(recorded).collect()
    }

    /// The ready-made packages of the plan: how many, bytes to be fetched for those not in the store, bytes unpacked.
    pub fn ready_made(&self, store: &embrak_store::Store) -> (usize, u64, u64) {
        let missing = self.files.values().filter(|f| f.record.digest.is_some_and(|d| !store.has(&d)));
        let unpacked = self.files.values().map(|f| f.record.installed).sum();
        (self.files.len(), missing.map(|f| f.record.size).sum(), unpacked)
    }
}

/// Resolves the selected images. `previous` is the lock to keep to, as far as `update` allows.
///
/// # Errors
/// Something cannot be resolved or read.
pub fn plan(engine: &Engine<'_>, selection: &Selection, previous: Option<&Lock>, update: &Update) -> Result<Plan> {
    let workspace = engine.workspace;
    crate::signed::demand_layers(engine)?;
    let mut names: Vec<String> = selection.images.clone();
    if names.is_empty() {
        names = workspace.def.default_images.iter().map(|n| n.value.to_string()).collect();
    }
    if names.is_empty() {
        names =
            workspace.images.values().filter(|i| !i.def.is_abstract).map(|i| i.def.image.value.to_string()).collect();
    }
    if names.is_empty() {
        return Err(EngineError::other("this workspace has no image", "write one in images/NAME.toml of a layer"));
    }
    let declared: Vec<String> = workspace.def.toolchain.host.iter().map(|t| t.value.clone()).collect();
    let mut planner = Planner {
        engine,
        declared,
        previous,
        update,
        also: &selection.also,
        recipes: BTreeMap::new(),
        visiting: Vec::new(),
        needed_tools: BTreeSet::new(),
        repositories: BTreeMap::new(),
        files: BTreeMap::new(),
    };
    let mut images = Vec::new();
    for name in names {
        let image = workspace.image(&name).map_err(|p| EngineError::Definitions(vec![p]))?;
        if image.def.is_abstract {
            return Err(EngineError::other(
                format!("image `{name}` is abstract: it is only there to be extended"),
                "build one of the images that extend it",
            ));
        }
        for target in targets(engine, image, selection.board.as_deref())? {
            let merged = workspace
                .at(&workspace.target_of(target.board.as_deref(), Some(target.architecture)))
                .map_err(EngineError::Definitions)?;
            images.push(planner.image(&merged, target)?);
        }
    }
    let wanted: Vec<String> = planner.needed_tools.iter().cloned().collect();
    let Planner { recipes, repositories, files, .. } = planner;
    let any_tools = recipes.values().any(|r| !r.locked.tools.is_empty());
    let locked_tools: BTreeMap<&str, &LockedTool> = previous
        .into_iter()
        .flat_map(|lock| &lock.tools)
        .filter(|tool| !update.moves(&tool.name))
        .map(|tool| (tool.name.as_str(), tool))
        .collect();
    let (tools, not_here) = match any_tools {
        true => toolchain::capture(engine.store, &wanted, &locked_tools, engine.vendored.is_some())?,
        false => Default::default(),
    };
    let mut new = Lock { writers: writers_of(previous, update)?, ..Lock::empty() };
    new.layers = workspace
        .layers
        .iter()
        .map(|l| LockedLayer {
            name: l.def.layer.to_string(),
            version: l.def.version.to_string(),
            path: l.path.clone(),
            tree: l.tree.clone(),
        })
        .collect();
    let mut warnings: BTreeSet<String> = not_here
        .into_iter()
        .map(|name| {
            format!("host tool {name} is the locked one, out of the store: this machine's is another (`embrak lock --update={name}` takes it)")
        })
        .collect();
    for open in repositories.values().flat_map(|r| r.iter()) {
        let mut locked = open.locked.clone();
        let used = |((a, p), _): &(&(Architecture, LockedPackage), &PlannedFile)| {
            *a == open.architecture && p.repository() == Some(locked.name.as_str())
        };
        locked.packages = files.iter().filter(used).filter_map(|(_, f)| repositories::locked_file(&f.record)).collect();
        if locked.signed_by.is_empty() && !locked.packages.is_empty() {
            let at = &open.def.name.at;
            warnings.insert(format!(
                "repository {} is used without a valid signature: `trusted = true` [{at}]",
                locked.name
            ));
        }
        new.repositories.push(locked);
    }
    new.tools = tools
        .values()
        .map(|t| LockedTool { name: t.name.clone(), path: t.path.display().to_string(), digest: t.digest })
        .collect();
    new.recipes = recipes.values().map(|r| r.locked.clone()).collect();
    for image in &mut images {
        image.locked.input = input_digest(engine, image, &new);
    }
    new.images = images.iter().map(|i| i.locked.clone()).collect();
    let empty = Lock::empty();
    let lock = previous.unwrap_or(&empty).absorb(new);
    let mut moved = previous.unwrap_or(&empty).moved(&lock);
    let security: BTreeSet<(&str, &str)> =
        files.iter().filter(|(_, f)| f.security).map(|((_, p), _)| (p.name.as_str(), p.version.as_str())).collect();
    for package in moved.iter_mut().filter_map(|m| m.package.as_mut()) {
        let to = package.to.as_deref().unwrap_or_default();
        package.security = security.contains(&(package.name.as_str(), to));
    }
    Ok(Plan { lock, moved, warnings: warnings.into_iter().collect(), images, recipes, tools, files })
}

/// Under this name, `lock --update` moves writers as it moves packages under theirs.
const WRITERS: &str = "writers";

/// The writers to use: those that are locked, until they are told to move.
fn writers_of(previous: Option<&Lock>, update: &Update) -> Result<WriterVersions> {
    previous.filter(|_| !update.moves(WRITERS)).map_or(Ok(WriterVersions::CURRENT), |lock| lock.writers.kept())
}

/// The targets an image is built for: the board, when the image or one of its outputs needs one; else architectures.
fn targets(engine: &Engine<'_>, image: &Image, board: Option<&str>) -> Result<Vec<Target>> {
    let def = &image.def;
    let name = def.image.value.to_string();
    let needs_board = def.disk.is_some() || def.outputs.iter().any(|o| o.value == Output::DiskRaw);
    if !needs_board {
        let mut architectures = def.container.as_ref().map(|c| c.architectures.clone()).unwrap_or_default();
        if architectures.is_empty() {
            architectures.extend(Architecture::host());
        }
        return Ok(architectures
            .into_iter()
            .map(|a| Target { image: name.clone(), board: None, architecture: a })
            .collect());
    }
    let default = engine.workspace.def.default_board.as_ref().map(|b| b.value.as_str());
    let Some(board) = board.or(default) else {
        let message = format!("image `{name}` needs a board");
        return Err(EngineError::other(message, "name one with --board, or set `default-board` in embrak.toml"));
    };
    let board = engine.workspace.board(board).map_err(|p| EngineError::Definitions(vec![p]))?;
    let target =
        Target { image: name, board: Some(board.def.board.value.to_string()), architecture: board.def.architecture };
    Ok(vec![target])
}

/// The disk of an image: its own, or the board's; its own list of partitions replaces the board's.
pub(crate) fn disk_of(image: &Image, board: Option<&Board>) -> Option<DiskDef> {
    let theirs = board.and_then(|b| b.def.disk.clone());
    match (image.def.disk.clone(), theirs) {
        (Some(mut own), Some(theirs)) => {
            if own.partition.is_empty() {
                own.partition = theirs.partition;
            }
            own.size = own.size.or(theirs.size);
            Some(own)
        }
        (own, theirs) => own.or(theirs),
    }
}

/// The digest of everything that goes into an image: what it is stamped with.
fn input_digest(engine: &Engine<'_>, planned: &PlannedImage, lock: &Lock) -> Digest {
    let image = &planned.locked;
    let mut wanted: Vec<&LockedPackage> = image.packages.iter().collect();
    let mut recipes: BTreeMap<&str, &LockedRecipe> = BTreeMap::new();
    let mut files: BTreeMap<&LockedPackage, Digest> = BTreeMap::new();
    while let Some(package) = wanted.pop() {
        if let Some(recipe) = package.recipe().and_then(|id| lock.recipe(id))
            && recipes.insert(&recipe.id, recipe).is_none()
        {
            wanted.extend(&recipe.uses);
        }
        if let Some(name) = package.repository()
            && let Some(repository) = lock.repository(name, planned.target.architecture.as_str())
            && let Some(file) =
                repository.packages.iter().find(|f| f.name == package.name && f.version == package.version)
        {
            files.insert(package, file.digest);
        }
    }
    let files: Vec<(&str, Digest)> = files.into_iter().map(|(p, digest)| (p.name.as_str(), digest)).collect();
    let used: BTreeSet<&String> = recipes.values().flat_map(|r| &r.tools).collect();
    let tools: Vec<&LockedTool> = lock.tools.iter().filter(|t| used.contains(&t.name)).collect();
    let tools: Vec<(&str, Digest)> = tools.iter().map(|t| (t.name.as_str(), t.digest)).collect();
    // Paths of files are not inputs: the same definitions in a layer of another name give the same image.
    let recipes: Vec<_> = recipes.values().map(|r| (&r.id, r.definition, r.sources, &r.tools, &r.uses)).collect();
    let overlays: Vec<&str> = image.overlays.iter().filter_map(|o| o.rsplit(' ').next()).collect();
    let mut all = serde_json::json!({
        "embrak-input": 1,
        "epoch": engine.workspace.def.epoch.0,
        "image": image.name,
        "target": image.target,
        "definition": image.definition,
        "overlays": overlays,
        "packages": image.packages,
        "recipes": recipes,
        "tools": tools,
        "writers": lock.writers,
    });
    if !files.is_empty() {
        all["files"] = serde_json::json!(files);
    }
    Digest::of(all.to_string())
}

/// A merged definition as JSON with sorted keys: its values without their histories.
pub(crate) fn node_json(node: &Node) -> serde_json::Value {
    match &node.value {
        Value::String(text) | Value::Float(text) | Value::Datetime(text) => text.as_str().into(),
        Value::Integer(number) => (*number).into(),
        Value::Boolean(value) => (*value).into(),
        Value::List(items) => items.iter().map(node_json).collect(),
        Value::Table(table) => table.iter().map(|(name, key)| (name.clone(), node_json(&key.node))).collect(),
    }
}

fn node_digest(node: &Node) -> Digest {
    Digest::of(node_json(node).to_string())
}

struct Planner<'a> {
    engine: &'a Engine<'a>,
    /// Host tools the workspace declares.
    declared: Vec<String>,
    previous: Option<&'a Lock>,
    update: &'a Update,
    also: &'a [String],
    recipes: BTreeMap<String, PlannedRecipe>,
    /// Recipes being planned, for finding circles: id, and where the need that led there is written.
    visiting: Vec<(String, String)>,
    needed_tools: BTreeSet<String>,
    repositories: BTreeMap<Architecture, std::sync::Arc<Vec<OpenRepository>>>,
    files: BTreeMap<(Architecture, LockedPackage), PlannedFile>,
}

/// What a solved set of packages is made by.
struct Makers<'w> {
    workspace: &'w Workspace,
    universe: Universe,
    /// By name and version of the package.
    recipes: BTreeMap<(String, String), &'w Recipe>,
    settings: BTreeMap<Name, RecipeSettings>,
    architecture: Architecture,
    repositories: std::sync::Arc<Vec<OpenRepository>>,
    /// For each catalog of the universe, the repository it is of.
    shelves: Vec<usize>,
    prefer: Prefer,
}

impl<'a> Planner<'a> {
    fn image(&mut self, workspace: &Workspace, target: Target) -> Result<PlannedImage> {
        let definitions = |p| EngineError::Definitions(vec![p]);
        let image = workspace.image(&target.image).map_err(definitions)?;
        let board = target.board.as_deref().map(|b| workspace.board(b)).transpose().map_err(definitions)?;
        let who = format!("image {}", target.image);
        let makers = self.makers(workspace, image, target.architecture)?;
        let mut request = Request { prefer: image.def.prefer, recommends: image.def.recommends, ..Request::default() };
        for package in &image.def.packages {
            request.needs.push(need(package, &who)?);
        }
        for package in board.iter().flat_map(|b| &b.def.packages) {
            request.needs.push(need(package, &format!("board {}", target.label()))?);
        }
        for text in self.also {
            let wanted = text.parse().map_err(|e| EngineError::other(format!("{e}"), "write a package's name"))?;
            request.needs.push(Need { wanted, by: "the question".into(), origin: "command line".into() });
        }
        for (list, into) in [(&image.def.without, &mut request.without), (&image.def.pin, &mut request.pins)] {
            for package in list {
                let what: Requirement = parse(package)?;
                into.push(Exclusion { what, by: who.clone(), origin: package.at.to_string() });
            }
        }
        let locked = self.previous.and_then(|lock| lock.image(&target.image, target.label()));
        let held: BTreeSet<&str> = image.def.hold.iter().map(|n| n.value.as_str()).collect();
        for package in locked.iter().flat_map(|l| &l.packages) {
            let stays = match self.update {
                Update::Nothing => true,
                Update::Everything => held.contains(package.name.as_str()),
                Update::Only(names) => !names.contains(&package.name),
            };
            if let (true, Ok(version)) = (stays, package.version.parse::<Version>()) {
                request.keep.insert(package.name.clone(), version);
            }
            // Of a repository only the lock is known: then all that is locked has to be there, and nothing else can.
            let alone = |r: &OpenRepository| !r.lock_alone.is_empty() && package.repository() == Some(&r.locked.name);
            if makers.repositories.iter().any(alone)
                && let Ok(wanted) = format!("{} = {}", package.name, package.version).parse()
            {
                request.needs.push(Need { wanted, by: "embrak.lock".into(), origin: "embrak.lock".into() });
            }
        }
        let chosen = self.solve_with_essential(&makers, &mut request, &who)?;
        let mut why = reasons(&makers.universe, &request, &chosen);
        if request.recommends {
            recommendations(&makers.universe, &chosen, &mut why);
        }
        let keep = chosen_versions(&makers.universe, &chosen);
        let packages = self.locked_packages(&makers, &chosen, &keep, &who)?;

        let mut overlays = Vec::new();
        let mut overlay_lines = Vec::new();
        for overlay in &image.def.overlays {
            let dir = overlay.at.base.join(&overlay.value);
            let tree = if dir.is_file() {
                self.archive(&dir, overlay)?
            } else {
                sources::directory_tree(
                    sources::Contents::Keep(self.engine.store),
                    &dir,
                    workspace.def.epoch.0,
                    sources::Metadata::Plain,
                )?
            };
            overlay_lines.push(format!("{} {}", overlay.value, tree.digest()));
            overlays.push(tree);
        }
        let mut files = Vec::new();
        for file in &image.def.file {
            let bytes = match (&file.text, &file.from) {
                (Some(text), _) => text.clone().into_bytes(),
                (None, Some(from)) => {
                    let path = from.at.base.join(&from.value);
                    let mut bytes = std::fs::read(&path).doing("read", &path)?;
                    if file.template {
                        let text = String::from_utf8(bytes).map_err(|_| EngineError::Definition {
                            message: format!("the template {} is not text", from.value),
                            help: format!("written at {}", from.at),
                        })?;
                        let filled = self.engine.workspace.params.fill_template(&text).map_err(|why| {
                            EngineError::Definition {
                                message: format!("the template {}: {why}", from.value),
                                help: format!("written at {}", from.at),
                            }
                        })?;
                        bytes = filled.into_bytes();
                    }
                    overlay_lines.push(format!("{} {}", from.value, Digest::of(&bytes)));
                    bytes
                }
                (None, None) => Vec::new(),
            };
            let mode = file.mode.map_or(0o644, |m| m.0);
            files.push(PlannedText { path: file.path.value.clone(), bytes, mode, owner: file.owner.clone() });
        }
        let board_json = board.map(|b| node_json(&b.node));
        let definition = Digest::of(serde_json::json!([node_json(&image.node), board_json]).to_string());
        let locked = LockedImage {
            name: target.image.clone(),
            target: target.label().to_string(),
            definition,
            input: Digest::of(""),
            overlays: overlay_lines,
            packages,
        };
        Ok(PlannedImage { target, locked, overlays, files, why, image: image.clone(), board: board.cloned() })
    }

    /// An overlay that is a tar archive, plain or packed; nothing in it is newer than the epoch.
    fn archive(&self, path: &std::path::Path, overlay: &Located<String>) -> Result<Tree> {
        let epoch = self.engine.workspace.def.epoch.0;
        let bad = |e: &dyn std::fmt::Display| EngineError::Definition {
            message: format!("the overlay {} is neither a directory nor a tar archive: {e}", overlay.value),
            help: format!("written at {}", overlay.at),
        };
        let mut start = [0; 8];
        let mut file = std::fs::File::open(path).doing("read", path)?;
        let n = std::io::Read::read(&mut file, &mut start).doing("read", path)?;
        std::io::Seek::rewind(&mut file).doing("read", path)?;
        let packed = embrak_oci::Compression::detect(&start[..n]);
        let reader = packed.decompress(std::io::BufReader::new(file)).map_err(|e| bad(&e))?;
        let mut tree = embrak_tree::tar::read_tree(reader, self.engine.store).map_err(|e| bad(&e))?;
        for (_, entry) in tree.iter_mut() {
            entry.mtime = entry.mtime.min(epoch);
        }
        Ok(tree)
    }

    /// Solves; when packages come from a repository with essential ones, those are needed too.
    fn solve_with_essential(&self, makers: &Makers<'_>, request: &mut Request, who: &str) -> Result<Vec<CandidateId>> {
        let mut asked: BTreeSet<usize> = BTreeSet::new();
        loop {
            let solution = solve(&makers.universe, request).map_err(|why| self.unsolvable(makers, who, why))?;
            let of = |id: &CandidateId| makers.universe.in_catalog(*id).map(|(shelf, _)| makers.shelves[shelf]);
            let used: BTreeSet<usize> = solution.chosen.iter().filter_map(of).collect();
            let mut more = false;
            for index in used {
                let repository = &makers.repositories[index];
                if !repository.def.essential || !asked.insert(index) {
                    continue;
                }
                for name in repository.essential() {
                    let excluded = request.without.iter().any(|w| w.what.name == name && w.what.bounds.is_empty());
                    if !excluded {
                        request.needs.push(Need {
                            wanted: Alternatives(vec![Requirement::any(name)]),
                            by: format!("repository {} (essential)", repository.def.name.value),
                            origin: repository.def.name.at.to_string(),
                        });
                        more = true;
                    }
                }
            }
            if !more {
                return Ok(solution.chosen);
            }
        }
    }

    /// The explanation, and what would help that the solver cannot know: layers that lie beside those in use.
    fn unsolvable(&self, makers: &Makers<'_>, who: &str, mut why: Box<Unsolvable>) -> EngineError {
        for (layer, name, version) in beside(makers.workspace) {
            let Ok(version) = version.parse::<Version>() else { continue };
            let would_do = |a: &Alternatives| a.0.iter().any(|r| r.name == name && r.admits(Some(&version)));
            if why.missing.iter().any(would_do) {
                why.remedies.push(format!("with the layer {layer}, which has {name} {version}"));
            }
        }
        // To take the question back is no answer.
        why.remedies.retain(|r| !r.ends_with("[command line]"));
        let locked = makers.repositories.iter().any(|r| !r.indexes.is_empty());
        if !why.missing.is_empty() && locked && *self.update == Update::Nothing && self.previous.is_some() {
            why.remedies
                .push("with newer repositories, perhaps: `embrak lock --update` reads what they offer now".into());
        }
        EngineError::Unsolvable { who: who.to_string(), why }
    }

    /// The workspace's repositories for an architecture, opened once.
    fn repositories(&mut self, architecture: Architecture) -> Result<std::sync::Arc<Vec<OpenRepository>>> {
        if let Some(open) = self.repositories.get(&architecture) {
            return Ok(open.clone());
        }
        let update = *self.update != Update::Nothing;
        let open = std::sync::Arc::new(repositories::open_all(self.engine, architecture, self.previous, update)?);
        self.repositories.insert(architecture, open.clone());
        Ok(open)
    }

    /// Every package any recipe makes and any repository has for an architecture, with the settings of an image.
    fn makers<'w>(
        &mut self,
        workspace: &'w Workspace,
        image: &Image,
        architecture: Architecture,
    ) -> Result<Makers<'w>> {
        let mut candidates = Vec::new();
        let mut recipes = BTreeMap::new();
        let settings = settings_of(workspace, image);
        for recipe in workspace.recipes.values().flatten() {
            let def = &recipe.def;
            if !def.architectures.is_empty() && !def.architectures.contains(&architecture) {
                continue;
            }
            let Ok(version) = def.full_version().parse::<Version>() else { continue };
            let on = options_of(recipe, &settings);
            let mut run: Vec<&Located<String>> = def.needs.run.iter().collect();
            run.extend(def.option.iter().filter(|(name, _)| on[*name]).flat_map(|(_, o)| &o.needs.run));
            let place = |located: &Located<String>| located.at.to_string();
            let mut add = |name: &Name, run: &[&Located<String>], main: bool| {
                recipes.insert((name.to_string(), version.to_string()), recipe);
                candidates.push(Candidate {
                    name: name.to_string(),
                    version: version.clone(),
                    requires: run
                        .iter()
                        .filter_map(|r| r.value.parse().ok().map(|a: Alternatives| (a, place(r))))
                        .collect(),
                    recommends: vec![],
                    provides: def.provides.iter().filter(|_| main).filter_map(|p| provided(&p.value)).collect(),
                    conflicts: def
                        .conflicts
                        .iter()
                        .filter(|_| main)
                        .filter_map(|c| c.value.parse().ok().map(|r: Requirement| (r, place(c))))
                        .collect(),
                    origin: recipe.file.clone(),
                    rank: 0,
                });
            };
            add(&def.name.value, &run, true);
            for split in &def.split {
                add(&split.name.value, &split.run.iter().collect::<Vec<_>>(), false);
            }
        }
        let repositories = self.repositories(architecture)?;
        let mut catalogs: Vec<std::sync::Arc<dyn Catalog>> = Vec::new();
        let mut shelves = Vec::new();
        for (number, open) in repositories.iter().enumerate() {
            candidates.extend(open.candidates());
            for index in &open.indexes {
                catalogs.push(index.clone());
                shelves.push(number);
            }
        }
        Ok(Makers {
            workspace,
            universe: Universe::with_catalogs(candidates, catalogs),
            recipes,
            settings,
            architecture,
            repositories,
            shelves,
            prefer: image.def.prefer,
        })
    }

    fn locked_packages(
        &mut self,
        makers: &Makers<'_>,
        chosen: &[CandidateId],
        keep: &BTreeMap<String, Version>,
        who: &str,
    ) -> Result<Vec<LockedPackage>> {
        let mut packages = Vec::new();
        for &id in chosen {
            let candidate = makers.universe.get(id);
            let key = (candidate.name.clone(), candidate.version.to_string());
            // What the lock alone knows of has a rank, as everything of repositories has.
            let shelf = makers.universe.in_catalog(id).map(|(shelf, _)| &makers.repositories[makers.shelves[shelf]]);
            let alone = || {
                let has = |r: &&OpenRepository| {
                    candidate.rank > 0 && r.lock_alone.iter().any(|f| f.name == key.0 && f.version == key.1)
                };
                makers.repositories.iter().find(has)
            };
            if let Some(open) = shelf.or_else(alone) {
                let Some(file) = open.planned(&key.0, &key.1) else { continue };
                let from = Maker::Repository(open.locked.name.clone());
                let package = LockedPackage { name: key.0, version: key.1, from };
                self.files.insert((makers.architecture, package.clone()), file);
                packages.push(package);
                continue;
            }
            let Some(recipe) = makers.recipes.get(&key) else { continue };
            let id = self.recipe(makers, recipe, keep, who)?;
            packages.push(LockedPackage { name: key.0, version: key.1, from: Maker::Recipe(id) });
        }
        packages.sort();
        Ok(packages)
    }

    /// Plans a recipe and all it is built with; its id.
    fn recipe(
        &mut self,
        makers: &Makers<'_>,
        recipe: &Recipe,
        keep: &BTreeMap<String, Version>,
        who: &str,
    ) -> Result<String> {
        let (recipe, changed) = with_settings(recipe, makers.settings.get(&recipe.def.name.value));
        let def = &recipe.def;
        let options = options_of(&recipe, &makers.settings);
        let on: Vec<&str> = options.iter().filter(|(_, on)| **on).map(|(name, _)| name.as_str()).collect();
        let mut id = format!("{} {} {}", def.name.value, def.full_version(), makers.architecture);
        if !on.is_empty() {
            id += &format!(" [{}]", on.join(", "));
        }
        if let Some(digest) = &changed {
            id += &format!(" settings {}", digest.short());
        }
        // What is amended for one board only is another recipe than for the others.
        let workspace = makers.workspace;
        let for_board = |a: &embrak_model::Amendment| {
            a.kind == "recipe" && a.name == *def.name.value && a.when.iter().any(|(key, _)| key == "board")
        };
        if workspace.amendments.iter().any(for_board)
            && let Some(board) = &workspace.target.board
        {
            id += &format!(" for {board}");
        }
        if self.recipes.contains_key(&id) {
            return Ok(id);
        }
        if let Some(start) = self.visiting.iter().position(|(visited, _)| *visited == id) {
            let mut lines: Vec<String> = self.visiting[start..]
                .windows(2)
                .map(|pair| format!("{} needs {} [{}]", pair[0].0, pair[1].0, pair[1].1))
                .collect();
            let last = self.visiting.last().map(|(id, _)| id.clone()).unwrap_or_default();
            lines.push(format!("{last} needs {id} [{who}]"));
            return Err(EngineError::Cycle(lines));
        }
        if !def.steps.in_order(def.method).is_empty() && Architecture::host() != Some(makers.architecture) {
            let host = std::env::consts::ARCH;
            return Err(EngineError::other(
                format!(
                    "{id} cannot be built here: the host's tools make programs for {host}, not for {}",
                    makers.architecture
                ),
                "build on a machine of that architecture, or choose a board of this one",
            ));
        }
        self.visiting.push((id.clone(), who.to_string()));
        let has_steps = !def.steps.in_order(def.method).is_empty();
        let mut tools: BTreeSet<String> = has_steps.then(|| BASE_NAME.to_string()).into_iter().collect();
        let mut request = Request { keep: keep.clone(), prefer: makers.prefer, ..Request::default() };
        let by = format!("{} {}", def.name.value, def.full_version());
        let enabled = def.option.iter().filter(|(name, _)| options[*name]).map(|(_, o)| &o.needs);
        let all: Vec<&NeedsDef> = std::iter::once(&def.needs).chain(enabled).collect();
        for needs in &all {
            for tool in &needs.build {
                let wanted: Alternatives = parse(tool)?;
                let of_host = wanted.0.iter().find(|r| r.bounds.is_empty() && self.declared.contains(&r.name));
                match of_host {
                    Some(requirement) => {
                        tools.insert(requirement.name.clone());
                        self.needed_tools.insert(requirement.name.clone());
                    }
                    None if makers.universe.matching_any(&wanted, &request).is_empty() => {
                        return Err(EngineError::other(
                            format!(
                                "{by} needs the tool `{wanted}` to be built [{}], and nothing provides it",
                                tool.at
                            ),
                            format!(
                                "add it to `[toolchain] host` in embrak.toml ({} there now), or write a recipe",
                                list(&self.declared)
                            ),
                        ));
                    }
                    None => request.needs.push(need(tool, &by)?),
                }
            }
            for library in &needs.link {
                request.needs.push(need(library, &by)?);
            }
        }
        let solution = solve(&makers.universe, &request)
            .map_err(|why| self.unsolvable(makers, &format!("what {by} is built with"), why))?;
        let origin = request.needs.first().map_or(String::new(), |n| n.origin.clone());
        let uses = self.locked_packages(makers, &solution.chosen, keep, &origin)?;
        self.visiting.pop();

        let sources = crate::build::source_tree(self.engine, &recipe)?;
        let locked = LockedRecipe {
            id: id.clone(),
            file: recipe.file.clone(),
            definition: match changed {
                Some(settings) => Digest::of(format!("{} {settings}", node_digest(&recipe.node))),
                None => node_digest(&recipe.node),
            },
            sources: sources.digest(),
            tools: tools.into_iter().collect(),
            uses,
        };
        let planned = PlannedRecipe { locked, recipe, architecture: makers.architecture, options, sources };
        self.recipes.insert(id.clone(), planned);
        Ok(id)
    }
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "nothing is".to_string() } else { names.join(", ") + " are" }
}

fn provided(text: &str) -> Option<Provided> {
    let requirement: Requirement = text.parse().ok()?;
    let version = requirement.bounds.first().map(|(_, version)| version.clone());
    Some(Provided { name: requirement.name, version })
}

/// Definitions are checked before they are planned, so this fails only when somebody calls without.
fn parse<T: std::str::FromStr<Err: ToString>>(text: &Located<String>) -> Result<T> {
    text.value
        .parse()
        .map_err(|e: T::Err| EngineError::other(format!("{}: {}", text.at, e.to_string()), "run `embrak check`"))
}

fn need(text: &Located<String>, by: &str) -> Result<Need> {
    Ok(Need { wanted: parse(text)?, by: by.to_string(), origin: text.at.to_string() })
}

fn chosen_versions(universe: &Universe, chosen: &[CandidateId]) -> BTreeMap<String, Version> {
    chosen.iter().map(|&id| universe.get(id)).map(|c| (c.name.clone(), c.version.clone())).collect()
}
