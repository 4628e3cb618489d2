//! `crontab(5)`: the variables that tables set for the jobs below them.

use super::start::{Start, compiled};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};
use crate::model::Evidence;
use whodunit_shell::Unknown;
use whodunit_shell::eval::Place;

/// What a scheduled job starts with: root's by the system's table, a user's by their own.
pub fn cron(host: &Host, user: &User) -> Start {
    let mut start = Start::of(user);
    start.module(host, user, "cron");
    // The path of the login module does not reach jobs.
    start.set(b"PATH", b"/usr/bin:/bin", &compiled("cron"));
    start.set(b"SHELL", b"/bin/sh", &compiled("cron"));
    let own = [&b"/var/spool/cron/crontabs"[..], b"/var/spool/cron", b"/var/spool/cron/tabs", b"/var/at/tabs"];
    let own: Vec<ByteString> = own.iter().map(|dir| path::join(dir, &user.name)).collect();
    let own = own.into_iter().find(|file| host.root.read_start(file, 1).is_ok() || is_closed(host, file));
    let table = if user.uid == 0 { ByteString::from("/etc/crontab") } else { own.unwrap_or_default() };
    if table.is_empty() {
        return start;
    }
    let content = match host.root.read(&table, Limit::SMALL) {
        Ok(content) => content,
        Err(error) if error.is_missing() => return start,
        Err(error) => {
            let says = format!("cannot be read ({}): jobs may have a different search path", error.reason());
            start.note_unknown(Unknown::of_file(table, says));
            return start;
        }
    };
    if !content.is_empty() && !content.ends_with(b"\n") {
        let says = "ends in the middle of a line, and cron may ignore the whole table";
        start.note_unknown(Unknown::of_file(table, says));
        return start;
    }
    for (line, name, value) in variables(&content) {
        start.set(&name, &value, &Place { file: table.clone(), line });
    }
    start
}

/// The variables that a table sets, with their lines.
fn variables(table: &[u8]) -> Vec<(u32, Vec<u8>, Vec<u8>)> {
    let bare = |text: &[u8]| -> Vec<u8> {
        let text = text.trim_ascii();
        let quoted = text.len() > 1 && matches!(text[0], b'"' | b'\'') && text.ends_with(&text[..1]);
        if quoted { text[1..text.len() - 1].to_vec() } else { text.to_vec() }
    };
    let lines = (1..).zip(table.split(|&b| b == b'\n').map(<[u8]>::trim_ascii));
    let set = lines.filter_map(|(line, text)| {
        let at = memchr::memchr(b'=', text).filter(|_| !text.starts_with(b"#"))?;
        let name = bare(&text[..at]);
        whodunit_shell::syntax::is_name(&name).then(|| (line, name, bare(&text[at + 1..])))
    });
    set.collect()
}

/// Tables of the system whose jobs have a search path of their own, where a user's jobs are told.
pub fn others(host: &Host, user: &User) -> Vec<Evidence> {
    let mut tables: Vec<ByteString> = vec!["/etc/anacrontab".into()];
    if user.uid != 0 {
        tables.push("/etc/crontab".into());
    }
    let parts = host.root.names_in(b"/etc/cron.d");
    let mut parts: Vec<ByteString> = parts.into_iter().map(|(name, _)| path::join(b"/etc/cron.d", &name)).collect();
    parts.sort();
    let mut told = Vec::new();
    for table in tables.into_iter().chain(parts) {
        let content = host.root.read(&table, Limit::SMALL).unwrap_or_default();
        for (line, _, list) in variables(&content).into_iter().filter(|(_, name, _)| name == b"PATH") {
            let says = format!("the jobs of this table have the search path {}", ByteString::from(list));
            told.push(Evidence::line(table.clone(), line, says));
        }
    }
    told
}

fn is_closed(host: &Host, file: &[u8]) -> bool {
    host.root.read_start(file, 1).is_err_and(|error| !error.is_missing())
}
