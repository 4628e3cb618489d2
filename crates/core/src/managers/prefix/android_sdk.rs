//! Packages of the Android SDK (Android documentation, "sdkmanager").
//!
//! Below the SDK's directory (`ANDROID_HOME`, `ANDROID_SDK_ROOT`, `~/Android/Sdk`) each package has a directory with a
//! `package.xml`: its path with `;` between the parts, its revision, and a name to be shown.
//!
//! Traps: a revision of one part and one of three are the same kind of number; a directory without `package.xml` was
//! put there by hand.

use quick_xml::Reader;
use quick_xml::events::Event;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, dirs_in, of, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("android-sdk");
/// As deep a package lies below the SDK: `system-images/android-34/default/x86_64`.
const DEEP: usize = 4;
/// Packages that every SDK has one of.
const MARKS: [&[u8]; 4] = [b"platform-tools", b"cmdline-tools", b"build-tools", b"platforms"];

/// The manager.
#[derive(Debug)]
pub struct AndroidSdk;

struct Sdk;

impl Manager for AndroidSdk {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { keeps_versions: true, ..Profile::of(ManagerKind::Prefix) }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let shared = ["/opt/android-sdk", "/usr/lib/android-sdk", "/usr/local/lib/android/sdk"];
        let mut dirs: Vec<(Scope, ByteString)> = shared.map(|dir| (Scope::System, dir.into())).to_vec();
        for user in &host.users {
            let places = [("ANDROID_HOME", "Android/Sdk"), ("ANDROID_SDK_ROOT", "Library/Android/sdk")];
            dirs.extend(places.map(|(variable, below)| (of(user), host.user_dir(user, variable, below))));
        }
        let is_sdk = |dir: &ByteString| dirs_in(host, dir, false).iter().any(|(name, _)| MARKS.contains(&&**name));
        at_each(host, ID, dirs, is_sdk, |_| Sdk)
    }
}

/// The path of a package, and its revision.
fn described(content: &[u8]) -> Result<(String, String), String> {
    let mut reader = Reader::from_reader(content);
    let mut path = None;
    let mut numbers = Vec::new();
    let mut preview = None;
    let mut is_whole = false;
    let (mut is_own, mut element) = (false, String::new());
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Start(start) => {
                element = start.local_name().as_ref().to_owned();
                match element.as_str() {
                    "localPackage" => {
                        let value = start.try_get_attribute("path").map_err(|error| error.to_string())?;
                        path = value.map(|value| value.value.into_owned());
                    }
                    // The revisions of what it needs come later.
                    "revision" => is_own = numbers.is_empty(),
                    _ => {}
                }
            }
            Event::Text(text) if is_own => {
                let text = text.trim().to_owned();
                match element.as_str() {
                    "major" | "minor" | "micro" => numbers.push(text),
                    "preview" => preview = Some(text),
                    _ => {}
                }
            }
            Event::End(end) => {
                is_whole |= end.local_name().as_ref() == "localPackage";
                is_own = is_own && end.local_name().as_ref() != "revision";
                element.clear();
            }
            Event::Eof => break,
            _ => {}
        }
    }
    let path = path.filter(|path| !path.is_empty()).ok_or("names no package")?;
    if !is_whole {
        return Err("ends before the package does".to_owned());
    }
    let revision = numbers.join(".");
    if revision.is_empty() {
        return Err("names no revision".to_owned());
    }
    Ok((path, preview.map_or(revision.clone(), |preview| format!("{revision}-rc{preview}"))))
}

/// Every directory with a `package.xml`, so deep below this one.
fn look(host: &Host, dir: &ByteString, deep: usize, found: &mut Vec<(ByteString, ByteString)>) {
    for (name, _) in dirs_in(host, dir, false) {
        let tree = path::join(dir, &name);
        let file = path::join(&tree, b"package.xml");
        if host.root.entry(&file).is_ok() {
            found.push((tree, file));
        } else if deep > 1 {
            look(host, &tree, deep - 1, found);
        }
    }
}

impl SimpleBackend for Sdk {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let mut found = Vec::new();
        look(host, &at.dir, DEEP, &mut found);
        for (tree, file) in found {
            let (path, revision) = match parsed(host, &file, Limit::SMALL, described) {
                Ok(read) => read,
                Err(problem) => {
                    record.notes.push(Loss::because(problem, format!("the package in {tree} is unknown")));
                    continue;
                }
            };
            let mut item = InstalledPackage::new("package", path.as_str());
            item.installed_at = host.root.modified(&file);
            item.evidence.push(Evidence::at(file, "revision", format!("{path} {revision}")));
            item.version = Some(revision.into());
            item.trees.push(tree);
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_package_describes_itself_before_what_it_needs() {
        let revision = |numbers: &str| format!("<revision>{numbers}</revision>");
        let text = format!(
            "<ns2:repository xmlns:ns2=\"x\"><license id=\"a\">Text</license><localPackage path=\"build-tools;34.0.0\">{}\
             <display-name>Tools</display-name><dependencies><dependency path=\"tools\"><min-revision><major>20</major></min-revision>\
             </dependency></dependencies></localPackage></ns2:repository>",
            revision("<major>34</major><minor>0</minor><micro>1</micro><preview>2</preview>")
        );
        assert_eq!(described(text.as_bytes()), Ok(("build-tools;34.0.0".to_owned(), "34.0.1-rc2".to_owned())));
        assert!(described(b"<repository/>").is_err() && described(b"<a").is_err());
    }
}
