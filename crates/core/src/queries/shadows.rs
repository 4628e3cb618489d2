//! Which names have several copies, which one wins, and why.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::Serialize;

use super::users::{self, OfUsers};
use super::{Located, locate};
use crate::bytes::ByteString;
use crate::findings::search_path;
use crate::managers::keeps_versions;
use crate::model::{Evidence, Finding, Severity};
use crate::resolve::{Context, How, Reached, Resolution, SearchPath};
use crate::survey::Survey;

/// One name that reaches several copies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Shadow {
    /// What is looked up: `command`.
    pub kind: String,
    /// The name.
    pub name: ByteString,
    /// The context in which it is looked up.
    pub context: Context,
    /// The users for whom it is so; empty for a search path that was given.
    pub users: Vec<ByteString>,
    /// The copy that wins.
    pub winner: Located,
    /// The copies behind it, in order.
    pub hidden: Vec<Located>,
    /// Why the winner wins.
    pub because: Vec<Evidence>,
    /// How much it matters.
    pub severity: Severity,
    /// What that means, in a few words.
    pub meaning: String,
}

impl Shadow {
    /// Orders shadows for a list: the most severe first; then by name.
    #[must_use]
    pub fn by_importance(a: &Self, b: &Self) -> std::cmp::Ordering {
        b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name))
    }
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Shadows {
    /// One per name; what matters most comes first.
    pub shadows: Vec<Shadow>,
    /// Findings about them.
    pub findings: Vec<Finding>,
}

impl Shadows {
    /// One answer of those of several users.
    #[must_use]
    pub fn merged(of_each: impl IntoIterator<Item = Shadows>) -> Self {
        let (mut shadows, mut findings) = (Vec::new(), Vec::new());
        for answer in of_each {
            shadows.extend(answer.shadows);
            for finding in answer.findings {
                if !findings.contains(&finding) {
                    findings.push(finding);
                }
            }
        }
        Shadows { shadows: users::merged(shadows), findings }
    }
}

impl OfUsers for Shadow {
    fn name(&self) -> &ByteString {
        &self.name
    }

    fn users(&mut self) -> &mut Vec<ByteString> {
        &mut self.users
    }

    fn essence(&self) -> Self {
        Shadow { users: Vec::new(), because: Vec::new(), ..self.clone() }
    }
}

/// Names that were asked for: what they reach when it is one copy or none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unshadowed {
    /// The name.
    pub name: ByteString,
    /// Its only copy.
    pub only: Option<ByteString>,
}

/// Every shadowed name of a search path, or those among `names`; and what became of the other `names`.
#[must_use]
pub fn shadows(survey: &Survey<'_>, search: &SearchPath, names: &[ByteString]) -> (Shadows, Vec<Unshadowed>) {
    let root = survey.root();
    let mut unshadowed = Vec::new();
    let ambiguous: Vec<(ByteString, Reached)> =
        if names.is_empty() {
            search.ambiguous(root).into_iter().collect()
        } else {
            let (several, fewer): (Vec<_>, Vec<_>) = names
                .iter()
                .map(|name| (name.clone(), search.reach(root, name)))
                .partition(|(_, reached)| reached.copies.len() > 1);
            unshadowed.extend(fewer.into_iter().map(|(name, reached)| Unshadowed {
                name,
                only: reached.copies.into_iter().next().map(|copy| copy.path),
            }));
            several
        };
    let resolutions: Vec<Vec<Resolution>> = ambiguous
        .iter()
        .map(|(_, reached)| reached.copies.iter().map(|copy| survey.resolution(search, &copy.path)).collect())
        .collect();
    // A shim that starts the next copy does not hide it.
    let (ambiguous, resolutions): (Vec<_>, Vec<_>) = ambiguous
        .into_iter()
        .zip(resolutions)
        .filter_map(|((name, mut reached), resolutions)| {
            let runs = resolutions[0].last().clone();
            let keep: Vec<bool> = (0..resolutions.len()).map(|at| at == 0 || *resolutions[at].last() != runs).collect();
            let mut kept = keep.iter();
            reached.copies.retain(|_| kept.next().copied().unwrap_or(true));
            let resolutions: Vec<Resolution> =
                resolutions.into_iter().zip(keep).filter_map(|(resolution, keep)| keep.then_some(resolution)).collect();
            (resolutions.len() > 1).then_some(((name, reached), resolutions))
        })
        .unzip();
    let every_path = resolutions.iter().flatten().flat_map(Resolution::paths);
    let index = survey.claims(every_path.map(|path| &**path));
    let mut shadows: Vec<Shadow> = ambiguous
        .into_iter()
        .zip(&resolutions)
        .map(|((name, reached), resolutions)| {
            let mut copies: Vec<Located> = reached
                .copies
                .iter()
                .zip(resolutions)
                .map(|(copy, resolution)| locate(survey, &index, &copy.path, resolution))
                .collect();
            let winner = copies.remove(0);
            let (mut severity, mut meaning) = weigh(survey, &winner, &resolutions[0], &copies);
            if let Some(who) = open_place(survey, search, &winner.path) {
                severity = Severity::Error;
                meaning = format!("{who} can write to the directory of the winner; {meaning}");
            }
            Shadow {
                kind: "command".to_owned(),
                name,
                context: search.context,
                users: search.user.iter().cloned().collect(),
                winner,
                hidden: copies,
                because: search.because(&reached),
                severity,
                meaning,
            }
        })
        .collect();
    shadows.sort_by(Shadow::by_importance);
    (Shadows { shadows, findings: Vec::new() }, unshadowed)
}

/// Who else may put a program where this one is.
fn open_place(survey: &Survey<'_>, search: &SearchPath, program: &ByteString) -> Option<String> {
    let named = search.user.as_ref().and_then(|name| survey.host.users.iter().find(|user| user.name == *name));
    let user = named.or(survey.host.default_user())?;
    let dir = survey.root().canonicalize_dir(crate::bytes::path::parent(program));
    search_path::open_to(survey.host, &dir, user).map(|(who, _)| who.to_string())
}

/// A shim, or a version that is kept beside others, is in front because somebody wanted it there.
fn kept_on_purpose(winner: &Located, resolution: &Resolution) -> Option<(Severity, String)> {
    let owner = winner.owner.as_ref().filter(|owner| keeps_versions(owner.manager));
    let version = winner.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    match (resolution.steps.iter().find(|step| step.how == How::Shim), owner) {
        (Some(shim), _) if shim.to.is_none() => Some((Severity::Warning, "a shim that would start nothing".to_owned())),
        (Some(_), Some(owner)) => {
            Some((Severity::Note, format!("{}'s shim starts {}{version}", owner.manager, owner.name)))
        }
        // What lies in a kept version need not be its own.
        (Some(_), None) => match &winner.owner {
            Some(owner) => {
                Some((Severity::Note, format!("a shim starts {}{version} of {}", owner.name, owner.manager)))
            }
            None => Some((Severity::Note, "a shim starts an unowned program".to_owned())),
        },
        (None, Some(owner)) => {
            Some((Severity::Note, format!("{}{version} is kept by {} on purpose", owner.name, owner.manager)))
        }
        (None, None) => None,
    }
}

/// The severity of `winner` hiding the others.
fn weigh(survey: &Survey<'_>, winner: &Located, resolution: &Resolution, hidden: &[Located]) -> (Severity, String) {
    if let Some(weight) = kept_on_purpose(winner, resolution) {
        return weight;
    }
    let owned = hidden.iter().find_map(|copy| copy.owner.as_ref());
    match (&winner.owner, owned) {
        (None, Some(owner)) => {
            let says = format!("an unowned program runs instead of {}'s {}", owner.manager, owner.name);
            (Severity::Warning, says)
        }
        (None, None) => (Severity::Note, "all copies are unowned".to_owned()),
        (Some(_), None) => (Severity::Note, "the hidden copy is unowned".to_owned()),
        (Some(wins), Some(behind)) if wins.id == behind.id => {
            (Severity::Note, "both copies belong to the same package".to_owned())
        }
        (Some(wins), Some(behind)) => {
            // Only versions of one manager can be told older from newer by its own rules.
            let order = match (&wins.version, &behind.version) {
                (Some(a), Some(b)) if wins.manager == behind.manager && wins.name == behind.name => {
                    let of_manager = survey.installations().iter().find(|held| held.location().manager == wins.manager);
                    of_manager.map(|held| held.scheme().compare(a, b))
                }
                _ => None,
            };
            match order {
                Some(Ordering::Less) => (Severity::Warning, "the copy that runs is the older one".to_owned()),
                Some(Ordering::Greater) => (Severity::Note, "the copy that runs is the newer one".to_owned()),
                // Two managers keep the same software, each up to date by its own measure.
                _ if wins.name == behind.name => {
                    (Severity::Note, format!("{}'s copy runs instead of {}'s", wins.manager, behind.manager))
                }
                _ => (Severity::Warning, format!("{} runs instead of {}", wins.name, behind.name)),
            }
        }
    }
}
