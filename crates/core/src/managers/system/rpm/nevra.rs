//! Packages as records name them: `NAME-[EPOCH:]VERSION-RELEASE.ARCH`.

use crate::bytes::ByteString;

/// `NAME.ARCH`; a package without an architecture is for all.
pub(super) fn dotted(name: &[u8], arch: Option<&[u8]>) -> ByteString {
    [name, b".", arch.unwrap_or(b"noarch")].concat().into()
}

/// Where the name ends in `NAME-[EPOCH:]VERSION-RELEASE[.ARCH]`: a version and a release have no hyphen.
pub(super) fn name_end(full: &[u8]) -> Option<usize> {
    let release = memchr::memrchr(b'-', full)?;
    memchr::memrchr(b'-', &full[..release])
}

/// `NAME-[EPOCH:]VERSION-RELEASE.ARCH`; an epoch of 0 is left out, as most records do.
pub(super) fn in_full(name: &[u8], version: &[u8], arch: &[u8]) -> ByteString {
    let version = version.strip_prefix(b"0:").unwrap_or(version);
    [name, b"-", version, b".", arch].concat().into()
}

/// The same without an epoch of 0.
pub(super) fn without_epoch_0(nevra: &str) -> String {
    nevra.replacen("-0:", "-", 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_package_has_its_name_before_version_and_release() {
        let name = |full: &'static str| name_end(full.as_bytes()).map(|end| &full[..end]);
        assert_eq!(name("tide-gauge-1.2-3.hb8.noarch"), Some("tide-gauge"));
        assert_eq!(name("tide-2:3.0-1.m3.x86_64"), Some("tide"));
        assert_eq!(name("tide"), None);
    }
}
