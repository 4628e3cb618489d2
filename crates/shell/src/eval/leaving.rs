//! Builtins that leave what is followed, and `shift`.

use super::piece::is_known;
use super::run::{Flow, Mishap, Run};
use crate::syntax::Dialect;

impl Run<'_> {
    /// `return`, `exit` and their like, behind a command that ended like this.
    pub(super) fn leave(&mut self, name: &[u8], status: &[u8], before: Option<u8>) -> Flow {
        if self.dialect() == Dialect::Posix && is_known(status) && !is_digits(status) {
            self.fail(Mishap::Expansion);
            return Flow::Next;
        }
        if name == b"logout" && !self.at.is_login {
            self.status = Some(1);
            return Flow::Next;
        }
        // A number that no process can end with stays as it is for a function of dash and zsh.
        let is_kept = name == b"return" && self.dialect() != Dialect::Bash;
        self.status = status_of(status, before).filter(|_| !is_kept || status.len() < 3 || number(status) < Some(256));
        if self.dialect() == Dialect::Zsh && status.starts_with(b"-") {
            self.status = None;
        }
        if name == b"return" { Flow::Return } else { Flow::Exit }
    }

    /// `break` and `continue`, with the number of loops.
    pub(super) fn leave_loop(&mut self, name: &[u8], count: &[u8]) -> Flow {
        let number = if count.is_empty() { Some(1) } else { number(count) };
        match (self.dialect(), number) {
            (Dialect::Posix, None | Some(0)) if is_known(count) => {
                self.fail(Mishap::Expansion);
                Flow::Next
            }
            // Outside a loop it does nothing; in zsh it is an error.
            (dialect, _) if self.loops == 0 => {
                if dialect == Dialect::Zsh {
                    self.fail(Mishap::Expansion);
                }
                Flow::Next
            }
            (_, None | Some(0)) => self.anything("leaves an unknown number of loops"),
            (_, Some(number)) if name == b"break" => Flow::Break(number.min(self.loops)),
            (_, Some(number)) => Flow::Continue(number.min(self.loops)),
        }
    }

    pub(super) fn shift(&mut self, arguments: &[Vec<u8>]) -> Flow {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        if self.dialect() == Dialect::Zsh && !arguments.iter().all(|word| is_digits(word)) {
            let lists = arguments.iter().filter(|word| !is_digits(word) && !word.starts_with(b"-"));
            for name in lists.cloned().collect::<Vec<_>>() {
                let unknown = self.any_number("a list of which elements were taken");
                self.assign_named(&name, unknown);
            }
            return self.anything("takes elements from a list");
        }
        if !is_known(first) {
            self.status = None;
            self.state.arguments = self.uncounted(Vec::new(), true);
            return Flow::Next;
        }
        if !self.is_counted(&self.state.arguments) {
            // What is left of unknown words is unknown words.
            self.status = None;
            let left = self.state.arguments.iter().position(|word| !self.is_counted([word]));
            let left = left.map(|at| self.state.arguments.swap_remove(at));
            self.state.arguments = left.into_iter().collect();
            return Flow::Next;
        }
        let count = if first.is_empty() { Some(1) } else { number(first) };
        match count.and_then(|count| usize::try_from(count).ok()) {
            Some(count) if count <= self.state.arguments.len() => drop(self.state.arguments.drain(..count)),
            _ => {
                if self.dialect() == Dialect::Posix {
                    self.fail(Mishap::Expansion);
                }
                self.status = Some(1);
            }
        }
        Flow::Next
    }
}

fn number(text: &[u8]) -> Option<u32> {
    std::str::from_utf8(text).ok()?.parse().ok()
}

fn is_digits(text: &[u8]) -> bool {
    text.iter().all(u8::is_ascii_digit)
}

fn status_of(text: &[u8], now: Option<u8>) -> Option<u8> {
    if text.is_empty() {
        return now;
    }
    let number: i64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    u8::try_from(number & 0xff).ok()
}
