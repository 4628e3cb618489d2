//! What catalogues and settings tell of installed packages: who published them, whether they are signed, what they may
//! reach, who keeps them current. It takes more reading than the records themselves, and is only told where it is asked
//! for.

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::keeping::{Keeping, UpkeepMode};
use crate::bytes::ByteString;
use crate::model::{FindingKind, ManagerId, Offer, Package, Scope, SigningState};
use crate::survey::Survey;

/// What is told of one package beyond its manager's own record.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Facts {
    /// Who published it.
    pub publisher: Option<ByteString>,
    /// Whether its source vouches for it with a signature; `null` where that is not known.
    pub signed: Option<bool>,
    /// What it may reach, where it is confined.
    pub permissions: Vec<String>,
    /// Who keeps it current.
    pub upkeep: Option<UpkeepMode>,
}

/// The facts of each package, in the order of the packages.
pub(super) fn of(survey: &Survey<'_>, packages: &[Package]) -> Vec<Facts> {
    let mut offered: HashMap<(ManagerId, &Scope, &ByteString), &Offer> = HashMap::new();
    for offer in survey.offered().iter().flatten().filter(|offer| offer.installed) {
        let known = offered.entry((offer.manager, &offer.scope, &offer.name)).or_insert(offer);
        if known.publisher.is_none() && offer.publisher.is_some() {
            *known = offer;
        }
    }
    let unsigned: HashSet<&ByteString> = survey
        .diagnostics()
        .iter()
        .filter(|finding| matches!(finding.kind, FindingKind::UnsignedBundle | FindingKind::Sideloaded))
        .flat_map(|finding| &finding.packages)
        .collect();
    let sources = survey.sources();
    let keeping = Keeping::of_all(survey);
    let upkeep: HashMap<&ByteString, UpkeepMode> =
        keeping.all(packages).into_iter().map(|(package, kept)| (&package.id, kept.mode)).collect();
    let facts = |package: &Package| {
        let offer = offered.get(&(package.manager, &package.scope, &package.name));
        let of_publisher =
            package.origin.as_ref().filter(|origin| origin.kind == "publisher").map(|origin| &origin.name);
        // A bundle's update information is an address, and names nobody.
        let of_publisher = of_publisher.filter(|name| memchr::memmem::find(name, b"://").is_none());
        let source = package
            .origin
            .as_ref()
            .and_then(|origin| sources.iter().find(|source| source.manager == package.manager && source.gave(origin)));
        let of_source = source.and_then(|source| match source.signed.state {
            SigningState::Verified => Some(true),
            SigningState::Unverified => Some(false),
            SigningState::Unknown => None,
        });
        let signed = match unsigned.contains(&package.id) {
            true => Some(false),
            false => offer.and_then(|offer| offer.signed).or(of_source),
        };
        Facts {
            publisher: offer.and_then(|offer| offer.publisher.as_ref()).or(of_publisher).cloned(),
            signed,
            permissions: offer.map(|offer| offer.permissions.clone()).unwrap_or_default(),
            upkeep: upkeep.get(&package.id).copied(),
        }
    };
    packages.iter().map(facts).collect()
}
