//! Builtins that zsh alone has.

use super::lists::Place;
use super::run::Run;
use super::state::Function;
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
                let _ = self.anything("takes away what fits a pattern");
            }
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
