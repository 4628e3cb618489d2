//! The trail behind a path: through every link to the file that finally runs, and, for a script, its
//! interpreter.

use schemars::JsonSchema;
use serde::Serialize;

use super::SearchPath;
use crate::formats::shebang::{Shebang, handed_to};
use crate::model::Evidence;
use crate::root::{Kind, Meta, Root, RootError};
use crate::text::{Text, path};

/// How a step leads on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// It is a link, or is reached through a folder that is one.
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

/// One step of a trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Where the step stands.
    pub path: Text,
    /// Where it leads; nowhere for the last one, unless it is a script.
    pub to: Option<Text>,
    /// How it leads there.
    pub how: How,
    /// The folder on the way that is a link, where it is not the step itself that is one.
    pub through: Option<Text>,
}

/// What stands at the end of a trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum End {
    /// A file, folder or something else.
    There(Meta),
    /// Nothing: the last link leads nowhere, or there was nothing to begin with.
    Nothing,
    /// The links lead round in a circle.
    Circle,
    /// It could not be looked at.
    Unknown(RootError),
}

/// A script's first line, and where the interpreter lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script {
    /// The line as written.
    pub line: Text,
    /// The trail of the interpreter; empty when a search for it found nothing.
    pub interpreter: Option<Box<Trail>>,
}

/// The trail behind a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trail {
    /// Its steps; the first is the path itself, the last is what finally runs.
    pub steps: Vec<Step>,
    /// What stands there.
    pub end: End,
    /// Its first line, where it is a script.
    pub script: Option<Script>,
    /// What decided where a shim on the way leads.
    pub why: Vec<Evidence>,
}

/// As much of a script is looked at: its first line, and a second one that hands it on.
const HANDED_ON: usize = 2048;

/// As many links as Linux follows in one look-up.
const MOST_LINKS: usize = 40;

impl Trail {
    /// Follows `start`, an absolute path. Interpreters named by `env` are looked up on `search`.
    #[must_use]
    pub fn of(root: &Root, search: &SearchPath, start: &[u8]) -> Self {
        let mut trail = Self::links(root, start);
        if let End::There(meta) = trail.end
            && meta.kind == Kind::File
        {
            trail.script = script(root, search, trail.last());
            let interpreter = trail.script.as_ref().and_then(|script| script.interpreter.as_ref());
            if let Some(step) = trail.steps.last_mut()
                && trail.script.is_some()
            {
                step.how = How::Interpreter;
                step.to = interpreter.map(|trail| trail.steps[0].path.clone());
            }
        }
        trail
    }

    /// Follows the links alone.
    #[must_use]
    pub fn links(root: &Root, start: &[u8]) -> Self {
        let mut steps = Vec::new();
        let mut at = Text::from(start);
        let settled = root.settle(&at);
        if settled != at {
            let through = linked_folder(root, &at);
            steps.push(Step { path: at, to: Some(settled.clone()), how: How::Link, through });
            at = settled;
        }
        let end = loop {
            match root.entry(&at) {
                Ok(meta) if meta.kind == Kind::Link => {
                    if steps.len() > MOST_LINKS {
                        break End::Circle;
                    }
                    let target = match root.read_link(&at) {
                        Ok(target) => target,
                        Err(error) => break End::Unknown(error),
                    };
                    let next = root.settle(&path::absolute(&target, path::folder(&at)));
                    steps.push(Step { path: at, to: Some(next.clone()), how: How::Link, through: None });
                    at = next;
                }
                Ok(meta) => break End::There(meta),
                Err(RootError::Missing { .. }) => break End::Nothing,
                Err(RootError::Loop { .. }) => break End::Circle,
                Err(error) => break End::Unknown(error),
            }
        };
        steps.push(Step { path: at, to: None, how: How::Itself, through: None });
        Trail { steps, end, script: None, why: Vec::new() }
    }

    /// Goes on behind a wrapper or a shim: what it ends in so far only starts what `behind` leads to.
    pub fn wrap(&mut self, behind: Trail, how: How) {
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
    /// Never: a trail has at least one step.
    #[must_use]
    pub fn last(&self) -> &Text {
        &self.steps.last().expect("a trail has a step").path
    }

    /// Every path of the trail and of its interpreter's.
    pub fn paths(&self) -> impl Iterator<Item = &Text> {
        let interpreter = self.script.as_ref().and_then(|script| script.interpreter.as_ref());
        let behind = interpreter.into_iter().flat_map(|trail| trail.steps.iter());
        self.steps.iter().chain(behind).map(|step| &step.path)
    }
}

/// The first folder of a path that is a link.
fn linked_folder(root: &Root, file: &[u8]) -> Option<Text> {
    let ends = memchr::memchr_iter(b'/', file).skip(1);
    ends.map(|end| &file[..end]).find(|folder| *root.settle_folder(folder) != **folder).map(Text::from)
}

fn script(root: &Root, search: &SearchPath, file: &[u8]) -> Option<Script> {
    let start = root.read_start(file, HANDED_ON).ok()?;
    let shebang = Shebang::parse(&start)?;
    if let Some(handed_to) = handed_to(&start) {
        let interpreter = Some(Box::new(Trail::links(root, &path::absolute(handed_to, path::folder(file)))));
        return Some(Script { line: shebang.line.into(), interpreter });
    }
    let interpreter = match shebang.looked_up() {
        Some(name) if !name.contains(&b'/') => search.reach(root, name).copies.first().map(|copy| copy.path.clone()),
        Some(path) => Some(path::absolute(path, path::folder(file))),
        None => Some(path::absolute(shebang.interpreter, path::folder(file))),
    };
    let interpreter = interpreter.map(|path| Box::new(Trail::links(root, &path)));
    Some(Script { line: shebang.line.into(), interpreter })
}
