//! The initial environment of a context, before any shell reads a file: `login.defs`, the login module that sets variables
//! (`pam_env(8)`), the settings of systemd (`systemd-system.conf(5)`, `environment.d(5)`), `sudoers(5)`, `crontab(5)`.

use std::collections::BTreeMap;

use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};
use whodunit_formats::settings;
use whodunit_shell::eval::{Place, State, Value, Variable};
use whodunit_shell::{Unknown, UnknownId};

/// The initial environment of a context, and what is uncertain about it.
#[derive(Debug, Clone, Default)]
pub struct Start {
    /// Its variables.
    pub state: State,
    /// The unknowns about them.
    pub unknowns: Vec<Unknown>,
}

/// The program itself has it so.
pub fn compiled(program: &str) -> Place {
    Place { file: program.into(), line: 0 }
}

pub fn read(host: &Host, file: &[u8]) -> Vec<u8> {
    host.root.read(file, Limit::RECORD).unwrap_or_default()
}

impl Start {
    /// Sets a variable that programs get.
    pub fn set(&mut self, name: &[u8], value: &[u8], place: &Place) {
        let parts = if value.is_empty() { 0 } else { value.split(|&b| b == b':').count() };
        let variable = Variable { places: vec![place.clone(); parts], ..Variable::text(value, true) };
        self.state.variables.insert(name.to_vec(), variable);
    }

    /// Notes what is not known, and that the search path may be another for it.
    pub fn note_unknown(&mut self, unknown: Unknown) {
        let id = UnknownId(self.unknowns.len());
        self.unknowns.push(unknown);
        let path = self.state.variables.entry(b"PATH".to_vec()).or_insert_with(|| Variable::text("", true));
        path.taints.insert(id);
    }

    /// Who a user is, as every way in tells it.
    pub fn of(user: &User) -> Self {
        let mut start = Start::default();
        let shell = if user.shell.is_empty() { b"/bin/sh" } else { &user.shell[..] };
        for (name, value) in
            [(&b"HOME"[..], &user.home[..]), (b"USER", &user.name), (b"LOGNAME", &user.name), (b"SHELL", shell)]
        {
            start.set(name, value, &compiled("account"));
        }
        start.state.dir = user.home.to_vec();
        start
    }

    /// `login.defs`, else what the program has compiled in.
    pub fn definitions(&mut self, host: &Host, names: &[&[u8]], otherwise: &str, program: &str) {
        let file = read(host, b"/etc/login.defs");
        for name in names {
            if let Some(set) = settings::definitions(&file).filter(|set| set.name == *name).last() {
                let list = set.value.strip_prefix(b"PATH=").unwrap_or(set.value);
                self.set(b"PATH", list, &Place { file: "/etc/login.defs".into(), line: set.line });
                return;
            }
        }
        self.set(b"PATH", otherwise.as_bytes(), &compiled(program));
    }

    /// The variables that the login module sets for a service.
    pub fn module(&mut self, host: &Host, user: &User, service: &str) {
        for line in module_lines(host, service, "pam_env.so") {
            let option = |name: &str| line.iter().rev().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
            self.module_settings(host, user, option("conffile").unwrap_or("/etc/security/pam_env.conf"));
            if option("readenv") != Some("0") {
                self.environment(host, option("envfile").unwrap_or("/etc/environment").as_bytes());
            }
            if option("user_readenv") == Some("1") {
                let file = option("user_envfile").unwrap_or(".pam_environment");
                let file = path::join(&user.home, file.as_bytes()).to_string();
                self.module_settings(host, user, &file);
            }
        }
    }

    /// What the session manager's module tells a session that has no display (`pam_systemd(8)`).
    pub fn without_display(&mut self, host: &Host, service: &str) {
        if host.root.target(b"/etc/pam.d").is_ok() && !module_lines(host, service, "pam_systemd.so").is_empty() {
            self.set(b"XDG_SESSION_TYPE", b"tty", &compiled("pam_systemd"));
            self.set(b"XDG_SESSION_CLASS", b"user", &compiled("pam_systemd"));
        }
    }

    fn environment(&mut self, host: &Host, file: &[u8]) {
        let content = read(host, file);
        for set in settings::environment(&content) {
            self.set(set.name, set.value, &Place { file: file.into(), line: set.line });
        }
    }

    /// `VARIABLE DEFAULT=… OVERRIDE=…`, with `${…}` and `@{…}` in it; of a user's file also `NAME=value`.
    fn module_settings(&mut self, host: &Host, user: &User, file: &str) {
        let content = read(host, file.as_bytes());
        let text = String::from_utf8_lossy(&content).replace("\\\n", "  ");
        for (line, setting) in (1..).zip(text.lines()) {
            let setting = setting.trim();
            if setting.is_empty() || setting.starts_with('#') {
                continue;
            }
            let place = Place { file: file.into(), line };
            let (name, rest) = setting.split_once([' ', '\t']).unwrap_or((setting, ""));
            if let Some((name, value)) = name.split_once('=') {
                self.set(name.as_bytes(), value.trim_matches('"').as_bytes(), &place);
                continue;
            }
            let part = |key: &str| {
                let at = rest.find(&format!("{key}="))? + key.len() + 1;
                let value = &rest[at..];
                Some(match value.strip_prefix('"') {
                    Some(quoted) => quoted.split('"').next().unwrap_or_default(),
                    None => value.split_whitespace().next().unwrap_or_default(),
                })
            };
            let expand = |value: &str| self.expanded(value, user);
            let value = part("OVERRIDE").map(expand).filter(|value| !value.is_empty());
            let value = value.or_else(|| part("DEFAULT").map(expand)).unwrap_or_default();
            if value.is_empty() {
                self.state.variables.remove(name.as_bytes());
            } else {
                self.set(name.as_bytes(), value.as_bytes(), &place);
            }
        }
    }

    fn expanded(&self, value: &str, user: &User) -> String {
        let mut result = String::new();
        let mut rest = value;
        while let Some(at) = rest.find(['$', '@', '\\']) {
            result.push_str(&rest[..at]);
            let sign = &rest[at..=at];
            rest = &rest[at + 1..];
            let inner = rest.strip_prefix('{').and_then(|inner| inner.split_once('}'));
            match (sign, inner) {
                ("\\", _) => {
                    let next = rest.chars().next().map_or(0, char::len_utf8);
                    result.push_str(&rest[..next]);
                    rest = &rest[next..];
                }
                ("$", Some((name, after))) => {
                    result.push_str(&String::from_utf8_lossy(self.state.get(name.as_bytes()).unwrap_or_default()));
                    rest = after;
                }
                ("@", Some((name, after))) => {
                    match name {
                        "HOME" => result.push_str(&user.home.to_string()),
                        "SHELL" => result.push_str(&user.shell.to_string()),
                        "PAM_USER" => result.push_str(&user.name.to_string()),
                        _ => {}
                    }
                    rest = after;
                }
                (sign, _) => result.push_str(sign),
            }
        }
        result + rest
    }

    /// `NAME=value` as somebody said it instead of what is derived.
    pub fn inherit(&mut self, given: &[(ByteString, ByteString)]) {
        for (name, value) in given {
            self.set(name, value, &compiled("--inherit"));
        }
    }

    /// Only what programs get.
    pub fn exported(state: &State, unknowns: Vec<Unknown>, takes_functions: bool) -> Self {
        let is_text = |variable: &Variable| matches!(variable.value, Value::Text(_));
        let variables = state.variables.iter().filter(|(_, variable)| variable.exported && is_text(variable));
        let variables: BTreeMap<Vec<u8>, Variable> = variables
            .map(|(name, variable)| (name.clone(), Variable { unique: false, unique_list: false, ..variable.clone() }))
            .collect();
        let functions = state.functions.iter().filter(|(_, function)| function.exported && takes_functions);
        let functions = functions.map(|(name, function)| (name.clone(), function.clone())).collect();
        let state = State { variables, functions, dir: state.dir.clone(), ..State::default() };
        Start { state, unknowns }
    }
}

/// The options of each line of a service that has a module; those of the one that sets variables, which are common,
/// where a tree has no services at all.
fn module_lines(host: &Host, service: &str, module: &str) -> Vec<Vec<String>> {
    let dir = b"/etc/pam.d";
    if host.root.target(dir).is_err() && host.root.target(b"/usr/lib/pam.d").is_err() {
        return vec![Vec::new(), vec!["envfile=/etc/default/locale".to_owned()]];
    }
    let mut lines = Vec::new();
    let mut awaited = vec![service.to_owned()];
    let mut seen = Vec::new();
    while let Some(service) = awaited.pop() {
        if seen.contains(&service) || seen.len() > 30 {
            continue;
        }
        let mut content = read(host, &path::join(dir, service.as_bytes()));
        if content.is_empty() {
            content = read(host, &path::join(b"/usr/lib/pam.d", service.as_bytes()));
        }
        for line in String::from_utf8_lossy(&content).lines() {
            let line = line.split('#').next().unwrap_or_default();
            // A control in brackets counts as one word.
            let line = line.replace(['[', ']'], " ");
            let words: Vec<&str> = line.split_whitespace().collect();
            if let ["@include", other] = words[..] {
                awaited.insert(0, other.to_owned());
            } else if let Some(at) = words.iter().position(|word| matches!(*word, "include" | "substack")) {
                awaited.extend(words.get(at + 1).map(|other| (*other).to_owned()));
            } else if let Some(at) = words.iter().position(|word| path::name(word.as_bytes()) == module.as_bytes()) {
                lines.push(words[at + 1..].iter().map(|word| (*word).to_owned()).collect());
            }
        }
        seen.push(service);
    }
    lines.dedup();
    lines
}
