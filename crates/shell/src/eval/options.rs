//! Options of the shells: `set`, `shopt`, `setopt`, `emulate`.

use super::builtin_names::among;
use super::option_letters::of_letter;
use super::piece::is_known;
use super::run::{Flow, Mishap, Run};
use super::state::Value;
use super::zsh_options::zsh_option;
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
                [sign @ (b'-' | b'+'), letters @ ..] if !letters.is_empty() => {
                    for letter in letters {
                        let name: &[u8] = match letter {
                            b'o' => {
                                at += 1;
                                let Some(name) = arguments.get(at) else { return };
                                if is_known(name) && !is_option_name(self.dialect(), name) {
                                    self.status = Some(2);
                                    if self.dialect() != Dialect::Bash {
                                        self.fail(Mishap::Expansion);
                                    }
                                    return;
                                }
                                name
                            }
                            b'A' if self.dialect() == Dialect::Zsh => {
                                if let Some(name) = arguments.get(at + 1) {
                                    let list = arguments[at + 2..].to_vec();
                                    self.assign(&name.clone(), Value::List(list), true);
                                }
                                return;
                            }
                            letter => match of_letter(self.dialect(), *letter) {
                                Some(name) => name.as_bytes(),
                                None => continue,
                            },
                        };
                        if !self.option(name, *sign == b'-') {
                            self.status = Some(1);
                            self.fail(Mishap::Expansion);
                            return;
                        }
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
                [b'-' | b'+', letters @ ..] if !letters.is_empty() && !letters.starts_with(b"-") => {
                    let is_one = |name: &Vec<u8>| !is_known(name) || DASH_OPTIONS.contains(&&name[..]);
                    let names = letters.iter().filter(|letter| **letter == b'o').count();
                    if words.by_ref().take(names).any(|name| self.dialect() == Dialect::Posix && !is_one(name)) {
                        return true;
                    }
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

    /// Switches an option.
    /// Switches an option; false where the shell keeps it as it is.
    pub(super) fn option(&mut self, name: &[u8], on: bool) -> bool {
        if self.dialect() == Dialect::Zsh {
            self.zsh_switch(name, on)
        } else {
            if on && among(FAR_REACHING, name) {
                self.taint_for_good("an option by which the shell takes what follows in another way");
            }
            self.keep_option(name.to_vec(), on);
            true
        }
    }

    fn keep_option(&mut self, name: Vec<u8>, on: bool) {
        let is_default = self.dialect() == Dialect::Bash && ON_IN_BASH.contains(&&*name);
        let (name, on) = if is_default { ([b"no", &*name].concat(), !on) } else { (name, on) };
        if on {
            self.state.options.insert(name);
        } else {
            self.state.options.remove(&name);
        }
    }

    /// Whether an option of bash is on.
    pub(super) fn has_in_bash(&self, name: &[u8]) -> bool {
        match name {
            b"login_shell" => self.at.is_login,
            b"expand_aliases" if self.at.is_interactive => true,
            name if ON_IN_BASH.contains(&name) => !self.state.has(&[b"no", name].concat()),
            name => self.state.has(name),
        }
    }

    pub(super) fn shopt(&mut self, arguments: &[Vec<u8>]) {
        let is_option = |word: &&Vec<u8>| word.len() > 1 && word.starts_with(b"-");
        let letters: Vec<u8> = arguments.iter().take_while(is_option).flat_map(|word| word[1..].to_vec()).collect();
        let names = arguments.iter().skip_while(is_option).cloned().collect::<Vec<_>>();
        let (on, off, of_set) = (letters.contains(&b's'), letters.contains(&b'u'), letters.contains(&b'o'));
        if letters.iter().any(|letter| !b"suqpo".contains(letter)) || (on && off) {
            self.status = Some(if on && off { 1 } else { 2 });
            return;
        }
        if names.iter().any(|name| !is_known(name)) {
            self.taint_for_good("changes an option that is unknown");
            self.status = None;
            return;
        }
        let mut all_on = true;
        for name in &names {
            let is_one = if of_set { is_option_name(Dialect::Bash, name) } else { is_shopt_name(name) };
            // Later versions have more of them.
            let may_be_one = !of_set && !is_one && name.iter().all(|b| b.is_ascii_lowercase() || *b == b'_');
            if may_be_one {
                self.status = None;
                return;
            }
            all_on &= is_one && (on || off || self.has_in_bash(name));
            if is_one && (on || off) {
                self.option(name, on);
            }
        }
        self.status = Some(u8::from(!all_on));
    }

    pub(super) fn emulate(&mut self, arguments: &[Vec<u8>]) -> Flow {
        let mode = arguments.iter().find(|word| !word.starts_with(b"-") && !word.starts_with(b"+"));
        if mode.is_none() {
            let unknown = self.unknown_value("what zsh emulates");
            self.write(&unknown);
        }
        let is_odd = |mode: &Vec<u8>| !matches!(&mode[..], b"sh" | b"bash" | b"zsh");
        if mode.is_some_and(is_odd) || arguments.iter().any(|word| !is_known(word)) {
            self.taint_for_good("emulates another shell");
            self.status = None;
            return Flow::Next;
        }
        let is_sh = mode.is_some_and(|mode| mode == b"sh" || mode == b"bash");
        let set = |run: &mut Self, on: bool| {
            for name in [&b"shwordsplit"[..], b"shglob"] {
                run.option(name, on);
            }
        };
        if let Some(at) = arguments.iter().position(|word| word == b"-c") {
            let code = arguments.get(at + 1).cloned().unwrap_or_default();
            let options = self.state.options.clone();
            set(self, is_sh);
            self.emulate_with(arguments);
            let flow = self.text(&code);
            self.state.options = options;
            return flow;
        }
        if arguments.iter().any(|word| word.starts_with(b"-") && word.contains(&b'L')) {
            self.state.options.insert(b"localoptions".to_vec());
        }
        self.state.options.retain(|name| name == b"localoptions");
        set(self, is_sh);
        self.emulate_with(arguments);
        Flow::Next
    }

    /// The options that `emulate` is given besides (`-o NAME`, `+o NAME`).
    fn emulate_with(&mut self, arguments: &[Vec<u8>]) {
        for two in arguments.windows(2) {
            if matches!(&two[0][..], b"-o" | b"+o") && !self.zsh_switch(&two[1], two[0][0] == b'-') {
                self.status = Some(1);
            }
        }
    }
}

/// Options of bash and dash by which all that follows means something else.
const FAR_REACHING: &str = "keyword noexec onecmd physical posix privileged";

/// Options that are on when bash starts, and mean something for what is followed.
const ON_IN_BASH: [&[u8]; 14] = [
    b"braceexpand",
    b"checkwinsize",
    b"cmdhist",
    b"complete_fullquote",
    b"extquote",
    b"force_fignore",
    b"globasciiranges",
    b"globskipdots",
    b"hostcomplete",
    b"interactive_comments",
    b"patsub_replacement",
    b"progcomp",
    b"promptvars",
    b"sourcepath",
];

/// Whether `shopt` of bash has an option of this name.
fn is_shopt_name(name: &[u8]) -> bool {
    const MORE: &str = "autocd assoc_expand_once cdable_vars cdspell checkhash checkjobs compat31 compat32 compat40 compat41 \
                        compat42 compat43 compat44 direxpand dirspell dotglob execfail expand_aliases extdebug extglob \
                        failglob globstar gnu_errfmt histappend histreedit histverify huponexit inherit_errexit lastpipe \
                        lithist localvar_inherit localvar_unset login_shell mailwarn no_empty_cmd_completion nocaseglob \
                        nocasematch noexpand_translation nullglob progcomp_alias restricted_shell shift_verbose varredir_close \
                        xpg_echo";
    ON_IN_BASH.contains(&name) || among(MORE, name)
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

/// Whether a shell has an option of this name.
fn is_option_name(dialect: Dialect, name: &[u8]) -> bool {
    const COMMON: &str = "allexport emacs errexit ignoreeof monitor noclobber noexec noglob nolog notify nounset verbose vi \
                          xtrace";
    let more = match dialect {
        Dialect::Posix => "debug interactive privileged stdin",
        Dialect::Bash => {
            "braceexpand errtrace functrace hashall histexpand history interactive-comments keyword onecmd \
                          physical pipefail posix privileged"
        }
        Dialect::Zsh => return zsh_option(name).is_some(),
    };
    among(COMMON, name) || among(more, name)
}
