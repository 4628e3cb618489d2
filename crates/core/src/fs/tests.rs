//! Both ways of containment on one hostile tree, and the refusals.

use std::fs;
use std::os::unix::fs::symlink;

use super::*;

fn tree() -> tempfile::TempDir {
    let tree = tempfile::tempdir().unwrap();
    let at = |path: &str| tree.path().join(path);
    fs::create_dir_all(at("usr/bin")).unwrap();
    fs::create_dir_all(at("etc/alternatives")).unwrap();
    fs::write(at("usr/bin/pegel"), "x").unwrap();
    fs::write(at("etc/shadow-of-host"), "inside").unwrap();
    symlink("usr/bin", at("bin")).unwrap();
    symlink("/usr/bin/pegel", at("etc/alternatives/pegel")).unwrap();
    symlink("/etc/alternatives/pegel", at("usr/bin/gauge")).unwrap();
    symlink("../../../../../../etc/shadow-of-host", at("usr/bin/escape")).unwrap();
    symlink("/../../etc/shadow-of-host", at("usr/bin/escape2")).unwrap();
    symlink("b", at("usr/a")).unwrap();
    symlink("a", at("usr/b")).unwrap();
    symlink("/bin", at("usr/again")).unwrap();
    rustix::fs::mknodat(rustix::fs::CWD, at("fifo"), rustix::fs::FileType::Fifo, Mode::RWXU, 0).unwrap();
    tree
}

#[test]
fn links_stay_inside_the_root_by_kernel_and_by_hand() {
    let tree = tree();
    let roots = [Root::offline(tree.path()).unwrap(), Root::offline_by_hand(tree.path()).unwrap()];
    for root in &roots {
        for (path, content) in [
            ("/bin/gauge", Some("x")),
            ("/usr/again/../bin/gauge", Some("x")),
            ("/../../usr/bin/pegel", Some("x")),
            ("/usr/bin/escape", Some("inside")),
            ("/usr/bin/escape2", Some("inside")),
            ("/usr/a", None),
            ("/usr/a/x", None),
            ("/fifo", None),
            ("/usr/bin", None),
            ("/nowhere", None),
            ("/..", None),
        ] {
            let read = root.read(path.as_bytes(), Limit::SMALL);
            assert_eq!(read.as_deref().ok(), content.map(str::as_bytes), "{path}: {read:?}");
        }
        assert_eq!(root.canonicalize(b"/bin/../again/x").as_bytes(), b"/usr/bin/x");
        assert_eq!(root.canonicalize_dir(b"/..").as_bytes(), b"/");
        assert_eq!(root.entry(b"/..").unwrap().identity, root.entry(b"/").unwrap().identity);
        assert!(matches!(root.target(b"/usr/a"), Err(FsError::Loop { .. })));
        assert!(matches!(root.read(b"/fifo", Limit::SMALL), Err(FsError::WrongKind { found: Kind::Special, .. })));
        assert!(matches!(root.read_link(b"/usr/bin/pegel"), Err(FsError::Failed { .. })));
        // What is no file is no empty file either; what is not there is.
        let gaps: Vec<String> = root.gaps().iter().map(|gap| gap.path.to_string()).collect();
        assert!(gaps.contains(&"/fifo".to_owned()) && gaps.contains(&"/usr/a".to_owned()), "{gaps:?}");
        assert!(!gaps.iter().any(|gap| gap == "/nowhere" || gap.ends_with("pegel")), "{gaps:?}");
    }
}

#[test]
fn reads_are_bounded_and_say_so() {
    let tree = tree();
    let root = Root::offline(tree.path()).unwrap();
    fs::write(tree.path().join("long"), vec![b'x'; 4000]).unwrap();
    assert!(matches!(root.read(b"/long", Limit::bytes(3999)), Err(FsError::TooLarge { .. })));
    assert_eq!(root.read(b"/long", Limit::bytes(4000)).unwrap().len(), 4000);
    assert_eq!(root.read_start(b"/long", 10).unwrap().len(), 10);
}

#[test]
fn a_walk_follows_no_link_and_keeps_its_bounds() {
    let tree = tree();
    let root = Root::offline(tree.path()).unwrap();
    let mut seen = Vec::new();
    let limits = WalkLimits { depth: 9, entries: 1000 };
    root.walk(b"/", limits, &mut |found| {
        seen.push(found.path.to_string());
        true
    });
    assert!(seen.contains(&"/usr/bin/pegel".to_owned()) && !seen.iter().any(|path| path.starts_with("/bin/")));
    let mut count = 0;
    root.walk(b"/", WalkLimits { depth: 9, entries: 3 }, &mut |_| {
        count += 1;
        true
    });
    assert_eq!((count, root.gaps().len()), (3, 1));
}

#[test]
fn a_record_that_is_not_the_same_file_any_more_is_told_whenever_it_changed() {
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, content: &str| std::fs::write(dir.path().join(name), content).unwrap();
    write("status", "Package: tidegauge");
    write("list", "/usr/bin/tidegauge");
    let root = Root::offline(dir.path()).unwrap();
    let told = || {
        root.note_changes();
        root.gaps().iter().map(|gap| gap.path.to_string()).collect::<Vec<_>>()
    };
    root.read(b"/status", Limit::RECORD).unwrap();
    root.read(b"/list", Limit::LIST).unwrap();
    assert_eq!(told(), Vec::<String>::new());
    // As package managers do it: a new file takes the old one's name.
    write("status.new", "Package: tidegauge");
    std::fs::rename(dir.path().join("status.new"), dir.path().join("status")).unwrap();
    write("list", "");
    assert_eq!(told(), ["/status"]);
    assert_eq!(told(), ["/status"]);
}
