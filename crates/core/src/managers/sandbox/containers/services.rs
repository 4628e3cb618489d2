//! Services of podman: the files, and what changes them (`podman-systemd.unit(5)`).
//!
//! Traps, as podman's own generator has them: directories below count as well, and hidden ones too; what changes a file
//! can lie in any of the directories, below the file's name, its template's, a part of its name up to a `-`, or
//! `container.d` for all; of two such files of one name, the more special counts, and all are taken in the order of
//! their names; an empty value takes back those before.

use std::collections::BTreeMap;

use hashbrown::HashMap;
use indexmap::IndexMap;

use super::{Image, add_image};
use crate::backend::simple::InstalledPackage;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Loss};
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::yaml::{Node, SEPARATOR};

/// Where services of the system are described, the strongest first.
pub(super) const OF_SYSTEM: [&str; 3] =
    ["/run/containers/systemd", "/etc/containers/systemd", "/usr/share/containers/systemd"];
/// Where those of all users are.
pub(super) const OF_USERS: &str = "/etc/containers/systemd/users";

/// More directories, and more files read for services, than any machine has.
const MAX_DIRS: usize = 1_000;
const MAX_READ: usize = 20_000;

/// The services that files in these directories describe, the strongest directory first.
pub(super) fn read(
    host: &Host,
    dirs: &[ByteString],
    images: &[(String, ByteString)],
    notes: &mut Vec<Loss>,
) -> Vec<InstalledPackage> {
    let files = Files::below(host, dirs, notes);
    let mut reader = Reader { host, files: &files, images, notes, left: MAX_READ };
    let mut found = Vec::new();
    for (name, file) in &files.named {
        if let Some(stem) = name.strip_suffix(b".container") {
            found.extend(reader.service(file, stem));
        } else if let Some(stem) = name.strip_suffix(b".kube") {
            found.extend(reader.pods(file, stem));
        }
        if reader.left == 0 {
            let what = "more files than any machine has, up to this one";
            reader.notes.push(Loss::damaged(file.clone(), what, "which services follow is unknown"));
            break;
        }
    }
    found
}

/// What lies in the directories of services.
#[derive(Default)]
struct Files {
    /// Files by their names; of several of one name, the strongest.
    named: IndexMap<ByteString, ByteString>,
    /// Files that change others, by the names of their directories, those of the strongest first.
    changes: HashMap<ByteString, Vec<ByteString>>,
}

impl Files {
    /// Looks into these directories and those below them; not into those of single users.
    fn below(host: &Host, dirs: &[ByteString], notes: &mut Vec<Loss>) -> Self {
        let (mut found, mut looked_into) = (Files::default(), 0);
        for top in dirs {
            let mut open = vec![top.clone()];
            while let Some(dir) = open.pop() {
                looked_into += 1;
                if looked_into > MAX_DIRS {
                    let what = "more directories than any machine has";
                    notes.push(Loss::damaged(dir, what, "which services lie there is unknown"));
                    return found;
                }
                let before = open.len();
                for (name, kind) in host.root.names_in(&dir) {
                    let at = path::join(&dir, &name);
                    let is_of_one = *dir == *OF_USERS.as_bytes() && name.iter().all(u8::is_ascii_digit);
                    if kind != Kind::Dir {
                        found.named.entry(name).or_insert(at);
                    } else if name.ends_with(b".d") {
                        looked_into += 1;
                        let names = host.root.names_in(&at).into_iter().filter(|(name, _)| name.ends_with(b".conf"));
                        found.changes.entry(name).or_default().extend(names.map(|(name, _)| path::join(&at, &name)));
                    } else if !is_of_one && *at != *OF_USERS.as_bytes() {
                        open.push(at);
                    }
                }
                open[before..].reverse();
            }
        }
        found
    }

    /// The files that change one of this name, in the order in which they do.
    fn changing(&self, name: &[u8]) -> impl Iterator<Item = &ByteString> {
        let dot = memchr::memrchr(b'.', name).unwrap_or(name.len());
        let (stem, ending) = name.split_at(dot);
        let mut places: Vec<Vec<u8>> = vec![[name, b".d"].concat()];
        let mut cut = |end: usize| places.push([&stem[..end], ending, b".d"].concat());
        if let Some(at) = memchr::memchr(b'@', stem).filter(|at| at + 1 < stem.len()) {
            cut(at + 1);
        }
        memchr::memrchr_iter(b'-', stem).filter(|at| at + 1 < stem.len()).for_each(|at| cut(at + 1));
        places.push([&ending[1.min(ending.len())..], b".d"].concat());
        let mut found: BTreeMap<&[u8], &ByteString> = BTreeMap::new();
        for file in places.iter().filter_map(|place| self.changes.get(&place[..])).flatten() {
            found.entry(path::name(file)).or_insert(file);
        }
        found.into_values()
    }
}

/// Reads services, one after the other.
struct Reader<'r> {
    host: &'r Host,
    files: &'r Files,
    images: &'r [(String, ByteString)],
    notes: &'r mut Vec<Loss>,
    /// How many files are read at most from here on.
    left: usize,
}

impl Reader<'_> {
    /// A service; `None` where it starts nothing.
    fn service(&mut self, file: &ByteString, stem: &[u8]) -> Option<InstalledPackage> {
        let named = self.value(file, "Container", "Image");
        if let Some((tree, at)) = self.value(file, "Container", "Rootfs") {
            let mut item = self.item(file, stem);
            item.evidence.push(Evidence::at(at, "Rootfs", format!("starts a container of the tree {tree}")));
            // Podman refuses both.
            return named.is_none().then_some(item);
        }
        let mut image = named?;
        // An image that a file of its own describes.
        if let Some(described) = self.files.named.get(image.0.as_bytes()).filter(|_| image.0.ends_with(".image")) {
            image = self.value(described, "Image", "Image").unwrap_or(image);
        }
        let mut item = self.item(file, stem);
        let (name, at) = image;
        match Image::parse(&name) {
            Some(image) => {
                let says = add_image(&mut item, &image, self.images);
                item.evidence.insert(0, Evidence::at(at, "Image", says));
            }
            None => item.evidence.push(Evidence::at(at, "Image", "a container, of which image is not told")),
        }
        Some(item)
    }

    /// What is started as a service of this name.
    fn item(&self, file: &ByteString, stem: &[u8]) -> InstalledPackage {
        let mut item = InstalledPackage::new("container", stem);
        item.installed_at = self.host.root.modified(file);
        item.also.push([stem, b".service"].concat().into());
        item
    }

    /// The pods that a file of Kubernetes' kind describes; `None` where none is named.
    fn pods(&mut self, file: &ByteString, stem: &[u8]) -> Option<InstalledPackage> {
        let (described, at) = self.value(file, "Kube", "Yaml")?;
        let mut item = self.item(file, stem);
        let yaml = match described.starts_with('/') {
            true => described.as_str().into(),
            false => path::join(path::parent(file), described.as_bytes()),
        };
        self.left = self.left.checked_sub(1)?;
        let hides = || format!("which images {} starts is unknown", item.name);
        let content = match self.host.root.read(&yaml, Limit::SMALL) {
            Ok(content) => String::from_utf8_lossy(&content).into_owned(),
            Err(error) => {
                self.notes.push(Loss::unread(&error, hides()));
                String::new()
            }
        };
        let mut named = Vec::new();
        for document in content.split(SEPARATOR).filter(|document| !document.trim().is_empty()) {
            match Node::parse(document) {
                Ok(node) => images_of(&node, &mut named),
                Err(problem) => self.notes.push(Loss::damaged(yaml.clone(), problem, hides())),
            }
        }
        named.dedup();
        for name in &named {
            let Some(image) = Image::parse(name) else { continue };
            let says = add_image(&mut item, &image, self.images);
            item.evidence.insert(0, Evidence::at(yaml.clone(), "image", says));
        }
        // One version, and one place where it came from, only one image can have.
        if named.len() != 1 {
            (item.version, item.origin) = (None, None);
        }
        item.evidence.insert(0, Evidence::at(at, "Yaml", format!("starts the pods of {described}")));
        Some(item)
    }

    /// The value of a key in a file, as other files change it; and where it stands.
    fn value(&mut self, file: &ByteString, group: &str, key: &str) -> Option<(String, ByteString)> {
        let mut found = None;
        let files = self.files;
        for file in std::iter::once(file).chain(files.changing(path::name(file))) {
            // What is to start nothing is a link to this.
            if self.host.root.is_null(file) {
                continue;
            }
            self.left = self.left.checked_sub(1)?;
            match self.host.root.read(file, Limit::SMALL) {
                Ok(content) => {
                    let read = KeyFile::parse(&content);
                    if let Some(value) = read.get(group, key) {
                        let value = value.trim().trim_matches(['"', '\'']);
                        found = (!value.is_empty()).then(|| (value.to_owned(), file.clone()));
                    }
                }
                Err(error) => self.notes.push(Loss::unread(&error, "what it starts is unknown")),
            }
        }
        found
    }
}

/// The images of all containers of a description, however deep.
fn images_of(node: &Node, found: &mut Vec<String>) {
    match node {
        Node::Text(_) => {}
        Node::List(list) => list.iter().for_each(|one| images_of(one, found)),
        Node::Map(map) => {
            for (key, value) in map {
                if let (true, Node::List(containers)) = (key == "containers" || key == "initContainers", value) {
                    found.extend(containers.iter().filter_map(|one| one.text_at("image")).map(str::to_owned));
                } else {
                    images_of(value, found);
                }
            }
        }
    }
}
