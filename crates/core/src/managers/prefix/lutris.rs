//! Games that Lutris installed, and the programs that it keeps to run them (its source, "lutris/database/schema.py").
//!
//! `~/.local/share/lutris/pga.db` (`XDG_DATA_HOME`) has a row for each game; `runners/NAME/VERSION/` beside it, or
//! `runners/NAME/`, has what runs them.
//!
//! Traps: a game that is only in the library is not installed; one of another store's (`runner` is `steam`) has no
//! directory here; a game can have been deleted by hand, its row stays.

use rusqlite::Connection;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager, sqlite};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("lutris");
const FILE: &[u8] = b"pga.db";
/// Those of which it keeps several versions side by side.
const VERSIONED: [&[u8]; 1] = [b"wine"];

/// The manager.
#[derive(Debug)]
pub struct Lutris;

struct Library {
    /// The user's home.
    home: ByteString,
}

impl Manager for Lutris {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = path::join(&host.user_dir(user, "XDG_DATA_HOME", ".local/share"), b"lutris");
            let home = host.root.canonicalize_dir(&user.home);
            host.root.entry(&path::join(&dir, FILE)).is_ok().then_some((dir, Library { home }))
        })
    }
}

impl Library {
    fn games(&self, host: &Host, file: &ByteString, database: &Connection) -> rusqlite::Result<Vec<InstalledPackage>> {
        let mut query = database.prepare(
            "SELECT id, name, slug, runner, directory, installed_at FROM games WHERE installed = 1 ORDER BY id",
        )?;
        let mut rows = query.query([])?;
        let mut found = Vec::new();
        while let Some(row) = rows.next()? {
            let text = |at: usize| row.get::<_, Option<String>>(at).map(|text| text.filter(|text| !text.is_empty()));
            let (id, slug): (i64, Option<String>) = (row.get(0)?, text(2)?);
            let name = text(1)?.or_else(|| slug.clone()).unwrap_or_else(|| id.to_string());
            let mut item = InstalledPackage::new("game", name.as_str());
            // One slug can be installed twice.
            item.tail = Some(format!("{}/{id}", slug.as_deref().unwrap_or(&name)).into());
            item.also.extend(slug.map(ByteString::from));
            item.channel = text(3)?.map(ByteString::from);
            let runner = item.channel.as_ref().map_or(String::new(), |runner| format!(", run by {runner}"));
            item.evidence.push(Evidence::at(file.clone(), format!("games row {id}"), format!("{name}{runner}")));
            if let Some(dir) = text(4)? {
                let tree = host.root.canonicalize_dir(dir.as_bytes());
                item.look_at(host, &tree);
                item.own_in_home(tree, &self.home);
            }
            item.installed_at = row.get::<_, Option<i64>>(5)?.filter(|date| *date > 0).or(item.installed_at);
            found.push(item);
        }
        Ok(found)
    }
}

/// What runs the games.
fn runners(host: &Host, at: &Location, record: &mut Record) {
    let dir = path::join(&at.dir, b"runners");
    for (name, _) in dirs_in(host, &dir, false) {
        let tree = path::join(&dir, &name);
        if !VERSIONED.contains(&&*name) {
            record.items.push(runner(host, InstalledPackage::new("runner", name), tree));
            continue;
        }
        for (version, _) in dirs_in(host, &tree, false) {
            let item = InstalledPackage::kept("runner", name.clone(), version.clone());
            record.items.push(runner(host, item, path::join(&tree, &version)));
        }
    }
}

fn runner(host: &Host, mut item: InstalledPackage, tree: ByteString) -> InstalledPackage {
    item.evidence.push(Evidence::directory(tree.clone(), item.with_version()));
    item.installed_at = host.root.modified(&tree);
    item.trees.push(tree);
    item
}

impl SimpleBackend for Library {
    // Which game needs which runner stands in files of settings, and is no dependency that it would heed.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, FILE);
        let read = sqlite::open(&host.root, &file)
            .and_then(|database| self.games(host, &file, &database).map_err(|error| format!("{file}: {error}")));
        match read {
            Ok(games) => record.items = games,
            Err(error) => record.notes.push(Loss::because(error, "the games are unknown")),
        }
        if is_dir(host, &path::join(&at.dir, b"runners")) {
            runners(host, at, &mut record);
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
