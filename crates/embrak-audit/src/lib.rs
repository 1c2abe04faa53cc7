//! What is wrong with an image, whoever made it: leftovers, accounts, secrets, boot files, requirements of a profile,
//! known vulnerabilities.
//!
//! ```text
//!   Subject (trees, a way to read files, how full, how it starts) --audit--> findings
//!   findings + allowances (rule, path, reason, until) --> report --> text, JSON, SARIF
//! ```
//!
//! Nothing here opens an image: whoever does hands over its trees.

mod accounts;
mod advisories;
mod allow;
mod files;
mod profile;
mod rules;
mod sarif;
mod secrets;
mod starting;

pub use advisories::{Advisory, Decision, Decisions, Exposure, Status, exposures, read_advisories};
pub use allow::{Allowance, Date};
pub use profile::{Outcome, Profile, ProfileError, Requirement};
pub use rules::{RULES, Rule, rule};
pub use sarif::sarif;

use embrak_tree::{Tree, TreePath};
use serde::{Deserialize, Serialize};

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Good to know.
    Info,
    /// Untidy.
    Low,
    /// Helps whoever attacks.
    Medium,
    /// Lets whoever attacks in, or gives a secret away.
    High,
}

impl Severity {
    /// As written.
    pub fn as_str(self) -> &'static str {
        match self {
            Severity::Info => "info",
            Severity::Low => "low",
            Severity::Medium => "medium",
            Severity::High => "high",
        }
    }
}

impl std::fmt::Display for Severity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}

impl std::str::FromStr for Severity {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        [Severity::Info, Severity::Low, Severity::Medium, Severity::High]
            .into_iter()
            .find(|s| s.as_str() == text)
            .ok_or_else(|| format!("`{text}` is no severity; write info, low, medium or high"))
    }
}

/// Something found.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Finding {
    /// Which rule.
    pub rule: &'static str,
    /// How bad.
    pub severity: Severity,
    /// Which tree: `partition root`; empty when there is one.
    pub place: String,
    /// Which file, account or partition.
    pub at: String,
    /// What is there, without giving a secret away.
    pub what: String,
    /// Why it is allowed, when it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub allowed: Option<String>,
}

/// How full a filesystem is.
#[derive(Debug, Clone)]
pub struct Fill {
    /// Its place.
    pub place: String,
    /// Bytes in use.
    pub used: u64,
    /// Bytes in all.
    pub size: u64,
    /// Whether it is meant to be as full as it is: read-only, or growing at the first start.
    pub fixed: bool,
}

/// A file the firmware or a loader starts.
#[derive(Debug, Clone)]
pub struct BootFile {
    /// Its path.
    pub path: String,
    /// Whether it is a program, which can be signed.
    pub program: bool,
    /// Whether it carries a signature.
    pub signed: bool,
    /// The kernel's command line it gives.
    pub command_line: String,
}

/// A package that is in the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The source it is made of; its name when that is the same.
    pub source: String,
    /// Whose packages these are, as advisories name it: `Debian:12`, `Embrak`. Without a release, all are meant.
    pub ecosystem: String,
}

/// An image to look at.
pub struct Subject<'a> {
    /// Its trees with their places.
    pub trees: Vec<(String, &'a Tree)>,
    /// Gives files of one place to a function, one by one, the whole of each.
    #[allow(clippy::type_complexity)]
    pub read: &'a dyn Fn(&str, &[&TreePath], &mut dyn FnMut(&TreePath, &[u8])),
    /// Filesystems of a fixed size.
    pub fills: Vec<Fill>,
    /// How it starts.
    pub boot: Vec<BootFile>,
    /// Packages in it.
    pub packages: Vec<Package>,
    /// The second nothing in it should be newer than: its own epoch, or now.
    pub newest: i64,
}

impl Subject<'_> {
    /// One file of a place as text; links are not followed.
    pub(crate) fn text(&self, place: &str, path: &str) -> Option<String> {
        let path = TreePath::new(path).ok()?;
        let (_, tree) = self.trees.iter().find(|(p, _)| p == place)?;
        let entry = tree.get(&path)?;
        if !matches!(tree.resolve_link(entry).kind, embrak_tree::Kind::File { .. }) {
            return None;
        }
        let mut out = None;
        (self.read)(place, &[&path], &mut |_, bytes| out = Some(String::from_utf8_lossy(bytes).into_owned()));
        out
    }

    /// The trees that are roots of systems, not partitions for starting or data.
    pub(crate) fn roots(&self) -> impl Iterator<Item = (&str, &Tree)> {
        let is_root = |tree: &Tree| {
            ["/etc", "/usr", "/bin"].iter().any(|p| TreePath::new(*p).is_ok_and(|p| tree.get(&p).is_some()))
        };
        self.trees.iter().filter(move |(_, tree)| is_root(tree)).map(|(place, tree)| (place.as_str(), *tree))
    }
}

/// Looks at everything; findings in order of severity, the worst first.
pub fn audit(subject: &Subject<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for (place, tree) in &subject.trees {
        files::look(subject, place, tree, &mut found);
    }
    for (place, tree) in subject.roots() {
        accounts::look(subject, place, tree, &mut found);
        starting::services(subject, place, tree, &mut found);
    }
    secrets::look(subject, &mut found);
    starting::boot(subject, &mut found);
    found.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.cmp(b)));
    found.dedup();
    found
}

/// Marks what is allowed; allowances that are past or fit nothing are told.
pub fn allow(findings: &mut [Finding], allowances: &[Allowance], today: Date) -> Vec<String> {
    let mut notes = Vec::new();
    for allowance in allowances {
        let past = allowance.until.is_some_and(|until| until < today);
        let mut fits = 0;
        for finding in findings.iter_mut().filter(|f| allowance.fits(f)) {
            fits += 1;
            if !past {
                finding.allowed.get_or_insert_with(|| allowance.reason.clone());
            }
        }
        if rule(&allowance.rule).is_none() {
            notes.push(format!("the allowance for `{}` names no rule there is", allowance.rule));
        } else if past && fits > 0 {
            let until = allowance.until.map(|d| d.to_string()).unwrap_or_default();
            notes.push(format!("the allowance of `{}` at {} ended on {until}", allowance.rule, allowance.at));
        } else if fits == 0 {
            notes.push(format!("the allowance of `{}` at {} fits nothing any more", allowance.rule, allowance.at));
        }
    }
    notes
}

/// Adds one finding of a rule.
fn tell(found: &mut Vec<Finding>, id: &'static str, place: &str, at: impl ToString, what: impl Into<String>) {
    let severity = rule(id).map_or(Severity::Info, |r| r.severity);
    let (place, at) = (place.to_string(), at.to_string());
    found.push(Finding { rule: id, severity, place, at, what: what.into(), allowed: None });
}
