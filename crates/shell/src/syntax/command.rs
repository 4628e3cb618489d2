//! Commands: lists, compound commands, simple ones, redirections.

use super::documents::put_document;
use super::word::closing_bracket;
use super::{
    Assigned, Assignment, Awaited, Command, Dialect, Kind, List, MAX_DEPTH, Parsed, Parser, Part, Redirect, Word,
    is_name,
};

/// Words that end a list and begin nothing.
const CLOSERS: [&[u8]; 9] = [b"then", b"elif", b"else", b"fi", b"do", b"done", b"esac", b"}", b"always"];

/// Commands that take their words as assignments.
const DECLARING: [&[u8]; 8] =
    [b"declare", b"export", b"float", b"integer", b"local", b"private", b"readonly", b"typeset"];

const OPERATORS: [&str; 11] = ["&>>", "&>", "<<<", "<<-", "<<", "<&", "<>", "<", ">>", ">&", ">|"];

impl Parser<'_> {
    /// Commands up to the end of a line.
    pub(super) fn line_of_commands(&mut self) -> Parsed<List> {
        let mut list = Vec::new();
        loop {
            self.blanks();
            match self.peek() {
                None => break,
                Some(b'\n') => {
                    self.line_end()?;
                    break;
                }
                _ => list.push(self.and_or()?),
            }
            self.blanks();
            match self.peek() {
                Some(b';') if !self.starts(b";;") => self.skip(1),
                Some(b'&') if !self.starts(b"&&") => {
                    self.background(&mut list)?;
                }
                None | Some(b'\n') => {}
                _ => return self.wrong("an operator or a word that cannot stand here"),
            }
        }
        self.put_documents(&mut list);
        Ok(list)
    }

    /// Commands up to a closing byte, which is taken.
    pub(super) fn list_until(&mut self, end: &[u8]) -> Parsed<List> {
        let list = self.list()?;
        self.lines()?;
        if self.take(end) { Ok(list) } else { self.wrong("a command in parentheses is not closed") }
    }

    /// Commands up to what cannot begin one.
    pub(super) fn list(&mut self) -> Parsed<List> {
        self.deeper()?;
        let mut list = Vec::new();
        loop {
            self.lines()?;
            let is_over = matches!(self.peek(), None | Some(b')'))
                || self.starts(b";;")
                || self.starts(b";&")
                || self.starts(b";|")
                || CLOSERS.iter().any(|word| self.has_keyword(word))
                || (self.foreach > 0 && self.has_keyword(b"end"));
            if is_over {
                break;
            }
            list.push(self.and_or()?);
            self.blanks();
            match self.peek() {
                Some(b';') if !self.starts(b";;") && !self.starts(b";&") && !self.starts(b";|") => self.skip(1),
                Some(b'&') if !self.starts(b"&&") => {
                    self.background(&mut list)?;
                }
                Some(b'\n') => self.line_end()?,
                _ => break,
            }
        }
        self.depth -= 1;
        self.put_documents(&mut list);
        Ok(list)
    }

    /// Takes the sign behind a command that is not waited for; zsh also has `&!` and `&|`.
    fn background(&mut self, list: &mut List) -> Parsed<()> {
        self.skip(1);
        if self.dialect == Dialect::Zsh {
            let _ = self.take(b"!") || (!self.starts(b"||") && self.take(b"|"));
        }
        if let Some(last) = list.pop() {
            let is_assignment =
                matches!(&last.kind, Kind::Simple(assignments, words) if words.is_empty() && !assignments.is_empty());
            if self.dialect == Dialect::Zsh && is_assignment {
                return self.wrong("an assignment in the background");
            }
            list.push(plain(last.line, Kind::Background(Box::new(last))));
        }
        Ok(())
    }

    /// Puts documents that were read since into the redirections that wait for them.
    fn put_documents(&mut self, list: &mut List) {
        if self.documents.is_empty() {
            return;
        }
        let documents = std::mem::take(&mut self.documents);
        let mut left = Vec::new();
        for (number, word) in documents {
            if !list.iter_mut().any(|command| put_document(command, number, &word)) {
                left.push((number, word));
            }
        }
        self.documents = left;
    }

    /// One level more.
    pub(super) fn deeper(&mut self) -> Parsed<()> {
        self.depth += 1;
        if self.depth > MAX_DEPTH { self.wrong("nested too deep") } else { Ok(()) }
    }

    /// Whether a word stands here, alone.
    pub(super) fn has_keyword(&self, word: &[u8]) -> bool {
        self.starts(word)
            && self.rest().get(word.len()).is_none_or(|b| {
                b" \t\n;&|<>()".contains(b)
                    || (*b == b'}' && (word == b"}" || word == b"{" && self.dialect == Dialect::Zsh))
            })
    }

    pub(super) fn keyword(&mut self, word: &[u8]) -> bool {
        let is_there = self.has_keyword(word);
        if is_there {
            self.skip(word.len());
        }
        is_there
    }

    pub(super) fn expect(&mut self, word: &[u8], what: &'static str) -> Parsed<()> {
        self.lines()?;
        if self.keyword(word) { Ok(()) } else { self.wrong(what) }
    }

    pub(super) fn command(&mut self) -> Parsed<Command> {
        self.deeper()?;
        self.blanks();
        let line = self.line;
        let kind = self.compound()?;
        let command = match kind {
            Some(kind) => {
                let mut redirects = Vec::new();
                while let Some(redirect) = self.redirect()? {
                    redirects.push(redirect);
                }
                Command { line, kind, redirects }
            }
            None => self.simple()?,
        };
        self.depth -= 1;
        Ok(command)
    }

    pub(super) fn redirect(&mut self) -> Parsed<Option<Redirect>> {
        self.blanks();
        let digits = self.rest().iter().take_while(|b| b.is_ascii_digit()).count();
        let behind = &self.rest()[digits..];
        if behind.starts_with(b"<(") || behind.starts_with(b">(") {
            return Ok(None);
        }
        let is_posix = self.dialect == Dialect::Posix;
        let fits = |operator: &&&str| {
            behind.starts_with(operator.as_bytes()) && !(is_posix && (operator.starts_with('&') || **operator == "<<<"))
        };
        let mut operator = OPERATORS.iter().find(fits).copied();
        if operator.is_none() && behind.starts_with(b">") {
            operator = Some(">");
        }
        let Some(operator) = operator.filter(|operator| digits == 0 || !operator.starts_with('&')) else {
            return Ok(None);
        };
        let descriptor = std::str::from_utf8(&self.rest()[..digits]).ok().and_then(|text| text.parse().ok());
        self.skip(digits + operator.len());
        // zsh overwrites with `>!` as with `>|`, and has both for every operator that writes.
        if self.dialect == Dialect::Zsh && operator.ends_with('>') && operator != "<>" {
            let _ = self.take(b"!") || self.take(b"|");
        }
        self.blanks();
        let Some(mut target) = self.word()? else { return self.wrong("a redirection without a file") };
        if operator == "<<" || operator == "<<-" {
            let is_quoted = target.0.iter().any(|part| !matches!(part, Part::Plain(_)));
            let end = literal(&target).unwrap_or_default();
            self.count += 1;
            self.awaited.push(Awaited { number: self.count, end, is_quoted, strips_tabs: operator == "<<-" });
            target = Word(vec![Part::Plain(self.count.to_string().into_bytes())]);
        }
        Ok(Some(Redirect { descriptor, operator, target }))
    }

    pub(super) fn simple(&mut self) -> Parsed<Command> {
        if CLOSERS.iter().any(|word| *word != b"always" && self.has_keyword(word)) {
            return self.wrong("a word that closes what was not opened");
        }
        let line = self.line;
        let (mut assignments, mut words, mut redirects) = (Vec::new(), Vec::new(), Vec::new());
        loop {
            self.blanks();
            if let Some(redirect) = self.redirect()? {
                redirects.push(redirect);
                continue;
            }
            if words.is_empty()
                && let Some(assignment) = self.assignment()?
            {
                assignments.push(assignment);
                continue;
            }
            let has_begun = !words.is_empty() || !assignments.is_empty();
            if self.dialect == Dialect::Zsh && has_begun && self.has_keyword(b"}") {
                break;
            }
            let Some(mut word) = self.word()? else { break };
            let ends_open = matches!(word.0.last(), Some(Part::Plain(text)) if text.ends_with(b"="));
            if ends_open && self.dialect != Dialect::Posix && self.peek() == Some(b'(') {
                let declares = |word: &Word| literal(word).is_some_and(|name| DECLARING.contains(&&name[..]));
                // What `eval` is given is read again.
                let is_read_again = self.dialect == Dialect::Bash
                    && words.first().and_then(literal).is_some_and(|name| name == b"eval");
                if !begins_assignment(&word) || !(is_read_again || words.iter().any(declares)) {
                    return self.wrong("a parenthesis cannot stand here");
                }
                self.skip(1);
                word.0.push(Part::List(self.words_in_parentheses()?));
            }
            words.push(word);
            let may_define = (words.len() == 1 || self.dialect == Dialect::Zsh) && assignments.is_empty();
            if may_define && self.is_definition() {
                let is_pattern =
                    |part: &Part| matches!(part, Part::Plain(text) if text.iter().any(|b| b"*?[".contains(b)));
                if self.dialect == Dialect::Zsh && words.iter().flat_map(|word| &word.0).any(is_pattern) {
                    return self.wrong("a pattern in the place of a function's name");
                }
                let names: Vec<Vec<u8>> = words.iter().map(|word| literal(word).unwrap_or_default()).collect();
                if self.dialect == Dialect::Zsh && names.iter().any(|name| DECLARING.contains(&&name[..])) {
                    return self.wrong("a word that the shell keeps for itself cannot name a function");
                }
                let kind = self.function(names)?;
                return Ok(plain(line, kind));
            }
        }
        if assignments.is_empty() && words.is_empty() && redirects.is_empty() {
            return self.wrong("an operator or a word that cannot stand here");
        }
        Ok(Command { line, kind: Kind::Simple(assignments, words), redirects })
    }

    /// Whether `()` follows.
    fn is_definition(&self) -> bool {
        let mut behind = self.rest().iter().skip_while(|b| matches!(b, b' ' | b'\t'));
        behind.next() == Some(&b'(') && behind.find(|b| !matches!(b, b' ' | b'\t')) == Some(&b')')
    }

    fn assignment(&mut self) -> Parsed<Option<Assignment>> {
        let rest = self.rest();
        let length = rest.iter().take_while(|&&b| b == b'_' || b.is_ascii_alphanumeric()).count();
        if !is_name(&rest[..length]) {
            return Ok(None);
        }
        let name = rest[..length].to_vec();
        let mut behind = length;
        let mut index = None;
        if rest.get(behind) == Some(&b'[') && self.dialect != Dialect::Posix {
            let Some(end) = closing_bracket(&rest[behind..]) else { return Ok(None) };
            let inner = &rest[behind..behind + end];
            let is_plain = || !inner.iter().any(|byte| b"'\"\\$`(".contains(byte));
            if self.dialect == Dialect::Zsh && inner.contains(&b' ') && is_plain() {
                return Ok(None); // Two words.
            }
            index = Some(rest[behind + 1..behind + end].to_vec());
            behind += end + 1;
        }
        let append = rest[behind..].starts_with(b"+=") && self.dialect != Dialect::Posix;
        behind += usize::from(append);
        if rest.get(behind) != Some(&b'=') {
            return Ok(None);
        }
        self.skip(behind + 1);
        if self.dialect != Dialect::Posix && self.take(b"(") {
            let value = Assigned::List(self.words_in_parentheses()?);
            return Ok(Some(Assignment { name, index, append, value }));
        }
        let value = Assigned::Word(self.word()?.unwrap_or_default());
        Ok(Some(Assignment { name, index, append, value }))
    }
}

pub(super) fn plain(line: u32, kind: Kind) -> Command {
    Command { line, kind, redirects: Vec::new() }
}

/// Whether a word is `NAME=`, `NAME+=` or `NAME[index]=`, with no quotes and no variable before the `=`.
fn begins_assignment(word: &Word) -> bool {
    let [Part::Plain(text)] = &word.0[..] else { return false };
    let name = text.split(|b| b"=+[".contains(b)).next().unwrap_or_default();
    is_name(name)
}

/// The text of a word without variables in it.
#[must_use]
pub fn literal(word: &Word) -> Option<Vec<u8>> {
    fn add(parts: &[Part], text: &mut Vec<u8>) -> Option<()> {
        for part in parts {
            match part {
                Part::Plain(more) | Part::Quoted(more) => text.extend_from_slice(more),
                Part::Double(inner) => add(inner, text)?,
                _ => return None,
            }
        }
        Some(())
    }
    let mut text = Vec::new();
    add(&word.0, &mut text)?;
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shape(text: &str, dialect: Dialect) -> Result<usize, u32> {
        let mut count = 0;
        for list in Parser::new(text.as_bytes(), dialect) {
            count += list.map_err(|error| error.line)?.len();
        }
        Ok(count)
    }

    #[test]
    fn what_start_up_files_hold_is_taken_and_mistakes_have_a_line() {
        use Dialect::{Bash, Posix, Zsh};
        for (text, dialect, expected) in [
            ("a=1 b=\"$a x\" export c\n", Posix, Ok(1)),
            ("if [ -d ~/bin ]; then\n PATH=~/bin:$PATH\nelif x; then :\nelse :; fi\n", Posix, Ok(1)),
            ("case $- in *i*) ;; *) return;; esac # x\nx && y || z; w &\n", Posix, Ok(3)),
            ("for f in /etc/profile.d/*.sh; do . \"$f\"; done; unset f\n", Posix, Ok(2)),
            ("cat <<'E' >/dev/null\nif $(\nE\nx\n", Posix, Ok(2)),
            ("f() { case \":$PATH:\" in (*:\"$1\":*) ;; (*) PATH=$1:$PATH;; esac; }\nf /opt\n", Posix, Ok(2)),
            ("x=`echo \\`id\\``; y=$(case a in a) echo b;; esac)\n", Posix, Ok(2)),
            ("[[ $- != *i* ]] && return\n[[ ! ( -d x || $y =~ ^(a|b)$ ) && $z == @(a|b)* ]]\n", Bash, Ok(2)),
            ("a=(x y); a+=(z); declare -a b=(q); for ((i=0; i<3; i++)); do :; done\n", Bash, Ok(4)),
            ("path=(~/bin(N-/) $path); typeset -U path; if [[ -n x ]] { y } else { z }\n", Zsh, Ok(3)),
            ("for d (a b) { x }; f g() { y }; x=${${(f)y}:#z*}; w=(/opt/*(N/))\n", Zsh, Ok(4)),
            ("x\nif y; then\n", Posix, Err(3)),
            ("x\ny=\"\n\n", Posix, Err(4)),
            ("x\n}\n", Posix, Err(2)),
            ("x)\n", Posix, Err(1)),
        ] {
            assert_eq!(shape(text, dialect), expected, "{text}");
        }
        assert_eq!(shape(&"(".repeat(100_000), Bash), Err(1), "deep nesting is refused");
        assert_eq!(shape(&"$(".repeat(100_000), Bash), Err(1));
    }
}
