//! `plan rollback`: back to an earlier state of a profile, or to an earlier version of a package.

use super::build::Builder;
use super::{Foretold, Plan};
use crate::backend::{Installation, Rehearsal};
use crate::bytes::{ByteString, path};
use crate::model::{Action, CommandLine, Event, Owner, Remedy, State, StateChanges, package_id};
use crate::queries::timeline::{Span, timeline};
use crate::survey::Survey;

/// The plan that goes back: what `name` means is a holder of numbered states (by its path, or the last part of it), else
/// these packages (holder and number). `to` is a state's number, or a version; the one before, if it is `None`.
#[must_use]
pub fn rollback(survey: &Survey<'_>, name: &ByteString, packages: &[(u16, u32)], to: Option<&[u8]>) -> Plan {
    let mut plan = Builder::new(survey);
    let mut foretold = Foretold::default();
    let mut is_found = false;
    for held in survey.installations() {
        let Some(history) = held.history() else { continue };
        let states = history.states();
        let is_named = |state: &State| state.holder == *name || path::name(&state.holder) == &**name;
        if states.iter().any(is_named) {
            is_found = true;
            to_state(&mut plan, &**held, &states, to, &mut foretold);
        }
    }
    if !is_found {
        for (holder, number) in packages {
            let held = &*survey.installations()[usize::from(*holder)];
            to_version(&mut plan, held, *number, to, &mut foretold);
        }
    }
    let target = to.map(|to| format!(" to {}", ByteString::from(to))).unwrap_or_default();
    plan.finish(format!("take {name} back{target}"), foretold)
}

/// A step to a numbered state.
fn to_state(
    plan: &mut Builder<'_, '_>,
    held: &dyn Installation,
    states: &[State],
    to: Option<&[u8]>,
    foretold: &mut Foretold,
) {
    let (Some(history), Some(at)) = (held.history(), states.iter().position(|state| state.current)) else { return };
    let holder = states[at].holder.clone();
    let target = match to {
        Some(number) => states.iter().find(|state| *state.number == *number),
        None => at.checked_sub(1).map(|before| &states[before]),
    };
    let Some(target) = target else {
        let numbers: Vec<String> = states.iter().map(|state| state.number.to_string()).collect();
        plan.leave_open(holder, format!("there is no such state before {}: {}", states[at].number, numbers.join(", ")));
        return;
    };
    let remedy = history.switch_to(target).and_then(|remedy| plan.survey.remedy_within(held, remedy));
    let Some(remedy) = remedy else {
        plan.leave_open(holder, format!("no command of {} goes to state {}", target.manager, target.number));
        return;
    };
    let (now, then) = (history.content(&states[at]), history.content(target));
    let changes = now.zip(then).map(|(now, then)| StateChanges::between(&now, &then)).unwrap_or_default();
    let mut told: Vec<String> = changes.added.iter().map(|name| format!("adds {name}")).collect();
    told.extend(changes.removed.iter().map(|name| format!("removes {name}")));
    let version = |version: &Option<ByteString>| version.clone().unwrap_or_default();
    told.extend(
        changes
            .changed
            .iter()
            .map(|one| format!("takes {} from {} to {}", one.name, version(&one.from), version(&one.to))),
    );
    let what = if told.is_empty() { "nothing changes".to_owned() } else { told.join(", ") };
    // The state in force is still the one that this plan found.
    let now = plan.survey.root().read_link(&holder).ok();
    let rehearsal = now.map(|link| {
        Rehearsal::prints(CommandLine::new("readlink --").arg(holder.clone()), None, vec![link.to_string()])
    });
    let rehearsals: Vec<&Rehearsal> = rehearsal.iter().collect();
    plan.add(
        &remedy,
        format!("go from state {} to {} of {holder}: {what}", states[at].number, target.number),
        &rehearsals,
    );
    let id = |name: &ByteString| package_id(target.manager, &target.scope, name);
    foretold.removed.extend(changes.removed.iter().map(id));
    foretold.added.extend(changes.added.iter().map(id));
}

/// A step to another version of a package.
fn to_version(
    plan: &mut Builder<'_, '_>,
    held: &dyn Installation,
    number: u32,
    to: Option<&[u8]>,
    foretold: &mut Foretold,
) {
    let owner = held.owner(number);
    let builds = held.builds(number);
    let now = builds.as_ref().map(|builds| builds.now.clone()).or(owner.version.clone()).unwrap_or_default();
    let earlier = builds.as_ref().and_then(|builds| builds.before.clone());
    let Some(version) = to.map(ByteString::from).or(earlier.clone()).or_else(|| before(plan.survey, &owner)) else {
        let says = match builds {
            Some(_) => format!("{now} is the first one in its line, as far as is known here"),
            None => format!("{now} is the first version here that a log tells of"),
        };
        plan.leave_open(owner.id, says);
        return;
    };
    if version == now {
        plan.leave_open(owner.id, format!("is at {now} already"));
        return;
    }
    let found = held.go_to_version(number, &version);
    let typed = found.and_then(|removal| Some((plan.survey.remedy_within(held, removal.remedy)?, removal.rehearsal)));
    let Some((remedy, rehearsal)) = typed else {
        let says = match builds {
            Some(_) => format!("{} goes back to a commit (64 hexadecimal digits) of its remote only", owner.manager),
            None => {
                format!("{} has {version} neither on this machine nor in a source that it goes back to", owner.manager)
            }
        };
        plan.leave_open(owner.id, says);
        return;
    };
    // Back again, where that is as easy.
    let undo = held.go_to_version(number, &now).map(|removal| removal.remedy.line);
    let remedy = undo.into_iter().fold(remedy, Remedy::undone_by);
    // Which of two builds is the older one, only their line tells.
    let is_older = match builds {
        Some(_) => earlier.as_ref() == Some(&version),
        None => held.scheme().compare(&version, &now).is_lt(),
    };
    let remedy = match is_older {
        true => remedy.losing("what the newer version changed in settings and data that the older one cannot read"),
        false => remedy,
    };
    // It is still at the version that this plan found.
    let still = held.query(&owner.full_name(), Some(&now));
    let rehearsals: Vec<&Rehearsal> = still.iter().chain([&rehearsal]).collect();
    plan.add(&remedy, format!("take {}'s {} from {now} to {version}", owner.manager, owner.full_name()), &rehearsals);
    foretold.added.push([&*owner.id, b" ", &*version].concat().into());
    if is_older {
        let says = "the next upgrade takes it to the newest version again, unless upgrades of it are held";
        plan.leave_open(owner.id, says);
    }
}

/// The version that a package was upgraded from, by the last event that tells.
fn before(survey: &Survey<'_>, owner: &Owner) -> Option<ByteString> {
    let events = timeline(survey, &Span { names: vec![owner.name.clone()], ..Span::default() }).events;
    let is_of_it = |event: &&Event| {
        (event.manager, &event.name) == (owner.manager, &owner.name)
            && matches!(event.action, Action::Upgrade | Action::Downgrade)
            && event.to == owner.version
    };
    events.iter().rev().find(is_of_it)?.from.clone()
}
