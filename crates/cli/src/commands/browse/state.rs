//! What is on the screen, and how keys change it. Knows no terminal.

use std::collections::HashMap;

use super::action::{Action, Effect, Focus};
use super::answers::Shown;
use super::facts::{Item, Section};
use super::list::List;
use super::target::Target;
use super::worker::News;

/// Everything on the screen.
pub struct State {
    pub section: Section,
    pub focus: Focus,
    /// Whether letters go into the filter.
    pub is_filtering: bool,
    pub is_helping: bool,
    pub message: String,
    /// The first line of the answer that is shown.
    pub scroll: usize,
    pub link: usize,
    lists: HashMap<Section, List>,
    answers: HashMap<Target, Option<Shown>>,
    shown: Option<Target>,
    back: Vec<Target>,
    copied: usize,
    /// The filter that the first list begins with.
    first_filter: String,
    /// Lines that a page has: how far a whole page goes.
    pub page: usize,
}

impl State {
    /// Nothing is read yet; the list of this question begins with what has a text.
    pub fn new(section: Section, text: &str) -> Self {
        State {
            section,
            first_filter: text.to_owned(),
            focus: Focus::List,
            is_filtering: false,
            is_helping: false,
            message: String::new(),
            scroll: 0,
            link: 0,
            lists: HashMap::new(),
            answers: HashMap::new(),
            shown: None,
            back: Vec::new(),
            copied: 0,
            page: 10,
        }
    }

    /// Whether a list was read.
    pub fn is_read(&self, section: Section) -> bool {
        self.lists.contains_key(&section)
    }

    /// How many things a list has, where it was read.
    pub fn count(&self, section: Section) -> Option<usize> {
        let things = |list: &List| list.items.iter().filter(|item| item.target != Target::Machine).count();
        self.lists.get(&section).map(things)
    }

    /// The lines of the list that the filter lets through.
    pub fn items(&self) -> Vec<&Item> {
        self.lists
            .get(&self.section)
            .map_or(Vec::new(), |list| list.passing.iter().map(|at| &list.items[*at]).collect())
    }

    pub fn chosen(&self) -> usize {
        self.lists.get(&self.section).map_or(0, |list| list.chosen)
    }

    pub fn filter(&self) -> &str {
        self.lists.get(&self.section).map_or("", |list| &list.filter)
    }

    /// What is shown on the right; none while it is read.
    pub fn answer(&self) -> Option<&Shown> {
        self.answers.get(self.shown.as_ref()?)?.as_ref()
    }

    /// Whether an answer is awaited.
    pub fn is_waiting(&self) -> bool {
        self.shown.as_ref().is_some_and(|target| !self.answers.contains_key(target))
    }

    /// Takes what was read.
    pub fn take(&mut self, news: News) -> Effect {
        match news {
            News::List(section, items) => {
                let filter =
                    if section == self.section { std::mem::take(&mut self.first_filter) } else { String::new() };
                let mut list = List { items, filter, ..List::default() };
                list.sift();
                self.lists.insert(section, list);
                if section == self.section && self.shown.is_none() { self.show_chosen() } else { Effect::None }
            }
            News::Answer(target, answer) => {
                self.answers.insert(target, answer);
                Effect::None
            }
        }
    }

    /// Does what a key means.
    pub fn act(&mut self, action: Action) -> Effect {
        if self.is_helping {
            self.is_helping = false;
            return if action == Action::Quit { Effect::Quit } else { Effect::None };
        }
        self.message.clear();
        if action != Action::Copy {
            self.copied = 0;
        }
        match action {
            Action::Quit => return Effect::Quit,
            Action::Help => self.is_helping = true,
            Action::Copy => return self.copy(),
            Action::Scroll(lines) => self.scroll_by(lines),
            Action::Next | Action::Previous => self.move_focus(action == Action::Next),
            Action::Section(section) => return self.go_to(section),
            Action::Open => return self.open(),
            Action::Back => return self.go_back(),
            Action::Filter => {
                self.focus = Focus::List;
                self.is_filtering = true;
            }
            Action::Letter(letter) => return self.sift(|filter| filter.push(letter)),
            Action::Rub => {
                return self.sift(|filter| {
                    filter.pop();
                });
            }
            Action::ListLine(at) => {
                self.focus = Focus::List;
                return self.choose(at);
            }
            Action::Link(at) => {
                self.focus = Focus::Links;
                self.link = at;
                return self.open();
            }
            Action::Up => return self.step(-1),
            Action::Down => return self.step(1),
            Action::PageUp | Action::PageDown => {
                let page = i32::try_from(self.page.max(2) - 1).unwrap_or(i32::MAX);
                let lines = if action == Action::PageUp { -page } else { page };
                match self.focus {
                    Focus::List => return self.step(lines),
                    _ => self.scroll_by(lines),
                }
            }
            Action::First => return self.step(i32::MIN),
            Action::Last => return self.step(i32::MAX),
        }
        Effect::None
    }

    fn scroll_by(&mut self, lines: i32) {
        let by = usize::try_from(lines.unsigned_abs()).unwrap_or(usize::MAX);
        self.scroll = if lines < 0 { self.scroll.saturating_sub(by) } else { self.scroll.saturating_add(by) };
    }

    fn move_focus(&mut self, is_forward: bool) {
        self.is_filtering = false;
        let has_links = self.answer().is_some_and(|answer| !answer.links.is_empty());
        self.focus = match (self.focus, is_forward) {
            (Focus::Sections, true) => Focus::List,
            (Focus::List, true) if has_links => Focus::Links,
            (Focus::Links, true) | (Focus::List, false) => Focus::Sections,
            (Focus::Sections, false) if has_links => Focus::Links,
            (Focus::List, true) => Focus::Sections,
            (Focus::Sections | Focus::Links, false) => Focus::List,
        };
    }

    /// Moves what is chosen, where the keys go.
    fn step(&mut self, by: i32) -> Effect {
        let moved = |at: usize, count: usize| {
            let last = i64::try_from(count.saturating_sub(1)).unwrap_or(i64::MAX);
            let to = i64::try_from(at).unwrap_or(0).saturating_add(i64::from(by)).clamp(0, last);
            usize::try_from(to).unwrap_or(0)
        };
        match self.focus {
            Focus::Sections => self.go_to(Section::ALL[moved(self.section.number(), Section::ALL.len())]),
            Focus::List => {
                let count = self.items().len();
                self.choose(moved(self.chosen(), count))
            }
            Focus::Links => {
                let count = self.answer().map_or(0, |answer| answer.links.len());
                self.link = moved(self.link, count);
                Effect::None
            }
        }
    }

    fn go_to(&mut self, section: Section) -> Effect {
        self.section = section;
        self.is_filtering = false;
        self.show_chosen()
    }

    fn choose(&mut self, at: usize) -> Effect {
        if let Some(list) = self.lists.get_mut(&self.section).filter(|list| at < list.passing.len()) {
            list.chosen = at;
        }
        self.show_chosen()
    }

    fn sift(&mut self, change: impl FnOnce(&mut String)) -> Effect {
        if let Some(list) = self.lists.get_mut(&self.section) {
            change(&mut list.filter);
            list.chosen = 0;
            list.sift();
        }
        self.show_chosen()
    }

    /// Shows what is chosen in the list.
    fn show_chosen(&mut self) -> Effect {
        self.back.clear();
        match self.items().get(self.chosen()).map(|item| item.target.clone()) {
            Some(target) => self.show(target),
            None => {
                self.shown = None;
                Effect::None
            }
        }
    }

    fn show(&mut self, target: Target) -> Effect {
        if self.shown.as_ref() != Some(&target) {
            (self.scroll, self.link) = (0, 0);
        }
        self.shown = Some(target.clone());
        if self.answers.contains_key(&target) { Effect::None } else { Effect::Ask(target) }
    }

    fn open(&mut self) -> Effect {
        if self.is_filtering {
            self.is_filtering = false;
            return Effect::None;
        }
        match self.focus {
            Focus::Sections => {
                self.focus = Focus::List;
                Effect::None
            }
            Focus::List => {
                self.move_focus(true);
                Effect::None
            }
            Focus::Links => {
                let link = self.answer().and_then(|answer| answer.links.get(self.link));
                let Some((_, target)) = link.cloned() else { return Effect::None };
                self.back.extend(self.shown.clone());
                self.show(target)
            }
        }
    }

    /// Ends the filter, or goes to what was shown before, or to the list.
    fn go_back(&mut self) -> Effect {
        if self.is_filtering || (self.back.is_empty() && !self.filter().is_empty() && self.focus == Focus::List) {
            self.is_filtering = false;
            return self.sift(String::clear);
        }
        match self.back.pop() {
            Some(target) => self.show(target),
            None => {
                self.focus = Focus::List;
                Effect::None
            }
        }
    }

    /// The command that is copied next: each key press takes the next one of the page.
    fn copy(&mut self) -> Effect {
        let commands = self.answer().map(|answer| answer.commands.clone()).unwrap_or_default();
        let Some(command) = commands.get(self.copied % commands.len().max(1)) else {
            "there is no command here to copy".clone_into(&mut self.message);
            return Effect::None;
        };
        self.copied += 1;
        self.message = format!("copied: {command}");
        Effect::Copy(command.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use whodunit_core::bytes::ByteString;

    fn item(name: &str) -> Item {
        let target = Target::Name(ByteString::from(name));
        Item { label: name.to_owned(), note: String::new(), is_serious: false, target }
    }

    fn target(name: &str) -> Target {
        Target::Name(ByteString::from(name))
    }

    /// A list of names, and an answer to the first that leads to another and has two commands.
    fn state() -> State {
        let mut state = State::new(Section::Names, "");
        let items = ["anchor", "buoy", "bowline"].map(item).to_vec();
        assert_eq!(state.take(News::List(Section::Names, items)), Effect::Ask(target("anchor")));
        assert!(state.is_waiting());
        let links = vec![("elsewhere".to_owned(), target("mast"))];
        let answer = Shown { links, commands: vec!["one".to_owned(), "two".to_owned()], ..Shown::default() };
        state.take(News::Answer(target("anchor"), Some(answer)));
        state
    }

    #[test]
    fn a_filter_narrows_the_list_and_ends_with_escape() {
        let mut state = state();
        state.act(Action::Filter);
        assert_eq!(state.act(Action::Letter('b')), Effect::Ask(target("buoy")));
        state.act(Action::Letter('O'));
        state.act(Action::Letter('w'));
        let labels = |state: &State| state.items().iter().map(|item| item.label.clone()).collect::<Vec<_>>();
        assert_eq!(labels(&state), ["bowline"]);
        state.act(Action::Letter('x'));
        assert!(labels(&state).is_empty() && state.answer().is_none() && !state.is_waiting());
        state.act(Action::Rub);
        assert_eq!(labels(&state), ["bowline"]);
        state.act(Action::Back);
        assert_eq!((labels(&state).len(), state.is_filtering, state.filter()), (3, false, ""));
    }

    #[test]
    fn the_first_list_begins_with_what_was_asked_for() {
        let mut state = State::new(Section::Names, "Buo");
        let items = || ["anchor", "buoy"].map(item).to_vec();
        assert_eq!(state.take(News::List(Section::Packages, items())), Effect::None);
        assert_eq!(state.take(News::List(Section::Names, items())), Effect::Ask(target("buoy")));
        assert_eq!((state.items().len(), state.filter()), (1, "Buo"));
        state.act(Action::Section(Section::Packages));
        assert_eq!((state.items().len(), state.filter()), (2, ""));
    }

    #[test]
    fn links_lead_on_and_back() {
        let mut state = state();
        state.act(Action::Open);
        assert_eq!(state.focus, Focus::Links);
        assert_eq!(state.act(Action::Open), Effect::Ask(target("mast")));
        assert!(state.is_waiting() && state.answer().is_none());
        // There is no such thing: nothing is shown, and nothing is awaited.
        state.take(News::Answer(target("mast"), None));
        assert!(!state.is_waiting() && state.answer().is_none());
        assert_eq!(state.act(Action::Back), Effect::None);
        assert!(state.answer().is_some());
        state.act(Action::Back);
        assert_eq!(state.focus, Focus::List);
    }

    #[test]
    fn commands_are_copied_one_after_the_other() {
        let mut state = state();
        for expected in ["one", "two", "one"] {
            assert_eq!(state.act(Action::Copy), Effect::Copy(expected.to_owned()));
        }
        state.act(Action::Down);
        assert_eq!(state.act(Action::Copy), Effect::None);
        assert_eq!(state.message, "there is no command here to copy");
    }

    #[test]
    fn keys_go_nowhere_beyond_the_ends_and_before_anything_is_read() {
        let mut state = State::new(Section::Machine, "");
        for action in [Action::Down, Action::Last, Action::Open, Action::Open, Action::Back, Action::Copy, Action::Rub]
        {
            assert_eq!(state.act(action), Effect::None, "{action:?}");
        }
        let mut state = self::state();
        state.act(Action::Last);
        assert_eq!(state.chosen(), 2);
        state.act(Action::Down);
        assert_eq!(state.chosen(), 2);
        state.act(Action::First);
        state.act(Action::Up);
        assert_eq!(state.chosen(), 0);
        state.act(Action::Help);
        assert_eq!(state.act(Action::Down), Effect::None);
        assert!(!state.is_helping);
        assert_eq!(state.act(Action::Quit), Effect::Quit);
    }
}
