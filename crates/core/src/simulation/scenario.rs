//! What happens in a trial, and when.

use super::trial::Candidate;
use super::wiring::Wiring;
use crate::controller::ControllerSpec;
use crate::controller::predictive::Side;
use crate::instrument::Failure;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Longest run, in scans; longer ones are refused before anything is computed.
const MOST_SCANS: f64 = 2e6;
const MOST_EVENTS: usize = 20_000;
/// Most samples of a channel or points of a profile.
const MOST_SAMPLES: usize = 100_000;

/// The timeline of a trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Scenario {
    /// Length in s, above 0 and at most 2 million scans.
    #[schema(exclusive_minimum = 0)]
    pub duration: f64,
    /// Sample period of the controller in s, above 0.
    #[schema(exclusive_minimum = 0)]
    pub scan: f64,
    /// Seed of noise and random walks.
    #[serde(default)]
    pub seed: u64,
    /// What happens, in any order.
    pub events: Vec<Event>,
    /// What happens at further controllers, by their names: at their set points and modes, at the OPs that they set, at the
    /// sensors of what they measure.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub further: BTreeMap<String, Vec<Event>>,
}

/// Something that happens at a time.
///
/// A load acts on the input that is named, in its unit; where none is named it acts like a move of the OP by as much, in
/// %. Loads and parameters change at the very instant, not rounded to the scan; what is done at the controller, the
/// valve or the sensor happens at the first scan at or after it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Event {
    /// The set point moves.
    SetPointStep {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in PV units.
        by: f64,
    },
    /// The set point moves straight over a time.
    SetPointRamp {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in PV units.
        by: f64,
        /// How long it takes, s, above 0.
        #[schema(exclusive_minimum = 0)]
        over: f64,
    },
    /// The set point goes straight from point to point, beginning where it is.
    SetPointProfile {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Seconds after `at`, rising and above 0, and the set point there.
        points: Vec<[f64; 2]>,
    },
    /// A load comes and stays.
    LoadStep {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in % of OP or in the unit of the input.
        by: f64,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A load grows straight and stays.
    LoadRamp {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in % of OP or in the unit of the input.
        by: f64,
        /// How long it takes, s, above 0.
        #[schema(exclusive_minimum = 0)]
        over: f64,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A load comes and goes.
    LoadPulse {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in % of OP or in the unit of the input.
        by: f64,
        /// How long it stays, s, above 0.
        #[schema(exclusive_minimum = 0)]
        lasts: f64,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A load swings as a sine, drawn straight between 64 points a period or between scans, whichever are denser.
    LoadSine {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Amplitude, in % of OP or in the unit of the input.
        by: f64,
        /// Period in s, above 0.
        #[schema(exclusive_minimum = 0)]
        period: f64,
        /// How long it swings, s; null to the end.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(exclusive_minimum = 0)]
        lasts: Option<f64>,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A load walks at random, one step a scan.
    LoadWalk {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Standard deviation of where it is an hour later, in % of OP or in the unit of the input.
        by: f64,
        /// How long it walks, s; null to the end. It stays where it is then.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(exclusive_minimum = 0)]
        lasts: Option<f64>,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A load follows a channel of a record, straight between its samples; it stays where the channel ends.
    LoadChannel {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Tag of the channel, for the trail.
        tag: String,
        /// Seconds between the samples, above 0.
        #[schema(exclusive_minimum = 0)]
        interval: f64,
        /// The samples: values of the input itself, or in % of OP where none is named.
        values: Vec<f64>,
        /// Unit of the samples, which converts into that of the input; null where it is that of the input.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// Name of the input; null for the place where the OP acts.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        input: Option<String>,
    },
    /// A parameter of the process changes: fouling, insulation, a catalyst that ages.
    ParameterChange {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Name of the parameter.
        parameter: String,
        /// Its new value, in its unit.
        to: f64,
        /// How long it takes, s; 0 for a step.
        #[serde(default)]
        #[schema(minimum = 0)]
        over: f64,
    },
    /// The operator moves the output; the controller must be in manual.
    OutputStep {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Size, in %.
        by: f64,
    },
    /// The controller is switched to manual: its output stands where it is.
    ToManual {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
    },
    /// The controller is switched back to automatic, without a bump.
    ToAutomatic {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
    },
    /// A limit of a CV of the predictive controller is moved, by the operator or by a recipe. Where nothing is predictive nothing happens.
    LimitMoves {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// Tag of the CV.
        cv: String,
        /// On which side.
        side: Side,
        /// The rank of the limit: a CV has one of each rank on a side.
        #[schema(minimum = 1, maximum = 9)]
        rank: u32,
        /// Where it is then, in the unit of the CV.
        to: f64,
        /// How long it takes, s; 0 for a step.
        #[serde(default)]
        #[schema(minimum = 0)]
        over: f64,
    },
    /// The valve sticks where it is.
    ValveSticks {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// For how long, s, above 0.
        #[schema(exclusive_minimum = 0)]
        lasts: f64,
    },
    /// The supply of the actuator fails, and it goes to its fail position.
    ValveFails {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// For how long, s, above 0.
        #[schema(exclusive_minimum = 0)]
        lasts: f64,
    },
    /// The sensor fails.
    SensorFails {
        /// Time in s; what comes after the end does not happen.
        #[schema(minimum = 0)]
        at: f64,
        /// For how long, s, above 0.
        #[schema(exclusive_minimum = 0)]
        lasts: f64,
        /// What it shows.
        how: Failure,
        /// Tag of the signal, among those that are measured and the disturbances; null for what the controller measures.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        signal: Option<String>,
    },
}

impl Event {
    /// A set point step.
    #[must_use]
    pub fn set_point(at: f64, by: f64) -> Self {
        Self::SetPointStep { at, by }
    }

    /// A load step where the OP acts.
    #[must_use]
    pub fn load(at: f64, by: f64) -> Self {
        Self::LoadStep { at, by, input: None }
    }

    /// Whether it is done at the controller by hand.
    #[must_use]
    pub fn is_of_operator(&self) -> bool {
        matches!(self, Self::OutputStep { .. } | Self::ToManual { .. } | Self::ToAutomatic { .. })
    }

    /// Time of the event in s.
    #[must_use]
    pub fn at(&self) -> f64 {
        match self {
            Self::SetPointStep { at, .. }
            | Self::SetPointRamp { at, .. }
            | Self::SetPointProfile { at, .. }
            | Self::LoadStep { at, .. }
            | Self::LoadRamp { at, .. }
            | Self::LoadPulse { at, .. }
            | Self::LoadSine { at, .. }
            | Self::LoadWalk { at, .. }
            | Self::LoadChannel { at, .. }
            | Self::ParameterChange { at, .. }
            | Self::OutputStep { at, .. }
            | Self::ToManual { at }
            | Self::ToAutomatic { at }
            | Self::LimitMoves { at, .. }
            | Self::ValveSticks { at, .. }
            | Self::ValveFails { at, .. }
            | Self::SensorFails { at, .. } => *at,
        }
    }

    /// The input on which a load acts; the outer None where it is no load.
    #[must_use]
    pub fn load_input(&self) -> Option<Option<&str>> {
        match self {
            Self::LoadStep { input, .. }
            | Self::LoadRamp { input, .. }
            | Self::LoadPulse { input, .. }
            | Self::LoadSine { input, .. }
            | Self::LoadWalk { input, .. }
            | Self::LoadChannel { input, .. } => Some(input.as_deref()),
            _ => None,
        }
    }

    /// A load where the OP acts as one on the input that it drives, `rate` units for each %.
    pub(super) fn on_input(&self, name: &str, rate: f64) -> Self {
        let mut event = self.clone();
        match &mut event {
            Self::LoadStep { by, input, .. }
            | Self::LoadRamp { by, input, .. }
            | Self::LoadPulse { by, input, .. }
            | Self::LoadSine { by, input, .. }
            | Self::LoadWalk { by, input, .. } => {
                *by *= rate;
                *input = Some(name.to_owned());
            }
            Self::LoadChannel { values, input, .. } => {
                values.iter_mut().for_each(|value| *value *= rate);
                *input = Some(name.to_owned());
            }
            _ => {}
        }
        event
    }

    fn validate(&self, field: &str, duration: f64) -> Result<()> {
        let name = |part: &str| format!("{field}.{part}");
        // What comes after the end does not happen: a duration can be shortened and lengthened again.
        check::not_negative(&name("at"), self.at(), "s")?;
        let size = |by: &f64| check::within(&name("by"), *by, -1e9, 1e9, "").map(drop);
        let time = |part: &str, value: &f64| check::positive(&name(part), *value, "s").map(drop);
        match self {
            Self::SetPointStep { by, .. } | Self::LoadStep { by, .. } | Self::OutputStep { by, .. } => size(by),
            Self::SetPointRamp { by, over, .. } | Self::LoadRamp { by, over, .. } => {
                size(by)?;
                time("over", over)
            }
            Self::LoadPulse { by, lasts, .. } => {
                size(by)?;
                time("lasts", lasts)
            }
            Self::LoadSine { by, period, lasts, .. } => {
                size(by)?;
                time("period", period)?;
                let turns = lasts.unwrap_or(duration).min(duration) / period;
                if turns > 1e4 {
                    return Err(Error::invalid(name("period"), format!("{period} s"), "at most 10000 periods a trial"));
                }
                lasts.as_ref().map_or(Ok(()), |lasts| time("lasts", lasts))
            }
            Self::LoadWalk { by, lasts, .. } => {
                size(by)?;
                lasts.as_ref().map_or(Ok(()), |lasts| time("lasts", lasts))
            }
            Self::SetPointProfile { points, .. } => {
                if points.is_empty() || points.len() > MOST_SAMPLES {
                    let allowed = format!("1 to {MOST_SAMPLES} points");
                    return Err(Error::invalid(name("points"), format!("{} points", points.len()), allowed));
                }
                let mut before = 0.0;
                for (k, [after, value]) in points.iter().enumerate() {
                    if *after <= before || !after.is_finite() {
                        let allowed = format!("above {before} s, so that they rise");
                        return Err(Error::invalid(name(&format!("points[{k}]")), format!("{after} s"), allowed));
                    }
                    check::finite(&name(&format!("points[{k}]")), *value)?;
                    before = *after;
                }
                Ok(())
            }
            Self::LoadChannel { interval, values, .. } => {
                time("interval", interval)?;
                if values.is_empty() || values.len() > MOST_SAMPLES {
                    let allowed = format!("1 to {MOST_SAMPLES} samples");
                    return Err(Error::invalid(name("values"), format!("{} samples", values.len()), allowed));
                }
                values.iter().try_for_each(|value| check::finite(&name("values"), *value).map(drop))
            }
            Self::ParameterChange { to, over, .. } | Self::LimitMoves { to, over, .. } => {
                check::finite(&name("to"), *to)?;
                check::not_negative(&name("over"), *over, "s").map(drop)
            }
            Self::ToManual { .. } | Self::ToAutomatic { .. } => Ok(()),
            Self::ValveSticks { lasts, .. } | Self::ValveFails { lasts, .. } | Self::SensorFails { lasts, .. } => {
                time("lasts", lasts)
            }
        }
    }
}

impl Scenario {
    /// Refuses a scenario that cannot be under a candidate.
    pub(super) fn validate(&self, wiring: &Wiring, candidate: &Candidate) -> Result<()> {
        self.validate_alone()?;
        let specs =
            std::iter::once(&candidate.controller).chain(candidate.further.iter().map(|wired| &wired.controller));
        for (controller, spec) in specs.enumerate() {
            let Some((field, events)) = self.events_of(controller, wiring) else { continue };
            check_modes(events, &field, *spec == ControllerSpec::Manual)?;
            check_place(events, &field, controller, wiring)?;
        }
        if let Some(name) = self.further.keys().find(|name| !wiring.names[1..].contains(name)) {
            let allowed = match wiring.names[1..].join(", ") {
                names if names.is_empty() => "none: the candidate has one controller".to_owned(),
                names => names,
            };
            return Err(Error::invalid("scenario.further", format!("“{name}”"), allowed));
        }
        Ok(())
    }

    /// The events of a controller, and where they stand.
    pub(super) fn events_of(&self, controller: usize, wiring: &Wiring) -> Option<(String, &[Event])> {
        if controller == 0 {
            return Some(("scenario.events".to_owned(), &self.events));
        }
        let name = &wiring.names[controller];
        self.further.get(name).map(|events| (format!("scenario.further.{name}"), events.as_slice()))
    }

    /// Refuses a scenario that no candidate could run.
    pub fn validate_alone(&self) -> Result<()> {
        check::positive("scenario.duration", self.duration, "s")?;
        check::positive("scenario.scan", self.scan, "s")?;
        if self.scan > self.duration {
            return Err(Error::invalid(
                "scenario.scan",
                format!("{} s", self.scan),
                format!("at most the duration, {} s", self.duration),
            ));
        }
        let scans = self.duration / self.scan;
        if scans > MOST_SCANS {
            return Err(Error::invalid(
                "scenario.duration",
                format!("{} s, {scans:.0} scans", self.duration),
                format!("at most {MOST_SCANS} scans of {} s", self.scan),
            ));
        }
        let count = self.events.len() + self.further.values().map(Vec::len).sum::<usize>();
        if count > MOST_EVENTS {
            return Err(Error::invalid("scenario.events", count, format!("at most {MOST_EVENTS}")));
        }
        for (index, event) in self.events.iter().enumerate() {
            event.validate(&format!("scenario.events[{index}]"), self.duration)?;
        }
        for (name, events) in &self.further {
            for (index, event) in events.iter().enumerate() {
                event.validate(&format!("scenario.further.{name}[{index}]"), self.duration)?;
            }
        }
        Ok(())
    }

    /// Number of scans, the first at time 0.
    #[must_use]
    pub fn scans(&self) -> usize {
        (self.duration / self.scan + 1e-9).floor() as usize + 1
    }
}

/// The positions of events by time, those of one time in their order.
pub(super) fn in_order(events: &[Event]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..events.len()).collect();
    order.sort_by(|a, b| events[*a].at().total_cmp(&events[*b].at()));
    order
}

/// The operator moves the output in manual only; `manual` is whether the controller is in manual at the start.
fn check_modes(events: &[Event], field: &str, mut manual: bool) -> Result<()> {
    let always_manual = manual;
    for index in in_order(events) {
        match &events[index] {
            Event::ToManual { .. } => manual = true,
            Event::ToAutomatic { .. } if always_manual => {
                let allowed = "only with a controller that is not just manual";
                return Err(Error::invalid(format!("{field}[{index}].kind"), "to_automatic", allowed));
            }
            Event::ToAutomatic { .. } => manual = false,
            Event::OutputStep { .. } if !manual => {
                let allowed = "only with a controller in manual";
                return Err(Error::invalid(format!("{field}[{index}].kind"), "output_step", allowed));
            }
            _ => {}
        }
    }
    Ok(())
}

/// A set point moves by events where no controller sets it; valves and loads on an OP are of a controller that sets one.
fn check_place(events: &[Event], field: &str, controller: usize, wiring: &Wiring) -> Result<()> {
    let (set_from_above, sets_op) = (wiring.sets_its(controller), wiring.op_of(controller).is_some());
    for (index, event) in events.iter().enumerate() {
        let moves_set_point =
            matches!(event, Event::SetPointStep { .. } | Event::SetPointRamp { .. } | Event::SetPointProfile { .. });
        let at_op = matches!(event, Event::ValveSticks { .. } | Event::ValveFails { .. })
            || (controller > 0 && event.load_input() == Some(None));
        let sentence = if moves_set_point && set_from_above {
            "The set point of this controller is set by another one: move that one's."
        } else if at_op && !sets_op {
            "This controller sets no OP of its own: let this happen at the one below."
        } else if controller > 0 && matches!(event, Event::ParameterChange { .. }) {
            "A parameter of the process changes among the events of the loop itself, not of one controller."
        } else {
            continue;
        };
        return Err(Error::said(format!("{field}[{index}].kind"), sentence));
    }
    Ok(())
}
