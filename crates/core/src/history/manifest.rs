//! The document of a manifest, `whodunit-manifest/1`: TOML that says what was asked for on a machine, by whom, from where.
//!
//! Unlike a snapshot it is written to be read, edited and carried to another machine: it names no dependency, no version
//! unless asked to, and lists apart what no manager can bring.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use serde::Deserialize;
use thiserror::Error;

use super::compare::{Changes, Comparison, Keyed, Subject, keyed};

/// The version of the format, as every document names it.
pub const MANIFEST_SCHEMA: &str = "whodunit-manifest/1";

/// What was asked for on a machine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    /// Always `whodunit-manifest/1`.
    pub schema: String,
    /// The machine on which it was written.
    pub host: Option<String>,
    /// The system of that machine, with its version.
    pub system: Option<String>,
    /// When it was written: RFC 3339, UTC.
    pub written_at: Option<String>,
    /// Sources of packages that are not the distribution's own.
    #[serde(default, rename = "source")]
    pub sources: Vec<WantedSource>,
    /// Packages that were asked for.
    #[serde(default, rename = "package")]
    pub packages: Vec<WantedPackage>,
    /// Programs that no manager brings.
    #[serde(default, rename = "by-hand")]
    pub by_hand: Vec<ByHand>,
}

/// A source that packages come from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WantedSource {
    /// The manager that takes packages from it.
    pub manager: String,
    /// For whom it is configured: `system` or `user:NAME`.
    pub scope: String,
    /// Its name.
    pub name: String,
    /// Its address.
    pub url: Option<String>,
}

/// A package that was asked for.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WantedPackage {
    /// The manager that has it.
    pub manager: String,
    /// Whose it is: `system` or `user:NAME`.
    pub scope: String,
    /// Its name, as the manager spells it.
    pub name: String,
    /// Its version; any, where there is none.
    pub version: Option<String>,
    /// The channel or branch.
    pub channel: Option<String>,
    /// The name of the source; any, where there is none.
    pub source: Option<String>,
}

/// A program that has to be brought by hand.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ByHand {
    /// Where it is.
    pub path: String,
    /// SHA-256 of its content.
    pub sha256: Option<String>,
    /// How it probably came.
    pub guess: Option<String>,
}

/// Why a text is no manifest that can be used.
#[derive(Debug, Error)]
pub enum ManifestError {
    /// It is no TOML, or has members that a manifest has not.
    #[error("{0}")]
    Malformed(String),
    /// It is of another version of the format, or something else.
    #[error("its schema is {0}; this version reads {MANIFEST_SCHEMA}")]
    OtherSchema(String),
}

/// The one member that every version of the format has.
#[derive(Deserialize)]
struct Head {
    schema: String,
}

/// A text as TOML writes it.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

impl Manifest {
    /// Reads a manifest.
    ///
    /// # Errors
    /// With the line, where it is no TOML or has members that a manifest has not; where it is of another version.
    pub fn read(text: &str) -> Result<Self, ManifestError> {
        let malformed = |error: toml::de::Error| {
            let line = error.span().map(|span| text[..span.start.min(text.len())].matches('\n').count() + 1);
            let place = line.map(|line| format!("line {line}: ")).unwrap_or_default();
            ManifestError::Malformed(format!("{place}{}", error.message()))
        };
        let head: Head = toml::from_str(text).map_err(malformed)?;
        if head.schema != MANIFEST_SCHEMA {
            return Err(ManifestError::OtherSchema(head.schema));
        }
        toml::from_str(text).map_err(malformed)
    }

    /// Writes a manifest, with comments for who reads it.
    #[must_use]
    pub fn write(&self) -> String {
        let mut text = String::from(
            "# What was asked for on a machine: `whodunit manifest compare FILE` tells how another one differs.\n",
        );
        let member = |text: &mut String, key: &str, value: Option<&String>| {
            if let Some(value) = value {
                let _ = writeln!(text, "{key} = {}", quoted(value));
            }
        };
        member(&mut text, "schema", Some(&self.schema));
        member(&mut text, "host", self.host.as_ref());
        member(&mut text, "system", self.system.as_ref());
        member(&mut text, "written_at", self.written_at.as_ref());
        if !self.sources.is_empty() {
            text.push_str("\n# Sources that are not the distribution's own. Keys are not carried along.\n");
        }
        for one in &self.sources {
            text.push_str("\n[[source]]\n");
            member(&mut text, "manager", Some(&one.manager));
            member(&mut text, "scope", Some(&one.scope));
            member(&mut text, "name", Some(&one.name));
            member(&mut text, "url", one.url.as_ref());
        }
        let mut last: Option<(&String, &String)> = None;
        for one in &self.packages {
            if last != Some((&one.manager, &one.scope)) {
                let _ = writeln!(text, "\n# {}, {}", one.manager, one.scope.replace("user:", "of "));
                last = Some((&one.manager, &one.scope));
            }
            text.push_str("\n[[package]]\n");
            member(&mut text, "manager", Some(&one.manager));
            member(&mut text, "scope", Some(&one.scope));
            member(&mut text, "name", Some(&one.name));
            member(&mut text, "version", one.version.as_ref());
            member(&mut text, "channel", one.channel.as_ref());
            member(&mut text, "source", one.source.as_ref());
        }
        if !self.by_hand.is_empty() {
            text.push_str("\n# No manager brings these: they have to be fetched or built again.\n");
        }
        for one in &self.by_hand {
            text.push_str("\n[[by-hand]]\n");
            member(&mut text, "path", Some(&one.path));
            member(&mut text, "sha256", one.sha256.as_ref());
            member(&mut text, "guess", one.guess.as_ref());
        }
        text
    }

    /// How a machine on which `here` would be written differs from this manifest. What only the manifest has is
    /// `removed`, what only the machine has is `added`. `managers` are those that this version reads.
    #[must_use]
    pub fn compare(&self, here: &Manifest, managers: &[&str]) -> Comparison {
        let mut not_compared = Vec::new();
        let unknown: BTreeSet<&String> = {
            let named = self.packages.iter().map(|one| &one.manager).chain(self.sources.iter().map(|one| &one.manager));
            named.filter(|name| !managers.contains(&name.as_str())).collect()
        };
        not_compared
            .extend(unknown.iter().map(|name| format!("what {name} has: this version does not read that manager")));
        let several = several(&self.packages);
        let (mut wanted, twice) = by_id(&self.packages, &several);
        not_compared.extend(
            twice.iter().map(|id| format!("{id}: it stands in the manifest more than once; the last one counts")),
        );
        wanted.retain(|_, one| !unknown.contains(&one.manager));
        let mut changes = Changes::default();
        let (found, _) = by_id(&here.packages, &several);
        let version = |one: &WantedPackage| one.version.clone();
        changes.each(Subject::Package, (&wanted, &found), &version, &mut |changes, id, wanted, now| {
            // What the manifest leaves open, or the machine does not tell, is no difference.
            for (of, wanted, now) in [
                ("version", &wanted.version, &now.version),
                ("channel", &wanted.channel, &now.channel),
                ("source", &wanted.source, &now.source),
            ] {
                changes.known_part(Subject::Package, id, of, wanted.as_ref(), now.as_ref());
            }
        });
        let of_source = |one: &WantedSource| format!("{} {}", one.manager, one.name);
        let (wanted, found) = (keyed(&self.sources, of_source), keyed(&here.sources, of_source));
        changes.each(Subject::Source, (&wanted, &found), &|one| one.url.clone(), &mut |_, _, _, _| {});
        let of_file = |one: &ByHand| one.path.clone();
        let (wanted, found) = (keyed(&self.by_hand, of_file), keyed(&here.by_hand, of_file));
        changes.each(
            Subject::Unowned,
            (&wanted, &found),
            &|one| one.sha256.clone(),
            &mut |changes, path, wanted, now| {
                changes.known_part(Subject::Unowned, path, "content", wanted.sha256.as_ref(), now.sha256.as_ref());
            },
        );
        Comparison { same: changes.0.is_empty(), changes: changes.0, not_compared }
    }
}

fn id(one: &WantedPackage) -> String {
    format!("{}/{}/{}", one.manager, one.scope, one.name)
}

/// The ids of packages that are wanted at several versions side by side, as version managers keep them.
fn several(packages: &[WantedPackage]) -> BTreeSet<String> {
    let mut versions: BTreeMap<String, BTreeSet<Option<&String>>> = BTreeMap::new();
    for one in packages {
        versions.entry(id(one)).or_default().insert(one.version.as_ref());
    }
    let are_kept = |versions: &BTreeSet<Option<&String>>| versions.len() > 1 && !versions.contains(&None);
    versions.into_iter().filter(|(_, versions)| are_kept(versions)).map(|(id, _)| id).collect()
}

/// Packages by id, with the version of those that are kept at several; and the ids that stand there more than once.
fn by_id<'p>(
    packages: &'p [WantedPackage],
    several: &BTreeSet<String>,
) -> (Keyed<'p, WantedPackage>, BTreeSet<String>) {
    let (mut found, mut twice) = (BTreeMap::new(), BTreeSet::new());
    for one in packages {
        let id = match (id(one), &one.version) {
            (id, Some(version)) if several.contains(&id) => format!("{id}@{version}"),
            (id, _) => id,
        };
        if found.insert(id.clone(), one).is_some() {
            twice.insert(id);
        }
    }
    (found, twice)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn manifest(packages: &[(&str, Option<&str>)]) -> Manifest {
        let package = |(name, version): &(&str, Option<&str>)| WantedPackage {
            manager: "dpkg".to_owned(),
            scope: "system".to_owned(),
            name: (*name).to_owned(),
            version: version.map(str::to_owned),
            channel: None,
            source: Some("Quay \"stable\"\nmain".to_owned()),
        };
        Manifest {
            schema: MANIFEST_SCHEMA.to_owned(),
            packages: packages.iter().map(package).collect(),
            by_hand: vec![ByHand { path: "/usr/local/bin/barolog".to_owned(), sha256: None, guess: None }],
            ..Manifest::default()
        }
    }

    #[test]
    fn a_manifest_is_read_as_it_was_written_and_mistakes_name_their_line() {
        let written = manifest(&[("tarn", Some("2.3")), ("buoy", None)]);
        assert_eq!(Manifest::read(&written.write()).unwrap(), written);
        for (text, says) in [
            ("", "missing field `schema`"),
            ("schema = \"whodunit-manifest/2\"", "its schema is whodunit-manifest/2"),
            ("schema = \"whodunit-manifest/1\"\n[[package]]\nmanager = \"dpkg\"\nname = 7\n", "line "),
            ("schema = \"whodunit-manifest/1\"\n\nhots = \"lantern\"", "line 3: unknown field `hots`"),
            ("schema = ", "line 1"),
        ] {
            let error = Manifest::read(text).unwrap_err().to_string();
            assert!(error.contains(says), "{text:?}: {error}");
        }
    }

    #[test]
    fn versions_side_by_side_are_each_wanted() {
        let wanted = manifest(&[("almanac", Some("1.0")), ("almanac", Some("2.0"))]);
        assert_eq!(
            wanted.compare(&wanted, &["dpkg"]),
            Comparison { same: true, changes: vec![], not_compared: vec![] }
        );
        let here = manifest(&[("almanac", Some("2.0")), ("almanac", Some("3.0"))]);
        let found = wanted.compare(&here, &["dpkg"]);
        let shown: Vec<String> =
            found.changes.iter().map(|one| format!("{} {}", one.change.word(), one.subject)).collect();
        assert_eq!(shown, ["removed dpkg/system/almanac@1.0", "added dpkg/system/almanac@3.0"]);
    }

    #[test]
    fn what_is_left_open_fits_everything() {
        let wanted = manifest(&[("tarn", Some("2.3")), ("buoy", None), ("chain", None), ("chain", None)]);
        let mut here = manifest(&[("tarn", Some("2.4")), ("buoy", Some("1")), ("quay", Some("7"))]);
        here.by_hand[0].sha256 = Some("0cc1".to_owned());
        let found = wanted.compare(&here, &["dpkg"]);
        let shown: Vec<String> = found
            .changes
            .iter()
            .map(|one| {
                format!("{} {} {:?} {:?}", one.change.word(), one.subject, one.from.as_deref(), one.to.as_deref())
            })
            .collect();
        assert_eq!(
            shown,
            [
                "removed dpkg/system/chain None None",
                "changed dpkg/system/tarn Some(\"2.3\") Some(\"2.4\")",
                "added dpkg/system/quay None Some(\"7\")",
            ]
        );
        assert_eq!(found.not_compared.len(), 1);
        // A manager that is not known costs what it has.
        assert_eq!(wanted.compare(&here, &[]).not_compared.len(), 2);
    }
}
