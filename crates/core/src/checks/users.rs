//! Findings of several users: what is so for all of them is told once, and what differs says whose it is.

use hashbrown::HashMap;

use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::{Finding, FindingKind};

/// A finding, and what follows from it for whom; for nobody in particular on a search path that was given.
struct Told {
    finding: Finding,
    follows: Vec<(String, Vec<Option<ByteString>>)>,
}

impl Told {
    /// Whether this is the same finding. Two of one user's from which different things follow are two.
    fn is(&self, other: &Finding, user: &Option<ByteString>) -> bool {
        let own = &self.finding;
        (own.severity, &own.packages, &own.paths) == (other.severity, &other.packages, &other.paths)
            && self.follows.iter().all(|(says, users)| *says == other.consequence || !users.contains(user))
    }

    fn add(&mut self, consequence: String, user: &Option<ByteString>) {
        match self.follows.iter_mut().find(|(says, _)| *says == consequence) {
            Some((_, users)) if users.contains(user) => {}
            Some((_, users)) => users.push(user.clone()),
            None => self.follows.push((consequence, vec![user.clone()])),
        }
    }

    fn finish(self) -> Finding {
        let mut finding = self.finding;
        let each: Vec<(String, Vec<ByteString>)> =
            self.follows.into_iter().map(|(says, users)| (says, users.into_iter().flatten().collect())).collect();
        if each.len() > 1 {
            let each = each.iter().map(|(says, users)| format!("{says} (for {})", names(users)));
            finding.consequence = each.collect::<Vec<_>>().join("; ");
        }
        finding.users = each.into_iter().flat_map(|(_, users)| users).collect();
        finding
    }
}

/// The findings of each user, merged. A finding that differs only in what follows from it is one, with what follows for
/// each user.
pub(super) fn merged(of_each: Vec<(Option<ByteString>, Vec<Finding>)>) -> Vec<Finding> {
    let mut merged: Vec<Told> = Vec::new();
    let mut places: HashMap<(FindingKind, ByteString), Vec<usize>> = HashMap::new();
    for (user, findings) in of_each {
        for finding in findings {
            let known = places.entry((finding.kind, finding.subject.clone())).or_default();
            match known.iter().find(|at| merged[**at].is(&finding, &user)) {
                Some(at) => merged[*at].add(finding.consequence, &user),
                None => {
                    known.push(merged.len());
                    let follows = vec![(finding.consequence.clone(), vec![user.clone()])];
                    merged.push(Told { finding, follows });
                }
            }
        }
    }
    merged.into_iter().map(Told::finish).collect()
}

fn names(users: &[ByteString]) -> String {
    users.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// Says whose a finding is that is about a file in a user's home.
pub(super) fn name_owners(host: &Host, finding: &mut Finding) {
    if !finding.users.is_empty() {
        return;
    }
    for user in finding.paths.iter().filter_map(|path| host.home_owner(path)) {
        if !finding.users.contains(&user.name) {
            finding.users.push(user.name.clone());
        }
    }
}
