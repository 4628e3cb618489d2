//! What an operator makes of the values of a parameter: `${name:-…}`, `${name#…}`, `${name/…/…}`, `${name:…}`.

use super::edits::{MAX_CUT, cut_off, replaced, slice};
use super::patterns::is_extended;
use super::piece::{has_known, is_known};
use super::run::{Mishap, Run};
use super::state::Value;
use super::substitute::{is_list, is_star};
use crate::syntax::{Dialect, Parameter, pattern};

impl Run<'_> {
    /// What the operator makes of the values. An error is the result itself, without what flags would make of it.
    pub(super) fn operated(
        &mut self,
        parameter: &Parameter,
        mut values: Option<Vec<Vec<u8>>>,
    ) -> Result<Option<Vec<Vec<u8>>>, Vec<Vec<u8>>> {
        let operator = &parameter.operator[..];
        let is_empty = values.as_ref().is_none_or(|values| values.iter().all(Vec::is_empty));
        // In zsh an empty list is set.
        let is_nothing = values.as_ref().is_none_or(|values| values.is_empty() && self.dialect() != Dialect::Zsh);
        let is_missing = if operator.starts_with(b":") { is_empty } else { is_nothing };
        let depends = operator.starts_with(b":")
            && operator.len() > 1
            && values.as_ref().is_some_and(|values| {
                !values.is_empty() && values.iter().all(|value| !value.is_empty() && !has_known(value))
            });
        match operator {
            b":-" | b"-" if depends => {}
            b":+" if depends => return Err(vec![self.unknown_value("whether what is unknown is empty")]),
            b":?" if depends => self.taint_for_good("what is unknown may be empty, and end what is read"),
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
                self.fail(Mishap::Unset);
            }
            b"#" | b"##" | b"%" | b"%%" => {
                let cut = self.one_pattern(&parameter.argument);
                if self.has_extended_glob() && is_extended(&cut) {
                    return Err(vec![self.unknown_value("a cut by an extended pattern")]);
                }
                if !is_known(&cut) || values.iter().flatten().any(|value| !is_cuttable(value, operator, &cut)) {
                    return Err(vec![self.unknown_value("a cut of what is unknown")]);
                }
                if values.iter().flatten().any(|value| value.len() > MAX_CUT) {
                    return Err(vec![self.unknown_value("a cut of a value that is too long")]);
                }
                let list = values.get_or_insert_default();
                list.iter_mut().for_each(|value| *value = cut_off(value, operator, &cut));
            }
            b"/" | b"//" | b"/#" | b"/%" => self.replace_in(parameter, values.get_or_insert_default())?,
            b"^^" | b",," | b"^" | b"," | b"~" | b"~~" if self.dialect() == Dialect::Zsh => {
                self.fail(Mishap::Expansion); // "bad substitution"
            }
            b"^^" | b",," | b"^" | b"," | b"~" | b"~~" => {
                self.change_letters(parameter, values.get_or_insert_default())?;
            }
            b":" => values = self.modified_or_sliced(parameter, values),
            b"@" => return Err(vec![self.unknown_value("a value that is transformed")]),
            // Without an operator nothing stands behind a name, but for the star of `${!prefix*}`.
            b"" if !parameter.argument.0.is_empty() && self.dialect() == Dialect::Posix => {
                self.fail(Mishap::Expansion); // "Bad substitution".
            }
            b"" if !parameter.argument.0.is_empty() => {
                return Err(vec![self.unknown_value("an unsupported form of a parameter")]);
            }
            _ => {}
        }
        Ok(values)
    }

    /// `${name/pattern/text}`.
    fn replace_in(&mut self, parameter: &Parameter, list: &mut [Vec<u8>]) -> Result<(), Vec<Vec<u8>>> {
        let operator = &parameter.operator[..];
        let from = self.one_pattern(&parameter.argument);
        if self.has_extended_glob() && is_extended(&from) {
            return Err(vec![self.unknown_value("a replacement by an extended pattern")]);
        }
        let to = parameter.second.as_ref().map(|word| self.one(word, false)).unwrap_or_default();
        let is_odd = self.state.has(b"nocasematch") || from.is_empty() && self.dialect() == Dialect::Zsh;
        if is_odd {
            return Err(vec![self.unknown_value("a replacement that is not followed")]);
        }
        if !is_known(&from) || list.iter().any(|value| !is_known(value)) {
            return Err(vec![self.unknown_value("a replacement in what is unknown")]);
        }
        if list.iter().any(|value| value.len() > MAX_CUT) {
            return Err(vec![self.unknown_value("a replacement in a value that is too long")]);
        }
        // Since bash 5.2, unless an option says no, an ampersand without quotes stands for what was found.
        let has_ampersand = self.dialect() == Dialect::Bash && to.contains(&b'&');
        if has_ampersand && list.iter().any(|value| replaced(value, operator, &from, b"") != *value) {
            return Err(vec![self.unknown_value("a replacement with an ampersand")]);
        }
        list.iter_mut().for_each(|value| *value = replaced(value, operator, &from, &to));
        Ok(())
    }

    /// `${name^pattern}` and the like of bash.
    fn change_letters(&mut self, parameter: &Parameter, list: &mut [Vec<u8>]) -> Result<(), Vec<Vec<u8>>> {
        let operator = &parameter.operator[..];
        if list.iter().any(|value| !is_known(value)) {
            return Err(vec![self.unknown_value("the letters of what is unknown")]);
        }
        let fitting = self.one_pattern(&parameter.argument);
        if !is_known(&fitting) || list.iter().any(|value| !value.is_ascii()) {
            return Err(vec![self.unknown_value("letters of which some are changed")]);
        }
        let change = |byte: &mut u8| {
            if !fitting.is_empty() && !pattern::fits(&fitting, &[*byte]) {
                return;
            }
            *byte = match operator[0] {
                b'^' => byte.to_ascii_uppercase(),
                b'~' if byte.is_ascii_lowercase() => byte.to_ascii_uppercase(),
                _ => byte.to_ascii_lowercase(),
            };
        };
        for value in list {
            let length = if operator.len() == 2 { value.len() } else { value.len().min(1) };
            value[..length].iter_mut().for_each(change);
        }
        Ok(())
    }

    /// `${name:…}`: a modifier or a filter of zsh, or a slice.
    fn modified_or_sliced(&mut self, parameter: &Parameter, mut values: Option<Vec<Vec<u8>>>) -> Option<Vec<Vec<u8>>> {
        let argument = self.one(&parameter.argument, false);
        if self.dialect() == Dialect::Zsh && argument.first().is_some_and(u8::is_ascii_alphabetic) {
            let list = values.get_or_insert_with(|| vec![Vec::new()]);
            let changed: Option<Vec<Vec<u8>>> = list.iter().map(|value| self.modified_by(value, &argument)).collect();
            values = Some(changed.unwrap_or_else(|| vec![self.unknown_value("a modifier that is unknown here")]));
        } else if argument.starts_with(b"#") && self.dialect() == Dialect::Zsh {
            let fitting = self.one_pattern(&parameter.argument);
            if !is_known(&fitting) || values.iter().flatten().any(|value| !is_known(value)) {
                return Some(vec![self.unknown_value("which elements of a list fit what is unknown")]);
            }
            let wanted = parameter.flags.contains(&b'M');
            values.get_or_insert_default().retain(|value| pattern::fits(&fitting[1..], value) == wanted);
        } else {
            let list = values.get_or_insert_default();
            let is_zsh_list = self.dialect() == Dialect::Zsh
                && parameter.index.is_none()
                && (parameter.inner.is_some() && list.len() != 1 || self.list_of(&parameter.name).is_some());
            let is_sliced = is_list(parameter) || is_star(parameter) || is_zsh_list;
            let numbers: Vec<Option<i64>> = argument
                .split(|&b| b == b':')
                .map(|text| {
                    let text = self.number(text);
                    std::str::from_utf8(&text).ok().and_then(|text| text.trim().parse().ok())
                })
                .collect();
            if list.iter().any(|value| !is_known(value)) || numbers.iter().any(Option::is_none) {
                return Some(vec![self.unknown_value("a part of what is unknown")]);
            }
            let (from, length) = (numbers[0].unwrap_or(0), numbers.get(1).copied().flatten());
            if is_sliced {
                // The arguments begin with what the shell is called.
                if matches!(&parameter.name[..], b"@" | b"*") {
                    list.insert(0, self.at.name.clone());
                }
                let kept = slice(list.len(), from, length);
                *list = list[kept].to_vec();
            } else {
                list.iter_mut().for_each(|value| *value = value[slice(value.len(), from, length)].to_vec());
            }
        }
        values
    }
}

/// Whether a cut at one end of a value touches nothing unknown: a plain text is cut off there, or nothing is.
fn is_cuttable(value: &[u8], operator: &[u8], cut: &[u8]) -> bool {
    if is_known(value) {
        return true;
    }
    if pattern::is_pattern(cut) {
        return false;
    }
    let (plain, unknown) = (pattern::plain(cut), memchr::memchr(0, value).unwrap_or(value.len()));
    match operator[0] {
        b'#' => unknown >= plain.len(),
        _ => value.len() - memchr::memrchr(0, value).map_or(0, |at| at + 1) >= plain.len(),
    }
}
