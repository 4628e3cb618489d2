//! Which revisions there are: by the state, where it may be read, else by the directories that revisions are mounted
//! at.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{MOUNTS, SNAPD};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;

/// One snap, under its instance name.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FileRecord {
    pub instance: ByteString,
    /// Revisions, oldest first, each with the id that the store knows the snap by.
    pub revisions: Vec<(ByteString, Option<String>)>,
    pub current: Option<ByteString>,
    /// Whether it is switched on.
    pub active: bool,
    pub channel: Option<ByteString>,
    pub kind: Option<String>,
    /// `classic`, `devmode`, `jailmode`, `try`.
    pub flags: Vec<&'static str>,
    /// Alias, and whether a user made it.
    pub aliases: Vec<(String, bool)>,
}

/// Content of one snap that another one uses: a connection between a plug and a slot (snapd documentation, "The content
/// interface").
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Connection {
    pub consumer: ByteString,
    pub plug: String,
    pub provider: ByteString,
}

/// What is recorded of all snaps.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Recorded {
    pub snaps: Vec<FileRecord>,
    /// The connections over which content is shared.
    pub connections: Vec<Connection>,
    /// Whether it is the state itself that says so.
    pub by_state: bool,
}

#[derive(Deserialize)]
struct File {
    data: Data,
}

#[derive(Deserialize)]
struct Data {
    #[serde(default)]
    snaps: BTreeMap<String, Snap>,
    #[serde(default)]
    conns: BTreeMap<String, Conn>,
}

#[derive(Deserialize)]
struct Conn {
    interface: Option<String>,
    /// Disconnected by hand.
    #[serde(default)]
    undesired: bool,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Snap {
    #[serde(rename = "type")]
    kind: Option<String>,
    #[serde(default)]
    sequence: Vec<Sequence>,
    #[serde(default)]
    active: bool,
    current: Option<String>,
    channel: Option<String>,
    #[serde(default)]
    classic: bool,
    #[serde(default)]
    devmode: bool,
    #[serde(default)]
    jailmode: bool,
    #[serde(default)]
    try_mode: bool,
    #[serde(default)]
    aliases: BTreeMap<String, BTreeMap<String, String>>,
}

/// Newer releases put a revision one level deeper, beside its components.
#[derive(Deserialize)]
#[serde(untagged)]
enum Sequence {
    Deeper { snap: Side },
    Plain(Side),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Side {
    revision: String,
    snap_id: Option<String>,
}

/// What the state says; without it, what is mounted.
pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Recorded {
    let file = path::join(SNAPD, b"state.json");
    let problem = match root.read(&file, Limit::LIST) {
        Ok(content) => match parse(&content) {
            Ok(recorded) => return recorded,
            Err(error) => format!("{file}: {error}"),
        },
        Err(error) if error.is_missing() => return from_mounts(root),
        Err(error) => error.to_string(),
    };
    notes.push(Loss::because(
        problem,
        "channels, flags and who made aliases are unknown; revisions are those that are mounted",
    ));
    from_mounts(root)
}

/// `chartdesk:tide-data tide-data:tables` → consumer, plug and provider.
fn connection(key: &str) -> Option<Connection> {
    let (plug, slot) = key.split_once(' ')?;
    let ((consumer, plug), (provider, _)) = (plug.split_once(':')?, slot.split_once(':')?);
    Some(Connection { consumer: consumer.into(), plug: plug.to_owned(), provider: provider.into() })
}

fn parse(content: &[u8]) -> Result<Recorded, serde_json::Error> {
    let file: File = serde_json::from_slice(content)?;
    let shared = file.data.conns.iter();
    let shared = shared.filter(|(_, conn)| conn.interface.as_deref() == Some("content") && !conn.undesired);
    let connections = shared.filter_map(|(key, _)| connection(key)).collect();
    let recorded = file.data.snaps.into_iter().map(|(instance, snap)| {
        let flags =
            [(snap.classic, "classic"), (snap.devmode, "devmode"), (snap.jailmode, "jailmode"), (snap.try_mode, "try")];
        FileRecord {
            instance: instance.into(),
            revisions: snap
                .sequence
                .into_iter()
                .map(|entry| match entry {
                    Sequence::Deeper { snap } | Sequence::Plain(snap) => (snap.revision.into(), snap.snap_id),
                })
                .collect(),
            current: snap.current.map(ByteString::from),
            active: snap.active,
            channel: snap.channel.map(ByteString::from),
            kind: snap.kind,
            flags: flags.into_iter().filter(|(set, _)| *set).map(|(_, name)| name).collect(),
            aliases: snap.aliases.into_iter().map(|(alias, how)| (alias, how.contains_key("manual"))).collect(),
        }
    });
    // A name becomes part of paths, so it must not lead elsewhere.
    let is_sound = |text: &[u8]| !text.is_empty() && !text.contains(&b'/') && !text.starts_with(b".");
    let sound =
        recorded.filter(|one| is_sound(&one.instance) && one.revisions.iter().all(|(revision, _)| is_sound(revision)));
    Ok(Recorded { snaps: sound.collect(), connections, by_state: true })
}

fn from_mounts(root: &Root) -> Recorded {
    let list = |dir: &[u8]| root.names_in(dir);
    let snaps = list(MOUNTS).into_iter().filter(|(name, kind)| *kind == Kind::Dir && **name != *b"bin");
    let recorded = snaps.map(|(instance, _)| {
        let place = path::join(MOUNTS, &instance);
        let revisions = list(&place).into_iter().filter(|(_, kind)| *kind == Kind::Dir).map(|(name, _)| (name, None));
        let current = root.read_link(&path::join(&place, b"current")).ok();
        FileRecord {
            revisions: revisions.collect(),
            active: current.is_some(),
            current,
            instance,
            ..FileRecord::default()
        }
    });
    Recorded { snaps: recorded.filter(|one| !one.revisions.is_empty()).collect(), ..Recorded::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_state_is_read_for_what_is_wanted_alone() {
        let text = br#"{"data": {"snap-cookies": {"secret": 1}, "snaps": {
            "skerry_lab": {"type": "app", "sequence": [{"name": "skerry", "revision": "41"}, {"snap": {"name": "skerry", "revision": "x2"}, "components": []}],
                "active": true, "current": "x2", "channel": "latest/beta", "classic": true, "aliases": {"sk": {"manual": "skerry"}, "s": {"auto": "skerry"}}},
            "off": {"sequence": [{"revision": "1", "snap-id": "id"}], "current": "1"},
            "../evil": {"sequence": [], "current": "1"}},
            "conns": {"skerry_lab:charts off:sheets": {"interface": "content"}, "off:a skerry_lab:b": {"interface": "content", "undesired": true},
                "off:net :network": {"interface": "network"}, "off": {"interface": "content"}}}}"#;
        let Recorded { snaps: read, connections, by_state } = parse(text).unwrap();
        let expected = Connection { consumer: "skerry_lab".into(), plug: "charts".to_owned(), provider: "off".into() };
        assert!(by_state && connections == [expected], "{connections:?}");
        assert_eq!(read.len(), 2, "{read:?}");
        let (off, lab) = (&read[0], &read[1]);
        assert!(!off.active && lab.active && lab.flags == ["classic"]);
        assert_eq!(lab.revisions, [("41".into(), None), ("x2".into(), None)]);
        assert_eq!(lab.aliases, [("s".to_owned(), false), ("sk".to_owned(), true)]);
        assert!(parse(b"{}").is_err() && parse(b"").is_err());
    }
}
