//! Prefixes that are in none of the usual places: a search path names them.

use crate::backend::simple::is_dir;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};

/// Start-up files of the machine in which a prefix is put on the search path; a directory stands for its files.
const STARTUP: [&str; 12] = [
    "/etc/environment",
    "/etc/environment.d",
    "/etc/profile",
    "/etc/profile.d",
    "/etc/bash.bashrc",
    "/etc/zshenv",
    "/etc/zprofile",
    "/etc/zsh/zshenv",
    "/etc/zsh/zprofile",
    "/etc/fish/conf.d",
    "/etc/paths",
    "/etc/paths.d",
];

/// The same below a home.
const OWN_STARTUP: [&str; 12] = [
    ".pam_environment",
    ".config/environment.d",
    ".profile",
    ".bash_profile",
    ".bash_login",
    ".bashrc",
    ".zprofile",
    ".zshenv",
    ".zshrc",
    ".zlogin",
    ".config/fish/config.fish",
    ".config/fish/conf.d",
];

/// Prefixes that a start-up file of the machine names.
pub(super) fn of_machine(host: &Host) -> Vec<ByteString> {
    named(texts(host, STARTUP.iter().map(|file| ByteString::from(*file))), None)
}

/// Prefixes that this process's search path or a start-up file of the user's names.
pub(super) fn of_user(host: &Host, user: &User) -> Vec<ByteString> {
    let searched = host.env.path.clone().filter(|_| host.asks(user)).unwrap_or_default();
    let own = OWN_STARTUP.iter().map(|name| path::join(&user.home, name.as_bytes()));
    named(std::iter::once(searched.to_vec()).chain(texts(host, own)), Some(&user.home))
}

/// The contents of these files; of a directory, of the files in it.
fn texts(host: &Host, files: impl Iterator<Item = ByteString>) -> impl Iterator<Item = Vec<u8>> {
    let files = files.flat_map(|file| match is_dir(host, &file) {
        true => {
            let names = host.root.names_in(&file);
            names.into_iter().map(|(name, _)| path::join(&file, &name)).collect()
        }
        false => vec![file],
    });
    files.filter_map(|file| host.root.read(&file, Limit::SMALL).ok())
}

/// The prefixes that texts name: `PREFIX/bin`. What has no `Cellar` beside its `bin` is none, so that nothing hangs on
/// how the file uses the path.
fn named(texts: impl Iterator<Item = Vec<u8>>, home: Option<&ByteString>) -> Vec<ByteString> {
    let mut found: Vec<ByteString> = Vec::new();
    for text in texts {
        for at in memchr::memmem::find_iter(&text, b"/bin") {
            let is_path = |byte: &u8| byte.is_ascii_alphanumeric() || b"/._-~${}".contains(byte);
            let start = text[..at].iter().rposition(|byte| !is_path(byte)).map_or(0, |at| at + 1);
            let spelled = &text[start..at];
            let below_home = [&b"~"[..], b"$HOME", b"${HOME}"].iter().find_map(|home| spelled.strip_prefix(*home));
            let place: ByteString = match (below_home, home) {
                (Some(rest), Some(home)) => [&**home, rest].concat().into(),
                _ => spelled.into(),
            };
            if place.starts_with(b"/") && !found.contains(&place) {
                found.push(place);
            }
        }
    }
    found
}
