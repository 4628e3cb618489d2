//! Managers that cannot be had here, as trees written by hand from their public formats: XBPS, Slackware's package
//! tools, opkg, pub and .NET's tools. No judge has seen these but the documentation. And what damage to each costs.

use std::fs;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{run, text, tree};

pub fn ask(made: &TempDir, arguments: &[&str]) -> Value {
    run([&["--root", made.path().to_str().unwrap(), "--format", "json"], arguments].concat()).document()
}

const PKGDB: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0"><dict>
<key>_XBPS_ALTERNATIVES_</key><dict/>
<key>tide-gauge</key>
<dict><key>architecture</key><string>x86_64</string><key>install-date</key><string>2026-01-01 00:00 UTC</string>
<key>installed_size</key><integer>2048</integer><key>pkgver</key><string>tide-gauge-3.1_2</string>
<key>repository</key><string>https://quay.example/current</string><key>run_depends</key><array><string>rope&gt;=0.2_1</string></array>
<key>hold</key><true/><key>state</key><string>installed</string></dict>
<key>rope</key>
<dict><key>automatic-install</key><true/><key>pkgver</key><string>rope-0.2_1</string><key>state</key><string>installed</string></dict>
</dict></plist>
"#;

fn void() -> TempDir {
    let digest = "c4c6a0d9ecce0ff41a1fcb5f2eb3a2ae37ff2cd5ca1f0b7cf38e6b3e41e2bb1b";
    let files = format!(
        "<plist version=\"1.0\"><dict>\n<key>files</key><array><dict>\n<key>file</key><string>/usr/bin/gauge</string>\
         <key>sha256</key><string>{digest}</string></dict></array>\n<key>links</key><array><dict>\n\
         <key>file</key><string>/usr/bin/tide</string><key>target</key><string>/usr/bin/gauge</string></dict></array></dict></plist>"
    );
    tree(&[
        ("var/db/xbps/pkgdb-0.38.plist", PKGDB.as_bytes()),
        ("var/db/xbps/.tide-gauge-files.plist", files.as_bytes()),
        ("usr/bin/gauge", b"x"),
        ("usr/bin/tide", b"-> gauge"),
    ])
}

fn slackware() -> TempDir {
    tree(&[
        (
            "var/lib/pkgtools/packages/tide-gauge-3.1-x86_64-2_quay",
            b"PACKAGE NAME:     tide-gauge-3.1-x86_64-2_quay\nUNCOMPRESSED PACKAGE SIZE:     2K\nPACKAGE DESCRIPTION:\ntide-gauge: made up\nFILE LIST:\n./\nusr/bin/gauge\netc/gauge.conf.new\ninstall/slack-desc\n",
        ),
        (
            "var/lib/pkgtools/scripts/tide-gauge-3.1-x86_64-2_quay",
            b"config etc/gauge.conf.new\n( cd usr/bin ; rm -rf tide )\n( cd usr/bin ; ln -sf sounding tide )\n",
        ),
        ("usr/bin/gauge", b"x"),
        ("usr/bin/tide", b"-> sounding"),
        ("etc/gauge.conf", b"x"),
    ])
}

fn router() -> TempDir {
    tree(&[
        (
            "usr/lib/opkg/status",
            b"Package: tide-gauge\nVersion: 3.1-2\nDepends: cord | rope (>= 0.2), libc\nStatus: install user installed\nArchitecture: arm\nInstalled-Time: 1767225600\n\nPackage: rope\nVersion: 0.2-1\nStatus: install ok installed\nArchitecture: arm\n\nPackage: gone\nVersion: 1\nStatus: deinstall ok not-installed\n\n",
        ),
        ("usr/lib/opkg/info/tide-gauge.list", b"/usr/bin/gauge\n/usr/bin/tide\t0777\tgauge\n"),
        ("usr/lib/opkg/info/rope.list", b""),
        ("usr/bin/gauge", b"x"),
        ("usr/bin/tide", b"-> gauge"),
    ])
}

fn homes() -> TempDir {
    let store = "home/maren/.dotnet/tools/.store/quay.gauge/3.1.0";
    tree(&[
        ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n"),
        (
            "home/maren/.pub-cache/global_packages/lamp/pubspec.lock",
            b"packages:\n  lamp:\n    dependency: \"direct main\"\n    source: hosted\n    version: \"2.0.0\"\n",
        ),
        (
            "home/maren/.pub-cache/bin/lamp",
            b"#!/usr/bin/env sh\n# This file was created by pub v3.3.0.\n# Package: lamp\n# Version: 2.0.0\n# Executable: lamp\ndart pub global run lamp:lamp \"$@\"\n",
        ),
        (&format!("{store}/quay.gauge/3.1.0/tools/net8.0/any/DotnetToolSettings.xml"), b"<DotNetCliTool Version=\"1\"><Commands><Command Name=\"gauge\" EntryPoint=\"gauge.dll\" Runner=\"dotnet\" /></Commands></DotNetCliTool>"),
        (
            "home/maren/.opam/config",
            b"opam-version: \"2.0\"\nswitch: \"harbour\"\ninstalled-switches: [\"harbour\"]\n",
        ),
        ("home/maren/.opam/harbour/.opam-switch/switch-state", b"roots: [\"tide.1.2\"]\ninstalled: [\"tide.1.2\"]\n"),
        ("home/maren/.opam/harbour/.opam-switch/packages/tide.1.2/opam", b"opam-version: \"2.0\"\n"),
        (
            "home/maren/.opam/harbour/.opam-switch/install/tide.changes",
            b"added: [\n  \"lib/tide\" {\"D\"}\n  \"bin/tide\" {\"F:S1T1\"}\n  \"../../out\" {\"F:S1T1\"}\n]\n",
        ),
        ("home/maren/.opam/harbour/bin/tide", b"x"),
        ("home/maren/.opam/out", b"x"),
        ("home/maren/.dotnet/tools/gauge", b"x"),
        ("home/maren/.dotnet/tools/own", b"x"),
    ])
}

fn containers() -> TempDir {
    let metadata = r#"{\"image-name\":\"quay.example/harbour-box:12\",\"name\":\"harbour-box\"}"#;
    let store = format!(r#"[{{"id":"66","names":["harbour-box"],"image":"ce","metadata":"{metadata}"}}]"#);
    let script = |container: &str| {
        format!("#!/bin/sh\n# distrobox_binary\n# name: {container}\nif x; then y\nelse\n\t/usr/bin/gauge \"$@\"\nfi\n")
    };
    tree(&[
        ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n"),
        ("home/maren/.local/share/containers/storage/overlay-containers/containers.json", store.as_bytes()),
        ("home/maren/.local/bin/gauge", script("harbour-box").as_bytes()),
        ("home/maren/.local/bin/stray", script("gone-box").as_bytes()),
        ("home/maren/.local/bin/own", b"#!/bin/sh\n"),
        (
            "home/maren/.local/share/applications/harbour-box-chart.desktop",
            b"[Desktop Entry]\nType=Application\nName=Chart\nExec=/usr/bin/distrobox-enter -n harbour-box -- chart %U\n",
        ),
        ("usr/bin/gauge", b"x"),
    ])
}

/// A command out of a container is told with the container and its image, and not taken for a program of this machine.
#[test]
fn what_a_container_exported_is_told_with_its_image() {
    let made = containers();
    let rows: Vec<String> = rows(&made).into_iter().filter(|row| row.starts_with("distrobox/")).collect();
    let at = "distrobox/user:maren";
    let expected = [("gauge", "harbour-box"), ("harbour-box-chart.desktop", "harbour-box"), ("stray", "gone-box")];
    assert_eq!(rows, expected.map(|(name, container)| format!("{at}/{name}  explicit from {container}")));
    for (path, says) in [
        ("/home/maren/.local/bin/gauge", "harbour-box was made of the image quay.example/harbour-box:12"),
        ("/home/maren/.local/bin/stray", "no container gone-box is in the store"),
    ] {
        let answer = ask(&made, &["owner", path])["answers"][0].clone();
        assert_eq!(text(&answer["owner"]["manager"]), "distrobox", "{answer:#}");
        assert_eq!((&answer["runs"], answer["hops"].as_array().unwrap().len()), (&path.into(), 1), "{answer:#}");
        let name = answer["owner"]["name"].as_str().unwrap();
        let told = ask(&made, &["owner", &format!("package:{name}")]).to_string();
        assert!(told.contains(says) && told.contains("starts /usr/bin/gauge in the container"), "{told}");
    }
    assert_eq!(ask(&made, &["owner", "/home/maren/.local/bin/own"])["answers"][0]["verdict"], "unowned");
}

/// `ID VERSION REASON` of every package, with what else is said of it.
pub fn rows(made: &TempDir) -> Vec<String> {
    let document = ask(made, &["inventory", "--all"]);
    let row = |one: &Value| {
        let held = if one["held"] == true { " held" } else { "" };
        let size = one["size"].as_u64().map(|bytes| format!(" {bytes} B")).unwrap_or_default();
        let origin = one["origin"]["name"].as_str().map(|name| format!(" from {name}")).unwrap_or_default();
        format!("{} {} {}{held}{size}{origin}", text(&one["id"]), text(&one["version"]), text(&one["reason"]))
    };
    document["packages"].as_array().unwrap().iter().map(row).collect()
}

/// A machine, its packages in short, and the owners of some paths.
pub type Case<'c> = (TempDir, &'c [&'c str], &'c [(&'c str, &'c str)]);

/// Compares what is said of a machine with what is on it.
pub fn is_read((made, packages, owners): &Case<'_>) {
    assert_eq!(rows(made), *packages);
    for (path, id) in *owners {
        let answer = ask(made, &["owner", path])["answers"][0].clone();
        let owners = answer["owners"].as_array().into_iter().flatten();
        let direct = owners.map(|owner| text(&owner["id"])).next().unwrap_or_default();
        assert_eq!((text(&answer["owner"]["id"]), direct), ((*id).to_owned(), (*id).to_owned()), "{path}: {answer:#}");
    }
}

#[test]
fn packages_and_their_files_are_read() {
    let cases: [Case<'_>; 4] = [
        (
            void(),
            &[
                "xbps/system/rope 0.2_1 dependency",
                "xbps/system/tide-gauge 3.1_2 explicit held 2048 B from https://quay.example/current",
            ],
            &[("/usr/bin/gauge", "xbps/system/tide-gauge"), ("/usr/bin/tide", "xbps/system/tide-gauge")],
        ),
        (
            slackware(),
            &["pkgtools/system/tide-gauge 3.1 unknown 2048 B"],
            &[
                ("/usr/bin/gauge", "pkgtools/system/tide-gauge"),
                ("/usr/bin/tide", "pkgtools/system/tide-gauge"),
                ("/etc/gauge.conf", "pkgtools/system/tide-gauge"),
            ],
        ),
        (
            router(),
            &["opkg/system/rope 0.2-1 dependency", "opkg/system/tide-gauge 3.1-2 explicit"],
            &[("/usr/bin/gauge", "opkg/system/tide-gauge"), ("/usr/bin/tide", "opkg/system/tide-gauge")],
        ),
        (
            homes(),
            &[
                "pub/user:maren/lamp 2.0.0 explicit from package index",
                "dotnet/user:maren/quay.gauge 3.1.0 explicit",
                "opam/user:maren/tide 1.2 explicit",
            ],
            &[
                ("/home/maren/.pub-cache/bin/lamp", "pub/user:maren/lamp"),
                ("/home/maren/.dotnet/tools/gauge", "dotnet/user:maren/quay.gauge"),
                ("/home/maren/.dotnet/tools/own", ""),
                ("/home/maren/.opam/harbour/bin/tide", "opam/user:maren/tide"),
                // A record owns nothing outside its switch.
                ("/home/maren/.opam/out", ""),
            ],
        ),
    ];
    cases.iter().for_each(is_read);
    // The line that makes a link stands in another file than the list. Where the link leads nowhere, it is what is owned.
    let answer = ask(&cases[1].0, &["owner", "/usr/bin/tide"]);
    let said = answer["answers"][0].to_string();
    assert!(
        said.contains("/var/lib/pkgtools/scripts/tide-gauge-3.1-x86_64-2_quay") && said.contains("\"line\":3"),
        "{said}"
    );
    for (made, chain) in [(&cases[0].0, "xbps/system/tide-gauge"), (&cases[2].0, "opkg/system/tide-gauge")] {
        let told = ask(made, &["why", "rope"]);
        assert_eq!(text(&told["chains"][0]["chain"][0]["id"]), chain, "{told:#}");
    }
    let answer = ask(&cases[3].0, &["owner", "/home/maren/.dotnet/tools/own"]);
    let said = answer["answers"][0]["evidence"].to_string();
    assert!(said.contains("dotnet puts programs there, and has no record of this one"), "{said}");
    let altered = ask(&cases[0].0, &["verify", "tide-gauge"]);
    assert!(altered.to_string().contains("/usr/bin/gauge"), "{altered:#}");
}

/// Records cut anywhere, with bytes turned over, and of the wrong kind: an answer each time, and what is lost
/// is said.
#[test]
fn damage_to_a_record_costs_that_record_and_is_said() {
    let cases: [Damaged<'_>; 10] = [
        (homes, "home/maren/.opam/harbour/.opam-switch/switch-state"),
        (homes, "home/maren/.opam/harbour/.opam-switch/install/tide.changes"),
        (containers, "home/maren/.local/share/containers/storage/overlay-containers/containers.json"),
        (void, "var/db/xbps/pkgdb-0.38.plist"),
        (void, "var/db/xbps/.tide-gauge-files.plist"),
        (slackware, "var/lib/pkgtools/packages/tide-gauge-3.1-x86_64-2_quay"),
        (router, "usr/lib/opkg/status"),
        (router, "usr/lib/opkg/info/tide-gauge.list"),
        (homes, "home/maren/.pub-cache/global_packages/lamp/pubspec.lock"),
        (
            homes,
            "home/maren/.dotnet/tools/.store/quay.gauge/3.1.0/quay.gauge/3.1.0/tools/net8.0/any/DotnetToolSettings.xml",
        ),
    ];
    let asked = ["/usr/bin/gauge", "package:lamp", "~dotnet/tools/gauge", "~local/bin/gauge", "~opam/harbour/bin/tide"];
    damage_is_said(&cases, &asked.map(|file| file.replace('~', "/home/maren/.")));
}

/// A machine, and a record on it.
pub type Damaged<'d> = (fn() -> TempDir, &'d str);

/// Damages each record in several ways, and asks about these targets each time.
pub fn damage_is_said(cases: &[Damaged<'_>], targets: &[String]) {
    for (make, file) in cases {
        let made = make();
        let at = made.path().join(file);
        let whole = fs::read(&at).unwrap();
        let asked: Vec<&str> = std::iter::once("owner").chain(targets.iter().map(String::as_str)).collect();
        for part in 0..6 {
            let mut damaged = whole[..whole.len() * part / 6].to_vec();
            if part % 2 == 1 {
                damaged.iter_mut().skip(part).step_by(29).for_each(|byte| *byte ^= 0xff);
            }
            fs::write(&at, damaged).unwrap();
            ask(&made, &["inventory", "--all"]);
            ask(&made, &asked);
        }
        fs::remove_file(&at).unwrap();
        fs::create_dir(&at).unwrap();
        let said = ask(&made, &asked)["coverage"].to_string();
        assert!(said.contains(file.rsplit('/').next().unwrap()), "{file}: {said}");
    }
}

/// Every page about a manager is of one that is read, and is in the table of pages.
#[test]
fn every_page_is_about_a_manager_that_is_read() {
    let pages = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/managers");
    let table = fs::read_to_string(pages.join("README.md")).unwrap();
    let mut seen = 0;
    for page in fs::read_dir(&pages).unwrap() {
        let name = page.unwrap().file_name().into_string().unwrap();
        let Some(id) = name.strip_suffix(".md").filter(|id| *id != "README") else { continue };
        assert!(table.contains(&format!("| [{id}]({name}) |")), "{name} is not in the table");
        let ran = run(["--root", pages.to_str().unwrap(), "inventory", "--manager", id]);
        assert!(!ran.err.contains("unknown"), "{id}: {ran:?}");
        seen += 1;
    }
    assert!(seen >= 10, "{seen}");
}
