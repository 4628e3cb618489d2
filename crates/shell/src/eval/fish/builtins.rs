//! Commands that fish has built in, as far as they change what is followed here.

use super::Fish;
use crate::eval::builtin_names::among;
use crate::eval::piece::{is_known, mark};
use crate::eval::rules;
use crate::eval::run::Flow;
use whodunit_formats::bytes::{ByteString, path};

impl Fish<'_> {
    pub(super) fn command(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        if !is_known(name) {
            let unknown = self.note_unknown("runs a command whose name is unknown");
            self.taint_all(unknown);
            self.write(mark(unknown));
            self.run.status = None;
            return Flow::Next;
        }
        if let Some(defined) = self.load(name) {
            self.run.note_uncertain_function(name);
            return self.call(&defined, arguments);
        }
        let before = self.run.status.replace(0);
        self.is_missing = false;
        if let Some(flow) = self.control(name, &arguments, before) {
            return flow;
        }
        let written = self.output.as_ref().map_or(0, Vec::len);
        match name {
            b"set" => {
                self.run.status = before; // It ends as the commands do that write its words.
                self.set(&arguments);
            }
            b"fish_add_path" => self.add_path(&arguments),
            b"test" if arguments.is_empty() => self.run.status = None, // It depends on the version.
            b"test" | b"[" => {
                self.run.test_word(name, &arguments);
                self.run.status = self.run.status.filter(|status| *status < 2); // The number depends on the version.
            }
            b"functions" | b"abbr" if arguments.iter().any(|word| !is_known(word)) => self.run.status = None,
            b"abbr" if arguments.iter().any(|word| matches!(&word[..], b"-q" | b"--query" | b"-e" | b"--erase")) => {
                self.run.status = None;
            }
            b"true" | b":" | b"abbr" | b"bind" | b"complete" | b"umask" => {}
            b"functions" => self.run.status = self.functions_word(&arguments),
            b"false" => self.run.status = Some(1),
            b"contains" => self.contains(&arguments),
            b"status" => self.status(&arguments),
            b"type" | b"command" | b"builtin" => match self.command_word(name, &arguments) {
                Flow::Next => {}
                flow => return flow,
            },
            b"alias" => self.alias(&arguments),
            b"export" | b"setenv" => self.export(name, &arguments),
            b"not" | b"and" | b"or" | b"time" => self.run.status = None, // Its help, or a mistake.
            b"cd" => self.change_dir(&arguments),
            // A directory in the place of a command is gone to.
            dir if (dir.starts_with(b"/") || dir.starts_with(b".") || dir.ends_with(b"/"))
                && arguments.is_empty()
                && self.run.kind(dir) == Some(crate::FileType::Dir) =>
            {
                self.change_dir(&[dir.to_vec()]);
            }
            b"pushd" => self.push_dir(&arguments),
            b"popd" => self.pop_dir(),
            b"prevd" | b"nextd" | b"cdh" => self.lose_dir(),
            b"read" => self.read(&arguments),
            b"argparse" => self.argparse(&arguments),
            _ => {
                if !self.writes(name, &arguments) {
                    self.program(name, &arguments);
                }
            }
        }
        // What is asked of a list of which something is uncertain has no certain answer.
        if !passes(name) && !self.run.read_taints.is_empty() {
            self.run.status = None;
        }
        if prints(name, &arguments) && self.output.as_ref().is_some_and(|output| output.len() == written) {
            let unknown = self.unknown_value(format!("what `{}` prints", ByteString::from(name)));
            self.write(unknown);
        }
        Flow::Next
    }

    /// Builtins that decide what is followed next; none for any other command.
    fn control(&mut self, name: &[u8], arguments: &[Vec<u8>], before: Option<u8>) -> Option<Flow> {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let is_certain = self.run.read_taints.is_empty();
        Some(match name {
            b"source" | b"." if matches!(first, b"" | b"-") => {
                let rest = arguments.get(1..).filter(|rest| !rest.is_empty()).map(<[_]>::to_vec);
                self.source_input(rest)
            }
            b"source" | b"." if !is_known(first) || !is_certain => {
                let unknown = self.note_unknown("reads a file whose name is unknown");
                self.taint_all(unknown);
                self.run.status = None;
                Flow::Next
            }
            b"source" | b"." => self.source(first, Some(arguments[1..].to_vec())),
            b"eval" => {
                if !is_certain {
                    self.run.taint_for_good("reads commands that may be others");
                }
                let flow = self.text(&arguments.join(&b' '), None);
                self.is_missing = false;
                flow
            }
            b"emit" => self.emit(arguments),
            b"return" | b"exit" if arguments.iter().any(|word| !is_known(word)) => {
                self.run.taint_for_good("what is unknown may be no number, and then nothing is left");
                if name == b"return" { Flow::Return } else { Flow::Exit }
            }
            b"return" => {
                let number = std::str::from_utf8(first).ok().and_then(|text| text.parse().ok());
                let number = if first.is_empty() { before } else { number };
                self.run.status = number.filter(|_| is_certain);
                Flow::Return
            }
            b"exec" => {
                self.run.replaced_by(arguments);
                Flow::Exit
            }
            b"exit" => Flow::Exit,
            b"break" => Flow::Break(1),
            b"continue" => Flow::Continue(1),
            _ => return None,
        })
    }

    /// `source` of what is read.
    fn source_input(&mut self, arguments: Option<Vec<Vec<u8>>>) -> Flow {
        let lines = self.lines_of_input();
        match lines {
            Some(lines) if lines.iter().all(|line| is_known(line)) && self.run.read_taints.is_empty() => {
                let held = std::mem::replace(&mut self.holds_line, true);
                let early = self.run.early.len();
                let flow = self.text(&lines.join(&b'\n'), arguments);
                self.run.join_early(early, |flow| flow == Flow::Return);
                self.holds_line = held;
                if flow == Flow::Return { Flow::Next } else { flow }
            }
            _ => {
                let unknown = self.note_unknown("runs unknown commands");
                self.taint_all(unknown);
                self.run.status = None;
                Flow::Next
            }
        }
    }

    /// `argparse`: what it sets is not followed.
    fn argparse(&mut self, arguments: &[Vec<u8>]) {
        let unknown = self.unknown_value("an option that `argparse` takes");
        for specification in arguments.iter().take_while(|word| *word != b"--") {
            let names = specification.split(|b| b"=?+!#".contains(b)).next().unwrap_or_default();
            for name in names.split(|b| b"/-".contains(b)).filter(|name| !name.is_empty()) {
                self.assign(&[b"_flag_", name].concat(), vec![unknown.clone()], false, None);
            }
        }
        self.assign(b"argv", vec![unknown], false, None);
        self.run.status = None;
    }

    fn status(&mut self, arguments: &[Vec<u8>]) {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        self.run.status = match first {
            b"is-login" | b"--is-login" | b"-l" => Some(u8::from(!self.run.at.is_login)),
            b"is-interactive" | b"--is-interactive" | b"-i" => Some(u8::from(!self.run.at.is_interactive)),
            b"is-command-substitution" => Some(u8::from(self.output.is_none())),
            b"filename" | b"current-filename" | b"-f" => {
                self.write(self.run.place.file.to_vec());
                Some(0)
            }
            b"dirname" => {
                self.write(path::parent(&self.run.place.file).to_vec());
                Some(0)
            }
            _ => None,
        }
    }

    pub(super) fn program(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let is_builtin =
            matches!(name, b"ulimit" | b"history" | b"jobs" | b"commandline" | b"fg" | b"bg" | b"wait" | b"psub");
        if is_builtin || (self.is_shipped(name) && !matches!(name, b"ls" | b"grep" | b"man" | b"realpath")) {
            self.run.status = None;
            if self.output.is_some() {
                let unknown = self.unknown_value(format!("what `{}` of fish prints", ByteString::from(name)));
                self.write(unknown);
            }
            return;
        }
        // The rules speak the language of the other shells; this one's own set-up is told apart.
        self.with_path_as_text(|fish| fish.program_with_text(name, arguments));
    }

    fn program_with_text(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let kept = self.run.output.replace(Vec::new());
        let is_set_up = rules::is_set_up(self.run.which(name).as_deref(), arguments);
        if is_set_up {
            let file = self.run.which(name).unwrap_or_default();
            for line in rules::of_program_in_fish(&mut self.run, &file, arguments) {
                self.write(line);
            }
            self.run.status = Some(0);
        } else {
            self.run.program(name, arguments);
            self.is_missing = self.run.status == Some(127);
            let handler = &b"fish_command_not_found"[..];
            if self.is_missing && self.bodies.contains_key(handler) {
                self.run.taint_for_good("what is called where a command is not found");
            }
            let text = self.run.output.take().unwrap_or_default();
            if !text.is_empty() {
                self.write_lines(text.strip_suffix(b"\n").unwrap_or(&text));
            }
        }
        self.run.output = kept;
    }
}

/// Whether a command of fish prints something of its own with these words.
fn prints(name: &[u8], words: &[Vec<u8>]) -> bool {
    let is_only_options = words.iter().all(|word| word.starts_with(b"-"));
    match name {
        b"set" => {
            words.is_empty() || matches!(&words[0][..], b"-S" | b"--show") || (is_only_options && words[0] != b"-q")
        }
        b"functions" => !matches!(
            words.first().map(Vec::as_slice),
            Some(b"-q" | b"-e" | b"-c" | b"--query" | b"--erase" | b"--copy")
        ),
        b"alias" | b"abbr" | b"umask" => words.is_empty(),
        b"builtin" => is_only_options,
        b"bind" | b"complete" | b"status" => true,
        b"type" => !words.iter().any(|word| word == b"-q" || word == b"--query"),
        _ => false,
    }
}

/// Whether a command passes on what it is given as it is, and ends the same whatever that is.
fn passes(name: &[u8]) -> bool {
    const NAMES: &str = ": alias builtin command echo false fish_add_path printf set true";
    among(NAMES, name)
}
