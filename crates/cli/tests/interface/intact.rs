//! `owner` says whether the file that runs is the one that its manager recorded.

use super::support::{run, tree};

#[test]
fn a_file_that_is_not_the_recorded_one_is_told() {
    let status =
        b"Package: chartdesk\nStatus: install ok installed\nVersion: 2.6-1\nArchitecture: amd64\nMaintainer: x\n";
    // The second is that of another content.
    let sums =
        b"52f5ac132d06d650edad2d46ff65494f  usr/bin/chartdesk\n3ec2f7aca2d2ffcea6b6eab4e0a77a7c  usr/bin/chartprint\n";
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\n"),
        ("usr/bin/chartdesk", b"#!/bin/sh\necho chart\n"),
        ("usr/bin/chartprint", b"#!/bin/sh\necho another\n"),
        ("usr/bin/chartview", b"#!/bin/sh\n"),
        ("usr/bin/chart", b"-> chartprint"),
        ("var/lib/dpkg/status", status),
        (
            "var/lib/dpkg/info/chartdesk.list",
            b"/.\n/usr\n/usr/bin\n/usr/bin/chartdesk\n/usr/bin/chartprint\n/usr/bin/chartview\n/usr/bin/chart\n",
        ),
        ("var/lib/dpkg/info/chartdesk.md5sums", sums),
    ]);
    let root = made.path().to_str().unwrap();
    for (target, intact) in [
        ("chartdesk", Some(true)),
        ("chartprint", Some(false)),
        // Through the link it is the same file.
        ("chart", Some(false)),
        ("/usr/bin/chartprint", Some(false)),
        // No digest is recorded.
        ("chartview", None),
    ] {
        let path = ["--path", "/usr/bin", "--root", root, "owner", target];
        let document = run(path.iter().chain(&["--format", "json"])).document();
        assert_eq!(document["answers"][0]["intact"].as_bool(), intact, "{target}");
        let first = run(path).out.lines().next().unwrap().to_owned();
        let is_said = first.contains("but the file is not the one that dpkg installed (verify chartdesk)");
        assert_eq!(is_said, intact == Some(false), "{target}: {first}");
    }
}
