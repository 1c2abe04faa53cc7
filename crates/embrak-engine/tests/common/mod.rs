//! The engine on workspaces in temporary directories, without any interface.
#![allow(dead_code)] // every test file uses a part of this

use embrak_engine::{
    BuildOptions, BuildResult, Engine, EngineError, Event, Lock, Observer, OutputFile, Plan, Selection, Update, build,
    plan,
};
use embrak_model::{Workspace, WorkspaceOptions};
use embrak_store::Store;
use std::path::PathBuf;
use std::sync::Mutex;
use std::sync::atomic::AtomicBool;

/// Remembers what it is told.
#[derive(Default)]
pub struct Listener(pub Mutex<Vec<Event>>);

impl Observer for Listener {
    fn event(&self, event: Event) {
        self.0.lock().unwrap().push(event);
    }
}

pub struct Place {
    pub dir: tempfile::TempDir,
    pub store: Store,
    pub heard: Listener,
    pub stop: AtomicBool,
}

impl Place {
    /// A workspace of one layer `l`, with these files.
    pub fn of(files: &[(&str, &str)]) -> Place {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(dir.path().join("store")).unwrap();
        let place = Place { dir, store, heard: Listener::default(), stop: AtomicBool::new(false) };
        place.write(
            "embrak.toml",
            "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[toolchain]\nhost = ['cc']\n",
        );
        place.write("l/layer.toml", "layer = 'l'\nversion = '1'\n");
        place.write("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n");
        for (path, text) in files {
            place.write(path, text);
        }
        place
    }

    pub fn root(&self) -> PathBuf {
        self.dir.path().join("w")
    }

    pub fn write(&self, path: &str, text: &str) {
        let path = self.root().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    /// A recipe that is nothing but these files.
    pub fn files_recipe(&self, name: &str, rest: &str, files: &[(&str, &str)]) {
        let text = format!(
            "name = '{name}'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\nmethod = 'copy'\n{rest}\n[[source]]\ndir = 'src'\n"
        );
        self.write(&format!("l/recipes/{name}/recipe.toml"), &text);
        self.write(&format!("l/recipes/{name}/src/usr/share/{name}/name"), name);
        for (path, text) in files {
            self.write(&format!("l/recipes/{name}/src/{path}"), text);
        }
    }

    #[track_caller]
    pub fn workspace(&self) -> Workspace {
        Workspace::load(&self.root(), &WorkspaceOptions::default()).unwrap_or_else(|p| panic!("{p:#?}"))
    }

    pub fn with<T>(&self, work: impl FnOnce(&Engine<'_>) -> T) -> T {
        let workspace = self.workspace();
        work(&Engine {
            workspace: &workspace,
            store: &self.store,
            observer: &self.heard,
            vendored: None,
            demands: None,
            probe: embrak_engine::Probe::default(),
            stop: &self.stop,
        })
    }

    pub fn plan(&self, images: &[&str], previous: Option<&Lock>, update: bool) -> Result<Plan, EngineError> {
        let update = if update { Update::Everything } else { Update::Nothing };
        let selection = self.selection(images);
        self.with(|engine| plan(engine, &selection, previous, &update))
    }

    pub fn selection(&self, images: &[&str]) -> Selection {
        let images = images.iter().map(ToString::to_string).collect();
        Selection { images, board: Some("b".into()), ..Selection::default() }
    }

    pub fn options(&self, images: &[&str]) -> BuildOptions {
        BuildOptions {
            selection: self.selection(images),
            jobs: 2,
            locked: false,
            out: self.dir.path().join("out"),
            set: vec![],
        }
    }

    pub fn try_build(&self, images: &[&str]) -> Result<BuildResult, EngineError> {
        self.with(|engine| build(engine, &self.options(images)))
    }

    #[track_caller]
    pub fn build(&self, images: &[&str]) -> BuildResult {
        self.try_build(images).unwrap_or_else(|e| panic!("{e}: {}", e.help()))
    }

    /// The one output whose name ends so.
    #[track_caller]
    pub fn output(&self, result: &BuildResult, end: &str) -> OutputFile {
        result.record.outputs.iter().find(|o| o.name.ends_with(end)).unwrap_or_else(|| panic!("no {end}")).clone()
    }

    /// The text of a file in an output.
    #[track_caller]
    pub fn text(&self, output: &OutputFile, path: &str) -> String {
        let artifact = embrak_engine::open_artifact(&output.path).unwrap();
        String::from_utf8(artifact.find_file(&path.parse().unwrap()).unwrap()).unwrap()
    }

    /// What a build says when it fails, advice included.
    #[track_caller]
    pub fn failure(&self, images: &[&str]) -> String {
        let error = self.try_build(images).expect_err("it should fail");
        format!("{error}; {}", error.help())
    }

    /// What a build with an empty store says when it fails.
    #[track_caller]
    pub fn failure_elsewhere(&self, images: &[&str]) -> String {
        let fresh = tempfile::tempdir().unwrap();
        let store = Store::open(fresh.path()).unwrap();
        let workspace = self.workspace();
        let engine = Engine {
            workspace: &workspace,
            store: &store,
            observer: &self.heard,
            vendored: None,
            demands: None,
            probe: embrak_engine::Probe::default(),
            stop: &self.stop,
        };
        let error = build(&engine, &self.options(images)).expect_err("it should fail");
        format!("{error}; {}", error.help())
    }

    /// The notes heard so far.
    pub fn heard(&self) -> Vec<String> {
        let note = |e: &Event| if let Event::Note(text) = e { Some(text.clone()) } else { None };
        self.heard.0.lock().unwrap().iter().filter_map(note).collect()
    }
}
