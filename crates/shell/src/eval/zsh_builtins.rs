//! Builtins that zsh alone has.

use super::builtin_names::among;
use super::lists::Place;
use super::patterns::is_extended;
use super::piece::is_known;
use super::run::Run;
use super::state::Function;
use crate::syntax::pattern;
use whodunit_formats::bytes::path;

impl Run<'_> {
    /// Does what a builtin of zsh alone does; `false` where it is none of them.
    pub(super) fn zsh_builtin(&mut self, name: &[u8], arguments: &[Vec<u8>]) -> bool {
        match name {
            b"setopt" | b"unsetopt" => self.setopt(arguments, name == b"setopt"),
            b"autoload" => self.autoload(arguments),
            b"print" => self.print(arguments),
            b"unalias" | b"unfunction" | b"unset" | b"disable" | b"enable"
                if arguments.iter().any(|word| word == b"-m") =>
            {
                self.drop_fitting(name, arguments);
            }
            // Parts of zsh that none comes without.
            b"zmodload" if !arguments.is_empty() && arguments.iter().all(|word| is_common_module(word)) => {}
            b"unfunction" => {
                let all = arguments.iter().filter(|name| self.state.functions.remove(*name).is_some()).count();
                self.status = Some(u8::from(all < arguments.len())).filter(|_| self.state.taints.is_empty());
            }
            b"zstyle" if arguments.first().is_some_and(|word| word.starts_with(b"-")) => {
                self.status = None;
                if let (Some(b"-s" | b"-b" | b"-a" | b"-g"), Some(name)) =
                    (arguments.first().map(Vec::as_slice), arguments.get(if arguments[0] == b"-g" { 1 } else { 3 }))
                {
                    let unknown = self.unknown_value("a style");
                    self.assign_named(&name.clone(), unknown);
                }
            }
            b"zparseopts" | b"functions"
                if name == b"zparseopts" || arguments.iter().any(|word| word.starts_with(b"-")) =>
            {
                let _ = self.anything("takes words or functions apart");
                if name == b"zparseopts" {
                    self.state.arguments = self.uncounted(Vec::new(), true);
                }
            }
            _ => return false,
        }
        true
    }

    /// `unalias -m`, `unfunction -m` and the like: takes away what fits patterns.
    fn drop_fitting(&mut self, command: &[u8], arguments: &[Vec<u8>]) {
        let patterns: Vec<&Vec<u8>> = arguments.iter().filter(|word| *word != b"-m").collect();
        let extends = self.has_extended_glob();
        if patterns.iter().any(|one| !is_known(one) || one.starts_with(b"-") || extends && is_extended(one)) {
            let _ = self.anything("takes away what fits a pattern");
            return;
        }
        let fits = |name: &Vec<u8>| patterns.iter().any(|one| pattern::fits(one, name));
        match command {
            b"unalias" => {
                let names: Vec<Vec<u8>> = self.state.aliases.keys().filter(|name| fits(name)).cloned().collect();
                self.drop_aliases(&names);
            }
            b"unfunction" => self.state.functions.retain(|name, _| !fits(name)),
            b"unset" => {
                let names: Vec<Vec<u8>> = self.state.variables.keys().filter(|name| fits(name)).cloned().collect();
                self.unset(&names);
            }
            _ => {}
        }
        self.status = None;
    }

    fn autoload(&mut self, arguments: &[Vec<u8>]) {
        for word in arguments.iter().filter(|word| !word.starts_with(b"-") && !word.starts_with(b"+")) {
            // A file by its path, too: the function has its last part as its name.
            let place = match word.contains(&b'/') {
                true => Place { file: self.absolute(word).into(), line: 1 },
                false => self.place.clone(),
            };
            let function = Function::new(None, place);
            self.state.functions.entry(path::name(word).to_vec()).or_insert(function);
        }
    }
}

/// Whether a word of `zmodload` is a module that every zsh has, or an option that loads it all the same.
fn is_common_module(word: &[u8]) -> bool {
    const NAMES: &str = "-i zsh/complete zsh/complist zsh/computil zsh/main zsh/parameter zsh/zle zsh/zutil";
    among(NAMES, word)
}
