//! The screen: the questions on the left, the list, and on the right the answer with what it leads to.

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph};

use super::action::Focus;
use super::facts::{Item, Section};
use super::state::State;
use crate::output::{self, Tone};

/// Where things are on the screen, for the mouse.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Places {
    pub sections: Rect,
    pub list: Rect,
    /// The first line of the list that is shown.
    pub first_item: usize,
    pub links: Rect,
    pub first_link: usize,
}

/// What the keys do.
const HELP: [&str; 14] = [
    "up, down            the line above, below",
    "page up, page down  a page; of the answer, where the keys go there",
    "home, end           the first line, the last",
    "left, right, tab    between the questions, the list, and what the answer leads to",
    "enter               open: go on to what the line leads to",
    "escape, backspace   back to what was shown before; end the filter",
    "1 to 8              a question",
    "/                   filter the list: type part of a name",
    "space, b            the answer further down, up",
    "y                   copy the command of a remedy; once more: the next one",
    "                    (with the terminal's own means: some terminals refuse)",
    "mouse               click on a line; the wheel moves the answer or the list",
    "?                   this help",
    "q, ctrl-c           leave",
];

/// Draws all of it.
pub struct Screen {
    /// Whether there is colour.
    pub color: bool,
}

impl Screen {
    fn tone(&self, tone: Tone) -> Style {
        match (tone, tone.color().filter(|_| self.color)) {
            (_, Some(color)) => Style::new().fg(Color::Indexed(color)),
            (Tone::Strong | Tone::Warning, None) => Style::new().add_modifier(Modifier::BOLD),
            (Tone::Faint, None) => Style::new().add_modifier(Modifier::DIM),
            (Tone::Plain | Tone::Accent, None) => Style::new(),
        }
    }

    /// A line of a list: marked, and where the keys go reversed, so that it is seen without colour.
    fn line<'t>(&self, text: Vec<Span<'t>>, width: u16, is_chosen: bool, has_keys: bool) -> Line<'t> {
        let mark = Span::raw(if is_chosen { "› " } else { "  " });
        let mut line = Line::from(std::iter::once(mark).chain(text).collect::<Vec<_>>());
        let blanks = usize::from(width).saturating_sub(line.width());
        line.push_span(Span::raw(" ".repeat(blanks)));
        match (is_chosen, has_keys) {
            (true, true) => line.style(Style::new().add_modifier(Modifier::REVERSED)),
            (true, false) => line.style(Style::new().add_modifier(Modifier::BOLD)),
            (false, _) => line,
        }
    }

    /// Draws the screen, and says where things are on it.
    pub fn draw(&self, frame: &mut Frame<'_>, state: &mut State) -> Places {
        let [body, foot] = Layout::vertical([Constraint::Min(0), Constraint::Length(1)]).areas(frame.area());
        // A small screen is the answer's.
        let share = if body.width < 100 { 3 } else { 5 };
        let list_width = (body.width.saturating_sub(14) * (share - 1) / (2 * share)).clamp(16, 48);
        let columns = [Constraint::Length(14), Constraint::Length(list_width), Constraint::Min(0)];
        let [left, middle, right] = Layout::horizontal(columns).areas(body);
        let mut places = Places { sections: left, ..Places::default() };
        self.sections(frame, left, state);
        self.list(frame, middle, state, &mut places);
        self.answer(frame, right, state, &mut places);
        self.foot(frame, foot, state);
        if state.is_helping {
            self.help(frame, body);
        }
        places
    }

    fn sections(&self, frame: &mut Frame<'_>, area: Rect, state: &State) {
        let line = |section: &Section| {
            let tone = if state.is_read(*section) { Tone::Plain } else { Tone::Faint };
            let text = format!("{} {}", section.number() + 1, section.title());
            let is_chosen = *section == state.section;
            self.line(vec![Span::styled(text, self.tone(tone))], area.width, is_chosen, state.focus == Focus::Sections)
        };
        frame.render_widget(Paragraph::new(Section::ALL.iter().map(line).collect::<Vec<_>>()), area);
    }

    fn list(&self, frame: &mut Frame<'_>, area: Rect, state: &mut State, places: &mut Places) {
        let block = Block::new().borders(Borders::LEFT);
        let inner = block.inner(area);
        frame.render_widget(block, area);
        let [head, rows] = Layout::vertical([Constraint::Length(1), Constraint::Min(0)]).areas(inner);
        state.page = usize::from(rows.height);
        let items = state.items();
        let heading = match (state.count(state.section), state.filter(), state.is_filtering) {
            (None, ..) => format!("reading {}…", state.section.title()),
            (Some(all), "", false) => output::count(all, state.section.noun()),
            (Some(all), filter, true) => format!("/{filter}▏ {} of {all}", items.len()),
            (Some(all), filter, false) => format!("/{filter}  {} of {all}", items.len()),
        };
        frame.render_widget(Paragraph::new(Span::styled(format!(" {heading}"), self.tone(Tone::Accent))), head);
        let first = first_shown(state.chosen(), usize::from(rows.height), items.len());
        let shown = items.iter().enumerate().skip(first).take(usize::from(rows.height));
        let line = |(at, item): (usize, &&Item)| {
            let tone = if item.is_serious { Tone::Warning } else { Tone::Plain };
            let room = usize::from(rows.width).saturating_sub(2);
            let note = room.saturating_sub(output::width_of(&item.label) + 2);
            let mut spans = vec![Span::styled(clipped(&item.label, room), self.tone(tone))];
            if note > 3 && !item.note.is_empty() {
                spans.push(Span::styled(format!("  {}", clipped(&item.note, note)), self.tone(Tone::Faint)));
            }
            self.line(spans, rows.width, at == state.chosen(), state.focus == Focus::List)
        };
        frame.render_widget(Paragraph::new(shown.map(line).collect::<Vec<_>>()), rows);
        (places.list, places.first_item) = (rows, first);
    }

    fn answer(&self, frame: &mut Frame<'_>, area: Rect, state: &mut State, places: &mut Places) {
        let block = Block::new().borders(Borders::LEFT);
        let inner = block.inner(area);
        frame.render_widget(block, area);
        let Some(answer) = state.answer() else {
            let says = if state.is_waiting() { " reading…" } else { "" };
            frame.render_widget(Paragraph::new(Span::styled(says, self.tone(Tone::Faint))), inner);
            return;
        };
        let width = usize::from(inner.width).saturating_sub(2);
        let lines = output::lines(&answer.pieces, width);
        // The page has what it needs; what it leads to has the rest, a third at least.
        let count = u16::try_from(answer.links.len()).unwrap_or(u16::MAX);
        let wanted = if count == 0 { 0 } else { count.saturating_add(1) };
        let needed = u16::try_from(lines.len()).unwrap_or(u16::MAX).saturating_add(2);
        let for_links = wanted.min((inner.height / 3).max(inner.height.saturating_sub(needed)));
        let areas = [Constraint::Length(1), Constraint::Min(0), Constraint::Length(for_links)];
        let [head, text, links] = Layout::vertical(areas).areas(inner);
        let last = lines.len().saturating_sub(usize::from(text.height).max(1));
        let scroll = state.scroll.min(last);
        let more = if last > scroll { "  ↓ more" } else { "" };
        let title = vec![
            Span::styled(format!(" {}", answer.title), self.tone(Tone::Accent)),
            Span::styled(more, self.tone(Tone::Faint)),
        ];
        frame.render_widget(Paragraph::new(Line::from(title)), head);
        let shown = lines.iter().skip(scroll).take(usize::from(text.height));
        let line = |line: &output::Line| {
            let spans = line.fitted(Some(width)).into_iter();
            let spans = spans.map(|(tone, text)| Span::styled(text.to_owned(), self.tone(tone)));
            Line::from(std::iter::once(Span::raw(" ")).chain(spans).collect::<Vec<_>>())
        };
        frame.render_widget(Paragraph::new(shown.map(line).collect::<Vec<_>>()), text);
        let height = usize::from(links.height).saturating_sub(1);
        let first = first_shown(state.link, height, answer.links.len());
        let heading = Line::from(Span::styled(format!(" leads to {}", answer.links.len()), self.tone(Tone::Accent)));
        let shown = answer.links.iter().enumerate().skip(first).take(height).map(|(at, (label, _))| {
            let text = Span::raw(clipped(label, width.saturating_sub(1)));
            self.line(vec![text], links.width, at == state.link, state.focus == Focus::Links)
        });
        frame.render_widget(Paragraph::new(std::iter::once(heading).chain(shown).collect::<Vec<_>>()), links);
        (places.links, places.first_link) = (links, first);
        state.scroll = scroll;
    }

    fn foot(&self, frame: &mut Frame<'_>, area: Rect, state: &State) {
        let says = match (&*state.message, state.is_filtering) {
            ("", true) => "type part of a name   enter: done   escape: all of them",
            ("", false) => "arrows, enter: go   escape: back   /: filter   y: copy a command   ?: help   q: leave",
            (message, _) => message,
        };
        let says = clipped(says, usize::from(area.width).saturating_sub(1));
        frame.render_widget(Paragraph::new(Span::styled(format!(" {says}"), self.tone(Tone::Faint))), area);
    }

    fn help(&self, frame: &mut Frame<'_>, area: Rect) {
        let width = 78.min(area.width);
        let height = u16::try_from(HELP.len() + 2).unwrap_or(u16::MAX).min(area.height);
        let [row] = Layout::vertical([Constraint::Length(height)]).flex(ratatui::layout::Flex::Center).areas(area);
        let [middle] = Layout::horizontal([Constraint::Length(width)]).flex(ratatui::layout::Flex::Center).areas(row);
        frame.render_widget(Clear, middle);
        let text: Vec<Line<'_>> = HELP.iter().map(|line| Line::from(format!(" {line}"))).collect();
        frame.render_widget(Paragraph::new(text).block(Block::bordered().title(" keys ")), middle);
    }
}

/// The first line that is shown, so that the chosen one is in sight.
fn first_shown(chosen: usize, height: usize, count: usize) -> usize {
    let last = count.saturating_sub(height);
    chosen.saturating_sub(height / 2).min(last)
}

/// A text of no more than this width, with `…` at its end where it is cut.
fn clipped(text: &str, width: usize) -> String {
    let line = output::Line::of(Tone::Plain, text);
    line.fitted(Some(width)).into_iter().map(|(_, text)| text).collect()
}
