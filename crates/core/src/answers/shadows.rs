//! Which names have several copies, which one wins, and why.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Located, locate};
use crate::findings::folders;
use crate::managers::keeps_versions;
use crate::model::{Evidence, Finding, Severity};
use crate::search::{Context, How, Reached, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::Text;

/// One name that reaches several copies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Shadow {
    /// What is looked up: `command`.
    pub kind: String,
    /// The name.
    pub name: Text,
    /// The situation in which it is looked up.
    pub context: Context,
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

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Shadows {
    /// One per name; what matters most comes first.
    pub shadows: Vec<Shadow>,
    /// What a maintainer should know of them.
    pub findings: Vec<Finding>,
}

/// Names that were asked for: what they reach when it is one copy or none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unshadowed {
    /// The name.
    pub name: Text,
    /// Its only copy.
    pub only: Option<Text>,
}

/// Every shadowed name of a search path, or those among `names`; and what became of the other `names`.
#[must_use]
pub fn shadows(survey: &Survey<'_>, search: &SearchPath, names: &[Text]) -> (Shadows, Vec<Unshadowed>) {
    let root = survey.root();
    let mut unshadowed = Vec::new();
    let crowded: Vec<(Text, Reached)> =
        if names.is_empty() {
            search.crowded(root).into_iter().collect()
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
    let trails: Vec<Vec<Trail>> = crowded
        .iter()
        .map(|(_, reached)| reached.copies.iter().map(|copy| survey.trail(search, &copy.path)).collect())
        .collect();
    // A shim that starts the next copy does not hide it.
    let (crowded, trails): (Vec<_>, Vec<_>) = crowded
        .into_iter()
        .zip(trails)
        .filter_map(|((name, mut reached), trails)| {
            let runs = trails[0].last().clone();
            let keep: Vec<bool> = (0..trails.len()).map(|at| at == 0 || *trails[at].last() != runs).collect();
            let mut kept = keep.iter();
            reached.copies.retain(|_| kept.next().copied().unwrap_or(true));
            let trails: Vec<Trail> =
                trails.into_iter().zip(keep).filter_map(|(trail, keep)| keep.then_some(trail)).collect();
            (trails.len() > 1).then_some(((name, reached), trails))
        })
        .unzip();
    let every_path = trails.iter().flatten().flat_map(Trail::paths);
    let index = survey.claims(every_path.map(|path| &**path));
    let mut shadows: Vec<Shadow> = crowded
        .into_iter()
        .zip(&trails)
        .map(|((name, reached), trails)| {
            let mut copies: Vec<Located> = reached
                .copies
                .iter()
                .zip(trails)
                .map(|(copy, trail)| locate(survey, &index, &copy.path, trail))
                .collect();
            let winner = copies.remove(0);
            let (mut severity, mut meaning) = weigh(survey, &winner, &trails[0], &copies);
            if let Some(who) = open_place(survey, &winner.path) {
                severity = Severity::Error;
                meaning = format!("{who} may write where the winner is; {meaning}");
            }
            Shadow {
                kind: "command".to_owned(),
                name,
                context: search.context,
                winner,
                hidden: copies,
                because: search.because(&reached),
                severity,
                meaning,
            }
        })
        .collect();
    shadows.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name)));
    (Shadows { shadows, findings: Vec::new() }, unshadowed)
}

/// Who else may put a program where this one is.
fn open_place(survey: &Survey<'_>, program: &Text) -> Option<String> {
    let person = survey.scene.usual_person()?;
    let folder = survey.root().settle_folder(crate::text::path::folder(program));
    folders::open_to(survey.scene, &folder, person).map(|(who, _)| who)
}

/// A shim, or a version that is kept beside others, is in front because somebody wanted it there.
fn kept_on_purpose(winner: &Located, trail: &Trail) -> Option<(Severity, String)> {
    let owner = winner.owner.as_ref().filter(|owner| keeps_versions(owner.manager));
    let version = winner.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    match (trail.steps.iter().find(|step| step.how == How::Shim), owner) {
        (Some(shim), _) if shim.to.is_none() => {
            Some((Severity::Warning, "a shim that would start nothing here".to_owned()))
        }
        (Some(_), Some(owner)) => {
            Some((Severity::Note, format!("{}'s shim starts {}{version} here", owner.manager, owner.name)))
        }
        // What lies in a kept version need not be its own.
        (Some(_), None) => match &winner.owner {
            Some(owner) => {
                Some((Severity::Note, format!("a shim starts {}{version} of {} here", owner.name, owner.manager)))
            }
            None => Some((Severity::Note, "a shim starts a program that no manager claims".to_owned())),
        },
        (None, Some(owner)) => {
            Some((Severity::Note, format!("{}{version} is kept by {} on purpose", owner.name, owner.manager)))
        }
        (None, None) => None,
    }
}

/// What is at stake when `winner` hides the others.
fn weigh(survey: &Survey<'_>, winner: &Located, trail: &Trail, hidden: &[Located]) -> (Severity, String) {
    if let Some(weight) = kept_on_purpose(winner, trail) {
        return weight;
    }
    let owned = hidden.iter().find_map(|copy| copy.owner.as_ref());
    match (&winner.owner, owned) {
        (None, Some(owner)) => {
            let says = format!("a program without an owner runs in place of {}'s", owner.name);
            (Severity::Warning, says)
        }
        (None, None) => (Severity::Note, "no manager claims any of the copies".to_owned()),
        (Some(_), None) => (Severity::Note, "the copy behind has no owner".to_owned()),
        (Some(wins), Some(behind)) if wins.id == behind.id => {
            (Severity::Note, "both copies belong to one package".to_owned())
        }
        (Some(wins), Some(behind)) => {
            // Only versions of one manager can be told older from newer by its own rules.
            let order = match (&wins.version, &behind.version) {
                (Some(a), Some(b)) if wins.manager == behind.manager && wins.name == behind.name => {
                    let of_manager = survey.holdings().iter().find(|held| held.installation().manager == wins.manager);
                    of_manager.map(|held| held.order(a, b))
                }
                _ => None,
            };
            match order {
                Some(Ordering::Less) => (Severity::Warning, "the copy that runs is the older one".to_owned()),
                Some(Ordering::Greater) => (Severity::Note, "the copy that runs is the newer one".to_owned()),
                // Two managers keep the same software, each up to date by its own measure.
                _ if wins.name == behind.name => {
                    (Severity::Note, format!("{}'s copy runs in place of {}'s", wins.manager, behind.manager))
                }
                _ => (Severity::Warning, format!("{} runs in place of {}", wins.name, behind.name)),
            }
        }
    }
}
