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

/// Every group of a tree: how bad it is, its sentence, its findings and its remedy.
fn told(made: &tempfile::TempDir) -> String {
    let root = made.path().to_str().unwrap();
    let document = run(["--root", root, "check", "--level", "note", "--format", "json"]).document();
    let mut told = String::new();
    for group in document["groups"].as_array().unwrap() {
        let member = |place: &Value| {
            let finding = &document["findings"][usize::try_from(place.as_u64().unwrap()).unwrap()];
            format!("{} {}", finding["kind"].as_str().unwrap(), finding["subject"].as_str().unwrap())
        };
        let members: Vec<String> = group["findings"].as_array().unwrap().iter().map(member).collect();
        let remedy = group["first_remedy"]["command"].as_str().unwrap_or("no remedy");
        let [severity, summary] = ["severity", "summary"].map(|key| group[key].as_str().unwrap());
        writeln!(told, "{severity}: {summary}\n  {}\n  {remedy}", members.join(", ")).unwrap();
    }
    told
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

/// A directory that two packages kept their files in is gone, and another that two more only list: one entry each.
/// Another package misses something else as well, which is its own matter. What only one package kept in a directory,
/// and what leads there, is one entry too.
#[test]
fn a_directory_that_several_packages_miss_is_one_entry() {
    let lists: [(&str, &[&str]); 7] = [
        ("knots", &["/usr/lib/harbour", "/usr/lib/harbour/knots.so"]),
        ("tide", &["/usr/lib/harbour", "/usr/lib/harbour/tide.so", "/usr/lib/harbour/moon/tide.so"]),
        ("ropes", &["/usr/lib/harbour/ropes.so", "/usr/bin/ropes"]),
        ("berth", &["/usr/lib/quay"]),
        ("pier", &["/usr/lib/quay"]),
        ("winch", &["/usr/lib/winch/winch", "/usr/lib/winch/drum"]),
        ("whole", &["/usr/lib/whole"]),
    ];
    let stanza = |name| {
        format!("Package: {name}\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\n\n")
    };
    let status: String = lists.iter().map(|(name, _)| stanza(name)).collect();
    let content = |paths: &[&str]| {
        ["/.", "/usr", "/usr/lib", "/usr/bin"].iter().chain(paths).map(|path| format!("{path}\n")).collect()
    };
    let lists: Vec<(String, String)> =
        lists.iter().map(|(name, paths)| (format!("var/lib/dpkg/info/{name}.list"), content(paths))).collect();
    let mut files: Vec<(&str, &[u8])> = vec![
        ("etc/os-release", b"ID=debian\n"),
        ("bin", b"-> usr/bin"),
        ("usr/bin/sh", b"\x7fELF"),
        ("usr/bin/winch", b"-> ../lib/winch/winch"),
        ("usr/lib/whole", b"\x7fELF"),
        ("var/lib/dpkg/status", status.as_bytes()),
    ];
    files.extend(lists.iter().map(|(name, content)| (name.as_str(), content.as_bytes())));
    let made = tree(&files);
    insta::assert_snapshot!("directories_that_are_gone", told(&made));
}

/// Several packages of dpkg lack something, two the same: one command of apt mends all, so that they are one entry.
#[test]
fn packages_that_lack_something_are_one_entry() {
    let needs = [("knots", "fathom"), ("tide", "fathom (>= 2), sh"), ("ropes", "hemp | sisal"), ("sh", "knots")];
    let stanza = |(name, needs): (&str, &str)| {
        format!(
            "Package: {name}\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\nDepends: {needs}\n\n"
        )
    };
    let status: String = needs.map(stanza).concat();
    let made = tree(&[
        ("etc/os-release", b"ID=debian\n"),
        ("var/lib/dpkg/status", status.as_bytes()),
        ("var/lib/dpkg/info/knots.list", b"/.\n"),
        ("var/lib/dpkg/info/tide.list", b"/.\n"),
        ("var/lib/dpkg/info/ropes.list", b"/.\n"),
        ("var/lib/dpkg/info/sh.list", b"/.\n"),
    ]);
    insta::assert_snapshot!("packages_that_lack_something", told(&made));
}
