//! What a package brings along, with dnf as the judge.

use std::collections::BTreeSet;
use std::fs;

use super::real_rpm::Yard;
use super::support::{run, text};

/// Packages that are installed: name, version, further lines of the head.
const INSTALLED: &[(&str, &str, &str)] = &[
    ("base", "1.0", ""),
    ("sail", "1.0", "Recommends: ribbon"),
    ("crew", "1.0", "Requires: sail = 1.0"),
    ("lantern", "1.0", ""),
];

/// Packages of the repository alone.
const OFFERED: &[(&str, &str, &str)] = &[
    ("sail", "2.0", "Recommends: ribbon\nRecommends: pennon"),
    ("crew", "2.0", "Requires: sail = 2.0"),
    ("ribbon", "1.0", ""),
    ("pennon", "1.0", ""),
    ("hull", "1.0", ""),
    ("hull", "2.0", "Requires: sail >= 2"),
    ("hull", "3.0", "Requires: nothing-of-this-name"),
    (
        "ship",
        "1.0",
        "Requires: hull = 2.0\nRequires: (galley if base)\nRequires: (cannon if powder)\nRequires: /usr/bin/oar\n\
         Requires: (rope or chain)\nRecommends: flag\nRecommends: (lamp if lantern)\nSuggests: parrot",
    ),
    ("galley", "1.0", "Requires: stove\nRecommends: (spice if stove)"),
    ("stove", "1.0", ""),
    ("spice", "1.0", ""),
    ("cannon", "1.0", ""),
    ("oar", "1.0", ""),
    ("rope", "1.0", ""),
    ("flag", "1.0", "Provides: colours = 2"),
    ("lamp", "1.0", "Requires: colours >= 1"),
    ("parrot", "1.0", ""),
    ("wheel", "1.0", "Supplements: ship"),
    ("compass", "1.0", "Supplements: (ship and base)"),
    ("sextant", "1.0", "Supplements: (ship and powder)"),
];

#[test]
fn what_comes_along_is_what_dnf_would_install() {
    let Some(yard) = Yard::new(&["dnf", "rpm", "rpmbuild", "createrepo_c"]) else { return };
    for (name, version, head) in INSTALLED.iter().chain(OFFERED) {
        let (fill, files) = match *name {
            "oar" => ("mkdir -p $B/usr/bin; echo 1 > $B/usr/bin/oar", "/usr/bin/oar"),
            _ => ("", ""),
        };
        yard.build(name, version, &format!("Release: 1\n{head}"), fill, files);
    }
    yard.sh(
        "mkdir -p first repo root/etc/yum.repos.d root/etc/dnf
        for one in base sail crew lantern; do cp top/RPMS/noarch/$one-1.0-*.rpm first; done
        cp top/RPMS/noarch/*.rpm repo; createrepo_c -q repo; createrepo_c -q first
        for one in first repo; do printf \"[$one]\\nname=$one\\nbaseurl=file://$PWD/$one\\ngpgcheck=0\\n\" > root/etc/yum.repos.d/$one.repo; done",
    );
    let dnf = |arguments: &str| {
        let at = yard.at("root");
        yard.sh(&format!("dnf --installroot={at} --nogpgcheck --releasever=1 {arguments} 2>/dev/null || true"))
    };
    dnf("-q -y --repo=first install base sail crew lantern");
    dnf("-q --disablerepo='*' --enablerepo=first,repo makecache --refresh");
    for (weak, excluded) in [(true, ""), (false, ""), (true, "excludepkgs=flag*, spice.noarch wheel\n")] {
        let settings = format!("[main]\ninstall_weak_deps={}\n{excluded}", u8::from(weak));
        fs::write(yard.at("root/etc/dnf/dnf.conf"), settings).unwrap();
        let names = ["ship", "hull-2.0", "galley", "sail-2.0", "crew-2.0", "rope", "lamp"];
        // What requires an excluded package cannot be installed.
        for name in names.into_iter().filter(|name| excluded.is_empty() || *name != "lamp") {
            let said = dnf(&format!("--disablerepo='*' --enablerepo=first,repo --assumeno install {name}"));
            // `NAME ARCH VERSION REPOSITORY SIZE`, one to a line.
            let rows = said.lines().filter(|line| line.contains(" noarch "));
            let theirs: BTreeSet<String> = rows
                .map(|row| row.split_whitespace().collect::<Vec<_>>())
                .map(|row| format!("{} {}", row[0], row[2]))
                .collect();
            let (name, version) = name.split_once('-').unwrap_or((name, ""));
            let root = yard.at("root");
            let document = run(["--root", &root, "offers", name, "--format", "json"]).document();
            let wanted = |one: &&serde_json::Value| {
                one["installed"] == false
                    && match version {
                        "" => one["candidate"] == true,
                        _ => text(&one["version"]).starts_with(version),
                    }
            };
            let offer = document["offers"].as_array().unwrap().iter().find(wanted).unwrap();
            let pulled = offer["pulls_in"]["packages"].as_array().unwrap().iter();
            let ours: BTreeSet<String> =
                pulled.chain([offer]).map(|one| format!("{} {}", text(&one["name"]), text(&one["version"]))).collect();
            assert!(!theirs.is_empty(), "{name}: {said}");
            assert_eq!(ours, theirs, "{name}, weak: {weak} {excluded}\n{said}");
            assert_eq!(offer["pulls_in"]["complete"], true, "{name}: {offer:#}");
            assert!(offer["pulls_in"]["download_size"].is_u64(), "{offer:#}");
        }
    }
    // The commands, as they are printed, take these versions.
    let installed = |name: &str| yard.sh(&format!("rpm --root $PWD/root -q --qf '%{{version}}' {name} || true"));
    yard.sh("mkdir -p root/usr/bin; touch root/usr/bin/dnf; chmod 755 root/usr/bin/dnf");
    for (name, version, command) in [
        ("sail", "2.0", "dnf upgrade sail"),
        ("sail", "1.0", "dnf install sail-1.0-1"),
        ("ship", "1.0", "dnf install ship"),
    ] {
        let document = run(["--root", &yard.at("root"), "offers", name, "--format", "json"]).document();
        let is_it = |one: &&serde_json::Value| text(&one["version"]).starts_with(version) && one["installed"] == false;
        let offer = document["offers"].as_array().unwrap().iter().find(is_it).unwrap();
        assert_eq!(text(&offer["remedies"][0]["command"]), command, "{offer:#}");
        dnf(&format!("-y --disablerepo='*' --enablerepo=first,repo {}", command.strip_prefix("dnf ").unwrap()));
        assert_eq!(installed(name), version, "{command}");
    }
    // What no repository has, and a catalogue that breaks off, leave the answer uncertain.
    let hull = run(["--root", &yard.at("root"), "offers", "hull", "--format", "json"]).document();
    let newest = hull["offers"].as_array().unwrap().iter().find(|one| one["version"] == "3.0-1").unwrap();
    assert_eq!(newest["pulls_in"]["complete"], false, "{newest:#}");
    // Who keeps each package current is the same in both answers, and the command is about that package.
    let kept = run(["--root", &yard.at("root"), "upkeep", "--format", "json"]).document();
    let kept = kept["upkeep"].as_array().unwrap();
    for one in kept.iter().filter(|one| one["mode"] == "command") {
        assert_eq!(text(&one["command"]), format!("dnf upgrade {}", text(&one["name"])), "{one:#}");
    }
    let modes: BTreeSet<String> =
        kept.iter().map(|one| format!("{},{}", text(&one["id"]), text(&one["mode"]))).collect();
    let columns = ["inventory", "--all", "--columns", "id,upkeep", "--format", "csv", "--root"];
    let listed = run([&columns[..], &[&yard.at("root")]].concat());
    let listed: BTreeSet<String> = listed.out.lines().skip(1).map(str::to_owned).collect();
    assert!(modes.iter().any(|row| row.ends_with(",command")), "{modes:#?}");
    assert_eq!(listed, modes);
}
