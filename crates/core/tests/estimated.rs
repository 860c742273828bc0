//! Limits of what nothing measures: a predictive controller keeps them by its model, as corrected by what is measured of others.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::assessment::assess;
use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{DisturbanceAt, Estimated, RankedLimit};
use antistasis_core::process::ProcessSpec;
use antistasis_core::simulation::{Candidate, Event, Plant, Scenario, TRIAL_VERSION, Trial};
use antistasis_core::tuning::{begin_predictive, predictive_scan, with_estimated};
use antistasis_core::units::Span;
use planned::{Cells, column, plant, predictive, settings, trial};
use proptest::prelude::*;

const SCAN: f64 = 1.0;

/// Two outputs that one MV moves: one that is led to its set point, and a quicker and stronger one that must not pass a limit.
fn two(quick: [f64; 3]) -> Trial {
    let cells: Cells = vec![vec![[1.0, 20.0, 2.0]], vec![quick]];
    let mut own = settings(&cells, 1, 80.0, vec![1, 1, 2, 4, 8]);
    own.cvs[0].disturbance = Some(DisturbanceAt::Input("u1".into()));
    own.cvs[1].follows_set_point = false;
    own.cvs[1].disturbance = Some(DisturbanceAt::Nowhere);
    let mut trial = trial(plant(&cells, 1), own, SCAN, 200.0);
    trial.scenario.events = vec![Event::set_point(10.0, 10.0), Event::load(110.0, 4.0)];
    trial
}

/// The same without a sensor of the second.
fn unmeasured(mut trial: Trial) -> Trial {
    trial.plant.further_measured.clear();
    trial.candidate.further.clear();
    let cv = &mut predictive(&mut trial).cvs[1];
    cv.tag = "the hot spot".into();
    cv.disturbance = None;
    cv.estimated = Some(Estimated { span: Span::new(0.0, 100.0, "%"), at_start: 50.0 });
    trial
}

fn highest(trial: &Trial, tag: &str) -> f64 {
    column(&trial.run().unwrap(), tag).iter().copied().fold(f64::NEG_INFINITY, f64::max)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// While the model is right what is estimated is what would be measured: until something disturbs the plant the moves are those with a
    /// sensor whose deviations nobody believes, and the limit is kept.
    #[test]
    fn with_a_right_model_the_limit_is_kept_as_if_it_were_measured(
        gain in 1.2f64..3.0,
        lag in 1f64..12.0,
        late in 0f64..4.0,
        share in 0.3f64..0.9,
    ) {
        let mut measured = two([gain, lag, late]);
        let top = highest(&measured, "Y2.PV").max(50.0 + gain * 10.0);
        let limit = 50.0 + (top - 50.0) * share.max(10.2 * gain / (top - 50.0).max(1e-9)).min(0.98);
        predictive(&mut measured).cvs[1].high = Some(RankedLimit { value: limit, rank: 1 });
        let estimated = unmeasured(measured.clone());
        let (with, without) = (measured.run().unwrap(), estimated.run().unwrap());
        for tag in ["Y1.PV", "Y1.OP"] {
            let pairs = column(&with, tag).iter().zip(column(&without, tag)).take(110);
            for (k, (a, b)) in pairs.enumerate() {
                // Filters over one and over two signals round differently.
                prop_assert!((a - b).abs() < 1e-4, "{tag} at {k}: {a} {b}");
            }
        }
        let truth = column(&without, "y2").iter().take(110).copied().fold(f64::NEG_INFINITY, f64::max);
        prop_assert!(truth <= limit + 1e-6, "{truth} {limit}");
    }

    /// What disturbs the plant shows in what is measured; through the model it tells what is not.
    #[test]
    fn what_is_measured_of_others_tells_it(gain in -3f64..3.0, lag in 1f64..30.0, load in -8f64..8.0) {
        let mut trial = unmeasured(two([gain, lag, 1.0]));
        trial.scenario.events = vec![Event::load(20.0, load)];
        let truth = column(&trial.run().unwrap(), "y2")[199];
        let believed = trial.ahead(199.0).unwrap().cvs[1].clone();
        prop_assert!((believed.now - truth).abs() < 0.02 * load.abs().max(0.1), "{} {truth}", believed.now);
        prop_assert!(believed.estimated && believed.believed);
    }
}

#[test]
fn without_the_limit_it_is_passed() {
    let mut trial = unmeasured(two([2.0, 3.0, 1.0]));
    let free = highest(&trial, "y2");
    predictive(&mut trial).cvs[1].high = Some(RankedLimit { value: 70.5, rank: 1 });
    let kept = highest(
        &{
            let mut until = trial.clone();
            until.scenario.events.pop();
            until
        },
        "y2",
    );
    assert!(free > 75.0 && kept < 70.5 + 1e-6, "{free} {kept}");
    // The limit is told by its name, and what it costs the set point.
    let ahead = trial.ahead(14.0).unwrap();
    assert!(ahead.limits.iter().any(|limit| limit.tag == "the hot spot"), "{:?}", ahead.limits);
}

/// What has no set point has no part in the law without limits: margins are those of the controller without it.
#[test]
fn margins_are_those_without_it() {
    let with = unmeasured(two([2.0, 3.0, 1.0]));
    let mut without = with.clone();
    predictive(&mut without).cvs.pop();
    let margins = |trial: &Trial| {
        let found = assess(trial, &trial.run().unwrap()).unwrap().margins.unwrap();
        [found.max_sensitivity.unwrap(), found.gain_margin.unwrap(), found.delay_margin.unwrap()]
    };
    for (a, b) in margins(&with).into_iter().zip(margins(&without)) {
        assert!((a - b).abs() < 1e-6 * b.abs(), "{a} {b}");
    }
}

/// The jacket of a reactor, which has no thermometer: kept below a limit by a linear model and by the equations themselves.
#[test]
fn the_jacket_of_a_reactor_is_kept_by_a_line_and_by_the_equations() {
    let plant = Plant::usual(ProcessSpec::library("jacketed_reactor", &[]), "R1").unwrap();
    let scan = predictive_scan(&plant, 2.0).unwrap();
    let begun = begin_predictive(&plant, scan, &[]).unwrap();
    let ControllerSpec::Predictive(own) = &begun.controller else { panic!() };
    let name = "jacket_temperature".to_owned();
    let linear = with_estimated(&plant, scan, own, false, &name).unwrap();
    let equations = with_estimated(&plant, scan, own, true, &name).unwrap();
    // A line holds near where it was drawn: what it keeps is kept for a small step only.
    for (structure, settings, share) in [("a line", linear, 0.003), ("the equations", equations, 0.02)] {
        let moved = |settings: &antistasis_core::controller::PredictiveSettings| Trial {
            version: TRIAL_VERSION,
            plant: plant.clone(),
            candidate: Candidate::new(ControllerSpec::Predictive(Box::new(settings.clone()))),
            scenario: Scenario {
                duration: 150.0 * scan,
                scan,
                seed: 1,
                events: vec![Event::set_point(10.0 * scan, share * plant.pv.span.width())],
                further: Default::default(),
            },
        };
        let course = |settings| column(&moved(settings).run().unwrap(), &name).to_vec();
        let free = course(&settings);
        let start = settings.cvs[1].estimated.clone().unwrap().at_start;
        assert!((free[0] - start).abs() < 1e-6 * start.abs(), "{structure}: {} {start}", free[0]);
        let (low, high) = free.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(*v), h.max(*v)));
        // The limit lies between where it comes to rest and the furthest it went, on the side of the swing.
        let rest = free[free.len() - 1];
        let mut limited = settings.clone();
        let swings_up = high - rest.max(start) > rest.min(start) - low;
        let furthest = if swings_up { high } else { low };
        let limit = rest
            + 0.5 * (furthest - if swings_up { rest.max(start) } else { rest.min(start) })
            + if swings_up { rest.max(start) - rest } else { rest.min(start) - rest };
        let ranked = Some(RankedLimit { value: limit, rank: 1 });
        if swings_up {
            limited.cvs[1].high = ranked
        } else {
            limited.cvs[1].low = ranked
        };
        let kept = course(&limited);
        let beyond = |course: &[f64]| {
            course.iter().map(|v| if swings_up { v - limit } else { limit - v }).fold(f64::NEG_INFINITY, f64::max)
        };
        assert!(
            beyond(&free) > 0.0 && beyond(&kept) < 0.25 * beyond(&free),
            "{structure}: {} {}",
            beyond(&free),
            beyond(&kept)
        );
    }
    let refused = |output: &str| with_estimated(&plant, scan, own, false, output).unwrap_err().to_string();
    assert!(refused("temperature").contains("is measured") && refused("nothing").contains("jacket"));
}

#[test]
fn what_cannot_be_is_refused() {
    let good = unmeasured(two([2.0, 3.0, 1.0]));
    let refused = |edit: &dyn Fn(&mut Trial)| {
        let mut bad = good.clone();
        edit(&mut bad);
        bad.run().unwrap_err().to_string()
    };
    assert!(refused(&|t| predictive(t).cvs[1].follows_set_point = true).contains("follow no set point"));
    assert!(refused(&|t| predictive(t).cvs[1].disturbance = Some(DisturbanceAt::Output)).contains("cannot be told"));
    assert!(refused(&|t| predictive(t).cvs[1].tag = "Y1.PV".into()).contains("Y1.PV"));
    assert!(
        refused(&|t| {
            predictive(t).cvs.remove(0);
        })
        .contains("must be measured")
    );
}
