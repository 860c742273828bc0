//! The controllers of a trial at work, each with its set point and mode, wired to OPs and to each other.

use super::columns::Signal;
use super::driving::Driving;
use super::measuring::Measuring;
use super::predicting::Predicting;
use super::schedule::{AtController, Switch};
use super::timeline::Cursor;
use super::wiring::{End, Wiring};
use crate::controller::{Controller, Reading};

/// A set point that follows a signal.
#[derive(Debug, Clone, Copy)]
pub(super) struct Follows {
    pub signal: Signal,
    pub ratio: f64,
    /// The signal at the start.
    pub from: f64,
}

/// A controller at work.
pub(super) struct Controlling {
    pub controller: Box<dyn Controller>,
    pub manual: bool,
    /// Whether a switch to automatic has yet to be carried out.
    takes_over: bool,
    /// Its output in %.
    pub output: f64,
    /// Its set point, in PV units.
    pub set_point: f64,
    plan: AtController,
    cursor: Cursor,
    next_switch: usize,
    /// What it reads besides, as values and where they come from.
    pub reads: Vec<Signal>,
    pub further: Vec<f64>,
    pub follows: Option<Follows>,
    /// Whether its set point follows its PV in manual, and by how much that has moved it.
    tracks: bool,
    offset: f64,
    /// Whether another controller sets its set point.
    set_from_above: bool,
    /// Whether it sets nothing but set points.
    sets_only_set_points: bool,
}

impl Controlling {
    /// At rest at an output and a set point.
    pub fn new(
        controller: Box<dyn Controller>,
        [manual, tracks]: [bool; 2],
        plan: AtController,
        (reads, further): (Vec<Signal>, Vec<f64>),
        output: f64,
        set_point: f64,
    ) -> Self {
        Self {
            controller,
            manual,
            takes_over: false,
            output,
            set_point,
            plan,
            cursor: Cursor::default(),
            next_switch: 0,
            reads,
            further,
            follows: None,
            tracks,
            offset: 0.0,
            set_from_above: false,
            sets_only_set_points: false,
        }
    }

    /// Whether it has a set point of its own, whose course the scenario knows.
    pub fn has_own_set_point(&self) -> bool {
        self.follows.is_none()
    }

    /// Its set point at a time to come, as the scenario has it.
    pub fn set_point_at(&self, time: f64, slack: f64) -> f64 {
        self.plan.set_point.value(time, slack) + self.offset
    }

    /// Does what the scenario does at this scan.
    #[inline]
    fn switch(&mut self, scan_number: usize) {
        while let Some((_, switch)) = self.plan.switches.get(self.next_switch).filter(|s| s.0 <= scan_number) {
            match switch {
                Switch::Manual => (self.manual, self.takes_over) = (true, false),
                Switch::Automatic => {
                    self.takes_over |= self.manual;
                    self.manual = false;
                }
                Switch::Output(by) => self.output = (self.output + by).clamp(0.0, 100.0),
            }
            self.next_switch += 1;
        }
    }

    /// Brings what it reads and its set point up to this scan; `from_above` is what a controller above it sets.
    #[inline]
    fn see(
        &mut self,
        (time, slack): (f64, f64),
        measuring: &Measuring,
        from_above: Option<f64>,
        mut signal: impl FnMut(Signal) -> f64,
    ) {
        for (value, read) in self.further.iter_mut().zip(&self.reads) {
            *value = signal(*read);
        }
        let mut set_point = self.plan.set_point.at(&mut self.cursor, time, slack).0;
        if let Some(Follows { signal: followed, ratio, from }) = self.follows {
            set_point += ratio * (signal(followed) - from);
        }
        if self.manual && self.tracks {
            self.offset = measuring.measurement - set_point;
        }
        self.set_point = from_above.unwrap_or(set_point + self.offset);
    }

    /// One scan on a measured signal; `held` is the output where something below makes it stand there.
    #[inline]
    fn scan(&mut self, measuring: &Measuring, held: Option<f64>) {
        let span = &measuring.span;
        let reading = Reading {
            set_point: span.to_percent(self.set_point),
            measurement: span.to_percent(measuring.measurement),
            further: &self.further,
        };
        if let Some(output) = held {
            self.output = output;
        }
        if self.manual || held.is_some() {
            self.controller.track(reading, self.output);
            return;
        }
        if std::mem::take(&mut self.takes_over) {
            self.controller.track(reading, self.output);
        }
        self.output = self.controller.scan(reading);
    }
}

/// All controllers and the wires between them.
pub(super) struct ControlRoom {
    pub all: Vec<Controlling>,
    wiring: Wiring,
    /// What plans for those of them that are its seats.
    pub predicting: Option<Box<Predicting>>,
    /// Where the outputs of seats are made to stand.
    held: Vec<Option<f64>>,
    /// Whether there is one controller on the one OP, and nothing else to think of.
    alone: bool,
}

impl ControlRoom {
    /// Controllers at rest, and how they are wired.
    pub fn new(mut all: Vec<Controlling>, wiring: Wiring, predicting: Option<Box<Predicting>>) -> Self {
        for (k, one) in all.iter_mut().enumerate() {
            one.set_from_above = wiring.sets_its(k);
            one.sets_only_set_points = wiring.op_of(k).is_none();
        }
        let alone =
            predicting.is_none() && all.len() == 1 && wiring.leads.len() == 1 && wiring.leads[0].range == [0.0, 100.0];
        let held = vec![None; all.len()];
        Self { all, wiring, predicting, held, alone }
    }

    /// One scan of every controller at `time`, the outer ones first: sets the OPs. `signal` tells what else is read.
    #[inline]
    pub fn scan(
        &mut self,
        scan_number: usize,
        time: f64,
        slack: f64,
        measured: &[Measuring],
        drives: &mut [Driving],
        mut signal: impl FnMut(Signal, &[Driving]) -> f64,
    ) {
        if self.alone {
            let (one, measuring) = (&mut self.all[0], &measured[self.wiring.measures[0]]);
            one.switch(scan_number);
            one.see((time, slack), measuring, None, |read| signal(read, drives));
            one.scan(measuring, None);
            drives[0].output = one.output;
            return;
        }
        for one in &mut self.all {
            one.switch(scan_number);
        }
        self.scan_seats(time, slack, measured, drives, &mut signal);
        for at in 0..self.wiring.order.len() {
            let k = self.wiring.order[at];
            if self.predicting.as_ref().is_some_and(|predicting| predicting.seats.contains(&k)) {
                continue;
            }
            let held = self.ready(k, time, slack, measured, drives, &mut signal);
            self.all[k].scan(&measured[self.wiring.measures[k]], held);
            self.set(k, drives);
        }
        self.tell_back(drives);
    }

    /// One scan of the predictive controller, where there is one: nothing stands above it.
    fn scan_seats(
        &mut self,
        time: f64,
        slack: f64,
        measured: &[Measuring],
        drives: &mut [Driving],
        signal: &mut impl FnMut(Signal, &[Driving]) -> f64,
    ) {
        let Some(mut predicting) = self.predicting.take() else { return };
        for k in &predicting.seats {
            self.held[*k] = self.ready(*k, time, slack, measured, drives, signal);
        }
        predicting.look_ahead(&self.all, &self.wiring.measures, measured, (time, slack));
        predicting.scan(&mut self.all, &self.wiring.measures, measured, drives, &self.held);
        for k in &predicting.seats {
            self.set(*k, drives);
        }
        self.predicting = Some(predicting);
    }

    /// Brings what a controller reads and its set point up to this scan; returns where its output is made to stand.
    fn ready(
        &mut self,
        k: usize,
        time: f64,
        slack: f64,
        measured: &[Measuring],
        drives: &[Driving],
        signal: &mut impl FnMut(Signal, &[Driving]) -> f64,
    ) -> Option<f64> {
        let measuring = &measured[self.wiring.measures[k]];
        let from_above = if self.all[k].set_from_above { self.set_point_from_above(k, measuring) } else { None };
        let held = self.held(k, measured);
        self.all[k].see((time, slack), measuring, from_above, |read| signal(read, drives));
        held
    }

    /// The set point of a controller below another one: what that sets, or, in manual, its own PV.
    fn set_point_from_above(&self, k: usize, measuring: &Measuring) -> Option<f64> {
        if self.all[k].manual {
            return Some(measuring.measurement);
        }
        Some(measuring.span.from_percent(self.joined(End::SetPoint(k))?))
    }

    /// What comes to one end of the wires.
    fn joined(&self, end: End) -> Option<f64> {
        let mut joined: Option<f64> = None;
        for lead in self.wiring.leads.iter().filter(|lead| lead.end == end) {
            let signal = lead.signal(self.all[lead.from].output);
            joined = Some(match (joined, lead.select) {
                (Some(before), Some(select)) => select.of(before, signal),
                _ => signal,
            });
        }
        joined
    }

    /// Where the output of a controller stands while all that it sets the set points of are in manual.
    fn held(&self, k: usize, measured: &[Measuring]) -> Option<f64> {
        if !self.all[k].sets_only_set_points {
            return None;
        }
        let mut held = None;
        for lead in self.wiring.of(k) {
            let End::SetPoint(below) = lead.end else { return None };
            // One that has just been put to automatic still stands where it stood.
            if !self.all[below].manual && !self.all[below].takes_over {
                return None;
            }
            let measuring = &measured[self.wiring.measures[below]];
            held = Some(lead.output(measuring.span.to_percent(measuring.measurement)));
        }
        held
    }

    /// Sets the OPs that a controller sets.
    fn set(&self, k: usize, drives: &mut [Driving]) {
        for lead in self.wiring.of(k) {
            if let End::Op(op) = lead.end
                && let Some(output) = self.joined(lead.end)
            {
                drives[op].output = output;
            }
        }
    }

    /// Tells every controller what became of its output, so that no integral winds up.
    fn tell_back(&mut self, drives: &[Driving]) {
        for at in (0..self.wiring.order.len()).rev() {
            let k = self.wiring.order[at];
            // Overridden: what was set is not what it put out.
            let mut stood = self.all[k].output;
            for lead in self.wiring.of(k) {
                if let End::Op(op) = lead.end
                    && lead.signal(stood) != drives[op].output
                {
                    stood = lead.output(drives[op].output);
                }
            }
            let one = &mut self.all[k];
            if !one.manual && stood != one.output {
                one.controller.overridden(stood);
            }
            // At a limit or overridden: what stands above cannot push it further.
            let excess = one.controller.explain().unlimited - stood;
            if !one.set_from_above || one.manual || excess == 0.0 {
                continue;
            }
            for lead in self.wiring.leads.iter().filter(|lead| lead.end == End::SetPoint(k)) {
                let turns = (lead.range[1] - lead.range[0]).signum();
                let action = self.all[k].controller.sense();
                self.all[lead.from].controller.wait(excess * action * turns);
            }
        }
    }
}
