//! Builtins that write, look names up, or read lines.

use std::sync::Arc;

use super::builtin_names::{is_builtin, is_reserved};
use super::piece::is_known;
use super::printf::unescaped;
use super::run::{Flow, Mishap, Run};
use super::state::Value;
use super::stream::Input;
use crate::syntax::{Assigned, Assignment, Dialect, List, Part, Word};

impl Run<'_> {
    /// What commands write to a pipe.
    pub(in crate::eval) fn written_by(&mut self, list: &List) -> Vec<u8> {
        let outer = self.output.replace(Vec::new());
        self.apart(|run| {
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
        if !letters.contains(&b'r') {
            text = unescaped(&text);
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
            self.status = Some(u8::from(rest.is_empty()));
            for name in rest {
                self.find(name, is_long);
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
            for name in names {
                if let Some(at) = memchr::memchr(b'=', name) {
                    let dir = self.homes(&name[at + 1..], true, true, false);
                    let dir: Vec<u8> = dir.into_iter().flat_map(|(text, _)| text).collect();
                    self.state.named_dirs.insert(name[..at].to_vec(), dir);
                }
            }
            return;
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
            let outer = self.output.take();
            names.iter().for_each(|name| self.find(name, false));
            self.output = outer;
            self.status = self.status.filter(|_| names.len() == 1);
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
            let outer = self.output.take();
            names.iter().for_each(|name| self.find(name, false));
            self.output = outer;
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
        for name in names {
            if path_only {
                let found = self.which(name);
                self.told(found.as_deref());
            } else {
                self.find(name, command == b"type");
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
        let has_aliases = self.at.is_interactive || self.state.has(b"expand_aliases");
        let word = match name {
            name if has_aliases && self.state.aliases.contains_key(name) => Some(&b"alias"[..]),
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

    /// `read`: a line of what is read, in parts.
    pub(super) fn read(&mut self, arguments: &[Vec<u8>]) {
        let mut names: Vec<Vec<u8>> = Vec::new();
        let (mut is_list, mut is_odd, mut is_raw, mut delimiter) = (false, false, false, b'\n');
        let takes_word: &[u8] = if self.dialect() == Dialect::Zsh { b"tu" } else { b"ptnNui" };
        let mut words = arguments.iter();
        while let Some(word) = words.next() {
            match &word[..] {
                b"--" => {
                    names.extend(words.by_ref().cloned());
                }
                [b'-', letters @ ..] if !letters.is_empty() => {
                    is_odd |= letters.iter().any(|letter| b"nNukqzclEe".contains(letter));
                    is_odd |= self.dialect() == Dialect::Zsh && letters.contains(&b'a');
                    is_odd |= self.dialect() == Dialect::Zsh && letters.contains(&b'p');
                    is_raw |= letters.contains(&b'r');
                    is_list |= letters.contains(&b'a') || letters.contains(&b'A');
                    if let Some(b'd') = letters.last() {
                        delimiter = words.next().and_then(|text| text.first().copied()).unwrap_or(0);
                    } else if letters.last().is_some_and(|letter| takes_word.contains(letter)) {
                        words.next();
                    }
                }
                name => names.push(name.to_vec()),
            }
        }
        if names.is_empty() {
            names.push(b"REPLY".to_vec());
        }
        self.reads(b"IFS");
        let Some(Input { text, at, taints }) = self.input.clone().filter(|_| !is_odd) else {
            self.input = None;
            let unknown = self.unknown_value("is read from a terminal or a pipe");
            names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            self.status = None;
            return;
        };
        self.read_taints.extend(&taints);
        if at >= text.len() {
            names.iter().for_each(|name| self.assign(name, Value::Text(Vec::new()), false));
            self.status = Some(1);
            return;
        }
        let rest = &text[at..];
        let length = memchr::memchr(delimiter, rest).unwrap_or(rest.len());
        let line = rest[..length].to_vec();
        if !is_raw && line.contains(&b'\\') {
            let unknown = self.unknown_value("a line with backslashes that is read");
            names.iter().for_each(|name| self.assign_named(name, unknown.clone()));
            self.status = None;
            self.input = None;
            return;
        }
        let is_told = is_known(&line) && self.read_taints.is_empty();
        self.status = is_told.then(|| u8::from(length == rest.len()));
        // What is unknown may be any number of lines: all that follows is read from it too.
        let next = if is_known(&line) { at + length + 1 } else { at };
        self.input = Some(Input { text, at: next, taints });
        let ifs = self.state.get(b"IFS").map_or_else(|| b" \t\n".to_vec(), <[u8]>::to_vec);
        if !is_known(&ifs) {
            let unknown = self.unknown_value("a line that is split by an unknown IFS");
            names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            return;
        }
        if is_list {
            let list = super::fields::fields_of(&line, &ifs).into_iter().flatten().collect();
            self.assign(&names[0].clone(), Value::List(list), false);
            return;
        }
        let mut line = line;
        let is_blank = |b: &u8| ifs.contains(b) && matches!(b, b' ' | b'\t' | b'\n');
        let count = names.len();
        for (number, name) in names.iter().enumerate() {
            if is_known(name) && !crate::syntax::is_name(name) && !name.contains(&b'[') {
                self.status = Some(1);
                if self.dialect() == Dialect::Zsh {
                    self.fail(Mishap::Expansion);
                }
                return;
            }
            let start = line.iter().take_while(|b| is_blank(b)).count();
            line.drain(..start);
            let end = line.iter().position(|b| ifs.contains(b)).filter(|_| number + 1 < count).unwrap_or(line.len());
            let mut value: Vec<u8> = line.drain(..end).collect();
            if number + 1 == count {
                while value.last().is_some_and(is_blank) {
                    value.pop();
                }
            } else if line.first().is_some_and(|b| ifs.contains(b)) {
                line.remove(0);
            }
            self.assign_named(name, value);
        }
    }

    /// Gives a text to a variable or to an element of one (`NAME[index]`), as a builtin does that is told its name.
    pub(super) fn assign_named(&mut self, name: &[u8], text: Vec<u8>) {
        match memchr::memchr(b'[', name).filter(|_| name.ends_with(b"]") && self.dialect() != Dialect::Posix) {
            _ if !is_known(name) => self.taint_for_good("gives a value to a variable whose name is unknown"),
            Some(at) => {
                let (name, index) = (name[..at].to_vec(), Some(name[at + 1..name.len() - 1].to_vec()));
                let value = Assigned::Word(Word(vec![Part::Quoted(text)]));
                self.assignment(&Assignment { name, index, append: false, value });
            }
            None => self.assign(name, Value::Text(text), true),
        }
    }
}
