//! What a shell completes besides options: names on the machine that is asked about.

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::PathBuf;

use clap::{Command, ValueEnum};
use clap_complete::engine::{
    ArgValueCandidates, ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter as _,
};
use whodunit_core::backend::Detail;
use whodunit_core::bytes::ByteString;
use whodunit_core::managers;
use whodunit_core::model::FindingKind;
use whodunit_core::survey::Survey;
use whodunit_fleet::questions::Fleet;
use whodunit_fleet::store::StoreError;

use crate::args::{self, Global};
use crate::commands::inventory::{ColumnName, SortName};
use crate::commands::{fleet, names_in};
use crate::process;
use crate::session::Session;

/// A shell shows no more names than this.
const MAX_NAMES: usize = 2000;

/// The command line, with what each argument is completed with.
pub fn attached(command: Command) -> Command {
    if command.get_name() == "fleet" {
        return attached_to_fleet(command);
    }
    let ids: Vec<String> = command.get_arguments().map(|arg| arg.get_id().to_string()).collect();
    let explained = command.get_name() == "explain";
    let mut command = command;
    for id in ids {
        command = command.mut_arg(&id, |arg| match id.as_str() {
            "kind" if explained => arg.add(ArgValueCandidates::new(kinds)),
            "kind" if arg.get_possible_values().is_empty() => arg.add(ArgValueCandidates::new(kinds)),
            "columns" => arg.add(ArgValueCandidates::new(words::<ColumnName>)),
            "sort" => arg.add(ArgValueCandidates::new(words::<SortName>)),
            "manager" => arg.add(ArgValueCandidates::new(manager_names)),
            "target" => arg.add(ArgValueCompleter::new(|current: &OsStr| names(current, true))),
            "name" | "package" | "subject" | "text" => {
                arg.add(ArgValueCompleter::new(|current: &OsStr| names(current, false)))
            }
            _ => arg,
        });
    }
    let inner: Vec<String> = command.get_subcommands().map(|one| one.get_name().to_owned()).collect();
    inner.into_iter().fold(command, |command, name| command.mut_subcommand(name, attached))
}

/// The same for questions about many machines, which know other names.
fn attached_to_fleet(command: Command) -> Command {
    let packages = |current: &OsStr| some(in_fleet(current, Fleet::package_names), current);
    let by_name = |one: Command| one.mut_arg("name", |arg| arg.add(ArgValueCompleter::new(packages)));
    command
        .mut_subcommand("findings", attached)
        .mut_subcommand("where", by_name)
        .mut_subcommand("versions", by_name)
        .mut_subcommand("drift", |one| one.mut_arg("reference", |arg| arg.add(ArgValueCompleter::new(references))))
}

/// A machine of the fleet, or a file.
fn references(current: &OsStr) -> Vec<CompletionCandidate> {
    let machines = some(in_fleet(current, |fleet, _| Ok(fleet.machine_names())), current);
    machines.into_iter().chain(PathCompleter::any().complete(current)).collect()
}

/// Names of the fleet whose store the command line names.
fn in_fleet(
    current: &OsStr,
    names: impl Fn(&mut Fleet, &str) -> Result<Vec<String>, StoreError>,
) -> BTreeSet<ByteString> {
    let store = given("--store");
    let found = fleet::fleet(store.as_deref()).ok().and_then(|mut fleet| names(&mut fleet, current.to_str()?).ok());
    found.unwrap_or_default().into_iter().map(ByteString::from).collect()
}

/// What the line that is completed gives to an option.
fn given(option: &str) -> Option<String> {
    let words: Vec<OsString> = process::arguments().collect();
    let after = words.windows(2).find(|pair| pair[0] == option).and_then(|pair| pair[1].to_str());
    let within = || words.iter().find_map(|word| word.to_str()?.strip_prefix(option)?.strip_prefix('='));
    after.or_else(within).map(str::to_owned)
}

/// The words that an option takes.
fn words<V: ValueEnum + 'static>() -> Vec<CompletionCandidate> {
    args::words::<V>().map(CompletionCandidate::new).collect()
}

fn kinds() -> Vec<CompletionCandidate> {
    FindingKind::ALL.iter().map(|kind| CompletionCandidate::new(kind.to_string())).collect()
}

fn manager_names() -> Vec<CompletionCandidate> {
    managers::ALL.iter().map(|manager| CompletionCandidate::new(manager.id().0)).collect()
}

/// The packages of the machine that is asked about that begin so, and the commands where these are meant as well.
fn names(current: &OsStr, with_commands: bool) -> Vec<CompletionCandidate> {
    let global = Global::of_nothing().map(|global| Global { root: given("--root").map(PathBuf::from), ..global });
    let Some(session) = global.and_then(|global| Session::new(&global).ok()) else { return Vec::new() };
    let start = current.as_bytes();
    let mut found: BTreeSet<ByteString> = BTreeSet::new();
    if with_commands {
        for entry in &session.search().entries {
            let programs = names_in(&session.host.root, &entry.canonical);
            found.extend(programs.filter(|name| name.starts_with(start)));
        }
    }
    let survey = Survey::of(&session.host);
    for held in survey.installations() {
        let packages = held.packages(Detail::default()).into_iter().map(|package| package.name);
        found.extend(packages.filter(|name| name.starts_with(start)));
    }
    some(found, current)
}

/// Those of the names that begin so, as many as a shell shows.
fn some(names: BTreeSet<ByteString>, current: &OsStr) -> Vec<CompletionCandidate> {
    let start = current.as_bytes();
    let is_plain = |name: &ByteString| name.starts_with(start) && !name.iter().any(u8::is_ascii_control);
    let plain = names.into_iter().filter(is_plain).take(MAX_NAMES);
    plain.map(|name| CompletionCandidate::new(OsString::from_vec(name.to_vec()))).collect()
}
