//! What gets no updates: because its maker said so, because its remote is gone, or because it never had one.

use super::installation::{Deployed, FlatpakInstallation};
use crate::backend::Installation as _;
use crate::bytes::{ByteString, path};
use crate::model::{Cause, Evidence, Finding, FindingKind, Severity};

impl FlatpakInstallation<'_> {
    /// `end-of-life`, `dead-origin` and `sideloaded` of one deployment.
    pub(super) fn without_updates(&self, number: u32, deployed: &Deployed) -> Vec<Finding> {
        let id = deployed.id.clone();
        let about = |kind, severity, summary: String, consequence: &str, evidence: Evidence| Finding {
            packages: vec![self.owner(number).id],
            evidence: vec![evidence],
            ..Finding::new(kind, severity, id.clone(), summary, consequence)
        };
        let reference = deployed.reference();
        let mut found = Vec::new();
        if let Some(reason) = &deployed.deploy.end_of_life {
            let reason = ByteString::from(reason.as_str());
            let evidence = Evidence::at(path::join(&deployed.dir, b"deploy"), "key eol", reason.to_string());
            let summary = format!("{reference} is at the end of its life: {reason}");
            let consequence = "it gets no updates any more, not even for security";
            found.push(about(FindingKind::EndOfLife, Severity::Warning, summary, consequence, evidence));
        }
        let origin = &deployed.deploy.origin;
        // A remote without an address is one that a bundle brought; one that is not there was removed.
        if !origin.is_empty() && !self.has_remote(origin) {
            let origin = ByteString::from(origin.as_str());
            let config = path::join(&self.base.dir, b"repo/config");
            let evidence = Evidence::at(config, "remotes", format!("has no remote {origin}"));
            let summary = format!("{reference} came from the remote {origin}, which is not configured any more");
            let mut one = about(FindingKind::DeadOrigin, Severity::Warning, summary, "it gets no updates", evidence);
            one.causes.push(Cause::Source(origin));
            found.push(one);
        } else if !origin.is_empty() && self.origin(deployed).is_some_and(|origin| origin.url.is_none()) {
            let origin = ByteString::from(origin.as_str());
            let config = path::join(&self.base.dir, b"repo/config");
            let evidence = Evidence::at(config, format!("remote {origin}"), "has no address");
            let summary = format!("{reference} was installed from a bundle");
            let consequence = "it gets no updates; who made it, only the bundle's source can tell";
            found.push(about(FindingKind::Sideloaded, Severity::Note, summary, consequence, evidence));
        }
        found
    }
}
