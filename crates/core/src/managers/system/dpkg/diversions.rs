//! `diversions`: files that give way to another package's (`dpkg-divert(1)`).
//!
//! Three lines each: the path, where it is diverted to, and the package for which it gives way (`:`
//! for one made by hand). The diverted package's list still says the old path. So on disk the path
//! belongs to the diverting package's own listing of it, to nobody where it was made by hand; and the
//! place diverted to belongs to every other package that lists the path.
//!
//! Trap: paths are as the maker spelled them, through `/bin` or `/usr/bin`, and need not be spelled
//! as the lists spell them.

use hashbrown::HashMap;

use super::ADMIN;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Loss;

/// One diversion.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diversion {
    pub from: ByteString,
    /// `from` with the links in its directories followed.
    pub canonical: ByteString,
    pub to: ByteString,
    /// The package for which the others give way; none where it was made by hand.
    pub by: Option<ByteString>,
    pub line: u32,
}

/// All diversions of an installation, and their places by the last part of the path that gives way.
#[derive(Debug, Default)]
pub struct Diversions(pub Vec<Diversion>, HashMap<ByteString, Vec<usize>>);

impl Diversions {
    /// Reads the file; what is damaged in it is noted.
    pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Self {
        let file = path::join(ADMIN, b"diversions");
        match root.read(&file, Limit::LIST) {
            Ok(content) => {
                let all = parse(root, &content, &file, notes);
                let mut by_name: HashMap<ByteString, Vec<usize>> = HashMap::new();
                for (place, diversion) in all.iter().enumerate() {
                    by_name.entry(path::name(&diversion.from).into()).or_default().push(place);
                }
                Diversions(all, by_name)
            }
            Err(error) => {
                if !error.is_missing() {
                    notes.push(Loss::unread(&error, "a diverted file may be attributed to the wrong package"));
                }
                Diversions::default()
            }
        }
    }

    /// Where a claim of `package` on `path` really lies, and the number of the rule that moved it.
    pub fn apply<'a>(&'a self, root: &Root, package: &[u8], claimed: &'a [u8]) -> (&'a [u8], u16) {
        for &place in self.1.get(path::name(claimed)).into_iter().flatten() {
            let diversion = &self.0[place];
            if (diversion.from.as_bytes() == claimed || diversion.canonical == root.canonicalize(claimed))
                && diversion.by.as_deref() != Some(package)
            {
                return (&diversion.to, u16::try_from(place + 1).unwrap_or(u16::MAX));
            }
        }
        (claimed, 0)
    }

    /// Whether a path with this last part may be one end of a diversion.
    pub fn concern(&self, name: &[u8]) -> bool {
        self.1.contains_key(name)
    }
}

fn parse(root: &Root, content: &[u8], file: &ByteString, notes: &mut Vec<Loss>) -> Vec<Diversion> {
    let lines: Vec<&[u8]> = content.split(|&b| b == b'\n').collect();
    let lines = lines.strip_suffix(&[&b""[..]]).unwrap_or(&lines);
    let mut all = Vec::new();
    for (index, three) in lines.chunks(3).enumerate() {
        let line = u32::try_from(index * 3 + 1).unwrap_or(u32::MAX);
        match three {
            [from, to, by]
                if from.starts_with(b"/") && to.starts_with(b"/") && all.len() < usize::from(u16::MAX) - 1 =>
            {
                let by = (*by != b":").then(|| ByteString::from(*by));
                all.push(Diversion {
                    from: (*from).into(),
                    canonical: root.canonicalize(from),
                    to: (*to).into(),
                    by,
                    line,
                });
            }
            _ => {
                notes.push(Loss::note(format!(
                    "{file} line {line}: not a diversion; it and the following ones are ignored"
                )));
                break;
            }
        }
    }
    all
}
