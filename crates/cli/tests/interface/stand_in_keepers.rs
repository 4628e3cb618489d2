//! Further managers that cannot be had here, as trees written by hand from their public formats: swiftly, zvm, cabal's
//! store, plug-ins of Helm, Mason, the Google Cloud SDK, and the wrappers of Gradle and Maven. No judge has seen these but
//! the documentation; the tree of Gradle's wrapper is as the wrapper of Gradle 4.4.1 made it.

use std::fs;

use tempfile::TempDir;

use super::stand_in_records::{Case, Damaged, ask, damage_is_said, is_read};
use super::support::{text, tree};

const PASSWD: (&str, &[u8]) = ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n");

fn toolchains() -> TempDir {
    let swiftly = "home/maren/.local/share/swiftly";
    tree(&[
        PASSWD,
        (
            &format!("{swiftly}/config.json"),
            br#"{"inUse":"6.1.0","installedToolchains":["6.1.0","5.10.1","../../x"],"version":"1.0.0"}"#,
        ),
        (&format!("{swiftly}/toolchains/6.1.0/usr/bin/swift"), b"x"),
        (&format!("{swiftly}/toolchains/5.10.1/usr/bin/swift"), b"x"),
        (&format!("{swiftly}/bin/swiftly"), b"x"),
        (&format!("{swiftly}/bin/swift"), b"-> swiftly"),
        (&format!("{swiftly}/bin/own"), b"x"),
        ("home/maren/.zvm/0.13.0/zig", b"x"),
        ("home/maren/.zvm/master/zig", b"x"),
        ("home/maren/.zvm/notes/readme", b"x"),
        ("home/maren/.zvm/bin", b"-> 0.13.0"),
        ("home/maren/.zvm/self/zvm", b"x"),
        ("home/maren/.cabal/store/ghc-9.4.7/tide-gauge-0.3.1-e-tide-0a1b/bin/tide", b"x"),
        ("home/maren/.cabal/store/ghc-9.4.7/rope-2-77aa/bin/rope", b"x"),
        ("home/maren/.cabal/store/ghc-9.4.7/knots-1.0-99ff/lib/libknots.a", b"x"),
        ("home/maren/.cabal/bin/tide", b"-> ../store/ghc-9.4.7/tide-gauge-0.3.1-e-tide-0a1b/bin/tide"),
        ("home/maren/.cabal/bin/own", b"x"),
    ])
}

fn plugins() -> TempDir {
    let plugins = "home/maren/.local/share/helm/plugins";
    let mason = "home/maren/.local/share/nvim/mason";
    tree(&[
        PASSWD,
        (&format!("{plugins}/tide"), b"-> /home/maren/.cache/helm/plugins/https-quay.example-tide"),
        (
            "home/maren/.cache/helm/plugins/https-quay.example-tide/plugin.yaml",
            b"name: \"tide\"\nversion: \"3.1.0\"\nusage: made up\n",
        ),
        ("home/maren/.cache/helm/plugins/https-quay.example-tide/bin/tide", b"x"),
        (&format!("{plugins}/own"), b"-> /home/maren/src/own"),
        ("home/maren/src/own/plugin.yaml", b"name: own\nversion: 0.1.0\n"),
        ("home/maren/src/own/run.sh", b"x"),
        (&format!("{plugins}/empty/readme"), b"x"),
        (
            &format!("{mason}/packages/tide-ls/mason-receipt.json"),
            br#"{"schema_version":"1.1","name":"tide-ls","primary_source":{"type":"registry+v1","id":"pkg:github/quay/tide-ls@v1.4.0"},"links":{"bin":{"tide-ls":"tide-ls"}}}"#,
        ),
        (&format!("{mason}/packages/tide-ls/tide-ls"), b"x"),
        (&format!("{mason}/bin/tide-ls"), b"-> ../packages/tide-ls/tide-ls"),
        (
            &format!("{mason}/packages/knot-fmt/mason-receipt.json"),
            br#"{"schema_version":"2.0","name":"knot-fmt","source":{"type":"registry+v1","id":"pkg:npm/%40quay/knot-fmt@2.0.1"}}"#,
        ),
        (&format!("{mason}/packages/knot-fmt/node_modules/.bin/knot-fmt"), b"x"),
        (
            &format!("{mason}/bin/knot-fmt"),
            b"#!/usr/bin/env bash\nexec /home/maren/.local/share/nvim/mason/packages/knot-fmt/node_modules/.bin/knot-fmt \"$@\"\n",
        ),
        (&format!("{mason}/bin/own"), b"x"),
        (
            "home/maren/google-cloud-sdk/.install/core.snapshot.json",
            br#"{"components":[{"id":"core","dependencies":["core","bq"],"details":{"display_name":"Core Libraries"},"version":{"build_number":1,"version_string":"2026.10.30"}}]}"#,
        ),
        (
            "home/maren/google-cloud-sdk/.install/core.manifest",
            b"bin/gcloud\nlib/core.py\n../../.profile\n",
        ),
        ("home/maren/google-cloud-sdk/.install/bq.snapshot.json", br#"{"components":[{"id":"other","version":{"version_string":"1"}}]}"#),
        ("home/maren/google-cloud-sdk/.install/bq.manifest", b"bin/bq\n"),
        // One that another manager keeps.
        ("opt/google-cloud-sdk/.install/core.snapshot.json", br#"{"components":[{"id":"core","version":{"version_string":"1"}}]}"#),
        ("opt/google-cloud-sdk/lib/googlecloudsdk/core/config.json", br#"{"disable_updater":true}"#),
        ("home/maren/google-cloud-sdk/bin/gcloud", b"x"),
        ("home/maren/google-cloud-sdk/bin/bq", b"x"),
        ("home/maren/google-cloud-sdk/bin/own", b"x"),
        ("home/maren/.profile", b"x"),
    ])
}

const GRADLE: &str = "home/maren/.gradle/wrapper/dists";

fn wrappers() -> TempDir {
    let maven = "home/maren/.m2/wrapper/dists";
    let project = |script: &str, settings: &str, address: &str| {
        let of_project = format!("home/maren/tide/{script}/{settings}");
        let content = format!("distributionBase=GRADLE_USER_HOME\ndistributionUrl={address}\n");
        (of_project, content.into_bytes())
    };
    let gradle = "gradle/wrapper/gradle-wrapper.properties";
    let projects = [
        project("one", gradle, "file\\:///srv/gradle-4.4.1-bin.zip"),
        project("two", gradle, "https\\://quay.example/gradle-9.9-bin.zip"),
        project("cut", gradle, "https\\://quay.example/gradle-8.5-all.zip"),
        project("three", ".mvn/wrapper/maven-wrapper.properties", "https://quay.example/apache-maven-3.9.6-bin.zip"),
    ];
    let settings = projects.iter().map(|(path, content)| (path.as_str(), content.as_slice()));
    let bin = &format!("{GRADLE}/gradle-4.4.1-bin/5p0wk8yg5spgnbu078bjo9t5a");
    let half = &format!("{GRADLE}/gradle-8.5-all/{}", "1p3q");
    let files: Vec<(String, &[u8])> = vec![
        (format!("{bin}/gradle-4.4.1/bin/gradle"), b"#!/usr/bin/env sh\n"),
        (format!("{bin}/gradle-4.4.1/lib/tide.jar"), b"x"),
        (format!("{bin}/gradle-4.4.1-bin.zip"), b"x"),
        (format!("{bin}/gradle-4.4.1-bin.zip.ok"), b""),
        // Another address of the same version; one that was cut short; one of which there is a part of the archive.
        (format!("{GRADLE}/gradle-4.4.1-bin/0other/gradle-4.4.1/bin/gradle"), b"#!/usr/bin/env sh\n"),
        (format!("{GRADLE}/gradle-4.4.1-bin/0other/gradle-4.4.1-bin.zip.ok"), b""),
        (format!("{half}/gradle-8.5/bin/gradle"), b"#!/usr/bin/env sh\n"),
        (format!("{GRADLE}/gradle-8.6-bin/2z/gradle-8.6-bin.zip.part"), b"x"),
        (format!("{maven}/apache-maven-3.9.6/3a8e/bin/mvn"), b"#!/bin/sh\n"),
        ("home/maren/tide/one/gradlew".to_owned(), b"#!/bin/sh\n"),
        ("home/maren/tide/two/gradlew".to_owned(), b"#!/bin/sh\n"),
        ("home/maren/tide/cut/gradlew".to_owned(), b"#!/bin/sh\n"),
        ("home/maren/tide/bare/gradlew".to_owned(), b"#!/bin/sh\n"),
        ("home/maren/tide/three/mvnw".to_owned(), b"#!/bin/sh\n"),
    ];
    let files = files.iter().map(|(path, content)| (path.as_str(), *content));
    tree(&[PASSWD].into_iter().chain(settings).chain(files).collect::<Vec<_>>())
}

/// A project's script starts the version that its settings name, from where it was unpacked.
#[test]
fn wrappers_of_projects_start_what_their_settings_name() {
    let key = "gradle-wrapper/user:maren/gradle-4.4.1-bin/5p0wk8yg5spgnbu078bjo9t5a";
    let case: Case<'_> = (
        wrappers(),
        &[
            "gradle-wrapper/user:maren/gradle-4.4.1-bin/0other 4.4.1 explicit",
            &format!("{key} 4.4.1 explicit"),
            "gradle-wrapper/user:maren/gradle-8.5-all/1p3q 8.5 explicit",
            "maven-wrapper/user:maren/apache-maven-3.9.6/3a8e 3.9.6 explicit",
        ],
        &[
            (
                "/home/maren/.gradle/wrapper/dists/gradle-4.4.1-bin/5p0wk8yg5spgnbu078bjo9t5a/gradle-4.4.1/lib/tide.jar",
                key,
            ),
            ("/home/maren/tide/one/gradlew", key),
            ("/home/maren/tide/three/mvnw", "maven-wrapper/user:maren/apache-maven-3.9.6/3a8e"),
            // Not fetched yet, not unpacked to its end, and without settings.
            ("/home/maren/tide/two/gradlew", ""),
            ("/home/maren/tide/cut/gradlew", ""),
            ("/home/maren/tide/bare/gradlew", ""),
        ],
    );
    is_read(&case);
    let said = |script: &str| ask(&case.0, &["owner", script])["answers"][0]["evidence"].to_string();
    let two = said("/home/maren/tide/two/gradlew");
    assert!(two.contains("asks for https://quay.example/gradle-9.9-bin.zip"), "{two}");
    assert!(two.contains("gradle-9.9-bin is not there: a start would fetch it"), "{two}");
    let all = ask(&case.0, &["inventory", "--all"])["packages"].clone();
    let half = all.as_array().unwrap().iter().find(|one| one["version"] == "8.5").unwrap();
    assert_eq!(text(&half["status"]), "broken", "{half:#}");
    // Versions side by side are kept on purpose.
    let found = ask(&case.0, &["check", "--level", "note"])["findings"].to_string();
    assert!(!found.contains("version-split") && !found.contains("duplicate-title"), "{found}");
    let lost = ask(&case.0, &["owner", "/home/maren/tide/bare/gradlew"])["coverage"].to_string();
    assert!(lost.contains("which gradle it starts is unknown"), "{lost}");
}

#[test]
fn keepers_of_toolchains_and_of_plug_ins_are_read() {
    let cases: [Case<'_>; 2] = [
        (
            toolchains(),
            &[
                "cabal/user:maren/ghc-9.4.7/rope-2-77aa 2 unknown",
                "swiftly/user:maren/swift/../../x ../../x explicit",
                "swiftly/user:maren/swift/5.10.1 5.10.1 explicit",
                "swiftly/user:maren/swift/6.1.0 6.1.0 explicit",
                "swiftly/user:maren/swiftly  explicit",
                "cabal/user:maren/ghc-9.4.7/tide-gauge-0.3.1-e-tide-0a1b 0.3.1 explicit",
                "zvm/user:maren/zig/0.13.0 0.13.0 explicit",
                "zvm/user:maren/zig/master master explicit",
                "zvm/user:maren/zvm  explicit",
            ],
            &[
                ("/home/maren/.cabal/bin/tide", "cabal/user:maren/ghc-9.4.7/tide-gauge-0.3.1-e-tide-0a1b"),
                ("/home/maren/.cabal/bin/own", ""),
                ("/home/maren/.cabal/store/ghc-9.4.7/knots-1.0-99ff/lib/libknots.a", ""),
                ("/home/maren/.local/share/swiftly/bin/swiftly", "swiftly/user:maren/swiftly"),
                ("/home/maren/.local/share/swiftly/toolchains/5.10.1/usr/bin/swift", "swiftly/user:maren/swift/5.10.1"),
                ("/home/maren/.local/share/swiftly/bin/own", ""),
                ("/home/maren/.zvm/bin/zig", "zvm/user:maren/zig/0.13.0"),
                ("/home/maren/.zvm/self/zvm", "zvm/user:maren/zvm"),
                ("/home/maren/.zvm/notes/readme", ""),
            ],
        ),
        (
            plugins(),
            &[
                "gcloud/user:maren/bq  unknown",
                "gcloud/user:maren/core 2026.10.30 unknown",
                "mason/user:maren/knot-fmt 2.0.1 explicit from npm @quay/knot-fmt",
                "helm/user:maren/own 0.1.0 explicit from local",
                "helm/user:maren/tide 3.1.0 explicit",
                "mason/user:maren/tide-ls 1.4.0 explicit from github quay/tide-ls",
            ],
            &[
                ("/home/maren/.cache/helm/plugins/https-quay.example-tide/bin/tide", "helm/user:maren/tide"),
                ("/home/maren/src/own/run.sh", ""),
                ("/home/maren/.local/share/nvim/mason/bin/tide-ls", "mason/user:maren/tide-ls"),
                ("/home/maren/.local/share/nvim/mason/bin/knot-fmt", "mason/user:maren/knot-fmt"),
                ("/home/maren/.local/share/nvim/mason/bin/own", ""),
                ("/home/maren/google-cloud-sdk/bin/gcloud", "gcloud/user:maren/core"),
                ("/home/maren/google-cloud-sdk/bin/bq", "gcloud/user:maren/bq"),
                ("/home/maren/google-cloud-sdk/bin/own", ""),
                // A list names nothing outside the SDK.
                ("/home/maren/.profile", ""),
            ],
        ),
    ];
    cases.iter().for_each(is_read);
    // What swiftly's link starts: the toolchain in use, or the one that a file of the project asks for.
    let swift = "/home/maren/.local/share/swiftly/bin/swift";
    let starts = || text(&ask(&cases[0].0, &["owner", swift])["answers"][0]["owner"]["id"]);
    assert_eq!(starts(), "swiftly/user:maren/swift/6.1.0");
    fs::write(cases[0].0.path().join("home/maren/.swift-version"), "5.10.1\n").unwrap();
    assert_eq!(starts(), "swiftly/user:maren/swift/5.10.1");
    fs::write(cases[0].0.path().join("home/maren/.swift-version"), "9.9\n").unwrap();
    assert_eq!(starts(), "", "no such toolchain");
    let own = ask(&cases[1].0, &["owner", "/home/maren/.local/share/nvim/mason/bin/own"]);
    assert!(own.to_string().contains("mason puts programs there, and has no record of this one"), "{own:#}");
    let needs = ask(&cases[1].0, &["why", "gcloud/user:maren/bq"]);
    assert_eq!(text(&needs["chains"][0]["chain"][0]["id"]), "gcloud/user:maren/core", "{needs:#}");
}

/// Records cut anywhere, with bytes turned over, and of the wrong kind: an answer each time, and what is lost is said.
#[test]
fn damage_to_records_of_keepers_is_said() {
    let cases: [Damaged<'_>; 5] = [
        (toolchains, "home/maren/.local/share/swiftly/config.json"),
        (plugins, "home/maren/.cache/helm/plugins/https-quay.example-tide/plugin.yaml"),
        (plugins, "home/maren/.local/share/nvim/mason/packages/tide-ls/mason-receipt.json"),
        (plugins, "home/maren/google-cloud-sdk/.install/core.snapshot.json"),
        (plugins, "home/maren/google-cloud-sdk/.install/core.manifest"),
    ];
    let targets = [
        "/home/maren/.local/share/swiftly/bin/swift",
        "/home/maren/.cache/helm/plugins/https-quay.example-tide/bin/tide",
        "/home/maren/.local/share/nvim/mason/bin/tide-ls",
        "/home/maren/google-cloud-sdk/bin/gcloud",
    ];
    damage_is_said(&cases, &targets.map(str::to_owned));
}
