//! A process linearised at an operating point.

use super::{Held, Process, at_ports};
use crate::lti::{DeadTime, StateSpace, TransferMatrix, transmission_zeros};
use crate::numerics::eigenvalues;
use crate::{Error, Result};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::Serialize;
use utoipa::ToSchema;

/// Points of a step response.
const POINTS: usize = 400;

/// `x' = A x + B u`, `y = C x + D u` in deviations from an operating point, with what follows from the matrices.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Linearisation {
    /// n × n by rows, 1/s.
    pub a: Vec<Vec<f64>>,
    /// n × ports by rows.
    pub b: Vec<Vec<f64>>,
    /// outputs × n by rows.
    pub c: Vec<Vec<f64>>,
    /// outputs × ports by rows.
    pub d: Vec<Vec<f64>>,
    /// Eigenvalues of A in 1/s, real and imaginary part.
    #[schema(value_type = Vec<[f64; 2]>)]
    pub poles: Vec<Complex64>,
    /// Finite transmission zeros in 1/s from the first inputs to as many of the first outputs; empty where there are none.
    #[schema(value_type = Vec<[f64; 2]>)]
    pub zeros: Vec<Complex64>,
    /// The transfer functions that are not 0.
    pub channels: Vec<Channel>,
}

/// The transfer function from one input to one output.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Channel {
    /// Name of the input.
    pub input: String,
    /// Name of the output.
    pub output: String,
    /// Gain at rest, output units per input unit; null where it integrates.
    pub gain: Option<f64>,
    /// Coefficients of the numerator, the highest power of s first.
    pub numerator: Vec<f64>,
    /// Coefficients of the denominator, the highest power first, beginning with 1.
    pub denominator: Vec<f64>,
    /// Its poles in 1/s; those that a zero cancels are left out.
    #[schema(value_type = Vec<[f64; 2]>)]
    pub poles: Vec<Complex64>,
    /// Its zeros in 1/s.
    #[schema(value_type = Vec<[f64; 2]>)]
    pub zeros: Vec<Complex64>,
    /// Dead time in s.
    pub dead_time: f64,
    /// Seconds between the points of the step response.
    pub interval: f64,
    /// The answer of the output to a unit step of the input at time 0, the first point being at 0.
    pub step_response: Vec<f64>,
}

/// Central differences of a function of several variables, improved by Richardson's extrapolation.
fn differences(at: &[f64], rows: usize, f: impl Fn(&[f64], &mut [f64])) -> DMatrix<f64> {
    let mut matrix = DMatrix::zeros(rows, at.len());
    let (mut up, mut down) = (vec![0.0; rows], vec![0.0; rows]);
    for j in 0..at.len() {
        let mut slope = |h: f64| -> Vec<f64> {
            let mut moved = at.to_vec();
            moved[j] = at[j] + h;
            f(&moved, &mut up);
            moved[j] = at[j] - h;
            f(&moved, &mut down);
            up.iter().zip(&down).map(|(up, down)| (up - down) / (2.0 * h)).collect()
        };
        let h = 1e-4 * at[j].abs().max(1e-2);
        let (coarse, fine) = (slope(h), slope(0.5 * h));
        for i in 0..rows {
            matrix[(i, j)] = (4.0 * fine[i] - coarse[i]) / 3.0;
        }
    }
    matrix
}

/// The derivative of the rates by the states at `x` and the inputs `u` at the ports.
pub(super) fn jacobian(process: &dyn Process, x: &[f64], u: &[f64]) -> DMatrix<f64> {
    differences(x, x.len(), |x, rates| process.rates(x, u, Held::default(), rates))
}

/// The matrices A, B, C, D at `x` and `inputs`.
fn matrices(process: &dyn Process, x: &[f64], inputs: &[f64]) -> [DMatrix<f64>; 4] {
    let (n, outputs) = (x.len(), process.description().outputs.len());
    let u = at_ports(process, inputs);
    let free = Held::default();
    [
        jacobian(process, x, &u),
        differences(&u, n, |u, rates| process.rates(x, u, free, rates)),
        differences(x, outputs, |x, y| process.outputs(x, &u, free, y)),
        differences(&u, outputs, |u, y| process.outputs(x, u, free, y)),
    ]
}

/// Linearises at the state `x` and `inputs`. Errors where the equations have no derivative there.
pub fn linearise(process: &dyn Process, x: &[f64], inputs: &[f64]) -> Result<Linearisation> {
    let [a, b, c, d] = matrices(process, x, inputs);
    if [&a, &b, &c, &d].iter().any(|matrix| matrix.iter().any(|value| !value.is_finite())) {
        return Err(Error::unfit("the equations have no derivative here", "choose another operating point"));
    }
    let description = process.description();
    let poles = eigenvalues(a.clone());
    let square = process.ports().len().min(c.nrows());
    let part = |matrix: &DMatrix<f64>, rows: usize, columns: usize| matrix.view((0, 0), (rows, columns)).into_owned();
    let zeros = if square > 1 {
        let n = a.nrows();
        transmission_zeros(&a, &part(&b, n, square), &part(&c, square, n), &part(&d, square, square))
    } else {
        Vec::new()
    };
    let mut channels = Vec::new();
    for (j, port) in process.ports().iter().enumerate() {
        for i in 0..c.nrows() {
            let column = (b.column(j).into_owned(), c.row(i).into_owned());
            let (bj, ci) = (
                DMatrix::from_column_slice(a.nrows(), 1, column.0.as_slice()),
                DMatrix::from_row_slice(1, a.nrows(), column.1.transpose().as_slice()),
            );
            let single = Single { a: &a, b: bj, c: ci, d: d[(i, j)], poles: &poles, dead_time: port.dead_time };
            if let Some(channel) = single.channel(&description.inputs[port.input].name, &description.outputs[i].name)? {
                channels.push(channel);
            }
        }
    }
    let rows = |matrix: &DMatrix<f64>| matrix.row_iter().map(|row| row.iter().copied().collect()).collect();
    Ok(Linearisation { a: rows(&a), b: rows(&b), c: rows(&c), d: rows(&d), poles, zeros, channels })
}

/// All ways in and outputs of a process at the state `x` and `inputs`. Errors where the equations have no derivative there.
pub(crate) fn transfer_matrix(process: &dyn Process, x: &[f64], inputs: &[f64]) -> Result<TransferMatrix> {
    let all = matrices(process, x, inputs);
    if all.iter().any(|matrix| matrix.iter().any(|value| !value.is_finite())) {
        return Err(Error::unfit("the equations have no derivative here", "choose another operating point"));
    }
    let ways = process.ports().iter().map(|port| (port.input, port.dead_time));
    Ok(TransferMatrix::new(all, ways, inputs.len()))
}

/// The linear system from one input to one output at an operating point, for margins.
pub fn linear_channel(
    process: &dyn Process,
    x: &[f64],
    inputs: &[f64],
    input: usize,
    output: usize,
) -> Result<StateSpace> {
    let [a, b, c, d] = matrices(process, x, inputs);
    let ports: Vec<usize> =
        process.ports().iter().enumerate().filter(|(_, port)| port.input == input).map(|(j, _)| j).collect();
    let row = c.rows(output, 1);
    // A way in reaches the output where anything of it comes through, in however many steps.
    let reaches = |j: &&usize| {
        let mut moved = b.columns(**j, 1).into_owned();
        d[(output, **j)] != 0.0
            || (0..a.nrows()).any(|_| {
                let comes_through = (row * &moved)[(0, 0)] != 0.0;
                moved = &a * &moved;
                comes_through
            })
    };
    let port = ports.iter().find(reaches).or(ports.first()).copied().unwrap_or(0);
    let dead_time = process.ports().get(port).map_or(DeadTime::new(0.0)?, |port| port.dead_time);
    let system = StateSpace::new(a, b.columns(port, 1).into_owned(), c.rows(output, 1).into_owned(), dead_time)?;
    Ok(system.with_feed_through(d[(output, port)]))
}

/// One input, one output.
struct Single<'a> {
    a: &'a DMatrix<f64>,
    b: DMatrix<f64>,
    c: DMatrix<f64>,
    d: f64,
    poles: &'a [Complex64],
    dead_time: DeadTime,
}

impl Single<'_> {
    /// None where the output does not feel the input.
    fn channel(&self, input: &str, output: &str) -> Result<Option<Channel>> {
        let Some((degree, lead)) = self.first_move() else { return Ok(None) };
        let mut zeros = transmission_zeros(self.a, &self.b, &self.c, &DMatrix::from_element(1, 1, self.d));
        // There are as many zeros as poles less the first derivative that moves; anything beyond is at infinity.
        zeros.sort_by(|a, b| a.norm().total_cmp(&b.norm()));
        zeros.truncate(self.a.nrows() - degree);
        let (poles, zeros) = cancelled(self.poles.to_vec(), zeros);
        let fastest = self.poles.iter().map(|pole| pole.norm()).fold(0.0, f64::max);
        let integrates = poles.iter().any(|pole| pole.norm() < 1e-9 * fastest.max(1e-12));
        let product = |roots: &[Complex64]| roots.iter().fold(Complex64::ONE, |product, root| product * -root);
        let gain = (!integrates).then(|| (lead * product(&zeros) / product(&poles)).re);
        let slowest = poles.iter().map(|pole| pole.re.abs()).filter(|re| *re > 1e-9 * fastest).fold(f64::MAX, f64::min);
        let horizon =
            if slowest < f64::MAX { 6.0 / slowest } else { 10.0 / fastest.max(1e-3) } + 1.5 * self.dead_time.seconds();
        let interval = horizon / (POINTS - 1) as f64;
        let system = StateSpace::new(self.a.clone(), self.b.clone(), self.c.clone(), self.dead_time)?;
        let step_response = system.with_feed_through(self.d).step_response(interval, POINTS);
        Ok(Some(Channel {
            input: input.to_owned(),
            output: output.to_owned(),
            gain,
            numerator: polynomial(&zeros).into_iter().map(|coefficient| lead * coefficient).collect(),
            denominator: polynomial(&poles),
            poles,
            zeros,
            dead_time: self.dead_time.seconds(),
            interval,
            step_response,
        }))
    }

    /// The order of the first derivative that jumps when the input does, and by how much.
    fn first_move(&self) -> Option<(usize, f64)> {
        let (size, reach) = (self.a.norm(), self.b.norm() * self.c.norm());
        if self.d.abs() > 1e-12 * (1.0 + reach / size.max(f64::MIN_POSITIVE)) {
            return Some((0, self.d));
        }
        let (mut vector, mut scale) = (self.b.clone(), reach);
        for degree in 1..=self.a.nrows() {
            let value = (&self.c * &vector)[(0, 0)];
            if value.abs() > 1e-8 * scale && scale > 0.0 {
                return Some((degree, value));
            }
            vector = self.a * vector;
            scale *= size;
        }
        None
    }
}

/// Poles and zeros without those that cancel.
fn cancelled(mut poles: Vec<Complex64>, mut zeros: Vec<Complex64>) -> (Vec<Complex64>, Vec<Complex64>) {
    zeros.retain(|zero| {
        let near = |pole: &Complex64| (pole - zero).norm() < 1e-6 * (pole.norm() + zero.norm()).max(1e-12);
        match poles.iter().position(near) {
            Some(k) => {
                poles.remove(k);
                false
            }
            None => true,
        }
    });
    (poles, zeros)
}

/// The coefficients of the monic polynomial with these roots, the highest power first.
fn polynomial(roots: &[Complex64]) -> Vec<f64> {
    let mut coefficients = vec![Complex64::ONE];
    for root in roots {
        coefficients.push(Complex64::ZERO);
        for k in (1..coefficients.len()).rev() {
            let before = coefficients[k - 1];
            coefficients[k] -= root * before;
        }
    }
    coefficients.into_iter().map(|coefficient| coefficient.re).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Made by `reference/zeros.py` with SciPy.
    #[derive(serde::Deserialize)]
    struct Known {
        a: Vec<Vec<f64>>,
        b: Vec<Vec<f64>>,
        c: Vec<Vec<f64>>,
        d: Vec<Vec<f64>>,
        gain: Vec<Vec<f64>>,
    }

    #[test]
    fn gains_and_transfer_functions_with_feed_through_are_those_of_scipy() {
        let all: Vec<Known> = serde_json::from_str(include_str!("../../../../reference/data/zeros.json")).unwrap();
        let matrix = |rows: &[Vec<f64>]| DMatrix::from_fn(rows.len(), rows[0].len(), |i, j| rows[i][j]);
        let mut tried = 0;
        for (k, known) in all.iter().enumerate().filter(|(_, known)| known.d.len() == 1) {
            let a = matrix(&known.a);
            let (poles, d) = (eigenvalues(a.clone()), known.d[0][0]);
            let (b, c) = (matrix(&known.b), matrix(&known.c));
            let single =
                Single { a: &a, b: b.clone(), c: c.clone(), d, poles: &poles, dead_time: DeadTime::new(0.0).unwrap() };
            let channel = single.channel("u", "y").unwrap().unwrap();
            let (found, wanted) = (channel.gain.unwrap(), known.gain[0][0]);
            let size = d.abs() + wanted.abs();
            assert!((found - wanted).abs() < 1e-6 * size, "system {k}: {found} for {wanted}");
            // The polynomials say the same as the matrices at a frequency.
            let s = Complex64::new(0.0, a.norm());
            let at = |coefficients: &[f64]| coefficients.iter().fold(Complex64::ZERO, |sum, c| sum * s + c);
            let inverse =
                (DMatrix::<Complex64>::identity(a.nrows(), a.nrows()) * s - a.map(Complex64::from)).try_inverse();
            let direct = (c.map(Complex64::from) * inverse.unwrap() * b.map(Complex64::from))[(0, 0)] + d;
            let ratio = at(&channel.numerator) / at(&channel.denominator);
            assert!((ratio - direct).norm() < 1e-6 * (direct.norm() + d.abs()), "system {k}: {ratio} for {direct}");
            tried += 1;
        }
        assert!(tried > 80, "{tried}");
    }
}
