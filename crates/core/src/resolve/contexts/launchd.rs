//! What launchd gives to jobs, and so to all that is started from the desktop of macOS (`launchd.plist(5)`,
//! `launchctl(1)`).

use super::start::{Start, compiled, read};
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::Evidence;
use whodunit_formats::plist::Value;
use whodunit_shell::Unknown;
use whodunit_shell::eval::Place;

/// What it has compiled in, and login, and the server for remote logins.
pub const OWN_PATH: &str = "/usr/bin:/bin:/usr/sbin:/sbin";

/// Where `launchctl config` keeps a search path for the whole system, or for users.
const SETTINGS: &str = "/private/var/db/com.apple.xpc.launchd/config";

/// A job of the system.
pub fn service(host: &Host) -> Start {
    let mut start = Start::default();
    start.state.dir = b"/".to_vec();
    start.set(b"PATH", OWN_PATH.as_bytes(), &compiled("launchd"));
    configured(host, "system", &mut start);
    start
}

/// A job of a user's, an app among them.
pub fn user_service(host: &Host, user: &User) -> Start {
    let mut start = Start::of(user);
    start.set(b"PATH", OWN_PATH.as_bytes(), &compiled("launchd"));
    configured(host, "user", &mut start);
    start
}

fn configured(host: &Host, domain: &str, start: &mut Start) {
    let file = ByteString::from(format!("{SETTINGS}/{domain}.plist"));
    let content = read(host, &file);
    if content.is_empty() {
        return;
    }
    match Value::parse(&content) {
        Ok(settings) => {
            if let Some(entry) = settings.entry("PathEnvironmentVariable")
                && let Some(list) = entry.value.text()
            {
                start.set(b"PATH", list.as_bytes(), &Place { file, line: entry.line });
            }
        }
        Err(what) => start.note_unknown(Unknown::of_file(file, format!("{what}: it may set another search path"))),
    }
}

/// Jobs of the system.
pub fn jobs(host: &Host) -> Vec<Evidence> {
    with_own_path(host, &["/Library/LaunchDaemons".into()])
}

/// Jobs of a user, or of every user.
pub fn user_jobs(host: &Host, user: &User) -> Vec<Evidence> {
    with_own_path(host, &["/Library/LaunchAgents".into(), path::join(&user.home, b"Library/LaunchAgents")])
}

/// The jobs in these directories that have a search path of their own.
fn with_own_path(host: &Host, dirs: &[ByteString]) -> Vec<Evidence> {
    let mut told = Vec::new();
    for dir in dirs {
        let mut names: Vec<ByteString> = host.root.names_in(dir).into_iter().map(|(name, _)| name).collect();
        names.retain(|name| name.ends_with(b".plist"));
        names.sort();
        for file in names.iter().map(|name| path::join(dir, name)) {
            let job = match Value::parse(&read(host, &file)) {
                Ok(job) => job,
                Err(what) => {
                    told.push(Evidence::whole(file, format!("{what}: this job may have a search path of its own")));
                    continue;
                }
            };
            let entry = job.get("EnvironmentVariables").and_then(|variables| variables.entry("PATH"));
            if let Some(entry) = entry
                && let Some(list) = entry.value.text()
            {
                let says = format!("this job has the search path {list}");
                told.push(match entry.line {
                    0 => Evidence::whole(file, says),
                    line => Evidence::line(file, line, says),
                });
            }
        }
    }
    told
}
