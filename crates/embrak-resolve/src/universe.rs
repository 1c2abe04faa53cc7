//! Everything there is to choose from, and what is asked.

use crate::{Alternatives, Requirement, Version};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::{Arc, OnceLock};

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
    /// What it is better with: added when it can be, if the request wants that.
    pub recommends: Vec<(Alternatives, String)>,
    /// What it provides besides its own name.
    pub provides: Vec<Provided>,
    /// What cannot be there together with it, each with the place where that is written.
    pub conflicts: Vec<(Requirement, String)>,
    /// Where it comes from, in words for people: a file, a repository.
    pub origin: String,
    /// Of candidates of one name, those of a lower rank are preferred, whatever their versions.
    pub rank: u32,
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

/// Something that must not be chosen, whatever asks for it; or, as a pin, the bounds it has to keep.
#[derive(Debug, Clone)]
pub struct Exclusion {
    /// What.
    pub what: Requirement,
    /// Who says so.
    pub by: String,
    /// File and line.
    pub origin: String,
}

/// Which version of a package is preferred.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Prefer {
    /// The newest that will do.
    #[default]
    Newest,
    /// The oldest that will do: what the requirements really ask for.
    Minimal,
}

/// What is asked of the solver.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// What has to be there.
    pub needs: Vec<Need>,
    /// What must not be.
    pub without: Vec<Exclusion>,
    /// If a package of this name is chosen, it has to be within these bounds.
    pub pins: Vec<Exclusion>,
    /// Versions to prefer over newer ones, by package: what an earlier lock chose.
    pub keep: BTreeMap<String, Version>,
    /// Which version when several will do and none is kept.
    pub prefer: Prefer,
    /// Whether to add what chosen packages recommend, as far as it goes together.
    pub recommends: bool,
}

/// Many ready-made candidates, read only when somebody asks for them: the index of a repository.
///
/// Numbers run from 0; the candidates of one name stand together, the newest first.
pub trait Catalog: Send + Sync {
    /// How many candidates there are.
    fn len(&self) -> usize;
    /// Whether there is none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// The candidates of this very name.
    fn named(&self, name: &str) -> Range<usize>;
    /// The candidates that provide a name besides their own, with the version they provide it in.
    fn providing(&self, name: &str) -> Vec<(usize, Option<Version>)>;
    /// One candidate.
    fn candidate(&self, number: usize) -> Candidate;
    /// All names of candidates in order, each once.
    fn names(&self) -> Box<dyn Iterator<Item = &str> + '_>;
}

struct Shelf {
    first: CandidateId,
    catalog: Arc<dyn Catalog>,
    read: Vec<OnceLock<Box<Candidate>>>,
}

/// All candidates, indexed by what they are called and what they provide: some at hand, the rest in catalogs.
#[derive(Default)]
pub struct Universe {
    candidates: Vec<Candidate>,
    /// Real packages by name, and providers by provided name.
    named: BTreeMap<String, Vec<CandidateId>>,
    providers: BTreeMap<String, Vec<(CandidateId, Option<Version>)>>,
    shelves: Vec<Shelf>,
}

impl Universe {
    /// Indexes candidates. The order they come in does not matter.
    pub fn new(candidates: Vec<Candidate>) -> Self {
        Universe::with_catalogs(candidates, Vec::new())
    }

    /// Indexes candidates and puts catalogs beside them. The order of the catalogs decides between candidates
    /// that are equal in rank and version.
    pub fn with_catalogs(mut candidates: Vec<Candidate>, catalogs: Vec<Arc<dyn Catalog>>) -> Self {
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
        let mut first = universe.candidates.len();
        for catalog in catalogs {
            let mut read = Vec::new();
            read.resize_with(catalog.len(), OnceLock::new);
            first += read.len();
            universe.shelves.push(Shelf { first: first - read.len(), catalog, read });
        }
        universe
    }

    /// How many candidates there are, those of catalogs included.
    pub fn len(&self) -> usize {
        self.shelves.last().map_or(self.candidates.len(), |s| s.first + s.read.len())
    }

    /// Whether there is nothing to choose from.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// A candidate by its index.
    pub fn get(&self, id: CandidateId) -> &Candidate {
        if id < self.candidates.len() {
            return &self.candidates[id];
        }
        let shelf = &self.shelves[self.shelves.partition_point(|s| s.first <= id) - 1];
        let number = id - shelf.first;
        shelf.read[number].get_or_init(|| Box::new(shelf.catalog.candidate(number)))
    }

    /// Which catalog a candidate is from, and its number there; none for one that was at hand.
    pub fn in_catalog(&self, id: CandidateId) -> Option<(usize, usize)> {
        let index = self.shelves.partition_point(|s| s.first <= id).checked_sub(1)?;
        Some((index, id - self.shelves[index].first))
    }

    /// The names of all candidates; a name may come more than once.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.named.keys().map(String::as_str).chain(self.shelves.iter().flat_map(|s| s.catalog.names()))
    }

    /// The candidates of this very name: the preferred rank first, then the newest.
    pub fn named(&self, name: &str) -> Vec<CandidateId> {
        let mut found = self.named.get(name).cloned().unwrap_or_default();
        let mut sources = usize::from(!found.is_empty());
        for shelf in &self.shelves {
            let range = shelf.catalog.named(name);
            sources += usize::from(!range.is_empty());
            found.extend(range.map(|number| shelf.first + number));
        }
        if sources > 1 {
            found.sort_by(|&a, &b| {
                let (x, y) = (self.get(a), self.get(b));
                x.rank.cmp(&y.rank).then_with(|| y.version.cmp(&x.version)).then(a.cmp(&b))
            });
        }
        found
    }

    fn providing(&self, name: &str) -> Vec<(CandidateId, Option<Version>)> {
        let mut found = self.providers.get(name).cloned().unwrap_or_default();
        for shelf in &self.shelves {
            let theirs = shelf.catalog.providing(name);
            found.extend(theirs.into_iter().map(|(number, version)| (shelf.first + number, version)));
        }
        found
    }

    /// Everything that meets a requirement, in order of preference: packages of that name before those that
    /// only provide it; the version to keep, then by rank and version.
    pub fn matching(&self, requirement: &Requirement, request: &Request) -> Vec<CandidateId> {
        let mut found = self.named(&requirement.name);
        found.retain(|&id| requirement.admits(Some(&self.get(id).version)));
        let kept = |id: &CandidateId| {
            let candidate = self.get(*id);
            request.keep.get(&candidate.name) == Some(&candidate.version)
        };
        if request.prefer == Prefer::Minimal {
            found.sort_by(|&a, &b| {
                let (x, y) = (self.get(a), self.get(b));
                x.rank.cmp(&y.rank).then_with(|| x.version.cmp(&y.version)).then(a.cmp(&b))
            });
        }
        if !request.keep.is_empty() && found.len() > 1 {
            found.sort_by_key(|id| !kept(id));
        }
        let mut providers: Vec<CandidateId> = self
            .providing(&requirement.name)
            .into_iter()
            .filter(|(id, version)| requirement.admits(version.as_ref()) && self.get(*id).name != requirement.name)
            .map(|(id, _)| id)
            .collect();
        if !providers.is_empty() {
            let order = |&a: &CandidateId, &b: &CandidateId| {
                let (x, y) = (self.get(a), self.get(b));
                let by_version = match request.prefer {
                    Prefer::Newest => y.version.cmp(&x.version),
                    Prefer::Minimal => x.version.cmp(&y.version),
                };
                x.rank.cmp(&y.rank).then_with(|| x.name.cmp(&y.name)).then(by_version).then(a.cmp(&b))
            };
            providers.sort_by(|a, b| kept(b).cmp(&kept(a)).then_with(|| order(a, b)));
            providers.dedup();
            found.extend(providers);
        }
        found
    }

    /// The candidates that meet any of the alternatives, the earlier alternative first, each once.
    pub fn matching_any(&self, alternatives: &Alternatives, request: &Request) -> Vec<CandidateId> {
        if let [only] = alternatives.0.as_slice() {
            return self.matching(only, request);
        }
        let mut seen = BTreeSet::new();
        alternatives.0.iter().flat_map(|r| self.matching(r, request)).filter(|id| seen.insert(*id)).collect()
    }

    /// Whether a set of candidates meets a request: every need and requirement met, nothing excluded, nothing
    /// conflicting, one version of each name. Independent of the solver, to check it.
    ///
    /// # Errors
    /// A sentence about the first thing that is not met.
    pub fn check(&self, chosen: &BTreeSet<CandidateId>, request: &Request) -> Result<(), String> {
        let plain = Request::default();
        let met = |a: &Alternatives| self.matching_any(a, &plain).iter().any(|id| chosen.contains(id));
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
                if self.matching(what, &plain).iter().any(|other| *other != id && chosen.contains(other)) {
                    return Err(format!("{} conflicts with {what}", candidate.name));
                }
            }
            let about = |e: &&Exclusion| e.what.name == candidate.name;
            let admits = |e: &Exclusion| e.what.admits(Some(&candidate.version));
            if request.without.iter().filter(about).any(admits) {
                return Err(format!("{} is excluded", candidate.name));
            }
            if request.pins.iter().filter(about).any(|pin| !admits(pin)) {
                return Err(format!("{} is pinned to another version", candidate.name));
            }
        }
        Ok(())
    }
}
