//! Rebuilders who have no more than an artifact, its evidence and its inputs; and definitions that carry signatures.

mod common;

use common::{Place, output};
use std::fs;
use std::path::Path;

/// An image of a package that a step makes, in two forms.
fn maker() -> Place {
    let place = Place::of(&[
        (
            "l/recipes/horn/recipe.toml",
            "name = 'horn'\nversion = '2'\nsummary = 's'\nlicense = 'MIT'\n[[source]]\ndir = 'src'\n\
             [steps]\ninstall = 'mkdir -p $OUT/usr/bin; tr a-z A-Z < horn.txt > $OUT/usr/bin/horn; chmod 755 $OUT/usr/bin/horn'\n",
        ),
        ("l/recipes/horn/src/horn.txt", "three long blasts\n"),
        ("l/images/i.toml", "image = 'i'\nversion = '1'\npackages = ['horn']\noutputs = ['rootfs:tar', 'manifest']\n"),
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n"),
        (
            "trust.toml",
            "[signer.maker]\nkey = 'keys/maker.pub'\nmay = ['provenance', 'bill']\n\
             [signer.one]\nkey = 'keys/one.pub'\nmay = ['reproduction']\n[signer.two]\nkey = 'keys/two.pub'\nmay = ['reproduction']\n\
             [[policy]]\nimages = ['*']\nrequire = { provenance = 1, reproduction = 2 }\n",
        ),
    ]);
    for key in ["maker", "one", "two"] {
        place.run(&["keys", "new", key]).expect(0);
    }
    place.with_own_store()
}

/// A place that has the named files of another, and nothing else.
fn carried(from: &Place, files: &[&Path]) -> Place {
    let place = Place { dir: tempfile::tempdir().unwrap(), store: from.store.clone() }.with_own_store();
    fs::create_dir(place.path("w")).unwrap();
    for file in files {
        fs::copy(file, place.path("w").join(file.file_name().unwrap())).unwrap();
    }
    place
}

#[test]
fn two_rebuilders_need_no_more_than_artifact_evidence_and_inputs() {
    let maker = maker();
    let record = maker.build(&["i", "--board", "b"]);
    let artifact = output(&record, ".tar")["path"].as_str().unwrap().to_string();
    let evidence = format!("{artifact}.evidence.jsonl");
    maker.run(&["sign", &artifact, "--key", "keys/maker.key"]).expect(0);
    maker.run(&["verify", &artifact]).expect(3);
    maker.run(&["vendor", "../inputs", "i", "--board", "b", "--key", "keys/maker.key"]).expect(0);
    let (public, inputs) = (maker.file("keys/maker.pub"), maker.path("inputs"));
    let inputs = inputs.to_str().unwrap();
    let name = Path::new(&artifact).file_name().unwrap().to_str().unwrap();

    for rebuilder in ["one", "two"] {
        let key = maker.file(&format!("keys/{rebuilder}.key"));
        let place = carried(&maker, &[Path::new(&artifact), Path::new(&evidence), &public, &key]);
        let key = format!("{rebuilder}.key");
        let args = ["reproduce", name, "--vendored", inputs, "--vendor-key", "maker.pub", "--key", &key];
        let said = place.run(&args).expect(0);
        assert!(said.out.contains("as the evidence tells, built again"), "{}", said.out);
        assert!(said.out.contains("1 of 1 package, 1 of 1 output"), "{}", said.out);
        // Each hands back what it has to say.
        let theirs = fs::read_to_string(place.path("w").join(format!("{name}.evidence.jsonl"))).unwrap();
        let new = theirs.lines().last().unwrap();
        fs::write(&evidence, fs::read_to_string(&evidence).unwrap() + new + "\n").unwrap();
    }
    let said = maker.run(&["verify", &artifact]).expect(0);
    assert!(said.out.contains("reproduction by 2 signers: one, two"), "{}", said.out);
}

#[test]
fn what_is_missing_or_other_is_told_before_anything_is_built() {
    let maker = maker();
    let record = maker.build(&["i", "--board", "b"]);
    let artifact = output(&record, ".tar")["path"].as_str().unwrap().to_string();
    maker.run(&["sign", &artifact, "--key", "keys/maker.key"]).expect(0);
    let name = Path::new(&artifact).file_name().unwrap().to_str().unwrap();
    let evidence = format!("{artifact}.evidence.jsonl");
    let stranger = carried(&maker, &[Path::new(&artifact), Path::new(&evidence)]);
    stranger.run(&["reproduce", name]).expect(1).says(&["nothing here has the inputs", "--vendored"]);
    fs::remove_file(stranger.file(&format!("{name}.evidence.jsonl"))).unwrap();
    stranger.run(&["reproduce", name]).expect(1).says(&["has no evidence"]);

    // The workspace in another store will do as it is, and will not when something in it has changed.
    let elsewhere = Place { dir: maker.dir, store: maker.store.with_file_name("another") };
    let said = elsewhere.run(&["reproduce", &artifact]).expect(0);
    assert!(said.out.contains("as the evidence tells"), "{}", said.out);
    elsewhere.write("l/recipes/horn/src/horn.txt", "two short blasts\n");
    elsewhere.run(&["reproduce", &artifact]).expect(1).says(&[
        "inputs are not those the artifact was made of",
        "embrak.lock: recorded sha256:",
        "workspace: recorded sha256:",
    ]);
    elsewhere.write("l/recipes/horn/src/horn.txt", "three long blasts\n");

    // A store that has lost an input names it; the vendor directory has all.
    let gone = embrak_tree::Digest::of("three long blasts\n").hex();
    let store = maker.store;
    let elsewhere = Place { store: store.clone(), ..elsewhere };
    elsewhere.run(&["vendor", "../inputs", "i", "--board", "b", "--key", "keys/maker.key"]).expect(0);
    fs::remove_file(store.join("objects/sha256").join(&gone[..2]).join(&gone[2..])).unwrap();
    elsewhere.run(&["reproduce", &artifact]).expect(1).says(&["cannot be had any more", "horn.txt", &gone]);
    elsewhere.run(&["reproduce", &artifact, "--vendored", "../inputs"]).expect(0);
}

#[test]
fn layers_and_locks_are_used_only_as_the_policy_lets_them() {
    let place = maker();
    let policy = "[signer.maker]\nkey = 'keys/maker.pub'\nmay = ['layer']\n[signer.one]\nkey = 'keys/one.pub'\nmay = ['lock']\n\
                  [definitions]\nlock = 1\n[[definitions.layer]]\nnames = ['*']\nsigners = 1\n";
    place.write("trust.toml", policy);
    place.run(&["lock", "i", "--board", "b"]).expect(1).says(&[
        "does not let l be used",
        "it is not signed",
        "embrak sign l",
    ]);
    place.run(&["sign", "l", "--key", "keys/maker.key"]).expect(0);
    place.run(&["verify", "l"]).expect(0);
    place.run(&["lock", "i", "--board", "b"]).expect(0);
    place
        .run(&["build", "i", "--board", "b"])
        .expect(1)
        .says(&["does not let embrak.lock be used", "it is not signed"]);
    // Who may speak for layers may not for locks.
    place.run(&["sign", "embrak.lock", "--key", "keys/maker.key"]).expect(0);
    place.run(&["build", "i", "--board", "b"]).expect(1).says(&["maker may not say lock"]);
    fs::remove_file(place.file("embrak.lock.evidence.jsonl")).unwrap();
    place.run(&["sign", "embrak.lock", "--key", "keys/one.key"]).expect(0);
    place.run(&["verify", "l", "embrak.lock"]).expect(0);
    place.run(&["build", "i", "--board", "b"]).expect(0);
    place.run(&["reproduce"]).expect(0);

    // Whatever changes is not what was signed any more.
    place.write("l/recipes/horn/src/horn.txt", "two short blasts\n");
    let said = place.run(&["verify", "l"]).expect(3);
    assert!(said.out.contains("this directory digests to"), "{}", said.out);
    place.run(&["build", "i", "--board", "b"]).expect(1).says(&["does not let l be used"]);
    place.run(&["sign", "l", "--key", "keys/maker.key"]).expect(0);
    place
        .run(&["build", "i", "--board", "b"])
        .expect(1)
        .says(&["does not let embrak.lock be used", "this file digests to"]);
    assert!(!place.read("embrak.lock").is_empty());
    place.run(&["lock", "i", "--board", "b"]).expect(0);
    place.run(&["sign", "embrak.lock", "--key", "keys/one.key"]).expect(0);
    place.run(&["build", "i", "--board", "b", "--locked"]).expect(0);
    let evidence = place.read("l/layer.evidence.jsonl");
    place.write("l/layer.evidence.jsonl", &evidence.replacen('A', "B", 1));
    place.run(&["build", "i", "--board", "b"]).expect(1).says(&["does not let l be used"]);
}

#[test]
fn locks_runs_and_evidence_are_compared_by_what_they_say() {
    let place = maker();
    let first = place.build(&["i", "--board", "b"]);
    place.run(&["sign", "--key", "keys/maker.key"]).expect(0);
    fs::copy(place.file("embrak.lock"), place.file("before.lock")).unwrap();
    let evidence =
        |record: &serde_json::Value| output(record, ".tar")["path"].as_str().unwrap().to_string() + ".evidence.jsonl";
    fs::copy(evidence(&first), place.file("before.jsonl")).unwrap();
    // Not what was made, only when: two runs of the same are the same.
    place.build(&["i", "--board", "b"]);
    let said = place.run(&["diff", "1", "r2"]).expect(0);
    assert!(said.out.contains("made of the same, with the same result"), "{}", said.out);
    place.run(&["diff", "before.lock", "embrak.lock"]).expect(0);

    let recipe = place.read("l/recipes/horn/recipe.toml").replace("version = '2'", "version = '3'");
    place.write("l/recipes/horn/recipe.toml", &recipe);
    let third = place.build(&["i", "--board", "b"]);
    place.run(&["sign", "--key", "keys/maker.key"]).expect(0);
    for (a, b) in [("before.lock", "embrak.lock"), ("1", "3")] {
        let found = place.run(&["diff", a, b, "--json"]).expect(3).json();
        assert_eq!(
            found["packages"],
            serde_json::json!([{ "name": "horn", "before": "2-1", "after": "3-1" }]),
            "{found}"
        );
        let fields = found["differences"].as_array().unwrap();
        assert!(
            !fields.is_empty() && fields.iter().all(|d| !d["field"].as_str().unwrap().contains("seconds")),
            "{found}"
        );
    }
    let found = place.run(&["diff", "before.jsonl", &evidence(&third), "--json"]).expect(3).json();
    let told = |what: &str| {
        found["differences"].as_array().unwrap().iter().any(|d| d["field"].as_str().unwrap().contains(what))
    };
    assert!(told("provenance by ") && told("package horn 3-1") && told("bill bom by "), "{found}");
    place.run(&["diff", "1", "9"]).expect(1).says(&["there is no run 9 on record"]);
}

#[test]
fn packages_of_ours_are_looked_into_and_compared() {
    let place = maker();
    place.build(&["i", "--board", "b"]);
    place.run(&["publish", "../packages", "--key", "keys/maker.key"]).expect(0);
    let recipe = place.read("l/recipes/horn/recipe.toml");
    place.write("l/recipes/horn/recipe.toml", &recipe.replace("version = '2'", "version = '3'"));
    place.write("l/recipes/horn/src/horn.txt", "two short blasts\n");
    place.build(&["i", "--board", "b"]);
    place.run(&["publish", "../packages", "--key", "keys/maker.key"]).expect(0);
    let mut found = Vec::new();
    let mut waiting = vec![place.path("packages")];
    while let Some(dir) = waiting.pop() {
        for path in fs::read_dir(dir).unwrap().map(|e| e.unwrap().path()) {
            if path.is_dir() {
                waiting.push(path);
            } else if path.extension().is_some_and(|e| e == "embpkg") {
                found.push(path.to_str().unwrap().to_string());
            }
        }
    }
    found.sort();
    let [old, new] = found.as_slice() else { panic!("{found:?}") };
    let report = place.run(&["diff", old, new, "--json"]).expect(3).json();
    let differs = |what: &str| {
        report["differences"].as_array().unwrap().iter().any(|d| d["place"].as_str().unwrap().ends_with(what))
    };
    assert!(differs("/usr/bin/horn") && differs("/package.json"), "{report}");
    let seen = place.run(&["inspect", old, "--files"]).expect(0);
    assert!(seen.out.contains("/usr/bin/horn"), "{}", seen.out);
}
