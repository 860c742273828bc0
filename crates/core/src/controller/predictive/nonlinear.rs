//! Prediction with a model that is not linear: its equations are integrated, and linearised along the path that was planned last.
//!
//! What is believed is carried by an extended Kalman filter over the states of the process and the disturbances that explain what it does
//! not. At each scan the equations are integrated with the moves that were planned at the scan before, and what a change of these moves
//! would do follows from their derivatives on that path (Newton's method, begun where the last scan ended: Li & Biegler, Industrial &
//! Engineering Chemistry Research 27, 1988; Diehl, Bock & Schlöder, SIAM J. Control and Optimization 43, 2005). A plan that the equations
//! make worse than the path was is made again nearer to it (a trust region, common practice).

use super::carrying::{Drifting, Equations, Piece};
use super::settings::{DisturbanceAt, PredictiveSettings};
use crate::estimation::Gaussian;
use crate::lti::TransferMatrix;
use crate::numerics::eigenvalues;
use crate::numerics::ode::Breakdown;
use crate::process::{
    Description, Held, Process, Rest, SteadyState, at_ports, rests_at, steady_states, transfer_matrix,
};
use crate::units::Span;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};

/// What settles no slower than this a scan settles.
const SETTLES: f64 = 1.0 - 1e-9;
/// What states gain in a scan by what nobody knows, in % of the MVs.
const UNREST: f64 = 1e-2;
/// Scans in which the filter comes to rest before anything happens.
const SETTLING_SCANS: usize = 400;
/// Share of a parameter that is a unit of how far it has drifted.
const PART: f64 = 0.01;
/// What a unit of it must do to a CV at least, in % of span, to be told.
const SHOWN: f64 = 1e-4;
/// How far it is looked for, in such units, and how near a CV must then rest, as a share of its span.
const WIDER: [f64; 8] = [1.0, 3.0, 7.0, 15.0, 30.0, 50.0, 75.0, 99.0];
const RESTS: f64 = 1e-7;
const MOST_HALVINGS: usize = 60;

/// How an input of the process comes to it.
#[derive(Debug, Clone, Copy)]
struct Port {
    input: usize,
    /// Dead time: whole scans, and what is left, s.
    scans: usize,
    remainder: f64,
}

/// An MV among the inputs of the process.
#[derive(Debug, Clone, Copy)]
struct Moved {
    input: usize,
    at_0: f64,
    /// Change of the input per %.
    rate: f64,
}

/// Where a disturbance acts: at an input, which a unit of it changes by so much, at a parameter, or at a CV.
#[derive(Debug, Clone, Copy)]
enum Acts {
    Input(usize, f64),
    Parameter(Drifting),
    Output(usize),
}

/// A process as it is believed to stand.
#[derive(Clone)]
pub(super) struct NonLinear {
    equations: Equations,
    scan: f64,
    inputs: Vec<f64>,
    moved: Vec<Moved>,
    dvs: Vec<usize>,
    cvs: Vec<(usize, Span)>,
    ports: Vec<Port>,
    /// Those that MVs or disturbances move.
    moving: Vec<usize>,
    /// Where the pieces of a scan end, in which all inputs stand.
    cuts: Vec<f64>,
    acts: Vec<Acts>,
    /// Of which CV each disturbance is, where nobody has said where it acts.
    free_to_act: Vec<Option<usize>>,
    /// How soon each disturbance is believed, s.
    believed_after: Vec<f64>,
    believed: Gaussian,
    unrest: DMatrix<f64>,
    /// All inputs as they stood in the scans that have passed, the last one first, without disturbances.
    past: Vec<Vec<f64>>,
    /// MVs as they were planned, in %, by scan.
    planned: Vec<Vec<f64>>,
}

impl std::fmt::Debug for NonLinear {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NonLinear").field("believed", &self.believed).finish_non_exhaustive()
    }
}

/// Of several states of rest that whose outputs are nearest.
fn nearest(all: Vec<SteadyState>, outputs: &[(usize, f64, f64)]) -> Option<SteadyState> {
    let off = |state: &SteadyState| -> f64 {
        outputs.iter().map(|(output, value, width)| ((state.outputs[*output] - value) / width).powi(2)).sum()
    };
    all.into_iter().min_by(|a, b| off(a).total_cmp(&off(b)))
}

/// The inputs of a model that is not linear before anything happens, and the MVs among them.
fn inputs_of(settings: &PredictiveSettings, description: &Description) -> Result<(Vec<f64>, Vec<Moved>)> {
    let inputs = description.inputs_with(&settings.inputs, "controller.inputs")?;
    let mut moved = Vec::new();
    for (k, mv) in settings.mvs.iter().enumerate() {
        let field = format!("controller.mvs[{k}]");
        let input = Description::position(&description.inputs, &mv.input, &format!("{field}.input"))?;
        let unit = &description.inputs[input].unit;
        let Some(drives) = &mv.drives else {
            let sentence =
                format!("A model that is not linear must know what {} is at 0 % and at 100 %, in {unit}.", mv.input);
            return Err(Error::said(format!("{field}.drives"), sentence));
        };
        let rate = (drives.at_100 - drives.at_0) / 100.0;
        moved.push(Moved { input, at_0: drives.at_0, rate });
    }
    Ok((inputs, moved))
}

/// The process of a model that is not linear.
fn process_of(settings: &PredictiveSettings) -> Result<Box<dyn Process>> {
    settings.model.build("").map_err(|error| error.within("controller.model", "process"))
}

/// The state of rest under these inputs whose outputs are nearest to those of some states; None where there is no rest.
fn rest_near(process: &dyn Process, states: &[f64], inputs: &[f64]) -> Option<SteadyState> {
    let mut outputs = vec![0.0; process.description().outputs.len()];
    process.outputs(states, &at_ports(process, inputs), Held::default(), &mut outputs);
    let wanted: Vec<(usize, f64, f64)> =
        outputs.iter().enumerate().map(|(k, value)| (k, *value, value.abs().max(1e-6))).collect();
    nearest(steady_states(process, inputs), &wanted)
}

/// From the inputs of a model that is not linear to its outputs, about the state of rest that is nearest to its usual one.
pub(super) fn about_rest(settings: &PredictiveSettings) -> Result<TransferMatrix> {
    let process = process_of(settings)?;
    let (inputs, _) = inputs_of(settings, process.description())?;
    let usual: Vec<f64> = process.description().states.iter().map(|state| state.value).collect();
    let rest = rest_near(process.as_ref(), &usual, &inputs).map_or(usual, |rest| rest.state);
    transfer_matrix(process.as_ref(), &rest, &inputs)
}

/// The parameter of each CV that drifts, where one does. Errors where there is none of that name, where it cannot change while the process
/// runs, and where the CV rests at the same value whatever it is: then nothing tells of it but how the CV moves.
fn drifting(settings: &PredictiveSettings, spans: &[Span], process: &mut dyn Process) -> Result<Vec<Option<Drifting>>> {
    let (inputs, _) = inputs_of(settings, process.description())?;
    let usual: Vec<f64> = process.description().states.iter().map(|state| state.value).collect();
    let mut all = Vec::new();
    for (k, cv) in settings.cvs.iter().enumerate() {
        let Some(DisturbanceAt::Parameter(name)) = &cv.disturbance else {
            all.push(None);
            continue;
        };
        let field = format!("controller.cvs[{k}].disturbance");
        let index = Description::position(&process.description().parameters, name, &field)?;
        let (low, high) = (process.description().parameters[index].low, process.description().parameters[index].high);
        let first = process.parameters()[index];
        let unit = if first == 0.0 { PART } else { PART * first.abs() };
        let other = if first + unit <= high { first + unit } else { first - unit };
        let cannot = |error: Error| Error::said(&field, format!("The parameter {name} cannot drift: {error}"));
        let output =
            Description::position(&process.description().outputs, &cv.output, &format!("controller.cvs[{k}].output"))?;
        let before = rest_near(process, &usual, &inputs);
        process.set_parameter(index, other).map_err(cannot)?;
        let after = before.as_ref().and_then(|before| rest_near(process, &before.state, &inputs));
        process.set_parameter(index, first).map_err(cannot)?;
        if let (Some(before), Some(after)) = (before, after)
            && 100.0 * (after.outputs[output] - before.outputs[output]).abs() < SHOWN * spans[k].width()
        {
            let sentence = format!(
                "{} rests at the same value whatever {} is: that changes only how it gets there, and cannot be told by it.",
                cv.tag,
                name.replace('_', " ")
            );
            return Err(Error::said(field, sentence));
        }
        all.push(Some(Drifting { index, first, unit, range: (low, high) }));
    }
    Ok(all)
}

impl NonLinear {
    /// Of settings whose model is not linear, with the spans of the CVs, scanned every `scan` s; `places` are where disturbances act.
    pub fn new(
        settings: &PredictiveSettings,
        spans: &[Span],
        scan: f64,
        scans: usize,
        places: &[(usize, DisturbanceAt)],
    ) -> Result<Self> {
        let mut process = process_of(settings)?;
        let drifting = drifting(settings, spans, process.as_mut())?;
        let equations = Equations::new(settings.model.clone(), process);
        let description = equations.process().description();
        let (inputs, moved) = inputs_of(settings, description)?;
        let position =
            |list: &[crate::process::Quantity], name: &str, field: String| Description::position(list, name, &field);
        let mut dvs = Vec::new();
        for (k, dv) in settings.dvs.iter().enumerate() {
            dvs.push(position(&description.inputs, &dv.input, format!("controller.dvs[{k}].input"))?);
        }
        let mut cvs = Vec::new();
        for (k, (cv, span)) in settings.cvs.iter().zip(spans).enumerate() {
            cvs.push((
                position(&description.outputs, &cv.output, format!("controller.cvs[{k}].output"))?,
                span.clone(),
            ));
        }
        let mut acts = Vec::new();
        let free_to_act = places.iter().map(|(cv, _)| settings.cvs[*cv].disturbance.is_none().then_some(*cv)).collect();
        let mut believed_after = Vec::new();
        for (cv, place) in places {
            believed_after.push(settings.cvs[*cv].believes_after(scan));
            acts.push(match place {
                DisturbanceAt::Input(name) => match settings.mvs.iter().position(|mv| mv.input == *name) {
                    Some(j) => Acts::Input(moved[j].input, moved[j].rate),
                    None => Acts::Input(
                        position(&description.inputs, name, format!("controller.cvs[{cv}].disturbance"))?,
                        1.0,
                    ),
                },
                DisturbanceAt::Parameter(_) => match drifting[*cv] {
                    Some(drifting) => Acts::Parameter(drifting),
                    None => Acts::Output(*cv),
                },
                _ => Acts::Output(*cv),
            });
        }
        let ports: Vec<Port> = equations
            .process()
            .ports()
            .iter()
            .map(|port| {
                let late = port.dead_time.sampled(scan);
                Port { input: port.input, scans: late.scans, remainder: late.remainder }
            })
            .collect();
        let moves = |input: usize| {
            let disturbed = acts.iter().any(|acts| matches!(acts, Acts::Input(at, _) if *at == input));
            disturbed || moved.iter().any(|moved| moved.input == input)
        };
        let moving = (0..ports.len()).filter(|port| moves(ports[*port].input)).collect();
        let mut cuts: Vec<f64> = ports.iter().map(|port| port.remainder).filter(|at| *at > 0.0).chain([scan]).collect();
        cuts.sort_by(f64::total_cmp);
        cuts.dedup_by(|a, b| (*a - *b).abs() < 1e-9 * scan);
        let states: Vec<f64> = description.states.iter().map(|state| state.value).collect();
        let all = states.len() + acts.len();
        let longest = ports.iter().map(|port| port.scans).max().unwrap_or(0) + 2;
        Ok(Self {
            believed: Gaussian {
                mean: DVector::from_iterator(all, states.into_iter().chain(acts.iter().map(|_| 0.0))),
                covariance: DMatrix::zeros(all, all),
            },
            unrest: DMatrix::zeros(all, all),
            past: vec![inputs.clone(); longest],
            planned: vec![vec![0.0; scans]; moved.len()],
            equations,
            scan,
            inputs,
            moved,
            dvs,
            cvs,
            ports,
            moving,
            cuts,
            acts,
            free_to_act,
            believed_after,
        })
    }

    fn states(&self) -> usize {
        self.believed.mean.len() - self.acts.len()
    }

    /// The disturbances as they are believed.
    pub fn disturbances(&self) -> &[f64] {
        &self.believed.mean.as_slice()[self.states()..]
    }

    /// The parameters that drift: which disturbance each is, its name and unit, what it is believed to be, and what it was given as.
    pub fn estimated(&self) -> impl Iterator<Item = (usize, &str, &str, f64, f64)> {
        self.drifting().map(|(k, own)| {
            let known = &self.equations.process().description().parameters[own.index];
            (k, known.name.as_str(), known.unit.as_str(), own.value(self.disturbances()[k]), own.first)
        })
    }

    /// The parameters that drift, and which of the disturbances each is.
    fn drifting(&self) -> impl Iterator<Item = (usize, Drifting)> {
        let of_act = |(k, acts): (usize, &Acts)| match acts {
            Acts::Parameter(drifting) => Some((k, *drifting)),
            _ => None,
        };
        self.acts.iter().enumerate().filter_map(of_act)
    }

    /// Lets the parameters that drift be what is believed of them.
    fn take_parameters(&mut self) {
        let now: Vec<(usize, f64)> =
            self.drifting().map(|(k, own)| (own.index, own.value(self.disturbances()[k]))).collect();
        now.into_iter().for_each(|(index, value)| self.equations.set_parameter(index, value));
    }

    /// All inputs where MVs stand at these, in %, and measured disturbances at those.
    fn all_inputs(&self, mvs: &[f64], dvs: &[f64]) -> Vec<f64> {
        let mut inputs = self.inputs.clone();
        for (moved, percent) in self.moved.iter().zip(mvs) {
            inputs[moved.input] = moved.at_0 + moved.rate * percent;
        }
        for (input, value) in self.dvs.iter().zip(dvs) {
            inputs[*input] = *value;
        }
        inputs
    }

    /// Rests where the CVs, in % of span, have long been what they are with these MVs and measured disturbances. Returns the disturbances
    /// that act at an MV now, by their places: what does not stay there by itself hides one at its output.
    pub fn rest(&mut self, measured: &[f64], mvs: &[f64], dvs: &[f64]) -> Vec<(usize, usize)> {
        let inputs = self.all_inputs(mvs, dvs);
        let wanted: Vec<(usize, f64, f64)> = self
            .cvs
            .iter()
            .zip(measured)
            .filter(|(_, percent)| percent.is_finite())
            .map(|((output, span), percent)| (*output, span.from_percent(*percent), span.width()))
            .collect();
        let n = self.states();
        let mut mean = self.believed.mean.clone();
        mean.fill(0.0);
        self.past.iter_mut().for_each(|past| past.clone_from(&inputs));
        self.believed.mean.fill(0.0);
        self.take_parameters();
        let by_itself = nearest(steady_states(self.equations.process(), &inputs), &wanted).map(|rest| rest.state);
        let moved = by_itself.as_ref().map_or_else(Vec::new, |state| self.move_to_inputs(state));
        // A disturbance at an input or a parameter is what makes the model rest where the plant does; of several the first is sought.
        let first = self.acts.iter().enumerate().find(|(_, acts)| !matches!(acts, Acts::Output(_)));
        let sought = first.map(|(k, acts)| (k, *acts)).and_then(|(k, acts)| {
            let (disturbance, state) = match acts {
                Acts::Input(input, per_unit) => {
                    let (output, value, _) = wanted[0];
                    let rest = Rest { input, output, wanted: value };
                    let found = nearest(rests_at(self.equations.process(), &inputs, rest), &wanted)?;
                    ((found.inputs[input] - inputs[input]) / per_unit, found.state)
                }
                Acts::Parameter(drifting) => self.rest_by(drifting, &inputs, &wanted)?,
                Acts::Output(_) => return None,
            };
            mean[n + k] = disturbance;
            Some(state)
        });
        let state = sought
            .or(by_itself)
            .unwrap_or_else(|| self.equations.process().description().states.iter().map(|state| state.value).collect());
        mean.rows_mut(0, n).copy_from_slice(&state);
        self.believed.mean = mean;
        self.take_parameters();
        for (planned, mv) in self.planned.iter_mut().zip(mvs) {
            planned.fill(*mv);
        }
        let shown = self.outputs();
        for (k, acts) in self.acts.iter().enumerate() {
            if let Acts::Output(cv) = acts {
                self.believed.mean[n + k] = measured[*cv] - shown[*cv];
            }
        }
        self.settle_filter();
        moved
    }

    /// By how much a parameter must have drifted for the first of these outputs to rest where it is, and the states there; None where no value
    /// does it. With some values, that which was given among them, there may be no rest at all.
    fn rest_by(&mut self, drifting: Drifting, inputs: &[f64], wanted: &[(usize, f64, f64)]) -> Option<(f64, Vec<f64>)> {
        let (output, value, width) = wanted[0];
        let mut off = |disturbance: f64| {
            self.equations.set_parameter(drifting.index, drifting.value(disturbance));
            let rest = nearest(steady_states(self.equations.process(), inputs), wanted)?;
            Some(((rest.outputs[output] - value) / width, rest.state))
        };
        let near = |off: f64| off.abs() < RESTS;
        let first = off(0.0);
        if let Some((first, state)) = &first
            && near(*first)
        {
            return Some((0.0, state.clone()));
        }
        // Outwards until it is between two values, or else between one with a rest and one without.
        let mut ends = [(0.0, first.map(|(off, _)| off)); 2];
        let mut edges = Vec::new();
        let between = 'sought: {
            for step in WIDER {
                for (end, sign) in ends.iter_mut().zip([1.0, -1.0]) {
                    let now = (sign * step, off(sign * step).map(|(off, _)| off));
                    let before = std::mem::replace(end, now);
                    match (before.1, now.1) {
                        (Some(one), Some(other)) if one.signum() != other.signum() => {
                            break 'sought Some(((before.0, one), now.0));
                        }
                        (Some(one), None) => edges.push(((before.0, one), now.0)),
                        (None, Some(one)) => edges.push(((now.0, one), before.0)),
                        _ => {}
                    }
                }
            }
            None
        };
        // By halves of what is left; where it does not rest is beyond.
        for (mut one, mut other) in between.into_iter().chain(edges) {
            for _ in 0..MOST_HALVINGS {
                let middle = 0.5 * (one.0 + other);
                match off(middle) {
                    Some((now, state)) if near(now) => return Some((middle, state)),
                    Some((now, _)) if now.signum() == one.1.signum() => one = (middle, now),
                    _ => other = middle,
                }
            }
        }
        None
    }

    /// Lets disturbances act at MVs that could act anywhere, where the process does not come back to this state by itself. Returns which, and
    /// at which MV.
    fn move_to_inputs(&mut self, state: &[f64]) -> Vec<(usize, usize)> {
        let (n, count) = (self.states(), self.acts.len());
        let Ok((_, slopes)) = self.over_scan(state) else { return Vec::new() };
        let phi = slopes.columns(0, n).into_owned();
        if eigenvalues(phi.clone()).iter().all(|root| root.norm() < SETTLES) {
            return Vec::new();
        }
        let seen = self.seen(state).columns(0, n).into_owned();
        // What a step of each MV does to the CVs over the horizon.
        let effects: Vec<DVector<f64>> = (0..self.moved.len())
            .map(|j| {
                let (into, mut x) = (slopes.column(n + count + j).into_owned(), DVector::zeros(n));
                for _ in 0..self.planned[j].len() {
                    x = &phi * x + &into;
                }
                &seen * x
            })
            .collect();
        let mut moved: Vec<(usize, usize)> = Vec::new();
        for k in 0..count {
            let (Acts::Output(_), Some(cv)) = (self.acts[k], self.free_to_act[k]) else { continue };
            let free = |j: &usize| {
                let input = self.moved[*j].input;
                !self.acts.iter().any(|acts| matches!(acts, Acts::Input(taken, _) if *taken == input))
            };
            let strongest = (0..self.moved.len())
                .filter(free)
                .max_by(|a, b| effects[*a][cv].abs().total_cmp(&effects[*b][cv].abs()));
            if let Some(j) = strongest {
                // An MV is among what moves already.
                self.acts[k] = Acts::Input(self.moved[j].input, self.moved[j].rate);
                moved.push((k, j));
            }
        }
        moved
    }

    /// The covariance where nothing has happened for long.
    fn settle_filter(&mut self) {
        let n = self.states();
        let here = self.believed.mean.rows(0, n).into_owned();
        let Ok((_, slopes)) = self.over_scan(here.as_slice()) else { return };
        let phi = slopes.view((0, 0), (n, n)).into_owned();
        let seen = self.seen(here.as_slice());
        let mut unrest = DMatrix::zeros(n + self.acts.len(), n + self.acts.len());
        for j in 0..self.moved.len() {
            let of_mv = slopes.column(n + self.acts.len() + j) * UNREST;
            let mut own = unrest.view_mut((0, 0), (n, n));
            own += &of_mv * of_mv.transpose();
        }
        for (k, acts) in self.acts.iter().enumerate() {
            let after = self.believed_after[k];
            let share = (1.0 - (-self.scan / after).exp()).min(1.0 - 1e-6);
            let mut step = share * share / (1.0 - share);
            if !matches!(acts, Acts::Output(_)) {
                // It shows by and by: by so much after that time, in the CV that shows it most.
                let (into, mut state) = (slopes.column(n + k).into_owned(), DVector::zeros(n));
                for _ in 0..((after / self.scan).ceil() as usize).clamp(1, 10_000) {
                    state = &phi * state + &into;
                }
                let shows = (seen.columns(0, n) * state).amax();
                // A parameter of which nothing shows here stays as it was given.
                let is_told = !matches!(acts, Acts::Parameter(_)) || shows > SHOWN;
                step = if is_told { step / shows.powi(2).max(1e-12) } else { 0.0 };
            }
            unrest[(n + k, n + k)] = step;
        }
        self.unrest = unrest;
        self.believed.covariance = &self.unrest * 10.0;
        for _ in 0..SETTLING_SCANS {
            self.carry_covariance(&slopes);
            for cv in 0..self.cvs.len() {
                self.believed.correct(0.0, &seen.row(cv).transpose(), 1.0);
            }
        }
        self.believed.mean.rows_mut(0, n).copy_from(&here);
    }

    fn carry_covariance(&mut self, slopes: &DMatrix<f64>) {
        let (n, all) = (self.states(), self.believed.mean.len());
        let mut carried = DMatrix::identity(all, all);
        carried.rows_mut(0, n).copy_from(&slopes.columns(0, all));
        self.believed.covariance = &carried * &self.believed.covariance * carried.transpose() + &self.unrest;
    }

    /// What stands at each port in a piece that ends at `end`, `scan` scans from now, where `ahead` are the inputs from now on, and which of
    /// these it comes from; in the scan that has just passed where nothing is ahead.
    fn at_ports(&self, scan: usize, end: f64, ahead: &[Vec<f64>]) -> Vec<(f64, Option<usize>)> {
        self.ports
            .iter()
            .map(|port| {
                let early = end <= port.remainder + 1e-9 * self.scan;
                let late = port.scans + usize::from(early);
                let (inputs, from) = match scan.checked_sub(late) {
                    // The scan that has just passed.
                    _ if ahead.is_empty() => (&self.past[late], None),
                    Some(from) => (&ahead[from], Some(from)),
                    None => (&self.past[late - scan - 1], None),
                };
                let disturbed: f64 = self
                    .acts
                    .iter()
                    .zip(self.disturbances())
                    .filter_map(|(acts, size)| match acts {
                        Acts::Input(input, per_unit) if *input == port.input => Some(size * per_unit),
                        _ => None,
                    })
                    .sum();
                (inputs[port.input] + disturbed, from)
            })
            .collect()
    }

    /// The state after the scan that has just passed, and its derivatives by the states, the disturbances and the MVs, as if these had long
    /// stood.
    fn over_scan(&mut self, from: &[f64]) -> std::result::Result<(DVector<f64>, DMatrix<f64>), Breakdown> {
        let (n, count, m) = (self.states(), self.acts.len(), self.moved.len());
        let mut x = DVector::from_column_slice(from);
        let mut slopes = DMatrix::zeros(n, n + count + m);
        slopes.fill_with_identity();
        let drifting: Vec<Drifting> = self.drifting().map(|(_, own)| own).collect();
        let mut begin = 0.0;
        for end in self.cuts.clone() {
            let ports: Vec<f64> = self.at_ports(0, end, &[]).into_iter().map(|(value, _)| value).collect();
            let by = (&self.moving[..], &drifting[..]);
            let piece = self.equations.carry(&mut x, &ports, by, (end - begin, false))?;
            let moving = self.moving.len();
            let mut by_ports = DMatrix::zeros(piece.by_ports.ncols(), count + m);
            for (p, (k, _)) in self.drifting().enumerate() {
                by_ports[(moving + p, k)] = 1.0;
            }
            for (p, port) in self.moving.iter().map(|port| self.ports[*port]).enumerate() {
                for (k, acts) in self.acts.iter().enumerate() {
                    if let Acts::Input(input, per_unit) = acts
                        && *input == port.input
                    {
                        by_ports[(p, k)] = *per_unit;
                    }
                }
                for (j, moved) in self.moved.iter().enumerate().filter(|(_, moved)| moved.input == port.input) {
                    by_ports[(p, count + j)] = moved.rate;
                }
            }
            slopes = piece.by_states * slopes;
            let mut later = slopes.columns_mut(n, count + m);
            later += piece.by_ports * by_ports;
            begin = end;
        }
        Ok((x, slopes))
    }

    /// Derivatives of the CVs, in %, by states and disturbances.
    fn seen(&mut self, x: &[f64]) -> DMatrix<f64> {
        let ports: Vec<f64> = self.at_ports(0, self.scan, &[]).into_iter().map(|(value, _)| value).collect();
        let [c, d] = self.equations.outputs_by(x, &ports, &self.moving);
        let (which, drifting): (Vec<usize>, Vec<Drifting>) = self.drifting().unzip();
        let held = self.equations.held(x, &ports);
        let drifts = self
            .equations
            .by_parameters(&drifting, c.nrows(), |process, shown| process.outputs(x, &ports, held, shown));
        let (n, count) = (x.len(), self.acts.len());
        let mut seen = DMatrix::zeros(self.cvs.len(), n + count);
        for (cv, (output, span)) in self.cvs.iter().enumerate() {
            let scale = 100.0 / span.width();
            for k in 0..n {
                seen[(cv, k)] = scale * c[(*output, k)];
            }
            for (k, acts) in self.acts.iter().enumerate() {
                seen[(cv, n + k)] = match acts {
                    Acts::Output(own) => f64::from(u8::from(*own == cv)),
                    Acts::Parameter(_) => {
                        let column = which.iter().position(|own| *own == k);
                        column.map_or(0.0, |column| scale * drifts[(*output, column)])
                    }
                    Acts::Input(input, per_unit) => {
                        let own = self.moving.iter().enumerate().filter(|(_, port)| self.ports[**port].input == *input);
                        own.map(|(p, _)| scale * d[(*output, p)] * per_unit).sum()
                    }
                };
            }
        }
        seen
    }

    /// The CVs in % of span of a state, with these ports.
    fn shown(&self, x: &[f64], ports: &[f64]) -> Vec<f64> {
        let outputs = self.equations.outputs(x, ports);
        let mut shown: Vec<f64> = self.cvs.iter().map(|(output, span)| span.to_percent(outputs[*output])).collect();
        for (acts, size) in self.acts.iter().zip(self.disturbances()) {
            if let Acts::Output(cv) = acts {
                shown[*cv] += size;
            }
        }
        shown
    }

    /// The CVs as they are believed to be, % of span.
    pub fn outputs(&self) -> Vec<f64> {
        let ports: Vec<f64> = self.at_ports(0, self.scan, &[]).into_iter().map(|(value, _)| value).collect();
        self.shown(&self.believed.mean.as_slice()[..self.states()], &ports)
    }

    /// Carried to the next scan, in which these MVs, in %, and measured disturbances stood. What cannot be carried on stays as it is.
    pub fn advance(&mut self, mvs: &[f64], dvs: &[f64]) {
        let inputs = self.all_inputs(mvs, dvs);
        self.past.rotate_right(1);
        self.past[0] = inputs;
        let n = self.states();
        let from = self.believed.mean.rows(0, n).into_owned();
        if let Ok((x, slopes)) = self.over_scan(from.as_slice()) {
            self.believed.mean.rows_mut(0, n).copy_from(&x);
            self.carry_covariance(&slopes);
        }
        for planned in &mut self.planned {
            planned.rotate_left(1);
            let last = planned.len() - 1;
            planned[last] = planned[last.saturating_sub(1)];
        }
    }

    /// Corrected by what is measured, % of span; what is no number is not there to be believed.
    pub fn correct(&mut self, measured: &[f64]) {
        let n = self.states();
        let before = self.believed.mean.clone();
        let (shown, seen) = (self.outputs(), self.seen(&before.as_slice()[..n]));
        for (cv, measured) in measured.iter().enumerate().filter(|(_, measured)| measured.is_finite()) {
            let slopes = seen.row(cv).transpose();
            let expected = shown[cv] + slopes.dot(&(&self.believed.mean - &before));
            self.believed.correct(measured - expected, &slopes, 1.0);
        }
        if self.believed.mean.iter().any(|value| !value.is_finite()) {
            self.believed.mean = before;
        }
        self.equations.keep_within(&mut self.believed.mean.as_mut_slice()[..n]);
        let within: Vec<(usize, f64)> =
            self.drifting().map(|(k, own)| (k, (own.value(self.disturbances()[k]) - own.first) / own.unit)).collect();
        within.into_iter().for_each(|(k, disturbance)| self.believed.mean[n + k] = disturbance);
        self.take_parameters();
    }

    /// The plan as it stands, in %: by MV, then by scan.
    pub fn planned(&self) -> &[Vec<f64>] {
        &self.planned
    }

    /// Takes a plan, in %: by MV, then by scan.
    pub fn take(&mut self, planned: Vec<Vec<f64>>) {
        self.planned = planned;
    }

    /// The inputs over time where MVs, in %, go as planned and measured disturbances as told.
    fn ahead(&self, planned: &[Vec<f64>], dvs: &[Vec<f64>], scans: usize) -> Vec<Vec<f64>> {
        let at =
            |courses: &[Vec<f64>], scan: usize| -> Vec<f64> { courses.iter().map(|course| course[scan]).collect() };
        (0..scans).map(|scan| self.all_inputs(&at(planned, scan), &at(dvs, scan))).collect()
    }

    /// The CVs in % of span at all scans ahead, row by row, as the equations have them under a plan; None where they cannot be carried on.
    pub fn path(&mut self, planned: &[Vec<f64>], dvs: &[Vec<f64>]) -> Option<Vec<f64>> {
        let (n, scans) = (self.states(), planned.first()?.len());
        let ahead = self.ahead(planned, dvs, scans);
        let mut x = self.believed.mean.rows(0, n).into_owned();
        let mut path = Vec::with_capacity(scans * self.cvs.len());
        for scan in 0..scans {
            let (mut begin, mut ports) = (0.0, Vec::new());
            for end in self.cuts.clone() {
                ports = self.at_ports(scan, end, &ahead).into_iter().map(|(value, _)| value).collect();
                self.equations.follow(&mut x, &ports, end - begin).ok()?;
                begin = end;
            }
            path.extend(self.shown(x.as_slice(), &ports));
        }
        path.iter().all(|value| value.is_finite()).then_some(path)
    }

    /// What is ahead on the path that was planned last: into `free` the CVs in % of span if all MVs stayed at `before`, as the equations
    /// linearised on that path have it, row by row; into `of_moves` what moves add that begin at `begins`. `dvs` are the measured
    /// disturbances over time. Returns whether all of it is told: nothing is of moves before a state comes to rest at a bound, and of those
    /// after which the equations cannot be carried on.
    pub fn foresee(
        &mut self,
        (before, dvs): (&[f64], &[Vec<f64>]),
        begins: &[usize],
        free: &mut [f64],
        of_moves: &mut [f64],
    ) -> bool {
        let (n, m, p, blocks) = (self.states(), self.moved.len(), self.cvs.len(), begins.len());
        let scans = free.len() / p;
        let moves = m * blocks;
        let ahead = self.ahead(&self.planned, dvs, scans);
        let mut x = self.believed.mean.rows(0, n).into_owned();
        // Columns: what all MVs at `before` would change, then what each move would.
        let mut off = DMatrix::zeros(n, 1 + moves);
        of_moves.fill(0.0);
        let mut last = self.outputs();
        let drifting: Vec<Drifting> = self.drifting().map(|(_, own)| own).collect();
        let (mut broken, mut is_held) = (false, false);
        for scan in 0..scans {
            // What drifts stays as it is believed to be.
            let of_all = self.moving.len() + drifting.len();
            let mut of_ports = DMatrix::zeros(of_all, 1 + moves);
            let mut ports = Vec::new();
            let mut begin = 0.0;
            for end in self.cuts.clone() {
                if broken {
                    break;
                }
                let at_ports = self.at_ports(scan, end, &ahead);
                of_ports.fill(0.0);
                for (row, port) in self.moving.iter().enumerate() {
                    let input = self.ports[*port].input;
                    let Some((j, moved)) = self.moved.iter().enumerate().find(|(_, moved)| moved.input == input) else {
                        continue;
                    };
                    let Some(from) = at_ports[*port].1 else { continue };
                    of_ports[(row, 0)] = moved.rate * (before[j] - self.planned[j][from]);
                    for b in (0..blocks).filter(|b| begins[*b] <= from) {
                        of_ports[(row, 1 + j * blocks + b)] = moved.rate;
                    }
                }
                ports = at_ports.into_iter().map(|(value, _)| value).collect();
                let by = (&self.moving[..], &drifting[..]);
                match self.equations.carry(&mut x, &ports, by, (end - begin, true)) {
                    Ok(Piece { by_states, by_ports, held }) => {
                        off = by_states * off + by_ports * &of_ports;
                        is_held |= held.any();
                    }
                    // Beyond there nothing can be told: it is taken for standing, and no move for helping.
                    Err(_) => broken = true,
                }
                begin = end;
            }
            if broken {
                for cv in 0..p {
                    free[scan * p + cv] = last[cv];
                }
                continue;
            }
            let [c, d] = self.equations.outputs_by(x.as_slice(), &ports, &self.moving);
            let shown = self.shown(x.as_slice(), &ports);
            let moved = c * &off + d * of_ports.rows(0, self.moving.len());
            for (cv, (output, span)) in self.cvs.iter().enumerate() {
                let scale = 100.0 / span.width();
                free[scan * p + cv] = shown[cv] + scale * moved[(*output, 0)];
                for k in 0..moves {
                    of_moves[(scan * p + cv) * moves + k] = scale * moved[(*output, 1 + k)];
                }
                last[cv] = free[scan * p + cv];
            }
        }
        !broken && !is_held
    }
}
