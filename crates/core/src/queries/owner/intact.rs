//! Whether the file that runs is the file that its manager recorded.

use super::Answer;
use super::judge::Judge;
use crate::bytes::ByteString;
use crate::digests::Content;
use crate::fs::Kind;
use crate::index::FoundClaim;
use crate::model::Evidence;
use crate::resolve::{End, Resolution};

/// The most of a file, in bytes, that is digested to tell whether it is the recorded one.
const MAX_COMPARED: u64 = 64 << 20;

impl Judge<'_, '_> {
    /// Whether the file is the one that its owner's record describes.
    pub(super) fn compare(
        &self,
        answer: &mut Answer,
        subject: &ByteString,
        claim: &FoundClaim,
        number: u32,
        resolution: &Resolution,
    ) {
        let End::There(meta) = resolution.end else { return };
        // Many targets are asked about for their owners alone.
        if meta.kind != Kind::File || self.loader.is_none() {
            return;
        }
        let Some(digest) = self.survey.recorded_digest(claim, number, subject) else { return };
        if meta.size > MAX_COMPARED {
            let says =
                format!("larger than {} MiB, so its content was not compared with its record", MAX_COMPARED >> 20);
            answer.evidence.push(Evidence::whole(subject.clone(), says));
            return;
        }
        answer.intact = Content::of(self.survey.root(), subject, MAX_COMPARED).fits(&digest);
        if answer.intact == Some(false) {
            let says = format!("its content does not have the recorded digest {}", digest.hexadecimal);
            answer.evidence.push(Evidence::whole(subject.clone(), says));
            answer.remedies.extend(self.survey.restore(claim));
        }
    }
}
