//! Events with values to begin with, out of the trial that they are added to.

use super::plant::Plant;
use super::scenario::Event;
use super::trial::Trial;
use crate::Result;
use crate::controller::predictive::{RankedLimit, Side};
use crate::instrument::Failure;
use crate::numerics::rounded;
use crate::process::Quantity;
use crate::units::Unit;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The kinds of events.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[allow(missing_docs)]
pub enum EventKind {
    SetPointStep,
    SetPointRamp,
    SetPointProfile,
    LoadStep,
    LoadRamp,
    LoadPulse,
    LoadSine,
    LoadWalk,
    LoadChannel,
    ParameterChange,
    OutputStep,
    ToManual,
    ToAutomatic,
    LimitMoves,
    ValveSticks,
    ValveFails,
    SensorFails,
}

impl EventKind {
    /// All kinds.
    pub const ALL: [Self; 17] = [
        Self::SetPointStep,
        Self::SetPointRamp,
        Self::SetPointProfile,
        Self::LoadStep,
        Self::LoadRamp,
        Self::LoadPulse,
        Self::LoadSine,
        Self::LoadWalk,
        Self::LoadChannel,
        Self::ParameterChange,
        Self::OutputStep,
        Self::ToManual,
        Self::ToAutomatic,
        Self::LimitMoves,
        Self::ValveSticks,
        Self::ValveFails,
        Self::SensorFails,
    ];
}

/// The input that a load acts on where nothing is said: one that the OP does not drive, and how far it moves; without
/// one, the place where the OP acts.
fn load(plant: &Plant) -> Result<(Option<String>, f64)> {
    let description = plant.process.describe(&plant.pv.span.unit)?;
    let driven = plant.drive.as_ref().map_or(&description.drive.input, |drive| &drive.input);
    let Some(other) = description.inputs.iter().find(|input| input.name != *driven) else { return Ok((None, -10.0)) };
    let room = |input: &Quantity, by: f64| (input.value + by) >= input.low && (input.value + by) <= input.high;
    let by = rounded(0.1 * if other.value == 0.0 { 0.1 * other.high.min(100.0) } else { other.value.abs() }, 1);
    // A load that would leave its range goes the other way.
    Ok((Some(other.name.clone()), if room(other, by) || !room(other, -by) { by } else { -by }))
}

/// The first input that the OP does not drive and that is measured in a unit into which this one converts.
fn moved_in(unit: &str, plant: &Plant) -> Result<Option<String>> {
    let description = plant.process.describe(&plant.pv.span.unit)?;
    let driven = plant.drive.as_ref().map_or(&description.drive.input, |drive| &drive.input);
    let fits = |input: &&Quantity| input.name != *driven && Unit::conversion("unit", unit, &input.unit).is_ok();
    Ok(description.inputs.iter().find(fits).map(|input| input.name.clone()))
}

/// The first limit of the predictive controller is drawn nearer by a step.
fn limit_moves(trial: &Trial, at: f64, step: f64) -> Event {
    let own = trial.candidate.predictive();
    let limit = own.and_then(|own| own.limits().first().map(|one| (own.cvs[one.cv].tag.clone(), one.side, one.limit)));
    let (cv, side, limit) = limit.unwrap_or_else(|| {
        (trial.plant.pv.tag.clone(), Side::High, RankedLimit { value: trial.plant.operating_point.pv, rank: 1 })
    });
    let to = limit.value + if side == Side::Low { step } else { -step };
    Event::LimitMoves { at, cv, side, rank: limit.rank, to, over: 0.0 }
}

/// An event of this kind in the middle of a trial, with values that are worth seeing.
///
/// A channel of a record has no samples yet; `unit` is theirs, and it acts on an input that is measured in such a one.
/// Errors when the process cannot be described.
pub fn begin_event(kind: EventKind, trial: &Trial, unit: Option<&str>) -> Result<Event> {
    let duration = trial.scenario.duration;
    let (at, over) = (rounded(0.5 * duration, 2), rounded(0.1 * duration, 1));
    let span = &trial.plant.pv.span;
    let step = rounded(0.04 * (span.high - span.low), 1);
    let rest = trial.plant.operating_point.pv;
    let (input, by) = load(&trial.plant)?;
    Ok(match kind {
        EventKind::SetPointStep => Event::SetPointStep { at, by: step },
        EventKind::SetPointRamp => Event::SetPointRamp { at, by: step, over },
        EventKind::SetPointProfile => {
            Event::SetPointProfile { at, points: vec![[over, rest + step], [2.0 * over, rest]] }
        }
        EventKind::LoadStep => Event::LoadStep { at, by, input },
        EventKind::LoadRamp => Event::LoadRamp { at, by, over, input },
        EventKind::LoadPulse => Event::LoadPulse { at, by, lasts: over, input },
        EventKind::LoadSine => Event::LoadSine { at, by, period: over, lasts: None, input },
        // How far it strays has no direction.
        EventKind::LoadWalk => Event::LoadWalk { at, by: by.abs(), lasts: None, input },
        EventKind::LoadChannel => {
            let input = match unit {
                Some(unit) => moved_in(unit, &trial.plant)?.or(input),
                None => input,
            };
            let unit = unit.map(str::to_owned);
            Event::LoadChannel { at: 0.0, tag: String::new(), interval: 1.0, values: vec![0.0], unit, input }
        }
        EventKind::ParameterChange => {
            let parameters = trial.plant.process.describe(&span.unit)?.parameters;
            let (parameter, to) =
                parameters.into_iter().next().map_or((String::new(), 1.0), |own| (own.name, own.value));
            Event::ParameterChange { at, parameter, to, over }
        }
        EventKind::OutputStep => Event::OutputStep { at, by: 5.0 },
        EventKind::ToManual => Event::ToManual { at },
        EventKind::ToAutomatic => Event::ToAutomatic { at },
        EventKind::LimitMoves => limit_moves(trial, at, step),
        EventKind::ValveSticks => Event::ValveSticks { at, lasts: over },
        EventKind::ValveFails => Event::ValveFails { at, lasts: over },
        EventKind::SensorFails => Event::SensorFails { at, lasts: over, how: Failure::Stuck, signal: None },
    })
}

#[cfg(test)]
mod tests {
    use super::super::trial::heater;
    use super::*;
    use crate::process::{ProcessSpec, offers};
    use crate::tuning::{SimcChoice, first_trial_on};

    #[test]
    fn every_kind_on_every_process_can_be_run_as_it_begins() {
        for offer in offers() {
            let Ok(plant) = Plant::usual(offer.process.clone(), "T") else { continue };
            let Ok((trial, _)) = first_trial_on(&plant, &SimcChoice::default()) else { continue };
            for kind in EventKind::ALL {
                let mut with = trial.clone();
                with.scenario.events = vec![begin_event(kind, &trial, None).unwrap()];
                // The operator's moves need a controller in manual, a parameter change a parameter.
                let needs_more = matches!(kind, EventKind::OutputStep)
                    || (kind == EventKind::ParameterChange
                        && with.plant.process.describe("").is_ok_and(|known| known.parameters.is_empty()));
                let answer = with.validate();
                assert!(answer.is_ok() || needs_more, "{kind:?} on {:?}: {answer:?}", offer.process);
            }
        }
    }

    #[test]
    fn values_are_round_and_a_walk_has_no_direction() {
        assert_eq!((rounded(0.34, 1), rounded(1234.0, 2), rounded(-0.00756, 1)), (0.3, 1200.0, -0.008));
        let fopdt = serde_json::json!({ "kind": "fopdt", "gain": 1.2, "time_constant": 40.0, "dead_time": 5.0 });
        let mut trial = heater();
        if let Ok(process) = serde_json::from_value::<ProcessSpec>(fopdt) {
            trial.plant.process = process;
            trial.plant.drive = None;
        }
        let Event::LoadWalk { by, .. } = begin_event(EventKind::LoadWalk, &trial, None).unwrap() else { panic!() };
        assert!(by > 0.0);
    }

    #[test]
    fn on_another_plant_what_it_does_not_know_leaves_the_scenario_and_is_told() {
        let mut trial = heater();
        trial.scenario.events = vec![
            Event::set_point(10.0, 2.0),
            begin_event(EventKind::LoadStep, &trial, None).unwrap(),
            begin_event(EventKind::ParameterChange, &trial, None).unwrap(),
            Event::load(50.0, 5.0),
        ];
        let tank = Plant::usual(ProcessSpec::library("upright_tank", &[]), "L").unwrap();
        let (moved, left) = trial.on_plant(tank.clone()).unwrap();
        let inputs: Vec<String> = tank.process.describe("m").unwrap().inputs.into_iter().map(|own| own.name).collect();
        assert!(
            left.iter().all(|event| event.load_input().flatten().is_none_or(|name| !inputs.contains(&name.to_owned())))
        );
        assert_eq!(moved.scenario.events.len() + left.len(), 4);
        assert!(!left.is_empty() && moved.scenario.events.contains(&Event::load(50.0, 5.0)));
        let (same, left) = trial.on_plant(trial.plant.clone()).unwrap();
        assert!(same == trial && left.is_empty());
    }

    #[test]
    fn in_open_loop_the_output_stands() {
        let mut trial = heater();
        trial.scenario.events.push(Event::ToManual { at: 5.0 });
        trial.scenario.events.push(Event::OutputStep { at: 6.0, by: 5.0 });
        let open = trial.in_open_loop();
        open.validate().unwrap();
        let trace = open.run().unwrap();
        let op = trace.columns.iter().find(|column| column.tag.ends_with("OP")).unwrap();
        assert!(op.values.iter().all(|value| *value == op.values[0]));
        assert_eq!(open.scenario.events.len() + 2, trial.scenario.events.len());
    }
}
