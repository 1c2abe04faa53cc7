//! Units of the service manager: what is started, by links as systemctl(1) makes them.

use crate::{Result, Root};
use embrak_tree::{Kind, TreePath};
use std::collections::BTreeSet;

const PLACES: [&str; 4] =
    ["/etc/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"];
const OWN: &str = "/etc/systemd/system";

/// A unit file and what its `[Install]` section says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Unit {
    /// Where its file is, links followed.
    pub path: String,
    wanted_by: Vec<String>,
    required_by: Vec<String>,
    alias: Vec<String>,
    also: Vec<String>,
    default_instance: Option<String>,
}

impl Unit {
    /// Finds a unit by its name; of an instance, the template.
    ///
    /// # Errors
    /// Its file cannot be read.
    pub fn find(root: &Root<'_>, name: &str) -> Result<Option<Unit>> {
        let template = name
            .split_once('@')
            .map(|(stem, rest)| format!("{stem}@.{}", rest.rsplit_once('.').map_or("service", |(_, kind)| kind)));
        for file in [Some(name.to_string()), template].into_iter().flatten() {
            for dir in PLACES {
                let path = format!("{dir}/{file}");
                let Ok(real) = root.resolve(&path, true) else { continue };
                // A mask, or a link to nothing, is no unit.
                if !matches!(root.tree.get(&real).map(|e| &e.kind), Some(Kind::File { .. } | Kind::Hardlink { .. })) {
                    continue;
                }
                let mut unit = Unit { path: real.to_string(), ..Unit::default() };
                let mut section = String::new();
                for line in root.text(&path)?.lines().map(str::trim) {
                    if line.starts_with('[') {
                        section = line.to_string();
                    } else if section == "[Install]"
                        && let Some((key, value)) = line.split_once('=')
                    {
                        let mut words = value.split_whitespace().map(String::from);
                        match key.trim() {
                            "WantedBy" => unit.wanted_by.extend(words),
                            "RequiredBy" => unit.required_by.extend(words),
                            "Alias" => unit.alias.extend(words),
                            "Also" => unit.also.extend(words),
                            "DefaultInstance" => unit.default_instance = words.next_back(),
                            _ => {}
                        }
                    }
                }
                return Ok(Some(unit));
            }
        }
        Ok(None)
    }
}

/// Has a unit started; whether there is one of that name.
///
/// # Errors
/// Unit files cannot be read.
pub fn enable(root: &mut Root<'_>, name: &str) -> Result<bool> {
    let mut waiting = vec![name.to_string()];
    let mut seen = BTreeSet::new();
    let mut found = false;
    while let Some(name) = waiting.pop() {
        if !seen.insert(name.clone()) {
            continue;
        }
        let Some(unit) = Unit::find(root, &name)? else { continue };
        found |= seen.len() == 1;
        // A template is started as its usual instance.
        let instance = match (&unit.default_instance, name.split_once('@')) {
            (Some(instance), Some((stem, rest))) if rest.starts_with('.') => format!("{stem}@{instance}{rest}"),
            _ => name.clone(),
        };
        for (targets, kind) in [(&unit.wanted_by, "wants"), (&unit.required_by, "requires")] {
            for target in targets {
                root.link(&format!("{OWN}/{target}.{kind}/{instance}"), &unit.path)?;
            }
        }
        for alias in &unit.alias {
            if *alias != name {
                root.link(&format!("{OWN}/{alias}"), &unit.path)?;
            }
        }
        waiting.extend(unit.also);
    }
    Ok(found)
}

/// Takes the links away that have a unit started; whether there is one of that name.
///
/// # Errors
/// Unit files cannot be read.
pub fn disable(root: &mut Root<'_>, name: &str) -> Result<bool> {
    let unit = Unit::find(root, name)?;
    let links: Vec<TreePath> = root
        .below(&root.resolve(OWN, true)?)
        .filter(|(path, entry)| {
            let Kind::Symlink { target } = &entry.kind else { return false };
            path.name() == name.as_bytes() || unit.as_ref().is_some_and(|u| target == u.path.as_bytes())
        })
        .map(|(path, _)| path.clone())
        .collect();
    let found = unit.is_some() || !links.is_empty();
    for link in links {
        root.tree.remove(&link);
    }
    Ok(found)
}

/// Has a unit never started, whoever asks for it.
///
/// # Errors
/// Links on the way go in a circle.
pub fn mask(root: &mut Root<'_>, name: &str) -> Result<()> {
    root.link(&format!("{OWN}/{name}"), "/dev/null")
}

/// What preset files say of a unit by name (systemd.preset(5)); a rule for everything says nothing here.
///
/// # Errors
/// A file cannot be read.
pub fn preset(root: &Root<'_>, name: &str) -> Result<Option<bool>> {
    for file in root.fragments(&["/etc/systemd/system-preset", "/usr/lib/systemd/system-preset"], ".preset") {
        for line in root.text(&file)?.lines() {
            let mut words = line.split_whitespace();
            let enabled = match words.next() {
                Some("enable") => true,
                Some("disable") => false,
                _ => continue,
            };
            let Some(pattern) = words.next() else { continue };
            if pattern != "*" && globset::Glob::new(pattern).is_ok_and(|g| g.compile_matcher().is_match(name)) {
                return Ok(Some(enabled));
            }
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_tree::{MemoryBlobs, Tree};

    #[test]
    fn units_are_enabled_disabled_and_masked() {
        let blobs = MemoryBlobs::default();
        let mut root = Root::new(Tree::new(), &blobs, 5);
        let unit = |install: &str| format!("[Unit]\nWantedBy=not.target\n[Install]\n{install}\n");
        root.put(
            "/usr/lib/systemd/system/lampd.service",
            unit("WantedBy=multi-user.target\nAlias=lamp.service\nAlso=horn.socket"),
        )
        .unwrap();
        root.put("/usr/lib/systemd/system/horn.socket", unit("WantedBy=sockets.target")).unwrap();
        root.put("/usr/lib/systemd/system/getty@.service", unit("WantedBy=getty.target\nDefaultInstance=tty1"))
            .unwrap();
        root.put("/etc/systemd/system-preset/10-own.preset", "disable horn.*\nenable *\n").unwrap();
        root.link("/lib", "usr/lib").unwrap();
        for name in ["lampd.service", "getty@.service", "getty@ttyS0.service"] {
            assert!(enable(&mut root, name).unwrap(), "{name}");
        }
        assert!(!enable(&mut root, "fog.service").unwrap());
        let links = |root: &Root<'_>| -> Vec<String> {
            let at = "/etc/systemd/system".parse().unwrap();
            root.below(&at).filter(|(_, e)| !e.is_directory()).map(|(p, _)| p.to_string()[20..].to_string()).collect()
        };
        assert_eq!(
            links(&root),
            [
                "getty.target.wants/getty@tty1.service",
                "getty.target.wants/getty@ttyS0.service",
                "lamp.service",
                "multi-user.target.wants/lampd.service",
                "sockets.target.wants/horn.socket"
            ]
        );
        assert_eq!(preset(&root, "horn.socket").unwrap(), Some(false));
        assert_eq!(preset(&root, "lampd.service").unwrap(), None);
        assert!(disable(&mut root, "lampd.service").unwrap());
        mask(&mut root, "horn.socket").unwrap();
        assert_eq!(links(&root)[2], "horn.socket");
        assert!(!links(&root).iter().any(|l| l.contains("lamp")));
    }
}
