//! A scenario made ready for the engine: signals over time, and what is switched at which scan.

use super::plant::Started;
use super::scenario::{Event, Scenario};
use super::timeline::{Changes, Timeline};
use crate::instrument::{Failure, Noise};
use crate::process::Description;
use crate::units::Unit;
use crate::{Error, Result};

/// Points that a sine is drawn through, a period.
const POINTS_PER_PERIOD: f64 = 64.0;

/// Scans from the first to before the second.
pub(super) type Scans = std::ops::Range<usize>;

/// Something that is switched or moved at a scan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Switch {
    Manual,
    Automatic,
    Output(f64),
}

/// Everything that a scenario does.
pub(super) struct Schedule {
    /// In PV units, at the controller.
    pub set_point: Timeline,
    /// In %, where the OP acts.
    pub load: Timeline,
    /// Of each input, in its unit; of the driven one in addition to what drives it.
    pub inputs: Vec<Timeline>,
    /// Of the parameters that change: position and values.
    pub parameters: Vec<(usize, Timeline)>,
    /// By rising scan.
    pub switches: Vec<(usize, Switch)>,
    pub sticking: Vec<Scans>,
    pub failing: Vec<Scans>,
    pub sensor_failing: Vec<(Scans, Failure)>,
}

impl Schedule {
    pub fn new(scenario: &Scenario, started: &Started) -> Result<Self> {
        let description = started.process.description();
        let scan = scenario.scan;
        let first_scan_at = |time: f64| (time / scan - 1e-9).ceil().max(0.0) as usize;
        let scans = |at: f64, lasts: f64| first_scan_at(at)..first_scan_at(at + lasts);
        let mut set_point = Changes::default();
        let mut load = Changes::default();
        let mut inputs = vec![Changes::default(); description.inputs.len()];
        let mut parameters: Vec<(usize, Changes, f64)> = Vec::new();
        let (mut switches, mut sticking, mut failing, mut sensor_failing) = (vec![], vec![], vec![], vec![]);
        for index in scenario.order() {
            let event = &scenario.events[index];
            let field = format!("scenario.events[{index}]");
            if let Some(named) = event.load_input() {
                let (changes, rest, name, unit) = match named {
                    None => (&mut load, 0.0, "load", "%"),
                    Some(name) => {
                        let input = Description::position(&description.inputs, name, &format!("{field}.input"))?;
                        // What the OP drives is moved from where the OP puts it.
                        let rest = if input == started.driven.input { 0.0 } else { started.inputs[input] };
                        (&mut inputs[input], rest, name, description.inputs[input].unit.as_str())
                    }
                };
                let converted = in_unit_of_input(event, unit, &field)?;
                let event = converted.as_ref().unwrap_or(event);
                apply_load(event, changes, rest, scenario, &format!("{name} {index}"));
                continue;
            }
            match event {
                Event::SetPointStep { at, by } => set_point.step(*at, *by),
                Event::SetPointRamp { at, by, over } => set_point.ramp(*at, *by, *over),
                Event::SetPointProfile { at, points } => {
                    let from = started.pv + set_point.before(*at + 1e-9 * scan);
                    set_point.path(*at, from, points.iter().map(|[after, value]| (at + after, *value)));
                }
                Event::ParameterChange { at, parameter, to, over } => {
                    let quantities = &description.parameters;
                    if quantities.is_empty() {
                        let allowed = "none: this process has no parameters that can change";
                        return Err(Error::invalid(format!("{field}.parameter"), format!("“{parameter}”"), allowed));
                    }
                    let position = Description::position(quantities, parameter, &format!("{field}.parameter"))?;
                    quantities[position].check(&field, *to)?;
                    let known = parameters.iter().position(|entry| entry.0 == position).unwrap_or_else(|| {
                        parameters.push((position, Changes::default(), started.process.parameters()[position]));
                        parameters.len() - 1
                    });
                    let (_, changes, start) = &mut parameters[known];
                    let before = *start + changes.before(at + 1e-9 * scan);
                    if *over > 0.0 {
                        changes.ramp(*at, to - before, *over);
                    } else {
                        changes.step(*at, to - before);
                    }
                }
                Event::OutputStep { at, by } => switches.push((first_scan_at(*at), Switch::Output(*by))),
                Event::ToManual { at } => switches.push((first_scan_at(*at), Switch::Manual)),
                Event::ToAutomatic { at } => switches.push((first_scan_at(*at), Switch::Automatic)),
                Event::ValveSticks { at, lasts } => sticking.push(scans(*at, *lasts)),
                Event::ValveFails { at, lasts } => failing.push(scans(*at, *lasts)),
                Event::SensorFails { at, lasts, how } => sensor_failing.push((scans(*at, *lasts), *how)),
                _ => {}
            }
        }
        let inputs = inputs
            .into_iter()
            .enumerate()
            .map(|(k, changes)| changes.timeline(if k == started.driven.input { 0.0 } else { started.inputs[k] }));
        Ok(Self {
            set_point: set_point.timeline(started.pv),
            load: load.timeline(0.0),
            inputs: inputs.collect(),
            parameters: parameters.into_iter().map(|(k, changes, start)| (k, changes.timeline(start))).collect(),
            switches,
            sticking,
            failing,
            sensor_failing,
        })
    }
}

/// A channel of a record in the unit of the input that it moves, where it comes in another one.
fn in_unit_of_input(event: &Event, input_unit: &str, field: &str) -> Result<Option<Event>> {
    let Event::LoadChannel { unit: Some(unit), .. } = event else { return Ok(None) };
    let Some((factor, offset)) = Unit::conversion(&format!("{field}.unit"), unit, input_unit)? else { return Ok(None) };
    let mut converted = event.clone();
    if let Event::LoadChannel { values, unit, .. } = &mut converted {
        values.iter_mut().for_each(|value| *value = factor * *value + offset);
        *unit = None;
    }
    Ok(Some(converted))
}

/// Adds a load to the changes of what it acts on; `rest` is the value there before, `name` that of its random walk.
fn apply_load(event: &Event, changes: &mut Changes, rest: f64, scenario: &Scenario, name: &str) {
    let end = |at: f64, lasts: Option<f64>| lasts.map_or(scenario.duration, |lasts| at + lasts).min(scenario.duration);
    match event {
        Event::LoadStep { at, by, .. } => changes.step(*at, *by),
        Event::LoadRamp { at, by, over, .. } => changes.ramp(*at, *by, *over),
        Event::LoadPulse { at, by, lasts, .. } => {
            changes.step(*at, *by);
            changes.step(at + lasts, -by);
        }
        Event::LoadSine { at, by, period, lasts, .. } => {
            let end = end(*at, *lasts);
            let interval = (period / POINTS_PER_PERIOD).min(scenario.scan.max(period / 1024.0));
            let count = ((end - at) / interval).ceil() as usize;
            let value = |time: f64| by * (std::f64::consts::TAU * (time - at) / period).sin();
            let points = (1..=count).map(|k| (at + k as f64 * interval).min(end)).map(|time| (time, value(time)));
            changes.path(*at, 0.0, points);
            if count > 0 && lasts.is_some() {
                changes.step(end, -value(end));
            }
        }
        Event::LoadWalk { at, by, lasts, .. } => {
            let mut noise = Noise::new(name, scenario.seed);
            let size = by * (scenario.scan / 3600.0).sqrt();
            let count = ((end(*at, *lasts) - at) / scenario.scan).floor() as usize;
            for k in 0..count {
                // It begins where it stands: the first step comes a scan later.
                changes.step(at + (k + 1) as f64 * scenario.scan, size * noise.normal());
            }
        }
        Event::LoadChannel { at, interval, values, .. } => {
            let first = values.first().copied().unwrap_or(rest);
            changes.step(*at, first - rest - changes.before(*at));
            let last = scenario.duration.max(*at);
            let points = values.iter().enumerate().skip(1).map(|(k, value)| (at + k as f64 * interval, *value));
            changes.path(*at, first, points.take_while(|point| point.0 <= last + interval));
        }
        _ => {}
    }
}
