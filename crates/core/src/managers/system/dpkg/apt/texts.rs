//! By what else packages can be found: summaries in other languages, and commands.
//!
//! | what | file in `/var/lib/apt/lists` |
//! |---|---|
//! | summaries | `…_i18n_Translation-LANG`, stanzas with `Description-LANG` |
//! | commands, as command-not-found knows them | `…_cnf_Commands-ARCH`, stanzas with `name` and `commands` |
//! | files, as apt-file fetches them | `…_Contents-ARCH`, lines of a path and packages (*Debian Repository Format*, "Contents indices") |
//!
//! Only what the words of a search touch is kept: a list of files can have ten million lines.

use hashbrown::HashMap;
use memchr::memmem;
use rayon::prelude::*;

use super::lists::{self, DIR};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Loss, Search, SearchScope};
use whodunit_formats::stanza::stanzas;

/// What is known of one package beyond its entry in a list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Text {
    /// Its summary in other languages.
    pub summaries: Vec<ByteString>,
    /// Commands that a word names.
    pub commands: Vec<ByteString>,
}

/// What was found of each package, by its name.
#[derive(Debug, Default)]
pub struct Texts {
    of: HashMap<ByteString, Text>,
    /// What could not be read.
    pub notes: Vec<Loss>,
}

/// Directories whose files are commands, as lists of files spell them.
const PROGRAM_DIRS: [&[u8]; 7] =
    [b"usr/bin/", b"bin/", b"usr/sbin/", b"sbin/", b"usr/games/", b"usr/local/bin/", b"./usr/bin/"];

#[derive(Clone, Copy, PartialEq, Eq)]
enum Sort {
    Summaries,
    Commands,
    Files,
}

/// What sort of list this is, if it is one that is read here.
fn sort_of(name: &[u8]) -> Option<Sort> {
    let has = |part: &str| memmem::find(name, part.as_bytes()).is_some();
    match () {
        () if has("_i18n_Translation-") => Some(Sort::Summaries),
        () if has("_cnf_Commands-") => Some(Sort::Commands),
        () if has("_Contents-") => Some(Sort::Files),
        () => None,
    }
}

impl Texts {
    /// Whether there are lists that name commands.
    pub fn has_commands(root: &Root, is_configured: &dyn Fn(&[u8]) -> bool) -> bool {
        let names = root.dir(DIR).and_then(|dir| dir.list()).unwrap_or_default();
        names.iter().any(|(name, _)| is_configured(name) && matches!(sort_of(name), Some(Sort::Commands | Sort::Files)))
    }

    /// Reads the lists of the repositories that are configured.
    pub fn read(root: &Root, search: &Search, is_configured: &(dyn Fn(&[u8]) -> bool + Sync)) -> Self {
        let names = root.dir(DIR).and_then(|dir| dir.list()).unwrap_or_default();
        let wanted = |sort: Sort| match search.scope() {
            SearchScope::Everything => true,
            SearchScope::Names => false,
            SearchScope::Commands => sort != Sort::Summaries,
        };
        let lists: Vec<(ByteString, Sort)> = names
            .into_iter()
            .filter(|(name, kind)| *kind != Kind::Dir && is_configured(name))
            .filter_map(|(name, _)| sort_of(&name).filter(|sort| wanted(*sort)).map(|sort| (name, sort)))
            .collect();
        let read: Vec<_> =
            lists.par_iter().map(|(name, sort)| of_list(root, &path::join(DIR, name), *sort, search)).collect();
        let mut texts = Texts::default();
        for (found, note) in read {
            texts.notes.extend(note);
            for (name, command, summary) in found {
                let text = texts.of.entry(name).or_default();
                text.commands.extend(command.filter(|command| !text.commands.contains(command)));
                text.summaries.extend(summary.filter(|summary| !text.summaries.contains(summary)));
            }
        }
        texts
    }

    /// What was found of a package.
    pub fn of(&self, name: &[u8]) -> Option<&Text> {
        self.of.get(name)
    }
}

/// A package with a command or a summary.
type Found = (ByteString, Option<ByteString>, Option<ByteString>);

fn of_list(root: &Root, file: &ByteString, sort: Sort, search: &Search) -> (Vec<Found>, Option<Loss>) {
    let bytes = match root.read(file, Limit::RECORD) {
        Ok(bytes) => bytes,
        Err(error) => return (Vec::new(), Some(Loss::unread(&error, "what it says of packages is unknown"))),
    };
    let mut found = Vec::new();
    let problem = match sort {
        Sort::Files => lists::each_line(&bytes, &mut |line| of_line(line, search, &mut found)),
        _ => lists::each_stanza(&bytes, &mut |text| {
            if search.may_be_in(text) {
                of_stanza(text, sort, search, &mut found);
            }
        }),
    };
    let note = problem.map(|problem| Loss::damaged(file.clone(), problem, "what follows is unknown"));
    (found, note)
}

fn is_asked(search: &Search, command: &[u8]) -> bool {
    search.is_command(command)
}

fn of_line(line: &[u8], search: &Search, found: &mut Vec<Found>) {
    let line = line.trim_ascii_end();
    let Some(path) = PROGRAM_DIRS.iter().find_map(|dir| line.strip_prefix(*dir)) else { return };
    // The packages stand behind the last blank; a path may have blanks of its own.
    let Some(at) = path.iter().rposition(u8::is_ascii_whitespace) else { return };
    let command = path[..at].trim_ascii_end();
    if memchr::memchr(b'/', command).is_some() || !is_asked(search, command) {
        return;
    }
    for place in path[at + 1..].split(|&b| b == b',') {
        let name = place.rsplit(|&b| b == b'/').next().unwrap_or(place);
        found.push((name.into(), Some(command.into()), None));
    }
}

fn of_stanza(text: &[u8], sort: Sort, search: &Search, found: &mut Vec<Found>) {
    for stanza in stanzas(text) {
        let mut name = ByteString::default();
        for field in stanza.fields().flatten() {
            let key = field.name.to_ascii_lowercase();
            match (sort, &*key) {
                (Sort::Summaries, b"package") | (Sort::Commands, b"name") => name = field.value.into(),
                (Sort::Summaries, key) if key.starts_with(b"description-") && key != b"description-md5" => {
                    found.push((name.clone(), None, Some(field.value.into())));
                }
                (Sort::Commands, b"commands") => {
                    let commands = field.value.split(|&b| b == b',').map(<[u8]>::trim_ascii);
                    let asked = commands.filter(|command| is_asked(search, command));
                    found.extend(asked.map(|command| (name.clone(), Some(command.into()), None)));
                }
                _ => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_stanzas_name_packages_by_what_they_bring() {
        let search = Search::new(&["tidegauge".into()], &[], SearchScope::Everything);
        let mut found = Vec::new();
        for line in [
            &b"usr/bin/tidegauge          science/tidegauge,universe/science/tidegauge-old\n"[..],
            b"usr/bin/tidegauge-config  science/tidegauge-dev",
            b"usr/share/tidegauge  science/tidegauge-data",
            b"usr/bin/tidegauge",
        ] {
            of_line(line, &search, &mut found);
        }
        of_stanza(b"name: gauges\nversion: 1\ncommands: TideGauge, x\n", Sort::Commands, &search, &mut found);
        of_stanza(
            b"Package: pegel\nDescription-md5: 0\nDescription-de: misst mit tidegauge\n lang\n",
            Sort::Summaries,
            &search,
            &mut found,
        );
        let shown: Vec<String> = found
            .iter()
            .map(|(name, command, summary)| {
                format!("{name} {:?}", command.as_ref().or(summary.as_ref()).map(ToString::to_string))
            })
            .collect();
        assert_eq!(
            shown,
            [
                "tidegauge Some(\"tidegauge\")",
                "tidegauge-old Some(\"tidegauge\")",
                "gauges Some(\"TideGauge\")",
                "pegel Some(\"misst mit tidegauge\")"
            ]
        );
    }
}
