//! `/etc/passwd`: the accounts of a machine (`passwd(5)`).

/// One account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account<'a> {
    /// Log-in name.
    pub name: &'a [u8],
    /// User number.
    pub uid: u32,
    /// Home folder; absolute.
    pub home: &'a [u8],
}

/// The accounts in the order of the file. Lines that are none, and entries of name services
/// (`+name`), are passed over.
pub fn accounts(file: &[u8]) -> impl Iterator<Item = Account<'_>> {
    file.split(|&b| b == b'\n').filter_map(|line| {
        let fields: Vec<&[u8]> = line.split(|&b| b == b':').collect();
        let [name, _, uid, _, _, home, ..] = fields[..] else { return None };
        let uid = std::str::from_utf8(uid).ok()?.parse().ok()?;
        let sound = !name.is_empty() && !matches!(name[0], b'+' | b'-' | b'#') && home.starts_with(b"/");
        sound.then_some(Account { name, uid, home })
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
