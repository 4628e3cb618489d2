//! GLib as the judge of launchers: which file wins, and what a menu shows.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use super::support::{not_compared, output, run, tree};
use serde_json::Value;

/// Prints every entry of the menu's list, with its file and whether it is shown.
const ASK: &str = "
import json
from gi.repository import Gio
print(json.dumps({app.get_id(): [app.get_filename(), app.should_show()] for app in Gio.AppInfo.get_all()}))
";

fn has_glib() -> bool {
    let asked = Command::new("/usr/bin/python3").args(["-c", "from gi.repository import Gio"]).output();
    let there = asked.is_ok_and(|asked| asked.status.success());
    if !there {
        not_compared("GLib's bindings for /usr/bin/python3 are not here");
    }
    there
}

/// Each case is one launcher; what matters is the answer to it alone.
const CASES: [(&str, &str); 34] = [
    ("a/applications/plain.desktop", "[Desktop Entry]\nType=Application\nName=Plain\nExec=pegel %U\n"),
    ("b/applications/plain.desktop", "[Desktop Entry]\nType=Application\nName=Masked\nExec=pegel\n"),
    ("a/applications/tide-knot.desktop", "[Desktop Entry]\nType=Application\nName=Flat\nExec=pegel\n"),
    ("b/applications/tide/knot.desktop", "[Desktop Entry]\nType=Application\nName=Nested\nExec=pegel\n"),
    ("b/applications/tide/deep/er.desktop", "[Desktop Entry]\nType=Application\nName=Deep\nExec=pegel\n"),
    ("a/applications/hidden.desktop", "[Desktop Entry]\nType=Application\nName=Hidden\nExec=pegel\nHidden=true\n"),
    ("b/applications/hidden.desktop", "[Desktop Entry]\nType=Application\nName=Behind\nExec=pegel\n"),
    ("a/applications/nodisplay.desktop", "[Desktop Entry]\nType=Application\nName=No\nExec=pegel\nNoDisplay=1\n"),
    (
        "a/applications/only.desktop",
        "[Desktop Entry]\nType=Application\nName=Only\nExec=pegel\nOnlyShowIn=Quayside;Mole;\n",
    ),
    (
        "a/applications/only-other.desktop",
        "[Desktop Entry]\nType=Application\nName=Other\nExec=pegel\nOnlyShowIn=Pier;\n",
    ),
    ("a/applications/not.desktop", "[Desktop Entry]\nType=Application\nName=Not\nExec=pegel\nNotShowIn=Mole;\n"),
    (
        "a/applications/not-other.desktop",
        "[Desktop Entry]\nType=Application\nName=Not other\nExec=pegel\nNotShowIn=Pier;\n",
    ),
    (
        "a/applications/both.desktop",
        "[Desktop Entry]\nType=Application\nName=Both\nExec=pegel\nOnlyShowIn=Harbour;\nNotShowIn=Mole;\n",
    ),
    ("a/applications/try.desktop", "[Desktop Entry]\nType=Application\nName=Try\nExec=pegel\nTryExec=pegel\n"),
    ("a/applications/try-gone.desktop", "[Desktop Entry]\nType=Application\nName=Gone\nExec=pegel\nTryExec=kraken\n"),
    ("b/applications/try-gone.desktop", "[Desktop Entry]\nType=Application\nName=Behind gone\nExec=pegel\n"),
    ("a/applications/exec-gone.desktop", "[Desktop Entry]\nType=Application\nName=Gone\nExec=kraken\n"),
    ("a/applications/exec-plain-file.desktop", "[Desktop Entry]\nType=Application\nName=No x\nExec=noexec\n"),
    ("a/applications/wrapped.desktop", "[Desktop Entry]\nType=Application\nName=Wrapped\nExec=env A=b kraken\n"),
    ("a/applications/no-exec.desktop", "[Desktop Entry]\nType=Application\nName=No exec\n"),
    ("a/applications/empty-exec.desktop", "[Desktop Entry]\nType=Application\nName=Empty\nExec=\n"),
    ("a/applications/quote.desktop", "[Desktop Entry]\nType=Application\nName=Quote\nExec=\"pegel\n"),
    ("a/applications/quoted.desktop", "[Desktop Entry]\nType=Application\nName=Quoted\nExec=\"pegel\" 'x y'\n"),
    ("a/applications/no-name.desktop", "[Desktop Entry]\nType=Application\nExec=pegel\n"),
    ("a/applications/no-type.desktop", "[Desktop Entry]\nName=No type\nExec=pegel\n"),
    ("a/applications/link.desktop", "[Desktop Entry]\nType=Link\nName=Link\nURL=tide\n"),
    ("a/applications/small-type.desktop", "[Desktop Entry]\nType=application\nName=Small\nExec=pegel\n"),
    ("a/applications/other-group.desktop", "[Other]\nx=y\n[Desktop Entry]\nType=Application\nName=x\nExec=pegel\n"),
    (
        "a/applications/comments.desktop",
        "# one\n\n[Desktop Entry]\n# two\nType=Application\nName = Spaces \nExec=pegel\n",
    ),
    ("a/applications/crlf.desktop", "[Desktop Entry]\r\nType=Application\r\nName=Crlf\r\nExec=pegel\r\n"),
    ("a/applications/junk.desktop", "[Desktop Entry]\nType=Application\nName=Junk\njunk\nExec=pegel\n"),
    (
        "a/applications/action.desktop",
        "[Desktop Entry]\nType=Application\nName=Action\nExec=pegel\n[Desktop Action x]\nName=y\nExec=kraken\nHidden=true\n",
    ),
    ("a/applications/upper.Desktop", "[Desktop Entry]\nType=Application\nName=Upper\nExec=pegel\n"),
    ("a/applications/empty.desktop", ""),
];

#[test]
fn the_menu_is_told_as_glib_tells_it() {
    if !has_glib() {
        return;
    }
    let mut files: Vec<(&str, &[u8])> = CASES.iter().map(|(path, content)| (*path, content.as_bytes())).collect();
    files.extend([
        ("bin/pegel", &b"#!/bin/sh\n"[..]),
        ("bin/env", b"#!/bin/sh\n"),
        ("plain/noexec", b"x"),
        ("home/", b""),
    ]);
    let tree = tree(&files);
    let at = |path: &str| tree.path().join(path).to_str().unwrap().to_owned();
    std::os::unix::fs::symlink(
        tree.path().join("a/applications/plain.desktop"),
        tree.path().join("a/applications/linked.desktop"),
    )
    .unwrap();
    std::os::unix::fs::symlink(tree.path().join("b/applications/tide"), tree.path().join("b/applications/again"))
        .unwrap();
    let search = format!("{}:{}", at("bin"), at("plain"));
    for desktops in ["Quayside:Mole", "Mole", "", "Pier:Quayside"] {
        let mut ask = Command::new("/usr/bin/python3");
        ask.args(["-c", ASK]).env_clear().env("HOME", at("home")).env("PATH", &search);
        ask.env("XDG_DATA_HOME", at("a")).env("XDG_DATA_DIRS", at("b")).env("XDG_CURRENT_DESKTOP", desktops);
        let theirs: Value = serde_json::from_slice(&output(&mut ask)).unwrap();
        let theirs: BTreeMap<String, String> = theirs
            .as_object()
            .unwrap()
            .iter()
            .filter(|(_, entry)| entry[1] == true)
            .map(|(id, entry)| (id.clone(), entry[0].as_str().unwrap().to_owned()))
            .collect();
        let dirs = format!("{}:{}", at("a"), at("b"));
        let arguments =
            ["--path", &search, "launchers", "--data-dirs", &dirs, "--desktop", desktops, "--format", "json"];
        let document = run(arguments).document();
        let env = |launcher: &&Value| Path::new(launcher["file"].as_str().unwrap()).starts_with(tree.path());
        let ours: BTreeMap<String, String> = document["launchers"]
            .as_array()
            .unwrap()
            .iter()
            .filter(env)
            .filter(|launcher| launcher["shown"] == true)
            .map(|launcher| {
                (launcher["id"].as_str().unwrap().to_owned(), launcher["file"].as_str().unwrap().to_owned())
            })
            .collect();
        assert_eq!(ours, theirs, "desktops {desktops:?}");
        assert!(ours.len() > 10);
    }
}

#[test]
fn a_huge_line_costs_its_file_alone() {
    let huge = [b"[Desktop Entry]\nType=Application\nExec=pegel\nName=".as_slice(), &vec![b'x'; 10 << 20]].concat();
    let plain = b"[Desktop Entry]\nType=Application\nName=Plain\nExec=pegel\n";
    let tree = tree(&[
        ("share/applications/huge.desktop", &huge),
        ("share/applications/plain.desktop", plain),
        ("bin/pegel", b"x"),
    ]);
    let root = tree.path().to_str().unwrap();
    let ran = run(["--root", root, "--path", "/bin", "launchers", "--data-dirs", "/share", "--format", "json"]);
    let document = ran.document();
    assert!(document["launchers"][0]["why_hidden"].as_str().unwrap().starts_with("larger than"), "{document}");
    assert_eq!(document["launchers"][1]["shown"], true);
}
