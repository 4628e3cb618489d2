//! How a group of files probably came, and what the guess rests on.

use super::group::Place;
use super::{FileKind, Stray};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::Evidence;

/// Prefixes that a distribution's own manager fills.
const MANAGED: [&[u8]; 2] = [b"/usr", b""];

/// The group's name, the guess, and its evidence. `members` has the programs first.
pub fn guess(host: &Host, members: &[&Stray]) -> (ByteString, String, Vec<Evidence>) {
    let main = main_program(members);
    let mut evidence = vec![written(main)];
    let place = Place::of(host, main.exec_target.as_ref().unwrap_or(&main.path));
    let home_of = |tree: &ByteString| host.users.iter().find(|user| path::within(tree, &user.home));
    let programs = members.iter().filter(|stray| stray.kind.is_program() && stray.kind != FileKind::Link).count();
    let home_owner = path::parent(&main.path);
    let companions = members.iter().any(|stray| !stray.kind.is_program() && path::parent(&stray.path) != home_owner);
    let litter = members.iter().any(|stray| !stray.kind.is_program());
    match place {
        Place::Tree(tree) if home_of(&tree).is_some() && path::name(&tree).starts_with(b".") => {
            let says = format!("maintained by the tool in {tree}");
            evidence.push(Evidence::directory(
                tree.clone(),
                "a hidden directory in a home usually holds the files of one tool",
            ));
            let mut itself = members.iter().filter(|stray| stray.kind.is_program() && stray.kind != FileKind::Link);
            let name = match (itself.next(), itself.next()) {
                (Some(only), None) => path::name(&only.path),
                _ => path::name(&tree),
            };
            (name.into(), says, evidence)
        }
        Place::Tree(tree) => {
            evidence.push(Evidence::directory(tree.clone(), "all files are in one tree"));
            (bare_name(&tree), format!("an archive unpacked into {tree}"), evidence)
        }
        Place::Prefix(prefix) => {
            let name = path::name(&main.path).into();
            let dir = ByteString::from(path::parent(&main.path));
            let managed = MANAGED.contains(&prefix.as_bytes());
            let one = if main.kind == FileKind::Script { "a script" } else { "a program" };
            let says = match (programs, companions) {
                (_, true) if !managed => {
                    let prefix = if prefix.is_empty() { "/".into() } else { prefix };
                    evidence.push(Evidence::directory(
                        prefix.clone(),
                        "the program and its companions are where `make install` puts them",
                    ));
                    format!("built from source and installed into {prefix}")
                }
                _ if litter => format!("an archive unpacked directly into {dir}"),
                (0 | 1, _) if managed => {
                    format!("{one} put by hand into {dir}, which the distribution's package manager manages")
                }
                (_, _) if managed => {
                    format!(
                        "{programs} programs put by hand into {dir}, which the distribution's package manager manages"
                    )
                }
                (0 | 1, _) => format!("{one} put by hand into {dir}"),
                _ => format!("{programs} programs put into {dir} at the same time"),
            };
            (name, says, evidence)
        }
    }
}

/// The program after which the group is called: the one whose name the other files bear most often;
/// of several, the first.
fn main_program<'a>(members: &[&'a Stray]) -> &'a Stray {
    let programs = members.iter().take_while(|stray| stray.kind.is_program());
    let bearing = |program: &Stray| {
        let name = path::name(&program.path);
        members.iter().take(500).filter(|other| memchr::memmem::find(path::name(&other.path), name).is_some()).count()
    };
    let mut best = (0, members[0]);
    for program in programs.take(50) {
        let count = bearing(program);
        if count > best.0 {
            best = (count, program);
        }
    }
    best.1
}

fn written(main: &Stray) -> Evidence {
    let time = jiff::Timestamp::from_second(main.meta.modified).map(|time| time.to_string()).unwrap_or_default();
    Evidence::modified(main.path.clone(), time)
}

/// `/opt/barolog-2.1.0` → `barolog`, and `/opt/barolog/2.1.0` too.
fn bare_name(tree: &[u8]) -> ByteString {
    let hint = crate::resolve::hints::of_dir(tree).filter(|hint| *hint.evidence.file == *tree);
    hint.and_then(|hint| hint.name).map_or_else(|| path::name(tree).into(), ByteString::from)
}
