//! pip, pipx, uv and Python's own libraries as judges, on wheels that are made here.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde_json::Value;
use whodunit_core::version::pep440;

use super::quay::{HOME, Quay};
use super::support::{as_input, generated_pairs, has, output, text};

/// Makes wheels: NAME VERSION SCRIPTS REQUIREMENTS, a line each.
const WHEELS: &str = r#"
import base64, hashlib, sys, zipfile
for line in sys.stdin:
    name, version, scripts, needs = (line.rstrip("\n").split("\t") + ["", ""])[:4]
    module = name.replace("-", "_").lower()
    info = f"{name.replace('-', '_')}-{version}.dist-info"
    files = {f"{module}/__init__.py": f"def main():\n    print('{name} {version}')\n"}
    files[f"{info}/METADATA"] = f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n" + "".join(f"Requires-Dist: {n}\n" for n in needs.split()) + "\nAbout\n"
    files[f"{info}/WHEEL"] = "Wheel-Version: 1.0\nGenerator: quay\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    if scripts:
        files[f"{info}/entry_points.txt"] = "[console_scripts]\n" + "".join(f"{s} = {module}:main\n" for s in scripts.split())
    digest = lambda text: "sha256=" + base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).rstrip(b"=").decode()
    record = "".join(f"{path},{digest(text)},{len(text)}\n" for path, text in files.items())
    files[f"{info}/RECORD"] = record + f"{info}/RECORD,,\n"
    with zipfile.ZipFile(f"{name.replace('-', '_')}-{version}-py3-none-any.whl", "w") as wheel:
        for path, text in files.items():
            wheel.writestr(path, text)
"#;

const SHELF: &str = "Swell_Plot\t1.9.0\tswellplot swell-view\tmooring>=0.4\n\
    Swell_Plot\t1.6\tswellplot\t\nmooring\t0.4.post1\tmoor\t\ntide-lamp\t2.0rc1\t\t\n";

fn shelf() -> Option<Quay> {
    let quay = Quay::new(&["/usr/bin/python3"])?;
    quay.write("shelf/make.py", WHEELS);
    quay.write("shelf/list", SHELF);
    quay.sh("cd shelf; /usr/bin/python3 make.py < list");
    Some(quay)
}

/// The packages of one scope, by name.
fn of_scope(quay: &Quay, manager: &str, scope: &str) -> BTreeMap<String, Value> {
    let document = quay.ask(&["inventory", "--all", "--manager", manager, "--scope", scope]);
    let packages = document["packages"].as_array().unwrap().iter();
    packages.map(|one| (text(&one["name"]), one.clone())).collect()
}

#[test]
fn every_environment_is_read_as_pip_reads_it() {
    let Some(quay) = shelf() else { return };
    quay.sh(
        "/usr/bin/python3 -m venv work/deep/lab
         work/deep/lab/bin/pip -q install --no-index --find-links shelf Swell_Plot tide-lamp==2.0rc1
         mkdir -p src/knots; printf 'def main(): pass\n' > src/knots/knots.py
         printf '[build-system]\nrequires = [\"setuptools\"]\nbuild-backend = \"setuptools.build_meta\"\n[project]\nname = \"knots\"\nversion = \"0.2\"\n[project.scripts]\nknot = \"knots:main\"\n' > src/knots/pyproject.toml
         work/deep/lab/bin/pip -q install -e src/knots
         work/deep/lab/bin/pip -q install --no-index shelf/mooring-0.4.post1-py3-none-any.whl --force-reinstall
         /usr/bin/python3 -m venv --without-pip bare
         /usr/bin/python3 -m pip -q install --user --break-system-packages --no-index --find-links shelf Swell_Plot==1.6",
    );
    let scope = format!("environment:{HOME}/work/deep/lab");
    let ours = of_scope(&quay, "pip", &scope);
    let theirs: Value = serde_json::from_str(&quay.sh("work/deep/lab/bin/pip inspect --local")).unwrap();
    let installed = theirs["installed"].as_array().unwrap();
    let names: BTreeSet<String> = installed.iter().map(|one| text(&one["metadata"]["name"])).collect();
    assert_eq!(ours.keys().cloned().collect::<BTreeSet<_>>(), names);
    for one in installed {
        let name = text(&one["metadata"]["name"]);
        let read = &ours[&name];
        assert_eq!(text(&read["version"]), text(&one["metadata"]["version"]), "{name}");
        let asked = if one["requested"] == true { "explicit" } else { "dependency" };
        assert_eq!(text(&read["reason"]), asked, "{name}");
        let direct = &one["direct_url"]["url"];
        assert_eq!(read["origin"]["url"], *direct, "{name}");
        let by = read["evidence"].as_array().unwrap().iter().find(|line| text(&line["file"]).ends_with("/INSTALLER"));
        assert_eq!(by.map(|line| text(&line["says"])).unwrap_or_default(), text(&one["installer"]), "{name}");
    }
    assert_eq!(text(&ours["knots"]["origin"]["name"]), "editable");
    assert_eq!(text(&ours["tide-lamp"]["origin"]["kind"]), "index");
    assert!(of_scope(&quay, "pip", &format!("environment:{HOME}/bare")).is_empty());

    let user = of_scope(&quay, "pip", "user:maren");
    let listed: Value = serde_json::from_str(&quay.sh("/usr/bin/python3 -m pip list --user --format json")).unwrap();
    let listed: BTreeMap<String, String> =
        listed.as_array().unwrap().iter().map(|one| (text(&one["name"]), text(&one["version"]))).collect();
    assert_eq!(
        user.iter().map(|(name, one)| (name.clone(), text(&one["version"]))).collect::<BTreeMap<_, _>>(),
        listed
    );

    // What dpkg put into the system's directory is dpkg's: pip lists it, and it is in no installation of pip's.
    assert!(of_scope(&quay, "pip", "system").is_empty(), "{:?}", of_scope(&quay, "pip", "system"));

    // Every script that an environment has is its distribution's, by the record that pip shows.
    let scripts = quay.sh("ls work/deep/lab/bin");
    let scripts: Vec<String> = scripts.lines().map(|name| format!("{HOME}/work/deep/lab/bin/{name}")).collect();
    let answers = quay.owners(&scripts.iter().map(String::as_str).collect::<Vec<_>>());
    let mut checked = 0;
    for one in installed {
        let name = text(&one["metadata"]["name"]);
        let shown = quay.sh(&format!("work/deep/lab/bin/pip show -f {name}"));
        for file in shown.lines().filter_map(|line| line.trim().strip_prefix("../../../bin/")) {
            let answer =
                answers.iter().find(|answer| text(&answer["target"]).ends_with(&format!("/bin/{file}"))).unwrap();
            assert_eq!(
                (text(&answer["verdict"]), text(&answer["owner"]["name"])),
                ("owned".to_owned(), name.clone()),
                "{file}"
            );
            checked += 1;
        }
    }
    assert!(checked >= 5, "{checked}");
}

#[test]
fn applications_of_pipx_and_uv_are_their_managers() {
    if !has(&["pipx", "uv"]) {
        return;
    }
    let Some(quay) = shelf() else { return };
    quay.sh(
        "pipx install --quiet --python /usr/bin/python3 --pip-args='--no-index --find-links shelf' shelf/Swell_Plot-1.9.0-py3-none-any.whl >/dev/null 2>&1
         pipx install --quiet --suffix=_old --python /usr/bin/python3 --pip-args='--no-index' shelf/Swell_Plot-1.6-py3-none-any.whl >/dev/null 2>&1
         uv tool install --quiet --no-index --find-links shelf --python /usr/bin/python3 mooring
         uv venv --quiet --python /usr/bin/python3 lab
         uv pip install --quiet --python lab --no-index --find-links shelf Swell_Plot",
    );
    let listed: Value = serde_json::from_str(&quay.sh("pipx list --json")).unwrap();
    let venvs = listed["venvs"].as_object().unwrap();
    let main = |venv: &Value| venv["metadata"]["main_package"].clone();
    let mut theirs: Vec<(String, String, String)> = venvs
        .values()
        .map(|venv| ("user:maren".to_owned(), text(&main(venv)["package"]), text(&main(venv)["package_version"])))
        .collect();
    theirs.sort();
    let mut ours = quay.packages("pipx");
    for (theirs, ours) in theirs.iter_mut().zip(&mut ours) {
        // pipx notes the name as it was asked for.
        assert_eq!(pep440::normal_name(theirs.1.as_bytes()), pep440::normal_name(ours.1.as_bytes()));
        theirs.1.clone_from(&ours.1);
    }
    assert_eq!(ours, theirs);
    for (name, venv) in venvs {
        for app in main(venv)["app_paths"].as_array().unwrap() {
            let app = text(&app["__Path__"]);
            let suffix = text(&main(venv)["suffix"]);
            let link = format!("{HOME}/.local/bin/{}{suffix}", app.rsplit('/').next().unwrap());
            let answer = quay.owners(&[&link]).remove(0);
            assert_eq!(text(&answer["hops"][0]["owner"]), format!("pipx/user:maren/{name}"), "{answer:#}");
            assert_eq!(text(&answer["hops"][0]["to"]), app);
            assert_eq!(text(&answer["owner"]["id"]), format!("pipx/user:maren/{name}"));
            assert_eq!(text(&answer["remedies"][0]["command"]), format!("pipx uninstall {name}"));
        }
    }
    // A library beside the application is a package of that environment.
    let library = format!("{HOME}/.local/share/pipx/venvs/swell-plot/bin/moor");
    let answer = quay.owners(&[&library]).remove(0);
    let scope = format!("environment:{HOME}/.local/share/pipx/venvs/swell-plot");
    assert_eq!((text(&answer["owner"]["scope"]), text(&answer["owner"]["name"])), (scope, "mooring".into()));

    let tools = quay.sh("uv tool list --show-paths");
    let ours = quay.packages("uv");
    assert!(tools.contains("mooring v0.4.post1"), "{tools}");
    assert!(ours.contains(&("user:maren".into(), "mooring".into(), "0.4.post1".into())), "{ours:?}");
    let answer = quay.owners(&[&format!("{HOME}/.local/bin/moor")]).remove(0);
    assert_eq!(text(&answer["hops"][0]["owner"]), "uv/user:maren/mooring");
    assert_eq!(text(&answer["owner"]["id"]), "uv/user:maren/mooring");
    let scope = format!("environment:{HOME}/lab");
    let listed: Value = serde_json::from_str(&quay.sh("uv pip list --quiet --python lab --format json")).unwrap();
    let read = of_scope(&quay, "uv", &scope);
    let listed: BTreeMap<String, String> =
        listed.as_array().unwrap().iter().map(|one| (text(&one["name"]), text(&one["version"]))).collect();
    let read: BTreeMap<String, String> =
        read.iter().map(|(name, one)| (name.to_lowercase().replace('_', "-"), text(&one["version"]))).collect();
    assert_eq!(read, listed);
}

/// What a user put beside an application is told as asked for, and goes alone by the command that is printed.
#[test]
fn what_was_put_beside_an_application_was_asked_for() {
    if !has(&["pipx", "uv"]) {
        return;
    }
    let Some(quay) = shelf() else { return };
    quay.sh(
        "pipx install --quiet --python /usr/bin/python3 --pip-args='--no-index --find-links shelf' shelf/Swell_Plot-1.9.0-py3-none-any.whl >/dev/null 2>&1
         pipx inject --quiet --pip-args='--no-index --find-links shelf --pre' swell-plot tide-lamp >/dev/null 2>&1
         uv tool install --quiet --no-index --find-links shelf --prerelease allow --python /usr/bin/python3 --with tide-lamp mooring",
    );
    let told = quay.ask(&["why", "tide-lamp"]);
    for (place, says) in
        [("pipx/venvs/swell-plot", "was put beside swell-plot"), ("uv/tools/mooring", "was put beside mooring")]
    {
        let scope = format!("environment:{HOME}/.local/share/{place}");
        let explained = told["packages"].as_array().unwrap().iter().find(|one| one["scope"] == scope.as_str());
        let explained = explained.unwrap_or_else(|| panic!("{scope}: {told:#}"));
        assert_eq!(explained["reason"], "explicit", "{told:#}");
        let chain = told["chains"].as_array().unwrap().iter().find(|one| one["id"] == explained["id"]).unwrap();
        assert!(chain["chain"][0]["evidence"].to_string().contains(says), "{told:#}");
    }
    let library = format!("{HOME}/.local/share/pipx/venvs/swell-plot/lib");
    let found = quay.sh(&format!("find {library} -path '*/tide_lamp/__init__.py'"));
    let answer = quay.owners(&[found.trim()]).remove(0);
    let remedies = answer["remedies"].as_array().unwrap();
    let remove = remedies.iter().find(|one| one["kind"] == "remove").unwrap_or_else(|| panic!("{answer:#}"));
    assert_eq!(text(&remove["command"]), "pipx uninject swell-plot tide-lamp");
    quay.sh(&format!("{} >/dev/null 2>&1", text(&remove["command"])));
    assert_eq!(quay.sh(&format!("find {library} -path '*/tide_lamp/__init__.py'")), "");
    assert_ne!(quay.sh(&format!("find {library} -path '*/swell_plot/__init__.py'")), "", "the application stays");
}

/// Programs that cannot start any more, each as a user breaks it, and what the shell says of it.
#[test]
fn what_has_lost_its_base_is_said() {
    let Some(quay) = shelf() else { return };
    quay.sh("/usr/bin/python3 -m venv lab; lab/bin/pip -q install --no-index --find-links shelf mooring
         mkdir -p .local/bin; ln -s ../../lab/bin/moor .local/bin/moor
         cp -a lab moved; ln -s ../../moved/bin/moor .local/bin/moor-moved
         mkdir base; cp -L /usr/bin/python3 base/python3.11; ln -s python3.11 base/python3");
    let kinds = |target: &str| -> Vec<String> {
        let answer = quay.owners(&[&format!("{HOME}/.local/bin/{target}")]).remove(0);
        answer["findings"].as_array().unwrap().iter().map(|found| text(&found["kind"])).collect()
    };
    assert_eq!((kinds("moor"), kinds("moor-moved")), (vec![], vec![]));
    // The interpreter of the environment is another version than it was.
    quay.sh("rm lab/bin/python3; ln -s /usr/bin/python3.99 lab/bin/python3; ! .local/bin/moor 2>/dev/null");
    assert_eq!(kinds("moor"), ["broken-interpreter", "stale-base"]);
    quay.sh("mv lab/lib/python3* lab/lib/python3.7; rm lab/bin/python3; ln -s /usr/bin/python3 lab/bin/python3; ! .local/bin/moor 2>/dev/null");
    assert_eq!(kinds("moor"), ["stale-base"]);
    quay.sh("rm -r lab; ! .local/bin/moor 2>/dev/null");
    assert_eq!(kinds("moor"), ["dangling-link"]);
    // A copied environment's scripts still name the first one.
    assert_eq!(kinds("moor-moved"), ["broken-interpreter"]);
}

#[test]
fn versions_are_ordered_as_packaging_orders_them() {
    if !has(&["/usr/bin/python3"]) {
        return;
    }
    let packaging = "import sys\ntry:\n    from packaging.version import Version, InvalidVersion\nexcept ImportError:\n    from pip._vendor.packaging.version import Version, InvalidVersion\nfor line in sys.stdin:\n    a, b = line.rstrip('\\n').split('\\t')\n    try:\n        a, b = Version(a), Version(b)\n        print('<' if a < b else '>' if a > b else '=')\n    except InvalidVersion:\n        print('?')\n";
    let pieces = [
        "0", "1", "10", ".0", ".1", "a1", "b2", "rc1", ".post1", "-1", ".dev3", "+l.1", "+2", "_rc", "c", "1!", "v",
        ".00",
    ];
    let pairs = pairs_of(&pieces, 6000);
    let list: String = pairs.iter().map(|(a, b)| format!("{a}\t{b}\n")).collect();
    let said = output(Command::new("/usr/bin/python3").args(["-c", packaging]).stdin(as_input(&list)));
    let said = String::from_utf8(said).unwrap();
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said.lines()).filter(|(_, theirs)| *theirs != "?") {
        let ours = match pep440::compare(a.as_bytes(), b.as_bytes()) {
            std::cmp::Ordering::Less => "<",
            std::cmp::Ordering::Equal => "=",
            std::cmp::Ordering::Greater => ">",
        };
        assert_eq!(ours, theirs, "{a} {b}");
        compared += 1;
    }
    assert!(compared >= 2000, "{compared}");
}

/// Pairs made of the pieces that decide; half of them begin alike.
pub fn pairs_of(pieces: &[&str], count: usize) -> Vec<(String, String)> {
    let numbers = generated_pairs(count, &["1."]);
    let mut state = 88_172_645_463_325_252_u64;
    let mut next = move |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        usize::try_from(state % below as u64).unwrap()
    };
    let mut tail = |text: String| -> String {
        let more = next(4);
        (0..more).fold(text, |text, _| text + pieces[next(pieces.len())])
    };
    let start = |text: &str| text.chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect::<String>();
    numbers
        .iter()
        .map(|(a, b)| {
            let a = start(a).trim_end_matches('.').to_owned();
            let b = if b.len() % 2 == 0 { a.clone() } else { start(b).trim_end_matches('.').to_owned() };
            (tail(a), tail(b))
        })
        .collect()
}
