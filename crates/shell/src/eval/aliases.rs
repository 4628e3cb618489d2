//! `alias` and `unalias`.

use super::piece::is_known;
use super::run::Run;
use super::state::{Alias, AliasKind};
use crate::syntax::Dialect;

impl Run<'_> {
    pub(super) fn make_aliases(&mut self, arguments: &[Vec<u8>]) {
        let mut kind = AliasKind::Command;
        let mut has_names = false;
        for word in arguments {
            // The POSIX shell has no options here; the others take none behind the first name.
            let is_option = self.dialect() != Dialect::Posix
                && !has_names
                && word.len() > 1
                && (word.starts_with(b"-") || word.starts_with(b"+"));
            if is_option && !word.contains(&b'=') {
                if word.contains(&b'g') {
                    kind = AliasKind::Global;
                } else if word.contains(&b's') {
                    kind = AliasKind::Suffix;
                }
                continue;
            }
            has_names = true;
            let Some(at) = memchr::memchr(b'=', word) else {
                if !self.state.aliases.contains_key(word) {
                    self.status = Some(1);
                } else if self.output.is_some() {
                    let unknown = self.unknown_value("an alias as the shell writes it");
                    self.write(&unknown);
                }
                continue;
            };
            if !is_known(&word[..at]) {
                let unknown = self.note_unknown("defines an alias whose name is unknown");
                self.state.taints.insert(unknown);
                continue;
            }
            if self.state.aliases.contains_key(&word[..at]) {
                self.moments.dropped.insert(word[..at].to_vec(), self.moments.now);
            }
            self.moments.aliases.insert(word[..at].to_vec(), self.moments.now);
            let (place, value) = (self.place.clone(), word[at + 1..].to_vec());
            self.state
                .aliases
                .insert(word[..at].to_vec(), Alias { value, place, certain: self.word_taints.is_empty(), kind });
        }
    }

    pub(super) fn drop_aliases(&mut self, arguments: &[Vec<u8>]) {
        if arguments.is_empty() {
            self.status = Some(match self.dialect() {
                Dialect::Posix => 0,
                Dialect::Bash => 2,
                Dialect::Zsh => 1,
            });
        }
        if arguments.first().is_some_and(|first| first == b"-a") {
            let all: Vec<Vec<u8>> = self.state.aliases.keys().cloned().collect();
            self.moments.dropped.extend(all.into_iter().map(|name| (name, self.moments.now)));
            self.state.aliases.clear();
        }
        for name in arguments.iter().filter(|name| *name != b"-a") {
            match self.state.aliases.remove(name) {
                Some(_) => drop(self.moments.dropped.insert(name.clone(), self.moments.now)),
                None => self.status = Some(1),
            }
        }
    }
}
