//! Before and after: snapshots around real installations and removals, and what managers' logs tell of them.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use serde_json::Value;
use tempfile::TempDir;
use whodunit_core::schema::snapshot_schema;

use super::support::{Ran, finish, has, lantern, open_dir, output, program, repository, run, tree};

/// Runs the program with snapshots of its own.
fn whodunit(state: &Path, arguments: &[&str]) -> Ran {
    finish(Command::new(program()).args(arguments).env("XDG_STATE_HOME", state).env_remove("HOME"))
}

/// Each change in a row.
fn changes(ran: &Ran) -> Vec<String> {
    let text = |value: &Value| value.as_str().unwrap_or("-").to_owned();
    let row = |one: &Value| {
        let of = one["of"].as_str().map(|of| format!(" {of}")).unwrap_or_default();
        let (what, change, subject) = (text(&one["what"]), text(&one["change"]), text(&one["subject"]));
        format!("{what} {change}{of} {subject}: {} to {}", text(&one["from"]), text(&one["to"]))
    };
    ran.document()["changes"].as_array().unwrap().iter().map(row).collect()
}

/// Each event in a row.
fn events(root: &Path, arguments: &[&str]) -> Vec<String> {
    let all = ["--root", root.to_str().unwrap(), "timeline", "--format", "json"];
    let ran = run(all.iter().chain(arguments));
    let text = |value: &Value| value.as_str().unwrap_or("-").to_owned();
    let row = |one: &Value| {
        let mark = if one["out_of_order"] == true { " out of order" } else { "" };
        let (from, to, by) = (text(&one["from"]), text(&one["to"]), text(&one["by"]));
        format!(
            "{} {} {} {from} to {to} by {by}: {}{mark}",
            text(&one["at"]),
            text(&one["action"]),
            text(&one["name"]),
            text(&one["command"])
        )
    };
    ran.document()["events"].as_array().unwrap().iter().map(row).collect()
}

/// A root for dpkg, and packages for it: a program, settings and a unit; in two versions.
fn machine() -> TempDir {
    let made = open_dir();
    let script = "set -eu
mkdir -p root/var/lib/dpkg/info root/var/lib/dpkg/updates root/var/log root/etc root/usr/bin root/usr/local/bin root/home/maren
touch root/var/lib/dpkg/status root/var/lib/dpkg/available
printf 'maren:x:1000:1000::/home/maren:/bin/sh\\n' >root/etc/passwd
for version in 2.3-1 2.10-1; do
    rm -rf p; mkdir -p p/DEBIAN p/usr/bin p/etc p/usr/lib/systemd/system
    printf 'Package: tarn\\nVersion: %s\\nArchitecture: all\\nMaintainer: Isla Quay <isla@quay.example>\\nDescription: tides\\n' $version >p/DEBIAN/control
    echo /etc/tarn.conf >p/DEBIAN/conffiles
    printf '#!/bin/sh\\necho %s\\n' $version >p/usr/bin/tarn; chmod 755 p/usr/bin/tarn
    echo tides >p/etc/tarn.conf
    printf '[Service]\\nExecStart=/usr/bin/tarn\\n' >p/usr/lib/systemd/system/tarn.service
    dpkg-deb --root-owner-group -b p tarn_$version.deb >/dev/null
done";
    output(Command::new("sh").args(["-c", script]).current_dir(made.path()));
    made
}

fn dpkg(made: &Path, arguments: &[&str]) {
    let root = made.join("root");
    let options = [
        format!("--root={}", root.display()),
        format!("--log={}/var/log/dpkg.log", root.display()),
        "--force-not-root".to_owned(),
        "--force-bad-path".to_owned(),
    ];
    output(Command::new("dpkg").args(options).args(arguments).current_dir(made).env("TZ", "UTC"));
}

#[test]
fn what_dpkg_did_is_what_differs_and_a_trial_leaves_nothing() {
    if !has(&["dpkg", "dpkg-deb"]) {
        return;
    }
    let (made, state) = (machine(), open_dir());
    let root = made.path().join("root");
    let place = root.to_str().unwrap();
    let save = |name: &str| whodunit(state.path(), &["--root", place, "snapshot", "save", name]);
    let compared = |arguments: &[&str]| {
        whodunit(state.path(), &[&["--root", place, "compare", "--format", "json"], arguments].concat())
    };
    assert_eq!(save("before").status, 0);
    assert_eq!(compared(&["before", "now", "--strict"]).status, 0);

    dpkg(made.path(), &["-i", "tarn_2.3-1.deb"]);
    let installed = [
        "package added dpkg/system/tarn: - to 2.3-1",
        "winner added tarn: - to /usr/bin/tarn (dpkg/system/tarn)",
        "service added system tarn.service: - to /usr/lib/systemd/system/tarn.service",
        "file added /etc/tarn.conf: - to -",
    ];
    let ran = compared(&["before", "now", "--strict"]);
    assert_eq!((changes(&ran), ran.status), (installed.map(str::to_owned).to_vec(), 1), "{}", ran.err);
    // All of it was dpkg's doing, by one entry of its log.
    let told = compared(&["before", "--by-cause"]).document();
    let told = told["transactions"].as_array().unwrap();
    assert_eq!((told.len(), &told[0]["manager"], &told[0]["changes"]), (1, &"dpkg".into(), &[0, 1, 2, 3][..].into()));
    assert_eq!(save("middle").status, 0);

    dpkg(made.path(), &["-i", "tarn_2.10-1.deb"]);
    // A program of nobody's takes its place.
    fs::copy(root.join("usr/bin/tarn"), root.join("usr/local/bin/tarn")).unwrap();
    assert_eq!(
        changes(&compared(&["middle"])),
        [
            "package changed up dpkg/system/tarn: 2.3-1 to 2.10-1",
            "winner changed tarn: /usr/bin/tarn (dpkg/system/tarn) to /usr/local/bin/tarn (unowned)",
            "unowned added /usr/local/bin/tarn: - to script",
        ]
    );
    let told = compared(&["middle", "--by-cause"]).document();
    let told = told["transactions"].as_array().unwrap();
    assert_eq!((told.len(), &told[0]["changes"]), (1, &[0][..].into()), "{told:#?}");
    fs::remove_file(root.join("usr/local/bin/tarn")).unwrap();
    dpkg(made.path(), &["-r", "tarn"]);
    assert_eq!(
        changes(&compared(&["before", "now"])),
        ["package added dpkg/system/tarn: - to 2.10-1 (config-remains)", "file added /etc/tarn.conf: - to -"]
    );
    dpkg(made.path(), &["-P", "tarn"]);
    assert_eq!(compared(&["before", "now", "--strict"]).status, 0);
    // The other way round, and between files of snapshots.
    let file = state.path().join("whodunit/snapshots/middle.json.zst");
    let ran = compared(&[file.to_str().unwrap(), "before"]);
    assert_eq!(changes(&ran)[0], "package removed dpkg/system/tarn: 2.3-1 to -");

    let told: Vec<String> = events(&root, &[]).iter().map(|row| row[21..].to_owned()).collect();
    assert_eq!(
        told,
        [
            "install tarn - to 2.3-1 by -: -",
            "upgrade tarn 2.3-1 to 2.10-1 by -: -",
            "remove tarn 2.10-1 to - by -: -",
            "configure tarn 2.10-1 to - by -: -",
        ]
    );
}

#[test]
fn snapshots_are_kept_privately_never_overwritten_and_named_when_they_cannot_be_used() {
    let state = open_dir();
    let place = lantern().to_str().unwrap();
    let ran = whodunit(state.path(), &["--root", place, "snapshot", "save", "one"]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    let dir = state.path().join("whodunit/snapshots");
    let file = dir.join("one.json.zst");
    let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&file), mode(&dir)), (0o600, 0o700));
    let names: Vec<_> = fs::read_dir(&dir).unwrap().map(|name| name.unwrap().file_name()).collect();
    assert_eq!(names, ["one.json.zst"], "nothing unfinished is left");

    let document: Value = serde_json::from_slice(&zstd::decode_all(fs::File::open(&file).unwrap()).unwrap()).unwrap();
    let published = repository().join("docs/schema/whodunit-snapshot-1.json");
    let generated = serde_json::to_string_pretty(&snapshot_schema()).unwrap() + "\n";
    if std::env::var_os("WHODUNIT_UPDATE_SCHEMA").is_some() {
        fs::write(&published, &generated).unwrap();
    }
    assert_eq!(fs::read_to_string(&published).unwrap(), generated, "WHODUNIT_UPDATE_SCHEMA=1 writes it anew");
    let validator = jsonschema::validator_for(&snapshot_schema()).unwrap();
    assert!(validator.is_valid(&document), "{:?}", validator.iter_errors(&document).next());
    assert!(!validator.is_valid(&serde_json::json!({ "schema": "whodunit-snapshot/1" })));
    let names = |key: &str, of: &str| {
        let list = document[key].as_array().unwrap().iter();
        list.map(|one| one[of].as_str().unwrap().to_owned()).collect::<BTreeSet<_>>()
    };
    assert!(names("packages", "name").contains("chartdesk") && names("winners", "name").contains("tidegauge"));
    assert!(names("users", "name").contains("maren") && names("files", "path").contains("/home/maren/.profile"));

    let fails = |arguments: &[&str], status: i32, says: &str| {
        let ran = whodunit(state.path(), arguments);
        assert_eq!((ran.status, ran.err.contains(says)), (status, true), "{arguments:?}: {}", ran.err);
    };
    fails(&["--root", place, "snapshot", "save", "one"], 2, "exists already");
    for bad in ["now", ".hidden", ""] {
        fails(&["snapshot", "save", bad], 2, "is no name for a snapshot");
    }
    fails(&["compare", "gone"], 1, "there is no snapshot gone");
    fails(&["snapshot", "drop", "gone"], 1, "there is no snapshot gone");
    let mut later = document.clone();
    later["schema"] = "whodunit-snapshot/7".into();
    fs::write(dir.join("later.json.zst"), later.to_string()).unwrap();
    fails(&["compare", "later"], 2, "another version of this program (whodunit-snapshot/7");
    let content = fs::read(&file).unwrap();
    fs::write(dir.join("cut.json.zst"), &content[..content.len() / 2]).unwrap();
    fails(&["compare", "cut"], 2, "cut off or damaged");
    fs::write(dir.join("other.json.zst"), "{}").unwrap();
    fails(&["compare", "other"], 2, "it is no snapshot");
    let listed = whodunit(state.path(), &["snapshot", "list", "--format", "json"]).document();
    let rows: Vec<(bool, bool)> = listed["snapshots"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["packages"].is_null(), one["problem"].is_null()))
        .collect();
    assert_eq!(rows.len(), 4);
    assert!(rows.iter().all(|(unknown, usable)| unknown != usable), "{listed}");
    // Without a name, the last one that can be used counts.
    let ran = whodunit(state.path(), &["--root", place, "compare", "--strict"]);
    assert!(ran.out.starts_with("nothing differs between one and now"), "{}", ran.out);
    // What is noted of a record that was read is no loss.
    assert_eq!((ran.status, ran.out.contains("Not compared")), (0, false), "{}", ran.out);
    assert_eq!(whodunit(state.path(), &["snapshot", "drop", "one", "cut", "later", "other"]).status, 0);
    let ran = whodunit(state.path(), &["snapshot", "list"]);
    assert!(ran.out.starts_with("no snapshot is kept"), "{}", ran.out);
    // A directory that cannot be written to.
    fails(&["--root", place, "snapshot", "save", "/proc/none/one"], 4, "cannot write /proc/none/one");
}

#[test]
fn apts_history_says_who_asked_and_what_dpkgs_log_has_lost() {
    let gzip = |text: &str| {
        use std::io::Write as _;
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(text.as_bytes()).unwrap();
        packed.finish().unwrap()
    };
    let made = tree(&[
        ("var/lib/dpkg/status", b"Package: tarn\nStatus: install ok installed\nArchitecture: amd64\nVersion: 2.10-1\n\n"),
        ("var/log/dpkg.log", b"2026-03-02 08:15:02 startup archives unpack\n2026-03-02 08:15:03 upgrade tarn:amd64 2.3-1 2.10-1\n2026-03-02 08:15:04 status installed tarn:amd64 2.10-1\n2026-03-02 08:15:04 install buoy:all <none> 1.0\n2026-03-02 06:00:00 remove buoy:all 1.0 <none>\n2026-03-0"),
        ("var/log/apt/history.log", b"\nStart-Date: 2026-03-02  08:15:01\nCommandline: apt install tarn\nRequested-By: maren (1000)\nInstall: buoy:amd64 (1.0, automatic)\nUpgrade: tarn:amd64 (2.3-1, 2.10-1)\nEnd-Date: 2026-03-02  08:15:05\n"),
        ("var/log/apt/history.log.1.gz", &gzip("\nStart-Date: 2026-02-01  10:00:00\nCommandline: apt install tarn\nInstall: tarn:amd64 (2.3-1)\nEnd-Date: 2026-02-01  10:00:02\n")),
        ("var/log/apt/history.log.2.gz", &gzip("Start-Date: 2026-01-01  10:00:00\nInstall: never:amd64 (1)\n")[..20]),
    ]);
    let expected = [
        "2026-02-01T10:00:00Z install tarn - to 2.3-1 by -: apt install tarn",
        "2026-03-02T06:00:00Z remove buoy 1.0 to - by -: - out of order",
        "2026-03-02T08:15:03Z upgrade tarn 2.3-1 to 2.10-1 by maren: apt install tarn",
        "2026-03-02T08:15:04Z install buoy - to 1.0 by maren: apt install tarn",
    ];
    assert_eq!(events(made.path(), &[]), expected);
    assert_eq!(events(made.path(), &["--since", "2026-03-02T07:00", "tarn"]), expected[2..3]);
    assert_eq!(events(made.path(), &["--until", "2026-03-01"]), expected[..1]);
    let ran = run(["--root", made.path().to_str().unwrap(), "timeline"]);
    assert!(ran.err.contains("/var/log/apt/history.log.2.gz"), "{}", ran.err);
    let ran = run(["--root", made.path().to_str().unwrap(), "timeline", "--since", "yesterday"]);
    assert!(ran.status == 2 && ran.err.contains("--since takes a date or a time"), "{}", ran.err);
    let ran = run(["--root", made.path().to_str().unwrap(), "timeline", "gone"]);
    assert_eq!(ran.status, 1);
}

#[test]
fn logs_of_other_distributions_are_read_as_their_managers_write_them() {
    let pacman = b"[2026-03-02T08:15:01+0000] [PACMAN] Running 'pacman -S tarn'\n[2026-03-02T08:15:02+0000] [ALPM] transaction started\n[2026-03-02T08:15:03+0000] [ALPM] installed tarn (2.3-1)\n[2026-03-03T08:15:03+0000] [ALPM] upgraded tarn (2.3-1 -> 2.10-1)\n[2026-03-03T08:15:03+0000] [ALPM-SCRIPTLET] removed tarn (1)\n";
    let zypp = b"# 2026-03-02 08:15:00 a remark\n2026-03-02 08:15:01|command|maren@lantern|'zypper' 'install' 'tarn'|\n2026-03-02 08:15:02|install|tarn|2.3-1|x86_64|maren@lantern|quay|0cc1|\n2026-03-02 08:15:02|install|buoy|1.0-1|noarch||quay|0cc2|\n2026-03-03 08:15:02|install|tarn|2.10-1|x86_64|root@lantern|quay|0cc3|\n2026-03-04 08:15:02|remove |tarn|2.10-1|x86_64|root@lantern|\n";
    let emerge = b"1772439301:  *** emerge --ask net-lake/tarn\n1772439302:  >>> emerge (1 of 1) net-lake/tarn-2.3-r1 to /\n1772439303:  ::: completed emerge (1 of 1) net-lake/tarn-2.3-r1 to /\n1772525703:  === Unmerging... (net-lake/tarn-2.3-r1)\n1772525703:  >>> unmerge success: net-lake/tarn-2.3-r1\n1772525704:  ::: completed emerge (1 of 1) net-lake/tarn-2.10 to /\n1772612104:  >>> unmerge success: net-lake/tarn-2.10\n";
    let cases = [
        (
            tree(&[
                ("var/lib/pacman/local/ALPM_DB_VERSION", b"9\n"),
                ("etc/pacman.conf", b"[options]\n"),
                ("var/log/pacman.log", pacman),
            ]),
            vec![
                "2026-03-02T08:15:03Z install tarn - to 2.3-1 by -: pacman -S tarn",
                "2026-03-03T08:15:03Z upgrade tarn 2.3-1 to 2.10-1 by -: pacman -S tarn",
            ],
        ),
        (
            tree(&[
                ("var/db/pkg/net-lake/buoy-1/SLOT", b"0\n"),
                ("var/lib/portage/world", b""),
                ("var/log/emerge.log", emerge),
            ]),
            vec![
                "2026-03-02T08:15:03Z install net-lake/tarn - to 2.3-r1 by -: emerge --ask net-lake/tarn",
                "2026-03-03T08:15:04Z upgrade net-lake/tarn 2.3-r1 to 2.10 by -: emerge --ask net-lake/tarn",
                "2026-03-04T08:15:04Z remove net-lake/tarn 2.10 to - by -: emerge --ask net-lake/tarn",
            ],
        ),
    ];
    for (machine, expected) in &cases {
        assert_eq!(events(machine.path(), &[]), *expected);
    }
    if !has(&["rpm"]) {
        return;
    }
    let made = tree(&[
        ("var/log/zypp/history", zypp),
        ("var/lib/dnf/", b""),
        ("home/maren/", b""),
        ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n"),
    ]);
    output(Command::new("rpm").args(["--initdb", "--dbpath"]).arg(made.path().join("var/lib/rpm")));
    let database = rusqlite::Connection::open(made.path().join("var/lib/dnf/history.sqlite")).unwrap();
    database
        .execute_batch(
            "CREATE TABLE trans (id INTEGER PRIMARY KEY, dt_begin INTEGER, user_id INTEGER, cmdline TEXT);
             CREATE TABLE trans_item (id INTEGER PRIMARY KEY, trans_id INTEGER, item_id INTEGER, action INTEGER);
             CREATE TABLE rpm (item_id INTEGER, name TEXT, epoch INTEGER, version TEXT, release TEXT, arch TEXT);
             INSERT INTO trans VALUES (1, 1772439303, 1000, 'install skiff'), (2, 1772525703, 4294967295, 'upgrade');
             INSERT INTO rpm VALUES (1, 'skiff', 0, '1.9', '1', 'noarch'), (2, 'skiff', 1, '1.10', '1', 'noarch');
             INSERT INTO trans_item VALUES (1, 1, 1, 1), (2, 2, 2, 6), (3, 2, 1, 7);",
        )
        .unwrap();
    drop(database);
    assert_eq!(
        events(made.path(), &[]),
        [
            "2026-03-02T08:15:02Z install tarn - to 2.3-1 by maren: zypper install tarn",
            "2026-03-02T08:15:02Z install buoy - to 1.0-1 by maren: zypper install tarn",
            "2026-03-02T08:15:03Z install skiff - to 1.9-1 by maren: dnf install skiff",
            "2026-03-03T08:15:02Z upgrade tarn 2.3-1 to 2.10-1 by root: -",
            "2026-03-03T08:15:03Z upgrade skiff 1.9-1 to 1:1.10-1 by -: dnf upgrade",
            "2026-03-04T08:15:02Z remove tarn 2.10-1 to - by root: -",
        ]
    );
}

#[test]
fn a_manifest_fits_the_machine_that_wrote_it_and_names_what_another_lacks() {
    if !has(&["dpkg", "dpkg-deb"]) {
        return;
    }
    let (made, place) = (machine(), open_dir());
    dpkg(made.path(), &["-i", "tarn_2.3-1.deb"]);
    let root = made.path().join("root");
    fs::copy(root.join("usr/bin/tarn"), root.join("usr/local/bin/buoy")).unwrap();
    let file = place.path().join("lantern.toml");
    let call = |arguments: &[&str]| whodunit(place.path(), &[&["--root", root.to_str().unwrap()], arguments].concat());
    let written = call(&["manifest", "write", "--pin", file.to_str().unwrap()]);
    assert_eq!((written.status, written.out.as_str()), (0, ""), "{}", written.err);
    let compared = || call(&["manifest", "compare", file.to_str().unwrap(), "--strict", "--format", "json"]);
    assert_eq!((changes(&compared()), compared().status), (Vec::new(), 0));
    assert!(call(&["manifest", "write", file.to_str().unwrap()]).err.contains("exists already"));

    // A machine that keeps several versions of one toolchain.
    let demo = lantern().to_str().unwrap();
    let pinned = place.path().join("pinned.toml");
    let of_demo = |arguments: &[&str]| whodunit(place.path(), &[&["--root", demo, "manifest"], arguments].concat());
    assert_eq!(of_demo(&["write", "--pin", pinned.to_str().unwrap()]).status, 0);
    let ran = of_demo(&["compare", pinned.to_str().unwrap(), "--strict"]);
    assert_eq!((ran.status, ran.out.lines().count()), (0, 1), "{}", ran.out);

    dpkg(made.path(), &["-i", "tarn_2.10-1.deb"]);
    fs::rename(root.join("usr/local/bin/buoy"), root.join("usr/local/bin/chain")).unwrap();
    assert_eq!(
        changes(&compared()),
        [
            "package changed version dpkg/system/tarn: 2.3-1 to 2.10-1",
            "unowned removed /usr/local/bin/buoy: 0000 to -",
            "unowned added /usr/local/bin/chain: - to 0000",
        ]
        .map(|row| row.replace("0000", &digest(&root.join("usr/local/bin/chain"))))
    );
    dpkg(made.path(), &["-P", "tarn"]);
    assert_eq!(compared().status, 1);
    let shown = call(&["manifest", "compare", file.to_str().unwrap()]);
    assert!(shown.out.contains("  missing  dpkg/system/tarn  2.3-1\n"), "{}", shown.out);
    // The one that leaves versions open fits any.
    let open = call(&["manifest", "write"]);
    assert!(!open.out.contains("version ="), "{}", open.out);

    fs::write(&file, "schema = \"whodunit-manifest/1\"\n[[package]]\nmanager = \"dpkg\"\nscope = \"system\"\n")
        .unwrap();
    let ran = call(&["manifest", "compare", file.to_str().unwrap()]);
    assert!(ran.status == 2 && ran.err.contains("missing field `name`"), "{}", ran.err);
    let other = "[[package]]\nmanager = \"pier\"\nscope = \"system\"\nname = \"tarn\"\n";
    fs::write(&file, format!("schema = \"whodunit-manifest/1\"\n{other}{other}")).unwrap();
    let ran = call(&["manifest", "compare", file.to_str().unwrap(), "--format", "json"]);
    assert_eq!(ran.document()["not_compared"].as_array().unwrap().len(), 2);
    let ran = call(&["manifest", "compare", "/none/lantern.toml"]);
    assert!(ran.status == 2 && ran.err.contains("/none/lantern.toml"), "{}", ran.err);
}

fn digest(file: &Path) -> String {
    use sha2::Digest as _;
    hex::encode(sha2::Sha256::digest(fs::read(file).unwrap()))
}
