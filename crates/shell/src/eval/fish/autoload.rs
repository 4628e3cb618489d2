//! Functions that stand in files of their name.

use super::Fish;
use crate::Files;
use crate::eval::lists::Place;
use crate::eval::piece::is_known;
use crate::eval::state::Function;
use whodunit_formats::bytes::path;

/// The list of directories with files of functions.
pub(super) const FUNCTION_PATH: &[u8] = b"fish_function_path";

impl Fish<'_> {
    /// Takes in the functions that the directories have.
    pub(super) fn find_functions(&mut self) {
        for dir in self.functions.clone() {
            let names = self.run.seen().list(&dir);
            for (name, _) in names {
                let Some(stem) = name.strip_suffix(b".fish") else { continue };
                let place = Place { file: path::join(&dir, &name), line: 1 };
                let function = Function::new(None, place);
                self.run.state.functions.entry(stem.to_vec()).or_insert(function);
            }
        }
    }

    /// The same where they stand in other directories from now on: what came from the others is forgotten.
    pub(super) fn find_functions_anew(&mut self) {
        let dirs = self.list_of(FUNCTION_PATH).unwrap_or_default();
        if !dirs.iter().all(|dir| is_known(dir)) {
            self.run.taint_for_good("functions in a directory that is unknown");
        }
        let dirs = dirs.iter().map(|dir| self.run.absolute(dir).into()).collect();
        let before = std::mem::replace(&mut self.functions, dirs);
        let is_found = |file: &[u8]| before.iter().any(|dir| **dir == *path::parent(file));
        self.bodies.retain(|name, _| self.run.state.functions.get(name).is_none_or(|one| !is_found(&one.place.file)));
        self.run.state.functions.retain(|name, _| self.bodies.contains_key(name));
        self.find_functions();
    }
}
