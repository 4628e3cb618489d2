//! Numbers for users.

/// `1 package`, `2 packages`.
pub fn count(number: usize, thing: &str) -> String {
    let plural = match (number, thing.strip_suffix('y')) {
        (1, _) => thing.to_owned(),
        (_, Some(stem)) if !stem.ends_with(['a', 'e', 'o']) => format!("{stem}ies"),
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

/// The second of a time as a user writes it: RFC 3339, or a date with or without a time in this zone.
pub fn seconds(text: &str, zone: &jiff::tz::TimeZone) -> Option<i64> {
    if let Ok(time) = text.parse::<jiff::Timestamp>() {
        return Some(time.as_second());
    }
    let civil: jiff::civil::DateTime = text.parse().ok()?;
    Some(zone.to_timestamp(civil).ok()?.as_second())
}

/// The second that was this long before another: `90d`, `8w`, `1y 6mo`.
pub fn ago(age: &str, now: i64) -> Option<i64> {
    let span: jiff::Span = age.parse().ok()?;
    let zone = jiff::tz::TimeZone::UTC;
    let then = zone.to_datetime(jiff::Timestamp::from_second(now).ok()?).checked_sub(span.abs()).ok()?;
    Some(zone.to_timestamp(then).ok()?.as_second())
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
            (count(1, "copy"), count(2, "copy"), count(0, "package"), count(3, "day")),
            ("1 copy".into(), "2 copies".into(), "0 packages".into(), "3 days".into())
        );
        assert_eq!(date(1_772_438_400), "2026-03-02");
        let zone = jiff::tz::TimeZone::fixed(jiff::tz::offset(1));
        for (text, expected) in [
            ("2026-03-02", Some(1_772_406_000)),
            ("2026-03-02T08:00", Some(1_772_434_800)),
            ("2026-03-02 08:00:00", Some(1_772_434_800)),
            ("2026-03-02T08:00:00Z", Some(1_772_438_400)),
            ("yesterday", None),
        ] {
            assert_eq!(seconds(text, &zone), expected, "{text}");
        }
        for (age, expected) in [("1d", Some(1_772_352_000)), ("2w", Some(1_771_228_800)), ("soon", None), ("", None)] {
            assert_eq!(ago(age, 1_772_438_400), expected, "{age}");
        }
    }
}
