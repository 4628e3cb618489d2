//! Compound commands: groups, branches, loops, cases, functions.

use std::sync::Arc;

use super::word::arithmetic;
use super::{Arm, ArmEnd, Command, Dialect, Kind, List, Parsed, Parser, Word, is_name, literal};

impl Parser<'_> {
    pub(super) fn compound(&mut self) -> Parsed<Option<Kind>> {
        let is_more_than_posix = self.dialect != Dialect::Posix;
        if self.starts(b"((")
            && is_more_than_posix
            && let Some((text, length)) = arithmetic(&self.rest()[2..])
        {
            let kind = Kind::Arithmetic(text.to_vec());
            self.skip(2 + length);
            return Ok(Some(kind));
        }
        if self.dialect == Dialect::Zsh && self.starts(b"()") {
            return self.anonymous().map(Some);
        }
        if self.take(b"(") {
            return Ok(Some(Kind::Subshell(self.list_until(b")")?)));
        }
        if self.keyword(b"{") {
            return self.group().map(Some);
        }
        if is_more_than_posix && self.keyword(b"[[") {
            let has_groups = self.has_groups;
            let condition = self.condition()?;
            self.has_groups = has_groups;
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
        if let Some(kind) = self.more_loops()? {
            return Ok(Some(kind));
        }
        if self.keyword(b"case") {
            return self.case().map(Some);
        }
        if is_more_than_posix && self.keyword(b"function") { self.function_word().map(Some) } else { Ok(None) }
    }

    /// Loops that POSIX does not have, but for `for ((`.
    fn more_loops(&mut self) -> Parsed<Option<Kind>> {
        let is_more_than_posix = self.dialect != Dialect::Posix;
        if is_more_than_posix && self.keyword(b"select") {
            let Kind::For(_, _, body) = self.for_loop()? else { return self.wrong("select without words") };
            return Ok(Some(Kind::OtherLoop(body)));
        }
        if self.dialect == Dialect::Zsh && self.keyword(b"repeat") {
            self.blanks();
            let Some(count) = self.word()? else { return self.wrong("repeat without a number") };
            self.blanks();
            self.take(b";");
            return Ok(Some(Kind::Repeat(count, self.loop_body()?)));
        }
        if self.dialect == Dialect::Zsh && self.keyword(b"foreach") {
            let (name, words) = self.loop_words()?;
            if self.has_keyword(b"do") || self.has_keyword(b"{") {
                return Ok(Some(Kind::For(name, words, self.loop_body()?)));
            }
            self.foreach += 1;
            let body = self.list()?;
            self.foreach -= 1;
            self.expect(b"end", "foreach without end")?;
            return Ok(Some(Kind::For(name, words, body)));
        }
        Ok(None)
    }

    /// Parses what follows `function`.
    fn function_word(&mut self) -> Parsed<Kind> {
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
        match (names.is_empty(), self.dialect) {
            (false, _) => self.function(names),
            (true, Dialect::Zsh) => self.anonymous(),
            (true, _) => self.wrong("a function without a name"),
        }
    }

    /// `() { … } words`, or what follows `function` without a name.
    fn anonymous(&mut self) -> Parsed<Kind> {
        let Kind::Function(_, body) = self.function(Vec::new())? else {
            return self.wrong("a function without a body");
        };
        let mut words = Vec::new();
        loop {
            self.blanks();
            match self.word()? {
                Some(word) => words.push(word),
                None => return Ok(Kind::Anonymous(body, words)),
            }
        }
    }

    /// Parses what follows `{`.
    pub(super) fn group(&mut self) -> Parsed<Kind> {
        let list = self.list()?;
        self.expect(b"}", "a brace is not closed")?;
        self.blanks();
        if self.dialect == Dialect::Zsh && self.keyword(b"always") {
            self.expect(b"{", "always without a brace")?;
            let Kind::Group(last) = self.group()? else { return self.wrong("always without a group") };
            return Ok(Kind::Always(list, last));
        }
        Ok(Kind::Group(list))
    }

    /// A function's body, behind its name.
    pub(super) fn function(&mut self, names: Vec<Vec<u8>>) -> Parsed<Kind> {
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

    pub(super) fn branches(&mut self) -> Parsed<Kind> {
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
            let is_short = self.dialect == Dialect::Zsh
                && !self.has_keyword(b"then")
                && matches!(condition.last(), Some(Command { kind: Kind::Test(_) | Kind::Arithmetic(_), .. }));
            if is_short {
                // `if (( … )) command`.
                branches.push((condition, vec![self.and_or()?]));
                return Ok(Kind::If(branches, None));
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

    pub(super) fn loop_body(&mut self) -> Parsed<List> {
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

    pub(super) fn for_loop(&mut self) -> Parsed<Kind> {
        self.blanks();
        if self.starts(b"((") {
            let Some((text, length)) = arithmetic(&self.rest()[2..]) else { return self.wrong("(( is not closed") };
            let parts: Vec<&[u8]> = text.split(|&b| b == b';').collect();
            let [from, to, by] = parts[..] else { return self.wrong("for (( without its three parts") };
            let [from, to, by] = [from, to, by].map(<[u8]>::to_vec);
            self.skip(2 + length);
            self.blanks();
            self.take(b";");
            return Ok(Kind::Count(from, to, by, self.loop_body()?));
        }
        let (name, words) = self.loop_words()?;
        Ok(Kind::For(name, words, self.loop_body()?))
    }

    /// The variable of a loop and its words.
    fn loop_words(&mut self) -> Parsed<(Vec<u8>, Option<Vec<Word>>)> {
        self.blanks();
        let name = self.word()?.as_ref().and_then(literal).filter(|name| is_name(name));
        let Some(mut name) = name else { return self.wrong("for without a name") };
        self.lines()?;
        while self.dialect == Dialect::Zsh
            && !self.has_keyword(b"in")
            && self.peek().is_some_and(|b| b == b'_' || b.is_ascii_alphabetic())
        {
            if self.has_keyword(b"do") {
                break;
            }
            let Some(more) = self.word()?.as_ref().and_then(literal).filter(|name| is_name(name)) else {
                return self.wrong("for with a name that is none");
            };
            name.push(b' ');
            name.extend(more);
            self.lines()?;
        }
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
        self.lines()?;
        Ok((name, words))
    }

    pub(super) fn words_in_parentheses(&mut self) -> Parsed<Vec<Word>> {
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

    pub(super) fn case(&mut self) -> Parsed<Kind> {
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
            if self.dialect == Dialect::Posix && self.starts(b";&") {
                return self.wrong("case without esac");
            }
            let is_zsh = self.dialect == Dialect::Zsh;
            if is_zsh && self.starts(b";;&") || !is_zsh && self.starts(b";|") {
                return self.wrong("case without esac");
            }
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
}
