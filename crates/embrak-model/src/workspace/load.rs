//! Reading files, layers and amendments into merged definitions.

use super::{Defined, Layer, Target, Workspace, WorkspaceOptions};
use crate::definitions::{ImageDef, LayerDef, LayerSource, WorkspaceDef};
use crate::{Amendment, Node, Operation, Params, Place, Problem, SourceFile, Value, decode, extend, parse};
use embrak_resolve::Requirement;
use serde::de::DeserializeOwned;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A definition before merging.
#[derive(Debug, Clone)]
pub(super) struct Raw {
    layer: String,
    file: String,
    base: PathBuf,
    pub(super) node: Node,
}

pub(super) type Raws = BTreeMap<&'static str, Vec<Raw>>;

pub(super) fn load(root: &Path, options: &WorkspaceOptions, problems: &mut Vec<Problem>) -> Option<Workspace> {
    let file = root.join("embrak.toml");
    let mut node = read(&file, "embrak.toml", root, problems)?;
    let params = params(root, &node, options, problems);
    let declared = node.table_mut().and_then(|t| t.remove("params"));
    let repository_urls = repository_urls(&node);
    // Where a repository is does not become part of anything, so a secret may be in its URL.
    let mut repositories = node.table_mut().and_then(|t| t.remove("repository"));
    params.fill(&mut node, problems);
    if let Some(repositories) = &mut repositories {
        params.fill_revealing(&mut repositories.node, problems);
    }
    if let Some(table) = node.table_mut() {
        table.extend(declared.map(|d| ("params".to_string(), d)));
        table.extend(repositories.map(|r| ("repository".to_string(), r)));
    }
    let def: WorkspaceDef = decode(&node, problems)?;

    let mut layers: Vec<Layer> = Vec::new();
    let mut raws = Raws::new();
    let mut amendments = Vec::new();
    for (number, entry) in def.layers.iter().enumerate() {
        let place = match node.get(&["layers"]).map(|n| &n.value) {
            Some(Value::List(items)) => items.get(number).and_then(Node::place).cloned(),
            _ => None,
        };
        let shown = entry.value.to_string();
        let (dir, tree) = match (&entry.value, &options.remote) {
            (LayerSource::Directory(path), _) => (root.join(path), None),
            (source, Some(remote)) => match remote.layer(root, source) {
                Ok((dir, tree)) => (dir, Some(tree)),
                Err(problem) => {
                    problems.push(problem.at(place));
                    continue;
                }
            },
            (_, None) => {
                problems.push(Problem::new(format!("layer `{shown}` would have to be fetched")).at(place));
                continue;
            }
        };
        if !dir.join("layer.toml").is_file() {
            let what = if dir.is_dir() { "has no layer.toml" } else { "is not there" };
            let problem = Problem::new(format!("layer `{shown}` {what}")).at(place);
            let help = match entry.value.directory() {
                Some(path) => near_layers(root, path),
                None => "say with `path` where in it the layer lies".to_string(),
            };
            problems.push(problem.help(help));
            continue;
        }
        let Some(mut layer) = read_layer(&dir, &shown, &mut raws, &mut amendments, problems) else { continue };
        layer.source = entry.value.clone();
        layer.tree = tree;
        if let Some(twin) = layers.iter().find(|l| l.def.layer == layer.def.layer) {
            let message = format!("layer `{}` is there twice: {} and {}", layer.def.layer, twin.path, layer.path);
            problems.push(Problem::new(message).at(place));
        }
        check_requires(root, &layer, &layers, &def, problems);
        layers.push(layer);
    }
    for item in node
        .get(&["amend"])
        .map(|n| &n.value)
        .into_iter()
        .flat_map(|v| if let Value::List(l) = v { l.as_slice() } else { &[] })
    {
        amendments.extend(amendment(item, "embrak.toml", problems));
    }
    for text in &options.set {
        amendments.extend(amendment_from_command_line(text, problems));
    }
    check_targets(&mut amendments, &raws, problems);
    let board = def.default_board.as_ref().map(|b| b.value.to_string());
    let mut workspace = Workspace {
        root: root.to_path_buf(),
        def,
        node,
        layers,
        recipes: BTreeMap::new(),
        boards: BTreeMap::new(),
        images: BTreeMap::new(),
        amendments,
        params,
        repository_urls,
        target: Target::default(),
        raws: Arc::new(raws),
    };
    workspace.target = workspace.target_of(board.as_deref(), None);
    merge(&mut workspace, problems);
    Some(workspace)
}

/// Merges all definitions for the workspace's target.
pub(super) fn merge(workspace: &mut Workspace, problems: &mut Vec<Problem>) {
    (workspace.recipes, workspace.boards, workspace.images) = Default::default();
    let raws = workspace.raws.clone();
    let of = |kind: &str| raws.get(kind).cloned().unwrap_or_default();
    for raw in of("recipe") {
        let name = raw.node.text("name").unwrap_or_default().to_string();
        if let Some(recipe) = finish(raw, "recipe", &name, workspace, problems) {
            workspace.recipes.entry(name).or_default().push(recipe);
        }
    }
    for raw in of("board") {
        let name = raw.node.text("board").unwrap_or_default().to_string();
        if let Some(board) = finish(raw, "board", &name, workspace, problems) {
            one_of_a_name("board", &name, &mut workspace.boards, board, problems);
        }
    }
    load_images(of("image"), workspace, problems);
}

/// The URLs of repositories as written, before parameters: what a lock may say about them.
fn repository_urls(node: &Node) -> Vec<String> {
    let Some(Value::List(items)) = node.get(&["repository"]).map(|n| &n.value) else { return Vec::new() };
    items.iter().map(|item| item.text("url").unwrap_or_default().to_string()).collect()
}

fn read(path: &Path, name: &str, base: &Path, problems: &mut Vec<Problem>) -> Option<Node> {
    match std::fs::read_to_string(path) {
        Ok(text) => {
            let file = SourceFile { name: name.to_string(), base: base.to_path_buf(), text };
            Some(parse(&Arc::new(file), problems))
        }
        Err(error) => {
            problems.push(Problem::new(format!("cannot read {name}: {error}")));
            None
        }
    }
}

fn params(root: &Path, node: &Node, options: &WorkspaceOptions, problems: &mut Vec<Problem>) -> Params {
    let mut params = Params::default();
    if let Some(declared) = node.get(&["params"]) {
        params.declare(declared, problems);
    }
    let local = root.join("embrak.local.toml");
    let files = options.params.files.iter().cloned().chain(local.is_file().then_some(local));
    for path in files {
        let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        let Some(node) = read(&path, &name, root, problems) else { continue };
        for (key, value) in node.table().into_iter().flatten() {
            match &value.node.value {
                Value::String(text) => params.give(key, text, &name, problems),
                other => problems.push(
                    Problem::new(format!("parameter `{key}` has to be a string, not {}", other.kind()))
                        .at(value.place.clone()),
                ),
            }
        }
    }
    for (name, value) in &options.params.environment {
        if params.0.contains_key(name) {
            params.give(name, value, "the environment", problems);
        }
    }
    for (name, value) in &options.params.given {
        params.give(name, value, "--param", problems);
    }
    params.check(problems);
    params
}

fn near_layers(root: &Path, wanted: &str) -> String {
    let parent = root.join(wanted).parent().map(Path::to_path_buf).unwrap_or_default();
    let mut found: Vec<String> = std::fs::read_dir(&parent)
        .into_iter()
        .flatten()
        .flatten()
        .filter(|e| e.path().join("layer.toml").is_file())
        .filter_map(|e| e.path().strip_prefix(root).ok().map(|p| p.to_string_lossy().into_owned()))
        .collect();
    found.sort();
    match (crate::source::suggestion(wanted, found.iter().map(String::as_str)), found.is_empty()) {
        (Some(close), _) => format!("did you mean `{close}`?"),
        (None, false) => format!("there are {}", found.join(", ")),
        (None, true) => "a layer is a directory with a layer.toml".to_string(),
    }
}

/// Files with this extension in a directory, by name.
fn toml_files(dir: &Path) -> Vec<PathBuf> {
    let mut files: Vec<PathBuf> = std::fs::read_dir(dir)
        .into_iter()
        .flatten()
        .flatten()
        .map(|e| e.path())
        .filter(|p| p.extension().is_some_and(|e| e == "toml"))
        .collect();
    files.sort();
    files
}

fn read_layer(
    dir: &Path,
    path: &str,
    raws: &mut Raws,
    amendments: &mut Vec<Amendment>,
    problems: &mut Vec<Problem>,
) -> Option<Layer> {
    let name_of = |file: &Path| format!("{path}/{}", file.strip_prefix(dir).unwrap_or(file).display());
    let node = read(&dir.join("layer.toml"), &format!("{path}/layer.toml"), dir, problems)?;
    let def: LayerDef = decode(&node, problems)?;
    let layer_name = def.layer.to_string();
    let mut layer = Layer {
        def,
        path: path.to_string(),
        source: LayerSource::Directory(path.to_string()),
        tree: None,
        dir: dir.to_path_buf(),
        contributes: vec![],
        amends: vec![],
    };

    let mut recipe_files: Vec<PathBuf> = std::fs::read_dir(dir.join("recipes"))
        .into_iter()
        .flatten()
        .flatten()
        .map(|e| e.path().join("recipe.toml"))
        .filter(|p| p.is_file())
        .collect();
    recipe_files.sort();
    let kinds = [
        ("recipe", "name", recipe_files),
        ("board", "board", toml_files(&dir.join("boards"))),
        ("image", "image", toml_files(&dir.join("images"))),
    ];
    for (kind, key, files) in kinds {
        for file in files {
            // Paths in a recipe are beside the recipe; in anything else they are the layer's.
            let base = if kind == "recipe" { file.parent().unwrap_or(dir) } else { dir };
            let Some(node) = read(&file, &name_of(&file), base, problems) else { continue };
            if let Some(name) = node.text(key) {
                layer.contributes.push(format!("{kind}:{name}"));
            }
            let raw = Raw { layer: layer_name.clone(), file: name_of(&file), base: base.to_path_buf(), node };
            raws.entry(kind).or_default().push(raw);
        }
    }
    for file in toml_files(&dir.join("amend")) {
        let name = name_of(&file);
        if let Some(node) = read(&file, &name, dir, problems)
            && let Some(amendment) = amendment(&node, &layer_name, problems)
        {
            layer.amends.push(format!("{}:{}", amendment.kind, amendment.name));
            amendments.push(amendment);
        }
    }
    Some(layer)
}

/// Whether a later layer of this name, in a directory, needs `this` to come before it.
fn later_requires(root: &Path, def: &WorkspaceDef, name: &str, this: &str) -> bool {
    let mut ignored = Vec::new();
    def.layers.iter().filter_map(|l| l.value.directory()).any(|path| {
        let file = root.join(path).join("layer.toml");
        let node = if file.is_file() { read(&file, path, root, &mut ignored) } else { None };
        node.is_some_and(|n| n.text("layer") == Some(name) && n.get(&["requires", this]).is_some())
    })
}

fn check_requires(root: &Path, layer: &Layer, before: &[Layer], def: &WorkspaceDef, problems: &mut Vec<Problem>) {
    for (name, wanted) in &layer.def.requires {
        let requirement: Requirement = match format!("{name} {}", wanted.value).parse() {
            Ok(requirement) => requirement,
            Err(error) => {
                problems.push(Problem::new(format!("{}: {error}", wanted.at)));
                continue;
            }
        };
        let me = format!("{} {}", layer.def.layer, layer.def.version);
        match before.iter().find(|l| l.def.layer == *name) {
            Some(other) if requirement.admits(Some(&other.def.version)) => {}
            Some(other) => problems.push(
                Problem::new(format!(
                    "{me} needs {requirement}; the workspace has {} from {}",
                    other.def.version, other.path
                ))
                .help(format!("written at {}", wanted.at)),
            ),
            None => {
                let in_circle = later_requires(root, def, name, &layer.def.layer);
                let later = def.layers.iter().any(|l| l.value.directory().is_some_and(|d| d.ends_with(name.as_str())));
                let help = if in_circle {
                    "each of the two needs the other to come before it: drop one of the two `requires`"
                } else if later {
                    "it has to come before in `layers` of embrak.toml"
                } else {
                    "add it to `layers` of embrak.toml"
                };
                problems.push(
                    Problem::new(format!("{me} needs the layer {requirement}, which is not among those before it"))
                        .help(help),
                );
            }
        }
    }
}

const AMENDMENT_KEYS: [&str; 6] = ["amends", "when", "optional", "set", "add", "drop"];

/// `when = { architecture = "aarch64", board = ["a", "b"] }`: every key has to fit, of a list any element.
fn when(node: &Node, problems: &mut Vec<Problem>) -> Vec<(String, Vec<String>)> {
    let mut out = Vec::new();
    let Some(table) = node.get(&["when"]).and_then(Node::table) else { return out };
    for (key, value) in table {
        let texts = match &value.node.value {
            Value::String(text) => vec![text.clone()],
            Value::List(items) => items
                .iter()
                .filter_map(|i| if let Value::String(t) = &i.value { Some(t.clone()) } else { None })
                .collect(),
            _ => vec![],
        };
        if !["architecture", "board"].contains(&key.as_str()) || texts.is_empty() {
            problems.push(
                Problem::new(format!("`when` cannot ask for `{key}` so")).at(value.place.clone()).help(
                    "write `when = { architecture = \"aarch64\" }` or `when = { board = [\"NAME\", \"OTHER\"] }`",
                ),
            );
        }
        out.push((key.clone(), texts));
    }
    out
}

fn amendment(node: &Node, by: &str, problems: &mut Vec<Problem>) -> Option<Amendment> {
    let table = node.table()?;
    for (key, value) in table {
        if !AMENDMENT_KEYS.contains(&key.as_str()) {
            let close = crate::source::suggestion(key, AMENDMENT_KEYS);
            let help = close
                .map_or(format!("an amendment has {}", AMENDMENT_KEYS.join(", ")), |c| format!("did you mean `{c}`?"));
            problems.push(Problem::new(format!("unknown key `{key}`")).at(value.place.clone()).help(help));
        }
    }
    let target = node.text("amends");
    let place = node.get(&["amends"]).and_then(Node::place).cloned();
    let Some((kind, name)) =
        target.and_then(|t| t.split_once(':')).filter(|(k, _)| ["image", "board", "recipe"].contains(k))
    else {
        let at = place.or_else(|| node.place().cloned());
        problems.push(
            Problem::new("an amendment has to say what it amends")
                .at(at)
                .help("write `amends = \"image:NAME\"`, or board: or recipe:"),
        );
        return None;
    };
    let changes = Amendment::changes_of(table);
    let optional = match node.get(&["optional"]).map(|n| &n.value) {
        Some(Value::Boolean(value)) => *value,
        None => false,
        Some(other) => {
            let problem = Problem::new(format!("`optional` is true or false, not {}", other.kind()));
            problems.push(problem.at(node.get(&["optional"]).and_then(Node::place).cloned()));
            false
        }
    };
    let when = when(node, problems);
    Some(Amendment {
        kind: kind.to_string(),
        name: name.to_string(),
        place,
        by: by.to_string(),
        when,
        optional,
        changes,
    })
}

/// `image:NAME.KEY=VALUE`; the value is TOML, or a string when it is not.
fn amendment_from_command_line(text: &str, problems: &mut Vec<Problem>) -> Option<Amendment> {
    let parts = text.split_once('=').and_then(|(left, value)| {
        let (kind, rest) = left.trim().split_once(':')?;
        let (name, key) = rest.split_once('.')?;
        Some((kind, name, key, value.trim()))
    });
    let Some((kind, name, key, value)) = parts.filter(|p| ["image", "board", "recipe"].contains(&p.0)) else {
        problems
            .push(Problem::new(format!("--set {text}: cannot be understood")).help("write --set image:NAME.KEY=VALUE"));
        return None;
    };
    let source = |value: &str| {
        Arc::new(SourceFile {
            name: format!("--set {text}"),
            base: PathBuf::from("."),
            text: format!("value = {value}\n"),
        })
    };
    let mut wrong = Vec::new();
    let mut node = parse(&source(value), &mut wrong);
    if !wrong.is_empty() {
        node = parse(&source(&toml::Value::String(value.to_string()).to_string()), problems);
    }
    let value = node.get(&["value"])?.clone();
    let place = value.place().cloned();
    let path = key.split('.').map(String::from).collect();
    let changes = vec![(Operation::Set, path, value)];
    Some(Amendment {
        kind: kind.to_string(),
        name: name.to_string(),
        place,
        by: "command line".into(),
        when: vec![],
        optional: false,
        changes,
    })
}

/// Every amendment has to have something to amend; the optional ones that have not are dropped.
fn check_targets(amendments: &mut Vec<Amendment>, raws: &Raws, problems: &mut Vec<Problem>) {
    amendments.retain(|amendment| {
        let key = match amendment.kind.as_str() {
            "recipe" => "name",
            kind => kind,
        };
        let known: Vec<&str> =
            raws.get(amendment.kind.as_str()).into_iter().flatten().filter_map(|raw| raw.node.text(key)).collect();
        let there = known.contains(&amendment.name.as_str());
        if !there && !amendment.optional {
            let help = match crate::source::suggestion(&amendment.name, known.iter().copied()) {
                Some(close) => format!("did you mean `{}:{close}`?", amendment.kind),
                None => format!(
                    "no layer of the workspace has this {}; `optional = true` makes that no error",
                    amendment.kind
                ),
            };
            let message = format!("there is no {} `{}` to amend", amendment.kind, amendment.name);
            problems.push(Problem::new(message).at(amendment.place.clone()).help(help));
        }
        there
    });
}

fn amend(node: &mut Node, kind: &str, name: &str, workspace: &Workspace, problems: &mut Vec<Problem>) {
    let about = |a: &&Amendment| a.kind == kind && a.name == name && workspace.target.fits(a);
    for amendment in workspace.amendments.iter().filter(about) {
        amendment.apply(node, problems);
    }
}

/// Amends, fills in parameters and decodes one definition.
fn finish<T: DeserializeOwned>(
    raw: Raw,
    kind: &str,
    name: &str,
    workspace: &Workspace,
    problems: &mut Vec<Problem>,
) -> Option<Defined<T>> {
    let Raw { layer, file, base, mut node } = raw;
    amend(&mut node, kind, name, workspace, problems);
    workspace.params.fill(&mut node, problems);
    let def = decode(&node, problems)?;
    Some(Defined { layer, file, base, node, def })
}

fn one_of_a_name<T>(
    kind: &str,
    name: &str,
    map: &mut BTreeMap<String, Defined<T>>,
    new: Defined<T>,
    problems: &mut Vec<Problem>,
) {
    match map.get(name) {
        Some(present) => {
            let message = format!("{kind} `{name}` is defined twice: in {} and in {}", present.file, new.file);
            problems.push(Problem::new(message).help("give one another name, or write an amendment"));
        }
        None => {
            map.insert(name.to_string(), new);
        }
    }
}

fn load_images(raws: Vec<Raw>, workspace: &mut Workspace, problems: &mut Vec<Problem>) {
    let mut by_name: BTreeMap<String, Raw> = BTreeMap::new();
    for raw in raws {
        let name = raw.node.text("image").unwrap_or_default().to_string();
        if let Some(present) = by_name.get(&name) {
            let message = format!("image `{name}` is defined twice: in {} and in {}", present.file, raw.file);
            problems.push(Problem::new(message).help("give one another name, or write an amendment"));
            continue;
        }
        by_name.insert(name, raw);
    }
    for (name, raw) in &by_name {
        let mut seen = BTreeSet::new();
        let Some(mut node) = merged_image(name, &by_name, workspace, &mut seen, problems) else { continue };
        workspace.params.fill(&mut node, problems);
        let Some(def) = decode::<ImageDef>(&node, problems) else { continue };
        let image = Defined { layer: raw.layer.clone(), file: raw.file.clone(), base: raw.base.clone(), node, def };
        workspace.images.insert(name.clone(), image);
    }
}

/// An image over what it extends, both amended.
fn merged_image(
    name: &str,
    raws: &BTreeMap<String, Raw>,
    workspace: &Workspace,
    seen: &mut BTreeSet<String>,
    problems: &mut Vec<Problem>,
) -> Option<Node> {
    let raw = raws.get(name)?;
    seen.insert(name.to_string());
    let mut node = raw.node.clone();
    if let Some(base_name) = raw.node.text("extends") {
        let place: Option<Place> = raw.node.get(&["extends"]).and_then(Node::place).cloned();
        if seen.contains(base_name) {
            let around = seen.iter().cloned().collect::<Vec<_>>().join(", ");
            problems.push(Problem::new(format!("images extend each other in a circle: {around}")).at(place));
            return None;
        }
        if !raws.contains_key(base_name) {
            let close = crate::source::suggestion(base_name, raws.keys().map(String::as_str));
            let help = close.map_or("no layer has such an image".into(), |c| format!("did you mean `{c}`?"));
            problems.push(
                Problem::new(format!("`{name}` extends image `{base_name}`, which is not there")).at(place).help(help),
            );
            return None;
        }
        let mut base = merged_image(base_name, raws, workspace, seen, problems)?;
        // What makes a definition itself is not handed on.
        if let Some(table) = base.table_mut() {
            for key in ["abstract", "extends", "summary"] {
                table.remove(key);
            }
        }
        node = extend(base, node);
    }
    amend(&mut node, "image", name, workspace, problems);
    Some(node)
}
