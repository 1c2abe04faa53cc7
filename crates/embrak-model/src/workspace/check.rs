//! What the types alone cannot tell: references between definitions, requirements, licences, paths.

use super::Workspace;
use crate::definitions::{BootMethod, ImageDef, Output};
use crate::{At, Located, Node, Place, Problem};
use embrak_resolve::{Alternatives, Requirement};
use std::collections::BTreeMap;
use std::str::FromStr;

pub(super) fn check(workspace: &Workspace, problems: &mut Vec<Problem>) {
    if let Some(board) = &workspace.def.default_board
        && let Err(problem) = workspace.board(&board.value)
    {
        problems.push(problem.at(place(&workspace.node, &board.at)));
    }
    for image in &workspace.def.default_images {
        if let Err(problem) = workspace.image(&image.value) {
            problems.push(problem.at(place(&workspace.node, &image.at)));
        }
    }
    recipes(workspace, problems);
    for board in workspace.boards.values() {
        requirements::<Requirement>(&board.node, &board.def.packages, problems);
        if board.def.boot == BootMethod::EfiApp && board.def.efi_app.is_none() {
            let problem =
                Problem::new(format!("board `{}` has boot = \"efi-app\" but no `efi-app`", board.def.board.value));
            problems.push(
                problem
                    .at(place(&board.node, &board.def.board.at))
                    .help("name the program in the image that the firmware starts"),
            );
        }
    }
    for image in workspace.images.values() {
        check_image(workspace, &image.node, &image.def, problems);
    }
}

fn recipes(workspace: &Workspace, problems: &mut Vec<Problem>) {
    let mut makers: BTreeMap<(String, String), String> = BTreeMap::new();
    for recipe in workspace.recipes.values().flatten() {
        let (def, node) = (&recipe.def, &recipe.node);
        let needs = std::iter::once(&def.needs).chain(def.option.values().map(|o| &o.needs));
        for needs in needs {
            for list in [&needs.build, &needs.link, &needs.run] {
                requirements::<Alternatives>(node, list, problems);
            }
        }
        requirements::<Requirement>(node, &def.conflicts, problems);
        requirements::<Requirement>(node, &def.provides, problems);
        if let Err(error) = spdx::Expression::parse(&def.license.value) {
            let problem =
                Problem::new(format!("`{}` is not an SPDX licence expression: {}", def.license.value, error.reason));
            problems
                .push(problem.at(place(node, &def.license.at)).help("such as `MIT` or `GPL-2.0-only OR Apache-2.0`"));
        }
        for source in &def.source {
            let inside = recipe.base.join(&source.dir.value);
            if !inside.is_dir() {
                problems.push(
                    Problem::new(format!("source directory `{}` is not there", source.dir.value))
                        .at(place(node, &source.dir.at)),
                );
            } else if escapes(&source.dir.value) {
                problems.push(
                    Problem::new("a source directory has to lie beside its recipe").at(place(node, &source.dir.at)),
                );
            }
            for patch in &source.patches {
                if escapes(&patch.value) || !recipe.base.join(&patch.value).is_file() {
                    problems
                        .push(Problem::new(format!("patch `{}` is not there", patch.value)).at(place(node, &patch.at)));
                }
            }
        }
        let names = std::iter::once(&def.name).chain(def.split.iter().map(|s| &s.name));
        for name in names {
            let key = (name.value.to_string(), def.full_version());
            if let Some(other) = makers.insert(key, recipe.file.clone()) {
                let message =
                    format!("{} {} is made twice: by {other} and by {}", name.value, def.full_version(), recipe.file);
                problems.push(
                    Problem::new(message)
                        .at(place(node, &name.at))
                        .help("raise `revision` in one of them, or write an amendment"),
                );
            }
        }
    }
}

fn check_image(workspace: &Workspace, node: &Node, def: &ImageDef, problems: &mut Vec<Problem>) {
    requirements::<Alternatives>(node, &def.packages, problems);
    requirements::<Requirement>(node, &def.without, problems);
    for overlay in &def.overlays {
        if escapes(&overlay.value) || !overlay.at.base.join(&overlay.value).is_dir() {
            let problem = Problem::new(format!("overlay `{}` is not a directory of its layer", overlay.value));
            problems.push(problem.at(place(node, &overlay.at)));
        }
    }
    for (recipe, options) in &def.options {
        let known = workspace.recipes.get(recipe.as_str());
        for (option, value) in options {
            let at = place(node, &value.at);
            match known {
                None => problems.push(Problem::new(format!("option of recipe `{recipe}`, which no layer has")).at(at)),
                Some(recipes) if recipes.iter().any(|r| r.def.option.contains_key(option)) => {}
                Some(recipes) => {
                    let names: Vec<&str> =
                        recipes.iter().flat_map(|r| r.def.option.keys()).map(|n| n.as_str()).collect();
                    let help = if names.is_empty() {
                        "it has no options".to_string()
                    } else {
                        format!("it has {}", names.join(", "))
                    };
                    problems
                        .push(Problem::new(format!("recipe `{recipe}` has no option `{option}`")).at(at).help(help));
                }
            }
        }
    }
    for file in &def.file {
        tree_path(node, &file.path, problems);
    }
    for (name, user) in &def.users {
        if let Some(password) = &user.password
            && password.value != "locked"
            && !password.value.starts_with('$')
        {
            let problem = Problem::new(format!("the password of `{name}` is in clear text"));
            problems.push(
                problem
                    .at(place(node, &password.at))
                    .help("write `locked`, or a crypt(3) hash such as mkpasswd(1) prints"),
            );
        }
        if let Some(home) = &user.home {
            tree_path(node, home, problems);
        }
    }
    if let Some(disk) = &def.disk {
        let mut mounts: BTreeMap<&str, ()> = BTreeMap::new();
        for partition in &disk.partition {
            if partition.label.value.encode_utf16().count() > 36 {
                let problem =
                    Problem::new(format!("partition label `{}` is longer than 36 characters", partition.label.value));
                problems.push(problem.at(place(node, &partition.label.at)));
            }
            if let Some(mount) = &partition.mount {
                tree_path(node, mount, problems);
                if mounts.insert(&mount.value, ()).is_some() {
                    problems.push(
                        Problem::new(format!("two partitions are mounted at {}", mount.value))
                            .at(place(node, &mount.at)),
                    );
                }
            }
        }
    }
    for output in &def.outputs {
        if matches!(output.value, Output::ContainerOci | Output::ContainerOciArchive) && def.container.is_none() {
            let problem = Problem::new(format!("output `{}` needs a [container] table", output.value));
            problems.push(problem.at(place(node, &output.at)).help("an empty one will do"));
        }
    }
    for check in &def.check {
        let said = [&check.console_says, &check.absent, &check.present].iter().filter(|c| c.is_some()).count();
        if said != 1 {
            let at =
                [&check.console_says, &check.absent, &check.present].into_iter().flatten().next().map(|l| l.at.clone());
            let at = at.and_then(|at| place(node, &at)).or_else(|| node.get(&["check"]).and_then(Node::place).cloned());
            problems.push(Problem::new("a check says exactly one of console-says, absent, present").at(at));
        }
    }
}

fn tree_path(node: &Node, path: &Located<String>, problems: &mut Vec<Problem>) {
    let text = &path.value;
    if !text.starts_with('/') || text.split('/').any(|part| part == ".." || part == ".") {
        problems.push(Problem::new(format!("`{text}` is not an absolute path without `..`")).at(place(node, &path.at)));
    }
}

/// Whether a relative path leads out of the directory it starts in.
fn escapes(path: &str) -> bool {
    path.starts_with('/') || path.split('/').any(|part| part == "..")
}

fn requirements<T: FromStr<Err: ToString>>(node: &Node, list: &[Located<String>], problems: &mut Vec<Problem>) {
    for item in list {
        if let Err(error) = item.value.parse::<T>() {
            problems.push(Problem::new(error.to_string()).at(place(node, &item.at)));
        }
    }
}

/// The place of a value below `node` that was written at `at`.
fn place(node: &Node, at: &At) -> Option<Place> {
    let mut found = None;
    node.visit_scalars(&mut Vec::new(), &mut |_, scalar| {
        if let Some(place) = scalar.place()
            && place.file.name == at.file
            && place.line() == at.line
        {
            found.get_or_insert(place.clone());
        }
    });
    found
}
