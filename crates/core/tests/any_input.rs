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

#[test]
fn every_number_replaced_by_extreme_ones() {
    let mut good: Value = serde_json::from_str(TRIAL).unwrap();
    let controller = &mut good["candidate"]["controller"];
    for (name, value) in
        [("derivative_time", 5.0), ("derivative_filter", 8.0), ("set_point_weight", 0.7), ("tracking_time", 40.0)]
    {
        controller[name] = json!(value);
    }
    controller["output_limits"] = json!({ "low": 0.0, "high": 100.0 });
    good["plant"]["sensor"]["noise"] = json!(0.1);
    let mut places = Vec::new();
    numbers(&good, "", &mut places);
    assert!(places.len() > 25, "{places:?}");
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
                    assert!(error.to_string().contains("allowed:"), "{place} = {extreme:e}: {error}");
                }
            }
        }
    }
    assert!(ran > 100 && refused > 100, "{ran} ran, {refused} were refused");
}
