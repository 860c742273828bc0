//! The noise of a record: an autoregression, of the noise itself or of its moves from sample to sample.

use crate::numerics::{NormalEquations, burg};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is taken to disturb the PV besides the inputs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum NoiseModel {
    /// Noise without memory: least squares of the simulated output.
    #[default]
    White,
    /// Noise with a memory, an autoregression whose order is found: process and noise by maximum likelihood.
    Autoregression,
    /// The same of its moves from sample to sample, for a disturbance that drifts or steps and does not come back.
    Integrated,
}

/// A noise model that was fitted: `e(t) + a₁ e(t−1) + … + a_n e(t−n) = w(t)` with white `w`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FittedNoise {
    /// Whether `e` is the move of the disturbance from sample to sample, not the disturbance itself.
    pub integrated: bool,
    /// `a₁ … a_n`.
    pub coefficients: Vec<f64>,
    /// Standard deviation of `w`, PV units.
    pub deviation: f64,
}

/// Highest order of an autoregression.
const HIGHEST_ORDER: usize = 10;
/// Samples for each coefficient, at least.
const SAMPLES_A_COEFFICIENT: usize = 12;

/// With so many samples' worth of noise for each unknown, what the fit takes out of it is nothing beside it.
const PLENTY: f64 = 60.0;
/// The longest memory that is told from none at all.
const LONGEST_POLE: f64 = 0.9995;

/// Rows of derivatives with the residual last, NaN there where missing.
pub(crate) struct Rows {
    /// Entries of a row.
    pub(crate) width: usize,
    /// Row by row.
    pub(crate) values: Vec<f64>,
}

/// What makes noise white: for each number of known predecessors the best prediction, in units of the last one's error.
///
/// So the squares of what comes out are, but for a constant, twice the negative logarithm of the exact likelihood: the first
/// samples of a stretch, which have few predecessors, count as much as they can tell (Box & Jenkins, Time Series Analysis,
/// 1970, appendix A7.4).
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Whitening {
    integrated: bool,
    /// `a₁ … a_m` and the weight, for m = 0 to the order.
    predictions: Vec<(Vec<f64>, f64)>,
}

impl Whitening {
    /// The one of residuals, the order by Akaike's criterion with the correction for few samples; NaN parts stretches. None
    /// where there are too few.
    pub(crate) fn of(residuals: &[f64], integrated: bool) -> Option<Self> {
        let moves: Vec<f64>;
        let series = if integrated {
            moves = residuals.windows(2).map(|pair| pair[1] - pair[0]).collect();
            &moves
        } else {
            residuals
        };
        let stretches: Vec<&[f64]> =
            series.split(|value| !value.is_finite()).filter(|stretch| !stretch.is_empty()).collect();
        let count: usize = stretches.iter().map(|stretch| stretch.len()).sum();
        if count < 2 {
            return None;
        }
        let orders = burg(&stretches, HIGHEST_ORDER.min(count / SAMPLES_A_COEFFICIENT));
        let n = count as f64;
        let criterion = |order: usize, variance: f64| {
            let k = order as f64 + 1.0;
            n * variance.max(f64::MIN_POSITIVE).ln() + 2.0 * k * n / (n - k - 1.0).max(1.0)
        };
        let best =
            (0..orders.len()).min_by(|a, b| criterion(*a, orders[*a].1).total_cmp(&criterion(*b, orders[*b].1)))?;
        Self::from_orders(&orders[..=best], integrated)
    }

    /// The predictions of an autoregression of first order with this pole.
    pub(crate) fn of_pole(pole: f64) -> Self {
        let weight = (1.0 - pole * pole).sqrt();
        Self { integrated: false, predictions: vec![(Vec::new(), weight), (vec![-pole], 1.0)] }
    }

    fn from_orders(orders: &[(Vec<f64>, f64)], integrated: bool) -> Option<Self> {
        let variance = orders.last()?.1;
        if variance <= 0.0 || !variance.is_finite() {
            return None;
        }
        let predictions = orders.iter().map(|(a, own)| (a.clone(), (variance / own).sqrt())).collect();
        Some(Self { integrated, predictions })
    }

    /// The autoregression with these coefficients, which must be stable: the shorter predictions by the step-down recursion
    /// (Kay, Modern Spectral Estimation, 1988, section 6.3).
    fn of_coefficients(coefficients: &[f64], integrated: bool) -> Option<Self> {
        let mut orders = vec![(coefficients.to_vec(), 1.0)];
        let (mut a, mut variance) = (coefficients.to_vec(), 1.0);
        while let Some(reflection) = a.pop() {
            let left = 1.0 - reflection * reflection;
            if left <= 0.0 {
                return None;
            }
            let mirrored: Vec<f64> = a.iter().rev().copied().collect();
            a.iter_mut().zip(mirrored).for_each(|(a, b)| *a = (*a - reflection * b) / left);
            variance /= left;
            orders.push((a.clone(), variance));
        }
        orders.reverse();
        Self::from_orders(&orders, integrated)
    }

    /// The same with all poles moved by this factor.
    fn with_poles(&self, factor: f64) -> Option<Self> {
        let moved: Vec<f64> =
            self.coefficients().iter().enumerate().map(|(k, a)| a * factor.powi(k as i32 + 1)).collect();
        Self::of_coefficients(&moved, self.integrated)
    }

    /// The noise whose memory is not mistaken for something the fit has taken out of it: the poles are moved to where the
    /// restricted likelihood is largest (Patterson & Thompson, Biometrika 58, 1971), which counts what the `rows` of
    /// derivatives can explain of any noise. With it the variance of its innovations.
    ///
    /// Without this, what is left after level and gain were fitted looks shorter in memory than the noise is, and standard
    /// errors come out too small.
    pub(crate) fn restricted(&self, rows: &Rows) -> (Self, f64) {
        let mut best = (self.clone(), self.restricted_likelihood(rows));
        let coefficients = self.coefficients();
        let largest = crate::numerics::largest_root(coefficients);
        let count = rows.values.len() / rows.width;
        let is_plenty = self.effective_samples(count) > PLENTY * rows.width as f64;
        if !coefficients.is_empty() && largest > 0.0 && !is_plenty {
            // The memory in samples is what is searched, since a pole of 0.99 is far from one of 0.999.
            let memory = |pole: f64| -1.0 / pole.ln();
            let own = memory(largest.min(LONGEST_POLE));
            let (low, high) = ((own / 4.0).ln(), memory(LONGEST_POLE).min(own * 30.0).max(own).ln());
            let mut at = |log_memory: f64| {
                let pole = (-1.0 / log_memory.exp()).exp();
                let found = self.with_poles(pole / largest).map(|there| {
                    let likelihood = there.restricted_likelihood(rows);
                    (there, likelihood)
                });
                let Some(found) = found else { return f64::NEG_INFINITY };
                let likelihood = found.1.0;
                if likelihood > best.1.0 {
                    best = found;
                }
                likelihood
            };
            const STEPS: usize = 6;
            let place = |k: usize| low + (high - low) * k as f64 / (STEPS - 1) as f64;
            let values: Vec<f64> = (0..STEPS).map(|k| at(place(k))).collect();
            let top = (0..STEPS).max_by(|a, b| values[*a].total_cmp(&values[*b])).unwrap_or(0);
            let (from, to) = (place(top.saturating_sub(1)), place((top + 1).min(STEPS - 1)));
            crate::numerics::peak_in(4, from, to, at);
        }
        let (whitening, (_, variance)) = best;
        (whitening, variance)
    }

    /// Twice the logarithm of the restricted likelihood but for constants, and the variance of the innovations.
    fn restricted_likelihood(&self, rows: &Rows) -> (f64, f64) {
        let mut sums = NormalEquations::new(rows.width - 1);
        let mut filter = self.filter(rows.width);
        let (mut samples, mut stretches, mut inside) = (0usize, 0usize, false);
        for row in rows.values.chunks_exact(rows.width) {
            if let Some(new) = filter.pass(row) {
                sums.add(new);
                samples += 1;
                stretches += usize::from(!inside);
                inside = true;
            } else {
                inside = false;
            }
        }
        let compressed = sums.compress();
        let parameters = rows.width - 1;
        let pivots: Vec<f64> =
            (0..parameters).map(|k| compressed.jacobian[(k, k)].abs()).filter(|pivot| *pivot > 0.0).collect();
        let left = compressed.residual[parameters].powi(2);
        let freedom = samples.saturating_sub(pivots.len()).max(1) as f64;
        let variance = left / freedom;
        let determinant: f64 = pivots.iter().map(|pivot| 2.0 * pivot.ln()).sum();
        let likelihood =
            self.of_starts() * stretches as f64 - freedom * variance.max(f64::MIN_POSITIVE).ln() - determinant;
        (likelihood, variance)
    }

    /// What the first samples of a stretch add to twice the logarithm of the likelihood, having few predecessors.
    fn of_starts(&self) -> f64 {
        self.predictions.iter().map(|(_, weight)| 2.0 * weight.max(f64::MIN_POSITIVE).ln()).sum()
    }

    /// As how many samples without memory so many with this noise count, for what varies slowly; all of them where it
    /// integrates and the fit is of moves.
    pub(crate) fn effective_samples(&self, samples: usize) -> f64 {
        let Some(((_, last), (_, first))) = self.predictions.last().zip(self.predictions.first()) else { return 0.0 };
        let at_rest = 1.0 + self.coefficients().iter().sum::<f64>();
        let power = (last / first).powi(2);
        (samples as f64 * power * at_rest * at_rest).min(samples as f64)
    }

    /// What is new in a column without gaps, in its place; 0 where nothing is known yet.
    pub(crate) fn apply(&self, column: &mut [f64]) {
        if self.integrated {
            (1..column.len()).rev().for_each(|k| column[k] -= column[k - 1]);
            column.iter_mut().take(1).for_each(|value| *value = 0.0);
        }
        let order = self.order();
        for k in (0..column.len()).rev() {
            let (coefficients, weight) = &self.predictions[k.min(order)];
            let past: f64 = coefficients.iter().enumerate().map(|(lag, a)| a * column[k - 1 - lag]).sum();
            column[k] = weight * (column[k] + past);
        }
    }

    /// What whitening makes of a step: its first values, and last the one that stays.
    pub(crate) fn step_shape(&self) -> Vec<f64> {
        let mut impulse = vec![1.0];
        impulse.extend(self.coefficients());
        if self.integrated {
            // The move of a step is an impulse.
            impulse.push(0.0);
            return impulse;
        }
        let mut sum = 0.0;
        impulse
            .iter()
            .map(|a| {
                sum += a;
                sum
            })
            .collect()
    }

    /// `a₁ … a_n`.
    pub(crate) fn coefficients(&self) -> &[f64] {
        self.predictions.last().map_or(&[], |(a, _)| a)
    }

    /// The same noise as blocks of samples see it: of a slow one the memory counts in blocks.
    pub(crate) fn of_blocks(&self, block: usize) -> Self {
        match &self.predictions[..] {
            [_, (a, _)] if !self.integrated => Self::of_pole((-a[0]).max(0.0).powi(block as i32)),
            _ => self.clone(),
        }
    }

    /// The order of the autoregression.
    pub(crate) fn order(&self) -> usize {
        self.predictions.len() - 1
    }

    /// Coefficients and innovations of the model that is told.
    pub(crate) fn fitted(&self, deviation: f64) -> FittedNoise {
        FittedNoise { integrated: self.integrated, coefficients: self.coefficients().to_vec(), deviation }
    }

    /// Twice the logarithm of the likelihood but for constants, where so many samples leave this sum of squares after
    /// whitening, in so many stretches.
    pub(crate) fn likelihood(&self, sum_of_squares: f64, samples: usize, stretches: usize) -> f64 {
        let n = samples as f64;
        let parameters = 2.0 * (self.order() as f64 + 1.0);
        -n * (sum_of_squares / n).max(f64::MIN_POSITIVE).ln() + self.of_starts() * stretches as f64 - parameters
    }

    /// A filter for rows of this width, whose last entry tells by NaN that the row is missing.
    pub(crate) fn filter(&self, width: usize) -> RowFilter<'_> {
        let rows = self.predictions.len() + usize::from(self.integrated);
        RowFilter {
            whitening: self,
            past: vec![vec![0.0; width]; rows],
            at: 0,
            known: 0,
            last: None,
            out: vec![0.0; width],
        }
    }
}

impl FittedNoise {
    /// The innovations of residuals: what a model with this noise misses one sample ahead.
    pub(crate) fn innovations(&self, residuals: &[f64]) -> Vec<f64> {
        let a = &self.coefficients;
        let at = |k: Option<usize>| k.and_then(|k| residuals.get(k)).copied().unwrap_or(f64::NAN);
        let noise = |k: usize| if self.integrated { at(Some(k)) - at(k.checked_sub(1)) } else { at(Some(k)) };
        (0..residuals.len())
            .map(|k| {
                let known = |lag: usize| k.checked_sub(lag).map_or(f64::NAN, noise);
                noise(k) + a.iter().enumerate().map(|(lag, a)| a * known(lag + 1)).sum::<f64>()
            })
            .collect()
    }

    /// How long the noise remembers, in samples: the time constant of its slowest pole; infinite where it integrates.
    #[must_use]
    pub fn memory(&self) -> f64 {
        if self.integrated {
            return f64::INFINITY;
        }
        let slowest = crate::numerics::largest_root(&self.coefficients);
        if slowest <= 0.0 { 0.0 } else { -1.0 / slowest.min(1.0 - 1e-12).ln() }
    }
}

/// Rows on their way through a [`Whitening`].
pub(crate) struct RowFilter<'a> {
    whitening: &'a Whitening,
    /// The last rows (their moves, where the noise integrates), in a ring.
    past: Vec<Vec<f64>>,
    at: usize,
    /// How many rows of the ring belong to this stretch.
    known: usize,
    last: Option<Vec<f64>>,
    out: Vec<f64>,
}

impl RowFilter<'_> {
    /// What is new in a row; None where it is missing, or where an integrated noise has no predecessor.
    pub(crate) fn pass(&mut self, row: &[f64]) -> Option<&mut [f64]> {
        if !row.last().is_some_and(|value| value.is_finite()) {
            (self.known, self.last) = (0, None);
            return None;
        }
        let order = self.whitening.order();
        let rows = self.past.len();
        if self.whitening.integrated {
            let Some(last) = &mut self.last else {
                self.last = Some(row.to_vec());
                return None;
            };
            self.out.iter_mut().zip(row.iter().zip(last.iter())).for_each(|(out, (now, before))| *out = now - before);
            last.copy_from_slice(row);
        } else {
            self.out.copy_from_slice(row);
        }
        let slot = self.at % rows;
        self.past[slot].copy_from_slice(&self.out);
        let (coefficients, weight) = &self.whitening.predictions[self.known.min(order)];
        for (lag, a) in coefficients.iter().enumerate() {
            let earlier = &self.past[(self.at + 2 * rows - 1 - lag) % rows];
            self.out.iter_mut().zip(earlier).for_each(|(to, from)| *to += a * from);
        }
        if *weight != 1.0 {
            self.out.iter_mut().for_each(|value| *value *= weight);
        }
        self.at = (self.at + 1) % rows;
        self.known = (self.known + 1).min(order);
        Some(&mut self.out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    fn noise(coefficients: &[f64], count: usize, seed: u64) -> Vec<f64> {
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let mut series: Vec<f64> = Vec::new();
        for k in 0..count + 500 {
            let own: f64 = StandardNormal.sample(&mut generator);
            let past: f64 = coefficients
                .iter()
                .enumerate()
                .map(|(lag, a)| if k > lag { -a * series[k - 1 - lag] } else { 0.0 })
                .sum();
            series.push(own + past);
        }
        series.split_off(500)
    }

    /// What is new in each of these residuals, in their order.
    fn innovations(whitening: &Whitening, residuals: &[f64]) -> Vec<f64> {
        let mut filter = whitening.filter(1);
        residuals.iter().map(|e| filter.pass(&[*e]).map_or(f64::NAN, |row| row[0])).collect()
    }

    #[test]
    fn the_autoregression_is_found_with_its_order_and_leaves_white_noise() {
        let series = noise(&[-1.5, 0.7], 20_000, 3);
        let whitening = Whitening::of(&series, false).unwrap();
        let fitted = whitening.fitted(1.0);
        assert!(
            (fitted.coefficients[0] + 1.5).abs() < 0.02 && (fitted.coefficients[1] - 0.7).abs() < 0.02,
            "{fitted:?}"
        );
        let left = innovations(&whitening, &series);
        assert!(super::super::lag_one_correlation(&left).abs() < 0.02);
        let power = left.iter().map(|e| e * e).sum::<f64>() / left.len() as f64;
        assert!((power - 1.0).abs() < 0.03, "{power}");
        // Poles at 0.8367: |z|² = 0.7, a memory of −1/ln 0.8367 samples.
        assert!((fitted.memory() + 1.0 / 0.7f64.sqrt().ln()).abs() < 0.3, "{}", fitted.memory());
    }

    #[test]
    fn memory_is_not_lost_to_what_was_fitted() {
        // Level, ramp and a few steps are taken out of short stretches of slow noise by least squares: what is left has a
        // shorter memory. Restricted likelihood gives it back, on the average of 200 stretches.
        let pole = 0.9;
        let (mut plain, mut restricted) = (0.0, 0.0);
        let columns: Vec<Box<dyn Fn(usize) -> f64>> = vec![
            Box::new(|_| 1.0),
            Box::new(|k| k as f64 / 100.0),
            Box::new(|k| f64::from(u8::from(k > 30))),
            Box::new(|k| f64::from(u8::from(k > 60))),
        ];
        for seed in 0..200 {
            let series = noise(&[-pole], 100, seed);
            let mut sums = NormalEquations::new(4);
            let row = |k: usize, last: f64| columns.iter().map(|column| column(k)).chain([last]).collect::<Vec<f64>>();
            series.iter().enumerate().for_each(|(k, e)| sums.add(&row(k, *e)));
            let (taken, _) = sums.linear_solution().unwrap();
            let left: Vec<f64> = series
                .iter()
                .enumerate()
                .map(|(k, e)| e - columns.iter().zip(&taken).map(|(column, by)| by * column(k)).sum::<f64>())
                .collect();
            let found = Whitening::from_orders(&burg(&[&left], 1), false).unwrap();
            let rows = Rows { width: 5, values: left.iter().enumerate().flat_map(|(k, e)| row(k, *e)).collect() };
            plain -= found.coefficients()[0] / 200.0;
            restricted -= found.restricted(&rows).0.coefficients()[0] / 200.0;
        }
        println!("{plain} {restricted}");
        assert!(plain < 0.82 && (restricted - pole).abs() < 0.03, "{plain} {restricted}");
    }

    #[test]
    fn what_wanders_off_is_white_in_its_moves() {
        let mut level = 0.0;
        let walk: Vec<f64> = noise(&[], 5000, 9)
            .iter()
            .map(|step| {
                level += step;
                level
            })
            .collect();
        let whitening = Whitening::of(&walk, true).unwrap();
        let left = innovations(&whitening, &walk);
        assert!(left[0].is_nan() && super::super::lag_one_correlation(&left).abs() < 0.05);
        assert_eq!(whitening.fitted(1.0).memory(), f64::INFINITY);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// The sum of squares after whitening is the quadratic form of the inverse covariance matrix: the exact likelihood,
        /// against the matrix written out. NaN parts the series.
        #[test]
        fn squares_are_those_of_the_exact_likelihood(pole in -0.95..0.95f64, other in -0.9..0.9f64, seed in 0u64..1000) {
            let a = [-(pole + other), pole * other];
            // Autocovariances from the impulse response, long enough for the slowest pole.
            let mut impulse = vec![1.0];
            for k in 1..4000usize {
                let two = if k > 1 { impulse[k - 2] } else { 0.0 };
                impulse.push(-a[0] * impulse[k - 1] - a[1] * two);
            }
            let covariance = |lag: usize| (0..impulse.len() - lag).map(|k| impulse[k] * impulse[k + lag]).sum::<f64>();
            let r: Vec<f64> = (0..12).map(covariance).collect();
            let series = noise(&a, 12, seed);
            let matrix = nalgebra::DMatrix::from_fn(12, 12, |i, j| r[i.abs_diff(j)]);
            let x = nalgebra::DVector::from_vec(series.clone());
            let exact = x.dot(&matrix.cholesky().unwrap().solve(&x));
            let orders = crate::numerics::levinson(&r[..3]);
            let whitening = Whitening::from_orders(&orders, false).unwrap();
            let ours: f64 = innovations(&whitening, &series).iter().map(|e| e * e).sum();
            prop_assert!((ours / exact - 1.0).abs() < 1e-6, "{ours} {exact}");
            let twice: Vec<f64> = series.iter().copied().chain([f64::NAN]).chain(series.iter().copied()).collect();
            let both: f64 = innovations(&whitening, &twice).iter().filter(|e| e.is_finite()).map(|e| e * e).sum();
            prop_assert!((both / exact - 2.0).abs() < 1e-6, "{both} {exact}");
        }
    }
}
