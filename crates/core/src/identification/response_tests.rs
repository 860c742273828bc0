//! Responses against analytic ones, and their bands against repetitions.

use super::{DataSet, FitOptions, Model, Series, Structure, fit};
use crate::series::TimeAxis;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// `y(t) = 0.8 y(t−1) + 0.4 u(t−2) + noise`, white in the output: gain 2, time constant 4.48 samples.
fn data(noise: f64, seed: u64) -> DataSet {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let mut draw = || -> f64 { StandardNormal.sample(&mut generator) };
    let mut level = 1.0;
    let u: Vec<f64> = (0..600)
        .map(|k| {
            if k % 7 == 0 {
                level = if draw() > 0.0 { 1.0 } else { -1.0 };
            }
            level
        })
        .collect();
    let mut x = 0.0;
    let y: Vec<f64> = (0..600)
        .map(|k| {
            x = 0.8 * x + if k >= 2 { 0.4 * u[k - 2] } else { 0.0 };
            x + noise * draw()
        })
        .collect();
    DataSet::single(TimeAxis::uniform(1.0, 600).unwrap(), Series::new("OP", "%", u), Series::new("PV", "m", y))
}

const STRUCTURES: [Structure; 3] =
    [Structure::Fopdt, Structure::OutputError { nb: 1, nf: 1, nk: 2 }, Structure::StateSpace { order: 3 }];

#[test]
fn step_and_frequency_responses_are_those_of_the_plant() {
    let data = data(0.02, 1);
    for structure in STRUCTURES {
        let model = fit(&data, &FitOptions::new(structure)).unwrap();
        let step = model.step_response(Some(&data), 0, 0, Some(30.0)).unwrap();
        for (time, value) in step.times.iter().zip(&step.values).filter(|(time, _)| time.fract() == 0.0) {
            let exact = if *time >= 2.0 { 2.0 * (1.0 - 0.8f64.powf(time - 1.0)) } else { 0.0 };
            // FOPDT knows the plant only at the samples; one sample after the dead time it is the same.
            assert!((value - exact).abs() < 0.03, "{structure:?} at {time}: {value} {exact}");
        }
        let response = model.frequency_response(Some(&data), 0, 0).unwrap();
        let at = response.omegas.iter().position(|omega| *omega > 0.2).unwrap();
        let back = num_complex::Complex64::from_polar(1.0, -response.omegas[at]);
        let exact = 0.4 * back * back / (1.0 - 0.8 * back);
        // A continuous transfer function leaves out the hold, half a sample of delay.
        let hold = if structure == Structure::Fopdt { 0.5 * response.omegas[at].to_degrees() } else { 0.0 };
        assert!((response.gains[at] / exact.norm() - 1.0).abs() < 0.02, "{structure:?}");
        assert!(
            (response.phases[at] - exact.arg().to_degrees() - hold).abs() < 1.5,
            "{structure:?}: {}",
            response.phases[at]
        );
    }
}

#[test]
fn bands_are_the_spread_over_repetitions() {
    for structure in STRUCTURES {
        let fits: Vec<(Model, DataSet)> = (0..60)
            .map(|seed| {
                let data = data(0.3, 100 + seed);
                (fit(&data, &FitOptions::new(structure)).unwrap(), data)
            })
            .collect();
        let steps: Vec<_> =
            fits.iter().map(|(model, data)| model.step_response(Some(data), 0, 0, Some(29.0)).unwrap()).collect();
        let at = |time: f64| steps[0].times.iter().position(|t| *t >= time).unwrap();
        for k in [at(5.0), at(25.0)] {
            let mean = steps.iter().map(|step| step.values[k]).sum::<f64>() / 60.0;
            let spread = (steps.iter().map(|step| (step.values[k] - mean).powi(2)).sum::<f64>() / 59.0).sqrt();
            let claimed = steps.iter().map(|step| step.half_widths[k] / 1.96).sum::<f64>() / 60.0;
            // 60 repetitions tell the spread to 9 %; three of these.
            assert!(
                (spread / claimed - 1.0).abs() < 0.3,
                "{structure:?} at {}: spread {spread}, claimed {claimed}",
                steps[0].times[k]
            );
        }
        let responses: Vec<_> =
            fits.iter().map(|(model, data)| model.frequency_response(Some(data), 0, 0).unwrap()).collect();
        let k = responses[0].omegas.iter().position(|omega| *omega > 0.25).unwrap();
        let omega = responses[0].omegas[k];
        // Frequencies differ a little from fit to fit: the phase is read by interpolation.
        let phase = |response: &super::FrequencyResponse| {
            let j = response.omegas.iter().position(|other| *other >= omega).unwrap();
            let share = (omega / response.omegas[j - 1]).ln() / (response.omegas[j] / response.omegas[j - 1]).ln();
            response.phases[j - 1] + share * (response.phases[j] - response.phases[j - 1])
        };
        let phases: Vec<f64> = responses.iter().map(phase).collect();
        let mean = phases.iter().sum::<f64>() / 60.0;
        let spread = (phases.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / 59.0).sqrt();
        let claimed = responses.iter().map(|response| response.phase_half_widths[k] / 1.96).sum::<f64>() / 60.0;
        assert!((spread / claimed - 1.0).abs() < 0.35, "{structure:?}: phase spread {spread}, claimed {claimed}");
    }
}

#[test]
fn poles_and_zeros_are_the_known_ones() {
    let data = data(0.0, 1);
    let pole = |structure| fit(&data, &FitOptions::new(structure)).unwrap().poles();
    let exact = -1.0 / 0.8f64.ln();
    assert!(
        (pole(Structure::OutputError { nb: 1, nf: 1, nk: 2 })[0].time_constant.unwrap() / exact - 1.0).abs() < 0.01
    );
    assert!((pole(Structure::Fopdt)[0].time_constant.unwrap() / exact - 1.0).abs() < 1e-4);
    let slow = pole(Structure::StateSpace { order: 2 });
    assert!(slow.iter().any(|root| (root.re - 0.8).abs() < 1e-3), "{slow:?}");
    let with_zero = fit(&data, &FitOptions::new(Structure::Arx { na: 1, nb: 2, nk: 1 })).unwrap();
    // 0·u(t−1) + 0.4 u(t−2): a zero at infinity, so a large one.
    assert!(with_zero.zeros()[0].re.abs() > 10.0, "{:?}", with_zero.zeros());
}
