//! A proving set: disturbances with acceptance limits, kept and used again.

use super::{Criterion, check_name};
use crate::instrument::{ActuatorSpec, ValveSpec};
use crate::simulation::{Event, Plant, Scenario};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Most disturbances of a set, and most criteria of one.
const MOST_DISTURBANCES: usize = 40;
const MOST_CRITERIA: usize = 12;

/// A named set of disturbances for a loop.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProvingSet {
    /// What it is called.
    pub name: String,
    /// Where its limits come from, and whatever else is to be known of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// What comes, 1 to 40, each with a name of its own.
    pub disturbances: Vec<Disturbance>,
}

/// Something that a loop must bear.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Disturbance {
    /// What it is called.
    pub name: String,
    /// Why it is here.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reason: String,
    /// How long it is looked at, s, above 0.
    #[schema(exclusive_minimum = 0)]
    pub duration: f64,
    /// What happens, in any order; none where only something of the plant is another.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub events: Vec<Event>,
    /// What happens at further controllers, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub further: BTreeMap<String, Vec<Event>>,
    /// What of the plant is another than usual.
    #[serde(default, skip_serializing_if = "Changes::is_empty")]
    pub changes: Changes,
    /// What is measured, and how much of it is borne; up to 12.
    pub criteria: Vec<Criterion>,
}

/// What of valve and sensor is another than the plant says. Null where it is as there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Changes {
    /// Standard deviation of the noise of the PV, in its unit; 0 or more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0)]
    pub noise: Option<f64>,
    /// What the sensor of the PV shows beyond the true value, in its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bias: Option<f64>,
    /// Change of that bias, in PV units per hour.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drift: Option<f64>,
    /// Lost motion of the valve when it turns, in % of the stroke, 0 to 50.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 50)]
    pub dead_band: Option<f64>,
    /// How far the drive must pull before the stem of the valve breaks loose, in % of the stroke, 0 to 50.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 50)]
    pub stick: Option<f64>,
}

impl Changes {
    /// Whether all is as the plant says.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The plant with these changes. Errors where it has no valve that could stick.
    pub fn applied(&self, plant: &Plant) -> Result<Plant> {
        let mut changed = plant.clone();
        let sensor = &mut changed.sensor;
        sensor.noise = self.noise.unwrap_or(sensor.noise);
        sensor.bias = self.bias.unwrap_or(sensor.bias);
        sensor.drift = self.drift.unwrap_or(sensor.drift);
        if self.dead_band.is_some() || self.stick.is_some() {
            let mut valve = match &changed.actuator {
                ActuatorSpec::Valve(valve) => valve.clone(),
                // What follows the output at once is a valve without faults.
                ActuatorSpec::Direct {} => ValveSpec::default(),
                ActuatorSpec::PowerStage(_) => {
                    let sentence = "The power stage of a heater neither sticks nor has lost motion.";
                    return Err(Error::said("changes.stick", sentence));
                }
            };
            valve.dead_band = self.dead_band.unwrap_or(valve.dead_band);
            valve.stick = self.stick.unwrap_or(valve.stick);
            valve.friction = valve.friction.min(valve.stick);
            changed.actuator = ActuatorSpec::Valve(valve);
        }
        Ok(changed)
    }

    fn validate(&self, field: &str) -> Result<()> {
        let name = |part: &str| format!("{field}.{part}");
        if let Some(noise) = self.noise {
            check::not_negative(&name("noise"), noise, "")?;
        }
        for (part, value) in [("bias", self.bias), ("drift", self.drift)] {
            value.map_or(Ok(0.0), |value| check::finite(&name(part), value))?;
        }
        for (part, value) in [("dead_band", self.dead_band), ("stick", self.stick)] {
            value.map_or(Ok(0.0), |value| check::within(&name(part), value, 0.0, 50.0, "%"))?;
        }
        Ok(())
    }
}

impl Disturbance {
    /// When it begins, s: at its first event; at the start where none happens.
    #[must_use]
    pub fn begins(&self) -> f64 {
        let all = self.events.iter().chain(self.further.values().flatten());
        all.map(Event::at).min_by(f64::total_cmp).unwrap_or(0.0).min(self.duration)
    }
}

impl ProvingSet {
    /// Refuses a set that cannot be, naming the field.
    pub fn validate(&self) -> Result<()> {
        check_name("set.name", &self.name)?;
        let count = self.disturbances.len();
        if !(1..=MOST_DISTURBANCES).contains(&count) {
            return Err(Error::invalid("set.disturbances", count, format!("1 to {MOST_DISTURBANCES}")));
        }
        for (k, one) in self.disturbances.iter().enumerate() {
            let field = format!("set.disturbances[{k}]");
            check_name(&format!("{field}.name"), &one.name)?;
            if self.disturbances[..k].iter().any(|other| other.name == one.name) {
                let allowed = "a name that no other disturbance of the set has";
                return Err(Error::invalid(format!("{field}.name"), format!("“{}”", one.name), allowed));
            }
            // As of any scenario, with the shortest scan that makes sense of it.
            let scenario = Scenario {
                duration: one.duration,
                scan: one.duration.min(1e9),
                seed: 0,
                events: one.events.clone(),
                further: one.further.clone(),
            };
            scenario.validate_alone().map_err(|error| error.within(&field, "scenario"))?;
            one.changes.validate(&format!("{field}.changes"))?;
            if one.criteria.len() > MOST_CRITERIA {
                let allowed = format!("at most {MOST_CRITERIA}");
                return Err(Error::invalid(format!("{field}.criteria"), one.criteria.len(), allowed));
            }
            for (c, criterion) in one.criteria.iter().enumerate() {
                criterion.validate(&format!("{field}.criteria[{c}]"))?;
            }
        }
        Ok(())
    }
}
