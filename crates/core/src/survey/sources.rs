//! The sources of all managers, as they are configured.

use hashbrown::HashSet;
use rayon::prelude::*;

use super::Survey;
use crate::backend::Catalogue;
use crate::backend::index_settings::without_credentials;
use crate::managers;
use crate::model::{Loss, ManagerId, Source};

/// Every source, and what could not be read of settings that belong to no installation.
#[derive(Debug)]
pub(super) struct Sources {
    pub(super) all: Vec<Source>,
    pub(super) lost: Vec<(ManagerId, Loss)>,
}

/// Reads them: by manager, and in the order in which they are configured.
pub(super) fn configured(survey: &Survey<'_>) -> Sources {
    let mut all: Vec<Source> = survey
        .installations()
        .par_iter()
        .flat_map_iter(|held| held.catalogue().map_or_else(Vec::new, Catalogue::sources))
        .collect();
    let mut lost = Vec::new();
    for manager in managers::ALL {
        let mut notes = Vec::new();
        all.extend(manager.indexes(survey.host, &mut notes));
        lost.extend(notes.into_iter().map(|note| (manager.id(), note)));
    }
    for source in &mut all {
        source.url = source.url.take().map(|url| without_credentials(&url));
    }
    // Several installations of a manager can have their sources from one file.
    let mut seen = HashSet::new();
    all.retain(|source| {
        let place = source.evidence.first().map(|at| (at.file.clone(), at.at.to_string()));
        seen.insert((source.manager, source.scope.to_string(), source.name.clone(), place))
    });
    let order = |id: ManagerId| managers::ALL.iter().position(|manager| manager.id() == id);
    all.sort_by_key(|source| order(source.manager));
    Sources { all, lost }
}
