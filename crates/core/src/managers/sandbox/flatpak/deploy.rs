//! The file `deploy` of a deployment: a GVariant of type `(ssasta{sv})` (*GVariant Specification*): origin,
//! commit, parts, installed size, and a dictionary.

use gvariant::aligned_bytes::copy_to_align;
use gvariant::{Marker as _, Structure as _, gv};

/// A commit: 64 hexadecimal digits (SHA-256).
pub(super) fn is_commit(text: &[u8]) -> bool {
    text.len() == 64 && text.iter().all(u8::is_ascii_hexdigit)
}

/// What a deployment records.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Deploy {
    pub origin: String,
    pub commit: String,
    /// Bytes; for a partial deployment those of the whole.
    pub size: u64,
    /// The version in the app's own metadata at the time.
    pub version: Option<String>,
    /// Why no update will come any more.
    pub end_of_life: Option<String>,
}

/// Reads the file. Every run of bytes is some GVariant, so what comes of a damaged file is judged by its commit.
pub fn parse(content: &[u8]) -> Option<Deploy> {
    let aligned = copy_to_align(content);
    let (origin, commit, _, size, dictionary) = gv!("(ssasta{sv})").cast(aligned.as_ref()).to_tuple();
    let mut deploy = Deploy {
        origin: origin.to_str().to_owned(),
        commit: commit.to_str().to_owned(),
        // The one number in the file that is not in the host's order.
        size: u64::from_be(*size),
        ..Deploy::default()
    };
    for entry in dictionary {
        let (key, value) = entry.to_tuple();
        let text = || value.get(gv!("s")).map(|text| text.to_str().to_owned()).filter(|text| !text.is_empty());
        match key.to_str() {
            "appdata-version" => deploy.version = text(),
            "eol" => deploy.end_of_life = text(),
            _ => {}
        }
    }
    is_commit(deploy.commit.as_bytes()).then_some(deploy)
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = parse(&content);
        }
    }
}
