//! Words become texts: variables, outputs, braces, names of files.

use super::{Fish, only_stars};
use crate::eval::builtin_names::among;
use crate::eval::piece::is_known;
use crate::syntax::fish::Word;
use crate::syntax::pattern;
use whodunit_formats::bytes::path;

impl Fish<'_> {
    pub(super) fn words(&mut self, words: &[Word]) -> Vec<Vec<u8>> {
        let mut all = Vec::new();
        for word in words {
            for (text, fitting) in self.expand(word) {
                let is_pattern = pattern::is_pattern(&fitting) && fitting.iter().any(|b| b"*?".contains(b));
                if is_pattern && memchr::memmem::find(&fitting, b"**").is_some() {
                    all.push(self.unknown_value("files at any depth"));
                } else if is_pattern && is_known(&text) {
                    // Brackets and parentheses are text.
                    let mut found = self.run.matching(&fitting, None);
                    found.sort_by(|a, b| {
                        crate::eval::natural::compare(&a.to_ascii_lowercase(), &b.to_ascii_lowercase())
                    });
                    all.extend(found);
                } else {
                    all.push(text);
                }
            }
            if all.len() > 20_000 {
                self.stop("too many words");
                break;
            }
        }
        all
    }

    pub(super) fn home(&self, text: &[u8], is_first: bool) -> (Vec<u8>, Vec<u8>) {
        let end = text.iter().position(|&b| b == b'/').unwrap_or(text.len());
        if is_first && text.first() == Some(&b'~') {
            let home = match &text[1..end] {
                b"" => self.list_of(b"HOME").map(|home| home.concat()),
                name => self.run.at.homes.get(name).cloned(),
            };
            if let Some(home) = home {
                let (rest, fitting) = (&text[end..], pattern::escaped(&home));
                return ([&home[..], rest].concat(), [&fitting[..], rest].concat());
            }
        }
        (text.to_vec(), only_stars(text))
    }

    /// Whether fish itself sets a variable of this name, or keeps it up to date.
    fn is_own(&self, name: &[u8]) -> bool {
        const SET: &str = "CMD_DURATION COLUMNS LINES dirnext dirprev fish_kill_signal history status_generation umask";
        const AT_FIRST: &str = "SHLVL fish_bind_mode fish_function_path fish_handle_reflow fish_key_bindings";
        among(SET, name) || among(AT_FIRST, name) && !self.run.state.variables.contains_key(name)
    }

    pub(super) fn variable(&mut self, name: &[u8], index: Option<&Word>) -> Vec<Vec<u8>> {
        let list = match name {
            b"status" => vec![match self.run.status {
                Some(status) => status.to_string().into_bytes(),
                None => self.unknown_value("the exit status of a command that is not run"),
            }],
            b"__fish_config_dir" => vec![path::join(&self.run.at.user.home, b".config/fish").to_vec()],
            b"PWD" => vec![self.run.state.dir.clone()],
            b"__fish_data_dir" => vec![self.dirs.data.to_vec()],
            b"__fish_sysconf_dir" => vec![self.dirs.settings.to_vec()],
            b"hostname" => vec![match &self.run.at.hostname {
                Some(host) => host.to_vec(),
                None => self.unknown_value("the name of the machine"),
            }],
            b"version" | b"FISH_VERSION" => vec![b"3.6.0".to_vec()],
            b"pipestatus" => vec![self.unknown_value("the exit statuses of a pipeline")],
            b"fish_pid" => vec![self.unknown_value("a process id")],
            name if self.is_own(name) => vec![self.run.any_number("a variable that fish itself sets")],
            name => self.list_of(name).unwrap_or_default(),
        };
        self.run.reads(name);
        self.picked(list, index)
    }

    /// The elements that an index names.
    pub(super) fn picked(&mut self, list: Vec<Vec<u8>>, index: Option<&Word>) -> Vec<Vec<u8>> {
        let Some(index) = index else { return list };
        if list.iter().any(|one| !is_known(one)) {
            return vec![self.unknown_value("an element of a list that is unknown")];
        }
        let length = i64::try_from(list.len()).unwrap_or(0);
        let mut picked = Vec::new();
        for text in self.words(std::slice::from_ref(index)).iter().flat_map(|text| text.split(|&b| b == b' ')) {
            let text = String::from_utf8_lossy(text).into_owned();
            let number = |text: &str| -> Option<i64> {
                let number: i64 = text.trim().parse().ok()?;
                Some(if number < 0 { length + number + 1 } else { number })
            };
            let (from, to) = match text.split_once("..") {
                Some((from, to)) => {
                    let range = (number(from).unwrap_or(1), number(to).unwrap_or(length));
                    // From the one end to the other there is one direction.
                    let is_backwards = |text: &str| text.trim().starts_with('-');
                    match (is_backwards(from), is_backwards(to)) {
                        (false, true) if range.0 > range.1 => continue,
                        (true, false) if range.0 < range.1 => continue,
                        _ => range,
                    }
                }
                None => match number(&text) {
                    Some(at) if text.trim() != "0" => (at, at),
                    _ => {
                        self.is_misworded = true;
                        continue;
                    }
                },
            };
            let step = if from <= to { 1 } else { -1 };
            let (mut at, mut left) = (from, 20_000);
            loop {
                if let Some(one) = usize::try_from(at - 1).ok().and_then(|at| list.get(at)) {
                    picked.push(one.clone());
                }
                left -= 1;
                if at == to || left == 0 || (step > 0 && at > length) || (step < 0 && at < 1) {
                    break;
                }
                at += step;
            }
        }
        picked
    }
}
