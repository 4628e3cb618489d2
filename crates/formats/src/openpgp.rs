//! OpenPGP keys and signatures (RFC 9580), as far as it takes to say who signed something, and until when the key is good.
//!
//! Files of keys are binary or armored, and hold one key after another; a signature stands in a file of its own or at
//! the end of a text that is signed in clear. No signature is checked here: that needs the signed text, and has been
//! done by the manager that fetched it.
//!
//! Traps: of several signatures of a key about itself the newest counts; a key without a date of expiry never expires;
//! a signature may name its key by fingerprint or by the last eight bytes of it.

use std::io::Read as _;

use pgp::armor::Dearmor;
use pgp::packet::{Packet, PacketParser, Signature, SignatureType};
use pgp::types::KeyDetails as _;

/// A public key with what hangs from it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Key {
    /// Its fingerprint, in upper-case hexadecimal digits.
    pub fingerprint: String,
    /// Whose it is, as it says itself.
    pub users: Vec<String>,
    /// When it was made: seconds since 1970.
    pub created: i64,
    /// From when on it is no longer good.
    pub expires: Option<i64>,
    /// Whether its owner has taken it back.
    pub revoked: bool,
    /// Its subkeys.
    pub subkeys: Vec<Subkey>,
    /// When the newest signature of the key about itself was made.
    signed: u32,
}

/// A subkey.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Subkey {
    /// Its fingerprint.
    pub fingerprint: String,
    /// When it was made.
    pub created: i64,
    /// From when on it is no longer good.
    pub expires: Option<i64>,
    /// Whether it was taken back.
    pub revoked: bool,
    signed: u32,
}

/// Who made a signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issuer {
    /// The key's fingerprint, or the last sixteen digits of it, in upper case.
    pub key: String,
    /// When: seconds since 1970.
    pub made: Option<i64>,
}

impl Key {
    /// When the key, or the subkey of it, is no longer good that this issuer names; `None` where it is not of this key.
    #[must_use]
    pub fn expiry_for(&self, issuer: &str) -> Option<Option<i64>> {
        let is_it = |fingerprint: &str| fingerprint.ends_with(issuer);
        if is_it(&self.fingerprint) {
            return Some(self.expires);
        }
        let subkey = self.subkeys.iter().find(|subkey| is_it(&subkey.fingerprint))?;
        // A subkey is no better than its key.
        Some([self.expires, subkey.expires].into_iter().flatten().min())
    }
}

/// The most bytes that an armored file is unpacked to.
const MAX_UNPACKED: u64 = 64 << 20;

/// The content of a file, without its armor.
fn binary(content: &[u8]) -> Result<Vec<u8>, String> {
    let is_armored = memchr::memmem::find(content, b"-----BEGIN PGP ").is_some();
    if !is_armored {
        return Ok(content.to_vec());
    }
    let mut all = Vec::new();
    let mut rest = content;
    // A file may have several blocks, one behind another.
    while let Some(start) = memchr::memmem::find(rest, b"-----BEGIN PGP ") {
        let end = memchr::memmem::find(&rest[start..], b"-----END PGP ").map(|at| start + at);
        let after = end.map(|end| memchr::memchr(b'\n', &rest[end..]).map_or(rest.len(), |at| end + at + 1));
        let block = &rest[start..after.unwrap_or(rest.len())];
        Dearmor::new(block).take(MAX_UNPACKED).read_to_end(&mut all).map_err(|error| error.to_string())?;
        rest = after.map_or(&[], |after| &rest[after..]);
    }
    Ok(all)
}

/// The keys in a file, and what is wrong with it: of a damaged one those before the damage.
pub fn keys(content: &[u8]) -> (Vec<Key>, Option<String>) {
    let bytes = match binary(content) {
        Ok(bytes) => bytes,
        Err(problem) => return (Vec::new(), Some(problem)),
    };
    let mut keys: Vec<Key> = Vec::new();
    let mut problem = None;
    let mut is_subkey = false;
    for packet in PacketParser::new(&bytes[..]) {
        match packet {
            Ok(Packet::PublicKey(key)) => {
                is_subkey = false;
                let created = i64::from(key.created_at().as_secs());
                keys.push(Key { fingerprint: format!("{:X}", key.fingerprint()), created, ..Key::default() });
            }
            Ok(Packet::PublicSubkey(key)) => {
                is_subkey = true;
                let created = i64::from(key.created_at().as_secs());
                let subkey = Subkey { fingerprint: format!("{:X}", key.fingerprint()), created, ..Subkey::default() };
                keys.last_mut().into_iter().for_each(|of| of.subkeys.push(subkey.clone()));
            }
            Ok(Packet::UserId(user)) => {
                let name = String::from_utf8_lossy(user.id()).into_owned();
                keys.last_mut().into_iter().for_each(|of| of.users.push(name.clone()));
            }
            Ok(Packet::Signature(signature)) => {
                if let Some(key) = keys.last_mut() {
                    apply(key, &signature, is_subkey);
                }
            }
            Ok(_) => {}
            Err(error) => {
                problem = Some(error.to_string());
                break;
            }
        }
    }
    if keys.is_empty() && problem.is_none() && !content.is_empty() {
        problem = Some("holds no key".to_owned());
    }
    (keys, problem)
}

/// Takes over what a signature says of a key or of its last subkey.
fn apply(key: &mut Key, signature: &Signature, is_subkey: bool) {
    let made = signature.created().map_or(0, pgp::types::Timestamp::as_secs);
    let expires = |created: i64| {
        let after = signature.key_expiration_time().map(pgp::types::Duration::as_secs).filter(|after| *after > 0)?;
        Some(created + i64::from(after))
    };
    match signature.typ() {
        Some(SignatureType::KeyRevocation) => key.revoked = true,
        Some(SignatureType::SubkeyRevocation) => {
            key.subkeys.last_mut().into_iter().for_each(|subkey| subkey.revoked = true);
        }
        Some(SignatureType::SubkeyBinding) if is_subkey => {
            if let Some(subkey) = key.subkeys.last_mut().filter(|subkey| made >= subkey.signed) {
                (subkey.signed, subkey.expires) = (made, expires(subkey.created));
            }
        }
        _ if is_subkey => {}
        // Of others, who vouch for the key, nothing follows.
        _ if issuers_of(signature).any(|issuer| key.fingerprint.ends_with(&issuer)) && made >= key.signed => {
            (key.signed, key.expires) = (made, expires(key.created));
        }
        _ => {}
    }
}

fn issuers_of(signature: &Signature) -> impl Iterator<Item = String> {
    let fingerprints = signature.issuer_fingerprint().into_iter().map(|print| format!("{print:X}"));
    let ids = signature.issuer_key_id().into_iter().map(|id| id.to_string().to_uppercase());
    fingerprints.chain(ids).collect::<Vec<_>>().into_iter()
}

/// Who made the signatures in a file: a text that is signed in clear, or a signature alone.
pub fn issuers(content: &[u8]) -> Vec<Issuer> {
    let block = memchr::memmem::rfind(content, b"-----BEGIN PGP SIGNATURE-----").map_or(content, |at| &content[at..]);
    let Ok(bytes) = binary(block) else { return Vec::new() };
    let signatures = PacketParser::new(&bytes[..]).map_while(Result::ok).filter_map(|packet| match packet {
        Packet::Signature(signature) => Some(signature),
        _ => None,
    });
    let issuer = |signature: Signature| {
        let made = signature.created().map(|made| i64::from(made.as_secs()));
        issuers_of(&signature).next().map(|key| Issuer { key, made })
    };
    signatures.filter_map(issuer).collect()
}
