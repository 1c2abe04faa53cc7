//! The solver.
//!
//! **Problem.** Choose a set of candidates that contains what is asked for and what those need in turn, at most
//! one version of each name, nothing that conflicts, nothing excluded; of the many such sets the one that
//! follows the preferences (earlier alternatives, kept versions, newest versions) and holds nothing that is not
//! needed. With conflicts and alternatives this is NP-complete, so guesses and undoing them are unavoidable.
//!
//! **Algorithm.** Conflict-driven clause learning over one truth value per candidate, with three twists that fit
//! packages. Clauses are made lazily: a candidate's requirements become clauses when it is first chosen, so only
//! the part of the universe that matters is looked at. Decisions are driven by needs: the oldest requirement of a
//! chosen candidate that is not met yet is met by its most preferred candidate still possible; nothing is ever
//! chosen but to meet a need. And every clause remembers the sentence it stands for, and every learned clause the
//! clauses it was learned from, so that a proof of unsolvability can be told in sentences (`explain.rs`).
//!
//! **Cost.** Without conflicts, linear in the requirements of what is chosen. Each conflict costs the length of
//! the trail it undoes. Nothing depends on hashing or time, so the result is the same everywhere.

use crate::explain::{self, Unsolvable};
use crate::{CandidateId, Request, Universe};
use std::collections::{BTreeMap, BTreeSet};

/// A candidate chosen (`true`) or not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Literal {
    pub(crate) candidate: CandidateId,
    pub(crate) chosen: bool,
}

fn chosen(candidate: CandidateId) -> Literal {
    Literal { candidate, chosen: true }
}

fn rejected(candidate: CandidateId) -> Literal {
    Literal { candidate, chosen: false }
}

/// The sentence a clause stands for.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Why {
    /// Need number so of the request.
    Asked(usize),
    /// The candidate's requirement number so.
    Requires(CandidateId, usize),
    /// The candidate's conflict number so, with another candidate.
    Conflicts(CandidateId, usize, CandidateId),
    /// Two versions of one name.
    SameName(CandidateId, CandidateId),
    /// Exclusion number so of the request.
    Excluded(usize, CandidateId),
    /// Pin number so of the request.
    Pinned(usize, CandidateId),
    /// Learned from these clauses.
    Learned(Vec<usize>),
}

pub(crate) struct Clause {
    /// The first two are watched.
    pub(crate) literals: Vec<Literal>,
    pub(crate) why: Why,
}

/// What was chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Solution {
    /// The candidates in order of their names.
    pub chosen: Vec<CandidateId>,
}

/// Solves a request.
///
/// # Errors
/// There is no solution; the explanation says why.
pub fn solve(universe: &Universe, request: &Request) -> Result<Solution, Box<Unsolvable>> {
    match attempt(universe, request) {
        Ok(solution) => Ok(solution),
        Err(core) => Err(Box::new(explain::explain(universe, request, core))),
    }
}

/// Solves, or gives the clauses that cannot all hold.
pub(crate) fn attempt(universe: &Universe, request: &Request) -> Result<Solution, Vec<Clause>> {
    let mut solver = Solver {
        universe,
        request,
        clauses: Vec::new(),
        watches: BTreeMap::new(),
        values: vec![None; universe.len()],
        expanded: BTreeMap::new(),
        trail: Vec::new(),
        propagated: 0,
        levels: Vec::new(),
        active: Vec::new(),
        next_active: 0,
        recommended: Vec::new(),
        next_recommended: 0,
        plain: Request::default(),
    };
    match solver.run() {
        Ok(()) => {
            let chosen =
                solver.trail.iter().filter(|a| a.literal.chosen).map(|a| a.literal.candidate).collect::<BTreeSet<_>>();
            Ok(Solution { chosen: chosen.into_iter().collect() })
        }
        Err(conflict) => Err(solver.core(conflict)),
    }
}

#[derive(Clone, Copy)]
struct Value {
    chosen: bool,
    level: usize,
    /// The clause that forced it; none for a decision.
    reason: Option<usize>,
    /// Position on the trail.
    at: usize,
}

struct Assigned {
    literal: Literal,
}

/// What to return to when a decision is undone.
struct Level {
    trail: usize,
    active: usize,
    next_active: usize,
    recommended: usize,
    next_recommended: usize,
}

struct Solver<'a> {
    universe: &'a Universe,
    request: &'a Request,
    clauses: Vec<Clause>,
    /// Clauses to look at when this literal becomes false.
    watches: BTreeMap<Literal, Vec<usize>>,
    values: Vec<Option<Value>>,
    /// Candidates whose clauses exist, with those that state a requirement.
    expanded: BTreeMap<CandidateId, Vec<usize>>,
    trail: Vec<Assigned>,
    propagated: usize,
    levels: Vec<Level>,
    /// Requirements of chosen candidates, in the order they came up.
    active: Vec<usize>,
    /// All of `active` before this is met.
    next_active: usize,
    /// Recommendations of chosen candidates, in the order they came up.
    recommended: Vec<(CandidateId, usize)>,
    /// All of `recommended` before this is met or cannot be.
    next_recommended: usize,
    /// A request without preferences, for looking up conflicts.
    plain: Request,
}

impl Solver<'_> {
    /// Ends with all needs met, or with a clause that is false whatever is decided.
    fn run(&mut self) -> Result<(), usize> {
        for (index, exclusion) in self.request.without.iter().enumerate() {
            for id in self.universe.named(&exclusion.what.name) {
                if exclusion.what.admits(Some(&self.universe.get(id).version)) {
                    self.add(vec![rejected(id)], Why::Excluded(index, id))?;
                }
            }
        }
        for (index, pin) in self.request.pins.iter().enumerate() {
            for id in self.universe.named(&pin.what.name) {
                if !pin.what.admits(Some(&self.universe.get(id).version)) {
                    self.add(vec![rejected(id)], Why::Pinned(index, id))?;
                }
            }
        }
        for (index, need) in self.request.needs.iter().enumerate() {
            let candidates = self.universe.matching_any(&need.wanted, self.request);
            let clause = self.clauses.len();
            self.active.push(clause);
            self.add(candidates.into_iter().map(chosen).collect(), Why::Asked(index))?;
        }
        loop {
            if let Some(conflict) = self.propagate() {
                self.resolve_conflict(conflict)?;
                continue;
            }
            match self.next_decision() {
                Some(candidate) => {
                    self.levels.push(Level {
                        trail: self.trail.len(),
                        active: self.active.len(),
                        next_active: self.next_active,
                        recommended: self.recommended.len(),
                        next_recommended: self.next_recommended,
                    });
                    self.assign(chosen(candidate), None);
                }
                None => return Ok(()),
            }
        }
    }

    fn value(&self, literal: Literal) -> Option<bool> {
        self.values[literal.candidate].map(|v| v.chosen == literal.chosen)
    }

    /// The most preferred candidate for the oldest need that is not met.
    fn next_decision(&mut self) -> Option<CandidateId> {
        while let Some(&clause) = self.active.get(self.next_active) {
            // Watching reorders a clause's literals, so the preference is looked up anew.
            let (met, first) = match &self.clauses[clause].why {
                Why::Asked(need) => self.best(&self.request.needs[*need].wanted),
                Why::Requires(id, n) => self.best(&self.universe.get(*id).requires[*n].0),
                _ => (true, None),
            };
            if !met {
                return first;
            }
            self.next_active += 1;
        }
        // Only when nothing is needed any more; what cannot be had is passed over, never an error.
        while let Some(&(id, n)) = self.recommended.get(self.next_recommended) {
            let (met, first) = self.best(&self.universe.get(id).recommends[n].0);
            if !met && first.is_some() {
                return first;
            }
            self.next_recommended += 1;
        }
        None
    }

    fn best(&self, wanted: &crate::Alternatives) -> (bool, Option<CandidateId>) {
        let candidates = self.universe.matching_any(wanted, self.request);
        let met = candidates.iter().any(|&id| self.value(chosen(id)) == Some(true));
        (met, candidates.into_iter().find(|&id| self.value(chosen(id)).is_none()))
    }

    fn assign(&mut self, literal: Literal, reason: Option<usize>) {
        let at = self.trail.len();
        self.values[literal.candidate] = Some(Value { chosen: literal.chosen, level: self.levels.len(), reason, at });
        self.trail.push(Assigned { literal });
    }

    /// Draws all conclusions; a clause that became false, if any.
    fn propagate(&mut self) -> Option<usize> {
        while self.propagated < self.trail.len() {
            let literal = self.trail[self.propagated].literal;
            self.propagated += 1;
            if literal.chosen
                && let Some(conflict) = self.expand(literal.candidate)
            {
                return Some(conflict);
            }
            let falsified = Literal { chosen: !literal.chosen, ..literal };
            let watching = self.watches.remove(&falsified).unwrap_or_default();
            let mut keep = Vec::with_capacity(watching.len());
            let mut conflict = None;
            for (index, &clause) in watching.iter().enumerate() {
                let literals = &mut self.clauses[clause].literals;
                if literals[0] == falsified {
                    literals.swap(0, 1);
                }
                let other = literals[0];
                let values = &self.values;
                let is_false = |l: &Literal| values[l.candidate].is_some_and(|v| v.chosen != l.chosen);
                if values[other.candidate].is_some_and(|v| v.chosen == other.chosen) {
                    keep.push(clause);
                } else if let Some(at) = (2..literals.len()).find(|&i| !is_false(&literals[i])) {
                    literals.swap(1, at);
                    let watched = literals[1];
                    self.watches.entry(watched).or_default().push(clause);
                } else if is_false(&other) {
                    keep.extend_from_slice(&watching[index..]);
                    conflict = Some(clause);
                    break;
                } else {
                    keep.push(clause);
                    self.assign(other, Some(clause));
                }
            }
            self.watches.entry(falsified).or_default().extend(keep);
            if conflict.is_some() {
                return conflict;
            }
        }
        None
    }

    /// Makes the clauses of a chosen candidate, once, and puts its requirements among the active ones.
    fn expand(&mut self, id: CandidateId) -> Option<usize> {
        if self.request.recommends {
            let count = self.universe.get(id).recommends.len();
            self.recommended.extend((0..count).map(|n| (id, n)));
        }
        if let Some(requirements) = self.expanded.get(&id) {
            self.active.extend_from_slice(requirements);
            return None;
        }
        let candidate = self.universe.get(id);
        let first = self.clauses.len();
        let requirements: Vec<usize> = (first..first + candidate.requires.len()).collect();
        self.active.extend_from_slice(&requirements);
        self.expanded.insert(id, requirements);
        let mut made = Vec::new();
        for (index, (wanted, _)) in candidate.requires.iter().enumerate() {
            let mut literals = vec![rejected(id)];
            let candidates = self.universe.matching_any(wanted, self.request);
            // A candidate that meets its own requirement makes it void.
            if candidates.contains(&id) {
                literals.push(chosen(id));
            } else {
                literals.extend(candidates.into_iter().map(chosen));
            }
            made.push((literals, Why::Requires(id, index)));
        }
        for other in self.universe.named(&candidate.name) {
            if other != id {
                made.push((vec![rejected(id), rejected(other)], Why::SameName(id.min(other), id.max(other))));
            }
        }
        for (index, (what, _)) in candidate.conflicts.iter().enumerate() {
            for other in self.universe.matching(what, &self.plain) {
                if other != id {
                    made.push((vec![rejected(id), rejected(other)], Why::Conflicts(id, index, other)));
                }
            }
        }
        let mut conflict = None;
        for (literals, why) in made {
            if let Err(false_clause) = self.add(literals, why) {
                conflict.get_or_insert(false_clause);
            }
        }
        conflict
    }

    /// Adds a clause in the middle of the search and draws its conclusion.
    ///
    /// Err: it is false as things are assigned now.
    fn add(&mut self, mut literals: Vec<Literal>, why: Why) -> Result<(), usize> {
        let index = self.clauses.len();
        // Watch what is not false; of what is false, what became so last.
        literals.sort_by_key(|&l| match (self.value(l), self.values[l.candidate]) {
            (Some(true), _) => (0, 0),
            (None, _) => (1, 0),
            (Some(false), value) => (2, usize::MAX - value.map_or(0, |v| v.at)),
        });
        let unit = literals.first().copied().filter(|&l| self.value(l) != Some(false));
        let forced = literals.get(1).is_none_or(|&l| self.value(l) == Some(false));
        for &literal in literals.iter().take(2) {
            if literals.len() > 1 {
                self.watches.entry(literal).or_default().push(index);
            }
        }
        self.clauses.push(Clause { literals, why });
        match unit {
            None => Err(index),
            Some(literal) if forced && self.value(literal).is_none() => {
                self.assign(literal, Some(index));
                Ok(())
            }
            Some(_) => Ok(()),
        }
    }

    /// Learns from a false clause and undoes decisions until the learned clause can take effect.
    ///
    /// Err: the clause is false without any decision.
    fn resolve_conflict(&mut self, mut conflict: usize) -> Result<(), usize> {
        loop {
            // A clause made late may be false since an earlier level: go back there first.
            let level = self.clauses[conflict]
                .literals
                .iter()
                .filter_map(|l| self.values[l.candidate])
                .map(|v| v.level)
                .max()
                .unwrap_or(0);
            self.undo_to(level);
            if level == 0 {
                return Err(conflict);
            }
            let (learned, from) = self.analyse(conflict);
            let back =
                learned.iter().skip(1).filter_map(|l| self.values[l.candidate]).map(|v| v.level).max().unwrap_or(0);
            self.undo_to(back);
            match self.add(learned, Why::Learned(from)) {
                Ok(()) => return Ok(()),
                Err(still) => conflict = still,
            }
        }
    }

    /// The first unique implication point: the learned clause, its asserting literal first, and the clauses it
    /// follows from.
    fn analyse(&self, conflict: usize) -> (Vec<Literal>, Vec<usize>) {
        let level = self.levels.len();
        let mut seen = BTreeSet::new();
        let mut learned = Vec::new();
        let mut from = vec![conflict];
        let mut open = 0;
        let mut clause = conflict;
        let mut at = self.trail.len();
        loop {
            for literal in &self.clauses[clause].literals {
                let Some(value) = self.values[literal.candidate] else { continue };
                if value.chosen == literal.chosen || !seen.insert(literal.candidate) {
                    continue;
                }
                if value.level == level {
                    open += 1;
                } else {
                    // Literals of level 0 stay in: their reasons belong to the proof too.
                    learned.push(*literal);
                }
            }
            loop {
                at -= 1;
                if seen.contains(&self.trail[at].literal.candidate) {
                    break;
                }
            }
            let literal = self.trail[at].literal;
            open -= 1;
            let reason = self.values[literal.candidate].and_then(|v| v.reason);
            match reason {
                Some(reason) if open > 0 => {
                    from.push(reason);
                    clause = reason;
                }
                _ => {
                    learned.insert(0, Literal { chosen: !literal.chosen, ..literal });
                    return (learned, from);
                }
            }
        }
    }

    fn undo_to(&mut self, level: usize) {
        while self.levels.len() > level {
            let Some(mark) = self.levels.pop() else { return };
            for assigned in self.trail.drain(mark.trail..) {
                self.values[assigned.literal.candidate] = None;
            }
            self.active.truncate(mark.active);
            self.next_active = mark.next_active;
            self.recommended.truncate(mark.recommended);
            self.next_recommended = mark.next_recommended;
        }
        self.propagated = self.propagated.min(self.trail.len());
    }

    /// The original clauses that make a clause false at level 0: the proof.
    fn core(mut self, conflict: usize) -> Vec<Clause> {
        let mut wanted = vec![conflict];
        let mut seen = BTreeSet::new();
        while let Some(index) = wanted.pop() {
            if !seen.insert(index) {
                continue;
            }
            if let Why::Learned(from) = &self.clauses[index].why {
                wanted.extend(from);
            }
            wanted.extend(
                self.clauses[index].literals.iter().filter_map(|l| self.values[l.candidate].and_then(|v| v.reason)),
            );
        }
        let mut core = Vec::new();
        for index in seen {
            let clause = &mut self.clauses[index];
            if !matches!(clause.why, Why::Learned(_)) {
                core.push(Clause { literals: std::mem::take(&mut clause.literals), why: clause.why.clone() });
            }
        }
        core
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Candidate, Need};
    use proptest::prelude::*;

    fn candidate(name: &str, version: &str, requires: &[&str], conflicts: &[&str]) -> Candidate {
        Candidate {
            name: name.into(),
            version: version.parse().unwrap(),
            requires: requires.iter().map(|r| (r.parse().unwrap(), format!("{name}:needs"))).collect(),
            provides: vec![],
            conflicts: conflicts.iter().map(|c| (c.parse().unwrap(), format!("{name}:conflicts"))).collect(),
            recommends: vec![],
            origin: format!("{name}.toml"),
            rank: 0,
        }
    }

    fn request(needs: &[&str]) -> Request {
        let need = |n: &&str| Need { wanted: n.parse().unwrap(), by: "image i".into(), origin: "i.toml:1".into() };
        Request { needs: needs.iter().map(need).collect(), ..Request::default() }
    }

    fn names(universe: &Universe, solution: &Solution) -> Vec<String> {
        solution.chosen.iter().map(|&id| format!("{} {}", universe.get(id).name, universe.get(id).version)).collect()
    }

    #[test]
    fn the_newest_that_fits_is_chosen_and_nothing_more() {
        let universe = Universe::new(vec![
            candidate("lampd", "2", &["libgauge < 0.4", "syslog | journal"], &[]),
            candidate("libgauge", "0.3", &[], &[]),
            candidate("libgauge", "0.4", &[], &[]),
            candidate("syslog", "1", &[], &[]),
            candidate("journal", "1", &[], &[]),
        ]);
        let solution = solve(&universe, &request(&["lampd"])).unwrap();
        assert_eq!(names(&universe, &solution), ["lampd 2", "libgauge 0.3", "syslog 1"]);
    }

    #[test]
    fn an_earlier_choice_is_kept_and_a_conflict_makes_it_move() {
        let universe = Universe::new(vec![
            candidate("a", "1", &[], &[]),
            candidate("a", "2", &[], &[]),
            candidate("b", "1", &[], &["a < 2"]),
        ]);
        let mut ask = request(&["a"]);
        ask.keep.insert("a".into(), "1".parse().unwrap());
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["a 1"]);
        ask.needs.extend(request(&["b"]).needs);
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["a 2", "b 1"]);
    }

    #[test]
    fn a_dead_end_is_left_for_the_other_alternative() {
        let universe = Universe::new(vec![
            candidate("top", "1", &["x | y", "z"], &[]),
            candidate("x", "1", &["deep"], &[]),
            candidate("y", "1", &[], &[]),
            candidate("deep", "1", &["missing"], &[]),
            candidate("z", "1", &[], &["x"]),
        ]);
        assert_eq!(names(&universe, &solve(&universe, &request(&["top"])).unwrap()), ["top 1", "y 1", "z 1"]);
    }

    /// A catalog of candidates in memory.
    struct Shelved(Vec<Candidate>);

    impl crate::Catalog for Shelved {
        fn len(&self) -> usize {
            self.0.len()
        }
        fn named(&self, name: &str) -> std::ops::Range<usize> {
            let first = self.0.partition_point(|c| c.name.as_str() < name);
            first..self.0.partition_point(|c| c.name.as_str() <= name)
        }
        fn providing(&self, name: &str) -> Vec<(usize, Option<crate::Version>)> {
            let of = |(n, c): (usize, &Candidate)| {
                c.provides.iter().find(|p| p.name == name).map(|p| (n, p.version.clone()))
            };
            self.0.iter().enumerate().filter_map(of).collect()
        }
        fn candidate(&self, number: usize) -> Candidate {
            self.0[number].clone()
        }
        fn names(&self) -> Box<dyn Iterator<Item = &str> + '_> {
            Box::new(self.0.iter().map(|c| c.name.as_str()))
        }
    }

    fn shelved(mut candidates: Vec<Candidate>) -> std::sync::Arc<dyn crate::Catalog> {
        candidates.sort_by(|a, b| a.name.cmp(&b.name).then_with(|| b.version.cmp(&a.version)));
        std::sync::Arc::new(Shelved(candidates))
    }

    #[test]
    fn a_lower_rank_wins_over_a_newer_version() {
        let mut old = candidate("horn", "1", &[], &[]);
        old.rank = 1;
        let mut new = candidate("horn", "2", &[], &[]);
        new.rank = 2;
        let universe = Universe::with_catalogs(vec![], vec![shelved(vec![new]), shelved(vec![old])]);
        assert_eq!(names(&universe, &solve(&universe, &request(&["horn"])).unwrap()), ["horn 1"]);
        assert_eq!(names(&universe, &solve(&universe, &request(&["horn > 1"])).unwrap()), ["horn 2"]);
    }

    #[test]
    fn the_oldest_that_will_do_when_that_is_preferred() {
        let all = ["1", "2", "3"].map(|v| candidate("gauge", v, &[], &[]));
        let universe = Universe::new(all.into());
        let mut ask = request(&["gauge >= 2"]);
        ask.prefer = crate::Prefer::Minimal;
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["gauge 2"]);
    }

    #[test]
    fn a_pin_holds_wherever_the_need_comes_from_and_is_told() {
        let universe = Universe::new(vec![
            candidate("lampd", "1", &["gauge"], &[]),
            candidate("gauge", "1", &[], &[]),
            candidate("gauge", "2", &[], &[]),
        ]);
        let mut ask = request(&["lampd"]);
        let pin = |what: &str| crate::Exclusion {
            what: what.parse().unwrap(),
            by: "image i".into(),
            origin: "i.toml:4".into(),
        };
        ask.pins = vec![pin("gauge < 2")];
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["gauge 1", "lampd 1"]);
        ask.pins = vec![pin("gauge >= 3")];
        let told = solve(&universe, &ask).unwrap_err();
        assert!(
            told.sentences.contains(&"image i pins gauge >= 3, so it cannot be 2 [i.toml:4]".to_string()),
            "{told}"
        );
        assert!(told.remedies.contains(&"without the pin gauge >= 3 [i.toml:4]".to_string()), "{told}");
    }

    #[test]
    fn recommendations_are_followed_as_far_as_they_go_together() {
        let mut lampd = candidate("lampd", "1", &[], &[]);
        lampd.recommends = ["docs", "missing", "quiet"].map(|r| (r.parse().unwrap(), String::new())).into();
        let all = vec![
            lampd,
            candidate("horn", "1", &[], &["quiet"]),
            candidate("docs", "1", &["pages"], &[]),
            candidate("pages", "1", &[], &[]),
            candidate("quiet", "1", &[], &[]),
        ];
        let universe = Universe::new(all);
        let mut ask = request(&["lampd", "horn"]);
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["horn 1", "lampd 1"]);
        ask.recommends = true;
        assert_eq!(names(&universe, &solve(&universe, &ask).unwrap()), ["docs 1", "horn 1", "lampd 1", "pages 1"]);
    }

    prop_compose! {
        fn any_requirement()(name in 0..5u8, bound in 0..4u8, version in 1..3u8) -> String {
            let bound = ["", " >= ", " < ", " = "][bound as usize];
            let version = if bound.is_empty() { String::new() } else { version.to_string() };
            format!("p{name}{bound}{version}")
        }
    }

    prop_compose! {
        fn any_candidate()(
            name in 0..5u8, version in 1..3u8,
            requires in proptest::collection::vec(proptest::collection::vec(any_requirement(), 1..3), 0..3),
            conflicts in proptest::collection::vec(any_requirement(), 0..2),
            recommends in proptest::collection::vec(any_requirement(), 0..2),
            provides in proptest::option::of(0..5u8),
        ) -> Candidate {
            let requires: Vec<String> = requires.iter().map(|alternatives| alternatives.join(" | ")).collect();
            let mut made = candidate(&format!("p{name}"), &version.to_string(), &[], &[]);
            made.requires = requires.iter().map(|r| (r.parse().unwrap(), String::new())).collect();
            made.conflicts = conflicts.iter().map(|c| (c.parse().unwrap(), String::new())).collect();
            made.recommends = recommends.iter().map(|r| (r.parse().unwrap(), String::new())).collect();
            made.provides = provides.map(|p| crate::Provided { name: format!("p{p}"), version: None }).into_iter().collect();
            made
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1500))]
        #[test]
        fn as_brute_force_says(
            candidates in proptest::collection::vec(any_candidate(), 1..9),
            needs in proptest::collection::vec(any_requirement(), 1..4),
            without in proptest::option::of(any_requirement()),
            pin in proptest::option::of(any_requirement()),
            (shelf, recommends, minimal) in (0..3usize, any::<bool>(), any::<bool>()),
        ) {
            let mut unique = BTreeMap::new();
            for c in candidates {
                unique.entry((c.name.clone(), c.version.to_string())).or_insert(c);
            }
            let mut all: Vec<Candidate> = unique.into_values().collect();
            let catalogs = match shelf {
                0 => vec![],
                1 => vec![shelved(std::mem::take(&mut all))],
                _ => {
                    let half = all.split_off(all.len() / 2);
                    vec![shelved(half)]
                }
            };
            let universe = Universe::with_catalogs(all, catalogs);
            let mut ask = request(&needs.iter().map(String::as_str).collect::<Vec<_>>());
            let exclusion = |w: &String| crate::Exclusion { what: w.parse().unwrap(), by: String::new(), origin: String::new() };
            ask.without = without.iter().map(exclusion).collect();
            ask.pins = pin.iter().map(exclusion).collect();
            ask.recommends = recommends;
            ask.prefer = if minimal { crate::Prefer::Minimal } else { crate::Prefer::Newest };
            let count = universe.len();
            let possible = (0u32..1 << count).any(|bits| {
                let set: BTreeSet<usize> = (0..count).filter(|i| bits >> i & 1 == 1).collect();
                universe.check(&set, &ask).is_ok()
            });
            match solve(&universe, &ask) {
                Ok(solution) => {
                    let set: BTreeSet<usize> = solution.chosen.iter().copied().collect();
                    prop_assert_eq!(universe.check(&set, &ask), Ok(()));
                }
                Err(unsolvable) => {
                    prop_assert!(!possible, "there is a solution, but: {}", unsolvable);
                    prop_assert!(!unsolvable.sentences.is_empty());
                }
            }
        }
    }
}
