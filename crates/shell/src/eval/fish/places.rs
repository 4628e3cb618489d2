//! The current directory: `cd`, `pushd`, `popd`.

use super::Fish;
use crate::eval::piece::is_known;

impl Fish<'_> {
    pub(super) fn change_dir(&mut self, arguments: &[Vec<u8>]) {
        let words: Vec<&Vec<u8>> = arguments.iter().filter(|word| *word != b"--").collect();
        let home = self.list_of(b"HOME").unwrap_or_default().concat();
        let dir = match words[..] {
            [] => home,
            [dir] => dir.clone(),
            _ => {
                self.run.status = Some(1);
                return;
            }
        };
        let is_relative = !dir.starts_with(b"/") && !dir.starts_with(b"./") && !dir.starts_with(b"..");
        let has_places = is_relative && self.list_of(b"CDPATH").is_some_and(|list| !list.is_empty());
        if !is_known(&dir) || dir.starts_with(b"-") || has_places || !self.run.read_taints.is_empty() {
            self.lose_dir();
        } else if !dir.is_empty() && self.run.may_enter(&dir) {
            self.run.state.dir = whodunit_formats::bytes::path::without_dots(&dir, &self.run.state.dir).to_vec();
            self.tell_watchers(b"PWD");
        } else {
            self.run.status = Some(1);
        }
    }

    pub(super) fn push_dir(&mut self, arguments: &[Vec<u8>]) {
        let before = self.run.state.dir.clone();
        match arguments {
            [dir] if !dir.starts_with(b"-") && !dir.starts_with(b"+") => {
                self.change_dir(arguments);
                if self.run.status != Some(1) {
                    self.run.state.pushed_dirs.push(before);
                }
            }
            _ => self.lose_dir(),
        }
    }

    pub(super) fn pop_dir(&mut self) {
        match self.run.state.pushed_dirs.pop() {
            Some(dir) => self.run.state.dir = dir,
            None => self.run.status = Some(1),
        }
    }

    /// Notes that the current directory is not known any more.
    pub(super) fn lose_dir(&mut self) {
        self.run.state.dir = self.unknown_value("a directory that is unknown");
        self.run.status = None;
    }
}
