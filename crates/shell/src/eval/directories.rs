//! The current directory: `cd`, `pushd`, `popd`.

use super::piece::is_known;
use super::run::Run;
use super::state::Variable;
use crate::Files;
use crate::syntax::Dialect;
use whodunit_formats::bytes::path;

impl Run<'_> {
    pub(super) fn change_dir(&mut self, arguments: &[Vec<u8>]) {
        let is_option = |word: &&Vec<u8>| word.len() > 1 && word.starts_with(b"-");
        let (options, dirs) = arguments.split_at(arguments.iter().take_while(is_option).count());
        let letters: &[u8] = match self.dialect() {
            Dialect::Posix => b"LP",
            Dialect::Bash => b"LPe@",
            Dialect::Zsh => b"LPqs",
        };
        let mut options = options.iter().filter(|word| *word != b"--");
        if options.clone().any(|word| !word[1..].iter().all(|letter| letters.contains(letter))) {
            self.status = if self.dialect() == Dialect::Zsh { None } else { Some(2) };
            return;
        }
        let is_physical = options.any(|word| word.contains(&b'P')) || self.state.has(b"chaselinks");
        if dirs.len() > 1 && self.dialect() != Dialect::Posix {
            // zsh puts the second in the place of the first in the current directory's name.
            return if self.dialect() == Dialect::Zsh { self.lose_dir() } else { self.status = Some(1) };
        }
        let is_back = dirs.first().is_some_and(|dir| dir == b"-");
        let mut is_told = is_back && self.dialect() != Dialect::Zsh;
        let dir = match dirs.first().map(Vec::as_slice) {
            Some(b"-") => self.state.get(b"OLDPWD").map(<[u8]>::to_vec),
            Some(b"") => Some(self.state.dir.clone()),
            Some(dir) => {
                let found = self.in_cdpath(dir);
                is_told |= found.is_some() && self.dialect() != Dialect::Zsh;
                Some(found.unwrap_or_else(|| dir.to_vec()))
            }
            None => self.state.get(b"HOME").map(<[u8]>::to_vec),
        };
        match dir {
            Some(dir) if !is_known(&dir) => {
                let unknown = self.unknown_value("a directory that is unknown");
                self.state.dir.clone_from(&unknown);
                self.state.variables.insert(b"PWD".to_vec(), Variable::text(unknown.clone(), true));
                self.state.variables.insert(b"OLDPWD".to_vec(), Variable::text(unknown, true));
                self.status = None;
            }
            Some(dir) if self.may_enter(&dir) => {
                // `cd` goes back through a link as the path is spelled.
                let now = path::without_dots(&dir, &self.state.dir).to_vec();
                let now = if is_physical { self.seen().canonicalize(&now).to_vec() } else { now };
                let before = std::mem::replace(&mut self.state.dir, now.clone());
                self.state.variables.insert(b"OLDPWD".to_vec(), Variable::text(before, true));
                if is_told {
                    self.write(&[&now[..], b"\n"].concat());
                }
                self.state.variables.insert(b"PWD".to_vec(), Variable::text(now, true));
                self.call_hooks();
            }
            // Where nothing is known of before, dash and zsh stay where they are.
            None if is_back && self.dialect() != Dialect::Bash => {
                let now = self.state.dir.clone();
                if is_told {
                    self.write(&[&now[..], b"\n"].concat());
                }
            }
            _ if self.state.has(b"cdablevars") || self.state.has(b"cdable_vars") => self.lose_dir(),
            _ => self.status = Some(if self.dialect() == Dialect::Posix { 2 } else { 1 }),
        }
    }

    /// What zsh calls when the current directory has changed.
    fn call_hooks(&mut self) {
        if self.dialect() != Dialect::Zsh {
            return;
        }
        let hooks = self.list_of(b"chpwd_functions").unwrap_or_default();
        let has_one = self.state.functions.contains_key(&b"chpwd"[..]).then(|| b"chpwd".to_vec());
        if hooks.into_iter().chain(has_one).any(|hook| !is_known(&hook) || self.changes_path(&hook)) {
            self.taint_for_good("a hook changes the search path in another directory");
        }
    }

    /// The directory that `cd` finds by `CDPATH`. zsh looks in the current directory first.
    fn in_cdpath(&mut self, dir: &[u8]) -> Option<Vec<u8>> {
        let first = dir.split(|&b| b == b'/').next().unwrap_or_default();
        let list = self.state.get(b"CDPATH").filter(|list| !list.is_empty())?.to_vec();
        if matches!(first, b"" | b"." | b"..") || !is_known(dir) {
            return None;
        }
        if !is_known(&list) {
            return Some(self.unknown_value("a directory that is found by an unknown CDPATH"));
        }
        let is_dir = |run: &Self, dir: &[u8]| run.kind(dir) == Some(crate::FileType::Dir);
        if self.dialect() == Dialect::Zsh && is_dir(self, dir) {
            return None;
        }
        let mut found = list.split(|&b| b == b':').map(|place| match place {
            b"" => dir.to_vec(),
            b"/" => [b"/", dir].concat(),
            place => path::join(place, dir).to_vec(),
        });
        let found = found.find(|found| is_dir(self, found)).filter(|found| found != dir)?;
        if self.dialect() == Dialect::Posix && found == [b"/", dir].concat() {
            return Some(self.unknown_value("how dash spells a directory below the root"));
        }
        Some(found)
    }

    /// `pushd`: goes to a directory, and keeps where it was.
    pub(super) fn push_dir(&mut self, arguments: &[Vec<u8>]) {
        let before = self.state.dir.clone();
        match arguments {
            [dir] if !dir.starts_with(b"-") && !dir.starts_with(b"+") => {
                self.change_dir(arguments);
                if self.status != Some(1) {
                    self.state.pushed_dirs.push(before);
                }
            }
            [] if self.dialect() == Dialect::Bash => match self.state.pushed_dirs.pop() {
                Some(dir) => {
                    self.change_dir(&[dir]);
                    self.state.pushed_dirs.push(before);
                }
                None => self.status = Some(1),
            },
            _ => self.lose_dir(),
        }
    }

    /// `popd`: goes back to where `pushd` was called.
    pub(super) fn pop_dir(&mut self, arguments: &[Vec<u8>]) {
        let pushes = [&b"autopushd"[..], b"pushdtohome", b"pushdminus", b"pushdignoredups"];
        if !arguments.is_empty() || pushes.iter().any(|option| self.state.has(option)) {
            return self.lose_dir();
        }
        match self.state.pushed_dirs.pop() {
            Some(dir) => self.change_dir(&[dir]),
            None => self.status = Some(1),
        }
    }

    /// Notes that the current directory is not known any more, nor those that were kept.
    fn lose_dir(&mut self) {
        let unknown = self.unknown_value("a directory from the stack of the shell");
        self.change_dir(std::slice::from_ref(&unknown));
        self.state.pushed_dirs = vec![unknown];
    }
}
