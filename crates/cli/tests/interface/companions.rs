//! What comes with the program: completions, and the manual.

use std::collections::BTreeSet;
use std::fs;
use std::path::PathBuf;
use std::process::Command;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest as _, Sha256};

use super::fleet::{ask, load, snapshots};
use super::screen::Screen;
use super::support::{has, lantern, program, run, tree};

/// The names of the commands, by the help.
fn commands() -> BTreeSet<String> {
    let help = run(["--help"]).out;
    let listed = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
    let named = listed.filter(|line| line.starts_with("  ") && !line.starts_with("   "));
    named.map(|line| line.split_whitespace().next().unwrap().to_owned()).filter(|name| name != "help").collect()
}

/// The directory of the program.
fn programs() -> PathBuf {
    program().parent().unwrap().to_owned()
}

/// What bash completes after these words.
fn completed(words: &str) -> Vec<String> {
    // `complete` has named a function; it is called as bash calls it when the key is pressed.
    let script = format!(
        r#"PATH="{dir}:$PATH"; source <(whodunit completions bash)
        COMP_WORDS=({words} ''); [[ "{words}" == *' ' ]] || unset 'COMP_WORDS[-1]'
        COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1)); COMP_LINE="{words}"; COMP_POINT=${{#COMP_LINE}}; COMP_TYPE=9
        function_of=$(complete -p whodunit | sed 's/.*-F \([^ ]*\).*/\1/'); "$function_of" whodunit; printf '%s\n' "${{COMPREPLY[@]}}""#,
        dir = program().parent().unwrap().display(),
    );
    let output = Command::new("bash").args(["--norc", "-c", &script]).output().unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap().lines().map(|line| line.trim().to_owned()).collect()
}

#[test]
fn bash_completes_commands_options_and_names() {
    if !has(&["bash"]) {
        return;
    }
    for (words, expected) in [
        ("whodunit le", "leftovers"),
        ("whodunit --context l", "login"),
        ("whodunit explain shadowed", "shadowed-command"),
        ("whodunit check --kind masked-m", "masked-module"),
        ("whodunit plan ti", "tidy"),
        ("whodunit inventory --manager fl", "flatpak"),
        ("whodunit owner bas", "bash"),
    ] {
        let found = completed(words);
        assert!(found.iter().any(|one| one == expected), "{words}: {found:?}");
    }
}

/// Words, and one that is offered for the last of them.
const COMPLETED: [(&str, &str); 5] = [
    ("whodunit le", "leftovers"),
    ("whodunit --context log", "login"),
    ("whodunit explain masked-m", "masked-module"),
    ("whodunit plan ti", "tidy"),
    ("whodunit --root {lantern} owner barolo", "barolog"),
];

#[test]
fn fish_completes_what_bash_does() {
    if !has(&["fish"]) {
        return;
    }
    for (words, expected) in COMPLETED {
        let words = words.replace("{lantern}", lantern().to_str().unwrap());
        let script = format!("source (whodunit completions fish | psub); complete -C '{words}'");
        let mut fish = Command::new("fish");
        fish.args(["--no-config", "-c", &script]).env("PATH", format!("{}:/usr/bin:/bin", programs().display()));
        let output = String::from_utf8(fish.output().unwrap().stdout).unwrap();
        let found: Vec<&str> = output.lines().filter_map(|line| line.split('\t').next()).collect();
        assert!(found.contains(&expected), "{words}: {found:?}");
    }
}

/// In these shells completing is a part of the line that is edited: the keys are pressed.
#[test]
fn zsh_and_elvish_complete_what_is_typed() {
    for (shell, options, set_up) in [
        ("zsh", &["-f", "-i"][..], "autoload -U compinit; compinit -D -u; source <(whodunit completions zsh)"),
        ("elvish", &["-norc"], "eval (whodunit completions elvish | slurp)"),
    ] {
        if !has(&[shell]) {
            continue;
        }
        let home = tempfile::tempdir().unwrap();
        let mut command = Command::new(shell);
        command.args(options).env("PATH", format!("{}:/usr/bin:/bin", programs().display()));
        command.env("HOME", home.path()).env("TERM", "xterm-256color").env("LANG", "C.UTF-8");
        let mut screen = Screen::of(&command, 24, 160);
        screen.press(&format!("{set_up}; echo read''y\r"));
        screen.with(&["ready"]);
        for (words, expected) in COMPLETED {
            let words = words.replace("{lantern}", lantern().to_str().unwrap());
            let (before, _) = words.rsplit_once(' ').unwrap();
            screen.press(&format!("{words}\t"));
            screen.with(&[&format!("{before} {expected}")]);
            // The line is emptied.
            screen.press("\u{15}");
            screen.without("whodunit ");
        }
        screen.press("exit\r");
        assert!(screen.child.wait().is_ok());
    }
}

#[test]
fn bash_completes_names_of_a_fleet() {
    if !has(&["bash"]) {
        return;
    }
    let from = snapshots(6, 60);
    let store = from.path().join("harbour.sqlite").to_str().unwrap().to_owned();
    assert_eq!(load(from.path(), &store).status, 0);
    let machines = ask(&store, &["machines"], "json");
    let machines: serde_json::Value = serde_json::from_str(&machines.out).unwrap();
    let machine = machines["machines"][0]["machine"].as_str().unwrap();
    for (words, expected) in [
        (format!("fleet --store {store} drift --reference {}", &machine[..2]), machine),
        (format!("fleet where --store {store} tidel"), "tidelog"),
    ] {
        let found = completed(&format!("whodunit {words}"));
        assert!(found.iter().any(|one| one == expected), "{words}: {found:?}");
    }
    // A store that is not there offers no names, and tells no error in the middle of a line.
    let found = completed("whodunit fleet --store /nonexistent.sqlite where tidel");
    assert!(!found.iter().any(|one| one.starts_with("tidel")), "{found:?}");
}

#[test]
fn a_plan_that_makes_no_sense_is_refused() {
    let demo = lantern().to_str().unwrap();
    for (words, status, says) in [
        (&["tidy", "--older-than", "soon"][..], 2, "takes an age or a date, not soon"),
        (&["remove", "nosuch"], 1, "nosuch: no such package"),
        (&["rollback", "nosuch"], 1, "nosuch: no such package"),
        (&["install", "/nonexistent.toml"], 2, "cannot use the manifest /nonexistent.toml"),
        (&["remove"], 2, "required"),
        (&["move", "swellplot"], 2, "--to"),
        (&["remove", "swellplot", "--manager", "none"], 2, "no such manager"),
    ] {
        let ran = run([&["plan", "--root", demo][..], words].concat());
        assert_eq!((ran.status, ran.err.contains(says)), (status, true), "{words:?}: {ran:?}");
    }
}

#[test]
fn every_shell_has_a_script() {
    for (shell, says) in [
        ("bash", "complete"),
        ("zsh", "compdef"),
        ("fish", "complete"),
        ("elvish", "edit:"),
        ("powershell", "Register-"),
    ] {
        let ran = run(["completions", shell]);
        assert_eq!((ran.status, ran.out.contains(says)), (0, true), "{shell}: {ran:?}");
    }
    assert_eq!(run(["completions", "tcsh"]).status, 2);
}

#[test]
fn every_command_has_a_page_in_the_manual() {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().to_str().unwrap();
    assert_eq!(run(["manual", place]).status, 0);
    let mut pages: BTreeSet<String> =
        fs::read_dir(dir.path()).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!(pages.remove("whodunit.1"), "{pages:?}");
    assert_eq!(pages, commands().iter().map(|name| format!("whodunit-{name}.1")).collect());
    for page in &pages {
        let text = fs::read_to_string(dir.path().join(page)).unwrap();
        for section in ["NAME", "SYNOPSIS", "DESCRIPTION", "OPTIONS", "EXIT STATUS"] {
            let is_there = text.contains(&format!(".SH {section}")) || text.contains(&format!(".SH \"{section}\""));
            assert!(is_there, "{page} has no {section}");
        }
    }
    // What is there is not overwritten.
    let again = run(["manual", place]);
    assert_eq!(again.status, 2, "{again:?}");
    assert!(again.err.contains("exists already"), "{again:?}");
}

/// What stands between two texts of a page, each time.
fn between<'p>(page: &'p str, from: &str, to: &str) -> Vec<&'p str> {
    page.split(from).skip(1).map(|rest| rest.split(to).next().unwrap()).collect()
}

/// A page is whole: it lets nothing in but its own, its links lead somewhere, and each figure has its numbers. The
/// anchors, and the figures.
fn parts_of(page: &str) -> (BTreeSet<&str>, Vec<&str>) {
    // Its own style and script, and nothing else, are let in; nothing is fetched, and no element has a style or a script.
    for element in ["style", "script"] {
        let content = between(page, &format!("<{element}>"), &format!("</{element}>"));
        assert_eq!(content.len(), 1, "{element}");
        let digest = STANDARD.encode(Sha256::digest(content[0]));
        assert!(page.contains(&format!("{element}-src 'sha256-{digest}'")), "{element}");
    }
    for outside in [" src=", "url(", "@import", " style=", " onclick=", "<link", "<iframe", "<img"] {
        assert!(!page.contains(outside), "{outside}");
    }
    let links = between(page, " href=\"", "\"");
    assert!(links.iter().all(|link| link.starts_with('#')), "{links:?}");

    // Every link leads somewhere.
    let anchors: BTreeSet<&str> = between(page, " id=\"", "\"").into_iter().collect();
    assert!(links.iter().all(|link| anchors.contains(&link[1..])), "{links:?}");
    // Each figure has its numbers as a table; what it shows is said in words.
    let figures = between(page, "<figure id=\"", "\"");
    assert_eq!(page.matches("<svg").count(), figures.len());
    assert!(figures.iter().all(|figure| anchors.contains(format!("{figure}-table").as_str())), "{anchors:?}");
    assert_eq!(page.matches("role=\"img\" aria-label=\"").count(), figures.len());
    (anchors, figures)
}

#[test]
fn the_report_is_one_page_that_asks_nobody() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("lantern.html");
    let demo = lantern().to_str().unwrap();
    let written = run(["report", "--root", demo, file.to_str().unwrap()]);
    assert_eq!((written.status, written.out.as_str()), (0, ""), "{written:?}");
    let page = fs::read_to_string(&file).unwrap();
    assert_eq!(run(["report", "--root", demo, file.to_str().unwrap()]).status, 2, "what is there is not overwritten");

    let (anchors, figures) = parts_of(&page);
    for part in [
        "verdict",
        "machine",
        "figures",
        "findings",
        "inventory",
        "launchers",
        "paths",
        "unowned",
        "sources",
        "coverage",
    ] {
        assert!(anchors.contains(part), "{part}");
    }
    assert_eq!(figures, ["bytes", "winners", "versions", "changes", "ages", "needed", "holds-up"]);

    // It says what `check` says, and lists what is installed.
    let verdict = run(["check", "--root", demo, "--level", "note"]).out.lines().next().unwrap().to_owned();
    assert!(page.contains(&verdict), "{verdict}");
    let inventory = run(["inventory", "--all", "--root", demo, "--format", "json"]).document();
    let installed = inventory["packages"].as_array().unwrap();
    let names =
        installed.iter().filter(|one| one["status"] != "config-remains").map(|one| one["name"].as_str().unwrap());
    let cells: BTreeSet<&str> = between(&page, "<td>", "</td>").into_iter().collect();
    assert_eq!(names.filter(|name| !cells.contains(name)).collect::<Vec<_>>(), [""; 0]);
}

#[test]
fn the_report_of_what_was_kept() {
    let dir = tempfile::tempdir().unwrap();
    let before = dir.path().join("before.json.zst");
    let (before, demo) = (before.to_str().unwrap(), lantern().to_str().unwrap());
    assert_eq!(run(["snapshot", "save", before, "--root", demo]).status, 0);

    // The machine as it was: everything that was installed, without a look for what is wrong.
    let page = run(["report", "--from", before]);
    let (anchors, figures) = parts_of(&page.out);
    assert_eq!((page.status, figures), (0, vec!["bytes", "changes"]), "{}", page.err);
    assert!(anchors.contains("names") && anchors.contains("services") && !anchors.contains("findings"), "{anchors:?}");
    let inventory = run(["inventory", "--all", "--root", demo, "--format", "json"]).document();
    let cells: BTreeSet<&str> = between(&page.out, "<td>", "</td>").into_iter().collect();
    for one in inventory["packages"].as_array().unwrap().iter().filter(|one| one["status"] != "config-remains") {
        assert!(cells.contains(one["name"].as_str().unwrap()), "{one}");
    }

    // What differs: every change that `compare` tells, and the strangers' names as text.
    let other = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n"),
        ("usr/local/bin/<b>bold", b"\x7fELF"),
    ]);
    let other = other.path().to_str().unwrap();
    let page = run(["report", "--compare", before, other]);
    let (anchors, figures) = parts_of(&page.out);
    assert_eq!((page.status, figures), (0, vec!["kinds", "managers"]), "{}", page.err);
    let changes = run(["compare", before, other, "--format", "json"]).document();
    let changes = changes["changes"].as_array().unwrap();
    assert!(changes.len() > 50 && page.out.contains(&format!("{} changes", changes.len())));
    assert!(anchors.contains("package") && page.out.contains("&#60;b&#62;bold") && !page.out.contains("<b>"));
    let same = run(["report", "--compare", before, before]);
    assert!(same.out.contains("Nothing differs between"), "{}", same.err);

    for (words, status, says) in [
        (&["report", "--from", "/no/such.zst"][..], 1, "no snapshot"),
        (&["report", "--from", demo, "--compare", before, before], 2, "cannot be used with"),
        (&["report", "--compare", before], 2, "2 values required"),
    ] {
        let ran = run(words);
        assert!(ran.status == status && ran.err.contains(says), "{words:?}: {ran:?}");
    }
}
