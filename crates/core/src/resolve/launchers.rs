//! Where launchers are looked for: the *XDG Base Directory Specification* and the *Desktop Menu
//! Specification*.
//!
//! `applications/` of the user's own data directory, then of each directory in `XDG_DATA_DIRS`. A launcher's id
//! is its path below `applications/` with `-` for `/`; the first directory that has an id wins whole, and the
//! later files of that id are masked, even where the first is no usable launcher.

use crate::bytes::{ByteString, path};
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::Evidence;
use crate::resolve::contexts::{self, Context, Overrides};

/// One data directory that is searched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DataDir {
    /// The directory that holds `applications/`.
    pub dir: ByteString,
    /// Who says so.
    pub because: Evidence,
}

/// The data directories in order: those given; else this process's; else, in an offline tree, what a login
/// of the first ordinary user sets.
#[must_use]
pub fn data_dirs(host: &Host, given: Option<&[u8]>) -> Vec<DataDir> {
    data_dirs_of(host, given, None)
}

/// The data directories of a user's session. This process's own environment stands for the user who asks.
#[must_use]
pub fn data_dirs_of(host: &Host, given: Option<&[u8]>, user: Option<&User>) -> Vec<DataDir> {
    let user = user.or(host.default_user());
    let is_here = host.root.is_live() && user.is_none_or(|user| Some(user.uid) == host.env.uid);
    let mut found: Vec<DataDir> = Vec::new();
    let mut add = |dir: &[u8], because: Evidence| {
        // Empty and repeated items are harmless, relative ones are to be ignored.
        if dir.starts_with(b"/") {
            let dir = path::absolute(dir, b"/");
            if !found.iter().any(|known| known.dir == dir) {
                found.push(DataDir { dir, because });
            }
        }
    };
    if let Some(list) = given {
        for (number, dir) in (1..).zip(list.split(|&b| b == b':')) {
            add(dir, Evidence::entry("--data-dirs", number, ""));
        }
        return found;
    }
    let own = match (&host.env.data_home, user) {
        (Some(own), _) if is_here => Some((own.clone(), Evidence::at(ENVIRONMENT, "XDG_DATA_HOME", ""))),
        (_, Some(user)) => {
            let dir = path::join(&user.home, b".local/share");
            Some((dir, Evidence::at("XDG base directories", "default", "the user's own directory")))
        }
        _ => None,
    };
    if let Some((dir, because)) = &own {
        add(dir, because.clone());
    }
    match &host.env.data_dirs {
        Some(list) if is_here && !list.is_empty() => {
            for (number, dir) in (1..).zip(list.split(|&b| b == b':')) {
                add(dir, Evidence::at(ENVIRONMENT, format!("XDG_DATA_DIRS, entry {number}"), ""));
            }
        }
        // Of another user, and on another disk, what the desktop session has.
        _ if !is_here => {
            let user = user.cloned().unwrap_or_else(|| contexts::default_user(host));
            let (listed, _) =
                contexts::resolve_context(host, Context::Desktop, &user, &Overrides::default()).list("XDG_DATA_DIRS");
            let is_set = !listed.is_empty();
            for one in listed {
                add(&one.dir, Evidence { says: "adds it at login".to_owned(), ..one.because });
            }
            if !is_set {
                default_dirs(&mut add);
            }
        }
        _ => default_dirs(&mut add),
    }
    found
}

/// Those that the specification names.
fn default_dirs(add: &mut dyn FnMut(&[u8], Evidence)) {
    for dir in [&b"/usr/local/share"[..], b"/usr/share"] {
        add(dir, Evidence::at("XDG base directories", "default", "searched if XDG_DATA_DIRS is not set"));
    }
}
