//! The first half of the day: layers, packages, locks; typed and read as a user would.

mod common;

use common::Place;
use embrak_fixtures::{Deb, Fault, Mirror, Server, Suite};
use std::fs;
use std::path::Path;

const CANARY: &str = "c4n4ry-hush-7731";

/// A workspace over a repository that wants a password, which is a secret parameter.
fn place() -> (Place, Mirror, Server) {
    let place = Place::of(&[]).with_own_store();
    let mirror = Mirror::new(&place.path("mirror"));
    mirror.publish(&Suite::default(), &packages("2.0-1"));
    let server = Server::start(&mirror.dir);
    // "keeper:" and the canary, in Base64 as RFC 7617 has it.
    server.fault(Fault::Password("Basic a2VlcGVyOmM0bjRyeS1odXNoLTc3MzE=".into()));
    fs::create_dir_all(place.file("keys")).unwrap();
    fs::copy(mirror.keyring(), place.file("keys/mainland.asc")).unwrap();
    let host = server.url().replace("http://", "");
    place.write(
        "embrak.toml",
        &format!(
            "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[params]\n\
             pass = {{ secret = true, required = true, help = 'password of the mirror' }}\n\
             [[repository]]\nname = 'mainland'\nformat = 'debian'\nurl = 'http://keeper:${{pass}}@{host}'\n\
             suites = ['stable']\nkeyring = 'keys/mainland.asc'\n"
        ),
    );
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar.zst', 'manifest']\npackages = ['lampd']\n");
    (place, mirror, server)
}

fn packages(lampd: &str) -> Vec<Deb> {
    vec![
        Deb::new("lampd", lampd).depends("libgauge (>= 0.3)").field("Recommends", "foghorn").file(
            "/usr/sbin/lampd",
            lampd,
            0o755,
        ),
        Deb::new("libgauge", "0.4-1").control("postinst", "#!/bin/sh\nldconfig\n"),
        Deb::new("foghorn", "1").field("Conflicts", "quiet").field("Provides", "horn"),
        Deb::new("quiet", "1"),
    ]
}

fn files_below(dir: &Path, out: &mut Vec<std::path::PathBuf>) {
    for entry in fs::read_dir(dir).unwrap().flatten() {
        let path = entry.path();
        if entry.file_type().unwrap().is_dir() { files_below(&path, out) } else { out.push(path) }
    }
}

#[test]
fn a_secret_opens_the_repository_and_is_nowhere_afterwards() {
    let (place, _mirror, server) = place();
    let pass = format!("pass={CANARY}");
    let run = |args: &[&str]| place.run(&[&["--param", &pass], args].concat());
    place.run(&["lock"]).expect(1).says(&["parameter `pass` needs a value", "password of the mirror"]);
    run(&["lock"]).expect(0);
    let built = run(&["build", "-v"]).expect(0);
    assert!(built.out.contains("maintainer scripts: none ran in i: Embrak did what they say"), "{}", built.out);
    run(&["keys", "new", "release"]).expect(0);
    run(&["sign", "--key", "keys/release.key"]).expect(0);
    run(&["vendor", "inputs", "--key", "keys/release.key"]).expect(0);
    run(&["publish", "repository", "--key", "keys/release.key"])
        .expect(1)
        .says(&["the run made no packages of recipes"]);
    // Done again from the record alone: nobody knows the secret, and nobody has to.
    server.fault(Fault::Status("".into(), 500, usize::MAX));
    let again = place.run(&["--param", "pass=other", "reproduce"]).expect(0);
    let mut said = [built.out, built.err, again.out, again.err].concat();
    for verb in
        [&["preview", "--full"][..], &["list", "repositories"], &["show", "run", "1"], &["log", "1"], &["trace", "i"]]
    {
        let more = run(verb);
        said += &(more.out + &more.err);
    }
    server.mend();
    server.fault(Fault::Status("".into(), 403, usize::MAX));
    said += &run(&["lock", "--update"]).expect(1).err;
    assert!(said.contains("http://***@127.0.0.1"), "{said}");
    assert!(!said.contains(CANARY), "a command has shown the secret:\n{said}");

    let mut files = Vec::new();
    files_below(place.dir.path(), &mut files);
    assert!(files.len() > 30, "{}", files.len());
    for file in files {
        let bytes = fs::read(&file).unwrap();
        let found = bytes.windows(CANARY.len()).any(|w| w == CANARY.as_bytes());
        assert!(!found, "the secret is in {}", file.display());
        assert!(!file.to_string_lossy().contains(CANARY));
    }
    assert!(
        place.read("embrak.lock").contains("/${pass}@")
            || place.read("embrak.lock").contains("url = \"http://127.0.0.1")
    );
}

#[test]
fn the_lock_moves_when_told_and_says_how() {
    let (place, mirror, _server) = place();
    let run = |args: &[&str]| place.run(&[&["--param", &format!("pass={CANARY}")], args].concat());
    let first = run(&["lock"]).expect(0);
    assert!(
        first.out.contains("mainland for x86_64: as of 2026-03-01T00:00:00Z, 2 packages used, signed by "),
        "{}",
        first.out
    );
    run(&["lock", "--check"]).expect(0);
    let later = Suite { label: "Mainland Security".into(), date: 1_772_400_000, ..Suite::default() };
    mirror.publish(&later, &packages("2.1-1"));
    run(&["lock", "--check"]).expect(0);
    let kept = run(&["lock"]).expect(0);
    assert!(kept.out.contains("embrak.lock says so already"), "{}", kept.out);
    let moved = run(&["lock", "--update"]).expect(0);
    let row =
        moved.out.lines().find(|l| l.trim_start().starts_with("lampd")).unwrap_or_else(|| panic!("{}", moved.out));
    assert!(row.contains("2.0-1") && row.contains("2.1-1") && row.contains("security"), "{row}");
    assert!(moved.out.contains("1 package moved, 1 of them for security"), "{}", moved.out);
    assert!(
        moved.out.contains("repository mainland (x86_64): 2026-03-01T00:00:00Z -> 2026-03-01T21:20:00Z"),
        "{}",
        moved.out
    );
    let json = run(&["lock", "--update", "--json"]).expect(0).json();
    assert_eq!(json["current"], true);
    assert_eq!(run(&["lock", "--update=nothing-such"]).expect(0).code, 0);
}

#[test]
fn why_in_both_directions_and_why_not() {
    let (place, _mirror, _server) = place();
    let run = |args: &[&str]| place.run(&[&["--param", &format!("pass={CANARY}")], args].concat());
    let up = run(&["why", "i", "libgauge"]).expect(0).out;
    assert!(up.contains("image i asks for lampd [l/images/i.toml:3]\n  lampd 2.0-1 asks for libgauge >= 0.3 [mainland stable/main Packages:1]"), "{up}");
    let down = run(&["why", "i", "lampd"]).expect(0).out;
    assert!(down.contains("lampd needs libgauge\nwithout it, 1 more would go: libgauge"), "{down}");
    let not = run(&["why", "i", "horn"]).expect(3).out;
    assert!(
        not.contains("horn is not in i: nothing in it asks for it\nasking for it would add 1 package: foghorn 1"),
        "{not}"
    );
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['quiet']\n");
    let never = run(&["why", "i", "foghorn", "--not"]).expect(0).out;
    assert!(never.contains("foghorn is not in i, and it cannot be:"), "{never}");
    assert!(never.contains("foghorn 1 cannot be together with quiet"), "{never}");
    run(&["why", "i", "quiet", "--not"]).expect(1).says(&["quiet is in i"]);
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['quiet', 'foghorn']\n");
    run(&["lock"]).expect(1).says(&[
        "image i cannot be resolved",
        "1. image i asks for quiet [l/images/i.toml:3]",
        "foghorn 1 cannot be together with quiet",
        "It would work without asking for foghorn",
    ]);
}

#[test]
fn find_looks_into_repositories_and_their_files() {
    let (place, mirror, _server) = place();
    let run = |args: &[&str]| place.run(&[&["--param", &format!("pass={CANARY}")], args].concat());
    let before = run(&["find", "horn"]).expect(3).out;
    assert!(before.contains("never read: mainland"), "{before}");
    let text = place.read("embrak.toml");
    place.write("embrak.toml", &format!("{text}contents = true\n"));
    mirror.publish(&Suite { contents: true, ..Suite::default() }, &packages("2.0-1"));
    run(&["lock"]).expect(0);
    let found = run(&["find", "horn", "--json"]).expect(0).json();
    assert_eq!((found[0]["name"].as_str(), found[0]["from"].as_str()), (Some("foghorn"), Some("mainland stable/main")));
    let files = run(&["find", "sbin/lampd"]).expect(0).out;
    assert!(files.contains("/usr/sbin/lampd") && files.contains("lampd"), "{files}");
    let preview = run(&["preview"]).expect(0).out;
    assert!(preview.contains("to fetch, mainland as of 2026-03-01T00:00:00Z"), "{preview}");
}

#[test]
fn packages_are_published_for_other_workspaces() {
    let maker = Place::of(&[
        (
            "l/recipes/horn/recipe.toml",
            "name = 'horn'\nversion = '1'\nsummary = 'Sounds'\nlicense = 'MIT'\nprovides = ['siren']\nmethod = 'copy'\n[[source]]\ndir = 'src'\n",
        ),
        ("l/recipes/horn/src/etc/horn", "loud\n"),
        ("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['horn']\n"),
    ]);
    maker.build(&[]);
    maker.run(&["keys", "new", "release"]).expect(0);
    let at = maker.path("repository");
    let publish = || maker.run(&["publish", &at.to_string_lossy(), "--key", "keys/release.key"]).expect(0).out;
    assert!(publish().contains("added horn 1-1"));
    assert!(publish().contains("there already horn 1-1"));
    let server = Server::start(&at);
    let user = Place::of(&[("l/images/j.toml", "image = 'j'\noutputs = ['rootfs:tar']\npackages = ['siren']\n")]);
    user.write("keys/holm.pub", &maker.read("keys/release.pub"));
    let text = format!(
        "{}\n[[repository]]\nname = 'holm'\nformat = 'embrak'\nurl = '{}'\nkeys = ['keys/holm.pub']\n",
        user.read("embrak.toml"),
        server.url()
    );
    user.write("embrak.toml", &text);
    let record = user.build(&[]);
    assert_eq!(record["packages"]["j"][0]["name"], "horn");
    assert_eq!(record["packages"]["j"][0]["tree"], maker.build(&[])["packages"]["i"][0]["tree"], "the same tree");
    user.write("keys/holm.pub", &{
        maker.run(&["keys", "new", "other"]).expect(0);
        maker.read("keys/other.pub")
    });
    user.run(&["lock", "--update"]).expect(1).says(&["is not signed by a declared key", "trusted = true"]);
}

#[test]
fn the_demo_satisfies_the_schemas() {
    let place = Place::demo();
    let of = |kind: &str| {
        let schema = place.run(&["schema", kind]).expect(0).json();
        jsonschema::validator_for(&schema).unwrap()
    };
    let kinds = ["workspace", "layer", "recipe", "board", "image", "amendment"].map(|kind| (kind, of(kind)));
    let mut files = Vec::new();
    files_below(&place.file(""), &mut files);
    let mut seen = std::collections::BTreeMap::new();
    for file in files.iter().filter(|f| f.extension().is_some_and(|e| e == "toml")) {
        let relative = file.strip_prefix(place.file("")).unwrap().to_string_lossy().into_owned();
        let kind = match relative.as_str() {
            "embrak.toml" => "workspace",
            path if path.starts_with("trust") || path.contains("/profiles/") || path == "decisions.toml" => continue,
            path if path.ends_with("layer.toml") => "layer",
            path if path.ends_with("recipe.toml") => "recipe",
            path if path.contains("/boards/") => "board",
            path if path.contains("/images/") => "image",
            path if path.contains("/amend/") => "amendment",
            path => panic!("what is {path}?"),
        };
        *seen.entry(kind).or_insert(0) += 1;
        let mut value: serde_json::Value = {
            let table: toml::Table = toml::from_str(&fs::read_to_string(file).unwrap()).unwrap();
            serde_json::to_value(table).unwrap()
        };
        if let Some(epoch) = value.get_mut("epoch") {
            // JSON has no dates: editors see the text.
            *epoch = epoch["$__toml_private_datetime"].clone();
        }
        let validator = &kinds.iter().find(|(k, _)| *k == kind).unwrap().1;
        let errors: Vec<String> = validator.iter_errors(&value).map(|e| format!("{}: {e}", e.instance_path)).collect();
        assert!(errors.is_empty(), "{relative}: {errors:#?}");
        // And what nobody knows is refused.
        value["sevices"] = serde_json::json!([]);
        assert!(!validator.is_valid(&value), "{relative}");
    }
    assert_eq!(seen.len(), 6, "every kind is there: {seen:?}");
}
