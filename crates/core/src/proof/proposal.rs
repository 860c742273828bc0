//! A proving set to begin with: what such a plant meets, with limits that a plain and robust controller keeps on it.

use super::criteria::{BAND, Seen};
use super::{Changes, Criterion, Disturbance, Figure, ProvingSet};
use crate::assessment::trial_margins;
use crate::controller::ControllerSpec;
use crate::instrument::{ActuatorSpec, Failure};
use crate::numerics::{in_parallel, rounded};
use crate::process::{Description, Quantity};
use crate::simulation::{Event, Plant, Scenario, Simulation, Trial, round_down};
use crate::tuning::{FirstTrial, SimcChoice, begin_as_paired, begin_on_plant};
use crate::verdict::{readable, readable_duration};
use crate::{Error, Result};
use std::collections::BTreeMap;
use std::f64::consts::PI;

/// Limits are what the reference does, times this: room for another way of doing it (this project's choice).
const ROOM: f64 = 1.5;
/// The same for the travel of the OP.
const ROOM_OF_TRAVEL: f64 = 2.0;
/// Where a loop hardly leaves that band it is to come back into this share of its largest deviation.
const BAND_OF_DEVIATION: f64 = 0.25;
/// Runs with other noise and walks from which a limit is taken, where there is any.
const RUNS: u64 = 8;
/// No limit of a deviation is below this share of the span: nobody would see it.
const LEAST: f64 = 0.001;
/// Lost motion and stiction of a valve that has seen some years, % of its stroke (common practice).
const WORN: [f64; 2] = [1.0, 0.5];
/// Inputs of the process that get an item of their own, at most.
const MOST_INPUTS: usize = 4;

/// What the set is built on.
pub(super) struct Ground<'a> {
    trial: &'a Trial,
    description: Description,
    /// The candidate that limits are taken from, and what it is.
    reference: Trial,
    settings: String,
    /// The scan on which it runs, s: that of the trial, its own where one of them plans ahead.
    scan: f64,
    /// When things begin, and how long a loop on this plant takes to settle, s.
    pub lead: f64,
    pub settles: f64,
    /// Sizes of a load in % of OP and of a move of the set point in PV units.
    load: f64,
    step: f64,
    /// Names of further controllers with a loop and a set point of their own.
    further: Vec<String>,
}

/// A proving set for the plant of a trial.
///
/// What comes: loads where the OP acts (steps both ways, a ramp, a pulse, sines, a walk) and at each input of the process, moves of the
/// set points, a worn valve, a noisy and a stuck transmitter, and the parameter whose drift upsets the loop most. Limits are what SIMC
/// settings reach on the plant (of several loops what they reach together) and half as much again; where no such settings are found
/// those of the trial take their place. Errors in manual.
pub fn propose_set(trial: &Trial) -> Result<ProvingSet> {
    trial.validate()?;
    let ground = Ground::of(trial)?;
    let limited = in_parallel(&ground.all(), |one| {
        let mut own = one.clone();
        ground.limit(&mut own).map(|()| own)
    });
    let (mut disturbances, mut refused) = (Vec::new(), None);
    for one in limited {
        match one {
            Ok(one) => disturbances.push(one),
            Err(error) => refused = refused.or(Some(error)),
        }
    }
    if disturbances.is_empty() {
        let nothing = Error::unfit("nothing that could be tried runs on this plant", "make disturbances by hand");
        return Err(refused.unwrap_or(nothing));
    }
    let note = format!(
        "Limits are {ROOM} times what {} reach on this plant, of what the OP does {ROOM_OF_TRAVEL} times: put in what the plant bears.",
        ground.settings
    );
    Ok(ProvingSet { name: format!("{}, as proposed", trial.plant.loop_tag()), note, disturbances })
}

/// Whether its controller plans ahead by its scans, so that it runs on these and no others.
fn plans_ahead(trial: &Trial) -> bool {
    let mut all = trial.candidate.further.iter().map(|wired| &wired.controller);
    trial.candidate.controller.predictive().is_some() || all.any(|controller| controller.predictive().is_some())
}

impl<'a> Ground<'a> {
    pub fn of(trial: &'a Trial) -> Result<Self> {
        let plant = &trial.plant;
        let choice = SimcChoice::default();
        let fits = |begun: &FirstTrial| {
            // Settings for another pairing do not run on this plant, and those for fewer loops say nothing of the others.
            let (begun, own) = (&begun.trial.plant, &begun.trial.candidate);
            let loops = own.further.len() >= trial.candidate.further.len() || trial.stands_alone();
            (&begun.pv, &begun.op, &begun.further_driven) == (&plant.pv, &plant.op, &plant.further_driven) && loops
        };
        let begun = begin_on_plant(plant, &choice).ok().filter(fits);
        let begun = begun.or_else(|| begin_as_paired(plant, &choice).ok().filter(fits));
        let (reference, settings) = match begun {
            Some(begun) => (begun.trial, format!("settings by {}", begun.settings)),
            None if trial.candidate.controller == ControllerSpec::Manual => {
                let remedy = "choose a controller first: limits come from what it reaches";
                return Err(Error::unfit("no settings are proposed for this plant", remedy));
            }
            None => (trial.clone(), "these settings".to_owned()),
        };
        let of = &reference.scenario;
        let lead = of.events.iter().map(Event::at).min_by(f64::total_cmp).unwrap_or(0.1 * of.duration);
        let lead = lead.clamp(0.02 * of.duration, 0.3 * of.duration);
        let started = plant.start()?;
        let room = started.op.min(100.0 - started.op).max(2.0);
        let names = trial.candidate.further.iter().map(|wired| wired.name.clone());
        // Which controllers have a loop of their own shows in the columns: a scan of it is enough.
        let mut brief = trial.clone();
        let own = trial.scenario.scan;
        brief.scenario =
            Scenario { duration: own, scan: own, events: Vec::new(), further: BTreeMap::new(), ..of.clone() };
        let trace = brief.run()?;
        let with_loop = |name: &String| trial.trace_seen_from(name, &trace).is_ok_and(|seen| seen.is_some());
        Ok(Self {
            description: plant.describe()?,
            lead: rounded(lead, 2),
            settles: rounded(0.5 * (of.duration - lead), 2),
            load: round_down((0.5 * room).min(10.0)),
            step: round_down(0.04 * plant.pv.span.width()),
            further: names.filter(with_loop).collect(),
            scan: if [trial, &reference].into_iter().any(plans_ahead) { of.scan } else { own },
            reference,
            settings,
            trial,
        })
    }

    fn plant(&self) -> &Plant {
        &self.trial.plant
    }

    /// Everything that is to come, its figures without limits yet.
    fn all(&self) -> Vec<Disturbance> {
        let (at, load, settles) = (self.lead, self.load, self.settles);
        let (once, twice) = (at + settles, at + 2.0 * settles);
        let percent = readable(load);
        let mut all = vec![
            self.item(format!("load +{percent} %, step"), "what enters where the OP acts: supply, heat, feed", once)
                .with(Event::LoadStep { at, by: load, input: None }),
            self.item(format!("load −{percent} %, step"), "the other way", once).with(Event::LoadStep {
                at,
                by: -load,
                input: None,
            }),
            self.item(format!("load +{percent} %, ramp"), "what drifts away while nobody looks", twice)
                .with(Event::LoadRamp { at, by: load, over: settles, input: None }),
            self.item(
                format!("load +{percent} %, pulse"),
                "what comes and is gone again: a wash, a blown filter",
                once,
            )
            .with(Event::LoadPulse { at, by: load, lasts: rounded(0.1 * settles, 1), input: None }),
            self.item(
                format!("load ±{} %, slow sine", readable(0.5 * load)),
                "what swings with the plant before: slow enough to be kept out",
                at + 3.0 * settles,
            )
            .with(Event::LoadSine { at, by: 0.5 * load, period: settles, lasts: None, input: None }),
        ];
        if let Some(period) = self.worst_period() {
            all.push(
                self.item(
                    format!("load ±{} %, sine of {}", readable(0.5 * load), readable_duration(period)),
                    "where feedback makes it worse: at the peak of the sensitivity",
                    at + settles.max(6.0 * period),
                )
                .with(Event::LoadSine { at, by: 0.5 * load, period, lasts: None, input: None }),
            );
        }
        // Half a load's size after the time in which the loop settles.
        let walk = rounded(0.5 * load * (3600.0 / settles).sqrt(), 2);
        let mut walks = self
            .item("load, random walk".to_owned(), "what nobody can say beforehand", at + 4.0 * settles)
            .with(Event::LoadWalk { at, by: walk, lasts: None, input: None });
        walks.criteria =
            vec![Criterion::shown(Figure::IntegralAbsoluteError {}), Criterion::shown(Figure::OutputTravel {})];
        all.push(walks);
        for one in &mut all {
            // What swings on and on is never over.
            if one.events.iter().any(|event| matches!(event, Event::LoadSine { .. })) {
                one.criteria.retain(|criterion| !matches!(criterion.figure, Figure::RecoveryTime { .. }));
            }
        }
        all.extend(self.inputs());
        all.extend(self.set_points());
        all.extend(self.instruments());
        all.extend(self.drift());
        all
    }

    /// Something to come with the usual figures, and how far it throws the other loops.
    pub fn item(&self, name: String, reason: &str, duration: f64) -> Disturbance {
        let of = |name: &String| Criterion { of: Some(name.clone()), ..Criterion::shown(Figure::LargestDeviation {}) };
        Disturbance {
            name,
            reason: reason.to_owned(),
            duration: duration.max(4.0 * self.trial.scenario.scan),
            events: Vec::new(),
            further: BTreeMap::new(),
            changes: Changes::default(),
            criteria: usual_criteria(self.plant()).into_iter().chain(self.further.iter().map(of)).collect(),
        }
    }

    /// The period at which the reference makes a load worse than it was; None where that cannot be told.
    fn worst_period(&self) -> Option<f64> {
        let margins = trial_margins(&self.reference).ok().flatten()?;
        let peak = margins.max_sensitivity_frequency.filter(|_| margins.stable)?;
        let period = rounded(2.0 * PI / peak, 2);
        (period > 8.0 * self.trial.scenario.scan && period < 0.8 * self.settles).then_some(period)
    }

    /// A step of each input that no OP drives.
    fn inputs(&self) -> Vec<Disturbance> {
        let Ok(started) = self.plant().start() else { return Vec::new() };
        let driven: Vec<usize> = started.driven_inputs(self.plant()).into_iter().map(|driven| driven.0).collect();
        let free = self.description.inputs.iter().enumerate().filter(|(k, _)| !driven.contains(k));
        let item = |(k, input): (usize, &Quantity)| {
            let value = started.inputs[k];
            let by = rounded(0.1 * value.abs(), 1);
            if by == 0.0 {
                return None;
            }
            let by = if value + by <= input.high { by } else { -by };
            let sign = if by > 0.0 { "+" } else { "−" };
            let of = input.name.replace('_', " ");
            let name = format!("{of} {sign}{} {}, step", readable(by.abs()), input.unit);
            let event = Event::LoadStep { at: self.lead, by, input: Some(input.name.clone()) };
            Some(self.item(name.replace(" ,", ","), "a tenth of what it is", self.lead + self.settles).with(event))
        };
        free.filter_map(item).take(MOST_INPUTS).collect()
    }

    /// Moves of the set points, both ways of the first one.
    fn set_points(&self) -> Vec<Disturbance> {
        let (at, unit) = (self.lead, &self.plant().pv.span.unit);
        let duration = at + self.settles;
        let mut all = Vec::new();
        for (sign, by) in [("+", self.step), ("−", -self.step)] {
            let name = format!("set point {sign}{} {unit}", readable(self.step));
            let mut one =
                self.item(name, "each change of grade or rate", duration).with(Event::SetPointStep { at, by });
            one.criteria[0].figure = Figure::Overshoot {};
            all.push(one);
        }
        for name in &self.further {
            let tag = format!("{name}.PV");
            let signal = self.plant().further_measured.iter().find(|signal| signal.tag == tag);
            let Some(signal) = signal else { continue };
            let by = round_down(0.04 * signal.span.width());
            let text = format!("{name} set point +{} {}", readable(by), signal.span.unit);
            let mut one = self.item(text, "each change of grade or rate", duration);
            one.further.insert(name.clone(), vec![Event::SetPointStep { at, by }]);
            let band = BAND * signal.span.width();
            let of = |figure| Criterion { of: Some(name.clone()), ..Criterion::shown(figure) };
            let own = Criterion::shown(Figure::LargestDeviation {});
            one.criteria = vec![of(Figure::Overshoot {}), of(Figure::RecoveryTime { band }), own];
            all.push(one);
        }
        all
    }

    /// Faults of valve and sensor.
    fn instruments(&self) -> Vec<Disturbance> {
        let (plant, at, load) = (self.plant(), self.lead, self.load);
        let width = plant.pv.span.width();
        let mut all = Vec::new();
        if !matches!(plant.actuator, ActuatorSpec::PowerStage(_)) {
            let name = format!("valve with {} % lost motion, sticking {} %", readable(WORN[0]), readable(WORN[1]));
            let mut one = self
                .item(name, "as it comes with the years", at + 2.0 * self.settles)
                .with(Event::LoadStep { at, by: load, input: None });
            one.changes = Changes { dead_band: Some(WORN[0]), stick: Some(WORN[1]), ..Changes::default() };
            // A swing within the band of the valve is no fault of the settings: how long it takes is not asked.
            one.criteria.retain(|criterion| !matches!(criterion.figure, Figure::RecoveryTime { .. }));
            all.push(one);
        }
        let noise = if plant.sensor.noise > 0.0 { plant.sensor.noise } else { rounded(0.001 * width, 1) };
        let mut at_rest = self.item(
            format!("noise of {} {}, at rest", readable(noise), plant.pv.span.unit),
            "what wears the valve out",
            2.0 * self.settles,
        );
        at_rest.changes.noise = Some(noise);
        at_rest.criteria =
            vec![Criterion::shown(Figure::OutputTravel {}), Criterion::shown(Figure::OutputReversals {})];
        all.push(at_rest);
        let lasts = rounded(0.1 * self.settles, 1);
        all.push(
            self.item(
                format!("transmitter stuck for {}, load +{} %", readable_duration(lasts), readable(load)),
                "a line that freezes, a card that hangs",
                at + 2.0 * self.settles,
            )
            .with(Event::LoadStep { at, by: load, input: None })
            .with(Event::SensorFails { at, lasts, how: Failure::Stuck, signal: None }),
        );
        all
    }

    /// The parameter whose drift by a tenth upsets the loop most.
    fn drift(&self) -> Option<Disturbance> {
        let (at, over) = (self.lead, self.settles);
        let upset = |own: &Quantity| {
            let value = self.parameter(own);
            let to = rounded(0.9 * value, 3);
            let event = Event::ParameterChange { at, parameter: own.name.clone(), to, over };
            let name = format!("{} falls by a tenth over {}", own.name.replace('_', " "), readable_duration(over));
            let reason = "of all parameters the one whose drift upsets the loop most";
            let one = self.item(name, reason, at + 2.0 * over).with(event);
            let largest = self.measured(&one, 0).ok()?.first().copied().flatten()?;
            (value != 0.0 && largest > 0.0).then_some((one, largest))
        };
        let all = self.description.parameters.iter().filter_map(upset);
        all.max_by(|a, b| a.1.total_cmp(&b.1)).map(|best| best.0)
    }

    fn parameter(&self, own: &Quantity) -> f64 {
        let document = serde_json::to_value(&self.plant().process).unwrap_or_default();
        let stated = document.pointer(&format!("/parameters/{}", own.name)).and_then(serde_json::Value::as_f64);
        stated.unwrap_or(own.value)
    }

    /// What the reference makes of a disturbance. Errors where it cannot happen to this plant.
    fn measured(&self, one: &Disturbance, seed: u64) -> Result<Vec<Option<f64>>> {
        let trial = Trial {
            plant: one.changes.applied(self.plant())?,
            scenario: Scenario {
                duration: one.duration,
                scan: self.scan,
                seed,
                events: one.events.clone(),
                further: one.further.clone(),
            },
            ..self.reference.clone()
        };
        let trace = Simulation::new(&trial)?.run();
        let begins = one.begins();
        let each = one.criteria.iter().map(|criterion| match criterion.of.as_deref() {
            None => criterion.measure(&Seen { trace: &trace, begins }),
            Some(of) => {
                let seen = trial.trace_seen_from(of, &trace).ok().flatten()?;
                criterion.measure(&Seen { trace: &seen, begins })
            }
        });
        Ok(each.collect())
    }

    /// The worst of each figure over several runs where something is drawn at random, else that of the only one.
    fn worst(&self, one: &Disturbance) -> Result<Vec<Option<f64>>> {
        let walks = one.events.iter().any(|event| matches!(event, Event::LoadWalk { .. }));
        let noisy = one.changes.noise.unwrap_or(self.plant().sensor.noise) > 0.0;
        let runs = if walks || noisy { RUNS } else { 1 };
        let all: Vec<Vec<Option<f64>>> = (0..runs).map(|seed| self.measured(one, seed)).collect::<Result<_>>()?;
        let most = |k: usize| all.iter().try_fold(0.0, |most: f64, values| Some(most.max(values[k]?)));
        Ok((0..one.criteria.len()).map(most).collect())
    }

    /// Narrows the band of a disturbance that hardly leaves it; the figures as they are then.
    fn narrowed(&self, one: &mut Disturbance, values: Vec<Option<f64>>) -> Result<Vec<Option<f64>>> {
        let largest = one.criteria.iter().position(|own| own.of.is_none() && own.figure == Figure::LargestDeviation {});
        let largest = largest.and_then(|k| values[k]).unwrap_or(0.0);
        let least = LEAST * self.plant().pv.span.width();
        let mut narrower = false;
        for (criterion, value) in one.criteria.iter_mut().zip(&values) {
            if let (Figure::RecoveryTime { band }, Some(0.0), None) = (&mut criterion.figure, value, &criterion.of)
                && largest > 2.0 * least
            {
                *band = round_down((BAND_OF_DEVIATION * largest).max(least));
                narrower = true;
            }
        }
        if narrower { self.worst(one) } else { Ok(values) }
    }

    /// Gives a disturbance its limits. Errors where it cannot happen to this plant.
    pub fn limit(&self, one: &mut Disturbance) -> Result<()> {
        let values = self.worst(one)?;
        let values = self.narrowed(one, values)?;
        let least = LEAST * self.plant().pv.span.width();
        let moves = one.events.iter().chain(one.further.values().flatten()).filter_map(|event| match event {
            Event::SetPointStep { by, .. } => Some(by.abs()),
            _ => None,
        });
        let step = moves.fold(0.0, f64::max);
        let left = one.duration - one.begins();
        for (criterion, value) in one.criteria.iter_mut().zip(values) {
            let room = match criterion.figure {
                Figure::OutputTravel {} | Figure::OutputReversals {} => ROOM_OF_TRAVEL,
                _ => ROOM,
            };
            let floor = match criterion.figure {
                // An overshoot that is none leaves a tenth of the step.
                Figure::Overshoot {} => 0.1 * step,
                Figure::LargestDeviation {} => least,
                _ => 0.0,
            };
            let most = value.map(|value| up((room * value).max(floor))).filter(|most| *most > 0.0);
            // Later than the end nobody looks.
            let is_time = matches!(criterion.figure, Figure::RecoveryTime { .. });
            criterion.most = most.map(|most| if is_time { most.min(left) } else { most });
        }
        Ok(())
    }
}

impl Disturbance {
    /// The scenario of a trial as a disturbance, with the usual figures and no limits.
    #[must_use]
    pub fn of_trial(trial: &Trial, name: impl Into<String>, reason: impl Into<String>) -> Self {
        Self {
            name: name.into(),
            reason: reason.into(),
            duration: trial.scenario.duration,
            events: trial.scenario.events.clone(),
            further: trial.scenario.further.clone(),
            changes: Changes::default(),
            criteria: usual_criteria(&trial.plant),
        }
    }

    pub(super) fn with(mut self, event: Event) -> Self {
        self.events.push(event);
        self
    }
}

/// How far, how long, at what price.
fn usual_criteria(plant: &Plant) -> Vec<Criterion> {
    let band = BAND * plant.pv.span.width();
    let figures = [Figure::LargestDeviation {}, Figure::RecoveryTime { band }, Figure::OutputTravel {}];
    figures.into_iter().map(Criterion::shown).collect()
}

/// The next number of two digits at or above a value.
fn up(value: f64) -> f64 {
    if value <= 0.0 || !value.is_finite() {
        return value;
    }
    let unit = 10f64.powf(value.log10().floor() - 1.0);
    rounded((value / unit - 1e-9).ceil() * unit, 3)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_are_round_and_never_below() {
        assert_eq!([0.0, 1.0, 1.01, 0.0721, 1349.0].map(up), [0.0, 1.0, 1.1, 0.073, 1400.0]);
    }
}
