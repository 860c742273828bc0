//! What of a trace a step is the cause of: the trial up to the step, less the same without it.

use super::metrics::{Metrics, Response};
use crate::Result;
use crate::simulation::{ColumnRole, Event, Trace, Trial};
use std::rc::Rc;

/// Steps for which trials are run with and without them, at most; further steps are measured up to the next event.
const MOST_COMPARED: usize = 8;
/// Rows over which a loop must have stood still for a step to be measured from there.
const STILL_ROWS: usize = 30;
/// How still, as a share of the largest deviation after the step.
const STILL: f64 = 1e-3;

/// Puts the responses to the steps of the trial in place of those that were read off the columns.
///
/// A step that comes to a loop at rest and is over before anything else happens is measured as it is. Any other is measured on
/// the difference between two trials with the same seed, up to the step and without it: what else was under way, walks or is
/// noise is in both and no part of the step's response, and what comes later is in neither.
pub(super) fn attribute(trial: &Trial, trace: &Trace, recovery_band: f64, metrics: &mut Metrics) -> Result<()> {
    if trace.stopped.is_some() || trace.len() < 2 {
        return Ok(());
    }
    let last = trace.len() - 1;
    let mut steps: Vec<Step> =
        trial.scenario.events.iter().enumerate().filter_map(|(k, event)| Step::of(k, event, trace)).collect();
    steps.sort_by_key(|step| step.row);
    let mut compared = 0;
    let mut runs = Runs { trial, traces: Vec::new() };
    let (mut set_points, mut loads) = (Vec::new(), Vec::new());
    for step in &steps {
        let next = trial
            .scenario
            .events
            .iter()
            .enumerate()
            .filter(|(k, _)| *k != step.event)
            .map(|(_, event)| row_of(event.at(), trace.scan))
            .filter(|row| *row >= step.row)
            .min()
            .unwrap_or(last)
            .min(last);
        let deviations = match step.alone(trial, trace, next) {
            Some(deviations) => deviations,
            None if compared < MOST_COMPARED => {
                compared += 1;
                step.by_difference(&mut runs, trace)?.unwrap_or_else(|| step.as_it_is(trace, next))
            }
            None => step.as_it_is(trace, next),
        };
        let response = Response { scan: trace.scan, at: trace.time(step.row), deviations };
        match &step.load {
            None => set_points.push(response.to_set_point(step.size)),
            Some((tag, unit)) => loads.push(response.to_load(step.size, tag, unit, recovery_band)),
        }
    }
    metrics.take_responses(set_points, loads);
    Ok(())
}

/// The first row at or after a time.
fn row_of(at: f64, scan: f64) -> usize {
    (at / scan - 1e-9).ceil().max(0.0) as usize
}

/// Runs of a trial in which some events do nothing: up to one step is the same as without the next, so that each is run once.
struct Runs<'a> {
    trial: &'a Trial,
    /// Which events did nothing, and what came.
    traces: Vec<(Vec<bool>, Rc<Trace>)>,
}

impl Runs<'_> {
    /// The trace where the events for which this says so, by their place, do nothing.
    ///
    /// They stay in their places: what is drawn at random for the others stays what it was.
    fn without(&mut self, does_nothing: impl Fn(usize, &Event) -> bool) -> Result<Rc<Trace>> {
        let events = &self.trial.scenario.events;
        let left: Vec<bool> = events.iter().enumerate().map(|(k, event)| does_nothing(k, event)).collect();
        if let Some((_, known)) = self.traces.iter().find(|(of, _)| *of == left) {
            return Ok(Rc::clone(known));
        }
        let mut other = self.trial.clone();
        for (event, _) in other.scenario.events.iter_mut().zip(&left).filter(|(_, left)| **left) {
            *event = Event::LoadStep { at: event.at(), by: 0.0, input: None };
        }
        let trace = Rc::new(other.run()?);
        self.traces.push((left, Rc::clone(&trace)));
        Ok(trace)
    }
}

/// A step of the set point or of a load.
struct Step {
    event: usize,
    row: usize,
    size: f64,
    /// Tag and unit of a load.
    load: Option<(String, String)>,
}

impl Step {
    fn of(index: usize, event: &Event, trace: &Trace) -> Option<Self> {
        let (at, size, load) = match event {
            Event::SetPointStep { at, by } => (*at, *by, None),
            Event::LoadStep { at, by, input: None } => (*at, *by, Some(("load".to_owned(), "%".to_owned()))),
            Event::LoadStep { at, by, input: Some(name) } => {
                let column = trace.columns.iter().find(|column| {
                    column.tag == *name && matches!(column.role, ColumnRole::Disturbance | ColumnRole::Load)
                })?;
                (*at, *by, Some((name.clone(), column.unit.clone())))
            }
            _ => return None,
        };
        let row = row_of(at, trace.scan);
        (row < trace.len() && size != 0.0).then_some(Self { event: index, row, size, load })
    }

    /// PV − SP up to a row, the set point being that after the step.
    fn as_it_is(&self, trace: &Trace, end: usize) -> Vec<f64> {
        let set_point = trace.values(ColumnRole::SetPoint)[self.row];
        trace.controlled()[self.row..=end.max(self.row)].iter().map(|value| value - set_point).collect()
    }

    /// The same where nothing else moves the loop before the next event; None where it cannot be told so.
    fn alone(&self, trial: &Trial, trace: &Trace, next: usize) -> Option<Vec<f64>> {
        let plain = |event: &Event| {
            matches!(event, Event::SetPointStep { .. } | Event::LoadStep { .. } | Event::OutputStep { .. })
        };
        if self.row < STILL_ROWS || trial.plant.sensor.noise > 0.0 || !trial.scenario.events.iter().all(plain) {
            return None;
        }
        let deviations = self.as_it_is(trace, next);
        let largest = deviations.iter().fold(0.0, |largest: f64, value| largest.max(value.abs()));
        let still = |values: &[f64], within: f64| {
            let (low, high) = crate::numerics::range(values);
            high - low <= within
        };
        let (pv, op) = (trace.controlled(), trace.values(ColumnRole::Output));
        let rests = |end: usize| {
            let start = end.saturating_sub(STILL_ROWS);
            still(&pv[start..end], STILL * largest) && still(&op[start..end], STILL * 100.0)
        };
        let before = trace.values(ColumnRole::SetPoint)[self.row - 1];
        let at_set_point = (pv[self.row - 1] - before).abs() <= STILL * largest;
        let is_over = next + 1 == trace.len() || (next > self.row + STILL_ROWS && rests(next));
        (at_set_point && rests(self.row) && is_over).then_some(deviations)
    }

    /// The deviation that would not be there without the step, to the end; None where a trial does not run through.
    ///
    /// What comes later does not count: in a process that is not linear it would answer otherwise where the step has moved it,
    /// and that is no part of the step's own response.
    fn by_difference(&self, runs: &mut Runs, trace: &Trace) -> Result<Option<Vec<f64>>> {
        let events = &runs.trial.scenario.events;
        let at = events[self.event].at();
        let last = events.iter().all(|event| event.at() <= at);
        let with = if last { None } else { Some(runs.without(|_, event| event.at() > at)?) };
        let without = runs.without(|k, event| k == self.event || event.at() > at)?;
        let with = with.as_deref().unwrap_or(trace);
        let whole = |other: &Trace| other.stopped.is_none() && other.len() == trace.len();
        if !whole(with) || !whole(&without) {
            return Ok(None);
        }
        let (set_point, pv) = (with.values(ColumnRole::SetPoint), with.controlled());
        let (set_point_without, pv_without) = (without.values(ColumnRole::SetPoint), without.controlled());
        let effect = |k: usize| (pv[k] - pv_without[k]) - (set_point[k] - set_point_without[k]);
        Ok(Some((self.row..trace.len()).map(effect).collect()))
    }
}
