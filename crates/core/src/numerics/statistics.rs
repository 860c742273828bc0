//! Ranges, medians, quantiles and autoregressions; square roots of covariances.

use super::MOST_SWEEPS;
use nalgebra::{DMatrix, SymmetricEigen};
use num_complex::Complex64;
use rustfft::FftPlanner;
use std::ops::Range;

/// Two-sided 95 % quantile of the normal distribution.
pub const NORMAL_95: f64 = 1.959_963_984_540_054;

/// Lowest and highest of the values that are there; the other way round where there is none.
#[must_use]
pub fn range(values: &[f64]) -> (f64, f64) {
    let finite = values.iter().copied().filter(|value| value.is_finite());
    finite.fold((f64::MAX, f64::MIN), |(low, high), value| (low.min(value), high.max(value)))
}

/// The median; 0 of nothing. The values are reordered.
pub fn median(values: &mut [f64]) -> f64 {
    if values.is_empty() {
        return 0.0;
    }
    let (middle, is_odd) = (values.len() / 2, values.len() % 2 == 1);
    let (lower, upper, _) = values.select_nth_unstable_by(middle, f64::total_cmp);
    if is_odd { *upper } else { 0.5 * (*upper + lower.iter().copied().fold(f64::MIN, f64::max)) }
}

/// The standard deviation of normal noise from the sizes of its values, which a few that do not belong to it hardly move: 1.4826 times
/// their median (median absolute deviation: Hampel, J. American Statistical Association 69, 1974). The values are reordered.
pub fn deviation_by_median(sizes: &mut [f64]) -> f64 {
    1.4826 * median(sizes)
}

/// Autoregressions of order 0, 1, … from autocovariances of lags 0, 1, …: for each `(a₁ … a_n, variance of the innovation)`.
///
/// Levinson's recursion (Levinson, J. Mathematics and Physics 25, 1947; Durbin, 1960).
#[must_use]
pub fn levinson(covariances: &[f64]) -> Vec<(Vec<f64>, f64)> {
    let Some(&power) = covariances.first() else { return Vec::new() };
    let mut orders = vec![(Vec::new(), power)];
    let mut coefficients: Vec<f64> = Vec::new();
    let mut variance = power;
    for order in 1..covariances.len() {
        if variance <= 1e-12 * power {
            break;
        }
        let sum: f64 = coefficients.iter().enumerate().map(|(k, a)| a * covariances[order - 1 - k]).sum();
        let reflection = -(covariances[order] + sum) / variance;
        let mirrored: Vec<f64> = coefficients.iter().rev().copied().collect();
        coefficients.iter_mut().zip(mirrored).for_each(|(a, b)| *a += reflection * b);
        coefficients.push(reflection);
        variance *= 1.0 - reflection * reflection;
        orders.push((coefficients.clone(), variance));
    }
    orders
}

/// Autoregressions of order 0, 1, … up to `most` from stretches of one series, for each `(a₁ … a_n, variance of the
/// innovation)`: forward and backward prediction errors are made small together (Burg, 1967; Kay, Modern Spectral
/// Estimation, 1988, section 7.5). Always stable, and truer than autocovariances where the memory is long.
#[must_use]
pub fn burg(stretches: &[&[f64]], most: usize) -> Vec<(Vec<f64>, f64)> {
    let count: usize = stretches.iter().map(|stretch| stretch.len()).sum();
    let power: f64 = stretches.iter().flat_map(|stretch| stretch.iter()).map(|value| value * value).sum();
    let mut variance = power / count.max(1) as f64;
    let mut orders = vec![(Vec::new(), variance)];
    let mut forward: Vec<Vec<f64>> = stretches.iter().map(|stretch| stretch.to_vec()).collect();
    let mut backward = forward.clone();
    let mut coefficients: Vec<f64> = Vec::new();
    for order in 1..=most {
        let (mut product, mut energy) = (0.0, 0.0);
        for (f, b) in forward.iter().zip(&backward) {
            for k in order..f.len() {
                product += f[k] * b[k - 1];
                energy += f[k] * f[k] + b[k - 1] * b[k - 1];
            }
        }
        if energy <= 0.0 || variance <= 1e-12 * orders[0].1 {
            break;
        }
        let reflection = -2.0 * product / energy;
        for (f, b) in forward.iter_mut().zip(&mut backward) {
            for k in (order..f.len()).rev() {
                let (ahead, behind) = (f[k], b[k - 1]);
                f[k] = ahead + reflection * behind;
                b[k] = behind + reflection * ahead;
            }
        }
        let mirrored: Vec<f64> = coefficients.iter().rev().copied().collect();
        coefficients.iter_mut().zip(mirrored).for_each(|(a, b)| *a += reflection * b);
        coefficients.push(reflection);
        variance *= 1.0 - reflection * reflection;
        orders.push((coefficients.clone(), variance));
    }
    orders
}

/// Covariances of two series about zero over the lags `−most..=most`, divided by the number of samples: at lag k the sum of
/// `a(t + k) b(t)`, by fast Fourier transform.
#[must_use]
pub fn covariances(a: &[f64], b: &[f64], most: usize) -> Vec<f64> {
    let count = a.len().min(b.len());
    if count == 0 {
        return vec![0.0; 2 * most + 1];
    }
    let size = (count + most + 1).next_power_of_two();
    let mut planner = FftPlanner::new();
    // Both at once: one as the real part, the other as the imaginary one.
    let mut buffer: Vec<Complex64> = a.iter().zip(b).map(|(a, b)| Complex64::new(*a, *b)).collect();
    buffer.resize(size, Complex64::default());
    planner.plan_fft_forward(size).process(&mut buffer);
    let mut products: Vec<Complex64> = (0..size)
        .map(|k| {
            let (here, mirrored) = (buffer[k], buffer[(size - k) % size].conj());
            let (of_a, of_b) = (0.5 * (here + mirrored), Complex64::new(0.0, -0.5) * (here - mirrored));
            of_a * of_b.conj()
        })
        .collect();
    planner.plan_fft_inverse(size).process(&mut products);
    let scale = 1.0 / (size as f64 * count as f64);
    let at = |lag: usize| if lag.min(size - lag) < count { products[lag].re * scale } else { 0.0 };
    (1..=most).rev().map(|lag| at(size - lag)).chain((0..=most).map(at)).collect()
}

/// Of autoregressions of order 0, 1, … from so many samples, as [`levinson`] and [`burg`] give them, the one that Akaike's criterion
/// takes (Akaike, IEEE Trans. Automatic Control 19, 1974); none of none.
#[must_use]
pub fn by_akaike(orders: Vec<(Vec<f64>, f64)>, samples: usize) -> Option<(Vec<f64>, f64)> {
    let criterion = |(coefficients, variance): &(Vec<f64>, f64)| {
        samples as f64 * variance.max(f64::MIN_POSITIVE).ln() + 2.0 * coefficients.len() as f64
    };
    orders.into_iter().min_by(|a, b| criterion(a).total_cmp(&criterion(b)))
}

/// The longest run of true, the first of those that are as long; empty where there is none.
pub fn longest_run(holds: impl IntoIterator<Item = bool>) -> Range<usize> {
    let (mut best, mut from) = (0..0, None);
    for (k, holds) in holds.into_iter().enumerate() {
        if !holds {
            from = None;
            continue;
        }
        let from = *from.get_or_insert(k);
        if k + 1 - from > best.len() {
            best = from..k + 1;
        }
    }
    best
}

/// The scalar product of the part that both have, in four sums that a processor adds up side by side.
#[must_use]
pub fn dot(a: &[f64], b: &[f64]) -> f64 {
    let count = a.len().min(b.len());
    let (a, b) = (&a[..count], &b[..count]);
    let mut sums = [0.0; 4];
    let (left, right) = (a.chunks_exact(4), b.chunks_exact(4));
    let rest: f64 = left.remainder().iter().zip(right.remainder()).map(|(a, b)| a * b).sum();
    for (a, b) in left.zip(right) {
        for i in 0..4 {
            sums[i] += a[i] * b[i];
        }
    }
    sums.iter().sum::<f64>() + rest
}

/// A matrix whose product with its transpose is the covariance; directions of no variance are left out.
pub fn square_root(covariance: &DMatrix<f64>) -> DMatrix<f64> {
    let Some(SymmetricEigen { eigenvectors, eigenvalues }) =
        SymmetricEigen::try_new(covariance.clone(), f64::EPSILON, MOST_SWEEPS)
    else {
        return DMatrix::zeros(covariance.nrows(), covariance.ncols());
    };
    let roots = eigenvalues.map(|value| value.max(0.0).sqrt());
    eigenvectors * DMatrix::from_diagonal(&roots)
}

/// A quantile of values, straight between neighbours; 0 of none.
pub fn quantile(values: &mut [f64], share: f64) -> f64 {
    if values.is_empty() {
        return 0.0;
    }
    values.sort_by(f64::total_cmp);
    let place = share * (values.len() - 1) as f64;
    let below = place.floor() as usize;
    let above = (below + 1).min(values.len() - 1);
    values[below] + (place - below as f64) * (values[above] - values[below])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn medians_of_odd_and_even_counts() {
        assert_eq!(median(&mut [3.0, 1.0, 2.0]), 2.0);
        assert_eq!(median(&mut [4.0, 1.0, 3.0, 2.0]), 2.5);
        assert_eq!(median(&mut []), 0.0);
    }

    #[test]
    fn levinson_solves_the_yule_walker_equations() {
        let r = [2.0, 1.1, 0.3, -0.4];
        let (a, variance) = levinson(&r).pop().unwrap();
        for row in 1..=3usize {
            let sum: f64 = r[row] + (1..=3usize).map(|k| a[k - 1] * r[row.abs_diff(k)]).sum::<f64>();
            assert!(sum.abs() < 1e-14, "{sum}");
        }
        assert!((variance - (r[0] + (1..=3).map(|k| a[k - 1] * r[k]).sum::<f64>())).abs() < 1e-14);
    }
}
