//! Commands that users are advised to type: lists of words, which are quoted for a POSIX shell when they are printed.

use std::fmt;

use crate::bytes::{ByteString, shell_word, steers_terminal};

/// Who a command has to act as.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub enum Actor {
    /// The owner of the installation that the command changes: root for the system's, the user for a user's.
    #[default]
    Owner,
    /// Root.
    Root,
    /// This user.
    User(ByteString),
    /// Whoever types it.
    Anyone,
}

/// A command as a list of words, and commands that follow if it succeeds.
///
/// ```
/// use whodunit_core::model::CommandLine;
/// let line = CommandLine::new("apt remove --").arg("x;reboot");
/// assert_eq!(line.to_string(), "apt remove -- 'x;reboot'");
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct CommandLine {
    /// The program and its arguments.
    pub words: Vec<ByteString>,
    /// The commands after it, each run if those before it succeeded.
    pub then: Vec<CommandLine>,
    /// Whether a name in it would be taken for an option.
    is_ambiguous: bool,
}

impl CommandLine {
    /// A command whose words are separated by blanks in this text, which is our own.
    #[must_use]
    pub fn new(text: &str) -> Self {
        CommandLine::default().words(text)
    }

    /// A command that starts with this program, whatever its path contains.
    #[must_use]
    pub fn program(path: impl Into<ByteString>) -> Self {
        CommandLine::default().arg(path)
    }

    /// Whether its program is called so.
    #[must_use]
    pub fn runs(&self, program: &str) -> bool {
        self.words.first().is_some_and(|word| **word == *program.as_bytes())
    }

    /// Adds one word, whatever it contains.
    #[must_use]
    pub fn arg(mut self, word: impl Into<ByteString>) -> Self {
        self.words.push(word.into());
        self
    }

    /// Adds a name, which must not be taken for an option: see [`is_safe`](Self::is_safe).
    #[must_use]
    pub fn operand(self, name: impl Into<ByteString>) -> Self {
        let name: ByteString = name.into();
        let is_ambiguous = self.is_ambiguous || name.starts_with(b"-") || name.is_empty();
        CommandLine { is_ambiguous, ..self.arg(name) }
    }

    /// Whether every name in it stays a name. A command that is not safe is not printed.
    #[must_use]
    pub fn is_safe(&self) -> bool {
        !self.is_ambiguous && self.then.iter().all(CommandLine::is_safe)
    }

    /// Adds words of our own, separated by blanks in this text.
    #[must_use]
    pub fn words(mut self, text: &str) -> Self {
        self.words.extend(text.split_ascii_whitespace().map(ByteString::from));
        self
    }

    /// Adds a command that runs if everything before it succeeded.
    #[must_use]
    pub fn and_then(mut self, next: CommandLine) -> Self {
        self.then.push(next);
        self
    }

    /// The command with a prefix in front of it and of each that follows.
    #[must_use]
    pub fn behind(self, prefix: &CommandLine) -> Self {
        CommandLine {
            words: prefix.words.iter().cloned().chain(self.words).collect(),
            then: self.then.into_iter().map(|next| next.behind(prefix)).collect(),
            is_ambiguous: self.is_ambiguous,
        }
    }
}

/// As it is typed into a POSIX shell.
impl fmt::Display for CommandLine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, word) in self.words.iter().enumerate() {
            let between = if place > 0 { " " } else { "" };
            write!(f, "{between}{}", quoted(word))?;
        }
        self.then.iter().try_for_each(|next| write!(f, " && {next}"))
    }
}

/// A word in the quotes of a POSIX shell. Bytes that no terminal can show are written in octal, and printed by the shell.
fn quoted(word: &[u8]) -> String {
    let is_plain = |text: &str| !text.chars().any(steers_terminal);
    if std::str::from_utf8(word).is_ok_and(is_plain) {
        let plain = shell_word(word);
        // One pair of quotes reads better than escapes inside double ones.
        let is_quoted = plain.as_bytes() != word;
        return if is_quoted && !word.contains(&b'\'') { format!("'{}'", ByteString::from(word)) } else { plain };
    }
    let mut format = String::new();
    for &byte in word {
        match byte {
            b'%' => format += "%%",
            b'\\' => format += "\\\\",
            b'\'' => format += "\\047",
            b' '..=b'~' => format.push(char::from(byte)),
            _ => format += &format!("\\{byte:03o}"),
        }
    }
    // A shell drops line feeds at the end of what a command writes; with more behind it, the name is no other's.
    let guard = if word.ends_with(b"\n") { "/." } else { "" };
    format!("\"$(printf '{format}{guard}')\"")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_names_stay_one_word() {
        for name in ["x;reboot", "--git=/etc", "two words", "a'b", "$(id)", "`id`", "*", "~", ""] {
            let line = CommandLine::new("printf %s --").arg(name).and_then(CommandLine::new("true"));
            let text = line.to_string();
            let text = text.strip_suffix(" && true").unwrap();
            let words = shlex::split(text).unwrap();
            assert_eq!(words, ["printf", "%s", "--", name], "{text}");
        }
        assert_eq!(
            CommandLine::new("rm --").arg(&b"a\n%\xff'"[..]).to_string(),
            r#"rm -- "$(printf 'a\012%%\377\047')""#
        );
        assert_eq!(CommandLine::new("rm --").arg("a\n").to_string(), r#"rm -- "$(printf 'a\012/.')""#);
    }

    #[test]
    fn names_like_options_make_a_command_unsafe() {
        for (name, is_safe) in [("lamp", true), ("--git=/etc", false), ("-r", false), ("", false)] {
            assert_eq!(CommandLine::new("cargo uninstall").operand(name).is_safe(), is_safe, "{name}");
            let line = CommandLine::new("true").and_then(CommandLine::new("cargo uninstall").operand(name));
            assert_eq!(line.is_safe(), is_safe, "{name}");
        }
    }
}
