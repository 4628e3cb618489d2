//! Application bundles of macOS: a directory `NAME.app` that says of itself what it is ("Bundle Programming Guide",
//! "Information Property List").
//!
//! `Contents/Info.plist`, in XML or binary form, has the identifier, two versions and the name of the program in
//! `Contents/MacOS`. What came from the App Store has its mark in `Contents/_MASReceipt/receipt`.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::Loss;
use whodunit_formats::plist::Value;

/// What a bundle says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AppBundle {
    /// `CFBundleIdentifier`: what it is called on every machine.
    pub identifier: Option<ByteString>,
    /// `CFBundleName`, in the language in which it was written.
    pub name: Option<ByteString>,
    /// `CFBundleShortVersionString`: the version that users see.
    pub version: Option<ByteString>,
    /// `CFBundleVersion`: the build.
    pub build: Option<ByteString>,
    /// Its program.
    pub program: Option<ByteString>,
}

/// The file in which it does.
#[must_use]
pub fn info_file(bundle: &[u8]) -> ByteString {
    path::join(bundle, b"Contents/Info.plist")
}

/// The mark of the App Store.
#[must_use]
pub fn store_mark(bundle: &[u8]) -> ByteString {
    path::join(bundle, b"Contents/_MASReceipt/receipt")
}

/// Reads what a bundle says of itself.
///
/// # Errors
/// With the file, and what is unknown because of it.
pub fn read(host: &Host, bundle: &[u8]) -> Result<AppBundle, Loss> {
    let file = info_file(bundle);
    let hides = || format!("version and program of {} are unknown", ByteString::from(path::name(bundle)));
    let content = host.root.read(&file, Limit::SMALL).map_err(|error| Loss::unread(&error, hides()))?;
    let info = Value::parse(&content).map_err(|what| Loss::damaged(file.clone(), what, hides()))?;
    let text = |key: &str| info.text_at(key).map(str::trim).filter(|text| !text.is_empty()).map(ByteString::from);
    // A name with a slash would lead out of the bundle.
    let program = text("CFBundleExecutable").filter(|name| !name.contains(&b'/') && **name != *b"..");
    Ok(AppBundle {
        identifier: text("CFBundleIdentifier"),
        name: text("CFBundleName"),
        version: text("CFBundleShortVersionString"),
        build: text("CFBundleVersion"),
        program: program.map(|name| path::join(&path::join(bundle, b"Contents/MacOS"), &name)),
    })
}

/// The bundles in a directory, and in the directories in it that are none.
#[must_use]
pub fn below(host: &Host, dir: &ByteString) -> Vec<ByteString> {
    let mut found = Vec::new();
    look(host, dir, true, &mut found);
    found
}

fn look(host: &Host, dir: &ByteString, goes_down: bool, found: &mut Vec<ByteString>) {
    for (name, kind) in host.root.names_in(dir) {
        let place = path::join(dir, &name);
        match kind {
            Kind::Dir if name.ends_with(b".app") && host.root.entry(&info_file(&place)).is_ok() => found.push(place),
            Kind::Dir if goes_down && !name.starts_with(b".") => look(host, &place, false, found),
            _ => {}
        }
    }
}
