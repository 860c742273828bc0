//! The process with its actuator's effect and its sensor's lag, carried from one switching instant to the next.

use super::plant::{Plant, Started};
use super::signals::Driven;
use crate::instrument::ActuatorSpec;
use crate::lti::{DeadTime, Sampled};
use crate::numerics::ode::{Breakdown, Integrator, Rates};
use crate::process::{Bound, Held, Process, at_ports};
use crate::verdict::readable;
use crate::{Error, Result};

/// Most ports and outputs of a process, so that their values fit on the stack.
const MOST_PORTS: usize = 32;
const MOST_OUTPUTS: usize = 64;
/// Tolerances of the integration, relative and as a share of each state's size.
const RELATIVE_TOLERANCE: f64 = 1e-8;
const ABSOLUTE_TOLERANCE: f64 = 1e-10;
/// Steps of integration that a stretch adds to what may be taken, and the most that stands by.
const STEPS_A_STRETCH: usize = 100;
const MOST_STEPS: usize = 100_000;

/// How the inputs run over a stretch: one entry a port.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct PortInput {
    /// Of a port that an OP drives, its load in %; else the input itself.
    pub value: f64,
    pub slope: f64,
    /// Of a port that an OP drives, the position of the actuator in %.
    pub position: f64,
    pub position_slope: f64,
    /// The OP that drives it: 0 is that of the plant, then come the further ones.
    pub drive: Option<usize>,
}

/// What to look for in an equation that is not a number.
const LOOK_FOR: &str = "look for a division by zero, or a root or logarithm of a negative number";

/// Something worth telling, at a time of a trial.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Told {
    pub at: f64,
    pub text: String,
}

/// The process, its inputs' way in and its sensors' lags, with the state of all of them.
pub(super) struct Dynamics {
    system: System,
    integrator: Integrator,
    /// Steps of integration that may still be taken: a leaky bucket.
    steps_left: usize,
    bounds: Vec<Bound>,
    /// States of the process, then of the lags, then the integrals of the balance terms.
    x: Vec<f64>,
    /// Scratch for linear processes.
    deviations: Vec<f64>,
    slopes: Vec<f64>,
    room: Vec<f64>,
    /// By how much changes of parameters have changed what is held.
    redefined: Vec<f64>,
    is_linear: bool,
    feeds_through: bool,
    exact_effect: bool,
    /// The step of a whole scan, where nothing can come between two scans but the dead time of the only input.
    whole_scan: Option<Sampled>,
}

/// The right-hand side of everything during a stretch.
struct System {
    process: Box<dyn Process>,
    drives: Vec<(ActuatorSpec, Driven)>,
    /// The outputs that are measured: that of the PV, then the further ones.
    measured: Vec<usize>,
    lags: Vec<Lag>,
    held: Held,
    /// Number of states of the process, and of balance terms that are integrated.
    n: usize,
    terms: usize,
    stretch: Vec<PortInput>,
    since: f64,
    /// Whether the inputs stand still over the stretch that is being integrated, and where.
    still: bool,
    standing: [f64; MOST_PORTS],
}

/// The lag of a sensor on a process that is not linear: `τ² y'' + 2ζτ y' + y = u`, or `τ y' + y = u`.
#[derive(Debug, Clone, Copy)]
struct Lag {
    /// Which measured signal it is of.
    of: usize,
    /// Position of its first state.
    at: usize,
    time_constant: f64,
    damping: Option<f64>,
}

impl Lag {
    fn states(self) -> usize {
        if self.damping.is_some() { 2 } else { 1 }
    }
}

impl System {
    fn inputs(&self, t: f64, u: &mut [f64; MOST_PORTS]) {
        fill_inputs(&self.stretch, &self.drives, t - self.since, u);
    }

    /// Notes the inputs over a stretch from `from` on, where they do not move.
    fn note_standing(&mut self, from: f64) {
        let moves = |input: &PortInput| input.slope != 0.0 || (input.drive.is_some() && input.position_slope != 0.0);
        self.still = !self.stretch.iter().any(moves);
        if self.still {
            let Self { stretch, drives, standing, since, .. } = self;
            fill_inputs(stretch, drives, from - *since, standing);
        }
    }

    /// Where the integrals of the balance terms begin among the states.
    fn terms_at(&self) -> usize {
        self.n + self.lags.iter().map(|lag| lag.states()).sum::<usize>()
    }
}

/// What stands at the ports so long after the beginning of a stretch.
fn fill_inputs(stretch: &[PortInput], drives: &[(ActuatorSpec, Driven)], passed: f64, u: &mut [f64; MOST_PORTS]) {
    for (input, value) in stretch.iter().zip(u) {
        *value = input.value + input.slope * passed;
        if let Some(k) = input.drive {
            let (actuator, driven) = &drives[k];
            let effect = actuator.effect(input.position + input.position_slope * passed);
            *value = driven.value(effect + *value);
        }
    }
}

impl Rates for System {
    fn rates(&self, t: f64, x: &[f64], rates: &mut [f64]) {
        let mut room;
        let all = if self.still {
            &self.standing
        } else {
            room = [0.0; MOST_PORTS];
            self.inputs(t, &mut room);
            &room
        };
        let u = &all[..self.stretch.len()];
        self.process.rates(&x[..self.n], u, self.held, &mut rates[..self.n]);
        if !self.lags.is_empty() {
            let mut outputs = [0.0; MOST_OUTPUTS];
            let count = self.process.description().outputs.len();
            self.process.outputs(&x[..self.n], u, self.held, &mut outputs[..count]);
            for lag in &self.lags {
                let (output, shown, tau) = (outputs[self.measured[lag.of]], x[lag.at], lag.time_constant);
                match lag.damping {
                    None => rates[lag.at] = (output - shown) / tau,
                    Some(damping) => {
                        rates[lag.at] = x[lag.at + 1];
                        rates[lag.at + 1] = ((output - shown) / tau - 2.0 * damping * x[lag.at + 1]) / tau;
                    }
                }
            }
        }
        if self.terms > 0 {
            let after = self.terms_at();
            self.process.terms(&x[..self.n], u, self.held, &mut rates[after..after + self.terms]);
        }
    }
}

impl Dynamics {
    /// From a plant at its start.
    pub fn new(started: Started, plant: &Plant, with_balances: bool) -> Result<Self> {
        let Started {
            mut process, state, inputs, driven, output, pv, further_outputs, further_drives, lag_inside, ..
        } = started;
        let description = process.description();
        let (ports, outputs, terms) = (process.ports().len(), description.outputs.len(), description.terms());
        if ports > MOST_PORTS || outputs > MOST_OUTPUTS {
            return Err(Error::invalid(
                "process",
                format!("{ports} ways in and {outputs} outputs"),
                format!("at most {MOST_PORTS} and {MOST_OUTPUTS}"),
            ));
        }
        let mut at_start = vec![0.0; outputs];
        process.outputs(&state, &at_ports(process.as_ref(), &inputs), Held::default(), &mut at_start);
        let measured: Vec<usize> = std::iter::once(output).chain(further_outputs).collect();
        let further_actuators = plant.further_driven.iter().map(|signal| signal.actuator.clone());
        let drives: Vec<(ActuatorSpec, Driven)> =
            std::iter::once((plant.actuator.clone(), driven)).chain(further_actuators.zip(further_drives)).collect();
        let n = state.len();
        let mut lags = Vec::new();
        let mut at = n;
        for (of, (_, sensor)) in plant.sensors().enumerate() {
            if sensor.time_constant > 0.0 && !lag_inside {
                let lag = Lag { of, at, time_constant: sensor.time_constant, damping: sensor.damping };
                at += lag.states();
                lags.push(lag);
            }
        }
        let mut absolute: Vec<f64> = state
            .iter()
            .zip(&description.states)
            .map(|(x, state)| ABSOLUTE_TOLERANCE * x.abs().max(state.value.abs()).max(1e-3))
            .collect();
        let mut x = state;
        for lag in &lags {
            let shown = if lag.of == 0 { pv } else { at_start[measured[lag.of]] };
            x.extend([shown, 0.0].into_iter().take(lag.states()));
            absolute.extend(std::iter::repeat_n(ABSOLUTE_TOLERANCE * shown.abs().max(1.0), lag.states()));
        }
        // The integrals of the balance terms follow the steps of the states: they do not set them.
        if with_balances {
            x.extend(std::iter::repeat_n(0.0, terms));
            absolute.extend(std::iter::repeat_n(f64::INFINITY, terms));
        }
        let bounds = process.bounds();
        let is_linear = process.propagator().is_some() && lags.is_empty();
        Ok(Self {
            integrator: Integrator::new(RELATIVE_TOLERANCE, absolute),
            steps_left: MOST_STEPS,
            bounds,
            x,
            deviations: vec![0.0; ports],
            slopes: vec![0.0; ports],
            room: vec![0.0; n],
            redefined: vec![0.0; process.description().balances.len()],
            whole_scan: None,
            is_linear,
            feeds_through: process.feeds_through(),
            exact_effect: drives.iter().all(|(actuator, _)| actuator.is_straight()),
            system: System {
                process,
                drives,
                measured,
                lags,
                held: Held::default(),
                n,
                terms: if with_balances { terms } else { 0 },
                stretch: vec![PortInput::default(); ports],
                since: 0.0,
                still: false,
                standing: [0.0; MOST_PORTS],
            },
        })
    }

    pub fn process(&self) -> &dyn Process {
        self.system.process.as_ref()
    }

    /// The input that an OP drives, at a position of its actuator and a load, both in %.
    pub fn driven_value(&self, drive: usize, position: f64, load: f64) -> f64 {
        let (actuator, driven) = &self.system.drives[drive];
        driven.value(actuator.effect(position) + load)
    }

    /// Readies [`Dynamics::carry_whole_scan`] for scans of `scan` seconds and the dead time of the only input, and says
    /// whether it may be used.
    pub fn ready_whole_scan(&mut self, dead_time: DeadTime, scan: f64) -> bool {
        let direct = matches!(self.system.drives[..], [(ActuatorSpec::Direct {}, _)]) && self.system.stretch.len() == 1;
        if self.is_linear && direct && !self.feeds_through {
            let propagator = self.system.process.propagator();
            self.whole_scan =
                propagator.map(|(propagator, _)| propagator.system().clone().with_dead_time(dead_time).sampled(scan));
        }
        self.whole_scan.is_some()
    }

    /// Carries a linear process through a scan in which the position of the actuator changes once, from `before` to `now`,
    /// when the rest of its dead time has passed, under a constant `load`.
    #[inline]
    pub fn carry_whole_scan(&mut self, before: f64, now: f64, load: f64) {
        let (Some(step), Some((_, rest))) = (&self.whole_scan, self.system.process.propagator()) else { return };
        let driven = self.system.drives[0].1;
        let deviation = |position: f64| driven.value(position + load) - rest[0];
        step.advance(&mut self.x[..self.system.n], &mut self.room, deviation(before), deviation(now));
    }

    /// Changes a parameter at `t`. What is held changes with it where the parameter says how much a state holds, and
    /// where a state no longer fits into its bounds: that goes into [`Dynamics::redefined`].
    pub fn set_parameter(
        &mut self,
        index: usize,
        value: f64,
        t: f64,
        told: &mut Vec<Told>,
    ) -> std::result::Result<(), String> {
        let mut before = vec![0.0; self.redefined.len()];
        self.contents(&mut before);
        self.system.process.set_parameter(index, value).map_err(|error| error.to_string())?;
        self.bounds = self.system.process.bounds();
        for k in 0..self.bounds.len() {
            let Bound { state, low, high, .. } = self.bounds[k];
            if self.x[state] > high {
                self.turn(state, Turn::Full, t, told);
            } else if self.x[state] < low {
                self.turn(state, Turn::Empty, t, told);
            }
        }
        let mut after = vec![0.0; self.redefined.len()];
        self.contents(&mut after);
        for (sum, (after, before)) in self.redefined.iter_mut().zip(after.iter().zip(&before)) {
            *sum += after - before;
        }
        Ok(())
    }

    /// By how much changes of parameters have changed what is held of each balanced quantity.
    pub fn redefined(&self) -> &[f64] {
        &self.redefined
    }

    /// Whether the outputs depend on the inputs at the same instant.
    pub fn feeds_through(&self) -> bool {
        self.feeds_through
    }

    /// The stretch to come, to be filled in.
    pub fn stretch_mut(&mut self) -> &mut [PortInput] {
        &mut self.system.stretch
    }

    /// All outputs at `t` of the stretch, into `outputs`.
    #[inline]
    pub fn outputs(&self, t: f64, outputs: &mut [f64]) {
        let mut room;
        let u: &[f64] = if self.feeds_through {
            room = [0.0; MOST_PORTS];
            self.system.inputs(t, &mut room);
            &room[..self.system.stretch.len()]
        } else {
            &[]
        };
        self.system.process.outputs(&self.x[..self.system.n], u, self.system.held, outputs);
    }

    /// What the sensor of signal `k` sees of these outputs, before its dead time.
    #[inline]
    pub fn seen(&self, k: usize, outputs: &[f64]) -> f64 {
        if self.system.lags.is_empty() {
            return self.true_value(k, outputs);
        }
        let lag = self.system.lags.iter().find(|lag| lag.of == k);
        lag.map_or_else(|| self.true_value(k, outputs), |lag| self.x[lag.at])
    }

    /// What there is of signal `k` in these outputs.
    #[inline]
    pub fn true_value(&self, k: usize, outputs: &[f64]) -> f64 {
        outputs[self.system.measured[k]]
    }

    /// The terms of the balances at `t` of the stretch, and their integrals since the start.
    pub fn balances(&self, t: f64, terms: &mut [f64]) -> &[f64] {
        let mut room = [0.0; MOST_PORTS];
        self.system.inputs(t, &mut room);
        self.system.process.terms(
            &self.x[..self.system.n],
            &room[..self.system.stretch.len()],
            self.system.held,
            terms,
        );
        &self.x[self.system.terms_at()..]
    }

    pub fn contents(&self, contents: &mut [f64]) {
        self.system.process.contents(&self.x[..self.system.n], contents);
    }

    /// Says that the stretch, as it was filled in, begins at `t`.
    pub fn begin(&mut self, t: f64) {
        self.system.since = t;
    }

    /// Carries everything from `from` on for `h` seconds under the stretch as it was filled in. Errors tell why it cannot go
    /// on.
    pub fn carry(&mut self, from: f64, h: f64, told: &mut Vec<Told>) -> std::result::Result<(), String> {
        self.system.since = from;
        if h <= 0.0 {
            return Ok(());
        }
        let moves = |input: &PortInput| input.position_slope != 0.0;
        if self.is_linear && (self.exact_effect || !self.system.stretch.iter().any(moves)) {
            self.propagate(h);
            return Ok(());
        }
        self.system.note_standing(from);
        let carried = self.integrate(from, from + h, told);
        self.system.still = false;
        carried
    }

    /// A linear process by its exact discretisation.
    fn propagate(&mut self, h: f64) {
        let System { process, drives, stretch, n, .. } = &mut self.system;
        let Some((propagator, rest)) = process.propagator() else { return };
        for (k, input) in stretch.iter().enumerate() {
            let (mut value, mut slope) = (input.value, input.slope);
            if let Some(k) = input.drive {
                let (actuator, driven) = &drives[k];
                value = driven.value(actuator.effect(input.position) + value);
                slope = driven.rate * (input.position_slope + slope);
            }
            self.deviations[k] = value - rest[k];
            self.slopes[k] = slope;
        }
        propagator.advance_ramp(&mut self.x[..*n], &self.deviations, &self.slopes, h);
    }

    fn integrate(&mut self, from: f64, to: f64, told: &mut Vec<Told>) -> std::result::Result<(), String> {
        let mut t = from;
        // What a calm stretch does not need stands by for a wild one, but not without end.
        self.steps_left = (self.steps_left + STEPS_A_STRETCH).min(MOST_STEPS);
        self.settle_holds(t, told);
        self.restart(t)?;
        while t < to {
            let h = self.step(t, to)?;
            let Some((share, state, what)) = self.first_event(t, h) else {
                t += h;
                self.press_held();
                continue;
            };
            // Again, to the instant at which it happens.
            self.integrator.take_back(&mut self.x);
            let instant = t + share * h;
            while t < instant {
                t += self.step(t, instant)?;
            }
            self.turn(state, what, t, told);
            self.restart(t)?;
        }
        Ok(())
    }

    fn restart(&mut self, t: f64) -> std::result::Result<(), String> {
        self.integrator.restart(&self.system, t, &self.x).map_err(|breakdown| self.reason(breakdown))
    }

    fn step(&mut self, t: f64, until: f64) -> std::result::Result<f64, String> {
        crate::work::go_on();
        self.steps_left = self.steps_left.checked_sub(1).ok_or_else(|| {
            "too many steps of integration between two scans: a time constant is far shorter than the scan; lengthen it or \
             leave it out"
                .to_owned()
        })?;
        let done = self.integrator.step(&self.system, &mut self.x, t, until);
        done.map_err(|breakdown| self.reason(breakdown))
    }

    /// The first states as they are.
    fn here(&self) -> String {
        let states = &self.system.process.description().states;
        let values = states.iter().zip(&self.x).take(6);
        let values = values.map(|(state, x)| format!("{} = {} {}", state.name, readable(*x), state.unit));
        values.map(|value| value.trim_end().to_owned()).collect::<Vec<_>>().join(", ")
    }

    /// Why a trial cannot go on with these outputs, where one of them is not a finite number.
    #[inline]
    pub fn senseless(&self, outputs: &[f64]) -> Option<String> {
        let k = outputs.iter().position(|output| !output.is_finite())?;
        Some(self.without_sense(k))
    }

    #[cold]
    fn without_sense(&self, k: usize) -> String {
        let name = &self.system.process.description().outputs[k].name;
        format!("the output {name} is not a finite number at {}: {LOOK_FOR}", self.here())
    }

    fn reason(&self, breakdown: Breakdown) -> String {
        let states = &self.system.process.description().states;
        let named = |state: usize| states.get(state).map_or("a balance term", |state| state.name.as_str());
        match breakdown {
            Breakdown::NotFinite(state) => {
                format!("the rate of {} is not a finite number at {}: {LOOK_FOR}", named(state), self.here())
            }
            Breakdown::Edge(state) => {
                format!("the rate of {} stops being a number beyond {}: {LOOK_FOR}", named(state), self.here())
            }
            Breakdown::StepTooSmall => "the states change faster than can be followed: something runs away".to_owned(),
        }
    }

    /// The rate that state `i` would have were it free, at these states.
    fn free_rate(&self, i: usize, t: f64, x: &[f64], rates: &mut [f64]) -> f64 {
        let mut room = [0.0; MOST_PORTS];
        self.system.inputs(t, &mut room);
        self.system.process.rates(x, &room[..self.system.stretch.len()], self.system.held.without(i), rates);
        rates[i]
    }

    /// At the beginning of a stretch: holds what stands at a bound and presses outward, lets go what is drawn inward.
    fn settle_holds(&mut self, t: f64, told: &mut Vec<Told>) {
        for k in 0..self.bounds.len() {
            let Bound { state, low, high, .. } = self.bounds[k];
            let slack = 1e-9 * (high - low);
            if self.x[state] > low + slack && self.x[state] < high - slack {
                self.system.held = self.system.held.without(state);
                continue;
            }
            let (mut rates, x) = (vec![0.0; self.system.n], self.x[..self.system.n].to_vec());
            let rate = self.free_rate(state, t, &x, &mut rates);
            let was = (self.system.held.is_low(state), self.system.held.is_high(state));
            if x[state] >= high - slack && rate > 0.0 {
                if !was.1 {
                    self.turn(state, Turn::Full, t, told);
                }
            } else if x[state] <= low + slack && rate < 0.0 {
                if !was.0 {
                    self.turn(state, Turn::Empty, t, told);
                }
            } else {
                self.system.held = self.system.held.without(state);
            }
        }
    }

    /// Rounding must not lift a held state off its bound.
    fn press_held(&mut self) {
        if !self.system.held.any() {
            return;
        }
        for bound in &self.bounds {
            if self.system.held.is_low(bound.state) {
                self.x[bound.state] = bound.low;
            } else if self.system.held.is_high(bound.state) {
                self.x[bound.state] = bound.high;
            }
        }
    }

    /// The first thing that happens at a bound during the last step, at a share of it.
    fn first_event(&self, t: f64, h: f64) -> Option<(f64, usize, Turn)> {
        let mut first: Option<(f64, usize, Turn)> = None;
        let mut note = |share: f64, state: usize, turn: Turn| {
            if first.is_none_or(|known| share < known.0) {
                first = Some((share, state, turn));
            }
        };
        let mut rates = Vec::new();
        for Bound { state, low, high, .. } in &self.bounds {
            let (i, slack) = (*state, 1e-12 * (high - low));
            let crossing = |bound: f64| {
                crate::numerics::bisect(0.0, 1.0, |share| self.integrator.between(&self.x, i, share) - bound)
            };
            if self.system.held.is_low(i) || self.system.held.is_high(i) {
                rates.resize(self.system.n, 0.0);
                let outward = if self.system.held.is_low(i) { -1.0 } else { 1.0 };
                if outward * self.free_rate(i, t + h, &self.x[..self.system.n], &mut rates) < 0.0 {
                    let at = |share: f64| -> f64 {
                        let x: Vec<f64> =
                            (0..self.system.n).map(|j| self.integrator.between(&self.x, j, share)).collect();
                        let mut rates = vec![0.0; self.system.n];
                        outward * self.free_rate(i, t + share * h, &x, &mut rates)
                    };
                    let share = if at(0.0) <= 0.0 { 0.0 } else { crate::numerics::bisect(0.0, 1.0, at) };
                    note(share, i, Turn::Released);
                }
            } else if self.x[i] > high + slack {
                note(crossing(*high), i, Turn::Full);
            } else if self.x[i] < low - slack {
                note(crossing(*low), i, Turn::Empty);
            }
        }
        first
    }

    fn turn(&mut self, state: usize, what: Turn, t: f64, told: &mut Vec<Told>) {
        let Some(bound) = self.bounds.iter().find(|bound| bound.state == state) else { return };
        let (held, value, text) = match what {
            Turn::Full => (self.system.held.with_high(state), Some(bound.high), Some(&bound.at_high)),
            Turn::Empty => (self.system.held.with_low(state), Some(bound.low), Some(&bound.at_low)),
            Turn::Released => (self.system.held.without(state), None, None),
        };
        self.system.held = held;
        if let Some(value) = value {
            self.x[state] = value;
        }
        if let Some(text) = text {
            told.push(Told { at: t, text: text.clone() });
        }
    }

    /// Why the trial cannot go on, where a state or an input has left what can be.
    #[inline]
    pub fn runaway(&self, t: f64) -> Option<String> {
        if self.is_linear && self.x.iter().all(|x| x.abs() < 1e12) { None } else { self.left(t) }
    }

    /// What has left its range at `t`.
    fn left(&self, t: f64) -> Option<String> {
        let description = self.system.process.description();
        for (state, x) in description.states.iter().zip(&self.x) {
            let slack = 1e-6 * (state.high - state.low).min(1e6);
            if !(*x >= state.low - slack && *x <= state.high + slack) {
                return Some(format!(
                    "the {} has left the range of {} to {} {}: the process runs away",
                    state.name.replace('_', " "),
                    readable(state.low),
                    readable(state.high),
                    state.unit
                ));
            }
        }
        let mut room = [0.0; MOST_PORTS];
        self.system.inputs(t, &mut room);
        for (port, u) in self.system.process.ports().iter().zip(room) {
            let input = &description.inputs[port.input];
            let slack = 1e-9 * (input.high - input.low);
            if !(u >= input.low - slack && u <= input.high + slack) {
                return Some(format!(
                    "the {} is {} {}: it can be from {} to {}",
                    input.name.replace('_', " "),
                    readable(u),
                    input.unit,
                    readable(input.low),
                    readable(input.high)
                ));
            }
        }
        None
    }
}

/// What happens to a state at a bound.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Turn {
    Full,
    Empty,
    Released,
}
