//! Loops around tanks, heaters and reactors: against an outside integrator, analytic solutions and conservation laws.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::assessment::{assess, trial_margins};
use antistasis_core::controller::{Action, ControllerSpec, PidSettings};
use antistasis_core::instrument::{ActuatorSpec, Characteristic, Failure, Noise, SensorSpec, ValveSpec};
use antistasis_core::process::{
    DetailedSpec, Element, LinearSpec, NamedValue, ProcessSpec, TransferFunctionsSpec, catalogue,
};
use antistasis_core::simulation::{
    Axis, Candidate, ColumnRole, Drive, Event, OperatingPoint, Plant, Scenario, Signal, Simulation, Sweep,
    TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::units::Span;
use std::collections::BTreeMap;

/// Made by `reference/nonlinear.py` with SciPy's `solve_ivp`.
const REFERENCE: &str = include_str!("../../../reference/data/nonlinear.json");

fn plant(process: impl Into<ProcessSpec>, span: [f64; 2], point: OperatingPoint) -> Plant {
    let signal = |tag: &str, span| Signal { tag: tag.to_owned(), span };
    let process = process.into();
    let unit = process.describe("").map_or(String::new(), |description| description.outputs[0].unit.clone());
    let (pv, op) =
        (signal("XIC-1.PV", Span::new(span[0], span[1], &unit)), signal("XIC-1.OP", Span::new(0.0, 100.0, "%")));
    Plant::plain(process, pv, op, point)
}

fn trial(plant: Plant, controller: ControllerSpec, scan: f64, duration: f64, events: Vec<Event>) -> Trial {
    let scenario = Scenario { duration, scan, seed: 1, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(controller), scenario }
}

fn manual(plant: Plant, scan: f64, duration: f64, events: Vec<Event>) -> Trial {
    trial(plant, ControllerSpec::Manual, scan, duration, events)
}

fn from_states(op: f64, states: &[(&str, f64)]) -> OperatingPoint {
    let states = states.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect();
    OperatingPoint { states: Some(states), ..OperatingPoint::new(0.0, op) }
}

fn pv(trace: &Trace) -> &[f64] {
    trace.values(ColumnRole::ProcessVariable)
}

fn column<'a>(trace: &'a Trace, tag: &str) -> &'a [f64] {
    &trace.columns.iter().find(|column| column.tag == tag).unwrap_or_else(|| panic!("no {tag}")).values
}

fn load_on(input: &str, at: f64, by: f64) -> Event {
    Event::LoadStep { at, by, input: Some(input.to_owned()) }
}

#[test]
fn nonlinear_loops_agree_with_an_outside_integrator() {
    let cases: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
    for entry in cases.as_array().unwrap() {
        let case = &entry["case"];
        let number = |name: &str| case[name].as_f64().unwrap();
        let pair = |name: &str| [case[name][0].as_f64().unwrap(), case[name][1].as_f64().unwrap()];
        let name = case["process"].as_str().unwrap();
        let mut plant = plant(
            ProcessSpec::library(name, &[]),
            [number("low"), number("high")],
            OperatingPoint::new(number("pv"), entry["op"].as_f64().unwrap()),
        );
        let input = catalogue().into_iter().find(|process| process.name == name).unwrap().drive.input;
        let [at_0, at_100] = pair("drive");
        plant.drive = Some(Drive { input, at_0, at_100 });
        let [step_at, step] = pair("step");
        let load = &case["load"];
        let events = vec![
            Event::set_point(step_at, step),
            load_on(load[2].as_str().unwrap(), load[0].as_f64().unwrap(), load[3].as_f64().unwrap()),
        ];
        let controller = ControllerSpec::Pid(PidSettings::pi(number("gain"), number("integral")));
        let duration = number("scan") * (number("rows") - 1.0);
        let trace = trial(plant, controller, number("scan"), duration, events).run().unwrap();
        assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
        for row in entry["trace"].as_array().unwrap() {
            let value = |k: usize| row[k].as_f64().unwrap();
            let k = (value(0) / trace.scan).round() as usize;
            let (found, output) = (pv(&trace)[k], trace.values(ColumnRole::Output)[k]);
            assert!((found / value(1) - 1.0).abs() < 1e-5, "{name} at {} s: {found} is not {}", value(0), value(1));
            assert!((output - value(2)).abs() < 1e-3, "{name} at {} s: OP {output} is not {}", value(0), value(2));
        }
    }
}

#[test]
fn every_process_conserves_under_random_parameters_and_inputs() {
    for description in catalogue() {
        for seed in 0..4 {
            let mut noise = Noise::new(&description.name, seed);
            let mut about = |value: f64, low: f64, high: f64, share: f64| {
                (value * (1.0 + share * (2.0 * noise.uniform() - 1.0))).clamp(low, high)
            };
            let whole = ["tanks", "cells"];
            let parameters: Vec<(&str, f64)> = description
                .parameters
                .iter()
                .filter(|parameter| !whole.contains(&parameter.name.as_str()))
                .map(|q| (q.name.as_str(), about(q.value, q.low, q.high, 0.15)))
                .collect();
            let process = ProcessSpec::library(&description.name, &parameters);
            let states: Vec<(String, f64)> = process
                .describe("")
                .unwrap()
                .states
                .iter()
                .map(|q| (q.name.clone(), about(q.value, q.low, q.high, 0.3)))
                .collect();
            let states: Vec<(&str, f64)> = states.iter().map(|(name, value)| (name.as_str(), *value)).collect();
            let mut plant = plant(process, [0.0, 100.0], from_states(45.0, &states));
            plant.inputs =
                description.inputs.iter().map(|q| (q.name.clone(), about(q.value, q.low, q.high, 0.3))).collect();
            let events = vec![
                Event::OutputStep { at: 100.0, by: about(20.0, 5.0, 40.0, 1.0) },
                Event::LoadSine { at: 50.0, by: 5.0, period: 300.0, lasts: None, input: None },
                Event::OutputStep { at: 900.0, by: -40.0 },
            ];
            let trial = manual(plant, 5.0, 1800.0, events);
            let trace = Simulation::with_balances(&trial).unwrap().run();
            assert!(trace.stopped.is_none(), "{} {:?}", description.name, trace.stopped);
            assert_eq!(trace.balances.len(), description.balances.len());
            for balance in &trace.balances {
                assert!(balance.closure < 1e-6, "{} {seed}: {balance:?}", description.name);
            }
        }
    }
}

#[test]
fn a_tank_that_drains_by_gravity_follows_torricelli_and_runs_dry_when_it_must() {
    // √V falls by the straight line k t/2 until there is nothing: V(t) = (√V0 − k t/2)² with k = C a √(2g/A) (exact
    // mathematics).
    let (area, outlet, volume): (f64, f64, f64) = (6.0, 20e-4, 12.0);
    let k = 0.62 * outlet * (2.0 * 9.81 / area).sqrt();
    let mut plant =
        plant(ProcessSpec::library("upright_tank", &[]), [0.0, 4.0], from_states(0.0, &[("volume", volume)]));
    plant.inputs = BTreeMap::from([("inflow".to_owned(), 0.0)]);
    let empty = 2.0 * volume.sqrt() / k;
    let trace = manual(plant, 10.0, 2.0 * empty, vec![]).run().unwrap();
    for (row, level) in pv(&trace).iter().enumerate() {
        let left = (volume.sqrt() - 0.5 * k * trace.time(row)).max(0.0);
        assert!((level - left * left / area).abs() < 1e-6, "{row}");
    }
    assert_eq!(trace.happenings.len(), 1);
    assert!(trace.happenings[0].text == "the tank runs dry" && (trace.happenings[0].at / empty - 1.0).abs() < 1e-3);
}

#[test]
fn a_pumped_tank_spills_at_its_rim_and_delivers_no_more_than_it_gets_when_dry() {
    let point = from_states(0.0, &[("volume", 20.0)]);
    let mut plant = plant(ProcessSpec::library("pumped_tank", &[]), [0.0, 4.0], point);
    plant.inputs = BTreeMap::from([("inflow".to_owned(), 36.0)]);
    // 4 m³ to the rim at 36 m³/h take 400 s; from 1000 s on 76 m³/h more leave than come, 24 m³ take 24/(40 − 36) h … so
    // the inflow stops instead.
    let events = vec![load_on("inflow", 1000.0, -36.0), Event::OutputStep { at: 1000.0, by: 100.0 }];
    let trial = manual(plant, 7.0, 4200.0, events);
    let trace = Simulation::with_balances(&trial).unwrap().run();
    let told: Vec<(&str, f64)> = trace.happenings.iter().map(|h| (h.text.as_str(), h.at)).collect();
    assert_eq!(told.iter().map(|t| t.0).collect::<Vec<_>>(), ["the tank spills over its rim", "the tank runs dry"]);
    // The pump draws 40 m³/h from the first scan at or after 1000 s, which is at 1001 s.
    assert!((told[0].1 - 400.0).abs() < 1e-6 && (told[1].1 - (1001.0 + 24.0 / 40.0 * 3600.0)).abs() < 1e-6, "{told:?}");
    let spilt = &trace.balances[0].terms[2];
    assert!((spilt.amount + 600.0 * 0.01).abs() < 1e-6, "{spilt:?}");
    assert!(column(&trace, "actual_outflow").last().unwrap().abs() < 1e-12 && *pv(&trace).last().unwrap() == 0.0);
    assert!(trace.balances[0].closure < 1e-9);
}

#[test]
fn the_peak_of_the_second_tank_is_proportional_to_what_was_in_the_first() {
    // V1' = −k1 √V1, V2' = k1 √V1 − k2 √V2 is unchanged by V → λV, t → √λ t; with k2/k1 = 1.2 the peak of V2 is 0.24884 of
    // the initial V1 (computed with SciPy).
    let peak = |volume: f64| {
        let outlets = [("outlet_area", 10.0), ("last_outlet_area", 12.0)];
        let point = from_states(0.0, &[("volume_1", volume), ("volume_2", 0.0)]);
        let plant = plant(ProcessSpec::library("tanks_in_series", &outlets), [0.0, 3.0], point);
        let trace = manual(plant, 0.5, 3000.0, vec![]).run().unwrap();
        pv(&trace).iter().copied().fold(0.0, f64::max) * 1.5 / volume
    };
    for volume in [0.3, 1.0, 4.0] {
        assert!((peak(volume) - 0.24884).abs() < 1e-5, "{volume} {}", peak(volume));
    }
}

#[test]
fn dead_time_of_a_pipe_before_the_sensor_is_exact() {
    // The same lag with the dead time in the process, and in the sensor: 2.37 scans either way.
    let lag = |dead_time| LinearSpec::Fopdt { gain: 1.5, time_constant: 20.0, dead_time };
    let events = vec![Event::set_point(10.0, 8.0), Event::load(60.3, -5.0)];
    let controller = ControllerSpec::Pid(PidSettings::pi(1.2, 15.0));
    let run = |in_process: f64, in_sensor: f64| {
        let mut plant = plant(lag(in_process), [0.0, 200.0], OperatingPoint::new(60.0, 40.0));
        plant.sensor.dead_time = in_sensor;
        trial(plant, controller.clone(), 1.0, 150.0, events.clone()).run().unwrap()
    };
    let (process, sensor) = (run(2.37, 0.0), run(0.0, 2.37));
    for (a, b) in pv(&process).iter().zip(pv(&sensor)) {
        assert!((a - b).abs() < 1e-9, "{a} {b}");
    }
    // And around a process that is integrated step by step: the heater with a pipe run equals itself, measured later.
    let mut heater = plant(ProcessSpec::library("two_bodies", &[]), [0.0, 150.0], OperatingPoint::new(50.0, 20.0));
    let step = vec![Event::OutputStep { at: 20.0, by: 10.0 }];
    let prompt = manual(heater.clone(), 1.0, 200.0, step.clone()).run().unwrap();
    heater.sensor.dead_time = 3.0;
    let late = manual(heater.clone(), 1.0, 200.0, step.clone()).run().unwrap();
    heater.sensor.dead_time = 2.4;
    let between = manual(heater, 1.0, 200.0, step).run().unwrap();
    for k in 3..200 {
        assert!((pv(&late)[k] - pv(&prompt)[k - 3]).abs() < 1e-7);
        // Between the scans the curve bends by little: within the second difference of its neighbours.
        let (a, b) = (pv(&prompt)[k - 3], pv(&prompt)[k - 2]);
        assert!((pv(&between)[k] - (a + 0.6 * (b - a))).abs() < 0.02, "{k}");
    }
}

#[test]
fn a_sensor_lags_the_same_on_linear_and_other_processes() {
    // The lag of a linear process goes into its matrices, exactly; on others it is integrated.
    let gain = 1.5;
    let linear = LinearSpec::Fopdt { gain, time_constant: 20.0, dead_time: 0.0 };
    let own: ProcessSpec = serde_json::from_value(serde_json::json!({
        "structure": "equations",
        "states": [{"name": "y", "value": 60.0}],
        "inputs": [{"name": "u", "value": 40.0}],
        "rates": [{"name": "y", "equals": "(1.5 * u - y) / 20"}],
        "outputs": [{"name": "y", "equals": "y"}],
    }))
    .unwrap();
    for damping in [None, Some(0.5), Some(1.5)] {
        let run = |process: ProcessSpec| {
            let mut plant = plant(process, [0.0, 200.0], OperatingPoint::new(60.0, 40.0));
            plant.sensor = SensorSpec { time_constant: 6.0, damping, ..SensorSpec::default() };
            manual(plant, 1.0, 120.0, vec![Event::OutputStep { at: 5.0, by: 10.0 }]).run().unwrap()
        };
        for (a, b) in pv(&run(linear.clone().into())).iter().zip(pv(&run(own.clone()))) {
            assert!((a - b).abs() < 1e-5, "{damping:?}: {a} {b}");
        }
    }
}

#[test]
fn ramps_sines_and_valve_strokes_act_as_they_are_drawn() {
    // A ramp on a lag, and a valve that opens over 30 s: the response of the lag to a ramp is analytic.
    let tau = 20.0;
    let lag = LinearSpec::Fopdt { gain: 2.0, time_constant: tau, dead_time: 4.3 };
    let base = plant(lag, [0.0, 200.0], OperatingPoint::new(60.0, 40.0));
    let ramp = Event::LoadRamp { at: 10.4, by: 6.0, over: 30.0, input: None };
    let ramped = manual(base.clone(), 1.0, 100.0, vec![ramp]).run().unwrap();
    let response = |since: f64| if since > 0.0 { since - tau + tau * (-since / tau).exp() } else { 0.0 };
    let mut stroked = base;
    stroked.actuator = ActuatorSpec::Valve(ValveSpec { stroke_time: 500.0, ..ValveSpec::default() });
    let moved = manual(stroked, 1.0, 100.0, vec![Event::OutputStep { at: 10.0, by: 6.0 }]).run().unwrap();
    for k in 0..=100 {
        let exact = |from: f64| 60.0 + 2.0 * 0.2 * (response(k as f64 - from) - response(k as f64 - from - 30.0));
        assert!((pv(&ramped)[k] - exact(14.7)).abs() < 1e-9, "{k}");
        assert!((pv(&moved)[k] - exact(14.3)).abs() < 1e-9, "{k}");
    }
    assert!((column(&moved, "position")[25] - 43.0).abs() < 1e-9);
}

#[test]
fn a_curved_valve_on_a_linear_process_is_integrated_to_tolerance() {
    // During a stroke the flow follows the characteristic; a stroke in no time is exact, and a short one comes close to it.
    let lag = LinearSpec::Fopdt { gain: 1.0, time_constant: 50.0, dead_time: 0.0 };
    let run = |stroke_time: f64| {
        let mut plant = plant(lag.clone(), [0.0, 100.0], OperatingPoint::new(30.0, 50.0));
        let characteristic = Characteristic::EqualPercentage { rangeability: 50.0 };
        plant.actuator = ActuatorSpec::Valve(ValveSpec { characteristic, stroke_time, ..ValveSpec::default() });
        manual(plant, 1.0, 200.0, vec![Event::OutputStep { at: 10.0, by: 20.0 }]).run().unwrap()
    };
    let (prompt, quick) = (run(0.0), run(0.01));
    let effect = |x: f64| 100.0 * 50f64.powf(x / 100.0 - 1.0);
    let last = 30.0 + (effect(70.0) - effect(50.0)) * (1.0 - (-190.0f64 / 50.0).exp());
    assert!((pv(&prompt)[200] - last).abs() < 1e-9 && (pv(&quick)[200] - last).abs() < 1e-3);
}

#[test]
fn several_inputs_and_outputs_each_with_its_own_dead_time() {
    let named =
        |name: &str, value: f64| NamedValue { name: name.into(), unit: "%".into(), value, low: None, high: None };
    let element = |output: &str, input: &str, gain: f64, tau: f64, dead_time: f64| Element {
        output: output.into(),
        input: input.into(),
        numerator: vec![gain],
        denominator: vec![tau, 1.0],
        dead_time,
    };
    let spec = TransferFunctionsSpec {
        inputs: vec![named("reflux", 30.0), named("steam", 40.0)],
        outputs: vec![named("top", 96.0), named("bottom", 0.5)],
        elements: vec![
            // Wood & Berry, Chem. Eng. Sci. 28, 1973: the distillation column, its times in minutes taken as seconds.
            element("top", "reflux", 12.8, 16.7, 1.0),
            element("top", "steam", -18.9, 21.0, 3.0),
            element("bottom", "reflux", 6.6, 10.9, 7.0),
            element("bottom", "steam", -19.4, 14.4, 3.0),
        ],
    };
    let plant = plant(DetailedSpec::TransferFunctions(spec), [0.0, 200.0], OperatingPoint::new(96.0, 30.0));
    let events = vec![Event::OutputStep { at: 2.0, by: 0.5 }, load_on("steam", 20.25, 0.2)];
    let trace = manual(plant, 1.0, 60.0, events).run().unwrap();
    let lag = |k: usize, from: f64, tau: f64| {
        let since = k as f64 - from;
        if since > 0.0 { 1.0 - (-since / tau).exp() } else { 0.0 }
    };
    for k in 0..=60 {
        let top = 96.0 + 0.5 * 12.8 * lag(k, 3.0, 16.7) - 0.2 * 18.9 * lag(k, 23.25, 21.0);
        let bottom = 0.5 + 0.5 * 6.6 * lag(k, 9.0, 10.9) - 0.2 * 19.4 * lag(k, 23.25, 14.4);
        assert!((pv(&trace)[k] - top).abs() < 1e-9 && (column(&trace, "bottom")[k] - bottom).abs() < 1e-9, "{k}");
    }
    assert_eq!(*column(&trace, "steam").last().unwrap(), 40.2);
}

#[test]
fn parameters_change_in_mid_run() {
    // Fouling: at once, and over a time; in the end both rest where the smaller transfer has it.
    let fouled = |over: f64| {
        let plant = plant(ProcessSpec::library("stirred_heater", &[]), [0.0, 150.0], OperatingPoint::new(70.0, 40.0));
        let change = Event::ParameterChange { at: 100.5, parameter: "loss".into(), to: 1.0, over };
        manual(plant, 2.0, 4000.0, vec![change]).run().unwrap()
    };
    let (step, ramp) = (fouled(0.0), fouled(1000.0));
    assert!(
        (pv(&step)[50] - 70.0).abs() < 1e-6 && (pv(&step).last().unwrap() - pv(&ramp).last().unwrap()).abs() < 1e-3
    );
    assert!(pv(&step)[200] < pv(&ramp)[200] - 0.5);
    let linear = plant(
        LinearSpec::Fopdt { gain: 1.0, time_constant: 9.0, dead_time: 2.0 },
        [0.0, 100.0],
        OperatingPoint::new(50.0, 50.0),
    );
    let events = vec![
        Event::OutputStep { at: 0.0, by: 10.0 },
        Event::ParameterChange { at: 200.0, parameter: "gain".into(), to: 1.5, over: 0.0 },
    ];
    let trace = manual(linear.clone(), 1.0, 400.0, events).run().unwrap();
    assert!((pv(&trace)[199] - 60.0).abs() < 1e-6 && (pv(&trace)[400] - 65.0).abs() < 1e-6);
    let change = Event::ParameterChange { at: 1.0, parameter: "dead_time".into(), to: 3.0, over: 0.0 };
    let stopped = manual(linear, 1.0, 10.0, vec![change]).run().unwrap().stopped.unwrap();
    assert!(stopped.text.contains("any but the dead time"), "{stopped:?}");
}

#[test]
fn faults_and_modes_do_what_they_say() {
    let lag = LinearSpec::Fopdt { gain: 1.0, time_constant: 10.0, dead_time: 0.0 };
    let mut plant = plant(lag, [0.0, 100.0], OperatingPoint::new(50.0, 50.0));
    plant.actuator = ActuatorSpec::Valve(ValveSpec::default());
    let events = vec![
        Event::ToManual { at: 20.0 },
        Event::OutputStep { at: 30.0, by: 5.0 },
        Event::ToAutomatic { at: 60.0 },
        Event::ValveSticks { at: 200.0, lasts: 100.0 },
        Event::set_point(210.0, 10.0),
        Event::ValveFails { at: 400.0, lasts: 20.0 },
        Event::SensorFails { at: 600.0, lasts: 50.0, how: Failure::High, signal: None },
    ];
    let controller = ControllerSpec::Pid(PidSettings::pi(1.0, 10.0));
    let trial = trial(plant, controller, 1.0, 900.0, events);
    let trace = trial.run().unwrap();
    let (op, position) = (trace.values(ColumnRole::Output), column(&trace, "position"));
    assert!((op[25] - 50.0).abs() < 1e-9 && (op[59] - 55.0).abs() < 1e-9);
    // Back in automatic without a bump, then home to the set point.
    assert!((op[60] - op[59]).abs() < 0.6 && (pv(&trace)[190] - 50.0).abs() < 0.1);
    assert!(position[299] == position[201] && op[299] > op[201] + 5.0);
    assert_eq!(position[410], 0.0);
    assert_eq!(pv(&trace)[610], 100.0);
    assert!(column(&trace, "true value")[649] < 40.0 && (pv(&trace)[900] - 60.0).abs() < 0.1);
    // The same trial gives the same trace, bit for bit.
    assert_eq!(trace, trial.run().unwrap());
}

#[test]
fn a_runaway_stops_the_trial_and_keeps_the_trace() {
    // No reaction can be held without cooling: the made-up reactor ignites beyond what its states may be.
    let hot = [("reaction_heat", 1e5)];
    let point = from_states(50.0, &[("concentration", 0.9), ("temperature", 70.0)]);
    let plant = plant(ProcessSpec::library("stirred_reactor", &hot), [0.0, 200.0], point);
    let trial = manual(plant, 1.0, 3600.0, vec![]);
    let trace = trial.run().unwrap();
    let stopped = trace.stopped.clone().unwrap();
    assert!(stopped.text.contains("temperature has left the range of −50 to 400 °C"), "{stopped:?}");
    assert!(trace.len() > 2 && (trace.time(trace.len() - 1) - stopped.at).abs() < 1e-9, "{stopped:?}");
    let verdict = &assess(&trial, &trace).unwrap().verdicts[0];
    assert!(verdict.text.starts_with("Stopped at") && verdict.text.contains("runs away"), "{verdict:?}");
}

#[test]
fn a_division_by_zero_in_mid_run_stops_the_trial_where_it_happens() {
    let own: ProcessSpec = serde_json::from_value(serde_json::json!({
        "structure": "equations",
        "states": [{"name": "level", "value": 1.0}],
        "inputs": [{"name": "outflow", "value": 0.0}],
        "rates": [{"name": "level", "equals": "-0.1 + 0 / max(level, 0)"}],
        "outputs": [{"name": "level", "equals": "level"}],
    }))
    .unwrap();
    let trace = manual(plant(own, [0.0, 2.0], from_states(0.0, &[])), 1.0, 60.0, vec![]).run().unwrap();
    let stopped = trace.stopped.unwrap();
    assert!((9.0..=11.0).contains(&stopped.at), "{stopped:?}");
    assert!(
        stopped.text.contains("the rate of level stops being a number beyond level =")
            && stopped.text.contains("division by zero"),
        "{stopped:?}"
    );
}

#[test]
fn an_input_that_cannot_be_stops_the_trial() {
    let plant = plant(ProcessSpec::library("mixing_tank", &[]), [0.0, 100.0], OperatingPoint::new(41.0, 40.0));
    let trace = manual(plant, 1.0, 100.0, vec![load_on("cold_flow", 50.0, -9.0)]).run().unwrap();
    let stopped = trace.stopped.unwrap();
    assert!(
        stopped.at == 50.0 && stopped.text.starts_with("the cold flow is −1 m³/h: it can be from 0 to"),
        "{stopped:?}"
    );
}

#[test]
fn what_cannot_rest_there_says_what_it_would_need() {
    let refused = |name: &str, pv: f64| {
        let plant = plant(ProcessSpec::library(name, &[]), [0.0, 300.0], OperatingPoint::new(pv, 40.0));
        manual(plant, 1.0, 100.0, vec![]).run().unwrap_err().to_string()
    };
    let hot = refused("stirred_heater", 130.0);
    assert!(
        hot.contains("PV of the operating point is 130")
            && hot.contains("needs power = ")
            && hot.contains("gives 0 to 600"),
        "{hot}"
    );
}

#[test]
fn margins_of_a_reactor_held_at_its_unstable_steady_state() {
    // The open loop has one pole in the right half plane; only a strong enough controller holds it. The stated gain margin is
    // where the simulated loop goes unstable, and so is the lower one by construction of the unstable middle state.
    let controlled = |gain: f64| {
        let mut plant =
            plant(ProcessSpec::library("stirred_reactor", &[]), [0.0, 150.0], OperatingPoint::new(76.85, 50.0));
        plant.drive = Some(Drive { input: "coolant_temperature".into(), at_0: 0.0, at_100: 60.0 });
        let pid = PidSettings { action: Action::Reverse, ..PidSettings::pi(gain, 200.0) };
        trial(plant, ControllerSpec::Pid(pid), 1.0, 3000.0, vec![load_on("feed_temperature", 10.0, 0.01)])
    };
    let settled = |trial: &Trial| {
        let trace = trial.run().unwrap();
        trace.stopped.is_none() && pv(&trace)[2000..].iter().all(|value| (value - 76.85).abs() < 0.05)
    };
    let good = controlled(8.0);
    let margins = trial_margins(&good).unwrap().unwrap();
    assert!(margins.stable && settled(&good), "{margins:?}");
    let limit = margins.gain_margin.unwrap();
    assert!(settled(&controlled(8.0 * limit * 0.97)) && !settled(&controlled(8.0 * limit * 1.03)), "{limit}");
    let weak = controlled(0.5);
    assert!(!trial_margins(&weak).unwrap().unwrap().stable && !settled(&weak));
}

#[test]
fn a_sweep_gives_every_trial_in_order_and_can_be_stopped() {
    let plant = plant(ProcessSpec::library("stirred_heater", &[]), [0.0, 150.0], OperatingPoint::new(70.0, 40.0));
    let controller = ControllerSpec::Pid(PidSettings::pi(1.0, 100.0));
    let trial = trial(plant, controller, 2.0, 600.0, vec![Event::set_point(20.0, 5.0)]);
    let axis = |pointer: &str, from, to, by_ratio| Axis { pointer: pointer.into(), from, to, count: 3, by_ratio };
    let sweep = Sweep {
        axes: vec![
            axis("/candidate/controller/gain", 0.5, 2.0, true),
            axis("/plant/process/parameters/holdup", 200.0, -200.0, false),
        ],
        trial: trial.clone(),
    };
    let iae = |trial: &Trial, trace: &Trace| Ok((assess(trial, trace)?.metrics.integral_absolute_error, trace.len()));
    let points = sweep.run(2, iae, |_| true).unwrap().unwrap();
    let values: Vec<_> = points.iter().map(|point| point.values.clone()).collect();
    assert_eq!(values[..4], [vec![0.5, 200.0], vec![0.5, 0.0], vec![0.5, -200.0], vec![1.0, 200.0]]);
    // What is refused says why, and does not stop the rest.
    assert!(points[1].refusal.as_ref().unwrap().contains("holdup of the process is 0 kg"), "{:?}", points[1]);
    let alone = trial.with_number("/candidate/controller/gain", 1.0).unwrap();
    let alone = alone.with_number("/plant/process/parameters/holdup", 200.0).unwrap();
    assert_eq!(points[3].outcome, Some(iae(&alone, &alone.run().unwrap()).unwrap()));
    assert!(sweep.run(2, iae, |done| done < 2).unwrap().is_none());
    let nowhere = trial.with_number("/candidate/controller/kind", 1.0).unwrap_err().to_string();
    assert!(nowhere.contains("the place of a number in the trial"), "{nowhere}");
}

#[test]
fn what_is_felt_directly_is_measured_as_the_scan_before_left_it() {
    // A stroke of 4 s takes 0.4 s for 10 %: a scan later the flow has arrived, and the feed-through shows it in full.
    let plant = Plant {
        measured: Some("product_flow".into()),
        actuator: ActuatorSpec::Valve(ValveSpec { stroke_time: 4.0, ..ValveSpec::default() }),
        ..plant(ProcessSpec::library("blending_tank", &[]), [0.0, 60.0], OperatingPoint::new(12.0, 40.0))
    };
    let plant = Plant { pv: Signal { span: Span::new(0.0, 60.0, "m³/h"), ..plant.pv.clone() }, ..plant };
    let trial = manual(plant, 1.0, 20.0, vec![Event::OutputStep { at: 5.0, by: 10.0 }]);
    let trace = Simulation::with_balances(&trial).unwrap().run();
    for (k, value) in pv(&trace).iter().enumerate() {
        let expected = if k <= 5 { 12.0 } else { 13.5 };
        assert!((value - expected).abs() < 1e-9, "{k}: {value}");
    }
    // The terms of the balances stand at the beginning of their scan, the flow of a moving valve not run on beyond its end.
    let inflow = trace.columns.iter().find(|column| column.role == ColumnRole::BalanceTerm).unwrap();
    assert!(inflow.values.windows(2).filter(|pair| pair[0] != pair[1]).count() == 1, "{:?}", inflow.values);
}

#[test]
fn what_is_stored_adds_up_to_the_gain_in_contents() {
    let heater = plant(ProcessSpec::library("stirred_heater", &[]), [0.0, 60.0], OperatingPoint::new(40.0, 40.0));
    let trial = manual(heater, 1.0, 4000.0, vec![Event::OutputStep { at: 5.0, by: 10.0 }]);
    let trace = Simulation::with_balances(&trial).unwrap().run();
    assert!(!trace.balances.is_empty());
    for sheet in &trace.balances {
        let tag = format!("{}: stored", sheet.name);
        let stored = &trace.columns.iter().find(|column| column.tag == tag).unwrap().values;
        let throughput: f64 = sheet.terms.iter().map(|term| term.amount.abs()).sum::<f64>() / 2.0;
        // By trapezoids from the step on: nothing is stored before it.
        let sum: f64 = stored[5..].windows(2).map(|pair| 0.5 * (pair[0] + pair[1])).sum();
        assert!(stored[0].abs() < 1e-9 * throughput, "{tag} at rest: {}", stored[0]);
        assert!((sum - (sheet.at_end - sheet.at_start)).abs() < 1e-5 * throughput, "{tag}: {sum} {sheet:?}");
    }
}

#[test]
fn a_channel_of_a_record_acts_as_the_ramps_that_it_is_made_of() {
    // Weather on a heated hall: samples joined straight are ramps, one after the other.
    let hall = || plant(ProcessSpec::library("heated_hall", &[]), [0.0, 50.0], OperatingPoint::new(20.0, 40.0));
    let samples = [5.0, 8.0, 7.0, 2.0];
    let input = Some("outdoor_temperature".to_owned());
    let follow = Event::LoadChannel {
        at: 600.0,
        tag: "WEATHER".into(),
        interval: 1800.0,
        values: samples.to_vec(),
        unit: None,
        input: input.clone(),
    };
    let ramps = samples.windows(2).enumerate().map(|(k, pair)| Event::LoadRamp {
        at: 600.0 + 1800.0 * k as f64,
        by: pair[1] - pair[0],
        over: 1800.0,
        input: input.clone(),
    });
    let run = |events: Vec<Event>| manual(hall(), 60.0, 10_800.0, events).run().unwrap();
    let (followed, ramped) = (run(vec![follow]), run(ramps.collect()));
    for (a, b) in pv(&followed).iter().zip(pv(&ramped)) {
        assert!((a - b).abs() < 1e-7, "{a} {b}");
    }
    assert!((column(&followed, "outdoor_temperature").last().unwrap() - 2.0).abs() < 1e-12);
}

#[test]
fn the_trail_says_what_happens_besides_and_what_no_longer_does() {
    let hall = plant(ProcessSpec::library("heated_hall", &[]), [0.0, 50.0], OperatingPoint::new(20.0, 40.0));
    let moved = Event::OutputStep { at: 600.0, by: 5.0 };
    let sun = Event::LoadStep { at: 60.0, by: 200.0, input: Some("sun".into()) };
    let plain = manual(hall.clone(), 60.0, 3600.0, vec![moved.clone()]);
    let sunny = manual(hall, 60.0, 3600.0, vec![sun, moved]);
    assert_eq!(sunny.difference(&plain), ["with sun step"]);
    assert_eq!(plain.difference(&sunny), ["without sun step"]);
}

#[test]
fn a_pv_in_another_unit_than_the_output_is_refused() {
    let mut hall = plant(ProcessSpec::library("heated_hall", &[]), [0.0, 50.0], OperatingPoint::new(20.0, 40.0));
    hall.pv.span.unit = "K".into();
    let error = hall.start().err().unwrap().to_string();
    assert_eq!(error, "The unit of the PV is “K”: it must be °C, the unit of air_temperature.");
}

#[test]
fn a_time_constant_far_below_the_scan_stops_the_trial_and_says_why() {
    let mut trial: Trial = serde_json::from_str(include_str!("../../../demo/trials/TIC-204-closed-loop.json")).unwrap();
    trial.plant.sensor.time_constant = 1e-300;
    let trace = trial.run().unwrap();
    let stopped = trace.stopped.unwrap();
    assert!(stopped.text.contains("a time constant is far shorter than the scan"), "{stopped:?}");
    assert!(!trace.columns[1].values.is_empty());
}
