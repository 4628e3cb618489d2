//! Redirections: what a command reads, whether what it writes is caught, and what keeps it from being run.

use std::collections::BTreeSet;

use super::{Flow, MAX_FILE, Run};
use crate::eval::builtins::is_special;
use crate::eval::piece::is_known;
use crate::eval::stream::Input;
use crate::syntax::{Command, Dialect, Kind, Part, Redirect, literal};
use crate::{FileType, Files, ReadError, UnknownId};
use whodunit_formats::bytes::path;

/// Where what a command writes goes.
enum Output {
    /// To where all goes.
    Caught,
    /// To where nothing reads it.
    Lost,
    /// Into a file.
    File(Vec<u8>),
}

/// Whether a command's redirections stay.
fn is_exec(command: &Command) -> bool {
    matches!(&command.kind, Kind::Simple(_, words) if words.first().and_then(literal).is_some_and(|name| name == b"exec"))
}

impl Run<'_> {
    /// The target of a redirection; else what the shell gives up for a wrong one.
    fn target(&mut self, redirect: &Redirect) -> Result<Vec<u8>, Flow> {
        let is_number = |target: &[u8]| target == b"-" || !is_known(target) || target.iter().all(u8::is_ascii_digit);
        let takes_number = redirect.operator.ends_with('&');
        match self.dialect() {
            Dialect::Bash if !redirect.operator.starts_with("<<") => {
                let mut fields = self.fields(std::slice::from_ref(&redirect.target));
                let is_wrong = |target: &[u8]| takes_number && redirect.descriptor.is_some() && !is_number(target);
                match (fields.pop(), fields.is_empty()) {
                    (Some(target), true) if !is_wrong(&target) => Ok(target),
                    // An ambiguous redirect.
                    _ => {
                        self.status = Some(1);
                        Err(Flow::Next)
                    }
                }
            }
            dialect => {
                let target = self.one(&redirect.target, false);
                if dialect == Dialect::Posix && takes_number && !is_number(&target) {
                    self.status = Some(2);
                    return Err(self.mistake());
                }
                Ok(target)
            }
        }
    }

    /// Whether nothing is open under a number, as nothing is beyond the first three at the start.
    fn is_closed(&self, target: &[u8]) -> bool {
        let number: Option<u32> = std::str::from_utf8(target).ok().and_then(|text| text.parse().ok());
        number.is_some_and(|number| number > 2) && !self.has_descriptors
    }

    /// Whether `>` writes no file that is there.
    fn keeps_files(&self) -> bool {
        match self.dialect() {
            Dialect::Zsh => self.has_in_zsh(b"clobber") == Some(false),
            _ => self.state.has(b"noclobber"),
        }
    }

    /// Whether a file certainly cannot be written: its directory is not there, or the user may not.
    pub(in crate::eval) fn cannot_write(&self, operator: &str, target: &[u8]) -> bool {
        if !is_known(target) || target.starts_with(b"/dev/") || !is_known(&self.state.dir) {
            return false;
        }
        let file = self.absolute(target);
        match (self.meta(&file), self.meta(path::parent(&file))) {
            (Some(meta), _) if meta.file_type == FileType::Dir => true,
            (Some(meta), _) => {
                !self.may(meta, 2) || self.keeps_files() && operator == ">" && meta.file_type == FileType::File
            }
            (None, Some(dir)) => dir.file_type != FileType::Dir || !self.may(dir, 2),
            (None, None) => true,
        }
    }

    /// A command that is not run because a file of its redirections cannot be opened.
    fn refused_redirect(&mut self, command: &Command, is_certain: bool) -> Flow {
        let status = if self.dialect() == Dialect::Posix { 2 } else { 1 };
        self.status = is_certain.then_some(status);
        // It ends dash where the command is a special builtin.
        let name = match &command.kind {
            Kind::Simple(_, words) => words.first().and_then(literal),
            _ => None,
        };
        let is_special = name.is_some_and(|name| is_special(&name));
        if self.dialect() != Dialect::Posix || !is_special {
            return Flow::Next;
        }
        if !is_certain {
            return self.anything("a file that may be missing ends the shell");
        }
        self.mistake()
    }

    /// The same where what was read of its redirections may make that uncertain.
    fn refuse(&mut self, command: &Command, outer_taints: BTreeSet<UnknownId>) -> Flow {
        let is_certain = self.read_taints.is_empty();
        self.read_taints.extend(outer_taints);
        self.refused_redirect(command, is_certain)
    }

    /// Follows a command with its redirections: only what is read, and whether what is written is caught, matters.
    pub(in crate::eval) fn redirected(&mut self, command: &Command) -> Flow {
        let mut input = None;
        let mut output = Output::Caught;
        let mut is_uncertain = false;
        let outer_taints = std::mem::take(&mut self.read_taints);
        for redirect in &command.redirects {
            let closes = matches!(&redirect.target.0[..], [Part::Plain(target)] if target == b"-");
            if closes && redirect.descriptor.is_some_and(|number| number > 2) {
                self.has_closed = true;
            }
            self.has_descriptors |= redirect.descriptor.is_some_and(|number| number > 2);
            let descriptor = redirect.descriptor.unwrap_or(u32::from(!redirect.operator.starts_with('<')));
            if let ("<", [Part::Process(list)]) = (redirect.operator, &redirect.target.0[..]) {
                input = Some(match self.had_mishap {
                    true => self.unknown_value("input from a process after an error"),
                    false => self.written_by(list),
                });
                continue;
            }
            let target = match self.target(redirect) {
                Ok(target) => target,
                Err(flow) => {
                    self.read_taints.extend(outer_taints);
                    return flow;
                }
            };
            if self.failure.is_some() {
                self.read_taints.extend(outer_taints);
                return Flow::Next;
            }
            is_uncertain |= !is_known(&target);
            let is_further = target.first().is_some_and(|byte| (b'3'..=b'9').contains(byte));
            if self.has_closed && is_further && redirect.operator.ends_with('&') {
                self.taint_for_good("a descriptor that may be closed");
            }
            match redirect.operator {
                "<<" | "<<-" => input = Some(target),
                "<<<" => input = Some([&target[..], b"\n"].concat()),
                "<" if target == b"/dev/null" => input = Some(Vec::new()),
                "<" if target.starts_with(b"/dev/") => input = Some(self.unknown_value("the content of a device")),
                "<" => match self.seen().read(&self.absolute(&target), MAX_FILE) {
                    Ok(content) if is_known(&target) => input = Some(content),
                    Err(ReadError::Absent(_)) if is_known(&target) => {
                        return self.refuse(command, outer_taints);
                    }
                    _ => input = Some(self.unknown_value("input that is unknown")),
                },
                ">&" if descriptor == 1 && target == b"2" => output = Output::Lost,
                "<&" | ">&" if self.is_closed(&target) => {
                    return self.refuse(command, outer_taints);
                }
                "<&" if target != b"0" => input = Some(self.unknown_value("input from another descriptor")),
                ">" | ">>" | ">|" | "&>" | "&>>" if self.cannot_write(redirect.operator, &target) => {
                    return self.refuse(command, outer_taints);
                }
                ">" | ">>" | ">|" | "&>" | "&>>" => {
                    self.writes_file(&target, redirect.operator.ends_with(">>"), Some(Vec::new()));
                    match descriptor {
                        1 if target.starts_with(b"/dev/") => output = Output::Lost,
                        1 => output = Output::File(target),
                        _ => self.writes_file(&target, true, None),
                    }
                }
                ">&" if descriptor == 1 => output = Output::Lost,
                _ => {}
            }
        }
        let opens = |redirect: &Redirect| matches!(redirect.operator, "<" | ">" | ">>" | ">|" | "&>" | "&>>");
        let is_open = |part: &Part| !matches!(part, Part::Plain(_) | Part::Quoted(_));
        let may_vary =
            is_uncertain && command.redirects.iter().any(|one| opens(one) && one.target.0.iter().any(is_open));
        let taints = std::mem::replace(&mut self.read_taints, outer_taints);
        self.with_streams(command, input.map(|text| Input { text: text.into(), at: 0, taints }), &output, may_vary)
    }

    /// Follows a command with what it reads, and with where its output goes.
    fn with_streams(&mut self, command: &Command, input: Option<Input>, to: &Output, may_vary: bool) -> Flow {
        let has_input = input.is_some();
        let outer = input.map(|input| self.input.replace(input));
        let output = match to {
            Output::Caught => None,
            Output::Lost => Some(self.output.take()),
            Output::File(_) => Some(self.output.replace(Vec::new())),
        };
        let flow = match may_vary {
            false => self.follow(command),
            // The file may not be there.
            true => self.either(
                "writes or reads a file whose name is unknown",
                &mut |run| run.follow(command),
                &mut |run| run.refused_redirect(command, true),
            ),
        };
        if let Some(output) = output {
            let written = std::mem::replace(&mut self.output, output);
            if let Output::File(file) = to {
                // What goes wrong, and what `exec` leaves open, may write more.
                let is_all = self.status == Some(0) && !is_exec(command) && !may_vary;
                self.writes_file(file, true, written.filter(|_| is_all));
            }
        }
        if has_input {
            self.input = outer.flatten();
        }
        flow
    }
}
