//! `export`, `local`, `typeset` and the like.

use std::collections::BTreeMap;

use super::declaration::{Declaration, Options};
use super::lists::LISTS;
use super::piece::is_known;
use super::run::{Flow, Mishap, Run};
use super::state::{Attributes, Value, Variable};
use crate::syntax::{Assigned, Assignment, Dialect, Part, Word, is_name, literal};

impl Run<'_> {
    /// Whether a command takes its words as assignments.
    pub(super) fn declares(&self, name: &[u8]) -> bool {
        let of_all: [&[u8]; 3] = [b"export", b"readonly", b"local"];
        let of_more: [&[u8]; 4] = [b"declare", b"typeset", b"integer", b"float"];
        let is_private = name == b"private" && self.dialect() == Dialect::Zsh;
        (of_all.contains(&name) || is_private || (self.dialect() != Dialect::Posix && of_more.contains(&name)))
            && !self.state.functions.contains_key(name)
    }

    /// `export`, `local`, `declare` and the like.
    pub(super) fn declare(&mut self, command: &[u8], words: &[Word]) -> Flow {
        let in_function = !self.scopes.is_empty();
        let mut how = Declaration::of(command, in_function, self.dialect());
        let refusals = self.refusals;
        let is_bash = self.dialect() == Dialect::Bash;
        if command == b"local" && !in_function && self.dialect() != Dialect::Zsh {
            self.status = Some(1);
            if self.dialect() == Dialect::Posix {
                self.fail(Mishap::Expansion);
            }
            return Flow::Next;
        }
        let (mut has_names, mut is_told, mut asked) = (false, false, Vec::new());
        let expanded = self.with_values(words);
        let words = &expanded[..];
        if self.failure.is_some() {
            return Flow::Next;
        }
        let in_braces = |word: &Word| if is_bash { super::braces::words(word) } else { vec![word.clone()] };
        for word in &words.iter().flat_map(in_braces).collect::<Vec<_>>() {
            if let Some(assignment) = as_assignment(word) {
                has_names = true;
                self.declare_assignment(&assignment, how);
                continue;
            }
            if matches!(word.0.last(), Some(Part::List(_))) {
                self.fail(Mishap::Expansion); // "Cannot assign list to array member".
                return Flow::Next;
            }
            for text in self.fields(std::slice::from_ref(word)) {
                if self.dialect() == Dialect::Bash && command != b"export" && self.declare_element(&text, how) {
                    continue;
                }
                match if has_names { Options::None } else { how.takes(&text) } {
                    Options::Taken => {}
                    Options::End => has_names = true,
                    Options::Refused => {
                        self.refuse_option(&text);
                        return Flow::Next;
                    }
                    Options::None if how.takes_patterns => {
                        return self.anything("declares what fits a pattern");
                    }
                    Options::None => {
                        has_names = true;
                        // In zsh a variable that is only named is printed.
                        is_told |= self.dialect() == Dialect::Zsh && !text.contains(&b'=');
                        if how.prints || how.of_functions {
                            asked.push(text.clone());
                        }
                        if !how.prints || command == b"export" {
                            self.declare_one(&text, how);
                        }
                    }
                }
            }
        }
        if how.keeps_options {
            self.state.options.insert(b"localoptions".to_vec());
        }
        self.status = Some(u8::from(self.refusals > refusals));
        if how.prints && has_names && self.dialect() == Dialect::Zsh {
            self.status = None; // Whether it is set.
        }
        if (how.prints || how.of_functions) && !how.exported {
            self.tell_declared(&asked, how);
        } else if (!has_names || is_told) && self.output.is_some() {
            let unknown = self.unknown_value("a list of variables as the shell writes it");
            self.write(&unknown);
        }
        Flow::Next
    }

    /// `NAME=value` as a word of a command that declares.
    fn declare_assignment(&mut self, assignment: &Assignment, how: Declaration) {
        if self.begin(&assignment.name, how) {
            if how.attributes.reference
                && let Some(old) = self.state.variables.get_mut(&assignment.name)
            {
                old.attributes.reference = false; // Else what it refers to would get the name.
            }
            // bash takes such a text apart as it would an array.
            let is_text_of_list = |word: &Word| literal(word).is_some_and(|text| text.starts_with(b"("));
            match &assignment.value {
                Assigned::Word(word)
                    if self.dialect() == Dialect::Bash && (how.is_list || how.is_map) && is_text_of_list(word) =>
                {
                    let unknown = self.any_number("an array that is given as a text");
                    self.assign(&assignment.name, Value::List(vec![unknown]), false);
                }
                _ => self.assignment(assignment),
            }
            if self.failure.is_none() {
                self.end(&assignment.name, how);
            }
        }
    }

    /// The words, with the values of assignments expanded: all of them are before the first is made.
    fn with_values(&mut self, words: &[Word]) -> Vec<Word> {
        let count = words.iter().filter(|word| as_assignment(word).is_some()).count();
        if count < 2 {
            return words.to_vec();
        }
        let one = |word: &Word| match (as_assignment(word), word.0.first()) {
            (Some(Assignment { name, append, value: Assigned::Word(value), .. }), Some(Part::Plain(_))) => {
                let text = self.one(&value, true);
                let front = [&name[..], if append { b"+=" } else { b"=" }].concat();
                Word(vec![Part::Plain(front), Part::Quoted(text)])
            }
            _ => word.clone(),
        };
        words.iter().map(one).collect()
    }

    /// What a shell does where a command that declares has an option that it does not know.
    fn refuse_option(&mut self, word: &[u8]) {
        match self.dialect() {
            _ if !is_known(word) => drop(self.anything("declares with options that are unknown")),
            Dialect::Bash => self.status = Some(2),
            // Later versions have references (`-n`).
            Dialect::Zsh if word == b"-n" => drop(self.anything("a reference, which not every version of zsh has")),
            Dialect::Zsh => self.status = Some(1),
            Dialect::Posix => self.fail(Mishap::Expansion),
        }
    }

    /// Prints functions or variables, and ends by whether there are such.
    fn tell_declared(&mut self, names: &[Vec<u8>], how: Declaration) {
        let mut all_there = Some(true);
        for name in names {
            let is_there = match (how.of_functions, self.state.functions.get(name)) {
                _ if !is_known(name) => None,
                (true, Some(function)) => function.certain.then_some(true),
                (true, None) => self.state.taints.is_empty().then_some(false),
                (false, _) if self.is_perhaps(name) => None,
                (false, _) => Some(self.state.variables.contains_key(self.state.meant(name))),
            };
            all_there = match (all_there, is_there) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (None, _) | (_, None) => None,
                _ => Some(true),
            };
        }
        let is_set_up = self.read_taints.is_empty() && (how.of_functions || self.state.unset_taints.is_empty());
        self.status = all_there.filter(|_| is_set_up).map(|all| u8::from(!all));
        if self.output.is_some() && !(self.status == Some(1) && names.len() == 1) {
            let unknown = self.unknown_value("a declaration as the shell writes it");
            self.write(&unknown);
        }
    }

    /// `NAME[index]=value`: whether the word is that.
    fn declare_element(&mut self, text: &[u8], how: Declaration) -> bool {
        let Some(at) = memchr::memchr(b'=', text) else { return false };
        let append = text[..at].ends_with(b"+");
        let Some(element) = text[..at - usize::from(append)].strip_suffix(b"]") else { return false };
        let Some(open) = memchr::memchr(b'[', element).filter(|open| is_name(&element[..*open])) else { return false };
        let (name, index) = (element[..open].to_vec(), Some(element[open + 1..].to_vec()));
        let value = Assigned::Word(Word(vec![Part::Quoted(text[at + 1..].to_vec())]));
        if self.begin(&name, how) {
            self.assignment(&Assignment { name: name.clone(), index, append, value });
            self.end(&name, how);
        }
        true
    }

    /// Declares what one word names, with a value or without.
    fn declare_one(&mut self, text: &[u8], how: Declaration) {
        if !is_known(text) {
            const WHY: &str = "declares a variable whose name is unknown";
            if self.dialect() == Dialect::Bash {
                let unknown = self.note_unknown(WHY);
                self.taint_all(unknown);
            } else {
                self.taint_for_good(WHY); // A mistake would end what is read.
            }
            return;
        }
        let (name, value) = match memchr::memchr(b'=', text) {
            Some(at) => (&text[..at], Some(text[at + 1..].to_vec())),
            None => (text, None),
        };
        if !is_name(name) && how.ties {
            return; // What joins the list.
        }
        if !is_name(name) {
            self.refusals += 1;
            if self.dialect() != Dialect::Bash {
                self.fail(Mishap::Expansion);
            }
            return;
        }
        if how.of_functions {
            match self.state.functions.get_mut(name) {
                Some(function) if how.attributes.readonly => function.readonly = true,
                Some(function) if how.exported => function.exported = !how.unexport,
                None if how.exported => self.refusals += 1,
                _ => {}
            }
            return;
        }
        if how.ties && LISTS.contains(&name) {
            // Some are tied from the start.
            if !matches!(name, b"PATH" | b"MANPATH" | b"FPATH") {
                self.taint_for_good("two variables are tied together");
            }
            return;
        }
        if how.ties && super::lists::tied(name).is_none() {
            let unknown = self.unknown_value("two variables are tied together");
            return self.assign(name, Value::Text(unknown), false);
        }
        if !self.begin(name, how) {
            return;
        }
        let is_new = !self.state.variables.contains_key(name);
        if let Some(value) = value {
            self.assign(name, Value::Text(value), false);
        } else if how.is_list && is_new && self.list_of(name).is_none() {
            self.assign(name, Value::List(Vec::new()), false);
        } else if self.dialect() == Dialect::Zsh && is_new && super::lists::tied(name).is_none() && !self.has_own(name)
        {
            self.assign(name, Value::Text(Vec::new()), false);
        }
        self.end(name, how);
    }

    /// Makes a variable what it is declared to be, before it gets its value; `false` where the shell refuses it.
    fn begin(&mut self, name: &[u8], how: Declaration) -> bool {
        let Declaration { is_local, is_map, attributes, .. } = how;
        let is_readonly = self.state.variables.get(name).is_some_and(|variable| variable.attributes.readonly);
        if is_local && is_readonly && self.dialect() == Dialect::Bash {
            self.refusals += 1;
            return false;
        }
        if is_local {
            self.make_local(name);
        }
        let is_indexed =
            matches!(self.state.variables.get(name), Some(Variable { value: Value::List(_) | Value::Sparse(_), .. }));
        if is_map && is_indexed && self.dialect() == Dialect::Bash {
            self.refusals += 1; // bash does not convert one into the other.
            return false;
        }
        if is_map && !matches!(self.state.variables.get(name), Some(Variable { value: Value::Map(_), .. })) {
            self.assign(name, Value::Map(BTreeMap::new()), false);
        }
        if how.clears
            && let Some(variable) = self.state.variables.get_mut(name)
        {
            let Attributes { readonly, reference, .. } = variable.attributes;
            variable.attributes = Attributes { readonly, reference, ..Attributes::default() };
        }
        if attributes.integer || attributes.lower || attributes.upper || attributes.formatted {
            let variable = self.state.variables.entry(name.to_vec()).or_insert_with(|| Variable::text("", false));
            let Attributes { readonly, reference, .. } = variable.attributes;
            variable.attributes = Attributes { readonly, reference, ..attributes };
        }
        true
    }

    /// Makes a variable exported, read-only, or a reference, after it got its value.
    fn end(&mut self, name: &[u8], how: Declaration) {
        self.mark(name, how.exported, how.unexport, how.unique);
        let attributes = how.attributes;
        if !attributes.readonly && !attributes.reference {
            return;
        }
        let name = super::lists::tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(name);
        let variable = self.state.variables.entry(name.to_vec()).or_insert_with(|| Variable::text("", false));
        variable.attributes.readonly |= attributes.readonly;
        variable.attributes.reference |= attributes.reference;
    }

    /// Keeps what a variable is outside this function. In bash it is unset inside, in dash it keeps its value.
    pub(super) fn make_local(&mut self, name: &[u8]) {
        let name = super::lists::tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(name);
        let before = self.state.variables.get(name).cloned();
        let Some(scope) = self.scopes.last_mut() else { return };
        if scope.iter().any(|(known, _)| known == name) {
            return;
        }
        scope.push((name.to_vec(), before));
        if self.dialect() != Dialect::Posix && !LISTS.contains(&name) {
            self.state.variables.remove(name);
        } else if self.at.dialect == Dialect::Zsh
            && let Some(variable) = self.state.variables.get_mut(name)
        {
            variable.attributes.readonly = false;
        }
    }

    pub(super) fn mark(&mut self, name: &[u8], exported: bool, unexport: bool, unique: Option<bool>) {
        let given = name;
        let name = super::lists::tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(name);
        if unique.is_some() && !self.state.variables.contains_key(name) {
            self.state.variables.insert(name.to_vec(), Variable::text("", false));
        }
        let Some(variable) = self.state.variables.get_mut(name) else {
            if exported && !unexport {
                self.state.to_export.insert(name.to_vec());
            }
            return;
        };
        variable.exported = (variable.exported || exported) && !unexport;
        if let Some(unique) = unique {
            if given == name {
                variable.unique = unique;
            } else {
                variable.unique_list = unique;
            }
            let value = variable.value.clone();
            if unique {
                self.assign(given, value, true);
            }
        }
    }
}

/// `NAME=value` as a word of a command that declares.
fn as_assignment(word: &Word) -> Option<Assignment> {
    let Some(Part::Plain(text)) = word.0.first() else { return None };
    let at = memchr::memchr(b'=', text)?;
    let (name, append) = match text[..at].strip_suffix(b"+") {
        Some(name) => (name, true),
        None => (&text[..at], false),
    };
    if !is_name(name) {
        return None;
    }
    let value = match word.0.get(1) {
        Some(Part::List(words)) if at + 1 == text.len() => Assigned::List(words.clone()),
        _ => {
            let rest = (text.len() > at + 1).then(|| Part::Plain(text[at + 1..].to_vec()));
            Assigned::Word(Word(rest.into_iter().chain(word.0[1..].iter().cloned()).collect()))
        }
    };
    Some(Assignment { name: name.to_vec(), index: None, append, value })
}
