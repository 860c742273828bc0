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
    // Inputs and outputs scaled alike, so that the rows of the pencil are.
    let (b, c) = (b / b.norm().max(f64::MIN_POSITIVE) * size, c / c.norm().max(f64::MIN_POSITIVE) * size);
    let d = d.clone();
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
}
