//! Classifies a path of a package's file list for a user who looks for programs.

use crate::bytes::ByteString;

/// Directories whose programs are commands.
const PROGRAM_DIRS: [&[u8]; 10] = [
    b"/usr/bin/",
    b"/bin/",
    b"/usr/sbin/",
    b"/sbin/",
    b"/usr/games/",
    b"/usr/local/bin/",
    b"/usr/local/sbin/",
    b"/usr/local/games/",
    b"/opt/local/bin/",
    b"/opt/local/sbin/",
];

/// Directories whose `.desktop` files are launchers.
const LAUNCHER_DIRS: [&[u8]; 2] = [b"/usr/share/applications/", b"/usr/local/share/applications/"];

/// The class of a listed path for a user who looks for programs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    Command,
    Launcher,
}

/// The role of a listed path, if it has one.
pub fn role(line: &[u8]) -> Option<Role> {
    // Nearly every line is told by its first few bytes.
    let directly_in = |dir: &&[u8]| {
        line.strip_prefix(*dir).is_some_and(|name| !name.is_empty() && memchr::memchr(b'/', name).is_none())
    };
    if PROGRAM_DIRS.iter().any(directly_in) {
        return Some(Role::Command);
    }
    (line.ends_with(b".desktop") && LAUNCHER_DIRS.iter().any(|dir| line.starts_with(dir))).then_some(Role::Launcher)
}

/// A launcher's id: its path below the directory of launchers, with `-` for `/` (Desktop Entry
/// Specification, "Desktop File ID").
pub fn launcher_id(path: &[u8]) -> ByteString {
    let below = LAUNCHER_DIRS.iter().find_map(|dir| path.strip_prefix(*dir)).unwrap_or(path);
    below.iter().map(|&b| if b == b'/' { b'-' } else { b }).collect::<Vec<u8>>().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_and_launchers_are_told_by_place() {
        for (path, expected) in [
            ("/usr/bin/pegel", Some(Role::Command)),
            ("/bin/pegel", Some(Role::Command)),
            ("/usr/bin", None),
            ("/usr/bin/", None),
            ("/usr/bin/a/b", None),
            ("/usr/share/applications/a/b.desktop", Some(Role::Launcher)),
            ("/usr/share/applications/list", None),
        ] {
            assert_eq!(role(path.as_bytes()), expected, "{path}");
        }
        assert_eq!(launcher_id(b"/usr/share/applications/a/b.desktop").to_string(), "a-b.desktop");
    }
}
