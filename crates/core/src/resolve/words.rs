//! What a shell takes a name for before it looks into any directory: its aliases, functions, builtins and reserved
//! words.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::contexts::{Context, ResolvedContext, Shell, evidence_at};
use crate::bytes::ByteString;
use crate::model::Evidence;
use whodunit_shell::eval::{Alias, AliasKind, Function, is_builtin, is_reserved};
use whodunit_shell::syntax::Dialect;

/// What a name is to a shell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TakenFor {
    /// An alias.
    Alias,
    /// A function.
    Function,
    /// A command that the shell has built in.
    Builtin,
    /// A word of its language.
    ReservedWord,
}

impl TakenFor {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            TakenFor::Alias => "alias",
            TakenFor::Function => "function",
            TakenFor::Builtin => "builtin",
            TakenFor::ReservedWord => "reserved word",
        }
    }
}

/// A name that the shell takes for something of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Taken {
    /// What it is.
    pub how: TakenFor,
    /// What an alias stands for.
    pub value: Option<ByteString>,
    /// Whether it is certain that it is there.
    pub certain: bool,
    /// Who made it so.
    pub because: Evidence,
}

/// The names that one shell has of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Words {
    shell: Shell,
    aliases: BTreeMap<Vec<u8>, Alias>,
    functions: BTreeMap<Vec<u8>, Function>,
}

impl Words {
    /// Those of a context; none where a program is started without a shell.
    #[must_use]
    pub fn of(resolved: &ResolvedContext) -> Option<Self> {
        let is_shells = matches!(
            resolved.context,
            Context::Login | Context::Terminal | Context::Script | Context::Remote | Context::RootLogin
        );
        let shell = resolved.shell.filter(|_| is_shells)?;
        let state = &resolved.state;
        // bash has aliases only where a user types.
        let types = matches!(resolved.context, Context::Login | Context::Terminal | Context::RootLogin);
        let has_aliases = types || shell != Shell::Bash;
        let aliases = if has_aliases { state.aliases.clone() } else { BTreeMap::new() };
        Some(Words { shell, aliases, functions: state.functions.clone() })
    }

    /// What a name is taken for, in the order in which the shell looks.
    #[must_use]
    pub fn take(&self, name: &[u8]) -> Option<Taken> {
        let shell = self.shell.word();
        let own = |how: TakenFor| Taken {
            how,
            value: None,
            certain: true,
            because: Evidence::compiled_in(shell, format!("{} is a {} of {shell}", ByteString::from(name), how.word())),
        };
        let alias = self.aliases.get(name).filter(|alias| alias.kind != AliasKind::Suffix).map(|alias| Taken {
            how: TakenFor::Alias,
            value: Some(alias.value.as_slice().into()),
            certain: alias.certain,
            because: evidence_at(&alias.place, "defines the alias"),
        });
        let function = self.functions.get(name).map(|function| Taken {
            how: TakenFor::Function,
            value: None,
            certain: function.certain,
            because: evidence_at(&function.place, "defines the function"),
        });
        let dialect = match self.shell {
            Shell::Bash | Shell::BashAsSh => Dialect::Bash,
            Shell::Dash => Dialect::Posix,
            // fish's own are many of zsh's; its functions are files, which are found.
            Shell::Zsh | Shell::Fish => Dialect::Zsh,
        };
        let reserved = || is_reserved(dialect, name).then(|| own(TakenFor::ReservedWord));
        let builtin = || is_builtin(dialect, name).then(|| own(TakenFor::Builtin));
        alias.or_else(reserved).or(function).or_else(builtin)
    }

    /// Names of aliases and functions.
    pub fn names(&self) -> impl Iterator<Item = &[u8]> {
        self.aliases.keys().chain(self.functions.keys()).map(Vec::as_slice)
    }
}

/// Whether an alias or a function only starts the program of its own name with more words.
#[must_use]
pub fn is_same_program(name: &[u8], value: &[u8]) -> bool {
    let words = value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
    let before = [&b"command"[..], b"sudo", b"env", b"nice", b"nocorrect", b"noglob", b"builtin"];
    let mut words = words.skip_while(|word| before.contains(word) || word.contains(&b'=') || word.starts_with(b"-"));
    words.next().map(|word| word.strip_prefix(b"\\").unwrap_or(word)) == Some(name)
}
