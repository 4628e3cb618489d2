//! pacman as the judge, on a root that it installs made-up packages into.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::process::Command;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{has, is_root_for, open_dir, output, run, text};

/// A directory that nobody may write, for makepkg will not be root, with a root in it.
struct Yard(TempDir);

impl Yard {
    fn new() -> Option<Self> {
        if !is_root_for("pacman") || !has(&["pacman", "makepkg", "setpriv", "repo-add"]) {
            return None;
        }
        let yard = Yard(open_dir());
        let conf = format!(
            "[options]\nArchitecture = auto\nSigLevel = Never\nIgnorePkg = chai*\n[quay]\nServer = file://{0}/make/$repo\n\
             [fenders]\nInclude = {0}/more.conf\n",
            yard.0.path().display()
        );
        fs::create_dir_all(yard.at("root/etc")).unwrap();
        fs::create_dir_all(yard.at("root/var/lib/pacman")).unwrap();
        fs::write(yard.at("pacman.conf"), &conf).unwrap();
        fs::write(yard.at("root/etc/pacman.conf"), conf.replace(yard.0.path().to_str().unwrap(), "/etc")).unwrap();
        fs::write(yard.at("more.conf"), format!("Server = file://{}/make/fenders\n", yard.0.path().display())).unwrap();
        fs::write(yard.at("root/etc/more.conf"), "Server = https://fenders.example\n").unwrap();
        yard.sh("mkdir make make/quay make/fenders; chown nobody make");
        Some(yard)
    }

    fn at(&self, below: &str) -> String {
        self.0.path().join(below).to_str().unwrap().to_owned()
    }

    fn sh(&self, lines: &str) -> String {
        let mut command = Command::new("sh");
        command.args(["-ec", lines]).env("LC_ALL", "C.UTF-8").current_dir(self.0.path());
        let output = command.output().unwrap();
        assert!(output.status.success(), "{lines}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    fn build(&self, name: &str, version: &str, more: &str, fill: &str) {
        let dir = format!("make/{name}-{version}");
        let (epoch, rest) = version.split_once(':').unwrap_or(("0", version));
        let (version, release) = rest.split_once('-').unwrap();
        let recipe = format!(
            "pkgname={name}\nepoch={epoch}\npkgver={version}\npkgrel={release}\narch=(any)\nlicense=(MIT)\n{more}\npackage() {{\n{fill}\n:\n}}\n"
        );
        fs::create_dir_all(self.at(&dir)).unwrap();
        fs::write(self.at(&format!("{dir}/PKGBUILD")), recipe).unwrap();
        self.sh(&format!("chown -R nobody {dir}; cd {dir}; HOME=$PWD PKGEXT=.pkg.tar.zst setpriv --reuid=65534 --clear-groups makepkg -d --nocheck >/dev/null 2>&1"));
    }

    fn pacman(&self, arguments: &[&str]) -> String {
        let mut command = Command::new("pacman");
        command.args([
            "--config",
            &self.at("pacman.conf"),
            "--root",
            &self.at("root"),
            "--dbpath",
            &self.at("root/var/lib/pacman"),
            "--noconfirm",
        ]);
        String::from_utf8(output(command.args(arguments).current_dir(self.0.path()))).unwrap()
    }
}

#[test]
fn a_database_is_read_as_pacman_reads_it() {
    let Some(yard) = Yard::new() else { return };
    let program = "install -d \"$pkgdir/usr/bin\" \"$pkgdir/etc\"; printf '#!/bin/sh\\n' > \"$pkgdir/usr/bin/$pkgname\"; chmod 755 \"$pkgdir/usr/bin/$pkgname\"; \
                   ln -s $pkgname \"$pkgdir/usr/bin/$pkgname-link\"; echo 1 > \"$pkgdir/etc/$pkgname two.conf\"";
    yard.build("tarn", "2.3.1-2", "depends=(teasel)\nbackup=(\"etc/tarn two.conf\")\ngroups=(lakes)", program);
    yard.build("teasel", "1:0.8-1", "", program);
    yard.build("teasel-utils", "7.1.r12.gdead-1.1", "", program);
    yard.build("chain", "1-1", "", "");
    // One repository packed in one way, one in another; a third that no setting names.
    yard.sh("cd make; repo-add -q quay/quay.db.tar.gz teasel-1*/*.zst chain*/*.zst >/dev/null 2>&1; repo-add -q fenders/fenders.db.tar.zst tarn*/*.zst chain*/*.zst >/dev/null 2>&1; \
             mkdir -p ../root/var/lib/pacman/sync; cp quay/quay.db.tar.gz ../root/var/lib/pacman/sync/quay.db; cp fenders/fenders.db.tar.zst ../root/var/lib/pacman/sync/fenders.db; \
             repo-add -q old.db.tar.xz teasel-utils*/*.zst >/dev/null 2>&1; cp old.db.tar.xz ../root/var/lib/pacman/sync/old.db");
    let packages = yard.sh("ls make/*/*.pkg.tar.zst");
    let packages: Vec<&str> = packages.split_whitespace().collect();
    yard.pacman(&[&["-U"], &packages[..]].concat());
    yard.pacman(&["-D", "--asdeps", "teasel"]);

    let root = yard.at("root");
    let document = run(["--root", &root, "inventory", "--all", "--format", "json"]).document();
    assert!(document["coverage"].as_array().unwrap().iter().all(|part| part["state"] == "read"), "{document:#}");
    let ours = document["packages"].as_array().unwrap();
    let names_of = |fits: &dyn Fn(&Value) -> bool| -> BTreeSet<String> {
        ours.iter()
            .filter(|one| fits(one))
            .map(|one| format!("{} {}", text(&one["name"]), text(&one["version"])))
            .collect()
    };
    let theirs =
        |arguments: &[&str]| -> BTreeSet<String> { yard.pacman(arguments).lines().map(str::to_owned).collect() };
    assert_eq!(names_of(&|_| true), theirs(&["-Q"]));
    assert_eq!(ours.len(), 4);
    assert_eq!(names_of(&|one| one["reason"] == "explicit"), theirs(&["-Qe"]));
    assert_eq!(names_of(&|one| one["reason"] == "dependency"), theirs(&["-Qd"]));
    assert_eq!(names_of(&|one| one["origin"].is_null()), theirs(&["-Qm"]));
    assert_eq!(names_of(&|one| !one["origin"].is_null()), theirs(&["-Qn"]));
    let origin = |name: &str| text(&ours.iter().find(|one| one["name"] == name).unwrap()["origin"]["name"]);
    assert_eq!([origin("tarn"), origin("chain"), origin("teasel-utils")], ["fenders", "quay", ""]);
    assert_eq!(names_of(&|one| one["held"] == true), BTreeSet::from(["chain 1-1".to_owned()]));
    let info = yard.pacman(&["-Qi"]);
    let field = |stanza: &str, name: &str| {
        let line = stanza.lines().find(|line| line.starts_with(name)).unwrap();
        line.split_once(" : ").unwrap().1.to_owned()
    };
    for stanza in info.split("\n\n").filter(|stanza| !stanza.trim().is_empty()) {
        let one = ours.iter().find(|one| one["name"] == field(stanza, "Name").as_str()).unwrap();
        assert_eq!(text(&one["arch"]), field(stanza, "Architecture"));
    }

    // What repositories have: in the first that has it, and in the others.
    let offered =
        run(["--root", &root, "offers", "--format", "json", "tarn", "teasel", "chain", "teasel-utils"]).document();
    let offers = offered["offers"].as_array().unwrap().iter().filter(|offer| !offer["source"].is_null());
    let ours: BTreeSet<String> = offers
        .map(|offer| {
            let installed = if offer["installed"] == true { " [installed]" } else { "" };
            format!(
                "{} {} {}{installed}",
                text(&offer["source"]["name"]),
                text(&offer["name"]),
                text(&offer["version"])
            )
        })
        .collect();
    assert_eq!(ours, theirs(&["-Sl"]));

    // Every path, and one that no package has.
    fs::write(yard.at("root/usr/bin/none"), "").unwrap();
    let listed = yard.pacman(&["-Ql"]);
    let mut expected: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (name, file) in listed.lines().filter_map(|line| line.split_once(' ')).filter(|(_, file)| !file.ends_with('/'))
    {
        let file = file.strip_prefix(&root).unwrap();
        expected.entry(file.to_owned()).or_default().insert(name.to_owned());
    }
    expected.insert("/usr/bin/none".to_owned(), BTreeSet::new());
    let paths: Vec<&str> = expected.keys().map(String::as_str).collect();
    let document = run([&["--root", &root, "owner", "--format", "json"], &paths[..]].concat()).document();
    for (answer, (path, theirs)) in document["answers"].as_array().unwrap().iter().zip(&expected) {
        let ours: BTreeSet<String> =
            answer["owners"].as_array().unwrap().iter().map(|owner| text(&owner["name"])).collect();
        assert_eq!(&ours, theirs, "{path}");
    }

    // A file of another package forced over one: the digest tells whose it is now.
    yard.build("rival", "1-1", "", "install -d \"$pkgdir/usr/bin\"; echo rival > \"$pkgdir/usr/bin/tarn\"");
    let rival = yard.sh("echo make/rival*/*.zst");
    yard.pacman(&["-U", "--overwrite", "*", rival.trim()]);
    let answer = &run(["--root", &root, "owner", "--format", "json", "/usr/bin/tarn"]).document()["answers"][0];
    assert_eq!(
        (text(&answer["verdict"]), text(&answer["owner"]["name"])),
        ("several".to_owned(), "rival".to_owned()),
        "{answer:#}"
    );
}

#[test]
fn altered_files_are_those_that_pacman_warns_of() {
    let Some(yard) = Yard::new() else { return };
    let fill = "install -d \"$pkgdir/usr/bin\" \"$pkgdir/etc\" \"$pkgdir/usr/share/doc/tarn\" \"$pkgdir/usr/share/tarn/empty\"; \
                for one in a b c d e f g; do echo $one > \"$pkgdir/usr/bin/$one\"; done; ln -s a \"$pkgdir/usr/bin/l\"; ln -s a \"$pkgdir/usr/bin/m\"; \
                echo 1 > \"$pkgdir/etc/one.conf\"; echo 2 > \"$pkgdir/etc/two words.conf\"; echo d > \"$pkgdir/usr/share/doc/tarn/README\"";
    yard.build("tarn", "1-1", "backup=(etc/one.conf \"etc/two words.conf\")", fill);
    yard.build(
        "teasel",
        "1-1",
        "depends=(tarn)",
        "install -d \"$pkgdir/usr/bin\"; echo t > \"$pkgdir/usr/bin/teasel\"",
    );
    for file in ["pacman.conf", "root/etc/pacman.conf"] {
        let conf = fs::read_to_string(yard.at(file)).unwrap();
        fs::write(
            yard.at(file),
            conf.replacen("[options]\n", "[options]\nNoExtract = usr/share/doc/* !usr/share/doc/x\n", 1),
        )
        .unwrap();
    }
    let packages = yard.sh("ls make/*/*.pkg.tar.zst");
    yard.pacman(&[&["-U"], &packages.split_whitespace().collect::<Vec<_>>()[..]].concat());
    yard.sh("cd root; echo x >> usr/bin/a; chmod 700 usr/bin/b; touch -d 2020-01-01 usr/bin/c; rm usr/bin/d; rm usr/bin/e; mkdir usr/bin/e; \
             ln -sf b usr/bin/l; rm usr/bin/m; echo y >> etc/one.conf; rm 'etc/two words.conf'; chown 12345:12345 usr/bin/f; rmdir usr/share/tarn/empty; \
             touch -r usr/bin/g stamp; printf 'q\\n' > usr/bin/g; touch -r stamp usr/bin/g");
    let root = yard.at("root");
    let mut command = Command::new("pacman");
    let said = command.args([
        "--config",
        &yard.at("pacman.conf"),
        "--root",
        &root,
        "--dbpath",
        &yard.at("root/var/lib/pacman"),
        "-Qkk",
    ]);
    let said = said.env("LC_ALL", "C.UTF-8").output().unwrap();
    let said = format!("{}{}", String::from_utf8(said.stdout).unwrap(), String::from_utf8(said.stderr).unwrap());
    let mut theirs: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    for line in said.lines().filter(|line| line.ends_with(')') && line.contains(&root)) {
        let (file, why) = line[line.find(&root).unwrap() + root.len()..].rsplit_once(" (").unwrap();
        let word = match why.trim_end_matches(')') {
            "Modification time mismatch" => "modified",
            "Size mismatch" => "size",
            "Permissions mismatch" => "mode",
            "UID mismatch" => "owner",
            "GID mismatch" => "group",
            "Symlink path mismatch" => "target",
            "File type mismatch" => "kind",
            "SHA256 checksum mismatch" | "MD5 checksum mismatch" => "digest",
            "No such file or directory" => "missing",
            other => panic!("{other}"),
        };
        theirs.entry(file.to_owned()).or_default().insert(word);
    }
    let document = run(["--root", &root, "verify", "--format", "json"]).document();
    let mut ours: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
    for finding in document["findings"].as_array().unwrap() {
        let is_settings = finding["paths"].as_array().unwrap().iter().all(|path| text(path).starts_with("/etc/"));
        assert_eq!(finding["kind"] == "altered-settings" || is_settings, is_settings, "{finding:#}");
        for one in finding["evidence"].as_array().unwrap() {
            ours.entry(text(&one["file"])).or_default().insert(one["at"].as_str().unwrap());
        }
    }
    // This version of pacman compares no digest where the time fits; a change that hides behind it is ours to find.
    let hidden = ours.remove("/usr/bin/g");
    assert!(theirs.remove("/usr/bin/g").is_none_or(|theirs| Some(&theirs) == hidden.as_ref()));
    assert_eq!(hidden, Some(BTreeSet::from(["digest"])));
    for words in ours.values_mut().filter(|words| words.contains("size") || words.contains("modified")) {
        words.remove("digest");
    }
    for words in theirs.values_mut() {
        words.remove("digest");
    }
    assert_eq!(ours, theirs, "{said}");
    assert!(theirs.len() >= 9, "{said}");

    let document = run(["--root", &root, "impact", "tarn", "--format", "json"]).document();
    let broken = document["broken"].as_array().unwrap();
    let ours: Vec<String> =
        broken.iter().filter(|one| one["how"] == "dependency").map(|one| text(&one["owner"]["name"])).collect();
    let mut command = Command::new("pacman");
    let said = command.args([
        "--config",
        &yard.at("pacman.conf"),
        "--root",
        &root,
        "--dbpath",
        &yard.at("root/var/lib/pacman"),
        "--noconfirm",
        "-R",
        "tarn",
    ]);
    let said = String::from_utf8(said.env("LC_ALL", "C.UTF-8").output().unwrap().stderr).unwrap()
        + &String::from_utf8(said.output().unwrap().stdout).unwrap();
    assert!(ours == ["teasel"] && said.contains("required by teasel"), "{ours:?} {said}");
}

/// What packages depend on and nothing meets, by name, by version and by what others provide, is what pacman misses.
#[test]
fn dependencies_are_unmet_where_pacman_misses_them() {
    let Some(yard) = Yard::new() else { return };
    yard.build("tarn", "2-1", "depends=(teasel 'rope>=2' 'libknot.so=1-64' 'knots>1' 'twine<4')", "");
    yard.build("teasel", "1:0.8-1", "depends=('rope>=1' 'sheet=3' 'chain>=2:1')\noptdepends=('mast: to sail')", "");
    yard.build("rope", "1.5-1", "provides=(knots=3 twine libknot.so=1-64)", "");
    yard.build("sheet", "3-7", "depends=('knots=3' 'twine' 'teasel>1' 'libknot.so=2-64')", "");
    yard.build("chain", "2:1-4", "depends=(anchor 'teasel>=1:0.8-1')", "");
    let packages = yard.sh("ls make/*/*.pkg.tar.zst");
    let packages: Vec<&str> = packages.split_whitespace().collect();
    yard.pacman(&[&["-Udd"], &packages[..]].concat());
    let root = yard.at("root");
    let mut complaints = Vec::new();
    for gone in [None, Some("rope"), Some("teasel")] {
        if let Some(gone) = gone {
            yard.pacman(&["-Rdd", gone]);
        }
        let place = format!("--root {root} --dbpath {root}/var/lib/pacman");
        let said = yard.sh(&format!("pacman --config pacman.conf {place} -Dk 2>&1 || true"));
        let of_line = |line: &str| {
            let quoted: Vec<&str> = line.split('\'').collect();
            let [_, need, says, name, _] = quoted[..] else { return None };
            (says == " dependency for ").then(|| format!("{name} depends on {need}"))
        };
        let theirs: BTreeSet<String> = said.lines().filter_map(of_line).collect();
        let document = run(["--root", &root, "check", "--kind", "unmet-requirement", "--format", "json"]).document();
        let findings = document["findings"].as_array().unwrap().iter();
        let evidence = findings.flat_map(|finding| finding["evidence"].as_array().unwrap());
        let ours: BTreeSet<String> = evidence.map(|one| text(&one["says"])).collect();
        assert_eq!(ours, theirs, "{said}");
        complaints.push(theirs.len());
    }
    assert!(complaints.is_sorted() && complaints[0] > 3, "{complaints:?}");
}
