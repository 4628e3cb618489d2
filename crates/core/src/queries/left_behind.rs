//! What stays when packages are removed: settings files that their manager keeps, and what users keep of the software.

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::User;
use crate::managers;
use crate::model::{Package, Scope, Status};
use crate::survey::Survey;

/// What sort of thing is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LeftKind {
    /// A settings file of the package, which its manager keeps until it is told otherwise.
    Settings,
    /// A directory of a user's that has the name of the software, or that the manager made for it.
    Data,
}

/// Something that stays.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LeftBehind {
    /// What it is.
    pub kind: LeftKind,
    /// Where it is.
    pub path: ByteString,
    /// The id of the package that it is of.
    pub package: ByteString,
    /// Whose it is; `null` for the system's.
    pub user: Option<ByteString>,
    /// The id of another package of the same software, which may use it as well.
    pub used_by: Option<ByteString>,
}

/// Where programs keep what belongs to a user, by the name of the software: a directory below the home, and what stands
/// before the name (*XDG Base Directory Specification*, and what is older than that).
pub(crate) const PLACES: [(&[u8], &[u8]); 5] =
    [(b".config", b""), (b".local/share", b""), (b".local/state", b""), (b".cache", b""), (b"", b".")];

/// One of these places in a user's home.
pub(crate) fn below_home(user: &User, place: &[u8]) -> ByteString {
    if place.is_empty() { user.home.clone() } else { path::join(&user.home, place) }
}

/// Everything that stays of these packages (holder and number) if their managers' plain commands remove them.
pub(crate) fn left_behind(survey: &Survey<'_>, removed: &[(u16, u32)]) -> Vec<LeftBehind> {
    let titled = survey.titled();
    let numbered = titled.keys.iter().zip(&titled.packages);
    let going: Vec<((u16, u32), &Package)> =
        numbered.filter(|(key, _)| removed.contains(key)).map(|(key, package)| (*key, package)).collect();
    let mut left = Vec::new();
    for ((holder, number), package) in &going {
        let settings = survey.installations()[usize::from(*holder)].settings_files(*number).unwrap_or_default();
        let there = settings.into_iter().filter(|file| survey.root().entry(file).is_ok());
        left.extend(there.map(|path| LeftBehind {
            kind: LeftKind::Settings,
            path,
            package: package.id.clone(),
            user: None,
            used_by: None,
        }));
    }
    let data = data_dirs(survey, &going, removed).into_iter().filter(|dir| !dir.is_deleted);
    left.extend(data.map(|dir| dir.left));
    left
}

/// A directory of a user's, and whether the manager deletes it with the package.
pub(crate) struct DataDir {
    pub(crate) left: LeftBehind,
    pub(crate) is_deleted: bool,
}

/// What users keep of those of these packages that are removed; each directory once.
pub(crate) fn data_dirs(survey: &Survey<'_>, meant: &[((u16, u32), &Package)], removed: &[(u16, u32)]) -> Vec<DataDir> {
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
    let mut found: Vec<DataDir> = Vec::new();
    for (_, package) in meant.iter().filter(|(key, _)| removed.contains(key)) {
        for user in survey.host.users.iter().filter(|user| is_users(&package.scope, user)) {
            let Places { dirs, is_shared, is_deleted } = Places::of(package, user);
            let is_there = |dir: &ByteString| survey.root().entry(dir).is_ok_and(|meta| meta.kind == Kind::Dir);
            for path in dirs.into_iter().filter(is_there) {
                if found.iter().any(|known| known.left.path == path) {
                    continue;
                }
                let left = LeftBehind {
                    kind: LeftKind::Data,
                    path,
                    package: package.id.clone(),
                    user: Some(user.name.clone()),
                    used_by: user_of(package).filter(|_| is_shared),
                };
                found.push(DataDir { left, is_deleted });
            }
        }
    }
    found
}

/// Whether what is installed in this scope is there for a user.
pub(crate) fn is_users(scope: &Scope, user: &User) -> bool {
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
        let place = |(dir, prefix)| path::join(&below_home(user, dir), &[prefix, &name[..]].concat());
        Places { dirs: PLACES.map(place).to_vec(), is_shared: true, is_deleted: false }
    }
}
