//! The tones of text on a terminal, and how wide it is.

use anstyle::{Ansi256Color, Style};
use unicode_width::UnicodeWidthStr as _;

/// What a span of text is to the reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// Ordinary text.
    Plain,
    /// What the line is about.
    Strong,
    /// Names and words to find one's way by.
    Accent,
    /// Something to act on.
    Warning,
    /// Asides.
    Faint,
}

impl Tone {
    /// One accent and one warning colour, both legible on black and on white.
    pub fn style(self) -> Style {
        match self {
            Tone::Plain => Style::new(),
            Tone::Strong => Style::new().bold(),
            Tone::Accent => Style::new().fg_color(Some(Ansi256Color(31).into())),
            Tone::Warning => Style::new().fg_color(Some(Ansi256Color(166).into())),
            Tone::Faint => Style::new().dimmed(),
        }
    }
}

/// The columns that a text takes on a terminal.
pub fn width_of(text: &str) -> usize {
    text.width()
}
