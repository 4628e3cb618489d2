//! Compressed streams, told apart by their first bytes and never by a name.

use std::io::{self, BufRead, Read};

/// The plain bytes of a stream in gzip, zstd, xz, bzip2 or LZ4's frames, or of one that is not compressed.
///
/// How much is read is for the caller to bound.
///
/// # Errors
/// When the stream's head is damaged.
pub fn open<'r>(mut bytes: impl BufRead + 'r) -> io::Result<Box<dyn Read + 'r>> {
    Ok(match bytes.fill_buf()? {
        [0x1f, 0x8b, ..] => Box::new(flate2::bufread::MultiGzDecoder::new(bytes)),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Box::new(zstd::Decoder::with_buffer(bytes)?),
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Box::new(liblzma::bufread::XzDecoder::new_multi_decoder(bytes)),
        [b'B', b'Z', b'h', ..] => Box::new(bzip2::bufread::MultiBzDecoder::new(bytes)),
        [0x04, 0x22, 0x4d, 0x18, ..] => Box::new(lz4_flex::frame::FrameDecoder::new(bytes)),
        _ => Box::new(bytes),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;

    #[test]
    fn every_form_is_told_by_its_content_and_a_cut_is_an_error() {
        let plain: Vec<u8> = (0..20_000_u32).flat_map(|number| (number * 7919).to_le_bytes()).collect();
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gzip.write_all(&plain).unwrap();
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
        xz.write_all(&plain).unwrap();
        let mut bzip = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
        bzip.write_all(&plain).unwrap();
        let mut lz4 = lz4_flex::frame::FrameEncoder::new(Vec::new());
        lz4.write_all(&plain).unwrap();
        let forms = [
            gzip.finish().unwrap(),
            xz.finish().unwrap(),
            bzip.finish().unwrap(),
            lz4.finish().unwrap(),
            zstd::encode_all(&plain[..], 1).unwrap(),
        ];
        for form in forms {
            let mut read = Vec::new();
            open(&form[..]).unwrap().read_to_end(&mut read).unwrap();
            assert!(read == plain);
            let cut = &form[..form.len() / 2];
            assert!(open(cut).and_then(|mut stream| stream.read_to_end(&mut Vec::new())).is_err());
        }
        let mut read = Vec::new();
        open(&b"plain"[..]).unwrap().read_to_end(&mut read).unwrap();
        assert_eq!(read, b"plain");
    }
}
