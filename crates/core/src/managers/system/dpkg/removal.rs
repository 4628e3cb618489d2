//! Removing several packages at once.

use super::installation::DpkgInstallation;
use super::status::{Record, State, Want};
use crate::backend::{Catalogue, Rehearsal, Removal};
use crate::bytes::{ByteString, path};
use crate::model::{CommandLine, Remedy, RemedyKind};

/// apt, as it tells what it would do: with the answer that it gets in a script.
const DRY: &str = "apt-get --simulate --yes";

/// What apt has to be told where a package is held that a user names: it refuses otherwise.
fn change_held(records: &[&Record]) -> &'static str {
    let is_held = records.iter().any(|record| record.want == Want::Hold);
    if is_held { "--allow-change-held-packages" } else { "" }
}

impl DpkgInstallation<'_> {
    /// apt's command, which is tried with its own simulation; dpkg's where there is no apt.
    pub(super) fn removal_of(&self, packages: &[u32], with_settings: bool) -> Option<Removal> {
        let records: Vec<&Record> = packages.iter().map(|number| self.record(*number)).collect();
        if records.iter().any(|record| record.essential || record.state == State::Lost) {
            return None;
        }
        let named = |line: CommandLine| records.iter().fold(line, |line, record| line.operand(self.full_name(record)));
        let kind = if with_settings { RemedyKind::Purge } else { RemedyKind::Remove };
        if self.host.root.target(b"/var/lib/apt").is_err() {
            let line = named(CommandLine::new(if with_settings { "dpkg --purge" } else { "dpkg --remove" }));
            let dry = named(CommandLine::new("dpkg --simulate --remove"));
            return Some(Removal { remedy: Remedy::new(kind, line), rehearsal: Rehearsal::succeeds(dry) });
        }
        let verb = if with_settings { "purge" } else { "remove" };
        let of = |line: &str| named(CommandLine::new(line).words(verb).words(change_held(&records)));
        // `Remv lamp [1.0]`; `Purg lamp` where settings go as well, without a version where they are all there is.
        let filter = r"sed -n 's/^\(Remv\|Purg\) \([^ ]*\).*/\2/p'";
        let prints = records.iter().map(|record| self.full_name(record).to_string()).collect();
        let rehearsal = Rehearsal::prints(of(DRY), Some(filter), prints);
        Some(Removal { remedy: Remedy::new(kind, of("apt")), rehearsal })
    }

    /// Whether dpkg has a package, at this version.
    pub(super) fn query_of(name: &[u8], version: Option<&[u8]>) -> Rehearsal {
        let line = |format: &str| CommandLine::new("dpkg-query --show --showformat").arg(format).operand(name);
        match version {
            Some(version) => {
                let says = format!("installed={}", ByteString::from(version));
                Rehearsal::prints(line("${db:Status-Status}=${Version}"), None, vec![says])
            }
            None => Rehearsal::prints(line("${db:Status-Status}"), None, vec!["installed".to_owned()]),
        }
    }

    /// apt's command for a version that a source offers, or whose file apt has kept.
    pub(super) fn to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        let record = self.record(package);
        let name = self.full_name(record);
        let (operand, needs_network) = match self.has_version(&record.name, version) {
            true => (ByteString::from([&name, &b"="[..], version].concat()), true),
            false => (self.kept_file(record, version)?, false),
        };
        let of = |line: &str| {
            let line = CommandLine::new(line).words("install --allow-downgrades").words(change_held(&[record]));
            line.operand(operand.clone())
        };
        let filter = r"sed -n 's/^\(Remv\|Inst\) \([^ ]*\).*/\2/p'";
        let rehearsal = Rehearsal::prints(of(DRY), Some(filter), vec![name.to_string()]);
        let remedy = Remedy { needs_network, ..Remedy::new(RemedyKind::Choose, of("apt")) };
        Some(Removal { remedy, rehearsal })
    }

    /// The file of a package that apt keeps after it was installed: `NAME_VERSION_ARCH.deb`.
    fn kept_file(&self, record: &Record, version: &[u8]) -> Option<ByteString> {
        const KEPT: &[u8] = b"/var/cache/apt/archives";
        let version = String::from_utf8_lossy(version).replace(':', "%3a");
        let arch = record.arch.as_deref().map_or(&b"all"[..], |arch| arch);
        let file = [&*record.name, b"_", version.as_bytes(), b"_", arch, b".deb"].concat();
        let file = path::join(KEPT, &file);
        self.host.root.target(&file).is_ok().then_some(file)
    }
}
