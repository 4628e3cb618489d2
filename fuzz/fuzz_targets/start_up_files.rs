//! Start-up files: parsed and followed as dash, bash, zsh and fish would. The first byte of an input chooses the shell, and
//! whether it is a login shell and one that a user types into.

#![no_main]

use libfuzzer_sys::fuzz_target;
use whodunit_shell::eval::pieces;
use whodunit_shell::syntax::{Parser, fish};

#[path = "../../crates/shell/tests/support/memory.rs"]
mod memory;

use memory::{Memory, START, dialect_of, followed};

fn follow(which: u8, file: &[u8]) {
    let shell = ["sh", "bash", "zsh", "fish"][usize::from(which % 4)];
    let lines = 1 + u32::try_from(file.iter().filter(|byte| **byte == b'\n').count()).unwrap();
    if shell == "fish" {
        if let Err(error) = fish::parse(file, 1) {
            assert!((1..=lines).contains(&error.line), "{error} is outside the file");
        }
    } else {
        for list in Parser::new(file, dialect_of(shell)) {
            match list {
                Ok(commands) => assert!(commands.iter().all(|command| (1..=lines).contains(&command.line))),
                Err(error) => assert!((1..=lines).contains(&error.line), "{error} is outside the file"),
            }
        }
    }
    let files = [(START, file), (b"/usr/bin/pegel", b"x")];
    let files = Memory(files.map(|(path, content)| (path.to_vec(), content.to_vec())).into());
    let (state, unknowns) = followed(shell, &files, which & 4 != 0, which & 8 != 0);
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
