//! What most commands start with: the workspace, the store, progress, and the interrupt.

use crate::args::Global;
use crate::commands::Failure;
use crate::progress::Progress;
use embrak_engine::{Engine, EngineError, LayerFetcher, Vendored};
use embrak_model::definitions::LayerSource;
use embrak_model::{ParamSources, Problem, RemoteLayers, Workspace, WorkspaceOptions, find_workspace};
use embrak_store::Store;
use embrak_trust::{Policy, PublicKey};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

static STOP: AtomicBool = AtomicBool::new(false);

/// Set when the user has asked to stop.
pub fn stop() -> &'static AtomicBool {
    &STOP
}

/// Turns Ctrl-C and termination into a request to stop; a second one ends at once.
pub fn watch_interrupt() {
    let _ = ctrlc::set_handler(|| {
        if STOP.swap(true, Ordering::Relaxed) {
            std::process::exit(130);
        }
    });
}

/// The directory commands work in.
pub fn directory(global: &Global) -> PathBuf {
    global.directory.clone().unwrap_or_else(|| PathBuf::from("."))
}

/// A path as typed, from the directory commands work in.
pub fn resolve(global: &Global, path: &Path) -> PathBuf {
    if path.is_absolute() { path.to_path_buf() } else { tidy(&directory(global).join(path)) }
}

/// Without a leading `./`.
fn tidy(path: &Path) -> PathBuf {
    path.strip_prefix("./").map_or_else(|_| path.to_path_buf(), Path::to_path_buf)
}

/// The directory of the workspace.
pub fn workspace_root(global: &Global) -> Result<PathBuf, Failure> {
    let start = directory(global);
    let start =
        start.canonicalize().map_err(|e| EngineError::other(format!("cannot go to {}: {e}", start.display()), ""))?;
    find_workspace(&start).ok_or_else(|| {
        EngineError::other(
            format!("neither {} nor any directory above it has an embrak.toml", start.display()),
            "go into a workspace, name one with -C, or start one with `embrak new DIR`",
        )
        .into()
    })
}

/// Gets layers from elsewhere; opens the store only when there is one to get.
#[derive(Debug)]
struct LazyLayers {
    store: Option<PathBuf>,
    vendored: Option<Arc<Vendored>>,
}

impl RemoteLayers for LazyLayers {
    fn layer(&self, root: &Path, source: &LayerSource) -> Result<(PathBuf, String), Problem> {
        let problem = |e: EngineError| Problem::new(e.to_string()).help(e.help());
        let path = self.store.clone().ok_or_else(|| Problem::new("there is no place for the store"))?;
        let store = Store::open(path).map_err(|e| problem(e.into()))?;
        LayerFetcher::new(Arc::new(store), self.vendored.clone(), stop()).layer(root, source)
    }
}

/// Reads the workspace; all its problems when it has any.
pub fn load(global: &Global) -> Result<Result<Workspace, Vec<Problem>>, Failure> {
    load_with(global, None)
}

fn load_with(global: &Global, vendored: Option<Arc<Vendored>>) -> Result<Result<Workspace, Vec<Problem>>, Failure> {
    let root = workspace_root(global)?;
    let mut given = Vec::new();
    for text in &global.params {
        let (name, value) = text
            .split_once('=')
            .ok_or_else(|| EngineError::other(format!("--param {text} has no `=`"), "write --param NAME=VALUE"))?;
        given.push((name.to_string(), value.to_string()));
    }
    let environment = std::env::vars()
        .filter_map(|(name, value)| Some((name.strip_prefix("EMBRAK_PARAM_")?.to_lowercase().replace('_', "-"), value)))
        .collect();
    let files = global.param_files.iter().map(|f| resolve(global, f)).collect();
    let remote: Arc<dyn RemoteLayers> = Arc::new(LazyLayers { store: store_path(global).ok(), vendored });
    let options = WorkspaceOptions {
        params: ParamSources { files, environment, given },
        set: global.set.clone(),
        remote: Some(remote),
    };
    Ok(Workspace::load(&root, &options))
}

fn store_path(global: &Global) -> Result<PathBuf, Failure> {
    global.store.clone().map_or_else(default_store, Ok)
}

/// Opens the store.
pub fn open_store(global: &Global) -> Result<Store, Failure> {
    Ok(Store::open(store_path(global)?).map_err(EngineError::from)?)
}

/// `$XDG_CACHE_HOME/embrak`, or `~/.cache/embrak` (XDG Base Directory Specification).
fn default_store() -> Result<PathBuf, Failure> {
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    let cache = absolute("XDG_CACHE_HOME").or_else(|| absolute("HOME").map(|h| h.join(".cache")));
    cache.map(|c| c.join("embrak")).ok_or_else(|| {
        EngineError::other(
            "neither XDG_CACHE_HOME nor HOME is set",
            "say where the store is with --store or EMBRAK_STORE",
        )
        .into()
    })
}

/// Everything a command that works on a workspace needs.
pub struct Session {
    pub workspace: Workspace,
    pub store: Store,
    pub progress: Progress,
    pub vendored: Option<Arc<Vendored>>,
    /// The workspace's policy, when it asks for signed layers or a signed lock.
    demands: Option<Arc<Policy>>,
    /// How steps run otherwise than usual.
    pub probe: embrak_engine::Probe,
}

impl Session {
    /// Reads the workspace and opens the store.
    pub fn open(global: &Global) -> Result<Session, Failure> {
        let workspace = load(global)?.map_err(EngineError::Definitions)?;
        let store = open_store(global)?;
        let progress = Progress::new(global.quiet || global.json, global.verbose);
        let demands = demands(&workspace)?;
        Ok(Session { workspace, store, progress, vendored: None, demands, probe: Default::default() })
    }

    /// The same, all inputs from elsewhere taken from a vendor directory that one of the keys has signed: the given
    /// ones, or those of the workspace.
    pub fn open_vendored(global: &Global, dir: &Path, keys: &[PathBuf]) -> Result<Session, Failure> {
        let store = open_store(global)?;
        let vendored = Arc::new(open_vendor(global, dir, keys, &store)?);
        let workspace = load_with(global, Some(vendored.clone()))?.map_err(EngineError::Definitions)?;
        let progress = Progress::new(global.quiet || global.json, global.verbose);
        let demands = demands(&workspace)?;
        Ok(Session { workspace, store, progress, vendored: Some(vendored), demands, probe: Default::default() })
    }

    /// The engine over all this.
    pub fn engine(&self) -> Engine<'_> {
        Engine {
            workspace: &self.workspace,
            store: &self.store,
            observer: &self.progress,
            vendored: self.vendored.clone(),
            demands: self.demands.clone(),
            probe: self.probe.clone(),
            stop: stop(),
        }
    }
}

/// The policy of a workspace, when it asks anything of definitions.
fn demands(workspace: &Workspace) -> Result<Option<Arc<Policy>>, Failure> {
    Ok(Policy::of_definitions(&workspace.root.join("trust.toml"))?.map(Arc::new))
}

/// Opens a vendor directory that one of the keys has signed: the given ones, or those of the workspace.
pub fn open_vendor(global: &Global, dir: &Path, keys: &[PathBuf], store: &Store) -> Result<Vendored, Failure> {
    let mut files: Vec<PathBuf> = keys.iter().map(|k| resolve(global, k)).collect();
    if files.is_empty() {
        let dir = workspace_root(global)?.join("keys");
        let found = std::fs::read_dir(dir).into_iter().flatten().flatten().map(|e| e.path());
        files.extend(found.filter(|p| p.extension().is_some_and(|e| e == "pub")));
    }
    let keys = files.iter().map(|f| PublicKey::load(f)).collect::<Result<Vec<_>, _>>()?;
    Ok(Vendored::open(dir, &keys, store)?)
}

/// A path from the current directory when it lies below it.
pub fn shown(path: &Path) -> String {
    let here = std::env::current_dir().unwrap_or_default();
    path.strip_prefix(&here).unwrap_or(path).display().to_string()
}

/// The passphrase of a key: from the environment, from a file it names, or typed.
pub fn passphrase(prompt: &str) -> Result<String, String> {
    if let Ok(text) = std::env::var("EMBRAK_PASSPHRASE") {
        return Ok(text);
    }
    if let Some(file) = std::env::var_os("EMBRAK_PASSPHRASE_FILE") {
        let text = std::fs::read_to_string(&file).map_err(|e| format!("{}: {e}", Path::new(&file).display()))?;
        return Ok(text.trim_end_matches(['\n', '\r']).to_string());
    }
    let asked = rpassword::prompt_password(prompt);
    asked.map_err(|_| "there is no terminal to ask at; set EMBRAK_PASSPHRASE or EMBRAK_PASSPHRASE_FILE".into())
}

/// A private key by its file.
pub fn signing_key(global: &Global, path: &Path) -> Result<embrak_trust::SigningKey, Failure> {
    let path = resolve(global, path);
    let ask = || passphrase(&format!("passphrase of {}: ", path.display()));
    Ok(embrak_trust::SigningKey::load(&path, &ask)?)
}
