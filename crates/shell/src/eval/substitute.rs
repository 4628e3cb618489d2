//! `$NAME` and `${…}`: values, defaults, cuts, replacements (XCU 2.6.2, and what bash and zsh add).

use super::lists::tied;
use super::piece::{is_known, mark};
use super::run::{Mishap, Run};
use crate::syntax::{Dialect, Parameter, Part, Word, is_name};

/// Whether a parameter stands for several fields inside double quotes.
pub(super) fn is_list(parameter: &Parameter) -> bool {
    let whole = |index: &Option<Vec<u8>>| index.as_deref() == Some(b"@");
    (parameter.name == b"@" || whole(&parameter.index) || parameter.flags.contains(&b'@'))
        && parameter.before != Some(b'#')
}

/// Whether a parameter stands for all of a list as one text inside double quotes.
pub(super) fn is_star(parameter: &Parameter) -> bool {
    (parameter.name == b"*" || parameter.index.as_deref() == Some(b"*")) && parameter.before.is_none()
}

impl Run<'_> {
    /// The values of a parameter.
    pub(super) fn parameter(&mut self, parameter: &Parameter, is_quoted: bool) -> Vec<Vec<u8>> {
        let is_posix = matches!(&parameter.operator[..], b"" | b"#" | b"##" | b"%" | b"%%")
            || parameter.operator.iter().all(|b| b":-=?+".contains(b)) && parameter.operator != b":";
        if self.dialect() == Dialect::Posix && !is_posix {
            self.fail(Mishap::Expansion); // "Bad substitution".
            return Vec::new();
        }
        let mut values = match &parameter.inner {
            Some(inner) => {
                let list = self.inner(inner, is_quoted);
                match &parameter.index {
                    // Of a single text it would be a letter.
                    Some(_) if list.len() == 1 => Some(vec![self.unknown_value("a part of a value within another")]),
                    Some(index) => match memchr::memchr(b',', index).filter(|_| !index.starts_with(b"(")) {
                        Some(comma) => self.range(&list, &index.clone(), comma),
                        None => self.indexed(&list, &index.clone()).map(|one| vec![one]),
                    },
                    None => Some(list),
                }
            }
            None => self.values(parameter, is_quoted),
        };
        let takes_unset = parameter.operator.iter().any(|b| b"-=?+".contains(b)) && parameter.operator != b":"
            || matches!(parameter.before, Some(b'+' | b'!'))
            || matches!(&parameter.name[..], b"@" | b"*" | b"")
            || matches!(parameter.index.as_deref(), Some(b"@" | b"*"));
        let asks_set = takes_unset && (!parameter.operator.is_empty() || parameter.before == Some(b'+'));
        if asks_set {
            self.reads(&parameter.name);
        }
        if asks_set && self.is_perhaps(&parameter.name) {
            return vec![self.unknown_value("whether a variable is set")];
        }
        if values.is_none() && !takes_unset && self.state.has(b"nounset") {
            self.fail(Mishap::Unbound);
            return Vec::new();
        }
        // A list that was never set is empty, one that was unset is an error: which of them is not kept.
        let text = tied(&parameter.name).filter(|_| self.dialect() == Dialect::Zsh && self.state.has(b"nounset"));
        if text.is_some_and(|text| !takes_unset && self.state.get(text).is_none()) {
            self.taint_for_good("whether a list was unset");
        }
        if let Some(result) = self.prefixed(parameter, values.as_ref(), is_quoted) {
            return result;
        }
        values = match self.operated(parameter, values) {
            Ok(values) => values,
            Err(unknown) => return unknown,
        };
        // In zsh what is not set is one empty text, also as a list.
        let is_one = self.dialect() == Dialect::Zsh && is_quoted && parameter.index.is_some();
        let mut values = values.unwrap_or_else(|| if is_one { vec![Vec::new()] } else { Vec::new() });
        if is_quoted && is_star(parameter) && values.len() > 1 {
            values = vec![self.joined(&values)];
        }
        self.flagged(values, &parameter.flags)
    }

    /// What stands in the place of a name.
    fn inner(&mut self, inner: &Part, is_quoted: bool) -> Vec<Vec<u8>> {
        let word = || Word(vec![inner.clone()]);
        match inner {
            Part::Parameter(parameter) => {
                let values = self.parameter(parameter, is_quoted);
                if !is_quoted && parameter.flags.contains(&b'=') {
                    return vec![self.any_number("words of a value within another")];
                }
                let splits = parameter.flags.iter().any(|flag| b"sfz".contains(flag));
                values.into_iter().filter(|one| is_quoted || !splits || !one.is_empty()).collect()
            }
            Part::Double(parts) if parts.iter().any(|part| matches!(part, Part::Parameter(one) if is_list(one))) => {
                vec![self.any_number("a list in quotes within another value")]
            }
            Part::Output(_) if !is_quoted => self.fields(&[word()]),
            // Nothing at all is no element, whatever it is cut at.
            _ => Some(self.one(&word(), false)).filter(|text| !text.is_empty()).into_iter().collect(),
        }
    }

    /// `${+name}`, `${#name}` and `${!name}`.
    fn prefixed(
        &mut self,
        parameter: &Parameter,
        values: Option<&Vec<Vec<u8>>>,
        is_quoted: bool,
    ) -> Option<Vec<Vec<u8>>> {
        match parameter.before {
            Some(b'+')
                if values
                    .is_some_and(|values| values.iter().any(|one| parameter.name == b"commands" && !is_known(one))) =>
            {
                values.cloned()
            }
            Some(b'+') => Some(vec![if values.is_some() { b"1".to_vec() } else { b"0".to_vec() }]),
            Some(b'#') => {
                let is_whole = matches!(parameter.index.as_deref(), Some(b"@" | b"*"))
                    || matches!(&parameter.name[..], b"@" | b"*")
                    || self.dialect() == Dialect::Zsh && self.list_of(&parameter.name).is_some();
                let values = values.cloned().unwrap_or_default();
                if values.iter().any(|value| !is_known(value)) {
                    return Some(vec![self.unknown_value("the length of what is unknown")]);
                }
                let text = values.first().map_or(0, |value| String::from_utf8_lossy(value).chars().count());
                let is_list = is_whole || parameter.inner.is_some() && values.len() != 1;
                if !is_list
                    && matches!(parameter.inner.as_deref(), Some(Part::Parameter(inner)) if !inner.flags.is_empty())
                {
                    return Some(vec![self.unknown_value("the length of a value within another")]);
                }
                let length = if is_list { values.len() } else { text };
                Some(vec![length.to_string().into_bytes()])
            }
            Some(b'!') if matches!(parameter.index.as_deref(), Some(b"@" | b"*")) => {
                Some(self.keys_of(&parameter.name))
            }
            // `${!prefix*}` and `${!prefix@}`
            Some(b'!') if matches!(parameter.operator[..], [b'@']) && parameter.argument.0.is_empty() => {
                Some(vec![self.any_number("the names of variables")])
            }
            Some(b'!') if !parameter.argument.0.is_empty() && parameter.operator.is_empty() => {
                Some(vec![self.any_number("the names of variables")])
            }
            Some(b'!')
                if self.state.variables.get(&parameter.name).is_some_and(|variable| variable.attributes.reference) =>
            {
                Some(vec![self.state.meant(&parameter.name).to_vec()])
            }
            Some(b'!') => {
                let name = values.and_then(|values| values.first().cloned()).unwrap_or_default();
                if !is_known(&name) {
                    // It may name no variable, too: that ends the line.
                    let unknown = self.note_unknown("a variable whose name is unknown");
                    self.taint_all(unknown);
                    return Some(vec![mark(unknown)]);
                }
                let is_element = name.ends_with(b"]") && name.contains(&b'[');
                // A number of an argument, or a sign: `$1`, `$@`.
                let is_special = name.iter().all(u8::is_ascii_digit)
                    || matches!(name[..], [b'@' | b'*' | b'#' | b'?' | b'-' | b'$' | b'!']);
                if name.is_empty() || !(is_name(&name) || is_element || is_special) {
                    self.fail(Mishap::Expansion); // "invalid indirect expansion"
                    return Some(Vec::new());
                }
                let (name, index) = match memchr::memchr(b'[', &name).filter(|_| is_element) {
                    Some(at) => (name[..at].to_vec(), Some(name[at + 1..name.len() - 1].to_vec())),
                    None => (name, None),
                };
                let inner = Parameter { name, index, before: None, ..parameter.clone() };
                Some(self.parameter(&inner, is_quoted))
            }
            _ => None,
        }
    }

    /// Several texts as one, with the first byte of `IFS` between them.
    pub(super) fn joined(&mut self, list: &[Vec<u8>]) -> Vec<u8> {
        if list.len() > 1 && self.state.get(b"IFS").is_some_and(|ifs| !is_known(ifs)) {
            return self.unknown_value("a list that is joined by an unknown IFS");
        }
        if list.len() > 1 {
            self.reads(b"IFS");
        }
        match self.state.get(b"IFS").map_or(Some(b' '), |ifs| ifs.first().copied()) {
            Some(separator) => list.join(&separator),
            None => list.concat(),
        }
    }

    /// Notes the unknowns about a variable that is read.
    pub(super) fn reads(&mut self, name: &[u8]) {
        let name = tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(self.state.meant(name));
        if let Some(variable) = self.state.variables.get(name) {
            self.read_taints.extend(&variable.taints);
        } else if is_name(name) && !self.has_own(name) {
            // What is not set may have been set by what is not known.
            self.read_taints.extend(&self.state.unset_taints);
        }
    }

    /// The values of a parameter that the shell itself keeps: arguments, status, options; `None` for a variable.
    fn special(&mut self, name: &[u8]) -> Option<Option<Vec<Vec<u8>>>> {
        let one = |text: &[u8]| Some(vec![text.to_vec()]);
        if matches!(name, b"@" | b"*" | b"#") || (name.iter().all(u8::is_ascii_digit) && name != b"0") {
            self.read_taints.extend(&self.state.argument_taints);
        }
        let of_pipeline: &[u8] = if self.dialect() == Dialect::Zsh { b"pipestatus" } else { b"PIPESTATUS" };
        if name == of_pipeline && self.dialect() != Dialect::Posix {
            return Some(Some(vec![self.unknown_value("the exit statuses of a pipeline")]));
        }
        let name = match (self.dialect(), name) {
            (Dialect::Zsh, b"ARGC") => &b"#"[..],
            (Dialect::Zsh, b"status") => b"?",
            (_, name) => name,
        };
        Some(match name {
            b"@" | b"*" => Some(self.state.arguments.clone()),
            b"#" if !self.is_counted(&self.state.arguments) => {
                Some(vec![self.unknown_value("the number of arguments")])
            }
            b"#" => one(self.state.arguments.len().to_string().as_bytes()),
            b"?" => match self.status {
                Some(status) => one(status.to_string().as_bytes()),
                None => Some(vec![self.unknown_value("the exit status of a command that is not run")]),
            },
            b"-" => one(&self.signs()),
            b"$" | b"!" => Some(vec![self.unknown_value("a process id")]),
            b"0" => one(&self.at.name.clone()),
            [b'1'..=b'9', rest @ ..] if rest.iter().all(u8::is_ascii_digit) => {
                let number: usize =
                    std::str::from_utf8(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usize::MAX);
                if !self.is_counted(self.state.arguments.iter().take(number)) {
                    return Some(Some(vec![self.unknown_value("an argument behind unknown ones")]));
                }
                self.state.arguments.get(number - 1).map(|text| vec![text.clone()])
            }
            _ => return None,
        })
    }

    /// The plain values, before anything is done with them; none where it is not set.
    fn values(&mut self, parameter: &Parameter, is_quoted: bool) -> Option<Vec<Vec<u8>>> {
        let name = &parameter.name[..];
        let is_part = self.dialect() == Dialect::Zsh && parameter.index.is_some() && matches!(name, b"@" | b"*");
        if is_part {
            self.read_taints.extend(&self.state.argument_taints);
        } else if let Some(values) = self.special(name) {
            return values;
        }
        self.reads(name);
        let index = parameter.index.clone();
        let zsh = self.dialect() == Dialect::Zsh;
        let (keys, vals) = (parameter.flags.contains(&b'k'), parameter.flags.contains(&b'v'));
        if zsh && name == b"options" && !self.state.variables.contains_key(name) {
            return self.option_value(index.as_deref(), keys, vals);
        }
        if (zsh && (keys || vals))
            && let Some(pairs) = self.pairs_of(name, keys, vals)
        {
            return Some(pairs);
        }
        let is_whole = matches!(index.as_deref(), None | Some(b"@" | b"*"));
        let is_table = zsh && matches!(name, b"commands" | b"functions" | b"aliases");
        if is_table && is_whole {
            return Some(vec![self.any_number("a table of the shell's own")]);
        }
        if name == b"argv" && zsh {
            self.read_taints.extend(&self.state.argument_taints);
        }
        if index.is_some() && !is_whole && !is_table {
            let index = index.unwrap_or_default();
            let comma = memchr::memchr(b',', &index).filter(|_| zsh && !index.starts_with(b"("));
            return match (comma, self.list_of(name)) {
                (Some(_), Some(list)) if list.iter().any(|one| !is_known(one)) => {
                    Some(vec![self.unknown_value("a part of a list that is unknown")])
                }
                (Some(comma), Some(list)) => self.range(&list, &index, comma),
                (Some(comma), None) => {
                    let text = self.state.get(name)?.to_vec();
                    let part = if is_known(&text) && text.is_ascii() { self.range(&text, &index, comma) } else { None };
                    Some(vec![part.unwrap_or_else(|| self.unknown_value("a part of a text"))])
                }
                (None, _) => self.element(name, &index).map(|one| vec![one]),
            };
        }
        if let Some(list) = self.list_of(name) {
            return match index.as_deref() {
                Some(_) => Some(list),
                None if zsh
                    && is_quoted
                    && parameter.before != Some(b'#')
                    && !parameter.flags.contains(&b'@')
                    && parameter.flags.iter().all(|flag| *flag == b'=') =>
                {
                    Some(vec![self.joined(&list)])
                }
                None if zsh => Some(list),
                None => self.element(name, b"0").map(|one| vec![one]),
            };
        }
        if index.is_some() && matches!(name, b"commands" | b"functions" | b"aliases") && self.dialect() == Dialect::Zsh
        {
            let key = index.unwrap_or_default();
            return match name {
                b"commands" => match self.which(&key) {
                    Some(file) => Some(vec![file]),
                    // What zsh found before it may still know.
                    None if self.which_in(&self.first_path, &key).is_some() => {
                        Some(vec![self.unknown_value("a command that was found before the search path changed")])
                    }
                    None => None,
                },
                b"functions" => self.state.functions.contains_key(&key).then(|| vec![b"1".to_vec()]),
                _ => self.state.aliases.get(&key).map(|alias| vec![alias.value.clone()]),
            };
        }
        Some(vec![self.text_of(name)?])
    }
}
