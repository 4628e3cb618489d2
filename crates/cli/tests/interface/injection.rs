//! Names and versions are strangers': in no format do they become something else than text.

use std::process::Command;

use super::support::{run, tree};

/// Steers a terminal, hides, turns text around, is a formula, a tag, a link and a command.
const ODD: &str = "=1+1\u{9b}31m\u{202e}\u{7f}\u{61c}\u{200b}\u{e0041}<b>[x](y)|z";

#[test]
fn strangers_texts_are_texts_in_every_format() {
    let status = format!(
        "Package: tidegauge\nStatus: install ok installed\nVersion: {ODD}\nArchitecture: all\nMaintainer: x\n\n\
         Package: x;reboot\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\n\n\
         Package: -oops\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\n"
    );
    let list = format!("/.\n/usr\n/usr/bin\n/usr/bin/{}\n", ODD.replace('/', "_"));
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"),
        ("var/lib/dpkg/status", status.as_bytes()),
        ("var/lib/dpkg/info/tidegauge.list", list.as_bytes()),
        ("var/lib/dpkg/info/x;reboot.list", b"/.\n/usr\n/usr/gone\n"),
        ("var/lib/dpkg/info/-oops.list", b"/.\n/usr\n/usr/gone-too\n"),
    ]);
    let root = made.path().to_str().unwrap();
    for format in ["table", "json", "sarif", "csv", "markdown", "lines"] {
        for command in
            [&["check", "--level", "note"][..], &["verify"], &["inventory", "--all"], &["plan", "remove", "tidegauge"]]
        {
            if format == "sarif" && matches!(command[0], "inventory" | "plan") {
                continue;
            }
            let ran = run([command, &["--root", root, "--format", format]].concat());
            assert!(ran.out.contains("tidegauge"), "{format} {command:?}: {ran:?}");
            for text in [&ran.out, &ran.err] {
                let steers =
                    |c: char| (c.is_control() && c != '\n') || ODD.chars().any(|odd| odd == c && !c.is_ascii());
                let found: Vec<char> = text.chars().filter(|c| steers(*c)).collect();
                assert!(found.is_empty(), "{format} {command:?}: {found:?} in {text}");
            }
            let cells = |line: &str| line.starts_with(['=', '-']) || line.contains(",=") || line.contains(",-oops");
            assert!(format != "csv" || !ran.out.lines().any(cells), "{command:?}: {}", ran.out);
            let is_markup = ran.out.contains("<b>") || ran.out.replace("\\[", "").contains('[');
            assert!(format != "markdown" || !is_markup, "{command:?}: {}", ran.out);
            // What would be taken for another command, or for an option, is quoted or not advised at all.
            assert!(!ran.out.contains("x;reboot\n") || format != "json", "{}", ran.out);
            let advised: Vec<&str> = ran.out.lines().filter(|line| line.contains("sudo ")).collect();
            assert!(!advised.iter().any(|line| line.contains(" x;reboot") || line.contains(" -oops")), "{advised:?}");
        }
    }
}

#[test]
fn a_plan_is_a_script_that_runs_its_own_commands_only() {
    // What a shell would do with it wherever it stood outside of quotes: make a file.
    let home = "home/a$(>pwned)`>pwned`'\" >pwned; >pwned #";
    let record = serde_json::json!({ "installs": { "shoal 1.0.0 (registry+https://github.com/rust-lang/crates.io-index)":
        { "version_req": null, "bins": ["shoal"], "features": [], "all_features": false, "no_default_features": false,
          "profile": "release", "target": "x", "rustc": "x" } } });
    let (records, settings) = (format!("{home}/.cargo/.crates2.json"), format!("{home}/.config/shoal/own"));
    let made = tree(&[
        ("etc/passwd", format!("root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/{home}:/bin/sh\n").as_bytes()),
        (&records, record.to_string().as_bytes()),
        (&format!("{home}/.cargo/bin/shoal"), b"#!/bin/sh\n"),
        (&settings, b"x"),
    ]);
    let root = made.path().to_str().unwrap();
    let script = run(["plan", "remove", "shoal", "--with-data", "--root", root]);
    assert_eq!(script.status, 0, "{script:?}");
    assert!(script.out.contains("cargo uninstall") && script.out.contains("rm -r --"), "{script:?}");
    let dir = tempfile::tempdir().unwrap();
    for arguments in [&["-n", "-c"][..], &["-c"]] {
        let ran = Command::new("sh").args(arguments).arg(&script.out).current_dir(&dir).output().unwrap();
        // Nothing of it is on this machine: it stops, and has run nothing.
        assert_eq!(ran.status.success(), arguments.len() == 2, "{ran:?}\n{}", script.out);
    }
    assert!(!dir.path().join("pwned").exists(), "{}", script.out);
    let page = run(["report", "--root", root]);
    assert!(page.out.contains("Content-Security-Policy") && !page.out.contains("<img"), "{}", page.err);
}
