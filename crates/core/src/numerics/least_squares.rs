//! Non-linear least squares over any number of samples in constant memory.
//!
//! The Levenberg–Marquardt method sees the data only through `JᵀJ`, `Jᵀr` and `‖r‖`. One pass over the samples
//! adds these up ([`NormalEquations`]); their Cholesky factor is a small problem of `P + 1` rows that has the same
//! three products and so makes the same steps ([`Compressed`]). The solver is the crate `levenberg-marquardt`, which
//! follows MINPACK (Moré, 1978).

use levenberg_marquardt::{LeastSquaresProblem, LevenbergMarquardt};
use nalgebra::{Const, DMatrix, Owned, SMatrix, SVector};

/// The sums `Σ g gᵀ` with `g = (∂r/∂p₁ … ∂r/∂p_P, r)` over all samples; `Q` must be `P + 1`.
#[derive(Debug, Clone)]
pub struct NormalEquations<const Q: usize> {
    gram: [[f64; Q]; Q],
    samples: usize,
}

impl<const Q: usize> Default for NormalEquations<Q> {
    fn default() -> Self {
        Self { gram: [[0.0; Q]; Q], samples: 0 }
    }
}

impl<const Q: usize> NormalEquations<Q> {
    /// Adds one sample: its derivatives, then its residual.
    #[inline]
    pub fn add(&mut self, row: &[f64; Q]) {
        for i in 0..Q {
            for j in 0..=i {
                self.gram[i][j] += row[i] * row[j];
            }
        }
        self.samples += 1;
    }

    /// The sums that rows `map · row` would have given: each new column is a combination of the old ones.
    #[must_use]
    pub fn transformed<const R: usize>(&self, map: &[[f64; Q]; R]) -> NormalEquations<R> {
        let at = |i: usize, j: usize| self.gram[i.max(j)][i.min(j)];
        let mut gram = [[0.0; R]; R];
        for i in 0..R {
            for j in 0..=i {
                let terms = (0..Q).flat_map(|k| (0..Q).map(move |l| (k, l)));
                gram[i][j] = terms.map(|(k, l)| map[i][k] * map[j][l] * at(k, l)).sum();
            }
        }
        NormalEquations { gram, samples: self.samples }
    }

    /// Number of samples added.
    #[must_use]
    pub fn samples(&self) -> usize {
        self.samples
    }

    /// Sum of squared residuals.
    #[must_use]
    pub fn sum_of_squares(&self) -> f64 {
        self.gram[Q - 1][Q - 1]
    }

    /// Makes the problem insensitive to parameter `index`, which so keeps its value.
    pub fn hold(&mut self, index: usize) {
        for other in 0..Q {
            self.gram[index.max(other)][index.min(other)] = 0.0;
        }
    }

    /// The small triangular problem with the same `JᵀJ`, `Jᵀr` and `‖r‖`.
    #[must_use]
    pub fn compress<const P: usize>(&self) -> Compressed<P, Q> {
        // Cholesky G = L Lᵀ; a column without a pivot of its own (a parameter that does not act) is left empty.
        let mut lower = SMatrix::<f64, Q, Q>::zeros();
        for j in 0..Q {
            let rest = self.gram[j][j] - (0..j).map(|k| lower[(j, k)] * lower[(j, k)]).sum::<f64>();
            if rest <= 1e-15 * self.gram[j][j] || !rest.is_finite() {
                continue;
            }
            lower[(j, j)] = rest.sqrt();
            for i in j + 1..Q {
                let sum: f64 = (0..j).map(|k| lower[(i, k)] * lower[(j, k)]).sum();
                lower[(i, j)] = (self.gram[i][j] - sum) / lower[(j, j)];
            }
        }
        let upper = lower.transpose();
        Compressed { jacobian: upper.fixed_columns::<P>(0).into_owned(), residual: upper.column(Q - 1).into_owned() }
    }

    /// Reads the rows as `(φ₁ … φ_P, y)`: the coefficients of the linear least-squares fit of `y` by the `φ`, and the
    /// sum of squares that remains. None when the `φ` are not independent.
    #[must_use]
    pub fn linear_solution<const P: usize>(&self) -> Option<([f64; P], f64)> {
        let Compressed { jacobian, residual } = self.compress::<P>();
        let mut solution = [0.0; P];
        for i in (0..P).rev() {
            let known: f64 = (i + 1..P).map(|j| jacobian[(i, j)] * solution[j]).sum();
            if jacobian[(i, i)] == 0.0 {
                return None;
            }
            solution[i] = (residual[i] - known) / jacobian[(i, i)];
        }
        Some((solution, residual[Q - 1] * residual[Q - 1]))
    }

    /// `(JᵀJ)⁻¹`, the covariance of the parameters for residuals of unit variance; `held` parameters and those without
    /// any effect are left out, with 0 in their place.
    ///
    /// None when the data do not tell the others apart.
    #[must_use]
    pub fn inverse<const P: usize>(&self, held: &[usize]) -> Option<SMatrix<f64, P, P>> {
        let free: Vec<usize> =
            (0..P).filter(|index| !held.contains(index) && self.gram[*index][*index] > 0.0).collect();
        let scale: Vec<f64> = free.iter().map(|&i| self.gram[i][i].sqrt()).collect();
        let scaled = DMatrix::from_fn(free.len(), free.len(), |i, j| {
            self.gram[free[i].max(free[j])][free[i].min(free[j])] / (scale[i] * scale[j])
        });
        let inverse = scaled.cholesky()?.inverse();
        let mut covariance = SMatrix::zeros();
        for i in 0..free.len() {
            for j in 0..free.len() {
                covariance[(free[i], free[j])] = inverse[(i, j)] / (scale[i] * scale[j]);
            }
        }
        Some(covariance)
    }
}

/// A least-squares problem of `P` parameters and `Q = P + 1` rows.
#[derive(Debug, Clone)]
pub struct Compressed<const P: usize, const Q: usize> {
    /// Derivatives of the residuals.
    pub jacobian: SMatrix<f64, Q, P>,
    /// The residuals.
    pub residual: SVector<f64, Q>,
}

/// Where the minimisation ended.
#[derive(Debug, Clone)]
pub struct Outcome<const P: usize> {
    /// The parameters there.
    pub parameters: [f64; P],
    /// Sum of squared residuals there.
    pub sum_of_squares: f64,
    /// Whether the solver's convergence test was met.
    pub converged: bool,
}

struct Problem<F, const P: usize, const Q: usize> {
    parameters: SVector<f64, P>,
    current: Option<Compressed<P, Q>>,
    evaluate: F,
}

impl<F, const P: usize, const Q: usize> LeastSquaresProblem<f64, Const<Q>, Const<P>> for Problem<F, P, Q>
where
    F: FnMut(&[f64; P]) -> Option<Compressed<P, Q>>,
{
    type ResidualStorage = Owned<f64, Const<Q>>;
    type JacobianStorage = Owned<f64, Const<Q>, Const<P>>;
    type ParameterStorage = Owned<f64, Const<P>>;

    fn set_params(&mut self, parameters: &SVector<f64, P>) {
        self.parameters = *parameters;
        self.current = (self.evaluate)(&self.parameters.data.0[0]);
    }

    fn params(&self) -> SVector<f64, P> {
        self.parameters
    }

    fn residuals(&self) -> Option<SVector<f64, Q>> {
        self.current.as_ref().map(|problem| problem.residual)
    }

    fn jacobian(&self) -> Option<SMatrix<f64, Q, P>> {
        self.current.as_ref().map(|problem| problem.jacobian)
    }
}

/// Minimises the sum of squares from `start`, until a step changes it by less than the relative `tolerance`; `evaluate` gives
/// the compressed problem at given parameters, or None where there is no answer.
pub fn minimise<const P: usize, const Q: usize>(
    start: [f64; P],
    tolerance: f64,
    mut evaluate: impl FnMut(&[f64; P]) -> Option<Compressed<P, Q>>,
) -> Outcome<P>
where
    Const<Q>: nalgebra::DimMin<Const<P>, Output = Const<P>> + nalgebra::DimMax<Const<P>, Output = Const<Q>>,
    Const<P>: nalgebra::DimMin<Const<P>, Output = Const<P>> + nalgebra::DimMax<Const<P>, Output = Const<P>>,
{
    let parameters = SVector::from(start);
    let current = evaluate(&start);
    let problem = Problem { parameters, current, evaluate };
    let (problem, report) = LevenbergMarquardt::new().with_tol(tolerance).with_patience(10).minimize(problem);
    Outcome {
        parameters: problem.parameters.data.0[0],
        sum_of_squares: 2.0 * report.objective_function,
        converged: report.termination.was_successful(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Misra1a of the NIST Statistical Reference Datasets (non-linear regression, lower difficulty):
    /// y = b1 (1 − exp(−b2 x)); certified b1 = 238.94212918, b2 = 5.5015643181e-4, residual sum of squares 0.12455138894,
    /// standard deviations 2.7070075241 and 7.2668688436e-6.
    #[test]
    fn nist_misra1a() {
        let x = [77.6, 114.9, 141.1, 190.8, 239.9, 289.0, 332.8, 378.4, 434.8, 477.3, 536.8, 593.1, 689.1, 760.0];
        let y = [10.07, 14.73, 17.94, 23.93, 29.61, 35.18, 40.02, 44.82, 50.76, 55.05, 61.01, 66.40, 75.47, 81.78];
        let equations = |p: &[f64; 2]| {
            let mut sums = NormalEquations::<3>::default();
            for (x, y) in x.iter().zip(y) {
                let decay = (-p[1] * x).exp();
                sums.add(&[1.0 - decay, p[0] * x * decay, p[0] * (1.0 - decay) - y]);
            }
            sums
        };
        let outcome = minimise([250.0, 5e-4], 1e-10, |p| Some(equations(p).compress()));
        assert!(outcome.converged);
        assert!((outcome.parameters[0] / 238.942_129_18 - 1.0).abs() < 1e-7);
        assert!((outcome.parameters[1] / 5.501_564_318_1e-4 - 1.0).abs() < 1e-7);
        assert!((outcome.sum_of_squares / 0.124_551_388_94 - 1.0).abs() < 1e-8);
        let at_end = equations(&outcome.parameters);
        let variance = at_end.sum_of_squares() / (at_end.samples() - 2) as f64;
        let covariance = at_end.inverse::<2>(&[]).unwrap() * variance;
        assert!((covariance[(0, 0)].sqrt() / 2.707_007_524_1 - 1.0).abs() < 1e-6);
        assert!((covariance[(1, 1)].sqrt() / 7.266_868_843_6e-6 - 1.0).abs() < 1e-6);
    }

    #[test]
    fn transformed_sums_are_those_of_transformed_rows() {
        let (mut plain, mut combined) = (NormalEquations::<3>::default(), NormalEquations::<2>::default());
        for k in 0..20 {
            let row = [f64::from(k), f64::from(k * k % 7), 1.0];
            plain.add(&row);
            combined.add(&[row[0] - 2.0 * row[1], row[2]]);
        }
        let transformed = plain.transformed(&[[1.0, -2.0, 0.0], [0.0, 0.0, 1.0]]);
        assert_eq!(transformed.gram, combined.gram);
    }

    #[test]
    fn what_the_data_do_not_tell_has_no_covariance() {
        let mut sums = NormalEquations::<3>::default();
        for k in 0..10 {
            sums.add(&[f64::from(k), 2.0 * f64::from(k), 1.0]);
        }
        assert!(sums.inverse::<2>(&[]).is_none());
        assert!(sums.inverse::<2>(&[1]).is_some());
    }
}
