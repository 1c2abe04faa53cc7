//! Parameters: values from outside that `${name}` puts into strings.
//!
//! From weakest to strongest: `[params]` of the workspace, files given with `--params`, `embrak.local.toml`,
//! `EMBRAK_PARAM_<NAME>`, `--param NAME=VALUE`. A secret one never gets into a definition of what is built: its
//! use there is a problem.

use crate::source::suggestion;
use crate::{Node, Problem, Step, Value, Verb};
use std::collections::BTreeMap;

/// Where parameters get their values besides the workspace file.
#[derive(Debug, Clone, Default)]
pub struct ParamSources {
    /// `--params FILE`, in order.
    pub files: Vec<std::path::PathBuf>,
    /// The environment, by parameter name in lower case with `-`.
    pub environment: BTreeMap<String, String>,
    /// `--param NAME=VALUE`, in order.
    pub given: Vec<(String, String)>,
}

/// One parameter as declared, and its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Param {
    /// The value; none when nothing gives one.
    pub value: Option<String>,
    /// Where the value comes from, in words.
    pub from: String,
    /// What it is for.
    pub help: Option<String>,
    /// Whether it must never reach anything that is built or recorded.
    pub secret: bool,
    /// Whether it is an error that nothing gives a value.
    pub required: bool,
}

/// All parameters by name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Params(pub BTreeMap<String, Param>);

impl Params {
    /// Reads the declarations of the workspace's `[params]`.
    pub(crate) fn declare(&mut self, node: &Node, problems: &mut Vec<Problem>) {
        let Some(table) = node.table() else { return };
        for (name, key) in table {
            let mut param = Param { value: None, from: "default".into(), help: None, secret: false, required: false };
            match &key.node.value {
                Value::String(text) => param.value = Some(text.clone()),
                Value::Table(fields) => {
                    for (field, inner) in fields {
                        match (field.as_str(), &inner.node.value) {
                            ("default", Value::String(text)) => param.value = Some(text.clone()),
                            ("help", Value::String(text)) => param.help = Some(text.clone()),
                            ("secret", Value::Boolean(value)) => param.secret = *value,
                            ("required", Value::Boolean(value)) => param.required = *value,
                            _ => problems.push(
                                Problem::new(format!("parameter `{name}`: cannot use `{field}` so"))
                                    .at(inner.place.clone())
                                    .help("known: default and help (strings), required and secret (true or false)"),
                            ),
                        }
                    }
                }
                other => problems.push(
                    Problem::new(format!("parameter `{name}` is {}", other.kind()))
                        .at(key.place.clone())
                        .help("write its value as a string, or a table with default, help, required, secret"),
                ),
            }
            self.0.insert(name.clone(), param);
        }
    }

    /// Gives a parameter a value; it has to be declared.
    pub(crate) fn give(&mut self, name: &str, value: &str, from: &str, problems: &mut Vec<Problem>) {
        match self.0.get_mut(name) {
            Some(param) => {
                param.value = Some(value.to_string());
                param.from = from.to_string();
            }
            None => {
                let problem = Problem::new(format!(
                    "{from} gives a value to parameter `{name}`, which the workspace does not declare"
                ));
                let close = suggestion(name, self.0.keys().map(String::as_str));
                problems.push(problem.help(
                    close.map_or("declare it under [params] in embrak.toml".into(), |c| format!("did you mean `{c}`?")),
                ));
            }
        }
    }

    /// Reports required parameters without a value.
    pub(crate) fn check(&self, problems: &mut Vec<Problem>) {
        for (name, param) in &self.0 {
            if param.required && param.value.is_none() {
                let help = param.help.as_deref().map_or(String::new(), |h| format!("{h}; "));
                let variable = name.to_uppercase().replace('-', "_");
                problems.push(
                    Problem::new(format!("parameter `{name}` needs a value"))
                        .help(format!("{help}give it with --param {name}=VALUE or EMBRAK_PARAM_{variable}")),
                );
            }
        }
    }

    /// Puts values into every string of a definition but scripts, where `${name}` is the shell's.
    pub(crate) fn fill(&self, node: &mut Node, problems: &mut Vec<Problem>) {
        self.fill_all(node, false, problems);
    }

    /// The same, secret ones too: for what is used and never built or recorded.
    pub(crate) fn fill_revealing(&self, node: &mut Node, problems: &mut Vec<Problem>) {
        self.fill_all(node, true, problems);
    }

    /// The values of secret parameters, so that messages can leave them out.
    pub fn secrets(&self) -> Vec<String> {
        self.0.values().filter(|p| p.secret).filter_map(|p| p.value.clone()).collect()
    }

    fn fill_all(&self, node: &mut Node, reveal: bool, problems: &mut Vec<Problem>) {
        match &mut node.value {
            Value::String(text) => {
                if let Some(filled) = self.fill_text(text, reveal, node.history.last(), problems) {
                    node.value = Value::String(filled);
                    let place = node.place().cloned();
                    node.note(Verb::Filled, place);
                }
            }
            Value::List(items) => items.iter_mut().for_each(|item| self.fill_all(item, reveal, problems)),
            Value::Table(table) => {
                for (name, key) in table {
                    if name != "steps" && name != "finish" {
                        self.fill_all(&mut key.node, reveal, problems);
                    }
                }
            }
            _ => {}
        }
    }

    /// Puts values into a text, as a template has it.
    ///
    /// # Errors
    /// A parameter is not known, has no value, or is secret.
    pub fn fill_template(&self, text: &str) -> Result<String, String> {
        let mut problems = Vec::new();
        let filled = self.fill_text(text, false, None, &mut problems);
        match problems.first() {
            Some(problem) => Err(problem.message.clone()),
            None => Ok(filled.unwrap_or_else(|| text.to_string())),
        }
    }

    fn fill_text(&self, text: &str, reveal: bool, step: Option<&Step>, problems: &mut Vec<Problem>) -> Option<String> {
        if !text.contains("${") {
            return None;
        }
        let place = step.and_then(|s| s.place.clone());
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find("${") {
            let (before, after) = rest.split_at(at);
            // `$${` stands for `${`.
            if let Some(literal) = before.strip_suffix('$') {
                out.push_str(literal);
                out.push_str("${");
                rest = &after[2..];
                continue;
            }
            out.push_str(before);
            let Some(end) = after.find('}') else {
                problems
                    .push(Problem::new("`${` without `}`").at(place.clone()).help("write `$${` for a literal `${`"));
                return None;
            };
            let name = &after[2..end];
            match self.0.get(name) {
                Some(param) if param.secret && !reveal => problems.push(
                    Problem::new(format!(
                        "parameter `{name}` is secret, and here it would become part of what is built"
                    ))
                    .at(place.clone()),
                ),
                Some(Param { value: Some(value), .. }) => out.push_str(value),
                Some(_) => problems.push(
                    Problem::new(format!("parameter `{name}` has no value"))
                        .at(place.clone())
                        .help(format!("give it with --param {name}=VALUE")),
                ),
                None => {
                    let problem = Problem::new(format!("no parameter `{name}`")).at(place.clone());
                    let close = suggestion(name, self.0.keys().map(String::as_str));
                    problems.push(problem.help(close.map_or("declare it under [params] in embrak.toml".into(), |c| {
                        format!("did you mean `{c}`?")
                    })));
                }
            }
            rest = &after[end + 1..];
        }
        out.push_str(rest);
        Some(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::node::parsed;

    fn filled(text: &str) -> (String, Vec<String>) {
        let (mut params, mut problems) = (Params::default(), Vec::new());
        params.declare(
            &parsed("station = 'holm'\npin = { secret = true, default = '1234' }\nurl = { required = true }"),
            &mut problems,
        );
        let mut node = parsed(text);
        params.fill(&mut node, &mut problems);
        (node.value.to_string(), problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn values_are_put_into_strings_but_not_into_scripts() {
        let (value, problems) =
            filled("h = 'beacon-${station}'\nlit = '$${x}'\n[steps]\ncompile = 'echo ${station}'\n");
        assert_eq!(problems, [""; 0]);
        assert_eq!(value, r#"{ h = "beacon-holm", lit = "${x}", steps = { compile = "echo ${station}" } }"#);
    }

    #[test]
    fn unknown_missing_and_secret_ones_are_problems() {
        let (value, problems) = filled("a = '${statio}'\nb = '${pin}'\nc = '${url}'\nd = '${'\n");
        assert_eq!(
            problems,
            [
                "t.toml:1: no parameter `statio` (did you mean `station`?)",
                "t.toml:2: parameter `pin` is secret, and here it would become part of what is built",
                "t.toml:3: parameter `url` has no value (give it with --param url=VALUE)",
                "t.toml:4: `${` without `}` (write `$${` for a literal `${`)",
            ]
        );
        assert!(!value.contains("1234"));
    }

    #[test]
    fn a_required_one_without_value_is_a_problem() {
        let (mut params, mut problems) = (Params::default(), Vec::new());
        params.declare(&parsed("mirror = { required = true, help = 'base URL' }"), &mut problems);
        params.check(&mut problems);
        assert_eq!(
            problems[0].help.as_deref(),
            Some("base URL; give it with --param mirror=VALUE or EMBRAK_PARAM_MIRROR")
        );
        params.give("mirror", "file:/m", "--param", &mut Vec::new());
        params.check(&mut Vec::new());
        assert_eq!(params.0["mirror"].value.as_deref(), Some("file:/m"));
    }
}
