//! By what else packages can be found: summaries in other languages, and commands.
//!
//! | what | file in `/var/lib/apt/lists` |
//! |---|---|
//! | summaries | `…_i18n_Translation-LANG`, stanzas with `Description-LANG` |
//! | commands, as command-not-found knows them | `…_cnf_Commands-ARCH`, stanzas with `name` and `commands` |
//! | names that are shown, keywords | `…_dep11_Components-ARCH.yml`, *AppStream* |
//! | files, as apt-file fetches them | `…_Contents-ARCH`, lines of a path and packages (*Debian Repository Format*, "Contents indices") |
//!
//! Only what the words of a search touch is kept: a list of files can have ten million lines.

use hashbrown::HashMap;
use memchr::memmem;
use rayon::prelude::*;

use super::DIR;
use crate::backend::components::Components;
use crate::backend::listed::{Role, role};
use crate::backend::parts::{each_line, each_stanza};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Loss, OfferQuery, Search, SearchScope};
use whodunit_formats::stanza::stanzas;

/// What is known of one package beyond its entry in a list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Text {
    /// The name that is shown.
    pub display_name: Option<ByteString>,
    /// Its summary in other languages, the ids and keywords of its applications.
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

#[derive(Clone, Copy, PartialEq, Eq)]
enum Sort {
    Summaries,
    Commands,
    Files,
    Components,
}

/// What sort of list this is, if it is one that is read here.
fn sort_of(name: &[u8]) -> Option<Sort> {
    let has = |part: &str| memmem::find(name, part.as_bytes()).is_some();
    match () {
        () if has("_i18n_Translation-") => Some(Sort::Summaries),
        () if has("_cnf_Commands-") => Some(Sort::Commands),
        () if has("_Contents-") => Some(Sort::Files),
        () if has("_dep11_Components-") => Some(Sort::Components),
        () => None,
    }
}

impl Texts {
    /// Whether there are lists that name commands, of repositories whose lists begin so.
    pub fn has_commands(root: &Root, stems: &[Vec<u8>]) -> bool {
        lists(root, stems).any(|(_, sort)| matches!(sort, Sort::Commands | Sort::Files))
    }

    /// Reads the lists of the repositories whose lists begin so.
    pub fn read(root: &Root, search: &Search, stems: &[Vec<u8>]) -> Self {
        let is_wanted = |sort: Sort| match search.scope() {
            SearchScope::Everything => true,
            SearchScope::Names => false,
            SearchScope::Commands => sort != Sort::Summaries,
        };
        let is_read_here = |sort: Sort| sort != Sort::Components && is_wanted(sort);
        let wanted: Vec<(ByteString, Sort)> = lists(root, stems).filter(|(_, sort)| is_read_here(*sort)).collect();
        let read: Vec<_> =
            wanted.par_iter().map(|(name, sort)| of_list(root, &path::join(DIR, name), *sort, search)).collect();
        let mut texts = Texts::default();
        for (found, note) in read {
            texts.notes.extend(note);
            for (name, command, summary) in found {
                let text = texts.of.entry(name).or_default();
                text.commands.extend(command.filter(|command| !text.commands.contains(command)));
                text.summaries.extend(summary.filter(|summary| !text.summaries.contains(summary)));
            }
        }
        texts.add(Texts::components(root, stems, &OfferQuery::Search(search.clone())));
        texts
    }

    /// What the distribution says of the applications in its packages.
    pub fn components(root: &Root, stems: &[Vec<u8>], query: &OfferQuery) -> Components {
        let of_sort = lists(root, stems).filter(|(_, sort)| *sort == Sort::Components);
        let files: Vec<ByteString> = of_sort.map(|(name, _)| path::join(DIR, &name)).collect();
        Components::read(root, &files, query)
    }

    fn add(&mut self, components: Components) {
        self.notes.extend(components.notes);
        for (name, said) in components.of {
            let text = self.of.entry(name).or_default();
            text.summaries.extend(said.keywords);
            text.display_name = said.display_name;
            text.commands.extend(said.commands);
        }
    }

    /// What was found of a package.
    pub fn of(&self, name: &[u8]) -> Option<&Text> {
        self.of.get(name)
    }
}

/// The lists of these sorts that are there, of repositories whose lists begin so.
fn lists(root: &Root, stems: &[Vec<u8>]) -> impl Iterator<Item = (ByteString, Sort)> {
    let names = root.names_in(DIR);
    let of_stem = |name: &ByteString| stems.iter().any(|stem| name.starts_with(stem));
    let files = names.into_iter().filter(move |(name, kind)| *kind != Kind::Dir && of_stem(name));
    files.filter_map(|(name, _)| sort_of(&name).map(|sort| (name, sort)))
}

/// A package with a command or a summary.
type Found = (ByteString, Option<ByteString>, Option<ByteString>);

fn of_list(root: &Root, file: &ByteString, sort: Sort, search: &Search) -> (Vec<Found>, Option<Loss>) {
    let bytes = match root.stream(file, Limit::RECORD) {
        Ok(bytes) => bytes,
        Err(error) => return (Vec::new(), Some(Loss::unread(&error, "what it says of packages is unknown"))),
    };
    let mut found = Vec::new();
    let problem = match sort {
        Sort::Files => each_line(bytes, &mut |line| of_line(line, search, &mut found)),
        _ => each_stanza(bytes, &mut |text| {
            if search.may_be_in(text) {
                of_stanza(text, sort, search, &mut found);
            }
        }),
    };
    let note = problem.map(|problem| Loss::damaged(file.clone(), problem, "what follows is unknown"));
    (found, note)
}

fn of_line(line: &[u8], search: &Search, found: &mut Vec<Found>) {
    let line = line.trim_ascii_end();
    // The packages stand behind the last blank; a path may have blanks of its own.
    let Some(at) = line.iter().rposition(u8::is_ascii_whitespace) else { return };
    let file = line[..at].trim_ascii_end();
    let command = path::name(file);
    // Nearly all lines are told by their last part.
    if !search.is_command(command) || role(&path::absolute(file, b"/")) != Some(Role::Command) {
        return;
    }
    for place in line[at + 1..].split(|&b| b == b',') {
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
                    let asked = commands.filter(|command| search.is_command(command));
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
