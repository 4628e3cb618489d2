//! Pipelines, files that are read, and `read`.

use super::Fish;
use crate::Files;
use crate::ReadError;
use crate::eval::piece::is_known;
use crate::eval::run::{Flow, MAX_FILE};
use crate::eval::stream::Input;
use crate::syntax::fish::{Block, Word};

/// Options of `read` that take a word.
const WITH_WORD: [&[u8]; 12] = [
    b"-d",
    b"-p",
    b"-P",
    b"-c",
    b"-n",
    b"-R",
    b"--delimiter",
    b"--prompt",
    b"--prompt-str",
    b"--command",
    b"--nchars",
    b"--right-prompt",
];

impl Fish<'_> {
    /// Each command reads what the one before writes; all run in the shell itself, and what they change lasts.
    pub(super) fn pipeline(&mut self, block: &Block) -> Flow {
        let outer_input = self.run.input.take();
        let (mut flow, mut is_unfound) = (Flow::Next, false);
        for (number, statement) in block.iter().enumerate() {
            let is_last = number + 1 == block.len();
            if is_last {
                flow = self.statement(statement);
                break;
            }
            let outer_taints = std::mem::take(&mut self.run.read_taints);
            let outer = self.output.replace(Vec::new());
            flow = self.statement(statement);
            let lines = std::mem::replace(&mut self.output, outer).unwrap_or_default();
            let taints = std::mem::replace(&mut self.run.read_taints, outer_taints);
            if flow != Flow::Next {
                break;
            }
            is_unfound |= self.is_unfound();
            let text: Vec<u8> = lines.iter().flat_map(|line| [line, &b"\n"[..]].concat()).collect();
            self.run.input = Some(Input { text: text.into(), at: 0, taints });
        }
        self.run.input = outer_input;
        if is_unfound {
            (self.is_missing, self.run.status) = (true, Some(127));
        }
        flow
    }

    /// Opens the files that something writes; false where one of them cannot be written.
    pub(super) fn opens(&mut self, files: &[Word]) -> bool {
        let names: Vec<Vec<u8>> = files.iter().flat_map(|file| self.words(std::slice::from_ref(file))).collect();
        let can_write = !names.iter().any(|name| self.run.cannot_write(">>", name));
        if can_write {
            names.iter().for_each(|name| self.run.writes_file(name, true, None));
        }
        can_write
    }

    /// Does something that reads a file.
    pub(super) fn reading_from(&mut self, file: &Word, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        let outer_taints = std::mem::take(&mut self.run.read_taints);
        let names = self.words(std::slice::from_ref(file));
        let taints = std::mem::replace(&mut self.run.read_taints, outer_taints);
        let text = match &names[..] {
            [name] if is_known(name) && !name.starts_with(b"/dev/") => {
                match self.run.seen().read(&self.run.absolute(name), MAX_FILE) {
                    Ok(text) => text,
                    Err(ReadError::Absent(_)) => {
                        self.run.status = Some(1);
                        return Flow::Next;
                    }
                    Err(_) => self.unknown_value("a file that cannot be read here"),
                }
            }
            [name] if name == b"/dev/null" => Vec::new(),
            _ => self.unknown_value("input that is unknown"),
        };
        let outer = self.run.input.replace(Input { text: text.into(), at: 0, taints });
        let flow = inside(self);
        self.run.input = outer;
        flow
    }

    /// The lines that are not read yet, where a command or a file gives them.
    pub(super) fn lines_of_input(&mut self) -> Option<Vec<Vec<u8>>> {
        let text = self.run.rest_of_input()?;
        if let Some(input) = &mut self.run.input {
            input.at = input.text.len();
        }
        let text = text.strip_suffix(b"\n").unwrap_or(&text);
        Some(if text.is_empty() { Vec::new() } else { text.split(|&b| b == b'\n').map(<[u8]>::to_vec).collect() })
    }

    /// `read`: a line, or all of it, in parts.
    pub(super) fn read(&mut self, arguments: &[Vec<u8>]) {
        let (mut names, mut options) = (Vec::new(), Vec::new());
        let mut words = arguments.iter();
        let mut is_plain = true;
        while let Some(word) = words.next() {
            if WITH_WORD.contains(&&word[..]) {
                words.next();
                is_plain = false;
            } else if word.len() > 1 && word.starts_with(b"-") {
                let known: [&[u8]; 10] = [
                    b"-l",
                    b"-g",
                    b"-x",
                    b"-U",
                    b"-f",
                    b"--local",
                    b"--global",
                    b"--export",
                    b"--universal",
                    b"--function",
                ];
                let is_list = matches!(&word[..], b"-a" | b"--list" | b"--array" | b"-la" | b"-ga" | b"-al");
                is_plain &= is_list || known.contains(&&word[..]);
                options.push(word.clone());
            } else {
                names.push(word.clone());
            }
        }
        let scope: Vec<Vec<u8>> = options
            .iter()
            .flat_map(|word| word.iter().filter(|_| !word.starts_with(b"--")).copied())
            .filter(|letter| b"lgxUf".contains(letter))
            .map(|letter| vec![b'-', letter])
            .collect();
        let is_list = options
            .iter()
            .any(|word| word == b"--list" || word == b"--array" || (!word.starts_with(b"--") && word.contains(&b'a')));
        let ifs = self.list_of(b"IFS").is_none_or(|ifs| ifs.concat() == b"\n \t");
        let line = self.next_line().filter(|_| is_plain && ifs);
        let give = |fish: &mut Self, name: &[u8], values: Vec<Vec<u8>>| {
            let words = [&scope[..], &[name.to_vec()], &values[..]].concat();
            fish.set(&words);
        };
        match line {
            Some(Some(line)) if is_known(&line) => {
                let mut fields: Vec<Vec<u8>> =
                    line.split(|b| b" \t".contains(b)).filter(|field| !field.is_empty()).map(<[u8]>::to_vec).collect();
                match &names[..] {
                    [] => self.write(line),
                    [name] if is_list => give(self, name, fields),
                    [name] => give(self, name, vec![line]),
                    _ => {
                        let last = fields.split_off((names.len() - 1).min(fields.len()));
                        fields.push(last.join(&b' '));
                        for (number, name) in names.iter().enumerate() {
                            give(self, name, vec![fields.get(number).cloned().unwrap_or_default()]);
                        }
                    }
                }
                self.run.status = self.run.read_taints.is_empty().then_some(0);
            }
            Some(None) => {
                // Nothing is left.
                for name in &names {
                    give(self, name, if is_list { Vec::new() } else { vec![Vec::new()] });
                }
                self.run.status = self.run.read_taints.is_empty().then_some(1);
            }
            _ => {
                let unknown = self.unknown_value("a line that is read");
                for name in &names {
                    give(self, name, vec![unknown.clone()]);
                }
                if names.is_empty() {
                    self.write(unknown);
                }
                self.run.status = None;
            }
        }
    }

    /// The next line of the input; none within where nothing is left, none outside where there is no input known.
    fn next_line(&mut self) -> Option<Option<Vec<u8>>> {
        let input = self.run.input.as_mut()?;
        self.run.read_taints.extend(&input.taints);
        let rest = &input.text[input.at.min(input.text.len())..];
        if rest.is_empty() {
            return Some(None);
        }
        let line = rest[..memchr::memchr(b'\n', rest).unwrap_or(rest.len())].to_vec();
        if !is_known(&line) {
            return None;
        }
        input.at += line.len() + 1;
        Some(Some(line))
    }
}
