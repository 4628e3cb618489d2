//! From what was found and what is claimed to the verdict.

use super::look::Found;
use super::{Answer, Elsewhere, Hop, Interpreter, Target, TargetKind, Verdict};
use crate::answers::{Located, claims_on_last, libraries, locate};
use crate::claims::{ClaimIndex, FoundClaim};
use crate::digests::Content;
use crate::findings::{programs, words};
use crate::model::{Claimant, Evidence, Finding, Owner};
use crate::root::Kind;
use crate::search::libraries::Loader;
use crate::search::{End, How, SearchPath, Step, Trail, hints};
use crate::survey::Survey;
use crate::text::{Text, path};

/// The most of a file, in bytes, that is digested to tell whose it is.
const MOST_DIGESTED: u64 = 1 << 30;

/// A judge of one survey's targets.
pub(super) struct Judge<'a, 's> {
    pub(super) survey: &'a Survey<'s>,
    pub(super) search: &'a SearchPath,
    pub(super) index: &'a ClaimIndex,
    pub(super) loader: Option<&'a Loader<'s>>,
}

impl Judge<'_, '_> {
    pub(super) fn answer(&self, target: &Target, found: &Found) -> Answer {
        let mut answer = self.of_found(target, found);
        if let (Some(loader), Some(_), Some(last)) = (self.loader, &answer.runs, answer.hops.last()) {
            let file =
                answer.interpreter.as_ref().and_then(|script| script.runs.clone()).unwrap_or_else(|| last.path.clone());
            answer.findings.extend(libraries::missing(loader, &file, None));
        }
        if matches!(found, Found::Command { .. } | Found::Other { .. }) && target.kind != Some(TargetKind::Package) {
            answer.findings.extend(self.dangling(&target.name));
            answer.taken_for = self.search.words.as_ref().and_then(|words| words.take(&target.name));
            if let (Some(taken), Some(runs)) = (&answer.taken_for, &answer.runs) {
                answer.findings.extend(words::hides(&target.name, runs, taken, self.search.context));
            }
        }
        answer
    }

    /// Links of this name in the folders of the search path that lead nowhere.
    fn dangling(&self, name: &[u8]) -> Vec<Finding> {
        let root = self.survey.root();
        if name.contains(&b'/') {
            return Vec::new();
        }
        let links = self.search.entries.iter().map(|entry| path::join(&entry.folder, name));
        let dangling = links.filter(|link| {
            let is_link = root.entry(link).is_ok_and(|meta| meta.kind == Kind::Link);
            is_link && root.target(link).is_err_and(|error| error.is_missing())
        });
        dangling.map(|link| programs::dangling_link(&link, Trail::links(root, &link).last())).collect()
    }

    fn of_found(&self, target: &Target, found: &Found) -> Answer {
        match found {
            Found::Command { reached, trails, elsewhere } => {
                let mut answer = self.of_trail(target, TargetKind::Command, &trails[0]);
                answer.runs = Some(reached.copies[0].path.clone());
                answer.hidden = reached
                    .copies
                    .iter()
                    .zip(trails)
                    .skip(1)
                    // A shim that starts the next copy does not hide it.
                    .filter(|(_, trail)| trail.last() != trails[0].last())
                    .map(|(copy, trail)| self.locate(&copy.path, trail))
                    .collect();
                answer.elsewhere = self.elsewhere(target, elsewhere);
                // A copy that the search path reaches is nowhere else.
                let owners = answer.owner.iter().chain(answer.hidden.iter().filter_map(|copy| copy.owner.as_ref()));
                let known: Vec<Text> = owners.map(|owner| owner.id.clone()).collect();
                answer.elsewhere.retain(|copy| copy.id.as_ref().is_none_or(|id| !known.contains(id)));
                answer.because = self.search.because(reached);
                answer.evidence.extend(reached.passed_over.iter().cloned());
                answer
            }
            Found::Path { trail, reached, winner } => {
                let mut answer = self.of_trail(target, target.kind.unwrap_or(TargetKind::Path), trail);
                if let End::There(meta) = trail.end
                    && self.survey.root().can_execute(trail.last(), meta)
                {
                    answer.runs = Some(trail.steps[0].path.clone());
                    if let (Some(copy), Some(winner)) = (reached.copies.first(), winner)
                        && copy.meta.identity != meta.identity
                    {
                        answer.hidden_by = Some(self.locate(&copy.path, winner));
                        answer.because = self.search.because(reached);
                    }
                }
                answer
            }
            Found::Launcher { trail, app, command } => {
                let mut answer = self.of_trail(target, TargetKind::Launcher, trail);
                answer.evidence.extend(command.clone());
                if let Some(app) = app {
                    answer.verdict = Verdict::Owned;
                    answer.owners = vec![app.clone()];
                    answer.owner = Some(app.clone());
                }
                answer.runs = trail.steps.iter().find(|step| step.how == How::Wrapper).and_then(|step| step.to.clone());
                answer
            }
            Found::Other { .. } if matches!(target.kind, Some(TargetKind::Library | TargetKind::Module)) => {
                self.blank(target, target.kind.unwrap_or(TargetKind::Path))
            }
            Found::Other { elsewhere } => self.of_package(target, elsewhere),
        }
    }

    fn blank(&self, target: &Target, kind: TargetKind) -> Answer {
        Answer {
            target: target.given.clone(),
            kind,
            context: self.search.context,
            verdict: Verdict::NotFound,
            certain: true,
            runs: None,
            hops: Vec::new(),
            interpreter: None,
            owner: None,
            owners: Vec::new(),
            version_hint: None,
            taken_for: None,
            hidden: Vec::new(),
            hidden_by: None,
            elsewhere: Vec::new(),
            because: Vec::new(),
            remedies: Vec::new(),
            findings: Vec::new(),
            evidence: Vec::new(),
        }
    }

    fn of_package(&self, target: &Target, elsewhere: &[Trail]) -> Answer {
        let named = match target.kind {
            Some(TargetKind::Command | TargetKind::Launcher) => Vec::new(),
            _ => self.survey.named(&target.name),
        };
        let kind = match target.kind {
            Some(kind) => kind,
            None if named.is_empty() => TargetKind::Command,
            None => TargetKind::Package,
        };
        let mut answer = self.blank(target, kind);
        answer.elsewhere = self.elsewhere(target, elsewhere);
        answer.owners = named.iter().map(|(held, number)| held.owner(*number)).collect();
        if let Some((held, number)) = named.first() {
            answer.verdict = Verdict::Owned;
            answer.owner = answer.owners.first().cloned();
            answer.evidence = held.package_evidence(*number);
            answer.evidence.extend(held.remarks(*number, b""));
            answer.remedies = held.remedies(*number);
        }
        answer
    }

    fn of_trail(&self, target: &Target, kind: TargetKind, trail: &Trail) -> Answer {
        let mut answer = self.blank(target, kind);
        answer.hops = self.hops(trail, &mut answer.evidence);
        answer.evidence.extend(trail.why.iter().cloned());
        answer.interpreter = self.interpreter(trail, &mut answer.evidence);
        let mut subject = trail.last();
        let mut claims = claims_on_last(self.survey, self.index, trail);
        // What a wrapper starts can be out of sight, as an image is that is not mounted; it is its app's all the same.
        let is_wrapped = trail.steps.iter().any(|step| step.how == How::Wrapper);
        if trail.end == End::Nothing && !is_wrapped {
            claims.retain(|claim| !claim.on_tree);
        }
        match &trail.end {
            End::There(_) => answer.verdict = Verdict::Unowned,
            End::Unknown(error) => answer.evidence.push(Evidence::at(subject.clone(), "look-up", error.to_string())),
            End::Circle => {
                // A link that goes round is a thing to own; a path through one leads to nothing.
                answer.verdict = if trail.steps.len() > 1 { Verdict::Unowned } else { Verdict::NotFound };
                answer.evidence.push(Evidence::at(subject.clone(), "link", "its links lead round in a circle"));
            }
            End::Nothing if !claims.is_empty() => {
                answer.evidence.push(Evidence::at(subject.clone(), "look-up", "recorded, but not there"));
            }
            End::Nothing if trail.steps.iter().any(|step| step.how == How::Link && step.through.is_none()) => {
                // Nothing runs; the question is then who placed the link.
                answer.verdict = Verdict::Unowned;
                answer.evidence.push(Evidence::at(subject.clone(), "look-up", "the link leads to nothing"));
                subject = &trail.steps[trail.steps.len() - 2].path;
                claims = self.survey.ownership(self.index, subject).packages;
            }
            End::Nothing => {}
        }
        self.decide(&mut answer, subject, &claims, trail);
        let program = programs::Program { trail, owner: answer.owner.as_ref(), remedies: &answer.remedies };
        answer.findings = programs::of(self.survey.root(), program);
        answer
    }

    fn decide(&self, answer: &mut Answer, subject: &Text, claims: &[FoundClaim], trail: &Trail) {
        answer.owners = claims.iter().filter_map(|claim| self.survey.owner(claim)).collect();
        for claim in claims {
            answer.evidence.extend(self.survey.claim_evidence(claim));
        }
        let Some(first) = answer.owners.first().cloned() else {
            if let End::There(meta) = trail.end
                && meta.kind == Kind::File
                && let Some(hint) = hints::of_file(self.survey.root(), subject)
            {
                answer.version_hint = Some(hint.version);
                answer.evidence.push(hint.evidence);
            }
            return;
        };
        // Instances of one package for several architectures share files on purpose.
        // So do installations of one store path in several profiles.
        let alike = |other: &Owner| (other.manager, &other.name) == (first.manager, &first.name);
        let chosen = if answer.owners.iter().all(alike) {
            answer.verdict = Verdict::Owned;
            Some(0)
        } else {
            answer.verdict = Verdict::Several;
            self.whose_digest_fits(claims, subject, trail)
        };
        if let Some(chosen) = chosen {
            answer.owner = Some(answer.owners[chosen].clone());
            if let Claimant::Package(number) = claims[chosen].claimant {
                let holder = self.survey.holder(&claims[chosen]);
                answer.remedies = holder.remedies(number);
                if answer.verdict == Verdict::Several {
                    // Its files are gone or another's once the one that is there is removed.
                    let others = claims.iter().enumerate().filter(|(place, _)| *place != chosen);
                    answer.remedies.extend(others.filter_map(|(_, claim)| self.survey.restore(claim)));
                }
                // Only what a search found says how it came onto the search path.
                let found: &[u8] = if answer.kind == TargetKind::Command { &trail.steps[0].path } else { b"" };
                answer.evidence.extend(holder.remarks(number, found));
            }
        }
    }

    /// Which of several claims is on the file that is really there.
    fn whose_digest_fits(&self, claims: &[FoundClaim], subject: &Text, trail: &Trail) -> Option<usize> {
        match trail.end {
            End::There(meta) if meta.kind == Kind::File => {}
            _ => return None,
        }
        let recorded = claims.iter().map(|claim| match claim.claimant {
            Claimant::Package(number) => self.survey.holder(claim).digest(number, subject),
            Claimant::Group(_) => None,
        });
        let mut content = Content::of(self.survey.root(), subject, MOST_DIGESTED);
        recorded.into_iter().position(|digest| digest.is_some_and(|digest| content.fits(&digest) == Some(true)))
    }

    fn hops(&self, trail: &Trail, evidence: &mut Vec<Evidence>) -> Vec<Hop> {
        let last = trail.steps.len() - 1;
        let hop = |(number, step): (usize, &Step)| {
            let settled = self.survey.root().settle(&step.path);
            let ownership = self.survey.ownership(self.index, &settled);
            // A group places links only; where a file has taken the link's place, it is not the group's.
            let is_link = step.how == How::Link && number < last;
            let group = ownership.group.filter(|_| is_link && ownership.packages.is_empty());
            if let Some(group) = &group {
                // One line names the group; a second link of the same group needs no more.
                let of_link = self.survey.claim_evidence(group);
                let of_choice = match group.claimant {
                    Claimant::Group(number) => self.survey.holder(group).group(number).1,
                    Claimant::Package(_) => Vec::new(),
                };
                let is_told = of_choice.iter().any(|choice| evidence.contains(choice));
                if !is_told {
                    evidence.extend(of_link.into_iter().chain(of_choice));
                }
            }
            let by = group.as_ref().or(ownership.packages.first());
            let owner = by.map(|claim| self.survey.claimant_name(claim));
            Hop { path: step.path.clone(), to: step.to.clone(), how: step.how, through: step.through.clone(), owner }
        };
        trail.steps.iter().enumerate().map(hop).collect()
    }

    fn interpreter(&self, trail: &Trail, evidence: &mut Vec<Evidence>) -> Option<Interpreter> {
        let script = trail.script.as_ref()?;
        evidence.push(Evidence::line(trail.last().clone(), 1, script.line.to_string()));
        let mut interpreter = Interpreter { line: script.line.clone(), path: None, runs: None, owner: None };
        if let Some(behind) = &script.interpreter {
            interpreter.path = Some(behind.steps[0].path.clone());
            if matches!(behind.end, End::There(_)) {
                interpreter.runs = Some(behind.last().clone());
            }
            interpreter.owner = self.locate_owner(behind);
        }
        if interpreter.runs.is_none() {
            evidence.push(Evidence::line(trail.last().clone(), 1, "its interpreter is not there"));
        }
        Some(interpreter)
    }

    fn locate(&self, path: &Text, trail: &Trail) -> Located {
        locate(self.survey, self.index, path, trail)
    }

    fn locate_owner(&self, trail: &Trail) -> Option<Owner> {
        claims_on_last(self.survey, self.index, trail).first().and_then(|claim| self.survey.owner(claim))
    }

    fn elsewhere(&self, target: &Target, trails: &[Trail]) -> Vec<Elsewhere> {
        let found = trails.iter().map(|trail| Elsewhere {
            id: self.locate_owner(trail).map(|owner| owner.id),
            start: trail.steps[0].path.clone(),
        });
        let apps = self.survey.holdings().iter().flat_map(|held| {
            let started = held.starts_as(&target.name).into_iter();
            started.map(|(number, start)| Elsewhere { id: Some(held.owner(number).id), start })
        });
        found.chain(apps).collect()
    }
}
