//! Showing what happens: bars on a terminal, plain lines elsewhere.

use crate::style::{faint, good, name, warn};
use embrak_engine::{ActionStatus, Event, Observer};
use embrak_model::ByteSize;
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::collections::BTreeSet;
use std::io::IsTerminal;
use std::sync::{Mutex, PoisonError};

/// Tells about progress on standard error.
pub struct Progress {
    /// All bars there are, drawn together.
    bars: MultiProgress,
    bar: Option<ProgressBar>,
    quiet: bool,
    verbose: bool,
    running: Mutex<BTreeSet<String>>,
    /// Bytes on their way, with a bar of their own.
    fetching: Mutex<Option<ProgressBar>>,
}

impl Progress {
    /// Bars when standard error is a terminal.
    pub fn new(quiet: bool, verbose: bool) -> Self {
        let bars = MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(15));
        let bar = (std::io::stderr().is_terminal() && !quiet).then(|| {
            // Drawn with the others once something is planned.
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
            let style = ProgressStyle::with_template("  {bar:24} {pos}/{len} {elapsed} {wide_msg}");
            bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("━╸·"));
            bar
        });
        Progress { bars, bar, quiet, verbose, running: Mutex::default(), fetching: Mutex::default() }
    }

    fn line(&self, text: &str) {
        match &self.bar {
            _ if self.quiet => {}
            Some(_) => self.bars.suspend(|| anstream::eprintln!("{text}")),
            None => anstream::eprintln!("{text}"),
        }
    }

    /// Takes the bar away.
    pub fn done(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }

    fn fetching(&self, items: usize, bytes: u64) {
        let what = format!("{items} {}, {}", if items == 1 { "file" } else { "files" }, ByteSize(bytes).human());
        self.line(&format!("  {}  {what}", name("fetch")));
        if self.bar.is_some() {
            let bar = self.bars.add(ProgressBar::new(bytes));
            let style = "  {bar:24} {bytes}/{total_bytes} {bytes_per_sec} {eta} left {wide_msg}";
            let style = ProgressStyle::with_template(style).unwrap_or_else(|_| ProgressStyle::default_bar());
            bar.set_style(style.progress_chars("━╸·"));
            *self.fetching.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar);
        }
    }

    fn fetched(&self, bytes: u64) {
        let mut bar = self.fetching.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(current) = bar.as_ref() {
            current.inc(bytes);
            if current.position() >= current.length().unwrap_or(0) {
                current.finish_and_clear();
                *bar = None;
            }
        }
    }

    fn message(&self) {
        if let Some(bar) = &self.bar {
            let running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
            bar.set_message(running.iter().cloned().collect::<Vec<_>>().join(", "));
        }
    }
}

impl Observer for Progress {
    fn event(&self, event: Event) {
        match event {
            Event::Planned(count) => {
                if let Some(bar) = &self.bar {
                    bar.set_length(count as u64);
                    self.bars.add(bar.clone());
                }
            }
            Event::Started(label) => {
                self.running.lock().unwrap_or_else(PoisonError::into_inner).insert(label);
                self.message();
            }
            Event::Finished { label, status, seconds } => {
                self.running.lock().unwrap_or_else(PoisonError::into_inner).remove(&label);
                match status {
                    ActionStatus::Built => {
                        self.line(&format!("  {}  {label} {}", good("built"), faint(format!("{seconds:.1} s"))))
                    }
                    ActionStatus::Reused if self.verbose => self.line(&format!("  {} {label}", faint("reused"))),
                    ActionStatus::Reused => {}
                }
                if let Some(bar) = &self.bar {
                    bar.inc(1);
                }
                self.message();
            }
            Event::Written { path, bytes } if self.verbose => {
                self.line(&format!("  wrote  {} {}", path.display(), faint(format!("{bytes} bytes"))));
            }
            Event::Written { .. } => {}
            Event::Fetching { items, bytes } => self.fetching(items, bytes),
            Event::Fetched(bytes) => self.fetched(bytes),
            Event::Arrived(label) if self.verbose => self.line(&format!("  {} {label}", faint("arrived"))),
            Event::Unpacked { label, seconds } if self.verbose => {
                self.line(&format!("  {label} {}", faint(format!("{seconds:.1} s"))));
            }
            Event::Unpacked { label, .. } => {
                if let Some(bar) = &self.bar {
                    bar.set_message(label);
                }
            }
            Event::Arrived(_) => {}
            Event::Note(text) => self.line(&format!("  {}   {text}", warn("note"))),
            Event::Console(line) => self.line(&format!("  {} {line}", name("|"))),
        }
    }
}
