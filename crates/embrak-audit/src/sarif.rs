//! Findings as SARIF 2.1.0 (OASIS), which many viewers read.

use crate::{Finding, RULES, Severity};
use serde_json::{Value, json};

fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::High => "error",
        Severity::Medium => "warning",
        Severity::Low | Severity::Info => "note",
    }
}

/// The document of one run over one image.
pub fn sarif(findings: &[Finding], image: &str, tool_version: &str) -> Value {
    let rules: Vec<Value> = RULES
        .iter()
        .map(|rule| {
            json!({
                "id": rule.id,
                "shortDescription": { "text": rule.title },
                "fullDescription": { "text": rule.why },
                "help": { "text": rule.fix },
                "defaultConfiguration": { "level": level(rule.severity) },
            })
        })
        .collect();
    let results: Vec<Value> = findings
        .iter()
        .map(|f| {
            let mut result = json!({
                "ruleId": f.rule,
                "ruleIndex": RULES.iter().position(|r| r.id == f.rule),
                "level": level(f.severity),
                "message": { "text": f.what },
                "locations": [{
                    "physicalLocation": { "artifactLocation": { "uri": image } },
                    "logicalLocations": [{ "fullyQualifiedName": if f.place.is_empty() { f.at.clone() } else { format!("{}: {}", f.place, f.at) } }],
                }],
            });
            if let Some(reason) = &f.allowed {
                result["suppressions"] = json!([{ "kind": "external", "justification": reason }]);
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "embrak", "version": tool_version, "rules": rules } },
            "results": results,
        }],
    })
}
