//! Two snapshots made by hand.

use super::super::snapshot::{FileRecord, PackageRecord, PathRecord, SNAPSHOT_SCHEMA, Snapshot, WinnerRecord};
use super::*;

/// A snapshot with these packages, as `ID VERSION`.
pub(in crate::history) fn snapshot(packages: &[&str]) -> Snapshot {
    let package = |text: &&str| {
        let (id, version) = text.split_once(' ').unwrap();
        let mut parts = id.splitn(3, '/');
        let mut part = || parts.next().unwrap().to_owned();
        PackageRecord {
            id: id.to_owned(),
            manager: part(),
            scope: part(),
            name: part().split('@').next().unwrap().to_owned(),
            location: "/var/lib".to_owned(),
            version: Some(version.to_owned()),
            arch: None,
            kind: "package".to_owned(),
            channel: None,
            revision: None,
            origin: None,
            reason: "explicit".to_owned(),
            held: false,
            active: true,
            status: "installed".to_owned(),
            installed_at: None,
            size: None,
            title: None,
            scheme: None,
            upstream: None,
            newest: None,
        }
    };
    Snapshot {
        schema: SNAPSHOT_SCHEMA.to_owned(),
        written_by: "0.1.0".to_owned(),
        taken_at: None,
        host: Some("lantern".to_owned()),
        machine: None,
        root: "/".to_owned(),
        system: None,
        users_seen: vec!["maren".to_owned()],
        packages: packages.iter().map(package).collect(),
        winners: Vec::new(),
        search_paths: ["login", "cron"]
            .map(|context| PathRecord {
                user: Some("maren".to_owned()),
                context: context.to_owned(),
                entries: vec![("/usr/bin".to_owned(), "/etc/profile line 1".to_owned())],
            })
            .to_vec(),
        launchers: Vec::new(),
        unowned: Vec::new(),
        sources: Vec::new(),
        states: Vec::new(),
        services: Vec::new(),
        users: Vec::new(),
        files: Vec::new(),
        findings: None,
        losses: Vec::new(),
    }
}

fn shown(before: &Snapshot, after: &Snapshot) -> Vec<String> {
    let row = |one: &Change| {
        let text = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".to_owned());
        let of = one.of.as_ref().map(|of| format!(" {of}")).unwrap_or_default();
        let contexts = if one.contexts.is_empty() { String::new() } else { format!(" in {}", one.contexts.join(", ")) };
        format!(
            "{} {}{of} {}: {} to {}{contexts}",
            one.what.word(),
            one.change.word(),
            one.subject,
            text(&one.from),
            text(&one.to)
        )
    };
    compare(before, after).changes.iter().map(row).collect()
}

#[test]
fn packages_are_the_same_whatever_version_their_id_holds() {
    let before =
        snapshot(&["dpkg/system/tarn 2.9", "dpkg/system/buoy 1", "macports/system/quay@1.0 1.0", "npm/user:tobin/x 1"]);
    let mut after = snapshot(&["dpkg/system/tarn 2.10", "dpkg/system/chain 3", "macports/system/quay@0.9 0.9"]);
    after.packages[0].held = true;
    assert_eq!(
        shown(&before, &after),
        [
            "package removed dpkg/system/buoy: 1 to -",
            "package added dpkg/system/chain: - to 3",
            "package changed held dpkg/system/tarn: not held to held",
            "package changed up dpkg/system/tarn: 2.9 to 2.10",
            "package changed down macports/system/quay@0.9: 1.0 to 0.9",
        ]
    );
    assert!(compare(&before, &before).same);
}

#[test]
fn a_name_that_starts_another_program_is_told_once_with_its_contexts() {
    let (mut before, mut after) = (snapshot(&[]), snapshot(&[]));
    let winner = |path: &str, contexts: &[&str]| WinnerRecord {
        name: "tarn".to_owned(),
        path: path.to_owned(),
        owner: None,
        contexts: contexts.iter().map(|context| (*context).to_owned()).collect(),
    };
    before.winners = vec![winner("/usr/bin/tarn", &["maren login", "maren cron", "tobin login"])];
    after.winners = vec![winner("/usr/local/bin/tarn", &["maren login", "maren cron"])];
    after
        .search_paths
        .iter_mut()
        .for_each(|one| one.entries.insert(0, ("/usr/local/bin".to_owned(), "/etc/profile line 2".to_owned())));
    before.files.push(FileRecord { path: "/etc/tarn.conf".to_owned(), content: Some("a".to_owned()), owner: None });
    after.files.push(FileRecord { path: "/etc/tarn.conf".to_owned(), content: None, owner: None });
    assert_eq!(
        shown(&before, &after),
        [
            "winner changed tarn: /usr/bin/tarn (unowned) to /usr/local/bin/tarn (unowned) in maren cron, maren login",
            "search-path added /usr/local/bin: - to /etc/profile line 2 in maren cron, maren login",
        ]
    );
    after.users_seen.push("tobin".to_owned());
    after.host = Some("skerry".to_owned());
    assert_eq!(compare(&before, &after).not_compared.len(), 2);
}
