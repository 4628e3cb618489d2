//! Arithmetic: the operators of C over 64-bit numbers (XCU 2.6.4), and what bash and zsh add to them.

use super::piece::is_known;
use super::run::{Mishap, Run};
use super::state::Value;
use crate::syntax::{Dialect, Parser, closing_bracket, is_name};

/// Longer calculations are not done.
const MAX_TOKENS: usize = 400;
/// A variable's value is an expression itself, to this depth.
const MAX_DEPTH: u32 = 8;

/// Operators of two operands, those that bind least first, with what each is in [`apply`].
const LEVELS: [&[&str]; 10] = [
    &["||"],
    &["&&"],
    &["|"],
    &["^"],
    &["&"],
    &["==", "!="],
    &["<=", ">=", "<", ">"],
    &["<<", ">>"],
    &["+", "-"],
    &["*", "/", "%"],
];

/// All operators, the longest first.
const OPERATORS: [&str; 37] = [
    "<<=", ">>=", "**", "||", "&&", "==", "!=", "<=", ">=", "<<", ">>", "++", "--", "+=", "-=", "*=", "/=", "%=", "&=",
    "|=", "^=", "|", "&", "^", "<", ">", "+", "-", "*", "/", "%", "=", "!", "~", "?", ":", ",",
];

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    Number(i64),
    /// A variable, and what stands in brackets behind it.
    Name(Vec<u8>, Option<Vec<u8>>),
    Operator(&'static str),
}

/// One expression while it is computed.
struct Expression {
    tokens: Vec<Token>,
    at: usize,
    /// Whether what is read does not count: the operand of `&&`, `||` or `?:` that is not taken.
    skips: bool,
}

impl Expression {
    fn take(&mut self, operator: &str) -> bool {
        let is_it = matches!(self.tokens.get(self.at), Some(Token::Operator(one)) if *one == operator);
        self.at += usize::from(is_it);
        is_it
    }

    fn take_any(&mut self, operators: &[&'static str]) -> Option<&'static str> {
        operators.iter().copied().find(|operator| self.take(operator))
    }

    /// Reads an operand, counting it only where `counts`.
    fn operand<T>(&mut self, counts: bool, read: impl FnOnce(&mut Self) -> T) -> T {
        let before = self.skips;
        self.skips |= !counts;
        let value = read(self);
        self.skips = before;
        value
    }
}

impl Run<'_> {
    /// The value of an expression as the shell writes it, or an unknown.
    pub(super) fn number(&mut self, text: &[u8]) -> Vec<u8> {
        match self.computed(text) {
            Some(value) => value.to_string().into_bytes(),
            None if std::mem::take(&mut self.is_refused) => {
                self.fail(Mishap::Expansion);
                Vec::new()
            }
            None => {
                const WHY: &str = "a number that cannot be computed";
                self.lose_assigned(text);
                if !self.is_of_unknown {
                    // The shell says that it is no expression, and leaves out more than this command.
                    self.taint_for_good(WHY);
                }
                self.unknown_value(WHY)
            }
        }
    }

    /// The value of an expression that decides what is done; none where it stands on something uncertain.
    pub(super) fn deciding(&mut self, text: &[u8]) -> Option<i64> {
        let (value, is_uncertain) = self.reading(|run| run.computed(text));
        value.filter(|_| !is_uncertain)
    }

    /// The value of a subscript. Where it is no expression, the shell reads no further.
    pub(super) fn computed_index(&mut self, text: &[u8]) -> Option<i64> {
        let value = self.computed(text);
        if value.is_none() {
            // What is unknown may be no expression either.
            self.taint_for_good("a subscript that cannot be computed");
        }
        value
    }

    /// The value of an expression; `None` where it is unknown, or where the shell itself would refuse it.
    pub(super) fn computed(&mut self, text: &[u8]) -> Option<i64> {
        (self.is_refused, self.is_of_unknown) = (false, false);
        self.computed_within(text, 0)
    }

    /// Applies an operator; a division by zero is one that the shell refuses.
    fn applied(&mut self, operator: &str, left: i64, right: i64) -> Option<i64> {
        self.is_refused |= matches!(operator, "/" | "%") && right == 0;
        apply(operator, left, right)
    }

    fn computed_within(&mut self, text: &[u8], depth: u32) -> Option<i64> {
        let expanded;
        let text = if text.contains(&b'$') || text.contains(&b'`') {
            let word = Parser::in_quotes(text, self.dialect()).ok()?;
            // Quotes mean nothing in a calculation.
            expanded = self.one(&word, false).into_iter().filter(|&b| b != b'"').collect::<Vec<u8>>();
            &expanded[..]
        } else {
            text
        };
        if !is_known(text) || depth > MAX_DEPTH {
            self.is_of_unknown = true;
            return None;
        }
        let tokens = tokens(text, self.dialect())?;
        if tokens.is_empty() {
            if self.dialect() == Dialect::Posix {
                self.is_refused = true; // "expecting primary"
                return None;
            }
            return Some(0);
        }
        let mut expression = Expression { tokens, at: 0, skips: false };
        let value = self.comma(&mut expression, depth)?;
        (expression.at == expression.tokens.len()).then_some(value)
    }

    fn comma(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        let mut value = self.assignment_in(of, depth)?;
        while self.dialect() != Dialect::Posix && of.take(",") {
            value = self.assignment_in(of, depth)?;
        }
        Some(value)
    }

    fn assignment_in(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        if let Some(Token::Name(name, index)) = of.tokens.get(of.at).cloned() {
            let start = of.at;
            of.at += 1;
            let operators = ["=", "+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=", "<<=", ">>="];
            if let Some(operator) = of.take_any(&operators) {
                let right = self.assignment_in(of, depth)?;
                if of.skips {
                    return Some(0);
                }
                let new = match operator {
                    "=" => right,
                    other => {
                        let left = self.value_of(&name, index.as_deref(), depth)?;
                        self.applied(&other[..other.len() - 1], left, right)?
                    }
                };
                self.store(&name, index.as_deref(), new);
                return Some(new);
            }
            of.at = start;
        }
        self.choice(of, depth)
    }

    fn choice(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        let condition = self.level(of, 0, depth)?;
        if !of.take("?") {
            return Some(condition);
        }
        let yes = of.operand(condition != 0, |of| self.comma(of, depth))?;
        if !of.take(":") {
            return None;
        }
        let no = of.operand(condition == 0, |of| self.assignment_in(of, depth))?;
        Some(if condition != 0 { yes } else { no })
    }

    fn level(&mut self, of: &mut Expression, level: usize, depth: u32) -> Option<i64> {
        let Some(operators) = LEVELS.get(level) else { return self.power(of, depth) };
        let mut left = self.level(of, level + 1, depth)?;
        while let Some(operator) = of.take_any(operators) {
            let counts = match operator {
                "||" => left == 0,
                "&&" => left != 0,
                _ => true,
            };
            let right = of.operand(counts, |of| self.level(of, level + 1, depth))?;
            left = if of.skips { 0 } else { self.applied(operator, left, right)? };
        }
        Some(left)
    }

    /// `**`, which binds to the right.
    fn power(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        let base = self.prefix(of, depth)?;
        if self.dialect() == Dialect::Posix || !of.take("**") {
            return Some(base);
        }
        let exponent = self.power(of, depth)?;
        if of.skips { Some(0) } else { Some(base.wrapping_pow(u32::try_from(exponent).ok()?)) }
    }

    fn prefix(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        if self.dialect() != Dialect::Posix
            && let Some(operator) = of.take_any(&["++", "--"])
        {
            let Some(Token::Name(name, index)) = of.tokens.get(of.at).cloned() else { return None };
            of.at += 1;
            return self.step_by(of, &name, index.as_deref(), operator, depth).map(|(_, after)| after);
        }
        match of.take_any(&["-", "+", "!", "~"]) {
            Some("-") => self.prefix(of, depth).map(i64::wrapping_neg),
            Some("!") => self.prefix(of, depth).map(|value| i64::from(value == 0)),
            Some("~") => self.prefix(of, depth).map(|value| !value),
            Some(_) => self.prefix(of, depth),
            None => self.term(of, depth),
        }
    }

    fn term(&mut self, of: &mut Expression, depth: u32) -> Option<i64> {
        if of.take("(") {
            let value = self.comma(of, depth)?;
            return of.take(")").then_some(value);
        }
        match of.tokens.get(of.at).cloned()? {
            Token::Number(number) => {
                of.at += 1;
                Some(number)
            }
            Token::Name(name, index) => {
                of.at += 1;
                if self.dialect() != Dialect::Posix
                    && let Some(operator) = of.take_any(&["++", "--"])
                {
                    return self.step_by(of, &name, index.as_deref(), operator, depth).map(|(before, _)| before);
                }
                if of.skips { Some(0) } else { self.value_of(&name, index.as_deref(), depth) }
            }
            Token::Operator(_) => None,
        }
    }

    /// `++` and `--`: the value before and after.
    fn step_by(
        &mut self,
        of: &Expression,
        name: &[u8],
        index: Option<&[u8]>,
        operator: &str,
        depth: u32,
    ) -> Option<(i64, i64)> {
        if of.skips {
            return Some((0, 0));
        }
        let before = self.value_of(name, index, depth)?;
        let after = before.wrapping_add(if operator == "++" { 1 } else { -1 });
        self.store(name, index, after);
        Some((before, after))
    }

    /// A variable's value: in bash and zsh an expression itself.
    fn value_of(&mut self, name: &[u8], index: Option<&[u8]>, depth: u32) -> Option<i64> {
        self.reads(name);
        let text = match index {
            Some(index) => self.element(name, index),
            None => self.text_of(name),
        };
        match text {
            None if self.state.has(b"nounset") && self.dialect() == Dialect::Bash => {
                self.fail(Mishap::Unbound);
                Some(0)
            }
            // In zsh it depends on where the calculation stands whether that ends more than it.
            None if self.state.has(b"nounset") && self.dialect() == Dialect::Zsh => {
                self.taint_for_good("calculates with a variable that is not set");
                None
            }
            None => Some(0),
            Some(text) if self.dialect() == Dialect::Posix => match text.trim_ascii() {
                b"" => Some(0),
                number => {
                    self.is_of_unknown |= !is_known(number);
                    std::str::from_utf8(number).ok()?.parse().ok()
                }
            },
            Some(text) => self.computed_within(&text, depth + 1),
        }
    }

    fn store(&mut self, name: &[u8], index: Option<&[u8]>, value: i64) {
        let value = Value::Text(value.to_string().into_bytes());
        let value = match index {
            None => value,
            Some(index) => {
                let list = self.list_of(name);
                let changed = self.with_elements(name, list, index, value);
                changed.unwrap_or_else(|| Value::Text(self.unknown_value("which element of an array is assigned")))
            }
        };
        let is_new = !self.state.variables.contains_key(name);
        self.assign(name, value, false);
        // In zsh a variable that a calculation makes is a number from then on.
        if is_new
            && self.at.dialect == Dialect::Zsh
            && let Some(variable) = self.state.variables.get_mut(name)
        {
            variable.attributes.integer = index.is_none();
        }
    }
}

fn apply(operator: &str, left: i64, right: i64) -> Option<i64> {
    Some(match operator {
        "||" => i64::from(left != 0 || right != 0),
        "&&" => i64::from(left != 0 && right != 0),
        "|" => left | right,
        "^" => left ^ right,
        "&" => left & right,
        "==" => i64::from(left == right),
        "!=" => i64::from(left != right),
        "<=" => i64::from(left <= right),
        ">=" => i64::from(left >= right),
        "<" => i64::from(left < right),
        ">" => i64::from(left > right),
        "<<" => left.wrapping_shl(u32::try_from(right & 63).ok()?),
        ">>" => left.wrapping_shr(u32::try_from(right & 63).ok()?),
        "+" => left.wrapping_add(right),
        "-" => left.wrapping_sub(right),
        "*" => left.wrapping_mul(right),
        "/" => left.checked_div(right)?,
        "%" => left.checked_rem(right)?,
        _ => return None,
    })
}

fn tokens(text: &[u8], dialect: Dialect) -> Option<Vec<Token>> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while at < text.len() && tokens.len() <= MAX_TOKENS {
        let rest = &text[at..];
        let is_word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_';
        if rest[0].is_ascii_whitespace() {
            at += 1;
        } else if rest[0].is_ascii_digit() {
            let length = rest.iter().take_while(|b| is_word(b) || **b == b'#').count();
            tokens.push(Token::Number(literal(&rest[..length], dialect)?));
            at += length;
        } else if is_name(&rest[..1]) {
            let length = rest.iter().take_while(|b| is_word(b)).count();
            at += length;
            let mut index = None;
            if text.get(at) == Some(&b'[') && dialect != Dialect::Posix {
                let end = closing_bracket(&text[at..])?;
                index = Some(text[at + 1..at + end].to_vec());
                at += end + 1;
            }
            tokens.push(Token::Name(rest[..length].to_vec(), index));
        } else if let b'(' | b')' = rest[0] {
            tokens.push(Token::Operator(if rest[0] == b'(' { "(" } else { ")" }));
            at += 1;
        } else {
            let operator = OPERATORS.iter().find(|operator| rest.starts_with(operator.as_bytes()))?;
            tokens.push(Token::Operator(operator));
            at += operator.len();
        }
    }
    (tokens.len() <= MAX_TOKENS).then_some(tokens)
}

/// A number: `0x1f`; `017` but in zsh; `BASE#digits` but in the POSIX shell.
fn literal(text: &[u8], dialect: Dialect) -> Option<i64> {
    let text = std::str::from_utf8(text).ok()?;
    if let Some(digits) = text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        return i64::from_str_radix(digits, 16).ok();
    }
    if let Some((base, digits)) = text.split_once('#').filter(|_| dialect != Dialect::Posix) {
        let base = base.parse().ok().filter(|base| (2..=36).contains(base))?;
        return i64::from_str_radix(digits, base).ok();
    }
    if text.len() > 1 && text.starts_with('0') && dialect != Dialect::Zsh {
        return i64::from_str_radix(text, 8).ok();
    }
    text.parse().ok()
}
