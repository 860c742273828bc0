//! Where a process rests: for given inputs, or for a wanted output.

use super::linearisation::jacobian;
use super::{Bound, Held, Process, at_ports};
use crate::numerics::{MOST_SWEEPS, eigenvalues};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::Serialize;
use utoipa::ToSchema;

/// Starts of the search besides the usual state.
const STARTS: usize = 60;
const MOST_ITERATIONS: usize = 80;
/// Starts in a row that lead to what is known already, after which the search for a wanted output ends.
const IDLE_STARTS: usize = 10;
/// Newton steps below this share of a state's size are the end of the search.
const STEP_TOLERANCE: f64 = 1e-11;
/// A step leaves a state that cannot pass a bound at least this share of its way to it: beyond, the equations are others.
const LEFT_OF_WAY: f64 = 0.1;
/// How far values are moved for differences, as a share of their size, and of the way to a bound at most.
const NUDGE: f64 = 1e-6;
const NUDGE_TO_BOUND: f64 = 1e-2;
/// Two solutions nearer than this share of a state's size are one.
const SAME: f64 = 1e-5;

/// A state in which nothing changes.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct SteadyState {
    /// The states, in the order of the process.
    pub state: Vec<f64>,
    /// The inputs.
    pub inputs: Vec<f64>,
    /// The outputs.
    pub outputs: Vec<f64>,
    /// Eigenvalues there in 1/s, real and imaginary part.
    #[schema(value_type = Vec<[f64; 2]>)]
    pub eigenvalues: Vec<Complex64>,
    /// Whether the process comes back by itself after a small push; an integrating one does not.
    pub stable: bool,
}

/// What is sought.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rest {
    /// Position of the input that may move.
    pub input: usize,
    /// Position of the output.
    pub output: usize,
    /// The value wanted of it.
    pub wanted: f64,
}

/// The steady states for these inputs, by rising first state; empty where none was found.
///
/// Newton's method with line search from the usual state and from many others, spread over the ranges of the states
/// from a fixed seed: what it finds is a steady state, but one that no start leads to is missed.
#[must_use]
pub fn steady_states(process: &dyn Process, inputs: &[f64]) -> Vec<SteadyState> {
    search(process, inputs, None)
}

/// The steady states in which an output has the wanted value, the input that makes it so being found as well. The search
/// ends early once ten starts in a row have led to what is known.
#[must_use]
pub fn rests_at(process: &dyn Process, inputs: &[f64], rest: Rest) -> Vec<SteadyState> {
    search(process, inputs, Some(rest))
}

fn search(process: &dyn Process, inputs: &[f64], rest: Option<Rest>) -> Vec<SteadyState> {
    let description = process.description();
    let n = description.states.len();
    let scale: Vec<f64> = description
        .states
        .iter()
        .chain(rest.map(|rest| &description.inputs[rest.input]))
        .map(|quantity| quantity.value.abs().max(1e-3 * (quantity.high - quantity.low).min(1e3)).max(1e-6))
        .collect();
    let problem = Problem { process, inputs, rest, scale, bounds: process.bounds() };
    let usual: Vec<f64> = description.states.iter().map(|state| state.value).collect();
    let mut generator = ChaCha8Rng::seed_from_u64(1);
    let mut found: Vec<Vec<f64>> = Vec::new();
    let mut idle = 0;
    for start in 0..=STARTS {
        let mut z = usual.clone();
        if start > 0 {
            for (value, state) in z.iter_mut().zip(&description.states) {
                let share: f64 = generator.random();
                // Near the usual value and all over the range by turns.
                *value = if start % 2 == 0 {
                    state.low + share * (state.high.min(1e6) - state.low.max(-1e6))
                } else {
                    (state.value * 3.0 * share).clamp(state.low, state.high)
                };
            }
        }
        if let Some(rest) = rest {
            let input = &description.inputs[rest.input];
            let share: f64 = if start == 0 { 0.0 } else { generator.random() };
            z.push(if start == 0 {
                inputs[rest.input]
            } else {
                (3.0 * share * input.value.abs()).clamp(input.low, input.high)
            });
        }
        let Some(solution) = problem.solve(z) else { continue };
        let same = |other: &Vec<f64>| {
            solution
                .iter()
                .zip(other)
                .zip(&problem.scale)
                .all(|((a, b), scale)| (a - b).abs() < SAME * scale.max(a.abs()))
        };
        if found.iter().any(same) {
            idle += 1;
        } else {
            found.push(solution);
            idle = 0;
        }
        // A wanted output leaves few possibilities, and every trial begins with this search.
        if rest.is_some() && idle == IDLE_STARTS {
            break;
        }
        // A linear process has one.
        if n > 20 && found.len() == 1 && start > 5 {
            break;
        }
    }
    found.sort_by(|a, b| a[0].total_cmp(&b[0]));
    found.into_iter().map(|z| problem.described(z)).collect()
}

struct Problem<'a> {
    process: &'a dyn Process,
    inputs: &'a [f64],
    rest: Option<Rest>,
    scale: Vec<f64>,
    bounds: Vec<Bound>,
}

impl Problem<'_> {
    /// By how much an unknown is moved for differences.
    fn nudge(&self, z: &[f64], j: usize) -> f64 {
        let usual = NUDGE * self.scale[j].max(z[j].abs());
        // Next to a bound what is beyond it must not be asked.
        let way = |bound: &Bound| (z[j] - bound.low).min(bound.high - z[j]);
        let own = self.bounds.iter().find(|bound| bound.state == j).map(way).filter(|way| *way > 0.0);
        own.map_or(usual, |way| usual.min(NUDGE_TO_BOUND * way))
    }

    /// Unknowns moved by a step, short of the bounds that it would pass.
    fn moved(&self, z: &[f64], step: &DVector<f64>, share: f64) -> Vec<f64> {
        let mut moved: Vec<f64> =
            z.iter().zip(step).zip(&self.scale).map(|((z, step), scale)| z + share * step * scale).collect();
        for Bound { state, low, high, .. } in &self.bounds {
            let (before, value) = (z[*state], moved[*state]);
            if before > *low && value < *low {
                moved[*state] = low + LEFT_OF_WAY * (before - low);
            } else if before < *high && value > *high {
                moved[*state] = high - LEFT_OF_WAY * (high - before);
            }
        }
        moved
    }

    fn split(&self, z: &[f64]) -> (Vec<f64>, Vec<f64>) {
        let n = self.process.description().states.len();
        let mut inputs = self.inputs.to_vec();
        if let Some(rest) = self.rest {
            inputs[rest.input] = z[n];
        }
        (z[..n].to_vec(), inputs)
    }

    /// The rates, and how far the output is from what is wanted.
    fn residual(&self, z: &[f64]) -> Vec<f64> {
        let (x, inputs) = self.split(z);
        let u = at_ports(self.process, &inputs);
        let mut residual = vec![0.0; z.len()];
        self.process.rates(&x, &u, Held::default(), &mut residual[..x.len()]);
        if let Some(rest) = self.rest {
            let mut outputs = vec![0.0; self.process.description().outputs.len()];
            self.process.outputs(&x, &u, Held::default(), &mut outputs);
            residual[x.len()] = outputs[rest.output] - rest.wanted;
        }
        residual
    }

    fn is_possible(&self, z: &[f64]) -> bool {
        let description = self.process.description();
        let inputs = self.rest.map(|rest| &description.inputs[rest.input]);
        let inside = |value: &f64, low: f64, high: f64| *value >= low - 1e-9 && *value <= high + 1e-9;
        description.states.iter().chain(inputs).zip(z).all(|(q, value)| inside(value, q.low, q.high))
    }

    /// Damped Newton in scaled unknowns; None where it does not come to rest at a possible state.
    fn solve(&self, mut z: Vec<f64>) -> Option<Vec<f64>> {
        let n = z.len();
        let mut residual = self.residual(&z);
        let mut weights: Option<Vec<f64>> = None;
        for _ in 0..MOST_ITERATIONS {
            crate::work::go_on();
            let derivative = DMatrix::from_columns(
                &(0..n)
                    .map(|j| {
                        let step = self.nudge(&z, j);
                        let at = |by: f64| {
                            let mut moved = z.clone();
                            moved[j] += by;
                            DVector::from_vec(self.residual(&moved))
                        };
                        (at(step) - at(-step)) * (self.scale[j] / (2.0 * step))
                    })
                    .collect::<Vec<_>>(),
            );
            if derivative.iter().any(|value| !value.is_finite()) {
                return None;
            }
            // Rows weigh by their first derivative, so that a slow state counts like a fast one.
            let weights = weights.get_or_insert_with(|| {
                derivative.row_iter().map(|row| 1.0 / row.norm().max(f64::MIN_POSITIVE)).collect()
            });
            let weighted = |residual: &[f64]| DVector::from_fn(n, |i, _| residual[i] * weights[i]);
            let matrix = DMatrix::from_fn(n, n, |i, j| derivative[(i, j)] * weights[i]);
            let right = -weighted(&residual);
            let merit = right.norm();
            let step = match matrix.clone().lu().solve(&right).filter(|step| step.iter().all(|v| v.abs() < 1e6)) {
                Some(step) => step,
                None => matrix.try_svd(true, true, f64::EPSILON, MOST_SWEEPS)?.solve(&right, 1e-10).ok()?,
            };
            if step
                .iter()
                .zip(&self.scale)
                .zip(&z)
                .all(|((step, scale), z)| (step * scale).abs() < STEP_TOLERANCE * scale.max(z.abs()))
                && merit < 1e-8
            {
                return self.is_possible(&z).then_some(z);
            }
            let mut share = (10.0 / step.amax().max(10.0)).min(1.0);
            loop {
                let moved = self.moved(&z, &step, share);
                let next = self.residual(&moved);
                let next_merit = weighted(&next).norm();
                if next_merit <= (1.0 - 0.1 * share) * merit || (next_merit <= merit && merit < 1e-9) {
                    (z, residual) = (moved, next);
                    break;
                }
                share *= 0.5;
                if share < 1e-4 {
                    // At the end of what double precision resolves, the last step cannot get better.
                    return (merit < 1e-9 && self.is_possible(&z)).then_some(z);
                }
            }
        }
        None
    }

    fn described(&self, z: Vec<f64>) -> SteadyState {
        let (state, inputs) = self.split(&z);
        described(self.process, state, inputs)
    }
}

/// A state that is known to be steady, with what it shows and whether the process comes back to it.
pub(crate) fn described(process: &dyn Process, state: Vec<f64>, inputs: Vec<f64>) -> SteadyState {
    let u = at_ports(process, &inputs);
    let mut outputs = vec![0.0; process.description().outputs.len()];
    process.outputs(&state, &u, Held::default(), &mut outputs);
    let eigenvalues = eigenvalues(jacobian(process, &state, &u));
    let fastest = eigenvalues.iter().map(|value| value.norm()).fold(0.0, f64::max);
    let stable = eigenvalues.iter().all(|value| value.re < -1e-9 * fastest);
    SteadyState { state, inputs, outputs, eigenvalues, stable }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::ProcessSpec;
    use proptest::prelude::*;

    proptest! {
        /// A cone rests where as much leaves by Torricelli's law as flows in, next to its apex as well; both ways round.
        #[test]
        fn a_cone_rests_where_torricelli_has_it(level in -2.5f64..0.6, outlet in 5f64..60.0) {
            let level = 10f64.powf(level);
            let flow = 0.62 * outlet * 1e-4 * (2.0 * 9.81 * level).sqrt() * 3600.0;
            let process = ProcessSpec::library("cone_tank", &[("outlet_area", outlet)]).build("").unwrap();
            let wanted = Rest { input: 0, output: 0, wanted: level };
            let found = rests_at(process.as_ref(), &[20.0, 100.0], wanted);
            prop_assert!(found.iter().any(|rest| (rest.inputs[0] - flow).abs() < 1e-6 * flow), "{flow} {found:?}");
            let found = steady_states(process.as_ref(), &[flow, 100.0]);
            prop_assert!(found.iter().any(|rest| (rest.outputs[0] - level).abs() < 1e-6 * level), "{level} {found:?}");
        }
    }
}
