//! Names and versions are strangers': in no format do they become something else than text.

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
        for command in [&["check", "--level", "note"][..], &["verify"], &["inventory", "--all"]] {
            if format == "sarif" && command[0] == "inventory" {
                continue;
            }
            let ran = run([command, &["--root", root, "--format", format]].concat());
            assert!(ran.out.contains("tidegauge"), "{format} {command:?}: {ran:?}");
            for text in [&ran.out, &ran.err] {
                let steers =
                    |c: char| (c.is_control() && c != '\n') || ODD.chars().any(|odd| odd == c && !c.is_ascii());
                let found: Vec<char> = text.chars().filter(|c| steers(*c)).collect();
                assert_eq!(found, [], "{format} {command:?}: {text}");
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
