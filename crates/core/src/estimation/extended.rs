//! The extended Kalman filter: the covariance goes through the derivatives of the equations at the estimate.

use super::{Estimator, Gaussian, Innovations, Lost, Observed, add_unrest, symmetrise};
use nalgebra::{DMatrix, DVector};

/// The extended Kalman filter (Jazwinski, Stochastic Processes and Filtering Theory, 1970, theorem 8.1). Outputs, whose noises are
/// independent, correct the estimate one after the other.
#[derive(Debug, Clone)]
pub struct Extended {
    now: Gaussian,
}

impl Extended {
    /// From an estimate at the first sample, before it is corrected by it.
    #[must_use]
    pub fn new(start: Gaussian) -> Self {
        Self { now: start }
    }
}

/// Carries an estimate from sample `k` to the next; returns the derivatives on the way.
pub(super) fn carry(system: &mut dyn Observed, k: usize, now: &mut Gaussian) -> Result<DMatrix<f64>, Lost> {
    let n = system.states();
    let mut slopes = DMatrix::zeros(n, n);
    system.advance(k, now.mean.as_mut_slice(), Some(&mut slopes))?;
    now.covariance = &slopes * &now.covariance * slopes.transpose();
    add_unrest(system, k, &mut now.covariance);
    symmetrise(&mut now.covariance);
    now.keep_within(system);
    Ok(slopes)
}

impl Estimator for Extended {
    fn now(&self) -> &Gaussian {
        &self.now
    }

    fn correct(&mut self, system: &mut dyn Observed, k: usize, innovations: &mut Innovations) -> Result<(), Lost> {
        let (n, outputs) = (system.states(), system.outputs());
        let (mut shown, mut slopes) = (vec![0.0; outputs], DMatrix::zeros(outputs, n));
        let expected = self.now.mean.clone();
        system.show(k, expected.as_slice(), &mut shown, Some(&mut slopes));
        for (output, shown) in shown.iter().enumerate() {
            let new = system.measured(k, output) - shown;
            if !new.is_finite() {
                innovations.missing(output);
                continue;
            }
            let slopes: DVector<f64> = slopes.row(output).transpose();
            // Earlier outputs have moved the estimate since.
            let moved = slopes.dot(&(&self.now.mean - &expected));
            let variance = self.now.correct(new - moved, &slopes, system.noise(output));
            innovations.add(output, new, new - moved, variance);
        }
        self.now.keep_within(system);
        Ok(())
    }

    fn predict(&mut self, system: &mut dyn Observed, k: usize) -> Result<(), Lost> {
        carry(system, k, &mut self.now).map(drop)
    }
}
