//! Repositories of ebuilds, as `portage(5)` has them in `repos.conf`: the defaults that Portage ships, then
//! `/etc/portage/repos.conf`, a file or a directory of files. A section is a repository; what stands later wins, key by
//! key.

use std::collections::BTreeMap;

use crate::backend::index_settings::without_credentials;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Evidence, Location, Loss, Origin, Scope, Signing, Source};
use whodunit_formats::key_file::KeyFile;

const DEFAULTS: &str = "/usr/share/portage/config/repos.conf";
const SETTINGS: &str = "/etc/portage/repos.conf";
/// The repository of the distribution.
const OWN: &str = "gentoo";

/// One repository.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Repository {
    pub(super) name: ByteString,
    /// Where its files are.
    pub(super) dir: ByteString,
    url: Option<ByteString>,
    /// The higher the number, the stronger.
    priority: i32,
    /// Whether signatures are checked when it is fetched.
    is_checked: Option<bool>,
    file: ByteString,
    line: u32,
}

/// The repositories that are configured, the strongest first.
pub(super) fn configured(root: &Root, notes: &mut Vec<Loss>) -> Vec<Repository> {
    let mut sections: BTreeMap<String, (BTreeMap<String, String>, ByteString, u32)> = BTreeMap::new();
    for file in files(root) {
        match root.read(&file, Limit::SMALL) {
            Ok(content) => {
                let content = KeyFile::parse(&content);
                for group in content.groups() {
                    let of = sections.entry(group.to_owned()).or_default();
                    (of.1, of.2) = (file.clone(), content.line(group).unwrap_or(1));
                    let values = content.keys(group).filter_map(|key| Some((key, content.get(group, key)?)));
                    of.0.extend(values.map(|(key, value)| (key.to_owned(), value.trim().to_owned())));
                }
            }
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, "repositories are unknown")),
        }
    }
    let main = sections.get("DEFAULT").and_then(|of| of.0.get("main-repo")).cloned();
    let mut found: Vec<Repository> = sections
        .into_iter()
        .filter(|(name, _)| name != "DEFAULT")
        .filter_map(|(name, (values, file, line))| {
            let is_main = main.as_deref().unwrap_or(OWN) == name;
            let usual = if is_main { -1000 } else { 0 };
            Some(Repository {
                dir: values.get("location").filter(|dir| dir.starts_with('/'))?.as_str().into(),
                url: values.get("sync-uri").map(|url| without_credentials(url.as_bytes())),
                priority: values.get("priority").and_then(|text| text.parse().ok()).unwrap_or(usual),
                is_checked: is_checked(&values),
                name: name.into(),
                file,
                line,
            })
        })
        .collect();
    found.sort_by_key(|one| std::cmp::Reverse(one.priority));
    found
}

/// The setting that counts for the way in which a repository is fetched.
fn is_checked(values: &BTreeMap<String, String>) -> Option<bool> {
    let key = match values.get("sync-type").map(String::as_str)? {
        "rsync" => "sync-rsync-verify-metamanifest",
        "git" => "sync-git-verify-commit-signature",
        "webrsync" => "sync-webrsync-verify-signature",
        _ => return None,
    };
    match values.get(key).map(|value| value.to_ascii_lowercase()).as_deref() {
        Some("yes" | "true") => Some(true),
        // Without the setting, rsync is not checked and neither is git.
        Some("no" | "false") | None => Some(false),
        Some(_) => None,
    }
}

fn files(root: &Root) -> Vec<ByteString> {
    let mut found = vec![DEFAULTS.into()];
    match root.dir(SETTINGS.as_bytes()).and_then(|dir| dir.list()) {
        Ok(names) => {
            let usual = names
                .into_iter()
                .filter(|(name, kind)| *kind != Kind::Dir && !name.starts_with(b".") && !name.ends_with(b"~"));
            found.extend(usual.map(|(name, _)| path::join(SETTINGS.as_bytes(), &name)));
        }
        Err(_) => found.push(SETTINGS.into()),
    }
    found
}

impl Repository {
    /// When it was last fetched: as `metadata/timestamp.chk` says, else when git last did.
    pub(super) fn fetched(&self, root: &Root) -> Option<i64> {
        let stamp = path::join(&self.dir, b"metadata/timestamp.chk");
        let written = root.read(&stamp, Limit::SMALL).ok().and_then(|content| {
            let text = String::from_utf8_lossy(&content).trim().to_owned();
            Some(jiff::fmt::rfc2822::parse(&text).ok()?.timestamp().as_second())
        });
        let of_git = || root.target(&path::join(&self.dir, b".git/FETCH_HEAD")).ok().map(|meta| meta.modified);
        written.or_else(of_git)
    }

    /// As the origin of a package.
    pub(super) fn origin(&self) -> Origin {
        let is_local = self.url.is_none();
        let trust = if *self.name == *OWN.as_bytes() {
            "distribution"
        } else if is_local {
            "local"
        } else {
            "third-party"
        };
        Origin {
            name: self.name.clone(),
            kind: "repository".to_owned(),
            url: self.url.clone(),
            trust: Some(trust.to_owned()),
        }
    }

    /// As it is configured.
    pub(super) fn source(&self, root: &Root, at: &Location) -> Source {
        let origin = self.origin();
        Source {
            trust: origin.trust,
            signed: Signing::set(self.is_checked),
            refreshed_at: self.fetched(root),
            priority: Some(self.priority),
            evidence: vec![Evidence::line(self.file.clone(), self.line, format!("repository {}", self.name))],
            origins: vec![self.name.clone()],
            gives: self.url.iter().cloned().collect(),
            url: origin.url,
            ..Source::new(at.manager, Scope::System, self.name.clone(), "repository")
        }
    }
}
