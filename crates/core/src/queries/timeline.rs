//! What was done on the machine, by all managers, in the order of time.

use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::Detail;
use crate::bytes::ByteString;
use crate::model::{Action, Event, Evidence, ManagerId, Package, Scope, State, Status, state_name};
use crate::survey::Survey;

/// Which events are asked for.
#[derive(Debug, Clone, Default)]
pub struct Span {
    /// Packages with one of these names, or this part of a name's path; none for all.
    pub names: Vec<ByteString>,
    /// Not before: seconds since 1970.
    pub since: Option<i64>,
    /// Before: seconds since 1970.
    pub until: Option<i64>,
    /// Only of these managers; none for all.
    pub managers: Vec<ManagerId>,
    /// Only what these users asked for, or what was done for them; none for all.
    pub users: Vec<ByteString>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Timeline {
    /// The events, the oldest first; those without a time before all others.
    pub events: Vec<Event>,
    /// Managers that keep no log: of their packages only the times of the records are known, and nothing of what is gone.
    pub without_log: Vec<ManagerId>,
}

/// The events of all managers.
#[must_use]
pub fn timeline(survey: &Survey<'_>, span: &Span) -> Timeline {
    let (mut events, mut without_log): (Vec<Event>, Vec<ManagerId>) = (Vec::new(), Vec::new());
    for held in survey.installations() {
        if !span.managers.is_empty() && !span.managers.contains(&held.location().manager) {
            continue;
        }
        let logged = held.log().map(crate::backend::Log::events).unwrap_or_default();
        let states = held.history().map(crate::backend::History::states).unwrap_or_default();
        if !logged.is_empty() {
            events.extend(logged);
            continue;
        }
        if !states.is_empty() {
            events.extend(states.iter().flat_map(of_state));
            continue;
        }
        let packages = held.packages(Detail { dates: true, evidence: true, ..Detail::default() });
        let is_there = |one: &&Package| one.status != Status::ConfigRemains && one.installed_at.is_some();
        events.extend(packages.iter().filter(is_there).map(of_record));
        if !packages.is_empty() && !without_log.contains(&held.location().manager) {
            without_log.push(held.location().manager);
        }
    }
    events.retain(|event| span.has(event));
    events.sort_by_key(|event| event.at);
    Timeline { events, without_log }
}

impl Span {
    fn has(&self, event: &Event) -> bool {
        let is_named = |name: &ByteString| {
            let bare = event.name.rsplit(|&b| b == b'/').next().unwrap_or(&event.name);
            *name == event.name || **name == *bare || name.eq_ignore_ascii_case(&event.name)
        };
        let is_users = |user: &ByteString| {
            event.by.as_deref().is_some_and(|by| by.as_bytes() == &**user) || event.scope == Scope::User(user.clone())
        };
        (self.names.is_empty() || self.names.iter().any(is_named))
            && (self.users.is_empty() || self.users.iter().any(is_users))
            && self.since.is_none_or(|since| event.at.is_some_and(|at| at >= since))
            && self.until.is_none_or(|until| event.at.is_some_and(|at| at < until))
    }
}

/// A numbered state as what it added, removed and changed.
fn of_state(state: &State) -> Vec<Event> {
    let transaction = state_name(&state.holder.to_string(), &state.number.to_string());
    let event = |action: Action, name: &ByteString, from: Option<ByteString>, to: Option<ByteString>| Event {
        at: state.made_at,
        from,
        to,
        transaction: Some(transaction.clone()),
        evidence: state.evidence.clone(),
        ..Event::of(state.manager, state.scope.clone(), action, name.clone())
    };
    let mut events: Vec<Event> = Vec::new();
    events.extend(state.changes.added.iter().map(|name| event(Action::Install, name, None, None)));
    events.extend(state.changes.removed.iter().map(|name| event(Action::Remove, name, None, None)));
    events.extend(
        state.changes.changed.iter().map(|one| event(Action::Upgrade, &one.name, one.from.clone(), one.to.clone())),
    );
    if events.is_empty() {
        let name = ByteString::from(transaction.as_str());
        events.push(event(Action::Switch, &name, None, None));
    }
    events
}

/// A package by the time of its record.
fn of_record(one: &Package) -> Event {
    let evidence: Vec<Evidence> = one.evidence.iter().take(1).cloned().collect();
    Event {
        at: one.installed_at,
        to: one.version.clone(),
        evidence,
        ..Event::of(one.manager, one.scope.clone(), Action::Install, one.name.clone())
    }
}
