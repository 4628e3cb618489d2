//! Lines for a user at a terminal: spans of text, each with a tone, cut to the terminal's width.

use std::io::{self, Write};

use anstyle::Style;
use textwrap::{Options, WordSeparator, WordSplitter};
use unicode_truncate::UnicodeTruncateStr as _;
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::host::{Host, User};
use whodunit_core::model::{ManagerId, Owner, Scope, Status};

use super::links::Links;
use super::table::{self, Grid};
use super::text::{Tone, width_of};

/// One line.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Line(Vec<(Tone, String)>);

impl Line {
    /// An empty line.
    pub fn blank() -> Self {
        Line::default()
    }

    /// A line that begins with this text.
    pub fn of(tone: Tone, text: impl Into<String>) -> Self {
        Line::blank().and(tone, text)
    }

    /// The line with more text behind it.
    #[must_use]
    pub fn and(mut self, tone: Tone, text: impl Into<String>) -> Self {
        self.0.push((tone, text.into()));
        self
    }

    /// The line with blanks behind it up to a column, two at least where there is text already.
    #[must_use]
    pub fn to(self, column: usize) -> Self {
        let width: usize = self.0.iter().map(|(_, text)| width_of(text)).sum();
        let blanks = if width == 0 { column } else { column.saturating_sub(width).max(2) };
        self.and(Tone::Plain, " ".repeat(blanks))
    }

    /// The spans of the line as far as they fit, with `…` behind them where some text does not; no blanks at the end.
    pub fn fitted(&self, width: Option<usize>) -> Vec<(Tone, &str)> {
        let whole: usize = self.0.iter().map(|(_, text)| width_of(text)).sum();
        let cut = width.is_some_and(|width| whole > width);
        let mut left = width.map_or(usize::MAX, |width| if cut { width.saturating_sub(1) } else { width });
        let spans = self.0.iter().rposition(|(_, text)| !text.trim().is_empty()).map_or(0, |last| last + 1);
        let mut fitted = Vec::with_capacity(spans + 1);
        for (index, (tone, text)) in self.0.iter().enumerate().take(spans) {
            let text = if index + 1 == spans { text.trim_end() } else { text };
            let (fitting, width) = text.unicode_truncate(left);
            left = if fitting.len() < text.len() { 0 } else { left - width };
            fitted.push((*tone, fitting));
        }
        if cut {
            fitted.push((Tone::Plain, "…"));
        }
        fitted
    }

    /// The line in as many as it takes, each of no more than this width and broken between words where that can be.
    fn broken(&self, width: usize) -> Vec<Line> {
        let indent = self.indent().min(width / 3);
        let mut lines = vec![Line::blank()];
        let mut left = width;
        for (tone, text) in &self.0 {
            let mut rest = text.as_str();
            while !rest.is_empty() {
                let (mut fitting, mut taken) = rest.unicode_truncate(left);
                let is_fresh = left + indent >= width;
                if fitting.len() < rest.len() {
                    match fitting.rfind(' ').filter(|at| *at > 0 || !is_fresh) {
                        Some(at) => fitting = &fitting[..=at],
                        // A word that fits into a line of its own begins there.
                        None if !is_fresh => fitting = "",
                        None => {}
                    }
                    taken = width_of(fitting);
                }
                // A letter that is wider than the line is left out, rather than tried for ever.
                let none_fits = fitting.is_empty() && is_fresh;
                rest = if none_fits {
                    rest.char_indices().nth(1).map_or("", |(at, _)| &rest[at..])
                } else {
                    &rest[fitting.len()..]
                };
                left -= taken;
                if let Some(last) = lines.last_mut() {
                    last.0.push((*tone, fitting.to_owned()));
                }
                if !rest.is_empty() {
                    lines.push(Line::of(Tone::Plain, " ".repeat(indent)));
                    left = width - indent;
                }
            }
        }
        lines
    }

    /// The column at which the text begins behind a label, or that of the first letter where there is no label.
    fn indent(&self) -> usize {
        let mut text: String = self.0.iter().map(|(_, text)| text.as_str()).collect();
        text.truncate(text.trim_end().len());
        let start = text.len() - text.trim_start().len();
        let label = text[start..].find("  ").map(|at| start + at);
        let behind = label.map(|at| at + (text[at..].len() - text[at..].trim_start().len()));
        width_of(&text[..behind.unwrap_or(start)])
    }
}

/// What a page is made of.
#[derive(Debug, Clone)]
pub enum Piece {
    /// A line of its own.
    Line(Line),
    /// A line that is never cut: a command that is typed must be whole.
    Whole(Line),
    /// Rows with aligned columns.
    Table(Grid),
    /// A sentence or two behind a label, folded between words where the terminal is not wide enough.
    Paragraph {
        /// The column at which the text begins, on every line.
        column: usize,
        /// The text before it on the first line.
        label: Line,
        /// How the text is shown.
        tone: Tone,
        /// The text.
        text: String,
    },
}

impl From<Line> for Piece {
    fn from(line: Line) -> Self {
        Piece::Line(line)
    }
}

/// A paragraph is never folded to less than this.
const NARROWEST: usize = 24;

/// The lines of a paragraph.
fn folded(column: usize, label: &Line, tone: Tone, text: &str, width: Option<usize>) -> Vec<Line> {
    let room = width.map_or(usize::MAX, |width| width.saturating_sub(column).max(NARROWEST));
    let options = Options::new(room).break_words(false).word_splitter(WordSplitter::NoHyphenation);
    let options = options.word_separator(WordSeparator::AsciiSpace);
    let lines = textwrap::wrap(text, options).into_iter().enumerate().map(|(number, part)| {
        let start = if number == 0 { label.clone() } else { Line::blank() };
        start.to(column).and(tone, part)
    });
    lines.collect()
}

/// The lines of a page in a part of a screen that is so wide: they are broken, and only tables are cut.
pub fn lines(pieces: &[Piece], width: usize) -> Vec<Line> {
    let of_piece = |piece: &Piece| match piece {
        Piece::Line(line) | Piece::Whole(line) => line.broken(width.max(1)),
        Piece::Table(grid) => {
            table::rows(grid, Some(width), false).into_iter().map(|row| Line::of(Tone::Plain, row)).collect()
        }
        Piece::Paragraph { column, label, tone, text } => {
            label.clone().to(*column).and(*tone, text.as_str()).broken(width.max(1))
        }
    };
    pieces.iter().flat_map(of_piece).collect()
}

/// Writes the page; what is longer than the terminal is wide ends in `…`.
pub fn write(
    out: &mut impl Write,
    pieces: &[Piece],
    width: Option<usize>,
    color: bool,
    links: &Links,
) -> io::Result<()> {
    for piece in pieces {
        let (line, width) = match piece {
            Piece::Line(line) => (line, width),
            Piece::Whole(line) => (line, None),
            Piece::Table(grid) => {
                table::aligned(out, grid, width, color)?;
                continue;
            }
            Piece::Paragraph { column, label, tone, text } => {
                let lines = folded(*column, label, *tone, text, width);
                write(out, &lines.into_iter().map(Piece::Line).collect::<Vec<Piece>>(), width, color, links)?;
                continue;
            }
        };
        let spans = line.fitted(width);
        for (number, (tone, text)) in spans.iter().enumerate() {
            let style = if color && !text.is_empty() { tone.style() } else { Style::new() };
            let is_cut = spans.get(number + 1).is_some_and(|(_, next)| *next == "…");
            write!(out, "{style}")?;
            links.write(out, text, is_cut)?;
            write!(out, "{style:#}")?;
        }
        writeln!(out)?;
    }
    Ok(())
}

/// `  (read: dpkg, flatpak)`: of many managers, the first.
fn managers_read(managers: &[ManagerId]) -> String {
    const MOST: usize = 12;
    let mut names: Vec<&str> = managers.iter().map(|manager| manager.0).collect();
    let rest = names.len().saturating_sub(MOST);
    names.truncate(MOST);
    match (names.join(", "), rest) {
        (names, _) if names.is_empty() => names,
        (names, 0) => format!("  (read: {names})"),
        (names, rest) => format!("  (read: {names} and {rest} more)"),
    }
}

/// How things are shown to this reader.
pub struct Presenter {
    users: Vec<User>,
    /// How many users' sessions are looked at.
    viewers: usize,
    on_terminal: bool,
    /// The managers whose records could be read, for the end of a line; nothing where there is none.
    pub managers_read: String,
    /// The machine's name.
    pub host: Option<ByteString>,
}

impl Presenter {
    pub fn new(host: &Host, viewers: usize, on_terminal: bool, managers: &[ManagerId]) -> Self {
        Presenter {
            users: host.users.clone(),
            viewers,
            on_terminal,
            managers_read: managers_read(managers),
            host: host.hostname(),
        }
    }

    /// For whom something is so, where it is not so for every user who is looked at.
    pub fn whose(&self, users: &[ByteString]) -> Option<String> {
        let is_of_some = !users.is_empty() && users.len() < self.viewers;
        is_of_some.then(|| format!("for {}", super::names(users)))
    }

    /// A path with a home shortened: `~` for the only user, `~name` for one of several.
    pub fn path(&self, whole: &ByteString) -> String {
        for user in self.users.iter().filter(|user| user.home.len() > 1) {
            if path::within(whole, &user.home) {
                let rest = self.short(&whole[user.home.len()..]);
                return match self.users.len() {
                    1 => format!("~{rest}"),
                    _ => format!("~{}{rest}", user.name),
                };
            }
        }
        self.short(whole)
    }

    /// A path on a terminal, where the hash of a store path would fill half a line.
    fn short(&self, whole: &[u8]) -> String {
        let hashed = |store: &&str| whole.strip_prefix(store.as_bytes()).filter(|below| is_hashed(below));
        match ["/nix/store/", "/gnu/store/"].iter().find(|store| hashed(store).is_some()) {
            Some(store) if self.on_terminal => {
                let below = &whole[store.len()..];
                format!("{store}{}…{}", ByteString::from(&below[..6]), ByteString::from(&below[32..]))
            }
            _ => ByteString::from(whole).to_string(),
        }
    }

    /// Who placed a link, from the package's id: `nix · user-environment`.
    pub fn placer(&self, id: &ByteString) -> String {
        // MANAGER/SCOPE/NAME, with more behind it where that tells several of one name apart.
        let mut parts = id.split(|&b| b == b'/');
        let (manager, name) = (parts.next().unwrap_or_default(), parts.nth(1).unwrap_or_default());
        let name = if name == b"store" { path::name(id) } else { name };
        let name = if is_hashed(name) { &name[33..] } else { name };
        format!("{} · {}", ByteString::from(manager), ByteString::from(name))
    }

    /// `dpkg`, with the user's name where it is not the system's.
    pub fn installation(&self, manager: ManagerId, scope: &Scope) -> String {
        match scope {
            Scope::System => manager.to_string(),
            Scope::User(name) => format!("{manager} · {name}"),
            Scope::Environment(dir) => format!("{manager} · in {}", self.path(dir)),
        }
    }

    /// `dpkg · pegel 4.2-1`, with the user's name where it is not the system's.
    pub fn owner(&self, owner: &Owner) -> String {
        let version = owner.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        let whose = match &owner.scope {
            Scope::System => String::new(),
            Scope::User(name) => format!(" · {name}"),
            Scope::Environment(dir) => format!(" · in {}", self.path(dir)),
        };
        let state = match owner.status {
            Status::Installed => "",
            Status::ConfigRemains => " (removed; its configuration files remain)",
            Status::Broken => " (broken)",
            Status::Disabled => " (disabled)",
        };
        format!("{} · {}{version}{whose}{state}", owner.manager, owner.full_name())
    }
}

/// Whether a name begins as those in a store do: 32 characters and a hyphen.
fn is_hashed(name: &[u8]) -> bool {
    name.len() > 33 && name[32] == b'-' && name[..32].iter().all(u8::is_ascii_alphanumeric)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_cut_and_only_coloured_where_wanted() {
        let line = Line::of(Tone::Strong, "pegel").to(10).and(Tone::Warning, "no owner 水水");
        let shown = |width, color| {
            let mut out = Vec::new();
            write(&mut out, &[Piece::Line(line.clone())], width, color, &Links::default()).unwrap();
            String::from_utf8(out).unwrap()
        };
        assert_eq!(shown(None, false), "pegel     no owner 水水\n");
        assert_eq!(shown(Some(23), false), "pegel     no owner 水水\n");
        assert_eq!(shown(Some(22), false), "pegel     no owner 水…\n");
        assert_eq!(shown(Some(12), true), "\u{1b}[1mpegel\u{1b}[0m     \u{1b}[38;5;166mn\u{1b}[0m…\n");
    }

    #[test]
    fn lines_are_broken_between_words_below_their_text() {
        let label = || Line::blank().to(2).and(Tone::Faint, "to mend").to(12);
        let whole = "sudo chmod o-w -- /opt/harbour/bin";
        for (line, width, expected) in [
            (label().and(Tone::Accent, whole), 60, &["  to mend   sudo chmod o-w -- /opt/harbour/bin"][..]),
            (label().and(Tone::Accent, whole), 36, &["  to mend   sudo chmod o-w --", "            /opt/harbour/bin"]),
            // Half of a narrow screen is not blanks, and what fits no line is broken anyhow.
            (
                label().and(Tone::Accent, whole),
                15,
                &["  to mend   ", "     sudo ", "     chmod o-w ", "     -- ", "     /opt/harbo", "     ur/bin"],
            ),
            (Line::of(Tone::Plain, "水水水"), 4, &["水水", "水"]),
            (Line::of(Tone::Plain, "水a"), 1, &["", "a"]),
            (Line::blank(), 5, &[""]),
        ] {
            let broken = lines(&[line.into()], width);
            let texts: Vec<String> =
                broken.iter().map(|line| line.0.iter().map(|(_, text)| text.as_str()).collect()).collect();
            let trimmed: Vec<&str> = texts.iter().map(|text| text.trim_end()).collect();
            let expected: Vec<&str> = expected.iter().map(|text| text.trim_end()).collect();
            assert_eq!(trimmed, expected, "{width}");
        }
    }
}
