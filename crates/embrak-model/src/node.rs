//! Values as they were written, with where they were written.

use crate::{Place, Problem, SourceFile};
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// What was done to a value at one step of its history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verb {
    /// Written in a definition.
    Written,
    /// Written in a definition that extends the one of the step before.
    Replaced,
    /// An amendment's `set`.
    Set,
    /// An amendment's `add`.
    Added,
    /// A parameter's value was put in.
    Filled,
}

/// One step of a value's history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// What was done.
    pub verb: Verb,
    /// Where it is written; none for the command line.
    pub place: Option<Place>,
    /// The value after this step, in short.
    pub value: String,
}

/// A value with its history, the latest step last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// What it is now.
    pub value: Value,
    /// How it became so.
    pub history: Vec<Step>,
}

/// A key of a table, with where it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Key {
    /// Where the key is written.
    pub place: Option<Place>,
    /// The value.
    pub node: Node,
}

/// A TOML value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// A string.
    String(String),
    /// An integer.
    Integer(i64),
    /// Anything numeric that is not an integer of 64 bits, as it was written.
    Float(String),
    /// A truth value.
    Boolean(bool),
    /// A date or time, as TOML prints it.
    Datetime(String),
    /// A list.
    List(Vec<Node>),
    /// A table.
    Table(BTreeMap<String, Key>),
}

impl Value {
    /// What it is called in messages.
    pub fn kind(&self) -> &'static str {
        match self {
            Value::String(_) => "a string",
            Value::Integer(_) => "an integer",
            Value::Float(_) => "a number",
            Value::Boolean(_) => "true or false",
            Value::Datetime(_) => "a date",
            Value::List(_) => "a list",
            Value::Table(_) => "a table",
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::String(text) => write!(f, "{}", toml::Value::String(text.clone())),
            Value::Integer(number) => write!(f, "{number}"),
            Value::Float(text) | Value::Datetime(text) => f.write_str(text),
            Value::Boolean(value) => write!(f, "{value}"),
            Value::List(items) => {
                f.write_str("[")?;
                for (index, item) in items.iter().enumerate() {
                    write!(f, "{}{}", if index > 0 { ", " } else { "" }, item.value)?;
                }
                f.write_str("]")
            }
            Value::Table(table) => {
                f.write_str("{")?;
                for (index, (name, key)) in table.iter().enumerate() {
                    write!(f, "{} {name} = {}", if index > 0 { "," } else { "" }, key.node.value)?;
                }
                f.write_str(" }")
            }
        }
    }
}

impl Node {
    /// A value written at a place.
    pub fn written(value: Value, place: Option<Place>) -> Self {
        let mut node = Node { value, history: Vec::new() };
        node.note(Verb::Written, place);
        node
    }

    /// An empty table.
    pub fn empty() -> Self {
        Node { value: Value::Table(BTreeMap::new()), history: Vec::new() }
    }

    /// Adds a step to the history.
    pub fn note(&mut self, verb: Verb, place: Option<Place>) {
        let value = match &self.value {
            Value::List(_) | Value::Table(_) => self.value.kind().to_string(),
            scalar => scalar.to_string(),
        };
        self.history.push(Step { verb, place, value });
    }

    /// Where its present value was written.
    pub fn place(&self) -> Option<&Place> {
        self.history.last().and_then(|s| s.place.as_ref())
    }

    /// The table, if it is one.
    pub fn table(&self) -> Option<&BTreeMap<String, Key>> {
        if let Value::Table(table) = &self.value { Some(table) } else { None }
    }

    /// The table to change, if it is one.
    pub fn table_mut(&mut self) -> Option<&mut BTreeMap<String, Key>> {
        if let Value::Table(table) = &mut self.value { Some(table) } else { None }
    }

    /// The value at a path of keys; numbers lead into lists, from 0.
    pub fn get<S: AsRef<str>>(&self, path: &[S]) -> Option<&Node> {
        let Some((first, rest)) = path.split_first() else { return Some(self) };
        match &self.value {
            Value::Table(table) => table.get(first.as_ref())?.node.get(rest),
            Value::List(items) => items.get(first.as_ref().parse::<usize>().ok()?)?.get(rest),
            _ => None,
        }
    }

    /// As [`Node::get`], to change.
    pub fn get_mut<S: AsRef<str>>(&mut self, path: &[S]) -> Option<&mut Node> {
        let Some((first, rest)) = path.split_first() else { return Some(self) };
        match &mut self.value {
            Value::Table(table) => table.get_mut(first.as_ref())?.node.get_mut(rest),
            Value::List(items) => items.get_mut(first.as_ref().parse::<usize>().ok()?)?.get_mut(rest),
            _ => None,
        }
    }

    /// The string at a key of a table.
    pub fn text(&self, key: &str) -> Option<&str> {
        match &self.get(&[key])?.value {
            Value::String(text) => Some(text),
            _ => None,
        }
    }

    /// Calls `visit` for every scalar below, with its path.
    pub fn visit_scalars<'a>(&'a self, path: &mut Vec<String>, visit: &mut impl FnMut(&[String], &'a Node)) {
        match &self.value {
            Value::List(items) => {
                for (index, item) in items.iter().enumerate() {
                    path.push(index.to_string());
                    item.visit_scalars(path, visit);
                    path.pop();
                }
            }
            Value::Table(table) => {
                for (name, key) in table {
                    path.push(name.clone());
                    key.node.visit_scalars(path, visit);
                    path.pop();
                }
            }
            _ => visit(path, self),
        }
    }
}

/// Parses a file. Every error of its syntax is reported; what could be read is returned all the same.
pub fn parse(file: &Arc<SourceFile>, problems: &mut Vec<Problem>) -> Node {
    let (table, mut errors) = DeTable::parse_recoverable(&file.text);
    errors.sort_by_key(|e| e.span().map(|s| s.start));
    for error in errors {
        let place = error.span().map(|span| Place { file: file.clone(), span });
        problems.push(Problem::new(format!("not valid TOML: {}", error.message())).at(place));
    }
    let span = table.span();
    let place = |span: std::ops::Range<usize>| Some(Place { file: file.clone(), span });
    Node::written(convert_table(table.into_inner(), file, problems), place(span.start..span.start))
}

fn convert_table(table: DeTable<'_>, file: &Arc<SourceFile>, problems: &mut Vec<Problem>) -> Value {
    let mut out = BTreeMap::new();
    for (key, value) in table {
        let place = Some(Place { file: file.clone(), span: key.span() });
        let node = convert(value, file, problems);
        out.insert(key.into_inner().into_owned(), Key { place, node });
    }
    Value::Table(out)
}

fn convert(value: Spanned<DeValue<'_>>, file: &Arc<SourceFile>, problems: &mut Vec<Problem>) -> Node {
    let place = Place { file: file.clone(), span: value.span() };
    let value = match value.into_inner() {
        DeValue::String(text) => Value::String(text.into_owned()),
        DeValue::Integer(number) => match i64::from_str_radix(number.as_str(), number.radix()) {
            Ok(number) => Value::Integer(number),
            Err(_) => {
                let message = format!("`{}` does not fit into 64 bits", number.as_str());
                problems.push(Problem::new(message).at(Some(place.clone())));
                Value::Integer(0)
            }
        },
        DeValue::Float(number) => Value::Float(number.as_str().to_string()),
        DeValue::Boolean(value) => Value::Boolean(value),
        DeValue::Datetime(date) => Value::Datetime(date.to_string()),
        DeValue::Array(items) => Value::List(items.into_iter().map(|item| convert(item, file, problems)).collect()),
        DeValue::Table(table) => convert_table(table, file, problems),
    };
    Node::written(value, Some(place))
}

#[cfg(test)]
pub(crate) fn parsed(text: &str) -> Node {
    let file = SourceFile { name: "t.toml".into(), base: ".".into(), text: text.into() };
    let mut problems = Vec::new();
    let node = parse(&Arc::new(file), &mut problems);
    assert_eq!(problems, []);
    node
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_know_their_lines() {
        let node = parsed("a = 1\n[b]\nc = ['x',\n 'y']\n");
        assert_eq!(node.get(&["b", "c", "1"]).unwrap().place().unwrap().to_string(), "t.toml:4");
        assert_eq!(node.get(&["a"]).unwrap().place().unwrap().column(), 5);
        assert_eq!(node.get(&["b", "c"]).unwrap().value.to_string(), r#"["x", "y"]"#);
    }

    #[test]
    fn every_syntax_error_is_reported_with_its_line() {
        let file = SourceFile { name: "t.toml".into(), base: ".".into(), text: "a = \nb = 2\nc = [1,\nd = @\n".into() };
        let mut problems = Vec::new();
        let node = parse(&Arc::new(file), &mut problems);
        assert!(problems.len() >= 2, "{problems:?}");
        assert_eq!(problems[0].place.as_ref().unwrap().line(), 1);
        assert_eq!(node.get(&["b"]).unwrap().value, Value::Integer(2));
    }
}
