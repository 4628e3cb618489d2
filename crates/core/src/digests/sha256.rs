//! SHA-256 (FIPS 180-4) of several inputs at once.

use wide::u32x8;

use super::lanes::{BLOCK, LANES, Lanes};
use super::words::{Words, Work, dispatch};

/// What a digest starts with: the fractions of the square roots of the first primes.
const START: [u32; 8] =
    [0x6a09_e667, 0xbb67_ae85, 0x3c6e_f372, 0xa54f_f53a, 0x510e_527f, 0x9b05_688c, 0x1f83_d9ab, 0x5be0_cd19];

/// The fractions of the cube roots of the first primes.
const ROOTS: [u32; 64] = [
    0x428a_2f98,
    0x7137_4491,
    0xb5c0_fbcf,
    0xe9b5_dba5,
    0x3956_c25b,
    0x59f1_11f1,
    0x923f_82a4,
    0xab1c_5ed5,
    0xd807_aa98,
    0x1283_5b01,
    0x2431_85be,
    0x550c_7dc3,
    0x72be_5d74,
    0x80de_b1fe,
    0x9bdc_06a7,
    0xc19b_f174,
    0xe49b_69c1,
    0xefbe_4786,
    0x0fc1_9dc6,
    0x240c_a1cc,
    0x2de9_2c6f,
    0x4a74_84aa,
    0x5cb0_a9dc,
    0x76f9_88da,
    0x983e_5152,
    0xa831_c66d,
    0xb003_27c8,
    0xbf59_7fc7,
    0xc6e0_0bf3,
    0xd5a7_9147,
    0x06ca_6351,
    0x1429_2967,
    0x27b7_0a85,
    0x2e1b_2138,
    0x4d2c_6dfc,
    0x5338_0d13,
    0x650a_7354,
    0x766a_0abb,
    0x81c2_c92e,
    0x9272_2c85,
    0xa2bf_e8a1,
    0xa81a_664b,
    0xc24b_8b70,
    0xc76c_51a3,
    0xd192_e819,
    0xd699_0624,
    0xf40e_3585,
    0x106a_a070,
    0x19a4_c116,
    0x1e37_6c08,
    0x2748_774c,
    0x34b0_bcb5,
    0x391c_0cb3,
    0x4ed8_aa4a,
    0x5b9c_ca4f,
    0x682e_6ff3,
    0x748f_82ee,
    0x78a5_636f,
    0x84c8_7814,
    0x8cc7_0208,
    0x90be_fffa,
    0xa450_6ceb,
    0xbef9_a3f7,
    0xc671_78f2,
];

/// The state of every lane.
#[derive(Debug, Clone)]
pub struct Sha256([u32x8; 8]);

impl Lanes for Sha256 {
    const FROM_THE_HIGH_END: bool = true;

    fn new() -> Self {
        Sha256(START.map(u32x8::splat))
    }

    fn restart(&mut self, lane: usize) {
        for (vector, word) in self.0.iter_mut().zip(START) {
            vector.as_mut_array()[lane] = word;
        }
    }

    fn digest(&self, lane: usize) -> Vec<u8> {
        self.0.iter().flat_map(|vector| vector.to_array()[lane].to_be_bytes()).collect()
    }

    fn take(&mut self, blocks: [&[u8]; LANES], count: usize) {
        dispatch(Taken { state: self, blocks, count });
    }
}

/// Blocks on their way into a state.
struct Taken<'t> {
    state: &'t mut Sha256,
    blocks: [&'t [u8]; LANES],
    count: usize,
}

impl Work for Taken<'_> {
    #[inline(always)]
    fn run<W: Words>(self, w: W) {
        let mut state = self.state.0.map(|vector| w.of(vector));
        for block in 0..self.count {
            let words = Sha256::words(self.blocks.map(|blocks| blocks.get(block * BLOCK..).unwrap_or_default()));
            let mut words = words.map(|word| w.of(word));
            let [mut a, mut b, mut c, mut d, mut e, mut f, mut g, mut h] = state;
            for (step, root) in ROOTS.into_iter().enumerate() {
                let at = step % 16;
                // From the seventeenth step on, a word is made of four before it and takes the place of the oldest.
                if step >= 16 {
                    let (x, y) = (words[(step + 1) % 16], words[(step + 14) % 16]);
                    let early = w.xor(w.xor(w.turn::<25, 7>(x), w.turn::<14, 18>(x)), w.right::<3>(x));
                    let late = w.xor(w.xor(w.turn::<15, 17>(y), w.turn::<13, 19>(y)), w.right::<10>(y));
                    words[at] = w.add(w.add(words[at], early), w.add(words[(step + 9) % 16], late));
                }
                let mixed = w.xor(w.xor(w.turn::<26, 6>(e), w.turn::<21, 11>(e)), w.turn::<7, 25>(e));
                let chosen = w.xor(g, w.and(e, w.xor(f, g)));
                let first = w.add(w.add(w.add(h, mixed), w.add(chosen, words[at])), w.of(u32x8::splat(root)));
                let mixed = w.xor(w.xor(w.turn::<30, 2>(a), w.turn::<19, 13>(a)), w.turn::<10, 22>(a));
                let second = w.add(mixed, w.or(w.and(a, w.or(b, c)), w.and(b, c)));
                (h, g, f, e) = (g, f, e, w.add(d, first));
                (d, c, b, a) = (c, b, a, w.add(first, second));
            }
            let new = [a, b, c, d, e, f, g, h];
            state = std::array::from_fn(|at| w.add(state[at], new[at]));
        }
        self.state.0 = state.map(|vector| w.back(vector));
    }
}
