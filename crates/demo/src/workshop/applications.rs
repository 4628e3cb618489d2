//! Applications, games and kits that bring managers of their own, on `jetty`.

use super::Records;

/// Records, each with its program.
pub const RECORDS: Records = &[
    ("usr/local/stow/knotchart-2.0/bin/knotchart", "#!/bin/sh\n"),
    ("usr/local/bin/knotchart", "-> ../stow/knotchart-2.0/bin/knotchart"),
    (
        "usr/local/texlive/2026/tlpkg/texlive.tlpdb",
        "name 00texlive.config\ncategory TLCore\nrevision 1\ndepend release/2026\n\nname portnotes\ncategory Package\nrevision 59000\nshortdesc Notices to mariners\nbinfiles arch=x86_64-linux size=1\n bin/x86_64-linux/portnotes\ncatalogue-version 2.4\n\n",
    ),
    ("usr/local/texlive/2026/bin/x86_64-linux/portnotes", "#!/bin/sh\n"),
    (
        "home/fenna/Android/Sdk/build-tools/34.0.0/package.xml",
        "<repository><localPackage path=\"build-tools;34.0.0\"><revision><major>34</major><minor>0</minor><micro>0</micro></revision><display-name>Build tools</display-name></localPackage></repository>\n",
    ),
    ("home/fenna/Android/Sdk/build-tools/34.0.0/aapt2", "#!/bin/sh\n"),
    (
        "home/fenna/.local/share/JetBrains/Toolbox/state.json",
        "{\"version\":1,\"tools\":[{\"channelId\":\"a1\",\"toolId\":\"Quaywright\",\"displayName\":\"Quaywright\",\"displayVersion\":\"2026.1\",\"installLocation\":\"/home/fenna/.local/share/JetBrains/Toolbox/apps/quaywright\",\"launchCommand\":\"bin/quaywright.sh\"}]}",
    ),
    ("home/fenna/.local/share/JetBrains/Toolbox/apps/quaywright/bin/quaywright.sh", "#!/bin/sh\n"),
    (
        "home/fenna/.local/share/JetBrains/Toolbox/scripts/quaywright",
        "#!/bin/sh\nexec /home/fenna/.local/share/JetBrains/Toolbox/apps/quaywright/bin/quaywright.sh \"$@\"\n",
    ),
    (
        "home/fenna/.local/share/Steam/steamapps/libraryfolders.vdf",
        "\"libraryfolders\"\n{\n\t\"0\"\n\t{\n\t\t\"path\"\t\t\"/home/fenna/.local/share/Steam\"\n\t}\n}\n",
    ),
    (
        "home/fenna/.local/share/Steam/steamapps/appmanifest_7007.acf",
        "\"AppState\"\n{\n\t\"appid\"\t\t\"7007\"\n\t\"name\"\t\t\"Regatta Day\"\n\t\"StateFlags\"\t\t\"4\"\n\t\"installdir\"\t\t\"Regatta Day\"\n\t\"buildid\"\t\t\"118\"\n\t\"SizeOnDisk\"\t\t\"10\"\n}\n",
    ),
    ("home/fenna/.local/share/Steam/steamapps/common/Regatta Day/regatta", "#!/bin/sh\n"),
    (
        "home/fenna/.config/legendary/installed.json",
        "{\"Ferrymaster\":{\"app_name\":\"Ferrymaster\",\"title\":\"Ferrymaster\",\"version\":\"1.2\",\"install_path\":\"/home/fenna/Games/ferrymaster\",\"executable\":\"ferrymaster\"}}",
    ),
    ("home/fenna/Games/ferrymaster/ferrymaster", "#!/bin/sh\n"),
    ("home/fenna/Games/lightkeeper/lightkeeper", "#!/bin/sh\n"),
    (
        "home/fenna/google-cloud-sdk/.install/core.snapshot.json",
        "{\"components\":[{\"id\":\"core\",\"is_required\":true,\"version\":{\"build_number\":20260203,\"version_string\":\"2026.02.03\"}}]}",
    ),
    ("home/fenna/google-cloud-sdk/.install/core.manifest", "bin/gcloud\n"),
    ("home/fenna/google-cloud-sdk/bin/gcloud", "#!/bin/sh\n"),
];
