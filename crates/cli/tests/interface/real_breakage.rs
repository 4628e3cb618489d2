//! Machines that are broken on purpose with the real tools: what was done is found, with its remedy, and what the
//! managers themselves say of it is said as well.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{has, not_compared, open_dir, output, run, text};

fn sh(dir: &Path, lines: &str) -> String {
    let mut command = Command::new("sh");
    let output = command.args(["-ec", lines]).env("LC_ALL", "C.UTF-8").current_dir(dir).output().unwrap();
    assert!(output.status.success(), "{lines}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A root that dpkg installs made-up packages into.
struct Yard(TempDir);

impl Yard {
    fn new() -> Option<Self> {
        if !has(&["dpkg", "dpkg-deb"]) {
            return None;
        }
        let yard = Yard(open_dir());
        sh(
            yard.0.path(),
            "mkdir -p root/var/lib/dpkg/info root/var/lib/dpkg/updates root/etc; touch root/var/lib/dpkg/status; \
             mkdir -p root/usr/bin root/usr/lib root/usr/local/bin; ln -s usr/bin root/bin; printf 'root:x:0:0:root:/root:/bin/sh\\n' > root/etc/passwd",
        );
        Some(yard)
    }

    fn root(&self) -> String {
        self.0.path().join("root").to_str().unwrap().to_owned()
    }

    /// Builds and installs a package; `fill` runs in the directory of its files.
    fn install(&self, name: &str, version: &str, head: &str, fill: &str) {
        sh(
            self.0.path(),
            &format!(
                "rm -rf p; mkdir -p p/DEBIAN; printf 'Package: {name}\\nVersion: {version}\\nArchitecture: all\\nMaintainer: Quay <quay@quay.example>\\n{head}Description: made up\\n' > p/DEBIAN/control; \
             (cd p; {fill}; find . -path ./DEBIAN -prune -o -type f -print | grep -v '^./etc' | cut -c3- | sort | xargs -r md5sum > DEBIAN/md5sums; \
             find etc -type f 2>/dev/null | sed 's,^,/,' > DEBIAN/conffiles || true); \
             dpkg-deb --root-owner-group -b p {name}.deb >/dev/null; dpkg --root=root --force-not-root --force-bad-path --log=/dev/null -i {name}.deb >/dev/null 2>&1"
            ),
        );
    }

    fn findings(&self, arguments: &[&str]) -> Vec<Value> {
        let root = self.root();
        let ran = run([&["--root", &root], arguments, &["--format", "json"]].concat());
        ran.document()["findings"].as_array().unwrap().clone()
    }
}

#[test]
fn altered_files_are_those_that_dpkg_names() {
    let Some(yard) = Yard::new() else { return };
    let fill = "mkdir -p usr/bin usr/share/lamp/sub usr/share/doc/lamp etc; for one in a b c d e; do echo $one > usr/share/lamp/$one; done; \
                echo p > usr/bin/lamp; ln -s a usr/share/lamp/l; echo 1 > etc/lamp.conf; echo 2 > 'etc/two words.conf'; echo d > usr/share/doc/lamp/copyright";
    yard.install("lamp", "1.0", "", fill);
    yard.install("foglight", "1.0", "", "mkdir -p usr/bin; echo fog > usr/bin/foglight");
    sh(
        Path::new(&yard.root()),
        "echo x >> usr/share/lamp/a; rm usr/share/lamp/b; rm usr/share/lamp/l; ln -sf c usr/share/lamp/d; echo y >> etc/lamp.conf; \
        rm 'etc/two words.conf'; rmdir usr/share/lamp/sub; rm usr/share/doc/lamp/copyright; \
        dpkg-divert --root=. --local --rename --divert /usr/bin/foglight.plain --add /usr/bin/foglight >/dev/null; echo other > usr/bin/foglight",
    );
    let root = yard.root();
    let theirs: BTreeSet<(String, bool)> = {
        let said = Command::new("dpkg").args([&format!("--root={root}"), "--verify"]).output().unwrap();
        let said = String::from_utf8(said.stdout).unwrap();
        let parted = said.lines().map(|line| {
            let file = line[line.find('/').unwrap()..].to_owned();
            (file.strip_prefix(&root).map(str::to_owned).unwrap_or(file), line.starts_with("missing"))
        });
        parted.collect()
    };
    let ours: BTreeSet<(String, bool)> = yard
        .findings(&["verify"])
        .iter()
        .flat_map(|finding| finding["evidence"].as_array().unwrap().clone())
        .map(|one| (text(&one["file"]), one["at"] == "missing"))
        .collect();
    assert_eq!(ours, theirs);
    assert_eq!(theirs.len(), 8, "{theirs:?}");
    // What dpkg was told not to unpack is not missing, although dpkg itself says so.
    fs::create_dir_all(Path::new(&root).join("etc/dpkg/dpkg.cfg.d")).unwrap();
    fs::write(Path::new(&root).join("etc/dpkg/dpkg.cfg.d/lean"), "path-exclude=/usr/share/doc/*\n").unwrap();
    let ours: BTreeSet<String> = yard
        .findings(&["verify"])
        .iter()
        .flat_map(|finding| finding["paths"].as_array().unwrap().clone())
        .map(|path| text(&path))
        .collect();
    assert!(!ours.contains("/usr/share/doc/lamp/copyright") && ours.len() == 7, "{ours:?}");
}

#[test]
fn what_depends_on_a_package_is_what_apt_would_take_along() {
    if !has(&["apt-get", "dpkg"]) {
        return;
    }
    let mut compared = 0;
    for package in ["perl", "git", "python3-pip", "xz-utils", "openssl", "curl", "rpm", "zsh"] {
        let said = Command::new("apt-get").args(["-s", "remove", package]).env("LC_ALL", "C.UTF-8").output().unwrap();
        let said = String::from_utf8_lossy(&said.stdout).into_owned();
        let theirs: BTreeSet<String> = said
            .lines()
            .filter_map(|line| line.strip_prefix("Remv "))
            .map(|line| line.split(' ').next().unwrap().to_owned())
            .collect();
        // Where the package is not here, or apt will not hear of it, there is nothing to compare.
        if theirs.is_empty() || said.contains("Inst ") {
            continue;
        }
        let ran = run(["impact", &format!("dpkg/system/{package}"), "--format", "json", "--context", "login"]);
        let document = ran.document();
        let broken = document["broken"].as_array().unwrap();
        let names = broken.iter().filter(|one| one["how"] == "dependency").map(|one| text(&one["owner"]["name"]));
        let ours: BTreeSet<String> = names.chain([package.to_owned()]).collect();
        assert_eq!(ours, theirs, "{package}");
        compared += 1;
    }
    if compared == 0 {
        not_compared("apt would remove none of the packages that were tried");
    }
}

/// `pip check` of an environment, and ours: distribution and requirement.
fn unmet(environment: &Path) -> (BTreeSet<String>, BTreeSet<String>) {
    let said = Command::new(environment.join("bin/python")).args(["-m", "pip", "check"]).output().unwrap();
    let said = String::from_utf8(said.stdout).unwrap();
    let theirs: BTreeSet<String> = said
        .lines()
        .filter(|line| line.contains("requires") || line.contains("has requirement"))
        .map(|line| {
            let name = line.split(' ').next().unwrap().to_lowercase();
            let needs = line.split("requires ").nth(1).or_else(|| line.split("has requirement ").nth(1)).unwrap();
            let needs: String = needs.chars().take_while(|c| c.is_ascii_alphanumeric() || "-_.".contains(*c)).collect();
            format!("{name}: {}", needs.to_lowercase())
        })
        .collect();
    let user = tempfile::tempdir().unwrap();
    let home = user.path();
    let config = home.join("none.toml");
    fs::write(&config, "").unwrap();
    let mut command = Command::new(super::support::program());
    command
        .args(["check", "--level", "note", "--kind", "unmet-requirement", "--format", "json", "--config"])
        .arg(&config);
    command.env("HOME", environment.parent().unwrap());
    let document: Value = serde_json::from_slice(&output(&mut command)).unwrap();
    let of_environment = |finding: &&Value| finding["paths"][0] == environment.to_str().unwrap();
    let ours = document["findings"].as_array().unwrap().iter().filter(of_environment).map(|finding| {
        let needs = text(&finding["evidence"][0]["says"]);
        let needs = needs.strip_prefix("requires ").unwrap();
        let needs: String = needs.chars().take_while(|c| c.is_ascii_alphanumeric() || "-_.".contains(*c)).collect();
        format!("{}: {}", text(&finding["subject"]).to_lowercase(), needs.to_lowercase())
    });
    (ours.collect(), theirs)
}

#[test]
fn requirements_are_met_or_not_as_pip_says() {
    if !has(&["/usr/bin/python3"]) {
        return;
    }
    let home = Path::new("/root");
    if fs::read_dir(home).is_err() {
        not_compared("environments are made in the home of root");
        return;
    }
    let place = tempfile::tempdir_in(home).unwrap();
    let environment = place.path().join("harbour");
    let made = Command::new("/usr/bin/python3").args(["-m", "venv"]).arg(&environment).output().unwrap();
    assert!(made.status.success(), "{made:?}");
    let site = fs::read_dir(environment.join("lib")).unwrap().next().unwrap().unwrap().path().join("site-packages");
    let wheel = |name: &str, version: &str, needs: &[&str]| {
        let dir = site.join(format!("{}-{version}.dist-info", name.replace('-', "_")));
        fs::create_dir_all(&dir).unwrap();
        let needs: String = needs.iter().map(|need| format!("Requires-Dist: {need}\n")).collect();
        fs::write(
            dir.join("METADATA"),
            format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{needs}\nText\n"),
        )
        .unwrap();
        fs::write(dir.join("RECORD"), "").unwrap();
    };
    wheel("knots", "1.4.2", &[]);
    wheel(
        "mooring",
        "2.0rc1",
        &["knots>=1.4,<2", "absent-thing", "never ; sys_platform == 'win32'", "more[x] ; extra == 'all'"],
    );
    wheel("tide-gauge", "3.0+harbour.1", &["mooring<2.0", "knots~=1.5", "pip (>=1)", "Tide_Gauge===3.0"]);
    wheel("chart", "1!1.0", &["knots!=1.4.*", "knots==1.4.*", "mooring>=2.0a1", "tide.gauge==3.0", "chart>2"]);
    wheel("berth", "1", &["gone ; python_version < '3' or python_version >= '3.6'", "knots>1.4.2", "mooring==2.0"]);
    let (ours, theirs) = unmet(&environment);
    assert_eq!(ours, theirs);
    assert!(theirs.len() >= 8, "{theirs:?}");
}

#[test]
fn a_fresh_distribution_gives_no_alarm() {
    if !has(&["debootstrap"]) {
        return;
    }
    let dir = open_dir();
    let tree = dir.path().join("fresh");
    let mut command = Command::new("debootstrap");
    command.args(["--variant=minbase", "--include=python3,ca-certificates,less"]).arg(suite()).arg(&tree);
    if let Some(mirror) = mirror() {
        command.arg(mirror);
    }
    let made = command.output().unwrap();
    if !made.status.success() {
        not_compared(&format!("debootstrap failed: {}", String::from_utf8_lossy(&made.stdout)));
        return;
    }
    for command in ["check", "verify", "conflicts"] {
        let ran = run(["--root", tree.to_str().unwrap(), command, "--format", "json"]);
        let document = ran.document();
        let serious: Vec<&Value> =
            document["findings"].as_array().unwrap().iter().filter(|finding| finding["severity"] != "note").collect();
        assert!(serious.is_empty(), "{command}: {serious:#?}");
        assert_eq!(ran.status, 0, "{command}: {}", ran.err);
    }
}

/// The suite and the mirror that this machine itself uses.
fn suite() -> String {
    let release = fs::read_to_string("/etc/os-release").unwrap_or_default();
    let name = release.lines().find_map(|line| line.strip_prefix("VERSION_CODENAME="));
    name.map_or("bookworm".to_owned(), |name| name.trim_matches('"').to_owned())
}

fn mirror() -> Option<String> {
    let listed = fs::read_dir("/etc/apt/sources.list.d").into_iter().flatten().flatten().map(|entry| entry.path());
    let files = listed.chain([Path::new("/etc/apt/sources.list").to_owned()]);
    let suite = suite();
    let text: String = files.filter_map(|file| fs::read_to_string(file).ok()).collect::<Vec<_>>().join("\n\n");
    let text: String = text.lines().filter(|line| !line.starts_with('#')).map(|line| format!("{line}\n")).collect();
    // A line of the old form, or a stanza of the new one, with this very suite.
    let has_suite = |part: &&str| part.split_whitespace().any(|word| word == suite);
    let old = text.lines().filter(|line| line.starts_with("deb ")).find(has_suite);
    let new = text.split("\n\n").filter(|stanza| stanza.contains("URIs:")).find(has_suite);
    let is_address = |word: &&str| word.starts_with("http://") || word.starts_with("https://");
    old.or(new)?.split_whitespace().find(is_address).map(str::to_owned)
}

/// A wheel that pip can install: one module, and a program.
fn wheel(dir: &Path, name: &str, version: &str) -> String {
    let file = format!("{name}-{version}-py3-none-any.whl");
    let script = format!(
        "import zipfile\nz = zipfile.ZipFile('{file}', 'w')\ni = '{name}-{version}.dist-info/'\n\
         z.writestr('{name}/__init__.py', 'VERSION = \"{version}\"\\n')\n\
         z.writestr(i + 'METADATA', 'Metadata-Version: 2.1\\nName: {name}\\nVersion: {version}\\n')\n\
         z.writestr(i + 'WHEEL', 'Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n')\n\
         z.writestr(i + 'RECORD', '')\nz.close()\n"
    );
    let made = Command::new("/usr/bin/python3").args(["-c", &script]).current_dir(dir).output().unwrap();
    assert!(made.status.success(), "{made:?}");
    file
}

#[test]
fn what_is_broken_with_the_real_tools_is_found() {
    let Some(yard) = Yard::new() else { return };
    if !has(&["/usr/bin/python3", "dpkg-divert", "update-alternatives"]) {
        return;
    }
    let (root, top) = (yard.root(), yard.0.path());
    let at = |below: &str| format!("{root}/{below}");
    let site = "usr/lib/python3/dist-packages";
    let version = String::from_utf8(output(
        Command::new("/usr/bin/python3").args(["-c", "import sys; print('%d.%d' % sys.version_info[:2])"]),
    ))
    .unwrap();
    let python = format!("python{}", version.trim());
    fs::write(at("etc/os-release"), "ID=breakwater\nID_LIKE=debian\n").unwrap();
    fs::create_dir_all(at("home/maren")).unwrap();
    fs::write(at("etc/passwd"), "root:x:0:0:root:/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n").unwrap();
    yard.install(&python, "3.0-1", "", &format!("mkdir -p usr/bin usr/lib/{python}; echo p > usr/bin/{python}; chmod 755 usr/bin/{python}; ln -s {python} usr/bin/python3; echo '[externally-managed]' > usr/lib/{python}/EXTERNALLY-MANAGED"));
    let library = |name: &str| {
        format!(
            "mkdir -p {site}/{name}; echo VERSION = 1 > {site}/{name}/__init__.py; mkdir {site}/{name}-1.0.dist-info; printf 'Metadata-Version: 2.1\\nName: {name}\\nVersion: 1.0\\n' > {site}/{name}-1.0.dist-info/METADATA"
        )
    };
    yard.install("python3-knots", "1.0-1", "", &library("knots"));
    yard.install("python3-mooring", "1.0-1", "", &library("mooring"));
    yard.install("berthplan", "1.0-1", "", "mkdir -p usr/bin; printf '#!/usr/bin/python3\\nimport mooring\\n' > usr/bin/berthplan; chmod 755 usr/bin/berthplan");
    yard.install(
        "barolog",
        "1.0-1",
        "",
        "mkdir -p usr/bin; printf '#!/bin/sh\\necho 1\\n' > usr/bin/barolog; chmod 755 usr/bin/barolog",
    );
    yard.install("lamp", "1.0-1", "", "mkdir -p usr/bin; printf '#!/bin/sh\\n' > usr/bin/lamp; chmod 755 usr/bin/lamp; cp usr/bin/lamp usr/bin/lamp-a; cp usr/bin/lamp usr/bin/lamp-b");
    fs::write(at("bin/sh"), "x").unwrap();
    fs::set_permissions(at("bin/sh"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let serious = |findings: &[Value]| -> BTreeSet<(String, String)> {
        let of_level = findings.iter().filter(|finding| finding["severity"] != "note");
        of_level.map(|finding| (text(&finding["kind"]), text(&finding["subject"]))).collect()
    };
    // The shell that stands in for the distribution's is nobody's.
    let before = serious(&yard.findings(&["check"]));
    assert!(before.iter().all(|(_, subject)| subject == "sh"), "{before:?}");

    let pip = |target: &str, file: &str| {
        let mut command = Command::new("/usr/bin/python3");
        command.args([
            "-m",
            "pip",
            "install",
            "--quiet",
            "--no-index",
            "--no-deps",
            "--upgrade",
            "--target",
            &at(target),
        ]);
        let made = command.arg(top.join(file)).env("PIP_BREAK_SYSTEM_PACKAGES", "1").output().unwrap();
        assert!(made.status.success(), "{made:?}");
    };
    // pip over dpkg's files; a user's copy that masks a module; a marker that is deleted.
    pip(site, &wheel(top, "knots", "2.0"));
    pip(&format!("home/maren/.local/lib/{python}/site-packages"), &wheel(top, "mooring", "2.0"));
    // An environment whose base interpreter has gone, a program from source over the distribution's, a diversion by
    // hand with nothing in its place, and an alternative that leads to what was deleted.
    sh(
        top,
        "mkdir -p root/home/maren/lab/bin root/home/maren/lab/lib/python2.9/site-packages root/usr/local/bin; \
        printf 'home = /opt/old/bin\\nversion = 2.9.1\\n' > root/home/maren/lab/pyvenv.cfg; ln -s /opt/old/bin/python2.9 root/home/maren/lab/bin/python; \
        printf '#!/home/maren/lab/bin/python\\n' > root/home/maren/lab/bin/tally; chmod 755 root/home/maren/lab/bin/tally; mkdir -p root/home/maren/.local/bin; ln -s ../../lab/bin/tally root/home/maren/.local/bin/tally; \
        printf '#!/bin/sh\\necho 2\\n' > root/usr/local/bin/barolog; chmod 755 root/usr/local/bin/barolog; \
        dpkg-divert --root=root --local --rename --divert /usr/bin/lamp.away --add /usr/bin/lamp >/dev/null; \
        mkdir -p root/etc/alternatives root/var/lib/dpkg/alternatives; \
        update-alternatives --root root --log /dev/null --install /usr/bin/light light /usr/bin/lamp-a 10 --quiet; \
        update-alternatives --root root --log /dev/null --install /usr/bin/light light /usr/bin/lamp-b 20 --quiet; \
        update-alternatives --root root --log /dev/null --set light /usr/bin/lamp-a --quiet",
    );
    let found = yard.findings(&["check", "--level", "note"]);
    let of = |kind: &str, subject: &str| {
        let one = found.iter().find(|finding| finding["kind"] == kind && finding["subject"] == subject);
        one.unwrap_or_else(|| panic!("{kind} of {subject} is not among {:#?}", serious(&found)))
    };
    let has_package =
        |one: &Value, id: &str| assert!(one["packages"].as_array().unwrap().contains(&id.into()), "{one:#}");
    has_package(of("overwritten-file", "python3-knots"), "dpkg/system/python3-knots");
    has_package(of("two-owners", "python3-knots"), "pip/system/knots");
    has_package(of("bypassed-protection", "knots"), "pip/system/knots");
    has_package(of("masked-module", "mooring"), "pip/user:maren/mooring");
    has_package(of("bypassed-protection", "mooring"), "pip/user:maren/mooring");
    of("stale-base", "/home/maren/lab");
    has_package(of("shadowed-command", "barolog"), "dpkg/system/barolog");
    assert_eq!(of("diverted-program", "lamp")["severity"], "warning");
    assert_eq!(of("chosen-by-hand", "light")["remedies"][0]["command"], "update-alternatives --auto light");
    fs::remove_file(at(&format!("usr/lib/{python}/EXTERNALLY-MANAGED"))).unwrap();
    let found = yard.findings(&["check"]);
    assert!(
        found.iter().any(|one| one["kind"] == "bypassed-protection" && one["subject"] == python.as_str()),
        "{:#?}",
        serious(&found)
    );

    // The way back, with the tools that the remedies name.
    sh(
        top,
        &format!(
            "rm -r root/{site}/knots root/{site}/knots-2.0.dist-info; rm -r root/home/maren/.local root/home/maren/lab; rm root/usr/local/bin/barolog; \
        dpkg-divert --root=root --rename --remove /usr/bin/lamp >/dev/null; update-alternatives --root root --log /dev/null --auto light --quiet; \
        for one in python3-knots {python}; do dpkg --root=root --force-not-root --force-bad-path --log=/dev/null -i $one.deb >/dev/null 2>&1; done"
        ),
    );
    assert_eq!(serious(&yard.findings(&["check"])), before);
    let verified = yard.findings(&["verify"]);
    assert!(serious(&verified).is_empty(), "{verified:#?}");
}
