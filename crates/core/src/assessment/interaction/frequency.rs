//! Interaction over frequency.

use crate::lti::TransferMatrix;
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Points of the curves.
const POINTS: usize = 160;
/// Sweeps of a singular value decomposition.
const MOST_SWEEPS: usize = 10_000;
/// Slow changes are slower than everything by so much.
const SLOW: f64 = 1e-6;

/// Singular values and relative gains over frequency.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InteractionCurves {
    /// Angular frequencies in rad/s.
    pub omega: Vec<f64>,
    /// Singular values in %/%, the largest first: a curve each.
    pub singular_values: Vec<Vec<f64>>,
    /// The largest over the smallest; null where nothing comes through in a direction.
    pub condition_number: Vec<Option<f64>>,
    /// Sizes of the relative gains: by output, by input, over frequency.
    pub relative_gains: Vec<Vec<Vec<f64>>>,
}

impl InteractionCurves {
    /// From far below the slowest part of a matrix to above its fastest.
    pub(super) fn new(matrix: &TransferMatrix) -> Self {
        let count = matrix.outputs();
        let mut curves = Self {
            singular_values: vec![Vec::new(); count],
            relative_gains: vec![vec![Vec::new(); count]; count],
            ..Self::default()
        };
        let (low, high) = reach(matrix);
        for k in 0..POINTS {
            crate::work::go_on();
            let omega = low * (high / low).powf(k as f64 / (POINTS - 1) as f64);
            let Some(value) = matrix.response(omega) else { continue };
            let Some(sizes) = singular_values(&value) else { continue };
            let Some(inverse) = value.clone().try_inverse() else { continue };
            curves.omega.push(omega);
            curves.condition_number.push(ratio(&sizes));
            for (curve, size) in curves.singular_values.iter_mut().zip(sizes) {
                curve.push(size);
            }
            let relative = value.component_mul(&inverse.transpose());
            for (i, row) in curves.relative_gains.iter_mut().enumerate() {
                for (j, curve) in row.iter_mut().enumerate() {
                    curve.push(relative[(i, j)].norm());
                }
            }
        }
        curves
    }
}

/// Lowest and highest frequency worth looking at, in rad/s.
fn reach(matrix: &TransferMatrix) -> (f64, f64) {
    let sizes: Vec<f64> = matrix.poles().iter().map(|pole| pole.norm()).filter(|size| *size > 1e-12).collect();
    let slowest = sizes.iter().copied().fold(f64::MAX, f64::min);
    let fastest = sizes.iter().copied().fold(0.0, f64::max);
    if fastest == 0.0 {
        return (1e-4, 1.0);
    }
    let late = matrix.longest_dead_time();
    // Beyond the dead time nothing is controlled; a fast part of a sensor is of no interest there.
    let high = if late > 0.0 { (6.0 / late).clamp(10.0 * slowest, 10.0 * fastest) } else { 10.0 * fastest };
    (0.02 * slowest, high.max(2.0 * slowest))
}

/// Singular values, the largest first.
pub(super) fn singular_values(value: &DMatrix<Complex64>) -> Option<Vec<f64>> {
    let decomposed = value.clone().try_svd(false, false, f64::EPSILON, MOST_SWEEPS)?;
    let mut sizes: Vec<f64> = decomposed.singular_values.iter().copied().collect();
    sizes.sort_by(|a, b| b.total_cmp(a));
    Some(sizes)
}

/// The largest over the smallest; None where the smallest is nothing.
pub(super) fn ratio(sizes: &[f64]) -> Option<f64> {
    let (largest, smallest) = (sizes.first()?, sizes.last()?);
    (*smallest > 1e-12 * largest).then(|| largest / smallest)
}

/// The matrix under changes far slower than everything.
pub(super) fn slow(matrix: &TransferMatrix) -> Option<DMatrix<Complex64>> {
    matrix.response(SLOW * reach(matrix).0)
}
