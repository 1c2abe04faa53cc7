//! A comparison as a page: one file, no scripts, light and dark as the reader has it.

use crate::style::shown_digest;
use embrak_engine::{DiffReport, Difference};
use std::fmt::Write;

const STYLE: &str = "
:root { color-scheme: light dark; --line: #8884; --soft: #8882; --in: #1a7f37; --out: #cf222e; --warn: #9a6700; }
@media (prefers-color-scheme: dark) { :root { --in: #56d364; --out: #ff7b72; --warn: #e3b341; } }
body { font: 15px/1.5 system-ui, sans-serif; max-width: 70rem; margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.1rem; margin-top: 2rem; border-bottom: 1px solid var(--line); }
code, pre, td.m { font: 13px/1.45 ui-monospace, monospace; }
table { border-collapse: collapse; } td, th { text-align: left; padding: .15rem .9rem .15rem 0; vertical-align: top; }
td.n, th.n { text-align: right; } .in { color: var(--in); } .out { color: var(--out); } .warn { color: var(--warn); }
details { border: 1px solid var(--line); border-radius: 6px; margin: .4rem 0; padding: .3rem .7rem; }
summary { cursor: pointer; overflow-wrap: anywhere; } pre { background: var(--soft); padding: .5rem; overflow-x: auto; border-radius: 4px; }
.digest { overflow-wrap: anywhere; opacity: .75; }
";

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A number, and nothing for none.
fn number(n: usize) -> String {
    if n == 0 { String::new() } else { n.to_string() }
}

/// The page of a comparison.
pub fn diff(first: &str, second: &str, report: &DiffReport) -> String {
    let mut out = String::new();
    let (first, second) = (escaped(first), escaped(second));
    let verdict = match (report.identical, report.same_content) {
        (true, _) => "<span class=in>identical</span>",
        (_, true) => "<span class=warn>the same content, encoded otherwise</span>",
        _ => "<span class=out>different</span>",
    };
    // Writing into a string does not fail.
    let _ = write!(
        out,
        "<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content=\"width=device-width\">\
         <title>{first} and {second}</title><style>{STYLE}</style><h1>{verdict}</h1>\
         <table><tr><th>first<td class=m>{first}<br><span class=digest>{}</span>\
         <tr><th>second<td class=m>{second}<br><span class=digest>{}</span></table>",
        shown_digest(report.first, ""),
        shown_digest(report.second, "")
    );
    if !report.packages.is_empty() {
        let _ = write!(out, "<h2>Packages ({})</h2><table><tr><th><th>name<th>first<th>second", report.packages.len());
        for package in &report.packages {
            let (class, word) = match (&package.before, &package.after) {
                (None, _) => ("in", "came"),
                (_, None) => ("out", "went"),
                _ => ("warn", "moved"),
            };
            let text = |v: &Option<String>| v.as_deref().map(escaped).unwrap_or_default();
            let _ = write!(
                out,
                "<tr><td class={class}>{word}<td class=m>{}<td class=m>{}<td class=m>{}",
                escaped(&package.name),
                text(&package.before),
                text(&package.after)
            );
        }
        out += "</table>";
    }
    if !report.directories.is_empty() {
        out += "<h2>Files by directory</h2><table><tr><th>below<th class=n>added<th class=n>removed<th class=n>changed<th class=n>bytes";
        for (directory, d) in &report.directories {
            let _ = write!(
                out,
                "<tr><td class=m>{}<td class=\"n in\">{}<td class=\"n out\">{}<td class=\"n warn\">{}<td class=n>{}",
                escaped(directory),
                number(d.added),
                number(d.removed),
                number(d.changed),
                if d.bytes == 0 { String::new() } else { format!("{:+}", d.bytes) }
            );
        }
        out += "</table>";
    }
    let is_field = |d: &&Difference| d.lines.is_none() && d.cause.is_none() && !d.place.contains('/');
    let fields: Vec<&Difference> = report.differences.iter().filter(is_field).collect();
    if !fields.is_empty() {
        let _ = write!(
            out,
            "<h2>Fields of the formats ({})</h2><table><tr><th>where<th>field<th>first<th>second",
            fields.len()
        );
        for field in &fields {
            let place = if field.place.is_empty() { "the whole" } else { &field.place };
            let cells =
                [place, &field.field, &field.before, &field.after].map(|text| format!("<td class=m>{}", escaped(text)));
            let _ = write!(out, "<tr>{}", cells.concat());
        }
        out += "</table>";
    }
    let files: Vec<&Difference> = report.differences.iter().filter(|d| !is_field(d)).collect();
    if !files.is_empty() {
        let _ = write!(out, "<h2>Files ({})</h2>", files.len());
    }
    for (n, difference) in files.into_iter().enumerate() {
        let open = if n < 12 { " open" } else { "" };
        let place = if difference.place.is_empty() { "the whole" } else { &difference.place };
        let _ = write!(
            out,
            "<details{open}><summary><code>{}</code> {}</summary>",
            escaped(place),
            escaped(&difference.field)
        );
        if !difference.parts.is_empty() {
            out += "<ul>";
            for part in &difference.parts {
                let _ = write!(out, "<li class=m>{}", escaped(part));
            }
            out += "</ul>";
        }
        match &difference.lines {
            Some(lines) => {
                out += "<pre>";
                for line in lines.lines() {
                    let class = match line.chars().next() {
                        Some('+') => "in",
                        Some('-') => "out",
                        _ => "digest",
                    };
                    let _ = writeln!(out, "<span class={class}>{}</span>", escaped(line));
                }
                out += "</pre>";
            }
            None => {
                let _ = write!(
                    out,
                    "<table><tr><th>first<td class=m>{}<tr><th>second<td class=m>{}</table>",
                    escaped(&difference.before),
                    escaped(&difference.after)
                );
            }
        }
        if let Some(cause) = &difference.cause {
            let _ = write!(
                out,
                "<p><b class=warn>likely cause: {}</b> {}<br>{}",
                escaped(&cause.name),
                escaped(&cause.evidence),
                escaped(&cause.advice)
            );
        }
        out += "</details>";
    }
    out + "</html>\n"
}
