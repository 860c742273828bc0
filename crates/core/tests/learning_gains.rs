//! Predictive control that learns while it runs how strongly its MVs act.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{Learning, PredictiveSettings};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::simulation::{Event, Plant, Trace, Trial};
use antistasis_core::tuning::{begin_predictive, with_equations, with_learning, with_linear_model};
use planned::{Cells, column, plant, predictive, settings, trial, wood_berry};
use proptest::prelude::*;

const LAG: f64 = 20.0;

fn learns(own: &mut PredictiveSettings, lasts: f64, amplitude: f64) {
    own.learns = Some(Learning { lasts, amplitude, clock: 15.0, again_after: None, seed: 3 });
}

/// One loop of a lag with dead time whose MV acts so many times as strongly as the model says.
fn one_loop(factor: f64, noise: f64, duration: f64) -> Trial {
    let cells = |gain: f64| vec![vec![[gain, LAG, 4.0]]];
    modelled(1.2, plant(&cells(1.2 * factor), 1), noise, duration)
}

/// The same plant with this gain in the model.
fn modelled(gain: f64, mut plant: Plant, noise: f64, duration: f64) -> Trial {
    let cells = vec![vec![[gain, LAG, 4.0]]];
    let mut own = settings(&cells, 1, 80.0, vec![1, 1, 2, 4, 8]);
    own.cvs[0].response_time = 10.0;
    plant.sensor.noise = noise;
    trial(plant, own, 1.0, duration)
}

fn learnt(trace: &Trace, k: usize) -> &[f64] {
    column(trace, &format!("Y{k}.OP acts, as learnt"))
}

#[test]
fn what_is_learnt_from_moves_is_planned_with_and_does_better() {
    for factor in [0.4, 2.2] {
        let mut looped = one_loop(factor, 0.1, 1200.0);
        looped.scenario.events = vec![Event::set_point(600.0, 8.0), Event::load(850.0, 6.0)];
        let mut right = modelled(1.2 * factor, looped.plant.clone(), 0.1, 1200.0);
        right.scenario = looped.scenario.clone();
        let right = right.run().unwrap();
        let given = looped.run().unwrap();
        learns(predictive(&mut looped), 400.0, 2.0);
        let trace = looped.run().unwrap();
        assert!((learnt(&trace, 1)[599] / factor - 1.0).abs() < 0.05, "{factor}: {}", learnt(&trace, 1)[599]);
        // Neither the set point nor the load is taken for something else than it is.
        assert!((learnt(&trace, 1)[1199] / factor - 1.0).abs() < 0.08, "{factor}: {}", learnt(&trace, 1)[1199]);
        let told = looped.ahead(700.0).unwrap().mvs[0].learnt.unwrap();
        assert!(
            (told.planned_with / factor - 1.0).abs() < 0.08 && told.standard_error.unwrap() < 0.05 * factor,
            "{told:?}"
        );
        // From then on the loop is that of a controller with the right model.
        let [right, with, given] = [&right, &trace, &given].map(|trace| {
            let pv = column(trace, "Y1.PV");
            (600..1200).map(|k| (pv[k] - column(&right, "Y1.PV")[k]).abs()).fold(0.0, f64::max)
        });
        eprintln!("× {factor}: furthest from the right one {right:.3} {with:.3} learnt, {given:.3} as given");
        assert!(with < 0.15 * given && with < 0.5, "× {factor}: {with} {given}");
    }
}

/// Over and over with other noise: the truth is within 1.96 standard errors at least as often as these say. Beside plain noise they are
/// careful: the observer is ready for disturbances that do not come.
#[test]
fn standard_errors_do_not_claim_too_much() {
    let mut inside = 0;
    for seed in 0..80 {
        let mut looped = one_loop(0.7, 0.3, 700.0);
        looped.scenario.seed = seed;
        learns(predictive(&mut looped), 600.0, 2.0);
        predictive(&mut looped).learns.as_mut().unwrap().seed = seed;
        let told = looped.ahead(690.0).unwrap().mvs[0].learnt.unwrap();
        inside += u32::from((told.factor.unwrap() - 0.7).abs() < 1.96 * told.standard_error.unwrap());
    }
    eprintln!("{inside} of 80 within 1.96 standard errors");
    assert!(inside >= 72, "{inside} of 80");
}

/// A plant whose gain falls by half is found again by the next stretch of moves; on the way nothing is planned with that is neither, as the
/// first samples of a stretch, without a dead time and in noise, would have it.
#[test]
fn a_gain_that_falls_is_found_by_the_next_stretch() {
    let cells = vec![vec![[1.2, LAG, 0.0]]];
    for seed in 0..8 {
        let mut of_gain = plant(&cells, 1);
        of_gain.process = ProcessSpec::Linear(LinearSpec::Fopdt { gain: 1.2, time_constant: LAG, dead_time: 0.0 });
        of_gain.sensor.noise = 0.3;
        let mut own = settings(&cells, 1, 80.0, vec![1, 1, 2, 4, 8]);
        own.cvs[0].response_time = 10.0;
        learns(&mut own, 600.0, 3.0);
        own.learns.as_mut().unwrap().again_after = Some(1500.0);
        own.learns.as_mut().unwrap().seed = seed;
        let mut looped = trial(of_gain, own, 1.0, 2400.0);
        looped.scenario.seed = seed;
        looped.scenario.events =
            vec![Event::ParameterChange { at: 1000.0, parameter: "gain".into(), to: 0.6, over: 0.0 }];
        let trace = looped.run().unwrap();
        let moved = |from: usize, to: usize| {
            column(&trace, "Y1.OP")[from..to].windows(2).filter(|pair| (pair[1] - pair[0]).abs() > 2.0).count()
        };
        assert!(moved(0, 600) > 5 && moved(1500, 2100) > 5, "{} {}", moved(0, 600), moved(1500, 2100));
        let used = learnt(&trace, 1);
        assert!((used[1499] - 1.0).abs() < 0.12, "{seed}: {}", used[1499]);
        assert!((used[2399] - 0.5).abs() < 0.06, "{seed}: {}", used[2399]);
        assert!(
            used.iter().all(|factor| (0.38..1.25).contains(factor)),
            "{seed}: {:?}",
            used.iter().fold(1.0f64, |a, b| a.min(*b))
        );
    }
}

/// The moves are within the limits and rates of the MV, about what is planned, and end when they are to end.
#[test]
fn moves_to_learn_keep_within_limits_and_end() {
    let mut looped = one_loop(1.0, 0.0, 900.0);
    let own = predictive(&mut looped);
    (own.mvs[0].low, own.mvs[0].high, own.mvs[0].rate) = (48.5, 51.0, Some(0.7));
    learns(own, 300.0, 3.0);
    let trace = looped.run().unwrap();
    let op = column(&trace, "Y1.OP");
    assert!(op.iter().all(|op| (48.5..=51.0).contains(op)));
    assert!(op.windows(2).all(|pair| (pair[1] - pair[0]).abs() <= 0.7 + 1e-9));
    let moved = |part: &[f64]| part.windows(2).filter(|pair| (pair[1] - pair[0]).abs() > 0.3).count();
    assert!(moved(&op[..300]) > 8 && moved(&op[305..]) == 0, "{} {}", moved(&op[..300]), moved(&op[305..]));
    assert!((column(&trace, "Y1.PV")[899] - 50.0).abs() < 1e-3);
    assert!(learnt(&trace, 1).iter().all(|factor| (factor - 1.0).abs() < 0.02));
}

/// Loads are not taken for what the MV does, though the loop acts against them while it learns; and where the moves say nothing else than the
/// model it is left alone.
#[test]
fn what_disturbs_is_not_taken_for_what_the_mv_does() {
    for (factor, noise) in [(1.0, 0.2), (1.0, 0.02), (0.6, 0.05)] {
        let mut looped = one_loop(factor, noise, 3000.0);
        learns(predictive(&mut looped), 2500.0, 2.0);
        let load = |k: i32| Event::load(200.0 * f64::from(k), [6.0, -9.0, 4.0][k as usize % 3]);
        looped.scenario.events = (1..14).map(load).collect();
        looped.run().unwrap();
        let told = looped.ahead(2900.0).unwrap().mvs[0].learnt.unwrap();
        let (found, error) = (told.factor.unwrap(), told.standard_error.unwrap());
        assert!((found - factor).abs() < 3.0 * error.max(0.02), "{factor}: {told:?}");
        assert!((told.planned_with / factor - 1.0).abs() < 0.1, "{factor}: {told:?}");
    }
}

/// What is in manual is not moved: nothing is told, and it is planned with as it was given.
#[test]
fn an_mv_that_is_not_moved_stays_as_it_was_given() {
    let cells = wood_berry();
    let scaled: Cells = cells.iter().map(|row| vec![[2.0 * row[0][0], row[0][1], row[0][2]], row[1]]).collect();
    let mut own = settings(&cells, 2, 60.0, vec![1, 1, 2, 4, 8]);
    learns(&mut own, 600.0, 1.0);
    let mut looped = trial(plant(&scaled, 2), own, 1.0, 900.0);
    looped.scenario.events = vec![Event::ToManual { at: 0.0 }];
    planned::further(&mut looped, "Y2", vec![Event::ToManual { at: 0.0 }]);
    let trace = looped.run().unwrap();
    assert!(trace.stopped.is_none());
    for mv in looped.ahead(800.0).unwrap().mvs {
        assert_eq!(mv.learnt.unwrap().planned_with, 1.0, "{}", mv.tag);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Two coupled loops whose MVs act otherwise than the model says: both factors are found, no limit is passed, no offset stays.
    #[test]
    fn factors_of_two_coupled_loops_are_found(
        gains in proptest::array::uniform4(0.4f64..1.8),
        lags in proptest::array::uniform4(8f64..35.0),
        dead in proptest::array::uniform4(0f64..8.0),
        factors in proptest::array::uniform2(0.5f64..1.9),
        noise in 0f64..0.15,
        load in -5f64..5.0,
        set_point in -6f64..6.0,
    ) {
        let cell = |i: usize, factor: f64| [gains[i] * factor, lags[i], dead[i]];
        let cells = |by: [f64; 2]| -> Cells {
            vec![vec![cell(0, 1.5 * by[0]), cell(1, 0.3 * by[1])], vec![cell(2, -0.3 * by[0]), cell(3, 1.5 * by[1])]]
        };
        let mut own = settings(&cells([1.0; 2]), 2, 100.0, vec![1, 1, 2, 4, 8]);
        own.cvs.iter_mut().for_each(|cv| cv.response_time = 15.0);
        own.mvs.iter_mut().for_each(|mv| (mv.low, mv.high) = (30.0, 70.0));
        learns(&mut own, 500.0, 2.0);
        let mut plant = plant(&cells(factors), 2);
        plant.sensor.noise = noise;
        let mut looped = trial(plant, own, 1.0, 1500.0);
        looped.scenario.events = vec![Event::set_point(600.0, set_point), Event::load(900.0, load)];
        let trace = looped.run().unwrap();
        prop_assert!(trace.stopped.is_none());
        for k in 1..=2 {
            let op = column(&trace, &format!("Y{k}.OP"));
            prop_assert!(op.iter().all(|op| (30.0..=70.0).contains(op)));
            let found = learnt(&trace, k);
            prop_assert!((found[560] / factors[k - 1] - 1.0).abs() < 0.06, "{k}: {} for {}", found[560], factors[k - 1]);
            prop_assert!((found[1499] / factors[k - 1] - 1.0).abs() < 0.1, "{k}: {} for {}", found[1499], factors[k - 1]);
        }
        let free = (1..=2).all(|k| (30.5..69.5).contains(&column(&trace, &format!("Y{k}.OP"))[1499]));
        if free && noise < 0.01 {
            let y = column(&trace, "Y1.PV")[1499];
            prop_assert!((y - 50.0 - set_point).abs() < 0.1, "{y}");
        }
    }
}

/// What is proposed to learn by tells the factors of the column of Wood & Berry, whose cells differ in dead time and sign.
#[test]
fn what_is_proposed_to_learn_by_is_enough() {
    let cells = wood_berry();
    let by = [1.4, 0.7];
    let scaled: Cells = cells
        .iter()
        .map(|row| row.iter().zip(by).map(|(cell, by)| [by * cell[0], cell[1], cell[2]]).collect())
        .collect();
    let mut plant = plant(&scaled, 2);
    plant.sensor.noise = 0.1;
    plant.further_measured[0].sensor.noise = 0.1;
    let given = settings(&cells, 2, 60.0, vec![1, 1, 2, 4, 8]);
    let own = with_learning(&plant, 1.0, &given).unwrap();
    let learning = own.learns.clone().unwrap();
    assert!((0.5..=5.0).contains(&learning.amplitude) && learning.lasts > 20.0 * learning.clock, "{learning:?}");
    let looped = trial(plant.clone(), own, 1.0, learning.lasts + 20.0);
    for (mv, by) in looped.ahead(learning.lasts + 10.0).unwrap().mvs.iter().zip(by) {
        let told = mv.learnt.unwrap();
        assert!((told.planned_with / by - 1.0).abs() < 0.1, "{}: {told:?}", mv.tag);
    }
    // With equations nothing is learnt so: it is refused, with the way out.
    let fouling: Trial = serde_json::from_str(include_str!("../../../demo/trials/TIC-310-fouling.json")).unwrap();
    let begun = begin_predictive(&fouling.plant, 20.0, &[]).unwrap();
    let ControllerSpec::Predictive(own) = begun.controller else { panic!() };
    let own = with_equations(&fouling.plant, &own).unwrap();
    let refused = with_learning(&fouling.plant, 20.0, &own).unwrap_err().to_string();
    assert!(refused.contains("let a parameter of them drift"), "{refused}");
    let learnt = with_learning(&fouling.plant, 20.0, &with_linear_model(&fouling.plant, 20.0, &own).unwrap()).unwrap();
    assert!(with_equations(&fouling.plant, &learnt).unwrap().learns.is_none());
}

#[test]
fn what_cannot_be_learnt_is_refused_by_name_and_documents_come_back() {
    let refused = |learning: Learning| {
        let mut looped = one_loop(1.0, 0.0, 60.0);
        predictive(&mut looped).learns = Some(learning);
        looped.run().unwrap_err().field().unwrap().to_owned()
    };
    let usual = Learning { lasts: 100.0, amplitude: 2.0, clock: 5.0, again_after: None, seed: 0 };
    assert_eq!(refused(Learning { lasts: 0.0, ..usual.clone() }), "controller.learns.lasts");
    assert_eq!(refused(Learning { amplitude: 80.0, ..usual.clone() }), "controller.learns.amplitude");
    assert_eq!(refused(Learning { clock: -1.0, ..usual.clone() }), "controller.learns.clock");
    assert_eq!(refused(Learning { again_after: Some(50.0), ..usual.clone() }), "controller.learns.again_after");

    let mut looped = one_loop(1.0, 0.0, 60.0);
    assert!(!serde_json::to_string(&looped).unwrap().contains("learns"));
    predictive(&mut looped).learns = Some(usual);
    let text = serde_json::to_string(&looped).unwrap();
    assert!(text.contains(r#""learns":{"lasts":100.0,"amplitude":2.0,"clock":5.0}"#), "{text}");
    assert_eq!(serde_json::from_str::<Trial>(&text).unwrap(), looped);
    // In the trail it is told by name.
    let before = one_loop(1.0, 0.0, 60.0);
    assert_eq!(looped.difference(&before), ["learns how strongly its MVs act"]);
    assert_eq!(before.difference(&looped), ["learns no longer how strongly its MVs act"]);
    let mut further = looped.clone();
    predictive(&mut further).learns.as_mut().unwrap().amplitude = 3.0;
    assert_eq!(further.difference(&looped), ["to learn amplitude 2 → 3"]);
    assert!(looped.written_out().unwrap_err().field().unwrap().ends_with("learns"));
}
