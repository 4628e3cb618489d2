//! What the store offered when the daemon last asked for its names: `commands.db`, a Bolt database whose bucket `Snaps`
//! has each name with a version and a summary; where that is missing, `names`, which has names alone.
//!
//! Trap: neither says of which channel the version is; what a snap would be refreshed to is not known from it.

use hashbrown::HashMap;
use serde::Deserialize;

use super::ID;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Described, Evidence, Loss, Offer, Origin, Scope};
use whodunit_formats::bolt;

const CACHE: &[u8] = b"/var/cache/snapd";

#[derive(Deserialize)]
struct Listed {
    #[serde(default)]
    version: String,
    #[serde(default)]
    summary: String,
}

/// A snap that has a command.
#[derive(Deserialize)]
struct Provider {
    snap: String,
}

/// What the store has of what is asked about, and what could not be read.
pub fn offers(host: &Host, asked: &dyn Fn(&Described<'_>) -> bool) -> (Vec<Offer>, Vec<Loss>) {
    let database = path::join(CACHE, b"commands.db");
    let (mut offers, mut notes) = (Vec::new(), Vec::new());
    let content = match host.root.read(&database, Limit::RECORD) {
        Ok(content) => content,
        Err(error) if error.is_missing() => {
            by_name(host, asked, &mut offers, &mut notes);
            return (offers, notes);
        }
        Err(error) => return (offers, vec![Loss::unread(&error, "what the store offers is unknown")]),
    };
    let dated = host.root.target(&database).ok().map(|meta| meta.modified);
    // Each command with the snaps that have it, by which they are turned about.
    let mut commands: HashMap<Vec<u8>, Vec<ByteString>> = HashMap::new();
    let listed = bolt::each(&content, b"Commands", &mut |command, value| {
        for one in serde_json::from_slice::<Vec<Provider>>(value).unwrap_or_default() {
            commands.entry(one.snap.into_bytes()).or_default().push(command.into());
        }
    });
    if let Err(problem) = listed {
        notes.push(Loss::note(format!("{database}: {problem}: which commands snaps have is unknown in full")));
    }
    let read = bolt::each(&content, b"Snaps", &mut |name, value| match serde_json::from_slice::<Listed>(value) {
        Ok(listed) => {
            let entry = Described {
                name,
                summary: Some(listed.summary.as_bytes()),
                commands: commands.get(name).map_or(&[], |commands| commands),
                ..Described::default()
            };
            if !asked(&entry) {
                return;
            }
            let provides = entry.commands.to_vec();
            let says = ByteString::unless_empty(&listed.summary);
            let version = ByteString::unless_empty(&listed.version);
            offers.push(Offer { provides, ..offer(name, version, says, dated, &database) });
        }
        Err(error) => notes.push(Loss::note(format!("{database}: {}: {error}", ByteString::from(name)))),
    });
    if let Err(problem) = read {
        notes.push(Loss::note(format!("{database}: {problem}: what follows is unknown")));
    }
    (offers, notes)
}

/// The list of the store's names, if one was fetched.
pub fn file(host: &Host) -> Option<ByteString> {
    let files = ["commands.db", "names"].map(|name| path::join(CACHE, name.as_bytes()));
    files.into_iter().find(|file| host.root.target(file).is_ok())
}

fn by_name(host: &Host, asked: &dyn Fn(&Described<'_>) -> bool, offers: &mut Vec<Offer>, notes: &mut Vec<Loss>) {
    let file = path::join(CACHE, b"names");
    match host.root.read(&file, Limit::RECORD) {
        Ok(content) => {
            let dated = host.root.target(&file).ok().map(|meta| meta.modified);
            let names = content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii);
            let is_asked = |name: &[u8]| asked(&Described { name, ..Described::default() });
            let found = names.filter(|name| !name.is_empty() && is_asked(name));
            offers.extend(found.map(|name| offer(name, None, None, dated, &file)));
        }
        Err(error) if error.is_missing() => {}
        Err(error) => notes.push(Loss::unread(&error, "what the store offers is unknown")),
    }
}

fn offer(
    name: &[u8],
    version: Option<ByteString>,
    says: Option<ByteString>,
    catalogued_at: Option<i64>,
    file: &ByteString,
) -> Offer {
    let store = Origin::third_party("store", "the store", None);
    let told = version.as_ref().map_or_else(|| "by name alone".to_owned(), |version| format!("version {version}"));
    Offer {
        version,
        source: Some(store),
        // What the store sends is asserted; what is in it, anybody may publish.
        signed: Some(true),
        says,
        catalogued_at,
        evidence: vec![Evidence::at(file.clone(), format!("snap {}", ByteString::from(name)), told)],
        ..Offer::bare(ID, Scope::System, name.into(), ByteString::default(), None, false)
    }
}
