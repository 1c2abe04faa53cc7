//! `lock`, `why`, `preview`, `build`.

use super::{Code, Failure, print_json};
use crate::args::Global;
use crate::map::{self, Part};
use crate::problem::count;
use crate::session::{self, Session, shown};
use crate::style::{Table, faint, good, name, strong, warn};
use embrak_engine::{
    ActionStatus, BuildOptions, Lock, OutputFile, PartitionSummary, Plan, Preview, Selection, Why,
    build as build_images, plan, preview as preview_images,
};
use embrak_model::ByteSize;
use serde_json::json;
use std::collections::BTreeSet;
use std::path::PathBuf;

fn previous(session: &Session) -> Result<Option<Lock>, Failure> {
    Ok(Lock::load(&session.workspace.root.join("embrak.lock"))?)
}

pub fn lock(
    global: &Global,
    images: Vec<String>,
    board: Option<String>,
    update: bool,
    check: bool,
) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let plan = plan(&session.engine(), &Selection { images, board }, previous.as_ref(), update)?;
    session.progress.done();
    let current = previous.as_ref() == Some(&plan.lock);
    let written = !check && plan.lock.save(&session.workspace.root.join("embrak.lock"))?;
    if global.json {
        print_json(&json!({ "current": current, "written": written, "moved": plan.moved, "lock": plan.lock }))?;
        return Ok(if check { Code::of(current) } else { Code::Done });
    }
    for (target, locked) in plan.targets() {
        anstream::println!(
            "{} for {}: {}, input {}",
            strong(&target.image),
            target.label(),
            count(locked.packages.len(), "package"),
            faint(locked.input)
        );
    }
    if previous.is_some() {
        for moved in &plan.moved {
            anstream::println!("  {} {moved}", warn("moved"));
        }
    }
    let tools: Vec<&str> = plan.lock.tools.iter().map(|t| t.name.as_str()).collect();
    if !tools.is_empty() {
        anstream::println!("host tools used: {}", tools.join(", "));
    }
    match (check, current, written) {
        (true, true, _) => anstream::println!("{} embrak.lock is up to date", good("good:")),
        (true, false, _) => {
            anstream::println!("{} embrak.lock is out of date; `embrak lock` brings it up to date", warn("stale:"))
        }
        (_, _, true) => anstream::println!("{} embrak.lock", good("wrote")),
        _ => anstream::println!("embrak.lock says so already"),
    }
    Ok(if check { Code::of(current) } else { Code::Done })
}

pub fn why(global: &Global, image: String, package: &str, board: Option<String>) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let plan = plan(&session.engine(), &Selection { images: vec![image.clone()], board }, previous.as_ref(), false)?;
    let reasons = plan.why(&image).ok_or("the image is not planned")?;
    let chains = chains(&plan, &image, package);
    if global.json {
        print_json(
            &json!({ "image": image, "package": package, "installed": reasons.contains_key(package), "chains": chains }),
        )?;
        return Ok(Code::of(!chains.is_empty()));
    }
    if chains.is_empty() {
        let known = session.workspace.recipes.values().flatten().any(|r| {
            r.def.name.value.as_str() == package || r.def.split.iter().any(|s| s.name.value.as_str() == package)
        });
        let why = if known { "nothing in it asks for it" } else { "no recipe of the workspace makes it" };
        anstream::println!("{package} is not in {image}: {why}");
        return Ok(Code::Found);
    }
    for chain in chains {
        for (depth, why) in chain.iter().enumerate() {
            anstream::println!(
                "{}{} asks for {} {}",
                "  ".repeat(depth),
                strong(&why.by),
                name(&why.wanted),
                faint(format!("[{}]", why.origin))
            );
        }
    }
    Ok(Code::Done)
}

/// The chains of requirements from the image to a package, the image's own first; each package once in a chain.
fn chains(plan: &Plan, image: &str, package: &str) -> Vec<Vec<Why>> {
    let Some(reasons) = plan.why(image) else { return Vec::new() };
    let mut out = Vec::new();
    let mut open: Vec<(String, Vec<Why>)> = vec![(package.to_string(), Vec::new())];
    while let Some((name, chain)) = open.pop() {
        let seen: BTreeSet<&str> = chain.iter().map(|w| w.by.as_str()).collect();
        for why in reasons.get(&name).into_iter().flatten().rev() {
            if seen.contains(why.by.as_str()) || out.len() + open.len() > 50 {
                continue;
            }
            let longer: Vec<Why> = std::iter::once(why.clone()).chain(chain.iter().cloned()).collect();
            match why.by.split_once(' ') {
                Some(("image" | "board", _)) | None => out.push(longer),
                Some((requiring, _)) => open.push((requiring.to_string(), longer)),
            }
        }
    }
    out.sort_by_key(Vec::len);
    out
}

pub fn preview(global: &Global, images: Vec<String>, board: Option<String>) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let engine = session.engine();
    let plan = plan(&engine, &Selection { images, board }, previous.as_ref(), false)?;
    let previews = preview_images(&engine, &plan)?;
    if global.json {
        return print_json(&previews).map(|()| Code::Done);
    }
    for preview in &previews {
        print_preview(preview);
    }
    if previous.as_ref() != Some(&plan.lock) {
        anstream::println!(
            "{} embrak.lock does not say so yet; `embrak lock` or `embrak build` writes it",
            warn("note:")
        );
    }
    Ok(Code::Done)
}

fn print_preview(preview: &Preview) {
    anstream::println!(
        "{} {} for {}  {}",
        strong(&preview.image),
        preview.version,
        name(&preview.target),
        faint(&preview.summary)
    );
    anstream::println!("  input {}", faint(preview.input));
    let total: u64 = preview.packages.iter().filter_map(|p| p.size).sum();
    let known = preview.packages.iter().all(|p| p.size.is_some());
    let sizes = if known {
        format!(", {}", ByteSize(total).human())
    } else {
        ", sizes are known after the first build".to_string()
    };
    anstream::println!("  {}{}", count(preview.packages.len(), "package"), faint(sizes));
    let mut table = Table::new(&["package", "version", "size", "because of", "from"]).right(&[2]);
    for package in &preview.packages {
        let size = package.size.map_or(String::new(), |s| ByteSize(s).human());
        let because = package.why.first().map_or(String::new(), |w| w.by.clone());
        table.row([name(&package.name), package.version.clone(), size, because, faint(&package.file)]);
    }
    table.print(4);
    if !preview.partitions.is_empty() {
        let mut table = Table::new(&["partition", "type", "size", "filesystem", "mounted at"]).right(&[2]);
        for p in &preview.partitions {
            table.row([
                name(&p.label),
                p.kind.clone(),
                p.size.clone(),
                p.filesystem.clone(),
                p.mount.clone().unwrap_or_default(),
            ]);
        }
        anstream::println!("  disk");
        table.print(4);
    }
    if let Some(disk) = &preview.last_disk {
        let used = |p: &PartitionSummary| p.content as f64 / p.size.max(1) as f64;
        let part = |p: &PartitionSummary| Part { label: p.label.clone(), start: p.start, size: p.size, used: used(p) };
        anstream::println!("  {}", faint("as last built"));
        map::print(disk.size, &disk.partitions.iter().map(part).collect::<Vec<_>>());
    }
    if !preview.users.is_empty() {
        anstream::println!("  users: {}", preview.users.join(", "));
    }
    if !preview.host_tools.is_empty() {
        anstream::println!("  {} {}", warn("host tools used:"), preview.host_tools.join(", "));
    }
    for warning in &preview.warnings {
        anstream::println!("  {} {warning}", warn("look at this:"));
    }
    anstream::println!("  outputs");
    let mut table = Table::new(&["file", "what to do with it"]);
    for (file, advice) in &preview.outputs {
        table.row([name(file), advice.clone()]);
    }
    table.print(4);
    match &preview.changes {
        None => anstream::println!("  {}", faint("never built in this store")),
        Some(changes) if changes.is_empty() => {
            anstream::println!("  {}", faint("the same packages as in the last run"))
        }
        Some(changes) => {
            anstream::println!("  since the last run");
            for change in changes {
                anstream::println!("    {change}");
            }
        }
    }
    anstream::println!();
}

pub fn build(
    global: &Global,
    images: Vec<String>,
    board: Option<String>,
    locked: bool,
    jobs: Option<u16>,
    out: Option<PathBuf>,
) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let out = out.map_or_else(|| session.workspace.root.join("out"), |o| session::resolve(global, &o));
    let options = BuildOptions {
        selection: Selection { images, board },
        jobs: jobs.map_or(cores, usize::from),
        locked,
        out,
        set: global.set.clone(),
    };
    let result = build_images(&session.engine(), &options);
    session.progress.done();
    let result = result?;
    let record = &result.record;
    if global.json {
        print_json(&json!({ "run": result.run, "seconds": result.seconds, "moved": result.moved, "record": record }))?;
        return Ok(Code::Done);
    }
    let built = record.actions.iter().filter(|a| a.status == ActionStatus::Built).count();
    let reused = record.actions.len() - built;
    if built == 0 {
        anstream::println!(
            "{} nothing has changed, {reused} results reused, in {:.0} ms",
            good("up to date:"),
            result.seconds * 1000.0
        );
    } else {
        anstream::println!(
            "{} run {}: {built} built, {reused} reused, in {:.1} s",
            good("done:"),
            result.run,
            result.seconds
        );
    }
    print_outputs(&record.outputs);
    if !record.host_tools.is_empty() {
        let tools: Vec<&str> = record.host_tools.keys().map(String::as_str).collect();
        anstream::println!("{} {}, pinned by digest in embrak.lock", warn("host tools used:"), tools.join(", "));
    }
    Ok(Code::Done)
}

/// The outputs by image, with their digests and what to do with them.
pub fn print_outputs(outputs: &[OutputFile]) {
    let mut last = None;
    for output in outputs {
        if last != Some((&output.image, &output.target)) {
            anstream::println!("{} for {}  {} {}", strong(&output.image), output.target, faint("tree"), output.tree);
            last = Some((&output.image, &output.target));
        }
        anstream::println!("  {}  {}", name(shown(&output.path)), ByteSize(output.size).human());
        anstream::println!("    {}  {}", output.artifact, faint(&output.advice));
    }
}
