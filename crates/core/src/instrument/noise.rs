//! Seeded noise, a stream of its own for every source.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use sha2::{Digest, Sha256};

/// A source of Gaussian noise that depends on its name and the seed alone, so that adding another changes nothing in it.
#[derive(Debug, Clone)]
pub struct Noise {
    generator: ChaCha8Rng,
}

impl Noise {
    /// The source of this name in a run with `seed`.
    #[must_use]
    pub fn new(name: &str, seed: u64) -> Self {
        let mut hasher = Sha256::new();
        hasher.update(seed.to_le_bytes());
        hasher.update(name.as_bytes());
        Self { generator: ChaCha8Rng::from_seed(hasher.finalize().into()) }
    }

    /// The next standard normal deviate.
    pub fn normal(&mut self) -> f64 {
        StandardNormal.sample(&mut self.generator)
    }

    /// The next number that is uniform from 0 to 1.
    pub fn uniform(&mut self) -> f64 {
        rand::RngExt::random(&mut self.generator)
    }
}
