//! Casks: what is installed as its makers packed it, and the apps that come with it (Homebrew documentation, "Cask
//! Cookbook").
//!
//! `Caskroom/TOKEN/VERSION/` holds what was unpacked. An app is moved to where apps are, and a link to it left in its
//! place; older installations left none. `Caskroom/TOKEN/.metadata/VERSION/TIME/Casks/TOKEN.json` or `TOKEN.rb` is the
//! cask as it was installed, with the names of its apps.
//!
//! Traps: an app can upgrade itself, and its version is then not the recorded one; it can be in the `Applications` of a
//! user (`--appdir`).

use serde_json::Value;

use super::Prefix;
use crate::backend::app_bundles;
use crate::backend::simple::{InstalledPackage, Record, dirs_in, is_dir, link_target};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, Status};

/// Reads the casks of a prefix.
pub fn read(host: &Host, at: &Location, record: &mut Record) {
    let room = path::join(&at.dir, b"Caskroom");
    for (token, _) in dirs_in(host, &room, false) {
        let dir = path::join(&room, &token);
        let metadata = path::join(&dir, b".metadata");
        for (version, _) in dirs_in(host, &dir, false) {
            let tree = path::join(&dir, &version);
            let mut item = InstalledPackage::kept("cask", token.clone(), version.clone());
            let recorded = path::join(&metadata, &version);
            item.installed_at = host.root.modified(&tree);
            item.evidence.push(Evidence::directory(tree.clone(), format!("{token} {version}")));
            if !is_dir(host, &recorded) {
                item.status = Status::Broken;
                item.evidence.push(Evidence::at(metadata.clone(), "lookup", "has no record of this version"));
            }
            for (app, evidence) in linked_apps(host, &tree) {
                add_app(host, &mut item, app, evidence);
            }
            if item.trees.is_empty() && host.is_macos() {
                let notes = &mut record.notes;
                for (app, evidence) in recorded_apps(host, &recorded, &token, notes) {
                    add_app(host, &mut item, app, evidence);
                }
            }
            item.commands = Prefix::commands(host, &at.dir, &tree);
            item.trees.push(tree);
            record.items.push(Prefix::with_remedies(&at.dir, item, "--cask", &token));
        }
    }
}

/// The apps to which links were left.
fn linked_apps(host: &Host, tree: &ByteString) -> Vec<(ByteString, Evidence)> {
    let links = host.root.names_in(tree).into_iter().filter(|(_, kind)| *kind == Kind::Link);
    let apps = links.filter_map(|(name, _)| {
        let link = path::join(tree, &name);
        let app = link_target(host, &link)?;
        let evidence = Evidence::at(link, "link", app.to_string());
        Some((app, evidence))
    });
    apps.collect()
}

/// The apps that the cask names, each where it is: among the apps of all users, or of one.
fn recorded_apps(
    host: &Host,
    recorded: &ByteString,
    token: &ByteString,
    notes: &mut Vec<Loss>,
) -> Vec<(ByteString, Evidence)> {
    let Some((last, _)) = dirs_in(host, recorded, false).pop() else { return Vec::new() };
    let dir = path::join(&path::join(recorded, &last), b"Casks");
    let of_users = host.users.iter().map(|user| path::join(&user.home, b"Applications"));
    let places: Vec<ByteString> = std::iter::once("/Applications".into()).chain(of_users).collect();
    let file = |end: &str| path::join(&dir, &[token, end.as_bytes()].concat());
    let is_there = |file: &ByteString| host.root.entry(file).is_ok();
    let Some(file) = [".json", ".rb"].map(file).into_iter().find(is_there) else { return Vec::new() };
    let read = |text: &[u8]| if file.ends_with(b".json") { of_json(text) } else { Ok(of_ruby(text)) };
    let hides = || format!("which apps {token} brought is unknown");
    let names = match host.root.read(&file, Limit::LIST) {
        Ok(content) => read(&content).unwrap_or_else(|error| {
            notes.push(Loss::damaged(file.clone(), error, hides()));
            Vec::new()
        }),
        Err(error) => {
            notes.push(Loss::unread(&error, hides()));
            Vec::new()
        }
    };
    let found = names.into_iter().filter(|name| name.ends_with(".app")).map(|name| {
        let mut candidates = places.iter().map(|place| path::join(place, name.as_bytes()));
        let app = candidates.find(|app| is_dir(host, app)).unwrap_or_else(|| path::join(&places[0], name.as_bytes()));
        (app, Evidence::at(file.clone(), "app", name))
    });
    found.collect()
}

/// `"artifacts": [{"app": ["Tide.app", {"target": "Tidebook.app"}]}]`.
fn of_json(text: &[u8]) -> Result<Vec<String>, String> {
    let cask: Value = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    let artifacts = cask["artifacts"].as_array().map(Vec::as_slice).unwrap_or_default();
    let apps = artifacts.iter().filter_map(|artifact| artifact["app"].as_array());
    let names = apps.filter_map(|app| {
        let target = app.iter().find_map(|part| part["target"].as_str());
        target.or_else(|| app.first()?.as_str()).map(bare)
    });
    Ok(names.collect())
}

/// `app "Tide.app", target: "Tidebook.app"`.
fn of_ruby(text: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(text);
    let names = text.lines().filter_map(|line| {
        let rest = line.trim_start().strip_prefix("app ")?;
        let quoted = |text: &str| text.trim_start().strip_prefix('"')?.split_once('"').map(|(name, _)| bare(name));
        let target = rest.split_once("target:").and_then(|(_, target)| quoted(target));
        target.or_else(|| quoted(rest))
    });
    names.collect()
}

/// An app's own name: the archive can have it in a directory.
fn bare(name: &str) -> String {
    name.rsplit('/').next().unwrap_or(name).to_owned()
}

/// Adds an app, which can have upgraded itself.
fn add_app(host: &Host, item: &mut InstalledPackage, app: ByteString, evidence: Evidence) {
    if host.root.target(&app).is_err() {
        item.status = Status::Broken;
        item.evidence.push(Evidence { says: format!("{app} does not exist"), ..evidence });
    } else if let Some(own) = app_bundles::read(host, &app).ok().and_then(|app| app.version) {
        let recorded = item.version.as_deref().unwrap_or_default();
        // A cask's version can have the build behind a comma, or be no number at all.
        let recorded = recorded.split(|byte| *byte == b',').next().unwrap_or_default();
        if *own != *recorded && recorded != b"latest" {
            let says = format!("the app is version {own}: it was upgraded without Homebrew");
            item.evidence.push(Evidence::at(app_bundles::info_file(&app), "bundle", says));
        }
    }
    item.trees.push(app);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_apps_of_a_cask_are_those_that_it_names() {
        for (text, expected) in [
            (
                r#"{"artifacts":[{"app":["Tide.app"]},{"zap":[{"trash":"~/x"}]},{"app":["Quay/Ferry.app"]}]}"#,
                "Tide.app Ferry.app",
            ),
            (r#"{"artifacts":[{"app":["Tide.app",{"target":"Tidebook.app"}]}]}"#, "Tidebook.app"),
            (r#"{"artifacts":{"app":1}}"#, ""),
            ("{}", ""),
        ] {
            assert_eq!(of_json(text.as_bytes()).unwrap().join(" "), expected, "{text}");
        }
        assert!(of_json(b"{\"artifacts\":[").is_err());
        let ruby = b"cask \"tide\" do\n  version \"1.0\"\n  app \"Tide.app\"\n  app \"a/Gauge.app\", target: \"Pegel.app\"\n  appcast \"x\"\nend\n";
        assert_eq!(of_ruby(ruby), ["Tide.app", "Pegel.app"]);
    }
}
