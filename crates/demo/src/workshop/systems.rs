//! What managers of whole systems recorded on `jetty`, each with one package that was built there for another island.

use super::Records;

/// Records of packages, each with its program.
pub const RECORDS: Records = &[
    // pacman.
    (
        "var/lib/pacman/local/oakumlist-1.8-2/desc",
        "%NAME%\noakumlist\n\n%VERSION%\n1.8-2\n\n%BASE%\noakumlist\n\n%DESC%\nCounts the oakum that a hull takes\n\n%ARCH%\nx86_64\n\n%INSTALLDATE%\n1770886800\n\n%SIZE%\n4096\n\n%VALIDATION%\nnone\n\n",
    ),
    ("var/lib/pacman/local/oakumlist-1.8-2/files", "%FILES%\nusr/\nusr/bin/\nusr/bin/oakumlist\n\n"),
    ("var/lib/pacman/local/ALPM_DB_VERSION", "9\n"),
    ("usr/bin/oakumlist", "#!/bin/sh\n"),
    // apk.
    (
        "lib/apk/db/installed",
        "C:Q1u2p6bA1rZ0mVqf4dYx7cKhT9sGo=\nP:tarpot\nV:0.9-r3\nA:x86_64\nS:2048\nI:8192\nT:Keeps tar warm\nU:https://quay.example/tarpot\nL:MIT\nt:1770886800\nF:usr\nF:usr/bin\nR:tarpot\na:0:0:755\n\n",
    ),
    ("etc/apk/world", "tarpot\n"),
    ("etc/apk/arch", "x86_64\n"),
    ("usr/bin/tarpot", "#!/bin/sh\n"),
    // Portage.
    (
        "var/db/pkg/harbour-misc/caulkwise-3.0-r1/CONTENTS",
        "dir /usr\ndir /usr/bin\nobj /usr/bin/caulkwise 06d2bce9f6a3c4f2ecd2a4d5a7b1c0de 1770886800\n",
    ),
    ("var/db/pkg/harbour-misc/caulkwise-3.0-r1/SLOT", "0\n"),
    ("var/db/pkg/harbour-misc/caulkwise-3.0-r1/repository", "quay\n"),
    ("var/db/pkg/harbour-misc/caulkwise-3.0-r1/SIZE", "4096\n"),
    ("var/lib/portage/world", "harbour-misc/caulkwise\n"),
    ("usr/bin/caulkwise", "#!/bin/sh\n"),
    // eopkg.
    (
        "var/lib/eopkg/package/ribframe-1.1-4/metadata.xml",
        "<PISI><Source><Name>ribframe</Name></Source><Package><Name>ribframe</Name><Summary>Draws the ribs of a hull</Summary><Architecture>x86_64</Architecture><InstalledSize>4096</InstalledSize><History><Update release=\"4\"><Date>2026-02-10</Date><Version>1.1</Version></Update></History></Package></PISI>\n",
    ),
    (
        "var/lib/eopkg/package/ribframe-1.1-4/files.xml",
        "<Files><File><Path>usr/bin/ribframe</Path><Type>executable</Type><Size>10</Size><Uid>0</Uid><Gid>0</Gid><Mode>0755</Mode></File></Files>\n",
    ),
    ("usr/bin/ribframe", "#!/bin/sh\n"),
    // xbps.
    (
        "var/db/xbps/pkgdb-0.38.plist",
        "<?xml version=\"1.0\"?>\n<plist version=\"1.0\">\n<dict>\n<key>plankcount</key>\n<dict><key>architecture</key><string>x86_64</string><key>automatic-install</key><false/><key>install-date</key><string>2026-02-12 09:00 UTC</string><key>installed_size</key><integer>4096</integer><key>pkgver</key><string>plankcount-3.1_2</string><key>repository</key><string>https://quay.example/current</string><key>state</key><string>installed</string></dict>\n</dict>\n</plist>\n",
    ),
    (
        "var/db/xbps/.plankcount-files.plist",
        "<?xml version=\"1.0\"?>\n<plist version=\"1.0\">\n<dict><key>files</key><array><dict><key>file</key><string>/usr/bin/plankcount</string><key>sha256</key><string>4e7bd38ce6d6f2ae3af8c1a4d1a9d1b7c66a1b1c9b0e0c2a2d3c4b5a69788776</string></dict></array></dict>\n</plist>\n",
    ),
    ("usr/bin/plankcount", "#!/bin/sh\n"),
    // pkgtools.
    (
        "var/lib/pkgtools/packages/rivetcount-2.0-x86_64-1_quay",
        "PACKAGE NAME:     rivetcount-2.0-x86_64-1_quay\nCOMPRESSED PACKAGE SIZE:     1K\nUNCOMPRESSED PACKAGE SIZE:     4K\nPACKAGE LOCATION: ./rivetcount-2.0-x86_64-1_quay.txz\nPACKAGE DESCRIPTION:\nrivetcount: rivetcount (counts rivets)\nFILE LIST:\n./\nusr/\nusr/bin/\nusr/bin/rivetcount\n",
    ),
    ("var/lib/pkgtools/scripts/rivetcount-2.0-x86_64-1_quay", "( cd usr/bin ; ln -sf rivetcount rivets )\n"),
    ("usr/bin/rivetcount", "#!/bin/sh\n"),
    ("usr/bin/rivets", "-> rivetcount"),
    // opkg.
    (
        "usr/lib/opkg/status",
        "Package: bilgewatch\nVersion: 1.4-2\nStatus: install user installed\nArchitecture: x86_64\nInstalled-Time: 1770886800\n\n",
    ),
    ("usr/lib/opkg/info/bilgewatch.list", "/usr/bin/bilgewatch\n"),
    (
        "usr/lib/opkg/info/bilgewatch.control",
        "Package: bilgewatch\nVersion: 1.4-2\nArchitecture: x86_64\nInstalled-Size: 4096\nDescription: Watches the bilges\n",
    ),
    ("usr/bin/bilgewatch", "#!/bin/sh\n"),
    // An extension of the system.
    (
        "var/lib/extensions/dockbell/usr/lib/extension-release.d/extension-release.dockbell",
        "ID=groyne\nVERSION_ID=4\nSYSEXT_VERSION_ID=5.0\nARCHITECTURE=x86-64\n",
    ),
    ("var/lib/extensions/dockbell/usr/bin/dockbell", "#!/bin/sh\n"),
    // Guix.
    ("var/guix/profiles/per-user/fenna/guix-profile", "-> guix-profile-1-link"),
    ("var/guix/profiles/per-user/fenna/guix-profile-1-link", "-> /gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile"),
    (
        "gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile/manifest",
        ";; What fenna's profile holds.\n(manifest (version 4) (packages ((\"eddyplot\" \"3.1\" \"out\" \"/gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-eddyplot-3.1\" (propagated-inputs ()) (search-paths ())))))\n",
    ),
    (
        "gnu/store/4m9fffkf9s19ak8zgzgi2z852z6wpzva-profile/bin",
        "-> /gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-eddyplot-3.1/bin",
    ),
    ("gnu/store/0m9fffkf9s19ak8zgzgi2z852z6wpzva-eddyplot-3.1/bin/eddyplot", "#!/bin/sh\n"),
    ("home/fenna/.guix-profile", "-> /var/guix/profiles/per-user/fenna/guix-profile"),
    // Containers: a service of an image, a program that starts one, and one that is exported from another.
    (
        "etc/containers/systemd/ferryhail.container",
        "[Unit]\nDescription=Hails ferries\n\n[Container]\nImage=quay.example/harbour/ferryhail:2.0\n",
    ),
    (
        "home/fenna/.local/share/containers/storage/overlay-images/images.json",
        "[{\"id\":\"7c1f0f6b2f0e4d5a8b9c7d6e5f4a3b2c1d0e9f8a7b6c5d4e3f2a1b0c9d8e7f6a\",\"names\":[\"quay.example/harbour/brinebook:1.2\"],\"created\":\"2026-02-10T08:00:00Z\"},{\"id\":\"8d2f0f6b2f0e4d5a8b9c7d6e5f4a3b2c1d0e9f8a7b6c5d4e3f2a1b0c9d8e7f6a\",\"names\":[\"quay.example/harbour/workbench:4\"],\"created\":\"2026-02-10T08:00:00Z\"}]",
    ),
    (
        "home/fenna/.local/share/containers/storage/overlay-containers/containers.json",
        "[{\"id\":\"9e3f0f6b2f0e4d5a8b9c7d6e5f4a3b2c1d0e9f8a7b6c5d4e3f2a1b0c9d8e7f6a\",\"names\":[\"workbench\"],\"image\":\"8d2f0f6b2f0e4d5a8b9c7d6e5f4a3b2c1d0e9f8a7b6c5d4e3f2a1b0c9d8e7f6a\",\"metadata\":\"{\\\"image-name\\\":\\\"quay.example/harbour/workbench:4\\\"}\",\"created\":\"2026-02-10T08:05:00Z\"}]",
    ),
    (
        "home/fenna/.local/bin/brinebook",
        "#!/bin/sh\nexec podman run --rm -v \"$PWD:/w\" quay.example/harbour/brinebook:1.2 \"$@\"\n",
    ),
    (
        "home/fenna/.local/bin/gullcount",
        "#!/bin/sh\n# distrobox_binary\n# name: workbench\nif [ \"$CONTAINER_ID\" = workbench ]; then\n\texec '/usr/bin/gullcount' \"$@\"\nelse\n\texec distrobox-enter -n workbench -- '/usr/bin/gullcount' \"$@\"\nfi\n",
    ),
];
