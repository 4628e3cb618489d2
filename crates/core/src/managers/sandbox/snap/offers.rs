//! What the store offered when the daemon last asked for its names: `commands.db`, a Bolt database whose bucket `Snaps`
//! has each name with a version and a summary; where that is missing, `names`, which has names alone.
//!
//! Trap: neither says of which channel the version is; what a snap would be refreshed to is not known from it.

use serde::Deserialize;

use super::ID;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Loss, Offer, Origin, Scope};
use whodunit_formats::bolt;

const CACHE: &[u8] = b"/var/cache/snapd";

#[derive(Deserialize)]
struct Listed {
    #[serde(default)]
    version: String,
    #[serde(default)]
    summary: String,
}

/// What the store has of what is asked about, and what could not be read.
pub fn offers(host: &Host, is_asked: &dyn Fn(&[u8]) -> bool) -> (Vec<Offer>, Vec<Loss>) {
    let database = path::join(CACHE, b"commands.db");
    let (mut offers, mut notes) = (Vec::new(), Vec::new());
    let content = match host.root.read(&database, Limit::RECORD) {
        Ok(content) => content,
        Err(error) if error.is_missing() => {
            by_name(host, is_asked, &mut offers, &mut notes);
            return (offers, notes);
        }
        Err(error) => return (offers, vec![Loss::unread(&error, "what the store offers is unknown")]),
    };
    let dated = host.root.target(&database).ok().map(|meta| meta.modified);
    let read = bolt::each(&content, b"Snaps", &mut |name, value| {
        if !is_asked(name) {
            return;
        }
        match serde_json::from_slice::<Listed>(value) {
            Ok(listed) => {
                let says = Some(listed.summary).filter(|says| !says.is_empty()).map(ByteString::from);
                let version = Some(listed.version).filter(|version| !version.is_empty()).map(ByteString::from);
                offers.push(offer(name, version, says, dated, &database));
            }
            Err(error) => notes.push(Loss::note(format!("{database}: {}: {error}", ByteString::from(name)))),
        }
    });
    if let Err(problem) = read {
        notes.push(Loss::note(format!("{database}: {problem}: what follows is unknown")));
    }
    (offers, notes)
}

fn by_name(host: &Host, is_asked: &dyn Fn(&[u8]) -> bool, offers: &mut Vec<Offer>, notes: &mut Vec<Loss>) {
    let file = path::join(CACHE, b"names");
    match host.root.read(&file, Limit::RECORD) {
        Ok(content) => {
            let dated = host.root.target(&file).ok().map(|meta| meta.modified);
            let names = content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii);
            let asked = names.filter(|name| !name.is_empty() && is_asked(name));
            offers.extend(asked.map(|name| offer(name, None, None, dated, &file)));
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
    let store = Origin { name: "the store".into(), kind: "store".to_owned(), url: None, trust: None };
    let told = version.as_ref().map_or_else(|| "by name alone".to_owned(), |version| format!("version {version}"));
    Offer {
        version,
        source: Some(store),
        says,
        catalogued_at,
        evidence: vec![Evidence::at(file.clone(), format!("snap {}", ByteString::from(name)), told)],
        ..Offer::bare(ID, Scope::System, name.into(), ByteString::default(), None, false)
    }
}
