//! What programs would write that start-up files ask, where that can be told without running them; and values that a
//! shell has by itself.

use super::edits::trimmed;
use super::piece::{self, is_known};
use super::run::Run;
use crate::FileType;
use crate::Files;
use crate::ReadError;
use crate::eval::run::SMALL;
use whodunit_formats::bytes::{ByteString, path};

impl Run<'_> {
    /// A program: it changes nothing in the shell; what it writes may be told.
    pub(super) fn program(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let Some(file) = self.which(name) else {
            let is_open = self.is_path_open();
            // What is there and cannot be run is another failure.
            let is_there = name.contains(&b'/') && self.kind(name).is_some();
            let handlers = [&b"command_not_found_handle"[..], b"command_not_found_handler"];
            let is_handled = !is_there && handlers.iter().any(|name| self.state.functions.contains_key(*name));
            self.status = if is_open || is_handled { None } else { Some(if is_there { 126 } else { 127 }) };
            if is_open && self.output.is_some() {
                let unknown =
                    self.unknown_value(format!("the output of `{}`, which is not run", ByteString::from(name)));
                self.write(&unknown);
            }
            return;
        };
        let known = arguments.iter().all(|word| is_known(word));
        let words: Vec<&[u8]> = arguments.iter().map(Vec::as_slice).collect();
        let program = path::name(&file).to_vec();
        if known {
            if let Some(text) = super::rules::of_program(self, &file, &words) {
                self.status = Some(0);
                self.write(&text);
                return;
            }
            if let Some((text, status)) = self.answer(&program, &words) {
                self.status = Some(status);
                self.write(&text);
                return;
            }
        }
        self.status = if super::rules::succeeds(&program) { Some(0) } else { None };
        if known {
            match self.making(&program, &words) {
                Some(status) => self.status = status,
                None => self.may_make(&program, &words),
            }
        }
        let shown = piece::shown(&[&[name], &words[..]].concat().join(&b' '), 60 + name.len());
        if self.output.is_some() && !super::rules::is_silent(&program, &words) {
            let unknown = self.unknown_value(format!("the output of `{shown}`, which is not run"));
            self.write(&unknown);
        }
        self.unrun = Some(shown);
    }

    /// What a program of the system writes, and how it ends.
    fn answer(&mut self, program: &[u8], words: &[&[u8]]) -> Option<(Vec<u8>, u8)> {
        let line = |text: &[u8]| Some(([text, b"\n"].concat(), 0));
        let user = self.at.user;
        match (program, words) {
            (b"id", [b"-u" | b"-ur" | b"-ru" | b"--user"]) => line(user.uid.to_string().as_bytes()),
            (b"id", [b"-un" | b"-nu"]) | (b"whoami" | b"logname", []) => line(&user.name),
            (b"hostname" | b"uname", [b"-n"]) | (b"hostname", [] | [b"-s"]) => {
                let host = self.at.hostname.clone()?;
                line(&host)
            }
            (b"uname", [] | [b"-s"]) => line(if super::path_helper::is_macos(self) { b"Darwin" } else { b"Linux" }),
            (b"cat", files) if !files.iter().any(|file| file.starts_with(b"-")) => {
                if files.is_empty() {
                    return Some((self.rest_of_input()?, 0));
                }
                let mut all = Vec::new();
                let mut status = 0;
                for file in files {
                    match self.seen().read(&self.absolute(file), SMALL) {
                        Ok(content) => all.extend(content.into_iter().filter(|&b| b != 0)),
                        Err(ReadError::Absent(_)) => status = 1,
                        Err(_) => return None,
                    }
                }
                Some((all, status))
            }
            (b"tr" | b"sed" | b"head" | b"paste" | b"uniq", words) => {
                let text = self.rest_of_input().filter(|text| is_known(text))?;
                super::filters::filtered(program, words, &text).map(|text| (text, 0))
            }
            (b"grep", [b"-q" | b"-qs" | b"-sq", wanted, file]) if !wanted.iter().any(|b| b"\\[]*.^$".contains(b)) => {
                match self.seen().read(&self.absolute(file), SMALL) {
                    Ok(content) => {
                        let found = memchr::memmem::find(&content, wanted).is_some();
                        Some((Vec::new(), u8::from(!found)))
                    }
                    Err(_) => Some((Vec::new(), 2)),
                }
            }
            (b"test" | b"[", words) => {
                let mut words: Vec<Vec<u8>> = words.iter().map(|word| word.to_vec()).collect();
                if program == b"[" {
                    words.pop();
                }
                self.test(&words).map(|holds| (Vec::new(), u8::from(!holds)))
            }
            (b"which", [name]) => match self.which(name) {
                Some(file) => line(&file),
                None => Some((Vec::new(), 1)),
            },
            (b"seq", words) => counted(words).map(|text| (text, 0)),
            (b"true", _) => Some((Vec::new(), 0)),
            (b"false", _) => Some((Vec::new(), 1)),
            _ => self.answer_of_path(program, words),
        }
    }

    /// What a program that takes paths apart writes.
    fn answer_of_path(&self, program: &[u8], words: &[&[u8]]) -> Option<(Vec<u8>, u8)> {
        let line = |text: &[u8]| Some(([text, b"\n"].concat(), 0));
        let words = words.strip_prefix(&[&b"--"[..]]).unwrap_or(words);
        match (program, words) {
            (b"dirname", [name]) => line(match (trimmed(name), path::parent(trimmed(name))) {
                (b"", _) if name.starts_with(b"/") => b"/",
                (name, b"") if name.contains(&b'/') => b"/",
                (_, b"") => b".",
                (_, dir) => match trimmed(dir) {
                    b"" => b"/",
                    dir => dir,
                },
            }),
            (b"dirname" | b"basename", []) => Some((Vec::new(), 1)),
            (b"basename", [name]) => line(match trimmed(name) {
                b"" if name.starts_with(b"/") => b"/",
                name => path::name(name),
            }),
            (b"basename", [name, ending]) => {
                let name = path::name(trimmed(name));
                line(name.strip_suffix(*ending).filter(|stem| !stem.is_empty()).unwrap_or(name))
            }
            (b"readlink", [b"-f" | b"-e" | b"-m", name]) | (b"realpath", [name]) => {
                let canonical = self.seen().canonicalize(&self.absolute(name));
                line(&canonical)
            }
            (b"readlink", [name]) => match self.seen().read_link(&self.absolute(name)) {
                Some(target) => line(&target),
                None => Some((Vec::new(), 1)),
            },
            _ => None,
        }
    }

    /// What a file is, for rules.
    pub(super) fn is_dir(&self, dir: &[u8]) -> bool {
        self.kind(dir) == Some(FileType::Dir)
    }
}

/// The numbers that `seq` writes, a line each.
pub(super) fn counted(words: &[&[u8]]) -> Option<Vec<u8>> {
    let (first, last) = match words {
        [last] => (&b"1"[..], *last),
        [first, last] => (*first, *last),
        _ => return None,
    };
    let number = |text: &[u8]| std::str::from_utf8(text).ok()?.parse::<i32>().ok();
    let (first, last) = (number(first)?, number(last)?);
    if i64::from(last) - i64::from(first) > 10_000 {
        return None;
    }
    Some((first..=last).flat_map(|number| format!("{number}\n").into_bytes()).collect())
}
