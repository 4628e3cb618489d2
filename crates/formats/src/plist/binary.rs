//! Property lists in binary form (`bplist00`; "`CFBinaryPList.c`" of Core Foundation).
//!
//! A head of eight bytes, objects, a table of their offsets, and 32 bytes at the end that say how wide offsets and
//! references are, how many objects there are, which is the top one, and where the table begins; all numbers highest
//! byte first. The upper half of an object's first byte is its kind, the lower its length, or 15 where a number object
//! with the length follows. Containers hold references, that is, places in the table.
//!
//! Traps: one object can be referred to many times, so a short file can stand for a document without end; texts are
//! ASCII or UTF-16; dates count from 2001.

use base64::Engine as _;

use super::{Entry, MAX_DEPTH, Value};

/// What every such file begins with.
pub(super) const MAGIC: &[u8] = b"bplist00";
const TRAILER: usize = 32;
/// The most values of one document, and the most bytes of their texts: far more than any record that is read has.
const MAX_VALUES: usize = 200_000;
const MAX_TEXT: usize = 32 << 20;
/// Seconds from 1970 to 2001.
const EPOCH: f64 = 978_307_200.0;

struct Document<'b> {
    bytes: &'b [u8],
    /// Where each object begins.
    offsets: &'b [u8],
    offset_size: usize,
    reference_size: usize,
    values: usize,
    text: usize,
}

/// Reads a document.
///
/// # Errors
/// In words: where a table or an object lies outside the file, or the document is nested or repeated without end.
pub(super) fn parse(bytes: &[u8]) -> Result<Value, String> {
    let trailer = bytes.len().checked_sub(TRAILER).filter(|at| *at >= MAGIC.len()).ok_or("truncated")?;
    let (body, trailer) = bytes.split_at(trailer);
    let (offset_size, reference_size) = (usize::from(trailer[6]), usize::from(trailer[7]));
    let count = size(&trailer[8..16])?;
    let top = size(&trailer[16..24])?;
    let table = size(&trailer[24..32])?;
    if !(1..=8).contains(&offset_size) || !(1..=8).contains(&reference_size) {
        return Err("an offset has no width that could be".to_owned());
    }
    let offsets = count.checked_mul(offset_size).and_then(|length| slice(body, table, length));
    let offsets = offsets.ok_or("the table of objects is not in the file")?;
    let mut document = Document { bytes: &body[..table], offsets, offset_size, reference_size, values: 0, text: 0 };
    document.value(top, 0)
}

/// A number of any width, highest byte first.
fn size(bytes: &[u8]) -> Result<usize, String> {
    let number = bytes.iter().try_fold(0_u64, |sum, byte| Some(sum.checked_mul(256)? + u64::from(*byte)));
    number.and_then(|number| usize::try_from(number).ok()).ok_or_else(|| "a number is too great".to_owned())
}

fn slice(bytes: &[u8], at: usize, length: usize) -> Option<&[u8]> {
    bytes.get(at..at.checked_add(length)?)
}

impl<'b> Document<'b> {
    fn value(&mut self, number: usize, depth: usize) -> Result<Value, String> {
        self.values += 1;
        if depth >= MAX_DEPTH || self.values > MAX_VALUES || self.text > MAX_TEXT {
            return Err("nested too deeply, or repeated too often".to_owned());
        }
        let outside = || "an object is not in the file".to_owned();
        let entry = number.checked_mul(self.offset_size).and_then(|at| slice(self.offsets, at, self.offset_size));
        let at = size(entry.ok_or_else(outside)?)?;
        let marker = *self.bytes.get(at).ok_or_else(outside)?;
        let (kind, low) = (marker >> 4, usize::from(marker & 15));
        let here = at + 1;
        Ok(match kind {
            0 => Value::Bool(low == 9),
            1 => Value::Number(self.number(here, low).ok_or_else(outside)?),
            2 => Value::Text(self.real(here, low).ok_or_else(outside)?.to_string()),
            3 => Value::Text(date(self.real(here, 3).ok_or_else(outside)?).unwrap_or_default()),
            8 => Value::Number(
                size(slice(self.bytes, here, low + 1).ok_or_else(outside)?)?.try_into().unwrap_or(i64::MAX),
            ),
            4..=6 => {
                let (length, here) = self.length(here, low).ok_or_else(outside)?;
                let bytes = length.checked_mul(if kind == 6 { 2 } else { 1 });
                let bytes = bytes.and_then(|length| slice(self.bytes, here, length)).ok_or_else(outside)?;
                self.text += bytes.len();
                Value::Text(match kind {
                    4 => base64::engine::general_purpose::STANDARD.encode(bytes),
                    5 => String::from_utf8_lossy(bytes).into_owned(),
                    _ => {
                        let units = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
                        char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
                    }
                })
            }
            10..=12 => {
                let (length, here) = self.length(here, low).ok_or_else(outside)?;
                let items = self.references(here, length).ok_or_else(outside)?;
                let items = items.map(|one| self.value(size(one)?, depth + 1));
                Value::Array(items.collect::<Result<_, _>>()?)
            }
            13 => {
                let (length, here) = self.length(here, low).ok_or_else(outside)?;
                let keys = self.references(here, length).ok_or_else(outside)?;
                let values = self.references(here + length * self.reference_size, length).ok_or_else(outside)?;
                let mut entries = Vec::new();
                for (key, value) in keys.zip(values) {
                    let Value::Text(key) = self.value(size(key)?, depth + 1)? else {
                        return Err("a key that is no text".to_owned());
                    };
                    entries.push(Entry { key, line: 0, value: self.value(size(value)?, depth + 1)? });
                }
                Value::Dict(entries)
            }
            _ => return Err("an object of an unknown kind".to_owned()),
        })
    }

    /// A whole number of `2^width` bytes; those of one to four bytes have no sign.
    fn number(&self, at: usize, width: usize) -> Option<i64> {
        let bytes = slice(self.bytes, at, 1_usize.checked_shl(u32::try_from(width).ok()?)?)?;
        match bytes.len() {
            8 => Some(i64::from_be_bytes(bytes.try_into().ok()?)),
            // Sixteen bytes hold what is greater than any that is asked for.
            16 => Some(i64::from_be_bytes(bytes[8..].try_into().ok()?)),
            1 | 2 | 4 => i64::try_from(size(bytes).ok()?).ok(),
            _ => None,
        }
    }

    fn real(&self, at: usize, width: usize) -> Option<f64> {
        match width {
            2 => Some(f32::from_be_bytes(slice(self.bytes, at, 4)?.try_into().ok()?).into()),
            3 => Some(f64::from_be_bytes(slice(self.bytes, at, 8)?.try_into().ok()?)),
            _ => None,
        }
    }

    /// A length, and where that which has it begins.
    fn length(&self, at: usize, low: usize) -> Option<(usize, usize)> {
        if low < 15 {
            return Some((low, at));
        }
        let marker = *self.bytes.get(at)?;
        let width = usize::from(marker & 15);
        let length = usize::try_from(self.number(at + 1, width)?).ok().filter(|_| marker >> 4 == 1)?;
        Some((length, at + 1 + (1 << width)))
    }

    fn references(&self, at: usize, count: usize) -> Option<std::slice::ChunksExact<'b, u8>> {
        Some(slice(self.bytes, at, count.checked_mul(self.reference_size)?)?.chunks_exact(self.reference_size))
    }
}

/// A date as it is written in XML; `None` for one that no calendar has.
fn date(seconds: f64) -> Option<String> {
    let seconds = seconds + EPOCH;
    #[expect(clippy::cast_possible_truncation, reason = "a date of a calendar, to the second")]
    let whole = (seconds.abs() < 1e12).then_some(seconds.floor() as i64)?;
    Some(jiff::Timestamp::from_second(whole).ok()?.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What Python's library wrote: `{"n": -5, "day": 2024-12-24 00:26:40, "list": [true, "Höhe", 1.5, b"\0\1"]}`.
    const WRITTEN: &[u8] =
        b"bplist00\xd3\x01\x02\x03\x04\x05\x0aSdayTlistQn3A\xc6\x8d\x1b\xa0\x00\x00\x00\xa4\x06\x07\x08\x09\
        \x09d\x00H\x00\xf6\x00h\x00e#?\xf8\x00\x00\x00\x00\x00\x00B\x00\x01\x13\xff\xff\xff\xff\xff\xff\xff\
        \xfb\x08\x0f\x13\x18\x1a#()2;>\x00\x00\x00\x00\x00\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x0b\x00\
        \x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00G";

    #[test]
    fn every_kind_of_value_is_read() {
        let read = parse(WRITTEN).unwrap();
        assert_eq!(read.get("n"), Some(&Value::Number(-5)));
        assert_eq!(read.text_at("day"), Some("2024-12-24T00:26:40Z"));
        let list: Vec<Value> = read.get("list").unwrap().items().cloned().collect();
        let text = |text: &str| Value::Text(text.to_owned());
        assert_eq!(list, [Value::Bool(true), text("Höhe"), text("1.5"), text("AAE=")]);
    }

    #[test]
    fn damage_is_told_and_repetition_ends() {
        assert_eq!(parse(&WRITTEN[..20]), Err("truncated".to_owned()));
        assert_eq!(parse(&[MAGIC, &[0; 32]].concat()), Err("an offset has no width that could be".to_owned()));
        // Every byte in turn another: an answer or an error, and nothing else.
        for at in 0..WRITTEN.len() {
            for other in [0, 1, 0x5f, 0xa2, 0xd1, 0xff] {
                let mut changed = WRITTEN.to_vec();
                changed[at] = other;
                let _ = parse(&changed);
            }
        }
        // Thirty lists, of which each has the next one sixteen times: 2^120 values.
        let lists = 30_u8;
        let mut bytes = MAGIC.to_vec();
        let mut offsets = Vec::new();
        for number in 0..=lists {
            offsets.push(u16::try_from(bytes.len()).unwrap());
            bytes.extend(if number == lists {
                vec![0x09]
            } else {
                [&[0xaf, 0x10, 16][..], &[number + 1; 16]].concat()
            });
        }
        let table = u64::try_from(bytes.len()).unwrap();
        bytes.extend(offsets.iter().flat_map(|offset| offset.to_be_bytes()));
        bytes.extend(
            [&[0, 0, 0, 0, 0, 0, 2, 1][..], &(u64::from(lists) + 1).to_be_bytes(), &[0; 8], &table.to_be_bytes()]
                .concat(),
        );
        assert_eq!(parse(&bytes), Err("nested too deeply, or repeated too often".to_owned()));
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = parse(&[MAGIC, &content].concat());
        }
    }
}
