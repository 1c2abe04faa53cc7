//! Checking evidence against an artifact and a policy.

use crate::policy::Day;
use crate::{BILL_SPDX, Envelope, KeyId, Policy, PolicyRule, Statement, StatementKind, Subject};
use embrak_tree::Digest;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// Something that has passed its check. Only [`verify`] makes one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified<T>(T);

impl<T> Verified<T> {
    /// What was checked.
    pub fn get(&self) -> &T {
        &self.0
    }
}

/// An artifact as it was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Subjects {
    /// Its file name.
    pub name: String,
    /// Digest of its bytes.
    pub artifact: Digest,
    /// The image it is of, for choosing the policy's rules; none when only the evidence can tell.
    pub image: Option<String>,
}

/// One rule and what met it, or did not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Check {
    /// The rule in words.
    pub rule: String,
    /// Whether it is met.
    pub good: bool,
    /// By what, or why not.
    pub because: String,
}

/// The result of a check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Checked {
    /// Every rule in order.
    pub checks: Vec<Check>,
    /// The statements by signers who may make them, with the signers' names; there only when every rule is met.
    pub verified: Option<Verified<Vec<(String, Statement)>>>,
}

impl Checked {
    /// Whether every rule is met.
    pub fn good(&self) -> bool {
        self.verified.is_some()
    }
}

/// Reads the lines of an evidence file.
///
/// # Errors
/// A line is not an envelope, or the last one has no end; by number from 1.
pub fn read_evidence(text: &str) -> Result<Vec<Envelope>, String> {
    let Some(body) = text.strip_suffix('\n') else {
        return Err("the evidence is empty or its last line has no end: cut short?".into());
    };
    body.split('\n')
        .enumerate()
        .map(|(i, line)| Envelope::from_line(line).map_err(|e| format!("line {}: {e}", i + 1)))
        .collect()
}

/// Checks an artifact.
pub fn verify(subject: &Subjects, evidence: &str, policy: &Policy) -> Checked {
    let mut report = Report { checks: Vec::new() };
    let envelopes = match read_evidence(evidence) {
        Ok(envelopes) => envelopes,
        Err(why) => {
            report.add("the evidence can be read", Err(why));
            return Checked { checks: report.checks, verified: None };
        }
    };
    report.add(
        "the evidence can be read",
        Ok(match envelopes.len() {
            1 => "1 signed statement".to_string(),
            n => format!("{n} signed statements"),
        }),
    );

    let mut said: BTreeMap<StatementKind, BTreeMap<KeyId, String>> = BTreeMap::new();
    let mut believed = Vec::new();
    let mut images = BTreeSet::new();
    for (index, envelope) in envelopes.iter().enumerate() {
        let rule = format!("statement {} is about this file, by a known signer", index + 1);
        match judge(envelope, SHA256, &subject.artifact, policy) {
            Ok(judged) => {
                images.extend(judged.image);
                said.entry(judged.kind).or_default().insert(judged.key, judged.signer.clone());
                report.add(&rule, Ok(format!("{}, signed by {}", judged.kind, judged.signer)));
                believed.push((judged.signer, judged.statement));
            }
            Err(why) => report.add(&rule, Err(why)),
        }
    }
    let image = subject.image.clone().or_else(|| images.into_iter().next());
    match image {
        None => report.add("the image is known", Err("no believed statement says which image this is".into())),
        Some(image) => {
            let mut any = false;
            for rule in policy.rules_for(&image) {
                for (kind, count) in &rule.require {
                    any = true;
                    let mut signers: Vec<&str> =
                        said.get(kind).into_iter().flat_map(|m| m.values()).map(String::as_str).collect();
                    signers.sort_unstable();
                    let text = format!(
                        "images {} need {kind} by {count} {}",
                        rule.images.join(", "),
                        if *count == 1 { "signer" } else { "signers" }
                    );
                    let found = if signers.is_empty() { "nobody".to_string() } else { signers.join(", ") };
                    report.add(
                        &text,
                        if signers.len() >= *count { Ok(found) } else { Err(format!("signed by {found}")) },
                    );
                }
                for (text, result) in demands(rule, &believed) {
                    any = true;
                    report.add(&text, result);
                }
            }
            if !any {
                report.add("a rule of the policy speaks of this image", Err(format!("none does of `{image}`")));
            }
        }
    }
    let good = report.checks.iter().all(|c| c.good);
    Checked { checks: report.checks, verified: good.then_some(Verified(believed)) }
}

/// A layer or a lock as it was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Definition {
    /// Layer or lock.
    pub kind: StatementKind,
    /// Its name.
    pub name: String,
    /// Digest of a layer's tree, or of a lock's text.
    pub digest: Digest,
}

/// Checks a layer or a lock. `evidence` is none when there is no file of it.
pub fn verify_definition(definition: &Definition, evidence: Option<&str>, policy: &Policy) -> Checked {
    let mut report = Report { checks: Vec::new() };
    let need = policy.signers_of(definition.kind, &definition.name);
    let by = if definition.kind == StatementKind::Layer { TREE } else { SHA256 };
    let mut signers = BTreeMap::new();
    let mut believed = Vec::new();
    match evidence.map_or(Ok(Vec::new()), read_evidence) {
        Err(why) => report.add("the evidence can be read", Err(why)),
        Ok(envelopes) => {
            for (index, envelope) in envelopes.iter().enumerate() {
                let rule = format!("statement {} is about this {}, by a known signer", index + 1, definition.kind);
                match judge(envelope, by, &definition.digest, policy) {
                    Ok(judged) if judged.kind == definition.kind => {
                        report.add(&rule, Ok(format!("signed by {}", judged.signer)));
                        signers.insert(judged.key, judged.signer.clone());
                        believed.push((judged.signer, judged.statement));
                    }
                    Ok(judged) => report.add(&rule, Err(format!("it is a statement of kind {}", judged.kind))),
                    Err(why) => report.add(&rule, Err(why)),
                }
            }
        }
    }
    let rule = format!(
        "{} {} needs {need} {}",
        definition.kind,
        definition.name,
        if need == 1 { "signer" } else { "signers" }
    );
    let found = match evidence {
        None => "it is not signed".to_string(),
        Some(_) if signers.is_empty() => "signed by nobody".to_string(),
        Some(_) => format!("signed by {}", signers.values().cloned().collect::<Vec<_>>().join(", ")),
    };
    report.add(&rule, if signers.len() >= need { Ok(found) } else { Err(found) });
    let good = report.checks.iter().all(|c| c.good);
    Checked { checks: report.checks, verified: good.then_some(Verified(believed)) }
}

/// What a rule asks of the contents of believed statements.
fn demands(rule: &PolicyRule, believed: &[(String, Statement)]) -> Vec<(String, Result<String, String>)> {
    let of = |kind: StatementKind| {
        believed.iter().map(|(_, s)| s).filter(move |s| StatementKind::of(&s.predicate_type) == Some(kind))
    };
    let mut out = Vec::new();
    let made: Vec<Option<Day>> = of(StatementKind::Provenance)
        .map(|s| {
            let text = s.predicate.pointer("/runDetails/metadata/finishedOn").and_then(|v| v.as_str())?;
            text.split('T').next()?.parse().ok()
        })
        .collect();
    let mut when = |text: String, good: &dyn Fn(Day) -> bool| {
        let result = match made.iter().find(|d| d.is_none_or(|d| !good(d))) {
            _ if made.is_empty() => Err("no believed statement says when".into()),
            Some(Some(day)) => Err(format!("made on {day}")),
            Some(None) => Err("a statement does not say when".into()),
            None => Ok(made.iter().flatten().map(ToString::to_string).collect::<Vec<_>>().join(", ")),
        };
        out.push((text, result));
    };
    if let Some(first) = rule.made_after {
        when(format!("made on {first} or later"), &|day| day >= first);
    }
    if let Some(last) = rule.made_before {
        when(format!("made on {last} or before"), &|day| day <= last);
    }
    for (what, key, allowed) in
        [("repositories", "repositories", &rule.repositories), ("layers", "layers", &rule.layers)]
    {
        let Some(allowed) = allowed else { continue };
        let mut named = BTreeSet::new();
        let mut silent = of(StatementKind::Provenance).next().is_none();
        for statement in of(StatementKind::Provenance) {
            let list = statement.predicate.pointer(&format!("/buildDefinition/internalParameters/{key}"));
            match list.and_then(|l| l.as_array()) {
                Some(list) => named.extend(list.iter().map(|v| v.as_str().unwrap_or("?").to_string())),
                None => silent = true,
            }
        }
        let other: Vec<&str> = named.iter().filter(|n| !allowed.contains(n)).map(String::as_str).collect();
        let result = if silent {
            Err(format!("no believed statement names its {what}"))
        } else if other.is_empty() {
            Ok(if named.is_empty() { "none".into() } else { named.iter().cloned().collect::<Vec<_>>().join(", ") })
        } else {
            Err(format!("also from {}", other.join(", ")))
        };
        let text =
            if allowed.is_empty() { format!("no {what}") } else { format!("{what}: only {}", allowed.join(", ")) };
        out.push((text, result));
    }
    if !rule.forbidden_licenses.is_empty() {
        let text = format!("nothing under {}", rule.forbidden_licenses.join(", "));
        let mut bills = of(StatementKind::Bill).filter(|s| s.predicate_type == BILL_SPDX).peekable();
        let result = if bills.peek().is_none() {
            Err("there is no believed bill of materials in SPDX".to_string())
        } else {
            let mut bad = BTreeSet::new();
            let mut packages = 0;
            for package in bills.flat_map(|b| b.predicate["packages"].as_array().cloned().unwrap_or_default()) {
                packages += 1;
                let license = package["licenseDeclared"].as_str().unwrap_or_default();
                if !can_do_without(license, &rule.forbidden_licenses) {
                    bad.insert(format!("{} is under {license}", package["name"].as_str().unwrap_or("?")));
                }
            }
            if bad.is_empty() {
                Ok(format!("{packages} packages looked at"))
            } else {
                Err(bad.into_iter().collect::<Vec<_>>().join("; "))
            }
        };
        out.push((text, result));
    }
    out
}

/// Whether a licence expression leaves a choice without the forbidden ones.
fn can_do_without(license: &str, forbidden: &[String]) -> bool {
    let is_bad = |id: &str| forbidden.iter().any(|f| f.eq_ignore_ascii_case(id));
    match spdx::Expression::parse(license) {
        Ok(expression) => expression.evaluate(|request| !is_bad(&request.license.to_string())),
        Err(_) => !license.split(|c: char| c.is_whitespace() || "()".contains(c)).any(is_bad),
    }
}

struct Report {
    checks: Vec<Check>,
}

impl Report {
    fn add(&mut self, rule: &str, result: Result<String, String>) {
        let good = result.is_ok();
        let because = match result {
            Ok(text) | Err(text) => text,
        };
        self.checks.push(Check { rule: rule.to_string(), good, because });
    }
}

struct Judged {
    kind: StatementKind,
    signer: String,
    key: KeyId,
    image: Option<String>,
    statement: Statement,
}

const SHA256: &str = "sha256";
const TREE: &str = "embrakTree";

/// Whether an envelope says something about what has this digest that its signer may say.
fn judge(envelope: &Envelope, by: &str, digest: &Digest, policy: &Policy) -> Result<Judged, String> {
    let Some(signer) = policy.signers.iter().find(|s| envelope.signed_by(&s.key)) else {
        let claimed: Vec<String> = envelope
            .signatures
            .iter()
            .map(|s| match policy.signers.iter().find(|k| k.key.id() == s.keyid) {
                Some(known) => format!("the signature of {} does not fit what was signed", known.name),
                None => format!("key {} is not in the policy", s.keyid.short()),
            })
            .collect();
        return Err(if claimed.is_empty() { "it is not signed".into() } else { claimed.join("; ") });
    };
    if let Some(why) = policy.distrust(signer) {
        return Err(why);
    }
    let statement = envelope.statement().map_err(|e| e.to_string())?;
    let kind = StatementKind::of(&statement.predicate_type)
        .ok_or_else(|| format!("it says something of an unknown kind, {}", statement.predicate_type))?;
    if !signer.may.contains(&kind) {
        return Err(format!("{} may not say {kind}", signer.name));
    }
    let found: Vec<&Subject> = statement.subject.iter().collect();
    if !found.iter().any(|s| s.digest.get(by) == Some(&digest.hex())) {
        let about: Vec<String> =
            found.iter().map(|s| format!("{} sha256:{}", s.name, s.digest.get(by).map_or("?", |d| d))).collect();
        let this = if by == TREE { "this directory" } else { "this file" };
        return Err(format!("it is about {}; {this} digests to {digest}", about.join(", ")));
    }
    if kind == StatementKind::Reproduction
        && statement.predicate.get("result").and_then(|r| r.as_str()) != Some("identical")
    {
        return Err("it says that building again gave something else".into());
    }
    if kind == StatementKind::Release {
        let released: crate::log::Released =
            serde_json::from_value(statement.predicate.clone()).map_err(|e| format!("it is no proof: {e}"))?;
        released.check(digest)?;
    }
    if kind == StatementKind::Checks && statement.predicate.get("result").and_then(|r| r.as_str()) != Some("PASSED") {
        return Err("it says that a check failed".into());
    }
    let image = statement
        .predicate
        .pointer("/buildDefinition/externalParameters/image")
        .and_then(|v| v.as_str())
        .map(String::from);
    Ok(Judged { kind, signer: signer.name.clone(), key: signer.key.id(), image, statement })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{PROVENANCE, REPRODUCTION, SigningKey};
    use proptest::prelude::*;
    use serde_json::json;

    const NAME: &str = "beacon-console.raw";

    fn subject() -> Subjects {
        Subjects { name: NAME.into(), artifact: Digest::of("image"), image: Some("beacon-console".into()) }
    }

    fn line(key: &SigningKey, kind: &str, predicate: serde_json::Value, artifact: &str) -> String {
        let subject = Subject::new(NAME, &Digest::of(artifact), &Digest::of("tree"));
        Envelope::sign(&Statement::new(subject, kind, predicate), key).unwrap().to_line() + "\n"
    }

    fn policy(dir: &tempfile::TempDir, keys: &[(&str, &SigningKey, &str)], rules: &str) -> Policy {
        let mut text = String::new();
        for (name, key, may) in keys {
            std::fs::write(dir.path().join(format!("{name}.pub")), key.public().to_pem().unwrap()).unwrap();
            text += &format!("[signer.{name}]\nkey = '{name}.pub'\nmay = {may}\n");
        }
        let path = dir.path().join("trust.toml");
        std::fs::write(&path, text + rules).unwrap();
        Policy::load(&path).unwrap()
    }

    fn why(checked: &Checked) -> String {
        checked
            .checks
            .iter()
            .filter(|c| !c.good)
            .map(|c| format!("{}: {}", c.rule, c.because))
            .collect::<Vec<_>>()
            .join("\n")
    }

    #[test]
    fn k_of_n_counts_different_signers_only() {
        let dir = tempfile::tempdir().unwrap();
        let keys = [1, 2, 3].map(|n| SigningKey::from_seed([n; 32]));
        let policy = policy(
            &dir,
            &[
                ("release", &keys[0], "['provenance']"),
                ("a", &keys[1], "['reproduction']"),
                ("b", &keys[2], "['reproduction']"),
            ],
            "[[policy]]\nimages = ['beacon-*']\nrequire = { provenance = 1, reproduction = 2 }\n",
        );
        let made = line(&keys[0], PROVENANCE, json!({}), "image");
        let again = |key| line(key, REPRODUCTION, json!({ "result": "identical" }), "image");
        let both = format!("{made}{}{}", again(&keys[1]), again(&keys[2]));
        let checked = verify(&subject(), &both, &policy);
        assert!(checked.good(), "{}", why(&checked));
        assert_eq!(checked.verified.unwrap().get().len(), 3);
        let twice = format!("{made}{}{}", again(&keys[1]), again(&keys[1]));
        assert!(why(&verify(&subject(), &twice, &policy)).contains("reproduction by 2 signers: signed by a"));
        let wrong_role = format!("{made}{}{}", again(&keys[0]), again(&keys[1]));
        assert!(why(&verify(&subject(), &wrong_role, &policy)).contains("release may not say reproduction"));
        let other = line(&keys[1], REPRODUCTION, json!({ "result": "different" }), "image");
        assert!(why(&verify(&subject(), &format!("{made}{other}"), &policy)).contains("gave something else"));
        let unspoken = Subjects { image: Some("tide-service".into()), ..subject() };
        assert!(why(&verify(&unspoken, &both, &policy)).contains("none does of `tide-service`"));
    }

    #[test]
    fn what_fails_is_named() {
        let (key, stranger) = (SigningKey::from_seed([1; 32]), SigningKey::from_seed([9; 32]));
        let policy = Policy::of_key("release", key.public());
        assert!(verify(&subject(), &line(&key, PROVENANCE, json!({}), "image"), &policy).good());
        let told = |evidence: &str| why(&verify(&subject(), evidence, &policy));
        assert!(told(&line(&key, PROVENANCE, json!({}), "other image")).contains("this file digests to sha256:"));
        assert!(told(&line(&stranger, PROVENANCE, json!({}), "image")).contains("is not in the policy"));
        assert!(told("").contains("cut short"));
        assert!(told("{}\n").contains("line 1: not a signed envelope"));
        assert!(told(&line(&key, "https://other.example/x", json!({}), "image")).contains("unknown kind"));
    }

    #[test]
    fn keys_end_and_are_revoked() {
        let dir = tempfile::tempdir().unwrap();
        let key = SigningKey::from_seed([1; 32]);
        let evidence = line(&key, PROVENANCE, json!({}), "image");
        let rules = "[[policy]]\nimages = ['*']\nrequire = { provenance = 1 }\n";
        let mut policy_until = policy(&dir, &[("release", &key, "['provenance']\nuntil = 2026-06-30")], rules);
        policy_until.today = "2026-06-30".parse().unwrap();
        assert!(verify(&subject(), &evidence, &policy_until).good());
        policy_until.today = "2026-07-01".parse().unwrap();
        assert!(why(&verify(&subject(), &evidence, &policy_until)).contains("was good until 2026-06-30"));
        let revoked =
            format!("{rules}[[revoked]]\nkey = '{}'\nreason = 'left in a ferry'\n", key.public().id().short());
        let policy = policy(&dir, &[("release", &key, "['provenance']")], &revoked);
        assert!(why(&verify(&subject(), &evidence, &policy)).contains("is revoked: left in a ferry"));
    }

    #[test]
    fn what_is_made_of_what_and_when_can_be_demanded() {
        let dir = tempfile::tempdir().unwrap();
        let key = SigningKey::from_seed([1; 32]);
        let made = json!({
            "buildDefinition": { "internalParameters": { "layers": ["base", "coast"], "repositories": ["mainland"] } },
            "runDetails": { "metadata": { "finishedOn": "2026-03-04T05:06:07Z" } },
        });
        let bill = |license: &str| json!({ "packages": [{ "name": "horn", "licenseDeclared": license }] });
        let told = |demand: &str, license: &str| {
            let rules = format!("[[policy]]\nimages = ['*']\nrequire = {{ provenance = 1 }}\n{demand}\n");
            let policy = policy(&dir, &[("release", &key, "['provenance', 'bill']")], &rules);
            let evidence =
                line(&key, PROVENANCE, made.clone(), "image") + &line(&key, BILL_SPDX, bill(license), "image");
            why(&verify(&subject(), &evidence, &policy))
        };
        for good in [
            "made-after = 2026-03-04",
            "made-before = 2026-03-04",
            "repositories = ['mainland', 'islands']",
            "layers = ['base', 'coast']",
            "forbidden-licenses = ['GPL-3.0-only']",
        ] {
            assert_eq!(told(good, "MIT OR GPL-3.0-only"), "", "{good}");
        }
        assert!(told("made-after = 2026-03-05", "MIT").contains("made on 2026-03-04"));
        assert!(told("made-before = 2026-01-01", "MIT").contains("made on 2026-03-04"));
        assert!(told("repositories = []", "MIT").contains("also from mainland"));
        assert!(told("layers = ['base']", "MIT").contains("also from coast"));
        assert!(told("forbidden-licenses = ['MIT']", "MIT AND ISC").contains("horn is under MIT AND ISC"));
        assert!(told("forbidden-licenses = ['Odd']", "Odd licence (").contains("horn is under Odd"));
        let silent = policy(
            &dir,
            &[("release", &key, "['provenance']")],
            "[[policy]]\nimages=['*']\nrequire={provenance=1}\nlayers=['a']\n",
        );
        let evidence = line(&key, PROVENANCE, json!({}), "image");
        assert!(why(&verify(&subject(), &evidence, &silent)).contains("names its layers"));
    }

    #[test]
    fn layers_and_locks_are_signed_by_whom_the_policy_asks() {
        let dir = tempfile::tempdir().unwrap();
        let (maker, reviewer) = (SigningKey::from_seed([1; 32]), SigningKey::from_seed([2; 32]));
        let rules = "[definitions]\nlock = 2\n[[definitions.layer]]\nnames = ['base', 'coast-*']\nsigners = 1\n";
        let may = "['layer', 'lock']";
        let policy = policy(&dir, &[("maker", &maker, may), ("reviewer", &reviewer, "['lock']")], rules);
        let said = |key: &SigningKey, kind: &str, subject: Subject| {
            Envelope::sign(&Statement::new(subject, kind, json!({})), key).unwrap().to_line() + "\n"
        };
        let digest = Digest::of("its files");
        let layer = |name: &str| Definition { kind: StatementKind::Layer, name: name.into(), digest };
        let signed = said(&maker, crate::LAYER, Subject::of_tree("base", &digest));
        assert!(verify_definition(&layer("base"), Some(&signed), &policy).good());
        assert!(why(&verify_definition(&layer("coast-north"), None, &policy)).contains("not signed"));
        assert!(verify_definition(&layer("inland"), None, &policy).good(), "the policy asks nothing of it");
        let other = said(&maker, crate::LAYER, Subject::of_tree("base", &Digest::of("other files")));
        assert!(why(&verify_definition(&layer("base"), Some(&other), &policy)).contains("this directory digests to"));
        let may_not = said(&reviewer, crate::LAYER, Subject::of_tree("base", &digest));
        assert!(why(&verify_definition(&layer("base"), Some(&may_not), &policy)).contains("may not say layer"));

        let lock = Definition { kind: StatementKind::Lock, name: "embrak.lock".into(), digest };
        let by = |key: &SigningKey| said(key, crate::LOCK, Subject::of_file("embrak.lock", &digest));
        let one = by(&maker);
        assert!(why(&verify_definition(&lock, Some(&one), &policy)).contains("needs 2 signers"));
        let twice = one.clone() + &by(&maker);
        assert!(!verify_definition(&lock, Some(&twice), &policy).good(), "one key counts once");
        assert!(verify_definition(&lock, Some(&(one + &by(&reviewer))), &policy).good());
        let layer_as_lock = said(&maker, crate::LAYER, Subject::of_file("embrak.lock", &digest));
        assert!(why(&verify_definition(&lock, Some(&layer_as_lock), &policy)).contains("statement of kind layer"));
    }

    proptest! {
        #[test]
        fn any_flipped_bit_of_the_evidence_is_noticed(at in any::<prop::sample::Index>(), bit in 0u8..8) {
            let key = SigningKey::from_seed([1; 32]);
            let policy = Policy::of_key("release", key.public());
            let mut bytes = line(&key, PROVENANCE, json!({ "buildDefinition": {} }), "image").into_bytes();
            let at = at.index(bytes.len());
            bytes[at] ^= 1 << bit;
            // What is not UTF-8 any more is refused before it is read as text.
            if let Ok(text) = String::from_utf8(bytes) {
                prop_assert!(!verify(&subject(), &text, &policy).good(), "byte {}", at);
            }
        }
    }
}
