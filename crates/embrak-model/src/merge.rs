//! How definitions change one another: `extends`, and amendments with `set`, `add` and `drop`.
//!
//! With `extends`, lists add up, tables merge and scalars replace. Elements of a list that are tables with the same
//! `label`, `path` or `name` are the same thing and merge. An amendment says its operation, so nothing is
//! guessed: to set or drop what is not there, or to add what is there already, is a problem.

use crate::{Key, Node, Place, Problem, Step, Value, Verb};
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

/// What an amendment does to a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// Replace what is there.
    Set,
    /// Append to a list, or put a key that is not there.
    Add,
    /// Remove from a list by value, or from a table by key.
    Drop,
}

impl Operation {
    /// As users write it.
    pub fn word(self) -> &'static str {
        match self {
            Operation::Set => "set",
            Operation::Add => "add",
            Operation::Drop => "drop",
        }
    }
}

/// Changes to one definition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Amendment {
    /// `image`, `board` or `recipe`.
    pub kind: String,
    /// The definition's name.
    pub name: String,
    /// Where the target is written.
    pub place: Option<Place>,
    /// The layer or file that says so, for lists.
    pub by: String,
    /// What the target has to be: `architecture` or `board`, with the values of which one has to fit.
    pub when: Vec<(String, Vec<String>)>,
    /// Whether it is no error that there is nothing to amend.
    pub optional: bool,
    /// Path of keys, operation and value, in the order written.
    pub changes: Vec<(Operation, Vec<String>, Node)>,
}

/// The keys by which a table in a list is known.
const IDENTITY: [&str; 3] = ["label", "path", "name"];

fn identity(node: &Node) -> Option<(&'static str, &str)> {
    IDENTITY.into_iter().find_map(|key| node.text(key).map(|text| (key, text)))
}

/// Lays `own` over `base`, which it extends.
pub fn extend(base: Node, own: Node) -> Node {
    match (base.value, own.value) {
        (Value::Table(mut table), Value::Table(mine)) => {
            for (name, key) in mine {
                match table.entry(name) {
                    Entry::Vacant(slot) => {
                        slot.insert(key);
                    }
                    Entry::Occupied(mut slot) => {
                        let present = std::mem::replace(&mut slot.get_mut().node, Node::empty());
                        *slot.get_mut() = Key { place: key.place, node: extend(present, key.node) };
                    }
                }
            }
            Node { value: Value::Table(table), history: own.history }
        }
        (Value::List(mut list), Value::List(mine)) => {
            for item in mine {
                append(&mut list, item);
            }
            Node { value: Value::List(list), history: own.history }
        }
        (_, value) => {
            let mut history = base.history;
            history.extend(own.history.into_iter().map(|step| Step { verb: Verb::Replaced, ..step }));
            Node { value, history }
        }
    }
}

/// Appends to a list, or merges with the element that is the same thing.
fn append(list: &mut Vec<Node>, item: Node) {
    let same = identity(&item).and_then(|id| list.iter().position(|present| identity(present) == Some(id)));
    match same {
        Some(index) => {
            let present = std::mem::replace(&mut list[index], Node::empty());
            list[index] = extend(present, item);
        }
        // The same scalar again adds nothing.
        None if list.iter().any(|present| !matches!(present.value, Value::Table(_)) && present.value == item.value) => {
        }
        None => list.push(item),
    }
}

impl Amendment {
    /// Reads the tables `set`, `add` and `drop` of an amendment.
    pub fn changes_of(table: &BTreeMap<String, Key>) -> Vec<(Operation, Vec<String>, Node)> {
        let mut changes = Vec::new();
        for operation in [Operation::Set, Operation::Add, Operation::Drop] {
            if let Some(key) = table.get(operation.word()) {
                flatten(&key.node, &mut Vec::new(), operation, &mut changes);
            }
        }
        changes
    }

    /// Carries the changes out.
    pub fn apply(&self, definition: &mut Node, problems: &mut Vec<Problem>) {
        for (operation, path, value) in &self.changes {
            let result = match operation {
                Operation::Set => set(definition, path, value),
                Operation::Add => add(definition, path, value),
                Operation::Drop => drop_values(definition, path, value),
            };
            if let Err(problem) = result {
                let place = problem.place.clone().or_else(|| value.place().cloned()).or_else(|| self.place.clone());
                problems.push(problem.at(place));
            }
        }
    }
}

/// Keys may be written dotted or nested; both come out as one path of keys.
fn flatten(node: &Node, path: &mut Vec<String>, operation: Operation, out: &mut Vec<(Operation, Vec<String>, Node)>) {
    match node.table() {
        Some(table) => {
            for (name, key) in table {
                let before = path.len();
                path.extend(name.split('.').map(String::from));
                flatten(&key.node, path, operation, out);
                path.truncate(before);
            }
        }
        None => out.push((operation, path.clone(), node.clone())),
    }
}

fn not_there(path: &[String], node: &Node, verb: &str) -> Problem {
    // Name the first part that is missing, and what is there instead.
    let depth = (0..path.len()).find(|&n| node.get(&path[..=n]).is_none()).unwrap_or(0);
    let parent = node.get(&path[..depth]).and_then(Node::table);
    let problem = Problem::new(format!("cannot {verb} `{}`: it is not there", path.join(".")));
    let close = parent.and_then(|table| crate::source::suggestion(&path[depth], table.keys().map(String::as_str)));
    match close {
        Some(close) => {
            problem.help(format!("did you mean `{}`?", [&path[..depth], &[close.to_string()]].concat().join(".")))
        }
        None => problem.help("use `add` for what is new"),
    }
}

fn set(definition: &mut Node, path: &[String], value: &Node) -> Result<(), Problem> {
    let Some(target) = definition.get_mut(path) else { return Err(not_there(path, definition, "set")) };
    target.value = value.value.clone();
    target.note(Verb::Set, value.place().cloned());
    Ok(())
}

fn add(definition: &mut Node, path: &[String], value: &Node) -> Result<(), Problem> {
    if let Some(target) = definition.get_mut(path) {
        let (Value::List(list), Value::List(more)) = (&mut target.value, &value.value) else {
            let problem =
                Problem::new(format!("cannot add `{}`: it is there already and is not a list", path.join(".")));
            return Err(problem.help("use `set` to replace it"));
        };
        for item in more {
            let mut item = item.clone();
            mark_added(&mut item);
            append(list, item);
        }
        return Ok(());
    }
    let Some((last, parents)) = path.split_last() else { return Ok(()) };
    let mut at = definition;
    for part in parents {
        let wrong = || Problem::new(format!("cannot add `{}`: `{part}` is not a table", path.join(".")));
        let table = at.table_mut().ok_or_else(wrong)?;
        at = &mut table
            .entry(part.clone())
            .or_insert_with(|| Key { place: value.place().cloned(), node: Node::empty() })
            .node;
    }
    let mut value = value.clone();
    mark_added(&mut value);
    let wrong = || Problem::new(format!("cannot add `{}`: it does not lie in a table", path.join(".")));
    at.table_mut().ok_or_else(wrong)?.insert(last.clone(), Key { place: value.place().cloned(), node: value });
    Ok(())
}

/// Turns `Written` into `Added` in everything an amendment brings.
fn mark_added(node: &mut Node) {
    for step in &mut node.history {
        step.verb = Verb::Added;
    }
    match &mut node.value {
        Value::List(items) => items.iter_mut().for_each(mark_added),
        Value::Table(table) => table.values_mut().for_each(|key| mark_added(&mut key.node)),
        _ => {}
    }
}

fn drop_values(definition: &mut Node, path: &[String], value: &Node) -> Result<(), Problem> {
    let wanted: Vec<&Node> = match &value.value {
        Value::List(items) => items.iter().collect(),
        _ => vec![value],
    };
    let Some(target) = definition.get_mut(path) else { return Err(not_there(path, definition, "drop from")) };
    for item in wanted {
        let missing = |what: &str| {
            let message = format!("cannot drop {} from `{}`: it is not there", item.value, path.join("."));
            Problem::new(message).at(item.place().cloned()).help(what.to_string())
        };
        match &mut target.value {
            Value::List(list) => {
                let matches = |present: &Node| match (&item.value, identity(present)) {
                    (Value::String(text), Some((_, id))) => text == id,
                    (value, _) => *value == present.value,
                };
                let before = list.len();
                list.retain(|present| !matches(present));
                if list.len() == before {
                    let there: Vec<String> = list
                        .iter()
                        .map(|n| identity(n).map_or(n.value.to_string(), |(_, id)| format!("{id:?}")))
                        .collect();
                    return Err(missing(&format!("there are {}", there.join(", "))));
                }
            }
            Value::Table(table) => {
                let Value::String(key) = &item.value else { return Err(missing("from a table, drop by key")) };
                if table.remove(key).is_none() {
                    return Err(missing(&format!(
                        "there are {}",
                        table.keys().cloned().collect::<Vec<_>>().join(", ")
                    )));
                }
            }
            other => {
                let message =
                    format!("cannot drop from `{}`: it is {}, not a list or table", path.join("."), other.kind());
                return Err(Problem::new(message));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::node::parsed;
    use proptest::prelude::*;

    fn amended(base: &str, amendment: &str) -> (Node, Vec<String>) {
        let amendment = parsed(amendment);
        let changes = Amendment::changes_of(amendment.table().unwrap());
        let amendment = Amendment {
            kind: "image".into(),
            name: "i".into(),
            place: None,
            by: "holm".into(),
            when: vec![],
            optional: false,
            changes,
        };
        let (mut node, mut problems) = (parsed(base), Vec::new());
        amendment.apply(&mut node, &mut problems);
        (node, problems.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn lists_add_up_tables_merge_scalars_replace() {
        let base = parsed("a = 1\nl = ['x', 'y']\n[t]\nu = 1\n[[part]]\nlabel = 'root'\nsize = 'fit'\ntype = 'root'\n");
        let own = parsed(
            "a = 2\nl = ['y', 'z']\n[t]\nv = 2\n[[part]]\nlabel = 'root'\nsize = 'rest'\n[[part]]\nlabel = 'state'\n",
        );
        let merged = extend(base, own);
        let value = |path: &[&str]| merged.get(path).map(|n| n.value.to_string()).unwrap_or_default();
        assert_eq!(value(&["l"]), r#"["x", "y", "z"]"#);
        assert_eq!(value(&["t"]), "{ u = 1, v = 2 }");
        assert_eq!(value(&["part", "0"]), r#"{ label = "root", size = "rest", type = "root" }"#);
        assert_eq!(value(&["part", "1", "label"]), r#""state""#);
        let history: Vec<_> =
            merged.get(&["a"]).unwrap().history.iter().map(|s| (s.verb.clone(), s.value.as_str())).collect();
        assert_eq!(history, [(Verb::Written, "1"), (Verb::Replaced, "2")]);
    }

    #[test]
    fn set_add_and_drop() {
        let base = "packages = ['lampd', 'foghorn']\n[system]\nhostname = 'a'\n[users.keeper]\ngroups = ['beacon']\n";
        let (node, problems) = amended(
            base,
            "[set]\n'system.hostname' = 'b'\n[add]\npackages = ['foghorn-holm']\n'users.keeper.groups' = ['dialout']\n\
             users.watch = { uid = 7 }\n[drop]\npackages = ['foghorn']\n",
        );
        assert_eq!(problems, [""; 0]);
        assert_eq!(
            node.value.to_string(),
            r#"{ packages = ["lampd", "foghorn-holm"], system = { hostname = "b" }, users = { keeper = { groups = ["beacon", "dialout"] }, watch = { uid = 7 } } }"#
        );
        let hostname = node.get(&["system", "hostname"]).unwrap();
        assert_eq!(hostname.history.last().unwrap().verb, Verb::Set);
        assert_eq!(node.get(&["packages", "1"]).unwrap().history[0].verb, Verb::Added);
    }

    #[test]
    fn what_is_not_there_cannot_be_set_or_dropped() {
        let base = "packages = ['lampd']\n[system]\nhostname = 'a'\n";
        let (_, problems) = amended(
            base,
            "[set]\n'system.hostnam' = 'b'\n[add]\n'system.hostname' = 'c'\n[drop]\npackages = ['horn']\nsystem = ['x']\n",
        );
        assert_eq!(
            problems,
            [
                "t.toml:2: cannot set `system.hostnam`: it is not there (did you mean `system.hostname`?)",
                "t.toml:4: cannot add `system.hostname`: it is there already and is not a list (use `set` to replace it)",
                r#"t.toml:6: cannot drop "horn" from `packages`: it is not there (there are "lampd")"#,
                r#"t.toml:7: cannot drop "x" from `system`: it is not there (there are hostname)"#,
            ]
        );
    }

    fn any_value() -> impl Strategy<Value = Node> {
        let leaf = prop_oneof![
            (0i64..3).prop_map(|n| Node::written(Value::Integer(n), None)),
            "[a-c]".prop_map(|s| Node::written(Value::String(s), None)),
        ];
        leaf.prop_recursive(3, 12, 3, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 0..3).prop_map(|v| Node::written(Value::List(v), None)),
                proptest::collection::btree_map("[a-c]", inner.prop_map(|node| Key { place: None, node }), 0..3)
                    .prop_map(|t| Node::written(Value::Table(t), None)),
            ]
        })
    }

    proptest! {
        #[test]
        fn extending_nothing_changes_no_value(node in any_value()) {
            if let Value::Table(_) = node.value {
                prop_assert_eq!(&extend(Node::empty(), node.clone()).value, &node.value);
                prop_assert_eq!(&extend(node.clone(), Node::empty()).value, &node.value);
            }
        }

        #[test]
        fn what_extends_has_the_last_word_on_scalars(base in any_value(), own in any_value()) {
            let merged = extend(base, own.clone());
            let mut wrong = Vec::new();
            own.visit_scalars(&mut Vec::new(), &mut |path, node| {
                // Indices move when lists add up, so only paths through tables are compared.
                if path.iter().all(|p| p.parse::<usize>().is_err()) && merged.get(path).map(|n| &n.value) != Some(&node.value) {
                    wrong.push(path.join("."));
                }
            });
            prop_assert!(wrong.is_empty(), "{:?}", wrong);
        }
    }
}
