//! Findings as a snapshot keeps them.

use super::Check;
use crate::history::FindingRecord;

/// The findings of an answer, each with the sort of its cause.
#[must_use]
pub fn recorded(answer: &Check) -> Vec<FindingRecord> {
    let with_cause = answer.groups.iter().flat_map(|group| group.findings.iter().map(move |place| (group, *place)));
    let record = |(group, place): (&crate::model::Group, usize)| {
        let finding = answer.findings.get(place)?;
        Some(FindingRecord {
            kind: finding.kind.to_string(),
            severity: finding.severity.word().to_owned(),
            cause: group.cause.word().to_owned(),
            subject: finding.subject.to_data().into_owned(),
            summary: finding.summary.clone(),
            users: finding.users.iter().map(|user| user.to_data().into_owned()).collect(),
        })
    };
    with_cause.filter_map(record).collect()
}
