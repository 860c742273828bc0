//! The discrete algebraic Riccati equation.

use nalgebra::DMatrix;

/// Doublings after which an equation that has a solution is long solved: each squares what is left.
const MOST_DOUBLINGS: usize = 60;
/// What is left of states that have settled.
const SETTLED: f64 = 1e-7;
/// Share of the solution by which the equation may be missed.
const MISSED: f64 = 1e-8;

/// The stabilising solution of `X = AᵀXA − AᵀXB (R + BᵀXB)⁻¹ BᵀXA + Q`, for Q symmetric and not negative and R positive.
///
/// By structure-preserving doubling (Chu, Fan, Lin & Wang, International Journal of Control 77, 2004, algorithm from memory): the
/// solution after 2ᵏ steps of the recursion follows from that after 2ᵏ⁻¹. None where it finds no such solution: something that neither
/// settles nor can be moved, or that does not settle and costs nothing.
#[must_use]
pub fn riccati(a: &DMatrix<f64>, b: &DMatrix<f64>, q: &DMatrix<f64>, r: &DMatrix<f64>) -> Option<DMatrix<f64>> {
    let n = a.nrows();
    let of_inputs = r.clone().cholesky()?;
    let (mut phi, mut g, mut h) = (a.clone(), b * of_inputs.solve(&b.transpose()), q.clone());
    for _ in 0..MOST_DOUBLINGS {
        let between = (DMatrix::identity(n, n) + &g * &h).lu();
        let (through, spread) = (between.solve(&phi)?, between.solve(&g)?);
        let gained = phi.transpose() * &h * &through;
        g += &phi * spread * phi.transpose();
        phi = &phi * through;
        h += &gained;
        symmetrise(&mut g);
        symmetrise(&mut h);
        if !h.iter().all(|value| value.is_finite()) {
            return None;
        }
        // What is left of the closed loop's states after so many steps must have died down, too: else it is not the stabilising one.
        if gained.amax() <= 1e-15 * h.amax() && phi.amax() <= SETTLED {
            let missed = (&h - recursion(a, b, q, r, &h)?).amax();
            return (missed <= MISSED * h.amax().max(f64::MIN_POSITIVE)).then_some(h);
        }
    }
    None
}

/// The gain `K = (R + BᵀXB)⁻¹ BᵀXA` of the law `u = −K x` that a solution `X` belongs to.
#[must_use]
pub fn regulator_gain(a: &DMatrix<f64>, b: &DMatrix<f64>, r: &DMatrix<f64>, x: &DMatrix<f64>) -> Option<DMatrix<f64>> {
    let carried = b.transpose() * x;
    Some((r + &carried * b).cholesky()?.solve(&(carried * a)))
}

/// One step of the recursion from `x`.
fn recursion(
    a: &DMatrix<f64>,
    b: &DMatrix<f64>,
    q: &DMatrix<f64>,
    r: &DMatrix<f64>,
    x: &DMatrix<f64>,
) -> Option<DMatrix<f64>> {
    let gain = regulator_gain(a, b, r, x)?;
    Some(a.transpose() * x * (a - b * gain) + q)
}

/// The mean of a matrix and its transpose, in its place.
pub(crate) fn symmetrise(matrix: &mut DMatrix<f64>) {
    for i in 0..matrix.nrows() {
        for j in 0..i {
            let mean = 0.5 * (matrix[(i, j)] + matrix[(j, i)]);
            (matrix[(i, j)], matrix[(j, i)]) = (mean, mean);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `x = a² x − a² x² b²/(r + b² x) + q`, a quadratic equation (exact mathematics).
    #[test]
    fn one_state_is_the_root_of_a_quadratic_equation() {
        for (a, b, q, r) in [(0.9, 0.5, 1.0, 0.2), (1.0, 1.0, 1.0, 1.0), (1.7, 0.3, 0.1, 2.0), (-1.1, 2.0, 0.4, 0.1)] {
            let one = |value: f64| DMatrix::from_element(1, 1, value);
            let x = riccati(&one(a), &one(b), &one(q), &one(r)).unwrap()[0];
            // b² x² + (r − a² r − q b²) x − q r = 0, the larger root.
            let (p, c) = (r - a * a * r - q * b * b, q * r);
            let root = (-p + (p * p + 4.0 * b * b * c).sqrt()) / (2.0 * b * b);
            assert!((x - root).abs() < 1e-10 * root.max(1.0), "{a} {b} {q} {r}: {x} {root}");
            let gain = regulator_gain(&one(a), &one(b), &one(r), &one(x)).unwrap()[0];
            assert!((a - b * gain).abs() < 1.0, "not stable: {a} {b}");
        }
    }

    #[test]
    fn what_cannot_be_moved_and_does_not_settle_has_none() {
        let a = DMatrix::from_row_slice(2, 2, &[1.2, 0.0, 0.0, 0.5]);
        let b = DMatrix::from_row_slice(2, 1, &[0.0, 1.0]);
        let unit = DMatrix::identity(2, 2);
        assert!(riccati(&a, &b, &unit, &DMatrix::identity(1, 1)).is_none());
        // An integrator that costs nothing is never brought back.
        let one = |value: f64| DMatrix::from_element(1, 1, value);
        assert!(riccati(&one(1.0), &one(1.0), &one(0.0), &one(1.0)).is_none());
        // Nor is what runs away: the least solution, 0, would leave it alone.
        assert!(riccati(&one(1.7), &one(0.3), &one(0.0), &one(2.0)).is_none());
        // What settles by itself and costs nothing is left alone.
        assert_eq!(riccati(&one(0.9), &one(1.0), &one(0.0), &one(1.0)).unwrap()[0], 0.0);
    }
}
