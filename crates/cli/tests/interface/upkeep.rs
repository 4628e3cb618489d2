//! What gets no upgrades any more, and what no session finds.

use super::support::{run, tree};

const PASSWD: &[u8] = b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n";

/// The findings of one kind in a tree: severity, subject and summary.
fn found(files: &[(&str, &[u8])], kind: &str) -> Vec<String> {
    let mut all: Vec<(&str, &[u8])> =
        vec![("etc/passwd", PASSWD), ("bin/sh", b"-> dash"), ("bin/dash", b"\x7fELF"), ("usr/bin/env", b"\x7fELF")];
    all.extend(files);
    let made = tree(&all);
    let root = made.path().to_str().unwrap();
    let document = run(["--root", root, "check", "--level", "note", "--kind", kind, "--format", "json"]).document();
    let findings = document["findings"].as_array().unwrap().iter();
    findings
        .map(|finding| {
            let text = |key: &str| finding[key].as_str().unwrap().to_owned();
            format!("{} {}: {}", text("severity"), text("subject"), text("summary"))
        })
        .collect()
}

#[test]
fn a_release_has_an_end() {
    let table = |row: &'static [u8]| ("usr/share/distro-info/breakwater.csv", row);
    let by_codename: &[u8] = b"ID=breakwater\nVERSION_CODENAME=pier\nPRETTY_NAME=\"Breakwater 3\"\n";
    let ended = ["warning breakwater: Breakwater 3 gets no upgrades since 2002-03-04"];
    for (release, row, expected) in [
        (&b"ID=breakwater\nPRETTY_NAME='Breakwater 3'\nSUPPORT_END=2002-03-04\n"[..], None, &ended[..]),
        (b"ID=breakwater\nSUPPORT_END=2999-01-01\n", None, &[]),
        (b"ID=breakwater\nSUPPORT_END=soon\n", None, &[]),
        (b"ID=breakwater\n", None, &[]),
        (
            by_codename,
            Some(&b"version,codename,series,created,release,eol,eol-lts\n3,Pier,pier,x,x,2001-01-01,2002-03-04\n"[..]),
            &ended,
        ),
        // Support of any kind counts, and only that of this release.
        (
            by_codename,
            Some(b"version,codename,series,created,release,eol,eol-lts\n3,Pier,pier,x,x,2001-01-01,2999-01-01\n"),
            &[],
        ),
        (by_codename, Some(b"version,codename,series,created,release,eol\n2,Quay,quay,x,x,2001-01-01\n"), &[]),
        (by_codename, Some(b"\xff\0,,\n\"pier"), &[]),
        // A name that leads elsewhere is none.
        (b"ID=../breakwater\nVERSION_CODENAME=pier\n", Some(b"series,eol\npier,2001-01-01\n"), &[]),
    ] {
        let files: Vec<_> = [("etc/os-release", release)].into_iter().chain(row.map(table)).collect();
        assert_eq!(found(&files, "end-of-life"), expected, "{}", String::from_utf8_lossy(release));
    }
}

#[test]
fn programs_that_no_session_finds_are_told() {
    let two = br#"{"installs":{"shoal 0.9.0 (registry+https://quay.example/index)":{"bins":["shoal"]},"spar 1.0.0 (registry+https://quay.example/index)":{"bins":["spar"]}}}"#;
    let record = ("home/maren/.cargo/.crates2.json", &two[..]);
    let shoal = ("home/maren/.cargo/bin/shoal", &b"\x7fELF"[..]);
    let spar = ("home/maren/.cargo/bin/spar", &b"\x7fELF"[..]);
    let says = |severity: &str, name: &str| {
        format!(
            "{severity} {name}: no session of maren finds the programs of cargo · {name}: /home/maren/.cargo/bin is in no search path"
        )
    };
    for (more, expected) in [
        (&[][..], vec![says("warning", "shoal"), says("warning", "spar")]),
        // One context is enough.
        (&[("home/maren/.profile", &b"PATH=$PATH:$HOME/.cargo/bin\n"[..])], vec![]),
        // A link in a directory that is searched is enough, and the manager is set up then.
        (&[("usr/local/bin/shoal", b"-> /home/maren/.cargo/bin/shoal")], vec![says("note", "spar")]),
        // What is not known says nothing.
        (&[("home/maren/.profile", b"PATH=$PATH:$(env)\n")], vec![]),
    ] {
        let files: Vec<_> = [record, shoal, spar].into_iter().chain(more.iter().copied()).collect();
        assert_eq!(found(&files, "unreachable-program"), expected, "{more:?}");
    }
}

#[test]
fn links_into_what_a_manager_deletes_are_told() {
    let store = "nix/store/0c0wlxlamdg5bvq4xl8lvkxyl1hbz2bb-tide-1.0/bin/tide";
    let absolute = format!("-> /{store}");
    let files: Vec<(&str, &[u8])> = vec![
        (store, b"\x7fELF"),
        ("usr/local/bin/tide", absolute.as_bytes()),
        // This one is a root itself: it keeps what it leads to.
        ("usr/local/bin/kept", absolute.as_bytes()),
        ("nix/var/nix/gcroots/auto/x", b"-> /usr/local/bin/kept"),
        ("nix/var/nix/db/db.sqlite", b""),
        ("opt/tools/1.2/bin/spar", b"\x7fELF"),
        ("usr/local/bin/spar", b"-> /opt/tools/1.2/bin/spar"),
        ("home/linuxbrew/.linuxbrew/Cellar/lamp/1.0/bin/lamp", b"\x7fELF"),
        ("home/linuxbrew/.linuxbrew/bin/lamp", b"-> ../Cellar/lamp/1.0/bin/lamp"),
        ("usr/local/bin/lamp", b"-> /home/linuxbrew/.linuxbrew/bin/lamp"),
        ("usr/local/bin/lamp-1", b"-> /home/linuxbrew/.linuxbrew/Cellar/lamp/1.0/bin/lamp"),
    ];
    let told = found(&files, "doomed-link");
    let told: Vec<&str> = told.iter().map(|line| line.split(", which ").next().unwrap()).collect();
    assert_eq!(
        told,
        [
            "warning /usr/local/bin/lamp-1: /usr/local/bin/lamp-1 points to /home/linuxbrew/.linuxbrew/Cellar/lamp/1.0/bin/lamp",
            "warning /usr/local/bin/tide: /usr/local/bin/tide points to /nix/store/0c0wlxlamdg5bvq4xl8lvkxyl1hbz2bb-tide-1.0/bin/tide",
        ]
    );
}

#[test]
fn snaps_from_files_and_what_snaps_left_are_told() {
    let state = br#"{"data":{"snaps":{"chartdesk":{"type":"app","sequence":[{"name":"chartdesk","revision":"x1"}],"active":true,"current":"x1"},"tides":{"type":"app","sequence":[{"name":"tides","snap-id":"x","revision":"12"}],"active":true,"current":"12"}}}}"#;
    let files: [(&str, &[u8]); 6] = [
        ("var/lib/snapd/state.json", state),
        ("snap/chartdesk/x1/meta/snap.yaml", b"name: chartdesk\nversion: 3.1\n"),
        ("snap/tides/12/meta/snap.yaml", b"name: tides\nversion: 1.2\n"),
        ("home/maren/snap/tides/common/", b""),
        ("home/maren/snap/lamp/common/", b""),
        ("home/maren/snap/note.txt", b""),
    ];
    assert_eq!(found(&files, "sideloaded"), ["note chartdesk: chartdesk was installed from a file (revision x1)"]);
    let left = "note lamp: /home/maren/snap/lamp is left of lamp, which snap does not have any more";
    assert_eq!(found(&files, "data-left"), [left]);
    // Where the state cannot be read, what is installed is unknown.
    let torn: Vec<(&str, &[u8])> = files
        .iter()
        .map(|&(path, text)| (path, if path.ends_with("state.json") { &text[..40] } else { text }))
        .collect();
    assert_eq!(found(&torn, "data-left"), [""; 0]);
}

#[test]
fn a_diversion_for_which_nothing_gave_way_is_no_finding() {
    let status: &[u8] =
        b"Package: dash\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n\nPackage: lamp\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n";
    let diversions: &[u8] = b"/bin/sh\n/bin/sh.distrib\ndash\n/usr/bin/lamp\n/usr/bin/lamp.plain\nfoglight\n";
    let files: [(&str, &[u8]); 6] = [
        ("var/lib/dpkg/status", status),
        ("var/lib/dpkg/diversions", diversions),
        ("var/lib/dpkg/info/dash.list", b"/.\n/bin/sh\n"),
        ("var/lib/dpkg/info/lamp.list", b"/.\n/usr/bin/lamp\n"),
        ("usr/bin/lamp", b"\x7fELF"),
        ("usr/bin/lamp.plain", b"\x7fELF"),
    ];
    let told = found(&files, "diverted-program");
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].starts_with("note lamp: "), "{told:?}");
}
