//! `fleet` in a real database server, and other engines as judges of what it writes.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use super::fleet::{QUESTIONS, answer, ask, load, snapshots};
use super::support::{has, not_compared, output, program, target};

/// A server of PostgreSQL, on a socket in a directory of its own, while this lives.
struct Server {
    /// The directory of Debian's package.
    programs: PathBuf,
    dir: tempfile::TempDir,
    process: Option<Child>,
    port: u16,
}

impl Server {
    /// Makes an empty database, or says that there is no server here.
    fn new() -> Option<Self> {
        let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        let programs = versions.map(|version| version.path().join("bin")).find(|dir| dir.join("initdb").exists());
        let Some(programs) = programs.filter(|_| has(&["setpriv"])) else {
            not_compared("PostgreSQL is not installed");
            return None;
        };
        let dir = super::support::open_dir();
        let mut server = Server { programs, dir, process: None, port: 5432 };
        if rustix::process::geteuid().is_root() {
            // The server refuses to run as root.
            std::os::unix::fs::chown(server.dir.path(), Some(65534), Some(65534)).unwrap();
        }
        let data = server.dir.path().join("data");
        let mut made = server.command("initdb");
        made.args(["-U", "keeper", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "-N", "-D"]).arg(&data);
        output(&mut made);
        server.start();
        Some(server)
    }

    /// One of its programs, as a user who is not root.
    fn command(&self, name: &str) -> Command {
        let program = self.programs.join(name);
        if !rustix::process::geteuid().is_root() {
            return Command::new(program);
        }
        let mut command = Command::new("setpriv");
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups", "--"]).arg(program).current_dir("/");
        command
    }

    fn start(&mut self) {
        self.started(&["-c", "listen_addresses="]);
    }

    /// Starts it for connections over a network, too.
    fn listen_on(&mut self, port: u16) {
        self.port = port;
        self.started(&["-c", "listen_addresses=127.0.0.1"]);
    }

    fn started(&mut self, options: &[&str]) {
        let mut command = self.command("postgres");
        command.arg("-D").arg(self.dir.path().join("data")).arg("-k").arg(self.dir.path());
        command.args(["-c", "fsync=off"]).args(options);
        self.process = Some(command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        let begun = Instant::now();
        while !self.psql("SELECT 1").status().is_ok_and(|ran| ran.success()) {
            assert!(begun.elapsed() < Duration::from_secs(60), "the server does not start");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn psql(&self, sql: &str) -> Command {
        let mut command = self.command("psql");
        command.arg("-h").arg(self.dir.path()).args([
            "-p",
            &self.port.to_string(),
            "-U",
            "keeper",
            "-d",
            "postgres",
            "-X",
            "-A",
            "-t",
            "-q",
            "-c",
            sql,
        ]);
        command.stderr(Stdio::null()).stdout(Stdio::piped());
        command
    }

    /// The end of the server without a farewell.
    fn kill(&mut self) {
        let file = self.dir.path().join("data/postmaster.pid");
        let number: i32 = fs::read_to_string(file).unwrap().lines().next().unwrap().parse().unwrap();
        let all = rustix::process::Pid::from_raw(number).unwrap();
        rustix::process::kill_process(all, rustix::process::Signal::QUIT).unwrap();
        self.process.take().unwrap().wait().unwrap();
    }

    fn url(&self) -> String {
        format!("postgresql://keeper@/postgres?host={}", self.dir.path().display())
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if self.process.is_some() {
            self.kill();
        }
    }
}

/// The answers of a store to all questions, as documents.
fn answers(store: &str) -> Vec<String> {
    QUESTIONS.iter().map(|question| ask(store, question, "json").out).collect()
}

#[test]
fn all_stores_give_the_same_answers() {
    let dir = snapshots(25, 150);
    let all = dir.path().join("all");
    let Some(server) = Server::new() else { return };
    let place = |name: &str| format!("{}/{name}", dir.path().display());
    let stores = [place("fleet.sqlite"), place("dataset/"), server.url()];
    let mut answered = Vec::new();
    for store in &stores {
        assert_eq!(load(&all, store).out, "loaded 50 snapshots\n", "{store}");
        assert_eq!(load(&all, store).out, "loaded 0 snapshots; 50 were there already\n", "{store}");
        answered.push(answers(store));
    }
    for (place, question) in QUESTIONS.iter().enumerate() {
        assert_eq!(answered[0][place], answered[1][place], "{question:?}: file and dataset");
        assert_eq!(answered[0][place], answered[2][place], "{question:?}: file and server");
    }
    // The views are for others' SQL.
    let counted =
        output(&mut server.psql("SELECT count(*), count(DISTINCT machine) FROM installed WHERE name = 'tidelog'"));
    let places = answer(&stores[2], &["where", "tidelog"])["places"].clone();
    let machines: std::collections::BTreeSet<&str> =
        places.as_array().unwrap().iter().map(|one| one["machine"].as_str().unwrap()).collect();
    let expected = format!("{}|{}\n", places.as_array().unwrap().len(), machines.len());
    assert_eq!(String::from_utf8(counted).unwrap(), expected);
}

#[test]
fn a_server_that_goes_away_leaves_nothing_half_loaded() {
    let Some(mut server) = Server::new() else { return };
    let dir = snapshots(40, 400);
    let all = dir.path().join("all");
    let url = server.url();
    let mut loader = Command::new(program());
    loader.args(["fleet", "load"]).arg(&all).args(["--into", &url]).stdout(Stdio::null()).stderr(Stdio::piped());
    let loader = loader.spawn().unwrap();
    let count = "SELECT count(*) FROM snapshots";
    let begun = Instant::now();
    let loaded = |server: &Server| {
        let told = server.psql(count).output().unwrap().stdout;
        String::from_utf8(told).unwrap().trim().parse::<u32>().unwrap_or(0)
    };
    while loaded(&server) == 0 {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing is loaded");
    }
    server.kill();
    let ended = loader.wait_with_output().unwrap();
    let says = String::from_utf8(ended.stderr).unwrap();
    assert!(ended.status.code() == Some(4) && says.contains(&url), "{:?} {says}", ended.status);
    server.start();
    let kept = loaded(&server);
    assert!(kept > 0 && kept < 80 && kept % 8 == 0, "{kept} snapshots are there as a whole");
    let missing = "SELECT count(*) FROM snapshots s WHERE NOT EXISTS \
        (SELECT 1 FROM package_lists l WHERE l.list = s.package_list)";
    assert_eq!(output(&mut server.psql(missing)), b"0\n");
    assert_eq!(load(&all, &url).out, format!("loaded {} snapshots; {kept} were there already\n", 80 - kept));
    let file = dir.path().join("fleet.sqlite").to_str().unwrap().to_owned();
    load(&all, &file);
    assert_eq!(answers(&url), answers(&file));
}

#[test]
fn two_loaders_of_one_database_wait_for_each_other() {
    let Some(server) = Server::new() else { return };
    let dir = snapshots(12, 100);
    let all = dir.path().join("all");
    let start =
        || Command::new(program()).args(["fleet", "load"]).arg(&all).args(["--into", &server.url()]).spawn().unwrap();
    let mut both = [start(), start()];
    for one in &mut both {
        assert!(one.wait().unwrap().success());
    }
    assert_eq!(output(&mut server.psql("SELECT count(*), count(DISTINCT machine) FROM snapshots")), b"24|12\n");
}

/// What other engines say to a statement about a dataset, line by line.
fn judged(engine: &str, dataset: &Path, sql: &str) -> String {
    let script = match engine {
        "duckdb" => {
            "import duckdb, sys\nc = duckdb.connect()\n\
             for n in sys.argv[3:]:\n c.sql(f\"create view {n} as select * from read_parquet('{sys.argv[1]}/{n}/*/*/*.parquet', hive_partitioning = true)\")\n\
             for r in c.sql(sys.argv[2]).fetchall(): print(*r, sep='|')"
        }
        _ => {
            "import sys\nfrom pyspark.sql import SparkSession\n\
             s = SparkSession.builder.master('local[2]').config('spark.ui.enabled', 'false').getOrCreate()\n\
             s.sparkContext.setLogLevel('ERROR')\n\
             for n in sys.argv[3:]: s.read.parquet(f'{sys.argv[1]}/{n}').createOrReplaceTempView(n)\n\
             for r in s.sql(sys.argv[2]).collect(): print(*r, sep='|')"
        }
    };
    let mut command = Command::new(target().join("tools/engines/bin/python"));
    command.args(["-c", script]).arg(dataset).arg(sql);
    command.args(["snapshots", "packages", "winners", "contexts", "findings", "offers", "files", "sources"]);
    String::from_utf8(output(command.stderr(Stdio::null()))).unwrap()
}

#[test]
fn other_engines_read_a_dataset_in_place() {
    let python = target().join("tools/engines/bin/python");
    let dir = snapshots(8, 60);
    let dataset = dir.path().join("dataset");
    assert_eq!(load(&dir.path().join("all"), &format!("{}/", dataset.display())).status, 0);
    let store = dataset.to_str().unwrap();
    let newest = "SELECT * FROM (SELECT s.*, row_number() OVER (PARTITION BY machine ORDER BY taken_at DESC, snapshot DESC) \
                  AS place FROM snapshots s) AS numbered WHERE place = 1";
    let versions = format!(
        "SELECT p.manager, p.version, count(DISTINCT l.machine) FROM packages p JOIN ({newest}) l ON l.snapshot = p.snapshot \
         WHERE p.name = 'tidelog' GROUP BY p.manager, p.version, p.upstream_key, p.version_key \
         ORDER BY p.upstream_key DESC, p.version_key DESC, p.manager, p.version"
    );
    let starts = format!(
        "SELECT l.host, w.path, count(*) FROM winners w JOIN ({newest}) l ON l.snapshot = w.snapshot \
         JOIN contexts c ON c.snapshot = w.snapshot AND c.contexts = w.contexts \
         WHERE w.name = 'tidelog' GROUP BY l.host, w.path ORDER BY l.host, w.path"
    );
    let text = |value: &serde_json::Value| super::support::text(value);
    let ours = answer(store, &["versions", "tidelog"]);
    let rows = ours["versions"].as_array().unwrap().iter();
    let own_versions: String =
        rows.map(|one| format!("{}|{}|{}\n", text(&one["manager"]), text(&one["version"]), one["machines"])).collect();
    let ours = answer(store, &["where", "tidelog"]);
    let mut own_starts: Vec<String> = ours["places"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| !one["runs"].is_null())
        .map(|one| format!("{}|{}|{}\n", text(&one["machine"]), text(&one["runs"]), one["contexts"]))
        .collect();
    own_starts.sort_unstable();
    for (engine, library, needs) in [("duckdb", "duckdb", "python3"), ("spark", "pyspark", "java")] {
        let is_here = Command::new(&python).args(["-c", &format!("import {library}")]).stderr(Stdio::null()).status();
        if !has(&[needs]) || !is_here.is_ok_and(|ran| ran.success()) {
            not_compared(&format!("a dataset of snapshots with {engine}: it is not installed (.ci/run does it)"));
            continue;
        }
        assert_eq!(judged(engine, &dataset, &versions), own_versions, "{engine}");
        assert_eq!(judged(engine, &dataset, &starts), own_starts.concat(), "{engine}");
    }
}

/// A root certificate, a certificate for this machine that it vouches for, and the key of that.
fn certificates(dir: &Path) -> [PathBuf; 3] {
    let place = |name: &str| dir.join(name);
    let [root, root_key, request, certificate, key, names] =
        ["root.crt", "root.key", "request", "server.crt", "server.key", "names"].map(place);
    let openssl = |arguments: &[&str], files: &[(&str, &Path)]| {
        let mut command = Command::new("openssl");
        command.args(arguments).stderr(Stdio::null());
        output(command.args(files.iter().flat_map(|(option, file)| [option.as_ref(), file.as_os_str()])));
    };
    let new = ["req", "-newkey", "rsa:2048", "-nodes", "-subj"];
    openssl(&[&new[..], &["/CN=Harbour", "-x509", "-days", "2"]].concat(), &[("-out", &root), ("-keyout", &root_key)]);
    openssl(&[&new[..], &["/CN=localhost"]].concat(), &[("-out", &request), ("-keyout", &key)]);
    fs::write(&names, "subjectAltName=DNS:localhost,IP:127.0.0.1\nbasicConstraints=CA:FALSE\n").unwrap();
    let files =
        [("-in", &*request), ("-CA", &*root), ("-CAkey", &*root_key), ("-out", &*certificate), ("-extfile", &*names)];
    openssl(&["x509", "-req", "-days", "2", "-CAcreateserial"], &files);
    [root, certificate, key]
}

/// Over a network: encrypted, verified where that is asked for, with the password of a password file.
#[test]
fn connections_follow_the_conventions_of_the_servers_own_clients() {
    if !has(&["openssl"]) {
        return;
    }
    let Some(mut server) = Server::new() else { return };
    let dir = snapshots(2, 30);
    let all = dir.path().join("all");
    let [root, certificate, key] = certificates(server.dir.path());
    let owner = rustix::process::geteuid().is_root().then_some(65534);
    std::os::unix::fs::chown(&key, owner, owner).unwrap();
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    output(&mut server.psql("CREATE ROLE watch LOGIN PASSWORD 'ebb:tide'"));
    output(&mut server.psql("GRANT ALL ON SCHEMA public TO watch"));
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let data = server.dir.path().join("data");
    let rules = "local all all trust\nhostssl all watch 127.0.0.1/32 scram-sha-256\n";
    fs::write(data.join("pg_hba.conf"), rules).unwrap();
    fs::write(
        data.join("postgresql.auto.conf"),
        format!(
            "ssl = on\nssl_cert_file = '{}'\nssl_key_file = '{}'\nport = {port}\n",
            certificate.display(),
            key.display()
        ),
    )
    .unwrap();
    server.kill();
    server.listen_on(port);

    let passwords = dir.path().join("passwords");
    fs::write(&passwords, format!("# invented\nother:*:*:*:wrong\n127.0.0.1:{port}:postgres:watch:ebb\\:tide\n"))
        .unwrap();
    let mode = |mode: u32| fs::set_permissions(&passwords, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    mode(0o600);
    let url = |options: &str| format!("postgresql://watch@127.0.0.1:{port}/postgres{options}");
    let load = |options: &str, file: Option<&Path>| {
        let mut command = Command::new(program());
        command.args(["fleet", "load"]).arg(&all).args(["--into", &url(options)]).env_remove("PGPASSWORD");
        command.env("HOME", dir.path());
        if let Some(file) = file {
            command.env("PGPASSFILE", file);
        }
        super::support::finish(&mut command)
    };
    let verified = format!("?sslmode=verify-full&sslrootcert={}", root.display());
    for (options, file, status, says) in [
        ("", Some(&*passwords), 0, ""),
        ("?sslmode=prefer", Some(&*passwords), 0, ""),
        (verified.as_str(), Some(&*passwords), 0, ""),
        // Nobody vouches for the server.
        ("?sslmode=require", Some(&*passwords), 4, "certificate"),
        ("?sslmode=disable", Some(&*passwords), 4, "no encryption"),
        ("?sslmode=perhaps", Some(&*passwords), 4, "there is no sslmode perhaps"),
        (verified.as_str(), None, 4, "password"),
        ("?sslmode=verify-full&sslrootcert=/no/such/file", Some(&*passwords), 4, "/no/such/file"),
    ] {
        let ran = load(options, file);
        assert!(ran.status == status && ran.err.contains(says), "{options} {file:?}: {ran:?}");
        assert!(!ran.err.contains("ebb:tide"), "{ran:?}");
    }
    // A file that others may read does not count.
    mode(0o644);
    assert_eq!(load(&verified, Some(&passwords)).status, 4);
}
