//! Numbers by chance that are the same in every run.

/// `SplitMix64`.
pub struct Dice(pub u64);

impl Dice {
    /// The next number, evenly between 0 and 1.
    pub fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        f64::from(u32::try_from((mixed ^ (mixed >> 31)) >> 32).unwrap()) / f64::from(u32::MAX)
    }
}
