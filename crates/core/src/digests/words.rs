//! The arithmetic that digests need, on a word of each lane at once: in whatever instructions every machine of this sort
//! has, or in those that this very machine has more of.

use wide::u32x8;

/// The arithmetic.
pub trait Words: Copy {
    /// A word of each lane.
    type Word: Copy;

    /// From the form in which words are kept.
    fn of(self, words: u32x8) -> Self::Word;
    /// Back to it.
    fn back(self, words: Self::Word) -> u32x8;
    /// The sum, without what is carried out of it.
    fn add(self, a: Self::Word, b: Self::Word) -> Self::Word;
    /// The bits that both have.
    fn and(self, a: Self::Word, b: Self::Word) -> Self::Word;
    /// The bits that either has.
    fn or(self, a: Self::Word, b: Self::Word) -> Self::Word;
    /// The bits that only one of them has.
    fn xor(self, a: Self::Word, b: Self::Word) -> Self::Word;
    /// Shifted to the left.
    fn left<const BY: i32>(self, a: Self::Word) -> Self::Word;
    /// Shifted to the right.
    fn right<const BY: i32>(self, a: Self::Word) -> Self::Word;

    /// Turned to the left, which is to the right by the rest: the two come to 32.
    #[inline(always)]
    fn turn<const LEFT: i32, const RIGHT: i32>(self, a: Self::Word) -> Self::Word {
        self.or(self.left::<LEFT>(a), self.right::<RIGHT>(a))
    }
}

/// Something to be done with words, whatever the instructions.
pub trait Work {
    /// Does it. To be inlined wherever it is called: only there are the better instructions at hand.
    fn run<W: Words>(self, words: W);
}

/// Does the work with the best instructions that there are.
#[inline(always)]
pub fn dispatch(work: impl Work) {
    // The newer instructions have rotations and three operands at once; the compiler makes them of the same steps.
    #[cfg(target_arch = "x86_64")]
    if let Some(avx) = pulp::x86::V4::try_new() {
        return avx.vectorize(wider::With(*avx, work));
    }
    #[cfg(target_arch = "x86_64")]
    if let Some(avx) = pulp::x86::V3::try_new() {
        return avx.vectorize(wider::With(avx, work));
    }
    work.run(Portable);
}

/// What every machine has.
#[derive(Debug, Clone, Copy)]
struct Portable;

impl Words for Portable {
    type Word = u32x8;

    #[inline(always)]
    fn of(self, words: u32x8) -> u32x8 {
        words
    }
    #[inline(always)]
    fn back(self, words: u32x8) -> u32x8 {
        words
    }
    #[inline(always)]
    fn add(self, a: u32x8, b: u32x8) -> u32x8 {
        a + b
    }
    #[inline(always)]
    fn and(self, a: u32x8, b: u32x8) -> u32x8 {
        a & b
    }
    #[inline(always)]
    fn or(self, a: u32x8, b: u32x8) -> u32x8 {
        a | b
    }
    #[inline(always)]
    fn xor(self, a: u32x8, b: u32x8) -> u32x8 {
        a ^ b
    }
    #[inline(always)]
    fn left<const BY: i32>(self, a: u32x8) -> u32x8 {
        a << BY
    }
    #[inline(always)]
    fn right<const BY: i32>(self, a: u32x8) -> u32x8 {
        a >> BY
    }
}

/// AVX2: all eight lanes in one instruction.
#[cfg(target_arch = "x86_64")]
mod wider {
    use std::arch::x86_64::__m256i;

    use pulp::x86::V3;
    use wide::u32x8;

    use super::{Words, Work};

    #[derive(Clone, Copy)]
    struct Wider(V3);

    /// Work, and the proof that the instructions are there.
    pub struct With<W>(pub V3, pub W);

    impl<W: Work> pulp::NullaryFnOnce for With<W> {
        type Output = ();

        #[inline(always)]
        fn call(self) {
            self.1.run(Wider(self.0));
        }
    }

    impl Words for Wider {
        type Word = __m256i;

        #[inline(always)]
        fn of(self, words: u32x8) -> __m256i {
            bytemuck::cast(words)
        }
        #[inline(always)]
        fn back(self, words: __m256i) -> u32x8 {
            bytemuck::cast(words)
        }
        #[inline(always)]
        fn add(self, a: __m256i, b: __m256i) -> __m256i {
            self.0.avx2._mm256_add_epi32(a, b)
        }
        #[inline(always)]
        fn and(self, a: __m256i, b: __m256i) -> __m256i {
            self.0.avx2._mm256_and_si256(a, b)
        }
        #[inline(always)]
        fn or(self, a: __m256i, b: __m256i) -> __m256i {
            self.0.avx2._mm256_or_si256(a, b)
        }
        #[inline(always)]
        fn xor(self, a: __m256i, b: __m256i) -> __m256i {
            self.0.avx2._mm256_xor_si256(a, b)
        }
        #[inline(always)]
        fn left<const BY: i32>(self, a: __m256i) -> __m256i {
            self.0.avx2._mm256_slli_epi32::<BY>(a)
        }
        #[inline(always)]
        fn right<const BY: i32>(self, a: __m256i) -> __m256i {
            self.0.avx2._mm256_srli_epi32::<BY>(a)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All operations, one after another.
    struct Mixed<'m>(&'m mut u32x8, u32x8);

    impl Work for Mixed<'_> {
        fn run<W: Words>(self, words: W) {
            let (a, b) = (words.of(*self.0), words.of(self.1));
            let c = words.xor(words.turn::<5, 27>(words.add(a, b)), words.right::<3>(a));
            *self.0 = words.back(words.or(words.and(c, b), words.left::<7>(words.xor(a, c))));
        }
    }

    #[test]
    fn whatever_the_instructions_the_result_is_the_same() {
        let (a, b) = ([0, 1, u32::MAX, 7, 0x8000_0000, 12_345, 99, 3], [9, u32::MAX, 1, 0, 0x8000_0000, 5, 4, 2]);
        let mut best = u32x8::new(a);
        dispatch(Mixed(&mut best, u32x8::new(b)));
        let mut portable = u32x8::new(a);
        Mixed(&mut portable, u32x8::new(b)).run(Portable);
        assert_eq!(best, portable);
        #[cfg(target_arch = "x86_64")]
        if let Some(avx) = pulp::x86::V3::try_new() {
            let mut wide = u32x8::new(a);
            avx.vectorize(wider::With(avx, Mixed(&mut wide, u32x8::new(b))));
            assert_eq!(wide, portable);
        }
    }
}
