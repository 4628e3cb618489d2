//! MD5 (RFC 1321) of several inputs at once.
//!
use wide::u32x8;

use super::lanes::{BLOCK, LANES, Lanes};
use super::words::{Words, Work, dispatch};

/// What a digest starts with.
const START: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];

/// How far each step rotates, by round.
const TURNS: [[i32; 4]; 4] = [[7, 12, 17, 22], [5, 9, 14, 20], [4, 11, 16, 23], [6, 10, 15, 21]];

/// The whole part of 2³² · |sin(step)|, as the RFC gives it.
const SINES: [u32; 64] = [
    0xd76a_a478,
    0xe8c7_b756,
    0x2420_70db,
    0xc1bd_ceee,
    0xf57c_0faf,
    0x4787_c62a,
    0xa830_4613,
    0xfd46_9501,
    0x6980_98d8,
    0x8b44_f7af,
    0xffff_5bb1,
    0x895c_d7be,
    0x6b90_1122,
    0xfd98_7193,
    0xa679_438e,
    0x49b4_0821,
    0xf61e_2562,
    0xc040_b340,
    0x265e_5a51,
    0xe9b6_c7aa,
    0xd62f_105d,
    0x0244_1453,
    0xd8a1_e681,
    0xe7d3_fbc8,
    0x21e1_cde6,
    0xc337_07d6,
    0xf4d5_0d87,
    0x455a_14ed,
    0xa9e3_e905,
    0xfcef_a3f8,
    0x676f_02d9,
    0x8d2a_4c8a,
    0xfffa_3942,
    0x8771_f681,
    0x6d9d_6122,
    0xfde5_380c,
    0xa4be_ea44,
    0x4bde_cfa9,
    0xf6bb_4b60,
    0xbebf_bc70,
    0x289b_7ec6,
    0xeaa1_27fa,
    0xd4ef_3085,
    0x0488_1d05,
    0xd9d4_d039,
    0xe6db_99e5,
    0x1fa2_7cf8,
    0xc4ac_5665,
    0xf429_2244,
    0x432a_ff97,
    0xab94_23a7,
    0xfc93_a039,
    0x655b_59c3,
    0x8f0c_cc92,
    0xffef_f47d,
    0x8584_5dd1,
    0x6fa8_7e4f,
    0xfe2c_e6e0,
    0xa301_4314,
    0x4e08_11a1,
    0xf753_7e82,
    0xbd3a_f235,
    0x2ad7_d2bb,
    0xeb86_d391,
];

/// The same for every lane.
static SINES_OF_ALL: [u32x8; 64] = {
    let mut all = [u32x8::new([0; LANES]); 64];
    let mut step = 0;
    while step < 64 {
        all[step] = u32x8::new([SINES[step]; LANES]);
        step += 1;
    }
    all
};

/// The state of every lane.
#[derive(Debug, Clone)]
pub struct Md5([u32x8; 4]);

impl Lanes for Md5 {
    const FROM_THE_HIGH_END: bool = false;

    fn new() -> Self {
        Md5(START.map(u32x8::splat))
    }

    fn restart(&mut self, lane: usize) {
        for (vector, word) in self.0.iter_mut().zip(START) {
            vector.as_mut_array()[lane] = word;
        }
    }

    fn digest(&self, lane: usize) -> Vec<u8> {
        self.0.iter().flat_map(|vector| vector.to_array()[lane].to_le_bytes()).collect()
    }

    fn take(&mut self, blocks: [&[u8]; LANES], count: usize) {
        dispatch(Taken { state: self, blocks, count });
    }
}

/// Blocks on their way into a state.
struct Taken<'t> {
    state: &'t mut Md5,
    blocks: [&'t [u8]; LANES],
    count: usize,
}

impl Work for Taken<'_> {
    #[inline(always)]
    fn run<W: Words>(self, w: W) {
        let sines: &[u32x8; 64] = &SINES_OF_ALL;
        let ones = w.of(u32x8::splat(u32::MAX));
        let mut state = self.state.0.map(|vector| w.of(vector));
        for block in 0..self.count {
            let words = Md5::words(self.blocks.map(|blocks| blocks.get(block * BLOCK..).unwrap_or_default()));
            let [mut a, mut b, mut c, mut d] = state;
            // How far a step turns is part of the instruction, and so must be known when this is compiled.
            macro_rules! step {
                ($round:literal, $mix:expr, $word:expr, $at:ident, $number:literal) => {
                    let step = $at + $number;
                    let sum = w.add(
                        w.add(a, $mix(b, c, d)),
                        w.add(w.of(sines[$round * 16 + step]), w.of(words[$word(step) % 16])),
                    );
                    let turned = w.turn::<{ TURNS[$round][$number] }, { 32 - TURNS[$round][$number] }>(sum);
                    (a, d, c, b) = (d, c, b, w.add(b, turned));
                };
            }
            macro_rules! round {
                ($round:literal, $mix:expr, $word:expr) => {
                    for at in [0, 4, 8, 12] {
                        step!($round, $mix, $word, at, 0);
                        step!($round, $mix, $word, at, 1);
                        step!($round, $mix, $word, at, 2);
                        step!($round, $mix, $word, at, 3);
                    }
                };
            }
            round!(0, |x, y, z| w.xor(z, w.and(x, w.xor(y, z))), |step: usize| step);
            round!(1, |x, y, z| w.xor(y, w.and(z, w.xor(x, y))), |step: usize| 5 * step + 1);
            round!(2, |x, y, z| w.xor(x, w.xor(y, z)), |step: usize| 3 * step + 5);
            round!(3, |x, y, z| w.xor(y, w.or(x, w.xor(z, ones))), |step: usize| 7 * step);
            let new = [a, b, c, d];
            state = std::array::from_fn(|at| w.add(state[at], new[at]));
        }
        self.state.0 = state.map(|vector| w.back(vector));
    }
}
