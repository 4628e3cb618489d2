//! What managers wrote down of what they did.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::backend::parts::each_line;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Event, Loss};

/// The capability of a manager that keeps a log of what it did.
pub trait Log {
    /// What was done, in the order of the log.
    fn events(&self) -> Vec<Event>;
}

/// Seconds by which times may go back without the clock having been set.
const TOLERANCE: i64 = 60;

/// Marks what stands behind something later.
pub(crate) fn mark_order(events: &mut [Event]) {
    let mut latest = i64::MIN;
    for event in events {
        let Some(at) = event.at else { continue };
        event.out_of_order = at < latest.saturating_sub(TOLERANCE);
        latest = latest.max(at);
    }
}

/// The files of a log that is rotated, the oldest first: `NAME`, `NAME.1`, `NAME.2.gz`, `NAME-20261129.xz`.
pub(crate) fn rotated(root: &Root, file: &[u8]) -> Vec<ByteString> {
    let (dir, base) = (path::parent(file), path::name(file));
    let names = root.names_in(dir);
    let mut found: Vec<(bool, i64, ByteString)> = Vec::new();
    for (name, _) in names {
        let Some(rest) = name.strip_prefix(base) else { continue };
        let digits = |text: &[u8]| -> Option<i64> {
            let end = text.iter().position(|b| !b.is_ascii_digit()).unwrap_or(text.len());
            let is_whole = end > 0 && (end == text.len() || text[end] == b'.');
            std::str::from_utf8(&text[..end]).ok()?.parse().ok().filter(|_| is_whole)
        };
        // Numbers grow with age, dates with time; what is not rotated yet is the newest.
        let age = match rest.split_first() {
            None => Some((true, i64::MAX)),
            Some((b'.', rest)) => digits(rest).map(|number| (false, -number)),
            Some((b'-', rest)) => digits(rest).map(|date| (false, date)),
            Some(_) => None,
        };
        found.extend(age.map(|(is_last, age)| (is_last, age, path::join(dir, &name))));
    }
    found.sort();
    found.into_iter().map(|(_, _, file)| file).collect()
}

/// Hands every line of a log's files to `take`, with the file and the line's number; a file that cannot be read, or that
/// is damaged, costs what follows in it.
pub(crate) fn each_logged(
    root: &Root,
    files: &[ByteString],
    notes: &mut Vec<Loss>,
    take: &mut dyn FnMut(&ByteString, u32, &[u8]),
) {
    for file in files {
        let lost = "what was done then is unknown in part";
        match root.read(file, Limit::RECORD) {
            Ok(bytes) => {
                let mut number = 0;
                let problem = each_line(&bytes[..], &mut |line| {
                    number += 1;
                    take(file, number, line.trim_ascii_end());
                });
                // A log that is being written to can end within a line.
                let problem = problem.filter(|problem| problem != "cut off" || bytes.starts_with(&[0x1f, 0x8b]));
                notes.extend(problem.map(|problem| Loss::damaged(file.clone(), problem, lost)));
            }
            Err(error) => notes.push(Loss::unread(&error, lost)),
        }
    }
}

/// The second of a time without a zone, such as `2026-11-29 01:49:28`, in the machine's own zone.
pub(crate) fn local(text: &str, zone: &TimeZone) -> Option<i64> {
    let civil: DateTime = text.split_whitespace().collect::<Vec<_>>().join("T").parse().ok()?;
    Some(zone.to_timestamp(civil).ok()?.as_second())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn a_rotated_log_is_read_from_its_oldest_part() {
        let tree = tempfile::tempdir().unwrap();
        for name in [
            "tide.log",
            "tide.log.1",
            "tide.log.10.gz",
            "tide.log.2.gz",
            "tide.log.old",
            "tide.logs",
            "tide.log-20260101",
        ] {
            std::fs::write(tree.path().join(name), "x\n").unwrap();
        }
        let root = Root::offline(tree.path()).unwrap();
        let found: Vec<String> = rotated(&root, b"/tide.log").iter().map(ToString::to_string).collect();
        assert_eq!(found, ["/tide.log.10.gz", "/tide.log.2.gz", "/tide.log.1", "/tide.log-20260101", "/tide.log"]);
        assert_eq!(rotated(&root, b"/none/tide.log"), Vec::<ByteString>::new());
        let zone = TimeZone::fixed(jiff::tz::offset(2));
        assert_eq!(local("2026-11-29  01:49:28", &zone), Some(1_795_909_768));
        assert_eq!(local("yesterday", &zone), None);
    }
}
