//! Recursive least squares whose covariance cannot stop being one.
//!
//! The covariance is kept as `U D Uᵀ`, `U` unit upper triangular and `D` diagonal (Bierman, Factorization Methods for
//! Discrete Sequential Estimation, 1977, ch. V; Thornton & Bierman 1980): the entries of `D` are only multiplied by ratios
//! of positive numbers, so that they stay positive however long it runs. The plain form, which subtracts, loses symmetry and
//! sign after some thousand samples with forgetting, and then diverges.

/// An estimate that is renewed with every sample of `y = φᵀ θ + noise`.
#[derive(Debug, Clone)]
pub(crate) struct RecursiveLeastSquares {
    estimate: Vec<f64>,
    /// `U`, by rows; only the entries above the diagonal are used.
    upper: Vec<f64>,
    diagonal: Vec<f64>,
    forgetting: f64,
    /// Largest trace of the covariance up to which something is forgotten.
    bound: f64,
    /// Room for the update.
    along: Vec<f64>,
    gain: Vec<f64>,
}

impl RecursiveLeastSquares {
    /// Begins at an estimate with this variance of each parameter. With forgetting below 1 the covariance grows in directions
    /// that nothing excites, up to `bound` in its trace: while that is reached, nothing is forgotten.
    pub(crate) fn new(estimate: Vec<f64>, variance: f64, forgetting: f64, bound: f64) -> Self {
        let count = estimate.len();
        Self {
            upper: vec![0.0; count * count],
            diagonal: vec![variance; count],
            along: vec![0.0; count],
            gain: vec![0.0; count],
            estimate,
            forgetting,
            bound,
        }
    }

    pub(crate) fn estimate(&self) -> &[f64] {
        &self.estimate
    }

    /// What it expects for these regressors.
    pub(crate) fn predicted(&self, regressors: &[f64]) -> f64 {
        self.estimate.iter().zip(regressors).map(|(a, b)| a * b).sum()
    }

    /// Takes a sample in; the error that is left afterwards as a share of the one before. Signals beyond all measure teach
    /// nothing.
    pub(crate) fn learn(&mut self, regressors: &[f64], measured: f64) -> f64 {
        let count = self.estimate.len();
        let error = measured - self.predicted(regressors);
        // f = Uᵀ φ.
        for j in 0..count {
            let above: f64 = (0..j).map(|i| self.upper[i * count + j] * regressors[i]).sum();
            self.along[j] = regressors[j] + above;
        }
        let whole: f64 = self.forgetting + self.along.iter().zip(&self.diagonal).map(|(f, d)| f * f * d).sum::<f64>();
        if !whole.is_finite() || !error.is_finite() {
            return 1.0;
        }
        let mut sum = self.forgetting;
        for j in 0..count {
            let f = self.along[j];
            let g = f * self.diagonal[j];
            let before = sum;
            sum += f * g;
            self.diagonal[j] *= before / sum;
            self.gain[j] = g;
            for i in 0..j {
                let old = self.upper[i * count + j];
                self.upper[i * count + j] = old - self.gain[i] * f / before;
                self.gain[i] += old * g;
            }
        }
        for (value, gain) in self.estimate.iter_mut().zip(&self.gain) {
            *value += gain / sum * error;
        }
        let trace: f64 = (0..count).map(|i| self.covariance(i, i)).sum();
        if trace <= self.bound * self.forgetting {
            self.diagonal.iter_mut().for_each(|d| *d /= self.forgetting);
        }
        let taken: f64 = self.gain.iter().zip(regressors).map(|(gain, by)| gain * by).sum();
        1.0 - taken / sum
    }

    /// An entry of the covariance, for noise of variance 1.
    pub(crate) fn covariance(&self, i: usize, j: usize) -> f64 {
        let count = self.estimate.len();
        let entry = |row: usize, column: usize| if row == column { 1.0 } else { self.upper[row * count + column] };
        (i.max(j)..count).map(|k| entry(i, k) * entry(j, k) * self.diagonal[k]).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nalgebra::{DMatrix, DVector};
    use proptest::prelude::*;

    /// A cheap pseudo-random binary signal: a linear congruence, bit 60.
    fn binary(state: &mut u64) -> f64 {
        *state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        if (*state >> 60) & 1 == 1 { 1.0 } else { -1.0 }
    }

    /// How a constant ARX (1, 1, 1) with a level is followed.
    struct Followed {
        /// Root mean square of the error of `a` and `b` in the second tenth and in the last, while the input moves.
        early: f64,
        late: f64,
        largest_variance: f64,
    }

    const TRUE: [f64; 3] = [-0.9, 0.125, 0.3];
    const BOUND: f64 = 30.0;

    fn followed(forgetting: f64, count: usize, excited: impl Fn(usize) -> bool) -> Followed {
        let mut rls = RecursiveLeastSquares::new(vec![0.0; 3], 1.0, forgetting, BOUND);
        let (mut seed, mut y, mut u) = (7, 0.0, 0.0);
        let mut largest_variance = 0.0_f64;
        let mut squares = [(0.0, 0usize); 2];
        for k in 0..count {
            let noise = 0.02 * (binary(&mut seed) + binary(&mut seed) + binary(&mut seed));
            let next = -TRUE[0] * y + TRUE[1] * u + TRUE[2] + noise;
            rls.learn(&[-y, u, 1.0], next);
            y = next;
            if k % 5 == 0 && excited(k) {
                u = binary(&mut seed);
            }
            let window = if k < count / 10 || !excited(k) || !excited(k.saturating_sub(2000)) {
                None
            } else if k < count / 5 {
                Some(0)
            } else {
                (k >= count / 10 * 9).then_some(1)
            };
            if let Some(window) = window {
                let error = |i: usize| (rls.estimate()[i] - TRUE[i]).powi(2);
                squares[window].0 += error(0) + error(1);
                squares[window].1 += 1;
            }
            if k % 997 == 0 {
                for i in 0..3 {
                    assert!(rls.covariance(i, i) > 0.0 && rls.estimate()[i].is_finite(), "{i} at sample {k}");
                    largest_variance = largest_variance.max(rls.covariance(i, i));
                }
            }
        }
        let root = |(sum, count): (f64, usize)| (sum / count.max(1) as f64).sqrt();
        Followed { early: root(squares[0]), late: root(squares[1]), largest_variance }
    }

    #[test]
    fn ten_million_samples_with_and_without_excitation() {
        // The error that a memory of 1/(1 − λ) samples leaves is the same after ten million as after one.
        for forgetting in [0.9, 0.98, 0.998, 1.0] {
            let throughout = followed(forgetting, 10_000_000, |_| true);
            let by_turns = followed(forgetting, 10_000_000, |k| (k / 250_000) % 2 == 0);
            for (what, Followed { early, late, largest_variance }) in
                [("throughout", throughout), ("by turns", by_turns)]
            {
                println!(
                    "λ {forgetting}, excited {what}: error {early:.4}, later {late:.4}, variance up to {largest_variance:.2}"
                );
                assert!(late < 1.1 * early + 1e-6, "λ {forgetting}, {what}: {early} {late}");
                assert!(largest_variance <= BOUND / forgetting, "λ {forgetting}, {what}: {largest_variance}");
            }
        }
    }

    #[test]
    fn where_nothing_moves_the_covariance_is_bounded() {
        for forgetting in [0.9, 0.98, 0.998] {
            let Followed { largest_variance, .. } = followed(forgetting, 100_000, |k| k < 20_000);
            assert!(largest_variance <= BOUND / forgetting, "λ {forgetting}: {largest_variance}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// For any data it is weighted least squares with the start as a sample more: the normal equations solved at once.
        #[test]
        fn it_is_weighted_least_squares(
            rows in proptest::collection::vec((proptest::array::uniform3(-2.0..2.0f64), -5.0..5.0f64), 5..60),
            forgetting in 0.9..1.0f64,
        ) {
            let mut rls = RecursiveLeastSquares::new(vec![0.3, -0.2, 0.1], 4.0, forgetting, f64::INFINITY);
            let mut information = DMatrix::<f64>::identity(3, 3) / 4.0;
            let mut right = &information * DVector::from_vec(vec![0.3, -0.2, 0.1]);
            for (phi, y) in &rows {
                rls.learn(phi, *y);
                let phi = DVector::from_row_slice(phi);
                information = information * forgetting + &phi * phi.transpose();
                right = right * forgetting + phi * *y;
            }
            let covariance = information.clone().try_inverse().unwrap();
            let wanted = &covariance * right;
            let condition = information.norm() * covariance.norm();
            for i in 0..3 {
                prop_assert!((rls.estimate()[i] - wanted[i]).abs() < 1e-12 * condition * (1.0 + wanted.norm()));
                for j in 0..3 {
                    let size = covariance.norm();
                    prop_assert!((rls.covariance(i, j) - covariance[(i, j)]).abs() < 1e-12 * condition * size);
                }
            }
        }
    }
}
