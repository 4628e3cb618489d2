//! `$NAME` and `${…}`: values, defaults, cuts, replacements (XCU 2.6.2, and what bash and zsh add).

use super::piece::{has_known, is_known};
use super::run::Run;
use super::state::{Value, Variable, parts};
use crate::eval::edits::{MAX_CUT, cut_off, modified, replaced, slice};
use crate::syntax::pattern;
use crate::syntax::{Dialect, Parameter};

/// Whether a parameter stands for several fields inside double quotes.
pub(super) fn is_list(parameter: &Parameter) -> bool {
    let whole = |index: &Option<Vec<u8>>| index.as_deref() == Some(b"@");
    (parameter.name == b"@" || whole(&parameter.index) || parameter.flags.contains(&b'@'))
        && parameter.before != Some(b'#')
}

impl Run<'_> {
    /// The values of a parameter.
    pub(super) fn parameter(&mut self, parameter: &Parameter, is_quoted: bool) -> Vec<Vec<u8>> {
        let mut values = match &parameter.inner {
            Some(inner) => {
                let list = self.parameter(inner, is_quoted);
                match &parameter.index {
                    Some(index) => self.indexed(&list, &index.clone()).map(|one| vec![one]),
                    None => Some(list),
                }
            }
            // `${(f)"…"}` of zsh: flags over a text.
            None if parameter.name.is_empty() && parameter.operator.is_empty() => {
                return match self.one(&parameter.argument, false) {
                    text if text.is_empty() => Vec::new(),
                    text => self.flagged(vec![text], &parameter.flags),
                };
            }
            None => self.values(parameter, is_quoted),
        };
        if let Some(result) = self.prefixed(parameter, values.as_ref(), is_quoted) {
            return result;
        }
        values = match self.operated(parameter, values) {
            Ok(values) => values,
            Err(unknown) => return unknown,
        };
        // In zsh what is not set is one empty text, also as a list.
        let is_one = self.dialect() == Dialect::Zsh && is_quoted && parameter.index.is_some();
        let values = values.unwrap_or_else(|| if is_one { vec![Vec::new()] } else { Vec::new() });
        self.flagged(values, &parameter.flags)
    }

    /// `${+name}`, `${#name}` and `${!name}`.
    fn prefixed(
        &mut self,
        parameter: &Parameter,
        values: Option<&Vec<Vec<u8>>>,
        is_quoted: bool,
    ) -> Option<Vec<Vec<u8>>> {
        match parameter.before {
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
                let length = if is_whole { values.len() } else { text };
                Some(vec![length.to_string().into_bytes()])
            }
            Some(b'!') => {
                let name = values.and_then(|values| values.first().cloned()).unwrap_or_default();
                if name.is_empty() {
                    let unknown = self.note_unknown("a variable is named by one that is empty: bash gives up the line");
                    self.taint_all(unknown);
                    return Some(Vec::new());
                }
                let inner = Parameter { name, before: None, ..parameter.clone() };
                Some(self.parameter(&inner, is_quoted))
            }
            _ => None,
        }
    }

    /// What the operator makes of the values. An error is the result itself, without what flags would make of it.
    fn operated(
        &mut self,
        parameter: &Parameter,
        mut values: Option<Vec<Vec<u8>>>,
    ) -> Result<Option<Vec<Vec<u8>>>, Vec<Vec<u8>>> {
        let operator = &parameter.operator[..];
        let is_empty = values.as_ref().is_none_or(|values| values.iter().all(Vec::is_empty));
        let is_missing = if operator.starts_with(b":") { is_empty } else { values.is_none() };
        let depends = operator.starts_with(b":")
            && operator.len() > 1
            && values.as_ref().is_some_and(|values| values.iter().all(|value| !value.is_empty() && !has_known(value)));
        match operator {
            b":-" | b"-" if depends => {}
            b":-" | b"-" if is_missing => values = Some(vec![self.one(&parameter.argument, false)]),
            b":=" | b"=" if is_missing => {
                let value = self.one(&parameter.argument, false);
                self.assign(&parameter.name, Value::Text(value.clone()), false);
                values = Some(vec![value]);
            }
            b":+" | b"+" => {
                values = if is_missing { None } else { Some(vec![self.one(&parameter.argument, false)]) };
            }
            b":?" | b"?" if is_missing => {
                self.fail_file();
            }
            b"#" | b"##" | b"%" | b"%%" => {
                let cut = self.one_pattern(&parameter.argument);
                if values.iter().flatten().any(|value| value.len() > MAX_CUT) {
                    return Err(vec![self.unknown_value("a cut of a value that is too long")]);
                }
                let list = values.get_or_insert_default();
                list.iter_mut().for_each(|value| *value = cut_off(value, operator, &cut));
            }
            b"/" | b"//" | b"/#" | b"/%" => {
                let from = self.one_pattern(&parameter.argument);
                let to = parameter.second.as_ref().map(|word| self.one(word, false)).unwrap_or_default();
                if values.iter().flatten().any(|value| value.len() > MAX_CUT) {
                    return Err(vec![self.unknown_value("a replacement in a value that is too long")]);
                }
                let list = values.get_or_insert_default();
                list.iter_mut().for_each(|value| *value = replaced(value, operator, &from, &to));
            }
            b"^^" | b",," | b"^" | b"," => {
                let change = |byte: &mut u8| {
                    *byte = if operator[0] == b'^' { byte.to_ascii_uppercase() } else { byte.to_ascii_lowercase() };
                };
                for value in values.iter_mut().flatten() {
                    let length = if operator.len() == 2 { value.len() } else { value.len().min(1) };
                    value[..length].iter_mut().for_each(change);
                }
            }
            b":" => values = self.modified_or_sliced(parameter, values),
            _ => {}
        }
        Ok(values)
    }

    /// `${name:…}`: a modifier or a filter of zsh, or a slice.
    fn modified_or_sliced(&mut self, parameter: &Parameter, mut values: Option<Vec<Vec<u8>>>) -> Option<Vec<Vec<u8>>> {
        let argument = self.one(&parameter.argument, false);
        if self.dialect() == Dialect::Zsh && argument.first().is_some_and(u8::is_ascii_alphabetic) {
            let list = values.get_or_insert_with(|| vec![Vec::new()]);
            let changed: Option<Vec<Vec<u8>>> = list.iter().map(|value| modified(value, &argument)).collect();
            values = Some(changed.unwrap_or_else(|| vec![self.unknown_value("a modifier that is unknown here")]));
        } else if argument.starts_with(b"#") && self.dialect() == Dialect::Zsh {
            let wanted = parameter.flags.contains(&b'M');
            values.get_or_insert_default().retain(|value| pattern::fits(&argument[1..], value) == wanted);
        } else {
            let list = values.get_or_insert_default();
            let is_sliced = is_list(parameter);
            let numbers: Vec<Option<i64>> = argument
                .split(|&b| b == b':')
                .map(|text| {
                    let text = self.number(text);
                    std::str::from_utf8(&text).ok().and_then(|text| text.trim().parse().ok())
                })
                .collect();
            let (from, length) = (numbers[0].unwrap_or(0), numbers.get(1).copied().flatten());
            if is_sliced {
                let kept = slice(list.len(), from, length);
                *list = list[kept].to_vec();
            } else {
                list.iter_mut().for_each(|value| *value = value[slice(value.len(), from, length)].to_vec());
            }
        }
        values
    }

    /// An element of a list: by number, or in zsh by a pattern (`(r)`, `(R)`), or its number (`(i)`, `(I)`).
    fn indexed(&mut self, list: &[Vec<u8>], index: &[u8]) -> Option<Vec<u8>> {
        let zsh = self.dialect() == Dialect::Zsh;
        if let (true, [b'(', kind @ (b'i' | b'I' | b'r' | b'R'), b')', fitting @ ..]) = (zsh, index) {
            let mut places = 0..list.len();
            let fits = |at: &usize| pattern::fits(fitting, &list[*at]);
            let place = if kind.is_ascii_uppercase() { places.rfind(fits) } else { places.find(fits) };
            return match (kind.to_ascii_lowercase(), place) {
                (b'r', place) => place.map(|at| list[at].clone()),
                (_, Some(at)) => Some((at + 1).to_string().into_bytes()),
                (_, None) if *kind == b'I' => Some(b"0".to_vec()),
                _ => Some((list.len() + 1).to_string().into_bytes()),
            };
        }
        let number = self.number(index);
        let number: i64 = std::str::from_utf8(&number).ok()?.trim().parse().ok()?;
        let length = i64::try_from(list.len()).ok()?;
        let at = if number < 0 { length + number } else { number - i64::from(zsh) };
        list.get(usize::try_from(at).ok()?).cloned()
    }

    /// What flags of zsh do.
    fn flagged(&mut self, mut values: Vec<Vec<u8>>, flags: &[u8]) -> Vec<Vec<u8>> {
        let mut at = 0;
        while at < flags.len() {
            match flags[at] {
                b'f' => {
                    values = values.iter().flat_map(|value| value.split(|&b| b == b'\n')).map(<[u8]>::to_vec).collect();
                }
                b'F' => values = vec![values.join(&b'\n')],
                b's' | b'j' => {
                    let mark = flags.get(at + 1).copied().unwrap_or(b':');
                    let end = flags[at + 2..].iter().position(|&b| b == mark).map_or(flags.len(), |end| at + 2 + end);
                    let text = &flags[(at + 2).min(end)..end];
                    if flags[at] == b'j' {
                        values = vec![values.join(text)];
                    } else if let [byte] = text {
                        let cut = values.iter().flat_map(|value| value.split(|b| b == byte));
                        values = cut.map(<[u8]>::to_vec).collect();
                    }
                    at = end;
                }
                b'u' => {
                    let mut seen = std::collections::BTreeSet::new();
                    values.retain(|value| seen.insert(value.clone()));
                }
                b'U' => values.iter_mut().for_each(|value| value.make_ascii_uppercase()),
                b'L' => values.iter_mut().for_each(|value| value.make_ascii_lowercase()),
                b'o' => values.sort(),
                b'O' => values.reverse(),
                b'P' => {
                    let name = values.first().cloned().unwrap_or_default();
                    values = self.state.get(&name).map(|value| vec![value.to_vec()]).unwrap_or_default();
                }
                b'@' | b'=' | b'A' | b'q' | b'Q' | b'M' | b'k' | b'v' => {}
                _ => return vec![self.unknown_value("a flag of a variable that is unknown here")],
            }
            at += 1;
        }
        values
    }

    /// A list's parts, where the variable is one. zsh's `path` is `PATH`.
    pub(super) fn list_of(&self, name: &[u8]) -> Option<Vec<Vec<u8>>> {
        if let (Dialect::Zsh, Some(tied)) = (self.dialect(), tied(name)) {
            let list = self.state.get(tied).unwrap_or_default();
            return Some(parts(list).into_iter().map(<[u8]>::to_vec).collect());
        }
        match self.state.variables.get(name) {
            Some(Variable { value: Value::List(list), .. }) => Some(list.clone()),
            _ => None,
        }
    }

    /// The plain values, before anything is done with them; none where it is not set.
    fn values(&mut self, parameter: &Parameter, is_quoted: bool) -> Option<Vec<Vec<u8>>> {
        let name = &parameter.name[..];
        let one = |text: &[u8]| Some(vec![text.to_vec()]);
        match name {
            b"@" => return Some(self.state.arguments.clone()),
            b"*" => {
                let ifs = self.state.get(b"IFS").map_or(Some(b' '), |ifs| ifs.first().copied());
                let list = &self.state.arguments;
                return Some(match ifs {
                    Some(separator) if is_quoted => vec![list.join(&separator)],
                    None if is_quoted => vec![list.concat()],
                    _ => list.clone(),
                });
            }
            b"#" => return one(self.state.arguments.len().to_string().as_bytes()),
            b"?" => {
                return match self.status {
                    Some(status) => one(status.to_string().as_bytes()),
                    None => Some(vec![self.unknown_value("the exit status of a command that is not run")]),
                };
            }
            b"-" => return one(&self.signs()),
            b"$" | b"!" => return Some(vec![self.unknown_value("a process id")]),
            b"0" => return one(&self.at.name.clone()),
            [digit @ b'1'..=b'9'] => {
                return self.state.arguments.get(usize::from(digit - b'1')).map(|text| vec![text.clone()]);
            }
            _ => {}
        }
        let index = parameter.index.clone();
        if let Some(list) = self.list_of(name) {
            let zsh = self.dialect() == Dialect::Zsh;
            return match index.as_deref() {
                Some(b"@" | b"*") => Some(list),
                None if zsh
                    && is_quoted
                    && !parameter.flags.contains(&b'@')
                    && parameter.flags.iter().all(|flag| *flag == b'=') =>
                {
                    Some(vec![list.join(&b' ')])
                }
                None if zsh => Some(list),
                None => list.first().map(|first| vec![first.clone()]),
                Some(index) => self.indexed(&list, index).map(|one| vec![one]),
            };
        }
        if index.is_some() && matches!(name, b"commands" | b"functions" | b"aliases") && self.dialect() == Dialect::Zsh
        {
            let key = index.unwrap_or_default();
            return match name {
                b"commands" => self.which(&key).map(|file| vec![file]),
                b"functions" => self.state.functions.contains_key(&key).then(|| vec![b"1".to_vec()]),
                _ => self.state.aliases.get(&key).map(|alias| vec![alias.value.clone()]),
            };
        }
        let text = self.state.get(name).map(<[u8]>::to_vec).or_else(|| self.own_variable(name))?;
        if index.is_some_and(|index| !matches!(&index[..], b"@" | b"*" | b"0")) {
            return Some(vec![self.unknown_value("an element of a variable that is no list")]);
        }
        Some(vec![text])
    }
}

/// The variable that an array of zsh stands for.
pub(super) fn tied(name: &[u8]) -> Option<&'static [u8]> {
    match name {
        b"path" => Some(b"PATH"),
        b"fpath" => Some(b"FPATH"),
        b"manpath" => Some(b"MANPATH"),
        b"cdpath" => Some(b"CDPATH"),
        _ => None,
    }
}
