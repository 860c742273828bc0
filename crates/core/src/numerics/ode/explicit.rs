//! The method of Dormand and Prince, order 5 with an error estimate of order 4.

use super::Rates;

const STAGES: usize = 7;
/// Order of the error estimate plus one.
pub(super) const ORDER: f64 = 5.0;

/// Steps in a row that look stiff before the equations are held to be.
const STIFF_STEPS: u32 = 15;
/// Steps in a row that do not, after which the count begins anew.
const CALM_STEPS: u32 = 6;
/// Where the stability region of the method ends on the negative real axis.
const STABILITY_LIMIT: f64 = 3.25;

/// Room for the seven stages, one after the other, and the signs of stiffness.
#[derive(Debug, Clone)]
pub(super) struct Explicit {
    stages: Vec<f64>,
    at: Vec<f64>,
    error: Vec<f64>,
    stiff: u32,
    calm: u32,
}

/// Coefficients: Dormand & Prince, J. Comp. Appl. Math. 6, 1980, table 2 (RK5(4)7M); as in Hairer, Nørsett & Wanner,
/// Solving Ordinary Differential Equations I, table 5.2 of chapter II.
pub(super) const NODES: [f64; 6] = [0.2, 0.3, 0.8, 8.0 / 9.0, 1.0, 1.0];
pub(super) const WEIGHTS: [[f64; 6]; 6] = [
    [0.2, 0.0, 0.0, 0.0, 0.0, 0.0],
    [3.0 / 40.0, 9.0 / 40.0, 0.0, 0.0, 0.0, 0.0],
    [44.0 / 45.0, -56.0 / 15.0, 32.0 / 9.0, 0.0, 0.0, 0.0],
    [19372.0 / 6561.0, -25360.0 / 2187.0, 64448.0 / 6561.0, -212.0 / 729.0, 0.0, 0.0],
    [9017.0 / 3168.0, -355.0 / 33.0, 46732.0 / 5247.0, 49.0 / 176.0, -5103.0 / 18656.0, 0.0],
    [35.0 / 384.0, 0.0, 500.0 / 1113.0, 125.0 / 192.0, -2187.0 / 6784.0, 11.0 / 84.0],
];
pub(super) const ERROR_WEIGHTS: [f64; 7] =
    [71.0 / 57600.0, 0.0, -71.0 / 16695.0, 71.0 / 1920.0, -17253.0 / 339200.0, 22.0 / 525.0, -1.0 / 40.0];

impl Explicit {
    pub(super) fn new(n: usize) -> Self {
        Self { stages: vec![0.0; STAGES * n], at: vec![0.0; n], error: vec![0.0; n], stiff: 0, calm: 0 }
    }

    /// Tries a step of `h` from `x` with these rates at its start: the new state into `after`; returns the error estimate.
    pub(super) fn attempt(
        &mut self,
        system: &impl Rates,
        t: f64,
        h: f64,
        x: &[f64],
        rates: &[f64],
        after: &mut [f64],
    ) -> Option<&[f64]> {
        let n = x.len();
        self.stages[..n].copy_from_slice(rates);
        for stage in 0..STAGES - 1 {
            let (done, rest) = self.stages.split_at_mut((stage + 1) * n);
            for (i, (at, x)) in self.at.iter_mut().zip(x).enumerate() {
                *at = x + h * weighted(done, n, i, &WEIGHTS[stage]);
            }
            if stage == 5 {
                after.copy_from_slice(&self.at);
            } else if stage == 4 {
                // The state of the stage before the last tells of stiffness; the error is not needed yet.
                self.error.copy_from_slice(&self.at);
            }
            system.rates(t + NODES[stage] * h, &self.at, &mut rest[..n]);
        }
        self.look_for_stiffness(h, after);
        for (i, error) in self.error.iter_mut().enumerate() {
            *error = h * weighted(&self.stages, n, i, &ERROR_WEIGHTS);
        }
        Some(&self.error)
    }

    pub(super) fn last_rates(&self) -> &[f64] {
        &self.stages[(STAGES - 1) * self.at.len()..]
    }

    /// The estimate of `h·|λ|` from the last two stages (Hairer & Wanner, Solving Ordinary Differential Equations II,
    /// section IV.2), against where the stability region ends.
    fn look_for_stiffness(&mut self, h: f64, after: &[f64]) {
        let (mut numerator, mut denominator) = (0.0, 0.0);
        let (before, last) = self.stages[(STAGES - 2) * after.len()..].split_at(after.len());
        for (i, after) in after.iter().enumerate() {
            numerator += (last[i] - before[i]).powi(2);
            denominator += (after - self.error[i]).powi(2);
        }
        if denominator > 0.0 && h * (numerator / denominator).sqrt() > STABILITY_LIMIT {
            self.stiff += 1;
            self.calm = 0;
        } else {
            self.calm += 1;
            if self.calm == CALM_STEPS {
                self.stiff = 0;
            }
        }
    }

    /// Whether accuracy would allow longer steps than stability does.
    pub(super) fn is_stiff(&self) -> bool {
        self.stiff >= STIFF_STEPS
    }
}

/// The rates of state `i` of `n` in all stages, each times its weight, added up in the order of the stages.
#[inline]
fn weighted(stages: &[f64], n: usize, i: usize, weights: &[f64]) -> f64 {
    stages[i..].iter().step_by(n).zip(weights).map(|(rate, weight)| weight * rate).sum()
}
