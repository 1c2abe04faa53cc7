//! Showing what happens: bars on a terminal, plain lines elsewhere.

use crate::style::{faint, good, name, warn};
use embrak_engine::{ActionStatus, Event, Observer};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::collections::BTreeSet;
use std::io::IsTerminal;
use std::sync::{Mutex, PoisonError};

/// Tells about progress on standard error.
pub struct Progress {
    bar: Option<ProgressBar>,
    quiet: bool,
    verbose: bool,
    running: Mutex<BTreeSet<String>>,
}

impl Progress {
    /// Bars when standard error is a terminal.
    pub fn new(quiet: bool, verbose: bool) -> Self {
        let bar = (std::io::stderr().is_terminal() && !quiet).then(|| {
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(15));
            let style = ProgressStyle::with_template("  {bar:24} {pos}/{len} {elapsed} {wide_msg}");
            bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("━╸·"));
            bar
        });
        Progress { bar, quiet, verbose, running: Mutex::default() }
    }

    fn line(&self, text: &str) {
        match &self.bar {
            _ if self.quiet => {}
            Some(bar) => bar.suspend(|| anstream::eprintln!("{text}")),
            None => anstream::eprintln!("{text}"),
        }
    }

    /// Takes the bar away.
    pub fn done(&self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
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
            Event::Note(text) => self.line(&format!("  {}   {text}", warn("note"))),
            Event::Console(line) => self.line(&format!("  {} {line}", name("|"))),
        }
    }
}
