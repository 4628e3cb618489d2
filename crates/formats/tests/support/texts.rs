//! Every reader of texts, on any bytes: what must hold of whatever it returns. For property tests and the fuzzer.

use whodunit_formats::desktop_entry::{self, DesktopEntry};
use whodunit_formats::key_file::KeyFile;
use whodunit_formats::pyvenv::Pyvenv;
use whodunit_formats::quoted_pairs::Pairs;
use whodunit_formats::shebang::{self, Shebang};
use whodunit_formats::yaml::Node;
use whodunit_formats::{
    accounts, appstream, appstream_yaml, bytes, lua_table, manual, modulemd, opam, parentheses, plist, primary,
    settings, stanza, versioned,
};

/// Only added to at the end: inputs that were kept choose by number.
pub const READERS: &[fn(&[u8])] = &[
    |file| {
        for stanza in stanza::stanzas(file) {
            let _ = format!("{stanza:?}");
        }
        let _ = stanza::is_cut(file);
    },
    |file| {
        let lines = lines_of(file);
        let all = settings::assignments(file).chain(settings::environment(file)).chain(settings::definitions(file));
        for setting in all {
            assert!((1..=lines).contains(&setting.line) && is_part(setting.name, file), "{setting:?}");
        }
    },
    |file| {
        for account in accounts::accounts(file) {
            assert!(is_part(account.name, file) && is_part(account.home, file));
        }
        assert!(accounts::groups(file).all(|group| is_part(group.name, file)));
    },
    |file| {
        let read = KeyFile::parse(file);
        for group in read.groups() {
            assert!(read.has(group) && read.line(group).is_some_and(|line| line <= lines_of(file)));
            for key in read.keys(group) {
                assert!(read.get(group, key).is_some());
                let _ = read.list(group, key);
            }
        }
    },
    |file| {
        if let Ok(entry) = DesktopEntry::parse(file) {
            assert!(entry.line("Exec") <= lines_of(file));
            let _ = (entry.text("Name"), entry.list("Categories"), entry.is_set("Hidden"));
            let _ = entry.text("Exec").map(|command| desktop_entry::words(&command));
        }
    },
    |file| {
        let _ = opam::fields(&String::from_utf8_lossy(file));
    },
    |file| {
        let _ = lua_table::parse(&String::from_utf8_lossy(file));
    },
    |file| {
        if let Ok(node) = Node::parse(&String::from_utf8_lossy(file)) {
            let _ = (node.get("Type"), node.text_at("ID"));
        }
    },
    |file| {
        let _ = appstream_yaml::component(&String::from_utf8_lossy(file));
    },
    |file| {
        let _ = appstream::each(file, &mut |_| ());
    },
    |file| {
        let _ = primary::each(file, &mut |_| ());
    },
    |file| {
        if let Ok(value) = plist::Value::parse(file) {
            let _ = (value.text_at("CFBundleVersion"), value.items().count(), value.entries().len());
        }
    },
    |file| {
        let read = Pyvenv::parse(file);
        let _ = format!("{read:?}");
    },
    |file| {
        if let Some(script) = Shebang::parse(file) {
            assert!(!script.interpreter.is_empty() && is_part(script.interpreter, script.line));
            let _ = script.looked_up();
        }
        let _ = shebang::handed_to(file);
    },
    |file| {
        if let Some((version, line)) = manual::version(file) {
            assert!((1..=lines_of(file)).contains(&line) && version.starts_with(|first: char| first.is_ascii_digit()));
        }
        let _ = manual::version_in(&String::from_utf8_lossy(file));
    },
    |file| {
        for name in ["Cargo.toml", "package.json", "pyproject.toml", "CMakeLists.txt", "meson.build", "configure.ac"] {
            let _ = versioned::in_build_file(name, file);
        }
        let _ = (versioned::in_cmake_package(file), versioned::in_script(file));
        let name = &file[..file.len().min(4)];
        if let Some((version, at)) = versioned::beside_name(file, name) {
            assert!(!version.is_empty() && at < file.len());
        }
    },
    |file| {
        assert!(!bytes::shown(file).chars().any(char::is_control));
        let word = bytes::shell_word(file);
        assert!(!word.is_empty(), "an empty word is written as quotes");
        let joined = bytes::path::join(b"/a", bytes::path::name(file));
        let _ = (bytes::path::parent(&joined), bytes::path::within(file, b"/a"));
        assert!(bytes::path::absolute(file, b"/home/maren").as_bytes().starts_with(b"/"));
    },
    |file| {
        if let Ok(pairs) = Pairs::parse(file) {
            let _ = (pairs.text("name"), pairs.below("AppState").is_some(), pairs.children().count());
        }
    },
    |file| {
        let (documents, damaged) = modulemd::documents(&String::from_utf8_lossy(file));
        assert!(documents.len() + damaged <= lines_of(file) as usize);
    },
    |file| {
        fn longest(value: &parentheses::Value) -> usize {
            value.items().iter().map(longest).max().or(value.text().map(<[u8]>::len)).unwrap_or_default()
        }
        if let Ok(value) = parentheses::parse(file) {
            assert!(longest(&value) <= file.len(), "no text is longer than the file");
        }
    },
];

fn lines_of(file: &[u8]) -> u32 {
    1 + u32::try_from(file.iter().filter(|byte| **byte == b'\n').count()).unwrap()
}

/// Whether a value was taken from the bytes, not made up.
fn is_part(part: &[u8], whole: &[u8]) -> bool {
    part.is_empty() || whole.windows(part.len()).any(|window| window == part)
}
