//! The edge to this process's environment: its environment, current directory, user and terminal.
//! Nothing else in this crate may look at them.

#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "the only module of this crate that may")]

use std::io::{IsTerminal as _, Write as _};
use std::os::unix::ffi::OsStringExt as _;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use whodunit_core::bytes::ByteString;
use whodunit_core::host::{ProcessEnv, UserSelection};

/// The words of the command line, the program's own name first.
pub fn arguments() -> impl Iterator<Item = std::ffi::OsString> {
    std::env::args_os()
}

fn bytes(text: std::ffi::OsString) -> ByteString {
    ByteString::from(text.into_vec())
}

fn variable(name: &str) -> Option<ByteString> {
    std::env::var_os(name).map(|value| ByteString::from(value.into_vec()))
}

/// Where the question is asked.
pub fn process_env() -> ProcessEnv {
    let dir = std::env::current_dir().map(|dir| dir.into_os_string().into_vec()).unwrap_or_default();
    ProcessEnv {
        dir: ByteString::from(dir),
        dir_is_given: false,
        path: variable("PATH"),
        data_home: variable("XDG_DATA_HOME").filter(|home| !home.is_empty()),
        data_dirs: variable("XDG_DATA_DIRS"),
        desktop: variable("XDG_CURRENT_DESKTOP").filter(|desktop| !desktop.is_empty()),
        uid: Some(rustix::process::geteuid().as_raw()),
        variables: std::env::vars_os().map(|(name, value)| (bytes(name), bytes(value))).collect(),
    }
}

/// Whether the user has pressed Ctrl-C from now on; who presses it twice ends the program at once.
///
/// # Errors
/// Where the system takes no handler of signals.
pub fn interrupted() -> std::io::Result<Arc<AtomicBool>> {
    let flag = Arc::new(AtomicBool::new(false));
    // In this order: the first signal finds the flag unset, and sets it.
    signal_hook::flag::register_conditional_default(signal_hook::consts::SIGINT, flag.clone())?;
    signal_hook::flag::register(signal_hook::consts::SIGINT, flag.clone())?;
    Ok(flag)
}

/// Seconds since 1970, by this machine's clock.
pub fn now() -> Option<i64> {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

/// The directory of the user's settings.
pub fn config_dir() -> Option<ByteString> {
    let own = variable("XDG_CONFIG_HOME").filter(|dir| dir.starts_with(b"/"));
    own.or_else(|| Some(whodunit_core::bytes::path::join(&variable("HOME")?, b".config")))
}

/// The directory of what this user's programs keep between runs.
pub fn state_dir() -> Option<ByteString> {
    let own = variable("XDG_STATE_HOME").filter(|dir| dir.starts_with(b"/"));
    own.or_else(|| Some(whodunit_core::bytes::path::join(&variable("HOME")?, b".local/state")))
}

/// What this user's environment says about connections to databases.
pub fn database_access() -> whodunit_fleet::store::Access {
    let usual = || Some(whodunit_core::bytes::path::join(&variable("HOME")?, b".pgpass"));
    whodunit_fleet::store::Access {
        password: variable("PGPASSWORD"),
        password_file: variable("PGPASSFILE").or_else(usual),
        root_certificates: variable("PGSSLROOTCERT"),
    }
}

/// Writes a file that must not exist yet, with its directories, readable only by its owner. It is there as a whole or
/// not at all.
///
/// # Errors
/// [`AlreadyExists`](std::io::ErrorKind::AlreadyExists) where there is such a file, or as the system says.
pub fn write_new(file: &[u8], content: &[u8]) -> std::io::Result<()> {
    use std::os::unix::ffi::OsStrExt as _;
    use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
    let file = std::path::Path::new(std::ffi::OsStr::from_bytes(file));
    let dir = file.parent().unwrap_or(std::path::Path::new("/"));
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(dir)?;
    if file.symlink_metadata().is_ok() {
        return Err(std::io::ErrorKind::AlreadyExists.into());
    }
    let unfinished = dir.join(format!(".whodunit-{}", std::process::id()));
    let written = (|| {
        let mut open = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&unfinished)?;
        open.write_all(content)?;
        open.sync_all()?;
        // A link is made only where nothing of that name has appeared meanwhile; some file systems have no links.
        match std::fs::hard_link(&unfinished, file) {
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => std::fs::rename(&unfinished, file),
            made => made,
        }
    })();
    let _ = std::fs::remove_file(&unfinished);
    written
}

/// Makes an empty file that only its owner may read, with its directories, where there is none yet.
///
/// # Errors
/// As the system says.
pub fn make_private(file: &[u8]) -> std::io::Result<()> {
    use std::os::unix::ffi::OsStrExt as _;
    use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
    let file = std::path::Path::new(std::ffi::OsStr::from_bytes(file));
    let dir = file.parent().unwrap_or(std::path::Path::new("/"));
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(dir)?;
    match std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(file) {
        Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => Err(error),
        _ => Ok(()),
    }
}

/// Deletes a file.
///
/// # Errors
/// As the system says.
pub fn remove_file(file: &[u8]) -> std::io::Result<()> {
    use std::os::unix::ffi::OsStrExt as _;
    std::fs::remove_file(std::ffi::OsStr::from_bytes(file))
}

/// The user who asks; all users if that is root.
pub fn users() -> UserSelection {
    let uid = rustix::process::geteuid().as_raw();
    match uid {
        0 => UserSelection::All,
        _ => UserSelection::Current { uid, name: variable("USER"), home: variable("HOME"), shell: variable("SHELL") },
    }
}

/// The width of the terminal that shows the results; none when something else takes them.
pub fn width() -> Option<usize> {
    terminal().map(|(width, _)| usize::from(width).max(40))
}

/// The height of that terminal, in lines.
pub fn height() -> Option<usize> {
    terminal().map(|(_, height)| usize::from(height))
}

/// Columns and lines of the terminal that shows the results.
fn terminal() -> Option<(u16, u16)> {
    let stdout = std::io::stdout();
    let size = stdout.is_terminal().then(|| terminal_size::terminal_size_of(&stdout)).flatten();
    size.map(|(width, height)| (width.0, height.0))
}

/// What a shell returns where it does not find the command.
const NOT_FOUND: i32 = 127;

/// Shows a text through the user's pager: what `PAGER` says, or `less` where it is not set. `false` if there is none,
/// or if it does not start; nothing was shown then.
///
/// The pager is the only process that this program starts, and only on a terminal.
pub fn page(text: &[u8]) -> bool {
    use std::process::{Command, Stdio};
    let chosen = std::env::var_os("PAGER");
    let mut command = match &chosen {
        Some(pager) if pager.is_empty() || pager == "cat" => return false,
        // As other programs have it, this is a command line.
        Some(pager) => {
            let mut shell = Command::new("/bin/sh");
            shell.arg("-c").arg(pager);
            shell
        }
        None => Command::new("less"),
    };
    if std::env::var_os("LESS").is_none() {
        // Ends at once where all fits, keeps colours, and leaves the text on the screen.
        command.env("LESS", "FRX");
    }
    let Ok(mut child) = command.stdin(Stdio::piped()).spawn() else { return false };
    if let Some(mut input) = child.stdin.take() {
        // A reader who has seen enough closes it early.
        let _ = input.write_all(text);
    }
    child.wait().is_ok_and(|status| status.code() != Some(NOT_FOUND))
}

/// The directory for temporary files.
pub fn temporary_dir() -> std::path::PathBuf {
    std::env::temp_dir()
}
