//! What runs between fork and exec: system calls on prepared memory, nothing that allocates or locks.

use crate::plan::{IdMaps, Operation, Plan};
use crate::{Outcome, SandboxError};
use libc::{c_char, c_int, c_ulong};
use std::ffi::{CStr, CString};
use std::fmt;
use std::io;

/// What was being done when isolation failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum Stage {
    /// Making the namespaces.
    Namespaces = 1,
    /// Writing the id maps of the user namespace.
    IdMaps,
    /// Forking inside.
    Fork,
    /// Making the new root's filesystem.
    Root,
    /// Mounting an input into it.
    Mount,
    /// Mounting `/proc`.
    Proc,
    /// Making the new root the root.
    Pivot,
    /// Giving up capabilities.
    Capabilities,
    /// Changing to the working directory.
    Directory,
    /// Starting the program.
    Exec,
}

const STAGES: [Stage; 10] = [
    Stage::Namespaces,
    Stage::IdMaps,
    Stage::Fork,
    Stage::Root,
    Stage::Mount,
    Stage::Proc,
    Stage::Pivot,
    Stage::Capabilities,
    Stage::Directory,
    Stage::Exec,
];

impl Stage {
    pub(crate) fn advice(self) -> &'static str {
        match self {
            Stage::Namespaces | Stage::IdMaps => {
                "unprivileged user namespaces seem to be switched off: look at user.max_user_namespaces and \
                 kernel.apparmor_restrict_unprivileged_userns (sysctl), or at the container's seccomp profile"
            }
            Stage::Proc => "inside a container /proc may be masked: allow it to be mounted in new namespaces",
            Stage::Exec => "is the shell among the toolchain's files?",
            Stage::Directory | Stage::Fork => "look at the limits of this user (ulimit -a)",
            _ => "the kernel refused a mount inside a user namespace: look at its log (dmesg)",
        }
    }
}

impl fmt::Display for Stage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Stage::Namespaces => "making user, mount, pid, ipc, uts and network namespaces",
            Stage::IdMaps => "writing the id maps of the user namespace",
            Stage::Fork => "starting a process inside",
            Stage::Root => "making the new root",
            Stage::Mount => "mounting an input into the new root",
            Stage::Proc => "mounting /proc",
            Stage::Pivot => "changing to the new root",
            Stage::Capabilities => "giving up capabilities",
            Stage::Directory => "changing to the working directory",
            Stage::Exec => "starting the program",
        })
    }
}

/// What comes back through the pipe: two numbers, a stage and an errno, or 0 and a wait status.
pub(crate) struct Report;

impl Report {
    pub(crate) fn parse(bytes: &[u8]) -> Result<Outcome, SandboxError> {
        let number = |at: usize| bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_ne_bytes);
        let (Some(stage), Some(value)) = (number(0), number(4)) else {
            return Err(SandboxError::Step("it was killed from outside".into()));
        };
        match STAGES.iter().find(|s| **s as u32 == stage) {
            Some(stage) => {
                Err(SandboxError::Setup { stage: *stage, source: io::Error::from_raw_os_error(value as i32) })
            }
            None => {
                let status = value as c_int;
                if libc::WIFSIGNALED(status) {
                    Ok(Outcome::Signalled(libc::WTERMSIG(status)))
                } else {
                    Ok(Outcome::Exited(libc::WEXITSTATUS(status)))
                }
            }
        }
    }
}

unsafe fn report(pipe: c_int, stage: u32, value: u32) {
    let mut message = [0u8; 8];
    message[..4].copy_from_slice(&stage.to_ne_bytes());
    message[4..].copy_from_slice(&value.to_ne_bytes());
    // SAFETY: eight bytes of `message` are readable; a pipe takes so few at once.
    unsafe { libc::write(pipe, message.as_ptr().cast(), message.len()) };
}

unsafe fn fail(pipe: c_int, stage: Stage) -> ! {
    // SAFETY: errno is this thread's; `_exit` does not return.
    unsafe {
        report(pipe, stage as u32, *libc::__errno_location() as u32);
        libc::_exit(125)
    }
}

/// Writes a whole file of /proc.
unsafe fn write_file(path: &CStr, content: &[u8]) -> bool {
    // SAFETY: `path` ends in NUL and `content` is readable.
    unsafe {
        let file = libc::open(path.as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC);
        if file == -1 {
            return false;
        }
        let written = libc::write(file, content.as_ptr().cast(), content.len());
        libc::close(file);
        written == content.len() as isize
    }
}

unsafe fn write_maps(maps: &IdMaps) -> bool {
    // SAFETY: see `write_file`.
    unsafe {
        // An ordinary user may map its group only after giving up setgroups; root may do without.
        write_file(c"/proc/self/setgroups", b"deny");
        write_file(c"/proc/self/uid_map", &maps.uid) && write_file(c"/proc/self/gid_map", &maps.gid)
    }
}

/// Gives the calling process another host name, in namespaces of its own.
pub(crate) unsafe fn vary_hostname(hostname: &CString, maps: &IdMaps) -> io::Result<()> {
    // SAFETY: system calls on valid memory.
    unsafe {
        if libc::unshare(libc::CLONE_NEWUSER | libc::CLONE_NEWUTS) == -1
            || !write_maps(maps)
            || libc::sethostname(hostname.as_ptr(), hostname.as_bytes().len()) == -1
        {
            return Err(io::Error::last_os_error());
        }
    }
    Ok(())
}

/// The first process: makes the namespaces, forks the init into them and stays until it ends.
pub(crate) unsafe fn warden(plan: &Plan, output: c_int, pipe: c_int) -> ! {
    // SAFETY: only async-signal-safe calls, on memory of `plan`.
    unsafe {
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
        // A terminal's interrupt is for the caller, who then kills us.
        libc::setsid();
        let flags = libc::CLONE_NEWUSER
            | libc::CLONE_NEWNS
            | libc::CLONE_NEWPID
            | libc::CLONE_NEWIPC
            | libc::CLONE_NEWUTS
            | libc::CLONE_NEWNET;
        if libc::unshare(flags) == -1 {
            fail(pipe, Stage::Namespaces);
        }
        match plan.meeting {
            None if write_maps(&plan.maps) => {}
            None => fail(pipe, Stage::IdMaps),
            Some((ready, go)) => {
                let mut answer = [0u8; 1];
                libc::write(ready, c"r".as_ptr().cast(), 1);
                if libc::read(go, answer.as_mut_ptr().cast(), 1) != 1
                    || libc::setgroups(0, std::ptr::null()) == -1
                    || libc::setresgid(0, 0, 0) == -1
                    || libc::setresuid(0, 0, 0) == -1
                {
                    fail(pipe, Stage::IdMaps);
                }
                // Changing one's number makes the process one that nobody may look into; mounts need /proc/self.
                libc::prctl(libc::PR_SET_DUMPABLE, 1, 0, 0, 0);
            }
        }
        // Becoming user 0 inside clears the death signal, so it is asked for again.
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
        match libc::fork() {
            -1 => fail(pipe, Stage::Fork),
            0 => init(plan, output, pipe),
            pid => {
                libc::close(pipe);
                let mut status = 0;
                while libc::waitpid(pid, &raw mut status, 0) == -1 && *libc::__errno_location() == libc::EINTR {}
                libc::_exit(0)
            }
        }
    }
}

unsafe fn mount(from: *const c_char, to: &CStr, kind: *const c_char, flags: c_ulong, options: *const c_char) -> bool {
    // SAFETY: pointers are null or end in NUL.
    unsafe { libc::mount(from, to.as_ptr(), kind, flags, options.cast()) == 0 }
}

unsafe fn make_read_only(path: &CStr, recursive: bool) -> bool {
    let attributes = libc::mount_attr { attr_set: libc::MOUNT_ATTR_RDONLY, attr_clr: 0, propagation: 0, userns_fd: 0 };
    let flags = if recursive { libc::AT_RECURSIVE } else { 0 };
    // SAFETY: `path` ends in NUL; `attributes` has the size passed.
    unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            libc::AT_FDCWD,
            path.as_ptr(),
            flags,
            &raw const attributes,
            size_of::<libc::mount_attr>(),
        ) == 0
    }
}

/// Process 1 of the namespaces: puts the root together, starts the program, reaps until it ends.
unsafe fn init(plan: &Plan, output: c_int, pipe: c_int) -> ! {
    // SAFETY: only async-signal-safe calls, on memory of `plan`.
    unsafe {
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
        libc::umask(0);
        let null = std::ptr::null();
        if !mount(null, c"/", null, libc::MS_REC | libc::MS_PRIVATE, null)
            || !mount(
                c"embrak".as_ptr(),
                &plan.scratch,
                c"tmpfs".as_ptr(),
                libc::MS_NOSUID | libc::MS_NODEV,
                c"mode=0755".as_ptr(),
            )
        {
            fail(pipe, Stage::Root);
        }
        for operation in &plan.operations {
            carry_out(operation, pipe);
        }
        if libc::chdir(plan.scratch.as_ptr()) == -1
            || libc::syscall(libc::SYS_pivot_root, c".".as_ptr(), c".".as_ptr()) == -1
            || libc::umount2(c".".as_ptr(), libc::MNT_DETACH) == -1
            || libc::chdir(c"/".as_ptr()) == -1
            || !plan.writable && !make_read_only(c"/", false)
        {
            fail(pipe, Stage::Pivot);
        }
        libc::sethostname(plan.hostname.as_ptr(), plan.hostname.as_bytes().len());
        libc::setdomainname(c"".as_ptr(), 0);
        give_up_capabilities(plan.capabilities, pipe);
        match libc::fork() {
            -1 => fail(pipe, Stage::Fork),
            0 => program(plan, output, pipe),
            program => loop {
                let mut status = 0;
                let ended = libc::waitpid(-1, &raw mut status, 0);
                if ended == program {
                    // Exit 125 with a report already sent means it could not be started.
                    report(pipe, 0, status as u32);
                    libc::_exit(0);
                }
                if ended == -1 && *libc::__errno_location() != libc::EINTR {
                    libc::_exit(1);
                }
            },
        }
    }
}

unsafe fn carry_out(operation: &Operation, pipe: c_int) {
    // SAFETY: strings end in NUL and live in the plan.
    unsafe {
        let null = std::ptr::null();
        let good = match operation {
            Operation::Directory(path) => {
                libc::mkdir(path.as_ptr(), 0o755) == 0 || *libc::__errno_location() == libc::EEXIST
            }
            Operation::EmptyFile(path) => {
                let file = libc::open(path.as_ptr(), libc::O_CREAT | libc::O_WRONLY | libc::O_CLOEXEC, 0o644);
                file != -1 && libc::close(file) == 0
            }
            Operation::Bind { from, to, read_only } => {
                mount(from.as_ptr(), to, null, libc::MS_BIND | libc::MS_REC, null)
                    && (!read_only || make_read_only(to, true))
            }
            Operation::Symlink { target, at } => libc::symlink(target.as_ptr(), at.as_ptr()) == 0,
            Operation::Text { text, at } => {
                let file = libc::open(at.as_ptr(), libc::O_CREAT | libc::O_WRONLY | libc::O_CLOEXEC, 0o644);
                file != -1
                    && libc::write(file, text.as_ptr().cast(), text.len()) == text.len() as isize
                    && libc::close(file) == 0
            }
            Operation::Tmpfs { at, options } => {
                mount(c"embrak".as_ptr(), at, c"tmpfs".as_ptr(), libc::MS_NOSUID | libc::MS_NODEV, options.as_ptr())
            }
            Operation::Proc(at) => {
                let flags = libc::MS_NOSUID | libc::MS_NODEV | libc::MS_NOEXEC;
                if !mount(c"proc".as_ptr(), at, c"proc".as_ptr(), flags, null) {
                    fail(pipe, Stage::Proc);
                }
                true
            }
        };
        if !good {
            fail(pipe, Stage::Mount);
        }
    }
}

/// Without capabilities, or with those over files alone, the program can undo no mount, though it is user 0 of its
/// namespace.
unsafe fn give_up_capabilities(kept: u64, pipe: c_int) {
    // SAFETY: system calls with plain numbers, and two zeroed structures of the size the kernel expects.
    unsafe {
        for capability in 0..64 {
            if kept >> capability & 1 == 0
                && libc::prctl(libc::PR_CAPBSET_DROP, capability, 0, 0, 0) == -1
                && *libc::__errno_location() != libc::EINVAL
            {
                fail(pipe, Stage::Capabilities);
            }
        }
        // struct __user_cap_header_struct { version; pid } and two struct __user_cap_data_struct.
        let header: [u32; 2] = [0x2008_0522, 0];
        let (low, high) = (kept as u32, (kept >> 32) as u32);
        let none = [low, low, 0, high, high, 0];
        if libc::syscall(libc::SYS_capset, header.as_ptr(), none.as_ptr()) == -1
            || libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == -1
        {
            fail(pipe, Stage::Capabilities);
        }
    }
}

unsafe fn program(plan: &Plan, output: c_int, pipe: c_int) -> ! {
    // SAFETY: only async-signal-safe calls, on memory of `plan`; `argv` and `envp` end in null.
    unsafe {
        libc::umask(plan.umask);
        if libc::chdir(plan.directory.as_ptr()) == -1 {
            fail(pipe, Stage::Directory);
        }
        let input = libc::open(c"/dev/null".as_ptr(), libc::O_RDONLY);
        libc::dup2(input, 0);
        libc::dup2(output, 1);
        libc::dup2(output, 2);
        // Everything else closes at exec; the pipe has to stay open until then to report a failure.
        libc::syscall(libc::SYS_close_range, 3, u32::MAX, libc::CLOSE_RANGE_CLOEXEC);
        let no_core = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
        libc::setrlimit(libc::RLIMIT_CORE, &raw const no_core);
        // The same addresses every time: one thing less that two builds could differ by.
        if !plan.random_addresses {
            libc::personality(libc::ADDR_NO_RANDOMIZE as c_ulong);
        }
        for signal in 1..32 {
            libc::signal(signal, libc::SIG_DFL);
        }
        let mut none: libc::sigset_t = std::mem::zeroed();
        libc::sigemptyset(&raw mut none);
        libc::sigprocmask(libc::SIG_SETMASK, &raw const none, std::ptr::null_mut());
        libc::execve(plan.argv[0], plan.argv.as_ptr(), plan.envp.as_ptr());
        fail(pipe, Stage::Exec)
    }
}
