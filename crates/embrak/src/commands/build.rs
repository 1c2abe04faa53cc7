//! `lock`, `why`, `preview`, `build`.

use super::{Code, Failure, print_json};
use crate::args::Global;
use crate::map::{self, Part};
use crate::problem::count;
use crate::session::{self, Session, shown};
use crate::style::{Table, bad, faint, good, name, strong, warn};
use embrak_engine::{
    ActionStatus, BuildOptions, EngineError, Lock, Moved, MovedPackage, OutputFile, PackageInfo, PartitionSummary,
    Plan, Preview, PreviewChange, PreviewPackage, PreviewPartition, Probe, Reason, Selection, Unit, Update, Why,
    build as build_images, plan, preview as preview_images,
};
use embrak_model::ByteSize;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

fn previous(session: &Session) -> Result<Option<Lock>, Failure> {
    Ok(Lock::load(&session.workspace.root.join("embrak.lock"))?)
}

pub fn lock(
    global: &Global,
    images: Vec<String>,
    board: Option<String>,
    update: Option<Vec<String>>,
    check: bool,
) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let update = match update {
        None => Update::Nothing,
        Some(names) if names.is_empty() => Update::Everything,
        Some(names) => Update::Only(names.into_iter().collect()),
    };
    let selection = Selection { images, board, ..Selection::default() };
    let plan = plan(&session.engine(), &selection, previous.as_ref(), &update);
    session.progress.done();
    let plan = plan?;
    let current = previous.as_ref() == Some(&plan.lock);
    let written = !check && plan.lock.save(&session.workspace.root.join("embrak.lock"))?;
    if global.json {
        print_json(
            &json!({ "current": current, "written": written, "moved": plan.moved, "warnings": plan.warnings, "lock": plan.lock }),
        )?;
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
    for repository in &plan.lock.repositories {
        let signed = match repository.signed_by.first() {
            Some(key) => format!("signed by {}", shortened(key)),
            None => "not signed".to_string(),
        };
        anstream::println!(
            "{} for {}: as of {}, {} used, {signed}",
            strong(&repository.name),
            repository.architecture,
            repository.date,
            count(repository.packages.len(), "package")
        );
    }
    if previous.is_some() {
        print_moved(&plan.moved);
    }
    let tools: Vec<&str> = plan.lock.tools.iter().map(|t| t.name.as_str()).collect();
    if !tools.is_empty() {
        anstream::println!("host tools used: {}", tools.join(", "));
    }
    print_warnings(&plan.warnings);
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

/// The end of a fingerprint: what people compare.
fn shortened(fingerprint: &str) -> &str {
    &fingerprint[fingerprint.len().saturating_sub(16)..]
}

/// What every summary says of repositories used without a signature.
pub fn print_warnings(warnings: &[String]) {
    for warning in warnings {
        anstream::println!("{} {warning}", warn("look at this:"));
    }
}

/// `+1.2 MiB`, `-300 KiB`; nothing when it is the same.
fn change(bytes: i64) -> String {
    match bytes {
        0 => String::new(),
        n if n > 0 => format!("+{}", ByteSize(n.unsigned_abs()).human()),
        n => format!("-{}", ByteSize(n.unsigned_abs()).human()),
    }
}

/// What moved: packages in a table, each once however many images have it, then the rest in sentences.
fn print_moved(moved: &[Moved]) {
    type Move<'m> = (&'m str, Option<&'m str>, Option<&'m str>);
    let mut packages: BTreeMap<Move<'_>, (&MovedPackage, Vec<&str>)> = BTreeMap::new();
    for package in moved.iter().filter_map(|m| m.package.as_ref()) {
        let key = (package.name.as_str(), package.from.as_deref(), package.to.as_deref());
        packages.entry(key).or_insert((package, Vec::new())).1.push(&package.image);
    }
    if !packages.is_empty() {
        let mut table = Table::new(&["package", "was", "is", "size", "", "in"]).right(&[3]);
        let mut bytes = 0;
        for (package, images) in packages.values() {
            bytes += package.bytes.unwrap_or(0);
            let said = |version: &Option<String>, none: &str| version.clone().unwrap_or_else(|| faint(none));
            table.row([
                name(&package.name),
                said(&package.from, "added"),
                said(&package.to, "removed"),
                package.bytes.map_or(String::new(), change),
                if package.security { warn("security") } else { String::new() },
                faint(images.join(", ")),
            ]);
        }
        table.print(2);
        let security = packages.values().filter(|(p, _)| p.security).count();
        let also = if security > 0 { format!(", {security} of them for security") } else { String::new() };
        let size = if bytes == 0 { String::new() } else { format!(", {} unpacked", change(bytes)) };
        anstream::println!("  {} moved{also}{size}", count(packages.len(), "package"));
    }
    for moved in moved.iter().filter(|m| m.package.is_none()) {
        anstream::println!("  {} {moved}", warn("moved"));
    }
}

pub fn why(global: &Global, image: String, package: &str, not: bool, board: Option<String>) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let selection = Selection { images: vec![image.clone()], board, also: vec![] };
    let engine = session.engine();
    let present = plan(&engine, &selection, previous.as_ref(), &Update::Nothing)?;
    session.progress.done();
    let reasons = present.why(&image).ok_or("the image is not planned")?;
    if not || !reasons.contains_key(package) {
        return why_not(global, &session, &present, &selection, previous.as_ref(), package, not);
    }
    let chains = chains(reasons, package);
    let brings = brings(reasons, package);
    if global.json {
        print_json(&json!({
            "image": image, "package": package, "installed": true, "chains": chains,
            "needs": brings.direct, "alone": brings.alone,
        }))?;
        return Ok(Code::Done);
    }
    const SHOWN: usize = 12;
    for chain in chains.iter().take(SHOWN) {
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
    if chains.len() > SHOWN {
        anstream::println!("{}", faint(format!("and {} more ask for it; --json has them all", chains.len() - SHOWN)));
    }
    if brings.direct.is_empty() {
        anstream::println!("{} needs nothing", strong(package));
    } else {
        anstream::println!("{} needs {}", strong(package), brings.direct.join(", "));
    }
    match brings.alone.len() {
        0 => anstream::println!("without it, nothing else would go"),
        n => anstream::println!("without it, {} more would go: {}", n, brings.alone.join(", ")),
    }
    Ok(Code::Done)
}

/// Why a package is not in an image, and what asking for it would do.
fn why_not(
    global: &Global,
    session: &Session,
    present: &Plan,
    selection: &Selection,
    previous: Option<&Lock>,
    package: &str,
    asked: bool,
) -> Result<Code, Failure> {
    let image = &selection.images[0];
    let reasons = present.why(image).ok_or("the image is not planned")?;
    if reasons.contains_key(package) {
        let message = format!("{package} is in {image}");
        return Err(
            EngineError::other(message, format!("`embrak why {image} {package}` tells what brings it in")).into()
        );
    }
    let more = Selection { also: vec![package.to_string()], ..selection.clone() };
    let code = if asked { Code::Done } else { Code::Found };
    match plan(&session.engine(), &more, previous, &Update::Nothing) {
        Ok(with) => {
            let names = |plan: &Plan| -> BTreeMap<String, String> {
                let packages = plan.targets().flat_map(|(_, locked)| &locked.packages);
                packages.map(|p| (p.name.clone(), p.version.clone())).collect()
            };
            let (before, after) = (names(present), names(&with));
            let added: Vec<String> =
                after.iter().filter(|(n, _)| !before.contains_key(*n)).map(|(n, v)| format!("{n} {v}")).collect();
            let changed: Vec<String> = before
                .iter()
                .filter(|(n, v)| after.get(*n) != Some(v))
                .map(|(n, v)| match after.get(n) {
                    Some(now) => format!("{n} {v} -> {now}"),
                    None => format!("{n} {v} would go"),
                })
                .collect();
            if global.json {
                print_json(&json!({
                    "image": image, "package": package, "installed": false, "possible": true, "adds": added, "changes": changed,
                }))?;
                return Ok(code);
            }
            anstream::println!("{} is not in {image}: nothing in it asks for it", name(package));
            anstream::println!("asking for it would add {}: {}", count(added.len(), "package"), added.join(", "));
            if !changed.is_empty() {
                anstream::println!("and change {}", changed.join(", "));
            }
        }
        Err(EngineError::Unsolvable { why, .. }) => {
            if global.json {
                print_json(&json!({
                    "image": image, "package": package, "installed": false, "possible": false,
                    "because": why.sentences, "remedies": why.remedies,
                }))?;
                return Ok(code);
            }
            anstream::println!("{} is not in {image}, and it cannot be:", name(package));
            for line in why.to_string().lines() {
                anstream::println!("  {line}");
            }
        }
        Err(error) => return Err(error.into()),
    }
    Ok(code)
}

type Reasons = BTreeMap<String, Vec<Why>>;

/// Who asks, as the name of a package; none when it is the image, the board or a repository.
fn asker(why: &Why) -> Option<&str> {
    why.by.split_once(' ').map(|(first, _)| first).filter(|f| !["image", "board", "repository"].contains(f))
}

/// For everyone who asks for a package, the shortest chain of requirements from the image to that; the shortest first.
fn chains(reasons: &Reasons, package: &str) -> Vec<Vec<Why>> {
    // How far each package is from the image, and who asked for it on the shortest way.
    let mut near: BTreeMap<&str, &Why> = BTreeMap::new();
    let mut frontier: Vec<&str> = Vec::new();
    for (wanted, list) in reasons {
        if let Some(why) = list.iter().find(|w| asker(w).is_none()) {
            near.insert(wanted, why);
            frontier.push(wanted);
        }
    }
    while !frontier.is_empty() {
        let mut next = Vec::new();
        for (wanted, list) in reasons {
            if near.contains_key(wanted.as_str()) {
                continue;
            }
            if let Some(why) = list.iter().find(|w| asker(w).is_some_and(|a| frontier.contains(&a))) {
                next.push((wanted.as_str(), why));
            }
        }
        frontier = next.iter().map(|(wanted, _)| *wanted).collect();
        near.extend(next);
    }
    let mut out: Vec<Vec<Why>> = Vec::new();
    for why in reasons.get(package).into_iter().flatten() {
        let mut chain = vec![why.clone()];
        while let Some(before) = chain.last().and_then(asker).and_then(|a| near.get(a)) {
            // A package that only its own requirements lead to is reached in no other way.
            if chain.len() > near.len() {
                break;
            }
            chain.push((*before).clone());
        }
        chain.reverse();
        out.push(chain);
    }
    out.sort_by_key(Vec::len);
    out
}

/// What a package brings into an image.
struct Brings {
    /// What it needs itself.
    direct: Vec<String>,
    /// What would go with it: nothing else leads there.
    alone: Vec<String>,
}

fn brings(reasons: &Reasons, package: &str) -> Brings {
    let direct = reasons.iter().filter(|(_, list)| list.iter().any(|w| asker(w) == Some(package)));
    let direct = direct.map(|(name, _)| name.clone()).collect();
    let reach = |without: Option<&str>| -> BTreeSet<&str> {
        let mut reached: BTreeSet<&str> = BTreeSet::new();
        loop {
            let before = reached.len();
            for (wanted, list) in reasons {
                let led = |w: &Why| asker(w).is_none_or(|a| reached.contains(a));
                if Some(wanted.as_str()) != without && list.iter().any(led) {
                    reached.insert(wanted);
                }
            }
            if reached.len() == before {
                return reached;
            }
        }
    };
    let (all, rest) = (reach(None), reach(Some(package)));
    let alone = all.difference(&rest).filter(|n| **n != package).map(ToString::to_string).collect();
    Brings { direct, alone }
}

pub fn preview(global: &Global, images: Vec<String>, full: bool, board: Option<String>) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    let previous = previous(&session)?;
    let engine = session.engine();
    let selection = Selection { images, board, ..Selection::default() };
    let plan = plan(&engine, &selection, previous.as_ref(), &Update::Nothing);
    session.progress.done();
    let plan = plan?;
    let previews = preview_images(&engine, &plan)?;
    if global.json {
        return print_json(&previews).map(|()| Code::Done);
    }
    for preview in &previews {
        print_preview(preview, full);
    }
    if previous.as_ref() != Some(&plan.lock) && global.set.is_empty() {
        anstream::println!(
            "{} embrak.lock does not say so yet; `embrak lock` or `embrak build` writes it",
            warn("note:")
        );
    }
    Ok(Code::Done)
}

/// More packages than this are shown by why they are there, not one by one.
const MANY: usize = 14;

fn size_of(packages: &[&PreviewPackage]) -> String {
    let total: u64 = packages.iter().filter_map(|p| p.size).sum();
    let unknown = packages.iter().any(|p| p.size.is_none());
    match (total, unknown) {
        (0, true) => String::new(),
        (n, true) => format!("at least {}", ByteSize(n).human()),
        (n, false) => ByteSize(n).human(),
    }
}

fn print_packages(preview: &Preview, full: bool) {
    let all: Vec<&PreviewPackage> = preview.packages.iter().collect();
    let mut said = vec![count(all.len(), "package")];
    said.extend(Some(size_of(&all)).filter(|s| !s.is_empty()).map(|s| format!("{s} unpacked")));
    if all.iter().any(|p| p.size.is_none()) {
        said.push("more is known after the first build".into());
    }
    let fetch: u64 = all.iter().map(|p| p.fetch).sum();
    if fetch > 0 {
        said.push(format!("{} to fetch", ByteSize(fetch).human()));
    }
    for (repository, date) in &preview.repositories {
        said.push(format!("{repository} as of {date}"));
    }
    anstream::println!("  {}", said.join(", "));
    let groups: BTreeSet<Reason> = all.iter().map(|p| p.reason).collect();
    let table_of = |packages: &[&PreviewPackage]| {
        let mut table = Table::new(&["package", "version", "size", "because of", "from"]).right(&[2]);
        for package in packages {
            let size = package.size.map_or(String::new(), |s| ByteSize(s).human());
            let because = package.why.first().map_or(String::new(), |w| w.by.clone());
            table.row([name(&package.name), package.version.clone(), size, because, faint(&package.from)]);
        }
        table.print(4);
    };
    if all.len() <= MANY {
        table_of(&all);
        return;
    }
    for reason in groups {
        let mut of: Vec<&PreviewPackage> = all.iter().copied().filter(|p| p.reason == reason).collect();
        anstream::println!("  {}: {} {}", strong(reason.words()), of.len(), faint(size_of(&of)));
        if full || (reason == Reason::Image && of.len() <= MANY) {
            table_of(&of);
            continue;
        }
        of.sort_by(|a, b| b.size.cmp(&a.size).then_with(|| a.name.cmp(&b.name)));
        let one = |p: &&PreviewPackage| match p.size {
            Some(size) => format!("{} {}", name(&p.name), faint(ByteSize(size).human())),
            None => name(&p.name),
        };
        let shown: Vec<String> = of.iter().take(5).map(one).collect();
        let rest = if of.len() > 5 { format!(" and {} more", of.len() - 5) } else { String::new() };
        anstream::println!("    {}{rest}", shown.join(", "));
    }
}

fn print_changes(changes: &[PreviewChange], full: bool) {
    const SHOWN: usize = 10;
    let bytes: i64 = changes.iter().filter_map(|c| c.bytes).sum();
    let kind =
        |from: bool, to: bool| changes.iter().filter(|c| c.from.is_some() == from && c.to.is_some() == to).count();
    let known = changes.iter().all(|c| c.bytes.is_some());
    let size = if bytes == 0 || !known { String::new() } else { format!(", {}", change(bytes)) };
    anstream::println!(
        "  since the last run: {} added, {} removed, {} moved{size}",
        kind(false, true),
        kind(true, false),
        kind(true, true)
    );
    let mut table = Table::new(&["", "package", "was", "is", "size"]).right(&[4]);
    let limit = if full { usize::MAX } else { SHOWN };
    for c in changes.iter().take(limit) {
        let sign = match (&c.from, &c.to) {
            (None, _) => good("+"),
            (_, None) => bad("-"),
            _ => warn("~"),
        };
        let text = |version: &Option<String>| version.clone().unwrap_or_default();
        table.row([sign, name(&c.name), text(&c.from), text(&c.to), c.bytes.map_or(String::new(), change)]);
    }
    table.print(4);
    if changes.len() > limit {
        anstream::println!("    {}", faint(format!("and {} more; --full shows them", changes.len() - limit)));
    }
}

fn print_preview(preview: &Preview, full: bool) {
    anstream::println!(
        "{} {} for {}  {}",
        strong(&preview.image),
        preview.version,
        name(&preview.target),
        faint(&preview.summary)
    );
    anstream::println!("  input {}", faint(preview.input));
    print_packages(preview, full);
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
    // Before the first build, the map is drawn when every size is written; how full it will be nobody knows yet.
    let sizes: Vec<u64> = preview.partitions.iter().filter_map(|p| p.bytes).collect();
    if preview.last_disk.is_none() && !sizes.is_empty() && sizes.len() == preview.partitions.len() {
        let mut start = 0;
        let place = |(p, size): (&PreviewPartition, &u64)| {
            start += size;
            Part { label: p.label.clone(), start: start - size, size: *size, used: 0.0 }
        };
        let parts: Vec<Part> = preview.partitions.iter().zip(&sizes).map(place).collect();
        map::print(sizes.iter().sum(), &parts);
    }
    if !preview.users.is_empty() {
        anstream::println!("  users: {}", preview.users.join(", "));
    }
    print_units(&preview.units, full);
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
        Some(changes) => print_changes(changes, full),
    }
    anstream::println!();
}

fn print_units(units: &[Unit], full: bool) {
    if units.is_empty() {
        return;
    }
    let enabled: Vec<&str> = units.iter().filter(|u| u.enabled).map(|u| u.name.as_str()).collect();
    anstream::println!(
        "  services and sockets: {} in what is known of the packages, {} wanted at the start{}",
        units.len(),
        enabled.len(),
        if enabled.is_empty() { String::new() } else { format!(": {}", enabled.join(", ")) }
    );
    if full {
        let mut table = Table::new(&["unit", "from", "at the start"]);
        for unit in units {
            let at = if unit.enabled { good("yes") } else { faint("when asked") };
            table.row([name(&unit.name), faint(&unit.from), at]);
        }
        table.print(4);
    }
}

/// How images are built.
pub struct How {
    pub locked: bool,
    pub jobs: Option<u16>,
    pub out: Option<PathBuf>,
    pub vendored: Option<(PathBuf, Vec<PathBuf>)>,
    pub probe: Probe,
}

pub fn build(global: &Global, selection: Selection, how: How) -> Result<Code, Failure> {
    let How { locked, jobs, out, vendored, probe } = how;
    let mut session = match vendored {
        Some((dir, keys)) => Session::open_vendored(global, &session::resolve(global, &dir), &keys)?,
        None => Session::open(global)?,
    };
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let out = out.map_or_else(|| session.workspace.root.join("out"), |o| session::resolve(global, &o));
    let options =
        BuildOptions { selection, jobs: jobs.map_or(cores, usize::from), locked, out, set: global.set.clone() };
    session.probe = probe;
    let result = build_images(&session.engine(), &options);
    session.progress.done();
    let result = result?;
    let record = &result.record;
    if global.json {
        print_json(
            &json!({ "run": result.run, "seconds": result.seconds, "moved": result.moved, "warnings": result.warnings, "record": record }),
        )?;
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
    for (image, report) in &record.reports {
        let done = |what: &str| report.done.get(what).copied().unwrap_or(0);
        let has_scripts = |p: &PackageInfo| p.ready_made.as_ref().is_some_and(|r| !r.scripts.is_empty());
        let with_scripts = record.packages.get(image).map_or(0, |list| list.iter().filter(|p| has_scripts(p)).count());
        if done("scripts run") > 0 {
            let packages = count(done("scripts run"), "package");
            anstream::println!("{} those of {packages} ran in {image}", strong("maintainer scripts:"));
        } else if with_scripts > 0 {
            let left = match report.left.len() {
                0 => "nothing is left over".to_string(),
                n => format!("{} left over, `embrak show scripts {image}` tells", count(n, "thing")),
            };
            anstream::println!(
                "{} none ran in {image}: Embrak did what they say; {left}",
                strong("maintainer scripts:")
            );
        }
    }
    print_warnings(&result.warnings);
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

/// Builds one package alone; prints the digests of what its recipe makes.
pub fn probe(
    global: &Global,
    selection: Selection,
    package: &str,
    jobs: usize,
    vendored: Option<(PathBuf, Vec<PathBuf>)>,
    probe: Probe,
) -> Result<Code, Failure> {
    let mut session = match vendored {
        Some((dir, keys)) => Session::open_vendored(global, &session::resolve(global, &dir), &keys)?,
        None => Session::open(global)?,
    };
    session.probe = probe;
    let result = embrak_engine::probe(&session.engine(), &selection, package, jobs);
    session.progress.done();
    print_json(&result?).map(|()| Code::Done)
}
