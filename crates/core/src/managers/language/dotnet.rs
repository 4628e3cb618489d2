//! Global tools of .NET (.NET documentation, "Manage .NET tools").
//!
//! `~/.dotnet/tools/.store/ID/VERSION/` is the package, in whose depth a file `DotnetToolSettings.xml` names its
//! commands; each is a program in `~/.dotnet/tools`.
//!
//! Traps: the directories spell ids in small letters; a tool can be there for several frameworks, with the same
//! commands; the program is a small one that starts .NET on the package.

use quick_xml::events::Event;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("dotnet");

/// The manager.
#[derive(Debug)]
pub struct Dotnet;

struct Tools;

impl Manager for Dotnet {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let tools = path::join(&host.user_dir(user, "DOTNET_CLI_HOME", ""), b".dotnet/tools");
            let tools = host.root.canonicalize_dir(&tools);
            let is_there = is_dir(host, &path::join(&tools, b".store"));
            is_there.then_some((tools, Tools))
        })
    }
}

/// The commands that a file of settings names.
fn commands(content: &[u8]) -> Result<Vec<String>, String> {
    let mut reader = quick_xml::Reader::from_reader(content);
    let mut found = Vec::new();
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Start(tag) | Event::Empty(tag) if tag.name().as_ref() == "Command" => {
                let named = tag.attributes().flatten().find(|attribute| attribute.key.as_ref() == "Name");
                found.extend(named.map(|attribute| attribute.value.into_owned()));
            }
            Event::Eof => return Ok(found),
            _ => {}
        }
    }
}

impl Tools {
    /// Adds the commands of a package, as each of its frameworks has them.
    fn add_commands(
        host: &Host,
        at: &Location,
        entry: &ByteString,
        item: &mut InstalledPackage,
        notes: &mut Vec<Loss>,
    ) {
        let version = ByteString::from(path::name(entry));
        let id = ByteString::from(path::name(path::parent(entry)));
        let frameworks = path::join(&path::join(&path::join(entry, &id), &version), b"tools");
        for (framework, _) in dirs_in(host, &frameworks, false) {
            let framework = path::join(&frameworks, &framework);
            for (system, _) in dirs_in(host, &framework, false) {
                let file = path::join(&path::join(&framework, &system), b"DotnetToolSettings.xml");
                match parsed(host, &file, Limit::SMALL, commands) {
                    Ok(names) => {
                        for name in names.iter().filter(|name| !name.contains('/')) {
                            let command = path::join(&at.dir, name.as_bytes());
                            if !item.commands.contains(&command) && host.root.entry(&command).is_ok() {
                                let says = format!("{} brings {}", item.name, ByteString::from(name.as_str()));
                                item.bring(command, Evidence::at(file.clone(), "Commands", says));
                            }
                        }
                    }
                    Err(problem) => {
                        notes.push(Loss::because(problem, format!("the commands of {} are unknown", item.name)));
                    }
                }
            }
        }
    }
}

impl SimpleBackend for Tools {
    // Each tool brings along what it needs.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let store = path::join(&at.dir, b".store");
        for (id, _) in dirs_in(host, &store, false) {
            let of_id = path::join(&store, &id);
            for (version, _) in dirs_in(host, &of_id, false) {
                let entry = path::join(&of_id, &version);
                let mut item = InstalledPackage::new("tool", id.clone());
                item.version = Some(version.clone());
                item.purl = Some("nuget");
                item.installed_at = host.root.modified(&entry);
                item.evidence.push(Evidence::directory(entry.clone(), format!("{id} {version}")));
                Tools::add_commands(host, at, &entry, &mut item, &mut record.notes);
                item.trees.push(entry);
                record.items.push(item);
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone()]
    }
}
