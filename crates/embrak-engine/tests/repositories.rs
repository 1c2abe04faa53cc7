//! Images out of repositories: locked, built, vendored, and built again when the repository has moved on.

mod common;

use common::Place;
use embrak_engine::{Engine, EngineError, LayerFetcher, Lock, Maker, Selection, Update, Vendored, build, plan, vendor};
use embrak_fixtures::{Deb, Fault, Mirror, Server, Suite};
use embrak_model::{RemoteLayers, Workspace, WorkspaceOptions};
use embrak_store::Store;
use embrak_tree::{Digest, Entry, Kind};
use embrak_trust::SigningKey;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// A workspace with one image over a repository of these packages.
fn place(image: &str, packages: &[Deb]) -> (Place, Mirror) {
    let place = Place::of(&[]);
    let mirror = Mirror::new(&place.root().join("../mirror"));
    mirror.publish(&Suite::default(), packages);
    declare(&place, &mirror.url(), "");
    place.write("l/images/i.toml", &format!("image = 'i'\noutputs = ['rootfs:tar', 'manifest']\n{image}"));
    (place, mirror)
}

fn declare(place: &Place, url: &str, more: &str) {
    std::fs::create_dir_all(place.root().join("keys")).unwrap();
    let from = place.root().join("../mirror.asc");
    std::fs::copy(from, place.root().join("keys/mainland.asc")).unwrap();
    place.write(
        "embrak.toml",
        &format!(
            "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[[repository]]\nname = 'mainland'\n\
             format = 'debian'\nurl = '{url}'\nsuites = ['stable']\nkeyring = 'keys/mainland.asc'\n{more}"
        ),
    );
}

fn packages() -> Vec<Deb> {
    vec![
        Deb::new("lampd", "2.0-1").depends("libgauge (>= 0.3)").file("/usr/sbin/lampd", "two", 0o755),
        Deb::new("libgauge", "0.4-1").file("/usr/lib/libgauge.so", "gauge", 0o644),
        Deb::new("base", "1")
            .field("Essential", "yes")
            .file("/etc/base", "base", 0o644)
            .control("conffiles", "/etc/base\n"),
        Deb::new("horn", "1").field("Recommends", "quiet"),
        Deb::new("quiet", "1"),
    ]
}

fn names(lock: &Lock) -> Vec<String> {
    lock.images[0].packages.iter().map(|p| format!("{} {}", p.name, p.version)).collect()
}

#[test]
fn an_image_takes_packages_with_owners_modes_links_devices_and_attributes() {
    let mut daemon = Entry::symlink("lampd");
    daemon.uid = 7;
    let device = Entry::new(Kind::CharDevice { major: 10, minor: 63 }, 0o660);
    let mut capable = Entry::file(Digest::of(""), 0);
    capable.xattrs.insert(b"security.capability".to_vec(), vec![1, 2]);
    let link = Entry::new(Kind::Hardlink { target: "/usr/sbin/lampd".parse().unwrap() }, 0o755);
    let mut list = packages();
    list[0] = list[0]
        .clone()
        .entry("/usr/sbin/lamp", daemon.clone())
        .entry("/dev/lamp", device.clone())
        .entry("/usr/sbin/lampx", link)
        .file("/usr/bin/capable", "", 0o755)
        .control("postinst", "#!/bin/sh\nadduser lamp\nldconfig\n");
    let (place, _mirror) = place("packages = ['lampd']\n", &list);
    let result = place.build(&["i"]);
    let artifact = embrak_engine::open_artifact(&place.output(&result, ".tar").path).unwrap();
    let trees = artifact.trees();
    let look = |path: &str| trees[0].1.get(&path.parse().unwrap()).unwrap().clone();
    assert_eq!(look("/usr/sbin/lamp").uid, 7);
    assert_eq!(look("/dev/lamp").kind, device.kind);
    assert!(matches!(look("/usr/sbin/lampx").kind, Kind::Hardlink { .. }));
    assert_eq!(look("/usr/sbin/lampd").mode, 0o755);
    assert_eq!(look("/usr/sbin/lampd").mtime, 1_700_000_000);
    let packages = &result.record.packages["i"];
    let names: Vec<&str> = packages.iter().map(|p| p.name.as_str()).collect();
    assert_eq!(names, ["base", "lampd", "libgauge"], "the essential one comes along");
    assert_eq!(packages[0].ready_made.as_ref().unwrap().conffiles, ["/etc/base"]);
    let scripts = embrak_engine::maintainer_scripts(&place.store, packages);
    assert_eq!((scripts[0].package.as_str(), scripts[0].does.join(" ")), ("lampd", "users library cache".to_string()));
    let again = place.build(&["i"]);
    assert_eq!(again.record.outputs[0].artifact, result.record.outputs[0].artifact);
    assert!(again.record.actions.iter().all(|a| a.status == embrak_engine::ActionStatus::Reused));
}

#[test]
fn the_lock_keeps_its_state_of_the_repository_until_told() {
    let (place, mirror) = place("packages = ['lampd']\n", &packages());
    let first = place.plan(&["i"], None, false).unwrap().lock;
    assert_eq!(names(&first), ["base 1", "lampd 2.0-1", "libgauge 0.4-1"]);
    assert_eq!(first.images[0].packages[1].from, Maker::Repository("mainland".into()));
    assert!(first.to_text().contains("\n    \"lampd 2.0-1 amd64 sha256:"), "{}", first.to_text());

    let mut newer = packages();
    newer[0].version = "2.1-1".into();
    newer[1].version = "0.5-1".into();
    newer[1] = newer[1].clone().file("/usr/lib/more", &"x".repeat(5000), 0o644);
    mirror.publish(&Suite { label: "Mainland-Security".into(), date: 1_772_323_300, ..Suite::default() }, &newer);
    assert_eq!(place.plan(&["i"], Some(&first), false).unwrap().lock, first);

    let only = Update::Only(["libgauge".to_string()].into());
    let moved = place.with(|engine| plan(engine, &place.selection(&["i"]), Some(&first), &only)).unwrap();
    // The old lampd is gone from the repository, so it has to move too.
    assert_eq!(names(&moved.lock), ["base 1", "lampd 2.1-1", "libgauge 0.5-1"]);
    let gauge = moved.moved.iter().filter_map(|m| m.package.as_ref()).find(|p| p.name == "libgauge").unwrap();
    assert_eq!((gauge.from.as_deref(), gauge.to.as_deref(), gauge.security), (Some("0.4-1"), Some("0.5-1"), true));
    assert!(gauge.bytes.unwrap() > 4000, "{gauge:?}");
}

#[test]
fn held_pinned_and_recommended_packages() {
    let mut list = packages();
    list.push(Deb::new("lampd", "3.0-1"));
    let (place, _mirror) = place("packages = ['lampd', 'horn']\npin = ['lampd < 3']\n", &list);
    let lock = place.plan(&["i"], None, false).unwrap().lock;
    assert_eq!(names(&lock), ["base 1", "horn 1", "lampd 2.0-1", "libgauge 0.4-1"]);
    place.write(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['manifest']\npackages = ['lampd', 'horn']\nhold = ['lampd']\nrecommends = true\n",
    );
    let held = place.plan(&["i"], Some(&lock), true).unwrap();
    assert_eq!(names(&held.lock), ["base 1", "horn 1", "lampd 2.0-1", "libgauge 0.4-1", "quiet 1"]);
    assert!(held.why("i").unwrap()["quiet"][0].by.contains("which recommends it"));
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['lampd']\n");
    assert!(names(&place.plan(&["i"], Some(&lock), true).unwrap().lock).contains(&"lampd 3.0-1".to_string()));
    place.write(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['manifest']\npackages = ['lampd >= 1']\nprefer = 'minimal'\n",
    );
    assert!(names(&place.plan(&["i"], None, false).unwrap().lock).contains(&"lampd 2.0-1".to_string()));
}

#[test]
fn of_two_repositories_the_newer_or_the_preferred_has_it_and_recipes_come_first() {
    let (place, _mirror) = place("packages = ['horn']\n", &packages());
    let other = Mirror::new(&place.root().join("../other"));
    other.publish(&Suite::default(), &[Deb::new("horn", "2")]);
    std::fs::copy(other.keyring(), place.root().join("keys/other.asc")).unwrap();
    let second = |priority: i32| {
        format!(
            "[[repository]]\nname = 'other'\nformat = 'debian'\nurl = '{}'\nsuites = ['stable']\n\
             keyring = 'keys/other.asc'\npriority = {priority}\n",
            other.url()
        )
    };
    let url = format!("file://{}", place.root().join("../mirror").display());
    let chosen = |place: &Place| place.plan(&["i"], None, false).unwrap().lock.images[0].packages[0].to_string();
    declare(&place, &url, &second(0));
    assert_eq!(chosen(&place), "horn 2 from other");
    declare(&place, &url, &second(-5));
    assert!(place.plan(&["i"], None, false).unwrap().lock.to_text().contains("horn 1 from mainland"));
    place.files_recipe("horn", "", &[("x", "y")]);
    assert_eq!(chosen(&place), "horn 1-1 by horn 1-1 x86_64");
}

#[test]
fn files_of_two_packages_go_together_when_one_may_replace_the_other() {
    let mut list = packages();
    list.push(Deb::new("lampd-old", "1").file("/usr/sbin/lampd", "one", 0o755));
    let (place, mirror) = place("packages = ['lampd', 'lampd-old']\n", &list);
    assert!(place.failure(&["i"]).contains("packages of image i do not go together"));
    list[0] = list[0].clone().field("Replaces", "lampd-old (<< 2)");
    mirror.publish(&Suite { date: 1_772_323_300, ..Suite::default() }, &list);
    std::fs::remove_file(place.root().join("embrak.lock")).unwrap();
    let result = place.build(&["i"]);
    assert_eq!(place.text(&place.output(&result, ".tar"), "/usr/sbin/lampd"), "two");
}

#[test]
fn a_mirror_that_does_not_answer_is_done_without_as_far_as_that_goes() {
    let (place, mirror) = place("packages = ['lampd']\n", &packages());
    let server = Server::start(&mirror.dir);
    declare(&place, &server.url(), "");
    let lock = place.build(&["i"]).record.lock;
    server.fault(Fault::Status("".into(), 404, usize::MAX));
    // What is locked and in the store needs nobody.
    assert_eq!(place.build(&["i"]).record.lock, lock);
    // With the lock but another store, only the packages themselves are missed, and said.
    let text = place.failure_elsewhere(&["i"]);
    assert!(text.contains("is not there") && text.contains("/pool/stable/"), "{text}");
    assert!(place.heard().iter().any(|n| n.contains("going on with what embrak.lock alone says of mainland")));
    // Without a lock, the state the store knows is used, and that is said.
    std::fs::remove_file(place.root().join("embrak.lock")).unwrap();
    drop(server);
    assert_eq!(place.build(&["i"]).record.packages["i"].len(), 3);
    assert!(place.heard().iter().any(|n| n.contains("going on with what mainland offered on 2026-03-01")));
    let update = place.with(|engine| plan(engine, &place.selection(&["i"]), None, &Update::Everything).err().unwrap());
    assert!(update.to_string().contains("cannot be reached"), "{update}");
}

#[test]
fn vendored_inputs_build_the_same_when_the_repository_has_dropped_them() {
    let (place, mirror) = place("packages = ['lampd']\n", &packages());
    let first = place.build(&["i"]);
    let key = SigningKey::from_seed([3; 32]);
    let dir = place.root().join("../vendored");
    let report = place.with(|engine| {
        let lock = Lock::load(&place.root().join("embrak.lock")).unwrap();
        let plan = plan(engine, &place.selection(&["i"]), lock.as_ref(), &Update::Nothing).unwrap();
        vendor(engine, &plan, &dir, &key).unwrap()
    });
    assert_eq!(report.packages, 3);
    // The repository rolls on: the versions are gone, and so is the index that named them.
    mirror.publish(&Suite { by_hash: false, date: 1_772_323_300, ..Suite::default() }, &[Deb::new("lampd", "9")]);
    let _ = std::fs::remove_dir_all(mirror.dir.join("dists/stable/main/binary-amd64/by-hash"));
    let build_from = |dir: &Path, keys: &[embrak_trust::PublicKey]| -> Result<_, EngineError> {
        let fresh = tempfile::tempdir().unwrap();
        let store = Store::open(fresh.path()).unwrap();
        let vendored = Arc::new(Vendored::open(dir, keys, &store)?);
        let workspace = place.workspace();
        let stop = AtomicBool::new(false);
        let engine = Engine {
            workspace: &workspace,
            store: &store,
            observer: &embrak_engine::Silent,
            vendored: Some(vendored),
            demands: None,
            probe: embrak_engine::Probe::default(),
            stop: &stop,
        };
        let mut options = place.options(&["i"]);
        options.locked = true;
        options.out = fresh.path().join("out");
        build(&engine, &options)
    };
    let again = build_from(&dir, &[key.public()]).unwrap_or_else(|e| panic!("{e}: {}", e.help()));
    assert_eq!(again.record.outputs[0].artifact, first.record.outputs[0].artifact);
    assert_eq!(again.record.lock, first.record.lock);

    let stranger = build_from(&dir, &[SigningKey::from_seed([4; 32]).public()]).err().unwrap();
    assert!(stranger.to_string().contains("is not signed by a key this workspace knows"), "{stranger}");
    let object = walk(&dir.join("objects")).remove(0);
    std::fs::write(&object, "other").unwrap();
    let damaged = build_from(&dir, &[key.public()]).err().unwrap().to_string();
    assert!(damaged.contains("missing or damaged") && damaged.contains("digests to sha256:"), "{damaged}");
}

fn walk(dir: &Path) -> Vec<std::path::PathBuf> {
    let mut out = Vec::new();
    for entry in std::fs::read_dir(dir).unwrap().flatten() {
        if entry.path().is_dir() { out.extend(walk(&entry.path())) } else { out.push(entry.path()) }
    }
    out.sort();
    out
}

#[test]
fn why_something_cannot_be_had_names_lines_and_what_would_help() {
    let mut list = packages();
    list[0] = Deb::new("lampd", "2.0-1").depends("libgauge (>= 0.9)");
    let (place, _mirror) = place("packages = ['lampd']\n", &list);
    place.write("../w/spare/layer.toml", "layer = 'spare'\nversion = '1'\n");
    place.write("spare/recipes/libgauge/recipe.toml", "name = 'libgauge'\nversion = '0.9'\n");
    let Err(EngineError::Unsolvable { why, .. }) = place.plan(&["i"], None, false) else { panic!() };
    assert_eq!(why.sentences[0], "image i asks for lampd [l/images/i.toml:3]");
    assert_eq!(
        why.sentences[1],
        "lampd 2.0-1 needs libgauge >= 0.9, but there is only libgauge 0.4-1 from mainland stable/main Packages:12 [mainland stable/main Packages:1]"
    );
    assert!(why.remedies.contains(&"with the layer spare, which has libgauge 0.9-1".to_string()), "{:?}", why.remedies);
}

#[test]
fn a_repository_used_without_a_signature_is_always_named() {
    let (place, mirror) = place("packages = ['horn']\n", &packages());
    mirror.publish(&Suite { signed: false, ..Suite::default() }, &packages());
    let error = place.plan(&["i"], None, false).err().unwrap();
    assert!(error.to_string().contains("is not signed"), "{error}");
    declare(&place, &mirror.url(), "trusted = true\n");
    let warnings = place.build(&["i"]).warnings;
    assert_eq!(warnings, ["repository mainland is used without a valid signature: `trusted = true` [embrak.toml:5]"]);
}

/// A layer in a directory of its own, as a git repository and as an archive of it.
#[test]
fn layers_come_from_git_and_from_archives() {
    let place = Place::of(&[]);
    let beside = place.root().join("../elsewhere");
    let layer = beside.join("layers/holm");
    std::fs::create_dir_all(layer.join("images")).unwrap();
    std::fs::write(layer.join("layer.toml"), "layer = 'holm'\nversion = '1.2'\n").unwrap();
    std::fs::write(layer.join("images/h.toml"), "image = 'h'\noutputs = ['manifest']\n").unwrap();
    let git = |args: &[&str]| {
        let output = Command::new("git")
            .arg("-C")
            .arg(&beside)
            .args(["-c", "user.name=k", "-c", "user.email=k@mainland.invalid"])
            .args(args)
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().trim().to_string()
    };
    git(&["init", "--quiet"]);
    git(&["add", "."]);
    git(&["commit", "--quiet", "-m", "First"]);
    let commit = git(&["rev-parse", "HEAD"]);
    let archive = git(&["archive", "--format=tar.gz", "--output=../layer.tar.gz", "HEAD"]);
    assert_eq!(archive, "");
    let archive = place.root().join("../layer.tar.gz");
    let sha256 = Digest::of(std::fs::read(&archive).unwrap()).hex();
    // What is committed later does not change what was named.
    std::fs::write(layer.join("layer.toml"), "layer = 'holm'\nversion = '9'\n").unwrap();
    git(&["commit", "--quiet", "-am", "Second"]);

    let fetched = tempfile::tempdir().unwrap();
    static STOP: AtomicBool = AtomicBool::new(false);
    let remote = |store: &Path| -> Option<Arc<dyn RemoteLayers>> {
        Some(Arc::new(LayerFetcher::new(Arc::new(Store::open(store).unwrap()), None, &STOP)))
    };
    let load = |entry: &str, store: &Path| {
        place.write("embrak.toml", &format!("workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = [{entry}]\n"));
        let options = WorkspaceOptions { remote: remote(store), ..WorkspaceOptions::default() };
        Workspace::load(&place.root(), &options)
    };
    let mut trees = Vec::new();
    let git_entry = format!("{{ git = '../elsewhere', commit = '{commit}', path = 'layers/holm' }}");
    let archive_entry = format!("{{ archive = '../layer.tar.gz', sha256 = '{sha256}', path = 'layers/holm' }}");
    for entry in [&git_entry, &archive_entry] {
        let workspace = load(entry, fetched.path()).unwrap_or_else(|p| panic!("{p:#?}"));
        assert_eq!(workspace.layers[0].def.version.to_string(), "1.2");
        assert!(workspace.images.contains_key("h"));
        trees.push(workspace.layers[0].tree.clone().unwrap());
    }
    assert_eq!(trees[0], trees[1], "the same files either way");
    // What is in the store needs its origin no more.
    std::fs::rename(&beside, place.root().join("../gone")).unwrap();
    assert!(load(&git_entry, fetched.path()).is_ok());
    let fresh = tempfile::tempdir().unwrap();
    let told = load(&git_entry, fresh.path()).unwrap_err()[0].to_string();
    assert!(told.contains("layer from git"), "{told}");
    std::fs::write(&archive, "changed").unwrap();
    let told = load(&archive_entry, fresh.path()).unwrap_err()[0].to_string();
    assert!(told.contains("its bytes digest to sha256:"), "{told}");
}

#[test]
fn settings_of_one_recipe_from_the_workspace_and_the_image() {
    let place = Place::of(&[]);
    place.write(
        "l/recipes/horn/recipe.toml",
        "name = 'horn'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n[env]\nTONE = 'low'\n\
         [steps]\ninstall = 'mkdir -p $OUT/etc; echo $TONE $VOLUME > $OUT/etc/horn'\n",
    );
    let base = "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n";
    place.write("embrak.toml", &format!("{base}[recipe.horn]\nenv = {{ TONE = 'middle', VOLUME = '1' }}\n"));
    let image = |name: &str, more: &str| {
        let text = format!("image = '{name}'\noutputs = ['rootfs:tar']\npackages = ['horn']\n{more}");
        place.write(&format!("l/images/{name}.toml"), &text);
    };
    image("i", "");
    image("j", "[recipe.horn.env]\nTONE = 'high'\n");
    image("k", "[recipe.horn.steps]\ninstall = 'mkdir -p $OUT/etc; echo silent > $OUT/etc/horn'\n");
    let result = place.build(&["i", "j", "k"]);
    let says = |image: &str| {
        let output = result.record.outputs.iter().find(|o| o.image == image).unwrap();
        place.text(output, "/etc/horn")
    };
    assert_eq!([says("i"), says("j"), says("k")], ["middle 1\n", "high 1\n", "silent\n"]);
    let ids: Vec<&str> =
        result.record.actions.iter().map(|a| a.label.as_str()).filter(|l| l.starts_with("horn")).collect();
    assert_eq!(ids.len(), 3, "{ids:?}");
    assert!(ids.iter().all(|id| id.contains(" settings ")), "{ids:?}");
}

#[test]
fn what_is_asked_besides_tells_what_it_would_do() {
    let (place, _mirror) = place("packages = ['horn']\n", &packages());
    let more = Selection { also: vec!["lampd".into()], ..place.selection(&["i"]) };
    let with = place.with(|engine| plan(engine, &more, None, &Update::Nothing)).unwrap();
    assert_eq!(names(&with.lock), ["base 1", "horn 1", "lampd 2.0-1", "libgauge 0.4-1"]);
    assert_eq!(with.why("i").unwrap()["lampd"][0].by, "the question");
}
