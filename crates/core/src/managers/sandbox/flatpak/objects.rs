//! What an installation's repository stores although no reference leads to it: what a download that was cut short had
//! fetched, or what another program put there. Flatpak deletes what it gives up itself, and does not look for the rest.
//!
//! Follows *OSTree* ("Anatomy of an OSTree repository"): objects are `repo/objects/HH/REST.KIND`, named by the SHA-256
//! of what they hold; a commit is a GVariant of type `(a{sv}aya(say)sstayay)`, which ends with the directory that it
//! holds and that directory's permissions, and a directory is one of type `(a(say)a(sayay))`: its files, and its
//! directories in the same way.
//!
//! Traps: the commit before one that is referred to is not kept for its sake; a commit that nobody fetched is only
//! named; files of a repository that publishes are called `filez`; `commitmeta` belongs to the commit of that name.

use std::fmt::Display;

use gvariant::aligned_bytes::copy_to_align;
use gvariant::{Marker as _, Structure as _, gv};
use hashbrown::HashSet;
use sha2::{Digest as _, Sha256};

use super::deploy::is_commit;
use super::installation::FlatpakInstallation;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Evidence, Finding, FindingKind, Loss, Remedy, RemedyKind, Severity};

/// The most objects that are named one by one.
const MAX_NAMED: usize = 20;
/// References do not lie deeper: `remotes/REMOTE/KIND/ID/ARCH/BRANCH`.
const MAX_DEPTH: usize = 8;

/// What an object holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Content {
    Commit,
    Directory,
    Permissions,
    File,
}

impl Content {
    /// By the end of an object's name; `None` for what is no object of its own.
    fn of(ending: &[u8]) -> Option<Self> {
        match ending {
            b"commit" => Some(Content::Commit),
            b"dirtree" => Some(Content::Directory),
            b"dirmeta" => Some(Content::Permissions),
            b"file" | b"filez" => Some(Content::File),
            _ => None,
        }
    }
}

/// The SHA-256 that names an object.
type Digest = [u8; 32];

/// Objects that references lead to.
type Reached = HashSet<(Content, Digest)>;

fn digest(bytes: &[u8]) -> Option<Digest> {
    bytes.try_into().ok()
}

/// What a file of `objects/HH` is.
fn object(start: &[u8], name: &[u8]) -> Option<(Content, Digest)> {
    let (rest, ending) = name.split_at_checked(62)?;
    let digest = hex::decode([start, rest].concat()).ok().and_then(|bytes| digest(&bytes))?;
    Some((Content::of(ending.strip_prefix(b".")?)?, digest))
}

/// A repository.
struct Repository<'r> {
    root: &'r Root,
    dir: ByteString,
}

/// What a repository stores in vain.
#[derive(Debug, Default, PartialEq, Eq)]
struct InVain {
    objects: usize,
    /// Bytes on the disk that nothing else has.
    bytes: u64,
    /// Some of them.
    named: Vec<ByteString>,
}

impl Repository<'_> {
    fn at(&self, below: &str) -> ByteString {
        path::join(&self.dir, below.as_bytes())
    }

    fn unknown(&self) -> String {
        format!("what {} stores in vain is unknown", self.dir)
    }

    fn damaged(&self, file: ByteString, what: impl Display) -> Loss {
        Loss::damaged(file, what, self.unknown())
    }

    /// The names in a directory; none where it is not there.
    fn names(&self, dir: &ByteString) -> Result<Vec<(ByteString, Kind)>, Loss> {
        match self.root.dir(dir).and_then(|dir| dir.list()) {
            Err(error) if !error.is_missing() => Err(Loss::unread(&error, self.unknown())),
            listed => Ok(listed.unwrap_or_default()),
        }
    }

    /// What nothing leads to. All objects are listed before the references are read: what is added meanwhile counts
    /// as reached.
    fn in_vain(&self) -> Result<InVain, Loss> {
        let objects = self.at("objects");
        let mut stored = Vec::new();
        for (start, _) in self.names(&objects)?.iter().filter(|(start, kind)| *kind == Kind::Dir && start.len() == 2) {
            let dir = path::join(&objects, start);
            let found = self.names(&dir)?;
            let of_dir = found.iter().filter_map(|(name, _)| Some((object(start, name)?, path::join(&dir, name))));
            stored.extend(of_dir);
        }
        let reached = self.reached()?;
        let mut vain = InVain::default();
        for (_, file) in stored.into_iter().filter(|(object, _)| !reached.contains(object)) {
            let meta = match self.root.entry(&file) {
                Ok(meta) => meta,
                Err(error) if error.is_missing() => continue,
                Err(error) => return Err(Loss::unread(&error, self.unknown())),
            };
            vain.objects += 1;
            vain.bytes += if meta.links < 2 { meta.disk } else { 0 };
            if vain.named.len() < MAX_NAMED {
                vain.named.push(file);
            }
        }
        Ok(vain)
    }

    /// Everything that references lead to.
    fn reached(&self) -> Result<Reached, Loss> {
        let mut reached = Reached::new();
        for commit in self.references()? {
            if !reached.insert((Content::Commit, commit)) {
                continue;
            }
            let Some(content) = self.read(Content::Commit, commit)? else { continue };
            let aligned = copy_to_align(&content);
            let (.., tree, permissions) = gv!("(a{sv}aya(say)sstayay)").cast(aligned.as_ref()).to_tuple();
            let named = digest(tree).zip(digest(permissions));
            let (tree, permissions) =
                named.ok_or_else(|| self.damaged(self.file(Content::Commit, commit), "no commit"))?;
            reached.insert((Content::Permissions, permissions));
            let is_partial = self.root.entry(&self.at(&format!("state/{}.commitpartial", hex::encode(commit)))).is_ok();
            self.follow(tree, is_partial, &mut reached)?;
        }
        Ok(reached)
    }

    /// Adds a directory with everything in it. Of a commit that was fetched in part, parts may be missing.
    fn follow(&self, top: Digest, is_partial: bool, reached: &mut Reached) -> Result<(), Loss> {
        let mut open = vec![top];
        while let Some(tree) = open.pop() {
            if !reached.insert((Content::Directory, tree)) {
                continue;
            }
            let Some(content) = self.read(Content::Directory, tree)? else {
                if is_partial {
                    continue;
                }
                return Err(self.damaged(self.file(Content::Directory, tree), "it is missing"));
            };
            let aligned = copy_to_align(&content);
            let (files, dirs) = gv!("(a(say)a(sayay))").cast(aligned.as_ref()).to_tuple();
            let bad = || self.damaged(self.file(Content::Directory, tree), "no directory");
            for file in files {
                reached.insert((Content::File, digest(file.to_tuple().1).ok_or_else(bad)?));
            }
            for dir in dirs {
                let (_, tree, permissions) = dir.to_tuple();
                reached.insert((Content::Permissions, digest(permissions).ok_or_else(bad)?));
                open.push(digest(tree).ok_or_else(bad)?);
            }
        }
        Ok(())
    }

    fn file(&self, content: Content, digest: Digest) -> ByteString {
        let name = hex::encode(digest);
        let ending = if content == Content::Commit { "commit" } else { "dirtree" };
        self.at(&format!("objects/{}/{}.{ending}", &name[..2], &name[2..]))
    }

    /// What an object holds, if it is there and is what its name says: every run of bytes is some GVariant.
    fn read(&self, content: Content, digest: Digest) -> Result<Option<Vec<u8>>, Loss> {
        let file = self.file(content, digest);
        match self.root.read(&file, Limit::LIST) {
            Ok(bytes) if Sha256::digest(&bytes).as_slice() == digest => Ok(Some(bytes)),
            Ok(_) => Err(self.damaged(file, "it does not hold what its name says")),
            Err(error) if error.is_missing() => Ok(None),
            Err(error) => Err(Loss::unread(&error, self.unknown())),
        }
    }

    /// The commits that references name.
    fn references(&self) -> Result<HashSet<Digest>, Loss> {
        let mut found = HashSet::new();
        let mut open = vec![(self.at("refs"), 0)];
        while let Some((dir, depth)) = open.pop() {
            for (name, kind) in self.names(&dir)? {
                let file = path::join(&dir, &name);
                if kind == Kind::Dir {
                    if depth == MAX_DEPTH {
                        return Err(self.damaged(file, "no reference lies so deep"));
                    }
                    open.push((file, depth + 1));
                    continue;
                }
                let content = match self.root.read(&file, Limit::SMALL) {
                    Err(error) if error.is_missing() => continue,
                    read => read.map_err(|error| Loss::unread(&error, self.unknown()))?,
                };
                let commit = Some(content.trim_ascii()).filter(|text| is_commit(text));
                let commit = commit.and_then(|text| hex::decode(text).ok()).and_then(|bytes| digest(&bytes));
                found.insert(commit.ok_or_else(|| self.damaged(file, "it names no commit"))?);
            }
        }
        Ok(found)
    }
}

impl FlatpakInstallation<'_> {
    /// `unreferenced-object`, once for the repository.
    pub(super) fn stored_in_vain(&self) -> Result<Option<Finding>, Loss> {
        let repository = Repository { root: &self.host.root, dir: path::join(&self.base.dir, b"repo") };
        let InVain { objects, bytes, named } = repository.in_vain()?;
        if objects == 0 {
            return Ok(None);
        }
        let dir = repository.dir.clone();
        let (count, is) =
            if objects == 1 { ("one object".to_owned(), "is") } else { (format!("{objects} objects"), "are") };
        let summary = format!("{count} of {dir}, {} MiB, {is} referred to by nothing", bytes.div_ceil(1 << 20));
        let consequence = "they use disk space, and no update or removal of anything else deletes them";
        let remedy = Remedy::new(RemedyKind::Repair, self.flatpak("repair"));
        Ok(Some(Finding {
            paths: named,
            remedies: vec![remedy.to("check the installation, and delete what nothing refers to")],
            size: Some(bytes),
            evidence: vec![Evidence::directory(repository.at("refs"), "no reference leads to them")],
            ..Finding::new(FindingKind::UnreferencedObject, Severity::Note, dir, summary, consequence)
        }))
    }
}
