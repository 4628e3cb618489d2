//! The shells themselves as judges: search paths, aliases and functions after the start-up files that each manner of
//! starting reads, in a name space in which the sets of files lie over `/etc` and `/home`.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

use super::start_up_sets::SETS;
use super::support::{Ran, can_mount, has, is_root_for, not_compared, open_dir, program, run, text};
use serde_json::Value;
use tempfile::TempDir;

const START: &str = "/usr/bin:/bin";

/// Writes a set.
fn lay(files: &[(&str, &str)]) -> TempDir {
    let made = open_dir();
    let at = |path: &str| made.path().join(path.trim_start_matches('/'));
    for dir in ["etc", "home/maren"] {
        fs::create_dir_all(at(dir)).unwrap();
    }
    fs::write(at("etc/passwd"), "root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/bash\n").unwrap();
    fs::write(at("etc/group"), "root:x:0:\nmaren:x:1000:\n").unwrap();
    fs::write(at("etc/os-release"), "ID=debian\n").unwrap();
    for (path, content) in files {
        let path = at(&path.replace('~', "/home/maren"));
        if content.is_empty() && path.to_str().unwrap().ends_with('/') {
            fs::create_dir_all(&path).unwrap();
            continue;
        }
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, content).unwrap();
        if *content == "x!" {
            fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        }
    }
    if files.iter().any(|(_, content)| content.contains("~/link")) {
        std::os::unix::fs::symlink("none", at("home/maren/link")).unwrap();
    }
    Command::new("chown").args(["-R", "1000:1000"]).arg(at("home/maren")).status().unwrap();
    made
}

/// Runs a line of the shell in the place of the set.
fn inside(made: &Path, line: &str) -> String {
    let mounts = "mount --bind \"$0/etc\" /etc && mount --bind \"$0/home\" /home && cd /home/maren &&";
    let mut command = Command::new("unshare");
    command.args(["--mount", "sh", "-c", &format!("{mounts} {line}")]).arg(made);
    let output = command.output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// What a shell has at the end.
#[derive(Debug, PartialEq, Eq, Default)]
struct Found {
    lists: BTreeMap<String, String>,
    aliases: BTreeMap<String, String>,
    functions: BTreeSet<String>,
}

const VARIABLES: [&str; 3] = ["PATH", "XDG_DATA_DIRS", "MANPATH"];

/// What the real shell says.
fn theirs(made: &Path, shell: &str, invocation: &str) -> Found {
    let (binary, tell) = match shell {
        "b" => (
            "bash",
            "for k in \"${!BASH_ALIASES[@]}\"; do printf 'A %s=%s\\n' \"$k\" \"${BASH_ALIASES[$k]}\"; done; declare -F | while read -r _ _ f; do echo \"F $f\"; done;",
        ),
        "d" => ("dash", "alias | while IFS= read -r a; do echo \"D $a\"; done;"),
        "z" => (
            "zsh",
            "for k v in \"${(@kv)aliases}\" \"${(@kv)galiases}\"; do print -r \"A $k=$v\"; done; for f in ${(k)functions}; do print -r \"F $f\"; done;",
        ),
        _ => ("fish", "for f in (functions -n | string split ', '); echo \"F $f\"; end;"),
    };
    let tell = format!("{tell} env | while IFS= read -r l; do echo \"E $l\"; done");
    let tell =
        if shell == "f" { format!("{}; env | sed 's/^/E /'", tell.split(" env |").next().unwrap()) } else { tell };
    let tell = tell.replace('\'', "'\\''");
    let login = format!("{binary} -l -i -c");
    let start = match invocation {
        "l" => format!("{login} '{tell}'"),
        "t" => format!(
            "{login} 'exec env PATH={START} TERM=xterm-256color DISPLAY=:0 {binary} -i -c '\\''{}'\\'''",
            tell.replace('\'', "'\\''")
        ),
        "s" => format!("{login} 'exec {binary} -c '\\''{}'\\'''", tell.replace('\'', "'\\''")),
        _ => format!(
            "env -u TERM SSH_CLIENT='192.0.2.7 50000 22' SSH_CONNECTION='192.0.2.7 50000 192.0.2.1 22' {binary} -c '{tell}'"
        ),
    };
    let who = "setpriv --reuid=1000 --regid=1000 --clear-groups env -i HOME=/home/maren USER=maren LOGNAME=maren SHELL=/bin/bash TERM=linux";
    let text = inside(made, &format!("{who} PATH={START} {start} 2>/dev/null </dev/null"));
    let mut found = Found::default();
    for line in text.split('\n') {
        let Some((kind, rest)) = line.split_once(' ') else { continue };
        let (name, value) = rest.split_once('=').unwrap_or((rest, ""));
        match kind {
            "E" if VARIABLES.contains(&name) => {
                found.lists.insert(name.to_owned(), value.to_owned());
            }
            "A" => {
                found.aliases.insert(name.to_owned(), value.to_owned());
            }
            "D" => {
                let value = value.trim_matches('\'').replace("'\\''", "'");
                found.aliases.insert(name.to_owned(), value);
            }
            "F" => {
                found.functions.insert(rest.to_owned());
            }
            _ => {}
        }
    }
    found
}

/// What we say, and whether we call it certain.
fn ours(made: &Path, shell: &str, invocation: &str) -> (Found, bool) {
    let shell = match shell {
        "b" => "bash",
        "d" => "sh",
        "z" => "zsh",
        _ => "fish",
    };
    let context = match invocation {
        "l" => "login",
        "t" => "terminal",
        "s" => "script",
        _ => "remote",
    };
    let mut found = Found::default();
    let mut certain = true;
    for variable in VARIABLES {
        let line = format!(
            "{} paths {variable} --context {context} --user maren --shell {shell} --inherit PATH={START} --format json",
            program().display()
        );
        let text = inside(made, &line);
        let document = Ran { status: 0, out: text, err: String::new() }.document();
        let one = &document["contexts"][0];
        let entries: Vec<String> = one["entries"]
            .as_array()
            .unwrap()
            .iter()
            .map(|entry| entry["directory"].as_str().unwrap().to_owned())
            .collect();
        if !entries.is_empty() {
            found.lists.insert(variable.to_owned(), entries.join(":"));
        }
        if variable == "PATH" {
            certain = one["certain"] == true && one["unknowns"] == Value::Array(Vec::new());
            let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
            let aliases = one["aliases"].as_array().unwrap().iter();
            found.aliases = aliases.map(|alias| (text(&alias["name"]), text(&alias["value"]))).collect();
            let functions = one["functions"].as_array().unwrap();
            found.functions = functions.iter().map(|one| text(&one["name"])).collect();
            let all = one["aliases"].as_array().unwrap().iter().chain(functions);
            certain &= all.into_iter().all(|named| named["certain"] == true);
        }
    }
    (found, certain)
}

/// Compares one set in one shell and manner; what differs, in words.
fn compare(made: &Path, shell: &str, invocation: &str, baseline: &BTreeSet<String>) -> Option<String> {
    let (mut ours, certain) = ours(made, shell, invocation);
    let mut theirs = theirs(made, shell, invocation);
    if shell == "z" {
        // A global alias counts anywhere; its text is not told.
        ours.aliases.iter_mut().filter(|(_, value)| value.is_empty()).for_each(|(_, value)| *value = "?".to_owned());
        let global = |name: &String| ours.aliases.get(name).is_some_and(|value| value == "?");
        theirs.aliases.iter_mut().filter(|(name, _)| global(name)).for_each(|(_, value)| *value = "?".to_owned());
    }
    theirs.functions.retain(|name| !baseline.contains(name));
    ours.functions.retain(|name| !baseline.contains(name));
    if invocation == "t" {
        // The desktop's own services add theirs, and here there is no desktop.
        ours.lists.remove("XDG_DATA_DIRS");
        theirs.lists.remove("XDG_DATA_DIRS");
    }
    if shell == "d" {
        ours.functions.clear(); // dash cannot tell its functions.
    }
    if shell == "f" {
        theirs.aliases.clone_from(&ours.aliases); // They are functions there.
    }
    (certain && ours != theirs).then(|| format!("ours {ours:?}\ntheirs {theirs:?}"))
}

#[test]
fn start_up_files_do_what_the_shells_do_with_them() {
    if !is_root_for("a shell") || !has(&["bash", "dash", "zsh", "fish", "unshare", "setpriv"]) {
        return;
    }
    let bare = lay(&[]);
    let baseline: BTreeMap<&str, BTreeSet<String>> =
        ["b", "d", "z", "f"].into_iter().map(|shell| (shell, theirs(bare.path(), shell, "l").functions)).collect();
    let (mut differences, mut uncertain, mut count) = (Vec::new(), Vec::new(), 0);
    for (name, tries, files) in SETS.iter().copied() {
        let made = lay(files);
        for one in tries.split_whitespace() {
            let (shell, invocation) = one.split_at(1);
            count += 1;
            if let Some(difference) = compare(made.path(), shell, invocation, &baseline[shell]) {
                differences.push(format!("{name}, {one}:\n{difference}"));
            }
            if !ours(made.path(), shell, invocation).1 {
                uncertain.push(format!("{name}, {one}"));
            }
        }
    }
    assert!(differences.is_empty(), "{} of {count} differ:\n{}", differences.len(), differences.join("\n"));
    insta::assert_snapshot!("start_up_files_that_cannot_be_followed_to_the_end", uncertain.join("\n"));
}

/// The files that this machine's own distribution brings, with its skeleton as the home.
#[test]
fn this_machines_own_start_up_files_are_followed_to_the_end() {
    if !is_root_for("a shell") || !has(&["bash", "dash", "zsh", "fish", "unshare", "setpriv"]) {
        return;
    }
    let bare = lay(&[]);
    let made = lay(&[]);
    for path in ["profile", "bash.bashrc", "profile.d", "zsh", "fish", "environment", "default/locale", "skel"] {
        let from = Path::new("/etc").join(path);
        let to = made.path().join("etc").join(path);
        if from.exists() {
            fs::create_dir_all(to.parent().unwrap()).unwrap();
            Command::new("cp").arg("-RL").args([&from, &to]).status().unwrap();
        }
    }
    let _ = fs::remove_file(made.path().join("etc/environment")); // It is the login module's, which is not asked here.
    let home = made.path().join("home/maren");
    Command::new("cp").arg("-RT").arg("/etc/skel").arg(&home).status().unwrap();
    Command::new("chown").args(["-R", "1000:1000"]).arg(&home).status().unwrap();
    for (shell, invocations) in [("b", "ltsr"), ("d", "l"), ("z", "ls"), ("f", "ls")] {
        let baseline = theirs(bare.path(), shell, "l").functions;
        for invocation in invocations.chars() {
            let difference = compare(made.path(), shell, &invocation.to_string(), &baseline);
            assert_eq!(difference, None, "{shell}{invocation}");
        }
    }
    let (found, certain) = ours(made.path(), "b", "l");
    assert!(certain, "{found:?}");
}

/// What sudo and su start with, by the files that say so.
#[test]
fn a_fish_in_a_prefix_of_its_own_reads_the_settings_there() {
    if !has(&["fish", "unshare", "setpriv"]) {
        return;
    }
    if !can_mount() {
        return not_compared("a fish in a prefix of its own, which needs root to lay it there");
    }
    let made = lay(&[
        ("etc/login.defs", "ENV_PATH PATH=/usr/bin:/bin\n"),
        ("etc/fish/config.fish", "set -gx PATH /of/etc $PATH\n"),
        ("~/kit/etc/fish/config.fish", "set -gx PATH /of/kit $__fish_sysconf_dir $PATH\n"),
        ("~/kit/etc/fish/conf.d/tide.fish", "set -gx PATH /of/part $PATH\n"),
        ("~/kit/etc/fish/functions/tern.fish", "function tern; set -gx PATH $PATH /of/function; end\n"),
        ("~/.config/fish/config.fish", "tern\n"),
        ("~/kit/bin/", ""),
        ("~/kit/share/", ""),
        ("~/kit/vendor/tide.fish", "set -gx PATH /never $PATH\n"),
        ("~/kit/vendor/wave.fish", "set -gx PATH /of/vendor $PATH\n"),
    ]);
    let kit = made.path().join("home/maren/kit");
    fs::copy("/usr/bin/fish", kit.join("bin/fish")).unwrap();
    Command::new("cp").args(["-r", "/usr/share/fish"]).arg(kit.join("share/fish")).status().unwrap();
    fs::remove_dir_all(kit.join("share/fish/vendor_conf.d")).unwrap();
    fs::create_dir(kit.join("share/fish/vendor_conf.d")).unwrap();
    fs::write(kit.join("share/fish/vendor_conf.d/gale.fish"), "set -gx PATH /of/data $PATH\n").unwrap();
    // What it was built with leads to what other packages bring, of which nothing is here.
    let built = "set __extra_confdir /home/maren/kit/vendor\nset __extra_functionsdir /home/maren/kit/vendor\n";
    fs::write(kit.join("share/fish/__fish_build_paths.fish"), built).unwrap();
    let passwd = "maren:x:1000:1000::/home/maren:/home/maren/kit/bin/fish\n";
    fs::write(made.path().join("etc/passwd"), passwd).unwrap();
    let who = "setpriv --reuid=1000 --regid=1000 --clear-groups env -i HOME=/home/maren USER=maren TERM=linux";
    let theirs = inside(made.path(), &format!("{who} PATH={START} ~maren/kit/bin/fish -l -c 'string join : $PATH'"));
    let root = made.path().to_str().unwrap();
    let document =
        run(["--root", root, "paths", "--context", "login", "--user", "maren", "--format", "json"]).document();
    let entries = document["contexts"][0]["entries"].as_array().unwrap().iter();
    let ours: Vec<String> = entries.map(|one| text(&one["directory"])).collect();
    assert_eq!(ours.join(":"), theirs.trim_end());
    assert_eq!(ours[..5], ["/of/kit", "/home/maren/kit/etc/fish", "/of/vendor", "/of/data", "/of/part"]);
}

#[test]
fn sudo_and_su_start_with_what_is_told() {
    if !has(&["sudo", "su", "unshare", "setpriv"]) {
        return;
    }
    let rules = "root ALL=(ALL:ALL) ALL\nmaren ALL=(ALL:ALL) NOPASSWD: ALL\n";
    let profile = "PATH=$PATH:/opt/login\nexport PATH\n";
    for (name, sudoers, more, group) in [
        ("a secure path", "Defaults secure_path=\"/usr/sbin:/usr/bin\"\n", "", ""),
        ("none", "Defaults env_reset\n", "", ""),
        (
            "one for a user",
            "Defaults secure_path=/usr/bin\nDefaults:maren secure_path=\"/usr/bin:/opt/maren\"\n",
            "",
            "",
        ),
        ("taken back for a user", "Defaults secure_path=/usr/bin:/sbin\nDefaults:maren !secure_path\n", "", ""),
        (
            "a later file",
            "Defaults secure_path=/usr/bin\n@includedir /etc/sudoers.d\n",
            "Defaults secure_path=/usr/bin:/opt/later\n",
            "",
        ),
        ("joined lines", "Defaults env_reset, \\\n  secure_path=\"/usr/bin:/opt/joined\"\n", "", ""),
        (
            "a group that is exempt",
            "Defaults secure_path=/usr/bin:/sbin, exempt_group=crew\n",
            "",
            "crew:x:990:maren\n",
        ),
    ] {
        let made = lay(&[("~/.profile", profile)]);
        let at = |path: &str| made.path().join("etc").join(path);
        fs::create_dir_all(at("sudoers.d")).unwrap();
        fs::write(at("sudoers"), format!("{sudoers}{rules}")).unwrap();
        fs::write(at("sudoers.d/later"), more).unwrap();
        fs::write(at("sudoers.d/passed.over"), "Defaults secure_path=/wrong\n").unwrap();
        for file in ["sudoers", "sudoers.d/later", "sudoers.d/passed.over"] {
            fs::set_permissions(at(file), fs::Permissions::from_mode(0o440)).unwrap();
        }
        fs::write(at("group"), format!("root:x:0:\nmaren:x:1000:\n{group}")).unwrap();
        fs::write(at("login.defs"), "ENV_PATH PATH=/usr/bin:/bin:/opt/defs\nENV_SUPATH PATH=/usr/sbin:/usr/bin:/bin\n")
            .unwrap();
        fs::create_dir_all(at("pam.d")).unwrap();
        let open =
            "auth sufficient pam_permit.so\naccount sufficient pam_permit.so\nsession sufficient pam_permit.so\n";
        for service in ["sudo", "other", "su", "su-l", "login"] {
            fs::write(at("pam.d").join(service), open).unwrap();
        }
        fs::write(at("hosts"), "127.0.0.1 localhost\n").unwrap();
        let groups = if group.is_empty() { "--clear-groups" } else { "--groups=990" };
        let who = format!(
            "setpriv --reuid=1000 --regid=1000 {groups} env -i HOME=/home/maren USER=maren LOGNAME=maren SHELL=/bin/bash TERM=linux"
        );
        let asked = "sudo sh -c 'echo \"$PATH\"'";
        let line = format!(
            "{who} PATH=/usr/bin:/bin:/opt/defs bash -l -i -c '{}' 2>/dev/null </dev/null",
            asked.replace('\'', "'\\''")
        );
        let theirs = inside(made.path(), &line);
        let tell = |context: &str| {
            let line =
                format!("{} paths --context {context} --user maren --shell bash --format json", program().display());
            let document = Ran { status: 0, out: inside(made.path(), &line), err: String::new() }.document();
            let entries = document["contexts"][0]["entries"].as_array().unwrap().clone();
            entries.iter().map(|entry| entry["directory"].as_str().unwrap().to_owned()).collect::<Vec<_>>().join(":")
        };
        assert_eq!(tell("sudo"), theirs.trim(), "{name}");
        let theirs = inside(made.path(), "su -l -s /bin/bash maren -c 'echo \"$PATH\"' 2>/dev/null </dev/null");
        assert_eq!(tell("login"), theirs.trim(), "{name}: su");
    }
}

/// What a login adds that this session has not, and what only this session has.
#[test]
fn this_session_is_compared_with_a_fresh_one() {
    if !can_mount() {
        return not_compared("laying directories over others takes the rights of root");
    }
    if !has(&["bash", "unshare", "setpriv"]) {
        return;
    }
    let made = lay(&[
        ("/etc/profile", "PATH=/usr/bin:/bin\n"),
        ("~/.profile", "\nPATH=$HOME/new:$PATH\n"),
        ("~/new/gauge", "x!"),
    ]);
    let who = "setpriv --reuid=1000 --regid=1000 --clear-groups env -i HOME=/home/maren USER=maren PATH=/usr/bin:/only";
    let asked = |arguments: &str| {
        let line = format!("{who} {} {arguments} --format json", program().display());
        Ran { status: 0, out: inside(made.path(), &line), err: String::new() }.document()
    };
    let session = asked("paths")["session"].clone();
    assert_eq!(session["only_here"], serde_json::json!(["/only"]));
    assert_eq!(session["after_login"][0]["directory"], "/home/maren/new");
    assert_eq!(session["after_login"][0]["contexts"], serde_json::json!(["login", "terminal"]));
    let because = &session["after_login"][0]["because"];
    assert_eq!((&because["file"], &because["line"]), (&"/home/maren/.profile".into(), &2.into()));
    let stale = asked("check --kind stale-session --level note");
    assert_eq!(stale["findings"][0]["paths"], serde_json::json!(["/home/maren/new"]));
}

/// What tools put on the search path for a while is told by the tool that did: each is the real one.
#[test]
fn what_is_gone_with_this_shell_is_told_with_the_tool_that_put_it_there() {
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("quay");
    fs::create_dir_all(project.join("bin")).unwrap();
    let (place, asks) = (project.to_str().unwrap(), format!("{} paths --format json", program().display()));
    for (tools, lines, directory, says) in [
        (
            &["direnv", "bash"][..],
            format!("echo 'PATH_add bin' > .envrc; direnv allow .; direnv exec . {asks}"),
            format!("{place}/bin"),
            format!("direnv for {place}"),
        ),
        (
            &["python3"],
            format!("python3 -m venv --without-pip .venv; . .venv/bin/activate; {asks}"),
            format!("{place}/.venv/bin"),
            format!("an environment that was activated for {place}/.venv"),
        ),
        (
            &["npm"],
            format!(
                "printf '{{\"name\":\"quay\",\"scripts\":{{\"tides\":\"{asks}\"}}}}' > package.json; npm run --silent tides"
            ),
            format!("{place}/node_modules/.bin"),
            "a script of a package's for tides".to_owned(),
        ),
    ] {
        if !has(tools) {
            continue;
        }
        let mut shell = Command::new("bash");
        shell
            .args(["-euc", &lines])
            .current_dir(&project)
            .env("XDG_DATA_HOME", dir.path())
            .env("DIRENV_LOG_FORMAT", "");
        shell.env("npm_config_update_notifier", "false").env_remove("SUDO_UID").env_remove("VIRTUAL_ENV");
        let said = shell.output().unwrap();
        let printed = String::from_utf8(said.stdout.clone()).unwrap();
        let document: serde_json::Value =
            serde_json::from_str(&printed).unwrap_or_else(|error| panic!("{tools:?}: {error}: {said:?}"));
        let session = &document["session"];
        // Where nobody has a session of the machine's, nothing is compared.
        let Some(told) = session["temporary"].as_array() else {
            not_compared("temporary shells: this process is of none of the users of this machine");
            return;
        };
        let found = told.iter().find(|one| one["directory"] == directory.as_str());
        let found = found.unwrap_or_else(|| panic!("{tools:?}: {session:#}"));
        assert_eq!(format!("{} for {}", found["by"].as_str().unwrap(), found["of"].as_str().unwrap()), says);
        assert!(session["only_here"].as_array().unwrap().contains(&found["directory"]), "{session:#}");
    }
}
