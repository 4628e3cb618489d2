//! Services of podman and scripts that start containers, as trees written by hand from the public formats.

use std::fs;

use tempfile::TempDir;

use super::stand_in_records::{Case, Damaged, ask, damage_is_said, is_read};
use super::support::{run, text, tree};

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
        ("etc/containers/systemd/users/1000/hers.container", b"[Container]\nImage=quay.example/hers:1\n"),
        ("etc/containers/systemd/users/1001/others.container", b"[Container]\nImage=quay.example/others:1\n"),
        (store, br#"[{"id":"77","names":["docker.io/library/gauge:latest"]},{"id":"78"}]"#),
        (
            "var/lib/docker/image/overlay2/repositories.json",
            br#"{"Repositories":{"quay.example/harbour/tide":{"quay.example/harbour/tide:3.2":"sha256:77"}}}"#,
        ),
        ("etc/containers/systemd/tree.container", b"[Container]\nRootfs=/srv/tree\n"),
        ("etc/containers/systemd/both.container", b"[Container]\nRootfs=/srv/tree:O\nImage=quay.example/both:1\n"),
        ("etc/containers/systemd/p.pod", b"[Pod]\nPodName=x\n"),
        ("etc/containers/systemd/below/one.kube", b"[Kube]\nYaml=one.yaml\n"),
        ("etc/containers/systemd/below/one.yaml", b"kind: Pod\nspec:\n  containers:\n  - image: quay.example/one:3\n"),
        ("etc/containers/systemd/two.kube", b"[Kube]\nYaml=/srv/gone.yaml\nYaml=/srv/two.yaml\n"),
        (
            "srv/two.yaml",
            b"kind: Pod\nspec:\n  containers:\n  - image: quay.example/a:1\n---\nkind: Deployment\nspec:\n  template:\n    spec:\n      initContainers:\n      - image: quay.example/b:2\n",
        ),
        ("etc/containers/systemd/none.kube", b"[Kube]\n"),
        ("etc/containers/systemd/lost.kube", b"[Kube]\nYaml=lost.yaml\n"),
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
            "containers/user:maren/hers 1 explicit from quay.example/hers:1",
            "containers/system/knots 2 explicit from quay.example/knots:2",
            "containers/system/lost  explicit",
            "containers/system/one 3 explicit from quay.example/one:3",
            "containers/user:maren/rope sha256:0a1b explicit from quay.example:5000/rope@sha256:0a1b",
            "containers/system/tide 3.2 explicit from quay.example/harbour/tide:3.2",
            "containers/system/tree  explicit",
            "containers/system/two  explicit",
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
    let of_service =
        |name: &str| ask(&case.0, &["owner", &format!("package:{name}.service")])["answers"][0]["evidence"].to_string();
    let two = of_service("two");
    assert!(two.contains("image quay.example/a:1") && two.contains("image quay.example/b:2"), "{two}");
    assert!(of_service("tree").contains("starts a container of the tree /srv/tree"));
    let lost = ask(&case.0, &["inventory", "--all"])["coverage"].to_string();
    assert!(lost.contains("/etc/containers/systemd/lost.yaml: no such file"), "{lost}");
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

/// Files below `/etc/containers/systemd`, or from the root, each with its image; and what starts.
type Change = (&'static [(&'static str, &'static str)], &'static [&'static str]);

/// As podman 5.4's own generator said it of the same files.
const CHANGES: &[Change] = &[
    (&[("tide.container", "a:1"), ("container.d/90.conf", "b:2"), ("tide.container.d/50.conf", "c:3")], &["tide b:2"]),
    (&[("tide.container", "a:1"), ("container.d/50.conf", "b:2"), ("tide.container.d/50.conf", "c:3")], &["tide c:3"]),
    (&[("tide.container", "a:1"), ("/usr/share/containers/systemd/tide.container.d/50.conf", "b:2")], &["tide b:2"]),
    (
        &[
            ("tide.container", "a:1"),
            ("/usr/share/containers/systemd/tide.container.d/50.conf", "b:2"),
            ("tide.container.d/50.conf", "c:3"),
        ],
        &["tide c:3"],
    ),
    (
        &[
            ("tide.container", "a:1"),
            ("/usr/share/containers/systemd/tide.container.d/50.conf", "b:2"),
            ("tide.container.d/40.conf", "c:3"),
        ],
        &["tide b:2"],
    ),
    (&[("tide-gauge.container", "a:1"), ("tide-.container.d/1.conf", "b:2")], &["tide-gauge b:2"]),
    (&[("tide@a.container", "a:1"), ("tide@.container.d/1.conf", "b:2")], &["tide@a b:2"]),
    (&[("below/tide.container", "a:1"), ("below/tide.container.d/1.conf", "b:2")], &["tide b:2"]),
    (&[("below/tide.container", "a:1"), ("tide.container.d/1.conf", "b:2")], &["tide b:2"]),
    (&[("tide.container", "a:1"), ("below/tide.container", "b:2")], &["tide a:1"]),
    (&[(".below/tide.container", "a:1"), (".own.container", "b:2")], &[".own b:2", "tide a:1"]),
    (&[("users/1000/tide.container", "a:1")], &[]),
    (&[("tide.container", "a:1"), ("tide.container.d/1.conf", "")], &[]),
    (&[("tide.container", "\"a:1\"")], &["tide a:1"]),
    (&[("tide.container", "a:1\nImage=b:2")], &["tide b:2"]),
];

#[test]
fn services_are_changed_as_podmans_generator_changes_them() {
    for (files, expected) in CHANGES {
        let files: Vec<(String, String)> = files
            .iter()
            .map(|(file, image)| {
                let below =
                    file.strip_prefix('/').map_or_else(|| format!("etc/containers/systemd/{file}"), str::to_owned);
                (below, format!("[Container]\nImage={image}\n"))
            })
            .collect();
        let files: Vec<(&str, &[u8])> = files.iter().map(|(file, text)| (file.as_str(), text.as_bytes())).collect();
        let made = tree(&files);
        let document = ask(&made, &["inventory", "--all"]);
        let row = |one: &serde_json::Value| format!("{} {}", text(&one["name"]), text(&one["origin"]["name"]));
        let told: Vec<String> = document["packages"].as_array().unwrap().iter().map(row).collect();
        assert_eq!(told, *expected, "{files:?}");
    }
    // One that is switched off, though a weaker one is there.
    let made = tree(&[
        ("etc/containers/systemd/tide.container", b"-> /dev/null"),
        ("usr/share/containers/systemd/tide.container", b"[Container]\nImage=a:1\n"),
    ]);
    let document = ask(&made, &["inventory", "--all"]);
    let is_said = document["coverage"].to_string().contains("tide.container");
    assert_eq!((document["packages"].as_array().unwrap().len(), is_said), (0, false), "{document:#}");
    // One that cannot be read hides what it starts, and that is said.
    fs::remove_file(made.path().join("etc/containers/systemd/tide.container")).unwrap();
    fs::create_dir_all(made.path().join("etc/containers/systemd/rope.container.d/1.conf")).unwrap();
    fs::write(made.path().join("etc/containers/systemd/rope.container"), "[Container]\nImage=b:2\n").unwrap();
    let root = made.path().to_str().unwrap();
    let document = run(["--root", root, "inventory", "--all", "--format", "json"]).document();
    assert!(document["coverage"].to_string().contains("what it starts is unknown"), "{document:#}");
}
