//! Variables that a shell sets by itself, some of which it changes all the time.

use super::builtin_names::among;
use super::option_letters::of_letter;
use super::run::Run;
use super::state::Variable;
use crate::syntax::Dialect;

/// What a shell gives a variable of its own.
enum Own {
    Text(Vec<u8>),
    Unknown(&'static str),
}

/// Those whose value the shell makes anew each time it is read, whatever it was given.
const CHANGING: &str = "LINENO RANDOM SECONDS _";
const CHANGING_IN_BASH: &str = "BASHPID BASH_ARGC BASH_ARGV BASH_COMMAND BASH_LINENO BASH_SUBSHELL DIRSTACK EPOCHREALTIME \
                                EPOCHSECONDS GROUPS HISTCMD SRANDOM";
const CHANGING_IN_ZSH: &str = "BASH_REMATCH ERRNO HISTCMD MBEGIN MEND TRY_BLOCK_ERROR TRY_BLOCK_INTERRUPT TTYIDLE \
                               ZSH_EVAL_CONTEXT ZSH_SUBSHELL dirstack funcfiletrace funcsourcetrace funcstack functrace history jobdirs jobstates \
                               jobtexts mbegin mend zsh_eval_context";

/// Those that differ from machine to machine, from version to version, or from one terminal to the next.
const VARYING: &str = "COLUMNS LINES PPID";
const VARYING_IN_BASH: &str = "BASH_ALIASES BASH_CMDS BASH_LOADABLES_PATH BASHOPTS COMP_WORDBREAKS HISTFILE HISTFILESIZE \
                               HISTSIZE SHELLOPTS";
const VARYING_IN_ZSH: &str = "CPUTYPE EGID FPATH FUNCNEST GID HISTCHARS HISTSIZE KEYBOARD_HACK KEYTIMEOUT LISTMAX \
                              MACHTYPE MAILCHECK MODULE_PATH NULLCMD PROMPT2 PROMPT3 PROMPT4 PS3 PS4 READNULLCMD SAVEHIST \
                              SPROMPT TIMEFMT TMPPREFIX TTY VENDOR WATCH WORDCHARS ZSH_ARGZERO ZSH_EXECUTION_STRING \
                              ZSH_PATCHLEVEL builtins dis_aliases dis_builtins dis_functions galiases histchars keymaps \
                              module_path modules nameddirs options parameters patchars prompt reswords saliases \
                              signals termcap terminfo userdirs usergroups watch widgets";

impl Run<'_> {
    /// A variable's text: what was assigned to it, or what the shell gives it.
    pub(super) fn text_of(&mut self, name: &[u8]) -> Option<Vec<u8>> {
        match self.state.get(name) {
            Some(text) if !self.is_changing(name) => Some(text.to_vec()),
            _ => self.own_variable(name),
        }
    }

    /// A variable that the shell sets by itself, where nothing else was assigned to it.
    fn own_variable(&mut self, name: &[u8]) -> Option<Vec<u8>> {
        match self.own(name)? {
            Own::Text(text) => Some(text),
            Own::Unknown(why) => Some(self.unknown_value(why)),
        }
    }

    /// Whether the shell sets such a variable by itself.
    pub(super) fn has_own(&self, name: &[u8]) -> bool {
        self.own(name).is_some()
    }

    /// Whether the shell itself gives a variable another value at any time.
    pub(super) fn is_changing(&self, name: &[u8]) -> bool {
        match self.dialect() {
            Dialect::Posix => matches!(name, b"LINENO" | b"_"),
            Dialect::Bash => among(CHANGING, name) || among(CHANGING_IN_BASH, name),
            Dialect::Zsh => among(CHANGING, name) || among(CHANGING_IN_ZSH, name),
        }
    }

    /// Notes that a variable of the shell's own was unset: whether it is set again by itself is not followed.
    pub(super) fn unset_own(&mut self, name: &[u8]) {
        if self.has_own(name) {
            let value = self.unknown_value("a variable of the shell's own that was unset");
            self.state.variables.insert(name.to_vec(), Variable { is_perhaps: true, ..Variable::text(value, false) });
        }
    }

    fn host(&self) -> Own {
        let name = self.at.hostname.as_ref().map(|host| Own::Text(host.to_vec()));
        name.unwrap_or(Own::Unknown("the name of the machine"))
    }

    fn own(&self, name: &[u8]) -> Option<Own> {
        let text = |text: &str| Some(Own::Text(text.as_bytes().to_vec()));
        let is_interactive = self.at.is_interactive;
        let of_dialect = match self.dialect() {
            Dialect::Posix => match name {
                b"PS1" => text(if self.at.user.uid == 0 { "# " } else { "$ " }),
                b"PS2" => text("> "),
                b"PS4" => text("+ "),
                b"COLUMNS" | b"LINES" => return None,
                _ => None,
            },
            Dialect::Bash => match name {
                b"HISTFILE" | b"HISTSIZE" | b"HISTFILESIZE" if !is_interactive => return None,
                b"COLUMNS" | b"LINES" if !is_interactive => return None,
                b"BASH" => self.which(b"bash").map(Own::Text).or_else(|| text("/bin/bash")),
                b"BASH_ARGV0" => Some(Own::Text(self.at.name.clone())),
                b"BASH_SOURCE" => Some(Own::Text(self.place.file.to_vec())),
                b"BASH_VERSION" => text("5.2.15(1)-release"),
                b"FUNCNAME" => return self.calls.last().cloned().map(Own::Text),
                b"HOSTNAME" => Some(self.host()),
                b"MACHTYPE" => text("x86_64-pc-linux-gnu"),
                b"MAILCHECK" if is_interactive => text("60"),
                b"OPTERR" => text("1"),
                b"PS1" if is_interactive => text("\\s-\\v\\$ "),
                b"PS2" if is_interactive => text("> "),
                b"PS4" => text("+ "),
                b"TERM" => text("dumb"),
                _ => None,
            },
            Dialect::Zsh => match name {
                b"HOST" => Some(self.host()),
                b"LOGNAME" | b"USERNAME" => Some(Own::Text(self.at.user.name.to_vec())),
                b"OLDPWD" => Some(Own::Text(self.state.dir.clone())),
                b"PROMPT" | b"PS1" if is_interactive => text("%m%# "),
                b"PROMPT" | b"PS1" | b"PS2" if !is_interactive => text(""),
                b"PS2" => Some(Own::Unknown("what zsh writes before a line that goes on")),
                b"ZSH_NAME" => text("zsh"),
                b"ZSH_VERSION" => text("5.9"),
                _ => None,
            },
        };
        if of_dialect.is_some() {
            return of_dialect;
        }
        if self.is_changing(name) {
            return Some(Own::Unknown("a variable that the shell itself changes"));
        }
        let varying = match self.dialect() {
            Dialect::Posix => "",
            Dialect::Bash => VARYING_IN_BASH,
            Dialect::Zsh => VARYING_IN_ZSH,
        };
        if among(VARYING, name) || among(varying, name) {
            return Some(Own::Unknown("a variable that each shell sets in its own way"));
        }
        match name {
            b"OPTIND" => text("1"),
            b"PWD" => Some(Own::Text(self.state.dir.clone())),
            _ if self.dialect() == Dialect::Posix => None,
            b"UID" | b"EUID" => text(&self.at.user.uid.to_string()),
            b"SHLVL" => text("1"),
            b"OSTYPE" => text("linux-gnu"),
            b"HOSTTYPE" => text("x86_64"),
            _ => None,
        }
    }

    /// `$-`, for a shell at a terminal where it is interactive.
    pub(super) fn signs(&self) -> Vec<u8> {
        const LETTERS: &[u8] = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";
        let in_order = match self.dialect() {
            Dialect::Posix => b"ubaCEVvxsnmIife",
            Dialect::Bash => &b"abefhikmnprtuvxBCEHPT"[..],
            Dialect::Zsh => LETTERS,
        };
        in_order.iter().copied().filter(|letter| self.has_letter(*letter)).collect()
    }

    /// Whether the option of a letter is on.
    fn has_letter(&self, letter: u8) -> bool {
        let Some(name) = of_letter(self.dialect(), letter) else {
            return self.at.is_interactive && letter == b'i';
        };
        let name = name.as_bytes();
        match (self.dialect(), letter) {
            (Dialect::Bash, b'h') => true,
            (Dialect::Bash, b'm' | b'H') if self.at.is_interactive => true,
            (Dialect::Bash, _) => self.has_in_bash(name),
            (Dialect::Posix, b'm') if self.at.is_interactive => true,
            (Dialect::Posix, _) => self.state.has(name),
            (Dialect::Zsh, b'i' | b'm' | b'Z') if self.at.is_interactive => true,
            (Dialect::Zsh, b'l') if self.at.is_login => true,
            (Dialect::Zsh, _) => self.has_in_zsh(name) == Some(true),
        }
    }
}
