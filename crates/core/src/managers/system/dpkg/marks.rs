//! `extended_states`: which packages came along as dependencies (`apt-mark(8)`).
//!
//! A package without a stanza was asked for. Traps: packages of architecture `all` stand there under
//! the native architecture; where apt is not used, there is no such file and nothing is known.

use hashbrown::HashSet;

use super::status::Record;
use crate::bytes::ByteString;
use crate::fs::{Kind, Limit, Root};
use crate::model::{Loss, Reason};
use whodunit_formats::stanza::stanzas;

const FILE: &[u8] = b"/var/lib/apt/extended_states";

/// The packages that apt marked as automatically installed.
#[derive(Debug, Default)]
pub struct Marks {
    automatic: HashSet<(ByteString, ByteString)>,
    native: ByteString,
    known: bool,
}

impl Marks {
    /// Reads the marks; `native` is the machine's own architecture.
    pub fn read(root: &Root, native: ByteString, notes: &mut Vec<Loss>) -> Self {
        let mut marks = Marks { native, ..Marks::default() };
        let content = match root.read(FILE, Limit::RECORD) {
            Ok(content) => content,
            Err(error) if error.is_missing() => {
                // apt without the file has never pulled anything in.
                marks.known = root.target(b"/var/lib/apt").is_ok_and(|meta| meta.kind == Kind::Dir);
                return marks;
            }
            Err(error) => {
                notes.push(Loss::unread(&error, "which packages were requested is unknown"));
                return marks;
            }
        };
        marks.known = true;
        for stanza in stanzas(&content) {
            let (mut name, mut arch, mut automatic) = (&b""[..], &b""[..], false);
            for field in stanza.fields().flatten() {
                match field.name {
                    b"Package" => name = field.value,
                    b"Architecture" => arch = field.value,
                    b"Auto-Installed" => automatic = field.value == b"1",
                    _ => {}
                }
            }
            if automatic {
                marks.automatic.insert((name.into(), arch.into()));
            }
        }
        marks
    }

    /// Why the package is there.
    pub fn reason(&self, record: &Record) -> Reason {
        if !self.known {
            return Reason::Unknown;
        }
        let arch = match record.arch.as_deref() {
            Some(b"all") | None => self.native.clone(),
            Some(arch) => arch.into(),
        };
        if self.automatic.contains(&(record.name.clone(), arch)) { Reason::Dependency } else { Reason::Explicit }
    }
}
