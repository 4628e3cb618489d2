//! The evaluator against the shells themselves: single idioms, and scripts that are put together from what users write.

#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "makes files, and runs the shells that judge")]

mod basics;
mod corners;
mod corpus;
mod grammar;
mod machine;
mod rows;

use std::fmt::Write as _;
use std::process::{Command, Stdio};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use grammar::Grammar;
use machine::{Found, GAUGES, Machine, silently_wrong};

const SHELLS: [&str; 4] = ["sh", "bash", "zsh", "fish"];

/// How many scripts one process of a shell follows.
const TOGETHER: u64 = 64;

/// Whether a shell is here to judge. Where the judges are required, its absence is a failure.
fn is_here(shell: &str) -> bool {
    let program = if shell == "sh" { "dash" } else { shell };
    // An old fish does not know this option, and cannot judge.
    let options: &[&str] = if shell == "fish" { &["--no-config", "-c", "true"] } else { &["-c", "true"] };
    let run = Command::new(program).args(options).stdout(Stdio::null()).stderr(Stdio::null()).status();
    let is_here = run.is_ok_and(|status| status.success());
    let required = std::env::var("WHODUNIT_REAL_MANAGERS").is_ok_and(|value| value == "required");
    assert!(is_here || !required, "required, but not here: {program}");
    if !is_here {
        eprintln!("not compared with {program}, which is not on this machine, or too old");
    }
    is_here
}

/// What the evaluator makes of each row is as recorded; and where the shells are here, it is what they make of it.
#[test]
fn every_row_is_what_the_shell_does() {
    let machine = Machine::new(&format!("shell-rows-{}", std::process::id()));
    let (mut answers, mut wrong) = (String::new(), Vec::new());
    for (shells, script) in rows::ROWS {
        for shell in shells.split(' ') {
            let (ours, unknowns) = machine.ours(shell, script);
            wrong.extend(difference(&machine, shell, script, &ours));
            let shown = |value: &Option<String>| value.clone().unwrap_or_else(|| format!("? {}", unknowns.join("; ")));
            writeln!(answers, "{shell}: {script:?}\n    {}", machine.shown(&told(&ours, shown))).unwrap();
        }
    }
    assert!(wrong.is_empty(), "{}", machine.shown(&wrong.join("\n")));
    insta::assert_snapshot!("rows", answers);
}

/// What every start-up file does, what is done with uncertain values, and what builtins print and how they end.
#[test]
fn corners_are_never_wrong_in_silence() {
    let machine = Machine::new(&format!("shell-corners-{}", std::process::id()));
    let (mut answers, mut wrong) = (String::new(), Vec::new());
    let behind = |shells: &str, script: &str| format!("{}\n{script}", corners::UNKNOWN[usize::from(shells != "fish")]);
    let uncertain = corners::BEHIND_UNKNOWN.iter().map(|(shells, script)| (shells, script, behind(shells, script)));
    let others = basics::BASICS.iter().chain(corners::BUILTINS);
    let others = others.map(|(shells, script)| (shells, script, (*script).to_owned()));
    for (shells, shown, script) in uncertain.chain(others) {
        let mut alike: Vec<(String, Vec<&str>)> = Vec::new();
        for shell in shells.split(' ') {
            let (ours, _) = machine.ours(shell, &script);
            wrong.extend(difference(&machine, shell, &script, &ours));
            let answer = told(&ours, |value| value.clone().unwrap_or_else(|| "?".to_owned()));
            match alike.iter_mut().find(|(known, _)| *known == answer) {
                Some((_, shells)) => shells.push(shell),
                None => alike.push((answer, vec![shell])),
            }
        }
        writeln!(answers, "{shown:?}").unwrap();
        for (answer, shells) in alike {
            writeln!(answers, "    {}: {}", shells.join(" "), machine.shown(&answer)).unwrap();
        }
    }
    assert!(wrong.is_empty(), "{}", machine.shown(&wrong.join("\n")));
    insta::assert_snapshot!("corners", answers);
}

/// Scripts by hand for each shell, and for all but fish: a line of `====` stands between two.
const LISTS: [(&str, &str); 5] = [
    ("bash", include_str!("scripts/bash.txt")),
    ("zsh", include_str!("scripts/zsh.txt")),
    ("sh", include_str!("scripts/sh.txt")),
    ("fish", include_str!("scripts/fish.txt")),
    ("bash zsh sh", include_str!("scripts/shells.txt")),
];

/// What is written by hand to find what is not followed is uncertain at worst, and mostly certain.
#[test]
fn scripts_by_hand_are_never_wrong_in_silence() {
    let lists: Vec<_> = [false, true].into_iter().flat_map(|mode| LISTS.map(|list| (mode, list))).collect();
    let next = AtomicUsize::new(0);
    // Each has a home of its own; nearly all of the time goes into starting shells.
    let judge = || {
        let mut wrong = Vec::new();
        while let number = next.fetch_add(1, Ordering::Relaxed)
            && let Some((is_interactive, (shells, list))) = lists.get(number)
        {
            let machine = Machine::new(&format!("shell-lists-{number}-{}", std::process::id()));
            wrong.extend(wrong_in_list(&machine.interactive(*is_interactive), *is_interactive, shells, list));
        }
        wrong
    };
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let judges = [scope.spawn(judge), scope.spawn(judge)];
        judges.into_iter().flat_map(|judge| judge.join().unwrap()).collect()
    });
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Where the shells say something else of the scripts of a list.
fn wrong_in_list(machine: &Machine, is_interactive: bool, shells: &str, list: &str) -> Vec<String> {
    let (mut wrong, mut count, mut certain) = (Vec::new(), 0, 0);
    // There is no terminal here.
    let needs_one = |script: &str| ["-t ", "set -m", "monitor"].iter().any(|sign| script.contains(sign));
    for script in list.trim_end().split("\n====\n").filter(|script| !is_interactive || !needs_one(script)) {
        for shell in shells.split(' ') {
            let (ours, _) = machine.ours(shell, script);
            wrong.extend(difference(machine, shell, script, &ours).map(|text| machine.shown(&text)));
            count += 1;
            certain += usize::from(ours.iter().flatten().all(|(_, value)| value.is_some()));
        }
    }
    assert!(certain * 2 > count, "{shells}: {certain} of {count} are certain");
    wrong
}

/// The variables that are set, with their values.
fn told(found: &Found, shown: impl Fn(&Option<String>) -> String) -> String {
    let is_set = |(name, value): &(&&str, &Option<String>)| **name == "PATH" || value.as_deref() != Some("unset");
    let one = |(name, value): (&&str, &Option<String>)| format!("{name}={}", shown(value));
    found.iter().flatten().filter(is_set).map(one).collect::<Vec<_>>().join(" ")
}

/// Where the shell, if it is here, says something else, whatever the program of the home does.
fn difference(machine: &Machine, shell: &str, script: &str, ours: &Found) -> Option<String> {
    static HERE: LazyLock<Vec<&str>> = LazyLock::new(|| SHELLS.into_iter().filter(|shell| is_here(shell)).collect());
    let kinds = if script.contains("gauge") { 0..GAUGES } else { 0..1 };
    let of_kind = |kind: usize| {
        machine.make_gauge(kind as u64);
        let differences = silently_wrong(ours, &machine.theirs(shell, script));
        (!differences.is_empty()).then(|| format!("{shell}: {script}\n{}", differences.join("; ")))
    };
    let found = HERE.contains(&shell).then(|| kinds.into_iter().find_map(of_kind)).flatten();
    machine.make_gauge(0);
    found
}

/// Scripts put together at random, the same in every run. `WHODUNIT_SCRIPTS` and `WHODUNIT_SEED` make them more, and
/// others; with `WHODUNIT_NESTED`, statements stand within an `eval`, and scripts begin with one that leaves nothing
/// certain, which leads into more corners.
#[test]
fn scripts_put_together_are_never_wrong_in_silence() {
    let number = |name: &str, default| std::env::var(name).map_or(default, |text| text.parse().unwrap());
    let (count, seed) = (number("WHODUNIT_SCRIPTS", 300), number("WHODUNIT_SEED", 0));
    let only = std::env::var("WHODUNIT_SHELL").unwrap_or_default();
    let nests = std::env::var_os("WHODUNIT_NESTED").is_some();
    let mut all_wrong = Vec::new();
    for shell in SHELLS.into_iter().filter(|shell| (only.is_empty() || only == *shell) && is_here(shell)) {
        let next = AtomicU64::new(seed);
        let certain = AtomicU64::new(0);
        let work = |worker: u32| {
            let machine = Machine::new(&format!("shell-scripts-{}-{worker}", std::process::id()))
                .interactive(std::env::var_os("WHODUNIT_INTERACTIVE").is_some());
            let mut wrong = Vec::new();
            while wrong.len() < 4 {
                let first = next.fetch_add(TOGETHER, Ordering::Relaxed);
                let numbers = first..(first + TOGETHER).min(seed + count);
                if numbers.is_empty() {
                    break;
                }
                machine.make_gauge(first / TOGETHER);
                let lines = |number| Grammar::new(shell, number, nests).script();
                let scripts: Vec<String> = numbers.clone().map(|number| lines(number).join("\n")).collect();
                for ((number, script), theirs) in numbers.zip(&scripts).zip(machine.theirs_of_each(shell, &scripts)) {
                    let ours = machine.ours(shell, script).0;
                    let is_certain = ours.iter().flatten().all(|(_, value)| value.is_some());
                    certain.fetch_add(u64::from(is_certain), Ordering::Relaxed);
                    // A shell of its own has the last word.
                    let is_wrong = |theirs: &Found| !silently_wrong(&ours, theirs).is_empty();
                    if is_wrong(&theirs) && is_wrong(&machine.theirs(shell, script)) {
                        wrong.push(format!("{shell} {number}:\n{}", shortened(&machine, shell, lines(number))));
                    }
                }
            }
            wrong
        };
        let wrong: Vec<String> = std::thread::scope(|scope| {
            let workers: Vec<_> = (0..2).map(|worker| scope.spawn(move || work(worker))).collect();
            workers.into_iter().flat_map(|worker| worker.join().unwrap()).collect()
        });
        println!("{shell}: {count} scripts, {} certain, {} wrong", certain.into_inner(), wrong.len());
        all_wrong.extend(wrong);
    }
    assert!(all_wrong.is_empty(), "{}", all_wrong.join("\n\n"));
}

/// The lines without which the difference is gone, and the difference.
fn shortened(machine: &Machine, shell: &str, mut lines: Vec<String>) -> String {
    let differs = |lines: &[String]| {
        let script = lines.join("\n");
        silently_wrong(&machine.ours(shell, &script).0, &machine.theirs(shell, &script))
    };
    let mut at = 0;
    while at < lines.len() {
        let mut fewer = lines.clone();
        fewer.remove(at);
        if differs(&fewer).is_empty() { at += 1 } else { lines = fewer }
    }
    machine.shown(&format!("{}\n--> {}", lines.join("\n"), differs(&lines).join("; ")))
}
