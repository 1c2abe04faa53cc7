//! The package database of Debian-format distributions, as their own tools expect it below `/var/lib/dpkg`.

use crate::script::Report;
use crate::{Result, Root, RootError};
use embrak_tree::{Kind, Tree};
use md5::{Digest, Md5};
use std::collections::BTreeMap;

/// An installed package.
pub struct Installed<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its files, as its archive has them.
    pub files: &'a Tree,
    /// Its control archive.
    pub control: &'a Tree,
}

/// A file of a package that the administrator may change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conffile {
    /// Its path.
    pub path: String,
    /// MD5 of what the package brings.
    pub md5: String,
}

const BASE: &str = "/var/lib/dpkg";

impl Installed<'_> {
    fn control_text(&self, root: &Root<'_>, name: &str) -> Result<Option<String>> {
        let path = format!("/{name}");
        let entry = path.parse().ok().and_then(|p| self.control.get(&p));
        let Some(Kind::File { digest, .. }) = entry.map(|e| &e.kind) else { return Ok(None) };
        let bytes = root.blobs.read(digest).map_err(|source| RootError::Io { path, source })?;
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    }

    /// Files the administrator may change, with what they digest to.
    ///
    /// # Errors
    /// They cannot be read.
    pub fn conffiles(&self, root: &Root<'_>) -> Result<Vec<Conffile>> {
        let mut out = Vec::new();
        for line in self.control_text(root, "conffiles")?.unwrap_or_default().lines() {
            let path = line.trim();
            let Some(Kind::File { digest, .. }) = path.parse().ok().and_then(|p| self.files.get(&p)).map(|e| &e.kind)
            else {
                continue;
            };
            let bytes = root.blobs.read(digest).map_err(|source| RootError::Io { path: path.to_string(), source })?;
            out.push(Conffile { path: path.to_string(), md5: hex::encode(Md5::digest(&bytes)) });
        }
        Ok(out)
    }
}

/// Writes the database.
///
/// # Errors
/// Control files cannot be read.
pub(crate) fn write(root: &mut Root<'_>, packages: &[Installed<'_>], report: &Report) -> Result<()> {
    let mut status = BTreeMap::new();
    let mut named: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut files: Vec<String> = Vec::new();
    for package in packages {
        let Some(control) = package.control_text(root, "control")? else { continue };
        let field = |name: &str| {
            control.lines().find_map(|l| l.strip_prefix(name)?.strip_prefix(':')).map(str::trim).unwrap_or_default()
        };
        let shown = if field("Multi-Arch") == "same" {
            format!("{}:{}", package.name, field("Architecture"))
        } else {
            package.name.to_string()
        };
        let mut entry = String::new();
        for (n, line) in control.trim_end().lines().enumerate() {
            entry += line;
            entry.push('\n');
            if n == 0 {
                entry += "Status: install ok installed\n";
            }
        }
        let conffiles = package.conffiles(root)?;
        if !conffiles.is_empty() {
            entry += "Conffiles:\n";
            for file in &conffiles {
                entry += &format!(" {} {}\n", file.path, file.md5);
            }
        }
        status.insert(shown.clone(), entry);
        let mut list = String::from("/.\n");
        for (path, _) in package.files.iter().filter(|(p, _)| !p.is_root()) {
            list += &format!("{path}\n");
        }
        root.put(&format!("{BASE}/info/{shown}.list"), list)?;
        for (path, entry) in package.control.iter() {
            let name = String::from_utf8_lossy(path.relative()).into_owned();
            if matches!(entry.kind, Kind::File { .. }) && name != "control" {
                let script = matches!(name.as_str(), "preinst" | "postinst" | "prerm" | "postrm" | "config");
                let mut entry = entry.clone();
                entry.mode = if script { 0o755 } else { 0o644 };
                root.insert(&format!("{BASE}/info/{shown}.{name}"), entry, (0, 0))?;
            }
        }
        for line in package.control_text(root, "triggers")?.unwrap_or_default().lines() {
            let mut words = line.split_whitespace();
            let (Some(kind), Some(trigger)) = (words.next(), words.next()) else { continue };
            let Some(rest) = kind.strip_prefix("interest") else { continue };
            let name = if rest == "-noawait" { format!("{}/noawait", package.name) } else { package.name.to_string() };
            if trigger.starts_with('/') {
                files.push(format!("{trigger} {name}"));
            } else {
                named.entry(trigger.to_string()).or_default().push(name);
            }
        }
    }
    root.put(&format!("{BASE}/status"), status.into_values().collect::<Vec<_>>().join("\n") + "\n")?;
    root.put(&format!("{BASE}/available"), "")?;
    root.put(&format!("{BASE}/info/format"), "1\n")?;
    for dir in ["updates", "parts", "triggers", "alternatives"] {
        root.directory(&format!("{BASE}/{dir}"), 0o755, (0, 0))?;
    }
    let lines = |list: &[String]| list.iter().map(|l| format!("{l}\n")).collect::<String>();
    root.put(&format!("{BASE}/triggers/File"), lines(&files))?;
    for (name, list) in named {
        root.put(&format!("{BASE}/triggers/{name}"), lines(&list))?;
    }
    let diversions: String = report.diversions.iter().map(|(a, b, by)| format!("{a}\n{b}\n{by}\n")).collect();
    root.put(&format!("{BASE}/diversions"), diversions)?;
    let overrides: String = report.overrides.iter().map(|(u, g, m, p)| format!("{u} {g} {m} {p}\n")).collect();
    root.put(&format!("{BASE}/statoverride"), overrides)
}
