//! A verdict is right where it is read: right models are not called wrong, and worthless ones not good.

use super::super::data::Series;
use super::super::{DataSet, FitOptions, Loss, Model, NoiseModel, Structure, fit as fit_any};
use crate::lti::{DeadTime, Dynamics, Response};
use crate::series::TimeAxis;
use crate::verdict::Tone;
use proptest::prelude::*;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Moves of the OP by ±5 % every `hold` samples, and what a process makes of them behind this dead time.
fn answered(dynamics: Dynamics, gain: f64, dead_time: f64, samples: usize, hold: usize) -> (Vec<f64>, Vec<f64>) {
    let axis = TimeAxis::uniform(1.0, samples).unwrap();
    let op: Vec<f64> = (0..samples).map(|k| if k / hold % 2 == 1 { 45.0 } else { 40.0 }).collect();
    let response = Response::new(dynamics, &axis, &op, 40.0, DeadTime::new(dead_time).unwrap()).bare();
    let pv = response.map(|sample| 70.0 + gain * (sample.value - 40.0)).collect();
    (op, pv)
}

fn fitted(op: &[f64], pv: &[f64], options: &FitOptions) -> Model {
    let axis = TimeAxis::uniform(1.0, op.len()).unwrap();
    let set = DataSet::single(axis, Series::new("OP", "%", op.to_vec()), Series::new("PV", "°C", pv.to_vec()));
    fit_any(&set, options).unwrap()
}

fn gravest(model: &Model) -> Tone {
    let has = |tone: Tone| model.verdicts.iter().any(|verdict| verdict.tone == tone);
    if has(Tone::Bad) {
        Tone::Bad
    } else if has(Tone::Caution) {
        Tone::Caution
    } else {
        Tone::Good
    }
}

fn with_noise(pv: &[f64], deviation: f64, seed: u64) -> Vec<f64> {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    pv.iter()
        .map(|value| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            value + deviation * deviate
        })
        .collect()
}

const LAG: Dynamics = Dynamics::Lag { time_constant: 20.0 };

#[test]
fn an_exact_fit_is_good_and_its_errors_are_nothing() {
    let (op, pv) = answered(LAG, 1.3, 6.4, 600, 120);
    let model = fitted(&op, &pv, &FitOptions::new(Structure::Fopdt));
    assert_eq!(gravest(&model), Tone::Good, "{:?}", model.verdicts);
    for parameter in &model.parameters {
        assert!(parameter.standard_error.unwrap() < 1e-6 * parameter.value.abs(), "{parameter:?}");
    }
}

#[test]
fn outliers_that_a_loss_leaves_aside_are_no_noise() {
    let (op, pv) = answered(LAG, 1.3, 6.4, 600, 120);
    let mut generator = ChaCha8Rng::seed_from_u64(2);
    let spoiled: Vec<f64> = with_noise(&pv, 0.05, 2)
        .into_iter()
        .map(|value| if generator.random::<f64>() < 0.05 { value + 60.0 } else { value })
        .collect();
    for loss in [Loss::Huber { width: 1.345 }, Loss::Absolute] {
        let model = fitted(&op, &spoiled, &FitOptions { loss, ..FitOptions::new(Structure::Fopdt) });
        assert!((model.values()[0] - 1.3).abs() < 0.02, "{loss:?}: {:?}", model.values());
        assert_eq!(gravest(&model), Tone::Good, "{loss:?}: {:?}", model.verdicts);
        assert!(model.verdicts[0].text.contains("outliers"), "{:?}", model.verdicts);
    }
}

#[test]
fn noise_alone_and_a_lag_within_a_sample_are_not_good() {
    let (op, _) = answered(LAG, 1.3, 6.4, 600, 120);
    let flat = with_noise(&vec![70.0; 600], 0.3, 5);
    assert_eq!(gravest(&fitted(&op, &flat, &FitOptions::new(Structure::Fopdt))), Tone::Bad);
    let (op, pv) = answered(Dynamics::Lag { time_constant: 0.02 }, 1.3, 3.4, 600, 60);
    let model = fitted(&op, &with_noise(&pv, 0.05, 6), &FitOptions::new(Structure::Fopdt));
    assert!(model.verdicts.iter().any(|verdict| verdict.text.contains("half the sample time")), "{:?}", model.verdicts);
}

#[test]
fn a_dead_time_of_most_of_the_record_is_found_and_a_longer_one_told() {
    // One move after 30 of 400 s; the PV answers 280 s later.
    let (mut op, axis) = (vec![40.0; 400], TimeAxis::uniform(1.0, 400).unwrap());
    op[30..].fill(45.0);
    let response = Response::new(LAG, &axis, &op, 40.0, DeadTime::new(280.0).unwrap()).bare();
    let pv: Vec<f64> = response.map(|sample| sample.value).collect();
    let model = fitted(&op, &with_noise(&pv, 0.02, 1), &FitOptions::new(Structure::Fopdt));
    assert!((model.parameter("dead_time").unwrap().value - 280.0).abs() < 1.0, "{:?}", model.parameters);
}

#[test]
fn a_record_that_ends_early_is_told() {
    let (op, pv) = answered(Dynamics::Lag { time_constant: 100.0 }, 1.3, 5.0, 260, 60);
    let model = fitted(&op, &with_noise(&pv, 0.02, 1), &FitOptions::new(Structure::Fopdt));
    assert!(model.verdicts.iter().any(|verdict| verdict.text.contains("less than three times the lags")));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// The slower of two lags comes first, with its own error; swapped in the data or not.
    #[test]
    fn the_slower_lag_comes_first(slow in 15.0..40.0f64, share in 0.1..0.6f64, seed in 0u64..1000, swapped: bool) {
        let lags = if swapped { [share * slow, slow] } else { [slow, share * slow] };
        let (op, pv) = answered(Dynamics::TwoLags { time_constants: lags }, 1.3, 5.0, 1200, 170);
        let model = fitted(&op, &with_noise(&pv, 0.03, seed), &FitOptions::new(Structure::TwoLags));
        let [first, second] = ["time_constant_1", "time_constant_2"].map(|name| model.parameter(name).unwrap().clone());
        prop_assert!(first.value >= second.value, "{:?} {:?}", first, second);
        prop_assert!((first.value - slow).abs() < 6.0 * first.standard_error.unwrap_or(1.0) + 0.1 * slow);
    }

    /// Right models of clean moves are not called wrong.
    #[test]
    fn right_models_are_good(gain in 0.3..3.0f64, lag in 5.0..30.0f64, dead_time in 0.0..15.0f64, seed in 0u64..10_000) {
        let (op, pv) = answered(Dynamics::Lag { time_constant: lag }, gain, dead_time, 1200, 150);
        let model = fitted(&op, &with_noise(&pv, 0.1 * gain, seed), &FitOptions::new(Structure::Fopdt));
        let grave: Vec<&str> = model
            .verdicts
            .iter()
            .filter(|verdict| verdict.tone == Tone::Bad)
            .map(|verdict| verdict.text.as_str())
            .collect();
        prop_assert!(grave.is_empty(), "{:?}", grave);
    }

    /// Fifty samples beside noise with a memory: no interval is believed without a word, whatever was fitted.
    #[test]
    fn of_fifty_samples_it_is_said_what_they_cannot_tell(memory in 0.5..0.95f64, seed in 0u64..10_000, model in 0..3usize) {
        let (op, pv) = answered(Dynamics::Lag { time_constant: 6.0 }, 0.8, 1.6, 50, 17);
        let noisy = remembering(&pv, 0.12, memory, seed);
        let noise = [NoiseModel::White, NoiseModel::Autoregression, NoiseModel::Integrated][model];
        let model = fitted(&op, &noisy, &FitOptions { noise, ..FitOptions::new(Structure::Fopdt) });
        prop_assert!(gravest(&model) != Tone::Good, "{:?}", model.verdicts);
    }

    /// Where the noise was taken to drift, the interval of the dead time is said to be rough; where it was not, it is not.
    #[test]
    fn a_dead_time_beside_drift_is_told(seed in 0u64..10_000) {
        let (op, pv) = answered(LAG, 0.8, 6.4, 600, 150);
        let noisy = remembering(&pv, 0.1, 0.97, seed);
        let told = |noise| {
            let model = fitted(&op, &noisy, &FitOptions { noise, ..FitOptions::new(Structure::Fopdt) });
            model.verdicts.iter().any(|verdict| verdict.text.contains("interval of the dead time is rough"))
        };
        prop_assert!(told(NoiseModel::Integrated));
        prop_assert!(!told(NoiseModel::Autoregression) && !told(NoiseModel::White));
    }
}

/// With noise of this deviation that keeps a share of itself from sample to sample.
fn remembering(pv: &[f64], deviation: f64, memory: f64, seed: u64) -> Vec<f64> {
    let white = with_noise(&vec![0.0; pv.len()], deviation * (1.0 - memory * memory).sqrt(), seed);
    let mut now = 0.0;
    let noise = white.iter().map(|new| {
        now = memory * now + new;
        now
    });
    pv.iter().zip(noise).map(|(value, noise)| value + noise).collect()
}

#[test]
fn long_records_and_exact_ones_are_not_called_short() {
    let says = |model: &Model| model.verdicts.iter().any(|verdict| verdict.text.contains("hardly tell how long"));
    for (samples, short) in [(50, true), (59, true), (60, false), (400, false)] {
        let (op, pv) = answered(Dynamics::Lag { time_constant: 6.0 }, 0.8, 1.6, samples, 17);
        let model = fitted(&op, &with_noise(&pv, 0.05, 3), &FitOptions::new(Structure::Fopdt));
        let slow = model.verdicts.iter().any(|verdict| verdict.text.contains("so slow"));
        assert_eq!(says(&model) || slow, short, "{samples}: {:?}", model.verdicts);
        // Without any noise there is no memory to tell.
        assert!(!says(&fitted(&op, &pv, &FitOptions::new(Structure::Fopdt))), "{samples}");
    }
}
