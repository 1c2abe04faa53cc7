//! Why a package is there, and where one could be had that is not.

use super::Why;
use embrak_model::Workspace;
use embrak_resolve::{Alternatives, CandidateId, Request, Universe};
use std::collections::{BTreeMap, BTreeSet};

/// Who asks for each chosen package.
pub(super) fn reasons(universe: &Universe, request: &Request, chosen: &[CandidateId]) -> BTreeMap<String, Vec<Why>> {
    let set: BTreeSet<CandidateId> = chosen.iter().copied().collect();
    let none = Request::default();
    let mut out: BTreeMap<String, Vec<Why>> = BTreeMap::new();
    let mut note = |wanted: &Alternatives, by: &str, origin: &str| {
        for id in universe.matching_any(wanted, &none).into_iter().filter(|id| set.contains(id)).take(1) {
            let why = Why { wanted: wanted.to_string(), by: by.to_string(), origin: origin.to_string() };
            out.entry(universe.get(id).name.clone()).or_default().push(why);
        }
    };
    for need in &request.needs {
        note(&need.wanted, &need.by, &need.origin);
    }
    for &id in chosen {
        let candidate = universe.get(id);
        for (wanted, origin) in &candidate.requires {
            note(wanted, &format!("{} {}", candidate.name, candidate.version), origin);
        }
    }
    out
}

/// Who recommends what nobody needs.
pub(super) fn recommendations(universe: &Universe, chosen: &[CandidateId], why: &mut BTreeMap<String, Vec<Why>>) {
    let set: BTreeSet<CandidateId> = chosen.iter().copied().collect();
    let plain = Request::default();
    for &id in chosen {
        let candidate = universe.get(id);
        for (wanted, origin) in &candidate.recommends {
            let met = universe.matching_any(wanted, &plain).into_iter().find(|id| set.contains(id));
            if let Some(name) = met.map(|id| universe.get(id).name.clone()).filter(|n| !why.contains_key(n)) {
                let by = format!("{} {}, which recommends it", candidate.name, candidate.version);
                why.insert(name, vec![Why { wanted: wanted.to_string(), by, origin: origin.clone() }]);
            }
        }
    }
}

/// Packages of recipes in layers that lie beside those of the workspace and are not used: layer, name, version.
pub(super) fn beside(workspace: &Workspace) -> Vec<(String, String, String)> {
    #[derive(serde::Deserialize)]
    struct Named {
        name: String,
        version: String,
        #[serde(default)]
        revision: Option<u32>,
    }
    let used: BTreeSet<std::path::PathBuf> =
        workspace.layers.iter().filter_map(|l| l.dir.canonicalize().ok()).collect();
    let parents: BTreeSet<&std::path::Path> =
        workspace.layers.iter().filter(|l| l.tree.is_none()).filter_map(|l| l.dir.parent()).collect();
    let list = |dir: &std::path::Path| -> Vec<std::path::PathBuf> {
        let mut found: Vec<_> = std::fs::read_dir(dir).into_iter().flatten().flatten().map(|e| e.path()).collect();
        found.sort();
        found
    };
    let mut out = Vec::new();
    for layer in parents.into_iter().flat_map(list) {
        if !layer.join("layer.toml").is_file() || layer.canonicalize().is_ok_and(|l| used.contains(&l)) {
            continue;
        }
        let shown = layer.strip_prefix(&workspace.root).unwrap_or(&layer).display().to_string();
        for recipe in list(&layer.join("recipes")) {
            let text = std::fs::read_to_string(recipe.join("recipe.toml")).unwrap_or_default();
            if let Ok(found) = toml::from_str::<Named>(&text) {
                let version = format!("{}-{}", found.version, found.revision.unwrap_or(1));
                out.push((shown.clone(), found.name, version));
            }
        }
    }
    out
}
