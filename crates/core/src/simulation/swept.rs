//! What of a trial can be varied: every number of its candidate, plant and scenario.

use super::trial::Trial;
use crate::Result;
use crate::error::in_words;
use crate::process::{Description, Quantity};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// Longest list of plain numbers that is offered number by number; a channel of a record is longer.
const MOST_IN_A_LIST: usize = 12;

/// A number of a trial that can be varied.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SweepTarget {
    /// Where it belongs: `candidate`, `process`, `plant` or `scenario`.
    pub group: String,
    /// Where it stands in the trial document, as a JSON pointer (RFC 6901).
    pub pointer: String,
    /// What it is, in words.
    pub title: String,
    /// Its unit; empty for a pure number.
    pub unit: String,
    /// What it is now.
    pub value: f64,
    /// Whether it is a whole number.
    pub whole: bool,
    /// Lowest value that can be, where it is known.
    pub low: Option<f64>,
    /// Highest value that can be, where it is known.
    pub high: Option<f64>,
}

/// Every number of a trial that can be varied. Errors where its process cannot be built.
pub fn sweep_targets(trial: &Trial) -> Result<Vec<SweepTarget>> {
    let process = trial.plant.process.build(&trial.plant.pv.span.unit)?;
    let description = process.description();
    let Ok(document) = serde_json::to_value(trial) else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for part in ["candidate", "plant", "scenario"] {
        numbers(&document[part], &format!("/{part}"), &mut found);
    }
    // What stands at its usual value is left out of the document.
    let place = |table: &str, quantity: &Quantity| format!("/plant/{table}/{}", quantity.name);
    let is_library = document["plant"]["process"]["structure"] == "library";
    let usual = description.inputs.iter().map(|quantity| (place("inputs", quantity), quantity.value)).chain(
        description
            .parameters
            .iter()
            .filter(|_| is_library)
            .map(|quantity| (place("process/parameters", quantity), quantity.value)),
    );
    for (pointer, value) in usual {
        if document.pointer(&pointer).is_none() {
            found.push((pointer, value));
        }
    }
    let driven = trial.plant.drive.as_ref().map_or(description.drive.input.as_str(), |drive| drive.input.as_str());
    found.retain(|(pointer, _)| *pointer != format!("/plant/inputs/{driven}"));
    Ok(found.into_iter().map(|(pointer, value)| described(trial, description, pointer, value)).collect())
}

fn numbers(value: &Value, pointer: &str, found: &mut Vec<(String, f64)>) {
    match value {
        Value::Number(number) => found.extend(number.as_f64().map(|number| (pointer.to_owned(), number))),
        Value::Object(fields) => {
            for (name, value) in fields {
                numbers(value, &format!("{pointer}/{name}"), found);
            }
        }
        Value::Array(values) if values.len() <= MOST_IN_A_LIST || values.iter().any(Value::is_object) => {
            for (k, value) in values.iter().enumerate() {
                numbers(value, &format!("{pointer}/{k}"), found);
            }
        }
        _ => {}
    }
}

fn described(trial: &Trial, description: &Description, pointer: String, value: f64) -> SweepTarget {
    let names: Vec<&str> = pointer.split('/').skip(1).collect();
    let last = names.last().copied().unwrap_or_default();
    let own_name = own_parameter(trial, &names);
    let known = |list: &[Quantity], name: &str| list.iter().find(|quantity| quantity.name == name).cloned();
    let quantity = match names.as_slice() {
        ["plant", "process", .., "value"] => own_name.as_deref().and_then(|name| known(&description.parameters, name)),
        ["plant", "process", ..] => known(&description.parameters, last),
        ["plant", "inputs", name] => known(&description.inputs, name),
        ["plant", "operating_point", "states", name] => known(&description.states, name),
        _ => None,
    };
    let group = match names.as_slice() {
        ["plant", "process" | "inputs", ..] => "process",
        [first, ..] => first,
        [] => "trial",
    };
    let title = match &quantity {
        Some(quantity) => quantity.name.replace('_', " "),
        None => in_words(&names[1..].join(".")),
    };
    let unit = quantity.as_ref().map_or_else(|| unit_of(trial, &names), |quantity| quantity.unit.clone());
    let bounded = |limit: f64| Some(limit).filter(|limit| limit.abs() < 1e9);
    let is_time = unit == "s";
    SweepTarget {
        group: group.to_owned(),
        whole: value.fract() == 0.0 && trial.with_number(&pointer, value + 0.5).is_err(),
        low: quantity.as_ref().and_then(|quantity| bounded(quantity.low)).or(is_time.then_some(0.0)),
        high: quantity.as_ref().and_then(|quantity| bounded(quantity.high)),
        title,
        unit,
        value,
        pointer,
    }
}

/// The name of a parameter of equations of one's own, by its place in the list.
fn own_parameter(trial: &Trial, names: &[&str]) -> Option<String> {
    let ["plant", "process", list, index, "value"] = names else { return None };
    let document = serde_json::to_value(&trial.plant.process).ok()?;
    Some(document.get(list)?.get(index.parse::<usize>().ok()?)?.get("name")?.as_str()?.to_owned())
}

/// The unit of a number by what it is called and where it stands.
fn unit_of(trial: &Trial, names: &[&str]) -> String {
    const TIMES: [&str; 10] = ["duration", "scan", "at", "over", "lasts", "period", "filter", "lag", "lead", "delay"];
    const PERCENT: [&str; 9] =
        ["op", "dead_band", "stick", "slip", "low", "high", "leakage", "amplitude", "hysteresis"];
    let last = names.last().copied().unwrap_or_default();
    // Of what is measured besides the PV, its own.
    let spans = match names {
        ["plant", "further_measured", k, ..] => {
            k.parse().ok().and_then(|k: usize| trial.plant.further_measured.get(k)).map(|one| &one.span)
        }
        ["plant", "measured_disturbances", k, ..] => {
            k.parse().ok().and_then(|k: usize| trial.plant.measured_disturbances.get(k)).map(|one| &one.span)
        }
        _ => None,
    };
    let pv = spans.unwrap_or(&trial.plant.pv.span).unit.clone();
    if names.contains(&"span") || last == "pv" || (names.contains(&"sensor") && ["noise", "bias"].contains(&last)) {
        return if names.get(1) == Some(&"op") { "%".into() } else { pv };
    }
    if last.ends_with("_time") || last.ends_with("time_constant") || TIMES.contains(&last) {
        return "s".into();
    }
    if names.contains(&"controller") && last == "gain" {
        return "%/%".into();
    }
    if PERCENT.contains(&last) { "%".into() } else { String::new() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::simulation::trial::heater;

    #[test]
    fn every_target_takes_another_number() {
        let trial = heater();
        let targets = sweep_targets(&trial).unwrap();
        assert!(targets.len() > 30, "{}", targets.len());
        for target in &targets {
            let other = if target.whole { target.value + 1.0 } else { target.value + 0.125 };
            let changed = trial.with_number(&target.pointer, other).unwrap();
            assert_ne!(changed, trial, "{}", target.pointer);
            assert!(!target.title.is_empty() && !target.title.contains('_'), "{target:?}");
        }
    }

    #[test]
    fn targets_are_known_by_their_words_units_and_ranges() {
        let targets = sweep_targets(&heater()).unwrap();
        let at = |pointer: &str| targets.iter().find(|target| target.pointer == pointer).unwrap();
        let gain = at("/candidate/controller/gain");
        assert_eq!((gain.title.as_str(), gain.unit.as_str(), gain.whole), ("gain of the controller", "%/%", false));
        let flow = at("/plant/inputs/feed_flow");
        assert!(flow.group == "process" && flow.low.is_some() && !flow.unit.is_empty(), "{flow:?}");
        let event = at("/scenario/events/0/at");
        assert_eq!((event.title.as_str(), event.unit.as_str()), ("time of event 1", "s"));
        assert!(at("/scenario/seed").whole);
        assert_eq!(at("/plant/operating_point/pv").unit, "°C");
    }
}
