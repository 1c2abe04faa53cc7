//! Composing a root: packages merged and settled, overlays, files, users, settings, finishing steps, identity.

use crate::error::{EngineError, Result};
use crate::finish;
use crate::package::PackageInfo;
use crate::plan::{Plan, PlannedImage, disk_of};
use crate::{Engine, build, kernel, sources};
use embrak_model::definitions::{FilesystemKind, ImageDef, PartitionDef, Scripts};
use embrak_model::{Located, SizeSpec};
use embrak_resolve::{Requirement, Version};
use embrak_root::{Accounts, Installed, PackageScripts, Report, Root, RootError, User};
use embrak_tree::{BlobSource, Digest, Entry, Kind, Tree, TreePath, merge, overlay};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Version of how packages are settled; a change that changes roots is a new version.
pub(crate) const COMPOSE_VERSION: u32 = 1;

/// A composed root.
pub(crate) struct Composed {
    pub(crate) tree: Tree,
    pub(crate) digest: Digest,
    pub(crate) accounts: Accounts,
    pub(crate) report: Report,
}

impl Composed {
    /// `user:group`, each by name or number.
    pub(crate) fn owner(&self, owner: &Located<String>) -> Result<(u32, u32)> {
        owner_of(&self.accounts, owner)
    }
}

fn owner_of(accounts: &Accounts, owner: &Located<String>) -> Result<(u32, u32)> {
    match accounts.owner(&owner.value) {
        Some((Some(uid), Some(gid))) => Ok((uid, gid)),
        Some((None, Some(gid))) => Ok((0, gid)),
        Some((Some(uid), None)) => Ok((uid, accounts.users.iter().find(|u| u.uid == uid).map_or(uid, |u| u.gid))),
        _ => {
            let users: Vec<&str> = accounts.users.iter().map(|u| u.name.as_str()).collect();
            let groups: Vec<&str> = accounts.groups.iter().map(|g| g.name.as_str()).collect();
            Err(EngineError::Definition {
                message: format!("{}: there is no user or group `{}` in this image", owner.at, owner.value),
                help: format!(
                    "there are the users {} and the groups {}; add it under [users] or [groups], or write a number",
                    users.join(", "),
                    groups.join(", ")
                ),
            })
        }
    }
}

pub(crate) fn settled(error: RootError) -> EngineError {
    EngineError::other(
        error.to_string(),
        "look at the package or overlay the file is from; `embrak store check` tells whether it is damaged here",
    )
}

/// Packages merged and settled, as the action cache keeps it.
#[derive(Serialize, Deserialize)]
struct Settled {
    tree: Digest,
    report: serde_json::Value,
}

/// Composes an image's root. The order: packages with their scripts, overlays, users, settings, files, services, caches,
/// finishing steps, identity; what comes later may replace what came before, but two packages never replace one another.
pub(crate) fn compose(
    engine: &Engine<'_>,
    plan: &Plan,
    image: &PlannedImage,
    packages: &[PackageInfo],
) -> Result<Composed> {
    let key = Digest::of(
        serde_json::json!({
            "compose": COMPOSE_VERSION,
            "input": image.locked.input,
            "target": image.target.label(),
            "packages": packages.iter().map(|p| (&p.name, &p.version, p.tree)).collect::<Vec<_>>(),
        })
        .to_string(),
    );
    let known = engine.store.action(&key)?.and_then(|text| serde_json::from_str::<Settled>(&text).ok());
    if let Some((tree, report)) = known.and_then(|k| {
        let report = report_of(&k.report)?;
        Some((sources::get_tree(engine.store, &k.tree).ok()?, report))
    }) {
        let digest = tree.digest();
        let root = Root::new(tree, engine.store, 0);
        let accounts = Accounts::read(&root).map_err(settled)?;
        return Ok(Composed { tree: root.tree, digest, accounts, report });
    }
    let composed = compose_anew(engine, plan, image, packages)?;
    let row = Settled { tree: composed.digest, report: serde_json::to_value(&composed.report).unwrap_or_default() };
    let mut objects: BTreeSet<Digest> = [composed.digest].into();
    objects.extend(composed.tree.blobs().map(|(digest, _)| digest));
    engine.store.record_action(&key, &serde_json::to_string(&row).unwrap_or_default(), &objects)?;
    Ok(composed)
}

fn report_of(value: &serde_json::Value) -> Option<Report> {
    serde_json::from_value(value.clone()).ok()
}

fn compose_anew(engine: &Engine<'_>, plan: &Plan, image: &PlannedImage, packages: &[PackageInfo]) -> Result<Composed> {
    let workspace = engine.workspace;
    let def = &image.image.def;
    let epoch = workspace.def.epoch.0;
    let (tree, report) = settle_packages(engine, image, packages)?;
    let mut root = Root::new(tree, engine.store, epoch);
    let ready_made = packages.iter().any(|p| p.ready_made.is_some());
    let mut changed = false;
    for tree in &image.overlays {
        let mut tree = tree.clone();
        if ready_made {
            embrak_root::merge_usr(&mut tree, epoch);
            // A link where the root has one already says nothing new.
            for name in ["bin", "sbin", "lib", "lib32", "lib64", "libx32"] {
                if let Ok(path) = TreePath::new(format!("/{name}")) {
                    tree.remove(&path);
                }
            }
        }
        changed |= tree.iter().any(|(path, entry)| !entry.is_directory() && touches_caches(path));
        overlay(&mut root.tree, &tree);
    }
    root.tree.remove(&TreePath::root());
    let mut accounts = users(&mut root, def)?;
    settings(&mut root, image, ready_made)?;
    for file in &image.files {
        let owner = file.owner.as_ref().map_or(Ok((0, 0)), |o| owner_of(&accounts, o))?;
        root.write(&file.path, &file.bytes, file.mode, owner).map_err(settled)?;
        changed |= TreePath::new(&file.path).is_ok_and(|p| touches_caches(&p));
    }
    services(&mut root, def)?;
    let mut report = report;
    if ready_made && changed {
        embrak_root::caches(&mut root, &mut report).map_err(settled)?;
    }
    fix_known_parents(&mut root.tree, epoch);
    if !def.finish.is_empty() {
        root.tree.add_missing_directories(epoch);
        root.tree = finish::finish(engine, image, root.tree)?;
        accounts = Accounts::read(&root).map_err(settled)?;
    }
    identity(&mut root, engine, image, packages, plan)?;
    let mut tree = root.tree;
    tree.add_missing_directories(epoch);
    check_parents(&tree, image)?;
    check_paths(def, &tree)?;
    let digest = sources::put_tree(engine.store, &tree)?;
    Ok(Composed { tree, digest, accounts, report })
}

/// Whether something at a path can change what is made of all such files together.
fn touches_caches(path: &TreePath) -> bool {
    const PLACES: [&str; 8] = [
        "/usr/lib/",
        "/usr/local/lib/",
        "/lib/",
        "/etc/ld.so",
        "/usr/share/ca-certificates/",
        "/usr/local/share/ca-certificates/",
        "/etc/ca-certificates.conf",
        "/usr/share/pam",
    ];
    let text = path.as_bytes();
    let units = text.starts_with(b"/usr/lib/systemd/") || text.starts_with(b"/usr/lib/sysusers.d/");
    !units && PLACES.iter().any(|p| text.starts_with(p.as_bytes()))
}

/// Packages merged, their scripts followed or run, caches and database written: the part that does not change as long as
/// no package does.
fn settle_packages(engine: &Engine<'_>, image: &PlannedImage, packages: &[PackageInfo]) -> Result<(Tree, Report)> {
    let epoch = engine.workspace.def.epoch.0;
    let mut trees = Vec::new();
    for package in packages {
        trees.push((format!("{} {}", package.name, package.version), sources::get_tree(engine.store, &package.tree)?));
    }
    settle_ready_made(packages, &mut trees, epoch);
    let merged = merge(trees.iter().map(|(name, tree)| (name.as_str(), tree)))
        .map_err(|conflicts| EngineError::Conflicts { image: format!("image {}", image.target.image), conflicts })?;
    if !packages.iter().any(|p| p.ready_made.is_some()) {
        return Ok((merged.tree, Report::default()));
    }
    let def = &image.image.def;
    let all: Vec<_> =
        packages.iter().map(|p| (&p.name, &p.version, p.tree, p.ready_made.as_ref().map(|r| r.control))).collect();
    let key = Digest::of(
        serde_json::json!({
            "settle": COMPOSE_VERSION, "epoch": epoch, "scripts": def.scripts, "packages": all,
            "sandbox": build::SANDBOX_VERSION,
        })
        .to_string(),
    );
    let known = engine.store.action(&key)?.and_then(|text| serde_json::from_str::<Settled>(&text).ok());
    if let Some(found) =
        known.and_then(|k| Some((sources::get_tree(engine.store, &k.tree).ok()?, report_of(&k.report)?)))
    {
        return Ok(found);
    }
    let mut tree = merged.tree;
    tree.add_missing_directories(epoch);
    embrak_root::merge_usr(&mut tree, epoch);
    // What runs may still bring what is missing; without it that is told before the long work.
    if def.scripts == Scripts::Declared && def.finish.is_empty() {
        let mut there = tree.clone();
        for over in &image.overlays {
            let mut over = over.clone();
            embrak_root::merge_usr(&mut over, epoch);
            overlay(&mut there, &over);
        }
        kernel::can_start(image, &Root::new(there, engine.store, epoch))?;
    }
    let mut root = Root::new(tree, engine.store, epoch);
    let mut controls = Vec::new();
    for package in packages {
        let control = package.ready_made.as_ref().map(|r| sources::get_tree(engine.store, &r.control)).transpose()?;
        controls.push(control.unwrap_or_default());
    }
    let order = installation_order(packages);
    let installed: Vec<Installed<'_>> = order
        .iter()
        .filter(|&&n| packages[n].ready_made.is_some())
        .map(|&n| Installed { name: &packages[n].name, files: &trees[n].1, control: &controls[n] })
        .collect();
    let report = match def.scripts {
        Scripts::Declared => {
            let text = |control: &Tree, name: &str| -> Option<String> {
                let entry = control.get(&TreePath::new(format!("/{name}")).ok()?)?;
                let Kind::File { digest, .. } = entry.kind else { return None };
                Some(String::from_utf8_lossy(&engine.store.read(&digest).ok()?).into_owned())
            };
            let scripts: Vec<PackageScripts<'_>> = installed
                .iter()
                .map(|p| PackageScripts {
                    package: p.name,
                    architecture: debian_architecture(image),
                    tree: p.files,
                    preinst: text(p.control, "preinst"),
                    postinst: text(p.control, "postinst"),
                    templates: text(p.control, "templates"),
                })
                .collect();
            let mut accounts = Accounts::read(&root).map_err(settled)?;
            let mut report = embrak_root::settle(&mut root, &mut accounts, &scripts).map_err(settled)?;
            accounts.declared(&root).map_err(settled)?;
            accounts.write(&mut root).map_err(settled)?;
            embrak_root::apply(&mut root, &report).map_err(settled)?;
            embrak_root::caches(&mut root, &mut report).map_err(settled)?;
            embrak_root::write_database(&mut root, &installed, &report).map_err(settled)?;
            // Nobody's yet: the system gives itself one when it starts.
            root.put("/etc/machine-id", "").map_err(settled)?;
            report
        }
        Scripts::Run => {
            embrak_root::write_database(&mut root, &installed, &Report::default()).map_err(settled)?;
            let (tree, report) = finish::run_scripts(engine, image, root.tree, &installed)?;
            root.tree = tree;
            report
        }
    };
    let tree = root.tree;
    let row = Settled {
        tree: sources::put_tree(engine.store, &tree)?,
        report: serde_json::to_value(&report).unwrap_or_default(),
    };
    let mut objects: BTreeSet<Digest> = [row.tree].into();
    objects.extend(tree.blobs().map(|(digest, _)| digest));
    engine.store.record_action(&key, &serde_json::to_string(&row).unwrap_or_default(), &objects)?;
    Ok((tree, report))
}

/// What distributions of that format call an image's architecture.
pub(crate) fn debian_architecture(image: &PlannedImage) -> &'static str {
    use embrak_model::definitions::Architecture;
    match image.target.architecture {
        Architecture::X86_64 => "amd64",
        Architecture::Aarch64 => "arm64",
        Architecture::Armv7 => "armhf",
        Architecture::Riscv64 => "riscv64",
    }
}

/// Packages by their places in the list, each behind what it needs; circles are cut where names come first.
pub(crate) fn installation_order(packages: &[PackageInfo]) -> Vec<usize> {
    let mut makers: BTreeMap<String, usize> = BTreeMap::new();
    for (n, package) in packages.iter().enumerate() {
        for provided in &package.provides {
            if let Ok(r) = provided.parse::<Requirement>() {
                makers.entry(r.name).or_insert(n);
            }
        }
    }
    for (n, package) in packages.iter().enumerate() {
        makers.insert(package.name.clone(), n);
    }
    let needs: Vec<Vec<usize>> = packages
        .iter()
        .map(|p| {
            let wanted = p.requires.iter().filter_map(|r| r.parse::<embrak_resolve::Alternatives>().ok());
            wanted.filter_map(|a| a.0.iter().find_map(|r| makers.get(&r.name).copied())).collect()
        })
        .collect();
    fn visit(n: usize, needs: &[Vec<usize>], seen: &mut [bool], out: &mut Vec<usize>) {
        if std::mem::replace(&mut seen[n], true) {
            return;
        }
        for &need in &needs[n] {
            visit(need, needs, seen, out);
        }
        out.push(n);
    }
    let mut by_name: Vec<usize> = (0..packages.len()).collect();
    // What everything takes for granted without saying so.
    let rank = |n: &usize| match packages[*n].name.as_str() {
        "base-passwd" | "base-files" => 0,
        "libc6" | "dash" | "coreutils" => 1,
        _ => 2,
    };
    by_name.sort_by(|a, b| rank(a).cmp(&rank(b)).then_with(|| packages[*a].name.cmp(&packages[*b].name)));
    let (mut seen, mut out) = (vec![false; packages.len()], Vec::new());
    for n in by_name {
        visit(n, &needs, &mut seen, &mut out);
    }
    out
}

/// Directories that come only with files of the image are root's and plain.
fn fix_known_parents(tree: &mut Tree, epoch: i64) {
    tree.add_missing_directories(epoch);
    tree.remove(&TreePath::root());
}

/// Makes the trees of ready-made packages go together where their own rules say how: files that one package may
/// replace are taken out of the other; a directory several packages bring is as the first of them has it; nothing is
/// newer than the epoch.
pub(crate) fn settle_ready_made(packages: &[PackageInfo], trees: &mut [(String, Tree)], epoch: i64) {
    let mut owners: BTreeMap<TreePath, Vec<usize>> = BTreeMap::new();
    for (number, (package, (_, tree))) in packages.iter().zip(trees.iter_mut()).enumerate() {
        if package.ready_made.is_none() {
            continue;
        }
        for (path, entry) in tree.iter_mut() {
            entry.mtime = entry.mtime.min(epoch);
            owners.entry(path.clone()).or_default().push(number);
        }
    }
    owners.retain(|_, numbers| numbers.len() > 1);
    let may_replace = |by: usize, other: usize| {
        let allowed = packages[by].ready_made.iter().flat_map(|r| &r.replaces);
        let version = packages[other].version.parse::<Version>().ok();
        allowed
            .filter_map(|text| text.parse::<Requirement>().ok())
            .any(|r| r.name == packages[other].name && r.admits(version.as_ref()))
    };
    for (path, numbers) in owners {
        let directories = numbers.iter().all(|&n| trees[n].1.get(&path).is_some_and(Entry::is_directory));
        if directories {
            let Some(mut first) = trees[numbers[0]].1.get(&path).cloned() else { continue };
            first.mtime = numbers.iter().filter_map(|&n| trees[n].1.get(&path)).map(|e| e.mtime).max().unwrap_or(epoch);
            for &n in &numbers {
                trees[n].1.insert(path.clone(), first.clone());
            }
            continue;
        }
        for &other in &numbers {
            if numbers.iter().any(|&by| by != other && may_replace(by, other) && !may_replace(other, by)) {
                trees[other].1.remove(&path);
            }
        }
    }
}

/// Everything has to lie in a directory.
fn check_parents(tree: &Tree, image: &PlannedImage) -> Result<()> {
    for (path, _) in tree.iter() {
        if let Some(parent) = path.parent()
            && let Some(entry) = tree.get(&parent)
            && !entry.is_directory()
        {
            let kind = entry.kind.name();
            return Err(EngineError::other(
                format!("image {}: {path} lies below {parent}, which is a {kind}", image.target.image),
                "one of them has to go elsewhere",
            ));
        }
    }
    Ok(())
}

/// The checks of the definition that speak of paths.
fn check_paths(def: &ImageDef, tree: &Tree) -> Result<()> {
    for check in &def.check {
        for (pattern, wanted) in [(&check.absent, false), (&check.present, true)] {
            let Some(pattern) = pattern else { continue };
            let globs = build::globs([pattern.value.as_str()])?;
            let found = tree.iter().find(|(path, _)| globs.is_match(path.to_string()));
            let message = match (found, wanted) {
                (Some((path, _)), false) => {
                    format!("check failed: {path} is in the image, and `{}` has to be absent", pattern.value)
                }
                (None, true) => {
                    format!("check failed: nothing in the image matches `{}`, which has to be present", pattern.value)
                }
                _ => continue,
            };
            return Err(EngineError::Definition { message, help: format!("the check is written at {}", pattern.at) });
        }
    }
    Ok(())
}

/// Users, groups, home directories and SSH keys.
fn users(root: &mut Root<'_>, def: &ImageDef) -> Result<Accounts> {
    let mut accounts = Accounts::read(root).map_err(settled)?;
    if def.users.is_empty() && def.groups.is_empty() {
        return Ok(accounts);
    }
    for (name, group) in &def.groups {
        accounts.add_group(name, group.gid);
    }
    for (name, user) in &def.users {
        let known = accounts.user(name).cloned();
        let locked = |p: &str| if p == "locked" { "!".to_string() } else { p.to_string() };
        let password = user.password.as_ref().map(|p| locked(&p.value));
        if known.is_none() {
            let home = user.home.as_ref().map_or_else(|| format!("/home/{name}"), |h| h.value.clone());
            accounts.add_system_user(name, user.uid, None, &home, user.shell.as_deref().unwrap_or("/bin/sh"));
        }
        let Some(made) = accounts.user(name).cloned() else { continue };
        let made = User {
            uid: user.uid.unwrap_or(made.uid),
            home: user.home.as_ref().map_or(made.home, |h| h.value.clone()),
            shell: user.shell.clone().unwrap_or(made.shell),
            password: password.unwrap_or(if known.is_some() { made.password } else { "!".into() }),
            ..made
        };
        let (home, owner) = (made.home.clone(), (made.uid, made.gid));
        accounts.add_user(made);
        for group in &user.groups {
            accounts.add_member(name, &group.value);
        }
        root.directory(&home, 0o750, owner).map_err(settled)?;
        if !user.ssh_keys.is_empty() {
            root.directory(&format!("{home}/.ssh"), 0o700, owner).map_err(settled)?;
            let keys = user.ssh_keys.join("\n") + "\n";
            root.write(&format!("{home}/.ssh/authorized_keys"), keys, 0o600, owner).map_err(settled)?;
        }
    }
    accounts.write(root).map_err(settled)?;
    Ok(accounts)
}

fn settings(root: &mut Root<'_>, image: &PlannedImage, ready_made: bool) -> Result<()> {
    let system = &image.image.def.system;
    let mut put = |path: &str, text: String| root.put(path, text).map_err(settled);
    if let Some(hostname) = &system.hostname {
        put("/etc/hostname", format!("{}\n", hostname.value))?;
        if ready_made {
            put(
                "/etc/hosts",
                format!(
                    "127.0.0.1 localhost\n127.0.1.1 {}\n::1 localhost ip6-localhost ip6-loopback\n",
                    hostname.value
                ),
            )?;
        }
    }
    if let Some(locale) = &system.locale {
        put("/etc/locale.conf", format!("LANG={}\n", locale.value))?;
        if ready_made {
            put("/etc/default/locale", format!("LANG={}\n", locale.value))?;
        }
    }
    if !system.sysctl.is_empty() {
        let lines: String = system.sysctl.iter().map(|(name, value)| format!("{name} = {value}\n")).collect();
        put("/etc/sysctl.d/50-image.conf", lines)?;
    }
    if !system.modules.is_empty() {
        let lines: String = system.modules.iter().map(|m| format!("{}\n", m.value)).collect();
        put("/etc/modules-load.d/image.conf", lines)?;
    }
    if let Some(timezone) = &system.timezone {
        let zone = format!("/usr/share/zoneinfo/{}", timezone.value);
        if ready_made && root.entry(&zone).is_none() && timezone.value != "UTC" {
            return Err(EngineError::Definition {
                message: format!("there is no time zone {} in this image", timezone.value),
                help: format!("add the package with the time zones, tzdata; written at {}", timezone.at),
            });
        }
        root.link("/etc/localtime", &format!("../usr/share/zoneinfo/{}", timezone.value)).map_err(settled)?;
        if ready_made {
            root.put("/etc/timezone", format!("{}\n", timezone.value)).map_err(settled)?;
        }
    }
    mounts(root, image)
}

/// fstab(5) for the partitions that are mounted, and what lets them grow at the first start (repart.d(5)).
fn mounts(root: &mut Root<'_>, image: &PlannedImage) -> Result<()> {
    let Some(disk) = disk_of(&image.image, image.board.as_ref()) else { return Ok(()) };
    let system = |p: &PartitionDef| p.filesystem.value == FilesystemKind::Ext4;
    if !disk.partition.iter().any(|p| system(p) && p.mount.as_ref().is_some_and(|m| m.value == "/")) {
        return Ok(());
    }
    let seed = crate::outputs::seed_of(image);
    let mut lines = String::from("# Written by Embrak from the image's [disk].\n");
    for (number, partition) in disk.partition.iter().enumerate() {
        let Some(mount) = &partition.mount else { continue };
        let guid = embrak_disk::Guid::derived(&seed, &format!("partition {}", number + 1));
        let (kind, usual) = match partition.filesystem.value {
            FilesystemKind::Ext4 => ("ext4", "defaults"),
            FilesystemKind::Fat => ("vfat", "umask=0077"),
            FilesystemKind::None => continue,
        };
        let mut options: Vec<&str> = partition.mount_options.iter().map(String::as_str).collect();
        if options.is_empty() {
            options.push(usual);
        }
        if partition.grow {
            options.push("x-systemd.growfs");
        }
        let pass = if mount.value == "/" { 1 } else { 2 };
        lines += &format!("PARTUUID={guid} {} {kind} {} 0 {pass}\n", mount.value, options.join(","));
        root.directory(&mount.value, 0o755, (0, 0)).map_err(settled)?;
    }
    if !root.exists("/etc/fstab") || root.text("/etc/fstab").map_err(settled)?.lines().all(|l| l.starts_with('#')) {
        root.put("/etc/fstab", lines).map_err(settled)?;
    }
    if disk.partition.iter().any(|p| p.grow) {
        for (number, partition) in disk.partition.iter().enumerate() {
            let kind = embrak_disk::partition_type(&partition.kind.value, image.target.architecture.as_str()).map_err(
                |message| EngineError::Definition { message, help: format!("written at {}", partition.kind.at) },
            )?;
            // What is not to grow stays as large as it is.
            let weight = if partition.grow { 1000 } else { 0 };
            let mut text = format!("[Partition]\nType={kind}\nLabel={}\nWeight={weight}\n", partition.label.value);
            if let (SizeSpec::Fixed(size), false) = (partition.size.value, partition.grow) {
                text += &format!("SizeMinBytes={0}\nSizeMaxBytes={0}\n", size.0);
            }
            let path = format!("/usr/lib/repart.d/{:02}-{}.conf", number + 1, partition.label.value);
            root.put(&path, text).map_err(settled)?;
        }
    }
    Ok(())
}

fn services(root: &mut Root<'_>, def: &ImageDef) -> Result<()> {
    let missing = |unit: &Located<String>| EngineError::Definition {
        message: format!("there is no unit {} in this image", unit.value),
        help: format!("add the package or overlay that has it, or correct the name; written at {}", unit.at),
    };
    for unit in &def.services.enable {
        if !embrak_root::enable(root, &unit.value).map_err(settled)? {
            return Err(missing(unit));
        }
    }
    for unit in &def.services.disable {
        if !embrak_root::disable(root, &unit.value).map_err(settled)? {
            return Err(missing(unit));
        }
    }
    for unit in &def.services.mask {
        embrak_root::mask(root, &unit.value).map_err(settled)?;
    }
    Ok(())
}

/// os-release(5) with `IMAGE_ID` and `IMAGE_VERSION`, and `/usr/lib/embrak/image.json`.
fn identity(
    root: &mut Root<'_>,
    engine: &Engine<'_>,
    image: &PlannedImage,
    packages: &[PackageInfo],
    plan: &Plan,
) -> Result<()> {
    let (name, def) = (&image.target.image, &image.image.def);
    let mut release = root.text("/usr/lib/os-release").map_err(settled)?;
    if release.is_empty() {
        let title = if def.summary.is_empty() { name } else { &def.summary };
        release = format!(
            "ID={}\nNAME=\"{name}\"\nPRETTY_NAME=\"{}\"\n",
            engine.workspace.def.workspace,
            title.replace('"', "'")
        );
    }
    let kept: String = release
        .lines()
        .filter(|l| !l.starts_with("IMAGE_") && !l.starts_with("EMBRAK_"))
        .map(|l| format!("{l}\n"))
        .collect();
    let release =
        format!("{kept}IMAGE_ID={name}\nIMAGE_VERSION={}\nEMBRAK_INPUT={}\n", def.version, image.locked.input);
    root.put("/usr/lib/os-release", release).map_err(settled)?;
    let packages: Vec<_> =
        packages.iter().map(|p| serde_json::json!({ "name": p.name, "version": p.version, "tree": p.tree })).collect();
    let identity = serde_json::json!({
        "embrakImage": 1,
        "image": name,
        "version": def.version,
        "target": image.target.label(),
        "input": image.locked.input,
        "epoch": root.epoch,
        "writers": plan.lock.writers,
        "packages": packages,
    });
    let text = serde_json::to_string_pretty(&identity).unwrap_or_default() + "\n";
    root.put("/usr/lib/embrak/image.json", text).map_err(settled)
}
