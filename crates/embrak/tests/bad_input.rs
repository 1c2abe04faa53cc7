//! Bad input and bad luck: each with a clear message, its exit status, and nothing lost.

mod common;

use common::{Place, built, output};
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

const IMAGE: &str = "image = 'i'\noutputs = ['manifest']\npackages = ['a']\n";

fn recipe(name: &str, rest: &str) -> String {
    format!("name = '{name}'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n{rest}")
}

#[test]
fn all_problems_are_reported_with_lines_and_suggestions() {
    let place = Place::of(&[
        (
            "l/images/i.toml",
            "image = 'i'\noutputs = ['manifest', 'disk:row']\npakages = ['a']\n[users.keeper]\nuid = 1\npassword = 'secret'\n",
        ),
        ("l/recipes/a/recipe.toml", "name = 'A'\nversion = '1 2'\nsummary = 's'\nlicense = 'Mine'\n"),
        ("l/amend/x.toml", "amends = 'image:j'\n[set]\nversion = '2'\n"),
    ]);
    place.write("embrak.toml", &format!("{}\n[param]\nx = 'y'\n", place.read("embrak.toml")));
    place.run(&["check"]).expect(3).says(&["unknown key `param`", "did you mean `params`?"]);
    place.write("embrak.toml", &place.read("embrak.toml").replace("[param]\nx = 'y'\n", ""));
    let said = place.run(&["check"]).expect(3).says(&[
        "unknown key `pakages`",
        "did you mean `packages`?",
        "no output `disk:row`, did you mean `disk:raw`?",
        "`A` is not a name",
        "`1 2` is not a version",
        "there is no image `j` to amend",
        "did you mean `image:i`?",
        "l/images/i.toml:3",
    ]);
    assert!(said.out.contains("problems found"), "{}", said.out);
    let list = place.run(&["check", "--json"]).expect(3).json();
    let lines: Vec<_> =
        list["problems"].as_array().unwrap().iter().map(|p| (p["file"].clone(), p["line"].clone())).collect();
    assert!(lines.contains(&("l/images/i.toml".into(), 3.into())), "{lines:?}");
    place.run(&["build"]).expect(1).says(&["problems in the definitions"]);
}

#[test]
fn a_clear_text_password_and_a_bad_licence_are_refused() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\n[users.keeper]\nuid = 1\npassword = 'secret'\n"),
        ("l/recipes/a/recipe.toml", "name = 'a'\nversion = '1'\nsummary = 's'\nlicense = 'Mine'\n"),
    ]);
    place
        .run(&["check"])
        .expect(3)
        .says(&["the password of `keeper` is in clear text", "`Mine` is not an SPDX licence expression"]);
}

#[test]
fn a_missing_layer_and_one_too_old() {
    let place =
        Place::of(&[("layers/beacon/layer.toml", "layer = 'beacon'\nversion = '2'\nrequires = { l = '>= 3' }\n")]);
    let toml = place.read("embrak.toml");
    place.write("embrak.toml", &toml.replace("['l']", "['l', 'layers/baecon']"));
    place.run(&["check"]).expect(3).says(&["layer `layers/baecon` is not there", "did you mean `layers/beacon`?"]);
    place.write("embrak.toml", &toml.replace("['l']", "['l', 'layers/beacon']"));
    place.run(&["check"]).expect(3).says(&["beacon 2 needs l >= 3; the workspace has 1 from l"]);
}

#[test]
fn recipes_in_a_circle() {
    let place = Place::of(&[
        ("l/images/i.toml", IMAGE),
        ("l/recipes/a/recipe.toml", &recipe("a", "[needs]\nlink = ['b']\n")),
        ("l/recipes/b/recipe.toml", &recipe("b", "[needs]\nlink = ['a']\n")),
    ]);
    place.run(&["lock"]).expect(1).says(&[
        "need each other to be built",
        "a 1-1 x86_64 needs b 1-1 x86_64",
        "l/recipes/b/recipe.toml:6",
    ]);
}

#[test]
fn a_version_conflict_is_told_in_sentences() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['a', 'old']\n"),
        ("l/recipes/a/recipe.toml", &recipe("a", "[needs]\nrun = ['lib >= 2']\n")),
        ("l/recipes/old/recipe.toml", &recipe("old", "conflicts = ['lib >= 2']\n")),
        ("l/recipes/lib/recipe.toml", &recipe("lib", "").replace("'1'", "'2'")),
    ]);
    place.run(&["lock"]).expect(1).says(&[
        "image i cannot be resolved",
        "1. image i asks for a [l/images/i.toml:3]",
        "a 1-1 needs lib >= 2 [l/recipes/a/recipe.toml:6]",
        "old 1-1 cannot be together with lib >= 2, which lib 2-1 is [l/recipes/old/recipe.toml:5]",
        "It would work without asking for old",
    ]);
    assert!(!place.file("embrak.lock").exists());
}

#[test]
fn a_failing_step_shows_its_last_lines_and_where_the_log_is() {
    let place = Place::of(&[
        ("l/images/i.toml", IMAGE),
        (
            "l/recipes/a/recipe.toml",
            &recipe("a", "[steps]\ncompile = 'echo working; echo the lamp is out >&2; exit 7'\n"),
        ),
    ]);
    let said = place.run(&["build"]).expect(1).says(&[
        "a 1-1 x86_64: step `compile` ended with status 7",
        "the lamp is out",
        "the whole log is",
    ]);
    let path = said.err.split("the whole log is ").nth(1).unwrap().trim();
    assert!(fs::read_to_string(path).unwrap().contains("working\nthe lamp is out\n"));
    assert!(place.run(&["list", "runs"]).out.contains("failed"));

    place.write("l/recipes/a/recipe.toml", &recipe("a", "time-limit = '1s'\n[steps]\ncompile = 'sleep 60'\n"));
    let started = Instant::now();
    place.run(&["build"]).expect(1).says(&["took longer than the 1 seconds of its limit"]);
    assert!(started.elapsed() < Duration::from_secs(30));

    place.write("l/recipes/a/recipe.toml", &recipe("a", "[needs]\nbuild = ['cmake']\n[steps]\ncompile = 'cmake .'\n"));
    place.run(&["build"]).expect(1).says(&["needs the tool `cmake`", "add it to `[toolchain] host`"]);
    // What is not asked for is not there, though the host has it.
    place.write("l/recipes/a/recipe.toml", &recipe("a", "[steps]\ncompile = 'make --version'\n"));
    place.run(&["build"]).expect(1).says(&["make: not found"]);
}

#[test]
fn two_packages_with_one_file() {
    let step = |text: &str| format!("[steps]\ninstall = 'mkdir -p $OUT/etc; echo {text} > $OUT/etc/horn'\n");
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['a', 'b']\n"),
        ("l/recipes/a/recipe.toml", &recipe("a", &step("loud"))),
        ("l/recipes/b/recipe.toml", &recipe("b", &step("soft"))),
    ]);
    place.run(&["build"]).expect(1).says(&["/etc/horn is in a 1-1 and in b 1-1, with different content"]);
    place.write("l/recipes/b/recipe.toml", &recipe("b", &step("loud")));
    place.run(&["build"]).expect(0);
}

#[test]
fn a_disk_too_small_says_by_how_much() {
    let place = Place::of(&[
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n"),
        ("l/overlays/o/notes.bin", &"x".repeat(3 << 20)),
    ]);
    let image = |size: &str| {
        format!(
            "image = 'i'\noutputs = ['disk:raw']\noverlays = ['overlays/o']\n[disk]\n[[disk.partition]]\nlabel = 'p'\ntype = 'esp'\n\
             size = '{size}'\nfilesystem = 'fat'\nmount = '/'\n"
        )
    };
    place.write("l/images/i.toml", &image("2MiB"));
    place.run(&["build", "--board", "b"]).expect(1).says(&[
        "partition `p`: the content needs",
        "bytes more than there are",
        "l/images/i.toml:8",
    ]);
    place.write("l/images/i.toml", &image("fit+10%"));
    let record = place.build(&["--board", "b"]);
    assert!(output(&record, ".raw")["size"].as_u64().unwrap() < 8 << 20);
    place.write("l/images/i.toml", &image("rest"));
    place.run(&["build", "--board", "b"]).expect(1).says(&["takes the rest of the disk, and the disk has no `size`"]);
    place.run(&["build"]).expect(1).says(&["image `i` needs a board"]);
}

#[test]
fn what_a_filesystem_cannot_hold() {
    let place = Place::of(&[
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n"),
        (
            "l/images/i.toml",
            "image = 'i'\noutputs = ['disk:raw']\n[system]\ntimezone = 'UTC'\n[disk]\n[[disk.partition]]\nlabel = 'p'\ntype = 'esp'\nsize = '4MiB'\n\
             filesystem = 'fat'\nmount = '/'\n",
        ),
    ]);
    place.run(&["build", "--board", "b"]).expect(1).says(&["/etc/localtime is a symlink, which FAT cannot hold"]);
}

#[test]
fn a_stale_lock_is_refused_with_what_moved() {
    let place = Place::of(&[
        ("l/images/i.toml", IMAGE),
        ("l/recipes/a/recipe.toml", &recipe("a", "")),
        ("l/recipes/a/src/f", "1"),
    ]);
    place.run(&["build", "--locked"]).expect(1).says(&["there is no embrak.lock"]);
    place.run(&["lock"]).expect(0);
    place.run(&["lock", "--check"]).expect(0);
    place.run(&["build", "--locked"]).expect(0);
    place.write("l/recipes/a/recipe.toml", &recipe("a", "").replace("'1'", "'2'"));
    let lock = place.read("embrak.lock");
    place.run(&["build", "--locked"]).expect(1).says(&[
        "embrak.lock is out of date",
        "image i (x86_64): a: 1-1 -> 2-1",
        "run `embrak lock`",
    ]);
    place.run(&["lock", "--check"]).expect(3);
    assert_eq!(place.read("embrak.lock"), lock, "refusing changes nothing");
    place.write("embrak.lock", "format = 7\n");
    place.run(&["build"]).expect(1).says(&["it has format 7"]);
    place.write("embrak.lock", "nonsense");
    place.run(&["build"]).expect(1).says(&["embrak.lock cannot be used"]);
}

#[test]
fn the_lock_keeps_an_older_version_until_told() {
    let place = Place::of(&[("l/images/i.toml", IMAGE), ("l/recipes/a/recipe.toml", &recipe("a", ""))]);
    place.run(&["lock"]).expect(0);
    place.write("l/recipes/a2/recipe.toml", &recipe("a", "").replace("'1'", "'2'"));
    assert!(!place.run(&["lock"]).expect(0).out.contains("2-1"));
    assert!(place.read("embrak.lock").contains("a 1-1 by"));
    let said = place.run(&["lock", "--update"]).expect(0);
    let row = said.out.lines().find(|l| l.trim_start().starts_with("a ")).unwrap_or_else(|| panic!("{}", said.out));
    assert!(row.contains("1-1") && row.contains("2-1") && row.contains("image i (x86_64)"), "{row}");
}

#[test]
fn an_interrupted_build_goes_on_where_it_was() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['quick', 'slow']\n"),
        ("l/recipes/quick/recipe.toml", &recipe("quick", "[steps]\ninstall = 'mkdir $OUT/q'\n")),
        ("l/recipes/slow/recipe.toml", &recipe("slow", "[needs]\nlink = ['quick']\n[steps]\ninstall = 'sleep 30'\n")),
    ])
    .with_own_store();
    let mut child = place.command(&["-C", "w", "build"]).stderr(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    let pid = child.id().to_string();
    let mut said = String::new();
    let mut lines = std::io::BufReader::new(child.stderr.take().unwrap());
    while !said.contains("quick 1-1") {
        assert!(std::io::BufRead::read_line(&mut lines, &mut said).unwrap() > 0, "{said}");
    }
    std::thread::sleep(Duration::from_millis(500));
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let started = Instant::now();
    let status = child.wait().unwrap();
    assert_eq!(status.code(), Some(1));
    assert!(started.elapsed() < Duration::from_secs(10));
    std::io::Read::read_to_string(&mut lines, &mut said).unwrap();
    assert!(said.contains("interrupted; what was finished is kept"), "{said}");
    assert!(place.run(&["list", "runs"]).out.contains("interrupted"));

    place.write(
        "l/recipes/slow/recipe.toml",
        &recipe("slow", "[needs]\nlink = ['quick']\n[steps]\ninstall = 'sleep 0'\n"),
    );
    let record = place.build(&[]);
    assert!(!built(&record).contains(&"quick 1-1 x86_64".to_string()), "{:?}", built(&record));
    assert_eq!(fs::read_dir(place.store.join("tmp")).unwrap().count(), 0, "nothing half-made is left");
}

#[test]
fn a_damaged_object_is_noticed_and_made_again() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\npackages = ['a']\n"),
        ("l/recipes/a/recipe.toml", &recipe("a", "[steps]\ninstall = 'echo a lamp > $OUT/lamp'\n")),
    ])
    .with_own_store();
    let first = place.build(&[]);
    let damage = |content: Option<&str>| {
        let digest = embrak_tree::Digest::of("a lamp\n").hex();
        let object = place.store.join("objects/sha256").join(&digest[..2]).join(&digest[2..]);
        fs::remove_file(&object).unwrap();
        if let Some(content) = content {
            fs::write(&object, content).unwrap();
        }
    };
    for content in [Some("a lump\n"), None] {
        damage(content);
        fs::remove_dir_all(place.file("out")).unwrap();
        let again = place.build(&[]);
        assert_eq!(output(&again, ".tar")["artifact"], output(&first, ".tar")["artifact"]);
        assert!(built(&again).contains(&"a 1-1 x86_64".to_string()), "{:?}", built(&again));
    }
    damage(Some("a lump\n"));
    place.run(&["store", "check"]).expect(3);
    place.run(&["store", "check"]).expect(0);
    // An output that was changed is written again.
    let path = output(&first, ".tar")["path"].as_str().unwrap().to_string();
    place.build(&[]);
    fs::write(&path, "changed by hand").unwrap();
    let again = place.build(&[]);
    assert_eq!(built(&again), ["i-0-x86_64.tar"]);
}

#[test]
fn two_builds_at_once_agree() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar', 'manifest']\npackages = ['a', 'b']\n"),
        ("l/recipes/a/recipe.toml", &recipe("a", "[steps]\ninstall = 'sleep 1; echo a > $OUT/a'\n")),
        ("l/recipes/b/recipe.toml", &recipe("b", "[steps]\ninstall = 'sleep 1; echo b > $OUT/b'\n")),
    ])
    .with_own_store();
    let spawn = || {
        place.command(&["-C", "w", "build", "--json"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let children = [spawn(), spawn(), spawn()];
    let mut carried_out = 0;
    let mut artifacts = std::collections::BTreeSet::new();
    for child in children {
        let done = child.wait_with_output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let record: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
        let record = &record["record"];
        carried_out += built(record).iter().filter(|l| l.ends_with("x86_64")).count();
        artifacts.insert(output(record, ".tar")["artifact"].to_string());
    }
    assert_eq!(carried_out, 2, "each recipe is built once, by whichever came first");
    assert_eq!(artifacts.len(), 1);
}

#[test]
fn a_full_disk_is_said_and_loses_nothing() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\noverlays = ['overlays/o']\n"),
        ("l/overlays/o/big", &"x".repeat(3 << 20)),
    ]);
    place.build(&[]);
    // A filesystem of 1 MiB for the outputs, mounted in a namespace of its own.
    let out = place.path("small");
    fs::create_dir(&out).unwrap();
    let script = "mount -t tmpfs -o size=1m none \"$1\" && \"$2\" -C \"$3\" build --out \"$1\"; code=$?; ls -A \"$1/i/x86_64\" | grep -v lock; exit $code";
    let program = place.command(&[]);
    let mut command = std::process::Command::new("unshare");
    command.args(["-r", "-m", "sh", "-c", script, "sh"]).arg(&out).arg(program.get_program()).arg(place.file(""));
    let done = command.env("EMBRAK_STORE", &place.store).env("NO_COLOR", "1").output().unwrap();
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert_eq!(done.status.code(), Some(1), "{said}");
    assert!(said.contains("is full: make room"), "{said}");
    assert!(done.stdout.is_empty(), "nothing half-written is left: {}", String::from_utf8_lossy(&done.stdout));
    place.run(&["build"]).expect(0);
}

#[test]
fn things_that_are_not_there() {
    let place = Place::of(&[
        ("l/images/i.toml", "image = 'i'\n"),
        ("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n"),
    ]);
    place.run(&["build", "j"]).expect(1).says(&["no image `j` in this workspace", "did you mean `i`?"]);
    place.run(&["trace", "i", "sistem"]).expect(1).says(&["i has no value at `sistem`"]);
    place.run(&["inspect", "nothing.raw"]).expect(1).says(&["cannot read"]);
    place.run(&["log", "99"]).expect(1).says(&["there is no run 99 on record"]);
    place.run(&["reproduce", "l/layer.toml"]).expect(1).says(&["no run on record has made anything with the digest"]);
    place.run(&["sign", "l/layer.toml", "--key", "no.key"]).expect(1).says(&["cannot read the key"]);
    place.run_in(place.dir.path(), &["check"]).expect(1).says(&["has an embrak.toml"]);
    place.run(&["nonsense"]).expect(2);
    place.run(&["--set", "nonsense", "check"]).expect(3).says(&["cannot be understood"]);
    place.run(&["--param", "nonsense", "check"]).expect(1).says(&["has no `=`"]);
}

#[test]
fn damaged_images_are_looked_into_without_falling_over() {
    let place = Place::demo();
    let disk = output(&place.build(&["beacon-console"]), ".raw")["path"].as_str().unwrap().to_string();
    let good = fs::read(&disk).unwrap();
    let bad = place.path("bad.raw");
    for (at, what) in [(600, "primary table"), (good.len() - 500, "backup table")] {
        let mut bytes = good.clone();
        bytes[at] ^= 1;
        fs::write(&bad, bytes).unwrap();
        let said = place.run(&["inspect", &bad.to_string_lossy()]).expect(0);
        assert!(said.out.contains(&format!("damaged the {what} cannot be used")), "{}", said.out);
    }
    fs::write(&bad, &good[..1 << 20]).unwrap();
    place.run(&["inspect", &bad.to_string_lossy()]).expect(0);
    fs::write(&bad, &good[..700]).unwrap();
    place.run(&["inspect", &bad.to_string_lossy()]).expect(1).says(&["no usable GUID partition table"]);
}

#[test]
fn parameters_fill_in_and_secrets_stay_out() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['rootfs:tar']\n[[file]]\npath = '/etc/s'\ntext = '${station}'\n",
    )]);
    place.write(
        "embrak.toml",
        &format!(
            "{}[params]\nstation = 'holm'\npin = {{ secret = true, default = 'canary-4711' }}\n",
            place.read("embrak.toml")
        ),
    );
    let cat = |place: &Place| {
        let path = output(&place.build(&["--param", "station=reef"]), ".tar")["path"].as_str().unwrap().to_string();
        place.run(&["inspect", &path, "--cat", "/etc/s"]).expect(0).out
    };
    assert_eq!(cat(&place), "reef");
    place
        .run(&["build", "--param", "statio=x"])
        .expect(1)
        .says(&["parameter `statio`, which the workspace does not declare", "did you mean `station`?"]);
    let said = place.run(&["show", "run", "last", "--json"]).expect(0);
    assert!(!said.out.contains("canary-4711") && said.out.contains("reef"));
    place.write("l/images/i.toml", "image = 'i'\n[[file]]\npath = '/etc/s'\ntext = '${pin}'\n");
    place.run(&["check"]).expect(3).says(&["parameter `pin` is secret"]);
}
