//! The machine on which advice is tried: a tree with the real managers (`scripts/trial-machine`), under a layer of its
//! own for each trial, in a mount namespace that goes with it.

use std::collections::BTreeSet;
use std::io::{BufRead as _, BufReader, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use serde_json::Value;
use tempfile::TempDir;

use super::support::{Ran, can_mount, has, not_compared, program, target};

/// Lays the layers, says so, and holds the namespace until its input ends.
const HOLD: &str = r#"
base=$1 dir=$2
hostname lantern
mount -t tmpfs -o size=3g tmpfs "$dir"
mkdir "$dir/planted" "$dir/work" "$dir/m"
mount -t overlay -o "lowerdir=$base,upperdir=$dir/planted,workdir=$dir/work" trial "$dir/m"
mount -t proc proc "$dir/m/proc"
mount --rbind /dev "$dir/m/dev"
echo ready
read -r _ || true
"#;

/// Makes what was planted part of the machine, under a fresh layer that shows what changes from now on.
const FREEZE: &str = r#"
base=$1 dir=$2
umount -R "$dir/m/dev"; umount "$dir/m/proc"; umount "$dir/m"
rm -rf "$dir/changed" "$dir/changing"; mkdir "$dir/changed" "$dir/changing"
mount -t overlay -o "lowerdir=$dir/planted:$base,upperdir=$dir/changed,workdir=$dir/changing,redirect_dir=on" trial "$dir/m"
mount -t proc proc "$dir/m/proc"
mount --rbind /dev "$dir/m/dev"
"#;

/// A trial machine.
pub struct Trial {
    holder: Child,
    dir: TempDir,
}

fn base() -> PathBuf {
    target().join("trial")
}

/// Whether advice can be tried here; says so where it cannot.
pub fn is_here() -> bool {
    let is_made = base().join("etc/trial").exists();
    if !is_made {
        not_compared("advice: there is no trial machine (scripts/trial-machine makes it, as root)");
    } else if !can_mount() {
        not_compared("advice: this process may not lay a layer over the trial machine");
    }
    is_made && can_mount()
}

impl Trial {
    /// One, where advice can be tried; what keeps it from being tried is said.
    pub fn if_here() -> Option<Self> {
        (is_here() && has(&["unshare", "nsenter"])).then(Trial::new)
    }

    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let mut command = Command::new("unshare");
        command
            .args(["--mount", "--uts", "--propagation", "private", "bash", "-euc", HOLD, "_"])
            .arg(base())
            .arg(dir.path());
        let mut holder = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(holder.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert_eq!(line, "ready\n", "the layers of the trial machine could not be laid");
        Trial { holder, dir }
    }

    /// A command in the namespace.
    fn inside(&self, program: &str) -> Command {
        let mut command = Command::new("nsenter");
        for kind in ["mount=/proc/{}/ns/mnt", "uts=/proc/{}/ns/uts"] {
            command.arg(format!("--{}", kind.replace("{}", &self.holder.id().to_string())));
        }
        command.arg("--").arg(program);
        command
    }

    /// The top of its tree.
    pub fn root(&self) -> PathBuf {
        self.dir.path().join("m")
    }

    /// Types lines as root, or as this user; every question is answered with yes.
    pub fn types(&self, user: Option<&str>, lines: &str) -> Output {
        let mut command = self.inside("chroot");
        command.arg(self.root()).args(["env", "-i", "HOME=/root", "LC_ALL=C.UTF-8", "TERM=dumb"]);
        command.arg("PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin");
        command.arg("DEBIAN_FRONTEND=noninteractive");
        match user.filter(|user| *user != "root") {
            Some(user) => command.args(["su", "-s", "/bin/sh", user, "-c", lines]),
            None => command.args(["sh", "-c", lines]),
        };
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        // A command that asks nothing closes its input.
        let _ = child.stdin.take().unwrap().write_all(b"y\ny\ny\ny\n");
        child.wait_with_output().unwrap()
    }

    /// Types lines that must succeed, as root.
    pub fn plants(&self, lines: &str) {
        let output = self.types(None, &format!("set -eu\ncd /root\n{lines}"));
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        assert!(output.status.success(), "{lines}\n{}\n{}", text(&output.stdout), text(&output.stderr));
    }

    /// From here on, what changes is what a remedy changes.
    pub fn freeze(&self) {
        let output = self.inside("bash").args(["-euc", FREEZE, "_"]).arg(base()).arg(self.dir.path()).output().unwrap();
        assert!(output.status.success(), "{output:?}");
    }

    /// What the program says of the machine, as data.
    pub fn asks(&self, arguments: &[&str]) -> Value {
        self.runs(&[arguments, &["--format", "json"]].concat()).document()
    }

    /// What the program says of the machine.
    pub fn runs(&self, arguments: &[&str]) -> Ran {
        let program = program();
        let mut command = self.inside(program.to_str().unwrap());
        command.arg("--root").arg(self.root()).args(arguments).env_remove("PATH");
        let output = command.output().unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        let status = output.status.code().expect("no signal ended it");
        Ran { status, out: text(output.stdout), err: text(output.stderr) }
    }

    /// Every file and link of the machine, without what the kernel shows and these places.
    pub fn files(&self, without: &[&str]) -> BTreeSet<String> {
        let mut find = self.inside("find");
        find.arg(self.root()).args(["-xdev", "!", "-type", "d", "-printf", "/%P\\n"]);
        let output = find.output().unwrap();
        let files = String::from_utf8(output.stdout).unwrap();
        files.lines().filter(|file| !lies_in(file, without)).map(str::to_owned).collect()
    }

    /// The paths that changed since the last freeze: written, or gone.
    pub fn changed(&self) -> BTreeSet<String> {
        let changed = self.dir.path().join("changed");
        let output = self.inside("find").arg(&changed).args(["!", "-type", "d", "-printf", "/%P\\n"]).output().unwrap();
        String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
    }
}

impl Drop for Trial {
    fn drop(&mut self) {
        drop(self.holder.stdin.take());
        let _ = self.holder.wait();
    }
}

/// Whether a path lies at one of these places.
pub fn lies_in(path: &str, places: &[&str]) -> bool {
    places.iter().any(|place| Path::new(path).starts_with(place))
}
