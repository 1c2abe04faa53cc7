//! Whole workspaces on disk: layers, amendments, `extends`, parameters; and what is said when something is wrong.

use embrak_model::definitions::{Architecture, BoardStatus, FilesystemKind, Output};
use embrak_model::{Problem, SizeSpec, Workspace, WorkspaceOptions, find_workspace};
use std::path::Path;

struct Place(tempfile::TempDir);

impl Place {
    fn of(files: &[(&str, &str)]) -> Place {
        let place = Place(tempfile::tempdir().unwrap());
        place.write("embrak.toml", "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['low', 'high']\n");
        place.write("low/layer.toml", "layer = 'low'\nversion = '1.5'\n");
        place.write("high/layer.toml", "layer = 'high'\nversion = '2'\nrequires = { low = '>= 1, < 2' }\n");
        for (path, text) in files {
            place.write(path, text);
        }
        place
    }

    fn write(&self, path: &str, text: &str) {
        let path = self.0.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    fn load(&self) -> Result<Workspace, Vec<Problem>> {
        self.load_with(&WorkspaceOptions::default())
    }

    fn load_with(&self, options: &WorkspaceOptions) -> Result<Workspace, Vec<Problem>> {
        Workspace::load(self.0.path(), options)
    }

    #[track_caller]
    fn problems(&self, options: &WorkspaceOptions) -> Vec<String> {
        self.load_with(options).expect_err("it should have problems").iter().map(ToString::to_string).collect()
    }
}

fn set(text: &str) -> WorkspaceOptions {
    WorkspaceOptions { set: vec![text.into()], ..WorkspaceOptions::default() }
}

const BOARD: &str = "board = 'b'\nsummary = 's'\narchitecture = 'aarch64'\nboot = 'none'\nstatus = 'supported'\n";
const BASE: &str = "image = 'base'\nabstract = true\nversion = '7'\npackages = ['a']\n[system]\nhostname = 'low'\nlocale = 'C.UTF-8'\n\
                    [[disk.partition]]\nlabel = 'root'\ntype = 'root'\nsize = 'fit'\nfilesystem = 'fat'\nmount = '/'\n";
const TOP: &str = "image = 'top'\nextends = 'base'\npackages = ['b']\noutputs = ['manifest']\n[system]\nhostname = 'high'\n\
                   [[disk.partition]]\nlabel = 'root'\nsize = '64MiB'\n[[disk.partition]]\nlabel = 'state'\ntype = 'var'\nsize = '8MiB'\nfilesystem = 'none'\n";

#[test]
fn an_image_extends_another_and_both_are_amended_in_order() {
    let place = Place::of(&[
        ("low/images/base.toml", BASE),
        ("high/images/top.toml", TOP),
        ("low/boards/b.toml", BOARD),
        ("high/amend/1-base.toml", "amends = 'image:base'\n[set]\nversion = '8'\n[add]\npackages = ['c']\n"),
        ("high/amend/2-top.toml", "amends = 'image:top'\n[drop]\npackages = ['a']\ndisk.partition = ['state']\n"),
        ("high/amend/3-board.toml", "amends = 'board:b'\n[set]\nstatus = 'retired'\n[add]\nconsole = 'ttyS1'\n"),
    ]);
    let workspace = place.load_with(&set("image:top.system.hostname=last")).unwrap();
    let top = &workspace.image("top").unwrap().def;
    let packages: Vec<&str> = top.packages.iter().map(|p| p.value.as_str()).collect();
    assert_eq!(packages, ["c", "b"]);
    assert_eq!((top.version.as_str(), top.is_abstract), ("8", false), "`abstract` is not handed on");
    assert_eq!(top.system.hostname.as_ref().unwrap().value, "last");
    assert_eq!(top.system.locale.as_ref().unwrap().value, "C.UTF-8");
    assert_eq!(top.outputs[0].value, Output::Manifest);
    let partitions = &top.disk.as_ref().unwrap().partition;
    assert_eq!(partitions.len(), 1);
    assert_eq!(partitions[0].size.value, SizeSpec::Fixed(embrak_model::ByteSize(64 << 20)));
    assert_eq!(partitions[0].filesystem.value, FilesystemKind::Fat, "the rest of the entry is the base's");
    let board = &workspace.board("b").unwrap().def;
    assert_eq!((board.status, board.architecture), (BoardStatus::Retired, Architecture::Aarch64));
    assert_eq!(board.console.as_deref(), Some("ttyS1"));
    assert_eq!(workspace.layers[1].amends, ["image:base", "image:top", "board:b"]);
    assert_eq!(workspace.layers[0].contributes, ["board:b", "image:base"]);
}

#[test]
fn every_value_remembers_each_of_its_steps() {
    let place = Place::of(&[
        ("low/images/base.toml", BASE),
        ("high/images/top.toml", TOP),
        ("high/amend/a.toml", "amends = 'image:top'\n[set]\n'system.hostname' = 'amended'\n"),
    ]);
    let workspace = place.load_with(&set("image:top.system.hostname='typed'")).unwrap();
    let node = workspace.image("top").unwrap().node.get(&["system", "hostname"]).unwrap();
    let steps: Vec<String> =
        node.history.iter().map(|s| format!("{} {}", s.value, s.place.as_ref().unwrap())).collect();
    assert_eq!(
        steps,
        [
            "\"low\" low/images/base.toml:6",
            "\"high\" high/images/top.toml:6",
            "\"amended\" high/amend/a.toml:3",
            "\"typed\" --set image:top.system.hostname='typed':1",
        ]
    );
    let element = workspace.image("top").unwrap().node.get(&["packages", "1"]).unwrap();
    assert_eq!(element.place().unwrap().to_string(), "high/images/top.toml:3");
}

#[test]
fn amendments_of_the_workspace_come_after_those_of_layers() {
    let place = Place::of(&[
        ("low/images/base.toml", BASE),
        ("high/amend/a.toml", "amends = 'image:base'\n[set]\nversion = '8'\n"),
    ]);
    let toml = "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['low', 'high']\n[[amend]]\namends = 'image:base'\n[amend.set]\nversion = '9'\n";
    place.write("embrak.toml", toml);
    assert_eq!(place.load().unwrap().image("base").unwrap().def.version, "9");
}

#[test]
fn parameters_by_strength() {
    let place = Place::of(&[("low/images/base.toml", "image = 'i'\nversion = '${v}'\n")]);
    let toml = "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['low', 'high']\n[params]\nv = '1'\n";
    place.write("embrak.toml", toml);
    let version =
        |options: &WorkspaceOptions| place.load_with(options).unwrap().image("i").unwrap().def.version.clone();
    let mut options = WorkspaceOptions::default();
    assert_eq!(version(&options), "1");
    place.write("site.toml", "v = '2'\n");
    options.params.files.push(place.0.path().join("site.toml"));
    assert_eq!(version(&options), "2");
    place.write("embrak.local.toml", "v = '3'\n");
    assert_eq!(version(&options), "3");
    options.params.environment.insert("v".into(), "4".into());
    options.params.environment.insert("unrelated".into(), "x".into());
    assert_eq!(version(&options), "4");
    options.params.given.push(("v".into(), "5".into()));
    assert_eq!(version(&options), "5");
    place.write("site.toml", "v = 6\n");
    assert!(place.problems(&options)[0].contains("site.toml:1: parameter `v` has to be a string, not an integer"));
}

#[test]
fn circles_and_twins_are_found() {
    let place = Place::of(&[
        ("low/images/a.toml", "image = 'a'\nextends = 'b'\n"),
        ("low/images/b.toml", "image = 'b'\nextends = 'a'\n"),
        ("low/images/c.toml", "image = 'c'\nextends = 'd'\n"),
        ("low/boards/b.toml", BOARD),
        ("high/boards/b.toml", BOARD),
    ]);
    let problems = place.problems(&WorkspaceOptions::default()).join("\n");
    for expected in [
        "images extend each other in a circle: a, b",
        "`c` extends image `d`, which is not there",
        "board `b` is defined twice: in low/boards/b.toml and in high/boards/b.toml",
    ] {
        assert!(problems.contains(expected), "no `{expected}` in\n{problems}");
    }
}

#[test]
fn recipes_are_checked_against_what_lies_beside_them() {
    let recipe = "name = 'r'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n";
    let place = Place::of(&[
        (
            "low/recipes/r/recipe.toml",
            &format!(
                "{recipe}conflicts = ['a >']\n[[source]]\ndir = 'src'\npatches = ['../x.patch']\n[needs]\nrun = ['B']\n"
            ),
        ),
        ("high/recipes/again/recipe.toml", recipe),
    ]);
    let problems = place.problems(&WorkspaceOptions::default()).join("\n");
    for expected in [
        "low/recipes/r/recipe.toml:7: source directory `src` is not there",
        "low/recipes/r/recipe.toml:8: patch `../x.patch` is not there",
        "low/recipes/r/recipe.toml:10: `B` is not a requirement",
        "low/recipes/r/recipe.toml:5: `a >` is not a requirement",
        "r 1-1 is made twice: by low/recipes/r/recipe.toml and by high/recipes/again/recipe.toml",
    ] {
        assert!(problems.contains(expected), "no `{expected}` in\n{problems}");
    }
}

#[test]
fn images_are_checked_as_far_as_definitions_tell() {
    let place = Place::of(&[(
        "low/images/i.toml",
        "image = 'i'\noverlays = ['overlays/none']\noutputs = ['container:oci']\n[options]\nghost.on = true\n[[file]]\npath = 'etc/x'\ntext = ''\n\
         [[check]]\nwithin = '5s'\nconsole-says = 'a'\nabsent = '/b'\n[[disk.partition]]\nlabel = 'p'\ntype = 'esp'\nsize = 'fit'\nfilesystem = 'fat'\nmount = '/x'\n\
         [[disk.partition]]\nlabel = 'q'\ntype = 'esp'\nsize = 'fit'\nfilesystem = 'fat'\nmount = '/x'\n",
    )]);
    let problems = place.problems(&WorkspaceOptions::default()).join("\n");
    for expected in [
        "overlay `overlays/none` is neither a directory nor an archive of its layer",
        "output `container:oci` needs a [container] table",
        "option of recipe `ghost`, which no layer has",
        "`etc/x` is not an absolute path without `..`",
        "a check says exactly one of console-says, absent, present",
        "two partitions are mounted at /x",
    ] {
        assert!(problems.contains(expected), "no `{expected}` in\n{problems}");
    }
}

#[test]
fn layers_are_checked_against_one_another() {
    let place = Place::of(&[]);
    place.write("low/layer.toml", "layer = 'low'\nversion = '2.1'\n");
    assert!(
        place.problems(&WorkspaceOptions::default())[0]
            .starts_with("high 2 needs low >= 1, < 2; the workspace has 2.1 from low")
    );
    place.write("low/layer.toml", "layer = 'high'\nversion = '2.1'\n");
    let problems = place.problems(&WorkspaceOptions::default()).join("\n");
    assert!(problems.contains("layer `high` is there twice: low and high"), "{problems}");
    assert!(problems.contains("needs the layer low >= 1, < 2, which is not among those before it"), "{problems}");
    place.write("embrak.toml", "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['low', 'hihg']\n");
    assert!(
        place
            .problems(&WorkspaceOptions::default())
            .join("\n")
            .contains("layer `hihg` is not there (did you mean `high`?)")
    );
}

#[test]
fn bad_amendments_are_refused() {
    let place = Place::of(&[
        ("low/images/base.toml", BASE),
        ("high/amend/a.toml", "amends = 'base'\n"),
        ("high/amend/b.toml", "amends = 'image:base'\nsett = { version = '1' }\n"),
        ("high/amend/c.toml", "amends = 'image:base'\n[set]\nversion = 'x'\nverzion = 'y'\n"),
    ]);
    let problems = place.problems(&set("image:bsae.version=1")).join("\n");
    for expected in [
        "high/amend/a.toml:1: an amendment has to say what it amends",
        "high/amend/b.toml:2: unknown key `sett` (did you mean `set`?)",
        "high/amend/c.toml:4: cannot set `verzion`: it is not there (did you mean `version`?)",
        "there is no image `bsae` to amend (did you mean `image:base`?)",
    ] {
        assert!(problems.contains(expected), "no `{expected}` in\n{problems}");
    }
}

#[test]
fn a_value_on_the_command_line_is_toml_or_else_a_string() {
    let place = Place::of(&[("low/images/base.toml", BASE)]);
    let packages = |text: &str| {
        let workspace = place.load_with(&set(text)).unwrap();
        workspace.image("base").unwrap().def.packages.iter().map(|p| p.value.clone()).collect::<Vec<_>>()
    };
    assert_eq!(packages("image:base.packages=['x', 'y >= 2']"), ["x", "y >= 2"]);
    let hostname = |text: &str| {
        place.load_with(&set(text)).unwrap().image("base").unwrap().def.system.hostname.clone().unwrap().value
    };
    assert_eq!(hostname("image:base.system.hostname=plain words"), "plain words");
    assert_eq!(hostname("image:base.system.hostname=\"quoted\""), "quoted");
}

#[test]
fn a_workspace_is_found_from_below() {
    let place = Place::of(&[("low/images/base.toml", BASE)]);
    assert_eq!(find_workspace(&place.0.path().join("low/images")).as_deref(), Some(place.0.path()));
    assert_eq!(find_workspace(Path::new("/")), None);
}

#[test]
fn what_is_asked_for_and_not_there_is_suggested() {
    let place = Place::of(&[("low/images/base.toml", BASE), ("low/boards/b.toml", BOARD)]);
    let workspace = place.load().unwrap();
    assert_eq!(workspace.image("bsae").unwrap_err().help.as_deref(), Some("did you mean `base`?"));
    assert_eq!(workspace.board("zz").unwrap_err().help.as_deref(), Some("it has b"));
    assert!(workspace.params.0.is_empty());
}

#[test]
fn amendments_may_depend_on_board_and_architecture() {
    let place = Place::of(&[
        ("low/boards/b.toml", BOARD),
        ("low/boards/c.toml", &BOARD.replace("'b'", "'c'").replace("aarch64", "x86_64")),
        ("low/images/i.toml", "image = 'i'\npackages = ['a']\n"),
        ("high/amend/1.toml", "amends = 'image:i'\nwhen = { architecture = 'aarch64' }\n[add]\npackages = ['arm']\n"),
        ("high/amend/2.toml", "amends = 'image:i'\nwhen = { board = ['c', 'd'] }\n[add]\npackages = ['c-only']\n"),
        ("high/amend/3.toml", "amends = 'image:gone'\noptional = true\n[add]\npackages = ['x']\n"),
    ]);
    let workspace = place.load().unwrap();
    let packages = |board: Option<&str>, architecture| {
        let merged = workspace.at(&workspace.target_of(board, architecture)).unwrap();
        merged.images["i"].def.packages.iter().map(|p| p.value.clone()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(packages(Some("b"), None), "a arm");
    assert_eq!(packages(Some("c"), None), "a c-only");
    assert_eq!(packages(None, Some(Architecture::Aarch64)), "a arm");
    assert_eq!(packages(None, None), "a");
    assert_eq!(packages(Some("unknown"), None), "a");
}

#[test]
fn a_condition_that_only_fails_for_one_board_is_found_by_the_check() {
    let place = Place::of(&[
        ("low/boards/b.toml", BOARD),
        ("low/images/i.toml", "image = 'i'\n"),
        ("high/amend/1.toml", "amends = 'image:i'\nwhen = { board = 'b' }\n[set]\nversion = '2'\n"),
    ]);
    let problems = place.problems(&WorkspaceOptions::default());
    assert!(problems[0].contains("cannot set `version`: it is not there"), "{problems:?}");
    place.write("high/amend/1.toml", "amends = 'image:i'\nwhen = { color = 'red' }\noptional = 'yes'\n");
    let problems = place.problems(&WorkspaceOptions::default());
    assert!(problems.iter().any(|p| p.contains("`when` cannot ask for `color`")), "{problems:?}");
    assert!(problems.iter().any(|p| p.contains("`optional` is true or false")), "{problems:?}");
}

#[test]
fn layers_that_need_each_other_are_told_apart_from_a_wrong_order() {
    let place = Place::of(&[("low/layer.toml", "layer = 'low'\nversion = '1.5'\nrequires = { high = '>= 1' }\n")]);
    let problems = place.problems(&WorkspaceOptions::default());
    assert!(problems[0].contains("each of the two needs the other to come before it"), "{problems:?}");
}

#[test]
fn repositories_are_checked_and_secrets_may_be_in_their_addresses_only() {
    let place = Place::of(&[]);
    let with = |repository: &str| {
        let head = "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = ['low', 'high']\n";
        let params = "[params]\ntoken = { secret = true, default = 's3cret' }\n";
        place.write("embrak.toml", &format!("{head}{params}[[repository]]\nname = 'm'\n{repository}"));
    };
    with("format = 'debian'\nurl = 'https://${token}@host/m'\nsuites = ['stable']\ntrusted = true\n");
    let workspace = place.load().unwrap();
    assert_eq!(workspace.def.repository[0].url.value, "https://s3cret@host/m");
    assert_eq!(workspace.repository_urls, ["https://${token}@host/m"]);
    assert_eq!(workspace.params.secrets(), ["s3cret"]);
    for (text, wanted) in [
        ("format = 'debian'\nurl = 'ftp://host/m'\nsuites = ['s']\ntrusted = true\n", "is not a URL known here"),
        ("format = 'debian'\nurl = 'm'\ntrusted = true\n", "has no `suites`"),
        ("format = 'debian'\nurl = 'm'\nsuites = ['s']\n", "has no `keyring` to check its signature with"),
        ("format = 'debian'\nurl = 'm'\nsuites = ['s']\nkeyring = 'keys/none'\n", "which is not there"),
        ("format = 'embrak'\nurl = 'm'\n", "has no `keys` to check its signature with"),
        ("format = 'embrak'\nurl = 'm'\ntrusted = true\nsuites = ['s']\n", "which are for Debian's format"),
        ("format = 'debain'\nurl = 'm'\n", "debain"),
    ] {
        with(text);
        let problems = place.problems(&WorkspaceOptions::default());
        assert!(problems.iter().any(|p| p.contains(wanted)), "{text}: {problems:?}");
    }
}

#[test]
fn layers_from_elsewhere_are_written_with_what_they_are() {
    let place = Place::of(&[]);
    let with = |entry: &str| {
        place.write("embrak.toml", &format!("workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = [{entry}]\n"));
        place.problems(&WorkspaceOptions::default()).join("\n")
    };
    let commit = "0123456789abcdef0123456789abcdef01234567";
    assert!(with(&format!("{{ git = 'u', commit = '{commit}' }}")).contains("would have to be fetched"));
    assert!(with("{ git = 'u', commit = 'main' }").contains("`main` is not a commit"));
    assert!(with("{ git = 'u' }").contains("a layer is a directory, or { git, commit }, or { archive, sha256 }"));
    assert!(with(&format!("{{ git = 'u', commit = '{commit}', path = '../x' }}")).contains("leads out of"));
    assert!(with("3").contains("a directory, or a table"));
}

#[test]
fn settings_of_recipes_have_to_fit() {
    let place = Place::of(&[
        (
            "low/recipes/horn/recipe.toml",
            "name = 'horn'\nversion = '1'\nsummary = 's'\nlicense = 'MIT'\n[option.loud]\nsummary = 's'\n",
        ),
        ("low/images/i.toml", "image = 'i'\n[recipe.hron]\nenv = { A = '1' }\n[recipe.horn.options]\nlow = true\n"),
    ]);
    let problems = place.problems(&WorkspaceOptions::default());
    assert!(
        problems.iter().any(|p| p.contains("recipe `hron`, which no layer has (did you mean `horn`?)")),
        "{problems:?}"
    );
    assert!(problems.iter().any(|p| p.contains("recipe `horn` has no option `low` (it has loud)")), "{problems:?}");
}
