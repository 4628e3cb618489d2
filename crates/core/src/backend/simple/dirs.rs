//! Links and directories, as managers with small records look at them.

use std::fmt::Display;

use crate::bytes::{ByteString, path};
use crate::fs::{FsError, Kind, Limit};
use crate::host::Host;
use crate::model::Loss;
use whodunit_formats::desktop_entry::DesktopEntry;

/// Where the link at a path leads by its own text, the directories of that canonical; `None` where there is no link.
pub fn link_target(host: &Host, link: &[u8]) -> Option<ByteString> {
    let text = host.root.read_link(link).ok()?;
    Some(host.root.canonicalize(&path::absolute(&text, path::parent(link))))
}

/// The links in a directory whose own text leads into a tree, each with where it leads.
pub fn links_into(host: &Host, dir: &ByteString, tree: &[u8]) -> Vec<(ByteString, ByteString)> {
    let names = host.root.names_in(dir);
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(dir, &name));
    let led = links.filter_map(|link| link_target(host, &link).map(|target| (link, target)));
    led.filter(|(_, target)| path::within(target, tree)).collect()
}

/// The names of the directories, and of the links if these are wanted, that are not hidden.
pub fn dirs_in(host: &Host, dir: &[u8], links: bool) -> Vec<(ByteString, Kind)> {
    let names = host.root.names_in(dir);
    let wanted = |(name, kind): &(ByteString, Kind)| {
        !name.starts_with(b".") && (*kind == Kind::Dir || (links && *kind == Kind::Link))
    };
    names.into_iter().filter(wanted).collect()
}

/// Whether a directory stands at this path, links followed.
pub fn is_dir(host: &Host, at: &[u8]) -> bool {
    host.root.target(at).is_ok_and(|meta| meta.kind == Kind::Dir)
}

/// What a reader makes of a file's content; where it can make nothing, or the file cannot be read, that is said in words,
/// with the file.
///
/// # Errors
/// As it says.
pub fn parsed<T, E: Display>(
    host: &Host,
    file: &ByteString,
    limit: Limit,
    reader: impl FnOnce(&[u8]) -> Result<T, E>,
) -> Result<T, String> {
    let content = host.root.read(file, limit).map_err(|error| error.to_string())?;
    reader(&content).map_err(|what| format!("{file}: {what}"))
}

/// The longest script that a manager writes to start a program, in bytes.
pub const MAX_SCRIPT: u64 = 64 << 10;

/// A file that is small enough to be such a script.
pub struct Script {
    /// Where it is.
    pub path: ByteString,
    /// When it was changed: seconds since 1970.
    pub modified: i64,
    /// What stands in it.
    pub content: Result<Vec<u8>, FsError>,
}

impl Script {
    /// What stands in it; where it could not be read, that is noted, for what it starts is unknown then.
    pub fn take_content(&mut self, notes: &mut Vec<Loss>) -> Option<Vec<u8>> {
        let content = std::mem::replace(&mut self.content, Ok(Vec::new()));
        let lost = |error| notes.push(Loss::unread(&error, format!("what {} starts is unknown", self.path)));
        content.map_err(lost).ok()
    }
}

/// The launchers in a directory, each with where it is; one that cannot be read is noted, and one that leads nowhere, or
/// is none, left out.
pub fn launchers_in(host: &Host, dir: &ByteString, notes: &mut Vec<Loss>) -> Vec<(ByteString, DesktopEntry)> {
    let names = host.root.names_in(dir);
    let named = names.into_iter().filter(|(name, kind)| *kind != Kind::Dir && name.ends_with(b".desktop"));
    let read = named.filter_map(|(name, _)| {
        let file = path::join(dir, &name);
        match host.root.read(&file, Limit::SMALL) {
            Ok(content) => Some((file, DesktopEntry::parse(&content).ok()?)),
            Err(error) if error.is_missing() => None,
            Err(error) => {
                notes.push(Loss::unread(&error, "what a launcher starts is unknown"));
                None
            }
        }
    });
    read.collect()
}

/// The regular files in a directory that may be scripts by which a manager starts programs.
///
/// # Errors
/// When the directory cannot be read.
pub fn scripts_in(host: &Host, dir: &ByteString) -> Result<Vec<Script>, FsError> {
    let names = host.root.dir(dir)?.list()?;
    let files = names.into_iter().filter(|(_, kind)| *kind == Kind::File).map(|(name, _)| path::join(dir, &name));
    let read = files.filter_map(|path| {
        let meta = host.root.entry(&path).ok().filter(|meta| meta.size <= MAX_SCRIPT)?;
        let content = host.root.read(&path, Limit::bytes(MAX_SCRIPT));
        Some(Script { path, modified: meta.modified, content })
    });
    Ok(read.collect())
}
