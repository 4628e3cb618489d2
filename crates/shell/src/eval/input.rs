//! Builtins that take words or lines apart: `getopts`, `mapfile`; and `trap`.

use super::builtin_names::among;
use super::piece::is_known;
use super::run::Run;
use super::state::Value;
use crate::syntax::Dialect;

impl Run<'_> {
    /// `getopts` (XCU, "getopts").
    pub(super) fn getopts(&mut self, arguments: &[Vec<u8>]) {
        let [letters, name, rest @ ..] = arguments else {
            self.status = Some(if self.dialect() == Dialect::Zsh { 1 } else { 2 });
            return;
        };
        let words = if rest.is_empty() { self.state.arguments.clone() } else { rest.to_vec() };
        let index = self.state.get(b"OPTIND").map_or(Some(1), |text| std::str::from_utf8(text).ok()?.parse().ok());
        let at = |index: usize| words.get(index.saturating_sub(1)).map_or(0, Vec::len);
        // Other words than the time before: what is left of an option is not there.
        let is_left = |index: &usize| {
            (1..=words.len() + 1).contains(index) && (self.option_at == 0 || self.option_at < at(*index))
        };
        let is_followed = rest.is_empty() || self.dialect() != Dialect::Zsh;
        let Some(index) = index
            .filter(is_left)
            .filter(|_| is_followed && words.iter().all(|word| is_known(word)) && is_known(letters))
        else {
            if index.is_none() && self.dialect() == Dialect::Posix {
                self.taint_for_good("a number of an option that is none");
            }
            let unknown = self.unknown_value("options that are unknown");
            self.assign(b"OPTIND", Value::Text(unknown.clone()), false);
            self.assign(name, Value::Text(unknown.clone()), false);
            self.assign(b"OPTARG", Value::Text(unknown), false);
            self.status = None;
            return;
        };
        let mut index: usize = index;
        let number = |index: usize| Value::Text(index.to_string().into_bytes());
        let word = words.get(index.saturating_sub(1)).map_or(&b""[..], Vec::as_slice);
        if self.option_at == 0 {
            let is_end = word == b"--";
            if word.len() < 2 || !word.starts_with(b"-") || is_end {
                self.assign(b"OPTIND", number(index + usize::from(is_end)), false);
                self.assign(name, Value::Text(b"?".to_vec()), false);
                self.status = Some(1);
                return;
            }
            self.option_at = 1;
        }
        let letter = word[self.option_at];
        self.option_at += 1;
        let quiet = letters.first() == Some(&b':');
        let known = letters.iter().position(|b| *b == letter && letter != b':');
        let takes_value = known.is_some_and(|at| letters.get(at + 1) == Some(&b':'));
        let mut value = None;
        let mut found = vec![letter];
        if known.is_none() {
            found = b"?".to_vec();
            value = quiet.then(|| vec![letter]);
        } else if takes_value && self.option_at < word.len() {
            value = Some(word[self.option_at..].to_vec());
            self.option_at = word.len();
        } else if takes_value {
            match words.get(index) {
                Some(next) => {
                    index += 1;
                    value = Some(next.clone());
                }
                None => {
                    found = if quiet { b":".to_vec() } else { b"?".to_vec() };
                    value = quiet.then(|| vec![letter]);
                }
            }
            self.option_at = usize::MAX;
        }
        if self.option_at >= word.len() {
            self.option_at = 0;
            index += 1;
        }
        self.assign(b"OPTIND", number(index), false);
        match value {
            Some(value) => self.assign(b"OPTARG", Value::Text(value), false),
            None => drop(self.state.variables.remove(&b"OPTARG"[..])),
        }
        self.assign(name, Value::Text(found), false);
        self.status = Some(0);
    }

    /// What of the input is not read yet.
    pub(super) fn rest_of_input(&mut self) -> Option<Vec<u8>> {
        let input = self.input.as_ref()?;
        self.read_taints.extend(&input.taints);
        Some(input.text[input.at.min(input.text.len())..].to_vec())
    }

    /// `mapfile` and `readarray` of bash: the lines of what is read.
    pub(super) fn mapfile(&mut self, arguments: &[Vec<u8>]) {
        let (mut strips, mut separator, mut is_plain) = (false, b'\n', true);
        let mut name = b"MAPFILE".to_vec();
        let mut words = arguments.iter();
        while let Some(word) = words.next() {
            match &word[..] {
                b"-t" => strips = true,
                [b'-', b'n' | b's' | b'O' | b'u' | b'c'] => {
                    words.next();
                    is_plain = false;
                }
                b"-C" => {
                    let does = words.next().cloned().unwrap_or_default();
                    if !is_known(&does) || self.changes_path(&does) {
                        self.taint_for_good("a command that is run for each line");
                    }
                }
                b"-d" => separator = words.next().and_then(|text| text.first().copied()).unwrap_or(0),
                [b'-', ..] => is_plain = false,
                other => name = other.to_vec(),
            }
        }
        let text = self.rest_of_input();
        self.input = None;
        let Some(text) = text.filter(|text| is_known(text) && is_plain) else {
            let unknown = self.unknown_value("lines that are unknown");
            self.assign(&name, Value::Text(unknown), false);
            return;
        };
        let mut lines: Vec<Vec<u8>> = text.split_inclusive(|&b| b == separator).map(<[u8]>::to_vec).collect();
        if strips {
            for line in &mut lines {
                line.pop_if(|last| *last == separator);
            }
        }
        self.assign(&name, Value::List(lines), false);
    }

    /// `trap`: what runs before every command, or after one that fails, and would change the search path.
    pub(super) fn trap(&mut self, arguments: &[Vec<u8>]) {
        let rest = if arguments.first().is_some_and(|word| word == b"--") { &arguments[1..] } else { arguments };
        let [action, conditions @ ..] = rest else { return };
        if conditions.is_empty() && matches!(&action[..], b"EXIT" | b"0") {
            self.state.at_end = None;
        }
        let is_odd = |name: &Vec<u8>| match self.dialect() {
            Dialect::Posix => name.starts_with(b"SIG") || matches!(&name[..], b"ERR" | b"DEBUG" | b"RETURN" | b"ZERR"),
            _ => false,
        };
        if conditions.iter().any(|name| !is_condition(name) || is_odd(name))
            || conditions.is_empty() && !action.starts_with(b"-")
        {
            self.status = None;
        }
        let is_signal = |name: &Vec<u8>| !matches!(&name[..], b"EXIT" | b"0" | b"DEBUG" | b"ERR" | b"RETURN" | b"ZERR");
        let told = self.status;
        if action != b"-" && conditions.iter().any(is_signal) && self.changes_path(action) {
            self.traps_signals = true;
        }
        // In zsh a trap for the end, set by a function, is run at the end of that.
        let of_function = self.dialect() == Dialect::Zsh && self.calls.len() > self.calls_outside;
        let is_often = |condition: &Vec<u8>| match &condition[..] {
            b"DEBUG" | b"ERR" | b"RETURN" | b"ZERR" => true,
            b"EXIT" | b"0" => of_function,
            _ => false,
        };
        self.status = told;
        if !of_function && conditions.iter().any(|name| matches!(&name[..], b"EXIT" | b"0")) {
            self.state.at_end = (action != b"-").then(|| action.clone());
        }
        if action == b"-" || action.is_empty() || !conditions.iter().any(is_often) {
            return;
        }
        let leaves = [&b"return"[..], b"exit", b"exec", b"break", b"continue", b"eval", b"set ", b"shopt"];
        let changes = self.changes_path(action)
            || !is_known(action)
            || leaves.iter().any(|word| memchr::memmem::find(action, word).is_some());
        self.status = told;
        if changes {
            self.taint_for_good("a trap changes the search path again and again");
        }
    }
}

/// Whether a trap can be set for a condition of this name; a number may be one.
fn is_condition(name: &[u8]) -> bool {
    const NAMES: &str = "EXIT DEBUG ERR RETURN ZERR HUP INT QUIT ILL TRAP ABRT BUS FPE KILL USR1 SEGV USR2 PIPE ALRM TERM \
                         CHLD CONT STOP TSTP TTIN TTOU URG XCPU XFSZ VTALRM PROF WINCH IO PWR SYS";
    let bare = name.strip_prefix(b"SIG").unwrap_or(name);
    name == b"0" || among(NAMES, bare)
}
