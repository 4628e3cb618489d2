//! Distributions whose managers do not run here: trees made after their public formats. And what damage to the
//! records of any distribution's manager costs.

use std::fs;
use std::path::Path;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{run, text, tree};

fn alpine() -> TempDir {
    tree(&[
        ("etc/apk/world", b"tarn=2.3-r1\nlights@edge\n!none\n"),
        (
            "lib/apk/db/installed",
            b"C:Q1x\nP:tarn\nV:2.3-r1\nA:x86_64\nI:2048\nD:so:libteasel.so.0\nF:usr\nF:usr/bin\nR:tarn\na:0:0:755\nZ:Q1x\n\nP:lights\nV:1.0_rc1-r0\nA:x86_64\nF:\nR:rooted\n\nP:teasel\nV:0.8-r0\nA:noarch\nF:usr/lib\nR:libteasel.so.0\n\n",
        ),
        ("usr/bin/tarn", b"x"),
        ("rooted", b"x"),
        ("usr/lib/libteasel.so.0", b"x"),
    ])
}

fn gentoo() -> TempDir {
    tree(&[
        ("var/lib/portage/world", b"net-lake/tarn\n>=app-lake/buoy-1.2:2\n"),
        ("var/db/pkg/net-lake/tarn-2.3-r1/CONTENTS", b"dir /usr\nobj /usr/bin/tarn 9dd4e461268c8034f5c8564e155c67a6 1767225600\nsym /usr/bin/tarn two -> tarn 1767225600\n"),
        ("var/db/pkg/net-lake/tarn-2.3-r1/SLOT", b"0/7\n"),
        ("var/db/pkg/net-lake/tarn-2.3-r1/repository", b"quay\n"),
        ("var/db/pkg/net-lake/tarn-2.3-r1/SIZE", b"2048\n"),
        ("var/db/pkg/app-lake/buoy-1.2/SLOT", b"2\n"),
        ("var/db/pkg/app-lake/buoy-0.9_rc1/SLOT", b"0\n"),
        ("var/db/pkg/app-lake/-MERGING-chain-1/SLOT", b"0\n"),
        ("usr/bin/tarn", b"x"),
        ("usr/bin/tarn two", b"-> tarn"),
    ])
}

fn solus() -> TempDir {
    tree(&[
        ("var/lib/eopkg/info/automatic", b"teasel\n"),
        (
            "var/lib/eopkg/package/tarn-2.3-12/metadata.xml",
            b"<PISI><Source><Name>lake-source</Name></Source><Package><Name>tarn</Name><Architecture>x86_64</Architecture><InstalledSize>2048</InstalledSize><History><Update release=\"12\"><Date>2026-01-02</Date><Version>2.3</Version></Update><Update release=\"11\"><Version>2.2</Version></Update></History></Package></PISI>",
        ),
        ("var/lib/eopkg/package/tarn-2.3-12/files.xml", b"<Files>\n<File><Path>usr/bin/tarn</Path></File>\n<File><Path>usr/share/a &amp; b</Path></File></Files>"),
        ("var/lib/eopkg/package/teasel-0.8-3/metadata.xml", b"<PISI><Package><Name>teasel</Name><History><Update release=\"3\"><Version>0.8</Version></Update></History></Package></PISI>"),
        ("var/lib/eopkg/package/teasel-0.8-3/files.xml", b"<Files></Files>"),
        ("usr/bin/tarn", b"x"),
        ("usr/share/a & b", b"x"),
    ])
}

fn ports() -> TempDir {
    let made = tree(&[("opt/local/bin/tarn", b"x"), ("opt/local/var/macports/registry/keep", b"")]);
    let database = rusqlite::Connection::open(made.path().join("opt/local/var/macports/registry/registry.db")).unwrap();
    database.create_collation("VERSION", |a: &str, b: &str| a.cmp(b)).unwrap();
    database
        .execute_batch(
            "CREATE TABLE ports (id INTEGER PRIMARY KEY, name TEXT COLLATE NOCASE, version TEXT COLLATE VERSION, revision INTEGER COLLATE VERSION, epoch INTEGER, variants TEXT, state TEXT, requested INTEGER, date INTEGER);
             CREATE TABLE files (id INTEGER, path TEXT, actual_path TEXT, active INTEGER);
             INSERT INTO ports VALUES (1, 'Tarn', '2.3', 1, 0, '+x11', 'installed', 1, 1767225600), (2, 'Tarn', '2.2', 0, 0, '', 'imaged', 0, 1767225600);
             INSERT INTO files VALUES (1, '/opt/local/bin/tarn', '/opt/local/bin/tarn', 1), (2, '/opt/local/bin/tarn', NULL, 0);",
        )
        .unwrap();
    made
}

fn rows(root: &Path) -> Vec<String> {
    let document = run(["--root", root.to_str().unwrap(), "inventory", "--all", "--format", "json"]).document();
    let packages = document["packages"].as_array().unwrap();
    let row = |one: &Value| {
        let held = if one["held"] == true { " held" } else { "" };
        let active = if one["active"] == true { "" } else { " inactive" };
        let origin = one["origin"]["name"].as_str().map(|name| format!(" from {name}")).unwrap_or_default();
        let commands = one["commands"].as_array().unwrap().len();
        format!(
            "{} {} {}{held}{active}{origin} {commands}",
            text(&one["id"]),
            text(&one["version"]),
            text(&one["reason"])
        )
    };
    packages.iter().map(row).collect()
}

/// A machine, its packages in short, and the owners of some paths.
type Case<'c> = (TempDir, &'c [&'c str], &'c [(&'c str, &'c str)]);

#[test]
fn packages_files_and_reasons_of_each_are_known() {
    let cases: [Case<'_>; 4] = [
        (
            alpine(),
            &[
                "apk/system/lights 1.0_rc1-r0 explicit from edge 0",
                "apk/system/tarn 2.3-r1 explicit held 1",
                "apk/system/teasel 0.8-r0 dependency 0",
            ],
            &[("/usr/bin/tarn", "tarn"), ("/rooted", "lights"), ("/usr/lib/libteasel.so.0", "teasel")],
        ),
        (
            gentoo(),
            &[
                "portage/system/app-lake/buoy-0.9_rc1 0.9_rc1 dependency 0",
                "portage/system/app-lake/buoy-1.2 1.2 explicit 0",
                "portage/system/net-lake/tarn-2.3-r1 2.3-r1 explicit from quay 2",
            ],
            &[("/usr/bin/tarn", "net-lake/tarn"), ("/usr/bin/tarn two", "net-lake/tarn")],
        ),
        (
            solus(),
            &["eopkg/system/tarn 2.3 explicit 1", "eopkg/system/teasel 0.8 dependency 0"],
            &[("/usr/bin/tarn", "tarn"), ("/usr/share/a & b", "tarn")],
        ),
        (
            ports(),
            &[
                "macports/system/Tarn/2.2_0 2.2_0 dependency inactive 0",
                "macports/system/Tarn/2.3_1+x11 2.3_1+x11 explicit 1",
            ],
            &[("/opt/local/bin/tarn", "Tarn")],
        ),
    ];
    for (made, packages, owners) in cases {
        assert_eq!(rows(made.path()), packages);
        for (path, name) in owners {
            let document = run(["--root", made.path().to_str().unwrap(), "owner", "--format", "json", path]).document();
            let answer = &document["answers"][0];
            assert_eq!(
                (text(&answer["verdict"]), text(&answer["owner"]["name"])),
                ("owned".to_owned(), (*name).to_owned()),
                "{path}"
            );
            assert!(
                document["coverage"].as_array().unwrap().iter().all(|part| part["state"] == "read"),
                "{document:#}"
            );
        }
    }
}

/// Records cut anywhere, and with bytes turned over: an answer each time, and what is lost is said.
#[test]
fn damage_never_ends_an_answer() {
    for (made, file) in [
        (alpine(), "lib/apk/db/installed"),
        (gentoo(), "var/db/pkg/net-lake/tarn-2.3-r1/CONTENTS"),
        (solus(), "var/lib/eopkg/package/tarn-2.3-12/metadata.xml"),
        (solus(), "var/lib/eopkg/package/tarn-2.3-12/files.xml"),
        (ports(), "opt/local/var/macports/registry/registry.db"),
    ] {
        let at = made.path().join(file);
        let whole = fs::read(&at).unwrap();
        for part in 0..6 {
            let mut damaged = whole[..whole.len() * part / 6].to_vec();
            if part % 2 == 1 {
                damaged.iter_mut().skip(part).step_by(37).for_each(|byte| *byte ^= 0xff);
            }
            fs::write(&at, damaged).unwrap();
            let root = made.path().to_str().unwrap();
            run(["--root", root, "inventory", "--all", "--format", "json"]).document();
            run(["--root", root, "owner", "--format", "json", "/usr/bin/tarn"]).document();
        }
        fs::remove_file(&at).unwrap();
        std::os::unix::fs::symlink("/dev/zero", &at).unwrap();
        run(["--root", made.path().to_str().unwrap(), "inventory", "--all", "--format", "json"]).document();
    }
    // What is no database at all, in every form of rpm's.
    for file in ["rpmdb.sqlite", "Packages.db", "Packages"] {
        let made = tree(&[(&format!("var/lib/rpm/{file}"), b"no database")]);
        let document = run(["--root", made.path().to_str().unwrap(), "inventory", "--format", "json"]).document();
        let part = &document["coverage"][0];
        assert_eq!(
            (text(&part["manager"]), text(&part["state"])),
            ("rpm".to_owned(), "unreadable".to_owned()),
            "{document:#}"
        );
        let answer =
            run(["--root", made.path().to_str().unwrap(), "owner", "--format", "json", "/var/lib/rpm"]).document();
        assert_eq!(answer["answers"][0]["certain"], false);
    }
}

/// Makes a database of rpm with these packages and versions.
pub fn rpm_database(root: &Path, packages: &[(&str, &str)]) {
    let database = rusqlite::Connection::open(root.join("usr/lib/sysimage/rpm/rpmdb.sqlite")).unwrap();
    database
        .execute_batch("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB NOT NULL);")
        .unwrap();
    for (name, version) in packages {
        let header = whodunit_demo::HeaderBuilder::default()
            .text(1000, name)
            .text(1001, version)
            .text(1002, "1")
            .text(1022, "noarch");
        database.execute("INSERT INTO Packages (blob) VALUES (?)", [header.build()]).unwrap();
    }
}

/// dnf 5 keeps its reasons and repositories in files of its own; and what it holds.
#[test]
fn the_records_of_the_newer_dnf_are_read() {
    let made = tree(&[
        ("usr/lib/sysimage/libdnf5/packages.toml", b"version = \"1.0\"\n[packages]\n\"buoy.noarch\" = {reason = \"User\"}\n[packages.\"anchor.noarch\"]\nreason = \"Dependency\"\n"),
        ("usr/lib/sysimage/libdnf5/nevras.toml", b"version = \"1.0\"\n[nevras]\n\"buoy-0:2.0-1.noarch\" = {from_repo = \"quay\"}\n\"anchor-1.0-1.noarch\" = {from_repo = \"@commandline\"}\n"),
        ("etc/dnf/versionlock.toml", b"version = \"1.0\"\n[[packages]]\nname = \"anch*\"\n"),
        ("etc/yum.repos.d/quay.repo", b"[quay]\nname=Quay\nmetalink=https://quay.example/link\n[copy]\nmetalink=https://quay.example/link\n"),
        ("usr/lib/sysimage/rpm/keep", b""),
        ("usr/bin/dnf5", b"x"),
    ]);
    rpm_database(made.path(), &[("buoy", "2.0"), ("anchor", "1.0"), ("chain", "1.0")]);
    assert_eq!(
        rows(made.path()),
        [
            "rpm/system/anchor 1.0-1 dependency held from @commandline 0",
            "rpm/system/buoy 2.0-1 explicit from quay 0",
            "rpm/system/chain 1.0-1 explicit 0",
        ]
    );
    let document = run(["--root", made.path().to_str().unwrap(), "inventory", "--all", "--format", "json"]).document();
    assert!(
        text(&document["notes"][0]).contains("is already configured in /etc/yum.repos.d/quay.repo"),
        "{document:#}"
    );
    assert_eq!(text(&document["findings"][0]["subject"]), "chain");
    assert_eq!(text(&document["packages"][0]["origin"]["trust"]), "local");
    let answer = run(["--root", made.path().to_str().unwrap(), "owner", "package:buoy", "--format", "json"]).document();
    assert_eq!(text(&answer["answers"][0]["remedies"][0]["command"]), "dnf remove buoy");
}

/// Homebrew's catalogue: a signed document with another inside.
#[test]
fn the_catalogue_of_homebrew_is_read() {
    let payload = r#"[{"name":"tarn","tap":"homebrew/core","desc":"made up","versions":{"stable":"2.4"},"revision":1},{"name":"buoy","versions":{"stable":"1.0"},"revision":0},{"name":["Lights"],"token":"lights","version":"5.0,12"}]"#;
    let signed = serde_json::json!({ "payload": payload, "signatures": [] }).to_string();
    let files: Vec<(&str, &[u8])> = vec![
        ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n"),
        ("home/maren/.cache/Homebrew/api/formula.jws.json", signed.as_bytes()),
        ("home/linuxbrew/.linuxbrew/Cellar/tarn/2.3/INSTALL_RECEIPT.json", b"{}"),
        ("home/linuxbrew/.linuxbrew/Cellar/tarn/2.3/bin/tarn", b"x"),
    ];
    let made = tree(&files);
    let root = made.path().to_str().unwrap();
    let asked = |arguments: &[&str]| -> Vec<String> {
        let document = run([&["--root", root, "offers", "--format", "json"], arguments].concat()).document();
        let offers = document["offers"].as_array().unwrap();
        let row = |one: &Value| {
            let marks = ["installed", "candidate", "newest"]
                .map(|mark| if one[mark] == true { &mark[..1] } else { "-" })
                .concat();
            format!("{} {} {} {marks}", text(&one["name"]), text(&one["version"]), text(&one["source"]["name"]))
        };
        offers.iter().map(row).collect()
    };
    assert_eq!(
        asked(&["tarn", "lights"]),
        ["tarn 2.4_1 homebrew/core -cn", "tarn 2.3  i--", "lights 5.0,12 homebrew -cn"]
    );
    assert_eq!(asked(&["--newer"]), ["tarn 2.4_1 homebrew/core -cn", "tarn 2.3  i--"]);
    fs::write(made.path().join("home/maren/.cache/Homebrew/api/formula.jws.json"), &signed[..signed.len() - 30])
        .unwrap();
    let document = run(["--root", root, "offers", "tarn", "--format", "json"]).document();
    assert!(document["coverage"].to_string().contains("formula.jws.json"), "{document:#}");
}

/// Files against the records of systems that do not run here: one as it was, one altered, one gone, one that is settings.
#[test]
fn altered_files_are_found_by_the_records_of_other_systems() {
    let sha1 = "1f8acd3265e5ba098dec495eece41c11ba093463";
    let installed = "P:tarn\nV:1-r0\nF:usr/bin\nR:same\na:0:0:755\nZ:Q1H4rNMmXlugmN7Ele7OQcEboJNGM=\nR:other\nZ:Q1H4rNMmXlugmN7Ele7OQcEboJNGM=\nR:gone\nZ:Q1H4rNMmXlugmN7Ele7OQcEboJNGM=\nR:link\nZ:Q1H4rNMmXlugmN7Ele7OQcEboJNGM=\nF:etc\nR:tarn.conf\nZ:Q1H4rNMmXlugmN7Ele7OQcEboJNGM=\nR:odd\na:x:y\nZ:Q2zz\n\n";
    let contents = "dir /usr\nobj /usr/bin/same d7f986677d9f563bd1794b09d82206a3 1\nobj /usr/bin/other d7f986677d9f563bd1794b09d82206a3 1\nobj /usr/bin/gone d7f986677d9f563bd1794b09d82206a3 1\nsym /usr/bin/link -> same 1\nobj /etc/tarn.conf d7f986677d9f563bd1794b09d82206a3 1\nobj /short\n";
    let xml = |path: &str, kind: &str| {
        format!("<File><Path>{path}</Path><Type>{kind}</Type><Mode>0755</Mode><Hash>{sha1}</Hash></File>")
    };
    let xml = format!(
        "<Files>{}{}{}{}<File><Path></Files>",
        xml("usr/bin/same", "executable"),
        xml("usr/bin/other", "executable"),
        xml("usr/bin/gone", "executable"),
        xml("etc/tarn.conf", "config")
    );
    let one = |path: &str| {
        format!(
            "{{\"_path\":\"{path}\",\"path_type\":\"hardlink\",\"sha256_in_prefix\":\"106675dc1490d5cdd6d1f0410731316ce93fc964c6cf6726e2b0d53e19688feb\"}}"
        )
    };
    let json = format!(
        "{{\"name\":\"tarn\",\"version\":\"1\",\"paths_data\":{{\"paths\":[{},{},{},{}]}}}}",
        one("bin/same"),
        one("bin/other"),
        one("bin/gone"),
        one("../../escape")
    );
    let common: [(&str, &[u8]); 5] = [
        ("usr/bin/same", b"good\n"),
        ("usr/bin/other", b"bad\n"),
        ("usr/bin/link", b"-> same"),
        ("etc/tarn.conf", b"changed\n"),
        ("etc/odd", b""),
    ];
    for (manager, more, prefix) in [
        ("apk", vec![("etc/apk/world", &b"tarn\n"[..]), ("lib/apk/db/installed", installed.as_bytes())], ""),
        (
            "portage",
            vec![
                ("var/db/pkg/net-lake/tarn-1/CONTENTS", contents.as_bytes()),
                ("var/db/pkg/net-lake/tarn-1/PF", b"tarn-1\n"),
            ],
            "",
        ),
        (
            "eopkg",
            vec![
                ("var/lib/eopkg/package/tarn-1-1/files.xml", xml.as_bytes()),
                ("var/lib/eopkg/package/tarn-1-1/metadata.xml", b"<PISI><Package><Name>tarn</Name></Package></PISI>"),
            ],
            "",
        ),
        (
            "conda",
            vec![
                ("opt/conda/conda-meta/tarn-1-0.json", json.as_bytes()),
                ("opt/conda/bin/same", b"good\n"),
                ("opt/conda/bin/other", b"bad\n"),
            ],
            "/opt/conda",
        ),
    ] {
        let tree = tree(&[&common[..], &more].concat());
        let document =
            run(["--root", tree.path().to_str().unwrap(), "verify", "--manager", manager, "--format", "json"])
                .document();
        let of = |kind: &str| -> Vec<String> {
            let found = document["findings"].as_array().unwrap().iter().filter(|finding| finding["kind"] == kind);
            found
                .flat_map(|finding| finding["evidence"].as_array().unwrap().clone())
                .filter(|one| one["at"] == "digest" || one["at"] == "missing")
                .map(|one| one["file"].as_str().unwrap().to_owned())
                .collect()
        };
        let bin = if prefix.is_empty() { "/usr/bin" } else { "/opt/conda/bin" };
        assert_eq!(of("altered-file"), [format!("{bin}/other")], "{manager}: {document:#}");
        assert_eq!(of("missing-file"), [format!("{bin}/gone")], "{manager}: {document:#}");
        let settings: &[&str] = if prefix.is_empty() { &["/etc/tarn.conf"] } else { &[] };
        assert_eq!(of("altered-settings"), settings, "{manager}: {document:#}");
    }
}
