//! Files of OpenPGP keys, and which of their keys made a signature.

use crate::bytes::ByteString;
use crate::fs::{Limit, Root};
use crate::model::{Loss, Signing, SigningKey, SigningState};
use whodunit_formats::openpgp::{self, Issuer, Key};

/// Keys with the file that holds each.
#[derive(Debug, Default)]
pub(crate) struct KeyRing {
    keys: Vec<(ByteString, Key)>,
}

impl KeyRing {
    /// Reads files of keys; one that is not there holds none.
    pub(crate) fn read(root: &Root, files: &[ByteString], notes: &mut Vec<Loss>) -> Self {
        let mut ring = KeyRing::default();
        for file in files {
            match root.read(file, Limit::LIST) {
                Ok(content) => ring.add(file, &content, notes),
                Err(error) if error.is_missing() => {}
                Err(error) => notes.push(Loss::unread(&error, "whose keys it holds is unknown")),
            }
        }
        ring
    }

    /// Adds the keys in the content of a file.
    pub(crate) fn add(&mut self, file: &ByteString, content: &[u8], notes: &mut Vec<Loss>) {
        let (keys, problem) = openpgp::keys(content);
        if let Some(problem) = problem {
            notes.push(Loss::damaged(file.clone(), problem, "which keys it holds is unknown in full"));
        }
        self.keys.extend(keys.into_iter().map(|key| (file.clone(), key)));
    }

    /// Leaves only the keys with one of these fingerprints, where there are any.
    pub(crate) fn restrict(&mut self, fingerprints: &[String]) {
        if !fingerprints.is_empty() {
            self.keys.retain(|(_, key)| fingerprints.iter().any(|print| key.expiry_for(print).is_some()));
        }
    }

    /// How a signature by these issuers stands with the keys; with `all`, keys that did not sign are told too.
    pub(crate) fn signing(&self, issuers: &[Issuer], all: bool) -> Signing {
        let told = |(file, key): &(ByteString, Key)| {
            let mut of_key = issuers.iter().filter_map(|issuer| key.expiry_for(&issuer.key));
            let expiry = of_key.next();
            SigningKey {
                id: key.fingerprint.clone(),
                owner: key.users.first().cloned(),
                expires_at: expiry.unwrap_or(key.expires),
                signed: expiry.is_some(),
                file: file.clone(),
            }
        };
        let mut keys: Vec<SigningKey> = self.keys.iter().map(told).filter(|key| all || key.signed).collect();
        keys.sort_by_key(|key| !key.signed);
        keys.dedup_by(|a, b| a.id == b.id);
        // What a key signed that is not here, its manager refuses.
        let is_known = keys.iter().any(|key| key.signed);
        let state = if is_known { SigningState::Verified } else { SigningState::Unknown };
        Signing { state, keys }
    }

    /// The keys as they are, without a signature to compare.
    pub(crate) fn listed(&self) -> Vec<SigningKey> {
        self.signing(&[], true).keys
    }
}
