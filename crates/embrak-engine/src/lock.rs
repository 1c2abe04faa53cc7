//! `embrak.lock`: every input of every image, by exact version and digest.
//!
//! TOML, sorted, one thing a line, made to be read in a code review. Never a secret, never an absolute path of the
//! workspace; the paths of host tools are where the tools were found.

use crate::error::{Doing, EngineError, Result};
use embrak_repo::SnapshotIndex;
use embrak_tree::Digest;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::Path;

const FORMAT: u32 = 1;
const HEADER: &str = "# Written by `embrak lock`: every input by version and digest. Keep it in version control.\n";

/// The lock of a workspace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Lock {
    /// Version of this format.
    pub format: u32,
    /// Which writers make the bytes.
    pub writers: WriterVersions,
    /// The layers in order.
    #[serde(default, rename = "layer")]
    pub layers: Vec<LockedLayer>,
    /// Programs of the host.
    #[serde(default, rename = "tool", skip_serializing_if = "Vec::is_empty")]
    pub tools: Vec<LockedTool>,
    /// Repositories, each as it was at one time.
    #[serde(default, rename = "repository", skip_serializing_if = "Vec::is_empty")]
    pub repositories: Vec<LockedRepository>,
    /// Recipes, as they are built.
    #[serde(default, rename = "recipe", skip_serializing_if = "Vec::is_empty")]
    pub recipes: Vec<LockedRecipe>,
    /// Images, for one target each.
    #[serde(default, rename = "image")]
    pub images: Vec<LockedImage>,
}

/// Versions of the writers: a change of bytes is a new version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WriterVersions {
    /// Tree manifests.
    pub tree: u32,
    /// Tar archives.
    pub tar: u32,
    /// GUID partition tables.
    pub gpt: u32,
    /// FAT filesystems.
    pub fat: u32,
    /// OCI layouts.
    pub oci: u32,
    /// Master boot records.
    #[serde(default)]
    pub mbr: u32,
    /// ext4 filesystems.
    #[serde(default)]
    pub ext4: u32,
    /// qcow2 containers.
    #[serde(default)]
    pub qcow2: u32,
    /// cpio archives.
    #[serde(default)]
    pub cpio: u32,
    /// Unified kernel images.
    #[serde(default)]
    pub uki: u32,
    /// How packages are made into a root.
    #[serde(default)]
    pub root: u32,
    /// The order and environment of build steps.
    pub sandbox: u32,
}

impl WriterVersions {
    /// What this program writes.
    pub const CURRENT: WriterVersions = WriterVersions {
        tree: embrak_tree::MANIFEST_VERSION,
        tar: embrak_tree::tar::WRITER_VERSION,
        gpt: embrak_disk::gpt::WRITER_VERSION,
        fat: embrak_disk::fat::WRITER_VERSION,
        oci: embrak_oci::WRITER_VERSION,
        mbr: embrak_disk::mbr::WRITER_VERSION,
        ext4: embrak_disk::ext4::WRITER_VERSION,
        qcow2: embrak_disk::qcow2::WRITER_VERSION,
        cpio: embrak_tree::cpio::WRITER_VERSION,
        uki: embrak_disk::pe::WRITER_VERSION,
        root: crate::compose::COMPOSE_VERSION,
        sandbox: crate::build::SANDBOX_VERSION,
    };

    /// The oldest ones this program can still write with; up to the newest, all can be.
    const OLDEST: WriterVersions = WriterVersions { tar: 1, ..WriterVersions::CURRENT };

    fn numbers(&self) -> [(&'static str, u32); 12] {
        [
            ("tree", self.tree),
            ("tar", self.tar),
            ("gpt", self.gpt),
            ("fat", self.fat),
            ("oci", self.oci),
            ("mbr", self.mbr),
            ("ext4", self.ext4),
            ("qcow2", self.qcow2),
            ("cpio", self.cpio),
            ("uki", self.uki),
            ("root", self.root),
            ("sandbox", self.sandbox),
        ]
    }

    /// What is written otherwise than by others: `tar 1 -> 2`.
    pub fn changes(&self, new: &WriterVersions) -> Vec<String> {
        let both = self.numbers().into_iter().zip(new.numbers());
        both.filter(|(a, b)| a.1 != b.1).map(|((name, a), (_, b))| format!("{name} {a} -> {b}")).collect()
    }

    /// These, those of a lock, as far as it knows them; what it does not know yet is the newest.
    pub(crate) fn kept(&self) -> Result<WriterVersions> {
        let mut kept = *self;
        let newest = WriterVersions::CURRENT;
        for (known, now) in [
            (&mut kept.mbr, newest.mbr),
            (&mut kept.ext4, newest.ext4),
            (&mut kept.qcow2, newest.qcow2),
            (&mut kept.cpio, newest.cpio),
            (&mut kept.uki, newest.uki),
            (&mut kept.root, newest.root),
        ] {
            if *known == 0 {
                *known = now;
            }
        }
        let range = WriterVersions::OLDEST.numbers().into_iter().zip(newest.numbers());
        let unknown: Vec<String> = kept
            .numbers()
            .into_iter()
            .zip(range)
            .filter(|((_, wanted), ((_, oldest), (_, newest)))| !(oldest..=newest).contains(&wanted))
            .map(|((name, wanted), ((_, oldest), (_, newest)))| match oldest == newest {
                true => format!("{name} {wanted} (this Embrak has {newest})"),
                false => format!("{name} {wanted} (this Embrak has {oldest} to {newest})"),
            })
            .collect();
        if unknown.is_empty() {
            return Ok(kept);
        }
        Err(EngineError::other(
            format!("embrak.lock wants writers this Embrak does not have: {}", unknown.join(", ")),
            "use the Embrak that wrote the lock, or take this one's writers with `embrak lock --update=writers`",
        ))
    }

    /// How archives are written.
    pub(crate) fn tar(&self) -> Result<embrak_tree::tar::Version> {
        embrak_tree::tar::Version::of(self.tar)
            .ok_or_else(|| EngineError::other(format!("there is no tar writer {}", self.tar), "look at embrak.lock"))
    }
}

/// A layer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedLayer {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its directory, from the workspace; for one from elsewhere, a short name.
    pub path: String,
    /// Digest of the tree of its files, when it is from elsewhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tree: Option<String>,
}

/// A repository of ready-made packages as it was at one time, for one architecture.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LockedRepository {
    /// As the workspace calls it.
    pub name: String,
    /// The architecture.
    pub architecture: String,
    /// Its URL as the workspace writes it: parameters not filled in, no passwords.
    pub url: String,
    /// Digest of how the workspace declares it; another one is another repository.
    pub declared: Digest,
    /// When it was made, as it says itself.
    pub date: String,
    /// Digest of its signed documents.
    pub snapshot: Digest,
    /// Fingerprints of the keys that signed it; none: it is used without a signature.
    #[serde(default)]
    pub signed_by: Vec<String>,
    /// Its indexes: `WHAT DIGEST SIZE PATH`, then what else is known of it.
    pub indexes: Vec<LockedIndex>,
    /// The packages the images take from it, by name.
    #[serde(default)]
    pub packages: Vec<LockedFile>,
}

/// An index of a repository; written `WHAT DIGEST SIZE UNPACKED PATH [by-hash] [security] [files]`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct LockedIndex(pub SnapshotIndex);

impl TryFrom<String> for LockedIndex {
    type Error = String;
    fn try_from(text: String) -> std::result::Result<Self, String> {
        let read = || {
            let mut parts = text.split(' ');
            let of = parts.next()?.to_string();
            let digest: Digest = parts.next()?.parse().ok()?;
            let size = parts.next()?.parse().ok()?;
            let unpacked = parts.next()?;
            let path = parts.next()?.to_string();
            let rest: Vec<&str> = parts.collect();
            let directory = path.rsplit_once('/').map_or("", |(dir, _)| dir);
            Some(SnapshotIndex {
                by_hash: rest.contains(&"by-hash").then(|| format!("{directory}/by-hash/SHA256/{}", digest.hex())),
                of,
                digest,
                size,
                unpacked: if unpacked == "-" { None } else { Some(unpacked.parse().ok()?) },
                security: rest.contains(&"security"),
                files: rest.contains(&"files"),
                path,
            })
        };
        read().map(LockedIndex).ok_or_else(|| format!("`{text}` is not `WHAT DIGEST SIZE UNPACKED PATH`"))
    }
}

impl From<LockedIndex> for String {
    fn from(index: LockedIndex) -> String {
        let i = index.0;
        let unpacked = i.unpacked.map_or("-".to_string(), |n| n.to_string());
        let mut out = format!("{} {} {} {unpacked} {}", i.of, i.digest, i.size, i.path);
        for (word, on) in [("by-hash", i.by_hash.is_some()), ("security", i.security), ("files", i.files)] {
            if on {
                out.push(' ');
                out.push_str(word);
            }
        }
        out
    }
}

/// A ready-made package; written `NAME VERSION ARCHITECTURE DIGEST SIZE INSTALLED PATH`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct LockedFile {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its architecture in the words of the repository's format.
    pub architecture: String,
    /// SHA-256 of its file.
    pub digest: Digest,
    /// Bytes of its file.
    pub size: u64,
    /// Bytes it takes when unpacked, as it says itself.
    pub installed: u64,
    /// Where its file lies below the repository.
    pub path: String,
}

impl TryFrom<String> for LockedFile {
    type Error = String;
    fn try_from(text: String) -> std::result::Result<Self, String> {
        let read = || {
            let mut parts = text.splitn(7, ' ');
            Some(LockedFile {
                name: parts.next()?.to_string(),
                version: parts.next()?.to_string(),
                architecture: parts.next()?.to_string(),
                digest: parts.next()?.parse().ok()?,
                size: parts.next()?.parse().ok()?,
                installed: parts.next()?.parse().ok()?,
                path: parts.next()?.to_string(),
            })
        };
        read().ok_or_else(|| format!("`{text}` is not `NAME VERSION ARCHITECTURE DIGEST SIZE INSTALLED PATH`"))
    }
}

impl From<LockedFile> for String {
    fn from(f: LockedFile) -> String {
        format!("{} {} {} {} {} {} {}", f.name, f.version, f.architecture, f.digest, f.size, f.installed, f.path)
    }
}

/// A program of the host with all it needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LockedTool {
    /// As recipes ask for it.
    pub name: String,
    /// Where it was found.
    pub path: String,
    /// Digest of the tree of its files.
    pub digest: Digest,
}

/// A recipe with the options it is built with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LockedRecipe {
    /// Name, version, architecture, and options that are on: `tidelog 1.4.2-1 x86_64 [tls]`.
    pub id: String,
    /// Its file.
    pub file: String,
    /// Digest of the merged definition.
    pub definition: Digest,
    /// Digest of the sources' tree, patches applied.
    pub sources: Digest,
    /// Host tools its steps see.
    #[serde(default)]
    pub tools: Vec<String>,
    /// Packages in its sysroot, each with the recipe that makes it.
    #[serde(default)]
    pub uses: Vec<LockedPackage>,
}

/// Where a package comes from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Maker {
    /// A recipe makes it: its [`LockedRecipe::id`].
    Recipe(String),
    /// A repository has it ready-made: the repository's name.
    Repository(String),
}

/// A package and where it comes from; written `NAME VERSION by RECIPE` or `NAME VERSION from REPOSITORY`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct LockedPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Where it comes from.
    pub from: Maker,
}

impl LockedPackage {
    /// The recipe that makes it, if one does.
    pub fn recipe(&self) -> Option<&str> {
        match &self.from {
            Maker::Recipe(id) => Some(id),
            Maker::Repository(_) => None,
        }
    }

    /// The repository that has it, if one does.
    pub fn repository(&self) -> Option<&str> {
        match &self.from {
            Maker::Recipe(_) => None,
            Maker::Repository(name) => Some(name),
        }
    }
}

impl TryFrom<String> for LockedPackage {
    type Error = String;
    fn try_from(text: String) -> std::result::Result<Self, String> {
        let mut parts = text.splitn(4, ' ');
        let mut next = || parts.next().filter(|p| !p.is_empty()).map(String::from);
        let read = (next(), next(), next(), next());
        let (name, version, from) = match read {
            (Some(name), Some(version), Some(how), Some(from)) if how == "by" => (name, version, Maker::Recipe(from)),
            (Some(name), Some(version), Some(how), Some(from)) if how == "from" => {
                (name, version, Maker::Repository(from))
            }
            _ => return Err(format!("`{text}` is not `NAME VERSION by RECIPE` or `NAME VERSION from REPOSITORY`")),
        };
        Ok(LockedPackage { name, version, from })
    }
}

impl From<LockedPackage> for String {
    fn from(package: LockedPackage) -> String {
        package.to_string()
    }
}

impl fmt::Display for LockedPackage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.from {
            Maker::Recipe(id) => write!(f, "{} {} by {id}", self.name, self.version),
            Maker::Repository(name) => write!(f, "{} {} from {name}", self.name, self.version),
        }
    }
}

/// An image for one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct LockedImage {
    /// Its name.
    pub name: String,
    /// The board, or the architecture when no board matters.
    pub target: String,
    /// Digest of the merged definitions of image and board.
    pub definition: Digest,
    /// Digest of all inputs together: what the image is stamped with.
    pub input: Digest,
    /// Overlays with the digests of their trees: `PATH DIGEST`.
    #[serde(default)]
    pub overlays: Vec<String>,
    /// Its packages by name.
    #[serde(default)]
    pub packages: Vec<LockedPackage>,
}

/// Something a new lock says otherwise than the old one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Moved {
    /// What: `tidelog`, `image beacon-console (sim-x86_64)`, `host tool cc`.
    pub what: String,
    /// How, in words.
    pub how: String,
    /// The package that moved, if it is one of an image.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub package: Option<MovedPackage>,
}

/// A package of an image that came, went or changed its version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct MovedPackage {
    /// The image and its target.
    pub image: String,
    /// Its name.
    pub name: String,
    /// The version before.
    pub from: Option<String>,
    /// The version now.
    pub to: Option<String>,
    /// By how many bytes its unpacked size changed, if both are known.
    pub bytes: Option<i64>,
    /// Whether what it moved to mends security faults, as the repository says.
    pub security: bool,
}

impl fmt::Display for Moved {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.what, self.how)
    }
}

impl Lock {
    /// A lock of nothing.
    pub fn empty() -> Self {
        Lock {
            format: FORMAT,
            writers: WriterVersions::CURRENT,
            layers: vec![],
            tools: vec![],
            repositories: vec![],
            recipes: vec![],
            images: vec![],
        }
    }

    /// Reads the lock of a workspace, if it has one.
    ///
    /// # Errors
    /// It cannot be read or is not a lock.
    pub fn load(path: &Path) -> Result<Option<Lock>> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error).doing("read", path),
        };
        Lock::parse(&text).map(Some)
    }

    pub(crate) fn parse(text: &str) -> Result<Lock> {
        #[derive(Deserialize)]
        struct OnlyFormat {
            format: u32,
        }
        let bad = |e: toml::de::Error| EngineError::LockFormat(e.to_string());
        let found: OnlyFormat = toml::from_str(text).map_err(bad)?;
        if found.format != FORMAT {
            return Err(EngineError::LockFormat(format!("it has format {}, this Embrak knows {FORMAT}", found.format)));
        }
        toml::from_str(text).map_err(bad)
    }

    /// The text of the lock file.
    pub fn to_text(&self) -> String {
        format!("{HEADER}{}", toml::to_string_pretty(self).unwrap_or_default())
    }

    /// Writes the lock file, beside and renamed; not at all when it says the same already.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn save(&self, path: &Path) -> Result<bool> {
        let text = self.to_text();
        if std::fs::read_to_string(path).is_ok_and(|old| old == text) {
            return Ok(false);
        }
        crate::outputs::write_beside(path, text.as_bytes())?;
        Ok(true)
    }

    /// The digest of the lock file's text.
    pub fn digest(&self) -> Digest {
        Digest::of(self.to_text())
    }

    /// The lock of an image for a target.
    pub fn image(&self, name: &str, target: &str) -> Option<&LockedImage> {
        self.images.iter().find(|i| i.name == name && i.target == target)
    }

    /// A recipe by its id.
    pub fn recipe(&self, id: &str) -> Option<&LockedRecipe> {
        self.recipes.iter().find(|r| r.id == id)
    }

    /// A repository for an architecture.
    pub fn repository(&self, name: &str, architecture: &str) -> Option<&LockedRepository> {
        self.repositories.iter().find(|r| r.name == name && r.architecture == architecture)
    }

    /// The file of a ready-made package, for any architecture.
    pub fn file(&self, repository: &str, name: &str, version: &str) -> Option<&LockedFile> {
        let of = |r: &&LockedRepository| r.name == repository;
        let files = self.repositories.iter().filter(of).flat_map(|r| &r.packages);
        files.into_iter().find(|f| f.name == name && f.version == version)
    }

    /// Puts images of another lock in, replacing those of the same name and target; what no image needs any more
    /// goes.
    pub(crate) fn absorb(&self, new: Lock) -> Lock {
        let mut images: BTreeMap<(String, String), LockedImage> = BTreeMap::new();
        let mut recipes: BTreeMap<String, LockedRecipe> = BTreeMap::new();
        let mut tools: BTreeMap<String, LockedTool> = BTreeMap::new();
        let mut repositories: BTreeMap<(String, String), LockedRepository> = BTreeMap::new();
        for lock in [self, &new] {
            images.extend(lock.images.iter().map(|i| ((i.name.clone(), i.target.clone()), i.clone())));
            recipes.extend(lock.recipes.iter().map(|r| (r.id.clone(), r.clone())));
            tools.extend(lock.tools.iter().map(|t| (t.name.clone(), t.clone())));
            for repository in &lock.repositories {
                let key = (repository.name.clone(), repository.architecture.clone());
                let mut joined = repository.clone();
                if let Some(before) = repositories.get(&key) {
                    joined.packages.extend(before.packages.iter().cloned());
                }
                repositories.insert(key, joined);
            }
        }
        let all = |i: &LockedImage| i.packages.clone();
        let mut used: BTreeSet<LockedPackage> = images.values().flat_map(all).collect();
        let mut wanted: Vec<String> = used.iter().filter_map(|p| p.recipe().map(String::from)).collect();
        let mut reached = BTreeSet::new();
        while let Some(id) = wanted.pop() {
            if let Some(recipe) = recipes.get(&id)
                && reached.insert(id)
            {
                wanted.extend(recipe.uses.iter().filter_map(|p| p.recipe().map(String::from)));
                used.extend(recipe.uses.iter().cloned());
            }
        }
        for ((name, _), repository) in &mut repositories {
            let is_used = |f: &LockedFile| {
                let from = Maker::Repository(name.clone());
                used.contains(&LockedPackage { name: f.name.clone(), version: f.version.clone(), from })
            };
            repository.packages.retain(is_used);
            repository.packages.sort();
            repository.packages.dedup();
        }
        // One that is declared and not used stays too: what it offers has a part in what is chosen.
        repositories
            .retain(|(name, architecture), r| !r.packages.is_empty() || new.repository(name, architecture).is_some());
        recipes.retain(|id, _| reached.contains(id));
        let used: BTreeSet<&String> = recipes.values().flat_map(|r| &r.tools).collect();
        tools.retain(|name, _| used.contains(name));
        Lock {
            format: FORMAT,
            writers: new.writers,
            layers: new.layers,
            tools: tools.into_values().collect(),
            repositories: repositories.into_values().collect(),
            recipes: recipes.into_values().collect(),
            images: images.into_values().collect(),
        }
    }

    /// What another lock says otherwise, in sentences.
    pub fn moved(&self, new: &Lock) -> Vec<Moved> {
        let mut out = Vec::new();
        fn moved(what: String, how: String) -> Moved {
            Moved { what, how, package: None }
        }
        let mut say = |what: String, how: String| out.push(moved(what, how));
        if self.writers != new.writers {
            say(
                "writers".into(),
                format!("{}: other bytes than before", self.writers.changes(&new.writers).join(", ")),
            );
        }
        let versions =
            |lock: &Lock| lock.layers.iter().map(|l| (l.name.clone(), l.version.clone())).collect::<BTreeMap<_, _>>();
        compare(&versions(self), &versions(new), |name, how| say(format!("layer {name}"), how));
        for repository in &new.repositories {
            let what = format!("repository {} ({})", repository.name, repository.architecture);
            match self.repository(&repository.name, &repository.architecture) {
                None => say(what, format!("new, as of {}", repository.date)),
                Some(old) if old.snapshot != repository.snapshot => {
                    say(what, format!("{} -> {}", old.date, repository.date));
                }
                Some(_) => {}
            }
        }
        let tools =
            |lock: &Lock| lock.tools.iter().map(|t| (t.name.clone(), t.digest.short())).collect::<BTreeMap<_, _>>();
        compare(&tools(self), &tools(new), |name, how| say(format!("host tool {name}"), how));
        for recipe in &new.recipes {
            let Some(old) = self.recipe(&recipe.id) else { continue };
            let mut changed = Vec::new();
            if old.sources != recipe.sources {
                changed.push(format!("sources {} -> {}", old.sources.short(), recipe.sources.short()));
            }
            if old.definition != recipe.definition {
                changed.push(format!("definition {} -> {}", old.definition.short(), recipe.definition.short()));
            }
            if old.tools != recipe.tools || old.uses != recipe.uses {
                changed.push("what it is built with".to_string());
            }
            if !changed.is_empty() {
                say(recipe.id.clone(), changed.join(", "));
            }
        }
        for image in &new.images {
            let name = format!("image {} ({})", image.name, image.target);
            let Some(old) = self.image(&image.name, &image.target) else {
                out.push(moved(name, format!("new, {} packages", image.packages.len())));
                continue;
            };
            let packages = |i: &LockedImage| {
                i.packages.iter().map(|p| (p.name.clone(), p.version.clone())).collect::<BTreeMap<_, _>>()
            };
            let (before, after) = (packages(old), packages(image));
            let mut packages = Vec::new();
            compare(&before, &after, |package, how| packages.push((package.to_string(), how)));
            for (package, how) in packages {
                let bytes = |lock: &Lock, image: &LockedImage| {
                    let locked = image.packages.iter().find(|p| p.name == package)?;
                    Some(lock.file(locked.repository()?, &locked.name, &locked.version)?.installed as i64)
                };
                let change = match (bytes(self, old), bytes(new, image)) {
                    (Some(a), Some(b)) => Some(b - a),
                    (None, Some(b)) if !before.contains_key(&package) => Some(b),
                    (Some(a), None) if !after.contains_key(&package) => Some(-a),
                    _ => None,
                };
                out.push(Moved {
                    what: format!("{name}: {package}"),
                    how,
                    package: Some(MovedPackage {
                        image: name.clone(),
                        from: before.get(&package).cloned(),
                        to: after.get(&package).cloned(),
                        name: package,
                        bytes: change,
                        security: false,
                    }),
                });
            }
            let mut say = |what: String, how: String| out.push(moved(what, how));
            if old.definition != image.definition {
                say(name.clone(), format!("definition {} -> {}", old.definition.short(), image.definition.short()));
            }
            if old.overlays != image.overlays {
                say(name, "overlays".into());
            }
        }
        out
    }
}

fn compare(old: &BTreeMap<String, String>, new: &BTreeMap<String, String>, mut say: impl FnMut(&str, String)) {
    for (name, version) in new {
        match old.get(name) {
            None => say(name, format!("added, {version}")),
            Some(before) if before != version => say(name, format!("{before} -> {version}")),
            Some(_) => {}
        }
    }
    for (name, version) in old.iter().filter(|(name, _)| !new.contains_key(*name)) {
        say(name, format!("removed, was {version}"));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(version: &str, source: &str) -> Lock {
        let recipe = |id: &str, uses| LockedRecipe {
            id: id.into(),
            file: "r.toml".into(),
            definition: Digest::of("d"),
            sources: Digest::of(source),
            tools: vec!["cc".into()],
            uses,
        };
        let gauge = LockedPackage {
            name: "libgauge".into(),
            version: "0.3-1".into(),
            from: Maker::Recipe("libgauge 0.3-1 x86_64".into()),
        };
        let id = format!("tidelog {version} x86_64");
        let tool = LockedTool { name: "cc".into(), path: "/usr/bin/cc".into(), digest: Digest::of("cc") };
        let image = LockedImage {
            name: "tide".into(),
            target: "x86_64".into(),
            definition: Digest::of("i"),
            input: Digest::of("all"),
            overlays: vec![],
            packages: vec![LockedPackage {
                name: "tidelog".into(),
                version: version.into(),
                from: Maker::Recipe(id.clone()),
            }],
        };
        Lock {
            tools: vec![tool],
            recipes: vec![recipe(gauge.recipe().unwrap(), vec![]), recipe(&id, vec![gauge.clone()])],
            images: vec![image],
            ..Lock::empty()
        }
    }

    #[test]
    fn a_lock_reads_back() {
        let lock = sample("1.4-1", "s");
        assert_eq!(Lock::parse(&lock.to_text()).unwrap(), lock);
        assert!(lock.to_text().contains("\"tidelog 1.4-1 by tidelog 1.4-1 x86_64\""), "{}", lock.to_text());
        let error = Lock::parse("format = 9\nnew = 1\n").unwrap_err().to_string();
        assert!(error.contains("format 9"), "{error}");
    }

    #[test]
    fn what_moved_is_told() {
        let told = |a: &Lock, b: &Lock| a.moved(b).iter().map(ToString::to_string).collect::<Vec<_>>();
        let old = sample("1.4-1", "s");
        assert!(told(&old, &old).is_empty());
        assert_eq!(told(&old, &sample("1.5-1", "s")), ["image tide (x86_64): tidelog: 1.4-1 -> 1.5-1"]);
        let changed = told(&old, &sample("1.4-1", "other"));
        assert!(changed.iter().any(|m| m.starts_with("tidelog 1.4-1 x86_64: sources ")), "{changed:?}");
    }

    #[test]
    fn absorbing_drops_what_nothing_needs() {
        let merged = sample("1.4-1", "s").absorb(sample("1.5-1", "s"));
        let ids: Vec<&str> = merged.recipes.iter().map(|r| r.id.as_str()).collect();
        assert_eq!(ids, ["libgauge 0.3-1 x86_64", "tidelog 1.5-1 x86_64"]);
    }
}
