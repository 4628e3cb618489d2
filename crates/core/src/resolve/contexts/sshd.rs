//! `sshd_config(5)`: what a single command over ssh starts with.

use super::start::{Start, compiled, read};
use super::systemd::quoted_words;
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use bstr::ByteSlice as _;
use whodunit_shell::Unknown;
use whodunit_shell::eval::Place;
use whodunit_shell::syntax::pattern::fits;

/// The search path that the server has compiled in, for root and for others, by family of systems.
const COMPILED: [(&[u8], &str, &str); 3] = [
    (
        b"debian",
        "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
        "/usr/local/bin:/usr/bin:/bin:/usr/games",
    ),
    (b"fedora", "/usr/local/bin:/usr/bin:/usr/local/sbin:/usr/sbin", "/usr/local/bin:/usr/bin"),
    (b"arch", "/usr/local/sbin:/usr/local/bin:/usr/bin", "/usr/local/sbin:/usr/local/bin:/usr/bin"),
];

/// What the server itself has where no family says otherwise.
const UPSTREAM: &str = "/usr/bin:/bin:/usr/sbin:/sbin";

/// The environment of a single command, before the user's shell reads a file.
pub fn sshd(host: &Host, user: &User) -> Start {
    let mut start = Start::of(user);
    let own = COMPILED.iter().find(|(family, ..)| super::is_like(host, family));
    let list = match own {
        Some((_, list, _)) if user.uid == 0 => list,
        Some((.., list)) => list,
        // Without any word about the system it is taken for one of the commonest family.
        None if host.system().is_none() && !host.is_macos() => {
            if user.uid == 0 {
                COMPILED[0].1
            } else {
                COMPILED[0].2
            }
        }
        None => UPSTREAM,
    };
    start.set(b"PATH", list.as_bytes(), &compiled("sshd"));
    start.without_display(host, "sshd");
    start.module(host, user, "sshd");
    let mut settings = Settings::default();
    settings.read(host, b"/etc/ssh/sshd_config", 0);
    settings.environment_of(host, user, &mut start);
    for (name, value, place) in settings.variables {
        start.set(name.as_bytes(), value.as_bytes(), &place);
    }
    start
}

/// What the server's settings say outside of `Match`; of each the first counts.
#[derive(Default)]
struct Settings {
    /// `SetEnv`, in their order.
    variables: Vec<(String, String, Place)>,
    /// `PermitUserEnvironment`: which variables a user may set.
    permitted: Option<String>,
}

impl Settings {
    fn read(&mut self, host: &Host, file: &[u8], depth: u32) {
        let content = read(host, file);
        for (line, text) in (1..).zip(String::from_utf8_lossy(&content).lines()) {
            let text = text.trim();
            let (word, rest) = text.split_once([' ', '\t', '=']).unwrap_or((text, ""));
            match word.to_ascii_lowercase().as_str() {
                "match" => return,
                "include" if depth < 4 => {
                    let (dir, name) = (path::parent(rest.trim().as_bytes()), path::name(rest.trim().as_bytes()));
                    let dir = path::absolute(dir, b"/etc/ssh");
                    let names = host.root.names_in(&dir);
                    let mut names: Vec<ByteString> = names.into_iter().map(|(name, _)| name).collect();
                    names.retain(|one| fits(name, one));
                    names.sort();
                    names.iter().for_each(|name| self.read(host, &path::join(&dir, name), depth + 1));
                }
                "permituserenvironment" => {
                    self.permitted.get_or_insert_with(|| rest.trim().to_owned());
                }
                "setenv" => {
                    for word in quoted_words(rest) {
                        let Some((name, value)) = word.split_once('=') else { continue };
                        if !self.variables.iter().any(|(other, ..)| other == name) {
                            let place = Place { file: file.into(), line };
                            self.variables.push((name.to_owned(), value.to_owned(), place));
                        }
                    }
                }
                _ => {}
            }
        }
    }

    /// Whether users may set a variable: `yes`, or a list of patterns, of which one that begins with `!` forbids.
    fn permits(&self, name: &[u8]) -> bool {
        let list = self.permitted.as_deref().unwrap_or("no");
        match list {
            "yes" => true,
            "no" => false,
            _ => {
                let said = |pattern: &str| match pattern.strip_prefix('!') {
                    Some(pattern) => fits(pattern.as_bytes(), name).then_some(false),
                    None => fits(pattern.as_bytes(), name).then_some(true),
                };
                let said: Vec<bool> = list.split(',').filter_map(said).collect();
                !said.is_empty() && said.iter().all(|may| *may)
            }
        }
    }

    /// The user's own `~/.ssh/environment` (`sshd(8)`): of equal names the last counts, and a value is what stands behind
    /// the sign of equality, with every quotation mark and blank. It outweighs what a key of `authorized_keys` sets.
    fn environment_of(&self, host: &Host, user: &User, start: &mut Start) {
        if self.permitted.is_none() {
            return;
        }
        let file = path::join(&user.home, b".ssh/environment");
        let content = read(host, &file);
        let mut is_told = false;
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let text = text.trim_start_with(|c| c == ' ' || c == '\t');
            let Some(at) = memchr::memchr(b'=', text).filter(|_| !text.starts_with(b"#")) else { continue };
            if self.permits(&text[..at]) {
                is_told |= text[..at] == *b"PATH";
                start.set(&text[..at], &text[at + 1..], &Place { file: file.clone(), line });
            }
        }
        let keys = path::join(&user.home, b".ssh/authorized_keys");
        let sets =
            |line: &[u8]| !line.starts_with(b"#") && memchr::memmem::find(line, b"environment=\"PATH=").is_some();
        if !is_told && self.permits(b"PATH") && read(host, &keys).split(|&b| b == b'\n').any(sets) {
            start.note_unknown(Unknown::of_file(keys, "has a key that sets PATH, which may be the one that is used"));
        }
    }
}
