//! Upgrades that apt does by itself: `apt-daily-upgrade.timer` with `APT::Periodic`, and what unattended-upgrades may
//! take from where (`apt.conf(5)`; the settings' own comments in `50unattended-upgrades`).
//!
//! Traps: the timer runs whether or not anything is set, and then upgrades nothing; a pattern is a list of conditions
//! that must all hold; `${distro_id}` and `${distro_codename}` stand for what `os-release(5)` says; the older form
//! `ORIGIN:ARCHIVE` is still in use; a package on the list of exceptions is left alone.

use regex_lite::Regex;

use super::conf;
use super::indexes::{Index, Release};
use crate::backend::Automatic;
use crate::backend::jobs::Job;
use crate::fs::Root;
use crate::host::{os_release, os_release_field};
use crate::model::{Evidence, Loss};
use whodunit_shell::syntax::pattern::fits;

/// What is upgraded by itself.
#[derive(Debug)]
pub struct Unattended {
    /// Conditions that must all hold of a repository; one of these lists is enough.
    allowed: Vec<Vec<(String, String)>>,
    exceptions: Vec<Regex>,
    automatic: Automatic,
}

/// The program; without it the timer upgrades nothing.
const PROGRAM: [&[u8]; 2] = [b"/usr/bin/unattended-upgrade", b"/usr/bin/unattended-upgrades"];

impl Unattended {
    /// Reads the settings; `None` where nothing is upgraded by itself.
    pub fn read(root: &Root, jobs: &[Job], notes: &mut Vec<Loss>) -> Option<Self> {
        if PROGRAM.iter().all(|file| root.target(file).is_err()) {
            return None;
        }
        let settings = conf::read(root, "what is upgraded by itself is unknown", notes);
        let is_on = settings.is_set("APT::Periodic::Enable", true);
        let every = settings.last("APT::Periodic::Unattended-Upgrade").unwrap_or("0").to_owned();
        if !is_on || every == "0" {
            return None;
        }
        let job =
            jobs.iter().find(|job| job.calls("apt.systemd.daily", &["install"]) || job.name.ends_with(b"/apt-compat"));
        let (job, schedule) = (
            job?,
            match every.as_str() {
                "1" | "always" => "daily".to_owned(),
                days => format!("every {days} days"),
            },
        );
        let text = os_release(root).map(|(_, text)| text).unwrap_or_default();
        let of_system =
            |name: &str| os_release_field(&text, name.as_bytes()).map(|value| value.to_string()).unwrap_or_default();
        let id = of_system("ID");
        let titled = id.get(..1).map(|first| first.to_uppercase() + &id[1..]).unwrap_or_default();
        let filled = |value: &str| {
            value.replace("${distro_id}", &titled).replace("${distro_codename}", &of_system("VERSION_CODENAME"))
        };
        let by_pattern = settings.list("Unattended-Upgrade::Origins-Pattern").map(|list| conditions(&filled(list)));
        let by_pair = settings.list("Unattended-Upgrade::Allowed-Origins").filter_map(|pair| {
            let pair = filled(pair);
            let (origin, archive) = pair.split_once(':').or_else(|| pair.split_once(' '))?;
            Some(vec![("origin".to_owned(), origin.to_owned()), ("archive".to_owned(), archive.to_owned())])
        });
        let allowed = by_pattern.chain(by_pair).collect();
        let listed = settings.list("Unattended-Upgrade::Package-Blacklist");
        let exceptions = listed.filter_map(|pattern| Regex::new(&format!("^(?:{pattern})")).ok()).collect();
        let says = format!("APT::Periodic::Unattended-Upgrade is {every}");
        let evidence =
            vec![Evidence::at("/etc/apt/apt.conf.d", "APT::Periodic::Unattended-Upgrade", says), job.evidence.clone()];
        let automatic = Automatic { by: "unattended-upgrades".to_owned(), schedule: Some(schedule), evidence };
        Some(Unattended { allowed, exceptions, automatic })
    }

    /// What upgrades a package that these repositories have, if they may be taken from.
    pub fn of<'i>(&self, name: &[u8], mut indexes: impl Iterator<Item = &'i Index>) -> Option<Automatic> {
        let name = String::from_utf8_lossy(name).into_owned();
        let is_excepted = self.exceptions.iter().any(|pattern| pattern.is_match(&name));
        let is_allowed = indexes.any(|index| self.allowed.iter().any(|list| holds(list, index)));
        (is_allowed && !is_excepted).then(|| self.automatic.clone())
    }
}

/// `origin=Debian,codename=mole,label=Debian`; a comma can be escaped.
fn conditions(list: &str) -> Vec<(String, String)> {
    let escaped = list.replace("\\,", "\u{1}");
    let pairs = escaped.split(',').filter_map(|one| one.trim().split_once('='));
    pairs.map(|(name, value)| (name.trim().to_owned(), value.trim().replace('\u{1}', ","))).collect()
}

fn holds(list: &[(String, String)], index: &Index) -> bool {
    let Release { origin, label, suite, codename, .. } = &index.release;
    let site = index.site();
    !list.is_empty()
        && list.iter().all(|(name, value)| {
            let known = match name.as_str() {
                "o" | "origin" => origin.as_ref(),
                "l" | "label" => label.as_ref(),
                "a" | "archive" | "suite" => suite.as_ref(),
                "n" | "codename" => codename.as_ref(),
                "c" | "component" => index.component.as_ref(),
                "site" => Some(&site),
                _ => None,
            };
            known.is_some_and(|known| fits(value.as_bytes(), known))
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_must_all_hold() {
        let index = Index {
            url: "https://apt.quay.example".into(),
            suite: "stable".into(),
            component: Some("main".into()),
            arch: None,
            file: "x".into(),
            dated: 0,
            release: Release {
                origin: Some("Quay, Ltd".into()),
                label: Some("Quay".into()),
                codename: Some("mole".into()),
                ..Release::default()
            },
            signature: None,
            source: 0,
        };
        for (list, expected) in [
            ("origin=Quay\\, Ltd,codename=mole", true),
            ("o=Quay*,n=mole,l=Quay", true),
            ("origin=Quay*,codename=pier", false),
            ("site=apt.quay.example", true),
            ("colour=red", false),
            ("", false),
        ] {
            assert_eq!(holds(&conditions(list), &index), expected, "{list}");
        }
    }
}
