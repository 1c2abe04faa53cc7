//! `keys`, `sign`, `verify`, `reproduce`.

use super::images::print_differences;
use super::{Code, Failure, print_json};
use crate::args::{Global, KeyKind, KeysAction};
use crate::problem::{advice, count};
use crate::progress::Progress;
use crate::session::{self, Session, shown, stop};
use crate::style::{Table, bad, faint, good, name, strong};
use embrak_engine::{
    EngineError, Lock, Recorded, ReleaseLog, ReproduceOptions, Reproduction, RunRecord, Selection, Update, Vary,
    check_definition, find_run, gather, head_path, is_definition, plan, release as release_artifacts,
    reproduce as reproduce_run, sign as sign_artifact, sign_definition, sign_reproduction, verify_artifact,
};
use embrak_store::{RunRow, Store};
use embrak_tree::Digest;
use embrak_trust::{Algorithm, Policy, PublicKey, SigningKey};
use serde_json::json;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// A passphrase for a new key, typed twice when it is typed.
fn new_passphrase() -> Result<String, Failure> {
    let problem = |why: String| EngineError::other(why, "a passphrase is needed to protect the key");
    let first = session::passphrase("new passphrase: ").map_err(problem)?;
    let given = ["EMBRAK_PASSPHRASE", "EMBRAK_PASSPHRASE_FILE"].iter().any(|n| std::env::var_os(n).is_some());
    if !given && session::passphrase("once more: ").map_err(problem)? != first {
        return Err(EngineError::other("the two passphrases differ", "type them again").into());
    }
    Ok(first)
}

fn keys_dir(global: &Global) -> Result<PathBuf, Failure> {
    Ok(session::workspace_root(global)?.join("keys"))
}

pub fn keys(global: &Global, action: KeysAction) -> Result<Code, Failure> {
    let dir = keys_dir(global)?;
    match action {
        KeysAction::New { name: wanted, kind, passphrase } => {
            let wanted: embrak_model::Name = wanted.parse().map_err(|e: String| EngineError::other(e, ""))?;
            std::fs::create_dir_all(&dir)?;
            let (private, public) = (dir.join(format!("{wanted}.key")), dir.join(format!("{wanted}.pub")));
            if public.exists() {
                let message = format!("{} is there already", public.display());
                return Err(EngineError::other(message, "choose another name; a key is never overwritten").into());
            }
            let key = SigningKey::generate_for(match kind {
                KeyKind::Ed25519 => Algorithm::Ed25519,
                KeyKind::P256 => Algorithm::P256,
            })?;
            let phrase = passphrase.then(new_passphrase).transpose()?;
            key.save(&private, phrase.as_deref())?;
            std::fs::write(&public, key.public().to_pem()?)?;
            if global.json {
                return print_json(
                    &json!({ "name": wanted, "id": key.public().id(), "private": private, "public": public }),
                )
                .map(|()| Code::Done);
            }
            anstream::println!(
                "{} {} {}",
                good("made"),
                strong(&wanted),
                faint(format!("key id {}", key.public().id()))
            );
            anstream::println!("  {}  keep this secret, and out of version control", name(shown(&private)));
            anstream::println!("  {}  give this to whoever verifies", name(shown(&public)));
        }
        KeysAction::List => {
            let mut files: Vec<PathBuf> =
                std::fs::read_dir(&dir).into_iter().flatten().flatten().map(|e| e.path()).collect();
            files.retain(|p| p.extension().is_some_and(|e| e == "pub"));
            files.sort();
            let mut table = Table::new(&["key", "id", "private half"]);
            let mut all = Vec::new();
            for file in files {
                let key = PublicKey::load(&file)?;
                let title = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
                let private = file.with_extension("key").exists();
                all.push(json!({ "name": title, "id": key.id(), "private": private }));
                table.row([name(title), key.id().to_string(), if private { "here".into() } else { faint("not here") }]);
            }
            if global.json {
                return print_json(&all).map(|()| Code::Done);
            }
            if table.is_empty() {
                anstream::println!("{}", faint("no keys; `embrak keys new NAME` makes one"));
            } else {
                table.print(0);
            }
        }
        KeysAction::Show { name: wanted } => {
            let key = PublicKey::load(&dir.join(format!("{wanted}.pub")))?;
            if global.json {
                return print_json(&json!({ "name": wanted, "id": key.id(), "pem": key.to_pem()? }))
                    .map(|()| Code::Done);
            }
            anstream::println!("{} {}, key id {}", strong(wanted), key.algorithm(), key.id());
            anstream::print!("{}", key.to_pem()?);
        }
        KeysAction::Export { name: wanted, private: false } => {
            anstream::print!("{}", PublicKey::load(&dir.join(format!("{wanted}.pub")))?.to_pem()?);
        }
        KeysAction::Export { name: wanted, private: true } => {
            let key = session::signing_key(global, &dir.join(format!("{wanted}.key")))?;
            anstream::print!("{}", key.to_encrypted_pem(&new_passphrase()?)?);
        }
        KeysAction::Import { file, name: wanted } => {
            let wanted: embrak_model::Name = wanted.parse().map_err(|e: String| EngineError::other(e, ""))?;
            let file = session::resolve(global, &file);
            let (private, public) = (dir.join(format!("{wanted}.key")), dir.join(format!("{wanted}.pub")));
            if let Some(there) = [&private, &public].into_iter().find(|p| p.exists()) {
                let message = format!("{} is there already", there.display());
                return Err(EngineError::other(message, "choose another name; a key is never overwritten").into());
            }
            std::fs::create_dir_all(&dir)?;
            let text = std::fs::read_to_string(&file)
                .map_err(|e| EngineError::other(format!("cannot read {}: {e}", file.display()), "look at the path"))?;
            let id = if text.contains("PRIVATE KEY-----") {
                let asked = std::cell::RefCell::new(None);
                let ask = || {
                    let typed = session::passphrase(&format!("passphrase of {}: ", file.display()))?;
                    *asked.borrow_mut() = Some(typed.clone());
                    Ok(typed)
                };
                let key = SigningKey::from_pem(&text, &file.display().to_string(), &ask)?;
                // What was protected stays so.
                key.save(&private, asked.borrow().as_deref())?;
                std::fs::write(&public, key.public().to_pem()?)?;
                key.public().id()
            } else {
                let key = PublicKey::from_pem(&text, &file.display().to_string())?;
                std::fs::write(&public, key.to_pem()?)?;
                key.id()
            };
            anstream::println!("{} {} {}", good("took over"), strong(&wanted), faint(format!("key id {id}")));
        }
    }
    Ok(Code::Done)
}

/// The artifacts named, or all outputs of the newest finished run of this workspace.
fn artifacts(global: &Global, store: &Store, paths: Vec<PathBuf>) -> Result<Vec<PathBuf>, Failure> {
    if !paths.is_empty() {
        return Ok(paths.iter().map(|p| session::resolve(global, p)).collect());
    }
    let (_, record) = newest_run(global, store)?;
    Ok(record.outputs.into_iter().map(|o| o.path).collect())
}

fn newest_run(global: &Global, store: &Store) -> Result<(RunRow, RunRecord), Failure> {
    let root = session::workspace_root(global)?.to_string_lossy().into_owned();
    let row = store.runs().map_err(EngineError::from)?.into_iter().find(|r| r.workspace == root && r.status == "done");
    match row {
        Some(row) => Ok(find_run(store, Some(row.id), None)?),
        None => {
            Err(EngineError::other("no finished run of this workspace is on record", "run `embrak build` first").into())
        }
    }
}

pub fn sign(global: &Global, paths: Vec<PathBuf>, key: &Path) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let key = session::signing_key(global, key)?;
    let mut signed = Vec::new();
    for path in artifacts(global, &store, paths)? {
        if is_definition(&path) {
            let (definition, evidence) = sign_definition(&path, &key)?;
            if !global.json {
                anstream::println!("{} {} {}", good("signed"), definition.kind, name(&definition.name));
                let by = format!("signed by key {}, in {}", key.public().id().short(), shown(&evidence));
                anstream::println!("  {} {}", definition.digest, faint(by));
            }
            signed.push(
                json!({ "path": path, "evidence": evidence, "digest": definition.digest, "key": key.public().id() }),
            );
            continue;
        }
        let report = sign_artifact(&store, &path, &key)?;
        if !global.json {
            anstream::println!("{} {}", good("signed"), name(shown(&report.path)));
            anstream::println!(
                "  {} {}",
                report.artifact,
                faint(format!("made by run {}, signed by key {}", report.run.unwrap_or_default(), report.key.short()))
            );
        }
        signed.push(json!({ "path": report.path, "evidence": report.evidence, "artifact": report.artifact, "run": report.run, "key": report.key }));
    }
    if global.json {
        print_json(&signed)?;
    }
    Ok(Code::Done)
}

pub fn release(
    global: &Global,
    paths: &[PathBuf],
    key: Option<PathBuf>,
    head: Option<PathBuf>,
    signed_by: &[PathBuf],
) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    if !paths.is_empty() {
        let Some(key) = key else {
            return Err(EngineError::other("a release is signed, and no key is given", "give one by --key").into());
        };
        let key = session::signing_key(global, &key)?;
        let paths: Vec<PathBuf> = paths.iter().map(|p| session::resolve(global, p)).collect();
        let done = release_artifacts(&store, &paths, &key)?;
        if global.json {
            let all: Vec<_> = done.iter().map(|(path, r)| json!({ "path": path, "release": r })).collect();
            return print_json(&all).map(|()| Code::Done);
        }
        for (path, released) in &done {
            anstream::println!("{} {}", good("released"), name(shown(path)));
            anstream::println!("  {}", faint(format!("entry {} of {}", released.index + 1, released.head.size)));
        }
        if let Some((_, last)) = done.last() {
            anstream::println!("the log is now {} entries, {}", last.head.size, last.head.root);
            anstream::println!(
                "  {}  give this to whoever is to notice if the log is rewritten",
                name(shown(&head_path(&store)))
            );
        }
        return Ok(Code::Done);
    }
    let log = ReleaseLog::open(&store)?;
    if let Some(file) = head {
        let file = session::resolve(global, &file);
        let text = std::fs::read_to_string(&file)
            .map_err(|e| EngineError::other(format!("cannot read {}: {e}", file.display()), "look at the path"))?;
        let keys = signed_by.iter().map(|k| PublicKey::load(&session::resolve(global, k)));
        let old = log.continues(&text, &keys.collect::<Result<Vec<_>, _>>()?)?;
        anstream::println!("{} the log continues the kept state of {} entries", good("good:"), old.size);
    }
    if global.json {
        let entries: Vec<serde_json::Value> = log.entries.iter().filter_map(|e| serde_json::from_str(e).ok()).collect();
        return print_json(&json!({ "head": log.head, "entries": entries })).map(|()| Code::Done);
    }
    let mut table = Table::new(&["", "released", "file", "artifact"]).right(&[0]);
    for (n, entry) in log.entries.iter().enumerate() {
        let entry: serde_json::Value = serde_json::from_str(entry).unwrap_or_default();
        let text = |key: &str| entry[key].as_str().unwrap_or("?").to_string();
        let when = jiff::Timestamp::from_second(entry["time"].as_i64().unwrap_or(0)).map(|t| t.to_string());
        table.row([(n + 1).to_string(), when.unwrap_or_default(), name(text("name")), text("artifact")]);
    }
    match (&log.head, table.is_empty()) {
        (Some(head), false) => {
            table.print(0);
            anstream::println!(
                "{} {}",
                count(log.entries.len(), "entry").replace("entrys", "entries"),
                faint(head.root)
            );
        }
        _ => anstream::println!(
            "{}",
            faint("nothing was released from this store; `embrak release FILE --key KEY` does")
        ),
    }
    Ok(Code::Done)
}

pub fn verify(
    global: &Global,
    paths: Vec<PathBuf>,
    policy: Option<PathBuf>,
    key: Option<PathBuf>,
    evidence: Option<PathBuf>,
) -> Result<Code, Failure> {
    let policy = match (key, policy) {
        (Some(key), _) => {
            let title = key.file_stem().unwrap_or_default().to_string_lossy().into_owned();
            Policy::of_key(&title, PublicKey::load(&session::resolve(global, &key))?)
        }
        (None, Some(policy)) => Policy::load(&session::resolve(global, &policy))?,
        (None, None) => {
            let path = session::workspace_root(global)?.join("trust.toml");
            if !path.is_file() {
                let message = format!("there is no policy: {} is not there", path.display());
                return Err(EngineError::other(message, "write one, or trust one key with --key FILE").into());
            }
            Policy::load(&path)?
        }
    };
    let paths = if paths.is_empty() {
        artifacts(global, &session::open_store(global)?, paths)?
    } else {
        paths.iter().map(|p| session::resolve(global, p)).collect()
    };
    let evidence = evidence.map(|e| session::resolve(global, &e));
    let mut all_good = true;
    let mut documents = Vec::new();
    for path in paths {
        let (digest, checked) = match is_definition(&path) {
            true => check_definition(&path, &policy).map(|(definition, checked)| (definition.digest, checked))?,
            false => verify_artifact(&path, evidence.as_deref(), &policy)?,
        };
        all_good &= checked.good();
        if global.json {
            documents
                .push(json!({ "path": path, "artifact": digest, "good": checked.good(), "checks": checked.checks }));
            continue;
        }
        let verdict = if checked.good() { good("verified:") } else { bad("not verified:") };
        anstream::println!("{verdict} {}", name(shown(&path)));
        anstream::println!("  {digest}");
        for check in &checked.checks {
            let mark = if check.good { good("met") } else { bad("not met") };
            anstream::println!("  {mark}  {}: {}", check.rule, check.because);
        }
    }
    if global.json {
        print_json(&documents)?;
    }
    Ok(Code::of(all_good))
}

/// How to build again.
pub struct Again {
    pub vary: BTreeSet<Vary>,
    pub times: u32,
    pub find_causes: bool,
    /// Another Embrak to build again with.
    pub program: Option<PathBuf>,
    /// The evidence of the artifact, when it does not lie beside it.
    pub evidence: Option<PathBuf>,
    /// Where the inputs are, and the keys one of which has signed that.
    pub vendored: Option<(PathBuf, Vec<PathBuf>)>,
}

/// What to build again: a run on record; an artifact a run has made; or one made elsewhere, as its evidence tells, with
/// inputs out of a vendor directory, or those of the workspace here.
fn recorded(
    global: &Global,
    store: &Store,
    what: Option<&str>,
    again: &Again,
) -> Result<(Option<(PathBuf, Digest)>, Recorded), Failure> {
    let of_run = |(row, record): (RunRow, RunRecord)| Recorded::of_run(&row, &record);
    let Some(text) = what else { return Ok((None, of_run(newest_run(global, store)?))) };
    if let Ok(number) = text.trim_start_matches('r').parse::<i64>() {
        return Ok((None, of_run(find_run(store, Some(number), None)?)));
    }
    let path = session::resolve(global, Path::new(text));
    let digest = embrak_engine::open_artifact(&path)?.digest()?;
    let evidence = again.evidence.as_ref().map(|e| session::resolve(global, e));
    let known = find_run(store, None, Some(&digest));
    let told = match known {
        Ok(found) if again.vendored.is_none() && evidence.is_none() => {
            return Ok((Some((path, digest)), of_run(found)));
        }
        Ok(_) => embrak_engine::told(&path, evidence.as_deref(), &digest)?,
        Err(unknown) => embrak_engine::told(&path, evidence.as_deref(), &digest).map_err(|untold| {
            EngineError::other(format!("{unknown}, and no evidence tells: {untold}"), untold.help())
        })?,
    };
    let gathered = match &again.vendored {
        Some((dir, keys)) => session::open_vendor(global, &session::resolve(global, dir), keys, store)?.gathered(),
        None => {
            let session = Session::open(global).map_err(|_| {
                EngineError::other(
                    format!("nothing here has the inputs of {}", session::shown(&path)),
                    "run this in a workspace in the state it was made from, or name a vendor directory by --vendored",
                )
            })?;
            let previous = Lock::load(&session.workspace.root.join("embrak.lock"))?;
            let selection = Selection { images: told.images(), board: told.board(), ..Selection::default() };
            let plan = plan(&session.engine(), &selection, previous.as_ref(), &Update::Nothing)?;
            let gathered = gather(&session.engine(), &plan);
            session.progress.done();
            gathered?
        }
    };
    Ok((Some((path, digest)), told.with(&gathered)?))
}

pub fn reproduce(
    global: &Global,
    what: Option<String>,
    again: Again,
    key: Option<PathBuf>,
    keep: Option<PathBuf>,
) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    // A key that cannot be used is better known before the work than after it.
    let key = key.map(|k| session::signing_key(global, &k)).transpose()?;
    let (artifact, record) = recorded(global, &store, what.as_deref(), &again)?;
    let images = match &artifact {
        Some((_, digest)) => record.outputs.iter().filter(|o| o.artifact == *digest).map(|o| o.image.clone()).collect(),
        None => Vec::new(),
    };
    let progress = Progress::new(global.quiet || global.json, global.verbose);
    let other_program = again.program.is_some();
    let program = match &again.program {
        Some(program) => session::resolve(global, program),
        None => std::env::current_exe()?,
    };
    let keep = keep.map(|k| session::resolve(global, &k));
    let options = ReproduceOptions {
        program,
        other_program,
        images,
        vary: again.vary,
        times: again.times,
        find_causes: again.find_causes,
        keep,
        observer: &progress,
        stop: stop(),
    };
    let result = reproduce_run(&store, &record, &options);
    progress.done();
    let reproduction = result?;
    if let Some(key) = &key {
        // Beside the file that was named, wherever the run had written it then.
        let files = match &artifact {
            Some((path, _)) => vec![path.clone()],
            None => record.outputs.iter().map(|o| o.path.clone()).filter(|p| p.exists()).collect(),
        };
        for file in files {
            sign_reproduction(&store, &file, &reproduction, key)?;
        }
    }
    if global.json {
        print_json(&reproduction)?;
    } else {
        print_reproduction(&reproduction, key.as_ref(), global.verbose);
    }
    Ok(Code::of(reproduction.identical()))
}

fn print_reproduction(reproduction: &Reproduction, key: Option<&SigningKey>, verbose: bool) {
    let verdict = if reproduction.identical() { good("identical:") } else { bad("different:") };
    let same = reproduction.packages.iter().filter(|p| p.identical).count();
    let outputs = reproduction.outputs.iter().filter(|o| o.identical).count();
    let what = reproduction.run.map_or("as the evidence tells,".to_string(), |run| format!("run {run}"));
    anstream::println!(
        "{verdict} {what} built again in {:.1} s: {same} of {}, {outputs} of {}",
        reproduction.seconds,
        count(reproduction.packages.len(), "package"),
        count(reproduction.outputs.len(), "output")
    );
    let width = reproduction.variations.keys().map(String::len).max().unwrap_or(0);
    anstream::println!("  under other conditions");
    for (what, how) in &reproduction.variations {
        anstream::println!("    {what:<width$}  {}", faint(how));
    }
    for package in reproduction.packages.iter().filter(|p| verbose || !p.identical) {
        let mark = if package.identical { good("same") } else { bad("other") };
        anstream::println!("  {mark}  package {}", name(&package.name));
        match package.alone.as_slice() {
            [a, b] if a == b => anstream::println!("        {} {a}", faint("built alone twice, the same:")),
            [a, b] => anstream::println!("        {} {} and {}", faint("built alone twice:"), a.short(), b.short()),
            _ => {}
        }
    }
    for output in &reproduction.outputs {
        let mark = if output.identical { good("same") } else { bad("other") };
        anstream::println!("  {mark}  {}", name(&output.name));
        anstream::println!("        {} {}", faint("recorded"), output.expected);
        match output.found {
            Some(found) if !output.identical => anstream::println!("        {} {found}", faint("now     ")),
            None => anstream::println!("        {}", bad("not made at all")),
            Some(_) => {}
        }
    }
    print_differences(&reproduction.differences, if verbose { usize::MAX } else { 12 });
    if reproduction.original_tool != reproduction.tool {
        advice(&format!(
            "the run was made by Embrak {}, this is {}: the version may be the reason",
            reproduction.original_tool, reproduction.tool
        ));
    }
    if !reproduction.other_writers.is_empty() {
        advice(&format!("these writers were others than then: {}", reproduction.other_writers.join(", ")));
    }
    if let Some(key) = key {
        anstream::println!(
            "{} the result is in the evidence, signed by key {}",
            good("signed:"),
            key.public().id().short()
        );
    }
}
