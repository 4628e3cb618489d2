//! A small home, what a shell makes of a start-up file in it, and what the evaluator makes of it.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, LazyLock};

use whodunit_formats::bytes::ByteString;
use whodunit_shell::eval::fish::Fish;
use whodunit_shell::eval::{Account, Invocation, Run, State, is_known};
use whodunit_shell::syntax::Dialect;
use whodunit_shell::{FileType, Files, Metadata, ReadError};

/// Where the search path starts.
pub const START: &str = "/usr/bin:/bin";

/// The variables that are compared.
pub const VARIABLES: [&str; 3] = ["PATH", "XDG_DATA_DIRS", "MANPATH"];

/// The files of this machine.
#[derive(Debug)]
struct Disk;

fn at(path: &[u8]) -> &Path {
    Path::new(std::ffi::OsStr::from_bytes(path))
}

fn file_type(kind: fs::FileType) -> FileType {
    match () {
        () if kind.is_dir() => FileType::Dir,
        () if kind.is_symlink() => FileType::Link,
        () if kind.is_fifo() || kind.is_socket() || kind.is_char_device() || kind.is_block_device() => {
            FileType::Special
        }
        () => FileType::File,
    }
}

impl Files for Disk {
    fn read(&self, path: &[u8], _: u64) -> Result<Vec<u8>, ReadError> {
        fs::read(at(path)).map_err(|error| ReadError::Absent(error.to_string()))
    }

    fn metadata(&self, path: &[u8]) -> Option<Metadata> {
        let meta = fs::metadata(at(path)).ok()?;
        Some(Metadata {
            file_type: file_type(meta.file_type()),
            size: meta.len(),
            mode: meta.mode() & 0o7777,
            owner: meta.uid(),
            group: meta.gid(),
            modified: meta.mtime(),
            identity: (meta.dev(), meta.ino()),
        })
    }

    fn entry_type(&self, path: &[u8]) -> Option<FileType> {
        Some(file_type(fs::symlink_metadata(at(path)).ok()?.file_type()))
    }

    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)> {
        let entries = fs::read_dir(at(dir)).into_iter().flatten().flatten();
        let one = |entry: fs::DirEntry| Some((entry.file_name().as_bytes().into(), file_type(entry.file_type().ok()?)));
        let mut names: Vec<(ByteString, FileType)> = entries.filter_map(one).collect();
        names.sort_by(|a, b| a.0.cmp(&b.0));
        names
    }

    fn read_link(&self, path: &[u8]) -> Option<ByteString> {
        Some(fs::read_link(at(path)).ok()?.as_os_str().as_bytes().into())
    }

    fn canonicalize(&self, path: &[u8]) -> ByteString {
        fs::canonicalize(at(path)).map_or_else(|_| path.into(), |path| path.as_os_str().as_bytes().into())
    }
}

/// What holds at the end: the variables that programs get; `None` where one is uncertain. A shell that was replaced by
/// another program has none.
pub type Found = Option<BTreeMap<&'static str, Option<String>>>;

/// What the program of the home does, one of these.
const BODIES: [&str; 6] =
    ["echo from-gauge", "exit 1", "exit 0", "echo two words", "echo /from:/gauge; exit 3", "printf ' 7\\n\\n'"];

/// How many ways the program has to end.
pub const GAUGES: usize = BODIES.len();

/// What the home has at the start.
const KEPT: [&str; 9] = ["bin", ".local", "tools", "empty", "lib", "order", "zsh", "gone", "linked"];

/// A home with a few files.
#[derive(Debug)]
pub struct Machine {
    home: PathBuf,
    /// Whether a user types into its shells.
    is_interactive: bool,
}

impl Machine {
    /// Makes the home at a place that stays the same, so that what is printed does.
    pub fn new(place: &str) -> Self {
        let home = std::env::temp_dir().join(place);
        let _ = fs::remove_dir_all(&home);
        for dir in [
            "bin",
            ".local/bin",
            "tools/a",
            "tools/b",
            "empty",
            "lib/x86",
            "order/B",
            "order/a",
            "order/9x",
            "order/10x",
            "order/_u",
            "zsh",
        ] {
            fs::create_dir_all(home.join(dir)).unwrap();
        }
        for (file, mode, text) in [
            (".local/bin/plain", 0o644, "text\n"),
            ("tools/a/env", 0o644, "PATH=$PATH:/from-env\n"),
            ("tools/a/env.fish", 0o644, "set -gx PATH $PATH /from-env\n"),
            ("tools/b/broken", 0o644, "PATH=/before:$PATH\nif true; then\n"),
            ("zsh/front", 0o644, "PATH=$1:$PATH\n"),
            ("zsh/back", 0o644, "back() {\n  PATH=$PATH:$1\n}\n"),
            ("zsh/ahead.fish", 0o644, "function ahead; set PATH $argv $PATH; end\n"),
            ("tools/list", 0o644, "/l1\n/l2\n"),
            ("tools/b/exits", 0o644, "PATH=/left:$PATH\nreturn 3\nPATH=/never\n"),
        ] {
            fs::write(home.join(file), text).unwrap();
            fs::set_permissions(home.join(file), fs::Permissions::from_mode(mode)).unwrap();
        }
        let machine = Machine { home: fs::canonicalize(&home).unwrap(), is_interactive: false };
        machine.make_gauge(0);
        std::os::unix::fs::symlink("nowhere", home.join("gone")).unwrap();
        std::os::unix::fs::symlink("tools", home.join("linked")).unwrap();
        machine
    }

    /// The same with shells that take themselves for interactive.
    pub fn interactive(self, is_interactive: bool) -> Self {
        Machine { is_interactive, ..self }
    }

    /// Makes the program that scripts run, whose output and status nobody knows beforehand.
    pub fn make_gauge(&self, kind: u64) {
        let body = BODIES[usize::try_from(kind).unwrap() % BODIES.len()];
        // A new file each time: one that a shell is just starting cannot be written to.
        let file = self.home.join("gauge.new");
        fs::write(&file, format!("#!/bin/sh\n{body}\n")).unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
        fs::rename(&file, self.home.join("bin/gauge")).unwrap();
    }

    /// A text with the home written as `~home`, so that it can be compared with one from elsewhere.
    pub fn shown(&self, text: &str) -> String {
        text.replace(self.home.to_str().unwrap(), "~home")
    }

    /// Removes what scripts have made in the home.
    pub fn tidy(&self) {
        let is_made = |name: &str| !KEPT.contains(&name) && !name.starts_with("start") && !name.starts_with("told");
        for entry in fs::read_dir(&self.home).unwrap().map(Result::unwrap) {
            if is_made(&entry.file_name().to_string_lossy()) {
                let _ = fs::remove_dir_all(entry.path()).or_else(|_| fs::remove_file(entry.path()));
            }
        }
    }

    /// What the shell leaves behind.
    pub fn theirs(&self, shell: &str, script: &str) -> Found {
        self.tidy();
        let start = self.written("start", script);
        let output = self.run(shell, &of_one(shell, &start), 5, script.contains("fish_"));
        found(&output)
    }

    /// What the shell leaves behind after each of these scripts, which lie in files of their own. Shells that can
    /// divide themselves follow each in a subshell of one process: to start a shell takes longer than all that these
    /// scripts do.
    pub fn theirs_of_each(&self, shell: &str, scripts: &[String]) -> Vec<Found> {
        if shell == "fish" {
            return scripts.iter().map(|script| self.theirs(shell, script)).collect();
        }
        let told = |index: usize| self.home.join(format!("told{index}"));
        let mut all = String::new();
        for (index, script) in scripts.iter().enumerate() {
            let start = self.written(&format!("start{index}"), script);
            let _ = fs::remove_file(told(index));
            writeln!(all, "({}) >{}", of_one(shell, &start), told(index).display()).unwrap();
        }
        self.run(shell, &all, 60, true);
        let one = |(index, script): (usize, &String)| {
            fs::read(told(index)).map_or_else(|_| self.theirs(shell, script), |output| found(&output))
        };
        scripts.iter().enumerate().map(one).collect()
    }

    /// The file of the home that has this script.
    fn written(&self, name: &str, script: &str) -> String {
        let file = self.home.join(name);
        fs::write(&file, script).unwrap();
        file.to_str().unwrap().to_owned()
    }

    /// What the shell prints. A script may never end: what it can take is bounded.
    fn run(&self, shell: &str, text: &str, seconds: u32, needs_set_up: bool) -> Vec<u8> {
        let mut command = Command::new("sh");
        let bounds = format!("ulimit -t 2; ulimit -v 1000000; exec timeout {seconds} \"$@\"");
        command.args(["-c", &bounds, "sh"]);
        command.arg(if shell == "sh" { "dash" } else { shell });
        if self.is_interactive && shell == "bash" {
            command.args(["--noprofile", "--norc"]); // Long options come first.
        }
        if self.is_interactive {
            command.arg("-i");
        }
        match shell {
            "bash" if !self.is_interactive => command.args(["--noprofile", "--norc", "-c", text]),
            "zsh" => command.args(["-f", "-c", text]),
            // What fish sets up by itself takes ten times as long as all else, and bears on its own list of paths alone.
            "fish" if !needs_set_up => command.args(["--no-config", "-c", text]),
            _ => command.args(["-c", text]),
        };
        for kept in [".config", ".local/share", ".cache"] {
            let _ = fs::remove_dir_all(self.home.join(kept));
        }
        command.env_clear().env("PATH", START).env("HOME", &self.home).env("USER", user()).env("LOGNAME", user());
        // Its errors are read until the last that may write some has ended: what a script left running in the
        // background would make its files on top of the next one's.
        command.current_dir(&self.home).stdin(Stdio::null()).stderr(Stdio::piped()).output().unwrap().stdout
    }

    /// What the evaluator says, and its unknowns.
    pub fn ours(&self, shell: &str, script: &str) -> (Found, Vec<String>) {
        self.tidy();
        let start = self.written("start", script);
        let account = Account { name: user().into(), uid: uid(), home: self.home.as_os_str().as_bytes().into() };
        let dialect = match shell {
            "bash" => Dialect::Bash,
            "zsh" => Dialect::Zsh,
            _ => Dialect::Posix,
        };
        let invocation = Invocation {
            files: &Disk,
            hostname: None,
            user: &account,
            groups: BTreeSet::from([0]),
            homes: Arc::new(BTreeMap::from([(b"root".to_vec(), b"/root".to_vec())])),
            dialect,
            name: shell.as_bytes().to_vec(),
            is_login: false,
            is_interactive: self.is_interactive,
        };
        let mut state = State { dir: account.home.to_vec(), ..State::default() };
        state.export(b"PATH", START);
        state.export(b"HOME", account.home.to_vec());
        state.export(b"USER", user());
        state.export(b"LOGNAME", user());
        let start = start.as_bytes();
        let (state, unknowns) = if shell == "fish" {
            let mut fish = Fish::new(invocation, state);
            fish.file(start);
            fish.finish()
        } else {
            let mut run = Run::new(invocation, state);
            let _ = run.file(start);
            run.finish()
        };
        let found = VARIABLES.into_iter().map(|name| {
            let variable = state.variables.get(name.as_bytes());
            let value = match variable {
                Some(variable) if !variable.taints.is_empty() || !is_known(variable.as_text()) => None,
                Some(variable) if variable.exported => Some(String::from_utf8_lossy(variable.as_text()).into_owned()),
                None if !state.unset_taints.is_empty() => None,
                _ => Some("unset".to_owned()),
            };
            (name, value)
        });
        (Some(found.collect()), unknowns.into_iter().map(|unknown| unknown.says).collect())
    }
}

/// The text with which a shell follows a file and prints what programs get at its end.
fn of_one(shell: &str, start: &str) -> String {
    match shell {
        "fish" => format!(
            "function __told --on-event fish_exit; /usr/bin/env -0; end; set -gx PATH /usr/bin /bin; set -e \
             XDG_DATA_DIRS; set -e MANPATH; true; source {start}"
        ),
        _ => format!("trap '/usr/bin/env -0' EXIT; . {start} >/dev/null"),
    }
}

/// The variables among what `env -0` printed.
fn found(output: &[u8]) -> Found {
    let text = String::from_utf8_lossy(output);
    let of = |name: &str| text.split('\0').find_map(|line| line.strip_prefix(name)?.strip_prefix('='));
    let all = VARIABLES.into_iter().map(|name| (name, Some(of(name).unwrap_or("unset").to_owned())));
    (!text.is_empty()).then(|| all.collect())
}

/// The name of the user who runs the tests: fish asks the system for it.
fn user() -> &'static str {
    static NAME: LazyLock<String> = LazyLock::new(|| {
        let passwd = fs::read_to_string("/etc/passwd").unwrap_or_default();
        let of = |line: &str| line.split(':').nth(2) == Some(&uid().to_string());
        let name = passwd.lines().find(|line| of(line)).and_then(|line| line.split(':').next());
        name.unwrap_or("maren").to_owned()
    });
    &NAME
}

fn uid() -> u32 {
    fs::metadata("/proc/self").map_or(0, |meta| meta.uid())
}

/// The variables that are wrong in silence.
pub fn silently_wrong(ours: &Found, theirs: &Found) -> Vec<String> {
    let (Some(ours), Some(theirs)) = (ours, theirs) else { return Vec::new() };
    let differs = |(name, value): (&&str, &Option<String>)| {
        let value = value.as_ref()?;
        let real = theirs[*name].as_ref()?;
        (value != real).then(|| format!("{name} is {real}, not {value}"))
    };
    ours.iter().filter_map(differs).collect()
}
