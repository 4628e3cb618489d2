//! The same walk line by line: for screen readers, and for terminals that cannot place text.

use std::io::{BufRead, Write};

use super::answers::Shown;
use super::facts::{Item, Section};
use super::target::Target;
use super::worker::{News, Worker};
use crate::error::CliError;
use crate::output::{self, Tone};

/// Lines that are told at once.
const AT_ONCE: usize = 20;

const HELP: &str = "\
a number: open that line          a question's name: its list
find TEXT: lines that have it     find: all lines
more: the next lines              back: what was before
again: the same once more         quit: leave";

/// What is told.
enum Told {
    List(Vec<Item>),
    Answer(Target),
}

/// The walk.
pub struct Walk<'w, R, W> {
    worker: &'w Worker,
    input: R,
    out: W,
    width: usize,
    lists: Vec<(Section, Vec<Item>)>,
    section: Section,
    told: Told,
    /// The line from which is told next.
    from: usize,
    links: Vec<(String, Target)>,
    back: Vec<Target>,
}

impl<'w, R: BufRead, W: Write> Walk<'w, R, W> {
    pub fn new(worker: &'w Worker, input: R, out: W, width: usize) -> Self {
        Walk {
            worker,
            input,
            out,
            width,
            lists: Vec::new(),
            section: Section::Machine,
            told: Told::List(Vec::new()),
            from: 0,
            links: Vec::new(),
            back: Vec::new(),
        }
    }

    /// Begins with the lines of a question that have a text; asks and tells until there is no more to read, or the user
    /// leaves.
    pub fn run(mut self, section: Section, text: &str) -> Result<(), CliError> {
        let titles: Vec<&str> = Section::ALL.iter().map(|section| section.title()).collect();
        writeln!(self.out, "Questions: {}. `help` tells what can be typed.", titles.join(", "))?;
        self.list(section, text)?;
        let mut line = String::new();
        loop {
            write!(self.out, "> ")?;
            self.out.flush()?;
            line.clear();
            if self.input.read_line(&mut line)? == 0 {
                writeln!(self.out)?;
                return Ok(());
            }
            let words = line.trim();
            let (word, rest) = words.split_once(' ').unwrap_or((words, ""));
            match word {
                "" => {}
                "quit" | "q" => return Ok(()),
                "help" | "?" => writeln!(self.out, "{HELP}")?,
                "find" => self.list(self.section, rest.trim())?,
                "more" => self.tell()?,
                "again" => {
                    self.from = 0;
                    self.tell()?;
                }
                "back" => match self.back.pop() {
                    Some(target) => self.open(target)?,
                    None => self.list(self.section, "")?,
                },
                word => match (word.parse::<usize>(), Section::ALL.iter().find(|section| section.title() == word)) {
                    (Ok(number), _) => self.number(number)?,
                    (_, Some(section)) => self.list(*section, "")?,
                    _ => writeln!(self.out, "{}: not understood (`help` tells what can be)", output::safe(word))?,
                },
            }
        }
    }

    /// The lines of a question that have a text.
    fn list(&mut self, section: Section, text: &str) -> Result<(), CliError> {
        self.section = section;
        self.back.clear();
        while !self.lists.iter().any(|(known, _)| *known == section) {
            match self.worker.next() {
                Some(News::List(known, items)) => self.lists.push((known, items)),
                Some(News::Answer(..)) => {}
                None => return Ok(()),
            }
        }
        let lower = text.to_lowercase();
        let known = self.lists.iter().find(|(known, _)| *known == section);
        let items: Vec<Item> =
            known.map(|(_, items)| items.iter().filter(|item| item.has(&lower)).cloned().collect()).unwrap_or_default();
        writeln!(self.out, "{}: {}", section.title(), output::count(items.len(), "line"))?;
        (self.told, self.from) = (Told::List(items), 0);
        self.tell()
    }

    /// Tells the next lines of the list, or where the answer leads.
    fn tell(&mut self) -> Result<(), CliError> {
        let lines: Vec<String> = match &self.told {
            Told::List(items) => items.iter().map(|item| format!("{}: {}", item.label, item.note)).collect(),
            Told::Answer(_) => self.links.iter().map(|(label, _)| label.clone()).collect(),
        };
        let until = lines.len().min(self.from + AT_ONCE);
        for (number, line) in lines.iter().enumerate().take(until).skip(self.from) {
            writeln!(self.out, "{}. {line}", number + 1)?;
        }
        if until < lines.len() {
            writeln!(self.out, "{} more (`more`)", lines.len() - until)?;
        }
        self.from = until;
        Ok(())
    }

    fn number(&mut self, number: usize) -> Result<(), CliError> {
        let at = number.checked_sub(1);
        let target = match &self.told {
            Told::List(items) => at.and_then(|at| items.get(at)).map(|item| item.target.clone()),
            Told::Answer(_) => at.and_then(|at| self.links.get(at)).map(|(_, target)| target.clone()),
        };
        let Some(target) = target else {
            writeln!(self.out, "there is no line {number}")?;
            return Ok(());
        };
        if let Told::Answer(before) = &self.told {
            self.back.push(before.clone());
        }
        self.open(target)
    }

    fn open(&mut self, target: Target) -> Result<(), CliError> {
        self.worker.ask(target.clone());
        let answer = loop {
            match self.worker.next() {
                Some(News::Answer(of, answer)) if of == target => break answer,
                Some(News::Answer(..)) => {}
                Some(News::List(section, items)) => self.lists.push((section, items)),
                None => break None,
            }
        };
        let Some(Shown { title, pieces, links, .. }) = answer else {
            writeln!(self.out, "there is nothing of that name")?;
            return Ok(());
        };
        writeln!(self.out, "{title}")?;
        for line in output::lines(&pieces, self.width) {
            let text: String = line.fitted(None).into_iter().map(|(_, text): (Tone, &str)| text).collect();
            writeln!(self.out, "{text}")?;
        }
        (self.links, self.told, self.from) = (links, Told::Answer(target), 0);
        if !self.links.is_empty() {
            writeln!(self.out, "Leads to {}:", self.links.len())?;
        }
        self.tell()
    }
}
