//! `/etc/passwd`: the accounts of a machine (`passwd(5)`).

/// One account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account<'a> {
    /// Login name.
    pub name: &'a [u8],
    /// User number.
    pub uid: u32,
    /// The number of its own group.
    pub group: u32,
    /// Home directory; absolute.
    pub home: &'a [u8],
    /// The shell that a login starts; empty where the file leaves it to the system.
    pub shell: &'a [u8],
}

/// A group of accounts (`group(5)`).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group<'a> {
    /// Its name.
    pub name: &'a [u8],
    /// Its number.
    pub number: u32,
    /// Those who are in it beside those whose own group it is.
    pub members: Vec<&'a [u8]>,
}

/// The groups in the order of the file; lines that are none are skipped.
pub fn groups(file: &[u8]) -> impl Iterator<Item = Group<'_>> {
    file.split(|&b| b == b'\n').filter_map(|line| {
        let fields: Vec<&[u8]> = line.split(|&b| b == b':').collect();
        let [name, _, number, members, ..] = fields[..] else { return None };
        let number = std::str::from_utf8(number).ok()?.parse().ok()?;
        let members = members.split(|&b| b == b',').filter(|name| !name.is_empty()).collect();
        Some(Group { name, number, members })
    })
}

/// The accounts in the order of the file. Lines that are none, and entries of name services
/// (`+name`), are skipped.
pub fn accounts(file: &[u8]) -> impl Iterator<Item = Account<'_>> {
    file.split(|&b| b == b'\n').filter_map(|line| {
        let fields: Vec<&[u8]> = line.split(|&b| b == b':').collect();
        let [name, _, uid, group, _, home, ..] = fields[..] else { return None };
        let number = |text: &[u8]| std::str::from_utf8(text).ok()?.parse().ok();
        let (uid, group) = (number(uid)?, number(group).unwrap_or(u32::MAX));
        let shell = fields.get(6).copied().unwrap_or_default();
        let sound = !name.is_empty() && !matches!(name[0], b'+' | b'-' | b'#') && home.starts_with(b"/");
        sound.then_some(Account { name, uid, group, home, shell })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn damaged_lines_cost_themselves() {
        let file = b"root:x:0:0::/root:/bin/sh\n+nis::::::\nbad:line\nmaren:x:1000:1000:Maren,,,:/home/maren:/bin/bash\nx:x:-1:0::/x:\ny:x:5:5::rel:\n";
        let read: Vec<_> = accounts(file).map(|account| (account.name, account.uid, account.home)).collect();
        assert_eq!(read, [(&b"root"[..], 0, &b"/root"[..]), (b"maren", 1000, b"/home/maren")]);
    }
}
