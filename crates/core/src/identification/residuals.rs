//! What is left between data and model.

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_an_autoregression_is_its_coefficient() {
        use rand::SeedableRng;
        use rand_distr::{Distribution, StandardNormal};
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(4);
        let mut value = 0.0;
        let series: Vec<f64> = (0..50_000)
            .map(|_| {
                let deviate: f64 = StandardNormal.sample(&mut generator);
                value = 0.7 * value + deviate;
                value
            })
            .collect();
        assert!((lag_one_correlation(&series) - 0.7).abs() < 0.02);
        assert_eq!(lag_one_correlation(&[1.0, f64::NAN, 2.0]), 0.0);
    }
}
