//! Roots of polynomials.

use nalgebra::DMatrix;
use num_complex::Complex64;

/// Roots of `zⁿ + t₁ zⁿ⁻¹ + … + tₙ`, as eigenvalues of the companion matrix; roots at 0 included.
#[must_use]
pub fn roots(tail: &[f64]) -> Vec<Complex64> {
    // Trailing zeros are roots at 0, which the eigenvalues would give only roughly.
    let length = tail.iter().rposition(|value| *value != 0.0).map_or(0, |last| last + 1);
    let mut found = vec![Complex64::ZERO; tail.len() - length];
    if length > 0 {
        let companion = DMatrix::from_fn(length, length, |i, j| {
            if i == 0 {
                -tail[j]
            } else if i == j + 1 {
                1.0
            } else {
                0.0
            }
        });
        found.extend(eigenvalues(companion));
    }
    found
}

/// Eigenvalues of a square matrix; none where it is not finite.
#[must_use]
pub fn eigenvalues(matrix: DMatrix<f64>) -> Vec<Complex64> {
    if matrix.iter().any(|value| !value.is_finite()) {
        return Vec::new();
    }
    match nalgebra::linalg::Schur::try_new(matrix, f64::EPSILON, 10_000) {
        Some(schur) => schur.complex_eigenvalues().iter().copied().collect(),
        None => Vec::new(),
    }
}

/// Largest modulus of the roots of `zⁿ + t₁ zⁿ⁻¹ + …`; 0 with none, infinite where the coefficients are not finite.
#[must_use]
pub fn largest_root(tail: &[f64]) -> f64 {
    if tail.iter().any(|value| !value.is_finite()) {
        return f64::INFINITY;
    }
    roots(tail).iter().map(|root| root.norm()).fold(0.0, f64::max)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roots_of_known_polynomials() {
        // (z − 0.5)(z + 2)(z² + 1) z = z⁵ + 1.5 z⁴ + 0 z³ + 1.5 z² − z
        let mut found = roots(&[1.5, 0.0, 1.5, -1.0, 0.0]);
        found.sort_by(|a, b| a.re.total_cmp(&b.re));
        assert!(
            (found[0].re + 2.0).abs() < 1e-12 && (found[4].re - 0.5).abs() < 1e-12 && found.contains(&Complex64::ZERO)
        );
        assert!((found[1].norm() - 1.0).abs() < 1e-12 || (found[2].norm() - 1.0).abs() < 1e-12);
        assert_eq!(roots(&[]).len(), 0);
        assert!((largest_root(&[0.0, -0.25]) - 0.5).abs() < 1e-14);
        assert_eq!(largest_root(&[f64::NAN]), f64::INFINITY);
    }
}
