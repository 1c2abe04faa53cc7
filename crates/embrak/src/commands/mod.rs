//! One file per group of verbs.

mod audit;
mod build;
mod definitions;
mod evidence;
mod images;
mod keep;

use crate::args::{Args, Verb};
use crate::{demo, session};
use clap::CommandFactory;
use embrak_engine::{Probe, Selection};
use std::error::Error;

/// What a command that could not do its work gives back.
pub type Failure = Box<dyn Error>;

/// Exit status of a command that did its work. 2, wrong usage, is the argument parser's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Code {
    /// Done and good.
    Done = 0,
    /// Not done.
    Failed = 1,
    /// A check ran and found a difference or a violation.
    Found = 3,
}

impl Code {
    /// 0 when it is good, else 3.
    pub fn of(good: bool) -> Code {
        if good { Code::Done } else { Code::Found }
    }
}

/// Prints a result as one JSON document.
pub fn print_json(document: &impl serde::Serialize) -> Result<(), Failure> {
    println!("{}", serde_json::to_string_pretty(document)?);
    Ok(())
}

/// Carries out what was typed.
pub fn run(args: Args) -> Result<Code, Failure> {
    session::watch_interrupt();
    let global = args.global;
    match args.verb {
        Verb::New { dir, demo } => demo::new(&global, &dir, demo),
        Verb::List { kind } => definitions::list(&global, kind),
        Verb::Find { words } => definitions::find(&global, &words),
        Verb::Show { kind, name } => definitions::show(&global, kind, &name),
        Verb::Check => definitions::check(&global),
        Verb::Layer { action } => definitions::layer(&global, action),
        Verb::Trace { name, key } => definitions::trace(&global, &name, key.as_deref()),
        Verb::Lock { images, board, update, check } => build::lock(&global, images, board, update, check),
        Verb::Schema { kind } => definitions::schema(kind),
        Verb::Why { image, package, not, board } => build::why(&global, image, &package, not, board),
        Verb::Preview { images, full, board } => build::preview(&global, images, full, board),
        Verb::Build { images, board, locked, jobs, out, vendored, vendor_key, vary_steps, shim } => {
            let vendored = vendored.map(|dir| (dir, vendor_key));
            let probe = Probe { vary: vary_steps.as_ref().clone(), frozen: false, shim };
            let selection = Selection { images, board, ..Selection::default() };
            build::build(&global, selection, build::How { locked, jobs, out, vendored, probe })
        }
        Verb::Probe { package, images, board, vary, frozen, shim, jobs, vendored, vendor_key } => {
            let vendored = vendored.map(|dir| (dir, vendor_key));
            let probe = Probe { vary: vary.as_ref().clone(), frozen, shim };
            let selection = Selection { images, board, ..Selection::default() };
            build::probe(&global, selection, &package, jobs, vendored, probe)
        }
        Verb::Vendor { dir, images, board, key } => keep::vendor(&global, &dir, images, board, &key),
        Verb::Publish { dir, run, image, key } => keep::publish(&global, &dir, &run, &image, &key),
        Verb::Log { run, recipe } => keep::log(&global, &run, recipe.as_deref()),
        Verb::Inspect { path, files, cat, extract } => images::inspect(&global, &path, files, cat, extract),
        Verb::Diff(args) => images::diff(&global, &args),
        Verb::Boot { path, limit, kernel, interactive, key } => {
            images::boot(&global, path, limit, kernel, interactive, key)
        }
        Verb::Audit(args) => audit::audit(&global, &args),
        Verb::Bill { path, form, files } => audit::bill(&global, &path, form, files),
        Verb::Keys { action } => evidence::keys(&global, action),
        Verb::Sign { paths, key } => evidence::sign(&global, paths, &key),
        Verb::Release { paths, key, head, signed_by } => evidence::release(&global, &paths, key, head, &signed_by),
        Verb::Verify { paths, policy, key, evidence } => evidence::verify(&global, paths, policy, key, evidence),
        Verb::Reproduce { what, vary, times, no_causes, program, evidence, vendored, vendor_key, key, keep } => {
            let again = evidence::Again {
                vary: vary.as_ref().clone(),
                times,
                find_causes: !no_causes,
                program,
                evidence,
                vendored: vendored.map(|dir| (dir, vendor_key)),
            };
            evidence::reproduce(&global, what, again, key, keep)
        }
        Verb::Store { action } => keep::store(&global, action),
        Verb::Demo { dir, no_boot } => demo::demo(&global, &dir, no_boot),
        Verb::Completions { shell } => {
            // Whoever reads it may stop reading: the text is made whole first.
            let mut text = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "embrak", &mut text);
            std::io::Write::write_all(&mut std::io::stdout(), &text)?;
            Ok(Code::Done)
        }
    }
}
