//! `log`, `store`, `vendor`, `publish`.

use super::{Code, Failure, print_json};
use crate::args::{Global, StoreAction};
use crate::problem::count;
use crate::session::{self, Session};
use crate::style::{bad, faint, good, name, strong};
use embrak_engine::{EngineError, Lock, RunRecord, Selection, Update, plan, run_record};
use embrak_model::ByteSize;
use embrak_store::{RunRow, Store};
use embrak_tree::BlobSource;
use serde_json::json;
use std::io::Write;
use std::path::Path;

/// A run by number, `rNUMBER`, or `last`: the newest of this workspace, or of all where there is no workspace.
pub fn run_named(global: &Global, store: &Store, wanted: &str) -> Result<(RunRow, RunRecord), Failure> {
    let row = if wanted == "last" {
        let here = session::workspace_root(global).ok().map(|root| root.to_string_lossy().into_owned());
        store.runs().map_err(EngineError::from)?.into_iter().find(|r| here.as_ref().is_none_or(|h| *h == r.workspace))
    } else {
        let number = wanted.trim_start_matches('r').parse::<i64>();
        let number = number.map_err(|_| {
            EngineError::other(
                format!("`{wanted}` is not the number of a run"),
                "`embrak list runs` shows them; `last` is the newest",
            )
        })?;
        store.run(number).map_err(EngineError::from)?
    };
    let row = row.ok_or_else(|| {
        EngineError::other(format!("there is no run {wanted} on record"), "`embrak list runs` shows those there are")
    })?;
    let record = run_record(&row)?;
    Ok((row, record))
}

pub fn log(global: &Global, run: &str, recipe: Option<&str>) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let (row, record) = run_named(global, &store, run)?;
    let mut shown = 0;
    for action in &record.actions {
        let (Some(log), true) = (action.log, recipe.is_none_or(|r| action.label.starts_with(r))) else { continue };
        anstream::println!("{} {}", strong(&action.label), faint(format!("{:.1} s", action.seconds)));
        std::io::stdout().write_all(&store.read(&log)?)?;
        shown += 1;
    }
    if let Some(error) = &record.error {
        anstream::println!("{} {error}", bad("the run failed:"));
    }
    if shown == 0 && record.error.is_none() {
        let what = recipe.map_or(String::new(), |r| format!(" of `{r}`"));
        return Err(EngineError::other(
            format!("run {} has no log{what}", row.id),
            format!("`embrak show run {}` lists its actions", row.id),
        )
        .into());
    }
    Ok(Code::Done)
}

/// Puts every input from elsewhere into a directory.
pub fn vendor(
    global: &Global,
    dir: &Path,
    images: Vec<String>,
    board: Option<String>,
    key: &Path,
) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let key = session::signing_key(global, key)?;
    let engine = session.engine();
    let previous = Lock::load(&session.workspace.root.join("embrak.lock"))?;
    let selection = Selection { images, board, ..Selection::default() };
    let plan = plan(&engine, &selection, previous.as_ref(), &Update::Nothing)?;
    if previous.as_ref() != Some(&plan.lock) {
        let moved = plan.moved.iter().map(ToString::to_string).collect();
        return Err(EngineError::LockStale(moved).into());
    }
    let report = embrak_engine::vendor(&engine, &plan, &session::resolve(global, dir), &key);
    session.progress.done();
    let report = report?;
    if global.json {
        print_json(&report)?;
        return Ok(Code::Done);
    }
    anstream::println!(
        "{} {}: the workspace, {}, {} from elsewhere, {}, {}",
        good("vendored"),
        name(session::shown(&report.dir)),
        count(report.packages, "package file"),
        count(report.layers, "layer"),
        count(report.tools, "host tool"),
        ByteSize(report.bytes).human()
    );
    anstream::println!("build from it with {}", name(format!("embrak build --locked --vendored {}", dir.display())));
    Ok(Code::Done)
}

/// Puts the packages of a run into a repository.
pub fn publish(global: &Global, dir: &Path, run: &str, images: &[String], key: &Path) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let key = session::signing_key(global, key)?;
    let (_, record) = run_named(global, &store, run)?;
    let dir = session::resolve(global, dir);
    let published = embrak_engine::publish_run(&store, &record, images, &dir, &record.workspace, &key)?;
    if global.json {
        print_json(&json!({ "repository": dir, "added": published.added, "present": published.present }))?;
        return Ok(Code::Done);
    }
    for package in &published.added {
        anstream::println!("  {} {package}", good("added"));
    }
    for package in &published.present {
        anstream::println!("  {} {package}", faint("there already"));
    }
    anstream::println!("{} {}, signed by {}", good("repository"), name(session::shown(&dir)), key.public().id());
    Ok(Code::Done)
}

pub fn store(global: &Global, action: StoreAction) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let wrap = EngineError::from;
    match action {
        StoreAction::Status => {
            let (objects, bytes) = store.usage().map_err(wrap)?;
            let runs = store.runs().map_err(wrap)?.len();
            if global.json {
                print_json(&json!({ "path": store.root(), "objects": objects, "bytes": bytes, "runs": runs }))?;
            } else {
                anstream::println!("{}", name(store.root().display()));
                anstream::println!(
                    "  {}, {}, {} on record",
                    count(objects, "object"),
                    ByteSize(bytes).human(),
                    count(runs, "run")
                );
            }
            Ok(Code::Done)
        }
        StoreAction::Check => {
            let damage = store.check_objects(|_| ()).map_err(wrap)?;
            if !damage.is_empty() {
                store.take_damaged();
            }
            if global.json {
                let list: Vec<_> = damage.iter().map(|d| json!({ "object": d.digest, "found": d.found })).collect();
                print_json(&json!({ "damaged": list }))?;
            } else if damage.is_empty() {
                anstream::println!("{} every object is what its name says", good("good:"));
            } else {
                for d in &damage {
                    anstream::println!("{} {}", bad("damaged:"), d.digest);
                }
                anstream::println!(
                    "{} removed; the next build makes again what it needs",
                    count(damage.len(), "object")
                );
            }
            Ok(Code::of(damage.is_empty()))
        }
        StoreAction::Prune { keep_runs } => {
            embrak_engine::forget_old_snapshots(&store)?;
            let pruned = store.prune(keep_runs).map_err(wrap)?;
            if global.json {
                print_json(
                    &json!({ "runs": pruned.runs, "actions": pruned.actions, "objects": pruned.objects, "bytes": pruned.bytes }),
                )?;
            } else {
                anstream::println!(
                    "{} {}, {}, {}: {} free",
                    good("removed"),
                    count(pruned.runs, "run"),
                    count(pruned.actions, "result"),
                    count(pruned.objects, "object"),
                    ByteSize(pruned.bytes).human()
                );
            }
            Ok(Code::Done)
        }
    }
}
