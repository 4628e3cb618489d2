//! How long the distribution's release gets upgrades: `os-release(5)`, and the table of dates that Debian's family ships.

use super::CheckContext;
use crate::bytes::ByteString;
use crate::fs::Limit;
use crate::host::{os_release, os_release_field};
use crate::model::{Evidence, Finding, FindingKind, Severity, rfc3339};

/// `end-of-life` of the release, by the clock of whoever asks.
pub fn ended(cx: &CheckContext<'_, '_>, now: Option<i64>) -> Vec<Finding> {
    let Some(today) = now.map(|now| rfc3339(now).chars().take(10).collect::<String>()) else { return Vec::new() };
    let Some((file, text)) = os_release(cx.survey.root()) else { return Vec::new() };
    let Some((end, evidence)) = by_itself(file, &text).or_else(|| by_table(cx, &text)) else { return Vec::new() };
    if !is_day(&end) || end >= today {
        return Vec::new();
    }
    let name = field(&text, "PRETTY_NAME").or_else(|| field(&text, "ID")).unwrap_or_default();
    let summary = format!("{name} gets no upgrades since {end}");
    let consequence = "security holes that were found since then stay open";
    let id = field(&text, "ID").unwrap_or_default();
    vec![Finding {
        evidence: vec![evidence],
        ..Finding::new(FindingKind::EndOfLife, Severity::Warning, id, summary, consequence)
    }]
}

fn field(text: &[u8], name: &str) -> Option<String> {
    os_release_field(text, name.as_bytes()).map(|value| value.to_string()).filter(|value| !value.is_empty())
}

/// `YYYY-MM-DD`; such texts have the order of the days.
fn is_day(text: &str) -> bool {
    text.len() == 10
        && text.bytes().enumerate().all(|(at, b)| if matches!(at, 4 | 7) { b == b'-' } else { b.is_ascii_digit() })
}

fn by_itself(file: &[u8], text: &[u8]) -> Option<(String, Evidence)> {
    let end = field(text, "SUPPORT_END")?;
    let evidence = Evidence::at(file, "SUPPORT_END", format!("support ends on {end}"));
    Some((end, evidence))
}

/// `/usr/share/distro-info/ID.csv`: a line per release, with the days on which its kinds of support end.
fn by_table(cx: &CheckContext<'_, '_>, text: &[u8]) -> Option<(String, Evidence)> {
    let (id, series) = (field(text, "ID")?, field(text, "VERSION_CODENAME")?);
    if !id.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
        return None;
    }
    let file = ByteString::from(format!("/usr/share/distro-info/{id}.csv").as_str());
    let content = cx.survey.root().read(&file, Limit::SMALL).ok()?;
    let mut rows = csv::ReaderBuilder::new().flexible(true).from_reader(&content[..]);
    let heads = rows.headers().ok()?.clone();
    let at = |name: &str| heads.iter().position(|head| head == name);
    let (of_series, of_end) = (at("series")?, [at("eol-lts"), at("eol-server"), at("eol")]);
    let row = rows.records().flatten().find(|row| row.get(of_series) == Some(&series))?;
    let end = of_end.into_iter().flatten().filter_map(|at| row.get(at)).filter(|day| !day.is_empty()).max()?.to_owned();
    let line = row.position().and_then(|position| u32::try_from(position.line()).ok()).unwrap_or_default();
    let evidence = Evidence::line(file, line, format!("support of {series} ends on {end}"));
    Some((end, evidence))
}
