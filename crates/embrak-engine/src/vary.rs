//! What can be varied around and within the steps of a build to see whether it reaches the result.

use crate::error::{Doing, EngineError, Result};
use embrak_sandbox::{Fixture, Step};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Something that is varied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Vary {
    /// The directory a step works in.
    Path,
    /// How many things run at once.
    Jobs,
    /// The mask of new files' modes.
    Umask,
    /// Language and character set.
    Locale,
    /// The time zone.
    TimeZone,
    /// The machine's name.
    HostName,
    /// Name, home and number of the user.
    User,
    /// The time of day.
    Clock,
    /// The order directories are read in.
    Order,
    /// How large the environment is.
    Environment,
    /// Where memory lies: at random, instead of the same each time.
    Memory,
    /// What the C library thinks the processor can do.
    Cpu,
}

impl Vary {
    /// All of them, with their names.
    pub const ALL: [(Vary, &'static str); 12] = [
        (Vary::Path, "path"),
        (Vary::Jobs, "jobs"),
        (Vary::Umask, "umask"),
        (Vary::Locale, "locale"),
        (Vary::TimeZone, "time-zone"),
        (Vary::HostName, "host-name"),
        (Vary::User, "user"),
        (Vary::Clock, "clock"),
        (Vary::Order, "order"),
        (Vary::Environment, "environment"),
        (Vary::Memory, "memory"),
        (Vary::Cpu, "cpu"),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Vary::ALL.iter().find(|(v, _)| *v == self).map_or("", |(_, name)| name)
    }

    /// A list such as `path,clock`, or `all`.
    ///
    /// # Errors
    /// A name is none of these.
    pub fn list(text: &str) -> std::result::Result<BTreeSet<Vary>, String> {
        let names = || Vary::ALL.map(|(_, n)| n).join(", ");
        let mut out = BTreeSet::new();
        for word in text.split(',').map(str::trim).filter(|w| !w.is_empty()) {
            match Vary::ALL.iter().find(|(_, name)| *name == word) {
                Some((vary, _)) => drop(out.insert(*vary)),
                None if word == "all" => out.extend(Vary::ALL.map(|(v, _)| v)),
                None => return Err(format!("`{word}` cannot be varied; there are {}, and all", names())),
            }
        }
        Ok(out)
    }

    /// What it is changed to, for people.
    pub fn how(self) -> &'static str {
        match self {
            Vary::Path => "/another/place/of/work",
            Vary::Jobs => "4 instead of 1, or 1",
            Vary::Umask => "0077 instead of 0022",
            Vary::Locale => "C.UTF-8, tr_TR.UTF-8 instead of C",
            Vary::TimeZone => "12 hours 45 minutes east instead of UTC",
            Vary::HostName => "another-machine",
            Vary::User => "keeper, /home/keeper, number 4321",
            Vary::Clock => "moved on by 400 days",
            Vary::Order => "directories are read backwards",
            Vary::Environment => "8 KiB larger",
            Vary::Memory => "addresses are random",
            Vary::Cpu => "without AVX and SSE 4 for the C library",
        }
    }

    fn needs_shim(self) -> bool {
        matches!(self, Vary::Clock | Vary::Order | Vary::User)
    }
}

/// How steps run otherwise than usual; none of it is part of any key.
#[derive(Debug, Clone, Default)]
pub struct Probe {
    /// What is varied.
    pub vary: BTreeSet<Vary>,
    /// The time of day stands still.
    pub frozen: bool,
    /// Our library that varies clock and order, as compiled.
    pub shim: Option<PathBuf>,
}

const BUILD: &str = "/build";
const ELSEWHERE: &str = "/another/place/of/work";
const SHIM: &str = "/embrak-shim.so";
/// 400 days: every part of a date is another.
const SHIFT: &str = "34560000";

impl Probe {
    /// Changes a step, and what it says of the processes at once.
    pub(crate) fn apply(&self, step: &mut Step) {
        for vary in &self.vary {
            match vary {
                Vary::Jobs => {
                    let one = step.environment.get("JOBS").is_some_and(|j| j == "1");
                    step.environment.insert("JOBS".into(), if one { "4" } else { "1" }.into());
                }
                Vary::Umask => step.umask = 0o077,
                Vary::Locale => {
                    step.environment
                        .extend([("LC_ALL".into(), "C.UTF-8".into()), ("LANG".into(), "tr_TR.UTF-8".into())]);
                }
                Vary::TimeZone => drop(step.environment.insert("TZ".into(), "CHT-12:45".into())),
                Vary::HostName => step.hostname = "another-machine".into(),
                Vary::User => {
                    for (name, value) in [("USER", "keeper"), ("LOGNAME", "keeper"), ("HOME", "/home/keeper")] {
                        step.environment.insert(name.into(), value.into());
                    }
                    if self.shim.is_some() {
                        step.environment.insert("EMBRAK_USER_NUMBER".into(), "4321".into());
                    }
                }
                Vary::Clock => drop(step.environment.insert("EMBRAK_CLOCK_SHIFT".into(), SHIFT.into())),
                Vary::Order => drop(step.environment.insert("EMBRAK_ORDER".into(), "reverse".into())),
                Vary::Environment => drop(step.environment.insert("EMBRAK_PADDING".into(), "x".repeat(8192))),
                Vary::Memory => step.random_addresses = true,
                Vary::Cpu => {
                    let tunables =
                        "glibc.cpu.hwcaps=-AVX2_Usable,-AVX_Fast_Unaligned_Load,-AVX2,-AVX512F,-SSE4_2,-SSE4_1";
                    step.environment.insert("GLIBC_TUNABLES".into(), tunables.into());
                }
                Vary::Path => {}
            }
        }
        if self.vary.contains(&Vary::Path) {
            // The home is the user's.
            for (_, value) in step.environment.iter_mut().filter(|(name, _)| *name != "HOME") {
                *value = value.replace(BUILD, ELSEWHERE);
            }
            step.directory = Path::new(ELSEWHERE).join("src");
            for fixture in &mut step.fixtures {
                if let Fixture::Writable { at, .. } = fixture
                    && at == Path::new(BUILD)
                {
                    *at = ELSEWHERE.into();
                }
            }
        }
        if self.frozen {
            step.environment.remove("EMBRAK_CLOCK_SHIFT");
            step.environment.insert("EMBRAK_CLOCK_FIXED".into(), "1800000000".into());
        }
        let wanted = self.frozen || self.vary.iter().any(|v| v.needs_shim());
        if let (true, Some(shim)) = (wanted, &self.shim) {
            step.fixtures.push(Fixture::ReadOnly { from: shim.clone(), at: SHIM.into() });
            step.environment.insert("LD_PRELOAD".into(), SHIM.into());
        }
    }
}

/// Compiles our library that varies clock and order with this machine's C compiler; none when there is no compiler.
///
/// # Errors
/// It cannot be written.
pub fn compile_shim(dir: &Path) -> Result<Option<PathBuf>> {
    let (source, library) = (dir.join("shim.c"), dir.join("shim.so"));
    std::fs::write(&source, include_str!("shim.c")).doing("write", &source)?;
    let made = Command::new("cc")
        .args(["-shared", "-fPIC", "-O1", "-w", "-o"])
        .arg(&library)
        .arg(&source)
        .arg("-ldl")
        .output();
    match made {
        Ok(output) if output.status.success() => Ok(Some(library)),
        Ok(output) => Err(EngineError::other(
            format!(
                "our library for varied clocks does not compile: {}",
                String::from_utf8_lossy(&output.stderr).trim()
            ),
            "leave `clock` and `order` out of --vary",
        )),
        Err(_) => Ok(None),
    }
}

/// Names and what they are changed to.
pub(crate) fn described(vary: &BTreeSet<Vary>) -> BTreeMap<String, String> {
    vary.iter().map(|v| (format!("in steps: {}", v.name()), v.how().to_string())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_are_read_and_unknown_names_refused() {
        assert_eq!(Vary::list("all").unwrap().len(), Vary::ALL.len());
        assert_eq!(Vary::list("path, clock").unwrap(), [Vary::Path, Vary::Clock].into());
        assert!(Vary::list("paths").unwrap_err().contains("host-name"));
    }

    #[test]
    fn a_varied_step_differs_from_the_usual_one_in_that_alone() {
        let usual = Step {
            environment: [("SRC".into(), "/build/src".into()), ("JOBS".into(), "2".into())].into(),
            fixtures: vec![Fixture::Writable { from: "/x".into(), at: "/build".into() }],
            directory: "/build/src".into(),
            ..Step::default()
        };
        for (vary, name) in Vary::ALL {
            let mut step = usual.clone();
            Probe { vary: [vary].into(), frozen: false, shim: Some("/s".into()) }.apply(&mut step);
            assert_ne!(format!("{step:?}"), format!("{usual:?}"), "{name} changes nothing");
            assert_eq!(step.environment.contains_key("LD_PRELOAD"), vary.needs_shim());
        }
        let mut step = usual.clone();
        Probe::default().apply(&mut step);
        assert_eq!(format!("{step:?}"), format!("{usual:?}"));
    }
}
