//! Guix as a tree written by hand from its manual, with a database as its daemon makes it: it cannot be had here.

use std::fs;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{run, text, tree};

const TERN: &str = "/gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-tern-3.1";
const GREP: &str = "/gnu/store/1m9fffkf9s19ak8zgzgi2z852z6wpzva-knot-2.0-doc";
const LIB: &str = "/gnu/store/2m9fffkf9s19ak8zgzgi2z852z6wpzva-libtide-4.0";
const DEAD: &str = "/gnu/store/3m9fffkf9s19ak8zgzgi2z852z6wpzva-gauge-0.9";
const OLD: &str = "/gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile";
const NEW: &str = "/gnu/store/5m9fffkf9s19ak8zgzgi2z852z6wpzva-profile";
const SYSTEM: &str = "/gnu/store/6m9fffkf9s19ak8zgzgi2z852z6wpzva-system";

fn manifest(version: u32, entries: &[(&str, &str, &str, &str)]) -> String {
    let entry = |(name, version, output, path): &(&str, &str, &str, &str)| {
        format!(
            "(\"{name}\" \"{version}\" \"{output}\" \"{path}\" (propagated-inputs ((\"libtide\" \"4.0\" \"out\" \"{LIB}\"))) (search-paths ()) (properties ()))"
        )
    };
    let entries: Vec<String> = entries.iter().map(entry).collect();
    format!(
        ";; This file was written by a program.\n(manifest (version {version}) (packages ({})))\n",
        entries.join("\n")
    )
}

fn machine() -> TempDir {
    let of_user = "var/guix/profiles/per-user/maren";
    let (old, new) = (
        manifest(3, &[("tern", "3.1", "out", TERN)]),
        manifest(4, &[("tern", "3.1", "out", TERN), ("knot", "2.0", "doc", GREP)]),
    );
    let system = manifest(4, &[("harbour-base", "1.0", "out", LIB)]);
    let links = [OLD, NEW, SYSTEM].map(|target| format!("-> {target}"));
    let at = |path: &str, below: &str| format!("{}{below}", &path[1..]);
    let files: Vec<(String, &[u8])> = vec![
        ("etc/passwd".to_owned(), b"maren:x:1000:1000::/home/maren:/bin/sh\n"),
        (at(TERN, "/bin/tern"), b"#!/bin/sh\n"),
        (at(GREP, "/share/doc/knot"), b"x"),
        (at(LIB, "/lib/libtide.so"), b"x"),
        (at(DEAD, "/bin/gauge"), b"#!/bin/sh\n"),
        (at(OLD, "/manifest"), old.as_bytes()),
        (at(NEW, "/manifest"), new.as_bytes()),
        (at(NEW, "/bin"), b"-> /gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-tern-3.1/bin"),
        (at(SYSTEM, "/profile/manifest"), system.as_bytes()),
        (format!("{of_user}/guix-profile-1-link"), links[0].as_bytes()),
        (format!("{of_user}/guix-profile-2-link"), links[1].as_bytes()),
        (format!("{of_user}/guix-profile"), b"-> guix-profile-2-link"),
        ("var/guix/profiles/system-1-link".to_owned(), links[2].as_bytes()),
        ("var/guix/profiles/system".to_owned(), b"-> system-1-link"),
        ("home/maren/.guix-profile".to_owned(), b"-> /var/guix/profiles/per-user/maren/guix-profile"),
        ("home/maren/.profile".to_owned(), b"PATH=$HOME/.guix-profile/bin:/usr/bin\n"),
        ("var/guix/gcroots/".to_owned(), b""),
        ("var/guix/db/".to_owned(), b""),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    let made = tree(&files);
    let database = rusqlite::Connection::open(made.path().join("var/guix/db/db.sqlite")).unwrap();
    database
        .execute_batch(
            "CREATE TABLE ValidPaths (id integer primary key, path text, hash text, registrationTime integer, deriver text, narSize integer);
             CREATE TABLE Refs (referrer integer, reference integer);
             CREATE TABLE DerivationOutputs (drv integer, id text, path text);",
        )
        .unwrap();
    for (id, path) in (1..).zip([TERN, GREP, LIB, DEAD, OLD, NEW, SYSTEM]) {
        let row = (id, path, 1_767_225_600 + i64::from(id), 1 << 20);
        database.execute("INSERT INTO ValidPaths VALUES (?, ?, 'sha256:00', ?, NULL, ?)", row).unwrap();
    }
    database.execute_batch("INSERT INTO Refs VALUES (1, 3), (5, 1), (6, 1), (6, 2), (7, 3);").unwrap();
    made
}

fn ask(root: &TempDir, arguments: &[&str]) -> Value {
    run([&["--root", root.path().to_str().unwrap(), "--format", "json"], arguments].concat()).document()
}

#[test]
fn profiles_generations_and_the_store_of_guix_are_told() {
    let root = machine();
    let document = ask(&root, &["inventory", "--all"]);
    let packages = document["packages"].as_array().unwrap();
    let mut found: Vec<String> = packages
        .iter()
        .map(|one| format!("{} {} {}", text(&one["id"]), text(&one["version"]), text(&one["reason"])))
        .collect();
    found.sort();
    assert_eq!(
        found,
        [
            "guix/system/harbour-base 1.0 explicit",
            "guix/system/store/3m9fffkf9s19ak8zgzgi2z852z6wpzva-gauge-0.9 0.9 dependency",
            "guix/user:maren/knot 2.0 explicit",
            "guix/user:maren/tern 3.1 explicit",
        ]
    );
    let document = ask(&root, &["--user", "maren", "owner", "tern"]);
    let owner = text(&document["answers"][0]["hops"].as_array().unwrap().last().unwrap()["owner"]);
    assert_eq!(owner, "guix/user:maren/tern", "{document}");
    let document = ask(&root, &["states"]);
    let states: Vec<String> = document["states"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("{} {} {}", text(&one["holder"]), text(&one["number"]), one["current"]))
        .collect();
    let of_user = "/var/guix/profiles/per-user/maren/guix-profile";
    assert_eq!(
        states,
        ["/var/guix/profiles/system 1 true".to_owned(), format!("{of_user} 1 false"), format!("{of_user} 2 true")]
    );
    // No command of Guix was run, so none is printed.
    let document = ask(&root, &["check", "--level", "note"]);
    let dead =
        document["findings"].as_array().unwrap().iter().find(|one| one["kind"] == "unreferenced-store-path").unwrap();
    assert_eq!((&dead["paths"], &dead["remedies"]), (&serde_json::json!([DEAD]), &serde_json::json!([])));
}

#[test]
fn a_manifest_of_guix_that_is_damaged_is_said() {
    let root = machine();
    let file = root.path().join(&NEW[1..]).join("manifest");
    for (content, says) in [
        ("(manifest (version 9) (packages ()))", "its version is none of those that are known"),
        ("(manifest (version 4) (packages ((\"tern\"", "truncated"),
        ("(manifest (version 4) (packages ((\"tern\" \"3.1\"))))", "an entry is incomplete"),
        ("(profile)", "not a manifest"),
    ] {
        fs::write(&file, content).unwrap();
        let document = ask(&root, &["inventory", "--all", "--scope", "user"]);
        let lost = document["coverage"].to_string();
        assert!(lost.contains("-profile/manifest") && lost.contains(says), "{says}: {lost}");
    }
}
