//! The indexes of pip and uv (*pip documentation*, "Configuration"; *uv documentation*, "Package indexes").
//!
//! | manager | files |
//! |---|---|
//! | pip | `/etc/pip.conf`, `/etc/xdg/pip/pip.conf`, `~/.pip/pip.conf`, `~/.config/pip/pip.conf`; `index-url` and `extra-index-url` of any section |
//! | uv | `/etc/uv/uv.toml`, `~/.config/uv/uv.toml`; of a project `uv.toml`, or `tool.uv` in `pyproject.toml` |
//!
//! Traps: pip takes the highest version from any of its indexes, so a name that stands in two of them may come from
//! either; uv takes the first index that has the name, unless it is told to do as pip does. A value may go on in lines
//! that begin with a blank. An address can hold a password.

use serde::Deserialize;

use crate::backend::index_settings::{self, SettingsFile, called, named, project_dirs, scope};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Loss, ManagerId, Source};

/// The index that both ask if nothing else is set.
const USUAL: &str = "https://pypi.org/simple";

/// The indexes of pip.
pub(super) fn of_pip(host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
    use crate::model::Scope::System;
    let of_system = ["/etc/xdg/pip/pip.conf", "/etc/pip.conf"].map(|file| (System, ByteString::from(file)));
    let of_users = host.users.iter().flat_map(|user| {
        let files = [&b".pip/pip.conf"[..], b".config/pip/pip.conf", b"Library/Application Support/pip/pip.conf"];
        files.map(|file| (scope(user), path::join(&user.home, file)))
    });
    let files = index_settings::read(host, of_system.into_iter().chain(of_users), notes);
    let mut found = Vec::new();
    for file in &files {
        for (key, url) in settings(&file.content) {
            let is_extra = key == "extra-index-url";
            let source = named(
                manager,
                file,
                &called(&url),
                "index",
                &url,
                if is_extra { "also" } else { "instead of the usual index" },
            );
            found.push(Source { is_merged: true, ..source });
        }
    }
    for user in &host.users {
        for (variable, says) in [("PIP_INDEX_URL", "instead of the usual index"), ("PIP_EXTRA_INDEX_URL", "also")] {
            let value = host.variable(user, variable).map(ToString::to_string).unwrap_or_default();
            for url in value.split_ascii_whitespace() {
                let bare = index_settings::without_credentials(url.as_bytes());
                let evidence = Evidence::at("the environment", variable, format!("{says} {bare}"));
                found.push(Source {
                    gives: vec![bare.strip_suffix(b"/").unwrap_or(&bare).into()],
                    url: Some(bare),
                    evidence: vec![evidence],
                    is_merged: true,
                    ..Source::new(manager, scope(user), called(url), "index")
                });
            }
        }
    }
    // What replaces the usual index leaves it out for those for whom it counts.
    let replaces = |source: &Source| source.evidence.first().is_some_and(|at| at.says.starts_with("instead"));
    if !found.iter().any(|source| replaces(source) && source.scope == System) && !found.is_empty() {
        found.push(usual(manager, found.iter().all(|source| !replaces(source))));
    }
    found
}

/// The usual index.
fn usual(manager: ManagerId, enabled: bool) -> Source {
    Source {
        url: Some(USUAL.into()),
        enabled,
        evidence: vec![Evidence::compiled_in(manager.0, "the index that is asked where no other is set")],
        gives: vec![USUAL.into()],
        is_merged: true,
        ..Source::new(manager, crate::model::Scope::System, "pypi.org", "index")
    }
}

/// The addresses in a file of pip's, each with its key. Keys are spelled with hyphens or underscores.
fn settings(content: &[u8]) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut key = String::new();
    for line in String::from_utf8_lossy(content).lines() {
        let goes_on = line.starts_with([' ', '\t']);
        let text = line.trim();
        if text.starts_with(['#', ';', '[']) || text.is_empty() {
            continue;
        }
        let value = match text.split_once('=').filter(|_| !goes_on) {
            Some((name, value)) => {
                key = name.trim().to_ascii_lowercase().replace('_', "-");
                value
            }
            None => text,
        };
        if matches!(&*key, "index-url" | "extra-index-url") {
            found.extend(value.split_ascii_whitespace().map(|url| (key.clone(), url.to_owned())));
        }
    }
    found
}

/// What uv's settings say of indexes.
#[derive(Deserialize, Default)]
#[serde(rename_all = "kebab-case", default)]
struct UvSettings {
    index: Vec<UvIndex>,
    index_url: Option<String>,
    extra_index_url: Vec<String>,
    index_strategy: Option<String>,
    pip: Option<Box<UvSettings>>,
}

#[derive(Deserialize)]
struct UvIndex {
    name: Option<String>,
    url: String,
    #[serde(default)]
    default: bool,
    #[serde(default)]
    explicit: bool,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Project {
    tool: Tool,
}

#[derive(Deserialize, Default)]
#[serde(default)]
struct Tool {
    uv: UvSettings,
}

/// The indexes of uv.
pub(super) fn of_uv(host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
    let of_users = host.users.iter().map(|user| (scope(user), path::join(&user.home, b".config/uv/uv.toml")));
    let of_projects = project_dirs(host).into_iter().flat_map(|(scope, dir)| {
        [&b"uv.toml"[..], b"pyproject.toml"].map(|name| (scope.clone(), path::join(&dir, name)))
    });
    let of_system = std::iter::once((crate::model::Scope::System, "/etc/uv/uv.toml".into()));
    let files = index_settings::read(host, of_system.chain(of_users).chain(of_projects), notes);
    let mut found = Vec::new();
    for file in &files {
        let text = String::from_utf8_lossy(&file.content);
        let read = match file.path.ends_with(b"pyproject.toml") {
            true => toml::from_str::<Project>(&text).map(|project| project.tool.uv),
            false => toml::from_str::<UvSettings>(&text),
        };
        match read {
            Ok(settings) => add_uv(manager, file, settings, &mut found),
            Err(error) => {
                let problem = error.message().to_owned();
                notes.push(Loss::damaged(file.path.clone(), problem, "which indexes it names is unknown"));
            }
        }
    }
    found
}

fn add_uv(manager: ManagerId, file: &SettingsFile, settings: UvSettings, found: &mut Vec<Source>) {
    let is_merged = settings.index_strategy.as_deref().is_some_and(|strategy| strategy.starts_with("unsafe"));
    for index in settings.index {
        let name = index.name.map_or_else(|| called(&index.url), ByteString::from);
        let says = match (index.default, index.explicit) {
            (true, _) => "instead of the usual index",
            (_, true) => "for packages that name it:",
            _ => "also",
        };
        let source = named(manager, file, &name, "index", &index.url, says);
        found.push(Source { is_merged: is_merged && !index.explicit, ..source });
    }
    let others = settings.index_url.iter().chain(&settings.extra_index_url);
    found.extend(others.map(|url| Source { is_merged, ..named(manager, file, &called(url), "index", url, "also") }));
    if let Some(pip) = settings.pip {
        add_uv(manager, file, *pip, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_go_on_in_lines_that_begin_with_a_blank() {
        let content = b"[global]\nindex_url = https://a.example/simple\n# extra-index-url = https://no.example\n[install]\nextra-index-url =\n    https://b.example\n    https://c.example\ntimeout = 3\n    https://d.example\n";
        let shown: Vec<String> = settings(content).into_iter().map(|(key, url)| format!("{key} {url}")).collect();
        assert_eq!(
            shown,
            [
                "index-url https://a.example/simple",
                "extra-index-url https://b.example",
                "extra-index-url https://c.example"
            ]
        );
    }
}
