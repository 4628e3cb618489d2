//! The demo's other workstations: what is told of them, and that nothing is wrong with either.

use tempfile::TempDir;

use super::support::run;

/// Programs of jetty's, each of another manager's.
const PROGRAMS: &[&str] = &[
    "slipbook",
    "oakumlist",
    "tarpot",
    "caulkwise",
    "ribframe",
    "plankcount",
    "rivets",
    "bilgewatch",
    "/var/lib/extensions/dockbell/usr/bin/dockbell",
    "eddyplot",
    "gullcount",
    "brinebook",
    "kelpnote",
    "/home/fenna/miniconda3/bin/swelltable",
    "davitlift",
    "cleatwise",
    "fenderlog",
    "hawserlen",
    "anchorcount",
    "keelmark",
    "quaytally",
    "buoypress",
    "lampwarden",
    "tidefold",
    "sandbarlog",
    "pilottool",
    "shoalcast",
    "wherrylist",
    "ferrydeck",
    "kubectl-berth",
    "/home/fenna/.local/share/helm/plugins/harbourchart/bin/harbourchart",
    "/home/fenna/.local/share/gh/extensions/gh-mooringbook/gh-mooringbook",
    "tidelint",
    "/srv/mirror/quay.example/harbour/tide/1.2.0/linux_amd64/terraform-provider-tide_v1.2.0",
    "knotchart",
    "portnotes",
    "/home/fenna/Android/Sdk/build-tools/34.0.0/aapt2",
    "quaywright",
    "/home/fenna/.local/share/Steam/steamapps/common/Regatta Day/regatta",
    "/home/fenna/Games/ferrymaster/ferrymaster",
    "/home/fenna/Games/lightkeeper/lightkeeper",
    "/home/fenna/google-cloud-sdk/bin/gcloud",
    "sounding",
    "tern",
    "ghc",
];

/// Writes one of them.
fn written(name: &str) -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    let ran = run(["demo", dir.path().to_str().unwrap(), "--workstation", name, "--only-write"]);
    assert_eq!((ran.status, &*ran.err), (0, ""), "{}", ran.out);
    dir
}

/// What the demo says of it, with the place of the tree taken out.
fn tour(name: &str) -> String {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().to_str().unwrap();
    let ran = run(["demo", place, "--workstation", name]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    assert_eq!(ran.err, "");
    ran.out.replace(place, &format!("/{}", name.to_uppercase()))
}

#[test]
fn tour_of_jetty() {
    insta::assert_snapshot!(tour("jetty"));
}

#[test]
fn tour_of_gannet() {
    insta::assert_snapshot!(tour("gannet"));
}

#[test]
fn each_program_of_jetty_has_the_owner_that_brought_it() {
    let jetty = written("jetty");
    let owner = [
        &["--root", jetty.path().to_str().unwrap(), "owner"],
        PROGRAMS,
        &["--columns", "target,manager,package,version"],
    ];
    let ran = run(owner.concat());
    assert_eq!((ran.status, &*ran.err), (0, ""));
    insta::assert_snapshot!(ran.out);
}
