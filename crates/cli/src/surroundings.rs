//! The edge to this process's surroundings: its environment, current folder, user and terminal.
//! Nothing else in this crate may look at them.

#![expect(clippy::disallowed_methods, reason = "the one place of this crate that may")]

use std::io::IsTerminal as _;
use std::os::unix::ffi::OsStringExt as _;

use whodunit_core::scene::{Here, People};
use whodunit_core::text::Text;

/// The words of the command line, the program's own name first.
pub fn arguments() -> impl Iterator<Item = std::ffi::OsString> {
    std::env::args_os()
}

fn bytes(text: std::ffi::OsString) -> Text {
    Text::from(text.into_vec())
}

fn variable(name: &str) -> Option<Text> {
    std::env::var_os(name).map(|value| Text::from(value.into_vec()))
}

/// Where the question is asked.
pub fn here() -> Here {
    let folder = std::env::current_dir().map(|folder| folder.into_os_string().into_vec()).unwrap_or_default();
    Here {
        folder: Text::from(folder),
        path: variable("PATH"),
        data_home: variable("XDG_DATA_HOME").filter(|home| !home.is_empty()),
        data_dirs: variable("XDG_DATA_DIRS"),
        desktop: variable("XDG_CURRENT_DESKTOP").filter(|desktop| !desktop.is_empty()),
        uid: Some(rustix::process::geteuid().as_raw()),
        variables: std::env::vars_os().map(|(name, value)| (bytes(name), bytes(value))).collect(),
    }
}

/// Seconds since 1970, by this machine's clock.
pub fn now() -> Option<i64> {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

/// The folder of the person's settings.
pub fn config_folder() -> Option<Text> {
    let own = variable("XDG_CONFIG_HOME").filter(|folder| folder.starts_with(b"/"));
    own.or_else(|| Some(whodunit_core::text::path::join(&variable("HOME")?, b".config")))
}

/// The person who asks; everyone, when that is root.
pub fn people() -> People {
    let uid = rustix::process::geteuid().as_raw();
    match uid {
        0 => People::Everyone,
        _ => People::Me { uid, name: variable("USER"), home: variable("HOME"), shell: variable("SHELL") },
    }
}

/// The width of the terminal that shows the results; none when something else takes them.
pub fn width() -> Option<usize> {
    let stdout = std::io::stdout();
    let size = stdout.is_terminal().then(|| terminal_size::terminal_size_of(&stdout)).flatten();
    size.map(|(width, _)| usize::from(width.0).max(40))
}

/// The folder for temporary files.
pub fn temporary_folder() -> std::path::PathBuf {
    std::env::temp_dir()
}
