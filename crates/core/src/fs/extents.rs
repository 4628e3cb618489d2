//! What files share with other files below their names: file systems with copy-on-write let several files have the same
//! places on the disk (reflinks, `FICLONE(2)`; snapshots).

use std::ops::Range;
use std::os::fd::AsFd;
use std::sync::{Mutex, PoisonError};

use fiemap::{Fiemap, FiemapExtentFlags as Flags};
use hashbrown::HashMap;
use rustix::fs::fstatfs;

/// A place on a disk that more than one file has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SharedExtent {
    /// The device, and whether what is there is compressed.
    pub device: (u64, bool),
    /// Bytes from its start. Of compressed ones the start is spread, so that they do not overlap: the length is that of
    /// the content, and what it takes on the disk is not told.
    pub place: Range<u64>,
}

impl SharedExtent {
    /// Bytes of content.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.place.end - self.place.start
    }
}

/// The file systems on which files can share places: btrfs, XFS, bcachefs (`statfs(2)`).
const SHARING: [u32; 3] = [0x9123_683e, 0x5846_5342, 0xca45_1a4e];

/// As many extents of one file are looked at; what comes after counts as its own.
const MAX_EXTENTS: usize = 1 << 16;

/// btrfs compresses 128 KiB into no less than 4 KiB.
const SPREAD: u64 = 64;

/// The devices that were looked at, and whether files can share places on them.
#[derive(Debug, Default)]
pub(super) struct Devices(Mutex<HashMap<u64, bool>>);

impl Devices {
    /// Whether files can share places there; not known before one of its files was open.
    pub(super) fn may_share(&self, device: u64) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&device).copied().unwrap_or(true)
    }

    /// What an open file shares with others. None where the file system does not tell.
    pub(super) fn shared_extents(&self, file: impl AsFd, device: u64) -> Vec<SharedExtent> {
        let magic = || fstatfs(&file).ok().and_then(|system| u32::try_from(system.f_type & 0xffff_ffff).ok());
        let is_sharing = || magic().is_some_and(|magic| SHARING.contains(&magic));
        let may_share = *self.0.lock().unwrap_or_else(PoisonError::into_inner).entry(device).or_insert_with(is_sharing);
        if !may_share {
            return Vec::new();
        }
        let extents = Fiemap::new(file.as_fd()).take(MAX_EXTENTS).map_while(Result::ok);
        let shared = extents.filter(|extent| {
            extent.fe_flags.contains(Flags::SHARED)
                && !extent.fe_flags.intersects(Flags::UNKNOWN | Flags::DELALLOC | Flags::DATA_INLINE)
        });
        shared
            .filter_map(|extent| {
                let is_compressed = extent.fe_flags.contains(Flags::ENCODED);
                let start = extent.fe_physical.checked_mul(if is_compressed { SPREAD } else { 1 })?;
                let place = start..start.checked_add(extent.fe_length)?;
                Some(SharedExtent { device: (device, is_compressed), place })
            })
            .collect()
    }
}
