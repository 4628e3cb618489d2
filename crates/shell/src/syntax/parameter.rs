//! What begins with `$`, and the output of commands: parameters, arithmetic, substitutions.

use super::word::{arithmetic, closing_bracket, name_at, push_plain};
use super::{Dialect, Parameter, Parsed, Parser, Part, Word, is_name};
use std::sync::Arc;

impl Parser<'_> {
    /// What a dollar or a backquote begins.
    pub(super) fn dollar(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        if self.peek() == Some(b'`') {
            return self.backquoted(parts);
        }
        if self.starts(b"$((")
            && let Some((text, length)) = arithmetic(&self.rest()[3..])
        {
            parts.push(Part::Arithmetic(text.to_vec()));
            self.skip(3 + length);
            return Ok(());
        }
        if self.take(b"$(") {
            let outer = std::mem::take(&mut self.in_double);
            let list = self.list_until(b")")?;
            self.in_double = outer;
            parts.push(Part::Output(Arc::new(list)));
            return Ok(());
        }
        if self.starts(b"$[")
            && self.dialect != Dialect::Posix
            && let Some(length) = memchr::memchr(b']', self.rest())
        {
            parts.push(Part::Arithmetic(self.rest()[2..length].to_vec()));
            self.skip(length + 1);
            return Ok(());
        }
        if self.take(b"${") {
            let parameter = self.parameter()?;
            parts.push(Part::Parameter(Box::new(parameter)));
            return Ok(());
        }
        let rest = &self.rest()[1..];
        let mut before = None;
        let (mut signs, mut flags) = (0, Vec::new());
        if self.dialect == Dialect::Zsh {
            // `$+name`, `$#name`, `$=name`, `$~name`, `$^name`.
            if let [sign @ (b'+' | b'#' | b'=' | b'~' | b'^'), next, ..] = rest
                && (*next == b'_'
                    || next.is_ascii_alphabetic()
                    || *sign == b'#' && (next.is_ascii_digit() || b"?-@*$".contains(next)))
            {
                before = matches!(sign, b'+' | b'#').then_some(*sign);
                flags.extend(matches!(sign, b'=' | b'^' | b'~').then_some(*sign));
                signs = 1;
            }
        }
        // But in zsh `$10` is `$1` and a zero.
        let digits = if self.dialect == Dialect::Zsh { digits_at(&rest[signs..]) } else { 0 };
        let name = name_at(&rest[signs..]).max(digits);
        if name == 0 {
            push_plain(parts, b"$");
            self.skip(1);
            return Ok(());
        }
        let name = rest[signs..signs + name].to_vec();
        self.skip(1 + signs + name.len());
        let mut parameter = Parameter { name, before, flags, ..Parameter::default() };
        if self.dialect == Dialect::Zsh
            && self.peek() == Some(b'[')
            && (is_name(&parameter.name) || matches!(&parameter.name[..], b"@" | b"*"))
            && let Some(length) = closing_bracket(self.rest())
        {
            parameter.index = Some(self.rest()[1..length].to_vec());
            self.skip(length + 1);
        }
        self.modifiers(&mut parameter);
        parts.push(Part::Parameter(Box::new(parameter)));
        Ok(())
    }

    /// zsh takes `$name:h` for a modifier, without braces too.
    fn modifiers(&mut self, parameter: &mut Parameter) {
        let modifiers = b"aAcehlpPqQrstuwWxgfF&";
        let mut letters = Vec::new();
        while let (Dialect::Zsh, [b':', letter, ..]) = (self.dialect, self.rest())
            && modifiers.contains(letter)
        {
            if !letters.is_empty() {
                letters.push(b':');
            }
            letters.push(*letter);
            self.skip(2);
        }
        if !letters.is_empty() {
            parameter.operator = b":".to_vec();
            parameter.argument = Word(vec![Part::Plain(letters)]);
        }
    }

    pub(super) fn backquoted(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        let line = self.line;
        self.skip(1);
        let mut text = Vec::new();
        loop {
            match self.peek() {
                None => return self.wrong("a backquote is not closed"),
                Some(b'`') => break,
                Some(b'\\') => {
                    match self.rest().get(1) {
                        Some(&next @ (b'$' | b'`' | b'\\')) => text.push(next),
                        Some(&next) => text.extend([b'\\', next]),
                        None => return self.wrong("a backquote is not closed"),
                    }
                    self.skip(2);
                }
                Some(byte) => {
                    text.push(byte);
                    self.skip(1);
                }
            }
        }
        self.skip(1);
        let mut inner = Parser { depth: self.depth, ..Parser::at_line(&text, self.dialect, line) };
        let mut list = Vec::new();
        for commands in inner.by_ref() {
            list.extend(commands?);
        }
        parts.push(Part::Output(Arc::new(list)));
        Ok(())
    }

    /// Parses what follows `${`, including the closing brace.
    pub(super) fn parameter(&mut self) -> Parsed<Parameter> {
        let mut parameter = Parameter::default();
        if self.dialect == Dialect::Zsh && self.peek() == Some(b'(') {
            let flags = self.balanced()?;
            parameter.flags = flags[1..flags.len() - 1].to_vec();
        }
        while self.dialect == Dialect::Zsh && matches!(self.peek(), Some(b'=' | b'~' | b'^')) {
            parameter.flags.extend(self.peek());
            self.skip(1);
        }
        if let [sign @ (b'#' | b'!' | b'+'), next, ..] = self.rest() {
            let is_it = match sign {
                b'+' => self.dialect == Dialect::Zsh,
                b'!' => self.dialect == Dialect::Bash,
                _ => *next != b'}' && name_at(&self.rest()[1..]) > 0,
            };
            if is_it && (name_at(&self.rest()[1..]) > 0 || *next == b'{' || *next == b'$') {
                parameter.before = Some(*sign);
                self.skip(1);
            }
        }
        let has_inner = self.starts(b"${") || self.starts(b"$(") || self.starts(b"\"");
        if self.dialect == Dialect::Zsh && has_inner {
            self.deeper()?;
            let mut inner = Vec::new();
            self.part(&mut inner, &|_| false)?;
            parameter.inner = inner.pop().map(Box::new);
            self.depth -= 1;
        } else {
            let length = name_at(self.rest()).max(digits_at(self.rest()));
            parameter.name = self.rest()[..length].to_vec();
            self.skip(length);
        }
        if self.peek() == Some(b'[') && self.dialect != Dialect::Posix {
            let Some(length) = closing_bracket(self.rest()) else { return self.wrong("a bracket is not closed") };
            parameter.index = Some(self.rest()[1..length].to_vec());
            self.skip(length + 1);
        }
        let operators: [&[u8]; 22] = [
            b":-", b":=", b":?", b":+", b"-", b"=", b"?", b"+", b"##", b"#", b"%%", b"%", b"//", b"/#", b"/%", b"/",
            b"^^", b",,", b"^", b",", b"~~", b"~",
        ];
        if let Some(operator) = operators.iter().find(|operator| self.starts(operator)) {
            parameter.operator = operator.to_vec();
            self.skip(operator.len());
        } else if matches!(self.peek(), Some(b':' | b'@')) {
            parameter.operator = vec![self.peek().unwrap_or_default()];
            self.skip(1);
        }
        let takes_text = parameter.operator.iter().any(|byte| b"-=?+".contains(byte));
        let outer = self.in_double;
        self.in_double &= takes_text;
        let is_replacement = parameter.operator.starts_with(b"/");
        // A pattern is not empty in bash, unless it is that of an end: a slash at its start is a part of it.
        let is_anywhere = matches!(&parameter.operator[..], b"/" | b"//");
        let is_slash = is_anywhere && self.dialect == Dialect::Bash && self.take(b"/");
        parameter.argument = self.word_until(&|b| b == b'}' || (is_replacement && b == b'/'))?;
        if is_slash {
            parameter.argument.0.insert(0, Part::Plain(b"/".to_vec()));
        }
        if is_replacement && self.take(b"/") {
            parameter.second = Some(self.word_until(&|b| b == b'}')?);
        }
        self.in_double = outer;
        if self.take(b"}") { Ok(parameter) } else { self.wrong("a brace is not closed") }
    }
}

/// How many digits a text begins with: the number of an argument.
fn digits_at(text: &[u8]) -> usize {
    text.iter().take_while(|byte| byte.is_ascii_digit()).count()
}
