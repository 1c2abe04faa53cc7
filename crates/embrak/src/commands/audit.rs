//! `audit` and `bill`.

use super::{Code, Failure, print_json};
use crate::args::{AuditArgs, BillForm, Global};
use crate::problem::{advice, count};
use crate::session::{self, shown};
use crate::style::{bad, faint, good, name, strong, warn, wrapped};
use embrak_audit::{
    Allowance, Decisions, Exposure, Finding, Outcome, Profile, Severity, allow, audit as look, exposures,
    read_advisories, rule, sarif,
};
use embrak_engine::{EngineError, advisory_texts, bill as bill_of, find_run, open_artifact, profile, profiles};
use embrak_model::Workspace;
use serde_json::json;
use std::collections::BTreeMap;
use std::path::Path;

fn problem(message: String, help: &str) -> Failure {
    EngineError::Definition { message, help: help.into() }.into()
}

/// What the definition of an image allows.
fn allowances(workspace: Option<&Workspace>, image: Option<&str>) -> Result<Vec<Allowance>, Failure> {
    let Some(found) = image.and_then(|name| workspace?.images.get(name)) else { return Ok(Vec::new()) };
    let read = |a: &embrak_model::definitions::AllowDef| {
        Allowance::new(&a.rule.value, &a.at, &a.reason, a.until.as_deref())
            .map_err(|e| problem(e, &format!("written at {}", a.rule.at)))
    };
    found.def.allow.iter().map(read).collect()
}

/// A profile by its name in the layers, or by its file.
fn chosen(workspace: Option<&Workspace>, global: &Global, wanted: &str) -> Result<Profile, Failure> {
    if wanted.ends_with(".toml") {
        return Ok(profile(&session::resolve(global, Path::new(wanted)))?);
    }
    let all = workspace.map(profiles).transpose()?.unwrap_or_default();
    let known: Vec<String> = all.iter().map(|(p, _)| p.profile.clone()).collect();
    match all.into_iter().find(|(p, _)| p.profile == wanted) {
        Some((found, _)) => Ok(found),
        None if known.is_empty() => Err(problem(
            format!("there is no profile `{wanted}`"),
            "profiles are files in a layer's directory `profiles`",
        )),
        None => Err(problem(format!("there is no profile `{wanted}`"), &format!("there are: {}", known.join(", ")))),
    }
}

pub fn audit(global: &Global, args: &AuditArgs) -> Result<Code, Failure> {
    let path = session::resolve(global, &args.path);
    let artifact = open_artifact(&path)?;
    // Outside of a workspace an image is audited as it is.
    let workspace = match session::workspace_root(global) {
        Ok(_) => session::load(global)?.ok(),
        Err(_) => None,
    };
    let image = artifact.identity().and_then(|i| i["image"].as_str().map(str::to_string));
    let mut allowed = allowances(workspace.as_ref(), image.as_deref())?;
    let mut judged_by = Vec::new();
    for wanted in &args.profile {
        let found = chosen(workspace.as_ref(), global, wanted)?;
        allowed.extend(found.allow.iter().cloned());
        judged_by.push(found);
    }
    let today = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let decisions = match &args.decisions {
        None => Decisions::default(),
        Some(file) => {
            let file = session::resolve(global, file);
            let text = std::fs::read_to_string(&file)
                .map_err(|e| problem(format!("cannot read {}: {e}", file.display()), "look at the path"))?;
            Decisions::parse(&text, &file.display().to_string())
                .map_err(|e| problem(e, "docs/audit.md tells what can stand there"))?
        }
    };
    let mut advisories = Vec::new();
    for dir in &args.advisories {
        for (file, text) in advisory_texts(&session::resolve(global, dir))? {
            advisories
                .extend(read_advisories(&text, &file).map_err(|e| problem(e, "take the file out, or correct it"))?);
        }
    }
    let (mut findings, notes, outcomes, exposed) = artifact.audited(|subject| {
        let mut findings = look(subject);
        let notes = allow(&mut findings, &allowed, today);
        let outcomes: Vec<(String, Vec<Outcome>)> =
            judged_by.iter().map(|p| (format!("{} {}", p.profile, p.version), p.judge(subject, &findings))).collect();
        let exposed = exposures(&subject.packages, &advisories, &decisions, today);
        (findings, notes, outcomes, exposed)
    });
    let worst = args.fail_on;
    let failed = findings.iter().any(|f| f.allowed.is_none() && f.severity >= worst)
        || outcomes.iter().flat_map(|(_, all)| all).any(|o| !o.met && o.severity >= worst)
        || exposed.iter().any(Exposure::is_open);
    let code = Code::of(!failed);
    if args.sarif {
        let document = sarif(&findings, &shown(&path), env!("CARGO_PKG_VERSION"));
        return print_json(&document).map(|()| code);
    }
    if global.json {
        let profiles: Vec<_> = outcomes.iter().map(|(p, all)| json!({ "profile": p, "requirements": all })).collect();
        let document = json!({
            "artifact": artifact.digest()?, "findings": findings, "profiles": profiles, "advisories": advisories.len(),
            "exposures": exposed, "notes": notes, "good": !failed,
        });
        return print_json(&document).map(|()| code);
    }
    anstream::println!("{} {}", strong(shown(&path)), faint(artifact.digest()?));
    let hidden = findings.iter().filter(|f| f.allowed.is_some()).count();
    if !args.all {
        findings.retain(|f| f.allowed.is_none());
    }
    print_findings(&findings, args.all);
    if hidden > 0 && !args.all {
        anstream::println!(
            "{}",
            faint(format!("{} allowed with a reason; --all shows them", count(hidden, "finding")))
        );
    }
    for (title, all) in &outcomes {
        print_outcomes(title, all, args.all);
    }
    if !args.advisories.is_empty() {
        print_exposures(&exposed, advisories.len());
    }
    for note in notes {
        anstream::println!("{} {note}", warn("note"));
    }
    let unmet = outcomes.iter().flat_map(|(_, all)| all).filter(|o| !o.met).count();
    let open = exposed.iter().filter(|e| e.is_open()).count();
    verdict(&findings, unmet, open, failed, worst);
    Ok(code)
}

fn shade(severity: Severity) -> String {
    let text = format!("{severity:<6}");
    match severity {
        Severity::High => bad(text),
        Severity::Medium => warn(text),
        Severity::Low | Severity::Info => faint(text),
    }
}

/// Findings of one rule together: what it is, where, and once why it matters and what to do.
fn print_findings(findings: &[Finding], all: bool) {
    const FEW: usize = 5;
    let mut groups: BTreeMap<(std::cmp::Reverse<Severity>, &str), Vec<&Finding>> = BTreeMap::new();
    for finding in findings {
        groups.entry((std::cmp::Reverse(finding.severity), finding.rule)).or_default().push(finding);
    }
    for ((severity, id), group) in groups {
        let Some(rule) = rule(id) else { continue };
        anstream::println!("{} {} {}", shade(severity.0), strong(rule.title), faint(format!("{id}, {}", group.len())));
        let shown = if all { group.len() } else { FEW };
        for finding in group.iter().take(shown) {
            let place = if finding.place.is_empty() { String::new() } else { faint(format!("{}: ", finding.place)) };
            anstream::println!("       {place}{}  {}", name(&finding.at), finding.what);
            if let Some(reason) = &finding.allowed {
                anstream::println!("         {} {reason}", good("allowed:"));
            }
        }
        if group.len() > shown {
            anstream::println!("       {}", faint(format!("and {} more; --all shows them", group.len() - shown)));
        }
        anstream::println!("       {} {}", faint("why"), rule.why);
        anstream::println!("       {} {}", faint("do "), rule.fix);
    }
}

fn print_outcomes(title: &str, all: &[Outcome], every: bool) {
    let met = all.iter().filter(|o| o.met).count();
    anstream::println!("{} {}", strong(format!("profile {title}")), faint(format!("{met} of {} met", all.len())));
    let width = all.iter().map(|o| o.id.chars().count()).max().unwrap_or(0);
    for outcome in all {
        let pad = " ".repeat(width - outcome.id.chars().count());
        if outcome.met && !every && all.len() > 40 {
            continue;
        }
        let mark = if outcome.met { good("met   ") } else { shade(outcome.severity) };
        let proof = if outcome.proof.chars().count() > 90 { String::new() } else { faint(&outcome.proof) };
        anstream::println!("{mark} {}{pad}  {}  {proof}", name(&outcome.id), outcome.rule);
        if proof.is_empty() {
            for line in wrapped(&outcome.proof, 100) {
                anstream::println!("       {}", faint(line));
            }
        }
        if !outcome.met {
            anstream::println!("       {} {}", faint("why"), outcome.because);
        }
    }
}

fn print_exposures(exposed: &[Exposure], read: usize) {
    let open = exposed.iter().filter(|e| e.is_open()).count();
    anstream::println!(
        "{} {}",
        strong("known vulnerabilities"),
        faint(format!(
            "{} read, {} of this image's packages concerned, {open} open",
            count(read, "advisory").replace("advisorys", "advisories"),
            exposed.len()
        ))
    );
    for exposure in exposed {
        let mark = if exposure.is_open() { bad("open  ") } else { good("closed") };
        let fixed = exposure.fixed.as_ref().map_or("no version mends it yet".into(), |v| format!("mended in {v}"));
        anstream::println!("{mark} {} {} {}  {}", name(&exposure.id), exposure.package, exposure.version, fixed);
        if !exposure.summary.is_empty() {
            anstream::println!("       {}", exposure.summary);
        }
        if let (Some(status), Some(reason)) = (exposure.status, &exposure.reason) {
            let status = serde_json::to_value(status).ok().and_then(|v| v.as_str().map(|s| s.replace('-', " ")));
            anstream::println!("       {} {reason}", faint(format!("{}:", status.unwrap_or_default())));
        }
    }
}

fn verdict(findings: &[Finding], unmet: usize, open: usize, failed: bool, worst: Severity) {
    let of = |s: Severity| findings.iter().filter(|f| f.severity == s && f.allowed.is_none()).count();
    let mut numbers: Vec<String> = [Severity::High, Severity::Medium, Severity::Low, Severity::Info]
        .into_iter()
        .filter(|s| of(*s) > 0)
        .map(|s| format!("{} {s}", of(s)))
        .collect();
    if unmet > 0 {
        numbers.push(format!("{} not met", count(unmet, "requirement")));
    }
    if open > 0 {
        numbers.push(format!("{open} known and open"));
    }
    let text = if numbers.is_empty() { "nothing found".to_string() } else { numbers.join(", ") };
    if !failed {
        anstream::println!("{} {text}", good("good:"));
        return;
    }
    anstream::println!("{} {text}", bad("not good:"));
    let help = if open > 0 {
        "move to a version that mends it, or write down why it does not concern this image and give that by --decisions"
    } else {
        "correct the definition, or allow a finding with its reason under [[allow]] of the image"
    };
    advice(&format!("{help}; findings that are {worst} or worse count (--fail-on)"));
}

pub fn bill(global: &Global, path: &Path, form: BillForm, files: bool) -> Result<Code, Failure> {
    let path = session::resolve(global, path);
    let artifact = open_artifact(&path)?;
    let store = session::open_store(global)?;
    let record = find_run(&store, None, Some(&artifact.digest()?)).ok().map(|(_, record)| record);
    let bill = bill_of(&artifact, record.as_ref(), files)?;
    match form {
        BillForm::Spdx => print_json(&bill.spdx())?,
        BillForm::Cyclonedx => print_json(&bill.cyclonedx())?,
        BillForm::Text if global.json => print_json(&bill)?,
        BillForm::Text => {
            anstream::println!(
                "{} {} {}",
                strong(format!("{} {}", bill.name, bill.version).trim()),
                faint(bill.artifact),
                faint(count(bill.packages.len(), "package"))
            );
            let mut table = crate::style::Table::new(&["package", "version", "licence", "of"]);
            for p in &bill.packages {
                let license = p.license.clone().unwrap_or_else(|| faint("not known"));
                table.row([
                    name(&p.name),
                    p.version.clone(),
                    license,
                    p.supplier.clone().unwrap_or_else(|| p.namespace.clone()),
                ]);
            }
            table.print(0);
            for (file, digest, size) in &bill.files {
                anstream::println!("{digest} {size:>10} {file}");
            }
        }
    }
    Ok(Code::Done)
}
