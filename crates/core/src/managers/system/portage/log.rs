//! What Portage wrote down: `/var/log/emerge.log`, lines `SECONDS: TEXT`. A package has come when its merge is completed,
//! and has gone when its unmerge was a success; a merge of another version in between was an upgrade.

use super::{cut, gentoo};
use crate::backend::log::{each_logged, mark_order, rotated};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Action, Event, Evidence, Location, Loss};

const FILE: &[u8] = b"/var/log/emerge.log";

/// `CATEGORY/NAME-VERSION` in its parts.
fn parts(text: &[u8]) -> Option<(ByteString, ByteString)> {
    let slash = memchr::memchr(b'/', text)?;
    let (name, version) = cut(&text[slash + 1..])?;
    Some((path::join(&text[..slash], name), version.into()))
}

/// What was done, in the order of the log.
pub(super) fn events(host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Event> {
    let root = &host.root;
    let mut events: Vec<Event> = Vec::new();
    let mut command: Option<(String, String)> = None;
    each_logged(root, &rotated(root, FILE), notes, &mut |file, number, line| {
        let Some(colon) = memchr::memchr(b':', line) else { return };
        let (seconds, text) = (&line[..colon], line[colon + 1..].trim_ascii());
        let seconds = std::str::from_utf8(seconds).ok().and_then(|text| text.trim().parse::<i64>().ok());
        if let Some(call) = text.strip_prefix(b"*** emerge ") {
            let line = format!("emerge {}", String::from_utf8_lossy(call).trim());
            command = Some((line, format!("{file} line {number}")));
            return;
        }
        let merged = text.strip_prefix(b"::: completed emerge (").and_then(|rest| {
            let rest = &rest[memchr::memmem::find(rest, b") ")? + 2..];
            Some(&rest[..memchr::memchr(b' ', rest).unwrap_or(rest.len())])
        });
        let unmerged = text.strip_prefix(b">>> unmerge success: ");
        let Some((name, version)) = merged.or(unmerged).and_then(parts) else { return };
        let (action, from, to) = if merged.is_some() {
            // The unmerge of what it replaces is told before, as a removal.
            let is_same = |event: &&Event| event.name == name && event.action == Action::Remove;
            let from = events.last().filter(is_same).and_then(|event| event.from.clone());
            if from.is_some() {
                events.pop();
            }
            let action = match from.as_ref().map(|from| gentoo::compare(from, &version)) {
                Some(std::cmp::Ordering::Less) => Action::Upgrade,
                Some(std::cmp::Ordering::Greater) => Action::Downgrade,
                _ => Action::Install,
            };
            (action, from, Some(version))
        } else {
            (Action::Remove, Some(version), None)
        };
        let says = format!("{} {name}", action.word());
        events.push(Event {
            at: seconds,
            recorded_at: seconds.map(|seconds| seconds.to_string()),
            from,
            to,
            command: command.as_ref().map(|(line, _)| line.clone()),
            transaction: command.as_ref().map(|(_, place)| place.clone()),
            evidence: vec![Evidence::line(file.clone(), number, says)],
            ..Event::of(at.manager, at.scope.clone(), action, name)
        });
    });
    mark_order(&mut events);
    events
}
