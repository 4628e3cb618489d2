//! Small files of settings: `NAME=value` (`os-release(5)`, pkg-config files, `pam_env(8)`'s
//! `/etc/environment`) and `NAME value` (`login.defs(5)`).

use bstr::ByteSlice as _;

/// One setting of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting<'a> {
    /// Its name.
    pub name: &'a [u8],
    /// Its value, without the quotes around it.
    pub value: &'a [u8],
    /// Where it stands, counted from 1.
    pub line: u32,
}

/// `NAME=value` lines; comments and everything else are skipped. One pair of quotes is dropped.
pub fn assignments(file: &[u8]) -> impl Iterator<Item = Setting<'_>> {
    numbered(file).filter_map(|(line, text)| {
        let (name, value) = text.split_once_str(b"=")?;
        let value = value.trim_ascii();
        let quoted = |quote: u8| value.len() > 1 && value[0] == quote && value.ends_with(&[quote]);
        let value = if quoted(b'"') || quoted(b'\'') { &value[1..value.len() - 1] } else { value };
        is_name(name).then_some(Setting { name, value, line })
    })
}

/// `/etc/environment` as the login module reads it: nothing is expanded, `#` begins a comment
/// anywhere, one leading and one trailing quote are dropped each by itself, `export` may stand before
/// the name, and a blank before the `=` makes the line useless.
pub fn environment(file: &[u8]) -> impl Iterator<Item = Setting<'_>> {
    numbered(file).filter_map(|(line, text)| {
        let text = text.split(|&b| b == b'#').next().unwrap_or_default();
        let text = text.trim_ascii_start();
        let text = text.strip_prefix(b"export ").unwrap_or(text);
        let (name, value) = text.split_once_str(b"=")?;
        let is_quote = |b: &u8| matches!(b, b'"' | b'\'');
        let value = if value.first().is_some_and(is_quote) { &value[1..] } else { value };
        let value = if value.last().is_some_and(is_quote) { &value[..value.len() - 1] } else { value };
        is_name(name).then_some(Setting { name, value, line })
    })
}

/// `NAME value` lines, as in `login.defs`; of a repeated name the last counts.
pub fn definitions(file: &[u8]) -> impl Iterator<Item = Setting<'_>> {
    numbered(file).filter_map(|(line, text)| {
        let text = text.trim_ascii();
        let end = text.iter().position(|b| matches!(b, b' ' | b'\t'))?;
        let (name, value) = (&text[..end], text[end..].trim_ascii());
        is_name(name).then_some(Setting { name, value, line })
    })
}

fn numbered(file: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    (1..).zip(file.split(|&b| b == b'\n'))
}

fn is_name(name: &[u8]) -> bool {
    !name.is_empty() && name.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'_')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pairs<'a>(settings: impl Iterator<Item = Setting<'a>>) -> Vec<(String, String, u32)> {
        settings.map(|s| (s.name.to_str_lossy().into(), s.value.to_str_lossy().into(), s.line)).collect()
    }

    #[test]
    fn each_file_keeps_its_own_rules() {
        let own = |rows: &[(&str, &str, u32)]| rows.iter().map(|r| (r.0.into(), r.1.into(), r.2)).collect::<Vec<_>>();
        assert_eq!(
            pairs(assignments(b"# c\nID=breakwater\nVERSION_ID=\"12\"\nA B=c\nX='y'\n")),
            own(&[("ID", "breakwater", 2), ("VERSION_ID", "12", 3), ("X", "y", 5)])
        );
        assert_eq!(
            pairs(environment(b"PATH=\"/a:/b\"\nexport Q=/x\nP =/c\nR=\"/d\"  # no\nS=$PATH:/y")),
            own(&[("PATH", "/a:/b", 1), ("Q", "/x", 2), ("R", "/d\"  ", 4), ("S", "$PATH:/y", 5)])
        );
        assert_eq!(
            pairs(definitions(b"#ENV_PATH no\nENV_PATH\tPATH=/a:/b\nUID_MIN  1000\nlonely\n")),
            own(&[("ENV_PATH", "PATH=/a:/b", 2), ("UID_MIN", "1000", 3)])
        );
    }
}
