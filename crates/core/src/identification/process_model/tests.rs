//! The fit against known models, and what it says of data that cannot answer.

use super::super::data::Series;
use super::super::{Constraint, DataSet, FitOptions, Loss, Model, Structure, fit as fit_any, fit_fopdt};
use super::ScaledLoss;
use super::prepared::{Before, Prepared};
use super::unknowns::{Bounds, Layout};
use crate::lti::{DeadTime, Dynamics, Response};
use crate::series::TimeAxis;
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

fn data(axis: &TimeAxis, input: &[f64], output: &[f64]) -> DataSet {
    DataSet::single(axis.clone(), Series::new("OP", "%", input.to_vec()), Series::new("PV", "°C", output.to_vec()))
}

fn fit(axis: &TimeAxis, input: &[f64], output: &[f64]) -> Model {
    fit_fopdt(&data(axis, input, output)).unwrap()
}

/// Gain, time constant and dead time of a first-order model.
fn values(model: &Model) -> [f64; 3] {
    [model.parameters[0].value, model.parameters[1].value, model.parameters[2].value]
}

#[test]
fn recovers_an_exact_model_with_fractional_dead_time() {
    for (gain, tau, theta) in [(1.2, 70.0, 23.37), (-0.4, 8.0, 0.0), (3.0, 150.0, 61.9), (0.5, 2.0, 100.5)] {
        let (axis, input, output) = step_test(gain, tau, theta, 0.0, 0);
        let model = fit(&axis, &input, &output);
        let p = &model.parameters;
        assert!((p[0].value / gain - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
        assert!((p[1].value / tau - 1.0).abs() < 1e-6, "{gain} {tau} {theta}: {p:?}");
        assert!((p[2].value - theta).abs() < 1e-5, "{gain} {tau} {theta}: {p:?}");
        assert!((model.operating.pv - 75.0).abs() < 1e-6 && model.operating.op == 40.0);
        assert!(model.estimation.fit_simulated > 99.999);
    }
}

#[test]
fn standard_errors_are_the_spread_over_repetitions() {
    let (gain, tau, theta) = (1.2, 40.0, 15.4);
    let fits: Vec<Model> = (0..100)
        .map(|seed| {
            let (axis, input, output) = step_test(gain, tau, theta, 0.5, seed);
            fit(&axis, &input, &output)
        })
        .collect();
    for (index, truth) in [gain, tau, theta].into_iter().enumerate() {
        let estimates = fits.iter().map(|model| &model.parameters[index]);
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
    assert!((model.parameters[0].value - 1.2).abs() < 1e-6, "{model:?}");
    assert!((model.parameters[2].value - 12.5).abs() < 1e-6 && (model.start.inputs[0] - 50.0).abs() < 1e-12);
}

#[test]
fn a_fast_process_is_found_in_a_long_record() {
    // Blocks of all data are far longer here than dead time and time constant, and the input is periodic.
    let axis = TimeAxis::uniform(1.0, 200_000).unwrap();
    let input: Vec<f64> = (0..200_000).map(|k| if k / 97 % 2 == 1 { 55.0 } else { 45.0 }).collect();
    let mut generator = ChaCha8Rng::seed_from_u64(9);
    let mut output = Vec::new();
    let theta = DeadTime::new(12.37).unwrap();
    for sample in Response::new(Dynamics::Lag { time_constant: 40.0 }, &axis, &input, input[0], theta) {
        let deviate: f64 = StandardNormal.sample(&mut generator);
        output.push(20.0 + 1.2 * sample.value + 0.3 * deviate);
    }
    let p = fit(&axis, &input, &output).parameters;
    for (estimate, truth) in [(&p[0], 1.2), (&p[1], 40.0), (&p[2], 12.37)] {
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
    assert!((model.parameters[0].value - 1.2).abs() < 1e-5, "{model:?}");
    assert!((model.parameters[2].value - 23.37).abs() < 1e-4);
    assert!((model.start.transients[0] - 3.0).abs() < 1e-4);
    assert_eq!(model.estimation.samples, 800 - 115);
}

#[test]
fn irregular_samples_give_the_same_model() {
    let (axis, input, output) = step_test(1.2, 70.0, 23.37, 0.0, 0);
    let kept: Vec<usize> =
        (0..800).filter(|k| (59..62).contains(k) || (399..402).contains(k) || k * k % 5 != 1).collect();
    let times: Vec<f64> = kept.iter().map(|k| axis.at(*k)).collect();
    let pick = |series: &[f64]| -> Vec<f64> { kept.iter().map(|k| series[*k]).collect() };
    let model = fit(&TimeAxis::from_times(&times).unwrap(), &pick(&input), &pick(&output));
    assert!((model.parameters[2].value - 23.37).abs() < 1e-4, "{model:?}");
    assert!((model.parameters[1].value - 70.0).abs() < 1e-3);
}

#[test]
fn data_that_cannot_answer_say_why() {
    let refused = |input: &[f64], output: &[f64]| {
        let axis = TimeAxis::uniform(1.0, input.len()).unwrap();
        fit_fopdt(&data(&axis, input, output)).unwrap_err().to_string()
    };
    let moving: Vec<f64> = (0..20).map(f64::from).collect();
    assert_eq!(refused(&[45.0; 20], &moving), "the OP never moves, it stands at 45 %: record a test in which it moves");
    assert!(refused(&moving, &[3.0; 20]).starts_with("the PV never moves, it stands at 3 °C"));
    assert!(refused(&moving[..4], &moving[..4]).starts_with("only 4 samples"));
    assert!(refused(&moving, &[f64::NAN; 20]).starts_with("only 0 samples"));
    assert!(refused(&moving, &moving[..3]).starts_with("The number of PV samples is 3"));
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
    assert_eq!((&model.parameters[0].standard_error, &model.parameters[1].standard_error), (&None, &None));
    // What the data do tell is the ratio: 1e-5 per s and %.
    let ratio = model.parameters[0].value / model.parameters[1].value;
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
        (q[0].value, p[0].value * -180.0),
        (q[1].value, p[1].value * 60.0),
        (q[2].value, p[2].value * 60.0),
        (q[2].standard_error.unwrap(), p[2].standard_error.unwrap() * 60.0),
        (scaled.estimation.fit_simulated, plain.estimation.fit_simulated),
        (scaled.operating.pv, 1000.0 - 1.8 * plain.operating.pv),
    ] {
        assert!((value / expected - 1.0).abs() < 1e-4, "{value} is not {expected}");
    }
}

#[test]
fn the_derivatives_are_those_of_the_residuals() {
    let (axis, input, output) = step_test(1.2, 40.0, 15.4, 0.4, 5);
    let mut set = data(&axis, &input, &output);
    set.inputs.push(Series::new("FEED", "t/h", (0..800).map(|k| f64::from(k * k % 31 / 15)).collect()));
    for structure in Structure::PROCESS {
        let options = FitOptions { drift: true, ..FitOptions::new(structure) };
        let layout = Layout::new(&options, 2, 1);
        let bounds = Bounds::new(&layout, &[&axis], &["OP".into(), "FEED".into()], &[]).unwrap();
        let prepared = Prepared::new(std::slice::from_ref(&set), &layout, &bounds);
        let mut at: Vec<f64> = (0..layout.count).map(|k| 0.3 + 0.1 * k as f64).collect();
        for path in &layout.paths {
            at[path.dead_time] = 12.3;
            if path.structure.is_integrating() {
                // Else the sum of squares is so large that its differences drown in rounding.
                at[path.gain] *= 0.01;
            }
            for (k, place) in path.shape.iter().enumerate() {
                at[*place] = if k == 1 && structure == Structure::Underdamped { -0.7 } else { 3.0 + k as f64 };
            }
        }
        // Half the gradient of the sum of squares, by central differences and by Jᵀr of the compressed problem.
        for before in Before::BOTH {
            let compressed = prepared.sums(&at, &[before], &ScaledLoss::SQUARES).compress();
            let gradient = compressed.jacobian.transpose() * compressed.residual;
            for k in 0..at.len() {
                let step = 1e-5;
                let moved = |by: f64| {
                    let mut there = at.clone();
                    there[k] += by;
                    prepared.sums(&there, &[before], &ScaledLoss::SQUARES).sum_of_squares()
                };
                let numeric = (moved(step) - moved(-step)) / (4.0 * step);
                assert!(
                    (gradient[k] - numeric).abs() < 1e-4 * (1.0 + numeric.abs()),
                    "{structure:?} {k}: {} {numeric}",
                    gradient[k]
                );
            }
        }
    }
}

/// The PV of a process with these dynamics behind a test of random switches, and its noise.
fn switched(
    dynamics: Dynamics,
    gain: f64,
    lead: f64,
    theta: f64,
    noise: f64,
    seed: u64,
) -> (TimeAxis, Vec<f64>, Vec<f64>) {
    let axis = TimeAxis::uniform(1.0, 900).unwrap();
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let mut level = 45.0;
    let input: Vec<f64> = (0..900)
        .map(|k| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            if k > 20 && k % 30 == 0 {
                level = if deviate > 0.0 { 50.0 } else { 40.0 };
            }
            level
        })
        .collect();
    let about: Vec<f64> = input.iter().map(|value| value - 45.0).collect();
    let output = Response::new(dynamics, &axis, &about, 0.0, DeadTime::new(theta).unwrap())
        .map(|sample| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            75.0 + gain * (sample.value + lead * sample.slope) + noise * deviate
        })
        .collect();
    (axis, input, output)
}

/// The structures with dynamics of their kind: gain, lead, dead time, and the true parameters in the order of the
/// model.
fn plants() -> Vec<(Structure, Dynamics, [f64; 3], Vec<f64>)> {
    let lags = Dynamics::TwoLags { time_constants: [30.0, 9.0] };
    vec![
        (Structure::Fopdt, Dynamics::Lag { time_constant: 25.0 }, [1.5, 0.0, 7.4], vec![1.5, 25.0, 7.4]),
        (Structure::TwoLags, lags, [1.5, 0.0, 7.4], vec![1.5, 30.0, 9.0, 7.4]),
        (
            Structure::Underdamped,
            Dynamics::SecondOrder { time_constant: 8.0, damping: 0.3 },
            [-0.8, 0.0, 3.3],
            vec![-0.8, 8.0, 0.3, 3.3],
        ),
        (Structure::TwoLagsLead, lags, [1.5, -12.0, 4.6], vec![1.5, -12.0, 30.0, 9.0, 4.6]),
        (Structure::TwoLagsLead, lags, [1.5, 60.0, 4.6], vec![1.5, 60.0, 30.0, 9.0, 4.6]),
        (Structure::Integrating, Dynamics::Integrator, [0.02, 0.0, 12.7], vec![0.02, 12.7]),
        (
            Structure::IntegratingLag,
            Dynamics::IntegratorLag { time_constant: 14.0 },
            [0.02, 0.0, 5.2],
            vec![0.02, 14.0, 5.2],
        ),
    ]
}

#[test]
fn every_structure_recovers_its_exact_parameters() {
    for (structure, dynamics, [gain, lead, theta], truth) in plants() {
        let (axis, input, output) = switched(dynamics, gain, lead, theta, 0.0, 3);
        let model = fit_any(&data(&axis, &input, &output), &FitOptions::new(structure)).unwrap();
        let mut found: Vec<f64> = model.parameters.iter().map(|parameter| parameter.value).collect();
        if matches!(structure, Structure::TwoLags | Structure::TwoLagsLead) {
            let slow = found.len() - 3;
            if found[slow] < found[slow + 1] {
                found.swap(slow, slow + 1);
            }
        }
        for (value, truth) in found.iter().zip(&truth) {
            assert!((value / truth - 1.0).abs() < 1e-4, "{structure:?}: {found:?} is not {truth:?}");
        }
        assert!((model.operating.pv - 75.0).abs() < 0.2 || !structure.is_integrating());
        if structure.is_integrating() {
            assert!((model.operating.op - 45.0).abs() < 1e-6, "{:?}", model.operating);
        }
        // The stated fit is that of the simulated output.
        let simulated = model.simulate(&axis, &[&input]).unwrap();
        assert!(simulated.iter().zip(&output).all(|(a, b)| (a - b).abs() < 1e-3), "{structure:?}");
    }
}

#[test]
fn drift_and_a_measured_disturbance_are_told_from_the_process() {
    let (axis, input, mut output) = switched(Dynamics::Lag { time_constant: 25.0 }, 1.5, 0.0, 7.4, 0.1, 8);
    let feed: Vec<f64> = (0..900).map(|k| if k / 113 % 2 == 0 { 20.0 } else { 26.0 }).collect();
    let effect =
        Response::new(Dynamics::Lag { time_constant: 40.0 }, &axis, &feed, feed[0], DeadTime::new(21.3).unwrap());
    for (k, (value, effect)) in output.iter_mut().zip(effect).enumerate() {
        *value += -0.7 * (effect.value - 20.0) + 0.004 * k as f64;
    }
    let mut set = data(&axis, &input, &output);
    set.inputs.push(Series::new("FEED", "t/h", feed));
    let model = fit_any(&set, &FitOptions { drift: true, ..FitOptions::new(Structure::Fopdt) }).unwrap();
    let truth = [1.5, 25.0, 7.4, -0.7, 40.0, 21.3];
    for (parameter, truth) in model.parameters.iter().zip(truth) {
        let error = parameter.standard_error.unwrap();
        assert!((parameter.value - truth).abs() < 4.0 * error && error < 0.1 * truth.abs() + 0.5, "{parameter:?}");
    }
    assert!((model.start.drift - 0.004).abs() < 2e-4, "{:?}", model.start);
    assert_eq!(model.parameters[3].input.as_deref(), Some("FEED"));
    assert_eq!(model.parameter("gain").unwrap().unit, "°C/%");
}

#[test]
fn outliers_pull_squares_away_and_the_robust_losses_hardly() {
    let (axis, input, mut output) = switched(Dynamics::Lag { time_constant: 25.0 }, 1.5, 0.0, 7.4, 0.1, 8);
    for k in (0..900).filter(|k| k % 23 == 0 && k % 60 > 25) {
        output[k] += 8.0;
    }
    let with = |loss| {
        fit_any(&data(&axis, &input, &output), &FitOptions { loss, ..FitOptions::new(Structure::Fopdt) }).unwrap()
    };
    let miss = |model: &Model| (values(model)[0] / 1.5 - 1.0).abs() + (values(model)[2] - 7.4).abs() / 7.4;
    let squares = miss(&with(Loss::Squares));
    for loss in [Loss::Huber { width: 1.345 }, Loss::Absolute] {
        let model = with(loss);
        assert!(miss(&model) < 0.25 * squares, "{loss:?}: {} of {squares}", miss(&model));
        let error = model.parameters[0].standard_error.unwrap();
        assert!((values(&model)[0] - 1.5).abs() < 4.0 * error && error < 0.02, "{loss:?} ± {error}");
    }
    // A dead band does not guard against outliers, it passes over what lies within the noise.
    let (axis, input, output) = switched(Dynamics::Lag { time_constant: 25.0 }, 1.5, 0.0, 7.4, 0.1, 8);
    let options = FitOptions { loss: Loss::DeadBand { width: 1.0 }, ..FitOptions::new(Structure::Fopdt) };
    assert!(miss(&fit_any(&data(&axis, &input, &output), &options).unwrap()) < 0.02);
}

#[test]
fn what_is_known_beforehand_is_kept() {
    let (axis, input, output) = switched(Dynamics::Lag { time_constant: 25.0 }, 1.5, 0.0, 7.4, 0.3, 8);
    let set = data(&axis, &input, &output);
    let with =
        |constraints: Vec<Constraint>| fit_any(&set, &FitOptions { constraints, ..FitOptions::new(Structure::Fopdt) });
    let known = |name: &str| Constraint { parameter: name.into(), ..Constraint::default() };
    let fixed = with(vec![
        Constraint { fixed: Some(1.4), ..known("gain") },
        Constraint { fixed: Some(6.0), ..known("dead_time") },
    ])
    .unwrap();
    assert_eq!((fixed.parameters[0].value, fixed.parameters[2].value), (1.4, 6.0));
    assert!(fixed.parameters[0].fixed && fixed.parameters[0].standard_error.is_none());
    assert!(fixed.parameters[1].standard_error.is_some() && fixed.criteria.as_ref().unwrap().parameters == 3);
    let bounded = with(vec![Constraint { low: Some(30.0), high: Some(50.0), ..known("time_constant") }]).unwrap();
    assert!((bounded.parameters[1].value - 30.0).abs() < 1e-9 && bounded.parameters[1].standard_error.is_none());
    // A range around the truth changes nothing.
    let free = with(vec![]).unwrap();
    let roomy = with(vec![Constraint { low: Some(1.0), high: Some(90.0), ..known("time_constant") }]).unwrap();
    assert!((free.parameters[1].value / roomy.parameters[1].value - 1.0).abs() < 1e-5);
    let refused = |constraint| with(vec![constraint]).unwrap_err().to_string();
    assert_eq!(refused(known("lag")), "There is no parameter lag; there are gain, time constant, dead time.");
    assert_eq!(
        refused(Constraint { fixed: Some(-2.0), ..known("time_constant") }),
        "The time constant in what is known beforehand is -2: it must be above 0."
    );
    assert_eq!(
        refused(Constraint { low: Some(9.0), high: Some(8.0), ..known("dead_time") }),
        "The lowest dead time (9) is above the highest (8)."
    );
}

#[test]
fn a_profile_has_the_width_of_the_interval_where_the_model_is_nearly_linear() {
    let (axis, input, output) = switched(Dynamics::Lag { time_constant: 25.0 }, 1.5, 0.0, 7.4, 0.1, 8);
    let (set, options) = (data(&axis, &input, &output), FitOptions::new(Structure::Fopdt));
    let model = fit_any(&set, &options).unwrap();
    for name in ["gain", "dead_time"] {
        let profile = super::profile(std::slice::from_ref(&set), &options, &model, name).unwrap();
        let [low, high] = profile.interval.map(Option::unwrap);
        let [from, to] = model.parameter(name).unwrap().interval.unwrap();
        assert!(((high - low) / (to - from) - 1.0).abs() < 0.15, "{name}: {low} {high}, {from} {to}");
        assert!(profile.points.len() > 20 && profile.points.iter().all(|point| point.rise > -1e-9));
    }
}
