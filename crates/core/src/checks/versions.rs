//! One software by several sources.

use std::collections::BTreeMap;

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::managers::{self, keeps_versions};
use crate::model::{Evidence, Finding, FindingKind, Package, RemedyKind, Scope, Severity, Status};
use crate::queries::across::{Row, Told, across};
use crate::survey::Titled;
use crate::version::upstream;

/// `version-split` and `duplicate-title`: one for each title of which somebody has several packages.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let titled = cx.survey.titled();
    let groups: Vec<(u32, Vec<&Package>)> = (0..titled.titles.names.len())
        .filter_map(|number| {
            let number = u32::try_from(number).ok()?;
            let members = titled.titles.members(number).into_iter().map(|place| &titled.packages[place]);
            let mut members: Vec<&Package> = members.filter(counts).filter(|one| is_within_reach(cx, one)).collect();
            // Instances for several architectures, and versions that one manager has side by side, are its own affair;
            // not so files that a user collects.
            members.dedup_by_key(|one| {
                (one.manager, one.scope.clone(), one.location.clone(), is_bundle(one).then(|| one.id.clone()))
            });
            (members.len() > 1).then_some((number, members))
        })
        .filter(|(_, members)| is_together(cx, members))
        .collect();
    let mains: Vec<Option<ByteString>> = groups.iter().map(|(_, members)| main_command(members)).collect();
    let names: Vec<ByteString> = mains.iter().flatten().cloned().collect();
    let rows = if names.is_empty() { Vec::new() } else { across(cx.survey, cx.searches(), &names).rows };
    let told = groups.iter().zip(&mains).map(|((number, members), main)| {
        let row = main.as_ref().and_then(|main| rows.iter().find(|row| row.name == *main));
        finding(cx, titled, *number, members, main.as_ref(), row)
    });
    told.collect()
}

/// What a user has on purpose side by side is no trouble: what is in an environment of its own, versions that a
/// version manager keeps, runtimes; nor is what is not in use.
fn counts(package: &&Package) -> bool {
    let is_apart = matches!(package.scope, Scope::Environment(_)) || keeps_versions(package.manager);
    let is_in_use = (package.status == Status::Installed && package.active) || is_bundle(package);
    let is_program =
        !matches!(package.kind.as_str(), "runtime" | "extension" | "base" | "snapd" | "toolchain" | "store-path");
    !is_apart && is_in_use && is_program && package.version.is_some()
}

/// A program that is one file, of which nothing but the file says that it is installed.
fn is_bundle(package: &Package) -> bool {
    package.kind == "bundle"
}

/// Whether the distribution's own manager installed it.
fn is_of_system(package: &Package) -> bool {
    managers::is_system(package.manager)
}

/// Whether a package is the system's or this user's: what another user has is no matter of this one's.
fn is_within_reach(cx: &CheckContext<'_, '_>, package: &Package) -> bool {
    match (&package.scope, cx.user()) {
        (Scope::User(name), Some(user)) => *name == user.name,
        _ => true,
    }
}

/// Whether one user has two of them: what two users have each for themselves is no matter.
fn is_together(cx: &CheckContext<'_, '_>, members: &[&Package]) -> bool {
    let of_system = members.iter().filter(|one| one.scope == Scope::System).count();
    let most_of_one = cx
        .survey
        .host
        .users
        .iter()
        .map(|user| members.iter().filter(|one| one.scope == Scope::User(user.name.clone())).count());
    of_system + most_of_one.max().unwrap_or_default() > 1
}

/// The command that most of them bring; none where no two have one in common, unless one is alone in having any.
fn main_command(members: &[&Package]) -> Option<ByteString> {
    let mut counts: BTreeMap<ByteString, usize> = BTreeMap::new();
    for command in members.iter().flat_map(|package| &package.commands) {
        *counts.entry(path::name(command).into()).or_default() += 1;
    }
    let with_commands = members.iter().filter(|package| !package.commands.is_empty()).count();
    let best = counts.into_iter().max_by_key(|(name, count)| (*count, std::cmp::Reverse(name.len())));
    best.filter(|(_, count)| *count > 1 || with_commands == 1).map(|(name, _)| name)
}

fn finding(
    cx: &CheckContext<'_, '_>,
    titled: &Titled,
    number: u32,
    members: &[&Package],
    main: Option<&ByteString>,
    row: Option<&Row>,
) -> Finding {
    let survey = cx.survey;
    let part = |package: &Package| managers::upstream_part(package.manager, package.version.as_ref());
    let mut members = members.to_vec();
    members.sort_by(|a, b| upstream::compare(&part(b), &part(a)).then_with(|| a.id.cmp(&b.id)));
    let newest = part(members[0]);
    let is_split = members.iter().any(|one| upstream::compare(&part(one), &newest).is_ne());
    let title = &titled.titles.names[number as usize];
    let listed: Vec<String> = members.iter().map(|package| described(package, is_split)).collect();
    // Where a name reaches but one of them, which one runs is never uncertain.
    let is_shared = |package: &&&Package| {
        package.commands.iter().any(|command| Some(path::name(command)) == main.map(|main| &**main))
    };
    let shares = members.iter().filter(is_shared).count() > 1 || share_launcher(&members) || is_same_manager(&members);
    let (kind, severity) = match (is_split, shares) {
        (true, true) => (FindingKind::VersionSplit, Severity::Warning),
        (true, false) => (FindingKind::VersionSplit, Severity::Note),
        (false, _) => (FindingKind::DuplicateTitle, Severity::Note),
    };
    let compared = if members.iter().any(|one| one.manager != members[0].manager) && is_split {
        " (compared by upstream version)"
    } else {
        ""
    };
    let summary = match kind {
        FindingKind::VersionSplit => format!("{title} is installed at {}{compared}", listed.join(", ")),
        _ => format!("{title} is installed {} times at the same version: {}", members.len(), listed.join(", ")),
    };
    let runs = row.map(|row| contexts(row, cx)).filter(|runs| !runs.is_empty());
    let consequence = match (&runs, main) {
        (Some(runs), Some(main)) => format!("{main} is {runs}"),
        _ if is_split => "which of them runs depends on how it is started".to_owned(),
        _ => "it uses disk space several times, and the copies are upgraded separately".to_owned(),
    };
    // The distribution's copy stays, else the newest, which is the first.
    let stays = members.iter().find(|one| is_of_system(one)).unwrap_or(&members[0]);
    let because = match is_of_system(stays) {
        true => format!("{}'s copy is upgraded with the system", stays.manager),
        false => format!("{}'s copy is newer", stays.manager),
    };
    let others = members.iter().filter(|one| one.id != stays.id && !is_of_system(one));
    let others = others.filter(|_| severity > Severity::Note || kind == FindingKind::DuplicateTitle);
    let others = others.filter(|_| is_split || is_of_system(stays));
    let remedies = others.flat_map(|one| {
        let purpose = format!("remove {}'s {}", one.manager, one.version.clone().unwrap_or_default());
        let ways = survey.remedies_by_id(&one.name, &one.id).into_iter().filter(|way| way.kind == RemedyKind::Remove);
        ways.take(1).map(|way| way.to(purpose.as_str()).because(because.as_str())).collect::<Vec<_>>()
    });
    Finding {
        packages: members.iter().map(|one| one.id.clone()).collect(),
        paths: members
            .iter()
            .flat_map(|one| one.commands.iter().find(|command| Some(path::name(command)) == main.map(|main| &**main)))
            .cloned()
            .collect(),
        remedies: remedies.collect(),
        evidence: why_one_title(titled, number, &members),
        ..Finding::new(kind, severity, title.clone(), summary, consequence)
    }
}

/// A package's version, manager and user, and its size where versions do not tell the copies apart.
fn described(package: &Package, is_split: bool) -> String {
    let version = package.version.clone().unwrap_or_default();
    let whose = match &package.scope {
        Scope::User(name) => format!(" for {name}"),
        _ => String::new(),
    };
    let size = package.size.filter(|_| !is_split).map(|size| format!(", {} MiB", size.div_ceil(1 << 20)));
    format!("{version} by {}{whose}{}", package.manager, size.unwrap_or_default())
}

/// What the packages of a title have in common, pair by pair.
fn why_one_title(titled: &Titled, title: u32, members: &[&Package]) -> Vec<Evidence> {
    let is_member = |package: &Package| members.iter().any(|one| one.id == package.id);
    let of_title = titled.titles.because.iter().filter(|one| titled.titles.of[one.pair.0] == Some(title));
    let evidence = of_title.filter_map(|likeness| {
        let (a, b) = (&titled.packages[likeness.pair.0], &titled.packages[likeness.pair.1]);
        let why: Vec<String> = likeness.because.iter().map(|(weight, why)| format!("{why} ({weight:+})")).collect();
        let is_told = is_member(a) && is_member(b);
        is_told.then(|| Evidence::at(a.id.clone(), format!("against {}", b.id), why.join(", ")))
    });
    evidence.collect()
}

fn is_same_manager(members: &[&Package]) -> bool {
    members.iter().enumerate().any(|(at, one)| {
        members[at + 1..].iter().any(|other| (one.manager, &one.scope) == (other.manager, &other.scope))
    })
}

fn share_launcher(members: &[&Package]) -> bool {
    let shown = members.iter().filter(|package| !package.launchers.is_empty());
    shown.count() > 1
}

/// Which of them runs where: `tidegauge 3.1.4-2 of dpkg in cron, sudo; …`.
fn contexts(row: &Row, cx: &CheckContext<'_, '_>) -> String {
    let mut told = Told::default();
    for (meaning, search) in row.meanings.iter().zip(cx.searches()) {
        let says = match &meaning.winner {
            Some(winner) => match &winner.owner {
                Some(owner) => format!("{} of {}", winner.version.clone().unwrap_or_default(), owner.manager),
                None => format!("{}, which no manager claims,", winner.path),
            },
            None => "not reached".to_owned(),
        };
        told.add(says, search.context);
    }
    match told.0.as_slice() {
        [(says, contexts)] if contexts.len() > 1 => format!("{says} in every context"),
        _ => told.to_string(),
    }
}
