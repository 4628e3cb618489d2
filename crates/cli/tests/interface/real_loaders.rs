//! The dynamic loader, Python and man as judges of where they look.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use super::support::{Ran, finish_with_path, has, open_dir, output, program};
use serde_json::Value;
use whodunit_core::bytes::ByteString;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, User, UserSelection};
use whodunit_core::resolve::libraries::Loader;
use whodunit_core::resolve::{manuals::Settings, modules};

/// What the loader says that a program would load.
fn loaded(file: &str, library_path: Option<&str>) -> Option<BTreeSet<(String, String)>> {
    let loader = ["/lib64/ld-linux-x86-64.so.2", "/lib/ld-linux-aarch64.so.1"]
        .into_iter()
        .find(|file| Path::new(file).exists())?;
    let mut command = Command::new(loader);
    command.args(["--list", file]).env_remove("LD_LIBRARY_PATH");
    if let Some(list) = library_path {
        command.env("LD_LIBRARY_PATH", list);
    }
    let told = command.output().ok().filter(|told| told.status.success())?;
    let text = String::from_utf8(told.stdout).ok()?;
    let lines = text.lines().filter_map(|line| {
        let (name, path) = line.trim().split_once(" => ")?;
        Some((name.to_owned(), path.split(" (").next()?.to_owned()))
    });
    Some(lines.collect())
}

#[test]
fn libraries_are_found_as_the_loader_finds_them() {
    let root = Root::live();
    let loader = Loader::of(&root);
    let mut compared = 0;
    for entry in fs::read_dir("/usr/bin").unwrap().flatten() {
        let file = entry.path();
        let file = file.to_str().unwrap();
        if compared >= 300 || loader.dynamic(&ByteString::from(file)).is_none_or(|said| said.loader.is_none()) {
            continue;
        }
        let Some(theirs) = loaded(file, None) else { continue };
        let ours: BTreeSet<(String, String)> = loader
            .needs(&ByteString::from(file), None)
            .into_iter()
            // The loader itself is not looked for.
            .filter(|needed| !needed.name.to_string().starts_with("ld-linux"))
            .map(|needed| {
                (needed.name.to_string(), needed.path.map_or("not found".to_owned(), |path| path.to_string()))
            })
            .collect();
        let theirs: BTreeSet<(String, String)> =
            theirs.into_iter().filter(|(name, _)| !name.contains("ld-linux")).collect();
        assert_eq!(ours, theirs, "{file}");
        compared += 1;
    }
    assert!(compared > 50 || cfg!(not(target_arch = "x86_64")), "{compared} programs");
}

#[test]
fn run_paths_and_the_variable_count_as_they_do_for_the_loader() {
    if !has(&["cc"]) {
        return;
    }
    let made = open_dir();
    let at = |path: &str| made.path().join(path).to_str().unwrap().to_owned();
    for dir in ["one", "two", "three", "bin"] {
        fs::create_dir_all(at(dir)).unwrap();
    }
    fs::write(at("knots.c"), "int knots(void) { return 4; }\n").unwrap();
    fs::write(at("main.c"), "int knots(void);\nint main(void) { return knots() - 4; }\n").unwrap();
    let build = |arguments: &[&str]| output(Command::new("cc").args(arguments).current_dir(made.path()));
    for dir in ["one", "two", "three"] {
        build(&["-shared", "-fPIC", "-Wl,-soname,libknots.so.2", "-o", &format!("{dir}/libknots.so.2"), "knots.c"]);
    }
    fs::write(at("three/libknots.so.2"), b"no library at all").unwrap();
    // Copies for better processors, of which the best that runs here counts.
    for level in ["", "/glibc-hwcaps/x86-64-v2", "/glibc-hwcaps/x86-64-v3", "/glibc-hwcaps/x86-64-v4"] {
        fs::create_dir_all(at(&format!("four{level}"))).unwrap();
        fs::copy(at("one/libknots.so.2"), at(&format!("four{level}/libknots.so.2"))).unwrap();
    }
    let link = |name: &str, more: &[&str]| {
        let own = [&["-o", name, "main.c", "one/libknots.so.2"][..], more].concat();
        build(&own);
    };
    link("bin/plain", &[]);
    link("bin/old", &["-Wl,--disable-new-dtags,-rpath,$ORIGIN/../one"]);
    link("bin/new", &["-Wl,--enable-new-dtags,-rpath,$ORIGIN/../one"]);
    link("bin/broken-first", &["-Wl,--enable-new-dtags,-rpath,$ORIGIN/../three:$ORIGIN/../two"]);
    let root = Root::live();
    for name in ["plain", "old", "new", "broken-first"] {
        for list in [None, Some(at("two")), Some(at("four")), Some(format!("{}:{}", at("three"), at("two")))] {
            let file = at(&format!("bin/{name}"));
            let ours = Loader::of(&root).needs(&ByteString::from(file.as_str()), list.as_ref().map(String::as_bytes));
            let ours =
                ours.iter().find(|needed| *needed.name == *b"libknots.so.2").and_then(|needed| needed.path.clone());
            let theirs = loaded(&file, list.as_deref());
            let theirs = theirs.into_iter().flatten().find(|(name, _)| name == "libknots.so.2");
            let canonicalize = |path: String| fs::canonicalize(path).ok();
            assert_eq!(
                ours.and_then(|path| canonicalize(path.to_string())),
                theirs.and_then(|(_, path)| canonicalize(path)),
                "{name} {list:?}"
            );
        }
    }
    // What is in no directory is told where a user asks.
    let ran = finish_with_path(Command::new(program()).args(["owner", &at("bin/plain"), "--format", "json"]));
    let document = ran.document();
    let kinds: Vec<&str> = document["answers"][0]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["kind"].as_str().unwrap())
        .collect();
    assert_eq!(kinds, ["missing-library"]);
}

fn me(home: &Path) -> User {
    User {
        name: "maren".into(),
        uid: 1000,
        group: 1000,
        home: home.to_str().unwrap().into(),
        shell: ByteString::default(),
    }
}

#[test]
fn modules_are_looked_for_where_python_looks() {
    let interpreters: Vec<(ByteString, String)> = modules::interpreters(&Root::live());
    if interpreters.is_empty() || !has(&["/usr/bin/python3"]) {
        return;
    }
    let made = open_dir();
    let home = made.path().join("home");
    let host = Host::new(
        Root::live(),
        &UserSelection::Named(Vec::new()),
        ProcessEnv { dir: "/".into(), ..ProcessEnv::default() },
    )
    .unwrap();
    let compare = |interpreter: &str, version: &str, given: Option<&str>, options: &[&str]| {
        let mut command = Command::new(interpreter);
        command
            .args(options)
            .args(["-c", "import sys; print('\\n'.join(sys.path[1:]))"])
            .env_clear()
            .env("HOME", &home);
        command.current_dir("/");
        if let Some(list) = given {
            command.env("PYTHONPATH", list);
        }
        let theirs = String::from_utf8(output(&mut command)).unwrap();
        let because = whodunit_core::model::Evidence::at("x", "", "");
        let list = given.map(|list| (list.as_bytes(), because));
        let ours = modules::dirs(&host, &interpreter.into(), version, &me(&home), list);
        let ours: Vec<String> = ours.iter().map(|one| one.dir.to_string()).collect();
        let theirs: Vec<&str> = theirs.lines().filter(|line| !line.is_empty()).collect();
        assert_eq!(ours, theirs, "{interpreter} {given:?}");
    };
    for (interpreter, version) in &interpreters {
        let interpreter = interpreter.to_string();
        if Command::new(&interpreter).arg("--version").output().is_err() {
            continue;
        }
        compare(&interpreter, version, None, &[]);
        let own = home.join(format!(".local/lib/python{version}/site-packages"));
        fs::create_dir_all(own.join("more")).unwrap();
        fs::write(own.join("b.pth"), "more\n# no\nimport sys\n/nowhere\n").unwrap();
        fs::write(own.join("a.pth"), "/etc\n").unwrap();
        compare(&interpreter, version, None, &[]);
        compare(&interpreter, version, Some("/opt/x:/opt/y"), &[]);
        let dir = made.path().join(format!("env{version}"));
        for (sees, name) in [("", "closed"), ("--system-site-packages", "open")] {
            let place = dir.join(name);
            let mut make = Command::new(&interpreter);
            make.args(["-m", "venv", "--without-pip"]).args(Some(sees).filter(|sees| !sees.is_empty())).arg(&place);
            if make.env("HOME", &home).output().is_ok_and(|made| made.status.success()) {
                compare(place.join("bin/python").to_str().unwrap(), version, None, &[]);
            }
        }
    }
}

#[test]
fn pages_are_those_that_man_shows() {
    if !has(&["man"]) {
        return;
    }
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    for (page, text) in
        [("one/share/man/man1/tern.1", "one"), ("two/man/man1/tern.1", "two"), ("two/man/man8/tern.8", "eight")]
    {
        fs::create_dir_all(at(page).parent().unwrap()).unwrap();
        fs::write(at(page), format!(".TH TERN 1\n.SH NAME\ntern \\- {text}\n")).unwrap();
    }
    for dir in ["one/bin", "two/bin"] {
        fs::create_dir_all(at(dir)).unwrap();
        fs::write(at(dir).join("tern"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(at(dir).join("tern"), fs::Permissions::from_mode(0o755)).unwrap();
    }
    let root = Root::live();
    let settings = Settings::read(&root);
    let text = |path: &str| at(path).to_str().unwrap().to_owned();
    let both = |a: &str, b: &str| format!("{}:{}:/usr/bin", text(a), text(b));
    for (search, manual_path) in [
        (both("one/bin", "two/bin"), None),
        (both("two/bin", "one/bin"), None),
        (both("two/bin", "one/bin"), Some(text("one/share/man"))),
        (both("two/bin", "one/bin"), Some(format!(":{}", text("one/share/man")))),
        ("/usr/bin".to_owned(), Some(text("two/man"))),
    ] {
        let mut command = Command::new("man");
        command.args(["-w", "tern"]).env_clear().env("PATH", &search).env("LC_ALL", "C");
        if let Some(list) = &manual_path {
            command.env("MANPATH", list);
        }
        let theirs = command.output().unwrap();
        let theirs = String::from_utf8(theirs.stdout).unwrap();
        let dirs: Vec<ByteString> = search.split(':').map(ByteString::from).collect();
        let dirs = settings.dirs(&root, &dirs, manual_path.as_ref().map(String::as_bytes));
        let ours = settings.page(&root, &dirs, b"tern").map(|page| page.to_string()).unwrap_or_default();
        assert_eq!(ours, theirs.trim(), "{search} {manual_path:?}");
    }
}

/// A library of nobody's in front of one that a distribution's program was built with.
#[test]
fn a_library_in_front_of_the_distributions_is_told_with_its_programs() {
    if !has(&["cc", "unshare", "ldconfig", "dpkg-deb"]) {
        return;
    }
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    for dir in ["usr/lib", "usr/local/lib", "usr/bin", "etc", "var/lib/dpkg/info", "home/maren", "var/cache/ldconfig"] {
        fs::create_dir_all(at(dir)).unwrap();
    }
    fs::write(at("knots.c"), "int knots(void) { return 4; }\n").unwrap();
    fs::write(at("main.c"), "int knots(void);\nint main(void) { return knots(); }\n").unwrap();
    let build = |arguments: &[&str]| output(Command::new("cc").args(arguments).current_dir(made.path()));
    for dir in ["usr/lib", "usr/local/lib"] {
        build(&["-shared", "-fPIC", "-Wl,-soname,libknots.so.2", "-o", &format!("{dir}/libknots.so.2"), "knots.c"]);
    }
    build(&["-o", "usr/bin/tern", "main.c", "usr/lib/libknots.so.2"]);
    fs::write(at("etc/ld.so.conf"), "/usr/local/lib\n").unwrap();
    output(Command::new("ldconfig").arg("-r").arg(made.path()));
    fs::write(at("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/sh\n").unwrap();
    fs::write(at("etc/login.defs"), "ENV_PATH PATH=/usr/bin\n").unwrap();
    let status = "Package: libknots2\nStatus: install ok installed\nArchitecture: amd64\nVersion: 2.1-1\n\n";
    fs::write(at("var/lib/dpkg/status"), status).unwrap();
    fs::write(at("var/lib/dpkg/info/libknots2.list"), "/.\n/usr/lib/libknots.so.2\n").unwrap();
    let mut command = Command::new(program());
    command.arg("--root").arg(made.path()).args(["shadows", "--kind", "library", "--format", "json"]);
    let ran: Ran = finish_with_path(&mut command);
    let document = ran.document();
    let shadow = &document["shadows"][0];
    assert_eq!(
        (&shadow["name"], &shadow["winner"]["path"]),
        (&"libknots.so.2".into(), &"/usr/local/lib/libknots.so.2".into())
    );
    assert_eq!(
        (&shadow["winner"]["owner"], &shadow["hidden"][0]["owner"]["name"]),
        (&Value::Null, &"libknots2".into())
    );
    assert_eq!(document["findings"][0]["kind"], "masked-library");
    assert!(document["findings"][0]["consequence"].as_str().unwrap().starts_with("tern run"), "{document}");

    // A damaged cache is said to be one.
    fs::write(at("etc/ld.so.cache"), b"glibc-ld.so.cache1.1\xff\xff\xff\xff").unwrap();
    let ran = finish_with_path(&mut command);
    assert!(ran.document()["coverage"].to_string().contains("truncated in the list of libraries"), "{ran:?}");
}
