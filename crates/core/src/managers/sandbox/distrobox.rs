//! Programs and launchers that distrobox put into a home out of a container (`distrobox-export(1)`).
//!
//! A command is a shell script in `~/.local/bin` whose second line is `# distrobox_binary` and whose third names the
//! container; a launcher in `~/.local/share/applications` starts `distrobox-enter -n CONTAINER`. Which image a container
//! was made of stands in the container store, `~/.local/share/containers/storage/DRIVER-containers/containers.json`.
//!
//! Traps: the program lies in the container and not here, whatever its path says; a script outlives its container; a
//! container of another engine has no record that can be read.

use serde::Deserialize;

use super::container_store::documents;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, launchers_in, of_each_user, scripts_in};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile};
use crate::version::Scheme;
use whodunit_formats::desktop_entry::words;

const ID: ManagerId = ManagerId("distrobox");

/// The manager.
#[derive(Debug)]
pub struct Distrobox;

struct Exports {
    bin: ByteString,
    launchers: ByteString,
}

impl Manager for Distrobox {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Sandbox)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let programs = ["/usr/bin/distrobox-enter", "/usr/local/bin/distrobox-enter"];
        let is_installed = programs.iter().any(|program| host.root.entry(program.as_bytes()).is_ok());
        of_each_user(host, ID, |user| {
            let store = host.user_dir(user, "", ".local/share/containers/storage");
            let bin = host.user_dir(user, "", ".local/bin");
            let is_own = host.root.entry(&path::join(&bin, b"distrobox-enter")).is_ok();
            let is_there = is_dir(host, &bin) && (is_installed || is_own || is_dir(host, &store));
            let launchers = host.user_dir(user, "", ".local/share/applications");
            is_there.then_some((store, Exports { bin, launchers }))
        })
    }
}

/// One container in the store's record.
#[derive(Deserialize)]
struct Container {
    #[serde(default)]
    names: Vec<String>,
    /// A document of its own, as text.
    #[serde(default)]
    metadata: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Metadata {
    image_name: Option<String>,
}

/// A container, and what it was made of.
struct Made {
    name: String,
    image: Option<String>,
    file: ByteString,
}

/// The containers of a store.
fn containers(host: &Host, store: &ByteString, notes: &mut Vec<Loss>) -> Vec<Made> {
    let mut found = Vec::new();
    for file in documents(host, store, "containers") {
        let content = match host.root.read(&file, Limit::LIST) {
            Ok(content) => content,
            Err(error) => {
                notes.push(Loss::unread(&error, "which images containers were made of is unknown"));
                continue;
            }
        };
        match serde_json::from_slice::<Vec<Container>>(&content) {
            Ok(read) => found.extend(read.into_iter().flat_map(|one| {
                let image = serde_json::from_str::<Metadata>(&one.metadata).ok().and_then(|read| read.image_name);
                let file = file.clone();
                one.names.into_iter().map(move |name| Made { name, image: image.clone(), file: file.clone() })
            })),
            Err(error) => {
                notes.push(Loss::damaged(file, error, "which images containers were made of is unknown"));
            }
        }
    }
    found
}

/// The container that a script enters, the line that names it, and the program that it starts there.
fn exported(script: &str) -> Option<(&str, u32, Option<String>)> {
    let mut lines = (1..).zip(script.lines());
    lines.by_ref().take(4).find(|(_, line)| line.trim_end() == "# distrobox_binary")?;
    let (name, number) = lines.find_map(|(number, line)| Some((line.strip_prefix("# name:")?.trim(), number)))?;
    // The last line that hands its arguments on is the one that counts inside the container.
    let start = lines.filter(|(_, line)| line.contains("\"$@\"")).last();
    let program = start.and_then(|(_, line)| {
        let words = shlex::split(line)?;
        words.into_iter().find(|word| word.starts_with('/'))
    });
    (!name.is_empty()).then_some((name, number, program))
}

/// The container that a launcher's command line enters.
fn entered(words: &[String]) -> Option<&str> {
    let enter = words.iter().position(|word| word.rsplit('/').next() == Some("distrobox-enter"))?;
    let rest = &words[enter + 1..];
    rest.windows(2).find(|pair| matches!(pair[0].as_str(), "-n" | "--name")).map(|pair| pair[1].as_str())
}

/// Notes the container and its image.
fn add_container(item: &mut InstalledPackage, container: &str, made: &[Made]) {
    let of_name = made.iter().find(|one| one.name == container);
    let image = of_name.and_then(|one| one.image.as_deref());
    item.origin = Some(Origin::third_party("container", container, image.map(ByteString::from)));
    let shown = ByteString::from(container);
    match of_name {
        Some(one) => {
            let says = match image {
                Some(image) => format!("{shown} was made of the image {}", ByteString::from(image)),
                None => format!("{shown} is there, and of which image is not recorded"),
            };
            item.evidence.push(Evidence::at(one.file.clone(), "metadata", says));
        }
        None if !made.is_empty() => {
            let says = format!("no container {shown} is in the store");
            item.evidence.push(Evidence::at(made[0].file.clone(), "names", says));
        }
        None => {}
    }
}

impl SimpleBackend for Exports {
    // What a program needs is in its container.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let made = containers(host, &at.dir, &mut record.notes);
        for mut script in scripts_in(host, &self.bin).unwrap_or_default() {
            let content = script.take_content(&mut record.notes);
            let text = content.and_then(|content| String::from_utf8(content).ok());
            let Some((container, line, program)) = text.as_deref().and_then(exported) else { continue };
            let mut item = InstalledPackage::new("export", path::name(&script.path));
            item.installed_at = Some(script.modified);
            let program = program.map_or_else(|| "a program".to_owned(), |path| ByteString::from(path).to_string());
            let says = format!("starts {program} in the container {}", ByteString::from(container));
            let evidence = Evidence::line(script.path.clone(), line, says);
            item.evidence.push(evidence.clone());
            add_container(&mut item, container, &made);
            item.bring(script.path, evidence);
            record.items.push(item);
        }
        for (file, entry) in launchers_in(host, &self.launchers, &mut record.notes) {
            let Some(words) = entry.text("Exec").and_then(|exec| words(&exec)) else { continue };
            let Some(container) = entered(&words) else { continue };
            let mut item = InstalledPackage::new("export", path::name(&file));
            let says = format!("enters the container {}", ByteString::from(container));
            item.evidence.push(Evidence::line(file.clone(), entry.line("Exec"), says));
            add_container(&mut item, container, &made);
            item.places.push((file, item.evidence[0].clone()));
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone(), self.launchers.clone()]
    }

    /// What is exported has no version of its own here.
    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_names_its_container_and_its_program() {
        let older = "#!/bin/sh\n# distrobox_binary\n# name: harbour-box\nif x; then\n\tfor arg in \"$@\"; do\n\tdone\nelse\n\t/usr/bin/gauge \"$@\"\nfi\n";
        let newer = "#!/bin/sh\n# distrobox_binary\n# name: harbour-box\nif x; then\n\texec distrobox-enter -n harbour-box -- '/usr/bin/tide gauge' \"$@\"\nelse\n\texec '/usr/bin/tide gauge' \"$@\"\nfi\n";
        assert_eq!(exported(older), Some(("harbour-box", 3, Some("/usr/bin/gauge".to_owned()))));
        assert_eq!(exported(newer), Some(("harbour-box", 3, Some("/usr/bin/tide gauge".to_owned()))));
        assert_eq!(exported("#!/bin/sh\n# name: harbour-box\n/usr/bin/gauge \"$@\"\n"), None);
        let words = |line: &str| shlex::split(line).unwrap();
        assert_eq!(entered(&words("/usr/bin/distrobox-enter -n harbour-box -- gauge %U")), Some("harbour-box"));
        assert_eq!(entered(&words("gauge -n harbour-box")), None);
    }
}
