//! Composing a root: packages merged, overlays, files, users, settings, identity.

use crate::error::{EngineError, Result};
use crate::package::PackageInfo;
use crate::plan::{Plan, PlannedImage};
use crate::{Engine, build, sources};
use embrak_model::Located;
use embrak_model::definitions::ImageDef;
use embrak_resolve::{Requirement, Version};
use embrak_tree::{BlobSource, Digest, Entry, Kind, Tree, TreePath, merge, overlay};
use std::collections::{BTreeMap, BTreeSet};

/// A composed root.
pub(crate) struct Composed {
    pub(crate) tree: Tree,
    pub(crate) digest: Digest,
    pub(crate) users: Users,
}

/// User and group numbers by name.
#[derive(Debug, Clone, Default)]
pub(crate) struct Users {
    pub(crate) users: BTreeMap<String, (u32, u32)>,
    pub(crate) groups: BTreeMap<String, u32>,
}

/// The first number given to groups that users are in but nobody has numbered.
const FIRST_GROUP: u32 = 800;

impl Users {
    fn of(def: &ImageDef) -> Self {
        let mut out = Users::default();
        out.users.insert("root".into(), (0, 0));
        out.groups.insert("root".into(), 0);
        for (name, user) in &def.users {
            out.users.insert(name.to_string(), (user.uid, user.uid));
            out.groups.insert(name.to_string(), user.uid);
        }
        let named: BTreeSet<String> = def.users.values().flat_map(|u| &u.groups).map(|g| g.value.to_string()).collect();
        let mut next = FIRST_GROUP;
        for group in named {
            if !out.groups.contains_key(&group) {
                while out.groups.values().any(|gid| *gid == next) {
                    next += 1;
                }
                out.groups.insert(group, next);
            }
        }
        out
    }

    /// `user:group`, each by name or number.
    pub(crate) fn owner(&self, owner: &Located<String>) -> Result<(u32, u32)> {
        let unknown = |what: &str, name: &str, known: Vec<&String>| {
            let known: Vec<&str> = known.into_iter().map(String::as_str).collect();
            EngineError::Definition {
                message: format!("{}: there is no {what} `{name}` in this image", owner.at),
                help: format!("there are {}; add it under [users], or write a number", known.join(", ")),
            }
        };
        let (user, group) = owner.value.split_once(':').map_or((owner.value.as_str(), None), |(u, g)| (u, Some(g)));
        let (uid, own) = match user.parse() {
            Ok(uid) => (uid, uid),
            Err(_) => *self.users.get(user).ok_or_else(|| unknown("user", user, self.users.keys().collect()))?,
        };
        let gid = match group {
            None => own,
            Some(group) => match group.parse() {
                Ok(gid) => gid,
                Err(_) => {
                    *self.groups.get(group).ok_or_else(|| unknown("group", group, self.groups.keys().collect()))?
                }
            },
        };
        Ok((uid, gid))
    }
}

/// Composes an image's root. The order: packages, overlays, users, settings, files, identity; what comes later may
/// replace what came before, but two packages never replace one another.
pub(crate) fn compose(
    engine: &Engine<'_>,
    plan: &Plan,
    image: &PlannedImage,
    packages: &[PackageInfo],
) -> Result<Composed> {
    let workspace = engine.workspace;
    let def = &image.image.def;
    let mut trees = Vec::new();
    for package in packages {
        trees.push((format!("{} {}", package.name, package.version), sources::get_tree(engine.store, &package.tree)?));
    }
    settle_ready_made(packages, &mut trees, workspace.def.epoch.0);
    let merged = merge(trees.iter().map(|(name, tree)| (name.as_str(), tree)))
        .map_err(|conflicts| EngineError::Conflicts { image: format!("image {}", image.target.image), conflicts })?;
    let mut root = Root { engine, tree: merged.tree, epoch: workspace.def.epoch.0 };
    for tree in &image.overlays {
        overlay(&mut root.tree, tree);
    }
    root.tree.remove(&TreePath::root());
    let users = Users::of(def);
    if !def.users.is_empty() {
        root.users(def, &users)?;
    }
    root.settings(def)?;
    for file in &def.file {
        let owner = file.owner.as_ref().map_or(Ok((0, 0)), |o| users.owner(o))?;
        root.put(&file.path.value, file.text.as_bytes(), file.mode.map_or(0o644, |m| m.0), owner)?;
    }
    root.identity(image, def, packages, plan)?;
    let mut tree = root.tree;
    tree.add_missing_directories(workspace.def.epoch.0);
    check_parents(&tree, image)?;
    check_paths(def, &tree)?;
    let digest = sources::put_tree(engine.store, &tree)?;
    Ok(Composed { tree, digest, users })
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

struct Root<'a> {
    engine: &'a Engine<'a>,
    tree: Tree,
    epoch: i64,
}

impl Root<'_> {
    fn put(&mut self, path: &str, content: &[u8], mode: u32, (uid, gid): (u32, u32)) -> Result<()> {
        let path = tree_path(path)?;
        let digest = self.engine.store.put_bytes(content)?;
        let mut entry = Entry::new(Kind::File { digest, size: content.len() as u64 }, mode).dated(self.epoch);
        (entry.uid, entry.gid) = (uid, gid);
        self.tree.insert(path, entry);
        Ok(())
    }

    fn directory(&mut self, path: &str, mode: u32, (uid, gid): (u32, u32)) -> Result<()> {
        let mut entry = Entry::new(Kind::Directory, mode).dated(self.epoch);
        (entry.uid, entry.gid) = (uid, gid);
        self.tree.insert(tree_path(path)?, entry);
        Ok(())
    }

    /// The text of a file that may be there already.
    fn text(&self, path: &str) -> Result<String> {
        match self.tree.get(&tree_path(path)?).map(|e| &e.kind) {
            Some(Kind::File { digest, .. }) => {
                let bytes = self.engine.store.read(digest);
                let bytes = bytes.map_err(|source| EngineError::Io { doing: "read", path: path.into(), source })?;
                Ok(String::from_utf8_lossy(&bytes).into_owned())
            }
            _ => Ok(String::new()),
        }
    }

    /// passwd(5), shadow(5), group(5), home directories and SSH keys.
    fn users(&mut self, def: &ImageDef, users: &Users) -> Result<()> {
        let or = |text: String, default: &str| if text.is_empty() { default.to_string() } else { text };
        let mut passwd = or(self.text("/etc/passwd")?, "root:x:0:0:root:/root:/bin/sh\n");
        let mut shadow = or(self.text("/etc/shadow")?, "root:!:::::::\n");
        let mut group = or(self.text("/etc/group")?, "root:x:0:\n");
        for (name, user) in &def.users {
            let home = user.home.as_ref().map_or_else(|| format!("/home/{name}"), |h| h.value.clone());
            let shell = user.shell.as_deref().unwrap_or("/bin/sh");
            passwd += &format!("{name}:x:{0}:{0}::{home}:{shell}\n", user.uid);
            let password = user.password.as_ref().map(|p| p.value.as_str()).filter(|p| *p != "locked").unwrap_or("!");
            shadow += &format!("{name}:{password}:::::::\n");
            let owner = (user.uid, user.uid);
            self.directory(&home, 0o750, owner)?;
            if !user.ssh_keys.is_empty() {
                self.directory(&format!("{home}/.ssh"), 0o700, owner)?;
                let keys = user.ssh_keys.join("\n") + "\n";
                self.put(&format!("{home}/.ssh/authorized_keys"), keys.as_bytes(), 0o600, owner)?;
            }
        }
        for (name, gid) in &users.groups {
            if group.lines().any(|l| l.starts_with(&format!("{name}:"))) {
                continue;
            }
            let members: Vec<&str> = def
                .users
                .iter()
                .filter(|(_, u)| u.groups.iter().any(|g| g.value.as_str() == name))
                .map(|(n, _)| n.as_str())
                .collect();
            group += &format!("{name}:x:{gid}:{}\n", members.join(","));
        }
        self.put("/etc/passwd", passwd.as_bytes(), 0o644, (0, 0))?;
        self.put("/etc/shadow", shadow.as_bytes(), 0o600, (0, 0))?;
        self.put("/etc/group", group.as_bytes(), 0o644, (0, 0))
    }

    fn settings(&mut self, def: &ImageDef) -> Result<()> {
        if let Some(hostname) = &def.system.hostname {
            self.put("/etc/hostname", format!("{}\n", hostname.value).as_bytes(), 0o644, (0, 0))?;
        }
        if let Some(timezone) = &def.system.timezone {
            let link = Entry::symlink(format!("../usr/share/zoneinfo/{}", timezone.value)).dated(self.epoch);
            self.tree.insert(tree_path("/etc/localtime")?, link);
        }
        if let Some(locale) = &def.system.locale {
            self.put("/etc/locale.conf", format!("LANG={}\n", locale.value).as_bytes(), 0o644, (0, 0))?;
        }
        Ok(())
    }

    /// os-release(5) with `IMAGE_ID` and `IMAGE_VERSION`, and `/usr/lib/embrak/image.json`.
    fn identity(&mut self, image: &PlannedImage, def: &ImageDef, packages: &[PackageInfo], plan: &Plan) -> Result<()> {
        let name = &image.target.image;
        let mut release = self.text("/usr/lib/os-release")?;
        if release.is_empty() {
            let title = if def.summary.is_empty() { name } else { &def.summary };
            release = format!(
                "ID={}\nNAME=\"{name}\"\nPRETTY_NAME=\"{}\"\n",
                self.engine.workspace.def.workspace,
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
        self.put("/usr/lib/os-release", release.as_bytes(), 0o644, (0, 0))?;
        let packages: Vec<_> = packages
            .iter()
            .map(|p| serde_json::json!({ "name": p.name, "version": p.version, "tree": p.tree }))
            .collect();
        let identity = serde_json::json!({
            "embrakImage": 1,
            "image": name,
            "version": def.version,
            "target": image.target.label(),
            "input": image.locked.input,
            "epoch": self.epoch,
            "writers": plan.lock.writers,
            "packages": packages,
        });
        let text = serde_json::to_string_pretty(&identity).unwrap_or_default() + "\n";
        self.put("/usr/lib/embrak/image.json", text.as_bytes(), 0o644, (0, 0))
    }
}

fn tree_path(path: &str) -> Result<TreePath> {
    TreePath::new(path).map_err(|e| EngineError::other(e.to_string(), "run `embrak check`"))
}
