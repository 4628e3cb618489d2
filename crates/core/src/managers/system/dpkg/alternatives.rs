//! The alternatives system: one name, several providers, and a link that chooses
//! (`update-alternatives(1)`, section "FILES").
//!
//! `/usr/bin/NAME -> /etc/alternatives/NAME -> PROVIDER`. Neither link is in any package's list: the
//! system placed them. The file of a group holds:
//!
//! ```text
//! auto                     or manual: a user has chosen
//! /usr/bin/NAME            the group's link
//! NAME.1.gz                name and link of a slave, in pairs, until an empty line
//! /usr/share/man/man1/NAME.1.gz
//!
//! /usr/bin/PROVIDER        a choice: its path, its priority, and a line for each slave
//! 30
//! /usr/share/man/man1/PROVIDER.1.gz
//! ```
//!
//! Traps: which choice is in force says the link in `/etc/alternatives`, not this file; a choice may
//! be spelled through `/bin`; one that was deleted by hand stays in the file.

use super::ADMIN;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Evidence, Loss};

/// Where the choosing links lie.
const CHOSEN: &[u8] = b"/etc/alternatives";

/// One group.
#[derive(Debug, PartialEq, Eq)]
pub struct Group {
    pub name: ByteString,
    pub file: ByteString,
    /// Whether a user has chosen.
    pub manual: bool,
    /// Name below `/etc/alternatives`, the link that leads there, and the line that says so.
    pub links: Vec<(ByteString, ByteString, u32)>,
    pub choices: Vec<Choice>,
}

/// One provider in a group.
#[derive(Debug, PartialEq, Eq)]
pub struct Choice {
    pub path: ByteString,
    pub priority: i64,
    pub line: u32,
}

/// Reads every group; what is damaged is noted.
pub fn read(root: &Root, notes: &mut Vec<Loss>) -> Vec<Group> {
    let place = path::join(ADMIN, b"alternatives");
    let listed = root.dir(&place).and_then(|dir| Ok((dir.list()?, dir)));
    let (names, dir) = match listed {
        Ok(found) => found,
        Err(error) => {
            if !error.is_missing() {
                notes.push(Loss::unread(&error, "links of the alternatives system are shown as placed by hand"));
            }
            return Vec::new();
        }
    };
    let mut groups = Vec::new();
    for (name, kind) in names {
        if kind == Kind::Dir {
            continue;
        }
        match dir.read(&name, Limit::SMALL) {
            Ok((content, _)) => match parse(&name, &path::join(&place, &name), &content) {
                Ok(group) => groups.push(group),
                Err(line) => notes.push(Loss::note(format!(
                    "{} line {line}: not an alternatives group; its links are shown as placed by hand",
                    path::join(&place, &name)
                ))),
            },
            Err(error) if error.is_missing() => {}
            Err(error) => notes.push(Loss::unread(&error, "its links are shown as placed by hand")),
        }
    }
    groups
}

/// On failure, the number of the line that does not fit.
fn parse(name: &ByteString, file: &ByteString, content: &[u8]) -> Result<Group, u32> {
    let mut lines = (1..).zip(content.split(|&b| b == b'\n'));
    let mut next = |after: u32| lines.next().ok_or(after);
    let (line, mode) = next(1)?;
    let manual = match mode {
        b"auto" => false,
        b"manual" => true,
        _ => return Err(line),
    };
    let (line, link) = next(line)?;
    let is_path = |text: &[u8]| text.starts_with(b"/");
    if !is_path(link) {
        return Err(line);
    }
    let mut links = vec![(name.clone(), ByteString::from(link), line)];
    loop {
        let (line, slave) = next(line)?;
        if slave.is_empty() {
            break;
        }
        let (line, link) = next(line)?;
        if !is_path(link) || slave.contains(&b'/') {
            return Err(line);
        }
        links.push((slave.into(), link.into(), line));
    }
    let mut choices = Vec::new();
    // The file ends with an empty line after the last choice.
    while let Ok((line, provider)) = next(0) {
        if provider.is_empty() {
            break;
        }
        let (priority_line, priority) = next(line)?;
        let priority = std::str::from_utf8(priority).ok().and_then(|text| text.parse().ok()).ok_or(priority_line)?;
        if !is_path(provider) {
            return Err(line);
        }
        choices.push(Choice { path: provider.into(), priority, line });
        for _ in 1..links.len() {
            next(line)?;
        }
    }
    Ok(Group { name: name.clone(), file: file.clone(), manual, links, choices })
}

impl Group {
    /// Every link that the system placed for the group, with the line that says so.
    pub fn placed(&self) -> impl Iterator<Item = (ByteString, u32)> + '_ {
        self.links.iter().flat_map(|(name, link, line)| [(link.clone(), *line), (path::join(CHOSEN, name), *line)])
    }

    /// What the system says of the present choice.
    /// The provider that is in force.
    pub fn chosen(&self, root: &Root) -> Option<ByteString> {
        root.read_link(&path::join(CHOSEN, &self.name)).ok()
    }

    pub fn evidence(&self, root: &Root) -> Vec<Evidence> {
        let Some(chosen) = self.chosen(root) else {
            return vec![Evidence::line(self.file.clone(), 1, "no current choice")];
        };
        let count = self.choices.len();
        let Some(choice) = self.choices.iter().find(|choice| choice.path == chosen) else {
            let says = format!("the current choice {chosen} is not one of the {count} registered choices");
            return vec![Evidence::line(self.file.clone(), 1, says)];
        };
        let how = if self.manual { "chosen by hand" } else { "the best ranked" };
        let says = format!("{chosen}, priority {}, {how} of {count}", choice.priority);
        vec![Evidence::line(self.file.clone(), choice.line, says)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(content: &str) -> Result<Group, u32> {
        parse(&"fig".into(), &"/f".into(), content.as_bytes())
    }

    #[test]
    fn a_group_is_read_and_its_damage_located() {
        let read =
            group("manual\n/usr/bin/fig\nfig.6\n/man/fig.6\n\n/usr/bin/a\n30\n/man/a.6\n/bin/b\n-5\n\n\n").unwrap();
        assert!(read.manual);
        let links: Vec<_> = read.placed().map(|(link, _)| link.to_string()).collect();
        assert_eq!(links, ["/usr/bin/fig", "/etc/alternatives/fig", "/man/fig.6", "/etc/alternatives/fig.6"]);
        let choices: Vec<_> = read.choices.iter().map(|choice| (&*choice.path, choice.priority)).collect();
        assert_eq!(choices, [(&b"/usr/bin/a"[..], 30), (b"/bin/b", -5)]);
        for (content, line) in
            [("", 1), ("maybe\n", 1), ("auto\nfig\n", 2), ("auto\n/f\nx\n", 4), ("auto\n/f\n\n/a\nhigh\n", 5)]
        {
            assert_eq!(group(content), Err(line), "{content:?}");
        }
    }
}
