//! Maintainer scripts of ready-made packages: which there are, and what they would do.
//!
//! Nothing of them is run here. What a script would do is told by the commands it names: that finds what matters when
//! the package is put into an image, not every effect it could have.

use crate::package::PackageInfo;
use crate::sources;
use embrak_store::Store;
use embrak_tree::{BlobSource, Kind, TreePath};
use serde::Serialize;

/// Commands, and what a script that names one of them does.
const COMMANDS: [(&str, &str); 21] = [
    ("adduser", "users"),
    ("addgroup", "users"),
    ("useradd", "users"),
    ("groupadd", "users"),
    ("systemd-sysusers", "users"),
    ("update-passwd", "users"),
    ("update-alternatives", "alternatives"),
    ("dpkg-divert", "diversions"),
    ("deb-systemd-helper", "services"),
    ("update-rc.d", "services"),
    ("systemctl", "services"),
    ("ldconfig", "library cache"),
    ("depmod", "kernel modules"),
    ("linux-update-symlinks", "kernel links"),
    ("update-initramfs", "initial file system"),
    ("run-parts", "hooks of others"),
    ("ucf", "configuration files"),
    ("dpkg-statoverride", "owners and modes"),
    ("systemd-tmpfiles", "directories at the start"),
    ("update-ca-certificates", "certificates"),
    ("db_get", "questions"),
];

/// The scripts of one package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct MaintainerScripts {
    /// Its name.
    pub package: String,
    /// Its version.
    pub version: String,
    /// Which scripts it has: `preinst`, `postinst`, `prerm`, `postrm`, `config`.
    pub scripts: Vec<String>,
    /// What those that run at installation do, as far as their commands tell.
    pub does: Vec<String>,
}

/// The packages that have scripts, in the order they are given.
pub fn maintainer_scripts(store: &Store, packages: &[PackageInfo]) -> Vec<MaintainerScripts> {
    let mut out = Vec::new();
    for package in packages {
        let Some(ready) = package.ready_made.as_ref().filter(|r| !r.scripts.is_empty()) else { continue };
        let mut does: Vec<String> = Vec::new();
        let control = sources::get_tree(store, &ready.control).unwrap_or_default();
        for script in ["preinst", "postinst"] {
            let entry = TreePath::new(format!("/{script}")).ok().and_then(|p| control.get(&p).cloned());
            let Some(Kind::File { digest, .. }) = entry.map(|e| e.kind) else { continue };
            let text = store.read(&digest).map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default();
            for (command, what) in COMMANDS {
                if names(&text, command) && !does.iter().any(|d| d == what) {
                    does.push(what.to_string());
                }
            }
        }
        out.push(MaintainerScripts {
            package: package.name.clone(),
            version: package.version.clone(),
            scripts: ready.scripts.clone(),
            does,
        });
    }
    out
}

/// Whether a script names a command, comments left out.
fn names(script: &str, command: &str) -> bool {
    let part = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    script.lines().map(str::trim_start).filter(|l| !l.starts_with('#')).any(|line| {
        line.match_indices(command).any(|(at, _)| {
            let before = line[..at].chars().next_back();
            let after = line[at + command.len()..].chars().next();
            !before.is_some_and(part) && !after.is_some_and(part)
        })
    })
}

#[cfg(test)]
mod tests {
    use super::names;

    #[test]
    fn a_command_is_a_word_of_its_own() {
        let script =
            "#!/bin/sh\n# adduser is not needed\nif [ -x /sbin/ldconfig ]; then ldconfig; fi\nupdate-rc.d x defaults\n";
        assert!(names(script, "ldconfig") && names(script, "update-rc.d"));
        assert!(!names(script, "adduser") && !names(script, "config") && !names(script, "rc.d"));
    }
}
