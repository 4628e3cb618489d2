//! pyenv, rbenv, rustup and mise as judges of what a command would start, directory by directory, on stand-in versions
//! made of small scripts.

use super::quay::{HOME, Quay};
use super::support::text;

/// What our program says that shims start in a directory; `None` for one that would start nothing.
fn ours(quay: &Quay, shims: &str, commands: &[&str], dir: &str, variables: &[(&str, &str)]) -> Vec<Option<String>> {
    let shims: Vec<String> = commands.iter().map(|command| format!("{HOME}/{shims}/{command}")).collect();
    let targets: Vec<&str> = std::iter::once("owner").chain(shims.iter().map(String::as_str)).collect();
    let document = quay.ask_in(&format!("{HOME}/{dir}"), variables, &targets);
    let started = document["answers"].as_array().unwrap().iter().map(|answer| {
        let hops = answer["hops"].as_array().unwrap();
        assert_eq!(text(&hops[0]["how"]), "shim", "{answer:#}");
        hops.get(1).map(|hop| text(&hop["path"]))
    });
    started.collect()
}

/// What the manager itself says of each command in a directory, after some lines that set it up.
fn theirs(quay: &Quay, set_up: &str, which: &str, commands: &[&str], dir: &str) -> Vec<Option<String>> {
    let names = commands.join(" ");
    let lines = format!(
        "{set_up}; cd work/{dir}; for name in {names}; do echo \"=$({which} $name 2>/dev/null | head -n 1)\"; done"
    );
    let said = quay.sh(&lines);
    said.lines().map(|line| line.strip_prefix('=').filter(|path| path.starts_with('/')).map(str::to_owned)).collect()
}

fn version(quay: &Quay, dir: &str, commands: &[&str]) {
    for command in commands {
        quay.write(&format!("{dir}/bin/{command}"), &format!("#!/bin/sh\necho {dir} {command}\n"));
    }
    quay.sh(&format!("chmod +x {dir}/bin/*"));
}

#[test]
fn shims_start_what_pyenv_starts() {
    let Some(quay) = Quay::new(&["pyenv"]) else { return };
    version(&quay, ".pyenv/versions/3.9.18", &["python", "python3", "swell"]);
    version(&quay, ".pyenv/versions/3.11.7", &["python", "python3", "moor"]);
    version(&quay, ".pyenv/versions/3.11.10", &["python", "python3", "python3-config", "ls"]);
    quay.sh("PYENV_ROOT=$HOME/.pyenv pyenv rehash");
    let dirs = [
        ("none", ""),
        ("empty", ""),
        ("partial", "3.11\n"),
        ("major", "3\n"),
        ("several", "3.9.18\n3.11.7 # and not\n"),
        ("one-line", "3.9.18 3.11.7\n"),
        ("missing", "3.99\n3.11.7\n"),
        ("prefixed", "python-3.9.18\n"),
        ("system", "system\n"),
        ("escape", "../3.9.18\n"),
        ("none/below", ""),
        ("partial/below", ""),
    ];
    for (dir, content) in dirs {
        if dir == "empty" || !content.is_empty() {
            quay.write(&format!("work/{dir}/.python-version"), content);
        }
        quay.sh(&format!("mkdir -p work/{dir}"));
    }
    let shims = ".pyenv/shims";
    let set_up = format!("export PYENV_ROOT=$HOME/.pyenv PATH=$HOME/{shims}:$PATH");
    let commands = ["python3", "swell", "ls"];
    let mut started = 0;
    for global in [None, Some("3.9.18\n3.11\n")] {
        match global {
            Some(content) => quay.write(".pyenv/version", content),
            None => drop(quay.sh("rm -f .pyenv/version")),
        }
        for (dir, _) in dirs {
            let found = ours(&quay, shims, &commands, &format!("work/{dir}"), &[]);
            assert_eq!(found, theirs(&quay, &set_up, "pyenv which", &commands, dir), "in {dir} with {global:?}");
            started += found.iter().flatten().count();
        }
    }
    assert!(started > 40, "{started}");
    for variable in ["3.9.18", "3.11", "3.99:3.11.7", "system"] {
        let found = ours(&quay, shims, &["python3", "moor"], "work/partial", &[("PYENV_VERSION", variable)]);
        let set_up = format!("{set_up} PYENV_VERSION={variable}");
        assert_eq!(found, theirs(&quay, &set_up, "pyenv which", &["python3", "moor"], "partial"), "{variable}");
    }
    let listed = quay.sh("PYENV_ROOT=$HOME/.pyenv pyenv versions --bare --skip-aliases");
    let mut kept: Vec<String> = listed.lines().map(str::to_owned).collect();
    kept.sort();
    let ours = quay.packages("pyenv").into_iter().filter(|(_, name, _)| name == "python");
    assert_eq!(ours.map(|(.., version)| version).collect::<Vec<_>>(), kept);
}

#[test]
fn shims_start_what_rbenv_starts() {
    let Some(quay) = Quay::new(&["rbenv"]) else { return };
    version(&quay, ".rbenv/versions/3.1.6", &["ruby", "sedge"]);
    version(&quay, ".rbenv/versions/3.3.0", &["ruby", "ls"]);
    quay.sh("RBENV_ROOT=$HOME/.rbenv rbenv rehash");
    quay.write(".rbenv/version", "3.3.0\n");
    let mut started = 0;
    for (dir, content) in [
        ("none", None),
        ("exact", Some("3.1.6 # why\n")),
        ("partial", Some("3.1\n")),
        ("prefixed", Some("ruby-3.1.6\n")),
        ("system", Some("system\n")),
        ("missing", Some("2.7.0\n")),
        ("exact/below", None),
    ] {
        quay.sh(&format!("mkdir -p work/{dir}"));
        if let Some(content) = content {
            quay.write(&format!("work/{dir}/.ruby-version"), content);
        }
        let shims = ".rbenv/shims";
        let set_up = format!("export RBENV_ROOT=$HOME/.rbenv PATH=$HOME/{shims}:$PATH");
        let commands = ["ruby", "sedge", "ls"];
        let found = ours(&quay, shims, &commands, &format!("work/{dir}"), &[]);
        assert_eq!(found, theirs(&quay, &set_up, "rbenv which", &commands, dir), "in {dir}");
        started += found.iter().flatten().count();
    }
    assert!(started > 8, "{started}");
}

#[test]
fn proxies_start_what_rustup_starts() {
    let Some(quay) = Quay::new(&["rustup"]) else { return };
    let host = "x86_64-unknown-linux-gnu";
    for (name, commands) in [
        ("stable", &["rustc", "cargo", "rustfmt"][..]),
        ("nightly", &["rustc", "cargo"]),
        ("1.90.0", &["rustc", "cargo"]),
    ] {
        version(&quay, &format!(".rustup/toolchains/{name}-{host}"), commands);
        quay.sh(&format!("mkdir -p .rustup/toolchains/{name}-{host}/lib/rustlib; : > .rustup/toolchains/{name}-{host}/lib/rustlib/components"));
    }
    version(&quay, "own/harbour", &["rustc"]);
    quay.sh("mkdir -p own/harbour/lib");
    let rustup = quay.sh("command -v rustup");
    let environment = "export RUSTUP_HOME=$HOME/.rustup CARGO_HOME=$HOME/.cargo RUSTUP_AUTO_INSTALL=0;";
    quay.sh(&format!(
        "mkdir -p .cargo/bin; cp -L {} .cargo/bin/rustup; ln -s rustup .cargo/bin/rustc; ln .cargo/bin/rustup .cargo/bin/cargo; ln -s rustup .cargo/bin/rustfmt
         printf 'version = \"12\"\\ndefault_toolchain = \"stable-{host}\"\\nprofile = \"minimal\"\\n\\n[overrides]\\n' > .rustup/settings.toml
         {environment} rustup -q toolchain link harbour own/harbour",
        rustup.trim()
    ));
    for (dir, file, content) in [
        ("plain", "", ""),
        ("file", "rust-toolchain", "nightly\n"),
        ("toml", "rust-toolchain.toml", "[toolchain]\nchannel = \"1.90.0\"\n"),
        ("path", "rust-toolchain.toml", "[toolchain]\npath = \"/home/maren/own/harbour\"\n"),
        ("linked", "rust-toolchain", "harbour\n"),
        ("absent", "rust-toolchain", "1.50.0\n"),
        ("file/below", "", ""),
        ("override", "", ""),
        ("override/nearer", "rust-toolchain", "nightly\n"),
    ] {
        quay.sh(&format!("mkdir -p work/{dir}"));
        if !file.is_empty() {
            quay.write(&format!("work/{dir}/{file}"), content);
        }
    }
    quay.write("work/both/rust-toolchain", "nightly\n");
    quay.write("work/both/rust-toolchain.toml", "[toolchain]\nchannel = \"1.90.0\"\n");
    quay.sh(&format!("{environment} cd work/override; rustup -q override set 1.90.0-{host} 2>/dev/null"));
    let mut started = 0;
    for dir in
        ["plain", "file", "toml", "path", "linked", "absent", "file/below", "override", "override/nearer", "both"]
    {
        let commands = ["rustc", "cargo", "rustfmt"];
        let found = ours(&quay, ".cargo/bin", &commands, &format!("work/{dir}"), &[]);
        // It also names files that are not there.
        let set_up = format!("{environment} there() {{ path=$(rustup which $1) && test -e $path && echo $path; }}");
        let mut said = theirs(&quay, &set_up, "there", &commands, dir);
        if matches!(dir, "path" | "linked") {
            // Started, the proxy of cargo takes another toolchain's where a linked one has none.
            assert_eq!(said[1], None);
            let ran = quay.sh(&format!("{environment} cd work/{dir}; $HOME/.cargo/bin/cargo || true"));
            said[1] = ran
                .split(' ')
                .next()
                .filter(|start| !start.is_empty())
                .map(|start| format!("{HOME}/{start}/bin/cargo"));
        }
        assert_eq!(found, said, "in {dir}");
        started += found.iter().flatten().count();
    }
    assert!(started > 15, "{started}");
    let found = ours(&quay, ".cargo/bin", &["rustc"], "work/file", &[("RUSTUP_TOOLCHAIN", "harbour")]);
    assert_eq!(found, [Some(format!("{HOME}/.rustup/toolchains/harbour/bin/rustc"))]);
    let listed = quay.sh(&format!("{environment} rustup toolchain list -q"));
    let mut theirs: Vec<String> = listed.lines().map(str::to_owned).collect();
    theirs.sort();
    let ours: Vec<String> =
        quay.packages("rustup").into_iter().map(|(_, name, _)| name).filter(|name| name != "rustup").collect();
    assert_eq!(ours, theirs);
}

#[test]
fn shims_start_what_mise_starts() {
    let Some(quay) = Quay::new(&["mise"]) else { return };
    let data = ".local/share/mise";
    for kept in ["4.2.0", "4.20.0", "5.0.1"] {
        version(&quay, &format!("{data}/installs/scoter/{kept}"), &["scoter"]);
    }
    version(&quay, &format!("{data}/installs/tern/1.0.0"), &["tern", "ls"]);
    quay.write(&format!("{data}/plugins/scoter/bin/list-all"), "#!/bin/sh\necho 4.2.0 4.20.0 5.0.1\n");
    quay.write(&format!("{data}/plugins/tern/bin/list-all"), "#!/bin/sh\necho 1.0.0\n");
    quay.sh(&format!("chmod +x {data}/plugins/*/bin/*; mkdir -p {data}/shims; for n in scoter tern ls; do ln -s $(command -v mise) {data}/shims/$n; done"));
    quay.write(".config/mise/config.toml", "[tools]\nscoter = \"4.2.0\"\ntern = \"1\"\n");
    for (dir, file, content) in [
        ("plain", "", ""),
        ("partial", "mise.toml", "[tools]\nscoter = \"4\"\n"),
        ("exact", ".mise.toml", "[tools]\nscoter = \"4.20.0\"\n"),
        ("list", "mise.toml", "[tools]\nscoter = [\"5.0.1\", \"4.2.0\"]\n"),
        ("table", "mise.toml", "[tools]\nscoter = { version = \"5.0.1\" }\n"),
        ("lines", ".tool-versions", "scoter 5.0.1\n"),
        ("partial/below", "", ""),
        ("local", "mise.local.toml", "[tools]\nscoter = \"5.0.1\"\n"),
    ] {
        quay.sh(&format!("mkdir -p work/{dir}"));
        if !file.is_empty() {
            quay.write(&format!("work/{dir}/{file}"), content);
        }
    }
    quay.write("work/local/mise.toml", "[tools]\nscoter = \"4.2.0\"\n");
    quay.write("work/lines/.mise.toml", "[tools]\ntern = \"1.0.0\"\n");
    for dir in ["plain", "partial", "exact", "list", "table", "lines", "partial/below", "local"] {
        let shims = format!("{data}/shims");
        let set_up = "export MISE_OFFLINE=1 MISE_TRUSTED_CONFIG_PATHS=$HOME MISE_YES=0";
        let found = ours(&quay, &shims, &["scoter", "tern"], &format!("work/{dir}"), &[]);
        assert_eq!(found, theirs(&quay, set_up, "mise which", &["scoter", "tern"], dir), "in {dir}");
        assert!(found.iter().all(Option::is_some), "in {dir}");
    }
}
