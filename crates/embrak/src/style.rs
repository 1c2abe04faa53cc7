//! Colour, and tables for a terminal.

use crate::args::Color;
use anstyle::{AnsiColor, Style};
use std::fmt::Display;

/// Applies `--color`; `NO_COLOR` and pipes are seen to by the stream.
pub fn choose(color: Color) {
    match color {
        Color::Auto => {}
        Color::Always => anstream::ColorChoice::AlwaysAnsi.write_global(),
        Color::Never => anstream::ColorChoice::Never.write_global(),
    }
}

fn painted(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// What a line is about.
pub fn strong(text: impl Display) -> String {
    painted(Style::new().bold(), text)
}

/// What matters less.
pub fn faint(text: impl Display) -> String {
    painted(Style::new().dimmed(), text)
}

/// What is as it should be.
pub fn good(text: impl Display) -> String {
    painted(AnsiColor::Green.on_default(), text)
}

/// What is not.
pub fn bad(text: impl Display) -> String {
    painted(AnsiColor::Red.on_default().bold(), text)
}

/// What should be looked at.
pub fn warn(text: impl Display) -> String {
    painted(AnsiColor::Yellow.on_default(), text)
}

/// What can be typed or opened.
pub fn name(text: impl Display) -> String {
    painted(AnsiColor::Cyan.on_default(), text)
}

/// Length as it is seen: without control sequences.
fn width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().chars().count()
}

/// Columns with a heading; the last column is not padded.
pub struct Table {
    rows: Vec<Vec<String>>,
    right: Vec<usize>,
}

impl Table {
    /// A table with these column headings.
    pub fn new(headings: &[&str]) -> Self {
        Table { rows: vec![headings.iter().map(faint).collect()], right: Vec::new() }
    }

    /// These columns are aligned to the right.
    pub fn right(mut self, columns: &[usize]) -> Self {
        self.right = columns.to_vec();
        self
    }

    /// Adds a row.
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.rows.push(cells.to_vec());
    }

    /// Whether there is only the heading.
    pub fn is_empty(&self) -> bool {
        self.rows.len() == 1
    }

    /// Prints it to standard output, indented.
    pub fn print(&self, indent: usize) {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or(0);
        let widths: Vec<usize> = (0..columns)
            .map(|c| self.rows.iter().filter_map(|r| r.get(c)).map(|t| width(t)).max().unwrap_or(0))
            .collect();
        for row in &self.rows {
            let mut line = " ".repeat(indent);
            for (column, cell) in row.iter().enumerate() {
                let pad = " ".repeat(widths[column] - width(cell));
                if self.right.contains(&column) {
                    line += &pad;
                    line += cell;
                } else {
                    line += cell;
                    if column + 1 < row.len() {
                        line += &pad;
                    }
                }
                if column + 1 < row.len() {
                    line += "  ";
                }
            }
            anstream::println!("{line}");
        }
    }
}

/// A text in lines of at most so many columns, cut between words.
pub fn wrapped(text: &str, columns: usize) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match out.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= columns => {
                line.push(' ');
                line.push_str(word);
            }
            _ => out.push(word.to_string()),
        }
    }
    out
}

/// A digest, or what is to be said when there is none.
pub fn shown_digest(digest: Option<embrak_tree::Digest>, none: &str) -> String {
    digest.map_or(none.to_string(), |digest| digest.to_string())
}
