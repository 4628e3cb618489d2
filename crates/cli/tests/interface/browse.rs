//! The full-screen view, driven by keys in a pseudo-terminal; and the same walk line by line.

use std::process::{Command, Stdio};
use std::time::Duration;

use base64::Engine as _;

use super::screen::Screen;
use super::support::{as_input, finish, lantern, program};

/// The full-screen view on a screen of this size.
fn browsing(lines: u16, columns: u16, colors: bool) -> Screen {
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).arg("browse").env("PATH", "/usr/bin:/bin").env("TERM", "xterm-256color");
    if !colors {
        command.env("NO_COLOR", "1");
    }
    Screen::of(&command, lines, columns)
}

#[test]
fn a_walk_from_a_name_to_its_files_and_back_on_a_small_screen_without_colour() {
    let mut screen = browsing(24, 80, false);
    let mut seen = vec![screen.with(&["55 packages in 15 installations", "leads to 15"])];
    screen.press("3");
    screen.with(&["34 names"]);
    screen.press("/BERTH");
    seen.push(screen.with(&["1 of 34", "berthplan"]));
    // The list, then where the answer leads, then to its package, its files, one of them, and back.
    screen.press("\r\r");
    screen.press("\r");
    seen.push(screen.with(&["its files"]));
    screen.press("\r");
    screen.with(&["files of"]);
    screen.press("\r");
    screen.with(&["evidence"]);
    screen.press("\x1b");
    std::thread::sleep(Duration::from_millis(200));
    screen.with(&["files of"]);
    screen.press("?");
    seen.push(screen.with(&["this help"]));
    screen.press("?");
    screen.press("2");
    seen.push(screen.with(&["causes", "writable-directory"]));
    screen.press("y");
    seen.push(screen.with(&["copied: sudo chmod o-w -- /opt/harbour/bin"]));
    let copied = base64::engine::general_purpose::STANDARD.encode("sudo chmod o-w -- /opt/harbour/bin");
    let written = screen.written();
    assert!(written.contains(&format!("\x1b]52;c;{copied}\x07")), "the terminal is given the command");
    assert!(!written.contains("38;5;"), "NO_COLOR is respected");
    let lines: Vec<&str> = seen.iter().flat_map(|one| one.lines().chain(["--------"])).map(str::trim_end).collect();
    insta::assert_snapshot!("walk", lines.join("\n"));
    screen.leave("q");
}

#[test]
fn every_question_is_shown_at_any_size_and_by_the_mouse() {
    let mut screen = browsing(50, 160, true);
    for (number, title) in [
        (2, "31 causes"),
        (3, "34 names"),
        (4, "packages"),
        (5, "launchers"),
        (6, "contexts"),
        (7, "sources"),
        (8, "events"),
    ] {
        // By the mouse: the questions are the first lines.
        screen.press(&format!("\x1b[<0;3;{number}M\x1b[<0;3;{number}m"));
        screen.with(&[title]);
        // Every line of the list has an answer.
        screen.press("\x1b[F");
        screen.with(&[title]);
        screen.press("\x1b[<65;100;10M\x1b[<64;100;10M");
    }
    for (lines, columns) in [(24, 80), (10, 40), (3, 10), (1, 1), (24, 80)] {
        screen.resize(lines, columns);
        std::thread::sleep(Duration::from_millis(150));
        screen.press("\t\x1b[B ");
    }
    screen.with(&["8 time"]);
    let written = screen.written();
    assert!(written.contains("38;5;166"), "warnings have their colour");
    screen.leave("\x03");
}

#[test]
fn line_by_line_it_is_the_same_walk() {
    let walk =
        "help\nfindings\nfind swell\n1\n1\nback\nnames\nfind tidegauge\n1\nmore\n99\nfrobnicate\n\npaths\n2\nquit\n";
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).args(["browse", "--plain"]).stdin(as_input(walk));
    let ran = finish(&mut command);
    insta::assert_snapshot!("walk_in_lines", ran.out);
    // Without an end it ends with the input; and the screen wants a terminal.
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).args(["browse", "--plain"]).stdin(as_input("time\n"));
    assert_eq!(finish(&mut command).status, 0);
    let mut command = Command::new(program());
    command.arg("--root").arg(lantern()).arg("browse").stdin(Stdio::null());
    let ran = finish(&mut command);
    assert_eq!((ran.status, &*ran.err), (2, "whodunit: browse needs a terminal (browse --plain does not)\n"));
}
