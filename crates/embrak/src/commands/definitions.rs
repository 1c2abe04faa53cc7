//! `list`, `show`, `find`, `check`, `trace`, `schema`.

use super::{Code, Failure, print_json};
use crate::args::{Global, Kind, LayerAction, SchemaOf, ShowKind};
use crate::problem::{count, print_problems};
use crate::session::{self, Session};
use crate::style::{Table, bad, faint, good, name, strong, warn};
use embrak_engine::{EngineError, Lock, RunRecord, run_record};
use embrak_model::definitions::{LayerSource, Output};
use embrak_model::{ByteSize, Node, SchemaKind, Step, Value, Verb, Workspace, add_layer, remove_layer};
use serde_json::json;

pub fn check(global: &Global) -> Result<Code, Failure> {
    let result = session::load(global)?;
    let problems = result.as_ref().err().cloned().unwrap_or_default();
    if global.json {
        let list: Vec<_> = problems
            .iter()
            .map(|p| {
                json!({
                    "message": p.message, "help": p.help,
                    "file": p.place.as_ref().map(|p| p.file.name.clone()),
                    "line": p.place.as_ref().map(|p| p.line()), "column": p.place.as_ref().map(|p| p.column()),
                })
            })
            .collect();
        print_json(&json!({ "problems": list }))?;
        return Ok(Code::of(problems.is_empty()));
    }
    match result {
        Ok(workspace) => {
            let recipes: usize = workspace.recipes.values().map(Vec::len).sum();
            anstream::println!(
                "{} workspace {}: {}, {}, {}, {}",
                good("good:"),
                strong(&workspace.def.workspace),
                count(workspace.layers.len(), "layer"),
                count(recipes, "recipe"),
                count(workspace.boards.len(), "board"),
                count(workspace.images.len(), "image"),
            );
        }
        Err(problems) => {
            print_problems(&problems);
            anstream::println!("{}", bad(format!("{} found", count(problems.len(), "problem"))));
        }
    }
    Ok(Code::of(problems.is_empty()))
}

/// Changes `layers` of embrak.toml. A change after which the definitions have problems is taken back.
pub fn layer(global: &Global, action: LayerAction) -> Result<Code, Failure> {
    let path = session::workspace_root(global)?.join("embrak.toml");
    let before = std::fs::read_to_string(&path)?;
    let known = session::load(global)?;
    let (after, said) = match &action {
        LayerAction::Add { layer: directory, git, commit, archive, sha256, path } => {
            let text = |t: &Option<String>| t.clone().unwrap_or_default();
            let layer = match (directory, git, archive) {
                (Some(directory), ..) => LayerSource::Directory(directory.trim_end_matches('/').to_string()),
                (_, Some(git), _) => LayerSource::Git { git: git.clone(), commit: text(commit), path: path.clone() },
                _ => LayerSource::Archive { archive: text(archive), sha256: text(sha256), path: path.clone() },
            };
            (add_layer(&before, &layer)?, format!("{} {layer}", good("added")))
        }
        LayerAction::Remove { layer } => {
            let by_name = known.as_ref().ok().and_then(|w| w.layers.iter().find(|l| l.def.layer.as_str() == layer));
            let wanted = by_name.map_or(layer.trim_end_matches('/'), |l| match &l.source {
                LayerSource::Directory(path) => path,
                LayerSource::Git { commit, .. } => commit,
                LayerSource::Archive { sha256, .. } => sha256,
            });
            (remove_layer(&before, wanted)?, format!("{} {wanted}; its files stay where they are", good("removed")))
        }
    };
    embrak_engine::write_beside(&path, after.as_bytes())?;
    if let (Ok(_), Err(problems)) = (&known, session::load(global)?) {
        embrak_engine::write_beside(&path, before.as_bytes())?;
        print_problems(&problems);
        let message = format!("with that change the definitions have {}", count(problems.len(), "problem"));
        return Err(EngineError::other(message, "embrak.toml is as it was; mend what is said above first").into());
    }
    if global.json {
        print_json(&json!({ "workspace": path, "changed": true }))?;
    } else {
        anstream::println!("{said}");
    }
    Ok(Code::Done)
}

pub fn list(global: &Global, kind: Kind) -> Result<Code, Failure> {
    if kind == Kind::Runs {
        return runs(global);
    }
    let session = Session::open(global)?;
    let workspace = &session.workspace;
    let mut rows = Vec::new();
    let mut row = |value: serde_json::Value| rows.push(value);
    let columns: &[&str] = match kind {
        Kind::Layers => {
            for l in &workspace.layers {
                row(json!({ "name": l.def.layer, "version": l.def.version, "path": l.path, "summary": l.def.summary,
                    "contributes": l.contributes, "amends": l.amends }));
            }
            &["name", "version", "path", "contributes", "amends"]
        }
        Kind::Boards => {
            for b in workspace.boards.values() {
                row(
                    json!({ "name": b.def.board.value, "architecture": b.def.architecture, "boot": b.def.boot, "status": b.def.status,
                    "layer": b.layer, "summary": b.def.summary }),
                );
            }
            &["name", "architecture", "boot", "status", "layer", "summary"]
        }
        Kind::Recipes => {
            for r in workspace.recipes.values().flatten() {
                row(
                    json!({ "name": r.def.name.value, "version": r.def.full_version(), "license": r.def.license.value, "layer": r.layer,
                    "summary": r.def.summary, "file": r.file }),
                );
            }
            &["name", "version", "license", "layer", "summary"]
        }
        Kind::Packages => {
            for r in workspace.recipes.values().flatten() {
                let main = (r.def.name.value.to_string(), r.def.summary.clone());
                let splits = r.def.split.iter().map(|s| (s.name.value.to_string(), s.summary.clone()));
                for (package, summary) in std::iter::once(main).chain(splits) {
                    row(
                        json!({ "name": package, "version": r.def.full_version(), "recipe": r.def.name.value, "layer": r.layer, "summary": summary }),
                    );
                }
            }
            &["name", "version", "recipe", "layer", "summary"]
        }
        Kind::Images => {
            for i in workspace.images.values() {
                let outputs: Vec<String> = i.def.outputs.iter().map(|o| o.value.to_string()).collect();
                row(
                    json!({ "name": i.def.image.value, "version": i.def.version, "layer": i.layer, "abstract": i.def.is_abstract,
                    "outputs": outputs, "summary": i.def.summary }),
                );
            }
            &["name", "version", "layer", "outputs", "summary"]
        }
        Kind::Outputs => {
            for (output, name) in Output::ALL {
                row(json!({ "name": name, "advice": output.advice() }));
            }
            &["name", "advice"]
        }
        Kind::Repositories => {
            let lock = Lock::load(&workspace.root.join("embrak.lock"))?;
            for (number, r) in workspace.def.repository.iter().enumerate() {
                let locked: Vec<_> =
                    lock.iter().flat_map(|l| &l.repositories).filter(|l| l.name == *r.name.value).collect();
                let dates: Vec<&str> = locked.iter().map(|l| l.date.as_str()).collect();
                let used: usize = locked.iter().map(|l| l.packages.len()).sum();
                let signed = match (r.trusted, locked.iter().any(|l| !l.signed_by.is_empty())) {
                    (_, true) => "yes",
                    (true, false) => "no, trusted anyway",
                    (false, false) => "not looked at yet",
                };
                row(json!({ "name": r.name.value, "format": r.format, "url": workspace.repository_urls.get(number),
                    "suites": r.suites, "as of": dates, "used": used, "signed": signed }));
            }
            &["name", "format", "suites", "as of", "used", "signed"]
        }
        Kind::Tools => {
            for t in &workspace.def.toolchain.host {
                row(json!({ "name": t.value, "declared": t.at.to_string() }));
            }
            &["name", "declared"]
        }
        Kind::Runs => &[],
    };
    if global.json {
        print_json(&rows)?;
    } else {
        if kind == Kind::Layers {
            rows.iter_mut().for_each(|row| row["contributes"] = by_kind(&row["contributes"]).into());
        }
        print_rows(columns, &rows);
    }
    Ok(Code::Done)
}

/// `2 recipes, 1 image` instead of all their names.
fn by_kind(names: &serde_json::Value) -> String {
    let kinds = ["recipe", "board", "image"];
    let number = |kind: &str| names.as_array().into_iter().flatten().filter(|n| text_of(n).starts_with(kind)).count();
    let counted: Vec<String> =
        kinds.iter().map(|k| (number(k), k)).filter(|(n, _)| *n > 0).map(|(n, k)| count(n, k)).collect();
    counted.join(", ")
}

/// The JSON Schema of a kind of definition.
pub fn schema(kind: SchemaOf) -> Result<Code, Failure> {
    print_json(&embrak_model::schema(match kind {
        SchemaOf::Workspace => SchemaKind::Workspace,
        SchemaOf::Layer => SchemaKind::Layer,
        SchemaOf::Recipe => SchemaKind::Recipe,
        SchemaOf::Board => SchemaKind::Board,
        SchemaOf::Image => SchemaKind::Image,
        SchemaOf::Amendment => SchemaKind::Amendment,
    }))?;
    Ok(Code::Done)
}

/// How many packages of repositories are listed; more are only counted.
const FOUND_SHOWN: usize = 40;

/// Everything whose name, summary or provided names hold all the words, whatever their case: definitions, then packages
/// of repositories. A word with a slash is looked for among the files of repositories.
pub fn find(global: &Global, words: &[String]) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let workspace = &session.workspace;
    let words: Vec<String> = words.iter().map(|w| w.to_lowercase()).collect();
    let mut rows = Vec::new();
    let mut consider = |kind: &str, name: &str, version: &str, from: &str, more: &str, summary: &str| {
        let text = format!("{name} {more} {summary}").to_lowercase();
        if words.iter().all(|w| text.contains(w)) {
            // What is called so comes before what only speaks of it.
            let rank =
                (!words.iter().all(|w| name.to_lowercase().contains(w.as_str())), kind.to_string(), name.to_string());
            let row = json!({ "kind": kind, "name": name, "version": version, "from": from, "about": more, "summary": summary });
            rows.push((rank, row));
        }
    };
    let in_layer = |layer: &str| format!("layer {layer}");
    for l in &workspace.layers {
        consider("layer", &l.def.layer, l.def.version.as_str(), &l.path, "", &l.def.summary);
    }
    for b in workspace.boards.values() {
        let status = serde_json::to_value(b.def.status)?;
        let architecture = b.def.architecture;
        let more = format!("{architecture}, {} bit, {}", architecture.bits(), text_of(&status));
        consider("board", &b.def.board.value, "", &in_layer(&b.layer), &more, &b.def.summary);
    }
    for i in workspace.images.values() {
        consider("image", &i.def.image.value, &i.def.version, &in_layer(&i.layer), "", &i.def.summary);
    }
    for r in workspace.recipes.values().flatten() {
        let version = r.def.full_version();
        let provides: Vec<&str> = r.def.provides.iter().map(|p| p.value.as_str()).collect();
        let more = if provides.is_empty() { String::new() } else { format!("provides {}", provides.join(", ")) };
        consider("package", &r.def.name.value, &version, &in_layer(&r.layer), &more, &r.def.summary);
        for split in &r.def.split {
            let more = format!("made by {}", r.def.name.value);
            consider("package", &split.name.value, &version, &in_layer(&r.layer), &more, &split.summary);
        }
    }
    rows.sort_by(|a, b| a.0.cmp(&b.0));
    let mut rows: Vec<serde_json::Value> = rows.into_iter().map(|(_, row)| row).collect();
    let limit = if global.json { usize::MAX } else { FOUND_SHOWN };
    let (mut found, unread) = embrak_engine::find_packages(&session.engine(), &words, limit)?;
    let exact = |name: &str| words.iter().any(|w| w == name);
    found.sort_by_key(|p| (p.file.is_none(), !exact(&p.name), !p.in_name, p.name.len(), p.name.clone()));
    let total = found.len();
    for p in found.into_iter().take(limit) {
        let about = match p.file {
            Some(file) => file,
            None if p.provides.is_empty() => String::new(),
            None => shortened(&format!("provides {}", p.provides), 40),
        };
        rows.push(json!({ "kind": "package", "name": p.name, "version": p.version,
            "from": format!("{} {}", p.repository, p.of).trim(), "about": about, "summary": p.summary }));
    }
    if global.json {
        print_json(&rows)?;
    } else if rows.is_empty() {
        anstream::println!("nothing here is called or described so");
    } else {
        let mut table = Table::new(&["name", "kind", "version", "from", "about", "summary"]);
        for row in &rows {
            let cell = |key: &str| text_of(&row[key]);
            table.row([
                name(cell("name")),
                cell("kind"),
                cell("version"),
                cell("from"),
                cell("about"),
                faint(cell("summary")),
            ]);
        }
        table.print(0);
        if total > limit {
            anstream::println!(
                "{}",
                faint(format!("and {} more packages of repositories: add a word, or use --json", total - limit))
            );
        }
    }
    if !unread.is_empty() && !global.json {
        let list = unread.join(", ");
        anstream::println!(
            "{}",
            faint(format!("not looked at, because it was never read: {list} (`embrak lock` reads it)"))
        );
    }
    Ok(Code::of(!rows.is_empty()))
}

/// At most so many characters.
fn shortened(text: &str, limit: usize) -> String {
    if text.chars().count() <= limit {
        return text.to_string();
    }
    text.chars().take(limit - 3).chain("...".chars()).collect()
}

fn print_rows(columns: &[&str], rows: &[serde_json::Value]) {
    let mut table = DynamicTable::new(columns);
    for row in rows {
        table.row(columns.iter().map(|c| text_of(&row[*c])).collect());
    }
    table.print();
}

fn text_of(value: &serde_json::Value) -> String {
    match value {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Array(items) => items.iter().map(text_of).collect::<Vec<_>>().join(" "),
        serde_json::Value::Null => String::new(),
        other => other.to_string(),
    }
}

/// A table whose number of columns is known only at run time; the first column is what it lists.
struct DynamicTable {
    table: Table,
    columns: usize,
}

impl DynamicTable {
    fn new(columns: &[&str]) -> Self {
        DynamicTable { table: Table::new(columns), columns: columns.len() }
    }
    fn row(&mut self, mut cells: Vec<String>) {
        cells[0] = name(&cells[0]);
        let mut cells = cells.into_iter();
        match self.columns {
            2 => self.table.row::<2>(std::array::from_fn(|_| cells.next().unwrap_or_default())),
            5 => self.table.row::<5>(std::array::from_fn(|_| cells.next().unwrap_or_default())),
            _ => self.table.row::<6>(std::array::from_fn(|_| cells.next().unwrap_or_default())),
        }
    }
    fn print(&self) {
        if self.table.is_empty() {
            anstream::println!("{}", faint("there are none"));
        } else {
            self.table.print(0);
        }
    }
}

fn runs(global: &Global) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let rows = store.runs().map_err(EngineError::from)?;
    if global.json {
        let all: Vec<_> = rows
            .iter()
            .map(|r| {
                json!({ "run": r.id, "workspace": r.workspace, "started": r.started, "finished": r.finished, "status": r.status,
                    "record": serde_json::from_str::<serde_json::Value>(&r.record).unwrap_or_default() })
            })
            .collect();
        print_json(&all)?;
        return Ok(Code::Done);
    }
    let mut table = Table::new(&["run", "started", "took", "status", "built", "reused", "images"]).right(&[0, 2, 4, 5]);
    for r in &rows {
        let record = run_record(r).ok();
        let counted = |status| {
            record
                .as_ref()
                .map_or(0, |d: &RunRecord| d.actions.iter().filter(|a| a.status == status).count())
                .to_string()
        };
        let took = r.finished.map_or(String::new(), |f| format!("{:.1} s", (f - r.started) as f64 / 1000.0));
        let status = match r.status.as_str() {
            "done" => good("done"),
            "running" => warn("running"),
            other => bad(other),
        };
        let images: Vec<String> = record.as_ref().map(|d| d.inputs.keys().cloned().collect()).unwrap_or_default();
        let (built, reused) =
            (counted(embrak_engine::ActionStatus::Built), counted(embrak_engine::ActionStatus::Reused));
        table.row([name(r.id), time(r.started), took, status, built, reused, images.join(" ")]);
    }
    if table.is_empty() {
        anstream::println!("{}", faint("no run is on record in this store"));
    } else {
        table.print(0);
    }
    Ok(Code::Done)
}

/// A moment, UTC, to the second.
pub fn time(milliseconds: i64) -> String {
    jiff::Timestamp::from_second(milliseconds / 1000).map(|t| t.to_string()).unwrap_or_default()
}

/// What the maintainer scripts of an image's packages would do.
fn show_scripts(global: &Global, session: &Session, image: &str) -> Result<Code, Failure> {
    session.workspace.image(image).map_err(|p| EngineError::Definitions(vec![p]))?;
    let rows = session.store.runs().map_err(EngineError::from)?;
    let of_image = |mut record: RunRecord| {
        let packages = record.packages.remove(image)?;
        Some((packages, record.reports.remove(image).unwrap_or_default()))
    };
    let found = rows.iter().filter(|r| r.status == "done").find_map(|r| run_record(r).ok().and_then(of_image));
    let (packages, report) = found
        .ok_or_else(|| EngineError::other(format!("{image} was never built in this store"), "run `embrak build`"))?;
    let scripts = embrak_engine::maintainer_scripts(&session.store, &packages);
    if global.json {
        print_json(&json!({ "scripts": scripts, "done": report.done, "left": report.left }))?;
        return Ok(Code::Done);
    }
    if scripts.is_empty() {
        anstream::println!("no package of {image} has maintainer scripts");
        return Ok(Code::Done);
    }
    let (mut matter, mut others) =
        (Table::new(&["package", "version", "scripts", "at installation they see to"]), Vec::new());
    for s in &scripts {
        match s.does.is_empty() {
            false => matter.row([name(&s.package), s.version.clone(), s.scripts.join(" "), s.does.join(", ")]),
            true => others.push(s.package.as_str()),
        }
    }
    matter.print(0);
    if !others.is_empty() {
        for line in crate::style::wrapped(&format!("scripts that name nothing of this: {}", others.join(", ")), 100) {
            anstream::println!("{}", faint(line));
        }
    }
    if !report.done.is_empty() {
        let done: Vec<String> = report.done.iter().map(|(what, n)| format!("{n} {what}")).collect();
        for line in crate::style::wrapped(&format!("done instead of them: {}", done.join(", ")), 100) {
            anstream::println!("{line}");
        }
    }
    if !report.left.is_empty() {
        let mut left = Table::new(&["left over in", "script", "what was not done"]);
        for l in &report.left {
            left.row([name(&l.package), l.script.clone(), l.what.clone()]);
        }
        left.print(0);
    }
    Ok(Code::Done)
}

pub fn show(global: &Global, kind: ShowKind, wanted: &str) -> Result<Code, Failure> {
    if kind == ShowKind::Run {
        return show_run(global, wanted);
    }
    let session = Session::open(global)?;
    if kind == ShowKind::Scripts {
        return show_scripts(global, &session, wanted);
    }
    let workspace = &session.workspace;
    let one = |p| EngineError::Definitions(vec![p]);
    let nodes: Vec<(String, String, &Node)> = match kind {
        ShowKind::Image => {
            let i = workspace.image(wanted).map_err(one)?;
            vec![(i.layer.clone(), i.file.clone(), &i.node)]
        }
        ShowKind::Board => {
            let b = workspace.board(wanted).map_err(one)?;
            vec![(b.layer.clone(), b.file.clone(), &b.node)]
        }
        ShowKind::Recipe => recipes(workspace, wanted)?,
        _ => {
            let Some(l) = workspace.layers.iter().find(|l| l.def.layer.as_str() == wanted) else {
                return Err(EngineError::other(
                    format!("no layer `{wanted}`"),
                    "`embrak list layers` shows those there are",
                )
                .into());
            };
            let document = json!({ "name": l.def.layer, "version": l.def.version, "summary": l.def.summary, "path": l.path,
                "contributes": l.contributes, "amends": l.amends });
            if global.json {
                print_json(&document)?;
            } else {
                for (key, value) in document.as_object().into_iter().flatten() {
                    anstream::println!("{} = {}", name(key), text_of(value));
                }
            }
            return Ok(Code::Done);
        }
    };
    if global.json {
        let all: Vec<_> = nodes
            .iter()
            .map(|(layer, file, node)| json!({ "layer": layer, "file": file, "definition": values(node) }))
            .collect();
        return print_json(&if all.len() == 1 { all[0].clone() } else { json!(all) }).map(|()| Code::Done);
    }
    for (layer, file, node) in nodes {
        anstream::println!("{}", faint(format!("# layer {layer}, {file}, merged with all that amends it")));
        print_values(node, &mut Vec::new(), &|_| String::new());
    }
    Ok(Code::Done)
}

fn recipes<'a>(workspace: &'a Workspace, wanted: &str) -> Result<Vec<(String, String, &'a Node)>, Failure> {
    match workspace.recipes.get(wanted) {
        Some(all) => Ok(all.iter().map(|r| (r.layer.clone(), r.file.clone(), &r.node)).collect()),
        None => {
            Err(EngineError::other(format!("no recipe `{wanted}`"), "`embrak list recipes` shows those there are")
                .into())
        }
    }
}

fn values(node: &Node) -> serde_json::Value {
    match &node.value {
        Value::String(text) | Value::Float(text) | Value::Datetime(text) => json!(text),
        Value::Integer(number) => json!(number),
        Value::Boolean(value) => json!(value),
        Value::List(items) => items.iter().map(values).collect(),
        Value::Table(table) => table.iter().map(|(key, value)| (key.clone(), values(&value.node))).collect(),
    }
}

/// Prints every scalar with its path, and what `note` says of it.
fn print_values(node: &Node, path: &mut Vec<String>, note: &dyn Fn(&Node) -> String) {
    let mut lines = Vec::new();
    node.visit_scalars(path, &mut |path, scalar| {
        let text = scalar.value.to_string();
        let short = if text.chars().count() > 72 { text.chars().take(69).collect::<String>() + "..." } else { text };
        lines.push((path_text(path), short, note(scalar)));
    });
    let wide = lines
        .iter()
        .filter(|l| !l.2.is_empty())
        .map(|l| l.0.len() + l.1.chars().count() + 3)
        .max()
        .unwrap_or(0)
        .min(78);
    for (path, value, note) in lines {
        let pad = " ".repeat(wide.saturating_sub(path.len() + value.chars().count() + 3));
        let end = if note.is_empty() { String::new() } else { format!("{pad}  {}", faint(note)) };
        anstream::println!("{} = {value}{end}", name(path));
    }
}

/// `disk.partition[0].label`.
fn path_text(path: &[String]) -> String {
    let mut out = String::new();
    for part in path {
        if part.bytes().all(|b| b.is_ascii_digit()) {
            out += &format!("[{part}]");
        } else {
            out += if out.is_empty() { "" } else { "." };
            out += part;
        }
    }
    out
}

fn show_run(global: &Global, wanted: &str) -> Result<Code, Failure> {
    let store = session::open_store(global)?;
    let (row, record) = super::keep::run_named(global, &store, wanted)?;
    if global.json {
        let document = json!({ "run": row.id, "workspace": row.workspace, "started": row.started, "finished": row.finished,
            "status": row.status, "record": record });
        return print_json(&document).map(|()| Code::Done);
    }
    anstream::println!("{} {} {}", strong(format!("run {}", row.id)), row.status, faint(time(row.started)));
    anstream::println!("  workspace  {} ({})", record.workspace, row.workspace);
    anstream::println!("  embrak     {}", record.tool);
    anstream::println!("  lock       {}", record.lock);
    if !record.host_tools.is_empty() {
        anstream::println!("  host tools used: {}", record.host_tools.keys().cloned().collect::<Vec<_>>().join(", "));
    }
    if let Some(error) = &record.error {
        anstream::println!("  {} {error}", bad("error"));
    }
    let mut table = Table::new(&["action", "status", "began", "took"]).right(&[2, 3]);
    for action in &record.actions {
        let status = serde_json::to_value(action.status)?;
        table.row([
            name(&action.label),
            text_of(&status),
            format!("{:.2} s", action.started),
            format!("{:.2} s", action.seconds),
        ]);
    }
    table.print(2);
    let mut table = Table::new(&["output", "size", "artifact digest"]).right(&[1]);
    for output in &record.outputs {
        table.row([name(&output.name), ByteSize(output.size).human(), output.artifact.to_string()]);
    }
    if !table.is_empty() {
        table.print(2);
    }
    Ok(Code::Done)
}

pub fn trace(global: &Global, wanted: &str, key: Option<&str>) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let workspace = &session.workspace;
    let one = |p| EngineError::Definitions(vec![p]);
    let node = match wanted.split_once(':') {
        Some(("board", board)) => &workspace.board(board).map_err(one)?.node,
        Some(("recipe", recipe)) => recipes(workspace, recipe)?.last().map(|r| r.2).ok_or("no recipe")?,
        Some(("image", image)) => &workspace.image(image).map_err(one)?.node,
        _ => &workspace.image(wanted).map_err(one)?.node,
    };
    let path: Vec<String> =
        key.map(|k| k.replace('[', ".").replace(']', "").split('.').map(String::from).collect()).unwrap_or_default();
    let Some(target) = node.get(&path) else {
        let depth = (0..path.len()).find(|&n| node.get(&path[..=n]).is_none()).unwrap_or(0);
        let there =
            node.get(&path[..depth]).and_then(Node::table).map(|t| t.keys().cloned().collect::<Vec<_>>().join(", "));
        let help = there.map_or("it has no keys".into(), |t| format!("there are {t}"));
        return Err(EngineError::other(format!("{wanted} has no value at `{}`", key.unwrap_or_default()), help).into());
    };
    if global.json {
        let mut all = Vec::new();
        target.visit_scalars(&mut path.clone(), &mut |path, scalar| {
            let steps: Vec<_> = scalar
                .history
                .iter()
                .map(|s| json!({ "how": said(s), "value": s.value, "at": s.place.as_ref().map(ToString::to_string) }))
                .collect();
            all.push(json!({ "key": path_text(path), "value": values(scalar), "history": steps }));
        });
        return print_json(&all).map(|()| Code::Done);
    }
    if key.is_none() {
        print_values(target, &mut Vec::new(), &|scalar| scalar.place().map(ToString::to_string).unwrap_or_default());
        return Ok(Code::Done);
    }
    target.visit_scalars(&mut path.clone(), &mut |path, scalar| {
        anstream::println!("{} = {}", name(path_text(path)), strong(&scalar.value));
        for (index, step) in scalar.history.iter().enumerate() {
            let place = step.place.as_ref().map_or("command line".to_string(), ToString::to_string);
            let last = if index + 1 == scalar.history.len() { good("now") } else { faint("was") };
            anstream::println!("  {last} {}  {} {}", step.value, said(step), faint(place));
        }
    });
    Ok(Code::Done)
}

fn said(step: &Step) -> &'static str {
    match step.verb {
        Verb::Written => "written in",
        Verb::Replaced => "replaced by what extends it, in",
        Verb::Set => "set by the amendment",
        Verb::Added => "added by the amendment",
        Verb::Filled => "with parameters filled in, in",
    }
}
