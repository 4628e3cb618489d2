//! `set` and `fish_add_path`.

use super::Fish;
use crate::FileType;
use crate::eval::piece::is_known;
use crate::eval::run::Scopes;
use crate::eval::state::Variable;
use whodunit_formats::bytes::path;

/// The options of `set`.
#[derive(Debug, Clone, Copy, Default)]
struct Options {
    exported: Option<bool>,
    local: bool,
    /// Whether it is global or universal.
    is_wide: bool,
    erase: bool,
    query: bool,
    append: bool,
    prepend: bool,
    /// Whether there is one that fish does not know.
    is_wrong: bool,
    /// Whether its elements are joined by colons.
    joins: Option<bool>,
}

/// The long options of `set`.
const LONG: [&[u8]; 16] = [
    b"--append",
    b"--erase",
    b"--export",
    b"--function",
    b"--global",
    b"--help",
    b"--local",
    b"--long",
    b"--names",
    b"--path",
    b"--prepend",
    b"--query",
    b"--show",
    b"--unexport",
    b"--universal",
    b"--unpath",
];

/// The option that a word is, or begins: fish takes what is not ambiguous.
pub(super) fn full_option<'o>(word: &[u8], options: &[&'o [u8]]) -> Option<&'o [u8]> {
    let mut found = options.iter().copied().filter(|option| option.starts_with(word));
    let exact = options.iter().copied().find(|option| *option == word);
    exact.or_else(|| found.next().filter(|_| found.next().is_none()))
}

impl Options {
    /// The options at the start, and how many words they are.
    fn of(arguments: &[Vec<u8>]) -> (Self, usize) {
        let mut options = Options::default();
        let mut at = 0;
        while let Some(word) = arguments.get(at).filter(|word| word.len() > 1 && word.starts_with(b"-")) {
            at += 1;
            match &word[..] {
                b"--" => break,
                word if word.starts_with(b"--") => match full_option(word, &LONG) {
                    Some(b"--export") => options.take(b'x'),
                    Some(b"--unexport") => options.take(b'u'),
                    Some(b"--local" | b"--function") => options.take(b'l'),
                    Some(b"--global" | b"--universal") => options.take(b'g'),
                    Some(b"--erase") => options.take(b'e'),
                    Some(b"--query") => options.take(b'q'),
                    Some(b"--append") => options.take(b'a'),
                    Some(b"--prepend") => options.take(b'p'),
                    Some(b"--path") => options.joins = Some(true),
                    Some(b"--unpath") => options.joins = Some(false),
                    Some(_) => {}
                    None => options.is_wrong = true,
                },
                letters if letters[1..].iter().any(|letter| !b"aefghlLnpqSuUx".contains(letter)) => {
                    options.is_wrong = true;
                }
                letters => letters[1..].iter().for_each(|letter| options.take(*letter)),
            }
        }
        (options, at)
    }

    fn take(&mut self, letter: u8) {
        match letter {
            b'x' => self.exported = Some(true),
            b'u' => self.exported = Some(false),
            b'l' | b'f' => self.local = true,
            b'g' | b'U' => self.is_wide = true,
            b'e' => self.erase = true,
            b'q' => self.query = true,
            b'a' => self.append = true,
            b'p' => self.prepend = true,
            _ => {}
        }
    }
}

impl Fish<'_> {
    pub(super) fn set(&mut self, arguments: &[Vec<u8>]) {
        let (options, at) = Options::of(arguments);
        let Options { exported, local, erase, append, prepend, joins, is_wide, .. } = options;
        let rest = &arguments[at..];
        if arguments[..at].iter().any(|word| !is_known(word)) {
            return self.run.taint_for_good("options of `set` that are unknown");
        }
        if options.is_wrong {
            self.run.status = Some(2);
            return;
        }
        if options.query {
            self.query(rest);
            return;
        }
        let Some((name, values)) = rest.split_first() else {
            self.run.status = Some(0);
            return;
        };
        if !is_known(name) {
            let unknown = self.note_unknown("sets a variable whose name is unknown");
            return self.taint_all(unknown);
        }
        let (name, index) = match memchr::memchr(b'[', name) {
            Some(open) => (name[..open].to_vec(), Some(name[open + 1..].to_vec())),
            None => (name.clone(), None),
        };
        let old = self.list_of(&name).unwrap_or_default();
        if let Some(index) = index {
            return self.set_element(&name, old, &index, (!erase).then_some(values), exported);
        }
        if erase {
            let was_set = self.run.state.variables.contains_key(&name);
            self.erase(&name, local, is_wide);
            self.run.status = Some(if was_set { 0 } else { 4 }).filter(|_| self.run.state.unset_taints.is_empty());
            self.after_change(&name);
            return;
        }
        let is_new = !self.run.state.variables.contains_key(&name);
        if is_new && !local && !is_wide && self.in_function() {
            self.hide_in_function(&name);
        }
        if local {
            self.hide(&name);
        }
        let values = values.to_vec();
        if joins.is_some() {
            let variable = self.run.state.variables.entry(name.clone()).or_insert_with(|| Variable::text("", false));
            variable.attributes.path = joins;
        }
        // Whether it was made of the old one is seen by what is in it.
        let holds_old = !old.is_empty() && values.windows(old.len()).any(|some| some == old);
        let list = match (append, prepend) {
            (true, true) => [&values[..], &old, &values].concat(),
            (true, _) => [old, values].concat(),
            (_, true) => [values, old].concat(),
            _ => values,
        };
        let is_made_of_old = append || prepend || holds_old;
        if append || prepend {
            self.run.reads(&name);
        }
        match is_wide && self.is_hidden(&name) {
            true => self.assign_outside(&name, list, exported),
            false => self.assign(&name, list, is_made_of_old, exported),
        }
        self.tell_watchers(&name);
    }

    /// Calls the functions that wait for a change of a variable.
    pub(super) fn tell_watchers(&mut self, name: &[u8]) {
        for function in self.watchers.get(name).cloned().unwrap_or_default() {
            if let Some(defined) = self.load(&function) {
                let status = self.run.status;
                let _ = self.call(&defined, vec![b"VARIABLE".to_vec(), b"SET".to_vec(), name.to_vec()]);
                self.run.status = status;
            }
        }
    }

    /// `set --query`: how many of these are not set.
    fn query(&mut self, rest: &[Vec<u8>]) {
        let missing = rest.iter().filter(|name| !self.is_set(name)).count();
        let is_perhaps = rest.iter().any(|name| self.is_perhaps(name));
        for name in rest {
            self.run.reads(name.split(|&b| b == b'[').next().unwrap_or_default());
        }
        let is_certain = !is_perhaps && self.run.read_taints.is_empty();
        self.run.status = Some(u8::try_from(missing).unwrap_or(255)).filter(|_| is_certain);
    }

    /// `set NAME[index] value` and `set --erase NAME[index]`.
    fn set_element(
        &mut self,
        name: &[u8],
        mut list: Vec<Vec<u8>>,
        index: &[u8],
        values: Option<&[Vec<u8>]>,
        exported: Option<bool>,
    ) {
        self.run.reads(name);
        if list.iter().any(|one| !is_known(one)) || !is_known(index) {
            // What is unknown may be several elements, or none.
            let unknown = self.note_unknown("changes an element of a list that is unknown");
            self.taint_all(unknown);
            return;
        }
        let number: Option<i64> = String::from_utf8_lossy(index).trim_end_matches(']').trim().parse().ok();
        let length = i64::try_from(list.len()).unwrap_or(0);
        let place = number.map(|number| if number < 0 { length + number } else { number - 1 });
        if let Some(place) = place.and_then(|place| usize::try_from(place).ok()).filter(|place| *place < list.len()) {
            match values {
                None => drop(list.remove(place)),
                Some([value]) => list[place].clone_from(value),
                Some(_) => list = vec![self.run.any_number("several elements of a list are set")],
            }
        } else if number.is_none() || values.is_some() {
            list = vec![self.run.any_number("elements of a list beyond its end, or several of them")];
        }
        self.assign(name, list, true, exported);
    }

    /// Takes away a variable: that of the innermost block which has one for itself, and then the one outside is seen again.
    fn erase(&mut self, name: &[u8], only_local: bool, only_wide: bool) {
        let at = |scope: &[(Vec<u8>, Option<Variable>)]| scope.iter().position(|(known, _)| known == name);
        if only_wide && let Some((_, outermost)) = self.scopes.iter_mut().flatten().find(|(known, _)| known == name) {
            *outermost = None;
            return;
        }
        let inner = self.scopes.iter_mut().rev().find_map(|scope| Some(scope.remove(at(scope)?).1));
        match inner {
            Some(Some(outside)) => drop(self.run.state.variables.insert(name.to_vec(), outside)),
            None if only_local => {}
            Some(None) | None => drop(self.run.state.variables.remove(name)),
        }
    }

    /// Whether a block has a variable of this name for itself.
    pub(super) fn is_hidden(&self, name: &[u8]) -> bool {
        self.scopes.iter().flatten().any(|(known, _)| known == name)
    }

    /// Sets the global variable behind one of a block.
    fn assign_outside(&mut self, name: &[u8], list: Vec<Vec<u8>>, exported: Option<bool>) {
        let own = self.run.state.variables.remove(name);
        let outermost = |scopes: &mut Scopes, with: Option<Variable>| {
            let entry = scopes.iter_mut().flatten().find(|(known, _)| known == name);
            entry.and_then(|(_, kept)| std::mem::replace(kept, with))
        };
        if let Some(global) = outermost(&mut self.scopes, None) {
            self.run.state.variables.insert(name.to_vec(), global);
        }
        self.assign(name, list, true, exported);
        let global = self.run.state.variables.remove(name);
        outermost(&mut self.scopes, global);
        if let Some(own) = own {
            self.run.state.variables.insert(name.to_vec(), own);
        }
    }

    /// Whether nobody knows if a variable, or its element of a number, is set.
    fn is_perhaps(&self, name: &[u8]) -> bool {
        let end = memchr::memchr(b'[', name).unwrap_or(name.len());
        let is_unknown = || self.list_of(&name[..end]).is_some_and(|list| list.iter().any(|one| !is_known(one)));
        self.run.is_perhaps(&name[..end]) || (end < name.len() && is_unknown())
    }

    /// Whether a variable, or its element of a number, is set.
    pub(super) fn is_set(&self, name: &[u8]) -> bool {
        let Some(at) = memchr::memchr(b'[', name) else { return self.run.state.variables.contains_key(name) };
        let length = self.list_of(&name[..at]).unwrap_or_default().len();
        let number = std::str::from_utf8(&name[at + 1..name.len() - 1]).ok().and_then(|text| text.trim().parse().ok());
        number.is_some_and(|number: i64| number != 0 && number.unsigned_abs() <= length as u64)
    }

    pub(super) fn add_path(&mut self, arguments: &[Vec<u8>]) {
        let has = |letter: u8, long: &[u8]| {
            let is_it = |word: &Vec<u8>| {
                word == long || (word.starts_with(b"-") && !word.starts_with(b"--") && word[1..].contains(&letter))
            };
            arguments.iter().any(is_it)
        };
        let (append, moves, is_path) = (has(b'a', b"--append"), has(b'm', b"--move"), has(b'P', b"--path"));
        let variable: &[u8] = if is_path { b"PATH" } else { b"fish_user_paths" };
        let old = self.list_of(variable).unwrap_or_default();
        let (mut new, mut kept) = (Vec::new(), old.clone());
        for word in arguments.iter().filter(|word| !word.starts_with(b"-")) {
            if !is_known(word) {
                new.push(word.clone());
                continue;
            }
            let dir = path::without_dots(word, &self.run.state.dir).to_vec();
            if self.run.kind(&dir) != Some(FileType::Dir) || new.contains(&dir) {
                continue;
            }
            if old.contains(&dir) {
                if !moves {
                    continue;
                }
                kept.retain(|one| *one != dir);
            }
            new.push(dir);
        }
        let known: &[u8] = b"agmnpPUv";
        let is_odd = |word: &Vec<u8>| {
            word.starts_with(b"-") && !word.starts_with(b"--") && word[1..].iter().any(|letter| !known.contains(letter))
        };
        if arguments.iter().any(is_odd) {
            self.run.status = None;
            return;
        }
        if new.is_empty() || has(b'n', b"--dry-run") {
            self.run.status = Some(u8::from(new.is_empty()));
            return;
        }
        let list = if append { [kept, new].concat() } else { [new, kept].concat() };
        self.assign(variable, list, true, is_path.then_some(true));
    }
}
