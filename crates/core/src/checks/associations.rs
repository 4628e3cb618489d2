//! What a user chose to open files with, and is gone.
//!
//! Follows the *Association between MIME types and applications* specification: of the launchers that a line names, the
//! first that exists is used; those that do not exist are ignored.

use std::collections::BTreeMap;

use hashbrown::HashSet;

use super::CheckContext;
use crate::backend::Launching;
use crate::backend::launcher_files::files_in;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::{Evidence, Finding, FindingKind, Severity};
use crate::resolve::launchers::data_dirs_of;
use whodunit_formats::key_file::KeyFile;

/// The groups that name launchers, and what each says.
const GROUPS: [(&str, &str); 2] = [("Default Applications", "the default for"), ("Added Associations", "added to")];

/// Lines that are told as evidence; the others are counted.
const MAX_TOLD: usize = 3;

/// `broken-association`: one for each launcher that is gone and that a user's own lists name.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let Some(user) = cx.user() else { return Vec::new() };
    let (survey, root) = (cx.survey, cx.survey.root());
    let lists = [
        path::join(&survey.host.user_dir(user, "XDG_CONFIG_HOME", ".config"), b"mimeapps.list"),
        path::join(&survey.host.user_dir(user, "XDG_DATA_HOME", ".local/share"), b"applications/mimeapps.list"),
    ];
    let lists: Vec<(ByteString, KeyFile)> = lists
        .into_iter()
        .filter_map(|file| root.read(&file, Limit::SMALL).ok().map(|content| (file, KeyFile::parse(&content))))
        .collect();
    if lists.is_empty() {
        return Vec::new();
    }
    let mut dirs: Vec<ByteString> =
        data_dirs_of(survey.host, None, Some(user)).into_iter().map(|one| one.dir).collect();
    let installed = survey.installations().iter().filter_map(|held| held.launching());
    dirs.extend(installed.flat_map(Launching::launcher_dirs).map(|(dir, _)| dir));
    let known: HashSet<ByteString> = dirs.iter().flat_map(|dir| files_in(root, dir)).map(|file| file.id).collect();
    let mut found = Vec::new();
    for (file, list) in lists {
        let mut gone: BTreeMap<ByteString, Vec<Evidence>> = BTreeMap::new();
        for (group, role) in GROUPS {
            for kind in list.keys(group) {
                for id in list.list(group, kind).into_iter().map(str::trim) {
                    let id = ByteString::from(id);
                    if !known.contains(&id) {
                        let evidence = Evidence::at(file.clone(), group, format!("{id} is {role} {kind}"));
                        gone.entry(id).or_default().push(evidence);
                    }
                }
            }
        }
        found.extend(gone.into_iter().map(|(id, mut evidence)| {
            let count = evidence.len();
            let kinds = if count == 1 { "one type".to_owned() } else { format!("{count} types") };
            evidence.truncate(MAX_TOLD);
            let summary = format!("{file} opens {kinds} of files with {id}, and there is no such launcher");
            Finding {
                users: vec![user.name.clone()],
                paths: vec![file.clone()],
                evidence,
                ..Finding::new(
                    FindingKind::BrokenAssociation,
                    Severity::Note,
                    id,
                    summary,
                    "another program opens these files, or none",
                )
            }
        }));
    }
    found
}
