//! Plans, followed: each script is run as printed, by root, on a machine that was made with the real managers. It
//! succeeds; what was foretold is so, and nothing else has changed. Run once more, it stops before its first step.

use std::collections::BTreeSet;
use std::process::Output;

use serde_json::Value;

use super::proofs::{DNF_ORPHANS, DNF_UPGRADED, PACMAN_ORPHANS, SNAP_TWICE, TOOLS};
use super::real_advice::ALWAYS;
use super::trial::{Trial, lies_in};

/// A plan, and the machine on which it is followed.
struct Followed {
    /// Lines that make the machine, typed by root.
    plant: String,
    /// The plan that is asked for.
    plan: &'static str,
    /// Every command of it, in order.
    commands: &'static [&'static str],
    /// The subjects of what is left open.
    open: &'static [&'static str],
    /// Where files may change, besides the managers' own state.
    changes: &'static [&'static str],
}

const LAMP: &str = ". /root/tools
mkdir -p p/etc; echo wick > p/etc/wick.conf; script p/usr/bin/wick 1; deb wick 1.0
mkdir -p p/etc; echo lamp > p/etc/lamp.conf; script p/usr/bin/lamp 1; deb lamp 1.0 'Depends: wick
'
script p/usr/bin/mast 1; deb mast 1.0 'Depends: boom
'
script p/usr/bin/boom 1; deb boom 1.0
installs lamp mast
as_user maren 'mkdir -p .config/lamp .local/share/lamp .config/mast; echo x > .config/lamp/settings; echo y > .config/mast/own'
";

fn followed() -> Vec<Followed> {
    vec![
        Followed {
            plant: LAMP.to_owned(),
            plan: "remove lamp",
            commands: &["sudo apt-get --yes remove lamp", "sudo apt-get --yes remove wick"],
            open: &[],
            changes: &[],
        },
        Followed {
            plant: format!("{LAMP}script /usr/local/bin/lamp 2"),
            plan: "remove lamp boom --with-data",
            commands: &[
                "sudo apt-get --yes purge lamp",
                "sudo apt-get --yes purge wick",
                "sudo -u maren -H rm -r -- /home/maren/.config/lamp",
                "sudo -u maren -H rm -r -- /home/maren/.local/share/lamp",
            ],
            open: &["dpkg/system/boom", "/usr/local/bin/lamp"],
            changes: &[],
        },
        Followed {
            plant: format!("{LAMP}apt-mark hold mast >/dev/null; apt-get remove -qq -y lamp >/dev/null 2>&1"),
            plan: "remove lamp mast --with-data",
            commands: &[
                "sudo apt-get --yes purge --allow-change-held-packages lamp mast",
                "sudo apt-get --yes purge boom",
                "sudo -u maren -H rm -r -- /home/maren/.config/lamp",
                "sudo -u maren -H rm -r -- /home/maren/.local/share/lamp",
                "sudo -u maren -H rm -r -- /home/maren/.config/mast",
            ],
            open: &[],
            changes: &["/etc/lamp.conf"],
        },
        Followed {
            plant: LAMP.to_owned(),
            plan: "remove boom --with-dependents",
            commands: &["sudo apt-get --yes remove boom mast"],
            open: &[],
            changes: &[],
        },
        Followed {
            plant: ". /root/tools; script p/usr/bin/swellplot 1; deb swellplot 1.0; installs swellplot; wheel swellplot 2.0 '' swellplot
                as_user maren 'pipx install swellplot >/dev/null 2>&1; mkdir -p .local/state/swellplot; echo 1 > .local/state/swellplot/log'"
                .to_owned(),
            plan: "remove swellplot --with-data",
            commands: &[
                "sudo -u maren -H pipx uninstall swellplot",
                "sudo apt-get --yes purge swellplot",
                "sudo -u maren -H rm -r -- /home/maren/.local/state/swellplot",
            ],
            open: &[],
            changes: &["/home/maren/.local/pipx", "/home/maren/.local/share/pipx", "/home/maren/.local/state/pipx"],
        },
        Followed {
            plant: ". /root/tools; script p/usr/bin/swellplot 1; deb swellplot 1.0; installs swellplot; wheel swellplot 2.0 '' swellplot
                as_user maren 'pipx install swellplot >/dev/null 2>&1; mkdir -p .local/state/swellplot; echo 1 > .local/state/swellplot/log'"
                .to_owned(),
            plan: "remove swellplot --manager pipx --with-data",
            commands: &["sudo -u maren -H pipx uninstall swellplot"],
            open: &["/home/maren/.local/state/swellplot"],
            changes: &["/home/maren/.local/pipx", "/home/maren/.local/share/pipx", "/home/maren/.local/state/pipx"],
        },
        Followed {
            plant: ". /root/tools; flatpaks; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo
                flatpak --system install -y --noninteractive quay org.harbour.ChartDesk >/dev/null 2>&1
                for user in maren tobin; do as_user $user 'mkdir -p .var/app/org.harbour.ChartDesk; echo 1 > .var/app/org.harbour.ChartDesk/chart'; done"
                .to_owned(),
            plan: "remove org.harbour.ChartDesk --with-data",
            commands: &[
                "sudo flatpak uninstall --system -y org.harbour.ChartDesk/x86_64/stable",
                "sudo flatpak uninstall --system -y org.harbour.Platform/x86_64/24",
                "sudo -u maren -H rm -r -- /home/maren/.var/app/org.harbour.ChartDesk",
                "sudo -u tobin -H rm -r -- /home/tobin/.var/app/org.harbour.ChartDesk",
            ],
            open: &[],
            changes: &["/var/lib/flatpak", "/root/.local/share"],
        },
        Followed {
            plant: format!(". /root/tools; {DNF_ORPHANS}\ndnf -q -y remove chain buoy >/dev/null 2>&1; dnf -q -y install anchor >/dev/null 2>&1"),
            plan: "remove anchor",
            commands: &[
                "sudo dnf --assumeyes '--setopt=clean_requirements_on_remove=0' remove anchor",
                "sudo dnf --assumeyes '--setopt=clean_requirements_on_remove=0' remove buoy chain",
            ],
            open: &[],
            changes: &["/var/lib/rpm", "/var/lib/dnf"],
        },
        Followed {
            plant: format!(
                ". /root/tools; {PACMAN_ORPHANS}\n{DNF_ORPHANS}\n{LAMP}apt-get remove -qq -y lamp mast >/dev/null 2>&1
                ln -s /usr/bin/lamp /usr/local/bin/lamp-now"
            ),
            plan: "tidy",
            commands: &[
                "sudo apt-get --yes remove wick boom",
                "sudo dnf --assumeyes '--setopt=clean_requirements_on_remove=0' remove buoy chain",
                "sudo pacman --noconfirm -R buoy-arch chain-arch",
                "sudo rm -- /usr/local/bin/lamp-now",
            ],
            open: &["lamp", "lamp", "mast", "lamp"],
            changes: &["/var/lib/rpm", "/var/lib/dnf", "/var/lib/pacman"],
        },
        Followed {
            plant: ". /root/tools; tides 1 2 3".to_owned(),
            plan: "tidy",
            commands: &[
                "sudo -u maren -H nix-env --profile /nix/var/nix/profiles/per-user/maren/profile --delete-generations 1 2",
                "sudo -u maren -H nix-store --gc",
            ],
            open: &[],
            changes: &["/nix"],
        },
        Followed {
            plant: format!(
                "{LAMP}rm /usr/bin/wick; script /usr/local/bin/mast 2
                mkdir -p /home/maren/.local/bin; ln -s /opt/none /home/maren/.local/bin/none
                chown -hR maren: /home/maren; echo 'PATH=$HOME/.local/bin:$PATH' >> /home/maren/.profile"
            ),
            plan: "fix",
            commands: &[
                "sudo apt-get --yes install --reinstall wick",
                "sudo mv -n -- /usr/local/bin/mast /usr/local/bin/mast.aside",
                "sudo -u maren -H rm -- /home/maren/.local/bin/none",
            ],
            open: &["dpkg"],
            changes: &["/usr/bin/wick", "/usr/local/bin", "/home/maren/.local/bin/none"],
        },
        Followed {
            plant: ". /root/tools; script p/usr/bin/swellplot 1; deb swellplot 1.0; script p/usr/bin/knots 1; deb knots 1.0; installs swellplot knots
                wheel swellplot 2.0 '' swellplot; wheel knots 2.0 '' knots; wheel moor 1.0 knots
                echo 'PATH=$HOME/.local/bin:$PATH' >> /home/maren/.profile
                as_user maren 'pipx install swellplot; python3 -m pip install --quiet --user --break-system-packages moor' >/dev/null 2>&1"
                .to_owned(),
            plan: "fix",
            commands: &["sudo -u maren -H pipx uninstall swellplot"],
            open: &["pip/user:maren/knots", "dpkg"],
            changes: &["/home/maren/.local/pipx", "/home/maren/.local/share/pipx", "/home/maren/.local/state/pipx"],
        },
        Followed {
            plant: format!(
                ". /root/tools; flatpaks; {CHARTDESK}installs chartdesk
                flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo
                flatpak --system update --appstream quay >/dev/null 2>&1
                as_user maren 'mkdir -p .config/chartdesk .local/share/chartdesk .local/state; echo x > .config/chartdesk/settings; echo y > .local/share/chartdesk/chart'"
            ),
            plan: "move chartdesk --to flatpak",
            commands: &[
                "sudo flatpak install --noninteractive --system quay org.harbour.ChartDesk//stable",
                "sudo -u maren -H mkdir -p -- /home/maren/.var/app/org.harbour.ChartDesk/config && sudo -u maren -H cp -a -n -- /home/maren/.config/chartdesk /home/maren/.var/app/org.harbour.ChartDesk/config/chartdesk",
                "sudo -u maren -H mkdir -p -- /home/maren/.var/app/org.harbour.ChartDesk/data && sudo -u maren -H cp -a -n -- /home/maren/.local/share/chartdesk /home/maren/.var/app/org.harbour.ChartDesk/data/chartdesk",
                "sudo apt-get --yes remove chartdesk",
            ],
            open: &[],
            changes: &["/var/lib/flatpak", "/root/.local/share", "/home/maren/.var/app/org.harbour.ChartDesk"],
        },
        Followed {
            plant: format!(
                ". /root/tools; flatpaks; {CHARTDESK}listed; export FLATPAK_USER_DIR=/home/maren/.local/share/flatpak
                flatpak --user remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --user update --appstream quay >/dev/null 2>&1
                flatpak --user install -y --noninteractive quay org.harbour.ChartDesk >/dev/null; chown -R maren: /home/maren
                as_user maren 'mkdir -p .var/app/org.harbour.ChartDesk/config/chartdesk; echo x > .var/app/org.harbour.ChartDesk/config/chartdesk/settings'"
            ),
            plan: "move org.harbour.ChartDesk --to dpkg --package chartdesk",
            commands: &[
                "sudo apt-get --yes install chartdesk",
                "sudo -u maren -H mkdir -p -- /home/maren/.config && sudo -u maren -H cp -a -n -- /home/maren/.var/app/org.harbour.ChartDesk/config/chartdesk /home/maren/.config/chartdesk",
                "sudo -u maren -H env flatpak uninstall --user -y org.harbour.ChartDesk/x86_64/stable",
                "sudo -u maren -H env flatpak uninstall --user -y org.harbour.Platform/x86_64/24",
            ],
            open: &[],
            changes: &["/home/maren/.local/share/flatpak", "/usr/bin/chartdesk", "/usr/share/applications/chartdesk.desktop", "/home/maren/.config/chartdesk"],
        },
        Followed {
            plant: ". /root/tools; pac 1.0-1; wheel buoyage 1.0 '' buoyage
                as_user maren 'pipx install buoyage >/dev/null 2>&1; mkdir -p .config/buoyage; echo 1 > .config/buoyage/settings'"
                .to_owned(),
            plan: "move buoyage --to pacman --package buoyage",
            commands: &["sudo pacman --noconfirm -S quay/buoyage", "sudo -u maren -H pipx uninstall buoyage"],
            open: &[],
            changes: &["/usr/bin/buoyage", "/var/lib/pacman", "/home/maren/.local/pipx", "/home/maren/.local/share/pipx", "/home/maren/.local/state/pipx"],
        },
        Followed {
            plant: ". /root/tools; flatpaks; rpm_of chain 1.0; rpm_of chartdesk 1.0 chain; rpms; dnf -q makecache >/dev/null 2>&1
                flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo
                flatpak --system install -y --noninteractive quay org.harbour.ChartDesk >/dev/null 2>&1
                as_user maren 'mkdir -p .var/app/org.harbour.ChartDesk/config/chartdesk; echo x > .var/app/org.harbour.ChartDesk/config/chartdesk/settings'"
                .to_owned(),
            plan: "move org.harbour.ChartDesk --to rpm --package chartdesk",
            commands: &[
                "sudo dnf --assumeyes install chartdesk",
                "sudo -u maren -H mkdir -p -- /home/maren/.config && sudo -u maren -H cp -a -n -- /home/maren/.var/app/org.harbour.ChartDesk/config/chartdesk /home/maren/.config/chartdesk",
                "sudo flatpak uninstall --system -y org.harbour.ChartDesk/x86_64/stable",
                "sudo flatpak uninstall --system -y org.harbour.Platform/x86_64/24",
            ],
            open: &[],
            changes: &["/usr/bin/chartdesk", "/usr/bin/chain", "/var/lib/rpm", "/var/lib/dnf", "/var/lib/flatpak", "/root/.local/share", "/home/maren/.config/chartdesk"],
        },
        Followed {
            plant: ". /root/tools; flatpaks; cd /srv/fp; flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo
                built() { flatpak build-export --arch=x86_64 --timestamp=$1T00:00:00Z repo app stable; flatpak build-update-repo repo; }
                { built 2026-05-01; flatpak --system install -y --noninteractive quay org.harbour.ChartDesk
                echo '# newer' >> app/files/bin/chartdesk; built 2026-06-01; flatpak --system update -y --noninteractive; } >/dev/null 2>&1"
                .to_owned(),
            plan: "rollback org.harbour.ChartDesk",
            commands: &["sudo flatpak update --noninteractive --system '--commit=COMMIT' org.harbour.ChartDesk/x86_64/stable"],
            open: &["flatpak/system/org.harbour.ChartDesk/x86_64/stable"],
            changes: &["/var/lib/flatpak", "/root/.local/share"],
        },
        Followed {
            plant: ". /root/tools; script p/usr/bin/lamp 1; deb lamp 1:1.0; installs lamp; script p/usr/bin/lamp 2; deb lamp 1:2.0; installs lamp".to_owned(),
            plan: "rollback lamp",
            commands: &["sudo apt-get --yes install --allow-downgrades 'lamp=1:1.0'"],
            open: &["dpkg/system/lamp"],
            changes: &["/usr/bin/lamp"],
        },
        Followed {
            plant: ". /root/tools; mkdir -p /var/cache/pacman/pkg; pac 1.0-1; pacman -S --noconfirm buoyage >/dev/null 2>&1; cp /srv/pacman/buoyage-1.0-1-any.pkg.tar.zst /var/cache/pacman/pkg/
                pac 2.0-1; pacman -Su --noconfirm >/dev/null 2>&1"
                .to_owned(),
            plan: "rollback buoyage",
            commands: &["sudo pacman --noconfirm -U /var/cache/pacman/pkg/buoyage-1.0-1-any.pkg.tar.zst"],
            open: &["pacman/system/buoyage"],
            changes: &["/usr/bin/buoyage", "/var/lib/pacman"],
        },
        Followed {
            plant: format!(". /root/tools; {DNF_UPGRADED}"),
            plan: "rollback anchor",
            commands: &["sudo dnf --assumeyes downgrade anchor-1.0-1"],
            open: &["rpm/system/anchor"],
            changes: &["/usr/bin/anchor", "/var/lib/rpm", "/var/lib/dnf"],
        },
        Followed {
            plant: SNAP_TWICE.to_owned(),
            plan: "rollback chartdesk",
            commands: &["sudo snap revert chartdesk --revision 41"],
            open: &[],
            changes: &["/var/lib/snapd", "/snap/chartdesk/current"],
        },
        Followed {
            plant: ". /root/tools; tides 1 2 3".to_owned(),
            plan: "rollback profile",
            commands: &[
                "sudo -u maren -H nix-env --profile /nix/var/nix/profiles/per-user/maren/profile --switch-generation 2",
            ],
            open: &[],
            changes: &["/nix"],
        },
        Followed {
            plant: format!(
                "{LAMP}apt-get remove -qq -y lamp mast wick boom >/dev/null 2>&1; flatpaks; pac 1.0-1; {DNF_ORPHANS}
                dnf -q -y remove chain buoy >/dev/null 2>&1
                flatpak --system remote-add --no-gpg-verify quay file:///srv/fp/repo; flatpak --system update --appstream quay >/dev/null 2>&1
                cat > /root/want.toml <<'WANT'
{WANT}WANT
"
            ),
            plan: "install @/root/want.toml",
            commands: &[
                "sudo apt-get --yes install lamp mast",
                "sudo dnf --assumeyes install anchor",
                "sudo pacman --noconfirm -S quay/buoyage",
                "sudo flatpak install --noninteractive --system quay org.harbour.ChartDesk//stable",
            ],
            open: &["Ferry stable", "compass (dpkg, system)", "swellplot (pipx, user:maren)", "/usr/local/bin/barolog"],
            changes: &["/usr/bin", "/etc", "/var/lib/rpm", "/var/lib/dnf", "/var/lib/pacman", "/var/lib/flatpak", "/root/.local/share"],
        },
    ]
}

/// An application for the menu, which is also in the repository of flatpak's.
const CHARTDESK: &str = "script p/usr/bin/chartdesk 1; mkdir -p p/usr/share/applications
printf '[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n' > p/usr/share/applications/chartdesk.desktop; deb chartdesk 1.0 'Homepage: https://chartdesk.example
'
";

const WANT: &str = r#"schema = "whodunit-manifest/1"
host = "beacon"
[[source]]
manager = "dpkg"
scope = "system"
name = "Ferry stable"
url = "https://apt.ferry.example"
[[package]]
manager = "dpkg"
scope = "system"
name = "lamp"
[[package]]
manager = "dpkg"
scope = "system"
name = "mast"
[[package]]
manager = "dpkg"
scope = "system"
name = "compass"
[[package]]
manager = "rpm"
scope = "system"
name = "anchor"
[[package]]
manager = "pacman"
scope = "system"
name = "buoyage"
[[package]]
manager = "flatpak"
scope = "system"
name = "org.harbour.ChartDesk"
channel = "stable"
[[package]]
manager = "pipx"
scope = "user:maren"
name = "swellplot"
[[by-hand]]
path = "/usr/local/bin/barolog"
guess = "built from source"
"#;

fn texts<'v>(value: &'v Value, key: &str) -> Vec<&'v str> {
    let texts = value.as_array().unwrap().iter();
    texts.map(|one| if key.is_empty() { one } else { &one[key] }).map(|one| one.as_str().unwrap_or_default()).collect()
}

/// Whether a package may have come along with what was installed: a dependency, a runtime.
fn is_along(plan: &Value, id: &str) -> bool {
    let along = ["dpkg/system/wick", "dpkg/system/boom", "rpm/system/chain", "rpm/system/buoy"];
    let installs = texts(&plan["steps"], "command").iter().any(|command| command.contains(" install "));
    installs && (along.iter().any(|one| id.starts_with(one)) || id.contains("org.harbour.Platform"))
}

/// The ids of all packages that are installed.
fn packages(trial: &Trial) -> BTreeSet<String> {
    let document = trial.asks(&["inventory", "--all"]);
    let installed = document["packages"].as_array().unwrap().iter().filter(|one| one["status"] != "config-remains");
    installed.map(|one| one["id"].as_str().unwrap().to_owned()).collect()
}

/// A command with any commit in it, which is another one each time that a repository is made.
fn any_commit(command: &str) -> String {
    let Some((start, rest)) = command.split_once("--commit=") else { return command.to_owned() };
    let commit = rest.find(|c: char| !c.is_ascii_hexdigit()).unwrap_or(rest.len());
    format!("{start}--commit={}{}", if commit == 64 { "COMMIT" } else { "?" }, &rest[commit..])
}

/// Follows one plan; what goes wrong is told.
fn follow(one: &Followed) -> Vec<String> {
    let trial = Trial::new();
    trial.plants(TOOLS);
    trial.plants(&one.plant);
    trial.freeze();
    // `@` is the top of the machine: a manifest is read where the question is asked.
    let words = one.plan.replace('@', trial.root().to_str().unwrap());
    let asked: Vec<&str> = [&["plan"][..], &words.split(' ').collect::<Vec<_>>()].concat();
    let plan = trial.asks(&asked);
    let commands: Vec<String> = texts(&plan["steps"], "command").into_iter().map(any_commit).collect();
    let open = texts(&plan["open"], "subject");
    if commands != one.commands || open != one.open {
        return vec![format!("{}: {commands:#?}, open {:#}", one.plan, plan["open"])];
    }
    let script = trial.runs(&asked).out;
    let keep: Vec<&str> = ALWAYS.iter().chain(one.changes).copied().chain(["/root/plan.sh"]).collect();
    let (packages_before, files_before) = (packages(&trial), trial.files(&keep));
    trial.plants(&format!("cat > /root/plan.sh <<'PLAN'\n{script}\nPLAN"));
    let ran = trial.types(None, "sh /root/plan.sh");
    let said = |output: &Output| {
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
    };
    if !ran.status.success() {
        return vec![format!("{}: {}\n{script}", one.plan, said(&ran))];
    }
    let mut wrong = Vec::new();
    let (packages_after, files_after) = (packages(&trial), trial.files(&keep));
    // The paths of a store are its manager's own business.
    let is_stored = |id: &&str| id.starts_with("nix/system/");
    let gone = packages_before.difference(&packages_after).map(String::as_str);
    let gone: BTreeSet<&str> = gone.filter(|id| !is_stored(id)).collect();
    // What had only left its settings was not installed.
    let foretold = texts(&plan["foretold"]["removed"], "").into_iter();
    let foretold: BTreeSet<&str> = foretold.filter(|id| packages_before.contains(*id)).collect();
    if gone != foretold {
        wrong.push(format!("{}: {gone:?} are gone, and foretold were {foretold:?}", one.plan));
    }
    let deleted = texts(&plan["foretold"]["deleted"], "");
    let strange: Vec<&String> = files_before.difference(&files_after).filter(|file| !lies_in(file, &deleted)).collect();
    if !strange.is_empty() {
        wrong.push(format!("{}: it deletes {strange:#?}, and foretold was {deleted:#?}", one.plan));
    }
    let added = packages_after.difference(&packages_before).filter(|id| !is_stored(&id.as_str()));
    let wanted = texts(&plan["foretold"]["added"], "");
    let unexpected: Vec<&String> =
        added.filter(|id| !wanted.iter().any(|one| id.starts_with(one)) && !is_along(&plan, id)).collect();
    if !unexpected.is_empty() {
        wrong.push(format!("{}: {unexpected:?} are new, and foretold was {wanted:?}", one.plan));
    }
    let new: Vec<&String> = files_after.difference(&files_before).collect();
    if !new.is_empty() {
        wrong.push(format!("{}: it makes {new:#?}", one.plan));
    }
    for path in &deleted {
        if trial.types(None, &format!("test -e '{path}' || test -L '{path}'")).status.success() {
            wrong.push(format!("{}: {path} is still there", one.plan));
        }
    }
    // What was done once is not done twice.
    let again = trial.types(None, "sh /root/plan.sh");
    let is_repeatable = plan["steps"][0]["conditions"].as_array().unwrap().is_empty();
    if again.status.success() && !is_repeatable {
        wrong.push(format!("{}: it can be run twice: {}", one.plan, said(&again)));
    }
    // What undoes the only step leads back to where the plan was asked for.
    let undo = plan["steps"][0]["reversible_by"].as_str().filter(|_| one.commands.len() == 1);
    if let Some(undo) = undo {
        let ran = trial.types(None, undo);
        let again = trial.asks(&asked);
        if !ran.status.success()
            || texts(&again["steps"], "command").into_iter().map(any_commit).ne(one.commands.iter().copied())
        {
            wrong.push(format!("{}: {undo} does not undo it: {}", one.plan, said(&ran)));
        }
    }
    wrong
}

#[test]
fn every_plan_ends_where_it_says() {
    if Trial::if_here().is_none() {
        return;
    }
    let only = std::env::var("WHODUNIT_PROOF").unwrap_or_default();
    let all = followed();
    let wanted: Vec<&Followed> = all.iter().filter(|one| one.plan.contains(&only)).collect();
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let halves = wanted.chunks(wanted.len().div_ceil(2).max(1));
        let workers: Vec<_> = halves
            .map(|half| scope.spawn(move || half.iter().flat_map(|one| follow(one)).collect::<Vec<_>>()))
            .collect();
        workers.into_iter().flat_map(|worker| worker.join().unwrap()).collect()
    });
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}
