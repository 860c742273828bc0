//! Where equations end: at a rim, at a root of a negative number, at a parameter that says how much there is.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::controller::ControllerSpec;
use antistasis_core::process::{EquationsSpec, ProcessSpec, catalogue, steady_states};
use antistasis_core::simulation::{Candidate, Event, Plant, Scenario, Simulation, TRIAL_VERSION, Trace, Trial};
use serde_json::json;

fn in_manual(plant: Plant, duration: f64, events: Vec<Event>) -> Trial {
    let scenario = Scenario { duration, scan: 1.0, seed: 1, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(ControllerSpec::Manual), scenario }
}

/// A tank of 1 m² that a pump draws from, its level starting at 1 m, as equations of one's own.
fn own(rate: &str, outputs: &serde_json::Value) -> Plant {
    let spec: EquationsSpec = serde_json::from_value(json!({
        "states": [{ "name": "level", "unit": "m", "value": 1.0 }],
        "inputs": [{ "name": "pump", "unit": "m³/h", "value": 10.0 }],
        "rates": [{ "name": "level", "equals": rate }],
        "outputs": outputs,
    }))
    .unwrap();
    let mut plant =
        Plant::usual(ProcessSpec::from(antistasis_core::process::DetailedSpec::Equations(spec)), "L").unwrap();
    plant.operating_point.states = Some([("level".to_owned(), 1.0)].into());
    plant.operating_point.pv = 1.0;
    plant
}

fn stopped(trace: &Trace) -> (f64, &str) {
    trace.stopped.as_ref().map_or((0.0, ""), |why| (why.at, why.text.as_str()))
}

#[test]
fn an_output_that_stops_being_a_number_stops_the_trial_and_is_named() {
    // The level falls by 0.01 m a second; the second output is a root of level − 0.5, which ends after 50 s.
    let outputs = |first: &str, second: &str| json!([{ "name": "a", "unit": "m", "equals": first }, { "name": "b", "unit": "m", "equals": second }]);
    for (outputs, name) in [(outputs("level", "sqrt(level - 0.5)"), "b"), (outputs("ln(level - 0.5)", "level"), "a")] {
        let trace = in_manual(own("-0.01", &outputs), 100.0, vec![]).run().unwrap();
        let (at, text) = stopped(&trace);
        assert!((50.0..=51.0).contains(&at) && text.contains(&format!("the output {name} is not")), "{at} {text}");
        assert!(text.contains("level = 0.5") || text.contains("level = 0.49"), "{text}");
        assert!(trace.columns.iter().all(|column| column.values.len() == trace.columns[0].values.len()));
        assert!(trace.columns.iter().flat_map(|column| &column.values).all(|value| value.is_finite()));
    }
}

#[test]
fn a_root_of_a_negative_number_is_told_from_a_run_away() {
    let outputs = json!([{ "name": "level", "unit": "m", "equals": "level" }]);
    // x' = −0.05 √x − 0.001 reaches 0 with a rate of its own and would go on: beyond there is no root.
    let trace = in_manual(own("-0.05 * sqrt(level) - 0.001", &outputs), 100.0, vec![]).run().unwrap();
    let (at, text) = stopped(&trace);
    // Separated: t = 2/a (√x₀ − (b/a) ln(1 + a √x₀ / b)) with a = 0.05, b = 0.001.
    let analytic = 40.0 * (1.0 - 0.02 * 51f64.ln());
    assert!((at - analytic).abs() <= 1.0, "{at} {analytic}");
    assert!(text.contains("the rate of level stops being a number beyond") && text.contains("root"), "{text}");
    // x' = x² is at infinity after 1 s: nothing is wrong with the formula.
    let trace = in_manual(own("level ^ 2", &outputs), 100.0, vec![]).run().unwrap();
    let (at, text) = stopped(&trace);
    assert!(at <= 1.0 && text.contains("run"), "{at} {text}");
}

#[test]
fn a_tank_cannot_start_above_its_rim() {
    let mut plant = Plant::usual(ProcessSpec::library("four_tanks", &[]), "L").unwrap();
    for (level, fits) in [(19.0, true), (20.0, true), (20.1, false), (-0.1, false)] {
        plant.operating_point.states = Some([("level_2".to_owned(), level)].into());
        let answer = in_manual(plant.clone(), 10.0, vec![]).run();
        match answer {
            Ok(_) => assert!(fits, "{level}"),
            Err(error) => {
                assert!(!fits, "{error}");
                assert!(error.to_string().contains("level 2") && error.to_string().contains("20"), "{error}");
            }
        }
    }
    // With another rim, another level; what is usual fits into the lower tank.
    let low = Plant::usual(ProcessSpec::library("four_tanks", &[("height", 10.0)]), "L").unwrap();
    let description = low.describe().unwrap();
    assert!(description.states.iter().all(|state| state.value < 10.0 && state.high == 10.0));
}

#[test]
fn balances_close_whatever_parameter_changes() {
    for known in catalogue() {
        let process = ProcessSpec::library(&known.name, &[]);
        let plant = Plant::usual(process, "X").unwrap();
        for parameter in &known.parameters {
            for factor in [0.8, 1.25] {
                let to = (parameter.value * factor).clamp(parameter.low, parameter.high);
                let change = Event::ParameterChange { at: 20.0, parameter: parameter.name.clone(), to, over: 7.5 };
                let trial = in_manual(plant.clone(), 200.0, vec![change]);
                // What says how many states there are cannot change.
                let Ok(simulation) = Simulation::with_balances(&trial) else { continue };
                let trace = simulation.run();
                let what = format!("{}, {} to {to}", known.name, parameter.name);
                if trace.stopped.is_some() {
                    continue;
                }
                for sheet in &trace.balances {
                    let share = sheet.missing.abs() / (sheet.at_start.abs() + sheet.at_end.abs()).max(1e-9);
                    assert!(share < 1e-7, "{what}: {share} of the {} is missing", sheet.name);
                }
            }
        }
    }
}

#[test]
fn what_a_wider_tank_holds_more_stands_in_the_sheet() {
    // Heated liquid of 1.25 times the heat capacity holds 1.25 times the energy at the same temperature: a balance of what
    // flows in and out cannot know it, so the sheet says it.
    let plant = Plant::usual(ProcessSpec::library("stirred_heater", &[]), "T").unwrap();
    let [holdup, capacity] = ["holdup", "heat_capacity"]
        .map(|name| plant.describe().unwrap().parameters.into_iter().find(|own| own.name == name).unwrap().value);
    let change = Event::ParameterChange { at: 10.0, parameter: "heat_capacity".into(), to: 1.25 * capacity, over: 0.0 };
    let trace = Simulation::with_balances(&in_manual(plant.clone(), 30.0, vec![change])).unwrap().run();
    let sheet = &trace.balances[0];
    let redefined = sheet.terms.iter().find(|term| term.name == "change of parameters").unwrap().amount;
    // The plant is at rest until then: a quarter of m c T, T in °C, comes in.
    let expected = 0.25 * holdup * capacity * plant.operating_point.pv;
    assert!((redefined - expected).abs() < 1e-6 * expected, "{redefined} {expected}");
    assert!(sheet.missing.abs() < 1e-9 * sheet.at_start);
    let still = Simulation::with_balances(&in_manual(plant, 30.0, vec![])).unwrap().run();
    assert!(still.balances[0].terms.iter().all(|term| term.name != "change of parameters"));
}

#[test]
fn what_is_usual_can_be_analysed() {
    for known in catalogue() {
        let counted = known.parameters.iter().find(|parameter| matches!(parameter.name.as_str(), "tanks" | "cells"));
        let mut sizes: Vec<Vec<(&str, f64)>> = vec![vec![]];
        if let Some(counted) = counted {
            let name = counted.name.as_str();
            sizes.extend((counted.low as usize..=counted.high.min(10.0) as usize).map(|n| vec![(name, n as f64)]));
        }
        for given in sizes {
            let plant = Plant::usual(ProcessSpec::library(&known.name, &given), "X").unwrap();
            if plant.operating_point.states.is_some() {
                continue;
            }
            let rests = plant.rests().unwrap();
            assert!(!rests.is_empty(), "{} with {given:?} does not rest at {:?}", known.name, plant.operating_point);
            assert!(plant.linearised().is_ok_and(|system| system.is_some()), "{} {given:?}", known.name);
        }
    }
}

#[test]
fn tanks_on_one_level_rest_by_the_square_of_what_flows() {
    // Torricelli between neighbours: every difference of heads is (q / (c a))² / (2 g), the last head the same.
    let q = 15.0 / 3600.0;
    let head = (q / (0.62 * 15e-4_f64)).powi(2) / (2.0 * 9.81);
    for n in [2.0, 3.0, 5.0] {
        let process = ProcessSpec::library("interacting_tanks", &[("tanks", n), ("height", 30.0)]);
        let running = process.build("m").unwrap();
        let inputs: Vec<f64> = running.description().inputs.iter().map(|input| input.value).collect();
        let rests = steady_states(running.as_ref(), &inputs);
        assert_eq!(rests.len(), 1, "{n}");
        for (k, volume) in rests[0].state.iter().enumerate() {
            let level = head * (n - k as f64);
            assert!((volume / 1.5 - level).abs() < 1e-5 * level, "{n} {k}: {} {level}", volume / 1.5);
        }
    }
}
