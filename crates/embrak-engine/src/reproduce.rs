//! Building again from the record, in an empty store, under changed conditions; and saying what differs.

use crate::causes::Cause;
use crate::diff::{Difference, compare_trees};
use crate::error::{Doing, EngineError, Result};
use crate::events::{Event, Observer};
use crate::experiment::{Alone, Bench};
use crate::lock::WriterVersions;
use crate::package::PackageInfo;
use crate::record::{RunRecord, run_record};
use crate::sources;
use crate::vary::Vary;
use crate::vendor::Inputs;
use embrak_store::{RunRow, Store};
use embrak_tree::{BlobSource, Digest, Kind};
use embrak_trust::SigningKey;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// How to build again.
pub struct ReproduceOptions<'a> {
    /// The program that builds again: this one started anew, or another build or version of it.
    pub program: PathBuf,
    /// Whether that is not this one.
    pub other_program: bool,
    /// Only these images; none: all of the run.
    pub images: Vec<String>,
    /// What is varied within steps, too.
    pub vary: BTreeSet<Vary>,
    /// How often it is built again.
    pub times: u32,
    /// Whether packages that differ are built alone to find out why.
    pub find_causes: bool,
    /// Where the rebuilt files are kept; none: they are removed.
    pub keep: Option<PathBuf>,
    /// Who is told about progress.
    pub observer: &'a dyn Observer,
    /// Set to stop.
    pub stop: &'a AtomicBool,
}

/// One package made again.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct ReproducedPackage {
    /// Name and version.
    pub name: String,
    /// Its content digest as recorded.
    pub expected: Digest,
    /// As found now.
    pub found: Option<Digest>,
    /// Whether they are the same.
    pub identical: bool,
    /// What it was when built alone, twice, to prove that it varies, or that it does only under other conditions.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub alone: Vec<Digest>,
}

/// One output made again.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct ReproducedOutput {
    /// File name.
    pub name: String,
    /// Its artifact digest as recorded.
    pub expected: Digest,
    /// Its tree digest as recorded.
    pub tree: Digest,
    /// The artifact digest as found now.
    pub found: Option<Digest>,
    /// The tree digest as found now.
    pub found_tree: Option<Digest>,
    /// Whether the artifact digests are the same.
    pub identical: bool,
}

/// What is to be made again: what is known of it from a store's record, or from an artifact's evidence.
#[derive(Debug, Clone)]
pub struct Recorded {
    /// The run, in a store that has made it.
    pub run: Option<i64>,
    /// When it was begun, in milliseconds since 1970.
    pub started: Option<i64>,
    /// Where the workspace lay then, if that is known.
    pub workspace_path: Option<String>,
    /// Where in the workspace's tree the workspace lies.
    pub workspace_at: String,
    /// Version of Embrak.
    pub tool: String,
    /// Versions of the writers.
    pub writers: WriterVersions,
    /// What was asked for.
    pub images: Vec<String>,
    /// The board, if one was asked for.
    pub board: Option<String>,
    /// Values of parameters.
    pub params: BTreeMap<String, String>,
    /// Names of secret parameters.
    pub secrets: Vec<String>,
    /// Amendments of the command line.
    pub set: Vec<String>,
    /// Packages by image: name and version, digest of the tree.
    pub packages: BTreeMap<String, BTreeMap<String, Digest>>,
    /// What came out.
    pub outputs: Vec<RecordedOutput>,
    /// What it was made of.
    pub(crate) inputs: Inputs,
}

/// An output as it was made.
#[derive(Debug, Clone)]
pub struct RecordedOutput {
    /// The image.
    pub image: String,
    /// File name.
    pub name: String,
    /// Where it lay, or lies.
    pub path: PathBuf,
    /// Digest of its bytes.
    pub artifact: Digest,
    /// Content digest of its root.
    pub tree: Digest,
}

impl Recorded {
    /// A run on record.
    pub fn of_run(row: &RunRow, record: &RunRecord) -> Recorded {
        let packages = record.packages.iter().map(|(image, list)| {
            (image.clone(), list.iter().map(|p| (format!("{} {}", p.name, p.version), p.tree)).collect())
        });
        let output = |o: &crate::OutputFile| RecordedOutput {
            image: o.image.clone(),
            name: o.name.clone(),
            path: o.path.clone(),
            artifact: o.artifact,
            tree: o.tree,
        };
        Recorded {
            run: Some(row.id),
            started: Some(row.started),
            workspace_path: Some(row.workspace.clone()),
            workspace_at: record.workspace_at.clone(),
            tool: record.tool.clone(),
            writers: record.writers,
            images: record.images.clone(),
            board: record.board.clone(),
            params: record.params.clone(),
            secrets: record.secrets.clone(),
            set: record.set.clone(),
            packages: packages.collect(),
            outputs: record.outputs.iter().map(output).collect(),
            inputs: Inputs {
                workspace: record.workspace.clone(),
                lock: record.lock,
                packages: record.files.clone(),
                layers: record.layers.clone(),
                snapshot: Some(record.snapshot),
                tools: record.host_tools.clone(),
            },
        }
    }
}

/// The result.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Reproduction {
    /// The run that was done again; none when only evidence told of it.
    pub run: Option<i64>,
    /// Version of Embrak now.
    pub tool: String,
    /// Version of Embrak then.
    pub original_tool: String,
    /// The writers it was made with, then and now.
    pub writers: WriterVersions,
    /// Writers that were others this time, in words.
    pub other_writers: Vec<String>,
    /// What was changed.
    pub variations: BTreeMap<String, String>,
    /// Every package.
    pub packages: Vec<ReproducedPackage>,
    /// Every output.
    pub outputs: Vec<ReproducedOutput>,
    /// What differs, in the packages first.
    pub differences: Vec<Difference>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

impl Reproduction {
    /// Both together: identical is what was so both times.
    fn and(mut self, other: Reproduction) -> Reproduction {
        for (package, again) in self.packages.iter_mut().zip(other.packages) {
            if package.identical && !again.identical {
                *package = again;
            }
        }
        for (output, again) in self.outputs.iter_mut().zip(other.outputs) {
            if output.identical && !again.identical {
                *output = again;
            }
        }
        if self.differences.is_empty() {
            self.differences = other.differences;
        }
        self
    }

    /// Whether every output has the recorded digest.
    pub fn identical(&self) -> bool {
        self.outputs.iter().all(|o| o.identical)
    }
}

/// What is changed around the rebuild; none of it may reach the result.
const UMASK: u32 = 0o077;
const HOSTNAME: &str = "another-machine";
const TIMEZONE: &str = "Pacific/Chatham";
const LOCALE: &str = "tr_TR.UTF-8";

/// Builds what is recorded again and compares.
///
/// # Errors
/// Something that was recorded cannot be had any more, or the rebuild fails.
pub fn reproduce(store: &Store, record: &Recorded, options: &ReproduceOptions<'_>) -> Result<Reproduction> {
    let started = Instant::now();
    // Everything from elsewhere comes out of this store, so that no mirror and no tool of this machine is asked.
    let missing = record.inputs.missing(store);
    if !missing.is_empty() {
        return Err(EngineError::other(
            format!("{} of the recorded inputs cannot be had any more:\n  {}", missing.len(), missing.join("\n  ")),
            "give the store they were built with by --store, or a directory `embrak vendor` has made by --vendored",
        ));
    }
    let place = tempfile::Builder::new().prefix("embrak-elsewhere-").tempdir().doing("make", std::env::temp_dir())?;
    let laid_out = place.path().join("a-path-of-another-length").join("workspace");
    std::fs::create_dir_all(&laid_out).doing("make", &laid_out)?;
    if let Some(snapshot) = &record.inputs.snapshot {
        store.copy_out(&sources::get_tree(store, snapshot)?, &laid_out)?;
    }
    let workspace = match record.workspace_at.as_str() {
        "" => laid_out,
        below => laid_out.join(below),
    };
    let vendored = place.path().join("vendored");
    let vendor_key = place.path().join("vendor.pub");
    let key = SigningKey::generate().map_err(|e| EngineError::other(e.to_string(), ""))?;
    let pem = key.public().to_pem().map_err(|e| EngineError::other(e.to_string(), ""))?;
    std::fs::write(&vendor_key, pem).doing("write", &vendor_key)?;
    crate::vendor::write(store, Inputs { snapshot: None, ..record.inputs.clone() }, &vendored, &key)?;

    while record.started.is_some_and(|then| jiff::Timestamp::now().as_second() == then / 1000) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let shown_time = |ms: i64| jiff::Timestamp::from_millisecond(ms).map(|t| t.to_string()).unwrap_or_default();
    let now = shown_time(jiff::Timestamp::now().as_millisecond());
    let then = record.started.map_or("unknown".to_string(), shown_time);
    let path = record.workspace_path.as_deref().unwrap_or("unknown");
    let mut variations: BTreeMap<String, String> = [
        ("store", "empty".to_string()),
        ("path", format!("{path} -> {}", workspace.display())),
        ("jobs", "1".to_string()),
        ("umask", format!("{UMASK:04o}")),
        ("time zone", TIMEZONE.to_string()),
        ("locale", LOCALE.to_string()),
        ("host name", HOSTNAME.to_string()),
        ("start", format!("{then} -> {now}")),
    ]
    .map(|(name, value)| (name.to_string(), value))
    .into();
    variations.extend(crate::vary::described(&options.vary));
    if options.other_program {
        variations.insert("program".into(), options.program.display().to_string());
    }
    let images = if options.images.is_empty() { record.images.clone() } else { options.images.clone() };
    let shim = crate::vary::compile_shim(place.path())?;
    if shim.is_none() && options.vary.iter().any(|v| matches!(v, Vary::Clock | Vary::Order)) {
        return Err(EngineError::other(
            "clock and order cannot be varied without a C compiler on this machine",
            "install one, or leave `clock` and `order` out of --vary",
        ));
    }
    let mut arguments = given(record);
    let shown = |path: &Path| path.to_string_lossy().into_owned();
    arguments.extend(["--vendored".into(), shown(&vendored), "--vendor-key".into(), shown(&vendor_key)]);
    let mut whole: Option<Reproduction> = None;
    for round in 0..options.times.max(1) {
        let new_store_path = place.path().join(format!("store-{round}"));
        let out = match &options.keep {
            Some(keep) if options.times > 1 => keep.join((round + 1).to_string()),
            Some(keep) => keep.clone(),
            None => place.path().join(format!("out-{round}")),
        };
        rebuild(options, &workspace, &new_store_path, &images, &out, &arguments, shim.as_deref())?;
        let new_store = Store::open(&new_store_path)?;
        let rows = new_store.runs()?;
        let again =
            rows.first().ok_or_else(|| EngineError::other("the rebuild has left no record", "run it with -v"))?;
        let again = run_record(again)?;
        let mut reproduction = compare(store, record, &new_store, &again, &images);
        explain_outputs(record, &again, &mut reproduction);
        if options.find_causes {
            let bench = Bench {
                options,
                workspace: &workspace,
                store: &new_store_path,
                arguments: &arguments,
                images: &images,
                shim: shim.as_deref(),
            };
            find_causes(&bench, &mut reproduction)?;
        }
        whole = Some(match whole {
            None => reproduction,
            Some(before) => before.and(reproduction),
        });
    }
    let mut reproduction = whole.ok_or_else(|| EngineError::other("nothing was built again", ""))?;
    reproduction.run = record.run;
    reproduction.variations = variations;
    reproduction.seconds = started.elapsed().as_secs_f64();
    Ok(reproduction)
}

/// When no package says why, the outputs themselves are compared.
fn explain_outputs(record: &Recorded, again: &RunRecord, reproduction: &mut Reproduction) {
    for output in &reproduction.outputs {
        if output.identical || output.found.is_none() || reproduction.differences.iter().any(|d| d.cause.is_some()) {
            continue;
        }
        let pair = (
            record.outputs.iter().find(|o| o.name == output.name),
            again.outputs.iter().find(|o| o.name == output.name),
        );
        if let (Some(a), Some(b)) = pair
            && a.path.exists()
            && let Ok(report) = crate::diff(&a.path, &b.path)
        {
            reproduction.differences.extend(report.differences);
        }
    }
}

/// More packages than this are not built alone.
const MOST_ALONE: usize = 40;
/// So many are looked into at once.
const AT_ONCE: usize = 4;

/// Builds packages that differ alone, to find out why, and puts that to their differences.
fn find_causes(bench: &Bench<'_>, reproduction: &mut Reproduction) -> Result<()> {
    let differing: Vec<(String, Digest)> =
        reproduction.packages.iter().filter(|p| !p.identical).map(|p| (p.name.clone(), p.expected)).collect();
    let own = |d: &Difference, title: &str| {
        let at = format!("package {title}");
        d.place == at || d.place.starts_with(&format!("{at}:"))
    };
    let differing: Vec<(String, Digest, Option<Cause>)> = differing
        .into_iter()
        .take(MOST_ALONE)
        .map(|(title, expected)| {
            let guess = reproduction.differences.iter().filter(|d| own(d, &title)).find_map(|d| d.cause.clone());
            (title, expected, guess)
        })
        .collect();
    // Mostly they wait for another second to begin.
    let next = AtomicUsize::new(0);
    let work = || -> Result<Vec<(String, Alone)>> {
        let mut found = Vec::new();
        while let Some((title, expected, guess)) = differing.get(next.fetch_add(1, Ordering::Relaxed)) {
            let name = title.split(' ').next().unwrap_or_default();
            bench.options.observer.event(Event::Started(format!("{name} alone, to find out why it differs")));
            match bench.alone(name, expected, guess.as_ref()) {
                Ok(alone) => found.push((title.clone(), alone)),
                Err(EngineError::Interrupted) => return Err(EngineError::Interrupted),
                Err(error) => bench.options.observer.event(Event::Note(error.to_string())),
            }
        }
        Ok(found)
    };
    let found = std::thread::scope(|scope| {
        let others: Vec<_> = (1..AT_ONCE.min(differing.len())).map(|_| scope.spawn(work)).collect();
        let mut found = work()?;
        for other in others {
            found.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?);
        }
        Ok::<_, EngineError>(found)
    })?;
    for (title, Alone { found, cause }) in found {
        if let Some(package) = reproduction.packages.iter_mut().find(|p| p.name == title) {
            package.alone = found.to_vec();
        }
        let Some(cause) = cause else { continue };
        for difference in reproduction.differences.iter_mut().filter(|d| own(d, &title)) {
            difference.cause = Some(cause.clone());
        }
    }
    Ok(())
}

/// What a run was given, as it is given again.
fn given(record: &Recorded) -> Vec<String> {
    let mut out = Vec::new();
    if let Some(board) = &record.board {
        out.extend(["--board".into(), board.clone()]);
    }
    // Secrets reach only the addresses of repositories, and none is asked.
    for name in &record.secrets {
        out.extend(["--param".into(), format!("{name}=not-recorded")]);
    }
    for (name, value) in &record.params {
        out.extend(["--param".into(), format!("{name}={value}")]);
    }
    for set in &record.set {
        out.extend(["--set".into(), set.clone()]);
    }
    out
}

fn rebuild(
    options: &ReproduceOptions<'_>,
    workspace: &Path,
    store: &Path,
    images: &[String],
    out: &Path,
    arguments: &[String],
    shim: Option<&Path>,
) -> Result<()> {
    let log_path = store.with_extension("log");
    let log = std::fs::File::create(&log_path).doing("write", &log_path)?;
    let mut command = Command::new(&options.program);
    command.arg("-C").arg(workspace).arg("--store").arg(store).arg("build").args(images);
    command.args(["--locked", "--jobs", "1", "--out"]).arg(out).args(arguments);
    if !options.vary.is_empty() {
        let vary: Vec<&str> = options.vary.iter().map(|v| v.name()).collect();
        command.args(["--vary-steps", &vary.join(",")]);
        if let Some(shim) = shim {
            command.arg("--shim").arg(shim);
        }
    }
    command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("HOME", "/nonexistent");
    command.env("TZ", TIMEZONE).env("LC_ALL", LOCALE).env("LANG", LOCALE).env("EMBRAK_COLOR", "never");
    command.stdin(Stdio::null()).stdout(log.try_clone().doing("write", &log_path)?).stderr(log);
    options.observer.event(Event::Started("building again, elsewhere".into()));
    let begun = Instant::now();
    let mut child = embrak_sandbox::spawn_varied(&mut command, UMASK, HOSTNAME).map_err(|source| EngineError::Io {
        doing: "start again",
        path: options.program.clone(),
        source,
    })?;
    let status = loop {
        if let Some(status) = child.try_wait().doing("wait for", &options.program)? {
            break status;
        }
        if options.stop.load(Ordering::Relaxed) {
            let _ = child.kill();
            let _ = child.wait();
            return Err(EngineError::Interrupted);
        }
        std::thread::sleep(Duration::from_millis(10));
    };
    if !status.success() {
        let text = String::from_utf8_lossy(&std::fs::read(&log_path).doing("read", &log_path)?).into_owned();
        return Err(EngineError::other(
            format!("building again failed ({status}):\n{}", text.trim_end()),
            "the last lines above are what the rebuild said; `embrak build` in the workspace says the same",
        ));
    }
    options.observer.event(Event::Finished {
        label: "building again, elsewhere".into(),
        status: crate::ActionStatus::Built,
        seconds: begun.elapsed().as_secs_f64(),
    });
    Ok(())
}

fn compare(old_store: &Store, old: &Recorded, new_store: &Store, new: &RunRecord, images: &[String]) -> Reproduction {
    let wanted = |image: &str| images.is_empty() || images.iter().any(|i| i == image);
    let mut packages = BTreeMap::new();
    let mut differences = Vec::new();
    for (image, list) in old.packages.iter().filter(|(image, _)| wanted(image)) {
        for (name, expected) in list {
            let of = |p: &&PackageInfo| format!("{} {}", p.name, p.version) == *name;
            let found = new.packages.get(image).into_iter().flatten().find(of).map(|p| p.tree);
            let identical = found == Some(*expected);
            if let (false, Some(found), false) = (identical, found, packages.contains_key(name)) {
                differences.extend(package_differences(name, old_store, expected, new_store, &found));
            }
            let package =
                ReproducedPackage { name: name.clone(), expected: *expected, found, identical, alone: Vec::new() };
            packages.insert(name.clone(), package);
        }
    }
    let outputs = old
        .outputs
        .iter()
        .filter(|o| wanted(&o.image))
        .map(|o| {
            let found = new.outputs.iter().find(|n| n.name == o.name);
            ReproducedOutput {
                name: o.name.clone(),
                expected: o.artifact,
                tree: o.tree,
                found: found.map(|f| f.artifact),
                found_tree: found.map(|f| f.tree),
                identical: found.is_some_and(|f| f.artifact == o.artifact && f.tree == o.tree),
            }
        })
        .collect();
    Reproduction {
        run: None,
        tool: new.tool.clone(),
        original_tool: old.tool.clone(),
        writers: old.writers,
        other_writers: old.writers.changes(&new.writers),
        variations: BTreeMap::new(),
        packages: packages.into_values().collect(),
        outputs,
        differences,
        seconds: 0.0,
    }
}

fn package_differences(
    name: &str,
    old_store: &Store,
    old: &Digest,
    new_store: &Store,
    new: &Digest,
) -> Vec<Difference> {
    let (Ok(a), Ok(b)) = (sources::get_tree(old_store, old), sources::get_tree(new_store, new)) else {
        return Vec::new();
    };
    let mut out = Vec::new();
    let read = |first: bool, path: &embrak_tree::TreePath| {
        let (store, tree) = if first { (old_store, &a) } else { (new_store, &b) };
        match &tree.resolve_link(tree.get(path)?).kind {
            Kind::File { digest, .. } => store.read(digest).ok(),
            _ => None,
        }
    };
    compare_trees(&format!("package {name}"), &a, &b, &read, &mut out);
    out
}
