//! What cannot be measured, estimated sample by sample: Kalman filters for processes whose equations are not linear, and an estimate
//! over a moving horizon.
//!
//! All of them carry an estimate and its covariance forward from sample to sample and correct it by what was measured. They differ
//! in how the covariance passes through the equations: by their exact derivatives ([`Extended`]), by a few points that are carried
//! through them ([`Unscented`]), or by solving for the last samples together, within bounds ([`MovingHorizon`]).

mod extended;
mod horizon;
mod innovations;
mod steady;
mod unscented;

pub use extended::Extended;
pub use horizon::{HorizonOptions, MovingHorizon};
pub use innovations::{Doubt, InnovationTest, Innovations};
pub use steady::SteadyKalman;
pub use unscented::Unscented;

use crate::numerics::symmetrise;
use nalgebra::{DMatrix, DVector};

/// A system as an estimator sees it: carried forward between samples, shown by sensors at samples.
///
/// States are whatever is estimated: states of a process, lags of sensors, numbers that drift.
pub trait Observed {
    /// What is estimated.
    fn states(&self) -> usize;

    /// Sensors.
    fn outputs(&self) -> usize;

    /// Lowest and highest value of a state.
    fn bounds(&self, state: usize) -> (f64, f64);

    /// Carries states from sample `k` to the next; the derivatives of what becomes of them by what they were into `slopes`, where they
    /// are asked for.
    fn advance(&mut self, k: usize, x: &mut [f64], slopes: Option<&mut DMatrix<f64>>) -> Result<(), Lost>;

    /// What the sensors show at sample `k` without noise, and its derivatives by the states.
    fn show(&mut self, k: usize, x: &[f64], shown: &mut [f64], slopes: Option<&mut DMatrix<f64>>);

    /// What they showed; NaN where a sample is missing.
    fn measured(&self, k: usize, output: usize) -> f64;

    /// Variance of the noise of a sensor.
    fn noise(&self, output: usize) -> f64;

    /// Variance that a state gains between sample `k` and the next by what nobody knows.
    fn unrest(&self, k: usize, state: usize) -> f64;
}

/// The system could not be carried on: it ran away, or is too stiff at these values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lost;

/// An estimate with its covariance.
#[derive(Debug, Clone, PartialEq)]
pub struct Gaussian {
    /// The estimate.
    pub mean: DVector<f64>,
    /// Its covariance.
    pub covariance: DMatrix<f64>,
}

impl Gaussian {
    /// Of independent numbers with these values and standard deviations.
    #[must_use]
    pub fn independent(values: &[f64], deviations: &[f64]) -> Self {
        let variances = DVector::from_iterator(deviations.len(), deviations.iter().map(|d| d * d));
        Self { mean: DVector::from_column_slice(values), covariance: DMatrix::from_diagonal(&variances) }
    }

    /// Standard deviation of a number.
    #[must_use]
    pub fn deviation(&self, state: usize) -> f64 {
        self.covariance[(state, state)].max(0.0).sqrt()
    }

    /// Keeps the estimate within the bounds of its system (common practice).
    fn keep_within(&mut self, system: &dyn Observed) {
        for (state, value) in self.mean.iter_mut().enumerate() {
            let (low, high) = system.bounds(state);
            *value = value.clamp(low, high);
        }
    }

    /// Corrected by one measurement, `new` beyond what was expected, that feels the states by `slopes`; returns the variance of what was
    /// expected. In the form of Joseph, which keeps the covariance positive (Bucy & Joseph, Filtering for Stochastic Processes, 1968).
    pub(crate) fn correct(&mut self, new: f64, slopes: &DVector<f64>, noise: f64) -> f64 {
        let felt = &self.covariance * slopes;
        let variance = slopes.dot(&felt) + noise;
        let gain = &felt / variance;
        self.mean += &gain * new;
        // (I − g h') P (I − g h')' + g r g', with P h = felt.
        self.covariance += &gain * gain.transpose() * variance - &gain * felt.transpose() - &felt * gain.transpose();
        symmetrise(&mut self.covariance);
        variance
    }
}

/// What nobody knows, added between sample `k` and the next.
fn add_unrest(system: &dyn Observed, k: usize, covariance: &mut DMatrix<f64>) {
    for state in 0..system.states() {
        covariance[(state, state)] += system.unrest(k, state);
    }
}

/// An estimator that is led along the samples.
pub trait Estimator {
    /// The estimate as it stands.
    fn now(&self) -> &Gaussian;

    /// Corrects the estimate by what was measured at sample `k`; what was new in each output goes into `innovations`.
    fn correct(&mut self, system: &mut dyn Observed, k: usize, innovations: &mut Innovations) -> Result<(), Lost>;

    /// Carries it from sample `k` to the next.
    fn predict(&mut self, system: &mut dyn Observed, k: usize) -> Result<(), Lost>;

    /// Samples at which it could not do what it should, and went on as an extended Kalman filter.
    fn unsolved(&self) -> usize {
        0
    }
}

#[cfg(test)]
mod tests;
