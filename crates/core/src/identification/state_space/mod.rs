//! State space by subspace identification, several inputs and outputs.
//!
//! The method follows Van Overschee & De Moor (Subspace Identification for Linear Systems, 1996) and, for the
//! weighting, Larimore's canonical
//! variates (CVA; Proc. American Control Conference, 1983) or MOESP (Verhaegen, Automatica 30, 1994): one QR
//! factorisation of past and future
//! inputs and outputs, a singular value decomposition for the order and the observability matrix, `A` and `C` from its
//! shift
//! invariance, `B` and the state at the start by linear least squares on the simulated output, `K` from the
//! innovations. From there on it goes to the estimate of maximum likelihood.
//! There is no direct feed-through: behind a hold every process answers one sample later at the earliest.

mod refine;
#[cfg(test)]
mod tests;

use super::agreement::{Response, differences};
use super::data::{DataSet, held};
use super::model::{FitOptions, FurtherStretch, Matrices, Model, Operating, Performance, SignalName, StartOfRecord};
use super::structure::Structure;
use crate::numerics::{MOST_SWEEPS, NormalEquations, eigenvalues};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use refine::{MOST_ENTRIES, Start};

/// Columns of past and future together that the horizon is chosen for.
const COLUMNS: usize = 120;
/// Highest order that is chosen from the singular values.
const HIGHEST_CHOSEN: usize = 10;

/// How the projection is weighted before its singular values are taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Weighting {
    /// Canonical variates: the singular values are canonical correlations.
    Cva,
    /// Orthogonal projection, as in MOESP.
    #[cfg(test)]
    Moesp,
}

/// Fits a state-space model.
pub(super) fn fit(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    let Structure::StateSpace { order } = options.structure else {
        return Err(Error::invalid("structure", options.structure.name(), "state space"));
    };
    if let Some(constraint) = options.constraints.first() {
        return Err(Error::invalid(
            "constraints.parameter",
            &constraint.parameter,
            "no constraint: its matrices are one choice of many",
        ));
    }
    if options.loss != super::Loss::Squares {
        return Err(Error::invalid("loss", "a robust loss", "squares: subspace identification knows no other"));
    }
    DataSet::validate_together(stretches, 20)?;
    let interval = DataSet::sample_time_of(stretches)?;
    let data = &stretches[0];
    let signals: Vec<Signals> = stretches.iter().map(|data| Signals::new(data, &data.means())).collect();
    let horizon = horizon(stretches, order);
    let subspace = Subspace::of(&signals, horizon, Weighting::Cva)?;
    let order = if order == 0 { subspace.suggested_order(data.inputs.len()) } else { order };
    if order + 1 > horizon * data.outputs.len() {
        return Err(Error::invalid("structure.order", order, format!("at most {}", horizon * data.outputs.len() - 1)));
    }
    let (mut system, mut starts) = subspace.system(&signals, order)?;
    system.refine(&signals, &mut starts);
    let operating = |k: usize| {
        let (inputs, mut outputs) = stretches[k].means();
        outputs.iter_mut().zip(&starts[k].levels).for_each(|(output, level)| *output += level);
        Operating { op: inputs[0], pv: outputs[0], inputs, outputs }
    };
    let name = |series: &super::Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
    Ok(Model {
        structure: Structure::StateSpace { order },
        method: "maximum likelihood, from subspaces of canonical variates".into(),
        inputs: data.inputs.iter().map(name).collect(),
        outputs: data.outputs.iter().map(name).collect(),
        sample_time: Some(interval),
        parameters: Vec::new(),
        covariance: Vec::new(),
        matrices: Some(system.into_matrices(subspace.singular_values.clone())),
        paths: Vec::new(),
        rows: Vec::new(),
        physical: None,
        operating: operating(0),
        start: StartOfRecord::default(),
        further: (1..stretches.len()).map(|k| FurtherStretch::at(operating(k))).collect(),
        first_stretch: None,
        noise: None,
        // Completed once it can be simulated.
        estimation: Performance::default(),
        criteria: None,
        verdicts: Vec::new(),
    })
}

/// Samples of past and of future that are looked at.
fn horizon(stretches: &[DataSet], order: usize) -> usize {
    let data = &stretches[0];
    let signals = data.inputs.len() + data.outputs.len();
    let by_data = stretches.iter().map(|data| data.axis.len()).sum::<usize>() / (8 * signals);
    let wanted = (COLUMNS / (2 * signals)).clamp(4, 20).max(order / data.outputs.len() + 2);
    wanted.min(by_data.max(3))
}

/// Inputs and outputs about rest, a column a signal.
pub(super) struct Signals {
    pub(super) inputs: DMatrix<f64>,
    /// NaN where missing.
    pub(super) outputs: DMatrix<f64>,
}

impl Signals {
    pub(super) fn new(data: &DataSet, (inputs, outputs): &(Vec<f64>, Vec<f64>)) -> Self {
        let columns: Vec<Vec<f64>> = data.inputs.iter().map(|series| held(&series.values)).collect();
        Self {
            inputs: DMatrix::from_fn(data.axis.len(), columns.len(), |k, j| columns[j][k] - inputs[j]),
            outputs: DMatrix::from_fn(data.axis.len(), data.outputs.len(), |k, j| {
                data.outputs[j].values[k] - outputs[j]
            }),
        }
    }
}

/// The projections of future outputs on the past, and their singular values.
pub(super) struct Subspace {
    horizon: usize,
    samples: usize,
    /// Future outputs from past inputs and outputs, future inputs taken off.
    from_past: DMatrix<f64>,
    /// The inverse of the weighting, times the left singular vectors times the roots of the singular values.
    observability: DMatrix<f64>,
    pub(super) singular_values: Vec<f64>,
}

impl Subspace {
    pub(super) fn of(signals: &[Signals], horizon: usize, weighting: Weighting) -> Result<Self> {
        let (m, l) = (signals[0].inputs.ncols(), signals[0].outputs.ncols());
        // A constant of each stretch beside the future inputs takes off what its means leave of the level.
        let constants = if weighting == Weighting::Cva { signals.len() } else { 0 };
        let (future_inputs, past) = (constants + horizon * m, horizon * (m + l));
        let width = future_inputs + past + horizon * l;
        let (triangle, samples) = triangle(signals, horizon, width, constants);
        if samples < 2 * width {
            return Err(Error::unfit(
                format!("only {samples} stretches of {} samples without gaps", 2 * horizon),
                format!("subspace identification needs at least {}: take a longer stretch or fill the gaps", 2 * width),
            ));
        }
        // R of the QR factorisation; its transpose is the L of the projections.
        let block = |row: usize, rows: usize, column: usize, columns: usize| {
            triangle.view((column, row), (columns, rows)).transpose()
        };
        let outputs_at = future_inputs + past;
        let past_factor = block(future_inputs, past, future_inputs, past);
        let projected = block(outputs_at, horizon * l, future_inputs, past);
        let left = block(outputs_at, horizon * l, outputs_at, horizon * l);
        let small = 1e-12 * past_factor.norm();
        let inverse = past_factor
            .pseudo_inverse(small)
            .map_err(|error| Error::unfit(error.to_string(), "check the data for columns that are the same"))?;
        let from_past = &projected * inverse;
        let (weighted, back) = match weighting {
            #[cfg(test)]
            Weighting::Moesp => (projected.clone(), DMatrix::identity(horizon * l, horizon * l)),
            Weighting::Cva => {
                let mut power = &projected * projected.transpose() + &left * left.transpose();
                let ridge = 1e-13 * power.trace();
                (0..power.nrows()).for_each(|k| power[(k, k)] += ridge);
                let factor = power
                    .cholesky()
                    .ok_or_else(|| Error::unfit("the outputs are not finite or stand still", "check the columns"))?
                    .l();
                let weighted = factor.solve_lower_triangular(&projected).unwrap_or_else(|| projected.clone());
                (weighted, factor)
            }
        };
        let decomposition = weighted.try_svd(true, false, f64::EPSILON, MOST_SWEEPS);
        let decomposition = decomposition
            .ok_or_else(|| Error::unfit("the data are too large or too small to be told apart", "check their units"))?;
        let singular_values: Vec<f64> = decomposition.singular_values.iter().copied().collect();
        let vectors = decomposition.u.unwrap_or_else(|| DMatrix::identity(horizon * l, horizon * l));
        let roots = DMatrix::from_diagonal(&decomposition.singular_values.map(|value| value.max(0.0).sqrt()));
        let observability = back * vectors.columns(0, roots.nrows()) * roots;
        Ok(Self { horizon, samples, from_past, observability, singular_values })
    }

    /// The order with the least `−N Σ ln(1 − ρ²)` of the canonical correlations left out, with Schwarz's price for each
    /// parameter.
    fn suggested_order(&self, inputs: usize) -> usize {
        let outputs = self.observability.nrows() / self.horizon;
        let left_out = |order: usize| {
            let terms = self.singular_values[order..].iter().map(|rho| -(1.0 - rho * rho).max(1e-12).ln());
            self.samples as f64 * terms.sum::<f64>()
        };
        let price = |order: usize| (order * (inputs + 2 * outputs)) as f64 * (self.samples as f64).ln();
        let highest = HIGHEST_CHOSEN.min(self.singular_values.len() - 1).min((self.horizon - 1) * outputs);
        let total = |order: usize| left_out(order) + price(order) * self.horizon as f64 / 2.0;
        (1..=highest).min_by(|a, b| total(*a).total_cmp(&total(*b))).unwrap_or(1)
    }

    /// `A` and `C` from the shift invariance of the observability matrix.
    pub(super) fn dynamics(&self, order: usize, outputs: usize) -> Result<(DMatrix<f64>, DMatrix<f64>)> {
        let gamma = self.observability.columns(0, order);
        let rows = gamma.nrows() - outputs;
        let (upper, lower) = (gamma.rows(0, rows).into_owned(), gamma.rows(outputs, rows).into_owned());
        let inverse = |matrix: DMatrix<f64>| {
            matrix
                .pseudo_inverse(1e-12 * gamma.norm())
                .map_err(|error| Error::unfit(error.to_string(), "take a lower order"))
        };
        let mut a = inverse(upper)? * &lower;
        if radius(a.clone()) > 1.0 + 3.0 / self.samples as f64 {
            // With zeros below, the shift cannot grow (Maciejowski, Proc. European Control Conference, 1995).
            let mut shifted = DMatrix::zeros(gamma.nrows(), order);
            shifted.rows_mut(0, rows).copy_from(&lower);
            a = inverse(gamma.into_owned())? * shifted;
        }
        Ok((a, gamma.rows(0, outputs).into_owned()))
    }

    /// The system, and how each stretch begins.
    fn system(&self, signals: &[Signals], order: usize) -> Result<(System, Vec<Start>)> {
        let (m, l) = (signals[0].inputs.ncols(), signals[0].outputs.ncols());
        let (a, c) = self.dynamics(order, l)?;
        let mut system =
            System { b: DMatrix::zeros(order, m), k: DMatrix::zeros(order, l), initial: DVector::zeros(order), a, c };
        let starts = system.set_inputs(signals)?;
        self.set_gain(&mut system, signals);
        Ok((system, starts))
    }

    /// `K` by regression of what `A x + B u` leaves of the next state on the innovations, where the states are
    /// estimated from the past.
    fn set_gain(&self, system: &mut System, stretches: &[Signals]) {
        let (m, l, n) = (system.b.ncols(), system.c.nrows(), system.a.nrows());
        let gamma = self.observability.columns(0, n).into_owned();
        let Ok(inverse) = gamma.clone().pseudo_inverse(1e-12 * gamma.norm()) else { return };
        let from_past = inverse * &self.from_past;
        let mut past = DVector::zeros(self.horizon * (m + l));
        let mut estimate = |signals: &Signals, t: usize| -> Option<DVector<f64>> {
            for k in 0..self.horizon {
                for j in 0..m {
                    past[k * m + j] = signals.inputs[(t - self.horizon + k, j)];
                }
                for j in 0..l {
                    past[self.horizon * m + k * l + j] = signals.outputs[(t - self.horizon + k, j)];
                }
            }
            past.iter().all(|value| value.is_finite()).then(|| &from_past * &past)
        };
        // The last row and column take up levels.
        let (mut cross, mut power) = (DMatrix::zeros(n, l + 1), DMatrix::zeros(l + 1, l + 1));
        for signals in stretches {
            let mut state =
                if signals.outputs.nrows() > self.horizon { estimate(signals, self.horizon) } else { continue };
            for t in self.horizon..signals.outputs.nrows() - 1 {
                let next = estimate(signals, t + 1);
                if let (Some(now), Some(next)) = (&state, &next) {
                    let innovation = (signals.outputs.row(t).transpose() - &system.c * now).push(1.0);
                    if innovation.iter().all(|value| value.is_finite()) {
                        let surprise = next - &system.a * now - &system.b * signals.inputs.row(t).transpose();
                        cross += surprise * innovation.transpose();
                        power += &innovation * innovation.transpose();
                    }
                }
                state = next;
            }
        }
        let Some(inverse) = power.try_inverse() else { return };
        let gain = (cross * inverse).columns(0, l).into_owned();
        // A gain that makes the predictor unstable is halved until it does not.
        for halvings in 0..6 {
            let tried = &gain * 0.5f64.powi(halvings);
            if radius(&system.a - &tried * &system.c) < 1.0 {
                system.k = tried;
                return;
            }
        }
    }
}

fn radius(matrix: DMatrix<f64>) -> f64 {
    eigenvalues(matrix).iter().map(|root| root.norm()).fold(0.0, f64::max)
}

/// The R of the QR factorisation of rows `(constants, future inputs, past inputs, past outputs, future outputs)`, and their
/// number; rows with
/// missing samples are passed over.
fn triangle(stretches: &[Signals], horizon: usize, width: usize, constants: usize) -> (DMatrix<f64>, usize) {
    let (m, l) = (stretches[0].inputs.ncols(), stretches[0].outputs.ncols());
    let batch = 4 * width;
    let mut stack = DMatrix::<f64>::zeros(width + batch, width);
    let (mut filled, mut samples) = (width, 0);
    let reduce = |stack: &mut DMatrix<f64>, filled: usize| {
        let upper = stack.rows(0, filled).into_owned().qr().r();
        stack.fill(0.0);
        stack.view_mut((0, 0), (upper.nrows(), width)).copy_from(&upper);
    };
    let starts = |signals: &Signals| horizon..(signals.outputs.nrows() + 1).saturating_sub(horizon);
    let all = stretches.iter().enumerate();
    for (stretch, signals, t) in all.flat_map(|(k, signals)| starts(signals).map(move |t| (k, signals, t))) {
        let mut column = 0;
        let mut put = |value: f64| {
            stack[(filled, column)] = value;
            column += 1;
        };
        (0..constants).for_each(|k| put(if k == stretch { 1.0 } else { 0.0 }));
        (0..horizon).for_each(|k| (0..m).for_each(|j| put(signals.inputs[(t + k, j)])));
        (0..horizon).for_each(|k| (0..m).for_each(|j| put(signals.inputs[(t - horizon + k, j)])));
        (0..horizon).for_each(|k| (0..l).for_each(|j| put(signals.outputs[(t - horizon + k, j)])));
        (0..horizon).for_each(|k| (0..l).for_each(|j| put(signals.outputs[(t + k, j)])));
        if stack.row(filled).iter().all(|value| value.is_finite()) {
            samples += 1;
            filled += 1;
        }
        if filled == stack.nrows() {
            reduce(&mut stack, filled);
            filled = width;
        }
    }
    reduce(&mut stack, filled);
    (stack.rows(0, width).into_owned(), samples)
}

/// `x⁺ = A x + B u + K e`, `y = C x + e`.
#[derive(Debug, Clone)]
pub(super) struct System {
    pub(super) a: DMatrix<f64>,
    pub(super) b: DMatrix<f64>,
    pub(super) c: DMatrix<f64>,
    pub(super) k: DMatrix<f64>,
    /// The state at the start of the first stretch.
    initial: DVector<f64>,
}

impl System {
    pub(super) fn of(matrices: &Matrices) -> Self {
        let matrix = |rows: &[Vec<f64>], columns: usize| {
            DMatrix::from_fn(rows.len(), columns, |i, j| rows[i].get(j).copied().unwrap_or(0.0))
        };
        let n = matrices.a.len();
        Self {
            a: matrix(&matrices.a, n),
            b: matrix(&matrices.b, matrices.b.first().map_or(0, Vec::len)),
            c: matrix(&matrices.c, n),
            k: matrix(&matrices.k, matrices.c.len()),
            initial: DVector::from_vec(matrices.initial.clone()),
        }
    }

    fn into_matrices(self, singular_values: Vec<f64>) -> Matrices {
        let rows = |matrix: &DMatrix<f64>| matrix.row_iter().map(|row| row.iter().copied().collect()).collect();
        Matrices {
            a: rows(&self.a),
            b: rows(&self.b),
            c: rows(&self.c),
            d: vec![vec![0.0; self.b.ncols()]; self.c.nrows()],
            k: rows(&self.k),
            initial: self.initial.iter().copied().collect(),
            singular_values,
        }
    }

    /// `B`, and for each stretch the state at its start and its levels, which are returned: the simulated output is linear
    /// in all.
    fn set_inputs(&mut self, stretches: &[Signals]) -> Result<Vec<Start>> {
        let (n, m, l) = (self.a.nrows(), self.b.ncols(), self.c.nrows());
        let mut sums = NormalEquations::new(n * m + stretches.len() * (n + l));
        for (k, signals) in stretches.iter().enumerate() {
            let first = n * m + k * (n + l);
            let places: Vec<usize> = (0..n * m).chain(first..first + n + l).collect();
            sums.add_at(&places, &self.sums_of_inputs(signals));
        }
        let (solution, _) = sums.linear_solution().ok_or_else(|| {
            Error::unfit("the data do not tell the input matrix", "take a lower order or a livelier input")
        })?;
        self.b = DMatrix::from_column_slice(n, m, &solution[..n * m]);
        self.initial = DVector::from_column_slice(&solution[n * m..n * (m + 1)]);
        let start = |own: &[f64]| Start { state: DVector::from_column_slice(&own[..n]), levels: own[n..].to_vec() };
        Ok(solution[n * m..].chunks(n + l).map(start).collect())
    }

    /// The sums of one stretch for `B`, the state at the start and the levels.
    fn sums_of_inputs(&self, signals: &Signals) -> NormalEquations {
        let (n, m, l) = (self.a.nrows(), self.b.ncols(), self.c.nrows());
        let count = n * (m + 1) + l;
        let mut sums = NormalEquations::new(count);
        // A state for each unknown: what it alone would do.
        let mut states = DMatrix::<f64>::zeros(n, count);
        (0..n).for_each(|i| states[(i, n * m + i)] = 1.0);
        let mut row = vec![0.0; count + 1];
        for t in 0..signals.outputs.nrows() {
            let outputs = &self.c * &states;
            for j in 0..l {
                row[..count].iter_mut().zip(outputs.row(j).iter()).for_each(|(to, from)| *to = *from);
                row[n * (m + 1) + j] = 1.0;
                row[count] = signals.outputs[(t, j)];
                if row.iter().all(|value| value.is_finite()) {
                    sums.add(&row);
                }
            }
            states = &self.a * states;
            for input in 0..m {
                (0..n).for_each(|i| states[(i, input * n + i)] += signals.inputs[(t, input)]);
            }
        }
        sums
    }

    /// Outputs from the inputs alone, from rest, a column an output.
    pub(super) fn forced(&self, signals: &Signals) -> Vec<Vec<f64>> {
        self.run(signals, &DMatrix::zeros(self.a.nrows(), self.c.nrows()))
    }

    /// Outputs one sample ahead with a gain on the errors.
    pub(super) fn run(&self, signals: &Signals, gain: &DMatrix<f64>) -> Vec<Vec<f64>> {
        let mut state = DVector::zeros(self.a.nrows());
        let mut outputs = vec![Vec::with_capacity(signals.outputs.nrows()); self.c.nrows()];
        for t in 0..signals.outputs.nrows() {
            let y = &self.c * &state;
            let mut next = &self.a * &state + &self.b * signals.inputs.row(t).transpose();
            for (j, column) in outputs.iter_mut().enumerate() {
                column.push(y[j]);
                let error = signals.outputs[(t, j)] - y[j];
                if error.is_finite() {
                    next += gain.column(j) * error;
                }
            }
            state = next;
        }
        outputs
    }

    /// What each state at the start leaves behind in the outputs, where `matrix` carries the state on.
    pub(super) fn free_responses(&self, matrix: &DMatrix<f64>, samples: usize) -> Vec<Vec<Vec<f64>>> {
        let n = self.a.nrows();
        let mut states = DMatrix::<f64>::identity(n, n);
        let mut bases = vec![vec![Vec::with_capacity(samples); self.c.nrows()]; n];
        for _ in 0..samples {
            let outputs = &self.c * &states;
            for (i, basis) in bases.iter_mut().enumerate() {
                basis.iter_mut().enumerate().for_each(|(j, series)| series.push(outputs[(j, i)]));
            }
            states = matrix * states;
        }
        bases
    }

    /// `A − K C`, which carries the predictor's state on.
    pub(super) fn predictor(&self) -> DMatrix<f64> {
        &self.a - &self.k * &self.c
    }
}

/// The inputs and outputs about the rest of a model, and its outputs lifted to there.
fn about_rest(model: &Model, data: &DataSet) -> Signals {
    Signals::new(data, &(model.operating.inputs.clone(), model.operating.outputs.clone()))
}

fn lifted(model: &Model, outputs: Vec<Vec<f64>>) -> Vec<Vec<f64>> {
    let lift = |(series, rest): (Vec<f64>, &f64)| series.into_iter().map(|value| value + rest).collect();
    outputs.into_iter().zip(&model.operating.outputs).map(lift).collect()
}

/// What the inputs of these data make of the outputs.
pub(super) fn response(model: &Model, matrices: &Matrices, data: &DataSet) -> Response {
    let system = System::of(matrices);
    let outputs = lifted(model, system.forced(&about_rest(model, data)));
    Response { outputs, bases: system.free_responses(&system.a, data.axis.len()) }
}

/// One-step prediction errors of each output in these data.
pub(super) fn prediction_errors(model: &Model, matrices: &Matrices, data: &DataSet) -> Vec<Vec<f64>> {
    let system = System::of(matrices);
    let predicted = lifted(model, system.run(&about_rest(model, data), &system.k));
    let bases = system.free_responses(&system.predictor(), data.axis.len());
    let (outputs, _) = Response { outputs: predicted, bases }.started(&data.outputs);
    data.outputs.iter().zip(&outputs).map(|(series, output)| differences(series, output)).collect()
}

/// The model with entry `index` of `A`, `B`, `C`, `K` in this order moved by `by`.
pub(super) fn with_entry(model: &Model, index: usize, by: f64) -> Model {
    let mut moved = model.clone();
    if let Some(matrices) = &mut moved.matrices {
        let parts = [&mut matrices.a, &mut matrices.b, &mut matrices.c, &mut matrices.k];
        if let Some(entry) = parts.into_iter().flatten().flatten().nth(index) {
            *entry += by;
        }
    }
    moved
}

/// Covariance of the entries of `A`, `B`, `C`, `K`, and a step for each by which it may be moved.
///
/// The states can be chosen in many ways, so that the entries are not determined by the data; what does not depend on
/// that choice, such as a response, is. The pseudo-inverse of the information matrix gives the variance of just that
/// (Pintelon, Schoukens, McKelvey & Rolain, Automatica 32, 1996, on overparametrised models). None when there are too many
/// entries.
pub(super) fn entry_covariance(model: &Model, data: &DataSet) -> Option<(Vec<f64>, DMatrix<f64>)> {
    const MOST_SAMPLES: usize = 20_000;
    let matrices = model.matrices.as_ref()?;
    let entries: Vec<f64> =
        [&matrices.a, &matrices.b, &matrices.c, &matrices.k].into_iter().flatten().flatten().copied().collect();
    if entries.len() > MOST_ENTRIES {
        return None;
    }
    let size = entries.iter().map(|value| value * value).sum::<f64>().sqrt() / (entries.len() as f64).sqrt();
    let steps: Vec<f64> = entries.iter().map(|value| 1e-5 * (value.abs() + size)).collect();
    let all = data.axis.len();
    let part = data.slice(0..all.min(MOST_SAMPLES));
    let share = part.axis.len() as f64 / all as f64;
    let covariance = System::of(matrices).entry_covariance(&about_rest(model, &part), share)?;
    Some((steps, covariance))
}
