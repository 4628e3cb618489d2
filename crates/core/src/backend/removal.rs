//! Removing several packages at once, by commands that can stand in a script.

use crate::bytes::ByteString;
use crate::model::{Actor, CommandLine, Remedy};

/// A command as users type it, and how it is written in a script, where nobody answers its questions:
/// `("apt", "apt-get --yes")`. The first may have a verb: `("pip uninstall", "pip uninstall --yes")`.
pub type Unattended = (&'static str, &'static str);

/// The command that removes packages and nothing else, and what tells beforehand whether it will.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Removal {
    /// The command.
    pub remedy: Remedy,
    /// What is run before it.
    pub rehearsal: Rehearsal,
}

/// The build that a package is at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Builds {
    /// Its identity: that of a commit.
    pub now: ByteString,
    /// The one before it in its line; `None` where that is not known, or where there was none.
    pub before: Option<ByteString>,
}

/// A command that changes nothing, and tells whether another one will do what is foretold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rehearsal {
    /// The command. It fails, or prints something else, where what is foretold would not come true.
    pub line: CommandLine,
    /// A command of our own that its output goes through.
    pub filter: Option<&'static str>,
    /// The words that must come out in the end, in any order; nothing is compared where there is none.
    pub prints: Option<Vec<String>>,
    /// Who has to run it.
    pub actor: Actor,
}

impl Rehearsal {
    /// A command that succeeds where all is as foretold.
    #[must_use]
    pub fn succeeds(line: CommandLine) -> Self {
        Rehearsal { line, filter: None, prints: None, actor: Actor::Owner }
    }

    /// A command whose output, after the filter, is these words, whoever runs it.
    #[must_use]
    pub fn prints(line: CommandLine, filter: Option<&'static str>, words: Vec<String>) -> Self {
        Rehearsal { line, filter, prints: Some(words), actor: Actor::Anyone }
    }
}

/// A command in the form in which it asks nothing: each `calls` says how one is written.
#[must_use]
pub fn unattended<'c>(line: &CommandLine, calls: &(impl Iterator<Item = &'c Unattended> + Clone)) -> CommandLine {
    let mut line = line.clone();
    line.then = line.then.iter().map(|next| unattended(next, calls)).collect();
    // The program can stand behind `env -C DIR`, or behind an interpreter and `-m`.
    let word = |at: usize| line.words.get(at).map(|word| &**word);
    let at = match (word(0), word(1)) {
        (Some(b"env"), Some(b"-C")) => 3,
        (Some(b"env"), _) => 1,
        (_, Some(b"-m")) => 2,
        _ => 0,
    };
    let is_called = |(call, _): &&Unattended| {
        let mut words = line.words.iter().skip(at);
        call.split(' ').all(|part| words.next().is_some_and(|word| crate::bytes::path::name(word) == part.as_bytes()))
    };
    if let Some((call, written)) = calls.clone().find(is_called) {
        let dir = crate::bytes::path::parent(&line.words[at]).to_vec();
        let end = at + call.split(' ').count();
        let mut words = CommandLine::new(written).words;
        if line.words[at].contains(&b'/') {
            words[0] = crate::bytes::path::join(&dir, &words[0]);
        }
        line.words.splice(at..end, words);
    }
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_is_told_to_ask_nothing_wherever_its_program_stands() {
        const CALLS: [Unattended; 3] =
            [("apt", "apt-get --yes"), ("pip uninstall", "pip uninstall --yes"), ("gem uninstall", "gem uninstall -x")];
        for (typed, written) in [
            ("apt remove apt", "apt-get --yes remove apt"),
            ("/usr/bin/apt remove lamp", "/usr/bin/apt-get --yes remove lamp"),
            ("/srv/env/bin/python -m pip uninstall knots", "/srv/env/bin/python -m pip uninstall --yes knots"),
            ("pip install apt", "pip install apt"),
            ("env -C /srv gem uninstall lamp", "env -C /srv gem uninstall -x lamp"),
            ("snap remove apt", "snap remove apt"),
        ] {
            assert_eq!(unattended(&CommandLine::new(typed), &CALLS.iter()).to_string(), written, "{typed}");
        }
        let both = CommandLine::new("true").and_then(CommandLine::new("apt update"));
        assert_eq!(unattended(&both, &CALLS.iter()).to_string(), "true && apt-get --yes update");
    }
}
