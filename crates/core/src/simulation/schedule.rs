//! A scenario made ready for the engine: signals over time, and what is switched at which scan.

use super::plant::{Plant, Started};
use super::scenario::{Event, Scenario, in_order};
use super::signals::Driven;
use super::timeline::{Changes, Timeline};
use super::wiring::Wiring;
use crate::controller::predictive::Side;
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
    /// Of each controller.
    pub controllers: Vec<AtController>,
    /// Of each OP.
    pub drives: Vec<AtDrive>,
    /// Of each measured signal, when its sensor fails and how.
    pub sensors: Vec<Vec<(Scans, Failure)>>,
    /// The same of each input that is measured.
    pub disturbance_sensors: Vec<Vec<(Scans, Failure)>>,
    /// Of each input, in its unit; of a driven one in addition to what drives it.
    pub inputs: Vec<Timeline>,
    /// Of the parameters that change: position and values.
    pub parameters: Vec<(usize, Timeline)>,
    /// Limits of CVs that are moved, by rising time.
    pub limits: Vec<LimitMove>,
}

/// A limit of a CV that is moved.
pub(super) struct LimitMove {
    pub cv: String,
    pub side: Side,
    pub rank: u32,
    /// When, over how long, and to where.
    pub course: (f64, f64, f64),
    /// Where it stands in the document.
    pub field: String,
}

/// What a scenario does at a controller.
pub(super) struct AtController {
    /// In PV units.
    pub set_point: Timeline,
    /// By rising scan.
    pub switches: Vec<(usize, Switch)>,
}

/// What a scenario does where an OP acts.
#[derive(Default)]
pub(super) struct AtDrive {
    /// In %.
    pub load: Timeline,
    pub sticking: Vec<Scans>,
    pub failing: Vec<Scans>,
}

/// What the events of one controller act on.
struct Place<'a> {
    events: &'a [Event],
    field: String,
    sensor: usize,
    drive: usize,
    /// Added to names of random walks, so that each has its own; nothing for the first controller.
    name: &'a str,
}

/// What is being gathered of a scenario.
struct Gathering<'a> {
    scenario: &'a Scenario,
    plant: &'a Plant,
    started: &'a Started,
    drives: Vec<Driven>,
    loads: Vec<Changes>,
    inputs: Vec<Changes>,
    parameters: Vec<(usize, Changes, f64)>,
    at_drives: Vec<AtDrive>,
    sensors: Vec<Vec<(Scans, Failure)>>,
    disturbance_sensors: Vec<Vec<(Scans, Failure)>>,
    limits: Vec<LimitMove>,
}

impl Schedule {
    /// `at_rest` are the measured signals before anything happens.
    pub fn new(
        scenario: &Scenario,
        (plant, started): (&Plant, &Started),
        wiring: &Wiring,
        at_rest: &[f64],
    ) -> Result<Self> {
        let drives: Vec<Driven> =
            std::iter::once(started.driven).chain(started.further_drives.iter().copied()).collect();
        let mut gathering = Gathering {
            loads: vec![Changes::default(); drives.len()],
            inputs: vec![Changes::default(); started.inputs.len()],
            parameters: Vec::new(),
            limits: Vec::new(),
            at_drives: drives.iter().map(|_| AtDrive::default()).collect(),
            sensors: vec![Vec::new(); at_rest.len()],
            disturbance_sensors: vec![Vec::new(); plant.measured_disturbances.len()],
            scenario,
            plant,
            started,
            drives,
        };
        let mut controllers = Vec::new();
        for (k, &sensor) in wiring.measures.iter().enumerate() {
            let (field, events) = scenario.events_of(k, wiring).unwrap_or_default();
            let drive = wiring.op_of(k).unwrap_or(0);
            let name = if k == 0 { "" } else { wiring.names[k].as_str() };
            controllers.push(gathering.controller(&Place { events, field, sensor, drive, name }, at_rest[sensor])?);
        }
        let Gathering {
            loads,
            inputs,
            parameters,
            mut at_drives,
            sensors,
            disturbance_sensors,
            drives,
            mut limits,
            ..
        } = gathering;
        limits.sort_by(|a, b| a.course.0.total_cmp(&b.course.0));
        for (drive, load) in at_drives.iter_mut().zip(loads) {
            drive.load = load.timeline(0.0);
        }
        // What an OP drives is moved from where the OP puts it.
        let rest = |k: usize| if drives.iter().any(|drive| drive.input == k) { 0.0 } else { started.inputs[k] };
        Ok(Self {
            controllers,
            drives: at_drives,
            sensors,
            disturbance_sensors,
            inputs: inputs.into_iter().enumerate().map(|(k, changes)| changes.timeline(rest(k))).collect(),
            parameters: parameters.into_iter().map(|(k, changes, start)| (k, changes.timeline(start))).collect(),
            limits,
        })
    }
}

impl Gathering<'_> {
    /// What happens at a controller whose set point is `start` at first; what happens to the process goes into the rest.
    fn controller(&mut self, place: &Place, start: f64) -> Result<AtController> {
        let scan = self.scenario.scan;
        let first_scan_at = |time: f64| (time / scan - 1e-9).ceil().max(0.0) as usize;
        let scans = |at: f64, lasts: f64| first_scan_at(at)..first_scan_at(at + lasts);
        let (mut set_point, mut switches) = (Changes::default(), Vec::new());
        for index in in_order(place.events) {
            let event = &place.events[index];
            let field = format!("{}[{index}]", place.field);
            if let Some(named) = event.load_input() {
                self.load(event, named, place, index, &field)?;
                continue;
            }
            match event {
                Event::SetPointStep { at, by } => set_point.step(*at, *by),
                Event::SetPointRamp { at, by, over } => set_point.ramp(*at, *by, *over),
                Event::SetPointProfile { at, points } => {
                    let from = start + set_point.before(*at + 1e-9 * scan);
                    set_point.path(*at, from, points.iter().map(|[after, value]| (at + after, *value)));
                }
                Event::ParameterChange { at, parameter, to, over } => {
                    self.parameter(*at, parameter, *to, *over, &field)?
                }
                Event::LimitMoves { at, cv, side, rank, to, over } => {
                    let course = (*at, *over, *to);
                    self.limits.push(LimitMove { cv: cv.clone(), side: *side, rank: *rank, course, field });
                }
                Event::OutputStep { at, by } => switches.push((first_scan_at(*at), Switch::Output(*by))),
                Event::ToManual { at } => switches.push((first_scan_at(*at), Switch::Manual)),
                Event::ToAutomatic { at } => switches.push((first_scan_at(*at), Switch::Automatic)),
                Event::ValveSticks { at, lasts } => self.at_drives[place.drive].sticking.push(scans(*at, *lasts)),
                Event::ValveFails { at, lasts } => self.at_drives[place.drive].failing.push(scans(*at, *lasts)),
                Event::SensorFails { at, lasts, how, signal } => {
                    let failing = self.sensor(signal.as_deref(), place, &field)?;
                    failing.push((scans(*at, *lasts), *how));
                }
                _ => {}
            }
        }
        Ok(AtController { set_point: set_point.timeline(start), switches })
    }

    fn load(&mut self, event: &Event, named: Option<&str>, place: &Place, index: usize, field: &str) -> Result<()> {
        let description = self.started.process.description();
        let (changes, rest, name, unit) = match named {
            None => (&mut self.loads[place.drive], 0.0, "load", "%"),
            Some(name) => {
                let input = Description::position(&description.inputs, name, &format!("{field}.input"))?;
                let is_driven = self.drives.iter().any(|drive| drive.input == input);
                let rest = if is_driven { 0.0 } else { self.started.inputs[input] };
                (&mut self.inputs[input], rest, name, description.inputs[input].unit.as_str())
            }
        };
        let converted = in_unit_of_input(event, unit, field)?;
        let walk = format!("{name} {index} {}", place.name);
        apply_load(converted.as_ref().unwrap_or(event), changes, rest, self.scenario, walk.trim_end());
        Ok(())
    }

    /// When the sensor of a signal fails, and how: of what the controller measures where none is named.
    fn sensor(&mut self, signal: Option<&str>, place: &Place, field: &str) -> Result<&mut Vec<(Scans, Failure)>> {
        let Some(name) = signal else { return Ok(&mut self.sensors[place.sensor]) };
        let measured = self.plant.measured_tags();
        if let Some(k) = measured.iter().position(|tag| *tag == name) {
            return Ok(&mut self.sensors[k]);
        }
        let disturbances = &self.plant.measured_disturbances;
        match disturbances.iter().position(|one| one.tag == name) {
            Some(k) => Ok(&mut self.disturbance_sensors[k]),
            None => {
                let known: Vec<&str> =
                    measured.into_iter().chain(disturbances.iter().map(|one| one.tag.as_str())).collect();
                Err(Error::invalid(format!("{field}.signal"), format!("“{name}”"), known.join(", ")))
            }
        }
    }

    fn parameter(&mut self, at: f64, parameter: &str, to: f64, over: f64, field: &str) -> Result<()> {
        let quantities = &self.started.process.description().parameters;
        if quantities.is_empty() {
            let allowed = "none: this process has no parameters that can change";
            return Err(Error::invalid(format!("{field}.parameter"), format!("“{parameter}”"), allowed));
        }
        let position = Description::position(quantities, parameter, &format!("{field}.parameter"))?;
        quantities[position].check(field, to)?;
        let parameters = &mut self.parameters;
        let known = parameters.iter().position(|entry| entry.0 == position).unwrap_or_else(|| {
            parameters.push((position, Changes::default(), self.started.process.parameters()[position]));
            parameters.len() - 1
        });
        let (_, changes, start) = &mut parameters[known];
        changes.lead((at, over), *start, to, 1e-9 * self.scenario.scan);
        Ok(())
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
