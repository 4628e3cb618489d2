//! Snap, on a stand-in tree written from its public documentation, for its daemon needs a service manager.
//! The images are real: the demo's are written by a library, and one here by the real tool.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use super::support::{Closed, ask, has, open_dir, output, run, run_unprivileged};
use serde_json::{Value, json};

fn packages(root: &Path) -> Vec<Value> {
    let ran = run(["--root", root.to_str().unwrap(), "inventory", "--all", "--manager", "snap", "--format", "json"]);
    ran.document()["packages"].as_array().unwrap().clone()
}

fn lantern(dir: &Path) -> std::path::PathBuf {
    let place = dir.join("lantern");
    whodunit_demo::write(&place, whodunit_demo::Scale::default()).unwrap();
    place
}

#[test]
fn revisions_commands_and_publisher_are_read_from_the_disk() {
    let dir = open_dir();
    let found = packages(&lantern(dir.path()));
    let shown: Vec<String> = found
        .iter()
        .map(|p| format!("{} {} {} {} {}", p["name"], p["version"], p["revision"], p["status"], p["channel"]))
        .collect();
    assert_eq!(
        shown,
        [
            r#""chartdesk" "2.9.0" "41" "disabled" "latest/stable""#,
            r#""chartdesk" "3.0.2" "44" "installed" "latest/stable""#,
            r#""harbour-base" "2026.1" "7" "installed" "latest/stable""#,
        ]
    );
    let active = &found[1];
    assert_eq!(active["commands"], json!(["/snap/bin/chartdesk", "/snap/bin/desk"]));
    assert_eq!(active["launchers"], json!(["chartdesk_chartdesk.desktop"]));
    assert_eq!((&active["origin"]["name"], &active["confinement"]), (&"quayworks".into(), &"strict".into()));
    let evidence = active["evidence"].to_string();
    for says in
        ["needs harbour-base", "tided is a service", "quayworks, verified", "alias desk, made by hand", "data of maren"]
    {
        assert!(evidence.contains(says), "{says}: {evidence}");
    }
    assert_eq!((&found[0]["origin"]["name"], &found[2]["reason"]), (&"quayworks".into(), &"unknown".into()));
}

#[test]
fn a_command_leads_to_its_snap_and_not_to_the_managers_program() {
    let answers = ask(&[
        "--path",
        "/snap/bin:/usr/bin",
        "owner",
        "desk",
        "chartdesk_chartdesk.desktop",
        "chartdesk",
        "--format",
        "json",
    ]);
    let document = answers.document();
    for answer in document["answers"].as_array().unwrap() {
        assert_eq!(answer["owner"]["id"], "snap/system/chartdesk/44", "{answer}");
    }
    let hops = document["answers"][0]["hops"].as_array().unwrap();
    assert_eq!((hops.len(), &hops[1]["how"]), (3, &"wrapper".into()), "{hops:?}");
    assert_eq!(document["answers"][2]["hidden"][0]["owner"]["name"], "chartdesk");
    let states = ask(&["states", "chartdesk", "--format", "json"]).document();
    assert_eq!(states["states"][1]["changed"], json!([{ "name": "chartdesk", "from": "2.9.0", "to": "3.0.2" }]));
}

#[test]
fn what_root_alone_may_read_is_said_and_the_rest_is_told() {
    let dir = open_dir();
    let place = lantern(dir.path());
    let mounted = place.join("snap/chartdesk/44/meta");
    fs::create_dir_all(&mounted).unwrap();
    fs::write(
        mounted.join("snap.yaml"),
        "name: chartdesk\nversion: 3.0\napps: {chartdesk: {command: bin/chartdesk}}\n",
    )
    .unwrap();
    let root = place.to_str().unwrap();
    let ran = {
        let _closed = Closed::new(place.join("var/lib/snapd/state.json"));
        run_unprivileged(["--root", root, "inventory", "--all", "--manager", "snap", "--format", "json"])
    };
    let document = ran.document();
    let coverage = document["coverage"].to_string();
    assert!(coverage.contains("state.json: permission denied: channels, flags"), "{coverage}");
    let active = document["packages"].as_array().unwrap().iter().find(|p| p["revision"] == "44").unwrap();
    assert_eq!(
        (&active["version"], &active["active"], &active["channel"]),
        (&"3.0".into(), &true.into(), &Value::Null)
    );

    // An image that is none, and one that is gone.
    let images = place.join("var/lib/snapd/snaps");
    fs::write(images.join("chartdesk_41.snap"), "no image").unwrap();
    fs::remove_file(images.join("harbour-base_7.snap")).unwrap();
    let found = packages(&place);
    let status = |revision: &str| found.iter().find(|p| p["revision"] == revision).unwrap()["status"].clone();
    assert_eq!((status("41"), status("7")), ("disabled".into(), "broken".into()));
    let ran = run(["--root", root, "inventory", "--all"]);
    assert!(ran.err.contains("chartdesk_41.snap: not a squashfs image"), "{ran:?}");
}

#[test]
fn images_made_by_the_real_tool_and_sideloaded_ones_are_read() {
    if !has(&["mksquashfs"]) {
        return;
    }
    let (tree, work) = (open_dir(), tempfile::tempdir().unwrap());
    fs::create_dir_all(work.path().join("payload/meta")).unwrap();
    fs::write(
        work.path().join("payload/meta/snap.yaml"),
        "name: skerry\nversion: '6.0+build7'\nconfinement: classic\n",
    )
    .unwrap();
    fs::create_dir_all(tree.path().join("var/lib/snapd/snaps")).unwrap();
    let image = tree.path().join("var/lib/snapd/snaps/skerry_lab_x2.snap");
    output(Command::new("mksquashfs").arg(work.path().join("payload")).arg(&image).args([
        "-comp",
        "xz",
        "-quiet",
        "-no-progress",
    ]));
    let state = json!({"data": {"snaps": {"skerry_lab": {"type": "app", "instance-key": "lab", "classic": true, "active": true,
        "sequence": [{"name": "skerry", "revision": "x2"}], "current": "x2"}}}});
    fs::write(tree.path().join("var/lib/snapd/state.json"), state.to_string()).unwrap();
    fs::set_permissions(tree.path().join("var/lib/snapd/state.json"), fs::Permissions::from_mode(0o600)).unwrap();
    let found = packages(tree.path());
    let one = &found[0];
    assert_eq!((&one["name"], &one["version"]), (&"skerry_lab".into(), &"6.0+build7".into()));
    assert_eq!((&one["origin"]["trust"], &one["confinement"]), (&"local".into(), &"classic".into()));
}

#[test]
fn a_snap_whose_content_another_uses_is_explained_by_it() {
    let tree = open_dir();
    for (name, yaml) in [("helm", "name: helm\nversion: '1'\n"), ("tide-tables", "name: tide-tables\nversion: '2'\n")] {
        let mounted = tree.path().join(format!("snap/{name}/1/meta"));
        fs::create_dir_all(&mounted).unwrap();
        fs::write(mounted.join("snap.yaml"), yaml).unwrap();
    }
    let one = |name: &str| json!({"type": "app", "active": true, "sequence": [{"name": name, "revision": "1"}], "current": "1"});
    let state = json!({"data": {"snaps": {"helm": one("helm"), "tide-tables": one("tide-tables")},
        "conns": {"helm:tables tide-tables:all": {"auto": true, "interface": "content"}}}});
    fs::create_dir_all(tree.path().join("var/lib/snapd")).unwrap();
    fs::write(tree.path().join("var/lib/snapd/state.json"), state.to_string()).unwrap();
    let root = tree.path().to_str().unwrap();
    let told = run(["--root", root, "why", "tide-tables", "--format", "json"]).document();
    let chains = told["chains"].as_array().unwrap();
    let chain = &chains.iter().find(|one| one["chain"][1].is_object()).unwrap_or_else(|| panic!("{told:#}"))["chain"];
    assert_eq!((&chain[0]["id"], &chain[1]["relation"]), (&"snap/system/helm/1".into(), &"recommends".into()));
    assert_eq!(chain[1]["evidence"][0]["says"], "uses content of tide-tables by its plug tables");
}
