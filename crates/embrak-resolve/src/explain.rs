//! Telling why there is no solution.
//!
//! The solver's proof is a set of clauses that cannot all hold. It is made as small as it gets by leaving out one
//! clause after the other and looking whether the rest still cannot hold; what remains is told in sentences, and
//! the request is tried again without each of its own lines to find out which of them would help.

use crate::solver::{Clause, Literal, Why, attempt};
use crate::{Alternatives, CandidateId, Request, Universe};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// Above this many clauses a proof is told as it is, because making it smaller would take too long.
const SHRINK_LIMIT: usize = 400;

/// There is no solution, and this is why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsolvable {
    /// The explanation in order of reading; each names a package and where the line behind it is written.
    pub sentences: Vec<String>,
    /// What would make it solvable.
    pub remedies: Vec<String>,
    /// Requirements of the explanation that nothing meets, for those who know where else to look.
    pub missing: Vec<Alternatives>,
}

impl fmt::Display for Unsolvable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, sentence) in self.sentences.iter().enumerate() {
            writeln!(f, "{}. {sentence}", index + 1)?;
        }
        for remedy in &self.remedies {
            writeln!(f, "It would work {remedy}.")?;
        }
        Ok(())
    }
}

impl std::error::Error for Unsolvable {}

pub(crate) fn explain(universe: &Universe, request: &Request, core: Vec<Clause>) -> Unsolvable {
    let core = shrink(core);
    let whys: BTreeSet<Why> = core.into_iter().map(|c| c.why).collect();
    let teller = Teller { universe, request };
    let mut missing: Vec<Alternatives> = Vec::new();
    for why in &whys {
        let wanted = match why {
            Why::Asked(index) => &request.needs[*index].wanted,
            Why::Requires(id, index) => &universe.get(*id).requires[*index].0,
            _ => continue,
        };
        if universe.matching_any(wanted, &Request::default()).is_empty() && !missing.contains(wanted) {
            missing.push(wanted.clone());
        }
    }
    Unsolvable { sentences: teller.sentences(&whys), remedies: remedies(universe, request, &whys), missing }
}

/// Leaves out every clause that is not needed for the contradiction.
fn shrink(mut core: Vec<Clause>) -> Vec<Clause> {
    if core.len() > SHRINK_LIMIT {
        return core;
    }
    let mut index = 0;
    while index < core.len() {
        let rest: Vec<&[Literal]> =
            core.iter().enumerate().filter(|(i, _)| *i != index).map(|(_, c)| c.literals.as_slice()).collect();
        if satisfiable(&rest, &mut BTreeMap::new()) {
            index += 1;
        } else {
            core.remove(index);
        }
    }
    core
}

/// Plain search with unit propagation; enough for the few clauses of a proof.
fn satisfiable(clauses: &[&[Literal]], values: &mut BTreeMap<CandidateId, bool>) -> bool {
    let mut set = Vec::new();
    let result = loop {
        let mut unit = None;
        let mut open = None;
        let mut failed = false;
        for clause in clauses {
            let mut free = Vec::new();
            let mut met = false;
            for literal in *clause {
                match values.get(&literal.candidate) {
                    Some(value) if *value == literal.chosen => met = true,
                    Some(_) => {}
                    None => free.push(*literal),
                }
            }
            match (met, free.as_slice()) {
                (true, _) => {}
                (false, []) => failed = true,
                (false, [only]) => unit = Some(*only),
                (false, [first, ..]) => open = Some(*first),
            }
        }
        match (failed, unit, open) {
            (true, ..) => break false,
            (_, Some(literal), _) => {
                values.insert(literal.candidate, literal.chosen);
                set.push(literal.candidate);
            }
            (_, _, None) => break true,
            (_, _, Some(literal)) => {
                let tried = [literal.chosen, !literal.chosen].into_iter().any(|value| {
                    values.insert(literal.candidate, value);
                    let worked = satisfiable(clauses, values);
                    values.remove(&literal.candidate);
                    worked
                });
                break tried;
            }
        }
    };
    for candidate in set {
        values.remove(&candidate);
    }
    result
}

struct Teller<'a> {
    universe: &'a Universe,
    request: &'a Request,
}

impl Teller<'_> {
    /// Requests first, then what follows from each in turn, then what stands in the way.
    fn sentences(&self, whys: &BTreeSet<Why>) -> Vec<String> {
        let mut out = Vec::new();
        let mut told = BTreeSet::new();
        let mut queue: Vec<CandidateId> = Vec::new();
        for why in whys {
            if let Why::Asked(index) = why {
                let need = &self.request.needs[*index];
                let found = self.found(&need.wanted, &mut queue);
                out.push(format!("{} asks for {}{} [{}]", need.by, need.wanted, found, need.origin));
            }
        }
        let mut at = 0;
        while at < queue.len() {
            let id = queue[at];
            at += 1;
            if !told.insert(id) {
                continue;
            }
            for why in whys {
                if let Why::Requires(candidate, index) = why
                    && *candidate == id
                {
                    let (wanted, origin) = &self.universe.get(id).requires[*index];
                    let found = self.found(wanted, &mut queue);
                    out.push(format!("{} needs {wanted}{found} [{origin}]", self.name(id)));
                }
            }
        }
        for why in whys {
            match why {
                Why::Conflicts(id, index, other) => {
                    let (what, origin) = &self.universe.get(*id).conflicts[*index];
                    let other = self.name(*other);
                    let also = if what.to_string() == other { String::new() } else { format!(", which {other} is") };
                    out.push(format!("{} cannot be together with {what}{also} [{origin}]", self.name(*id)));
                }
                Why::SameName(a, b) => {
                    out.push(format!("{} and {} cannot both be in one image", self.name(*a), self.name(*b)));
                }
                Why::Excluded(index, id) => {
                    let exclusion = &self.request.without[*index];
                    out.push(format!(
                        "{} excludes {} with `without` [{}]",
                        exclusion.by,
                        self.name(*id),
                        exclusion.origin
                    ));
                }
                Why::Pinned(index, id) => {
                    let pin = &self.request.pins[*index];
                    out.push(format!(
                        "{} pins {}, so it cannot be {} [{}]",
                        pin.by,
                        pin.what,
                        self.universe.get(*id).version,
                        pin.origin
                    ));
                }
                Why::Asked(_) | Why::Requires(..) | Why::Learned(_) => {}
            }
        }
        // The same version from two places says the same twice.
        let mut said = BTreeSet::new();
        out.retain(|sentence| said.insert(sentence.clone()));
        out
    }

    /// What there is for a requirement, when that is worth saying; queues the candidates.
    fn found(&self, wanted: &Alternatives, queue: &mut Vec<CandidateId>) -> String {
        let candidates = self.universe.matching_any(wanted, &Request::default());
        queue.extend(&candidates);
        if candidates.is_empty() {
            let mut there: Vec<String> = Vec::new();
            for requirement in &wanted.0 {
                for id in self.universe.named(&requirement.name) {
                    there.push(format!("{} from {}", self.name(id), self.universe.get(id).origin));
                }
            }
            if there.is_empty() {
                return match self.similar(wanted) {
                    Some(similar) => format!(", and nothing provides that (did you mean {similar}?)"),
                    None => ", and nothing provides that".to_string(),
                };
            }
            return format!(", but there is only {}", there.join(" and "));
        }
        let names: BTreeSet<&str> = wanted.0.iter().map(|r| r.name.as_str()).collect();
        if candidates.iter().any(|&id| !names.contains(self.universe.get(id).name.as_str())) {
            let shown: Vec<String> = candidates.iter().take(4).map(|&id| self.name(id)).collect();
            return format!(", which {} provides", shown.join(" or "));
        }
        String::new()
    }

    fn name(&self, id: CandidateId) -> String {
        let candidate = self.universe.get(id);
        format!("{} {}", candidate.name, candidate.version)
    }

    /// A package whose name differs from the wanted one by a character or two.
    fn similar(&self, wanted: &Alternatives) -> Option<String> {
        let name = &wanted.0.first()?.name;
        let close = |other: &&str| (1..=2).contains(&strsim::damerau_levenshtein(name, other));
        let names: BTreeSet<&str> = self.universe.names().collect();
        names.into_iter().filter(close).min_by_key(|other| strsim::damerau_levenshtein(name, other)).map(String::from)
    }
}

/// The lines of the request of which leaving out one would be enough.
fn remedies(universe: &Universe, request: &Request, whys: &BTreeSet<Why>) -> Vec<String> {
    let mut out = Vec::new();
    for why in whys {
        let mut changed = request.clone();
        let said = match why {
            Why::Asked(index) => {
                let need = changed.needs.remove(*index);
                format!("without asking for {} [{}]", need.wanted, need.origin)
            }
            Why::Excluded(index, _) => {
                let exclusion = changed.without.remove(*index);
                format!("without excluding {} [{}]", exclusion.what, exclusion.origin)
            }
            Why::Pinned(index, _) => {
                let pin = changed.pins.remove(*index);
                format!("without the pin {} [{}]", pin.what, pin.origin)
            }
            _ => continue,
        };
        if attempt(universe, &changed).is_ok() && !out.contains(&said) {
            out.push(said);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use crate::{Candidate, Exclusion, Need, Request, Universe, solve};

    fn candidate(name: &str, version: &str, requires: &[&str], conflicts: &[&str]) -> Candidate {
        let place = |line: usize| format!("recipes/{name}/recipe.toml:{line}");
        Candidate {
            name: name.into(),
            version: version.parse().unwrap(),
            requires: requires.iter().map(|r| (r.parse().unwrap(), place(9))).collect(),
            provides: vec![],
            conflicts: conflicts.iter().map(|c| (c.parse().unwrap(), place(5))).collect(),
            recommends: vec![],
            origin: format!("recipes/{name}"),
            rank: 0,
        }
    }

    fn asking(needs: &[&str]) -> Request {
        let need = |(i, n): (usize, &&str)| Need {
            wanted: n.parse().unwrap(),
            by: "image console".into(),
            origin: format!("console.toml:{}", i + 1),
        };
        Request { needs: needs.iter().enumerate().map(need).collect(), ..Request::default() }
    }

    #[test]
    fn a_version_that_does_not_exist() {
        let universe = Universe::new(vec![
            candidate("lampd", "2.0", &["libgauge >= 0.4"], &[]),
            candidate("libgauge", "0.3", &[], &[]),
        ]);
        let told = solve(&universe, &asking(&["lampd"])).unwrap_err().to_string();
        assert_eq!(
            told,
            "1. image console asks for lampd [console.toml:1]\n\
             2. lampd 2.0 needs libgauge >= 0.4, but there is only libgauge 0.3 from recipes/libgauge [recipes/lampd/recipe.toml:9]\n\
             It would work without asking for lampd [console.toml:1].\n"
        );
    }

    #[test]
    fn only_what_matters_is_told() {
        let universe = Universe::new(vec![
            candidate("horn", "1", &["air"], &[]),
            candidate("air", "1", &[], &[]),
            candidate("quiet", "1", &[], &["air"]),
            candidate("other", "1", &["more"], &[]),
            candidate("more", "1", &[], &[]),
        ]);
        let told = solve(&universe, &asking(&["other", "horn", "quiet"])).unwrap_err();
        assert_eq!(
            told.sentences,
            [
                "image console asks for horn [console.toml:2]",
                "image console asks for quiet [console.toml:3]",
                "horn 1 needs air [recipes/horn/recipe.toml:9]",
                "quiet 1 cannot be together with air, which air 1 is [recipes/quiet/recipe.toml:5]",
            ]
        );
        assert_eq!(told.remedies.len(), 2);
    }

    #[test]
    fn an_exclusion_and_a_misspelt_name() {
        let universe =
            Universe::new(vec![candidate("lampd", "1", &["libgauge"], &[]), candidate("libgauge", "1", &[], &[])]);
        let mut ask = asking(&["lampd"]);
        ask.without.push(Exclusion {
            what: "libgauge".parse().unwrap(),
            by: "image console".into(),
            origin: "console.toml:7".into(),
        });
        let told = solve(&universe, &ask).unwrap_err();
        assert_eq!(told.sentences[2], "image console excludes libgauge 1 with `without` [console.toml:7]");
        assert!(told.remedies.contains(&"without excluding libgauge [console.toml:7]".to_string()));
        let told = solve(&universe, &asking(&["lampdd"])).unwrap_err();
        assert_eq!(
            told.sentences,
            ["image console asks for lampdd, and nothing provides that (did you mean lampd?) [console.toml:1]"]
        );
    }
}
