//! The demo's road, command by command, with independent judges where they are installed.

mod common;

use common::{Place, built, judge, output};
use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

fn path_of(output: &serde_json::Value) -> PathBuf {
    PathBuf::from(output["path"].as_str().unwrap())
}

#[test]
fn a_second_build_does_nothing_and_a_third_only_what_changed() {
    let place = Place::demo().with_own_store();
    let first = place.build(&[]);
    assert_eq!(built(&first).len(), 13, "{:?}", built(&first));
    assert_eq!(
        first["hostTools"].as_object().unwrap().keys().cloned().collect::<Vec<_>>(),
        ["ar", "base utilities", "cc", "ld", "make"]
    );
    let second = place.build(&[]);
    assert!(built(&second).is_empty(), "{:?}", built(&second));
    assert_eq!(first["outputs"], second["outputs"]);

    // A comment in the library: it is built again, comes out the same, and nothing that uses it is.
    let source = "layers/groundwork/recipes/libgauge/src/gauge.c";
    place.write(source, &format!("{}\n/* The gauge is old. */\n", place.read(source)));
    let third = place.build(&[]);
    let recipes =
        |record: &serde_json::Value| built(record).into_iter().filter(|l| l.ends_with("x86_64")).collect::<Vec<_>>();
    assert_eq!(recipes(&third), ["libgauge 0.3.1-1 x86_64"]);

    // A change that changes the result goes on to what uses it, and no further.
    place.write(source, &place.read(source).replace("sum > 99999", "sum > 9999"));
    let fourth = place.build(&[]);
    assert_eq!(recipes(&fourth), ["libgauge 0.3.1-1 x86_64", "tidelog 1.4.2-1 x86_64"]);
    assert_eq!(output(&first, "sim-x86_64.raw")["artifact"], output(&fourth, "sim-x86_64.raw")["artifact"]);
    assert_ne!(output(&first, ".oci.tar")["artifact"], output(&fourth, ".oci.tar")["artifact"]);
}

#[test]
fn judges_agree_with_the_disk() {
    let place = Place::demo();
    let record = place.build(&["beacon-console"]);
    let disk = path_of(output(&record, ".raw"));
    let disk_text = disk.to_string_lossy().into_owned();
    if let Some(said) = judge("sgdisk", &["-v", &disk_text]) {
        assert!(said.out.contains("No problems found"), "{}", said.out);
        let list = judge("sgdisk", &["-p", &disk_text]).unwrap().out;
        assert!(list.contains("EF00  boot") && list.contains("state"), "{list}");
    }
    for (index, partition) in output(&record, ".raw")["partitions"].as_array().unwrap().iter().enumerate() {
        let (start, size) = (partition["start"].as_u64().unwrap(), partition["size"].as_u64().unwrap());
        let bytes = fs::read(&disk).unwrap()[start as usize..(start + size) as usize].to_vec();
        let alone = place.path(&format!("part{index}"));
        fs::write(&alone, bytes).unwrap();
        let alone = alone.to_string_lossy().into_owned();
        if let Some(said) = judge("fsck.fat", &["-n", &alone]) {
            assert_eq!(said.code, 0, "{}", said.out);
            assert!(!said.out.to_lowercase().contains("error"), "{}", said.out);
        }
        if index == 0
            && let Some(said) = judge("mtype", &["-i", &alone, "::/etc/beacon.conf"])
        {
            assert_eq!(said.out, "station = holm\npattern = X.X.....X.X\n");
            assert_eq!(judge("mtype", &["-i", &alone, "::/etc/hostname"]).unwrap().out, "holm-light\n");
        }
    }
}

#[test]
fn firmware_starts_the_disk() {
    let place = Place::demo();
    let disk = path_of(output(&place.build(&["beacon-console"]), ".raw"));
    let said = place.run(&["boot", &disk.to_string_lossy(), "--json"]);
    if said.code == 1 && std::env::var_os("EMBRAK_REQUIRE_JUDGES").is_none() {
        assert!(said.err.contains("not installed") || said.err.contains("no UEFI firmware"), "{}", said.err);
        eprintln!("skipped: no emulator");
        return;
    }
    let report = said.expect(0).json();
    let console = report["console"].as_str().unwrap();
    let input = place.run(&["inspect", &disk.to_string_lossy(), "--json"]).json()["identity"]["input"]
        .as_str()
        .unwrap()
        .to_string();
    for expected in
        ["image   beacon-console", "version 2026.3", &format!("input   {input}"), "station holm", "lamp [ **** ]"]
    {
        assert!(console.contains(expected), "no `{expected}` in {console}");
    }
    assert_eq!(report["poweredOff"], true);

    // A console that never says what it should.
    let said = place.run(&[
        "--set",
        "image:beacon-console.check.1.console-says=never",
        "--set",
        "image:beacon-console.check.1.within=9s",
        "boot",
        &disk.to_string_lossy(),
    ]);
    assert!(said.expect(3).out.contains("the console never said \"never\""));
}

#[test]
fn the_containers_program_answers_on_its_port() {
    let place = Place::demo();
    let record = place.build(&["tide-service"]);
    let archive = path_of(output(&record, ".oci.tar"));
    let inspected = place.run(&["inspect", &archive.to_string_lossy(), "--json"]).expect(0).json();
    let config = &inspected["inside"]["images"][0]["config"];
    assert_eq!(config["config"]["User"], "1000:1000");
    assert_eq!(config["config"]["ExposedPorts"], serde_json::json!({ "8471/tcp": {} }));
    assert_eq!(config["architecture"], "amd64");
    let layout = path_of(output(&record, ".oci"));
    let same = place.run(&["inspect", &layout.to_string_lossy(), "--json"]).json();
    assert_eq!(same["inside"]["images"][0]["manifest"], inspected["inside"]["images"][0]["manifest"]);

    for name in ["usr/bin/tidelog", "var/lib/tidelog/readings.txt"] {
        let to = place.path(Path::new(name).file_name().unwrap().to_str().unwrap());
        place
            .run(&["inspect", &archive.to_string_lossy(), "--extract", &format!("/{name}"), &to.to_string_lossy()])
            .expect(0);
    }
    let program = place.path("tidelog");
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let mut server = Command::new(&program)
        .args(["--readings", &place.path("readings.txt").to_string_lossy(), "--port", &free.to_string()])
        .spawn()
        .unwrap();
    let deadline = Instant::now() + Duration::from_secs(10);
    let mut report = String::new();
    while report.is_empty() && Instant::now() < deadline {
        if let Ok(mut stream) = TcpStream::connect(("127.0.0.1", free)) {
            stream.read_to_string(&mut report).unwrap();
        }
    }
    server.kill().unwrap();
    server.wait().unwrap();
    assert_eq!(
        report,
        "readings 6, unreadable 0\nlow  48 cm at 06:20:00\nhigh 371 cm at 12:40:00\nmean 186 cm\nlast 224 cm at 15:50:00\n"
    );
}

#[test]
fn signing_verifying_and_tampering() {
    let place = Place::demo();
    let record = place.build(&["tide-service"]);
    let archive = path_of(output(&record, ".oci.tar"));
    let archive = archive.to_string_lossy().into_owned();
    place.run(&["verify", &archive]).expect(1).says(&["keys/release.pub"]);
    place.run(&["keys", "new", "release"]).expect(0);
    place.run(&["keys", "new", "release"]).expect(1).says(&["is there already"]);
    place.run(&["verify", &archive]).expect(1).says(&["has no evidence"]);
    place.run(&["sign", &archive, "--key", "keys/release.key"]).expect(0);
    place.run(&["verify", &archive]).expect(0);
    place.run(&["verify", &archive, "--key", "keys/release.pub"]).expect(0);
    let checks = place.run(&["verify", &archive, "--json"]).expect(0).json();
    assert_eq!(checks[0]["good"], true);

    // Nothing that can be flipped stays unnoticed: artifact, evidence, key.
    let evidence = format!("{archive}.evidence.jsonl");
    let key = place.file("keys/release.pub").to_string_lossy().into_owned();
    let mut tried = 0;
    for (file, step) in [(&archive, 37_777), (&evidence, 211), (&key, 7)] {
        let good = fs::read(file).unwrap();
        for at in (0..good.len()).step_by(step) {
            let mut bad = good.clone();
            bad[at] ^= 0x11;
            fs::write(file, bad).unwrap();
            let said = place.run(&["verify", &archive]);
            assert!(
                said.code == 3 || said.code == 1,
                "byte {at} of {file} flipped, and verify ended with {}: {}",
                said.code,
                said.out
            );
            tried += 1;
        }
        fs::write(file, good).unwrap();
    }
    assert!(tried > 30, "{tried}");
    place.run(&["verify", &archive]).expect(0);

    let said = place.run(&["verify", &archive, "--policy", "trust-release.toml"]).expect(1);
    said.says(&["signer `rebuild`"]);
    place.run(&["keys", "new", "rebuild"]).expect(0);
    let said = place.run(&["verify", &archive, "--policy", "trust-release.toml"]).expect(3);
    assert!(said.out.contains("not met  images * need reproduction by 1 signer: signed by nobody"), "{}", said.out);
    place.run(&["reproduce", &archive, "--key", "keys/rebuild.key"]).expect(0);
    place.run(&["verify", &archive, "--policy", "trust-release.toml"]).expect(0);

    // The evidence of another file does not serve.
    let other = path_of(output(&record, ".tar.zst")).to_string_lossy().into_owned();
    let said = place.run(&["verify", &other, "--evidence", &evidence]).expect(3);
    assert!(said.out.contains("this file digests to"), "{}", said.out);
}

#[test]
fn openssl_reads_our_keys() {
    let place = Place::demo();
    place.run(&["keys", "new", "release"]).expect(0);
    let (private, public) = (place.file("keys/release.key"), place.file("keys/release.pub"));
    let Some(said) = judge("openssl", &["pkey", "-in", &private.to_string_lossy(), "-pubout"]) else { return };
    assert_eq!(said.out, fs::read_to_string(public).unwrap());
}

#[test]
fn a_careless_recipe_is_found_out_and_its_cause_named() {
    let place = Place::demo();
    place.run(&["lock"]).expect(0);
    let lock = place.read("embrak.lock");
    place.build(&["beacon-console", "--set", "image:beacon-console.options.foghorn.careless=true"]);
    assert_eq!(place.read("embrak.lock"), lock, "--set is for one build only");
    let said = place.run(&["reproduce", "--json"]).expect(3).json();
    let differing: Vec<&str> = said["packages"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|p| p["identical"] == false)
        .map(|p| p["name"].as_str().unwrap())
        .collect();
    assert_eq!(differing, ["foghorn 1.2-1"]);
    let difference = &said["differences"][0];
    assert_eq!(difference["place"], "package foghorn 1.2-1: /usr/bin/foghorn");
    assert_eq!(difference["cause"]["name"], "time stamp", "{difference}");
    assert!(difference["field"].as_str().unwrap().contains(".rodata"), "{difference}");
    assert!(difference["before"].as_str().unwrap().starts_with("foghorn, built 1"), "{difference}");
    let text = place.run(&["reproduce"]).expect(3).out;
    assert!(text.contains("likely cause: time stamp") && text.contains("SOURCE_DATE_EPOCH"), "{text}");

    // Without the option it reproduces.
    place.build(&["beacon-console"]);
    let said = place.run(&["reproduce", "--json"]).expect(0).json();
    assert!(said["variations"].as_object().unwrap().len() >= 8);
}

#[test]
fn diff_names_the_file_and_both_values() {
    let place = Place::demo();
    let first = path_of(output(&place.build(&["beacon-console"]), ".raw"));
    let kept = place.path("first.raw");
    fs::copy(&first, &kept).unwrap();
    place.run(&["diff", &kept.to_string_lossy(), &first.to_string_lossy()]).expect(0);
    place.build(&["beacon-console", "--set", "image:beacon-console.system.hostname=reef-light"]);
    let report = place.run(&["diff", &kept.to_string_lossy(), &first.to_string_lossy(), "--json"]).expect(3).json();
    let places: Vec<&str> =
        report["differences"].as_array().unwrap().iter().map(|d| d["place"].as_str().unwrap()).collect();
    assert!(places.contains(&"partition boot: /etc/hostname"), "{places:?}");
    assert!(places.contains(&"partition table"), "identifiers follow from the inputs: {places:?}");
    let hostname = report["differences"]
        .as_array()
        .unwrap()
        .iter()
        .find(|d| d["place"] == "partition boot: /etc/hostname")
        .unwrap();
    assert_eq!(hostname["before"], "holm-light");

    // One byte in the slack after a file: nothing we read differs, and still it is found.
    let mut bytes = fs::read(&kept).unwrap();
    let at = bytes.len() - (3 << 20);
    bytes[at] ^= 1;
    let flipped = place.path("flipped.raw");
    fs::write(&flipped, bytes).unwrap();
    let said = place.run(&["diff", &kept.to_string_lossy(), &flipped.to_string_lossy()]).expect(3);
    assert!(said.out.contains("the same content, encoded otherwise"), "{}", said.out);
    assert!(said.out.contains("partition state, outside its files"), "{}", said.out);
}

#[test]
fn a_board_with_a_loader_before_the_first_partition() {
    let place = Place::demo();
    let record = place.build(&["lamp-rescue", "--board", "lampboard-2"]);
    assert!(record["hostTools"].as_object().unwrap().is_empty(), "nothing is compiled");
    let disk = fs::read(path_of(output(&record, ".raw"))).unwrap();
    assert!(disk[64 << 10..].starts_with(b"LAMPBOARD STAGE 1"));
    place
        .run(&["build", "beacon-console", "--board", "sim-aarch64"])
        .expect(1)
        .says(&["cannot be built here", "not for aarch64"]);
}

#[test]
fn layers_beside_the_workspace_are_recorded_too() {
    let place = Place::demo();
    fs::rename(place.file("layers/station-holm"), place.path("station-holm")).unwrap();
    place.write("embrak.toml", &place.read("embrak.toml").replace("layers/station-holm", "../station-holm"));
    place.build(&["beacon-console"]);
    place.run(&["reproduce"]).expect(0);
    let absolute = place.path("station-holm").to_string_lossy().into_owned();
    place.write("embrak.toml", &place.read("embrak.toml").replace("../station-holm", &absolute));
    place
        .run(&["build"])
        .expect(1)
        .says(&["is named by an absolute path", "name it from the directory of embrak.toml"]);
}

#[test]
fn layers_are_added_and_removed_with_comments_kept() {
    let place = Place::demo();
    let before = place.read("embrak.toml");
    place.run(&["layer", "remove", "station-holm"]).expect(0);
    assert!(place.read("embrak.toml").contains("# later ones amend earlier ones"));
    assert!(place.run(&["trace", "beacon-console", "system.hostname"]).expect(0).out.contains("\"beacon-holm\""));
    place.run(&["layer", "add", "layers/station-holm/"]).expect(0);
    assert_eq!(place.read("embrak.toml").replace('\'', "\""), before);
    place.run(&["layer", "add", "layers/station-holm"]).expect(1).says(&["is in embrak.toml already"]);
    // What would break the workspace is taken back.
    place
        .run(&["layer", "remove", "groundwork"])
        .expect(1)
        .says(&["needs the layer groundwork >= 1.0", "embrak.toml is as it was"]);
    place.run(&["layer", "add", "layers/none"]).expect(1).says(&["layer `layers/none` is not there"]);
    assert_eq!(place.read("embrak.toml"), before);
}

#[test]
fn a_preview_draws_the_disk_and_warns() {
    let place = Place::demo();
    place.write(
        "layers/station-holm/amend/users.toml",
        "amends = 'image:beacon-console'\n[add]\nusers.keeper = { uid = 1000, password = '$6$a$b' }\n",
    );
    place.build(&["beacon-console"]);
    let said = place.run(&["preview", "beacon-console"]).expect(0).out;
    assert!(said.contains("as last built") && said.contains("│·┃") && said.contains("50 MiB"), "{said}");
    assert!(said.contains("look at this: user keeper logs in by password and has no key"), "{said}");
}

#[test]
fn every_list_and_view_answers() {
    let place = Place::demo();
    for kind in ["layers", "boards", "recipes", "packages", "images", "outputs", "tools"] {
        let rows = place.run(&["list", kind, "--json"]).expect(0).json();
        assert!(rows.as_array().is_some_and(|r| r.len() >= 2), "{kind}: {rows}");
        assert!(place.run(&["list", kind]).expect(0).out.starts_with("name"), "{kind}");
    }
    assert!(place.run(&["show", "image", "beacon-console"]).expect(0).out.contains("packages[3] = \"holm-chart\""));
    let trace = place.run(&["trace", "beacon-console", "system.hostname"]).expect(0).out;
    assert!(
        trace.contains("layers/beacon/images/beacon-console.toml:")
            && trace.contains("layers/station-holm/amend/console.toml:4"),
        "{trace}"
    );
    let why = place.run(&["why", "tide-service", "tidelog"]).expect(0).out;
    assert!(
        why.contains("image tide-service asks for tidelog >= 1.4 [layers/beacon/images/tide-service.toml:5]"),
        "{why}"
    );
    place.run(&["why", "tide-service", "foghorn"]).expect(3);
    let found = place.run(&["find", "tide"]).expect(0).out;
    assert!(found.lines().nth(1).unwrap().starts_with("tide-service"), "{found}");
    assert!(
        found.contains("tidelog") && found.contains("provides gauge-logger") && found.contains("libgauge"),
        "{found}"
    );
    assert_eq!(place.run(&["find", "uefi", "ARM", "--json"]).expect(0).json()[0]["name"], "sim-aarch64");
    place.run(&["find", "submarine"]).expect(3);
    let preview = place.run(&["preview", "--json"]).expect(0).json();
    assert_eq!(preview[0]["packages"].as_array().unwrap().len(), 5, "{preview}");
    place.build(&[]);
    assert!(place.run(&["preview"]).expect(0).out.contains("the same packages as in the last run"));
    assert!(place.run(&["log", "last", "libgauge"]).expect(0).out.contains("== compile"));
    assert!(place.run(&["list", "runs"]).expect(0).out.contains("beacon-console tide-service"));
    assert!(place.run(&["show", "run", "last"]).expect(0).out.contains("host tools used"));
    place.run(&["store", "status"]).expect(0);
    place.run(&["check"]).expect(0);
    assert!(place.run(&["completions", "bash"]).expect(0).out.contains("embrak"));
}

#[test]
fn an_ordinary_user_gets_the_same_digests() {
    let place = Place::demo();
    let mine = place.build(&["tide-service"]);
    // Only root can become somebody else; whoever else runs this is an ordinary user already.
    if !fs::read_to_string("/proc/self/status").unwrap().contains("Uid:\t0\t") {
        return;
    }
    let theirs = tempfile::tempdir().unwrap();
    for command in ["chmod", "chown"] {
        let what = if command == "chmod" { "777" } else { "65534" };
        Command::new(command).args([what, theirs.path().to_str().unwrap()]).status().unwrap();
    }
    let program = theirs.path().join("embrak");
    fs::copy(env!("CARGO_BIN_EXE_embrak"), &program).unwrap();
    let run = |args: &[&str]| {
        let said = judge(
            "setpriv",
            &[
                &[
                    "--reuid=65534",
                    "--regid=65534",
                    "--clear-groups",
                    "env",
                    &format!("EMBRAK_STORE={}/s", theirs.path().display()),
                    program.to_str().unwrap(),
                ],
                args,
            ]
            .concat(),
        );
        said.map(|s| s.expect(0))
    };
    let workspace = theirs.path().join("w").to_string_lossy().into_owned();
    if run(&["new", &workspace, "--demo", "-q"]).is_none() {
        return;
    }
    let record = run(&["-C", &workspace, "build", "tide-service", "--json"]).unwrap().json()["record"].clone();
    assert_eq!(output(&record, ".oci.tar")["artifact"], output(&mine, ".oci.tar")["artifact"]);
}

#[test]
fn the_demo_itself_runs_to_its_end() {
    let place = Place::of(&[]);
    let dir = place.path("skerry");
    let said = place.run_in(place.dir.path(), &["demo", "--dir", &dir.to_string_lossy(), "--no-boot"]).expect(0);
    for expected in [
        "$ embrak check",
        "$ embrak reproduce --key keys/rebuild.key",
        "What came out",
        "identical",
        "What to try next",
    ] {
        assert!(said.out.contains(expected), "no `{expected}` in {}", said.out);
    }
    place
        .run_in(place.dir.path(), &["demo", "--dir", &dir.to_string_lossy()])
        .expect(1)
        .says(&["is there already and not empty"]);
    std::io::stdout().flush().unwrap();
}
