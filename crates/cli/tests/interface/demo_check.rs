//! `check`, `conflicts`, `verify`, `impact` and `explain` on the demo workstation: every problem that was planted is
//! found, and nothing else.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;

use serde_json::Value;

use super::support::{ask, lantern, repository, run};

/// Member of the cast, severity, kind, subject, a package concerned, and the beginning of a remedy.
const PLANTED: &[(&str, &str, &str, &str, &str, &str)] = &[
    ("harbour", "error", "writable-directory", "/opt/harbour/bin", "", "sudo chmod o-w -- /opt/harbour/bin"),
    (
        "pilotbook",
        "warning",
        "dangling-link",
        "/home/maren/.local/bin/pilotbook",
        "",
        "sudo -u maren -H rm -- /home/maren/.local/bin/pilotbook",
    ),
    (
        "pilotbook",
        "warning",
        "broken-launcher",
        "pilotbook.desktop",
        "",
        "sudo -u maren -H rm -- /home/maren/.local/share/applications/pilotbook.desktop",
    ),
    ("pilotbook", "note", "settings-left", "pilotbook", "dpkg/system/pilotbook", "sudo apt purge pilotbook"),
    (
        "pilotbook",
        "note",
        "data-left",
        "pilotbook",
        "dpkg/system/pilotbook",
        "sudo -u maren -H rm -r -- /home/maren/.local/share/pilotbook",
    ),
    (
        "foghorn",
        "warning",
        "not-executable",
        "Foghorn",
        "appimage/user:maren/Downloads/Foghorn-1.5.0-x86_64.AppImage",
        "sudo -u maren -H chmod +x -- /home/maren/Downloads/Foghorn-1.5.0-x86_64.AppImage",
    ),
    (
        "foghorn",
        "warning",
        "version-split",
        "foghorn",
        "appimage/user:maren/Applications/Foghorn-1.4.0-x86_64.AppImage",
        "sudo -u maren -H rm -- ",
    ),
    ("knots", "warning", "two-owners", "python3-knots", "pip/system/knots", ""),
    (
        "knots",
        "warning",
        "overwritten-file",
        "python3-knots",
        "dpkg/system/python3-knots",
        "sudo rm -r -- /usr/lib/python3/dist-packages/knots-2.0.0.dist-info",
    ),
    (
        "knots",
        "warning",
        "bypassed-protection",
        "knots",
        "pip/system/knots",
        "sudo rm -r -- /usr/lib/python3/dist-packages/knots-2.0.0.dist-info",
    ),
    (
        "barolog",
        "warning",
        "shadowed-command",
        "barolog",
        "dpkg/system/barolog",
        "sudo mv -n -- /usr/local/bin/barolog ",
    ),
    ("barolog", "warning", "context-dependent-command", "barolog", "dpkg/system/barolog", ""),
    ("tobin", "warning", "function-hides-command", "barolog", "", ""),
    ("tobin", "warning", "invisible-launcher", "chartdesk_chartdesk.desktop", "snap/system/chartdesk/44", ""),
    ("barolog", "note", "mismatched-manual", "barolog", "dpkg/system/barolog", ""),
    (
        "mooring",
        "warning",
        "masked-module",
        "mooring",
        "pip/user:maren/mooring",
        "sudo -u maren -H /usr/bin/python3.11 -m pip uninstall --break-system-packages -- mooring",
    ),
    (
        "mooring",
        "warning",
        "bypassed-protection",
        "mooring",
        "pip/user:maren/mooring",
        "sudo -u maren -H /usr/bin/python3.11 -m pip uninstall",
    ),
    (
        "mooring",
        "warning",
        "unmet-requirement",
        "berthplan",
        "dpkg/system/berthplan",
        "sudo -u maren -H /usr/bin/python3.11 -m pip uninstall --break-system-packages -- mooring",
    ),
    (
        "chartdesk",
        "warning",
        "version-split",
        "chartdesk",
        "snap/system/chartdesk/44",
        "sudo -u maren -H env flatpak uninstall --user -y org.harbour.ChartDesk",
    ),
    ("chartdesk", "warning", "duplicate-launcher", "chartdesk.desktop", "dpkg/system/chartdesk", ""),
    (
        "chartdesk",
        "warning",
        "duplicate-launcher",
        "org.harbour.ChartDesk.desktop",
        "flatpak/user:maren/org.harbour.ChartDesk/x86_64/stable",
        "sudo -u maren -H env flatpak uninstall",
    ),
    (
        "lampwick",
        "warning",
        "unowned-in-managed-directory",
        "lampwick",
        "",
        "sudo mv -n -t /usr/local/bin -- /usr/bin/lampwick",
    ),
    (
        "semaphore",
        "warning",
        "invisible-launcher",
        "semaphore.desktop",
        "nix/user:maren/semaphore",
        "sudo -u maren -H sh -c ",
    ),
    ("shoal", "warning", "context-dependent-command", "shoal", "cargo/user:maren/shoal", ""),
    ("swellplot", "warning", "context-dependent-command", "swellplot", "pipx/user:maren/swellplot", ""),
    (
        "swellplot",
        "warning",
        "version-split",
        "swellplot",
        "pipx/user:maren/swellplot",
        "sudo -u maren -H pipx uninstall swellplot",
    ),
    ("tidegauge", "warning", "context-dependent-command", "tidegauge", "nix/user:maren/tidegauge", ""),
    (
        "tidegauge",
        "warning",
        "version-split",
        "tidegauge",
        "homebrew/system/tidegauge/3.2.0_1",
        "sudo -u maren -H uv tool uninstall tidegauge",
    ),
    ("ferryboard", "note", "no-origin", "ferryboard", "dpkg/system/ferryboard", ""),
    ("ferryboard", "warning", "nobody-updates", "ferryboard", "dpkg/system/ferryboard", ""),
    ("seaglass", "note", "nobody-updates", "seaglass", "dpkg/system/seaglass", ""),
    ("quay", "warning", "expired-key", "Quay stable", "", ""),
    ("quay", "note", "duplicate-source", "Quay stable", "", ""),
    ("quay", "note", "stale-catalogue", "quay", "", ""),
    ("ferrywatch", "warning", "unsigned-source", "Ferry stable", "", ""),
    ("ferrywatch", "note", "unused-source", "Ferry stable", "", ""),
    ("mooring", "warning", "ambiguous-index", "pip", "", ""),
    ("foglight", "note", "diverted-program", "lamp", "", ""),
    ("seaglass", "note", "held-back", "seaglass", "dpkg/system/seaglass", "sudo apt-mark unhold seaglass"),
];

fn checked(arguments: &[&str]) -> Value {
    let place = lantern().to_str().unwrap();
    run([&["--root", place, "check", "--format", "json"], arguments].concat()).document()
}

fn findings(document: &Value) -> Vec<Value> {
    document["findings"].as_array().unwrap().clone()
}

#[test]
fn every_planted_problem_is_found_and_nothing_else() {
    let document = checked(&["--level", "note"]);
    let found = findings(&document);
    for (member, severity, kind, subject, package, remedy) in PLANTED {
        let of_it = |finding: &&Value| finding["kind"] == *kind && finding["subject"] == *subject;
        let one = found.iter().find(of_it).unwrap_or_else(|| panic!("{member}: {kind} of {subject} is not found"));
        assert_eq!(one["severity"], *severity, "{member}: {one:#}");
        let has = |list: &str, key: Option<&str>, start: &str| {
            let texts = one[list].as_array().unwrap().iter();
            texts.filter_map(|text| key.map_or(text, |key| &text[key]).as_str()).any(|text| text.starts_with(start))
        };
        assert!(package.is_empty() || has("packages", None, package), "{member}: {one:#}");
        assert!(remedy.is_empty() || has("remedies", Some("command"), remedy), "{member}: {one:#}");
        assert!(!one["evidence"].as_array().unwrap().is_empty(), "{member}: {one:#}");
    }
    let planted: BTreeSet<(&str, &str)> = PLANTED.iter().map(|(_, _, kind, subject, ..)| (*kind, *subject)).collect();
    let others: Vec<&Value> = found
        .iter()
        .filter(|finding| finding["severity"] != "note")
        .filter(|one| !planted.contains(&(one["kind"].as_str().unwrap(), one["subject"].as_str().unwrap())))
        .collect();
    assert!(others.is_empty(), "nobody planted {others:#?}");
    // What is kept side by side on purpose is nobody's trouble.
    assert!(!found.iter().any(|finding| finding["subject"] == "almanac" && finding["severity"] != "note"));
    let count = |severity: &str| found.iter().filter(|finding| finding["severity"] == severity).count();
    assert_eq!(document["counts"]["error"], count("error"));
    assert_eq!(document["counts"]["warning"], count("warning"));
}

#[test]
fn a_healthy_machine_gives_no_alarm() {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().join("healthy");
    whodunit_demo::write_healthy(&place).unwrap();
    let place = place.to_str().unwrap();
    for command in ["check", "conflicts", "verify"] {
        let ran = run(["--root", place, command, "--format", "json"]);
        let serious: Vec<Value> =
            findings(&ran.document()).into_iter().filter(|finding| finding["severity"] != "note").collect();
        assert!(serious.is_empty() && ran.status == 0, "{command}: {serious:#?}");
    }
    let ran = run(["--root", place, "check"]);
    assert!(ran.out.starts_with("nothing is wrong here"), "{}", ran.out);
}

#[test]
fn the_examples_of_the_explanations_are_the_demos_own() {
    let place = lantern().to_str().unwrap();
    let mut known = findings(&checked(&["--level", "note"]));
    known.extend(findings(&run(["--root", place, "verify", "--format", "json"]).document()));
    let document = run(["explain", "--format", "json"]).document();
    let explanations = document["explanations"].as_array().unwrap();
    let mut shown = 0;
    for one in explanations {
        let instances: Vec<&Value> = known.iter().filter(|finding| finding["kind"] == one["kind"]).collect();
        match one["example"].as_object() {
            Some(example) => {
                let is_it = |finding: &&&Value| {
                    finding["subject"] == example["subject"] && finding["summary"] == example["summary"]
                };
                assert!(
                    instances.iter().any(|finding| is_it(&finding)),
                    "{}: {example:?} is none of {instances:#?}",
                    one["kind"]
                );
                shown += 1;
            }
            None => assert!(instances.is_empty(), "{} has an instance on the demo: {instances:#?}", one["kind"]),
        }
    }
    assert!(shown >= 20, "{shown}");
}

/// `docs/findings.md`, from what `explain` says.
#[test]
fn the_page_of_findings_is_what_explain_says() {
    let document = run(["explain", "--format", "json"]).document();
    let mut page = "# Findings\n\nEvery kind of finding, as `whodunit explain KIND` tells it. The examples are those of the demo workstation\n(`whodunit demo`).\n".to_owned();
    let mut family = String::new();
    for one in document["explanations"].as_array().unwrap() {
        let text = |key: &str| one[key].as_str().unwrap().to_owned();
        if text("family") != family {
            family = text("family");
            let title = family.replace('-', " ");
            let _ = write!(page, "\n## {}{}\n", title[..1].to_uppercase(), &title[1..]);
        }
        let _ = write!(page, "\n### `{}`\n\n{}\n\n", text("kind"), text("means"));
        for (label, key) in
            [("Cause", "cause"), ("Why it matters", "matters"), ("Detection", "detected"), ("Remedy", "remedy")]
        {
            let _ = writeln!(page, "- **{label}:** {}", text(key));
        }
        if let Some(example) = one["example"].as_object() {
            let part = |key: &str| example[key].as_str().unwrap().replace('`', "'");
            let _ = writeln!(page, "- **Example:** `{}`: {}", part("subject"), part("summary"));
        }
    }
    let file = repository().join("docs/findings.md");
    if std::env::var_os("WHODUNIT_UPDATE_DOCS").is_some() {
        fs::write(&file, &page).unwrap();
    }
    let published = fs::read_to_string(&file).unwrap_or_default();
    assert!(published == page, "run the tests once with WHODUNIT_UPDATE_DOCS=1 and read the difference");
}

/// Every manager that is read is in the table, with where its state is and what it was compared with; each page has its
/// parts, and every link leads somewhere.
#[test]
fn the_page_about_managers_has_all_of_them() {
    let dir = repository().join("docs/managers");
    let page = fs::read_to_string(dir.join("README.md")).unwrap();
    let rows: Vec<Vec<&str>> = page
        .lines()
        .filter(|line| line.starts_with("| ["))
        .map(|line| line.trim_matches('|').split(" | ").map(str::trim).collect())
        .collect();
    for manager in whodunit_core::managers::ALL {
        let id = manager.id().0;
        let row = rows.iter().find(|row| row[0].starts_with(&format!("[{id}]("))).unwrap_or_else(|| panic!("no {id}"));
        assert!(row.len() == 3 && row.iter().all(|cell| !cell.is_empty()), "{row:?}");
        let link = row[0].split_once('(').and_then(|(_, link)| link.strip_suffix(')')).unwrap();
        let about = fs::read_to_string(dir.join(link)).unwrap_or_else(|error| panic!("{link}: {error}"));
        let parts: &[&str] = match link.ends_with(".md") {
            true => &["**State.**", "**Document.**", "**Easily read wrongly.**", "**Compared with**"],
            false => &["//! "],
        };
        for part in parts {
            assert!(about.contains(part), "{link} lacks {part}");
        }
    }
    assert_eq!(rows.len(), whodunit_core::managers::ALL.len(), "a row for each");
}

#[test]
fn what_the_settings_accept_and_expect_counts() {
    let dir = tempfile::tempdir().unwrap();
    let config = |text: &str| {
        let file = dir.path().join("settings.toml");
        fs::write(&file, text).unwrap();
        file.to_str().unwrap().to_owned()
    };
    let file = config(
        "[[accept]]\nkind = \"shadowed-command\"\nsubject = \"baro*\"\nreason = \"ours is newer\"\nuntil = 2999-01-31\n\
         [[accept]]\nkind = \"dangling-link\"\nreason = \"soon\"\nuntil = \"2026-01-31\"\n\
         [[accept]]\nkind = \"stale-base\"\nreason = \"never there\"\n\
         [[expect]]\ncommand = \"tidegauge\"\nmanager = \"dpkg\"\ncontexts = [\"cron\", \"terminal\"]\n\
         [[expect]]\ncommand = \"seaglass\"\nmanager = \"dpkg\"\n\
         [titles]\ndifferent = [[\"dpkg:swellplot\", \"pipx:swellplot\"]]\nsame = [[\"dpkg:berthplan\", \"npm:buoytrack\"]]\n",
    );
    let document = checked(&["--config", &file]);
    let found = findings(&document);
    let of = |kind: &str, subject: &str| found.iter().find(|one| one["kind"] == kind && one["subject"] == subject);
    assert_eq!(of("shadowed-command", "barolog").unwrap()["accepted"], "ours is newer");
    let link = of("dangling-link", "/home/maren/.local/bin/pilotbook").unwrap();
    let last = &link["evidence"].as_array().unwrap().last().unwrap()["says"];
    assert!(link["accepted"].is_null() && last == "was accepted until 2026-01-31: soon", "{link:#}");
    let unmet = of("unmet-expectation", "tidegauge").unwrap();
    assert_eq!(unmet["summary"], "tidegauge should come from dpkg, but is nix · tidegauge in terminal");
    assert!(of("unmet-expectation", "seaglass").is_none() && of("version-split", "swellplot").is_none());
    assert!(
        findings(&checked(&["--config", &file, "--level", "note"]))
            .iter()
            .any(|one| one["packages"].as_array().unwrap().contains(&"npm/user:maren/buoytrack".into()))
    );
    assert_eq!(document["counts"]["accepted"], 1);
    let place = lantern().to_str().unwrap();
    let ran = run(["--root", place, "--config", &file, "check", "-v"]);
    assert!(ran.err.contains("line 11: accepts stale-base, but there is no such finding"), "{}", ran.err);
    assert!(ran.out.contains("; 1 accepted") && !ran.out.contains("ours is newer"), "{}", ran.out);
    // Where all is accepted, a scheduled job has nothing to report.
    let kinds: BTreeSet<String> =
        findings(&checked(&[])).iter().map(|one| one["kind"].as_str().unwrap().to_owned()).collect();
    let all: String =
        kinds.iter().map(|kind| format!("[[accept]]\nkind = \"{kind}\"\nreason = \"a demo\"\n")).collect();
    assert_eq!(run(["--root", place, "--config", &config(&all), "check"]).status, 0);
    assert_eq!(run(["--root", place, "check"]).status, 1);
    for (text, says) in [
        ("[[accept]]\nkind = \"shadow\"\nreason = \"x\"\n", "line 2: shadow: no such kind of finding"),
        ("[[accept]]\nkind = \"no-origin\"\nreason = \" \"\n", "line 3: an accepted finding needs a reason"),
        (
            "[[accept]]\nkind = \"no-origin\"\nreason = \"x\"\nuntil = \"2026-13-01\"\n",
            "line 4: 2026-13-01: not a date (YYYY-MM-DD)",
        ),
        ("[[accept]]\nkind = \"no-origin\"\nreason = \"x\"\nuntil = 7\n", "line 4: 7: not a date"),
        ("[[accept]]\nkind = \"no-origin\"\n", "line 1: missing field `reason`"),
        (
            "[[expect]]\ncommand = \"/bin/x\"\nmanager = \"dpkg\"\n",
            "line 2: a command name without a slash is expected",
        ),
        ("[[expect]]\ncommand = \"x\"\nmanager = \"dpgk\"\n", "line 3: dpgk: no such manager"),
        ("[[expect]]\ncommand = \"x\"\nmanager = \"dpkg\"\ncontexts = [\"noon\"]\n", "line 4: noon: no such context"),
        (
            "[titles]\n\nsame = [[\"dpkg:a\", \"pip:a\"], [\"dpkg:a\", \"dpkg:b\"]]\n",
            "line 3: a and b are two packages of dpkg, which cannot have the same title",
        ),
        ("[titles]\nsame = [[\"dpkg:a\"]]\n", "line 2: at least two packages are needed"),
        ("[titles]\ndifferent = [[\"dpgk:a\", \"b\"]]\n", "line 2: dpgk:a: MANAGER:NAME"),
    ] {
        let ran = run(["--root", place, "--config", &config(text), "check"]);
        assert!(ran.status == 2 && ran.err.contains(says), "{text}: {ran:?}");
    }
}

#[test]
fn other_tools_can_read_the_findings() {
    let place = lantern().to_str().unwrap();
    for command in ["check", "conflicts", "verify"] {
        let ran = run(["--root", place, command, "--format", "sarif"]);
        let log: Value = serde_json::from_str(&ran.out).unwrap();
        let (results, rules) = (&log["runs"][0]["results"], &log["runs"][0]["tool"]["driver"]["rules"]);
        assert_eq!(log["version"], "2.1.0");
        let results = results.as_array().unwrap();
        assert!(!results.is_empty());
        for result in results {
            let rule = &rules[usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap()];
            assert_eq!(rule["id"], result["ruleId"]);
            assert!(["error", "warning", "note"].contains(&result["level"].as_str().unwrap()));
            for location in result["locations"].as_array().unwrap() {
                let uri = location["physicalLocation"]["artifactLocation"]["uri"].as_str().unwrap();
                assert!(uri.starts_with("file:///"), "{uri}");
            }
        }
    }
    let ran = ask(&["inventory", "--format", "sarif"]);
    assert!(ran.status == 2 && ran.err.contains("--format sarif is for findings"), "{ran:?}");
}
