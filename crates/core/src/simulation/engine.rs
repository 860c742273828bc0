//! The engine: one scan at a time, dead time exact, nothing allocated on the way while the process is not stiff.

use super::columns::{Signal, Source, Term, columns, driven_inputs, signal};
use super::controlling::{ControlRoom, Controlling, Follows};
use super::driving::Driving;
use super::dynamics::{Dynamics, Told};
use super::measuring::{Measuring, RUN_AWAY};
use super::measuring_inputs::MeasuringInput;
use super::plant::{Plant, Started};
use super::predicting::Predicting;
use super::schedule::{AtController, Schedule};
use super::timeline::Cursor;
use super::trace::{BalanceSheet, Column, Happening, TermTotal, Trace};
use super::trial::{Candidate, Trial};
use super::wiring::Wiring;
use crate::controller::predictive::{Explicit, LookAhead};
use crate::controller::{Controller, ControllerSpec, Reading};
use crate::instrument::Sensor;
use crate::lti::{DeadTime, SampledDelay};
use crate::process::{Description, Held};
use crate::{Error, Result};

/// Instants nearer to each other than this share of a scan are one.
const SLACK: f64 = 1e-9;
/// After so many scans a trial looks whether anybody still wants it.
const SCANS_A_LOOK: usize = 32;
/// Happenings that are told; a tank that spills at every wave need not be told of for ever.
const MOST_TOLD: usize = 200;

/// One row of the trace.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Row {
    /// Time in s.
    pub time: f64,
    /// Set point, in PV units.
    pub set_point: f64,
    /// Measured process variable, in its unit.
    pub measurement: f64,
    /// What a perfect sensor would show, in the same unit.
    pub true_value: f64,
    /// Controller output in %, held until the next scan.
    pub output: f64,
    /// Load where the OP acts, in %.
    pub load: f64,
}

/// How an input comes to the process.
#[derive(Debug, Clone, Copy)]
struct Way {
    input: usize,
    delay: SampledDelay,
    dead_time: f64,
    /// Where its timeline, and that of the load, are read.
    cursor: Cursor,
    load_cursor: Cursor,
    /// The OP that drives it.
    drive: Option<usize>,
    /// How it runs between knots, as it was last read.
    run: Run,
}

/// A straight run of an input, with the load on it.
#[derive(Debug, Clone, Copy, Default)]
struct Run {
    since: f64,
    value: f64,
    slope: f64,
    /// When the next knot comes; before the first reading it has come.
    until: Option<f64>,
}

/// A trial being run.
///
/// At each scan the PVs are measured, the controllers set the OPs, and the process is carried to the next scan. An
/// OP reaches the process a dead time later, in general between two scans: there, and wherever a load, a parameter or
/// the actuator turns, the integration is split, so that the inputs run straight over each stretch and the advance of a
/// linear process is exact.
pub struct Simulation {
    dynamics: Dynamics,
    /// The PV first, then the further measured signals.
    measured: Vec<Measuring>,
    /// The inputs that are measured.
    disturbances: Vec<MeasuringInput>,
    /// The OP first, then the further ones.
    drives: Vec<Driving>,
    controllers: ControlRoom,
    schedule: Schedule,
    scan: f64,
    scans: usize,
    next: usize,
    load_cursors: Vec<Cursor>,
    input_cursors: Vec<Cursor>,
    learned: Vec<f64>,
    parameter_cursors: Vec<Cursor>,
    ways: Vec<Way>,
    /// Whether a scan can be carried in one step while no input but the OP moves.
    in_whole_scans: bool,
    /// Outputs and balance terms at the last scan, and all that goes into the further columns.
    outputs: Vec<f64>,
    scratch: Vec<f64>,
    terms: Vec<f64>,
    sources: Vec<Source>,
    contents_at_start: Vec<f64>,
    told: Vec<Told>,
    stopped: Option<Happening>,
    template: Trace,
}

impl Simulation {
    /// Checks the trial and brings everything to where it starts.
    pub fn new(trial: &Trial) -> Result<Self> {
        Self::build(trial, false)
    }

    /// The same, with the terms of the balances in the trace and their sheets at its end.
    pub fn with_balances(trial: &Trial) -> Result<Self> {
        Self::build(trial, true)
    }

    fn build(trial: &Trial, with_balances: bool) -> Result<Self> {
        trial.validate()?;
        let (plant, scenario) = (&trial.plant, &trial.scenario);
        let scan = scenario.scan;
        let wiring = Wiring::new(plant, &trial.candidate)?;
        let started = plant.start()?;
        let description = started.process.description().clone();
        let driven = driven_inputs(&started);
        let rest = AtRest::new(&started);
        let measured_inputs = plant.measured_inputs(&description, &driven)?;
        let mut schedule = Schedule::new(scenario, (plant, &started), &wiring, &rest.measured)?;
        let (template, sources) = columns(trial, &started, &schedule, &wiring, with_balances);
        let plans = std::mem::take(&mut schedule.controllers);
        let disturbances = MeasuringInput::all(plant, &measured_inputs, &mut schedule, (scenario.seed, scan));
        let rest = AtRest { disturbances: disturbances.iter().map(|one| one.measurement).collect(), ..rest };
        let all = controllers(trial, &wiring, plans, &description, &driven, &rest, started.op)?;
        let mut predicting = Predicting::new(plant, &trial.candidate, &wiring, scan)?;
        if let Some(predicting) = &mut predicting {
            predicting.foresee(&trial.candidate, &all, (&schedule, &disturbances))?;
            let spans = plant.measured_spans();
            let percent = |seat: usize| {
                let measured = wiring.measures[seat];
                spans[measured].to_percent(rest.measured[measured])
            };
            predicting.rest(&all, percent);
        }
        let ways: Vec<Way> = started
            .process
            .ports()
            .iter()
            .map(|port| Way {
                input: port.input,
                delay: port.dead_time.sampled(scan),
                dead_time: port.dead_time.seconds(),
                cursor: Cursor::default(),
                load_cursor: Cursor::default(),
                drive: driven.iter().position(|input| *input == port.input),
                run: Run::default(),
            })
            .collect();
        // Where the terms of the balances are integrated, nothing is taken in whole scans.
        let only_dead_time = match started.process.ports() {
            [port] if !with_balances && port.input == driven[0] => Some(port.dead_time),
            _ => None,
        };
        let longest = ways.iter().map(|way| way.delay.scans).max().unwrap_or(0);
        let drives = drives(plant, &schedule, &started, scan, longest);
        let mut dynamics = Dynamics::new(started, plant, with_balances)?;
        for (input, way) in dynamics.stretch_mut().iter_mut().zip(&ways) {
            input.drive = way.drive;
        }
        let mut contents_at_start = vec![0.0; description.balances.len()];
        dynamics.contents(&mut contents_at_start);
        let mut simulation = Self {
            measured: Vec::new(),
            disturbances,
            controllers: ControlRoom::new(all, wiring, predicting.map(Box::new)),
            load_cursors: vec![Cursor::default(); drives.len()],
            drives,
            scan,
            scans: scenario.scans(),
            next: 0,
            input_cursors: vec![Cursor::default(); schedule.inputs.len()],
            learned: vec![0.0; trial.candidate.controller.learns(&plant.pv.span).len()],
            parameter_cursors: vec![Cursor::default(); schedule.parameters.len()],
            in_whole_scans: false,
            ways,
            outputs: vec![0.0; description.outputs.len()],
            scratch: vec![0.0; description.outputs.len()],
            terms: vec![0.0; description.terms()],
            sources,
            contents_at_start,
            told: Vec::new(),
            stopped: None,
            template,
            schedule,
            dynamics,
        };
        simulation.fill_stretch(0, 0.0);
        simulation.dynamics.outputs(0.0, &mut simulation.outputs);
        simulation.measured = simulation.sensors(trial)?;
        simulation.in_whole_scans = match only_dead_time {
            Some(dead_time)
                if simulation.schedule.parameters.is_empty()
                    && simulation.measured.iter().all(|one| one.delay.remainder == 0.0) =>
            {
                simulation.dynamics.ready_whole_scan(dead_time, scan)
            }
            _ => false,
        };
        Ok(simulation)
    }

    /// The measured signals, their sensors seeing what there is now.
    fn sensors(&mut self, trial: &Trial) -> Result<Vec<Measuring>> {
        let (plant, scenario) = (&trial.plant, &trial.scenario);
        let further = plant.further_measured.iter().map(|one| (&one.tag, &one.span, &one.sensor));
        let all = std::iter::once((&plant.pv.tag, &plant.pv.span, &plant.sensor)).chain(further);
        let mut failing = std::mem::take(&mut self.schedule.sensors).into_iter();
        all.enumerate()
            .map(|(k, (tag, span, spec))| {
                let sensor = Sensor::new(spec, tag, scenario.seed, scenario.scan, [span.low, span.high]);
                let delay = DeadTime::new(spec.dead_time)?.sampled(scenario.scan);
                let seen = self.dynamics.seen(k, &self.outputs);
                Ok(Measuring::new(tag, span.clone(), sensor, delay, failing.next().unwrap_or_default(), seen))
            })
            .collect()
    }

    /// Puts another controller in the place of the first, which measures the PV, at rest where that one is.
    pub(crate) fn put_in_place(&mut self, mut controller: Box<dyn Controller>) {
        let span = &self.measured[0].span;
        let one = &mut self.controllers.all[0];
        let resting = span.to_percent(one.set_point);
        controller.track(Reading { set_point: resting, measurement: resting, further: &one.further }, one.output);
        one.controller = controller;
    }

    /// One scan; None when the scenario is over, or the trial had to be stopped.
    pub fn step(&mut self) -> Option<Row> {
        if self.next == self.scans || self.stopped.is_some() {
            return None;
        }
        let scan_number = self.next;
        if scan_number.is_multiple_of(SCANS_A_LOOK) {
            crate::work::go_on();
        }
        self.next += 1;
        let time = scan_number as f64 * self.scan;
        let slack = SLACK * self.scan;
        let (load, ..) = self.schedule.drives[0].load.at(&mut self.load_cursors[0], time, slack);
        if scan_number == 0 && self.dynamics.feeds_through() {
            self.fill_stretch(scan_number, 0.0);
            self.dynamics.begin(time);
        }
        // What is felt directly stands as the scan before left it: the controller measures first and moves then.
        self.dynamics.outputs(time, &mut self.outputs);
        if let Some(reason) = self.dynamics.senseless(&self.outputs) {
            self.next = scan_number;
            self.stopped = Some(Happening { at: time, text: reason });
            return None;
        }
        let mut far_off = None;
        for (k, measuring) in self.measured.iter_mut().enumerate() {
            let there = self.dynamics.true_value(k, &self.outputs);
            let seen = self.dynamics.seen(k, &self.outputs);
            measuring.measure(scan_number, seen, there);
            if measuring.is_far_off() && far_off.is_none() {
                far_off = Some(k);
            }
        }
        for disturbance in &mut self.disturbances {
            disturbance.measure(scan_number, (time, slack), &self.schedule.inputs);
        }
        let (measured, outputs, disturbances) = (&self.measured, &self.outputs, &self.disturbances);
        let (timelines, cursors) = (&self.schedule.inputs, &mut self.input_cursors);
        self.controllers.scan(scan_number, time, slack, measured, &mut self.drives, |signal, drives| match signal {
            Signal::Output(k) => outputs[k],
            Signal::Input(k) => timelines[k].at(&mut cursors[k], time, slack).0,
            Signal::Load => load,
            Signal::Measured(k) => measured[k].measurement,
            Signal::Disturbance(k) => disturbances[k].measurement,
            Signal::Believed(k) => disturbances[k].believed,
            Signal::Op(k) => drives[k].output,
        });
        for drive in &mut self.drives {
            drive.travel(scan_number);
        }
        if !self.terms.is_empty() && self.sources.iter().any(|source| matches!(source, Source::Term(_))) {
            self.fill_stretch(scan_number, 0.0);
            self.dynamics.begin(time);
            self.dynamics.balances(time, &mut self.terms);
        }
        let row = Row {
            time,
            set_point: self.controllers.all[0].set_point,
            measurement: self.measured[0].measurement,
            true_value: self.measured[0].true_value,
            output: self.drives[0].output,
            load,
        };
        if let Err(reason) = self.carry_on(scan_number, time) {
            self.stopped = Some(Happening { at: time, text: reason });
        } else if let Some(k) = far_off {
            self.stopped = Some(Happening { at: time, text: self.runs_away(k) });
        }
        Some(row)
    }

    /// Why a trial is stopped whose measured signal `k` is far off.
    fn runs_away(&self, k: usize) -> String {
        let manual = self.controllers.all.iter().all(|one| one.manual);
        let who = if manual { "the process runs away" } else { "the loop swings or drifts ever further" };
        let which = if k == 0 { "the PV" } else { &self.measured[k].tag };
        format!("{who}: {which} is {} spans off", (RUN_AWAY / 100.0).round())
    }

    /// How the inputs run from `now` seconds into a scan; returns when the next of them turns.
    fn fill_stretch(&mut self, scan_number: usize, now: f64) -> f64 {
        let (start, slack) = (scan_number as f64 * self.scan, SLACK * self.scan);
        let mut until = self.scan;
        for (way, input) in self.ways.iter_mut().zip(self.dynamics.stretch_mut()) {
            let t = start + now - way.dead_time;
            if way.run.until.is_none_or(|until| t + slack >= until) {
                let (mut value, mut slope, mut until) = self.schedule.inputs[way.input].at(&mut way.cursor, t, slack);
                if let Some(k) = way.drive {
                    let (load, load_slope, knot) = self.schedule.drives[k].load.at(&mut way.load_cursor, t, slack);
                    // A load on the driven input in its own unit counts as % of the drive.
                    let per_unit = self.drives[k].per_unit;
                    value = load + value * per_unit;
                    slope = load_slope + slope * per_unit;
                    until = until.min(knot);
                }
                way.run = Run { since: t, value, slope, until: Some(until) };
            }
            let Run { since, value, slope, until: knot } = way.run;
            let value = if slope == 0.0 { value } else { value + slope * (t - since) };
            until = until.min(now + (knot.unwrap_or(f64::INFINITY) - t));
            if let Some(k) = way.drive {
                let SampledDelay { scans, remainder } = way.delay;
                let early = now < remainder - slack;
                let back = scans + usize::from(early);
                let since = if early { self.scan - remainder + now } else { (now - remainder).max(0.0) };
                let motion = self.drives[k].motion(scan_number, back);
                let (position, position_slope, end) = motion.at(since + slack);
                input.position = position - position_slope * slack;
                input.position_slope = position_slope;
                until = until.min(now + (end - since));
                if early {
                    until = until.min(remainder);
                }
            }
            input.value = value;
            input.slope = slope;
        }
        until
    }

    /// Positions of the actuator before and after the rest of the dead time, and the load, where nothing else turns in
    /// the scan that begins at `start`.
    fn quiet(&self, scan_number: usize, start: f64) -> Option<(f64, f64, f64)> {
        let way = &self.ways[0];
        let Run { value, slope, until, .. } = way.run;
        let end = start + self.scan - way.dead_time;
        if slope != 0.0 || until.is_none_or(|until| until <= end + SLACK * self.scan) {
            return None;
        }
        let position = |back: usize| self.drives[0].motion(scan_number, way.delay.scans + back).begins_at();
        Some((position(1), position(0), value))
    }

    /// Carries the process through the scan that begins at `start`, from switching instant to switching instant.
    fn carry_on(&mut self, scan_number: usize, start: f64) -> std::result::Result<(), String> {
        let slack = SLACK * self.scan;
        if self.in_whole_scans
            && let Some((before, now, load)) = self.quiet(scan_number, start)
        {
            self.dynamics.carry_whole_scan(before, now, load);
            return self.dynamics.runaway(start + self.scan).map_or(Ok(()), Err);
        }
        // Sensors whose dead time ends between two scans note what they see then.
        let notes = self.measured.iter().any(|one| one.delay.remainder > 0.0);
        let mut now = 0.0;
        loop {
            let mut until = self.fill_stretch(scan_number, now);
            until = until.min(self.set_parameters(start + now)? - start);
            if notes {
                let times = self.measured.iter().filter_map(|one| one.note_at(self.scan));
                until = times.filter(|at| *at > now + slack).fold(until, f64::min);
            }
            if until > self.scan - slack {
                until = self.scan;
            }
            self.dynamics.carry(start + now, until - now, &mut self.told)?;
            if notes {
                self.note_at(start + until, until);
            }
            now = until;
            if now >= self.scan {
                break;
            }
        }
        self.dynamics.runaway(start + self.scan).map_or(Ok(()), Err)
    }

    /// Notes, `since` seconds into a scan, what the sensors see whose dead time ends there.
    fn note_at(&mut self, t: f64, since: f64) {
        let (scan, slack) = (self.scan, SLACK * self.scan);
        let is_now = |one: &Measuring| one.note_at(scan).is_some_and(|at| (since - at).abs() <= slack);
        if !self.measured.iter().any(is_now) {
            return;
        }
        self.dynamics.outputs(t, &mut self.scratch);
        for (k, measuring) in self.measured.iter_mut().enumerate() {
            if is_now(measuring) {
                measuring.note(self.dynamics.seen(k, &self.scratch));
            }
        }
    }

    /// Gives the parameters their values at `t`, of one that moves its value half a scan later; returns when the next
    /// turns.
    fn set_parameters(&mut self, t: f64) -> std::result::Result<f64, String> {
        let mut until = f64::INFINITY;
        let slack = SLACK * self.scan;
        for ((index, timeline), cursor) in self.schedule.parameters.iter().zip(&mut self.parameter_cursors) {
            let (value, slope, knot) = timeline.at(cursor, t, slack);
            until = until.min(knot);
            let value = value + slope * 0.5 * (knot - t).min(self.scan);
            if value != self.dynamics.process().parameters()[*index] {
                self.dynamics.set_parameter(*index, value, t, &mut self.told)?;
            }
        }
        Ok(until)
    }

    /// Runs to the end.
    #[must_use]
    pub fn run(mut self) -> Trace {
        let mut columns = std::mem::take(&mut self.template.columns);
        for column in &mut columns {
            column.values.reserve_exact(self.scans);
        }
        while let Some(row) = self.step() {
            if !self.learned.is_empty() {
                match &self.controllers.predicting {
                    Some(predicting) => predicting.tell(&mut self.learned),
                    None => self.controllers.all[0].controller.inner(&mut self.learned),
                }
            }
            let (first, further) = columns.split_at_mut(4);
            for (column, value) in first.iter_mut().zip([row.set_point, row.measurement, row.output, row.load]) {
                column.values.push(value);
            }
            for (column, source) in further.iter_mut().zip(&self.sources) {
                column.values.push(match source {
                    Source::Position(k) => self.drives[*k].position,
                    Source::DrivenInput(k) => {
                        let load = load_at(&self.schedule, &mut self.load_cursors, *k, row.time, SLACK * self.scan);
                        self.dynamics.driven_value(*k, self.drives[*k].position, load)
                    }
                    Source::TrueValue(k) => self.measured[*k].true_value,
                    Source::SetPoint(k) => self.controllers.all[*k].set_point,
                    Source::Measurement(k) => self.measured[*k].measurement,
                    Source::Op(k) => self.drives[*k].output,
                    Source::Load(k) => load_at(&self.schedule, &mut self.load_cursors, *k, row.time, SLACK * self.scan),
                    Source::PutOut(k) => self.controllers.all[*k].output,
                    Source::Output(k) => self.outputs[*k],
                    Source::Input(k) => {
                        let timeline = &self.schedule.inputs[*k];
                        timeline.at(&mut self.input_cursors[*k], row.time, SLACK * self.scan).0
                    }
                    Source::Disturbance(k) => self.disturbances[*k].measurement,
                    Source::Term(k) => self.terms[*k],
                    Source::Stored { first, signs } => {
                        signs.iter().zip(&self.terms[*first..]).map(|(sign, term)| sign * term).sum()
                    }
                    Source::Control(term) => {
                        let terms = self.controllers.all[0].controller.explain();
                        match term {
                            Term::Proportional => terms.proportional,
                            Term::Integral => terms.integral,
                            Term::Derivative => terms.derivative,
                            Term::FeedForward => terms.feed_forward,
                            Term::Unlimited => terms.unlimited,
                        }
                    }
                    Source::Learned(k) => self.learned[*k],
                    Source::Limit(k) => {
                        let predicting = self.controllers.predicting.as_ref();
                        predicting.map_or(f64::NAN, |one| one.moved_limit(*k, row.time, SLACK * self.scan))
                    }
                });
            }
        }
        self.finished(columns)
    }

    fn finished(mut self, columns: Vec<Column>) -> Trace {
        let description = self.dynamics.process().description().clone();
        let mut balances = Vec::new();
        if self.sources.iter().any(|source| matches!(source, Source::Term(_))) {
            let end = self.next as f64 * self.scan;
            let mut now = vec![0.0; description.balances.len()];
            self.dynamics.contents(&mut now);
            let mut terms = std::mem::take(&mut self.terms);
            let integrals = self.dynamics.balances(end, &mut terms).to_vec();
            let mut from = 0;
            for (k, balance) in description.balances.iter().enumerate() {
                let parts = &integrals[from..from + balance.terms.len()];
                from += balance.terms.len();
                let signed = balance
                    .terms
                    .iter()
                    .zip(parts)
                    .map(|(term, part)| TermTotal { name: term.name.clone(), amount: term.kind.sign() * part });
                let mut terms: Vec<TermTotal> = signed.collect();
                let redefined = self.dynamics.redefined()[k];
                if redefined != 0.0 {
                    terms.push(TermTotal { name: "change of parameters".to_owned(), amount: redefined });
                }
                let gained = now[k] - self.contents_at_start[k];
                let missing = gained - terms.iter().map(|term| term.amount).sum::<f64>();
                let throughput = 0.5 * terms.iter().map(|term| term.amount.abs()).sum::<f64>();
                balances.push(BalanceSheet {
                    name: balance.name.clone(),
                    unit: balance.unit.clone(),
                    at_start: self.contents_at_start[k],
                    at_end: now[k],
                    terms,
                    missing,
                    closure: if throughput > 0.0 { missing.abs() / throughput } else { 0.0 },
                });
            }
        }
        self.told.truncate(MOST_TOLD);
        let happenings = self.told.into_iter().map(|told| Happening { at: told.at, text: told.text }).collect();
        Trace { columns, happenings, stopped: self.stopped, balances, ..self.template }
    }
}

/// The load where an OP acts, %.
fn load_at(schedule: &Schedule, cursors: &mut [Cursor], drive: usize, time: f64, slack: f64) -> f64 {
    schedule.drives[drive].load.at(&mut cursors[drive], time, slack).0
}

/// What the signals of a plant are before anything happens.
struct AtRest {
    outputs: Vec<f64>,
    inputs: Vec<f64>,
    /// The PV first.
    measured: Vec<f64>,
    disturbances: Vec<f64>,
}

impl AtRest {
    fn new(started: &Started) -> Self {
        let mut outputs = vec![0.0; started.process.description().outputs.len()];
        started.process.outputs(&started.state, &started.inputs, Held::default(), &mut outputs);
        let measured =
            std::iter::once(started.pv).chain(started.further_outputs.iter().map(|output| outputs[*output])).collect();
        Self { outputs, inputs: started.inputs.clone(), measured, disturbances: Vec::new() }
    }
}

fn drives(plant: &Plant, schedule: &Schedule, started: &Started, scan: f64, longest: usize) -> Vec<Driving> {
    let own = (&plant.actuator, started.op, started.driven);
    let further = plant.further_driven.iter().zip(&started.further_drives);
    std::iter::once(own)
        .chain(further.map(|(one, driven)| (&one.actuator, one.at_start, *driven)))
        .zip(&schedule.drives)
        .map(|((actuator, output, driven), plan)| {
            Driving::new(actuator, scan, output, longest, [&plan.sticking, &plan.failing], driven.rate.recip())
        })
        .collect()
}

/// The controllers of a trial, at rest.
fn controllers(
    trial: &Trial,
    wiring: &Wiring,
    plans: Vec<AtController>,
    description: &Description,
    driven: &[usize],
    rest: &AtRest,
    op: f64,
) -> Result<Vec<Controlling>> {
    let (plant, candidate) = (&trial.plant, &trial.candidate);
    let ops: Vec<f64> = std::iter::once(op).chain(plant.further_driven.iter().map(|one| one.at_start)).collect();
    let spans = plant.measured_spans();
    let at_rest = |signal: Signal| match signal {
        Signal::Output(k) => rest.outputs[k],
        Signal::Input(k) => rest.inputs[k],
        Signal::Load => 0.0,
        Signal::Measured(k) => rest.measured[k],
        Signal::Disturbance(k) | Signal::Believed(k) => rest.disturbances[k],
        Signal::Op(k) => ops[k],
    };
    let of_signal = |name: &str, field: &str| {
        signal(plant, description, name, driven).map_err(|error| error.within(field, "controller.signal"))
    };
    let specs = std::iter::once((&candidate.controller, candidate.set_point_tracking))
        .chain(candidate.further.iter().map(|wired| (&wired.controller, wired.set_point_tracking)));
    let mut all = Vec::new();
    for ((k, (spec, tracks)), plan) in specs.enumerate().zip(plans) {
        let place = if k == 0 { "controller".into() } else { format!("candidate.further[{}].controller", k - 1) };
        let field = format!("{place}.signal");
        let reads: Vec<Signal> = spec.reads().into_iter().map(|name| of_signal(name, &field)).collect::<Result<_>>()?;
        let reads: Vec<Signal> = match spec {
            // Who plans with a model knows what to do without a sensor that has failed.
            ControllerSpec::Predictive(_) => reads.into_iter().map(Signal::believed).collect(),
            _ => reads,
        };
        let further: Vec<f64> = reads.iter().copied().map(at_rest).collect();
        let (span, measured) = (spans[wiring.measures[k]], rest.measured[wiring.measures[k]]);
        let output = wiring.output_at_rest(k, &ops, |below| spans[below].to_percent(rest.measured[below]))?;
        let mut controller =
            spec.build(span, trial.scenario.scan).map_err(|error| error.within(&place, "controller"))?;
        let resting = span.to_percent(measured);
        controller.track(Reading { set_point: resting, measurement: resting, further: &further }, output);
        let manual = *spec == ControllerSpec::Manual;
        let mut one = Controlling::new(controller, [manual, tracks], plan, (reads, further), output, measured);
        if k == 0 {
            one.follows = follows(candidate, of_signal, at_rest)?;
        }
        all.push(one);
    }
    Ok(all)
}

/// What the set point of the first controller follows.
fn follows(
    candidate: &Candidate,
    signal: impl Fn(&str, &str) -> Result<Signal>,
    at_rest: impl Fn(Signal) -> f64,
) -> Result<Option<Follows>> {
    let Some(ratio) = &candidate.ratio else { return Ok(None) };
    let signal = signal(&ratio.signal, "candidate.ratio.signal")?;
    Ok(Some(Follows { signal, ratio: ratio.ratio, from: at_rest(signal) }))
}

/// Said of a controller that does not plan.
pub(super) const NO_PLAN: &str = "Only a predictive controller plans ahead.";

impl Trial {
    /// The trace of this trial.
    pub fn run(&self) -> Result<Trace> {
        Simulation::new(self).map(Simulation::run)
    }

    /// The law of its predictive controller about where it begins, written out. Errors where there is none, or that cannot be written out.
    pub fn written_out(&self) -> Result<Explicit> {
        let simulation = self.planned()?;
        let predicting = simulation.controllers.predicting.as_ref();
        predicting.ok_or_else(|| Error::said("candidate.controller.kind", NO_PLAN))?.written_out()
    }

    /// Its simulation. Errors where no controller plans.
    fn planned(&self) -> Result<Simulation> {
        let simulation = Simulation::new(self)?;
        match simulation.controllers.predicting {
            Some(_) => Ok(simulation),
            None => Err(Error::said("candidate.controller.kind", NO_PLAN)),
        }
    }

    /// What its predictive controller sees ahead at the last scan that is not after `at` seconds. Errors where there is none.
    pub fn ahead(&self, at: f64) -> Result<LookAhead> {
        let mut simulation = self.planned()?;
        crate::check::within("at", at, 0.0, self.scenario.duration, "s")?;
        let mut time = 0.0;
        while let Some(row) = simulation.step() {
            time = row.time;
            if time + self.scenario.scan * (1.0 - SLACK) > at {
                break;
            }
        }
        let predicting = simulation.controllers.predicting.as_ref();
        predicting.map(|one| one.ahead(time)).ok_or_else(|| Error::said("at", "Nothing was planned until then."))
    }
}
