//! Running the program, and judging its documents.

use std::ffi::OsStr;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::LazyLock;

use serde_json::Value;
use tempfile::TempDir;
use whodunit_demo::{Scale, write};

/// The built program.
pub fn program() -> PathBuf {
    assert_cmd::cargo::cargo_bin!("whodunit").to_owned()
}

/// What a run gave back.
#[derive(Debug)]
pub struct Ran {
    pub status: i32,
    pub out: String,
    pub err: String,
}

impl Ran {
    /// The document, which must follow the published schema.
    pub fn document(&self) -> Value {
        let document: Value = serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {self:?}"));
        static SCHEMA: LazyLock<jsonschema::Validator> = LazyLock::new(|| {
            let published = fs::read(repository().join("docs/schema/whodunit-1.json")).unwrap();
            jsonschema::validator_for(&serde_json::from_slice(&published).unwrap()).unwrap()
        });
        let problems: Vec<String> =
            SCHEMA.iter_errors(&document).map(|problem| problem.to_string().chars().take(400).collect()).collect();
        assert!(problems.is_empty(), "{problems:#?}");
        document
    }
}

/// The top of the repository.
pub fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// Where what is built lies, and beside it what the tests need.
pub fn target() -> PathBuf {
    std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| repository().join("target"), PathBuf::from)
}

/// Runs the program in an environment of its own.
pub fn run<A: AsRef<OsStr>>(arguments: impl IntoIterator<Item = A>) -> Ran {
    finish(Command::new(program()).args(arguments))
}

/// Runs a prepared command without this process's environment.
pub fn finish(command: &mut Command) -> Ran {
    finish_with_path(command.env_remove("PATH"))
}

/// Runs a prepared command that needs a search path of its own.
pub fn finish_with_path(command: &mut Command) -> Ran {
    let output = command.env_remove("NO_COLOR").output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("all output is UTF-8");
    Ran {
        status: output.status.code().expect("no signal ended it"),
        out: text(output.stdout),
        err: text(output.stderr),
    }
}

/// Runs the program as somebody who may not read everything: root reads all there is.
pub fn run_unprivileged<A: AsRef<OsStr>>(arguments: impl IntoIterator<Item = A>) -> Ran {
    use std::os::unix::process::CommandExt as _;
    if !rustix::process::geteuid().is_root() {
        return run(arguments);
    }
    // The build's own directory need not be open to others.
    static OPEN: LazyLock<TempDir> = LazyLock::new(|| {
        let dir = open_dir();
        fs::copy(program(), dir.path().join("whodunit")).unwrap();
        dir
    });
    finish(Command::new(OPEN.path().join("whodunit")).args(arguments).uid(65534).gid(65534).current_dir("/"))
}

/// A file or directory that nobody but root may read, while this lives: not even the user whom it belongs to.
pub struct Closed {
    path: PathBuf,
    before: fs::Permissions,
}

impl Closed {
    pub fn new(path: PathBuf) -> Self {
        let before = fs::metadata(&path).unwrap().permissions();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o000)).unwrap();
        Closed { path, before }
    }
}

impl Drop for Closed {
    fn drop(&mut self) {
        let _ = fs::set_permissions(&self.path, self.before.clone());
    }
}

/// A temporary directory that every user may enter.
pub fn open_dir() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
    dir
}

/// The demo workstation, written once.
pub fn lantern() -> &'static Path {
    static LANTERN: LazyLock<PathBuf> = LazyLock::new(|| {
        // Not removed at the end: statics are never dropped. It is small, and lies in the build directory.
        let place = Path::new(env!("CARGO_TARGET_TMPDIR")).join("lantern");
        let _ = fs::remove_dir_all(&place);
        write(&place, Scale::default()).unwrap();
        place
    });
    &LANTERN
}

/// A login of maren's, as in the demo's own tour.
pub const PATH: &str = "/home/maren/.local/bin:/home/maren/.cargo/bin:/home/maren/.npm-global/bin:\
    /home/linuxbrew/.linuxbrew/bin:/usr/local/bin:/usr/bin:/bin:/usr/games";

/// Asks the demo workstation.
pub fn ask(arguments: &[&str]) -> Ran {
    let place = lantern().to_str().unwrap();
    // Those that ask for a context have its search path.
    let has_own = arguments.iter().any(|word| ["--path", "--context", "--across"].contains(word));
    let path: &[&str] = if has_own { &[] } else { &["--path", PATH] };
    run([&["--root", place], path, arguments].concat())
}

/// A tree with files: path, content; a path that ends in `/` is a directory, a content that begins with
/// `-> ` a link.
pub fn tree(files: &[(&str, &[u8])]) -> TempDir {
    let tree = open_dir();
    for (path, content) in files {
        let at = tree.path().join(path);
        if path.ends_with('/') {
            fs::create_dir_all(&at).unwrap();
            continue;
        }
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        match content.strip_prefix(b"-> ") {
            Some(target) => {
                use std::os::unix::ffi::OsStrExt as _;
                std::os::unix::fs::symlink(OsStr::from_bytes(target), &at).unwrap();
            }
            None => fs::write(&at, content).unwrap(),
        }
        if path.contains("bin/") && !content.starts_with(b"-> ") {
            fs::set_permissions(&at, fs::Permissions::from_mode(0o755)).unwrap();
        }
    }
    tree
}

/// Notes one line about a comparison, for the summary that the test binary `summary` prints at the end.
fn note_comparison(line: &str) {
    static NOTES: LazyLock<std::sync::Mutex<fs::File>> = LazyLock::new(|| {
        let file = Path::new(env!("CARGO_TARGET_TMPDIR")).join("comparisons.txt");
        std::sync::Mutex::new(fs::File::create(file).unwrap())
    });
    writeln!(NOTES.lock().unwrap(), "{line}").unwrap();
}

/// Writes to the terminal even where the test harness keeps what a passing test prints.
#[expect(clippy::explicit_write, reason = "the harness keeps what the macro prints")]
fn tell(line: &str) {
    writeln!(std::io::stderr(), "{line}").unwrap();
}

/// Says what cannot be compared and why; where the judges are required, that is a failure.
pub fn not_compared(why: &str) {
    let required = std::env::var_os("WHODUNIT_REAL_MANAGERS").is_some_and(|value| value == "required");
    assert!(!required, "required, but not compared: {why}");
    note_comparison(&format!("absent {why}"));
    tell(&format!("not compared with the real manager: {why}"));
}

/// Whether this is root, without whom the judge installs nothing or the answer is about one user only; if not, that is
/// said.
pub fn is_root_for(judge: &str) -> bool {
    let is_root = rustix::process::geteuid().is_root();
    if !is_root {
        not_compared(&format!("only root is answered as {judge} is"));
    }
    is_root
}

/// Whether this process may lay directories over others, in a mount namespace of its own.
pub fn can_mount() -> bool {
    static CAN: LazyLock<bool> = LazyLock::new(|| {
        let tried = Command::new("unshare").args(["--mount", "true"]).stderr(Stdio::null()).status();
        tried.is_ok_and(|status| status.success())
    });
    *CAN
}

/// Whether the tools are here. Where they are required, their absence is a failure, except for those that
/// `WHODUNIT_ABSENT_MANAGERS` names; elsewhere it is said.
pub fn has(tools: &[&str]) -> bool {
    let found =
        |tool: &&&str| Command::new(tool).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok();
    let missing: Vec<_> = tools.iter().filter(|tool| !found(tool)).collect();
    let excused = std::env::var("WHODUNIT_ABSENT_MANAGERS").unwrap_or_default();
    if missing.is_empty() {
        note_comparison(&format!("ran {}", tools.join(" ")));
    } else if missing.iter().all(|tool| excused.split(' ').any(|absent| absent == **tool)) {
        note_comparison(&format!("absent {missing:?}"));
        tell(&format!("not compared: {missing:?} not on this machine"));
    } else {
        not_compared(&format!("{missing:?} not on this machine"));
    }
    missing.is_empty()
}

pub fn output(command: &mut Command) -> Vec<u8> {
    let output = command.env("LC_ALL", "C.UTF-8").output().unwrap();
    // Queries answer in part and exit with 1 when some of their arguments are unknown.
    assert!(
        output.status.code().is_some_and(|code| code < 2),
        "{command:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    output.stdout
}

/// A text of an answer; an empty one where there is none.
pub fn text(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

/// Pairs of versions that differ little, made from the pieces that decide.
pub fn generated_pairs(count: usize, starts: &[&str]) -> Vec<(String, String)> {
    let mut seed = 0x2545_f491_4f6c_dd1d_u64;
    let mut next = move |below: usize| {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        usize::try_from(seed % below as u64).unwrap()
    };
    let pieces =
        ["0", "1", "9", "10", "007", ".", ".", "~", "~~", "+", "a", "rc", "Z", "b1", "dfsg", "~bpo12", "-", "-1"];
    let mut version = |from: Option<&str>| {
        let mut text = match from {
            Some(text) => text.to_owned(),
            None => format!("{}{}", starts[next(starts.len())], next(12)),
        };
        for _ in 0..next(5) {
            text.push_str(pieces[next(pieces.len())]);
        }
        if text.ends_with('-') { text + "0" } else { text }
    };
    (0..count)
        .map(|number| {
            let a = version(None);
            let stem = a.clone();
            let b = version((number % 3 > 0).then_some(&stem));
            (a, b)
        })
        .collect()
}

/// A text as what a program reads from its standard input.
pub fn as_input(text: &str) -> fs::File {
    use std::io::{Seek as _, Write as _};
    let mut file = tempfile::tempfile().unwrap();
    file.write_all(text.as_bytes()).unwrap();
    file.rewind().unwrap();
    file
}

/// A pseudo-terminal of so many lines and columns: the end that stands for the keyboard and the screen, and the end that
/// a program gets.
pub fn pseudo_terminal(lines: u16, columns: u16) -> (fs::File, fs::File) {
    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
    let main = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&main).unwrap();
    unlockpt(&main).unwrap();
    let name = ptsname(&main, Vec::new()).unwrap();
    let side = fs::File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    resize(&side, lines, columns);
    (fs::File::from(main), side)
}

/// Gives a pseudo-terminal another size.
pub fn resize(terminal: &fs::File, lines: u16, columns: u16) {
    use rustix::termios::{Winsize, tcsetwinsize};
    tcsetwinsize(terminal, Winsize { ws_row: lines, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
}
