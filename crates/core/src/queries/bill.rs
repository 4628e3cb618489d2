//! Everything that is installed, with what needs what: for a bill of materials.

use std::collections::{BTreeMap, BTreeSet};

use hashbrown::HashMap;

use crate::backend::{Detail, Relations};
use crate::bytes::ByteString;
use crate::model::{Package, Status};
use crate::survey::Survey;

/// What is installed on a machine.
#[derive(Debug, Clone, Default)]
pub struct Bill {
    /// The packages, in the order of their ids; each id once.
    pub packages: Vec<Package>,
    /// The ids of packages that a package needs, by its id, as far as managers record that.
    pub needs: BTreeMap<ByteString, BTreeSet<ByteString>>,
}

/// Gathers it. What is removed but for its settings is not installed.
#[must_use]
pub fn bill(survey: &Survey<'_>) -> Bill {
    let titled = survey.titled_in(Detail::FULL);
    let mut packages: Vec<Package> = titled.packages;
    let numbered = titled.keys.into_iter().zip(&packages);
    let installed = numbered.filter(|(_, package)| package.status != Status::ConfigRemains);
    let ids: HashMap<(u16, u32), ByteString> = installed.map(|(key, package)| (key, package.id.clone())).collect();
    packages.retain(|package| package.status != Status::ConfigRemains);
    packages.sort_by(|a, b| (&a.id, &a.version).cmp(&(&b.id, &b.version)));
    packages.dedup_by(|a, b| a.id == b.id);
    let mut needs: BTreeMap<ByteString, BTreeSet<ByteString>> = BTreeMap::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let Some(requirements) = held.relations().and_then(Relations::requirements) else { continue };
        for one in requirements.iter().filter(|one| !one.relation.is_optional()) {
            let id = |number: u32| ids.get(&(holder, number)).cloned();
            if let Some((package, needed)) = id(one.package).zip(id(one.needs)).filter(|(a, b)| a != b) {
                needs.entry(package).or_default().insert(needed);
            }
        }
    }
    Bill { packages, needs }
}
