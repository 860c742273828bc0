//! The fit against known models, and what it says of data that cannot answer.

use super::*;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Data of a known model by the analytic step response, not by the code under test.
fn step_test(gain: f64, tau: f64, theta: f64, noise: f64, seed: u64) -> (TimeAxis, Vec<f64>, Vec<f64>) {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let steps = [(60.0, 5.0), (400.0, -8.0)];
    let axis = TimeAxis::uniform(1.0, 800).unwrap();
    let mut series = (Vec::new(), Vec::new());
    for k in 0..800 {
        let t = axis.at(k);
        let deviate: f64 = StandardNormal.sample(&mut generator);
        series.0.push(40.0 + steps.iter().filter(|step| t >= step.0).map(|step| step.1).sum::<f64>());
        let response: f64 = steps
            .iter()
            .filter(|step| t > step.0 + theta)
            .map(|step| step.1 * (1.0 - (-(t - step.0 - theta) / tau).exp()))
            .sum();
        series.1.push(75.0 + gain * response + noise * deviate);
    }
    (axis, series.0, series.1)
}

fn fit(axis: &TimeAxis, input: &[f64], output: &[f64]) -> FopdtModel {
    fit_fopdt(DataSet { axis, input, output, input_unit: "%", output_unit: "°C" }).unwrap()
}

#[test]
fn recovers_an_exact_model_with_fractional_dead_time() {
    for (gain, tau, theta) in [(1.2, 70.0, 23.37), (-0.4, 8.0, 0.0), (3.0, 150.0, 61.9), (0.5, 2.0, 100.5)] {
        let (axis, input, output) = step_test(gain, tau, theta, 0.0, 0);
        let model = fit(&axis, &input, &output);
        let p = &model.parameters;
        assert!((p.gain.value / gain - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
        assert!((p.time_constant.value / tau - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
        assert!((p.dead_time.value - theta).abs() < 1e-5, "{gain} {tau} {theta}: {p:?}");
        assert!((model.operating.pv - 75.0).abs() < 1e-6 && model.operating.op == 40.0);
        assert!(model.fit_percent > 99.999);
    }
}

#[test]
fn standard_errors_are_the_spread_over_repetitions() {
    let (gain, tau, theta) = (1.2, 40.0, 15.4);
    let fits: Vec<FopdtModel> = (0..100)
        .map(|seed| {
            let (axis, input, output) = step_test(gain, tau, theta, 0.5, seed);
            fit(&axis, &input, &output)
        })
        .collect();
    for (index, truth) in [gain, tau, theta].into_iter().enumerate() {
        let estimates = fits.iter().map(|model| {
            let FopdtParameters { gain, time_constant, dead_time } = &model.parameters;
            [gain, time_constant, dead_time][index]
        });
        let spread = (estimates.clone().map(|p| (p.value - truth).powi(2)).sum::<f64>() / 100.0).sqrt();
        let claimed = estimates.map(|p| p.standard_error.unwrap()).sum::<f64>() / 100.0;
        // The spread of 100 repetitions is itself known to 7 %: three of these.
        assert!((spread / claimed - 1.0).abs() < 0.22, "parameter {index}: spread {spread}, claimed {claimed}");
    }
}

#[test]
fn a_single_step_is_not_explained_by_the_past() {
    // An input before the record, a dead time of 112.5 s ago, would explain this response just as well.
    let axis = TimeAxis::uniform(1.0, 600).unwrap();
    let input: Vec<f64> = (0..600).map(|k| if k < 100 { 50.0 } else { 60.0 }).collect();
    let since = |k: usize| axis.at(k) - 112.5;
    let output: Vec<f64> =
        (0..600).map(|k| 80.0 + if since(k) > 0.0 { 12.0 * (1.0 - (-since(k) / 40.0).exp()) } else { 0.0 }).collect();
    let model = fit(&axis, &input, &output);
    assert!((model.parameters.gain.value - 1.2).abs() < 1e-6, "{model:?}");
    assert!((model.parameters.dead_time.value - 12.5).abs() < 1e-6 && model.earlier_input == 0.0);
}

#[test]
fn a_fast_process_is_found_in_a_long_record() {
    // Blocks of all data are far longer here than dead time and time constant, and the input is periodic.
    let axis = TimeAxis::uniform(1.0, 200_000).unwrap();
    let input: Vec<f64> = (0..200_000).map(|k| if k / 97 % 2 == 1 { 55.0 } else { 45.0 }).collect();
    let mut generator = ChaCha8Rng::seed_from_u64(9);
    let mut output = Vec::new();
    first_order_response(&axis, &input, 40.0, DeadTime::new(12.37).unwrap(), |_, sample| {
        let deviate: f64 = StandardNormal.sample(&mut generator);
        output.push(20.0 + 1.2 * sample.value + 0.3 * deviate);
    });
    let p = fit(&axis, &input, &output).parameters;
    for (estimate, truth) in [(&p.gain, 1.2), (&p.time_constant, 40.0), (&p.dead_time, 12.37)] {
        assert!((estimate.value - truth).abs() < 4.0 * estimate.standard_error.unwrap(), "{p:?}");
    }
}

#[test]
fn missing_samples_and_a_start_in_motion_do_no_harm() {
    let (axis, mut input, mut output) = step_test(1.2, 70.0, 23.37, 0.0, 0);
    for k in (0..800).step_by(7) {
        output[k] = f64::NAN;
    }
    input[200..210].fill(f64::NAN);
    for (k, value) in output.iter_mut().enumerate() {
        *value += 3.0 * (-axis.at(k) / 70.0).exp();
    }
    let model = fit(&axis, &input, &output);
    assert!((model.parameters.gain.value - 1.2).abs() < 1e-5, "{model:?}");
    assert!((model.parameters.dead_time.value - 23.37).abs() < 1e-4);
    assert!((model.transient - 3.0).abs() < 1e-4);
    assert_eq!(model.samples, 800 - 115);
}

#[test]
fn irregular_samples_give_the_same_model() {
    let (axis, input, output) = step_test(1.2, 70.0, 23.37, 0.0, 0);
    let kept: Vec<usize> =
        (0..800).filter(|k| (59..62).contains(k) || (399..402).contains(k) || k * k % 5 != 1).collect();
    let times: Vec<f64> = kept.iter().map(|k| axis.at(*k)).collect();
    let pick = |series: &[f64]| -> Vec<f64> { kept.iter().map(|k| series[*k]).collect() };
    let model = fit(&TimeAxis::from_times(&times).unwrap(), &pick(&input), &pick(&output));
    assert!((model.parameters.dead_time.value - 23.37).abs() < 1e-4, "{model:?}");
    assert!((model.parameters.time_constant.value - 70.0).abs() < 1e-3);
}

#[test]
fn data_that_cannot_answer_say_why() {
    let refused = |input: &[f64], output: &[f64]| {
        let axis = TimeAxis::uniform(1.0, input.len()).unwrap();
        fit_fopdt(DataSet { axis: &axis, input, output, input_unit: "%", output_unit: "°C" }).unwrap_err().to_string()
    };
    let moving: Vec<f64> = (0..20).map(f64::from).collect();
    assert_eq!(refused(&[45.0; 20], &moving), "the OP never moves, it stands at 45 %: record a test in which it moves");
    assert!(refused(&moving, &[3.0; 20]).starts_with("the PV never moves, it stands at 3 °C"));
    assert!(refused(&moving[..4], &moving[..4]).starts_with("only 4 samples"));
    assert!(refused(&moving, &[f64::NAN; 20]).starts_with("only 0 samples"));
    assert!(refused(&moving, &moving[..3]).starts_with("number of PV samples is 3"));
}

#[test]
fn noise_alone_is_called_so() {
    let (axis, input, output) = step_test(0.02, 40.0, 10.0, 1.0, 3);
    let model = fit(&axis, &input, &output);
    assert!(model.verdicts.iter().any(|verdict| verdict.text.contains("times the noise")), "{:?}", model.verdicts);
}

#[test]
fn an_integrating_process_is_called_so_and_its_gain_has_no_error() {
    let axis = TimeAxis::uniform(10.0, 600).unwrap();
    let input: Vec<f64> = (0..600).map(|k| if (100..300).contains(&k) { 55.0 } else { 50.0 }).collect();
    let mut level = 2.0;
    let output: Vec<f64> = input
        .iter()
        .map(|op| {
            let now = level;
            level += 10.0 * 1e-5 * (op - 50.0);
            now
        })
        .collect();
    let model = fit(&axis, &input, &output);
    assert!(model.verdicts.iter().any(|verdict| verdict.text.contains("looks integrating")), "{:?}", model.verdicts);
    assert_eq!((&model.parameters.gain.standard_error, &model.parameters.time_constant.standard_error), (&None, &None));
    // What the data do tell is the ratio: 1e-5 per s and %.
    let ratio = model.parameters.gain.value / model.parameters.time_constant.value;
    assert!((ratio / 1e-5 - 1.0).abs() < 0.05, "{ratio}");
}

#[test]
fn the_model_follows_units_and_the_clock() {
    // Gain scales with the PV and inversely with the OP, times with the clock, offsets do not matter; fit stays.
    let (axis, input, output) = step_test(1.2, 40.0, 15.4, 0.4, 11);
    let plain = fit(&axis, &input, &output);
    let slow = TimeAxis::uniform(60.0, 800).unwrap();
    let scaled_input: Vec<f64> = input.iter().map(|op| 0.01 * op - 3.0).collect();
    let scaled_output: Vec<f64> = output.iter().map(|pv| 1000.0 - 1.8 * pv).collect();
    let scaled = fit(&slow, &scaled_input, &scaled_output);
    let (p, q) = (&plain.parameters, &scaled.parameters);
    for (value, expected) in [
        (q.gain.value, p.gain.value * -180.0),
        (q.time_constant.value, p.time_constant.value * 60.0),
        (q.dead_time.value, p.dead_time.value * 60.0),
        (q.dead_time.standard_error.unwrap(), p.dead_time.standard_error.unwrap() * 60.0),
        (scaled.fit_percent, plain.fit_percent),
        (scaled.operating.pv, 1000.0 - 1.8 * plain.operating.pv),
    ] {
        assert!((value / expected - 1.0).abs() < 1e-4, "{value} is not {expected}");
    }
}

#[test]
fn the_derivatives_are_those_of_the_residuals() {
    let (axis, input, output) = step_test(1.2, 40.0, 15.4, 0.4, 5);
    let data = DataSet { axis: &axis, input: &input, output: &output, input_unit: "%", output_unit: "°C" };
    let prepared = Prepared::new(data).unwrap();
    // Half the gradient of the sum of squares, by central differences and by Jᵀr of the compressed problem.
    let at = [1.0, 0.3, -2.0, 30f64.ln(), 12.3];
    for earlier in [0.0, 4.0] {
        let compressed = prepared.sums(&at, earlier).compress::<5>();
        let gradient = compressed.jacobian.transpose() * compressed.residual;
        for k in 0..5 {
            let step = 1e-5;
            let moved = |by: f64| {
                let mut there = at;
                there[k] += by;
                prepared.sums(&there, earlier).sum_of_squares()
            };
            let numeric = (moved(step) - moved(-step)) / (4.0 * step);
            assert!((gradient[k] - numeric).abs() < 1e-5 * (1.0 + numeric.abs()), "{k}: {} {numeric}", gradient[k]);
        }
    }
}
