//! Commands: lists, compound commands, simple ones, redirections.

use std::sync::Arc;

use super::word::{arithmetic, push_plain};
use super::{
    Arm, ArmEnd, Assigned, Assignment, Awaited, Command, Condition, DEEPEST, Dialect, Kind, List, Parsed, Parser, Part,
    Redirect, Word, is_name,
};

/// Words that end a list and begin nothing.
const CLOSERS: [&[u8]; 9] = [b"then", b"elif", b"else", b"fi", b"do", b"done", b"esac", b"}", b"always"];

/// Conditions side by side: each is one level of the tree.
const MOST_CONDITIONS: usize = 60;

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
                    self.skip(1);
                    background(&mut list);
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
    fn list(&mut self) -> Parsed<List> {
        self.deeper()?;
        let mut list = Vec::new();
        loop {
            self.lines()?;
            let is_over = matches!(self.peek(), None | Some(b')'))
                || self.starts(b";;")
                || self.starts(b";&")
                || self.starts(b";|")
                || CLOSERS.iter().any(|word| self.has_keyword(word));
            if is_over {
                break;
            }
            list.push(self.and_or()?);
            self.blanks();
            match self.peek() {
                Some(b';') if !self.starts(b";;") && !self.starts(b";&") && !self.starts(b";|") => self.skip(1),
                Some(b'&') if !self.starts(b"&&") => {
                    self.skip(1);
                    background(&mut list);
                }
                Some(b'\n') => self.line_end()?,
                _ => break,
            }
        }
        self.depth -= 1;
        self.put_documents(&mut list);
        Ok(list)
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
        if self.depth > DEEPEST { self.wrong("nested too deep") } else { Ok(()) }
    }

    /// Whether a word stands here, alone.
    fn has_keyword(&self, word: &[u8]) -> bool {
        self.starts(word)
            && self.rest().get(word.len()).is_none_or(|b| b" \t\n;&|<>()".contains(b) || (word == b"}" && *b == b'}'))
    }

    fn keyword(&mut self, word: &[u8]) -> bool {
        let is_there = self.has_keyword(word);
        if is_there {
            self.skip(word.len());
        }
        is_there
    }

    fn expect(&mut self, word: &[u8], what: &'static str) -> Parsed<()> {
        self.lines()?;
        if self.keyword(word) { Ok(()) } else { self.wrong(what) }
    }

    fn and_or(&mut self) -> Parsed<Command> {
        let line = self.line;
        let first = self.pipeline()?;
        let mut more = Vec::new();
        loop {
            self.blanks();
            let is_and = self.starts(b"&&");
            if !is_and && !self.starts(b"||") {
                break;
            }
            self.skip(2);
            self.lines()?;
            more.push((is_and, self.pipeline()?));
        }
        Ok(if more.is_empty() { first } else { plain(line, Kind::AndOr(Box::new(first), more)) })
    }

    fn pipeline(&mut self) -> Parsed<Command> {
        self.blanks();
        let line = self.line;
        if self.keyword(b"!") {
            self.deeper()?;
            let inner = self.pipeline()?;
            self.depth -= 1;
            return Ok(plain(line, Kind::Not(Box::new(inner))));
        }
        if self.dialect != Dialect::Posix && self.keyword(b"time") {
            self.blanks();
            self.keyword(b"-p");
            self.blanks();
        }
        let mut commands = vec![self.command()?];
        loop {
            self.blanks();
            if self.starts(b"||") || self.peek() != Some(b'|') {
                break;
            }
            self.skip(1);
            self.take(b"&");
            self.lines()?;
            commands.push(self.command()?);
        }
        Ok(match commands.len() {
            1 => commands.remove(0),
            _ => plain(line, Kind::Pipeline(commands)),
        })
    }

    fn command(&mut self) -> Parsed<Command> {
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

    fn compound(&mut self) -> Parsed<Option<Kind>> {
        let is_more_than_posix = self.dialect != Dialect::Posix;
        if self.starts(b"((")
            && is_more_than_posix
            && let Some((text, length)) = arithmetic(&self.rest()[2..])
        {
            let kind = Kind::Arithmetic(text.to_vec());
            self.skip(2 + length);
            return Ok(Some(kind));
        }
        if self.take(b"(") {
            return Ok(Some(Kind::Subshell(self.list_until(b")")?)));
        }
        if self.keyword(b"{") {
            return self.group().map(Some);
        }
        if is_more_than_posix && self.keyword(b"[[") {
            let condition = self.condition()?;
            self.lines()?;
            return if self.keyword(b"]]") { Ok(Some(Kind::Test(condition))) } else { self.wrong("[[ is not closed") };
        }
        if self.keyword(b"if") {
            return self.branches().map(Some);
        }
        if self.has_keyword(b"while") || self.has_keyword(b"until") {
            let is_until = self.has_keyword(b"until");
            self.skip(5);
            let condition = self.list()?;
            let body = self.loop_body()?;
            return Ok(Some(Kind::While(condition, body, is_until)));
        }
        if self.keyword(b"for") {
            return self.for_loop().map(Some);
        }
        if is_more_than_posix && self.keyword(b"select") {
            let Kind::For(_, _, body) = self.for_loop()? else { return self.wrong("select without words") };
            return Ok(Some(Kind::OtherLoop(body)));
        }
        if self.dialect == Dialect::Zsh && self.keyword(b"repeat") {
            self.blanks();
            self.word()?;
            return Ok(Some(Kind::OtherLoop(self.loop_body()?)));
        }
        if self.keyword(b"case") {
            return self.case().map(Some);
        }
        if is_more_than_posix && self.keyword(b"function") {
            let mut names = Vec::new();
            loop {
                self.blanks();
                if matches!(self.peek(), Some(b'(' | b'\n' | b';') | None) || self.has_keyword(b"{") {
                    break;
                }
                match self.word()? {
                    Some(word) => names.push(literal(&word).unwrap_or_default()),
                    None => return self.wrong("a function without a name"),
                }
            }
            self.function(names).map(Some)
        } else {
            Ok(None)
        }
    }

    /// What stands behind `{`.
    fn group(&mut self) -> Parsed<Kind> {
        let mut list = self.list()?;
        self.expect(b"}", "a brace is not closed")?;
        self.blanks();
        if self.dialect == Dialect::Zsh && self.keyword(b"always") {
            self.expect(b"{", "always without a brace")?;
            let Kind::Group(last) = self.group()? else { return self.wrong("always without a group") };
            list.extend(last);
        }
        Ok(Kind::Group(list))
    }

    /// A function's body, behind its name.
    fn function(&mut self, names: Vec<Vec<u8>>) -> Parsed<Kind> {
        self.blanks();
        if self.take(b"(") {
            self.blanks();
            if !self.take(b")") {
                return self.wrong("a parenthesis cannot stand here");
            }
        }
        self.lines()?;
        let line = self.line;
        let body = match self.compound()? {
            Some(kind) => {
                let mut redirects = Vec::new();
                while let Some(redirect) = self.redirect()? {
                    redirects.push(redirect);
                }
                Command { line, kind, redirects }
            }
            None if self.dialect == Dialect::Zsh => self.simple()?,
            None => return self.wrong("a function without a body"),
        };
        Ok(Kind::Function(names, Arc::new(body)))
    }

    fn branches(&mut self) -> Parsed<Kind> {
        let mut branches = Vec::new();
        loop {
            let condition = self.list()?;
            if condition.is_empty() {
                return self.wrong("if without a condition");
            }
            self.lines()?;
            if self.dialect == Dialect::Zsh && self.has_keyword(b"{") {
                self.keyword(b"{");
                let Kind::Group(body) = self.group()? else { return self.wrong("a brace is not closed") };
                branches.push((condition, body));
                self.blanks();
                if self.keyword(b"elif") {
                    continue;
                }
                let mut otherwise = None;
                if self.keyword(b"else") {
                    self.expect(b"{", "else without a brace")?;
                    let Kind::Group(body) = self.group()? else { return self.wrong("a brace is not closed") };
                    otherwise = Some(body);
                }
                return Ok(Kind::If(branches, otherwise));
            }
            self.expect(b"then", "if without then")?;
            let body = self.list()?;
            if body.is_empty() && self.dialect != Dialect::Zsh {
                return self.wrong("then with nothing behind it");
            }
            branches.push((condition, body));
            self.lines()?;
            if self.keyword(b"elif") {
                continue;
            }
            let mut otherwise = None;
            if self.keyword(b"else") {
                otherwise = Some(self.list()?);
            }
            self.expect(b"fi", "if without fi")?;
            return Ok(Kind::If(branches, otherwise));
        }
    }

    fn loop_body(&mut self) -> Parsed<List> {
        self.lines()?;
        if self.dialect != Dialect::Posix && self.keyword(b"{") {
            let Kind::Group(body) = self.group()? else { return self.wrong("a brace is not closed") };
            return Ok(body);
        }
        if self.dialect == Dialect::Zsh && !self.has_keyword(b"do") {
            return Ok(vec![self.and_or()?]);
        }
        self.expect(b"do", "a loop without do")?;
        let body = self.list()?;
        if body.is_empty() && self.dialect != Dialect::Zsh {
            return self.wrong("do with nothing behind it");
        }
        self.expect(b"done", "a loop without done")?;
        Ok(body)
    }

    fn for_loop(&mut self) -> Parsed<Kind> {
        self.blanks();
        if self.starts(b"((") {
            let Some((_, length)) = arithmetic(&self.rest()[2..]) else { return self.wrong("(( is not closed") };
            self.skip(2 + length);
            self.blanks();
            self.take(b";");
            return Ok(Kind::OtherLoop(self.loop_body()?));
        }
        let name = self.word()?.as_ref().and_then(literal).filter(|name| is_name(name));
        let Some(name) = name else { return self.wrong("for without a name") };
        self.lines()?;
        let mut words = None;
        if self.dialect == Dialect::Zsh && self.peek() == Some(b'(') {
            self.skip(1);
            words = Some(self.words_in_parentheses()?);
        } else if self.keyword(b"in") {
            let mut list = Vec::new();
            loop {
                self.blanks();
                match self.word()? {
                    Some(word) => list.push(word),
                    None => break,
                }
            }
            words = Some(list);
        }
        self.blanks();
        self.take(b";");
        Ok(Kind::For(name, words, self.loop_body()?))
    }

    fn words_in_parentheses(&mut self) -> Parsed<Vec<Word>> {
        let mut words = Vec::new();
        loop {
            self.lines()?;
            if self.take(b")") {
                return Ok(words);
            }
            match self.word()? {
                Some(word) => words.push(word),
                None => return self.wrong("a parenthesis is not closed"),
            }
        }
    }

    fn case(&mut self) -> Parsed<Kind> {
        self.blanks();
        let Some(word) = self.word()? else { return self.wrong("case without a word") };
        self.expect(b"in", "case without in")?;
        let mut arms = Vec::new();
        loop {
            self.lines()?;
            if self.keyword(b"esac") {
                return Ok(Kind::Case(word, arms));
            }
            self.take(b"(");
            let mut patterns = Vec::new();
            loop {
                self.blanks();
                match self.word()? {
                    Some(pattern) => patterns.push(pattern),
                    None => return self.wrong("case without esac"),
                }
                self.blanks();
                if self.take(b"|") {
                    continue;
                }
                if self.take(b")") {
                    break;
                }
                return self.wrong("a pattern is not closed");
            }
            let body = self.list()?;
            self.lines()?;
            let then = if self.take(b";;&") || self.take(b";|") {
                ArmEnd::TestOn
            } else if self.take(b";;") {
                ArmEnd::Stop
            } else if self.take(b";&") {
                ArmEnd::FallThrough
            } else if self.has_keyword(b"esac") {
                ArmEnd::Stop
            } else {
                return self.wrong("case without esac");
            };
            arms.push(Arm { patterns, body, then });
        }
    }

    fn condition(&mut self) -> Parsed<Condition> {
        let mut left = self.condition_and()?;
        for _ in 0..MOST_CONDITIONS {
            self.lines()?;
            if !self.take(b"||") {
                return Ok(left);
            }
            left = Condition::Or(Box::new(left), Box::new(self.condition_and()?));
        }
        self.wrong("more conditions than are looked at")
    }

    fn condition_and(&mut self) -> Parsed<Condition> {
        let mut left = self.condition_one()?;
        for _ in 0..MOST_CONDITIONS {
            self.lines()?;
            if !self.take(b"&&") {
                return Ok(left);
            }
            left = Condition::And(Box::new(left), Box::new(self.condition_one()?));
        }
        self.wrong("more conditions than are looked at")
    }

    fn condition_one(&mut self) -> Parsed<Condition> {
        self.lines()?;
        self.deeper()?;
        let found = if self.keyword(b"!") {
            Condition::Not(Box::new(self.condition_one()?))
        } else if self.take(b"(") {
            let inner = self.condition()?;
            self.lines()?;
            if !self.take(b")") {
                return self.wrong("a parenthesis is not closed");
            }
            inner
        } else {
            self.comparison()?
        };
        self.depth -= 1;
        Ok(found)
    }

    fn comparison(&mut self) -> Parsed<Condition> {
        let Some(first) = self.word()? else { return self.wrong("[[ with nothing in it") };
        let sign = literal(&first).filter(|text| text.len() == 2 && text[0] == b'-' && text[1].is_ascii_alphabetic());
        self.lines()?;
        let is_over = |parser: &Self| {
            parser.has_keyword(b"]]") || parser.starts(b"&&") || parser.starts(b"||") || parser.peek() == Some(b')')
        };
        if is_over(self) {
            return Ok(Condition::Word(first));
        }
        if let Some(sign) = sign
            && let Some(word) = self.word()?
        {
            return Ok(Condition::Unary(sign, word));
        }
        let operator = if self.take(b"<") {
            b"<".to_vec()
        } else if self.take(b">") {
            b">".to_vec()
        } else {
            self.word()?.as_ref().and_then(literal).unwrap_or_default()
        };
        self.lines()?;
        let pattern = match &operator[..] {
            b"=~" => self.word_until(&|b| matches!(b, b' ' | b'\t' | b'\n'))?,
            b"==" | b"=" | b"!=" => {
                // Parentheses belong to the pattern.
                let is_end = |b: u8| matches!(b, b' ' | b'\t' | b'\n' | b'&' | b')');
                let start = self.at;
                let mut word = Word::default();
                while self.peek().is_some_and(|b| !is_end(b) && !self.starts(b"||")) {
                    match self.peek() {
                        Some(b'(') => {
                            let depth = memchr::memchr(b')', self.rest());
                            let Some(length) = depth else { return self.wrong("a parenthesis is not closed") };
                            push_plain(&mut word.0, &self.rest()[..=length]);
                            self.skip(length + 1);
                        }
                        Some(b'|') => {
                            push_plain(&mut word.0, b"|");
                            self.skip(1);
                        }
                        _ => {
                            let more = self.word_until(&|b| is_end(b) || matches!(b, b'(' | b'|'))?;
                            word.0.extend(more.0);
                        }
                    }
                }
                if self.at == start {
                    return self.wrong("a comparison without a second word");
                }
                word
            }
            _ => match self.word()? {
                Some(word) => word,
                None => return self.wrong("a comparison without a second word"),
            },
        };
        Ok(Condition::Binary(first, operator, pattern))
    }

    fn redirect(&mut self) -> Parsed<Option<Redirect>> {
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

    fn simple(&mut self) -> Parsed<Command> {
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
            if ends_open && self.dialect != Dialect::Posix && self.take(b"(") {
                word.0.push(Part::List(self.words_in_parentheses()?));
            }
            words.push(word);
            let may_define = (words.len() == 1 || self.dialect == Dialect::Zsh) && assignments.is_empty();
            if may_define && self.is_definition() {
                let names = words.iter().map(|word| literal(word).unwrap_or_default()).collect();
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
            let Some(end) = memchr::memchr(b']', &rest[behind..]) else { return Ok(None) };
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

fn plain(line: u32, kind: Kind) -> Command {
    Command { line, kind, redirects: Vec::new() }
}

fn background(list: &mut List) {
    if let Some(last) = list.pop() {
        list.push(plain(last.line, Kind::Background(Box::new(last))));
    }
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

fn put_document(command: &mut Command, number: usize, document: &Word) -> bool {
    let is_it = |redirect: &&mut Redirect| {
        redirect.operator.starts_with("<<")
            && redirect.operator != "<<<"
            && redirect.target.0 == [Part::Plain(number.to_string().into_bytes())]
    };
    if let Some(redirect) = command.redirects.iter_mut().find(is_it) {
        redirect.target = document.clone();
        return true;
    }
    let mut in_list = |list: &mut List| list.iter_mut().any(|one| put_document(one, number, document));
    match &mut command.kind {
        Kind::AndOr(first, more) => {
            put_document(first, number, document) || more.iter_mut().any(|(_, one)| put_document(one, number, document))
        }
        Kind::Not(inner) | Kind::Background(inner) => put_document(inner, number, document),
        Kind::Pipeline(list) | Kind::Group(list) | Kind::Subshell(list) | Kind::OtherLoop(list) => in_list(list),
        Kind::If(branches, otherwise) => {
            branches.iter_mut().any(|(condition, body)| in_list(condition) || in_list(body))
                || otherwise.as_mut().is_some_and(&mut in_list)
        }
        Kind::While(condition, body, _) => in_list(condition) || in_list(body),
        Kind::For(_, _, body) => in_list(body),
        Kind::Case(_, arms) => arms.iter_mut().any(|arm| in_list(&mut arm.body)),
        Kind::Function(_, body) => Arc::get_mut(body).is_some_and(|body| put_document(body, number, document)),
        Kind::Simple(..) | Kind::Test(_) | Kind::Arithmetic(_) => false,
    }
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
