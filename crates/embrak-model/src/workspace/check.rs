//! What the types alone cannot tell: references between definitions, requirements, licences, paths.

use super::Workspace;
use crate::definitions::{BootMethod, FileDef, ImageDef, InitrdDef, Output, RecipeSettings, RepositoryFormat};
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
    repositories(workspace, problems);
    settings(workspace, &workspace.node, &workspace.def.recipe, problems);
    for board in workspace.boards.values() {
        requirements::<Requirement>(&board.node, &board.def.packages, problems);
        if matches!(board.def.boot, BootMethod::EfiApp | BootMethod::Entries) && board.def.efi_app.is_none() {
            let boot = if board.def.boot == BootMethod::EfiApp { "efi-app" } else { "entries" };
            let problem =
                Problem::new(format!("board `{}` has boot = \"{boot}\" but no `efi-app`", board.def.board.value));
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

fn repositories(workspace: &Workspace, problems: &mut Vec<Problem>) {
    let node = &workspace.node;
    let mut names = BTreeMap::new();
    for repository in &workspace.def.repository {
        let name = &repository.name;
        let mut say = |what: &str, at: &At, help: &str| {
            let problem = Problem::new(format!("repository `{}` {what}", name.value)).at(place(node, at));
            problems.push(problem.help(help));
        };
        if names.insert(&name.value, ()).is_some() {
            say("is there twice", &name.at, "give one another name");
        }
        let url = repository.url.value.as_str();
        if url.is_empty()
            || (url.contains("://") && !["https://", "http://", "file://"].iter().any(|s| url.starts_with(s)))
        {
            say(
                &format!("is at `{url}`, which is not a URL known here"),
                &repository.url.at,
                "write https://, http://, file:// or a path from the workspace's directory",
            );
        }
        for file in repository.keyring.iter().chain(&repository.keys) {
            if !workspace.root.join(&file.value).is_file() {
                say(
                    &format!("is checked with `{}`, which is not there", file.value),
                    &file.at,
                    "put the repository's public key into that file",
                );
            }
        }
        match repository.format {
            RepositoryFormat::Debian => {
                if repository.suites.is_empty() {
                    say("has no `suites`", &name.at, "name at least one, such as suites = [\"stable\"]");
                }
                if repository.keyring.is_none() && !repository.trusted {
                    say(
                        "has no `keyring` to check its signature with",
                        &name.at,
                        "name a file of OpenPGP public keys; only if you mean it, write `trusted = true`",
                    );
                }
                if !repository.keys.is_empty() {
                    say(
                        "has `keys`, which are for our own format",
                        &name.at,
                        "name OpenPGP public keys with `keyring`",
                    );
                }
            }
            RepositoryFormat::Embrak => {
                if repository.keys.is_empty() && !repository.trusted {
                    say(
                        "has no `keys` to check its signature with",
                        &name.at,
                        "name public keys in PEM; only if you mean it, write `trusted = true`",
                    );
                }
                if repository.keyring.is_some() || !repository.suites.is_empty() || !repository.components.is_empty() {
                    say(
                        "has `keyring`, `suites` or `components`, which are for Debian's format",
                        &name.at,
                        "leave them out",
                    );
                }
            }
        }
    }
}

/// Settings of recipes have to be about recipes there are, and options they have.
fn settings(
    workspace: &Workspace,
    node: &Node,
    settings: &BTreeMap<crate::Name, RecipeSettings>,
    problems: &mut Vec<Problem>,
) {
    for (recipe, settings) in settings {
        let at =
            node.get(&["recipe", recipe.as_str()]).and_then(Node::place).cloned().or_else(|| node.place().cloned());
        let Some(known) = workspace.recipes.get(recipe.as_str()) else {
            let close = crate::source::suggestion(recipe, workspace.recipes.keys().map(String::as_str));
            let help = close
                .map_or("`embrak list recipes` shows those there are".to_string(), |c| format!("did you mean `{c}`?"));
            problems.push(Problem::new(format!("settings of recipe `{recipe}`, which no layer has")).at(at).help(help));
            continue;
        };
        for option in settings.options.keys() {
            if !known.iter().any(|r| r.def.option.contains_key(option)) {
                let names: Vec<&str> = known.iter().flat_map(|r| r.def.option.keys()).map(|n| n.as_str()).collect();
                problems.push(Problem::new(format!("recipe `{recipe}` has no option `{option}`")).at(at.clone()).help(
                    if names.is_empty() { "it has no options".into() } else { format!("it has {}", names.join(", ")) },
                ));
            }
        }
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
    requirements::<Requirement>(node, &def.pin, problems);
    settings(workspace, node, &def.recipe, problems);
    for overlay in &def.overlays {
        if escapes(&overlay.value) || !overlay.at.base.join(&overlay.value).exists() {
            let problem =
                Problem::new(format!("overlay `{}` is neither a directory nor an archive of its layer", overlay.value));
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
        check_file(node, file, problems);
    }
    if let Some(initrd) = &def.initrd {
        check_initrd(node, initrd, problems);
    }
    for unit in def.services.enable.iter().chain(&def.services.disable).chain(&def.services.mask) {
        if !unit.value.contains('.') || unit.value.contains('/') {
            let problem = Problem::new(format!("`{}` is not the whole name of a unit", unit.value));
            problems.push(problem.at(place(node, &unit.at)).help("write it as `sshd.service`"));
        }
        let said = [&def.services.enable, &def.services.disable, &def.services.mask];
        if said.iter().filter(|list| list.iter().any(|u| u.value == unit.value)).count() > 1 {
            let problem = Problem::new(format!("`{}` is both to be started and not", unit.value));
            problems.push(problem.at(place(node, &unit.at)).help("keep it in one of enable, disable, mask"));
        }
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

fn check_file(node: &Node, file: &FileDef, problems: &mut Vec<Problem>) {
    let at = place(node, &file.path.at);
    match (&file.text, &file.from) {
        (Some(_), None) if file.template => problems
            .push(Problem::new("`template` is for files with `from`; in `text` parameters are replaced anyway").at(at)),
        (Some(_), None) => {}
        (None, Some(from)) => {
            if escapes(&from.value) || !from.at.base.join(&from.value).is_file() {
                let problem = Problem::new(format!("`{}` is not a file of its layer", from.value));
                problems.push(problem.at(place(node, &from.at)));
            }
        }
        _ => problems.push(Problem::new("a file has exactly one of `text` and `from`").at(at)),
    }
}

fn check_initrd(node: &Node, initrd: &InitrdDef, problems: &mut Vec<Problem>) {
    if let Some(file) = &initrd.file {
        tree_path(node, file, problems);
        if !initrd.include.is_empty() || !initrd.modules.is_empty() || initrd.init.is_some() {
            let problem = Problem::new("a ready initial file system is not made out of parts");
            problems.push(problem.at(place(node, &file.at)).help("leave out either `file` or the other keys"));
        }
    }
    if let Some(init) = &initrd.init {
        tree_path(node, init, problems);
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
