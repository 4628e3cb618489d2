//! npm, pnpm, yarn, cargo, go, gem and stow as judges, on packages that are made here.

use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value;
use whodunit_core::version::{gem, semver};

use super::quay::{HOME, Quay};
use super::real_python::pairs_of;
use super::support::{as_input, has, lantern, output, text};

fn names_and_versions(quay: &Quay, manager: &str) -> BTreeMap<String, String> {
    quay.packages(manager).into_iter().map(|(_, name, version)| (name, version)).collect()
}

/// Two packages with commands, one of them with a scope.
fn javascript(quay: &Quay) {
    for (dir, name, version) in [("buoytrack", "buoytrack", "2.4.1"), ("lamp", "@harbour/lamp", "1.2.0-beta.1")] {
        let file = format!(
            r#"{{"name":"{name}","version":"{version}","license":"MIT","bin":{{"{dir}":"run.js","{dir}-view":"run.js"}}}}"#
        );
        quay.write(&format!("src/{dir}/package.json"), &file);
        quay.write(&format!("src/{dir}/run.js"), "#!/usr/bin/env node\nconsole.log(1)\n");
        quay.sh(&format!("cd src/{dir}; npm pack --silent >/dev/null"));
    }
}

#[test]
fn global_packages_are_read_as_npm_lists_them() {
    if !has(&["npm", "node"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    javascript(&quay);
    quay.write(".npmrc", "prefix=${HOME}/.npm-global\nfund=false\n");
    quay.sh("npm install --silent -g src/buoytrack/*.tgz >/dev/null; cd src/lamp; npm link --silent >/dev/null");
    let listed: Value = serde_json::from_str(&quay.sh("npm ls -g --depth=0 --json")).unwrap();
    let theirs: BTreeMap<String, String> = listed["dependencies"]
        .as_object()
        .unwrap()
        .iter()
        .map(|(name, one)| (name.clone(), text(&one["version"])))
        .collect();
    let of_user = quay.packages("npm").into_iter().filter(|(scope, ..)| scope == "user:maren");
    let ours: BTreeMap<String, String> = of_user.map(|(_, name, version)| (name, version)).collect();
    assert_eq!(ours, theirs);
    let answer = quay.owners(&[&format!("{HOME}/.npm-global/bin/buoytrack-view")]).remove(0);
    assert_eq!(text(&answer["hops"][0]["owner"]), "npm/user:maren/buoytrack");
    assert_eq!(text(&answer["owner"]["id"]), "npm/user:maren/buoytrack");
    // The checkout that a link leads into is nobody's; who linked it is known.
    let answer = quay.owners(&[&format!("{HOME}/.npm-global/bin/lamp")]).remove(0);
    assert_eq!(
        (text(&answer["hops"][0]["owner"]), text(&answer["verdict"])),
        ("npm/user:maren/@harbour/lamp".into(), "unowned".into())
    );
    // What the distribution put into the global directory is the distribution's.
    let of_system: Vec<_> = quay.packages("npm").into_iter().filter(|(scope, ..)| scope == "system").collect();
    assert!(of_system.is_empty(), "{of_system:?}");
}

#[test]
fn global_packages_are_read_as_pnpm_and_yarn_list_them() {
    if !has(&["npm", "pnpm", "yarn"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    javascript(&quay);
    let pnpm = "export PNPM_HOME=$HOME/.local/share/pnpm PATH=$HOME/.local/share/pnpm:$PATH;";
    quay.sh(&format!("{pnpm} pnpm add -g --silent $HOME/src/lamp/*.tgz >/dev/null; yarn global add --silent --prefix $HOME/.local --global-folder $HOME/.config/yarn/global file:$HOME/src/buoytrack/buoytrack-2.4.1.tgz >/dev/null"));
    let listed: Value = serde_json::from_str(&quay.sh(&format!("{pnpm} pnpm ls -g --json"))).unwrap();
    let theirs: BTreeMap<String, String> = listed[0]["dependencies"]
        .as_object()
        .unwrap()
        .iter()
        .map(|(name, one)| (name.clone(), text(&one["version"])))
        .collect();
    assert_eq!(names_and_versions(&quay, "pnpm"), theirs);
    let answer = quay.owners(&[&format!("{HOME}/.local/share/pnpm/lamp-view")]).remove(0);
    assert_eq!(text(&answer["hops"][0]["how"]), "wrapper", "{answer:#}");
    assert_eq!(text(&answer["hops"][0]["owner"]), "pnpm/user:maren/@harbour/lamp");
    assert_eq!(text(&answer["owner"]["id"]), "pnpm/user:maren/@harbour/lamp");

    let listed = quay.sh("yarn global list --global-folder $HOME/.config/yarn/global");
    assert!(listed.contains("\"buoytrack@2.4.1\""), "{listed}");
    assert_eq!(names_and_versions(&quay, "yarn"), BTreeMap::from([("buoytrack".to_owned(), "2.4.1".to_owned())]));
    let answer = quay.owners(&[&format!("{HOME}/.local/bin/buoytrack")]).remove(0);
    let hops: Vec<String> = answer["hops"].as_array().unwrap().iter().map(|hop| text(&hop["owner"])).collect();
    assert_eq!(hops, ["yarn/user:maren/buoytrack"; 3], "{answer:#}");
}

/// A package that needs two others, of which one needs an older version of the other.
fn lantern_of_parts(quay: &Quay) {
    for (dir, name, version, needs) in [
        ("oil1", "lamp-oil", "1.0.0", ""),
        ("oil2", "lamp-oil", "2.0.0", ""),
        ("wick", "wick", "1.2.0", r#""lamp-oil":"file:HOME/src/oil1/lamp-oil-1.0.0.tgz""#),
        (
            "lantern",
            "lantern",
            "3.0.0",
            r#""wick":"file:HOME/src/wick/wick-1.2.0.tgz","lamp-oil":"file:HOME/src/oil2/lamp-oil-2.0.0.tgz""#,
        ),
    ] {
        let needs = needs.replace("HOME", HOME);
        let file = format!(r#"{{"name":"{name}","version":"{version}","license":"MIT","dependencies":{{{needs}}}}}"#);
        quay.write(&format!("src/{dir}/package.json"), &file);
        quay.sh(&format!("cd src/{dir}; npm pack --silent >/dev/null"));
    }
}

/// Every package of a name in a tree as managers print it: where it lies, and its version.
fn places(tree: &Value, name: &str, found: &mut BTreeMap<String, String>) {
    for (of, one) in tree["dependencies"].as_object().into_iter().flatten() {
        if of == name && one["path"].is_string() {
            found.insert(text(&one["path"]), text(&one["version"]));
        }
        places(one, name, found);
    }
}

#[test]
fn what_lies_inside_packages_is_found_where_npm_pnpm_and_yarn_have_it() {
    if !has(&["npm", "pnpm", "yarn"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    lantern_of_parts(&quay);
    quay.write(".npmrc", "prefix=${HOME}/.npm-global\nfund=false\n");
    let archive = "$HOME/src/lantern/lantern-3.0.0.tgz";
    let pnpm = "export PNPM_HOME=$HOME/.local/share/pnpm PATH=$HOME/.local/share/pnpm:$PATH;";
    let global = "$HOME/.config/yarn/global";
    quay.sh(&format!("npm install --silent -g {archive} >/dev/null; {pnpm} pnpm add -g --silent {archive} >/dev/null"));
    quay.sh(&format!(
        "yarn global add --silent --prefix $HOME/.local --global-folder {global} file:{archive} >/dev/null"
    ));

    let mut theirs = BTreeMap::new();
    let listed: Value =
        serde_json::from_str(&quay.sh("npm ls -g lamp-oil --all --long --json 2>/dev/null || true")).unwrap();
    places(&listed, "lamp-oil", &mut theirs);
    let listed: Value = serde_json::from_str(&quay.sh(&format!("{pnpm} pnpm ls -g --depth 9 --json"))).unwrap();
    places(&listed[0], "lamp-oil", &mut theirs);
    assert_eq!(theirs.len(), 4, "{theirs:#?}");
    // What yarn has at the top is a package of its own; the older one lies inside.
    let said = quay.sh(&format!("yarn why --cwd {global} lamp-oil"));
    assert!(said.contains("\"lamp-oil@2.0.0\"") && said.contains("\"wick#lamp-oil@1.0.0\""), "{said}");
    let yarns = format!("{HOME}/.config/yarn/global/node_modules");
    theirs.insert(format!("{yarns}/wick/node_modules/lamp-oil"), "1.0.0".to_owned());

    let answer = quay.ask(&["why", "lamp-oil", "--inside"]);
    let all = answer["packages"].as_array().unwrap();
    let inside = all.iter().filter(|one| text(&one["id"]).starts_with('/'));
    let ours: BTreeMap<String, String> = inside.map(|one| (text(&one["id"]), text(&one["version"]))).collect();
    assert_eq!(ours, theirs);
    let mut chains: Vec<String> = Vec::new();
    for chain in answer["chains"].as_array().unwrap() {
        let ids = chain["chain"].as_array().unwrap().iter().map(|link| text(&link["id"]));
        let names = ids.map(|id| if id.starts_with('/') { id[id.rfind('/').unwrap() + 1..].to_owned() } else { id });
        chains.push(names.collect::<Vec<_>>().join(" > "));
        assert_eq!(chain["asked_for"], true, "{chain:#}");
    }
    chains.sort();
    let of = |manager: &str, rest: &str| format!("{manager}/user:maren/lantern > {rest}");
    let inner = ["npm", "pnpm"].map(|manager| [of(manager, "lamp-oil"), of(manager, "wick > lamp-oil")]);
    let yarn = [of("yarn", "wick > lamp-oil"), of("yarn", "yarn/user:maren/lamp-oil")];
    let mut expected: Vec<String> = inner.into_iter().flatten().chain(yarn).collect();
    expected.sort();
    assert_eq!(chains, expected);
    // Something of that name is told first; what lies inside is told where nothing else is.
    let answer = quay.ask(&["why", "lamp-oil"]);
    assert_eq!(answer["packages"].as_array().unwrap().len(), 1, "{answer:#}");
    quay.sh("rm -r .config/yarn");
    let answer = quay.ask(&["why", "lamp-oil"]);
    assert_eq!(answer["packages"].as_array().unwrap().len(), 4, "{answer:#}");
}

#[test]
fn versions_are_ordered_as_npm_orders_them() {
    let semver_of_npm = "/usr/lib/node_modules/npm/node_modules/semver";
    if !has(&["node"]) || !std::path::Path::new(semver_of_npm).is_dir() {
        return;
    }
    let pieces = ["-rc", ".1", "-0", "-alpha", ".10", "+b.1", "-1a", ".beta", "-x-y", ".2"];
    let pairs: Vec<(String, String)> = pairs_of(&pieces, 6000);
    let shaped = |version: &str| {
        let tail = version.find(['-', '+']).unwrap_or(version.len());
        let mut parts: Vec<&str> = version[..tail].split('.').filter(|part| !part.is_empty()).take(3).collect();
        parts.resize(3, "0");
        format!("{}{}", parts.join("."), &version[tail..])
    };
    let pairs: Vec<(String, String)> = pairs.iter().map(|(a, b)| (shaped(a), shaped(b))).collect();
    let script = format!(
        "const semver = require('{semver_of_npm}'); for (const [a, b] of JSON.parse(require('fs').readFileSync(0))) {{ \
         console.log(semver.valid(a) && semver.valid(b) ? semver.compare(a, b) : '?') }}"
    );
    let list = serde_json::to_string(&pairs).unwrap();
    let said = String::from_utf8(output(Command::new("node").args(["-e", &script]).stdin(as_input(&list)))).unwrap();
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said.lines()).filter(|(_, theirs)| *theirs != "?") {
        assert_eq!((semver::compare(a.as_bytes(), b.as_bytes()) as i8).to_string(), theirs, "{a} {b}");
        compared += 1;
    }
    assert!(compared >= 2000, "{compared}");
}

#[test]
fn crates_are_read_as_cargo_lists_them() {
    if !has(&["cargo"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let file = "[package]\nname = \"shoal-rs\"\nversion = \"0.3.1\"\nedition = \"2021\"\n[[bin]]\nname = \"shoal\"\npath = \"main.rs\"\n[[bin]]\nname = \"shoal-view\"\npath = \"main.rs\"\n[features]\ndeep = []\n";
    quay.write("src/shoal/Cargo.toml", file);
    quay.write("src/shoal/main.rs", "fn main() {}\n");
    let outside =
        Command::new("sh").args(["-c", "rustup show home 2>/dev/null || echo \"$HOME/.rustup\""]).output().unwrap();
    let rustup = String::from_utf8(outside.stdout).unwrap();
    let cargo = format!("export RUSTUP_HOME={} CARGO_HOME=$HOME/.cargo; cargo ", rustup.trim());
    quay.sh(&format!("{cargo} install --quiet --offline --debug --path src/shoal --features deep 2>&1"));
    quay.sh("rm .cargo/bin/shoal-view; printf '#!/bin/sh\n' > .cargo/bin/copied; chmod +x .cargo/bin/copied");
    let listed = quay.sh(&format!("{cargo} install --list"));
    let theirs: Vec<&str> = listed.lines().filter(|line| !line.starts_with(' ')).collect();
    let document = quay.ask(&["inventory", "--manager", "cargo"]);
    let ours: Vec<String> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            format!(
                "{} v{} ({}):",
                text(&one["name"]),
                text(&one["version"]),
                text(&one["origin"]["url"]).trim_start_matches("file://")
            )
        })
        .collect();
    assert_eq!(ours, theirs);
    // The record still lists a program that was deleted, as cargo does; a copied one is in none.
    assert!(listed.contains("    shoal-view"), "{listed}");
    assert_eq!(text(&document["packages"][0]["status"]), "broken");
    let answers = quay
        .owners(&["shoal", "copied"].map(|name| format!("{HOME}/.cargo/bin/{name}")).each_ref().map(String::as_str));
    assert_eq!(text(&answers[0]["owner"]["id"]), "cargo/user:maren/shoal-rs");
    assert_eq!(text(&answers[1]["verdict"]), "unowned");
}

/// A module in a proxy of files, and a program built in a working copy.
#[test]
fn programs_say_of_themselves_what_go_says_of_them() {
    if !has(&["go", "/usr/bin/python3"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let make = r#"
import zipfile, os
base = "proxy/quay.example/osprey/v2/@v"
os.makedirs(base)
mod = "module quay.example/osprey/v2\n\ngo 1.19\n"
open(base + "/v2.1.0.mod", "w").write(mod)
open(base + "/v2.1.0.info", "w").write('{"Version":"v2.1.0","Time":"2026-01-02T03:04:05Z"}')
open(base + "/list", "w").write("v2.1.0\n")
with zipfile.ZipFile(base + "/v2.1.0.zip", "w") as z:
    z.writestr("quay.example/osprey/v2@v2.1.0/go.mod", mod)
    z.writestr("quay.example/osprey/v2@v2.1.0/main.go", "package main\nfunc main() {}\n")
    z.writestr("quay.example/osprey/v2@v2.1.0/cmd/vane/main.go", "package main\nfunc main() {}\n")
"#;
    quay.write("make.py", make);
    quay.write("src/tern/go.mod", "module quay.example/tern\n\ngo 1.19\n");
    quay.write("src/tern/main.go", "package main\nfunc main() {}\n");
    quay.sh("/usr/bin/python3 make.py
         export GOPROXY=file://$HOME/proxy GONOSUMDB='*' GONOSUMCHECK=1 GOFLAGS=-mod=mod GOSUMDB=off GOTOOLCHAIN=local
         go install quay.example/osprey/v2@v2.1.0; go install -ldflags '-s -w' quay.example/osprey/v2/cmd/vane@v2.1.0
         cd src/tern; go install .; echo text > $HOME/go/bin/notes; chmod -R u+w $HOME/go/pkg");
    let document = quay.ask(&["inventory", "--manager", "go"]);
    let packages = document["packages"].as_array().unwrap();
    assert_eq!(packages.len(), 3);
    for one in packages {
        let file = text(&one["commands"][0]);
        let said = quay.sh(&format!("go version -m {file}"));
        let field = |kind: &str, number: usize| {
            let line =
                said.lines().find(|line| line.starts_with(&format!("\t{kind}\t"))).unwrap_or_default().to_owned();
            line.split('\t').nth(number).unwrap_or_default().to_owned()
        };
        let version = field("mod", 3);
        assert_eq!(text(&one["name"]), field("path", 2), "{said}");
        assert_eq!(text(&one["version"]), if version == "(devel)" { "" } else { &version }, "{said}");
        let evidence = one["evidence"].as_array().unwrap();
        assert!(
            evidence.iter().any(|line| said
                .lines()
                .next()
                .unwrap()
                .ends_with(text(&line["says"]).trim_start_matches("built by ")))
        );
        let answer = quay.owners(&[&file]).remove(0);
        assert_eq!(answer["owner"]["id"], one["id"]);
    }
    let answer = quay.owners(&[&format!("{HOME}/go/bin/notes")]).remove(0);
    assert_eq!(text(&answer["verdict"]), "unowned");
}

#[test]
fn gems_are_read_as_gem_lists_them() {
    if !has(&["gem", "ruby"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let gem_of = |version: &str| {
        format!(
            "Gem::Specification.new do |s|\n s.name='sedge'\n s.version='{version}'\n s.summary='x'\n s.authors=['x']\n s.files=['bin/sedge']\n s.executables=['sedge']\nend\n"
        )
    };
    quay.write("src/bin/sedge", "puts 1\n");
    for version in ["0.7.0", "0.10.0", "0.10.0.pre1"] {
        quay.write(&format!("src/{version}.gemspec"), &gem_of(version));
        quay.sh(&format!("cd src; gem build --silent {version}.gemspec >/dev/null 2>&1; gem install --silent --local --no-document --user-install sedge-{version}.gem >/dev/null 2>&1"));
    }
    let said = quay.sh("ruby -e 'Gem::Specification.each { |s| puts [s.name, s.version].join(\" \") if s.loaded_from.start_with?(Dir.home) }'");
    let mut theirs: Vec<String> = said.lines().map(str::to_owned).collect();
    theirs.sort();
    let document = quay.ask(&["inventory", "--all", "--manager", "gem", "--scope", "user:maren"]);
    let packages = document["packages"].as_array().unwrap();
    let mut ours: Vec<String> =
        packages.iter().map(|one| format!("{} {}", text(&one["name"]), text(&one["version"]))).collect();
    ours.sort();
    assert_eq!(ours, theirs);
    // The stub belongs to the highest version, which is what it starts.
    let stub = quay.sh("ruby -e 'print Gem.user_dir'") + "/bin/sedge";
    let answer = quay.owners(&[&stub]).remove(0);
    assert_eq!(
        (text(&answer["owner"]["name"]), text(&answer["owner"]["version"])),
        ("sedge".into(), "0.10.0".into()),
        "{answer:#}"
    );
    let active: Vec<String> =
        packages.iter().filter(|one| one["active"] == true).map(|one| text(&one["version"])).collect();
    assert_eq!(active, ["0.10.0"]);
    // The distribution's gems are the distribution's.
    let of_system = quay.packages("gem").into_iter().filter(|(scope, ..)| scope == "system").count();
    assert_eq!(of_system, 0);
    let contents = quay.sh("gem contents sedge --version 0.7.0 2>/dev/null");
    let files: Vec<&str> = contents.lines().filter(|line| line.starts_with(HOME)).collect();
    assert!(!files.is_empty(), "{contents}");
    for answer in quay.owners(&files) {
        assert_eq!(text(&answer["owner"]["version"]), "0.7.0", "{answer:#}");
    }
}

#[test]
fn versions_are_ordered_as_rubygems_orders_them() {
    if !has(&["ruby"]) {
        return;
    }
    let pairs = pairs_of(&["0", ".0", ".1", ".10", "a", ".pre", ".rc1", "-2", "b3", ".a.0", ".Z"], 4000);
    let script = "require 'json'; JSON.parse(STDIN.read).each { |a, b| puts Gem::Version.correct?(a) && Gem::Version.correct?(b) ? (Gem::Version.new(a) <=> Gem::Version.new(b)) : '?' }";
    let list = serde_json::to_string(&pairs).unwrap();
    let said = String::from_utf8(output(Command::new("ruby").args(["-e", script]).stdin(as_input(&list)))).unwrap();
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said.lines()).filter(|(_, theirs)| *theirs != "?") {
        assert_eq!((gem::compare(a.as_bytes(), b.as_bytes()) as i8).to_string(), theirs, "{a} {b}");
        compared += 1;
    }
    assert!(compared >= 2000, "{compared}");
}

/// Single links and a folded directory, as the farmer itself lays them.
#[test]
fn the_maker_of_a_link_is_the_package_of_the_farm() {
    let Some(quay) = Quay::new(&["stow"]) else { return };
    quay.write(".local/stow/phalarope-0.4/bin/phalarope", "#!/bin/sh\n");
    quay.write(".local/stow/phalarope-0.4/share/phalarope/chart", "x");
    quay.write(".local/bin/other", "#!/bin/sh\n");
    quay.write(".local/share/own", "x");
    quay.sh("chmod +x .local/stow/*/bin/* .local/bin/other; stow --dir=.local/stow phalarope-0.4");
    let targets = ["bin/phalarope", "share/phalarope/chart", "bin/other"].map(|name| format!("{HOME}/.local/{name}"));
    let answers = quay.owners(&targets.each_ref().map(String::as_str));
    assert_eq!(text(&answers[0]["hops"][0]["owner"]), "stow/user:maren/phalarope-0.4");
    for answer in &answers[..2] {
        assert_eq!(text(&answer["owner"]["id"]), "stow/user:maren/phalarope-0.4", "{answer:#}");
        assert_eq!(
            (text(&answer["owner"]["name"]), text(&answer["owner"]["version"])),
            ("phalarope".into(), "0.4".into())
        );
    }
    assert_eq!(text(&answers[2]["verdict"]), "unowned");
    let remedy = text(&answers[0]["remedies"][0]["command"]);
    quay.sh(&format!("{remedy}; test ! -e .local/bin/phalarope; test -e .local/bin/other"));
}

/// The demo's records, by the tools that own them.
#[test]
fn the_demo_workstation_is_readable_by_the_languages_own_tools() {
    if !has(&["/usr/bin/python3", "npm", "cargo"]) {
        return;
    }
    let lantern = lantern();
    let home = lantern.join("home/maren");
    let run =
        |program: &str, arguments: &[&str]| String::from_utf8(output(Command::new(program).args(arguments))).unwrap();
    let place = |below: &str| home.join(below).to_str().unwrap().to_owned();
    for (dir, expected) in [
        (place(".local/lib/python3.11/site-packages"), &["mooring 0.9.0"][..]),
        (
            place(".local/share/pipx/venvs/swellplot/lib/python3.11/site-packages"),
            &["fairlead 0.3.2", "swellplot 1.9.0"],
        ),
        (place(".local/share/uv/tools/tidegauge/lib/python3.11/site-packages"), &["tidegauge 3.3.0rc1"]),
    ] {
        let listed = run("/usr/bin/python3", &["-m", "pip", "list", "--format", "json", "--path", &dir]);
        let listed: Value = serde_json::from_str(&listed).unwrap();
        let listed: Vec<String> = listed
            .as_array()
            .unwrap()
            .iter()
            .map(|one| format!("{} {}", text(&one["name"]), text(&one["version"])))
            .collect();
        assert_eq!(listed, expected, "{dir}");
    }
    let listed = run("npm", &["ls", "--global", "--json", "--depth=0", "--prefix", &place(".npm-global")]);
    let listed: Value = serde_json::from_str(&listed).unwrap();
    assert_eq!(text(&listed["dependencies"]["buoytrack"]["version"]), "2.4.1", "{listed}");
    let listed = run("cargo", &["install", "--list", "--root", &place(".cargo")]);
    assert_eq!(listed, "shoal v0.9.0 (registry `https://crates.quay.example/index`):\n    shoal\n");
}
