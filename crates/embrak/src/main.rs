//! `embrak`: the command line. What is computed is computed elsewhere; this only reads arguments and prints.

mod args;
mod commands;
mod demo;
mod map;
mod page;
mod problem;
mod progress;
mod session;
mod style;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let args = args::Args::parse();
    style::choose(args.global.color);
    match commands::run(args) {
        Ok(code) => ExitCode::from(code as u8),
        Err(error) => {
            problem::print(&*error);
            ExitCode::from(commands::Code::Failed as u8)
        }
    }
}
