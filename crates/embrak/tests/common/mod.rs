//! The built program on workspaces in temporary directories, as a user would run it.
#![allow(dead_code)] // every test file is a program of its own and uses a part of this

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::LazyLock;

/// One store for all tests of a file: what is built once is reused, and several builds at once are tried all the time.
static STORE: LazyLock<tempfile::TempDir> = LazyLock::new(|| tempfile::tempdir().unwrap());

/// A workspace.
pub struct Place {
    pub dir: tempfile::TempDir,
    pub store: PathBuf,
}

/// What a command said.
pub struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Said {
    fn of(output: Output) -> Said {
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        Said { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
    }

    /// The standard output as JSON.
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}\n{}\n{}", self.out, self.err))
    }

    /// Fails the test unless the exit status is this.
    #[track_caller]
    pub fn expect(self, code: i32) -> Said {
        assert_eq!(self.code, code, "stdout:\n{}\nstderr:\n{}", self.out, self.err);
        self
    }

    /// Fails the test unless standard error holds all of these.
    #[track_caller]
    pub fn says(self, texts: &[&str]) -> Said {
        // Source lines are framed, so line breaks inside sentences do not count.
        let plain = self.err.split_whitespace().filter(|w| *w != "│").collect::<Vec<_>>().join(" ");
        for text in texts {
            assert!(plain.contains(text), "no `{text}` in:\n{}", self.err);
        }
        self
    }
}

impl Place {
    /// The demo's workspace.
    pub fn demo() -> Place {
        let place = Place { dir: tempfile::tempdir().unwrap(), store: STORE.path().to_path_buf() };
        place.run_in(Path::new("/"), &["new", &place.path("w").to_string_lossy(), "--demo", "-q"]).expect(0);
        place
    }

    /// A workspace of one layer with these files below it, `embrak.toml` with a toolchain of `cc` and `make`.
    pub fn of(files: &[(&str, &str)]) -> Place {
        let place = Place { dir: tempfile::tempdir().unwrap(), store: STORE.path().to_path_buf() };
        place.write(
            "embrak.toml",
            "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[toolchain]\nhost = ['cc', 'make']\n",
        );
        place.write("l/layer.toml", "layer = 'l'\nversion = '1'\n");
        for (path, text) in files {
            place.write(path, text);
        }
        place
    }

    /// The same with a store of its own.
    pub fn with_own_store(mut self) -> Place {
        self.store = self.path("store");
        self
    }

    /// A path in the temporary directory.
    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// A path in the workspace.
    pub fn file(&self, name: &str) -> PathBuf {
        self.path("w").join(name)
    }

    pub fn write(&self, name: &str, text: &str) {
        let path = self.file(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.file(name)).unwrap()
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_embrak"));
        command.args(args).current_dir(self.dir.path()).env("EMBRAK_STORE", &self.store).env("NO_COLOR", "1");
        command
    }

    /// Runs in the workspace.
    pub fn run(&self, args: &[&str]) -> Said {
        self.run_in(&self.path("w"), args)
    }

    pub fn run_in(&self, dir: &Path, args: &[&str]) -> Said {
        Said::of(self.command(args).current_dir(dir).output().unwrap())
    }

    /// Builds and gives the record.
    #[track_caller]
    pub fn build(&self, args: &[&str]) -> serde_json::Value {
        self.run(&[&["build", "--json"], args].concat()).expect(0).json()["record"].clone()
    }
}

/// The labels of the actions of a record that were carried out.
pub fn built(record: &serde_json::Value) -> Vec<String> {
    let actions = record["actions"].as_array().unwrap();
    actions.iter().filter(|a| a["status"] == "built").map(|a| a["label"].as_str().unwrap().to_string()).collect()
}

/// The output of a record whose name ends so.
pub fn output<'a>(record: &'a serde_json::Value, end: &str) -> &'a serde_json::Value {
    let outputs = record["outputs"].as_array().unwrap();
    outputs
        .iter()
        .find(|o| o["name"].as_str().unwrap().ends_with(end))
        .unwrap_or_else(|| panic!("no output {end}: {record}"))
}

/// Runs an independent program over a result. When it is missing, CI fails and a bare machine skips.
pub fn judge(program: &str, args: &[&str]) -> Option<Said> {
    match Command::new(program).args(args).output() {
        Ok(output) => Some(Said::of(output)),
        Err(error) => {
            assert!(std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(), "the judge {program} is missing: {error}");
            eprintln!("skipped: {program} is not installed");
            None
        }
    }
}
