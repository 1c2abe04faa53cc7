//! What names, owners, modes and times tell.

use crate::{Finding, Subject, tell};
use embrak_tree::{Kind, Tree, TreePath};
use std::collections::BTreeSet;

/// Programs with set-user-id or set-group-id, and where else such things are usual.
const USUAL_SET_ID: [&str; 30] = [
    "at",
    "bsd-write",
    "chage",
    "chfn",
    "chsh",
    "crontab",
    "dbus-daemon-launch-helper",
    "dotlockfile",
    "exim4",
    "expiry",
    "fusermount",
    "fusermount3",
    "gpasswd",
    "mount",
    "mount.nfs",
    "newgidmap",
    "newgrp",
    "newuidmap",
    "passwd",
    "pkexec",
    "polkit-agent-helper-1",
    "ssh-agent",
    "ssh-keysign",
    "su",
    "sudo",
    "umount",
    "unix_chkpwd",
    "utempter",
    "wall",
    "write",
];
/// Programs with capabilities of their own.
const USUAL_CAPABILITY: [&str; 9] =
    ["arping", "clockdiff", "dumpcap", "gst-ptp-helper", "mtr-packet", "newgidmap", "newuidmap", "ping", "traceroute6"];
/// Kept by package managers.
const CACHES: [&str; 6] = [
    "/var/cache/apt/archives/",
    "/var/lib/apt/lists/",
    "/var/cache/dnf/",
    "/var/cache/pacman/pkg/",
    "/var/cache/apk/",
    "/var/cache/debconf/",
];
/// Different in every build, or on every device.
const LEFTOVERS: [&str; 7] = [
    "/var/cache/ldconfig/aux-cache",
    "/var/lib/systemd/random-seed",
    "/var/lib/systemd/credential.secret",
    "/var/lib/dhcp/dhclient.leases",
    "/var/lib/urandom/random-seed",
    "/var/lib/NetworkManager/secret_key",
    "/etc/.pwd.lock",
];
const HISTORIES: [&str; 8] = [
    ".bash_history",
    ".ash_history",
    ".zsh_history",
    ".sh_history",
    ".python_history",
    ".lesshst",
    ".viminfo",
    ".mysql_history",
];

pub(crate) fn look(subject: &Subject<'_>, place: &str, tree: &Tree, found: &mut Vec<Finding>) {
    let passwd = subject.text(place, "/etc/passwd");
    let group = subject.text(place, "/etc/group");
    let users = numbers(passwd.as_deref());
    let groups = numbers(group.as_deref());
    for (path, entry) in tree.iter() {
        let text = path.to_string();
        let name = text.rsplit('/').next().unwrap_or_default();
        let real = tree.resolve_link(entry);
        let is_file = matches!(real.kind, Kind::File { .. });
        let size = if let Kind::File { size, .. } = real.kind { size } else { 0 };
        if matches!(entry.kind, Kind::Hardlink { .. }) {
            continue;
        }
        if is_file && entry.mode & 0o6000 != 0 && entry.mode & 0o111 != 0 && !USUAL_SET_ID.contains(&name) {
            let bits = if entry.mode & 0o4000 != 0 { "set-user-id" } else { "set-group-id" };
            let owner = if entry.mode & 0o4000 != 0 { entry.uid } else { entry.gid };
            tell(found, "set-id", place, &text, format!("mode {:04o}: {bits} of {owner}", entry.mode));
        }
        if entry.xattrs.contains_key(b"security.capability".as_slice()) && !USUAL_CAPABILITY.contains(&name) {
            tell(found, "file-capability", place, &text, "it has capabilities of its own");
        }
        if entry.mode & 0o002 != 0 {
            let open_directory = entry.is_directory() && entry.mode & 0o1000 == 0;
            if is_file || open_directory {
                tell(found, "world-writable", place, &text, format!("mode {:04o}", entry.mode));
            }
        }
        // Systems that name their users elsewhere are not judged by a list that is not theirs.
        if let (Some(users), Some(groups)) = (&users, &groups) {
            if !users.contains(&entry.uid) {
                tell(found, "orphaned-owner", place, &text, format!("owned by the user number {}", entry.uid));
            } else if !groups.contains(&entry.gid) {
                tell(found, "orphaned-owner", place, &text, format!("of the group number {}", entry.gid));
            }
        }
        if entry.mtime > subject.newest {
            let when = jiff::Timestamp::from_second(entry.mtime).map(|t| t.to_string()).unwrap_or_default();
            tell(found, "future-time", place, &text, format!("of {when}"));
        }
        if !is_file {
            continue;
        }
        if name.starts_with("ssh_host_") && name.ends_with("_key") {
            tell(found, "host-key", place, &text, format!("{size} bytes"));
        }
        if HISTORIES.contains(&name) && size > 0 {
            tell(found, "shell-history", place, &text, format!("{size} bytes"));
        }
        if size > 0 && CACHES.iter().any(|dir| text.starts_with(dir)) && !name.starts_with("lock") {
            tell(found, "package-cache", place, &text, format!("{size} bytes"));
        }
        if size > 0 && text.starts_with("/var/log/") && name != "README" {
            tell(found, "log-left-in", place, &text, format!("{size} bytes"));
        }
        if LEFTOVERS.contains(&text.as_str()) && size > 0 || name.ends_with(".dpkg-tmp") || name.ends_with(".swp") {
            tell(found, "leftover", place, &text, format!("{size} bytes"));
        }
    }
    for path in ["/etc/machine-id", "/var/lib/dbus/machine-id"] {
        let Some(text) = subject.text(place, path) else { continue };
        let id = text.trim();
        if !id.is_empty() && id != "uninitialized" {
            let shown: String = id.chars().take(6).collect();
            tell(found, "machine-id", place, path, format!("it begins with {shown}"));
        }
    }
    byte_code(subject, place, tree, found);
}

/// Byte code of Python that holds the time of its source: bytes 4 to 8 are flags, 0 meaning a time follows (PEP 552).
fn byte_code(subject: &Subject<'_>, place: &str, tree: &Tree, found: &mut Vec<Finding>) {
    let compiled: Vec<&TreePath> = tree
        .iter()
        .filter(|(path, entry)| path.as_bytes().ends_with(b".pyc") && matches!(entry.kind, Kind::File { .. }))
        .map(|(path, _)| path)
        .collect();
    (subject.read)(place, &compiled, &mut |path, bytes| {
        if let Some([a, b, c, d, e, f, g, h]) = bytes.get(4..12) {
            let time = u32::from_le_bytes([*e, *f, *g, *h]);
            if [a, b, c, d] == [&0, &0, &0, &0] && i64::from(time) > subject.newest {
                tell(found, "leftover", place, path, "byte code that holds the time of a build");
            }
        }
    });
}

/// The numbers in the third fields of a list of accounts; none when there is no list.
fn numbers(text: Option<&str>) -> Option<BTreeSet<u32>> {
    let text = text.filter(|t| t.contains(':'))?;
    let mut all: BTreeSet<u32> = text.lines().filter_map(|l| l.split(':').nth(2)?.parse().ok()).collect();
    all.insert(0);
    Some(all)
}
