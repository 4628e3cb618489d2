//! apt as the judge of needs: `autoremove` of what nothing needs, and `check` of what is not met; this machine's packages,
//! marked or taken away at random.

use std::fmt::Write as _;
use std::fs;
use std::process::Command;

use tempfile::TempDir;

use super::support::{has, not_compared, open_dir, output, run};

/// Settings that change what is kept.
const SETTINGS: [&str; 5] = [
    "",
    "APT::AutoRemove::SuggestsImportant \"false\";\n",
    "APT { AutoRemove { RecommendsImportant \"0\"; }; };\n",
    "APT { NeverAutoRemove:: \"^libx.*\"; };\n",
    "// \n#clear APT::NeverAutoRemove;\nAPT::NeverAutoRemove { \"^LIB[a-f]\"; };\n",
];

/// This machine's `status` of dpkg and its architecture; `None` where there is nothing to compare with.
fn of_this_machine() -> Option<(String, String)> {
    if !has(&["apt-get", "dpkg"]) {
        return None;
    }
    let Ok(status) = fs::read_to_string("/var/lib/dpkg/status") else {
        not_compared("dpkg's status cannot be read");
        return None;
    };
    let native = String::from_utf8(output(Command::new("dpkg").arg("--print-architecture"))).unwrap();
    Some((status, native))
}

/// A tree with a `status` of dpkg, and the settings file with which apt looks at it, in the tree's `conf`.
fn tree_of(status: &str, native: &str) -> TempDir {
    let made = open_dir();
    let root = made.path();
    for dir in
        ["var/lib/dpkg/info", "var/lib/apt/lists/partial", "etc/apt/apt.conf.d", "var/cache/apt/archives/partial"]
    {
        fs::create_dir_all(root.join(dir)).unwrap();
    }
    fs::write(root.join("etc/passwd"), "root:x:0:0::/root:/bin/sh\n").unwrap();
    fs::write(root.join("var/lib/dpkg/status"), status).unwrap();
    fs::write(root.join("var/lib/dpkg/arch"), native).unwrap();
    let place = root.to_str().unwrap();
    let conf = format!("Dir \"{place}\";\nDir::State::status \"{place}/var/lib/dpkg/status\";\n");
    fs::write(root.join("conf"), conf).unwrap();
    made
}

/// The subjects of the findings of a kind in a tree, sorted.
fn subjects(place: &str, kind: &str) -> Vec<String> {
    let document = run(["--root", place, "check", "--kind", kind, "--level", "note", "--format", "json"]).document();
    let found = document["findings"].as_array().unwrap();
    let mut subjects: Vec<String> = found.iter().map(|one| one["subject"].as_str().unwrap().to_owned()).collect();
    subjects.sort();
    subjects
}

#[test]
fn what_nothing_needs_is_what_apt_would_remove() {
    let Some((status, native)) = of_this_machine() else { return };
    let mut seed = 0x9e37_79b9_u64;
    for (round, settings) in SETTINGS.iter().cycle().take(12).enumerate() {
        let made = tree_of(&status, &native);
        let root = made.path();
        if let Ok(own) = fs::read("/etc/apt/apt.conf.d/01autoremove") {
            fs::write(root.join("etc/apt/apt.conf.d/01autoremove"), own).unwrap();
        }
        fs::write(root.join("etc/apt/apt.conf.d/90quay"), settings).unwrap();
        // Half of the packages, most of them, or nearly all came along with others.
        let share = [50, 80, 95, 98][round % 4];
        let mut marks = String::new();
        for stanza in status.split("\n\n") {
            let field = |name: &str| stanza.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
            let (Some(name), Some(arch)) = (field("Package:"), field("Architecture:")) else { continue };
            seed ^= seed << 13;
            seed ^= seed >> 7;
            seed ^= seed << 17;
            if seed % 100 < share {
                let arch = if arch == "all" { native.trim() } else { arch };
                let _ = write!(marks, "Package: {name}\nArchitecture: {arch}\nAuto-Installed: 1\n\n");
            }
        }
        fs::write(root.join("var/lib/apt/extended_states"), marks).unwrap();
        let place = root.to_str().unwrap();
        let conf = root.join("conf");
        let said = output(Command::new("apt-get").args(["-s", "autoremove"]).env("APT_CONFIG", &conf));
        let said = String::from_utf8(said).unwrap();
        let removed = |line: &str| line.strip_prefix("Remv ")?.split_whitespace().next().map(str::to_owned);
        let mut theirs: Vec<String> = said.lines().filter_map(removed).collect();
        theirs.sort();
        assert_eq!(subjects(place, "unneeded-dependency"), theirs, "{share} of 100, {settings}");
        // Whatever is not removed has a reason, and what is removed has none.
        let all: Vec<&str> = status.lines().filter_map(|line| line.strip_prefix("Package: ")).collect();
        let some: Vec<String> = all.iter().skip(round).step_by(83).map(|name| format!("package:{name}")).collect();
        let words = ["--root", place, "why", "--format", "json"].into_iter().chain(some.iter().map(String::as_str));
        let document = run(words).document();
        let chains = document["chains"].as_array().unwrap();
        for package in document["packages"].as_array().unwrap() {
            let is_reason = |chain: &serde_json::Value| {
                chain["id"] == package["id"] && (chain["asked_for"] == true || chain["kept"] == true)
            };
            let is_kept = !package["protection"].is_null() || chains.iter().any(is_reason);
            let is_removed = theirs.iter().any(|name| package["name"] == name.as_str());
            let stated = package["status"] == "installed";
            assert!(!stated || is_kept != is_removed, "{share} of 100, {settings}: {package}");
        }
    }
}

/// This machine's packages without some: those that depend on these are those of which `apt-get check` complains.
#[test]
fn dependencies_are_unmet_where_apt_complains() {
    let Some((status, native)) = of_this_machine() else { return };
    let stanzas: Vec<&str> = status.trim_end().split("\n\n").collect();
    let mut complaints = 0;
    for round in 0..10 {
        // None in the first round; then one in 37, and other ones each time.
        let stays = |(at, _): &(usize, &&str)| round == 0 || at % 37 != round;
        let kept: Vec<&str> = stanzas.iter().enumerate().filter(stays).map(|(_, stanza)| *stanza).collect();
        let made = tree_of(&(kept.join("\n\n") + "\n\n"), &native);
        let root = made.path();
        let place = root.to_str().unwrap();
        let conf = root.join("conf");
        let environment = [("APT_CONFIG", conf.to_str().unwrap()), ("LC_ALL", "C.UTF-8")];
        let said = Command::new("apt-get").arg("check").envs(environment).output().unwrap();
        let said = String::from_utf8([said.stdout, said.stderr].concat()).unwrap();
        let of_line = |line: &str| {
            let (name, relation) = line.split_once(" : ")?;
            ["Depends:", "PreDepends:"].iter().any(|one| relation.starts_with(one)).then(|| name.trim().to_owned())
        };
        let mut theirs: Vec<String> = said.lines().filter_map(of_line).collect();
        theirs.sort();
        assert_eq!(subjects(place, "unmet-requirement"), theirs, "round {round}: {said}");
        complaints += theirs.len();
    }
    assert!(complaints > 20, "only {complaints} packages lacked anything");
}
