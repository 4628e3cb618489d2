//! What is special on a terminal: long answers go through the user's pager.

use std::io::Read as _;
use std::process::Command;

use super::support::{lantern, program, pseudo_terminal};

/// What the program writes on a terminal of 80 columns and 12 lines.
fn on_terminal(arguments: &[&str], pager: Option<&str>) -> String {
    let (mut main, side) = pseudo_terminal(12, 80);
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).args(arguments).env_clear().env("PATH", "/usr/bin:/bin");
    command.envs(pager.map(|pager| ("PAGER", pager)));
    let mut child = command.stdout(side).stderr(std::process::Stdio::null()).spawn().unwrap();
    // The command keeps the terminal's side open in this process.
    drop(command);
    let mut shown = Vec::new();
    let mut part = [0; 4096];
    // The end of a terminal is an error on this system.
    while let Ok(length @ 1..) = main.read(&mut part) {
        shown.extend_from_slice(&part[..length]);
    }
    child.wait().unwrap();
    String::from_utf8(shown).unwrap().replace("\r\n", "\n")
}

#[test]
fn a_long_answer_goes_through_the_pager_and_a_short_one_does_not() {
    let through = Some("echo paged; cat");
    for (arguments, pager, is_paged) in [
        (&["check"][..], through, true),
        (&["check", "--no-pager"], through, false),
        // What fits is shown at once.
        (&["owner", "lampwick", "--context", "login"], through, false),
        // Without a pager, and where it does not start, everything is written all the same.
        (&["check"], Some(""), false),
        (&["check"], Some("no-such-pager"), false),
        (&["check", "--format", "json"], through, false),
    ] {
        let shown = on_terminal(arguments, pager);
        assert_eq!(shown.starts_with("paged\n"), is_paged, "{arguments:?} {pager:?}: {shown}");
        assert!(shown.contains("lampwick"), "{arguments:?} {pager:?}: {shown}");
    }
}
