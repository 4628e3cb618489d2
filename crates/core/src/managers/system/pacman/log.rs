//! What pacman wrote down: `/var/log/pacman.log`, lines `[TIME] [ALPM] installed NAME (VERSION)`, with the calls between
//! them, `[TIME] [PACMAN] Running 'COMMAND'`. Older logs have times without seconds and zone.

use jiff::tz::TimeZone;

use crate::backend::log::{each_logged, local, mark_order, rotated};
use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::{Action, Event, Evidence, Location, Loss};

const FILE: &[u8] = b"/var/log/pacman.log";

/// A time with a zone, `2026-11-29T01:49:28+0000`; without one it is the machine's own.
fn time(text: &str, zone: &TimeZone) -> Option<i64> {
    let with_zone =
        jiff::fmt::strtime::parse("%Y-%m-%dT%H:%M:%S%z", text).ok().and_then(|time| time.to_timestamp().ok());
    with_zone.map(jiff::Timestamp::as_second).or_else(|| local(text, zone))
}

/// What an entry of the library says was done.
fn change(text: &str) -> Option<(Action, &str, Option<&str>, Option<&str>)> {
    let (verb, rest) = text.split_once(' ')?;
    let (name, versions) = rest.split_once(" (")?;
    let versions = versions.strip_suffix(')')?;
    let (action, from, to) = match verb {
        "installed" | "reinstalled" => (Action::Install, None, Some(versions)),
        "removed" => (Action::Remove, Some(versions), None),
        "upgraded" | "downgraded" => {
            let (from, to) = versions.split_once(" -> ")?;
            let action = if verb == "upgraded" { Action::Upgrade } else { Action::Downgrade };
            (action, Some(from), Some(to))
        }
        _ => return None,
    };
    Some((action, name, from, to))
}

/// What was done, in the order of the log.
pub(super) fn events(host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Event> {
    let (root, zone) = (&host.root, host.time_zone());
    let mut events: Vec<Event> = Vec::new();
    let mut command: Option<String> = None;
    let mut transaction: Option<String> = None;
    each_logged(root, &rotated(root, FILE), notes, &mut |file, number, line| {
        let line = String::from_utf8_lossy(line);
        let Some((recorded, rest)) = line.strip_prefix('[').and_then(|rest| rest.split_once("] ")) else { return };
        let Some((by, text)) = rest.strip_prefix('[').and_then(|rest| rest.split_once("] ")) else { return };
        if let Some(call) = text.strip_prefix("Running '").and_then(|call| call.strip_suffix('\'')) {
            command = Some(call.to_owned());
            transaction = Some(format!("{recorded} {file} line {number}"));
        }
        let Some((action, name, from, to)) = change(text).filter(|_| by == "ALPM") else { return };
        events.push(Event {
            at: time(recorded, &zone),
            recorded_at: Some(recorded.to_owned()),
            from: from.map(ByteString::from),
            to: to.map(ByteString::from),
            command: command.clone(),
            transaction: transaction.clone(),
            evidence: vec![Evidence::line(file.clone(), number, text.to_owned())],
            ..Event::of(at.manager, at.scope.clone(), action, name)
        });
    });
    mark_order(&mut events);
    events
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_say_what_was_done() {
        for (text, expected) in [
            ("installed tarn (2.3-1)", Some((Action::Install, "tarn", None, Some("2.3-1")))),
            ("upgraded tarn (2.3-1 -> 1:2.4-1)", Some((Action::Upgrade, "tarn", Some("2.3-1"), Some("1:2.4-1")))),
            ("downgraded tarn (2.4-1 -> 2.3-1)", Some((Action::Downgrade, "tarn", Some("2.4-1"), Some("2.3-1")))),
            ("removed tarn (2.3-1)", Some((Action::Remove, "tarn", Some("2.3-1"), None))),
            ("upgraded tarn (2.3-1)", None),
            ("transaction started", None),
            ("warning: /etc/tarn (x)", None),
        ] {
            assert_eq!(change(text), expected, "{text}");
        }
        assert_eq!(time("2026-11-29T03:49:28+0200", &TimeZone::UTC), Some(1_795_916_968));
        assert_eq!(time("2026-11-29 01:49", &TimeZone::UTC), Some(1_795_916_940));
    }
}
