//! One more controller for a trial: on what is free, with settings that hold there.

use super::in_order::{by_rule, ultimate};
use crate::assessment::Network;
use crate::controller::{ControllerSpec, PidSettings};
use crate::simulation::{Select, Trial, Wire, Wired};
use crate::{Error, Result};
use serde::Serialize;
use utoipa::ToSchema;

/// A controller to be added to a trial.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Another {
    /// The controller with its wires.
    pub wired: Wired,
    /// Where its settings come from, or why they are only a place to begin.
    pub remark: String,
}

/// Where nothing is known of what it sees (this project's choice): to be set by hand.
const GAIN: f64 = 1.0;
const INTEGRAL_TIME: f64 = 60.0;

/// A controller to begin with: it measures what no controller measures yet and sets an OP that none sets yet, tuned on what it sees with
/// the others closed. Where all OPs are set it overrides the first one, the lower output being taken.
///
/// Errors for a trial that cannot be run.
pub fn another_controller(trial: &Trial) -> Result<Another> {
    trial.validate()?;
    let (plant, candidate) = (&trial.plant, &trial.candidate);
    let measured: Vec<&str> = std::iter::once(plant.pv.tag.as_str())
        .chain(candidate.further.iter().map(|wired| wired.measures.as_str()))
        .collect();
    let signals = plant.further_measured.iter().map(|signal| signal.tag.as_str());
    let measures = signals.clone().find(|tag| !measured.contains(tag)).unwrap_or(&plant.pv.tag).to_owned();
    let own = if candidate.sets.is_empty() { vec![plant.op.tag.as_str()] } else { Vec::new() };
    let wires = candidate.sets.iter().chain(candidate.further.iter().flat_map(|wired| &wired.sets));
    let set: Vec<&str> = own.into_iter().chain(wires.map(|wire| wire.to.as_str())).collect();
    let ops = std::iter::once(plant.op.tag.as_str()).chain(plant.further_driven.iter().map(|own| own.tag.as_str()));
    let free = ops.clone().find(|tag| !set.contains(tag));
    let sets = match free {
        Some(tag) => Wire::to(tag),
        None => Wire { select: Some(Select::Lowest), ..Wire::to(&plant.op.tag) },
    };
    let names: Vec<&str> =
        std::iter::once(plant.loop_tag()).chain(candidate.further.iter().map(|wired| wired.name.as_str())).collect();
    let stem = measures.strip_suffix(".PV").unwrap_or(&measures);
    let name = std::iter::once(stem.to_owned())
        .chain((2..100).map(|k| format!("{stem} {k}")))
        .find(|name| !names.contains(&name.as_str()))
        .ok_or_else(|| Error::unfit("there are very many controllers of this signal", "rename one of them"))?;
    let place = PidSettings::pi(GAIN, INTEGRAL_TIME);
    let mut wired = Wired {
        name,
        measures,
        sets: vec![sets],
        controller: ControllerSpec::Pid(place.clone()),
        set_point_tracking: false,
    };
    let tuned = if free.is_some() { tuned(trial, &wired, &place)? } else { None };
    let remark = match (&tuned, free) {
        (Some(_), _) => "Tuned by Tyreus and Luyben on what it sees with the others closed.",
        (None, Some(_)) => "Nothing tells its settings here: they are a place to begin.",
        (None, None) => {
            "It overrides: the lower output is taken. Its settings are a place to begin, and its set point says when it takes over."
        }
    };
    if let Some(settings) = tuned {
        wired.controller = ControllerSpec::Pid(settings);
    }
    Ok(Another { wired, remark: remark.to_owned() })
}

/// Settings for a controller that is wired to a trial; None where what it sees has no ultimate gain, or nothing is linear.
fn tuned(trial: &Trial, wired: &Wired, place: &PidSettings) -> Result<Option<PidSettings>> {
    let mut with = trial.clone();
    with.candidate.further.push(wired.clone());
    with.validate()?;
    let Some(network) = Network::of(&with)? else { return Ok(None) };
    let own = with.candidate.further.len();
    let others: Vec<usize> = network.at_work().into_iter().filter(|k| *k != own).collect();
    Ok(ultimate(&network, own, &others).map(|point| by_rule(place, point)))
}
