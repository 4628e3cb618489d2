//! What channels have, where an index of theirs is on disk: `programs.sqlite` beside a channel's expressions, one row
//! for each program, system and attribute. Versions are not in it: those are known only to who evaluates the channel.

use super::ID;
use crate::backend::sqlite;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Described, Evidence, Loss, Offer, OfferQuery, Origin, Scope};

/// A channel that is unpacked on this machine.
struct Channel {
    name: ByteString,
    dir: ByteString,
    scope: Scope,
}

/// Every channel, once: the machine's, which is root's, and each user's.
fn channels(host: &Host) -> Vec<Channel> {
    let of_root = ByteString::from("/nix/var/nix/profiles/per-user/root/channels");
    let mut places = vec![(of_root, Scope::System)];
    for user in &host.users {
        let scope = || if user.uid == 0 { Scope::System } else { Scope::User(user.name.clone()) };
        let below = [
            &b".nix-defexpr/channels"[..],
            b".local/state/nix/defexpr/channels",
            b".local/state/nix/profiles/channels",
        ];
        places.extend(below.iter().map(|below| (path::join(&user.home, below), scope())));
        places.push((path::join(&path::join(b"/nix/var/nix/profiles/per-user", &user.name), b"channels"), scope()));
    }
    let mut found: Vec<Channel> = Vec::new();
    for (place, scope) in places {
        let Ok(names) = host.root.dir(&place).and_then(|dir| dir.list()) else { continue };
        for (name, _) in names {
            let dir = host.root.canonicalize(&path::join(&place, &name));
            let is_new = name != *"manifest.nix" && !found.iter().any(|known| known.dir == dir);
            if is_new && host.root.target(&dir).is_ok_and(|meta| meta.kind == Kind::Dir) {
                found.push(Channel { name, dir, scope: scope.clone() });
            }
        }
    }
    found
}

/// Whether any channel has an index.
pub fn is_fetched(host: &Host) -> bool {
    channels(host).iter().any(|channel| host.root.target(&path::join(&channel.dir, b"programs.sqlite")).is_ok())
}

/// What the channels have of what is asked about by name, and what could not be read.
pub fn offers(host: &Host, asked: &OfferQuery) -> (Vec<Offer>, Vec<Loss>) {
    let (mut offers, mut notes) = (Vec::new(), Vec::new());
    if asked.is_installed() {
        return (offers, notes);
    }
    for channel in channels(host) {
        let file = path::join(&channel.dir, b"programs.sqlite");
        if host.root.target(&file).is_err() {
            continue;
        }
        if let Err(problem) = of_channel(host, &channel, &file, asked, &mut offers) {
            notes.push(Loss::because(problem, format!("what the channel {} has is unknown", channel.name)));
        }
    }
    (offers, notes)
}

fn of_channel(
    host: &Host,
    channel: &Channel,
    file: &ByteString,
    asked: &OfferQuery,
    offers: &mut Vec<Offer>,
) -> Result<(), String> {
    let database = sqlite::open(&host.root, file)?;
    let failed = |error: rusqlite::Error| format!("{file}: {error}");
    let mut statement =
        database.prepare("select distinct package, name from Programs order by package, name").map_err(failed)?;
    // The files in the store are dated 1970; the link that leads there has the date of the update.
    let release = host.root.read(&path::join(&channel.dir, b".version-suffix"), Limit::SMALL).unwrap_or_default();
    let release = ByteString::from(release.trim_ascii());
    let says = if release.is_empty() { String::new() } else { format!(", release {release}") };
    let rows =
        statement.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))).map_err(failed)?;
    let mut of_package: (String, Vec<ByteString>) = Default::default();
    let mut take = |(package, programs): (String, Vec<ByteString>)| {
        let entry = Described { name: package.as_bytes(), commands: &programs, ..Described::default() };
        // The names of programs count as names here: the attribute is often another.
        let is_program = |name: &ByteString| matches!(asked, OfferQuery::Names(_)) && asked.has(name);
        if package.is_empty() || !(asked.wants(&entry) || programs.iter().any(is_program)) {
            return;
        }
        let source = Origin { name: channel.name.clone(), kind: "channel".to_owned(), url: None, trust: None };
        let evidence =
            Evidence::at(file.clone(), format!("Programs, package {package}"), format!("in the channel{says}"));
        offers.push(Offer {
            version: None,
            channel: Some(channel.name.clone()),
            source: Some(source),
            confinement: Some("none".to_owned()),
            provides: programs,
            evidence: vec![evidence],
            ..Offer::bare(ID, channel.scope.clone(), package.as_str().into(), ByteString::default(), None, false)
        });
    };
    for row in rows {
        let (package, program) = row.map_err(failed)?;
        if package != of_package.0 {
            take(std::mem::replace(&mut of_package, (package, Vec::new())));
        }
        of_package.1.push(program.as_str().into());
    }
    take(of_package);
    Ok(())
}
