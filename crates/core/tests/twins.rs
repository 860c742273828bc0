//! The same plant seen in other units: a record in °F of a loop in °C says the same, and what a filter or a deviation hides
//! is said.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::{Inspection, Topic, inspect_prepared};
use antistasis_core::experiment::{ExperimentSpec, Proposed};
use antistasis_core::identification::{DataSet, FitOptions, Structure, fit, read_by_hand, suggested_marks};
use antistasis_core::preparation::{Operation, Step, prepare};
use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_core::simulation::Trial;
use antistasis_core::units::Span;
use antistasis_core::verdict::Tone;
use proptest::prelude::*;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// The demo's step tests in °C.
const TRIALS: [&str; 2] = [
    include_str!("../../../demo/trials/TIC-204-step-test.json"),
    include_str!("../../../demo/trials/TIC-204-doublet.json"),
];

fn record_of(trial: &str) -> (Record, Span) {
    let trial: Trial = serde_json::from_str(trial).unwrap();
    (trial.run().unwrap().as_record().unwrap(), trial.plant.pv.span)
}

/// By the definition of the Fahrenheit scale, 32 °F at 0 °C and 180 °F to 100 °C.
fn in_fahrenheit(record: &Record) -> Record {
    let mut twin = record.clone();
    for channel in twin.channels.iter_mut().filter(|channel| matches!(channel.role, Role::Pv | Role::Sp)) {
        channel.values.iter_mut().for_each(|value| *value = 32.0 + 1.8 * *value);
        channel.unit = "°F".to_owned();
    }
    twin
}

fn full() -> Span {
    Span::new(0.0, 100.0, "%")
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-6 * (1e-3 + a.abs().max(b.abs()))
}

fn texts(inspection: &Inspection) -> Vec<&str> {
    inspection.findings.iter().map(|finding| finding.verdict.text.as_str()).collect()
}

#[test]
fn a_twin_in_fahrenheit_says_the_same() {
    for trial in TRIALS {
        let (record, span) = record_of(trial);
        let twin = in_fahrenheit(&record);
        let [own, other] = [&record, &twin].map(|record| inspect_prepared(record, &[], &span, &full()).unwrap());
        assert_eq!(texts(&own), texts(&other));
        assert!(own.pv_unit == "°C" && other.pv_unit == "°C" && near(own.noise, other.noise));
        // Read by hand: marks, levels and tangent are those of the loop.
        let [own, other] = [&record, &twin].map(|record| {
            let data = DataSet::of_record(record, &span.unit, &[], &[]).unwrap();
            read_by_hand(&data, &suggested_marks(&data).unwrap()).unwrap()
        });
        assert!(own.gain_unit == "°C/%" && other.gain_unit == "°C/%");
        for (a, b) in [
            (own.initial_value, other.initial_value),
            (own.marks.final_value, other.marks.final_value),
            (own.marks.settled, other.marks.settled),
            (own.tangent[1][1], other.tangent[1][1]),
        ] {
            assert!((a - b).abs() < 1e-3 * a.abs(), "{a} {b}");
        }
        // What is drawn under the marks is in their unit.
        let drawn = twin.in_units_of(&span.unit, "%");
        let pairs = drawn.channels.iter().zip(&record.channels);
        assert!(pairs.flat_map(|(a, b)| a.values.iter().zip(&b.values)).all(|(a, b)| near(*a, *b)));
        assert!(drawn.is_in_units_of("°C", "%"));
    }
}

#[test]
fn units_that_do_not_convert_are_left_as_they_are() {
    let (record, _) = record_of(TRIALS[0]);
    let mut strange = record.clone();
    strange.channels.iter_mut().for_each(|channel| channel.unit = "furlong".to_owned());
    let seen = strange.clone().in_units_of("°C", "%");
    assert!(seen == strange && !seen.is_in_units_of("°C", "%"));
}

#[test]
fn an_experiment_begins_with_the_noise_of_the_loop() {
    let (record, span) = record_of(TRIALS[0]);
    let noise = inspect_prepared(&in_fahrenheit(&record), &[], &span, &full()).unwrap().noise;
    let spec = ExperimentSpec::first(&span, &full(), None, Some(noise));
    // The sensor of the demo's heater has noise of 0.25 °C and less.
    assert!((0.05..0.4).contains(&spec.noise), "{}", spec.noise);
    assert!(!spec.proposed.contains(&Proposed::Noise) && spec.proposed.contains(&Proposed::PvRange));
}

/// A lag of 20 s with gain 1.3 behind a doublet of the OP about 40 %, with white noise.
fn doublet(deviation: f64, about: f64) -> Record {
    let mut generator = ChaCha8Rng::seed_from_u64(4);
    let op: Vec<f64> = (0..1500).map(|k| about + [0.0, 6.0, -6.0, 0.0, 4.0][k / 300]).collect();
    let mut x = 0.0;
    let keep = (-1.0_f64 / 20.0).exp();
    let pv = op.iter().map(|op| {
        let noise: f64 = StandardNormal.sample(&mut generator);
        let seen = 70.0 + x + deviation * noise;
        x = keep * x + (1.0 - keep) * 1.3 * (op - about);
        seen
    });
    let channel = |tag: &str, role, unit: &str, values| Channel { tag: tag.into(), role, unit: unit.into(), values };
    let channels = vec![channel("T.PV", Role::Pv, "°C", pv.collect()), channel("T.OP", Role::Op, "%", op)];
    Record::new(TimeAxis::uniform(1.0, 1500).unwrap(), channels).unwrap()
}

fn low_pass(all: bool) -> Vec<Step> {
    vec![Step::new(Operation::LowPass { tag: None, all, time_constant: 10.0, order: 1, zero_phase: true })]
}

fn estimates(record: &Record) -> [f64; 3] {
    let data = DataSet::of_record(record, "°C", &[], &[]).unwrap();
    let model = fit(&data, &FitOptions::new(Structure::Fopdt)).unwrap();
    ["gain", "time_constant", "dead_time"].map(|name| model.parameter(name).unwrap().value)
}

#[test]
fn a_filter_on_all_channels_leaves_the_model_and_one_on_the_pv_does_not() {
    let record = doublet(0.1, 40.0);
    let [gain, lag, _] = estimates(&prepare(&record, &low_pass(true)).unwrap().record);
    assert!((gain - 1.3).abs() < 0.02 && (lag - 20.0).abs() < 0.6, "{gain} {lag}");
    let alone = prepare(&record, &low_pass(false)).unwrap();
    let [_, spoilt, _] = estimates(&alone.record);
    assert!((spoilt - 20.0).abs() > 2.0, "{spoilt}");
    assert!(alone.notes[0].as_deref().is_some_and(|note| note.contains("The others are not")), "{:?}", alone.notes);
}

#[test]
fn what_a_filter_hides_is_judged_without_it() {
    let record = doublet(0.3, 40.0);
    let span = Span::new(0.0, 150.0, "°C");
    let judged = |steps: &[Step]| inspect_prepared(&record, steps, &span, &full()).unwrap();
    let (plain, alone, alike) = (judged(&[]), judged(&low_pass(false)), judged(&low_pass(true)));
    // The noise is that of the record and not what the filter leaves of it; nothing looks like feedback.
    assert!(near(plain.noise, alone.noise) && near(plain.noise, alike.noise));
    assert_eq!((plain.move_to_noise, plain.feedback), (alone.move_to_noise, alone.feedback));
    assert_eq!(alone.feedback, Some(false));
    let filtered = |inspection: &Inspection| {
        inspection.findings.iter().find(|finding| finding.topic == Topic::Filter).map(|finding| finding.verdict.tone)
    };
    assert_eq!((filtered(&plain), filtered(&alone), filtered(&alike)), (None, Some(Tone::Caution), None));
    // A filter that is off, and one of the OP beside that of the PV, are no unequal ones.
    let mut off = low_pass(false);
    off[0].enabled = false;
    let mut both = low_pass(false);
    both.push(Step::new(Operation::LowPass {
        tag: Some("T.OP".into()),
        all: false,
        time_constant: 10.0,
        order: 1,
        zero_phase: true,
    }));
    assert_eq!((filtered(&judged(&off)), filtered(&judged(&both))), (None, None));
}

#[test]
fn an_op_in_deviations_is_not_said_to_stand_at_its_limit() {
    let span = Span::new(0.0, 150.0, "°C");
    let words = |about: f64| {
        let found = inspect_prepared(&doublet(0.1, about), &[], &span, &full()).unwrap();
        let text = found.findings.into_iter().find(|finding| finding.topic == Topic::Saturation);
        text.map_or(String::new(), |finding| finding.verdict.text)
    };
    assert_eq!(words(40.0), "");
    assert!(words(0.0).contains("runs from -6 to 6") || words(0.0).contains("runs from −6 to 6"), "{}", words(0.0));
    assert!(!words(0.0).contains("stands at an end"));
}

#[test]
fn a_frozen_pv_is_told_with_the_value_and_length_of_one_run() {
    // Two runs: 40 s at 71, 100 s at 69; the longer is told with its own value.
    let mut record = doublet(0.1, 40.0);
    let pv = &mut record.channels[0].values;
    pv[100..140].fill(71.0);
    pv[900..1000].fill(69.0);
    let found = inspect_prepared(&record, &[], &Span::new(0.0, 150.0, "°C"), &full()).unwrap();
    let frozen = found.findings.iter().find(|finding| finding.topic == Topic::Frozen).unwrap();
    let text = &frozen.verdict.text;
    assert!(text.contains("exactly 69 °C for 99 s") && text.contains("once more"), "{text}");
    assert_eq!(frozen.stretches.len(), 2);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Any affine unit: what is converted there and back is the record.
    #[test]
    fn there_and_back(values in prop::collection::vec(-300.0..1500.0_f64, 3..40), unit in prop::sample::select(vec!["°F", "K", "°C"])) {
        let axis = TimeAxis::uniform(1.0, values.len()).unwrap();
        let channel = Channel { tag: "T".into(), role: Role::Pv, unit: "°C".into(), values: values.clone() };
        let record = Record::new(axis, vec![channel]).unwrap();
        let there = record.clone().in_units_of(unit, "%");
        prop_assert_eq!(&there.channels[0].unit, unit);
        let back = there.in_units_of("°C", "%");
        for (a, b) in back.channels[0].values.iter().zip(&values) {
            prop_assert!((a - b).abs() < 1e-9 * (1.0 + b.abs()));
        }
    }
}
