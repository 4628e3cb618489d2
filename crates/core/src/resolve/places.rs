//! Where programs lie, besides the directories of one search path.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};
use crate::host::Host;

/// The system's directories of programs (Filesystem Hierarchy Standard, 3.4, 3.16, 4.4, 4.10).
const SYSTEM: [&str; 8] =
    ["/usr/local/sbin", "/usr/local/bin", "/usr/local/games", "/usr/sbin", "/usr/bin", "/usr/games", "/sbin", "/bin"];

/// Directories in a home that hold a user's own programs.
const PERSONAL: [&str; 2] = ["bin", ".local/bin"];

/// Trees in which whole pieces of software lie that no distribution puts there.
const TREES: [&str; 2] = ["/usr/local", "/opt"];

/// The directories in which programs lie, whether or not a search path names them: the system's, those
/// of add-on software below `/opt`, users' own, and `more`. Only those that exist, each once.
#[must_use]
pub fn program_dirs(host: &Host, more: impl Iterator<Item = ByteString>) -> Vec<ByteString> {
    let mut dirs: Vec<ByteString> = SYSTEM.iter().map(|&dir| dir.into()).collect();
    if let Ok(names) = host.root.dir(b"/opt").and_then(|opt| opt.list()) {
        let below = names.iter().filter(|(_, kind)| *kind == Kind::Dir);
        dirs.extend(below.map(|(name, _)| path::join(&path::join(b"/opt", name), b"bin")));
    }
    for user in &host.users {
        dirs.extend(PERSONAL.iter().map(|dir| path::join(&user.home, dir.as_bytes())));
    }
    dirs.extend(more);
    only_existing(&host.root, dirs)
}

/// The trees in which software lies that was put there by hand.
#[must_use]
pub fn trees_of_programs(host: &Host) -> Vec<ByteString> {
    only_existing(&host.root, TREES.iter().map(|&tree| tree.into()).collect())
}

fn only_existing(root: &Root, dirs: Vec<ByteString>) -> Vec<ByteString> {
    let mut kept: Vec<ByteString> = Vec::new();
    for dir in dirs {
        let canonical = root.canonicalize_dir(&dir);
        if root.target(&canonical).is_ok_and(|meta| meta.kind == Kind::Dir) && !kept.contains(&canonical) {
            kept.push(canonical);
        }
    }
    kept
}
