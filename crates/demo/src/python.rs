//! What Python's managers installed: a library that was forced over the distribution's, one of maren's own that
//! masks another, and two applications in environments of their own.

use base64::Engine as _;
use sha2::Digest as _;

use crate::WriteError;
use crate::deb::{Content, Deb};
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;
const DIST: &str = "/usr/lib/python3/dist-packages";
const USER: &str = "/home/maren/.local/lib/python3.11/site-packages";
const PIPX: &str = "/home/maren/.local/share/pipx/venvs/swellplot";
const UV: &str = "/home/maren/.local/share/uv/tools/tidegauge";

/// The distribution's interpreter, two of its libraries, and two programs that are written in it.
pub fn packages() -> Vec<Deb> {
    let data = |text: &str| Content::Data(text.as_bytes().to_vec());
    let script = |module: &str| Content::Program(start("/usr/bin/python3", module).into_bytes());
    let info = |name: &str, version: &str| data(&format!("Metadata-Version: 1.0\nName: {name}\nVersion: {version}\n"));
    let marker = "[externally-managed]\nError=Packages of this interpreter come from the distribution.\n";
    let mut python = Deb::new("python3.11", "3.11.2-6", "runs programs that are written in Python", SET_UP)
        .with("/usr/bin/python3.11", Content::Program(crate::binary::packaged("python3.11", "3.11.2-6")))
        .with("/usr/bin/python3", Content::Link("python3.11".to_owned()))
        .with("/usr/lib/python3.11/EXTERNALLY-MANAGED", data(marker));
    let pip = Deb::new("python3-pip", "23.0.1+dfsg-1", "installs packages of Python", SET_UP + 8 * DAY)
        .with("/usr/lib/python3/dist-packages/pip/__init__.py", Content::Data(b"__version__ = '23.0.1'\n".to_vec()))
        .with(
            "/usr/lib/python3/dist-packages/pip-23.0.1.dist-info/METADATA",
            Content::Data(b"Metadata-Version: 2.1\nName: pip\nVersion: 23.0.1\n".to_vec()),
        )
        .with("/usr/lib/python3/dist-packages/pip-23.0.1.dist-info/INSTALLER", Content::Data(b"debian\n".to_vec()));
    let mut mooring = Deb::new("python3-mooring", "0.6-1", "which line goes where", SET_UP + 8 * DAY)
        .with(&format!("{DIST}/mooring/__init__.py"), data("LINES = 4\n"))
        .with(&format!("{DIST}/mooring-0.6.egg-info"), info("mooring", "0.6"));
    let mut knots = Deb::new("python3-knots", "1.2-1", "knots and what they hold", SET_UP + 8 * DAY)
        .with(&format!("{DIST}/knots/__init__.py"), data("STRENGTH = 0.6\n"))
        .with(&format!("{DIST}/knots/bends.py"), data("SHEET = 2\n"))
        .with(&format!("{DIST}/knots-1.2.egg-info/PKG-INFO"), info("knots", "1.2"));
    for deb in [&mut python, &mut mooring, &mut knots] {
        deb.automatic = true;
    }
    let mut berthplan = Deb::new("berthplan", "1.4-1", "which ship lies where", SET_UP + 8 * DAY)
        .with("/usr/bin/berthplan", script("mooring"))
        .with(&format!("{DIST}/berthplan-1.4.egg-info/PKG-INFO"), info("berthplan", "1.4"))
        .with(&format!("{DIST}/berthplan-1.4.egg-info/requires.txt"), data("mooring<0.8\n"))
        .with_papers("berthplan");
    let mut swellplot = Deb::new("swellplot", "1.6-2", "draws the swell", SET_UP + 8 * DAY)
        .with("/usr/bin/swellplot", script("swellplot"))
        .with(&format!("{DIST}/swellplot/__init__.py"), data("def main():\n    return 0\n"))
        .with(&format!("{DIST}/swellplot-1.6.egg-info"), info("swellplot", "1.6"))
        .with_papers("swellplot");
    berthplan.depends = "python3-mooring, python3.11 (>= 3.11)";
    swellplot.depends = "python3.11 (>= 3.11)";
    vec![python, pip, mooring, knots, berthplan, swellplot]
}

fn start(python: &str, module: &str) -> String {
    format!("#!{python}\nfrom {module} import main\nraise SystemExit(main())\n")
}

/// A distribution as an installer writes it.
struct Wheel<'a> {
    name: &'a str,
    version: &'a str,
    needs: &'a str,
    installer: &'a str,
    requested: bool,
    date: i64,
    /// Paths in the directory of modules, and their content.
    files: Vec<(String, String)>,
    /// A command, and the interpreter that it names.
    command: Option<(&'a str, String)>,
}

impl Wheel<'_> {
    /// Writes it into a directory of modules, whose scripts lie three directories up, in `bin`.
    fn write(&self, tree: &Tree, dir: &str) -> Result<(), WriteError> {
        let info = format!("{}-{}.dist-info", self.name, self.version);
        let needs = if self.needs.is_empty() { String::new() } else { format!("Requires-Dist: {}\n", self.needs) };
        let metadata = format!("Metadata-Version: 2.1\nName: {}\nVersion: {}\n{needs}", self.name, self.version);
        let mut files: Vec<(String, String, u32)> =
            self.files.iter().map(|(path, content)| (path.clone(), content.clone(), 0o644)).collect();
        files.push((format!("{info}/METADATA"), metadata, 0o644));
        files.push((format!("{info}/INSTALLER"), self.installer.to_owned(), 0o644));
        files.push((
            format!("{info}/WHEEL"),
            "Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: py3-none-any\n".to_owned(),
            0o644,
        ));
        if self.requested {
            files.push((format!("{info}/REQUESTED"), String::new(), 0o644));
        }
        if let Some((command, python)) = &self.command {
            files.push((
                format!("{info}/entry_points.txt"),
                format!("[console_scripts]\n{command} = {}:main\n", self.name),
                0o644,
            ));
            files.push((format!("../../../bin/{command}"), start(python, self.name), 0o755));
        }
        let mut record = String::new();
        for (path, content, mode) in &files {
            let digest = base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(sha2::Sha256::digest(content));
            record += &format!("{path},sha256={digest},{}\n", content.len());
            let place = match path.strip_prefix("../../../") {
                Some(below) => format!("{}/{below}", dir.rsplitn(4, '/').last().unwrap_or_default()),
                None => format!("{dir}/{path}"),
            };
            tree.file(&place, content.as_bytes(), *mode, self.date)?;
        }
        record += &format!("{info}/RECORD,,\n");
        tree.file(&format!("{dir}/{info}/RECORD"), record.as_bytes(), 0o644, self.date)?;
        tree.date(&format!("{dir}/{info}"), self.date)
    }
}

fn module(name: &str, text: &str) -> Vec<(String, String)> {
    vec![(format!("{name}/__init__.py"), text.to_owned())]
}

/// Everything that no distribution package brings.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    forced_over(tree)?;
    let mooring = Wheel {
        name: "mooring",
        version: "0.9.0",
        needs: "",
        installer: "pip\n",
        requested: true,
        date: SET_UP + 33 * DAY,
        files: module("mooring", "LINES = 6\n"),
        command: None,
    };
    mooring.write(tree, USER)?;
    swellplot(tree)?;
    tidegauge(tree)
}

/// As root, past the marker and into the distribution's own directory.
fn forced_over(tree: &Tree) -> Result<(), WriteError> {
    let mut files = module("knots", "STRENGTH = 0.8\n");
    files.push(("knots/hitches.py".to_owned(), "CLOVE = 1\n".to_owned()));
    let knots = Wheel {
        name: "knots",
        version: "2.0.0",
        needs: "",
        installer: "pip\n",
        requested: true,
        date: SET_UP + 30 * DAY,
        files,
        command: None,
    };
    knots.write(tree, DIST)
}

fn environment(tree: &Tree, place: &str, settings: &str, date: i64) -> Result<(), WriteError> {
    tree.file(&format!("{place}/pyvenv.cfg"), settings.as_bytes(), 0o644, date)?;
    tree.link(&format!("{place}/bin/python"), "python3")?;
    tree.link(&format!("{place}/bin/python3"), "/usr/bin/python3")
}

/// So many environments in maren's home, with so many distributions each.
pub fn write_many(tree: &Tree, environments: u32, distributions: u32) -> Result<(), WriteError> {
    let says = "Which rope, which ship, which berth, and for how long it will hold in which wind.\n";
    for environment in 0..environments {
        let place = format!("/home/maren/work/voyage-{environment:03}/venv");
        self::environment(tree, &place, "home = /usr/bin\nversion = 3.11.2\n", SET_UP)?;
        for number in 0..distributions {
            let (name, command) = (format!("rope_{number:02}"), format!("rope-{number:02}"));
            let version = format!("1.{}.{}", number % 7, environment % 5);
            let files = (0..80).map(|part| (format!("{name}/part_{part:02}.py"), format!("PART = {part}\n")));
            let wheel = Wheel {
                name: &name,
                version: &version,
                needs: &says.repeat(40).replace('\n', "\n        "),
                installer: "pip\n",
                requested: number % 6 == 0,
                date: SET_UP,
                files: if environment == 0 { files.collect() } else { files.take(1).collect() },
                command: (number % 4 == 0).then(|| (command.as_str(), format!("{place}/bin/python"))),
            };
            wheel.write(tree, &format!("{place}/lib/python3.11/site-packages"))?;
        }
    }
    Ok(())
}

fn swellplot(tree: &Tree) -> Result<(), WriteError> {
    let date = SET_UP + 34 * DAY;
    let settings =
        "home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.11.2\nexecutable = /usr/bin/python3.11\n";
    environment(tree, PIPX, settings, date)?;
    let site = format!("{PIPX}/lib/python3.11/site-packages");
    let swellplot = Wheel {
        name: "swellplot",
        version: "1.9.0",
        needs: "fairlead>=0.3",
        installer: "pip\n",
        requested: true,
        date,
        files: module("swellplot", "def main():\n    return 0\n"),
        command: Some(("swellplot", format!("{PIPX}/bin/python"))),
    };
    swellplot.write(tree, &site)?;
    let fairlead = Wheel {
        name: "fairlead",
        version: "0.3.2",
        needs: "",
        installer: "pip\n",
        requested: false,
        date,
        files: module("fairlead", "WIDTH = 3\n"),
        command: None,
    };
    fairlead.write(tree, &site)?;
    let metadata = format!(
        r#"{{
    "injected_packages": {{}},
    "main_package": {{
        "app_paths": [{{"__Path__": "{PIPX}/bin/swellplot", "__type__": "Path"}}],
        "apps": ["swellplot"],
        "include_dependencies": false,
        "package": "swellplot",
        "package_or_url": "swellplot",
        "package_version": "1.9.0",
        "pinned": false,
        "suffix": ""
    }},
    "pipx_metadata_version": "0.5",
    "python_version": "Python 3.11.2"
}}
"#
    );
    tree.file(&format!("{PIPX}/pipx_metadata.json"), metadata.as_bytes(), 0o644, date)?;
    tree.link("home/maren/.local/bin/swellplot", &format!("{PIPX}/bin/swellplot"))
}

/// The newest of the gauge's four copies.
fn tidegauge(tree: &Tree) -> Result<(), WriteError> {
    let date = SET_UP + 41 * DAY;
    let settings = "home = /usr/bin\nimplementation = CPython\nuv = 0.5.11\nversion_info = 3.11.2\ninclude-system-site-packages = false\n";
    environment(tree, UV, settings, date)?;
    let tidegauge = Wheel {
        name: "tidegauge",
        version: "3.3.0rc1",
        needs: "",
        installer: "uv",
        requested: true,
        date,
        files: module("tidegauge", "def main():\n    return 0\n"),
        command: Some(("tidegauge", format!("{UV}/bin/python"))),
    };
    tidegauge.write(tree, &format!("{UV}/lib/python3.11/site-packages"))?;
    let receipt = "[tool]\nrequirements = [{ name = \"tidegauge\", specifier = \">=3.3.0rc1\" }]\nentrypoints = [\n    { name = \"tidegauge\", install-path = \"/home/maren/.local/bin/tidegauge\" },\n]\n";
    tree.file(&format!("{UV}/uv-receipt.toml"), receipt.as_bytes(), 0o644, date)?;
    tree.link("home/maren/.local/bin/tidegauge", &format!("{UV}/bin/tidegauge"))
}
