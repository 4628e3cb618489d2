//! `check` tells what has one cause once.

use std::fmt::Write as _;

use serde_json::Value;

use super::support::{ask, lantern, run, tree};

/// The groups of a document: cause, subject, number of findings.
fn groups(document: &Value) -> Vec<(String, String, usize)> {
    let groups = document["groups"].as_array().unwrap().iter();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    groups
        .map(|group| (text(&group["cause"]), text(&group["subject"]), group["findings"].as_array().unwrap().len()))
        .collect()
}

/// Forty scripts and links behind one directory that is gone, a name that hides another, an open directory.
#[test]
fn one_cause_is_one_entry() {
    let passwd = b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n";
    let script = b"#!/opt/beacon/bin/lamp -w\n";
    let names: Vec<String> = (0..40).map(|number| format!("usr/local/bin/flash{number:02}")).collect();
    let status = b"Package: gauge\nStatus: install ok installed\nVersion: 1.2\nArchitecture: amd64\nMaintainer: x\n";
    let mut files: Vec<(&str, &[u8])> = vec![
        ("etc/passwd", passwd),
        ("home/maren/", b""),
        ("bin", b"-> usr/bin"),
        ("usr/bin/sh", b"\x7fELF"),
        ("usr/bin/gauge", b"\x7fELF"),
        ("usr/local/bin/gauge", b"\x7fELF2"),
        ("usr/local/bin/beam", b"-> /opt/beacon/share/beam"),
        ("usr/local/bin/blink", b"-> /opt/beacon/share/blink"),
        ("var/lib/dpkg/status", status),
        ("var/lib/dpkg/info/gauge.list", b"/.\n/usr\n/usr/bin\n/usr/bin/gauge\n/bin/sh\n"),
    ];
    files.extend(names.iter().map(|name| (name.as_str(), &script[..])));
    let made = tree(&files);
    let root = made.path().to_str().unwrap();
    let ran = run(["--root", root, "check", "--format", "json"]);
    let told = groups(&ran.document());
    assert_eq!(told[0], ("missing-interpreter".to_owned(), "/opt/beacon".to_owned(), 42), "{told:#?}");
    assert!(told.iter().any(|(cause, subject, _)| cause == "masking-file" && subject == "gauge"), "{told:#?}");
    // Every finding is in one group.
    let count: usize = told.iter().map(|(.., count)| count).sum();
    assert_eq!(count, ran.document()["findings"].as_array().unwrap().len());
    let shown = run(["--root", root, "check"]);
    insta::assert_snapshot!("one_cause", shown.out);
}

/// A name gives everything about it, notes too, and nothing about anything else.
#[test]
fn a_name_is_told_in_full() {
    let root = lantern().to_str().unwrap();
    let mut told = String::new();
    for name in ["swellplot", "python3-knots", "/opt/harbour/bin", "pilotbook", "nothing-of-that-name"] {
        let ran = run(["--root", root, "check", name]);
        let document = run(["--root", root, "check", name, "--format", "json"]).document();
        let kinds = document["findings"].as_array().unwrap().iter();
        let kinds: Vec<&str> = kinds.map(|finding| finding["kind"].as_str().unwrap()).collect();
        writeln!(told, "{name}: {} ({})", ran.out.lines().next().unwrap(), kinds.join(" ")).unwrap();
    }
    insta::assert_snapshot!("names_in_full", told);
    // The order of groups, and what each tells first.
    let document = ask(&["check", "--level", "note", "--format", "json"]).document();
    let mut shown = String::new();
    for group in document["groups"].as_array().unwrap() {
        let word = |key: &str| group[key].as_str().unwrap().to_owned();
        let remedy = group["first_remedy"]["command"].as_str().unwrap_or("-");
        writeln!(shown, "{} {} {}: {remedy}", word("severity"), word("cause"), word("subject")).unwrap();
    }
    insta::assert_snapshot!("groups_of_the_demo", shown);
}
