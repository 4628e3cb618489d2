//! `export`, package URLs and SARIF, judged by the formats' own validators and schemas.

use std::process::Command;

use serde_json::Value;

use super::support::{has, lantern, not_compared, run, target};

/// The validator of CycloneDX, of its own library: it prints what is wrong.
const CYCLONEDX: &str = "
import sys
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
wrong = JsonStrictValidator(SchemaVersion.V1_5).validate_str(open(sys.argv[1]).read())
print('valid' if wrong is None else wrong)
";

/// Prints each package URL of a file that its specification's own library writes in another way, or cannot read.
const PACKAGE_URLS: &str = "
import sys
from packageurl import PackageURL
for url in open(sys.argv[1]).read().split():
    if (told := PackageURL.from_string(url).to_string()) != url:
        print(url, told)
";

fn texts<'v>(items: &'v Value, key: &str) -> Vec<&'v str> {
    items.as_array().unwrap().iter().filter_map(|item| item[key].as_str()).collect()
}

#[test]
fn bills_of_materials_are_valid_and_whole() {
    if !has(&["python3", "pyspdxtools"]) {
        return;
    }
    if !Command::new("python3").args(["-c", "import cyclonedx.validation.json"]).status().is_ok_and(|ran| ran.success())
    {
        return not_compared("CycloneDX: its library for Python is not installed");
    }
    let dir = tempfile::tempdir().unwrap();
    let demo = lantern().to_str().unwrap().to_owned();
    for (number, root) in ["/", demo.as_str()].into_iter().enumerate() {
        let inventory = run(["inventory", "--all", "--format", "json", "--root", root]).document();
        let packages = inventory["packages"].as_array().unwrap();
        let installed = packages.iter().filter(|package| package["status"] != "config-remains");
        let mut ids: Vec<&str> = installed.map(|package| package["id"].as_str().unwrap()).collect();
        ids.sort_unstable();
        ids.dedup();

        let bill = run(["export", "cyclonedx", "--root", root]);
        assert_eq!(bill.status, 0, "{}", bill.err);
        let file = dir.path().join(format!("{number}.cdx.json"));
        std::fs::write(&file, &bill.out).unwrap();
        let judged = Command::new("python3").args(["-c", CYCLONEDX]).arg(&file).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&judged.stdout).trim(), "valid", "{judged:?}");
        let document: Value = serde_json::from_str(&bill.out).unwrap();
        let mut listed = texts(&document["components"], "bom-ref");
        listed.sort_unstable();
        assert_eq!(listed, ids, "CycloneDX");

        let bill = run(["export", "spdx", "--root", root]);
        let file = dir.path().join(format!("{number}.spdx.json"));
        std::fs::write(&file, &bill.out).unwrap();
        let judged = Command::new("pyspdxtools").arg("--infile").arg(&file).output().unwrap();
        assert!(judged.status.success(), "{}", String::from_utf8_lossy(&judged.stderr));
        let document: Value = serde_json::from_str(&bill.out).unwrap();
        // One more is the machine itself.
        assert_eq!(document["packages"].as_array().unwrap().len(), ids.len() + 1, "SPDX");

        let urls = texts(&inventory["packages"], "purl");
        assert!(urls.len() > 30, "{urls:?}");
        let file = dir.path().join(format!("{number}.purls"));
        std::fs::write(&file, urls.join("\n")).unwrap();
        let judged = Command::new("python3").args(["-c", PACKAGE_URLS]).arg(&file).output().unwrap();
        assert!(judged.status.success() && judged.stdout.is_empty(), "{judged:?}");
    }
}

#[test]
fn findings_follow_the_schema_of_sarif() {
    let Ok(schema) = std::fs::read(target().join("tools/sarif-schema.json")) else {
        return not_compared("SARIF: its schema is not here (.ci/run fetches it)");
    };
    let mut schema: Value = serde_json::from_slice(&schema).unwrap();
    // Its pattern for languages, which no document of ours has, is no regular expression: a bracket is missing.
    for part in ["run", "toolComponent"] {
        schema["definitions"][part]["properties"]["language"].as_object_mut().unwrap().remove("pattern").unwrap();
    }
    let schema = jsonschema::validator_for(&schema).unwrap();
    assert!(!schema.is_valid(&serde_json::json!({ "version": "2.1.0", "runs": [{ "tool": {} }] })));
    for root in ["/", lantern().to_str().unwrap()] {
        for command in [&["check", "--level", "note"][..], &["conflicts"]] {
            let ran = run(command.iter().copied().chain(["--root", root, "--format", "sarif"]));
            let log: Value = serde_json::from_str(&ran.out).unwrap();
            let wrong: Vec<String> = schema.iter_errors(&log).map(|problem| problem.to_string()).collect();
            assert!(wrong.is_empty(), "{root} {command:?}: {wrong:#?}");
        }
    }
}
