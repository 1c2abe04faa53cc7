//! The commands scripts use, done to the tree.

use crate::accounts::User;
use crate::alternatives::Choice;
use crate::script::{Flow, Run, Status, TEMPORARY};
use crate::shell::Node;
use crate::{Result, joined};
use embrak_resolve::Version;
use embrak_tree::{Entry, Kind, TreePath};
use std::collections::BTreeMap;

const YES: Status = Some(true);
const NO: Status = Some(false);

fn plain(args: &[String]) -> Vec<&str> {
    args.iter().map(String::as_str).filter(|a| !a.starts_with('-') || *a == "-").collect()
}

/// The value of `--name VALUE` or `--name=VALUE`.
fn option<'a>(args: &'a [String], names: &[&str]) -> Option<&'a str> {
    args.iter().enumerate().find_map(|(n, a)| {
        names.iter().find_map(|name| match a.strip_prefix(name)? {
            "" => args.get(n + 1).map(String::as_str),
            rest => rest.strip_prefix('='),
        })
    })
}

/// Arguments that are neither options nor the values of those named.
fn operands<'a>(args: &'a [String], with_value: &[&str]) -> Vec<&'a str> {
    let mut out = Vec::new();
    let mut skip = false;
    for arg in args {
        if std::mem::take(&mut skip) {
            continue;
        }
        if arg.starts_with('-') && arg.len() > 1 {
            skip = with_value.contains(&arg.as_str());
        } else {
            out.push(arg.as_str());
        }
    }
    out
}

fn has(args: &[String], names: &[&str]) -> bool {
    args.iter().any(|a| names.contains(&a.as_str()))
}

impl Run<'_, '_, '_> {
    /// Carries out one command.
    pub(crate) fn command(&mut self, name: &str, args: &[String], output: Option<&str>) -> Result<Flow> {
        let next = |status| Ok(Flow::Next(status));
        let short = name.rsplit('/').next().unwrap_or(name);
        match short {
            "exit" => return Ok(Flow::Exit),
            "return" => {
                return Ok(match args.first().map(String::as_str) {
                    None | Some("0") => Flow::Return,
                    // What a function says by a number is seen by its caller only as a condition.
                    Some(_) => Flow::Next(NO),
                });
            }
            "exec" | "command" | "env" | "eval"
                if args.first().is_some_and(|a| !a.starts_with('-')) && short != "eval" =>
            {
                return self.command(&args[0], &args[1..], output);
            }
            "chroot" if args.len() > 1 => return self.command(&args[1], &args[2..], output),
            _ => {}
        }
        let status = match short {
            ":"
            | "true"
            | "set"
            | "umask"
            | "trap"
            | "printf"
            | "wait"
            | "sleep"
            | "sync"
            | "hash"
            | "db_version"
            | "db_stop"
            | "db_input"
            | "db_go"
            | "db_title"
            | "db_settitle"
            | "db_set"
            | "db_fset"
            | "db_fget"
            | "db_subst"
            | "db_unregister"
            | "db_purge"
            | "db_reset"
            | "db_capb"
            | "db_beginblock"
            | "db_endblock"
            | "."
            | "source"
            | "dpkg-maintscript-helper"
            | "deb-systemd-invoke"
            | "invoke-rc.d"
            | "update-rc.d"
            | "dpkg-trigger"
            | "restorecon"
            | "ucfr"
            | "udevadm"
            | "kill"
            | "killall"
            | "start-stop-daemon"
            | "runit-helper"
            | "update-menus"
            | "install-info"
            | "cd" => {
                if short == ":"
                    && let Some(file) = output
                {
                    self.root.put(file, "")?;
                }
                YES
            }
            "false" => NO,
            "echo" => {
                if let Some(file) = output {
                    let text = args.iter().filter(|a| *a != "-n").map(String::as_str).collect::<Vec<_>>().join(" ");
                    self.root.put(file, text + "\n")?;
                    self.did("files");
                }
                YES
            }
            "shift" => {
                if self.arguments.len() > 1 {
                    self.arguments.remove(1);
                }
                YES
            }
            "local" | "export" | "readonly" | "declare" => {
                for arg in args {
                    if let Some((name, value)) = arg.split_once('=') {
                        self.variables.insert(name.to_string(), Some(value.to_string()));
                    }
                }
                YES
            }
            "unset" => {
                for arg in args {
                    self.variables.remove(arg);
                }
                YES
            }
            "db_get" => {
                let answer = args.first().and_then(|q| self.answers.get(q)).cloned();
                self.variables.insert("RET".into(), Some(answer.unwrap_or_default()));
                YES
            }
            "test" => self.test(args)?,
            "[" => self.test(&args[..args.len().saturating_sub(1)])?,
            "command" | "which" | "type" => {
                let wanted = args.last().cloned().unwrap_or_default();
                Some(self.functions.contains_key(&wanted) || self.program(&wanted).is_some())
            }
            "dpkg" => self.dpkg(args),
            "getent" => match (args.first().map(String::as_str), args.get(1)) {
                (Some("passwd"), Some(name)) => Some(self.accounts.user(name).is_some()),
                (Some("group"), Some(name)) => Some(self.accounts.group(name).is_some()),
                _ => None,
            },
            "id" => plain(args).last().map(|name| self.accounts.user(name).is_some()),
            "pidof" | "pgrep" | "ischroot" | "mountpoint" | "is-active" => NO,
            "cmp" => {
                let files = plain(args);
                let digest = |p: &&str| self.root.entry(p).map(|e| e.kind.clone());
                match files.as_slice() {
                    [a, b] => Some(digest(a).is_some() && digest(a) == digest(b)),
                    _ => None,
                }
            }
            "adduser" | "useradd" => self.add_user(short, args),
            "addgroup" | "groupadd" => {
                let operands = operands(args, &["--gid", "-g", "--conf", "-K"]);
                match operands.as_slice() {
                    [user, group] => self.accounts.add_member(user, group),
                    [group] => {
                        let gid = option(args, &["--gid", "-g"]).and_then(|g| g.parse().ok());
                        self.accounts.add_group(group, gid);
                    }
                    _ => {}
                }
                self.did("groups");
                YES
            }
            "usermod" => {
                if let (Some(groups), Some(user)) =
                    (option(args, &["-aG", "-G", "--groups"]), operands(args, &["-aG", "-G", "--groups"]).last())
                {
                    for group in groups.split(',') {
                        self.accounts.add_member(user, group);
                    }
                    YES
                } else {
                    self.left("usermod");
                    None
                }
            }
            "update-alternatives" => self.alternative(args),
            "dpkg-divert" => self.divert(args)?,
            "dpkg-statoverride" => self.statoverride(args),
            "deb-systemd-helper" | "systemctl" => self.units(args),
            "cp" | "mv" | "install" => self.copy(short, args)?,
            "ucf" => {
                match operands(args, &["--sum-file", "--src-dir", "--state-dir"]).as_slice() {
                    [from, to] if self.root.entry(from).is_some() => {
                        if !self.root.exists(to) {
                            self.copy_file(from, to, true)?;
                            self.did("configuration files");
                        }
                    }
                    _ => self.left("ucf, whose file is not known"),
                }
                YES
            }
            "ln" => self.link(args)?,
            "mkdir" => {
                let mode = option(args, &["-m", "--mode"]).and_then(|m| u32::from_str_radix(m, 8).ok());
                for dir in operands(args, &["-m", "--mode"]) {
                    if dir.starts_with('/') {
                        self.root.directory(dir, mode.unwrap_or(0o755), (0, 0))?;
                    }
                }
                YES
            }
            "rm" => {
                for path in plain(args).into_iter().filter(|p| p.starts_with('/') && p.len() > 1) {
                    let at = self.root.resolve(path, false)?;
                    if !at.is_root()
                        && (has(args, &["-rf", "-r", "-fr", "-R"])
                            || self.root.tree.get(&at).is_some_and(|e| !e.is_directory()))
                    {
                        self.root.tree.remove_below(&at);
                    }
                }
                YES
            }
            "rmdir" => {
                for path in plain(args).into_iter().filter(|p| p.starts_with('/')) {
                    let at = self.root.resolve(path, false)?;
                    if !at.is_root() && self.root.tree.below(&at).count() == 1 {
                        self.root.tree.remove(&at);
                    }
                }
                YES
            }
            "touch" => {
                for path in operands(args, &["-r", "-d", "-t"]) {
                    if path.starts_with('/') && !self.root.exists(path) {
                        self.root.put(path, "")?;
                    }
                }
                YES
            }
            "chmod" | "chown" | "chgrp" => self.metadata(short, args)?,
            "setcap" => self.capability(args)?,
            "grep" | "fgrep" | "egrep" => self.grep(args)?,
            // Done for the whole root afterwards, whoever asks.
            "ldconfig"
            | "depmod"
            | "update-ca-certificates"
            | "pam-auth-update"
            | "shadowconfig"
            | "pwconv"
            | "grpconv"
            | "update-shells"
            | "add-shell"
            | "systemd-sysusers"
            | "systemd-machine-id-setup"
            | "dbus-uuidgen" => YES,
            // Done by the system itself at its first start.
            "systemd-tmpfiles" | "systemd-hwdb" | "journalctl" => YES,
            "update-initramfs"
            | "linux-update-symlinks"
            | "run-parts"
            | "ssh-keygen"
            | "locale-gen"
            | "sed"
            | "tic"
            | "py3compile"
            | "update-mime-database"
            | "glib-compile-schemas"
            | "update-passwd"
            | "groupmod" => {
                let target = args.last().filter(|a| a.starts_with('/')).map(|a| format!(" of {a}")).unwrap_or_default();
                if short != "sed" || has(args, &["-i"]) {
                    self.left(format!("{short}{target}"));
                }
                None
            }
            _ => None,
        };
        next(status)
    }

    fn program(&self, name: &str) -> Option<String> {
        if name.starts_with('/') {
            return self.root.entry(name).map(|_| name.to_string());
        }
        ["/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"]
            .iter()
            .map(|dir| format!("{dir}/{name}"))
            .find(|path| !name.is_empty() && self.root.entry(path).is_some())
    }

    /// What a script in `$(...)` prints, where that can be known.
    pub(crate) fn output_of(&mut self, script: &[Node]) -> Result<Option<String>> {
        let [node] = script else { return Ok(None) };
        let words = match node {
            Node::Simple { words, .. } => words,
            // `X || true` and the like: what X prints.
            Node::Or(first, _) => return self.output_of(std::slice::from_ref(first)),
            _ => return Ok(None),
        };
        let mut all = Vec::new();
        for word in words {
            match self.expand(word)? {
                Some(more) => all.extend(more),
                None => return Ok(None),
            }
        }
        let Some(name) = all.first().cloned() else { return Ok(Some(String::new())) };
        let args = &all[1..];
        let last = args.last().cloned().unwrap_or_default();
        Ok(match name.rsplit('/').next().unwrap_or_default() {
            "echo" => Some(args.iter().filter(|a| *a != "-n").cloned().collect::<Vec<_>>().join(" ")),
            "command" | "which" | "type" => Some(self.program(&last).unwrap_or_default()),
            "dpkg-divert" if has(args, &["--truename"]) => Some(self.true_name(&last)),
            "dpkg-divert" if has(args, &["--list", "--listpackage"]) => {
                let found = self.report.diversions.iter().find(|(file, _, _)| *file == last);
                Some(found.map(|(_, _, package)| package.clone()).unwrap_or_default())
            }
            "dpkg" if has(args, &["--print-architecture"]) => Some(self.package.architecture.to_string()),
            "dpkg-realpath" => Some(self.root.resolve(&last, true)?.to_string()),
            "readlink" if has(args, &["-f", "-m", "-e"]) => Some(self.root.resolve(&last, true)?.to_string()),
            "readlink" => {
                match self.root.resolve(&last, false).ok().and_then(|p| self.root.tree.get(&p)).map(|e| &e.kind) {
                    Some(Kind::Symlink { target }) => Some(String::from_utf8_lossy(target).into_owned()),
                    _ => Some(String::new()),
                }
            }
            "dirname" => {
                Some(last.rsplit_once('/').map_or(".", |(dir, _)| if dir.is_empty() { "/" } else { dir }).into())
            }
            "basename" => plain(args).first().map(|p| p.rsplit('/').next().unwrap_or_default().to_string()),
            "mktemp" | "tempfile" => {
                self.temporary += 1;
                let path = format!("/tmp/{TEMPORARY}{}", self.temporary);
                if has(args, &["-d"]) {
                    self.root.directory(&path, 0o700, (0, 0))?;
                } else {
                    self.root.write(&path, "", 0o600, (0, 0))?;
                }
                Some(path)
            }
            "cat" => {
                self.root.read(&last)?.map(|bytes| String::from_utf8_lossy(&bytes).trim_end_matches('\n').to_string())
            }
            _ => None,
        })
    }

    fn test(&mut self, args: &[String]) -> Result<Status> {
        let words: Vec<&str> = args.iter().map(String::as_str).collect();
        // -a and -o between simple tests.
        for (operator, and) in [("-o", false), ("-a", true)] {
            if let Some(at) = words.iter().position(|w| *w == operator)
                && at > 0
                && at + 1 < words.len()
                && words.len() > 3
            {
                let (a, b) = (self.test(&args[..at])?, self.test(&args[at + 1..])?);
                return Ok(match (a, b) {
                    (Some(a), Some(b)) => Some(if and { a && b } else { a || b }),
                    (Some(known), None) | (None, Some(known)) if known != and => Some(known),
                    _ => None,
                });
            }
        }
        let root = &self.root;
        let link = |p: &str| {
            root.resolve(p, false)
                .is_ok_and(|at| matches!(root.tree.get(&at).map(|e| &e.kind), Some(Kind::Symlink { .. })))
        };
        // Nothing of a running system is there.
        let running = |p: &str| p.starts_with("/run/") || p.starts_with("/proc/") || p.starts_with("/sys/");
        Ok(match words.as_slice() {
            ["!", ..] => self.test(&args[1..])?.map(|s| !s),
            ["("] | [] => NO,
            ["-z", text] => Some(text.is_empty()),
            ["-n", text] => Some(!text.is_empty()),
            ["-z"] => YES,
            ["-n"] => NO,
            [
                "-e" | "-f" | "-d" | "-x" | "-r" | "-w" | "-s" | "-L" | "-h" | "-S" | "-p" | "-b" | "-c" | "-u" | "-g"
                | "-k",
                path,
            ] if path.is_empty() || running(path) => NO,
            ["-L" | "-h", path] => Some(link(path)),
            ["-d", path] => Some(root.is_directory(path)),
            ["-f", path] => Some(matches!(root.entry(path).map(|e| &e.kind), Some(Kind::File { .. }))),
            ["-x", path] => Some(root.entry(path).is_some_and(|e| e.is_directory() || e.mode & 0o111 != 0)),
            ["-s", path] => Some(matches!(root.entry(path).map(|e| &e.kind), Some(Kind::File { size: 1.., .. }))),
            ["-e" | "-r" | "-w", path] => Some(root.entry(path).is_some() || root.is_directory(path)),
            ["-u", path] => Some(root.entry(path).is_some_and(|e| e.mode & 0o4000 != 0)),
            ["-g", path] => Some(root.entry(path).is_some_and(|e| e.mode & 0o2000 != 0)),
            ["-S" | "-p" | "-b" | "-c", _] => NO,
            ["-t", _] => NO,
            [a, "=" | "==", b] => Some(a == b),
            [a, "!=", b] => Some(a != b),
            [a, operator @ ("-eq" | "-ne" | "-lt" | "-le" | "-gt" | "-ge"), b] => {
                match (a.parse::<i64>(), b.parse::<i64>()) {
                    (Ok(a), Ok(b)) => Some(match *operator {
                        "-eq" => a == b,
                        "-ne" => a != b,
                        "-lt" => a < b,
                        "-le" => a <= b,
                        "-gt" => a > b,
                        _ => a >= b,
                    }),
                    _ => None,
                }
            }
            [text] => Some(!text.is_empty()),
            _ => None,
        })
    }

    fn dpkg(&mut self, args: &[String]) -> Status {
        let at = args.iter().position(|a| a == "--compare-versions")?;
        let [a, operator, b, ..] = &args[at + 1..] else { return None };
        // No version is earlier than any, or with `-nl` later than any.
        let later = operator.ends_with("-nl");
        let order = match (a.is_empty(), b.is_empty()) {
            (true, true) => std::cmp::Ordering::Equal,
            (true, false) => {
                if later {
                    std::cmp::Ordering::Greater
                } else {
                    std::cmp::Ordering::Less
                }
            }
            (false, true) => {
                if later {
                    std::cmp::Ordering::Less
                } else {
                    std::cmp::Ordering::Greater
                }
            }
            (false, false) => a.parse::<Version>().ok()?.cmp(&b.parse().ok()?),
        };
        Some(match operator.trim_end_matches("-nl") {
            "lt" | "<<" => order.is_lt(),
            "le" | "<=" | "<" => order.is_le(),
            "eq" | "=" => order.is_eq(),
            "ne" => order.is_ne(),
            "ge" | ">=" | ">" => order.is_ge(),
            "gt" | ">>" => order.is_gt(),
            _ => return None,
        })
    }

    fn add_user(&mut self, command: &str, args: &[String]) -> Status {
        let valued = [
            "--home",
            "--shell",
            "--uid",
            "--gid",
            "--gecos",
            "--ingroup",
            "-d",
            "-s",
            "-u",
            "-g",
            "-c",
            "--comment",
            "-K",
            "-G",
        ];
        let names = operands(args, &valued);
        if let ([user, group], "adduser") = (names.as_slice(), command) {
            self.accounts.add_member(user, group);
            return YES;
        }
        let name = names.last()?;
        let group = option(args, &["--ingroup", "--gid", "-g"]);
        let gid = match group {
            Some(group) => Some(group.parse().unwrap_or_else(|_| self.accounts.add_group(group, None))),
            // adduser puts users of the system into `nogroup` unless told to make a group.
            None if command == "adduser" && !has(args, &["--group"]) => {
                Some(self.accounts.group("nogroup").map_or(65534, |g| g.gid))
            }
            None => None,
        };
        let uid = option(args, &["--uid", "-u"]).and_then(|u| u.parse().ok());
        let home = option(args, &["--home", "-d"]).unwrap_or("/nonexistent");
        let shell = option(args, &["--shell", "-s"]).unwrap_or("/usr/sbin/nologin");
        let known = self.accounts.user(name).is_some();
        self.accounts.add_system_user(name, uid, gid, home, shell);
        if let (false, Some(comment), Some(user)) =
            (known, option(args, &["--gecos", "-c", "--comment"]), self.accounts.user(name).cloned())
        {
            self.accounts.add_user(User { comment: comment.to_string(), ..user });
        }
        self.did("users");
        YES
    }

    fn alternative(&mut self, args: &[String]) -> Status {
        let Some(at) = args.iter().position(|a| a == "--install") else { return YES };
        let [link, name, path, priority, ..] = &args[at + 1..] else { return None };
        let mut choice = Choice { priority: priority.parse().unwrap_or(0), slaves: BTreeMap::new() };
        let mut slaves = Vec::new();
        for (n, _) in args.iter().enumerate().filter(|(_, a)| *a == "--slave") {
            if let [link, name, path, ..] = &args[n + 1..] {
                // What is not there is no slave.
                if self.root.exists(path) {
                    choice.slaves.insert(name.clone(), path.clone());
                }
                slaves.push((name.clone(), link.clone()));
            }
        }
        if self.root.exists(path) {
            self.report.alternatives.add(name, link, path, choice, slaves);
            self.did("alternatives");
        }
        YES
    }

    fn true_name(&self, file: &str) -> String {
        let found = self.report.diversions.iter().find(|(f, _, package)| f == file && package != self.package.package);
        found.map_or(file.to_string(), |(_, to, _)| to.clone())
    }

    fn divert(&mut self, args: &[String]) -> Result<Status> {
        if has(args, &["--list", "--listpackage", "--truename"]) {
            let file = args.last().cloned().unwrap_or_default();
            return Ok(Some(self.report.diversions.iter().any(|(f, _, _)| *f == file)));
        }
        let operands = operands(args, &["--package", "--divert"]);
        let Some(file) = operands.last().map(|f| (*f).to_string()) else { return Ok(None) };
        if has(args, &["--remove"]) {
            self.report.diversions.retain(|(f, _, _)| *f != file);
            return Ok(YES);
        }
        let package = option(args, &["--package"]).unwrap_or(":").to_string();
        let to = option(args, &["--divert"]).map_or(format!("{file}.distrib"), String::from);
        if self.report.diversions.iter().any(|(f, _, _)| *f == file) {
            return Ok(YES);
        }
        // Whoever diverts keeps the place; what others have there moves.
        let path = self.root.resolve(&file, false)?;
        let own = TreePath::new(&file).is_ok_and(|p| self.package.tree.get(&p).is_some());
        if !own
            && has(args, &["--rename"])
            && let Some(entry) = self.root.tree.remove(&path)
        {
            let to = self.root.resolve(&to, false)?;
            self.root.tree.insert(to, entry);
        }
        self.report.diversions.push((file, to, package));
        self.did("diversions");
        Ok(YES)
    }

    fn statoverride(&mut self, args: &[String]) -> Status {
        if !has(args, &["--add"]) {
            return NO;
        }
        let words = plain(args);
        let [user, group, mode, path] = words.as_slice() else { return None };
        let owner = self.accounts.owner(&format!("{user}:{group}"));
        let (Some((uid, gid)), Ok(bits), Ok(at)) = (owner, u32::from_str_radix(mode, 8), self.root.resolve(path, true))
        else {
            self.left(format!("dpkg-statoverride of {path}"));
            return None;
        };
        if let Some(entry) = self.root.tree.get_mut(&at) {
            entry.mode = bits;
            entry.uid = uid.unwrap_or(entry.uid);
            entry.gid = gid.unwrap_or(entry.gid);
        }
        let text = |t: &&str| (*t).to_string();
        self.report.overrides.push((text(user), text(group), text(mode), text(path)));
        self.did("owners and modes");
        YES
    }

    fn units(&mut self, args: &[String]) -> Status {
        let words = plain(args);
        match words.first() {
            Some(&"enable") => {
                for unit in &words[1..] {
                    let unit = if unit.contains('.') { (*unit).to_string() } else { format!("{unit}.service") };
                    self.report.enabled.insert(unit);
                }
                self.did("services");
                YES
            }
            Some(&"was-enabled") => YES,
            Some(&("debian-installed" | "is-enabled" | "is-active")) => NO,
            _ => YES,
        }
    }

    fn copy_file(&mut self, from: &str, to: &str, keep_time: bool) -> Result<()> {
        let Some(mut entry) = self.root.entry(from).cloned() else { return Ok(()) };
        if matches!(entry.kind, Kind::Hardlink { .. }) || entry.is_directory() {
            return Ok(());
        }
        let (owner, mtime) = ((entry.uid, entry.gid), entry.mtime);
        entry.mode &= if keep_time { 0o7777 } else { 0o777 };
        self.root.insert(to, entry, owner)?;
        if keep_time {
            let at = self.root.resolve(to, false)?;
            if let Some(entry) = self.root.tree.get_mut(&at) {
                entry.mtime = mtime;
            }
        }
        Ok(())
    }

    fn copy(&mut self, command: &str, args: &[String]) -> Result<Status> {
        let valued = ["-m", "--mode", "-o", "-g", "--owner", "--group", "-S"];
        let mut words = operands(args, &valued);
        let mode = option(args, &["-m", "--mode"]).and_then(|m| u32::from_str_radix(m, 8).ok());
        if command == "install" && has(args, &["-d", "--directory"]) {
            let owner = option(args, &["-o", "--owner"]).unwrap_or("root");
            let group = option(args, &["-g", "--group"]).unwrap_or("root");
            let found = self.accounts.owner(&format!("{owner}:{group}"));
            let Some((Some(uid), Some(gid))) = found else {
                self.left(format!("install -d for {owner}:{group}"));
                return Ok(None);
            };
            for dir in words.into_iter().filter(|d| d.starts_with('/')) {
                self.root.directory(dir, mode.unwrap_or(0o755), (uid, gid))?;
            }
            return Ok(YES);
        }
        let Some(to) = words.pop().map(String::from) else { return Ok(None) };
        if !to.starts_with('/') || words.is_empty() {
            return Ok(None);
        }
        for from in words.into_iter().map(String::from).collect::<Vec<_>>() {
            let target = if self.root.is_directory(&to) {
                joined(&to, from.rsplit('/').next().unwrap_or_default())
            } else {
                to.clone()
            };
            if self.root.is_directory(&from) {
                self.left(format!("{command} of the directory {from}"));
                return Ok(None);
            }
            let as_it_is = command == "mv"
                || args.iter().any(|a| a.starts_with('-') && !a.starts_with("--") && a.contains(['d', 'a', 'P']));
            if as_it_is
                && let Some(entry) = self.root.tree.get(&self.root.resolve(&from, false)?).cloned()
                && matches!(entry.kind, Kind::Symlink { .. })
            {
                let owner = (entry.uid, entry.gid);
                self.root.insert(&target, entry, owner)?;
                if command == "mv" {
                    let at = self.root.resolve(&from, false)?;
                    self.root.tree.remove(&at);
                }
                self.did("links");
                continue;
            }
            if self.root.entry(&from).is_none() {
                return Ok(NO);
            }
            let keep = command == "mv"
                || args.iter().any(|a| a.starts_with('-') && !a.starts_with("--") && a.contains(['p', 'a']));
            self.copy_file(&from, &target, keep)?;
            if let (Some(mode), Ok(at)) = (mode, self.root.resolve(&target, true))
                && let Some(entry) = self.root.tree.get_mut(&at)
            {
                entry.mode = mode;
            }
            if command == "mv" {
                let at = self.root.resolve(&from, false)?;
                self.root.tree.remove(&at);
            }
            self.did("files");
        }
        Ok(YES)
    }

    fn link(&mut self, args: &[String]) -> Result<Status> {
        let words = plain(args);
        let flag = |c: char| args.iter().any(|a| a.starts_with('-') && !a.starts_with("--") && a.contains(c));
        let [target, at] = words.as_slice() else { return Ok(None) };
        if !flag('s') || !at.starts_with('/') {
            self.left(format!("ln to {at}"));
            return Ok(None);
        }
        let at = if self.root.is_directory(at) && !flag('n') && !flag('T') {
            joined(at, target.trim_end_matches('/').rsplit('/').next().unwrap_or_default())
        } else {
            (*at).to_string()
        };
        if self.root.exists(&at) && !flag('f') {
            return Ok(NO);
        }
        self.root.link(&at, target)?;
        self.did("links");
        Ok(YES)
    }

    fn metadata(&mut self, command: &str, args: &[String]) -> Result<Status> {
        let words = plain(args);
        let Some((what, paths)) = words.split_first() else { return Ok(None) };
        let recursive = has(args, &["-R", "--recursive"]);
        let owner = match command {
            "chown" => self.accounts.owner(what),
            "chgrp" => self.accounts.owner(&format!(":{what}")),
            _ => None,
        };
        for path in paths.iter().filter(|p| p.starts_with('/')) {
            let at = self.root.resolve(path, !has(args, &["-h", "--no-dereference"]))?;
            let all: Vec<TreePath> =
                if recursive { self.root.below(&at).map(|(p, _)| p.clone()).collect() } else { vec![at] };
            for at in all {
                let Some(entry) = self.root.tree.get_mut(&at) else { continue };
                match (command, owner) {
                    ("chmod", _) => match mode(entry, what) {
                        Some(bits) => entry.mode = bits,
                        None => {
                            self.left(format!("chmod {what} of {path}"));
                            return Ok(None);
                        }
                    },
                    (_, Some((uid, gid))) => {
                        entry.uid = uid.unwrap_or(entry.uid);
                        entry.gid = gid.unwrap_or(entry.gid);
                    }
                    (_, None) => {
                        self.left(format!("{command} {what} of {path}: there is no such account"));
                        return Ok(None);
                    }
                }
            }
            self.did("owners and modes");
        }
        Ok(YES)
    }

    fn capability(&mut self, args: &[String]) -> Result<Status> {
        let words = plain(args);
        let [text, path] = words.as_slice() else { return Ok(None) };
        let at = self.root.resolve(path, true)?;
        let (Some(value), Some(entry)) = (capability(text), self.root.tree.get_mut(&at)) else {
            self.left(format!("setcap {text} of {path}"));
            return Ok(None);
        };
        entry.xattrs.insert(b"security.capability".to_vec(), value);
        self.did("capabilities");
        Ok(YES)
    }

    /// Only plain words are looked for.
    fn grep(&mut self, args: &[String]) -> Result<Status> {
        let words = plain(args);
        let [pattern, file] = words.as_slice() else { return Ok(None) };
        if pattern.contains(['*', '[', '\\', '.', '$', '(', '|', '+', '?']) {
            return Ok(None);
        }
        let Some(bytes) = self.root.read(file)? else { return Ok(NO) };
        let text = String::from_utf8_lossy(&bytes);
        Ok(Some(match pattern.strip_prefix('^') {
            Some(start) => text.lines().any(|l| l.starts_with(start)),
            None => text.contains(pattern),
        }))
    }
}

/// Mode bits by number or by letters.
fn mode(entry: &Entry, text: &str) -> Option<u32> {
    if let Ok(bits) = u32::from_str_radix(text, 8) {
        return Some(bits & 0o7777);
    }
    let mut out = entry.mode;
    for clause in text.split(',') {
        let at = clause.find(['+', '-', '='])?;
        let (who, rest) = clause.split_at(at);
        let mut mask = 0;
        for c in if who.is_empty() { "a" } else { who }.chars() {
            mask |= match c {
                'u' => 0o4700,
                'g' => 0o2070,
                'o' => 0o0007,
                'a' => 0o6777,
                _ => return None,
            };
        }
        let mut bits = 0;
        for c in rest[1..].chars() {
            bits |= match c {
                'r' => 0o444,
                'w' => 0o222,
                'x' => 0o111,
                'X' if entry.is_directory() || entry.mode & 0o111 != 0 => 0o111,
                'X' => 0,
                's' => 0o6000,
                't' => 0o1000,
                _ => return None,
            };
        }
        let sticky = bits & 0o1000;
        let bits = bits & mask | sticky;
        out = match rest.as_bytes()[0] {
            b'+' => out | bits,
            b'-' => out & !bits,
            _ => out & !(mask & 0o777) | bits,
        };
    }
    Some(out)
}

const CAPABILITIES: [&str; 41] = [
    "chown",
    "dac_override",
    "dac_read_search",
    "fowner",
    "fsetid",
    "kill",
    "setgid",
    "setuid",
    "setpcap",
    "linux_immutable",
    "net_bind_service",
    "net_broadcast",
    "net_admin",
    "net_raw",
    "ipc_lock",
    "ipc_owner",
    "sys_module",
    "sys_rawio",
    "sys_chroot",
    "sys_ptrace",
    "sys_pacct",
    "sys_admin",
    "sys_boot",
    "sys_nice",
    "sys_resource",
    "sys_time",
    "sys_tty_config",
    "mknod",
    "lease",
    "audit_write",
    "audit_control",
    "setfcap",
    "mac_override",
    "mac_admin",
    "syslog",
    "wake_alarm",
    "block_suspend",
    "audit_read",
    "perfmon",
    "bpf",
    "checkpoint_restore",
];

/// `cap_net_raw+ep` as the attribute has it (version 2).
fn capability(text: &str) -> Option<Vec<u8>> {
    let at = text.find(['+', '='])?;
    let (names, flags) = (&text[..at], &text[at + 1..]);
    let mut bits = 0u64;
    for name in names.split(',') {
        bits |= 1 << CAPABILITIES.iter().position(|c| name.strip_prefix("cap_") == Some(*c))?;
    }
    let permitted = if flags.contains('p') { bits } else { 0 };
    let inheritable = if flags.contains('i') { bits } else { 0 };
    let mut out = (0x0200_0000u32 | u32::from(flags.contains('e'))).to_le_bytes().to_vec();
    for half in [0, 32] {
        out.extend(((permitted >> half) as u32).to_le_bytes());
        out.extend(((inheritable >> half) as u32).to_le_bytes());
    }
    Some(out)
}
