//! apt's own policy as the judge: every installed package of this machine, and made-up repositories.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;

use super::support::{has, not_compared, open_dir, output, run, text};

/// What is installed of a package, what apt would take, and every version with its priority.
type Table = (String, String, BTreeSet<(String, i64)>);

fn theirs(said: &str) -> BTreeMap<String, Table> {
    let mut tables = BTreeMap::new();
    let mut name = String::new();
    for line in said.lines() {
        if !line.starts_with(' ') {
            name = line.trim_end_matches(':').to_owned();
            tables.insert(name.clone(), Table::default());
            continue;
        }
        let table = tables.get_mut(&name).unwrap();
        let words: Vec<&str> = line.trim_start_matches(" ***").split_whitespace().collect();
        let none = |word: &str| if word == "(none)" { String::new() } else { word.to_owned() };
        match words[..] {
            ["Installed:", version] => table.0 = none(version),
            ["Candidate:", version] => table.1 = none(version),
            [version, priority]
                if line.starts_with(" *** ") || line.starts_with("     ") && !line.starts_with("      ") =>
            {
                table.2.insert((version.to_owned(), priority.parse().unwrap()));
            }
            _ => {}
        }
    }
    tables
}

fn ours(document: &Value, native: &str) -> BTreeMap<String, Table> {
    let mut tables: BTreeMap<String, Table> = BTreeMap::new();
    for offer in document["offers"].as_array().unwrap().iter().filter(|offer| offer["manager"] == "dpkg") {
        let arch = text(&offer["arch"]);
        let name = if arch == native || arch == "all" {
            text(&offer["name"])
        } else {
            format!("{}:{arch}", text(&offer["name"]))
        };
        let table = tables.entry(name).or_default();
        let version = text(&offer["version"]);
        if offer["installed"] == true {
            table.0.clone_from(&version);
        }
        if offer["candidate"] == true {
            table.1.clone_from(&version);
        }
        // Of a list from which nothing is taken, apt prints its own least number.
        let priority = offer["priority"].as_i64().unwrap().max(-32768);
        table.2.insert((version, priority));
    }
    tables
}

fn native() -> String {
    String::from_utf8(output(Command::new("dpkg").arg("--print-architecture"))).unwrap().trim().to_owned()
}

#[test]
fn every_installed_package_has_the_candidate_that_apt_says() {
    if !has(&["apt-cache", "dpkg-query"]) || !Path::new("/var/lib/dpkg/status").exists() {
        return;
    }
    let packages = output(Command::new("dpkg-query").args(["-W", "-f", "${db:Status-Status} ${Package}\n"]));
    let packages = String::from_utf8(packages).unwrap();
    let names: Vec<&str> = packages.lines().filter_map(|line| line.strip_prefix("installed ")).collect();
    let said = String::from_utf8(output(Command::new("apt-cache").arg("policy").args(&names))).unwrap();
    let theirs = theirs(&said);
    if theirs.values().all(|table| table.2.len() < 2) {
        not_compared("apt has fetched no lists");
    }
    let document = run([&["offers", "--format", "json"], &names[..]].concat()).document();
    let ours = ours(&document, &native());
    for (name, table) in &theirs {
        assert_eq!(ours.get(name), Some(table), "{name}");
    }
}

#[test]
fn pins_and_repositories_count_as_apt_counts_them() {
    if !has(&["apt-cache", "dpkg", "xz"]) {
        return;
    }
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    let put = |path: &str, content: &str| {
        fs::create_dir_all(at(path).parent().unwrap()).unwrap();
        fs::write(at(path), content).unwrap();
    };
    let arch = native();
    let stanza = |name: &str, version: &str, depends: &str| {
        format!(
            "Package: {name}\nVersion: {version}\nArchitecture: {arch}\nMaintainer: Maren <maren@quay.example>\nInstalled-Size: 4\n{depends}Filename: pool/{name}_{version}.deb\nSize: 40\nSHA256: {}\nDescription: made up\n\n",
            "0".repeat(64)
        )
    };
    let mut installed = String::new();
    let mut install = |name: &str, version: &str, depends: &str| {
        installed += &format!(
            "Package: {name}\nStatus: install ok installed\nMaintainer: Maren <maren@quay.example>\nInstalled-Size: 4\nArchitecture: {arch}\nVersion: {version}\n{depends}Description: made up\n\n"
        );
    };
    for (name, version) in [
        ("ferryboard", "1.0-1"),
        ("buoy", "2.0-1"),
        ("chain", "3.0-1"),
        ("tarn", "1.0-1"),
        ("lights", "5.0-1"),
        ("rope", "1.0-1"),
        ("alone", "1.0"),
    ] {
        install(name, version, "");
    }
    install("rebuilt", "1.0-1", "Depends: tarn\n");
    put("var/lib/dpkg/status", &installed);
    put("var/lib/dpkg/arch", &format!("{arch}\n"));
    let release = |suite: &str, codename: &str, more: &str| {
        format!(
            "Origin: Breakwater\nLabel: Breakwater\nSuite: {suite}\nCodename: {codename}\nVersion: 12.1\n{more}Date: Sat, 11 Jul 2026 10:16:37 UTC\nArchitectures: {arch}\nComponents: main\n"
        )
    };
    let lists: [(&str, String, String); 4] = [
        (
            "stable",
            release("stable", "mole", ""),
            [
                ("ferryboard", "1.0-1"),
                ("buoy", "2.1-1"),
                ("chain", "2.9-1"),
                ("tarn", "1.2-1"),
                ("lights", "4.0-1"),
                ("rope", "1.1-1"),
                ("rebuilt", "1.0-1"),
            ]
            .map(|(name, version)| stanza(name, version, ""))
            .concat(),
        ),
        (
            "testing",
            release("testing", "jetty", "NotAutomatic: yes\n"),
            [("ferryboard", "2.0-1"), ("buoy", "2.2-1"), ("chain", "4.0-1")]
                .map(|(name, version)| stanza(name, version, ""))
                .concat(),
        ),
        (
            "backports",
            release("backports", "mole-backports", "NotAutomatic: yes\nButAutomaticUpgrades: yes\n"),
            [("ferryboard", "1.5-1"), ("tarn", "1.4-1")].map(|(name, version)| stanza(name, version, "")).concat(),
        ),
        (
            "edge",
            release("edge", "edge", "").replace("Breakwater", "Quay"),
            [("lights", "6.0-1"), ("rope", "9.0-1"), ("buoy", "9.0-1")]
                .map(|(name, version)| stanza(name, version, ""))
                .concat(),
        ),
    ];
    let pack = |plain: &str, number: usize| -> Vec<u8> {
        match number {
            0 | 3 => plain.as_bytes().to_vec(),
            1 => {
                let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                std::io::Write::write_all(&mut packed, plain.as_bytes()).unwrap();
                packed.finish().unwrap()
            }
            _ => {
                let mut command = Command::new("xz");
                command.args(["-c"]).stdin(super::support::as_input(plain));
                output(&mut command)
            }
        }
    };
    for (number, (suite, release, packages)) in lists.iter().enumerate() {
        let stem = format!("var/lib/apt/lists/quay.example_apt%5fone_dists_{suite}_");
        put(&format!("{stem}Release"), release);
        let ending = ["", ".gz", ".xz", ""][number];
        fs::write(at(&format!("{stem}main_binary-{arch}_Packages{ending}")), pack(packages, number)).unwrap();
    }
    // Lists that no setting names are left over.
    put(
        &format!("var/lib/apt/lists/old.example_dists_stable_main_binary-{arch}_Packages"),
        &stanza("ferryboard", "99-1", ""),
    );
    put(
        "etc/apt/sources.list",
        "deb [trusted=yes] http://quay.example/apt_one/ stable main\n# deb http://old.example stable main\ndeb [trusted=yes] http://quay.example/apt_one backports main\n",
    );
    put(
        "etc/apt/sources.list.d/more.sources",
        "Types: deb\nURIs: http://quay.example/apt_one\nSuites: testing\n edge\nComponents: main\nTrusted: yes\n",
    );
    put(
        "etc/apt/preferences.d/one.pref",
        "Explanation: none\nPackage: *\nPin: release n=edge\nPin-Priority: -10\n\n# said\nPackage: chai*\nPin: version 2.9*\nPin-Priority: 1001\n\nPackage: lights rope\nPin: release o=Quay\nPin-Priority: 700\n\nPackage: buoy\nPin: release a=testing\nPin-Priority: 990\n",
    );
    put("etc/apt/apt.conf.d/10pdiffs", "// APT::Default-Release \"no\";\nAPT::Default-Release \"backports\";\n");
    let names = ["ferryboard", "buoy", "chain", "tarn", "lights", "rope", "rebuilt", "alone"];
    for dir in ["var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "etc/apt/trusted.gpg.d", "var/log/apt"] {
        fs::create_dir_all(at(dir)).unwrap();
    }
    let root = made.path().to_str().unwrap();
    for default in [true, false] {
        if !default {
            fs::remove_file(at("etc/apt/apt.conf.d/10pdiffs")).unwrap();
        }
        let options = [
            format!("Dir={root}"),
            format!("Dir::State::status={root}/var/lib/dpkg/status"),
            "APT::Architectures::=".to_owned() + &arch,
            format!("APT::Architecture={arch}"),
            "Acquire::GzipIndexes=true".to_owned(),
        ];
        let mut command = Command::new("apt-cache");
        // Settings of this machine would be read first.
        fs::write(at("apt.conf"), format!("Dir \"{root}\";\n")).unwrap();
        command.env("APT_CONFIG", at("apt.conf"));
        for option in options {
            command.args(["-o", &option]);
        }
        let said = String::from_utf8(output(command.arg("policy").args(names))).unwrap();
        let theirs = theirs(&said);
        let document = run([&["--root", root, "offers", "--format", "json"], &names[..]].concat()).document();
        let ours = ours(&document, &arch);
        for (name, table) in &theirs {
            assert_eq!(ours.get(name), Some(table), "{name} with a default release: {default}\n{said}");
        }
        assert_eq!(theirs.len(), names.len());
    }
}
