//! Subspace identification against known systems and published results.

#[path = "../../../tests/support/heater.rs"]
mod heater;

use super::*;
use crate::identification::{Series, fit};
use crate::series::TimeAxis;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Two inputs, two outputs, third order, with innovations.
fn plant(noise: f64, seed: u64) -> (DataSet, System) {
    let system = System {
        a: DMatrix::from_row_slice(3, 3, &[0.9, 0.1, 0.0, -0.1, 0.8, 0.1, 0.0, 0.0, 0.6]),
        b: DMatrix::from_row_slice(3, 2, &[1.0, 0.0, 0.5, 0.3, 0.0, 1.0]),
        c: DMatrix::from_row_slice(2, 3, &[1.0, 0.0, 0.5, 0.0, 1.0, 0.0]),
        k: DMatrix::from_row_slice(3, 2, &[0.4, 0.0, 0.0, 0.3, 0.1, 0.1]),
        initial: DVector::zeros(3),
    };
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let mut draw = || -> f64 { StandardNormal.sample(&mut generator) };
    let mut state = DVector::zeros(3);
    let mut series = vec![Vec::new(); 4];
    for _ in 0..2000 {
        let u = DVector::from_fn(2, |_, _| draw());
        let e = DVector::from_fn(2, |_, _| noise * draw());
        let y = &system.c * &state + &e;
        series.iter_mut().zip([u[0], u[1], y[0], y[1]]).for_each(|(list, value)| list.push(value));
        state = &system.a * state + &system.b * u + &system.k * e;
    }
    let mut series = series.into_iter();
    let mut next = |tag: &str| Series::new(tag, "", series.next().unwrap());
    let inputs = vec![next("u1"), next("u2")];
    let outputs = vec![next("y1"), next("y2")];
    (DataSet { axis: TimeAxis::uniform(1.0, 2000).unwrap(), inputs, outputs }, system)
}

fn poles(matrix: DMatrix<f64>) -> Vec<f64> {
    let mut moduli: Vec<f64> = eigenvalues(matrix).iter().map(|root| root.norm()).collect();
    moduli.sort_by(f64::total_cmp);
    moduli
}

#[test]
fn an_exact_system_is_found_with_its_order() {
    let (data, system) = plant(0.0, 1);
    let model = fit(&data, &FitOptions::new(Structure::StateSpace { order: 3 })).unwrap();
    let found = System::of(model.matrices.as_ref().unwrap());
    for (a, b) in poles(found.a.clone()).iter().zip(poles(system.a.clone())) {
        assert!((a - b).abs() < 1e-6, "{a} {b}");
    }
    // The impulse response does not depend on the choice of the states.
    let mut powers = (DMatrix::<f64>::identity(3, 3), DMatrix::<f64>::identity(3, 3));
    for _ in 0..10 {
        let difference = &found.c * &powers.0 * &found.b - &system.c * &powers.1 * &system.b;
        assert!(difference.norm() < 1e-6, "{difference}");
        powers = (&found.a * powers.0, &system.a * powers.1);
    }
    assert!(model.estimation.fit_simulated > 99.99);
}

#[test]
fn order_gain_and_noise_are_found_from_noisy_data() {
    let (data, system) = plant(0.5, 2);
    let model = fit(&data, &FitOptions::new(Structure::StateSpace { order: 0 })).unwrap();
    assert_eq!(model.structure, Structure::StateSpace { order: 3 });
    let errors = model.prediction_errors_on(&data).unwrap();
    let deviation = |errors: &[f64]| (errors.iter().map(|e| e * e).sum::<f64>() / 2000.0).sqrt();
    // What cannot be predicted is the innovation alone.
    assert!((deviation(&errors[0]) / 0.5 - 1.0).abs() < 0.06 && (deviation(&errors[1]) / 0.5 - 1.0).abs() < 0.06);
    let found = System::of(model.matrices.as_ref().unwrap());
    let dc = |s: &System| &s.c * (DMatrix::identity(3, 3) - &s.a).try_inverse().unwrap() * &s.b;
    assert!((dc(&found) - dc(&system)).norm() < 0.1 * dc(&system).norm());
}

/// The response of an output to a unit step of an input, from the matrices, by adding up `C Aᵏ B`.
fn steps_of(system: &System, input: usize, output: usize, count: usize) -> Vec<f64> {
    let mut state = DVector::zeros(system.a.nrows());
    (0..count)
        .map(|_| {
            let shown = (&system.c * &state)[output];
            state = &system.a * &state + system.b.column(input);
            shown
        })
        .collect()
}

#[test]
fn bands_of_every_way_hold_the_true_step_response() {
    // Two inputs and two outputs with coloured noise: all four ways, at times from the first answer until it has settled.
    let mut inside = [[0usize; 2]; 4];
    for seed in 0..24 {
        let (data, system) = plant(0.6, 100 + seed);
        let model = fit(&data, &FitOptions::new(Structure::StateSpace { order: 3 })).unwrap();
        for (way, count) in inside.iter_mut().enumerate() {
            let (input, output) = (way / 2, way % 2);
            let found = model.step_response(Some(&data), input, output, Some(40.0)).unwrap();
            let exact = steps_of(&system, input, output, found.values.len());
            for k in [2, 3, 5, 8, 12, 20, 30] {
                count[0] += usize::from((found.values[k] - exact[k]).abs() < found.half_widths[k]);
                count[1] += 1;
            }
        }
    }
    for (way, [inside, all]) in inside.into_iter().enumerate() {
        let share = inside as f64 / all as f64;
        // Times of one record go together: 24 records tell a share of 95 % to about 4 %.
        assert!((0.87..=0.995).contains(&share), "input {}, output {}: {share}", way / 2, way % 2);
    }
}

#[test]
fn maximum_likelihood_comes_nearer_than_the_subspaces() {
    // Errors of the gains at rest over 20 records, before and after.
    let dc = |s: &System| &s.c * (DMatrix::identity(3, 3) - &s.a).try_inverse().unwrap() * &s.b;
    let (mut before, mut after) = (0.0, 0.0);
    for seed in 0..20 {
        let (data, truth) = plant(0.6, 500 + seed);
        let signals = vec![Signals::new(&data, &data.means())];
        let subspace = Subspace::of(&signals, horizon(std::slice::from_ref(&data), 3), Weighting::Cva).unwrap();
        let (mut system, mut starts) = subspace.system(&signals, 3).unwrap();
        before += (dc(&system) - dc(&truth)).norm_squared();
        system.refine(&signals, &mut starts);
        after += (dc(&system) - dc(&truth)).norm_squared();
    }
    assert!(after < before, "{after} {before}");
}

#[test]
fn a_gap_is_passed_over() {
    let (mut data, truth) = plant(0.3, 9);
    data.outputs[0].values[700..740].fill(f64::NAN);
    data.outputs[1].values[1200] = f64::NAN;
    let model = fit(&data, &FitOptions::new(Structure::StateSpace { order: 3 })).unwrap();
    let found = System::of(model.matrices.as_ref().unwrap());
    for (k, (a, b)) in steps_of(&found, 0, 0, 30).iter().zip(steps_of(&truth, 0, 0, 30)).enumerate() {
        assert!((a - b).abs() < 0.25, "{k}: {a} {b}");
    }
}

#[test]
fn singular_values_and_poles_of_the_heater_are_the_published_ones() {
    // The documentation of the SLICOT library prints the singular values of MOESP with a horizon of 15 on this record
    // (IB01AD.res) and
    // the matrices of order 4 (IB01BD.res), to four decimals.
    let (input, output) = heater::record();
    let data = heater::data(input, output);
    let signals = Signals::new(&data, &(vec![0.0], vec![0.0]));
    let subspace = Subspace::of(std::slice::from_ref(&signals), 15, Weighting::Moesp).unwrap();
    let published = [
        69.8841, 14.9963, 3.6675, 1.9677, 0.3000, 0.2078, 0.1651, 0.1373, 0.1133, 0.1059, 0.0856, 0.0784, 0.0733,
        0.0678, 0.0571,
    ];
    for (value, published) in subspace.singular_values.iter().zip(published) {
        assert!((value - published).abs() < 6e-5, "{value} is not {published}");
    }
    let (a, _) = subspace.dynamics(4, 1).unwrap();
    let theirs = DMatrix::from_row_slice(
        4,
        4,
        &[
            0.8924, 0.3887, 0.1285, 0.1716, -0.0837, 0.6186, -0.6273, -0.4582, 0.0052, 0.1307, 0.6685, -0.6755, 0.0055,
            0.0734, -0.2148, 0.4788,
        ],
    );
    for (own, other) in poles(a).iter().zip(poles(theirs)) {
        assert!((own - other).abs() < 5e-4, "{own} is not {other}");
    }
}

#[test]
fn what_cannot_be_asked_is_refused() {
    let (mut data, _) = plant(0.1, 3);
    let refused =
        |data: &DataSet, order| fit(data, &FitOptions::new(Structure::StateSpace { order })).unwrap_err().to_string();
    assert!(refused(&data, 31).contains("order is 31"));
    data.axis = TimeAxis::Irregular((0..2000).map(|k| f64::from(k) + 0.3 * f64::from(k % 2)).collect());
    assert!(refused(&data, 3).contains("not evenly spaced"));
}
