//! Several digests at once.
//!
//! Each step of a digest waits for the one before it, so a processor that could do eight at a time is idle most of the
//! while. Here eight inputs go through each step together, as the lanes of a vector.

use wide::{f32x4, u32x8};

/// Inputs that are digested together.
pub const LANES: usize = 8;
/// Bytes of a block.
pub const BLOCK: usize = 64;

/// A digest whose blocks are 64 bytes, in several lanes.
pub trait Lanes {
    /// Whether words, and the length at the end, begin with their highest byte.
    const FROM_THE_HIGH_END: bool;

    /// All lanes at their start.
    fn new() -> Self;

    /// Sets a lane to its start.
    fn restart(&mut self, lane: usize);

    /// The digest of a lane whose last block was taken.
    fn digest(&self, lane: usize) -> Vec<u8>;

    /// Takes so many blocks of each lane.
    fn take(&mut self, blocks: [&[u8]; LANES], count: usize);

    /// What ends an input of this many bytes: a one bit, zeros up to a whole block, and the length in bits.
    fn ending(length: u64) -> Vec<u8> {
        let rest = usize::try_from(length % BLOCK as u64).unwrap_or_default();
        let zeros = (BLOCK * 2 - rest - 9) % BLOCK;
        let mut end = vec![0; 1 + zeros];
        end[0] = 0x80;
        let bits = length.wrapping_mul(8);
        end.extend(if Self::FROM_THE_HIGH_END { bits.to_be_bytes() } else { bits.to_le_bytes() });
        end
    }

    /// The sixteen words of a block of each lane; a lane without a whole block goes through the motions.
    #[inline(always)]
    fn words(blocks: [&[u8]; LANES]) -> [u32x8; 16] {
        let blocks: [&[u8; BLOCK]; LANES] = blocks.map(|block| block.first_chunk().unwrap_or(&IDLE));
        let mut words = [u32x8::splat(0); 16];
        for (quarter, words) in words.chunks_exact_mut(4).enumerate() {
            let start = quarter * 16;
            // Numbers of the other sort only because these can be turned from rows to columns; nothing is reckoned.
            let row = |lane: usize| bytemuck::pod_read_unaligned::<f32x4>(&blocks[lane][start..start + 16]);
            let low = f32x4::transpose(std::array::from_fn(row));
            let high = f32x4::transpose(std::array::from_fn(|lane| row(lane + 4)));
            for ((word, low), high) in words.iter_mut().zip(low).zip(high) {
                *word = bytemuck::cast([low, high]);
                if Self::FROM_THE_HIGH_END != cfg!(target_endian = "big") {
                    *word = swapped(*word);
                }
            }
        }
        words
    }
}

/// What a lane takes that has no file.
static IDLE: [u8; BLOCK] = [0; BLOCK];

/// The bytes of each word the other way round.
#[inline(always)]
fn swapped(word: u32x8) -> u32x8 {
    let inner = u32x8::splat(0xff00);
    (word << 24) | ((word & inner) << 8) | ((word >> 8) & inner) | (word >> 24)
}
