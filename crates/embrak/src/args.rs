//! What can be typed.

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// What is varied: a type of its own, since the parser would take a set for several arguments.
pub type Variations = std::sync::Arc<std::collections::BTreeSet<embrak_engine::Vary>>;

fn variations(text: &str) -> Result<Variations, String> {
    embrak_engine::Vary::list(text).map(Into::into)
}

/// Compose, sign and reproduce bootable system and container images: same lock, same bytes.
#[derive(Parser, Debug)]
#[command(name = "embrak", version, max_term_width = 100, arg_required_else_help = true)]
#[command(after_help = "Start here: `embrak demo` shows the whole road on a small example, offline.")]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub verb: Verb,
}

#[derive(ClapArgs, Debug, Clone)]
pub struct Global {
    /// Work as if started in this directory
    #[arg(short = 'C', long = "directory", value_name = "DIR", global = true)]
    pub directory: Option<PathBuf>,
    /// Where results are kept (default: the XDG cache directory)
    #[arg(long, value_name = "DIR", env = "EMBRAK_STORE", global = true)]
    pub store: Option<PathBuf>,
    /// Give a parameter a value
    #[arg(long = "param", value_name = "NAME=VALUE", global = true)]
    pub params: Vec<String>,
    /// Read parameters from a TOML file
    #[arg(long = "params", value_name = "FILE", global = true)]
    pub param_files: Vec<PathBuf>,
    /// Amend a definition, last of all: image:NAME.KEY=VALUE
    #[arg(long, value_name = "KIND:NAME.KEY=VALUE", global = true)]
    pub set: Vec<String>,
    /// Print the result as one JSON document
    #[arg(long, global = true)]
    pub json: bool,
    /// Say less
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more
    #[arg(short, long, global = true)]
    pub verbose: bool,
    /// When to use colour
    #[arg(long, value_enum, default_value = "auto", env = "EMBRAK_COLOR", global = true)]
    pub color: Color,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Subcommand, Debug)]
pub enum Verb {
    /// Start a workspace in a new directory
    #[command(after_help = "Examples:\n  embrak new my-product\n  embrak new skerry --demo")]
    New {
        /// The directory; it must not be there yet, or be empty
        dir: PathBuf,
        /// Write the Skerry example: three layers, three boards, two images
        #[arg(long)]
        demo: bool,
    },
    /// List layers, boards, recipes, packages, images, outputs, tools or runs
    #[command(after_help = "Examples:\n  embrak list images\n  embrak list runs --json")]
    List {
        #[arg(value_enum)]
        kind: Kind,
    },
    /// Search recipes, boards, images, layers and the packages of repositories; words with a slash among their files
    #[command(after_help = "Examples:\n  embrak find tide\n  embrak find uefi firmware\n  embrak find /usr/bin/lampd")]
    Find {
        /// All of these words have to be found
        #[arg(required = true)]
        words: Vec<String>,
    },
    /// Show one definition as it is after merging, or one run
    #[command(after_help = "Examples:\n  embrak show recipe tidelog\n  embrak show run 3")]
    Show {
        #[arg(value_enum)]
        kind: ShowKind,
        name: String,
    },
    /// Read every definition and report every problem, not only the first
    Check,
    /// Put a layer into embrak.toml, or take one out; everything else there stays as it is
    Layer {
        #[command(subcommand)]
        action: LayerAction,
    },
    /// Tell where each value of a merged definition came from
    #[command(after_help = "Examples:\n  embrak trace beacon-console system.hostname\n  embrak trace board:sim-x86_64")]
    Trace {
        /// The image, or board:NAME or recipe:NAME
        name: String,
        /// Only this key, dots between the parts
        key: Option<String>,
    },
    /// Print the JSON Schema of a kind of definition, for editors
    #[command(after_help = "Example:\n  embrak schema image > image.schema.json")]
    Schema { kind: SchemaOf },
    /// Resolve images and write embrak.lock, keeping earlier choices
    #[command(
        after_help = "Examples:\n  embrak lock\n  embrak lock --update\n  embrak lock --update=openssl,libssl3\n  embrak lock --check"
    )]
    Lock {
        images: Vec<String>,
        #[arg(long, value_name = "BOARD")]
        board: Option<String>,
        /// Read the repositories anew, move to the newest versions and tell what moved; with names, move only these
        #[arg(long, value_name = "PACKAGE,..", num_args = 0.., require_equals = true, value_delimiter = ',')]
        update: Option<Vec<String>>,
        /// Only tell whether the lock is up to date; exit status 3 when it is not
        #[arg(long, conflicts_with = "update")]
        check: bool,
    },
    /// Tell what brings a package into an image and what it brings; or why it is not there
    #[command(after_help = "Examples:\n  embrak why beacon-console libgauge\n  embrak why beacon-console siren --not")]
    Why {
        image: String,
        package: String,
        /// Tell why it is not there, and what asking for it would do
        #[arg(long)]
        not: bool,
        #[arg(long, value_name = "BOARD")]
        board: Option<String>,
    },
    /// Show what would be built
    #[command(after_help = "Examples:\n  embrak preview\n  embrak preview beacon-console --full")]
    Preview {
        images: Vec<String>,
        /// Every package, service and change, however many
        #[arg(long)]
        full: bool,
        #[arg(long, value_name = "BOARD")]
        board: Option<String>,
    },
    /// Build images
    #[command(
        after_help = "Examples:\n  embrak build\n  embrak build tide-service --locked\n  embrak build --board lampboard-2"
    )]
    Build {
        /// Images; none: the workspace's default ones
        images: Vec<String>,
        #[arg(long, value_name = "BOARD")]
        board: Option<String>,
        /// Refuse when embrak.lock is out of date
        #[arg(long)]
        locked: bool,
        /// Recipes at once, and processes of each (default: as many as there are cores)
        #[arg(short, long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
        jobs: Option<u16>,
        /// Where outputs go, below it IMAGE/BOARD/
        #[arg(long, value_name = "DIR")]
        out: Option<PathBuf>,
        /// Take every input from elsewhere out of this directory, and nothing from the network
        #[arg(long, value_name = "DIR")]
        vendored: Option<PathBuf>,
        /// A public key that may have signed it (default: those in keys/)
        #[arg(long, value_name = "FILE", requires = "vendored")]
        vendor_key: Vec<PathBuf>,
        #[arg(long, hide = true, value_parser = variations, default_value = "")]
        vary_steps: Variations,
        #[arg(long, hide = true)]
        shim: Option<PathBuf>,
    },
    /// Put the workspace and all its inputs into a directory that builds without network
    #[command(
        after_help = "Example:\n  embrak vendor inputs --key keys/release.key\n  embrak build --locked --vendored inputs"
    )]
    Vendor {
        /// The directory; what is in it already is kept
        dir: PathBuf,
        /// Images; none: the workspace's default ones
        images: Vec<String>,
        #[arg(long, value_name = "BOARD")]
        board: Option<String>,
        /// The private key to sign it with
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
    },
    /// Put the packages that recipes made into a repository for others
    #[command(after_help = "Example:\n  embrak publish ../packages --key keys/release.key")]
    Publish {
        /// The repository's directory, made when it is not there; serve it with any HTTP server
        dir: PathBuf,
        /// Number of the run; `last` for the newest
        #[arg(long, default_value = "last")]
        run: String,
        /// Only packages of these images
        #[arg(long, value_name = "IMAGE")]
        image: Vec<String>,
        /// The private key to sign it with
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
    },
    /// Print the log of a run, or of one recipe of it
    Log {
        /// Number of the run; `last` for the newest
        run: String,
        /// Only recipes whose name begins so
        recipe: Option<String>,
    },
    /// Look into a disk image, archive, container image or tree manifest
    #[command(
        after_help = "Examples:\n  embrak inspect out/beacon-console/sim-x86_64/*.raw\n  embrak inspect disk.raw --files\n  embrak inspect disk.raw --cat /etc/beacon.conf"
    )]
    Inspect {
        path: PathBuf,
        /// List the files
        #[arg(long)]
        files: bool,
        /// Print one file
        #[arg(long, value_name = "FILE", conflicts_with = "files")]
        cat: Option<String>,
        /// Write one file to a path on this machine
        #[arg(long, num_args = 2, value_names = ["FILE", "TO"], conflicts_with_all = ["files", "cat"])]
        extract: Option<Vec<String>>,
    },
    /// Tell what differs between two images, archives or directories
    #[command(
        after_help = "Exit status: 0 the same as far as it counts, 3 different.\nExamples:\n  embrak diff old.raw new.raw\n  embrak diff old.raw new.oci.tar --ignore times,owners --ignore-path '/var/**'\n  embrak diff old.raw new.raw --level summary --html diff.html"
    )]
    Diff(DiffArgs),
    /// Start a disk image in the emulator and watch its console
    Boot {
        /// The disk; none: the one last built of the default image
        path: Option<PathBuf>,
        /// Give up after so many seconds
        #[arg(long, value_name = "SECONDS", default_value = "300")]
        limit: u64,
        /// Start the kernel built beside it with its initial file system, without firmware
        #[arg(long)]
        kernel: bool,
        /// Make this terminal the console, and check nothing
        #[arg(long, short)]
        interactive: bool,
        /// Sign the result of the checks with this key; the statement goes beside the disk
        #[arg(long, value_name = "FILE", conflicts_with = "interactive")]
        key: Option<PathBuf>,
    },
    /// Look for what is wrong with an image, ours or not: leftovers, accounts, secrets, requirements, vulnerabilities
    #[command(
        after_help = "Exit status: 0 good, 3 something is found that counts.\nExamples:\n  embrak audit out/beacon-console/sim-x86_64/*.raw\n  embrak audit disk.qcow2 --profile hardened-appliance --fail-on medium\n  embrak audit root.tar.zst --advisories advisories/ --decisions decisions.toml"
    )]
    Audit(AuditArgs),
    /// Tell what is in an image, ours or not: its packages with versions, licences and suppliers
    #[command(
        after_help = "Example:\n  embrak bill out/tide-service/x86_64/*.oci.tar --form spdx > tide-service.spdx.json"
    )]
    Bill {
        /// The image
        path: PathBuf,
        /// How to write it: for people, SPDX 2.3 or CycloneDX 1.5
        #[arg(long, value_enum, default_value = "text")]
        form: BillForm,
        /// List every file, too
        #[arg(long)]
        files: bool,
    },
    /// Make and show signing keys
    Keys {
        #[command(subcommand)]
        action: KeysAction,
    },
    /// Sign how artifacts were made, or layers and the lock; the evidence goes beside them
    #[command(
        after_help = "Examples:\n  embrak sign out/tide-service/x86_64/*.oci.tar --key keys/release.key\n  embrak sign layers/base embrak.lock --key keys/review.key"
    )]
    Sign {
        /// Artifacts, directories of layers, embrak.lock; none: all outputs of the newest run
        paths: Vec<PathBuf>,
        /// The private key
        #[arg(long, value_name = "FILE")]
        key: PathBuf,
    },
    /// Put artifacts into the log of what was released, and the proof of it beside them
    #[command(
        after_help = "Without artifacts the log is checked and listed. The signed state of the log, to be kept by others, is\nreleases/head.json in the store.\nExamples:\n  embrak release out/tide-service/x86_64/*.oci.tar --key keys/release.key\n  embrak release --head kept-head.json"
    )]
    Release {
        /// Artifacts; none: list the log
        paths: Vec<PathBuf>,
        /// The private key
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
        /// A signed state kept from before: check that the log continues it
        #[arg(long, value_name = "FILE", conflicts_with = "paths")]
        head: Option<PathBuf>,
        /// A public key that must have signed the kept state
        #[arg(long, value_name = "FILE", requires = "head")]
        signed_by: Vec<PathBuf>,
    },
    /// Check artifacts, layers or the lock against their evidence and a policy
    #[command(after_help = "Exit status: 0 every rule is met, 3 one is not.")]
    Verify {
        /// Artifacts; none: all outputs of the newest run
        paths: Vec<PathBuf>,
        /// The policy (default: trust.toml of the workspace)
        #[arg(long, value_name = "FILE")]
        policy: Option<PathBuf>,
        /// Trust this public key alone, to say how things were made
        #[arg(long, value_name = "FILE", conflicts_with = "policy")]
        key: Option<PathBuf>,
        /// The evidence, when it does not lie beside the artifact
        #[arg(long, value_name = "FILE")]
        evidence: Option<PathBuf>,
    },
    /// Build again from the record, elsewhere and under changed conditions, and compare digests
    #[command(
        after_help = "Exit status: 0 identical, 3 different.\nExamples:\n  embrak reproduce\n  embrak reproduce 12\n  embrak reproduce out/tide-service/x86_64/*.oci.tar --key keys/rebuild.key\n  embrak reproduce beacon.raw --vendored inputs --vendor-key maker.pub"
    )]
    Reproduce {
        /// An artifact or the number of a run; none: the newest finished run
        what: Option<String>,
        /// Vary this within steps, too: path, jobs, umask, locale, time-zone, host-name, user, clock, order, environment, memory, cpu, or all
        #[arg(long, value_name = "LIST", value_parser = variations, default_value = "")]
        vary: Variations,
        /// Build it again so often
        #[arg(long, value_name = "N", default_value = "1", value_parser = clap::value_parser!(u32).range(1..=100))]
        times: u32,
        /// Do not build what differs alone to find out why
        #[arg(long)]
        no_causes: bool,
        /// Let this build or version of Embrak build again, instead of the one that runs
        #[arg(long = "with", value_name = "PROGRAM")]
        program: Option<PathBuf>,
        /// The evidence to build again by, when it does not lie beside the artifact
        #[arg(long, value_name = "FILE")]
        evidence: Option<PathBuf>,
        /// Take the inputs from a directory that `embrak vendor` has made
        #[arg(long, value_name = "DIR")]
        vendored: Option<PathBuf>,
        /// A public key the vendor directory may be signed by (default: those in the workspace's keys/)
        #[arg(long, value_name = "FILE", requires = "vendored")]
        vendor_key: Vec<PathBuf>,
        /// Sign the result with this key
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
        /// Keep what was built again in this directory
        #[arg(long, value_name = "DIR")]
        keep: Option<PathBuf>,
    },
    /// Build one package alone, with something varied
    #[command(hide = true)]
    Probe {
        package: String,
        images: Vec<String>,
        #[arg(long)]
        board: Option<String>,
        #[arg(long, value_parser = variations, default_value = "")]
        vary: Variations,
        #[arg(long)]
        frozen: bool,
        #[arg(long)]
        shim: Option<PathBuf>,
        #[arg(long, default_value = "1")]
        jobs: usize,
        #[arg(long)]
        vendored: Option<PathBuf>,
        #[arg(long)]
        vendor_key: Vec<PathBuf>,
    },
    /// Look after the store
    Store {
        #[command(subcommand)]
        action: StoreAction,
    },
    /// Show the whole road on the Skerry example, offline
    Demo {
        /// Where to write the example; it must not be there yet
        #[arg(long, default_value = "./skerry-demo")]
        dir: PathBuf,
        /// Leave the emulated start out
        #[arg(long)]
        no_boot: bool,
    },
    /// Print a completion script for a shell
    Completions { shell: clap_complete::Shell },
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum BillForm {
    Text,
    Spdx,
    Cyclonedx,
}

#[derive(ClapArgs, Debug)]
pub struct DiffArgs {
    /// An image of any form, a directory, a package, a lock, evidence, or the number of a run
    pub a: PathBuf,
    /// What to compare it with
    pub b: PathBuf,
    /// How much to tell
    #[arg(long, value_enum, default_value = "full")]
    pub level: DiffLevel,
    /// What of files does not count
    #[arg(long, value_enum, value_delimiter = ',', value_name = "LIST")]
    pub ignore: Vec<Ignored>,
    /// Paths that do not count, as globs
    #[arg(long, value_name = "GLOB")]
    pub ignore_path: Vec<String>,
    /// Only these paths count, as globs
    #[arg(long, value_name = "GLOB")]
    pub only: Vec<String>,
    /// Write a page to look at in a browser, too
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiffLevel {
    Verdict,
    Summary,
    Full,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ignored {
    Times,
    Owners,
    Modes,
    /// Of entries, and how they are encoded: the same content is the same
    Order,
}

#[derive(ClapArgs, Debug)]
pub struct AuditArgs {
    /// The image
    pub path: PathBuf,
    /// Judge it by this profile: the name of one in the layers, or a file
    #[arg(long, value_name = "NAME|FILE")]
    pub profile: Vec<String>,
    /// Advisories in the OSV format: a file, a directory or a tar archive of them
    #[arg(long, value_name = "PATH")]
    pub advisories: Vec<PathBuf>,
    /// What was decided about advisories
    #[arg(long, value_name = "FILE", requires = "advisories")]
    pub decisions: Option<PathBuf>,
    /// The least severity that counts: info, low, medium or high
    #[arg(long, value_name = "SEVERITY", default_value = "high")]
    pub fail_on: embrak_audit::Severity,
    /// Show everything: all places, and what is allowed
    #[arg(long)]
    pub all: bool,
    /// Print SARIF 2.1.0
    #[arg(long, conflicts_with = "json")]
    pub sarif: bool,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Layers,
    Boards,
    Recipes,
    Packages,
    Images,
    Outputs,
    Repositories,
    Tools,
    Runs,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum SchemaOf {
    Workspace,
    Layer,
    Recipe,
    Board,
    Image,
    Amendment,
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShowKind {
    Layer,
    Board,
    Recipe,
    Image,
    /// What the maintainer scripts of an image's packages would do, as last built
    Scripts,
    Run,
}

#[derive(Subcommand, Debug)]
pub enum LayerAction {
    /// Put a layer behind all others, so that it amends them
    #[command(
        after_help = "Examples:\n  embrak layer add layers/holm\n  embrak layer add --git https://host.invalid/layers.git --commit 0123... --path holm\n  embrak layer add --archive holm.tar.xz --sha256 0123..."
    )]
    Add {
        /// Its directory, from the workspace's
        #[arg(required_unless_present_any = ["git", "archive"], conflicts_with_all = ["git", "archive"])]
        layer: Option<String>,
        /// A git repository to take it from
        #[arg(long, value_name = "URL", requires = "commit", conflicts_with = "archive")]
        git: Option<String>,
        /// The commit, all 40 digits
        #[arg(long, value_name = "COMMIT")]
        commit: Option<String>,
        /// A tar archive to take it from: a URL, or a path from the workspace's directory
        #[arg(long, value_name = "URL", requires = "sha256")]
        archive: Option<String>,
        /// SHA-256 of the archive
        #[arg(long, value_name = "DIGEST")]
        sha256: Option<String>,
        /// The layer's directory inside
        #[arg(long, value_name = "DIR", conflicts_with = "layer")]
        path: Option<String>,
    },
    /// Take a layer out; its directory stays
    Remove {
        /// Its directory as embrak.toml names it, its name, or its commit or digest
        layer: String,
    },
}

#[derive(Subcommand, Debug)]
pub enum KeysAction {
    /// Make a new key: keys/NAME.key and keys/NAME.pub
    New {
        name: String,
        /// How it signs
        #[arg(long, value_enum, default_value = "ed25519")]
        kind: KeyKind,
        /// Protect it by a passphrase: from EMBRAK_PASSPHRASE, from the file EMBRAK_PASSPHRASE_FILE names, or asked for
        #[arg(long)]
        passphrase: bool,
    },
    /// List the keys of the workspace
    List,
    /// Show one key
    Show { name: String },
    /// Write a public key to standard output; with --private the private one, protected by a passphrase
    Export {
        name: String,
        #[arg(long)]
        private: bool,
    },
    /// Take a key of PEM over, private or public, under a name
    Import { file: PathBuf, name: String },
}

#[derive(ValueEnum, Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyKind {
    Ed25519,
    P256,
}

#[derive(Subcommand, Debug)]
pub enum StoreAction {
    /// How much is kept
    Status,
    /// Read every object and compare it with its name; exit status 3 when one is damaged
    Check,
    /// Remove what no run on record needs
    Prune {
        /// How many of the newest runs stay on record
        #[arg(long, default_value = "20")]
        keep_runs: usize,
    },
}
