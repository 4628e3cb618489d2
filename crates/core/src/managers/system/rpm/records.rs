//! What dnf and zypper note beside rpm's database: why a package is there, from which repository, and what is held.
//!
//! | who | what | where |
//! |---|---|---|
//! | dnf 4 | transactions with reasons and repositories | `/var/lib/dnf/history.sqlite` |
//! | yum | a directory of notes for each package | `/var/lib/yum/yumdb`, see `yum.rs` |
//! | dnf 5 | reasons by name, repositories by version | `/usr/lib/sysimage/libdnf5/{packages,nevras}.toml` |
//! | zypper | names that came along; a log with repositories | `/var/lib/zypp/AutoInstalled`, `/var/log/zypp/history` |
//! | rpm-ostree | what was put on top of the image | the deployment's file, see `layers.rs` |
//! | holds | | `versionlock.list`, `versionlock.toml`, `/etc/zypp/locks` |
//!
//! Traps: the last transaction of a package counts, also one that only changes the reason; the rows of one upgrade
//! name the old version too; a package that no transaction has was put there by rpm itself.

use std::sync::OnceLock;

use hashbrown::{HashMap, HashSet};
use rusqlite::Connection;

use super::layers;
use super::modules::Modules;
use super::nevra::{dotted, in_full, name_end, without_epoch_0};
use super::repositories::{self, Repository};
use super::yum;
use crate::backend::sqlite;
use crate::bytes::ByteString;
use crate::fs::{Kind, Limit, Root};
use crate::model::{Evidence, Loss, Reason};
use whodunit_formats::stanza::stanzas;
use whodunit_shell::syntax::pattern::fits;

const DNF4: &[u8] = b"/var/lib/dnf/history.sqlite";
const DNF5: [&[u8]; 2] = [b"/usr/lib/sysimage/libdnf5/packages.toml", b"/usr/lib/sysimage/libdnf5/nevras.toml"];
const AUTOMATIC: &[u8] = b"/var/lib/zypp/AutoInstalled";
const ZYPPER_LOG: &[u8] = b"/var/log/zypp/history";

/// The records of one machine.
#[derive(Debug, Default)]
pub struct Records {
    reasons: HashMap<ByteString, (Reason, Evidence)>,
    /// What a package without a reason is.
    without: Option<Reason>,
    from: HashMap<ByteString, ByteString>,
    held: HashSet<ByteString>,
    held_patterns: Vec<ByteString>,
    /// The repositories that are configured.
    pub repositories: Vec<Repository>,
    /// The modules of those whose metadata was fetched; read when somebody asks what is offered.
    pub(super) modules: OnceLock<Modules>,
    /// Whether somebody notes repositories, so that none means that there is none.
    pub knows_repositories: bool,
    /// What could not be read.
    pub notes: Vec<Loss>,
}

impl Records {
    pub fn read(root: &Root) -> Self {
        let mut records = Records::default();
        records.repositories = repositories::read(root, &mut records.notes);
        records.read_zypper(root);
        records.read_yum(root);
        records.read_dnf4(root);
        records.read_dnf5(root);
        records.read_locks(root);
        for (name, evidence) in layers::requested(root, &mut records.notes) {
            records.reasons.insert(name, (Reason::Explicit, evidence));
        }
        records
    }

    /// Whether it was asked for.
    pub fn reason(&self, name: &[u8], arch: Option<&[u8]>) -> Reason {
        let known = self.reasons.get(&*dotted(name, arch)).or_else(|| self.reasons.get(name));
        known.map(|(reason, _)| *reason).or(self.without).unwrap_or(Reason::Unknown)
    }

    /// Where that stands.
    pub fn evidence(&self, name: &[u8], arch: Option<&[u8]>) -> Option<Evidence> {
        let known = self.reasons.get(&*dotted(name, arch)).or_else(|| self.reasons.get(name));
        known.map(|(_, evidence)| evidence.clone())
    }

    /// The repository that it came from.
    pub fn repository(&self, name: &[u8], version: Option<&[u8]>, arch: Option<&[u8]>) -> Option<&ByteString> {
        let (version, arch) = (version.unwrap_or_default(), arch.unwrap_or(b"noarch"));
        // yum notes no epoch.
        let without =
            || version.splitn(2, |&b| b == b':').nth(1).and_then(|bare| self.from.get(&*in_full(name, bare, arch)));
        self.from.get(&*in_full(name, version, arch)).or_else(without)
    }

    /// A repository's address.
    pub fn address(&self, name: &[u8]) -> Option<ByteString> {
        self.repositories.iter().find(|one| *one.name == *name)?.url.clone()
    }

    /// Whether a repository's packages are only taken with a signature.
    pub fn is_checked(&self, name: &[u8]) -> Option<bool> {
        self.repositories.iter().find(|one| *one.name == *name).map(|one| one.checked)
    }

    /// A repository's priority.
    pub fn priority(&self, name: &[u8]) -> Option<i32> {
        self.repositories.iter().find(|one| *one.name == *name).map(|one| one.priority)
    }

    /// Whether upgrades are held back.
    pub fn is_held(&self, name: &[u8]) -> bool {
        self.held.contains(name) || self.held_patterns.iter().any(|pattern| fits(pattern, name))
    }

    /// The program with which a user installs and removes here.
    pub fn tool(&self, root: &Root) -> Option<&'static str> {
        let tools =
            [("dnf", "/usr/bin/dnf5"), ("dnf", "/usr/bin/dnf"), ("zypper", "/usr/bin/zypper"), ("yum", "/usr/bin/yum")];
        tools.into_iter().find(|(_, program)| root.target(program.as_bytes()).is_ok()).map(|(tool, _)| tool)
    }

    /// A file that need not be there; anything else that keeps it from being read is noted.
    fn content(&mut self, root: &Root, file: &[u8], limit: Limit, lost: &str) -> Option<Vec<u8>> {
        match root.read(file, limit) {
            Ok(content) => Some(content),
            Err(error) => {
                if !error.is_missing() {
                    self.notes.push(Loss::unread(&error, lost.to_string()));
                }
                None
            }
        }
    }

    fn read_yum(&mut self, root: &Root) {
        let Some(notes) = yum::notes(root, &mut self.notes) else { return };
        for note in notes {
            if let Some(reason) = note.reason {
                self.reasons.insert(dotted(&note.name, Some(&note.arch)), reason);
            }
            if let Some(repository) = note.repository {
                self.from.insert(in_full(&note.name, &note.version, &note.arch), repository);
            }
        }
        self.knows_repositories = true;
    }

    fn read_dnf4(&mut self, root: &Root) {
        const LOST: &str = "which packages were requested, and from where, is unknown of dnf";
        if root.target(DNF4).is_err() {
            return;
        }
        // Rows of what a transaction took away, or replaced, say nothing of what is there now.
        let query = "SELECT rpm.name, rpm.epoch, rpm.version, rpm.release, rpm.arch, item.action, item.reason, \
                     item.trans_id, repo.repoid FROM trans_item item JOIN trans ON trans.id = item.trans_id \
                     JOIN rpm ON rpm.item_id = item.item_id LEFT JOIN repo ON repo.id = item.repo_id \
                     WHERE trans.state = 1 AND item.action NOT IN (3, 5, 7, 10) ORDER BY item.id";
        let mut rows = |database: &Connection| -> rusqlite::Result<()> {
            let mut query = database.prepare(query)?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                let text = |at| row.get::<_, Option<String>>(at).map(Option::unwrap_or_default);
                let number = |at| row.get::<_, Option<i64>>(at).map(Option::unwrap_or_default);
                let (name, version, release, arch) = (text(0)?, text(2)?, text(3)?, text(4)?);
                let reason = match number(6)? {
                    1 | 3 | 4 => Reason::Dependency,
                    2 | 5 => Reason::Explicit,
                    _ => Reason::Unknown,
                };
                let epoch = Some(number(1)?).filter(|epoch| *epoch != 0).map(|e| format!("{e}:")).unwrap_or_default();
                let full = in_full(name.as_bytes(), format!("{epoch}{version}-{release}").as_bytes(), arch.as_bytes());
                let key = dotted(name.as_bytes(), Some(arch.as_bytes()));
                if number(5)? == 8 {
                    self.reasons.remove(&key);
                    continue;
                }
                let at = format!("transaction {}", number(7)?);
                let says = format!("{name}: {}", reason.word());
                self.reasons.insert(key, (reason, Evidence::at(DNF4, &at, says)));
                if number(5)? != 11 {
                    self.from.insert(full, text(8)?.into());
                }
            }
            Ok(())
        };
        let read = sqlite::open(root, DNF4)
            .and_then(|database| rows(&database).map_err(|error| format!("{}: {error}", ByteString::from(DNF4))));
        match read {
            Ok(()) => {
                self.knows_repositories = true;
                self.without = Some(Reason::Explicit);
            }
            Err(problem) => self.notes.push(Loss::because(problem, LOST.to_string())),
        }
    }

    fn read_dnf5(&mut self, root: &Root) {
        const LOST: &str = "which packages were requested, and from where, is unknown of dnf";
        for (file, table) in DNF5.into_iter().zip(["packages", "nevras"]) {
            let Some(content) = self.content(root, file, Limit::LIST, LOST) else { continue };
            let Ok(document) = String::from_utf8_lossy(&content).parse::<toml::Table>() else {
                self.notes.push(Loss::note(format!("{}: damaged: {LOST}", ByteString::from(file))));
                continue;
            };
            let entries = document.get(table).and_then(toml::Value::as_table);
            for (key, value) in entries.into_iter().flatten() {
                let text = |field: &str| value.get(field).and_then(toml::Value::as_str);
                if let Some(says) = text("reason") {
                    let reason = match says.to_ascii_lowercase().as_str() {
                        "user" | "external user" | "group" => Reason::Explicit,
                        "dependency" | "weak dependency" | "clean" => Reason::Dependency,
                        _ => Reason::Unknown,
                    };
                    let evidence = Evidence::at(file, key, format!("reason: {says}"));
                    self.reasons.insert(key.as_str().into(), (reason, evidence));
                }
                if let Some(repository) = text("from_repo") {
                    self.from.insert(without_epoch_0(key).into(), repository.into());
                }
            }
            self.knows_repositories |= table == "nevras";
            self.without = Some(Reason::Explicit);
        }
    }

    fn read_zypper(&mut self, root: &Root) {
        if let Some(content) =
            self.content(root, AUTOMATIC, Limit::LIST, "which packages were requested is unknown of zypper")
        {
            self.without = Some(Reason::Explicit);
            for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
                let name = line.trim_ascii();
                if !name.is_empty() && !name.starts_with(b"#") && !name.contains(&b':') {
                    let says = format!("{} is a dependency", ByteString::from(name));
                    self.reasons.insert(name.into(), (Reason::Dependency, Evidence::line(AUTOMATIC, number, says)));
                }
            }
        }
        let lost = "from which repositories packages came is unknown of zypper";
        if let Some(content) = self.content(root, ZYPPER_LOG, Limit::RECORD, lost) {
            self.knows_repositories = true;
            for line in content.split(|&b| b == b'\n').filter(|line| !line.starts_with(b"#")) {
                let fields: Vec<&[u8]> = line.split(|&b| b == b'|').map(<[u8]>::trim_ascii).collect();
                if let [_, b"install", name, version, arch, _, repository, ..] = fields[..] {
                    self.from.insert(in_full(name, version, arch), repository.into());
                }
            }
        }
    }

    fn read_locks(&mut self, root: &Root) {
        const LOST: &str = "which packages are held back is unknown";
        for file in [&b"/etc/dnf/plugins/versionlock.list"[..], b"/etc/yum/pluginconf.d/versionlock.list"] {
            if root.entry(file).is_ok_and(|meta| meta.kind == Kind::Link) {
                continue; // The one is often a link to the other.
            }
            let Some(content) = self.content(root, file, Limit::SMALL, LOST) else { continue };
            let lines = content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii);
            for line in lines.filter(|line| !line.is_empty() && !line.starts_with(b"#") && !line.starts_with(b"!")) {
                // `NAME-EPOCH:VERSION-RELEASE.*`, or a pattern for names alone.
                let name = name_end(line).filter(|_| line.contains(&b':')).map_or(line, |at| &line[..at]);
                self.held_patterns.push(name.into());
            }
        }
        if let Some(content) = self.content(root, b"/etc/dnf/versionlock.toml", Limit::SMALL, LOST) {
            match String::from_utf8_lossy(&content).parse::<toml::Table>() {
                Ok(document) => {
                    let packages = document.get("packages").and_then(toml::Value::as_array);
                    let names = packages.into_iter().flatten().filter_map(|one| one.get("name")?.as_str());
                    self.held_patterns.extend(names.map(ByteString::from));
                }
                Err(_) => self.notes.push(Loss::note(format!("/etc/dnf/versionlock.toml: damaged: {LOST}"))),
            }
        }
        if let Some(content) = self.content(root, b"/etc/zypp/locks", Limit::SMALL, LOST) {
            for stanza in stanzas(&content) {
                let fields: Vec<_> = stanza.fields().flatten().collect();
                let value = |name: &[u8]| fields.iter().find(|field| field.name == name).map(|field| field.value);
                if value(b"type").is_none_or(|kind| kind == b"package")
                    && let Some(name) = value(b"solvable_name")
                {
                    self.held_patterns.push(name.into());
                }
            }
        }
        let (patterns, names): (Vec<ByteString>, Vec<ByteString>) =
            std::mem::take(&mut self.held_patterns).into_iter().partition(|one| one.iter().any(|b| b"*?[".contains(b)));
        self.held = names.into_iter().collect();
        self.held_patterns = patterns;
    }
}
