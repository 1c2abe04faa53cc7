//! Reading maintainer scripts: what they would do on a machine they have just been installed on, done to the tree.
//!
//! Conditions are answered from the tree and the accounts where that is possible. Where it is not, neither branch is
//! taken, and what stands in them is listed as left over.

use crate::accounts::Accounts;
use crate::alternatives::Alternatives;
use crate::shell::{Functions, Node, Part, Word, parse};
use crate::{Result, Root};
use embrak_tree::Tree;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// The scripts of a package, and what else of it is needed to follow them.
pub struct PackageScripts<'a> {
    /// Its name.
    pub package: &'a str,
    /// Its architecture, as the distribution names it.
    pub architecture: &'a str,
    /// Its files, to tell whose a diverted file is.
    pub tree: &'a Tree,
    /// Text of `preinst`.
    pub preinst: Option<String>,
    /// Text of `postinst`.
    pub postinst: Option<String>,
    /// Text of `templates`: questions and their usual answers.
    pub templates: Option<String>,
}

/// Something a script would have done that was not done.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Leftover {
    /// The package.
    pub package: String,
    /// `preinst` or `postinst`.
    pub script: String,
    /// What was not done.
    pub what: String,
}

/// What was done and what was not.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Report {
    /// How often each kind of thing was done.
    pub done: BTreeMap<String, usize>,
    /// What was not done.
    pub left: BTreeSet<Leftover>,
    /// Units that scripts start.
    pub enabled: BTreeSet<String>,
    /// Files that one package moves out of another's way: file, where it is now, package.
    pub diversions: Vec<(String, String, String)>,
    /// Owners and modes that stay whatever packages say: user, group, mode, path.
    pub overrides: Vec<(String, String, String, String)>,
    /// Chosen alternatives.
    pub alternatives: Alternatives,
}

/// Follows the scripts of all packages, in the order they would be installed in: first what comes before a package's
/// files, then what comes after.
///
/// # Errors
/// Contents of the tree cannot be read or kept.
pub fn settle(root: &mut Root<'_>, accounts: &mut Accounts, packages: &[PackageScripts<'_>]) -> Result<Report> {
    let mut report = Report::default();
    // What everything else takes for granted: accounts first, then the directories of the base.
    let rank = |p: &PackageScripts<'_>| match p.package {
        "base-passwd" => 0,
        "base-files" => 1,
        _ => 2,
    };
    let mut order: Vec<&PackageScripts<'_>> = packages.iter().collect();
    order.sort_by_key(|p| rank(p));
    for (script, argument) in [("preinst", "install"), ("postinst", "configure")] {
        for package in &order {
            let text = if script == "preinst" { &package.preinst } else { &package.postinst };
            let Some(text) = text else { continue };
            follow(root, accounts, package, script, argument, text, &mut report)?;
            // The first accounts come as whole files.
            if package.package == "base-passwd" {
                *accounts = Accounts::read(root)?;
            }
        }
    }
    Ok(report)
}

fn follow(
    root: &mut Root<'_>,
    accounts: &mut Accounts,
    package: &PackageScripts<'_>,
    script: &str,
    argument: &str,
    text: &str,
    report: &mut Report,
) -> Result<()> {
    let left = |what: String| Leftover { package: package.package.into(), script: script.into(), what };
    let first = text.lines().next().unwrap_or_default();
    if !first.starts_with("#!") || !["sh", "bash", "dash"].iter().any(|s| first.split(['/', ' ']).any(|w| w == *s)) {
        report.left.insert(left(format!("the whole script, which is for {}", first.trim_start_matches("#!").trim())));
        return Ok(());
    }
    let nodes = match parse(text) {
        Ok(nodes) => nodes,
        Err(why) => {
            report.left.insert(left(format!("the whole script, which cannot be followed: {why}")));
            return Ok(());
        }
    };
    let variables = [
        ("DPKG_ROOT", ""),
        ("DEBIAN_FRONTEND", "noninteractive"),
        ("DPKG_MAINTSCRIPT_PACKAGE", package.package),
        ("DPKG_MAINTSCRIPT_ARCH", package.architecture),
        ("DPKG_MAINTSCRIPT_NAME", script),
        ("HOME", "/root"),
        ("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"),
    ];
    // Accounts are read back from their files, so a script that copies them in is believed.
    let mut run = Run {
        root,
        accounts,
        package,
        script,
        report,
        variables: variables.iter().map(|(n, v)| ((*n).to_string(), Some((*v).to_string()))).collect(),
        arguments: vec![format!("/var/lib/dpkg/info/{}.{script}", package.package), argument.into(), String::new()],
        functions: Functions::new(),
        answers: package.templates.as_deref().map(answers).unwrap_or_default(),
        steps: 0,
        calls: 0,
        temporary: 0,
    };
    // Called as on a first installation: there is no second argument.
    run.arguments.truncate(2);
    run.list(&nodes)?;
    let temporary: Vec<_> = run.root.list("/tmp").into_iter().filter(|n| n.starts_with(TEMPORARY)).collect();
    for name in temporary {
        if let Ok(path) = run.root.resolve(&format!("/tmp/{name}"), false) {
            run.root.tree.remove_below(&path);
        }
    }
    Ok(())
}

/// Beginning of the names of files made for a while.
pub(crate) const TEMPORARY: &str = "embrak-while.";

/// Usual answers to questions, out of deb-conf templates.
fn answers(text: &str) -> HashMap<String, String> {
    let mut out = HashMap::new();
    let mut name = String::new();
    for line in text.lines() {
        if let Some(template) = line.strip_prefix("Template:") {
            name = template.trim().to_string();
            out.insert(name.clone(), String::new());
        } else if let Some(value) = line.strip_prefix("Default:") {
            out.insert(name.clone(), value.trim().to_string());
        }
    }
    out
}

/// Whether a command succeeds; nothing when that cannot be known.
pub(crate) type Status = Option<bool>;

/// How following goes on.
pub(crate) enum Flow {
    Next(Status),
    Return,
    Exit,
}

/// No script carries out more commands than this.
const MOST_STEPS: usize = 20_000;
/// Functions call one another no deeper.
const MOST_CALLS: usize = 40;

pub(crate) struct Run<'r, 'b, 'p> {
    pub(crate) root: &'r mut Root<'b>,
    pub(crate) accounts: &'r mut Accounts,
    pub(crate) package: &'r PackageScripts<'p>,
    script: &'r str,
    pub(crate) report: &'r mut Report,
    pub(crate) variables: HashMap<String, Option<String>>,
    pub(crate) arguments: Vec<String>,
    pub(crate) functions: Functions,
    pub(crate) answers: HashMap<String, String>,
    steps: usize,
    calls: usize,
    pub(crate) temporary: usize,
}

impl Run<'_, '_, '_> {
    pub(crate) fn left(&mut self, what: impl Into<String>) {
        let (package, script) = (self.package.package.to_string(), self.script.to_string());
        self.report.left.insert(Leftover { package, script, what: what.into() });
    }

    pub(crate) fn did(&mut self, kind: &str) {
        *self.report.done.entry(kind.to_string()).or_default() += 1;
    }

    fn list(&mut self, nodes: &[Node]) -> Result<Flow> {
        let mut status = Some(true);
        for node in nodes {
            match self.node(node)? {
                Flow::Next(next) => status = next,
                other => return Ok(other),
            }
        }
        Ok(Flow::Next(status))
    }

    fn node(&mut self, node: &Node) -> Result<Flow> {
        self.steps += 1;
        if self.steps > MOST_STEPS {
            self.left("what comes after its first 20000 commands");
            return Ok(Flow::Exit);
        }
        match node {
            Node::Simple { assignments, words, output } => self.simple(assignments, words, output.as_ref()),
            Node::Group(body) => self.list(body),
            Node::Function { name, body } => {
                self.functions.insert(name.clone(), body.clone());
                Ok(Flow::Next(Some(true)))
            }
            Node::Not(inner) => Ok(match self.node(inner)? {
                Flow::Next(status) => Flow::Next(status.map(|s| !s)),
                other => other,
            }),
            Node::And(a, b) | Node::Or(a, b) => {
                let go_on = matches!(node, Node::And(..));
                match self.node(a)? {
                    Flow::Next(Some(status)) if status == go_on => self.node(b),
                    Flow::Next(None) => {
                        // `X || true` is of no interest; the rest may be.
                        self.unknown(std::slice::from_ref(b));
                        Ok(Flow::Next(None))
                    }
                    other => Ok(other),
                }
            }
            Node::Pipe(all) => {
                for node in all {
                    // What a pipe says is not known; what its parts do is.
                    if let Flow::Exit = self.node(node)? {
                        return Ok(Flow::Exit);
                    }
                }
                Ok(Flow::Next(None))
            }
            Node::While { body } => {
                self.unknown(body);
                Ok(Flow::Next(Some(true)))
            }
            Node::If { branches, otherwise } => {
                for (number, (condition, body)) in branches.iter().enumerate() {
                    match self.list(condition)? {
                        Flow::Next(Some(true)) => return self.list(body),
                        Flow::Next(Some(false)) => {}
                        Flow::Next(None) => {
                            for (_, body) in &branches[number..] {
                                self.unknown(body);
                            }
                            self.unknown(otherwise);
                            return Ok(Flow::Next(None));
                        }
                        other => return Ok(other),
                    }
                }
                self.list(otherwise)
            }
            Node::For { variable, words, body } => {
                let mut values = Vec::new();
                for word in words {
                    match self.expand(word)? {
                        Some(more) => values.extend(more),
                        None => {
                            self.unknown(body);
                            return Ok(Flow::Next(None));
                        }
                    }
                }
                for value in values {
                    self.variables.insert(variable.clone(), Some(value));
                    match self.list(body)? {
                        Flow::Next(_) => {}
                        other => return Ok(other),
                    }
                }
                Ok(Flow::Next(Some(true)))
            }
            Node::Case { word, arms } => {
                let Some(value) = self.one(word)? else {
                    for (_, body) in arms {
                        self.unknown(body);
                    }
                    return Ok(Flow::Next(None));
                };
                for (patterns, body) in arms {
                    for pattern in patterns {
                        if self.matches(pattern, &value)? {
                            return self.list(body);
                        }
                    }
                }
                Ok(Flow::Next(Some(true)))
            }
        }
    }

    /// Lists what is worth knowing in commands that are not followed.
    fn unknown(&mut self, nodes: &[Node]) {
        let mut names = BTreeSet::new();
        notable(nodes, &self.functions, &mut names, 0);
        if !names.is_empty() {
            let names: Vec<String> = names.into_iter().collect();
            self.left(format!("{}, under a condition that only a running system can answer", names.join(", ")));
        }
    }

    fn simple(&mut self, assignments: &[(String, Word)], words: &[Word], output: Option<&Word>) -> Result<Flow> {
        for (name, word) in assignments {
            let value = self.one(word)?;
            if words.is_empty() || matches!(words[0].first(), Some(Part::Text { .. })) {
                self.variables.insert(name.clone(), value);
            }
        }
        let mut all = Vec::new();
        for word in words {
            match self.expand(word)? {
                Some(more) => all.extend(more),
                None => {
                    let mut names = BTreeSet::new();
                    let node = Node::Simple { assignments: vec![], words: words.to_vec(), output: None };
                    notable(std::slice::from_ref(&node), &self.functions, &mut names, 0);
                    if let Some(name) = names.first() {
                        self.left(format!("{name}, called with something that only a running system knows"));
                    }
                    return Ok(Flow::Next(None));
                }
            }
        }
        let output = match output {
            Some(word) => self.one(word)?.filter(|o| o.starts_with('/') && !o.starts_with("/dev/")),
            None => None,
        };
        let Some(name) = all.first().cloned() else {
            if let Some(file) = output {
                self.root.put(&file, "")?;
            }
            return Ok(Flow::Next(Some(true)));
        };
        if let Some(body) = self.functions.get(&name).cloned() {
            if self.calls >= MOST_CALLS {
                return Ok(Flow::Next(None));
            }
            self.calls += 1;
            let mut arguments = vec![self.arguments[0].clone()];
            arguments.extend(all.drain(1..));
            let outer = std::mem::replace(&mut self.arguments, arguments);
            let flow = self.list(&body)?;
            self.arguments = outer;
            self.calls -= 1;
            return Ok(if let Flow::Return = flow { Flow::Next(Some(true)) } else { flow });
        }
        self.command(&name, &all[1..], output.as_deref())
    }

    /// A word as one text.
    pub(crate) fn one(&mut self, word: &Word) -> Result<Option<String>> {
        let mut out = String::new();
        for part in word {
            match self.part(part)? {
                Some(text) => out += &text,
                None => return Ok(None),
            }
        }
        Ok(Some(out))
    }

    fn part(&mut self, part: &Part) -> Result<Option<String>> {
        Ok(match part {
            Part::Text { text, .. } => Some(text.clone()),
            Part::Variable { name, rest, .. } => self.variable(name, rest.as_ref())?,
            Part::Command { script, .. } => self.output_of(script)?,
        })
    }

    fn variable(&mut self, name: &str, rest: Option<&(String, Word)>) -> Result<Option<String>> {
        let value: Option<Option<String>> = match name {
            "@" | "*" => Some(Some(self.arguments[1..].join(" "))),
            "#" => Some(Some((self.arguments.len() - 1).to_string())),
            "?" | "$" | "!" | "-" => Some(None),
            digit if digit.chars().all(|c| c.is_ascii_digit()) => {
                Some(Some(digit.parse().ok().and_then(|n: usize| self.arguments.get(n)).cloned().unwrap_or_default()))
            }
            name => self.variables.get(name).cloned(),
        };
        let Some((operator, word)) = rest else { return Ok(value.unwrap_or(Some(String::new()))) };
        if matches!(value, Some(None)) {
            return Ok(None);
        }
        let text = value.flatten();
        let empty = text.as_deref().unwrap_or_default().is_empty();
        let unset = text.is_none() || operator.starts_with(':') && empty;
        Ok(match operator.trim_start_matches(':') {
            "-" | "=" if unset => self.one(word)?,
            "+" if unset => Some(String::new()),
            "+" => self.one(word)?,
            "-" | "=" | "?" => text.or_else(|| Some(String::new())),
            "#" | "##" | "%" | "%%" => match (self.one(word)?, text) {
                (Some(pattern), Some(text)) => trimmed(&text, &pattern, operator),
                _ => Some(String::new()),
            },
            _ => None,
        })
    }

    /// A word as the words it becomes.
    pub(crate) fn expand(&mut self, word: &Word) -> Result<Option<Vec<String>>> {
        // "$@" alone is every argument as it is.
        if let [Part::Text { text, quoted: true }, Part::Variable { name, rest: None, quoted: true }] = word.as_slice()
            && text.is_empty()
            && name == "@"
        {
            return Ok(Some(self.arguments[1..].to_vec()));
        }
        if let [Part::Variable { name, rest: None, .. }] = word.as_slice()
            && name == "@"
        {
            return Ok(Some(self.arguments[1..].to_vec()));
        }
        let mut out: Vec<String> = Vec::new();
        let mut open = false;
        let mut pattern = false;
        for part in word {
            let Some(text) = self.part(part)? else { return Ok(None) };
            let split = match part {
                Part::Text { quoted, .. } => {
                    pattern |= !quoted && text.contains(['*', '?', '[']);
                    false
                }
                Part::Variable { quoted, .. } | Part::Command { quoted, .. } => !quoted,
            };
            if !split {
                if open {
                    if let Some(last) = out.last_mut() {
                        last.push_str(&text);
                    }
                } else {
                    out.push(text);
                    open = true;
                }
                continue;
            }
            let ends_open = !text.ends_with(char::is_whitespace);
            for (n, piece) in text.split_whitespace().enumerate() {
                match out.last_mut() {
                    Some(last) if n == 0 && open && !text.starts_with(char::is_whitespace) => last.push_str(piece),
                    _ => out.push(piece.to_string()),
                }
            }
            open = ends_open && (open || !text.trim().is_empty());
        }
        if pattern && out.len() == 1 && out[0].starts_with('/') {
            let found = self.found(&out[0]);
            if !found.is_empty() {
                return Ok(Some(found));
            }
        }
        Ok(Some(out))
    }

    /// Paths of the tree that match a pattern.
    fn found(&self, pattern: &str) -> Vec<String> {
        let Ok(glob) = globset::GlobBuilder::new(pattern).literal_separator(true).build() else { return vec![] };
        let glob = glob.compile_matcher();
        let fixed = pattern.split(['*', '?', '[']).next().unwrap_or("/");
        let dir = fixed.rsplit_once('/').map_or("/", |(dir, _)| if dir.is_empty() { "/" } else { dir });
        let Ok(real) = self.root.resolve(dir, true) else { return vec![] };
        let shown = real.to_string();
        self.root
            .below(&real)
            .map(|(p, _)| p.to_string())
            .map(|p| if dir == shown { p } else { p.replacen(&shown, dir, 1) })
            .filter(|p| glob.is_match(p))
            .collect()
    }

    fn matches(&mut self, pattern: &Word, value: &str) -> Result<bool> {
        let mut text = String::new();
        for part in pattern {
            match part {
                Part::Text { text: t, quoted: false } => text += t,
                other => match self.part(other)? {
                    Some(t) => text += &globset::escape(&t),
                    None => return Ok(false),
                },
            }
        }
        Ok(globset::Glob::new(&text).is_ok_and(|g| g.compile_matcher().is_match(value)))
    }
}

/// `${NAME#PATTERN}` and its kin.
fn trimmed(text: &str, pattern: &str, operator: &str) -> Option<String> {
    let glob = globset::Glob::new(pattern).ok()?.compile_matcher();
    let mut cuts: Vec<usize> = text.char_indices().map(|(i, _)| i).chain([text.len()]).collect();
    let front = operator.starts_with('#');
    // The shortest match, or with the operator doubled the longest.
    if front == (operator.len() == 2) {
        cuts.reverse();
    }
    let found = cuts.into_iter().find(|&cut| glob.is_match(if front { &text[..cut] } else { &text[cut..] }));
    Some(found.map_or(text, |cut| if front { &text[cut..] } else { &text[..cut] }).to_string())
}

/// Commands that change a system.
const NOTABLE: [&str; 34] = [
    "adduser",
    "addgroup",
    "useradd",
    "groupadd",
    "usermod",
    "groupmod",
    "update-alternatives",
    "dpkg-divert",
    "dpkg-statoverride",
    "deb-systemd-helper",
    "setcap",
    "ucf",
    "cp",
    "mv",
    "ln",
    "mkdir",
    "install",
    "chmod",
    "chown",
    "chgrp",
    "sed",
    "update-ca-certificates",
    "ldconfig",
    "depmod",
    "update-initramfs",
    "pam-auth-update",
    "ssh-keygen",
    "update-shells",
    "add-shell",
    "run-parts",
    "linux-update-symlinks",
    "update-rc.d",
    "locale-gen",
    "tic",
];

fn notable(nodes: &[Node], functions: &Functions, out: &mut BTreeSet<String>, depth: usize) {
    if depth > 8 {
        return;
    }
    for node in nodes {
        match node {
            Node::Simple { words, .. } => {
                if let Some([Part::Text { text, .. }]) = words.first().map(Vec::as_slice) {
                    let name = text.rsplit('/').next().unwrap_or(text);
                    if let Some(body) = functions.get(name) {
                        notable(body, functions, out, depth + 1);
                    } else if NOTABLE.contains(&name) {
                        out.insert(name.to_string());
                    }
                }
            }
            Node::If { branches, otherwise } => {
                for (condition, body) in branches {
                    notable(condition, functions, out, depth + 1);
                    notable(body, functions, out, depth + 1);
                }
                notable(otherwise, functions, out, depth + 1);
            }
            Node::For { body, .. } | Node::While { body } | Node::Group(body) => {
                notable(body, functions, out, depth + 1);
            }
            Node::Case { arms, .. } => arms.iter().for_each(|(_, body)| notable(body, functions, out, depth + 1)),
            Node::And(a, b) | Node::Or(a, b) => {
                notable(std::slice::from_ref(a), functions, out, depth + 1);
                notable(std::slice::from_ref(b), functions, out, depth + 1);
            }
            Node::Not(inner) => notable(std::slice::from_ref(inner), functions, out, depth + 1),
            Node::Pipe(all) => notable(all, functions, out, depth + 1),
            Node::Function { .. } => {}
        }
    }
}
