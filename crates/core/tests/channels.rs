//! A channel of a record that a scenario follows, in whatever unit the record holds it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::process::ProcessSpec;
use antistasis_core::simulation::{Event, EventKind, Plant, Trial, begin_event};
use antistasis_core::tuning::{SimcChoice, first_trial_on};
use proptest::prelude::*;

/// A hall with weather: its input `outside` is in °C.
fn hall() -> Trial {
    let plant = Plant::usual(ProcessSpec::library("heated_hall", &[]), "TIC-9").unwrap();
    first_trial_on(&plant, &SimcChoice::default()).unwrap().0
}

fn weather_input(trial: &Trial) -> String {
    let description = trial.plant.process.describe("°C").unwrap();
    description.inputs.into_iter().find(|input| input.unit == "°C").expect("a hall has weather").name
}

fn with_channel(values: Vec<f64>, unit: Option<&str>, input: Option<String>) -> Trial {
    let mut trial = hall();
    let interval = trial.scenario.duration / values.len() as f64;
    trial.scenario.events = vec![Event::LoadChannel {
        at: 0.0,
        tag: "TI-7.PV".into(),
        interval,
        values,
        unit: unit.map(str::to_owned),
        input,
    }];
    trial
}

/// Every value of every column of the trace.
fn traced(trial: &Trial) -> Vec<f64> {
    trial.run().unwrap().columns.into_iter().flat_map(|column| column.values).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Definitions of the scales: °F = 9/5 °C + 32, K = °C + 273.15 (SI brochure, 9th edition, and NIST SP 811).
    #[test]
    fn weather_in_other_units_is_the_same_weather(values in prop::collection::vec(-20.0..35.0_f64, 3..12)) {
        let input = Some(weather_input(&hall()));
        let celsius = traced(&with_channel(values.clone(), None, input.clone()));
        for (unit, of) in [
            ("°C", (|t: f64| t) as fn(f64) -> f64),
            ("°F", |t| 1.8 * t + 32.0),
            ("degF", |t| 1.8 * t + 32.0),
            ("K", |t| t + 273.15),
        ] {
            let other = with_channel(values.iter().copied().map(of).collect(), Some(unit), input.clone());
            for (a, b) in celsius.iter().zip(traced(&other)) {
                prop_assert!((a - b).abs() <= 1e-9 * (1.0 + a.abs()) || (a.is_nan() && b.is_nan()), "{unit}: {a} {b}");
            }
        }
    }
}

#[test]
fn a_channel_of_something_else_is_refused_at_its_unit() {
    let input = Some(weather_input(&hall()));
    let refused = with_channel(vec![1.0, 2.0], Some("bar"), input).run().unwrap_err().to_string();
    assert!(refused.contains("“bar”") && refused.contains("°C, or a unit that converts into it"), "{refused}");
    // Where the OP acts, only % can be added.
    let refused = with_channel(vec![1.0, 2.0], Some("°C"), None).run().unwrap_err().to_string();
    assert!(refused.contains("“°C”") && refused.contains('%'), "{refused}");
    assert!(with_channel(vec![0.0, -2.0], Some("%"), None).run().is_ok());
    let refused = with_channel(vec![1.0, 2.0], Some("furlong"), Some(weather_input(&hall()))).run().unwrap_err();
    assert!(refused.to_string().contains("“furlong”"), "{refused}");
}

#[test]
fn the_place_of_the_refusal_is_the_entry() {
    let input = Some(weather_input(&hall()));
    let error = with_channel(vec![1.0, 2.0], Some("bar"), input).run().unwrap_err();
    assert_eq!(error.field(), Some("scenario.events[0].unit"));
}

#[test]
fn a_channel_acts_on_an_input_of_its_quantity() {
    let trial = hall();
    let Event::LoadChannel { input, unit, .. } = begin_event(EventKind::LoadChannel, &trial, Some("°F")).unwrap()
    else {
        panic!("no channel")
    };
    assert_eq!((input.as_deref(), unit.as_deref()), (Some(weather_input(&trial).as_str()), Some("°F")));
    let description = trial.plant.process.describe("°C").unwrap();
    let others: Vec<_> = description.inputs.iter().filter(|input| input.name != description.drive.input).collect();
    assert!(others.len() > 1, "{others:?}");
    for quantity in &others {
        let begun = begin_event(EventKind::LoadChannel, &trial, Some(&quantity.unit)).unwrap();
        let Event::LoadChannel { input: Some(input), .. } = begun else { panic!("no input for {}", quantity.unit) };
        let chosen = others.iter().find(|own| own.name == input).unwrap();
        assert_eq!(chosen.unit, quantity.unit);
    }
    // Without a unit, and with one that fits nothing, as for any load.
    for unit in [None, Some("furlong")] {
        let Event::LoadChannel { input, .. } = begin_event(EventKind::LoadChannel, &trial, unit).unwrap() else {
            panic!("no channel")
        };
        let Event::LoadStep { input: usual, .. } = begin_event(EventKind::LoadStep, &trial, None).unwrap() else {
            panic!("no step")
        };
        assert_eq!(input, usual);
    }
}

#[test]
fn scenarios_of_before_have_no_unit_and_keep_their_text() {
    let old =
        r#"{"kind":"load_channel","at":0.0,"tag":"TI-7.PV","interval":60.0,"values":[10.0,12.0],"input":"outside"}"#;
    let event: Event = serde_json::from_str(old).unwrap();
    assert_eq!(serde_json::to_string(&event).unwrap(), old);
}
