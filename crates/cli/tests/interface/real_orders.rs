//! Orderings of the distributions' managers, against their own comparison.

use std::cmp::Ordering;
use std::process::Command;

use whodunit_core::version::{gentoo, pacman, rpm};

use super::real_python::pairs_of;
use super::support::{as_input, generated_pairs, has, output};

fn sign(order: Ordering) -> &'static str {
    match order {
        Ordering::Less => "-1",
        Ordering::Equal => "0",
        Ordering::Greater => "1",
    }
}

fn agree(pairs: &[(String, String)], said: &[u8], compare: fn(&[u8], &[u8]) -> Ordering, at_least: usize) {
    let said = String::from_utf8(said.to_vec()).unwrap();
    let said: Vec<&str> = said.split_whitespace().collect();
    assert_eq!(said.len(), pairs.len());
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said).filter(|(_, theirs)| *theirs != "None") {
        let (ours, turned) = (compare(a.as_bytes(), b.as_bytes()), compare(b.as_bytes(), a.as_bytes()));
        assert_eq!(sign(ours), theirs, "{a} {b}");
        assert_eq!(ours, turned.reverse(), "{a} {b}");
        compared += 1;
    }
    assert!(compared >= at_least, "{compared}");
}

fn list(pairs: &[(String, String)]) -> String {
    pairs.iter().map(|(a, b)| format!("{a}\t{b}\n")).collect()
}

#[test]
fn versions_are_ordered_as_rpm_orders_them() {
    if !has(&["rpm"]) {
        return;
    }
    let mut pairs = generated_pairs(2500, &["", "", "1:", "0:", "12:"]);
    let pieces =
        ["0", "1", "10", ".", "_", "~", "^", "^2026", "~rc1", "a", "rc", "Z", "007", "fc", "-1", "-2.fn1", "é"];
    pairs.extend(pairs_of(&pieces, 2500));
    // What rpm itself refuses to read as a version: two releases, or nothing before one.
    pairs.retain(|(a, b)| [a, b].iter().all(|one| one.matches('-').count() < 2 && !one.ends_with('-')));
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), list(&pairs)).unwrap();
    let lua = format!(
        "%{{lua: for line in io.lines(\"{}\") do local a, b = line:match(\"([^\\t]*)\\t([^\\t]*)\"); print(rpm.vercmp(a, b) .. \" \") end}}",
        file.path().display()
    );
    agree(&pairs, &output(Command::new("rpm").args(["--eval", &lua])), rpm::compare, 2000);
}

#[test]
fn versions_are_ordered_as_pacman_orders_them() {
    if !has(&["vercmp"]) {
        return;
    }
    let mut pairs = generated_pairs(1500, &["", "", "1:", "0:", "12:"]);
    pairs.extend(pairs_of(&["0", "1", "10", ".", "..", "_", "+", "a", "rc", "Z", "007", "r12", "-1", "-1.1"], 1000));
    let input = list(&pairs).replace('\t', "\n");
    let said = output(Command::new("xargs").args(["-d", "\\n", "-n2", "vercmp"]).stdin(as_input(&input)));
    agree(&pairs, &said, pacman::compare, 2000);
}

#[test]
fn versions_are_ordered_as_portage_orders_them() {
    const PORTAGE: &str = "import sys\nfrom portage.versions import vercmp\nfor line in sys.stdin:\n    a, b = line.rstrip('\\n').split('\\t')\n    said = vercmp(a, b)\n    print('None' if said is None else (said > 0) - (said < 0))\n";
    let has_portage = Command::new("python").args(["-c", "import portage.versions"]).output();
    if !has(&["python"]) || !has_portage.is_ok_and(|output| output.status.success()) {
        super::support::not_compared("no Python with Portage's own library");
        return;
    }
    let pieces =
        [".0", ".01", ".10", ".1", "a", "b", "_p", "_p1", "_rc1", "_alpha", "_beta2", "_pre", "-r1", "-r0", "0"];
    let pairs = pairs_of(&pieces, 9000);
    let said = output(Command::new("python").args(["-c", PORTAGE]).stdin(as_input(&list(&pairs))));
    agree(&pairs, &said, gentoo::compare, 2000);
}
