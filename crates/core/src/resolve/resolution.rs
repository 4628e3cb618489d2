//! The resolution behind a path: through every link to the file that finally runs, and, for a script, its
//! interpreter.

use schemars::JsonSchema;
use serde::Serialize;

use super::SearchPath;
use crate::bytes::{ByteString, path};
use crate::fs::{FsError, Kind, Meta, Root};
use crate::model::Evidence;
use whodunit_formats::shebang::{Shebang, handed_to};

/// How a step leads on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// It is a link, or is reached through a directory that is one.
    Link,
    /// It is a program that starts another one.
    Wrapper,
    /// It stands for a program that is chosen anew each time.
    Shim,
    /// It is a script, and this is its interpreter.
    Interpreter,
    /// It is the thing itself.
    Itself,
}

/// One step of a resolution.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Where the step stands.
    pub path: ByteString,
    /// Where it leads; nowhere for the last one, unless it is a script.
    pub to: Option<ByteString>,
    /// How it leads there.
    pub how: How,
    /// The directory on the way that is a link, where it is not the step itself that is one.
    pub through: Option<ByteString>,
}

/// The end of a resolution.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum End {
    /// A file, directory or something else.
    There(Meta),
    /// Nothing: the last link leads nowhere, or there was nothing to begin with.
    Nothing,
    /// The links lead round in a circle.
    Circle,
    /// It could not be looked at.
    Unknown(FsError),
}

/// A script's first line, and where the interpreter lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script {
    /// The line as written.
    pub line: ByteString,
    /// The resolution of the interpreter; empty when a search for it found nothing.
    pub interpreter: Option<Box<Resolution>>,
}

/// The resolution behind a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resolution {
    /// Its steps; the first is the path itself, the last is what finally runs.
    pub steps: Vec<Step>,
    /// The entry that is there.
    pub end: End,
    /// Its first line, where it is a script.
    pub script: Option<Script>,
    /// What decided where a shim on the way leads.
    pub why: Vec<Evidence>,
}

/// Bytes of a script that are read at most: its first line, and a second one that hands it on.
const HANDED_ON: usize = 2048;

/// The number of links that Linux follows in one lookup.
const MAX_LINKS: usize = 40;

impl Resolution {
    /// Follows `start`, an absolute path. Interpreters named by `env` are looked up on `search`.
    #[must_use]
    pub fn of(root: &Root, search: &SearchPath, start: &[u8]) -> Self {
        let mut resolution = Self::links(root, start);
        if let End::There(meta) = resolution.end
            && meta.kind == Kind::File
        {
            resolution.script = script(root, search, resolution.last());
            let interpreter = resolution.script.as_ref().and_then(|script| script.interpreter.as_ref());
            if let Some(step) = resolution.steps.last_mut()
                && resolution.script.is_some()
            {
                step.how = How::Interpreter;
                step.to = interpreter.map(|resolution| resolution.steps[0].path.clone());
            }
        }
        resolution
    }

    /// Follows the links alone.
    #[must_use]
    pub fn links(root: &Root, start: &[u8]) -> Self {
        let mut steps = Vec::new();
        let mut at = ByteString::from(start);
        let canonical = root.canonicalize(&at);
        if canonical != at {
            let through = linked_dir(root, &at);
            steps.push(Step { path: at, to: Some(canonical.clone()), how: How::Link, through });
            at = canonical;
        }
        let end = loop {
            match root.entry(&at) {
                Ok(meta) if meta.kind == Kind::Link => {
                    if steps.len() > MAX_LINKS {
                        break End::Circle;
                    }
                    let target = match root.read_link(&at) {
                        Ok(target) => target,
                        Err(error) => break End::Unknown(error),
                    };
                    let next = root.canonicalize(&path::absolute(&target, path::parent(&at)));
                    steps.push(Step { path: at, to: Some(next.clone()), how: How::Link, through: None });
                    at = next;
                }
                Ok(meta) => break End::There(meta),
                Err(FsError::Missing { .. }) => break End::Nothing,
                Err(FsError::Loop { .. }) => break End::Circle,
                Err(error) => break End::Unknown(error),
            }
        };
        steps.push(Step { path: at, to: None, how: How::Itself, through: None });
        Resolution { steps, end, script: None, why: Vec::new() }
    }

    /// Goes on behind a wrapper or a shim: what it ends in so far only starts what `behind` leads to.
    pub fn wrap(&mut self, behind: Resolution, how: How) {
        if let (Some(step), Some(next)) = (self.steps.last_mut(), behind.steps.first()) {
            step.how = how;
            step.to = Some(next.path.clone());
        }
        self.steps.extend(behind.steps);
        self.end = behind.end;
        self.script = behind.script;
        self.why.extend(behind.why);
    }

    /// Ends at a step that would start something, and does not.
    pub fn stop_at(&mut self, root: &Root, place: usize, how: How) {
        self.steps.truncate(place + 1);
        if let Some(step) = self.steps.last_mut() {
            step.how = how;
            step.to = None;
            self.end = root.target(&step.path).map_or_else(End::Unknown, End::There);
        }
        self.script = None;
    }

    /// The path of what finally runs.
    ///
    /// # Panics
    /// Never: a resolution has at least one step.
    #[must_use]
    pub fn last(&self) -> &ByteString {
        &self.steps.last().expect("a resolution has a step").path
    }

    /// Every path of the resolution and of its interpreter's.
    pub fn paths(&self) -> impl Iterator<Item = &ByteString> {
        let interpreter = self.script.as_ref().and_then(|script| script.interpreter.as_ref());
        let behind = interpreter.into_iter().flat_map(|resolution| resolution.steps.iter());
        self.steps.iter().chain(behind).map(|step| &step.path)
    }
}

/// The first directory of a path that is a link.
fn linked_dir(root: &Root, file: &[u8]) -> Option<ByteString> {
    let ends = memchr::memchr_iter(b'/', file).skip(1);
    ends.map(|end| &file[..end]).find(|dir| *root.canonicalize_dir(dir) != **dir).map(ByteString::from)
}

fn script(root: &Root, search: &SearchPath, file: &[u8]) -> Option<Script> {
    let start = root.read_start(file, HANDED_ON).ok()?;
    let shebang = Shebang::parse(&start)?;
    if let Some(handed_to) = handed_to(&start) {
        let interpreter = Some(Box::new(Resolution::links(root, &path::absolute(handed_to, path::parent(file)))));
        return Some(Script { line: shebang.line.into(), interpreter });
    }
    let interpreter = match shebang.looked_up() {
        Some(name) if !name.contains(&b'/') => search.reach(root, name).copies.first().map(|copy| copy.path.clone()),
        Some(path) => Some(path::absolute(path, path::parent(file))),
        None => Some(path::absolute(shebang.interpreter, path::parent(file))),
    };
    let interpreter = interpreter.map(|path| Box::new(Resolution::links(root, &path)));
    Some(Script { line: shebang.line.into(), interpreter })
}
