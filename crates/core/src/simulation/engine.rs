//! The engine: one scan at a time, dead time exact, nothing allocated on the way.

use super::trace::{Column, ColumnRole, Trace};
use super::trial::{Event, Trial};
use crate::Result;
use crate::controller::{Controller, Reading};
use crate::instrument::Sensor;
use crate::lti::SampledDelay;
use crate::process::{LinearProcess, Process};
use crate::units::Span;
use std::collections::VecDeque;

/// Position of the controller output and of the load among the process inputs.
const OUTPUT: usize = 0;
const LOAD: usize = 1;

/// One row of the trace.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Row {
    /// Time in s.
    pub time: f64,
    /// Set point, in PV units.
    pub set_point: f64,
    /// Measured process variable, in its unit.
    pub measurement: f64,
    /// Controller output in %, held until the next scan.
    pub output: f64,
    /// Load at the process input in %.
    pub load: f64,
}

/// A trial being run.
///
/// At each scan the PV is measured, the controller sets the OP, and the process is carried to the next scan. The
/// OP reaches the process a dead time later, in general between two scans: there, and wherever a load arrives, the
/// integration is split, so that the input is constant over each stretch and the advance of a linear process exact.
pub struct Simulation {
    process: Box<dyn Process>,
    controller: Box<dyn Controller>,
    sensor: Sensor,
    pv_span: Span,
    scan: f64,
    scans: usize,
    next: usize,
    state: Vec<f64>,
    outputs: [f64; 1],
    /// The inputs that act on the process now.
    acting: [f64; 2],
    /// OPs on their way through the dead time, the oldest first.
    under_way: VecDeque<f64>,
    /// Seconds into a scan at which the OP under way arrives.
    arrival: f64,
    set_point: f64,
    load: f64,
    set_point_steps: VecDeque<(usize, f64)>,
    output_steps: VecDeque<(usize, f64)>,
    output: f64,
    /// Loads as the controller's side sees them, by scan, for the trace.
    load_steps: VecDeque<(usize, f64)>,
    /// Loads as they arrive at the process: scan, seconds into it, size.
    load_arrivals: VecDeque<(usize, f64, f64)>,
    template: Trace,
}

impl Simulation {
    /// Checks the trial and brings everything to rest at the operating point.
    pub fn new(trial: &Trial) -> Result<Self> {
        trial.validate()?;
        let (plant, scenario) = (&trial.plant, &trial.scenario);
        let scan = scenario.scan;
        let rest = &plant.operating_point;
        let process: Box<dyn Process> =
            Box::new(LinearProcess::new(&plant.process, rest.pv, rest.op, &plant.pv.span.unit)?);
        let dead_time = process.dead_time();
        let SampledDelay { scans: delay_scans, remainder } = dead_time.sampled(scan);
        let mut controller = trial.candidate.controller.build(scan)?;
        let resting = plant.pv.span.to_percent(rest.pv);
        controller.track(Reading { set_point: resting, measurement: resting }, rest.op);

        let first_scan_at = |time: f64| (time / scan - 1e-9).ceil().max(0.0) as usize;
        let mut events: Vec<&Event> = scenario.events.iter().collect();
        events.sort_by(|a, b| a.at().total_cmp(&b.at()));
        let mut set_point_steps = VecDeque::new();
        let mut output_steps = VecDeque::new();
        let mut load_steps = VecDeque::new();
        let mut load_arrivals = VecDeque::new();
        for event in events {
            match *event {
                Event::SetPointStep { at, by } => set_point_steps.push_back((first_scan_at(at), by)),
                Event::OutputStep { at, by } => output_steps.push_back((first_scan_at(at), by)),
                Event::LoadStep { at, by } => {
                    load_steps.push_back((first_scan_at(at), by));
                    let arrives = at + dead_time.seconds();
                    let during = (arrives / scan + 1e-9).floor();
                    load_arrivals.push_back((during as usize, (arrives - during * scan).max(0.0), by));
                }
            }
        }
        let limits = trial.candidate.controller.output_limits();
        let column = |tag: &str, unit: &str, role| Column {
            tag: tag.to_owned(),
            unit: unit.to_owned(),
            role,
            values: Vec::new(),
        };
        let (pv, op) = (&plant.pv, &plant.op);
        let loop_tag = pv.tag.strip_suffix(".PV").unwrap_or(&pv.tag);
        let template = Trace {
            scan,
            output_limits: limits,
            columns: vec![
                column(&format!("{loop_tag}.SP"), &pv.span.unit, ColumnRole::SetPoint),
                column(&pv.tag, &pv.span.unit, ColumnRole::ProcessVariable),
                column(&op.tag, "%", ColumnRole::Output),
                column("load", "%", ColumnRole::Load),
            ],
        };
        let mut under_way = VecDeque::with_capacity(delay_scans + 1);
        under_way.resize(delay_scans, rest.op);
        Ok(Self {
            state: process.initial_state(),
            process,
            controller,
            sensor: Sensor::new(&plant.sensor, &pv.tag, scenario.seed),
            pv_span: pv.span.clone(),
            scan,
            scans: scenario.scans(),
            next: 0,
            outputs: [0.0],
            acting: [rest.op, 0.0],
            under_way,
            arrival: remainder,
            set_point: rest.pv,
            load: 0.0,
            set_point_steps,
            output_steps,
            output: rest.op,
            load_steps,
            load_arrivals,
            template,
        })
    }

    /// One scan; None when the scenario is over.
    pub fn step(&mut self) -> Option<Row> {
        if self.next == self.scans {
            return None;
        }
        let scan_number = self.next;
        self.next += 1;
        while let Some((_, by)) = self.set_point_steps.pop_front_if(|step| step.0 <= scan_number) {
            self.set_point += by;
        }
        while let Some((_, by)) = self.load_steps.pop_front_if(|step| step.0 <= scan_number) {
            self.load += by;
        }
        self.process.read(&self.state, &mut self.outputs);
        let measurement = self.sensor.measure(self.outputs[0]);
        let reading = Reading {
            set_point: self.pv_span.to_percent(self.set_point),
            measurement: self.pv_span.to_percent(measurement),
        };
        while let Some((_, by)) = self.output_steps.pop_front_if(|step| step.0 <= scan_number) {
            self.controller.track(reading, (self.output + by).clamp(0.0, 100.0));
            self.output = self.controller.explain().limited;
        }
        let output = self.controller.scan(reading);
        self.output = output;
        self.carry_on(scan_number, output);
        Some(Row {
            time: scan_number as f64 * self.scan,
            set_point: self.set_point,
            measurement,
            output,
            load: self.load,
        })
    }

    /// Carries the process through one scan, from switching instant to switching instant.
    fn carry_on(&mut self, scan_number: usize, output: f64) {
        self.under_way.push_back(output);
        let arriving = self.under_way.pop_front().unwrap_or(output);
        let (mut now, mut waiting) = (0.0, true);
        loop {
            let load_at = self.load_arrivals.front().filter(|load| load.0 <= scan_number).map(|load| load.1);
            let output_at = waiting.then_some(self.arrival);
            let until = [load_at, output_at].into_iter().flatten().fold(self.scan, f64::min);
            self.process.advance(&mut self.state, &self.acting, until - now);
            now = until;
            if output_at == Some(until) {
                self.acting[OUTPUT] = arriving;
                waiting = false;
            } else if load_at == Some(until) {
                self.acting[LOAD] += self.load_arrivals.pop_front().map_or(0.0, |load| load.2);
            } else {
                break;
            }
        }
    }

    /// Runs to the end.
    #[must_use]
    pub fn run(mut self) -> Trace {
        let columns = std::mem::take(&mut self.template.columns);
        let mut trace = Trace { columns, ..self.template };
        for column in &mut trace.columns {
            column.values.reserve_exact(self.scans);
        }
        while let Some(row) = self.step() {
            let values = [row.set_point, row.measurement, row.output, row.load];
            for (column, value) in trace.columns.iter_mut().zip(values) {
                column.values.push(value);
            }
        }
        trace
    }
}

impl Trial {
    /// The trace of this trial.
    pub fn run(&self) -> Result<Trace> {
        Simulation::new(self).map(Simulation::run)
    }
}
