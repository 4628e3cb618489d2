//! dpkg itself as the judge: on this machine, on the demo workstation, and on an installation made for
//! the purpose with its own tools.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::support::{generated_pairs, has, lantern, not_compared, output, program, run};
use serde_json::Value;
use whodunit_core::version::debian;

fn rooted(arguments: &[&str], root: &Path) -> Vec<u8> {
    output(Command::new(arguments[0]).arg(format!("--root={}", root.display())).args(&arguments[1..]))
}

/// Name, version, architecture and status of every package, from both.
fn compare_inventories(root: &Path) -> usize {
    let format = "${Package}\t${Version}\t${Architecture}\t${db:Status-Want}\t${db:Status-Status}\n";
    let theirs: BTreeSet<String> = String::from_utf8(rooted(&["dpkg-query", "-W", "-f", format], root))
        .unwrap()
        .lines()
        .map(|line| {
            let words: Vec<&str> = line.split('\t').collect();
            format!("{}\t{}\t{}\t{}\t{}", words[0], words[1], words[2], words[3] == "hold", words[4])
        })
        .collect();
    let document =
        run(["--root", root.to_str().unwrap(), "inventory", "--all", "--manager", "dpkg", "--format", "json"])
            .document();
    assert_eq!(document["coverage"][0]["state"], "read", "{}", document["coverage"]);
    let ours: BTreeSet<String> = document["packages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|package| {
            let text = |key: &str| package[key].as_str().unwrap_or_default().to_owned();
            let says = package["evidence"][0]["says"].as_str().unwrap();
            let state = says.rsplit(' ').next().unwrap();
            format!("{}\t{}\t{}\t{}\t{state}", text("name"), text("version"), text("arch"), package["held"])
        })
        .collect();
    assert_eq!(ours, theirs);
    ours.len()
}

/// What `dpkg -S` says of each path: the packages, and for a diverted path only those that dpkg's
/// diversions give it to.
fn owners_by_dpkg(root: &Path, paths: &[Vec<u8>]) -> BTreeMap<Vec<u8>, BTreeSet<String>> {
    let mut owners: BTreeMap<Vec<u8>, BTreeSet<String>> = BTreeMap::new();
    for batch in paths.chunks(500) {
        let mut command = Command::new("dpkg");
        command.arg(format!("--root={}", root.display())).arg("-S");
        command.args(batch.iter().map(|path| std::ffi::OsString::from_vec(escaped(path))));
        for line in output(&mut command).split(|&b| b == b'\n') {
            let Some(colon) = line.windows(3).position(|three| three == b": /") else { continue };
            let (names, path) = (String::from_utf8_lossy(&line[..colon]), &line[colon + 2..]);
            if !names.starts_with("diversion by") && !names.starts_with("local diversion") {
                owners.entry(path.to_vec()).or_default().extend(names.split(", ").map(str::to_owned));
            }
        }
    }
    owners
}

/// `dpkg -S` takes patterns.
fn escaped(path: &[u8]) -> Vec<u8> {
    path.iter().flat_map(|&b| if b"*?[\\".contains(&b) { vec![b'\\', b] } else { vec![b] }).collect()
}

fn files_in(root: &Path, dirs: &[&str]) -> Vec<Vec<u8>> {
    let mut paths = Vec::new();
    for dir in dirs {
        let Ok(names) = fs::read_dir(root.join(dir)) else { continue };
        for name in names {
            let name = name.unwrap();
            if !name.file_type().unwrap().is_dir() {
                paths.push([b"/", dir.as_bytes(), b"/", name.file_name().as_bytes()].concat());
            }
        }
    }
    paths.sort();
    paths
}

/// The other spelling of a path, where the tree's directories are merged.
fn spellings(path: &[u8]) -> Vec<Vec<u8>> {
    let unmerged = path.strip_prefix(b"/usr").filter(|rest| {
        [&b"/bin/"[..], b"/sbin/", b"/lib/", b"/lib64/", b"/lib32/"].iter().any(|dir| rest.starts_with(dir))
    });
    std::iter::once(path.to_vec()).chain(unmerged.map(<[u8]>::to_vec)).collect()
}

/// Compares the owner of every file, links included, with what dpkg says; the result is how many.
fn compare_owners(root: &Path, dirs: &[&str]) -> usize {
    let paths = files_in(root, dirs);
    let mut asked = vec![];
    for path in &paths {
        asked.extend(spellings(path));
    }
    let place = root.to_str().unwrap();
    let mut command = Command::new(program());
    command.args(["--root", place, "--path", "/usr/bin", "owner", "--format", "json"]);
    command.args(paths.iter().map(|path| std::ffi::OsStr::from_bytes(path)));
    let document: Value = serde_json::from_slice(&output(&mut command)).unwrap();
    let answers = document["answers"].as_array().unwrap();
    assert_eq!(answers.len(), paths.len());
    // What a link leads to is asked for as well.
    let text = |value: &Value| value.as_str().unwrap_or_default().as_bytes().to_vec();
    let last = |answer: &Value| text(&answer["hops"].as_array().unwrap().last().unwrap()["path"]);
    asked.extend(answers.iter().flat_map(|answer| spellings(&last(answer))));
    asked.sort();
    asked.dedup();
    let theirs = owners_by_dpkg(root, &asked);
    let by_dpkg = |path: &[u8]| -> BTreeSet<String> {
        spellings(path).iter().filter_map(|path| theirs.get(path)).flatten().map(|name| bare(name)).collect()
    };
    let diverted = diverted(root);
    for (path, answer) in paths.iter().zip(answers) {
        let shown = String::from_utf8_lossy(path);
        let last = last(answer);
        if spellings(&last).iter().any(|last| diverted.iter().any(|(from, to)| from == last || to == last)) {
            continue; // Compared one by one in the installation made for the purpose.
        }
        let ours: BTreeSet<String> = answer["owners"]
            .as_array()
            .unwrap()
            .iter()
            .map(|owner| owner["name"].as_str().unwrap().to_owned())
            .collect();
        let is_there = root.join(String::from_utf8_lossy(&last).trim_start_matches('/')).symlink_metadata().is_ok();
        if is_there || !by_dpkg(&last).is_empty() {
            assert_eq!(ours, by_dpkg(&last), "{shown}: owner of what it leads to: {answer:#}");
            assert_eq!(answer["verdict"] == "unowned", ours.is_empty(), "{shown}");
        }
        let placed = answer["hops"][0]["owner"].as_str().unwrap_or_default();
        let placed_by_package = placed.strip_prefix("dpkg/system/").map(bare);
        let dpkg_says = by_dpkg(path);
        assert_eq!(placed_by_package.is_some(), !dpkg_says.is_empty(), "{shown}: {placed:?} {dpkg_says:?}");
        assert!(placed_by_package.is_none_or(|name| dpkg_says.contains(&name)), "{shown}: {placed:?} {dpkg_says:?}");
    }
    paths.len()
}

fn bare(name: &str) -> String {
    name.split(':').next().unwrap().to_owned()
}

fn diverted(root: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
    let file = fs::read(root.join("var/lib/dpkg/diversions")).unwrap_or_default();
    let lines: Vec<&[u8]> = file.split(|&b| b == b'\n').collect();
    lines.chunks_exact(3).map(|three| (three[0].to_vec(), three[1].to_vec())).collect()
}

#[test]
fn this_machine_is_read_as_dpkg_reads_it() {
    if !has(&["dpkg", "dpkg-query"]) || !Path::new("/var/lib/dpkg/status").exists() {
        return;
    }
    let root = Path::new("/");
    let packages = compare_inventories(root);
    let files = compare_owners(root, &["usr/bin", "usr/sbin", "usr/local/bin", "usr/games"]);
    assert!(packages > 50 && files > 100, "{packages} packages, {files} files: too few to say anything");
}

#[test]
fn the_demo_workstation_is_readable_by_dpkg() {
    if !has(&["dpkg", "dpkg-query"]) {
        return;
    }
    assert!(compare_inventories(lantern()) > 10);
    assert!(compare_owners(lantern(), &["usr/bin", "usr/local/bin"]) > 10);
    // Its digests are right, but for the one file that pip was made to write over. Anything else that dpkg
    // prints here would be a mistake in the demo's record.
    let differs = String::from_utf8(rooted(&["dpkg", "--verify"], lantern())).unwrap();
    assert_eq!(differs, "??5??????   /usr/lib/python3/dist-packages/knots/__init__.py\n");
    assert_eq!(String::from_utf8(rooted(&["dpkg", "--audit"], lantern())).unwrap(), "");
}

/// A package made and installed with dpkg's own tools.
struct Made<'a> {
    name: &'a str,
    fields: &'a str,
    files: &'a [(&'a str, &'a str)],
}

fn install(root: &Path, work: &Path, made: &Made<'_>) {
    let tree = work.join(made.name);
    fs::create_dir_all(tree.join("DEBIAN")).unwrap();
    let control = format!(
        "Package: {}\nMaintainer: Maren <maren@lantern.example>\nDescription: made for a test\n{}",
        made.name, made.fields
    );
    fs::write(tree.join("DEBIAN/control"), control).unwrap();
    let settings: String =
        made.files.iter().filter(|(path, _)| path.starts_with("etc/")).map(|(path, _)| format!("/{path}\n")).collect();
    fs::write(tree.join("DEBIAN/conffiles"), settings).unwrap();
    for (path, content) in made.files {
        let at = tree.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(&at, content).unwrap();
        fs::set_permissions(&at, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let archive: PathBuf = work.join(format!("{}.deb", made.name));
    output(Command::new("dpkg-deb").args(["--root-owner-group", "--build"]).arg(&tree).arg(&archive));
    dpkg(root, &["--force-not-root", "--force-architecture", "--force-bad-path", "-i", archive.to_str().unwrap()]);
    fs::remove_dir_all(&tree).unwrap();
}

fn dpkg(root: &Path, arguments: &[&str]) {
    let mut command = Command::new("dpkg");
    let output =
        command.arg(format!("--root={}", root.display())).args(["--log=/dev/null"]).args(arguments).output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn answer(root: &Path, target: &str) -> Value {
    let ran = run(["--root", root.to_str().unwrap(), "--path", "/usr/bin", "owner", target, "--format", "json"]);
    ran.document()["answers"][0].clone()
}

#[test]
fn an_installation_made_with_its_own_tools_is_read_alike() {
    if !has(&["dpkg", "dpkg-query", "dpkg-deb", "dpkg-divert", "update-alternatives"]) {
        return;
    }
    if !rustix::process::geteuid().is_root() {
        not_compared("dpkg installs for root only");
        return;
    }
    let (dir, work) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let root = dir.path();
    for path in [
        "var/lib/dpkg/info",
        "var/lib/dpkg/updates",
        "var/lib/dpkg/triggers",
        "usr/bin",
        "usr/sbin",
        "usr/lib",
        "etc",
        "tmp",
    ] {
        fs::create_dir_all(root.join(path)).unwrap();
    }
    for link in ["bin", "sbin", "lib"] {
        std::os::unix::fs::symlink(format!("usr/{link}"), root.join(link)).unwrap();
    }
    fs::write(root.join("var/lib/dpkg/status"), "").unwrap();
    let make = |name, fields, files| install(root, work.path(), &Made { name, fields, files });
    make(
        "pegel",
        "Version: 2:4.2~rc1-1+b1\nArchitecture: amd64\n",
        &[("usr/bin/pegel", "1"), ("etc/pegel.conf", "a=1\n")],
    );
    make(
        "sonde",
        "Version: 1.0-1\nArchitecture: all\n",
        &[("bin/sonde", "2"), ("bin/[", "2"), ("usr/bin/with space", "2")],
    );
    make(
        "libtide2",
        "Version: 3-1\nArchitecture: amd64\nMulti-Arch: same\n",
        &[("usr/share/doc/libtide2/copyright", "c")],
    );
    make("left", "Version: 1\nArchitecture: all\n", &[("usr/bin/left", "3"), ("etc/left.conf", "b=2\n")]);
    make("lamp", "Version: 1\nArchitecture: all\n", &[("usr/bin/lamp", "plain")]);
    // A diversion for a package, one made by hand, a removal, a hold, and alternatives.
    let root_option = format!("--root={}", root.display());
    let divert = |arguments: &[&str]| output(Command::new("dpkg-divert").arg(&root_option).args(arguments));
    divert(&["--package", "foglight", "--divert", "/usr/bin/lamp.plain", "--rename", "/usr/bin/lamp"]);
    make("foglight", "Version: 2\nArchitecture: all\n", &[("usr/bin/lamp", "foggy")]);
    divert(&["--local", "--divert", "/usr/bin/sonde.old", "--rename", "--add", "/bin/sonde"]);
    fs::write(root.join("usr/bin/sonde"), "#!/usr/bin/pegel\n").unwrap();
    fs::set_permissions(root.join("usr/bin/sonde"), fs::Permissions::from_mode(0o755)).unwrap();
    dpkg(root, &["-r", "left"]);
    let mut select =
        Command::new("dpkg").arg(&root_option).arg("--set-selections").stdin(Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut select.stdin.take().unwrap(), b"pegel hold\n").unwrap();
    assert!(select.wait().unwrap().success());
    for (provider, priority) in [("/usr/bin/pegel", "10"), ("/usr/bin/lamp", "30")] {
        output(Command::new("update-alternatives").args([
            "--root",
            root.to_str().unwrap(),
            "--log",
            "/dev/null",
            "--install",
            "/usr/bin/gauge",
            "gauge",
            provider,
            priority,
        ]));
    }

    assert_eq!(compare_inventories(root), 6);
    assert!(compare_owners(root, &["usr/bin"]) >= 7);
    let owner = |path: &str| answer(root, path)["owner"]["id"].as_str().unwrap_or("nobody").to_owned();
    for (path, expected) in [
        ("/usr/bin/lamp", "dpkg/system/foglight"),
        ("/bin/lamp.plain", "dpkg/system/lamp"),
        ("/usr/bin/sonde", "nobody"),
        ("/usr/bin/sonde.old", "dpkg/system/sonde"),
        ("/etc/left.conf", "dpkg/system/left"),
        ("/usr/bin/with space", "dpkg/system/sonde"),
        ("gauge", "dpkg/system/foglight"),
    ] {
        assert_eq!(owner(path), expected, "{path}");
    }
    let gauge = answer(root, "gauge");
    let placed: Vec<&str> = gauge["hops"].as_array().unwrap().iter().filter_map(|hop| hop["owner"].as_str()).collect();
    assert_eq!(placed, ["alternatives/gauge", "alternatives/gauge", "dpkg/system/foglight"]);
    assert!(gauge["evidence"].to_string().contains("the best ranked of 2"), "{gauge}");
    // The choice in force, as the system itself tells it.
    let query =
        output(Command::new("update-alternatives").args(["--root", root.to_str().unwrap(), "--query", "gauge"]));
    assert!(String::from_utf8_lossy(&query).contains("Value: /usr/bin/lamp"));
    let script = answer(root, "/usr/bin/sonde");
    assert_eq!(script["interpreter"]["owner"]["id"], "dpkg/system/pegel");
}

#[test]
fn versions_are_ordered_as_dpkg_orders_them() {
    if !has(&["dpkg", "perl"]) {
        return;
    }
    // dpkg's own library, one process for all pairs; where it is not here, one process for each of fewer.
    let pairs = generated_pairs(2500, &["", "", "1:", "0:", "12:"]);
    let script = "use Dpkg::Version; while (<STDIN>) { chomp; my ($a, $b) = split / /; print version_compare($a, $b), qq{\\n}; }";
    let library = Command::new("perl")
        .args(["-MDpkg::Version", "-e", "1"])
        .stderr(Stdio::null())
        .status()
        .is_ok_and(|s| s.success());
    let theirs: Vec<i32> = if library {
        let mut child =
            Command::new("perl").args(["-e", script]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let text: String = pairs.iter().map(|(a, b)| format!("{a} {b}\n")).collect();
        let mut stdin = child.stdin.take().unwrap();
        let writer = std::thread::spawn(move || std::io::Write::write_all(&mut stdin, text.as_bytes()).unwrap());
        let output = child.wait_with_output().unwrap();
        writer.join().unwrap();
        String::from_utf8(output.stdout).unwrap().lines().map(|line| line.parse().unwrap()).collect()
    } else {
        let says = |a: &str, relation, b: &str| {
            Command::new("dpkg").args(["--compare-versions", a, relation, b]).status().unwrap().success()
        };
        let order = |(a, b): &(String, String)| if says(a, "lt", b) { -1 } else { i32::from(says(a, "gt", b)) };
        pairs.iter().take(400).map(order).collect()
    };
    assert!(theirs.len() >= 400);
    for ((a, b), theirs) in pairs.iter().zip(theirs) {
        let ours = debian::compare(a.as_bytes(), b.as_bytes()) as i32;
        assert_eq!(ours, theirs, "{a} {b}");
    }
}
