//! Readers of texts. The first byte of an input chooses the reader.

#![no_main]

use libfuzzer_sys::fuzz_target;

#[path = "../../crates/formats/tests/support/texts.rs"]
mod texts;

fuzz_target!(|data: &[u8]| {
    if let Some((&which, file)) = data.split_first() {
        texts::READERS[usize::from(which) % texts::READERS.len()](file);
    }
});
