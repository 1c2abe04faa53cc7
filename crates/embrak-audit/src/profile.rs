//! Profiles: what an image must have and must not have. TOML, versioned, a file of a layer.

use crate::starting::enabled;
use crate::{Allowance, Finding, Severity, Subject};
use embrak_resolve::{Requirement as Wanted, Version};
use embrak_tree::{Kind, TreePath};
use globset::GlobBuilder;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Why a profile cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ProfileError {
    /// It is not written as one.
    #[error("{name} is not a profile: {why}")]
    Format {
        /// The file.
        name: String,
        /// What is wrong.
        why: String,
    },
    /// A requirement asks for nothing, or for two things.
    #[error("{name}: requirement `{id}` has to have exactly one of {}", KEYS.join(", "))]
    Kind {
        /// The file.
        name: String,
        /// Which requirement.
        id: String,
    },
}

const KEYS: [&str; 16] = [
    "package",
    "no-package",
    "file",
    "no-file",
    "enabled",
    "not-enabled",
    "user",
    "no-user",
    "kernel-config",
    "no-kernel-config",
    "kernel-argument",
    "no-kernel-argument",
    "mount",
    "signed-boot",
    "no-finding",
    "setting",
];

/// A profile.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Profile {
    /// Its name.
    pub profile: String,
    /// Its version; reports name it.
    pub version: u32,
    /// One line about it.
    pub summary: String,
    /// What is required.
    #[serde(default)]
    pub require: Vec<Requirement>,
    /// What may be found.
    #[serde(default)]
    pub allow: Vec<Allowance>,
}

/// A text of a file.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Setting {
    /// The file; a glob, of which the last one that has a line counts.
    pub file: String,
    /// A line of it, as a regular expression over the whole line.
    pub line: String,
}

/// A mount point and an option it has to have.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MountOption {
    /// The mount point.
    pub at: String,
    /// The option.
    pub option: String,
}

/// One requirement: one of the keys below `because`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Requirement {
    /// Its name, stable over versions.
    pub id: String,
    /// Why it is there.
    pub because: String,
    /// How bad it is when it is not met; medium when not said.
    #[serde(default = "medium")]
    pub severity: Severity,
    /// A package with such a version: `lampd >= 2`.
    pub package: Option<String>,
    /// No such package.
    pub no_package: Option<String>,
    /// A glob that fits a file.
    pub file: Option<String>,
    /// A glob that fits none.
    pub no_file: Option<String>,
    /// A unit that is started.
    pub enabled: Option<String>,
    /// A unit that is not started; a glob.
    pub not_enabled: Option<String>,
    /// A user there is.
    pub user: Option<String>,
    /// A user there is not.
    pub no_user: Option<String>,
    /// A line of the kernel's configuration: `CONFIG_SECCOMP=y`.
    pub kernel_config: Option<String>,
    /// A line that is not in it.
    pub no_kernel_config: Option<String>,
    /// A word of every kernel command line.
    pub kernel_argument: Option<String>,
    /// A word of none.
    pub no_kernel_argument: Option<String>,
    /// An option of a mount point in `/etc/fstab`.
    pub mount: Option<MountOption>,
    /// Whether boot programs are signed.
    pub signed_boot: Option<bool>,
    /// A rule of the audit that finds nothing that is not allowed.
    pub no_finding: Option<String>,
    /// A line of a file.
    pub setting: Option<Setting>,
}

fn medium() -> Severity {
    Severity::Medium
}

/// Whether a requirement is met, and what shows it.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Outcome {
    /// Which requirement.
    pub id: String,
    /// In words.
    pub rule: String,
    /// Whether it is met.
    pub met: bool,
    /// How bad it is when it is not.
    pub severity: Severity,
    /// What shows it.
    pub proof: String,
    /// Why it is required.
    pub because: String,
}

impl Profile {
    /// Reads a profile; `name` is for messages.
    ///
    /// # Errors
    /// It is not one, or a requirement is about nothing or about two things.
    pub fn parse(text: &str, name: &str) -> Result<Profile, ProfileError> {
        let profile: Profile = toml::from_str(text)
            .map_err(|e| ProfileError::Format { name: name.to_string(), why: e.to_string().trim_end().to_string() })?;
        let value: toml::Table = toml::from_str(text).unwrap_or_default();
        let written = value.get("require").and_then(|r| r.as_array()).cloned().unwrap_or_default();
        let mut ids = BTreeSet::new();
        for (requirement, keys) in profile.require.iter().zip(&written) {
            let count = KEYS.iter().filter(|k| keys.get(**k).is_some()).count();
            if count != 1 {
                return Err(ProfileError::Kind { name: name.to_string(), id: requirement.id.clone() });
            }
            if !ids.insert(&requirement.id) {
                let why = format!("two requirements are called `{}`", requirement.id);
                return Err(ProfileError::Format { name: name.to_string(), why });
            }
        }
        Ok(profile)
    }

    /// Judges an image; `findings` are what [`crate::audit`] found in it.
    pub fn judge(&self, subject: &Subject<'_>, findings: &[Finding]) -> Vec<Outcome> {
        self.require
            .iter()
            .map(|r| {
                let (rule, result) = r.judge(subject, findings);
                let met = result.is_ok();
                let (Ok(proof) | Err(proof)) = result;
                Outcome { id: r.id.clone(), rule, met, severity: r.severity, proof, because: r.because.clone() }
            })
            .collect()
    }
}

type Judged = (String, Result<String, String>);

fn files(subject: &Subject<'_>, glob: &str) -> Result<Vec<(String, TreePath)>, String> {
    let matcher =
        GlobBuilder::new(glob).literal_separator(true).build().map_err(|e| format!("`{glob}` is no glob: {e}"))?;
    let matcher = matcher.compile_matcher();
    let mut out = Vec::new();
    for (place, tree) in &subject.trees {
        let fits = tree.iter().filter(|(p, e)| !e.is_directory() && matcher.is_match(p.to_string()));
        out.extend(fits.map(|(path, _)| (place.clone(), path.clone())));
    }
    Ok(out)
}

fn shown(found: &[(String, TreePath)]) -> String {
    let first: Vec<String> = found.iter().take(3).map(|(_, p)| p.to_string()).collect();
    let more = found.len().saturating_sub(first.len());
    if more > 0 { format!("{} and {more} more", first.join(", ")) } else { first.join(", ") }
}

fn check(good: bool, yes: impl Into<String>, no: impl Into<String>) -> Result<String, String> {
    if good { Ok(yes.into()) } else { Err(no.into()) }
}

impl Requirement {
    fn judge(&self, subject: &Subject<'_>, findings: &[Finding]) -> Judged {
        if let Some(wanted) = self.package.as_ref().or(self.no_package.as_ref()) {
            return self.packages(subject, wanted);
        }
        if let Some(glob) = &self.file {
            let result = files(subject, glob).and_then(|f| check(!f.is_empty(), shown(&f), "no file fits"));
            return (format!("there is {glob}"), result);
        }
        if let Some(glob) = &self.no_file {
            let result = files(subject, glob).and_then(|f| check(f.is_empty(), "no file fits", shown(&f)));
            return (format!("there is no {glob}"), result);
        }
        if let Some(glob) = self.enabled.as_ref().or(self.not_enabled.as_ref()) {
            return self.units(subject, glob);
        }
        if let Some(name) = self.user.as_ref().or(self.no_user.as_ref()) {
            let line = subject.roots().find_map(|(place, _)| {
                let passwd = subject.text(place, "/etc/passwd")?;
                passwd.lines().find(|l| l.split(':').next() == Some(name)).map(str::to_string)
            });
            let wanted = self.user.is_some();
            let proof = line.clone().unwrap_or_else(|| "not in /etc/passwd".into());
            let rule = if wanted { format!("user {name}") } else { format!("no user {name}") };
            return (rule, check(line.is_some() == wanted, proof.clone(), proof));
        }
        if let Some(line) = self.kernel_config.as_ref().or(self.no_kernel_config.as_ref()) {
            return self.kernel(subject, line);
        }
        if let Some(word) = self.kernel_argument.as_ref().or(self.no_kernel_argument.as_ref()) {
            return self.argument(subject, word);
        }
        if let Some(mount) = &self.mount {
            return mount_option(subject, mount);
        }
        if let Some(wanted) = self.signed_boot {
            let programs: Vec<_> = subject.boot.iter().filter(|b| b.program).collect();
            let other: Vec<&str> = programs.iter().filter(|b| b.signed != wanted).map(|b| b.path.as_str()).collect();
            let rule = if wanted { "boot programs are signed" } else { "boot programs are not signed" };
            let result = if programs.is_empty() {
                Err("there is no boot program".into())
            } else {
                check(other.is_empty(), format!("all {} of them", programs.len()), other.join(", "))
            };
            return (rule.into(), result);
        }
        if let Some(rule) = &self.no_finding {
            let found: Vec<&str> =
                findings.iter().filter(|f| f.rule == rule && f.allowed.is_none()).map(|f| f.at.as_str()).collect();
            let known = crate::rule(rule).is_some();
            let result = if known {
                check(found.is_empty(), "nothing found", found.iter().take(3).copied().collect::<Vec<_>>().join(", "))
            } else {
                Err(format!("there is no rule `{rule}`"))
            };
            return (format!("no finding of {rule}"), result);
        }
        match &self.setting {
            Some(setting) => line_of(subject, setting),
            None => ("nothing is required".into(), Err("the requirement has no condition".into())),
        }
    }

    fn packages(&self, subject: &Subject<'_>, text: &str) -> Judged {
        let wanted: Wanted = match text.parse() {
            Ok(wanted) => wanted,
            Err(e) => return (format!("package {text}"), Err(format!("{e}"))),
        };
        let fits = subject
            .packages
            .iter()
            .filter(|p| p.name == wanted.name)
            .find(|p| p.version.parse::<Version>().is_ok_and(|version| wanted.admits(Some(&version))));
        let other = subject.packages.iter().find(|p| p.name == wanted.name);
        let found =
            fits.or(other).map_or_else(|| "not in the image".to_string(), |p| format!("{} {}", p.name, p.version));
        let good = fits.is_some() == self.package.is_some();
        let rule = if self.package.is_some() { format!("package {text}") } else { format!("no package {text}") };
        (rule, check(good, found.clone(), found))
    }

    fn units(&self, subject: &Subject<'_>, glob: &str) -> Judged {
        let rule = if self.enabled.is_some() { format!("{glob} is started") } else { format!("{glob} is not started") };
        let matcher = match GlobBuilder::new(glob).build() {
            Ok(glob) => glob.compile_matcher(),
            Err(e) => return (rule, Err(format!("`{glob}` is no glob: {e}"))),
        };
        let found = subject.roots().flat_map(|(_, tree)| enabled(tree)).find(|(unit, _)| matcher.is_match(unit));
        let proof = found.as_ref().map_or_else(|| "no unit asks for it".to_string(), |(_, path)| path.to_string());
        (rule, check(found.is_some() == self.enabled.is_some(), proof.clone(), proof))
    }

    fn kernel(&self, subject: &Subject<'_>, line: &str) -> Judged {
        let wanted = self.kernel_config.is_some();
        let rule = if wanted { format!("kernel with {line}") } else { format!("kernel without {line}") };
        let configs = files(subject, "/{boot/config-*,usr/lib/modules/*/config}").unwrap_or_default();
        let Some((place, path)) = configs.first() else {
            return (rule, Err("the image has no configuration of its kernel, /boot/config-VERSION".into()));
        };
        let text = subject.text(place, &path.to_string()).unwrap_or_default();
        let has = text.lines().any(|l| l.trim() == line);
        let name = line.split('=').next().unwrap_or(line);
        let there = text.lines().find(|l| l.split(['=', ' ']).any(|w| w == name)).unwrap_or("it is not mentioned");
        let proof = format!("{path}: {there}");
        (rule, check(has == wanted, proof.clone(), proof))
    }

    fn argument(&self, subject: &Subject<'_>, word: &str) -> Judged {
        let wanted = self.kernel_argument.is_some();
        let rule = if wanted { format!("kernel argument {word}") } else { format!("no kernel argument {word}") };
        let lines: Vec<_> = subject.boot.iter().filter(|b| !b.command_line.is_empty()).collect();
        let without = lines.iter().find(|b| b.command_line.split_whitespace().any(|w| w == word) != wanted);
        let result = match (lines.is_empty(), without) {
            (true, _) if wanted => Err("nothing in the image gives a command line".into()),
            (_, Some(file)) => Err(format!("{}: {}", file.path, file.command_line)),
            _ => Ok(format!("{} command lines", lines.len())),
        };
        (rule, result)
    }
}

fn mount_option(subject: &Subject<'_>, mount: &MountOption) -> Judged {
    let line = subject.roots().find_map(|(place, _)| {
        let fstab = subject.text(place, "/etc/fstab")?;
        fstab.lines().find(|l| l.split_whitespace().nth(1) == Some(&mount.at)).map(str::to_string)
    });
    let options = line.as_ref().and_then(|l| l.split_whitespace().nth(3)).unwrap_or_default();
    let has = options.split(',').any(|o| o == mount.option);
    let proof = line.clone().unwrap_or_else(|| format!("/etc/fstab has no line for {}", mount.at));
    (format!("{} is mounted with {}", mount.at, mount.option), check(has, proof.clone(), proof))
}

fn line_of(subject: &Subject<'_>, setting: &Setting) -> Judged {
    let rule = format!("{} has a line {}", setting.file, setting.line);
    let pattern = match regex::Regex::new(&format!("^(?:{})$", setting.line)) {
        Ok(pattern) => pattern,
        Err(e) => return (rule, Err(e.to_string())),
    };
    let result = files(subject, &setting.file).and_then(|found| {
        for (place, path) in found.iter().rev() {
            let is_file = subject.trees.iter().any(|(p, tree)| {
                p == place && tree.get(path).is_some_and(|e| matches!(tree.resolve_link(e).kind, Kind::File { .. }))
            });
            let text = if is_file { subject.text(place, &path.to_string()).unwrap_or_default() } else { String::new() };
            if let Some(line) = text.lines().map(str::trim).find(|l| pattern.is_match(l)) {
                return Ok(format!("{path}: {line}"));
            }
        }
        Err(if found.is_empty() { "no such file".into() } else { format!("no such line in {}", shown(&found)) })
    });
    (rule, result)
}
