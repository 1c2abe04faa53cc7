//! From definitions to a lock: which packages, made by which recipes, with which inputs.

use crate::error::{EngineError, Result};
use crate::lock::{Lock, LockedImage, LockedLayer, LockedPackage, LockedRecipe, LockedTool, Moved, WriterVersions};
use crate::toolchain::{self, BASE_NAME, HostTool};
use crate::{Engine, sources};
use embrak_model::definitions::{Architecture, DiskDef, NeedsDef, Output};
use embrak_model::{Board, Image, Located, Name, Node, Recipe, Value};
use embrak_resolve::{
    Alternatives, Candidate, CandidateId, Exclusion, Need, Provided, Request, Requirement, Universe, Version, solve,
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
    pub(crate) why: BTreeMap<String, Vec<Why>>,
}

/// What is to be done.
pub struct Plan {
    /// The new lock: what was locked before, and the selected images anew.
    pub lock: Lock,
    /// What the new lock says otherwise than the old one.
    pub moved: Vec<Moved>,
    pub(crate) images: Vec<PlannedImage>,
    pub(crate) recipes: BTreeMap<String, PlannedRecipe>,
    pub(crate) tools: BTreeMap<String, HostTool>,
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
}

/// Resolves the selected images. `previous` is the lock to keep to; with `update`, versions move forward.
///
/// # Errors
/// Something cannot be resolved or read.
pub fn plan(engine: &Engine<'_>, selection: &Selection, previous: Option<&Lock>, update: bool) -> Result<Plan> {
    let workspace = engine.workspace;
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
    let mut planner =
        Planner { engine, declared, recipes: BTreeMap::new(), visiting: Vec::new(), needed_tools: BTreeSet::new() };
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
            images.push(planner.image(image, target, previous.filter(|_| !update))?);
        }
    }
    let wanted: Vec<String> = planner.needed_tools.iter().cloned().collect();
    let recipes = planner.recipes;
    let any_tools = recipes.values().any(|r| !r.locked.tools.is_empty());
    let tools = if !any_tools { BTreeMap::new() } else { toolchain::capture(engine.store, &wanted)? };
    let mut new = Lock::empty();
    new.layers = workspace
        .layers
        .iter()
        .map(|l| LockedLayer {
            name: l.def.layer.to_string(),
            version: l.def.version.to_string(),
            path: l.path.clone(),
        })
        .collect();
    new.tools = tools
        .values()
        .map(|t| LockedTool { name: t.name.clone(), path: t.path.display().to_string(), digest: t.digest })
        .collect();
    new.recipes = recipes.values().map(|r| r.locked.clone()).collect();
    for image in &mut images {
        image.locked.input = input_digest(engine, &image.locked, &new);
    }
    new.images = images.iter().map(|i| i.locked.clone()).collect();
    let empty = Lock::empty();
    let lock = previous.unwrap_or(&empty).absorb(new);
    let moved = previous.unwrap_or(&empty).moved(&lock);
    Ok(Plan { lock, moved, images, recipes, tools })
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
fn input_digest(engine: &Engine<'_>, image: &LockedImage, lock: &Lock) -> Digest {
    let mut wanted: Vec<&str> = image.packages.iter().map(|p| p.recipe.as_str()).collect();
    let mut recipes: BTreeMap<&str, &LockedRecipe> = BTreeMap::new();
    while let Some(id) = wanted.pop() {
        if let Some(recipe) = lock.recipe(id)
            && recipes.insert(id, recipe).is_none()
        {
            wanted.extend(recipe.uses.iter().map(|p| p.recipe.as_str()));
        }
    }
    let used: BTreeSet<&String> = recipes.values().flat_map(|r| &r.tools).collect();
    let tools: Vec<&LockedTool> = lock.tools.iter().filter(|t| used.contains(&t.name)).collect();
    let tools: Vec<(&str, Digest)> = tools.iter().map(|t| (t.name.as_str(), t.digest)).collect();
    // Paths of files are not inputs: the same definitions in a layer of another name give the same image.
    let recipes: Vec<_> = recipes.values().map(|r| (&r.id, r.definition, r.sources, &r.tools, &r.uses)).collect();
    let overlays: Vec<&str> = image.overlays.iter().filter_map(|o| o.rsplit(' ').next()).collect();
    let all = serde_json::json!({
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
    recipes: BTreeMap<String, PlannedRecipe>,
    /// Recipes being planned, for finding circles: id, and where the need that led there is written.
    visiting: Vec<(String, String)>,
    needed_tools: BTreeSet<String>,
}

/// What a solved set of packages is made by.
struct Makers<'a> {
    universe: Universe,
    /// By name and version of the package.
    recipes: BTreeMap<(String, String), &'a Recipe>,
    options: BTreeMap<Name, BTreeMap<Name, bool>>,
    architecture: Architecture,
}

impl<'a> Planner<'a> {
    fn image(&mut self, image: &'a Image, target: Target, previous: Option<&Lock>) -> Result<PlannedImage> {
        let workspace = self.engine.workspace;
        let board = target
            .board
            .as_deref()
            .map(|b| workspace.board(b))
            .transpose()
            .map_err(|p| EngineError::Definitions(vec![p]))?;
        let who = format!("image {}", target.image);
        let mut request = Request::default();
        for package in &image.def.packages {
            request.needs.push(need(package, &who)?);
        }
        for package in board.iter().flat_map(|b| &b.def.packages) {
            request.needs.push(need(package, &format!("board {}", target.label()))?);
        }
        for package in &image.def.without {
            let what: Requirement = parse(package)?;
            request.without.push(Exclusion { what, by: who.clone(), origin: package.at.to_string() });
        }
        if let Some(locked) = previous.and_then(|lock| lock.image(&target.image, target.label())) {
            for package in &locked.packages {
                if let Ok(version) = package.version.parse::<Version>() {
                    request.keep.insert(package.name.clone(), version);
                }
            }
        }
        let makers = self.makers(image, target.architecture);
        let solution =
            solve(&makers.universe, &request).map_err(|why| EngineError::Unsolvable { who: who.clone(), why })?;
        let why = reasons(&makers.universe, &request, &solution.chosen);
        let keep = chosen_versions(&makers.universe, &solution.chosen);
        let packages = self.locked_packages(&makers, &solution.chosen, &keep, &who)?;

        let mut overlays = Vec::new();
        let mut overlay_lines = Vec::new();
        for overlay in &image.def.overlays {
            let dir = overlay.at.base.join(&overlay.value);
            let tree = sources::directory_tree(
                sources::Contents::Keep(self.engine.store),
                &dir,
                workspace.def.epoch.0,
                sources::Metadata::Plain,
            )?;
            overlay_lines.push(format!("{} {}", overlay.value, tree.digest()));
            overlays.push(tree);
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
        Ok(PlannedImage { target, locked, overlays, why })
    }

    /// Every package any recipe makes for an architecture, with the options of an image.
    fn makers(&self, image: &Image, architecture: Architecture) -> Makers<'a> {
        let mut candidates = Vec::new();
        let mut recipes = BTreeMap::new();
        let options: BTreeMap<Name, BTreeMap<Name, bool>> = image
            .def
            .options
            .iter()
            .map(|(recipe, options)| (recipe.clone(), options.iter().map(|(n, v)| (n.clone(), v.value)).collect()))
            .collect();
        for recipe in self.engine.workspace.recipes.values().flatten() {
            let def = &recipe.def;
            if !def.architectures.is_empty() && !def.architectures.contains(&architecture) {
                continue;
            }
            let Ok(version) = def.full_version().parse::<Version>() else { continue };
            let on = options_of(recipe, &options);
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
                    provides: def.provides.iter().filter(|_| main).filter_map(|p| provided(&p.value)).collect(),
                    conflicts: def
                        .conflicts
                        .iter()
                        .filter(|_| main)
                        .filter_map(|c| c.value.parse().ok().map(|r: Requirement| (r, place(c))))
                        .collect(),
                    origin: recipe.file.clone(),
                });
            };
            add(&def.name.value, &run, true);
            for split in &def.split {
                add(&split.name.value, &split.run.iter().collect::<Vec<_>>(), false);
            }
        }
        Makers { universe: Universe::new(candidates), recipes, options, architecture }
    }

    fn locked_packages(
        &mut self,
        makers: &Makers<'a>,
        chosen: &[CandidateId],
        keep: &BTreeMap<String, Version>,
        who: &str,
    ) -> Result<Vec<LockedPackage>> {
        let mut packages = Vec::new();
        for &id in chosen {
            let candidate = makers.universe.get(id);
            let key = (candidate.name.clone(), candidate.version.to_string());
            let Some(recipe) = makers.recipes.get(&key) else { continue };
            let recipe = self.recipe(makers, recipe, keep, who)?;
            packages.push(LockedPackage { name: key.0, version: key.1, recipe });
        }
        packages.sort();
        Ok(packages)
    }

    /// Plans a recipe and all it is built with; its id.
    fn recipe(
        &mut self,
        makers: &Makers<'a>,
        recipe: &'a Recipe,
        keep: &BTreeMap<String, Version>,
        who: &str,
    ) -> Result<String> {
        let def = &recipe.def;
        let options = options_of(recipe, &makers.options);
        let on: Vec<&str> = options.iter().filter(|(_, on)| **on).map(|(name, _)| name.as_str()).collect();
        let mut id = format!("{} {} {}", def.name.value, def.full_version(), makers.architecture);
        if !on.is_empty() {
            id += &format!(" [{}]", on.join(", "));
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
        let mut request = Request { keep: keep.clone(), ..Request::default() };
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
                    None if makers.universe.matching_any(&wanted, keep).is_empty() => {
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
            .map_err(|why| EngineError::Unsolvable { who: format!("what {by} is built with"), why })?;
        let origin = request.needs.first().map_or(String::new(), |n| n.origin.clone());
        let uses = self.locked_packages(makers, &solution.chosen, keep, &origin)?;
        self.visiting.pop();

        let sources = crate::build::source_tree(self.engine, recipe)?;
        let locked = LockedRecipe {
            id: id.clone(),
            file: recipe.file.clone(),
            definition: node_digest(&recipe.node),
            sources: sources.digest(),
            tools: tools.into_iter().collect(),
            uses,
        };
        let planned =
            PlannedRecipe { locked, recipe: recipe.clone(), architecture: makers.architecture, options, sources };
        self.recipes.insert(id.clone(), planned);
        Ok(id)
    }
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "nothing is".to_string() } else { names.join(", ") + " are" }
}

/// Whether each option of a recipe is on.
fn options_of(recipe: &Recipe, options: &BTreeMap<Name, BTreeMap<Name, bool>>) -> BTreeMap<Name, bool> {
    let said = options.get(&recipe.def.name.value);
    recipe
        .def
        .option
        .iter()
        .map(|(name, o)| (name.clone(), said.and_then(|s| s.get(name)).copied().unwrap_or(o.default)))
        .collect()
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

/// Who asks for each chosen package.
fn reasons(universe: &Universe, request: &Request, chosen: &[CandidateId]) -> BTreeMap<String, Vec<Why>> {
    let set: BTreeSet<CandidateId> = chosen.iter().copied().collect();
    let none = BTreeMap::new();
    let mut out: BTreeMap<String, Vec<Why>> = BTreeMap::new();
    let mut note = |wanted: &Alternatives, by: &str, origin: &str| {
        for id in universe.matching_any(wanted, &none).into_iter().filter(|id| set.contains(id)).take(1) {
            let why = Why { wanted: wanted.to_string(), by: by.to_string(), origin: origin.to_string() };
            out.entry(universe.get(id).name.clone()).or_default().push(why);
        }
    };
    for need in &request.needs {
        note(&need.wanted, &need.by, &need.origin);
    }
    for &id in chosen {
        let candidate = universe.get(id);
        for (wanted, origin) in &candidate.requires {
            note(wanted, &format!("{} {}", candidate.name, candidate.version), origin);
        }
    }
    out
}

/// The writer versions of a plan, for keys.
pub(crate) fn writers(plan: &Plan) -> WriterVersions {
    plan.lock.writers
}
