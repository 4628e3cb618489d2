//! What dnf and zypper wrote down.
//!
//! | what | where |
//! |---|---|
//! | dnf 4 | `/var/lib/dnf/history.sqlite`: `trans` (time, user, command), `trans_item` (action), `rpm` (name, version) |
//! | zypper | `/var/log/zypp/history`, lines `DATE\|install\|NAME\|VERSION-RELEASE\|ARCH\|USER@HOST\|…` |
//!
//! rpm itself keeps no log. An upgrade is two rows of dnf's: what came, and what it took the place of.

use hashbrown::HashMap;
use rusqlite::Connection;

use super::installation::RpmInstallation;
use crate::backend::log::{Log, each_logged, local, mark_order, rotated};
use crate::backend::sqlite;
use crate::bytes::ByteString;
use crate::model::{Action, Event, Evidence, Loss, Scope};

const DNF: &[u8] = b"/var/lib/dnf/history.sqlite";
const ZYPP: &[u8] = b"/var/log/zypp/history";

/// Codes of `trans_item.action`.
mod code {
    pub const INSTALL: i64 = 1;
    pub const DOWNGRADE: i64 = 2;
    pub const DOWNGRADED: i64 = 3;
    pub const OBSOLETED: i64 = 5;
    pub const UPGRADE: i64 = 6;
    pub const UPGRADED: i64 = 7;
    pub const REMOVE: i64 = 8;
    pub const REINSTALL: i64 = 9;
}

/// A row of dnf's history.
struct Row {
    transaction: i64,
    at: i64,
    uid: Option<i64>,
    command: Option<String>,
    action: i64,
    name: String,
    version: String,
}

fn rows(connection: &Connection) -> rusqlite::Result<Vec<Row>> {
    let columns = "trans.id, trans.dt_begin, trans.user_id, trans.cmdline, trans_item.action, rpm.name, rpm.epoch, rpm.version, rpm.release";
    let tables = "trans JOIN trans_item ON trans_item.trans_id = trans.id JOIN rpm ON rpm.item_id = trans_item.item_id";
    let mut query = connection.prepare(&format!("SELECT {columns} FROM {tables} ORDER BY trans.id, trans_item.id"))?;
    let read = query.query_map([], |row| {
        let epoch: i64 = row.get::<_, Option<i64>>(6)?.unwrap_or(0);
        let shown = if epoch == 0 { String::new() } else { format!("{epoch}:") };
        Ok(Row {
            transaction: row.get(0)?,
            at: row.get(1)?,
            uid: row.get(2)?,
            command: row.get(3)?,
            action: row.get(4)?,
            name: row.get(5)?,
            version: format!("{shown}{}-{}", row.get::<_, String>(7)?, row.get::<_, String>(8)?),
        })
    })?;
    read.collect()
}

impl RpmInstallation<'_> {
    /// What dnf's history says.
    fn of_dnf(&self) -> Vec<Event> {
        let root = &self.host.root;
        if root.target(DNF).is_err() {
            return Vec::new();
        }
        let file = ByteString::from(DNF);
        let read = sqlite::open(root, &file)
            .and_then(|connection| rows(&connection).map_err(|error| format!("{file}: {error}")));
        let rows = match read {
            Ok(rows) => rows,
            Err(problem) => {
                self.store.note(Loss::because(problem, "what dnf did is unknown"));
                return Vec::new();
            }
        };
        // What a package took the place of.
        let mut before: HashMap<(i64, &str), &str> = HashMap::new();
        for row in rows.iter().filter(|row| matches!(row.action, code::UPGRADED | code::DOWNGRADED)) {
            before.insert((row.transaction, &row.name), &row.version);
        }
        let event = |row: &Row| {
            let action = match row.action {
                code::INSTALL | code::REINSTALL => Action::Install,
                code::UPGRADE => Action::Upgrade,
                code::DOWNGRADE => Action::Downgrade,
                code::REMOVE | code::OBSOLETED => Action::Remove,
                _ => return None,
            };
            let is_gone = action == Action::Remove;
            let replaced = before.get(&(row.transaction, &*row.name)).map(|version| ByteString::from(*version));
            let version = Some(ByteString::from(row.version.as_str()));
            let user = |uid: i64| {
                let known = self.host.users.iter().find(|user| i64::from(user.uid) == uid);
                known.map_or_else(|| format!("user {uid}"), |user| user.name.to_string())
            };
            let says = format!("{} {}", action.word(), row.name);
            Some(Event {
                at: Some(row.at),
                recorded_at: Some(row.at.to_string()),
                from: if is_gone { version.clone() } else { replaced },
                to: if is_gone { None } else { version },
                // Where nobody logged in, the number is the greatest that there is.
                by: row.uid.filter(|uid| *uid != i64::from(u32::MAX)).map(user),
                command: row.command.as_ref().map(|line| format!("dnf {line}")),
                transaction: Some(format!("{file} transaction {}", row.transaction)),
                evidence: vec![Evidence::at(file.clone(), format!("transaction {}", row.transaction), says)],
                ..Event::of(self.location.manager, Scope::System, action, row.name.as_str())
            })
        };
        rows.iter().filter_map(event).collect()
    }

    /// What zypper's history says. It does not tell what a package took the place of: the entry before it does.
    fn of_zypp(&self) -> Vec<Event> {
        let (root, zone) = (&self.host.root, self.host.time_zone());
        let (mut events, mut notes): (Vec<Event>, Vec<Loss>) = (Vec::new(), Vec::new());
        let mut now: HashMap<ByteString, ByteString> = HashMap::new();
        let mut command: Option<(String, String, Option<String>)> = None;
        each_logged(root, &rotated(root, ZYPP), &mut notes, &mut |file, number, line| {
            let line = String::from_utf8_lossy(line);
            let parts: Vec<&str> = line.split('|').map(str::trim).collect();
            if line.starts_with('#') || parts.len() < 4 {
                return;
            }
            let user = |text: &str| text.split('@').next().filter(|name| !name.is_empty()).map(str::to_owned);
            if parts[1] == "command" {
                let words: Vec<&str> = parts[3].split('\'').map(str::trim).filter(|word| !word.is_empty()).collect();
                command = Some((words.join(" "), format!("{} {file} line {number}", parts[0]), user(parts[2])));
                return;
            }
            let (name, version) = (ByteString::from(parts[2]), ByteString::from(parts[3]));
            let (action, from, to) = match parts[1] {
                "install" => {
                    let from = now.insert(name.clone(), version.clone());
                    let action = match from.as_ref().map(|from| crate::version::rpm::compare(from, &version)) {
                        Some(std::cmp::Ordering::Less) => Action::Upgrade,
                        Some(std::cmp::Ordering::Greater) => Action::Downgrade,
                        _ => Action::Install,
                    };
                    (action, from, Some(version))
                }
                "remove" => {
                    now.remove(&name);
                    (Action::Remove, Some(version), None)
                }
                _ => return,
            };
            let says = format!("{} {name}", action.word());
            // What another user did, or another program, has no call of its own in the log.
            let own = parts.get(5).and_then(|text| user(text));
            let call = command.as_ref().filter(|(_, _, by)| own.is_none() || own == *by);
            let (line_of, transaction) = (call.map(|(line, ..)| line.clone()), call.map(|(_, place, _)| place.clone()));
            events.push(Event {
                at: local(parts[0], &zone),
                recorded_at: Some(parts[0].to_owned()),
                from,
                to,
                by: own.or_else(|| call.and_then(|(_, _, by)| by.clone())),
                command: line_of,
                transaction,
                evidence: vec![Evidence::line(file.clone(), number, says)],
                ..Event::of(self.location.manager, Scope::System, action, name)
            });
        });
        notes.into_iter().for_each(|note| self.store.note(note));
        mark_order(&mut events);
        events
    }
}

impl Log for RpmInstallation<'_> {
    fn events(&self) -> Vec<Event> {
        if self.location.scope != Scope::System {
            return Vec::new();
        }
        let mut events = self.of_dnf();
        events.extend(self.of_zypp());
        events
    }
}
