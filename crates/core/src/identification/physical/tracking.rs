//! A physical model led along a record: what is not measured, and numbers that drift, estimated sample by sample.

use super::super::covariance::NORMAL_95;
use super::super::data::DataSet;
use super::super::model::Model;
use super::fitting::Prepared;
use super::following::{Passage, Stretch};
use super::options::Task;
use super::{FEWEST_SAMPLES, ready};
use crate::estimation::{
    Estimator, Extended, Gaussian, HorizonOptions, InnovationTest, Innovations, Lost, MovingHorizon, Observed,
    Unscented,
};
use crate::numerics::{Dual, SEEDS, derivatives, seeded};
use crate::process::{Bound, Description, Quantity};
use crate::verdict::{Tone, Verdict, readable, readable_duration};
use crate::{Error, Result, check};
use nalgebra::DMatrix;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Relative tolerance of the states between two samples: far below any noise.
const TOLERANCE: f64 = 1e-5;
/// Numbers that drift, at most.
const MOST_DRIFTING: usize = 12;
/// Samples of a window at most, and unknowns in it.
const LONGEST_WINDOW: usize = 100;
const MOST_UNKNOWNS: usize = 300;
/// Solutions of a moving horizon along a record where nothing is said.
const MOST_SOLUTIONS: usize = 1000;
/// What comes unknown to a measured state within a sample, in deviations of the sensor's noise, where nothing is said.
const UNREST: f64 = 0.1;
/// Deviation of what is not known at the start: of a state that is measured in those of its noise, of others and of numbers that drift
/// as a share of their size.
const MEASURED_AT_START: f64 = 3.0;
const AT_START: f64 = 0.1;
/// By how much a number that drifts may change over the data where nothing is said, as a share of its size.
const DRIFTS: f64 = 0.2;
/// Samples in which an estimator finds its way, as a share of the record, at most.
const SETTLING: usize = 20;

/// How an estimate is led along a record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TrackingMethod {
    /// Extended Kalman filter: by the derivatives of the equations.
    #[default]
    Extended,
    /// Unscented Kalman filter: by points that are carried through the equations.
    Unscented,
    /// Over a moving horizon: the last samples solved for together, within bounds and limits.
    MovingHorizon,
}

/// Quantile of the normal distribution beyond which the farthest of many samples is far.
const FARTHEST: f64 = 4.5;
/// How far that one must be from the start, too.
const APART: f64 = 3.0;

/// What a number that drifts belongs to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DriftingKind {
    /// A parameter of the process: fouling, an ageing catalyst.
    #[default]
    Parameter,
    /// An input that no channel shows: a feed temperature that nobody measures.
    Input,
    /// By how much the transmitter of an output shows too much.
    Offset,
}

/// A number that drifts.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Drifting {
    /// What it belongs to.
    #[serde(default)]
    pub kind: DriftingKind,
    /// Name of the parameter, the input or the output.
    pub name: String,
    /// Standard deviation of what an hour changes of it, in its unit; where left out so much that it may change by a fifth over the data.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub per_hour: Option<f64>,
    /// Standard deviation of what is not known of it at the start; a tenth of its value where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_start: Option<f64>,
    /// Lowest value; the lowest that can be where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<f64>,
    /// Highest value; the highest that can be where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<f64>,
    /// By how much it may change from sample to sample, over a moving horizon; any amount where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<f64>,
}

/// What an estimate is led along a record with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TrackingOptions {
    /// The method.
    pub method: TrackingMethod,
    /// Numbers that drift; states are estimated in any case.
    pub drifting: Vec<Drifting>,
    /// Standard deviation of the noise of a sensor, by tag, in the unit of its channel; what the model left one sample ahead where left
    /// out.
    pub noise: BTreeMap<String, f64>,
    /// What comes unknown to each measured state within a sample, in deviations of the noise of its sensor: little trusts the model,
    /// much the measurement.
    pub unrest: f64,
    /// Standard deviation of what an hour changes of a state by what nobody knows, by name, in its unit; by `unrest` where left out.
    pub states: BTreeMap<String, f64>,
    /// Samples that a moving horizon solves for together.
    pub window: usize,
    /// Samples from one solution of a moving horizon to the next, in between which the estimate goes on as an extended Kalman filter; so
    /// many that there are at most 1000 solutions where left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub every: Option<usize>,
    /// Up to so many deviations of the noise a moving horizon lets an output miss what was measured at no cost.
    pub dead_band: f64,
}

impl Default for TrackingOptions {
    fn default() -> Self {
        Self {
            method: TrackingMethod::default(),
            drifting: Vec::new(),
            noise: BTreeMap::new(),
            unrest: UNREST,
            states: BTreeMap::new(),
            window: 20,
            every: None,
            dead_band: 0.0,
        }
    }
}

/// A number over time, as it was known at each instant from what had been measured until then.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrackedNumber {
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// What it is, in a few words.
    pub text: String,
    /// What an hour was taken to change of it, where it drifts; null for a state.
    pub per_hour: Option<f64>,
    /// Its values.
    pub values: Vec<f64>,
    /// Their standard deviations.
    pub deviations: Vec<f64>,
    /// Half widths of their 95 % bands.
    pub half_widths: Vec<f64>,
}

/// An output over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrackedOutput {
    /// Tag of its channel.
    pub tag: String,
    /// Its unit.
    pub unit: String,
    /// Standard deviation of the noise that was reckoned with.
    pub noise: f64,
    /// What was measured; null where missing.
    pub measured: Vec<Option<f64>>,
    /// What was new in it: measured less expected.
    pub innovations: Vec<Option<f64>>,
    /// Half width of the band that 95 % of that had to keep.
    pub half_widths: Vec<Option<f64>>,
}

/// A physical model led along a record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tracked {
    /// Times that are shown, s from the start of the data.
    pub times: Vec<f64>,
    /// States, then numbers that drift.
    pub numbers: Vec<TrackedNumber>,
    /// What was measured and expected.
    pub outputs: Vec<TrackedOutput>,
    /// Samples from one solution of the moving horizon to the next; null for the filters.
    pub every: Option<usize>,
    /// What can be let drift in this model.
    pub may_drift: Vec<MayDrift>,
    /// Whether what came was what had to be expected.
    pub test: InnovationTest,
    /// What it means.
    pub verdicts: Vec<Verdict>,
}

/// A number that can be let drift.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MayDrift {
    /// What it belongs to.
    pub kind: DriftingKind,
    /// Name of the parameter, the input or the output.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// What it is, in a few words.
    pub text: String,
    /// Its value in the model.
    pub value: f64,
}

/// A number that drifts, checked.
struct Drift {
    kind: DriftingKind,
    /// Position of the parameter, the input, or the shown output.
    place: usize,
    quantity: Quantity,
    at_start: f64,
    limit: f64,
    /// Standard deviation of what an hour brings.
    per_hour: f64,
}

/// A physical model with numbers that drift.
struct Drifters<'a> {
    task: &'a Task,
    drifts: Vec<Drift>,
    /// Parameters that go with one that drifts: which, with which, and how many times.
    ties: Vec<(usize, usize, f64)>,
}

/// The same with its data, as an estimator sees it: states of the process, then of its sensors, then what drifts.
struct Replay<'a> {
    model: Drifters<'a>,
    stretch: &'a Stretch,
    bounds: Vec<Bound>,
    passage: Passage,
    /// Variance of each sensor.
    noise: Vec<f64>,
    /// Variance that a second brings to each state of the process.
    rates: Vec<f64>,
    shown: Vec<Dual>,
}

/// Which of the numbers carry derivatives.
type Seeds = std::ops::Range<usize>;

fn seed(values: &[f64], seeds: &Seeds) -> Vec<Dual> {
    let of = |(i, value): (usize, &f64)| {
        if seeds.contains(&i) { seeded(*value, i - seeds.start) } else { Dual::from(*value) }
    };
    values.iter().enumerate().map(of).collect()
}

impl Drifters<'_> {
    fn of_process(&self) -> usize {
        self.task.process.description().states.len()
    }

    /// States of the process and of its sensors.
    fn moving(&self) -> usize {
        self.of_process() + self.task.shown.iter().filter(|shown| shown.lags).count()
    }

    /// Parameters, inputs that no channel shows, and offsets with the numbers that drift in their places.
    fn with_drifts(&self, drifts: &[Dual]) -> (Vec<Dual>, Vec<Dual>, Vec<Dual>) {
        let plain = |values: &[f64]| values.iter().map(|value| Dual::from(*value)).collect::<Vec<_>>();
        let (mut parameters, mut inputs) = (plain(self.task.process.parameters()), plain(&self.task.rest));
        let mut offsets: Vec<Dual> = self.task.shown.iter().map(|shown| Dual::from(shown.offset)).collect();
        for (drift, value) in self.drifts.iter().zip(drifts) {
            let list = match drift.kind {
                DriftingKind::Parameter => &mut parameters,
                DriftingKind::Input => &mut inputs,
                DriftingKind::Offset => &mut offsets,
            };
            list[drift.place] = *value;
        }
        for (parameter, to, factor) in &self.ties {
            parameters[*parameter] = parameters[*to] * *factor;
        }
        (parameters, inputs, offsets)
    }

    /// Groups of so many numbers that all of them can carry derivatives at once; a group of none where no derivatives are wanted.
    fn groups(&self, wanted: bool) -> impl Iterator<Item = Seeds> + use<> {
        let n = self.moving() + self.drifts.len();
        let group = move |from: usize| if wanted { from..(from + SEEDS).min(n) } else { 0..0 };
        (0..if wanted { n } else { 1 }).step_by(SEEDS).map(group)
    }
}

impl Observed for Replay<'_> {
    fn states(&self) -> usize {
        self.model.moving() + self.model.drifts.len()
    }

    fn outputs(&self) -> usize {
        self.model.task.shown.len()
    }

    fn bounds(&self, state: usize) -> (f64, f64) {
        let (own, moving) = (self.model.of_process(), self.model.moving());
        if state < own {
            let of = &self.model.task.process.description().states[state];
            return (of.low, of.high);
        }
        match state.checked_sub(moving) {
            Some(drift) => (self.model.drifts[drift].quantity.low, self.model.drifts[drift].quantity.high),
            None => (f64::NEG_INFINITY, f64::INFINITY),
        }
    }

    fn advance(
        &mut self,
        k: usize,
        x: &mut [f64],
        mut slopes: Option<&mut DMatrix<f64>>,
    ) -> std::result::Result<(), Lost> {
        let Self { model, stretch, passage, bounds, .. } = self;
        let (task, moving) = (model.task, model.moving());
        let (from, to) = (stretch.times[k], stretch.times[k + 1]);
        let mut after = x.to_vec();
        if let Some(slopes) = &mut slopes {
            slopes.fill_with_identity();
        }
        for seeds in model.groups(slopes.is_some()) {
            let all = seed(x, &seeds);
            let (parameters, inputs, _) = model.with_drifts(&all[moving..]);
            let mut course = task.course(stretch, parameters, inputs).ok_or(Lost)?;
            passage.set_out(task, stretch, &mut course, from);
            let mut own = all[..moving].to_vec();
            passage.carry(task, stretch, &mut course, bounds, &mut own, (from.into(), to.into()), |_, _| {})?;
            for (i, value) in own.iter().enumerate() {
                if !value.re.is_finite() {
                    return Err(Lost);
                }
                after[i] = value.re;
                if let Some(slopes) = &mut slopes {
                    for (j, by) in seeds.clone().zip(derivatives(value)) {
                        slopes[(i, j)] = by;
                    }
                }
            }
        }
        x.copy_from_slice(&after);
        Ok(())
    }

    fn show(&mut self, k: usize, x: &[f64], shown: &mut [f64], mut slopes: Option<&mut DMatrix<f64>>) {
        let Self { model, stretch, passage, bounds, shown: seen, .. } = self;
        let (task, moving, at) = (model.task, model.moving(), stretch.times[k]);
        for seeds in model.groups(slopes.is_some()) {
            let all = seed(x, &seeds);
            let (parameters, inputs, offsets) = model.with_drifts(&all[moving..]);
            let Some(mut course) = task.course(stretch, parameters, inputs) else {
                // Only what is written in dual numbers becomes a task: this does not happen, and would show nothing.
                shown.fill(f64::NAN);
                return;
            };
            passage.set_out(task, stretch, &mut course, at);
            passage.see(task, &mut course, bounds, at.into(), &mut all[..moving].to_vec(), seen);
            for (output, value) in seen.iter().enumerate() {
                let (factor, shift) = stretch.shown_by[output];
                let value = (*value + offsets[output]) * factor + shift;
                shown[output] = value.re;
                if let Some(slopes) = &mut slopes {
                    for (j, by) in seeds.clone().zip(derivatives(&value)) {
                        slopes[(output, j)] = by;
                    }
                }
            }
        }
    }

    fn measured(&self, k: usize, output: usize) -> f64 {
        self.stretch.outputs[output][k]
    }

    fn noise(&self, output: usize) -> f64 {
        self.noise[output]
    }

    fn unrest(&self, k: usize, state: usize) -> f64 {
        let size = self.stretch.times[k + 1] - self.stretch.times[k];
        let rate = match state.checked_sub(self.model.moving()) {
            Some(drift) => self.model.drifts[drift].per_hour.powi(2) / 3600.0,
            None => self.rates.get(state).copied().unwrap_or(0.0),
        };
        rate * size
    }
}

/// Leads a physical model along data. Noises and unrest are those of the options, or of what the model left.
///
/// Errors name the fields of [`TrackingOptions`], and tell when the process cannot be followed any more.
pub fn track(model: &Model, data: &DataSet, options: &TrackingOptions) -> Result<Tracked> {
    let physical = model.physical()?;
    let (task, stretch) = ready(model, data)?;
    let description = task.process.description();
    check::within("unrest", options.unrest, 0.0, 1e3, "")?;
    check::within("dead_band", options.dead_band, 0.0, 10.0, "")?;
    check::within("window", options.window as f64, 1.0, LONGEST_WINDOW as f64, "samples")?;
    if let Some(every) = options.every {
        check::within("every", every as f64, 1.0, 1e6, "samples")?;
    }
    if stretch.times.len() < FEWEST_SAMPLES {
        return Err(Error::unfit(
            format!("the stretch has {} samples", stretch.times.len()),
            format!("an estimate is led along at least {FEWEST_SAMPLES}"),
        ));
    }
    let drifts = options.drifts(&task, &stretch)?;
    let noise = options.noise_of(physical, &task)?;
    let measured: Vec<Option<usize>> = description
        .states
        .iter()
        .map(|state| task.shown.iter().position(|shown| description.outputs[shown.output].name == state.name))
        .collect();
    let interval = (stretch.times.last().copied().unwrap_or(0.0) / (stretch.times.len().max(2) - 1) as f64).max(1e-9);
    // A deviation of a sensor's noise in the unit of the state.
    let of_noise = |output: usize| noise[output] / stretch.shown_by[output].0.abs();
    let mut rates: Vec<f64> = measured
        .iter()
        .map(|output| output.map_or(0.0, |output| (options.unrest * of_noise(output)).powi(2) / interval))
        .collect();
    for (name, per_hour) in &options.states {
        let place = Description::position(&description.states, name, "states")?;
        check::not_negative(&format!("states.{name}"), *per_hour, &description.states[place].unit)?;
        rates[place] = per_hour * per_hour / 3600.0;
    }
    let stretches = std::slice::from_ref(&stretch);
    let states = Prepared::new(&task, stretches).states_at_start(&[]).swap_remove(0);
    let mut deviations: Vec<f64> = states
        .iter()
        .zip(&measured)
        .zip(&description.states)
        .map(|((value, output), state)| match output {
            Some(output) => MEASURED_AT_START * of_noise(*output),
            None => AT_START * value.abs().max(state.value.abs()).max(1e-3),
        })
        .collect();
    let mut start = states.clone();
    let mut names: Vec<Quantity> = description.states.clone();
    let mut shown = vec![Dual::from(0.0); task.shown.len()];
    if let Some(mut course) = {
        let plain = |values: &[f64]| values.iter().map(|value| Dual::from(*value)).collect::<Vec<_>>();
        task.course_without_lags(&stretch, plain(task.process.parameters()), plain(&task.rest))
    } {
        let mut own = seed(&states, &(0..0));
        Passage::new(&task, &stretch, &own, TOLERANCE).see(
            &task,
            &mut course,
            &task.process.bounds(),
            0.0.into(),
            &mut own,
            &mut shown,
        );
    }
    for (k, own) in task.shown.iter().enumerate().filter(|(_, own)| own.lags) {
        start.push(shown[k].re);
        deviations.push(MEASURED_AT_START * of_noise(k));
        let of = &description.outputs[own.output];
        let text = format!("what the sensor of {} shows", own.tag);
        names.push(Quantity { name: format!("shown_{}", of.name), text, ..of.clone() });
    }
    start.extend(drifts.iter().map(|drift| drift.quantity.value));
    deviations.extend(drifts.iter().map(|drift| drift.at_start));
    names.extend(drifts.iter().map(|drift| drift.quantity.clone()));
    let moving = start.len() - drifts.len();
    let limits: Vec<f64> =
        (0..start.len()).map(|i| i.checked_sub(moving).map_or(f64::INFINITY, |d| drifts[d].limit)).collect();
    let own: Vec<Dual> = seed(&start[..moving], &(0..0));
    let mut replay = Replay {
        model: Drifters { task: &task, drifts, ties: task.options.ties(description)? },
        stretch: &stretch,
        bounds: task.process.bounds(),
        passage: Passage::new(&task, &stretch, &own, TOLERANCE),
        noise: noise.iter().map(|deviation| deviation * deviation).collect(),
        rates,
        shown,
    };
    let restless = (0..replay.states()).filter(|i| replay.unrest(0, *i) > 0.0).count();
    let unknowns = replay.states() + restless * (options.window - 1);
    if options.method == TrackingMethod::MovingHorizon && unknowns > MOST_UNKNOWNS {
        let longest = 1 + (MOST_UNKNOWNS - replay.states()) / restless.max(1);
        let words = format!(
            "A window of {} samples has {unknowns} unknowns; at most {MOST_UNKNOWNS} can be solved for at each sample: take at most {longest} \
             samples, or let fewer numbers drift.",
            options.window
        );
        return Err(Error::said("window", words));
    }
    let start = Gaussian::independent(&start, &deviations);
    let every = options.every.unwrap_or_else(|| stretch.times.len().div_ceil(MOST_SOLUTIONS));
    let horizon = HorizonOptions { window: options.window, every, limits, dead_band: options.dead_band };
    lead(&mut replay, options.method, start, horizon, &names, moving)
}

/// What can be let drift: parameters but those that count something or go with another, inputs that no channel shows, transmitters.
fn may_drift(task: &Task) -> Vec<MayDrift> {
    let description = task.process.description();
    let of = |kind, quantity: &Quantity, value: f64| MayDrift {
        kind,
        name: quantity.name.clone(),
        unit: quantity.unit.clone(),
        text: quantity.text.clone(),
        value,
    };
    let is_tied = |name: &str| task.options.tied.iter().any(|tie| tie.parameter == name);
    let mut all: Vec<MayDrift> = description
        .parameters
        .iter()
        .zip(task.process.parameters())
        .filter(|(own, _)| !own.is_count() && !is_tied(&own.name))
        .map(|(own, value)| of(DriftingKind::Parameter, own, *value))
        .collect();
    let hidden = |place: usize| !task.channels.iter().any(|channel| channel.input == place);
    let inputs = description.inputs.iter().enumerate().filter(|(place, _)| hidden(*place));
    all.extend(inputs.map(|(place, own)| of(DriftingKind::Input, own, task.rest[place])));
    all.extend(task.shown.iter().map(|own| of(DriftingKind::Offset, &description.outputs[own.output], own.offset)));
    all
}

/// Leads an estimator along the whole stretch.
fn lead(
    replay: &mut Replay<'_>,
    method: TrackingMethod,
    start: Gaussian,
    horizon: HorizonOptions,
    names: &[Quantity],
    moving: usize,
) -> Result<Tracked> {
    let every = (method == TrackingMethod::MovingHorizon).then_some(horizon.every);
    let mut estimator: Box<dyn Estimator> = match method {
        TrackingMethod::Extended => Box::new(Extended::new(start)),
        TrackingMethod::Unscented => Box::new(Unscented::new(start)),
        TrackingMethod::MovingHorizon => Box::new(MovingHorizon::new(start, horizon)),
    };
    let samples = replay.stretch.times.len();
    let mut innovations = Innovations::new(replay.outputs());
    let mut numbers: Vec<TrackedNumber> = names
        .iter()
        .enumerate()
        .map(|(i, quantity)| TrackedNumber {
            name: quantity.name.clone(),
            unit: quantity.unit.clone(),
            text: quantity.text.clone(),
            per_hour: i.checked_sub(moving).map(|drift| replay.model.drifts[drift].per_hour),
            values: Vec::with_capacity(samples),
            deviations: Vec::with_capacity(samples),
            half_widths: Vec::with_capacity(samples),
        })
        .collect();
    let mut times = Vec::with_capacity(samples);
    let mut lost = None;
    for k in 0..samples {
        crate::work::go_on();
        // What is new is told with the sample; a sample that cannot be reached has none.
        if estimator.correct(replay, k, &mut innovations).is_err() {
            lost = Some(k);
            break;
        }
        let now = estimator.now();
        times.push(replay.stretch.times[k]);
        for (i, number) in numbers.iter_mut().enumerate() {
            number.values.push(now.mean[i]);
            number.deviations.push(now.deviation(i));
            number.half_widths.push(NORMAL_95 * now.deviation(i));
        }
        if k + 1 < samples && estimator.predict(replay, k).is_err() {
            lost = Some(k + 1);
            break;
        }
    }
    let mut verdicts = Vec::new();
    if let Some(k) = lost {
        let text = format!(
            "The process cannot be followed from {} on: it runs away, or is far faster than the samples, with what is estimated there.",
            readable_duration(replay.stretch.times[k.min(samples - 1)])
        );
        verdicts.push(Verdict::new(Tone::Bad, text, "integration between samples"));
    }
    if estimator.unsolved() > 0 {
        let text = format!(
            "At {} of {samples} samples the bounds and limits left no way: there the estimate is that of an extended Kalman filter.",
            estimator.unsolved()
        );
        verdicts.push(Verdict::new(Tone::Caution, text, "the quadratic program of the window"));
    }
    let shown = times.len();
    let test = innovations.test(&times, SETTLING.min(shown / 5));
    verdicts.extend(test.verdicts());
    verdicts
        .extend(numbers.iter().filter(|number| number.per_hour.is_some()).filter_map(|number| drifted(number, &times)));
    let stretch = replay.stretch;
    let known = |list: &[f64]| -> Vec<Option<f64>> {
        list.iter().take(shown).map(|value| value.is_finite().then_some(*value)).collect()
    };
    let outputs = (0..replay.outputs())
        .map(|k| TrackedOutput {
            tag: replay.model.task.shown[k].tag.clone(),
            unit: stretch.units[k].clone(),
            noise: replay.noise[k].sqrt(),
            measured: known(&stretch.outputs[k]),
            innovations: known(&innovations.new[k]),
            half_widths: known(&innovations.deviation[k])
                .into_iter()
                .map(|own| own.map(|own| NORMAL_95 * own))
                .collect(),
        })
        .collect();
    let may_drift = may_drift(replay.model.task);
    Ok(Tracked { times, numbers, outputs, every, may_drift, test, verdicts })
}

/// How a number that drifts has moved: from shortly after the start to the end, and where it was farthest away in between.
fn drifted(number: &TrackedNumber, times: &[f64]) -> Option<Verdict> {
    let last = number.values.len().checked_sub(1)?;
    let first = SETTLING.min(last / 5);
    let name = number.name.replace('_', " ");
    let space = if number.unit.is_empty() { "" } else { " " };
    let with = |k: usize| {
        let (value, band) = (number.values[k], number.half_widths[k]);
        format!("{} ± {}{space}{}", readable(value), readable(band), number.unit)
    };
    // How far it is from where it was, in deviations of what is not known of both.
    let away = |from: usize, to: usize| {
        let unknown = number.deviations[from].hypot(number.deviations[to]).max(f64::MIN_POSITIVE);
        (number.values[to] - number.values[from]) / unknown
    };
    let way = |away: f64| if away > 0.0 { ("rises", "rose") } else { ("falls", "fell") };
    // From the end, which is known best: at the start little has been measured.
    let farthest = (first..=last).max_by(|a, b| away(*a, last).abs().total_cmp(&away(*b, last).abs()))?;
    let (at_end, at_most) = (away(first, last), away(first, farthest));
    let rule = "moves against what is not known of both ends: 95 % for start and end, farther for the farthest of many";
    let text = if at_most.abs() > APART && away(farthest, last).abs() > FARTHEST {
        let there = readable_duration(times[farthest]);
        format!(
            "The {name} {} from {} to {} at {there}, and ends at {}.",
            way(at_most).1,
            with(first),
            with(farthest),
            with(last)
        )
    } else if at_end.abs() > NORMAL_95 {
        format!("The {name} {} from {} to {}.", way(at_end).0, with(first), with(last))
    } else {
        format!("The {name} ends at {}: no drift that shows beside what is not known of it.", with(last))
    };
    Some(Verdict::new(Tone::Good, text, rule))
}

impl TrackingOptions {
    fn drifts(&self, task: &Task, stretch: &Stretch) -> Result<Vec<Drift>> {
        if self.drifting.len() > MOST_DRIFTING {
            let allowed = format!("at most {MOST_DRIFTING}");
            return Err(Error::invalid("drifting", format!("{} numbers", self.drifting.len()), allowed));
        }
        let hours = (stretch.times.last().copied().unwrap_or(0.0) / 3600.0).max(1e-6);
        let mut drifts: Vec<Drift> = Vec::new();
        for (k, own) in self.drifting.iter().enumerate() {
            let drift = own.checked(&format!("drifting[{k}]"), task, hours)?;
            if drifts.iter().any(|other| other.kind == drift.kind && other.place == drift.place) {
                let words = format!("{} cannot drift twice.", own.name.replace('_', " "));
                return Err(Error::said(format!("drifting[{k}].name"), words));
            }
            if task.options.tied.iter().any(|tie| own.kind == DriftingKind::Parameter && tie.parameter == own.name) {
                let words = format!("{} goes with another parameter: let that one drift.", own.name.replace('_', " "));
                return Err(Error::said(format!("drifting[{k}].name"), words));
            }
            drifts.push(drift);
        }
        Ok(drifts)
    }

    /// Deviations of the sensors: as given, or what the model left one sample ahead.
    fn noise_of(&self, physical: &super::PhysicalModel, task: &Task) -> Result<Vec<f64>> {
        for (tag, deviation) in &self.noise {
            if !task.shown.iter().any(|shown| shown.tag == *tag) {
                let tags: Vec<&str> = task.shown.iter().map(|shown| shown.tag.as_str()).collect();
                return Err(Error::invalid("noise", tag, format!("an output of the model: {}", tags.join(", "))));
            }
            check::positive(&format!("noise.{tag}"), *deviation, "")?;
        }
        task.shown
            .iter()
            .map(|shown| {
                if let Some(deviation) = self.noise.get(&shown.tag) {
                    return Ok(*deviation);
                }
                let own = physical.outputs.iter().find(|own| own.tag == shown.tag);
                let left = own
                    .map(|own| own.noise.as_ref().map_or(own.performance.residual_deviation, |noise| noise.deviation));
                left.filter(|left| *left > 0.0).ok_or_else(|| {
                    let words =
                        format!("The model leaves nothing of {}: say how much noise its sensor has.", shown.tag);
                    Error::said("noise", words)
                })
            })
            .collect()
    }
}

impl Drifting {
    fn checked(&self, field: &str, task: &Task, hours: f64) -> Result<Drift> {
        let description = task.process.description();
        let name = format!("{field}.name");
        let words = self.name.replace('_', " ");
        let (place, mut quantity) = match self.kind {
            DriftingKind::Parameter => {
                let place = Description::position(&description.parameters, &self.name, &name)?;
                let of = &description.parameters[place];
                if of.is_count() {
                    return Err(Error::said(&name, format!("{words} is a count and does not drift.")));
                }
                (place, Quantity { value: task.process.parameters()[place], ..of.clone() })
            }
            DriftingKind::Input => {
                let place = Description::position(&description.inputs, &self.name, &name)?;
                if let Some(channel) = task.channels.iter().find(|channel| channel.input == place) {
                    let words =
                        format!("{words} is shown by {}: only what no channel shows is estimated.", channel.tag);
                    return Err(Error::said(&name, words));
                }
                (place, Quantity { value: task.rest[place], ..description.inputs[place].clone() })
            }
            DriftingKind::Offset => {
                let output = Description::position(&description.outputs, &self.name, &name)?;
                let place = task
                    .shown
                    .iter()
                    .position(|shown| shown.output == output)
                    .ok_or_else(|| Error::said(&name, format!("{words} has no channel, and so no transmitter.")))?;
                let of = &description.outputs[output];
                let text = format!("by how much {} shows too much", task.shown[place].tag);
                let value = task.shown[place].offset;
                (
                    place,
                    Quantity {
                        name: format!("offset_of_{}", self.name),
                        text,
                        value,
                        low: -1e9,
                        high: 1e9,
                        ..of.clone()
                    },
                )
            }
        };
        let at = |part: &str| format!("{field}.{part}");
        let unit = quantity.unit.clone();
        let per_hour = match self.per_hour {
            Some(own) => check::not_negative(&at("per_hour"), own, &unit)?,
            None => DRIFTS * quantity.value.abs().max(1e-3) / hours.sqrt(),
        };
        let low = self.low.unwrap_or(quantity.low);
        let high = self.high.unwrap_or(quantity.high);
        check::within(&at("low"), low, quantity.low, quantity.high, &unit)?;
        check::within(&at("high"), high, quantity.low, quantity.high, &unit)?;
        if low >= high {
            let text = format!("The lowest {words} ({low}) is not below the highest ({high}).");
            return Err(Error::said(at("low"), text));
        }
        if !(low..=high).contains(&quantity.value) {
            let (part, end) = if quantity.value < low { ("low", low) } else { ("high", high) };
            let text = format!(
                "The {words} begins at {}, as the model found it, and not beyond {end}.",
                readable(quantity.value)
            );
            return Err(Error::said(at(part), text));
        }
        (quantity.low, quantity.high) = (low, high);
        let at_start = match self.at_start {
            Some(own) => check::positive(&at("at_start"), own, &unit)?,
            None => AT_START * quantity.value.abs().max(per_hour).max(1e-9),
        };
        let limit = self.limit.map_or(Ok(f64::INFINITY), |own| check::positive(&at("limit"), own, &unit))?;
        Ok(Drift { kind: self.kind, place, quantity, at_start, limit, per_hour })
    }
}

impl Tracked {
    /// At no more than so many instants, evenly spread; the test stays that of all.
    #[must_use]
    pub fn thinned(self, most: usize) -> Self {
        let samples = self.times.len();
        if samples <= most || most < 2 {
            return self;
        }
        let places: Vec<usize> = (0..most).map(|k| k * (samples - 1) / (most - 1)).collect();
        fn at<T: Clone>(list: &[T], places: &[usize]) -> Vec<T> {
            places.iter().map(|k| list[*k].clone()).collect()
        }
        let numbers = self.numbers.into_iter().map(|own| TrackedNumber {
            values: at(&own.values, &places),
            deviations: at(&own.deviations, &places),
            half_widths: at(&own.half_widths, &places),
            ..own
        });
        let outputs = self.outputs.into_iter().map(|own| TrackedOutput {
            measured: at(&own.measured, &places),
            innovations: at(&own.innovations, &places),
            half_widths: at(&own.half_widths, &places),
            ..own
        });
        Self { times: at(&self.times, &places), numbers: numbers.collect(), outputs: outputs.collect(), ..self }
    }
}
