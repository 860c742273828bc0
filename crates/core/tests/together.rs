//! One model fitted to several stretches at once: against SciPy and NumPy, and by what must hold for any data.

#![allow(clippy::unwrap_used)]

use antistasis_core::identification::{
    DataSet, FitOptions, Model, Series, Structure, ValidationWindow, Windows, fit, fit_together, identify_together,
    profile, validate_together,
};
use antistasis_core::series::TimeAxis;
use proptest::prelude::*;
use serde::Deserialize;

/// Made by `reference/together.py`.
const REFERENCE: &str = include_str!("../../../reference/data/together.json");

#[derive(Deserialize)]
struct Reference {
    interval: f64,
    stretches: Vec<Recorded>,
    process: Process,
    levels: Vec<f64>,
    sum_of_squares: f64,
    arx_2_2_6: Vec<f64>,
}

#[derive(Deserialize)]
struct Recorded {
    op: Vec<f64>,
    pv: Vec<f64>,
}

#[derive(Deserialize)]
struct Process {
    gain: f64,
    time_constant: f64,
    dead_time: f64,
}

fn reference() -> (Reference, Vec<DataSet>) {
    let known: Reference = serde_json::from_str(REFERENCE).unwrap();
    let of = |stretch: &Recorded| data(known.interval, stretch.op.clone(), stretch.pv.clone());
    let stretches = known.stretches.iter().map(of).collect();
    (known, stretches)
}

fn data(interval: f64, op: Vec<f64>, pv: Vec<f64>) -> DataSet {
    let axis = TimeAxis::uniform(interval, op.len()).unwrap();
    DataSet::single(axis, Series::new("OP", "%", op), Series::new("PV", "°C", pv))
}

fn value(model: &Model, name: &str) -> f64 {
    model.parameter(name).unwrap().value
}

fn near(found: f64, wanted: f64, relative: f64) {
    assert!((found - wanted).abs() <= relative * wanted.abs(), "{found} for {wanted}");
}

/// First order behind a lag of whole samples, exact for a held OP; a disturbance of gain 0.7 and the same lag beside it.
fn plant(op: &[f64], feed: &[f64], rest: [f64; 3], delay: usize) -> Vec<f64> {
    let pole = (-2.0f64 / 25.0).exp();
    let (mut x, mut pv) = (0.0, Vec::new());
    for k in 0..op.len() {
        pv.push(rest[2] + x);
        let (op, feed) = (op[k.saturating_sub(delay)] - rest[0], feed[k.saturating_sub(delay)] - rest[1]);
        x = pole * x + (1.0 - pole) * (1.4 * op + 0.7 * feed);
    }
    pv
}

fn stepped(count: usize, rest: f64, moves: &[(usize, f64)]) -> Vec<f64> {
    (0..count).map(|k| moves.iter().rev().find(|(at, _)| k >= *at).map_or(rest, |(_, value)| *value)).collect()
}

#[test]
fn first_order_is_the_least_squares_of_scipy() {
    let (known, stretches) = reference();
    let options = FitOptions { initial_state: false, ..FitOptions::new(Structure::Fopdt) };
    let model = fit_together(&stretches, &options).unwrap();
    near(value(&model, "gain"), known.process.gain, 1e-6);
    near(value(&model, "time_constant"), known.process.time_constant, 1e-5);
    near(value(&model, "dead_time"), known.process.dead_time, 1e-5);
    near(model.operating.pv, known.levels[0], 1e-7);
    near(model.further[0].operating.pv, known.levels[1], 1e-7);
    let samples = model.estimation.samples;
    let squares =
        model.estimation.residual_deviation.powi(2) * (samples - model.criteria.as_ref().unwrap().parameters) as f64;
    assert_eq!((samples, model.criteria.as_ref().unwrap().parameters, model.further.len()), (370, 5, 1));
    near(squares, known.sum_of_squares, 1e-9);
    // Each alone knows less than both, noise for noise.
    for stretch in &stretches {
        let alone = fit(stretch, &options).unwrap();
        for name in ["gain", "time_constant", "dead_time"] {
            let error = |model: &Model| {
                model.parameter(name).unwrap().white_error.unwrap() / model.estimation.residual_deviation
            };
            assert!(error(&model) < error(&alone), "{name}: {} {}", error(&model), error(&alone));
        }
    }
    let profile = profile(&stretches, &options, &model, "dead_time").unwrap();
    let [low, high] = profile.interval.map(Option::unwrap);
    assert!(low < 11.3 && 11.3 < high, "{low} {high}");
}

#[test]
fn arx_is_the_stacked_regression_of_numpy() {
    let (known, stretches) = reference();
    let model = fit_together(&stretches, &FitOptions::new(Structure::Arx { na: 2, nb: 2, nk: 6 })).unwrap();
    for (found, wanted) in model.values().iter().zip(&known.arx_2_2_6) {
        near(*found, *wanted, 1e-9);
    }
    near(model.further[0].operating.pv, stretches[1].outputs[0].mean(), 1e-12);
}

#[test]
fn every_structure_finds_the_process_in_two_stretches_of_other_level() {
    let first = stepped(220, 40.0, &[(20, 46.0), (90, 37.0), (150, 42.0)]);
    let second = stepped(160, 55.0, &[(15, 50.0), (70, 58.0), (110, 54.0)]);
    let still = |count| vec![0.0; count];
    let stretches = [
        data(2.0, first.clone(), plant(&first, &still(220), [40.0, 0.0, 70.0], 3)),
        data(2.0, second.clone(), plant(&second, &still(160), [55.0, 0.0, 91.0], 3)),
    ];
    // A sample passes between an OP and the PV that it moves: a delay of 3 is one of 4 in the equations.
    for structure in [
        Structure::Fopdt,
        Structure::Arx { na: 1, nb: 1, nk: 4 },
        Structure::Armax { na: 1, nb: 1, nc: 1, nk: 4 },
        Structure::OutputError { nb: 1, nf: 1, nk: 4 },
        Structure::BoxJenkins { nb: 1, nc: 1, nd: 1, nf: 1, nk: 4 },
        Structure::StateSpace { order: 4 },
    ] {
        let model = fit_together(&stretches, &FitOptions::new(structure)).unwrap();
        // Until the step has settled: 1.4, wherever the process stood.
        let step = model.step_response(Some(&stretches[0]), 0, 0, Some(400.0)).unwrap();
        let last = *step.values.last().unwrap();
        assert!((last / 1.4 - 1.0).abs() < 2e-3, "{structure:?}: {last}");
        for (k, data) in stretches.iter().enumerate() {
            let simulated = model.in_stretch(k).simulate_on(data).unwrap();
            let worst =
                simulated[0].iter().zip(&data.outputs[0].values).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
            // ARX takes the means of a stretch for rest, which they are not.
            let allowed = if matches!(structure, Structure::Arx { .. }) { 0.3 } else { 0.02 };
            assert!(worst < allowed, "{structure:?} in stretch {k}: {worst}");
        }
        assert!(model.further[0].performance.fit_simulated > 95.0, "{structure:?}: {:?}", model.further[0].performance);
        let judged = validate_together(&model, &stretches).unwrap();
        assert!(judged.performance.fit_simulated > 95.0, "{structure:?}: {:?}", judged.performance);
    }
}

#[test]
fn one_stretch_tells_the_op_and_another_the_disturbance() {
    let with_feed = |op: Vec<f64>, feed: Vec<f64>, rest: [f64; 3]| {
        let mut set = data(2.0, op.clone(), plant(&op, &feed, rest, 2));
        set.inputs.push(Series::new("FEED", "t/h", feed));
        set
    };
    let stretches = [
        with_feed(stepped(150, 40.0, &[(20, 46.0)]), vec![12.0; 150], [40.0, 12.0, 70.0]),
        with_feed(vec![44.0; 150], stepped(150, 12.0, &[(30, 14.0)]), [44.0, 12.0, 75.6]),
    ];
    let options = FitOptions { disturbances: vec!["FEED".into()], ..FitOptions::new(Structure::Fopdt) };
    assert!(fit(&stretches[0], &options).unwrap_err().to_string().contains("FEED never moves"));
    let model = fit_together(&stretches, &options).unwrap();
    let of_feed = model.parameters.iter().find(|p| p.name == "gain" && p.input.as_deref() == Some("FEED")).unwrap();
    near(value(&model, "gain"), 1.4, 1e-4);
    near(of_feed.value, 0.7, 1e-3);
    near(value(&model, "time_constant"), 25.0, 1e-3);
}

#[test]
fn what_does_not_belong_together_is_refused_in_words() {
    let op = stepped(100, 40.0, &[(20, 46.0)]);
    let good = data(2.0, op.clone(), plant(&op, &vec![0.0; 100], [40.0, 0.0, 70.0], 2));
    let refused = |other: DataSet, structure| {
        fit_together(&[good.clone(), other], &FitOptions::new(structure)).unwrap_err().to_string()
    };
    let mut fahrenheit = good.clone();
    fahrenheit.outputs[0].unit = "°F".into();
    assert_eq!(
        refused(fahrenheit, Structure::Fopdt),
        "PV is in °F in stretch 2 and in °C in the first: convert one of them in the preparation"
    );
    let mut other = good.clone();
    other.inputs.push(Series::new("FEED", "t/h", op.clone()));
    assert!(refused(other, Structure::Fopdt).contains("stretch 2 has OP, FEED where the first has OP"));
    let faster = DataSet { axis: TimeAxis::uniform(1.0, 100).unwrap(), ..good.clone() };
    let text = refused(faster.clone(), Structure::Arx { na: 1, nb: 1, nk: 1 });
    assert!(text.contains("stretch 2 has a sample every 1 s and the first one every 2 s"), "{text}");
    assert!(fit_together(&[good.clone(), faster], &FitOptions::new(Structure::Fopdt)).is_ok());
    let short = good.slice(0..6);
    assert!(refused(short, Structure::Fopdt).contains("only 6 samples of the PV in stretch 2 are usable"));
    assert!(fit_together(&[], &FitOptions::new(Structure::Fopdt)).is_err());
}

#[test]
fn stretches_of_two_processes_are_told_apart() {
    let op = stepped(200, 40.0, &[(20, 46.0), (100, 40.0)]);
    let one = data(2.0, op.clone(), plant(&op, &[0.0; 200], [40.0, 0.0, 70.0], 3));
    let other: Vec<f64> = one.outputs[0].values.iter().map(|pv| 70.0 + 0.5 * (pv - 70.0)).collect();
    let differ = |model: &Model| model.verdicts.iter().any(|verdict| verdict.text.contains("fit them apart"));
    for structure in [Structure::Fopdt, Structure::OutputError { nb: 1, nf: 1, nk: 4 }] {
        let options = FitOptions::new(structure);
        let with = |second: DataSet| fit_together(&[one.clone(), second], &options).unwrap();
        assert!(!differ(&with(one.clone())) && differ(&with(data(2.0, op.clone(), other.clone()))), "{structure:?}");
    }
}

#[test]
fn halves_are_of_the_first_window_beside_further_stretches() {
    let first = stepped(300, 40.0, &[(20, 46.0), (100, 40.0), (180, 44.0), (240, 40.0)]);
    let second = stepped(120, 55.0, &[(15, 50.0)]);
    let still = |count| vec![0.0; count];
    let whole = data(2.0, first.clone(), plant(&first, &still(300), [40.0, 0.0, 70.0], 3));
    let other = data(2.0, second.clone(), plant(&second, &still(120), [55.0, 0.0, 91.0], 3));
    let windows = Windows { from: None, to: None, validation: ValidationWindow::Half };
    let options = FitOptions::new(Structure::Fopdt);
    let found = identify_together(&whole, 0.0, &windows, std::slice::from_ref(&other), &options).unwrap();
    assert_eq!((found.window, found.model.estimation.samples), ((0.0, 298.0), 270));
    let (window, validation) = found.validation.unwrap();
    assert_eq!(window, (300.0, 598.0));
    assert!(validation.performance.fit_simulated > 99.0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever the levels, the order of the stretches does not matter, and a stretch given twice tells nothing new but
    /// makes the errors smaller by the root of two.
    #[test]
    fn order_and_repetition_of_stretches(
        levels in (20.0..80.0f64, 20.0..80.0f64),
        moves in proptest::collection::vec((10usize..90, -8.0..8.0f64), 2..5),
        seed in 0u64..1000,
    ) {
        use rand::SeedableRng;
        use rand_distr::{Distribution, StandardNormal};
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let mut made = |level: f64, sign: f64| {
            let mut list: Vec<(usize, f64)> = moves.iter().map(|(at, by)| (*at, 50.0 + sign * by)).collect();
            list.sort_by_key(|(at, _)| *at);
            list.push((110, 50.0 + sign * 9.0));
            let op = stepped(180, 50.0, &list);
            let pv = plant(&op, &[0.0; 180], [50.0, 0.0, level], 3).into_iter();
            let noise = |y: f64| y + 0.2 * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, &mut generator);
            data(2.0, op, pv.map(noise).collect())
        };
        let (a, b) = (made(levels.0, 1.0), made(levels.1, -0.7));
        let options = FitOptions::new(Structure::Fopdt);
        let there = fit_together(&[a.clone(), b.clone()], &options).unwrap();
        let back = fit_together(&[b, a.clone()], &options).unwrap();
        for name in ["gain", "time_constant", "dead_time"] {
            let error = there.parameter(name).unwrap().standard_error.unwrap();
            prop_assert!((value(&there, name) - value(&back, name)).abs() < 0.02 * error, "{name}");
        }
        let (once, twice) = (fit(&a, &options).unwrap(), fit_together(&[a.clone(), a], &options).unwrap());
        for name in ["gain", "time_constant"] {
            let white = |model: &Model| model.parameter(name).unwrap().white_error.unwrap();
            prop_assert!((value(&once, name) - value(&twice, name)).abs() < 0.02 * white(&once), "{name}");
            prop_assert!((white(&once) / white(&twice) / 2.0f64.sqrt() - 1.0).abs() < 0.03, "{name}");
        }
    }
}
