//! What is left between data and model: its correlations, and tests that it is noise without memory and without the
//! input.

use crate::numerics::{by_akaike, dot, levinson};
use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};
use utoipa::ToSchema;

/// Two-sided 99 % quantile of the normal distribution.
const NORMAL_99: f64 = 2.575_829_303_548_9;

/// Correlation of neighbouring residuals: 0 for white noise, towards 1 where something slow was left out.
///
/// NaN marks a missing residual; pairs with one are passed over. 0 with fewer than three pairs.
#[must_use]
pub fn lag_one_correlation(residuals: &[f64]) -> f64 {
    let (mut products, mut squares, mut pairs) = (0.0, 0.0, 0);
    for pair in residuals.windows(2).filter(|pair| pair.iter().all(|value| value.is_finite())) {
        products += pair[0] * pair[1];
        squares += 0.5 * (pair[0] * pair[0] + pair[1] * pair[1]);
        pairs += 1;
    }
    if pairs < 3 || squares == 0.0 { 0.0 } else { products / squares }
}

/// Autocovariances of lags `0..=most`, divided by the number of samples; missing ones count as 0.
pub(crate) fn autocovariances(series: &[f64], most: usize) -> Vec<f64> {
    let filled: Vec<f64> = series.iter().map(|value| if value.is_finite() { *value } else { 0.0 }).collect();
    let count = series.iter().filter(|value| value.is_finite()).count().max(1) as f64;
    (0..=most.min(series.len().saturating_sub(1))).map(|lag| dot(&filled[lag..], &filled) / count).collect()
}

/// An autoregression `e(t) + a₁ e(t−1) + … = w(t)` with white `w`.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Autoregression {
    /// `a₁ … a_n`.
    pub(crate) coefficients: Vec<f64>,
    /// Variance of `w`.
    pub(crate) variance: f64,
}

impl Autoregression {
    /// The one that fits residuals: Yule–Walker equations by Levinson's recursion, the order by Akaike's criterion, at
    /// most 30.
    pub(crate) fn of(residuals: &[f64]) -> Self {
        let count = residuals.iter().filter(|value| value.is_finite()).count();
        let covariances = autocovariances(residuals, 30.min(count / 10));
        let best = by_akaike(levinson(&covariances), count);
        best.map_or(Self { coefficients: Vec::new(), variance: 0.0 }, |(coefficients, variance)| Self {
            coefficients,
            variance,
        })
    }
}

/// Correlations of the residuals over the lags, with the bands in which 99 % of them lie if there is nothing to find.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ResidualTests {
    /// Autocorrelation at lags 0 … n samples; 1 at lag 0.
    pub autocorrelation: Vec<f64>,
    /// Half width of the 99 % band of the autocorrelation.
    pub autocorrelation_band: f64,
    /// For each input: how the residuals correlate with it.
    pub cross_correlation: Vec<CrossCorrelation>,
    /// Probability of correlations as large as these if the residuals are white (Ljung & Box, Biometrika 65, 1978).
    pub whiteness: f64,
}

/// Correlation of the residuals with an input.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CrossCorrelation {
    /// Tag of the input.
    pub input: String,
    /// The lags in samples: above 0 the input comes first; below 0 shows feedback.
    pub lags: Vec<i32>,
    /// The correlation at each lag.
    pub values: Vec<f64>,
    /// Half width of the 99 % band.
    pub band: f64,
    /// Probability of correlations as large as these at lags from 0 on if the residuals are independent of the input
    /// (Ljung, System Identification, 2nd ed. 1999, section 16.6).
    pub independence: f64,
    /// The same of the lags below 0: small where the input follows what is left over, as it does in a closed loop.
    #[serde(default = "certain")]
    pub feedback: f64,
}

fn certain() -> f64 {
    1.0
}

impl ResidualTests {
    /// The tests over `lags` lags, for residuals after `parameters` parameters were fitted.
    #[must_use]
    pub fn new(residuals: &[f64], inputs: &[(&str, &[f64])], lags: usize, parameters: usize) -> Self {
        let count = residuals.iter().filter(|value| value.is_finite()).count();
        let lags = lags.clamp(1, (count / 4).max(1));
        let covariances = autocovariances(residuals, 4 * lags);
        let own = normalised(&covariances);
        let n = count as f64;
        let statistic: f64 =
            own[1..].iter().take(lags).enumerate().map(|(k, r)| r * r / (n - (k + 1) as f64).max(1.0)).sum();
        let cross = inputs.iter().map(|(tag, values)| cross_correlation(tag, residuals, values, &own, lags)).collect();
        Self {
            autocorrelation: own.iter().take(lags + 1).copied().collect(),
            autocorrelation_band: NORMAL_99 / n.sqrt(),
            cross_correlation: cross,
            whiteness: exceeding(n * (n + 2.0) * statistic, lags.saturating_sub(parameters).max(1)),
        }
    }

    /// Lags at which the autocorrelation leaves its band, lag 0 aside.
    #[must_use]
    pub fn coloured_lags(&self) -> usize {
        self.autocorrelation[1..].iter().filter(|value| value.abs() > self.autocorrelation_band).count()
    }
}

fn normalised(covariances: &[f64]) -> Vec<f64> {
    let power = covariances[0].max(f64::MIN_POSITIVE);
    covariances.iter().map(|value| value / power).collect()
}

/// Probability that a chi-squared variable exceeds `statistic`.
fn exceeding(statistic: f64, freedom: usize) -> f64 {
    ChiSquared::new(freedom as f64).map_or(1.0, |distribution| distribution.sf(statistic.max(0.0)))
}

fn cross_correlation(tag: &str, residuals: &[f64], input: &[f64], own: &[f64], lags: usize) -> CrossCorrelation {
    let finite: Vec<f64> = input.iter().copied().filter(|value| value.is_finite()).collect();
    let mean = finite.iter().sum::<f64>() / finite.len().max(1) as f64;
    let centred: Vec<f64> = input.iter().map(|value| if value.is_finite() { value - mean } else { 0.0 }).collect();
    let filled: Vec<f64> = residuals.iter().map(|value| if value.is_finite() { *value } else { 0.0 }).collect();
    let norm = |series: &[f64]| series.iter().map(|value| value * value).sum::<f64>().sqrt();
    let scale = (norm(&centred) * norm(&filled)).max(f64::MIN_POSITIVE);
    let at = |lag: i32| {
        let shift = lag.unsigned_abs() as usize;
        let (early, late) = if lag >= 0 { (&centred, &filled) } else { (&filled, &centred) };
        late.iter().skip(shift).zip(early).map(|(a, b)| a * b).sum::<f64>() / scale
    };
    let most = lags as i32;
    let all: Vec<i32> = (-most..=most).collect();
    let values: Vec<f64> = all.iter().map(|lag| at(*lag)).collect();
    // The covariance of cross-correlations i and j of independent series is Σ ρₑ(k) ρᵤ(k + i − j) / N.
    let inputs_own = normalised(&autocovariances(&centred, own.len() - 1 + lags));
    let count = filled.len() as f64;
    let rho = |series: &[f64], lag: i64| series.get(lag.unsigned_abs() as usize).copied().unwrap_or(0.0);
    let reach = own.len() as i64 - 1;
    let covariance = |gap: i64| (-reach..=reach).map(|k| rho(own, k) * rho(&inputs_own, k + gap)).sum::<f64>() / count;
    let by_gap: Vec<f64> = (0..=lags as i64).map(covariance).collect();
    let variance = by_gap[0].max(1.0 / count * 1e-3);
    let matrix = nalgebra::DMatrix::from_fn(lags + 1, lags + 1, |i, j| {
        by_gap[i.abs_diff(j)] + if i == j { 1e-6 * variance } else { 0.0 }
    });
    let factor = matrix.cholesky();
    let together = |correlations: nalgebra::DVector<f64>| {
        let statistic = factor.as_ref().map_or(0.0, |factor| correlations.dot(&factor.solve(&correlations)));
        exceeding(statistic, lags + 1)
    };
    let causal = nalgebra::DVector::from_iterator(lags + 1, values[lags..].iter().copied());
    let backward = nalgebra::DVector::from_iterator(lags + 1, values[..=lags].iter().copied());
    CrossCorrelation {
        input: tag.to_owned(),
        lags: all,
        values,
        band: NORMAL_99 * variance.sqrt(),
        independence: together(causal),
        feedback: together(backward),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    fn white(seed: u64, count: usize) -> Vec<f64> {
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        (0..count).map(|_| StandardNormal.sample(&mut generator)).collect()
    }

    fn coloured(seed: u64, count: usize, pole: f64) -> Vec<f64> {
        let mut value = 0.0;
        let step = |deviate: f64| {
            value = pole * value + deviate;
            value
        };
        white(seed, count).into_iter().map(step).collect()
    }

    #[test]
    fn of_an_autoregression_is_its_coefficient() {
        let mut series = coloured(4, 50_000, 0.7);
        assert!((lag_one_correlation(&series) - 0.7).abs() < 0.01);
        let found = Autoregression::of(&series);
        assert!((found.coefficients[0] + 0.7).abs() < 0.02 && (found.variance - 1.0).abs() < 0.03, "{found:?}");
        series[100] = f64::NAN;
        assert!((lag_one_correlation(&series) - 0.7).abs() < 0.01);
        assert_eq!(lag_one_correlation(&[1.0, f64::NAN, 2.0]), 0.0);
        assert!((lag_one_correlation(&[0.3; 50]) - 1.0).abs() < 1e-12);
    }

    #[test]
    fn tests_reject_in_one_of_twenty_when_there_is_nothing_to_find() {
        let (mut whites, mut independents, mut out) = (0, 0, 0);
        for seed in 0..200 {
            let input = coloured(1000 + seed, 600, 0.9);
            let tests = ResidualTests::new(&white(seed, 600), &[("u", &input)], 20, 0);
            whites += usize::from(tests.whiteness < 0.05);
            independents += usize::from(tests.cross_correlation[0].independence < 0.05);
            out += tests.coloured_lags();
        }
        // 10 of 200 expected, standard deviation 3.1; of 4000 lags 40 outside the 99 % band.
        assert!((1..=20).contains(&whites) && (1..=22).contains(&independents), "{whites} {independents}");
        assert!((15..=70).contains(&out), "{out}");
    }

    #[test]
    fn tests_find_colour_and_what_the_input_left() {
        let input = coloured(7, 800, 0.5);
        let noise = white(8, 800);
        let left: Vec<f64> = (0..800).map(|k| noise[k] + if k >= 3 { 0.3 * input[k - 3] } else { 0.0 }).collect();
        let tests = ResidualTests::new(&left, &[("u", &input)], 20, 0);
        let cross = &tests.cross_correlation[0];
        assert!(cross.independence < 1e-6);
        let largest =
            cross.lags[(0..cross.values.len()).max_by(|a, b| cross.values[*a].total_cmp(&cross.values[*b])).unwrap()];
        assert_eq!(largest, 3);
        assert!(ResidualTests::new(&coloured(9, 800, 0.5), &[], 20, 0).whiteness < 1e-6);
    }
}
