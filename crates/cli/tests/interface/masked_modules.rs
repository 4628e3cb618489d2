//! Which programs a module of another installation reaches, for whom, and how serious that is.

use super::support::{run, tree};

/// A machine on which dpkg has a module and programs, and maren's pip the same module at a version.
fn machine(pips_version: &str, programs: &[(&str, &str)]) -> tempfile::TempDir {
    let mut list = "/.\n/usr/lib/python3/dist-packages/knots/__init__.py\n".to_owned();
    let metadata = format!("Metadata-Version: 2.1\nName: knots\nVersion: {pips_version}\n");
    let info = format!("home/maren/.local/lib/python3.11/site-packages/knots-{pips_version}.dist-info");
    let (metadata_at, record_at, installer_at) =
        (format!("{info}/METADATA"), format!("{info}/RECORD"), format!("{info}/INSTALLER"));
    let record = "knots/__init__.py,,\n../../../bin/knots-tie,,\n";
    let mut files: Vec<(&str, &[u8])> = vec![
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/bash\n"),
        ("etc/os-release", b"ID=debian\nVERSION_ID=12\n"),
        ("usr/bin/python3.11", b"\x7fELF"),
        ("usr/bin/python3", b"-> python3.11"),
        ("usr/lib/python3/dist-packages/knots/__init__.py", b""),
        ("home/maren/.local/lib/python3.11/site-packages/knots/__init__.py", b""),
        ("home/maren/.local/bin/knots-tie", b"#!/usr/bin/python3\nfrom knots import tie\n"),
        (&metadata_at, metadata.as_bytes()),
        (&record_at, record.as_bytes()),
        (&installer_at, b"pip\n"),
    ];
    for (path, script) in programs {
        files.push((path, script.as_bytes()));
        if path.starts_with("usr/bin") {
            list += &format!("/{path}\n");
        }
    }
    let status =
        b"Package: python3-knots\nStatus: install ok installed\nVersion: 1.0-2\nArchitecture: all\nMaintainer: x\n";
    files.extend([("var/lib/dpkg/status", &status[..]), ("var/lib/dpkg/info/python3-knots.list", list.as_bytes())]);
    tree(&files)
}

/// What `check` says of programs and modules there.
fn findings_with(pips_version: &str, programs: &[(&str, &str)]) -> Vec<(String, String, String, String)> {
    let made = machine(pips_version, programs);
    let path = "/home/maren/.local/bin:/home/maren/bin:/usr/bin";
    let root = made.path().to_str().unwrap();
    let asked = ["--root", root, "--user", "maren", "--path", path, "check", "--level", "note", "--format", "json"];
    let document = run(asked).document();
    let text = |finding: &serde_json::Value, key: &str| finding[key].as_str().unwrap().to_owned();
    let found = document["findings"].as_array().unwrap().iter();
    found
        .filter(|finding| finding["kind"] == "masked-module" || finding["kind"] == "runs-other-code")
        .map(|one| (text(one, "kind"), text(one, "severity"), text(one, "subject"), text(one, "summary")))
        .collect()
}

#[test]
fn only_programs_that_came_with_another_copy_count() {
    const SCRIPT: &str = "#!/usr/bin/python3\nimport knots\n";
    let masked = |severity: &str, summary: &str| {
        ("masked-module".to_owned(), severity.to_owned(), "knots".to_owned(), summary.to_owned())
    };
    let other = |severity: &str, name: &str, version: &str| {
        let summary = format!("/usr/bin/{name} of dpkg · python3-knots 1.0-2 runs the code of pip · knots {version}");
        ("runs-other-code".to_owned(), severity.to_owned(), name.to_owned(), summary)
    };
    // The script of pip's own package, and one that the user wrote, are served as they expect.
    assert_eq!(findings_with("2.0", &[]), []);
    assert_eq!(findings_with("2.0", &[("home/maren/bin/mine", SCRIPT)]), []);
    // dpkg's program gets pip's code.
    assert_eq!(
        findings_with("2.0", &[("usr/bin/knots", SCRIPT)]),
        [
            masked("warning", "pip · knots 2.0 hides dpkg · python3-knots 1.0-2 from knots of dpkg"),
            other("warning", "knots", "2.0"),
        ]
    );
    // At one version it is worth a note.
    assert_eq!(
        findings_with("1.0", &[("usr/bin/knots", SCRIPT)]),
        [
            masked("note", "pip · knots 1.0 hides dpkg · python3-knots 1.0-2 from knots of dpkg"),
            other("note", "knots", "1.0"),
        ]
    );
    // An interpreter that leaves out the user's directory does not see it.
    assert_eq!(findings_with("2.0", &[("usr/bin/knots", "#!/usr/bin/python3 -sP\nimport knots\n")]), []);
}

#[test]
fn the_owner_of_a_program_is_not_the_owner_of_what_it_runs() {
    const SCRIPT: &str = "#!/usr/bin/python3\nimport knots\n";
    let programs = [
        ("usr/bin/knots", SCRIPT),
        ("usr/bin/alone", "#!/usr/bin/python3 -I\nimport knots\n"),
        ("srv/older/knots.py", ""),
        ("var/spool/cron/crontabs/maren", "PYTHONPATH=/srv/older\n"),
        ("home/maren/.zshenv", ""),
    ];
    let made = machine("2.0", &programs);
    let root = made.path().to_str().unwrap();
    let summaries = |user: &str, context: &str, target: &str| {
        let asked = ["--root", root, "--user", user, "--context", context, "owner", target, "--format", "json"];
        let document = run(asked).document();
        let answer = &document["answers"][0];
        assert_eq!(answer["owner"]["id"], "dpkg/system/python3-knots", "{answer:#}");
        let found = answer["findings"].as_array().unwrap().iter();
        let other = found.filter(|finding| finding["kind"] == "runs-other-code");
        other.map(|finding| finding["summary"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let runs = "/usr/bin/knots of dpkg · python3-knots 1.0-2 runs the code of";
    // In whose session, and where an environment gives other directories.
    let rows = [
        ("maren", "terminal", "knots", vec![format!("{runs} pip · knots 2.0")]),
        ("maren", "terminal", "/usr/bin/knots", vec![format!("{runs} pip · knots 2.0")]),
        ("maren", "terminal", "alone", Vec::new()),
        ("root", "terminal", "knots", Vec::new()),
        ("maren", "cron", "knots", vec![format!("{runs} /srv/older/knots.py, which no manager claims")]),
    ];
    for (user, context, target, expected) in rows {
        assert_eq!(summaries(user, context, target), expected, "{user} {context} {target}");
    }
    let page = run(["--root", root, "--user", "maren", "--context", "terminal", "owner", "knots"]).out;
    assert!(page.contains("careful"), "{page}");
}
