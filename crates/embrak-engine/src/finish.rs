//! Programs of the image run inside its root: finishing steps, and maintainer scripts when the image asks for that.
//!
//! The root is laid out in a work directory, a program of it runs isolated, and what it leaves is read back: by an
//! archive its own `tar` writes inside, where owners are what they are in the image, or, without that program, as it
//! lies. What nobody meant to be in an image is taken out again: times, backups, logs, keys, caches of the moment.

use crate::Engine;
use crate::compose::debian_architecture;
use crate::error::{Doing, EngineError, Result};
use crate::events::Event;
use crate::plan::PlannedImage;
use crate::sources;
use embrak_model::definitions::{Architecture, Scripts};
use embrak_root::{Installed, Report, Root};
use embrak_sandbox::{Outcome, Step, Users};
use embrak_tree::{Digest, Entry, Kind, Tree, TreePath};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long all maintainer scripts together may take.
const SCRIPTS_LIMIT: Duration = Duration::from_secs(1200);
const STEP_LIMIT: u64 = 600;

/// Whether programs of an image can run here.
pub(crate) fn runs_here(image: &PlannedImage) -> Result<()> {
    let wanted = image.target.architecture;
    if Architecture::host() == Some(wanted) {
        return Ok(());
    }
    Err(EngineError::Definition {
        message: format!(
            "image {} is for {wanted}: its scripts and finishing steps cannot run on this machine ({})",
            image.target.image,
            std::env::consts::ARCH
        ),
        help: "build on a machine of that architecture, choose a board of this one, or use `scripts = \"declared\"` and no [[finish]]".into(),
    })
}

/// Whether what an image has run can run here; nothing when nothing is to run.
pub(crate) fn can_run(image: &PlannedImage) -> Result<()> {
    let def = &image.image.def;
    let scripts = def.scripts == Scripts::Run && image.locked.packages.iter().any(|p| p.repository().is_some());
    if scripts || !def.finish.is_empty() { runs_here(image) } else { Ok(()) }
}

/// Runs the finishing steps one by one; each result is kept under a key of the root before it and of the step.
pub(crate) fn finish(engine: &Engine<'_>, image: &PlannedImage, tree: Tree) -> Result<Tree> {
    runs_here(image)?;
    let mut tree = tree;
    for (number, step) in image.image.def.finish.iter().enumerate() {
        crate::build::interrupted(engine)?;
        let key = Digest::of(
            serde_json::json!({
                "finish": 1, "tree": tree.digest(), "run": step.run.value, "epoch": engine.workspace.def.epoch.0,
                "sandbox": crate::build::SANDBOX_VERSION,
            })
            .to_string(),
        );
        let known = engine.store.action(&key)?.and_then(|text| text.parse::<Digest>().ok());
        if let Some(found) = known.and_then(|digest| sources::get_tree(engine.store, &digest).ok()) {
            tree = found;
            continue;
        }
        let label = format!("{} finish {}", image.target.image, number + 1);
        engine.observer.event(Event::Started(label.clone()));
        let begun = std::time::Instant::now();
        let limit = Duration::from_secs(step.time_limit.map_or(STEP_LIMIT, |s| s.0));
        let script = format!("set -eu\n{}", step.run.value);
        let after = run_in(engine, image, &tree, &script, limit).map_err(|e| match e {
            RunError::Failed { how, tail, log } => EngineError::StepFailed {
                package: format!("image {}", image.target.image),
                step: format!("finish {} ({})", number + 1, step.run.at),
                how,
                tail,
                log,
            },
            RunError::Engine(error) => error,
        })?;
        tree = after;
        let digest = sources::put_tree(engine.store, &tree)?;
        let mut objects: BTreeSet<Digest> = [digest].into();
        objects.extend(tree.blobs().map(|(digest, _)| digest));
        engine.store.record_action(&key, &digest.to_string(), &objects)?;
        let seconds = begun.elapsed().as_secs_f64();
        engine.observer.event(Event::Finished { label, status: crate::events::ActionStatus::Built, seconds });
    }
    Ok(tree)
}

/// Runs the maintainer scripts of packages in the order given: what comes before the files of each, then what comes
/// after, then triggers. The root has the packages' files and their database.
pub(crate) fn run_scripts(
    engine: &Engine<'_>,
    image: &PlannedImage,
    tree: Tree,
    packages: &[Installed<'_>],
) -> Result<(Tree, Report)> {
    runs_here(image)?;
    embrak_sandbox::many_users().map_err(|what| {
        EngineError::other(
            format!("the maintainer scripts of image {} cannot run here: {what}", image.target.image),
            "or use `scripts = \"declared\"`, which runs nothing of the packages",
        )
    })?;
    let epoch = engine.workspace.def.epoch.0;
    let mut root = Root::new(tree, engine.store, epoch);
    let has = |root: &Root<'_>, package: &Installed<'_>, script: &str| {
        let path = format!("/{script}");
        path.parse().is_ok_and(|p| package.control.get(&p).is_some()) && root.exists(&info(root, package.name, script))
    };
    // No daemon starts in here.
    root.write("/usr/sbin/policy-rc.d", "#!/bin/sh\nexit 101\n", 0o755, (0, 0)).map_err(crate::compose::settled)?;
    let mut driver = String::from(DRIVER);
    for (script, argument) in [("preinst", "install"), ("postinst", "configure")] {
        for package in packages.iter().filter(|p| has(&root, p, script)) {
            let path = info(&root, package.name, script);
            let last = if script == "postinst" { " ''" } else { "" };
            driver +=
                &format!("script {} {} {} {path} {argument}{last}\n", package.name, script, debian_architecture(image));
        }
    }
    let mut report = Report::default();
    for package in packages.iter().filter(|p| has(&root, p, "postinst")) {
        let names = interests(&root, package);
        if !names.is_empty() {
            let path = info(&root, package.name, "postinst");
            driver += &format!(
                "script {} postinst {} {path} triggered '{}'\n",
                package.name,
                debian_architecture(image),
                names.join(" ")
            );
        }
        *report.done.entry("scripts run".into()).or_default() += 1;
    }
    engine.observer.event(Event::Started(format!("{} maintainer scripts", image.target.image)));
    let mut after = run_in(engine, image, &root.tree, &driver, SCRIPTS_LIMIT).map_err(|e| match e {
        RunError::Failed { how, tail, log } => {
            let text = std::fs::read_to_string(&log).unwrap_or_default();
            let last = text.lines().filter_map(|l| l.strip_prefix("== ")).next_back().unwrap_or("the first script");
            EngineError::StepFailed {
                package: format!("image {}", image.target.image),
                step: last.to_string(),
                how,
                tail,
                log,
            }
        }
        RunError::Engine(error) => error,
    })?;
    let policy = TreePath::new("/usr/sbin/policy-rc.d").unwrap_or_else(|_| TreePath::root());
    after.remove(&policy);
    calm(engine, &mut after, epoch)?;
    Ok((after, report))
}

/// Starts one script as the distribution's own tool would.
const DRIVER: &str = r#"export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
export DEBIAN_FRONTEND=noninteractive DEBCONF_NONINTERACTIVE_SEEN=true DEBCONF_NOWARNINGS=yes
export DPKG_ROOT= DPKG_ADMINDIR=/var/lib/dpkg DPKG_MAINTSCRIPT_PACKAGE_REFCOUNT=1 DPKG_RUNNING_VERSION=1.21.0
script() {
    package=$1 name=$2 architecture=$3 path=$4
    shift 4
    echo "== $package $name $*"
    DPKG_MAINTSCRIPT_PACKAGE=$package DPKG_MAINTSCRIPT_NAME=$name DPKG_MAINTSCRIPT_ARCH=$architecture "$path" "$@" || {
        status=$?
        echo "== $package $name"
        exit $status
    }
}
"#;

fn info(root: &Root<'_>, package: &str, script: &str) -> String {
    let plain = format!("/var/lib/dpkg/info/{package}.{script}");
    if root.exists(&plain) {
        return plain;
    }
    // Packages of which several architectures can be there have theirs in the name.
    let start = format!("{package}:");
    let end = format!(".{script}");
    let found = root.list("/var/lib/dpkg/info").into_iter().find(|n| n.starts_with(&start) && n.ends_with(&end));
    found.map_or(plain, |name| format!("/var/lib/dpkg/info/{name}"))
}

/// Triggers a package waits for.
fn interests(root: &Root<'_>, package: &Installed<'_>) -> Vec<String> {
    let text = root.text(&info(root, package.name, "triggers")).unwrap_or_default();
    let mut out = Vec::new();
    for line in text.lines() {
        let mut words = line.split_whitespace();
        if let (Some(kind), Some(name)) = (words.next(), words.next())
            && kind.starts_with("interest")
            && (!name.starts_with('/') || root.exists(name))
        {
            out.push(name.to_string());
        }
    }
    out
}

/// Takes out what differs between two runs or has no place in an image.
fn calm(engine: &Engine<'_>, tree: &mut Tree, epoch: i64) -> Result<()> {
    const GONE: [&str; 22] = [
        "/etc/passwd-",
        "/etc/group-",
        "/etc/shadow-",
        "/etc/gshadow-",
        "/etc/subuid-",
        "/etc/subgid-",
        "/etc/.pwd.lock",
        "/var/lib/dpkg/status-old",
        "/var/lib/dpkg/diversions-old",
        "/var/lib/dpkg/statoverride-old",
        "/var/lib/dpkg/lock",
        "/var/lib/dpkg/triggers/Lock",
        "/var/lib/dpkg/triggers/Unincorp",
        "/var/cache/ldconfig/aux-cache",
        "/var/cache/debconf/config.dat-old",
        "/var/cache/debconf/templates.dat-old",
        "/var/cache/debconf/passwords.dat",
        "/var/lib/systemd/random-seed",
        "/var/lib/systemd/credential.secret",
        "/var/lib/dbus/machine-id",
        "/var/log/alternatives.log",
        "/var/log/dpkg.log",
    ];
    for path in GONE {
        if let Ok(path) = path.parse() {
            tree.remove(&path);
        }
    }
    let keys: Vec<TreePath> =
        tree.iter().filter(|(p, _)| p.as_bytes().starts_with(b"/etc/ssh/ssh_host_")).map(|(p, _)| p.clone()).collect();
    for key in keys {
        tree.remove(&key);
    }
    let mut root = Root::new(std::mem::take(tree), engine.store, epoch);
    root.put("/etc/machine-id", "").map_err(crate::compose::settled)?;
    // Logs begin empty.
    let logs: Vec<String> = root
        .below(&root.resolve("/var/log", true).map_err(crate::compose::settled)?)
        .filter(|(_, e)| matches!(e.kind, Kind::File { size: 1.., .. }))
        .map(|(p, _)| p.to_string())
        .collect();
    for log in logs {
        let entry = root.entry(&log).cloned();
        let (mode, owner) = entry.map_or((0o644, (0, 0)), |e| (e.mode, (e.uid, e.gid)));
        root.write(&log, "", mode, owner).map_err(crate::compose::settled)?;
    }
    // The day of the last change is the day of the build.
    for file in ["/etc/shadow", "/etc/gshadow"] {
        let Some(entry) = root.entry(file).cloned() else { continue };
        if file == "/etc/shadow" {
            let text = root.text(file).map_err(crate::compose::settled)?;
            let calmed: String = text
                .lines()
                .map(|line| {
                    let mut fields: Vec<&str> = line.split(':').collect();
                    if let Some(day) = fields.get_mut(2) {
                        *day = "";
                    }
                    fields.join(":") + "\n"
                })
                .collect();
            root.write(file, calmed, entry.mode, (entry.uid, entry.gid)).map_err(crate::compose::settled)?;
        }
    }
    *tree = root.tree;
    Ok(())
}

enum RunError {
    Failed { how: String, tail: Vec<String>, log: PathBuf },
    Engine(EngineError),
}

impl From<EngineError> for RunError {
    fn from(error: EngineError) -> Self {
        RunError::Engine(error)
    }
}

/// Runs a shell script inside a root; the root it leaves.
fn run_in(
    engine: &Engine<'_>,
    image: &PlannedImage,
    tree: &Tree,
    script: &str,
    limit: Duration,
) -> std::result::Result<Tree, RunError> {
    let epoch = engine.workspace.def.epoch.0;
    let work = engine.store.workplace().map_err(EngineError::from)?;
    let (scratch, dir, log_path) = (work.path().join("scratch"), work.path().join("root"), work.path().join("log"));
    std::fs::create_dir(&scratch).doing("make", &scratch)?;
    std::fs::create_dir(&dir).doing("make", &dir)?;
    // Devices are declared, not made: an ordinary user cannot.
    let device = |e: &Entry| matches!(e.kind, Kind::CharDevice { .. } | Kind::BlockDevice { .. });
    let mut plain: Tree = tree.clone().into_iter().filter(|(_, e)| !device(e)).collect();
    for place in COVERED {
        if let Ok(path) = TreePath::new(place)
            && plain.get(&path).is_none()
        {
            plain.insert(path, Entry::directory());
        }
    }
    plain.add_missing_directories(epoch);
    engine.store.copy_out(&plain, &dir).map_err(EngineError::from)?;
    let who = Who::caller();
    let users = if who == Who::One { Users::One } else { Users::Many };
    let environment: BTreeMap<String, String> = [
        ("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"),
        ("HOME", "/root"),
        ("LC_ALL", "C.UTF-8"),
        ("TZ", "UTC"),
        ("IMAGE_ID", &image.target.image),
        ("IMAGE_VERSION", &image.image.def.version),
        ("SOURCE_DATE_EPOCH", &epoch.to_string()),
    ]
    .map(|(name, value)| (name.to_string(), value.to_string()))
    .into();
    let mut log = File::create(&log_path).doing("write", &log_path)?;
    let step = |script: String, limit: Duration| Step {
        root: Some(dir.clone()),
        users: users.clone(),
        scratch: scratch.clone(),
        fixtures: vec![],
        command: ["/bin/sh", "-c", script.as_str()].map(String::from).into(),
        environment: environment.clone(),
        directory: "/".into(),
        hostname: "embrak".into(),
        umask: 0o022,
        random_addresses: false,
        limit,
    };
    let run = |step: &Step, output: &File| -> std::result::Result<Outcome, RunError> {
        embrak_sandbox::run(step, output, engine.stop).map_err(|e| RunError::Engine(e.into()))
    };
    let done = (|| {
        modes_outside(&plain, &dir, who == Who::Root)?;
        if who == Who::Many {
            // Owners, as the root has them.
            let outcome = run(&step(owners(&plain), Duration::from_secs(300)), &log)?;
            check(engine, outcome, &log_path, Duration::from_secs(300))?;
        }
        {
            use std::io::Write;
            writeln!(log, "== start").doing("write", &log_path)?;
        }
        let file = work.path().join("root").join(".embrak-script");
        std::fs::write(&file, script).doing("write", &file)?;
        let mut whole = step(String::new(), limit);
        whole.command = ["/bin/sh", "/.embrak-script"].map(String::from).into();
        let outcome = run(&whole, &log)?;
        check(engine, outcome, &log_path, limit)?;
        capture(engine, &dir, work.path(), who, &step, &run)
    })();
    if who == Who::Many {
        // Files of other users can only be removed from inside.
        let _ = run(&step("rm -rf /[!d]* /[d][!e]* 2>/dev/null; :".into(), Duration::from_secs(300)), &log);
    }
    let mut after = done?;
    for path in ["/.embrak-script"] {
        if let Ok(path) = path.parse() {
            after.remove(&path);
        }
    }
    settle_times(&mut after, tree, epoch);
    for (path, entry) in tree.iter().filter(|(_, e)| device(e)) {
        after.insert(path.clone(), entry.clone());
    }
    Ok(after)
}

fn check(engine: &Engine<'_>, outcome: Outcome, log: &Path, limit: Duration) -> std::result::Result<(), RunError> {
    let how = match outcome {
        Outcome::Exited(0) => return Ok(()),
        Outcome::Stopped => return Err(RunError::Engine(EngineError::Interrupted)),
        Outcome::Exited(status) => format!("ended with status {status}"),
        Outcome::Signalled(signal) => format!("was killed by signal {signal}"),
        Outcome::TimedOut => format!("took longer than the {} seconds of its limit", limit.as_secs()),
    };
    let text = String::from_utf8_lossy(&std::fs::read(log).doing("read", log)?).into_owned();
    let lines: Vec<&str> = text.lines().collect();
    let tail = lines[lines.len().saturating_sub(12)..].iter().map(|l| (*l).to_string()).collect();
    let (digest, _) = engine.store.put_file(log).map_err(EngineError::from)?;
    Err(RunError::Failed { how, tail, log: engine.store.object_path(&digest) })
}

fn quoted(bytes: &[u8]) -> String {
    format!("'{}'", String::from_utf8_lossy(bytes).replace('\'', "'\\''"))
}

/// Places that are covered while programs run.
const COVERED: [&str; 5] = ["/dev", "/proc", "/sys", "/run", "/tmp"];

/// Whether a path is such a place or lies below one.
fn is_covered(path: &TreePath) -> bool {
    let below = |place: &&str| {
        path.as_bytes().strip_prefix(place.as_bytes()).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
    };
    COVERED.iter().any(below)
}

/// What a caller can do with users inside.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Who {
    /// Everything, from outside too.
    Root,
    /// Many users, but only inside.
    Many,
    /// One user.
    One,
}

impl Who {
    fn caller() -> Self {
        use std::os::unix::fs::MetadataExt;
        // The owner of one's own process is who one is.
        let root = std::fs::metadata("/proc/self").is_ok_and(|m| m.uid() == 0);
        match (root, embrak_sandbox::many_users()) {
            (true, Ok(())) => Who::Root,
            (_, Ok(())) => Who::Many,
            _ => Who::One,
        }
    }
}

/// Sets modes, which copying out leaves to the caller's umask, and for root owners.
fn modes_outside(tree: &Tree, dir: &Path, owners: bool) -> Result<()> {
    use std::os::unix::ffi::OsStrExt;
    use std::os::unix::fs::{PermissionsExt, lchown};
    // What is in a directory first: the directory itself may become closed.
    for (path, entry) in tree.iter().collect::<Vec<_>>().into_iter().rev() {
        let host = dir.join(std::ffi::OsStr::from_bytes(path.relative()));
        if owners && (entry.uid, entry.gid) != (0, 0) {
            lchown(&host, Some(entry.uid), Some(entry.gid)).doing("give away", &host)?;
        }
        let plain = matches!(entry.kind, Kind::File { .. }) && matches!(entry.mode, 0o644 | 0o755);
        if !plain && !matches!(entry.kind, Kind::Symlink { .. } | Kind::Hardlink { .. }) {
            std::fs::set_permissions(&host, std::fs::Permissions::from_mode(entry.mode))
                .doing("set the mode of", &host)?;
        }
    }
    Ok(())
}

/// A script that gives files to whom they belong; changing the owner takes special bits away, so they are set again.
fn owners(tree: &Tree) -> String {
    let mut out = String::from("set -e\n");
    for (path, entry) in tree.iter().filter(|(path, _)| !is_covered(path)) {
        if (entry.uid, entry.gid) != (0, 0) {
            let file = quoted(path.as_bytes());
            out += &format!("chown -h {}:{} {file}\n", entry.uid, entry.gid);
            if !matches!(entry.kind, Kind::Symlink { .. } | Kind::Hardlink { .. }) {
                out += &format!("chmod {:o} {file}\n", entry.mode);
            }
        }
    }
    out
}

type RunStep<'a> = dyn Fn(&Step, &File) -> std::result::Result<Outcome, RunError> + 'a;

/// Reads back what lies in a root: as its own `tar` sees it, or as it lies.
fn capture(
    engine: &Engine<'_>,
    dir: &Path,
    work: &Path,
    who: Who,
    step: &dyn Fn(String, Duration) -> Step,
    run: &RunStep<'_>,
) -> std::result::Result<Tree, RunError> {
    let tar = ["bin/tar", "usr/bin/tar"].iter().any(|p| dir.join(p).is_file());
    let archive = work.join("capture");
    if tar && who != Who::One {
        let file = File::create(&archive).doing("write", &archive)?;
        let script = "exec tar --create --format=posix --numeric-owner --xattrs --xattrs-include='*' --one-file-system \
                      --sort=name --directory=/ --file=- . 2>/tmp/said";
        let limit = Duration::from_secs(900);
        let outcome = run(&step(script.into(), limit), &file)?;
        if outcome != Outcome::Exited(0) {
            return Err(RunError::Engine(EngineError::other(
                format!("the root cannot be read back: its tar {outcome:?}"),
                "look whether the image's tar is a usual one",
            )));
        }
        let input = std::io::BufReader::with_capacity(1 << 20, File::open(&archive).doing("read", &archive)?);
        let mut tree = embrak_tree::tar::read_tree(input, engine.store)
            .map_err(|e| EngineError::other(format!("the root cannot be read back: {e}"), ""))?;
        let mounts: Vec<TreePath> = tree
            .iter()
            .filter(|(p, _)| is_covered(p) && !COVERED.iter().any(|c| p.as_bytes() == c.as_bytes()))
            .map(|(p, _)| p.clone())
            .collect();
        for path in mounts {
            tree.remove(&path);
        }
        return Ok(tree);
    }
    Ok(sources::directory_tree(
        sources::Contents::Keep(engine.store),
        dir,
        engine.workspace.def.epoch.0,
        if who == Who::Root { sources::Metadata::Owners } else { sources::Metadata::Modes },
    )?)
}

/// What has not changed keeps its time and, when only one user was there, its owner; what has is of the epoch.
fn settle_times(after: &mut Tree, before: &Tree, epoch: i64) {
    let single = Who::caller() == Who::One;
    for (path, entry) in after.iter_mut() {
        let old = before.get(path);
        let same = old.is_some_and(|old| old.kind == entry.kind);
        entry.mtime = old.filter(|_| same).map_or(epoch, |old| old.mtime);
        if let (true, Some(old)) = (single, old) {
            (entry.uid, entry.gid) = (old.uid, old.gid);
            if same {
                entry.mode = old.mode;
            }
        }
        // Read back without an archive, attributes are not seen.
        if let (true, true, Some(old)) = (same, entry.xattrs.is_empty(), old) {
            entry.xattrs = old.xattrs.clone();
        }
    }
    // Places that are covered while programs run are as they were.
    for place in COVERED {
        let Ok(path) = TreePath::new(place) else { continue };
        match before.get(&path) {
            Some(entry) => {
                after.insert(path, entry.clone());
            }
            None => {
                after.remove(&path);
            }
        }
    }
    for (path, entry) in before.iter() {
        if is_covered(path) {
            after.insert(path.clone(), entry.clone());
        }
    }
}
