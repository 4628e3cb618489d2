//! Units of the service manager, whoever brought them, and jobs that are done at set times.

use hashbrown::HashSet;

use super::text;
use crate::backend::jobs::{self, SYSTEM_UNITS, USER_UNITS, own_units};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::history::ServiceRecord;
use crate::host::Host;
use crate::model::Scope;

/// Endings of units that start programs, by themselves or for others.
const ENDINGS: [&str; 4] = [".service", ".timer", ".socket", ".path"];

/// Every unit and job of the machine and its users, by name.
pub(super) fn of(host: &Host) -> Vec<ServiceRecord> {
    let owned = |dirs: &[&str]| dirs.iter().map(|dir| ByteString::from(*dir)).collect::<Vec<_>>();
    // What is below /run was made since the last boot, by programs that run.
    let lasting = |dirs: Vec<ByteString>| dirs.into_iter().filter(|dir| !dir.starts_with(b"/run/")).collect::<Vec<_>>();
    let mut found = units(host, &lasting(owned(&SYSTEM_UNITS)), "system");
    found.extend(units(host, &lasting(owned(&USER_UNITS)), "every user"));
    for user in &host.users {
        found.extend(units(host, &own_units(user), &Scope::User(user.name.clone()).to_data()));
    }
    for job in jobs::read(host).into_iter().filter(|job| !job.name.ends_with(b".timer")) {
        let (scope, file) = (job.scope.to_data(), text(&job.evidence.file));
        found.push(ServiceRecord { name: text(&job.name), scope, file, enabled: true });
    }
    found.sort_by(|a, b| (&a.scope, &a.name).cmp(&(&b.scope, &b.name)));
    found.dedup_by(|a, b| (&a.scope, &a.name) == (&b.scope, &b.name));
    found
}

/// The units in some directories, the strongest first.
fn units(host: &Host, dirs: &[ByteString], scope: &str) -> Vec<ServiceRecord> {
    let list = |dir: &ByteString| host.root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
    let mut wanted: HashSet<ByteString> = HashSet::new();
    let mut units: Vec<(ByteString, ByteString)> = Vec::new();
    for dir in dirs {
        for (name, kind) in list(dir) {
            let file = path::join(dir, &name);
            let is_wants = name.ends_with(b".wants") || name.ends_with(b".requires");
            if is_wants && kind != Kind::File {
                wanted.extend(list(&file).into_iter().map(|(name, _)| name));
            } else if ENDINGS.iter().any(|ending| name.ends_with(ending.as_bytes())) {
                units.push((name, file));
            }
        }
    }
    let mut seen: HashSet<ByteString> = HashSet::new();
    units.retain(|(name, _)| seen.insert(name.clone()));
    let record = |(name, file): (ByteString, ByteString)| ServiceRecord {
        enabled: wanted.contains(&name),
        name: text(&name),
        scope: scope.to_owned(),
        file: text(&file),
    };
    units.into_iter().map(record).collect()
}
