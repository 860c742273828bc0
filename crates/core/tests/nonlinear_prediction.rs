//! Predictive control with models that are not linear: the first plan against an outside optimiser, the loop against that of a linear model
//! where the equations are linear, and plants on which a linear model does not do.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

#[path = "support/cone.rs"]
#[allow(dead_code)]
mod cone;

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{DisturbanceAt, Drives, PredictiveSettings, RankedLimit};
use antistasis_core::process::ProcessSpec;
use antistasis_core::simulation::{Event, OperatingPoint, Plant, Trace};
use antistasis_core::tuning::{begin_predictive, with_equations};
use antistasis_core::units::Span;
use cone::{cone, pv, settings, trial};
use planned::{column, predictive};
use proptest::prelude::*;

/// SciPy's SLSQP over `solve_ivp` (`reference/nonlinear_prediction.py`): from where, to where, the highest MV, and the MV as planned at each
/// block.
const BEST: [(f64, f64, f64, [f64; 5]); 4] = [
    (1.0, 1.15, 100.0, [51.196_959, 52.523_452, 53.471_988, 53.823_736, 53.449_518]),
    (1.0, 2.2, 100.0, [64.087_853, 75.765_148, 84.961_587, 90.341_500, 91.048_391]),
    (2.2, 1.2, 100.0, [61.186_887, 51.419_655, 43.897_127, 40.496_626, 43.868_520]),
    (1.0, 1.6, 60.0, LIMITED),
];
const LIMITED: [f64; 5] = [55.365649, 58.838143, 60.000000, 60.000000, 60.000000];

#[test]
fn the_first_plan_is_that_of_an_outside_optimiser() {
    for (start, target, most, best) in BEST {
        let mut own = settings(800.0, vec![1, 1, 2, 4, 32]);
        own.mvs[0].high = most;
        let moved = trial(cone(start), own, 20.0, 400.0, vec![Event::set_point(100.0, target - start)]);
        let ahead = moved.ahead(100.0).unwrap();
        for (block, best) in [0, 1, 2, 4, 8].into_iter().zip(best) {
            let planned = ahead.mvs[0].planned[block];
            // A plan is the same one to 0.01 %.
            assert!((planned - best).abs() < 0.02, "{start} to {target}, scan {block}: {planned} {best}");
        }
        // What is expected is what the equations make of it, not what a line does.
        assert!((ahead.cvs[0].now - start).abs() < 1e-6);
        // What holds the plan is a limit, or nothing: never that it was made near a path.
        let held = ahead.limits.len();
        assert_eq!(held, usize::from(most < 100.0), "{start} to {target}: {:?}", ahead.limits);
    }
}

/// Equations that are linear, written as equations of one's own: the loop is that of the linear model.
#[test]
fn with_linear_equations_it_does_what_the_linear_controller_does() {
    let equations = serde_json::json!({
        "structure": "equations",
        "states": [{ "name": "x", "unit": "°C", "value": 50.0 }],
        "inputs": [{ "name": "u", "unit": "kW", "value": 20.0 }],
        "rates": [{ "name": "x", "equals": "(2.5 * u - x) / 30" }],
        "outputs": [{ "name": "T", "unit": "°C", "equals": "x" }]
    });
    let process: ProcessSpec = serde_json::from_value(equations).unwrap();
    let mut plant = Plant::usual(process.clone(), "Y1").unwrap();
    plant.pv.span = Span::new(0.0, 100.0, "°C");
    plant.drive = Some(antistasis_core::simulation::Drive { input: "u".into(), at_0: 0.0, at_100: 40.0 });
    plant.operating_point = OperatingPoint::new(50.0, 50.0);
    let events = vec![Event::set_point(20.0, 6.0), Event::load(250.0, -4.0)];
    let mut begun = begin_predictive(&plant, 2.0, &[]).unwrap();
    let ControllerSpec::Predictive(own) = &mut begun.controller else { panic!() };
    own.beyond_horizon = false;
    own.cvs[0].disturbance = Some(DisturbanceAt::Output);
    let linear = trial(plant.clone(), (**own).clone(), 2.0, 500.0, events.clone());
    let equations = with_equations(&plant, own).unwrap();
    let non_linear = trial(plant, equations, 2.0, 500.0, events);
    let (by_line, by_equations) = (linear.run().unwrap(), non_linear.run().unwrap());
    for (at, (a, b)) in pv(&by_line).iter().zip(pv(&by_equations)).enumerate() {
        // The filters differ in what they think of the states; before the load there is nothing to think of.
        let close = if at <= 125 { 2e-3 } else { 0.1 };
        assert!((a - b).abs() < close, "at {} s: {a} {b}", 2 * at);
    }
}

#[test]
fn a_tank_is_filled_and_emptied_without_an_offset_whatever_acts_on_it() {
    let events = vec![
        Event::set_point(100.0, 1.5),
        Event::LoadStep { at: 3000.0, by: -3.0, input: None },
        Event::set_point(6000.0, -1.2),
    ];
    let own = settings(1200.0, vec![1, 1, 2, 4, 8]);
    let trace = trial(cone(1.0), own, 20.0, 9000.0, events).run().unwrap();
    let level = pv(&trace);
    for (until, wanted) in [(2980, 2.5), (5980, 2.5), (8980, 1.3)] {
        assert!((level[until / 20] - wanted).abs() < 2e-3, "{} at {until} s", level[until / 20]);
    }
    let highest = level.iter().copied().fold(0.0, f64::max);
    assert!(highest < 2.5 + 0.04, "{highest}");
}

/// Where the gain changes by an order of magnitude one linear model does not do for all.
#[test]
fn over_a_wide_range_it_does_better_than_the_linear_model_about_the_start() {
    let plant = cone(0.6);
    let events = vec![Event::set_point(100.0, 2.4)];
    let begun = begin_predictive(&plant, 20.0, &[]).unwrap();
    let ControllerSpec::Predictive(own) = &begun.controller else { panic!() };
    let linear = trial(plant.clone(), (**own).clone(), 20.0, 4000.0, events.clone()).run().unwrap();
    let mut with = with_equations(&plant, own).unwrap();
    (with.horizon, with.moves) = (1200.0, vec![1, 1, 2, 4, 8]);
    let non_linear = trial(plant, with, 20.0, 4000.0, events).run().unwrap();
    let error = |trace: &Trace| pv(trace).iter().skip(5).map(|level| (level - 3.0).abs() * 20.0).sum::<f64>();
    let (of_linear, of_equations) = (error(&linear), error(&non_linear));
    eprintln!("integral of the error: linear {of_linear:.0} m·s, with the equations {of_equations:.0} m·s");
    assert!(of_equations < of_linear, "{of_equations} {of_linear}");
    let last = *pv(&non_linear).last().unwrap();
    assert!((last - 3.0).abs() < 2e-3, "{last}");
}

/// The reactor of Seborg, Edgar & Mellichamp from its middle state: held under a load, and led further than a line about that state holds
/// good.
#[test]
fn the_stirred_reactor_is_led_along_its_unstable_states() {
    let mut reactor = Plant::usual(ProcessSpec::library("stirred_reactor", &[]), "R").unwrap();
    reactor.operating_point.pv = 76.85;
    let begun = begin_predictive(&reactor, 1.0, &[]).unwrap();
    let ControllerSpec::Predictive(own) = &begun.controller else { panic!() };
    let with = with_equations(&reactor, own).unwrap();
    let events = vec![Event::load(60.0, 1.0), Event::set_point(500.0, 4.0)];
    let trace = trial(reactor, with, 1.0, 1200.0, events).run().unwrap();
    assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
    let pv = pv(&trace);
    assert!((pv[490] - 76.85).abs() < 0.03 && (pv[1199] - 80.85).abs() < 0.03, "{} {}", pv[490], pv[1199]);
    assert!(pv.iter().all(|pv| (74.0..83.5).contains(pv)), "{:?}", pv.iter().copied().fold(0.0, f64::max));
}

#[test]
fn limits_of_the_level_hold_and_give_way_by_rank() {
    let mut own = settings(1200.0, vec![1, 1, 2, 4, 8]);
    own.cvs[0].high = Some(RankedLimit { value: 2.0, rank: 1 });
    // A set point beyond its own limit: it rides along the limit.
    let trace = trial(cone(1.0), own, 20.0, 6000.0, vec![Event::set_point(100.0, 1.4)]).run().unwrap();
    let level = pv(&trace);
    assert!(level.iter().all(|level| *level < 2.0 + 2e-3));
    assert!((level.last().unwrap() - 2.0).abs() < 2e-2, "{:?}", level.last());
}

#[test]
fn what_a_model_that_is_not_linear_cannot_do_is_told() {
    let refused = |change: &dyn Fn(&mut PredictiveSettings)| -> String {
        let mut own = settings(800.0, vec![1, 1, 2]);
        change(&mut own);
        trial(cone(1.0), own, 20.0, 400.0, Vec::new()).run().unwrap_err().to_string()
    };
    assert!(refused(&|own| own.beyond_horizon = true).contains("beyond the horizon"));
    assert!(refused(&|own| own.mvs[0].cost = 1.0).contains("cost"));
    assert!(refused(&|own| own.mvs[0].drives = None).contains("at 0 % and at 100 %"));
    assert!(refused(&|own| own.mvs[0].drives = Some(Drives { at_0: 3.0, at_100: 3.0 })).contains("other than"));
    assert!(
        refused(&|own| own.inputs = std::collections::BTreeMap::from([("steam".to_owned(), 1.0)])).contains("steam")
    );
    assert!(refused(&|own| own.cvs[0].output = "depth".into()).contains("depth"));
    // A linear plant has no other equations.
    let linear = planned::plant(&vec![vec![[1.0, 10.0, 1.0]]], 1);
    let own = planned::settings(&vec![vec![[1.0, 10.0, 1.0]]], 1, 40.0, vec![1, 2]);
    assert!(with_equations(&linear, &own).unwrap_err().to_string().contains("linear"));
}

/// A conical tank with another outlet than its model has, let to a level after 200 s; at least 5 % flow in.
fn let_to(start: f64, target: f64, wrong: f64, rate: Option<f64>) -> Trace {
    let mut own = settings(1200.0, vec![1, 1, 2, 4, 8]);
    own.model = ProcessSpec::library("cone_tank", &[("outlet_area", 20.0 * wrong)]);
    (own.mvs[0].low, own.mvs[0].high, own.mvs[0].rate) = (5.0, 98.0, rate);
    trial(cone(start), own, 20.0, 4000.0, vec![Event::set_point(200.0, target - start)]).run().unwrap()
}

/// Where the cone is almost a point a model that leaks too little believes it dry: it must plan what fills it again.
#[test]
fn a_tank_that_is_believed_dry_is_filled_again() {
    for (start, target, wrong) in [(2.66, 0.5, 0.8), (2.8, 0.3, 0.7), (3.2, 0.8, 0.8), (2.0, 0.3, 0.5)] {
        let level = pv(&let_to(start, target, wrong, None));
        let last = level.last().unwrap();
        assert!((last - target).abs() < 5e-3, "{start} to {target} with {wrong}: {last}");
    }
    // As fast as it may, and no faster.
    let trace = let_to(2.66, 0.5, 0.8, Some(0.2));
    let moves = column(&trace, "Y1.OP");
    assert!(moves.windows(2).all(|pair| (pair[1] - pair[0]).abs() <= 4.0 + 1e-9));
    assert!((pv(&trace).last().unwrap() - 0.5).abs() < 5e-3, "{:?}", pv(&trace).last());
}

/// It begins with an eighth of a millionth of what the tank can hold.
#[test]
fn an_almost_empty_tank_is_filled() {
    for wrong in [0.7, 1.3, 1.8] {
        let level = pv(&let_to(0.02, 1.5, wrong, None));
        let last = level.last().unwrap();
        assert!((level[9] - 0.02).abs() < 1e-6 && (last - 1.5).abs() < 5e-3, "with {wrong}: {} {last}", level[9]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]

    /// Whatever it starts from, is led to and is loaded by: no limit of the MV is ever passed, and it comes to rest without an offset where
    /// that can be held.
    #[test]
    fn limits_of_the_mv_hold_and_no_offset_stays(
        start in 0.05f64..3.2,
        target in 0.4f64..3.2,
        load in -4f64..4.0,
        wrong in 0.75f64..1.3,
    ) {
        let mut own = settings(1200.0, vec![1, 1, 2, 4, 8]);
        // A model whose outlet is another one.
        own.model = ProcessSpec::library("cone_tank", &[("outlet_area", 20.0 * wrong)]);
        (own.mvs[0].low, own.mvs[0].high) = (5.0, 98.0);
        let events = vec![Event::set_point(200.0, target - start), Event::load(3000.0, load)];
        let mut plant = cone(start);
        plant.operating_point.op = 50.0;
        let looped = trial(plant, own, 20.0, 6000.0, events);
        let trace = looped.run().unwrap();
        prop_assert!(trace.stopped.is_none());
        prop_assert!(column(&trace, "Y1.OP").iter().all(|op| (5.0 - 1e-9..=98.0 + 1e-9).contains(op)));
        let last = *pv(&trace).last().unwrap();
        prop_assert!((last - target).abs() < 5e-3, "{} for {}", last, target);
    }
}

#[test]
fn a_document_says_no_more_than_it_must() {
    let mut own = trial(cone(1.0), settings(800.0, vec![1, 1, 2]), 20.0, 400.0, Vec::new());
    let text = serde_json::to_string(predictive(&mut own)).unwrap();
    assert!(!text.contains("\"inputs\"") && text.contains("\"drives\""), "{text}");
    let read: PredictiveSettings = serde_json::from_str(&text).unwrap();
    assert_eq!(&read, predictive(&mut own));
}
