//! Options of the shells: `set`, `shopt`, `setopt`, `emulate`.

use super::piece::is_known;
use super::run::{Flow, Mishap, Run};
use super::state::Value;
use crate::syntax::Dialect;

impl Run<'_> {
    pub(super) fn set(&mut self, arguments: &[Vec<u8>]) {
        if self.refuses_options(arguments) {
            self.status = Some(2);
            if self.dialect() != Dialect::Bash {
                self.fail(Mishap::Expansion);
            }
            return;
        }
        let mut at = 0;
        while let Some(word) = arguments.get(at) {
            match &word[..] {
                b"--" => {
                    self.set_arguments(&arguments[at + 1..]);
                    return;
                }
                b"-" | b"+" if at + 1 == arguments.len() => return,
                b"-" | b"+" => {
                    self.set_arguments(&arguments[at + 1..]);
                    return;
                }
                b"-o" | b"+o" => {
                    if let Some(name) = arguments.get(at + 1) {
                        if is_known(name) && !is_option_name(self.dialect(), name) {
                            self.status = Some(2);
                            if self.dialect() != Dialect::Bash {
                                self.fail(Mishap::Expansion);
                            }
                            return;
                        }
                        self.option(name, word[0] == b'-');
                    }
                    at += 1;
                }
                [sign @ (b'-' | b'+'), letters @ ..] if !letters.is_empty() => {
                    for letter in letters {
                        let name: &[u8] = match letter {
                            b'a' => b"allexport",
                            b'e' => b"errexit",
                            b'f' if self.dialect() != Dialect::Zsh => b"noglob",
                            b'F' if self.dialect() == Dialect::Zsh => b"noglob",
                            b'u' => b"nounset",
                            b'A' if self.dialect() == Dialect::Zsh => {
                                if let Some(name) = arguments.get(at + 1) {
                                    let list = arguments[at + 2..].to_vec();
                                    self.assign(&name.clone(), Value::List(list), true);
                                }
                                return;
                            }
                            _ => continue,
                        };
                        self.option(name, *sign == b'-');
                    }
                }
                _ => {
                    self.set_arguments(&arguments[at..]);
                    return;
                }
            }
            at += 1;
        }
    }

    /// Whether `set` takes one of these options for none; only bash does nothing else then.
    fn refuses_options(&self, arguments: &[Vec<u8>]) -> bool {
        let mut words = arguments.iter();
        while let Some(word) = words.next() {
            match &word[..] {
                b"-o" | b"+o" => {
                    let is_one = |name: &Vec<u8>| !is_known(name) || DASH_OPTIONS.contains(&&name[..]);
                    if words.next().is_some_and(|name| self.dialect() == Dialect::Posix && !is_one(name)) {
                        return true;
                    }
                }
                [b'-' | b'+', letters @ ..] if !letters.is_empty() && !letters.starts_with(b"-") => {
                    if letters.iter().any(|letter| !is_option(self.dialect(), *letter)) {
                        return is_known(word);
                    }
                    if letters.contains(&b'A') {
                        return false;
                    }
                }
                _ => return false,
            }
        }
        false
    }

    fn set_arguments(&mut self, arguments: &[Vec<u8>]) {
        if self.is_too_long(arguments.iter().map(|one| one.len() + 1).sum()) {
            return;
        }
        let taints = self.word_taints.clone();
        self.take_arguments(arguments.to_vec(), taints);
        // dash begins anew with `getopts`.
        if self.dialect() == Dialect::Posix {
            self.option_at = 0;
            self.assign(b"OPTIND", Value::Text(b"1".to_vec()), false);
        }
    }

    /// Switches an option. zsh takes no notice of case and underscores, and of `no` in front.
    pub(super) fn option(&mut self, name: &[u8], on: bool) {
        let mut name: Vec<u8> = name.to_vec();
        if self.dialect() == Dialect::Zsh {
            name = name.iter().filter(|b| **b != b'_').map(u8::to_ascii_lowercase).collect();
            // Those that are on at the start are kept as what they are when they are off.
            for off in [&b"nonomatch"[..], b"nounset", b"noglob", b"nobadpattern"] {
                if name == off || name == off[2..] {
                    let is_off = on == (name == off);
                    return self.keep_option(off.to_vec(), is_off);
                }
            }
            if let Some(bare) = name.strip_prefix(b"no").filter(|bare| !bare.is_empty()) {
                let bare = bare.to_vec();
                return self.option(&bare, !on);
            }
        }
        self.keep_option(name, on);
    }

    fn keep_option(&mut self, name: Vec<u8>, on: bool) {
        if on {
            self.state.options.insert(name);
        } else {
            self.state.options.remove(&name);
        }
    }

    pub(super) fn shopt(&mut self, arguments: &[Vec<u8>]) {
        let on = arguments.iter().any(|word| word == b"-s");
        let off = arguments.iter().any(|word| word == b"-u");
        let names: Vec<&Vec<u8>> = arguments.iter().filter(|word| !word.starts_with(b"-")).collect();
        if on || off {
            names.into_iter().for_each(|name| self.option(&name.clone(), on));
        } else if let Some(name) = names.first() {
            let is_login = name == &b"login_shell" && self.at.is_login;
            self.status = Some(u8::from(!(self.state.has(name) || is_login)));
        }
    }

    pub(super) fn emulate(&mut self, arguments: &[Vec<u8>]) -> Flow {
        let mode = arguments.iter().find(|word| !word.starts_with(b"-"));
        let is_sh = mode.is_some_and(|mode| mode == b"sh" || mode == b"ksh" || mode == b"bash");
        let set = |run: &mut Self, on: bool| {
            for name in [&b"shwordsplit"[..], b"shglob"] {
                run.option(name, on);
            }
        };
        if let Some(at) = arguments.iter().position(|word| word == b"-c") {
            let code = arguments.get(at + 1).cloned().unwrap_or_default();
            let options = self.state.options.clone();
            set(self, is_sh);
            let flow = self.text(&code);
            self.state.options = options;
            return flow;
        }
        if arguments.iter().any(|word| word.starts_with(b"-") && word.contains(&b'L')) {
            self.state.options.insert(b"localoptions".to_vec());
        }
        self.state.options.retain(|name| name == b"localoptions");
        set(self, is_sh);
        Flow::Next
    }
}

/// What dash knows behind `set -o`.
const DASH_OPTIONS: [&[u8]; 17] = [
    b"errexit",
    b"noglob",
    b"ignoreeof",
    b"interactive",
    b"monitor",
    b"noexec",
    b"stdin",
    b"xtrace",
    b"verbose",
    b"vi",
    b"emacs",
    b"noclobber",
    b"allexport",
    b"notify",
    b"nounset",
    b"privileged",
    b"nolog",
];

/// Whether a letter is an option of `set`.
fn is_option(dialect: Dialect, letter: u8) -> bool {
    match dialect {
        Dialect::Posix => b"abefimnopsuvxCEIV".contains(&letter),
        Dialect::Bash => b"abefhkmnoprtuvxBCEHPT".contains(&letter),
        Dialect::Zsh => letter.is_ascii_alphanumeric() && !b"bcjqz".contains(&letter),
    }
}

/// Whether a shell has an option of this name. zsh has too many to tell.
fn is_option_name(dialect: Dialect, name: &[u8]) -> bool {
    const COMMON: &str = "allexport emacs errexit ignoreeof monitor noclobber noexec noglob nolog notify nounset verbose vi \
                          xtrace";
    let more = match dialect {
        Dialect::Posix => "debug interactive stdin",
        Dialect::Bash => {
            "braceexpand errtrace functrace hashall histexpand history interactive-comments keyword onecmd \
                          physical pipefail posix privileged"
        }
        Dialect::Zsh => return name.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'_' || *b == b'-'),
    };
    COMMON.split(' ').chain(more.split(' ')).any(|known| known.as_bytes() == name)
}
