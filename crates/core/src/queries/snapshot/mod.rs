//! Takes a snapshot: everything about a machine that is compared later.

mod files;
mod services;
mod winners;

use hashbrown::HashMap;

use crate::backend::Detail;
use crate::bytes::ByteString;
use crate::fs::Root;
use crate::history::{
    LauncherRecord, NewestRecord, PackageRecord, PathRecord, SNAPSHOT_SCHEMA, Snapshot, SourceRecord, StateRecord,
    UnownedRecord, UserRecord,
};
use crate::host::System;
use crate::managers;
use crate::model::{Coverage, Launcher, ManagerId, Package, Scope, Source, State, rfc3339};
use crate::queries::launchers::{DesktopSession, Launchers, launchers};
use crate::queries::unowned::{Group, UnownedFile, unowned};
use crate::queries::{CheckContext, UserView, states::states, upkeep};
use crate::resolve::launchers::data_dirs_of;
use crate::resolve::{Context, SearchPath};
use crate::survey::Survey;
use crate::version::Scheme;

/// Unowned programs up to this size have their content recorded; a bundle of more is told by its size and time.
const MAX_CONTENT: u64 = 32 << 20;

/// Takes a snapshot at a time, in seconds since 1970. The contexts are those of all views.
#[must_use]
pub fn take(asking: &CheckContext<'_, '_>, taken_at: Option<i64>) -> Snapshot {
    let survey = asking.survey;
    let host = survey.host;
    // The packages come first: what everything else is owned by is then known.
    let packages = survey.packages(Detail { origins: true, dates: true, ..Detail::default() });
    let installations = survey.installations().iter();
    let schemes: HashMap<ManagerId, Scheme> =
        installations.map(|held| (held.location().manager, held.scheme())).collect();
    let searches: Vec<&SearchPath> = asking.all_searches().collect();
    let unowned = unowned(survey, &searches, &[]).groups;
    let mut states: Vec<StateRecord> = states(survey, &[]).states.iter().map(state).collect();
    states.sort_by(|a, b| (&a.manager, &a.holder, &a.number).cmp(&(&b.manager, &b.holder, &b.number)));
    let mut taken = Snapshot {
        schema: SNAPSHOT_SCHEMA.to_owned(),
        written_by: env!("CARGO_PKG_VERSION").to_owned(),
        taken_at: taken_at.map(rfc3339),
        host: host.hostname().as_ref().map(text),
        machine: host.machine(),
        root: host.root.place().display().to_string(),
        system: host.system().and_then(System::to_data),
        users_seen: host.users.iter().map(|user| text(&user.name)).collect(),
        packages: packages.iter().map(|one| package(one, schemes.get(&one.manager).copied())).collect(),
        winners: winners::of(asking),
        search_paths: search_paths(asking.views),
        launchers: shown_launchers(survey, asking.views),
        unowned: unowned_files(survey.root(), &unowned),
        sources: survey.sources().iter().map(source).collect(),
        states,
        services: services::of(host),
        users: accounts(survey),
        files: files::of(host),
        findings: None,
        losses: Vec::new(),
    };
    add_owners(&mut taken, survey);
    // Only now everything has been read.
    taken.losses = survey.coverage().iter().flat_map(Coverage::lost).collect();
    taken
}

/// A text as data formats have it.
pub(super) fn text(bytes: &ByteString) -> String {
    bytes.to_data().into_owned()
}

/// Whose the services and the settings are, by one look through the records.
fn add_owners(taken: &mut Snapshot, survey: &Survey<'_>) {
    let services = taken.services.iter_mut().map(|one| (&one.file, &mut one.owner));
    let files = taken.files.iter_mut().map(|one| (&one.path, &mut one.owner));
    let all: Vec<(ByteString, &mut Option<String>)> =
        services.chain(files).map(|(file, owner)| (survey.root().canonicalize(file.as_bytes()), owner)).collect();
    let index = survey.claims(all.iter().map(|(file, _)| &**file));
    for (file, owner) in all {
        let package = survey.ownership(&index, &file).packages.first().and_then(|claim| survey.owner(claim));
        *owner = package.map(|package| text(&package.id));
    }
}

fn package(one: &Package, scheme: Option<Scheme>) -> PackageRecord {
    let optional = |text: &Option<ByteString>| text.as_ref().map(|text| text.to_data().into_owned());
    PackageRecord {
        id: text(&one.id),
        manager: one.manager.to_string(),
        scope: one.scope.to_data(),
        location: text(&one.location),
        name: text(&one.name),
        version: optional(&one.version),
        arch: optional(&one.arch),
        kind: one.kind.clone(),
        channel: optional(&one.channel),
        revision: optional(&one.revision),
        origin: one.origin.as_ref().map(|origin| text(&origin.name)),
        reason: one.reason.word().to_owned(),
        held: one.held,
        active: one.active,
        status: one.status.word().to_owned(),
        installed_at: one.installed_at.map(rfc3339),
        size: one.size,
        title: optional(&one.title),
        scheme,
        upstream: one.version.as_ref().map(|version| text(&managers::upstream_part(one.manager, Some(version)))),
        newest: None,
    }
}

/// Adds to each package the newest version that a source of this machine offers, where that is newer.
pub fn add_newest(taken: &mut Snapshot, survey: &Survey<'_>, now: Option<i64>) {
    let behind = upkeep::behind(survey, now);
    let key =
        |manager: &ManagerId, scope: &Scope, name: &ByteString| (manager.to_string(), scope.to_data(), text(name));
    let newest: HashMap<_, _> =
        behind.iter().map(|((manager, scope, name), one)| (key(manager, scope, name), one)).collect();
    for package in &mut taken.packages {
        let key = (package.manager.clone(), package.scope.clone(), package.name.clone());
        package.newest = newest.get(&key).and_then(|one| {
            Some(NewestRecord { version: text(one.version.as_ref()?), source: one.source.as_ref().map(text) })
        });
    }
}

fn search_paths(views: &[UserView]) -> Vec<PathRecord> {
    let of_search = |search: &SearchPath| PathRecord {
        user: search.user.as_ref().map(text),
        context: search.context.word().to_owned(),
        entries: search
            .entries
            .iter()
            .map(|entry| (text(&entry.dir), format!("{} {}", entry.because.file.to_data(), entry.because.at)))
            .collect(),
    };
    views.iter().flat_map(|view| &view.searches).map(of_search).collect()
}

/// The launchers of every user's menu.
fn shown_launchers(survey: &Survey<'_>, views: &[UserView]) -> Vec<LauncherRecord> {
    let of_view = |view: &UserView| {
        let user = view.user.as_ref();
        let dirs = data_dirs_of(survey.host, None, user);
        let search = view.searches.iter().find(|one| one.context == Context::Desktop).unwrap_or(&view.searches[0]);
        launchers(survey, DesktopSession { dirs: &dirs, desktops: &[], search, user }, &[])
    };
    let of_one = |one: &Launcher| LauncherRecord {
        id: text(&one.id),
        users: if views.len() > 1 { one.users.iter().map(text).collect() } else { Vec::new() },
        file: text(&one.file),
        name: one.name.clone(),
        shown: one.shown,
        starts: one.starts.path.as_ref().map(text),
        owner: one.owner.as_ref().map(|owner| text(&owner.id)),
    };
    Launchers::merged(views.iter().map(of_view)).launchers.iter().map(of_one).collect()
}

fn unowned_files(root: &Root, groups: &[Group]) -> Vec<UnownedRecord> {
    let files: Vec<&UnownedFile> = groups.iter().flat_map(|group| &group.files).collect();
    // A large one is told by its size and time, in place of its content.
    let large = |file: &UnownedFile| {
        let meta = root.target(&file.path).ok().filter(|meta| meta.size > MAX_CONTENT)?;
        Some(format!("{} bytes of {}", meta.size, rfc3339(meta.modified)))
    };
    let told: Vec<Option<String>> = files.iter().map(|file| large(file)).collect();
    let small = files.iter().zip(&told).filter(|(_, told)| told.is_none()).map(|(file, _)| &file.path);
    let mut digests = crate::digests::sha256_of(root, small).into_iter();
    let record = |(file, told): (&UnownedFile, Option<String>)| UnownedRecord {
        path: text(&file.path),
        kind: file.kind.word().to_owned(),
        content: told.or_else(|| digests.next().flatten()),
    };
    files.into_iter().zip(told).map(record).collect()
}

fn source(one: &Source) -> SourceRecord {
    SourceRecord {
        manager: one.manager.to_string(),
        scope: one.scope.to_data(),
        name: text(&one.name),
        url: one.url.as_ref().map(text),
        enabled: one.enabled,
        signed: one.signed.state.word().to_owned(),
    }
}

fn state(one: &State) -> StateRecord {
    StateRecord {
        manager: one.manager.to_string(),
        holder: text(&one.holder),
        number: text(&one.number),
        current: one.current,
    }
}

fn accounts(survey: &Survey<'_>) -> Vec<UserRecord> {
    let of_user = |user: &crate::host::User| UserRecord {
        name: text(&user.name),
        uid: user.uid,
        home: text(&user.home),
        shell: text(&user.shell),
    };
    survey.host.users.iter().map(of_user).collect()
}
