//! Bad input: damaged records, hostile names, links in circles, directories without permission. Never a
//! panic, never a wrong "unowned", always a word on what was lost.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Command, Stdio};

use super::support::{Ran, finish, open_dir, program, run, run_unprivileged, tree};
use serde_json::Value;
use whodunit_demo::{Scale, write};

fn ask(root: &Path, arguments: &[&str]) -> Ran {
    run([&["--root", root.to_str().unwrap()], arguments].concat())
}

fn answer(root: &Path, target: &str) -> Value {
    ask(root, &["owner", target, "--format", "json"]).document()["answers"][0].clone()
}

fn notes(ran: &Ran) -> String {
    ran.document()["coverage"].to_string()
}

const STATUS: &str = "var/lib/dpkg/status";
const STANZA: &[u8] = b"Package: pegel\nStatus: install ok installed\nArchitecture: amd64\nVersion: 4.2-1\n\n";

#[test]
fn a_status_file_cut_anywhere_makes_nothing_unowned() {
    let dir = tempfile::tempdir().unwrap();
    let lantern = dir.path().join("lantern");
    write(&lantern, Scale::default()).unwrap();
    let status = fs::read(lantern.join(STATUS)).unwrap();
    // In a field, in a name, at a stanza's end, at the very beginning.
    let boundary = status.windows(2).position(|two| two == b"\n\n").unwrap() + 2;
    for length in [0, 1, 12, boundary, boundary + 1, status.len() / 2, status.len() - 45, status.len() - 1] {
        fs::write(lantern.join(STATUS), &status[..length]).unwrap();
        let ran =
            ask(&lantern, &["owner", "/usr/bin/tidegauge", "/usr/bin/apt", "/usr/bin/seaglass", "--format", "json"]);
        let document = ran.document();
        for answer in document["answers"].as_array().unwrap() {
            assert_eq!(answer["verdict"], "owned", "cut after {length} bytes: {answer}");
        }
        // The last of the cuts takes only the empty line that ends the file: nothing is lost.
        if length < status.len() - 1 {
            assert_eq!(document["coverage"][0]["state"], "partial", "{length}");
            assert!(notes(&ran).contains("/var/lib/dpkg/"), "{length}: {}", notes(&ran));
            assert_eq!(ask(&lantern, &["--strict", "owner", "apt"]).status, 3);
            assert!(ask(&lantern, &["owner", "apt"]).err.contains("dpkg (system): /var/lib/dpkg was partly read"));
        }
    }
}

#[test]
fn hostile_names_are_kept_and_never_reach_the_terminal() {
    let list = b"/.\n/usr/bin/pegel\n/usr/bin/\x1b]0;gotcha\x07\n/usr/bin/\xff\xfe\nno slash\n\n/usr/bin/last";
    let tree = tree(&[
        (STATUS, STANZA),
        ("var/lib/dpkg/info/pegel.list", list),
        ("usr/bin/pegel", b"x"),
        ("usr/bin/last", b"x"),
    ]);
    for name in [&b"\x1b]0;gotcha\x07"[..], b"\xff\xfe", b"stray\nname\xc2\x9b2J"] {
        let file = tree.path().join("usr/bin").join(std::ffi::OsStr::from_bytes(name));
        fs::write(&file, "x").unwrap();
        fs::set_permissions(file, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let everything = [
        ask(tree.path(), &["inventory", "--all", "--format", "json"]),
        ask(tree.path(), &["inventory", "--columns", "name,commands"]),
        ask(tree.path(), &["unowned"]),
        ask(tree.path(), &["unowned", "--format", "json"]),
        ask(tree.path(), &["unowned", "--format", "csv"]),
        ask(tree.path(), &["unowned", "--format", "markdown"]),
        ask(tree.path(), &["owner", "/usr/bin/\u{1b}]0;gotcha\u{7}"]),
    ];
    for ran in &everything {
        let steers = |c: char| c.is_control() && c != '\n';
        assert!(!ran.out.contains(steers) && !ran.err.contains(steers), "{ran:?}");
    }
    let groups = everything[3].document()["groups"].to_string();
    assert!(groups.contains("stray"), "{groups}");
    for target in ["/usr/bin/\u{1b}]0;gotcha\u{7}", "/usr/bin/pegel", "/usr/bin/last"] {
        assert_eq!(answer(tree.path(), target)["owner"]["id"], "dpkg/system/pegel");
    }
    let invalid = std::ffi::OsStr::from_bytes(b"/usr/bin/\xff\xfe");
    let mut command = Command::new(program());
    let ran = finish(command.arg("--root").arg(tree.path()).arg("owner").arg(invalid).args(["--format", "json"]));
    assert_eq!(ran.document()["answers"][0]["verdict"], "owned");
}

#[test]
fn circles_and_special_files_are_passed_over() {
    let tree = tree(&[
        (STATUS, STANZA),
        ("var/lib/dpkg/info/pegel.list", b"/usr/bin/pegel\n"),
        ("usr/bin/pegel", b"#!/usr/bin/loop\n"),
        ("usr/bin/loop", b"-> pool"),
        ("usr/bin/pool", b"-> loop"),
        ("round", b"-> /round"),
        ("usr/bin/out", b"-> ../../../../../../etc/passwd"),
    ]);
    let fifo = |path: &str| {
        let mode = rustix::fs::Mode::from_bits_truncate(0o755);
        rustix::fs::mknodat(rustix::fs::CWD, tree.path().join(path), rustix::fs::FileType::Fifo, mode, 0).unwrap();
    };
    fifo("usr/bin/fifo");
    fifo("var/lib/dpkg/diversions");
    let list = ["--path", "/round:/usr/bin:/usr/bin/pegel:/nowhere:/usr/bin"];
    let ran = ask(
        tree.path(),
        &[&list[..], &["owner", "pegel", "loop", "fifo", "/round/x", "/usr/bin/out", "--format", "json"]].concat(),
    );
    let answers = ran.document()["answers"].clone();
    assert_eq!((&answers[0]["verdict"], &answers[0]["interpreter"]["runs"]), (&"owned".into(), &Value::Null));
    assert_eq!((&answers[1]["verdict"], &answers[2]["verdict"]), (&"not-found".into(), &"not-found".into()));
    assert_eq!(answers[3]["verdict"], "not-found");
    // The link leads out of the tree only if it is not contained; inside, there is no such file.
    assert_eq!(answers[4]["hops"][1]["path"], "/etc/passwd");
    assert!(answers[4]["evidence"].to_string().contains("points to a missing file"));
    assert!(notes(&ran).contains("/var/lib/dpkg/diversions: is a FIFO"), "{}", notes(&ran));
    for command in ["shadows", "unowned"] {
        assert_eq!(ask(tree.path(), &[&list[..], &[command]].concat()).status, 0);
    }
}

#[test]
fn what_may_not_be_read_is_said() {
    let tree = tree(&[
        (STATUS, STANZA),
        ("var/lib/dpkg/info/pegel.list", b"/usr/bin/pegel\n"),
        ("var/lib/dpkg/info/pegel.md5sums", b"00000000000000000000000000000000  usr/bin/pegel\n"),
        ("usr/bin/pegel", b"x"),
        ("secret/bin/pegel", b"x"),
    ]);
    let close = |path: &str| fs::set_permissions(tree.path().join(path), fs::Permissions::from_mode(0o0)).unwrap();
    close("secret/bin");
    let place = tree.path().to_str().unwrap();
    let asked = |arguments: &[&str]| {
        run_unprivileged([&["--root", place, "--path", "/secret/bin:/usr/bin"], arguments].concat())
    };
    let ran = asked(&["owner", "pegel", "--format", "json"]);
    assert_eq!(ran.document()["answers"][0]["owner"]["name"], "pegel");
    assert!(notes(&ran).contains("permission denied") && notes(&ran).contains("/secret/bin"), "{}", notes(&ran));
    assert!(asked(&["shadows"]).err.contains("/secret/bin"));
    assert_eq!(asked(&["--strict", "shadows"]).status, 3);

    // A list that cannot be read: its package's digests name its files as well.
    close("var/lib/dpkg/info/pegel.list");
    let ran = asked(&["owner", "/usr/bin/pegel", "--format", "json"]);
    let answer = &ran.document()["answers"][0];
    assert_eq!(answer["verdict"], "owned", "{answer}");
    close("var/lib/dpkg/info/pegel.md5sums");
    let ran = asked(&["owner", "/usr/bin/pegel"]);
    assert!(ran.out.contains("no manager claims it, as far as could be read"), "{ran:?}");
    assert!(ran.err.contains("pegel.list: permission denied"), "{ran:?}");

    close("var/lib/dpkg");
    let ran = asked(&["owner", "/usr/bin/pegel", "--format", "json"]);
    let document = ran.document();
    assert_eq!(document["coverage"][0]["state"], "unreadable", "{document}");
    assert_eq!(document["answers"][0]["certain"], false);
}

#[test]
fn a_tree_without_records_owns_nothing_and_says_so() {
    for files in [&[][..], &[("usr/bin/pegel", &b"x"[..])], &[("var/lib/dpkg/", b"")]] {
        let tree = tree(files);
        for command in [&["inventory", "--all"][..], &["shadows"], &["unowned"]] {
            let ran = ask(tree.path(), command);
            assert_eq!(ran.status, 0, "{ran:?}");
            assert!(ran.err.contains("no package manager's records were found"), "{ran:?}");
        }
        let document = ask(tree.path(), &["inventory", "--format", "json"]).document();
        assert_eq!((&document["packages"], &document["machine"]["system"]), (&serde_json::json!([]), &Value::Null));
        assert_eq!(answer(tree.path(), "/usr/bin/pegel")["certain"], false);
    }
}

#[test]
fn other_shapes_of_record_are_read() {
    // Unmerged changes override, images without dpkg have one file per package, and a package may be
    // listed under the other form of its name.
    let tree = tree(&[
        (STATUS, &[STANZA, b"Package: gone\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\n"].concat()),
        (
            "var/lib/dpkg/updates/0001",
            b"Package: pegel\nStatus: install ok installed\nArchitecture: amd64\nVersion: 4.3-1\n",
        ),
        ("var/lib/dpkg/updates/0002", b"Package: gone\nStatus: purge ok not-installed\nArchitecture: all\n"),
        ("var/lib/dpkg/updates/tmp.i", b"junk"),
        ("var/lib/dpkg/info/pegel:amd64.list", b"/usr/bin/pegel\n"),
        ("var/lib/dpkg/status.d/sonde", b"Package: sonde\nVersion: 0.1\nArchitecture: amd64\n"),
        ("var/lib/dpkg/status.d/sonde.md5sums", b"00000000000000000000000000000000  usr/bin/sonde\n"),
        ("usr/bin/pegel", b"x"),
        ("usr/bin/sonde", b"x"),
    ]);
    let ran = ask(tree.path(), &["inventory", "--all", "--format", "json"]);
    let document = ran.document();
    let read: Vec<_> =
        document["packages"].as_array().unwrap().iter().map(|p| format!("{} {}", p["name"], p["version"])).collect();
    assert_eq!(read, [r#""pegel" "4.3-1""#, r#""sonde" "0.1""#], "{}", notes(&ran));
    assert_eq!(document["coverage"][0]["state"], "read", "{document}");
    assert_eq!(answer(tree.path(), "/usr/bin/pegel")["owner"]["version"], "4.3-1");
    assert_eq!(answer(tree.path(), "/usr/bin/sonde")["owner"]["name"], "sonde");
}

#[test]
fn two_packages_with_one_file_are_told_apart_by_its_digest() {
    let stanza =
        |name: &str| format!("Package: {name}\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\n");
    let tree = tree(&[
        (STATUS, (stanza("first") + &stanza("second")).as_bytes()),
        ("var/lib/dpkg/info/first.list", b"/usr/bin/pegel\n"),
        ("var/lib/dpkg/info/first.md5sums", b"00000000000000000000000000000000  usr/bin/pegel\n"),
        ("var/lib/dpkg/info/second.list", b"/bin/pegel\n"),
        ("var/lib/dpkg/info/second.md5sums", b"9dd4e461268c8034f5c8564e155c67a6  bin/pegel\n"),
        ("usr/bin/pegel", b"x"),
        ("bin", b"-> usr/bin"),
    ]);
    let answer = answer(tree.path(), "/usr/bin/pegel");
    assert_eq!((&answer["verdict"], &answer["owner"]["name"]), (&"several".into(), &"second".into()), "{answer}");
    assert_eq!(answer["owners"].as_array().unwrap().len(), 2);
}

#[test]
fn a_pipe_that_closes_early_is_no_error() {
    let dir = open_dir();
    let place = dir.path().join("lantern");
    write(&place, Scale::times(200)).unwrap();
    for format in ["json", "table", "lines", "csv"] {
        let mut child = Command::new(program())
            .args(["--root", place.to_str().unwrap(), "inventory", "--all", "--format", format])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        drop(child.stdout.take());
        let output = child.wait_with_output().unwrap();
        assert_eq!(
            (output.status.code(), String::from_utf8(output.stderr).unwrap().as_str()),
            (Some(0), ""),
            "{format}"
        );
    }
}

#[test]
fn huge_and_endless_input_is_bounded() {
    let long = vec![b'/'; 100 << 20];
    let tree = tree(&[
        (STATUS, &[STANZA, b"Package: huge\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\n"].concat()),
        ("var/lib/dpkg/info/pegel.list", b"/usr/bin/pegel\n"),
        ("var/lib/dpkg/info/huge.list", &long),
        ("usr/bin/pegel", b"x"),
    ]);
    // A program whose tables promise more than there is: one terabyte of section headers.
    let mut liar = whodunit_demo::packaged_program("liar", "1");
    liar[40..48].copy_from_slice(&0_u64.to_le_bytes());
    liar[60..62].copy_from_slice(&u16::MAX.to_le_bytes());
    fs::create_dir_all(tree.path().join("opt/liar/bin")).unwrap();
    let file = tree.path().join("opt/liar/bin/liar");
    fs::write(&file, &liar).unwrap();
    fs::OpenOptions::new().write(true).open(&file).unwrap().set_len(1 << 40).unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
    let ran = ask(tree.path(), &["owner", "/usr/bin/pegel", "--format", "json"]);
    assert_eq!(ran.document()["answers"][0]["verdict"], "owned");
    assert!(notes(&ran).contains("huge.list: larger than"), "{}", notes(&ran));
    assert!(ask(tree.path(), &["unowned"]).out.contains("/opt/liar/bin/liar"));
}
