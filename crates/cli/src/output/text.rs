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
    /// Its colour of the 256, where it has one: one accent and one warning, both legible on black and on white.
    pub fn color(self) -> Option<u8> {
        match self {
            Tone::Accent => Some(31),
            Tone::Warning => Some(166),
            Tone::Plain | Tone::Strong | Tone::Faint => None,
        }
    }

    /// How it is written where there is colour.
    pub fn style(self) -> Style {
        match self {
            Tone::Strong => Style::new().bold(),
            Tone::Faint => Style::new().dimmed(),
            Tone::Plain | Tone::Accent | Tone::Warning => {
                Style::new().fg_color(self.color().map(|color| Ansi256Color(color).into()))
            }
        }
    }
}

/// The columns that a text takes on a terminal.
pub fn width_of(text: &str) -> usize {
    text.width()
}
