//! Sources that cannot be trusted, do not work or are of no use, and packages that nobody keeps current.

use hashbrown::{HashMap, HashSet};

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::model::{
    Cause, Evidence, Finding, FindingKind, ManagerId, Package, Scope, Severity, SigningState, Source, rfc3339,
};
use crate::queries::keeping::Keeping;
use crate::queries::sources::{SourceInUse, in_use};
use crate::resolve::Context;

/// A catalogue that is older is stale: seconds.
const A_MONTH: i64 = 31 * 86_400;

/// `unsigned-source`, `duplicate-source`, `ambiguous-index`, `unused-source`; and by the clock `expired-key` and
/// `stale-catalogue`. A mounted disk has no clock: there the newest catalogue tells the time.
pub fn findings(cx: &CheckContext<'_, '_>, now: Option<i64>) -> Vec<Finding> {
    let all = in_use(cx.survey, false);
    let used: Vec<&SourceInUse> = all.iter().filter(|one| one.source.enabled).collect();
    let newest = used.iter().filter_map(|one| one.source.refreshed_at).max();
    let now = if cx.survey.root().is_live() { now } else { newest };
    let mut found: Vec<Finding> = used.iter().filter_map(|one| unsigned(&one.source)).collect();
    found.extend(duplicates(&used));
    found.extend(ambiguous(&used));
    found.extend(used.iter().filter_map(|one| unused(one)));
    if let Some(now) = now {
        found.extend(used.iter().filter_map(|one| expired(&one.source, now)));
        found.extend(stale(&used, now));
    }
    // A source that is configured twice is told once.
    let mut seen: HashSet<(FindingKind, String)> = HashSet::new();
    found.retain(|one| seen.insert((one.kind, one.summary.clone())));
    found
}

fn about(kind: FindingKind, severity: Severity, source: &Source, summary: String, consequence: &str) -> Finding {
    Finding {
        evidence: source.evidence.clone(),
        paths: source.evidence.first().map(|at| at.file.clone()).into_iter().collect(),
        ..Finding::new(kind, severity, source.name.clone(), summary, consequence)
    }
}

/// Whether what comes from an address comes over a network.
fn is_remote(source: &Source) -> bool {
    let url = source.url.as_deref().unwrap_or_default();
    memchr::memmem::find(url, b"://").is_some()
        && ![&b"file:"[..], b"copy:", b"cdrom:"].iter().any(|one| url.starts_with(one))
}

fn unsigned(source: &Source) -> Option<Finding> {
    if source.signed.state != SigningState::Unverified {
        return None;
    }
    // What lies on this machine, its own users have put there.
    let severity = if is_remote(source) { Severity::Warning } else { Severity::Note };
    let url = source.url.as_ref().map(|url| format!(" ({url})")).unwrap_or_default();
    let summary = format!("{} accepts packages of {}{url} without a signature", source.manager, source.name);
    let consequence = "whoever controls the server, or the way to it, can install anything with administrator rights";
    Some(about(FindingKind::UnsignedSource, severity, source, summary, consequence))
}

fn expired(source: &Source, now: i64) -> Option<Finding> {
    let signed: Vec<_> = source.signed.keys.iter().filter(|key| key.signed).collect();
    let is_over = |at: Option<i64>| at.is_some_and(|at| at < now);
    if signed.is_empty() || !signed.iter().all(|key| is_over(key.expires_at)) {
        return None;
    }
    let key = signed[0];
    let day = key.expires_at.map(|at| rfc3339(at).chars().take(10).collect::<String>()).unwrap_or_default();
    let owner = key.owner.as_ref().map(|owner| format!(" of {owner}")).unwrap_or_default();
    let summary = format!("the key{owner}, which signs {}, expired on {day}", source.name);
    let consequence = "the next refresh fails, and nothing from this source is upgraded until its keys are renewed";
    let mut finding = about(FindingKind::ExpiredKey, Severity::Warning, source, summary, consequence);
    finding.evidence.push(Evidence::at(key.file.clone(), format!("key {}", key.id), format!("expired on {day}")));
    Some(finding)
}

/// Sources of one manager that give the same: one finding for each that repeats another.
fn duplicates(used: &[&SourceInUse]) -> Vec<Finding> {
    let mut first: HashMap<(ManagerId, &Scope, &ByteString), &Source> = HashMap::new();
    let mut found: Vec<Finding> = Vec::new();
    for source in used.iter().map(|one| &one.source) {
        let mut repeated: Option<&Source> = None;
        for gives in &source.gives {
            let known = *first.entry((source.manager, &source.scope, gives)).or_insert(source);
            if !std::ptr::eq(known, source) {
                repeated = repeated.or(Some(known));
            }
        }
        let Some(known) = repeated else { continue };
        let place =
            |source: &Source| source.evidence.first().map(|at| format!("{} {}", at.file, at.at)).unwrap_or_default();
        let summary = format!("{} is configured twice: in {} and in {}", source.name, place(known), place(source));
        let consequence = "a change in one of the two places has no effect, and each refresh says so again";
        let mut finding = about(FindingKind::DuplicateSource, Severity::Note, source, summary, consequence);
        finding.evidence.splice(0..0, known.evidence.iter().cloned());
        found.push(finding);
    }
    found
}

/// Indexes of which the manager takes the highest version of a name, whichever has it.
fn ambiguous(used: &[&SourceInUse]) -> Vec<Finding> {
    let mut of: Vec<(ManagerId, Vec<&Source>)> = Vec::new();
    for source in used.iter().map(|one| &one.source).filter(|source| source.is_merged) {
        match of.iter_mut().find(|(manager, _)| *manager == source.manager) {
            Some((_, sources)) => sources.push(source),
            None => of.push((source.manager, vec![source])),
        }
    }
    let mut found = Vec::new();
    for (manager, sources) in of {
        // A user meets the machine's indexes and the user's own.
        let scopes: Vec<&Scope> = sources.iter().map(|source| &source.scope).collect();
        let meets = |scope: &Scope| {
            let seen = sources.iter().filter(|source| source.scope == *scope || source.scope == Scope::System);
            let mut urls = HashSet::new();
            seen.filter(|source| urls.insert(&source.gives)).copied().collect::<Vec<&Source>>()
        };
        let Some(several) = scopes.iter().map(|scope| meets(scope)).max_by_key(Vec::len).filter(|list| list.len() > 1)
        else {
            continue;
        };
        let names: Vec<String> = several.iter().map(|source| source.name.to_string()).collect();
        let summary = format!(
            "{manager} takes a package from whichever of {} indexes has the highest version: {}",
            several.len(),
            names.join(", ")
        );
        let consequence =
            "whoever can publish a name on one of them can replace a package that is meant to come from another";
        found.push(Finding {
            evidence: several.iter().flat_map(|source| source.evidence.iter().cloned()).collect(),
            paths: several.iter().filter_map(|source| source.evidence.first()).map(|at| at.file.clone()).collect(),
            ..Finding::new(FindingKind::AmbiguousIndex, Severity::Warning, manager.0, summary, consequence)
        });
    }
    found
}

/// Sources from elsewhere that nothing came from.
fn unused(one: &SourceInUse) -> Option<Finding> {
    let source = &one.source;
    let is_foreign = source.trust.as_deref() == Some("third-party") || source.kind == "remote";
    if one.installed != Some(0) || !is_foreign {
        return None;
    }
    let summary = format!("no installed package came from {}", source.name);
    let consequence = "it is asked at each refresh, and its owner can offer a newer version of any package";
    Some(about(FindingKind::UnusedSource, Severity::Note, source, summary, consequence))
}

/// Catalogues that were not refreshed for long: one finding for each installation.
fn stale(used: &[&SourceInUse], now: i64) -> Vec<Finding> {
    let mut of: Vec<((ManagerId, &Scope), Vec<&Source>)> = Vec::new();
    let is_old = |source: &&Source| source.refreshed_at.is_some_and(|at| now - at > A_MONTH);
    for source in used.iter().map(|one| &one.source).filter(is_old) {
        match of.iter_mut().find(|(key, _)| *key == (source.manager, &source.scope)) {
            Some((_, sources)) => sources.push(source),
            None => of.push(((source.manager, &source.scope), vec![source])),
        }
    }
    let finding = |((manager, _), sources): ((ManagerId, &Scope), Vec<&Source>)| {
        let oldest = sources.iter().filter_map(|source| source.refreshed_at).min().unwrap_or_default();
        let day: String = rfc3339(oldest).chars().take(10).collect();
        let names: Vec<String> = sources.iter().map(|source| source.name.to_string()).collect();
        let summary = match &names[..] {
            [name] => format!("the catalogue of {name} was last refreshed on {day}"),
            names => format!(
                "{} catalogues of {manager} were last refreshed on {day} or later: {}",
                names.len(),
                names.join(", ")
            ),
        };
        let consequence = "newer versions and security fixes are not known here";
        let subject = if names.len() == 1 { sources[0].name.clone() } else { manager.0.into() };
        let at = |source: &&Source| source.evidence.first().cloned();
        Finding {
            evidence: sources.iter().filter_map(at).collect(),
            ..Finding::new(FindingKind::StaleCatalogue, Severity::Note, subject, summary, consequence)
        }
    };
    of.into_iter().map(finding).collect()
}

/// `nobody-updates`: a warning where root or a service starts a program of it by its name.
pub fn nobody(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let of_root =
        |context: Context| matches!(context, Context::Sudo | Context::RootLogin | Context::Cron | Context::Service);
    let searched = cx.all_searches().filter(|search| of_root(search.context)).flat_map(|search| &search.entries);
    let dirs: HashSet<ByteString> = searched.map(|entry| entry.canonical.clone()).collect();
    let keeping = Keeping::of_all(survey);
    let mut found = Vec::new();
    for (package, kept) in keeping.nobody(survey.recorded()) {
        let is_started = |command: &ByteString| dirs.contains(&survey.root().canonicalize_dir(path::parent(command)));
        let program = package.commands.iter().find(|command| is_started(command));
        // A hold is what a user wants.
        let severity = if program.is_some() && !package.held { Severity::Warning } else { Severity::Note };
        let because = kept.because.unwrap_or_default();
        let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        let summary = format!("nobody upgrades {}{version}: {because}", package.full_name());
        let consequence = match program {
            Some(program) => {
                format!("security holes stay open, and root or a service starts {program} by its name")
            }
            None => "security holes stay open".to_owned(),
        };
        found.push(Finding {
            packages: vec![package.id.clone()],
            paths: program.cloned().into_iter().collect(),
            evidence: kept.evidence,
            causes: vec![cause(package)],
            ..Finding::new(FindingKind::NobodyUpdates, severity, package.name.clone(), summary, consequence)
        });
    }
    found
}

/// What a package shares with others that nobody upgrades: its installation; a hold is its own.
fn cause(package: &Package) -> Cause {
    match package.held {
        true => Cause::Record(package.id.clone()),
        false => Cause::Source(format!("{}/{}", package.manager, package.scope).into()),
    }
}
