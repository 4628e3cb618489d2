//! The search path of macOS (`path_helper(8)`): what `/etc/paths` and the files of `/etc/paths.d` name, one directory a
//! line, and behind that what was there before.

use super::run::{Run, SMALL};
use crate::FileType;
use crate::Files;
use whodunit_formats::bytes::{ByteString, path, shell_word};

/// Whether the files are those of macOS.
pub(super) fn is_macos(run: &Run<'_>) -> bool {
    run.seen().metadata(b"/System/Library/CoreServices/SystemVersion.plist").is_some()
}

/// The list that a variable gets: what a file and those of a directory name, then what it had, each once.
fn list(run: &Run<'_>, variable: &[u8], places: &str) -> Vec<u8> {
    let dir = ByteString::from(format!("/etc/{places}.d"));
    let mut more: Vec<ByteString> = run.seen().list(&dir).into_iter().map(|(name, _)| name).collect();
    more.retain(|name| !name.starts_with(b"."));
    more.sort();
    let more = more.iter().map(|name| path::join(&dir, name));
    let more = more.filter(|file| run.seen().entry_type(file) != Some(FileType::Dir));
    let mut parts: Vec<Vec<u8>> = Vec::new();
    let mut add = |part: &[u8]| {
        if !part.is_empty() && !parts.iter().any(|other| other == part) {
            parts.push(part.to_vec());
        }
    };
    for file in std::iter::once(ByteString::from(format!("/etc/{places}"))).chain(more) {
        let content = run.seen().read(&file, SMALL).unwrap_or_default();
        content.split(|&b| b == b'\n').for_each(|line| add(line.trim_ascii()));
    }
    let old = run.state.get(variable).unwrap_or_default().to_vec();
    old.split(|&b| b == b':').for_each(add);
    parts.join(&b':')
}

/// What `path_helper -s` writes.
pub(super) fn commands(run: &Run<'_>) -> Vec<u8> {
    let mut text = format!("PATH={}; export PATH;\n", shell_word(&list(run, b"PATH", "paths")));
    // The other list only counts where there is one.
    if run.state.get(b"MANPATH").is_some() {
        text += &format!("MANPATH={}:; export MANPATH;\n", shell_word(&list(run, b"MANPATH", "manpaths")));
    }
    text.into_bytes()
}

/// The parts of the search path, as fish makes it for a login without that program.
pub(super) fn search_path(run: &Run<'_>) -> Vec<Vec<u8>> {
    list(run, b"PATH", "paths").split(|&b| b == b':').map(<[u8]>::to_vec).collect()
}
