//! Writes trials of the present version with their traces as test data, so that later versions can be held against them:
//! `cargo run --release -p antistasis-core --example keep_documents`. What is there already stays as it is.
//!
//! The trials are those of the demo and one for each kind of controller, actuator, sensor, process and event, in the form in
//! which the server stores them. Of a trace every so many rows are kept.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::simulation::{TRIAL_VERSION, Trial};
use serde_json::{Value, json};
use std::path::Path;

const ROWS: usize = 40;

fn main() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let target = root.join(format!("tests/documents/trial-{TRIAL_VERSION}"));
    std::fs::create_dir_all(&target).unwrap();
    let mut trials: Vec<(String, Value)> = made().into_iter().map(|(name, trial)| (name.to_owned(), trial)).collect();
    for entry in std::fs::read_dir(root.join("../../demo/trials")).unwrap() {
        let path = entry.unwrap().path();
        let name = format!("demo-{}", path.file_stem().unwrap().to_string_lossy());
        trials.push((name, serde_json::from_str(&std::fs::read_to_string(&path).unwrap()).unwrap()));
    }
    for (name, document) in trials {
        let path = target.join(format!("{name}.json"));
        if path.exists() {
            continue;
        }
        let trial: Trial = serde_json::from_value(document).unwrap_or_else(|error| panic!("{name}: {error}"));
        let trace = trial.run().unwrap_or_else(|error| panic!("{name}: {error}"));
        assert!(trace.stopped.is_none(), "{name}: {:?}", trace.stopped);
        let every = trace.len().div_ceil(ROWS);
        let columns: Vec<Value> = trace
            .columns
            .iter()
            .map(|column| {
                let values: Vec<f64> = column.values.iter().step_by(every).copied().collect();
                json!({ "tag": column.tag, "unit": column.unit, "role": column.role, "values": values })
            })
            .collect();
        // As the server stores it: with every field.
        let kept = json!({ "trial": trial, "every": every, "rows": trace.len(), "columns": columns });
        std::fs::write(&path, serde_json::to_string_pretty(&kept).unwrap() + "\n").unwrap();
        println!("{}", path.display());
    }
}

fn fopdt() -> Value {
    json!({ "structure": "fopdt", "gain": 1.4, "time_constant": 40.0, "dead_time": 6.3 })
}

fn plant(process: Value, more: Value) -> Value {
    let mut plant = json!({
        "process": process,
        "pv": { "tag": "TIC-1.PV", "span": { "low": 0.0, "high": 150.0, "unit": "°C" } },
        "op": { "tag": "TIC-1.OP", "span": { "low": 0.0, "high": 100.0, "unit": "%" } },
        "operating_point": { "pv": 60.0, "op": 45.0 },
    });
    for (name, value) in more.as_object().unwrap() {
        plant[name] = value.clone();
    }
    plant
}

fn trial(plant: Value, candidate: Value, events: Value) -> Value {
    json!({
        "version": 1,
        "plant": plant,
        "candidate": candidate,
        "scenario": { "duration": 900.0, "scan": 1.5, "seed": 7, "events": events },
    })
}

fn steps() -> Value {
    json!([{ "kind": "set_point_step", "at": 30.0, "by": 6.0 }, { "kind": "load_step", "at": 400.2, "by": -8.0 }])
}

/// One for each kind.
fn made() -> Vec<(&'static str, Value)> {
    let with = |controller: Value| json!({ "controller": controller });
    let pi = || json!({ "kind": "pid", "gain": 2.1, "integral_time": 30.0 });
    let named = |name: &str, unit: &str, value: f64| json!({ "name": name, "unit": unit, "value": value });
    let plain = || plant(fopdt(), json!({}));
    let noisy = json!({ "noise": 0.2, "noise_time_constant": 3.0, "time_constant": 4.0, "dead_time": 2.2, "bias": 0.4,
        "drift": 0.5, "resolution": 0.05, "drop_out": 0.02, "filter": 3.0 });
    let valve = json!({ "kind": "valve", "characteristic": { "shape": "equal_percentage", "rangeability": 40.0 },
        "authority": 0.6, "stroke_time": 12.0, "dead_band": 0.5, "stick": 1.2, "friction": 0.4, "leakage": 1.0,
        "fail_position": "open" });
    let four = json!({ "structure": "library", "process": "four_tanks", "parameters": { "split_1": 0.65 } });
    vec![
        ("pid-with-everything", {
            let controller = json!({ "kind": "pid", "gain": 1.6, "integral_time": 45.0, "derivative_time": 5.0,
                "derivative_filter": 8.0, "set_point_weight": 0.7, "derivative_set_point_weight": 0.2, "filter_time": 2.0,
                "gap": 0.1, "gap_gain": 0.4, "rate_limit": 3.0, "anti_windup": "conditional", "tracking_time": 20.0,
                "output_limits": { "low": 20.0, "high": 70.0 },
                "schedule": { "over": "error", "points": [
                    { "at": 0.0, "gain_factor": 0.8, "time_factor": 1.0 },
                    { "at": 5.0, "gain_factor": 1.3, "time_factor": 0.9 } ] },
                "feed_forward": { "signal": "load", "gain": -0.8, "lead": 4.0, "lag": 9.0, "delay": 3.0 } });
            trial(plant(fopdt(), json!({ "sensor": noisy.clone() })), with(controller), steps())
        }),
        ("pid-velocity", {
            let controller = json!({ "kind": "pid", "gain": 1.6, "integral_time": 45.0, "derivative_time": 5.0,
                "algorithm": "velocity" });
            trial(plain(), with(controller), steps())
        }),
        ("smith", {
            let controller = json!({ "kind": "smith", "pid": { "gain": 3.0, "integral_time": 38.0 }, "filter_time": 1.0,
                "model": { "structure": "fopdt", "gain": 1.3, "time_constant": 38.0, "dead_time": 7.0 } });
            trial(plain(), with(controller), steps())
        }),
        ("cascade", {
            let process = json!({ "structure": "transfer_functions",
                "inputs": [named("steam", "%", 40.0)], "outputs": [named("outlet", "°C", 60.0), named("jacket", "°C", 90.0)],
                "elements": [
                    { "output": "outlet", "input": "steam", "numerator": [0.9], "denominator": [480.0, 68.0, 1.0], "dead_time": 4.0 },
                    { "output": "jacket", "input": "steam", "numerator": [1.6], "denominator": [8.0, 1.0] } ] });
            let controller = json!({ "kind": "cascade", "outer": { "gain": 1.5, "integral_time": 50.0 },
                "inner": { "gain": 2.0, "integral_time": 8.0 }, "signal": "jacket",
                "span": { "low": 0.0, "high": 200.0, "unit": "°C" } });
            trial(plant(process, json!({})), with(controller), steps())
        }),
        ("model-reference", {
            let controller = json!({ "kind": "model_reference", "reference_time_constant": 40.0, "learning_gain": 0.02,
                "normalised": true, "start": { "set_point": 0.5, "measurement": -0.3 } });
            let moves: Vec<Value> = (0..8)
                .map(|k| json!({ "kind": "set_point_step", "at": 20.0 + 110.0 * f64::from(k), "by": if k % 2 == 0 { 6.0 } else { -6.0 } }))
                .collect();
            let lag = json!({ "structure": "fopdt", "gain": 1.4, "time_constant": 40.0, "dead_time": 0.0 });
            trial(plant(lag, json!({})), with(controller), json!(moves))
        }),
        ("self-tuning", {
            let controller = json!({ "kind": "self_tuning", "dead_time": 6.0, "identification_time": 300.0, "amplitude": 4.0,
                "clock": 15.0, "closed_loop_time_constant": 20.0 });
            trial(plain(), with(controller), json!([{ "kind": "set_point_step", "at": 450.0, "by": 6.0 }]))
        }),
        ("relay", {
            let controller = json!({ "kind": "relay", "amplitude": 6.0, "hysteresis": 0.1 });
            trial(plain(), with(controller), json!([]))
        }),
        ("ratio-and-modes", {
            let mut candidate = with(pi());
            candidate["ratio"] = json!({ "signal": "load", "ratio": 0.2 });
            candidate["set_point_tracking"] = json!(true);
            let events = json!([
                { "kind": "set_point_ramp", "at": 20.0, "by": 5.0, "over": 60.0 },
                { "kind": "load_ramp", "at": 100.0, "by": 6.0, "over": 40.0 },
                { "kind": "to_manual", "at": 220.0 },
                { "kind": "output_step", "at": 260.0, "by": 5.0 },
                { "kind": "to_automatic", "at": 420.0 },
                { "kind": "set_point_profile", "at": 520.0, "points": [[40.0, 66.0], [90.0, 63.0], [200.0, 64.5]] },
            ]);
            trial(plain(), candidate, events)
        }),
        ("loads-and-faults", {
            let events = json!([
                { "kind": "load_pulse", "at": 30.0, "by": 5.0, "lasts": 60.0 },
                { "kind": "load_sine", "at": 100.0, "by": 3.0, "period": 80.0, "lasts": 240.0 },
                { "kind": "load_walk", "at": 350.0, "by": 20.0 },
                { "kind": "load_channel", "at": 500.0, "tag": "FI-3.PV", "interval": 25.0, "values": [0.0, 2.0, -1.0, 3.0, 0.5] },
                { "kind": "valve_sticks", "at": 620.0, "lasts": 60.0 },
                { "kind": "valve_fails", "at": 720.0, "lasts": 15.0 },
                { "kind": "sensor_fails", "at": 800.0, "lasts": 30.0, "how": "high" },
            ]);
            trial(plant(fopdt(), json!({ "actuator": valve.clone(), "sensor": noisy.clone() })), with(pi()), events)
        }),
        ("four-tanks", {
            let more = json!({
                "pv": { "tag": "LIC-2.PV", "span": { "low": 0.0, "high": 20.0, "unit": "cm" } },
                "operating_point": { "pv": 12.0, "op": 30.0 },
                "measured": "level_2",
                "drive": { "input": "pump_2", "at_0": 0.0, "at_100": 10.0 },
            });
            let events = json!([{ "kind": "set_point_step", "at": 30.0, "by": 1.0 },
                { "kind": "load_step", "at": 300.0, "by": 0.3, "input": "pump_1" },
                { "kind": "parameter_change", "at": 500.0, "parameter": "outlet_even", "to": 0.06, "over": 100.0 }]);
            trial(plant(four, more), with(pi()), events)
        }),
        ("state-space", {
            let process = json!({ "structure": "state_space", "inputs": [named("heat", "kW", 40.0)],
                "outputs": [named("inside", "°C", 60.0)], "a": [[-0.05, 0.02], [0.01, -0.03]], "b": [[0.06], [0.0]],
                "c": [[0.4, 0.6]], "dead_times": [3.7] });
            trial(plant(process, json!({ "actuator": { "kind": "power_stage", "cycle": 6.0 } })), with(pi()), steps())
        }),
        ("stirred-reactor", {
            let process = json!({ "structure": "library", "process": "stirred_reactor", "parameters": {} });
            let more = json!({ "pv": { "tag": "TIC-3.PV", "span": { "low": 0.0, "high": 125.0, "unit": "°C" } },
                "operating_point": { "pv": 77.0, "op": 50.0 } });
            let controller = json!({ "kind": "pid", "gain": 1.0, "integral_time": 60.0, "action": "reverse" });
            let mut short = trial(
                plant(process, more),
                with(controller),
                json!([{ "kind": "set_point_step", "at": 12.0, "by": 1.5 }]),
            );
            short["scenario"]["duration"] = json!(240.0);
            short
        }),
    ]
}
