//! The ranges that the API document states, by which the interface warns before anything is sent, are those by which a
//! trial is refused.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::experiment::ExperimentSpec;
use antistasis_core::identification::{DataSet, OrderSearch, RecursiveOptions, Series, recursive, search_orders};
use antistasis_core::process::LinearSpec;
use antistasis_core::series::TimeAxis;
use antistasis_core::simulation::{EventKind, Trial, begin_event};
use antistasis_core::tuning::{Rule, RuleChoice, tune_by_rule};
use antistasis_core::units::Span;
use serde_json::{Value, json};

const TRIAL: &str = include_str!("../../../demo/trials/TIC-204-closed-loop.json");
const API: &str = include_str!("../../../docs/openapi.json");

/// The ranges of a document's fields: the lowest or the one above which it must lie, and the highest.
struct Range {
    field: String,
    low: Option<f64>,
    above: Option<f64>,
    high: Option<f64>,
}

fn ranges(document: &str) -> Vec<Range> {
    let api: Value = serde_json::from_str(API).unwrap();
    let schema = &api["components"]["schemas"][document];
    let of = |(field, property): (&String, &Value)| {
        let limit = |name: &str| property[name].as_f64();
        Range { field: field.clone(), low: limit("minimum"), above: limit("exclusiveMinimum"), high: limit("maximum") }
    };
    let all: Vec<Range> = schema["properties"].as_object().unwrap().iter().map(of).collect();
    all.into_iter().filter(|range| range.low.or(range.above).or(range.high).is_some()).collect()
}

/// Every stated range of a document, which stands at this place in `good`, is enforced at both ends, and the ends that belong
/// to it are allowed where no other field speaks against them.
fn enforced(document: &str, place: &str, good: &Value, accepts: &dyn Fn(Value) -> Result<(), String>) -> usize {
    accepts(good.clone()).unwrap();
    let mut tried = 0;
    for Range { field, low, above, high } in ranges(document) {
        let is_count = good.pointer(place).unwrap().get(&field).is_some_and(Value::is_u64);
        let step = |limit: f64| if is_count { 1.0 } else { 1e-6 * limit.abs().max(1.0) };
        let with = |value: f64| {
            let mut changed = good.clone();
            let parent = changed.pointer_mut(place).unwrap();
            parent[&field] = if is_count && value >= 0.0 { json!(value as u64) } else { json!(value) };
            accepts(changed)
        };
        let refused = |value: f64| assert!(with(value).is_err(), "{document}.{field} = {value} was taken");
        // Whole numbers below 0 cannot even be written.
        if let Some(low) = low {
            refused(low - step(low));
        }
        if let Some(above) = above {
            refused(above);
            refused(above - step(above));
            with(above + 0.5 * (high.unwrap_or(above + 2.0) - above))
                .unwrap_or_else(|error| panic!("{document}.{field}: {error}"));
        }
        if let Some(high) = high {
            refused(high + step(high));
        }
        tried += 1;
    }
    tried
}

fn trial_with(controller: &Value) -> Value {
    let mut good: Value = serde_json::from_str(TRIAL).unwrap();
    good["candidate"]["controller"] = controller.clone();
    good
}

fn runs(trial: Value) -> Result<(), String> {
    let trial: Trial = serde_json::from_value(trial).map_err(|error| error.to_string())?;
    trial.validate().map_err(|error| error.to_string())
}

#[test]
fn of_controllers() {
    let model = json!({ "structure": "fopdt", "gain": 0.8, "time_constant": 90.0, "dead_time": 30.0 });
    let pid = json!({
        "kind": "pid", "gain": 1.1, "integral_time": 90.0, "derivative_time": 5.0,
        "feed_forward": { "signal": "load", "gain": -0.5, "lead": 3.0, "lag": 5.0, "delay": 6.0 },
        "schedule": { "over": "error", "points": [
            { "at": 0.0, "gain_factor": 1.0, "time_factor": 1.0 }, { "at": 5.0, "gain_factor": 1.5, "time_factor": 0.8 },
        ] },
    });
    let at = "/candidate/controller";
    let tried = enforced("PidSettings", at, &trial_with(&pid), &runs)
        + enforced("FeedForward", &format!("{at}/feed_forward"), &trial_with(&pid), &runs)
        + enforced("SchedulePoint", &format!("{at}/schedule/points/1"), &trial_with(&pid), &runs);
    assert!(tried >= 16, "{tried}");
    let smith = json!({ "kind": "smith", "pid": { "gain": 1.1, "integral_time": 90.0 }, "model": model });
    assert_eq!(enforced("SmithSettings", at, &trial_with(&smith), &runs), 1);
    let start = json!({ "set_point": 1.0, "measurement": 0.5, "rate": 0.2 });
    let reference = json!({
        "kind": "model_reference", "reference_time_constant": 60.0, "reference_damping": 0.8, "learning_gain": 0.01,
        "start": start,
    });
    assert!(enforced("ModelReferenceSettings", at, &trial_with(&reference), &runs) >= 5);
    let tuning = json!({
        "kind": "self_tuning", "dead_time": 30.0, "identification_time": 200.0, "amplitude": 3.0, "clock": 20.0,
        "closed_loop_time_constant": 60.0,
    });
    assert!(enforced("SelfTuningSettings", at, &trial_with(&tuning), &runs) >= 6);
    let relay = json!({ "kind": "relay", "amplitude": 5.0 });
    assert_eq!(enforced("RelaySettings", at, &trial_with(&relay), &runs), 2);
}

#[test]
fn of_instruments_and_scenarios() {
    let pid = json!({ "kind": "pid", "gain": 1.1, "integral_time": 90.0 });
    let mut good = trial_with(&pid);
    good["plant"]["sensor"] = json!({ "noise": 0.1, "time_constant": 2.0, "damping": 0.7 });
    good["plant"]["actuator"] = json!({ "kind": "valve" });
    assert!(enforced("SensorSpec", "/plant/sensor", &good, &runs) >= 8);
    assert!(enforced("ValveSpec", "/plant/actuator", &good, &runs) >= 7);
    good["plant"]["actuator"] = json!({ "kind": "power_stage", "cycle": 30.0 });
    assert_eq!(enforced("PowerStageSpec", "/plant/actuator", &good, &runs), 1);
    let scan = |trial: Value| {
        // Half of the range is longer than the trial: only the ends are looked at.
        let short = trial["scenario"]["scan"].as_f64().unwrap() <= 1.0;
        runs(trial).or_else(|error| if short { Err(error) } else { Ok(()) })
    };
    let mut short = good.clone();
    short["scenario"] = json!({ "duration": 100.0, "scan": 1.0, "events": [] });
    short["plant"]["actuator"] = json!({ "kind": "direct" });
    assert!(enforced("Scenario", "/scenario", &short, &scan) >= 2);
}

#[test]
fn of_experiments() {
    let good = json!({
        "process": { "structure": "fopdt", "gain": 0.8, "time_constant": 90.0, "dead_time": 30.0 },
        "noise": 0.15, "operating_point": { "pv": 76.0, "op": 42.0 }, "pv_range": [68.0, 84.0], "op_range": [20.0, 70.0],
        "sample_time": 1.0, "duration": 3600.0, "signal": { "kind": "step" }, "pv_unit": "°C",
    });
    let plans = |spec: Value| {
        let mut spec = spec;
        // Time and samples go together: half a range of one is too little for the other.
        if spec["duration"].as_f64().unwrap() == 1.0 {
            spec["sample_time"] = json!(0.01);
        }
        let spec: ExperimentSpec = serde_json::from_value(spec).map_err(|error| error.to_string())?;
        spec.validate().map_err(|error| error.to_string())
    };
    assert!(enforced("ExperimentSpec", "", &good, &plans) >= 6);
}

#[test]
fn of_events() {
    let api: Value = serde_json::from_str(API).unwrap();
    let trial: Trial =
        serde_json::from_value(trial_with(&json!({ "kind": "pid", "gain": 1.1, "integral_time": 90.0 }))).unwrap();
    let mut tried = 0;
    for kind in EventKind::ALL {
        let Ok(event) = begin_event(kind, &trial, None) else { continue };
        let event = serde_json::to_value(event).unwrap();
        let variants = api["components"]["schemas"]["Event"]["oneOf"].as_array().unwrap();
        let schema = variants.iter().find(|schema| schema["properties"]["kind"]["enum"][0] == event["kind"]).unwrap();
        for (field, property) in schema["properties"].as_object().unwrap() {
            let (low, above) = (property["minimum"].as_f64(), property["exclusiveMinimum"].as_f64());
            let Some(outside) = above.or(low.map(|low| low - 1e-6)) else { continue };
            let mut changed = serde_json::to_value(&trial).unwrap();
            changed["scenario"]["events"] = json!([event]);
            changed["scenario"]["events"][0][field] = json!(outside);
            assert!(runs(changed).is_err(), "{}.{field} = {outside} was taken", event["kind"]);
            tried += 1;
        }
    }
    assert!(tried >= 25, "{tried}");
}

#[test]
fn of_identification_and_rules() {
    let op: Vec<f64> = (0..400).map(|k| if k / 25 % 2 == 0 { 40.0 } else { 45.0 }).collect();
    let mut pv = vec![70.0];
    for k in 1..400 {
        pv.push(70.0 + 0.9 * (pv[k - 1] - 70.0) + 0.1 * (op[k - 1] - 40.0));
    }
    let axis = TimeAxis::uniform(1.0, 400).unwrap();
    let data = DataSet::single(axis, Series::new("OP", "%", op), Series::new("PV", "°C", pv));
    let follows = |options: Value| {
        let options: RecursiveOptions = serde_json::from_value(options).map_err(|error| error.to_string())?;
        recursive(&data, &options).map(drop).map_err(|error| error.to_string())
    };
    let good = json!({ "na": 1, "nb": 1, "nk": 1, "forgetting": 0.99, "covariance_bound": 10.0, "dead_zone": 0.0 });
    assert_eq!(enforced("RecursiveOptions", "", &good, &follows), 6);
    let searches = |search: Value| {
        let search: OrderSearch = serde_json::from_value(search).map_err(|error| error.to_string())?;
        search_orders(&data, None, &search).map(drop).map_err(|error| error.to_string())
    };
    assert_eq!(enforced("OrderSearch", "", &json!({ "na": 2, "nb": 2, "nk": 3 }), &searches), 3);
    // Each choice by the rule that asks for it.
    let span = Span::new(0.0, 100.0, "%");
    let settling = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 5.0 };
    let level = LinearSpec::Integrating { gain: 0.01, dead_time: 1.0 };
    let chooses = |choice: Value| {
        let choice: RuleChoice = serde_json::from_value(choice).map_err(|error| error.to_string())?;
        let by = |process: &LinearSpec, rule| {
            tune_by_rule(process, &span, rule, &choice).map(drop).map_err(|error| error.to_string())
        };
        by(&settling, Rule::Simc).and_then(|()| by(&level, Rule::AveragingLevel))
    };
    let good = json!({ "closed_loop_time_constant": 5.0, "expected_load": 10.0, "allowed_swing": 20.0 });
    assert_eq!(enforced("RuleChoice", "", &good, &chooses), 3);
}
