//! Everything there is to choose from, and what is asked.

use crate::{Alternatives, Requirement, Version};
use std::collections::{BTreeMap, BTreeSet};

/// Index of a candidate in its universe.
pub type CandidateId = usize;

/// Something a package provides besides itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Provided {
    /// The name.
    pub name: String,
    /// The version, if it is provided in one.
    pub version: Option<Version>,
}

/// One version of one package.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Version,
    /// What it needs, each with the place where that is written.
    pub requires: Vec<(Alternatives, String)>,
    /// What it provides besides its own name.
    pub provides: Vec<Provided>,
    /// What cannot be there together with it, each with the place where that is written.
    pub conflicts: Vec<(Requirement, String)>,
    /// Where it comes from, in words for people: a file, a repository.
    pub origin: String,
}

/// Something that is asked for, with the place where that is written.
#[derive(Debug, Clone)]
pub struct Need {
    /// What.
    pub wanted: Alternatives,
    /// Who asks: `image beacon-console`.
    pub by: String,
    /// File and line.
    pub origin: String,
}

/// Something that must not be chosen, whatever asks for it.
#[derive(Debug, Clone)]
pub struct Exclusion {
    /// What.
    pub what: Requirement,
    /// Who says so.
    pub by: String,
    /// File and line.
    pub origin: String,
}

/// What is asked of the solver.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// What has to be there.
    pub needs: Vec<Need>,
    /// What must not be.
    pub without: Vec<Exclusion>,
    /// Versions to prefer over newer ones, by package: what an earlier lock chose.
    pub keep: BTreeMap<String, Version>,
}

/// All candidates, indexed by what they are called and what they provide.
#[derive(Debug, Clone, Default)]
pub struct Universe {
    candidates: Vec<Candidate>,
    /// Real packages by name, and providers by provided name; each list in the order of preference.
    named: BTreeMap<String, Vec<CandidateId>>,
    providers: BTreeMap<String, Vec<(CandidateId, Option<Version>)>>,
}

impl Universe {
    /// Indexes candidates. The order they come in does not matter.
    pub fn new(mut candidates: Vec<Candidate>) -> Self {
        candidates.sort_by(|a, b| {
            a.name.cmp(&b.name).then_with(|| b.version.cmp(&a.version)).then_with(|| a.origin.cmp(&b.origin))
        });
        let mut universe = Universe { candidates, ..Universe::default() };
        for (id, candidate) in universe.candidates.iter().enumerate() {
            universe.named.entry(candidate.name.clone()).or_default().push(id);
            for provided in &candidate.provides {
                universe.providers.entry(provided.name.clone()).or_default().push((id, provided.version.clone()));
            }
        }
        universe
    }

    /// A candidate by its index.
    pub fn get(&self, id: CandidateId) -> &Candidate {
        &self.candidates[id]
    }

    /// All candidates: by name, the newest version first.
    pub fn iter(&self) -> impl Iterator<Item = (CandidateId, &Candidate)> {
        self.candidates.iter().enumerate()
    }

    /// The candidates of this very name, the newest first.
    pub fn named(&self, name: &str) -> &[CandidateId] {
        self.named.get(name).map_or(&[], Vec::as_slice)
    }

    /// Everything that meets a requirement, in order of preference: packages of that name before those that
    /// only provide it; the version to keep, then the newest.
    pub fn matching(&self, requirement: &Requirement, keep: &BTreeMap<String, Version>) -> Vec<CandidateId> {
        let mut found: Vec<CandidateId> = self
            .named(&requirement.name)
            .iter()
            .copied()
            .filter(|&id| requirement.admits(Some(&self.get(id).version)))
            .collect();
        let kept = |id: &CandidateId| keep.get(&self.get(*id).name) == Some(&self.get(*id).version);
        found.sort_by_key(|id| !kept(id));
        let mut providers: Vec<CandidateId> = self
            .providers
            .get(&requirement.name)
            .into_iter()
            .flatten()
            .filter(|(id, version)| requirement.admits(version.as_ref()) && self.get(*id).name != requirement.name)
            .map(|(id, _)| *id)
            .collect();
        providers.sort_by_key(|id| (!kept(id), *id));
        found.extend(providers);
        found
    }

    /// The candidates that meet any of the alternatives, the earlier alternative first, each once.
    pub fn matching_any(&self, alternatives: &Alternatives, keep: &BTreeMap<String, Version>) -> Vec<CandidateId> {
        let mut seen = BTreeSet::new();
        alternatives.0.iter().flat_map(|r| self.matching(r, keep)).filter(|id| seen.insert(*id)).collect()
    }

    /// Whether a set of candidates meets a request: every need and requirement met, nothing excluded, nothing
    /// conflicting, one version of each name. Independent of the solver, to check it.
    ///
    /// # Errors
    /// A sentence about the first thing that is not met.
    pub fn check(&self, chosen: &BTreeSet<CandidateId>, request: &Request) -> Result<(), String> {
        let none = BTreeMap::new();
        let met = |a: &Alternatives| self.matching_any(a, &none).iter().any(|id| chosen.contains(id));
        if let Some(need) = request.needs.iter().find(|n| !met(&n.wanted)) {
            return Err(format!("{} is asked for and not there", need.wanted));
        }
        let mut names = BTreeSet::new();
        for &id in chosen {
            let candidate = self.get(id);
            if !names.insert(&candidate.name) {
                return Err(format!("{} is there twice", candidate.name));
            }
            if let Some((needed, _)) = candidate.requires.iter().find(|(a, _)| !met(a)) {
                return Err(format!("{} needs {needed}", candidate.name));
            }
            for (what, _) in &candidate.conflicts {
                if self.matching(what, &none).iter().any(|other| *other != id && chosen.contains(other)) {
                    return Err(format!("{} conflicts with {what}", candidate.name));
                }
            }
            if request.without.iter().any(|w| w.what.name == candidate.name && w.what.admits(Some(&candidate.version)))
            {
                return Err(format!("{} is excluded", candidate.name));
            }
        }
        Ok(())
    }
}
