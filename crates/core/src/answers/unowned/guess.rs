//! How a group of files probably came, and what the guess rests on.

use super::group::Place;
use super::{FileKind, Stray};
use crate::model::Evidence;
use crate::scene::Scene;
use crate::text::{Text, path};

/// Prefixes that a distribution's own manager fills.
const MANAGED: [&[u8]; 2] = [b"/usr", b""];

/// The group's name, the guess, and its evidence. `members` has the programs first.
pub fn guess(scene: &Scene, members: &[&Stray]) -> (Text, String, Vec<Evidence>) {
    let main = main_program(members);
    let mut evidence = vec![written(main)];
    let place = Place::of(scene, main.leads_to.as_ref().unwrap_or(&main.path));
    let home_of = |tree: &Text| scene.people.iter().find(|person| path::within(tree, &person.home));
    let programs = members.iter().filter(|stray| stray.kind.is_program() && stray.kind != FileKind::Link).count();
    let at_home = path::folder(&main.path);
    let companions = members.iter().any(|stray| !stray.kind.is_program() && path::folder(&stray.path) != at_home);
    let litter = members.iter().any(|stray| !stray.kind.is_program());
    match place {
        Place::Tree(tree) if home_of(&tree).is_some() && path::name(&tree).starts_with(b".") => {
            let says = format!("kept by the tool whose folder is {tree}");
            evidence.push(Evidence::at(tree.clone(), "folder", "a hidden folder in a home holds one tool's own files"));
            let mut itself = members.iter().filter(|stray| stray.kind.is_program() && stray.kind != FileKind::Link);
            let name = match (itself.next(), itself.next()) {
                (Some(only), None) => path::name(&only.path),
                _ => path::name(&tree),
            };
            (name.into(), says, evidence)
        }
        Place::Tree(tree) => {
            evidence.push(Evidence::at(tree.clone(), "folder", "all of it lies in one tree"));
            (bare_name(path::name(&tree)), format!("an archive unpacked into {tree}"), evidence)
        }
        Place::Prefix(prefix) => {
            let name = path::name(&main.path).into();
            let folder = Text::from(path::folder(&main.path));
            let managed = MANAGED.contains(&prefix.as_bytes());
            let one = if main.kind == FileKind::Script { "a script" } else { "a program" };
            let says = match (programs, companions) {
                (_, true) if !managed => {
                    let prefix = if prefix.is_empty() { "/".into() } else { prefix };
                    evidence.push(Evidence::at(
                        prefix.clone(),
                        "folder",
                        "program and companions lie where an install step puts them",
                    ));
                    format!("built from source and installed into {prefix}")
                }
                _ if litter => format!("an archive unpacked straight into {folder}"),
                (0 | 1, _) if managed => {
                    format!("{one} put by hand into {folder}, which the distribution's manager fills")
                }
                (_, _) if managed => {
                    format!("{programs} programs put by hand into {folder}, which the distribution's manager fills")
                }
                (0 | 1, _) => format!("{one} put by hand into {folder}"),
                _ => format!("{programs} programs put into {folder} at the same time"),
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
    Evidence::at(main.path.clone(), "time of last change", time)
}

/// `barolog-2.1.0` → `barolog`.
fn bare_name(folder: &[u8]) -> Text {
    let whole = path::join(b"/", folder);
    match crate::search::hints::of_folder(&whole).and_then(|hint| hint.name) {
        Some(name) => name.into(),
        None => folder.into(),
    }
}
