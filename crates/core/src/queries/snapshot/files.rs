//! Settings of the machine, and start-up files of its users, each with a digest.

use super::text;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, WalkLimits};
use crate::history::FileRecord;
use crate::host::Host;

/// Where settings are.
const SETTINGS: &[u8] = b"/etc";
/// Far more than any machine has.
const LIMITS: WalkLimits = WalkLimits { depth: 16, entries: 200_000 };
/// A larger file is no file of settings.
const MAX_SIZE: u64 = 8 << 20;
/// What programs rewrite as they run, and passwords; of a directory everything in it.
const NOT_TOLD: [&str; 22] = [
    "/etc/ld.so.cache",
    "/etc/mtab",
    "/etc/adjtime",
    "/etc/resolv.conf",
    "/etc/machine-id",
    "/etc/.updated",
    "/etc/.pwd.lock",
    "/etc/shadow",
    "/etc/shadow-",
    "/etc/gshadow",
    "/etc/gshadow-",
    "/etc/passwd-",
    "/etc/group-",
    "/etc/blkid.tab",
    "/etc/fake-hwclock.data",
    "/etc/cups/subscriptions.conf",
    "/etc/cups/subscriptions.conf.O",
    "/etc/lvm/archive",
    "/etc/lvm/backup",
    "/etc/lvm/cache",
    "/etc/.git",
    "/etc/.etckeeper",
];
/// Files in a home that shells and sessions read as they start.
const START_UP: [&str; 22] = [
    ".profile",
    ".bash_profile",
    ".bash_login",
    ".bashrc",
    ".bash_logout",
    ".bash_aliases",
    ".zshenv",
    ".zprofile",
    ".zshrc",
    ".zlogin",
    ".pam_environment",
    ".xprofile",
    ".xsessionrc",
    ".xinitrc",
    ".config/fish/config.fish",
    ".config/plasma-workspace/env",
    ".config/mimeapps.list",
    ".config/user-dirs.dirs",
    ".npmrc",
    ".config/pip/pip.conf",
    ".cargo/config.toml",
    ".tool-versions",
];
/// Directories in a home whose files are all read.
const START_UP_DIRS: [&str; 4] =
    [".config/fish/conf.d", ".config/fish/functions", ".config/environment.d", ".config/autostart"];

/// The files, by path.
pub(super) fn of(host: &Host) -> Vec<FileRecord> {
    let mut files: Vec<(ByteString, Kind)> = Vec::new();
    host.root.walk_quietly(SETTINGS, LIMITS, &mut |found| {
        let is_told = !NOT_TOLD.iter().any(|file| file.as_bytes() == &**found.path);
        if is_told && matches!(found.kind, Kind::File | Kind::Link) {
            files.push((found.path.clone(), found.kind));
        }
        is_told
    });
    for user in &host.users {
        files.extend(START_UP.map(|name| (path::join(&user.home, name.as_bytes()), Kind::File)));
        for dir in START_UP_DIRS.map(|dir| path::join(&user.home, dir.as_bytes())) {
            let names = host.root.names_in(&dir);
            let usual = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
            files.extend(usual.map(|(name, _)| (path::join(&dir, &name), Kind::File)));
        }
    }
    files.sort_by(|a, b| a.0.cmp(&b.0));
    files.dedup_by(|a, b| a.0 == b.0);
    // A file of which nothing but its name is known stays without content.
    let is_told = |(file, kind): &(ByteString, Kind)| match host.root.target(file) {
        _ if *kind == Kind::Link => true,
        Ok(meta) => meta.kind == Kind::File && meta.size <= MAX_SIZE,
        Err(error) => !error.is_missing(),
    };
    files.retain(is_told);
    let plain = files.iter().filter(|(_, kind)| *kind != Kind::Link).map(|(file, _)| file);
    let mut digests = crate::digests::sha256_of(&host.root, plain).into_iter();
    let record = |(file, kind): &(ByteString, Kind)| {
        let content = match kind {
            Kind::Link => host.root.read_link(file).ok().map(|target| format!("→ {}", target.to_data())),
            _ => digests.next().flatten(),
        };
        FileRecord { path: text(file), content, owner: None }
    };
    files.iter().map(record).collect()
}
