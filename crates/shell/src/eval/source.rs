//! Reads files: those that the shell reads by itself, and those that commands name.

use whodunit_formats::bytes::ByteString;

use crate::Files;
use crate::ReadError;
use crate::eval::lists::Place;
use crate::eval::piece::{is_known, unknowns_in};
use crate::eval::rules;
use crate::eval::run::{Flow, MAX_DEPTH, MAX_FILE, Mishap, Run};
use crate::syntax::{Dialect, Parser, SyntaxError};

impl Run<'_> {
    /// Reads a start-up file where there is one. `false` where the shell ends in it.
    pub fn file(&mut self, file: &[u8]) -> bool {
        matches!(self.source(file, None), Flow::Next | Flow::LeaveAll)
    }

    /// Reads the file that a variable names.
    pub fn named_file(&mut self, variable: &[u8]) {
        let Some(text) = self.state.get(variable).filter(|text| !text.is_empty()).map(<[u8]>::to_vec) else { return };
        let Ok(word) = Parser::in_quotes(&text, self.at.dialect) else { return };
        let file = self.one(&word, false);
        let _ = self.source(&file, None);
    }

    /// Follows what stands behind a device: the input, where it is known.
    fn device(&mut self, file: &[u8]) -> Option<Flow> {
        let is_input = matches!(file, b"/dev/stdin" | b"/dev/fd/0" | b"/proc/self/fd/0");
        let is_other = file.starts_with(b"/dev/") && file != b"/dev/null" || file.starts_with(b"/proc/");
        if !is_input && !is_other {
            return None;
        }
        match self.rest_of_input().filter(|_| is_input && self.read_taints.is_empty()) {
            Some(text) => {
                self.input = None;
                Some(match self.text(&text) {
                    Flow::Return | Flow::LeaveFile => Flow::Next,
                    other => other,
                })
            }
            None => {
                self.taint_for_good("reads commands from a device");
                self.status = None;
                Some(Flow::Next)
            }
        }
    }

    /// Follows a file: `.`, or one that the shell reads by itself.
    pub(in crate::eval) fn source(&mut self, file: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
        let path = ByteString::from(self.absolute(file));
        if let Some(flow) = self.device(&path) {
            return flow;
        }
        let content = match self.seen().read(&path, MAX_FILE) {
            Ok(content) if self.meta(file).is_some_and(|meta| self.may(meta, 4)) => content,
            Ok(_) => {
                self.status = Some(1);
                return Flow::Next;
            }
            Err(ReadError::Absent(_)) => {
                self.status = Some(1);
                return Flow::Next;
            }
            Err(error) => {
                self.why_astray.set(None); // Told here.
                let unknown = self.note_unknown(format!("reads {error}"));
                self.taint_all(unknown);
                self.status = None;
                return Flow::Next;
            }
        };
        if self.depth >= MAX_DEPTH {
            self.stop("files are nested too deeply");
            return Flow::Next;
        }
        self.depth += 1;
        let place = std::mem::replace(&mut self.place, Place { file: path, line: 1 });
        let held = std::mem::replace(&mut self.holds_line, false);
        let taints = std::mem::take(&mut self.word_taints);
        let outer = arguments.map(|arguments| self.take_arguments(arguments, taints));
        let early = self.early.len();
        self.status = Some(0);
        // In zsh it leaves no loop around it; in dash it is checked wherever it stands.
        let outer_loops = (self.dialect() == Dialect::Zsh).then(|| std::mem::take(&mut self.loops));
        let outer_unchecked = (self.dialect() == Dialect::Posix).then(|| std::mem::take(&mut self.unchecked));
        // In zsh `$0` is the file.
        let zero = (self.dialect() == Dialect::Zsh).then(|| std::mem::replace(&mut self.at.name, file.to_vec()));
        let flow = match rules::of_file(self, file) {
            Some(text) => self.text(&text),
            // Some editors end lines with CR LF; a shell takes the CR for a letter, and so does this. Zero bytes are
            // skipped.
            None => self.commands(&content.into_iter().filter(|&b| b != 0).collect::<Vec<u8>>()),
        };
        self.join_early(early, |flow| matches!(flow, Flow::Return | Flow::LeaveFile));
        if let Some(outer) = outer {
            (self.state.arguments, self.state.argument_taints) = outer;
        }
        if let Some(zero) = zero {
            self.at.name = zero;
        }
        if self.dialect() == Dialect::Zsh && flow == Flow::LeaveFile {
            self.status = Some(126);
        }
        self.loops = outer_loops.unwrap_or(self.loops);
        self.unchecked = outer_unchecked.unwrap_or(self.unchecked);
        self.holds_line = held;
        self.place = place;
        self.depth -= 1;
        match flow {
            Flow::Return | Flow::LeaveFile => Flow::Next,
            other => other,
        }
    }

    pub(super) fn dot(&mut self, arguments: &[Vec<u8>]) -> Flow {
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
            Some(found) if self.meta(&found).is_some() || self.seen().entry_type(&self.absolute(&found)).is_some() => {
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

    /// Takes a text as commands that stand on one line.
    pub(in crate::eval) fn text(&mut self, text: &[u8]) -> Flow {
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.commands(text);
        self.holds_line = held;
        flow
    }

    pub(in crate::eval) fn commands(&mut self, text: &[u8]) -> Flow {
        if !is_known(text) {
            let why = unknowns_in(text)
                .first()
                .and_then(|number| self.unknowns.get(number.0))
                .map(|unknown| unknown.says.clone());
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            return self.anything(format!("evaluates unknown commands{why}, which may set any variable"));
        }
        let mut parser = Parser::new(text, self.at.dialect);
        while let Some(list) = parser.next() {
            let list = match list {
                Ok(_) if parser.has_groups() && !self.state.has(b"extglob") => {
                    Err(SyntaxError { line: self.place.line, what: "a pattern that an option must allow" })
                }
                list => list,
            };
            match list {
                Ok(list) => {
                    let early = self.early.len();
                    match self.taken_apart_now(|run| run.list(&list)) {
                        Flow::Next => {}
                        Flow::LeaveLine => self.had_mishap = true,
                        flow => return flow,
                    }
                    self.join_early(early, |flow| flow == Flow::LeaveLine);
                }
                Err(error) => {
                    if !self.holds_line {
                        self.place.line = error.line;
                    }
                    let unknown =
                        self.note_unknown(format!("syntax error ({}): the shell stops reading here", error.what));
                    match self.at.dialect {
                        // zsh has more forms than are parsed here.
                        Dialect::Zsh => self.taint_all(unknown),
                        // After an error within `[[` in a text that it evaluates, bash no longer takes the next
                        // `[[` of the file as one: the file ends there, with another syntax error.
                        Dialect::Bash if self.holds_line && memchr::memmem::find(text, b"[[").is_some() => {
                            self.taint_all(unknown);
                            self.state.lasting_taints.insert(unknown);
                        }
                        _ => drop(self.state.taints.insert(unknown)),
                    }
                    self.status = Some(2);
                    return self.mistake();
                }
            }
        }
        Flow::Next
    }
}
