//! LuaRocks: modules of Lua in a tree of the system's or of a user's (LuaRocks documentation, "File locations").
//!
//! Below `TREE/lib/luarocks/rocks-LUA/` there is `NAME/VERSION-REVISION/` for each rock, with a `rock_manifest` of its
//! files and their digests: those below `bin` are in `TREE/bin`, `lua` in `TREE/share/lua/LUA`, `lib` in
//! `TREE/lib/lua/LUA`; the rest lies in the directory itself. `manifest` beside the rocks says who needs whom.
//!
//! Traps: both files are tables of Lua; of several versions only the newest has its files under their own names; a
//! command is a script that starts Lua on the file in the rock's own directory.

use crate::backend::simple::{
    InstalledPackage, MAX_SCRIPT, Record, SimpleBackend, SimpleInstallation, dirs_in, parsed, scope_apart, scope_of,
};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{
    CommandLine, Evidence, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, Reason, RemedyKind,
};
use crate::version::Scheme;
use crate::version::luarocks;
use whodunit_formats::lua_table::{self, Value};

const ID: ManagerId = ManagerId("luarocks");

/// The manager.
#[derive(Debug)]
pub struct LuaRocks;

/// The rocks of one version of Lua in a tree.
struct Rocks {
    tree: ByteString,
    /// Such as `5.4`.
    lua: ByteString,
}

impl Manager for LuaRocks {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("rocks that LuaRocks downloaded", "~/.cache/luarocks")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let own = host.users.iter().map(|user| host.user_dir(user, "", ".luarocks"));
        let trees = [host.root.canonicalize_dir(b"/usr/local")].into_iter().chain(own);
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        for tree in trees {
            let all = path::join(&tree, b"lib/luarocks");
            for (name, _) in dirs_in(host, &all, false) {
                let Some(lua) = name.strip_prefix(b"rocks-") else { continue };
                let dir = path::join(&all, &name);
                let backend = Rocks { tree: tree.clone(), lua: lua.into() };
                // The rocks for another version of Lua are told apart by their place.
                let scope = scope_apart(&held, scope_of(host, &tree), &dir);
                held.push(SimpleInstallation::boxed(host, ID, scope, dir, backend));
            }
        }
        held
    }
}

/// Every file of a manifest, with its path below the rock.
fn files(table: &Value, below: &[u8], take: &mut dyn FnMut(ByteString)) {
    for (key, value) in table.fields() {
        // A name is one part of a path.
        let Some(key) = key.as_deref().filter(|key| !key.is_empty() && !key.contains('/') && *key != "..") else {
            continue;
        };
        let path = path::join(below, key.as_bytes());
        match value {
            Value::Table(_) => files(value, &path, take),
            Value::Text(_) => take(path),
        }
    }
}

impl Rocks {
    fn read_table(host: &Host, file: &ByteString) -> Result<Value, String> {
        parsed(host, file, Limit::LIST, |content| lua_table::parse(&String::from_utf8_lossy(content)))
    }

    /// Where a file of a rock was put: its own place where that has it, else under a name with the version in front.
    fn place(&self, host: &Host, item: &InstalledPackage, file: &[u8]) -> Option<ByteString> {
        let mut parts = file.strip_prefix(b"/")?.splitn(2, |&b| b == b'/');
        let (kind, below) = (parts.next()?, parts.next()?);
        let dir = match kind {
            b"bin" => path::join(&self.tree, b"bin"),
            b"lua" => path::join(&path::join(&self.tree, b"share/lua"), &self.lua),
            b"lib" => path::join(&path::join(&self.tree, b"lib/lua"), &self.lua),
            _ => return None,
        };
        let own = path::join(&dir, below);
        if item.active {
            return Some(own);
        }
        let version = item.version.as_deref()?;
        let mark = [&*item.name, b"_", version].concat();
        let mark: Vec<u8> = mark.iter().map(|b| if b.is_ascii_alphanumeric() { *b } else { b'_' }).collect();
        let versioned = path::join(path::parent(&own), &[&mark[..], b"-", path::name(&own)].concat());
        host.root.entry(&versioned).is_ok().then_some(versioned)
    }

    fn add_files(&self, host: &Host, item: &mut InstalledPackage, notes: &mut Vec<Loss>) {
        let file = path::join(&item.entry, b"rock_manifest");
        let table = match Rocks::read_table(host, &file) {
            Ok(table) => table,
            Err(problem) => {
                notes.push(Loss::because(problem, format!("the files of {} are unknown", item.name)));
                return;
            }
        };
        let mut found = Vec::new();
        if let Some(manifest) = table.get("rock_manifest") {
            files(manifest, b"/", &mut |path| found.push(path));
        }
        for below in found {
            let Some(place) = self.place(host, item, &below) else { continue };
            let says = format!("{} has {}", item.name, ByteString::from(&below[1..]));
            if *path::parent(&place) == *path::join(&self.tree, b"bin") {
                item.commands.push(place.clone());
            }
            item.places.push((place, Evidence::at(file.clone(), "rock_manifest", says)));
        }
    }
}

impl SimpleBackend for Rocks {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let manifest = path::join(&at.dir, b"manifest");
        let needs = Rocks::read_table(host, &manifest).unwrap_or_else(|problem| {
            record.notes.push(Loss::because(problem, "which rocks need which is not known"));
            Value::Table(Vec::new())
        });
        for (name, _) in dirs_in(host, &at.dir, false) {
            let dir = path::join(&at.dir, &name);
            let mut versions: Vec<ByteString> = dirs_in(host, &dir, false).into_iter().map(|(name, _)| name).collect();
            versions.sort_by(|a, b| luarocks::compare(b, a));
            for (place, version) in versions.iter().enumerate() {
                let entry = path::join(&dir, version);
                let mut item = InstalledPackage::new("rock", name.clone());
                if versions.len() > 1 {
                    item = InstalledPackage::kept("rock", name.clone(), version.clone());
                }
                item.version = Some(version.clone());
                item.active = place == 0;
                // Nothing tells what was asked for.
                item.reason = Reason::Unknown;
                item.purl = Some("luarocks");
                item.installed_at = host.root.modified(&entry);
                item.evidence.push(Evidence::directory(entry.clone(), format!("{name} {version}")));
                item.entry = entry.clone();
                item.trees.push(entry);
                let text = |bytes: &ByteString| String::from_utf8_lossy(bytes).into_owned();
                let declared = needs.get("dependencies").and_then(|all| all.get(&text(&name))?.get(&text(version)));
                let declared = declared.into_iter().flat_map(|list| list.fields().iter());
                for needed in declared.filter_map(|(_, one)| one.get("name")?.text()).filter(|needed| *needed != "lua")
                {
                    item.need(needed.as_bytes());
                }
                self.add_files(host, &mut item, &mut record.notes);
                let tree = [b"--tree=", &*self.tree].concat();
                let of_lua = [b"--lua-version=", &*self.lua].concat();
                let line = CommandLine::new("luarocks").arg(of_lua).arg(tree).words("remove").operand(name.clone());
                let line = if versions.len() > 1 { line.operand(version.clone()) } else { line };
                record.items.push(item.remedy(RemedyKind::Remove, line));
            }
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        let lua = |dir: &[u8]| path::join(&path::join(&self.tree, dir), &self.lua);
        vec![at.dir.clone(), path::join(&self.tree, b"bin"), lua(b"share/lua"), lua(b"lib/lua")]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Luarocks
    }

    /// A script of LuaRocks names the file of the rock, in quotes before its own arguments.
    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        if *path::parent(canonical) != *path::join(&self.tree, b"bin") {
            return None;
        }
        let content = host.root.read(canonical, Limit::bytes(MAX_SCRIPT)).ok()?;
        let start = memchr::memmem::find(&content, &[b"'", &*at.dir, b"/"].concat())? + 1;
        let end = start + memchr::memchr(b'\'', &content[start..])?;
        let file = ByteString::from(&content[start..end]);
        path::within(&file, &at.dir).then(|| ExecTarget::wrapper(file))
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![path::join(&self.tree, b"bin")]
    }
}
