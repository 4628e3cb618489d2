//! `sudoers(5)`: the secure path, and who is exempt from it.

use super::start::{Start, compiled};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};
use whodunit_shell::Unknown;
use whodunit_shell::eval::{Place, State};

/// One `Defaults` line.
struct Default {
    place: Place,
    /// Of one user; `None` for all.
    of: Option<String>,
    settings: String,
}

/// Variables that sudo keeps where it resets the environment (`sudoers(5)`, "Command environment").
const KEPT: [&[u8]; 17] = [
    b"PATH",
    b"HOME",
    b"SHELL",
    b"TERM",
    b"USER",
    b"LOGNAME",
    b"MAIL",
    b"DISPLAY",
    b"XAUTHORITY",
    b"LANG",
    b"LANGUAGE",
    b"LC_ALL",
    b"LC_COLLATE",
    b"LC_CTYPE",
    b"COLORTERM",
    b"TZ",
    b"XDG_CURRENT_DESKTOP",
];

/// Variables that it removes where it does not reset the environment.
const REMOVED: [&[u8]; 9] =
    [b"IFS", b"CDPATH", b"ENV", b"BASH_ENV", b"PYTHONHOME", b"PYTHONPATH", b"PYTHONINSPECT", b"RUBYLIB", b"PERL5LIB"];

/// What `sudo command` finds programs with: the secure path, else the caller's.
pub fn sudo(host: &Host, user: &User, groups: &[ByteString], login: &State, unknowns: Vec<Unknown>) -> Start {
    let mut start = Start::exported(login, unknowns, false);
    let (mut defaults, mut lost) = (Vec::new(), Vec::new());
    read(host, b"/etc/sudoers", 0, &mut defaults, &mut lost);
    let (mut secure, mut exempt) = (None, None);
    let (mut resets, mut keeps) = (true, Vec::new());
    // Those of one user count after the general ones.
    let of_all = defaults.iter().filter(|default| default.of.is_none());
    let of_one = defaults.iter().filter(|default| default.of.as_deref() == Some(&user.name.to_string()));
    for default in of_all.chain(of_one) {
        for (name, value) in settings(&default.settings) {
            match name.as_str() {
                "secure_path" => secure = value.map(|value| (value, default.place.clone())),
                "!secure_path" => secure = None,
                "env_reset" => resets = true,
                "!env_reset" => resets = false,
                "env_keep" => keeps.extend(value.iter().flat_map(|value| value.split_whitespace()).map(str::to_owned)),
                "!env_keep" => keeps.clear(),
                "exempt_group" => exempt = value,
                "!exempt_group" => exempt = None,
                _ => {}
            }
        }
    }
    let is_exempt = exempt.is_some_and(|group| groups.iter().any(|own| **own == *group.as_bytes()));
    if let Some((list, place)) = secure.filter(|_| !is_exempt) {
        start.set(b"PATH", list.as_bytes(), &place);
    }
    lost.into_iter().for_each(|unknown| start.note_unknown(unknown));
    let is_kept = |name: &[u8]| {
        let given = |pattern: &String| match pattern.split('=').next().unwrap_or_default().strip_suffix('*') {
            Some(start) => name.starts_with(start.as_bytes()),
            None => *pattern.as_bytes() == *name,
        };
        match resets {
            true => KEPT.contains(&name) || keeps.iter().any(given),
            false => !name.starts_with(b"LD_") && !REMOVED.contains(&name),
        }
    };
    start.state.variables.retain(|name, _| is_kept(name));
    start.state.functions.clear();
    let root =
        host.users.iter().find(|user| user.uid == 0).map_or_else(|| ByteString::from("/root"), |p| p.home.clone());
    start.set(b"HOME", &root, &compiled("sudo"));
    start
}

fn read(host: &Host, file: &[u8], depth: u32, defaults: &mut Vec<Default>, lost: &mut Vec<Unknown>) {
    let content = match host.root.read(file, Limit::SMALL) {
        Ok(content) => String::from_utf8_lossy(&content).into_owned(),
        Err(error) if error.is_missing() => return,
        Err(error) => {
            lost.push(Unknown::of_file(
                file,
                format!("cannot be read ({}): sudo's search path may differ", error.reason()),
            ));
            return;
        }
    };
    let mut lines = (1..).zip(content.lines());
    while let Some((line, first)) = lines.next() {
        let mut text = first.to_owned();
        while text.ends_with('\\') {
            text.pop();
            match lines.next() {
                Some((_, more)) => text.push_str(more.trim_start()),
                None => break,
            }
        }
        let text = text.trim();
        let include = |word: &str| {
            let rest = text.strip_prefix('@').or_else(|| text.strip_prefix('#'))?.strip_prefix(word)?;
            rest.starts_with([' ', '\t']).then(|| rest.trim().trim_matches('"').to_owned())
        };
        if depth < 8 {
            if let Some(dir) = include("includedir") {
                let dir = path::absolute(dir.as_bytes(), b"/etc");
                let names = host.root.names_in(&dir);
                let mut names: Vec<ByteString> = names.into_iter().map(|(name, _)| name).collect();
                names.retain(|name| !name.contains(&b'.') && !name.ends_with(b"~"));
                names.sort();
                names.iter().for_each(|name| read(host, &path::join(&dir, name), depth + 1, defaults, lost));
                continue;
            }
            if let Some(other) = include("include") {
                read(host, &path::absolute(other.as_bytes(), b"/etc"), depth + 1, defaults, lost);
                continue;
            }
        }
        let Some(rest) = text.strip_prefix("Defaults") else { continue };
        let (of, settings) = match rest.chars().next() {
            Some(c) if c.is_whitespace() => (None, rest.trim()),
            Some(':') => {
                let (of, settings) = rest[1..].split_once(char::is_whitespace).unwrap_or((&rest[1..], ""));
                (Some(of.to_owned()), settings.trim())
            }
            // Of a host, of who is become, or of a command: the command is searched before those count.
            _ => continue,
        };
        let place = Place { file: file.into(), line };
        defaults.push(Default { place, of, settings: settings.to_owned() });
    }
}

/// `a, b=c, d="e,f", !g`.
fn settings(text: &str) -> Vec<(String, Option<String>)> {
    let (mut found, mut part, mut quoted) = (Vec::new(), String::new(), false);
    let mut end = |part: &mut String| {
        let text = std::mem::take(part);
        let (name, value) = match text.split_once('=') {
            Some((name, value)) => (name.trim(), Some(value.trim().trim_matches('"').to_owned())),
            None => (text.trim(), None),
        };
        found.push((name.trim_end_matches(['+', '-']).trim().to_owned(), value));
    };
    for letter in text.chars() {
        match letter {
            '"' => {
                quoted = !quoted;
                part.push('"');
            }
            ',' if !quoted => end(&mut part),
            '#' if !quoted => break,
            other => part.push(other),
        }
    }
    end(&mut part);
    found
}
