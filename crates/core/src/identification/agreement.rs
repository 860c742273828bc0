//! How modelled outputs agree with measured ones.

use super::data::Series;
use super::model::Performance;
use super::residuals::lag_one_correlation;
use crate::numerics::NormalEquations;

/// What inputs and rest make of the outputs, and the shapes that states at the start can add: for each of these a
/// series an output.
pub(super) struct Response {
    pub(super) outputs: Vec<Vec<f64>>,
    pub(super) bases: Vec<Vec<Vec<f64>>>,
}

impl Response {
    /// The outputs with the states at the start that fit best, and the sum of squares that is left.
    pub(super) fn started(mut self, measured: &[Series]) -> (Vec<Vec<f64>>, f64) {
        let count = self.bases.len();
        let mut sums = NormalEquations::new(count);
        let mut row = vec![0.0; count + 1];
        for (j, (series, output)) in measured.iter().zip(&self.outputs).enumerate() {
            for k in 0..output.len() {
                row.iter_mut().zip(&self.bases).for_each(|(entry, basis)| *entry = basis[j][k]);
                row[count] = series.values[k] - output[k];
                if row.iter().all(|value| value.is_finite()) {
                    sums.add(&row);
                }
            }
        }
        let (coefficients, squares) =
            sums.linear_solution().unwrap_or_else(|| (vec![0.0; count], sums.sum_of_squares()));
        for (coefficient, basis) in coefficients.iter().zip(&self.bases) {
            for (output, shape) in self.outputs.iter_mut().zip(basis) {
                output.iter_mut().zip(shape).for_each(|(value, by)| *value += coefficient * by);
            }
        }
        (self.outputs, squares)
    }
}

impl Performance {
    /// From what the simulated output and the one-step prediction leave; NaN is missing.
    pub(super) fn of(output: &Series, simulated: &[f64], one_step: &[f64]) -> Self {
        let fit = |errors: &[f64]| {
            // Only samples that have an error count, in the swing, too.
            let pairs: Vec<(f64, f64)> = errors
                .iter()
                .zip(&output.values)
                .map(|(e, y)| (*e, *y))
                .filter(|(e, y)| e.is_finite() && y.is_finite())
                .collect();
            let mean = pairs.iter().map(|(_, y)| y).sum::<f64>() / pairs.len().max(1) as f64;
            let swing: f64 = pairs.iter().map(|(_, y)| (y - mean).powi(2)).sum();
            let left: f64 = pairs.iter().map(|(e, _)| e * e).sum();
            100.0 * (1.0 - (left / swing.max(f64::MIN_POSITIVE)).sqrt())
        };
        let finite: Vec<f64> = simulated.iter().copied().filter(|e| e.is_finite()).collect();
        let power = finite.iter().map(|e| e * e).sum::<f64>() / finite.len().max(1) as f64;
        Self {
            fit_simulated: if simulated.is_empty() { 0.0 } else { fit(simulated) },
            fit_one_step: if one_step.is_empty() { 0.0 } else { fit(one_step) },
            residual_deviation: power.sqrt(),
            residual_correlation: lag_one_correlation(one_step),
            samples: one_step.iter().filter(|e| e.is_finite()).count(),
        }
    }
}

/// Measured minus modelled.
pub(super) fn differences(series: &Series, modelled: &[f64]) -> Vec<f64> {
    series.values.iter().zip(modelled).map(|(y, model)| y - model).collect()
}
