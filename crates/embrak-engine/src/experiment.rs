//! Finding out why a package differs by experiment: it is built alone, again and again, with one thing changed at a time.

use crate::causes::Cause;
use crate::error::{Doing, EngineError, Result};
use crate::reproduce::ReproduceOptions;
use crate::vary::Vary;
use embrak_tree::Digest;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

/// Where packages are built alone.
pub(crate) struct Bench<'a> {
    pub(crate) options: &'a ReproduceOptions<'a>,
    pub(crate) workspace: &'a Path,
    pub(crate) store: &'a Path,
    /// What the rebuild was given besides: board, parameters, amendments, vendored inputs.
    pub(crate) arguments: &'a [String],
    pub(crate) images: &'a [String],
    pub(crate) shim: Option<&'a Path>,
}

/// What building a package alone has shown.
pub(crate) struct Alone {
    /// Twice, under the same conditions.
    pub(crate) found: [Digest; 2],
    pub(crate) cause: Option<Cause>,
}

/// How a package is built once.
#[derive(Default, Clone)]
struct Conditions {
    vary: BTreeSet<Vary>,
    frozen: bool,
    jobs: usize,
}

const JOBS: usize = 4;

impl Bench<'_> {
    fn once(&self, package: &str, conditions: &Conditions) -> Result<Digest> {
        let options = self.options;
        if options.stop.load(std::sync::atomic::Ordering::Relaxed) {
            return Err(EngineError::Interrupted);
        }
        let mut command = Command::new(&options.program);
        command.arg("-C").arg(self.workspace).arg("--store").arg(self.store).arg("--json");
        command.args(["probe", package]).args(self.images).args(self.arguments);
        let vary: Vec<&str> = conditions.vary.iter().map(|v| v.name()).collect();
        command.args(["--vary", &vary.join(","), "--jobs", &conditions.jobs.to_string()]);
        if conditions.frozen {
            command.arg("--frozen");
        }
        if let Some(shim) = self.shim {
            command.arg("--shim").arg(shim);
        }
        command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("HOME", "/nonexistent");
        let output = command.stdin(Stdio::null()).output().doing("start", &options.program)?;
        let found: BTreeMap<String, Digest> = serde_json::from_slice(&output.stdout).map_err(|_| {
            let why = String::from_utf8_lossy(&output.stderr).trim().to_string();
            EngineError::other(format!("{package} cannot be built alone: {why}"), "look at its log")
        })?;
        found.get(package).copied().ok_or_else(|| EngineError::other(format!("{package} did not come out"), ""))
    }

    /// Twice under the same conditions, not within one second.
    fn twice(&self, package: &str, conditions: &Conditions) -> Result<[Digest; 2]> {
        let first = self.once(package, conditions)?;
        std::thread::sleep(Duration::from_millis(1050));
        Ok([first, self.once(package, conditions)?])
    }

    /// Whether the result is the same twice.
    fn is_steady(&self, package: &str, conditions: &Conditions) -> Result<bool> {
        self.twice(package, conditions).map(|[first, second]| first == second)
    }

    /// Builds a package alone, twice, and finds the cause of its being another each time, or under other conditions.
    /// `guessed` is what its bytes suggest.
    pub(crate) fn alone(&self, package: &str, recorded: &Digest, guessed: Option<&Cause>) -> Result<Alone> {
        let usual = Conditions { jobs: JOBS, ..Conditions::default() };
        let found = self.twice(package, &usual)?;
        Ok(Alone { found, cause: self.cause(package, found, recorded, guessed, usual)? })
    }

    fn cause(
        &self,
        package: &str,
        found: [Digest; 2],
        recorded: &Digest,
        guessed: Option<&Cause>,
        usual: Conditions,
    ) -> Result<Option<Cause>> {
        let [same, second] = found;
        if same == second {
            let mut reached = Vec::new();
            for (vary, _) in Vary::ALL {
                if self.shim.is_none() && matches!(vary, Vary::Clock | Vary::Order) {
                    continue;
                }
                let changed = Conditions { vary: [vary].into(), ..usual.clone() };
                // A recipe may not build at all under other conditions; that is another finding.
                if self.once(package, &changed).is_ok_and(|found| found != same) {
                    reached.push(vary);
                }
            }
            // Whatever counts the environment sees every variation that goes through it.
            let whole = reached.iter().find(|v| **v == Vary::Environment);
            return Ok(match whole.or(reached.first()) {
                Some(first) => {
                    let names: Vec<&str> = reached.iter().map(|v| v.name()).collect();
                    let evidence = format!(
                        "built alone it is the same twice, and another when only this is varied: {}",
                        names.join(", ")
                    );
                    Some(known(cause_of(*first), evidence))
                }
                None if same == *recorded => None,
                None => Some(known(
                    "tool version",
                    "built alone here it is the same under all conditions, and not what was recorded".into(),
                )),
            });
        }
        let by_time = guessed.filter(|c| c.name == "time stamp");
        if let Some(guess) = by_time {
            return Ok(Some(known("time stamp", format!("built alone it is another each time; {}", guess.evidence))));
        }
        let frozen = Conditions { frozen: true, ..usual.clone() };
        if self.shim.is_some() && self.is_steady(package, &frozen)? {
            let evidence = "built alone it is another each time, and the same when the time of day stands still";
            return Ok(Some(known("time stamp", evidence.into())));
        }
        let alone = Conditions { jobs: 1, ..frozen };
        if self.is_steady(package, &alone)? {
            let evidence = "built alone it is another each time with JOBS=4, and the same with JOBS=1";
            return Ok(Some(known("parallel race", evidence.into())));
        }
        let evidence = "built alone it is another each time, whatever is held still: clock, memory, number of jobs";
        Ok(Some(known("random identifier", evidence.into())))
    }
}

fn cause_of(vary: Vary) -> &'static str {
    match vary {
        Vary::Path => "build path",
        Vary::Jobs => "number of jobs",
        Vary::Umask => "umask",
        Vary::Locale => "locale",
        Vary::TimeZone => "time zone",
        Vary::HostName => "host name",
        Vary::User => "user",
        Vary::Clock => "time stamp",
        Vary::Order => "order of directories",
        Vary::Environment => "environment",
        Vary::Memory => "memory layout",
        Vary::Cpu => "processor",
    }
}

/// A cause by its name, with what to do about it.
pub(crate) fn known(name: &str, evidence: String) -> Cause {
    let advice = match name {
        "build path" => "keep the directory of the build out of what is installed: -ffile-prefix-map, relative paths",
        "number of jobs" => "do not write $JOBS into what is installed",
        "umask" => "install with fixed modes: `install -m 0755`",
        "locale" => "say LC_ALL=C where something is sorted or printed",
        "time zone" => "print times in UTC: `date -u`",
        "host name" => "do not write the name of the machine into what is installed",
        "user" => "do not write the name or home of the user into what is installed",
        "time stamp" => "use SOURCE_DATE_EPOCH, which every step has in its environment, instead of the present time",
        "order of directories" => "sort what is read from a directory: `find ... | sort`, sorted() in programs",
        "environment" => "do not write the environment into what is installed",
        "memory layout" => "do not print addresses, and do not order by them",
        "processor" => "do not choose code by the processor of the build: no -march=native",
        "parallel race" => "say what depends on what, or run that step with one job",
        "random identifier" => "derive identifiers from names or contents; seed random numbers with something fixed",
        "tool version" => "build with the tools that were recorded; the evidence names their digests",
        _ => "",
    };
    Cause { name: name.into(), evidence, advice: advice.into() }
}
