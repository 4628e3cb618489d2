//! `read`, and what gives values to variables by name.

use super::piece::is_known;
use super::run::{Mishap, Run};
use super::state::Value;
use super::stream::Input;
use crate::syntax::{Assigned, Assignment, Dialect, Part, Word};

/// What `read` is told.
struct Reading {
    names: Vec<Vec<u8>>,
    is_list: bool,
    /// Whether it is asked for something that is not followed.
    is_odd: bool,
    /// Whether backslashes are letters like any other.
    is_raw: bool,
    delimiter: u8,
}

impl Reading {
    fn of(arguments: &[Vec<u8>], dialect: Dialect) -> Self {
        let is_zsh = dialect == Dialect::Zsh;
        let mut how = Reading { names: Vec::new(), is_list: false, is_odd: false, is_raw: false, delimiter: b'\n' };
        let (takes_word, odd) =
            if is_zsh { (&b"tu"[..], &b"nNukqzclEeap"[..]) } else { (&b"ptnNui"[..], &b"nNukqzclEe"[..]) };
        let mut words = arguments.iter();
        while let Some(word) = words.next() {
            match &word[..] {
                b"--" => how.names.extend(words.by_ref().cloned()),
                [b'-', letters @ ..] if !letters.is_empty() => {
                    how.is_odd |= letters.iter().any(|letter| odd.contains(letter));
                    how.is_raw |= letters.contains(&b'r');
                    how.is_list |= letters.contains(&b'a') || letters.contains(&b'A');
                    if let Some(b'd') = letters.last() {
                        how.delimiter = words.next().and_then(|text| text.first().copied()).unwrap_or(0);
                    } else if letters.last().is_some_and(|letter| takes_word.contains(letter)) {
                        words.next();
                    }
                }
                name => how.names.push(name.to_vec()),
            }
        }
        if how.names.is_empty() {
            how.names.push(b"REPLY".to_vec());
        }
        how
    }
}

impl Run<'_> {
    /// `read`: a line of what is read, in parts.
    pub(super) fn read(&mut self, arguments: &[Vec<u8>]) {
        let Reading { names, is_list, is_odd, is_raw, delimiter } = Reading::of(arguments, self.dialect());
        self.reads(b"IFS");
        let Some(Input { text, at, taints }) = self.input.clone().filter(|_| !is_odd) else {
            self.input = None;
            let unknown = self.unknown_value("is read from a terminal or a pipe");
            names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            self.status = None;
            return;
        };
        self.read_taints.extend(&taints);
        if at >= text.len() {
            names.iter().for_each(|name| self.assign(name, Value::Text(Vec::new()), false));
            self.status = Some(1);
            return;
        }
        let rest = &text[at..];
        // What is unknown stands between zero bytes here.
        let found = memchr::memchr(delimiter, rest).filter(|_| delimiter != 0 || is_known(rest));
        let length = found.unwrap_or(rest.len());
        let line = rest[..length].to_vec();
        if !is_raw && line.contains(&b'\\') {
            let unknown = self.unknown_value("a line with backslashes that is read");
            names.iter().for_each(|name| self.assign_named(name, unknown.clone()));
            self.status = None;
            self.input = None;
            return;
        }
        let is_told = is_known(&line) && self.read_taints.is_empty();
        self.status = is_told.then(|| u8::from(length == rest.len()));
        // What is unknown may be any number of lines: all that follows is read from it too.
        let next = if is_known(&line) { at + length + 1 } else { at };
        self.input = Some(Input { text, at: next, taints });
        let ifs = self.state.get(b"IFS").map_or_else(|| b" \t\n".to_vec(), <[u8]>::to_vec);
        if !is_known(&ifs) {
            let unknown = self.unknown_value("a line that is split by an unknown IFS");
            names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            return;
        }
        if !is_known(&line) && (is_list || names.len() > 1) {
            let unknown = self.any_number("fields of a line that is unknown");
            names.iter().for_each(|name| self.assign_named(name, unknown.clone()));
            return;
        }
        if is_list {
            let list = super::fields::fields_of(&line, &ifs).into_iter().flatten().collect();
            self.assign(&names[0].clone(), Value::List(list), false);
            return;
        }
        self.give_fields(line, &ifs, &names);
    }

    /// Gives the fields of a line to variables, and all that is left to the last of them.
    fn give_fields(&mut self, mut line: Vec<u8>, ifs: &[u8], names: &[Vec<u8>]) {
        let is_blank = |b: &u8| ifs.contains(b) && matches!(b, b' ' | b'\t' | b'\n');
        let count = names.len();
        for (number, name) in names.iter().enumerate() {
            if is_known(name) && !crate::syntax::is_name(name) && !name.contains(&b'[') {
                self.status = Some(1);
                if self.dialect() == Dialect::Zsh {
                    self.fail(Mishap::Expansion);
                }
                return;
            }
            let start = line.iter().take_while(|b| is_blank(b)).count();
            line.drain(..start);
            let end = line.iter().position(|b| ifs.contains(b)).filter(|_| number + 1 < count).unwrap_or(line.len());
            let mut value: Vec<u8> = line.drain(..end).collect();
            if number + 1 == count {
                while value.last().is_some_and(is_blank) {
                    value.pop();
                }
            } else if line.first().is_some_and(|b| ifs.contains(b)) {
                line.remove(0);
            }
            self.assign_named(name, value);
        }
    }

    /// Gives a text to a variable or to an element of one (`NAME[index]`), as a builtin does that is told its name.
    pub(super) fn assign_named(&mut self, name: &[u8], text: Vec<u8>) {
        match memchr::memchr(b'[', name).filter(|_| name.ends_with(b"]") && self.dialect() != Dialect::Posix) {
            _ if !is_known(name) => self.taint_for_good("gives a value to a variable whose name is unknown"),
            Some(at) => {
                let (name, index) = (name[..at].to_vec(), Some(name[at + 1..name.len() - 1].to_vec()));
                let value = Assigned::Word(Word(vec![Part::Quoted(text)]));
                self.assignment(&Assignment { name, index, append: false, value });
            }
            None => self.assign(name, Value::Text(text), true),
        }
    }
}
