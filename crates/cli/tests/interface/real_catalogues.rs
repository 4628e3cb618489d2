//! What sources have by catalogues that their own tools fetched or wrote: flatpak's summaries, the names of the snap
//! store (written by the library that its daemon uses, read by `snap`), and channels of Nix.

use std::collections::BTreeSet;
use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::Command;

use super::support::{has, not_compared, open_dir, output, run, text};
use serde_json::Value;

fn offers(root: &Path, arguments: &[&str]) -> Vec<Value> {
    let all = ["--root", root.to_str().unwrap(), "offers", "--format", "json"];
    let ran = run(all.iter().chain(arguments));
    ran.document()["offers"].as_array().unwrap().clone()
}

/// Serves a directory for as long as the test runs: flatpak keeps no summary of a repository that is on this disk.
fn serve(dir: PathBuf) -> String {
    fn answer(dir: &Path, mut stream: TcpStream) -> Option<()> {
        let mut asked = Vec::new();
        let mut some = [0; 1024];
        while !asked.windows(4).any(|end| end == b"\r\n\r\n") {
            let count = stream.read(&mut some).ok().filter(|count| *count > 0)?;
            asked.extend(&some[..count]);
        }
        let line = String::from_utf8(asked).ok()?;
        let path = line.split(' ').nth(1)?.trim_start_matches('/').to_owned();
        let (status, body) = fs::read(dir.join(path)).map_or(("404 Not Found", Vec::new()), |body| ("200 OK", body));
        write!(stream, "HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len()).ok()?;
        stream.write_all(&body).ok()
    }
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let dir = dir.clone();
            std::thread::spawn(move || answer(&dir, stream));
        }
    });
    address
}

#[test]
fn flatpaks_summaries_tell_what_has_no_version() {
    if !has(&["flatpak", "ostree"]) {
        return;
    }
    let made = open_dir();
    let put = |path: &str, content: &str| {
        fs::create_dir_all(made.path().join(path).parent().unwrap()).unwrap();
        fs::write(made.path().join(path), content).unwrap();
    };
    let user = made.path().join("home/maren/.local/share/flatpak");
    let flatpak = |arguments: &[&str]| {
        let mut command = Command::new("flatpak");
        command.args(arguments).current_dir(made.path()).env("FLATPAK_USER_DIR", &user);
        command.env("HOME", made.path().join("home/maren")).env_remove("DBUS_SESSION_BUS_ADDRESS");
        String::from_utf8(output(&mut command)).unwrap()
    };
    put("etc/passwd", "maren:x:1000:1000::/home/maren:/bin/sh\n");
    for app in ["org.harbour.Lantern", "org.harbour.Skiff"] {
        let about = "runtime=org.harbour.Platform/x86_64/24\ncommand=x\n";
        put(&format!("{app}/metadata"), &format!("[Application]\nname={app}\n{about}"));
        put(&format!("{app}/files/bin/x"), &"x".repeat(70_000));
        put(&format!("{app}/export/share/x"), "");
        flatpak(&["build-export", "repo", app, "stable"]);
    }
    let export_runtime = |content: &str| {
        put("runtime/metadata", "[Runtime]\nname=org.harbour.Platform\nruntime=org.harbour.Platform/x86_64/24\n");
        put("runtime/files/lib/x", content);
        flatpak(&["build-export", "--runtime", "--files=files", "repo", "runtime", "24"]);
        flatpak(&["build-update-repo", "repo"]);
    };
    export_runtime("first");
    let address = serve(made.path().join("repo"));
    flatpak(&["--user", "remote-add", "--no-gpg-verify", "long-quay", &address]);
    flatpak(&["--user", "install", "-y", "--noninteractive", "long-quay", "org.harbour.Lantern"]);
    export_runtime("second");

    let updates = flatpak(&["--user", "remote-ls", "--updates", "--all", "--columns=application"]);
    assert_eq!(updates.trim(), "org.harbour.Platform");
    let newer: BTreeSet<String> = offers(made.path(), &["--newer"]).iter().map(|one| text(&one["name"])).collect();
    assert_eq!(newer.into_iter().collect::<Vec<_>>(), ["org.harbour.Platform"]);

    // Sizes as flatpak writes them: a decimal, a no-break space and the unit.
    let columns = "--columns=application,branch,arch,origin,installed-size";
    let listed = flatpak(&["--user", "remote-ls", "--all", columns]);
    let theirs: BTreeSet<String> = listed.lines().map(str::to_owned).collect();
    let ours = offers(made.path(), &["org.harbour.Lantern", "org.harbour.Skiff", "org.harbour.Platform"]);
    let dated = ours.iter().filter(|one| !one["catalogued_at"].is_null());
    let known: BTreeSet<String> = dated
        .map(|one| {
            let words = [&one["name"], &one["channel"], &one["arch"], &one["source"]["name"]].map(text).join("\t");
            let tenths = (one["size"].as_u64().unwrap() + 50) / 100;
            format!("{words}\t{}.{}\u{a0}kB", tenths / 10, tenths % 10)
        })
        .collect();
    assert_eq!(known, theirs);

    // A damaged summary is said to be one.
    let summaries = user.join("repo/tmp/cache/summaries");
    let file =
        fs::read_dir(&summaries).unwrap().flatten().find(|one| one.path().extension().is_some_and(|e| e == "sub"));
    fs::write(file.unwrap().path(), b"junk").unwrap();
    let ran = run(["--root", made.path().to_str().unwrap(), "offers", "org.harbour.Skiff"]);
    assert!(ran.err.contains("damaged"), "{ran:?}");
}

const WRITER: &str = r#"package main
import ("fmt"; "os"; "encoding/json"; bolt "go.etcd.io/bbolt")
func must(err error) { if err != nil { panic(err) } }
func main() {
    db, err := bolt.Open(os.Args[1], 0644, nil)
    must(err)
    must(db.Update(func(tx *bolt.Tx) error {
        commands, _ := tx.CreateBucket([]byte("Commands"))
        snaps, _ := tx.CreateBucket([]byte("Snaps"))
        for i := 0; i < 1000; i++ {
            name := fmt.Sprintf("skiff-%d", i)
            version := fmt.Sprintf("%d.%d", i % 7, i)
            rows, _ := json.Marshal([]map[string]string{{"snap": name, "version": version}})
            row, _ := json.Marshal(map[string]string{"snap": name, "version": version, "summary": "Rows number " + name})
            must(commands.Put([]byte(name), rows))
            must(snaps.Put([]byte(name), row))
        }
        return nil
    }))
    must(db.Close())
}
"#;

#[test]
fn the_snap_stores_names_are_read_as_snap_reads_them() {
    if !has(&["snap", "go"]) {
        return;
    }
    if !Path::new("/usr/share/gocode/src/go.etcd.io/bbolt").exists() {
        return not_compared("bbolt is not here");
    }
    let made = open_dir();
    let cache = made.path().join("var/cache/snapd");
    for dir in [&cache, &made.path().join("var/lib/snapd"), &made.path().join("write")] {
        fs::create_dir_all(dir).unwrap();
    }
    fs::write(made.path().join("write/main.go"), WRITER).unwrap();
    let mut go = Command::new("go");
    go.args(["run", "main.go"]).arg(cache.join("commands.db")).current_dir(made.path().join("write"));
    output(go.env("GO111MODULE", "off").env("GOPATH", "/usr/share/gocode").env("GOCACHE", made.path().join("cache")));

    let theirs = output(Command::new("snap").args(["advise-snap", "--dump-db"]).env("SNAPPY_GLOBAL_ROOT", made.path()));
    let theirs: BTreeSet<String> = String::from_utf8(theirs).unwrap().lines().map(str::to_owned).collect();
    assert_eq!(theirs.len(), 1000);
    let names: Vec<String> = (0..1000).map(|number| format!("skiff-{number}")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let ours = offers(made.path(), &names);
    let found = ours.iter().map(|one| format!("{0} {0} {1}", text(&one["name"]), text(&one["version"]))).collect();
    assert_eq!(theirs, found);
    assert_eq!(ours[0]["says"], "Rows number skiff-0");

    // A cut database costs what is lost, and says so; without it, names alone are known.
    let whole = fs::read(cache.join("commands.db")).unwrap();
    fs::write(cache.join("commands.db"), &whole[..whole.len() / 3]).unwrap();
    let ran = run(["--root", made.path().to_str().unwrap(), "offers", "skiff-999"]);
    assert!(ran.err.contains("damaged: a referenced page"), "{ran:?}");
    fs::remove_file(cache.join("commands.db")).unwrap();
    fs::write(cache.join("names"), "dinghy\nskiff\n").unwrap();
    let by_name = offers(made.path(), &["skiff"]);
    assert_eq!((by_name.len(), &by_name[0]["version"]), (1, &Value::Null));
}

#[test]
fn an_index_of_a_channel_names_its_packages() {
    let made = open_dir();
    let channel = made.path().join("nix/store/00000000000000000000000000000000-quay/quay");
    fs::create_dir_all(&channel).unwrap();
    fs::create_dir_all(made.path().join("nix/var/nix/profiles/per-user/root")).unwrap();
    std::os::unix::fs::symlink(
        "/nix/store/00000000000000000000000000000000-quay",
        made.path().join("nix/var/nix/profiles/per-user/root/channels"),
    )
    .unwrap();
    let index = rusqlite::Connection::open(channel.join("programs.sqlite")).unwrap();
    index
        .execute_batch(
            "create table Programs (name text not null, system text not null, package text not null, primary key (name, system, package));
             insert into Programs values ('mole', 'x86_64-linux', 'pierworks'), ('mole', 'aarch64-linux', 'pierworks'), ('skiff', 'x86_64-linux', 'Skiff');",
        )
        .unwrap();
    drop(index);
    let found = offers(made.path(), &["mole", "skiff"]);
    let shown: Vec<String> =
        found.iter().map(|one| format!("{} {}", text(&one["name"]), text(&one["channel"]))).collect();
    assert_eq!(shown, ["pierworks quay", "Skiff quay"]);
    assert_eq!(found[1]["remedies"][0]["command"], "nix-env -iA quay.Skiff");
    fs::write(channel.join("programs.sqlite"), b"junk").unwrap();
    let ran = run(["--root", made.path().to_str().unwrap(), "offers", "mole"]);
    assert!(ran.err.contains("what the channel quay has is unknown"), "{ran:?}");
}
