//! Everything a step's child needs, made before the fork.

use crate::{Fixture, MANY_USERS, SandboxError, Step, Users};
use std::collections::BTreeSet;
use std::ffi::CString;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// One operation that puts the root together, in order.
pub(crate) enum Operation {
    Directory(CString),
    EmptyFile(CString),
    Bind { from: CString, to: CString, read_only: bool },
    Symlink { target: CString, at: CString },
    Text { text: Vec<u8>, at: CString },
    Tmpfs { at: CString, options: CString },
    Proc(CString),
}

/// Contents of the id map files: inside, user 0 is the caller.
pub(crate) struct IdMaps {
    pub(crate) uid: Vec<u8>,
    pub(crate) gid: Vec<u8>,
}

impl IdMaps {
    pub(crate) fn of_caller() -> Self {
        // SAFETY: these calls cannot fail and touch no memory.
        let (uid, gid) = unsafe { (libc::geteuid(), libc::getegid()) };
        IdMaps { uid: format!("0 {uid} 1\n").into_bytes(), gid: format!("0 {gid} 1\n").into_bytes() }
    }
}

/// Numbers of users and groups outside that a namespace with many users has.
pub(crate) struct Ranges {
    /// Inside, outside, how many: for users, for groups.
    uid: Vec<(u32, u32, u32)>,
    gid: Vec<(u32, u32, u32)>,
    /// The programs that write maps for an ordinary user.
    helpers: Option<[PathBuf; 2]>,
}

impl Ranges {
    pub(crate) fn of_caller() -> Result<Self, String> {
        // SAFETY: these calls cannot fail and touch no memory.
        let (uid, gid) = unsafe { (libc::geteuid(), libc::getegid()) };
        if uid == 0 {
            let all = vec![(0, 0, MANY_USERS)];
            return Ok(Ranges { uid: all.clone(), gid: all, helpers: None });
        }
        let find = |name: &str| {
            ["/usr/bin", "/usr/local/bin", "/bin"].iter().map(|d| Path::new(d).join(name)).find(|p| p.is_file())
        };
        let (Some(users), Some(groups)) = (find("newuidmap"), find("newgidmap")) else {
            return Err("an ordinary user needs newuidmap and newgidmap to have many users inside: install them (on \
                        Debian: uidmap), or build as root"
                .into());
        };
        let name = std::fs::read_to_string("/etc/passwd")
            .unwrap_or_default()
            .lines()
            .find(|l| l.split(':').nth(2) == Some(&uid.to_string()))
            .and_then(|l| l.split(':').next())
            .unwrap_or_default()
            .to_string();
        let range = |file: &str| {
            let text = std::fs::read_to_string(file).unwrap_or_default();
            let found = text.lines().find_map(|line| {
                let mut fields = line.split(':');
                let owner = fields.next()?;
                let (start, count): (u32, u32) = (fields.next()?.parse().ok()?, fields.next()?.trim().parse().ok()?);
                let mine = !owner.is_empty() && owner == name || owner == uid.to_string();
                (mine && count >= MANY_USERS - 1).then_some(start)
            });
            found.ok_or_else(|| format!("{file} gives this user no {MANY_USERS} numbers: add a line, or build as root"))
        };
        let map = |own: u32, start: u32| vec![(0, own, 1), (1, start, MANY_USERS - 1)];
        Ok(Ranges {
            uid: map(uid, range("/etc/subuid")?),
            gid: map(gid, range("/etc/subgid")?),
            helpers: Some([users, groups]),
        })
    }

    /// Writes the maps of a process that has made its namespace and waits.
    pub(crate) fn write(&self, pid: libc::pid_t) -> Result<(), String> {
        for (index, (name, map)) in [("uid_map", &self.uid), ("gid_map", &self.gid)].into_iter().enumerate() {
            match &self.helpers {
                None => {
                    let text: String = map.iter().map(|(a, b, n)| format!("{a} {b} {n}\n")).collect();
                    std::fs::write(format!("/proc/{pid}/{name}"), text)
                        .map_err(|e| format!("cannot write {name}: {e}"))?;
                }
                Some(helpers) => {
                    let numbers = map.iter().flat_map(|(a, b, n)| [a.to_string(), b.to_string(), n.to_string()]);
                    let run = std::process::Command::new(&helpers[index]).arg(pid.to_string()).args(numbers).output();
                    match run {
                        Ok(output) if output.status.success() => {}
                        Ok(output) => {
                            let said = String::from_utf8_lossy(&output.stderr).trim().to_string();
                            return Err(format!("{} failed: {said}", helpers[index].display()));
                        }
                        Err(e) => return Err(format!("{} cannot be started: {e}", helpers[index].display())),
                    }
                }
            }
        }
        Ok(())
    }
}

pub(crate) struct Plan {
    /// Descriptors to say "ready" on and to wait for "go" on, when somebody else writes the maps.
    pub(crate) meeting: Option<(libc::c_int, libc::c_int)>,
    /// Capabilities the program keeps.
    pub(crate) capabilities: u64,
    /// Whether the root stays writable.
    pub(crate) writable: bool,
    pub(crate) maps: IdMaps,
    pub(crate) scratch: CString,
    pub(crate) operations: Vec<Operation>,
    pub(crate) hostname: CString,
    pub(crate) umask: libc::mode_t,
    pub(crate) random_addresses: bool,
    pub(crate) directory: CString,
    _strings: Vec<CString>,
    /// Null-terminated arrays into `_strings`.
    pub(crate) argv: Vec<*const libc::c_char>,
    pub(crate) envp: Vec<*const libc::c_char>,
}

fn c_string(bytes: &[u8]) -> Result<CString, SandboxError> {
    CString::new(bytes)
        .map_err(|_| SandboxError::Step(format!("`{}` holds a NUL byte", String::from_utf8_lossy(bytes))))
}

/// Host devices every step may use.
const DEVICES: [&str; 5] = ["null", "zero", "full", "random", "urandom"];

impl Plan {
    pub(crate) fn new(step: &Step) -> Result<Plan, SandboxError> {
        let scratch = step.scratch.as_os_str().as_bytes();
        let mut builder = Builder { scratch, operations: Vec::new(), made: BTreeSet::new() };
        if let Some(root) = &step.root {
            let (from, to) = (c_string(root.as_os_str().as_bytes())?, c_string(scratch)?);
            builder.operations.push(Operation::Bind { from, to, read_only: false });
            for covered in ["/sys", "/run"] {
                builder.tmpfs(covered, "mode=0755")?;
            }
        }
        for fixture in &step.fixtures {
            match fixture {
                Fixture::ReadOnly { from, at } => builder.bind(from, at, true)?,
                Fixture::Writable { from, at } => builder.bind(from, at, false)?,
                Fixture::Symlink { target, at } => {
                    builder.parents(at)?;
                    let target = c_string(target.as_os_str().as_bytes())?;
                    let at = builder.inside(at)?;
                    builder.operations.push(Operation::Symlink { target, at });
                }
                Fixture::Text { text, at } => {
                    builder.parents(at)?;
                    let at = builder.inside(at)?;
                    builder.operations.push(Operation::Text { text: text.clone().into_bytes(), at });
                }
            }
        }
        builder.tmpfs("/dev", "mode=0755")?;
        for device in DEVICES {
            builder.bind(&Path::new("/dev").join(device), &Path::new("/dev").join(device), false)?;
        }
        for (name, target) in [
            ("fd", "/proc/self/fd"),
            ("stdin", "/proc/self/fd/0"),
            ("stdout", "/proc/self/fd/1"),
            ("stderr", "/proc/self/fd/2"),
        ] {
            let at = builder.inside(&Path::new("/dev").join(name))?;
            builder.operations.push(Operation::Symlink { target: c_string(target.as_bytes())?, at });
        }
        builder.tmpfs("/dev/shm", "mode=1777")?;
        builder.tmpfs("/tmp", "mode=1777")?;
        builder.directory(Path::new("/proc"))?;
        let proc = builder.inside(Path::new("/proc"))?;
        builder.operations.push(Operation::Proc(proc));

        let mut strings = Vec::new();
        for argument in &step.command {
            strings.push(c_string(argument.as_bytes())?);
        }
        for (name, value) in &step.environment {
            strings.push(c_string(format!("{name}={value}").as_bytes())?);
        }
        if step.command.is_empty() {
            return Err(SandboxError::Step("it has no command".into()));
        }
        let pointers = |strings: &[CString]| -> Vec<*const libc::c_char> {
            strings.iter().map(|s| s.as_ptr()).chain([std::ptr::null()]).collect()
        };
        let (argv, envp) = strings.split_at(step.command.len());
        // chown, dac_override, dac_read_search, fowner, fsetid, kill, setgid, setuid, sys_chroot, setfcap
        let many = [0, 1, 2, 3, 4, 5, 6, 7, 18, 31].iter().fold(0u64, |all, bit| all | 1 << bit);
        Ok(Plan {
            meeting: None,
            capabilities: if step.users == Users::Many { many } else { 0 },
            writable: step.root.is_some(),
            maps: IdMaps::of_caller(),
            scratch: c_string(scratch)?,
            operations: builder.operations,
            hostname: c_string(step.hostname.as_bytes())?,
            umask: step.umask,
            random_addresses: step.random_addresses,
            directory: c_string(step.directory.as_os_str().as_bytes())?,
            argv: pointers(argv),
            envp: pointers(envp),
            _strings: strings,
        })
    }
}

struct Builder<'a> {
    scratch: &'a [u8],
    operations: Vec<Operation>,
    made: BTreeSet<Vec<u8>>,
}

impl Builder<'_> {
    /// Where a path of the root is while it is put together.
    fn inside(&self, at: &Path) -> Result<CString, SandboxError> {
        if !at.is_absolute() || at.components().any(|c| c == std::path::Component::ParentDir) {
            return Err(SandboxError::Step(format!("`{}` is not an absolute path without `..`", at.display())));
        }
        c_string(&[self.scratch, at.as_os_str().as_bytes()].concat())
    }

    fn directory(&mut self, at: &Path) -> Result<(), SandboxError> {
        for ancestor in at.ancestors().collect::<Vec<_>>().into_iter().rev() {
            if ancestor != Path::new("/") && self.made.insert(ancestor.as_os_str().as_bytes().to_vec()) {
                let path = self.inside(ancestor)?;
                self.operations.push(Operation::Directory(path));
            }
        }
        Ok(())
    }

    fn parents(&mut self, at: &Path) -> Result<(), SandboxError> {
        at.parent().map_or(Ok(()), |parent| self.directory(parent))
    }

    fn bind(&mut self, from: &Path, at: &Path, read_only: bool) -> Result<(), SandboxError> {
        let meta = std::fs::metadata(from)
            .map_err(|e| SandboxError::Step(format!("its input {} cannot be read: {e}", from.display())))?;
        let to = self.inside(at)?;
        if meta.is_dir() {
            self.directory(at)?;
        } else {
            self.parents(at)?;
            self.operations.push(Operation::EmptyFile(to.clone()));
        }
        let from = c_string(from.as_os_str().as_bytes())?;
        self.operations.push(Operation::Bind { from, to, read_only });
        Ok(())
    }

    fn tmpfs(&mut self, at: &str, options: &str) -> Result<(), SandboxError> {
        self.directory(Path::new(at))?;
        let at = self.inside(Path::new(at))?;
        self.operations.push(Operation::Tmpfs { at, options: c_string(options.as_bytes())? });
        Ok(())
    }
}
