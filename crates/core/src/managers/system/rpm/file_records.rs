//! What rpm recorded of each file: its sort, permissions, owner, size, digest, and what a link leads to.
//!
//! Which of it is compared is a choice of the packager (`FILEVERIFYFLAGS`), and of what the file is: the content of a
//! ghost, and the size of a directory, mean nothing. Files that were left out (documentation, a foreign language) are
//! in no state to be missing. Capabilities and device numbers are not compared.

use super::installation::{RpmInstallation, digest_of};
use crate::bytes::ByteString;
use crate::fs::{Kind, Limit};
use crate::model::{FileRecord, Loss};
use whodunit_formats::accounts;
use whodunit_formats::rpm_header::{Header, tag};

/// Attributes of a file (`rpmfiles.h`).
const CONFIG: u64 = 1;
const MISSING_OK: u64 = 8;
const GHOST: u64 = 64;

/// What is compared (`rpmvf.h`).
mod compared {
    pub const DIGEST: u64 = 1;
    pub const SIZE: u64 = 2;
    pub const TARGET: u64 = 4;
    pub const OWNER: u64 = 8;
    pub const GROUP: u64 = 16;
    pub const TIME: u64 = 32;
    pub const MODE: u64 = 64;
}

/// States of a file: replaced by another package's, and of another architecture's colour.
const REPLACED: u64 = 1;
const WRONG_COLOUR: u64 = 4;

/// Records that are given on together.
const BATCH_OF_FILES: usize = 30_000;

/// Names of users and groups with their numbers on this machine.
struct Names {
    users: Vec<(ByteString, u32)>,
    groups: Vec<(ByteString, u32)>,
}

impl RpmInstallation<'_> {
    /// Every file of the packages, or of these.
    pub(super) fn each_recorded(&self, packages: Option<&[u32]>, take: &mut dyn FnMut(Vec<FileRecord>)) {
        let root = &self.host.root;
        let read = |file: &str| {
            root.read(file.as_bytes(), Limit::SMALL).unwrap_or_else(|error| {
                self.store.note(Loss::because(error, "whose files are is not compared"));
                Vec::new()
            })
        };
        let (passwd, group) = (read("/etc/passwd"), read("/etc/group"));
        let names = Names {
            users: accounts::accounts(&passwd).map(|one| (one.name.into(), one.uid)).collect(),
            groups: accounts::groups(&group).map(|one| (one.name.into(), one.number)).collect(),
        };
        let mut all = Vec::new();
        let mut of_header = |number: u32, header: &Header<'_>| {
            files_of(number, header, &names, &mut all);
            if all.len() >= BATCH_OF_FILES {
                take(std::mem::take(&mut all));
            }
        };
        match packages {
            Some(packages) => self.some(packages, &mut of_header),
            None => self.each(&mut of_header),
        }
        take(all);
    }
}

fn files_of(number: u32, header: &Header<'_>, names: &Names, all: &mut Vec<FileRecord>) {
    let numbers = |tag: u32| header.numbers(tag).collect::<Vec<u64>>();
    let texts = |tag: u32| header.texts(tag).collect::<Vec<&[u8]>>();
    let (modes, flags, verify) = (numbers(tag::FILE_MODES), numbers(tag::FILE_FLAGS), numbers(tag::FILE_VERIFY_FLAGS));
    let (states, times) = (numbers(tag::FILE_STATES), numbers(tag::FILE_TIMES));
    let (targets, digests) = (texts(tag::FILE_LINK_TARGETS), texts(tag::FILE_DIGESTS));
    let (owners, groups) = (texts(tag::FILE_OWNERS), texts(tag::FILE_GROUPS));
    let long = numbers(tag::LONG_FILE_SIZES);
    let sizes = if long.is_empty() { numbers(tag::FILE_SIZES) } else { long };
    let algorithm = header.number(tag::FILE_DIGEST_ALGORITHM);
    let number_of = |list: &[(ByteString, u32)], name: Option<&&[u8]>| {
        let name = name?;
        list.iter().find(|(known, _)| **known == **name).map(|(_, number)| *number)
    };
    for (place, dir, name) in header.files() {
        let state = states.get(place).copied().unwrap_or_default();
        let flags = flags.get(place).copied().unwrap_or_default();
        if !super::installation::is_there(Some(&state)) && state != REPLACED && state != WRONG_COLOUR {
            continue;
        }
        let path = [dir, name].concat();
        let may_be_absent = flags & (GHOST | MISSING_OK) != 0;
        let is_settings = flags & CONFIG != 0;
        let mut one =
            FileRecord { package: number, path: path.into(), is_settings, may_be_absent, ..FileRecord::default() };
        // Of what another package has replaced, only that it is there can be asked.
        if state != REPLACED {
            let mut asked = verify.get(place).copied().unwrap_or(u64::from(u32::MAX));
            if flags & GHOST != 0 {
                asked &= !(compared::DIGEST | compared::SIZE | compared::TIME | compared::TARGET);
            }
            if state == WRONG_COLOUR {
                asked &= !(compared::DIGEST | compared::SIZE | compared::TIME);
            }
            let is_asked = |what: u64| asked & what != 0;
            let mode = modes.get(place).and_then(|mode| u32::try_from(*mode).ok());
            let kind = mode.and_then(|mode| match mode >> 12 {
                0o10 => Some(Kind::File),
                0o12 => Some(Kind::Link),
                0o4 => Some(Kind::Dir),
                _ => None,
            });
            let is_file = kind == Some(Kind::File);
            // The sort of a ghost is whatever made it.
            one.kind = kind.filter(|_| flags & GHOST == 0 && is_asked(compared::MODE));
            one.mode = mode.filter(|_| is_asked(compared::MODE)).map(|mode| mode & 0o7777);
            one.size = sizes.get(place).copied().filter(|_| is_file && is_asked(compared::SIZE));
            let time = times.get(place).and_then(|time| i64::try_from(*time).ok());
            one.modified = time.filter(|_| is_file && is_asked(compared::TIME));
            let digest = digests.get(place).and_then(|digest| digest_of(digest, algorithm));
            one.digest = digest.filter(|_| is_file && is_asked(compared::DIGEST));
            let target = targets.get(place).filter(|_| kind == Some(Kind::Link) && is_asked(compared::TARGET));
            one.target = target.map(|target| (*target).into());
            one.owner = number_of(&names.users, owners.get(place)).filter(|_| is_asked(compared::OWNER));
            one.group = number_of(&names.groups, groups.get(place)).filter(|_| is_asked(compared::GROUP));
        }
        all.push(one);
    }
}
