//! Extensions of `gh` (`gh-extension(1)`).
//!
//! `~/.local/share/gh/extensions/gh-NAME` (`XDG_DATA_HOME`) is one of three: a directory with `manifest.yml` and the program
//! that was downloaded, a checkout of git, or a link to a directory of the user's own.
//!
//! Traps: the version of a checkout is its commit, and stands in a file or among the packed references; `gh` starts an
//! extension itself, so none is on a search path; the path in a manifest is that of the day of its installation.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, link_target, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, RemedyKind};
use crate::version::Scheme;
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::yaml::Node;

const ID: ManagerId = ManagerId("gh");

/// The manager.
#[derive(Debug)]
pub struct Gh;

struct Extensions;

impl Manager for Gh {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = path::join(&host.user_dir(user, "XDG_DATA_HOME", ".local/share"), b"gh/extensions");
            is_dir(host, &dir).then_some((dir, Extensions))
        })
    }
}

/// Notes what an extension's own directory tells.
fn describe(host: &Host, item: &mut InstalledPackage, tree: &ByteString, notes: &mut Vec<Loss>) {
    let manifest = path::join(tree, b"manifest.yml");
    if host.root.entry(&manifest).is_ok() {
        let read = parsed(host, &manifest, Limit::SMALL, |content| {
            let node = Node::parse(&String::from_utf8_lossy(content))?;
            add_manifest(item, &manifest, &node).ok_or_else(|| "lacks an owner, a name or a tag".to_owned())
        });
        if let Err(problem) = read {
            item.evidence.push(Evidence::whole(manifest, "an extension's manifest"));
            notes.push(Loss::because(problem, format!("the version of {} is unknown", item.name)));
        }
    } else if is_dir(host, &path::join(tree, b".git")) {
        add_checkout(host, item, tree, notes);
    } else {
        item.evidence.push(Evidence::directory(tree.clone(), "an extension"));
    }
}

/// Notes what the manifest of a downloaded program says: whose it is, its version, and whether that is to stay.
fn add_manifest(item: &mut InstalledPackage, file: &ByteString, manifest: &Node) -> Option<()> {
    let text = |key: &str| manifest.text_at(key);
    let (owner, name, tag) = (text("owner")?, text("name")?, text("tag")?);
    item.version = Some(tag.strip_prefix('v').unwrap_or(tag).into());
    item.held = text("ispinned") == Some("true");
    let full = format!("{owner}/{name}");
    let url = text("host").map(|host| format!("https://{host}/{full}").into());
    item.origin = Some(Origin::third_party("repository", full.as_str(), url));
    item.evidence.push(Evidence::at(file.clone(), "tag", format!("{full} {tag}")));
    Some(())
}

/// Notes the commit of a checkout, and where it was fetched from.
fn add_checkout(host: &Host, item: &mut InstalledPackage, tree: &[u8], notes: &mut Vec<Loss>) {
    let git = path::join(tree, b".git");
    let file = path::join(&git, b"HEAD");
    match host.root.read(&file, Limit::SMALL) {
        Ok(head) => {
            let head = head.trim_ascii();
            let commit = match head.strip_prefix(b"ref: ") {
                Some(name) => commit_of(host, &git, name),
                None => Some(head.into()),
            };
            // Eight digits, as the manager shows it.
            item.version = commit.map(|commit| commit[..commit.len().min(8)].into());
            item.evidence.push(Evidence::line(file, 1, item.with_version()));
        }
        Err(error) => notes.push(Loss::unread(&error, format!("the version of {} is unknown", item.name))),
    }
    let url = match host.root.read(&path::join(&git, b"config"), Limit::SMALL) {
        Ok(settings) => KeyFile::parse(&settings).get("remote \"origin\"", "url").map(ByteString::from),
        Err(error) => {
            notes.push(Loss::unread(&error, format!("where {} came from is unknown", item.name)));
            None
        }
    };
    if let Some(url) = url {
        let bare = url.strip_suffix(b".git").unwrap_or(&url);
        let parts: Vec<&[u8]> = bare.rsplitn(3, |b| b"/:".contains(b)).collect();
        let name = parts.get(..2).map(|two| [two[1], b"/", two[0]].concat().into());
        item.origin = Some(Origin::third_party("repository", name.unwrap_or_else(|| url.clone()), Some(url)));
    }
}

/// The commit that a reference stands for.
fn commit_of(host: &Host, git: &[u8], name: &[u8]) -> Option<ByteString> {
    let is_sound = name.starts_with(b"refs/") && !name.split(|&b| b == b'/').any(|part| part == b"..");
    let loose = is_sound.then(|| host.root.read(&path::join(git, name), Limit::SMALL).ok()).flatten();
    loose.map(|commit| commit.trim_ascii().into()).or_else(|| {
        let packed = host.root.read(&path::join(git, b"packed-refs"), Limit::LIST).ok()?;
        let mut lines = packed.split(|&b| b == b'\n');
        lines.find_map(|line| Some(line.strip_suffix(name)?.strip_suffix(b" ")?.into()))
    })
}

impl SimpleBackend for Extensions {
    // Extensions do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for (entry, kind) in host.root.names_in(&at.dir) {
            let Some(name) = entry.strip_prefix(b"gh-").filter(|name| !name.is_empty()) else { continue };
            let tree = path::join(&at.dir, &entry);
            let remove = CommandLine::new("gh extension remove").arg(name);
            let mut item = InstalledPackage::new("extension", name).remedy(RemedyKind::Remove, remove);
            item.also.push(entry.clone());
            item.installed_at = host.root.modified(&tree);
            match kind {
                Kind::Link => {
                    let target = link_target(host, &tree).unwrap_or_default();
                    let evidence = Evidence::at(tree.clone(), "link", format!("{entry} is in {target}"));
                    item.origin = Some(Origin::local("directory", "local", None));
                    item.evidence.push(evidence.clone());
                    item.places.push((tree, evidence));
                }
                Kind::Dir => {
                    describe(host, &mut item, &tree, &mut record.notes);
                    item.trees.push(tree);
                }
                _ => continue,
            }
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}
