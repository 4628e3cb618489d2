//! Words become fields: braces, `~`, variables, outputs, splitting, names of files (XCU 2.6).

use super::fields::fields_of;
use super::piece::{has_known, is_known, mark, unknowns_in};
use super::run::Run;
use super::substitute;
use crate::syntax::pattern;
use crate::syntax::{Dialect, Part, Word};

/// A piece of a field while it is made.
#[derive(Debug, Clone)]
pub(super) struct Piece {
    text: Vec<u8>,
    /// Whether patterns mean nothing in it.
    quoted: bool,
}

/// A field while it is made.
#[derive(Debug, Clone, Default)]
pub(super) struct Field {
    pieces: Vec<Piece>,
    /// Whether it stays though it is empty.
    stays: bool,
}

impl Field {
    pub(super) fn push(&mut self, text: &[u8], quoted: bool) {
        self.pieces.push(Piece { text: text.to_vec(), quoted });
    }

    pub(super) fn text(&self) -> Vec<u8> {
        self.pieces.iter().flat_map(|piece| piece.text.iter().copied()).collect()
    }

    pub(super) fn pattern(&self) -> Vec<u8> {
        let one = |piece: &Piece| if piece.quoted { pattern::escaped(&piece.text) } else { piece.text.clone() };
        self.pieces.iter().flat_map(one).collect()
    }

    fn is_kept(&self) -> bool {
        self.stays || self.pieces.iter().any(|piece| !piece.text.is_empty())
    }
}

impl Run<'_> {
    /// The fields that words become.
    pub(super) fn fields(&mut self, words: &[Word]) -> Vec<Vec<u8>> {
        let mut fields = Vec::new();
        for word in words {
            let has = |wanted: &[u8]| {
                let is_it =
                    |part: &Part| matches!(part, Part::Plain(text) if memchr::memmem::find(text, wanted).is_some());
                word.0.iter().any(is_it)
            };
            // In zsh the ends of a range may be variables.
            let is_range = self.dialect() == Dialect::Zsh
                && has(b"{")
                && has(b"..")
                && word.0.iter().any(|part| matches!(part, Part::Parameter(_)));
            let is_odd = |part: &Part| matches!(part, Part::Plain(text) if self.is_taken_otherwise(text));
            if is_range || word.0.iter().any(is_odd) {
                fields.push(self.any_number("a word that an option makes others of"));
                continue;
            }
            let in_braces = if self.has_braces() { super::braces::words(word) } else { vec![word.clone()] };
            for word in in_braces {
                for field in self.split(&word) {
                    self.files(&field, &mut fields);
                }
                if fields.len() > 20_000 {
                    self.stop("too many words");
                    return fields;
                }
            }
        }
        fields
    }

    fn has_braces(&self) -> bool {
        match self.dialect() {
            Dialect::Posix => false,
            Dialect::Bash => self.has_in_bash(b"braceexpand"),
            Dialect::Zsh => !self.state.has(b"ignorebraces"),
        }
    }

    /// One text of a word: of an assignment, a `case`, a redirection.
    pub(super) fn one(&mut self, word: &Word, is_assignment: bool) -> Vec<u8> {
        self.whole(word, is_assignment).text()
    }

    pub(super) fn whole(&mut self, word: &Word, is_assignment: bool) -> Field {
        let mut field = Field::default();
        for (number, part) in word.0.iter().enumerate() {
            match part {
                Part::Plain(text) => {
                    let is_last = number + 1 == word.0.len();
                    let text = self.homes(text, number == 0, is_last, is_assignment);
                    text.into_iter().for_each(|(text, quoted)| field.push(&text, quoted));
                }
                Part::Quoted(text) => field.push(text, true),
                Part::Double(parts) => {
                    let text = self.doubled(parts).into_iter().reduce(|a, b| [a, b].join(&b' '));
                    field.push(&text.unwrap_or_default(), true);
                }
                // zsh joins a list before it would sort it where one text is wanted.
                Part::Parameter(parameter)
                    if parameter.flags.iter().any(|flag| b"oOuinfsz".contains(flag))
                        && (parameter.inner.is_some() || self.list_of(&parameter.name).is_some()) =>
                {
                    let unknown = self.unknown_value("a list that is joined before it is sorted");
                    field.push(&unknown, true);
                }
                Part::Parameter(parameter) => {
                    let values = self.parameter(parameter, false);
                    let quoted = self.dialect() == Dialect::Zsh;
                    let is_star = parameter.name == b"*" || parameter.index.as_deref() == Some(b"*") || quoted;
                    let text = if is_star { self.joined(&values) } else { values.join(&b' ') };
                    field.push(&text, quoted);
                }
                Part::Output(list) => {
                    let text = self.output_of(list);
                    field.push(&text, false);
                }
                part => field.push(&self.unsplit(part), true),
            }
        }
        field
    }

    /// A part that is one text in any case.
    fn unsplit(&mut self, part: &Part) -> Vec<u8> {
        match part {
            Part::Arithmetic(text) => self.number(text),
            Part::Process(_) => self.unknown_value("the name of a pipe from a command that is not run"),
            // Behind `NAME=` where it is no assignment yet, as in the words of `eval`.
            Part::List(words) => {
                let texts: Vec<Vec<u8>> = words.iter().map(|word| self.one(word, false)).collect();
                [b"(", &*texts.join(&b' '), b")"].concat()
            }
            Part::Plain(_) | Part::Quoted(_) | Part::Double(_) | Part::Parameter(_) | Part::Output(_) => Vec::new(),
        }
    }

    /// Text in double quotes: several fields where `$@` or a whole list stands in it.
    fn doubled(&mut self, parts: &[Part]) -> Vec<Vec<u8>> {
        let mut fields: Vec<Vec<u8>> = vec![Vec::new()];
        let mut only_lists = !parts.is_empty();
        for part in parts {
            let add = |fields: &mut Vec<Vec<u8>>, text: &[u8]| {
                if let Some(last) = fields.last_mut() {
                    last.extend_from_slice(text);
                }
            };
            match part {
                Part::Plain(text) | Part::Quoted(text) => {
                    only_lists = false;
                    add(&mut fields, text);
                }
                Part::Parameter(parameter) => {
                    let is_list = substitute::is_list(parameter);
                    only_lists &= is_list;
                    let values = self.parameter(parameter, true);
                    if !is_list {
                        add(&mut fields, &values.join(&b' '));
                        continue;
                    }
                    let mut values = values.into_iter();
                    match values.next() {
                        Some(first) => {
                            only_lists = false;
                            add(&mut fields, &first);
                        }
                        None => continue,
                    }
                    fields.extend(values);
                }
                Part::Output(list) => {
                    only_lists = false;
                    let text = self.output_of(list);
                    add(&mut fields, &text);
                }
                Part::Arithmetic(text) => {
                    only_lists = false;
                    let text = self.number(text);
                    add(&mut fields, &text);
                }
                Part::Double(_) | Part::Process(_) | Part::List(_) => {}
            }
        }
        if only_lists && fields == [b""] { Vec::new() } else { fields }
    }

    /// The fields of a word, before names of files are looked for.
    fn split(&mut self, word: &Word) -> Vec<Field> {
        let mut fields = vec![Field::default()];
        // The fields to which the next part is added: more than one behind `$^name` of zsh.
        let mut open = 0;
        for (number, part) in word.0.iter().enumerate() {
            match part {
                Part::Plain(text) => {
                    let is_last = number + 1 == word.0.len();
                    for (text, quoted) in self.homes(text, number == 0, is_last, false) {
                        for field in &mut fields[open..] {
                            field.stays |= quoted;
                            field.push(&text, quoted);
                        }
                    }
                }
                Part::Quoted(text) => {
                    for field in &mut fields[open..] {
                        field.stays = true;
                        field.push(text, true);
                    }
                }
                Part::Double(parts) => {
                    let mut texts = self.doubled(parts).into_iter();
                    if let Some(first) = texts.next() {
                        for field in &mut fields[open..] {
                            field.stays = true;
                            field.push(&first, true);
                        }
                    }
                    for text in texts {
                        fields.push(Field { pieces: vec![Piece { text, quoted: true }], stays: true });
                        open = fields.len() - 1;
                    }
                }
                Part::Parameter(parameter) if parameter.flags.contains(&b'^') || self.state.has(b"rcexpandparam") => {
                    let values = self.parameter(parameter, false);
                    let before = fields.split_off(open);
                    for field in &before {
                        for value in &values {
                            let mut field = field.clone();
                            field.push(value, true);
                            fields.push(field);
                        }
                    }
                }
                Part::Parameter(parameter) => {
                    let values = self.parameter(parameter, false);
                    let splits = self.splits_words() || parameter.flags.contains(&b'=');
                    for (number, value) in values.into_iter().enumerate() {
                        if number > 0 {
                            fields.push(Field::default());
                            open = fields.len() - 1;
                        }
                        if splits {
                            self.split_text(&value, &mut fields);
                            open = open.max(fields.len() - 1);
                        } else {
                            fields[open..].iter_mut().for_each(|field| field.push(&value, true));
                        }
                    }
                }
                Part::Output(list) => {
                    let text = self.output_of(list);
                    self.split_text(&text, &mut fields);
                    open = open.max(fields.len() - 1);
                }
                part => {
                    let text = self.unsplit(part);
                    fields[open..].iter_mut().for_each(|field| field.push(&text, true));
                }
            }
        }
        if !self.splits_words() {
            self.may_be_none(&mut fields);
        }
        fields.retain(Field::is_kept);
        fields
    }

    /// Notes of fields that are all unknown that they may be empty, and then no words.
    fn may_be_none(&mut self, fields: &mut [Field]) {
        for field in fields.iter_mut().filter(|field| !field.stays && !field.pieces.is_empty()) {
            let text = field.text();
            if !has_known(&text) && !text.is_empty() && self.is_counted([&text]) {
                let many = self.any_number("an unknown text may be no word");
                field.push(&many, true);
            }
        }
    }

    /// An unknown that stands for any number of words.
    pub(super) fn any_number(&mut self, why: &str) -> Vec<u8> {
        let many = self.note_unknown(why);
        self.several.insert(many);
        mark(many)
    }

    /// Whether variables without quotes are split into words.
    pub(super) fn splits_words(&self) -> bool {
        self.dialect() != Dialect::Zsh || self.state.has(b"shwordsplit")
    }

    /// Whether each of these is one word, and none of them several or none.
    pub(super) fn is_counted<'w>(&self, words: impl IntoIterator<Item = &'w Vec<u8>>) -> bool {
        let is_one = |word: &Vec<u8>| is_known(word) || unknowns_in(word).iter().all(|id| !self.several.contains(id));
        words.into_iter().all(is_one)
    }

    /// Splits a text at the bytes of `IFS`.
    fn split_text(&mut self, text: &[u8], fields: &mut Vec<Field>) {
        self.reads(b"IFS");
        let ifs = self.state.get(b"IFS").map_or_else(|| b" \t\n".to_vec(), <[u8]>::to_vec);
        if !is_known(&ifs) {
            let unknown = self.any_number("a text that is split by an unknown IFS");
            fields.last_mut().into_iter().for_each(|field| field.push(&unknown, false));
            return;
        }
        let mut parts = fields_of(text, &ifs);
        if !is_known(text) {
            let many = self.any_number("an unknown text may be several words");
            for part in parts.iter_mut().flatten().filter(|part| !is_known(part)) {
                part.extend_from_slice(&many);
            }
        }
        for (number, part) in parts.into_iter().enumerate() {
            if number > 0 {
                fields.push(Field::default());
            }
            let Some(field) = fields.last_mut() else { return };
            if let Some(part) = part {
                // An empty one between two separators that are no blanks stays.
                field.stays |= part.is_empty();
                field.push(&part, false);
            }
        }
    }
}
