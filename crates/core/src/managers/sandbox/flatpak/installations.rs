//! Where installations lie: the user's own first, as `flatpak run` takes them, then the system's by priority.

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::Scope;
use whodunit_formats::key_file::KeyFile;

/// One installation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Base {
    /// Its directory.
    pub dir: ByteString,
    pub scope: Scope,
    /// Its name, where it is neither the user's nor the system's usual one.
    pub name: Option<ByteString>,
}

impl Base {
    /// The option by which its commands are told which installation is meant.
    pub fn option(&self) -> String {
        match (&self.scope, &self.name) {
            (Scope::User(_) | Scope::Environment(_), _) => "--user".to_owned(),
            (Scope::System, None) => "--system".to_owned(),
            (Scope::System, Some(name)) => format!("--installation={name}"),
        }
    }
}

/// Every installation that exists.
pub fn find(host: &Host) -> Vec<Base> {
    let mut bases: Vec<Base> = host
        .users
        .iter()
        .map(|user| Base {
            dir: path::join(&user.home, b".local/share/flatpak"),
            scope: Scope::User(user.name.clone()),
            name: None,
        })
        .collect();
    let mut of_system = further(host);
    of_system.push((0, Base { dir: "/var/lib/flatpak".into(), scope: Scope::System, name: None }));
    of_system.sort_by_key(|(priority, _)| std::cmp::Reverse(*priority));
    bases.extend(of_system.into_iter().map(|(_, base)| base));
    bases.retain(|base| host.root.target(&base.dir).is_ok_and(|meta| meta.kind == Kind::Dir));
    bases
}

/// Those that the machine's settings name, with their priority; the usual one has 0.
fn further(host: &Host) -> Vec<(i64, Base)> {
    const PLACE: &[u8] = b"/etc/flatpak/installations.d";
    let Ok(names) = host.root.dir(PLACE).and_then(|dir| dir.list()) else { return Vec::new() };
    let mut found: Vec<(i64, Base)> = Vec::new();
    for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".conf")) {
        let Ok(content) = host.root.read(&path::join(PLACE, name), Limit::SMALL) else { continue };
        let file = KeyFile::parse(&content);
        for group in file.groups() {
            let id = group.strip_prefix("Location \"").and_then(|rest| rest.strip_suffix('"'));
            if let (Some(id), Some(dir)) = (id, file.get(group, "Path").filter(|dir| dir.starts_with('/'))) {
                let priority = file.get(group, "Priority").and_then(|text| text.parse().ok()).unwrap_or(0);
                let base = Base { dir: dir.into(), scope: Scope::System, name: Some(id.into()) };
                found.push((priority, base));
            }
        }
    }
    found
}
