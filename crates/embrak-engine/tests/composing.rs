//! Composing roots and laying out disks: packages, overlays, users, files, identity, partitions.

mod common;

use common::Place;
use embrak_engine::{Content, open_artifact};
use embrak_tree::{Entry, Kind, Tree};

fn tree(place: &Place, image: &str) -> Tree {
    let result = place.build(&[image]);
    let output = place.output(&result, ".tar");
    let artifact = open_artifact(&output.path).unwrap();
    let Content::Archive { tree, .. } = &artifact.content else { panic!() };
    assert_eq!(tree.digest(), output.tree, "what is in the archive is what the tree digest is of");
    tree.clone()
}

fn get<'a>(tree: &'a Tree, path: &str) -> &'a Entry {
    tree.get(&path.parse().unwrap()).unwrap_or_else(|| panic!("no {path}"))
}

#[test]
fn users_groups_and_owners() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['rootfs:tar']\n\
         [users.keeper]\nuid = 1000\ngroups = ['dialout', 'beacon']\nssh-keys = ['ssh-ed25519 AAAA keeper']\nshell = '/bin/ash'\n\
         [users.watch]\nuid = 1001\nhome = '/var/watch'\ngroups = ['beacon', 'keeper']\npassword = '$6$salt$hash'\n\
         [[file]]\npath = '/etc/a'\ntext = 'x'\nowner = 'keeper:beacon'\nmode = '0640'\n\
         [[file]]\npath = '/etc/b'\ntext = 'x'\nowner = '7:8'\n[[file]]\npath = '/etc/c'\ntext = 'x'\nowner = 'watch'\n",
    )]);
    let result = place.build(&["i"]);
    let output = place.output(&result, ".tar");
    assert_eq!(
        place.text(&output, "/etc/passwd"),
        "root:x:0:0:root:/root:/bin/sh\nkeeper:x:1000:1000::/home/keeper:/bin/ash\nwatch:x:1001:1001::/var/watch:/bin/sh\n"
    );
    assert_eq!(place.text(&output, "/etc/shadow"), "root:!:::::::\nkeeper:!:::::::\nwatch:$6$salt$hash:::::::\n");
    let groups = place.text(&output, "/etc/group");
    assert_eq!(
        groups,
        "root:x:0:\nkeeper:x:1000:watch\ndialout:x:371:keeper\nbeacon:x:823:keeper,watch\nwatch:x:1001:\n"
    );
    assert_eq!(place.text(&output, "/home/keeper/.ssh/authorized_keys"), "ssh-ed25519 AAAA keeper\n");
    let tree = tree(&place, "i");
    let owner = |path: &str| (get(&tree, path).uid, get(&tree, path).gid, get(&tree, path).mode);
    assert_eq!(owner("/etc/a"), (1000, 823, 0o640));
    assert_eq!(owner("/etc/b"), (7, 8, 0o644));
    assert_eq!(owner("/etc/c"), (1001, 1001, 0o644));
    assert_eq!(owner("/etc/shadow"), (0, 0, 0o600));
    assert_eq!(owner("/home/keeper"), (1000, 1000, 0o750));
    assert_eq!(owner("/home/keeper/.ssh/authorized_keys"), (1000, 1000, 0o600));
    assert!(tree.iter().all(|(_, e)| e.mtime == 1_772_323_200), "every time is the epoch");
}

#[test]
fn an_owner_that_is_not_there_is_named() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['manifest']\n[[file]]\npath = '/a'\ntext = ''\nowner = 'keper'\n[users.keeper]\nuid = 9\n",
    )]);
    let said = place.failure(&["i"]);
    assert!(
        said.contains("l/images/i.toml:6: there is no user or group `keper`")
            && said.contains("the users root, keeper"),
        "{said}"
    );
}

#[test]
fn what_comes_later_replaces_what_came_before() {
    let place = Place::of(&[
        (
            "l/images/i.toml",
            "image = 'i'\nversion = '3'\nsummary = 'An \"image\"'\noutputs = ['rootfs:tar']\npackages = ['base']\noverlays = ['overlays/one', 'overlays/two']\n[[file]]\npath = '/etc/four'\ntext = 'file'\n[system]\nhostname = 'holm'\ntimezone = 'Europe/Oslo'\nlocale = 'C.UTF-8'\n",
        ),
        ("l/overlays/one/etc/two", "first overlay"),
        ("l/overlays/one/etc/three", "first overlay"),
        ("l/overlays/two/etc/three", "second overlay"),
        ("l/overlays/two/etc/four", "second overlay"),
    ]);
    let release = "NAME=Skerry\nIMAGE_ID=old\nVERSION_ID=1\n";
    place.files_recipe(
        "base",
        "",
        &[("etc/one", "package"), ("etc/two", "package"), ("usr/lib/os-release", release), ("etc/hostname", "package")],
    );
    let result = place.build(&["i"]);
    let output = place.output(&result, ".tar");
    for (path, text) in [
        ("/etc/one", "package"),
        ("/etc/two", "first overlay"),
        ("/etc/three", "second overlay"),
        ("/etc/four", "file"),
        ("/etc/hostname", "holm\n"),
        ("/etc/locale.conf", "LANG=C.UTF-8\n"),
    ] {
        assert_eq!(place.text(&output, path), text, "{path}");
    }
    let input = result.record.inputs["i"];
    let stamped = format!("NAME=Skerry\nVERSION_ID=1\nIMAGE_ID=i\nIMAGE_VERSION=3\nEMBRAK_INPUT={input}\n");
    assert_eq!(place.text(&output, "/usr/lib/os-release"), stamped);
    let identity: serde_json::Value = serde_json::from_str(&place.text(&output, "/usr/lib/embrak/image.json")).unwrap();
    assert_eq!(
        (identity["image"].as_str(), identity["version"].as_str(), identity["target"].as_str()),
        (Some("i"), Some("3"), Some("x86_64"))
    );
    assert_eq!(identity["packages"][0]["name"], "base");
    let tree = tree(&place, "i");
    assert_eq!(
        get(&tree, "/etc/localtime").kind,
        Kind::Symlink { target: b"../usr/share/zoneinfo/Europe/Oslo".to_vec() }
    );
}

#[test]
fn checks_on_paths_decide() {
    let place = Place::of(&[]);
    place.files_recipe("base", "", &[("etc/ssh/ssh_host_rsa_key", "secret")]);
    let image = |check: &str| {
        place.write(
            "l/images/i.toml",
            &format!("image = 'i'\noutputs = ['manifest']\npackages = ['base']\n[[check]]\n{check}\n"),
        )
    };
    image("absent = '/etc/ssh/ssh_host_*'");
    let said = place.failure(&["i"]);
    assert!(
        said.contains("/etc/ssh/ssh_host_rsa_key is in the image, and `/etc/ssh/ssh_host_*` has to be absent"),
        "{said}"
    );
    image("present = '/boot/**'");
    assert!(place.failure(&["i"]).contains("nothing in the image matches `/boot/**`"));
    image("absent = '/etc/*_key'");
    place.build(&["i"]);
    image("present = '/etc/**/*_key'");
    place.build(&["i"]);
}

#[test]
fn splits_share_the_files_and_an_empty_one_is_an_error() {
    let place = Place::of(&[("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\npackages = ['tool']\n")]);
    let split = "[[split]]\nname = 'tool-doc'\nsummary = 's'\ntake = ['/usr/share/man/**', '/usr/share/doc/*']\n";
    place.files_recipe(
        "tool",
        split,
        &[
            ("usr/share/man/man1/tool.1", "m"),
            ("usr/share/doc/README", "d"),
            ("usr/share/doc/deep/er", "stays"),
            ("usr/bin/tool", "t"),
        ],
    );
    let paths = |place: &Place| {
        tree(place, "i")
            .iter()
            .map(|(p, _)| p.to_string())
            .filter(|p| p.starts_with("/usr/share") || p.contains("bin"))
            .collect::<Vec<_>>()
    };
    assert_eq!(
        paths(&place),
        [
            "/usr/bin",
            "/usr/bin/tool",
            "/usr/share",
            "/usr/share/doc",
            "/usr/share/doc/deep",
            "/usr/share/doc/deep/er",
            "/usr/share/tool",
            "/usr/share/tool/name"
        ]
    );
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\npackages = ['tool-doc']\n");
    assert_eq!(
        paths(&place),
        [
            "/usr/share",
            "/usr/share/doc",
            "/usr/share/doc/README",
            "/usr/share/man",
            "/usr/share/man/man1",
            "/usr/share/man/man1/tool.1"
        ]
    );
    place.files_recipe("tool", &split.replace("man", "info").replace("doc/*", "nothing"), &[]);
    assert!(place.failure(&["i"]).contains(
        "the package `tool-doc` would be empty: nothing installed matches /usr/share/info/**, /usr/share/nothing"
    ));
}

#[test]
fn each_partition_holds_what_is_mounted_there() {
    let partition = |label: &str, size: &str, mount: &str| {
        format!(
            "[[disk.partition]]\nlabel = '{label}'\ntype = 'var'\nsize = '{size}'\nfilesystem = 'fat'\nmount = '{mount}'\n"
        )
    };
    let place = Place::of(&[(
        "l/images/i.toml",
        &format!(
            "image = 'i'\noutputs = ['disk:raw']\npackages = ['base']\n[disk]\nsize = '64MiB'\n{}{}{}[[disk.partition]]\nlabel = 'spare'\ntype = 'swap'\nsize = '1MiB'\nfilesystem = 'none'\n",
            partition("root", "fit+50%", "/"),
            partition("var", "rest", "/var"),
            partition("log", "2MiB", "/var/log")
        ),
    )]);
    place.files_recipe("base", "", &[("a", "1"), ("var/b", "2"), ("var/log/c", "3"), ("variant/d", "4")]);
    let result = place.build(&["i"]);
    let output = place.output(&result, ".raw");
    assert_eq!(output.size, 64 << 20);
    let artifact = open_artifact(&output.path).unwrap();
    let Content::Disk { partitions, table } = &artifact.content else { panic!() };
    assert!(table.damage().is_empty());
    let files = |label: &str| {
        let view = partitions.iter().find(|p| p.partition.label == label).unwrap();
        assert!(view.damage.is_empty());
        view.tree.iter().map(|(p, _)| p.to_string()).collect::<Vec<_>>()
    };
    let root = files("root");
    assert!(
        root.contains(&"/a".into()) && root.contains(&"/variant/d".into()) && root.contains(&"/var".into()),
        "{root:?}"
    );
    assert!(!root.iter().any(|p| p.starts_with("/var/")), "{root:?}");
    assert_eq!(files("var"), ["/", "/b", "/log"]);
    assert_eq!(files("log"), ["/", "/c"]);
    let last = partitions.last().unwrap();
    assert!(last.filesystem.is_none() && last.partition.start + last.partition.size <= 63 << 20);
    assert_eq!(place.text(&output, "/c"), "3");
}

#[test]
fn layouts_that_cannot_be() {
    let place = Place::of(&[]);
    place.files_recipe("base", "", &[("big", &"x".repeat(3 << 20))]);
    let image = |disk: &str| {
        place.write("l/images/i.toml", &format!("image = 'i'\noutputs = ['disk:raw']\npackages = ['base']\n{disk}"))
    };
    let partition = "[[disk.partition]]\nlabel = 'p'\ntype = 'TYPE'\nsize = 'SIZE'\nfilesystem = 'fat'\nmount = '/'\n";
    let with = |kind: &str, size: &str| partition.replace("TYPE", kind).replace("SIZE", size);
    for (disk, expected) in [
        (with("rot", "8MiB"), "no partition type `rot` for x86_64; there are esp"),
        (with("esp", "2MiB"), "partition `p`: the content needs"),
        (format!("[disk]\nsize = '4MiB'\n{}", with("esp", "8MiB")), "the partitions need a disk of"),
        (
            format!("[disk]\nsize = '64MiB'\n{}{}", with("esp", "rest"), with("esp", "rest").replace("'/'", "'/x'")),
            "two partitions take the rest",
        ),
        (with("esp", "fit").replace("'fat'", "'none'"), "there is no content its size could fit"),
        (String::new(), "says how the disk is divided"),
    ] {
        image(&disk);
        let said = place.failure(&["i"]);
        assert!(said.contains(expected), "no `{expected}` in {said}");
    }
    place.write(
        "l/boards/b.toml",
        "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'efi-app'\nefi-app = '/x.efi'\n",
    );
    image(&with("esp", "8MiB"));
    assert!(place.failure(&["i"]).contains("board b starts /x.efi, which is not in the image"));
    place.write(
        "l/boards/b.toml",
        "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n[[raw]]\noffset = '8KiB'\nfrom = '/big'\n",
    );
    assert!(place.failure(&["i"]).contains("/big at 8192, 3145728 bytes long, overlaps the partition table"));
    place.write("l/boards/b.toml", "board = 'b'\nsummary = 's'\narchitecture = 'x86_64'\nboot = 'none'\n[[raw]]\noffset = '64KiB'\nfrom = '/none'\n");
    assert!(place.failure(&["i"]).contains("/none is to be written at 64KiB, and is not in the image"));
}

#[test]
fn an_entrypoint_that_is_not_there_is_an_error() {
    let place = Place::of(&[(
        "l/images/i.toml",
        "image = 'i'\noutputs = ['container:oci']\n[container]\nentrypoint = ['/usr/bin/tidelog']\n",
    )]);
    assert!(place.failure(&["i"]).contains("the entrypoint /usr/bin/tidelog is not in the image i"));
}

#[test]
fn patches_are_applied_or_refused() {
    let place = Place::of(&[("l/images/i.toml", "image = 'i'\noutputs = ['rootfs:tar']\npackages = ['p']\n")]);
    place.write("l/recipes/p/recipe.toml", "name = 'p'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\nmethod = 'copy'\n[[source]]\ndir = 'src'\npatches = ['a.patch']\n");
    place.write("l/recipes/p/src/one", "1\n2\n3\n");
    place.write("l/recipes/p/src/two", "a\n");
    let patch = "What it is for.\n\ndiff x\n--- a/one\n+++ b/one\n@@ -1,3 +1,3 @@\n 1\n-2\n+two\n 3\ndiff y\n--- a/two\n+++ b/two\n@@ -1 +1,2 @@\n a\n+b\n--- /dev/null\n+++ b/new/three\n@@ -0,0 +1 @@\n+3\n";
    place.write("l/recipes/p/a.patch", patch);
    let result = place.build(&["i"]);
    let output = place.output(&result, ".tar");
    assert_eq!(place.text(&output, "/one"), "1\ntwo\n3\n");
    assert_eq!(place.text(&output, "/two"), "a\nb\n");
    assert_eq!(place.text(&output, "/new/three"), "3\n");
    for (bad, expected) in [
        (patch.replace("-2\n", "-9\n"), "one: "),
        ("no diff at all\n".to_string(), "it is not a unified diff"),
        (patch.replace("b/one", "b/../../one"), "has a part `.` or `..`"),
    ] {
        place.write("l/recipes/p/a.patch", &bad);
        let said = place.failure(&["i"]);
        assert!(said.contains("patch `a.patch`: ") && said.contains(expected), "{said}");
    }
}
