//! Comparing what Embrak writes about its work: locks, records of runs, evidence. Entry by entry, by their names.

use crate::diff::{DiffReport, Difference, MovedInside, values};
use crate::error::Result;
use crate::lock::Lock;
use crate::record::RunRecord;
use embrak_tree::Digest;
use embrak_trust::{StatementKind, read_evidence};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// Such documents are not longer.
const LONGEST: u64 = 64 << 20;

/// What something in a list is known by.
fn name_of(item: &Value) -> Option<String> {
    match item {
        // `NAME VERSION by RECIPE`, as locks write packages.
        Value::String(text) => text.split_once(' ').map(|(name, _)| name.to_string()),
        Value::Object(fields) => {
            let text = |key: &str| fields.get(key).and_then(Value::as_str);
            let name = text("name").or_else(|| text("id")).or_else(|| text("label"))?;
            let more = text("target").or_else(|| text("architecture"));
            Some(more.map_or(name.to_string(), |more| format!("{name} ({more})")))
        }
        _ => None,
    }
}

/// What a thing is known by need not be told again, as long as there is more to tell.
fn without_name(item: Value) -> Value {
    let Value::Object(mut fields) = item else { return item };
    let key = ["name", "id", "label"].into_iter().find(|key| fields.get(*key).is_some_and(Value::is_string));
    if let Some(key) = key.filter(|_| fields.len() > 1) {
        fields.remove(key);
    }
    Value::Object(fields)
}

/// Lists of things that have names become tables by name: then their order does not count, and one that is new does not
/// make all behind it look changed.
fn by_name(value: Value) -> Value {
    match value {
        Value::Object(fields) => Value::Object(fields.into_iter().map(|(k, v)| (k, by_name(v))).collect()),
        Value::Array(items) => {
            let names: Vec<String> = items.iter().filter_map(name_of).collect();
            let unique: BTreeSet<&String> = names.iter().collect();
            if items.is_empty() || unique.len() != items.len() {
                return Value::Array(items.into_iter().map(by_name).collect());
            }
            Value::Object(names.into_iter().zip(items.into_iter().map(|item| by_name(without_name(item)))).collect())
        }
        other => other,
    }
}

/// Packages with their versions as a table has them: `NAME VERSION ...`, or things with `name` and `version`.
fn packages_in(value: &Value) -> BTreeMap<String, String> {
    let mut out = BTreeMap::new();
    for image in value.as_object().into_iter().flat_map(Map::values) {
        for item in image.as_array().into_iter().flatten() {
            let text = |key: &str| item.get(key).and_then(Value::as_str);
            let found = match item.as_str() {
                Some(line) => line.split_once(' ').map(|(name, rest)| (name, rest.split(' ').next().unwrap_or(rest))),
                None => text("name").zip(text("version")),
            };
            out.extend(found.map(|(name, version)| (name.to_string(), version.to_string())));
        }
    }
    out
}

/// A document in a form in which two can be compared.
struct Document {
    value: Value,
    packages: BTreeMap<String, String>,
}

fn lock_document(lock: &Lock) -> Document {
    let images = lock.images.iter().map(|i| (format!("{} ({})", i.name, i.target), json!(i.packages)));
    Document { value: by_name(json!(lock)), packages: packages_in(&Value::Object(images.collect())) }
}

/// A run without what is another every time: when it was, how long things took, their logs.
fn run_document(record: &RunRecord) -> Document {
    let mut value = json!(record);
    for action in value["actions"].as_array_mut().into_iter().flatten() {
        if let Some(fields) = action.as_object_mut() {
            fields.retain(|key, _| !["started", "seconds", "log", "status"].contains(&key.as_str()));
            if let Some(label) = fields.remove("label") {
                fields.insert("name".into(), label);
            }
        }
    }
    let packages = packages_in(&value["packages"]);
    Document { value: by_name(value), packages }
}

/// What statements say, by kind and signer; signatures themselves are left out.
fn evidence_document(text: &str) -> Option<Document> {
    let mut all = Map::new();
    for envelope in read_evidence(text).ok()? {
        let statement = envelope.statement().ok()?;
        let kind = StatementKind::of(&statement.predicate_type);
        let kind = kind.map_or(statement.predicate_type.clone(), |kind| kind.to_string());
        let form = match statement.predicate_type.rsplit('/').next() {
            Some(form) if kind == "bill" => format!(" {form}"),
            _ => String::new(),
        };
        let signers: Vec<&str> = envelope.signatures.iter().map(|s| s.keyid.short()).collect();
        let subjects = json!({ "subject": statement.subject, "says": statement.predicate });
        all.insert(format!("{kind}{form} by {}", signers.join(", ")), by_name(subjects));
    }
    Some(Document { value: Value::Object(all), packages: BTreeMap::new() })
}

fn document(path: &Path) -> Option<(Document, Digest)> {
    let meta = std::fs::metadata(path).ok().filter(|m| m.is_file() && m.len() <= LONGEST)?;
    let text = std::fs::read_to_string(path).ok().filter(|_| meta.len() > 0)?;
    let found = match text.starts_with('{') {
        true => evidence_document(&text),
        false => Lock::parse(&text).ok().map(|lock| lock_document(&lock)),
    };
    found.map(|document| (document, Digest::of(&text)))
}

fn report(a: &Document, b: &Document, first: Option<Digest>, second: Option<Digest>) -> DiffReport {
    let mut differences: Vec<Difference> = Vec::new();
    values(&mut differences, "", &a.value, &b.value);
    let names: BTreeSet<&String> = a.packages.keys().chain(b.packages.keys()).collect();
    let packages = names.into_iter().filter(|name| a.packages.get(*name) != b.packages.get(*name)).map(|name| {
        let (before, after) = (a.packages.get(name).cloned(), b.packages.get(name).cloned());
        MovedInside { name: name.clone(), before, after }
    });
    DiffReport {
        first,
        second,
        identical: if first.is_some() { first == second } else { differences.is_empty() },
        same_content: differences.is_empty(),
        packages: packages.collect(),
        directories: BTreeMap::new(),
        differences,
    }
}

/// Compares two locks or two files of evidence; none when they are not both that.
pub(crate) fn documents(a: &Path, b: &Path) -> Option<DiffReport> {
    let ((a, first), (b, second)) = (document(a)?, document(b)?);
    Some(report(&a, &b, Some(first), Some(second)))
}

/// Compares what is recorded of two runs: what they were made of and what came out, not when.
///
/// # Errors
/// None so far; a record that cannot be read is noticed before.
pub fn diff_runs(a: &RunRecord, b: &RunRecord) -> Result<DiffReport> {
    Ok(report(&run_document(a), &run_document(b), None, None))
}

#[cfg(test)]
mod tests {
    use super::*;
    use embrak_trust::{CHECKS, Envelope, SigningKey, Statement, Subject};

    #[test]
    fn what_came_first_does_not_count_and_what_is_new_is_one_difference() {
        let list = |items: &[(&str, &str)]| {
            let items: Vec<Value> = items.iter().map(|(n, v)| json!({ "name": n, "version": v })).collect();
            Document { value: by_name(json!({ "package": items })), packages: BTreeMap::new() }
        };
        let told = |a: &Document, b: &Document| -> Vec<String> {
            let all = report(a, b, None, None).differences;
            all.into_iter().map(|d| format!("{}: {} {}", d.field, d.before, d.after)).collect()
        };
        let a = list(&[("horn", "1"), ("lamp", "2")]);
        assert!(told(&a, &list(&[("lamp", "2"), ("horn", "1")])).is_empty());
        assert_eq!(
            told(&a, &list(&[("bell", "1"), ("horn", "1"), ("lamp", "3")])),
            ["package.bell.version: absent 1", "package.lamp.version: 2 3"]
        );
    }

    #[test]
    fn evidence_is_compared_by_what_it_says() {
        let dir = tempfile::tempdir().unwrap();
        let key = SigningKey::from_seed([1; 32]);
        let file = |name: &str, result: &str| {
            let digest = Digest::of("image");
            let subject = Subject::of_file("image", &digest);
            let line = Envelope::sign(&Statement::new(subject, CHECKS, json!({ "result": result })), &key).unwrap();
            let path = dir.path().join(name);
            std::fs::write(&path, line.to_line() + "\n").unwrap();
            path
        };
        let found = documents(&file("a", "PASSED"), &file("b", "FAILED")).unwrap();
        assert_eq!(found.differences.len(), 1);
        assert_eq!(found.differences[0].before, "PASSED");
        assert!(found.differences[0].field.starts_with("checks by "), "{found:?}");
        assert!(documents(&file("a", "PASSED"), &file("c", "PASSED")).unwrap().identical);
    }
}
