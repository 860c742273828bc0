//! The Kalman filter of a linear system once it has settled.

use crate::numerics::{riccati, symmetrise};
use nalgebra::DMatrix;

/// The filter of `x[k+1] = Φ x[k] + …`, `y[k] = C x[k]` with the gain that it settles at: `x ← x + M (y − C x)` at each sample
/// (Anderson & Moore, Optimal Filtering, 1979, section 4.4).
#[derive(Debug, Clone, PartialEq)]
pub struct SteadyKalman {
    /// M: states × outputs.
    pub gain: DMatrix<f64>,
    /// Covariance of the states as they are expected, before they are corrected.
    pub expected: DMatrix<f64>,
}

impl SteadyKalman {
    /// From Φ, C, the covariance of what states gain between samples by what nobody knows, and that of the noise of the sensors. None
    /// where there is none: something that does not settle cannot be told from the measurements.
    #[must_use]
    pub fn new(phi: &DMatrix<f64>, c: &DMatrix<f64>, unrest: &DMatrix<f64>, noise: &DMatrix<f64>) -> Option<Self> {
        let expected = riccati(&phi.transpose(), &c.transpose(), unrest, noise)?;
        let felt = &expected * c.transpose();
        let mut innovation = c * &felt + noise;
        symmetrise(&mut innovation);
        let gain = innovation.cholesky()?.solve(&felt.transpose()).transpose();
        Some(Self { gain, expected })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A random walk seen with noise: with `ρ = q/r`, `M = (√(ρ² + 4ρ) − ρ)/2` (exact mathematics).
    #[test]
    fn a_random_walk_is_followed_as_it_must_be() {
        let one = |value: f64| DMatrix::from_element(1, 1, value);
        for ratio in [1e-6f64, 0.01, 0.5, 40.0] {
            let filter = SteadyKalman::new(&one(1.0), &one(1.0), &one(ratio), &one(1.0)).unwrap();
            let gain = 0.5 * ((ratio * ratio + 4.0 * ratio).sqrt() - ratio);
            assert!((filter.gain[0] - gain).abs() < 1e-9 * gain, "{ratio}: {} {gain}", filter.gain[0]);
        }
    }
}
