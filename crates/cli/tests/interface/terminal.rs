//! What is special on a terminal: long answers go through the user's pager.

use std::io::Read as _;
use std::process::{Command, Stdio};

use super::support::{lantern, program, pseudo_terminal, tree};

/// What the program writes on a terminal of 80 columns and 12 lines.
fn on_terminal(arguments: &[&str], variables: &[(&str, &str)]) -> String {
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).args(arguments).env_clear().env("PATH", "/usr/bin:/bin");
    command.envs(variables.iter().copied()).stderr(Stdio::null());
    shown_by(command, |command, side| {
        command.stdout(side);
    })
}

/// What a command writes on a terminal that is connected to one of its outputs.
fn shown_by(mut command: Command, connect: impl FnOnce(&mut Command, std::fs::File)) -> String {
    let (mut main, side) = pseudo_terminal(12, 80);
    connect(&mut command, side);
    let mut child = command.spawn().unwrap();
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
        let pager_is: Vec<(&str, &str)> = pager.map(|pager| ("PAGER", pager)).into_iter().collect();
        let shown = on_terminal(arguments, &pager_is);
        assert_eq!(shown.starts_with("paged\n"), is_paged, "{arguments:?} {pager:?}: {shown}");
        assert!(shown.contains("lampwick"), "{arguments:?} {pager:?}: {shown}");
    }
}

#[test]
fn addresses_are_links_where_the_terminal_has_them_and_the_pager_gets_none() {
    const LINK: &str = "\u{1b}]8;;https://packages.breakwater.example/breakwater\u{1b}\\https://packages.breakwater.example/breakwater\u{1b}]8;;\u{1b}\\";
    let (yes, terminal) = (("FORCE_HYPERLINK", "1"), ("TERM", "xterm-256color"));
    let sources = &["sources", "Breakwater", "--no-pager"][..];
    for (arguments, variables, has_links) in [
        (sources, &[yes, terminal][..], true),
        (sources, &[("VTE_VERSION", "7000"), terminal], true),
        (sources, &[terminal], false),
        (sources, &[yes, ("TERM", "dumb")], false),
        (sources, &[yes, terminal, ("NO_COLOR", "1")], false),
        (&sources[..2], &[yes, terminal, ("PAGER", "cat -")], false),
    ] {
        let shown = on_terminal(arguments, variables);
        assert!(shown.contains("https://packages.breakwater.example/breakwater"), "{variables:?}: {shown}");
        assert_eq!(shown.contains(LINK), has_links, "{variables:?}: {shown}");
        // The files of a mounted tree are not those of this machine.
        assert!(!shown.contains("]8;;file:"), "{variables:?}: {shown}");
    }
}

#[test]
fn what_is_measured_is_counted_meanwhile_where_a_user_can_see_it() {
    let names: Vec<String> = (0..2_000).map(|number| format!("home/maren/.zvm/0.13.0/lib/{number}")).collect();
    let mut files: Vec<(&str, &[u8])> = names.iter().map(|name| (name.as_str(), &b"x"[..])).collect();
    files.extend([
        ("etc/passwd", &b"maren:x:1000:1000::/home/maren:/bin/sh\n"[..]),
        ("home/maren/.zvm/0.13.0/zig", &b"x"[..]),
    ]);
    let made = tree(&files);
    for (more, is_shown) in [(&[][..], true), (&["--quiet"], false)] {
        let mut command = Command::new(program());
        command.arg("--root").arg(made.path()).arg("space").args(more).env_clear().env("TERM", "xterm");
        let shown = shown_by(command, |command, side| {
            command.stdout(Stdio::null()).stderr(side);
        });
        assert_eq!(shown.contains(" file"), is_shown, "{more:?}: {shown}");
    }
}
