//! Findings of several users: what is so for all of them is told once, and what differs says whose it is.

use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::Finding;

/// A finding, and what follows from it for whom.
type Told = (Finding, Vec<(String, Vec<ByteString>)>);

/// The findings of each user, merged. A finding that differs only in what follows from it is one, with what follows for
/// each user.
pub(super) fn merged(of_each: Vec<(Option<ByteString>, Vec<Finding>)>) -> Vec<Finding> {
    let is_one = of_each.len() < 2;
    let mut merged: Vec<Told> = Vec::new();
    for (user, findings) in of_each {
        for finding in findings {
            let is_same = |known: &&mut Told| {
                let (a, b) = (&known.0, &finding);
                (a.kind, &a.subject, a.severity, &a.packages, &a.paths)
                    == (b.kind, &b.subject, b.severity, &b.packages, &b.paths)
            };
            let user = user.iter().cloned();
            match merged.iter_mut().find(is_same) {
                Some((_, told)) => match told.iter_mut().find(|(says, _)| *says == finding.consequence) {
                    Some((_, users)) => users.extend(user),
                    None => told.push((finding.consequence, user.collect())),
                },
                None => {
                    let told = vec![(finding.consequence.clone(), user.collect())];
                    merged.push((finding, told));
                }
            }
        }
    }
    let told = merged.into_iter().map(|(mut finding, told)| {
        finding.users = told.iter().flat_map(|(_, users)| users.iter().cloned()).collect();
        if told.len() > 1 && !is_one {
            let each = told.iter().map(|(says, users)| format!("{says} (for {})", names(users)));
            finding.consequence = each.collect::<Vec<_>>().join("; ");
        }
        finding
    });
    told.collect()
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
