//! Systems whose distribution comes as an image, as trees written by hand: no such system can be run here. No command
//! that changes a package is printed there, because none would do what it says.

use std::fs;
use std::path::Path;

use serde_json::Value;
use tempfile::TempDir;

use super::stand_in_systems::rpm_database;
use super::support::{run, text, tree};

fn ask(root: &Path, arguments: &[&str]) -> Value {
    run([&["--root", root.to_str().unwrap()], arguments, &["--format", "json"]].concat()).document()
}

/// A machine with rpm and dnf, as an image of ostree has them.
fn layered() -> TempDir {
    let made = tree(&[
        ("usr/lib/sysimage/rpm/keep", b""),
        ("usr/bin/dnf5", b"x"),
        ("ostree/repo/config", b"[core]\n"),
        (
            "ostree/deploy/harbour/deploy/0a1b.0.origin",
            b"[origin]\nbaserefspec=harbour:harbour/42\n\n[packages]\nrequested=buoy;missing;\nrequested-local=77aa:tide-gauge-1.0-1.noarch;\n",
        ),
    ]);
    rpm_database(made.path(), &[("buoy", "2.0"), ("anchor", "1.0"), ("tide-gauge", "1.0")]);
    made
}

#[test]
fn what_was_put_on_top_of_an_image_is_told() {
    let made = layered();
    let document = ask(made.path(), &["inventory", "--all"]);
    let packages = document["packages"].as_array().unwrap();
    let reasons: Vec<String> =
        packages.iter().map(|one| format!("{} {}", text(&one["name"]), text(&one["reason"]))).collect();
    assert_eq!(reasons, ["anchor unknown", "buoy explicit", "tide-gauge explicit"]);
    let why = ask(made.path(), &["why", "buoy"]).to_string();
    assert!(why.contains("0a1b.0.origin") && why.contains("buoy was put on top of the image"), "{why}");
    // Of two deployments neither is told to be the one that is meant.
    fs::write(made.path().join("ostree/deploy/harbour/deploy/2c3d.0.origin"), "[packages]\nrequested=anchor;\n")
        .unwrap();
    let document = ask(made.path(), &["inventory", "--all"]);
    assert!(document["packages"].as_array().unwrap().iter().all(|one| one["reason"] == "unknown"), "{document:#}");
    let lost = document["coverage"].to_string();
    assert!(lost.contains("/ostree/deploy") && lost.contains("put on top of the image is unknown"), "{lost}");
}

#[test]
fn no_command_is_printed_that_an_image_would_refuse() {
    let debian: &[(&str, &[u8])] = &[
        ("var/lib/dpkg/status", b"Package: tide\nStatus: install ok installed\nArchitecture: all\nVersion: 1.0\n\n"),
        ("var/lib/dpkg/info/tide.list", b"/usr/bin/tide\n"),
        ("var/lib/apt/keep", b""),
        ("usr/bin/tide", b"x"),
    ];
    let arch: &[(&str, &[u8])] = &[
        ("var/lib/pacman/local/ALPM_DB_VERSION", b"9\n"),
        ("var/lib/pacman/local/tide-1.0-1/desc", b"%NAME%\ntide\n\n%VERSION%\n1.0-1\n\n%ARCH%\nany\n\n"),
        ("var/lib/pacman/local/tide-1.0-1/files", b"%FILES%\nusr/bin/tide\n"),
        ("usr/bin/tide", b"x"),
    ];
    let image: (&str, &[u8]) = ("ostree/repo/config", b"[core]\n");
    let sealed: (&str, &[u8]) = ("usr/bin/steamos-readonly", b"x");
    let snapshots: (&str, &[u8]) = ("etc/os-release", b"ID=opensuse-microos\n");
    for (files, sign) in [(debian, image), (arch, sealed), (arch, snapshots)] {
        for is_image in [false, true] {
            let more = is_image.then_some(sign);
            let made = tree(&[files, more.as_slice()].concat());
            let answer = ask(made.path(), &["owner", "/usr/bin/tide"])["answers"][0].clone();
            assert_eq!(text(&answer["owner"]["name"]), "tide", "{answer:#}");
            assert_eq!(answer["remedies"].as_array().unwrap().is_empty(), is_image, "{answer:#}");
            let plan = ask(made.path(), &["plan", "remove", "tide"]);
            assert_eq!(plan["steps"].as_array().is_none_or(Vec::is_empty), is_image, "{plan:#}");
        }
    }
    let made = layered();
    for question in [&["owner", "package:buoy"][..], &["plan", "remove", "buoy"], &["upkeep", "buoy"]] {
        let said = ask(made.path(), question).to_string();
        assert!(!said.contains("dnf ") && !said.contains("rpm -e"), "{question:?}: {said}");
    }
}
