//! `status`, `updates/` and `status.d/`: which packages there are, and in what state.
//!
//! The third word of `Status` alone says whether files are there: `deinstall ok installed` is still
//! installed, and `hold` is a want, not a state. `status.d` (images without dpkg itself) has one file
//! per package and no `Status` field: what stands there is installed.

use hashbrown::HashMap;

use super::ADMIN;
use crate::backend::{Hint, runtimes};
use crate::bytes::{ByteString, path};
use crate::fs::{FsError, Limit, Root};
use crate::model::{Loss, Status};
use whodunit_formats::stanza::{Stanza, is_cut, stanzas};

/// One package as its stanza records it.
#[derive(Debug, Clone, Default)]
pub struct Record {
    pub name: ByteString,
    pub version: Option<ByteString>,
    pub arch: Option<ByteString>,
    /// Instances for several architectures may be installed side by side.
    pub multi_arch_same: bool,
    pub want: Want,
    pub state: State,
    /// The package must be installed anew before anything else can be done with it.
    pub reinstall_required: bool,
    /// Removing it breaks the system or its start.
    pub essential: bool,
    /// In KiB, as the packager set it.
    pub installed_size: Option<u64>,
    /// The file that holds the stanza.
    pub source: ByteString,
    /// Where the stanza begins in it.
    pub line: u32,
    /// Where its `Status` stands, and the whole value; none in `status.d` and for a lost record.
    pub status_line: Option<(u32, ByteString)>,
}

/// The selection state of a package: what the administrator wants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Want {
    #[default]
    Install,
    Hold,
    /// Anything else: `deinstall`, `purge`, `unknown`.
    Other,
}

/// The installation state: how far an installation or removal has got.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum State {
    NotInstalled,
    ConfigFiles,
    HalfInstalled,
    Unpacked,
    HalfConfigured,
    /// Configured, though another package's trigger is still to run, or its own.
    Triggers,
    #[default]
    Installed,
    /// The record in `status` is lost; only the list of files is left.
    Lost,
}

impl Record {
    /// A package of which only the list of files is left.
    pub fn lost(name: &[u8], arch: Option<&[u8]>, list: ByteString) -> Self {
        Record {
            name: name.into(),
            arch: arch.map(ByteString::from),
            multi_arch_same: arch.is_some(),
            state: State::Lost,
            source: list,
            line: 1,
            ..Record::default()
        }
    }

    /// The status in the model's terms.
    pub fn status(&self) -> Status {
        match self.state {
            State::ConfigFiles => Status::ConfigRemains,
            State::Installed | State::Triggers if !self.reinstall_required => Status::Installed,
            _ => Status::Broken,
        }
    }
}

/// The packages of an installation, and what went wrong in reading them.
#[derive(Debug, Default)]
pub struct Records {
    pub records: Vec<Record>,
    /// One note for each loss.
    pub damage: Vec<Loss>,
    /// Whether any record could be read at all.
    pub unreadable: bool,
}

/// The source, the home page and the runtimes of each record. What stands in `updates/` is about the state alone.
pub fn hints(root: &Root, records: &[Record]) -> Vec<Hint> {
    let file = path::join(ADMIN, b"status");
    let status = root.read(&file, Limit::RECORD).unwrap_or_default();
    let mut by_line: HashMap<u32, Hint> = HashMap::new();
    for stanza in stanzas(&status) {
        let (mut hint, mut needs) = (Hint::default(), Vec::new());
        for field in stanza.fields().flatten() {
            match field.name {
                // A version in parentheses stands behind it, where it is not the package's own.
                b"Source" => hint.source = field.value.split(|&b| b == b' ').next().map(ByteString::from),
                b"Homepage" => hint.upstream = Some(field.value.into()),
                b"Depends" | b"Pre-Depends" | b"Recommends" => needs.extend(names(field.value)),
                // What is linked statically depends on nothing, and says what it was built from.
                b"Built-Using" | b"Static-Built-Using" | b"X-Cargo-Built-Using" => needs.extend(names(field.value)),
                _ => {}
            }
        }
        hint.runtimes = runtimes::of_needs(needs.into_iter());
        by_line.insert(stanza.line, hint);
    }
    let of_one = |record: &Record| by_line.get(&record.line).filter(|_| record.source == file).cloned();
    records.iter().map(|record| of_one(record).unwrap_or_default()).collect()
}

/// The names in a list of dependencies, without versions and architectures.
fn names(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    let ends = |b: &u8| b.is_ascii_whitespace() || b"(:[<".contains(b);
    let words = list.split(|b| b",|".contains(b)).map(<[u8]>::trim_ascii);
    words.map(move |word| &word[..word.iter().position(ends).unwrap_or(word.len())])
}

/// Reads all packages.
pub fn read(root: &Root) -> Records {
    let mut out = Records::default();
    let mut place: HashMap<(ByteString, Option<ByteString>), usize> = HashMap::new();
    let status = path::join(ADMIN, b"status");
    match root.read(&status, Limit::RECORD) {
        Ok(file) => read_file(&file, &status, false, &mut place, &mut out),
        Err(error) => {
            out.unreadable = true;
            if !error.is_missing() {
                out.damage.push(Loss::unread(&error, "the packages are unknown"));
            }
        }
    }
    // Changes that dpkg has not merged yet stand in numbered files and override what is in `status`.
    for name in names_in(root, b"updates", &mut out) {
        if name.iter().all(u8::is_ascii_digit) {
            read_more(root, &path::join(&path::join(ADMIN, b"updates"), &name), false, &mut place, &mut out);
        }
    }
    for name in names_in(root, b"status.d", &mut out) {
        if !name.ends_with(b".md5sums") {
            read_more(root, &path::join(&path::join(ADMIN, b"status.d"), &name), true, &mut place, &mut out);
        }
    }
    if out.unreadable && out.records.is_empty() && out.damage.is_empty() {
        out.damage.push(Loss::note(format!("{status}: no such file; packages are known only by their lists of files")));
    }
    out.records.retain(|record| record.state != State::NotInstalled);
    out.unreadable &= out.records.is_empty();
    out
}

fn names_in(root: &Root, dir: &[u8], out: &mut Records) -> Vec<ByteString> {
    match root.dir(&path::join(ADMIN, dir)).and_then(|dir| dir.list()) {
        Ok(names) => names.into_iter().map(|(name, _)| name).collect(),
        Err(error) => {
            if !error.is_missing() {
                out.damage.push(Loss::unread(&error, "what it changes about packages is unknown"));
            }
            Vec::new()
        }
    }
}

fn read_more(
    root: &Root,
    file: &ByteString,
    bare: bool,
    place: &mut HashMap<(ByteString, Option<ByteString>), usize>,
    out: &mut Records,
) {
    match root.read(file, Limit::RECORD) {
        Ok(content) => read_file(&content, file, bare, place, out),
        // One that dpkg has merged meanwhile is no loss.
        Err(FsError::Missing { .. }) => {}
        Err(error) => out.damage.push(Loss::unread(&error, "the packages in it are unknown")),
    }
}

fn read_file(
    content: &[u8],
    source: &ByteString,
    bare: bool,
    place: &mut HashMap<(ByteString, Option<ByteString>), usize>,
    out: &mut Records,
) {
    // The last stanza of a file that was cut cannot be trusted: its last value may be half a value.
    let cut = is_cut(content) && !bare;
    let mut all = stanzas(content).peekable();
    while let Some(stanza) = all.next() {
        let is_last = all.peek().is_none();
        match record(stanza, source, bare) {
            Err(problem) if !(cut && is_last) => {
                out.damage
                    .push(Loss::note(format!("{source} line {}: {problem}; this record is ignored", stanza.line)));
            }
            parsed if cut && is_last => {
                let whose = parsed.ok().map(|record| format!(" (of {})", record.name)).unwrap_or_default();
                out.damage.push(Loss::note(format!(
                    "{source} line {}: the file is truncated in this record{whose}; it and all that followed are lost",
                    stanza.line
                )));
            }
            Ok(record) => {
                let key = (record.name.clone(), record.arch.clone());
                match place.get(&key) {
                    Some(&at) => out.records[at] = record,
                    None => {
                        place.insert(key, out.records.len());
                        out.records.push(record);
                    }
                }
            }
            Err(_) => {}
        }
    }
}

fn record(stanza: Stanza<'_>, source: &ByteString, bare: bool) -> Result<Record, String> {
    let mut record = Record { source: source.clone(), line: stanza.line, ..Record::default() };
    for field in stanza.fields() {
        let field = field.map_err(|malformed| format!("no field in line {}", malformed.line))?;
        let value = field.value;
        let is = |name: &str| field.name.eq_ignore_ascii_case(name.as_bytes());
        // The first letter spares comparing every field with every name.
        match field.name[0] | 0x20 {
            b'p' if is("Package") => record.name = value.into(),
            b'p' if is("Protected") => record.essential |= value.eq_ignore_ascii_case(b"yes"),
            b'v' if is("Version") => record.version = (!value.is_empty()).then(|| value.into()),
            b'a' if is("Architecture") => record.arch = Some(value.into()),
            b'm' if is("Multi-Arch") => record.multi_arch_same = value == b"same",
            b'e' if is("Essential") => record.essential |= value.eq_ignore_ascii_case(b"yes"),
            b'i' if is("Installed-Size") => {
                record.installed_size = std::str::from_utf8(value).ok().and_then(|size| size.parse().ok());
            }
            b's' if is("Status") => {
                (record.want, record.reinstall_required, record.state) = status_words(value)?;
                record.status_line = Some((field.line, value.into()));
            }
            _ => {}
        }
    }
    if !is_package_name(&record.name) {
        return Err("no usable package name".to_owned());
    }
    if record.status_line.is_none() && !bare {
        return Err(format!("{} has no Status", record.name));
    }
    if record.version.is_none() && matches!(record.state, State::Installed | State::Triggers) {
        return Err(format!("{} is installed and has no Version", record.name));
    }
    Ok(record)
}

/// Whether a name is safe as part of a file name below `info/`: it must not lead elsewhere.
fn is_package_name(name: &[u8]) -> bool {
    !name.is_empty() && !name.contains(&b'/') && !name.starts_with(b".") && !name.contains(&0)
}

fn status_words(value: &[u8]) -> Result<(Want, bool, State), String> {
    let mut words = value.split(|&b| b == b' ').filter(|word| !word.is_empty());
    let (Some(want), Some(flag), Some(state), None) = (words.next(), words.next(), words.next(), words.next()) else {
        return Err(format!("Status is not three words: {}", ByteString::from(value)));
    };
    let want = match want {
        b"install" => Want::Install,
        b"hold" => Want::Hold,
        _ => Want::Other,
    };
    let state = match state {
        b"not-installed" => State::NotInstalled,
        b"config-files" => State::ConfigFiles,
        b"half-installed" => State::HalfInstalled,
        b"unpacked" => State::Unpacked,
        b"half-configured" => State::HalfConfigured,
        b"triggers-awaited" | b"triggers-pending" => State::Triggers,
        b"installed" => State::Installed,
        other => return Err(format!("unknown state {}", ByteString::from(other))),
    };
    Ok((want, flag == b"reinstreq", state))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(file: &str) -> Records {
        let mut out = Records::default();
        read_file(file.as_bytes(), &"/s".into(), false, &mut HashMap::new(), &mut out);
        out
    }

    #[test]
    fn the_third_word_decides_and_hold_is_a_want() {
        for (status, want, state, shown) in [
            ("install ok installed", Want::Install, State::Installed, Status::Installed),
            ("hold ok installed", Want::Hold, State::Installed, Status::Installed),
            ("deinstall ok installed", Want::Other, State::Installed, Status::Installed),
            ("deinstall ok config-files", Want::Other, State::ConfigFiles, Status::ConfigRemains),
            ("install reinstreq half-installed", Want::Install, State::HalfInstalled, Status::Broken),
            ("install ok triggers-pending", Want::Install, State::Triggers, Status::Installed),
            ("install ok unpacked", Want::Install, State::Unpacked, Status::Broken),
        ] {
            let read = read(&format!("Package: pegel\nStatus: {status}\nVersion: 1\n\n"));
            let record = &read.records[0];
            assert_eq!((record.want, record.state, record.status()), (want, state, shown), "{status}");
        }
    }

    #[test]
    fn a_damaged_record_costs_itself_and_a_cut_the_last() {
        let good = "Package: a\nStatus: install ok installed\nVersion: 1\n\n";
        for (rest, notes) in [
            ("junk\n\n", "line 5: no field in line 5"),
            ("Package: b\nVersion: 2\n\n", "b has no Status"),
            ("Package: b\nStatus: install ok installed\n\n", "b is installed and has no Version"),
            ("Package: ../b\nStatus: install ok installed\nVersion: 1\n\n", "no usable package name"),
            ("Package: b\nStatus: install ok\n\n", "Status is not three words: install ok"),
            ("Package: b\nStatus: install ok installed\nVersion: 1.", "truncated in this record (of b)"),
            ("Package: b\nSta", "truncated in this record"),
        ] {
            let read = read(&format!("{good}{rest}"));
            assert_eq!(read.records.len(), 1, "{rest}");
            assert!(read.damage.len() == 1 && read.damage[0].to_string().contains(notes), "{rest}: {:?}", read.damage);
        }
    }
}
