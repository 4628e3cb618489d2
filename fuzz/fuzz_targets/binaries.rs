//! Readers of binary records that are held in memory. The first byte of an input chooses the reader.

#![no_main]

use std::io::Cursor;

use libfuzzer_sys::fuzz_target;
use whodunit_formats::berkeley::Table;
use whodunit_formats::rpm_header::Header;
use whodunit_formats::{bill_of_materials, binary, bolt, dynamic, loader_cache, ndb, plist};

/// Only added to at the end: inputs that were kept choose by number.
const READERS: &[fn(&[u8])] = &[
    |file| header(file),
    |file| {
        for (_, blob) in ndb::blobs(file).unwrap_or_default() {
            blob.into_iter().for_each(header);
        }
    },
    |file| {
        let Ok(table) = Table::parse(file.to_vec()) else { return };
        let numbers: Vec<u32> = table.numbers().collect();
        assert!(numbers.is_sorted(), "each number once, in order");
        for number in numbers {
            if let Some(value) = table.value(number) {
                assert!(value.len() <= file.len(), "no more than the file holds");
                header(&value);
            }
        }
    },
    |file| {
        for bucket in [&b"snaps"[..], b"revisions", b""] {
            let _ = bolt::each(file, bucket, &mut |_, _| ());
        }
    },
    |file| {
        let _ = loader_cache::entries(file);
    },
    |file| {
        let _ = dynamic::read(Cursor::new(file));
    },
    |file| {
        let _ = (binary::build_info(Cursor::new(file)), binary::go_program(Cursor::new(file)));
        if let Some((content, _)) = binary::section(Cursor::new(file), ".upd_info") {
            assert!(content.len() <= file.len());
        }
    },
    |file| {
        let _ = plist::Value::parse(&[b"bplist00", file].concat());
    },
    |file| {
        let (listed, _) = bill_of_materials::entries(file);
        let is_inside = |path: &[u8]| !path.starts_with(b"/") && path.split(|b| *b == b'/').all(|name| name != b"..");
        assert!(listed.iter().all(|entry| is_inside(&entry.path)), "every path lies below the place of installation");
    },
];

fn header(blob: &[u8]) {
    let Some(header) = Header::parse(blob) else { return };
    // As many files as are told are there: what is counted without looking agrees with what is read.
    assert!(header.files().count() <= blob.len());
    let _ = (header.version(), header.counts_of_files());
    for tag in [1000, 1001, 1002, 1022, 1047, 1049, 1117, 5011] {
        let _ = (header.text(tag), header.number(tag));
        assert!(header.texts(tag).count() <= blob.len() && header.numbers(tag).count() <= blob.len());
    }
}

fuzz_target!(|data: &[u8]| {
    if let Some((&which, file)) = data.split_first() {
        READERS[usize::from(which) % READERS.len()](file);
    }
});
