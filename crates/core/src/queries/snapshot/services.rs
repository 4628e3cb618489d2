//! Units of the service manager, whoever brought them, and jobs that are done at set times.

use hashbrown::HashSet;

use super::text;
use crate::backend::jobs::{self, own_units, system_units, user_units};
use crate::bytes::{ByteString, path};
use crate::history::ServiceRecord;
use crate::host::Host;
use crate::model::Scope;

/// Endings of units that start programs, by themselves or for others.
const ENDINGS: [&str; 4] = [".service", ".timer", ".socket", ".path"];

/// Every unit and job of the machine and its users, by name.
pub(super) fn of(host: &Host) -> Vec<ServiceRecord> {
    // What is below /run was made since the last boot, by programs that run.
    let lasting = |dirs: Vec<ByteString>| dirs.into_iter().filter(|dir| !dir.starts_with(b"/run/")).collect::<Vec<_>>();
    let mut found = units(host, &lasting(system_units()), "system");
    found.extend(units(host, &lasting(user_units()), "every user"));
    for user in &host.users {
        found.extend(units(host, &own_units(user), &Scope::User(user.name.clone()).to_data()));
    }
    for job in jobs::read(host).into_iter().filter(|job| !job.name.ends_with(b".timer")) {
        let (scope, file) = (job.scope.to_data(), text(&job.evidence.file));
        found.push(ServiceRecord { name: text(&job.name), scope, file, enabled: true, owner: None });
    }
    found.sort_by(|a, b| (&a.scope, &a.name).cmp(&(&b.scope, &b.name)));
    found.dedup_by(|a, b| (&a.scope, &a.name) == (&b.scope, &b.name));
    found
}

/// The units in some directories, the strongest first.
fn units(host: &Host, dirs: &[ByteString], scope: &str) -> Vec<ServiceRecord> {
    let mut wanted: HashSet<ByteString> = HashSet::new();
    let mut units: Vec<(ByteString, ByteString)> = Vec::new();
    for dir in dirs {
        let entries = host.root.names_in(dir);
        wanted.extend(jobs::enabling(&host.root, dir, &entries).into_iter().map(|(name, ..)| name));
        let names = entries.into_iter().map(|(name, _)| name);
        let named = names.filter(|name| ENDINGS.iter().any(|ending| name.ends_with(ending.as_bytes())));
        units.extend(named.map(|name| (name.clone(), path::join(dir, &name))));
    }
    let mut seen: HashSet<ByteString> = HashSet::new();
    units.retain(|(name, _)| seen.insert(name.clone()));
    let record = |(name, file): (ByteString, ByteString)| ServiceRecord {
        enabled: wanted.contains(&name),
        name: text(&name),
        scope: scope.to_owned(),
        file: text(&file),
        owner: None,
    };
    units.into_iter().map(record).collect()
}
