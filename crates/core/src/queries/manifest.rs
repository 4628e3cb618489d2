//! What was asked for on the machine, as it can be carried to another one.

use crate::backend::Detail;
use crate::bytes::ByteString;
use crate::history::{ByHand, MANIFEST_SCHEMA, Manifest, WantedPackage, WantedSource};
use crate::host::System;
use crate::model::{Package, Reason, Scope, Source, Status, rfc3339};
use crate::queries::unowned::{Group, unowned};
use crate::resolve::SearchPath;
use crate::survey::Survey;

/// The manifest of a machine; with the versions of packages where they are to be pinned.
#[must_use]
pub fn manifest(survey: &Survey<'_>, searches: &[&SearchPath], is_pinned: bool, written_at: Option<i64>) -> Manifest {
    let host = survey.host;
    let packages = survey.packages(Detail { origins: true, ..Detail::default() });
    let mut packages: Vec<WantedPackage> =
        packages.iter().filter(|one| was_asked_for(one)).map(|one| package(one, is_pinned)).collect();
    packages.sort();
    packages.dedup();
    let is_own = |one: &&Source| one.trust.as_deref() == Some("distribution") || !one.enabled;
    let mut sources: Vec<WantedSource> = survey.sources().iter().filter(|one| !is_own(one)).map(source).collect();
    sources.sort();
    sources.dedup();
    let text = |bytes: &ByteString| bytes.to_data().into_owned();
    // Of each piece of software its first program stands for it.
    let groups = unowned(survey, searches, &[]).groups;
    let firsts: Vec<&ByteString> = groups.iter().map(|group| &group.files[0].path).collect();
    let digests = crate::digests::sha256_of(&host.root, firsts.iter().copied());
    let by_hand = |((group, path), sha256): ((&Group, &ByteString), Option<String>)| ByHand {
        path: text(path),
        sha256,
        guess: Some(group.guess.clone()),
    };
    let by_hand = groups.iter().zip(firsts).zip(digests).map(by_hand).collect();
    Manifest {
        schema: MANIFEST_SCHEMA.to_owned(),
        host: host.hostname().as_ref().map(text),
        system: host.system().and_then(System::to_data),
        written_at: written_at.map(rfc3339),
        sources,
        packages,
        by_hand,
    }
}

/// Whether a user asked for it; what a manager keeps no reason of counts as asked for. What lies in an environment belongs
/// to the project that made it.
fn was_asked_for(one: &Package) -> bool {
    one.reason != Reason::Dependency && one.status == Status::Installed && !matches!(one.scope, Scope::Environment(_))
}

fn package(one: &Package, is_pinned: bool) -> WantedPackage {
    let text = |bytes: &ByteString| bytes.to_data().into_owned();
    WantedPackage {
        manager: one.manager.to_string(),
        scope: one.scope.to_data(),
        name: text(&one.name),
        version: one.version.as_ref().filter(|_| is_pinned).map(text),
        channel: one.channel.as_ref().map(text),
        source: one.origin.as_ref().filter(|origin| origin.kind != "file").map(|origin| text(&origin.name)),
    }
}

fn source(one: &Source) -> WantedSource {
    WantedSource {
        manager: one.manager.to_string(),
        scope: one.scope.to_data(),
        name: one.name.to_data().into_owned(),
        url: one.url.as_ref().map(|url| url.to_data().into_owned()),
    }
}
