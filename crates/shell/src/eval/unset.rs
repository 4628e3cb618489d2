//! `unset`.

use super::piece::is_known;
use super::run::{Mishap, Run};
use crate::syntax::Dialect;

impl Run<'_> {
    pub(super) fn unset(&mut self, arguments: &[Vec<u8>]) {
        let (mut of_functions, mut of_references) = (false, false);
        for word in arguments {
            match &word[..] {
                b"-f" => of_functions = true,
                b"-v" => of_functions = false,
                b"-n" => of_references = true,
                name if of_references => {
                    if self.state.variables.get(name).is_some_and(|variable| variable.attributes.reference) {
                        self.state.variables.remove(name);
                    }
                }
                name if of_functions && self.state.functions.get(name).is_some_and(|function| function.readonly) => {
                    self.status = Some(1);
                }
                name if of_functions => {
                    if self.state.functions.remove(name).is_none() && self.dialect() == Dialect::Zsh {
                        self.status = Some(1);
                    }
                }
                [.., b']'] if self.dialect() != Dialect::Posix && word.contains(&b'[') => {
                    let at = memchr::memchr(b'[', word).unwrap_or(0);
                    self.unset_element(&word[..at], &word[at + 1..word.len() - 1]);
                }
                name if !is_known(name) => self.taint_for_good("unsets a variable whose name is unknown"),
                name if !crate::syntax::is_name(name) && !name.starts_with(b"-") => {
                    if self.dialect() != Dialect::Bash {
                        self.fail(Mishap::Expansion);
                    }
                }
                name if self.reveals(name) => {}
                name => {
                    let name = &self.state.meant(name).to_vec()[..];
                    let tied = super::lists::tied(name).filter(|_| self.dialect() == Dialect::Zsh);
                    let name = tied.unwrap_or(name);
                    if self.state.variables.get(name).is_some_and(|variable| variable.attributes.readonly) {
                        self.status = Some(1);
                        if self.dialect() != Dialect::Bash {
                            self.fail(Mishap::Expansion);
                        }
                        continue;
                    }
                    let before = self.state.variables.remove(name);
                    self.may_refuse(before.as_ref().map(|before| before.attributes).unwrap_or_default());
                    if let Some(list) = before.as_ref().filter(|list| list.unique || list.unique_list) {
                        self.unset_lists.insert(name.to_vec(), (list.unique, list.unique_list));
                    }
                    let was_there = before.is_some();
                    self.unset_own(name);
                    self.state.to_export.remove(name);
                    // The shells' own variables stay exported.
                    let is_own = match self.dialect() {
                        Dialect::Posix => name == b"PATH",
                        Dialect::Bash => false,
                        Dialect::Zsh => matches!(name, b"PATH" | b"MANPATH" | b"FPATH" | b"CDPATH"),
                    };
                    if is_own && before.is_some_and(|path| path.exported) {
                        self.state.to_export.insert(name.to_vec());
                    }
                    // bash takes a function of that name where there is no variable.
                    if !was_there && self.dialect() == Dialect::Bash && !arguments.iter().any(|word| word == b"-v") {
                        self.state.functions.remove(name);
                    }
                }
            }
        }
    }

    /// In bash, unsetting what a calling function made local brings back what was there before that.
    fn reveals(&mut self, name: &[u8]) -> bool {
        let is_inner = |scope: &Vec<(Vec<u8>, _)>| scope.iter().position(|(known, _)| known == name);
        let Some((last, outer)) = self.scopes.split_last_mut() else { return false };
        if self.at.dialect != Dialect::Bash || is_inner(last).is_some() {
            return false;
        }
        let Some((scope, at)) = outer.iter_mut().rev().find_map(|scope| is_inner(scope).map(|at| (scope, at))) else {
            return false;
        };
        match scope.remove(at) {
            (name, Some(before)) => drop(self.state.variables.insert(name, before)),
            (name, None) => drop(self.state.variables.remove(&name)),
        }
        true
    }
}
