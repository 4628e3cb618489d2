//! `crontab(5)`: the variables that tables set for the jobs below them.

use super::start::{Start, compiled};
use crate::model::Evidence;
use crate::root::Limit;
use crate::scene::{Person, Scene};
use crate::search::shell::Place;
use crate::text::{Text, path};

/// What a scheduled job starts with: root's by the system's table, a person's by their own.
pub fn cron(scene: &Scene, person: &Person) -> Start {
    let mut start = Start::of(person);
    start.module(scene, person, "cron");
    // The path of the log-in module does not reach jobs.
    start.set(b"PATH", b"/usr/bin:/bin", &compiled("cron"));
    start.set(b"SHELL", b"/bin/sh", &compiled("cron"));
    let own = [&b"/var/spool/cron/crontabs"[..], b"/var/spool/cron", b"/var/spool/cron/tabs"];
    let own: Vec<Text> = own.iter().map(|folder| path::join(folder, &person.name)).collect();
    let own = own.into_iter().find(|file| scene.root.read_start(file, 1).is_ok() || is_closed(scene, file));
    let table = if person.uid == 0 { Text::from("/etc/crontab") } else { own.unwrap_or_default() };
    if table.is_empty() {
        return start;
    }
    let content = match scene.root.read(&table, Limit::SMALL) {
        Ok(content) => content,
        Err(error) if error.is_missing() => return start,
        Err(error) => {
            let says = format!("cannot be read ({}): jobs may have another path", error.reason());
            start.doubt(Evidence::at(table, "whole file", says));
            return start;
        }
    };
    for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
        let text = text.trim_ascii();
        let Some(at) = memchr::memchr(b'=', text).filter(|_| !text.starts_with(b"#")) else { continue };
        let bare = |text: &[u8]| -> Vec<u8> {
            let text = text.trim_ascii();
            let quoted = text.len() > 1 && matches!(text[0], b'"' | b'\'') && text.ends_with(&text[..1]);
            if quoted { text[1..text.len() - 1].to_vec() } else { text.to_vec() }
        };
        let name = bare(&text[..at]);
        if crate::formats::shell::is_name(&name) {
            start.set(&name, &bare(&text[at + 1..]), &Place { file: table.clone(), line });
        }
    }
    start
}

fn is_closed(scene: &Scene, file: &[u8]) -> bool {
    scene.root.read_start(file, 1).is_err_and(|error| !error.is_missing())
}
