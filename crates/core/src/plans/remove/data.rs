//! What users keep of software that goes.

use super::Key;
use crate::bytes::{ByteString, path};
use crate::checks::leftovers::PLACES;
use crate::fs::Kind;
use crate::host::User;
use crate::managers;
use crate::model::{Actor, CommandLine, Package, Remedy, RemedyKind, Scope, Status};
use crate::plans::build::Builder;
use crate::queries::CheckContext;

/// Steps that delete what users keep of the packages that go; returns the directories. What another package of the same
/// software may use stays.
pub(super) fn delete(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    meant: &[(Key, &Package)],
    removed: &[Key],
) -> Vec<ByteString> {
    let survey = cx.survey;
    let titled = survey.titled();
    let numbered = titled.keys.iter().zip(&titled.packages);
    let staying: Vec<&Package> = numbered
        .filter(|(key, package)| !removed.contains(key) && package.status != Status::ConfigRemains)
        .map(|(_, package)| package)
        .collect();
    let user_of = |package: &Package| {
        let is_same = |other: &&&Package| {
            let is_of_title = other.title.is_some() && other.title == package.title;
            is_of_title || other.name.eq_ignore_ascii_case(&package.name)
        };
        staying.iter().find(is_same).map(|other| other.id.clone())
    };
    let mut dirs: Vec<ByteString> = Vec::new();
    for (_, package) in meant.iter().filter(|(key, _)| removed.contains(key)) {
        for user in survey.host.users.iter().filter(|user| is_users(&package.scope, user)) {
            let Places { dirs: places, is_shared, is_deleted } = Places::of(package, user);
            let is_there = |dir: &ByteString| survey.root().entry(dir).is_ok_and(|meta| meta.kind == Kind::Dir);
            for dir in places.into_iter().filter(is_there) {
                if dirs.contains(&dir) {
                    continue;
                }
                if let Some(other) = user_of(package).filter(|_| is_shared) {
                    plan.leave_open(dir, format!("stays: {other} may use it"));
                    continue;
                }
                if !is_deleted {
                    let line = CommandLine::new("rm -r --").arg(dir.clone());
                    let remedy = Remedy::new(RemedyKind::Remove, line).by(Actor::User(user.name.clone()));
                    let why = format!("delete what {} keeps of {}", user.name, package.full_name());
                    plan.add(&remedy.losing(format!("everything in {dir}")), why, &[]);
                }
                dirs.push(dir);
            }
        }
    }
    dirs
}

pub(in crate::plans) fn is_users(scope: &Scope, user: &User) -> bool {
    match scope {
        Scope::System => true,
        Scope::User(name) => *name == user.name,
        Scope::Environment(_) => false,
    }
}

/// Where a user's data of a package are.
struct Places {
    dirs: Vec<ByteString>,
    /// Whether another manager's package of the same software has them there, too.
    is_shared: bool,
    /// Whether the manager deletes them with the package.
    is_deleted: bool,
}

impl Places {
    fn of(package: &Package, user: &User) -> Self {
        let profile = managers::profile(package.manager);
        if let Some(dir) = profile.own_data_dir(&user.home, &package.name) {
            return Places { dirs: vec![dir], is_shared: false, is_deleted: profile.deletes_data };
        }
        let name = package.name.to_ascii_lowercase();
        let place = |(dir, prefix): &(&[u8], &[u8])| {
            let below = if dir.is_empty() { user.home.clone() } else { path::join(&user.home, dir) };
            path::join(&below, &[*prefix, &name].concat())
        };
        Places { dirs: PLACES.iter().map(place).collect(), is_shared: true, is_deleted: false }
    }
}
