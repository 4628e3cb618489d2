//! Statements one after another, and what joins them.

use super::{Block, Parsed, Parser, Statement};

impl Parser<'_> {
    pub(super) fn separators(&mut self) {
        loop {
            self.blanks();
            match self.peek() {
                Some(b'\n' | b';') => self.skip(1),
                Some(b'&') if !self.rest().starts_with(b"&&") => self.skip(1),
                _ => return,
            }
        }
    }

    /// Statements up to what closes them.
    pub(super) fn block(&mut self) -> Parsed<Block> {
        self.deeper()?;
        let mut block = Vec::new();
        loop {
            self.separators();
            let is_over = self.rest().is_empty()
                || self.peek() == Some(b')')
                || [&b"end"[..], b"else", b"case"].iter().any(|word| self.has(word));
            if is_over {
                break;
            }
            let first = block.len();
            self.conjunction(&mut block)?;
            let is_behind = first > 0 && block[first - 1].is_background;
            if is_behind && block[first].after.is_some() {
                return self.wrong("`and` or `or` behind what is not waited for");
            }
            self.blanks();
            let is_background = self.peek() == Some(b'&');
            block.iter_mut().last().into_iter().for_each(|last: &mut Statement| last.is_background |= is_background);
        }
        self.depth -= 1;
        Ok(block)
    }

    /// One job, and those joined to it by `&&` and `||`.
    pub(super) fn conjunction(&mut self, block: &mut Block) -> Parsed<()> {
        block.push(self.statement(None)?);
        loop {
            self.blanks();
            let after = if self.rest().starts_with(b"&&") {
                true
            } else if self.rest().starts_with(b"||") {
                false
            } else {
                return Ok(());
            };
            self.skip(2);
            while matches!(self.peek(), Some(b'\n' | b' ' | b'\t')) {
                self.skip(1);
            }
            block.push(Statement { is_chained: true, ..self.statement(Some(after))? });
        }
    }
}
