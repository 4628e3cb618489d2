//! Start-up files that are followed over files in memory, by the tests and by the fuzzer.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use whodunit_formats::bytes::{ByteString, path};
use whodunit_shell::eval::fish::Fish;
use whodunit_shell::eval::{Account, Invocation, Run, State};
use whodunit_shell::syntax::Dialect;
use whodunit_shell::{FileType, Files, Metadata, ReadError, Unknown};

/// The start-up file that is followed.
pub const START: &[u8] = b"/home/maren/start";

/// Files in memory; a directory is whatever a file's path goes through.
#[derive(Debug, Default)]
pub struct Memory(pub BTreeMap<Vec<u8>, Vec<u8>>);

impl Memory {
    fn file_type(&self, path: &[u8]) -> Option<FileType> {
        if self.0.contains_key(path) {
            return Some(FileType::File);
        }
        let inside = [path, b"/"].concat();
        self.0.keys().any(|file| file.starts_with(&inside)).then_some(FileType::Dir)
    }
}

impl Files for Memory {
    fn read(&self, path: &[u8], max: u64) -> Result<Vec<u8>, ReadError> {
        match self.0.get(path) {
            Some(content) if content == b"closed" => Err(ReadError::Unreadable(format!("{}", ByteString::from(path)))),
            Some(content) if content.len() as u64 <= max => Ok(content.clone()),
            Some(_) => Err(ReadError::Unreadable("too large".to_owned())),
            None => Err(ReadError::Absent("no such file".to_owned())),
        }
    }

    fn metadata(&self, path: &[u8]) -> Option<Metadata> {
        let file_type = self.file_type(path)?;
        let size = self.0.get(path).map_or(0, |content| content.len() as u64);
        Some(Metadata { file_type, size, mode: 0o755, owner: 1000, group: 1000, modified: 0, identity: (0, size) })
    }

    fn entry_type(&self, path: &[u8]) -> Option<FileType> {
        self.file_type(path)
    }

    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)> {
        let inside = [dir, b"/"].concat();
        let below = self.0.keys().filter_map(|file| file.strip_prefix(&inside[..]));
        let names: BTreeSet<&[u8]> = below.map(|rest| rest.split(|&b| b == b'/').next().unwrap_or_default()).collect();
        names.into_iter().map(|name| (name.into(), self.file_type(&path::join(dir, name)).unwrap())).collect()
    }

    fn read_link(&self, _: &[u8]) -> Option<ByteString> {
        None
    }

    fn canonicalize(&self, path: &[u8]) -> ByteString {
        path.into()
    }
}

/// The language of a shell; of fish, which has its own evaluator, any.
pub fn dialect_of(shell: &str) -> Dialect {
    match shell {
        "bash" => Dialect::Bash,
        "zsh" => Dialect::Zsh,
        _ => Dialect::Posix,
    }
}

/// What a start-up file leaves behind, in a shell of maren's with the path `/usr/bin:/bin`.
pub fn followed(shell: &str, files: &Memory, is_login: bool, is_interactive: bool) -> (State, Vec<Unknown>) {
    let account = Account { name: "maren".into(), uid: 1000, home: "/home/maren".into() };
    let invocation = Invocation {
        files,
        hostname: Some("lantern".into()),
        user: &account,
        groups: BTreeSet::from([1000]),
        homes: Arc::new(BTreeMap::from([(b"maren".to_vec(), b"/home/maren".to_vec())])),
        dialect: dialect_of(shell),
        name: format!("-{shell}").into_bytes(),
        is_login,
        is_interactive,
    };
    let mut state = State { dir: b"/home/maren".to_vec(), ..State::default() };
    state.export(b"PATH", "/usr/bin:/bin");
    state.export(b"HOME", "/home/maren");
    if shell == "fish" {
        let mut fish = Fish::new(invocation, state);
        fish.file(START);
        return fish.finish();
    }
    let mut run = Run::new(invocation, state);
    let _ = run.file(START);
    run.finish()
}
