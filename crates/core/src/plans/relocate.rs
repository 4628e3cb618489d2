//! `plan move`: the same software from another manager or source, with what users keep of it.

use super::Plan;
use super::build::Builder;
use super::remove::{self, Key, RemovalOptions};
use crate::backend::{Installation, Rehearsal};
use crate::bytes::{ByteString, path};
use crate::host::User;
use crate::identity::{Known, key_of};
use crate::managers;
use crate::model::{Actor, CommandLine, ManagerId, Offer, Package, Remedy, RemedyKind};
use crate::queries::CheckContext;
use crate::queries::left_behind::is_users;
use crate::queries::offers::titles::{grouped, known_of};
use crate::queries::offers::{Offered, Question, offers};
use crate::survey::Survey;
use crate::version::upstream;

/// The plan that brings a title from `to`, a manager or a source, and then removes these packages (holder and number) of
/// it; those that `to` has already stay. `package` is what it is called there, where a user says so.
#[must_use]
pub fn relocate(
    cx: &CheckContext<'_, '_>,
    packages: &[Key],
    to: &str,
    package: Option<&ByteString>,
    options: &RemovalOptions,
) -> Plan {
    let survey = cx.survey;
    let mut plan = Builder::new(survey);
    let all = remove::meant(cx, packages, &[], &RemovalOptions { manager: None, ..options.clone() });
    let is_target = |package: &Package| {
        let source = package.origin.as_ref().is_some_and(|origin| *origin.name == *to.as_bytes());
        package.manager.0 == to || source
    };
    let (there, from): (Vec<_>, Vec<_>) = all.iter().copied().partition(|(_, package)| is_target(package));
    let from: Vec<(Key, &Package)> = from
        .into_iter()
        .filter(|(_, package)| options.manager.is_none_or(|manager| package.manager == manager))
        .collect();
    let names = remove::names_of(&all);
    let goal = format!("move {names} to {to}");
    if from.is_empty() {
        plan.leave_open(names.as_str(), format!("nothing but what {to} has is installed"));
        return plan.finish(goal, super::Foretold::default());
    }
    let target = match there.first() {
        Some(((holder, number), _)) => {
            let held = &*survey.installations()[usize::from(*holder)];
            Some(Target { held, name: held.owner(*number).name, offered: None })
        }
        None => offered(survey, &from, to, package),
    };
    let Some(target) = target else {
        let says = format!(
            "no catalogue on this machine is known to have the same software from {to} (--package says which package it is)"
        );
        plan.leave_open(names.as_str(), says);
        return plan.finish(goal, super::Foretold::default());
    };
    if let Some(offered) = &target.offered {
        let Some(remedy) = offered.remedies.iter().find(|remedy| remedy.kind == RemedyKind::Install) else {
            plan.leave_open(target.name, format!("no command of {to} installs it"));
            return plan.finish(goal, super::Foretold::default());
        };
        let remedy = losses(&from, &offered.offer).into_iter().fold(remedy.clone(), Remedy::losing);
        plan.add(&remedy, format!("install {} by {}", target.name, target.held.location().manager), &[]);
    }
    carry(survey, &mut plan, &from, &target);
    let mut first: Vec<Rehearsal> = Vec::new();
    if let Some(query) = target.held.query(&target.name, None) {
        // Whoever removes the old one need not be who has the new one.
        let actor = target.held.actor(survey.host);
        plan.check(&query, &actor, format!("{} is not installed", target.name));
        first.push(Rehearsal { actor: if query.actor == Actor::Owner { actor } else { query.actor.clone() }, ..query });
    }
    let removed = remove::steps(cx, &mut plan, &from, options, &first);
    let mut foretold = remove::foretell(cx, &mut plan, &from, &removed, false);
    if target.offered.is_some() {
        let location = target.held.location();
        foretold.added.push(format!("{}/{}/{}", location.manager, location.scope, target.name).into());
    }
    plan.finish(goal, foretold)
}

/// Where it goes.
struct Target<'t> {
    held: &'t dyn Installation,
    name: ByteString,
    /// What is to be installed; none where it is there already.
    offered: Option<Offered>,
}

/// The offer to take, from that manager or source: of this name, if a user says which; else of the same title.
fn offered<'t>(
    survey: &'t Survey<'_>,
    from: &[(Key, &Package)],
    to: &str,
    package: Option<&ByteString>,
) -> Option<Target<'t>> {
    let names = software_names(from, package);
    let answer = offers(survey, &Question { names, ..Question::default() });
    let is_target = |offer: &Offer| {
        let is_source = || offer.source.as_ref().is_some_and(|source| *source.name == *to.as_bytes());
        (offer.manager.0 == to || is_source()) && !offer.installed && offer.listed_in().is_some() && offer.is_allowed()
    };
    let mut fitting: Vec<&Offered> =
        answer.offers.iter().filter(|one| is_target(&one.offer) && !one.remedies.is_empty()).collect();
    match package {
        Some(package) => fitting.retain(|one| one.offer.name.eq_ignore_ascii_case(package)),
        None => {
            // What is installed is known better than what is offered.
            let titled = survey.titled();
            let places = from.iter().filter_map(|(key, _)| titled.keys.iter().position(|known| known == key));
            let mut known: Vec<Known> = places.map(|place| titled.known[place].clone()).collect();
            let ours = known.len();
            known.extend(fitting.iter().map(|one| known_of(&one.offer)));
            let (titles, _) = grouped(survey, &known);
            let mut is_same = titles[ours..].iter().map(|title| titles[..ours].contains(title));
            fitting.retain(|_| is_same.next().unwrap_or_default());
        }
    }
    fitting.sort_by_key(|one| !one.offer.candidate);
    let found = fitting.into_iter().next()?.clone();
    let places = survey.installations().iter().map(|held| (held, held.location()));
    let mut its = places.filter(|(_, at)| (at.manager, &at.scope) == (found.offer.manager, &found.offer.scope));
    let held = &**its.next()?.0;
    Some(Target { held, name: found.offer.name.clone(), offered: Some(found) })
}

/// Everything that the software is called, in lower case: its packages, its title, its commands, and this.
fn software_names(packages: &[(Key, &Package)], also: Option<&ByteString>) -> Vec<ByteString> {
    let mut names: Vec<ByteString> = also.into_iter().cloned().collect();
    for (_, package) in packages {
        names.extend(package.title.clone());
        names.push(package.name.clone());
        names.push(key_of(managers::profile(package.manager).naming, &package.name));
        names.extend(package.commands.iter().map(|command| path::name(command).into()));
    }
    names.iter_mut().for_each(|name| *name = name.to_ascii_lowercase().into());
    names.sort();
    names.dedup();
    names
}

/// What is lost by taking the offer instead.
fn losses(from: &[(Key, &Package)], offer: &Offer) -> Vec<String> {
    let mut losses = Vec::new();
    let part = |manager, version: &Option<ByteString>| managers::upstream_part(manager, version.as_ref());
    let then = part(offer.manager, &offer.version);
    for (_, package) in from {
        let now = part(package.manager, &package.version);
        if upstream::compare(&then, &now).is_lt() {
            let version = |version: &Option<ByteString>| version.clone().unwrap_or_default();
            losses.push(format!("what is new in {} since {}", version(&package.version), version(&offer.version)));
        }
    }
    if let Some(confinement) = offer.confinement.as_ref().filter(|how| *how != "none" && *how != "classic") {
        let may = match offer.permissions.is_empty() {
            true => "what its permissions grant".to_owned(),
            false => offer.permissions.join(", "),
        };
        losses.push(format!("access to all but {may} ({confinement})"));
    }
    losses
}

/// Steps that copy what users keep of it to where the other one looks for it.
fn carry(survey: &Survey<'_>, plan: &mut Builder<'_, '_>, from: &[(Key, &Package)], target: &Target<'_>) {
    let names = software_names(from, Some(&target.name));
    let location = target.held.location();
    for (_, package) in from {
        if managers::profile(package.manager).keeps_data_in == managers::profile(location.manager).keeps_data_in {
            continue;
        }
        for user in
            survey.host.users.iter().filter(|user| is_users(&package.scope, user) && is_users(&location.scope, user))
        {
            let (old, new) = (dirs(package.manager, &package.name, user), dirs(location.manager, &target.name, user));
            for (old, new) in old.iter().zip(&new) {
                for name in &names {
                    let (source, copy) = (path::join(old, name), path::join(new, name));
                    if survey.root().entry(&source).is_err() {
                        continue;
                    }
                    if survey.root().entry(&copy).is_ok() {
                        plan.leave_open(source, format!("is not copied: {copy} is there already"));
                        continue;
                    }
                    let line = CommandLine::new("mkdir -p --").arg(new.clone());
                    let line = line.and_then(CommandLine::new("cp -a -n --").arg(source).arg(copy.clone()));
                    let undo = CommandLine::new("rm -r --").arg(copy);
                    let remedy = Remedy::new(RemedyKind::Move, line).by(Actor::User(user.name.clone())).undone_by(undo);
                    plan.add(&remedy, format!("copy what {} keeps of it", user.name), &[]);
                }
            }
        }
    }
}

/// The directories of settings, data and state in which a manager's package looks, for a user.
fn dirs(manager: ManagerId, name: &ByteString, user: &User) -> [ByteString; 3] {
    let profile = managers::profile(manager);
    let base = profile.own_data_dir(&user.home, name).unwrap_or_else(|| user.home.clone());
    profile.data_dirs.map(|dir| path::join(&base, dir.as_bytes()))
}
