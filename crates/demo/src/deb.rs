//! The distribution's record, as dpkg and apt write it.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use md5::Digest as _;

use crate::WriteError;
use crate::tree::Tree;

const ADMIN: &str = "var/lib/dpkg";

/// `foglight` stands in for the plain `lamp` of another package.
const DIVERSIONS: &str = "/usr/bin/lamp\n/usr/bin/lamp.plain\nfoglight\n";
const NATIVE: &str = "amd64";

/// What a package puts at one path.
#[derive(Debug, Clone)]
pub enum Content {
    /// A program.
    Program(Vec<u8>),
    /// Any other file.
    Data(Vec<u8>),
    /// A file of settings, which the manager never overwrites.
    Settings(Vec<u8>),
    /// A link.
    Link(String),
}

/// One path of a package. Where it lies in the end can differ from where the package lists it.
#[derive(Debug, Clone)]
pub struct DebFile {
    /// The path as listed.
    pub path: String,
    /// The path on disk.
    pub at: String,
    /// What is there.
    pub content: Content,
}

/// One package of the distribution.
#[derive(Debug, Clone)]
pub struct Deb {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its architecture.
    pub arch: &'static str,
    /// Instances for several architectures may stand side by side.
    pub same: bool,
    /// The three words of its `Status`.
    pub status: &'static str,
    /// Whether it came along as a dependency.
    pub automatic: bool,
    /// Whether it must never be removed.
    pub essential: bool,
    /// The packages that it depends on, as the field has them.
    pub depends: &'static str,
    /// One line on it.
    pub about: &'static str,
    /// When it was installed: seconds since 1970.
    pub date: i64,
    /// Its files.
    pub files: Vec<DebFile>,
}

impl Deb {
    /// A package that was asked for.
    pub fn new(name: &str, version: &str, about: &'static str, date: i64) -> Self {
        Deb {
            name: name.to_owned(),
            version: version.to_owned(),
            arch: NATIVE,
            same: false,
            status: "install ok installed",
            automatic: false,
            essential: false,
            depends: "",
            about,
            date,
            files: Vec::new(),
        }
    }

    /// The package with one more path.
    #[must_use]
    pub fn with(self, path: &str, content: Content) -> Self {
        self.with_at(path, path, content)
    }

    /// The package with one more path, which lies somewhere else on disk.
    #[must_use]
    pub fn with_at(mut self, path: &str, at: &str, content: Content) -> Self {
        self.files.push(DebFile { path: path.to_owned(), at: at.to_owned(), content });
        self
    }

    /// Its manual page, and its copyright note.
    #[must_use]
    pub fn with_papers(self, command: &str) -> Self {
        let page = format!(
            ".TH {} 1 \"2026-01-05\" \"{} {}\" \"Breakwater\"\n",
            command.to_uppercase(),
            self.name,
            self.version
        );
        let (manual, copyright) =
            (format!("/usr/share/man/man1/{command}.1"), format!("/usr/share/doc/{}/copyright", self.name));
        let notice = format!("{} is invented, and so are its makers.\n", self.name);
        self.with(&manual, Content::Data(page.into_bytes())).with(&copyright, Content::Data(notice.into_bytes()))
    }

    /// The same package under another name, with files of other names; none for those that a machine
    /// has once only.
    pub fn again(&self, number: u32) -> Option<Self> {
        if self.essential || self.status != "install ok installed" || self.same {
            return None;
        }
        let name = format!("{}-{number:04}", self.name);
        let items = self.files.iter().map(|item| {
            let path = format!("{}-{number:04}", item.path);
            DebFile { path: path.clone(), at: path, content: item.content.clone() }
        });
        Some(Deb { name, files: items.collect(), ..self.clone() })
    }

    /// Adds files of data.
    pub fn add_data(&mut self, count: u32) {
        for number in 0..count {
            let path = format!("/usr/share/{}/soundings/{:03}/{number:06}.dat", self.name, number / 500);
            self.files.push(DebFile { path: path.clone(), at: path, content: Content::Data(b"0\n".to_vec()) });
        }
    }

    pub(crate) fn is_removed(&self) -> bool {
        self.status.ends_with("config-files")
    }

    /// The name of its files below `info/`.
    fn stem(&self) -> String {
        if self.same { format!("{}:{}", self.name, self.arch) } else { self.name.clone() }
    }

    fn listed(&self) -> impl Iterator<Item = &DebFile> {
        self.files.iter().filter(|item| !self.is_removed() || matches!(item.content, Content::Settings(_)))
    }

    /// Directories first seen before what is in them, as an archive has them.
    fn list(&self) -> Vec<&str> {
        let mut seen = BTreeSet::new();
        let mut list = vec!["/."];
        for item in self.listed() {
            let ends = item.path.match_indices('/').map(|(at, _)| at).filter(|&at| at > 0);
            for path in ends.map(|at| &item.path[..at]).chain([item.path.as_str()]) {
                if seen.insert(path) {
                    list.push(path);
                }
            }
        }
        list
    }

    /// What a repository says of it, at this version.
    pub(crate) fn offered(&self, version: &str) -> String {
        let size: usize = self.files.iter().map(|item| item.bytes().len().div_ceil(1024)).sum();
        let mut text = String::new();
        let _ = writeln!(text, "Package: {}\nVersion: {version}\nInstalled-Size: {size}", self.name);
        let _ = writeln!(
            text,
            "Maintainer: Breakwater Packagers <packagers@breakwater.example>\nArchitecture: {}",
            self.arch
        );
        if !self.depends.is_empty() {
            let _ = writeln!(text, "Depends: {}", self.depends);
        }
        let _ = writeln!(
            text,
            "Description: {}\nFilename: pool/{}_{version}.deb\nSize: {}",
            self.about,
            self.name,
            size * 400
        );
        let _ = writeln!(text, "SHA256: {:064x}\n", self.name.len());
        text
    }

    fn stanza(&self) -> String {
        let mut text = String::new();
        let size: usize = self.files.iter().map(|item| item.bytes().len().div_ceil(1024)).sum();
        let _ = writeln!(text, "Package: {}\nStatus: {}\nPriority: optional\nSection: misc", self.name, self.status);
        if self.essential {
            text.push_str("Essential: yes\n");
        }
        let _ =
            writeln!(text, "Installed-Size: {size}\nMaintainer: Breakwater Packagers <packagers@breakwater.example>");
        let _ = writeln!(text, "Architecture: {}", self.arch);
        if self.same {
            text.push_str("Multi-Arch: same\n");
        }
        let _ = writeln!(text, "Version: {}", self.version);
        if !self.depends.is_empty() {
            let _ = writeln!(text, "Depends: {}", self.depends);
        }
        let settings: Vec<&DebFile> =
            self.files.iter().filter(|item| matches!(item.content, Content::Settings(_))).collect();
        if !settings.is_empty() {
            text.push_str("Conffiles:\n");
            for item in settings {
                let _ = writeln!(text, " {} {}", item.path, md5(item.bytes()));
            }
        }
        let _ = writeln!(text, "Description: {}\n", self.about);
        text
    }
}

impl DebFile {
    fn bytes(&self) -> &[u8] {
        match &self.content {
            Content::Program(bytes) | Content::Data(bytes) | Content::Settings(bytes) => bytes,
            Content::Link(_) => b"",
        }
    }

    fn write(&self, tree: &Tree, date: i64) -> Result<(), WriteError> {
        match &self.content {
            Content::Program(bytes) => tree.file(&self.at, bytes, 0o755, date),
            Content::Data(bytes) | Content::Settings(bytes) => tree.file(&self.at, bytes, 0o644, date),
            Content::Link(target) => tree.link(&self.at, target),
        }
    }
}

/// Writes the record and, where wanted, the files; the result is the number of claims.
pub fn write(tree: &Tree, packages: &[Deb], all_files: bool) -> Result<usize, WriteError> {
    let mut order: Vec<&Deb> = packages.iter().collect();
    order.sort_by(|a, b| (&a.name, a.arch).cmp(&(&b.name, b.arch)));
    let mut claims = 0;
    let mut written = BTreeSet::new();
    for deb in &order {
        // Packages that exist only for size are told by the number in their name.
        let is_extra = deb.name.len() > 5 && deb.name[deb.name.len() - 4..].bytes().all(|b| b.is_ascii_digit());
        for item in deb.listed().filter(|_| all_files || !is_extra) {
            if written.insert(item.at.clone()) {
                item.write(tree, deb.date)?;
            }
        }
        let list = deb.list();
        claims += list.len();
        let lines = list.join("\n") + "\n";
        let info = |ending: &str| format!("{ADMIN}/info/{}.{ending}", deb.stem());
        tree.file(&info("list"), lines.as_bytes(), 0o644, deb.date)?;
        if !deb.is_removed() {
            tree.file(&info("md5sums"), md5sums(deb).as_bytes(), 0o644, deb.date)?;
        }
    }
    let status: String = order.iter().map(|deb| deb.stanza()).collect();
    let newest = order.iter().map(|deb| deb.date).max().unwrap_or(0);
    for (name, content) in [
        ("status", status.as_str()),
        ("info/format", "1\n"),
        ("arch", "amd64\ni386\n"),
        ("available", ""),
        ("lock", ""),
        ("diversions", DIVERSIONS),
    ] {
        tree.file(&format!("{ADMIN}/{name}"), content.as_bytes(), 0o644, newest)?;
    }
    tree.dir(&format!("{ADMIN}/updates"))?;
    tree.dir(&format!("{ADMIN}/triggers"))?;
    let mut marks = String::new();
    for deb in order.iter().filter(|deb| deb.automatic) {
        let arch = if deb.arch == "all" { NATIVE } else { deb.arch };
        let _ = writeln!(marks, "Package: {}\nArchitecture: {arch}\nAuto-Installed: 1\n", deb.name);
    }
    tree.file("var/lib/apt/extended_states", marks.as_bytes(), 0o644, newest)?;
    Ok(claims)
}

fn md5sums(deb: &Deb) -> String {
    let mut sums = String::new();
    for item in &deb.files {
        if let Content::Program(bytes) | Content::Data(bytes) = &item.content {
            let _ = writeln!(sums, "{}  {}", md5(bytes), item.path.trim_start_matches('/'));
        }
    }
    sums
}

fn md5(bytes: &[u8]) -> String {
    md5::Md5::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}
