//! A process that follows the inputs of a record: its outputs at the samples, with their exact derivatives by what is sought.

use super::super::data::{DataSet, held};
use super::options::{SoughtKind, Task};
use crate::numerics::ode::ExactIntegrator;
use crate::numerics::{Dual, Number, SEEDS, derivatives, seeded};
use crate::process::{Bound, Description, Held, InDualNumbers, Process, ProcessSpec};
use crate::{Error, Result};

pub(super) use crate::estimation::Lost;
use std::ops::Range;

/// Relative tolerance of the states.
pub(super) const TOLERANCE: f64 = 1e-7;
/// Steps of the integration for a sample, on the average, after which a process is too stiff or too wild to be followed.
const STEPS_A_SAMPLE: usize = 60;
/// The same for a sample by itself.
const STEPS_FOR_ONE: usize = 5000;
/// What a state may pass beyond its range, as a share of it, before the process has run away.
const SLACK: f64 = 1e-6;

/// A stretch of data as the process sees it.
#[derive(Debug, Clone)]
pub(super) struct Stretch {
    /// Times of the samples, from 0.
    pub(super) times: Vec<f64>,
    /// For each channel the values of its input at the samples, in the unit of the process.
    pub(super) inputs: Vec<Vec<f64>>,
    /// For each channel the samples at which it changes.
    changes: Vec<Vec<usize>>,
    /// For each channel its input at 0 and at 100 %, where it is in %.
    pub(super) ends: Vec<(f64, f64)>,
    /// For each output that is shown the values of its channel, NaN where missing.
    pub(super) outputs: Vec<Vec<f64>>,
    /// What makes values of each output those of its channel: factor and offset.
    pub(super) shown_by: Vec<(f64, f64)>,
    /// Units of their channels.
    pub(super) units: Vec<String>,
}

impl Stretch {
    /// Of a data set that has the channels of the task.
    pub(super) fn new(task: &Task, data: &DataSet) -> Result<Self> {
        task.check_tags(data)?;
        let start = data.axis.at(0);
        let times: Vec<f64> = (0..data.axis.len()).map(|k| data.axis.at(k) - start).collect();
        let (mut inputs, mut changes, mut ends) = (Vec::new(), Vec::new(), Vec::new());
        for (k, channel) in task.channels.iter().enumerate() {
            let Some(series) = data.inputs.iter().find(|series| series.tag == channel.tag) else { continue };
            if !series.values.iter().any(|value| value.is_finite()) {
                return Err(Error::unfit(format!("{} has no usable sample", channel.tag), "leave it out of the fit"));
            }
            let (factor, offset) = task.conversion(k, &series.unit)?;
            let values: Vec<f64> = held(&series.values).iter().map(|value| factor * value + offset).collect();
            let moves = |k: &usize| channel.straight || (*k > 0 && values[*k] != values[k - 1]);
            changes.push((0..values.len()).filter(moves).collect());
            inputs.push(values);
            ends.push((offset, offset + 100.0 * factor));
        }
        let (mut outputs, mut shown_by, mut units) = (Vec::new(), Vec::new(), Vec::new());
        for (k, shown) in task.shown.iter().enumerate() {
            let Some(series) = data.outputs.iter().find(|series| series.tag == shown.tag) else { continue };
            outputs.push(series.values.clone());
            shown_by.push(task.shown_in(k, &series.unit)?);
            units.push(series.unit.clone());
        }
        Ok(Self { times, inputs, changes, ends, outputs, shown_by, units })
    }
}

/// Values of everything that is sought, and the states where a stretch begins.
#[derive(Debug, Clone, Copy)]
pub(super) struct At<'a> {
    /// Of what is sought, in its order.
    pub(super) sought: &'a [f64],
    /// Of the states of the process.
    pub(super) states: &'a [f64],
}

/// Numbers of the unknowns whose derivatives are wanted: first what is sought, then the states at the start.
pub(super) type Seeds = Range<usize>;

/// What is at work while a stretch is followed.
pub(super) struct Course<'a> {
    laws: &'a dyn InDualNumbers,
    parameters: Vec<Dual>,
    /// For each channel its value, slope, and when the run began.
    runs: Vec<(f64, f64, Dual)>,
    channels: &'a [super::options::Channel],
    /// For each channel the valve that it goes through: the input at its ends, and its rangeability.
    valves: Vec<Option<((f64, f64), Dual)>>,
    /// Which shown output each lag belongs to, its output, and its time constant.
    lags: Vec<(usize, usize, Dual)>,
    inputs: Vec<Dual>,
    outputs: Vec<Dual>,
    held: Held,
    states: usize,
}

/// What an input becomes behind a valve of equal percentage: the same at the upper end, at the lower the share that still passes.
fn through_valve<N: Number>(value: N, (at_0, at_100): (f64, f64), rangeability: N) -> N {
    let span = at_100 - at_0;
    let opening = (value - at_0) * span.recip();
    rangeability.power(opening - 1.0) * span + at_0
}

impl Course<'_> {
    fn set_inputs(&mut self, t: Dual) {
        for ((channel, (value, slope, since)), valve) in self.channels.iter().zip(&self.runs).zip(&self.valves) {
            let plain = if *slope == 0.0 { Dual::from(*value) } else { (t - since) * *slope + *value };
            self.inputs[channel.input] = match valve {
                Some((ends, rangeability)) => through_valve(plain, *ends, *rangeability),
                None => plain,
            };
        }
    }

    fn rates(&mut self, t: Dual, x: &[Dual], rates: &mut [Dual]) {
        self.set_inputs(t);
        let (own, lagged) = x.split_at(self.states);
        let (of_own, of_lags) = rates.split_at_mut(self.states);
        self.laws.dual_rates(&self.parameters, own, &self.inputs, self.held, of_own);
        if !self.lags.is_empty() {
            self.laws.dual_outputs(&self.parameters, own, &self.inputs, self.held, &mut self.outputs);
            for (k, (_, output, lag)) in self.lags.iter().enumerate() {
                of_lags[k] = (self.outputs[*output] - lagged[k]) / *lag;
            }
        }
    }

    /// The outputs at an instant, as a sensor without noise shows them, before offset and unit.
    fn seen(&mut self, t: Dual, x: &[Dual], shown: &[super::options::Shown], seen: &mut [Dual]) {
        self.set_inputs(t);
        self.laws.dual_outputs(&self.parameters, &x[..self.states], &self.inputs, self.held, &mut self.outputs);
        for (value, own) in seen.iter_mut().zip(shown) {
            *value = self.outputs[own.output];
        }
        for (k, (shown, ..)) in self.lags.iter().enumerate() {
            seen[*shown] = x[self.states + k];
        }
    }

    /// What stands at a bound and presses outward is held there; the rest is free. What has passed a bound is set back onto it.
    fn settle(&mut self, bounds: &[Bound], t: Dual, x: &mut [Dual], rates: &mut [Dual]) {
        if bounds.is_empty() {
            return;
        }
        self.held = Held::default();
        for bound in bounds {
            let value = x[bound.state].re;
            if value <= bound.low || value >= bound.high {
                x[bound.state] = Dual::from(value.clamp(bound.low, bound.high));
            }
        }
        self.rates(t, x, rates);
        for bound in bounds {
            let (value, rate) = (x[bound.state].re, rates[bound.state].re);
            if value <= bound.low && rate < 0.0 {
                self.held = self.held.with_low(bound.state);
            } else if value >= bound.high && rate > 0.0 {
                self.held = self.held.with_high(bound.state);
            }
        }
    }
}

/// The way through a stretch, from switch to switch of its inputs.
pub(super) struct Passage {
    /// The time until each channel acts.
    dead_times: Vec<Dual>,
    /// The next change of each channel that has not arrived.
    cursors: Vec<usize>,
    integrator: ExactIntegrator,
    room: Vec<Dual>,
    /// Steps of the integration that are left.
    steps: usize,
}

impl Passage {
    /// With the dead times that are known, for states like these; as often as one likes.
    pub(super) fn new(task: &Task, stretch: &Stretch, x: &[Dual], tolerance: f64) -> Self {
        let dead_times = task.channels.iter().map(|channel| Dual::from(channel.dead_time)).collect();
        Self::with(dead_times, x, tolerance, STEPS_A_SAMPLE * stretch.times.len())
    }

    fn with(dead_times: Vec<Dual>, x: &[Dual], tolerance: f64, steps: usize) -> Self {
        let absolute = x.iter().map(|value| 0.1 * tolerance * (1e-3 + value.re.abs())).collect();
        Self {
            cursors: vec![0; dead_times.len()],
            dead_times,
            integrator: ExactIntegrator::new(tolerance, absolute),
            room: vec![Dual::from(0.0); x.len()],
            steps,
        }
    }

    /// To a time at which inputs run as they did right before it, with steps for one sample.
    pub(super) fn set_out(&mut self, task: &Task, stretch: &Stretch, course: &mut Course<'_>, t: f64) {
        self.steps = STEPS_FOR_ONE;
        for channel in 0..self.cursors.len() {
            let changes = &stretch.changes[channel];
            let instant = |at: usize| self.dead_times[channel] + stretch.times[at];
            let passed = changes.partition_point(|at| instant(*at).re < t);
            self.cursors[channel] = passed;
            course.runs[channel] = match passed.checked_sub(1) {
                Some(last) => task.run(stretch, channel, changes[last], instant(changes[last])),
                None => (stretch.inputs[channel][0], 0.0, Dual::from(0.0)),
            };
        }
    }

    /// What the sensors show at a time, before offset and unit.
    pub(super) fn see(
        &mut self,
        task: &Task,
        course: &mut Course<'_>,
        bounds: &[Bound],
        t: Dual,
        x: &mut [Dual],
        seen: &mut [Dual],
    ) {
        course.settle(bounds, t, x, &mut self.room);
        course.seen(t, x, &task.shown, seen);
    }

    /// Carries states over a time; tells the inputs in the middle of each step, and its size.
    #[allow(clippy::too_many_arguments, reason = "what is at work, what is carried, and from when to when")]
    pub(super) fn carry(
        &mut self,
        task: &Task,
        stretch: &Stretch,
        course: &mut Course<'_>,
        bounds: &[Bound],
        x: &mut [Dual],
        (mut t, sample): (Dual, Dual),
        mut passed: impl FnMut(&[Dual], f64),
    ) -> std::result::Result<(), Lost> {
        // A sample shows what there was before anything switches at its instant.
        while t.re < sample.re {
            let mut until = sample;
            for channel in 0..self.cursors.len() {
                let changes = &stretch.changes[channel];
                while let Some(at) = changes.get(self.cursors[channel]) {
                    let instant = self.dead_times[channel] + stretch.times[*at];
                    if instant.re > t.re {
                        if instant.re < until.re {
                            until = instant;
                        }
                        break;
                    }
                    // What switches right at a sample does so at an instant of its own all the same: until then, which is no time
                    // but moves with what is unknown, things go on as before.
                    if instant.re == t.re && derivatives(&(instant - t)) != [0.0; SEEDS] {
                        course.settle(bounds, t, x, &mut self.room);
                        course.rates(t, x, &mut self.room);
                        x.iter_mut().zip(&self.room).for_each(|(x, rate)| *x += *rate * (instant - t));
                        t = instant;
                    }
                    self.cursors[channel] += 1;
                    course.runs[channel] = task.run(stretch, channel, *at, instant);
                }
            }
            while t.re < until.re {
                self.steps = self.steps.checked_sub(1).ok_or(Lost)?;
                crate::work::go_on();
                course.settle(bounds, t, x, &mut self.room);
                let before = t;
                t = self
                    .integrator
                    .step(&mut |t, x, rates| course.rates(t, x, rates), x, t, until)
                    .map_err(|_| Lost)?;
                course.set_inputs((before + t) * 0.5);
                passed(&course.inputs, (t - before).re);
            }
            t = until;
        }
        Ok(())
    }
}

impl Task {
    /// The parameters of the process with these values of what is sought, in dual numbers.
    fn parameters(&self, seed: &dyn Fn(f64, usize) -> Dual, sought: &[f64]) -> Vec<Dual> {
        let mut parameters: Vec<Dual> = self.process.parameters().iter().map(|value| Dual::from(*value)).collect();
        for (k, unknown) in self.unknowns.iter().enumerate() {
            if unknown.kind == SoughtKind::Parameter {
                parameters[unknown.place] = seed(sought[k], k);
            }
        }
        for (parameter, to, factor) in &self.ties {
            parameters[*parameter] = parameters[*to] * *factor;
        }
        parameters
    }

    /// The process with these values of what is sought. Errors where it cannot have them.
    pub(super) fn process_with(&self, sought: &[f64]) -> Result<Box<dyn Process>> {
        let mut process = ProcessSpec::Detailed(self.options.process.clone()).build("")?;
        let parameters = self.parameters(&|value, _| Dual::from(value), sought);
        for (k, value) in parameters.iter().enumerate() {
            if process.parameters()[k] != value.re {
                process.set_parameter(k, value.re)?;
            }
        }
        Ok(process)
    }

    /// Visits the samples of a stretch with the shown outputs, in the units of their channels, and their derivatives by the
    /// unknowns of `seeds`; with the states, and the inputs as they were on the average since the sample before.
    ///
    /// What an unknown does to the instant at which an input switches is part of the derivatives; of a tank that runs dry or
    /// spills they are those of the side on which it is.
    pub(super) fn follow(
        &self,
        stretch: &Stretch,
        at: At<'_>,
        seeds: &Seeds,
        tolerance: f64,
        mut visit: impl FnMut(usize, &[Dual], &[f64], &[f64]),
    ) -> std::result::Result<(), Lost> {
        debug_assert!(seeds.len() <= SEEDS);
        let seed = |value: f64, unknown: usize| {
            if seeds.contains(&unknown) { seeded(value, unknown - seeds.start) } else { Dual::from(value) }
        };
        let of_kind = |kind: SoughtKind, place: usize| {
            self.unknowns.iter().position(|unknown| unknown.kind == kind && unknown.place == place)
        };
        let known_or = |kind: SoughtKind, place: usize, known: f64| match of_kind(kind, place) {
            Some(k) => seed(at.sought[k], k),
            None => Dual::from(known),
        };
        let process = self.process_with(at.sought).map_err(|_| Lost)?;
        let description = process.description();
        let bounds = process.bounds();
        let laws = process.in_dual_numbers().ok_or(Lost)?;
        let dead_times: Vec<Dual> = self
            .channels
            .iter()
            .enumerate()
            .map(|(k, channel)| known_or(SoughtKind::DeadTime, k, channel.dead_time))
            .collect();
        let lags = self.lags(&|k, lag| known_or(SoughtKind::Lag, k, lag));
        let offsets: Vec<Dual> =
            self.shown.iter().enumerate().map(|(k, shown)| known_or(SoughtKind::Offset, k, shown.offset)).collect();
        let states = description.states.len();
        let mut x: Vec<Dual> =
            at.states.iter().enumerate().map(|(i, value)| seed(*value, self.unknowns.len() + i)).collect();
        let inputs = self.rest.iter().map(|value| Dual::from(*value)).collect();
        let mut course = self.course_of(laws, description, stretch, self.parameters(&seed, at.sought), inputs);
        course.valves = self.valves(stretch, &|k, known| known_or(SoughtKind::Rangeability, k, known));
        // Before the record began all inputs stood as they do first, and the sensors showed what there was.
        let mut seen = vec![Dual::from(0.0); self.shown.len()];
        course.seen(Dual::from(0.0), &x, &self.shown, &mut seen);
        course.lags = lags;
        x.extend(course.lags.iter().map(|(shown, ..)| seen[*shown]));
        let mut passage = Passage::with(dead_times, &x, tolerance, STEPS_A_SAMPLE * stretch.times.len());
        let mut t = Dual::from(0.0);
        let mut plain_states = vec![0.0; states];
        let (mut means, mut areas) = (vec![0.0; self.rest.len()], vec![0.0; self.rest.len()]);
        for k in 0..stretch.times.len() {
            let sample = Dual::from(stretch.times[k]);
            passage.carry(self, stretch, &mut course, &bounds, &mut x, (t, sample), |u, size| {
                areas.iter_mut().zip(u).for_each(|(area, u)| *area += u.re * size);
            })?;
            t = sample;
            for (state, x) in description.states.iter().zip(&x) {
                let slack = SLACK * (state.high - state.low).min(1e6);
                if !(x.re >= state.low - slack && x.re <= state.high + slack) {
                    return Err(Lost);
                }
            }
            passage.see(self, &mut course, &bounds, t, &mut x, &mut seen);
            for ((value, offset), (factor, shift)) in seen.iter_mut().zip(&offsets).zip(&stretch.shown_by) {
                *value = (*value + offset) * *factor + *shift;
            }
            plain_states.iter_mut().zip(&x).for_each(|(plain, x)| *plain = x.re);
            let since = if k > 0 { stretch.times[k] - stretch.times[k - 1] } else { 0.0 };
            for ((mean, area), u) in means.iter_mut().zip(&mut areas).zip(&course.inputs) {
                *mean = if since > 0.0 { *area / since } else { u.re };
                *area = 0.0;
            }
            visit(k, &seen, &plain_states, &means);
        }
        Ok(())
    }

    /// The sensors that lag: which of the shown outputs, which output of the process, and the time constant.
    fn lags(&self, time_constant: &dyn Fn(usize, f64) -> Dual) -> Vec<(usize, usize, Dual)> {
        let lagging = self.shown.iter().enumerate().filter(|(_, shown)| shown.lags);
        lagging.map(|(k, shown)| (k, shown.output, time_constant(k, shown.lag))).collect()
    }

    /// The valves that channels go through.
    fn valves(&self, stretch: &Stretch, value: &dyn Fn(usize, f64) -> Dual) -> Vec<Option<((f64, f64), Dual)>> {
        let of =
            |(k, channel): (usize, &super::options::Channel)| Some((stretch.ends[k], value(k, channel.rangeability?)));
        self.channels.iter().enumerate().map(of).collect()
    }

    /// A value of a channel, as it stands in a stretch, as its input has it with these values of what is sought.
    pub(super) fn behind_valve(&self, channel: usize, value: f64, ends: (f64, f64), sought: &[f64]) -> f64 {
        let is_own = |(_, unknown): &(usize, &super::options::Unknown)| {
            unknown.kind == SoughtKind::Rangeability && unknown.place == channel
        };
        let found = self.unknowns.iter().enumerate().find(is_own).map(|(k, _)| sought[k]);
        match found.or(self.channels[channel].rangeability) {
            Some(rangeability) => through_valve(value, ends, rangeability),
            None => value,
        }
    }

    /// What is at work at the beginning of a stretch, with sensors that do not lag.
    fn course_of<'a>(
        &'a self,
        laws: &'a dyn InDualNumbers,
        description: &Description,
        stretch: &Stretch,
        parameters: Vec<Dual>,
        inputs: Vec<Dual>,
    ) -> Course<'a> {
        Course {
            laws,
            parameters,
            runs: stretch.inputs.iter().map(|values| (values[0], 0.0, Dual::from(0.0))).collect(),
            channels: &self.channels,
            valves: self.valves(stretch, &|_, known| Dual::from(known)),
            inputs,
            outputs: vec![Dual::from(0.0); description.outputs.len()],
            held: Held::default(),
            states: description.states.len(),
            lags: Vec::new(),
        }
    }

    /// What is at work with these parameters and inputs that no channel shows, where all else is known; with sensors that do not lag.
    pub(super) fn course_without_lags<'a>(
        &'a self,
        stretch: &Stretch,
        parameters: Vec<Dual>,
        inputs: Vec<Dual>,
    ) -> Option<Course<'a>> {
        let laws = self.process.in_dual_numbers()?;
        Some(self.course_of(laws, self.process.description(), stretch, parameters, inputs))
    }

    /// The same with sensors as they are.
    pub(super) fn course<'a>(
        &'a self,
        stretch: &Stretch,
        parameters: Vec<Dual>,
        inputs: Vec<Dual>,
    ) -> Option<Course<'a>> {
        let course = self.course_without_lags(stretch, parameters, inputs)?;
        Some(Course { lags: self.lags(&|_, lag| Dual::from(lag)), ..course })
    }

    /// How an input runs from sample `k` on, from an instant on.
    fn run(&self, stretch: &Stretch, channel: usize, k: usize, instant: Dual) -> (f64, f64, Dual) {
        let (values, times) = (&stretch.inputs[channel], &stretch.times);
        let slope = if self.channels[channel].straight && k + 1 < values.len() {
            (values[k + 1] - values[k]) / (times[k + 1] - times[k])
        } else {
            0.0
        };
        (values[k], slope, instant)
    }
}

impl Stretch {
    /// Puts other values in the place of those of a channel.
    pub(super) fn replace(&mut self, channel: usize, values: Vec<f64>) {
        self.changes[channel] = (1..values.len()).filter(|k| values[*k] != values[k - 1]).collect();
        self.inputs[channel] = values;
    }

    /// Adds the values of a further channel, which stand from sample to sample.
    pub(super) fn push(&mut self, values: Vec<f64>) {
        self.inputs.push(Vec::new());
        self.changes.push(Vec::new());
        self.ends.push((0.0, 1.0));
        self.replace(self.inputs.len() - 1, values);
    }
}
