//! What a search asks for, and what it can be found by.

use std::sync::Arc;

use aho_corasick::AhoCorasick;

use crate::bytes::ByteString;

/// In which parts of an entry words are looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SearchScope {
    /// Name, displayed name, summary, keywords and commands.
    #[default]
    Everything,
    /// Name and displayed name.
    Names,
    /// Commands, each of which must be the whole word.
    Commands,
}

/// A search: every word must be found, none of the others.
#[derive(Debug, Clone)]
pub struct Search {
    words: Vec<Word>,
    without: Vec<Word>,
    scope: SearchScope,
    /// All words at once, for a first look at text that is not taken apart yet.
    any: Option<Arc<AhoCorasick>>,
}

/// One word, and what finds it.
#[derive(Debug, Clone)]
struct Word {
    text: ByteString,
    finder: Option<Arc<AhoCorasick>>,
}

/// The parts of an entry that are searched.
#[derive(Debug, Clone, Copy, Default)]
pub struct Described<'d> {
    /// The package's name, or the application's id.
    pub name: &'d [u8],
    /// The name that a user interface shows.
    pub display_name: Option<&'d [u8]>,
    /// What it is, in a line.
    pub summary: Option<&'d [u8]>,
    /// Keywords, and the summary in other languages.
    pub keywords: &'d [ByteString],
    /// The commands that it provides.
    pub commands: &'d [ByteString],
}

/// The part of an entry in which a word was found, the most telling first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Part {
    /// The whole name.
    ExactName,
    /// A whole command.
    Command,
    /// The beginning of the name.
    NamePrefix,
    /// Within the name.
    Name,
    /// Within a keyword.
    Keyword,
    /// Within the summary.
    Summary,
}

impl Part {
    /// The word used in evidence.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Part::ExactName => "is the name",
            Part::Command => "is a command of it",
            Part::NamePrefix => "begins the name",
            Part::Name => "is part of the name",
            Part::Keyword => "is in the keywords",
            Part::Summary => "is in the summary",
        }
    }
}

/// An automaton that finds any of these words, without regard to the case of ASCII letters.
fn finder<'w>(words: impl Iterator<Item = &'w ByteString>) -> Option<Arc<AhoCorasick>> {
    let words: Vec<&[u8]> = words.map(|word| &**word).collect();
    AhoCorasick::builder().ascii_case_insensitive(true).build(words).ok().map(Arc::new)
}

impl Word {
    fn new(text: &ByteString) -> Self {
        let text: ByteString = text.to_string().to_lowercase().into();
        Word { finder: finder(std::iter::once(&text)), text }
    }

    fn is_in(&self, text: &[u8]) -> bool {
        // Beyond ASCII, letters are compared by what Unicode calls their lower case.
        if !self.text.is_ascii() {
            return memchr::memmem::find(String::from_utf8_lossy(text).to_lowercase().as_bytes(), &self.text).is_some();
        }
        self.finder.as_ref().is_some_and(|finder| finder.is_match(text))
    }

    fn is(&self, text: &[u8]) -> bool {
        text.eq_ignore_ascii_case(&self.text)
    }

    /// The most telling part in which the word is found.
    fn part(&self, entry: &Described<'_>, scope: SearchScope) -> Option<Part> {
        let is_command = || entry.commands.iter().any(|command| self.is(command));
        if scope == SearchScope::Commands {
            return is_command().then_some(Part::Command);
        }
        let last = entry.name.rsplit(|&b| b == b'.').next().unwrap_or(entry.name);
        let is_id = memchr::memchr_iter(b'.', entry.name).count() >= 2;
        let names = || [Some(entry.name), Some(last).filter(|_| is_id), entry.display_name].into_iter().flatten();
        if names().any(|name| self.is(name)) {
            return Some(Part::ExactName);
        }
        if scope == SearchScope::Everything && is_command() {
            return Some(Part::Command);
        }
        let begins = |name: &[u8]| name.get(..self.text.len()).is_some_and(|start| self.is(start));
        if names().any(begins) {
            return Some(Part::NamePrefix);
        }
        if names().any(|name| self.is_in(name)) {
            return Some(Part::Name);
        }
        if scope == SearchScope::Names {
            return None;
        }
        if entry.keywords.iter().any(|word| self.is_in(word)) {
            return Some(Part::Keyword);
        }
        entry.summary.is_some_and(|summary| self.is_in(summary)).then_some(Part::Summary)
    }
}

impl Search {
    /// A search for entries with all of `words` and none of `without`.
    #[must_use]
    pub fn new(words: &[ByteString], without: &[ByteString], scope: SearchScope) -> Self {
        let words: Vec<Word> = words.iter().map(Word::new).collect();
        // What is not ASCII has several spellings, and only a whole entry tells whether one of them is there.
        let is_plain = words.iter().all(|word| word.text.is_ascii());
        let any = if is_plain { finder(words.iter().map(|word| &word.text)) } else { None };
        Search { without: without.iter().map(Word::new).collect(), words, scope, any }
    }

    /// Where words are looked for.
    #[must_use]
    pub fn scope(&self) -> SearchScope {
        self.scope
    }

    /// Whether text that is not taken apart yet can belong to an entry with one of the words.
    #[must_use]
    pub fn may_be_in(&self, text: &[u8]) -> bool {
        self.any.as_ref().is_none_or(|any| any.is_match(text))
    }

    /// Whether a text has one of the words.
    #[must_use]
    pub fn is_touched_by(&self, text: &[u8]) -> bool {
        self.words.iter().any(|word| word.is_in(text))
    }

    /// Whether a text has one of the words, or one of those that must not be there.
    #[must_use]
    pub fn is_decided_by(&self, text: &[u8]) -> bool {
        self.is_touched_by(text) || self.without.iter().any(|word| word.is_in(text))
    }

    /// Whether a command is one of the words, or has one of them within it where that counts as found.
    #[must_use]
    pub fn is_command(&self, command: &[u8]) -> bool {
        self.words.iter().any(|word| word.is(command))
    }

    /// Where each word is found in an entry, in the order of the words; `None` where one is missing, or where a word
    /// that must not be there is.
    #[must_use]
    pub fn parts(&self, entry: &Described<'_>) -> Option<Vec<Part>> {
        let parts: Option<Vec<Part>> = self.words.iter().map(|word| word.part(entry, self.scope)).collect();
        let parts = parts?;
        let is_unwanted = |word: &Word| {
            let scope = if self.scope == SearchScope::Names { SearchScope::Names } else { SearchScope::Everything };
            word.part(entry, scope).is_some()
        };
        (!self.without.iter().any(is_unwanted)).then_some(parts)
    }

    /// The words in lower case.
    pub fn words(&self) -> impl Iterator<Item = &ByteString> {
        self.words.iter().map(|word| &word.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_is_found_somewhere_and_none_of_the_others() {
        let keywords = ["Seekarte".into(), "Übersicht der Gezeiten".into()];
        let commands = ["tideplot".into()];
        let entry = Described {
            name: b"org.harbour.ChartDesk",
            display_name: Some(b"Chart Desk"),
            summary: Some(b"Plot charts of the harbour"),
            keywords: &keywords,
            commands: &commands,
        };
        let parts = |words: &[&str], without: &[&str], scope| {
            let owned = |list: &[&str]| list.iter().map(|word| ByteString::from(*word)).collect::<Vec<_>>();
            Search::new(&owned(words), &owned(without), scope).parts(&entry)
        };
        use SearchScope::{Commands, Everything, Names};
        for (words, without, scope, expected) in [
            (&["chartdesk"][..], &[][..], Everything, Some(vec![Part::ExactName])),
            (&["TIDEPLOT"], &[], Everything, Some(vec![Part::Command])),
            (&["chart", "plot"], &[], Everything, Some(vec![Part::NamePrefix, Part::Summary])),
            (&["desk"], &[], Names, Some(vec![Part::Name])),
            (&["plot"], &[], Names, None),
            (&["seekarte"], &[], Everything, Some(vec![Part::Keyword])),
            (&["übersicht"], &[], Everything, Some(vec![Part::Keyword])),
            (&["chart", "lighthouse"], &[], Everything, None),
            (&["chart"], &["harbour"], Everything, None),
            (&["tideplot"], &[], Commands, Some(vec![Part::Command])),
            (&["tide"], &[], Commands, None),
        ] {
            assert_eq!(parts(words, without, scope), expected, "{words:?} without {without:?} in {scope:?}");
        }
    }
}
