//! `new` and `demo`: the Skerry example, and the road over it.

use crate::args::Global;
use crate::commands::{Code, Failure};
use crate::session::{self, shown};
use crate::style::{Table, bad, faint, good, name, strong, warn};
use embrak_engine::{EngineError, OutputFile, find_emulator, find_run, verify_known};
use embrak_model::ByteSize;
use embrak_trust::Policy;
use include_dir::{Dir, DirEntry, include_dir};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

static SKERRY: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo/skerry");

const MINIMAL: [(&str, &str); 3] = [
    (
        "embrak.toml",
        "workspace = \"NAME\"\n\
         epoch = 2026-01-01T00:00:00Z      # every timestamp in every output\n\
         layers = [\"layers/base\"]\n\
         default-images = [\"first\"]\n\n\
         [toolchain]\n\
         host = [\"cc\", \"make\"]             # programs of this machine that recipes may use\n",
    ),
    ("layers/base/layer.toml", "layer = \"base\"\nversion = \"0.1\"\nsummary = \"The first layer\"\n"),
    (
        "layers/base/images/first.toml",
        "image = \"first\"\nversion = \"0.1\"\nsummary = \"The first image\"\noutputs = [\"rootfs:tar\", \"manifest\"]\n\n\
         [[file]]\npath = \"/etc/motd\"\ntext = \"Built with Embrak.\\n\"\n",
    ),
];

pub fn new(global: &Global, dir: &Path, demo: bool) -> Result<Code, Failure> {
    let dir = session::resolve(global, dir);
    start(&dir, demo)?;
    if global.json {
        crate::commands::print_json(&serde_json::json!({ "workspace": dir }))?;
    } else if !global.quiet {
        anstream::println!("{} {}", good("wrote"), name(shown(&dir)));
        anstream::println!("  try: cd {} && embrak check && embrak preview && embrak build", shown(&dir));
    }
    Ok(Code::Done)
}

/// Writes a new workspace; never over anything.
fn start(dir: &Path, demo: bool) -> Result<(), Failure> {
    let occupied = std::fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_some()) || dir.is_file();
    if occupied {
        let message = format!("{} is there already and not empty", dir.display());
        return Err(EngineError::other(message, "name another directory; nothing is ever overwritten").into());
    }
    if demo {
        return write_all(&SKERRY, dir);
    }
    let title = dir.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let title: embrak_model::Name =
        title.parse().map_err(|e: String| EngineError::other(e, "the directory's name becomes the workspace's"))?;
    for (path, text) in MINIMAL {
        write(&dir.join(path), text.replace("NAME", &title).as_bytes())?;
    }
    write(&dir.join(".gitignore"), b"/out/\n/keys/*.key\n/embrak.local.toml\n")
}

/// Writes everything below an embedded directory.
fn write_all(from: &Dir<'_>, dir: &Path) -> Result<(), Failure> {
    for entry in from.entries() {
        match entry {
            DirEntry::Dir(inner) => write_all(inner, dir)?,
            DirEntry::File(file) => {
                let path = match file.path().to_str() {
                    Some("gitignore.txt") => PathBuf::from(".gitignore"),
                    _ => file.path().to_path_buf(),
                };
                write(&dir.join(path), file.contents())?;
            }
        }
    }
    Ok(())
}

fn write(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    if let Some(parent) = path.parent() {
        std::fs::create_dir_all(parent)?;
    }
    std::fs::write(path, bytes)?;
    Ok(())
}

pub fn demo(global: &Global, dir: &Path, no_boot: bool) -> Result<Code, Failure> {
    let dir = session::resolve(global, dir);
    start(&dir, true)?;
    let dir = dir.canonicalize()?;
    let started = Instant::now();
    anstream::println!("{}", strong("The Skerry Light Service builds the images of its unattended beacons."));
    anstream::println!(
        "Its workspace is now in {}; every command below works there as it is shown.",
        name(shown(&dir))
    );

    let road = Road { global, dir: &dir };
    road.step("Are the definitions in order?", &["check"])?;
    road.step("Pin every input by digest.", &["lock"])?;
    road.step("What would be built?", &["preview", "beacon-console"])?;
    road.step("Build: recipes in isolation, then a disk and a container.", &["build"])?;
    road.step("Again: nothing has changed, so nothing is done.", &["build"])?;
    let disk = "out/beacon-console/sim-x86_64/beacon-console-2026.3-sim-x86_64.raw";
    road.step("Look inside the disk.", &["inspect", disk])?;
    road.step("Where did this value come from?", &["trace", "beacon-console", "system.hostname"])?;
    road.step("Make the keys of the release and of an independent rebuilder.", &["keys", "new", "release"])?;
    road.step("", &["keys", "new", "rebuild"])?;
    road.step("Sign how everything was made.", &["sign", "--key", "keys/release.key"])?;
    road.step("Check the evidence against the policy in trust.toml.", &["verify", disk])?;
    road.step(
        "Build everything again, elsewhere and under other conditions; sign the result.",
        &["reproduce", "--key", "keys/rebuild.key"],
    )?;
    road.step("Now the stricter policy is met too.", &["verify", "--policy", "trust-release.toml", disk])?;
    let before_boot = started.elapsed();
    match find_emulator("x86_64") {
        _ if no_boot => {}
        Ok(_) => road.step("Start the disk on emulated UEFI firmware.", &["boot"])?,
        Err(error) => {
            anstream::println!("\n{} {error}; {}", warn("the emulated start is left out:"), error.help());
        }
    }
    summary(global, &dir)?;
    anstream::println!(
        "\n{} {:.1} s without the emulated start",
        good("The whole road took"),
        before_boot.as_secs_f64()
    );
    let here = shown(&dir);
    anstream::println!("\n{}", strong("What to try next"));
    for (command, why) in [
        (format!("cd {here}"), "everything below is typed there"),
        ("embrak build --set image:beacon-console.version=2026.4".into(), "amend a definition from the command line"),
        (
            "embrak build --set image:beacon-console.options.foghorn.careless=true".into(),
            "a recipe that compiles the time in ...",
        ),
        ("embrak reproduce".into(), "... and how that is found out and its cause named"),
        (
            "embrak build lamp-rescue --board lampboard-2".into(),
            "a card for an ARM board, with a loader before the first partition",
        ),
        ("embrak why beacon-console foghorn".into(), "which requirements bring a package in"),
    ] {
        anstream::println!("  {}\n      {}", name(command), faint(why));
    }
    Ok(Code::Done)
}

struct Road<'a> {
    global: &'a Global,
    dir: &'a Path,
}

impl Road<'_> {
    /// Says what is done and why, and does it with this very program.
    fn step(&self, why: &str, arguments: &[&str]) -> Result<(), Failure> {
        if !why.is_empty() {
            anstream::println!("\n{}", strong(why));
        }
        anstream::println!("{}", name(format!("$ embrak {}", arguments.join(" "))));
        let mut command = Command::new(std::env::current_exe()?);
        command.arg("-C").arg(self.dir).args(arguments).current_dir(self.dir);
        if let Some(store) = &self.global.store {
            command.arg("--store").arg(std::path::absolute(store)?);
        }
        let status = command.status()?;
        if status.success() {
            return Ok(());
        }
        Err(EngineError::other(
            format!("`embrak {}` ended with {status}", arguments.join(" ")),
            format!("what it said is above; the example stays in {}", self.dir.display()),
        )
        .into())
    }
}

/// All outputs in one table: what they are for, their digests, who signed, whether they were built again.
fn summary(global: &Global, dir: &Path) -> Result<(), Failure> {
    let store = session::open_store(global)?;
    let root = dir.to_string_lossy().into_owned();
    let row = store.runs().map_err(EngineError::from)?.into_iter().find(|r| r.workspace == root && r.status == "done");
    let (_, record) = find_run(&store, row.map(|r| r.id), None)?;
    let policy = Policy::load(&dir.join("trust-release.toml"))?;
    anstream::println!("\n{}", strong("What came out"));
    let mut table =
        Table::new(&["output", "role", "size", "tree digest", "artifact digest", "signed by", "reproduced"])
            .right(&[2]);
    for output in &record.outputs {
        let checked = verify_known(&output.path, &output.artifact, None, &policy)?;
        let signers: Vec<&str> = checked
            .verified
            .as_ref()
            .map(|v| v.get().iter().map(|(signer, _)| signer.as_str()).collect())
            .unwrap_or_default();
        let reproduced = if signers.contains(&"rebuild") { good("identical") } else { bad("no") };
        table.row([
            name(&output.name),
            output.output.to_string(),
            ByteSize(output.size).human(),
            output.tree.short(),
            output.artifact.short(),
            signers.first().copied().unwrap_or("nobody").to_string(),
            reproduced,
        ]);
    }
    table.print(2);
    let mut advice = Table::new(&["output", "what to do with it"]);
    for output in first_of_each_role(&record.outputs) {
        advice.row([name(&output.name), output.advice.clone()]);
    }
    anstream::println!("\n  The files are in {}", name(shown(&dir.join("out"))));
    advice.print(2);
    Ok(())
}

/// One output for every advice, so that none is repeated.
fn first_of_each_role(outputs: &[OutputFile]) -> Vec<&OutputFile> {
    let mut seen = Vec::new();
    outputs
        .iter()
        .filter(|o| {
            let new = !seen.contains(&o.advice.as_str());
            seen.push(&o.advice);
            new
        })
        .collect()
}
