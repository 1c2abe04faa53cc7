//! Building through the engine: the cache, events, host tools, evidence, difference, and the record.

mod common;

use common::Place;
use embrak_engine::{
    ActionStatus, Content, EngineError, Event, diff, evidence_path, find_run, inspect, open_artifact, sign,
    verify_artifact,
};
use embrak_trust::{Policy, SigningKey};
use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;

fn compiled(place: &Place, steps: &str) {
    place.write(
        "l/recipes/c/recipe.toml",
        &format!("name = 'c'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n[[source]]\ndir = 'src'\n[needs]\nbuild = ['cc']\n[steps]\n{steps}\n"),
    );
    place.write("l/recipes/c/src/main.c", "#include <stdio.h>\nint main(void) { return puts(\"lamp\") < 0; }\n");
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\npackages = ['c']\n");
}

#[test]
fn events_tell_what_is_built_and_what_reused() {
    let place = Place::of(&[("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['a']\n")]);
    place.files_recipe("a", "", &[]);
    place.build(&["i"]);
    let finished = |place: &Place| {
        let heard = std::mem::take(&mut *place.heard.0.lock().unwrap());
        heard
            .into_iter()
            .filter_map(|e| if let Event::Finished { label, status, .. } = e { Some((label, status)) } else { None })
            .collect::<Vec<_>>()
    };
    let expected = |status| vec![("a 1-1 x86_64".to_string(), status), ("i-0-x86_64.tree.jsonl".to_string(), status)];
    assert_eq!(finished(&place), expected(ActionStatus::Built));
    place.build(&["i"]);
    assert_eq!(finished(&place), expected(ActionStatus::Reused));
}

#[test]
fn a_compiled_program_runs_and_sees_only_the_c_library() {
    let place = Place::of(&[]);
    compiled(
        &place,
        "compile = 'cc $CFLAGS -static -o lamp main.c'\ninstall = 'install -D -m 0755 lamp $OUT/usr/bin/lamp'",
    );
    let result = place.build(&["i"]);
    assert_eq!(result.record.host_tools.keys().cloned().collect::<Vec<_>>(), ["base utilities", "cc"]);
    let output = place.output(&result, ".tar");
    let program = place.dir.path().join("lamp");
    let artifact = open_artifact(&output.path).unwrap();
    fs::write(&program, artifact.find_file(&"/usr/bin/lamp".parse().unwrap()).unwrap()).unwrap();
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let said = std::process::Command::new(&program).output().unwrap();
    assert_eq!(said.stdout, b"lamp\n");

    // Not the host's own directories, other tools, or a network; and nothing outside /build can be written.
    for (step, expected) in [
        ("ls /usr/bin/python3 /root /home", "No such file"),
        ("make --version", "not found"),
        ("cat /proc/net/route | grep -q . && test $(wc -l < /proc/net/route) -gt 1", "ended with status 1"),
        ("touch /usr/bin/mine", "Read-only file system"),
        ("exec 3<>/sysroot/x", "Read-only file system"),
    ] {
        compiled(&place, &format!("compile = '{}'", step.replace('\'', "\"")));
        let error = place.try_build(&["i"]).err().unwrap_or_else(|| panic!("`{step}` should fail"));
        let EngineError::StepFailed { tail, how, log, .. } = &error else { panic!("{error}") };
        assert!(tail.join("\n").contains(expected) || how.contains(expected), "{step}: {how} {tail:?}");
        assert!(log.exists());
    }
}

#[test]
fn the_environment_of_steps_is_fixed() {
    let place = Place::of(&[]);
    compiled(
        &place,
        "install = 'env | grep -v -e ^_= -e ^PWD= -e ^SHLVL= | sort > $OUT/env; pwd > $OUT/pwd; umask > $OUT/umask; hostname > $OUT/hostname; id -u > $OUT/id'",
    );
    let result = place.build(&["i"]);
    let output = place.output(&result, ".tar");
    let environment = place.text(&output, "/env");
    for line in [
        "LC_ALL=C",
        "TZ=UTC",
        "HOME=/build",
        "OUT=/build/out",
        "SRC=/build/src",
        "SYSROOT=/sysroot",
        "TARGET=x86_64-linux-gnu",
        "SOURCE_DATE_EPOCH=1772323200",
        "CC=cc",
        "JOBS=2",
    ] {
        assert!(environment.lines().any(|l| l == line), "no {line} in {environment}");
    }
    assert!(!environment.contains("CARGO"), "nothing of the caller's environment: {environment}");
    for (path, text) in [("/pwd", "/build/src\n"), ("/umask", "0022\n"), ("/hostname", "embrak\n"), ("/id", "0\n")] {
        assert_eq!(place.text(&output, path), text);
    }
}

#[test]
fn metadata_that_an_install_step_sets_is_kept() {
    let place = Place::of(&[]);
    compiled(
        &place,
        "install = 'cd $OUT; mkdir -m 1777 tmp; echo a > f; chmod 4711 f; ln f twin; ln -s f link; mkfifo pipe; mkdir empty; touch -d 2001-01-01 f'",
    );
    let result = place.build(&["i"]);
    let output = place.output(&result, ".tar");
    let artifact = open_artifact(&output.path).unwrap();
    let Content::Archive { tree, .. } = &artifact.content else { panic!() };
    let seen = |path: &str| {
        let e = tree.get(&path.parse().unwrap()).unwrap();
        (e.kind.name(), e.mode, e.uid, e.mtime)
    };
    assert_eq!(seen("/tmp"), ("directory", 0o1777, 0, 1_772_323_200));
    assert_eq!(seen("/f"), ("file", 0o4711, 0, 1_772_323_200));
    assert_eq!(seen("/twin").0, "hardlink");
    assert_eq!(seen("/link").0, "symlink");
    assert_eq!(seen("/pipe").0, "fifo");
    assert_eq!(seen("/empty").0, "directory");
}

#[test]
fn jobs_do_not_count_and_everything_else_does() {
    let place = Place::of(&[]);
    compiled(&place, "install = 'echo 1 > $OUT/x'");
    let built = |place: &Place, jobs: usize| {
        let options = embrak_engine::BuildOptions { jobs, ..place.options(&["i"]) };
        let result = place.with(|engine| embrak_engine::build(engine, &options)).unwrap();
        result.record.actions.iter().any(|a| a.label.starts_with("c 1-1") && a.status == ActionStatus::Built)
    };
    assert!(built(&place, 1));
    assert!(!built(&place, 4));
    for (from, to) in [("echo 1", "echo 2"), ("summary = 's'", "summary = 'other'"), ("build = ['cc']", "build = []")] {
        let path = place.root().join("l/recipes/c/recipe.toml");
        let text = fs::read_to_string(&path).unwrap();
        assert!(text.contains(from));
        fs::write(&path, text.replace(from, to)).unwrap();
        assert!(built(&place, 1), "{to}");
        assert!(!built(&place, 1));
    }
    place.write("l/recipes/c/src/more.c", "");
    assert!(built(&place, 1));
}

#[test]
fn a_stop_ends_a_build_and_is_on_record() {
    let place = Place::of(&[]);
    compiled(&place, "compile = 'sleep 20'");
    std::thread::scope(|scope| {
        let waiting = scope.spawn(|| {
            std::thread::sleep(std::time::Duration::from_millis(700));
            place.stop.store(true, Ordering::Relaxed);
        });
        let workspace = place.workspace();
        let engine = embrak_engine::Engine {
            workspace: &workspace,
            store: &place.store,
            observer: &embrak_engine::Silent,
            vendored: None,
            demands: None,
            probe: embrak_engine::Probe::default(),
            stop: &place.stop,
        };
        let error = embrak_engine::build(&engine, &place.options(&["i"])).err().unwrap();
        assert!(matches!(error, EngineError::Interrupted), "{error}");
        waiting.join().unwrap();
    });
    assert_eq!(place.store.runs().unwrap()[0].status, "interrupted");
}

#[test]
fn a_tool_the_host_does_not_have() {
    let place = Place::of(&[]);
    compiled(&place, "compile = 'true'");
    place.write("embrak.toml", "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['l']\n[toolchain]\nhost = ['cc', 'no-such-tool']\n");
    place.write(
        "l/recipes/c/recipe.toml",
        &fs::read_to_string(place.root().join("l/recipes/c/recipe.toml"))
            .unwrap()
            .replace("['cc']", "['no-such-tool']"),
    );
    let said = place.failure(&["i"]);
    assert!(said.contains("the host has no program `no-such-tool`") && said.contains("/usr/bin"), "{said}");
}

#[test]
fn evidence_is_replaced_by_its_signer_and_nobody_else() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['rootfs:tar', 'container:oci']\npackages = ['a']\n[container]\n",
    )]);
    place.files_recipe("a", "", &[]);
    let result = place.build(&["i"]);
    let keys = [SigningKey::from_seed([1; 32]), SigningKey::from_seed([2; 32])];
    for end in [".tar", ".oci"] {
        let path = place.output(&result, end).path;
        for key in [&keys[0], &keys[0], &keys[1]] {
            sign(&place.store, &path, key).unwrap();
        }
        let lines = fs::read_to_string(evidence_path(&path)).unwrap();
        // Provenance and two bills, by each of two.
        assert_eq!(lines.lines().count(), 6, "{end}");
        let (digest, checked) = verify_artifact(&path, None, &Policy::of_key("one", keys[0].public())).unwrap();
        assert_eq!(digest, place.output(&result, end).artifact);
        // The other's statements are by nobody this policy knows.
        assert!(!checked.good());
        assert_eq!(checked.checks.iter().filter(|c| !c.good).count(), 3);
    }
    let path = place.output(&result, ".tar").path;
    fs::write(evidence_path(&path), "damaged\n").unwrap();
    let error = sign(&place.store, &path, &keys[0]).unwrap_err().to_string();
    assert!(error.contains("line 1: not a signed envelope"), "{error}");
    let stranger = place.dir.path().join("stranger");
    fs::write(&stranger, "x").unwrap();
    assert!(
        sign(&place.store, &stranger, &keys[0]).unwrap_err().to_string().contains("no run on record has made anything")
    );
}

#[test]
fn provenance_names_every_input() {
    let place = Place::of(&[]);
    compiled(&place, "install = 'echo 1 > $OUT/x'");
    let result = place.build(&["i"]);
    let path = place.output(&result, ".tar").path;
    let key = SigningKey::from_seed([1; 32]);
    sign(&place.store, &path, &key).unwrap();
    let (_, checked) = verify_artifact(&path, None, &Policy::of_key("k", key.public())).unwrap();
    let verified = checked.verified.unwrap();
    let predicate = &verified.get()[0].1.predicate;
    let definition = &predicate["buildDefinition"];
    assert_eq!(definition["externalParameters"]["image"], "i");
    assert_eq!(definition["internalParameters"]["hostToolsUsed"], true);
    assert_eq!(definition["internalParameters"]["input"], result.record.inputs["i"].to_string());
    let names: Vec<&str> =
        definition["resolvedDependencies"].as_array().unwrap().iter().map(|d| d["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["lock", "workspace", "host tool base utilities", "host tool cc", "package c 1-1"]);
    assert_eq!(predicate["runDetails"]["metadata"]["invocationId"], format!("run {}", result.run));
}

#[test]
fn runs_are_found_by_number_and_by_what_they_made() {
    let place = Place::of(&[("l/images/i.toml", "image = 'i'\nversion = '1'\noutputs = ['manifest']\n")]);
    let first = place.build(&["i"]);
    place.write("l/images/i.toml", "image = 'i'\nversion = '2'\noutputs = ['manifest']\n");
    let second = place.build(&["i"]);
    let artifact = first.record.outputs[0].artifact;
    assert_eq!(find_run(&place.store, None, Some(&artifact)).unwrap().0.id, first.run);
    assert_eq!(find_run(&place.store, None, None).unwrap().0.id, second.run);
    assert_eq!(find_run(&place.store, Some(first.run), None).unwrap().1.inputs, first.record.inputs);
    assert!(find_run(&place.store, Some(99), None).is_err());
}

/// Two builds of one image with something different between them, and what `diff` says.
fn differences(form: &str, end: &str, before: &str, after: &str) -> (bool, Vec<(String, String)>) {
    let image = |text: &str| {
        format!(
            "image = 'i'\noutputs = ['{form}']\n{text}\n[container]\n[disk]\n[[disk.partition]]\nlabel = 'p'\ntype = 'esp'\nsize = 'fit+1MiB'\nfilesystem = 'fat'\nmount = '/'\n"
        )
    };
    let place = Place::of(&[]);
    let make = |text: &str, name: &str| {
        place.write("l/images/i.toml", &image(text));
        let made = place.output(&place.build(&["i"]), end).path;
        let kept = place.dir.path().join(name);
        fs::rename(&made, &kept).unwrap();
        kept
    };
    let (a, b) = (make(before, "a"), make(after, "b"));
    let report = diff(&a, &b).unwrap();
    assert!(!report.identical);
    let same = diff(&a, &a).unwrap();
    assert!(same.identical && same.differences.is_empty() && same.same_content);
    (report.same_content, report.differences.iter().map(|d| (d.place.clone(), d.field.clone())).collect())
}

#[test]
fn differences_are_named_in_every_form() {
    let file = |text: &str, mode: &str| format!("[[file]]\npath = '/f'\ntext = '{text}'\nmode = '{mode}'\n");
    let has = |found: &(bool, Vec<(String, String)>), place: &str, field: &str| {
        assert!(found.1.iter().any(|(p, f)| p == place && f.starts_with(field)), "no {place} {field} in {found:?}");
    };
    for (form, end, place) in [
        ("rootfs:tar", ".tar", ""),
        ("rootfs:tar.gz", ".gz", ""),
        ("rootfs:tar.zst", ".zst", ""),
        ("disk:raw", ".raw", "partition p: "),
        ("container:oci-archive", ".oci.tar", "image 0: "),
        ("container:oci", ".oci", "image 0: "),
    ] {
        let found = differences(form, end, &file("one", "0644"), &file("two", "0644"));
        has(&found, &format!("{place}/f"), "content at byte 0");
        assert!(!found.0);
        let found = differences(form, end, &file("one", "0644"), "[[file]]\npath = '/g'\ntext = ''\n");
        has(&found, &format!("{place}/f"), "only in the first");
        has(&found, &format!("{place}/g"), "only in the second");
    }
    let found = differences("rootfs:tar", ".tar", &file("one", "0644"), &file("one", "0600"));
    has(&found, "/f", "mode");
    let found = differences("manifest", ".jsonl", &file("one", "0644"), &file("two", "0644"));
    has(&found, "/f", "content");
    let found = differences("disk:raw", ".raw", "version = '1'", "version = '2'");
    has(&found, "partition table", "disk GUID");
    has(&found, "partition p", "serial number");
}

#[test]
fn the_same_content_in_another_encoding_is_told_from_other_content() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['rootfs:tar', 'rootfs:tar.gz', 'rootfs:tar.zst', 'manifest']\npackages = ['a']\n",
    )]);
    place.files_recipe("a", "", &[]);
    let result = place.build(&["i"]);
    let path = |end: &str| place.output(&result, end).path;
    for (a, b) in [(".tar", ".gz"), (".gz", ".zst"), (".tar", ".jsonl")] {
        let report = diff(&path(a), &path(b)).unwrap();
        assert!(!report.identical && report.same_content, "{a} {b}: {:?}", report.differences);
    }
}

#[test]
fn inspecting_what_is_not_an_image() {
    let dir = tempfile::tempdir().unwrap();
    let look = |name: &str, bytes: &[u8]| {
        let path = dir.path().join(name);
        fs::write(&path, bytes).unwrap();
        inspect(&path).map(|i| i.summary.format).map_err(|e| e.to_string())
    };
    assert_eq!(look("empty", b"").unwrap(), "unknown");
    assert_eq!(look("text", b"just some words").unwrap(), "unknown");
    assert_eq!(look("gz", &[0x1f, 0x8b, 8, 0, 0, 0]).unwrap(), "unknown");
    assert_eq!(look("zst", &[0x28, 0xb5, 0x2f, 0xfd, 0xff, 0xff]).unwrap(), "unknown");
    assert!(look("manifest", b"{\"embrak-tree\":1}\n{}\n").unwrap_err().contains("line 2"));
    assert_eq!(look("manifest", b"{\"embrak-tree\":1}\n").unwrap(), "tree manifest");
    fs::create_dir(dir.path().join("d")).unwrap();
    fs::write(dir.path().join("d/f"), "x").unwrap();
    let directory = inspect(&dir.path().join("d")).unwrap();
    assert_eq!(directory.summary.format, "directory");
    assert_eq!(directory.artifact.find_file(&"/f".parse().unwrap()).unwrap(), b"x");
    assert!(inspect(Path::new("/no/such/file")).is_err());
    std::os::unix::net::UnixListener::bind(dir.path().join("d/socket")).unwrap();
    let error = inspect(&dir.path().join("d")).err().unwrap().to_string();
    assert!(error.contains("is neither a file, a directory nor a symbolic link"), "{error}");
}

#[test]
fn a_broken_layout_is_told_what_is_broken() {
    let place = Place::of(&[("l/images/i.toml", "image = 'i'\noutputs = ['container:oci']\n[container]\n")]);
    let layout = place.output(&place.build(&["i"]), ".oci").path;
    let index = fs::read_to_string(layout.join("index.json")).unwrap();
    fs::write(layout.join("index.json"), index.replace("\"size\":", "\"size\":1")).unwrap();
    assert!(inspect(&layout).err().unwrap().to_string().contains("are announced"));
    fs::write(layout.join("index.json"), "{").unwrap();
    assert!(inspect(&layout).err().unwrap().to_string().contains("/index.json"));
    fs::remove_file(layout.join("index.json")).unwrap();
    assert!(inspect(&layout).err().unwrap().to_string().contains("/index.json is missing"));
    // The next build sees that the layout is not what it wrote, and writes it again.
    place.build(&["i"]);
    inspect(&layout).unwrap();
}
