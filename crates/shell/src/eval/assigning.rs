//! Which variables a calculation assigns to.

use super::run::Run;
use super::state::Value;
use crate::syntax::is_name;

impl Run<'_> {
    /// Notes that variables to which an expression would assign something may have it or not.
    pub(super) fn lose_assigned(&mut self, text: &[u8]) {
        let is_letter = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_';
        for part in text.split_inclusive(|&b| b == b'=') {
            let Some(front) = part.strip_suffix(b"=") else { continue };
            let end = front.iter().rposition(|b| !b"+-*/%&|^<> ".contains(b)).map_or(0, |at| at + 1);
            let front = &front[..end];
            let at = front.iter().rposition(|b| !is_letter(b)).map_or(0, |at| at + 1);
            if is_name(&front[at..]) {
                let unknown = self.unknown_value("what a calculation of unknown parts assigns");
                self.assign(&front[at..], Value::Text(unknown), true);
            }
        }
    }
}
