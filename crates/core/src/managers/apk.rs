//! apk: Alpine Linux and its family.
//!
//! Follows *Apk specification* (installed database, world). `lib/apk/db/installed` has a stanza for each package, of
//! fields with one letter: `P` name, `V` version, `A` architecture, `I` size, `s` the repository's tag; then `F` a
//! folder and below it `R` its files, each with `Z`, a digest. `/etc/apk/world` names what was asked for.
//!
//! Traps: a folder without a name is the root; names in `world` carry versions, tags and `!`; a package that
//! `apk add -t` made has no files; links of multi-call programs are in no list.

use std::cmp::Ordering;

use base64::Engine as _;
use hashbrown::HashMap;

use super::roster::{Item, Keeper, Lists, Record, Roster};
use super::{Holdings, Manager};
use crate::formats::stanza::{Field, stanzas};
use crate::model::{Algorithm, Digest, Evidence, Installation, ManagerId, Origin, Reason, Recorded, Scope, Wanted};
use crate::root::{Kind, Limit};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
use crate::version::gentoo;

const ID: ManagerId = ManagerId("apk");
const PLACES: [&[u8]; 2] = [b"/lib/apk/db", b"/usr/lib/apk/db"];
const WORLD: &[u8] = b"/etc/apk/world";

/// The manager.
#[derive(Debug)]
pub struct Apk;

/// The database in its folder.
struct Database(Text);

impl Manager for Apk {
    fn id(&self) -> ManagerId {
        ID
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let folder = PLACES.iter().map(|place| scene.root.settle_folder(place)).find(|folder| {
            scene.root.target(&path::join(folder, b"installed")).is_ok_and(|meta| meta.kind == Kind::File)
        });
        let opened = folder.map(|folder| {
            let file = path::join(&folder, b"installed");
            Roster::boxed(scene, ID, Scope::System, folder, Database(file))
        });
        opened.into_iter().collect()
    }
}

/// What `world` says of a name.
struct Asked {
    line: u32,
    /// A version or a digest is fixed.
    held: bool,
    tag: Option<Text>,
}

fn world(content: &[u8]) -> HashMap<Text, Asked> {
    let mut asked = HashMap::new();
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        for word in line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty() && !word.starts_with(b"!")) {
            let end = word.iter().position(|b| b"=<>~@".contains(b)).unwrap_or(word.len());
            let tag = memchr::memchr(b'@', word).map(|at| Text::from(&word[at + 1..]));
            let held = word[end..].iter().any(|b| b"=<>~".contains(b));
            asked.insert(word[..end].into(), Asked { line: number, held, tag });
        }
    }
    asked
}

impl Keeper for Database {
    fn read(&self, scene: &Scene, _: &Installation) -> Record {
        let mut record = Record::default();
        let content = match scene.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                record.notes.push(format!("{error}: the packages of apk are not known"));
                return record;
            }
        };
        let asked = match scene.root.read(WORLD, Limit::SMALL) {
            Ok(content) => Some(world(&content)),
            Err(error) => {
                record.notes.push(format!("{error}: which packages were asked for is not known"));
                None
            }
        };
        for stanza in stanzas(&content) {
            let mut item = Item::new("package", Text::default());
            for field in stanza.fields().flatten() {
                match field.name {
                    b"P" => {
                        item.name = field.value.into();
                        item.evidence.push(Evidence::line(
                            self.0.clone(),
                            field.line,
                            format!("package {}", item.name),
                        ));
                    }
                    b"V" => item.version = Some(field.value.into()),
                    b"A" => item.arch = Some(field.value.into()),
                    b"I" => item.size = std::str::from_utf8(field.value).ok().and_then(|size| size.parse().ok()),
                    b"s" => item.channel = Some(field.value.into()),
                    _ => {}
                }
            }
            if item.name.is_empty() {
                record.notes.push(format!("{} line {}: names no package: it is not known", self.0, stanza.line));
                continue;
            }
            item.purl = Some("apk");
            item.reason = if asked.is_some() { Reason::Dependency } else { Reason::Unknown };
            if let Some(asked) = asked.as_ref().and_then(|asked| asked.get(&item.name)) {
                item.reason = Reason::Explicit;
                item.held = asked.held;
                item.channel = item.channel.or_else(|| asked.tag.clone());
                item.evidence.push(Evidence::line(WORLD, asked.line, format!("{} was asked for", item.name)));
            }
            let word = shell_word(&item.name);
            let item = item
                .remedy("remove", format!("sudo apk del {word}"))
                .remedy("upgrade", format!("sudo apk upgrade {word}"));
            record.items.push(item);
        }
        if crate::formats::stanza::is_cut(&content) {
            record.notes.push(format!("{}: cut off: what stood behind its end is not known", self.0));
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        gentoo::compare(a, b)
    }

    fn lists(&self) -> Option<&dyn Lists> {
        Some(self)
    }

    fn origins(&self, _: &Scene, _: &Installation, items: &[Item], _: &mut Vec<String>) -> Option<Vec<Option<Origin>>> {
        // apk records no repository, but the tag of one.
        let of = |item: &Item| {
            let name = item.channel.clone()?;
            Some(Origin { name, kind: "repository".to_owned(), url: None, trust: None })
        };
        Some(items.iter().map(of).collect())
    }
}

/// What a line says of the file before it.
fn say(one: &mut Recorded, name: &[u8], value: &[u8]) {
    if name == b"Z" {
        let bytes =
            value.strip_prefix(b"Q1").and_then(|text| base64::engine::general_purpose::STANDARD.decode(text).ok());
        one.digest = bytes.filter(|bytes| bytes.len() == 20).map(|bytes| Digest::of(Algorithm::Sha1, &bytes));
        return;
    }
    let mut parts = value.split(|&b| b == b':').map(|part| std::str::from_utf8(part).unwrap_or_default());
    let mut number = |base| parts.next().and_then(|part| u32::from_str_radix(part, base).ok());
    (one.owner, one.group, one.mode) = (number(10), number(10), number(8));
}

/// Every field of the packages of interest, with the package's number and the folder in which its files stand there.
fn each_field(content: &[u8], numbers: &HashMap<&[u8], u32>, mut take: impl FnMut(u32, &Text, &Field<'_>)) {
    for stanza in stanzas(content) {
        let (mut number, mut folder) = (None, Text::from("/"));
        for field in stanza.fields().flatten() {
            match field.name {
                b"P" => number = numbers.get(field.value).copied(),
                b"F" => folder = path::join(b"/", field.value),
                _ => number.into_iter().for_each(|number| take(number, &folder, &field)),
            }
        }
    }
}

impl Lists for Database {
    fn each(
        &self,
        scene: &Scene,
        items: &[Item],
        wanted: &Wanted,
        notes: &mut Vec<String>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let content = match scene.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => return notes.push(format!("{error}: files of packages are not known")),
        };
        let numbers: HashMap<&[u8], u32> = items.iter().map(|item| &*item.name).zip(0..).collect();
        each_field(&content, &numbers, |number, folder, field| {
            if field.name == b"R" && wanted.has(field.value) {
                take(number, &path::join(folder, field.value), field.line);
            }
        });
    }

    fn file(&self, _: &Item) -> Text {
        self.0.clone()
    }

    /// `a:` has owner, group and permissions, `Z:` the digest: `Q1` and SHA-1 in base64. Of a link it is that of its
    /// target's text.
    fn recorded(&self, scene: &Scene, items: &[(u32, &Item)], notes: &mut Vec<String>) -> Vec<Recorded> {
        let content = match scene.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                notes.push(format!("{error}: whether files of packages are altered is not known"));
                return Vec::new();
            }
        };
        let numbers: HashMap<&[u8], u32> = items.iter().map(|(number, item)| (&*item.name, *number)).collect();
        let mut found: Vec<Recorded> = Vec::new();
        each_field(&content, &numbers, |package, folder, field| match field.name {
            b"R" => {
                let path = path::join(folder, field.value);
                // What lies in /etc is kept when somebody has changed it.
                let is_settings = path::within(&path, b"/etc");
                found.push(Recorded { package, path, is_settings, ..Recorded::default() });
            }
            b"a" | b"Z" => {
                if let Some(one) = found.last_mut() {
                    say(one, field.name, field.value);
                }
            }
            _ => {}
        });
        for one in &mut found {
            if scene.root.entry(&one.path).is_ok_and(|meta| meta.kind == Kind::Link) {
                one.digest = None;
            }
        }
        found
    }

    fn restore(&self, item: &Item) -> Option<String> {
        Some(format!("sudo apk fix {}", shell_word(&item.name)))
    }
}
