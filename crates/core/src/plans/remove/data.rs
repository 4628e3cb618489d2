//! What users keep of software that goes.

use super::Key;
use crate::bytes::ByteString;
use crate::model::{Actor, CommandLine, Package, Remedy, RemedyKind};
use crate::plans::build::Builder;
use crate::queries::CheckContext;
use crate::queries::left_behind::{DataDir, data_dirs};

/// Steps that delete what users keep of the packages that go; returns the directories. What another package of the same
/// software may use stays.
pub(super) fn delete(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    meant: &[(Key, &Package)],
    removed: &[Key],
) -> Vec<ByteString> {
    let mut dirs: Vec<ByteString> = Vec::new();
    for DataDir { left, is_deleted } in data_dirs(cx.survey, meant, removed) {
        let dir = left.path;
        if let Some(other) = left.used_by {
            plan.leave_open(dir, format!("stays: {other} may use it"));
            continue;
        }
        if let Some(user) = left.user.filter(|_| !is_deleted) {
            let of = meant.iter().map(|(_, package)| package).find(|package| package.id == left.package);
            let name = of.map_or_else(|| left.package.clone(), |package| package.full_name());
            let line = CommandLine::new("rm -r --").arg(dir.clone());
            let remedy = Remedy::new(RemedyKind::Remove, line).by(Actor::User(user.clone()));
            let why = format!("delete what {user} keeps of {name}");
            plan.add(&remedy.losing(format!("everything in {dir}")), why, &[]);
        }
        dirs.push(dir);
    }
    dirs
}
