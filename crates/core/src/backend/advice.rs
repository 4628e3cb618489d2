//! How a command of ours is typed on a machine: with which rights, and by which user.

use crate::bytes::{ByteString, path};
use crate::fs::Root;
use crate::host::Host;
use crate::model::{Actor, CommandLine, Location, Remedy, RemedyKind, Scope};

/// Where sudo can be (Filesystem Hierarchy Standard; NixOS keeps its own wrapper).
const SUDO: [&[u8]; 4] = [b"/usr/bin/sudo", b"/bin/sudo", b"/usr/local/bin/sudo", b"/run/wrappers/bin/sudo"];

/// Directories that sudo searches on every system, whatever its settings say.
const SYSTEM_DIRS: [&[u8]; 6] = [b"/usr/local/sbin", b"/usr/local/bin", b"/usr/sbin", b"/usr/bin", b"/sbin", b"/bin"];

/// Directories below a home in which managers put their own programs.
const USER_DIRS: [&[u8]; 8] = [
    b".local/bin",
    b".cargo/bin",
    b".nix-profile/bin",
    b".local/state/nix/profile/bin",
    b"bin",
    b".volta/bin",
    b".pyenv/bin",
    b".rbenv/bin",
];

/// Directories that all users share, but that sudo does not search.
const SHARED_DIRS: [&[u8]; 3] = [b"/nix/var/nix/profiles/default/bin", b"/snap/bin", b"/opt/local/bin"];

/// Who has to run a command that changes an installation.
#[must_use]
pub fn actor_of(host: &Host, location: &Location) -> Actor {
    match &location.scope {
        Scope::System => Actor::Root,
        Scope::User(name) => Actor::User(name.clone()),
        Scope::Environment(dir) => actor_for(host, dir),
    }
}

/// Who has to run a command that changes something at this path: the user in whose home it lies, else the user whom
/// the directory belongs to, else root.
#[must_use]
pub fn actor_for(host: &Host, place: &[u8]) -> Actor {
    if let Some(user) = host.home_owner(place) {
        return if user.uid == 0 { Actor::Root } else { Actor::User(user.name.clone()) };
    }
    let owner = host.root.target(path::parent(place)).ok().map(|meta| meta.owner);
    // A tree that somebody unpacked belongs to that user as a whole.
    let unpacked = host.root.target(b"/").is_ok_and(|top| top.owner != 0);
    let user = host.users.iter().find(|user| Some(user.uid) == owner && user.uid != 0 && !unpacked);
    user.map_or(Actor::Root, |user| Actor::User(user.name.clone()))
}

/// A remedy with its command as it is typed on this machine; `owner` is who owns the installation that it changes.
#[must_use]
pub fn addressed(host: &Host, owner: &Actor, remedy: Remedy) -> Remedy {
    let actor = match &remedy.actor {
        Actor::Owner if *owner == Actor::User("root".into()) => Actor::Root,
        Actor::Owner => owner.clone(),
        Actor::User(name) if **name == *b"root" => Actor::Root,
        actor => actor.clone(),
    };
    let typed = |line: &CommandLine| match &actor {
        Actor::Anyone | Actor::Owner => (line.to_string(), None),
        Actor::Root => as_root(host, line),
        Actor::User(name) => as_user(host, name, line),
    };
    let (command, as_user) = typed(&remedy.line);
    let reversible_by = remedy.undo.as_ref().map(|line| typed(line).0);
    let user = match &actor {
        Actor::User(name) => Some(name.clone()),
        _ => None,
    };
    Remedy { command, as_user, user, reversible_by, actor, ..remedy }
}

/// Whether a path is in the part of a system that comes as an image, which cannot be written.
#[must_use]
pub fn is_sealed(host: &Host, place: &[u8]) -> bool {
    let sealed = [&b"/usr"[..], b"/bin", b"/sbin", b"/lib", b"/lib64", b"/System"];
    let is_inside = sealed.iter().any(|dir| path::within(place, dir)) && !path::within(place, b"/usr/local");
    is_inside && host.is_image_based()
}

/// A remedy that changes what is at this path.
#[must_use]
pub fn at_path(host: &Host, place: &[u8], remedy: Remedy) -> Remedy {
    addressed(host, &actor_for(host, place), remedy)
}

/// Deletes files of one owner.
#[must_use]
pub fn delete_files(host: &Host, files: &[ByteString]) -> Remedy {
    let line = files.iter().cloned().fold(CommandLine::new("rm --"), CommandLine::arg);
    let loses = files.iter().map(ToString::to_string).collect();
    let remedy = Remedy { loses, ..Remedy::new(RemedyKind::Remove, line).to("remove it") };
    at_path(host, files.first().map_or(&b"/"[..], |file| file), remedy)
}

/// Directories of programs that belong to the distribution.
pub const MANAGED_DIRS: [&[u8]; 5] = [b"/usr/bin", b"/usr/sbin", b"/bin", b"/sbin", b"/usr/games"];

/// The directory for local programs that stands for one of the distribution's.
#[must_use]
pub fn local_dir(dir: &[u8]) -> &'static str {
    if path::name(dir) == b"sbin" { "/usr/local/sbin" } else { "/usr/local/bin" }
}

/// A free name to which a program is moved aside: moving it there overwrites nothing. It is beside the program, or for
/// one in a directory of the distribution's in the directory for local programs. None for a link that would then lead
/// elsewhere.
#[must_use]
pub fn free_name(root: &Root, file: &ByteString) -> Option<ByteString> {
    let dir = path::parent(file);
    let to = match MANAGED_DIRS.contains(&dir) {
        true if root.read_link(file).is_ok_and(|target| !target.starts_with(b"/")) => return None,
        true => path::join(local_dir(dir).as_bytes(), path::name(file)),
        false => file.clone(),
    };
    root.dir(path::parent(&to)).ok()?;
    let names = (1..100).map(|number| match number {
        1 => [&to, &b".aside"[..]].concat(),
        number => [&to, format!(".aside{number}").as_bytes()].concat(),
    });
    names.map(ByteString::from).find(|name| root.entry(name).is_err_and(|error| error.is_missing()))
}

fn as_root(host: &Host, line: &CommandLine) -> (String, Option<ByteString>) {
    let asks_as_root = host.root.is_live() && host.env.uid == Some(0);
    match has_sudo(host) && !asks_as_root {
        true => (line.clone().behind(&CommandLine::new("sudo")).to_string(), None),
        false => (line.to_string(), Some("root".into())),
    }
}

fn as_user(host: &Host, name: &ByteString, line: &CommandLine) -> (String, Option<ByteString>) {
    if host.users.iter().find(|user| host.asks(user)).is_some_and(|user| user.name == *name) {
        return (line.to_string(), Some(name.clone()));
    }
    let line = with_program_found(host, name, line);
    if has_sudo(host) {
        let prefix = CommandLine::new("sudo -u").arg(name.clone()).words("-H");
        return (line.behind(&prefix).to_string(), None);
    }
    (become_user(name, &line.to_string()), Some("root".into()))
}

/// A command of another user's, as root runs it where there is no sudo.
#[must_use]
pub fn become_user(name: &ByteString, command: &str) -> String {
    CommandLine::new("su -s /bin/sh -c").arg(command).arg("--").arg(name.clone()).to_string()
}

fn has_sudo(host: &Host) -> bool {
    SUDO.iter().any(|place| host.root.target(place).is_ok())
}

/// The command with the path of its program, where only the user's own search path has it.
fn with_program_found(host: &Host, name: &ByteString, line: &CommandLine) -> CommandLine {
    let mut line = line.clone();
    line.then = line.then.iter().map(|next| with_program_found(host, name, next)).collect();
    let Some(program) = line.words.first_mut().filter(|word| !word.contains(&b'/')) else { return line };
    let is_in = |dir: &[u8]| host.root.target(&path::join(dir, program)).is_ok();
    if SYSTEM_DIRS.iter().any(|dir| is_in(dir)) {
        return line;
    }
    let home = host.users.iter().find(|user| user.name == *name).map(|user| user.home.clone());
    let own = home.iter().flat_map(|home| USER_DIRS.iter().map(|dir| path::join(home, dir)));
    let shared = SHARED_DIRS.iter().map(|dir| ByteString::from(*dir));
    if let Some(dir) = own.chain(shared).find(|dir| is_in(dir)) {
        *program = path::join(&dir, program);
    }
    line
}
