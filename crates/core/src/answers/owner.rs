//! Whose is it: a command, a path, a package.

use std::io::Read as _;

use md5::Digest as _;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Located, locate};
use crate::claims::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, CoverageState, Evidence, Owner, Remedy, Wanted};
use crate::root::{Kind, Root};
use crate::search::{Context, End, How, Reached, SearchPath, Trail, hints, program_folders};
use crate::survey::Survey;
use crate::text::{Text, path};

/// What sort of thing a target is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TargetKind {
    /// A name that is typed.
    Command,
    /// A file or folder.
    Path,
    /// A package's name.
    Package,
}

/// What is asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// As the person gave it.
    pub given: Text,
    /// The kind, where the person said it.
    pub kind: Option<TargetKind>,
    /// The name or path itself.
    pub name: Text,
}

/// A target that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{given}: {problem}")]
pub struct BadTarget {
    /// As given.
    pub given: Text,
    /// What is wrong with it, and what would be right.
    pub problem: &'static str,
}

impl Target {
    /// Takes `command:NAME`, `path:PATH`, `package:NAME`, or a bare name or path.
    ///
    /// # Errors
    /// For an empty name, and for a command with a slash.
    pub fn parse(given: &[u8]) -> Result<Self, BadTarget> {
        let kinds = [("command:", TargetKind::Command), ("path:", TargetKind::Path), ("package:", TargetKind::Package)];
        let explicit = kinds.iter().find_map(|(prefix, kind)| Some((*kind, given.strip_prefix(prefix.as_bytes())?)));
        let (kind, name) = match explicit {
            Some((kind, name)) => (Some(kind), name),
            None if given.contains(&b'/') => (Some(TargetKind::Path), given),
            None => (None, given),
        };
        let bad = |problem| Err(BadTarget { given: given.into(), problem });
        if name.is_empty() {
            return bad("no name is given");
        }
        if kind == Some(TargetKind::Command) && name.contains(&b'/') {
            return bad("a command has no slash in its name (use path: for a file)");
        }
        Ok(Target { given: given.into(), kind, name: name.into() })
    }
}

/// The verdict.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// One package claims it.
    Owned,
    /// No manager claims it.
    Unowned,
    /// Several packages claim it.
    Several,
    /// It is not there.
    NotFound,
}

/// One step from the path found to what finally runs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hop {
    /// Where the step stands.
    pub path: Text,
    /// Where it leads: a link's target, a script's interpreter.
    pub to: Option<Text>,
    /// How it leads there.
    pub how: How,
    /// The folder on the way that is a link, where it is not the step itself that is one.
    pub through: Option<Text>,
    /// The package that placed it, `alternatives/GROUP`, or `null` for one placed by hand.
    pub owner: Option<Text>,
}

/// A script's interpreter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Interpreter {
    /// The script's first line.
    pub line: Text,
    /// The interpreter's path, as found; `null` when a look-up finds none.
    pub path: Option<Text>,
    /// What finally interprets, links followed; `null` when there is nothing.
    pub runs: Option<Text>,
    /// Whose that is.
    pub owner: Option<Owner>,
}

/// A copy that this search path does not reach.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Elsewhere {
    /// The package that owns it; `null` when none does.
    pub id: Option<Text>,
    /// What to type to start it.
    pub start: Text,
}

/// The answer for one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Answer {
    /// As the person gave it.
    pub target: Text,
    /// What it was taken for.
    pub kind: TargetKind,
    /// The situation in which names are looked up.
    pub context: Context,
    /// The verdict.
    pub verdict: Verdict,
    /// Whether everything that could speak against the verdict was read.
    pub certain: bool,
    /// The program that the name starts, or that the path is; `null` when it is none.
    pub runs: Option<Text>,
    /// From the path found to what finally runs.
    pub hops: Vec<Hop>,
    /// Its interpreter, where it is a script.
    pub interpreter: Option<Interpreter>,
    /// The owner of what finally runs.
    pub owner: Option<Owner>,
    /// Everyone who claims it.
    pub owners: Vec<Owner>,
    /// Its version, where it has no owner and says so itself.
    pub version_hint: Option<Text>,
    /// The copies behind it, in order.
    pub hidden: Vec<Located>,
    /// The copy that runs instead when its name is typed.
    pub hidden_by: Option<Located>,
    /// Copies that this search path does not reach.
    pub elsewhere: Vec<Elsewhere>,
    /// Why it wins.
    pub because: Vec<Evidence>,
    /// Commands of its manager's own.
    pub remedies: Vec<Remedy>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
}

/// The answers, in the order of the targets.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Owners {
    /// One per target.
    pub answers: Vec<Answer>,
}

/// A target after its first look at the disk, before any record is read.
enum Found {
    Command { reached: Reached, trails: Vec<Trail>, elsewhere: Vec<Trail> },
    Path { trail: Trail, reached: Reached, winner: Option<Trail> },
    Other { elsewhere: Vec<Trail> },
}

impl Found {
    fn look(survey: &Survey<'_>, search: &SearchPath, folders: &[Text], target: &Target) -> Self {
        let root = survey.root();
        if target.kind == Some(TargetKind::Path) {
            let whole = path::absolute(&target.name, &survey.scene.here.folder);
            let trail = Trail::of(root, search, &whole);
            // Whether the name, when typed, runs this file or another one.
            let is_program = matches!(trail.end, End::There(meta) if root.can_execute(trail.last(), meta));
            let reached = if is_program { search.reach(root, path::name(&whole)) } else { Reached::default() };
            let winner = reached.copies.first().map(|copy| Trail::links(root, &copy.path));
            return Found::Path { trail, reached, winner };
        }
        let reached = match target.kind {
            Some(TargetKind::Package) => Reached::default(),
            _ => search.reach(root, &target.name),
        };
        let trails: Vec<Trail> = reached.copies.iter().map(|copy| Trail::of(root, search, &copy.path)).collect();
        let elsewhere = match target.kind {
            Some(TargetKind::Package) => Vec::new(),
            _ => elsewhere(root, search, folders, &target.name, &trails),
        };
        if trails.is_empty() { Found::Other { elsewhere } } else { Found::Command { reached, trails, elsewhere } }
    }

    fn names(&self) -> Vec<&[u8]> {
        let trails: Vec<&Trail> = match self {
            Found::Command { trails, elsewhere, .. } => trails.iter().chain(elsewhere).collect(),
            Found::Path { trail, winner, .. } => std::iter::once(trail).chain(winner).collect(),
            Found::Other { elsewhere } => elsewhere.iter().collect(),
        };
        trails.into_iter().flat_map(Trail::paths).map(|path| path::name(path)).collect()
    }
}

/// Programs of that name in folders of programs that the search path does not name.
fn elsewhere(root: &Root, search: &SearchPath, folders: &[Text], name: &[u8], known: &[Trail]) -> Vec<Trail> {
    let mut found: Vec<Trail> = Vec::new();
    if name.contains(&b'/') {
        return found;
    }
    for folder in folders.iter().filter(|folder| !search.entries.iter().any(|entry| entry.settled == **folder)) {
        let candidate = path::join(folder, name);
        let Ok(meta) = root.target(&candidate) else { continue };
        let trail = || Trail::links(root, &candidate);
        if root.can_execute(&candidate, meta) {
            let trail = trail();
            if !known.iter().chain(&found).any(|other| other.last() == trail.last()) {
                found.push(trail);
            }
        }
    }
    found
}

/// Answers for every target with one reading of the machine.
#[must_use]
pub fn owners(survey: &Survey<'_>, search: &SearchPath, targets: &[Target]) -> Owners {
    let folders = program_folders(survey.scene);
    let found: Vec<Found> = targets.iter().map(|target| Found::look(survey, search, &folders, target)).collect();
    let index = survey.claims(&Wanted::names(found.iter().flat_map(Found::names)));
    let asked = Asked { survey, search, index: &index };
    let mut answers: Vec<Answer> =
        targets.iter().zip(&found).map(|(target, found)| asked.answer(target, found)).collect();
    let coverage = survey.coverage();
    let is_lost = |of_manager: bool| {
        coverage.iter().any(|part| part.manager.is_some() == of_manager && part.state != CoverageState::Read)
    };
    let records_lost = survey.holdings().is_empty() || is_lost(true);
    for answer in &mut answers {
        answer.certain = match answer.verdict {
            Verdict::Owned | Verdict::Several => true,
            Verdict::Unowned => !records_lost,
            // It may stand in a folder that could not be looked into.
            Verdict::NotFound => !records_lost && !is_lost(false),
        };
    }
    Owners { answers }
}

struct Asked<'a, 's> {
    survey: &'a Survey<'s>,
    search: &'a SearchPath,
    index: &'a ClaimIndex,
}

impl Asked<'_, '_> {
    fn answer(&self, target: &Target, found: &Found) -> Answer {
        match found {
            Found::Command { reached, trails, elsewhere } => {
                let mut answer = self.of_trail(target, TargetKind::Command, &trails[0]);
                answer.runs = Some(reached.copies[0].path.clone());
                answer.hidden = reached
                    .copies
                    .iter()
                    .zip(trails)
                    .skip(1)
                    .map(|(copy, trail)| self.locate(&copy.path, trail))
                    .collect();
                answer.elsewhere = self.elsewhere(elsewhere);
                answer.because = self.search.because(reached);
                answer.evidence.extend(reached.passed_over.iter().cloned());
                answer
            }
            Found::Path { trail, reached, winner } => {
                let mut answer = self.of_trail(target, TargetKind::Path, trail);
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
            hidden: Vec::new(),
            hidden_by: None,
            elsewhere: Vec::new(),
            because: Vec::new(),
            remedies: Vec::new(),
            evidence: Vec::new(),
        }
    }

    fn of_package(&self, target: &Target, elsewhere: &[Trail]) -> Answer {
        let named = match target.kind {
            Some(TargetKind::Command) => Vec::new(),
            _ => self.survey.named(&target.name),
        };
        let kind = match target.kind {
            Some(kind) => kind,
            None if named.is_empty() => TargetKind::Command,
            None => TargetKind::Package,
        };
        let mut answer = self.blank(target, kind);
        answer.elsewhere = self.elsewhere(elsewhere);
        answer.owners = named.iter().map(|(held, number)| held.owner(*number)).collect();
        if let Some((held, number)) = named.first() {
            answer.verdict = Verdict::Owned;
            answer.owner = answer.owners.first().cloned();
            answer.evidence = held.package_evidence(*number);
            answer.remedies = held.remedies(*number);
        }
        answer
    }

    fn of_trail(&self, target: &Target, kind: TargetKind, trail: &Trail) -> Answer {
        let mut answer = self.blank(target, kind);
        answer.hops = self.hops(trail, &mut answer.evidence);
        answer.interpreter = self.interpreter(trail, &mut answer.evidence);
        let mut subject = trail.last();
        let mut claims = super::claims_on_last(self.survey, self.index, trail);
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
            End::Nothing if trail.steps.len() > 1 => {
                // Nothing runs; the question is then who placed the link.
                answer.verdict = Verdict::Unowned;
                answer.evidence.push(Evidence::at(subject.clone(), "look-up", "the link leads to nothing"));
                subject = &trail.steps[trail.steps.len() - 2].path;
                claims = self.survey.ownership(self.index, subject).packages;
            }
            End::Nothing => {}
        }
        self.decide(&mut answer, subject, &claims, trail);
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
        let alike =
            |other: &Owner| (other.manager, &other.scope, &other.name) == (first.manager, &first.scope, &first.name);
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
                answer.remedies = self.survey.holder(&claims[chosen]).remedies(number);
            }
        }
    }

    /// Which of several claims is on the file that is really there.
    fn whose_digest_fits(&self, claims: &[FoundClaim], subject: &Text, trail: &Trail) -> Option<usize> {
        match trail.end {
            End::There(meta) if meta.kind == Kind::File => {}
            _ => return None,
        }
        let mut recorded = claims.iter().map(|claim| match claim.claimant {
            Claimant::Package(number) => self.survey.holder(claim).md5(number, subject),
            Claimant::Group(_) => None,
        });
        let there = md5_of(self.survey.root(), subject)?;
        recorded.position(|digest| digest.as_ref() == Some(&there))
    }

    fn hops(&self, trail: &Trail, evidence: &mut Vec<Evidence>) -> Vec<Hop> {
        let last = trail.steps.len() - 1;
        let hop = |(number, step): (usize, &crate::search::Step)| {
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
        super::claims_on_last(self.survey, self.index, trail).first().and_then(|claim| self.survey.owner(claim))
    }

    fn elsewhere(&self, trails: &[Trail]) -> Vec<Elsewhere> {
        let found = trails.iter().map(|trail| Elsewhere {
            id: self.locate_owner(trail).map(|owner| owner.id),
            start: trail.steps[0].path.clone(),
        });
        found.collect()
    }
}

/// The most of a file that is digested to tell whose it is.
const MOST_DIGESTED: u64 = 1 << 30;

fn md5_of(root: &Root, file: &[u8]) -> Option<String> {
    let opened = root.open(file).ok().filter(|opened| opened.meta().size <= MOST_DIGESTED)?;
    let mut digest = md5::Md5::new();
    let mut rest = opened.take(MOST_DIGESTED);
    let mut buffer = vec![0; 1 << 16];
    loop {
        match rest.read(&mut buffer).ok()? {
            0 => break,
            count => digest.update(&buffer[..count]),
        }
    }
    Some(digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
}
