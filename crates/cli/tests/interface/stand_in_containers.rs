//! Services of podman and scripts that start containers, as trees written by hand from the public formats.

use tempfile::TempDir;

use super::stand_in_records::{Case, Damaged, ask, damage_is_said, is_read};
use super::support::{text, tree};

fn machine() -> TempDir {
    let own = "home/maren/.config/containers/systemd";
    let store = "home/maren/.local/share/containers/storage/overlay-images/images.json";
    tree(&[
        ("etc/passwd", b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n"),
        (
            "etc/containers/systemd/tide.container",
            b"[Unit]\nDescription=made up\n\n[Container]\nImage=quay.example/harbour/tide:3.1\n",
        ),
        // The same name in a weaker place, and a change beside the stronger.
        ("usr/share/containers/systemd/tide.container", b"[Container]\nImage=quay.example/harbour/tide:1.0\n"),
        ("etc/containers/systemd/tide.container.d/50-own.conf", b"[Container]\nImage=quay.example/harbour/tide:3.2\n"),
        (&format!("{own}/rope.container"), b"[Container]\nImage=rope.image\n"),
        (&format!("{own}/rope.image"), b"[Image]\nImage=quay.example:5000/rope@sha256:0a1b\n"),
        (&format!("{own}/built.container"), b"[Container]\nImage=%h\n"),
        (store, br#"[{"id":"77","names":["docker.io/library/gauge:latest"]},{"id":"78"}]"#),
        (
            "var/lib/docker/image/overlay2/repositories.json",
            br#"{"Repositories":{"quay.example/harbour/tide":{"quay.example/harbour/tide:3.2":"sha256:77"}}}"#,
        ),
        ("home/maren/.local/bin/gauge", b"#!/bin/sh\nexec podman run --rm -v \"$PWD:/w\" gauge \"$@\"\n"),
        ("home/maren/.local/bin/own", b"#!/bin/sh\npodman run \"$1\"\n"),
        ("usr/local/bin/knots", b"#!/bin/sh\n# made up\ndocker run -it \\\n  quay.example/knots:2 knots \"$@\"\n"),
    ])
}

#[test]
fn services_and_scripts_of_containers_name_their_images() {
    let case: Case<'_> = (
        machine(),
        &[
            "containers/user:maren/built  explicit",
            "containers/user:maren/gauge  explicit from gauge",
            "containers/system/knots 2 explicit from quay.example/knots:2",
            "containers/user:maren/rope sha256:0a1b explicit from quay.example:5000/rope@sha256:0a1b",
            "containers/system/tide 3.2 explicit from quay.example/harbour/tide:3.2",
        ],
        &[
            ("/home/maren/.local/bin/gauge", "containers/user:maren/gauge"),
            ("/home/maren/.local/bin/own", ""),
            ("/usr/local/bin/knots", "containers/system/knots"),
        ],
    );
    is_read(&case);
    // Where the image is told, and whether it is there.
    let gauge = ask(&case.0, &["owner", "/home/maren/.local/bin/gauge"])["answers"][0]["evidence"].to_string();
    assert!(gauge.contains("starts a container of the image gauge, which is there"), "{gauge}");
    let tide = ask(&case.0, &["owner", "package:containers/system/tide"])["answers"][0].clone();
    let evidence = tide["evidence"].to_string();
    assert!(evidence.contains("50-own.conf") && evidence.contains("repositories.json"), "{tide:#}");
    let by_service = ask(&case.0, &["owner", "package:tide.service"])["answers"][0].clone();
    assert_eq!(text(&by_service["owner"]["id"]), "containers/system/tide", "{by_service:#}");
}

#[test]
fn damage_to_records_of_containers_is_said() {
    let cases: [Damaged<'_>; 2] = [
        (machine, "home/maren/.local/share/containers/storage/overlay-images/images.json"),
        (machine, "var/lib/docker/image/overlay2/repositories.json"),
    ];
    let targets = ["/home/maren/.local/bin/gauge", "/usr/local/bin/knots"];
    damage_is_said(&cases, &targets.map(str::to_owned));
}
