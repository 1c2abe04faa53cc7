//! The shell language (IEEE Std 1003.1, Shell Command Language), as far as maintainer scripts use it: read into a tree.

use std::collections::HashMap;

/// A part of a word.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Part {
    /// Text; quoted text is no pattern and is never split.
    Text { text: String, quoted: bool },
    /// `$name` or `${name...}`: the name, and what stands behind it.
    Variable { name: String, rest: Option<(String, Word)>, quoted: bool },
    /// `$(...)` or backquotes.
    Command { script: Vec<Node>, quoted: bool },
}

/// A word before it is expanded.
pub(crate) type Word = Vec<Part>;

/// A command.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Node {
    Simple { assignments: Vec<(String, Word)>, words: Vec<Word>, output: Option<Word> },
    If { branches: Vec<(Vec<Node>, Vec<Node>)>, otherwise: Vec<Node> },
    For { variable: String, words: Vec<Word>, body: Vec<Node> },
    While { body: Vec<Node> },
    Case { word: Word, arms: Vec<(Vec<Word>, Vec<Node>)> },
    Function { name: String, body: Vec<Node> },
    Group(Vec<Node>),
    And(Box<Node>, Box<Node>),
    Or(Box<Node>, Box<Node>),
    Not(Box<Node>),
    Pipe(Vec<Node>),
}

/// Reads a script.
///
/// # Errors
/// It cannot be read; says near which line.
pub(crate) fn parse(text: &str) -> Result<Vec<Node>, String> {
    let mut parser = Parser { chars: text.chars().collect(), at: 0, depth: 0, documents: Vec::new() };
    let nodes = parser.list(&[])?;
    parser.blank();
    if parser.at < parser.chars.len() {
        return Err(parser.wrong("something that begins no command"));
    }
    Ok(nodes)
}

struct Parser {
    chars: Vec<char>,
    at: usize,
    depth: usize,
    /// Ends of here-documents whose text begins on the next line.
    documents: Vec<(String, bool)>,
}

/// Scripts nested deeper are not read.
const DEEPEST: usize = 60;
const RESERVED: [&str; 13] =
    ["then", "else", "elif", "fi", "do", "done", "esac", "}", "if", "case", "for", "while", "until"];

impl Parser {
    fn peek(&self) -> Option<char> {
        self.chars.get(self.at).copied()
    }

    fn rest(&self) -> &[char] {
        self.chars.get(self.at..).unwrap_or_default()
    }

    fn ahead(&self, n: usize) -> Option<char> {
        self.chars.get(self.at + n).copied()
    }

    fn wrong(&self, what: &str) -> String {
        let line = 1 + self.chars[..self.at.min(self.chars.len())].iter().filter(|c| **c == '\n').count();
        format!("line {line}: {what}")
    }

    /// Skips blanks, comments and continued lines, not newlines.
    fn blank(&mut self) {
        loop {
            match (self.peek(), self.ahead(1)) {
                (Some(' ' | '\t' | '\r'), _) => self.at += 1,
                (Some('\\'), Some('\n')) => self.at += 2,
                (Some('#'), _) => {
                    while self.peek().is_some_and(|c| c != '\n') {
                        self.at += 1;
                    }
                }
                _ => return,
            }
        }
    }

    fn newline(&mut self) {
        self.at += 1;
        for (end, tabs) in std::mem::take(&mut self.documents) {
            while self.at < self.chars.len() {
                let start = self.at;
                while self.peek().is_some_and(|c| c != '\n') {
                    self.at += 1;
                }
                let line: String =
                    self.chars[start.min(self.chars.len())..self.at.min(self.chars.len())].iter().collect();
                self.at = (self.at + 1).min(self.chars.len());
                if (if tabs { line.trim_start_matches('\t') } else { &line }) == end {
                    break;
                }
            }
        }
    }

    fn space(&mut self) {
        loop {
            self.blank();
            if self.peek() == Some('\n') { self.newline() } else { return }
        }
    }

    /// The plain word that comes next, if it is one, without taking it.
    fn reserved(&mut self) -> Option<String> {
        self.blank();
        let word: String =
            self.rest().iter().take(8).take_while(|c| c.is_ascii_alphabetic() || "{}!".contains(**c)).collect();
        let after = self.ahead(word.len());
        let ends = after.is_none_or(|c| " \t\n;&|()<>".contains(c));
        (ends && (RESERVED.contains(&word.as_str()) || word == "{" || word == "!")).then_some(word)
    }

    fn expect(&mut self, word: &str) -> Result<(), String> {
        self.space();
        if self.reserved().as_deref() == Some(word) {
            self.at += word.len();
            return Ok(());
        }
        Err(self.wrong(&format!("`{word}` is missing")))
    }

    fn list(&mut self, ends: &[&str]) -> Result<Vec<Node>, String> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.wrong("nested too deeply"));
        }
        let mut out = Vec::new();
        loop {
            self.space();
            while self.peek() == Some(';') && self.ahead(1) != Some(';') || self.peek() == Some('&') {
                self.at += 1;
                self.space();
            }
            match self.peek() {
                None | Some(')') => break,
                Some(';') => break,
                _ => {}
            }
            if let Some(word) = self.reserved()
                && (ends.contains(&word.as_str())
                    || matches!(word.as_str(), "then" | "else" | "elif" | "fi" | "do" | "done" | "esac" | "}"))
            {
                break;
            }
            out.push(self.and_or()?);
        }
        self.depth -= 1;
        Ok(out)
    }

    fn and_or(&mut self) -> Result<Node, String> {
        let mut left = self.pipeline()?;
        loop {
            self.blank();
            let (and, or) = (
                self.peek() == Some('&') && self.ahead(1) == Some('&'),
                self.peek() == Some('|') && self.ahead(1) == Some('|'),
            );
            if !and && !or {
                return Ok(left);
            }
            self.at += 2;
            self.space();
            let right = self.pipeline()?;
            left = if and {
                Node::And(Box::new(left), Box::new(right))
            } else {
                Node::Or(Box::new(left), Box::new(right))
            };
        }
    }

    fn pipeline(&mut self) -> Result<Node, String> {
        if self.reserved().as_deref() == Some("!") {
            self.at += 1;
            return Ok(Node::Not(Box::new(self.pipeline()?)));
        }
        let mut all = vec![self.command()?];
        loop {
            self.blank();
            if self.peek() == Some('|') && self.ahead(1) != Some('|') {
                self.at += 1;
                self.space();
                all.push(self.command()?);
            } else {
                break;
            }
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Node::Pipe(all) })
    }

    fn command(&mut self) -> Result<Node, String> {
        let node = match self.reserved().as_deref() {
            Some("if") => self.conditional()?,
            Some("for") => self.for_loop()?,
            Some(word @ ("while" | "until")) => {
                self.at += word.len();
                self.list(&["do"])?;
                self.expect("do")?;
                let body = self.list(&["done"])?;
                self.expect("done")?;
                Node::While { body }
            }
            Some("case") => self.case()?,
            Some("{") => {
                self.at += 1;
                let body = self.list(&["}"])?;
                self.expect("}")?;
                Node::Group(body)
            }
            _ if self.peek() == Some('(') => {
                self.at += 1;
                let body = self.list(&[])?;
                self.close(')')?;
                Node::Group(body)
            }
            _ => return self.simple(),
        };
        while self.redirection()?.is_some() {}
        Ok(node)
    }

    fn close(&mut self, c: char) -> Result<(), String> {
        self.space();
        if self.peek() == Some(c) {
            self.at += 1;
            return Ok(());
        }
        Err(self.wrong(&format!("`{c}` is missing")))
    }

    fn conditional(&mut self) -> Result<Node, String> {
        self.at += 2;
        let mut branches = Vec::new();
        loop {
            let condition = self.list(&["then"])?;
            self.expect("then")?;
            branches.push((condition, self.list(&["else", "elif", "fi"])?));
            self.space();
            match self.reserved().as_deref() {
                Some("elif") => self.at += 4,
                Some("else") => {
                    self.at += 4;
                    let otherwise = self.list(&["fi"])?;
                    self.expect("fi")?;
                    return Ok(Node::If { branches, otherwise });
                }
                _ => {
                    self.expect("fi")?;
                    return Ok(Node::If { branches, otherwise: Vec::new() });
                }
            }
        }
    }

    fn name(&mut self) -> String {
        let start = self.at;
        while self.peek().is_some_and(|c| c.is_ascii_alphanumeric() || c == '_') {
            self.at += 1;
        }
        self.chars[start.min(self.chars.len())..self.at.min(self.chars.len())].iter().collect()
    }

    fn for_loop(&mut self) -> Result<Node, String> {
        self.at += 3;
        self.blank();
        let variable = self.name();
        self.space();
        let mut words = Vec::new();
        if self.rest().starts_with(&['i', 'n']) && self.ahead(2).is_some_and(char::is_whitespace) {
            self.at += 2;
            while let Some(word) = self.word()? {
                words.push(word);
            }
        } else {
            words.push(vec![Part::Variable { name: "@".into(), rest: None, quoted: true }]);
        }
        self.space();
        if self.peek() == Some(';') {
            self.at += 1;
        }
        self.expect("do")?;
        let body = self.list(&["done"])?;
        self.expect("done")?;
        Ok(Node::For { variable, words, body })
    }

    fn case(&mut self) -> Result<Node, String> {
        self.at += 4;
        let word = self.word()?.unwrap_or_default();
        self.space();
        if !self.rest().starts_with(&['i', 'n']) {
            return Err(self.wrong("`in` is missing"));
        }
        self.at += 2;
        let mut arms = Vec::new();
        loop {
            self.space();
            if self.reserved().as_deref() == Some("esac") {
                self.at += 4;
                return Ok(Node::Case { word, arms });
            }
            if self.peek() == Some('(') {
                self.at += 1;
            }
            let mut patterns = Vec::new();
            loop {
                self.blank();
                patterns.push(self.word()?.ok_or_else(|| self.wrong("a pattern is missing"))?);
                self.blank();
                match self.peek() {
                    Some('|') => self.at += 1,
                    Some(')') => {
                        self.at += 1;
                        break;
                    }
                    _ => return Err(self.wrong("`)` behind a pattern is missing")),
                }
            }
            arms.push((patterns, self.list(&["esac"])?));
            self.space();
            if self.peek() == Some(';') && self.ahead(1) == Some(';') {
                self.at += 2;
            }
        }
    }

    /// Takes `>FILE` and its kin; what it writes to, when that matters.
    fn redirection(&mut self) -> Result<Option<Option<Word>>, String> {
        self.blank();
        let start = self.at;
        while self.peek().is_some_and(|c| c.is_ascii_digit()) {
            self.at += 1;
        }
        let descriptor = self.at > start && self.chars.get(start) != Some(&'1');
        let Some(first @ ('<' | '>')) = self.peek() else {
            self.at = start;
            return Ok(None);
        };
        self.at += 1;
        if first == '<' && self.peek() == Some('<') {
            self.at += 1;
            let tabs = self.peek() == Some('-');
            self.at += usize::from(tabs);
            let word = self.word()?.unwrap_or_default();
            let end = word.iter().map(|p| if let Part::Text { text, .. } = p { text.as_str() } else { "" }).collect();
            self.documents.push((end, tabs));
            return Ok(Some(None));
        }
        while self.peek().is_some_and(|c| ">&|".contains(c)) {
            self.at += 1;
        }
        let target = self.word()?;
        Ok(Some(target.filter(|_| first == '>' && !descriptor)))
    }

    fn simple(&mut self) -> Result<Node, String> {
        let (mut assignments, mut words, mut output) = (Vec::new(), Vec::new(), None);
        loop {
            if let Some(target) = self.redirection()? {
                output = target.or(output);
                continue;
            }
            let start = self.at;
            if words.is_empty() {
                let name = self.name();
                if !name.is_empty() && self.peek() == Some('=') {
                    self.at += 1;
                    let value = if self.peek().is_none_or(|c| " \t\n;&|)".contains(c)) {
                        vec![]
                    } else {
                        self.word()?.unwrap_or_default()
                    };
                    assignments.push((name, value));
                    continue;
                }
                self.blank();
                if !name.is_empty() && self.peek() == Some('(') && !name.starts_with(|c: char| c.is_ascii_digit()) {
                    self.at += 1;
                    self.close(')')?;
                    self.space();
                    let body = match self.command()? {
                        Node::Group(body) => body,
                        other => vec![other],
                    };
                    return Ok(Node::Function { name, body });
                }
                self.at = start;
            }
            match self.word()? {
                Some(word) => words.push(word),
                None => break,
            }
        }
        if words.is_empty() && assignments.is_empty() && output.is_none() {
            return Err(self.wrong("something that begins no command"));
        }
        Ok(Node::Simple { assignments, words, output })
    }

    fn word(&mut self) -> Result<Option<Word>, String> {
        self.blank();
        let mut out: Word = Vec::new();
        let mut any = false;
        while let Some(c) = self.peek() {
            match c {
                ' ' | '\t' | '\r' | '\n' | ';' | '&' | '|' | '(' | ')' | '<' | '>' => break,
                '\'' => {
                    self.at += 1;
                    let start = self.at;
                    while self.peek().is_some_and(|c| c != '\'') {
                        self.at += 1;
                    }
                    let text = self.chars[start.min(self.chars.len())..self.at.min(self.chars.len())].iter().collect();
                    out.push(Part::Text { text, quoted: true });
                    self.at += 1;
                }
                '"' => {
                    self.at += 1;
                    out.push(Part::Text { text: String::new(), quoted: true });
                    while self.peek().is_some_and(|c| c != '"') {
                        self.inside(&mut out, true)?;
                    }
                    if self.peek().is_none() {
                        return Err(self.wrong("a quotation mark is not closed"));
                    }
                    self.at += 1;
                }
                _ => self.inside(&mut out, false)?,
            }
            any = true;
        }
        Ok(any.then_some(out))
    }

    /// One character or expansion.
    fn inside(&mut self, out: &mut Word, quoted: bool) -> Result<(), String> {
        match (self.peek(), self.ahead(1)) {
            (Some('\\'), Some('\n')) => self.at += 2,
            (Some('\\'), Some(c)) => {
                if quoted && !"$`\"\\".contains(c) {
                    text(out, '\\', quoted);
                }
                text(out, c, true);
                self.at += 2;
            }
            (Some('$'), Some('(')) if self.ahead(2) == Some('(') => {
                // Arithmetic: what it yields is not known here.
                let mut depth = 0;
                while let Some(c) = self.peek() {
                    self.at += 1;
                    depth += i32::from(c == '(') - i32::from(c == ')');
                    if depth == 0 && c == ')' {
                        break;
                    }
                }
                out.push(Part::Command { script: vec![], quoted });
            }
            (Some('$'), Some('(')) => {
                self.at += 2;
                let script = self.list(&[])?;
                self.close(')')?;
                out.push(Part::Command { script, quoted });
            }
            (Some('`'), _) => {
                self.at += 1;
                let mut inner = String::new();
                while let Some(c) = self.peek().filter(|c| *c != '`') {
                    self.at += 1;
                    match self.peek() {
                        Some(next) if c == '\\' && "$`\\".contains(next) => {
                            inner.push(next);
                            self.at += 1;
                        }
                        _ => inner.push(c),
                    }
                }
                self.at += 1;
                if self.depth > DEEPEST / 2 {
                    return Err(self.wrong("nested too deeply"));
                }
                out.push(Part::Command { script: parse(&inner)?, quoted });
            }
            (Some('$'), Some('{')) => {
                self.at += 2;
                let length = self.peek() == Some('#') && self.ahead(1) != Some('}');
                self.at += usize::from(length);
                let mut name = self.name();
                if name.is_empty() {
                    name = self.peek().into_iter().collect();
                    self.at += 1;
                }
                let mut operator = String::new();
                while let Some(c) = self.peek().filter(|c| ":-+=?#%".contains(*c)) {
                    if operator.len() == 2 {
                        break;
                    }
                    operator.push(c);
                    self.at += 1;
                }
                let mut rest = Word::new();
                while self.peek().is_some_and(|c| c != '}') {
                    match self.peek() {
                        Some('"') => {
                            self.at += 1;
                            while self.peek().is_some_and(|c| c != '"') {
                                self.inside(&mut rest, true)?;
                            }
                            self.at += 1;
                        }
                        Some('\'') if !quoted => {
                            self.at += 1;
                            while let Some(c) = self.peek().filter(|c| *c != '\'') {
                                text(&mut rest, c, true);
                                self.at += 1;
                            }
                            self.at += 1;
                        }
                        _ => self.inside(&mut rest, quoted)?,
                    }
                }
                self.at += 1;
                if length {
                    operator = "length".into();
                }
                let rest = (!operator.is_empty()).then_some((operator, rest));
                out.push(Part::Variable { name, rest, quoted });
            }
            (Some('$'), Some(c)) if c.is_ascii_alphabetic() || c == '_' => {
                self.at += 1;
                let name = self.name();
                out.push(Part::Variable { name, rest: None, quoted });
            }
            (Some('$'), Some(c)) if c.is_ascii_digit() || "@*#?$!-".contains(c) => {
                self.at += 2;
                out.push(Part::Variable { name: c.to_string(), rest: None, quoted });
            }
            (Some(c), _) => {
                text(out, c, quoted);
                self.at += 1;
            }
            (None, _) => return Err(self.wrong("it ends within a word")),
        }
        Ok(())
    }
}

fn text(out: &mut Word, c: char, quoted: bool) {
    match out.last_mut() {
        Some(Part::Text { text, quoted: q }) if *q == quoted => text.push(c),
        _ => out.push(Part::Text { text: c.into(), quoted }),
    }
}

/// Names of functions and what they do.
pub(crate) type Functions = HashMap<String, Vec<Node>>;

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_scripts_use_is_read() {
        let script = r#"#!/bin/sh
set -e
ua() {
    update-alternatives --install /usr/bin/x x /usr/bin/x.y 10 \
        --slave /m x.1 /m.y
}
case "$1" in
  (configure|reconfigure) ua ;;
  abort-*) : ;;
esac
if [ -z "$2" ] && ! test -e "$DPKG_ROOT/etc/x"; then cp a b || true; elif false; then :; else ln -s "${D:-q}" b; fi
for f in a b; do echo "$f"; done > /dev/null 2>&1
cat <<EOF
if this were read, it would fail: '
EOF
x=$(dpkg-divert --truename /bin/sh)
while read -r line; do :; done
"#;
        let nodes = parse(script).unwrap();
        assert_eq!(nodes.len(), 8);
        assert!(matches!(&nodes[1], Node::Function { name, .. } if name == "ua"));
        assert!(matches!(&nodes[2], Node::Case { arms, .. } if arms.len() == 2 && arms[0].0.len() == 2));
        assert!(matches!(&nodes[3], Node::If { branches, otherwise } if branches.len() == 2 && otherwise.len() == 1));
        assert!(parse("if true; then x").unwrap_err().starts_with("line 1:"));
        assert!(parse(&"(".repeat(5000)).is_err());
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[a-z $(){}'\"`;&|<>\\\\\n#=!]{0,80}") {
            let _ = parse(&text);
        }
    }
}
