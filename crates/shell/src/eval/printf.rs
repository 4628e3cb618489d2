//! `printf`, and escapes in texts (XCU, "printf").

use super::piece::is_known;
use super::run::Run;
use crate::syntax::Dialect;

impl Run<'_> {
    pub(super) fn printf(&mut self, arguments: &[Vec<u8>]) {
        let (variable, rest) = match arguments {
            [option, ..]
                if option.starts_with(b"-")
                    && option.len() > 1
                    && self.dialect() == Dialect::Posix
                    && option != b"--" =>
            {
                self.status = Some(2);
                return;
            }
            [option, name, rest @ ..] if option == b"-v" => (Some(name.clone()), rest),
            [dashes, rest @ ..] if dashes == b"--" => (None, rest),
            all => (None, all),
        };
        let Some((format, values)) = rest.split_first() else {
            self.status = Some(if self.dialect() == Dialect::Zsh { 1 } else { 2 });
            return;
        };
        let mut has_zero = writes_zero(format);
        let format = unescaped(format);
        let mut text = Vec::new();
        let mut values = values.iter();
        loop {
            let mut took = false;
            let mut at = 0;
            while at < format.len() {
                if format[at] != b'%' {
                    text.push(format[at]);
                    at += 1;
                    continue;
                }
                if format[at + 1..].starts_with(b"(") {
                    values.next();
                    took = true;
                    text.extend(self.unknown_value("a date"));
                    at = memchr::memchr(b')', &format[at..]).map_or(format.len(), |end| at + end + 2);
                    continue;
                }
                let letter = format[at + 1..].iter().position(|b| b.is_ascii_alphabetic() || *b == b'%');
                let Some(letter) = letter.map(|letter| at + 1 + letter) else { break };
                match format[letter] {
                    b'%' => text.push(b'%'),
                    kind @ (b's' | b'd' | b'i' | b'c') if letter == at + 1 => {
                        took = true;
                        let value = values.next().cloned().unwrap_or_default();
                        text.extend(self.formatted(kind, value));
                    }
                    b'b' if letter == at + 1 => {
                        took = true;
                        let value = values.next().map_or(&b""[..], Vec::as_slice);
                        has_zero |= writes_zero(value);
                        text.extend(unescaped(value));
                    }
                    _ => {
                        took = true;
                        values.next();
                        text.extend(self.unknown_value("an unsupported form of printf"));
                    }
                }
                at = letter + 1;
            }
            if !took || values.len() == 0 || text.len() > 1 << 20 {
                break;
            }
        }
        // It ends a text, is left out, or parts two, by who reads it.
        if has_zero {
            text = self.unknown_value("a text with a zero byte");
        }
        match variable {
            Some(name) => self.assign_named(&name, text),
            None => self.write(&text),
        }
    }

    /// A value in the form of `%s`, `%c`, `%d` or `%i`.
    fn formatted(&mut self, kind: u8, value: Vec<u8>) -> Vec<u8> {
        match kind {
            b'c' if is_known(&value) => value[..value.len().min(1)].to_vec(),
            b'd' | b'i' if value.is_empty() => b"0".to_vec(),
            b'd' | b'i' if !value.iter().all(u8::is_ascii_digit) || value[0] == b'0' && value.len() > 1 => {
                self.status = None;
                self.unknown_value("a number that printf writes in its own way")
            }
            _ => value,
        }
    }
}

/// Whether the escapes of a text write a zero byte.
pub(super) fn writes_zero(text: &[u8]) -> bool {
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'\\', rest) {
        rest = &rest[at + 1..];
        let digits = rest.iter().take(3).take_while(|byte| byte.is_ascii_digit()).count();
        if digits > 0 && rest[..digits].iter().all(|byte| *byte == b'0') || rest.starts_with(b"x0") {
            return true;
        }
        rest = rest.get(1..).unwrap_or_default();
    }
    false
}

/// `\n`, `\t` and the like as what they stand for.
pub(super) fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut result = Vec::with_capacity(text.len());
    let mut bytes = text.iter().peekable();
    while let Some(&byte) = bytes.next() {
        if byte != b'\\' {
            result.push(byte);
            continue;
        }
        match bytes.next() {
            Some(b'n') => result.push(b'\n'),
            Some(b't') => result.push(b'\t'),
            Some(b'e') => result.push(27),
            Some(b'a') => result.push(7),
            Some(b'\\') => result.push(b'\\'),
            Some(first @ b'0'..=b'7') => {
                let mut number = u32::from(first - b'0');
                while let Some(digit) = bytes.next_if(|b| (b'0'..=b'7').contains(*b)) {
                    number = number * 8 + u32::from(digit - b'0');
                    if number > 31 {
                        break;
                    }
                }
                result.push(u8::try_from(number.max(1)).unwrap_or(b'?'));
            }
            Some(&other) => result.extend([b'\\', other]),
            None => result.push(b'\\'),
        }
    }
    result
}
