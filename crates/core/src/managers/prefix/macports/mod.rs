//! MacPorts.
//!
//! Follows the MacPorts Guide ("MacPorts Internals") and the schema of `registry.db`, an SQLite database below the
//! prefix, usually `/opt/local`: `ports`, and `files` with the port of each.
//!
//! Traps: the column of versions is ordered by a rule that MacPorts alone has, so rows are never ordered or looked up
//! by it; a port can be there and not active: its files are in an archive.

mod index;

use rusqlite::Connection;

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation};
use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall, sqlite};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{
    CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Naming, Profile, Reason, RemedyKind,
    Scope,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("macports");
const PREFIXES: [&[u8]; 1] = [b"/opt/local"];

/// The manager.
#[derive(Debug)]
pub struct MacPorts;

/// The registry's file.
struct Registry(ByteString);

impl Manager for MacPorts {
    fn id(&self) -> ManagerId {
        ID
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("port", "port -N")]
    }

    fn profile(&self) -> Profile {
        let plain = Profile::of(ManagerKind::Prefix);
        Profile { naming: Naming { has_language_prefix: true, ..plain.naming }, ..plain }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("port", &["upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("sources that MacPorts downloaded", "/opt/local/var/macports/distfiles")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let found = PREFIXES.iter().filter_map(|prefix| {
            let prefix = host.root.canonicalize_dir(prefix);
            let file = path::join(&prefix, b"var/macports/registry/registry.db");
            host.root
                .has_record(&file)
                .then(|| SimpleInstallation::boxed(host, ID, Scope::System, prefix, Registry(file)))
        });
        found.collect()
    }
}

impl Registry {
    fn ports(&self, connection: &Connection) -> rusqlite::Result<Vec<InstalledPackage>> {
        let columns = "id, name, version, revision, epoch, variants, state, requested, date";
        let mut query = connection.prepare(&format!("SELECT {columns} FROM ports ORDER BY id"))?;
        let rows = query.query_map([], |row| {
            let text = |at| row.get::<_, Option<String>>(at).map(Option::unwrap_or_default);
            // Numbers are sometimes kept as text.
            let number = |at| {
                row.get_ref(at).map(|value| match value {
                    rusqlite::types::ValueRef::Text(text) => String::from_utf8_lossy(text).parse().unwrap_or(0),
                    other => other.as_i64().unwrap_or(0),
                })
            };
            let (id, name, version, variants) = (number(0)?, text(1)?, text(2)?, text(5)?);
            let epoch = number(4)?;
            let full = format!("{version}_{}{variants}", number(3)?);
            let mut item = InstalledPackage::kept("port", name.as_str(), full.as_str());
            item.active = text(6)? == "installed";
            item.reason = if number(7)? == 1 { Reason::Explicit } else { Reason::Dependency };
            item.installed_at = Some(number(8)?).filter(|seconds| *seconds > 0);
            item.entry = id.to_string().into();
            item.evidence.push(Evidence::at(self.0.clone(), format!("ports, row {id}"), format!("{name} @{full}")));
            if epoch != 0 {
                // It orders versions, and is no part of what upstream calls this one.
                item.evidence.push(Evidence::at(self.0.clone(), format!("ports, row {id}"), format!("epoch {epoch}")));
            }
            let of_it = |verb: &str| CommandLine::new("port").words(verb).operand(name.as_str());
            let remove = of_it("uninstall").arg(format!("@{version}_{}{variants}", number(3)?));
            Ok(item.remedy(RemedyKind::Remove, remove).remedy(RemedyKind::Upgrade, of_it("upgrade")))
        })?;
        rows.collect()
    }
}

impl SimpleBackend for Registry {
    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        let ports = sqlite::open(&host.root, &self.0)
            .and_then(|connection| self.ports(&connection).map_err(|error| format!("{}: {error}", self.0)));
        match ports {
            Ok(items) => record.items = items,
            Err(problem) => record.notes.push(Loss::because(problem, "the ports of MacPorts are unknown")),
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Macports
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        ["bin", "sbin"].map(|name| path::join(&at.dir, name.as_bytes())).to_vec()
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }
}

impl FileLists for Registry {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let read = sqlite::open(&host.root, &self.0).and_then(|connection| {
            let mut rows = || -> rusqlite::Result<()> {
                let mut query = connection.prepare("SELECT id, actual_path, rowid FROM files WHERE active = 1")?;
                let mut rows = query.query([])?;
                while let Some(row) = rows.next()? {
                    let (id, file, line): (i64, Option<String>, u32) = (row.get(0)?, row.get(1)?, row.get(2)?);
                    let Some(file) = file.filter(|file| wanted.has(path::name(file.as_bytes()))) else { continue };
                    let id = id.to_string();
                    let number = items.iter().position(|item| *item.entry == *id.as_bytes());
                    if let Some(number) = number.and_then(|number| u32::try_from(number).ok()) {
                        take(number, file.as_bytes(), line);
                    }
                }
                Ok(())
            };
            rows().map_err(|error| format!("{}: {error}", self.0))
        });
        if let Err(problem) = read {
            notes.push(Loss::because(problem, "files of ports are unknown"));
        }
    }

    fn file(&self, _: &InstalledPackage) -> ByteString {
        self.0.clone()
    }
}
