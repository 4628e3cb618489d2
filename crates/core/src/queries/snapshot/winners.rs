//! Which program each name starts, in each context of each user.

use std::collections::BTreeMap;

use hashbrown::HashMap;
use rayon::prelude::*;

use super::text;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};
use crate::history::WinnerRecord;
use crate::queries::{CheckContext, locate, located};
use crate::resolve::SearchPath;

/// The programs of one directory, by name; those that are links apart.
type Programs = Vec<(ByteString, bool)>;

/// What can be started in a directory.
fn programs(root: &Root, dir: &ByteString) -> Programs {
    let names = root.names_in(dir);
    let is_program = |name: &ByteString| {
        let file = path::join(dir, name);
        root.target(&file).is_ok_and(|meta| meta.kind == Kind::File && root.can_execute(&file, meta))
    };
    let files = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
    files.filter(|(name, _)| is_program(name)).map(|(name, kind)| (name, kind == Kind::Link)).collect()
}

/// A context of a user.
fn context_of(search: &SearchPath) -> String {
    match &search.user {
        Some(user) => format!("{} {}", user.to_data(), search.context.word()),
        None => search.context.word().to_owned(),
    }
}

/// The winners; equal ones of several contexts together.
pub(super) fn of(asking: &CheckContext<'_, '_>) -> Vec<WinnerRecord> {
    let survey = asking.survey;
    let root = survey.root();
    let searches: Vec<&SearchPath> = asking.all_searches().collect();
    let mut dirs: Vec<&ByteString> = searches.iter().flat_map(|one| &one.entries).map(|entry| &entry.dir).collect();
    dirs.sort_unstable();
    dirs.dedup();
    let listed: Vec<Programs> = dirs.par_iter().map(|dir| programs(root, dir)).collect();
    let of_dir: HashMap<&ByteString, Programs> = dirs.into_iter().zip(listed).collect();
    // The contexts in which each file wins.
    let mut contexts: BTreeMap<(ByteString, ByteString), (bool, &SearchPath, Vec<String>)> = BTreeMap::new();
    for search in searches {
        let mut first: HashMap<&ByteString, (&ByteString, bool)> = HashMap::new();
        for entry in &search.entries {
            for (name, is_link) in of_dir.get(&entry.dir).into_iter().flatten() {
                first.entry(name).or_insert((&entry.dir, *is_link));
            }
        }
        let context = context_of(search);
        for (name, (dir, is_link)) in first {
            let known = contexts.entry((name.clone(), path::join(dir, name)));
            known.or_insert_with(|| (is_link, search, Vec::new())).2.push(context.clone());
        }
    }
    let rows: Vec<_> = contexts.into_iter().collect();
    // What a link leads to is whose the program is.
    let resolutions: Vec<_> = rows
        .par_iter()
        .map(|((_, file), (is_link, search, _))| is_link.then(|| survey.resolution(search, file)))
        .collect();
    let mut wanted: Vec<ByteString> = rows.iter().map(|((_, file), _)| root.canonicalize(file)).collect();
    wanted.extend(resolutions.iter().flatten().flat_map(|one| one.paths().cloned()));
    let index = survey.claims(wanted.iter().map(|file| &**file));
    let mut records = Vec::new();
    for (((name, file), (_, _, contexts)), resolution) in rows.into_iter().zip(resolutions) {
        let found = match &resolution {
            Some(resolution) => locate(survey, &index, &file, resolution),
            None => located(survey, &index, &file),
        };
        let owner = found.owner.map(|owner| text(&owner.id));
        records.push(WinnerRecord { name: text(&name), path: text(&file), owner, contexts });
    }
    records
}
