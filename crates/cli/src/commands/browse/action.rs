//! What keys mean, and what follows from them.

use super::facts::Section;
use super::target::Target;

/// Where the keys go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Focus {
    /// The questions.
    Sections,
    /// The list below the question.
    List,
    /// Where the answer leads.
    Links,
}

/// What a key or the mouse means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    Quit,
    Up,
    Down,
    PageUp,
    PageDown,
    First,
    Last,
    /// To the next place that takes keys, or the one before.
    Next,
    Previous,
    /// Opens what is chosen.
    Open,
    /// To what was shown before.
    Back,
    /// Begins to write a filter.
    Filter,
    Letter(char),
    Rub,
    Copy,
    Help,
    /// Scrolls the answer by lines, down or up.
    Scroll(i32),
    Section(Section),
    /// A line of the list, or of the links, by its place on the screen.
    ListLine(usize),
    Link(usize),
}

/// What follows outside the screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    None,
    Quit,
    /// An answer is wanted.
    Ask(Target),
    /// A command goes to the clipboard.
    Copy(String),
}
