//! Sensors between the process and the controller.

use crate::{Result, check};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

/// How a sensor shows its signal.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SensorSpec {
    /// Standard deviation of white Gaussian noise, in the signal's unit; 0 or more.
    #[serde(default)]
    pub noise: f64,
}

impl SensorSpec {
    /// Refuses a sensor that cannot be.
    pub fn validate(&self, field: &str) -> Result<()> {
        check::not_negative(&format!("{field}.noise"), self.noise, "").map(drop)
    }
}

/// A sensor at work.
#[derive(Debug, Clone)]
pub struct Sensor {
    noise: f64,
    generator: ChaCha8Rng,
}

impl Sensor {
    /// The sensor of signal `tag` in a run with `seed`.
    ///
    /// The noise depends on the tag and the seed alone, so that adding another source does not change it.
    #[must_use]
    pub fn new(spec: &SensorSpec, tag: &str, seed: u64) -> Self {
        let mut hasher = Sha256::new();
        hasher.update(seed.to_le_bytes());
        hasher.update(tag.as_bytes());
        Self { noise: spec.noise, generator: ChaCha8Rng::from_seed(hasher.finalize().into()) }
    }

    /// The measurement of `value`, once a scan.
    pub fn measure(&mut self, value: f64) -> f64 {
        if self.noise == 0.0 {
            return value;
        }
        let deviate: f64 = StandardNormal.sample(&mut self.generator);
        value + self.noise * deviate
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_has_the_given_deviation_and_belongs_to_its_signal() {
        let spec = SensorSpec { noise: 0.5 };
        let draw = |tag: &str, seed| -> Vec<f64> {
            let mut sensor = Sensor::new(&spec, tag, seed);
            (0..20_000).map(|_| sensor.measure(3.0)).collect()
        };
        let values = draw("A", 1);
        let mean = values.iter().sum::<f64>() / 2e4;
        let variance = values.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / 2e4;
        // Five standard errors of mean and standard deviation.
        assert!((mean - 3.0).abs() < 5.0 * 0.5 / 2e4f64.sqrt());
        assert!((variance.sqrt() - 0.5).abs() < 5.0 * 0.5 / 4e4f64.sqrt());
        assert_eq!(values, draw("A", 1));
        assert_ne!(values[..5], draw("A", 2)[..5]);
        assert_ne!(values[..5], draw("B", 1)[..5]);
    }
}
