//! The parts of the settings that `check` honours: what is accepted, what is expected, and what is the same software.

use serde::Deserialize;
use toml::Spanned;
use whodunit_core::bytes::ByteString;
use whodunit_core::checks::{Accepted, Expected};
use whodunit_core::identity::Rules;
use whodunit_core::managers;
use whodunit_core::model::{Evidence, FindingKind, ManagerId};
use whodunit_core::resolve::Context;

use super::Mistake;

/// A finding that is accepted, as it is written.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Accept {
    kind: Spanned<String>,
    subject: Option<String>,
    reason: Spanned<String>,
    until: Option<Spanned<toml::Value>>,
}

/// A command's manager, as it is written.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expect {
    command: Spanned<String>,
    manager: Spanned<String>,
    #[serde(default)]
    contexts: Vec<Spanned<String>>,
}

/// The configuration's rules about which packages are the same software, as written.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Titles {
    same: Vec<Spanned<Vec<String>>>,
    different: Vec<Spanned<Vec<String>>>,
}

fn mistake<T>(at: &Spanned<T>, says: impl Into<String>) -> Mistake {
    Mistake { at: at.span().start, says: says.into() }
}

fn manager(name: &str) -> Option<ManagerId> {
    managers::ALL.iter().map(|manager| manager.id()).find(|id| id.0 == name)
}

/// Parses kind, day and reason as far as possible. `line` gives the line of a position in the file.
pub fn accepted(one: &Accept, file: &ByteString, line: &dyn Fn(usize) -> u32) -> Result<Accepted, Mistake> {
    let kind = FindingKind::ALL.iter().find(|kind| kind.to_string() == *one.kind.get_ref()).copied();
    let kind = kind.ok_or_else(|| {
        mistake(&one.kind, format!("{}: no such kind of finding (whodunit explain lists them)", one.kind.get_ref()))
    })?;
    let reason = one.reason.get_ref().trim();
    if reason.is_empty() {
        return Err(mistake(&one.reason, "an accepted finding needs a reason"));
    }
    let day = one.until.as_ref().map(|until| {
        // A date of TOML's own, or one in quotes.
        let text = match until.get_ref() {
            toml::Value::Datetime(date) => date.to_string(),
            toml::Value::String(text) => text.clone(),
            other => other.to_string(),
        };
        let day: Result<jiff::civil::Date, _> = text.parse();
        day.map_err(|_| mistake(until, format!("{text}: not a date (YYYY-MM-DD)")))
    });
    let day = day.transpose()?;
    let end = day.and_then(|day| day.tomorrow().ok()?.in_tz("UTC").ok());
    Ok(Accepted {
        kind,
        subject: one.subject.as_ref().map(|subject| subject.as_str().into()),
        reason: reason.to_owned(),
        until: end.map(|end| end.timestamp().as_second()),
        day: day.map(|day| day.to_string()),
        place: Evidence::line(file.clone(), line(one.kind.span().start), "accepted"),
    })
}

/// The expected owner of a command.
pub fn expected(one: &Expect, file: &ByteString, line: &dyn Fn(usize) -> u32) -> Result<Expected, Mistake> {
    let command = one.command.get_ref();
    if command.is_empty() || command.contains('/') {
        return Err(mistake(&one.command, "a command name without a slash is expected"));
    }
    let name = one.manager.get_ref();
    let manager = manager(name).ok_or_else(|| mistake(&one.manager, format!("{name}: no such manager")))?;
    let mut contexts = Vec::new();
    for word in one.contexts.iter().filter(|word| word.get_ref() != "all") {
        let context = Context::ALL.into_iter().find(|context| context.word() == word.get_ref());
        contexts.push(context.ok_or_else(|| mistake(word, format!("{}: no such context", word.get_ref())))?);
    }
    let says = format!("{command} from {name}");
    let place = Evidence::line(file.clone(), line(one.command.span().start), says);
    Ok(Expected { command: command.as_str().into(), manager, contexts, place })
}

/// The rules for titles. A list that would make one title of two packages of one manager is a mistake.
pub fn rules(titles: &Titles) -> Result<Rules, Mistake> {
    let words = |list: &Spanned<Vec<String>>| -> Result<Vec<ByteString>, Mistake> {
        for word in list.get_ref() {
            if let Some((before, name)) = word.split_once(':')
                && (manager(before).is_none() || name.is_empty())
            {
                return Err(mistake(list, format!("{word}: MANAGER:NAME expected, with a supported manager")));
            }
        }
        if list.get_ref().len() < 2 {
            return Err(mistake(list, "at least two packages are needed"));
        }
        Ok(list.get_ref().iter().map(|word| word.as_str().into()).collect())
    };
    for list in &titles.same {
        let mut known: Vec<(&str, &str)> = Vec::new();
        for (of, name) in list.get_ref().iter().filter_map(|word| word.split_once(':')) {
            if let Some((_, other)) = known.iter().find(|(manager, other)| *manager == of && *other != name) {
                let says = format!("{other} and {name} are two packages of {of}, which cannot have the same title");
                return Err(mistake(list, says));
            }
            known.push((of, name));
        }
    }
    let all = |lists: &[Spanned<Vec<String>>]| lists.iter().map(words).collect::<Result<Vec<_>, _>>();
    Ok(Rules { same: all(&titles.same)?, different: all(&titles.different)? })
}
