//! Stretches of data that have their coefficients in common.
//!
//! The unknowns are the coefficients, then for each stretch the states at its start and the level of its output.

use super::predictor::{Deviations, Shape};
use super::starts;
use crate::identification::data::{DataSet, apart, between};
use crate::identification::loss::ScaledLoss;
use crate::numerics::{NormalEquations, minimise};

/// Relative change of the sum of squares at which the search ends.
const TOLERANCE: f64 = 1e-10;

pub(super) struct Together {
    shape: Shape,
    parts: Vec<Deviations>,
}

impl Together {
    /// Each stretch about its own means.
    pub(super) fn new(stretches: &[DataSet], shape: Shape) -> Self {
        Self { shape, parts: stretches.iter().map(|data| Deviations::new(data, &data.means())).collect() }
    }

    /// Number of unknowns that each stretch has of its own.
    fn own(&self) -> usize {
        self.shape.count() - self.shape.coefficients()
    }

    /// Number of unknowns.
    pub(super) fn count(&self) -> usize {
        self.shape.coefficients() + self.parts.len() * self.own()
    }

    /// Samples whose prediction error counts.
    pub(super) fn usable(&self) -> usize {
        self.parts.iter().map(|part| part.usable(&self.shape)).sum()
    }

    /// Where the unknowns of one stretch stand among all.
    fn places(&self, stretch: usize) -> Vec<usize> {
        let first = self.shape.coefficients() + stretch * self.own();
        (0..self.shape.coefficients()).chain(first..first + self.own()).collect()
    }

    /// The unknowns of one stretch.
    pub(super) fn of_stretch(&self, stretch: usize, theta: &[f64]) -> Vec<f64> {
        self.places(stretch).into_iter().map(|place| theta[place]).collect()
    }

    fn sums(&self, theta: &[f64], loss: &ScaledLoss) -> NormalEquations {
        let mut sums = NormalEquations::new(self.count());
        for (k, part) in self.parts.iter().enumerate() {
            sums.add_at(&self.places(k), &part.sums(&self.shape, &self.of_stretch(k, theta), loss));
        }
        sums
    }

    /// The ARX coefficients by linear least squares.
    pub(super) fn arx(&self) -> Option<Vec<f64>> {
        // Rows are (∂ŷ/∂x, ŷ − y): what solves them at 0 is minus the coefficients.
        let (solution, _) = self.sums(&vec![0.0; self.count()], &ScaledLoss::SQUARES).linear_solution()?;
        Some(solution.into_iter().map(|value| -value).collect())
    }

    /// Where the search begins: what each stretch alone suggests, its own unknowns completed in the others.
    pub(super) fn starts(&self) -> Vec<Vec<f64>> {
        let mut all = Vec::new();
        for (k, part) in self.parts.iter().enumerate() {
            for found in starts::all(part, &self.shape) {
                let mut theta = found[..self.shape.coefficients()].to_vec();
                for (j, other) in self.parts.iter().enumerate() {
                    let mut own = found.clone();
                    if j != k {
                        own[self.shape.coefficients()..].fill(0.0);
                        other.fit_transients(&self.shape, &mut own);
                    }
                    theta.extend(&own[self.shape.coefficients()..]);
                }
                all.push(theta);
            }
        }
        all
    }

    /// The minimum that is reached from a start, and its sum of squares.
    pub(super) fn refined(&self, start: &[f64], loss: &ScaledLoss) -> (Vec<f64>, f64) {
        let outcome = minimise(start, TOLERANCE, |theta| self.sums(theta, loss).compress());
        (outcome.parameters, outcome.sum_of_squares)
    }

    /// Prediction errors of all stretches, apart from each other; NaN where they cannot be told.
    pub(super) fn residuals(&self, theta: &[f64]) -> Vec<f64> {
        let own =
            self.parts.iter().enumerate().map(|(k, part)| part.residuals(&self.shape, &self.of_stretch(k, theta)));
        apart(own)
    }

    /// Visits every sample with the derivatives of the predicted output by the unknowns, predicted minus measured last
    /// in the row, in the order of [`residuals`](Self::residuals).
    pub(super) fn walk(&self, theta: &[f64], visit: &mut dyn FnMut(&mut [f64])) {
        let count = self.count();
        let mut all = vec![0.0; count + 1];
        for (k, part) in self.parts.iter().enumerate() {
            if k > 0 {
                between(count, &mut *visit);
            }
            let places = self.places(k);
            part.walk(&self.shape, &self.of_stretch(k, theta), &mut |row| {
                all.fill(0.0);
                places.iter().zip(row.iter()).for_each(|(place, value)| all[*place] = *value);
                all[count] = row[places.len()];
                visit(&mut all);
            });
        }
    }
}
