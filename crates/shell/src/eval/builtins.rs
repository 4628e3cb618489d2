//! Commands that shells have built in, as far as they change what is followed here.

use super::piece::is_known;
use super::run::{Flow, Run};
use super::state::{Alias, AliasKind, Function, Value, Variable};
use crate::eval::builtin_names::is_builtin;
use crate::syntax::Dialect;

/// Builtins whose assignments last in the POSIX shell.
pub(super) fn is_special(name: &[u8]) -> bool {
    let special: [&[u8]; 15] = [
        b".",
        b":",
        b"break",
        b"continue",
        b"eval",
        b"exec",
        b"exit",
        b"export",
        b"readonly",
        b"return",
        b"set",
        b"shift",
        b"times",
        b"trap",
        b"unset",
    ];
    special.contains(&name)
}

impl Run<'_> {
    /// Runs a command that is a function, a builtin, or a program.
    pub(super) fn call(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        if !is_known(name) {
            self.status = None;
            let unknown = self.note_unknown("runs a command whose name is unknown");
            self.taint_all(unknown);
            return Flow::Next;
        }
        let function = self.state.functions.get(name).cloned();
        if let Some(function) = function.filter(|_| !(self.dialect() == Dialect::Posix && is_special(name))) {
            return self.function(&function, arguments);
        }
        self.builtin(name, arguments)
    }

    fn builtin(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        let exists = is_builtin(self.dialect(), name) && !self.state.disabled.contains(name);
        if !exists {
            self.program(name, &arguments);
            return Flow::Next;
        }
        self.status = Some(0);
        let arguments = match self.control(name, arguments) {
            Ok(flow) => return flow,
            Err(arguments) => arguments,
        };
        match name {
            b":" | b"true" => {}
            b"false" => self.status = Some(1),
            b"[" | b"test" => self.test_word(name, arguments),
            b"set" => self.set(&arguments),
            b"unset" => self.unset(&arguments),
            b"unfunction" => arguments.iter().for_each(|name| drop(self.state.functions.remove(name))),
            b"alias" => self.make_aliases(&arguments),
            b"unalias" => self.drop_aliases(&arguments),
            b"cd" | b"chdir" => self.change_dir(&arguments),
            b"pwd" => {
                let dir = [&self.state.dir[..], b"\n"].concat();
                self.write(&dir);
            }
            b"echo" | b"print" => self.echo(&arguments),
            b"printf" => self.printf(&arguments),
            b"type" | b"whence" | b"which" | b"where" | b"hash" => self.find_all(name, &arguments),
            b"read" => self.read(&arguments),
            b"shopt" => self.shopt(&arguments),
            b"setopt" | b"unsetopt" => arguments.iter().for_each(|word| self.option(word, name == b"setopt")),
            b"enable" | b"disable" => self.switch_builtins(name, &arguments),
            b"autoload" => self.autoload(&arguments),
            b"let" => {
                let value = arguments.last().map(|text| self.number(text)).unwrap_or_default();
                self.status = is_known(&value).then(|| u8::from(value == b"0"));
            }
            b"getopts" | b"wait" | b"kill" | b"fg" | b"bg" | b"stat" | b"zmodload" | b"compgen" => self.status = None,
            // What they set does not bear on where programs are found.
            _ => {}
        }
        Flow::Next
    }

    /// Builtins that decide what is followed next; the arguments come back if it is none of them.
    fn control(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Result<Flow, Vec<Vec<u8>>> {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let level = || std::str::from_utf8(first).ok().and_then(|text| text.parse().ok()).unwrap_or(1);
        Ok(match name {
            b"." | b"source" if first == b"--" => self.dot(&arguments[1..]),
            b"." | b"source" => self.dot(&arguments),
            b"eval" => self.text(&arguments.join(&b' ')),
            b"return" => {
                self.status = status_of(first, self.status);
                Flow::Return
            }
            b"exit" | b"logout" | b"bye" => {
                self.status = status_of(first, self.status);
                Flow::Exit
            }
            b"exec" if arguments.iter().any(|word| !word.starts_with(b"-")) => {
                let program = String::from_utf8_lossy(first).into_owned();
                let unknown = self.note_unknown(format!("{program} replaces the shell here"));
                self.state.taints.insert(unknown);
                Flow::Exit
            }
            b"break" => Flow::Break(level()),
            b"continue" => Flow::Continue(level()),
            b"shift" => {
                let count = if first.is_empty() { 1 } else { level() as usize };
                if count <= self.state.arguments.len() {
                    self.state.arguments.drain(..count);
                    return Ok(Flow::Next);
                }
                self.status = Some(1);
                if self.dialect() == Dialect::Posix { self.mistake() } else { Flow::Next }
            }
            b"command" | b"builtin" => self.command_word(name, &arguments),
            b"emulate" => self.emulate(&arguments),
            b"noglob" | b"nocorrect" | b"private" if !arguments.is_empty() => {
                self.call(&arguments[0].clone(), arguments[1..].to_vec())
            }
            _ => return Err(arguments),
        })
    }

    fn test_word(&mut self, name: &[u8], mut words: Vec<Vec<u8>>) {
        if name == b"[" && words.pop().as_deref() != Some(b"]") {
            self.status = Some(2);
            return;
        }
        let holds = self.test(&words);
        self.status = holds.map(|holds| u8::from(!holds));
    }

    fn drop_aliases(&mut self, arguments: &[Vec<u8>]) {
        if arguments.first().is_some_and(|first| first == b"-a") {
            self.state.aliases.clear();
        }
        for name in arguments {
            self.state.aliases.remove(name);
        }
    }

    fn change_dir(&mut self, arguments: &[Vec<u8>]) {
        let dir = arguments.iter().find(|word| !word.starts_with(b"-") || *word == b"-");
        let dir = dir.cloned().or_else(|| self.state.get(b"HOME").map(<[u8]>::to_vec));
        match dir {
            Some(dir) if is_known(&dir) && self.kind(&dir) == Some(crate::FileType::Dir) => {
                let now = self.absolute(&dir);
                self.state.dir = now.clone();
                self.state.variables.insert(b"PWD".to_vec(), Variable::text(now, true));
            }
            _ => self.status = Some(1),
        }
    }

    fn switch_builtins(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let is_off = name == b"disable" || arguments.first().is_some_and(|first| first == b"-n");
        for word in arguments.iter().filter(|word| !word.starts_with(b"-")) {
            if is_off {
                self.state.disabled.insert(word.clone());
            } else {
                self.state.disabled.remove(word);
            }
        }
    }

    fn autoload(&mut self, arguments: &[Vec<u8>]) {
        for word in arguments.iter().filter(|word| !word.starts_with(b"-") && !word.starts_with(b"+")) {
            let place = self.place.clone();
            let function = Function { body: None, place, certain: true, exported: false };
            self.state.functions.entry(word.clone()).or_insert(function);
        }
    }

    fn dot(&mut self, arguments: &[Vec<u8>]) -> Flow {
        let Some(file) = arguments.first() else {
            self.status = Some(2);
            return Flow::Next;
        };
        if !is_known(file) {
            let unknown = self.note_unknown("reads a file whose name is unknown");
            self.taint_all(unknown);
            self.status = None;
            return Flow::Next;
        }
        // A name without a slash is looked up in the search path; in bash, then here.
        let found = if file.contains(&b'/') {
            Some(file.clone())
        } else {
            let list = self.state.get(b"PATH").unwrap_or_default().to_vec();
            let candidates =
                list.split(|&b| b == b':').map(|dir| whodunit_formats::bytes::path::join(dir, file).to_vec());
            let candidates: Vec<Vec<u8>> = candidates.collect();
            let in_path = candidates.into_iter().find(|file| self.kind(file) == Some(crate::FileType::File));
            let local = (self.dialect() != Dialect::Posix).then(|| [b"./", &file[..]].concat());
            in_path.or(local)
        };
        let arguments = (arguments.len() > 1 && self.dialect() != Dialect::Posix).then(|| arguments[1..].to_vec());
        match found {
            Some(found)
                if self.meta(&found).is_some() || self.at.files.entry_type(&self.absolute(&found)).is_some() =>
            {
                self.source(&found, arguments)
            }
            _ => {
                self.status = Some(1);
                if self.dialect() == Dialect::Posix { self.mistake() } else { Flow::Next }
            }
        }
    }

    fn set(&mut self, arguments: &[Vec<u8>]) {
        let mut at = 0;
        while let Some(word) = arguments.get(at) {
            match &word[..] {
                b"--" => {
                    self.state.arguments = arguments[at + 1..].to_vec();
                    return;
                }
                b"-o" | b"+o" => {
                    if let Some(name) = arguments.get(at + 1) {
                        self.option(name, word[0] == b'-');
                    }
                    at += 1;
                }
                [sign @ (b'-' | b'+'), letters @ ..] if !letters.is_empty() => {
                    for letter in letters {
                        let name: &[u8] = match letter {
                            b'a' => b"allexport",
                            b'e' => b"errexit",
                            b'f' => b"noglob",
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
                    self.state.arguments = arguments[at..].to_vec();
                    return;
                }
            }
            at += 1;
        }
    }

    /// Switches an option. zsh takes no notice of case and underscores, and of `no` in front.
    pub(super) fn option(&mut self, name: &[u8], on: bool) {
        let mut name: Vec<u8> = name.to_vec();
        if self.dialect() == Dialect::Zsh {
            name = name.iter().filter(|b| **b != b'_').map(u8::to_ascii_lowercase).collect();
            if name == b"nomatch" || name == b"nonomatch" {
                let off = on == (name == b"nonomatch");
                if off {
                    self.state.options.insert(b"nonomatch".to_vec());
                } else {
                    self.state.options.remove(&b"nonomatch"[..]);
                }
                return;
            }
            if let Some(bare) = name.strip_prefix(b"no").filter(|bare| !bare.is_empty()) {
                let bare = bare.to_vec();
                return self.option(&bare, !on);
            }
        }
        if on {
            self.state.options.insert(name);
        } else {
            self.state.options.remove(&name);
        }
    }

    fn shopt(&mut self, arguments: &[Vec<u8>]) {
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

    fn emulate(&mut self, arguments: &[Vec<u8>]) -> Flow {
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
        set(self, is_sh);
        Flow::Next
    }

    fn unset(&mut self, arguments: &[Vec<u8>]) {
        let mut of_functions = false;
        for word in arguments {
            match &word[..] {
                b"-f" => of_functions = true,
                b"-v" => of_functions = false,
                name if of_functions => {
                    self.state.functions.remove(name);
                }
                name => {
                    let was_there = self.state.variables.remove(name).is_some();
                    self.state.to_export.remove(name);
                    // bash takes a function of that name where there is no variable.
                    if !was_there && self.dialect() == Dialect::Bash && !arguments.iter().any(|word| word == b"-v") {
                        self.state.functions.remove(name);
                    }
                }
            }
        }
    }

    fn make_aliases(&mut self, arguments: &[Vec<u8>]) {
        let mut kind = AliasKind::Command;
        for word in arguments {
            let is_option = word.len() > 1 && (word.starts_with(b"-") || word.starts_with(b"+"));
            if is_option && !word.contains(&b'=') {
                if word.contains(&b'g') {
                    kind = AliasKind::Global;
                } else if word.contains(&b's') {
                    kind = AliasKind::Suffix;
                }
                continue;
            }
            let Some(at) = memchr::memchr(b'=', word) else {
                if !self.state.aliases.contains_key(word) {
                    self.status = Some(1);
                }
                continue;
            };
            if !is_known(&word[..at]) {
                let unknown = self.note_unknown("defines an alias whose name is unknown");
                self.state.taints.insert(unknown);
                continue;
            }
            let (place, value) = (self.place.clone(), word[at + 1..].to_vec());
            self.state.aliases.insert(word[..at].to_vec(), Alias { value, place, certain: true, kind });
        }
    }
}

fn status_of(text: &[u8], now: Option<u8>) -> Option<u8> {
    if text.is_empty() {
        return now;
    }
    let number: i64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    u8::try_from(number & 0xff).ok()
}
