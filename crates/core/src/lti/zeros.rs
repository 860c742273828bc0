//! Zeros of a linear system.

use crate::numerics::eigenvalues;
use nalgebra::DMatrix;
use num_complex::Complex64;

/// The finite transmission zeros of `x' = A x + B u`, `y = C x + D u` with as many outputs as inputs, in 1/s.
///
/// They are where the system matrix `[A − sI, B; C, D]` loses rank (Rosenbrock, State-space and Multivariable Theory,
/// 1970): the finite eigenvalues of a pencil, which are found by inverting it about a point that is none of them.
#[must_use]
pub fn transmission_zeros(a: &DMatrix<f64>, b: &DMatrix<f64>, c: &DMatrix<f64>, d: &DMatrix<f64>) -> Vec<Complex64> {
    let (n, m) = (a.nrows(), b.ncols());
    if c.nrows() != m || n == 0 {
        return Vec::new();
    }
    let size = a.norm().max(f64::MIN_POSITIVE);
    // Inputs and outputs are scaled so that the rows of the pencil are alike; what goes straight through is scaled by both.
    let scale = |matrix: &DMatrix<f64>| {
        let norm = matrix.norm();
        if norm > 0.0 { size / norm } else { 1.0 }
    };
    let (of_inputs, of_outputs) = (scale(b), scale(c));
    let (b, c, d) = (b * of_inputs, c * of_outputs, d * (of_inputs * of_outputs));
    let shift = 0.618 * size;
    let mut pencil = DMatrix::zeros(n + m, n + m);
    pencil.view_mut((0, 0), (n, n)).copy_from(&(a - DMatrix::identity(n, n) * shift));
    pencil.view_mut((0, n), (n, m)).copy_from(&b);
    pencil.view_mut((n, 0), (m, n)).copy_from(&c);
    pencil.view_mut((n, n), (m, m)).copy_from(&d);
    let mut states = DMatrix::zeros(n + m, n + m);
    for i in 0..n {
        states[(i, i)] = 1.0;
    }
    let Some(inverted) = pencil.lu().solve(&states) else { return Vec::new() };
    let top = inverted.view((0, 0), (n, n)).into_owned();
    eigenvalues(top)
        .into_iter()
        .filter(|inverse| inverse.norm() * size > 1e-4)
        .map(|inverse| shift + inverse.inv())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde::Deserialize;

    #[test]
    fn zeros_of_a_known_transfer_function() {
        // (s − 3)(s + 2)/((s + 1)(s + 4)(s + 5)) = (s² − s − 6)/(s³ + 10 s² + 29 s + 20), controllable form.
        let a = DMatrix::from_row_slice(3, 3, &[0.0, 1.0, 0.0, 0.0, 0.0, 1.0, -20.0, -29.0, -10.0]);
        let b = DMatrix::from_column_slice(3, 1, &[0.0, 0.0, 1.0]);
        let c = DMatrix::from_row_slice(1, 3, &[-6.0, -1.0, 1.0]);
        let mut zeros = transmission_zeros(&a, &b, &c, &DMatrix::zeros(1, 1));
        zeros.sort_by(|a, b| a.re.total_cmp(&b.re));
        assert_eq!(zeros.len(), 2);
        assert!((zeros[0].re + 2.0).abs() < 1e-9 && (zeros[1].re - 3.0).abs() < 1e-9, "{zeros:?}");
        let none = transmission_zeros(&a, &b, &DMatrix::from_row_slice(1, 3, &[1.0, 0.0, 0.0]), &DMatrix::zeros(1, 1));
        assert!(none.is_empty(), "{none:?}");
    }

    /// Made by `reference/zeros.py` with SciPy.
    #[derive(Deserialize)]
    struct Known {
        a: Vec<Vec<f64>>,
        b: Vec<Vec<f64>>,
        c: Vec<Vec<f64>>,
        d: Vec<Vec<f64>>,
        zeros: Vec<[f64; 2]>,
    }

    fn matrix(rows: &[Vec<f64>]) -> DMatrix<f64> {
        DMatrix::from_fn(rows.len(), rows[0].len(), |i, j| rows[i][j])
    }

    #[test]
    fn random_systems_with_feed_through_have_the_zeros_that_scipy_finds() {
        let all: Vec<Known> = serde_json::from_str(include_str!("../../../../reference/data/zeros.json")).unwrap();
        let (mut with_feed_through, mut in_right_half) = (0, 0);
        for (k, known) in all.iter().enumerate() {
            let d = matrix(&known.d);
            let found = transmission_zeros(&matrix(&known.a), &matrix(&known.b), &matrix(&known.c), &d);
            assert_eq!(found.len(), known.zeros.len(), "system {k}: {found:?} for {:?}", known.zeros);
            let largest = known.zeros.iter().map(|z| z[0].hypot(z[1])).fold(0.0, f64::max);
            for [re, im] in &known.zeros {
                let zero = Complex64::new(*re, *im);
                let nearest = found.iter().map(|own| (own - zero).norm()).fold(f64::MAX, f64::min);
                assert!(nearest < 1e-7 * largest, "system {k}: {zero} is not among {found:?}");
                in_right_half += usize::from(*re > 0.0);
            }
            with_feed_through += usize::from(d.norm() > 0.0);
        }
        assert!(
            all.len() > 150 && with_feed_through > 100 && in_right_half > 50,
            "{} {with_feed_through} {in_right_half}",
            all.len()
        );
    }

    #[test]
    fn a_lead_over_a_lag_has_its_own_zero() {
        // (30 s + 2)/(10 s + 1) = 3 − 1/(10 s + 1).
        let one = |value: f64| DMatrix::from_element(1, 1, value);
        let zeros = transmission_zeros(&one(-0.1), &one(0.1), &one(-1.0), &one(3.0));
        assert!(zeros.len() == 1 && (zeros[0] + 2.0 / 30.0).norm() < 1e-12, "{zeros:?}");
    }
}
