//! Packages that a language's manager put into a directory of the distribution's: its own command refuses to remove
//! them there, or removes the distribution's files with them. They are taken out file by file, and what the
//! distribution has at the same paths is restored.

use hashbrown::{HashMap, HashSet};

use crate::backend::Installation;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::index::FoundClaim;
use crate::managers;
use crate::model::{CommandLine, Depth, Remedy, RemedyKind};
use crate::survey::Survey;

/// The most paths that one command names.
const MAX_PATHS: usize = 40;

/// Whether a package lies in a directory that the distribution fills as well.
pub(crate) fn is_among_distributions(held: &dyn Installation, number: u32) -> bool {
    held.shared_dirs().is_some_and(|shared| shared.is_among_others(number))
}

/// Removes these packages of one installation from the distribution's directory, and restores what the distribution
/// has at the same paths. None if that cannot be fetched, or if it would take too many words.
pub(crate) fn take_out(survey: &Survey<'_>, held: &dyn Installation, numbers: &[u32]) -> Option<Remedy> {
    take_out_but(survey, held, numbers, &|_| false)
}

/// The same, but that nothing is restored of packages that are removed as well.
pub(crate) fn take_out_but(
    survey: &Survey<'_>,
    held: &dyn Installation,
    numbers: &[u32],
    is_going: &dyn Fn(&FoundClaim) -> bool,
) -> Option<Remedy> {
    let root = survey.root();
    let records = held.file_records()?.file_records(numbers, Depth::Presence);
    let mut files: Vec<ByteString> = records.iter().map(|one| root.canonicalize(&one.path)).collect();
    files.retain(|file| root.entry(file).is_ok_and(|meta| meta.kind != Kind::Dir));
    if files.is_empty() {
        return None;
    }
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut own: HashSet<ByteString> = HashSet::new();
    let mut restores: Vec<Remedy> = Vec::new();
    for file in files {
        let claims = survey.ownership(&index, &file).packages;
        let mut others = claims
            .iter()
            .filter(|claim| survey.owner(claim).is_some_and(|owner| managers::is_system(owner.manager)))
            .peekable();
        if others.peek().is_none() {
            own.insert(file);
        }
        for other in others.filter(|other| !is_going(other)) {
            let restore = survey.restore(other)?;
            if !restores.contains(&restore) {
                restores.push(restore);
            }
        }
    }
    let mut covered: HashMap<ByteString, bool> = HashMap::new();
    let mut paths: Vec<ByteString> = own.iter().map(|file| widest(survey, &own, &mut covered, file)).collect();
    paths.sort();
    paths.dedup();
    if paths.len() > MAX_PATHS {
        return None;
    }
    let line = paths.into_iter().fold(CommandLine::new("rm -r --"), CommandLine::arg);
    let owners = numbers.iter().map(|number| held.owner(*number));
    let loses = owners.map(|owner| format!("{}'s {}", owner.manager, owner.full_name())).collect();
    let remedy = Remedy { loses, ..Remedy::new(RemedyKind::Remove, line) };
    let remedy = survey.remedy_within(held, remedy)?;
    let needs_network = !restores.is_empty();
    let commands = std::iter::once(&remedy).chain(&restores).map(|one| one.command.clone());
    let command = commands.collect::<Vec<_>>().join(" && ");
    let parts = std::iter::once(remedy.clone()).chain(restores).collect();
    Some(Remedy { command, needs_network, parts, ..remedy })
}

/// The widest directory around a file in which there is nothing but such files; the file itself where there is none.
fn widest(
    survey: &Survey<'_>,
    own: &HashSet<ByteString>,
    covered: &mut HashMap<ByteString, bool>,
    file: &ByteString,
) -> ByteString {
    let mut at = file.clone();
    loop {
        let above = ByteString::from(path::parent(&at));
        if above.len() < 2 || !is_covered(survey, own, covered, &above, 0) {
            return at;
        }
        at = above;
    }
}

fn is_covered(
    survey: &Survey<'_>,
    own: &HashSet<ByteString>,
    covered: &mut HashMap<ByteString, bool>,
    dir: &ByteString,
    depth: usize,
) -> bool {
    const MAX_DEPTH: usize = 32;
    if let Some(known) = covered.get(dir) {
        return *known;
    }
    let entries = survey.root().dir(dir).and_then(|dir| dir.list());
    let is_all = depth < MAX_DEPTH
        && entries.is_ok_and(|entries| {
            entries.into_iter().all(|(name, kind)| {
                let entry = path::join(dir, &name);
                match kind {
                    Kind::Dir => is_covered(survey, own, covered, &entry, depth + 1),
                    // What the interpreter compiled is made anew.
                    _ => own.contains(&entry) || (name.ends_with(b".pyc") && path::name(dir) == b"__pycache__"),
                }
            })
        });
    covered.insert(dir.clone(), is_all);
    is_all
}
