//! Links and directories, as managers with small records look at them.

use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;

/// Where the link at a path leads by its own text, the directories of that canonical; `None` where there is no link.
pub fn link_target(host: &Host, link: &[u8]) -> Option<ByteString> {
    let text = host.root.read_link(link).ok()?;
    Some(host.root.canonicalize(&path::absolute(&text, path::parent(link))))
}

/// The links in a directory whose own text leads into a tree, each with where it leads.
pub fn links_into(host: &Host, dir: &ByteString, tree: &[u8]) -> Vec<(ByteString, ByteString)> {
    let names = host.root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(dir, &name));
    let led = links.filter_map(|link| link_target(host, &link).map(|target| (link, target)));
    led.filter(|(_, target)| path::within(target, tree)).collect()
}

/// The names of the directories, and of the links if these are wanted, that are not hidden.
pub fn dirs_in(host: &Host, dir: &[u8], links: bool) -> Vec<(ByteString, Kind)> {
    let names = host.root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
    let wanted = |(name, kind): &(ByteString, Kind)| {
        !name.starts_with(b".") && (*kind == Kind::Dir || (links && *kind == Kind::Link))
    };
    names.into_iter().filter(wanted).collect()
}

/// Whether a directory stands at this path, links followed.
pub fn is_dir(host: &Host, at: &[u8]) -> bool {
    host.root.target(at).is_ok_and(|meta| meta.kind == Kind::Dir)
}
