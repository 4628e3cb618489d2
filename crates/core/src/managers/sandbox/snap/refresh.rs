//! When snapd refreshes, and what it holds back: `data.config.core.refresh` and `data.snaps-hold` in its state
//! (*Snap documentation*, "Managing updates").
//!
//! Traps: `refresh.hold` holds everything, until a date or `forever`; a snap may be held by another snap for a while,
//! and by the user under the name `system`; a date that is past holds nothing.

use std::collections::BTreeMap;

use serde::Deserialize;
use serde_json::Value;

use super::SNAPD;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Evidence;

/// What is set about refreshes.
#[derive(Debug, Default)]
pub(super) struct Refresh {
    /// When, as it is written.
    pub(super) timer: Option<String>,
    /// Until when everything is held.
    pub(super) hold: Option<String>,
    /// Snaps that a user holds, each with until when.
    pub(super) held: Vec<(ByteString, String)>,
    /// Where it stands.
    pub(super) evidence: Option<Evidence>,
}

#[derive(Deserialize)]
struct File {
    data: Data,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Data {
    #[serde(default)]
    config: BTreeMap<String, Value>,
    #[serde(default)]
    snaps_hold: BTreeMap<String, BTreeMap<String, Value>>,
}

/// Reads the state; what cannot be read is said by whoever reads the snaps themselves.
pub(super) fn read(root: &Root) -> Refresh {
    let file = path::join(SNAPD, b"state.json");
    let content = root.read(&file, Limit::LIST).unwrap_or_default();
    parse(&content).map_or_else(Refresh::default, |refresh| {
        let says = match &refresh.timer {
            Some(timer) => format!("refreshes at {timer}"),
            None => "no time is set: snapd refreshes four times a day".to_owned(),
        };
        Refresh { evidence: Some(Evidence::at(file, "config.core.refresh", says)), ..refresh }
    })
}

fn parse(content: &[u8]) -> Option<Refresh> {
    let data = serde_json::from_slice::<File>(content).ok()?.data;
    let refresh = data.config.get("core").and_then(|core| core.get("refresh"));
    let text = |key: &str| refresh?.get(key)?.as_str().map(str::to_owned);
    let held = data.snaps_hold.into_iter().filter_map(|(name, by)| {
        let until = by.get("system")?.get("hold-until").and_then(Value::as_str).unwrap_or("further notice").to_owned();
        Some((ByteString::from(name), until))
    });
    Some(Refresh {
        timer: text("timer").or_else(|| text("schedule")),
        hold: text("hold"),
        held: held.collect(),
        evidence: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_and_holds_are_read() {
        let text = br#"{"data": {"config": {"core": {"refresh": {"timer": "4:00-7:00", "hold": "forever"}}},
            "snaps-hold": {"chartdesk": {"system": {"hold-until": "2315-01-01T00:00:00Z"}}, "skerry": {"quay": {}}}}}"#;
        let read = parse(text).unwrap();
        assert_eq!((read.timer.as_deref(), read.hold.as_deref()), (Some("4:00-7:00"), Some("forever")));
        assert_eq!(read.held, [("chartdesk".into(), "2315-01-01T00:00:00Z".to_owned())]);
        assert!(parse(b"{}").is_none() && parse(b"{\"data\": {}}").is_some());
    }
}
