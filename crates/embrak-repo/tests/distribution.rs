//! The index of a whole distribution, as the machine's package manager keeps it: closures of packages drawn at random
//! are found and valid, judged by a reading of the index that shares nothing with the program but the version order.

use embrak_repo::{DebianRepository, FetchEvent, Fetcher, Index, Repository, Stanza, Stanzas};
use embrak_resolve::{Catalog, Need, Request, Universe, Version, solve};
use embrak_store::Store;
use embrak_tree::Digest;
use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// The text of the largest index the machine has; none when it has none.
fn machine_index() -> Option<Vec<u8>> {
    let listed =
        Command::new("apt-get").args(["indextargets", "--format", "$(FILENAME)", "Created-By: Packages"]).output();
    let listed = listed.ok().filter(|o| o.status.success())?;
    let texts = String::from_utf8_lossy(&listed.stdout).into_owned();
    let cat =
        |path: &str| Command::new("/usr/lib/apt/apt-helper").args(["cat-file", path]).output().ok().map(|o| o.stdout);
    texts.lines().filter_map(cat).max_by_key(Vec::len).filter(|t| t.len() > 1 << 20)
}

fn open(text: &[u8], dir: &std::path::Path) -> Vec<Arc<Index>> {
    let base = dir.join("mirror/dists/x/main/binary-amd64");
    std::fs::create_dir_all(&base).unwrap();
    std::fs::write(base.join("Packages"), text).unwrap();
    let release = format!(
        "Date: Sun, 01 Mar 2026 00:00:00 UTC\nArchitectures: amd64\nComponents: main\nSHA256:\n {} {} main/binary-amd64/Packages\n",
        Digest::of(text).hex(),
        text.len()
    );
    std::fs::write(dir.join("mirror/dists/x/Release"), release).unwrap();
    let repository = DebianRepository {
        name: "mainland".into(),
        url: format!("file://{}", dir.join("mirror").display()),
        suites: vec!["x".into()],
        components: vec![],
        architecture: "amd64".into(),
        keyring: None,
        keyring_digest: None,
        trusted: true,
        expired: false,
        contents: false,
        rank: 1,
        now: 0,
    };
    let store = Store::open(dir.join("store")).unwrap();
    static STOP: AtomicBool = AtomicBool::new(false);
    let quiet = |_: FetchEvent<'_>| {};
    let fetcher = Fetcher::new(&quiet, &STOP);
    let snapshot = repository.refresh(&store, &fetcher).unwrap();
    repository.open(&store, &fetcher, &snapshot).unwrap();
    // The second time it comes out of its binary form.
    repository.open(&store, &fetcher, &snapshot).unwrap()
}

/// What the judge knows of one package.
#[derive(Default, Clone)]
struct Known {
    version: String,
    needs: String,
    against: String,
    provides: Vec<(String, Option<String>)>,
}

/// `name (>> 1)` taken apart, its own way.
fn relation(text: &str) -> (String, Option<(String, String)>) {
    let text = text.trim();
    match text.find('(') {
        Some(at) => {
            let inner = text[at + 1..].trim_end_matches(')').trim();
            let end = inner.find(|c: char| !"<>=".contains(c)).unwrap_or(inner.len());
            (text[..at].trim().to_string(), Some((inner[..end].to_string(), inner[end..].trim().to_string())))
        }
        None => (text.to_string(), None),
    }
}

fn admits(bound: &Option<(String, String)>, version: Option<&str>) -> bool {
    let Some((sign, wanted)) = bound else { return true };
    let Some(version) = version else { return false };
    let (a, b): (Version, Version) = (version.parse().unwrap(), wanted.parse().unwrap());
    match sign.as_str() {
        "<<" => a < b,
        "<=" => a <= b,
        "=" => a == b,
        ">=" => a >= b,
        _ => a > b,
    }
}

/// Whether something in the set, other than `but`, is what a relation speaks of.
fn there(set: &BTreeMap<String, Known>, text: &str, but: &str) -> bool {
    let (name, bound) = relation(text);
    let name = name.trim_end_matches(":amd64").trim_end_matches(":native").to_string();
    let itself = |n: &str, k: &Known| n == name && admits(&bound, Some(&k.version));
    let by_provision =
        |k: &Known| k.provides.iter().any(|(n, version)| *n == name && admits(&bound, version.as_deref()));
    set.iter().any(|(n, k)| n != but && (itself(n, k) || by_provision(k)))
}

#[test]
fn closures_of_packages_drawn_at_random_are_valid() {
    let Some(text) = machine_index() else {
        assert!(
            std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none(),
            "the package manager's lists are required: apt-get update"
        );
        eprintln!("skipped: this machine's package manager has no lists");
        return;
    };
    let dir = tempfile::tempdir().unwrap();
    let indexes = open(&text, dir.path());
    let mut known: BTreeMap<(String, String), Known> = BTreeMap::new();
    let mut stanzas = Stanzas::new(text.as_slice());
    let mut stanza = Stanza::default();
    while stanzas.next_into(&mut stanza).unwrap() {
        let get = |name: &str| stanza.get(name).unwrap_or_default().to_string();
        let (name, version) = (get("Package"), get("Version"));
        let mut provides: Vec<(String, Option<String>)> = get("Provides")
            .split(',')
            .filter(|p| !p.trim().is_empty())
            .map(relation)
            .map(|(n, bound)| (n, bound.map(|(_, v)| v)))
            .collect();
        if get("Multi-Arch") == "allowed" {
            provides.push((format!("{name}:any"), Some(version.clone())));
        }
        let needs = [get("Depends"), get("Pre-Depends")].join(",");
        let against = [get("Conflicts"), get("Breaks")].join(",");
        known.insert((name, version.clone()), Known { version, needs, against, provides });
    }
    let names: Vec<String> = indexes[0].names().map(String::from).collect();
    assert!(names.len() > 10_000, "{}", names.len());
    let universe = Universe::with_catalogs(vec![], indexes.iter().map(|i| i.clone() as Arc<dyn Catalog>).collect());
    let (mut found, mut largest, mut state) = (0, 0, 0x2545_f491_4f6c_dd1du64);
    for _ in 0..200 {
        // xorshift: the same draws every time over the same index.
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let name = &names[(state % names.len() as u64) as usize];
        let wanted = name.parse().unwrap_or_else(|e| panic!("{name}: {e}"));
        let needs = vec![Need { wanted, by: "the test".into(), origin: String::new() }];
        let solution = match solve(&universe, &Request { needs, ..Request::default() }) {
            Ok(solution) => solution,
            Err(why) => {
                assert!(!why.sentences.is_empty() && why.to_string().contains(name.as_str()), "{why}");
                continue;
            }
        };
        found += 1;
        largest = largest.max(solution.chosen.len());
        let set: BTreeMap<String, Known> = solution
            .chosen
            .iter()
            .map(|&id| universe.get(id))
            .map(|c| (c.name.clone(), known[&(c.name.clone(), c.version.to_string())].clone()))
            .collect();
        assert_eq!(set.len(), solution.chosen.len(), "one version of each");
        assert!(set.contains_key(name));
        for (package, k) in &set {
            for need in k.needs.split(',').filter(|n| !n.trim().is_empty()) {
                let met = need.split('|').any(|one| there(&set, one, ""));
                assert!(met, "for {name}: {package} needs {need}");
            }
            for other in k.against.split(',').filter(|n| !n.trim().is_empty()) {
                assert!(!there(&set, other, package), "for {name}: {package} against {other}");
            }
        }
        let reasons: BTreeSet<&String> = set.keys().collect();
        assert!(!reasons.is_empty());
    }
    eprintln!("{found} of 200 closures, the largest of {largest} packages, out of {} names", names.len());
    assert!(found >= 190, "{found} of 200");
}
