//! Packages of R in a library that R itself filled (*R Installation and Administration*, "Add-on packages"; *Writing R
//! Extensions*, "The DESCRIPTION file").
//!
//! A library is a directory with one directory for each package, in which `DESCRIPTION` is a stanza: `Package`,
//! `Version`, `Depends`, `Imports` and `LinkingTo` for what it needs, `Built` for the R that built it, and `Repository`
//! or `RemoteType` for where it came from.
//!
//! Traps: a distribution's packages have the same record in `/usr/lib/R`, and are the distribution's; those of priority
//! `base` are R itself; values go on over several lines; a directory that is called `00LOCK…` is left of an
//! installation that was interrupted.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, dirs_in, is_dir, of};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{
    CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Reason, RemedyKind, Scope,
};
use crate::version::Scheme;
use whodunit_formats::stanza::{Stanza, stanzas};

const ID: ManagerId = ManagerId("r");
/// What a package can name that is no package.
const LANGUAGE: &str = "R";

/// The manager.
#[derive(Debug)]
pub struct R;

struct Library;

impl Manager for R {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        // A distribution's own libraries, in /usr/lib/R, belong to its packages.
        let shared = ["/usr/local/lib/R/site-library", "/usr/local/lib/R/library"];
        let mut libraries: Vec<(Scope, ByteString)> = shared.map(|dir| (Scope::System, dir.into())).to_vec();
        for (version, _) in dirs_in(host, b"/opt/R", false) {
            let version = path::join(b"/opt/R", &version);
            libraries.push((Scope::System, path::join(&version, b"lib/R/library")));
        }
        for user in &host.users {
            let own = host.user_dir(user, "", "R");
            for (platform, _) in dirs_in(host, &own, false).iter().filter(|(name, _)| name.ends_with(b"-library")) {
                let platform = path::join(&own, platform);
                let versions = dirs_in(host, &platform, false);
                libraries.extend(versions.iter().map(|(name, _)| (of(user), path::join(&platform, name))));
            }
        }
        at_each(host, ID, libraries, |dir| is_dir(host, dir), |_| Library)
    }
}

/// `R (>= 4.0), rope (>= 0.2), stats` → the names.
fn names(list: &str) -> impl Iterator<Item = &str> {
    let names = list.split(',').map(|one| one.split('(').next().unwrap_or_default().trim());
    names.filter(|name| !name.is_empty() && *name != LANGUAGE)
}

/// Where a package came from, as whoever fetched it noted.
fn origin(field: &impl Fn(&str) -> Option<String>) -> Option<Origin> {
    if let Some(name) = field("Repository") {
        return Some(Origin::third_party("index", name, None));
    }
    let kind = field("RemoteType")?;
    let name = field("RemoteUrl").or_else(|| Some(format!("{}/{}", field("RemoteUsername")?, field("RemoteRepo")?)));
    let url = field("RemoteUrl").map(ByteString::from);
    Some(match kind.as_str() {
        "local" => Origin::local("local", name.unwrap_or_else(|| "local".to_owned()), url),
        _ => Origin::third_party(&kind, name.unwrap_or_else(|| kind.clone()), url),
    })
}

fn package(file: &ByteString, stanza: Stanza<'_>, library: &ByteString) -> Option<InstalledPackage> {
    let field = |name: &str| {
        let value = stanza.whole(name)?;
        Some(String::from_utf8_lossy(&value).split_whitespace().collect::<Vec<_>>().join(" "))
    };
    let mut item = InstalledPackage::new("package", field("Package")?);
    item.version = Some(field("Version")?.into());
    if field("Repository").as_deref() == Some("CRAN") {
        item.purl = Some("cran");
    }
    if field("Priority").as_deref() == Some("base") {
        item.reason = Reason::Dependency;
    }
    item.origin = origin(&field);
    item.channel = field("Built").and_then(|built| Some(built.split(';').next()?.trim().into()));
    for list in ["Depends", "Imports", "LinkingTo"] {
        let list = field(list).unwrap_or_default();
        names(&list).for_each(|name| item.need(name.as_bytes()));
    }
    item.evidence.push(Evidence::line(file.clone(), stanza.line, item.with_version()));
    if item.reason == Reason::Dependency {
        return Some(item);
    }
    let line = CommandLine::new("R CMD REMOVE").arg(format!("--library={library}")).operand(item.name.clone());
    Some(item.remedy(RemedyKind::Remove, line))
}

impl SimpleBackend for Library {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for (name, _) in dirs_in(host, &at.dir, false) {
            let tree = path::join(&at.dir, &name);
            let file = path::join(&tree, b"DESCRIPTION");
            let content = match host.root.read(&file, Limit::SMALL) {
                Ok(content) => content,
                // What is no package has no description.
                Err(error) if error.is_missing() => continue,
                Err(error) => {
                    record.notes.push(Loss::unread(&error, format!("the package {name} is unknown")));
                    continue;
                }
            };
            let read = stanzas(&content).next().and_then(|stanza| package(&file, stanza, &at.dir));
            let Some(mut item) = read else {
                let hides = format!("the package {name} is unknown");
                record.notes.push(Loss::damaged(file, "has no name or no version", hides));
                continue;
            };
            item.installed_at = host.root.modified(&file);
            item.trees.push(tree);
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::R
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_needed_packages() {
        let found: Vec<&str> = names("R (>= 4.0), rope (>= 0.2),tide , R6").collect();
        assert_eq!(found, ["rope", "tide", "R6"]);
    }
}
