//! Commands that shells have built in, as far as they change what is followed here.

use super::piece::is_known;
use super::run::{Flow, Mishap, Run};
use super::state::{Function, Replacement};
use crate::eval::builtin_names::{is_builtin, prints};
use crate::syntax::Dialect;
use whodunit_formats::bytes::ByteString;

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

/// Whether a builtin acts on its words, rather than to pass them on as they are, with what is uncertain about them.
pub(super) fn takes_apart(dialect: Dialect, name: &[u8]) -> bool {
    let passing: [&[u8]; 13] = [
        b":", b"true", b"false", b"echo", b"print", b"printf", b"[", b"test", b"set", b"alias", b"eval", b".",
        b"source",
    ];
    is_builtin(dialect, name) && !passing.contains(&name)
}

impl Run<'_> {
    /// Runs a command that is a function, a builtin, or a program.
    pub(super) fn call(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        if !is_known(name) {
            return self.anything("runs a command whose name is unknown");
        }
        if matches!(name, b"nocorrect" | b"-") && self.dialect() == Dialect::Zsh && !arguments.is_empty() {
            return self.call(&arguments[0].clone(), arguments[1..].to_vec());
        }
        let function = self.state.functions.get(name).cloned();
        if let Some(function) = function.filter(|_| !(self.dialect() == Dialect::Posix && is_special(name))) {
            if function.certain || function.varies {
                self.note_uncertain_function(name);
                return self.function(name, &function, arguments);
            }
            let why = format!("calls {}, which may be missing", ByteString::from(name));
            return self.either(&why, &mut |run| run.function(name, &function, arguments.clone()), &mut |run| {
                run.state.functions.remove(name);
                run.builtin(name, arguments.clone())
            });
        }
        self.builtin(name, arguments)
    }

    fn builtin(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        let exists = is_builtin(self.dialect(), name) && !self.state.disabled.contains(name);
        if !exists {
            self.program(name, &arguments);
            if !self.read_taints.is_empty() {
                self.status = None;
            }
            return Flow::Next;
        }
        let before = self.status.replace(0);
        let written = self.output.as_ref().map_or(0, Vec::len);
        let arguments = match self.control(name, arguments, before) {
            Ok(flow) => return flow,
            Err(arguments) => arguments,
        };
        match name {
            b":" | b"true" => {}
            b"false" => self.status = Some(1),
            b"[" | b"test" => self.test_word(name, &arguments),
            b"set" => self.set(&arguments),
            b"unalias" | b"unfunction" | b"unset" | b"disable" | b"enable"
                if self.dialect() == Dialect::Zsh && arguments.iter().any(|word| word == b"-m") =>
            {
                let _ = self.anything("takes away what fits a pattern");
            }
            b"unset" => self.unset(&arguments),
            b"umask" if arguments.iter().any(|word| !word.iter().all(|b| (b'0'..=b'7').contains(b))) => {
                self.status = None;
            }
            b"unfunction" => {
                let all = arguments.iter().filter(|name| self.state.functions.remove(*name).is_some()).count();
                self.status = Some(u8::from(all < arguments.len())).filter(|_| self.state.taints.is_empty());
            }
            b"zstyle" if arguments.first().is_some_and(|word| word.starts_with(b"-")) => {
                self.status = None;
                if let (Some(b"-s" | b"-b" | b"-a" | b"-g"), Some(name)) =
                    (arguments.first().map(Vec::as_slice), arguments.get(if arguments[0] == b"-g" { 1 } else { 3 }))
                {
                    let unknown = self.unknown_value("a style");
                    self.assign_named(&name.clone(), unknown);
                }
            }
            b"zparseopts" | b"functions"
                if name == b"zparseopts" || arguments.iter().any(|word| word.starts_with(b"-")) =>
            {
                let _ = self.anything("takes words or functions apart");
                if name == b"zparseopts" {
                    self.state.arguments = self.uncounted(Vec::new(), true);
                }
            }
            b"alias" => self.make_aliases(&arguments),
            b"unalias" => self.drop_aliases(&arguments),
            b"cd" | b"chdir" => self.change_dir(&arguments),
            b"pushd" => self.push_dir(&arguments),
            b"popd" => self.pop_dir(&arguments),
            b"pwd" => {
                let is_physical = arguments.iter().any(|word| word == b"-P");
                let dir = self.state.dir.clone();
                let dir = if is_physical { self.at.files.canonicalize(&dir).to_vec() } else { dir };
                self.write(&[&dir[..], b"\n"].concat());
            }
            b"print" => self.print(&arguments),
            b"echo" => self.echo(&arguments),
            b"printf" => self.printf(&arguments),
            b"type" | b"whence" | b"which" | b"where" | b"hash" => self.find_all(name, &arguments),
            b"read" => self.read(&arguments),
            b"shopt" => self.shopt(&arguments),
            b"setopt" | b"unsetopt" => self.setopt(&arguments, name == b"setopt"),
            b"enable" | b"disable" => self.switch_builtins(name, &arguments),
            b"autoload" => self.autoload(&arguments),
            b"let" => {
                let value = arguments.last().map(|text| self.number(text)).unwrap_or_default();
                self.status = is_known(&value).then(|| u8::from(value == b"0"));
            }
            b"getopts" => self.getopts(&arguments),
            b"kill" if self.traps_signals => {
                self.taint_for_good("sends a signal for which a trap is set");
                self.status = None;
            }
            b"mapfile" | b"readarray" => self.mapfile(&arguments),
            b"trap" => self.trap(&arguments),
            // What they set does not bear on where programs are found.
            b"umask" | b"complete" | b"zstyle" | b"bindkey" | b"times" | b"jobs" | b"dirs" => {}
            _ => self.status = None,
        }
        if prints(name, &arguments) && self.output.as_ref().is_some_and(|output| output.len() == written) {
            let unknown = self.unknown_value(format!("what `{}` prints", ByteString::from(name)));
            self.write(&unknown);
        }
        Flow::Next
    }

    /// Builtins that decide what is followed next; the arguments come back if it is none of them.
    fn control(&mut self, name: &[u8], arguments: Vec<Vec<u8>>, before: Option<u8>) -> Result<Flow, Vec<Vec<u8>>> {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let level = || std::str::from_utf8(first).ok().and_then(|text| text.parse().ok()).unwrap_or(1);
        Ok(match name {
            b"." | b"source" if first == b"--" => self.dot(&arguments[1..]),
            b"." | b"source" => self.dot(&arguments),
            b"eval" => {
                let text = arguments.join(&b' ');
                match (self.text(&text), self.dialect()) {
                    // In bash and zsh what goes wrong in it ends with it.
                    (Flow::LeaveFile, Dialect::Zsh) => {
                        self.status = Some(1);
                        Flow::Next
                    }
                    (Flow::LeaveFile, Dialect::Bash) => {
                        // A syntax error gives 2, but 1 in the parentheses of an array.
                        self.status = self.status.filter(|_| memchr::memmem::find(&text, b"=(").is_none());
                        Flow::Next
                    }
                    (flow, _) => flow,
                }
            }
            b"return" | b"exit" if self.dialect() == Dialect::Posix && !is_digits(first) => {
                self.fail(Mishap::Expansion);
                Flow::Next
            }
            b"return" => {
                self.status = status_of(first, before);
                Flow::Return
            }
            b"logout" if self.dialect() != Dialect::Posix && !self.at.is_login => {
                self.status = Some(1);
                Flow::Next
            }
            b"exit" | b"logout" | b"bye" => {
                self.status = status_of(first, self.status);
                Flow::Exit
            }
            // What is read from now on comes from there.
            b"exec" if arguments.is_empty() => {
                self.input = None;
                Flow::Next
            }
            b"exec" if arguments.iter().any(|word| !word.starts_with(b"-")) => {
                self.replaced_by(&arguments);
                Flow::Exit
            }
            b"break" | b"continue" if self.dialect() == Dialect::Posix && (!is_digits(first) || first == b"0") => {
                self.fail(Mishap::Expansion);
                Flow::Next
            }
            // Outside a loop it does nothing; in zsh it is an error.
            b"break" | b"continue" if self.loops == 0 => {
                if self.dialect() == Dialect::Zsh {
                    self.fail(Mishap::Expansion);
                }
                Flow::Next
            }
            b"break" | b"continue" if self.dialect() == Dialect::Zsh && !is_digits(first) => {
                self.anything("leaves an unknown number of loops")
            }
            b"break" | b"continue" if !is_digits(first) || first.starts_with(b"0") => {
                self.anything("leaves an unknown number of loops")
            }
            b"break" => Flow::Break(level()),
            b"continue" => Flow::Continue(level()),
            b"shift" if self.dialect() == Dialect::Zsh && !arguments.iter().all(|word| is_digits(word)) => {
                let lists = arguments.iter().filter(|word| !is_digits(word) && !word.starts_with(b"-"));
                for name in lists.cloned().collect::<Vec<_>>() {
                    let unknown = self.any_number("a list of which elements were taken");
                    self.assign_named(&name, unknown);
                }
                self.anything("takes elements from a list")
            }
            b"shift" => {
                let number = if first.is_empty() {
                    Some(1)
                } else {
                    std::str::from_utf8(first).ok().and_then(|text| text.parse().ok())
                };
                let count = number.unwrap_or(0);
                if !is_known(first) {
                    self.status = None;
                    self.state.arguments = self.uncounted(Vec::new(), true);
                    return Ok(Flow::Next);
                }
                if !self.is_counted(&self.state.arguments) {
                    // What is left of unknown words is unknown words.
                    self.status = None;
                    let left = self.state.arguments.iter().position(|word| !self.is_counted([word]));
                    let left = left.map(|at| self.state.arguments.swap_remove(at));
                    self.state.arguments = left.into_iter().collect();
                    return Ok(Flow::Next);
                }
                if number.is_some() && count <= self.state.arguments.len() {
                    self.state.arguments.drain(..count);
                    return Ok(Flow::Next);
                }
                if self.dialect() == Dialect::Posix {
                    self.fail(Mishap::Expansion);
                }
                self.status = Some(1);
                Flow::Next
            }
            b"command" | b"builtin" => self.command_word(name, &arguments),
            b"emulate" => self.emulate(&arguments),
            b"noglob" if !arguments.is_empty() => self.call(&arguments[0].clone(), arguments[1..].to_vec()),
            _ => return Err(arguments),
        })
    }

    /// `exec` of a program: one of another shell is followed by whoever started this one.
    pub(super) fn replaced_by(&mut self, arguments: &[Vec<u8>]) {
        let (options, words): (Vec<_>, Vec<_>) = arguments.iter().partition(|word| word.starts_with(b"-"));
        let letters = |word: &Vec<u8>| word == b"--login" || word[1..].iter().all(|letter| b"il".contains(letter));
        let name = words.first().map_or(&b""[..], |word| word.as_slice());
        let shells: [&[u8]; 5] = [b"bash", b"dash", b"fish", b"sh", b"zsh"];
        let file = if is_known(name) { self.which(name) } else { None };
        let file = file.filter(|file| shells.contains(&whodunit_formats::bytes::path::name(file)));
        if let (Some(file), [_], true) = (file, &words[..], options.iter().all(|word| letters(word))) {
            self.state.replaced_by = Some(Replacement {
                file,
                is_login: options.iter().any(|word| word.contains(&b'l')),
                is_interactive: options.iter().any(|word| word.contains(&b'i') && *word != b"--login"),
                place: self.place.clone(),
            });
            return;
        }
        let unknown = self.note_unknown(format!("{} replaces the shell here", String::from_utf8_lossy(name)));
        self.taint_all(unknown);
    }

    pub(super) fn test_word(&mut self, name: &[u8], words: &[Vec<u8>]) {
        let words = match words.split_last() {
            _ if name != b"[" => words,
            Some((last, words)) if last == b"]" => words,
            _ => {
                self.status = Some(2);
                return;
            }
        };
        self.is_misused = false;
        let holds = self.test(words);
        self.status = if self.is_misused { Some(2) } else { holds.map(|holds| u8::from(!holds)) };
        if !self.read_taints.is_empty() {
            self.status = None;
        }
    }

    fn switch_builtins(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let is_one = |word: &&Vec<u8>| word.starts_with(b"-") || is_builtin(self.dialect(), word);
        if !arguments.iter().all(|word| is_one(&word)) || arguments.iter().any(|word| word == b"-f" || word == b"-r") {
            self.status = None;
        }
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
            let function = Function::new(None, place);
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
                // A directory is an empty file to dash and zsh.
                if self.kind(&found) == Some(crate::FileType::Dir) {
                    self.status = Some(u8::from(self.dialect() == Dialect::Bash));
                    return Flow::Next;
                }
                self.source(&found, arguments)
            }
            _ => {
                if self.dialect() == Dialect::Posix {
                    self.fail(Mishap::Expansion);
                }
                self.status = Some(if self.dialect() == Dialect::Zsh { 127 } else { 1 });
                Flow::Next
            }
        }
    }

    fn unset(&mut self, arguments: &[Vec<u8>]) {
        let (mut of_functions, mut of_references) = (false, false);
        for word in arguments {
            match &word[..] {
                b"-f" => of_functions = true,
                b"-v" => of_functions = false,
                b"-n" => of_references = true,
                name if of_references => {
                    if self.state.variables.get(name).is_some_and(|variable| variable.attributes.reference) {
                        self.state.variables.remove(name);
                    }
                }
                name if of_functions && self.state.functions.get(name).is_some_and(|function| function.readonly) => {
                    self.status = Some(1);
                }
                name if of_functions => {
                    if self.state.functions.remove(name).is_none() && self.dialect() == Dialect::Zsh {
                        self.status = Some(1);
                    }
                }
                [.., b']'] if self.dialect() != Dialect::Posix && word.contains(&b'[') => {
                    let at = memchr::memchr(b'[', word).unwrap_or(0);
                    self.unset_element(&word[..at], &word[at + 1..word.len() - 1]);
                }
                name if !is_known(name) => self.taint_for_good("unsets a variable whose name is unknown"),
                name if !crate::syntax::is_name(name) && !name.starts_with(b"-") => {
                    if self.dialect() != Dialect::Bash {
                        self.fail(Mishap::Expansion);
                    }
                }
                name if self.reveals(name) => {}
                name => {
                    let name = &self.state.meant(name).to_vec()[..];
                    let tied = super::lists::tied(name).filter(|_| self.dialect() == Dialect::Zsh);
                    let name = tied.unwrap_or(name);
                    if self.state.variables.get(name).is_some_and(|variable| variable.attributes.readonly) {
                        self.status = Some(1);
                        if self.dialect() != Dialect::Bash {
                            self.fail(Mishap::Expansion);
                        }
                        continue;
                    }
                    let before = self.state.variables.remove(name);
                    self.may_refuse(before.as_ref().map(|before| before.attributes).unwrap_or_default());
                    if let Some(list) = before.as_ref().filter(|list| list.unique || list.unique_list) {
                        self.unset_lists.insert(name.to_vec(), (list.unique, list.unique_list));
                    }
                    let was_there = before.is_some();
                    self.unset_own(name);
                    self.state.to_export.remove(name);
                    // The shells' own variables stay exported.
                    let is_own = match self.dialect() {
                        Dialect::Posix => name == b"PATH",
                        Dialect::Bash => false,
                        Dialect::Zsh => matches!(name, b"PATH" | b"MANPATH" | b"FPATH" | b"CDPATH"),
                    };
                    if is_own && before.is_some_and(|path| path.exported) {
                        self.state.to_export.insert(name.to_vec());
                    }
                    // bash takes a function of that name where there is no variable.
                    if !was_there && self.dialect() == Dialect::Bash && !arguments.iter().any(|word| word == b"-v") {
                        self.state.functions.remove(name);
                    }
                }
            }
        }
    }
}

impl Run<'_> {
    /// In bash, unsetting what a calling function made local brings back what was there before that.
    fn reveals(&mut self, name: &[u8]) -> bool {
        let is_inner = |scope: &Vec<(Vec<u8>, _)>| scope.iter().position(|(known, _)| known == name);
        let Some((last, outer)) = self.scopes.split_last_mut() else { return false };
        if self.at.dialect != Dialect::Bash || is_inner(last).is_some() {
            return false;
        }
        let Some((scope, at)) = outer.iter_mut().rev().find_map(|scope| is_inner(scope).map(|at| (scope, at))) else {
            return false;
        };
        match scope.remove(at) {
            (name, Some(before)) => drop(self.state.variables.insert(name, before)),
            (name, None) => drop(self.state.variables.remove(&name)),
        }
        true
    }
}

fn is_digits(text: &[u8]) -> bool {
    text.iter().all(u8::is_ascii_digit)
}

fn status_of(text: &[u8], now: Option<u8>) -> Option<u8> {
    if text.is_empty() {
        return now;
    }
    let number: i64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    u8::try_from(number & 0xff).ok()
}
