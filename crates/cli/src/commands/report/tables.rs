//! What the report lists.

use std::collections::BTreeMap;

use whodunit_core::host::Host;
use whodunit_core::model::{Coverage, Package};
use whodunit_core::queries::inventory::Totals;
use whodunit_core::queries::paths::{COMMANDS, paths as paths_of};
use whodunit_core::queries::sources::Sources;
use whodunit_core::queries::space::Space;
use whodunit_core::queries::unowned::Unowned;
use whodunit_core::resolve::contexts::ResolvedContext;
use whodunit_core::survey::Survey;

use super::table::{Field, Table};
use crate::commands::launchers::of_views as launchers_of;
use crate::output;
use crate::session::Session;

/// The columns of the table of installations.
pub const MACHINE: [&str; 7] = ["manager", "scope", "location", "#packages", "#asked for", "#held", "#bytes"];
/// The columns of the table of packages.
pub const INVENTORY: [&str; 8] = ["name", "version", "manager", "scope", "reason", "origin", "installed", "#bytes"];

/// A row for each installation.
pub fn machine(totals: &Totals, space: &Space) -> Table {
    let mut bytes: BTreeMap<(String, String, String), Option<u64>> = BTreeMap::new();
    for part in space.titles.iter().flat_map(|title| &title.installations) {
        let key = (part.manager.to_string(), part.scope.to_data(), part.location.to_string());
        let known = bytes.entry(key).or_insert(Some(0));
        *known = known.zip(part.cost.own).map(|(sum, own)| sum + own);
    }
    let row = |one: &whodunit_core::queries::inventory::Total| {
        let key = (one.manager.to_string(), one.scope.to_data(), one.location.to_string());
        vec![
            Field::text(one.manager.to_string()),
            Field::text(one.scope.to_data()),
            Field::text(one.location.to_string()),
            Field::count(one.packages).to("inventory", one.manager.0),
            Field::count(one.explicit),
            Field::count(one.held),
            Field::bytes(bytes.get(&key).copied().flatten().or(one.size)),
        ]
    };
    Table::new("machine", "The machine", &MACHINE, totals.totals.iter().map(row).collect())
}

/// Every package.
pub fn inventory(packages: &[Package]) -> Table {
    let row = |one: &Package| {
        vec![
            Field::text(one.name.to_string()),
            Field::text(one.version.as_ref().map(ToString::to_string).unwrap_or_default()),
            Field::text(one.manager.to_string()),
            Field::text(one.scope.to_data()),
            Field::text(one.reason.word()),
            Field::text(one.origin.as_ref().map(|origin| origin.name.to_string()).unwrap_or_default()),
            Field::text(one.installed_at.map(output::date).unwrap_or_default()),
            Field::bytes(one.size),
        ]
    };
    Table::new("inventory", "Inventory", &INVENTORY, packages.iter().map(row).collect())
}

/// Every launcher.
pub fn launchers(session: &Session, survey: &Survey<'_>) -> Table {
    let rows = launchers_of(session, survey).launchers.into_iter().map(|one| {
        vec![
            Field::text(one.id.to_string()),
            Field::text(one.name.unwrap_or_default()),
            Field::yes(one.shown),
            Field::text(one.starts.path.map(|path| path.to_string()).unwrap_or_default()),
            Field::text(one.starts.owner.map(|owner| owner.id.to_string()).unwrap_or_default()),
            Field::text(output::names(&one.users)),
        ]
    });
    Table::new("launchers", "Launchers", &["id", "name", "shown", "starts", "owner", "users"], rows.collect())
}

/// The search path of each context.
pub fn paths(host: &Host, resolved: &[ResolvedContext]) -> Table {
    let mut rows = Vec::new();
    for context in paths_of(host, resolved, COMMANDS).contexts {
        let user = context.user.as_ref().map(ToString::to_string).unwrap_or_default();
        for (number, entry) in (1..).zip(&context.entries) {
            let because = entry.because.last().map(output::place).unwrap_or_default();
            let exists = match entry.exists {
                Some(true) => "yes",
                Some(false) => "no",
                None => "unknown",
            };
            rows.push(vec![
                Field::text(context.context.word()),
                Field::text(&user),
                Field::number(number),
                Field::text(entry.directory.to_string()),
                Field::text(exists),
                Field::text(because),
            ]);
        }
    }
    Table::new("paths", "Search paths", &["context", "user", "#place", "directory", "exists", "put there by"], rows)
}

/// Programs of nobody's.
pub fn unowned(unowned: &Unowned) -> Table {
    let rows = unowned.groups.iter().map(|group| {
        let files: Vec<String> = group.files.iter().map(|file| file.path.to_string()).collect();
        vec![
            Field::text(group.name.to_string()),
            Field::text(group.version_hint.as_ref().map(ToString::to_string).unwrap_or_default()),
            Field::text(&group.guess),
            Field::text(files.join(" ")),
        ]
    });
    Table::new("unowned", "Unowned programs", &["name", "version", "how it probably came", "files"], rows.collect())
}

/// Sources.
pub fn sources(sources: &Sources) -> Table {
    let rows = sources.sources.iter().map(|one| {
        let source = &one.source;
        vec![
            Field::text(source.manager.to_string()),
            Field::text(source.name.to_string()),
            Field::text(source.url.as_ref().map(ToString::to_string).unwrap_or_default()),
            Field::yes(source.enabled),
            Field::text(source.signed.state.word()),
            Field::text(source.refreshed_at.map(output::date).unwrap_or_default()),
            one.installed.map(Field::count).unwrap_or_default(),
        ]
    });
    let columns = ["manager", "name", "address", "enabled", "signed", "refreshed", "#installed"];
    Table::new("sources", "Sources", &columns, rows.collect())
}

/// What was read, and what could not be.
pub fn coverage(coverage: &[Coverage]) -> Table {
    let rows = coverage.iter().map(|one| {
        vec![
            Field::text(one.manager.map_or_else(|| "not examined".to_owned(), |manager| manager.to_string())),
            Field::text(one.scope.to_data()),
            Field::text(one.location.to_string()),
            Field::text(one.state.word()),
            Field::text(one.notes.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")),
        ]
    });
    Table::new("coverage", "What was read", &["manager", "scope", "location", "state", "lost"], rows.collect())
}
