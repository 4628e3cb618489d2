//! Reads files: those that the shell reads by itself, and those that commands name.

use whodunit_formats::bytes::ByteString;

use crate::ReadError;
use crate::eval::lists::Place;
use crate::eval::rules;
use crate::eval::run::{Flow, MAX_DEPTH, MAX_FILE, Run};
use crate::syntax::{Dialect, Parser};

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
        let content = match self.at.files.read(&path, MAX_FILE) {
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
        self.holds_line = held;
        self.place = place;
        self.depth -= 1;
        match flow {
            Flow::Return | Flow::LeaveFile => Flow::Next,
            other => other,
        }
    }
}
