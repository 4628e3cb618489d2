//! deno, bun, Composer, LuaRocks, opam, R, mix and Perl's own libraries as judges, on packages that are made here; and the commands
//! that remove them, run as they are printed.

use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value;
use whodunit_core::version::{luarocks, perl, r};

use super::quay::{HOME, Quay};
use super::real_python::pairs_of;
use super::support::{as_input, has, not_compared, output, text};

/// A command of the whole of Perl: every Debian has a part of it, without its libraries.
const PERL: &str = "prove";

/// What one manager has, by name.
fn versions(quay: &Quay, manager: &str) -> BTreeMap<String, String> {
    quay.packages(manager).into_iter().map(|(_, name, version)| (name, version)).collect()
}

/// The owner of what finally runs, and the hops that lead there.
fn owner(quay: &Quay, path: &str) -> (String, usize) {
    let answer = quay.owners(&[path]).remove(0);
    (text(&answer["owner"]["id"]), answer["hops"].as_array().map_or(0, Vec::len))
}

/// Runs the command that removes a package, as it is printed.
fn remove(quay: &Quay, package: &str) {
    follow(quay, package, "remove");
}

/// Runs a command of a package, as it is printed.
fn follow(quay: &Quay, package: &str, kind: &str) {
    let answer = quay.owners(&[&format!("package:{package}")]).remove(0);
    let remedies = answer["remedies"].as_array().unwrap();
    let way = remedies.iter().find(|one| one["kind"] == kind).unwrap_or_else(|| panic!("{answer:#}"));
    // Her account has root's number here, which Composer asks about.
    quay.sh(&format!("export COMPOSER_ALLOW_SUPERUSER=1; {} </dev/null >/dev/null 2>&1", text(&way["command"])));
}

#[test]
fn programs_of_deno_are_those_that_it_installed() {
    if !has(&["deno"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    quay.write("src/tide gauge.ts", "console.log('tide');\n");
    quay.write("src/lamp.ts", "console.log('lamp');\n");
    quay.sh("export DENO_NO_UPDATE_CHECK=1
         deno install --quiet --global --allow-read --name tide 'src/tide gauge.ts' 2>/dev/null
         deno install --quiet --global --name lamp src/lamp.ts 2>/dev/null
         printf '#!/bin/sh\\nexec deno run /x.ts\\n' > .deno/bin/own; chmod +x .deno/bin/own");
    assert_eq!(versions(&quay, "deno").into_keys().collect::<Vec<_>>(), ["lamp", "tide"]);
    let answer = quay.owners(&[&format!("{HOME}/.deno/bin/tide")]).remove(0);
    assert_eq!(text(&answer["owner"]["id"]), "deno/user:maren/tide", "{answer:#}");
    let says = format!("starts file://{HOME}/src/tide%20gauge.ts");
    assert!(answer["evidence"].to_string().contains(&says), "{answer:#}");
    assert_eq!(quay.owners(&[&format!("{HOME}/.deno/bin/own")]).remove(0)["verdict"], "unowned");
    remove(&quay, "tide");
    assert_eq!(quay.sh("ls -A .deno/bin | grep -c tide || true").trim(), "0");
    assert_eq!(versions(&quay, "deno").into_keys().collect::<Vec<_>>(), ["lamp"]);
}

#[test]
fn global_packages_are_read_as_bun_lists_them() {
    if !has(&["bun", "npm"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    for (dir, file) in [
        ("rope", r#"{"name":"rope","version":"0.2.0"}"#),
        (
            "gauge",
            r#"{"name":"@quay/gauge","version":"1.2.3","bin":{"gauge":"cli.js"},"dependencies":{"rope":"file:/home/maren/src/rope/rope-0.2.0.tgz"}}"#,
        ),
        ("lamp", r#"{"name":"lamp","version":"2.0.0-rc.1","bin":"cli.js"}"#),
    ] {
        quay.write(&format!("src/{dir}/package.json"), file);
        quay.write(&format!("src/{dir}/cli.js"), "#!/usr/bin/env node\nconsole.log(1)\n");
        quay.sh(&format!("cd src/{dir}; npm pack --silent >/dev/null"));
    }
    quay.sh("bun add --global --silent $HOME/src/gauge/*.tgz $HOME/src/lamp/*.tgz 2>/dev/null");
    let listed = quay.sh("bun pm ls --global");
    let theirs: Vec<&str> = listed.lines().filter_map(|line| line.split("── ").nth(1)).collect();
    let document = quay.ask(&["inventory", "--all", "--manager", "bun"]);
    let packages = document["packages"].as_array().unwrap();
    let mut asked: Vec<String> =
        packages.iter().filter(|one| one["reason"] == "explicit").map(|one| text(&one["name"])).collect();
    asked.sort();
    assert_eq!(asked, ["@quay/gauge", "lamp"]);
    assert!(asked.iter().all(|name| theirs.iter().any(|line| line.starts_with(&format!("{name}@")))), "{theirs:?}");
    assert_eq!(versions(&quay, "bun")["lamp"], "2.0.0-rc.1");
    assert_eq!(owner(&quay, &format!("{HOME}/.bun/bin/gauge")).0, "bun/user:maren/@quay/gauge");
    remove(&quay, "lamp");
    assert_eq!(quay.sh("ls .bun/bin"), "gauge\n");
    assert!(!versions(&quay, "bun").contains_key("lamp"));
}

#[test]
fn global_packages_are_read_as_composer_shows_them() {
    if !has(&["composer", "php"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    for (dir, more) in [("gauge", r#","bin":["bin/gauge"],"require":{"php":">=7","quay/rope":"*"}"#), ("rope", "")] {
        let file = format!(r#"{{"name":"quay/{dir}","version":"1.2.{}","license":"MIT"{more}}}"#, dir.len());
        quay.write(&format!("src/{dir}/composer.json"), &file);
    }
    quay.write("src/gauge/bin/gauge", "#!/usr/bin/env php\n<?php echo 1;\n");
    let composer = "export COMPOSER_ALLOW_SUPERUSER=1; composer global --quiet --no-interaction";
    for settings in ["gauge path $HOME/src/gauge", "rope path $HOME/src/rope", "packagist.org false"] {
        quay.sh(&format!("{composer} config repositories.{settings}"));
    }
    quay.sh(&format!("{composer} require quay/gauge 2>&1"));
    let shown = "export COMPOSER_ALLOW_SUPERUSER=1; composer global show --format=json 2>/dev/null";
    let listed: Value = serde_json::from_str(&quay.sh(shown)).unwrap();
    let listed = listed["installed"].as_array().unwrap().iter();
    let theirs: BTreeMap<String, String> = listed.map(|one| (text(&one["name"]), text(&one["version"]))).collect();
    assert_eq!(versions(&quay, "composer"), theirs);
    let told = quay.ask(&["why", "composer/user:maren/quay/rope"]);
    assert_eq!(text(&told["chains"][0]["chain"][0]["id"]), "composer/user:maren/quay/gauge", "{told:#}");
    assert_eq!(owner(&quay, &format!("{HOME}/.config/composer/vendor/bin/gauge")).0, "composer/user:maren/quay/gauge");
    quay.sh("sed -i s/1.2.5/1.3.0/ src/gauge/composer.json");
    follow(&quay, "quay/gauge", "upgrade");
    assert_eq!(versions(&quay, "composer")["quay/gauge"], "1.3.0");
    remove(&quay, "quay/gauge");
    assert!(versions(&quay, "composer").is_empty());
}

#[test]
fn rocks_are_read_as_luarocks_lists_them() {
    if !has(&["luarocks"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let rock = |name: &str, version: &str, needs: &str| {
        let spec = format!(
            "package='{name}'\nversion='{version}'\nsource={{url='file:///x'}}\ndescription={{license='MIT'}}\n\
             dependencies={{'lua >= 5.1'{needs}}}\nbuild={{type='builtin',modules={{['{name}']='{name}.lua'}},install={{bin={{'{name}-run'}}}}}}\n"
        );
        quay.write(&format!("src/{name}/{name}-{version}.rockspec"), &spec);
        quay.write(&format!("src/{name}/{name}.lua"), "return {}\n");
        quay.write(&format!("src/{name}/{name}-run"), "#!/usr/bin/env lua\nprint(1)\n");
        quay.sh(&format!("cd src/{name}; luarocks --local make --keep {name}-{version}.rockspec >/dev/null 2>&1"));
    };
    rock("rope", "0.2-1", "");
    rock("gauge", "1.1-1", ", 'rope'");
    rock("gauge", "1.2-1", ", 'rope'");
    let listed = quay.sh("luarocks --local list --porcelain");
    let mut theirs: Vec<(String, String)> = listed
        .lines()
        .map(|line| {
            let mut parts = line.split('\t').map(str::to_owned);
            (parts.next().unwrap(), parts.next().unwrap())
        })
        .collect();
    theirs.sort();
    let ours: Vec<(String, String)> =
        quay.packages("luarocks").into_iter().map(|(_, name, version)| (name, version)).collect();
    assert_eq!(ours, theirs);
    assert_eq!(ours.len(), 3);
    // The command is a script, which starts Lua on a file of the rock's.
    let command = format!("{HOME}/.luarocks/bin/gauge-run");
    assert_eq!(owner(&quay, &command), ("luarocks/user:maren/gauge/1.2-1".to_owned(), 2));
    for (file, id) in [("gauge.lua", "gauge/1.2-1"), ("gauge_1_1_1-gauge.lua", "gauge/1.1-1"), ("rope.lua", "rope")] {
        let found = quay.sh(&format!("echo .luarocks/share/lua/*/{file}"));
        assert_eq!(owner(&quay, &format!("{HOME}/{}", found.trim())).0, format!("luarocks/user:maren/{id}"));
    }
    let told = quay.ask(&["why", "luarocks/user:maren/rope"]);
    assert!(told["chains"].to_string().contains("luarocks/user:maren/gauge/1.2-1"), "{told:#}");
    remove(&quay, "gauge");
    assert!(
        quay.packages("luarocks")
            .iter()
            .all(|(_, name, version)| (name.as_str(), version.as_str()) != ("gauge", "1.2-1"))
    );
}

#[test]
fn versions_are_ordered_as_luarocks_orders_them() {
    let Ok(found) = Command::new("sh").args(["-c", "command -v lua5.1 lua5.4 lua5.3 | head -1"]).output() else {
        return;
    };
    let lua = String::from_utf8(found.stdout).unwrap().trim().to_owned();
    if !has(&["luarocks"]) || lua.is_empty() {
        return;
    }
    let pairs = pairs_of(&["1", ".0", ".10", "-2", "rc", "rc1", "beta", ".2", "a", "scm", "_3", "dev"], 6000);
    let list: String = pairs.iter().map(|(a, b)| format!("{a} {b}\n")).collect();
    let script = "local vers = require('luarocks.core.vers') for line in io.lines() do local a, b = line:match('(%S+) (%S+)') \
                  if a then local x, y = vers.parse_version(a), vers.parse_version(b) print(x < y and -1 or (y < x and 1 or 0)) else print('?') end end";
    let said = String::from_utf8(output(Command::new(lua).args(["-e", script]).stdin(as_input(&list)))).unwrap();
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said.lines()).filter(|(_, theirs)| *theirs != "?") {
        assert_eq!((luarocks::compare(a.as_bytes(), b.as_bytes()) as i8).to_string(), theirs, "{a} {b}");
        compared += 1;
    }
    assert!(compared >= 2000, "{compared}");
}

#[test]
fn packages_of_switches_are_read_as_opam_lists_them() {
    if !has(&["opam"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let head = "opam-version: \"2.0\"\nmaintainer: \"quay@quay.example\"\nsynopsis: \"made up\"\n";
    quay.write("repo/repo", "opam-version: \"2.0\"\n");
    for (package, more) in [
        (
            "gauge/gauge.1.2",
            "depends: [ \"rope\" {>= \"0.1\"} ]\ninstall: [[\"mkdir\" \"-p\" bin] [\"sh\" \"-c\" \"echo '#!/bin/sh' > %{bin}%/gauge; chmod +x %{bin}%/gauge\"]]\n",
        ),
        (
            "rope/rope.0.2",
            "install: [[\"mkdir\" \"-p\" \"%{lib}%/rope\"] [\"sh\" \"-c\" \"echo x > %{lib}%/rope/rope.ml\"]]\n",
        ),
    ] {
        quay.write(&format!("repo/packages/{package}/opam"), &format!("{head}{more}"));
    }
    let opam = "export OPAMROOTISOK=1 OPAMYES=1; opam";
    quay.sh(&format!("{opam} init --bare --no-setup --disable-sandboxing quay $HOME/repo >/dev/null 2>&1"));
    for (switch, package) in [("harbour", "gauge"), ("mole", "rope")] {
        quay.sh(&format!("{opam} switch create {switch} --empty >/dev/null 2>&1; opam install --switch={switch} {package} >/dev/null 2>&1"));
    }
    quay.sh(&format!("{opam} switch harbour >/dev/null 2>&1"));
    for (switch, scope) in [("harbour", "user:maren".to_owned()), ("mole", format!("environment:{HOME}/.opam/mole"))] {
        let listed = quay.sh(&format!("{opam} list --switch={switch} --short --columns=name,version"));
        let mut theirs: Vec<(String, String, String)> = listed
            .lines()
            .map(|line| {
                let mut words = line.split_whitespace().map(str::to_owned);
                (scope.clone(), words.next().unwrap(), words.next().unwrap())
            })
            .collect();
        theirs.sort();
        let mut ours = quay.packages("opam");
        ours.retain(|(of, ..)| *of == scope);
        assert_eq!(ours, theirs, "{switch}");
        let files = quay.sh(&format!(
            "for one in {}; do {opam} show --switch={switch} --list-files $one; done",
            if switch == "harbour" { "gauge rope" } else { "rope" }
        ));
        for file in files.lines().filter(|file| quay.at(file.strip_prefix("/home/maren/").unwrap_or(file)).is_file()) {
            let name = if file.ends_with("gauge") { "gauge" } else { "rope" };
            assert_eq!(owner(&quay, file).0, format!("opam/{scope}/{name}"), "{file}");
        }
    }
    let told = quay.ask(&["why", "opam/user:maren/rope"]);
    assert_eq!(text(&told["chains"][0]["chain"][0]["id"]), "opam/user:maren/gauge", "{told:#}");
    let answer = quay.owners(&["package:opam/user:maren/gauge"]).remove(0);
    let line = text(&answer["remedies"][0]["command"]);
    assert_eq!(line, "opam remove '--switch=harbour' gauge");
    quay.sh(&format!("export OPAMROOTISOK=1 OPAMYES=1; {line} >/dev/null 2>&1"));
    assert!(!quay.packages("opam").iter().any(|(_, name, _)| name == "gauge"));
}

#[test]
fn modules_are_read_as_perl_lists_them() {
    if !has(&[PERL, "make"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let make = |name: &str, version: &str, more: &str, bases: &[&str]| {
        let file = format!("lib/{}.pm", name.replace("::", "/"));
        quay.write(&format!("src/{name}/{file}"), &format!("package {name};\n{version}\n1;\n"));
        let script =
            format!("use ExtUtils::MakeMaker; WriteMakefile(NAME => '{name}', VERSION_FROM => '{file}'{more});\n");
        quay.write(&format!("src/{name}/Makefile.PL"), &script);
        quay.write(&format!("src/{name}/bin/gauge"), "#!/usr/bin/perl\nprint 1;\n");
        for base in bases {
            quay.sh(&format!("cd src/{name}; perl Makefile.PL {base} >/dev/null; make install >/dev/null 2>&1; make realclean >/dev/null 2>&1"));
        }
    };
    let bases = ["INSTALL_BASE=$HOME/perl5", ""];
    make("Tide::Gauge", "our $VERSION = '1.10';", ", EXE_FILES => ['bin/gauge']", &bases);
    make("Lamp", "our $VERSION = 2.50;", "", &bases[..1]);
    for (scope, more) in [("user:maren", format!("{HOME}/perl5/lib/perl5")), ("system", "/usr/local".to_owned())] {
        let script = format!(
            "use ExtUtils::Installed; my @d = grep {{ index($_, '{more}') == 0 && -d }} @INC; \
             my $i = ExtUtils::Installed->new(inc_override => \\@d); \
             for my $m (grep {{ $_ ne 'Perl' }} $i->modules) {{ print join(\"\\t\", $m, $i->version($m), sort $i->files($m)), \"\\n\" }}"
        );
        quay.write("list.pl", &script);
        let listed = quay.sh("PERL5LIB=$HOME/perl5/lib/perl5 perl list.pl");
        assert!(!listed.is_empty(), "{scope}");
        for line in listed.lines() {
            let mut parts = line.split('\t');
            let (name, version) = (parts.next().unwrap(), parts.next().unwrap());
            let row = (scope.to_owned(), name.to_owned(), version.to_owned());
            assert!(quay.packages("cpan").contains(&row), "{row:?} {:?}", quay.packages("cpan"));
            for file in parts {
                assert_eq!(owner(&quay, file).0, format!("cpan/{scope}/{name}"), "{file}");
            }
        }
    }
}

#[test]
fn versions_are_ordered_as_perl_orders_them() {
    if !has(&[PERL]) {
        return;
    }
    let pairs = pairs_of(&["1", ".0", ".10", ".2", "v1", "02", ".5", "_1", "9"], 6000);
    let list: String = pairs.iter().map(|(a, b)| format!("{a} {b}\n")).collect();
    let script = "use version; while (<>) { my ($a, $b) = split; my $r = eval { version->parse($a) <=> version->parse($b) }; \
                  print defined $r && version::is_lax($a) && version::is_lax($b) ? $r : '?', qq(\\n) }";
    let said = String::from_utf8(output(Command::new("perl").args(["-e", script]).stdin(as_input(&list)))).unwrap();
    let mut compared = 0;
    for ((a, b), theirs) in pairs.iter().zip(said.lines()).filter(|(_, theirs)| *theirs != "?") {
        assert_eq!((perl::compare(a.as_bytes(), b.as_bytes()) as i8).to_string(), theirs, "{a} {b}");
        compared += 1;
    }
    assert!(compared >= 500, "{compared}");
}

#[test]
fn packages_are_read_as_r_lists_them() {
    if !has(&["R"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    for (name, imports) in [("rope", ""), ("gauge", "Imports: rope (>= 1.0),\n  stats\n")] {
        let description =
            format!("Package: {name}\nVersion: 1.2-3\nTitle: T\nDescription: A\n  b.\nLicense: MIT\n{imports}");
        quay.write(&format!("src/{name}/DESCRIPTION"), &description);
        quay.write(&format!("src/{name}/NAMESPACE"), "");
        quay.write(&format!("src/{name}/R/all.R"), "f <- function() 1\n");
    }
    let library = quay.sh("Rscript -e 'cat(path.expand(Sys.getenv(\"R_LIBS_USER\")))'");
    quay.sh(&format!("mkdir -p {library}; R CMD INSTALL --library={library} src/rope src/gauge >/dev/null 2>&1; mkdir {library}/00LOCK-tide"));
    let listed = quay.sh("Rscript -e 'm <- installed.packages(Sys.getenv(\"R_LIBS_USER\")); cat(paste(m[,\"Package\"], m[,\"Version\"]), sep=\"\\n\")'");
    let ours: Vec<String> =
        versions(&quay, "r").into_iter().map(|(name, version)| format!("{name} {version}")).collect();
    let mut theirs: Vec<&str> = listed.lines().collect();
    theirs.sort_unstable();
    assert_eq!(ours, theirs);
    assert_eq!(ours.len(), 2);
    assert_eq!(owner(&quay, &format!("{library}/gauge/DESCRIPTION")).0, "r/user:maren/gauge");
    let told = quay.ask(&["why", "r/user:maren/rope"]);
    assert!(told["chains"].to_string().contains("r/user:maren/gauge"), "{told:#}");
    remove(&quay, "gauge");
    assert_eq!(versions(&quay, "r").into_keys().collect::<Vec<_>>(), ["rope"]);
}

#[test]
fn versions_are_ordered_as_r_orders_them() {
    if !has(&["R"]) {
        return;
    }
    let parts = ["1", ".0", ".10", "-2", "-0", ".2", "0", "-10", ".007", "9"];
    let is_version = |text: &String| {
        let mut parts = text.split(['.', '-']);
        parts.clone().count() > 1
            && parts.all(|part| (1..=9).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit()))
    };
    let pairs: Vec<(String, String)> =
        pairs_of(&parts, 6000).into_iter().filter(|(a, b)| is_version(a) && is_version(b)).collect();
    let list: String = pairs.iter().map(|(a, b)| format!("{a} {b}\n")).collect();
    let script =
        "for (l in readLines('stdin')) { p <- strsplit(l, ' ')[[1]]; cat(compareVersion(p[1], p[2]), '\\n', sep='') }";
    let said = String::from_utf8(output(Command::new("Rscript").args(["-e", script]).stdin(as_input(&list)))).unwrap();
    assert_eq!(said.lines().count(), pairs.len());
    for ((a, b), theirs) in pairs.iter().zip(said.lines()) {
        assert_eq!((r::compare(a.as_bytes(), b.as_bytes()) as i8).to_string(), theirs, "{a} {b}");
    }
    assert!(pairs.len() >= 1000, "{}", pairs.len());
}

#[test]
fn escripts_and_archives_are_read_as_mix_lists_them() {
    if !has(&["mix"]) {
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    let project = "defmodule Gauge.MixProject do\n  use Mix.Project\n  def project, do: [app: :gauge, version: \"1.2.0\", escript: [main_module: Gauge, name: \"tide-gauge\"]]\nend\n";
    quay.write("src/mix.exs", project);
    quay.write("src/lib/gauge.ex", "defmodule Gauge do\n  def main(_), do: IO.puts(\"x\")\nend\n");
    quay.sh("cd src; export MIX_ENV=prod; (mix escript.build; mix archive.build; mix escript.install --force ./tide-gauge; mix archive.install --force ./gauge-1.2.0.ez) >/dev/null 2>&1; echo x > ~/.mix/escripts/own; chmod +x ~/.mix/escripts/own");
    let listed = quay.sh("(mix escript; mix archive) | sed -n 's/^[*] //p'");
    let mut theirs: Vec<&str> = listed.lines().filter(|line| *line != "own").collect();
    theirs.sort_unstable();
    let ours: Vec<String> = quay
        .packages("mix")
        .into_iter()
        .map(|(_, name, version)| if version.is_empty() { name } else { format!("{name}-{version}") })
        .collect();
    assert_eq!(ours, theirs);
    assert_eq!(ours, ["gauge-1.2.0", "tide-gauge"]);
    let program = format!("{HOME}/.mix/escripts/tide-gauge");
    assert_eq!(owner(&quay, &program).0, "mix/user:maren/tide-gauge");
    assert_eq!(quay.owners(&[&format!("{HOME}/.mix/escripts/own")]).remove(0)["verdict"], "unowned");
    remove(&quay, "gauge");
    remove(&quay, "tide-gauge");
    assert!(quay.packages("mix").is_empty());
}

/// Where the tools that keep projects put environments, which are not in the projects.
#[test]
fn environments_of_projects_are_found_where_their_tools_put_them() {
    let tools = std::env::current_exe().unwrap();
    let built = tools.ancestors().nth(3).unwrap().join("tools/projects/bin");
    if !has(&["python3"]) || !built.join("pdm").exists() {
        not_compared("poetry, pdm and hatch are not beside what was built");
        return;
    }
    let Some(quay) = Quay::new(&[]) else { return };
    quay.write(
        "knots/pyproject.toml",
        "[project]\nname = \"knots\"\nversion = \"0.1.0\"\nrequires-python = \">=3.8\"\n",
    );
    let built = built.to_str().unwrap();
    let said = quay.sh(&format!(
        "cd knots; export POETRY_VIRTUALENVS_CREATE=true; {built}/poetry --no-plugins env use /usr/bin/python3 >/dev/null 2>&1; {built}/poetry --no-plugins env info --path
         {built}/pdm config venv.in_project false >/dev/null 2>&1; {built}/pdm venv create --name lab /usr/bin/python3 >/dev/null 2>&1; {built}/pdm venv --path lab
         {built}/hatch env find"
    ));
    let theirs: Vec<&str> = said.lines().filter(|line| line.starts_with(HOME)).collect();
    assert_eq!(theirs.len(), 3, "{said}");
    quay.sh(&format!("/usr/bin/python3 -m venv --without-pip {}", theirs[2]));
    let read = quay.ask(&["inventory", "--all"])["coverage"].to_string();
    for environment in theirs {
        assert!(read.contains(environment), "{environment}: {read}");
    }
}
