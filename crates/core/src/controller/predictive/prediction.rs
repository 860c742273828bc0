//! What a predictive controller expects, as matrices: what comes by itself, and what its moves add.

use super::observer::Observer;
use super::settings::PredictiveSettings;
use crate::numerics::{dot, riccati};
use nalgebra::{DMatrix, DVector};

/// Most states with which the cost beyond the horizon is computed.
const MOST_STATES_BEYOND: usize = 120;
/// Points of the horizon at which limits of CVs are held: every scan at first, then further and further apart.
const LIMIT_POINTS: usize = 30;

/// `y = F (x; d) + S Δu` over the horizon: row `i·p + k` is CV `k` after `i + 1` scans; moves are by MV, then by time.
#[derive(Debug, Clone)]
pub(super) struct Prediction {
    pub scans: usize,
    pub outputs: usize,
    /// Scans at which the moves of each MV begin.
    pub begins: Vec<usize>,
    /// Free response, rows × (states + disturbances), by rows.
    free: Vec<f64>,
    width: usize,
    /// Effect of the moves, rows × moves, by rows.
    pub of_moves: Vec<f64>,
    pub moves: usize,
    /// Effect of a unit step of each measured disturbance, rows × disturbances, by rows.
    of_dvs: Vec<f64>,
    dvs: usize,
    /// Which measured disturbances are known ahead.
    known: Vec<usize>,
    /// Cost beyond the horizon, where there is one.
    pub beyond: Option<Beyond>,
    /// Scans, counted from 1, at which limits of CVs are held.
    pub limit_points: Vec<usize>,
}

/// The cost of what comes beyond the horizon: `(z − z_s)ᵀ X (z − z_s)` with the states of process and MVs `z` at its end.
#[derive(Debug, Clone)]
pub(super) struct Beyond {
    /// States that count, among those of the model.
    states: Vec<usize>,
    /// How `z` follows from the states and disturbances now.
    free: DMatrix<f64>,
    /// `z` by the moves, and that weighted.
    of_moves: DMatrix<f64>,
    weighted: DMatrix<f64>,
    /// `z` by unit steps of the measured disturbances.
    of_dvs: DMatrix<f64>,
    /// The same of each that is known ahead, by a step so many scans before the end: a column for each number of scans from 0 on.
    of_known: Vec<(usize, DMatrix<f64>)>,
    z: DVector<f64>,
}

/// Weights of the dynamic layer, squared.
#[derive(Debug, Clone)]
pub(super) struct Weights {
    pub errors: Vec<f64>,
    pub moves: Vec<f64>,
    /// Of MVs from where they should rest.
    pub positions: Vec<f64>,
}

impl Weights {
    /// With a model that is not `linear` no state of rest is sought: there MVs are led to what is wished of them, where there is a choice, and
    /// so softly that no set point is left for it.
    pub fn of(settings: &PredictiveSettings, linear: bool) -> Self {
        let led = settings.cvs.iter().filter(|cv| cv.follows_set_point).count();
        let spare = settings.mvs.len() > led;
        Self {
            errors: settings
                .cvs
                .iter()
                .map(|cv| if cv.follows_set_point { cv.weight * cv.weight } else { 0.0 })
                .collect(),
            moves: settings.mvs.iter().map(|mv| mv.usual_move.powi(-2)).collect(),
            // Where there are more MVs than set points something must lead them to where they should rest.
            positions: settings
                .mvs
                .iter()
                .map(|mv| {
                    let led = spare || mv.rests_at.is_some() || mv.cost != 0.0;
                    let share = match linear {
                        true if led => 0.01,
                        false if spare && mv.rests_at.is_some() => 1e-4,
                        _ => 0.0,
                    };
                    share * mv.usual_move.powi(-2)
                })
                .collect(),
        }
    }
}

impl Prediction {
    pub fn new(settings: &PredictiveSettings, observer: &Observer, scans: usize, weights: &Weights) -> Self {
        let model = &observer.model;
        let (m, p) = (settings.mvs.len(), settings.cvs.len());
        let begins: Vec<usize> = settings
            .moves
            .iter()
            .scan(0, |at, held| {
                let begin = *at;
                *at += *held as usize;
                Some(begin)
            })
            .collect();
        let held = standing(observer);
        let width = held.nrows();
        let mut seen = DMatrix::zeros(p, width);
        seen.columns_mut(0, model.order()).copy_from(model.matrices().2);
        seen.columns_mut(model.order(), observer.d.len()).copy_from(&observer.to_outputs);
        let mut free = Vec::with_capacity(scans * p * width);
        let mut row = seen;
        for _ in 0..scans {
            row = &row * &held;
            for k in 0..p {
                free.extend(row.row(k).iter());
            }
        }
        let moves = m * begins.len();
        let mut of_moves = vec![0.0; scans * p * moves];
        for j in 0..m {
            let response = model.step_response(j, scans);
            for (b, begin) in begins.iter().enumerate() {
                for i in *begin..scans {
                    for k in 0..p {
                        of_moves[(i * p + k) * moves + j * begins.len() + b] = response[(i - begin, k)];
                    }
                }
            }
        }
        let dvs = settings.dvs.len();
        let known: Vec<usize> = (0..dvs).filter(|k| settings.dvs[*k].known_ahead).collect();
        let mut of_dvs = vec![0.0; scans * p * dvs];
        for k in 0..dvs {
            let response = model.step_response(m + k, scans);
            for row in 0..scans * p {
                of_dvs[row * dvs + k] = response[(row / p, row % p)];
            }
        }
        let beyond = settings
            .beyond_horizon
            .then(|| Beyond::new(observer, (m, &known), &begins, scans, &held, weights))
            .flatten();
        Self {
            scans,
            outputs: p,
            begins,
            free,
            width,
            of_moves,
            moves,
            of_dvs,
            dvs,
            known,
            beyond,
            limit_points: limit_points(scans),
        }
    }

    /// What comes by itself, row by row, while all MVs stay as they are, and measured disturbances where they have just gone by `steps`.
    pub fn free_response(&self, state: &[f64], steps: &[f64], into: &mut [f64]) {
        for (value, row) in into.iter_mut().zip(self.free.chunks_exact(self.width)) {
            *value = dot(row, state);
        }
        if self.dvs > 0 {
            for (value, row) in into.iter_mut().zip(self.of_dvs.chunks_exact(self.dvs)) {
                *value += dot(row, steps);
            }
        }
    }

    /// Adds what the steps of disturbances that are known ahead will do: `coming` by disturbance and by scan from now on, the first of
    /// which has been made.
    pub fn add_known(&self, coming: &[Vec<f64>], into: &mut [f64]) {
        for k in &self.known {
            for (made, step) in coming[*k].iter().enumerate().skip(1).filter(|(_, step)| **step != 0.0) {
                let later = &mut into[made * self.outputs..];
                for (value, effect) in later.iter_mut().zip(self.of_dvs.iter().skip(*k).step_by(self.dvs)) {
                    *value += step * effect;
                }
            }
        }
    }

    /// Row of a CV after so many scans, counted from 1.
    pub fn row(&self, cv: usize, after: usize) -> usize {
        (after - 1) * self.outputs + cv
    }

    /// What the moves do to a row.
    pub fn effect(&self, row: usize) -> &[f64] {
        &self.of_moves[row * self.moves..(row + 1) * self.moves]
    }

    /// The matrix of the quadratic cost of the moves.
    pub fn cost(&self, weights: &Weights) -> DMatrix<f64> {
        let n = self.moves;
        let mut g = DMatrix::zeros(n, n);
        for row in 0..self.scans * self.outputs {
            let weight = weights.errors[row % self.outputs];
            if weight > 0.0 {
                let effect = DVector::from_column_slice(self.effect(row));
                g.syger(weight, &effect, &effect, 1.0);
            }
        }
        // Only the lower triangle was added to.
        g.fill_upper_triangle_with_lower_triangle();
        let blocks = self.begins.len();
        for (j, (of_move, of_position)) in weights.moves.iter().zip(&weights.positions).enumerate() {
            for b in 0..blocks {
                g[(j * blocks + b, j * blocks + b)] += of_move;
                for c in 0..blocks {
                    // Both have been made from the later of them on.
                    let scans = self.scans - self.begins[b.max(c)];
                    g[(j * blocks + b, j * blocks + c)] += of_position * scans as f64;
                }
            }
        }
        if let Some(beyond) = &self.beyond {
            g += beyond.of_moves.transpose() * &beyond.weighted;
        }
        g
    }
}

/// What states and disturbances become in a scan in which all inputs stay as they were.
fn standing(observer: &Observer) -> DMatrix<f64> {
    let model = &observer.model;
    let (phi, gamma, _) = model.matrices();
    let (order, own, count) = (model.order(), model.own(), observer.d.len());
    let mut held = DMatrix::identity(order + count, order + count);
    held.view_mut((0, 0), (order, order)).copy_from(phi);
    for input in 0..model.inputs() {
        let mut column = held.view_mut((0, model.memory(input).start), (order, 1));
        column += gamma.column(input);
    }
    held.view_mut((0, order), (own, count)).copy_from(&observer.to_states);
    held
}

fn limit_points(scans: usize) -> Vec<usize> {
    if scans <= LIMIT_POINTS {
        return (1..=scans).collect();
    }
    let dense = LIMIT_POINTS / 3;
    let rest = LIMIT_POINTS - dense;
    let ratio = (scans as f64 / dense as f64).powf(1.0 / rest as f64);
    let later = (1..=rest).map(|k| ((dense as f64 * ratio.powi(k as i32)).round() as usize).max(dense + k).min(scans));
    let mut points: Vec<usize> = (1..=dense).chain(later).collect();
    points.dedup();
    points
}

impl Beyond {
    fn new(
        observer: &Observer,
        (mvs, known): (usize, &[usize]),
        begins: &[usize],
        scans: usize,
        held: &DMatrix<f64>,
        weights: &Weights,
    ) -> Option<Self> {
        let model = &observer.model;
        let remembered = (0..mvs).flat_map(|input| model.memory(input));
        let states: Vec<usize> = (0..model.own()).chain(remembered).collect();
        let n = states.len();
        if n > MOST_STATES_BEYOND {
            return None;
        }
        let (_, gamma, c) = model.matrices();
        let a = DMatrix::from_fn(n, n, |i, j| held[(states[i], states[j])]);
        let b = DMatrix::from_fn(n, mvs, |i, j| gamma[(states[i], j)]);
        let c = DMatrix::from_fn(c.nrows(), n, |k, j| c[(k, states[j])]);
        let mut q = c.transpose() * DMatrix::from_diagonal(&DVector::from_column_slice(&weights.errors)) * &c;
        for (input, weight) in weights.positions.iter().enumerate() {
            let place = states.iter().position(|state| *state == model.memory(input).start)?;
            q[(place, place)] += weight;
        }
        let r = DMatrix::from_diagonal(&DVector::from_column_slice(&weights.moves));
        // The stage at the end of the horizon is counted there already.
        let cost = riccati(&a, &b, &q, &r)? - q;
        let mut power = DMatrix::identity(held.nrows(), held.ncols());
        let (mut square, mut left) = (held.clone(), scans);
        while left > 0 {
            if left % 2 == 1 {
                power = &power * &square;
            }
            square = &square * &square;
            left /= 2;
        }
        let free = DMatrix::from_fn(n, held.ncols(), |i, j| power[(states[i], j)]);
        let mut of_moves = DMatrix::zeros(n, mvs * begins.len());
        for input in 0..mvs {
            let mut z = b.column(input).into_owned();
            for after in 1..=scans {
                if after > 1 {
                    z = &a * z;
                }
                for (block, _) in begins.iter().enumerate().filter(|(_, begin)| scans - **begin == after) {
                    of_moves.set_column(input * begins.len() + block, &z);
                }
            }
        }
        let mut of_dvs = DMatrix::zeros(n, model.inputs() - mvs);
        let mut of_known = Vec::new();
        for k in 0..of_dvs.ncols() {
            let mut by_scans = DMatrix::zeros(n, scans + 1);
            let mut x = DVector::zeros(model.order());
            for after in 1..=scans {
                x = model.matrices().0 * x + gamma.column(mvs + k);
                by_scans.set_column(after, &DVector::from_fn(n, |i, _| x[states[i]]));
            }
            of_dvs.set_column(k, &by_scans.column(scans));
            if known.contains(&k) {
                of_known.push((k, by_scans));
            }
        }
        let weighted = &cost * &of_moves;
        Some(Self { states, free, of_moves, weighted, of_dvs, of_known, z: DVector::zeros(n) })
    }

    /// Adds its part of the linear term, from the states and disturbances now, the steps that measured disturbances have just made and
    /// those that are known to come, and where it should rest: the states of the process, and the MVs.
    pub fn linear(
        &mut self,
        observer: &Observer,
        state: &DVector<f64>,
        (steps, coming): (&DVector<f64>, &[Vec<f64>]),
        [own, mvs]: [&[f64]; 2],
        into: &mut DVector<f64>,
    ) {
        self.z.gemv(1.0, &self.free, state, 0.0);
        self.z.gemv(1.0, &self.of_dvs, steps, 1.0);
        for (k, by_scans) in &self.of_known {
            for (made, step) in coming[*k].iter().enumerate().skip(1).filter(|(_, step)| **step != 0.0) {
                self.z.axpy(*step, &by_scans.column(by_scans.ncols() - 1 - made), 1.0);
            }
        }
        for (z, state) in self.z.iter_mut().zip(&self.states) {
            let at_rest = own.get(*state).copied().unwrap_or_else(|| {
                let input = (0..mvs.len()).find(|input| observer.model.memory(*input).contains(state));
                input.map_or(0.0, |input| mvs[input])
            });
            *z -= at_rest;
        }
        into.gemv_tr(1.0, &self.weighted, &self.z, 1.0);
    }
}
