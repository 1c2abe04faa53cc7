//! `inspect`, `diff`, `boot`.

use super::{Code, Failure, print_json};
use crate::args::{DiffArgs, DiffLevel, Global, Ignored};
use crate::map::{self, Part};
use crate::problem::count;
use crate::progress::Progress;
use crate::session::{self, Session};
use crate::style::{Table, bad, faint, good, name, shown_digest, strong, warn};
use embrak_engine::{
    Artifact, BootEntry, BootOptions, ConsoleCheck, Content, DiffOptions, DiffReport, Difference, DirectStart,
    DiskTable, EngineError, Filesystem, Inspection, InstalledPackage, PartitionView, Wrapping, boot as boot_disk,
    diff_runs, diff_with, find_run, inspect as inspect_artifact,
};
use embrak_model::ByteSize;
use embrak_model::definitions::Output;
use embrak_tree::{Kind, Tree, TreePath};
use serde_json::json;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

pub fn inspect(
    global: &Global,
    path: &Path,
    files: bool,
    cat: Option<String>,
    extract: Option<Vec<String>>,
) -> Result<Code, Failure> {
    let path = session::resolve(global, path);
    let inspection = inspect_artifact(&path)?;
    let artifact = &inspection.artifact;
    let tree_path = |text: &str| {
        TreePath::new(text)
            .map_err(|e| EngineError::other(e.to_string(), "write it as it is in the image, `/etc/hostname`"))
    };
    if let Some(file) = cat {
        std::io::stdout().write_all(&artifact.find_file(&tree_path(&file)?)?)?;
        return Ok(Code::Done);
    }
    if let Some([file, to]) = extract.as_deref() {
        let to = session::resolve(global, Path::new(to));
        let bytes = artifact.find_file(&tree_path(file)?)?;
        let mut out = std::fs::File::create_new(&to).map_err(|e| {
            EngineError::other(format!("cannot write {}: {e}", to.display()), "an existing file is never overwritten")
        })?;
        out.write_all(&bytes)?;
        anstream::println!("{} {} {}", good("wrote"), to.display(), faint(format!("{} bytes", bytes.len())));
        return Ok(Code::Done);
    }
    if files {
        return list_files(global, artifact);
    }
    if global.json {
        return print_json(&inspection.summary).map(|()| Code::Done);
    }
    print_inspection(&inspection);
    Ok(Code::Done)
}

fn list_files(global: &Global, artifact: &Artifact) -> Result<Code, Failure> {
    if global.json {
        let all: Vec<_> = artifact
            .trees()
            .iter()
            .flat_map(|(place, tree)| {
                tree.iter().map(move |(path, entry)| {
                    json!({ "place": place, "path": path.to_string(), "kind": entry.kind.name(), "mode": format!("{:04o}", entry.mode),
                        "uid": entry.uid, "gid": entry.gid, "mtime": entry.mtime,
                        "size": if let Kind::File { size, .. } = entry.kind { Some(size) } else { None },
                        "digest": if let Kind::File { digest, .. } = entry.kind { Some(digest) } else { None } })
                })
            })
            .collect();
        return print_json(&all).map(|()| Code::Done);
    }
    for (place, tree) in artifact.trees() {
        if !place.is_empty() {
            anstream::println!("{}", strong(&place));
        }
        for (path, entry) in tree.iter() {
            let (size, end) = match &entry.kind {
                Kind::File { size, .. } => (size.to_string(), String::new()),
                Kind::Symlink { target } => ("link".into(), format!(" -> {}", String::from_utf8_lossy(target))),
                Kind::Hardlink { target } => ("hard link".into(), format!(" = {target}")),
                Kind::Directory => ("dir".into(), if path.is_root() { String::new() } else { "/".into() }),
                other => (other.name().into(), String::new()),
            };
            anstream::println!("  {:04o} {:>5} {:>5} {size:>12}  {path}{end}", entry.mode, entry.uid, entry.gid);
        }
    }
    Ok(Code::Done)
}

fn print_inspection(inspection: &Inspection) {
    let (artifact, summary) = (&inspection.artifact, &inspection.summary);
    anstream::println!("{}", name(session::shown(&artifact.path)));
    anstream::println!(
        "  {}, {} {}",
        strong(&summary.format),
        ByteSize(summary.size).human(),
        faint(format!("({} bytes)", summary.size))
    );
    anstream::println!("  artifact {}", summary.digest);
    for wrapping in &summary.wrappings {
        match wrapping {
            Wrapping::Packed(how) => anstream::println!("  packed   {how}"),
            Wrapping::Qcow2(info) => anstream::println!(
                "  container qcow2 version {}, a disk of {} in clusters of {}, {} there, {} of them compressed ({})",
                info.version,
                ByteSize(info.disk_size).human(),
                ByteSize(info.cluster_size).human(),
                info.clusters,
                info.compressed,
                info.compression
            ),
        }
    }
    if let Some(system) = &summary.system {
        anstream::println!("  system   {}", strong(system));
    }
    if let Some(identity) = &summary.identity {
        let text = |key: &str| identity[key].as_str().unwrap_or("?").to_string();
        anstream::println!("  image    {} {} for {}", strong(text("image")), text("version"), text("target"));
        anstream::println!("  input    {}", text("input"));
    }
    print_packages(&summary.packages);
    match &artifact.content {
        Content::Disk { table, partitions } => {
            anstream::println!("  table    {} {}", table.name(), faint(table.id()));
            let size = summary.wrappings.iter().find_map(|w| match w {
                Wrapping::Qcow2(info) => Some(info.disk_size),
                Wrapping::Packed(_) => None,
            });
            print_map(size.unwrap_or(summary.size), partitions);
            for view in partitions {
                print_partition(view);
            }
            if matches!(table, DiskTable::Gpt(table) if !table.outside_is_zero) {
                anstream::println!("  {} there are bytes outside the table and every partition", warn("note"));
            }
        }
        Content::Filesystem { info, tree, .. } => print_filesystem(info, tree, 2),
        Content::Initrd { parts, tree } => {
            anstream::println!("  archives {}", parts.join(", then "));
            print_tree(tree, 2);
        }
        Content::Package { tree, control } => {
            let names: Vec<String> =
                control.iter().filter(|(_, e)| !e.is_directory()).map(|(p, _)| p.to_string()).collect();
            anstream::println!("  control  {}", names.join(" "));
            print_tree(tree, 2);
        }
        Content::Program(program) => {
            anstream::println!("  for      {}, subsystem {}", program.architecture, program.subsystem);
        }
        Content::Oci { images, .. } => {
            for image in images {
                anstream::println!("  manifest {}", image.descriptor.digest);
                let config = &image.config;
                anstream::println!(
                    "  platform {}/{}, made {}",
                    config.os,
                    config.architecture,
                    config.created.as_deref().unwrap_or("at no time")
                );
                let line = |label: &str, value: String| {
                    if !value.is_empty() {
                        anstream::println!("    {label:<11}{value}");
                    }
                };
                line("entrypoint", config.config.entrypoint.join(" "));
                line("command", config.config.cmd.join(" "));
                line("user", config.config.user.clone());
                line("env", config.config.env.join(" "));
                line("ports", config.config.exposed_ports.keys().cloned().collect::<Vec<_>>().join(" "));
                line("volumes", config.config.volumes.keys().cloned().collect::<Vec<_>>().join(" "));
                line(
                    "labels",
                    config.config.labels.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" "),
                );
                for layer in &image.manifest.layers {
                    anstream::println!(
                        "  layer    {} {}",
                        layer.digest,
                        faint(format!("{}, {}", layer.media_type, ByteSize(layer.size).human()))
                    );
                }
                print_tree(&image.tree, 2);
            }
        }
        Content::Archive { compression, tree } => {
            anstream::println!("  compression {compression}");
            print_tree(tree, 2);
        }
        Content::Manifest(tree) | Content::Directory(tree) => print_tree(tree, 2),
        Content::Bytes => anstream::println!("  not a format Embrak reads"),
    }
    for entry in &summary.boot {
        print_boot_entry(entry);
    }
    for damage in &summary.damage {
        anstream::println!("  {} {damage}", bad("damaged"));
    }
}

fn print_tree(tree: &Tree, indent: usize) {
    let files = tree.iter().filter(|(_, e)| !e.is_directory()).count();
    let pad = " ".repeat(indent);
    anstream::println!(
        "{pad}tree     {} {}",
        tree.digest(),
        faint(format!("{}, {}", count(files, "file"), ByteSize(tree.content_size()).human()))
    );
}

/// Packages in as many columns as fit, the first screenful of them.
fn print_packages(packages: &[InstalledPackage]) {
    const SHOWN: usize = 24;
    if packages.is_empty() {
        return;
    }
    let shown: Vec<String> = packages.iter().take(SHOWN).map(|p| format!("{} {}", p.name, p.version)).collect();
    anstream::println!("  packages {}", count(packages.len(), "package"));
    for line in crate::style::wrapped(&shown.join(", "), 96) {
        anstream::println!("    {line}");
    }
    if packages.len() > SHOWN {
        anstream::println!("    {}", faint(format!("and {} more; --json has them all", packages.len() - SHOWN)));
    }
}

fn print_boot_entry(entry: &BootEntry) {
    anstream::println!("  starts   {} {}", name(&entry.path), faint(entry.kind));
    let line = |label: &str, value: &str| {
        if !value.is_empty() {
            anstream::println!("    {label:<9}{value}");
        }
    };
    line("system", &entry.title);
    line("kernel", &entry.kernel);
    line("command", &entry.command_line);
    line("parts", &entry.parts.join(", "));
    if entry.kind != "loader entry" {
        line("signed", if entry.signed { "yes, for UEFI Secure Boot" } else { "no" });
    }
}

fn print_filesystem(info: &Filesystem, tree: &Tree, indent: usize) {
    let (used, whole) = info.fill();
    let fill = used * 100 / whole.max(1);
    let pad = " ".repeat(indent);
    let free = ByteSize(whole - used).human();
    match info {
        Filesystem::Fat(info) => anstream::println!(
            "{pad}{} label {}, serial {:08x}, clusters of {}, {fill} % full ({free} free)",
            info.kind,
            info.label,
            info.serial,
            ByteSize(info.cluster_size).human(),
        ),
        Filesystem::Ext4(info) => {
            let state = if info.clean { "" } else { ", not unmounted cleanly" };
            anstream::println!(
                "{pad}{} label {}, UUID {}, blocks of {}, {fill} % full ({free} free){state}",
                info.kind,
                info.label,
                info.uuid,
                ByteSize(info.block_size).human(),
            );
            anstream::println!(
                "{pad}inodes   {} of {} in use",
                info.inodes - info.free_inodes.min(info.inodes),
                info.inodes
            );
            for (n, line) in crate::style::wrapped(&info.features.join(" "), 100).into_iter().enumerate() {
                anstream::println!("{pad}{:<9}{}", if n == 0 { "features" } else { "" }, faint(line));
            }
        }
    }
    print_tree(tree, indent);
}

fn print_partition(view: &PartitionView) {
    let p = &view.partition;
    let kind = view.kind.clone().unwrap_or_else(|| p.kind.to_string());
    anstream::println!(
        "  {} {}  {kind}, {} at {}  {}",
        strong(p.number),
        name(&p.label),
        ByteSize(p.size).human(),
        ByteSize(p.start).human(),
        faint(p.guid)
    );
    match &view.filesystem {
        Some(info) => print_filesystem(info, &view.tree, 4),
        None => anstream::println!("    {}", faint("no filesystem Embrak reads")),
    }
}

/// The disk drawn to scale.
fn print_map(size: u64, partitions: &[PartitionView]) {
    let used = |view: &PartitionView| {
        view.filesystem.as_ref().map_or(0.0, |i| {
            let (used, whole) = i.fill();
            used as f64 / whole.max(1) as f64
        })
    };
    let parts: Vec<Part> = partitions
        .iter()
        .map(|v| Part {
            label: v.partition.label.clone(),
            start: v.partition.start,
            size: v.partition.size,
            used: used(v),
        })
        .collect();
    map::print(size, &parts);
}

/// A run, as `12` or `r12`.
fn run_number(text: &Path) -> Option<i64> {
    text.to_str()?.trim_start_matches('r').parse().ok()
}

pub fn diff(global: &Global, args: &DiffArgs) -> Result<Code, Failure> {
    let (a, b) = (session::resolve(global, &args.a), session::resolve(global, &args.b));
    let fields = args.ignore.iter().flat_map(|i| match i {
        Ignored::Times => vec!["mtime"],
        Ignored::Owners => vec!["uid", "gid"],
        Ignored::Modes => vec!["mode"],
        Ignored::Order => vec![],
    });
    let options = DiffOptions {
        ignored_fields: fields.map(String::from).collect(),
        ignored_paths: args.ignore_path.clone(),
        only: args.only.clone(),
    };
    let filtered = !args.ignore.is_empty() || !args.ignore_path.is_empty() || !args.only.is_empty();
    let runs = run_number(&args.a).zip(run_number(&args.b)).filter(|_| !a.exists() && !b.exists());
    let report = match runs {
        Some((first, second)) => {
            let store = session::open_store(global)?;
            let record = |number| find_run(&store, Some(number), None).map(|(_, record)| record);
            diff_runs(&record(first)?, &record(second)?)?
        }
        None => diff_with(&a, &b, &options)?,
    };
    // Of a part, only what was found in it counts.
    let same = report.identical
        || (filtered && report.differences.is_empty())
        || (args.ignore.contains(&Ignored::Order) && report.same_content);
    if let Some(page) = &args.html {
        let page = session::resolve(global, page);
        let text = crate::page::diff(&session::shown(&a), &session::shown(&b), &report);
        embrak_engine::write_beside(&page, text.as_bytes())?;
    }
    if global.json {
        print_json(&report)?;
        return Ok(Code::of(same));
    }
    if report.identical {
        anstream::println!(
            "{} {}",
            good("identical:"),
            shown_digest(
                report.first,
                if runs.is_some() { "made of the same, with the same result" } else { "every byte" }
            )
        );
        return Ok(Code::Done);
    }
    if same {
        anstream::println!("{} in everything that counts here", good("the same:"));
        return Ok(Code::Done);
    }
    let content = if report.same_content { "the same content, encoded otherwise" } else { "different content" };
    anstream::println!("{} {content}, {}", bad("different:"), count(report.differences.len(), "difference"));
    let none = |run: Option<i64>| match run {
        Some(number) => format!("run {number}"),
        None => "not digested: disks of this size are compared file by file".to_string(),
    };
    anstream::println!("  {} {}", faint("first "), shown_digest(report.first, &none(runs.map(|r| r.0))));
    anstream::println!("  {} {}", faint("second"), shown_digest(report.second, &none(runs.map(|r| r.1))));
    if args.level == DiffLevel::Verdict {
        return Ok(Code::Found);
    }
    print_moved(&report);
    if args.level == DiffLevel::Full {
        print_differences(&report.differences, if global.verbose { usize::MAX } else { 40 });
    }
    Ok(Code::Found)
}

/// Packages that moved, and what changed by directory.
fn print_moved(report: &DiffReport) {
    if !report.packages.is_empty() {
        anstream::println!("{}", strong(count(report.packages.len(), "package")));
        for package in &report.packages {
            let line = match (&package.before, &package.after) {
                (None, Some(new)) => format!("{} {} {new}", good("came "), name(&package.name)),
                (Some(old), None) => format!("{} {} {old}", bad("went "), name(&package.name)),
                (old, new) => {
                    let text = |v: &Option<String>| v.clone().unwrap_or_default();
                    format!("{} {} {} -> {}", warn("moved"), name(&package.name), text(old), text(new))
                }
            };
            anstream::println!("  {line}");
        }
    }
    if !report.directories.is_empty() {
        let mut table = Table::new(&["below", "added", "removed", "changed", "bytes"]).right(&[1, 2, 3, 4]);
        for (directory, d) in &report.directories {
            let number = |n: usize| if n == 0 { String::new() } else { n.to_string() };
            let bytes = if d.bytes == 0 { String::new() } else { format!("{:+}", d.bytes) };
            table.row([name(directory), number(d.added), number(d.removed), number(d.changed), bytes]);
        }
        table.print(2);
    }
}

/// The differences with both values and the likely cause.
/// So many parts of a file are shown.
const FEW_PARTS: usize = 8;

pub fn print_differences(differences: &[Difference], most: usize) {
    for difference in differences.iter().take(most) {
        let place = if difference.place.is_empty() { String::new() } else { format!("{}: ", name(&difference.place)) };
        anstream::println!("  {place}{}", difference.field);
        match &difference.lines {
            Some(lines) => print_lines(lines),
            None => {
                anstream::println!("    {} {}", faint("first "), shorten(&difference.before));
                anstream::println!("    {} {}", faint("second"), shorten(&difference.after));
            }
        }
        for part in difference.parts.iter().take(FEW_PARTS) {
            anstream::println!("    {} {}", faint("inside"), shorten(part));
        }
        if let Some(more) = difference.parts.len().checked_sub(FEW_PARTS).filter(|n| *n > 0) {
            anstream::println!("    {}", faint(format!("... and {more} more parts (--json and --html have all)")));
        }
        if let Some(cause) = &difference.cause {
            anstream::println!("    {} {}: {}", warn("likely cause:"), strong(&cause.name), cause.evidence);
            anstream::println!("    {} {}", name("what to do:"), cause.advice);
        }
    }
    if differences.len() > most {
        anstream::println!("  {}", faint(format!("... and {} more (-v shows all)", differences.len() - most)));
    }
}

/// A few lines of a unified diff.
fn print_lines(lines: &str) {
    const FEW: usize = 12;
    for line in lines.lines().take(FEW) {
        let shown = shorten(line);
        anstream::println!(
            "    {}",
            match line.chars().next() {
                Some('-') => bad(shown),
                Some('+') => good(shown),
                _ => faint(shown),
            }
        );
    }
    let more = lines.lines().count().saturating_sub(FEW);
    if more > 0 {
        anstream::println!("    {}", faint(format!("and {more} more lines (--json and --html have them all)")));
    }
}

fn shorten(text: &str) -> String {
    if text.chars().count() > 100 { text.chars().take(97).collect::<String>() + "..." } else { text.to_string() }
}

pub fn boot(
    global: &Global,
    path: Option<PathBuf>,
    limit: u64,
    kernel: bool,
    interactive: bool,
    key: Option<PathBuf>,
) -> Result<Code, Failure> {
    let session = Session::open(global)?;
    // A key that cannot be used is better known before the work than after it.
    let key = key.map(|k| session::signing_key(global, &k)).transpose()?;
    let path = match path {
        Some(path) => session::resolve(global, &path),
        None => last_disk(&session)?,
    };
    let inspection = inspect_artifact(&path)?;
    let direct = if kernel { Some(direct_start(&session, &path, &inspection)?) } else { None };
    let identity = inspection.summary.identity.as_ref();
    let text = |key: &str| identity.and_then(|i| i[key].as_str()).map(String::from);
    let image = text("image").and_then(|name| session.workspace.images.get(&name));
    let board = text("target").and_then(|name| session.workspace.boards.get(&name));
    let emulator = board.and_then(|b| b.def.emulator.as_ref());
    if let (Some(board), None) = (board, emulator) {
        let message = format!("board {} says nothing of how to emulate it", board.def.board.value);
        return Err(EngineError::other(message, format!("add [emulator] with `machine` to {}", board.file)).into());
    }
    let checks: Vec<ConsoleCheck> = image
        .map(|i| &i.def.check)
        .into_iter()
        .flatten()
        .filter_map(|c| {
            let says = c.console_says.as_ref()?.value.clone();
            Some(ConsoleCheck { says, within: Duration::from_secs(c.within.map_or(60, |w| w.0)) })
        })
        .collect();
    let progress = Progress::new(global.quiet || global.json, global.verbose);
    let options = BootOptions {
        disk: match &direct {
            // A system that lives in its initial file system has no disk.
            Some(start) if start.initrd == path => None,
            _ => Some(path.clone()),
        },
        qcow2: inspection.summary.wrappings.iter().any(|w| matches!(w, Wrapping::Qcow2(_))),
        direct,
        interactive,
        architecture: board.map_or("x86_64".into(), |b| b.def.architecture.to_string()),
        machine: emulator.map_or("q35".into(), |e| e.machine.clone()),
        memory: emulator.and_then(|e| e.memory).map_or(256 << 20, |m| m.0),
        checks,
        limit: Duration::from_secs(limit),
        observer: &progress,
        stop: session::stop(),
    };
    let report = boot_disk(&options);
    progress.done();
    let report = report?;
    if global.json {
        print_json(&report)?;
        return Ok(Code::of(report.good()));
    }
    for (says, when) in &report.checks {
        match when {
            Some(seconds) => anstream::println!("{} the console said {says:?} after {seconds:.1} s", good("good:")),
            None => anstream::println!("{} the console never said {says:?}", bad("failed:")),
        }
    }
    if let Some(key) = &key {
        let signed = embrak_engine::sign_checks(&session.store, &path, &report, key)?;
        anstream::println!("{} the result {}", good("signed"), faint(session::shown(&signed.evidence)));
    }
    let end = if report.powered_off { "it switched itself off" } else { "it was still running and was stopped" };
    anstream::println!("{end} after {:.1} s", report.seconds);
    Ok(Code::of(report.good()))
}

/// The kernel and initial file system that were built beside a disk, or an initial file system that was named.
fn direct_start(session: &Session, path: &Path, inspection: &Inspection) -> Result<DirectStart, Failure> {
    let initrd =
        [Output::InitrdCpioZst, Output::InitrdCpioGz, Output::InitrdCpioXz, Output::InitrdCpioLz4, Output::InitrdCpio];
    let whole = |p: &Path| p.canonicalize().ok();
    let wanted = whole(path);
    for row in session.store.runs().map_err(EngineError::from)? {
        let Ok(record) = embrak_engine::run_record(&row) else { continue };
        let Some(this) = record.outputs.iter().find(|o| whole(&o.path) == wanted) else { continue };
        let same = |o: &&embrak_engine::OutputFile| o.image == this.image && o.target == this.target && o.path.exists();
        let of = |wanted: &[Output]| {
            let found = record.outputs.iter().filter(same).find(|o| wanted.contains(&o.output));
            found.map(|o| o.path.clone())
        };
        let packed = if initrd.contains(&this.output) { Some(this.path.clone()) } else { of(&initrd) };
        if let (Some(kernel), Some(initrd)) = (of(&[Output::Kernel]), packed) {
            // What the disk's own start says; without one, the board's console is enough.
            let own = inspection.summary.boot.iter().map(|b| b.command_line.clone()).find(|c| !c.is_empty());
            let board = session.workspace.boards.get(&this.target);
            let console = board.and_then(|b| b.def.console.as_ref()).map(|c| format!("console={c}"));
            return Ok(DirectStart { kernel, initrd, command_line: own.or(console).unwrap_or_default() });
        }
    }
    Err(EngineError::other(
        format!("no kernel and initial file system were built together with {}", path.display()),
        "add the outputs `kernel` and `initrd:cpio.zst` to the image, and build",
    )
    .into())
}

/// The disk most lately built from this workspace.
fn last_disk(session: &Session) -> Result<PathBuf, Failure> {
    let root = session.workspace.root.to_string_lossy().into_owned();
    for row in session.store.runs().map_err(EngineError::from)?.iter().filter(|r| r.workspace == root) {
        let record = embrak_engine::run_record(row)?;
        let is_disk = |o: &&embrak_engine::OutputFile| {
            matches!(o.output, Output::DiskRaw | Output::DiskQcow2 | Output::DiskQcow2Compressed) && o.path.exists()
        };
        if let Some(disk) = record.outputs.iter().find(is_disk) {
            return Ok(disk.path.clone());
        }
    }
    Err(EngineError::other("no disk has been built from this workspace", "run `embrak build`, or name a disk").into())
}
