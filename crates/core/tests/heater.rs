//! FOPDT fit of the laboratory heater record: a classic open record, read from Debian's package `libslicot-doc`.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::identification::{DataSet, FitOptions, Parameter, Series, Structure, fit, fit_fopdt, validate};
use antistasis_core::series::TimeAxis;

#[path = "support/heater.rs"]
mod heater;
use heater::{data, record};

/// Made by `reference/heater_fit.py` with SciPy.
const REFERENCE: &str = include_str!("../../../reference/data/heater_fit.json");
/// Made by `reference/heater_arx.py` with NumPy.
const ARX_REFERENCE: &str = include_str!("../../../reference/data/heater_arx.json");

#[test]
fn fopdt_of_the_laboratory_heater() {
    let (input, output) = record();
    let model = fit_fopdt(&data(input, output)).unwrap();
    let reference: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
    let expected = |name: &str| reference[name].as_f64().unwrap();
    let agrees = |name: &str, estimate: &Parameter| {
        let value = expected(name);
        assert!((estimate.value / value - 1.0).abs() < 1e-5, "{name}: {} is not {value}", estimate.value);
        let error = expected(&format!("{name}_standard_error"));
        // SciPy's derivatives are finite differences.
        assert!((estimate.white_error.unwrap() / error - 1.0).abs() < 1e-3, "{name}: ± {error}");
    };
    agrees("gain", &model.parameters[0]);
    agrees("time_constant", &model.parameters[1]);
    agrees("dead_time", &model.parameters[2]);
    assert!((model.estimation.fit_simulated - expected("fit_percent")).abs() < 1e-4);
    // The figures asked of any implementation: 0.970, 0.374 s, 0.221 s, 85.3 %.
    assert!((model.parameters[0].value - 0.970).abs() < 0.005);
    assert!((model.parameters[1].value - 0.374).abs() < 0.005);
    assert!((model.parameters[2].value - 0.221).abs() < 0.005);
    assert!((model.estimation.fit_simulated - 85.3).abs() < 0.2);
}

#[test]
fn the_simulated_output_has_the_stated_fit() {
    let (input, output) = record();
    let axis = TimeAxis::uniform(0.08, 1000).unwrap();
    let model = fit_fopdt(&data(input.clone(), output.clone())).unwrap();
    let simulated = model.simulate(&axis, &[&input]).unwrap();
    let mean = output.iter().sum::<f64>() / 1000.0;
    let error: f64 = output.iter().zip(&simulated).map(|(y, s)| (y - s).powi(2)).sum();
    let swing: f64 = output.iter().map(|y| (y - mean).powi(2)).sum();
    assert!((100.0 * (1.0 - (error / swing).sqrt()) - model.estimation.fit_simulated).abs() < 1e-9);
}

#[test]
fn arx_by_linear_least_squares_is_that_of_numpy_on_the_first_half() {
    let (input, output) = record();
    let all = data(input, output);
    let (first, last) = (all.slice(0..500), all.slice(500..1000));
    let model = fit(&first, &FitOptions::new(Structure::Arx { na: 2, nb: 2, nk: 3 })).unwrap();
    let reference: serde_json::Value = serde_json::from_str(ARX_REFERENCE).unwrap();
    for (k, parameter) in model.parameters.iter().enumerate() {
        let value = reference["coefficients"][k].as_f64().unwrap();
        assert!((parameter.value - value).abs() < 1e-10, "{} is not {value}", parameter.value);
        let error = reference["standard_errors"][k].as_f64().unwrap();
        // NumPy's are for white residuals with N − p degrees of freedom.
        assert!((parameter.white_error.unwrap() / error - 1.0).abs() < 1e-9, "{parameter:?} ± {error}");
    }
    // The figures asked of any implementation: −1.2765, 0.3967, 0.0652, 0.0451(8), and 85.6 % in free simulation.
    for (parameter, figure) in model.parameters.iter().zip([-1.2765, 0.3967, 0.0652, 0.0452]) {
        assert!((parameter.value - figure).abs() < 1e-4, "{parameter:?} is not {figure}");
    }
    // There the simulation starts from measured samples, here from the states that fit best.
    let fit_there = reference["fit_of_free_simulation"].as_f64().unwrap();
    let validation = validate(&model, &last, false).unwrap();
    assert!(
        (fit_there - 85.6).abs() < 0.05 && (validation.performance.fit_simulated - fit_there).abs() < 0.2,
        "{validation:?}"
    );
}

#[test]
fn output_error_and_subspace_of_low_order_are_as_good_on_the_second_half() {
    let (input, output) = record();
    let all = data(input, output);
    let (first, last) = (all.slice(0..500), all.slice(500..1000));
    for structure in [
        Structure::OutputError { nb: 2, nf: 2, nk: 3 },
        Structure::StateSpace { order: 4 },
        Structure::StateSpace { order: 3 },
        Structure::BoxJenkins { nb: 2, nc: 1, nd: 2, nf: 2, nk: 3 },
    ] {
        let model = fit(&first, &FitOptions::new(structure)).unwrap();
        let found = validate(&model, &last, false).unwrap().performance.fit_simulated;
        println!("{structure:?}: {found:.2} % in free simulation on the second half");
        assert!(found > 84.6, "{structure:?}: {found} %");
    }
}
