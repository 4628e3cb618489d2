//! Games that Legendary installed, by itself or below Heroic (documentation of Legendary).
//!
//! `~/.config/legendary/installed.json` (`XDG_CONFIG_HOME`, `LEGENDARY_CONFIG_PATH`), and below
//! `~/.config/heroic/legendaryConfig` the file that Heroic has it use: a map from the store's own names to title, version,
//! directory and size.
//!
//! Traps: a game can have been deleted by hand, its entry stays; what belongs to a game has an entry of its own with the
//! same directory.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, of, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("legendary");
const FILE: &[u8] = b"installed.json";

/// The manager.
#[derive(Debug)]
pub struct Legendary;

struct Games {
    /// The user's home.
    home: ByteString,
}

#[derive(Deserialize)]
struct Game {
    install_path: String,
    title: String,
    version: String,
    #[serde(default)]
    install_size: u64,
    #[serde(default)]
    is_dlc: bool,
    #[serde(default)]
    platform: Option<String>,
}

impl Manager for Legendary {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let of_user = |user| {
            let settings = host.user_dir(user, "XDG_CONFIG_HOME", ".config");
            let own =
                host.named_dir(user, "LEGENDARY_CONFIG_PATH").unwrap_or_else(|| path::join(&settings, b"legendary"));
            [own, path::join(&settings, b"heroic/legendaryConfig/legendary")].map(|dir| (of(user), dir))
        };
        let has_list = |dir: &ByteString| host.root.entry(&path::join(dir, FILE)).is_ok();
        let home_of = |dir: &ByteString| host.home_owner(dir).map(|user| host.root.canonicalize_dir(&user.home));
        at_each(host, ID, host.users.iter().flat_map(of_user), has_list, |dir| Games {
            home: home_of(dir).unwrap_or_else(|| dir.clone()),
        })
    }
}

impl SimpleBackend for Games {
    // What belongs to a game lies in its directory.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, FILE);
        let read =
            parsed(host, &file, Limit::LIST, |content| serde_json::from_slice::<BTreeMap<String, Game>>(content));
        let games = read.unwrap_or_else(|problem| {
            record.notes.push(Loss::because(problem, "the games are unknown"));
            BTreeMap::new()
        });
        for (id, game) in games {
            let tree = host.root.canonicalize_dir(game.install_path.as_bytes());
            let mut item = InstalledPackage::new("application", game.title.as_str());
            item.tail = Some(id.as_str().into());
            item.also.push(id.as_str().into());
            item.version = Some(game.version.into());
            item.arch = game.platform.map(ByteString::from);
            item.size = (game.install_size > 0).then_some(game.install_size);
            item.evidence.push(Evidence::at(file.clone(), &id, item.with_version()));
            item.look_at(host, &tree);
            if !game.is_dlc {
                item.own_in_home(tree, &self.home);
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        // A game can be kept anywhere in the home.
        vec![self.home.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}
