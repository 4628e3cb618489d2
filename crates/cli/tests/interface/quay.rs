//! A home in which real tools install things: a temporary directory laid over `/home/maren` in a mount name space
//! of its own, for what the tools write is full of absolute paths.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;
use tempfile::TempDir;

use super::support::{can_mount, finish_with_path, has, not_compared, open_dir, program};

/// The user's home, as the tools and the program see it.
pub const HOME: &str = "/home/maren";

pub struct Quay {
    dir: TempDir,
}

impl Quay {
    /// Lays out the home, where the tools are here and this may be done.
    pub fn new(tools: &[&str]) -> Option<Self> {
        if !has(&[&["unshare"], tools].concat()) {
            return None;
        }
        if !can_mount() || !Path::new("/home").is_dir() {
            not_compared("needs the right to mount over /home, and that directory");
            return None;
        }
        let quay = Quay { dir: open_dir() };
        fs::create_dir_all(quay.at("")).unwrap();
        fs::create_dir_all(quay.dir.path().join("local")).unwrap();
        // The account is this process's own, so that its environment counts as hers.
        fs::write(quay.dir.path().join("passwd"), "maren:x:0:0::/home/maren:/bin/sh\n").unwrap();
        Some(quay)
    }

    /// A file of the home, seen from outside.
    pub fn at(&self, below: &str) -> PathBuf {
        self.dir.path().join("home/maren").join(below)
    }

    /// Writes a file of the home.
    pub fn write(&self, below: &str, content: &str) {
        let at = self.at(below);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, content).unwrap();
    }

    /// A program seen from inside, with this home as its own. `/usr/local` is empty there.
    fn inside(&self, program: &str) -> Command {
        let mut command = Command::new("unshare");
        let lay = "mount --bind \"$0/home\" /home && mount --bind \"$0/passwd\" /etc/passwd && mount --bind \"$0/local\" /usr/local && exec \"$@\"";
        command.args(["-m", "sh", "-c", lay]).arg(self.dir.path()).arg(program);
        command.current_dir("/").env("HOME", HOME);
        // What the caller's own tools tell their children is not hers.
        const OTHERS: [&str; 12] = [
            "CARGO",
            "RUSTUP",
            "GO",
            "GEM",
            "RUBY",
            "RBENV",
            "PYENV",
            "MISE",
            "XDG_",
            "VIRTUAL_ENV",
            "npm_",
            "NPM_CONFIG_PREFIX",
        ];
        for (name, _) in std::env::vars_os() {
            if OTHERS.iter().any(|start| name.to_string_lossy().starts_with(start)) {
                command.env_remove(&name);
            }
        }
        command
    }

    /// Runs lines of shell in the home; the first that fails ends it.
    pub fn sh(&self, lines: &str) -> String {
        let mut command = self.inside("sh");
        command.args(["-ec", &format!("cd {HOME}; {lines}")]);
        let output = command.env("LC_ALL", "C.UTF-8").output().unwrap();
        assert!(output.status.success(), "{lines}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Asks the program.
    pub fn ask(&self, arguments: &[&str]) -> Value {
        self.ask_in(HOME, &[], arguments)
    }

    /// Asks the program in a directory, with more variables.
    pub fn ask_in(&self, dir: &str, variables: &[(&str, &str)], arguments: &[&str]) -> Value {
        let mut command = self.inside("env");
        command.args(["-C", dir]).arg(program()).args(["--format", "json"]).args(arguments);
        command.envs(variables.iter().copied());
        finish_with_path(&mut command).document()
    }

    /// The packages of a manager: (scope, name, version), sorted.
    pub fn packages(&self, manager: &str) -> Vec<(String, String, String)> {
        let document = self.ask(&["inventory", "--all", "--manager", manager]);
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        let packages = document["packages"].as_array().unwrap();
        let mut found: Vec<_> =
            packages.iter().map(|one| (text(&one["scope"]), text(&one["name"]), text(&one["version"]))).collect();
        found.sort();
        found
    }

    /// The answers for some targets, with the search path that a shell of hers would have.
    pub fn owners(&self, targets: &[&str]) -> Vec<Value> {
        let document = self.ask(&[&["owner"], targets].concat());
        document["answers"].as_array().unwrap().clone()
    }
}
