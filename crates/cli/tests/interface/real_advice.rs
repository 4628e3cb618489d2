//! Advice, tried: every remedy is typed as printed, by the user it names, on a machine that was made with the real
//! managers. It succeeds, the finding goes, nothing new comes up, and nothing of another owner's changes.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;
use std::sync::atomic::{AtomicUsize, Ordering};

use serde_json::Value;

use super::proofs::{OWNED, Owned, PROOFS, Proof, WITHOUT};
use super::support::{has, repository, run};
use super::trial::{Trial, is_here, lies_in};

/// What every manager may write: its locks, logs, caches and the records of what it did.
pub const ALWAYS: &[&str] = &[
    "/run",
    "/tmp",
    "/var/cache",
    "/var/lib/apt",
    "/var/lib/dpkg",
    "/var/log",
    "/var/tmp",
    "/var/lib/sudo",
    "/root/.cache",
    "/home/maren/.cache",
    "/home/tobin/.cache",
    "/etc/ld.so.cache",
];

fn text(value: &Value) -> &str {
    value.as_str().unwrap_or_default()
}

fn findings(document: &Value) -> Vec<Value> {
    document["findings"].as_array().unwrap().clone()
}

/// The findings of warning and above.
fn serious(findings: &[Value]) -> BTreeSet<(String, String)> {
    let serious = findings.iter().filter(|finding| finding["severity"] != "note");
    serious.map(|finding| (text(&finding["kind"]).to_owned(), text(&finding["subject"]).to_owned())).collect()
}

fn is_of(finding: &Value, proof: &Proof) -> bool {
    finding["kind"] == proof.kind && finding["subject"] == proof.subject
}

/// Tries every remedy of one finding; what goes wrong is told.
fn tried(proof: &Proof) -> Vec<String> {
    let trial = Trial::new();
    trial.plants(super::proofs::TOOLS);
    trial.plants(proof.plant);
    trial.freeze();
    let command: Vec<&str> = proof.asked.split(' ').collect();
    let before = findings(&trial.asks(&command));
    let name = format!("{} of {}", proof.kind, proof.subject);
    let Some(finding) = before.iter().find(|finding| is_of(finding, proof)) else {
        return vec![format!("{name} is not found: {:#?}", serious(&before))];
    };
    let remedies = finding["remedies"].as_array().unwrap();
    let commands: Vec<&str> = remedies.iter().map(|remedy| text(&remedy["command"])).collect();
    if commands != proof.commands {
        return vec![format!("{name}: advice is {commands:#?}\nand should be {:#?}", proof.commands)];
    }
    let verified = |trial: &Trial| -> BTreeSet<String> {
        // What was planted; of everything else it is told what changed at all.
        let output = trial.types(
            None,
            "for deb in /srv/debs/*.deb; do dpkg --verify $(basename $deb | cut -d_ -f1); done 2>/dev/null; \
             ls /srv/rpms/* >/dev/null 2>&1 && rpm -Va; ls /srv/pacman/* >/dev/null 2>&1 && pacman -Qkq",
        );
        String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect()
    };
    let known = verified(&trial);
    let mut wrong = Vec::new();
    for remedy in remedies {
        trial.freeze();
        let command = text(&remedy["command"]);
        let output = trial.types(remedy["as_user"].as_str(), &format!("cd /root 2>/dev/null\n{command}"));
        if !output.status.success() {
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            wrong.push(format!("{name}: {command} fails: {said}{}", String::from_utf8_lossy(&output.stdout)));
            continue;
        }
        let changed = trial.changed();
        let strange: Vec<&String> =
            changed.iter().filter(|path| !lies_in(path, ALWAYS) && !lies_in(path, proof.changes)).collect();
        if !strange.is_empty() {
            wrong.push(format!("{name}: {command} changes {strange:#?}"));
        }
        let after = findings(&trial.asks(&command_of(proof)));
        if after.iter().any(|finding| is_of(finding, proof)) {
            wrong.push(format!("{name}: {command} does not cure it: {}", String::from_utf8_lossy(&output.stdout)));
        }
        let new: Vec<_> = serious(&after).difference(&serious(&before)).cloned().collect();
        if !new.is_empty() {
            wrong.push(format!("{name}: after {command} there is {new:?}"));
        }
        let worse: Vec<String> = verified(&trial).difference(&known).cloned().collect();
        if !worse.is_empty() {
            wrong.push(format!("{name}: after {command} the managers say {worse:?}"));
        }
        if let Some(undo) = remedy["reversible_by"].as_str() {
            let output = trial.types(remedy["as_user"].as_str(), undo);
            let back = findings(&trial.asks(&command_of(proof)));
            if !output.status.success() || !back.iter().any(|finding| is_of(finding, proof)) {
                wrong.push(format!("{name}: {undo} does not undo {command}: {output:?}"));
            }
        }
    }
    wrong
}

fn command_of(proof: &Proof) -> Vec<&'static str> {
    proof.asked.split(' ').collect()
}

#[test]
fn every_remedy_does_what_it_says_and_no_more() {
    if !is_here() || !has(&["unshare", "nsenter"]) {
        return;
    }
    let only = std::env::var("WHODUNIT_PROOF").unwrap_or_default();
    let wanted: Vec<&Proof> =
        PROOFS.iter().filter(|proof| proof.kind.contains(&only) || proof.by.contains(&only)).collect();
    let next = AtomicUsize::new(0);
    let work = || {
        let mut wrong = Vec::new();
        while let Some(proof) = wanted.get(next.fetch_add(1, Ordering::Relaxed)) {
            let tried = std::panic::catch_unwind(|| tried(proof));
            wrong.extend(tried.unwrap_or_else(|panic| {
                let said = panic.downcast_ref::<String>().cloned().unwrap_or_default();
                vec![format!("{} of {} ({}): {said}", proof.kind, proof.subject, proof.by)]
            }));
        }
        wrong
    };
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..3).map(|_| scope.spawn(work)).collect();
        workers.into_iter().flat_map(|worker| worker.join().unwrap()).collect()
    });
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// Tries the commands that `owner` prints for one package; what goes wrong is told.
fn owned(one: &Owned) -> Vec<String> {
    let made = || {
        let trial = Trial::new();
        trial.plants(super::proofs::TOOLS);
        trial.plants(one.plant);
        trial
    };
    let answer = |trial: &Trial| trial.asks(&["owner", one.target])["answers"][0].clone();
    let first = made();
    let before = answer(&first);
    let remedies = before["remedies"].as_array().unwrap();
    let commands: Vec<&str> = remedies.iter().map(|remedy| text(&remedy["command"])).collect();
    if commands != one.commands {
        return vec![format!("{}: advice is {commands:#?}\nand should be {:#?}", one.by, one.commands)];
    }
    let mut wrong = Vec::new();
    // What is removed cannot be upgraded afterwards.
    let trials = std::iter::once(first).chain(std::iter::repeat_with(made));
    for (remedy, trial) in remedies.iter().zip(trials) {
        let command = text(&remedy["command"]);
        let output = trial.types(remedy["as_user"].as_str(), &format!("cd /root 2>/dev/null\n{command}"));
        let after = answer(&trial);
        let is_done = match text(&remedy["kind"]) {
            "remove" => after["verdict"] == "not-found",
            "upgrade" => after["owner"]["version"] == one.newer,
            other => panic!("{other} is not expected of {}", one.by),
        };
        if !output.status.success() || !is_done {
            wrong.push(format!("{}: {command}: {output:?}\n{after:#}", one.by));
        }
    }
    wrong
}

#[test]
fn the_commands_of_a_packages_owner_do_what_they_say() {
    if !is_here() || !has(&["unshare", "nsenter"]) {
        return;
    }
    let wrong: Vec<String> = OWNED.iter().flat_map(owned).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// `docs/advice.md`: every kind of finding, its remedies, and how they were tried.
#[test]
fn every_kind_of_finding_is_proven_or_has_no_remedy() {
    let document = run(["explain", "--format", "json"]).document();
    let mut page = "# Advice\n\nEvery command that Whodunit prints as a remedy is tried on a machine that was made with the real managers: it\n\
        is typed as printed, by the user it names. The command succeeds, the finding goes, no other finding of a\n\
        warning or above comes up, the managers' own verification is no worse than before, and no file changes\n\
        outside the places that the remedy is about. What undoes a remedy is tried as well. Kinds of findings\n\
        without a remedy say why.\n\n| kind | made with | remedy |\n|---|---|---|\n"
        .to_owned();
    for one in document["explanations"].as_array().unwrap() {
        let kind = text(&one["kind"]);
        let proofs: Vec<&Proof> = PROOFS.iter().filter(|proof| proof.kind == kind).collect();
        let without = WITHOUT.iter().find(|(name, _)| *name == kind);
        assert!(!proofs.is_empty() || without.is_some(), "{kind} has neither a proof nor a reason to be without one");
        for proof in &proofs {
            let commands: Vec<String> =
                proof.commands.iter().map(|command| format!("`{}`", command.replace('|', "\\|"))).collect();
            let said = if commands.is_empty() { "none".to_owned() } else { commands.join("<br>") };
            writeln!(page, "| {kind} | {} | {said} |", proof.by).unwrap();
        }
        if let (Some((_, why)), true) = (without, proofs.is_empty()) {
            writeln!(page, "| {kind} | | none: {why} |").unwrap();
        }
    }
    page.push_str("\nThe commands that `owner` prints for a package are tried in the same way:\n\n| installed with | commands |\n|---|---|\n");
    for one in OWNED {
        let commands: Vec<String> = one.commands.iter().map(|command| format!("`{command}`")).collect();
        writeln!(page, "| {} | {} |", one.by, commands.join("<br>")).unwrap();
    }
    let file = repository().join("docs/advice.md");
    if std::env::var_os("WHODUNIT_UPDATE_DOCS").is_some() {
        fs::write(&file, &page).unwrap();
    }
    assert_eq!(fs::read_to_string(&file).unwrap_or_default(), page, "docs/advice.md is not what the proofs say");
}
