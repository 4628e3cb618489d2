//! Nix itself as the judge: a store and profiles made with its own tools in a temporary directory.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::Command;

use super::support::{can_mount, generated_pairs, has, lantern, not_compared, open_dir, output, run, text};
use serde_json::Value;
use tempfile::TempDir;
use whodunit_core::version::nix;

/// Packages that are built by a static shell, so that nothing of the host is needed.
const SET: &str = r##"
let mk = a: derivation ({ system = builtins.currentSystem; builder = "${./tools}/busybox"; bb = "${./tools}/busybox"; } // a // { args = [ "sh" "-c" a.script ]; });
    one = v: mk { name = "osier-${v}"; script = "$bb mkdir -p $out/bin $out/share/applications; echo \"#!$bb sh\" > $out/bin/osier; $bb chmod +x $out/bin/osier; echo '[Desktop Entry]' > $out/share/applications/osier.desktop"; };
in rec {
  old = one "2.3.9";
  new = one "2.4.0";
  tern = mk { name = "tern-7.0"; outputs = [ "out" "man" ]; dep = old; script = "$bb mkdir -p $out/bin $man/share; echo \"#!$dep/bin/osier\" > $out/bin/tern; $bb chmod +x $out/bin/tern; echo x > $man/share/x"; };
}
"##;

const PROFILES: &str = "/nix/var/nix/profiles/per-user/maren";

struct Made {
    root: TempDir,
    work: TempDir,
}

impl Made {
    /// Runs one of its tools with the made store in the place of the machine's own: `/nix` in a mount
    /// name space, for a profile's links are absolute.
    fn nix(&self, arguments: &[&str]) -> String {
        let config =
            "sandbox = false\nbuild-users-group =\nexperimental-features = nix-command flakes\nsubstituters =\n";
        let mut command = Command::new("unshare");
        command.args(["-m", "sh", "-c", "mount --bind \"$0\" /nix && exec \"$@\""]);
        command.arg(self.root.path().join("nix")).args(arguments);
        command.env("NIX_CONFIG", config).env("NIX_REMOTE", "").env("HOME", self.work.path());
        String::from_utf8(output(command.current_dir(self.work.path()))).unwrap()
    }

    fn env(&self, arguments: &[&str]) -> String {
        self.nix(&[&["nix-env", "-p", &format!("{PROFILES}/profile")], arguments].concat())
    }

    fn ask(&self, arguments: &[&str]) -> Value {
        let root = self.root.path().to_str().unwrap();
        run([&["--root", root, "--format", "json"], arguments].concat()).document()
    }
}

/// A store with two profiles: one of `nix-env`, rolled back, and one of `nix profile`.
fn make() -> Option<Made> {
    if !has(&["nix-env", "nix-store", "nix", "unshare", "busybox"]) {
        return None;
    }
    if !can_mount() || !Path::new("/nix").is_dir() {
        not_compared("needs the right to mount over /nix, and that directory");
        return None;
    }
    let made = Made { root: open_dir(), work: tempfile::tempdir().unwrap() };
    fs::create_dir(made.work.path().join("tools")).unwrap();
    fs::copy("/bin/busybox", made.work.path().join("tools/busybox")).unwrap();
    fs::write(made.work.path().join("set.nix"), SET).unwrap();
    let at = |path: &str| made.root.path().join(path);
    fs::create_dir_all(at("etc")).unwrap();
    fs::create_dir_all(at("home/maren")).unwrap();
    fs::create_dir_all(at(&PROFILES[1..])).unwrap();
    fs::create_dir_all(at("nix/store")).unwrap();
    fs::write(at("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/sh\n").unwrap();
    std::os::unix::fs::symlink("/nix/var/nix/profiles/per-user/maren/profile", at("home/maren/.nix-profile")).unwrap();
    for arguments in [
        &["-f", "set.nix", "-iA", "old"][..],
        &["-f", "set.nix", "-iA", "tern"],
        &["-f", "set.nix", "-iA", "new"],
        &["--set-flag", "active", "false", "tern"],
        &["-e", "osier"],
        &["--rollback"],
    ] {
        made.env(arguments);
    }
    let lone = made.nix(&["nix-build", "--no-out-link", "set.nix", "-A", "old"]);
    made.nix(&["nix", "profile", "install", "--profile", &format!("{PROFILES}/lab"), lone.trim()]);
    Some(made)
}

#[test]
fn profiles_and_their_generations_are_read_as_nix_reads_them() {
    let Some(made) = make() else { return };
    let document = made.ask(&["inventory", "--all"]);
    let packages = document["packages"].as_array().unwrap();
    let of_profile = |link: &str| -> BTreeSet<String> {
        let env = packages.iter().filter(|package| text(&package["location"]).ends_with(link));
        env.map(|package| format!("{}-{}", text(&package["name"]), text(&package["version"]))).collect()
    };
    let theirs: BTreeSet<String> = made.env(&["-q"]).lines().map(str::to_owned).collect();
    assert_eq!(of_profile("/maren/profile"), theirs);
    let listed = made.nix(&["nix", "profile", "list", "--profile", &format!("{PROFILES}/lab")]);
    assert_eq!(of_profile("/maren/lab"), BTreeSet::from(["osier-2.3.9".to_owned()]), "{listed}");
    assert_eq!(listed.lines().count(), 1);

    let states = made.ask(&["states", "profile"]);
    let ours: Vec<(String, bool)> = states["states"]
        .as_array()
        .unwrap()
        .iter()
        .map(|state| (text(&state["number"]), state["current"] == true))
        .collect();
    let theirs: Vec<(String, bool)> = made
        .env(&["--list-generations"])
        .lines()
        .map(|line| (line.split_whitespace().next().unwrap().to_owned(), line.contains("(current)")))
        .collect();
    assert_eq!(ours, theirs);
    let disabled: Vec<&Value> = packages.iter().filter(|package| package["status"] == "disabled").collect();
    assert!(disabled.iter().all(|package| package["name"] == "tern"), "{disabled:?}");
}

#[test]
fn the_store_is_read_as_nix_reads_it_and_nothing_is_left_beside_it() {
    let Some(made) = make() else { return };
    let database = made.root.path().join("nix/var/nix/db");
    let names =
        || -> BTreeSet<_> { fs::read_dir(&database).unwrap().map(|entry| entry.unwrap().file_name()).collect() };
    let before = (names(), fs::metadata(database.join("db.sqlite")).unwrap().modified().unwrap());
    let document = made.ask(&["inventory", "--all"]);
    // An element of a profile with several outputs has the size of all of them.
    let single = |package: &&Value| package["kind"] == "store-path" || package["name"] == "osier";
    let sizes: BTreeMap<String, Value> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .filter(single)
        .map(|package| (format!("/nix/store/{}", text(&package["revision"])), package["size"].clone()))
        .collect();
    assert!(sizes.len() >= 3, "{sizes:?}");
    for (path, size) in &sizes {
        assert_eq!(made.nix(&["nix-store", "-q", "--size", path]).trim(), size.to_string(), "{path}");
    }
    let dead: BTreeSet<String> = made.nix(&["nix-store", "--gc", "--print-dead"]).lines().map(str::to_owned).collect();
    let live: BTreeSet<String> = made.nix(&["nix-store", "--gc", "--print-live"]).lines().map(str::to_owned).collect();
    assert!(!live.is_empty());
    let found = made.ask(&["check", "--level", "note", "--kind", "unreferenced-store-path"])["findings"].clone();
    let told = found.as_array().unwrap();
    assert_eq!(told.is_empty(), dead.is_empty(), "{told:?}");
    for finding in told {
        assert!(text(&finding["summary"]).starts_with(&format!("{} store paths of", dead.len())), "{finding}");
        assert!(finding["paths"].as_array().unwrap().iter().all(|path| dead.contains(&text(path))), "{finding}");
    }
    for path in sizes.keys() {
        let answer = made.ask(&["owner", path])["answers"][0].clone();
        assert_eq!(answer["verdict"], "owned", "{answer}");
        let evidence = answer["evidence"].to_string();
        let lone = text(&answer["owner"]["id"]).contains("/store/");
        assert_eq!(lone && evidence.contains("nothing keeps it"), dead.contains(path), "{path}: {evidence}");
        assert_eq!(!lone || !evidence.contains("nothing keeps it"), live.contains(path), "{path}: {evidence}");
    }
    assert_eq!((names(), fs::metadata(database.join("db.sqlite")).unwrap().modified().unwrap()), before);
}

#[test]
fn programs_are_followed_into_the_store() {
    let Some(made) = make() else { return };
    let search = "/home/maren/.nix-profile/bin";
    let answer = made.ask(&["--path", search, "owner", "osier"])["answers"][0].clone();
    let out_path = made.env(&["-q", "--out-path", "osier"]);
    let out_path = out_path.split_whitespace().next_back().unwrap();
    assert_eq!(answer["owner"]["id"], "nix/user:maren/osier", "{answer}");
    assert_eq!(answer["hops"].as_array().unwrap().last().unwrap()["path"], format!("{out_path}/bin/osier"));
    let shell = format!("{out_path}/bin:/usr/bin");
    let answer = made.ask(&["--path", &shell, "owner", "osier"])["answers"][0].clone();
    assert!(answer["evidence"].to_string().contains("a temporary shell"), "{answer}");
    let nowhere = made.ask(&["owner", &format!("{out_path}/bin/kraken")])["answers"][0].clone();
    assert_eq!(nowhere["verdict"], "not-found");
}

#[test]
fn damage_costs_what_it_hides() {
    let Some(made) = make() else { return };
    let at = |path: &str| made.root.path().join(path);
    let ask = |arguments: &[&str]| made.ask(arguments);
    let states = |document: &Value| -> Vec<String> {
        document["coverage"].as_array().unwrap().iter().map(|part| text(&part["state"])).collect()
    };
    // A manifest of a version to come is said, and not guessed at.
    let target = fs::read_link(at(&format!("{}/lab-1-link", &PROFILES[1..]))).unwrap();
    let lab = at(target.to_str().unwrap().trim_start_matches('/'));
    fs::write(lab.join("manifest.json"), r#"{"version": 9, "elements": []}"#).unwrap();
    let document = ask(&["inventory"]);
    assert!(document["coverage"].to_string().contains("its version is 9"), "{}", document["coverage"]);
    // A damaged database costs the store, not the profile that has names of its own.
    let database = at("nix/var/nix/db/db.sqlite");
    let whole = fs::read(&database).unwrap();
    for damaged in [&b"no database"[..], &whole[..5000]] {
        fs::write(&database, damaged).unwrap();
        let document = ask(&["inventory", "--all"]);
        assert!(document["packages"].to_string().contains("osier"), "{document}");
        assert!(states(&document).contains(&"unreadable".to_owned()), "{}", document["coverage"]);
    }
}

#[test]
fn the_demo_workstation_is_readable_by_nix() {
    let Some(made) = make() else { return };
    let nix = |arguments: &[&str]| {
        let mut command = Command::new("unshare");
        command.args(["-m", "sh", "-c", "mount --bind \"$0\" /nix && exec \"$@\""]).arg(lantern().join("nix"));
        command.args(arguments).env("NIX_CONFIG", "build-users-group =").env("HOME", made.work.path());
        String::from_utf8(output(command.env("NIX_REMOTE", ""))).unwrap()
    };
    let profile = format!("{PROFILES}/profile");
    assert_eq!(nix(&["nix-env", "-p", &profile, "-q"]), "semaphore-1.1\ntidegauge-4.0.1\n");
    let generations = nix(&["nix-env", "-p", &profile, "--list-generations"]);
    assert_eq!(generations.lines().count(), 3);
    assert!(generations.contains("   2   2026-02-13 08:00:00   (current)"), "{generations}");
    let closure = nix(&["nix-store", "-qR", &profile]);
    assert!(closure.contains("-libtide-4.0.1") && !closure.contains("semaphore-1.2"), "{closure}");
}

/// The value of a Nix expression over all pairs at once.
fn evaluate(expression: &str) -> Value {
    let mut command = Command::new("nix-instantiate");
    command.args(["--eval", "--strict", "--json", "-E", expression]);
    let store = tempfile::tempdir().unwrap();
    command.env("NIX_CONFIG", format!("store = {}", store.path().display())).env("HOME", store.path());
    serde_json::from_slice(&output(&mut command)).unwrap()
}

#[test]
fn versions_and_names_are_taken_as_nix_takes_them() {
    if !has(&["nix-instantiate"]) {
        return;
    }
    let mut pairs = generated_pairs(2500, &["", "", "pre", "v"]);
    pairs.extend(generated_pairs(500, &["20240501123000", "1.0pre", "tern-"]));
    let list: String = pairs.iter().map(|(a, b)| format!("[ \"{a}\" \"{b}\" ] ")).collect();
    let orders =
        evaluate(&format!("map (p: builtins.compareVersions (builtins.elemAt p 0) (builtins.elemAt p 1)) [ {list} ]"));
    for ((a, b), theirs) in pairs.iter().zip(orders.as_array().unwrap()) {
        assert_eq!(nix::compare(a.as_bytes(), b.as_bytes()) as i64, theirs.as_i64().unwrap(), "{a} {b}");
    }
    let names: String = pairs.iter().map(|(a, b)| format!("\"osier-{a}-{b}\" ")).collect();
    let split = evaluate(&format!("map builtins.parseDrvName [ {names} ]"));
    for ((a, b), theirs) in pairs.iter().zip(split.as_array().unwrap()) {
        let whole = format!("osier-{a}-{b}");
        let (name, version) = nix::split(whole.as_bytes());
        assert_eq!(String::from_utf8_lossy(name), text(&theirs["name"]), "{whole}");
        assert_eq!(String::from_utf8_lossy(version.unwrap_or_default()), text(&theirs["version"]), "{whole}");
    }
}

#[test]
fn a_system_profile_and_a_result_link_are_known() {
    let tree = open_dir();
    whodunit_demo::write_large_store(&tree.path().join("nixos"), 60, 4).unwrap();
    let root = tree.path().join("nixos");
    let at = |path: &str| root.join(path.trim_start_matches('/'));
    let link = |path: &str, target: &str| {
        fs::create_dir_all(at(path).parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(target, at(path)).unwrap();
    };
    // A system whose programs are in `sw`: the path that refers to them has no manifest.
    let path = |number: u32| format!("/nix/store/{:0>32}-sounding{number}-1.{number}", number.to_string());
    let system = "/nix/store/0d7k4pxh2mz9vq6cw1rj8ynb3s5fgilb-nixos-system-lantern-26.05";
    link(&format!("{system}/sw"), &path(42));
    fs::create_dir_all(at(&path(42))).unwrap();
    fs::create_dir_all(at(&path(51))).unwrap();
    link("/nix/var/nix/profiles/system-12-link", system);
    link("/nix/var/nix/profiles/system", "system-12-link");
    link("/home/maren/charts/result", &path(51));
    link("/nix/var/nix/gcroots/auto/0a1b2c3d", "/home/maren/charts/result");
    let ask = |arguments: &[&str]| {
        run([&["--root", root.to_str().unwrap(), "--format", "json"], arguments].concat()).document()
    };
    let document = ask(&["inventory", "--all"]);
    let of_system: Vec<&Value> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|p| p["location"] == "/nix/var/nix/profiles/system")
        .collect();
    // In the made-up store, 42 refers to 21, 14 and 6.
    let names: BTreeSet<String> = of_system.iter().map(|package| text(&package["name"])).collect();
    assert_eq!(names, ["sounding14", "sounding21", "sounding6"].map(str::to_owned).into());
    let kept = ask(&["owner", &path(51)])["answers"][0]["evidence"].to_string();
    assert!(kept.contains("kept by /home/maren/charts/result"), "{kept}");
    let states = ask(&["states", "system"]);
    assert_eq!((&states["states"][0]["number"], &states["states"][0]["current"]), (&"12".into(), &true.into()));
}
