//! What libraries unpack for us: compressed streams, images, databases, keys. The first byte of an input chooses.

#![no_main]

use std::io::{self, Cursor, Read as _};
use std::panic;
use std::sync::Once;

use libfuzzer_sys::fuzz_target;
use whodunit_formats::database::{self, Source};
use whodunit_formats::{bundle, openpgp, packed, squashfs, zipped};

/// Only added to at the end: inputs that were kept choose by number.
const READERS: &[fn(&[u8])] = &[
    |file| {
        let Ok(stream) = packed::open(file) else { return };
        let _ = stream.take(1 << 20).read_to_end(&mut Vec::new());
    },
    |file| {
        let read = squashfs::unpack(Cursor::new(file), file.len() as u64, 0, &|path| path.ends_with('d'), 4096);
        assert!(read.unwrap_or_default().iter().all(|one| one.content.len() <= 4096));
    },
    |file| {
        let read = bundle::inspect(|| Some(Cursor::new(file)), &file[..file.len().min(4096)], file.len() as u64);
        assert!(read.is_none_or(|bundle| matches!(bundle.form, 1 | 2)));
    },
    |file| query(file, b""),
    |file| {
        let (file, log) = file.split_at(file.len() / 2);
        query(file, log);
    },
    |file| {
        let (keys, _) = openpgp::keys(file);
        let _ = keys.iter().map(|key| key.expiry_for("")).count();
        let _ = openpgp::issuers(file);
    },
    |file| {
        let read = zipped::files(Cursor::new(file), &["META-INF/coursier/info.json", "a", ""], 4096);
        assert!(read.unwrap_or_default().into_iter().flatten().all(|content| content.len() <= 4096));
    },
];

struct Bytes(Vec<u8>);

impl Source for Bytes {
    fn length(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, place: u64, buffer: &mut [u8]) -> io::Result<usize> {
        let from = usize::try_from(place).unwrap_or(usize::MAX).min(self.0.len());
        let count = buffer.len().min(self.0.len() - from);
        buffer[..count].copy_from_slice(&self.0[from..from + count]);
        Ok(count)
    }
}

/// Every row of every table, as far as it can be read.
fn query(file: &[u8], log: &[u8]) {
    let Ok(database) = database::open(Bytes(file.to_vec()), log) else { return };
    let Ok(mut schema) = database.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' LIMIT 20") else {
        return;
    };
    let names = schema.query_map([], |row| row.get::<_, String>(0)).into_iter().flatten();
    for name in names.map_while(Result::ok) {
        let Ok(mut table) = database.prepare(&format!("SELECT * FROM \"{}\"", name.replace('"', "\"\""))) else {
            continue;
        };
        let Ok(mut rows) = table.query([]) else { continue };
        while let Ok(Some(row)) = rows.next() {
            let _ = row.get_ref(0).map(|value| value.data_type());
        }
    }
}

/// What the library that unpacks images gives up on, our own code catches: that is no find.
fn let_libraries_panic() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let aborts = panic::take_hook();
        panic::set_hook(Box::new(move |info| {
            let file = info.location().map_or("", |location| location.file());
            if !["/backhand-", "/deku-"].iter().any(|library| file.contains(library)) {
                aborts(info);
            }
        }));
    });
}

fuzz_target!(|data: &[u8]| {
    let_libraries_panic();
    if let Some((&which, file)) = data.split_first() {
        READERS[usize::from(which) % READERS.len()](file);
    }
});
