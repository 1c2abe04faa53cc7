//! Known vulnerabilities: advisories in the OSV format (Open Source Vulnerability, schema 1.6) against the packages of an
//! image, and decisions about them.

use crate::{Date, Package};
use embrak_resolve::Version;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// An advisory; what is not needed here is not read.
#[derive(Debug, Clone, Deserialize)]
pub struct Advisory {
    /// Its name.
    pub id: String,
    /// Other names of the same thing.
    #[serde(default)]
    pub aliases: Vec<String>,
    /// One line.
    #[serde(default)]
    pub summary: String,
    /// When it was taken back.
    #[serde(default)]
    pub withdrawn: Option<String>,
    /// Whom it concerns.
    #[serde(default)]
    pub affected: Vec<Affected>,
    /// How bad it is, by several measures.
    #[serde(default)]
    pub severity: Vec<Rating>,
}

/// A rating.
#[derive(Debug, Clone, Deserialize)]
pub struct Rating {
    /// `CVSS_V3` and so on.
    #[serde(rename = "type")]
    pub kind: String,
    /// The vector.
    pub score: String,
}

/// A package an advisory concerns.
#[derive(Debug, Clone, Deserialize)]
pub struct Affected {
    /// Which.
    #[serde(default)]
    pub package: Option<Named>,
    /// Ranges of versions.
    #[serde(default)]
    pub ranges: Vec<Range>,
    /// Versions one by one.
    #[serde(default)]
    pub versions: Vec<String>,
}

/// A package by name.
#[derive(Debug, Clone, Deserialize)]
pub struct Named {
    /// Whose packages these are: `Debian:12`.
    pub ecosystem: String,
    /// The name, of the source where the ecosystem counts sources.
    pub name: String,
}

/// A range of versions.
#[derive(Debug, Clone, Deserialize)]
pub struct Range {
    /// `ECOSYSTEM`, `SEMVER` or `GIT`.
    #[serde(rename = "type")]
    pub kind: String,
    /// Where it begins and ends.
    #[serde(default)]
    pub events: Vec<BTreeMap<String, String>>,
}

/// What was decided about an advisory, in the words of VEX.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// It cannot be used against this image.
    NotAffected,
    /// It can.
    Affected,
    /// It was mended without another version.
    Fixed,
    /// Nobody knows yet.
    UnderInvestigation,
}

/// A decision.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Decision {
    /// The advisory, by its name or another of its names.
    pub id: String,
    /// For this package only.
    pub package: Option<String>,
    /// What was decided.
    pub status: Status,
    /// Why.
    pub reason: String,
    /// Until when it holds.
    #[serde(default)]
    until: Option<toml::value::Datetime>,
}

/// A file of decisions: `[[decision]]`.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Decisions {
    /// All of them.
    #[serde(default)]
    pub decision: Vec<Decision>,
}

impl Decisions {
    /// Reads them.
    ///
    /// # Errors
    /// The text is not a list of decisions, or one has no reason.
    pub fn parse(text: &str, name: &str) -> Result<Decisions, String> {
        let all: Decisions = toml::from_str(text).map_err(|e| format!("{name}: {}", e.to_string().trim_end()))?;
        match all.decision.iter().find(|d| d.reason.trim().is_empty()) {
            Some(bare) => Err(format!("{name}: the decision about {} gives no reason", bare.id)),
            None => Ok(all),
        }
    }
}

/// A package of the image that an advisory concerns.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Exposure {
    /// The advisory.
    pub id: String,
    /// Its other names.
    pub aliases: Vec<String>,
    /// One line.
    pub summary: String,
    /// The package.
    pub package: String,
    /// Its version.
    pub version: String,
    /// The version it is mended in, if there is one.
    pub fixed: Option<String>,
    /// Rating, as given.
    pub rating: Option<String>,
    /// What was decided; none: nothing yet.
    pub status: Option<Status>,
    /// Why.
    pub reason: Option<String>,
}

impl Exposure {
    /// Whether somebody has to do something.
    pub fn is_open(&self) -> bool {
        !matches!(self.status, Some(Status::NotAffected | Status::Fixed))
    }
}

/// Reads advisories: one document, or one in each line.
///
/// # Errors
/// One is not written as OSV has it.
pub fn read_advisories(text: &str, name: &str) -> Result<Vec<Advisory>, String> {
    let wrong = |e: serde_json::Error| format!("{name} is no advisory in the OSV format: {e}");
    match serde_json::from_str::<Advisory>(text) {
        Ok(one) => Ok(vec![one]),
        Err(first) => {
            let lines: Vec<&str> = text.lines().filter(|l| !l.trim().is_empty()).collect();
            let whole = |l: &&str| l.trim_start().starts_with('{') && l.trim_end().ends_with('}');
            if lines.len() < 2 || !lines.iter().all(whole) {
                return Err(wrong(first));
            }
            lines.iter().map(|l| serde_json::from_str(l).map_err(wrong)).collect()
        }
    }
}

/// Where a version lies in a range: whether it is concerned, and what mends it.
fn concerned(range: &Range, version: &Version) -> Option<Option<String>> {
    if range.kind == "GIT" {
        return None;
    }
    let mut inside = false;
    let mut fixed_later = None;
    for event in &range.events {
        for (kind, value) in event {
            let at: Option<Version> = if value == "0" { None } else { value.parse().ok() };
            let reached = match &at {
                None => value == "0",
                Some(at) => version >= at,
            };
            match kind.as_str() {
                "introduced" if reached => (inside, fixed_later) = (true, None),
                "fixed" if reached => inside = false,
                "fixed" => fixed_later = fixed_later.or(Some(value.clone())),
                "last_affected" if at.as_ref().is_some_and(|at| version > at) => inside = false,
                _ => {}
            }
        }
    }
    inside.then_some(fixed_later)
}

/// Whether `Debian:12` and `Debian:12`, or one of them without a release, name the same packages. A release may be told
/// more exactly on one side: `12` and `12.5`.
fn same_ecosystem(a: &str, b: &str) -> bool {
    let parts = |text: &str| {
        let (name, release) = text.split_once(':').unwrap_or((text, ""));
        (name.to_lowercase(), release.to_lowercase())
    };
    let ((a, release_a), (b, release_b)) = (parts(a), parts(b));
    let within = |whole: &str, part: &str| whole.strip_prefix(part).is_some_and(|rest| rest.starts_with('.'));
    a == b
        && (release_a.is_empty()
            || release_b.is_empty()
            || release_a == release_b
            || within(&release_a, &release_b)
            || within(&release_b, &release_a))
}

/// The packages that advisories concern.
pub fn exposures(packages: &[Package], advisories: &[Advisory], decisions: &Decisions, today: Date) -> Vec<Exposure> {
    let mut by_name: BTreeMap<&str, Vec<&Package>> = BTreeMap::new();
    for package in packages {
        by_name.entry(&package.name).or_default().push(package);
        if package.source != package.name {
            by_name.entry(&package.source).or_default().push(package);
        }
    }
    let mut out = Vec::new();
    for advisory in advisories.iter().filter(|a| a.withdrawn.is_none()) {
        for affected in &advisory.affected {
            let Some(named) = &affected.package else { continue };
            for package in by_name.get(named.name.as_str()).into_iter().flatten() {
                if !same_ecosystem(&package.ecosystem, &named.ecosystem) {
                    continue;
                }
                let Ok(version) = package.version.parse::<Version>() else { continue };
                let ranged = affected.ranges.iter().find_map(|r| concerned(r, &version));
                let listed = affected.versions.contains(&package.version);
                if ranged.is_none() && !listed {
                    continue;
                }
                let decided = decisions.decision.iter().find(|d| {
                    let past = d.until.and_then(|u| u.to_string().parse::<Date>().ok()).is_some_and(|u| u < today);
                    let same = d.id == advisory.id || advisory.aliases.contains(&d.id);
                    same && !past && d.package.as_ref().is_none_or(|p| *p == package.name)
                });
                out.push(Exposure {
                    id: advisory.id.clone(),
                    aliases: advisory.aliases.clone(),
                    summary: advisory.summary.clone(),
                    package: package.name.clone(),
                    version: package.version.clone(),
                    fixed: ranged.flatten(),
                    rating: advisory.severity.first().map(|s| s.score.clone()),
                    status: decided.map(|d| d.status),
                    reason: decided.map(|d| d.reason.clone()),
                });
            }
        }
    }
    out.sort_by(|a, b| (&a.package, &a.id).cmp(&(&b.package, &b.id)));
    out.dedup_by(|a, b| a.id == b.id && a.package == b.package);
    out
}
