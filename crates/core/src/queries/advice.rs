//! Advice that several questions give: which of several copies should go, and how it goes without harm to others.

use crate::backend::advice::{at_path, free_name, is_sealed};
use crate::bytes::ByteString;
use crate::fs::Kind;
use crate::managers;
use crate::model::{CommandLine, Owner, Remedy, RemedyKind};
use crate::survey::Survey;
use crate::version::upstream;

use super::Located;
use super::take_out::{is_among_distributions, take_out};

/// The remedies that leave one copy of several, `winner` first: what the distribution installed stays, and of two
/// others the newer one. None where only the user can know which copy is wanted.
pub(crate) fn leave_one(survey: &Survey<'_>, winner: &Located, hidden: &[Located]) -> Vec<Remedy> {
    if let Some(remedy) = remove_link(survey, &winner.path) {
        let copy = hidden.first().map(|copy| copy.path.clone()).unwrap_or_default();
        return vec![remedy.to("remove the link that comes first").because(format!("{copy} runs then"))];
    }
    let Some(first) = hidden.first() else { return Vec::new() };
    match (&winner.owner, &first.owner) {
        (None, _) => {
            let because = format!("no manager upgrades it; {} runs then", first.path);
            let aside = move_aside(survey, &winner.path).map(|way| way.to("move the copy that comes first aside"));
            aside.map(|way| way.because(because)).into_iter().collect()
        }
        (Some(owner), _)
            if !is_systems(owner) && (first.owner.as_ref().is_some_and(is_systems) || hidden.len() > 1) =>
        {
            let because = match &first.owner {
                Some(next) if is_systems(next) => format!("{}'s copy is upgraded with the system", next.manager),
                _ => return Vec::new(),
            };
            remove(survey, owner, "remove the copy that comes first", &because)
        }
        (Some(owner), Some(next)) if !is_systems(owner) => {
            let (older, newer, which) = match order(owner, next) {
                std::cmp::Ordering::Less => (owner, next, "remove the copy that comes first"),
                std::cmp::Ordering::Greater => (next, owner, "remove the hidden copy"),
                std::cmp::Ordering::Equal => return Vec::new(),
            };
            let version = newer.version.clone().unwrap_or_default();
            remove(survey, older, which, &format!("{}'s copy is newer: {version}", newer.manager))
        }
        (Some(owner), Some(next)) if !is_systems(next) && hidden.len() == 1 => {
            let because = format!("{}'s copy is upgraded with the system", owner.manager);
            remove(survey, next, "remove the hidden copy", &because)
        }
        _ => Vec::new(),
    }
}

/// Whether a package belongs to the distribution: it is never removed for another manager's sake.
pub(crate) fn is_systems(owner: &Owner) -> bool {
    managers::is_system(owner.manager)
}

fn order(a: &Owner, b: &Owner) -> std::cmp::Ordering {
    let part = |owner: &Owner| managers::upstream_part(owner.manager, owner.version.as_ref());
    upstream::compare(&part(a), &part(b))
}

/// Whether two copies are of one version, as far as both versions are known.
pub(crate) fn is_same_version(a: &Located, b: &Located) -> bool {
    match (&a.owner, &b.owner) {
        (Some(a), Some(b)) => a.version.is_some() && b.version.is_some() && order(a, b).is_eq(),
        _ => false,
    }
}

/// The commands that remove a package, for the sake of something else. Nothing of the distribution's is removed for
/// that.
pub(crate) fn remove(survey: &Survey<'_>, owner: &Owner, purpose: &str, because: &str) -> Vec<Remedy> {
    if is_systems(owner) {
        return Vec::new();
    }
    let ways = removals(survey, owner).into_iter();
    ways.map(|way| way.to(purpose).because(because)).collect()
}

/// The commands that remove a package, and nothing of anyone else's.
pub(crate) fn removals(survey: &Survey<'_>, owner: &Owner) -> Vec<Remedy> {
    let Some((held, number)) = survey.with_id(&owner.name, &owner.id) else { return Vec::new() };
    if is_among_distributions(held, number) {
        return take_out(survey, held, &[number]).into_iter().collect();
    }
    survey.remedies_within(held, number).into_iter().filter(|way| way.kind == RemedyKind::Remove).collect()
}

/// Removes a link that nobody placed; `None` for anything else. The file behind it stays.
pub(crate) fn remove_link(survey: &Survey<'_>, link: &ByteString) -> Option<Remedy> {
    let root = survey.root();
    let target = root.read_link(link).ok().filter(|_| !is_sealed(survey.host, link))?;
    let canonical = root.canonicalize(link);
    let index = survey.claims(std::iter::once(&*canonical));
    let ownership = survey.ownership(&index, &canonical);
    if !ownership.packages.is_empty() || ownership.group.is_some() {
        return None;
    }
    let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("rm --").arg(link.clone()));
    let undo = CommandLine::new("ln -s --").arg(target).arg(link.clone());
    Some(at_path(survey.host, link, remedy.undone_by(undo)))
}

/// What becomes of a link that leads nowhere: the alternatives system repairs or removes its own, and one that nobody
/// placed is removed.
pub(crate) fn mend_link(survey: &Survey<'_>, link: &ByteString) -> Option<Remedy> {
    let canonical = survey.root().canonicalize(link);
    let index = survey.claims(std::iter::once(&*canonical));
    match survey.ownership(&index, &canonical).group {
        Some(claim) => survey.repair_group(&claim),
        None => remove_link(survey, link).map(|way| way.to("remove the link")),
    }
}

/// Moves a program of nobody's aside, to a name that is free.
pub(crate) fn move_aside(survey: &Survey<'_>, file: &ByteString) -> Option<Remedy> {
    let root = survey.root();
    root.entry(file).ok().filter(|meta| meta.kind != Kind::Dir && !is_sealed(survey.host, file))?;
    let free = free_name(root, file)?;
    let line = CommandLine::new("mv -n --").arg(file.clone()).arg(free.clone());
    let undo = CommandLine::new("mv -n --").arg(free).arg(file.clone());
    Some(at_path(survey.host, file, Remedy::new(RemedyKind::Move, line).undone_by(undo)))
}

/// The removal of what replaced a package's files, and then their restoration: one without the other leaves the
/// package broken. `None` where its own files cannot be fetched.
pub(crate) fn put_back(survey: &Survey<'_>, by: Option<&Owner>, restore: Option<Remedy>) -> Option<Remedy> {
    let restore = restore?.to("restore its own files");
    let Some(by) = by else { return Some(restore) };
    let away = remove(survey, by, "", "").into_iter().next()?;
    let mut loses = away.loses.clone();
    if loses.is_empty() {
        loses.push(format!("{}'s {} {}", by.manager, by.name, by.version.clone().unwrap_or_default()));
    }
    // What is taken out file by file restores at once what was there.
    if away.command.ends_with(&restore.command) {
        let purpose = format!("remove {}'s copy, and restore the package's own files", by.manager);
        return Some(Remedy { loses, because: None, ..away.to(purpose) });
    }
    let purpose = format!("remove {}'s copy, and restore the package's own files", by.manager);
    // Both are typed as one: each says for itself whose rights it needs.
    let command = format!("{} && {}", away.command, restore.command);
    let parts = vec![away.clone(), restore.clone()];
    Some(Remedy { command, as_user: away.as_user.or(restore.as_user.clone()), loses, parts, ..restore.to(purpose) })
}
