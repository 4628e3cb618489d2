//! The options of `export`, `local`, `typeset` and the like.

use super::state::Attributes;
use crate::syntax::Dialect;

/// What a command that declares does with the names behind its options.
#[derive(Debug, Clone, Copy)]
pub(super) struct Declaration {
    pub dialect: Dialect,
    /// Whether the options are those of `export`.
    pub is_export: bool,
    /// Whether the command is `local`.
    pub is_local_word: bool,
    /// Whether the command is `readonly`.
    pub is_readonly_word: bool,
    pub is_local: bool,
    pub exported: bool,
    pub unexport: bool,
    pub unique: Option<bool>,
    pub of_functions: bool,
    pub is_list: bool,
    pub is_map: bool,
    pub ties: bool,
    /// Whether the options of the shell are those of before again after the function.
    pub keeps_options: bool,
    /// Whether it prints what is declared, and declares nothing.
    pub prints: bool,
    pub attributes: Attributes,
    /// Whether it is no number, and keeps its letters, from now on (`typeset +i`).
    pub clears: bool,
    /// Whether the next word may be a width or a base.
    pub takes_number: bool,
    /// Whether its words are patterns of names.
    pub takes_patterns: bool,
}

/// What a word that follows a command that declares is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Options {
    None,
    Taken,
    End,
    Refused,
}

impl Declaration {
    pub(super) fn of(command: &[u8], in_function: bool, dialect: Dialect) -> Self {
        let (is_export, is_local_word) = (command == b"export", command == b"local");
        let (readonly, integer, formatted) = (command == b"readonly", command == b"integer", command == b"float");
        Declaration {
            dialect,
            is_export,
            is_local_word,
            is_readonly_word: readonly,
            // `readonly` makes a variable local in zsh alone.
            is_local: is_local_word || (in_function && !is_export && (!readonly || dialect == Dialect::Zsh)),
            exported: is_export,
            unexport: false,
            unique: None,
            of_functions: false,
            is_list: false,
            is_map: false,
            ties: false,
            prints: false,
            keeps_options: false,
            attributes: Attributes { readonly, integer, formatted, ..Attributes::default() },
            clears: false,
            takes_number: false,
            takes_patterns: false,
        }
    }

    /// Takes a word that is options.
    pub(super) fn takes(&mut self, word: &[u8]) -> Options {
        if std::mem::take(&mut self.takes_number) && !word.is_empty() && word.iter().all(u8::is_ascii_digit) {
            self.attributes.formatted = true;
            return Options::Taken;
        }
        let (sign, letters) = match word {
            b"--" => return Options::End,
            b"-" if self.dialect == Dialect::Zsh => return Options::End,
            b"-" if self.is_local_word => {
                self.keeps_options = true;
                return Options::Taken;
            }
            [sign @ (b'-' | b'+'), letters @ ..] if !letters.is_empty() => (sign, letters),
            _ => return Options::None,
        };
        if *sign == b'+' && (self.is_export || self.dialect == Dialect::Posix) {
            return Options::None;
        }
        if letters.iter().any(|letter| !self.known_letters().contains(letter)) {
            return Options::Refused;
        }
        let has = |letter| letters.contains(&letter);
        if *sign == b'+' {
            self.unexport |= has(b'x');
            self.clears |= letters.iter().any(|letter| b"iluZLREF".contains(letter));
            self.unique = if has(b'U') { Some(false) } else { self.unique };
            return Options::Taken;
        }
        self.prints |= has(b'p');
        self.attributes.formatted |= self.dialect == Dialect::Zsh && letters.iter().any(|b| b"ZLREF".contains(b));
        self.takes_number = self.dialect == Dialect::Zsh && letters.iter().any(|b| b"ZLREFi".contains(b));
        self.takes_patterns |= self.dialect == Dialect::Zsh && has(b'm');
        let (declares, is_zsh) = (!self.is_export, self.dialect == Dialect::Zsh);
        self.exported |= has(b'x') && declares;
        // In zsh what is exported is global, but with `local`.
        self.is_local &= !(has(b'g') || (has(b'x') && is_zsh && !self.is_local_word));
        self.unexport |= has(b'n') && !declares;
        self.of_functions |= has(b'f') || (has(b'F') && !is_zsh);
        self.is_list |= has(b'a') && declares;
        self.is_map |= has(b'A') && declares;
        self.ties |= has(b'T') && is_zsh;
        self.unique = if has(b'U') { Some(true) } else { self.unique };
        self.attributes.readonly |= has(b'r') && declares;
        self.attributes.integer |= has(b'i') && declares;
        self.attributes.reference |= has(b'n') && declares && self.dialect == Dialect::Bash;
        let capitalises = has(b'c') && declares && !is_zsh;
        self.attributes.lower |= has(b'l') && declares || capitalises;
        self.attributes.upper |= has(b'u') && declares || capitalises;
        Options::Taken
    }

    /// The letters of options that the command knows.
    fn known_letters(&self) -> &'static [u8] {
        match (self.dialect, self.is_export) {
            (Dialect::Posix, _) if self.is_local_word => b"",
            (Dialect::Posix, _) => b"p",
            (Dialect::Bash, true) => b"fnp",
            (Dialect::Bash, false) if self.is_readonly_word => b"aAfp",
            (Dialect::Bash, false) => b"aAcfFgiIlnprtux",
            (Dialect::Zsh, true) => b"EFHLRTUZaghiklmprtuz",
            (Dialect::Zsh, false) => b"AEFHLRTUZafghiklmprtuxz",
        }
    }
}
