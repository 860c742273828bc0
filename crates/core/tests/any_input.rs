//! Whatever stands in a trial, it runs to finite numbers or is refused by name: nothing panics, nothing runs away.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::assess;
use antistasis_core::simulation::Trial;
use serde_json::{Value, json};

const TRIAL: &str = include_str!("../../../demo/trials/TIC-204-closed-loop.json");

/// The places of all numbers in a document, as JSON pointers.
fn numbers(value: &Value, place: &str, found: &mut Vec<String>) {
    match value {
        Value::Number(_) => found.push(place.to_owned()),
        Value::Array(items) => {
            items.iter().enumerate().for_each(|(k, item)| numbers(item, &format!("{place}/{k}"), found));
        }
        Value::Object(fields) => {
            fields.iter().for_each(|(name, field)| numbers(field, &format!("{place}/{name}"), found));
        }
        _ => {}
    }
}

/// A trial with a controller of this kind, every number of its settings there to be replaced.
fn with(controller: &Value) -> Value {
    let mut good: Value = serde_json::from_str(TRIAL).unwrap();
    good["candidate"]["controller"] = controller.clone();
    good["plant"]["sensor"]["noise"] = json!(0.1);
    good
}

fn pid() -> Value {
    json!({
        "gain": 1.1, "integral_time": 90.0, "derivative_time": 5.0, "derivative_filter": 8.0, "set_point_weight": 0.7,
        "tracking_time": 40.0, "derivative_set_point_weight": 0.5, "filter_time": 3.0, "gap": 0.5, "gap_gain": 0.5,
        "rate_limit": 4.0, "output_limits": { "low": 0.0, "high": 100.0 },
        "feed_forward": { "signal": "load", "gain": -0.5, "lead": 3.0, "lag": 5.0, "delay": 6.0 },
        "schedule": { "over": "error", "points": [
            { "at": 0.0, "gain_factor": 1.0, "time_factor": 1.0 }, { "at": 5.0, "gain_factor": 1.5, "time_factor": 0.8 },
        ] },
    })
}

fn kind(name: &str, mut settings: Value) -> Value {
    settings["kind"] = json!(name);
    settings
}

#[test]
fn every_number_of_a_trial_replaced_by_extreme_ones() {
    let (ran, refused) = try_all(&with(&kind("pid", pid())), "");
    assert!(ran > 100 && refused > 100, "{ran} ran, {refused} were refused");
}

#[test]
fn every_number_of_other_controllers_replaced_by_extreme_ones() {
    let model = json!({ "structure": "fopdt", "gain": 0.8, "time_constant": 90.0, "dead_time": 30.0 });
    let start = json!({ "set_point": 1.0, "measurement": 0.5, "rate": 0.2 });
    for controller in [
        kind("smith", json!({ "pid": { "gain": 1.1, "integral_time": 90.0 }, "model": model, "filter_time": 5.0 })),
        kind(
            "model_reference",
            json!({
                "reference_time_constant": 60.0, "reference_damping": 0.8, "learning_gain": 0.01, "leakage": 0.001,
                "bound": 20.0, "start": start,
            }),
        ),
        kind(
            "self_tuning",
            json!({
                "dead_time": 30.0, "identification_time": 200.0, "amplitude": 3.0, "clock": 20.0, "forgetting": 0.99,
                "keeps_learning": true, "closed_loop_time_constant": 60.0, "seed": 1,
            }),
        ),
        kind("relay", json!({ "amplitude": 5.0, "hysteresis": 0.5, "bias": 1.0 })),
    ] {
        let (ran, refused) = try_all(&with(&controller), "/candidate");
        assert!(ran > 5 && refused > 5, "{}: {ran} ran, {refused} were refused", controller["kind"]);
    }
}

/// Replaces every number below a place by extreme ones: how many trials ran, and how many were refused.
fn try_all(good: &Value, below: &str) -> (usize, usize) {
    let mut places = Vec::new();
    numbers(good, "", &mut places);
    places.retain(|place| place.starts_with(below));
    let extremes: [f64; 12] = [0.0, -1.0, 1e-300, -1e-300, 1e-9, 1e-3, 1e3, 1e9, -1e9, 1e12, 1e300, -1e300];
    let (mut ran, mut refused) = (0, 0);
    for place in &places {
        for extreme in extremes {
            let mut changed = good.clone();
            let number = changed.pointer_mut(place).unwrap();
            // Counts are whole numbers.
            *number = if number.is_f64() { json!(extreme) } else { json!(extreme.clamp(0.0, 1e15) as u64) };
            let Ok(trial) = serde_json::from_value::<Trial>(changed) else { continue };
            match trial.run() {
                Ok(trace) => {
                    ran += 1;
                    let all_finite =
                        trace.columns.iter().flat_map(|column| &column.values).all(|value| value.is_finite());
                    assert!(all_finite, "{place} = {extreme:e}");
                    let assessment = assess(&trial, &trace).unwrap();
                    assert!(assessment.metrics.integral_absolute_error.is_finite(), "{place} = {extreme:e}");
                }
                Err(error) => {
                    refused += 1;
                    let said = error.to_string();
                    let is_sentence = ["must be", "can be", "there are"].iter().any(|words| said.contains(words));
                    assert!(is_sentence, "{place} = {extreme:e}: {error}");
                }
            }
        }
    }
    (ran, refused)
}
