//! What a revision says of itself, and who published it.

use super::{MOUNTS, SNAPD};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use whodunit_formats::squashfs;
use whodunit_formats::yaml::Node;

/// `meta/snap.yaml`, as far as it is needed, and where it was read.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct About {
    pub version: Option<ByteString>,
    pub base: Option<String>,
    pub confinement: Option<String>,
    pub kind: Option<String>,
    pub arch: Option<ByteString>,
    /// Name, command, and whether it is a service.
    pub apps: Vec<(String, Option<String>, bool)>,
    /// The file that says so.
    pub file: ByteString,
}

/// The image of a revision.
pub fn image(instance: &[u8], revision: &[u8]) -> ByteString {
    let name = [instance, b"_", revision, b".snap"].concat();
    path::join(&path::join(SNAPD, b"snaps"), &name)
}

/// Reads the mounted file, else the one in the image.
///
/// # Errors
/// In words, naming the file, when neither can be read.
pub fn about(root: &Root, instance: &[u8], revision: &[u8]) -> Result<About, String> {
    let mounted = path::join(&path::join(&path::join(MOUNTS, instance), revision), b"meta/snap.yaml");
    if let Ok(content) = root.read(&mounted, Limit::SMALL) {
        return parse(&String::from_utf8_lossy(&content), &mounted).map_err(|error| format!("{mounted}: {error}"));
    }
    let image = image(instance, revision);
    let opened = root.open(&image).map_err(|error| error.to_string())?;
    let size = opened.meta().size;
    let is_it = |path: &str| path == "/meta/snap.yaml";
    let found = squashfs::unpack(opened, size, 0, &is_it, 1 << 20).map_err(|error| format!("{image}: {error}"))?;
    let content = found.first().ok_or_else(|| format!("{image}: no meta/snap.yaml in it"))?;
    parse(&String::from_utf8_lossy(&content.content), &image)
        .map_err(|error| format!("{image}: meta/snap.yaml: {error}"))
}

fn parse(text: &str, file: &ByteString) -> Result<About, String> {
    let node = Node::parse(text)?;
    let owned = |key: &str| node.text_at(key).map(str::to_owned);
    let arch = node.get("architectures").and_then(|list| match list {
        Node::List(list) => list.first().and_then(Node::text),
        _ => None,
    });
    let apps = match node.get("apps") {
        Some(Node::Map(apps)) => apps
            .iter()
            .map(|(name, app)| (name.clone(), app.text_at("command").map(str::to_owned), app.get("daemon").is_some()))
            .collect(),
        _ => Vec::new(),
    };
    Ok(About {
        version: node.text_at("version").filter(|version| !version.is_empty()).map(ByteString::from),
        base: owned("base"),
        confinement: owned("confinement"),
        kind: owned("type"),
        arch: arch.map(ByteString::from),
        apps,
        file: file.clone(),
    })
}

/// The publisher of a snap that the store knows: the name that users see, and how far it is vouched for.
/// Signatures are not checked.
pub fn publisher(root: &Root, snap_id: &str) -> Option<(ByteString, ByteString, ByteString)> {
    let top = path::join(SNAPD, b"assertions/asserts-v0");
    let is_sound = |id: &str| !id.is_empty() && !id.contains('/') && !id.starts_with('.');
    let read = |below: &str| {
        let file = path::join(&top, below.as_bytes());
        root.read(&file, Limit::SMALL).ok().map(|content| (file, content))
    };
    let header = |content: &[u8], key: &str| -> Option<String> {
        let text = String::from_utf8_lossy(content);
        let mut head = text.lines().take_while(|line| !line.is_empty());
        head.find_map(|line| line.strip_prefix(key)?.strip_prefix(": ").map(str::to_owned))
    };
    let (file, declaration) = read(&format!("snap-declaration/16/{snap_id}/active")).filter(|_| is_sound(snap_id))?;
    let publisher = header(&declaration, "publisher-id").filter(|id| is_sound(id))?;
    let account = read(&format!("account/{publisher}/active"));
    let of_account = |key: &str| account.as_ref().and_then(|(_, content)| header(content, key));
    let name = of_account("username").unwrap_or(publisher);
    let validation = of_account("validation").unwrap_or_else(|| "unproven".to_owned());
    Some((name.into(), validation.into(), file))
}
