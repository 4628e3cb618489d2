//! `gh`, Legendary, cabal and podman as judges, on extensions, entries, packages and images that are made here.

use std::collections::BTreeSet;

use serde_json::Value;

use super::quay::{HOME, Quay};
use super::support::text;

const EXTENSIONS: &str = ".local/share/gh/extensions";

#[test]
fn extensions_are_read_as_gh_lists_them() {
    let Some(quay) = Quay::new(&["gh", "git"]) else { return };
    let manifest =
        "owner: quay\nname: gh-tide\nhost: quay.example\ntag: v1.2.0\nispinned: true\npath: /elsewhere/gh-tide\n";
    quay.write(&format!("{EXTENSIONS}/gh-tide/manifest.yml"), manifest);
    quay.write(&format!("{EXTENSIONS}/gh-tide/gh-tide"), "x\n");
    quay.write(&format!("{EXTENSIONS}/gh-rope/gh-rope"), "#!/bin/sh\n");
    quay.write("src/gh-own/gh-own", "#!/bin/sh\n");
    let git = "git -c user.name=Maren -c user.email=maren@harbour.example";
    quay.sh(&format!(
        "chmod 755 src/gh-own/gh-own {EXTENSIONS}/*/gh-*
         cd $HOME/{EXTENSIONS}/gh-rope; git init -q .; git remote add origin https://quay.example/harbour/gh-rope.git
         git add .; {git} commit -qm first
         cd $HOME/src/gh-own; git init -q .; GH_TOKEN=none gh extension install . >/dev/null 2>&1"
    ));
    let listed = || -> BTreeSet<String> {
        let said = quay.sh("GH_TOKEN=none gh extension list");
        said.lines().map(|line| line.trim_start_matches("gh ").trim_end().to_owned()).collect()
    };
    let ours = || -> BTreeSet<String> {
        let document = quay.ask(&["inventory", "--all", "--manager", "gh"]);
        let packages = document["packages"].as_array().unwrap().iter();
        let row = |one: &Value| {
            let origin = &one["origin"];
            let repository = if origin["trust"] == "local" { String::new() } else { text(&origin["name"]) };
            let tag = if repository.starts_with("quay/") { "v" } else { "" };
            let version = one["version"].as_str().map(|version| format!("{tag}{version}")).unwrap_or_default();
            format!("{}\t{repository}\t{version}", text(&one["name"])).trim_end().to_owned()
        };
        packages.map(row).collect()
    };
    assert_eq!(listed().len(), 3);
    assert_eq!(ours(), listed());
    // A checkout whose references were packed.
    quay.sh(&format!("cd {EXTENSIONS}/gh-rope; git pack-refs --all"));
    assert_eq!(ours(), listed());
    let tide = quay.ask(&["inventory", "--all", "--manager", "gh"]);
    let tide = tide["packages"].as_array().unwrap().iter().find(|one| one["name"] == "tide").unwrap().clone();
    assert_eq!(tide["held"], true, "{tide:#}");
    for (file, owner) in [("gh-tide/gh-tide", "tide"), ("gh-rope/gh-rope", "rope"), ("gh-own", "own")] {
        let answer = quay.owners(&[&format!("{HOME}/{EXTENSIONS}/{file}")]).remove(0);
        assert_eq!(text(&answer["hops"][0]["owner"]), format!("gh/user:maren/{owner}"), "{answer:#}");
    }
    // The command that removes one, as it is printed; what is the user's own stays.
    for name in ["rope", "own"] {
        let answer = quay.owners(&[&format!("package:gh/user:maren/{name}")]).remove(0);
        let way = &answer["remedies"][0];
        assert_eq!(text(&way["command"]), format!("gh extension remove {name}"), "{answer:#}");
        quay.sh(&format!("GH_TOKEN=none {} >/dev/null 2>&1", text(&way["command"])));
    }
    assert_eq!(ours(), listed());
    assert_eq!(ours().len(), 1);
    assert!(quay.at("src/gh-own/gh-own").exists());
}

#[test]
fn games_are_read_as_legendary_lists_them() {
    let Some(quay) = Quay::new(&["legendary"]) else { return };
    let entry = |id: &str, title: &str, dir: &str, more: &str| {
        format!(
            r#""{id}":{{"app_name":"{id}","title":"{title}","version":"1.4","install_path":"{dir}","install_size":2048,"platform":"Linux","executable":"run","needs_verification":false{more}}}"#
        )
    };
    let games = format!("{HOME}/Games/Tugboat");
    let content = [
        entry("Tug", "Tugboat", &games, ""),
        entry("TugMap", "Tugboat: the Map", &games, r#","is_dlc":true"#),
        entry("All", "Everything", HOME, ""),
        entry("Gone", "Lost Anchor", &format!("{HOME}/Games/Gone"), ""),
    ]
    .join(",");
    quay.write(".config/legendary/installed.json", &format!("{{{content}}}"));
    let assets = ["Tug", "TugMap", "All", "Gone"].map(|id| {
        format!(r#"{{"app_name":"{id}","asset_id":"a","build_version":"1.4","catalog_item_id":"c","label_name":"l","namespace":"n"}}"#)
    });
    quay.write(".config/legendary/assets.json", &format!(r#"{{"Linux":[{}]}}"#, assets.join(",")));
    quay.write("Games/Tugboat/run", "x");
    let said = quay.sh("legendary list-installed --json 2>/dev/null");
    let theirs: Vec<Value> = serde_json::from_str(&said).unwrap_or_else(|error| panic!("{error}: {said}"));
    let row = |id: &Value, title: &Value, version: &Value| format!("{} {} {}", text(id), text(title), text(version));
    let theirs: BTreeSet<String> =
        theirs.iter().map(|one| row(&one["app_name"], &one["title"], &one["version"])).collect();
    let document = quay.ask(&["inventory", "--all", "--manager", "legendary"]);
    let packages = document["packages"].as_array().unwrap();
    let id = |one: &Value| text(&one["id"]).rsplit('/').next().unwrap_or_default().to_owned();
    let ours: BTreeSet<String> =
        packages.iter().map(|one| row(&id(one).into(), &one["name"], &one["version"])).collect();
    assert!(ours.len() > 2);
    assert_eq!(ours, theirs);
    let broken: Vec<String> = packages.iter().filter(|one| one["status"] == "broken").map(id).collect();
    assert_eq!(broken, ["Gone"]);
    let of = |file: &str| text(&quay.owners(&[&format!("{HOME}/{file}")]).remove(0)["owner"]["id"]);
    assert_eq!(of("Games/Tugboat/run"), "legendary/user:maren/Tug");
    // Nobody's home is a game.
    assert_eq!(of(".config/legendary/installed.json"), "");
}

#[test]
fn programs_of_cabal_are_those_that_it_linked() {
    let Some(quay) = Quay::new(&["cabal", "ghc"]) else { return };
    for (name, version, program) in [("tide-2d-gauge", "0.3.1", "tide"), ("rope", "2", "rope")] {
        quay.write(
            &format!("src/{name}/{name}.cabal"),
            &format!(
                "cabal-version: 2.4\nname: {name}\nversion: {version}\nlicense: MIT\nexecutable {program}\n  main-is: Main.hs\n  \
                 build-depends: base\n  default-language: Haskell2010\n"
            ),
        );
        quay.write(&format!("src/{name}/Main.hs"), "main = putStrLn \"made up\"\n");
    }
    // A repository on this disk, with nothing in it.
    quay.write(".cabal/config", "repository nothing\n  url: file+noindex:///home/maren/empty\n");
    quay.sh("mkdir -p empty .local/bin
         (cd src/tide-2d-gauge; cabal install --offline -v0 2>/dev/null)
         (cd src/rope; cabal install --offline -v0 --installdir=$HOME/.local/bin 2>/dev/null)
         cp .cabal/bin/tide .cabal/bin/copied");
    let read: Vec<String> =
        quay.packages("cabal").into_iter().map(|(_, name, version)| format!("{name} {version}")).collect();
    assert_eq!(read, ["rope 2", "tide-2d-gauge 0.3.1"]);
    for (link, name) in [(".cabal/bin/tide", "tide-2d-gauge"), (".local/bin/rope", "rope")] {
        let target = quay.sh(&format!("readlink -f {link}"));
        let answer = quay.owners(&[&format!("{HOME}/{link}")]).remove(0);
        let last = &answer["hops"].as_array().unwrap().last().unwrap()["path"];
        assert_eq!((text(&answer["owner"]["name"]).as_str(), text(last).as_str()), (name, target.trim()), "{answer:#}");
    }
    assert_eq!(quay.owners(&[&format!("{HOME}/.cabal/bin/copied")]).remove(0)["verdict"], "unowned");
}

#[test]
fn an_image_is_there_where_podman_has_it() {
    let Some(quay) = Quay::new(&["podman", "tar"]) else { return };
    let podman = "podman --root $HOME/.local/share/containers/storage --runroot $HOME/run --storage-driver vfs";
    quay.write(".local/bin/tide", "#!/bin/sh\nexec podman run --rm harbour/tide:3.1 tide \"$@\"\n");
    quay.sh(&format!(
        "chmod 755 .local/bin/tide; echo x > x; tar cf x.tar x
         {podman} import --quiet x.tar quay.example/harbour/tide:3.1 >/dev/null 2>&1"
    ));
    let is_there = || {
        let answer = quay.owners(&[&format!("{HOME}/.local/bin/tide")]).remove(0);
        assert_eq!(text(&answer["owner"]["version"]), "3.1", "{answer:#}");
        answer["evidence"].to_string().contains("the image harbour/tide:3.1, which is there")
    };
    let listed =
        || quay.sh(&format!("{podman} images --noheading --format '{{{{.Repository}}}}:{{{{.Tag}}}}' 2>/dev/null"));
    assert_eq!((listed().trim(), is_there()), ("quay.example/harbour/tide:3.1", true));
    quay.sh(&format!("{podman} tag quay.example/harbour/tide:3.1 quay.example/harbour/tide:3.10; {podman} untag quay.example/harbour/tide:3.1 quay.example/harbour/tide:3.1"));
    assert_eq!((listed().trim(), is_there()), ("quay.example/harbour/tide:3.10", false));
}
