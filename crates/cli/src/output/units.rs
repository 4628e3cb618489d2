//! Numbers for users.

/// `1 package`, `2 packages`.
pub fn count(number: usize, thing: &str) -> String {
    let plural = match (number, thing.strip_suffix('y')) {
        (1, _) => thing.to_owned(),
        (_, Some(stem)) if !thing.ends_with("ey") => format!("{stem}ies"),
        _ => format!("{thing}s"),
    };
    format!("{number} {plural}")
}

/// A size in powers of 1024, with one decimal.
pub fn size(bytes: u64) -> String {
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    humansize::format_size(bytes, humansize::BINARY.decimal_places(1).decimal_zeroes(1))
}

/// The day of a time in seconds since 1970, in UTC.
pub fn date(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map(|time| time.strftime("%Y-%m-%d").to_string()).unwrap_or_default()
}

/// A time in seconds since 1970 as data: RFC 3339, UTC.
pub fn time(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map(|time| time.to_string()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        for (bytes, text) in
            [(0, "0 B"), (1023, "1023 B"), (1024, "1.0 KiB"), (10 << 20, "10.0 MiB"), (u64::MAX, "16.0 EiB")]
        {
            assert_eq!(size(bytes), text);
        }
        assert_eq!(
            (count(1, "copy"), count(2, "copy"), count(0, "package")),
            ("1 copy".into(), "2 copies".into(), "0 packages".into())
        );
        assert_eq!(date(1_772_438_400), "2026-03-02");
    }
}
