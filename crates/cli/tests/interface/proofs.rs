//! What is tried: a problem for each kind of finding, planted with the real managers, and the remedies as they must be
//! printed.

/// One problem, and its remedies.
pub struct Proof {
    /// The kind of the finding.
    pub kind: &'static str,
    /// What the problem is made with.
    pub by: &'static str,
    /// The subject of the finding.
    pub subject: &'static str,
    /// Lines that plant the problem, typed by root.
    pub plant: &'static str,
    /// The question that finds it.
    pub asked: &'static str,
    /// Every remedy, as it is printed.
    pub commands: &'static [&'static str],
    /// Where remedies may change files, besides the managers' own state.
    pub changes: &'static [&'static str],
}

const CHECK: &str = "check --level note";

/// A snap at two revisions, and what stands in for snap.
pub const SNAP_TWICE: &str = r#". /root/tools
mkdir -p /var/lib/snapd/snaps /snap/bin
echo '{"data":{"snaps":{"chartdesk":{"type":"app","sequence":[{"name":"chartdesk","snap-id":"x","revision":"41"},{"name":"chartdesk","snap-id":"x","revision":"44"}],"active":true,"current":"44","channel":"latest/stable"}}}}' > /var/lib/snapd/state.json
for revision in 41 44; do
    mkdir -p /snap/chartdesk/$revision/meta
    printf "name: chartdesk\nversion: 3.$revision\nsummary: made up\ntype: app\nconfinement: strict\napps:\n  chartdesk:\n    command: bin/chartdesk\n" > /snap/chartdesk/$revision/meta/snap.yaml
    script /snap/chartdesk/$revision/bin/chartdesk 3; echo image > /var/lib/snapd/snaps/chartdesk_$revision.snap
done
ln -s 44 /snap/chartdesk/current
cat > /usr/bin/snap <<'SNAP'
#!/bin/sh
# Stands in for snap: it goes back to a revision; it forgets one, and removes its files.
if [ "$*" = "revert chartdesk --revision 41" ]; then
    ln -sfn 41 /snap/chartdesk/current; exec sed -i 's/"current":"44"/"current":"41"/' /var/lib/snapd/state.json
fi
[ "$*" = "remove chartdesk --revision 41" ] || exit 64
rm -r /snap/chartdesk/41 /var/lib/snapd/snaps/chartdesk_41.snap
echo '{"data":{"snaps":{"chartdesk":{"type":"app","sequence":[{"name":"chartdesk","snap-id":"x","revision":"44"}],"active":true,"current":"44","channel":"latest/stable"}}}}' > /var/lib/snapd/state.json
SNAP
chmod 755 /usr/bin/snap; ln -s /usr/bin/snap /snap/bin/chartdesk
echo 'PATH=$PATH:/snap/bin' >> /home/maren/.profile
"#;

/// Shell functions with which problems are planted.
pub const TOOLS: &str = r#"
cat > /root/tools <<'TOOLS'
# deb NAME VERSION [FIELDS]: packs the directory `p`, puts the package into the repository; `p` is used up.
deb() {
    mkdir -p p/DEBIAN
    printf 'Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: Quay <quay@quay.example>\n%sDescription: made up\n' "$1" "$2" "${3:-}" > p/DEBIAN/control
    (cd p; find . -path ./DEBIAN -prune -o -type f -print | grep -v '^./etc' | cut -c3- | sort | xargs -r md5sum > DEBIAN/md5sums
     find etc -type f 2>/dev/null | sed 's,^,/,' > DEBIAN/conffiles || true)
    dpkg-deb --root-owner-group -b p "/srv/debs/$1_$2_all.deb" >/dev/null; rm -rf p
}
# listed: the repository's list is made and fetched.
listed() {
    (cd /srv/debs; dpkg-scanpackages --multiversion . > Packages 2>/dev/null)
    apt-get update -qq 2>/dev/null
}
# installs NAME...: from the repository.
installs() { listed; apt-get install -qq -y "$@" >/dev/null 2>&1; }
# script FILE TEXT: an executable script.
script() { mkdir -p "$(dirname "$1")"; printf '#!/bin/sh\necho %s\n' "$2" > "$1"; chmod 755 "$1"; }
# as_user USER LINES: in that user's login.
as_user() { su -s /bin/bash - "$1" -c "$2"; }
# wheel NAME VERSION [REQUIRES [SCRIPT]]: a package of Python for the local index.
wheel() {
    python3 - "$@" <<'PYTHON'
import base64, hashlib, sys, zipfile
name, version, requires, script = (sys.argv[1:] + ["", ""])[:4]
info = f"{name}-{version}.dist-info"
files = {f"{name}/__init__.py": f"VERSION = '{version}'\ndef main():\n    print('{version}')\n", f"{name}/more.py": "MORE = 1\n",
         f"{info}/METADATA": f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n" + (f"Requires-Dist: {requires}\n" if requires else ""),
         f"{info}/WHEEL": "Wheel-Version: 1.0\nGenerator: quay\nRoot-Is-Purelib: true\nTag: py3-none-any\n"}
if script:
    files[f"{info}/entry_points.txt"] = f"[console_scripts]\n{script} = {name}:main\n"
rows = []
with zipfile.ZipFile(f"/srv/wheels/{name}-{version}-py3-none-any.whl", "w") as wheel:
    for path, content in files.items():
        wheel.writestr(path, content)
        digest = base64.urlsafe_b64encode(hashlib.sha256(content.encode()).digest()).rstrip(b"=").decode()
        rows.append(f"{path},sha256={digest},{len(content)}")
    wheel.writestr(f"{info}/RECORD", "\n".join(rows + [f"{info}/RECORD,,"]) + "\n")
PYTHON
}
# pac VERSION: a package of pacman's in the local repository, with its list.
pac() {
    rm -rf pk db; mkdir -p pk/usr/bin db/buoyage-$1 /var/lib/pacman
    echo $1 > pk/usr/bin/buoyage; chmod 755 pk/usr/bin/buoyage
    printf "pkgname = buoyage\npkgver = $1\npkgdesc = made up\narch = any\nsize = 2\n" > pk/.PKGINFO
    file=buoyage-$1-any.pkg.tar.zst
    (cd pk; bsdtar -cf - --format=mtree --options='!all,use-set,type,uid,gid,mode,time,size,md5,sha256,link' .PKGINFO usr | gzip > .MTREE
     bsdtar -cf - .MTREE .PKGINFO usr | zstd -q > /srv/pacman/$file)
    printf '%%FILENAME%%\n'$file'\n\n%%NAME%%\nbuoyage\n\n%%VERSION%%\n'$1'\n\n%%ARCH%%\nany\n\n%%CSIZE%%\n'$(stat -c %s /srv/pacman/$file)'\n\n%%ISIZE%%\n2\n' > db/buoyage-$1/desc
    bsdtar -C db -czf /srv/pacman/quay.db buoyage-$1
    printf '[options]\nArchitecture = auto\nSigLevel = Never\n[quay]\nServer = file:///srv/pacman\n' > /etc/pacman.conf
    pacman -Syy --quiet >/dev/null 2>&1
}
# gem_of VERSION: a gem with a program, in the local source.
gem_of() {
    mkdir -p /srv/gem/bin /srv/gem/gems; cd /srv/gem; printf '#!/usr/bin/ruby\nputs "'$1'"\n' > bin/lamp; chmod 755 bin/lamp
    printf 'Gem::Specification.new { |s| s.name = "lantern"; s.version = "'$1'"; s.summary = "made up"; s.authors = ["Quay"]; s.files = ["bin/lamp"]; s.executables = ["lamp"] }\n' > lantern.gemspec
    gem build --silent lantern.gemspec 2>/dev/null; mv lantern-$1.gem gems/
    gem generate_index --silent --directory /srv/gem >/dev/null 2>&1
    printf -- '---\n:sources:\n- file:///srv/gem/\n' > /etc/gemrc; chmod -R a+rX /srv/gem; cd /root
}
# flatpaks: a repository of flatpak's with an application and its runtime.
flatpaks() {
    mkdir -p /srv/fp/rt/files /srv/fp/app/files/bin /srv/fp/app/export/share/applications
    cd /srv/fp
    printf '[Runtime]\nname=org.harbour.Platform\nruntime=org.harbour.Platform/x86_64/24\n' > rt/metadata
    echo x > rt/files/x
    printf '[Application]\nname=org.harbour.ChartDesk\nruntime=org.harbour.Platform/x86_64/24\ncommand=chartdesk\n' > app/metadata
    printf '#!/bin/sh\n' > app/files/bin/chartdesk
    chmod 755 app/files/bin/chartdesk
    printf '[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n' > app/export/share/applications/org.harbour.ChartDesk.desktop
    mkdir -p app/files/share/app-info/xmls
    printf '<?xml version="1.0"?><components version="0.8"><component type="desktop"><id>org.harbour.ChartDesk.desktop</id><name>Chart Desk</name><url type="homepage">https://chartdesk.example</url><releases><release version="3.0" timestamp="1767225600"/></releases></component></components>' | gzip > app/files/share/app-info/xmls/org.harbour.ChartDesk.xml.gz
    flatpak build-export --runtime --arch=x86_64 --files=files repo rt 24 >/dev/null 2>&1
    flatpak build-export --arch=x86_64 repo app stable >/dev/null 2>&1
    flatpak build-update-repo repo >/dev/null
    chmod -R a+rX /srv/fp
    cd /root
}
# cut_short REPOSITORY: into it comes a commit that no reference names.
cut_short() {
    echo beta > /srv/fp/app/files/more
    flatpak build-export --arch=x86_64 /srv/fp/repo /srv/fp/app beta >/dev/null 2>&1
    ostree --repo="$1" pull-local /srv/fp/repo "$(ostree --repo=/srv/fp/repo rev-parse app/org.harbour.ChartDesk/x86_64/beta)" >/dev/null
}
# nixes: a store of maren's own, which builds by itself.
nixes() {
    mkdir -p /nix /etc/nix
    chown -R maren: /nix
    printf 'sandbox = false\nsubstituters =\nbuild-users-group =\n' > /etc/nix/nix.conf
}
# tides VERSION...: installs these, one after the other, into maren's profile; each is a generation.
tides() {
    nixes
    for version; do
        cat > ~maren/tide.nix <<TIDE
derivation { name = "tidegauge-$version"; system = builtins.currentSystem; builder = "/bin/sh"; args = [ "-c" "/bin/mkdir -p \$out/bin; echo echo $version > \$out/bin/tidegauge; /bin/chmod 755 \$out/bin/tidegauge" ]; }
TIDE
        as_user maren 'nix-env --quiet -i -f tide.nix'
    done
    as_user maren 'echo "PATH=\$HOME/.nix-profile/bin:\$PATH" >> ~/.profile'
}
# rpm_of NAME VERSION [REQUIRES]: a package of rpm's with a program, in the directory of dnf's repository.
rpm_of() {
    mkdir -p /etc/rpm /root/top; echo '%_dbpath /var/lib/rpm' > /etc/rpm/macros
    printf 'Name: '$1'\nVersion: '$2'\nRelease: 1\nSummary: made up\nLicense: MIT\nBuildArch: noarch\n'${3:+'Requires: '$3'\n'}'%%description\nmade up\n%%install\nmkdir -p %%{buildroot}/usr/bin; echo '$2' > %%{buildroot}/usr/bin/'$1'; chmod 755 %%{buildroot}/usr/bin/'$1'\n%%files\n/usr/bin/'$1'\n' > $1.spec
    rpmbuild -bb --quiet --define '_topdir /root/top' $1.spec >/dev/null 2>&1
    cp top/RPMS/noarch/*.rpm /srv/rpms/
}
# rpms: the repository of dnf's, with the packages that were made.
rpms() {
    mkdir -p /etc/yum.repos.d; createrepo_c -q /srv/rpms
    printf '[quay]\nname=Quay\nbaseurl=file:///srv/rpms\ngpgcheck=0\n' > /etc/yum.repos.d/quay.repo
    echo 1 > /etc/dnf/vars/releasever
}
TOOLS
mkdir -p /srv/npm
"#;

/// Two packages that came along with one that is gone, the one needed by the other.
pub const DNF_ORPHANS: &str = r#"
. /root/tools
rpm_of buoy 1.0; rpm_of chain 1.0 buoy; rpm_of anchor 1.0 chain; rpms
dnf -q -y install anchor >/dev/null 2>&1
dnf -q -y --setopt=clean_requirements_on_remove=0 remove anchor >/dev/null 2>&1
"#;

/// A package of dnf's at two versions, of which the newer one took the place of the older one.
pub const DNF_UPGRADED: &str = r#"
. /root/tools
rpm_of anchor 1.0; rpm_of anchor 2.0; rpms
dnf -q -y install anchor-1.0 >/dev/null 2>&1
dnf -q -y upgrade anchor >/dev/null 2>&1
"#;

/// The same with pacman.
pub const PACMAN_ORPHANS: &str = r#"
mkdir -p /var/lib/pacman; printf '[options]\nArchitecture = auto\nSigLevel = Never\n' > /etc/pacman.conf
for one in buoy: chain:buoy; do
    name=${one%:*}-arch needs=${one#*:}
    mkdir -p pk/usr/share/$name; echo 1 > pk/usr/share/$name/data
    printf "pkgname = $name\npkgver = 1.0-1\npkgdesc = made up\narch = any\nsize = 2\n${needs:+depend = $needs-arch\n}" > pk/.PKGINFO
    (cd pk; bsdtar -cf - --format=mtree --options='!all,use-set,type,uid,gid,mode,time,size,md5,sha256,link' .PKGINFO usr | gzip > .MTREE
     bsdtar -cf - .MTREE .PKGINFO usr | zstd -q > /srv/pacman/$name-1.0-1-any.pkg.tar.zst)
    rm -rf pk
done
pacman -U --noconfirm --asdeps /srv/pacman/*.zst >/dev/null 2>&1
"#;

/// Kinds of findings that never have a remedy, and why.
pub const WITHOUT: &[(&str, &str)] = &[
    ("context-dependent-command", "which copy is wanted in which context, only the user knows"),
    ("alias-hides-command", "a user's own start-up file says so, and is edited by hand"),
    ("function-hides-command", "a user's own start-up file says so, and is edited by hand"),
    ("builtin-hides-command", "every shell of that kind has it"),
    ("masked-launcher", "a user's own entry is there to mask the other"),
    ("launcher-runs-other", "the launcher is right about the name; what the name starts is a shadowed command"),
    ("masked-library", "what else loads the library is in no record"),
    ("mismatched-manual", "the page goes with the copy that its package brings"),
    ("altered-settings", "settings are there to be changed"),
    (
        "two-owners",
        "the same cause is cured under `overwritten-file`; where both records fit the file, nothing is broken",
    ),
    ("unreached-environment", "whether it is still wanted, only its user knows"),
    ("unused-interpreter", "whether a project elsewhere needs it, only its user knows; `owner` prints the command"),
    ("broken-association", "what is to open these files, only the user knows"),
    ("missing-library", "which package brings the library is not recorded"),
    ("missing-directory", "harmless, until someone makes the directory"),
    ("duplicate-directory", "harmless"),
    ("relative-directory", "a start-up file says so, and is edited by hand"),
    ("uncertain-path", "what is unknown may be right"),
    ("stale-session", "a new login has it"),
    ("no-origin", "where else it could come from is not recorded"),
    ("doomed-link", "which lasting path the link is to have, only the user knows"),
    ("sideloaded", "whether a store or a remote has it too, only its maker tells"),
    ("unsigned-bundle", "only its maker can sign it"),
    ("dead-origin", "where the remote has gone is not recorded"),
    ("end-of-life", "which release or runtime is to take its place, only the user knows"),
    (
        "unreachable-program",
        "which start-up file should name the directory, and whether one should, only the user knows",
    ),
    (
        "record-disagrees",
        "the package is installed again from its registry, which no test has; a package from elsewhere has no remedy",
    ),
    ("unmet-expectation", "the expectation is the user's own"),
    ("unsigned-source", "only its owner can sign it, and gives out the key"),
    ("expired-key", "only its owner gives out the newer key"),
    ("duplicate-source", "which of the two entries is to stay, only the user knows"),
    ("stale-catalogue", "why it is not refreshed, only the machine's own log tells"),
    ("ambiguous-index", "which index a name is meant to come from, only the user knows"),
    ("unused-source", "something may still be installed from it"),
    ("nobody-updates", "where else it could come from is not recorded; a hold is what the user wants"),
];

/// Every proof.
pub const PROOFS: &[Proof] = &[
    Proof {
        kind: "shadowed-command",
        by: "dpkg, and a script by hand",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; script /usr/local/bin/lamp 2; touch /usr/local/bin/lamp.aside",
        asked: CHECK,
        commands: &["sudo mv -n -- /usr/local/bin/lamp /usr/local/bin/lamp.aside2"],
        changes: &["/usr/local/bin/lamp", "/usr/local/bin/lamp.aside2"],
    },
    Proof {
        kind: "shadowed-command",
        by: "dpkg, and a user's own script",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; as_user maren 'mkdir -p ~/.local/bin'; script /home/maren/.local/bin/lamp 2; chown maren: /home/maren/.local/bin/lamp",
        asked: CHECK,
        commands: &["sudo -u maren -H mv -n -- /home/maren/.local/bin/lamp /home/maren/.local/bin/lamp.aside"],
        changes: &["/home/maren/.local/bin"],
    },
    Proof {
        kind: "shadowed-command",
        by: "dpkg, and a build of two programs",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; script p/usr/bin/lamp-view 1; deb lamp 1.0; installs lamp; script /usr/local/bin/lamp 2; script /usr/local/bin/lamp-view 2",
        asked: CHECK,
        commands: &[
            "sudo mv -n -- /usr/local/bin/lamp /usr/local/bin/lamp.aside && sudo mv -n -- /usr/local/bin/lamp-view /usr/local/bin/lamp-view.aside",
        ],
        changes: &["/usr/local/bin"],
    },
    Proof {
        kind: "shadowed-command",
        by: "dpkg, and a link by hand",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; script /opt/quay/bin/lamp 2; ln -s /opt/quay/bin/lamp /usr/local/bin/lamp",
        asked: CHECK,
        commands: &["sudo rm -- /usr/local/bin/lamp"],
        changes: &["/usr/local/bin/lamp"],
    },
    Proof {
        kind: "shadowed-command",
        by: "dpkg and npm",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; mkdir -p /srv/npm/lantern; printf '{\"name\":\"lantern\",\"version\":\"2.0.0\",\"bin\":{\"lamp\":\"lamp.js\"}}' > /srv/npm/lantern/package.json; printf '#!/usr/bin/env node\\nconsole.log(2)\\n' > /srv/npm/lantern/lamp.js; cd /srv/npm; npm pack --silent ./lantern >/dev/null; npm install --silent --global --prefix /usr/local /srv/npm/lantern-2.0.0.tgz",
        asked: CHECK,
        commands: &["sudo npm uninstall --global --prefix /usr/local lantern"],
        changes: &["/usr/local/bin/lamp", "/usr/local/lib/node_modules", "/root/.npm"],
    },
    Proof {
        kind: "shadowed-command",
        by: "dpkg, and gem of one user",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; mkdir -p /srv/gem/bin; cd /srv/gem; printf '#!/usr/bin/ruby\\nputs 2\\n' > bin/lamp; chmod 755 bin/lamp; printf 'Gem::Specification.new { |s| s.name = \"lantern\"; s.version = \"2.0\"; s.summary = \"made up\"; s.authors = [\"Quay\"]; s.files = [\"bin/lamp\"]; s.executables = [\"lamp\"] }\\n' > lantern.gemspec; gem build --silent lantern.gemspec 2>/dev/null; chmod -R a+rX /srv/gem; as_user maren 'gem install --silent --user-install --local /srv/gem/lantern-2.0.gem 2>/dev/null; echo \"PATH=\\$HOME/.local/share/gem/ruby/3.1.0/bin:\\$PATH\" >> ~/.profile'",
        asked: CHECK,
        commands: &["sudo -u maren -H gem uninstall --user-install lantern --version 2.0"],
        changes: &["/home/maren/.local/share/gem"],
    },
    Proof {
        kind: "masked-module",
        by: "dpkg, and pip of one user",
        subject: "knots",
        plant: ". /root/tools; wheel knots 2.0; mkdir -p p/usr/lib/python3/dist-packages/knots; echo V=1 > p/usr/lib/python3/dist-packages/knots/__init__.py; deb python3-knots 1.0; printf '#!/usr/bin/python3\\nimport knots\\n' > /root/berthplan; install -D -m 755 /root/berthplan p/usr/bin/berthplan; deb berthplan 1.0; installs python3-knots berthplan; as_user maren 'python3 -m pip install --quiet --user --break-system-packages knots'",
        asked: CHECK,
        commands: &["sudo -u maren -H /usr/bin/python3.11 -m pip uninstall --break-system-packages -- knots"],
        changes: &["/home/maren/.local/lib/python3.11"],
    },
    Proof {
        kind: "masked-module",
        by: "dpkg, and pip for all users",
        subject: "knots",
        plant: ". /root/tools; wheel knots 2.0; mkdir -p p/usr/lib/python3/dist-packages/knots; echo V=1 > p/usr/lib/python3/dist-packages/knots/__init__.py; deb python3-knots 1.0; printf '#!/usr/bin/python3\nimport knots\n' > /root/berthplan; install -D -m 755 /root/berthplan p/usr/bin/berthplan; deb berthplan 1.0; installs python3-knots berthplan; python3 -m pip install --quiet --break-system-packages knots 2>/dev/null",
        asked: CHECK,
        commands: &["sudo /usr/bin/python3.11 -m pip uninstall --break-system-packages -- knots"],
        changes: &["/usr/local/lib/python3.11"],
    },
    Proof {
        kind: "runs-other-code",
        by: "dpkg, and pip for all users",
        subject: "knots",
        plant: ". /root/tools; wheel knots 2.0; mkdir -p p/usr/lib/python3/dist-packages/knots; echo V=1 > p/usr/lib/python3/dist-packages/knots/__init__.py; printf '#!/usr/bin/python3\nimport knots\n' > /root/knots; install -D -m 755 /root/knots p/usr/bin/knots; deb python3-knots 1.0; installs python3-knots; python3 -m pip install --quiet --break-system-packages knots 2>/dev/null",
        asked: CHECK,
        commands: &["sudo /usr/bin/python3.11 -m pip uninstall --break-system-packages -- knots"],
        changes: &["/usr/local/lib/python3.11"],
    },
    Proof {
        kind: "duplicate-title",
        by: "dpkg and pipx, at one version",
        subject: "swellplot",
        plant: ". /root/tools; wheel swellplot 1.0 '' swellplot; script p/usr/bin/swellplot 1; deb swellplot 1.0-1; installs swellplot; as_user maren 'pipx install swellplot >/dev/null'",
        asked: CHECK,
        commands: &["sudo -u maren -H pipx uninstall swellplot"],
        changes: &["/home/maren/.local"],
    },
    Proof {
        kind: "bypassed-protection",
        by: "pip of one user",
        subject: "knots",
        plant: ". /root/tools; wheel knots 2.0; wheel moor 1.0; as_user maren 'python3 -m pip install --quiet --user --break-system-packages knots moor'",
        asked: CHECK,
        commands: &["sudo -u maren -H /usr/bin/python3.11 -m pip uninstall --break-system-packages -- knots moor"],
        changes: &["/home/maren/.local/lib/python3.11"],
    },
    Proof {
        kind: "bypassed-protection",
        by: "pip, beside dpkg's modules",
        subject: "knots",
        plant: ". /root/tools; wheel knots 2.0; mkdir -p p/usr/lib/python3/dist-packages/knots p/usr/lib/python3/dist-packages/knots-1.0.egg-info; echo V=1 > p/usr/lib/python3/dist-packages/knots/__init__.py; printf 'Metadata-Version: 1.0\\nName: knots\\nVersion: 1.0\\n' > p/usr/lib/python3/dist-packages/knots-1.0.egg-info/PKG-INFO; deb python3-knots 1.0; installs python3-knots; python3 -m pip install --quiet --break-system-packages --upgrade --target /usr/lib/python3/dist-packages knots 2>/dev/null",
        asked: CHECK,
        commands: &[
            "sudo rm -r -- /usr/lib/python3/dist-packages/knots-2.0.dist-info /usr/lib/python3/dist-packages/knots/__pycache__ /usr/lib/python3/dist-packages/knots/more.py && sudo apt install --reinstall python3-knots",
        ],
        changes: &[
            "/usr/lib/python3/dist-packages/knots",
            "/usr/lib/python3/dist-packages/knots-2.0.dist-info",
            "/usr/lib/python3/dist-packages/knots-1.0.egg-info",
        ],
    },
    Proof {
        kind: "overwritten-file",
        by: "pip, over dpkg's modules",
        subject: "python3-knots",
        plant: ". /root/tools; wheel knots 2.0; mkdir -p p/usr/lib/python3/dist-packages/knots p/usr/lib/python3/dist-packages/knots-1.0.egg-info; echo V=1 > p/usr/lib/python3/dist-packages/knots/__init__.py; printf 'Metadata-Version: 1.0\\nName: knots\\nVersion: 1.0\\n' > p/usr/lib/python3/dist-packages/knots-1.0.egg-info/PKG-INFO; deb python3-knots 1.0; installs python3-knots; python3 -m pip install --quiet --break-system-packages --upgrade --target /usr/lib/python3/dist-packages knots 2>/dev/null",
        asked: CHECK,
        commands: &[
            "sudo rm -r -- /usr/lib/python3/dist-packages/knots-2.0.dist-info /usr/lib/python3/dist-packages/knots/__pycache__ /usr/lib/python3/dist-packages/knots/more.py && sudo apt install --reinstall python3-knots",
        ],
        changes: &[
            "/usr/lib/python3/dist-packages/knots",
            "/usr/lib/python3/dist-packages/knots-2.0.dist-info",
            "/usr/lib/python3/dist-packages/knots-1.0.egg-info",
        ],
    },
    Proof {
        kind: "bypassed-protection",
        by: "the marker deleted",
        subject: "libpython3.11-stdlib",
        plant: ". /root/tools; rm /usr/lib/python3.11/EXTERNALLY-MANAGED",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "old-generation",
        by: "nix-env of one user, which installed twice",
        subject: "/nix/var/nix/profiles/per-user/maren/profile",
        plant: ". /root/tools; tides 2.0 3.0",
        asked: CHECK,
        commands: &[
            "sudo -u maren -H nix-env --profile /nix/var/nix/profiles/per-user/maren/profile --delete-generations old",
        ],
        changes: &["/nix/var/nix", "/nix/var/log", "/nix/store", "/home/maren/.nix-profile"],
    },
    Proof {
        kind: "unreferenced-store-path",
        by: "nix-build of one user, without a link",
        subject: "/nix/store",
        plant: ". /root/tools; nixes; as_user maren 'cat > tide.nix <<EOF\nderivation { name = \"tidegauge-2.0\"; system = builtins.currentSystem; builder = \"/bin/sh\"; args = [ \"-c\" \"/bin/mkdir -p \\$out/bin; echo echo 2 > \\$out/bin/tidegauge; /bin/chmod 755 \\$out/bin/tidegauge\" ]; }\nEOF\nnix-build --quiet --no-out-link tide.nix >/dev/null 2>&1'",
        asked: CHECK,
        commands: &["sudo -u maren -H nix-store --gc"],
        changes: &["/nix/var/nix", "/nix/var/log", "/nix/store", "/home/maren/.nix-profile"],
    },
    Proof {
        kind: "unused-runtime",
        by: "flatpak for all users, of which the application was removed",
        subject: "org.harbour.Platform",
        plant: ". /root/tools; flatpaks; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --system install -y --noninteractive quay org.harbour.ChartDesk >/dev/null 2>&1; flatpak --system uninstall -y --noninteractive org.harbour.ChartDesk >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo flatpak uninstall --system -y org.harbour.Platform/x86_64/24"],
        changes: &["/var/lib/flatpak", "/root/.local/share"],
    },
    Proof {
        kind: "unreferenced-object",
        by: "flatpak for all users, with what an installation that was cut short had fetched",
        subject: "/var/lib/flatpak/repo",
        plant: ". /root/tools; flatpaks; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --system install -y --noninteractive quay org.harbour.ChartDesk >/dev/null 2>&1; cut_short /var/lib/flatpak/repo",
        asked: "leftovers",
        commands: &["sudo flatpak repair --system"],
        changes: &["/var/lib/flatpak", "/root/.local/share"],
    },
    Proof {
        kind: "unreferenced-object",
        by: "flatpak of one user, with what an installation that was cut short had fetched",
        subject: "/home/maren/.local/share/flatpak/repo",
        plant: ". /root/tools; flatpaks; export FLATPAK_USER_DIR=/home/maren/.local/share/flatpak; flatpak --user remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --user install -y --noninteractive quay org.harbour.ChartDesk >/dev/null; cut_short $FLATPAK_USER_DIR/repo; chown -R maren: /home/maren",
        asked: "leftovers",
        commands: &["sudo -u maren -H env flatpak repair --user"],
        changes: &["/home/maren/.local/share/flatpak", "/home/maren/.cache"],
    },
    Proof {
        kind: "stray-companion",
        by: "a program installed by hand, and deleted alone",
        subject: "tidegauge",
        plant: "mkdir -p /usr/local/share/man/man1 /usr/local/share/bash-completion/completions; echo x > /usr/local/share/man/man1/tidegauge.1; echo 'complete -W go tidegauge' > /usr/local/share/bash-completion/completions/tidegauge",
        asked: "leftovers",
        commands: &[
            "sudo rm -- /usr/local/share/man/man1/tidegauge.1 /usr/local/share/bash-completion/completions/tidegauge",
        ],
        changes: &["/usr/local/share"],
    },
    Proof {
        kind: "stray-companion",
        by: "a completion of one user's, of a program that is gone",
        subject: "tidegauge",
        plant: "su - maren -c 'mkdir -p .config/fish/completions; echo complete -c tidegauge -a go > .config/fish/completions/tidegauge.fish'",
        asked: "leftovers",
        commands: &["sudo -u maren -H rm -- /home/maren/.config/fish/completions/tidegauge.fish"],
        changes: &["/home/maren/.config/fish"],
    },
    Proof {
        kind: "disabled-revision",
        by: "snap (a stand-in for it) after an upgrade",
        subject: "chartdesk",
        plant: SNAP_TWICE,
        asked: CHECK,
        commands: &["sudo snap remove chartdesk --revision 41"],
        changes: &["/snap", "/var/lib/snapd"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and pipx",
        subject: "swellplot",
        plant: ". /root/tools; wheel swellplot 2.0 '' swellplot; script p/usr/bin/swellplot 1; deb swellplot 1.0; installs swellplot; as_user maren 'pipx install swellplot >/dev/null'",
        asked: CHECK,
        commands: &["sudo -u maren -H pipx uninstall swellplot"],
        changes: &["/home/maren/.local"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and uv",
        subject: "swellplot",
        plant: ". /root/tools; wheel swellplot 2.0 '' swellplot; script p/usr/bin/swellplot 1; deb swellplot 1.0; installs swellplot; as_user tobin 'UV_OFFLINE=1 uv tool install --quiet --python /usr/bin/python3 --no-index --find-links /srv/wheels swellplot'",
        asked: CHECK,
        commands: &["sudo -u tobin -H uv tool uninstall swellplot"],
        changes: &["/home/tobin/.local"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and Cargo",
        subject: "shoal",
        plant: ". /root/tools; script p/usr/bin/shoal 1; deb shoal 1.0; installs shoal; mkdir -p /srv/shoal/src; printf '[package]\\nname = \"shoal\"\\nversion = \"2.0.0\"\\n' > /srv/shoal/Cargo.toml; echo 'fn main() {}' > /srv/shoal/src/main.rs; cp -r /srv/shoal /home/maren/shoal; chown -R maren: /home/maren/shoal; as_user maren 'cargo install --quiet --offline --path ~/shoal; rm -rf ~/shoal/target; echo \"PATH=\\$HOME/.cargo/bin:\\$PATH\" >> ~/.profile' 2>/dev/null",
        asked: CHECK,
        commands: &["sudo -u maren -H cargo uninstall shoal"],
        changes: &["/home/maren/.cargo"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and nix",
        subject: "tidegauge",
        plant: ". /root/tools; script p/usr/bin/tidegauge 1; deb tidegauge 1.0; installs tidegauge; tides 2.0",
        asked: CHECK,
        commands: &[
            "sudo -u maren -H nix-env --profile /nix/var/nix/profiles/per-user/maren/profile --uninstall tidegauge",
        ],
        changes: &["/nix/var/nix", "/nix/var/log", "/nix/store", "/home/maren/.nix-profile"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and flatpak of one user",
        subject: "chartdesk",
        plant: ". /root/tools; flatpaks; script p/usr/bin/chartdesk 1; mkdir -p p/usr/share/applications; printf '[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n' > p/usr/share/applications/chartdesk.desktop; deb chartdesk 1.0; installs chartdesk; export FLATPAK_USER_DIR=/home/tobin/.local/share/flatpak; flatpak --user remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --user install -y --noninteractive quay org.harbour.ChartDesk >/dev/null; chown -R tobin: /home/tobin; ",
        asked: CHECK,
        commands: &["sudo -u tobin -H env flatpak uninstall --user -y org.harbour.ChartDesk/x86_64/stable"],
        changes: &["/home/tobin/.local/share/flatpak"],
    },
    Proof {
        kind: "duplicate-launcher",
        by: "dpkg and flatpak of one user",
        subject: "org.harbour.ChartDesk.desktop",
        plant: ". /root/tools; flatpaks; script p/usr/bin/chartdesk 1; mkdir -p p/usr/share/applications; printf '[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n' > p/usr/share/applications/chartdesk.desktop; deb chartdesk 1.0; installs chartdesk; export FLATPAK_USER_DIR=/home/maren/.local/share/flatpak; flatpak --user remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --user install -y --noninteractive quay org.harbour.ChartDesk >/dev/null; chown -R maren: /home/maren; echo 'export XDG_DATA_DIRS=$HOME/.local/share/flatpak/exports/share:/usr/share' >> /home/maren/.profile",
        asked: CHECK,
        commands: &["sudo -u maren -H env flatpak uninstall --user -y org.harbour.ChartDesk/x86_64/stable"],
        changes: &["/home/maren/.local/share/flatpak"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and flatpak for all users",
        subject: "chartdesk",
        plant: ". /root/tools; flatpaks; script p/usr/bin/chartdesk 1; mkdir -p p/usr/share/applications; printf '[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n' > p/usr/share/applications/chartdesk.desktop; deb chartdesk 1.0; installs chartdesk; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --system install -y --noninteractive quay org.harbour.ChartDesk >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo flatpak uninstall --system -y org.harbour.ChartDesk/x86_64/stable"],
        changes: &["/var/lib/flatpak", "/root/.local/share"],
    },
    Proof {
        kind: "invisible-launcher",
        by: "nix profile of one user",
        subject: "semaphore.desktop",
        plant: ". /root/tools; nixes; as_user maren 'cat > s.nix <<EOF\nderivation { name = \"semaphore-2.0\"; system = builtins.currentSystem; builder = \"/bin/sh\"; args = [ \"-c\" \"/bin/mkdir -p \\$out/bin \\$out/share/applications; echo echo 2 > \\$out/bin/semaphore; /bin/chmod 755 \\$out/bin/semaphore; /usr/bin/printf \\\"[Desktop Entry]\\\\nType=Application\\\\nName=Semaphore\\\\nExec=semaphore\\\\n\\\" > \\$out/share/applications/semaphore.desktop\" ]; }\nEOF\nnix-env --quiet -i -f s.nix; echo \"PATH=\\$HOME/.nix-profile/bin:\\$PATH\" >> ~/.profile'",
        asked: CHECK,
        commands: &[
            "sudo -u maren -H sh -c 'echo \"export XDG_DATA_DIRS=\\\"\\${XDG_DATA_DIRS:-/usr/local/share:/usr/share}:/nix/var/nix/profiles/per-user/maren/profile/share\\\"\" >> ~/.profile'",
        ],
        changes: &["/home/maren/.profile"],
    },
    Proof {
        kind: "broken-package",
        by: "pipx, whose interpreter has gone",
        subject: "swellplot",
        plant: ". /root/tools; wheel swellplot 2.0 '' swellplot; as_user maren 'pipx install swellplot >/dev/null; cd .local/*/pipx/venvs/swellplot/bin 2>/dev/null || cd .local/pipx/venvs/swellplot/bin; ln -sf /opt/gone/python3 python3; ln -sf python3 python; rm -f python3.11'",
        asked: CHECK,
        commands: &["sudo -u maren -H pipx reinstall swellplot"],
        changes: &["/home/maren/.local"],
    },
    Proof {
        kind: "broken-interpreter",
        by: "pipx, whose interpreter has gone",
        subject: "/home/maren/.local/pipx/venvs/swellplot/bin/swellplot",
        plant: ". /root/tools; wheel swellplot 2.0 '' swellplot; as_user maren 'pipx install swellplot >/dev/null; cd .local/*/pipx/venvs/swellplot/bin 2>/dev/null || cd .local/pipx/venvs/swellplot/bin; ln -sf /opt/gone/python3 python3; ln -sf python3 python; rm -f python3.11'",
        asked: CHECK,
        commands: &["sudo -u maren -H pipx reinstall swellplot"],
        changes: &["/home/maren/.local"],
    },
    Proof {
        kind: "missing-file",
        by: "rpm and dnf",
        subject: "buoy",
        plant: "mkdir -p /root/top; printf 'Name: buoy\nVersion: 1.0\nRelease: 1\nSummary: made up\nLicense: MIT\nBuildArch: noarch\n%%description\nmade up\n%%install\nmkdir -p %%{buildroot}/usr/bin; echo 1 > %%{buildroot}/usr/bin/buoy; chmod 755 %%{buildroot}/usr/bin/buoy\n%%files\n/usr/bin/buoy\n' > buoy.spec; rpmbuild -bb --quiet --define '_topdir /root/top' buoy.spec >/dev/null 2>&1; cp top/RPMS/noarch/*.rpm /srv/rpms/; createrepo_c -q /srv/rpms; mkdir -p /etc/yum.repos.d; printf '[quay]\nname=Quay\nbaseurl=file:///srv/rpms\ngpgcheck=0\n' > /etc/yum.repos.d/quay.repo; dnf -q -y --releasever=1 install buoy >/dev/null 2>&1; rm /usr/bin/buoy",
        asked: CHECK,
        commands: &["sudo dnf reinstall buoy"],
        changes: &["/usr/bin/buoy", "/root/.rpmdb", "/var/lib/dnf"],
    },
    Proof {
        kind: "held-back",
        by: "apt",
        subject: "seaglass",
        plant: ". /root/tools; script p/usr/bin/seaglass 1; deb seaglass 1.0; installs seaglass; apt-mark hold seaglass >/dev/null; script p/usr/bin/seaglass 2; deb seaglass 2.0; listed",
        asked: CHECK,
        commands: &["sudo apt-mark unhold seaglass"],
        changes: &[],
    },
    Proof {
        kind: "missing-file",
        by: "dpkg",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; mkdir -p p/usr/lib/lamp; echo 1 > p/usr/lib/lamp/data; deb lamp 1.0; installs lamp; rm /usr/bin/lamp",
        asked: CHECK,
        commands: &["sudo apt install --reinstall lamp"],
        changes: &["/usr/bin/lamp", "/usr/lib/lamp"],
    },
    Proof {
        kind: "missing-file",
        by: "dpkg, and no source that has it",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; rm /usr/bin/lamp /srv/debs/lamp*; listed",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "altered-file",
        by: "dpkg",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; echo >> /usr/bin/lamp",
        asked: "verify",
        commands: &["sudo apt install --reinstall lamp"],
        changes: &["/usr/bin/lamp"],
    },
    Proof {
        kind: "unowned-in-managed-directory",
        by: "a script by hand",
        subject: "lampwick",
        plant: "printf '#!/bin/sh\\n' > /usr/bin/lampwick; chmod 755 /usr/bin/lampwick",
        asked: CHECK,
        commands: &["sudo mv -n -t /usr/local/bin -- /usr/bin/lampwick"],
        changes: &["/usr/bin/lampwick", "/usr/local/bin/lampwick"],
    },
    Proof {
        kind: "unowned-in-managed-directory",
        by: "a program with files of its own",
        subject: "lampwick",
        plant: "printf '#!/bin/sh\\n' > /usr/bin/lampwick; chmod 755 /usr/bin/lampwick; mkdir /usr/share/lampwick",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "unowned-in-managed-directory",
        by: "a name that is taken",
        subject: "lampwick",
        plant: "printf '#!/bin/sh\\n' > /usr/bin/lampwick; chmod 755 /usr/bin/lampwick; cp /usr/bin/lampwick /usr/local/bin/",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "unmet-requirement",
        by: "dpkg, a dependency removed by force",
        subject: "quay",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; script p/usr/bin/quay 1; deb quay 1.0 'Depends: lamp (>= 0.9) | lantern\n'; installs quay; dpkg --remove --force-depends lamp >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo apt --fix-broken --no-remove install"],
        changes: &["/usr/bin/lamp", "/usr/share/doc"],
    },
    Proof {
        kind: "unmet-requirement",
        by: "dpkg, a file installed by hand",
        subject: "quay",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; script p/usr/bin/quay 1; deb quay 1.0 'Depends: lamp\n'; listed; dpkg --install /srv/debs/quay_1.0_all.deb >/dev/null 2>&1 || true",
        asked: CHECK,
        commands: &["sudo apt --fix-broken --no-remove install"],
        changes: &["/usr/bin/lamp", "/usr/share/doc"],
    },
    Proof {
        kind: "half-installed",
        by: "dpkg, a file installed by hand: what is missing is told by itself",
        subject: "quay",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; script p/usr/bin/quay 1; deb quay 1.0 'Depends: lamp\n'; listed; dpkg --install /srv/debs/quay_1.0_all.deb >/dev/null 2>&1 || true",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "unmet-requirement",
        by: "dpkg, and no source that has a version that would do",
        subject: "quay",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; script p/usr/bin/quay 1; deb quay 1.0 'Depends: lamp (>= 2)\n'; listed; dpkg --install /srv/debs/quay_1.0_all.deb >/dev/null 2>&1 || true",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "unmet-requirement",
        by: "pip in an environment",
        subject: "moor",
        plant: ". /root/tools; wheel knots 2.0; wheel moor 1.0 'knots>=1'; as_user maren 'python3 -m venv lab && lab/bin/pip install --quiet --no-deps moor'",
        asked: CHECK,
        commands: &["sudo -u maren -H /home/maren/lab/bin/python -m pip install -- 'knots>=1'"],
        changes: &["/home/maren/lab"],
    },
    Proof {
        kind: "stale-base",
        by: "pip in an environment",
        subject: "/home/maren/lab",
        plant: ". /root/tools; wheel knots 2.0; wheel moor 1.0 '' moor; as_user maren 'python3 -m venv lab && lab/bin/pip install --quiet moor knots && mkdir -p .local/bin && ln -s ~/lab/bin/moor .local/bin/moor'; cd /home/maren/lab; mv lib/python3.11 lib/python3.9; sed -i s/3.11/3.9/ pyvenv.cfg; ln -sf /opt/gone/python3.9 bin/python3; ln -sf python3 bin/python; rm bin/python3.11",
        asked: CHECK,
        commands: &[
            "sudo -u maren -H /usr/bin/python3 -m venv --clear -- /home/maren/lab && sudo -u maren -H /home/maren/lab/bin/python -m pip install -- 'knots==2.0' 'moor==1.0'",
        ],
        changes: &["/home/maren/lab"],
    },
    Proof {
        kind: "dangling-link",
        by: "a link by hand",
        subject: "/usr/local/bin/lamp",
        plant: "ln -s /opt/gone/lamp /usr/local/bin/lamp",
        asked: CHECK,
        commands: &["sudo rm -- /usr/local/bin/lamp"],
        changes: &["/usr/local/bin/lamp"],
    },
    Proof {
        kind: "dangling-link",
        by: "a link by hand to what dpkg should have there",
        subject: "/usr/local/bin/light",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; ln -s /usr/bin/lamp /usr/local/bin/light; rm /usr/bin/lamp",
        asked: CHECK,
        commands: &["sudo apt install --reinstall lamp"],
        changes: &["/usr/bin/lamp"],
    },
    Proof {
        kind: "dangling-link",
        by: "alternatives",
        subject: "/usr/bin/light",
        plant: ". /root/tools; script /opt/a/light 1; script /opt/b/light 2; update-alternatives --quiet --install /usr/bin/light light /opt/a/light 10; update-alternatives --quiet --install /usr/bin/light light /opt/b/light 20; rm /opt/b/light",
        asked: CHECK,
        commands: &["sudo update-alternatives --auto light"],
        changes: &["/etc/alternatives", "/usr/bin/light"],
    },
    Proof {
        kind: "dangling-link",
        by: "alternatives of which nothing is left",
        subject: "/usr/bin/light",
        plant: ". /root/tools; script /opt/a/light 1; update-alternatives --quiet --install /usr/bin/light light /opt/a/light 10; rm /opt/a/light",
        asked: CHECK,
        commands: &["sudo update-alternatives --remove-all light"],
        changes: &["/etc/alternatives", "/usr/bin/light"],
    },
    Proof {
        kind: "broken-launcher",
        by: "a launcher by hand",
        subject: "pilotbook.desktop",
        plant: "mkdir -p /home/maren/.local/share/applications; printf '[Desktop Entry]\\nType=Application\\nName=Pilotbook\\nExec=pilotbook\\n' > /home/maren/.local/share/applications/pilotbook.desktop; chown -R maren: /home/maren",
        asked: CHECK,
        commands: &["sudo -u maren -H rm -- /home/maren/.local/share/applications/pilotbook.desktop"],
        changes: &["/home/maren/.local/share/applications"],
    },
    Proof {
        kind: "broken-launcher",
        by: "an autostart entry by hand",
        subject: "tidewatch.desktop",
        plant: "mkdir -p /home/maren/.config/autostart; printf '[Desktop Entry]\\nType=Application\\nName=Tidewatch\\nExec=tidewatch\\n' > /home/maren/.config/autostart/tidewatch.desktop; chown -R maren: /home/maren",
        asked: CHECK,
        commands: &["sudo -u maren -H rm -- /home/maren/.config/autostart/tidewatch.desktop"],
        changes: &["/home/maren/.config/autostart"],
    },
    Proof {
        kind: "broken-job",
        by: "a service by hand, whose program is gone",
        subject: "tidewatch.service",
        plant: "printf '[Service]\\nExecStart=/opt/tide/bin/tidewatch\\n' > /etc/systemd/system/tidewatch.service; mkdir -p /etc/systemd/system/multi-user.target.wants; ln -s ../tidewatch.service /etc/systemd/system/multi-user.target.wants/",
        asked: CHECK,
        commands: &[
            "sudo rm -- /etc/systemd/system/tidewatch.service /etc/systemd/system/multi-user.target.wants/tidewatch.service",
        ],
        changes: &["/etc/systemd/system"],
    },
    Proof {
        kind: "broken-job",
        by: "a link that enables a service that is gone",
        subject: "tidewatch.service",
        plant: ". /root/tools; as_user maren 'mkdir -p .config/systemd/user/default.target.wants; ln -s ../tidewatch.service .config/systemd/user/default.target.wants/'",
        asked: CHECK,
        commands: &["sudo -u maren -H rm -- /home/maren/.config/systemd/user/default.target.wants/tidewatch.service"],
        changes: &["/home/maren/.config/systemd"],
    },
    Proof {
        kind: "not-executable",
        by: "a script by hand",
        subject: "lamp",
        plant: ". /root/tools; script /usr/local/bin/lamp 1; chmod -x /usr/local/bin/lamp",
        asked: CHECK,
        commands: &["sudo chmod +x -- /usr/local/bin/lamp"],
        changes: &["/usr/local/bin/lamp"],
    },
    Proof {
        kind: "not-executable",
        by: "a user's own script, on a machine without sudo",
        subject: "lamp",
        plant: ". /root/tools; rm /usr/bin/sudo; as_user maren 'mkdir -p .local/bin'; script /home/maren/.local/bin/lamp 1; chmod -x /home/maren/.local/bin/lamp; chown -R maren: /home/maren",
        asked: CHECK,
        commands: &["su -s /bin/sh -c 'chmod +x -- /home/maren/.local/bin/lamp' -- maren"],
        changes: &["/home/maren/.local/bin/lamp"],
    },
    Proof {
        kind: "writable-directory",
        by: "permissions",
        subject: "/usr/local/bin",
        plant: "chmod o+w /usr/local/bin",
        asked: CHECK,
        commands: &["sudo chmod o-w -- /usr/local/bin"],
        changes: &["/usr/local/bin"],
    },
    Proof {
        kind: "writable-directory",
        by: "a directory of another user's",
        subject: "/opt/quay/bin",
        plant: "mkdir -p /opt/quay/bin; chown tobin /opt/quay/bin; echo 'PATH=$PATH:/opt/quay/bin' >> /home/maren/.profile",
        asked: CHECK,
        commands: &[],
        changes: &[],
    },
    Proof {
        kind: "data-left",
        by: "flatpak",
        subject: "org.harbour.Lamp",
        plant: ". /root/tools; as_user maren 'mkdir -p .var/app/org.harbour.Lamp/config; echo 1 > .var/app/org.harbour.Lamp/config/own'",
        asked: CHECK,
        commands: &["sudo -u maren -H rm -r -- /home/maren/.var/app/org.harbour.Lamp"],
        changes: &["/home/maren/.var/app/org.harbour.Lamp"],
    },
    Proof {
        kind: "unneeded-dependency",
        by: "dnf",
        subject: "buoy",
        plant: DNF_ORPHANS,
        asked: CHECK,
        commands: &["sudo dnf autoremove"],
        changes: &["/usr/bin/buoy", "/usr/bin/chain", "/var/lib/rpm", "/var/lib/dnf"],
    },
    Proof {
        kind: "unneeded-dependency",
        by: "pacman",
        subject: "buoy-arch",
        plant: PACMAN_ORPHANS,
        asked: CHECK,
        commands: &["sudo pacman -R buoy-arch chain-arch"],
        changes: &["/usr/share/buoy-arch", "/usr/share/chain-arch", "/var/lib/pacman"],
    },
    Proof {
        kind: "unneeded-dependency",
        by: "apt",
        subject: "liblamp",
        plant: ". /root/tools; mkdir -p p/usr/lib/lamp; echo 1 > p/usr/lib/lamp/wick; deb liblamp 1.0; script p/usr/bin/lamp 1; deb lamp 1.0 'Depends: liblamp\n'; installs lamp; apt-get remove -qq -y lamp >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo apt autoremove"],
        changes: &["/usr/lib/lamp"],
    },
    Proof {
        kind: "settings-left",
        by: "dpkg",
        subject: "lamp",
        plant: ". /root/tools; mkdir -p p/etc; echo 1 > p/etc/lamp.conf; deb lamp 1.0; installs lamp; apt-get remove -qq -y lamp >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo apt purge lamp"],
        changes: &["/etc/lamp.conf"],
    },
    Proof {
        kind: "data-left",
        by: "dpkg",
        subject: "lamp",
        plant: ". /root/tools; mkdir -p p/etc; echo 1 > p/etc/lamp.conf; deb lamp 1.0; installs lamp; apt-get remove -qq -y lamp >/dev/null 2>&1; as_user maren 'mkdir -p .config/lamp; echo 1 > .config/lamp/own'",
        asked: CHECK,
        commands: &["sudo -u maren -H rm -r -- /home/maren/.config/lamp"],
        changes: &["/home/maren/.config/lamp"],
    },
    Proof {
        kind: "half-installed",
        by: "dpkg, unpacked",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; listed; dpkg --unpack /srv/debs/lamp_1.0_all.deb >/dev/null 2>&1",
        asked: CHECK,
        commands: &["sudo dpkg --configure lamp"],
        changes: &[],
    },
    Proof {
        kind: "half-installed",
        by: "dpkg, to be installed anew",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; sed -i '/^Package: lamp$/,/^$/s/install ok installed/install reinstreq half-installed/' /var/lib/dpkg/status",
        asked: CHECK,
        commands: &["sudo apt install --reinstall lamp"],
        changes: &["/usr/bin/lamp"],
    },
    Proof {
        kind: "diverted-program",
        by: "dpkg-divert, nothing in its place",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; dpkg-divert --quiet --local --rename --divert /usr/bin/lamp.away --add /usr/bin/lamp >/dev/null",
        asked: CHECK,
        commands: &["sudo dpkg-divert --local --rename --remove /usr/bin/lamp"],
        changes: &["/usr/bin/lamp", "/usr/bin/lamp.away"],
    },
    Proof {
        kind: "diverted-program",
        by: "dpkg-divert, another program in its place",
        subject: "lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp; dpkg-divert --quiet --local --rename --divert /usr/bin/lamp.away --add /usr/bin/lamp >/dev/null; script /usr/bin/lamp 2",
        asked: CHECK,
        commands: &[
            "sudo mv -n -- /usr/bin/lamp /usr/local/bin/lamp.aside && sudo dpkg-divert --local --rename --remove /usr/bin/lamp",
        ],
        changes: &["/usr/bin/lamp", "/usr/bin/lamp.away", "/usr/local/bin/lamp.aside"],
    },
    Proof {
        kind: "chosen-by-hand",
        by: "alternatives",
        subject: "light",
        plant: ". /root/tools; script /opt/a/light 1; script /opt/b/light 2; update-alternatives --quiet --install /usr/bin/light light /opt/a/light 10; update-alternatives --quiet --install /usr/bin/light light /opt/b/light 20; update-alternatives --quiet --set light /opt/a/light",
        asked: CHECK,
        commands: &["sudo update-alternatives --auto light"],
        changes: &["/etc/alternatives", "/usr/bin/light"],
    },
    Proof {
        kind: "missing-file",
        by: "pacman",
        subject: "buoyage",
        plant: ". /root/tools; pac 1.0-1; pacman -S --noconfirm --quiet buoyage >/dev/null 2>&1; rm /usr/bin/buoyage",
        asked: CHECK,
        commands: &["sudo pacman -S buoyage"],
        changes: &["/usr/bin/buoyage", "/var/lib/pacman"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and Homebrew (a stand-in for brew)",
        subject: "lamp",
        plant: BREW,
        asked: CHECK,
        commands: &["sudo -u maren -H /home/linuxbrew/.linuxbrew/bin/brew uninstall lamp"],
        changes: &["/home/linuxbrew/.linuxbrew"],
    },
    Proof {
        kind: "version-split",
        by: "dpkg and snap (a stand-in for snap)",
        subject: "chartdesk",
        plant: SNAP,
        asked: CHECK,
        commands: &["sudo snap remove chartdesk"],
        changes: &["/snap", "/var/lib/snapd"],
    },
];

const BREW: &str = r#"
. /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp
prefix=/home/linuxbrew/.linuxbrew
script $prefix/Cellar/lamp/2.0/bin/lamp 2
echo '{"installed_on_request":true}' > $prefix/Cellar/lamp/2.0/INSTALL_RECEIPT.json
mkdir -p $prefix/opt; ln -s ../Cellar/lamp/2.0 $prefix/opt/lamp; mkdir $prefix/bin; ln -s ../Cellar/lamp/2.0/bin/lamp $prefix/bin/lamp
cat > $prefix/bin/brew <<'BREW'
#!/bin/sh
# Stands in for brew: it refuses to run as root, and removes a keg with its links.
[ "$(id -u)" != 0 ] || exit 1
[ "$1 $2" = "uninstall lamp" ] || exit 2
cd /home/linuxbrew/.linuxbrew && rm -r Cellar/lamp opt/lamp bin/lamp
BREW
chmod 755 $prefix/bin/brew; chown -R maren: /home/linuxbrew
echo "PATH=$prefix/bin:\$PATH" >> /home/maren/.profile
"#;

const SNAP: &str = r#"
. /root/tools; script p/usr/bin/chartdesk 1; deb chartdesk 1.0; installs chartdesk
mkdir -p /var/lib/snapd/snaps /snap/bin /snap/chartdesk/44/meta
echo '{"data":{"snaps":{"chartdesk":{"type":"app","sequence":[{"name":"chartdesk","snap-id":"x","revision":"44"}],"active":true,"current":"44","channel":"latest/stable"}}}}' > /var/lib/snapd/state.json
printf 'name: chartdesk\nversion: 3.0\nsummary: made up\ntype: app\nconfinement: strict\napps:\n  chartdesk:\n    command: bin/chartdesk\n' > /snap/chartdesk/44/meta/snap.yaml
ln -s 44 /snap/chartdesk/current; script /snap/chartdesk/44/bin/chartdesk 3; echo image > /var/lib/snapd/snaps/chartdesk_44.snap
cat > /usr/bin/snap <<'SNAP'
#!/bin/sh
# Stands in for snap: it forgets a snap, and removes its files.
[ "$(id -u)" = 0 ] && [ "$1 $2" = "remove chartdesk" ] || exit 2
rm -r /snap/chartdesk /snap/bin/chartdesk /var/lib/snapd/snaps/chartdesk_44.snap
echo '{"data":{"snaps":{}}}' > /var/lib/snapd/state.json
SNAP
chmod 755 /usr/bin/snap; ln -s /usr/bin/snap /snap/bin/chartdesk
echo 'PATH=$PATH:/snap/bin' >> /home/maren/.profile
"#;

/// A package, and its manager's own commands as `owner` prints them.
pub struct Owned {
    /// What it is installed with.
    pub by: &'static str,
    /// The target.
    pub target: &'static str,
    /// Lines that install it, and make a newer version available where one can be had.
    pub plant: &'static str,
    /// Every remedy, as it is printed.
    pub commands: &'static [&'static str],
    /// The version after an upgrade.
    pub newer: &'static str,
}

/// Packages of each manager.
pub const OWNED: &[Owned] = &[
    Owned {
        by: "dpkg",
        target: "package:lamp",
        plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1.0; installs lamp",
        commands: &["sudo apt remove lamp"],
        newer: "",
    },
    Owned {
        by: "pip in an environment",
        target: "package:moor",
        plant: ". /root/tools; wheel moor 1.0; as_user maren 'python3 -m venv lab && lab/bin/pip install --quiet moor'; wheel moor 2.0",
        commands: &[
            "sudo -u maren -H /home/maren/lab/bin/python3 -m pip uninstall -- moor",
            "sudo -u maren -H /home/maren/lab/bin/python3 -m pip install --upgrade -- moor",
        ],
        newer: "2.0",
    },
    Owned {
        by: "pip of one user",
        target: "package:moor",
        plant: ". /root/tools; wheel moor 1.0; as_user maren 'python3 -m pip install --quiet --user --break-system-packages moor'; wheel moor 2.0",
        commands: &[
            "sudo -u maren -H /usr/bin/python3.11 -m pip uninstall --break-system-packages -- moor",
            "sudo -u maren -H /usr/bin/python3.11 -m pip install --upgrade --break-system-packages -- moor",
        ],
        newer: "2.0",
    },
    Owned {
        by: "pipx",
        target: "package:pipx/user:maren/moor",
        plant: ". /root/tools; wheel moor 1.0 '' moor; as_user maren 'pipx install moor >/dev/null'; wheel moor 2.0 '' moor",
        commands: &["sudo -u maren -H pipx uninstall moor", "sudo -u maren -H pipx upgrade moor"],
        newer: "2.0",
    },
    Owned {
        by: "uv",
        target: "package:uv/user:tobin/moor",
        plant: ". /root/tools; wheel moor 1.0 '' moor; printf 'no-index = true\\nfind-links = [\"/srv/wheels\"]\\n' > /home/tobin/uv.toml; mkdir -p /etc/uv; cp /home/tobin/uv.toml /etc/uv/uv.toml; as_user tobin 'uv tool install --quiet --python /usr/bin/python3 moor'; wheel moor 2.0 '' moor",
        commands: &["sudo -u tobin -H uv tool uninstall moor", "sudo -u tobin -H uv tool upgrade moor"],
        newer: "2.0",
    },
    Owned {
        by: "Cargo",
        target: "package:shoal",
        plant: "mkdir -p /home/maren/shoal/src; cd /home/maren/shoal; printf '[package]\\nname = \"shoal\"\\nversion = \"2.0.0\"\\n' > Cargo.toml; echo 'fn main() {}' > src/main.rs; chown -R maren: /home/maren; su - maren -c 'cargo install --quiet --offline --path shoal' 2>/dev/null",
        commands: &["sudo -u maren -H cargo uninstall shoal"],
        newer: "",
    },
    Owned {
        by: "npm, in a prefix of one user's",
        target: "package:lantern",
        plant: "mkdir -p /srv/npm/lantern; printf '{\"name\":\"lantern\",\"version\":\"2.0.0\",\"bin\":{\"lamp\":\"lamp.js\"}}' > /srv/npm/lantern/package.json; printf '#!/usr/bin/env node\\nconsole.log(2)\\n' > /srv/npm/lantern/lamp.js; cd /srv/npm; npm pack --silent ./lantern >/dev/null; su - maren -c 'npm install --silent --global --prefix ~/.npm-global /srv/npm/lantern-2.0.0.tgz'",
        commands: &["sudo -u maren -H npm uninstall --global --prefix /home/maren/.npm-global lantern"],
        newer: "",
    },
    Owned {
        by: "pnpm",
        target: "package:lantern",
        plant: "mkdir -p /srv/npm/lantern; printf '{\"name\":\"lantern\",\"version\":\"2.0.0\",\"bin\":{\"lamp\":\"lamp.js\"}}' > /srv/npm/lantern/package.json; printf '#!/usr/bin/env node\\nconsole.log(2)\\n' > /srv/npm/lantern/lamp.js; cd /srv/npm; npm pack --silent ./lantern >/dev/null; su - tobin -c 'export PNPM_HOME=~/.local/share/pnpm PATH=~/.local/share/pnpm:$PATH; pnpm add --silent --global /srv/npm/lantern-2.0.0.tgz'",
        commands: &[
            "sudo -u tobin -H env -C /home/tobin/.local/share/pnpm 'PNPM_HOME=/home/tobin/.local/share/pnpm' 'PATH=/home/tobin/.local/share/pnpm:/usr/local/bin:/usr/bin:/bin' pnpm remove --global lantern",
        ],
        newer: "",
    },
    Owned {
        by: "yarn",
        target: "package:lantern",
        plant: "mkdir -p /srv/npm/lantern; printf '{\"name\":\"lantern\",\"version\":\"2.0.0\",\"bin\":{\"lamp\":\"lamp.js\"}}' > /srv/npm/lantern/package.json; printf '#!/usr/bin/env node\\nconsole.log(2)\\n' > /srv/npm/lantern/lamp.js; cd /srv/npm; npm pack --silent ./lantern >/dev/null; su - maren -c 'yarn --offline --silent global add file:/srv/npm/lantern-2.0.0.tgz'",
        commands: &["sudo -u maren -H env -C /home/maren yarn global remove lantern"],
        newer: "",
    },
    Owned {
        by: "rpm and dnf",
        target: "package:buoy",
        plant: RPM,
        commands: &["sudo rpm --dbpath /root/.rpmdb -e buoy-1.0-1.noarch"],
        newer: "",
    },
    Owned {
        by: "pacman",
        target: "package:buoyage",
        plant: ". /root/tools; pac 1.0-1; pacman -S --noconfirm --quiet buoyage >/dev/null 2>&1; pac 2.0-1",
        commands: &["sudo pacman -R buoyage", "sudo pacman -Syu"],
        newer: "2.0-1",
    },
    Owned {
        by: "gem of one user",
        target: "package:lantern",
        plant: ". /root/tools; gem_of 1.0; as_user tobin 'gem install --silent --user-install lantern 2>/dev/null'; gem_of 2.0",
        commands: &[
            "sudo -u tobin -H gem uninstall --user-install lantern --version 1.0",
            "sudo -u tobin -H env -C /home/tobin/.local/share/gem/ruby/3.1.0 gem install --user-install lantern",
        ],
        newer: "2.0",
    },
    Owned {
        by: "stow",
        target: "command:lamp",
        plant: ". /root/tools; script /usr/local/stow/lamp-2.0/bin/lamp 2; stow --dir=/usr/local/stow lamp-2.0",
        commands: &["sudo stow '--dir=/usr/local/stow' '--target=/usr/local' --delete lamp-2.0"],
        newer: "",
    },
];

const RPM: &str = r#"
mkdir -p top /etc/yum.repos.d
printf '[quay]\nname=Quay\nbaseurl=file:///srv/rpms\ngpgcheck=0\nmetadata_expire=1\n' > /etc/yum.repos.d/quay.repo
for version in 1.0 2.0; do
    printf 'Name: buoy\nVersion: '$version'\nRelease: 1\nSummary: made up\nLicense: MIT\nBuildArch: noarch\n%%description\nmade up\n%%install\nmkdir -p %%{buildroot}/usr/bin; echo 1 > %%{buildroot}/usr/bin/buoy\n%%files\n/usr/bin/buoy\n' > buoy.spec
    rpmbuild -bb --quiet --define '_topdir /root/top' buoy.spec >/dev/null 2>&1
    cp top/RPMS/noarch/*.rpm /srv/rpms/; createrepo_c -q /srv/rpms
    dnf -q -y --releasever=1 --refresh makecache >/dev/null 2>&1
    if [ $version = 1.0 ]; then dnf -q -y --releasever=1 install buoy >/dev/null 2>&1; fi
done
"#;
