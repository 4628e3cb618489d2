//! Applications that JetBrains Toolbox keeps (documentation of the Toolbox App).
//!
//! `~/.local/share/JetBrains/Toolbox/state.json` has a list of tools: name, version and build, the directory, and the
//! program in it that is started. `scripts/` has a shell script for each, which names that program.
//!
//! Traps: a tool can have been removed by hand, its entry stays; the directory of scripts is on a search path only
//! where a start-up file says so.

use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, of_each_user, parsed, scripts_in};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("jetbrains-toolbox");
const STATE: &[u8] = b"state.json";

/// The manager.
#[derive(Debug)]
pub struct JetBrainsToolbox;

struct Toolbox {
    /// The user's home.
    home: ByteString,
}

#[derive(Deserialize, Default)]
struct State {
    #[serde(default)]
    tools: Vec<Tool>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Tool {
    channel_id: Option<String>,
    tool_id: String,
    display_name: Option<String>,
    display_version: Option<String>,
    build_number: Option<String>,
    install_location: String,
}

impl Manager for JetBrainsToolbox {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { keeps_versions: true, ..Profile::of(ManagerKind::Prefix) }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = host.user_dir(user, "", ".local/share/JetBrains/Toolbox");
            let is_there = host.root.entry(&path::join(&dir, STATE)).is_ok();
            is_there.then(|| (dir, Toolbox { home: host.root.canonicalize_dir(&user.home) }))
        })
    }
}

impl SimpleBackend for Toolbox {
    // Applications do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, STATE);
        let state: State =
            parsed(host, &file, Limit::LIST, |content| serde_json::from_slice(content)).unwrap_or_else(|problem| {
                record.notes.push(Loss::because(problem, "the applications are unknown"));
                State::default()
            });
        for tool in state.tools {
            let tree = host.root.canonicalize_dir(tool.install_location.as_bytes());
            let mut item = InstalledPackage::new("application", tool.tool_id.as_str());
            item.tail = tool.channel_id.as_ref().map(|channel| path::join(tool.tool_id.as_bytes(), channel.as_bytes()));
            item.also.extend(tool.display_name.map(ByteString::from));
            item.version = tool.display_version.map(ByteString::from);
            item.revision = tool.build_number.map(ByteString::from);
            item.evidence.push(Evidence::at(file.clone(), "tools", item.with_version()));
            item.look_at(host, &tree);
            item.own_in_home(tree, &self.home);
            record.items.push(item);
        }
        for mut script in scripts_in(host, &path::join(&at.dir, b"scripts")).unwrap_or_default() {
            let Some(content) = script.take_content(&mut record.notes) else { continue };
            let names = |item: &&mut InstalledPackage| {
                item.trees.iter().any(|tree| memchr::memmem::find(&content, &[tree, &b"/"[..]].concat()).is_some())
            };
            if let Some(item) = record.items.iter_mut().find(names) {
                let says = format!("starts {}", item.name);
                item.bring(script.path.clone(), Evidence::whole(script.path, says));
            }
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        // An application can be kept anywhere in the home.
        vec![self.home.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"scripts")]
    }
}
