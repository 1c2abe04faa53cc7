//! Rendering errors: what, where, why, and what to do. Once, at the top.

use crate::style::{bad, faint, name, strong, warn};
use embrak_engine::EngineError;
use embrak_model::Problem;
use miette::{GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, NamedSource, Report};
use std::io::IsTerminal;

/// Prints an error to standard error.
pub fn print(error: &(dyn std::error::Error + 'static)) {
    match error.downcast_ref::<EngineError>() {
        Some(EngineError::Definitions(problems)) => {
            print_problems(problems);
            headline(&format!("{} in the definitions", count(problems.len(), "problem")), "");
        }
        Some(engine) => {
            headline(&engine.to_string(), &details(engine));
            advice(&engine.help());
        }
        None => headline(&error.to_string(), ""),
    }
}

fn headline(message: &str, details: &str) {
    let mut lines = message.lines();
    anstream::eprintln!("{} {}", bad("error:"), strong(lines.next().unwrap_or_default()));
    for line in lines.chain(details.lines()) {
        anstream::eprintln!("  {line}");
    }
}

/// Prints what to do, if there is something.
pub fn advice(text: &str) {
    if !text.is_empty() {
        anstream::eprintln!("{} {text}", name("what to do:"));
    }
}

fn details(error: &EngineError) -> String {
    match error {
        EngineError::Unsolvable { why, .. } => why.to_string(),
        EngineError::StepFailed { tail, .. } => {
            let shown: String = tail.iter().map(|l| format!("{} {l}\n", faint("|"))).collect();
            format!("the last lines of its log:\n{shown}")
        }
        EngineError::Conflicts { conflicts, .. } => {
            let mut out = String::new();
            for c in conflicts.iter().take(12) {
                out += &format!(
                    "{} is in {} and in {}, with different {}\n",
                    c.path,
                    c.first,
                    c.second,
                    c.differs.join(" and ")
                );
            }
            if conflicts.len() > 12 {
                out += &format!("... and {} more\n", conflicts.len() - 12);
            }
            out
        }
        _ => String::new(),
    }
}

/// `1 problem`, `2 problems`.
pub fn count(n: usize, what: &str) -> String {
    if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") }
}

/// Prints problems of definitions with their source lines.
pub fn print_problems(problems: &[Problem]) {
    let plain = !std::io::stderr().is_terminal();
    let theme = if plain { GraphicalTheme::unicode_nocolor() } else { GraphicalTheme::unicode() };
    let handler = GraphicalReportHandler::new_themed(theme).with_context_lines(1).with_width(100).with_links(false);
    for problem in problems {
        let Some(place) = &problem.place else {
            anstream::eprintln!("{} {}", bad("problem:"), problem.message);
            if let Some(help) = &problem.help {
                anstream::eprintln!("  {} {help}", warn("help:"));
            }
            anstream::eprintln!();
            continue;
        };
        let span = place.span.start..place.span.end.max(place.span.start);
        let mut diagnostic = MietteDiagnostic::new(problem.message.clone()).with_label(LabeledSpan::underline(span));
        if let Some(help) = &problem.help {
            diagnostic = diagnostic.with_help(help.clone());
        }
        let source = NamedSource::new(place.file.name.clone(), place.file.text.clone());
        let report = Report::new(diagnostic).with_source_code(source);
        let mut text = String::new();
        if handler.render_report(&mut text, report.as_ref()).is_ok() {
            anstream::eprintln!("{text}");
        } else {
            anstream::eprintln!("{problem}");
        }
    }
}
