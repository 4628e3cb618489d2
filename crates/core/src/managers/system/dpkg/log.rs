//! What dpkg and apt wrote down.
//!
//! | what | where |
//! |---|---|
//! | each package, as it was unpacked or removed | `/var/log/dpkg.log`, `DATE TIME ACTION NAME:ARCH OLD NEW` |
//! | each call of apt, and who made it | `/var/log/apt/history.log`, stanzas with `Start-Date`, `Commandline`, `Requested-By` |
//!
//! Both are rotated and compressed. Times are the machine's own, without a zone. What dpkg did while apt ran belongs to
//! that call of apt; what apt says and dpkg's log does not have, because it was rotated away, is told from apt's.

use hashbrown::HashSet;
use jiff::tz::TimeZone;
use whodunit_formats::stanza::stanzas;

use super::installation::DpkgInstallation;
use crate::backend::log::{Log, each_logged, local, mark_order, rotated};
use crate::bytes::ByteString;
use crate::model::{Action, Event, Evidence, ManagerId, Scope};

const DPKG: &[u8] = b"/var/log/dpkg.log";
const APT: &[u8] = b"/var/log/apt/history.log";

/// One call of apt.
struct Call {
    start: i64,
    end: i64,
    recorded: String,
    command: Option<String>,
    by: Option<String>,
    file: ByteString,
    line: u32,
    /// What it did: the action, the name with its architecture, and the versions.
    changes: Vec<(Action, ByteString, Option<ByteString>, Option<ByteString>)>,
}

/// `none` stands for no version.
fn version(text: &[u8]) -> Option<ByteString> {
    (text != b"<none>").then(|| text.into())
}

/// The name without the architecture of the machine itself.
fn plain(name: &[u8], native: &[u8]) -> ByteString {
    let end = memchr::memchr(b':', name).filter(|at| &name[at + 1..] == native || &name[at + 1..] == b"all");
    name[..end.unwrap_or(name.len())].into()
}

/// An event of dpkg's log.
fn logged(line: &[u8], native: &[u8], manager: ManagerId) -> Option<(String, Event)> {
    let words: Vec<&[u8]> = line.split(|&b| b == b' ').collect();
    let [date, time, verb, name, old, new] = words[..] else { return None };
    let (from, to) = (version(old), version(new));
    let action = match verb {
        b"install" => Action::Install,
        b"upgrade" if from == to => Action::Install,
        b"upgrade" => match from.as_ref().zip(to.as_ref()) {
            Some((from, to)) if crate::version::debian::compare(from, to) == std::cmp::Ordering::Greater => {
                Action::Downgrade
            }
            _ => Action::Upgrade,
        },
        b"remove" => Action::Remove,
        b"purge" => Action::Configure,
        _ => return None,
    };
    let recorded = format!("{} {}", String::from_utf8_lossy(date), String::from_utf8_lossy(time));
    let event = Event { from, to, ..Event::of(manager, Scope::System, action, plain(name, native)) };
    Some((recorded, event))
}

/// `name:arch (1.0, automatic), name:arch (1.0, 2.0)`.
fn changes(action: Action, list: &[u8], found: &mut Vec<(Action, ByteString, Option<ByteString>, Option<ByteString>)>) {
    for one in bstr::ByteSlice::split_str(list, "), ") {
        let Some(open) = memchr::memmem::find(one, b" (") else { continue };
        let inside = one[open + 2..].strip_suffix(b")").unwrap_or(&one[open + 2..]);
        let mut versions = inside.split(|&b| b == b',').map(<[u8]>::trim_ascii).filter(|word| *word != b"automatic");
        let (first, second) = (versions.next().map(ByteString::from), versions.next().map(ByteString::from));
        let (from, to) = match action {
            Action::Install => (None, first),
            Action::Remove | Action::Configure => (first, None),
            _ => (first, second),
        };
        found.push((action, one[..open].into(), from, to));
    }
}

/// A call of apt, from a stanza.
fn call(text: &[u8], file: &ByteString, line: u32, zone: &TimeZone) -> Option<Call> {
    let stanza = stanzas(text).next()?;
    let (mut start, mut end, mut command, mut by) = (None, None, None, None);
    let mut found = Vec::new();
    for field in stanza.fields().flatten() {
        let value = || String::from_utf8_lossy(field.value).into_owned();
        match field.name {
            b"Start-Date" => start = Some(value()),
            b"End-Date" => end = Some(value()),
            b"Commandline" => command = Some(value()),
            // `maren (1000)`
            b"Requested-By" => by = value().split(' ').next().map(str::to_owned),
            b"Install" | b"Reinstall" => changes(Action::Install, field.value, &mut found),
            b"Upgrade" => changes(Action::Upgrade, field.value, &mut found),
            b"Downgrade" => changes(Action::Downgrade, field.value, &mut found),
            b"Remove" => changes(Action::Remove, field.value, &mut found),
            b"Purge" => changes(Action::Configure, field.value, &mut found),
            _ => {}
        }
    }
    let recorded = start?.split_whitespace().collect::<Vec<_>>().join(" ");
    let start = local(&recorded, zone)?;
    let end = end.and_then(|text| local(&text, zone)).unwrap_or(start);
    Some(Call { start, end, recorded, command, by, file: file.clone(), line, changes: found })
}

impl DpkgInstallation<'_> {
    /// The calls of apt, the oldest first.
    fn calls(&self, zone: &TimeZone) -> Vec<Call> {
        let root = &self.host.root;
        let (mut notes, mut calls) = (Vec::new(), Vec::new());
        let (mut text, mut first): (Vec<u8>, Option<(ByteString, u32)>) = (Vec::new(), None);
        // Blank lines are not handed on: a stanza begins with its date.
        let mut finish = |text: &mut Vec<u8>, first: &mut Option<(ByteString, u32)>| {
            let read = first.take().and_then(|(file, line)| call(text, &file, line, zone));
            calls.extend(read);
            text.clear();
        };
        each_logged(root, &rotated(root, APT), &mut notes, &mut |file, number, line| {
            if line.starts_with(b"Start-Date:") {
                finish(&mut text, &mut first);
                first = Some((file.clone(), number));
            }
            text.extend_from_slice(line);
            text.push(b'\n');
        });
        finish(&mut text, &mut first);
        self.note(notes);
        calls
    }
}

impl Log for DpkgInstallation<'_> {
    fn events(&self) -> Vec<Event> {
        let (root, zone) = (&self.host.root, self.host.time_zone());
        let native = self.native().clone();
        let (mut events, mut notes) = (Vec::new(), Vec::new());
        each_logged(root, &rotated(root, DPKG), &mut notes, &mut |file, number, line| {
            let Some((recorded, event)) = logged(line, &native, self.manager()) else { return };
            let evidence = Evidence::line(file.clone(), number, format!("{} {}", event.action.word(), event.name));
            events.push(Event {
                at: local(&recorded, &zone),
                recorded_at: Some(recorded),
                evidence: vec![evidence],
                ..event
            });
        });
        self.note(notes);
        mark_order(&mut events);
        // What was done during a call is found by its time.
        let mut by_time: Vec<(i64, usize)> =
            events.iter().enumerate().filter_map(|(place, event)| Some((event.at?, place))).collect();
        by_time.sort_unstable();
        for call in self.calls(&zone) {
            let first = by_time.partition_point(|(at, _)| *at < call.start);
            let within = by_time[first..].iter().take_while(|(at, _)| *at <= call.end);
            let transaction = Some(format!("{} {} line {}", call.recorded, call.file, call.line));
            let mut known: HashSet<(ByteString, Option<ByteString>)> = HashSet::new();
            for (_, place) in within {
                let event = &mut events[*place];
                event.by.clone_from(&call.by);
                event.command.clone_from(&call.command);
                event.transaction.clone_from(&transaction);
                known.insert((event.name.clone(), event.to.clone()));
            }
            for (action, name, from, to) in call.changes {
                let name = plain(&name, &native);
                if known.contains(&(name.clone(), to.clone())) {
                    continue;
                }
                let says = format!("{} {name}", action.word());
                events.push(Event {
                    at: Some(call.start),
                    recorded_at: Some(call.recorded.clone()),
                    from,
                    to,
                    by: call.by.clone(),
                    command: call.command.clone(),
                    transaction: transaction.clone(),
                    evidence: vec![Evidence::line(call.file.clone(), call.line, says)],
                    ..Event::of(self.manager(), Scope::System, action, name)
                });
            }
        }
        events
    }
}
