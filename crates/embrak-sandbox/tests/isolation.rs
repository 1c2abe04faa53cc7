//! What a step can and cannot see and do, tried with the host's shell.

use embrak_sandbox::{Fixture, Outcome, Step, run};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

struct Place {
    dir: tempfile::TempDir,
}

impl Place {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        for name in ["scratch", "work"] {
            fs::create_dir(dir.path().join(name)).unwrap();
        }
        fs::create_dir(dir.path().join("inputs")).unwrap();
        fs::write(dir.path().join("inputs/tide.txt"), "high").unwrap();
        Place { dir }
    }

    fn step(&self, script: &str) -> Step {
        let mut fixtures = vec![
            Fixture::Writable { from: self.dir.path().join("work"), at: "/build".into() },
            Fixture::ReadOnly { from: self.dir.path().join("inputs"), at: "/inputs".into() },
            Fixture::Text { text: "root:x:0:0::/:/bin/sh\n".into(), at: "/etc/passwd".into() },
        ];
        for top in ["/usr", "/bin", "/lib", "/lib64", "/sbin"] {
            match fs::read_link(top) {
                Ok(target) => fixtures.push(Fixture::Symlink { target, at: top.into() }),
                Err(_) if Path::new(top).is_dir() => {
                    fixtures.push(Fixture::ReadOnly { from: top.into(), at: top.into() });
                }
                Err(_) => {}
            }
        }
        Step {
            root: None,
            users: embrak_sandbox::Users::One,
            scratch: self.dir.path().join("scratch"),
            fixtures,
            command: ["/bin/sh", "-euc", script].map(String::from).into(),
            environment: BTreeMap::from([("PATH".to_string(), "/usr/bin:/bin".to_string())]),
            directory: PathBuf::from("/build"),
            hostname: "station".into(),
            umask: 0o022,
            random_addresses: false,
            limit: Duration::from_secs(20),
        }
    }

    fn output(&self, script: &str) -> (Outcome, String) {
        let log = self.dir.path().join("log");
        let outcome = run(&self.step(script), &File::create(&log).unwrap(), &AtomicBool::new(false)).unwrap();
        (outcome, fs::read_to_string(log).unwrap())
    }
}

#[test]
fn a_step_sees_only_what_it_is_given() {
    let place = Place::new();
    let (outcome, text) = place.output(
        "ls /; cat /inputs/tide.txt; echo; hostname; id -u; env | sort; pwd; echo $$; ls /proc | grep -c '^[0-9]'; \
         cat /proc/net/dev | grep -c eth || true",
    );
    assert_eq!(outcome, Outcome::Exited(0), "{text}");
    let lines: Vec<&str> = text.lines().collect();
    let root: Vec<&str> = lines.iter().copied().take_while(|l| *l != "high").collect();
    for expected in ["build", "dev", "etc", "inputs", "proc", "tmp", "usr"] {
        assert!(root.contains(&expected), "{text}");
    }
    assert!(!root.contains(&"root") && !root.contains(&"home") && !root.contains(&"var"), "{text}");
    assert!(text.contains("station\n0\n"), "{text}");
    assert!(text.contains("PATH=/usr/bin:/bin\n") && !text.contains("HOME="), "{text}");
    assert!(text.ends_with("\n0\n"), "no network card: {text}");
}

#[test]
fn inputs_cannot_be_changed_even_by_user_0() {
    let place = Place::new();
    for attempt in [
        "echo low > /inputs/tide.txt",
        "mount -o remount,rw,bind /inputs && echo low > /inputs/tide.txt",
        "umount /inputs",
        "echo x > /new-file",
        "rm -rf /usr/bin/env",
    ] {
        let (outcome, text) = place.output(attempt);
        assert!(matches!(outcome, Outcome::Exited(n) if n != 0), "{attempt}: {outcome:?} {text}");
    }
    assert_eq!(fs::read_to_string(place.dir.path().join("inputs/tide.txt")).unwrap(), "high");
    let (outcome, text) =
        place.output("echo x > /tmp/x; echo y > made; chmod 4755 made; test -w /build; : > /dev/null");
    assert_eq!(outcome, Outcome::Exited(0), "{text}");
    assert_eq!(fs::read_to_string(place.dir.path().join("work/made")).unwrap(), "y\n");
}

#[test]
fn failure_and_signals_come_back() {
    let place = Place::new();
    assert_eq!(place.output("exit 3").0, Outcome::Exited(3));
    assert_eq!(place.output("kill -9 $$").0, Outcome::Signalled(9));
    let mut step = place.step("true");
    step.command = vec!["/no/such/program".into()];
    let log = File::create(place.dir.path().join("log")).unwrap();
    let error = run(&step, &log, &AtomicBool::new(false)).unwrap_err().to_string();
    assert!(error.contains("starting the program"), "{error}");
}

#[test]
fn a_limit_or_a_stop_ends_all_of_it() {
    let place = Place::new();
    let busy = "while :; do date +%s%N >> beat; sleep 0.02; done & (while :; do sleep 1; done)";
    let beats = |place: &Place| fs::read_to_string(place.dir.path().join("work/beat")).unwrap_or_default();
    let log = File::create(place.dir.path().join("log")).unwrap();

    let mut step = place.step(busy);
    step.limit = Duration::from_millis(1500);
    let started = Instant::now();
    assert_eq!(run(&step, &log, &AtomicBool::new(false)).unwrap(), Outcome::TimedOut);
    assert!(started.elapsed() < Duration::from_secs(10));
    let last = beats(&place);
    assert!(!last.is_empty());
    std::thread::sleep(Duration::from_millis(200));
    assert_eq!(beats(&place), last, "something still runs");

    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let step = place.step(busy);
        let (stop, log) = (&stop, &log);
        let running = scope.spawn(move || run(&step, log, stop).unwrap());
        std::thread::sleep(Duration::from_millis(300));
        stop.store(true, Ordering::Relaxed);
        assert_eq!(running.join().unwrap(), Outcome::Stopped);
    });
}

#[test]
fn a_missing_input_is_named() {
    let place = Place::new();
    let mut step = place.step("true");
    step.fixtures.push(Fixture::ReadOnly { from: "/no/such/input".into(), at: "/x".into() });
    let log = File::create(place.dir.path().join("log")).unwrap();
    let error = run(&step, &log, &AtomicBool::new(false)).unwrap_err().to_string();
    assert!(error.contains("/no/such/input"), "{error}");
}
