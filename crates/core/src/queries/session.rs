//! This session against a fresh one: what the environment of this process has, and what a new login or a new terminal
//! window of the same user would have.

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::Evidence;
use crate::resolve::contexts::{Overrides, resolve_contexts};
use crate::resolve::temporary::{Temporary, TemporaryShells};
use crate::resolve::{Context, Resolution, ResolvedContext, SearchPath};
use crate::survey::Survey;

use super::owner::{Answer, NextSession, TargetKind};

/// A directory that a fresh session has, and this one has not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Newer {
    /// The directory, as the list spells it.
    pub directory: ByteString,
    /// The contexts of a fresh session that have it.
    pub contexts: Vec<Context>,
    /// Who adds it.
    pub because: Evidence,
}

/// How the search path of this process differs from that of a fresh session.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SessionDifference {
    /// Directories of this process that no start-up file adds: a fresh session does not have them.
    pub only_here: Vec<ByteString>,
    /// What put some of these there, where a variable tells: they are gone with this shell.
    pub temporary: Vec<Temporary>,
    /// Directories that are searched after the next login.
    pub after_login: Vec<Newer>,
    /// Whether everything about a fresh session is known; else one that is told as only here may be there, too.
    pub certain: bool,
}

impl SessionDifference {
    /// Whether a fresh session searches the same directories.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.only_here.is_empty() && self.after_login.is_empty()
    }
}

/// Fresh sessions of the user whose process this is, in these contexts. None where the process is not one of a session
/// of that user's: offline, or started by sudo.
#[must_use]
pub fn fresh_sessions(host: &Host, contexts: &[Context]) -> Vec<ResolvedContext> {
    let is_session = !host.env.variables.is_empty() && !host.env.variables.contains_key(&b"SUDO_UID"[..]);
    match host.users.iter().find(|user| host.asks(user)).filter(|_| is_session) {
        Some(user) => resolve_contexts(host, contexts, user, &Overrides::default()),
        None => Vec::new(),
    }
}

/// Compares a list of directories of this process with that of a login and of a terminal window.
#[must_use]
pub fn difference(host: &Host, here: &ResolvedContext, variable: &str) -> Option<SessionDifference> {
    let fresh = fresh_sessions(host, &[Context::Login, Context::Terminal]);
    if fresh.is_empty() || here.context != Context::Here {
        return None;
    }
    let place = |dir: &ByteString| host.root.canonicalize_dir(&path::absolute(dir, &host.env.dir));
    let own: Vec<(ByteString, ByteString)> =
        here.list(variable).0.into_iter().map(|one| (place(&one.dir), one.dir)).collect();
    let mut certain = true;
    // What fresh sessions have, each directory once.
    let mut theirs: Vec<(ByteString, Newer)> = Vec::new();
    for session in fresh {
        let (listed, unknown) = session.list(variable);
        certain &= unknown.is_empty();
        for one in listed {
            let canonical = place(&one.dir);
            match theirs.iter_mut().find(|(known, _)| *known == canonical) {
                Some((_, newer)) if newer.contexts.contains(&session.context) => {}
                Some((_, newer)) => newer.contexts.push(session.context),
                None => {
                    let contexts = vec![session.context];
                    theirs.push((canonical, Newer { directory: one.dir, contexts, because: one.because }));
                }
            }
        }
    }
    let mut only_here: Vec<(&ByteString, ByteString)> = Vec::new();
    for (canonical, dir) in &own {
        let is_known = theirs.iter().any(|(known, _)| known == canonical);
        if !is_known && !only_here.iter().any(|(told, _)| *told == canonical) {
            only_here.push((canonical, dir.clone()));
        }
    }
    let shells = TemporaryShells::of(&host.env);
    let is_new = |(canonical, _): &(ByteString, Newer)| !own.iter().any(|(known, _)| known == canonical);
    Some(SessionDifference {
        temporary: only_here.iter().filter_map(|(_, dir)| shells.put(dir)).collect(),
        only_here: only_here.into_iter().map(|(_, dir)| dir).collect(),
        after_login: theirs.into_iter().filter(is_new).map(|(_, newer)| newer).collect(),
        certain,
    })
}

/// Tells of each command that was looked up in this session whether a fresh terminal starts something else.
pub fn tell_next_session(survey: &Survey<'_>, answers: &mut [Answer]) {
    let host = survey.host;
    let fresh = fresh_sessions(host, &[Context::Terminal]);
    let Some(terminal) = fresh.first() else { return };
    // What cannot be known of it is no news.
    if !terminal.list("PATH").1.is_empty() {
        return;
    }
    let search = SearchPath::in_context(host, terminal);
    let shells = TemporaryShells::of(&host.env);
    for answer in answers.iter_mut().filter(|answer| answer.context == Context::Here) {
        if answer.kind != TargetKind::Command {
            continue;
        }
        let there = search.reach(survey.root(), &answer.target).copies.into_iter().next().map(|copy| copy.path);
        let end = |file: &ByteString| Resolution::links(survey.root(), file).last().clone();
        let here = answer.hops.first().map(|hop| hop.path.clone()).or_else(|| answer.runs.clone());
        if there.as_ref().map(end) == here.as_ref().map(end) {
            continue;
        }
        let known = answer.elsewhere.iter().find(|copy| Some(&copy.start) == there.as_ref());
        let id = match known {
            Some(copy) => copy.id.clone(),
            None => there.as_ref().and_then(|file| survey.ownership_of(&end(file))).map(|owner| owner.id),
        };
        // The directory in which it is found here, as the list has it.
        let temporary = here.and_then(|file| shells.put(&path::parent(&file).into()));
        answer.next_session = Some(NextSession { context: Context::Terminal, path: there, id, temporary });
    }
}
