//! The machine's tree, as the shell evaluator sees it.

use whodunit_shell::{FileType, Files, Metadata, ReadError};

use crate::bytes::ByteString;
use crate::fs::{FsError, Kind, Limit, Meta, Root};

impl Files for Root {
    fn read(&self, path: &[u8], max: u64) -> Result<Vec<u8>, ReadError> {
        Root::read(self, path, Limit::bytes(max)).or_else(|error| match error {
            FsError::WrongKind { .. } if self.is_null(path) => Ok(Vec::new()),
            FsError::Missing { .. } | FsError::WrongKind { found: Kind::Dir, .. } => {
                Err(ReadError::Absent(error.to_string()))
            }
            error => Err(ReadError::Unreadable(error.to_string())),
        })
    }

    fn metadata(&self, path: &[u8]) -> Option<Metadata> {
        self.target(path).ok().map(metadata)
    }

    fn entry_type(&self, path: &[u8]) -> Option<FileType> {
        self.entry(path).ok().map(|meta| file_type(meta.kind))
    }

    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)> {
        let names = self.names_in(dir);
        names.into_iter().map(|(name, kind)| (name, file_type(kind))).collect()
    }

    fn read_link(&self, path: &[u8]) -> Option<ByteString> {
        Root::read_link(self, path).ok()
    }

    fn canonicalize(&self, path: &[u8]) -> ByteString {
        self.canonicalize_dir(path)
    }
}

fn file_type(kind: Kind) -> FileType {
    match kind {
        Kind::File => FileType::File,
        Kind::Dir => FileType::Dir,
        Kind::Link => FileType::Link,
        Kind::Special => FileType::Special,
    }
}

fn metadata(meta: Meta) -> Metadata {
    let Meta { kind, size, mode, owner, group, modified, identity, .. } = meta;
    Metadata { file_type: file_type(kind), size, mode, owner, group, modified, identity }
}
