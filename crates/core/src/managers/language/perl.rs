//! Modules of Perl that were built and installed from CPAN or a working copy (`ExtUtils::Packlist`, `perllocal`).
//!
//! Below a directory of libraries, `ARCH/auto/MODULE/.packlist` lists the files of a distribution, a path to a line;
//! `ARCH/perllocal.pod` notes each installation with its date and version. Libraries of this kind are in `/usr/local`,
//! in `~/perl5` (`PERL_LOCAL_LIB_ROOT`) and in each perl that a user keeps (`PERLBREW_ROOT`).
//!
//! Traps: what a distribution packaged has lost its list; the version in force is that of the module's own file, which
//! need not be a literal; behind a path can stand `type=link from=…`; nothing says what was asked for, and no command
//! of Perl's own removes anything.

use std::sync::LazyLock;

use hashbrown::HashMap;
use rayon::prelude::*;
use regex_lite::Regex;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, at_each, dirs_in, each_line, is_dir, of, scope_of,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Affix, Evidence, Location, Loss, ManagerId, NameFilter, Profile, Reason, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("cpan");
/// The deepest module name that is followed: `A::B::C` has three parts.
const MAX_DEPTH: usize = 12;
/// The most directories that are looked into for lists.
const MAX_DIRS: usize = 100_000;

/// The manager.
#[derive(Debug)]
pub struct Cpan;

/// A directory of compiled parts, in which the lists are.
struct Library;

impl Manager for Cpan {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::Perl, Affix::None)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut places: Vec<(Scope, ByteString)> = Vec::new();
        let inside = |dir: &ByteString| -> Vec<ByteString> {
            dirs_in(host, dir, false).into_iter().map(|(name, _)| path::join(dir, &name)).collect()
        };
        // Debian: lib/TRIPLET/perl/VERSION; elsewhere: lib*/perl5, as it is or with a version and an architecture.
        for triplet in inside(&"/usr/local/lib".into()) {
            places.extend(inside(&path::join(&triplet, b"perl")).into_iter().map(|dir| (Scope::System, dir)));
        }
        for dir in ["/usr/local/lib/perl5", "/usr/local/lib64/perl5", "/usr/local/lib/perl5/site_perl"] {
            let dir = ByteString::from(dir);
            let deeper = inside(&dir).into_iter().flat_map(|version| [inside(&version), vec![version]].concat());
            places.extend(deeper.chain([dir]).map(|dir| (Scope::System, dir)));
        }
        for user in &host.users {
            let own = host.user_dir(user, "PERL_LOCAL_LIB_ROOT", "perl5");
            let libraries = path::join(&own, b"lib/perl5");
            places.extend(inside(&libraries).into_iter().map(|dir| (of(user), dir)));
            let kept = path::join(&host.user_dir(user, "PERLBREW_ROOT", "perl5/perlbrew"), b"perls");
            for version in inside(&kept) {
                let libraries = inside(&path::join(&version, b"lib/site_perl"));
                let libraries = libraries.iter().flat_map(inside);
                places.extend(libraries.map(|dir| (Scope::Environment(version.clone()), dir)));
            }
        }
        // What lies in a home is its user's, whatever led there.
        let places = places.into_iter().map(|(scope, dir)| {
            let dir = host.root.canonicalize_dir(&dir);
            (if scope == Scope::System { scope_of(host, &dir) } else { scope }, dir)
        });
        at_each(host, ID, places, |dir| is_dir(host, &path::join(dir, b"auto")), |_| Library)
    }
}

/// The lists below a directory, each with the name of its module.
fn lists_below(host: &Host, auto: &ByteString, notes: &mut Vec<Loss>) -> Vec<(ByteString, String)> {
    let mut found = Vec::new();
    let mut open: Vec<(ByteString, Vec<String>)> = vec![(auto.clone(), Vec::new())];
    let mut looked = 0;
    while let Some((dir, name)) = open.pop() {
        looked += 1;
        if looked > MAX_DIRS {
            notes.push(Loss::note(format!("{auto}: too many directories: the modules behind the first are unknown")));
            break;
        }
        let names = match host.root.dir(&dir).and_then(|dir| dir.list()) {
            Ok(names) => names,
            Err(error) => {
                notes.push(Loss::unread(&error, "the modules in it are unknown"));
                continue;
            }
        };
        for (entry, kind) in names {
            match kind {
                // What is no file is told by the one that reads it.
                _ if *entry == *b".packlist" && !name.is_empty() => {
                    found.push((path::join(&dir, &entry), name.join("::")));
                }
                Kind::Dir if name.len() < MAX_DEPTH && !entry.starts_with(b".") => {
                    let part = String::from_utf8_lossy(&entry).into_owned();
                    open.push((path::join(&dir, &entry), [&name[..], &[part]].concat()));
                }
                _ => {}
            }
        }
    }
    found.sort();
    found
}

/// What `perllocal.pod` notes of a module.
struct Note {
    line: u32,
    version: Option<String>,
}

/// The last note of each module.
fn notes_of(pod: &[u8]) -> HashMap<String, Note> {
    const MODULE: &[u8] = b"C<Module> L<";
    let mut found: HashMap<String, Note> = HashMap::new();
    let mut of: Option<String> = None;
    for (number, line) in (1..).zip(pod.split(|&b| b == b'\n')) {
        if line.starts_with(b"=head2 ") {
            let named = memchr::memmem::find(line, MODULE).map(|at| &line[at + MODULE.len()..]);
            let named = named.and_then(|rest| Some(&rest[..memchr::memchr(b'|', rest)?]));
            of = named.map(|name| String::from_utf8_lossy(name).into_owned());
            found.extend(of.clone().map(|name| (name, Note { line: number, version: None })));
        } else if let Some(version) = line.strip_prefix(b"C<VERSION: ").and_then(|rest| rest.strip_suffix(b">"))
            && let Some(note) = of.as_ref().and_then(|name| found.get_mut(name))
        {
            note.version = Some(String::from_utf8_lossy(version).into_owned()).filter(|text| !text.is_empty());
        }
    }
    found
}

/// The version that a module's file declares as a literal, and the line.
fn declared(module: &str) -> Option<(String, u32)> {
    static ASSIGNED: LazyLock<Regex> = LazyLock::new(|| {
        let name = r"^\s*(?:BEGIN\s*\{\s*)?(?:our|local|my)?\s*\$(?:[A-Za-z_][\w:]*::)?VERSION\s*=\s*";
        let value = r#"(?:['"](v?[0-9][0-9._]*)['"]|(v?[0-9][0-9._]*))\s*;"#;
        Regex::new(&[name, value].concat()).expect("the expression is fixed")
    });
    static PACKAGE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^\s*package\s+[A-Za-z_][\w:]*\s+(v?[0-9][0-9._]*)\s*[;{]").expect("the expression is fixed")
    });
    let code = (1..).zip(module.lines()).take_while(|(_, line)| !matches!(line.trim(), "__END__" | "__DATA__"));
    let mut in_pod = false;
    for (number, line) in code {
        if line.starts_with('=') {
            in_pod = !line.starts_with("=cut");
        }
        if in_pod {
            continue;
        }
        if let Some(found) = ASSIGNED.captures(line) {
            let quoted = found.get(1).map(|text| text.as_str().to_owned());
            return Some((quoted.or_else(|| Some(as_number(found.get(2)?.as_str())))?, number));
        }
        if let Some(found) = PACKAGE.captures(line) {
            return Some((found[1].to_owned(), number));
        }
    }
    None
}

/// A version without quotes is a number: `1.10` is `1.1`.
fn as_number(text: &str) -> String {
    let bare = text.replace('_', "");
    match bare.matches('.').count() {
        1 if !bare.starts_with('v') => bare.trim_end_matches('0').trim_end_matches('.').to_owned(),
        _ => bare,
    }
}

/// The path that a line of a list names.
fn file_of(line: &[u8]) -> Option<&[u8]> {
    let end = memchr::memmem::find(line, b" type=").or_else(|| memchr::memmem::find(line, b" from="));
    Some(&line[..end.unwrap_or(line.len())]).filter(|file| file.starts_with(b"/"))
}

impl Library {
    fn module(host: &Host, list: &ByteString, name: &str, noted: Option<(&ByteString, &Note)>) -> InstalledPackage {
        let mut item = InstalledPackage::new("module", name);
        item.reason = Reason::Unknown;
        item.entry = list.clone();
        item.installed_at = host.root.modified(list);
        item.evidence.push(Evidence::whole(list.clone(), format!("the files of {name}")));
        let own = format!("/{}.pm", name.replace("::", "/"));
        let content = host.root.read(list, Limit::LIST).unwrap_or_default();
        let mut files = content.split(|&b| b == b'\n').filter_map(file_of);
        let module = files.find(|file| file.ends_with(own.as_bytes())).map(ByteString::from);
        let declared = module.and_then(|file| {
            let content = host.root.read(&file, Limit::SMALL).ok()?;
            let (version, line) = declared(&String::from_utf8_lossy(&content))?;
            Some((version, Evidence::line(file, line, "declares its version")))
        });
        if let Some((pod, note)) = noted {
            let says = note.version.as_ref().map_or_else(|| "installed".to_owned(), |one| format!("installed {one}"));
            item.evidence.push(Evidence::line(pod.clone(), note.line, ByteString::from(says).to_string()));
        }
        match declared {
            Some((version, evidence)) => {
                item.version = Some(version.into());
                item.evidence.push(evidence);
            }
            None => item.version = noted.and_then(|(_, note)| note.version.clone()).map(ByteString::from),
        }
        item
    }
}

impl SimpleBackend for Library {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let lists = lists_below(host, &path::join(&at.dir, b"auto"), &mut record.notes);
        let pod = path::join(&at.dir, b"perllocal.pod");
        let noted = match host.root.read(&pod, Limit::LIST) {
            Ok(content) => content,
            Err(error) if error.is_missing() => Vec::new(),
            Err(error) => {
                record.notes.push(Loss::unread(&error, "when modules were installed is unknown"));
                Vec::new()
            }
        };
        let noted = notes_of(&noted);
        let of_list = |(list, name): &(ByteString, String)| {
            Library::module(host, list, name, noted.get(name).map(|note| (&pod, note)))
        };
        record.items = lists.par_iter().map(of_list).collect();
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Perl
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }
}

impl FileLists for Library {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        each_line(&host.root, items, file_of, wanted, notes, take);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_literal_version_is_read_as_perl_reads_it() {
        for (text, version) in [
            ("package Tide;\nour $VERSION = '1.10';\n", Some("1.10")),
            ("our $VERSION = 1.10;\n", Some("1.1")),
            ("$Tide::VERSION = \"v1.2.3\"; # latest\n", Some("v1.2.3")),
            ("package Tide 2.01;\n", Some("2.01")),
            ("=pod\n\nour $VERSION = '9';\n\n=cut\n\nour $VERSION='3';\n", Some("3")),
            ("our $VERSION = 1.02_03;\n", Some("1.0203")),
            ("our $VERSION = eval $x;\n__END__\nour $VERSION = '1';\n", None),
        ] {
            assert_eq!(declared(text).map(|found| found.0).as_deref(), version, "{text}");
        }
    }

    #[test]
    fn the_last_note_of_a_module_counts() {
        let pod = b"=head2 Mon: C<Module> L<Tide|Tide>\n\nC<VERSION: 1.0>\n\n=head2 Tue: C<Module> L<Tide::Lamp|Tide::Lamp>\n\nC<VERSION: 7>\n\n=head2 Wed: C<Module> L<Tide|Tide>\n\nC<VERSION: 1.1>\n";
        let noted = notes_of(pod);
        let note = &noted["Tide"];
        assert_eq!((note.line, note.version.as_deref(), noted.len()), (9, Some("1.1"), 2));
    }
}
