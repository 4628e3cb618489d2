//! A remote's summary as it was last fetched: a GVariant of type `(a(s(taya{sv}))a{sv})` (*OSTree: Repository
//! summary*), each reference with its commit; the download's and the installed size, either with the reference
//! (`xa.data`) or in one dictionary for all (`xa.cache`), in network order.

use gvariant::aligned_bytes::copy_to_align;
use gvariant::{Marker as _, Structure as _, gv};

/// One reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// `app` or `runtime`.
    pub kind: String,
    pub id: String,
    pub arch: String,
    pub branch: String,
    /// In hexadecimal digits.
    pub commit: String,
    /// Bytes once installed.
    pub size: Option<u64>,
    /// Bytes to fetch.
    pub download_size: Option<u64>,
    /// The reference's metadata, a key file.
    pub metadata: Option<String>,
}

/// Reads a summary. Every run of bytes is some GVariant: a reference that is none, or whose commit is not 32 bytes
/// long, is skipped, and the count of these comes second.
pub fn parse(content: &[u8]) -> (Vec<Listed>, usize) {
    let aligned = copy_to_align(content);
    let (references, about) = gv!("(a(s(taya{sv}))a{sv})").cast(aligned.as_ref()).to_tuple();
    let mut of_all = std::collections::HashMap::new();
    for entry in about {
        let (key, value) = entry.to_tuple();
        if key.to_str() == "xa.cache" {
            let Some(inner) = value.get(gv!("v")) else { continue };
            for one in inner.get(gv!("a{s(tts)}")).into_iter().flatten() {
                let (reference, about) = one.to_tuple();
                let (installed, download, metadata) = about.to_tuple();
                let about = (u64::from_be(*installed), u64::from_be(*download), metadata.to_str().to_owned());
                of_all.insert(reference.to_str().to_owned(), about);
            }
        }
    }
    let (mut listed, mut lost) = (Vec::new(), 0);
    for one in references {
        let (reference, rest) = one.to_tuple();
        let (_, commit, own) = rest.to_tuple();
        let parts: Vec<&str> = reference.to_str().split('/').collect();
        let [kind @ ("app" | "runtime"), id, arch, branch] = parts[..] else {
            let is_internal = matches!(parts[0], "appstream" | "appstream2" | "ostree-metadata" | "screenshots");
            lost += usize::from(!is_internal);
            continue;
        };
        if commit.len() != 32 {
            lost += 1;
            continue;
        }
        let of_own = own.iter().find_map(|entry| {
            let (key, value) = entry.to_tuple();
            let about = (key.to_str() == "xa.data").then(|| value.get(gv!("(tts)"))).flatten()?;
            let (installed, download, metadata) = about.to_tuple();
            Some((u64::from_be(*installed), u64::from_be(*download), metadata.to_str().to_owned()))
        });
        let about = of_own.or_else(|| of_all.get(reference.to_str()).cloned());
        listed.push(Listed {
            kind: kind.to_owned(),
            id: id.to_owned(),
            arch: arch.to_owned(),
            branch: branch.to_owned(),
            commit: hex::encode(commit),
            size: about.as_ref().map(|about| about.0),
            download_size: about.as_ref().map(|about| about.1),
            metadata: about.map(|about| about.2).filter(|text| !text.is_empty()),
        });
    }
    (listed, lost)
}
