//! Starting an image in the emulator and watching its console.

use crate::error::{Doing, EngineError, Result};
use crate::events::{Event, Observer};
use serde::Serialize;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc;
use std::time::{Duration, Instant};

/// A text the console has to show.
#[derive(Debug, Clone)]
pub struct ConsoleCheck {
    /// The text.
    pub says: String,
    /// How soon after the start.
    pub within: Duration,
}

/// A kernel started by the emulator itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectStart {
    /// The kernel.
    pub kernel: PathBuf,
    /// Its initial file system.
    pub initrd: PathBuf,
    /// Its command line.
    pub command_line: String,
}

/// How to start an image.
pub struct BootOptions<'a> {
    /// The disk; none when the system lives in its initial file system.
    pub disk: Option<PathBuf>,
    /// Whether the disk is a qcow2 container.
    pub qcow2: bool,
    /// Started without firmware, straight from the kernel.
    pub direct: Option<DirectStart>,
    /// Whether the terminal becomes the console; nothing is checked then.
    pub interactive: bool,
    /// `x86_64` and so on.
    pub architecture: String,
    /// The emulator's name for the machine.
    pub machine: String,
    /// Memory in bytes.
    pub memory: u64,
    /// What the console has to say.
    pub checks: Vec<ConsoleCheck>,
    /// How long it may take in all.
    pub limit: Duration,
    /// Who is told what the console says.
    pub observer: &'a dyn Observer,
    /// Set to stop.
    pub stop: &'a AtomicBool,
}

/// How it went.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct BootReport {
    /// Every check with the seconds after which its text came, or none when it did not in time.
    pub checks: Vec<(String, Option<f64>)>,
    /// Whether the machine switched itself off.
    pub powered_off: bool,
    /// Seconds it ran.
    pub seconds: f64,
    /// All of the console, control sequences left out.
    pub console: String,
}

impl BootReport {
    /// Whether every check was met.
    pub fn good(&self) -> bool {
        self.checks.iter().all(|(_, when)| when.is_some())
    }
}

/// How long a system may go on after it has said all it should, to switch itself off.
const AFTER_CHECKS: Duration = Duration::from_secs(5);

/// UEFI firmware for an architecture, where distributions put it.
fn firmware(architecture: &str) -> Option<PathBuf> {
    let places: &[&str] = match architecture {
        "x86_64" => &[
            "/usr/share/ovmf/OVMF.fd",
            "/usr/share/OVMF/OVMF.fd",
            "/usr/share/edk2/x64/OVMF.4m.fd",
            "/usr/share/qemu/OVMF.fd",
        ],
        "aarch64" => &["/usr/share/qemu-efi-aarch64/QEMU_EFI.fd", "/usr/share/edk2/aarch64/QEMU_EFI.fd"],
        _ => &[],
    };
    places.iter().map(PathBuf::from).find(|p| p.is_file())
}

/// The emulator and the firmware for an architecture.
///
/// # Errors
/// One of them is missing; says what to install.
pub fn find_emulator(architecture: &str) -> Result<(PathBuf, PathBuf)> {
    let name = format!("qemu-system-{architecture}");
    let program = ["/usr/local/bin", "/usr/bin"].iter().map(|d| Path::new(d).join(&name)).find(|p| p.is_file());
    match (program, firmware(architecture)) {
        (Some(program), Some(firmware)) => Ok((program, firmware)),
        (None, _) => Err(EngineError::other(
            format!("the emulator {name} is not installed"),
            "install it and UEFI firmware for it; on Debian: qemu-system-x86 and ovmf",
        )),
        (_, None) => Err(EngineError::other(
            format!("there is no UEFI firmware for {architecture}"),
            "install it; on Debian: ovmf, or qemu-efi-aarch64",
        )),
    }
}

/// Starts a disk and watches it until it switches itself off, or until all checks are met and the limit is over. The
/// disk's file is not changed.
///
/// # Errors
/// The emulator is missing or cannot be started.
pub fn boot(options: &BootOptions<'_>) -> Result<BootReport> {
    let (program, firmware) = find_emulator(&options.architecture)?;
    let mut command = Command::new(&program);
    command.args(["-machine", &options.machine, "-accel", "tcg", "-m", &format!("{}M", options.memory >> 20)]);
    match &options.direct {
        Some(start) => {
            command.arg("-kernel").arg(&start.kernel).arg("-initrd").arg(&start.initrd);
            command.args(["-append", &start.command_line]);
        }
        None => {
            command.arg("-bios").arg(&firmware);
        }
    }
    if let Some(disk) = &options.disk {
        let disk = disk.display().to_string().replace(',', ",,");
        let format = if options.qcow2 { "qcow2" } else { "raw" };
        command.args(["-drive", &format!("file={disk},format={format},if=virtio,snapshot=on")]);
    }
    command.args([
        "-nodefaults",
        "-display",
        "none",
        "-serial",
        "stdio",
        "-monitor",
        "none",
        "-net",
        "none",
        "-no-reboot",
    ]);
    if options.interactive {
        let started = Instant::now();
        let status = command.status().doing("start", &program)?;
        let seconds = started.elapsed().as_secs_f64();
        return Ok(BootReport { checks: vec![], powered_off: status.success(), seconds, console: String::new() });
    }
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let started = Instant::now();
    let mut child = command.spawn().doing("start", &program)?;
    let (sender, receiver) = mpsc::channel::<Vec<u8>>();
    let mut output = child.stdout.take().ok_or_else(|| EngineError::other("the emulator has no output", ""))?;
    let reading = std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(n) = output.read(&mut buffer) {
            if n == 0 || sender.send(buffer[..n].to_vec()).is_err() {
                break;
            }
        }
    });
    let mut watch = Watch {
        options,
        started,
        text: String::new(),
        told: 0,
        met: vec![None; options.checks.len()],
        control: Control::None,
    };
    let mut met_at: Option<Instant> = None;
    let powered_off = loop {
        match receiver.recv_timeout(Duration::from_millis(50)) {
            Ok(bytes) => watch.take(&bytes),
            Err(mpsc::RecvTimeoutError::Timeout) => {}
            Err(mpsc::RecvTimeoutError::Disconnected) => break true,
        }
        // A system that says all it should and goes on running has shown what it is asked for.
        let shown = !options.checks.is_empty() && watch.met.iter().all(Option::is_some);
        if shown && met_at.get_or_insert_with(Instant::now).elapsed() > AFTER_CHECKS {
            break false;
        }
        let hopeless =
            options.checks.iter().zip(&watch.met).any(|(c, met)| met.is_none() && started.elapsed() > c.within);
        if options.stop.load(Ordering::Relaxed) || started.elapsed() > options.limit || hopeless {
            break false;
        }
    };
    if !powered_off {
        let _ = child.kill();
    }
    let status = child.wait().doing("wait for", &program)?;
    let _ = reading.join();
    watch.tell_rest();
    if options.stop.load(Ordering::Relaxed) {
        return Err(EngineError::Interrupted);
    }
    if powered_off && !status.success() {
        let mut said = String::new();
        if let Some(mut errors) = child.stderr.take() {
            let _ = errors.read_to_string(&mut said);
        }
        return Err(EngineError::other(
            format!("the emulator failed ({status}): {}", said.trim()),
            "look at the board's [emulator]",
        ));
    }
    Ok(BootReport {
        checks: options.checks.iter().zip(&watch.met).map(|(c, met)| (c.says.clone(), *met)).collect(),
        powered_off,
        seconds: started.elapsed().as_secs_f64(),
        console: watch.text,
    })
}

/// Where in a terminal's control sequence the console is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Control {
    None,
    Escape,
    Sequence,
}

struct Watch<'a> {
    options: &'a BootOptions<'a>,
    started: Instant,
    text: String,
    /// Up to here lines have been told.
    told: usize,
    met: Vec<Option<f64>>,
    control: Control,
}

impl Watch<'_> {
    fn take(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.control = match (self.control, byte) {
                (Control::None, 0x1b) => Control::Escape,
                (Control::Escape, b'[') => Control::Sequence,
                (Control::Sequence, b'@'..=b'~') | (Control::Escape, _) => Control::None,
                (Control::Sequence, _) => Control::Sequence,
                (Control::None, b'\n' | b'\t' | 0x20..=0x7e) => {
                    self.text.push(char::from(byte));
                    Control::None
                }
                (Control::None, _) => Control::None,
            };
        }
        for (check, met) in self.options.checks.iter().zip(&mut self.met) {
            let elapsed = self.started.elapsed();
            if met.is_none() && elapsed <= check.within && self.text.contains(&check.says) {
                *met = Some(elapsed.as_secs_f64());
            }
        }
        while let Some(end) = self.text[self.told..].find('\n') {
            self.tell(self.told + end);
            self.told += end + 1;
        }
    }

    fn tell(&self, end: usize) {
        let line = self.text[self.told..end].trim_end();
        if !line.is_empty() {
            self.options.observer.event(Event::Console(line.to_string()));
        }
    }

    fn tell_rest(&mut self) {
        self.tell(self.text.len());
    }
}
