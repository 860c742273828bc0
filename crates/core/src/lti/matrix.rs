//! A matrix of transfer functions with dead times: its value anywhere in the complex plane, its parts, its zeros and their
//! directions.

use super::{DeadTime, transmission_zeros};
use crate::numerics::eigenvalues;
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;

/// A way in: which input comes through it, how late.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Way {
    pub(super) input: usize,
    pub(super) dead_time: f64,
}

/// `y = Σ (C (sI − A)⁻¹ bₖ + dₖ) exp(−θₖ s) u` over the ways in, each of which belongs to an input.
#[derive(Debug, Clone, PartialEq)]
pub struct TransferMatrix {
    pub(super) a: DMatrix<f64>,
    pub(super) b: DMatrix<f64>,
    pub(super) c: DMatrix<f64>,
    pub(super) d: DMatrix<f64>,
    pub(super) ways: Vec<Way>,
    pub(super) inputs: usize,
}

/// A place in the complex plane at which nothing comes through in one direction (Skogestad & Postlethwaite, Multivariable Feedback
/// Control, 2nd ed. 2005, section 4.5).
#[derive(Debug, Clone, PartialEq)]
pub struct DirectedZero {
    /// Where, in 1/s.
    pub at: Complex64,
    /// Sizes with sign of the outputs in the direction that nothing comes through to, of length 1 together.
    pub output_direction: Vec<f64>,
    /// The same of the inputs that have no effect there.
    pub input_direction: Vec<f64>,
}

/// Order of the rational functions that stand for dead times where zeros are first looked for.
const STANDS_FOR_DEAD_TIME: usize = 3;
/// What passes such a function at once: −1 to the power of its order.
const AT_ONCE: f64 = -1.0;
/// Most states with these.
const MOST_STATES: usize = 160;
/// Steps towards a zero.
const STEPS: usize = 60;
/// A direction counts as closed where so small a share of the largest comes through.
const CLOSED: f64 = 1e-7;
/// Sweeps of a singular value decomposition.
const MOST_SWEEPS: usize = 10_000;

impl TransferMatrix {
    /// From the matrices (n × n per s, n × ways, outputs × n, outputs × ways) and, for each way in, its input and dead time.
    #[must_use]
    pub fn new(
        [a, b, c, d]: [DMatrix<f64>; 4],
        ways: impl IntoIterator<Item = (usize, DeadTime)>,
        inputs: usize,
    ) -> Self {
        let ways = ways.into_iter().map(|(input, dead_time)| Way { input, dead_time: dead_time.seconds() }).collect();
        Self { a, b, c, d, ways, inputs }
    }

    /// Number of outputs.
    #[must_use]
    pub fn outputs(&self) -> usize {
        self.c.nrows()
    }

    /// Number of inputs.
    #[must_use]
    pub fn inputs(&self) -> usize {
        self.inputs
    }

    /// Longest dead time in s.
    #[must_use]
    pub fn longest_dead_time(&self) -> f64 {
        self.ways.iter().map(|way| way.dead_time).fold(0.0, f64::max)
    }

    /// Eigenvalues of A in 1/s.
    #[must_use]
    pub fn poles(&self) -> Vec<Complex64> {
        eigenvalues(self.a.clone())
    }

    /// Some outputs and inputs of it, in the order named, each output times its factor and each input, too.
    #[must_use]
    pub fn part(&self, outputs: &[(usize, f64)], inputs: &[(usize, f64)]) -> Self {
        let mut ways = Vec::new();
        let mut columns = Vec::new();
        for (place, (input, factor)) in inputs.iter().enumerate() {
            for (k, way) in self.ways.iter().enumerate().filter(|(_, way)| way.input == *input) {
                ways.push(Way { input: place, ..*way });
                columns.push((k, *factor));
            }
        }
        let pick = |matrix: &DMatrix<f64>, rows: &[(usize, f64)], columns: &[(usize, f64)]| {
            DMatrix::from_fn(rows.len(), columns.len(), |i, j| {
                matrix[(rows[i].0, columns[j].0)] * rows[i].1 * columns[j].1
            })
        };
        let states: Vec<(usize, f64)> = (0..self.a.nrows()).map(|k| (k, 1.0)).collect();
        Self {
            a: self.a.clone(),
            b: pick(&self.b, &states, &columns),
            c: pick(&self.c, outputs, &states),
            d: pick(&self.d, outputs, &columns),
            ways,
            inputs: inputs.len(),
        }
    }

    /// Its value at `s`, outputs × inputs; None at a pole.
    #[must_use]
    pub fn at(&self, s: Complex64) -> Option<DMatrix<Complex64>> {
        let n = self.a.nrows();
        let resolvent = DMatrix::from_fn(n, n, |i, j| {
            let diagonal = if i == j { s } else { Complex64::ZERO };
            diagonal - self.a[(i, j)]
        });
        let complex = |matrix: &DMatrix<f64>| matrix.map(|value| Complex64::new(value, 0.0));
        let states = resolvent.lu().solve(&complex(&self.b))?;
        let through = complex(&self.c) * states + complex(&self.d);
        let mut value = DMatrix::zeros(self.outputs(), self.inputs);
        for (k, way) in self.ways.iter().enumerate() {
            let late = (-s * way.dead_time).exp();
            for i in 0..self.outputs() {
                value[(i, way.input)] += through[(i, k)] * late;
            }
        }
        value.iter().all(|value: &Complex64| value.is_finite()).then_some(value)
    }

    /// Its value at the angular frequency `omega` in rad/s.
    #[must_use]
    pub fn response(&self, omega: f64) -> Option<DMatrix<Complex64>> {
        self.at(Complex64::new(0.0, omega))
    }

    /// Its value at rest; None where something integrates.
    #[must_use]
    pub fn at_rest(&self) -> Option<DMatrix<f64>> {
        let fastest = self.poles().iter().map(|pole| pole.norm()).fold(0.0, f64::max);
        if self.poles().iter().any(|pole| pole.norm() < 1e-9 * fastest.max(1e-12)) {
            return None;
        }
        self.at(Complex64::ZERO).map(|value| value.map(|value| value.re))
    }

    /// The transmission zeros of as many outputs as inputs, with their directions, by rising size; a pair of complex ones as the
    /// one above the real axis.
    ///
    /// Where there are dead times they are endless in number; those are found that have a near one among the zeros of the same
    /// matrix with rational functions in the place of dead times (Padé). Each is then sought exactly, by secants on the
    /// determinant, and kept where nothing comes through.
    #[must_use]
    pub fn zeros(&self) -> Vec<DirectedZero> {
        let mut found: Vec<DirectedZero> = Vec::new();
        let poles = self.poles();
        for start in self.rational().unwrap_or_default() {
            if start.im < -1e-9 * start.norm() {
                continue;
            }
            crate::work::go_on();
            let Some(zero) = self.nearest_zero(start).and_then(|at| self.directed(at)) else { continue };
            let is_known = |known: &DirectedZero| (known.at - zero.at).norm() < 1e-5 * (1e-9 + zero.at.norm());
            // A pole at the same place hides it in all directions but one; what is left there is none of its own.
            let on_a_pole = poles.iter().any(|pole| (pole - zero.at).norm() < 1e-7 * (1e-9 + zero.at.norm()));
            if !found.iter().any(is_known) && !on_a_pole {
                found.push(zero);
            }
        }
        found.sort_by(|a, b| a.at.norm().total_cmp(&b.at.norm()));
        found
    }

    /// The zeros with rational functions in the place of dead times.
    fn rational(&self) -> Option<Vec<Complex64>> {
        if self.outputs() != self.inputs {
            return None;
        }
        let n = self.a.nrows();
        let late = self.ways.iter().filter(|way| way.dead_time > 0.0).count();
        let order = STANDS_FOR_DEAD_TIME;
        let all = n + late * order;
        if all > MOST_STATES {
            return None;
        }
        let mut a = DMatrix::zeros(all, all);
        a.view_mut((0, 0), (n, n)).copy_from(&self.a);
        let mut b = DMatrix::zeros(all, self.inputs);
        let mut c = DMatrix::zeros(self.outputs(), all);
        c.view_mut((0, 0), (self.outputs(), n)).copy_from(&self.c);
        let mut d = DMatrix::zeros(self.outputs(), self.inputs);
        let mut from = n;
        for (k, way) in self.ways.iter().enumerate() {
            let (own_b, own_d) = (self.b.column(k), self.d.column(k));
            let through = if way.dead_time > 0.0 { AT_ONCE } else { 1.0 };
            if way.dead_time > 0.0 {
                let (tail, head) = pade(way.dead_time);
                for i in 0..order {
                    if i + 1 < order {
                        a[(from + i, from + i + 1)] = 1.0;
                    }
                    a[(from + order - 1, from + i)] = -tail[i];
                    for row in 0..n {
                        a[(row, from + i)] += own_b[row] * (head[i] - through * tail[i]);
                    }
                    for row in 0..self.outputs() {
                        c[(row, from + i)] += own_d[row] * (head[i] - through * tail[i]);
                    }
                }
                b[(from + order - 1, way.input)] += 1.0;
                from += order;
            }
            for row in 0..n {
                b[(row, way.input)] += own_b[row] * through;
            }
            for row in 0..self.outputs() {
                d[(row, way.input)] += own_d[row] * through;
            }
        }
        Some(transmission_zeros(&a, &b, &c, &d))
    }

    fn determinant(&self, s: Complex64) -> Option<Complex64> {
        self.at(s).map(|value| value.determinant())
    }

    /// Follows the determinant by secants from a place near a zero.
    fn nearest_zero(&self, start: Complex64) -> Option<Complex64> {
        let size = start.norm().max(1e-12);
        let mut before = start + Complex64::new(1e-3 * size, if start.im == 0.0 { 0.0 } else { 1e-3 * size });
        let mut at = start;
        let (mut of_before, mut value) = (self.determinant(before)?, self.determinant(at)?);
        for _ in 0..STEPS {
            let slope = (value - of_before) / (at - before);
            if !slope.is_finite() || slope.norm() == 0.0 {
                break;
            }
            let step = value / slope;
            (before, of_before) = (at, value);
            at -= step;
            // Whoever goes far away was not near one.
            if (at - start).norm() > 2.0 * size {
                return None;
            }
            value = self.determinant(at)?;
            if step.norm() < 1e-12 * size {
                break;
            }
        }
        // Real where it began so and its imaginary part is no more than rounding.
        Some(if at.im.abs() < 1e-9 * at.norm() { Complex64::new(at.re, 0.0) } else { at })
    }

    /// A place with its directions, where nothing comes through in one of them.
    fn directed(&self, at: Complex64) -> Option<DirectedZero> {
        let value = self.at(at)?;
        let balanced = balanced(&value).try_svd(false, false, f64::EPSILON, MOST_SWEEPS)?.singular_values;
        if balanced.min() > CLOSED * balanced.max() {
            return None;
        }
        let decomposed = value.try_svd(true, true, f64::EPSILON, MOST_SWEEPS)?;
        let sizes: &DVector<f64> = &decomposed.singular_values;
        let (least, _) = sizes.argmin();
        let of_outputs: Vec<Complex64> = decomposed.u?.column(least).iter().copied().collect();
        let of_inputs: Vec<Complex64> = decomposed.v_t?.row(least).iter().map(|value| value.conj()).collect();
        Some(DirectedZero { at, output_direction: turned_real(&of_outputs), input_direction: turned_real(&of_inputs) })
    }
}

/// Rows and columns scaled to be alike: far in the right half-plane a long dead time makes its inputs small, which closes no
/// direction.
fn balanced(value: &DMatrix<Complex64>) -> DMatrix<Complex64> {
    let mut scaled = value.clone();
    for _ in 0..3 {
        for mut row in scaled.row_iter_mut() {
            let size = row.norm();
            row.iter_mut().for_each(|value| *value /= size.max(f64::MIN_POSITIVE));
        }
        for mut column in scaled.column_iter_mut() {
            let size = column.norm();
            column.iter_mut().for_each(|value| *value /= size.max(f64::MIN_POSITIVE));
        }
    }
    scaled
}

/// A complex direction, turned so that its largest part is positive and real; of the others their real parts.
fn turned_real(direction: &[Complex64]) -> Vec<f64> {
    let largest = direction.iter().copied().max_by(|a, b| a.norm().total_cmp(&b.norm())).unwrap_or(Complex64::ONE);
    let turn = largest.conj() / largest.norm().max(f64::MIN_POSITIVE);
    direction.iter().map(|part| (part * turn).re).collect()
}

/// Of the Padé approximation of `exp(−θs)` with equal degrees, normed by the highest power of its denominator: the lower
/// coefficients of denominator and numerator, the constant first (Golub & Van Loan, Matrix Computations, section 9.3).
fn pade(dead_time: f64) -> ([f64; STANDS_FOR_DEAD_TIME], [f64; STANDS_FOR_DEAD_TIME]) {
    let order = STANDS_FOR_DEAD_TIME;
    let factorial = |k: usize| (1..=k).map(|i| i as f64).product::<f64>();
    let of = |k: usize| {
        factorial(2 * order - k) * factorial(order) / (factorial(2 * order) * factorial(k) * factorial(order - k))
            * dead_time.powi(k as i32)
    };
    let highest = of(order);
    let mut both = ([0.0; STANDS_FOR_DEAD_TIME], [0.0; STANDS_FOR_DEAD_TIME]);
    for k in 0..order {
        both.0[k] = of(k) / highest;
        both.1[k] = both.0[k] * if k % 2 == 0 { 1.0 } else { -1.0 };
    }
    both
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(
        a: &[f64],
        b: &[f64],
        c: &[f64],
        d: &[f64],
        ways: &[(usize, f64)],
        outputs: usize,
        inputs: usize,
    ) -> TransferMatrix {
        let n = a.len().isqrt();
        let matrices = [
            DMatrix::from_row_slice(n, n, a),
            DMatrix::from_row_slice(n, ways.len(), b),
            DMatrix::from_row_slice(outputs, n, c),
            DMatrix::from_row_slice(outputs, ways.len(), d),
        ];
        let ways = ways.iter().map(|(input, late)| (*input, DeadTime::new(*late).unwrap()));
        TransferMatrix::new(matrices, ways, inputs)
    }

    #[test]
    fn a_zero_and_its_directions_as_published() {
        // G(s) = 1/((0.2s+1)(s+1)) [1 1; 1+2s 2]: a zero at 0.5; u = (0.71, −0.71), y = (0.89, −0.45) (Skogestad & Postlethwaite
        // 2005, example 3.17; from memory, and by hand: G(0.5) is [1 1; 2 2]/1.65).
        // States: x1, x2 of 1/((0.2s+1)(s+1)) for each input, controllable form: x'' = −5x − 6x' + 5u.
        let a = [0.0, 1.0, 0.0, 0.0, -5.0, -6.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, -5.0, -6.0];
        let matrix = of(
            &a,
            &[0.0, 0.0, 5.0, 0.0, 0.0, 0.0, 0.0, 5.0],
            &[1.0, 0.0, 1.0, 0.0, 1.0, 2.0, 2.0, 0.0],
            &[0.0; 4],
            &[(0, 0.0), (1, 0.0)],
            2,
            2,
        );
        let zeros = matrix.zeros();
        assert_eq!(zeros.len(), 1, "{zeros:?}");
        assert!((zeros[0].at - 0.5).norm() < 1e-9);
        let close = |direction: &[f64], expected: [f64; 2]| {
            let sign = direction[0].signum();
            direction.iter().zip(expected).all(|(value, expected)| (sign * value - expected).abs() < 0.005)
        };
        assert!(close(&zeros[0].input_direction, [0.71, -0.71]), "{zeros:?}");
        assert!(close(&zeros[0].output_direction, [0.89, -0.45]), "{zeros:?}");
        let rest = matrix.at_rest().unwrap();
        assert!((rest - DMatrix::from_row_slice(2, 2, &[1.0, 1.0, 1.0, 2.0])).norm() < 1e-12);
    }

    #[test]
    fn dead_times_that_differ_make_a_zero_that_no_rational_part_has() {
        // G = [1, e^{−2s}·2; 1·e^{−s}, 1] / (s+1): det = (1 − 2 e^{−3s})/(s+1)², 0 at s = ln 2 / 3 (exact mathematics), and above
        // the real axis at (ln 2 + 2πik)/3.
        let matrix = of(
            &[-1.0, 0.0, 0.0, 0.0, 0.0, -1.0, 0.0, 0.0, 0.0, 0.0, -1.0, 0.0, 0.0, 0.0, 0.0, -1.0],
            &[1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0],
            &[1.0, 2.0, 0.0, 0.0, 0.0, 0.0, 1.0, 1.0],
            &[0.0; 8],
            &[(0, 0.0), (1, 2.0), (0, 1.0), (1, 0.0)],
            2,
            2,
        );
        let zeros = matrix.zeros();
        assert!((zeros[0].at - 2f64.ln() / 3.0).norm() < 1e-9, "{zeros:?}");
        for zero in &zeros {
            let value = 1.0 - 2.0 * (-3.0 * zero.at).exp();
            assert!(value.norm() < 1e-6, "{zero:?}");
        }
    }

    #[test]
    fn a_dead_time_that_all_share_is_no_zero() {
        let matrix = of(&[-0.1], &[0.1, 0.2], &[1.0], &[0.0, 0.0], &[(0, 5.0), (1, 5.0)], 1, 2);
        assert!(matrix.zeros().is_empty());
        let one = matrix.part(&[(0, 2.0)], &[(1, 3.0)]);
        assert!(one.zeros().is_empty());
        let value = one.response(0.3).unwrap()[(0, 0)];
        let expected = Complex64::new(0.0, -1.5).exp() * 6.0 * 0.2 / Complex64::new(0.1, 0.3);
        assert!((value - expected).norm() < 1e-12);
    }

    #[test]
    fn the_rational_stand_in_is_close_to_the_dead_time() {
        let (tail, head) = pade(2.0);
        let s = Complex64::new(0.0, 0.4);
        let of = |low: &[f64; 3], sign: f64| low[0] + low[1] * s + low[2] * s * s + sign * s * s * s;
        let value = of(&head, -1.0) / of(&tail, 1.0);
        // The first term left out: (0.8)⁷ (3!)²/(6! 7!).
        assert!((value - (-2.0 * s).exp()).norm() < 2.5e-6);
    }
}
