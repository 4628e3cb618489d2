//! This session against a fresh one: what the environment of this process has, and what a new login or a new terminal
//! window of the same user would have.

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::Evidence;
use crate::resolve::contexts::{Overrides, resolve_contexts};
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

/// The fresh sessions of the user whose process this is: a login, and a terminal window. None where the process is not
/// one of a session of that user's: offline, or started by sudo.
#[must_use]
pub fn fresh_sessions(host: &Host) -> Vec<ResolvedContext> {
    let is_sudo = host.env.variables.iter().any(|(name, _)| **name == *b"SUDO_UID");
    let user: Option<&User> = host.users.iter().find(|user| host.env.uid == Some(user.uid));
    match user.filter(|_| host.root.is_live() && !is_sudo && !host.env.variables.is_empty()) {
        Some(user) => resolve_contexts(host, &[Context::Login, Context::Terminal], user, &Overrides::default()),
        None => Vec::new(),
    }
}

/// Compares a list of directories of this process with that of fresh sessions.
#[must_use]
pub fn difference(
    host: &Host,
    here: &ResolvedContext,
    fresh: &[ResolvedContext],
    variable: &str,
) -> Option<SessionDifference> {
    if fresh.is_empty() || here.context != Context::Here {
        return None;
    }
    let place = |dir: &ByteString| host.root.canonicalize_dir(&path::absolute(dir, &host.env.dir));
    let own: Vec<ByteString> = here.list(variable).0.iter().map(|one| place(&one.dir)).collect();
    let mut difference = SessionDifference { certain: true, ..SessionDifference::default() };
    let mut known: Vec<ByteString> = Vec::new();
    for session in fresh {
        let (listed, unknown) = session.list(variable);
        difference.certain &= unknown.is_empty();
        for one in listed {
            let canonical = place(&one.dir);
            if !own.contains(&canonical) {
                match difference.after_login.iter_mut().find(|newer| place(&newer.directory) == canonical) {
                    Some(newer) if newer.contexts.contains(&session.context) => {}
                    Some(newer) => newer.contexts.push(session.context),
                    None => difference.after_login.push(Newer {
                        directory: one.dir,
                        contexts: vec![session.context],
                        because: one.because,
                    }),
                }
            }
            known.push(canonical);
        }
    }
    let mut told: Vec<ByteString> = Vec::new();
    for one in here.list(variable).0 {
        let canonical = place(&one.dir);
        if !known.contains(&canonical) && !told.contains(&canonical) {
            told.push(canonical);
            difference.only_here.push(one.dir);
        }
    }
    Some(difference)
}

/// Tells of each command that was looked up in this session whether a fresh terminal starts something else.
pub fn tell_next_session(survey: &Survey<'_>, answers: &mut [Answer], fresh: &[ResolvedContext]) {
    let host = survey.host;
    let Some(terminal) = fresh.iter().find(|session| session.context == Context::Terminal) else { return };
    // What cannot be known of it is no news.
    if !terminal.list("PATH").1.is_empty() {
        return;
    }
    let search = SearchPath::in_context(host, terminal);
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
        answer.next_session = Some(NextSession { context: Context::Terminal, path: there, id });
    }
}
