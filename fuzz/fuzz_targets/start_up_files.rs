//! Start-up files: parsed and followed as dash, bash, zsh and fish would. The first byte of an input chooses the shell.

#![no_main]

use std::collections::{BTreeMap, BTreeSet};

use libfuzzer_sys::fuzz_target;
use whodunit_formats::bytes::ByteString;
use whodunit_shell::eval::fish::Fish;
use whodunit_shell::eval::{Account, Invocation, Run, State, pieces};
use whodunit_shell::syntax::{Dialect, Parser, fish};
use whodunit_shell::{FileType, Files, Metadata, ReadError};

/// A machine with one start-up file, one program and one directory.
#[derive(Debug)]
struct Memory<'f>(&'f [u8]);

const START: &[u8] = b"/home/maren/start";
const PROGRAM: &[u8] = b"/usr/bin/pegel";

impl Files for Memory<'_> {
    fn read(&self, path: &[u8], max: u64) -> Result<Vec<u8>, ReadError> {
        match path {
            START if self.0.len() as u64 <= max => Ok(self.0.to_vec()),
            START => Err(ReadError::Unreadable("too large".to_owned())),
            PROGRAM => Ok(b"x".to_vec()),
            _ => Err(ReadError::Absent("no such file".to_owned())),
        }
    }

    fn metadata(&self, path: &[u8]) -> Option<Metadata> {
        let file_type = self.entry_type(path)?;
        Some(Metadata { file_type, size: 1, mode: 0o755, owner: 1000, group: 1000, modified: 0, identity: (0, 1) })
    }

    fn entry_type(&self, path: &[u8]) -> Option<FileType> {
        match path {
            START | PROGRAM => Some(FileType::File),
            b"/" | b"/home" | b"/home/maren" | b"/usr" | b"/usr/bin" => Some(FileType::Dir),
            _ => None,
        }
    }

    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)> {
        match dir {
            b"/usr/bin" => vec![("pegel".into(), FileType::File)],
            b"/home/maren" => vec![("start".into(), FileType::File)],
            _ => Vec::new(),
        }
    }

    fn read_link(&self, _: &[u8]) -> Option<ByteString> {
        None
    }

    fn canonicalize(&self, path: &[u8]) -> ByteString {
        path.into()
    }
}

fn follow(which: u8, file: &[u8]) {
    let files = Memory(file);
    let account = Account { name: "maren".into(), uid: 1000, home: "/home/maren".into() };
    let (dialect, shell) = match which % 4 {
        0 => (Dialect::Posix, "sh"),
        1 => (Dialect::Bash, "bash"),
        2 => (Dialect::Zsh, "zsh"),
        _ => (Dialect::Posix, "fish"),
    };
    let lines = 1 + u32::try_from(file.iter().filter(|byte| **byte == b'\n').count()).unwrap();
    let invocation = Invocation {
        files: &files,
        hostname: Some("lantern".into()),
        user: &account,
        groups: BTreeSet::from([1000]),
        homes: BTreeMap::from([(b"maren".to_vec(), b"/home/maren".to_vec())]),
        dialect,
        name: format!("-{shell}").into_bytes(),
        is_login: which & 4 != 0,
        is_interactive: which & 8 != 0,
    };
    let mut state = State { dir: b"/home/maren".to_vec(), ..State::default() };
    state.export(b"PATH", "/usr/bin:/bin");
    state.export(b"HOME", "/home/maren");
    let (state, unknowns) = if shell == "fish" {
        if let Err(error) = fish::parse(file, 1) {
            assert!((1..=lines).contains(&error.line), "{error} is outside the file");
        }
        let mut fish = Fish::new(invocation, state);
        fish.file(START);
        fish.finish()
    } else {
        for list in Parser::new(file, dialect) {
            match list {
                Ok(commands) => assert!(commands.iter().all(|command| (1..=lines).contains(&command.line))),
                Err(error) => assert!((1..=lines).contains(&error.line), "{error} is outside the file"),
            }
        }
        let mut run = Run::new(invocation, state);
        let _ = run.file(START);
        run.finish()
    };
    // What is unknown in a path is told, with a place in the file.
    let path = state.get(b"PATH").unwrap_or_default();
    assert!(pieces(path).count() <= path.len());
    assert!(unknowns.iter().all(|unknown| unknown.line.is_none_or(|line| line >= 1)));
}

fuzz_target!(|data: &[u8]| {
    if let Some((&which, file)) = data.split_first() {
        follow(which, file);
    }
});
