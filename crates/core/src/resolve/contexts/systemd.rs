//! What systemd gives to services, and to a user's own.

use super::start::{Start, compiled, read};
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::Evidence;
use whodunit_shell::Unknown;
use whodunit_shell::eval::Place;

/// systemd's built-in search path; with `/bin` on distributions that had a separate one.
fn own_path(host: &Host) -> &'static str {
    let is_debian = super::is_like(host, b"debian");
    if is_debian {
        "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
    } else {
        "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin"
    }
}

/// A system service.
pub fn service(host: &Host) -> Start {
    let mut start = Start::default();
    start.state.dir = b"/".to_vec();
    start.set(b"PATH", own_path(host).as_bytes(), &compiled("systemd"));
    locale(host, &mut start);
    defaults(host, &mut start, "system");
    start
}

/// Units of the administrator's that have a search path of their own.
pub fn units(host: &Host) -> Vec<Evidence> {
    let top = b"/etc/systemd/system";
    let mut files: Vec<ByteString> = Vec::new();
    for (name, _) in host.root.names_in(top) {
        let place = path::join(top, &name);
        if name.ends_with(b".service.d") {
            let parts = host.root.names_in(&place);
            files.extend(parts.into_iter().map(|(name, _)| path::join(&place, &name)));
        } else if name.ends_with(b".service") {
            files.push(place);
        }
    }
    files.sort();
    let mut told = Vec::new();
    for file in files {
        let content = read(host, &file);
        for (line, text) in (1..).zip(String::from_utf8_lossy(&content).lines()) {
            let own = text.trim().strip_prefix("ExecSearchPath=").map(str::to_owned);
            let set = text.trim().strip_prefix("Environment=").map(quoted_words).unwrap_or_default();
            let set = set.into_iter().find_map(|word| word.strip_prefix("PATH=").map(str::to_owned));
            if let Some(list) = own.or(set) {
                told.push(Evidence::line(file.clone(), line, format!("this unit has the search path {list}")));
            }
        }
    }
    told
}

/// A user service.
pub fn user_service(host: &Host, user: &User) -> Start {
    let mut start = Start::of(user);
    locale(host, &mut start);
    // The system's other variables do arrive; its path does not.
    defaults(host, &mut start, "system");
    start.set(b"PATH", own_path(host).as_bytes(), &compiled("systemd"));
    defaults(host, &mut start, "user");
    environment_d(host, user, &mut start);
    start
}

fn locale(host: &Host, start: &mut Start) {
    for file in [&b"/etc/locale.conf"[..], b"/etc/default/locale"] {
        let content = read(host, file);
        for set in whodunit_formats::settings::assignments(&content) {
            if set.name == b"LANG" || set.name.starts_with(b"LC_") {
                start.set(set.name, set.value, &Place { file: file.into(), line: set.line });
            }
        }
    }
}

/// Files by name, the first place that has a name counting.
fn drop_ins(host: &Host, places: &[ByteString]) -> Vec<ByteString> {
    let mut found: std::collections::BTreeMap<ByteString, ByteString> = std::collections::BTreeMap::new();
    for place in places {
        let names = host.root.names_in(place);
        for (name, _) in names.into_iter().filter(|(name, _)| name.ends_with(b".conf")) {
            let file = path::join(place, &name);
            found.entry(name).or_insert(file);
        }
    }
    found.into_values().collect()
}

/// `DefaultEnvironment=` of `system.conf` or `user.conf` and what is dropped in beside them.
fn defaults(host: &Host, start: &mut Start, kind: &str) {
    let places = ["/etc/systemd", "/run/systemd", "/usr/local/lib/systemd", "/usr/lib/systemd"];
    let main = places.iter().map(|place| ByteString::from(format!("{place}/{kind}.conf")));
    let main = main.into_iter().find(|file| host.root.target(file).is_ok());
    let dirs: Vec<ByteString> = places.iter().map(|place| ByteString::from(format!("{place}/{kind}.conf.d"))).collect();
    for file in main.into_iter().chain(drop_ins(host, &dirs)) {
        let content = read(host, &file);
        let mut is_manager = false;
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let text = text.trim_ascii();
            if text.starts_with(b"[") {
                is_manager = text == b"[Manager]";
            }
            if let Some(value) = text.strip_prefix(b"DefaultEnvironment=").filter(|_| is_manager) {
                for word in quoted_words(&String::from_utf8_lossy(value)) {
                    if let Some((name, value)) = word.split_once('=') {
                        start.set(name.as_bytes(), value.as_bytes(), &Place { file: file.clone(), line });
                    }
                }
            }
        }
    }
}

/// Words with quotes around them or in them.
pub fn quoted_words(text: &str) -> Vec<String> {
    let (mut words, mut word, mut quote, mut open) = (Vec::new(), String::new(), None, false);
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match (letter, quote) {
            ('\\', _) => word.extend(letters.next()),
            (letter, Some(mark)) if letter == mark => quote = None,
            ('"' | '\'', None) => {
                quote = Some(letter);
                open = true;
            }
            (letter, None) if letter.is_whitespace() => {
                if open || !word.is_empty() {
                    words.push(std::mem::take(&mut word));
                }
                open = false;
            }
            (letter, _) => word.push(letter),
        }
    }
    if open || !word.is_empty() {
        words.push(word);
    }
    words
}

/// `environment.d`: sorted by name over all places, each value seeing those before it.
fn environment_d(host: &Host, user: &User, start: &mut Start) {
    let config = start.state.get(b"XDG_CONFIG_HOME").map(<[u8]>::to_vec);
    let config = config.unwrap_or_else(|| path::join(&user.home, b".config").to_vec());
    let mut places = vec![path::join(&config, b"environment.d")];
    let shared = ["/etc", "/run", "/usr/local/lib", "/usr/lib"];
    places.extend(shared.iter().map(|place| ByteString::from(format!("{place}/environment.d"))));
    for file in drop_ins(host, &places) {
        let content = String::from_utf8_lossy(&read(host, &file)).replace("\\\n", "");
        for (line, text) in (1..).zip(content.lines()) {
            let text = text.trim();
            let Some((name, value)) = text.split_once('=').filter(|_| !text.starts_with(['#', ';'])) else { continue };
            let is_name = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            if is_name {
                let value = expanded(&unquoted(value.trim()), start);
                // What is made of the old list keeps who put the old parts there.
                let place = Place { file: file.clone(), line };
                let old = start.state.variables.get(name.as_bytes()).cloned();
                start.set(name.as_bytes(), value.as_bytes(), &place);
                if let (Some(old), Some(new)) = (old, start.state.variables.get_mut(name.as_bytes())) {
                    new.places = whodunit_shell::eval::places_after(
                        old.as_text(),
                        &old.places,
                        value.as_bytes(),
                        text.contains('$'),
                        &place,
                    );
                }
            }
        }
    }
    let generators = ["/etc/systemd/user-environment-generators", "/usr/lib/systemd/user-environment-generators"];
    for dir in generators {
        let names = host.root.names_in(dir.as_bytes());
        for (name, _) in names {
            match &name[..] {
                // Reads environment.d, which is read here.
                b"30-systemd-environment-d-generator" => {}
                b"60-flatpak" | b"60-flatpak-system-only" => {
                    flatpak(user, start, &path::join(dir.as_bytes(), &name));
                }
                _ => start.note_unknown(Unknown::of_file(
                    path::join(dir.as_bytes(), &name),
                    "a generator that is not run may set variables for a user's services",
                )),
            }
        }
    }
}

/// Flatpak's generator puts its exports in front of the data directories.
fn flatpak(user: &User, start: &mut Start, file: &ByteString) {
    let list = start.state.get(b"XDG_DATA_DIRS").filter(|list| !list.is_empty()).map(<[u8]>::to_vec);
    let list = list.unwrap_or_else(|| b"/usr/local/share/:/usr/share/".to_vec());
    let own = path::join(&user.home, b".local/share/flatpak/exports/share");
    let list = [&own[..], b":/var/lib/flatpak/exports/share:", &list].concat();
    start.set(b"XDG_DATA_DIRS", &list, &Place { file: file.clone(), line: 0 });
}

/// A value without its quotes and backslashes, as files of variables are read: quotes count where a value begins, and
/// behind another quoted part; blanks before either do not count.
fn unquoted(value: &str) -> String {
    let mut result = String::new();
    let mut letters = value.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '\'' => result.extend(letters.by_ref().take_while(|letter| *letter != '\'')),
            '"' => {
                while let Some(letter) = letters.next().filter(|letter| *letter != '"') {
                    match (letter, letters.peek()) {
                        ('\\', Some('"' | '\\' | '`' | '$')) => result.extend(letters.next()),
                        _ => result.push(letter),
                    }
                }
            }
            blank if blank.is_whitespace() => {}
            first => {
                let mut next = Some(first);
                while let Some(letter) = next {
                    result.extend(if letter == '\\' { letters.next() } else { Some(letter) });
                    next = letters.next();
                }
            }
        }
    }
    result
}

/// `$NAME`, `${NAME}`, `${NAME:-…}`, `${NAME:+…}` and `$$`, wherever they stand: the quotes are gone by now.
fn expanded(value: &str, start: &Start) -> String {
    let mut result = String::new();
    let mut letters = value.chars().peekable();
    while let Some(letter) = letters.next() {
        if letter != '$' {
            result.push(letter);
            continue;
        }
        if letters.next_if_eq(&'$').is_some() {
            result.push('$');
            continue;
        }
        let in_braces = letters.next_if_eq(&'{').is_some();
        let mut name = String::new();
        while let Some(c) = letters.next_if(|c| c.is_ascii_alphanumeric() || *c == '_') {
            name.push(c);
        }
        if name.is_empty() && !in_braces {
            result.push('$');
            continue;
        }
        let mut rest = String::new();
        if in_braces {
            let mut depth = 0;
            for c in letters.by_ref() {
                match c {
                    '}' if depth == 0 => break,
                    '}' => depth -= 1,
                    '{' => depth += 1,
                    _ => {}
                }
                rest.push(c);
            }
        }
        let set = start.state.get(name.as_bytes()).map(|set| String::from_utf8_lossy(set).into_owned());
        let is_set = set.as_ref().is_some_and(|set| !set.is_empty());
        match (rest.strip_prefix(":-"), rest.strip_prefix(":+")) {
            (Some(other), _) if !is_set && rest.len() < 4096 => result.push_str(&expanded(other, start)),
            (_, Some(other)) if rest.len() < 4096 => {
                if is_set {
                    result.push_str(&expanded(other, start));
                }
            }
            _ => result.push_str(&set.unwrap_or_default()),
        }
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What systemd's own generator printed for these lines.
    #[test]
    fn values_of_environment_files_are_unquoted_and_then_expanded() {
        let mut start = Start::default();
        start.set(b"HOME", b"/home/maren", &compiled("test"));
        for (value, expected) in [
            ("$HOME/a", "/home/maren/a"),
            ("'$HOME/a'", "/home/maren/a"),
            ("\"$HOME/a\"b", "/home/maren/ab"),
            ("a$$b", "a$b"),
            ("\\$HOME", "/home/maren"),
            ("${HOME}x${NONE:-/d}${HOME:+/y}", "/home/marenx/d/y"),
            ("a b", "a b"),
            ("$ x", "$ x"),
            ("\"a\\\"b\\q\"", "a\"b\\q"),
            ("'a'  'b'", "ab"),
            ("x # y", "x # y"),
            ("\"q\" z", "qz"),
            ("a\"b\"c'd'e", "a\"b\"c'd'e"),
        ] {
            assert_eq!(expanded(&unquoted(value), &start), expected, "{value}");
        }
    }
}
