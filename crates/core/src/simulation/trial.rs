//! A trial as plain data: what is simulated, controlled how, under which scenario.

use super::plant::Plant;
use super::scenario::{Event, Scenario};
use super::wiring::{Wire, Wired, Wiring};
use crate::controller::{ControllerSpec, OutputLimits, PredictiveSettings};
use crate::series::hex;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

/// The version of the trial document that this code reads and writes.
pub const TRIAL_VERSION: u32 = 1;

/// The version of the engine: raised whenever the same trial gives another trace or other figures than before.
pub const ENGINE_VERSION: u32 = 4;

/// Longest dead time, in scans.
const MOST_DELAY_SCANS: f64 = 1e5;

/// Plant + candidate + scenario. The same trial gives the same trace, bit for bit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Trial {
    /// Version of this document: 1.
    pub version: u32,
    /// What is controlled.
    pub plant: Plant,
    /// What controls it.
    pub candidate: Candidate,
    /// What happens.
    pub scenario: Scenario,
}

/// What controls a plant: one controller with its settings, or several wired by tags.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Candidate {
    /// The controller.
    pub controller: ControllerSpec,
    /// A set point that follows a signal in proportion; null for one of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<Ratio>,
    /// Whether the set point follows the PV in manual, so that the loop is at rest when it goes to automatic.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub set_point_tracking: bool,
    /// Where its output goes; none for the OP of the plant.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sets: Vec<Wire>,
    /// The controllers beside it: of further loops, below it in a cascade, or overriding it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further: Vec<Wired>,
}

impl Candidate {
    /// The limits within which an OP is moved by a controller: its own, or, of a seat, those of the MV of the predictive controller.
    #[must_use]
    pub fn output_limits(&self, controller: &ControllerSpec, op: &str) -> OutputLimits {
        let mv = self
            .predictive()
            .and_then(|settings| settings.mvs.iter().find(|mv| mv.tag == op))
            .filter(|_| controller.is_seat());
        mv.map_or_else(|| controller.output_limits(), |mv| OutputLimits { low: mv.low, high: mv.high })
    }

    /// The settings of the predictive controller in it, where there is one.
    #[must_use]
    pub fn predictive(&self) -> Option<&PredictiveSettings> {
        let all = std::iter::once(&self.controller).chain(self.further.iter().map(|wired| &wired.controller));
        all.filter_map(ControllerSpec::predictive).next()
    }

    /// A controller with a set point of its own.
    #[must_use]
    pub fn new(controller: ControllerSpec) -> Self {
        Self { controller, ratio: None, set_point_tracking: false, sets: Vec::new(), further: Vec::new() }
    }
}

/// Ratio control: the set point is `ratio` times a signal, plus what the scenario moves it by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Ratio {
    /// An input or output of the process by name, or `load`.
    pub signal: String,
    /// PV units per unit of the signal.
    pub ratio: f64,
}

impl Trial {
    /// Refuses a trial that cannot be run, naming the field, its value and what is allowed.
    pub fn validate(&self) -> Result<()> {
        if self.version != TRIAL_VERSION {
            return Err(Error::invalid("version", self.version, TRIAL_VERSION.to_string()));
        }
        self.plant.validate(self.scenario.scan)?;
        self.candidate.controller.validate()?;
        if let Some(ratio) = &self.candidate.ratio {
            crate::check::finite("candidate.ratio.ratio", ratio.ratio)?;
        }
        let wiring = Wiring::new(&self.plant, &self.candidate)?;
        self.scenario.validate(&wiring, &self.candidate)?;
        let of_process = ("process.dead_time".to_owned(), self.plant.process.dead_time(&self.plant.pv.span.unit)?);
        let sensors = self.plant.sensors().chain(self.plant.disturbance_sensors());
        let of_sensors = sensors.map(|(field, sensor)| (format!("{field}.dead_time"), sensor.dead_time));
        for (field, dead_time) in std::iter::once(of_process).chain(of_sensors) {
            let delay = dead_time / self.scenario.scan;
            if delay > MOST_DELAY_SCANS {
                return Err(Error::invalid(
                    field,
                    format!("{dead_time} s, {delay:.0} scans"),
                    format!("at most {MOST_DELAY_SCANS} scans"),
                ));
            }
        }
        Ok(())
    }

    /// Whether the first controller sets the OP of the plant by itself, so that it can be looked at as if all others stood still: not
    /// in a cascade, an override or a split range.
    #[must_use]
    pub fn stands_alone(&self) -> bool {
        let Candidate { sets, further, .. } = &self.candidate;
        let own = &self.plant.op.tag;
        let plainly = match &sets[..] {
            [] => true,
            [one] => one.to == *own && one.range.is_none() && one.select.is_none(),
            _ => false,
        };
        plainly && further.iter().flat_map(|wired| &wired.sets).all(|wire| wire.to != *own)
    }

    /// Refuses a trial to which the question after a single loop cannot be put.
    pub fn check_stands_alone(&self) -> Result<()> {
        if self.stands_alone() {
            return Ok(());
        }
        Err(Error::unfit(
            format!(
                "{} sets no OP by itself here: it is a cascade, an override or a split range, and works by all its controllers together",
                self.plant.loop_tag()
            ),
            "look at the margins of each with the others closed, or at a trial with one controller",
        ))
    }

    /// The same trial with another candidate; what happened at controllers that are no more leaves.
    #[must_use]
    pub fn with_candidate(&self, candidate: Candidate) -> Self {
        let mut other = self.clone();
        other.scenario.further.retain(|name, _| candidate.further.iter().any(|wired| wired.name == *name));
        other.candidate = candidate;
        other
    }

    /// The same trial with the output standing still: the controller in manual, and nothing that an operator does.
    #[must_use]
    pub fn in_open_loop(&self) -> Self {
        let mut open = self.clone();
        open.candidate.controller = ControllerSpec::Manual;
        open.candidate.ratio = None;
        open.candidate.set_point_tracking = false;
        // A controller that another one sets the set point of stands still, too, and so does one that could override.
        for wired in &mut open.candidate.further {
            wired.controller = ControllerSpec::Manual;
        }
        open.scenario.events.retain(|event| !event.is_of_operator());
        for events in open.scenario.further.values_mut() {
            events.retain(|event| !event.is_of_operator());
        }
        open
    }

    /// The same settings and scenario on another plant. What acts on inputs or parameters that the other plant does not
    /// have leaves the scenario, and is returned.
    pub fn on_plant(&self, plant: Plant) -> Result<(Self, Vec<Event>)> {
        let known = plant.process.describe(&plant.pv.span.unit)?;
        let mut moved = self.clone();
        let (stays, leaves): (Vec<Event>, Vec<Event>) =
            self.scenario.events.iter().cloned().partition(|event| match event {
                Event::ParameterChange { parameter, .. } => known.parameters.iter().any(|own| own.name == *parameter),
                Event::SensorFails { signal: Some(tag), .. } => {
                    let disturbances = plant.measured_disturbances.iter().map(|one| one.tag.as_str());
                    plant.measured_tags().into_iter().chain(disturbances).any(|own| own == tag)
                }
                _ => event.load_input().flatten().is_none_or(|input| known.inputs.iter().any(|own| own.name == input)),
            });
        moved.plant = plant;
        moved.scenario.events = stays;
        let mut leaves = leaves;
        // Controllers of signals that the other plant does not have leave with all that is done to them.
        if Wiring::new(&moved.plant, &moved.candidate).is_err() {
            moved.candidate.sets.clear();
            moved.candidate.further.clear();
            leaves.extend(std::mem::take(&mut moved.scenario.further).into_values().flatten());
        }
        Ok((moved, leaves))
    }

    /// SHA-256 of the trial as lower-case hexadecimal: two trials with one digest have one trace.
    #[must_use]
    pub fn digest(&self) -> String {
        // The order of the fields is that of the types, so that equal trials give equal text.
        let text = serde_json::to_vec(self).unwrap_or_default();
        hex(&Sha256::digest(text))
    }
}

/// A heater with the settings that are proposed for it, for tests.
/// A number of the trail as it is named: A, B … Z, AA.
#[must_use]
pub fn letter(number: i32) -> String {
    let (mut rest, mut text) = (number, String::new());
    while rest > 0 {
        rest -= 1;
        text.insert(0, char::from(b'A' + (rest % 26) as u8));
        rest /= 26;
    }
    text
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
pub(crate) fn heater() -> Trial {
    use crate::tuning::{SimcChoice, first_trial_on};
    let plant = Plant::usual(crate::process::ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
    first_trial_on(&plant, &SimcChoice::default()).unwrap().0
}
