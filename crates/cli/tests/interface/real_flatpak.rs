//! Flatpak itself as the judge: an installation made with its own tools, and the demo's read by it.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use super::support::{has, is_root_for, lantern, open_dir, output, run, text};
use serde_json::Value;
use tempfile::TempDir;

/// Flatpak with the installations below `root` in the place of the machine's own.
fn flatpak(root: &Path, arguments: &[&str]) -> String {
    let mut command = Command::new("flatpak");
    command.args(arguments).current_dir(root).env_remove("DBUS_SESSION_BUS_ADDRESS");
    command.env("HOME", root.join("home/maren")).env("XDG_DATA_HOME", root.join("home/maren/.local/share"));
    command.env("FLATPAK_USER_DIR", root.join("home/maren/.local/share/flatpak"));
    command.env("FLATPAK_SYSTEM_DIR", root.join("var/lib/flatpak")).env("FLATPAK_CONFIG_DIR", root.join("etc/flatpak"));
    String::from_utf8(output(&mut command)).unwrap()
}

fn make() -> Option<TempDir> {
    if !is_root_for("flatpak") || !has(&["flatpak", "ostree"]) {
        return None;
    }
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    let put = |path: &str, content: &[u8]| {
        fs::create_dir_all(at(path).parent().unwrap()).unwrap();
        fs::write(at(path), content).unwrap();
    };
    put("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n");
    put("home/maren/.profile", b"");
    for branch in ["24", "25"] {
        let place = format!("make/runtime{branch}");
        put(
            &format!("{place}/metadata"),
            format!("[Runtime]\nname=org.harbour.Platform\nruntime=org.harbour.Platform/x86_64/{branch}\n").as_bytes(),
        );
        put(&format!("{place}/files/lib/x"), b"x");
        flatpak(made.path(), &["build-export", "--runtime", "--arch=x86_64", "--files=files", "repo", &place, branch]);
    }
    for (branch, version) in [("stable", "3.1.0"), ("beta", "4.0~beta2")] {
        let place = format!("make/app-{branch}");
        put(
            &format!("{place}/metadata"),
            b"[Application]\nname=org.harbour.ChartDesk\nruntime=org.harbour.Platform/x86_64/24\ncommand=chartdesk\n\n[Context]\nshared=network;\n\n[Extension org.harbour.ChartDesk.Tides]\ndirectory=tides\nno-autodownload=true\nautodelete=true\n",
        );
        put(&format!("{place}/files/bin/chartdesk"), b"#!/bin/sh\n");
        fs::set_permissions(at(&format!("{place}/files/bin/chartdesk")), fs::Permissions::from_mode(0o755)).unwrap();
        let entry = b"[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk %U\n";
        put(&format!("{place}/export/share/applications/org.harbour.ChartDesk.desktop"), entry);
        let xml = format!(
            "<?xml version=\"1.0\"?><components version=\"0.8\"><component type=\"desktop\"><id>org.harbour.ChartDesk.desktop</id><name>Chart Desk</name><releases><release version=\"{version}\" timestamp=\"1767225600\"/></releases></component></components>"
        );
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        std::io::Write::write_all(&mut packed, xml.as_bytes()).unwrap();
        put(&format!("{place}/files/share/app-info/xmls/org.harbour.ChartDesk.xml.gz"), &packed.finish().unwrap());
        // The maker of the one says that the other takes its place.
        let end: &[&str] = if branch == "beta" { &["--end-of-life=stable takes its place"] } else { &[] };
        let export = [&["build-export", "--arch=x86_64"], end, &["repo", &place, branch]].concat();
        flatpak(made.path(), &export);
    }
    flatpak(made.path(), &["build-update-repo", "repo"]);
    let address = format!("file://{}", at("repo").display());
    for remote in ["quay", "pier"] {
        flatpak(made.path(), &["--user", "remote-add", "--no-gpg-verify", remote, &address]);
    }
    for (remote, reference) in [
        ("quay", "org.harbour.ChartDesk//stable"),
        ("pier", "org.harbour.ChartDesk//beta"),
        ("quay", "org.harbour.Platform//25"),
    ] {
        flatpak(made.path(), &["--user", "install", "-y", "--noninteractive", remote, reference]);
    }
    flatpak(made.path(), &["--user", "mask", "org.harbour.ChartDesk"]);
    flatpak(made.path(), &["--user", "remote-delete", "--force", "pier"]);
    Some(made)
}

fn packages(root: &Path) -> Vec<Value> {
    let ran = run(["--root", root.to_str().unwrap(), "inventory", "--all", "--manager", "flatpak", "--format", "json"]);
    ran.document()["packages"].as_array().unwrap().clone()
}

/// The summaries of the findings of one kind.
fn told(root: &Path, kind: &str) -> Vec<String> {
    let root = root.to_str().unwrap();
    let ran = run(["--root", root, "check", "--level", "note", "--kind", kind, "--format", "json"]);
    ran.document()["findings"].as_array().unwrap().iter().map(|finding| text(&finding["summary"])).collect()
}

/// What gets no updates, and the runtime that nothing needs: flatpak removes the same one.
#[test]
fn what_is_kept_for_nothing_is_what_flatpak_removes() {
    let Some(made) = make() else { return };
    assert_eq!(
        told(made.path(), "dead-origin"),
        ["org.harbour.ChartDesk/x86_64/beta came from the remote pier, which is not configured any more"]
    );
    assert_eq!(
        told(made.path(), "end-of-life"),
        ["org.harbour.ChartDesk/x86_64/beta is at the end of its life: stable takes its place"]
    );
    // One runtime is needed, and one was asked for.
    assert!(told(made.path(), "unused-runtime").is_empty());
    flatpak(made.path(), &["--user", "mask", "--remove", "org.harbour.ChartDesk"]);
    for branch in ["stable", "beta"] {
        let reference = format!("org.harbour.ChartDesk//{branch}");
        flatpak(made.path(), &["--user", "uninstall", "-y", "--noninteractive", &reference]);
    }
    assert_eq!(
        told(made.path(), "unused-runtime"),
        ["no installed application needs the runtime org.harbour.Platform"]
    );
    flatpak(made.path(), &["--user", "uninstall", "--unused", "-y", "--noninteractive"]);
    assert!(told(made.path(), "unused-runtime").is_empty());
    let left: Vec<String> = packages(made.path()).iter().map(|package| text(&package["channel"])).collect();
    assert_eq!(left, ["25"]);
}

/// An extension is there for the sake of what it extends, and goes with it.
#[test]
fn an_extension_is_explained_by_what_it_extends() {
    let Some(made) = make() else { return };
    let place = made.path().join("make/tides");
    fs::create_dir_all(place.join("files")).unwrap();
    fs::write(place.join("files/table"), "1").unwrap();
    let metadata =
        "[Runtime]\nname=org.harbour.ChartDesk.Tides\n\n[ExtensionOf]\nref=app/org.harbour.ChartDesk/x86_64/stable\n";
    fs::write(place.join("metadata"), metadata).unwrap();
    let export = ["build-export", "--runtime", "--arch=x86_64", "--files=files", "repo", "make/tides", "stable"];
    flatpak(made.path(), &export);
    flatpak(made.path(), &["build-update-repo", "repo"]);
    let extension = "org.harbour.ChartDesk.Tides";
    flatpak(made.path(), &["--user", "install", "-y", "--noninteractive", "quay", &format!("runtime/{extension}")]);
    let root = made.path().to_str().unwrap();
    let told = run(["--root", root, "why", extension, "--format", "json"]).document();
    let app = "flatpak/user:maren/org.harbour.ChartDesk/x86_64/stable";
    let chains = told["chains"].as_array().unwrap();
    let chain = chains.iter().find(|one| one["chain"][0]["id"] == app).unwrap_or_else(|| panic!("{told:#}"));
    assert_eq!(chain["chain"][1]["relation"], "recommends", "{told:#}");
    assert_eq!(chain["chain"][1]["evidence"][0]["says"], "extends org.harbour.ChartDesk/x86_64/stable");
    flatpak(made.path(), &["--user", "mask", "--remove", "org.harbour.ChartDesk"]);
    flatpak(made.path(), &["--user", "uninstall", "-y", "--noninteractive", "org.harbour.ChartDesk//stable"]);
    assert!(packages(made.path()).iter().all(|one| one["name"] != extension));
}

/// An application from a bundle, and its data once it is gone.
#[test]
fn what_a_bundle_brought_and_left_is_told() {
    let Some(made) = make() else { return };
    let app = "org.harbour.ChartDesk//stable";
    assert!(told(made.path(), "sideloaded").is_empty());
    flatpak(made.path(), &["build-bundle", "repo", "chartdesk.flatpak", "org.harbour.ChartDesk", "stable"]);
    flatpak(made.path(), &["--user", "mask", "--remove", "org.harbour.ChartDesk"]);
    flatpak(made.path(), &["--user", "uninstall", "-y", "--noninteractive", app]);
    flatpak(made.path(), &["--user", "install", "-y", "--noninteractive", "--bundle", "chartdesk.flatpak"]);
    assert_eq!(told(made.path(), "sideloaded"), ["org.harbour.ChartDesk/x86_64/stable was installed from a bundle"]);
    // `flatpak run` makes it.
    let data = made.path().join("home/maren/.var/app/org.harbour.ChartDesk");
    fs::create_dir_all(data.join("config")).unwrap();
    assert!(told(made.path(), "data-left").is_empty());
    for branch in [app, "org.harbour.ChartDesk//beta"] {
        flatpak(made.path(), &["--user", "uninstall", "-y", "--noninteractive", branch]);
    }
    assert!(data.exists(), "flatpak leaves it");
    let left = "/home/maren/.var/app/org.harbour.ChartDesk is left of org.harbour.ChartDesk, which flatpak does not have any more";
    assert_eq!(told(made.path(), "data-left"), [left]);
}

/// An installation that is cut short leaves what it had fetched: as many objects as ostree counts, and as many bytes as
/// are free when flatpak has repaired the installation. What cannot be followed to its end tells nothing.
#[test]
fn what_nothing_refers_to_in_a_repository_is_what_repair_deletes() {
    let Some(made) = make() else { return };
    let repository = made.path().join("home/maren/.local/share/flatpak/repo");
    let root = made.path().to_str().unwrap();
    let ostree = |repository: &Path, words: &[&str]| {
        let mut command = Command::new("ostree");
        command.arg(format!("--repo={}", repository.display())).args(words);
        String::from_utf8(output(&mut command)).unwrap()
    };
    let answer = || run(["--root", root, "leftovers", "--format", "json"]).document();
    let of_kind = |answer: &Value| -> Vec<Value> {
        let all = answer["findings"].as_array().unwrap();
        all.iter().filter(|one| one["kind"] == "unreferenced-object").cloned().collect()
    };
    let used = || -> u64 {
        // What has another name, in a deployment or where it was fetched from, takes no room here.
        let objects = ["-type", "f", "-links", "1", "-printf", "%b\n"];
        let find = output(Command::new("find").arg(repository.join("objects")).args(objects));
        512 * String::from_utf8(find).unwrap().lines().map(|blocks| blocks.parse::<u64>().unwrap()).sum::<u64>()
    };
    let counted = || ostree(&repository, &["prune", "--refs-only", "--no-prune", "--depth=0"]);
    // The catalogue of apps is referred to as well.
    flatpak(made.path(), &["--user", "update", "--appstream", "quay"]);
    assert!(counted().contains("No unreachable objects"), "{}", counted());
    assert_eq!(of_kind(&answer()), [Value::Null; 0]);
    // What flatpak had fetched when it was killed.
    let more = made.path().join("make/app-stable/files/more");
    fs::create_dir_all(&more).unwrap();
    for number in 0..40 {
        fs::write(more.join(number.to_string()), format!("{number}\n").repeat(3000)).unwrap();
    }
    flatpak(made.path(), &["build-export", "--arch=x86_64", "repo", "make/app-stable", "next"]);
    let published = made.path().join("repo");
    let commit = ostree(&published, &["rev-parse", "app/org.harbour.ChartDesk/x86_64/next"]);
    ostree(&repository, &["pull-local", published.to_str().unwrap(), commit.trim()]);
    let told = of_kind(&answer());
    assert_eq!(told.len(), 1, "{}", counted());
    let objects = text(&told[0]["summary"]).split(' ').next().unwrap().to_owned();
    assert!(counted().contains(&format!("Would delete: {objects} objects")), "{objects}: {}", counted());
    assert_eq!(told[0]["paths"].as_array().unwrap().len(), 20, "and no more are named");
    let before = used();
    flatpak(made.path(), &["repair", "--user"]);
    assert_eq!(before - used(), told[0]["bytes"].as_u64().unwrap());
    assert_eq!(of_kind(&answer()), [Value::Null; 0]);
    // Wherever the way ends, nothing is called unreferenced, and the answer says why.
    let reference = repository.join("refs/heads/deploy/runtime/org.harbour.Platform/x86_64/24");
    let sound = fs::read(&reference).unwrap();
    let name = String::from_utf8(sound.clone()).unwrap();
    let commit = repository.join("objects").join(&name[..2]).join(format!("{}.commit", &name[2..64]));
    let tree = fs::read_dir(repository.join("objects")).unwrap().flatten().find_map(|dir| {
        let mut files = fs::read_dir(dir.path()).unwrap().flatten().map(|file| file.path());
        files.find(|file| file.extension().is_some_and(|ending| ending == "dirtree"))
    });
    let tree = tree.unwrap();
    for (file, content, says) in [
        (&reference, &b"next\n"[..], "it names no commit"),
        (&commit, b"", "it does not hold what its name says"),
        (&tree, b"\0", "it does not hold what its name says"),
    ] {
        let sound = fs::read(file).unwrap();
        fs::write(file, content).unwrap();
        let answer = answer();
        fs::write(file, sound).unwrap();
        assert_eq!(of_kind(&answer), [Value::Null; 0], "{says}");
        let said = answer.to_string();
        assert!(said.contains(says) && said.contains("stores in vain is unknown"), "{says}: {said}");
    }
    let sound = fs::read(&tree).unwrap();
    fs::remove_file(&tree).unwrap();
    assert!(answer().to_string().contains("it is missing"));
    fs::write(&tree, sound).unwrap();
}

/// What `flatpak list` and we say of every deployment.
fn compare(root: &Path) -> usize {
    let columns = "--columns=application,version,branch,arch,origin,active,options";
    let theirs: BTreeSet<String> = flatpak(root, &["--user", "list", "--all", columns])
        .lines()
        .map(|line| {
            let words: Vec<&str> = line.split('\t').collect();
            let current = words
                .get(6)
                .copied()
                .unwrap_or_default()
                .split(',')
                .any(|option| option == "current" || option == "runtime");
            format!("{} {} {} {} {} {} {current}", words[0], words[1], words[2], words[3], words[4], &words[5][..12])
        })
        .collect();
    let ours: BTreeSet<String> = packages(root)
        .iter()
        .map(|package| {
            let word = |key: &str| text(&package[key]);
            format!(
                "{} {} {} {} {} {} {}",
                word("name"),
                word("version"),
                word("channel"),
                word("arch"),
                text(&package["origin"]["name"]),
                &word("revision")[..12],
                package["active"]
            )
        })
        .collect();
    assert_eq!(ours, theirs);
    ours.len()
}

#[test]
fn an_installation_is_read_as_flatpak_reads_it() {
    let Some(made) = make() else { return };
    assert_eq!(compare(made.path()), 4);
    let deployed = packages(made.path());
    let find =
        |name: &str, channel: &str| deployed.iter().find(|p| p["name"] == name && p["channel"] == channel).unwrap();
    let app = find("org.harbour.ChartDesk", "stable");
    assert_eq!((&app["kind"], &app["held"], &app["status"]), (&"app".into(), &true.into(), &"installed".into()));
    assert!(app["evidence"].to_string().contains("may use network"), "{app}");
    // Requested by name, so flatpak pinned it; the other is a dependency.
    assert_eq!(find("org.harbour.Platform", "25")["reason"], "explicit");
    assert_eq!(find("org.harbour.Platform", "24")["reason"], "dependency");
    let beta = find("org.harbour.ChartDesk", "beta");
    assert_eq!(beta["origin"]["url"], Value::Null);
    assert!(beta["evidence"].to_string().contains("it gets no updates"), "{beta}");
    let sizes = flatpak(made.path(), &["--user", "info", "--show-size", "org.harbour.ChartDesk//stable"]);
    assert_eq!(sizes.trim(), app["size"].to_string());

    let place = made.path().to_str().unwrap();
    let path = "/home/maren/.local/share/flatpak/exports/bin";
    let ran = run([
        "--root",
        place,
        "--path",
        path,
        "owner",
        "org.harbour.ChartDesk",
        "org.harbour.ChartDesk.desktop",
        "chartdesk",
        "--format",
        "json",
    ]);
    let document = ran.document();
    let wrapper = &document["answers"][0];
    assert!(text(&wrapper["owner"]["id"]).starts_with("flatpak/user:maren/org.harbour.ChartDesk/x86_64/"), "{wrapper}");
    let last = wrapper["hops"].as_array().unwrap().last().unwrap();
    assert!(text(&last["path"]).ends_with("/files/bin/chartdesk"), "{wrapper}");
    assert_eq!(document["answers"][1]["kind"], "launcher");
    assert_eq!(document["answers"][1]["owner"]["id"], wrapper["owner"]["id"], "{}", document["answers"][1]);
    assert_eq!(document["answers"][2]["elsewhere"][0]["start"], "flatpak run org.harbour.ChartDesk");

    // A further installation of the machine's, and an app whose runtime is nowhere.
    let lab = made.path().join("opt/lab");
    fs::create_dir_all(made.path().join("etc/flatpak/installations.d")).unwrap();
    let conf = format!("[Location \"lab\"]\nPath={}\n", "/opt/lab");
    fs::write(made.path().join("etc/flatpak/installations.d/lab.conf"), conf).unwrap();
    fs::create_dir_all(&lab).unwrap();
    let user = made.path().join("home/maren/.local/share/flatpak");
    output(
        Command::new("cp").arg("-a").arg(user.join("app")).arg(user.join("exports")).arg(user.join("repo")).arg(&lab),
    );
    let everything = packages(made.path());
    let of_lab: Vec<&Value> = everything.iter().filter(|p| p["location"] == "/opt/lab").collect();
    assert_eq!(of_lab.len(), 2, "{of_lab:?}");
    assert!(of_lab.iter().all(|p| p["scope"] == "system" && text(&p["id"]).starts_with("flatpak/system/lab/")));
    assert!(of_lab.iter().all(|p| p["status"] == "installed"), "the runtime may be in another installation");
    let active = user.join("runtime/org.harbour.Platform/x86_64/24/active");
    let commit = fs::read_link(&active).unwrap();
    fs::remove_file(&active).unwrap();
    let broken = packages(made.path()).iter().filter(|p| p["status"] == "broken").count();
    assert_eq!(broken, 4, "two apps in two installations");
    output(Command::new("rm").arg("-r").arg(&lab));
    std::os::unix::fs::symlink(commit, &active).unwrap();

    // A directory without `active` is an interrupted removal; a damaged `deploy` costs what it says.
    let app = made.path().join("home/maren/.local/share/flatpak/app/org.harbour.ChartDesk/x86_64");
    fs::remove_file(app.join("beta/active")).unwrap();
    assert_eq!(compare(made.path()), 3);
    let commit = fs::read_link(app.join("stable/active")).unwrap();
    fs::write(app.join("stable").join(commit).join("deploy"), b"junk").unwrap();
    let ran = run(["--root", place, "inventory", "--format", "json"]);
    assert!(ran.document()["coverage"].to_string().contains("not what flatpak writes"), "{ran:?}");
    assert!(ran.out.contains("org.harbour.ChartDesk"));
}

#[test]
fn the_demo_workstation_is_readable_by_flatpak() {
    if has(&["flatpak"]) {
        assert_eq!(compare(lantern()), 2);
        let remotes = flatpak(lantern(), &["--user", "remotes", "--columns=name"]);
        assert_eq!(remotes.trim(), "quay");
    }
}
