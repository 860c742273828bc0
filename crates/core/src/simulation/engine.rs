//! The engine: one scan at a time, dead time exact, nothing allocated on the way while the process is not stiff.

use super::columns::{Signal, Source, Term, columns, signal};
use super::dynamics::{Dynamics, Told};
use super::plant::Started;
use super::schedule::{Schedule, Switch};
use super::timeline::Cursor;
use super::trace::{BalanceSheet, Column, Happening, TermTotal, Trace};
use super::trial::Trial;
use crate::Result;
use crate::controller::{Controller, ControllerSpec, Reading};
use crate::instrument::{Actuator, Motion, Sensor};
use crate::lti::SampledDelay;
use crate::process::Held;
use crate::units::Span;
use std::collections::VecDeque;

/// Instants nearer to each other than this share of a scan are one.
const SLACK: f64 = 1e-9;
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
    driven: bool,
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

/// A set point that follows a signal.
#[derive(Debug, Clone, Copy)]
struct Follows {
    signal: Signal,
    ratio: f64,
    /// The signal at the start.
    from: f64,
}

/// A trial being run.
///
/// At each scan the PV is measured, the controller sets the OP, and the process is carried to the next scan. The
/// OP reaches the process a dead time later, in general between two scans: there, and wherever a load, a parameter or
/// the actuator turns, the integration is split, so that the inputs run straight over each stretch and the advance of a
/// linear process is exact.
pub struct Simulation {
    dynamics: Dynamics,
    controller: Box<dyn Controller>,
    actuator: Actuator,
    sensor: Sensor,
    schedule: Schedule,
    pv_span: Span,
    scan: f64,
    scans: usize,
    next: usize,
    manual: bool,
    output: f64,
    next_switch: usize,
    set_point_cursor: Cursor,
    load_cursor: Cursor,
    input_cursors: Vec<Cursor>,
    /// What the controller reads besides, as values and where they come from.
    reads: Vec<Signal>,
    further: Vec<f64>,
    follows: Option<Follows>,
    set_point_tracking: bool,
    /// By how much tracking has moved the set point.
    set_point_offset: f64,
    learned: Vec<f64>,
    parameter_cursors: Vec<Cursor>,
    ways: Vec<Way>,
    /// Whether a scan can be carried in one step while no input but the OP moves.
    in_whole_scans: bool,
    /// Movements of the actuator in the last scans; scan k stands at k modulo the length, a power of two.
    motions: Vec<Motion>,
    resting: Motion,
    /// What the sensor saw before its dead time, the oldest first.
    seen: VecDeque<f64>,
    sensor_delay: SampledDelay,
    /// Outputs and balance terms at the last scan, and all that goes into the further columns.
    outputs: Vec<f64>,
    scratch: Vec<f64>,
    terms: Vec<f64>,
    true_value: f64,
    /// Position of the actuator at the last scan, %.
    position: f64,
    /// % of the drive per unit of the driven input.
    per_unit: f64,
    sources: Vec<Source>,
    contents_at_start: Vec<f64>,
    told: Vec<Told>,
    stopped: Option<Happening>,
    template: Trace,
}

/// How far the PV may be off, in % of span, before a trial says no more than that it runs away.
const RUN_AWAY: f64 = 2000.0;

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
        let started = plant.start()?;
        let schedule = Schedule::new(scenario, &started)?;
        let Started { op, pv, output, .. } = started;
        let (driven, per_unit) = (started.driven.input, started.driven.rate.recip());
        let description = started.process.description().clone();
        let spec = &trial.candidate.controller;
        let reads: Vec<Signal> =
            spec.reads().into_iter().map(|name| signal(&description, name, driven)).collect::<Result<_>>()?;
        let mut outputs = vec![0.0; description.outputs.len()];
        started.process.outputs(&started.state, &started.inputs, Held::default(), &mut outputs);
        let at_rest = |signal: Signal| match signal {
            Signal::Output(k) => outputs[k],
            Signal::Input(k) => started.inputs[k],
            Signal::Load => 0.0,
        };
        let further: Vec<f64> = reads.iter().copied().map(at_rest).collect();
        let follows = trial
            .candidate
            .ratio
            .as_ref()
            .map(|ratio| {
                let signal = signal(&description, &ratio.signal, driven)?;
                Ok(Follows { signal, ratio: ratio.ratio, from: at_rest(signal) })
            })
            .transpose()?;
        let mut controller = spec.build(&plant.pv.span, scan)?;
        let resting = plant.pv.span.to_percent(pv);
        controller.track(Reading { set_point: resting, measurement: resting, further: &further }, op);
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
                driven: port.input == driven,
                run: Run::default(),
            })
            .collect();
        // Where the terms of the balances are integrated, nothing is taken in whole scans.
        let only_dead_time = match started.process.ports() {
            [port] if !with_balances && port.input == driven => Some(port.dead_time),
            _ => None,
        };
        let (template, sources) = columns(trial, &description, &schedule, output, driven, with_balances);
        let sensor_delay = crate::lti::DeadTime::new(plant.sensor.dead_time)?.sampled(scan);
        let longest = ways.iter().map(|way| way.delay.scans).max().unwrap_or(0);
        let position = Motion::resting(op);
        let mut dynamics = Dynamics::new(started, &plant.actuator, &plant.sensor, with_balances)?;
        for (input, way) in dynamics.stretch_mut().iter_mut().zip(&ways) {
            input.driven = way.driven;
        }
        let mut contents_at_start = vec![0.0; description.balances.len()];
        dynamics.contents(&mut contents_at_start);
        let late = sensor_delay.scans + usize::from(sensor_delay.remainder > 0.0);
        let mut simulation = Self {
            controller,
            actuator: Actuator::new(&plant.actuator, scan, op),
            sensor: Sensor::new(
                &plant.sensor,
                &plant.pv.tag,
                scenario.seed,
                scan,
                [plant.pv.span.low, plant.pv.span.high],
            ),
            pv_span: plant.pv.span.clone(),
            scan,
            scans: scenario.scans(),
            next: 0,
            manual: trial.candidate.controller == ControllerSpec::Manual,
            output: op,
            next_switch: 0,
            set_point_cursor: Cursor::default(),
            load_cursor: Cursor::default(),
            input_cursors: vec![Cursor::default(); schedule.inputs.len()],
            reads,
            further,
            follows,
            set_point_tracking: trial.candidate.set_point_tracking,
            set_point_offset: 0.0,
            learned: vec![0.0; spec.learns(&plant.pv.span).len()],
            parameter_cursors: vec![Cursor::default(); schedule.parameters.len()],
            motions: vec![position; (longest + 2).next_power_of_two()],
            resting: position,
            in_whole_scans: false,
            ways,
            seen: VecDeque::with_capacity(late + 2),
            sensor_delay,
            outputs: vec![0.0; description.outputs.len()],
            scratch: vec![0.0; description.outputs.len()],
            terms: vec![0.0; description.terms()],
            true_value: pv,
            position: op,
            per_unit,
            sources,
            contents_at_start,
            told: Vec::new(),
            stopped: None,
            template,
            schedule,
            dynamics,
        };
        simulation.in_whole_scans = match only_dead_time {
            Some(dead_time) if simulation.schedule.parameters.is_empty() && sensor_delay.remainder == 0.0 => {
                simulation.dynamics.ready_whole_scan(dead_time, scan)
            }
            _ => false,
        };
        simulation.fill_stretch(0, 0.0);
        let at_start = simulation.dynamics.outputs(0.0, &mut simulation.outputs);
        simulation.seen.extend(std::iter::repeat_n(at_start, late));
        Ok(simulation)
    }

    /// One scan; None when the scenario is over, or the trial had to be stopped.
    pub fn step(&mut self) -> Option<Row> {
        if self.next == self.scans || self.stopped.is_some() {
            return None;
        }
        crate::work::go_on();
        let scan_number = self.next;
        self.next += 1;
        let time = scan_number as f64 * self.scan;
        let slack = SLACK * self.scan;
        let (mut set_point, ..) = self.schedule.set_point.at(&mut self.set_point_cursor, time, slack);
        let (load, ..) = self.schedule.load.at(&mut self.load_cursor, time, slack);
        if scan_number == 0 && self.dynamics.feeds_through() {
            self.fill_stretch(scan_number, 0.0);
            self.dynamics.begin(time);
        }
        // What is felt directly stands as the scan before left it: the controller measures first and moves then.
        let seen = self.dynamics.outputs(time, &mut self.outputs);
        if let Some(reason) = self.dynamics.senseless(&self.outputs) {
            self.next = scan_number;
            self.stopped = Some(Happening { at: time, text: reason });
            return None;
        }
        self.true_value = self.outputs[self.dynamics.output()];
        self.position = self.actuator.position();
        let shown = self.delayed(seen);
        let failure = self.schedule.sensor_failing.iter().find(|(scans, _)| scans.contains(&scan_number));
        let measurement = self.sensor.measure(shown, failure.map(|(_, how)| *how));
        for k in 0..self.reads.len() {
            self.further[k] = self.signal(self.reads[k], time, load);
        }
        if let Some(Follows { signal, ratio, from }) = self.follows {
            set_point += ratio * (self.signal(signal, time, load) - from);
        }
        self.switch(scan_number, set_point, measurement);
        if self.manual && self.set_point_tracking {
            self.set_point_offset = measurement - set_point;
        }
        set_point += self.set_point_offset;
        let output = self.control(set_point, measurement);
        self.output = output;
        let stuck = self.schedule.sticking.iter().any(|scans| scans.contains(&scan_number));
        let failed = self.schedule.failing.iter().any(|scans| scans.contains(&scan_number));
        let slot = self.slot(scan_number);
        self.actuator.travel(output, stuck, failed, &mut self.motions[slot]);
        if !self.terms.is_empty() && self.sources.iter().any(|source| matches!(source, Source::Term(_))) {
            self.fill_stretch(scan_number, 0.0);
            self.dynamics.begin(time);
            self.dynamics.balances(time, &mut self.terms);
        }
        if let Err(reason) = self.carry_on(scan_number) {
            self.stopped = Some(Happening { at: time, text: reason });
        } else if self.pv_span.to_percent(self.true_value).abs() > RUN_AWAY {
            let who = if self.manual { "the process runs away" } else { "the loop swings or drifts ever further" };
            let text = format!("{who}: the PV is {} spans off", (RUN_AWAY / 100.0).round());
            self.stopped = Some(Happening { at: time, text });
        }
        Some(Row { time, set_point, measurement, true_value: self.true_value, output, load })
    }

    /// Where the movement of a scan stands; a power of two as the length makes it cheap.
    fn slot(&self, scan_number: usize) -> usize {
        scan_number & (self.motions.len() - 1)
    }

    /// What the sensor shows now of what it saw a dead time ago.
    fn delayed(&mut self, seen: f64) -> f64 {
        let SampledDelay { scans, remainder } = self.sensor_delay;
        if remainder > 0.0 {
            // What lies between two scans was noted on the way.
            return self.seen.pop_front().unwrap_or(seen);
        }
        if scans == 0 {
            return seen;
        }
        self.seen.push_back(seen);
        self.seen.pop_front().unwrap_or(seen)
    }

    /// What a signal is at `time`.
    fn signal(&mut self, signal: Signal, time: f64, load: f64) -> f64 {
        match signal {
            Signal::Output(k) => self.outputs[k],
            Signal::Input(k) => {
                let slack = SLACK * self.scan;
                self.schedule.inputs[k].at(&mut self.input_cursors[k], time, slack).0
            }
            Signal::Load => load,
        }
    }

    /// What the scenario switches at this scan.
    fn switch(&mut self, scan_number: usize, set_point: f64, measurement: f64) {
        while let Some((_, switch)) = self.schedule.switches.get(self.next_switch).filter(|s| s.0 <= scan_number) {
            match switch {
                Switch::Manual => self.manual = true,
                Switch::Automatic => {
                    self.manual = false;
                    let reading = Reading {
                        set_point: self.pv_span.to_percent(set_point + self.set_point_offset),
                        measurement: self.pv_span.to_percent(measurement),
                        further: &self.further,
                    };
                    self.controller.track(reading, self.output);
                }
                Switch::Output(by) => self.output = (self.output + by).clamp(0.0, 100.0),
            }
            self.next_switch += 1;
        }
    }

    /// The output of the controller, or of the operator.
    fn control(&mut self, set_point: f64, measurement: f64) -> f64 {
        let reading = Reading {
            set_point: self.pv_span.to_percent(set_point),
            measurement: self.pv_span.to_percent(measurement),
            further: &self.further,
        };
        if self.manual {
            self.controller.track(reading, self.output);
            self.output
        } else {
            self.controller.scan(reading)
        }
    }

    /// How the inputs run from `now` seconds into a scan; returns when the next of them turns.
    fn fill_stretch(&mut self, scan_number: usize, now: f64) -> f64 {
        let (start, slack) = (scan_number as f64 * self.scan, SLACK * self.scan);
        let mut until = self.scan;
        let last = self.motions.len() - 1;
        for (way, input) in self.ways.iter_mut().zip(self.dynamics.stretch_mut()) {
            let t = start + now - way.dead_time;
            if way.run.until.is_none_or(|until| t + slack >= until) {
                let (mut value, mut slope, mut until) = self.schedule.inputs[way.input].at(&mut way.cursor, t, slack);
                if way.driven {
                    let (load, load_slope, knot) = self.schedule.load.at(&mut way.load_cursor, t, slack);
                    // A load on the driven input in its own unit counts as % of the drive.
                    value = load + value * self.per_unit;
                    slope = load_slope + slope * self.per_unit;
                    until = until.min(knot);
                }
                way.run = Run { since: t, value, slope, until: Some(until) };
            }
            let Run { since, value, slope, until: knot } = way.run;
            let value = if slope == 0.0 { value } else { value + slope * (t - since) };
            until = until.min(now + (knot.unwrap_or(f64::INFINITY) - t));
            if way.driven {
                let SampledDelay { scans, remainder } = way.delay;
                let early = now < remainder - slack;
                let back = scans + usize::from(early);
                let since = if early { self.scan - remainder + now } else { (now - remainder).max(0.0) };
                let motion = match scan_number.checked_sub(back) {
                    Some(of) => &self.motions[of & last],
                    None => &self.resting,
                };
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
    /// this scan.
    fn quiet(&self, scan_number: usize) -> Option<(f64, f64, f64)> {
        let way = &self.ways[0];
        let Run { value, slope, until, .. } = way.run;
        let end = (scan_number + 1) as f64 * self.scan - way.dead_time;
        if slope != 0.0 || until.is_none_or(|until| until <= end + SLACK * self.scan) {
            return None;
        }
        let position = |back: usize| match scan_number.checked_sub(way.delay.scans + back) {
            Some(of) => self.motions[self.slot(of)].begins_at(),
            None => self.resting.begins_at(),
        };
        Some((position(1), position(0), value))
    }

    /// Carries the process through one scan, from switching instant to switching instant.
    fn carry_on(&mut self, scan_number: usize) -> std::result::Result<(), String> {
        let (start, slack) = (scan_number as f64 * self.scan, SLACK * self.scan);
        if self.in_whole_scans
            && let Some((before, now, load)) = self.quiet(scan_number)
        {
            self.dynamics.carry_whole_scan(before, now, load);
            return self.dynamics.runaway(start + self.scan).map_or(Ok(()), Err);
        }
        let note_at = (self.sensor_delay.remainder > 0.0).then_some(self.scan - self.sensor_delay.remainder);
        let mut now = 0.0;
        loop {
            let mut until = self.fill_stretch(scan_number, now);
            until = until.min(self.set_parameters(start + now)? - start);
            if let Some(note_at) = note_at.filter(|at| *at > now + slack) {
                until = until.min(note_at);
            }
            if until > self.scan - slack {
                until = self.scan;
            }
            self.dynamics.carry(start + now, until - now, &mut self.told)?;
            if note_at.is_some_and(|at| (until - at).abs() <= slack) {
                let seen = self.dynamics.outputs(start + until, &mut self.scratch);
                self.seen.push_back(seen);
            }
            now = until;
            if now >= self.scan {
                break;
            }
        }
        self.dynamics.runaway(start + self.scan).map_or(Ok(()), Err)
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
                self.controller.inner(&mut self.learned);
            }
            let (first, further) = columns.split_at_mut(4);
            for (column, value) in first.iter_mut().zip([row.set_point, row.measurement, row.output, row.load]) {
                column.values.push(value);
            }
            for (column, source) in further.iter_mut().zip(&self.sources) {
                column.values.push(match source {
                    Source::Position => self.position,
                    Source::DrivenInput => self.dynamics.driven_value(self.position, row.load),
                    Source::TrueValue => self.true_value,
                    Source::Output(k) => self.outputs[*k],
                    Source::Input(k) => {
                        let timeline = &self.schedule.inputs[*k];
                        timeline.at(&mut self.input_cursors[*k], row.time, SLACK * self.scan).0
                    }
                    Source::Term(k) => self.terms[*k],
                    Source::Stored { first, signs } => {
                        signs.iter().zip(&self.terms[*first..]).map(|(sign, term)| sign * term).sum()
                    }
                    Source::Control(term) => {
                        let terms = self.controller.explain();
                        match term {
                            Term::Proportional => terms.proportional,
                            Term::Integral => terms.integral,
                            Term::Derivative => terms.derivative,
                            Term::FeedForward => terms.feed_forward,
                            Term::Unlimited => terms.unlimited,
                        }
                    }
                    Source::Learned(k) => self.learned[*k],
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

impl Trial {
    /// The trace of this trial.
    pub fn run(&self) -> Result<Trace> {
        Simulation::new(self).map(Simulation::run)
    }
}
