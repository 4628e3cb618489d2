//! Channels, caches of builds and registries of flakes (*Nix Reference Manual*, "nix.conf", "nix-channel", "nix registry").
//!
//! | what | where |
//! |---|---|
//! | channels | `~/.nix-channels`, root's for the machine; lines of an address and a name |
//! | caches of builds, and the keys that may sign for them | `substituters`, `trusted-public-keys` in `nix.conf` |
//! | flakes | `/etc/nix/registry.json`, `~/.config/nix/registry.json` |

use serde::Deserialize;

use super::ID;
use crate::backend::index_settings::{self, SettingsFile, called, named, scope};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Loss, Scope, Signing, SigningKey, SigningState, Source};

/// Everything that is configured.
pub(super) fn configured(host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
    let of = |user: &crate::host::User| if user.uid == 0 { Scope::System } else { scope(user) };
    let below = |name: &str| {
        let files = host.users.iter().map(|user| (of(user), path::join(&user.home, name.as_bytes())));
        files.collect::<Vec<_>>()
    };
    let root_channels = (Scope::System, ByteString::from("/root/.nix-channels"));
    let channels = index_settings::read(host, std::iter::once(root_channels).chain(below(".nix-channels")), notes);
    let mut found: Vec<Source> = channels.iter().flat_map(|file| of_channels(host, file)).collect();
    let of_system = |name: &str| std::iter::once((Scope::System, ByteString::from(name)));
    let settings = of_system("/etc/nix/nix.conf").chain(below(".config/nix/nix.conf"));
    found.extend(index_settings::read(host, settings, notes).iter().flat_map(caches));
    let registries = of_system("/etc/nix/registry.json").chain(below(".config/nix/registry.json"));
    for file in index_settings::read(host, registries, notes) {
        match serde_json::from_slice::<Registry>(&file.content) {
            Ok(registry) => found.extend(registry.flakes.into_iter().filter_map(|flake| of_flake(&file, &flake))),
            Err(error) => {
                let problem = error.to_string();
                notes.push(Loss::damaged(file.path.clone(), problem, "which flakes it names is unknown"));
            }
        }
    }
    found
}

fn of_channels(host: &Host, file: &SettingsFile) -> Vec<Source> {
    let text = String::from_utf8_lossy(&file.content).into_owned();
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let channel = |line: &str| {
        let mut words = line.split_ascii_whitespace();
        let url = words.next()?;
        let last = url.trim_end_matches('/').rsplit('/').next().unwrap_or(url);
        let name = words.next().unwrap_or(last);
        let user = match &file.scope {
            Scope::User(name) => name.clone(),
            _ => "root".into(),
        };
        let profile = path::join(&path::join(b"/nix/var/nix/profiles/per-user", &user), b"channels");
        Some(Source {
            refreshed_at: host.root.modified(&profile),
            origins: vec![name.into()],
            ..named(ID, file, name.as_bytes(), "channel", url, "channel")
        })
    };
    lines.filter_map(channel).collect()
}

/// The caches that a file of settings names, with the keys that may sign what comes from any of them.
fn caches(file: &SettingsFile) -> Vec<Source> {
    let text = String::from_utf8_lossy(&file.content).into_owned();
    let settings: Vec<(&str, &str)> = text
        .lines()
        .map(|line| line.split('#').next().unwrap_or_default())
        .filter_map(|line| line.split_once('='))
        .map(|(key, value)| (key.trim(), value.trim()))
        .collect();
    let words = |names: [&'static str; 4]| {
        settings
            .iter()
            .filter(move |(key, _)| names.contains(key))
            .flat_map(|(_, value)| value.split_ascii_whitespace())
    };
    let keys = words(["trusted-public-keys", "extra-trusted-public-keys", "binary-cache-public-keys", ""]);
    let key = |word: &str| SigningKey {
        id: word.split(':').next().unwrap_or(word).to_owned(),
        owner: None,
        expires_at: None,
        signed: false,
        file: file.path.clone(),
    };
    let keys: Vec<SigningKey> = keys.map(key).collect();
    let is_open = settings.iter().any(|(key, value)| *key == "require-sigs" && *value == "false");
    let state = if is_open { SigningState::Unverified } else { SigningState::Verified };
    let urls = words(["substituters", "extra-substituters", "binary-caches", "extra-binary-caches"]);
    let cache = |url: &str| Source {
        signed: Signing { state, keys: keys.clone() },
        ..named(ID, file, &called(url), "cache", url, "builds come from")
    };
    urls.map(cache).collect()
}

#[derive(Deserialize)]
struct Registry {
    #[serde(default)]
    flakes: Vec<Flake>,
}

#[derive(Deserialize)]
struct Flake {
    from: serde_json::Map<String, serde_json::Value>,
    to: serde_json::Map<String, serde_json::Value>,
}

fn of_flake(file: &SettingsFile, flake: &Flake) -> Option<Source> {
    let text = |map: &serde_json::Map<String, serde_json::Value>, key: &str| {
        map.get(key).and_then(|value| value.as_str()).map(str::to_owned)
    };
    let name = text(&flake.from, "id")?;
    let kind = text(&flake.to, "type").unwrap_or_default();
    let place = text(&flake.to, "url").or_else(|| text(&flake.to, "path")).unwrap_or_else(|| {
        let parts = ["owner", "repo", "ref"].iter().filter_map(|key| text(&flake.to, key));
        format!("{kind}:{}", parts.collect::<Vec<_>>().join("/"))
    });
    let url = index_settings::without_credentials(place.as_bytes());
    let line = index_settings::line_of(&file.content, name.as_bytes());
    Some(Source {
        evidence: vec![Evidence::line(file.path.clone(), line, format!("{name} stands for {url}"))],
        origins: vec![format!("flake:{name}").into()],
        gives: vec![url.clone()],
        url: Some(url),
        ..Source::new(ID, file.scope.clone(), name.as_str(), "registry")
    })
}
