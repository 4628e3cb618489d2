//! Which list of files belongs to which package.
//!
//! A package without a list, and a list without a package, are both damage: dpkg writes and removes
//! them together. A list that is left alone still says what its package owned, so it is kept, as the
//! list of a package whose record is lost.

use hashbrown::HashMap;

use super::ADMIN;
use super::lists::List;
use super::status::Record;
use crate::bytes::{ByteString, path};
use crate::fs::{Dir, FsError, Root};
use crate::model::Loss;

/// Packages, and the list of each in the same place.
pub struct Paired<'s> {
    pub records: Vec<Record>,
    pub lists: Vec<Option<List>>,
    pub info: Option<Dir<'s>>,
}

/// Finds the list of each package, and adds the packages of which only a list is left.
pub fn pair<'s>(root: &'s Root, mut records: Vec<Record>, notes: &mut Vec<Loss>) -> Paired<'s> {
    let info_path = path::join(ADMIN, b"info");
    let (info, mut by_name) = match listed(root, &info_path) {
        Ok((dir, names)) => (Some(dir), names),
        Err(error) => {
            if !(error.is_missing() && root.target(&path::join(ADMIN, b"status.d")).is_ok()) {
                notes.push(Loss::unread(&error, "which files belong to packages is unknown"));
            }
            (None, HashMap::new())
        }
    };
    let mut lists = Vec::with_capacity(records.len());
    for record in &records {
        let bare = record.source.starts_with(b"/var/lib/dpkg/status.d/");
        lists.push(match find_list(record, &mut by_name) {
            Some(list) => Some(list),
            None if bare => Some(List::Digests([path::name(&record.source), b".md5sums"].concat().into())),
            None if info.is_none() => None,
            None => {
                let (name, list) = (&record.name, usual_list(record));
                notes.push(Loss::note(format!(
                    "{info_path}/{list}: missing; the files of {name} are unknown or incomplete"
                )));
                Some(List::Info(list))
            }
        });
    }
    let mut alone: Vec<ByteString> = by_name.into_values().collect();
    alone.sort_unstable();
    for list in alone {
        let stem = list.strip_suffix(b".list").unwrap_or(&list);
        let (name, arch) = match memchr::memchr(b':', stem) {
            Some(at) => (&stem[..at], Some(&stem[at + 1..])),
            None => (stem, None),
        };
        let whole = path::join(&info_path, &list);
        let whose = ByteString::from(name);
        notes.push(Loss::damaged(
            whole.clone(),
            format!("lists files of {whose}, which has no record"),
            "dpkg no longer knows it",
        ));
        records.push(Record::lost(name, arch, whole));
        lists.push(Some(List::Info(list)));
    }
    Paired { records, lists, info }
}

type Listed<'s> = (Dir<'s>, HashMap<ByteString, ByteString>);

/// The directory of lists, and its lists: name without `.list` → file name.
fn listed<'s>(root: &'s Root, info: &[u8]) -> Result<Listed<'s>, FsError> {
    let dir = root.dir(info)?;
    let names = dir.list()?;
    let lists = names.into_iter().filter_map(|(name, _)| {
        let stem = name.strip_suffix(b".list")?;
        (!stem.is_empty()).then(|| (ByteString::from(stem), name.clone()))
    });
    let lists = lists.collect();
    Ok((dir, lists))
}

/// dpkg's name for the file of a package's list.
fn usual_list(record: &Record) -> ByteString {
    match &record.arch {
        Some(arch) if record.multi_arch_same => [&record.name, &b":"[..], arch, b".list"].concat().into(),
        _ => [&record.name, &b".list"[..]].concat().into(),
    }
}

/// The file of a package's list: with the architecture where instances can stand side by side; older
/// dpkg and repaired systems may have the other form.
fn find_list(record: &Record, by_name: &mut HashMap<ByteString, ByteString>) -> Option<List> {
    let qualified: Option<Vec<u8>> = record.arch.as_ref().map(|arch| [&record.name, &b":"[..], arch].concat());
    let plain = Some(record.name.to_vec());
    let order = if record.multi_arch_same { [qualified, plain] } else { [plain, qualified] };
    order.into_iter().flatten().find_map(|name| by_name.remove(name.as_slice())).map(List::Info)
}
