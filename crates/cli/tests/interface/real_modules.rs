//! Streams of modules, with dnf as the judge.

use std::collections::BTreeSet;
use std::fs;

use super::real_rpm::Yard;
use super::support::{run, text};

/// Packages: name, version, release, further lines of the head.
const PACKAGES: &[(&str, &str, &str, &str)] = &[
    ("tide", "1.0", "1", ""),
    ("tide", "2.0", "1.m2", ""),
    ("tide", "2.1", "1.m2", ""),
    ("tide", "3.0", "1.m3", "Epoch: 2"),
    ("almanac", "9.0", "1", "Provides: tide = 99"),
    ("gull", "1.0", "1.m1", ""),
    ("gull", "2.0", "1.m2", ""),
    ("buoy", "1.0", "1.a", ""),
    ("buoy", "2.0", "1.b", ""),
    ("crew", "1.0", "1.s", ""),
    ("rope", "1.0", "1.x", ""),
    ("quay", "1.0", "1.p", ""),
];

/// Versions of streams: module, stream, version, context, what it requires, a package. The names of the contexts and
/// the order are not what decides.
const STREAMS: &[(&str, &str, u32, &str, &str, &str)] = &[
    ("tide", "2", 1, "aa", "", "tide-0:2.0-1.m2.noarch"),
    ("tide", "2", 2, "aa", "", "tide-0:2.1-1.m2.noarch"),
    ("tide", "3", 1, "aa", "", "tide-2:3.0-1.m3.noarch"),
    ("gull", "1", 4, "aa", "buoy: [b]", "gull-0:2.0-1.m2.noarch"),
    ("gull", "1", 1, "zz", "buoy: [a]", "gull-0:1.0-1.m1.noarch"),
    ("buoy", "a", 1, "aa", "", "buoy-0:1.0-1.a.noarch"),
    ("buoy", "b", 1, "aa", "", "buoy-0:2.0-1.b.noarch"),
    ("crew", "s", 1, "aa", "buoy: [-a]", "crew-0:1.0-1.s.noarch"),
    ("crew", "any", 1, "aa", "buoy: []", "crew-0:1.0-1.s.noarch"),
    ("rope", "x", 1, "aa", "missing: [b]", "rope-0:1.0-1.x.noarch"),
    ("quay", "p", 1, "aa", "platform: [hb8]", "quay-0:1.0-1.p.noarch"),
];

/// What is set: modules with stream and state, and files of the tree with their content.
type Setting = (&'static [(&'static str, &'static str, &'static str)], &'static [(&'static str, &'static str)]);

const PLATFORM: (&str, &str) = ("etc/os-release", "ID=harbour\nPLATFORM_ID=\"platform:hb8\"\n");

const SETTINGS: &[Setting] = &[
    (&[], &[]),
    (&[], &[PLATFORM]),
    (&[], &[PLATFORM, ("etc/dnf/dnf.conf", "[main]\nmodule_platform_id=platform:hb9\n")]),
    (&[("gull", "1", "enabled")], &[]),
    (&[("gull", "1", "enabled"), ("buoy", "b", "enabled"), ("crew", "", "disabled")], &[]),
    (&[("gull", "1", "enabled"), ("buoy", "", "disabled")], &[]),
    (&[("tide", "", "disabled")], &[]),
    (&[("tide", "3", "enabled")], &[]),
    (&[("tide", "3", "")], &[]),
    (&[("tide", "9", "enabled")], &[]),
    (&[("buoy", "a", "enabled")], &[]),
    (&[("buoy", "", "disabled")], &[]),
    (&[("crew", "any", "enabled")], &[]),
    (&[("rope", "x", "enabled")], &[]),
    (
        &[],
        &[(
            "etc/dnf/modules.defaults.d/own.yaml",
            "---\ndocument: modulemd-defaults\nversion: 1\ndata:\n  module: tide\n  stream: 3\n...\n",
        )],
    ),
    (&[("tide", "3", "enabled")], &[("etc/yum.repos.d/repo.repo", "module_hotfixes=1\n")]),
];

#[test]
fn the_packages_that_count_are_those_of_active_streams() {
    let Some(yard) = Yard::new(&["dnf", "rpm", "rpmbuild", "createrepo_c", "modifyrepo_c"]) else { return };
    for (name, version, release, head) in PACKAGES {
        yard.build(name, version, &format!("Release: {release}\n{head}"), "", "");
    }
    let mut modules = String::new();
    for (module, stream, version, context, requires, package) in STREAMS {
        let requires = match *requires {
            "" => String::new(),
            one => format!("  dependencies:\n  - requires:\n      {one}\n"),
        };
        modules += &format!(
            "---\ndocument: modulemd\nversion: 2\ndata:\n  name: {module}\n  stream: \"{stream}\"\n  version: {version}\n  \
             context: {context}\n  arch: x86_64\n  summary: made up\n  description: >-\n    made up\n  license:\n    \
             module: [MIT]\n{requires}  artifacts:\n    rpms:\n    - {package}\n...\n"
        );
    }
    for (module, stream) in [("tide", "2"), ("crew", "s"), ("rope", "x"), ("quay", "p")] {
        modules += &format!(
            "---\ndocument: modulemd-defaults\nversion: 1\ndata:\n  module: {module}\n  stream: \"{stream}\"\n...\n"
        );
    }
    fs::write(yard.at("modules.yaml"), modules).unwrap();
    yard.sh("mkdir repo; cp top/RPMS/noarch/*.rpm repo; createrepo_c -q repo; modifyrepo_c --mdtype=modules modules.yaml repo/repodata >/dev/null
        mkdir -p root/var/lib/rpm; rpm --root $PWD/root --initdb");
    let root = yard.at("root");
    let names: BTreeSet<&str> = PACKAGES.iter().map(|(name, ..)| *name).collect();
    let asked: Vec<&str> = ["--root", &root, "offers", "--format", "json"].into_iter().chain(names).collect();
    let ours = || -> (BTreeSet<String>, serde_json::Value) {
        let document = run(asked.clone()).document();
        let offers = document["offers"].as_array().unwrap().iter().filter(|one| !one["source"].is_null());
        let offers = offers.map(|one| format!("{}-{}", text(&one["name"]), text(&one["version"]))).collect();
        (offers, document)
    };
    let mut answers = BTreeSet::new();
    for (chosen, files) in SETTINGS {
        yard.sh("rm -rf root/etc; mkdir -p root/etc/dnf/modules.d root/etc/dnf/modules.defaults.d root/etc/yum.repos.d
            printf \"[repo]\\nname=repo\\nbaseurl=file://$PWD/repo\\ngpgcheck=0\\n\" > root/etc/yum.repos.d/repo.repo");
        for (module, stream, state) in *chosen {
            let content = format!("[{module}]\nname={module}\nstream={stream}\nprofiles=\nstate={state}\n");
            fs::write(format!("{root}/etc/dnf/modules.d/{module}.module"), content).unwrap();
        }
        for (file, content) in *files {
            let before = fs::read_to_string(format!("{root}/{file}")).unwrap_or_default();
            fs::write(format!("{root}/{file}"), before + content).unwrap();
        }
        let form = "--qf '%{name}-%{epoch}:%{version}-%{release}'";
        let said = yard.sh(&format!("dnf --installroot={root} --releasever=1 -q repoquery {form} 2>/dev/null"));
        let theirs: BTreeSet<String> = said.lines().map(|line| line.replacen("-0:", "-", 1)).collect();
        let (offers, document) = ours();
        assert!(!theirs.is_empty());
        assert_eq!(offers, theirs, "{chosen:?} {files:?}\n{document:#}");
        answers.insert(offers);
    }
    assert!(answers.len() > 9, "the settings make a difference: {answers:#?}");
    // What cannot be read is said, and all packages are told.
    let cache = yard.sh("echo root/var/cache/dnf/repo-*/repodata/*-modules.yaml.gz");
    let cache = yard.at(cache.trim());
    fs::write(
        yard.at("root/etc/yum.repos.d/repo.repo"),
        format!("[repo]\nname=repo\nbaseurl=file://{}\n", yard.at("repo")),
    )
    .unwrap();
    let whole = fs::read(&cache).unwrap();
    let endless: String = (0..200)
        .map(|number| {
            format!(
                "---\ndocument: modulemd\ndata:\n  name: m{number}\n  stream: s\n  dependencies:\n  - requires: {{m{}: [s]}}\n---\n\
                 document: modulemd-defaults\ndata: {{module: m{number}, stream: s}}\n",
                number + 1
            )
        })
        .collect();
    for (content, says) in [(&whole[..whole.len() / 2], "modules"), (endless.as_bytes(), "beyond all measure")] {
        fs::write(&cache, content).unwrap();
        let (_, document) = ours();
        let losses = document["coverage"].to_string();
        assert!(losses.contains("modules.yaml") && losses.contains(says), "{losses}");
    }
}
