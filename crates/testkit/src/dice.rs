//! Chance that a seed repeats.

/// A small generator of numbers (xorshift), so that a seed says everything.
#[derive(Debug)]
pub struct Dice(u64);

impl Dice {
    /// A generator that begins anew with each seed.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    /// Returns a number below `sides`.
    pub fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33) as usize % sides
    }

    /// Tells whether something happens that happens once in so many times.
    pub fn once_in(&mut self, times: usize) -> bool {
        self.roll(times) == 0
    }
}
