//! Building: recipes in isolation, several at once, then images; everything by its key in the action cache.

use crate::error::{Doing, EngineError, Result};
use crate::events::{ActionStatus, Event};
use crate::lock::{Lock, LockedPackage};
use crate::outputs::OutputFile;
use crate::package::{BuiltRecipe, PackageInfo};
use crate::plan::{Plan, PlannedRecipe, Selection, Target, Update, plan};
use crate::record::{ActionRecord, RunRecord};
use crate::vary::Probe;
use crate::{Engine, TOOL_VERSION, compose, outputs, snapshot, sources, toolchain};
use embrak_model::definitions::{Architecture, Method, Output};
use embrak_model::{ByteSize, Located, Recipe};
use embrak_sandbox::{Fixture, Outcome, Step, Users};
use embrak_store::Store;
use embrak_tree::{BlobSource, Digest, Kind, Tree, TreePath};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Version of the environment steps see; a change that can change results is a new version.
pub(crate) const SANDBOX_VERSION: u32 = 1;

/// How to build.
#[derive(Debug, Clone)]
pub struct BuildOptions {
    /// Which images for which board.
    pub selection: Selection,
    /// Recipes at once, and `$JOBS` of each step.
    pub jobs: usize,
    /// Refuse when the lock is out of date.
    pub locked: bool,
    /// Where outputs go: below it `IMAGE/TARGET/`.
    pub out: PathBuf,
    /// Amendments of the command line, to be recorded.
    pub set: Vec<String>,
}

/// A finished build.
#[derive(Debug, Clone)]
pub struct BuildResult {
    /// Its number.
    pub run: i64,
    /// What was recorded.
    pub record: RunRecord,
    /// What the lock says otherwise than before.
    pub moved: Vec<crate::Moved>,
    /// What every summary has to say: repositories used without a signature.
    pub warnings: Vec<String>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// Builds images and writes their outputs, evidence of the run included.
///
/// # Errors
/// Anything that keeps an output from being made. The run is on record as failed.
pub fn build(engine: &Engine<'_>, options: &BuildOptions) -> Result<BuildResult> {
    let started = Instant::now();
    let lock_path = engine.workspace.root.join("embrak.lock");
    let previous = Lock::load(&lock_path)?;
    let plan = plan(engine, &options.selection, previous.as_ref(), &Update::Nothing)?;
    for image in &plan.images {
        crate::finish::can_run(image)?;
    }
    crate::signed::demand_lock(engine, &plan.lock)?;
    if options.locked {
        let Some(previous) = &previous else {
            return Err(EngineError::LockStale(vec!["there is no embrak.lock".into()]));
        };
        if plan.lock != *previous {
            let mut moved: Vec<String> = plan.moved.iter().map(ToString::to_string).collect();
            if moved.is_empty() {
                moved.push("it is not written as this Embrak writes it".into());
            }
            return Err(EngineError::LockStale(moved));
        }
    } else if !options.set.is_empty() {
        // What is amended from the command line is amended for this build only.
        if previous.as_ref() != Some(&plan.lock) {
            engine.observer.event(Event::Note("embrak.lock stays as it is: --set is for this build only".into()));
        }
    } else if plan.lock.save(&lock_path)? && previous.is_some() {
        for moved in &plan.moved {
            engine.observer.event(Event::Note(format!("lock: {moved}")));
        }
    }

    let workspace = engine.workspace;
    let mut record = RunRecord {
        tool: TOOL_VERSION.to_string(),
        writers: plan.lock.writers,
        workspace: workspace.def.workspace.to_string(),
        lock: plan.lock.digest(),
        // Known when it has been taken, beside the work.
        snapshot: Digest::of(""),
        workspace_at: snapshot::workspace_at(engine)?,
        epoch: workspace.def.epoch.to_string(),
        images: options.selection.images.clone(),
        board: options.selection.board.clone(),
        params: workspace
            .params
            .0
            .iter()
            .filter(|(_, p)| !p.secret)
            .filter_map(|(name, p)| p.value.clone().map(|value| (name.clone(), value)))
            .collect(),
        set: options.set.clone(),
        host_tools: plan.tools.iter().map(|(name, tool)| (name.clone(), tool.digest)).collect(),
        actions: Vec::new(),
        outputs: Vec::new(),
        packages: BTreeMap::new(),
        inputs: plan.images.iter().map(|i| (i.target.image.clone(), i.locked.input)).collect(),
        files: plan.recorded_files(),
        layers: crate::vendor::layers_of(workspace),
        layer_names: workspace.layers.iter().map(|l| l.def.layer.to_string()).collect(),
        reports: BTreeMap::new(),
        secrets: workspace.params.0.iter().filter(|(_, p)| p.secret).map(|(name, _)| name.clone()).collect(),
        error: None,
    };
    let run = engine.store.start_run(&workspace.root.to_string_lossy(), &json(&record))?;
    let take = || -> Result<(Digest, Tree)> {
        let tree = snapshot::snapshot(engine, &plan.lock)?;
        Ok((sources::put_tree(engine.store, &tree)?, tree))
    };
    let (result, taken) = std::thread::scope(|scope| {
        let taken = scope.spawn(take);
        let result = carry_out(engine, options, &plan, started, &mut record);
        (result, taken.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    let result = result.or_else(|error| {
        // A damaged object is noticed when it is read: what had made it is made again, once.
        let damaged = engine.store.take_damaged();
        if damaged.is_empty() {
            return Err(error);
        }
        let names: Vec<String> = damaged.iter().map(Digest::short).collect();
        engine.observer.event(Event::Note(format!("damaged in the store, making it again: {}", names.join(", "))));
        record.actions.clear();
        record.outputs.clear();
        take()?;
        let again = crate::plan::plan(engine, &options.selection, Some(&plan.lock), &Update::Nothing)?;
        carry_out(engine, options, &again, started, &mut record)
    });
    let (result, snapshot) = match taken {
        Ok((digest, tree)) => {
            record.snapshot = digest;
            (result, tree)
        }
        Err(error) => (result.and(Err(error)), Tree::new()),
    };
    let status = match &result {
        Ok(()) => "done",
        Err(EngineError::Interrupted) => "interrupted",
        Err(_) => "failed",
    };
    record.error = result.as_ref().err().map(ToString::to_string);
    let mut keys: Vec<Digest> = record.actions.iter().map(|a| a.key).collect();
    keys.dedup();
    let mut objects: BTreeSet<Digest> = record.actions.iter().filter_map(|a| a.log).collect();
    objects.insert(record.snapshot);
    objects.extend(snapshot.blobs().map(|(digest, _)| digest));
    for tool in plan.tools.values() {
        objects.insert(tool.digest);
        objects.extend(tool.tree.blobs().map(|(digest, _)| digest));
    }
    for tree in record.layers.values() {
        objects.insert(*tree);
        objects.extend(sources::get_tree(engine.store, tree)?.blobs().map(|(digest, _)| digest));
    }
    engine.store.finish_run(run, status, &json(&record), &keys, &objects)?;
    result?;
    Ok(BuildResult {
        run,
        record,
        moved: plan.moved,
        warnings: plan.warnings,
        seconds: started.elapsed().as_secs_f64(),
    })
}

fn json(record: &RunRecord) -> String {
    serde_json::to_string(record).unwrap_or_default()
}

fn carry_out(
    engine: &Engine<'_>,
    options: &BuildOptions,
    plan: &Plan,
    started: Instant,
    record: &mut RunRecord,
) -> Result<()> {
    let outputs: usize = plan.images.iter().map(|i| i.image.def.outputs.len()).sum();
    engine.observer.event(Event::Planned(plan.recipes.len() + outputs));
    let jobs = options.jobs.max(1);
    let ready = crate::unpack::unpack_all(engine, &plan.files, jobs, started, &mut record.actions)?;
    let built = build_recipes(engine, plan, &ready, jobs, started, &mut record.actions)?;
    for image in &plan.images {
        let mut packages = Vec::new();
        for locked in &image.locked.packages {
            packages.push(made(locked, image.target.architecture, &ready, |id| built.get(id)).ok_or_else(|| {
                EngineError::other(format!("nothing has made the package {locked}"), "look at the recipe's `split`")
            })?);
        }
        record.packages.insert(image.target.image.clone(), packages.clone());
        let composed = compose::compose(engine, plan, image, &packages)?;
        record.reports.insert(image.target.image.clone(), composed.report.clone());
        let made = outputs::write_outputs(engine, options, image, &composed, plan.lock.writers, started)?;
        record.actions.extend(made.actions);
        record.outputs.extend(made.files);
        interrupted(engine)?;
    }
    Ok(())
}

/// Ready-made packages by architecture and as the lock names them.
type Ready = BTreeMap<(Architecture, LockedPackage), PackageInfo>;

/// What is known of a package when all it is made of is there.
fn made<'b>(
    locked: &LockedPackage,
    architecture: Architecture,
    ready: &Ready,
    built: impl Fn(&str) -> Option<&'b BuiltRecipe>,
) -> Option<PackageInfo> {
    match locked.recipe() {
        Some(id) => built(id)?.packages.iter().find(|p| p.name == locked.name).cloned(),
        None => ready.get(&(architecture, locked.clone())).cloned(),
    }
}

pub(crate) fn interrupted(engine: &Engine<'_>) -> Result<()> {
    if engine.stop.load(Ordering::Relaxed) { Err(EngineError::Interrupted) } else { Ok(()) }
}

/// The sources of a recipe as they are before the first step: directories laid over one another, patches applied.
pub(crate) fn source_tree(engine: &Engine<'_>, recipe: &Recipe) -> Result<Tree> {
    let epoch = engine.workspace.def.epoch.0;
    let mut tree = Tree::new();
    for source in &recipe.def.source {
        let dir = recipe.base.join(&source.dir.value);
        let layer =
            sources::directory_tree(sources::Contents::Keep(engine.store), &dir, epoch, sources::Metadata::Plain)?;
        embrak_tree::overlay(&mut tree, &layer);
        for patch in &source.patches {
            apply_patch(engine, &recipe.base.join(&patch.value), &patch.value, &mut tree, epoch)?;
        }
    }
    tree.add_missing_directories(epoch);
    Ok(tree)
}

/// Applies a unified diff; the first part of its paths is dropped, as version control writes them.
fn apply_patch(engine: &Engine<'_>, path: &Path, name: &str, tree: &mut Tree, epoch: i64) -> Result<()> {
    let text = std::fs::read_to_string(path).doing("read", path)?;
    let fail = |what: String| {
        EngineError::other(format!("patch `{name}`: {what}"), "make it anew against the present sources")
    };
    // Split where a file's header begins, so that one patch may change several files.
    let starts: Vec<usize> =
        text.match_indices("--- ").map(|(i, _)| i).filter(|&i| i == 0 || text.as_bytes()[i - 1] == b'\n').collect();
    if starts.is_empty() {
        return Err(fail("it is not a unified diff".into()));
    }
    for (index, &start) in starts.iter().enumerate() {
        let part = &text[start..starts.get(index + 1).copied().unwrap_or(text.len())];
        let end = part.find("\ndiff ").map_or(part.len(), |at| at + 1);
        let patch = diffy::Patch::from_str(&part[..end]).map_err(|e| fail(e.to_string()))?;
        let target = patch.modified().filter(|p| *p != "/dev/null").or(patch.original()).unwrap_or_default();
        let inside = target.split_once('/').map_or(target, |(_, rest)| rest);
        let tree_path = TreePath::from_relative(inside).map_err(|e| fail(e.to_string()))?;
        let before = match tree.get(&tree_path).map(|e| &e.kind) {
            Some(Kind::File { digest, .. }) => {
                let bytes = engine.store.read(digest).doing("read", path)?;
                String::from_utf8(bytes).map_err(|_| fail(format!("{inside} is not text")))?
            }
            Some(_) => return Err(fail(format!("{inside} is not a file"))),
            None => String::new(),
        };
        let after = diffy::apply(&before, &patch).map_err(|e| fail(format!("{inside}: {e}")))?;
        let digest = engine.store.put_bytes(&after)?;
        let mut entry = embrak_tree::Entry::file(digest, after.len() as u64).dated(epoch);
        if let Some(old) = tree.get(&tree_path) {
            entry.mode = old.mode;
        }
        tree.insert(tree_path, entry);
    }
    Ok(())
}

/// Builds one package's recipe alone and anew, everything it uses taken from the store or built; digests of the trees of
/// its packages by name. Nothing of it is remembered.
///
/// # Errors
/// No recipe makes such a package, or a step fails.
pub fn probe(
    engine: &Engine<'_>,
    selection: &Selection,
    package: &str,
    jobs: usize,
) -> Result<BTreeMap<String, Digest>> {
    let previous = Lock::load(&engine.workspace.root.join("embrak.lock"))?;
    let mut plan = plan(engine, selection, previous.as_ref(), &Update::Nothing)?;
    let id = plan
        .lock
        .images
        .iter()
        .flat_map(|image| &image.packages)
        .filter(|p| p.name == package)
        .find_map(|p| p.recipe().map(str::to_string))
        .ok_or_else(|| {
            EngineError::other(format!("no recipe makes the package {package}"), "look at `embrak list packages`")
        })?;
    // What it uses, and what that uses.
    let mut wanted: BTreeSet<String> = BTreeSet::new();
    let mut left = vec![id.clone()];
    while let Some(next) = left.pop() {
        let Some(planned) = plan.recipes.get(&next) else { continue };
        if wanted.insert(next) {
            left.extend(planned.locked.uses.iter().filter_map(LockedPackage::recipe).map(str::to_string));
        }
    }
    plan.recipes.retain(|name, _| wanted.contains(name));
    let Some(subject) = plan.recipes.remove(&id) else {
        return Err(EngineError::other(format!("{id} is not planned"), "run `embrak lock`"));
    };
    let ready_made = crate::unpack::unpack_all(engine, &plan.files, jobs, Instant::now(), &mut Vec::new())?;
    let usual = Engine {
        probe: Probe::default(),
        vendored: engine.vendored.clone(),
        demands: engine.demands.clone(),
        ..*engine
    };
    let done = build_recipes(&usual, &plan, &ready_made, jobs, Instant::now(), &mut Vec::new())?;
    let of = |used: &LockedPackage| made(used, subject.architecture, &ready_made, |id| done.get(id));
    let inputs: Vec<PackageInfo> = subject.locked.uses.iter().filter_map(of).collect();
    let built = run_recipe(engine, &plan, &subject, &inputs, jobs)?;
    Ok(built.packages.into_iter().map(|p| (p.name, p.tree)).collect())
}

/// What the scheduler shares between its threads.
struct Shared {
    waiting: BTreeSet<String>,
    running: usize,
    done: BTreeMap<String, BuiltRecipe>,
    actions: Vec<ActionRecord>,
    failure: Option<EngineError>,
}

/// Builds all recipes of a plan, each when what it uses is there.
fn build_recipes(
    engine: &Engine<'_>,
    plan: &Plan,
    ready_made: &Ready,
    jobs: usize,
    started: Instant,
    actions: &mut Vec<ActionRecord>,
) -> Result<BTreeMap<String, BuiltRecipe>> {
    let shared = Mutex::new(Shared {
        waiting: plan.recipes.keys().cloned().collect(),
        running: 0,
        done: BTreeMap::new(),
        actions: Vec::new(),
        failure: None,
    });
    let changed = Condvar::new();
    let lock = || shared.lock().unwrap_or_else(PoisonError::into_inner);
    std::thread::scope(|scope| {
        for _ in 0..jobs.min(plan.recipes.len()) {
            scope.spawn(|| {
                loop {
                    let mut state = lock();
                    let (id, inputs) = loop {
                        if state.waiting.is_empty() || state.failure.is_some() {
                            return;
                        }
                        let ready = state.waiting.iter().find(|id| {
                            let uses = &plan.recipes[*id].locked.uses;
                            uses.iter().filter_map(LockedPackage::recipe).all(|used| state.done.contains_key(used))
                        });
                        if let Some(id) = ready.cloned() {
                            state.waiting.remove(&id);
                            state.running += 1;
                            let planned = &plan.recipes[&id];
                            let of = |used: &LockedPackage| {
                                made(used, planned.architecture, ready_made, |id| state.done.get(id))
                            };
                            let inputs: Vec<PackageInfo> = planned.locked.uses.iter().filter_map(of).collect();
                            break (id, inputs);
                        }
                        state = changed.wait(state).unwrap_or_else(PoisonError::into_inner);
                    };
                    drop(state);
                    let begun = Instant::now();
                    let result = build_recipe(engine, plan, &plan.recipes[&id], &inputs, jobs);
                    let mut state = lock();
                    state.running -= 1;
                    match result {
                        Ok((key, built, status)) => {
                            let seconds = begun.elapsed().as_secs_f64();
                            state.actions.push(ActionRecord {
                                label: id.clone(),
                                key,
                                status,
                                started: begun.duration_since(started).as_secs_f64(),
                                seconds,
                                log: Some(built.log),
                            });
                            engine.observer.event(Event::Finished { label: id.clone(), status, seconds });
                            state.done.insert(id, built);
                        }
                        Err(error) => {
                            state.failure.get_or_insert(error);
                        }
                    }
                    changed.notify_all();
                }
            });
        }
    });
    let mut state = shared.into_inner().unwrap_or_else(PoisonError::into_inner);
    state.actions.sort_by(|a, b| a.started.total_cmp(&b.started));
    actions.append(&mut state.actions);
    match state.failure {
        Some(error) => Err(error),
        None => Ok(state.done),
    }
}

/// The fixed environment of every step.
fn environment(engine: &Engine<'_>, planned: &PlannedRecipe, jobs: usize) -> BTreeMap<String, String> {
    let triple = planned.architecture.triple();
    let def = &planned.recipe.def;
    let on: Vec<&str> = planned.options.iter().filter(|(_, on)| **on).map(|(name, _)| name.as_str()).collect();
    let mut environment: BTreeMap<String, String> = [
        ("PATH", "/usr/local/bin:/usr/bin:/bin:/sysroot/usr/bin".to_string()),
        ("HOME", "/build".into()),
        ("LC_ALL", "C".into()),
        ("LANG", "C".into()),
        ("TZ", "UTC".into()),
        ("USER", "root".into()),
        ("LOGNAME", "root".into()),
        ("SHELL", "/bin/sh".into()),
        ("TAR_OPTIONS", "--no-same-owner".into()),
        ("SOURCE_DATE_EPOCH", engine.workspace.def.epoch.0.to_string()),
        ("SRC", "/build/src".into()),
        ("OUT", "/build/out".into()),
        ("SYSROOT", "/sysroot".into()),
        ("TARGET", triple.into()),
        ("HOST", triple.into()),
        ("CC", "cc".into()),
        ("AR", "ar".into()),
        ("PKG_CONFIG_SYSROOT_DIR", "/sysroot".into()),
        ("CFLAGS", "-O2 -ffile-prefix-map=/build/src=. -I/sysroot/usr/include".into()),
        ("LDFLAGS", "-L/sysroot/usr/lib -Wl,--build-id=sha1".into()),
        ("EMBRAK_OPTIONS", on.join(" ")),
    ]
    .map(|(name, value)| (name.to_string(), value))
    .into();
    environment.extend(def.env.clone());
    for (_, option) in def.option.iter().filter(|(name, _)| planned.options[*name]) {
        environment.extend(option.env.clone());
    }
    // Not part of the key: how many run at once must not change a result.
    environment.insert("JOBS".to_string(), jobs.to_string());
    environment
}

/// The digest of everything that can change what a recipe yields.
fn recipe_key(engine: &Engine<'_>, plan: &Plan, planned: &PlannedRecipe, inputs: &[PackageInfo]) -> Digest {
    let def = &planned.recipe.def;
    let mut environment = environment(engine, planned, 0);
    environment.remove("JOBS");
    let tools: Vec<(&str, Digest)> = planned
        .locked
        .tools
        .iter()
        .filter_map(|name| plan.tools.get(name))
        .map(|t| (t.name.as_str(), t.digest))
        .collect();
    let inputs: Vec<(&str, Digest)> = inputs.iter().map(|p| (p.name.as_str(), p.tree)).collect();
    let writers = plan.lock.writers;
    let key = serde_json::json!({
        "recipe": planned.locked.definition,
        "architecture": planned.architecture,
        "sources": planned.locked.sources,
        "steps": def.steps.in_order(def.method),
        "environment": environment,
        "tools": tools,
        "inputs": inputs,
        "epoch": engine.workspace.def.epoch.0,
        "writers": [writers.tree, writers.sandbox],
    });
    Digest::of(key.to_string())
}

fn build_recipe(
    engine: &Engine<'_>,
    plan: &Plan,
    planned: &PlannedRecipe,
    inputs: &[PackageInfo],
    jobs: usize,
) -> Result<(Digest, BuiltRecipe, ActionStatus)> {
    let key = recipe_key(engine, plan, planned, inputs);
    let known = |store: &Store| -> Result<Option<BuiltRecipe>> {
        Ok(store.action(&key)?.and_then(|text| serde_json::from_str(&text).ok()))
    };
    if let Some(built) = known(engine.store)? {
        return Ok((key, built, ActionStatus::Reused));
    }
    interrupted(engine)?;
    let _lock = engine.store.lock_action(&key)?;
    // While waiting, another process may have built it.
    if let Some(built) = known(engine.store)? {
        return Ok((key, built, ActionStatus::Reused));
    }
    engine.observer.event(Event::Started(planned.locked.id.clone()));
    let built = run_recipe(engine, plan, planned, inputs, jobs)?;
    let mut objects = built.objects.clone();
    objects.insert(built.log);
    engine.store.record_action(&key, &serde_json::to_string(&built).unwrap_or_default(), &objects)?;
    Ok((key, built, ActionStatus::Built))
}

fn run_recipe(
    engine: &Engine<'_>,
    plan: &Plan,
    planned: &PlannedRecipe,
    inputs: &[PackageInfo],
    jobs: usize,
) -> Result<BuiltRecipe> {
    let def = &planned.recipe.def;
    let work = engine.store.workplace()?;
    let dir = |name: &str| work.path().join(name);
    for name in ["scratch", "build", "build/src", "build/out"] {
        std::fs::create_dir(dir(name)).doing("make", dir(name))?;
    }
    engine.store.copy_out(&planned.sources, &dir("build/src"))?;
    let log_path = dir("log");
    let mut log = std::fs::File::create(&log_path).doing("write", &log_path)?;

    let fixtures = fixtures(engine, plan, planned, inputs, &dir("build"))?;
    let environment = environment(engine, planned, jobs);
    let begun = Instant::now();
    let limit = Duration::from_secs(def.time_limit.map_or(3600, |s| s.0));
    for (name, script) in def.steps.in_order(def.method) {
        use std::io::Write;
        writeln!(log, "== {name}").doing("write", &log_path)?;
        let mut step = Step {
            root: None,
            users: Users::One,
            scratch: dir("scratch"),
            fixtures: fixtures.clone(),
            command: ["/bin/sh", "-euc", &script].map(String::from).into(),
            environment: environment.clone(),
            directory: "/build/src".into(),
            hostname: "embrak".into(),
            umask: 0o022,
            random_addresses: false,
            limit: limit.saturating_sub(begun.elapsed()).max(Duration::from_secs(1)),
        };
        engine.probe.apply(&mut step);
        let how = match embrak_sandbox::run(&step, &log, engine.stop)? {
            Outcome::Exited(0) => continue,
            Outcome::Stopped => return Err(EngineError::Interrupted),
            Outcome::Exited(status) => format!("ended with status {status}"),
            Outcome::Signalled(signal) => format!("was killed by signal {signal}"),
            Outcome::TimedOut => format!("took longer than the {} seconds of its limit", limit.as_secs()),
        };
        return Err(step_failed(engine, planned, name, how, &log_path)?);
    }
    let epoch = engine.workspace.def.epoch.0;
    let out = if def.method == Some(Method::Copy) && def.steps.install.is_none() {
        let mut files = planned.sources.clone();
        files.remove(&TreePath::root());
        files
    } else {
        sources::directory_tree(
            sources::Contents::Keep(engine.store),
            &dir("build/out"),
            epoch,
            sources::Metadata::Modes,
        )?
    };
    let (log, _) = engine.store.put_file(&log_path)?;
    let packages = split(engine, planned, out)?;
    let mut objects = BTreeSet::new();
    for package in &packages {
        objects.insert(package.tree);
        objects.extend(sources::get_tree(engine.store, &package.tree)?.blobs().map(|(digest, _)| digest));
    }
    Ok(BuiltRecipe { packages, log, seconds: begun.elapsed().as_secs_f64(), objects })
}

/// The root of a recipe's steps: its tools, its sysroot, its work directory.
fn fixtures(
    engine: &Engine<'_>,
    plan: &Plan,
    planned: &PlannedRecipe,
    inputs: &[PackageInfo],
    work: &Path,
) -> Result<Vec<Fixture>> {
    let tools = toolchain::root_of(planned.locked.tools.iter().filter_map(|name| plan.tools.get(name)))?;
    let view = engine.store.view(&tools)?;
    let mut fixtures = Vec::new();
    for (path, entry) in tools.iter().filter(|(path, _)| path.depth() == 1) {
        use std::os::unix::ffi::OsStrExt;
        let at = PathBuf::from(std::ffi::OsStr::from_bytes(path.as_bytes()));
        match &entry.kind {
            Kind::Symlink { target } => {
                fixtures.push(Fixture::Symlink { target: std::ffi::OsStr::from_bytes(target).into(), at });
            }
            _ => fixtures.push(Fixture::ReadOnly { from: view.join(at.strip_prefix("/").unwrap_or(&at)), at }),
        }
    }
    let mut trees = Vec::new();
    for package in inputs {
        trees.push((package.name.clone(), sources::get_tree(engine.store, &package.tree)?));
    }
    crate::compose::settle_ready_made(inputs, &mut trees, engine.workspace.def.epoch.0);
    let merged = embrak_tree::merge(trees.iter().map(|(name, tree)| (name.as_str(), tree))).map_err(|conflicts| {
        EngineError::Conflicts { image: format!("the sysroot of {}", planned.locked.id), conflicts }
    })?;
    let mut sysroot = merged.tree;
    sysroot.add_missing_directories(0);
    fixtures.push(Fixture::ReadOnly { from: engine.store.view(&sysroot)?, at: "/sysroot".into() });
    fixtures.push(Fixture::Writable { from: work.to_path_buf(), at: "/build".into() });
    fixtures.push(Fixture::Text { text: "root:x:0:0:root:/build:/bin/sh\n".into(), at: "/etc/passwd".into() });
    fixtures.push(Fixture::Text { text: "root:x:0:\n".into(), at: "/etc/group".into() });
    Ok(fixtures)
}

fn step_failed(
    engine: &Engine<'_>,
    planned: &PlannedRecipe,
    step: &str,
    how: String,
    log: &Path,
) -> Result<EngineError> {
    let text = String::from_utf8_lossy(&std::fs::read(log).doing("read", log)?).into_owned();
    let lines: Vec<&str> = text.lines().collect();
    let tail = lines[lines.len().saturating_sub(12)..].iter().map(|l| (*l).to_string()).collect();
    // The work directory goes; the log stays, where the error says.
    let (digest, _) = engine.store.put_file(log)?;
    Ok(EngineError::StepFailed {
        package: planned.locked.id.clone(),
        step: step.to_string(),
        how,
        tail,
        log: engine.store.object_path(&digest),
    })
}

/// Divides what the install step has put out among the recipe's packages.
fn split(engine: &Engine<'_>, planned: &PlannedRecipe, mut out: Tree) -> Result<Vec<PackageInfo>> {
    let def = &planned.recipe.def;
    let texts = |list: &[Located<String>]| list.iter().map(|l| l.value.clone()).collect::<Vec<_>>();
    let info = |name: &str, summary: &str, requires: Vec<String>, tree: &Tree| -> Result<PackageInfo> {
        Ok(PackageInfo {
            name: name.to_string(),
            version: def.full_version(),
            architecture: planned.architecture.to_string(),
            summary: summary.to_string(),
            license: def.license.value.clone(),
            requires,
            provides: if name == def.name.value.as_str() { texts(&def.provides) } else { vec![] },
            conflicts: if name == def.name.value.as_str() { texts(&def.conflicts) } else { vec![] },
            tree: sources::put_tree(engine.store, tree)?,
            size: tree.content_size(),
            files: tree.iter().filter(|(_, e)| !e.is_directory()).count(),
            ready_made: None,
        })
    };
    let mut packages = Vec::new();
    for split in &def.split {
        let globs = globs(split.take.iter().map(|g| g.value.as_str()))?;
        let mut tree = Tree::new();
        let taken: Vec<TreePath> = out
            .iter()
            .filter(|(path, entry)| !entry.is_directory() && globs.is_match(path.to_string()))
            .map(|(p, _)| p.clone())
            .collect();
        if taken.is_empty() {
            let places: Vec<String> = split.take.iter().map(|g| g.value.clone()).collect();
            return Err(EngineError::other(
                format!(
                    "{}: the package `{}` would be empty: nothing installed matches {}",
                    planned.locked.id,
                    split.name.value,
                    places.join(", ")
                ),
                "look at the recipe's `split` and its install step",
            ));
        }
        for path in taken {
            for ancestor in std::iter::successors(path.parent(), TreePath::parent) {
                if let Some(entry) = out.get(&ancestor) {
                    tree.insert(ancestor, entry.clone());
                }
            }
            if let Some(entry) = out.remove(&path) {
                tree.insert(path, entry);
            }
        }
        let requires = split.run.iter().map(|r| r.value.clone()).collect();
        packages.push(info(&split.name.value, &split.summary, requires, &tree)?);
    }
    drop_emptied(&mut out, &packages);
    let requires = def.needs.run.iter().map(|r| r.value.clone()).collect();
    packages.insert(0, info(&def.name.value, &def.summary, requires, &out)?);
    Ok(packages)
}

/// Directories that only a split had something in are not the main package's.
fn drop_emptied(out: &mut Tree, splits: &[PackageInfo]) {
    if splits.is_empty() {
        return;
    }
    let directories: Vec<TreePath> = out.iter().filter(|(_, e)| e.is_directory()).map(|(p, _)| p.clone()).collect();
    for path in directories.iter().rev() {
        let prefix = [path.as_bytes(), b"/"].concat();
        if !path.is_root() && !out.iter().any(|(p, _)| p.as_bytes().starts_with(&prefix)) {
            out.remove(path);
        }
    }
}

/// Globs over absolute paths: `*` stays within a directory, `**` does not.
pub(crate) fn globs<'a>(patterns: impl IntoIterator<Item = &'a str>) -> Result<GlobSet> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let glob = GlobBuilder::new(pattern).literal_separator(true).build();
        set.add(glob.map_err(|e| {
            EngineError::other(format!("`{pattern}` is not a glob: {e}"), "write such as `/usr/share/man/**`")
        })?);
    }
    set.build().map_err(|e| EngineError::other(e.to_string(), "use fewer globs"))
}

/// An output of an image as last built.
pub(crate) fn last_output(store: &Store, target: &Target, output: Output) -> Option<OutputFile> {
    let runs = store.runs().unwrap_or_default();
    let mut found =
        runs.iter().filter(|r| r.status == "done").filter_map(|r| crate::run_record(r).ok()).flat_map(|r| r.outputs);
    found.find(|o| o.image == target.image && o.target == target.label() && o.output == output)
}

/// The packages of an image as last built, for sizes before building: from the newest run that had it.
pub(crate) fn last_packages(store: &Store, target: &Target) -> Vec<PackageInfo> {
    let runs = store.runs().unwrap_or_default();
    let found = runs.iter().filter(|r| r.status == "done").filter_map(|r| crate::run_record(r).ok());
    found.filter_map(|mut r| r.packages.remove(&target.image)).next().unwrap_or_default()
}

/// A size for people.
pub(crate) fn human(bytes: u64) -> String {
    ByteSize(bytes).human()
}
