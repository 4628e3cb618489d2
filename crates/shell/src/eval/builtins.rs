//! Commands that shells have built in, as far as they change what is followed here.

use super::piece::is_known;
use super::run::{Flow, Run};
use super::state::Replacement;
use crate::Files;
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
        let is_unknown = arguments.iter().any(|word| !is_known(word));
        let may_end = match name {
            b"set" => arguments.first().is_none_or(|first| first != b"--"),
            b"break" | b"continue" | b"return" | b"exit" | b"shift" | b"unset" => self.dialect() != Dialect::Bash,
            _ => false,
        };
        if is_unknown && may_end {
            self.taint_for_good("what is unknown may be a mistake, which ends what is read, or an option");
        }
        let before = self.status.replace(0);
        let written = self.output.as_ref().map_or(0, Vec::len);
        let arguments = match self.control(name, arguments, before) {
            Ok(flow) => return flow,
            Err(arguments) => arguments,
        };
        match name {
            _ if self.dialect() == Dialect::Zsh && self.zsh_builtin(name, &arguments) => {}
            b":" | b"true" => {}
            b"false" => self.status = Some(1),
            b"[" | b"test" => self.test_word(name, &arguments),
            b"set" => self.set(&arguments),
            b"unset" => self.unset(&arguments),
            b"umask" if arguments.iter().any(|word| !word.iter().all(|b| (b'0'..=b'7').contains(b))) => {
                self.status = None;
            }
            b"alias" => self.make_aliases(&arguments),
            b"unalias" => self.drop_aliases(&arguments),
            b"cd" | b"chdir" => self.change_dir(&arguments),
            b"pushd" => self.push_dir(&arguments),
            b"popd" => self.pop_dir(&arguments),
            b"pwd" => {
                let is_physical = arguments.iter().any(|word| word == b"-P");
                let dir = self.state.dir.clone();
                let dir = if is_physical { self.seen().canonicalize(&dir).to_vec() } else { dir };
                self.write(&[&dir[..], b"\n"].concat());
            }
            b"echo" => self.echo(&arguments),
            b"printf" => self.printf(&arguments),
            b"type" | b"whence" | b"which" | b"where" | b"hash" => self.find_all(name, &arguments),
            b"read" => self.read(&arguments),
            b"shopt" => self.shopt(&arguments),
            b"enable" | b"disable" => self.switch_builtins(name, &arguments),
            b"let" => {
                let values: Vec<Vec<u8>> = arguments.iter().map(|text| self.number(text)).collect();
                let value = values.last().cloned().unwrap_or_default();
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
        if is_unknown && matches!(name, b"set" | b"alias" | b"unalias" | b"hash" | b"unset") {
            self.status = None;
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
            b"return" | b"exit" | b"logout" | b"bye" => self.leave(name, first, before),
            b"break" | b"continue" => self.leave_loop(name, first),
            b"shift" => self.shift(&arguments),
            // What is read from now on comes from there.
            b"exec" if arguments.is_empty() => {
                self.input = None;
                Flow::Next
            }
            b"exec" if arguments.iter().any(|word| !word.starts_with(b"-")) => {
                self.replaced_by(&arguments);
                Flow::Exit
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
}
