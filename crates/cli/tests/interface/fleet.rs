//! `fleet`: what the questions answer, and what tells machines apart.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;
use whodunit_demo::{FleetScale, write_fleet};
use whodunit_fleet::schema::schema;

use super::support::{Ran, finish_with_path, lantern, program, repository, run, text};

/// The questions, as they are typed.
pub const QUESTIONS: [&[&str]; 10] = [
    &["machines"],
    &["where", "tidelog"],
    &["where", "nothing-of-that-name"],
    &["versions", "tidelog"],
    &["findings"],
    &["findings", "shadowed-command"],
    &["drift", "--reference", "lantern"],
    &["changes", "--since", "2026-11-02T00:00:00Z"],
    &["rare", "--fewer-than", "4"],
    &["outdated"],
];

/// The snapshots of so many machines, on two days.
pub fn snapshots(machines: u32, packages: u32) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    write_fleet(&dir.path().join("all"), FleetScale { machines, packages, days: 2 }).unwrap();
    dir
}

/// Loads into a store.
pub fn load(from: &Path, store: &str) -> Ran {
    run(["fleet", "load", from.to_str().unwrap(), "--into", store])
}

/// Asks a store; the arguments are those behind `fleet`.
pub fn ask(store: &str, question: &[&str], format: &str) -> Ran {
    run([&["fleet", "--store", store, "--format", format], question].concat())
}

/// A document that follows the published schema of `fleet`.
pub fn answer(store: &str, question: &[&str]) -> Value {
    let ran = ask(store, question, "json");
    let document: Value = serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {ran:?}"));
    let validator = jsonschema::validator_for(&schema()).unwrap();
    let problems: Vec<String> = validator.iter_errors(&document).map(|problem| problem.to_string()).collect();
    assert!(problems.is_empty(), "{problems:#?}");
    document
}

#[test]
fn the_published_schemas_are_those_of_the_code() {
    let is_update = std::env::var_os("WHODUNIT_UPDATE_SCHEMA").is_some();
    let json = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
    for (file, generated) in [("whodunit-fleet-1.json", json.as_str()), ("fleet.sql", whodunit_fleet::store::SCHEMA)] {
        let file = repository().join("docs/schema").join(file);
        if is_update {
            fs::write(&file, generated).unwrap();
        }
        let published = fs::read_to_string(&file).unwrap_or_default();
        assert!(published == generated, "{}: WHODUNIT_UPDATE_SCHEMA=1 writes it anew", file.display());
    }
}

#[test]
fn every_question_has_one_answer_to_read() {
    let dir = snapshots(14, 60);
    let store = dir.path().join("fleet.sqlite").to_str().unwrap().to_owned();
    let loaded = load(&dir.path().join("all"), &store);
    assert_eq!((loaded.status, loaded.out.as_str()), (0, "loaded 28 snapshots\n"), "{}", loaded.err);
    let mut pages = String::new();
    for question in QUESTIONS {
        let ran = ask(&store, question, "table");
        let expected = i32::from(question.contains(&"nothing-of-that-name"));
        assert_eq!(ran.status, expected, "{question:?} {}", ran.err);
        pages.push_str(&format!("$ whodunit fleet {}\n{}\n", question.join(" "), ran.out));
        answer(&store, question);
    }
    insta::assert_snapshot!(pages);
}

/// The demo's own machine, as it is, among others.
#[test]
fn a_real_snapshot_tells_what_it_found_and_what_is_newer() {
    let dir = tempfile::tempdir().unwrap();
    let (file, store) = (dir.path().join("lantern.json.zst"), dir.path().join("fleet.sqlite"));
    let root = lantern().to_str().unwrap();
    let saved = run(["--root", root, "snapshot", "save", file.to_str().unwrap(), "--full"]);
    assert_eq!(saved.status, 0, "{}", saved.err);
    let usual = dir.path().join("usual.json.zst");
    assert_eq!(run(["--root", root, "snapshot", "save", usual.to_str().unwrap()]).status, 0);
    let store = store.to_str().unwrap();
    assert_eq!(load(&file, store).status, 0);

    let places = answer(store, &["where", "tidegauge"])["places"].clone();
    let ids: Vec<String> = places.as_array().unwrap().iter().map(|place| text(&place["id"])).collect();
    for manager in ["dpkg/system", "homebrew/", "nix/", "uv/user:maren"] {
        assert!(ids.iter().any(|id| id.starts_with(manager)), "{manager} {ids:?}");
    }
    assert!(
        places.as_array().unwrap().iter().all(|place| place["contexts"].as_u64() > Some(0) || place["runs"].is_null())
    );
    // What the snapshot counts is what check and upkeep say.
    let check = run(["--root", root, "check", "--level", "note", "--format", "json"]).document();
    let kind = |document: &Value, kind: &str| {
        document["findings"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|one| one["kind"] == kind && one["accepted"].is_null())
            .count()
    };
    for name in ["overwritten-file", "version-split", "shadowed-command"] {
        let found = answer(store, &["findings", name]);
        let told: u64 = found["findings"].as_array().unwrap().iter().map(|one| one["findings"].as_u64().unwrap()).sum();
        assert_eq!(told, kind(&check, name) as u64, "{name}");
        assert!(told > 0, "{name}");
    }
    let upkeep = run(["--root", root, "upkeep", "--format", "json"]).document();
    let behind = upkeep["upkeep"].as_array().unwrap().iter().filter(|one| one["behind"]["version"].is_string()).count();
    let machine = answer(store, &["machines"])["machines"][0].clone();
    assert_eq!((machine["outdated"].as_u64(), machine["machine"].as_str()), (Some(behind as u64), Some("lantern")));
    assert!(behind > 0);

    // Without findings it is not said that there are none.
    let second = dir.path().join("second.sqlite");
    let second = second.to_str().unwrap();
    assert_eq!(load(&usual, second).status, 0);
    let machine = answer(second, &["machines"])["machines"][0].clone();
    assert!(machine["errors"].is_null() && machine["outdated"].is_null(), "{machine}");
    assert!(ask(second, &["findings"], "table").out.starts_with("no snapshot has findings"));
    assert!(ask(second, &["outdated"], "table").out.starts_with("no snapshot says what is newer"));
}

/// The snapshot of one machine of the fleet, changed.
pub fn changed(from: &Path, to: &Path, change: impl FnOnce(&mut Value)) -> PathBuf {
    let bytes = zstd::decode_all(fs::File::open(from).unwrap()).unwrap();
    let mut document: Value = serde_json::from_slice(&bytes).unwrap();
    change(&mut document);
    fs::write(to, document.to_string()).unwrap();
    to.to_owned()
}

#[test]
fn machines_are_told_apart_by_their_ids() {
    let dir = snapshots(2, 40);
    let store = dir.path().join("fleet.sqlite").to_str().unwrap().to_owned();
    let files = dir.path().join("files");
    fs::create_dir(&files).unwrap();
    let first = dir.path().join("all/lantern-0/1.json.zst");
    let put = |name: &str, change: &dyn Fn(&mut Value)| changed(&first, &files.join(name), |one| change(one));
    put("a.json", &|one| one["machine"] = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa".into());
    // The same name, another machine.
    put("b.json", &|one| one["machine"] = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb".into());
    // The same machine, renamed; and a clock that is ahead by a century.
    put("c.json", &|one| {
        one["machine"] = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb".into();
        one["host"] = "beacon".into();
        one["taken_at"] = "2126-11-01T00:00:00Z".into();
    });
    // As an older version wrote it, or a machine without an id.
    put("d.json", &|one| {
        one.as_object_mut().unwrap().remove("machine");
        one["host"] = "lantern".into();
    });
    assert_eq!(load(&files, &store).out, "loaded 4 snapshots\n");
    let document = answer(&store, &["machines"]);
    let machines = document["machines"].as_array().unwrap();
    let rows: Vec<(String, String, bool)> = machines
        .iter()
        .map(|one| (text(&one["machine"]), text(&one["identity"]), one["clock_is_ahead"].as_bool().unwrap()))
        .collect();
    let row = |name: &str, identity: &str, ahead: bool| (name.to_owned(), identity.to_owned(), ahead);
    assert_eq!(
        rows,
        [
            row("beacon", "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb", true),
            row("lantern (aaaaaaaa)", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false),
            row("lantern (lantern)", "host:lantern", false),
        ]
    );
    assert_eq!(machines[0]["also_called"], serde_json::json!(["lantern"]));
    let page = ask(&store, &["machines"], "table").out;
    assert!(page.contains("called lantern: renamed, or copied") && page.contains("its clock was ahead"), "{page}");
    let ran = ask(&store, &["drift", "--reference", "lantern"], "table");
    assert!(ran.status == 2 && ran.err.contains("several machines are called lantern"), "{ran:?}");
    assert_eq!(ask(&store, &["drift", "--reference", "aaaa"], "table").status, 0);
    let ran = ask(&store, &["drift", "--reference", "nobody"], "table");
    assert!(ran.status == 1 && ran.err.contains("no machine is called nobody (whodunit fleet machines"), "{ran:?}");
}

#[test]
fn a_manifest_is_a_reference_and_names_no_dependencies() {
    let dir = snapshots(6, 40);
    let store = dir.path().join("fleet.sqlite").to_str().unwrap().to_owned();
    load(&dir.path().join("all"), &store);
    let has = |name: &str| answer(&store, &["versions", name])["versions"].clone();
    let buoylog = has("buoylog");
    let version = text(&buoylog[0]["version"]);
    let manifest = dir.path().join("wanted.toml");
    let package = |name: &str, version: Option<&str>| {
        let version = version.map(|version| format!("version = {version:?}\n")).unwrap_or_default();
        format!("[[package]]\nmanager = \"dpkg\"\nscope = \"system\"\nname = {name:?}\n{version}")
    };
    let wanted =
        [package("buoylog", Some(&version)), package("tidelog", None), package("no-such-thing", None)].concat();
    fs::write(&manifest, format!("schema = \"whodunit-manifest/1\"\n{wanted}")).unwrap();
    let document = answer(&store, &["drift", "--reference", manifest.to_str().unwrap()]);
    for one in document["distances"].as_array().unwrap() {
        assert_eq!(one["surplus"], 0, "{one}");
        assert!(one["missing"].as_u64() >= Some(1), "{one}");
    }
    let differs = &document["differs_most"][0];
    assert_eq!(
        (text(&differs["name"]), text(&differs["how"]), differs["machines"].as_u64()),
        ("no-such-thing".into(), "missing".into(), Some(6))
    );
    // Every machine, counted by hand from its own packages.
    let snapshot = zstd::decode_all(fs::File::open(dir.path().join("all/lantern-0/2.json.zst")).unwrap()).unwrap();
    let snapshot: Value = serde_json::from_slice(&snapshot).unwrap();
    let named = |name: &str| {
        snapshot["packages"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["name"] == name && one["manager"] == "dpkg")
            .cloned()
    };
    let other = u64::from(named("buoylog").is_some_and(|one| text(&one["version"]) != version));
    let missing = 1 + u64::from(named("buoylog").is_none()) + u64::from(named("tidelog").is_none());
    let lantern = document["distances"].as_array().unwrap().iter().find(|one| one["machine"] == "lantern").unwrap();
    assert_eq!((lantern["missing"].as_u64(), lantern["other_version"].as_u64()), (Some(missing), Some(other)));
}

/// Its commands are run as they are printed.
#[test]
fn the_page_about_a_fleet_leads_to_its_findings() {
    let dir = snapshots(14, 60);
    let place = dir.path().join("the harbour's fleet.sqlite");
    let (store, page) = (place.to_str().unwrap(), dir.path().join("fleet.html"));
    load(&dir.path().join("all"), store);
    let ran = run(["report", "--fleet", store, page.to_str().unwrap()]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    let page = fs::read_to_string(page).unwrap();
    for says in [
        "<h1>14 machines</h1>",
        "Errors on 1 and warnings on 3 of 13 machines",
        "<strong>dangling-link</strong> error on 1 machine: office-005",
        "Packages that are behind on the most machines",
        "2026-11-02",
    ] {
        assert!(page.contains(says), "{says}");
    }
    let commands: Vec<String> = page
        .split("<pre><code>")
        .skip(1)
        .map(|rest| {
            rest.split("</code>").next().unwrap().replace("&#39;", "'").replace("&#34;", "\"").replace("&amp;", "&")
        })
        .collect();
    assert_eq!(commands.len(), 3, "{commands:?}");
    for command in commands {
        let mut shell = Command::new("/bin/sh");
        shell.args(["-c", &command]).env("PATH", program().parent().unwrap());
        let ran = finish_with_path(&mut shell);
        let kind = command.split(' ').nth(3).unwrap();
        assert!(ran.status == 0 && ran.out.starts_with(kind), "{command}: {ran:?}");
    }
    let gone = run(["report", "--fleet", "/no/such/store"]);
    assert!(gone.status == 2 && gone.err.contains("there is no store"), "{gone:?}");
}
