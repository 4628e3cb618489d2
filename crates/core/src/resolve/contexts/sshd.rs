//! `sshd_config(5)`: what a single command over ssh starts with.

use super::start::{Start, compiled, read};
use super::systemd::quoted_words;
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use whodunit_shell::eval::Place;

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
    settings(host, b"/etc/ssh/sshd_config", &mut start, &mut Vec::new(), 0);
    start
}

/// `SetEnv` outside of `Match`: of each variable the first counts.
fn settings(host: &Host, file: &[u8], start: &mut Start, seen: &mut Vec<String>, depth: u32) {
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
                names.retain(|one| whodunit_shell::syntax::pattern::fits(name, one));
                names.sort();
                names.iter().for_each(|name| settings(host, &path::join(&dir, name), start, seen, depth + 1));
            }
            "setenv" => {
                for word in quoted_words(rest) {
                    let Some((name, value)) = word.split_once('=') else { continue };
                    if !seen.contains(&name.to_owned()) {
                        seen.push(name.to_owned());
                        start.set(name.as_bytes(), value.as_bytes(), &Place { file: file.into(), line });
                    }
                }
            }
            _ => {}
        }
    }
}
