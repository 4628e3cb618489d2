//! Bad input in homes: records that lead out of their place, code that must not be run, files that are huge, damaged
//! or closed.

use serde_json::Value;

use super::support::{Closed, Ran, run, run_unprivileged, tree};

const PASSWD: (&str, &[u8]) =
    ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\ntobin:x:1001:1001::/home/tobin:/bin/sh\n");
const SITE: &str = "home/maren/lab/lib/python3.11/site-packages";

fn owner(root: &std::path::Path, target: &str) -> Value {
    let ran = run(["--root", root.to_str().unwrap(), "--format", "json", "owner", target]);
    ran.document()["answers"][0].clone()
}

fn inventory(root: &std::path::Path, more: &[&str]) -> Ran {
    run([&["--root", root.to_str().unwrap(), "--format", "json", "inventory", "--all"], more].concat())
}

#[test]
fn a_record_owns_nothing_outside_its_environment() {
    let info = format!("{SITE}/knots-1.2.dist-info");
    let record =
        "knots.py,,\n/etc/passwd,,\n../../../../../../etc/hostname,,\n../../../bin/knot,,\n../../../../outside,,\n";
    let files = [
        ("home/maren/lab/pyvenv.cfg".to_owned(), "home = /usr/bin\n"),
        (format!("{info}/METADATA"), "Name: knots\nVersion: 1.2\n"),
        (format!("{info}/RECORD"), record),
        (format!("{SITE}/knots.py"), "x"),
        ("home/maren/lab/bin/knot".to_owned(), "#!/bin/sh\n"),
        ("home/maren/outside".to_owned(), "x"),
        ("etc/hostname".to_owned(), "lantern\n"),
        (PASSWD.0.to_owned(), std::str::from_utf8(PASSWD.1).unwrap()),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), content.as_bytes())).collect();
    let root = tree(&files);
    for (target, verdict) in [
        ("/home/maren/lab/bin/knot", "owned"),
        ("/home/maren/lab/lib/python3.11/site-packages/knots.py", "owned"),
        ("/etc/passwd", "unowned"),
        ("/etc/hostname", "unowned"),
        ("/home/maren/outside", "unowned"),
    ] {
        assert_eq!(owner(root.path(), target)["verdict"], verdict, "{target}");
    }
    let ran = run(["--root", root.path().to_str().unwrap(), "--format", "json", "owner", "/home/maren/lab/bin/knot"]);
    let coverage = ran.document()["coverage"].to_string();
    assert!(coverage.contains("RECORD: 3 paths point outside /home/maren/lab"), "{coverage}");
}

#[test]
fn damage_costs_the_damaged_record_and_is_said() {
    let pth = format!("import os; os.system('touch /tmp/{}')\n", "whodunit-must-not-run-this");
    let half = "{\"main_package\": {";
    let huge = vec![b' '; 50 << 20];
    let files: Vec<(String, &[u8])> = vec![
        ("home/maren/lab/pyvenv.cfg".to_owned(), b"home = /usr/bin\n"),
        (format!("{SITE}/evil.pth"), pth.as_bytes()),
        (format!("{SITE}/knots-1.2.dist-info/METADATA"), b"\xff\xfe\x00"),
        (format!("{SITE}/mooring-0.9.dist-info/INSTALLER"), b"pip\n"),
        (format!("{SITE}/swell-1.dist-info/METADATA"), b"Name: swell\nVersion: 1\n"),
        (format!("{SITE}/swell-1.dist-info/direct_url.json"), b"{"),
        (format!("{SITE}/~ell-0.9.dist-info/METADATA"), b"Name: swell\nVersion: 0.9\n"),
        ("home/maren/.local/share/pipx/venvs/tide/pipx_metadata.json".to_owned(), half.as_bytes()),
        ("home/maren/.local/share/pipx/venvs/vast/pipx_metadata.json".to_owned(), &huge),
        ("home/maren/.npm-global/lib/node_modules/buoy/package.json".to_owned(), &huge),
        ("home/maren/.npm-global/lib/node_modules/empty/".to_owned(), b""),
        ("home/maren/.npm-global/lib/node_modules/.tern-Xy12/package.json".to_owned(), b"{}"),
        ("home/maren/.cargo/.crates.toml".to_owned(), b"[v1\n"),
        (
            "home/maren/.cargo/.crates2.json".to_owned(),
            br#"{"installs":{"shoal 0.9.0 (path+file:///x)":{"bins":["shoal"]},"junk":{}}}"#,
        ),
        ("home/maren/.rustup/settings.toml".to_owned(), b"default_toolchain = "),
        ("home/maren/.rustup/toolchains/stable-x86_64-unknown-linux-gnu/bin/rustc".to_owned(), b"x"),
        (PASSWD.0.to_owned(), PASSWD.1),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    let root = tree(&files);
    let ran = inventory(root.path(), &[]);
    let document = ran.document();
    let mut found: Vec<String> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!(
                "{} {} {}",
                one["manager"].as_str().unwrap(),
                one["name"].as_str().unwrap(),
                one["version"].as_str().unwrap_or("?")
            )
        })
        .collect();
    found.sort();
    assert_eq!(
        found,
        [
            "cargo shoal 0.9.0",
            "npm buoy ?",
            "npm empty ?",
            "pip knots 1.2",
            "pip mooring 0.9",
            "pip swell 1",
            "pipx tide ?",
            "pipx vast ?",
            "rustup stable-x86_64-unknown-linux-gnu ?",
        ]
    );
    let coverage = document["coverage"].to_string();
    for said in [
        "knots-1.2.dist-info/METADATA: has no name or version",
        "mooring-0.9.dist-info/METADATA: no such file or directory: name and version are taken from the directory's name",
        "swell-1.dist-info/direct_url.json: damaged: where swell came from is unknown",
        "venvs/tide/pipx_metadata.json: EOF while parsing",
        "venvs/vast/pipx_metadata.json: larger than",
        "node_modules/buoy/package.json: larger than",
        "node_modules/empty/package.json: no such file or directory: the version of empty is unknown",
        ".cargo/.crates.toml:",
        "not a package name: junk",
        ".rustup/settings.toml:",
    ] {
        assert!(coverage.contains(said), "{said}: {coverage}");
    }
    assert!(!std::path::Path::new("/tmp/whodunit-must-not-run-this").exists());
    assert_eq!(run(["--root", root.path().to_str().unwrap(), "--strict", "inventory"]).status, 3);
}

#[test]
fn a_home_that_may_not_be_read_is_said_with_its_users_name() {
    let root =
        tree(&[("home/maren/.cargo/.crates.toml", b"[v1]\n"), ("home/tobin/.cargo/.crates.toml", b"[v1]\n"), PASSWD]);
    let ran = {
        let _closed = Closed::new(root.path().join("home/tobin"));
        run_unprivileged(["--root", root.path().to_str().unwrap(), "--format", "json", "inventory"])
    };
    let coverage = ran.document()["coverage"].clone();
    let closed = coverage.as_array().unwrap().iter().find(|part| part["scope"] == "user:tobin").unwrap();
    assert_eq!((&closed["state"], &closed["location"]), (&"unreadable".into(), &"/home/tobin".into()));
    assert!(closed["notes"][0].as_str().unwrap().starts_with("in the home of tobin: permission denied"), "{closed}");
}

/// Links and files that lead in circles, and names that are none.
#[test]
fn circles_in_homes_come_to_an_end() {
    let root = tree(&[
        ("home/maren/.pyenv/versions/3.9.1/bin/python", b"x"),
        ("home/maren/.pyenv/versions/round", b"-> round"),
        ("home/maren/.pyenv/version", b"round\n../../etc\n3.9.1/../3.9.1\n"),
        ("home/maren/.pyenv/shims/python", b"#!/bin/sh\n"),
        ("home/maren/.nvm/nvm.sh", b""),
        ("home/maren/.nvm/versions/node/v1.0.0/bin/node", b"x"),
        ("home/maren/.nvm/alias/default", b"a\n"),
        ("home/maren/.nvm/alias/a", b"b\n"),
        ("home/maren/.nvm/alias/b", b"a\n"),
        ("home/maren/.volta/tools/image/node/1.0.0/bin/node", b"x"),
        ("home/maren/.volta/bin/node", b"-> volta-shim"),
        ("home/maren/package.json", br#"{"volta":{"extends":"package.json"}}"#),
        ("home/maren/.sdkman/candidates/almanac/current", b"-> current"),
        ("home/maren/.local/stow/loop/bin", b"-> ../../../stow/loop/bin"),
        PASSWD,
    ]);
    let ran = inventory(root.path(), &[]);
    assert_eq!(ran.status, 0, "{ran:?}");
    for shim in ["/home/maren/.pyenv/shims/python", "/home/maren/.volta/bin/node"] {
        let answer = owner(root.path(), shim);
        assert_eq!(answer["hops"][0]["how"], "shim", "{answer:#}");
        assert_eq!(answer["hops"].as_array().unwrap().len(), 1, "{answer:#}");
    }
    assert!(ran.document()["coverage"].to_string().contains("almanac has no default"));
}
