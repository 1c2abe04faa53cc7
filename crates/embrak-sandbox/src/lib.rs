//! Running one step in isolation on Linux.
//!
//! A step sees a new root that holds only what it is given: read-only inputs, writable work directories, a
//! private `/tmp`, a minimal `/dev`, its own `/proc`, and nothing else; no network, no other processes, a fixed
//! user, host name and environment. It needs no privilege: the namespaces are made inside a user namespace.
//!
//! ```text
//!   caller --fork--> warden: user, mount, pid, ipc, uts, net namespaces; id maps
//!                      `--fork--> init (pid 1): mounts, pivot_root, drops every capability
//!                                   `--fork--> the step's program
//! ```
//!
//! The init waits for the program and reaps orphans; when it ends, the kernel ends all that is left. When the
//! caller stops the step or dies, the warden is killed and the init with it.
//!
//! This is the one crate that talks to the kernel directly. Between fork and exec only system calls are made:
//! everything that allocates is prepared before (`plan.rs`), everything after runs from prepared memory
//! (`child.rs`).

mod child;
mod plan;

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

pub use child::Stage;

/// Something in the step's root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fixture {
    /// A directory or file of the host, read-only.
    ReadOnly {
        /// On the host.
        from: PathBuf,
        /// In the root, absolute.
        at: PathBuf,
    },
    /// A directory of the host, writable.
    Writable {
        /// On the host.
        from: PathBuf,
        /// In the root, absolute.
        at: PathBuf,
    },
    /// A symbolic link.
    Symlink {
        /// What it points to.
        target: PathBuf,
        /// In the root, absolute.
        at: PathBuf,
    },
    /// A small file.
    Text {
        /// Its text.
        text: String,
        /// In the root, absolute.
        at: PathBuf,
    },
}

/// Which users there are inside.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Users {
    /// One: 0, who is the caller outside and has no capability.
    #[default]
    One,
    /// So many from 0 on, and 0 may give files away, change its own number and set capabilities of files.
    Many,
}

/// Users a caller has for namespaces: how many from 0 on.
pub const MANY_USERS: u32 = 65536;

/// Whether the caller can have many users inside, and what is missing when it cannot.
///
/// # Errors
/// What is missing, and what to do.
pub fn many_users() -> Result<(), String> {
    plan::Ranges::of_caller().map(drop)
}

/// One program to run in isolation.
#[derive(Debug, Clone)]
pub struct Step {
    /// A directory of the host that is the whole root, writable, in place of one put together; `/dev`, `/proc`, `/sys`,
    /// `/run` and `/tmp` in it have to be there as directories and are covered.
    pub root: Option<PathBuf>,
    /// Which users there are.
    pub users: Users,
    /// An empty directory of the host where the root is put together; nothing is left in it.
    pub scratch: PathBuf,
    /// What the root holds besides `/dev`, `/proc` and `/tmp`.
    pub fixtures: Vec<Fixture>,
    /// The program, by its path in the root, and its arguments.
    pub command: Vec<String>,
    /// The whole environment.
    pub environment: BTreeMap<String, String>,
    /// Working directory in the root.
    pub directory: PathBuf,
    /// Host name.
    pub hostname: String,
    /// Mask of new files' modes; 0022 usually.
    pub umask: u32,
    /// Whether memory is laid out at random, and not at the same addresses each time.
    pub random_addresses: bool,
    /// How long it may take.
    pub limit: Duration,
}

impl Default for Step {
    fn default() -> Self {
        Step {
            root: None,
            users: Users::default(),
            scratch: PathBuf::new(),
            fixtures: Vec::new(),
            command: Vec::new(),
            environment: BTreeMap::new(),
            directory: PathBuf::new(),
            hostname: String::new(),
            umask: 0o022,
            random_addresses: false,
            limit: Duration::default(),
        }
    }
}

/// How a step ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It ended by itself with this status; 0 is success.
    Exited(i32),
    /// It was killed by this signal.
    Signalled(i32),
    /// It took longer than its limit and was killed with all it had started.
    TimedOut,
    /// The caller asked to stop, and it was killed with all it had started.
    Stopped,
}

/// Why a step could not be run.
#[derive(Debug, thiserror::Error)]
pub enum SandboxError {
    /// The kernel or its configuration forbids what isolation needs.
    #[error("cannot isolate a build step: {stage}: {source}; {}", stage.advice())]
    Setup {
        /// What was being done.
        stage: Stage,
        /// The kernel's answer.
        source: io::Error,
    },
    /// Something about the step itself is wrong.
    #[error("cannot run the step: {0}")]
    Step(String),
    /// A system call outside the isolation failed.
    #[error("cannot run the step: {doing}: {source}")]
    Io {
        /// What was being done.
        doing: &'static str,
        /// Why it failed.
        source: io::Error,
    },
}

/// Runs a step to its end; its standard output and error go to `output`.
///
/// # Errors
/// It could not be started in isolation. There is no fall-back to running it without.
pub fn run(step: &Step, output: &File, stop: &AtomicBool) -> Result<Outcome, SandboxError> {
    let mut plan = plan::Plan::new(step)?;
    let (mut reader, writer) = pipe()?;
    // With many users, the maps are written from outside once the namespace is there.
    let ranges = match step.users {
        Users::One => None,
        Users::Many => Some(plan::Ranges::of_caller().map_err(SandboxError::Step)?),
    };
    let mut meeting = match &ranges {
        None => None,
        Some(_) => Some((pipe()?, pipe()?)),
    };
    plan.meeting = meeting.as_ref().map(|((_, ready), (go, _))| (ready.as_raw_fd(), go.as_raw_fd()));
    // SAFETY: the child makes system calls only, on memory prepared above, and never returns.
    let warden = unsafe {
        match libc::fork() {
            -1 => return Err(SandboxError::Io { doing: "fork", source: io::Error::last_os_error() }),
            0 => child::warden(&plan, output.as_raw_fd(), writer.as_raw_fd()),
            pid => pid,
        }
    };
    drop(writer);
    if let (Some(ranges), Some(((mut ready, child_ready), (child_go, go)))) = (&ranges, meeting.take()) {
        drop((child_ready, child_go));
        // Nothing to read means that it failed before, which its report tells.
        if ready.read(&mut [0; 1]).is_ok_and(|n| n == 1) {
            let written = ranges.write(warden);
            if let Err(what) = written {
                // SAFETY: the warden is our child and not yet waited for.
                unsafe { libc::kill(warden, libc::SIGKILL) };
                wait_for(warden);
                return Err(SandboxError::Step(what));
            }
            use std::io::Write;
            let _ = File::from(go).write_all(b"g");
        }
    }
    let deadline = Instant::now() + step.limit;
    let ended = loop {
        match readable(&reader, Duration::from_millis(50)) {
            Ok(true) => break None,
            Ok(false) => {}
            Err(source) => break Some(Err(SandboxError::Io { doing: "wait for the step", source })),
        }
        if stop.load(Ordering::Relaxed) {
            break Some(Ok(Outcome::Stopped));
        }
        if Instant::now() >= deadline {
            break Some(Ok(Outcome::TimedOut));
        }
    };
    if ended.is_some() {
        // SAFETY: the warden is our child and not yet waited for, so the number is still its own.
        unsafe { libc::kill(warden, libc::SIGKILL) };
    }
    let mut report = Vec::new();
    let read = if ended.is_none() { reader.read_to_end(&mut report) } else { Ok(0) };
    wait_for(warden);
    if let Some(ended) = ended {
        // The init dies with the warden; its end of the pipe closes when all of it is gone.
        let _ = reader.read_to_end(&mut report);
        return ended;
    }
    read.map_err(|source| SandboxError::Io { doing: "read the step's result", source })?;
    child::Report::parse(&report)
}

/// Whether there is something to read, or nothing will come any more, within the time.
fn readable(reader: &File, time: Duration) -> io::Result<bool> {
    let mut poll = libc::pollfd { fd: reader.as_raw_fd(), events: libc::POLLIN, revents: 0 };
    // SAFETY: one valid pollfd is passed.
    match unsafe { libc::poll(&raw mut poll, 1, time.as_millis() as libc::c_int) } {
        -1 => {
            let error = io::Error::last_os_error();
            if error.kind() == io::ErrorKind::Interrupted { Ok(false) } else { Err(error) }
        }
        n => Ok(n > 0),
    }
}

fn wait_for(pid: libc::pid_t) {
    let mut status = 0;
    // SAFETY: `status` is valid for writing.
    while unsafe { libc::waitpid(pid, &raw mut status, 0) } == -1
        && io::Error::last_os_error().kind() == io::ErrorKind::Interrupted
    {}
}

fn pipe() -> Result<(File, OwnedFd), SandboxError> {
    let mut ends = [0; 2];
    // SAFETY: `ends` has room for the two descriptors, which are ours alone when the call succeeds.
    unsafe {
        if libc::pipe2(ends.as_mut_ptr(), libc::O_CLOEXEC) == -1 {
            return Err(SandboxError::Io { doing: "make a pipe", source: io::Error::last_os_error() });
        }
        Ok((File::from_raw_fd(ends[0]), OwnedFd::from_raw_fd(ends[1])))
    }
}

/// Starts a program of the host with another umask and host name than ours, to show that neither matters.
///
/// # Errors
/// It cannot be started.
pub fn spawn_varied(
    command: &mut std::process::Command,
    umask: u32,
    hostname: &str,
) -> io::Result<std::process::Child> {
    use std::os::unix::process::CommandExt;
    let hostname = std::ffi::CString::new(hostname)?;
    let maps = plan::IdMaps::of_caller();
    // SAFETY: the closure makes system calls only, on memory prepared above.
    unsafe {
        command.pre_exec(move || {
            libc::umask(umask);
            child::vary_hostname(&hostname, &maps)
        });
    }
    command.spawn()
}
