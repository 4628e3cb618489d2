//! Bundles whose images the real tools made, and damaged ones.

use std::fs;
use std::path::Path;
use std::process::Command;

use super::support::{has, lantern, open_dir, output, run};
use serde_json::Value;

const ENTRY: &str = "[Desktop Entry]\nType=Application\nName=Siskin\nExec=siskin %F\nX-AppImage-Version=0.7.1\n";

fn packages(root: &Path) -> Vec<Value> {
    let ran = run(["--root", root.to_str().unwrap(), "inventory", "--manager", "appimage", "--format", "json"]);
    ran.document()["packages"].as_array().unwrap().clone()
}

fn put(root: &Path, path: &str, content: &[u8], mode: u32) {
    use std::os::unix::fs::PermissionsExt as _;
    let at = root.join(path);
    fs::create_dir_all(at.parent().unwrap()).unwrap();
    fs::write(&at, content).unwrap();
    fs::set_permissions(&at, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn images_of_every_compression_are_looked_into() {
    if !has(&["mksquashfs"]) {
        return;
    }
    let (tree, work) = (open_dir(), tempfile::tempdir().unwrap());
    put(work.path(), "payload/usr/share/applications/siskin.desktop", ENTRY.as_bytes(), 0o644);
    put(work.path(), "payload/AppRun", b"#!/bin/sh\n", 0o755);
    std::os::unix::fs::symlink("usr/share/applications/siskin.desktop", work.path().join("payload/siskin.desktop"))
        .unwrap();
    for packing in ["gzip", "xz", "zstd"] {
        let image = work.path().join(packing);
        output(Command::new("mksquashfs").arg(work.path().join("payload")).arg(&image).args([
            "-comp",
            packing,
            "-quiet",
            "-no-progress",
        ]));
        let bundle =
            whodunit_demo::bundle_of("gh-releases-zsync|siskin|siskin|latest|*.zsync", &fs::read(&image).unwrap());
        put(tree.path(), &format!("opt/{packing}/nameless"), &bundle, 0o755);
        // Cut in the middle of the image, one cannot be looked into, and is said to be damaged.
        put(tree.path(), &format!("opt/{packing}/Cut-9.9-x86_64.AppImage"), &bundle[..bundle.len() - 4096], 0o755);
        // The real tool finds the image where we do.
        let offset = (bundle.len() - fs::metadata(&image).unwrap().len() as usize).to_string();
        let listed = output(
            Command::new("unsquashfs")
                .args(["-l", "-o", &offset])
                .arg(tree.path().join(format!("opt/{packing}/nameless"))),
        );
        assert!(String::from_utf8_lossy(&listed).contains("siskin.desktop"));
    }
    put(tree.path(), "opt/page.AppImage", b"<html>no bundle at all</html>", 0o755);
    let found = packages(tree.path());
    assert_eq!(found.len(), 6, "{found:#?}");
    for package in &found {
        let whole = (&package["name"], &package["version"], &package["status"]);
        if package["id"].as_str().unwrap().ends_with("nameless") {
            assert_eq!(whole, (&"Siskin".into(), &"0.7.1".into(), &"installed".into()));
            assert_eq!(package["origin"]["name"], "siskin/siskin");
        } else {
            assert_eq!(whole, (&"Cut".into(), &"9.9".into(), &"broken".into()));
        }
    }
    let root = tree.path().to_str().unwrap();
    let ran = run(["--root", root, "owner", "/opt/xz/nameless", "/opt/page.AppImage", "--format", "json"]);
    assert_eq!(ran.document()["answers"][0]["owner"]["id"], "appimage/system/opt/xz/nameless");
    assert_eq!(ran.document()["answers"][1]["verdict"], "unowned");
}

#[test]
fn the_older_form_is_looked_into_as_well() {
    if !has(&["xorriso"]) {
        return;
    }
    let (tree, work) = (open_dir(), tempfile::tempdir().unwrap());
    put(work.path(), "payload/siskin.desktop", ENTRY.as_bytes(), 0o644);
    let image = work.path().join("image.iso");
    let mut make = Command::new("xorriso");
    output(make.args(["-as", "mkisofs", "-R", "-quiet", "-o"]).arg(&image).arg(work.path().join("payload")));
    let mut bundle = fs::read(&image).unwrap();
    let mut head = whodunit_demo::packaged_program("siskin", "0");
    head.truncate(64);
    bundle[..64].copy_from_slice(&head);
    bundle[8..11].copy_from_slice(b"AI\x01");
    let update = b"zsync|https://siskin.example/latest.zsync";
    bundle[33_651..33_651 + update.len()].copy_from_slice(update);
    put(tree.path(), "opt/Siskin.AppImage", &bundle, 0o755);
    let found = packages(tree.path());
    assert_eq!((&found[0]["name"], &found[0]["version"]), (&"Siskin".into(), &"0.7.1".into()), "{found:#?}");
    assert_eq!(found[0]["origin"]["url"], "https://siskin.example/latest.zsync");
}

#[test]
fn the_demo_has_one_that_runs_and_one_that_is_a_download() {
    let found = packages(lantern());
    let shown: Vec<String> = found.iter().map(|p| format!("{} {} {}", p["name"], p["version"], p["status"])).collect();
    assert_eq!(shown, [r#""Foghorn" "1.4.0" "installed""#, r#""Foghorn" "1.5.0" "disabled""#]);
    assert_eq!(found[0]["launchers"], serde_json::json!(["foghorn.desktop"]));
}
