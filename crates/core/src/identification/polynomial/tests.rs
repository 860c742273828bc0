//! Prediction errors against known systems.

use super::predictor::{Deviations, Shape};
use super::{OrderSearch, search_orders};
use crate::identification::loss::ScaledLoss;
use crate::identification::{DataSet, FitOptions, Loss, Model, Series, Structure, fit, validate};
use crate::series::TimeAxis;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

fn white(count: usize, seed: u64) -> Vec<f64> {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    (0..count).map(|_| StandardNormal.sample(&mut generator)).collect()
}

/// `A y = B/F u(t − nk) + C/D e` by its difference equations, written out plainly; polynomials with their leading 1,
/// `B` without.
struct Plant {
    a: &'static [f64],
    b: &'static [f64],
    f: &'static [f64],
    c: &'static [f64],
    d: &'static [f64],
    nk: usize,
}

impl Plant {
    fn data(&self, count: usize, noise: f64, seed: u64) -> DataSet {
        let e = white(count, seed);
        // An input with memory, which tells delays less sharply than white noise.
        let mut level = 0.0;
        let u: Vec<f64> = white(count, seed + 1_000_000)
            .iter()
            .map(|value| {
                level = 0.7 * level + value;
                level
            })
            .collect();
        let past = |series: &[f64], k: usize, lag: usize| if k >= lag { series[k - lag] } else { 0.0 };
        let (mut w, mut n, mut y) = (Vec::new(), Vec::new(), Vec::new());
        for k in 0..count {
            let b: f64 = self.b.iter().enumerate().map(|(j, b)| b * past(&u, k, self.nk + j)).sum();
            w.push(b - (1..self.f.len()).map(|j| self.f[j] * past(&w, k, j)).sum::<f64>());
            let c: f64 = (0..self.c.len()).map(|j| self.c[j] * noise * past(&e, k, j)).sum();
            n.push(c - (1..self.d.len()).map(|j| self.d[j] * past(&n, k, j)).sum::<f64>());
            let own: f64 = (1..self.a.len()).map(|j| self.a[j] * past(&y, k, j)).sum();
            y.push(w[k] + n[k] - own);
        }
        let lift = |series: Vec<f64>, by: f64| series.into_iter().map(|value| value + by).collect();
        let axis = TimeAxis::uniform(2.0, count).unwrap();
        DataSet::single(axis, Series::new("OP", "%", lift(u, 50.0)), Series::new("PV", "°C", lift(y, 80.0)))
    }
}

const ONE: &[f64] = &[1.0];
const ARX: Plant = Plant { a: &[1.0, -1.2, 0.35], b: &[0.5, 0.3], f: ONE, c: ONE, d: ONE, nk: 3 };
const ARMAX: Plant = Plant { c: &[1.0, 0.6], ..ARX };
const OUTPUT_ERROR: Plant = Plant { a: ONE, b: &[0.5, 0.3], f: &[1.0, -1.2, 0.35], c: ONE, d: ONE, nk: 2 };
const BOX_JENKINS: Plant = Plant { c: &[1.0, 0.4], d: &[1.0, -0.8], ..OUTPUT_ERROR };

fn cases() -> Vec<(Structure, Plant, Vec<f64>)> {
    vec![
        (Structure::Arx { na: 2, nb: 2, nk: 3 }, ARX, vec![-1.2, 0.35, 0.5, 0.3]),
        (Structure::Armax { na: 2, nb: 2, nc: 1, nk: 3 }, ARMAX, vec![-1.2, 0.35, 0.5, 0.3, 0.6]),
        (Structure::OutputError { nb: 2, nf: 2, nk: 2 }, OUTPUT_ERROR, vec![0.5, 0.3, -1.2, 0.35]),
        (
            Structure::BoxJenkins { nb: 2, nc: 1, nd: 1, nf: 2, nk: 2 },
            BOX_JENKINS,
            vec![0.5, 0.3, -1.2, 0.35, 0.4, -0.8],
        ),
    ]
}

#[test]
fn true_coefficients_lie_within_the_stated_errors() {
    for (structure, plant, truth) in cases() {
        for seed in 0..5 {
            let data = plant.data(1500, 0.4, seed);
            let model = fit(&data, &FitOptions::new(structure)).unwrap();
            for (parameter, truth) in model.parameters.iter().zip(&truth) {
                let error = parameter.standard_error.unwrap();
                assert!(
                    (parameter.value - truth).abs() < 4.0 * error && error < 0.1,
                    "{structure:?} {seed}: {parameter:?} is not {truth}"
                );
            }
            // What is left one sample ahead is the noise itself.
            let validation = validate(&model, &data, true).unwrap();
            assert!(
                validation.tests.whiteness > 1e-4 && validation.tests.cross_correlation[0].independence > 1e-4,
                "{structure:?}"
            );
        }
    }
}

#[test]
fn without_noise_the_coefficients_are_exact_and_the_simulation_is_the_output() {
    for (structure, plant, truth) in
        cases().into_iter().filter(|case| !matches!(case.0, Structure::BoxJenkins { .. } | Structure::Armax { .. }))
    {
        let data = plant.data(400, 0.0, 3);
        let model = fit(&data, &FitOptions::new(structure)).unwrap();
        for (parameter, truth) in model.parameters.iter().zip(&truth) {
            // Of ARX the means are taken off, which are not those of rest; of output error the first samples are off,
            // since the input
            // stood at 0 before the data and not at its first value.
            let allowed = if matches!(structure, Structure::Arx { .. }) { 0.05 } else { 0.01 };
            assert!((parameter.value - truth).abs() < allowed, "{structure:?}: {parameter:?} is not {truth}");
        }
        assert!(
            model.estimation.fit_simulated > 95.0 && model.estimation.fit_one_step > 98.0,
            "{:?}",
            model.estimation
        );
    }
}

#[test]
fn the_derivatives_are_those_of_the_prediction_errors() {
    let mut data = BOX_JENKINS.data(60, 0.4, 5);
    data.inputs.push(Series::new("FEED", "t/h", white(60, 9)));
    let means = (vec![50.0, 0.0], vec![80.0]);
    let deviations = Deviations::new(&data, &means);
    for structure in [
        Structure::Armax { na: 2, nb: 2, nc: 2, nk: 1 },
        Structure::OutputError { nb: 2, nf: 2, nk: 0 },
        Structure::BoxJenkins { nb: 1, nc: 2, nd: 2, nf: 2, nk: 3 },
    ] {
        let shape = Shape::of(structure, 2).unwrap();
        let theta: Vec<f64> =
            (0..shape.count()).map(|k| 0.3 / (1.0 + k as f64) * if k % 2 == 0 { 1.0 } else { -1.0 }).collect();
        let mut rows = Vec::new();
        deviations.walk(&shape, &theta, &mut |row| rows.push(row.to_vec()));
        for place in 0..shape.count() {
            let moved = |by: f64| {
                let mut there = theta.clone();
                there[place] += by;
                deviations.residuals(&shape, &there)
            };
            let (above, below) = (moved(1e-6), moved(-1e-6));
            for (k, row) in rows.iter().enumerate().filter(|(_, row)| row[shape.count()].is_finite()) {
                // A row holds the derivatives of the prediction, which are those of the error with the other sign.
                let numeric = -(above[k] - below[k]) / 2e-6;
                assert!(
                    (row[place] - numeric).abs() < 1e-6 * (1.0 + numeric.abs()),
                    "{structure:?} {place} at {k}: {} {numeric}",
                    row[place]
                );
            }
        }
        assert!(
            (deviations.sums(&shape, &theta, &ScaledLoss::SQUARES).sum_of_squares()
                - deviations.residuals(&shape, &theta).iter().filter(|e| e.is_finite()).map(|e| e * e).sum::<f64>())
            .abs()
                < 1e-9
        );
    }
}

#[test]
fn the_order_search_finds_orders_and_delay() {
    let (estimation, validation) = (ARX.data(2000, 0.3, 7), ARX.data(800, 0.3, 8));
    let found = search_orders(&estimation, Some(&validation), &OrderSearch { na: 4, nb: 4, nk: 6 }).unwrap();
    assert_eq!(found[0].structure, Structure::Arx { na: 2, nb: 2, nk: 3 });
    assert_eq!(found.len(), 96);
    // The figures are those of the fit itself, but for the few samples at the start.
    let model = fit(&estimation, &FitOptions::new(found[0].structure)).unwrap();
    assert!((model.estimation.fit_one_step - found[0].estimation_fit).abs() < 0.2);
    let on_new = validate(&model, &validation, false).unwrap().performance.fit_one_step;
    assert!((on_new - found[0].validation_fit.unwrap()).abs() < 0.5, "{on_new} {:?}", found[0]);
    let refused = search_orders(&estimation, None, &OrderSearch { na: 0, nb: 1, nk: 1 }).unwrap_err();
    assert_eq!(refused.to_string(), "The number of coefficients of A is 0: it must be 1 to 10.");
}

#[test]
fn a_noise_model_keeps_closed_loop_data_unbiased_and_output_error_does_not() {
    // A proportional controller around y(t) = 0.8 y(t−1) + 0.4 u(t−1) + e, gain 2; the set point moves a little.
    let (e, moves) = (white(8000, 21), white(8000, 22));
    let (mut y, mut u, mut sp) = (vec![0.0], vec![0.0], 0.0);
    for k in 1..8000 {
        y.push(0.8 * y[k - 1] + 0.4 * u[k - 1] + 0.5 * e[k]);
        if k % 25 == 0 {
            sp = moves[k];
        }
        u.push(1.2 * (sp - y[k]));
    }
    let axis = TimeAxis::uniform(1.0, 8000).unwrap();
    let data = DataSet::single(axis, Series::new("OP", "%", u), Series::new("PV", "°C", y));
    let gain = |model: &Model| model.frequency_response(None, 0, 0).unwrap().gains[0];
    let arx = fit(&data, &FitOptions::new(Structure::Arx { na: 1, nb: 1, nk: 1 })).unwrap();
    let simulated = fit(&data, &FitOptions::new(Structure::OutputError { nb: 1, nf: 1, nk: 1 })).unwrap();
    assert!((gain(&arx) - 2.0).abs() < 0.1, "{}", gain(&arx));
    assert!((gain(&simulated) - 2.0).abs() > 0.25, "{}", gain(&simulated));
    let validation = validate(&simulated, &data, true).unwrap();
    assert!(
        validation.verdicts.iter().any(|verdict| verdict.text.contains("closed loop")),
        "{:?}",
        validation.verdicts
    );
}

#[test]
fn outliers_and_gaps() {
    let mut data = ARX.data(1500, 0.3, 4);
    for k in (40..1500).step_by(60) {
        data.outputs[0].values[k] += 15.0;
    }
    let structure = Structure::OutputError { nb: 2, nf: 2, nk: 3 };
    let with = |loss| fit(&data, &FitOptions { loss, ..FitOptions::new(structure) }).unwrap();
    let miss = |model: &Model| (model.frequency_response(None, 0, 0).unwrap().gains[0] / (0.8 / 0.15) - 1.0).abs();
    assert!(miss(&with(Loss::Huber { width: 1.345 })) < 0.03);
    let mut gappy = ARX.data(1500, 0.3, 4);
    (100..110).for_each(|k| gappy.outputs[0].values[k] = f64::NAN);
    let refused = fit(&gappy, &FitOptions::new(structure)).unwrap_err().to_string();
    assert!(refused.starts_with("10 samples of the PV are missing"), "{refused}");
    let arx = fit(&gappy, &FitOptions::new(Structure::Arx { na: 2, nb: 2, nk: 3 })).unwrap();
    assert!((arx.parameters[0].value + 1.2).abs() < 0.05 && arx.estimation.samples == 1500 - 4 - 12);
}
