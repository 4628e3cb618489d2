//! Managers that cannot be had here, as trees written by hand from their public documentation: Homebrew, SDKMAN, nvm,
//! fnm, Volta, asdf, jenv, conda. No judge has seen these but the documentation.

use std::collections::BTreeMap;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{run, text, tree};

const PASSWD: (&str, &[u8]) = ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n");

fn ask(root: &TempDir, arguments: &[&str]) -> Value {
    let root = root.path().to_str().unwrap();
    run([&["--root", root, "--format", "json", "--path", "/home/maren/.local/bin:/usr/bin"], arguments].concat())
        .document()
}

/// `NAME VERSION` of each package of a manager, with a star for the one in use.
fn kept(root: &TempDir, manager: &str) -> Vec<String> {
    let document = ask(root, &["inventory", "--all", "--manager", manager]);
    let packages = document["packages"].as_array().unwrap().iter();
    let mut found: Vec<String> = packages
        .map(|one| {
            let star = if one["active"] == true { "*" } else { "" };
            format!("{} {}{star}", text(&one["name"]), text(&one["version"]))
        })
        .collect();
    found.sort();
    found
}

/// From each target to the hops' owners and what finally runs.
fn hops(root: &TempDir, target: &str) -> (Vec<String>, String) {
    let document = ask(root, &["owner", target]);
    let hops = document["answers"][0]["hops"].as_array().unwrap();
    let owners = hops.iter().map(|hop| text(&hop["owner"])).collect();
    (owners, hops.last().map(|hop| text(&hop["path"])).unwrap_or_default())
}

#[test]
fn a_prefix_of_homebrews_is_found_wherever_a_start_up_file_names_it() {
    let keg = |prefix: &str| (format!("{prefix}/Cellar/pochard/3.2/bin/pochard"), &b"#!/bin/sh\n"[..]);
    for (file, line, prefix) in [
        ("etc/paths.d/brew", &b"/srv/brew/bin\n"[..], "/srv/brew"),
        ("etc/profile.d/brew.sh", b"eval \"$(/srv/brew/bin/brew shellenv)\"\n", "/srv/brew"),
        ("home/maren/.profile", b"PATH=\"$HOME/casks/bin:$PATH\"\n", "/home/maren/casks"),
        ("home/maren/.config/fish/conf.d/brew.fish", b"fish_add_path ~/casks/bin\n", "/home/maren/casks"),
    ] {
        let keg = keg(&prefix[1..]);
        let passwd: &[u8] = b"root:x:0:0:root:/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n";
        let root = tree(&[("etc/passwd", passwd), (file, line), (&keg.0, keg.1)]);
        let found = ask(&root, &["inventory", "--all", "--manager", "homebrew"]);
        let dirs: Vec<String> =
            found["packages"].as_array().unwrap().iter().map(|package| text(&package["location"])).collect();
        assert_eq!(dirs, [prefix], "{file}");
    }
}

#[test]
fn kegs_links_and_casks_are_homebrews() {
    let receipt = |request: bool| {
        format!(r#"{{"installed_on_request":{request},"installed_as_dependency":true,"time":1735000000,"source":{{"tap":"homebrew/core","spec":"stable"}}}}"#).into_bytes()
    };
    let (asked, along) = (receipt(true), receipt(false));
    let prefix = "home/linuxbrew/.linuxbrew";
    let at = |below: &str| format!("{prefix}/{below}");
    let files: Vec<(String, &[u8])> = vec![
        (at("Cellar/pochard/3.1_2/INSTALL_RECEIPT.json"), &asked),
        (at("Cellar/pochard/3.1_2/bin/pochard"), b"#!/bin/sh\n"),
        (at("Cellar/pochard/3.1_2/share/doc/pochard/notes"), b"x"),
        (at("Cellar/pochard/3.2/INSTALL_RECEIPT.json"), &asked),
        (at("Cellar/scoter@2/2.0/INSTALL_RECEIPT.json"), &along),
        (at("Cellar/scoter@2/2.0/bin/scoter"), b"#!/bin/sh\n"),
        (at("Cellar/willow/HEAD-9c01de4/INSTALL_RECEIPT.json"), b"{ cut"),
        (at("Cellar/gone/"), b""),
        (at("bin/pochard"), b"-> ../Cellar/pochard/3.1_2/bin/pochard"),
        (at("bin/own"), b"#!/bin/sh\n"),
        (at("share/doc/pochard"), b"-> ../../Cellar/pochard/3.1_2/share/doc/pochard"),
        (at("opt/pochard"), b"-> ../Cellar/pochard/3.1_2"),
        (at("opt/scoter@2"), b"-> ../Cellar/scoter@2/2.0"),
        (at("var/homebrew/linked/pochard"), b"-> ../../../Cellar/pochard/3.1_2"),
        (at("var/homebrew/pinned/pochard"), b"-> ../../../Cellar/pochard/3.1_2"),
        (at("Caskroom/quay-font/7.4,1093/quay.ttf"), b"x"),
        (at("Caskroom/quay-font/.metadata/7.4,1093/20250102030405.678/Casks/quay-font.json"), b"{}"),
        ("home/maren/.linuxbrew/Cellar/pochard/1.0/bin/pochard".to_owned(), b"#!/bin/sh\n"),
        (PASSWD.0.to_owned(), PASSWD.1),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    let root = tree(&files);
    assert_eq!(
        kept(&root, "homebrew"),
        ["pochard 1.0", "pochard 3.1_2*", "pochard 3.2", "quay-font 7.4,1093*", "scoter@2 2.0*", "willow HEAD-9c01de4"]
    );
    let document = ask(&root, &["inventory", "--all", "--manager", "homebrew", "--scope", "system"]);
    let by_id: BTreeMap<String, &Value> =
        document["packages"].as_array().unwrap().iter().map(|one| (text(&one["id"]), one)).collect();
    let in_use = by_id["homebrew/system/pochard/3.1_2"];
    assert_eq!((&in_use["held"], &in_use["reason"]), (&true.into(), &"explicit".into()));
    assert_eq!(text(&in_use["installed_at"]), "2024-12-24T00:26:40Z");
    assert_eq!(text(&by_id["homebrew/system/scoter@2/2.0"]["reason"]), "dependency");
    assert!(text(&by_id["homebrew/system/scoter@2/2.0"]["evidence"][2]["says"]).starts_with("in use, but not linked"));
    let notes = document["coverage"].to_string();
    assert!(notes.contains("willow/HEAD-9c01de4/INSTALL_RECEIPT.json"), "a cut receipt is said: {notes}");
    let keg = "homebrew/system/pochard/3.1_2".to_owned();
    assert_eq!(hops(&root, "/home/linuxbrew/.linuxbrew/bin/pochard").0, [keg.clone(), keg.clone()]);
    let (owners, last) = hops(&root, "/home/linuxbrew/.linuxbrew/share/doc/pochard/notes");
    assert_eq!((owners.last(), last.ends_with("3.1_2/share/doc/pochard/notes")), (Some(&keg), true));
    assert_eq!(hops(&root, "/home/linuxbrew/.linuxbrew/bin/own").0, [""]);
}

#[test]
fn versions_are_kept_on_purpose_and_one_is_chosen() {
    let sdk = "home/maren/.sdkman/candidates/almanac";
    let sdk_files = [
        (format!("{sdk}/3.9.2/bin/almanac"), &b"#!/bin/sh\n"[..]),
        (format!("{sdk}/4.1.0/bin/almanac"), b"#!/bin/sh\n"),
        (format!("{sdk}/mine"), b"-> /opt/almanac"),
        (format!("{sdk}/current"), b"-> 4.1.0"),
    ];
    let node = "#!/bin/sh\n".as_bytes();
    let mut files: Vec<(&str, &[u8])> = sdk_files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    files.extend([
        ("home/maren/.sdkmanrc", &b"almanac=3.9.2\n"[..]),
        ("opt/almanac/bin/almanac", node),
        ("home/maren/.nvm/nvm.sh", b"# functions\n"),
        ("home/maren/.nvm/versions/node/v20.2.0/bin/node", node),
        ("home/maren/.nvm/versions/node/v24.1.0/bin/node", node),
        ("home/maren/.nvm/alias/default", b"mine\n"),
        ("home/maren/.nvm/alias/mine", b"lts/*\n"),
        ("home/maren/.nvm/alias/lts/*", b"lts/krypton\n"),
        ("home/maren/.nvm/alias/lts/krypton", b"v20\n"),
        ("home/maren/.nvmrc", b"24\n"),
        ("home/maren/.local/share/fnm/node-versions/v18.0.0/installation/bin/node", node),
        ("home/maren/.local/share/fnm/node-versions/v22.3.0/installation/bin/node", node),
        (
            "home/maren/.local/share/fnm/aliases/default",
            b"-> /home/maren/.local/share/fnm/node-versions/v18.0.0/installation",
        ),
        ("home/maren/.jenv/versions/21", b"-> /opt/jdk-21"),
        ("home/maren/.jenv/version", b"21\n"),
        ("home/maren/.jenv/shims/java", b"#!/bin/sh\n"),
        ("opt/jdk-21/bin/java", node),
        PASSWD,
    ]);
    let root = tree(&files);
    assert_eq!(kept(&root, "sdkman"), ["almanac 3.9.2", "almanac 4.1.0*", "almanac mine", "sdkman *"]);
    assert_eq!(kept(&root, "nvm"), ["node 20.2.0*", "node 24.1.0", "nvm *"]);
    assert_eq!(kept(&root, "fnm"), ["node 18.0.0*", "node 22.3.0"]);
    let (owners, last) = hops(&root, "/home/maren/.sdkman/candidates/almanac/current/bin/almanac");
    assert_eq!(owners.last().unwrap(), "sdkman/user:maren/almanac/4.1.0");
    assert!(last.ends_with("/4.1.0/bin/almanac"));
    // What a file asks for is told where it decides nothing yet.
    let told = ask(&root, &["inventory", "almanac", "node"])["packages"].to_string();
    assert!(
        told.contains("almanac=3.9.2: takes effect after `sdk env`")
            && told.contains("24 is requested here; it takes effect after `nvm use`")
    );
    let (owners, last) = hops(&root, "/home/maren/.jenv/shims/java");
    assert_eq!((owners[0].as_str(), last.as_str()), ("jenv/user:maren/jenv", "/opt/jdk-21/bin/java"));
    // None of the versions beside one another is a conflict.
    let place = root.path().to_str().unwrap();
    let path = "/home/maren/.nvm/versions/node/v24.1.0/bin:/home/maren/.local/share/fnm/node-versions/v22.3.0/installation/bin";
    let shadows = run(["--root", place, "--path", path, "--format", "json", "shadows"]).document();
    assert_eq!(text(&shadows["shadows"][0]["severity"]), "note", "{shadows:#}");
}

#[test]
fn shims_of_asdf_and_volta_choose_by_their_files() {
    let asdf = "home/maren/.asdf";
    let shim = b"#!/bin/sh\n# asdf-plugin: scoter 4.2.0\n# asdf-plugin: scoter 5.0.1\nexec asdf exec scoter\n";
    let volta = "home/maren/.volta";
    let at = |base: &str, below: &str| format!("{base}/{below}");
    let program = &b"#!/bin/sh\n"[..];
    let files: Vec<(String, &[u8])> = vec![
        (at(asdf, "installs/scoter/4.2.0/bin/scoter"), program),
        (at(asdf, "installs/scoter/5.0.1/bin/scoter"), program),
        (at(asdf, "shims/scoter"), shim),
        (at(asdf, "shims/lost"), b"#!/bin/sh\n# asdf-plugin: lost 1.0\n"),
        ("home/maren/.tool-versions".to_owned(), b"# tools\nscoter 7.0 4.2.0 # first one that is there\n"),
        (at(volta, "bin/node"), b"-> volta-shim"),
        (at(volta, "bin/npx"), b"-> volta-shim"),
        (at(volta, "bin/buoytrack"), b"-> volta-shim"),
        (at(volta, "bin/yarn"), b"-> volta-shim"),
        (at(volta, "bin/volta-shim"), program),
        (at(volta, "tools/image/node/20.2.0/bin/node"), program),
        (at(volta, "tools/image/node/20.2.0/bin/npx"), program),
        (at(volta, "tools/image/node/24.1.0/bin/node"), program),
        (at(volta, "tools/image/packages/buoytrack/bin/buoytrack"), program),
        (
            at(volta, "tools/user/bins/buoytrack.json"),
            br#"{"name":"buoytrack","package":"buoytrack","version":"2.4.1"}"#,
        ),
        (at(volta, "tools/user/platform.json"), br#"{"node":{"runtime":"20.2.0","npm":null},"pnpm":null,"yarn":null}"#),
        ("home/maren/package.json".to_owned(), br#"{"volta":{"extends":"./base.json"}}"#),
        ("home/maren/base.json".to_owned(), br#"{"volta":{"node":"24.1.0"}}"#),
        (PASSWD.0.to_owned(), PASSWD.1),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    let root = tree(&files);
    assert_eq!(kept(&root, "asdf"), ["asdf *", "scoter 4.2.0", "scoter 5.0.1"]);
    assert_eq!(kept(&root, "volta"), ["buoytrack 2.4.1*", "node 20.2.0", "node 24.1.0*", "volta *"]);
    for (shim, ends_in) in [
        ("/home/maren/.asdf/shims/scoter", "/home/maren/.asdf/installs/scoter/4.2.0/bin/scoter"),
        ("/home/maren/.asdf/shims/lost", "/home/maren/.asdf/shims/lost"),
        ("/home/maren/.volta/bin/node", "/home/maren/.volta/tools/image/node/24.1.0/bin/node"),
        // Its own npm is not chosen, and the chosen node has no npx: nothing would start.
        ("/home/maren/.volta/bin/npx", "/home/maren/.volta/bin/npx"),
        ("/home/maren/.volta/bin/yarn", "/home/maren/.volta/bin/yarn"),
        ("/home/maren/.volta/bin/buoytrack", "/home/maren/.volta/tools/image/packages/buoytrack/bin/buoytrack"),
    ] {
        assert_eq!(hops(&root, shim).1, ends_in);
    }
    assert_eq!(hops(&root, "/home/maren/.volta/bin/buoytrack").0, ["volta/user:maren/buoytrack"; 2]);
}

#[test]
fn environments_of_conda_name_channel_build_and_what_was_asked_for() {
    let base = "home/maren/miniforge3";
    let meta = |name: &str, version: &str, files: &str| {
        format!(r#"{{"name":"{name}","version":"{version}","build":"h1_0","build_number":0,"channel":"https://conda.quay.example/harbour/linux-64","subdir":"linux-64","size":42,"files":[{files}],"requested_spec":"None"}}"#)
            .replace("\"None\"", "\"\"")
            .into_bytes()
    };
    let (swell, tide) =
        (meta("swell", "1!2.0", "\"bin/swell\", \"../../outside\""), meta("tide", "3.1", "\"lib/libtide.so\""));
    let at = |below: &str| format!("{base}/{below}");
    let info = "envs/lab/lib/python3.12/site-packages/mooring-0.9.0.dist-info";
    let files: Vec<(String, &[u8])> = vec![
        (at("conda-meta/history"), b"# update specs: [\"swell >=2\"]\n"),
        (at("conda-meta/pinned"), b"tide 3.*\n"),
        (at("conda-meta/swell-1!2.0-h1_0.json"), &swell),
        (at("conda-meta/tide-3.1-h1_0.json"), &tide),
        (at("conda-meta/cut-1-0.json"), b"{\"name\":\"cut\""),
        (at("bin/swell"), b"#!/bin/sh\n"),
        (at("lib/libtide.so"), b"x"),
        (at("envs/lab/conda-meta/history"), b""),
        (at("envs/lab/conda-meta/tide-3.1-h1_0.json"), &tide),
        (at(&format!("{info}/METADATA")), b"Name: mooring\nVersion: 0.9.0\n"),
        (at(&format!("{info}/INSTALLER")), b"pip\n"),
        ("outside".to_owned(), b"x"),
        (PASSWD.0.to_owned(), PASSWD.1),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    let root = tree(&files);
    let document = ask(&root, &["inventory", "--all", "--manager", "conda"]);
    let found: Vec<String> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let held = if one["held"] == true { " held" } else { "" };
            format!(
                "{} {} {} {} {}{held}",
                text(&one["scope"]),
                text(&one["name"]),
                text(&one["version"]),
                text(&one["channel"]),
                text(&one["reason"])
            )
        })
        .collect();
    let mut found = found;
    found.sort();
    assert_eq!(
        found,
        [
            "environment:/home/maren/miniforge3 swell 1!2.0 harbour explicit",
            "environment:/home/maren/miniforge3 tide 3.1 harbour dependency held",
            "environment:/home/maren/miniforge3/envs/lab tide 3.1 harbour unknown",
        ]
    );
    assert!(document["coverage"].to_string().contains("cut-1-0.json"));
    assert_eq!(hops(&root, "/home/maren/miniforge3/bin/swell").0, ["conda/environment:/home/maren/miniforge3/swell"]);
    assert_eq!(hops(&root, "/outside").0, [""]);
    // What pip put into an environment of conda's is pip's.
    let pip = ask(&root, &["inventory", "--all", "--manager", "pip"]);
    assert_eq!(text(&pip["packages"][0]["id"]), "pip/environment:/home/maren/miniforge3/envs/lab/mooring");
}
