//! Planning: what is chosen, kept, moved, refused; and that the plan depends on nothing else.

mod common;

use common::Place;
use embrak_engine::{EngineError, Lock, Selection, Update, plan, preview};

fn recipe(name: &str, version: &str, rest: &str) -> String {
    format!("name = '{name}'\nversion = '{version}'\nsummary = 's'\nlicense = 'MIT'\nmethod = 'copy'\n{rest}")
}

fn place(image: &str, recipes: &[(&str, &str, &str)]) -> Place {
    let place = Place::of(&[("l/images/i.toml", &format!("image = 'i'\noutputs = ['manifest']\n{image}"))]);
    for (name, version, rest) in recipes {
        place.write(&format!("l/recipes/{name}-{version}/recipe.toml"), &recipe(name, version, rest));
    }
    place
}

fn packages(lock: &Lock) -> Vec<String> {
    lock.images[0].packages.iter().map(|p| format!("{} {}", p.name, p.version)).collect()
}

#[test]
fn a_plan_is_the_same_every_time_and_anywhere() {
    let make = || place("packages = ['a']\n", &[("a", "1", "needs.run = ['b | c']\n"), ("b", "1", ""), ("c", "2", "")]);
    let (one, two) = (make(), make());
    let (first, second) = (one.plan(&["i"], None, false).unwrap().lock, two.plan(&["i"], None, false).unwrap().lock);
    assert_eq!(first.to_text(), second.to_text());
    assert!(!first.to_text().contains(&*one.root().to_string_lossy()), "no path of the workspace");
    assert_eq!(packages(&first), ["a 1-1", "b 1-1"]);
    assert_eq!(one.plan(&["i"], Some(&first), false).unwrap().lock, first);
}

#[test]
fn the_input_digest_follows_everything_that_matters_and_nothing_else() {
    let place = place("packages = ['a']\noverlays = ['overlays/o']\n", &[("a", "1", "[[source]]\ndir = 'src'\n")]);
    place.write("l/recipes/a-1/src/f", "1");
    place.write("l/overlays/o/x", "1");
    let input = || place.plan(&["i"], None, false).unwrap().lock.images[0].input;
    let first = input();
    place.write("l/images/unrelated.toml", "image = 'unrelated'\n");
    place.write("l/recipes/z-1/recipe.toml", &recipe("z", "1", ""));
    place.write("l/layer.toml", "layer = 'l'\nversion = '9'\nsummary = 'other'\n");
    assert_eq!(input(), first);
    let mut seen = std::collections::BTreeSet::from([first]);
    let changes: [(&str, String); 5] = [
        ("l/recipes/a-1/src/f", "2".into()),
        ("l/overlays/o/x", "2".into()),
        ("l/recipes/a-1/recipe.toml", recipe("a", "1", "env.X = '1'\n[[source]]\ndir = 'src'\n")),
        (
            "l/images/i.toml",
            "image = 'i'\nversion = '2'\noutputs = ['manifest']\npackages = ['a']\noverlays = ['overlays/o']\n".into(),
        ),
        ("embrak.toml", "workspace = 'test'\nepoch = 2027-03-01T00:00:00Z\nlayers = ['l']\n".into()),
    ];
    for (path, text) in changes {
        place.write(path, &text);
        assert!(seen.insert(input()), "{path} does not count");
    }
}

#[test]
fn options_switch_needs_on() {
    let tls = "needs.run = ['base']\n[option.tls]\nsummary = 's'\nneeds.run = ['libtls']\nenv.WITH_TLS = '1'\n";
    let with = |options: &str| {
        let place =
            place(&format!("packages = ['t']\n{options}"), &[("t", "1", tls), ("base", "1", ""), ("libtls", "3", "")]);
        let lock = place.plan(&["i"], None, false).unwrap().lock;
        (packages(&lock), lock.recipes.iter().map(|r| r.id.clone()).collect::<Vec<_>>())
    };
    assert_eq!(with("").0, ["base 1-1", "t 1-1"]);
    let (packages, ids) = with("[options]\nt.tls = true\n");
    assert_eq!(packages, ["base 1-1", "libtls 3-1", "t 1-1"]);
    assert!(ids.contains(&"t 1-1 x86_64 [tls]".to_string()), "{ids:?}");
}

#[test]
fn recipes_for_other_architectures_are_not_candidates() {
    let place = place(
        "packages = ['a | b']\n",
        &[("a", "1", "architectures = ['riscv64']\n"), ("b", "1", "architectures = ['x86_64']\n")],
    );
    assert_eq!(packages(&place.plan(&["i"], None, false).unwrap().lock), ["b 1-1"]);
}

#[test]
fn what_is_provided_and_what_is_excluded() {
    let recipes = [
        ("logger", "1", "provides = ['syslog = 5']\n"),
        ("journal", "2", "provides = ['syslog']\n"),
        ("needs-log", "1", "needs.run = ['syslog']\n"),
    ];
    assert_eq!(
        packages(&place("packages = ['needs-log']\n", &recipes).plan(&["i"], None, false).unwrap().lock),
        ["journal 2-1", "needs-log 1-1"]
    );
    let without = place("packages = ['needs-log']\nwithout = ['journal']\n", &recipes);
    assert_eq!(packages(&without.plan(&["i"], None, false).unwrap().lock), ["logger 1-1", "needs-log 1-1"]);
    let versioned = place("packages = ['syslog >= 4']\n", &recipes);
    assert_eq!(packages(&versioned.plan(&["i"], None, false).unwrap().lock), ["logger 1-1"]);
    let none = place("packages = ['needs-log']\nwithout = ['journal', 'logger']\n", &recipes);
    let Err(EngineError::Unsolvable { why, .. }) = none.plan(&["i"], None, false) else { panic!() };
    assert_eq!(why.remedies.len(), 3, "{why}");
}

#[test]
fn an_update_moves_forward_and_nothing_else_does() {
    let place = place("packages = ['a']\n", &[("a", "1", "")]);
    let old = place.plan(&["i"], None, false).unwrap().lock;
    place.write("l/recipes/a-2/recipe.toml", &recipe("a", "2", ""));
    let kept = place.plan(&["i"], Some(&old), false).unwrap();
    assert_eq!(packages(&kept.lock), ["a 1-1"]);
    let moved = place.plan(&["i"], Some(&old), true).unwrap();
    assert_eq!(packages(&moved.lock), ["a 2-1"]);
    assert!(moved.moved.iter().any(|m| m.to_string() == "image i (x86_64): a: 1-1 -> 2-1"), "{:?}", moved.moved);
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['a >= 2']\n");
    assert_eq!(
        packages(&place.plan(&["i"], Some(&old), false).unwrap().lock),
        ["a 2-1"],
        "what no longer fits moves by itself"
    );
}

#[test]
fn a_selection_of_images_leaves_the_others_locked() {
    let place = place("packages = ['a']\n", &[("a", "1", ""), ("b", "1", "")]);
    place.write("l/images/j.toml", "image = 'j'\noutputs = ['manifest']\npackages = ['b']\n");
    let both = place.plan(&[], None, false).unwrap().lock;
    assert_eq!(both.images.len(), 2);
    let one = place.plan(&["j"], Some(&both), false).unwrap();
    assert_eq!(one.lock, both);
    assert_eq!(one.targets().count(), 1);
}

#[test]
fn selections_that_cannot_be() {
    let place = place("", &[]);
    place.write("l/images/abstract.toml", "image = 'abstract'\nabstract = true\n");
    place.write("l/images/d.toml", "image = 'd'\noutputs = ['disk:raw']\n");
    let said = |images: &[&str], board: Option<&str>| {
        let images = images.iter().map(ToString::to_string).collect();
        let selection = Selection { images, board: board.map(String::from), ..Selection::default() };
        place
            .with(|engine| plan(engine, &selection, None, &Update::Nothing).err().map(|e| format!("{e} {}", e.help())))
            .unwrap()
    };
    assert!(said(&["abstract"], None).contains("is abstract: it is only there to be extended"));
    assert!(said(&["d"], None).contains("needs a board"));
    assert!(said(&["d"], Some("x")).contains("1 problem"));
    place.write("embrak.toml", "workspace = 'test'\nepoch = 2026-03-01T00:00:00Z\nlayers = []\n");
    assert!(said(&[], None).contains("this workspace has no image"));
}

#[test]
fn a_preview_knows_sizes_and_changes_once_something_was_built() {
    let place = place("packages = ['a']\n", &[("a", "1", "[[source]]\ndir = 'src'\n"), ("b", "1", "")]);
    place.write("l/recipes/a-1/src/f", "12345");
    let look = || {
        let selection = Selection { images: vec!["i".into()], ..Selection::default() };
        place.with(|engine| {
            preview(engine, &plan(engine, &selection, None, &Update::Nothing).unwrap()).unwrap().remove(0)
        })
    };
    let before = look();
    assert_eq!((before.packages[0].size, before.changes.is_none()), (None, true));
    assert_eq!(before.packages[0].why[0].by, "image i");
    place.build(&["i"]);
    let after = look();
    assert_eq!((after.packages[0].size, after.changes.as_deref()), (Some(5), Some(&[][..])));
    place.write("l/images/i.toml", "image = 'i'\noutputs = ['manifest']\npackages = ['b']\n");
    let changes = look().changes.unwrap();
    let told: Vec<_> = changes.iter().map(|c| (c.name.as_str(), c.from.as_deref(), c.to.as_deref(), c.bytes)).collect();
    assert_eq!(told, [("b", None, Some("1-1"), None), ("a", Some("1-1"), None, Some(-5))]);
}
