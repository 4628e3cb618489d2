//! Where an unowned program's version is read, and how sure the answer is.

use super::support::{run, tree};
use whodunit_demo::program_with_data;

#[test]
fn a_version_is_read_without_running_the_program() {
    let silent = program_with_data(b"usage: %s\0");
    let speaking = program_with_data(b"usage: %s\0tidegauge 3.2.1 (harbour)\0");
    let torn = &speaking[..speaking.len() / 2];
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n"),
        ("var/lib/dpkg/status", b"Package: base\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n"),
        ("var/lib/dpkg/info/base.list", b"/.\n"),
        // Installed beside it.
        ("usr/local/bin/barolog", &silent),
        ("usr/local/lib64/pkgconfig/barolog.pc", b"Name: barolog\nVersion: 2.1.0\n"),
        ("usr/local/bin/lampwick", &silent),
        ("usr/local/lib/cmake/Lampwick/LampwickConfigVersion.cmake", b"set(PACKAGE_VERSION \"4.0.3\")\n"),
        ("usr/local/bin/pegel", b"#!/usr/bin/python3\nimport pegel\n"),
        ("usr/local/lib/python3.11/site-packages/pegel-1.4.dist-info/METADATA", b"Version: 1.4\n"),
        ("usr/local/bin/shoal", &silent),
        ("usr/local/share/doc/shoal-0.7.2/README", b""),
        // Two of them: which is its own is unknown.
        ("usr/local/bin/seal", &silent),
        ("usr/local/share/doc/seal-1.0/README", b""),
        ("usr/local/share/seal-1.1/README", b""),
        // A script's own.
        ("usr/local/bin/moor", b"#!/bin/sh\nVERSION=0.3.1\n"),
        // In its own data.
        ("usr/local/bin/tidegauge", &speaking),
        ("usr/local/bin/tidetorn", torn),
        // In the tree that it was built in, and in a tree that is not its own.
        ("home/maren/src/wave/Cargo.toml", b"[package]\nname = \"wave\"\nversion = \"5.0.0\"\n"),
        ("home/maren/src/wave/target/release/wave", &silent),
        ("home/maren/package.json", b"{\"version\": \"9.9.9\"}"),
        ("home/maren/bin/drift", &silent),
        // In what an unpacked application says of itself.
        ("opt/ide/bin/ide", &silent),
        ("opt/ide/product-info.json", b"{\"name\": \"Harbour IDE\", \"version\": \"2026.1\"}"),
        ("opt/sea/bin/sea", &silent),
        ("opt/sea/bin/resources/app/package.json", b"{\"version\": \"3.9.0\"}"),
        ("opt/runtime/bin/java", &silent),
        ("opt/runtime/release", b"JAVA_VERSION=\"17.0.9\"\n"),
        ("opt/release", b"JAVA_VERSION=\"1.1\"\n"),
        ("opt/bin/other", &silent),
        // In the archive that it came in.
        ("home/maren/Downloads/Ebb-1.2.tar.xz", b""),
        ("home/maren/bin/ebb", &silent),
        // A directory of the version in one of the name.
        ("srv/skiff/1.2.0/bin/skiff", &silent),
    ]);
    use std::os::unix::fs::PermissionsExt as _;
    let built = made.path().join("home/maren/src/wave/target/release/wave");
    std::fs::set_permissions(built, std::fs::Permissions::from_mode(0o755)).unwrap();
    let root = made.path().to_str().unwrap();
    for (path, version, at, is_probable) in [
        ("/usr/local/bin/barolog", Some("2.1.0"), "line 2", false),
        ("/usr/local/bin/lampwick", Some("4.0.3"), "line 1", false),
        ("/usr/local/bin/pegel", Some("1.4"), "its name", false),
        ("/usr/local/bin/shoal", Some("0.7.2"), "its name", false),
        ("/usr/local/bin/seal", None, "", false),
        ("/usr/local/bin/moor", Some("0.3.1"), "line 2", false),
        ("/usr/local/bin/tidegauge", Some("3.2.1"), "offset 74", true),
        ("/usr/local/bin/tidetorn", None, "", false),
        ("/home/maren/src/wave/target/release/wave", Some("5.0.0"), "line 3", true),
        ("/home/maren/bin/drift", None, "", false),
        ("/home/maren/bin/ebb", Some("1.2"), "its name", true),
        ("/opt/ide/bin/ide", Some("2026.1"), "line 1", false),
        ("/opt/sea/bin/sea", Some("3.9.0"), "line 1", false),
        ("/opt/runtime/bin/java", Some("17.0.9"), "line 1", false),
        ("/opt/bin/other", None, "", false),
    ] {
        let document = run(["--root", root, "owner", path, "--format", "json"]).document();
        let answer = &document["answers"][0];
        assert_eq!(answer["version_hint"].as_str(), version, "{path}");
        assert_eq!(answer["version_is_probable"] == true, is_probable, "{path}");
        let evidence = answer["evidence"].as_array().unwrap();
        assert_eq!(evidence.iter().any(|one| one["at"] == at), version.is_some(), "{path}: {evidence:?}");
        let page = run(["--root", root, "owner", path]).out;
        assert_eq!(page.lines().next().unwrap().contains("its version is probably"), is_probable, "{path}: {page}");
    }
    let page = run(["--root", root, "unowned"]).out;
    assert!(page.contains("tidegauge probably 3.2.1"), "{page}");
    assert!(page.contains("/usr/local/bin/tidegauge offset 74: probably tidegauge 3.2.1"), "{page}");
    let page = run(["--root", root, "unowned", "/srv/skiff/1.2.0/bin"]).out;
    assert!(page.contains("skiff 1.2.0   probably an archive unpacked into /srv/skiff/1.2.0"), "{page}");
}
