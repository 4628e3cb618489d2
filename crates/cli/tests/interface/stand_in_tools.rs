//! Managers of versions, plug-ins and applications that cannot be had here, as trees written by hand from their public
//! formats: GHCup, juliaup, Krew, Terraform's mirrors, extensions of Visual Studio Code, TeX Live, the Android SDK,
//! JetBrains Toolbox, Steam, and extensions of the system. No judge has seen these but the documentation.

use tempfile::TempDir;

use super::stand_in_records::{Case, Damaged, ask, damage_is_said, is_read};
use super::support::{text, tree};

const PASSWD: (&str, &[u8]) = ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n");

fn versions() -> TempDir {
    let julia = "home/maren/.julia/juliaup";
    tree(&[
        PASSWD,
        ("home/maren/.ghcup/bin/ghcup", b"x"),
        ("home/maren/.ghcup/bin/ghc", b"-> ghc-9.4.7"),
        ("home/maren/.ghcup/bin/ghc-9.4.7", b"-> ../ghc/9.4.7/bin/ghc-9.4.7"),
        ("home/maren/.ghcup/bin/ghc-9.2.8", b"-> ../ghc/9.2.8/bin/ghc-9.2.8"),
        ("home/maren/.ghcup/ghc/9.4.7/bin/ghc-9.4.7", b"x"),
        ("home/maren/.ghcup/ghc/9.2.8/bin/ghc-9.2.8", b"x"),
        ("home/maren/.ghcup/bin/cabal-3.10.2.0", b"x"),
        ("home/maren/.ghcup/bin/cabal", b"-> cabal-3.10.2.0"),
        ("home/maren/.ghcup/bin/own", b"x"),
        (
            &format!("{julia}/juliaup.json"),
            br#"{"Default":"release","InstalledVersions":{"1.10.4+0.x64.linux.gnu":{"Path":"./julia-1.10.4"},"1.9.0+0.x64.linux.gnu":{"Path":"./julia-1.9.0"},"1.0.0+0.x64.linux.gnu":{"Path":"../../.."}},"InstalledChannels":{"release":{"Version":"1.10.4+0.x64.linux.gnu"},"own":{"Command":"/x"}}}"#,
        ),
        (&format!("{julia}/julia-1.10.4/bin/julia"), b"x"),
        (&format!("{julia}/julia-1.9.0/bin/julia"), b"x"),
        ("home/maren/.juliaup/bin/juliaup", b"x"),
        ("home/maren/.juliaup/bin/julialauncher", b"x"),
        ("home/maren/.juliaup/bin/julia", b"-> julialauncher"),
    ])
}

const RECEIPT: &[u8] = b"apiVersion: krew.googlecontainertools.github.com/v1alpha2\nkind: Plugin\nmetadata:\n  name: tide-view\nspec:\n  version: v0.3.1\n  platforms:\n  - bin: tide\nstatus:\n  source:\n    name: default\n";

fn plugins() -> TempDir {
    let mirror = "srv/mirror/quay.example/harbour/tide";
    tree(&[
        PASSWD,
        ("home/maren/.krew/receipts/tide-view.yaml", RECEIPT),
        ("home/maren/.krew/store/tide-view/v0.3.1/tide", b"x"),
        ("home/maren/.krew/bin/kubectl-tide_view", b"-> /home/maren/.krew/store/tide-view/v0.3.1/tide"),
        ("home/maren/.krew/bin/kubectl-own", b"x"),
        (
            "home/maren/.terraformrc",
            b"provider_installation {\n  filesystem_mirror {\n    path = \"/srv/mirror\"\n  }\n}\n",
        ),
        (&format!("{mirror}/1.2.0/linux_amd64/terraform-provider-tide_v1.2.0"), b"x"),
        (&format!("{mirror}/terraform-provider-tide_1.10.0_linux_amd64.zip"), b"x"),
        ("srv/mirror/notes/own/file/1/x/y", b"x"),
        // What is elsewhere is still hers.
        ("home/maren/.vscode", b"-> ../../srv/code"),
        (
            "srv/code/extensions/extensions.json",
            br#"[{"identifier":{"id":"Quay.tide"},"version":"1.4.0","relativeLocation":"quay.tide-1.4.0","metadata":{"installedTimestamp":1767225600000,"pinned":true,"source":"gallery"}},{"identifier":{"id":"quay.gone"},"version":"0.1.0","relativeLocation":"quay.gone-0.1.0"},{"identifier":{"id":"quay.out"},"version":"0.1.0","relativeLocation":"../../bin"}]"#,
        ),
        ("srv/code/extensions/quay.tide-1.4.0/server/bin/tided", b"x"),
        ("srv/code/extensions/quay.stray-1.0.0/bin/stray", b"x"),
    ])
}

const TLPDB: &[u8] = b"name 00texlive.config\ncategory TLCore\nrevision 1\ndepend release/2026\n\nname tide\ncategory Package\nrevision 59000\ndepend rope\ndepend tide.ARCH\nrunfiles size=1\n texmf-dist/tex/latex/tide/tide.sty\n RELOC/scripts/tide/tide.sh\n ../../../etc/passwd\ncatalogue-version 2.4\n\nname rope\ncategory Package\nrevision 41000\n\nname tide.x86_64-linux\ncategory Package\nrevision 59001\nbinfiles arch=x86_64-linux size=1\n bin/x86_64-linux/tide\n";

fn prefixes() -> TempDir {
    let toolbox = "home/maren/.local/share/JetBrains/Toolbox";
    let steam = "home/maren/.local/share/Steam/steamapps";
    tree(&[
        PASSWD,
        ("usr/local/texlive/2026/tlpkg/texlive.tlpdb", TLPDB),
        ("usr/local/texlive/2026/bin/x86_64-linux/tide", b"x"),
        ("usr/local/texlive/2026/texmf-dist/tex/latex/tide/tide.sty", b"x"),
        ("home/maren/Android/Sdk/build-tools/34.0.0/package.xml", b"<ns2:repository xmlns:ns2=\"x\"><localPackage path=\"build-tools;34.0.0\"><revision><major>34</major><minor>0</minor><micro>0</micro></revision></localPackage></ns2:repository>"),
        ("home/maren/Android/Sdk/build-tools/34.0.0/bin/aapt", b"x"),
        ("home/maren/Android/Sdk/platforms/own/file", b"x"),
        (&format!("{toolbox}/state.json"), br#"{"version":1,"tools":[{"channelId":"c1","toolId":"Chart-IDE","displayName":"Chart IDE","displayVersion":"2026.1","buildNumber":"261.10","installLocation":"/home/maren/.local/share/JetBrains/Toolbox/apps/chart-ide","launchCommand":"bin/chart.sh"},{"channelId":"c2","toolId":"Everything","displayVersion":"1","installLocation":"/home/maren"}]}"#),
        (&format!("{toolbox}/apps/chart-ide/bin/chart.sh"), b"x"),
        (&format!("{toolbox}/scripts/chart"), b"#!/bin/sh\nexec \"/home/maren/.local/share/JetBrains/Toolbox/apps/chart-ide/bin/chart.sh\" \"$@\"\n"),
        (&format!("{steam}/libraryfolders.vdf"), b"\"libraryfolders\"\n{\n\t\"0\"\n\t{\n\t\t\"path\"\t\"/home/maren/.local/share/Steam\"\n\t}\n\t\"1\"\n\t{\n\t\t\"path\"\t\"/srv/play\"\n\t}\n}\n"),
        (&format!("{steam}/appmanifest_7.acf"), b"\"AppState\"\n{\n\t\"appid\"\t\"7\"\n\t\"name\"\t\"Harbour Pilot\"\n\t\"StateFlags\"\t\"4\"\n\t\"installdir\"\t\"Pilot\"\n\t\"SizeOnDisk\"\t\"2048\"\n\t\"buildid\"\t\"99\"\n}\n"),
        (&format!("{steam}/common/Pilot/bin/pilot"), b"x"),
        ("srv/play/steamapps/appmanifest_8.acf", b"\"AppState\"\n{\n\t\"appid\"\t\"8\"\n\t\"name\"\t\"Tugboat\"\n\t\"StateFlags\"\t\"1026\"\n\t\"installdir\"\t\"../..\"\n}\n"),
        ("srv/play/steamapps/common/x", b"x"),
        ("home/maren/.local/share/applications/gone.desktop", b"-> /nowhere"),
        ("home/maren/.local/share/applications/Harbour Pilot.desktop", b"[Desktop Entry]\nType=Application\nName=Harbour Pilot\nExec=steam steam://rungameid/7\n"),
    ])
}

fn extensions() -> TempDir {
    tree(&[
        PASSWD,
        (
            "var/lib/extensions/tide/usr/lib/extension-release.d/extension-release.tide",
            b"ID=harbour\nVERSION_ID=12\nSYSEXT_VERSION_ID=3.1\nARCHITECTURE=x86-64\n",
        ),
        ("var/lib/extensions/tide/usr/bin/tide", b"x"),
        ("var/lib/extensions/rope.raw", b"x"),
        ("etc/extensions/rope.raw", b"-> /dev/null"),
        ("var/lib/extensions/notes.txt", b"x"),
        ("var/lib/portables/gauge.raw", b"x"),
    ])
}

#[test]
fn versions_plug_ins_and_applications_are_read() {
    let cases: [Case<'_>; 4] = [
        (
            versions(),
            &[
                "ghcup/user:maren/cabal/3.10.2.0 3.10.2.0 explicit",
                "ghcup/user:maren/ghc/9.2.8 9.2.8 explicit",
                "ghcup/user:maren/ghc/9.4.7 9.4.7 explicit",
                "ghcup/user:maren/ghcup  explicit",
                "juliaup/user:maren/julia/1.0.0+0.x64.linux.gnu 1.0.0 explicit",
                "juliaup/user:maren/julia/1.10.4+0.x64.linux.gnu 1.10.4 explicit",
                "juliaup/user:maren/julia/1.9.0+0.x64.linux.gnu 1.9.0 explicit",
                "juliaup/user:maren/juliaup  explicit",
            ],
            &[
                ("/home/maren/.ghcup/bin/cabal", "ghcup/user:maren/cabal/3.10.2.0"),
                ("/home/maren/.ghcup/bin/ghc-9.2.8", "ghcup/user:maren/ghc/9.2.8"),
                ("/home/maren/.ghcup/bin/own", ""),
                ("/home/maren/.juliaup/bin/juliaup", "juliaup/user:maren/juliaup"),
                // A record owns nothing outside its own directory.
                ("/home/maren/.ghcup/bin", ""),
            ],
        ),
        (
            plugins(),
            &[
                "terraform/system/harbour/tide/1.10.0/linux_amd64 1.10.0 explicit from quay.example",
                "terraform/system/harbour/tide/1.2.0/linux_amd64 1.2.0 explicit from quay.example",
                "vscode/user:maren/quay.gone 0.1.0 explicit",
                "vscode/user:maren/quay.out 0.1.0 explicit",
                "vscode/user:maren/quay.tide 1.4.0 explicit held from gallery",
                "krew/user:maren/tide-view 0.3.1 explicit from default",
            ],
            &[
                ("/home/maren/.krew/bin/kubectl-tide_view", "krew/user:maren/tide-view"),
                ("/home/maren/.krew/bin/kubectl-own", ""),
                (
                    "/srv/mirror/quay.example/harbour/tide/1.2.0/linux_amd64/terraform-provider-tide_v1.2.0",
                    "terraform/system/harbour/tide/1.2.0/linux_amd64",
                ),
                ("/srv/mirror/notes/own/file/1/x/y", ""),
                ("/home/maren/.vscode/extensions/quay.tide-1.4.0/server/bin/tided", "vscode/user:maren/quay.tide"),
                ("/home/maren/.vscode/extensions/quay.stray-1.0.0/bin/stray", ""),
            ],
        ),
        (
            prefixes(),
            &[
                "jetbrains-toolbox/user:maren/Chart-IDE/c1 2026.1 explicit",
                "jetbrains-toolbox/user:maren/Everything/c2 1 explicit",
                "steam/user:maren/7 99 explicit 2048 B",
                "android-sdk/user:maren/build-tools;34.0.0 34.0.0 explicit",
                "tlmgr/system/rope 41000 unknown",
                "tlmgr/system/tide 2.4 unknown",
                "tlmgr/system/tide.x86_64-linux 59001 unknown",
            ],
            &[
                ("/usr/local/texlive/2026/bin/x86_64-linux/tide", "tlmgr/system/tide.x86_64-linux"),
                ("/usr/local/texlive/2026/texmf-dist/tex/latex/tide/tide.sty", "tlmgr/system/tide"),
                ("/etc/passwd", ""),
                ("/home/maren/Android/Sdk/build-tools/34.0.0/bin/aapt", "android-sdk/user:maren/build-tools;34.0.0"),
                ("/home/maren/Android/Sdk/platforms/own/file", ""),
                (
                    "/home/maren/.local/share/JetBrains/Toolbox/apps/chart-ide/bin/chart.sh",
                    "jetbrains-toolbox/user:maren/Chart-IDE/c1",
                ),
                ("/home/maren/.local/share/Steam/steamapps/common/Pilot/bin/pilot", "steam/user:maren/7"),
                ("/srv/play/steamapps/common/x", ""),
                ("/home/maren/.local/share/applications/Harbour Pilot.desktop", "steam/user:maren/7"),
            ],
        ),
        (
            extensions(),
            &["sysext/system/gauge  explicit", "sysext/system/tide 3.1 explicit"],
            &[
                ("/var/lib/extensions/tide/usr/bin/tide", "sysext/system/tide"),
                ("/var/lib/extensions/notes.txt", ""),
                ("/var/lib/portables/gauge.raw", "sysext/system/gauge"),
            ],
        ),
    ];
    cases.iter().for_each(is_read);
    // What a launcher or a script starts is told, and which version is set.
    for (path, id) in [
        ("/home/maren/.juliaup/bin/julia", "juliaup/user:maren/julia/1.10.4+0.x64.linux.gnu"),
        ("/home/maren/.ghcup/bin/ghc", "ghcup/user:maren/ghc/9.4.7"),
    ] {
        let answer = ask(&cases[0].0, &["owner", path])["answers"][0].clone();
        assert_eq!(text(&answer["owner"]["id"]), id, "{answer:#}");
    }
    let script = ask(&cases[2].0, &["owner", "/home/maren/.local/share/JetBrains/Toolbox/scripts/chart"]);
    assert_eq!(text(&script["answers"][0]["owner"]["name"]), "Chart-IDE", "{script:#}");
    let own = ask(&cases[1].0, &["owner", "/home/maren/.krew/bin/kubectl-own"]);
    assert!(own.to_string().contains("krew puts programs there, and has no record of this one"), "{own:#}");
    let told = ask(&cases[2].0, &["why", "rope"]);
    assert_eq!(text(&told["chains"][0]["chain"][0]["id"]), "tlmgr/system/tide", "{told:#}");
    // A manifest without a directory that can be is named.
    let lost = ask(&cases[2].0, &["inventory", "--all"])["coverage"].to_string();
    assert!(lost.contains("appmanifest_8.acf") && !lost.contains("gone.desktop"), "{lost}");
}

/// Records cut anywhere, with bytes turned over, and of the wrong kind: an answer each time, and what is lost is said.
#[test]
fn damage_to_records_of_tools_is_said() {
    let cases: [Damaged<'_>; 9] = [
        (versions, "home/maren/.julia/juliaup/juliaup.json"),
        (plugins, "home/maren/.krew/receipts/tide-view.yaml"),
        (plugins, "home/maren/.vscode/extensions/extensions.json"),
        (prefixes, "usr/local/texlive/2026/tlpkg/texlive.tlpdb"),
        (prefixes, "home/maren/Android/Sdk/build-tools/34.0.0/package.xml"),
        (prefixes, "home/maren/.local/share/JetBrains/Toolbox/state.json"),
        (prefixes, "home/maren/.local/share/Steam/steamapps/appmanifest_7.acf"),
        (prefixes, "home/maren/.local/share/Steam/steamapps/libraryfolders.vdf"),
        (extensions, "var/lib/extensions/tide/usr/lib/extension-release.d/extension-release.tide"),
    ];
    let targets = [
        "/home/maren/.juliaup/bin/julia",
        "/home/maren/.krew/bin/kubectl-tide_view",
        "/home/maren/.vscode/extensions/quay.tide-1.4.0/server/bin/tided",
        "/usr/local/texlive/2026/bin/x86_64-linux/tide",
        "/home/maren/Android/Sdk/build-tools/34.0.0/bin/aapt",
        "/home/maren/.local/share/JetBrains/Toolbox/scripts/chart",
        "/home/maren/.local/share/Steam/steamapps/common/Pilot/bin/pilot",
        "/var/lib/extensions/tide/usr/bin/tide",
    ];
    damage_is_said(&cases, &targets.map(str::to_owned));
}
