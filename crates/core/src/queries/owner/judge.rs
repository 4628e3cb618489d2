//! From what was found and what is claimed to the verdict.

use super::look::Found;
use super::{Answer, Elsewhere, Hop, Interpreter, Target, TargetKind, Verdict};
use crate::backend::Installation;
use crate::bytes::{ByteString, path};
use crate::digests::Content;
use crate::findings::{programs, words};
use crate::fs::Kind;
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, Evidence, Finding, Owner, Remedy, RemedyKind};
use crate::queries::take_out::{is_among_distributions, take_out};
use crate::queries::{Located, advice, claims_on_last, libraries, locate};
use crate::resolve::libraries::Loader;
use crate::resolve::{End, How, Resolution, SearchPath, Step, hints};
use crate::survey::Survey;

/// The most of a file, in bytes, that is digested to tell whose it is.
const MAX_DIGESTED: u64 = 1 << 30;

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

    /// Links of this name in the directories of the search path that lead nowhere.
    fn dangling(&self, name: &[u8]) -> Vec<Finding> {
        let root = self.survey.root();
        if name.contains(&b'/') {
            return Vec::new();
        }
        let links = self.search.entries.iter().map(|entry| path::join(&entry.dir, name));
        let dangling = links.filter(|link| {
            let is_link = root.entry(link).is_ok_and(|meta| meta.kind == Kind::Link);
            is_link && root.target(link).is_err_and(|error| error.is_missing())
        });
        dangling
            .map(|link| {
                let remedy = advice::mend_link(self.survey, &link);
                programs::dangling_link(&link, Resolution::links(root, &link).last(), remedy)
            })
            .collect()
    }

    fn of_found(&self, target: &Target, found: &Found) -> Answer {
        match found {
            Found::Command { reached, resolutions, elsewhere } => {
                let mut answer = self.of_resolution(target, TargetKind::Command, &resolutions[0]);
                answer.runs = Some(reached.copies[0].path.clone());
                answer.hidden = reached
                    .copies
                    .iter()
                    .zip(resolutions)
                    .skip(1)
                    // A shim that starts the next copy does not hide it.
                    .filter(|(_, resolution)| resolution.last() != resolutions[0].last())
                    .map(|(copy, resolution)| self.locate(&copy.path, resolution))
                    .collect();
                answer.elsewhere = self.elsewhere(target, elsewhere);
                // A copy that the search path reaches is nowhere else.
                let owners = answer.owner.iter().chain(answer.hidden.iter().filter_map(|copy| copy.owner.as_ref()));
                let known: Vec<ByteString> = owners.map(|owner| owner.id.clone()).collect();
                answer.elsewhere.retain(|copy| copy.id.as_ref().is_none_or(|id| !known.contains(id)));
                answer.because = self.search.because(reached);
                answer.evidence.extend(reached.skipped.iter().cloned());
                answer
            }
            Found::Path { resolution, reached, winner } => {
                let mut answer = self.of_resolution(target, target.kind.unwrap_or(TargetKind::Path), resolution);
                if let End::There(meta) = resolution.end
                    && self.survey.root().can_execute(resolution.last(), meta)
                {
                    answer.runs = Some(resolution.steps[0].path.clone());
                    if let (Some(copy), Some(winner)) = (reached.copies.first(), winner)
                        && copy.meta.identity != meta.identity
                    {
                        answer.hidden_by = Some(self.locate(&copy.path, winner));
                        answer.because = self.search.because(reached);
                    }
                }
                answer
            }
            Found::Launcher { resolution, app, command } => {
                let mut answer = self.of_resolution(target, TargetKind::Launcher, resolution);
                answer.evidence.extend(command.clone());
                if let Some(app) = app {
                    answer.verdict = Verdict::Owned;
                    answer.owners = vec![app.clone()];
                    answer.owner = Some(app.clone());
                }
                answer.runs =
                    resolution.steps.iter().find(|step| step.how == How::Wrapper).and_then(|step| step.to.clone());
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
            users: self.search.user.iter().cloned().collect(),
            verdict: Verdict::NotFound,
            certain: true,
            runs: None,
            hops: Vec::new(),
            interpreter: None,
            owner: None,
            intact: None,
            owners: Vec::new(),
            version_hint: None,
            version_is_probable: false,
            taken_for: None,
            hidden: Vec::new(),
            hidden_by: None,
            elsewhere: Vec::new(),
            possible: Vec::new(),
            next_session: None,
            because: Vec::new(),
            upkeep: None,
            remedies: Vec::new(),
            findings: Vec::new(),
            evidence: Vec::new(),
        }
    }

    /// The manager's own commands for a package; with those that remove it, what would go or break with it.
    fn ways(&self, held: &dyn Installation, number: u32) -> Vec<Remedy> {
        let mut ways = self.survey.remedies_within(held, number);
        // A package among the distribution's own is taken out of it file by file.
        if !ways.iter().any(|way| way.kind == RemedyKind::Remove) && is_among_distributions(held, number) {
            ways.extend(take_out(self.survey, held, &[number]));
        }
        // Many targets are asked about for their owners alone.
        let Some(relations) = held.relations().filter(|_| self.loader.is_some()) else { return ways };
        for way in ways.iter_mut().filter(|way| way.kind == RemedyKind::Remove) {
            let lost = relations.dependents(&[number]).unwrap_or_default();
            let names: Vec<String> = lost.iter().map(|(other, _)| held.owner(*other).full_name().to_string()).collect();
            if !names.is_empty() {
                let more = if names.len() > 3 { format!(" and {} more", names.len() - 3) } else { String::new() };
                way.loses.push(format!("what needs it: {}{more}", names[..names.len().min(3)].join(", ")));
            }
        }
        ways
    }

    fn of_package(&self, target: &Target, elsewhere: &[Resolution]) -> Answer {
        let named = match target.kind {
            Some(TargetKind::Command | TargetKind::Launcher) => Vec::new(),
            _ => self.survey.by_name_or_id(&target.name),
        };
        let named: Vec<(&dyn Installation, u32)> = named
            .into_iter()
            .map(|(holder, number)| (&*self.survey.installations()[usize::from(holder)], number))
            .collect();
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
            answer
                .evidence
                .extend(held.launching().map_or_else(Vec::new, |launching| launching.program_notes(*number, b"")));
            answer.remedies = self.ways(*held, *number);
        }
        answer
    }

    fn of_resolution(&self, target: &Target, kind: TargetKind, resolution: &Resolution) -> Answer {
        let mut answer = self.blank(target, kind);
        answer.hops = self.hops(resolution, &mut answer.evidence);
        answer.evidence.extend(resolution.why.iter().cloned());
        answer.interpreter = self.interpreter(resolution, &mut answer.evidence);
        let mut subject = resolution.last();
        let mut claims = claims_on_last(self.survey, self.index, resolution);
        // What a wrapper starts can be out of sight, as an image is that is not mounted; it is its app's all the same.
        let is_wrapped = resolution.steps.iter().any(|step| step.how == How::Wrapper);
        if resolution.end == End::Nothing && !is_wrapped {
            claims.retain(|claim| !claim.on_tree);
        }
        match &resolution.end {
            End::There(_) => answer.verdict = Verdict::Unowned,
            End::Unknown(error) => answer.evidence.push(Evidence::at(subject.clone(), "lookup", error.to_string())),
            End::Circle => {
                // A link that goes round is a thing to own; a path through one leads to nothing.
                answer.verdict = if resolution.steps.len() > 1 { Verdict::Unowned } else { Verdict::NotFound };
                answer.evidence.push(Evidence::at(subject.clone(), "link", "too many levels of symbolic links"));
            }
            End::Nothing if !claims.is_empty() => {
                answer.evidence.push(Evidence::at(subject.clone(), "lookup", "recorded, but does not exist"));
            }
            End::Nothing if resolution.steps.iter().any(|step| step.how == How::Link && step.through.is_none()) => {
                // Nothing runs; the question is then who placed the link.
                answer.verdict = Verdict::Unowned;
                answer.evidence.push(Evidence::at(subject.clone(), "lookup", "the link points to a missing file"));
                subject = &resolution.steps[resolution.steps.len() - 2].path;
                claims = self.survey.ownership(self.index, subject).packages;
            }
            End::Nothing => {}
        }
        self.decide(&mut answer, subject, &claims, resolution);
        let program = programs::Program {
            resolution,
            owner: answer.owner.as_ref(),
            remedies: &answer.remedies,
            mend_link: &|link| advice::mend_link(self.survey, link),
        };
        answer.findings = programs::of(self.survey.host, program);
        answer
    }

    fn decide(&self, answer: &mut Answer, subject: &ByteString, claims: &[FoundClaim], resolution: &Resolution) {
        answer.owners = claims.iter().filter_map(|claim| self.survey.owner(claim)).collect();
        for claim in claims {
            answer.evidence.extend(self.survey.claim_evidence(claim));
        }
        let Some(first) = answer.owners.first().cloned() else {
            if let End::There(meta) = resolution.end
                && meta.kind == Kind::File
                && let Some(hint) = hints::of_file(self.survey.root(), subject)
                    .or_else(|| hints::probable(&hints::Archives::new(self.survey.host), subject))
            {
                answer.version_hint = Some(hint.version);
                answer.version_is_probable = hint.is_probable;
                answer.evidence.push(hint.evidence);
            }
            answer.evidence.extend(self.filled_by(subject));
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
            self.whose_digest_fits(claims, subject, resolution)
        };
        if let Some(chosen) = chosen {
            answer.owner = Some(answer.owners[chosen].clone());
            if let Claimant::Package(number) = claims[chosen].claimant {
                let holder = self.survey.holder(&claims[chosen]);
                answer.remedies = self.ways(holder, number);
                self.compare(answer, subject, &claims[chosen], number, resolution);
                if answer.verdict == Verdict::Several {
                    // Its files are gone or another's once the one that is there is removed.
                    let others = claims.iter().enumerate().filter(|(place, _)| *place != chosen);
                    answer.remedies.extend(others.filter_map(|(_, claim)| self.survey.restore(claim)));
                }
                // Only what a search found says how it came onto the search path.
                let found: &[u8] = if answer.kind == TargetKind::Command { &resolution.steps[0].path } else { b"" };
                answer.evidence.extend(
                    holder.launching().map_or_else(Vec::new, |launching| launching.program_notes(number, found)),
                );
            }
        }
    }

    /// The managers that fill the directory of a file which none of them records. A directory that all share
    /// tells nothing.
    fn filled_by(&self, subject: &ByteString) -> Vec<Evidence> {
        let dir = ByteString::from(path::parent(subject));
        let homes = self.survey.host.users.iter().map(|user| &user.home);
        let mut shared = homes.flat_map(|home| [&b".local/bin"[..], b"bin"].map(|below| path::join(home, below)));
        if [&b"/usr/local"[..], b"/usr", b"/"].contains(&path::parent(&dir)) || shared.any(|one| one == dir) {
            return Vec::new();
        }
        let filled = self
            .survey
            .installations()
            .iter()
            .filter(|held| held.launching().is_some_and(|launching| launching.program_dirs().contains(&dir)));
        let mut managers: Vec<_> = filled.map(|held| held.location().manager).collect();
        managers.dedup();
        let says = |manager| format!("{manager} puts programs there, and has no record of this one");
        managers.into_iter().map(|manager| Evidence::directory(dir.clone(), says(manager))).collect()
    }

    /// Which of several claims is on the file that is really there.
    fn whose_digest_fits(&self, claims: &[FoundClaim], subject: &ByteString, resolution: &Resolution) -> Option<usize> {
        match resolution.end {
            End::There(meta) if meta.kind == Kind::File => {}
            _ => return None,
        }
        let recorded = claims.iter().map(|claim| match claim.claimant {
            Claimant::Package(number) => self.survey.recorded_digest(claim, number, subject),
            Claimant::Group(_) => None,
        });
        let mut content = Content::of(self.survey.root(), subject, MAX_DIGESTED);
        recorded.into_iter().position(|digest| digest.is_some_and(|digest| content.fits(&digest) == Some(true)))
    }

    fn hops(&self, resolution: &Resolution, evidence: &mut Vec<Evidence>) -> Vec<Hop> {
        let last = resolution.steps.len() - 1;
        let hop = |(number, step): (usize, &Step)| {
            let canonical = self.survey.root().canonicalize(&step.path);
            let ownership = self.survey.ownership(self.index, &canonical);
            // A group places links only; where a file has taken the link's place, it is not the group's.
            let is_link = step.how == How::Link && number < last;
            let group = ownership.group.filter(|_| is_link && ownership.packages.is_empty());
            if let Some(group) = &group {
                // One line names the group; a second link of the same group needs no more.
                let of_link = self.survey.claim_evidence(group);
                let of_choice = match group.claimant {
                    Claimant::Group(number) => {
                        let files = self.survey.holder(group).file_index();
                        files.and_then(|files| files.group(number)).map(|(_, says)| says).unwrap_or_default()
                    }
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
        resolution.steps.iter().enumerate().map(hop).collect()
    }

    fn interpreter(&self, resolution: &Resolution, evidence: &mut Vec<Evidence>) -> Option<Interpreter> {
        let script = resolution.script.as_ref()?;
        evidence.push(Evidence::line(resolution.last().clone(), 1, script.line.to_string()));
        let mut interpreter = Interpreter { line: script.line.clone(), path: None, runs: None, owner: None };
        if let Some(behind) = &script.interpreter {
            interpreter.path = Some(behind.steps[0].path.clone());
            if matches!(behind.end, End::There(_)) {
                interpreter.runs = Some(behind.last().clone());
            }
            interpreter.owner = self.locate_owner(behind);
        }
        if interpreter.runs.is_none() {
            evidence.push(Evidence::line(resolution.last().clone(), 1, "its interpreter does not exist"));
        }
        Some(interpreter)
    }

    fn locate(&self, path: &ByteString, resolution: &Resolution) -> Located {
        locate(self.survey, self.index, path, resolution)
    }

    fn locate_owner(&self, resolution: &Resolution) -> Option<Owner> {
        claims_on_last(self.survey, self.index, resolution).first().and_then(|claim| self.survey.owner(claim))
    }

    fn elsewhere(&self, target: &Target, resolutions: &[Resolution]) -> Vec<Elsewhere> {
        let found = resolutions.iter().map(|resolution| Elsewhere {
            id: self.locate_owner(resolution).map(|owner| owner.id),
            start: resolution.steps[0].path.clone(),
        });
        let apps = self.survey.installations().iter().flat_map(|held| {
            let started =
                held.launching().map_or_else(Vec::new, |launching| launching.starts_as(&target.name)).into_iter();
            started.map(|(number, start)| Elsewhere { id: Some(held.owner(number).id), start })
        });
        found.chain(apps).collect()
    }
}
