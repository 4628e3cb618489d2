//! A disk of macOS as a tree written by hand: the system, installer packages, bundles, search paths. Its property lists
//! are in the forms that Python's library writes; no macOS has judged the rest.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use serde_json::Value;
use tempfile::TempDir;
use whodunit_demo::bill_of_materials;

use super::support::{run, text, tree};

/// `Info.plist` of a bundle in binary form, as Python's library wrote it.
const TIDEBOOK: &[u8] = b"bplist00\xd5\x01\x02\x03\x04\x05\x06\x07\x08\t\n_\x10\x12CFBundleExecutable_\x10\x12CFBundleIdentifier\
    \\CFBundleName_\x10\x1aCFBundleShortVersionString_\x10\x0fCFBundleVersionXtidebook_\x10\x14org.harbour.tidebookXTidebook\
    S3.2T3207\x08\x13(=Jgy\x82\x99\xa2\xa6\x00\x00\x00\x00\x00\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x0b\x00\x00\x00\x00\x00\
    \x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\xab";

fn list(entries: &[(&str, &str)]) -> Vec<u8> {
    let value = |value: &str| match value.strip_prefix('@') {
        Some(date) => format!("<date>{date}</date>"),
        None => format!("<string>{value}</string>"),
    };
    let lines: Vec<String> = entries.iter().map(|(key, text)| format!("<key>{key}</key>\n{}", value(text))).collect();
    format!("<?xml version=\"1.0\"?>\n<plist version=\"1.0\">\n<dict>\n{}\n</dict>\n</plist>\n", lines.join("\n"))
        .into_bytes()
}

fn disk() -> TempDir {
    let system = list(&[("ProductBuildVersion", "24C101"), ("ProductName", "macOS"), ("ProductVersion", "15.2")]);
    let receipt = |id: &str, place: &str| {
        list(&[
            ("InstallDate", "@2026-02-01T10:30:00Z"),
            ("InstallPrefixPath", place),
            ("InstallProcessName", "Installer"),
            ("PackageFileName", "Tide.pkg"),
            ("PackageIdentifier", id),
            ("PackageVersion", "1.4.0"),
        ])
    };
    let bundle = |id: &str, version: &str, program: &str| {
        list(&[("CFBundleIdentifier", id), ("CFBundleShortVersionString", version), ("CFBundleExecutable", program)])
    };
    let (tools, app) = (receipt("org.harbour.tide", "usr/local"), receipt("org.harbour.buoy", "Applications"));
    let (buoy, heron) = (bundle("org.harbour.buoy", "1.4.0", "buoy"), bundle("org.harbour.heron", "9.1", "heron"));
    let skua = bundle("org.harbour.skua", "1.0", "skua");
    let (ferry, quay) = (bundle("org.harbour.ferry", "2.1", "ferry"), bundle("org.harbour.quay", "4", "gone"));
    let listed = bill_of_materials(&["bin/tide", "share/tide/", "share/tide/._spots", "share/tide/spots"], 3);
    let of_app = bill_of_materials(&["Buoy.app/Contents/Info.plist", "Buoy.app/Contents/MacOS/buoy"], 100);
    let zprofile = b"if [ -x /usr/libexec/path_helper ]; then\n\teval `/usr/libexec/path_helper -s`\nfi\n";
    let job = b"<plist><dict><key>EnvironmentVariables</key><dict>\n<key>PATH</key><string>/opt/tide/bin</string></dict></dict></plist>";
    let program = b"#!/bin/sh\n";
    let disk = tree(&[
        ("System/Library/CoreServices/SystemVersion.plist", &system),
        ("etc/passwd", b"root:*:0:0:System Administrator:/var/root:/bin/sh\n"),
        ("var", b"-> private/var"),
        ("bin/zsh", program),
        ("usr/bin/uname", program),
        ("usr/bin/vi", program),
        ("usr/libexec/path_helper", program),
        ("etc/paths", b"/usr/local/bin\n/usr/bin\n/bin\n/usr/sbin\n/sbin\n"),
        ("etc/paths.d/40-tide", b"/opt/tide/bin\n/usr/bin\n"),
        ("etc/paths.d/10-first", b"/opt/first/bin\n"),
        ("etc/zprofile", zprofile),
        ("Users/Shared/", b""),
        ("Users/maren/.zprofile", b"[ \"$(uname)\" = Darwin ] && path=(~/bin $path)\n"),
        ("Users/maren/Applications/Heron.app/Contents/Info.plist", &heron),
        ("Users/maren/Applications/Heron.app/Contents/MacOS/heron", program),
        ("Users/maren/Library/LaunchAgents/org.harbour.tide.plist", job),
        ("private/var/db/receipts/org.harbour.tide.plist", &tools),
        ("private/var/db/receipts/org.harbour.tide.bom", &listed),
        ("private/var/db/receipts/org.harbour.buoy.plist", &app),
        ("private/var/db/receipts/org.harbour.buoy.bom", &of_app),
        ("private/var/db/receipts/org.harbour.damaged.plist", b"bplist00cut"),
        ("usr/local/bin/tide", program),
        ("usr/local/bin/own", program),
        ("usr/local/share/tide/spots", b"x"),
        ("Applications/Buoy.app/Contents/Info.plist", &buoy),
        ("Applications/Buoy.app/Contents/MacOS/buoy", program),
        ("Applications/Tidebook.app/Contents/Info.plist", TIDEBOOK),
        ("Applications/Tidebook.app/Contents/MacOS/tidebook", program),
        ("Applications/Tidebook.app/Contents/_MASReceipt/receipt", b"x"),
        ("Applications/Harbour/Quay.app/Contents/Info.plist", &quay),
        ("Applications/Cut.app/Contents/Info.plist", b"<plist><dict><key>CFBundle"),
        ("Applications/Ferry.app/Contents/Info.plist", &ferry),
        ("Applications/Ferry.app/Contents/MacOS/ferry", program),
        ("opt/homebrew/Caskroom/ferry/2.0,77/Ferry.app", b"-> /Applications/Ferry.app"),
        ("opt/homebrew/Caskroom/ferry/.metadata/2.0,77/20260102030405.678/Casks/ferry.json", b"{}"),
        // One that left no link, whose app a user has; one whose app is gone; one whose record is cut.
        ("opt/homebrew/Caskroom/skua/1.0/", b""),
        (
            "opt/homebrew/Caskroom/skua/.metadata/1.0/20260102030405.678/Casks/skua.rb",
            b"cask \"skua\" do\n  app \"Skua.app\"\nend\n",
        ),
        ("Users/maren/Applications/Skua.app/Contents/Info.plist", &skua),
        ("Users/maren/Applications/Skua.app/Contents/MacOS/skua", program),
        ("opt/homebrew/Caskroom/petrel/1.0/", b""),
        (
            "opt/homebrew/Caskroom/petrel/.metadata/1.0/20260102030405.678/Casks/petrel.json",
            b"{\"artifacts\":[{\"app\":[\"Petrel.app\"]},{\"app\":[\"..\"]}]}",
        ),
        ("opt/homebrew/Caskroom/fulmar/1.0/", b""),
        ("opt/homebrew/Caskroom/fulmar/.metadata/1.0/20260102030405.678/Casks/fulmar.json", b"{\"artifacts\":["),
    ]);
    let helper = disk.path().join("usr/libexec/path_helper");
    fs::set_permissions(helper, fs::Permissions::from_mode(0o755)).unwrap();
    disk
}

fn ask(root: &TempDir, arguments: &[&str]) -> Value {
    run([&["--root", root.path().to_str().unwrap(), "--format", "json"], arguments].concat()).document()
}

#[test]
fn software_of_macos_is_the_systems_the_installers_or_in_bundles() {
    let root = disk();
    let document = ask(&root, &["inventory", "--all"]);
    let packages = document["packages"].as_array().unwrap().iter();
    let told = |one: &Value| {
        let origin = one["origin"]["name"].as_str().unwrap_or("-");
        format!("{} {} {origin} {}", text(&one["id"]), text(&one["version"]), text(&one["status"]))
    };
    let mut found: Vec<String> = packages.map(told).collect();
    found.sort();
    assert_eq!(
        found,
        [
            "app-bundle/system/Cut  - broken",
            "app-bundle/system/Quay 4 - broken",
            "app-bundle/system/Tidebook 3.2 App Store installed",
            "app-bundle/user:maren/Heron 9.1 - installed",
            "homebrew/system/ferry/2.0,77 2.0,77 - installed",
            "homebrew/system/fulmar/1.0 1.0 - installed",
            "homebrew/system/petrel/1.0 1.0 - broken",
            "homebrew/system/skua/1.0 1.0 - installed",
            "macos/system/macOS 15.2 - installed",
            "pkgutil/system/org.harbour.buoy 1.4.0 - installed",
            "pkgutil/system/org.harbour.tide 1.4.0 - installed",
        ]
    );
    let lost = document["coverage"].to_string();
    for part in
        ["org.harbour.damaged.plist: truncated", "Cut.app/Contents/Info.plist: truncated", "which apps fulmar brought"]
    {
        assert!(lost.contains(part), "{part}: {lost}");
    }
    let ferry = found_in(&document, "homebrew/system/ferry/2.0,77");
    assert!(ferry["evidence"].to_string().contains("the app is version 2.1: it was upgraded without Homebrew"));
    let petrel = found_in(&document, "homebrew/system/petrel/1.0");
    assert!(petrel["evidence"].to_string().contains("/Applications/Petrel.app does not exist"), "{petrel}");
    for (path, owner) in [
        ("/usr/bin/vi", "macos/system/macOS"),
        ("/bin/zsh", "macos/system/macOS"),
        ("/usr/local/bin/tide", "pkgutil/system/org.harbour.tide"),
        ("/usr/local/share/tide/spots", "pkgutil/system/org.harbour.tide"),
        ("/usr/local/bin/own", ""),
        ("/Applications/Buoy.app/Contents/MacOS/buoy", "pkgutil/system/org.harbour.buoy"),
        ("/Applications/Ferry.app/Contents/MacOS/ferry", "homebrew/system/ferry/2.0,77"),
        ("/Applications/Tidebook.app/Contents/MacOS/tidebook", "app-bundle/system/Tidebook"),
        ("/Users/maren/Applications/Heron.app/Contents/MacOS/heron", "app-bundle/user:maren/Heron"),
        ("/Users/maren/Applications/Skua.app/Contents/MacOS/skua", "homebrew/system/skua/1.0"),
    ] {
        let document = ask(&root, &["owner", path]);
        assert_eq!(text(&document["answers"][0]["hops"][0]["owner"]), owner, "{path}");
    }
}

fn found_in<'d>(document: &'d Value, id: &str) -> &'d Value {
    document["packages"].as_array().unwrap().iter().find(|one| one["id"] == id).unwrap()
}

#[test]
fn search_paths_of_macos_are_what_its_helper_and_launchd_make_of_them() {
    let root = disk();
    let shared = "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin:/opt/first/bin:/opt/tide/bin";
    let own = "/usr/bin:/bin:/usr/sbin:/sbin";
    let login = format!("/Users/maren/bin:{shared}");
    for (context, expected) in [
        ("login", &*login),
        ("terminal", &login),
        ("remote", own),
        ("desktop", own),
        ("service", own),
        ("user-service", own),
    ] {
        let document = ask(&root, &["paths", "--context", context, "--user", "maren"]);
        let context = &document["contexts"][0];
        let dirs: Vec<String> =
            context["entries"].as_array().unwrap().iter().map(|one| text(&one["directory"])).collect();
        assert_eq!(dirs.join(":"), expected, "{context}");
    }
    let document = ask(&root, &["paths", "--context", "user-service", "--user", "maren"]).to_string();
    assert!(document.contains("this job has the search path /opt/tide/bin"), "{document}");
}
