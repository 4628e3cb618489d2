//! `impact`, tried: packages are really removed on a machine made with the real managers, and what is gone is compared
//! with what was foretold.

use std::collections::BTreeSet;

use serde_json::Value;

use super::proofs::TOOLS;
use super::support::text;
use super::trial::Trial;

/// The programs of the machine that lead somewhere.
fn programs(trial: &Trial) -> BTreeSet<String> {
    let lines = "for file in /usr/bin/* /usr/local/bin/* /home/maren/.local/bin/*; do if [ -e \"$file\" ]; then echo \"$file\"; fi; done";
    String::from_utf8(trial.types(None, lines).stdout).unwrap().lines().map(str::to_owned).collect()
}

fn listed(document: &Value, list: &str, path: &str) -> BTreeSet<String> {
    document[list].as_array().unwrap().iter().map(|one| text(&one[path])).filter(|path| !path.is_empty()).collect()
}

#[test]
fn what_is_removed_is_what_was_foretold() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(TOOLS);
    trial.plants(
        ". /root/tools
        script p/usr/bin/lamp 1; script p/usr/lib/lamp/light 1; script p/usr/bin/shared 1
        mkdir -p p/etc; echo wick > p/etc/lamp.conf
        printf '#!/bin/sh\\nupdate-alternatives --quiet --install /usr/bin/light light /usr/lib/lamp/light 20\\n' > postinst
        printf '#!/bin/sh\\nupdate-alternatives --quiet --remove light /usr/lib/lamp/light\\n' > prerm
        mkdir -p p/DEBIAN; install -m 755 postinst prerm p/DEBIAN; deb lamp 1.0
        script p/usr/bin/lantern 1; deb lantern 1.0 'Depends: lamp\n'
        script p/usr/bin/beacon 1; deb beacon 1.0 'Depends: lantern\n'
        script p/usr/bin/candle 1; script p/usr/lib/candle/light 2; deb candle 1.0
        installs lantern beacon candle
        script p/usr/bin/shared 2; deb buoy 1.0; listed; dpkg -i --force-overwrite /srv/debs/buoy_1.0_all.deb >/dev/null 2>&1
        update-alternatives --quiet --install /usr/bin/light light /usr/lib/candle/light 10
        ln -s /usr/bin/lamp /usr/local/bin/lit; script /usr/local/bin/lantern 3
        printf '#!/usr/bin/lantern\\n' > /usr/local/bin/tally; chmod 755 /usr/local/bin/tally
        as_user maren 'mkdir -p .config/lamp .local/share/buoy .local/bin .local/share/applications; ln -s /usr/bin/beacon .local/bin/mark'
        printf '[Desktop Entry]\\nType=Application\\nName=Beacon\\nExec=beacon\\n' > /home/maren/.local/share/applications/beacon.desktop",
    );
    trial.freeze();
    let before = programs(&trial);
    let told = trial.asks(&["impact", "lamp"]);
    let dependents: BTreeSet<String> = told["broken"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["how"] == "dependency")
        .map(|one| text(&one["owner"]["name"]))
        .collect();
    assert_eq!(dependents, ["beacon", "lantern"].map(str::to_owned).into());
    let output = trial.types(None, "apt-get remove -y lamp");
    assert!(output.status.success(), "{output:?}");
    let left = listed(&told, "left", "path");
    assert_eq!(left, ["/etc/lamp.conf", "/home/maren/.config/lamp"].map(str::to_owned).into());
    let output = trial.types(None, "ls -d /etc/lamp.conf /home/maren/.config/lamp");
    assert!(output.status.success(), "what would be left is left: {output:?}");
    let gone: BTreeSet<String> = before.difference(&programs(&trial)).cloned().collect();
    // A command that is lost is gone, unless the alternatives system puts the next choice there, or it is a script whose
    // interpreter goes.
    let failing: BTreeSet<String> = told["broken"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["how"] == "interpreter")
        .map(|one| text(&one["path"]))
        .collect();
    let lost: BTreeSet<String> = told["commands"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["instead"]["path"] != one["path"])
        .map(|one| text(&one["path"]))
        .filter(|path| !failing.contains(path))
        .collect();
    let links: BTreeSet<String> = told["broken"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["how"] == "link")
        .map(|one| text(&one["path"]))
        .collect();
    // The hidden copy of lantern in /usr/bin is not what runs, so no command is lost with it.
    let foretold: BTreeSet<String> = lost.union(&links).cloned().chain(["/usr/bin/lantern".to_owned()]).collect();
    assert_eq!(foretold, gone, "{told:#}");
    let light = told["commands"].as_array().unwrap().iter().find(|one| one["name"] == "light").unwrap();
    assert_eq!(light["instead"]["owner"]["name"], "candle", "{light:#}");
    let broken = listed(&told, "broken", "path");
    for path in ["/usr/local/bin/tally", "/usr/local/bin/lit", "/home/maren/.local/bin/mark"] {
        assert!(broken.contains(path), "{path} of {broken:#?}");
    }
    assert!(broken.iter().any(|path| path.ends_with("beacon.desktop")), "{broken:#?}");
    assert!(!broken.contains("/usr/bin/light"), "{broken:#?}");
    // A file that another package of the same manager has too stays.
    assert!(!gone.contains("/usr/bin/shared"));
    // The name of several packages is no error, and the target may be spelled as it is for `owner`.
    for spelled in ["command:lantern", "/usr/bin/candle", "package:candle", "dpkg/system/buoy"] {
        let told = trial.asks(&["impact", spelled]);
        assert_eq!(
            told["packages"].as_array().map(Vec::len),
            Some(usize::from(spelled != "command:lantern")),
            "{spelled}: {told:#}"
        );
    }
}

#[test]
fn what_refers_to_a_store_path_is_what_nix_says() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(
        "mkdir -p /nix /etc/nix; chown -R maren: /nix; printf 'sandbox = false\\nsubstituters =\\nbuild-users-group =\\n' > /etc/nix/nix.conf
        cat > /home/maren/tide.nix <<'EOF'
let make = name: text: derivation { inherit name; system = builtins.currentSystem; builder = \"/bin/sh\";
  args = [ \"-c\" \"/bin/mkdir -p $out/bin; echo ${text} > $out/bin/x\" ]; };
  library = make \"libtide-1.0\" \"1\"; middle = make \"middle-1.0\" \"${library}\";
in { top = make \"tidegauge-1.0\" \"${middle}\"; inherit library; }
EOF
        su - maren -c 'nix-env --quiet -i -f tide.nix -A top'",
    );
    let theirs = trial.types(Some("maren"), "nix-store --query --referrers-closure $(ls -d /nix/store/*-libtide-1.0)");
    let theirs: BTreeSet<String> = String::from_utf8(theirs.stdout)
        .unwrap()
        .lines()
        .filter(|path| !path.ends_with("-libtide-1.0") && !path.ends_with(".drv"))
        .map(|path| path.split_once('-').unwrap().1.to_owned())
        .collect();
    assert!(theirs.len() >= 2, "{theirs:?}");
    let told = trial.asks(&["impact", "package:libtide"]);
    let ours: BTreeSet<String> = told["broken"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["how"] == "dependency")
        .map(|one| format!("{}-{}", text(&one["owner"]["name"]), text(&one["owner"]["version"])))
        .map(|name| name.trim_end_matches('-').to_owned())
        .filter(|name| !name.ends_with(".drv"))
        .collect();
    assert_eq!(ours, theirs, "{told:#}");
    // The profile has what refers to it; and a generation's link is a root.
    let why = trial.asks(&["why", "package:libtide"]);
    let chains = why["chains"].as_array().unwrap();
    let tops: BTreeSet<String> = chains.iter().map(|chain| text(&chain["chain"][0]["id"])).collect();
    let roots = trial.types(Some("maren"), "nix-store --query --roots $(ls -d /nix/store/*-libtide-1.0)");
    let roots = String::from_utf8(roots.stdout).unwrap();
    let links = roots.lines().filter_map(|line| line.split(" -> ").next()).filter(|link| link.starts_with('/'));
    for link in links.filter(|link| link.ends_with("-link")) {
        assert!(tops.contains(link), "{link} of {tops:?}");
    }
    let asked = chains.iter().find(|chain| chain["asked_for"] == true).unwrap_or_else(|| panic!("{why:#}"));
    let names: Vec<String> = asked["chain"].as_array().unwrap().iter().map(|one| text(&one["id"])).collect();
    assert_eq!(names.len(), 3, "{names:?}");
    assert!(names[0].ends_with("tidegauge") && names[1].contains("-middle-1.0"), "{names:?}");
}

#[test]
fn a_state_is_what_nix_has_in_it_and_the_command_goes_to_it() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(
        "mkdir -p /nix /etc/nix; chown -R maren: /nix; printf 'sandbox = false\nsubstituters =\nbuild-users-group =\n' > /etc/nix/nix.conf
        cat > /home/maren/tide.nix <<'EOF'
let make = name: derivation { inherit name; system = builtins.currentSystem; builder = \"/bin/sh\";
  args = [ \"-c\" \"/bin/mkdir -p $out/bin; echo ${name} > $out/bin/x-${name}\" ]; };
in { old = make \"tidegauge-2.0\"; new = make \"tidegauge-3.0\"; lamp = make \"lamp-1.0\"; buoy = make \"buoy-1.0\"; }
EOF
        su - maren -c 'for one in old buoy new lamp; do nix-env --quiet -i -f tide.nix -A $one; done; nix-env --quiet -e buoy'",
    );
    let installed = |trial: &Trial| -> BTreeSet<String> {
        let output = trial.types(Some("maren"), "nix-env -q");
        String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
    };
    let content = |trial: &Trial, number: &str| -> BTreeSet<String> {
        let told = trial.asks(&["states", "profile", number]);
        let packages = told["contents"][0]["packages"].as_array().unwrap().clone();
        packages.iter().map(|one| format!("{}-{}", text(&one["name"]), text(&one["version"]))).collect()
    };
    let listed = trial.types(Some("maren"), "nix-env --list-generations");
    let listed = String::from_utf8(listed.stdout).unwrap();
    let numbers: Vec<&str> = listed.lines().filter_map(|line| line.split_whitespace().next()).collect();
    assert_eq!(numbers.len(), 5, "{listed}");
    assert_eq!(content(&trial, "now"), installed(&trial));
    let told = trial.asks(&["states", "profile", "now", numbers[1]]);
    let difference = &told["differences"][0];
    assert_eq!((&difference["added"][0], &difference["removed"][0]), (&"buoy".into(), &"lamp".into()), "{told:#}");
    assert_eq!(difference["changed"][0]["to"], "2.0", "{told:#}");
    let remedy = &difference["remedies"][0];
    let types = |command: &Value| {
        let typed = trial.types(remedy["as_user"].as_str(), command.as_str().unwrap());
        assert!(typed.status.success(), "{command}: {typed:?}");
    };
    let (before, foretold) = (installed(&trial), content(&trial, numbers[1]));
    types(&remedy["command"]);
    assert_eq!(installed(&trial), foretold);
    assert_eq!(content(&trial, "now"), foretold);
    types(&remedy["reversible_by"]);
    assert_eq!(installed(&trial), before);
}

/// The names of the packages that stand directly above a package in the chains of `why`.
fn direct(trial: &Trial, package: &str) -> BTreeSet<String> {
    let told = trial.asks(&["why", &format!("package:{package}")]);
    let chains = told["chains"].as_array().unwrap().iter().map(|chain| chain["chain"].as_array().unwrap());
    let above = chains.filter_map(|chain| chain.get(chain.len().checked_sub(2)?));
    above.map(|one| text(&one["id"]).rsplit('/').next().unwrap().to_owned()).collect()
}

/// The names of the packages that `impact` says would go along, and of the package itself.
fn taken(trial: &Trial, package: &str) -> BTreeSet<String> {
    let told = trial.asks(&["impact", package]);
    let along = told["broken"].as_array().unwrap().iter().filter(|one| one["how"] == "dependency");
    let along = along.map(|one| text(&one["owner"]["name"]));
    along.chain(told["packages"].as_array().unwrap().iter().map(|one| text(&one["name"]))).collect()
}

#[test]
fn what_goes_along_is_what_dnf_and_pacman_say() {
    let Some(trial) = Trial::if_here() else { return };
    trial.plants(
        r#"
        mkdir -p /etc/rpm; echo '%_dbpath /var/lib/rpm' > /etc/rpm/macros
        mkdir -p top /etc/yum.repos.d db /var/lib/pacman
        for one in buoy: chain:buoy anchor:chain lamp:; do
            name=${one%:*} needs=${one#*:}
            printf 'Name: '$name'\nVersion: 1.0\nRelease: 1\nSummary: made up\nLicense: MIT\nBuildArch: noarch\n'${needs:+'Requires: '$needs'\n'}'%%description\nmade up\n%%install\nmkdir -p %%{buildroot}/usr/bin; echo 1 > %%{buildroot}/usr/bin/'$name'\n%%files\n/usr/bin/'$name'\n' > $name.spec
            rpmbuild -bb --quiet --define '_topdir /root/top' $name.spec >/dev/null 2>&1
            mkdir -p pk/usr/share/$name db/$name-arch-1.0-1; echo 1 > pk/usr/share/$name/data
            printf 'pkgname = '$name'-arch\npkgver = 1.0-1\npkgdesc = made up\narch = any\nsize = 2\n'${needs:+'depend = '$needs'-arch\n'} > pk/.PKGINFO
            (cd pk; bsdtar -cf - --format=mtree --options='!all,use-set,type,uid,gid,mode,time,size,md5,sha256,link' .PKGINFO usr | gzip > .MTREE
             bsdtar -cf - .MTREE .PKGINFO usr | zstd -q > /srv/pacman/$name-arch-1.0-1-any.pkg.tar.zst)
            rm -rf pk
        done
        for one in 'flag:Supplements: anchor' 'pennant:Enhances: chain' 'oar:Supplements: galley'; do
            name=${one%%:*} adds=${one#*:}
            printf 'Name: '$name'\nVersion: 1.0\nRelease: 1\nSummary: made up\nLicense: MIT\nBuildArch: noarch\n'"$adds"'\n%%description\nmade up\n%%files\n' > $name.spec
            rpmbuild -bb --quiet --define '_topdir /root/top' $name.spec >/dev/null 2>&1
        done
        cp top/RPMS/noarch/*.rpm /srv/rpms/; createrepo_c -q /srv/rpms
        printf '[quay]\nname=Quay\nbaseurl=file:///srv/rpms\ngpgcheck=0\n' > /etc/yum.repos.d/quay.repo
        dnf -q -y --releasever=1 install anchor lamp flag pennant oar >/dev/null 2>&1
        dnf -q -y --releasever=1 mark remove flag pennant oar >/dev/null 2>&1
        printf '[options]\nArchitecture = auto\nSigLevel = Never\n' > /etc/pacman.conf
        pacman -U --noconfirm /srv/pacman/*.zst >/dev/null 2>&1
        "#,
    );
    let lines = |command: &str| -> Vec<String> {
        let output = trial.types(None, command);
        String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
    };
    for package in ["buoy", "chain", "anchor", "lamp"] {
        // The table of what dnf removes: `NAME ARCH VERSION REPOSITORY SIZE`, one to a line. What nothing needs any
        // more goes too, by a setting of its own; that is not what breaks.
        let command = format!("dnf --assumeno --releasever=1 --setopt=clean_requirements_on_remove=0 remove {package}");
        let theirs: BTreeSet<String> = lines(&command)
            .iter()
            .filter(|line| line.contains(" noarch "))
            .map(|line| line.split_whitespace().next().unwrap().to_owned())
            .collect();
        assert!(theirs.contains(package), "{theirs:?}");
        assert_eq!(taken(&trial, &format!("package:{package}")), theirs, "dnf, {package}");
        let theirs: BTreeSet<String> =
            lines(&format!("dnf -q --releasever=1 repoquery --installed --whatrequires {package} --qf %{{name}}"))
                .into_iter()
                .filter(|name| !name.is_empty())
                .collect();
        assert_eq!(direct(&trial, package), theirs, "dnf, {package}");
        let required = lines(&format!("LC_ALL=C pacman -Qi {package}-arch | sed -n 's/^Required By *: //p'"));
        let theirs: BTreeSet<String> = required
            .iter()
            .flat_map(|line| line.split_whitespace())
            .filter(|name| *name != "None")
            .map(str::to_owned)
            .collect();
        assert_eq!(direct(&trial, &format!("{package}-arch")), theirs, "pacman, {package}");
        let theirs: BTreeSet<String> =
            lines(&format!("pacman -Rcp --print-format %n {package}-arch")).into_iter().collect();
        assert_eq!(taken(&trial, &format!("package:{package}-arch")), theirs, "pacman, {package}");
    }
    let unneeded = |manager: &str| -> BTreeSet<String> {
        let told = trial.asks(&["check", "--kind", "unneeded-dependency", "--level", "note"]);
        let findings = told["findings"].as_array().unwrap().iter();
        let of_manager = findings.filter(|one| text(&one["packages"][0]).starts_with(manager));
        of_manager.map(|one| text(&one["subject"])).collect()
    };
    let by_dnf = || -> BTreeSet<String> {
        let names = lines("dnf -q --releasever=1 repoquery --unneeded --qf %{name}");
        names.into_iter().filter(|name| !name.is_empty()).collect()
    };
    // What supplements something that is wanted is wanted too; what only enhances it is not.
    assert_eq!(by_dnf(), ["oar", "pennant"].map(str::to_owned).into());
    assert_eq!(unneeded("rpm/"), by_dnf());
    let told = trial.asks(&["why", "package:flag"]);
    assert_eq!(text(&told["chains"][0]["chain"][1]["evidence"][0]["says"]), "supplements anchor", "{told:#}");
    // Without the one that needed them, the others are needed by nothing.
    trial.plants(
        "dnf -q -y --releasever=1 --setopt=clean_requirements_on_remove=0 remove anchor >/dev/null 2>&1
        pacman -D --asdeps chain-arch buoy-arch >/dev/null 2>&1; pacman -R --noconfirm anchor-arch >/dev/null 2>&1",
    );
    assert_eq!(by_dnf(), ["buoy", "chain", "flag", "oar", "pennant"].map(str::to_owned).into());
    assert_eq!(unneeded("rpm/"), by_dnf());
    // What nothing requires, and what goes with it.
    let theirs: BTreeSet<String> =
        lines("pacman -Rsp --print-format %n $(pacman -Qdtq)").into_iter().filter(|name| !name.is_empty()).collect();
    assert_eq!(unneeded("pacman/"), theirs, "pacman");
}
