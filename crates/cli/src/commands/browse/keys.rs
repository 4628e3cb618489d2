//! What keys and the mouse mean.

use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEventKind};
use ratatui::layout::{Position, Rect};

use super::action::Action;
use super::draw::Places;
use super::facts::Section;

/// Lines that one turn of the wheel moves.
const WHEEL: i32 = 3;

/// What an event means; nothing, where it means nothing here.
pub fn action(event: &Event, places: &Places, is_filtering: bool) -> Option<Action> {
    match event {
        Event::Key(key) if key.kind != KeyEventKind::Release => of_key(*key, is_filtering),
        Event::Mouse(mouse) => {
            let at = Position::new(mouse.column, mouse.row);
            match mouse.kind {
                MouseEventKind::Down(MouseButton::Left) => clicked(at, places),
                MouseEventKind::ScrollDown if places.list.contains(at) => Some(Action::Down),
                MouseEventKind::ScrollUp if places.list.contains(at) => Some(Action::Up),
                MouseEventKind::ScrollDown => Some(Action::Scroll(WHEEL)),
                MouseEventKind::ScrollUp => Some(Action::Scroll(-WHEEL)),
                _ => None,
            }
        }
        _ => None,
    }
}

fn of_key(key: KeyEvent, is_filtering: bool) -> Option<Action> {
    let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(match key.code {
        KeyCode::Char('c' | 'd') if is_control => Action::Quit,
        KeyCode::Up => Action::Up,
        KeyCode::Down => Action::Down,
        KeyCode::PageUp => Action::PageUp,
        KeyCode::PageDown => Action::PageDown,
        KeyCode::Home => Action::First,
        KeyCode::End => Action::Last,
        KeyCode::Enter => Action::Open,
        KeyCode::Esc => Action::Back,
        KeyCode::Tab | KeyCode::Right => Action::Next,
        KeyCode::BackTab | KeyCode::Left => Action::Previous,
        KeyCode::Backspace if is_filtering => Action::Rub,
        KeyCode::Backspace => Action::Back,
        KeyCode::Char(letter) if is_filtering && !is_control => Action::Letter(letter),
        KeyCode::Char('q') => Action::Quit,
        KeyCode::Char('/') => Action::Filter,
        KeyCode::Char('y') => Action::Copy,
        KeyCode::Char('?') => Action::Help,
        KeyCode::Char(' ') => Action::Scroll(10),
        KeyCode::Char('b') => Action::Scroll(-10),
        KeyCode::Char(digit) => {
            let number = digit.to_digit(10).and_then(|digit| usize::try_from(digit).ok())?.checked_sub(1)?;
            Action::Section(*Section::ALL.get(number)?)
        }
        _ => return None,
    })
}

fn clicked(at: Position, places: &Places) -> Option<Action> {
    let row = |area: Rect| usize::from(at.y - area.y);
    if places.sections.contains(at) {
        return Section::ALL.get(row(places.sections)).map(|section| Action::Section(*section));
    }
    if places.list.contains(at) {
        return Some(Action::ListLine(places.first_item + row(places.list)));
    }
    // The first line of the links is their heading.
    let link = places.links.contains(at).then(|| row(places.links).checked_sub(1)).flatten();
    link.map(|link| Action::Link(places.first_link + link))
}
