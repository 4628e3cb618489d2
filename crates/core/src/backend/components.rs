//! What distributions' AppStream catalogues say of their packages: application ids, names that are shown, keywords.
//!
//! | where | what |
//! |---|---|
//! | `/usr/share/swcatalog`, `/var/lib/swcatalog`, `/var/cache/swcatalog`, each with `xml` and `yaml` | *AppStream*, "Catalog" |
//! | `/usr/share/app-info`, `/var/lib/app-info`, `/var/cache/app-info`, with `xmls` and `yaml` | the same, before 0.16 |
//!
//! A distribution ships them as a package or fetches them with its lists. Only what a query touches is kept: a
//! catalogue has thousands of components, each in a hundred languages.

use std::io::{BufReader, Read as _};

use aho_corasick::AhoCorasick;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::parts::each_part;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Described, Loss, Offer, OfferQuery};
use whodunit_formats::appstream::{self, Component};
use whodunit_formats::yaml::SEPARATOR;
use whodunit_formats::{appstream_yaml, packed};

/// Directories of catalogues.
const DIRS: [&str; 6] = [
    "/usr/share/swcatalog",
    "/var/lib/swcatalog",
    "/var/cache/swcatalog",
    "/usr/share/app-info",
    "/var/lib/app-info",
    "/var/cache/app-info",
];
/// As much of one catalogue is read.
const MAX_UNPACKED: u64 = 1 << 30;

/// What components say of one package.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct AppText {
    /// The name that is shown, of the first component of the package.
    pub(crate) display_name: Option<ByteString>,
    /// By what else the package is found: the ids of its applications; and of its summaries, keywords and names in other
    /// languages those that a query touches.
    pub(crate) keywords: Vec<ByteString>,
    /// Commands that it provides, of those that a query touches.
    pub(crate) commands: Vec<ByteString>,
}

/// What was found of each package, by its name.
#[derive(Debug, Default)]
pub(crate) struct Components {
    pub(crate) of: HashMap<ByteString, AppText>,
    /// What could not be read.
    pub(crate) notes: Vec<Loss>,
}

impl Components {
    /// Reads the catalogues of the machine, and `more` that its manager keeps elsewhere, for what a query touches.
    pub(crate) fn read(root: &Root, more: &[ByteString], query: &OfferQuery) -> Self {
        if query.is_installed() {
            return Components::default();
        }
        let mut files = catalogues(root);
        // The directories hold links to lists that the manager keeps elsewhere.
        files.extend(more.iter().cloned());
        let mut seen = HashSet::new();
        files.retain(|file| root.target(file).is_ok_and(|meta| seen.insert(meta.identity)));
        let filter = Filter::new(query);
        let read: Vec<_> = files.par_iter().map(|file| of_file(root, file, &filter)).collect();
        let mut components = Components::default();
        for (found, note) in read {
            components.notes.extend(note);
            found.iter().for_each(|one| components.add(one, query));
        }
        components
    }

    fn add(&mut self, one: &Component, query: &OfferQuery) {
        let text = self.of.entry(one.package.as_str().into()).or_default();
        let add = |list: &mut Vec<ByteString>, word: &str| {
            let word = ByteString::from(word);
            if !word.is_empty() && !list.contains(&word) {
                list.push(word);
            }
        };
        text.display_name = text.display_name.take().or(ByteString::unless_empty(&one.name));
        add(&mut text.keywords, &one.id);
        let is_touched = |word: &&String| match query {
            OfferQuery::Search(search) => search.is_decided_by(word.as_bytes()),
            _ => false,
        };
        let more = [&one.name, &one.summary].into_iter().chain(&one.keywords);
        more.filter(is_touched).for_each(|word| add(&mut text.keywords, word));
        one.binaries.iter().filter(is_touched).for_each(|word| add(&mut text.commands, word));
    }

    /// Whether a query is about a package: by its own entry and what its applications say.
    pub(crate) fn wants(&self, query: &OfferQuery, entry: &Described<'_>) -> bool {
        let Some(text) = self.of(entry.name) else { return query.wants(entry) };
        match query {
            OfferQuery::Names(_) => true,
            _ => {
                let commands: Vec<ByteString> = entry.commands.iter().chain(&text.commands).cloned().collect();
                let display_name = text.display_name.as_deref();
                query.wants(&Described { display_name, keywords: &text.keywords, commands: &commands, ..*entry })
            }
        }
    }

    /// Adds to an offer what its applications say.
    pub(crate) fn describe(&self, offer: &mut Offer) {
        let Some(text) = self.of(&offer.name) else { return };
        offer.display_name.clone_from(&text.display_name);
        offer.keywords.clone_from(&text.keywords);
        for command in &text.commands {
            if !offer.provides.contains(command) {
                offer.provides.push(command.clone());
            }
        }
    }

    /// What was found of a package.
    pub(crate) fn of(&self, package: &[u8]) -> Option<&AppText> {
        self.of.get(package)
    }
}

/// The catalogues in the usual directories.
fn catalogues(root: &Root) -> Vec<ByteString> {
    let mut files = Vec::new();
    for dir in DIRS {
        for kind in ["xml", "xmls", "yaml"] {
            let dir = path::join(dir.as_bytes(), kind.as_bytes());
            let names = root.names_in(&dir);
            let of_kind = names.into_iter().filter(|(_, kind)| *kind != Kind::Dir);
            files.extend(of_kind.map(|(name, _)| path::join(&dir, &name)));
        }
    }
    files
}

/// Whether a component belongs to a package and is asked about, or has a part of what a search looks for.
fn wants(query: &OfferQuery, one: &Component) -> bool {
    if one.package.is_empty() {
        return false;
    }
    match query {
        // What the other words are found in, the package's own entry tells.
        OfferQuery::Search(search) => {
            let texts = [&one.id, &one.name, &one.summary].into_iter().chain(&one.keywords).chain(&one.binaries);
            texts.into_iter().any(|text| search.is_touched_by(text.as_bytes()))
        }
        _ => query.wants(&Described {
            name: one.id.as_bytes(),
            display_name: Some(one.name.as_bytes()),
            ..Described::default()
        }),
    }
}

/// A query, with a first look at documents that are not taken apart yet.
struct Filter<'q> {
    query: &'q OfferQuery,
    /// All names at once, without blanks; none where a name is not ASCII, which has several spellings.
    names: Option<AhoCorasick>,
}

impl<'q> Filter<'q> {
    fn new(query: &'q OfferQuery) -> Self {
        let names = match query {
            OfferQuery::Names(names) if names.iter().all(|name| name.is_ascii()) => {
                let plain = names.iter().map(|name| without_blanks(name));
                AhoCorasick::builder().ascii_case_insensitive(true).build(plain).ok()
            }
            _ => None,
        };
        Filter { query, names }
    }

    /// Whether a document can be about what is asked.
    fn may_be_in(&self, document: &[u8]) -> bool {
        match &self.names {
            Some(names) => names.is_match(&without_blanks(document)),
            None => self.query.may_be_in(document),
        }
    }
}

/// As names are compared: those that are shown have blanks in them.
fn without_blanks(text: &[u8]) -> Vec<u8> {
    text.iter().copied().filter(|b| *b != b' ').collect()
}

fn of_file(root: &Root, file: &ByteString, filter: &Filter<'_>) -> (Vec<Component>, Option<Loss>) {
    let lost = "what it says of applications is unknown in full";
    let bytes = match root.read(file, Limit::RECORD) {
        Ok(bytes) => bytes,
        Err(error) => return (Vec::new(), Some(Loss::unread(&error, lost))),
    };
    let mut found = Vec::new();
    let problem = match is_xml(&bytes) {
        Ok(true) => of_xml(&bytes, filter.query, &mut found).err(),
        Ok(false) => of_yaml(&bytes, filter, &mut found),
        Err(problem) => Some(problem),
    };
    (found, problem.map(|problem| Loss::damaged(file.clone(), problem, lost)))
}

/// Whether what is compressed begins as XML does.
fn is_xml(bytes: &[u8]) -> Result<bool, String> {
    let mut head = Vec::new();
    let stream = packed::open(bytes).map_err(|error| error.to_string())?;
    stream.take(64).read_to_end(&mut head).map_err(|error| error.to_string())?;
    Ok(head.trim_ascii_start().starts_with(b"<") || head.starts_with(b"\xef\xbb\xbf<"))
}

fn of_xml(bytes: &[u8], query: &OfferQuery, found: &mut Vec<Component>) -> Result<(), String> {
    let stream = packed::open(bytes).map_err(|error| error.to_string())?;
    let stream = BufReader::with_capacity(256 << 10, stream.take(MAX_UNPACKED));
    let mut take = |one: Component| {
        if wants(query, &one) {
            found.push(one);
        }
    };
    appstream::each(stream, &mut take).map_err(|error| error.to_string())
}

/// Documents that are no YAML cost themselves alone; the first of them is told.
fn of_yaml(bytes: &[u8], filter: &Filter<'_>, found: &mut Vec<Component>) -> Option<String> {
    let mut first = None;
    let problem = each_part(bytes, SEPARATOR.as_bytes(), &mut |document| {
        if !filter.may_be_in(document) {
            return;
        }
        let document = document.strip_suffix(SEPARATOR.as_bytes()).unwrap_or(document);
        match appstream_yaml::component(&String::from_utf8_lossy(document)) {
            Ok(Some(one)) if wants(filter.query, &one) => found.push(one),
            Ok(_) => {}
            Err(problem) => first = first.take().or(Some(problem)),
        }
    });
    problem.or(first)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Search, SearchScope};

    const YAML: &str = "---\nFile: DEP-11\nVersion: '0.16'\n---\nType: desktop-application\nID: org.harbour.ChartDesk\nPackage: chartdesk\nName:\n  C: Chart Desk\n  de: Kartentisch\nSummary:\n  C: Plot charts\nKeywords:\n  C:\n  - soundings\n---\nID: org.harbour.Other\nPackage: other\nName:\n  C: Other\n---\nID: broken: soundings: [\n---\nType: font\nID: org.harbour.Font\nName:\n  C: Soundings\n";
    const XML: &str = "<components><component type=\"desktop\"><id>org.harbour.Quay</id><pkgname>quay</pkgname><name>Quay Board</name><summary>Soundings of a quay</summary></component></components>";

    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn packages_are_found_by_what_their_applications_say() {
        let tree = tempfile::tempdir().unwrap();
        let at = |name: &str| tree.path().join(name);
        std::fs::create_dir_all(at("var/lib/swcatalog/yaml")).unwrap();
        std::fs::create_dir_all(at("usr/share/swcatalog/xml")).unwrap();
        std::fs::create_dir_all(at("lists")).unwrap();
        std::fs::write(at("lists/dep11.yml"), YAML).unwrap();
        std::os::unix::fs::symlink("/lists/dep11.yml", at("var/lib/swcatalog/yaml/main.yml")).unwrap();
        std::fs::write(at("usr/share/swcatalog/xml/tide.xml"), XML).unwrap();
        let root = Root::offline(tree.path()).unwrap();
        let search = |word: &str| OfferQuery::Search(Search::new(&[word.into()], &[], SearchScope::Everything));
        let names = |name: &str| OfferQuery::Names(vec![name.into()]);
        for (query, expected, lost) in [
            (search("soundings"), &["chartdesk", "quay"][..], 1),
            (search("kartentisch"), &["chartdesk"], 0),
            (search("lighthouse"), &[], 0),
            (names("org.harbour.chartdesk"), &["chartdesk"], 0),
            (names("quayboard"), &["quay"], 0),
            (OfferQuery::Installed, &[], 0),
        ] {
            let found = Components::read(&root, &["/lists/dep11.yml".into(), "/lists/gone.yml".into()], &query);
            let mut packages: Vec<String> = found.of.keys().map(ToString::to_string).collect();
            packages.sort();
            assert_eq!(packages, expected, "{query:?}");
            assert_eq!(found.notes.len(), lost, "{:?}", found.notes);
        }
        let found = Components::read(&root, &[], &names("org.harbour.chartdesk"));
        let text = found.of(b"chartdesk").unwrap();
        assert_eq!(text.display_name.as_ref().unwrap().to_string(), "Chart Desk");
    }
}
