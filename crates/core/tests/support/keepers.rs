//! A machine with a record of each manager that keeps tools, plug-ins, containers and applications: what is not among the
//! files of `any_bytes` itself. A content that begins with `-> ` is a link's target.

/// Path and content.
pub const FILES: [(&str, &str); 120] = [
    ("etc/passwd", "maren:x:1000:1000::/home/maren:/bin/sh\n"),
    // Systems.
    (
        "var/db/xbps/pkgdb-0.38.plist",
        "<plist version=\"1.0\"><dict><key>tarn</key><dict><key>pkgver</key><string>tarn-3.1_2</string><key>run_depends</key><array><string>b&gt;=0.2_1</string></array><key>state</key><string>installed</string></dict></dict></plist>",
    ),
    (
        "var/db/xbps/.tarn-files.plist",
        "<plist version=\"1.0\"><dict><key>files</key><array><dict><key>file</key><string>/usr/bin/pegel</string><key>sha256</key><string>00</string></dict></array></dict></plist>",
    ),
    (
        "var/lib/pkgtools/packages/tarn-3.1-x86_64-2_quay",
        "PACKAGE NAME:     tarn-3.1-x86_64-2_quay\nUNCOMPRESSED PACKAGE SIZE:     2K\nFILE LIST:\n./\nusr/bin/pegel\netc/gauge.conf.new\n",
    ),
    ("var/lib/pkgtools/scripts/tarn-3.1-x86_64-2_quay", "( cd usr/bin ; ln -sf pegel tide )\n"),
    (
        "usr/lib/opkg/status",
        "Package: tarn\nVersion: 3.1-2\nDepends: cord | b (>= 0.2)\nStatus: install user installed\nInstalled-Time: 1767225600\n\n",
    ),
    ("usr/lib/opkg/info/tarn.list", "/usr/bin/pegel\n/usr/bin/tide\t0777\tpegel\n"),
    (
        "var/lib/extensions/tarn/usr/lib/extension-release.d/extension-release.tarn",
        "ID=harbour\nSYSEXT_VERSION_ID=3.1\nARCHITECTURE=x86-64\n",
    ),
    (
        "var/lib/snapd/state.json",
        "{\"data\":{\"snaps\":{\"tarn\":{\"type\":\"app\",\"sequence\":[{\"name\":\"tarn\",\"snap-id\":\"x\",\"revision\":\"44\"}],\"active\":true,\"current\":\"44\",\"channel\":\"latest/stable\"}}}}",
    ),
    ("snap/tarn/44/meta/snap.yaml", "name: tarn\nversion: 3.44\ntype: app\napps:\n  tarn:\n    command: bin/tarn\n"),
    ("snap/tarn/current", "-> 44"),
    // Flatpak, with a repository.
    (
        "home/maren/.local/share/flatpak/repo/config",
        "[core]\nxa.pinned=runtime/*;\n[remote \"quay\"]\nurl=https://quay.example\n",
    ),
    (
        "home/maren/.local/share/flatpak/repo/refs/heads/deploy/app/org.harbour.Tarn/x86_64/stable",
        "00000000000000000000000000000000000000000000000000000000000000aa\n",
    ),
    (
        "home/maren/.local/share/flatpak/repo/objects/00/000000000000000000000000000000000000000000000000000000000000aa.commit",
        "x",
    ),
    (
        "home/maren/.local/share/flatpak/repo/objects/00/000000000000000000000000000000000000000000000000000000000000bb.file",
        "x",
    ),
    ("home/maren/.local/share/flatpak/app/org.harbour.Tarn/x86_64/stable/a/deploy", "quay\0aa\0"),
    (
        "home/maren/.local/share/flatpak/app/org.harbour.Tarn/x86_64/stable/a/metadata",
        "[Application]\nname=org.harbour.Tarn\nruntime=org.harbour.Platform/x86_64/24\n",
    ),
    ("home/maren/.local/share/flatpak/app/org.harbour.Tarn/x86_64/stable/active", "-> a"),
    // Guix.
    ("var/guix/profiles/per-user/maren/guix-profile", "-> guix-profile-1-link"),
    ("var/guix/profiles/per-user/maren/guix-profile-1-link", "-> /gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile"),
    (
        "gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile/manifest",
        "(manifest (version 4) (packages ((\"tarn\" \"3.1\" \"out\" \"/gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-tarn-3.1\"))))",
    ),
    // Games, firmware, programs of Scala and Haskell.
    ("home/maren/.local/share/lutris/pga.db", "SQLite format 3\0"),
    ("var/lib/fwupd/pending.db", "SQLite format 3\0"),
    ("home/maren/.local/share/coursier/bin/tarn", "#!/bin/sh\nPK\u{5}\u{6}\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0"),
    ("home/maren/.stack/programs/x86_64-linux/ghc-tinfo6-9.4.7/bin/ghc", "x"),
    // Versions that are kept, and small managers.
    ("home/maren/.local/share/fnm/node-versions/v18.0.0/installation/bin/node", "x"),
    (
        "home/maren/.local/share/fnm/aliases/default",
        "-> /home/maren/.local/share/fnm/node-versions/v18.0.0/installation",
    ),
    ("home/maren/.goenv/versions/1.22.0/bin/go", "x"),
    ("home/maren/.goenv/version", "1.22.0\n"),
    ("home/maren/.nodenv/versions/20.2.0/bin/node", "x"),
    ("home/maren/.nodenv/version", "20.2.0\n"),
    ("home/maren/.rbenv/versions/3.1.2/bin/ruby", "x"),
    ("home/maren/.rbenv/version", "3.1.2\n"),
    ("home/maren/.jenv/versions/21", "-> /opt/jdk-21"),
    ("home/maren/.jenv/version", "21\n"),
    ("home/maren/.volta/tools/image/node/20.0.0/bin/node", "x"),
    (
        "home/maren/.volta/tools/user/packages/tarn.json",
        "{\"name\":\"tarn\",\"version\":\"1.0.0\",\"bins\":[\"tarn\"]}",
    ),
    ("home/maren/.local/share/mise/installs/node/20.1.0/bin/node", "x"),
    ("home/maren/.config/mise/config.toml", "[tools]\nnode = \"20\"\n"),
    ("home/maren/.m2/wrapper/dists/apache-maven-3.9.6/3a8e/bin/mvn", "x"),
    ("home/maren/tide/mvnw", "x"),
    (
        "home/maren/tide/.mvn/wrapper/maven-wrapper.properties",
        "distributionUrl=https://quay.example/apache-maven-3.9.6-bin.zip\n",
    ),
    ("home/maren/.cache/coursier/jvm/temurin@1.17.0/bin/java", "x"),
    ("home/maren/.local/share/pnpm/global/5/package.json", "{\"dependencies\":{\"tarn\":\"1.0.0\"}}"),
    (
        "home/maren/.local/share/pnpm/global/5/node_modules/tarn/package.json",
        "{\"name\":\"tarn\",\"version\":\"1.0.0\"}",
    ),
    ("home/maren/.config/yarn/global/package.json", "{\"dependencies\":{\"tarn\":\"1.0.0\"}}"),
    ("home/maren/.config/yarn/global/node_modules/tarn/package.json", "{\"name\":\"tarn\",\"version\":\"1.0.0\"}"),
    ("home/maren/.terraformrc", "provider_installation {\n  filesystem_mirror {\n    path = \"/srv/mirror\"\n  }\n}\n"),
    ("srv/mirror/quay.example/harbour/tide/1.2.0/linux_amd64/terraform-provider-tide_v1.2.0", "x"),
    ("usr/local/stow/tarn/bin/stowed", "x"),
    ("usr/local/bin/stowed", "-> ../stow/tarn/bin/stowed"),
    ("home/maren/Applications/tarn.AppImage", "\u{7f}ELF\u{2}\u{1}\u{1}\0AI\u{2}\0\0\0\0\0\u{2}\0>\0"),
    // Databases.
    ("var/lib/rpm/rpmdb.sqlite", "SQLite format 3\0"),
    ("opt/local/var/macports/registry/registry.db", "SQLite format 3\0"),
    ("nix/var/nix/db/db.sqlite", "SQLite format 3\0"),
    ("nix/var/nix/profiles/per-user/maren/profile", "-> profile-1-link"),
    (
        "nix/var/nix/profiles/per-user/maren/profile-1-link",
        "-> /nix/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-user-environment",
    ),
    (
        "nix/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-user-environment/manifest.json",
        "{\"version\":3,\"elements\":{\"tarn\":{\"active\":true,\"storePaths\":[\"/nix/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-tarn-3.1\"]}}}",
    ),
    // Containers.
    ("etc/containers/systemd/tarn.container", "[Container]\nImage=rope.image\n"),
    ("etc/containers/systemd/rope.image", "[Image]\nImage=quay.example:5000/rope@sha256:0a1b\n"),
    ("etc/containers/systemd/tarn.container.d/5.conf", "[Container]\nImage=quay.example/tarn:2\n"),
    (
        "home/maren/.local/share/containers/storage/overlay-images/images.json",
        "[{\"id\":\"77\",\"names\":[\"docker.io/library/tarn:latest\"]},{\"id\":\"78\"}]",
    ),
    (
        "home/maren/.local/share/containers/storage/overlay-containers/containers.json",
        "[{\"id\":\"66\",\"names\":[\"box\"],\"image\":\"77\",\"metadata\":\"{\\\"image-name\\\":\\\"tarn\\\"}\"}]",
    ),
    (
        "var/lib/docker/image/overlay2/repositories.json",
        "{\"Repositories\":{\"quay.example/tarn\":{\"quay.example/tarn:3.2\":\"sha256:77\"}}}",
    ),
    ("home/maren/.local/bin/tarn", "#!/bin/sh\nexec podman run --rm -v \"$PWD:/w\" tarn:3.2 \"$@\"\n"),
    ("home/maren/.local/bin/gauge", "#!/bin/sh\n# distrobox_binary\n# name: box\nelse\n\t/usr/bin/gauge \"$@\"\nfi\n"),
    // Languages.
    (
        "home/maren/.pub-cache/global_packages/tarn/pubspec.lock",
        "packages:\n  tarn:\n    dependency: \"direct main\"\n    source: hosted\n    version: \"2.0.0\"\n",
    ),
    (
        "home/maren/.pub-cache/bin/tarn",
        "#!/usr/bin/env sh\n# This file was created by pub v3.3.0.\n# Package: tarn\n# Version: 2.0.0\n",
    ),
    (
        "home/maren/.dotnet/tools/.store/tarn/3.1.0/tarn/3.1.0/tools/net8.0/any/DotnetToolSettings.xml",
        "<DotNetCliTool Version=\"1\"><Commands><Command Name=\"tarn\" EntryPoint=\"tarn.dll\" Runner=\"dotnet\" /></Commands></DotNetCliTool>",
    ),
    ("home/maren/.dotnet/tools/tarn", "x"),
    ("home/maren/.opam/config", "opam-version: \"2.0\"\nswitch: \"harbour\"\ninstalled-switches: [\"harbour\"]\n"),
    ("home/maren/.opam/harbour/.opam-switch/switch-state", "roots: [\"tarn.1.2\"]\ninstalled: [\"tarn.1.2\"]\n"),
    (
        "home/maren/.opam/harbour/.opam-switch/packages/tarn.1.2/opam",
        "opam-version: \"2.0\"\ndepends: [\"b\" {>= \"1\"}]\n",
    ),
    (
        "home/maren/.opam/harbour/.opam-switch/install/tarn.changes",
        "added: [\n  \"lib/tarn\" {\"D\"}\n  \"bin/tarn\" {\"F:S1T1\"}\n]\n",
    ),
    (
        "usr/local/lib/luarocks/rocks-5.4/manifest",
        "repository = {\n   tarn = {\n      [\"1.2-1\"] = {\n         {\n            arch = \"installed\",\n            commands = {\n               tarn = \"bin/tarn\"\n            }\n         }\n      }\n   }\n}\ndependencies = {}\n",
    ),
    (
        "usr/local/lib/luarocks/rocks-5.4/tarn/1.2-1/rock_manifest",
        "rock_manifest = {\n   bin = {\n      tarn = \"00\"\n   }\n}\n",
    ),
    (
        "usr/local/lib/x86_64-linux-gnu/perl/5.36.0/auto/Tarn/.packlist",
        "/usr/local/bin/tarn\n/usr/local/share/perl/5.36.0/Tarn.pm type=file\n",
    ),
    ("usr/local/share/perl/5.36.0/Tarn.pm", "package Tarn;\nour $VERSION = '1.20';\n"),
    (
        "home/maren/R/x86_64-pc-linux-gnu-library/4.2/tarn/DESCRIPTION",
        "Package: tarn\nVersion: 1.2-3\nDepends: R (>= 4.0), b\nBuilt: R 4.2.2; ; 2026-01-01 00:00:00 UTC; unix\n",
    ),
    (
        "home/maren/.config/composer/vendor/composer/installed.json",
        "{\"packages\":[{\"name\":\"quay/tarn\",\"version\":\"v1.2.0\",\"bin\":[\"bin/tarn\"],\"install-path\":\"../quay/tarn\",\"require\":{\"php\":\">=8\"}}]}",
    ),
    ("home/maren/.config/composer/composer.json", "{\"require\":{\"quay/tarn\":\"^1\"}}"),
    ("home/maren/.bun/install/global/package.json", "{\"dependencies\":{\"tarn\":\"^1\"}}"),
    (
        "home/maren/.bun/install/global/node_modules/tarn/package.json",
        "{\"name\":\"tarn\",\"version\":\"1.0.0\",\"bin\":\"t.js\"}",
    ),
    (
        "home/maren/.deno/bin/tarn",
        "#!/bin/sh\n# generated by deno install\nexec deno run --no-config 'https://quay.example/tarn@1.0.0/main.ts' \"$@\"\n",
    ),
    ("home/maren/.mix/escripts/tarn", "#! /usr/bin/env escript\n%%! +fnu\nPK\u{3}\u{4}x"),
    ("home/maren/.cabal/store/ghc-9.4.7/tarn-0.3.1-e-tarn-0a1b/bin/tarn", "x"),
    ("home/maren/.cabal/bin/tarn", "-> ../store/ghc-9.4.7/tarn-0.3.1-e-tarn-0a1b/bin/tarn"),
    // Versions.
    ("home/maren/.ghcup/ghc/9.4.7/bin/ghc-9.4.7", "x"),
    ("home/maren/.ghcup/bin/ghc", "-> ../ghc/9.4.7/bin/ghc-9.4.7"),
    (
        "home/maren/.julia/juliaup/juliaup.json",
        "{\"Default\":\"release\",\"InstalledVersions\":{\"1.10.4+0.x64\":{\"Path\":\"./julia-1.10.4\"}},\"InstalledChannels\":{\"release\":{\"Version\":\"1.10.4+0.x64\"}}}",
    ),
    (
        "home/maren/.local/share/swiftly/config.json",
        "{\"inUse\":\"6.1.0\",\"installedToolchains\":[\"6.1.0\",\"5.10.1\"],\"version\":\"1.0.0\"}",
    ),
    ("home/maren/.zvm/0.13.0/zig", "x"),
    ("home/maren/.sdkman/candidates/almanac/4.1.0/bin/almanac", "#!/bin/sh\n"),
    ("home/maren/.sdkmanrc", "almanac=3.9.2\n"),
    ("home/maren/.nvm/versions/node/v20.2.0/bin/node", "x"),
    ("home/maren/.nvm/alias/default", "lts/*\n"),
    ("home/maren/.nvmrc", "24\n"),
    ("home/maren/.volta/bin/node", "-> volta-shim"),
    ("home/maren/package.json", "{\"volta\":{\"extends\":\"./base.json\"},\"engines\":{\"node\":\">=18\"}}"),
    ("home/maren/base.json", "{\"volta\":{\"node\":\"24.1.0\"}}"),
    // Plug-ins and applications.
    (
        "home/maren/.krew/receipts/tarn.yaml",
        "kind: Plugin\nmetadata:\n  name: tarn\nspec:\n  version: v0.3.1\nstatus:\n  source:\n    name: default\n",
    ),
    ("home/maren/.local/share/helm/plugins/tarn/plugin.yaml", "name: \"tarn\"\nversion: \"3.1.0\"\n"),
    (
        "home/maren/.local/share/gh/extensions/gh-tarn/manifest.yml",
        "owner: quay\nname: gh-tarn\nhost: github.com\ntag: v1.2\npath: /x\n",
    ),
    (
        "home/maren/.local/share/nvim/mason/packages/tarn/mason-receipt.json",
        "{\"schema_version\":\"1.1\",\"name\":\"tarn\",\"primary_source\":{\"id\":\"pkg:github/quay/tarn@v1.4.0\"},\"links\":{\"bin\":{\"tarn\":\"tarn\"}}}",
    ),
    ("home/maren/.terraformrc", "provider_installation {\n  filesystem_mirror {\n    path = \"/srv/mirror\"\n  }\n}\n"),
    (
        "home/maren/.vscode/extensions/extensions.json",
        "[{\"identifier\":{\"id\":\"Quay.tarn\"},\"version\":\"1.4.0\",\"relativeLocation\":\"quay.tarn-1.4.0\",\"metadata\":{\"pinned\":true}}]",
    ),
    (
        "usr/local/texlive/2026/tlpkg/texlive.tlpdb",
        "name 00texlive.config\ndepend release/2026\n\nname tarn\ncategory Package\nrevision 59000\ndepend b\nbinfiles arch=x86_64-linux size=1\n bin/x86_64-linux/tarn\ncatalogue-version 2.4\n\n",
    ),
    (
        "home/maren/Android/Sdk/build-tools/34.0.0/package.xml",
        "<r><localPackage path=\"build-tools;34.0.0\"><revision><major>34</major><minor>0</minor></revision></localPackage></r>",
    ),
    (
        "home/maren/.local/share/JetBrains/Toolbox/state.json",
        "{\"version\":1,\"tools\":[{\"toolId\":\"Tarn\",\"displayVersion\":\"2026.1\",\"installLocation\":\"/home/maren/.local/share/JetBrains/Toolbox/apps/tarn\",\"launchCommand\":\"bin/tarn.sh\"}]}",
    ),
    (
        "home/maren/.local/share/Steam/steamapps/libraryfolders.vdf",
        "\"libraryfolders\"\n{\n\t\"0\"\n\t{\n\t\t\"path\"\t\"/home/maren/.local/share/Steam\"\n\t}\n}\n",
    ),
    (
        "home/maren/.local/share/Steam/steamapps/appmanifest_7.acf",
        "\"AppState\"\n{\n\t\"appid\"\t\"7\"\n\t\"name\"\t\"Tarn\"\n\t\"installdir\"\t\"Tarn\"\n\t\"SizeOnDisk\"\t\"2048\"\n}\n",
    ),
    (
        "home/maren/.config/legendary/installed.json",
        "{\"Tarn\":{\"app_name\":\"Tarn\",\"title\":\"Tarn\",\"version\":\"1.2\",\"install_path\":\"/srv/play/tarn\",\"executable\":\"tarn\"}}",
    ),
    (
        "home/maren/google-cloud-sdk/.install/core.snapshot.json",
        "{\"components\":[{\"id\":\"core\",\"version\":{\"version_string\":\"2026.10.30\"}}]}",
    ),
    ("home/maren/google-cloud-sdk/.install/core.manifest", "bin/gcloud\n../../.profile\n"),
    ("home/maren/.gradle/wrapper/dists/gradle-8.5-bin/a/gradle-8.5/bin/gradle", "x"),
    ("home/maren/.gradle/wrapper/dists/gradle-8.5-bin/a/gradle-8.5-bin.zip.ok", ""),
    ("home/maren/tide/gradlew", "#!/bin/sh\n"),
    (
        "home/maren/tide/gradle/wrapper/gradle-wrapper.properties",
        "distributionBase=GRADLE_USER_HOME\ndistributionUrl=https\\://quay.example/gradle-8.5-bin.zip\n",
    ),
    ("etc/containers/systemd/pods.kube", "[Kube]\nYaml=pods.yaml\n"),
    ("etc/containers/systemd/pods.yaml", "kind: Pod\nspec:\n  containers:\n  - image: quay.example/tarn:3\n"),
];

/// A disk of macOS.
pub const MACOS: [(&str, &str); 9] = [
    ("etc/passwd", "root:*:0:0::/var/root:/bin/sh\n"),
    (
        "System/Library/CoreServices/SystemVersion.plist",
        "<plist><dict><key>ProductVersion</key><string>15.2</string></dict></plist>",
    ),
    (
        "var/db/receipts/org.harbour.tarn.plist",
        "<plist><dict><key>InstallPrefixPath</key><string>usr</string><key>PackageVersion</key><string>3.1</string></dict></plist>",
    ),
    (
        "var/db/receipts/org.harbour.tarn.bom",
        "BOMStore\0\0\0\u{1}\0\0\0\0\0\0\0\u{20}\0\0\0\u{4}\0\0\0\u{24}\0\0\0\u{4}\0\0\0\0\0\0\0\0",
    ),
    (
        "Applications/Tarn.app/Contents/Info.plist",
        "<plist><dict><key>CFBundleIdentifier</key><string>org.harbour.tarn</string><key>CFBundleExecutable</key><string>tarn</string></dict></plist>",
    ),
    ("etc/paths", "/usr/bin\n/bin\n"),
    ("Users/maren/.zprofile", "eval `/usr/libexec/path_helper -s`\n"),
    (
        "Library/LaunchDaemons/org.harbour.tarn.plist",
        "<plist><dict><key>EnvironmentVariables</key><dict><key>PATH</key><string>/opt/tarn</string></dict></dict></plist>",
    ),
    ("usr/bin/tarn", "x"),
];
