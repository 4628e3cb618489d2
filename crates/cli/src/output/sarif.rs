//! Findings for other tools: *Static Analysis Results Interchange Format* 2.1.0 (OASIS).

use std::io::{self, Write};

use serde_json::{Value, json};
use whodunit_core::bytes::ByteString;
use whodunit_core::checks::catalogue::explain;
use whodunit_core::model::{Evidence, Finding, FindingKind, Severity};

use super::links::address;

/// Writes a log with one run.
pub fn document(out: &mut impl Write, findings: &[Finding]) -> io::Result<()> {
    let mut kinds: Vec<FindingKind> = findings.iter().map(|finding| finding.kind).collect();
    kinds.sort();
    kinds.dedup();
    let log = json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "whodunit",
                "version": env!("CARGO_PKG_VERSION"),
                "rules": kinds.iter().map(|kind| rule(*kind)).collect::<Vec<Value>>(),
            } },
            "results": findings.iter().map(|finding| result(finding, &kinds)).collect::<Vec<Value>>(),
        }],
    });
    super::json::document(out, &log)
}

fn rule(kind: FindingKind) -> Value {
    let one = explain(kind);
    let text = |text: Option<&str>| json!({ "text": text.unwrap_or_default() });
    json!({
        "id": kind.to_string(),
        "shortDescription": text(one.map(|one| one.means)),
        "fullDescription": text(one.map(|one| one.matters)),
        "help": text(one.map(|one| one.remedy)),
    })
}

fn result(finding: &Finding, kinds: &[FindingKind]) -> Value {
    let level = match finding.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let remedies: Vec<String> =
        finding.remedies.iter().map(|remedy| format!(" To {}: {}", remedy.purpose, remedy.command)).collect();
    let text = format!("{}. Consequence: {}.{}", finding.summary, finding.consequence, remedies.concat());
    let files = finding.evidence.iter().filter(|one| one.file.starts_with(b"/"));
    let mut locations: Vec<Value> =
        finding.paths.iter().filter(|path| path.starts_with(b"/")).map(|path| location(path, None)).collect();
    locations.extend(files.map(|one| location(&one.file, line(one))));
    let mut result = json!({
        "ruleId": finding.kind.to_string(),
        "ruleIndex": kinds.iter().position(|kind| *kind == finding.kind),
        "level": level,
        "message": { "text": ByteString::from(text).to_string() },
        "locations": locations,
        "properties": { "subject": finding.subject, "packages": finding.packages },
    });
    if let Some(reason) = &finding.accepted {
        result["suppressions"] = json!([{ "kind": "external", "justification": reason }]);
    }
    result
}

/// The line, where the place in the file is one.
fn line(evidence: &Evidence) -> Option<u32> {
    evidence.at.line().filter(|line| *line > 0)
}

fn location(path: &ByteString, line: Option<u32>) -> Value {
    let mut physical = json!({ "artifactLocation": { "uri": address(b"", path) } });
    if let Some(line) = line {
        physical["region"] = json!({ "startLine": line });
    }
    json!({ "physicalLocation": physical })
}
