//! The estimate over a moving horizon: the last samples solved for together, within bounds.

use super::extended::carry;
use super::{Estimator, Gaussian, Innovations, Lost, Observed};
use crate::numerics::{Constraints, Ending, QuadraticProgram, dot};
use nalgebra::{DMatrix, DVector};
use std::collections::VecDeque;

/// Turns of linearising and solving at a sample, at most, and the change in units of the estimate's deviation at which they end.
const TURNS: usize = 6;
/// What is left after a change of this size is its square: a thousandth.
const SETTLED: f64 = 3e-2;
/// Share of the cost, in squared deviations, that a turn may lose to the rounding of the integration.
const WORSE: f64 = 1e-3;
/// Halvings of a turn that makes things worse.
const HALVINGS: usize = 6;

/// How an estimate over a horizon is made.
#[derive(Debug, Clone, PartialEq)]
pub struct HorizonOptions {
    /// Samples that are solved for together, at least 1.
    pub window: usize,
    /// Samples from one solution to the next, at least 1: in between the estimate goes on as an extended Kalman filter.
    pub every: usize,
    /// By how much each state may change from sample to sample by what nobody knows, at most.
    pub limits: Vec<f64>,
    /// Up to so many deviations of the noise an output may miss what was measured at no cost.
    pub dead_band: f64,
}

/// The moving-horizon estimate (Rao, Rawlings & Mayne, IEEE Transactions on Automatic Control 48, 2003): over the samples of a window
/// the states at its beginning, and what nobody knows between its samples, make the sum of the squares of all three least: of what
/// the outputs miss in units of their noise, of what nobody knows in units of its deviation, and of the beginning about what the
/// samples before the window had told (with the covariance of an extended Kalman filter). All within bounds and limits; by Gauss and
/// Newton with a quadratic program a turn. Without bounds, on a linear system, it is the Kalman filter.
#[derive(Debug, Clone)]
pub struct MovingHorizon {
    options: HorizonOptions,
    now: Gaussian,
    /// What was expected at each sample of the window before it was measured, the oldest first.
    expected: VecDeque<(usize, Gaussian)>,
    /// The states at each sample of the window as they were found last.
    pub(super) path: VecDeque<DVector<f64>>,
    /// What came to them between its samples by what nobody knows.
    changes: VecDeque<DVector<f64>>,
    unsolved: usize,
}

/// A window at some states at its beginning and unknown changes, with the derivatives by all of them.
struct Window {
    /// States at each sample.
    path: Vec<DVector<f64>>,
    /// What each output misses, sample after sample, in units of its noise; NaN where that counts for nothing.
    missed: Vec<f64>,
    cost: f64,
    /// Derivatives of the states and of the outputs at each sample.
    by: Vec<DMatrix<f64>>,
    of_outputs: Vec<DMatrix<f64>>,
}

/// What the window is solved for: the states at its beginning, then what comes unknown between its samples, for those states that are
/// not exact.
struct Unknowns {
    states: usize,
    samples: usize,
    /// The states that something unknown comes to.
    restless: Vec<usize>,
    /// Deviation of each unknown, those of the beginning left out.
    deviations: Vec<f64>,
    /// A matrix whose square is the inverse of the covariance at the beginning.
    root: DMatrix<f64>,
}

impl Unknowns {
    fn count(&self) -> usize {
        self.states + self.restless.len() * (self.samples - 1)
    }

    /// Place of what comes to the `r`-th restless state after sample `at` of the window.
    fn place(&self, at: usize, r: usize) -> usize {
        self.states + at * self.restless.len() + r
    }
}

impl MovingHorizon {
    /// From an estimate at the first sample, before it is corrected by it.
    #[must_use]
    pub fn new(start: Gaussian, options: HorizonOptions) -> Self {
        Self {
            options,
            now: start,
            expected: VecDeque::new(),
            path: VecDeque::new(),
            changes: VecDeque::new(),
            unsolved: 0,
        }
    }

    fn excess(&self, missed: f64) -> f64 {
        if missed.is_nan() {
            return missed;
        }
        (missed.abs() - self.options.dead_band).max(0.0).copysign(missed)
    }

    /// Follows the window from these values of the unknowns.
    fn follow(&self, system: &mut dyn Observed, unknowns: &Unknowns, values: &[f64]) -> Result<Window, Lost> {
        let (first, beginning) = &self.expected[0];
        let (n, outputs) = (unknowns.states, system.outputs());
        let mut x = DVector::from_column_slice(&values[..n]);
        let mut window =
            Window { path: Vec::new(), missed: Vec::new(), cost: 0.0, by: Vec::new(), of_outputs: Vec::new() };
        let away = &unknowns.root * (&x - &beginning.mean);
        window.cost += away.norm_squared();
        let mut shown = vec![0.0; outputs];
        let mut of_shown = DMatrix::zeros(outputs, n);
        let mut step = DMatrix::zeros(n, n);
        // The states by all unknowns.
        let mut by = DMatrix::zeros(n, unknowns.count());
        by.view_mut((0, 0), (n, n)).fill_with_identity();
        for at in 0..unknowns.samples {
            let k = first + at;
            system.show(k, x.as_slice(), &mut shown, Some(&mut of_shown));
            window.of_outputs.push(&of_shown * &by);
            window.by.push(by.clone());
            for (output, shown) in shown.iter().enumerate() {
                let missed = (shown - system.measured(k, output)) / system.noise(output).sqrt();
                let excess = self.excess(missed);
                // What is missing, or within the dead band, counts for nothing.
                let counts = excess.is_finite() && (excess != 0.0 || self.options.dead_band == 0.0);
                window.missed.push(if counts { excess } else { f64::NAN });
                window.cost += if counts { excess * excess } else { 0.0 };
            }
            window.path.push(x.clone());
            if at + 1 == unknowns.samples {
                break;
            }
            system.advance(k, x.as_mut_slice(), Some(&mut step))?;
            by = &step * &by;
            for (r, state) in unknowns.restless.iter().enumerate() {
                let place = unknowns.place(at, r);
                x[*state] += values[place];
                by[(*state, place)] += 1.0;
                window.cost += (values[place] / unknowns.deviations[place - n]).powi(2);
            }
        }
        if window.cost.is_finite() { Ok(window) } else { Err(Lost) }
    }

    fn unknowns(&self, system: &dyn Observed, k: usize) -> Unknowns {
        let first = self.expected[0].0;
        let n = system.states();
        let restless: Vec<usize> = (0..n).filter(|state| (first..k).any(|k| system.unrest(k, *state) > 0.0)).collect();
        let deviations = (first..k)
            .flat_map(|k| restless.iter().map(move |state| (k, *state)))
            .map(|(k, state)| system.unrest(k, state).max(f64::MIN_POSITIVE).sqrt())
            .collect();
        let root = beginning_root(&self.expected[0].1);
        Unknowns { states: n, samples: k + 1 - first, restless, deviations, root }
    }

    /// The window as it was found last, with the sample that has come since.
    fn start(&self, unknowns: &Unknowns) -> Vec<f64> {
        let mut values = vec![0.0; unknowns.count()];
        values[..unknowns.states].copy_from_slice(self.path[0].as_slice());
        for (at, changes) in self.changes.iter().enumerate() {
            for (r, state) in unknowns.restless.iter().enumerate() {
                let limit = self.options.limits[*state];
                values[unknowns.place(at, r)] = changes[*state].clamp(-limit, limit);
            }
        }
        values
    }

    /// What bounds the unknowns' changes at a turn.
    fn constraints(&self, system: &dyn Observed, unknowns: &Unknowns, values: &[f64], window: &Window) -> Constraints {
        let count = unknowns.count();
        let mut constraints = Constraints::new(count);
        let mut normal = vec![0.0; count];
        for (at, (path, by)) in window.path.iter().zip(&window.by).enumerate() {
            for state in 0..unknowns.states {
                let (low, high) = system.bounds(state);
                if low == f64::NEG_INFINITY && high == f64::INFINITY {
                    continue;
                }
                normal.iter_mut().zip(by.row(state).iter()).for_each(|(to, from)| *to = *from);
                constraints.within(&normal, low - path[state], high - path[state]);
            }
            for (r, state) in unknowns.restless.iter().enumerate() {
                let limit = self.options.limits[*state];
                if at + 1 < unknowns.samples && limit.is_finite() {
                    let place = unknowns.place(at, r);
                    normal.fill(0.0);
                    normal[place] = 1.0;
                    constraints.within(&normal, -limit - values[place], limit - values[place]);
                }
            }
        }
        constraints
    }

    /// Solves the window that ends at sample `k`.
    fn solve(&mut self, system: &mut dyn Observed, k: usize) -> Result<(), Lost> {
        let unknowns = self.unknowns(system, k);
        let (n, count, outputs) = (unknowns.states, unknowns.count(), system.outputs());
        let mut values = self.start(&unknowns);
        let mut window = self.follow(system, &unknowns, &values)?;
        let mut covariance = self.now.covariance.clone();
        for _ in 0..TURNS {
            let mut hessian = DMatrix::zeros(count, count);
            let mut gradient = DVector::zeros(count);
            let own = unknowns.root.transpose() * &unknowns.root;
            hessian.view_mut((0, 0), (n, n)).copy_from(&own);
            let away = DVector::from_column_slice(&values[..n]) - &self.expected[0].1.mean;
            gradient.rows_mut(0, n).copy_from(&(&own * away));
            for (j, deviation) in unknowns.deviations.iter().enumerate() {
                let weight = deviation.powi(-2);
                hessian[(n + j, n + j)] += weight;
                gradient[n + j] += weight * values[n + j];
            }
            for at in 0..unknowns.samples {
                for output in 0..outputs {
                    let missed = window.missed[at * outputs + output];
                    let row = window.of_outputs[at].row(output) / system.noise(output).sqrt();
                    if missed.is_finite() {
                        gradient.axpy(missed, &row.transpose(), 1.0);
                        hessian.ger(1.0, &row.transpose(), &row.transpose(), 1.0);
                    }
                }
            }
            // Unknowns have units of their own: each in units of what is known of it.
            let scale: Vec<f64> = (0..count).map(|i| hessian[(i, i)].max(f64::MIN_POSITIVE).sqrt().recip()).collect();
            let scaled = DMatrix::from_fn(count, count, |i, j| hessian[(i, j)] * scale[i] * scale[j]);
            let linear: Vec<f64> = gradient.iter().zip(&scale).map(|(g, s)| g * s).collect();
            let mut program = QuadraticProgram::new(&scaled).ok_or(Lost)?;
            let constraints = self.constraints(system, &unknowns, &values, &window).scaled(&scale);
            if program.solve(&linear, &constraints, 20 * count + 200) == Ending::Infeasible {
                return Err(Lost);
            }
            let change: Vec<f64> = program.x().iter().zip(&scale).map(|(x, s)| x * s).collect();
            let size = dot(program.x(), program.x()).sqrt();
            let mut share = 1.0;
            let mut better = None;
            for _ in 0..HALVINGS {
                let tried: Vec<f64> = values.iter().zip(&change).map(|(value, step)| value + share * step).collect();
                match self.follow(system, &unknowns, &tried) {
                    Ok(next) if next.cost <= window.cost + WORSE * window.cost.max(1.0) => {
                        better = Some((tried, next));
                        break;
                    }
                    _ => share *= 0.5,
                }
            }
            // The covariance at the end of the window: what is known of its unknowns, carried to its last sample.
            let inverse = scaled.try_inverse().ok_or(Lost)?;
            let by = &window.by[unknowns.samples - 1];
            let to_end = DMatrix::from_fn(n, count, |i, j| by[(i, j)] * scale[j]);
            covariance = &to_end * inverse * to_end.transpose();
            let Some((next, found)) = better else { break };
            (values, window) = (next, found);
            if size < SETTLED {
                break;
            }
        }
        self.changes = (0..unknowns.samples - 1)
            .map(|at| {
                let mut changes = DVector::zeros(n);
                for (r, state) in unknowns.restless.iter().enumerate() {
                    changes[*state] = values[unknowns.place(at, r)];
                }
                changes
            })
            .collect();
        self.path = window.path.into();
        if let Some(end) = self.path.back() {
            self.now = Gaussian { mean: end.clone(), covariance };
            self.now.keep_within(system);
        }
        Ok(())
    }
}

/// A matrix whose square is the inverse of the covariance at the beginning.
fn beginning_root(beginning: &Gaussian) -> DMatrix<f64> {
    let n = beginning.mean.len();
    let scale: Vec<f64> = (0..n).map(|i| beginning.deviation(i).max(f64::MIN_POSITIVE.sqrt())).collect();
    // What is known exactly, or exactly together with others, is known to a millionth.
    let correlation = DMatrix::from_fn(n, n, |i, j| {
        let value = beginning.covariance[(i, j)] / (scale[i] * scale[j]);
        if i == j { value.max(1.0) + 1e-12 } else { value }
    });
    let root = correlation.cholesky().and_then(|root| root.l().try_inverse());
    let mut root = root.unwrap_or_else(|| DMatrix::identity(n, n));
    root.column_iter_mut().zip(&scale).for_each(|(mut column, scale)| column /= *scale);
    root
}

impl Estimator for MovingHorizon {
    fn now(&self) -> &Gaussian {
        &self.now
    }

    fn correct(&mut self, system: &mut dyn Observed, k: usize, innovations: &mut Innovations) -> Result<(), Lost> {
        // What was expected, before anything is solved for.
        let mut plain = super::Extended::new(self.now.clone());
        plain.correct(system, k, innovations)?;
        self.expected.push_back((k, self.now.clone()));
        if !self.path.is_empty() {
            self.changes.push_back(DVector::zeros(self.now.mean.len()));
        }
        self.path.push_back(self.now.mean.clone());
        while self.expected.len() > self.options.window.max(1) {
            self.expected.pop_front();
            self.path.pop_front();
            self.changes.pop_front();
        }
        let is_due = k.is_multiple_of(self.options.every.max(1));
        if !is_due || self.solve(system, k).is_err() {
            self.unsolved += usize::from(is_due);
            self.now = plain.now().clone();
            if let Some(end) = self.path.back_mut() {
                end.copy_from(&self.now.mean);
            }
        }
        Ok(())
    }

    fn predict(&mut self, system: &mut dyn Observed, k: usize) -> Result<(), Lost> {
        carry(system, k, &mut self.now).map(drop)
    }

    /// The bounds of the window left no way, or the system ran away in it.
    fn unsolved(&self) -> usize {
        self.unsolved
    }
}
