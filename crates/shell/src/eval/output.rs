//! Builtins that write, look names up, or read lines.

use std::sync::Arc;

use super::builtin_names::{is_builtin, is_reserved};
use super::piece::is_known;
use super::printf::{unescaped, writes_zero};
use super::run::{Flow, Run};
use super::state::Value;
use crate::syntax::{Dialect, List, Part, Word};

impl Run<'_> {
    /// What commands write to a pipe.
    pub(in crate::eval) fn written_by(&mut self, list: &List) -> Vec<u8> {
        let outer = self.output.replace(Vec::new());
        self.apart(|run| {
            // bash goes on within it.
            if run.dialect() == Dialect::Bash && !run.state.has(b"inherit_errexit") {
                run.state.options.remove(&b"errexit"[..]);
            }
            let _ = run.list(list);
        });
        std::mem::replace(&mut self.output, outer).unwrap_or_default()
    }

    /// What commands write, without the line ends behind it.
    pub(in crate::eval) fn output_of(&mut self, list: &Arc<List>) -> Vec<u8> {
        self.substitutions += 1;
        let before = self.status;
        let mut text = self.written_by(list);
        self.substituted = self.status;
        if self.dialect() == Dialect::Posix {
            self.status = before; // `$?` behind it in a word is that of the command before.
        }
        while text.last() == Some(&b'\n') {
            text.pop();
        }
        text
    }

    pub(super) fn echo(&mut self, arguments: &[Vec<u8>]) {
        if self.output.is_none() {
            return;
        }
        let (mut from, mut ends, mut escapes) = (0, true, self.dialect() != Dialect::Bash);
        while let Some(word) = arguments.get(from) {
            escapes &= word != b"-E" || self.dialect() == Dialect::Posix;
            let is_option = word.len() > 1 && word[0] == b'-' && word[1..].iter().all(|b| b"neE".contains(b));
            if !is_option || (self.dialect() == Dialect::Posix && word != b"-n") {
                break;
            }
            ends &= !word.contains(&b'n');
            escapes |= word.contains(&b'e');
            from += 1;
        }
        let mut text = arguments[from..].join(&b' ');
        if !escapes && text.contains(&b'\\') && self.state.has(b"xpg_echo") {
            text = self.unknown_value("what an option makes of backslashes");
        }
        let more = [&b"\\x"[..], b"\\u", b"\\U", b"\\E", b"\\0", b"\\c"];
        if escapes && more.iter().any(|one| memchr::memmem::find(&text, one).is_some()) {
            text = self.unknown_value("escapes that `echo` writes in its own way");
        } else if escapes {
            text = unescaped(&text);
        }
        if ends {
            text.push(b'\n');
        }
        self.write(&text);
    }

    /// `print` of zsh.
    pub(super) fn print(&mut self, arguments: &[Vec<u8>]) {
        let (mut letters, mut variable, mut words) = (Vec::new(), None, arguments.iter().peekable());
        while let Some(word) = words.next_if(|word| word.len() > 1 && word.starts_with(b"-")) {
            if word == b"--" {
                break;
            }
            letters.extend_from_slice(&word[1..]);
            if word.ends_with(b"v") {
                variable = words.next().cloned();
            }
        }
        let words: Vec<Vec<u8>> = words.cloned().collect();
        let mut text = words.join(if letters.contains(&b'l') { &b"\n"[..] } else { b" " });
        let has_zero = !letters.contains(&b'r') && writes_zero(&text);
        if !letters.contains(&b'r') {
            text = unescaped(&text);
        }
        if has_zero {
            text = self.unknown_value("a text with a zero byte");
        }
        if letters.iter().any(|letter| !b"rnlv".contains(letter)) {
            text = self.unknown_value("an unsupported form of print");
        } else if !letters.contains(&b'n') && variable.is_none() {
            text.push(b'\n');
        }
        match variable {
            Some(name) => self.assign(&name, Value::Text(text), true),
            None => self.write(&text),
        }
    }

    /// `command` and `builtin`.
    pub(super) fn command_word(&mut self, word: &[u8], arguments: &[Vec<u8>]) -> Flow {
        let mut from = 0;
        let mut asks = None;
        while let Some(option) = arguments.get(from).filter(|option| option.len() > 1 && option.starts_with(b"-")) {
            if option == b"--" {
                from += 1;
                break;
            }
            if option[1..].iter().any(|letter| !b"pvV".contains(letter)) || word == b"builtin" {
                self.status = None;
                return if self.dialect() == Dialect::Posix {
                    self.anything("an option of `command`")
                } else {
                    Flow::Next
                };
            }
            if option.contains(&b'v') || option.contains(&b'V') {
                asks = Some(option.contains(&b'V'));
            }
            from += 1;
        }
        let rest = &arguments[from..];
        if let Some(is_long) = asks {
            self.status = Some(u8::from(rest.is_empty() && self.dialect() == Dialect::Zsh));
            let mut found = false;
            for name in rest {
                let before = self.status.replace(0);
                self.find(name, is_long);
                found |= self.status == Some(0);
                // In bash it is enough that one is found.
                self.status = match (self.dialect(), before, self.status) {
                    (Dialect::Bash, _, _) if found => Some(0),
                    (_, Some(0), status) => status,
                    (_, None, _) | (_, _, None) => None,
                    (_, before, _) => before,
                };
            }
            return Flow::Next;
        }
        let Some((name, rest)) = rest.split_first() else { return Flow::Next };
        let is_command = word == b"command";
        if is_command && self.dialect() == Dialect::Zsh {
            self.program(name, rest); // There are no builtins behind it.
            if name == b"." {
                self.status = None; // A directory that is found in the path.
            }
            return Flow::Next;
        }
        if !is_command && !is_builtin(self.dialect(), name) {
            self.status = Some(1);
            return Flow::Next;
        }
        let function = self.state.functions.remove(name);
        let flow = if is_builtin(self.dialect(), name) && self.declares(name) {
            let words: Vec<Word> = rest.iter().map(|text| Word(vec![Part::Quoted(text.clone())])).collect();
            self.declare(name, &words)
        } else {
            self.call(&name.clone(), rest.to_vec())
        };
        if let Some(function) = function {
            self.state.functions.entry(name.clone()).or_insert(function);
        }
        if is_command && self.dialect() == Dialect::Posix {
            return self.forgiven(name, flow);
        }
        flow
    }

    /// Behind `command`, errors of a special builtin are no reason to give up (XCU, "command").
    fn forgiven(&mut self, name: &[u8], flow: Flow) -> Flow {
        if self.failure.take().is_some() {
            self.status = Some(2);
            return Flow::Next;
        }
        if matches!(name, b"eval" | b".") && flow == self.mistake() {
            self.taint_for_good("an error, or the end, of what `command` reads");
            return Flow::Next;
        }
        flow
    }

    pub(super) fn find_all(&mut self, command: &[u8], arguments: &[Vec<u8>]) {
        let (options, names): (Vec<_>, Vec<_>) = arguments.iter().partition(|word| word.starts_with(b"-"));
        if command == b"hash" && options.iter().any(|option| *option == b"-d") {
            return self.name_dirs(&names);
        }
        if command == b"hash" && options.iter().any(|option| option.contains(&b'p')) {
            let _ = self.anything("a command is given another program");
            return;
        }
        if command == b"hash" && options.iter().any(|option| option.contains(&b't')) {
            let unknown = self.unknown_value("what the shell ran before");
            self.write(&unknown);
            self.status = None;
            return;
        }
        if options.iter().any(|option| option.contains(&b'a')) || command == b"where" {
            let unknown = self.unknown_value("all that a name means");
            self.write(&unknown);
            self.find_unwritten(&names);
            self.status = self.status.filter(|_| names.len() == 1);
            return;
        }
        if names.is_empty() && self.dialect() == Dialect::Zsh && command != b"hash" {
            self.status = None;
            return;
        }
        if command == b"hash" && (names.is_empty() || !options.is_empty()) {
            return;
        }
        if command == b"type" && options.iter().any(|option| option.contains(&b't')) && self.dialect() == Dialect::Bash
        {
            names.into_iter().for_each(|name| self.tell_type(name));
            return;
        }
        let asks_more = command == b"whence" && options.iter().any(|option| option[1..] != *b"p")
            || command == b"which" && names.iter().any(|name| self.which(name).is_none());
        if asks_more && self.dialect() == Dialect::Zsh {
            let unknown = self.unknown_value("what a name means, as zsh tells it");
            self.find_unwritten(&names);
            if self.status != Some(1) || command == b"which" {
                self.write(&unknown);
            }
            return;
        }
        if command == b"hash" && self.dialect() == Dialect::Zsh && names.iter().any(|name| name.contains(&b'=')) {
            let _ = self.anything("a command is given another program");
            return;
        }
        let path_only = command == b"hash" || options.iter().any(|option| option.contains(&b'P'));
        if command == b"type" && !options.is_empty() && self.dialect() != Dialect::Bash {
            let unknown = self.unknown_value("what `type` tells of options");
            self.write(&unknown);
            self.status = None;
            return;
        }
        for name in names {
            let is_own = self.dialect() != Dialect::Zsh
                && (is_builtin(self.dialect(), name) || self.state.functions.contains_key(name));
            if command == b"hash" {
                if !is_own && self.which(name).is_none() {
                    self.status = if self.is_path_open() { None } else { Some(1) };
                }
            } else if path_only {
                let found = self.which(name);
                self.told(found.as_deref());
            } else {
                self.find(name, command == b"type");
            }
        }
    }

    /// Looks names up for the status alone.
    fn find_unwritten(&mut self, names: &[&Vec<u8>]) {
        let outer = self.output.take();
        names.iter().for_each(|name| self.find(name, false));
        self.output = outer;
    }

    /// `hash -d NAME=directory` of zsh.
    fn name_dirs(&mut self, names: &[&Vec<u8>]) {
        for name in names {
            if let Some(at) = memchr::memchr(b'=', name) {
                let dir = self.homes(&name[at + 1..], true, true, false);
                let dir: Vec<u8> = dir.into_iter().flat_map(|(text, _)| text).collect();
                self.state.named_dirs.insert(name[..at].to_vec(), dir);
            }
        }
    }

    /// `type -t` of bash.
    fn tell_type(&mut self, name: &[u8]) {
        if !is_known(name) {
            self.status = None;
            let unknown = self.unknown_value("the type of an unknown name");
            self.write(&unknown);
            return;
        }
        let word = match name {
            name if self.expands_aliases() && self.state.aliases.contains_key(name) => Some(&b"alias"[..]),
            name if is_reserved(Dialect::Bash, name) => Some(&b"keyword"[..]),
            name if self.state.functions.contains_key(name) => Some(&b"function"[..]),
            name if is_builtin(Dialect::Bash, name) && !self.state.disabled.contains(name) => Some(&b"builtin"[..]),
            name => self.which(name).map(|_| &b"file"[..]),
        };
        if word.is_none() && self.is_path_open() {
            self.status = None;
            let unknown = self.unknown_value("the type of a name that may be found");
            self.write(&unknown);
            return;
        }
        self.told(word);
    }

    /// Whether a program may stand in a directory that is not known.
    pub(super) fn is_path_open(&self) -> bool {
        let list = self.state.get(b"PATH").unwrap_or_default();
        !is_known(list) || self.state.variables.get(&b"PATH"[..]).is_some_and(|path| !path.taints.is_empty())
    }

    /// The file that a name is said to be, which dash and bash do not ask to be executable in every case.
    fn named_file_of(&self, name: &[u8]) -> Option<Vec<u8>> {
        let is_file = |file: &[u8]| self.kind(file) == Some(crate::FileType::File);
        self.which(name).or_else(|| match self.dialect() {
            Dialect::Posix => (name.contains(&b'/') && self.kind(name).is_some()).then(|| name.to_vec()),
            Dialect::Bash if !name.contains(&b'/') => {
                let list = self.state.get(b"PATH").unwrap_or_default();
                let files = list.split(|&b| b == b':').filter(|dir| is_known(dir) && !dir.is_empty());
                files.map(|dir| [dir, b"/", name].concat()).find(|file| is_file(file))
            }
            _ => None,
        })
    }

    fn told(&mut self, found: Option<&[u8]>) {
        match found {
            Some(text) => self.write(&[text, b"\n"].concat()),
            None => self.status = Some(1),
        }
    }

    /// What a name is, as `command -v` tells it.
    fn find(&mut self, name: &[u8], is_long: bool) {
        let found = if !is_known(name) {
            self.status = None;
            return;
        } else if let Some(alias) = self.state.aliases.get(name).filter(|_| self.expands_aliases()) {
            let is_plain = alias.value.iter().all(|b| b.is_ascii_alphanumeric() || b"-_./".contains(b));
            let quote = if is_plain && self.dialect() == Dialect::Zsh { &b""[..] } else { b"'" };
            Some([b"alias ", name, b"=", quote, &alias.value[..], quote].concat())
        } else if is_reserved(self.dialect(), name)
            || self.state.functions.contains_key(name)
            || (is_builtin(self.dialect(), name) && !self.state.disabled.contains(name))
        {
            Some(name.to_vec())
        } else {
            self.named_file_of(name)
        };
        let is_open = self.is_path_open();
        match found {
            None if is_open => self.status = None,
            None if self.dialect() == Dialect::Posix => self.status = Some(127),
            Some(_) if is_long => {
                let text = self.unknown_value("a description");
                self.write(&text);
            }
            found => self.told(found.as_deref()),
        }
    }
}
