//! Where installations lie: the person's own first, as `flatpak run` takes them, then the system's by priority.

use crate::formats::key_file::KeyFile;
use crate::model::Scope;
use crate::root::{Kind, Limit};
use crate::scene::Scene;
use crate::text::{Text, path};

/// One installation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Base {
    /// Its folder.
    pub folder: Text,
    pub scope: Scope,
    /// Its name, where it is neither the person's nor the system's usual one.
    pub name: Option<Text>,
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
pub fn find(scene: &Scene) -> Vec<Base> {
    let mut bases: Vec<Base> = scene
        .people
        .iter()
        .map(|person| Base {
            folder: path::join(&person.home, b".local/share/flatpak"),
            scope: Scope::User(person.name.clone()),
            name: None,
        })
        .collect();
    bases.extend(further(scene));
    bases.push(Base { folder: "/var/lib/flatpak".into(), scope: Scope::System, name: None });
    bases.retain(|base| scene.root.target(&base.folder).is_ok_and(|meta| meta.kind == Kind::Folder));
    bases
}

fn further(scene: &Scene) -> Vec<Base> {
    const PLACE: &[u8] = b"/etc/flatpak/installations.d";
    let Ok(names) = scene.root.folder(PLACE).and_then(|folder| folder.list()) else { return Vec::new() };
    let mut found: Vec<(i64, Base)> = Vec::new();
    for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".conf")) {
        let Ok(content) = scene.root.read(&path::join(PLACE, name), Limit::SMALL) else { continue };
        let file = KeyFile::parse(&content);
        for group in file.groups() {
            let id = group.strip_prefix("Installation \"").and_then(|rest| rest.strip_suffix('"'));
            if let (Some(id), Some(folder)) = (id, file.get(group, "Path").filter(|folder| folder.starts_with('/'))) {
                let priority = file.get(group, "Priority").and_then(|text| text.parse().ok()).unwrap_or(0);
                let base = Base { folder: folder.into(), scope: Scope::System, name: Some(id.into()) };
                found.push((priority, base));
            }
        }
    }
    found.sort_by_key(|(priority, _)| std::cmp::Reverse(*priority));
    found.into_iter().map(|(_, base)| base).collect()
}
