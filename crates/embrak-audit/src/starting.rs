//! How a system starts and what it starts: boot programs, command lines, units, room.

use crate::{Finding, Subject, tell};
use embrak_tree::{Kind, Tree, TreePath};

/// From here on a partition is full, in percent.
const FULL: u64 = 97;
/// Services that listen though no socket unit says so.
const LISTENERS: [&str; 16] = [
    "apache2.service",
    "avahi-daemon.service",
    "bind9.service",
    "cups.service",
    "dnsmasq.service",
    "exim4.service",
    "mosquitto.service",
    "named.service",
    "nfs-server.service",
    "nginx.service",
    "postgresql.service",
    "rpcbind.service",
    "smbd.service",
    "snmpd.service",
    "ssh.service",
    "sshd.service",
];

pub(crate) fn boot(subject: &Subject<'_>, found: &mut Vec<Finding>) {
    for file in &subject.boot {
        if file.program && !file.signed {
            tell(found, "boot-unsigned", "", &file.path, "no signature for UEFI Secure Boot");
        }
        for word in file.command_line.split_whitespace() {
            let shell =
                word == "systemd.debug_shell" || word == "systemd.debug-shell" || word == "systemd.debug-shell=1";
            let init = word.strip_prefix("init=").or(word.strip_prefix("rdinit="));
            if shell || word == "single" || init.is_some_and(|i| i.ends_with("/sh") || i.ends_with("/bash")) {
                tell(found, "debug-shell", "", &file.path, format!("the kernel's argument `{word}`"));
            }
        }
    }
    for fill in &subject.fills {
        let percent = fill.used.saturating_mul(100) / fill.size.max(1);
        if percent >= FULL && !fill.fixed && fill.size > 0 {
            tell(found, "partition-full", "", &fill.place, format!("{percent} % of it are in use"));
        }
    }
}

/// Units that are started: names of links below `*.wants` and `*.requires` directories.
pub(crate) fn enabled(tree: &Tree) -> Vec<(String, TreePath)> {
    let started = |path: &TreePath| {
        let text = path.to_string();
        let inside = ["/etc/systemd/system/", "/usr/lib/systemd/system/", "/lib/systemd/system/"]
            .iter()
            .find_map(|dir| text.strip_prefix(dir))?
            .to_string();
        let (dir, unit) = inside.split_once('/')?;
        (dir.ends_with(".wants") || dir.ends_with(".requires")).then(|| unit.to_string())
    };
    tree.iter()
        .filter(|(_, entry)| matches!(entry.kind, Kind::Symlink { .. }))
        .filter_map(|(path, _)| Some((started(path)?, path.clone())))
        .collect()
}

/// The text of a unit by its name; of a template for its instances.
fn unit(subject: &Subject<'_>, place: &str, name: &str) -> Option<String> {
    let template = name
        .split_once('@')
        .map(|(head, tail)| format!("{head}@.{}", tail.rsplit_once('.').map_or("service", |(_, kind)| kind)));
    ["/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"]
        .iter()
        .flat_map(|dir| [Some(name), template.as_deref()].into_iter().flatten().map(move |n| format!("{dir}/{n}")))
        .find_map(|path| subject.text(place, &path))
}

pub(crate) fn services(subject: &Subject<'_>, place: &str, tree: &Tree, found: &mut Vec<Finding>) {
    for (name, path) in enabled(tree) {
        if name == "debug-shell.service" {
            tell(found, "debug-shell", place, &path, "a root shell on the ninth console");
        }
        let text = unit(subject, place, &name).unwrap_or_default();
        let autologin = text.lines().any(|l| l.starts_with("ExecStart=") && l.contains("--autologin"));
        if autologin {
            tell(found, "debug-shell", place, &path, "a console that logs somebody in by itself");
        }
        if LISTENERS.contains(&name.as_str()) {
            tell(found, "listening-service", place, &path, "a service of the network");
        }
        for line in text.lines().filter(|_| name.ends_with(".socket")) {
            let Some((key, value)) = line.split_once('=') else { continue };
            let network =
                !value.trim().starts_with(['/', '@', '%']) && value.trim().chars().any(|c| c.is_ascii_digit());
            if matches!(key.trim(), "ListenStream" | "ListenDatagram") && network && !value.contains("vsock") {
                tell(found, "listening-service", place, &path, format!("it listens at {}", value.trim()));
            }
        }
    }
    // Drop-ins change a console's command without a unit of their own.
    let drop_ins: Vec<&TreePath> = tree
        .iter()
        .filter(|(p, e)| {
            let text = p.to_string();
            text.contains("getty")
                && text.ends_with(".conf")
                && text.contains(".service.d/")
                && matches!(e.kind, Kind::File { .. })
        })
        .map(|(path, _)| path)
        .collect();
    (subject.read)(place, &drop_ins, &mut |path, bytes| {
        if String::from_utf8_lossy(bytes).lines().any(|l| l.starts_with("ExecStart=") && l.contains("--autologin")) {
            tell(found, "debug-shell", place, path, "a console that logs somebody in by itself");
        }
    });
}
