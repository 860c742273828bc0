//! Non-linear least squares over any number of samples in constant memory.
//!
//! The Levenberg–Marquardt method sees the data only through `JᵀJ`, `Jᵀr` and `‖r‖`. One pass over the samples
//! adds these up ([`NormalEquations`]); their Cholesky factor is a small problem of one row more than it has
//! parameters, with
//! the same three products, and so makes the same steps ([`Compressed`]). The solver is the crate
//! `levenberg-marquardt`,
//! which follows MINPACK (Moré, 1978).

use crate::work::go_on;
use levenberg_marquardt::{LeastSquaresProblem, LevenbergMarquardt};
use nalgebra::{DMatrix, DVector, Dyn, Owned};

/// The sums `Σ g gᵀ` with `g = (∂r/∂p₁ … ∂r/∂p_P, r)` over all samples.
#[derive(Debug, Clone)]
pub struct NormalEquations {
    width: usize,
    gram: Vec<f64>,
    samples: usize,
}

impl NormalEquations {
    /// No samples yet, of `parameters` derivatives and a residual each.
    #[must_use]
    pub fn new(parameters: usize) -> Self {
        let width = parameters + 1;
        Self { width, gram: vec![0.0; width * width], samples: 0 }
    }

    /// Adds one sample: its derivatives, then its residual.
    #[inline]
    pub fn add(&mut self, row: &[f64]) {
        debug_assert_eq!(row.len(), self.width);
        self.samples += 1;
        // With a width that is known the sums of the usual fits are added up side by side.
        match self.width {
            3 => return self.add_row::<3>(row),
            4 => return self.add_row::<4>(row),
            5 => return self.add_row::<5>(row),
            6 => return self.add_row::<6>(row),
            7 => return self.add_row::<7>(row),
            8 => return self.add_row::<8>(row),
            _ => {}
        }
        for (i, (&left, sums)) in row.iter().zip(self.gram.chunks_exact_mut(self.width)).enumerate() {
            for (sum, &right) in sums[..=i].iter_mut().zip(&row[..=i]) {
                *sum += left * right;
            }
        }
    }

    /// Adds rows that stand one after the other; together they are added up faster than one by one.
    pub fn add_rows(&mut self, rows: &[f64]) {
        debug_assert_eq!(rows.len() % self.width, 0);
        match self.width {
            4 => self.add_block::<4>(rows),
            5 => self.add_block::<5>(rows),
            6 => self.add_block::<6>(rows),
            7 => self.add_block::<7>(rows),
            8 => self.add_block::<8>(rows),
            9 => self.add_block::<9>(rows),
            10 => self.add_block::<10>(rows),
            width => rows.chunks_exact(width).for_each(|row| self.add(row)),
        }
    }

    /// Sums of a few rows are held in registers before they go where they belong.
    fn add_block<const N: usize>(&mut self, rows: &[f64]) {
        let (rows, _) = rows.as_chunks::<N>();
        self.samples += rows.len();
        for (i, sums) in self.gram.chunks_exact_mut(N).enumerate() {
            let mut block = [0.0; N];
            for row in rows {
                for j in 0..N {
                    block[j] += row[i] * row[j];
                }
            }
            sums.iter_mut().zip(block).for_each(|(sum, more)| *sum += more);
        }
    }

    #[inline]
    fn add_row<const N: usize>(&mut self, row: &[f64]) {
        let Some(row) = row.first_chunk::<N>() else { return };
        for (left, sums) in row.iter().zip(self.gram.chunks_exact_mut(N)) {
            if let Some(sums) = sums.first_chunk_mut::<N>() {
                for j in 0..N {
                    sums[j] += left * row[j];
                }
            }
        }
    }

    fn at(&self, i: usize, j: usize) -> f64 {
        self.gram[i.max(j) * self.width + i.min(j)]
    }

    /// Number of parameters.
    #[must_use]
    pub fn parameters(&self) -> usize {
        self.width - 1
    }

    /// Number of samples added.
    #[must_use]
    pub fn samples(&self) -> usize {
        self.samples
    }

    /// Sum of squared residuals.
    #[must_use]
    pub fn sum_of_squares(&self) -> f64 {
        self.at(self.width - 1, self.width - 1)
    }

    /// Makes the problem insensitive to parameter `index`, which so keeps its value.
    pub fn hold(&mut self, index: usize) {
        for other in 0..self.width {
            self.gram[index.max(other) * self.width + index.min(other)] = 0.0;
        }
    }

    /// The sums over some of the columns only, the residual always being the last.
    #[must_use]
    pub fn selected(&self, columns: &[usize]) -> Self {
        let mut chosen = Self { samples: self.samples, ..Self::new(columns.len()) };
        let all: Vec<usize> = columns.iter().copied().chain([self.width - 1]).collect();
        for (i, &from_i) in all.iter().enumerate() {
            for (j, &from_j) in all[..=i].iter().enumerate() {
                chosen.gram[i * chosen.width + j] = self.at(from_i, from_j);
            }
        }
        chosen
    }

    /// Adds the sums of a part of the samples, whose parameters stand at these places here.
    pub fn add_at(&mut self, places: &[usize], part: &Self) {
        let all: Vec<usize> = places.iter().copied().chain([self.width - 1]).collect();
        for (i, &to_i) in all.iter().enumerate() {
            for (j, &to_j) in all[..=i].iter().enumerate() {
                self.gram[to_i.max(to_j) * self.width + to_i.min(to_j)] += part.at(i, j);
            }
        }
        self.samples += part.samples;
    }

    /// The sums over rows whose last entry is less these multiples of other columns.
    #[must_use]
    pub fn less(&self, known: &[(usize, f64)]) -> Self {
        let mut reduced = self.clone();
        let last = self.width - 1;
        for &(column, factor) in known {
            let before = reduced.clone();
            for other in 0..last {
                reduced.gram[last * self.width + other] -= factor * before.at(column, other);
            }
            reduced.gram[last * self.width + last] +=
                factor * (factor * before.at(column, column) - 2.0 * before.at(column, last));
        }
        reduced
    }

    /// `JᵀJ`.
    #[must_use]
    pub fn information(&self) -> DMatrix<f64> {
        DMatrix::from_fn(self.width - 1, self.width - 1, |i, j| self.at(i, j))
    }

    /// The small triangular problem with the same `JᵀJ`, `Jᵀr` and `‖r‖`.
    #[must_use]
    pub fn compress(&self) -> Compressed {
        // Cholesky G = L Lᵀ; a column without a pivot of its own (a parameter that does not act) is left empty.
        if self.gram.iter().any(|sum| !sum.is_finite()) {
            return Compressed::hopeless(self.parameters());
        }
        let n = self.width;
        let mut lower = DMatrix::<f64>::zeros(n, n);
        for j in 0..n {
            let rest = self.at(j, j) - (0..j).map(|k| lower[(j, k)] * lower[(j, k)]).sum::<f64>();
            if rest <= 1e-15 * self.at(j, j) || !rest.is_finite() {
                continue;
            }
            lower[(j, j)] = rest.sqrt();
            for i in j + 1..n {
                let sum: f64 = (0..j).map(|k| lower[(i, k)] * lower[(j, k)]).sum();
                lower[(i, j)] = (self.at(i, j) - sum) / lower[(j, j)];
            }
        }
        let upper = lower.transpose();
        Compressed { jacobian: upper.columns(0, n - 1).into_owned(), residual: upper.column(n - 1).into_owned() }
    }

    /// Reads the rows as `(φ₁ … φ_P, y)`: the coefficients of the linear least-squares fit of `y` by the `φ`, and the
    /// sum of squares that remains. None when the `φ` are not independent.
    #[must_use]
    pub fn linear_solution(&self) -> Option<(Vec<f64>, f64)> {
        let Compressed { jacobian, residual } = self.compress();
        let parameters = self.parameters();
        let mut solution = vec![0.0; parameters];
        for i in (0..parameters).rev() {
            let known: f64 = (i + 1..parameters).map(|j| jacobian[(i, j)] * solution[j]).sum();
            if jacobian[(i, i)] == 0.0 {
                return None;
            }
            solution[i] = (residual[i] - known) / jacobian[(i, i)];
        }
        Some((solution, residual[parameters] * residual[parameters]))
    }

    /// `(JᵀJ)⁻¹`, the covariance of the parameters for residuals of unit variance; `held` parameters and those without
    /// any effect are left out, with 0 in their place.
    ///
    /// None when the data do not tell the others apart.
    #[must_use]
    pub fn inverse(&self, held: &[usize]) -> Option<DMatrix<f64>> {
        let parameters = self.parameters();
        let free: Vec<usize> =
            (0..parameters).filter(|index| !held.contains(index) && self.at(*index, *index) > 0.0).collect();
        let scale: Vec<f64> = free.iter().map(|&i| self.at(i, i).sqrt()).collect();
        let scaled = DMatrix::from_fn(free.len(), free.len(), |i, j| self.at(free[i], free[j]) / (scale[i] * scale[j]));
        let inverse = scaled.cholesky()?.inverse();
        let mut covariance = DMatrix::zeros(parameters, parameters);
        for i in 0..free.len() {
            for j in 0..free.len() {
                covariance[(free[i], free[j])] = inverse[(i, j)] / (scale[i] * scale[j]);
            }
        }
        Some(covariance)
    }
}

/// Rows that wait to be added up together.
pub struct RowBlock {
    rows: Vec<f64>,
    filled: usize,
}

impl RowBlock {
    /// How many.
    const ROWS: usize = 16;

    /// Of rows of this width.
    #[must_use]
    pub fn new(width: usize) -> Self {
        Self { rows: vec![0.0; Self::ROWS * width], filled: 0 }
    }

    /// Adds a row, now or later.
    #[inline]
    pub fn put(&mut self, row: &[f64], sums: &mut NormalEquations) {
        let place = &mut self.rows[self.filled..self.filled + row.len()];
        // Of a width that is known a copy is a few moves; else it is a call.
        match row.len() {
            5 => copied::<5>(row, place),
            6 => copied::<6>(row, place),
            7 => copied::<7>(row, place),
            8 => copied::<8>(row, place),
            _ => place.copy_from_slice(row),
        }
        self.filled += row.len();
        if self.filled == self.rows.len() {
            self.flush(sums);
        }
    }

    /// Adds what waits.
    pub fn flush(&mut self, sums: &mut NormalEquations) {
        sums.add_rows(&self.rows[..self.filled]);
        self.filled = 0;
    }
}

#[inline]
fn copied<const N: usize>(row: &[f64], place: &mut [f64]) {
    if let (Some(row), Some(place)) = (row.first_chunk::<N>(), place.first_chunk_mut::<N>()) {
        *place = *row;
    }
}

/// A least-squares problem of one row more than it has parameters.
#[derive(Debug, Clone)]
pub struct Compressed {
    /// Derivatives of the residuals.
    pub jacobian: DMatrix<f64>,
    /// The residuals.
    pub residual: DVector<f64>,
}

impl Compressed {
    /// What a point without an answer looks like to the solver: so bad that it turns back.
    #[must_use]
    pub fn hopeless(parameters: usize) -> Self {
        let mut residual = DVector::zeros(parameters + 1);
        residual[parameters] = 1e120;
        Self { jacobian: DMatrix::zeros(parameters + 1, parameters), residual }
    }
}

/// Where the minimisation ended.
#[derive(Debug, Clone)]
pub struct Outcome {
    /// The parameters there.
    pub parameters: Vec<f64>,
    /// Sum of squared residuals there.
    pub sum_of_squares: f64,
    /// Whether the solver's convergence test was met.
    pub converged: bool,
}

struct Problem<F> {
    parameters: DVector<f64>,
    current: Compressed,
    evaluate: F,
}

impl<F: FnMut(&[f64]) -> Compressed> LeastSquaresProblem<f64, Dyn, Dyn> for Problem<F> {
    type ResidualStorage = Owned<f64, Dyn>;
    type JacobianStorage = Owned<f64, Dyn, Dyn>;
    type ParameterStorage = Owned<f64, Dyn>;

    fn set_params(&mut self, parameters: &DVector<f64>) {
        go_on();
        self.parameters.copy_from(parameters);
        let next = (self.evaluate)(self.parameters.as_slice());
        let finite = next.residual.iter().chain(next.jacobian.iter()).all(|value| value.is_finite());
        self.current = if finite { next } else { Compressed::hopeless(parameters.len()) };
    }

    fn params(&self) -> DVector<f64> {
        self.parameters.clone()
    }

    fn residuals(&self) -> Option<DVector<f64>> {
        Some(self.current.residual.clone())
    }

    fn jacobian(&self) -> Option<DMatrix<f64>> {
        Some(self.current.jacobian.clone())
    }
}

/// Minimises the sum of squares from `start`, until a step changes it by less than the relative `tolerance`; `evaluate`
/// gives
/// the compressed problem at given parameters. Where that is not finite, the solver turns back.
pub fn minimise(start: &[f64], tolerance: f64, mut evaluate: impl FnMut(&[f64]) -> Compressed) -> Outcome {
    let current = evaluate(start);
    let problem = Problem { parameters: DVector::from_row_slice(start), current, evaluate };
    let (problem, report) = LevenbergMarquardt::new().with_tol(tolerance).with_patience(15).minimize(problem);
    Outcome {
        parameters: problem.parameters.as_slice().to_vec(),
        sum_of_squares: 2.0 * report.objective_function,
        converged: report.termination.was_successful(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Misra1a of the NIST Statistical Reference Datasets (non-linear regression, lower difficulty):
    /// y = b1 (1 − exp(−b2 x)); certified b1 = 238.94212918, b2 = 5.5015643181e-4, residual sum of squares
    /// 0.12455138894,
    /// standard deviations 2.7070075241 and 7.2668688436e-6.
    #[test]
    fn nist_misra1a() {
        let x = [77.6, 114.9, 141.1, 190.8, 239.9, 289.0, 332.8, 378.4, 434.8, 477.3, 536.8, 593.1, 689.1, 760.0];
        let y = [10.07, 14.73, 17.94, 23.93, 29.61, 35.18, 40.02, 44.82, 50.76, 55.05, 61.01, 66.40, 75.47, 81.78];
        let equations = |p: &[f64]| {
            let mut sums = NormalEquations::new(2);
            for (x, y) in x.iter().zip(y) {
                let decay = (-p[1] * x).exp();
                sums.add(&[1.0 - decay, p[0] * x * decay, p[0] * (1.0 - decay) - y]);
            }
            sums
        };
        let outcome = minimise(&[250.0, 5e-4], 1e-10, |p| equations(p).compress());
        assert!(outcome.converged);
        assert!((outcome.parameters[0] / 238.942_129_18 - 1.0).abs() < 1e-7);
        assert!((outcome.parameters[1] / 5.501_564_318_1e-4 - 1.0).abs() < 1e-7);
        assert!((outcome.sum_of_squares / 0.124_551_388_94 - 1.0).abs() < 1e-8);
        let at_end = equations(&outcome.parameters);
        let variance = at_end.sum_of_squares() / (at_end.samples() - 2) as f64;
        let covariance = at_end.inverse(&[]).unwrap() * variance;
        assert!((covariance[(0, 0)].sqrt() / 2.707_007_524_1 - 1.0).abs() < 1e-6);
        assert!((covariance[(1, 1)].sqrt() / 7.266_868_843_6e-6 - 1.0).abs() < 1e-6);
    }

    #[test]
    fn rows_together_are_the_rows_one_by_one() {
        for parameters in 2..12 {
            let rows: Vec<f64> = (0..7 * (parameters + 1)).map(|k| (0.7 * k as f64).sin()).collect();
            let (mut one, mut all) = (NormalEquations::new(parameters), NormalEquations::new(parameters));
            rows.chunks_exact(parameters + 1).for_each(|row| one.add(row));
            all.add_rows(&rows);
            assert_eq!(one.samples(), all.samples());
            assert!((one.information() - all.information()).norm() < 1e-12);
            assert!((one.sum_of_squares() - all.sum_of_squares()).abs() < 1e-12);
        }
    }

    #[test]
    fn selected_sums_are_those_of_selected_columns() {
        let (mut plain, mut fewer) = (NormalEquations::new(3), NormalEquations::new(2));
        for k in 0..20 {
            let row = [f64::from(k), f64::from(k * k % 7), 1.0, f64::from(k % 3)];
            plain.add(&row);
            fewer.add(&[row[2], row[0], row[3]]);
        }
        assert_eq!(plain.selected(&[2, 0]).information(), fewer.information());
        assert_eq!(plain.selected(&[2, 0]).sum_of_squares(), fewer.sum_of_squares());
    }

    #[test]
    fn known_columns_are_taken_off_the_last() {
        let (mut plain, mut reduced) = (NormalEquations::new(2), NormalEquations::new(2));
        for k in 0..9 {
            let row = [f64::from(k), 1.0, f64::from(k * k)];
            plain.add(&row);
            reduced.add(&[row[0], row[1], row[2] - 3.0 * row[0] + 2.0 * row[1]]);
        }
        let less = plain.less(&[(0, 3.0), (1, -2.0)]);
        let near = (less.information() - reduced.information()).norm() < 1e-9;
        assert!(near && (less.sum_of_squares() - reduced.sum_of_squares()).abs() < 1e-9, "{less:?} {reduced:?}");
    }

    #[test]
    fn what_the_data_do_not_tell_has_no_covariance() {
        let mut sums = NormalEquations::new(2);
        for k in 0..10 {
            sums.add(&[f64::from(k), 2.0 * f64::from(k), 1.0]);
        }
        assert!(sums.inverse(&[]).is_none());
        assert!(sums.inverse(&[1]).is_some());
    }

    #[test]
    fn the_solver_turns_back_where_there_is_no_answer() {
        // √p has none below 0, and from 4 the first full step for a target of 0.1 goes there.
        let outcome = minimise(&[4.0], 1e-12, |p| {
            let mut sums = NormalEquations::new(1);
            sums.add(&[0.5 / p[0].sqrt(), p[0].sqrt() - 0.1]);
            sums.compress()
        });
        assert!((outcome.parameters[0] - 0.01).abs() < 1e-6, "{outcome:?}");
    }
}
