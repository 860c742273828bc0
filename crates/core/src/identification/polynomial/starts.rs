//! Where the search for a prediction-error minimum begins.

use super::predictor::{Deviations, Shape, filtered, multiplied};
use crate::numerics::{NormalEquations, largest_root};

/// Rounds of the iteration that filters the data by the last denominator.
const ROUNDS: usize = 12;
/// Order of the long autoregression from which the noise is estimated first.
const LONG_ORDER: usize = 20;

/// The ARX coefficients by linear least squares.
pub(super) fn arx(deviations: &Deviations, shape: &Shape) -> Option<Vec<f64>> {
    let inputs: Vec<Vec<Vec<f64>>> = (0..shape.inputs).map(|input| delayed(deviations, shape, input)).collect();
    regression(&deviations.output, &inputs, shape.na, shape.warm_up().max(shape.na))
}

/// Input `input` at each lag of its polynomial.
fn delayed(deviations: &Deviations, shape: &Shape, input: usize) -> Vec<Vec<f64>> {
    let lag = |lag: usize| (0..deviations.output.len()).map(|k| deviations.earlier(input, k, lag)).collect();
    (0..shape.nb).map(|j| lag(shape.nk + j)).collect()
}

/// `y = −a₁ y(t−1) − … + Σ b u` from sample `from` on: `a`, then the `b` of each input.
fn regression(output: &[f64], inputs: &[Vec<Vec<f64>>], na: usize, from: usize) -> Option<Vec<f64>> {
    let count = na + inputs.iter().map(Vec::len).sum::<usize>();
    let mut sums = NormalEquations::new(count);
    let mut row = Vec::with_capacity(count + 1);
    for k in from..output.len() {
        row.clear();
        row.extend((1..=na).map(|lag| -output[k - lag]));
        row.extend(inputs.iter().flatten().map(|series| series[k]));
        row.push(output[k]);
        if row.iter().all(|value| value.is_finite()) {
            sums.add(&row);
        }
    }
    sums.linear_solution().map(|(solution, _)| solution)
}

/// Starts for structures with noise models or denominators.
pub(super) fn all(deviations: &Deviations, shape: &Shape) -> Vec<Vec<f64>> {
    let mut starts: Vec<Vec<f64>> = Vec::new();
    if shape.na > 0 {
        starts.extend(with_long_autoregression(deviations, shape));
        let plain = Shape { nc: 0, ..*shape };
        starts.extend(arx(deviations, &plain));
        starts.iter_mut().for_each(|theta| theta.resize(shape.count(), 0.0));
        return starts;
    }
    for found in paths(deviations, shape) {
        let mut theta = found;
        theta.resize(shape.count(), 0.0);
        deviations.fit_transients(shape, &mut theta);
        if shape.nc + shape.nd > 0 {
            starts.push(with_noise(deviations, shape, &theta));
        }
        starts.push(theta);
    }
    starts
}

/// `C` from the residuals of a long ARX model, used as a further input (Hannan & Rissanen, Biometrika 69, 1982).
fn with_long_autoregression(deviations: &Deviations, shape: &Shape) -> Option<Vec<f64>> {
    let long = Shape { na: shape.na.max(LONG_ORDER), nb: shape.nb.max(LONG_ORDER / 2), nc: 0, ..*shape };
    let theta = arx(deviations, &long)?;
    let innovations = deviations.residuals(&long, &theta);
    let inputs: Vec<Vec<Vec<f64>>> = (0..shape.inputs).map(|input| delayed(deviations, shape, input)).collect();
    let noise = (1..=shape.nc).map(|lag| shifted(&innovations, lag)).collect();
    regression(&deviations.output, &[inputs, vec![noise]].concat(), shape.na, long.warm_up() + shape.nc)
}

fn shifted(series: &[f64], lag: usize) -> Vec<f64> {
    (0..series.len()).map(|k| if k >= lag { series[k - lag] } else { f64::NAN }).collect()
}

/// `B` and `F` of all inputs: by the iteration of Steiglitz & McBride (IEEE Trans. Automatic Control 10, 1965), a
/// regression on data that
/// the last `1/F` has filtered; the rounds with the smallest simulation errors are starts. Beside it, slow lags as a
/// plain guess.
fn paths(deviations: &Deviations, shape: &Shape) -> Vec<Vec<f64>> {
    let together = Shape { na: shape.nf, nf: 0, nc: 0, nd: 0, ..*shape };
    let mut common = vec![0.0; shape.nf];
    let mut found: Vec<(f64, Vec<f64>)> = Vec::new();
    for _ in 0..ROUNDS {
        let filter = |series: &Vec<f64>| filtered(series, &common);
        let output = filter(&deviations.output);
        let inputs: Vec<Vec<Vec<f64>>> =
            (0..shape.inputs).map(|input| delayed(deviations, shape, input).iter().map(filter).collect()).collect();
        let Some(solution) = regression(&output, &inputs, together.na, together.warm_up().max(1)) else { break };
        let mut denominator = solution[..shape.nf].to_vec();
        // A denominator with a root outside is drawn inside: coefficient k by the k-th power.
        let largest = largest_root(&denominator);
        if largest >= 1.0 {
            denominator.iter_mut().enumerate().for_each(|(k, f)| *f *= (0.98 / largest).powi(k as i32 + 1));
        }
        let own = with_denominator(deviations, shape, &denominator);
        found.extend(own);
        let moved: f64 = denominator.iter().zip(&common).map(|(a, b)| (a - b).abs()).sum();
        common = denominator;
        if moved < 1e-9 {
            break;
        }
    }
    for pole in [0.6, 0.9, 0.98] {
        let tail = (0..shape.nf).fold(vec![1.0], |polynomial: Vec<f64>, _| {
            let mut next = polynomial.clone();
            next.push(0.0);
            polynomial.iter().enumerate().for_each(|(k, value)| next[k + 1] -= pole * value);
            next
        });
        found.extend(with_denominator(deviations, shape, &tail[1..]));
    }
    found.sort_by(|a, b| a.0.total_cmp(&b.0));
    found.truncate(3);
    found.into_iter().map(|(_, theta)| theta).collect()
}

/// The best `B` for a denominator that all inputs share, and the sum of squares of its simulation.
fn with_denominator(deviations: &Deviations, shape: &Shape, denominator: &[f64]) -> Option<(f64, Vec<f64>)> {
    let inputs: Vec<Vec<Vec<f64>>> = (0..shape.inputs)
        .map(|input| delayed(deviations, shape, input).iter().map(|series| filtered(series, denominator)).collect())
        .collect();
    let numerators = regression(&deviations.output, &inputs, 0, 0)?;
    let mut theta = Vec::with_capacity(shape.count());
    for part in numerators.chunks(shape.nb) {
        theta.extend(part);
        theta.extend(denominator);
    }
    let plain = Shape { nc: 0, nd: 0, ..*shape };
    theta.resize(plain.count(), 0.0);
    deviations.fit_transients(&plain, &mut theta);
    let squares = deviations.residuals(&plain, &theta).iter().map(|e| e * e).sum::<f64>();
    theta.truncate(plain.coefficients());
    squares.is_finite().then_some((squares, theta))
}

/// `C` and `D` from the residuals of the simulation: a long autoregression gives the innovations, a regression on both
/// the polynomials.
fn with_noise(deviations: &Deviations, shape: &Shape, theta: &[f64]) -> Vec<f64> {
    let plain = Shape { nc: 0, nd: 0, ..*shape };
    let mut simulated: Vec<f64> = theta[..plain.coefficients()].to_vec();
    simulated.resize(plain.count(), 0.0);
    deviations.fit_transients(&plain, &mut simulated);
    let left = deviations.residuals(&plain, &simulated);
    let long = regression(&left, &[], LONG_ORDER, LONG_ORDER).unwrap_or_default();
    let innovations = multiplied(&left, &long);
    let moving: Vec<Vec<f64>> = (1..=shape.nc).map(|lag| shifted(&innovations, lag)).collect();
    let from = LONG_ORDER + shape.nc.max(shape.nd);
    let found = regression(&left, &[moving], shape.nd, from).unwrap_or_else(|| vec![0.0; shape.nc + shape.nd]);
    let (mut d, mut c) = (found[..shape.nd].to_vec(), found[shape.nd..].to_vec());
    for tail in [&mut c, &mut d] {
        let largest = largest_root(tail);
        if largest >= 0.99 {
            tail.iter_mut().enumerate().for_each(|(k, value)| *value *= (0.95 / largest).powi(k as i32 + 1));
        }
    }
    let mut start = theta[..plain.coefficients()].to_vec();
    start.extend(c);
    start.extend(d);
    start.extend(&simulated[plain.coefficients()..]);
    start
}
