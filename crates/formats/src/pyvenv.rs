//! `pyvenv.cfg`, which makes a directory a virtual environment (Python library reference, `venv`; PEP 405).

use crate::bytes::ByteString;

/// What the file says. uv spells the version's key in its own way.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Pyvenv {
    /// The directory of the base interpreter.
    pub home: Option<ByteString>,
    /// The base interpreter's version when the environment was made.
    pub version: Option<ByteString>,
    /// Whether the system's packages are seen as well.
    pub sees_system: bool,
    /// Whether uv made it.
    pub uv: bool,
}

impl Pyvenv {
    /// Reads the file: `key = value` lines, keys in any case.
    pub fn parse(content: &[u8]) -> Self {
        let mut read = Pyvenv::default();
        for line in content.split(|&b| b == b'\n') {
            let Some(at) = memchr::memchr(b'=', line) else { continue };
            let value = line[at + 1..].trim_ascii();
            match line[..at].trim_ascii().to_ascii_lowercase().as_slice() {
                b"home" => read.home = Some(value.into()),
                b"version" | b"version_info" => read.version = Some(value.into()),
                b"include-system-site-packages" => read.sees_system = value.eq_ignore_ascii_case(b"true"),
                b"uv" => read.uv = true,
                _ => {}
            }
        }
        read
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_maker_of_environments_is_understood() {
        let of_venv = Pyvenv::parse(
            b"home = /usr/bin\ninclude-system-site-packages = true\nversion = 3.11.2\nexecutable = /usr/bin/python3.11\n",
        );
        assert_eq!((of_venv.home, of_venv.version), (Some("/usr/bin".into()), Some("3.11.2".into())));
        assert!(of_venv.sees_system && !of_venv.uv);
        let of_uv = Pyvenv::parse(b"Home=/opt/py/bin\r\nuv = 0.5.11\r\nversion_info = 3.12.1\r\njunk\n");
        assert_eq!((of_uv.home, of_uv.version), (Some("/opt/py/bin".into()), Some("3.12.1".into())));
        assert!(of_uv.uv && !of_uv.sees_system);
    }
}
