//! A small seeded generator: SplitMix64 (Steele, Lea and Flood 2014). Same seed, same sequence, on any machine.
//!
//! ```
//! use evanu_core::random::Random;
//!
//! let (mut first, mut second) = (Random::new(7), Random::new(7));
//! assert!((0..100).all(|_| first.bits() == second.bits()));
//! assert!((0..100).all(|_| (2.0..3.0).contains(&first.within(2.0, 3.0)) && first.below(6) < 6));
//! ```

/// State of the generator.
#[derive(Debug, Clone)]
pub struct Random(u64);

impl Random {
    /// Starts a sequence.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next 64 bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// Evenly in 0..1.
    pub fn unit(&mut self) -> f64 {
        (self.bits() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Evenly in `low..high`.
    pub fn within(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * self.unit()
    }

    /// Evenly in `0..n`; `n` must not be zero.
    pub fn below(&mut self, n: usize) -> usize {
        (self.bits() % n as u64) as usize
    }

    /// Normally distributed, mean 0, deviation 1 (Box and Muller 1958).
    pub fn normal(&mut self) -> f64 {
        let u = self.unit().max(1e-300);
        (-2.0 * u.ln()).sqrt() * (2.0 * std::f64::consts::PI * self.unit()).cos()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sequence_is_fixed_and_even() {
        assert_eq!(Random::new(0).bits(), 0xE220_A839_7B1D_CDAF);
        let mut r = Random::new(7);
        let mean: f64 = (0..10_000).map(|_| r.unit()).sum::<f64>() / 10_000.0;
        assert!((mean - 0.5).abs() < 0.01);
        let var: f64 = (0..10_000).map(|_| r.normal().powi(2)).sum::<f64>() / 10_000.0;
        assert!((var - 1.0).abs() < 0.05);
    }
}
