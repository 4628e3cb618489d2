//! The registries of cargo (*The Cargo Book*, "Registries", "Source Replacement"): `config.toml` in `CARGO_HOME`, and in
//! `.cargo` of the directory in which a command is typed and of those above it.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::backend::index_settings::{self, named, project_dirs, scope};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Loss, ManagerId, Source};

#[derive(Deserialize, Default)]
#[serde(default)]
struct Settings {
    registries: BTreeMap<String, Registry>,
    source: BTreeMap<String, Replacement>,
}

#[derive(Deserialize)]
struct Registry {
    index: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Replacement {
    registry: Option<String>,
    replace_with: Option<String>,
}

/// The registries that are configured.
pub(super) fn configured(host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
    let own = host.users.iter().map(|user| (scope(user), host.user_dir(user, "CARGO_HOME", ".cargo")));
    let of_projects = project_dirs(host).into_iter().map(|(scope, dir)| (scope, path::join(&dir, b".cargo")));
    let names = [&b"config.toml"[..], b"config"];
    let files =
        own.chain(of_projects).flat_map(|(scope, dir)| names.map(|name| (scope.clone(), path::join(&dir, name))));
    let mut found = Vec::new();
    for file in index_settings::read(host, files, notes) {
        let settings: Settings = match toml::from_slice(&file.content) {
            Ok(settings) => settings,
            Err(error) => {
                let problem = error.message().to_owned();
                notes.push(Loss::damaged(file.path.clone(), problem, "which registries it names is unknown"));
                continue;
            }
        };
        for (name, registry) in &settings.registries {
            let Some(url) = &registry.index else { continue };
            found.push(named(manager, &file, name.as_bytes(), "registry", url, "registry"));
        }
        for (name, replacement) in &settings.source {
            let instead = replacement.replace_with.as_ref().and_then(|other| settings.source.get(other));
            if let Some(url) = instead.and_then(|other| other.registry.as_ref()) {
                let says = format!("instead of {name}:");
                let other: ByteString = replacement.replace_with.as_deref().unwrap_or_default().into();
                found.push(named(manager, &file, &other, "registry", url, &says));
            }
        }
    }
    found
}
