//! `command`, `builtin` and `type`: what a name stands for.

use super::Fish;
use crate::eval::builtin_names::among;
use crate::eval::run::Flow;
use crate::eval::state::{Value, Variable};

impl Fish<'_> {
    pub(super) fn command_word(&mut self, word: &[u8], arguments: &[Vec<u8>]) -> Flow {
        let (options, names): (Vec<_>, Vec<_>) = arguments.iter().partition(|one| one.starts_with(b"-"));
        let has = |short: u8, long: &[u8]| {
            options.iter().any(|option| *option == long || (!option.starts_with(b"--") && option.contains(&short)))
        };
        let asks = word == b"type" || has(b'v', b"--search") || has(b's', b"--search") || has(b'q', b"--query");
        if word == b"builtin" && (has(b'q', b"--query") || has(b'n', b"--names")) {
            self.run.status = Some(u8::from(has(b'q', b"--query") && !names.iter().any(|name| is_builtin(name))));
            return Flow::Next;
        }
        if !asks {
            let Some((name, rest)) = arguments.split_first() else { return Flow::Next };
            if word == b"builtin" && !is_builtin(name) {
                if !options.is_empty() {
                    self.run.status = None;
                } else {
                    self.run.taint_for_good("a builtin that fish may not have");
                }
                return Flow::Next;
            }
            if word == b"builtin" {
                let (defined, function) = (self.bodies.remove(name), self.run.state.functions.remove(name));
                let flow = self.command(&name.clone(), rest.to_vec());
                self.bodies.extend(defined.map(|defined| (name.clone(), defined)));
                self.run.state.functions.extend(function.map(|function| (name.clone(), function)));
                return flow;
            }
            self.program(name, rest);
            return Flow::Next;
        }
        let is_quiet = has(b'q', b"--query") || (word == b"type" && !has(b'p', b"--path"));
        let (files, is_open) = self.with_path_as_text(|fish| {
            let files: Vec<_> = names.iter().map(|name| fish.run.which(name)).collect();
            (files, fish.run.is_path_open())
        });
        let mut found = false;
        for (name, file) in names.into_iter().zip(files) {
            let is_one = || is_builtin(name) || self.run.state.functions.contains_key(name) || self.is_shipped(name);
            let is_function = word == b"type" && is_one();
            found |= file.is_some() || is_function;
            if is_function && !is_quiet && self.output.is_some() {
                let unknown = self.unknown_value("the file of a function");
                self.write(unknown);
            } else if let Some(file) = file.filter(|_| !is_quiet) {
                self.write(file);
            }
        }
        self.run.status = match (found, word) {
            (true, _) => Some(0),
            // It may stand in a directory that is not known.
            (false, _) if is_open => None,
            (false, b"command") => Some(127),
            (false, _) => Some(1),
        };
        Flow::Next
    }

    /// Does something with the search path as the other shells have it: one text.
    pub(super) fn with_path_as_text<T>(&mut self, inside: impl FnOnce(&mut Self) -> T) -> T {
        let own = self.run.state.variables.get(&b"PATH"[..]).cloned();
        let list = self.list_of(b"PATH").unwrap_or_default().join(&b':');
        let bare = Variable::text("", true);
        let as_text = Variable { value: Value::Text(list), ..own.clone().unwrap_or(bare) };
        self.run.state.variables.insert(b"PATH".to_vec(), as_text);
        let result = inside(self);
        if let Some(mut own) = own
            && let Some(now) = self.run.state.variables.remove(&b"PATH"[..])
        {
            own.taints.extend(now.taints);
            self.run.state.variables.insert(b"PATH".to_vec(), own);
        }
        result
    }
}

/// Whether fish has a builtin, or a word of its language, of this name.
fn is_builtin(name: &[u8]) -> bool {
    const NAMES: &str = ". : [ _ abbr and argparse begin bg bind block break breakpoint builtin case cd command commandline \
                         complete contains continue count disown echo else emit end eval exec exit false fg for function \
                         functions history if jobs math not or path printf pwd random read realpath return set set_color \
                         source status string switch test time true type ulimit wait while";
    among(NAMES, name)
}
