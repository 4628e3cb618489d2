//! The users of a machine: whose homes count.

use hashbrown::HashSet;

use super::{PASSWD, UnknownUser, User, UserSelection};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use whodunit_formats::accounts;
use whodunit_formats::plist::Value;

/// The lowest user number of a user, where the system does not say otherwise (`login.defs(5)`).
const FIRST_USER: u32 = 1000;
/// Where macOS has homes.
const MAC_HOMES: &[u8] = b"/Users";
/// Where it has accounts, each in a property list that only root may read.
const MAC_ACCOUNTS: &[u8] = b"/private/var/db/dslocal/nodes/Default/users";

/// The shell of an account of macOS; its default where the account cannot be read.
fn mac_shell(root: &Root, name: &[u8]) -> ByteString {
    let file = path::join(MAC_ACCOUNTS, &[name, b".plist"].concat());
    let account = root.read(&file, Limit::SMALL).ok().and_then(|content| Value::parse(&content).ok());
    let shell = account.as_ref().and_then(|account| account.get("shell")?.items().next()?.text());
    shell.filter(|shell| shell.starts_with('/')).unwrap_or("/bin/zsh").into()
}

/// The users of macOS, by their homes.
fn mac_users(root: &Root) -> Vec<User> {
    let names = root.names_in(MAC_HOMES);
    let homes =
        names.into_iter().filter(|(name, kind)| *kind == Kind::Dir && **name != *b"Shared" && !name.starts_with(b"."));
    let user = |(name, _): (ByteString, Kind)| {
        let home = path::join(MAC_HOMES, &name);
        let meta = root.target(&home).ok()?;
        let shell = mac_shell(root, &name);
        Some(User { name, uid: meta.owner.max(1), group: meta.group, home, shell })
    };
    homes.filter_map(user).collect()
}

/// The most users whose homes are looked at. A file that names more is not one of a workstation.
const MAX_USERS: usize = 5000;

/// The number of the account that owns nothing.
const NOBODY: u32 = 65534;

/// The users whom a selection means.
pub(super) fn find(root: &Root, wanted: &UserSelection) -> Result<Vec<User>, UnknownUser> {
    let read = root.read(PASSWD, Limit::RECORD);
    let file = read.as_deref().unwrap_or_default();
    let mut known: Vec<User> = Vec::new();
    let mut names: HashSet<ByteString> = HashSet::new();
    for account in accounts::accounts(file) {
        let user = User {
            name: account.name.into(),
            uid: account.uid,
            group: account.group,
            home: account.home.into(),
            shell: account.shell.into(),
        };
        if names.insert(user.name.clone()) {
            known.push(user);
        }
    }
    let has_homes = || {
        let homes = root.names_in(b"/home");
        homes.iter().any(|(_, kind)| *kind == Kind::Dir)
    };
    if known.is_empty() && (!file.is_empty() || has_homes()) {
        let reason = if read.is_err() { "cannot be read" } else { "names no account" };
        root.note_gap(PASSWD, format!("{reason}, so no user and no home is known"));
    }
    let last = file.rsplit(|&b| b == b'\n').next().unwrap_or_default();
    if !last.is_empty() && last.iter().filter(|&&b| b == b':').count() < 6 && !last.starts_with(b"+") {
        root.note_gap(PASSWD, "ends in the middle of an account: further users and their homes are unknown");
    }
    let mac = mac_users(root);
    let is_new = |user: &User| !known.iter().any(|other| other.name == user.name || other.home == user.home);
    let new: Vec<User> = mac.into_iter().filter(is_new).collect();
    known.extend(new.iter().cloned());
    match wanted {
        UserSelection::Current { uid, name, home, shell } => {
            let mine = known.iter().find(|user| user.uid == *uid).cloned();
            // Accounts of a directory service are in no file; the environment knows them.
            let mine = mine.or_else(|| {
                Some(User {
                    name: name.clone()?,
                    uid: *uid,
                    group: u32::MAX,
                    home: home.clone()?,
                    shell: shell.clone().unwrap_or_default(),
                })
            });
            Ok(mine.into_iter().collect())
        }
        UserSelection::Named(names) => names
            .iter()
            .map(|name| {
                let user = known.iter().find(|user| user.name == *name);
                user.cloned().ok_or_else(|| UnknownUser { name: name.clone() })
            })
            .collect(),
        UserSelection::All => {
            known.retain(|user| {
                let is_user = user.uid == 0
                    || (user.uid >= FIRST_USER && user.uid != NOBODY)
                    || new.iter().any(|other| other.name == user.name);
                is_user && root.target(&user.home).is_ok_and(|meta| meta.kind == Kind::Dir)
            });
            if let Some(first) = known.get(MAX_USERS) {
                let reason = format!("{} and {} more users are left out", first.name, known.len() - MAX_USERS - 1);
                root.note_gap(PASSWD, reason);
                known.truncate(MAX_USERS);
            }
            Ok(known)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fmt::Write as _;

    /// A file of accounts with more users than any workstation has: the first ones count, and the rest is told.
    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn users_beyond_the_limit_are_a_loss() {
        let made = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(made.path().join("etc")).unwrap();
        std::fs::create_dir_all(made.path().join("home/crew")).unwrap();
        for (more, expected) in [(0, None), (3, Some("sailor5000 and 2 more users are left out"))] {
            let mut accounts = String::new();
            for number in 0..MAX_USERS + more {
                writeln!(accounts, "sailor{number}:x:{}:1000::/home/crew:/bin/sh", 1000 + number).unwrap();
            }
            std::fs::write(made.path().join("etc/passwd"), accounts).unwrap();
            let root = Root::offline(made.path()).unwrap();
            let users = find(&root, &UserSelection::All).unwrap();
            assert_eq!(users.len(), MAX_USERS);
            assert_eq!(*users.last().unwrap().name, *b"sailor4999");
            assert_eq!(root.gaps().first().map(|gap| &*gap.reason), expected);
        }
    }
}
