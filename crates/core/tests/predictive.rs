//! Predictive control against outside linear algebra and an outside solver, and what must hold for every plant.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
mod planned;

use antistasis_core::assessment::assess;
use antistasis_core::controller::predictive::{DisturbanceAt, MeasuredDisturbance, PredictiveSettings, RankedLimit};
use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::instrument::Failure;
use antistasis_core::numerics::{Ending, RankedProgram, riccati};
use antistasis_core::process::{DetailedSpec, LinearSpec, ProcessSpec, offers};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Ratio, Scenario, Signal, Trace, Trial, Wire, Wired,
};
use antistasis_core::tuning::{
    ControllerKind, SimcChoice, begin_predictive, begin_with, first_trial_on, predictive_scan,
};
use antistasis_core::units::Span;
use nalgebra::DMatrix;
use planned::{Cells, column, further, plant, predictive, process, settings, trial, wood_berry};
use proptest::prelude::*;
use serde::Deserialize;

/// Made by `reference/predictive.py` with SciPy and quadprog.
const REFERENCE: &str = include_str!("../../../reference/data/predictive.json");

#[derive(Deserialize)]
struct Reference {
    riccati: Vec<Riccati>,
    quadratic_law: Vec<[f64; 4]>,
    constrained: Vec<[f64; 4]>,
    ranked: Vec<Ranked>,
    foreseen: Vec<Foreseen>,
}

#[derive(Deserialize)]
struct Foreseen {
    knows_set_point: bool,
    knows_feed: bool,
    back: f64,
    rows: Vec<[f64; 2]>,
}

#[derive(Deserialize)]
struct Riccati {
    n: usize,
    m: usize,
    a: Vec<f64>,
    b: Vec<f64>,
    q: Vec<f64>,
    r: Vec<f64>,
    x: Vec<f64>,
}

#[derive(Deserialize)]
struct Ranked {
    n: usize,
    g: Vec<f64>,
    a: Vec<f64>,
    normals: Vec<f64>,
    bounds: Vec<f64>,
    ranks: Vec<u32>,
    x: Vec<f64>,
    missed: Vec<f64>,
}

fn reference() -> Reference {
    serde_json::from_str(REFERENCE).unwrap()
}

#[test]
fn riccati_equations_are_solved_as_scipy_solves_them() {
    for (k, case) in reference().riccati.iter().enumerate() {
        let matrix = |rows: usize, columns: usize, values: &[f64]| DMatrix::from_row_slice(rows, columns, values);
        let x = riccati(
            &matrix(case.n, case.n, &case.a),
            &matrix(case.n, case.m, &case.b),
            &matrix(case.n, case.n, &case.q),
            &matrix(case.m, case.m, &case.r),
        )
        .unwrap();
        let theirs = matrix(case.n, case.n, &case.x);
        assert!((&x - &theirs).amax() < 1e-8 * theirs.amax(), "equation {k}");
    }
}

/// Without limits, with a move at every scan and the cost beyond the horizon, it is the linear quadratic law: the whole closed loop on
/// the column of Wood & Berry, its dead times no whole numbers of scans.
#[test]
fn without_limits_it_is_the_linear_quadratic_law() {
    let cells = wood_berry();
    for scans in [5, 30] {
        let mut settings = settings(&cells, 2, f64::from(scans) * 0.8, vec![1; scans as usize]);
        (settings.mvs[0].usual_move, settings.mvs[1].usual_move) = (0.5, 0.8);
        let mut trial = trial(plant(&cells, 2), settings, 0.8, 120.0);
        trial.scenario.events = vec![Event::set_point(8.0, 4.0)];
        let trace = trial.run().unwrap();
        let tags = ["Y1.PV", "Y2.PV", "Y1.OP", "Y2.OP"].map(|tag| column(&trace, tag));
        for (k, row) in reference().quadratic_law.iter().enumerate() {
            for (ours, theirs) in tags.iter().zip(row) {
                assert!((ours[k] - 50.0 - theirs).abs() < 1e-8, "{scans} scans, row {k}: {} {theirs}", ours[k] - 50.0);
            }
        }
    }
}

/// The same column under a limit of an MV, of the rate of the other, and of a CV, moves held ever longer, one CV on a way of its own to the
/// set point: every plan by quadprog.
#[test]
fn under_constraints_the_whole_loop_is_that_of_an_outside_solver() {
    let cells = wood_berry();
    let mut settings = settings(&cells, 2, 32.0, vec![1, 1, 2, 4, 8]);
    settings.beyond_horizon = false;
    (settings.mvs[0].usual_move, settings.mvs[1].usual_move) = (0.5, 0.8);
    settings.mvs[0].high = 51.0;
    settings.mvs[1].rate = Some(0.05);
    settings.cvs[0].response_time = 6.0;
    settings.cvs[0].high = Some(RankedLimit { value: 54.1, rank: 1 });
    let mut trial = trial(plant(&cells, 2), settings, 0.8, 96.0);
    trial.scenario.events = vec![Event::set_point(4.0, 4.0)];
    further(&mut trial, "Y2", vec![Event::set_point(4.0, -2.0)]);
    let trace = trial.run().unwrap();
    let tags = ["Y1.PV", "Y2.PV", "Y1.OP", "Y2.OP"].map(|tag| column(&trace, tag));
    for (k, row) in reference().constrained.iter().enumerate() {
        for (ours, theirs) in tags.iter().zip(row) {
            assert!((ours[k] - 50.0 - theirs).abs() < 1e-6, "row {k}: {} {theirs}", ours[k] - 50.0);
        }
    }
    // What is at its limit is told to be, by the limits of the MV.
    assert_eq!((trace.output_limits.low, trace.output_limits.high), (0.0, 51.0));
    assert!(assess(&trial, &trace).unwrap().metrics.saturated_time > 1.0);
    let at_work = column(&trace, "limits at work");
    assert!(
        at_work.iter().any(|count| *count > 0.0) && column(&trace, "limits given up").iter().all(|one| *one == 0.0)
    );
}

/// A lag behind a long dead time, a disturbance behind a short one: set point and disturbance known beforehand or not, along a limit of
/// the MV, every plan by quadprog.
fn foreseen_trial(knows_set_point: bool, knows_feed: bool, back: f64) -> Trial {
    let cells = vec![vec![[1.0, 10.0, 8.0], [2.0, 10.0, 2.0]]];
    let mut settings = settings(&cells, 1, 40.0, vec![1, 1, 1, 2, 3, 4, 28]);
    settings.beyond_horizon = false;
    settings.mvs[0].usual_move = 2.0;
    settings.mvs[0].high = 52.9;
    settings.cvs[0].response_time = back;
    settings.cvs[0].set_point_known_ahead = knows_set_point;
    settings.dvs = vec![MeasuredDisturbance { signal: "u2".into(), input: "u2".into(), known_ahead: knows_feed }];
    let mut trial = trial(plant(&cells, 1), settings, 1.0, 110.0);
    let feed = |at: f64, by: f64| Event::LoadStep { at, by, input: Some("u2".into()) };
    let ramp = Event::SetPointRamp { at: 60.0, by: -3.0, over: 15.0 };
    trial.scenario.events = vec![Event::set_point(30.0, 4.0), ramp, feed(15.0, 3.0)];
    trial.scenario.events.extend((46..62).map(|at| feed(f64::from(at), -0.25)));
    trial
}

#[test]
fn what_is_known_beforehand_is_planned_for_as_an_outside_solver_plans_for_it() {
    for Foreseen { knows_set_point, knows_feed, back, rows } in reference().foreseen {
        let trace = foreseen_trial(knows_set_point, knows_feed, back).run().unwrap();
        let (y, u) = (column(&trace, "Y1.PV"), column(&trace, "Y1.OP"));
        for (k, [wanted_y, wanted_u]) in rows.iter().enumerate() {
            let off = (y[k] - 50.0 - wanted_y).abs().max((u[k] - 50.0 - wanted_u).abs());
            assert!(off < 1e-6, "{knows_set_point} {knows_feed} {back}, scan {k}: {} {}", y[k] - 50.0, u[k] - 50.0);
        }
        // It says at each scan what comes: until the next change of what it does not know.
        let ahead = foreseen_trial(knows_set_point, knows_feed, back).ahead(62.0).unwrap();
        let came = &y[63..103];
        let off = ahead.cvs[0].expected.iter().zip(came).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
        assert!(off < if knows_set_point { 1.0 } else { 5.0 }, "{off}");
    }
}

/// Known or not, the loop comes to rest at the same place; and a known future in which nothing comes changes nothing.
#[test]
fn a_future_in_which_nothing_comes_changes_nothing() {
    let plan = |known: bool| {
        let mut trial = foreseen_trial(known, known, 0.0);
        predictive(&mut trial).beyond_horizon = true;
        predictive(&mut trial).mvs[0].high = 100.0;
        trial
    };
    let rest = |known: bool| {
        let mut trial = plan(known);
        trial.scenario.duration = 400.0;
        *column(&trial.run().unwrap(), "Y1.PV").last().unwrap()
    };
    assert!((rest(true) - 51.0).abs() < 1e-6 && (rest(false) - 51.0).abs() < 1e-6);
    let quiet = |known: bool| {
        let mut trial = plan(known);
        trial.scenario.events = vec![Event::load(0.0, 3.0)];
        trial.run().unwrap()
    };
    let (known, unknown) = (quiet(true), quiet(false));
    for tag in ["Y1.PV", "Y1.OP"] {
        for (a, b) in column(&known, tag).iter().zip(column(&unknown, tag)) {
            assert!((a - b).abs() < 1e-9, "{a} {b}");
        }
    }
}

/// Two hundred random programs against the same one rank after the other by quadprog; in numbers as large as those of a loop in % are, a
/// hundred times theirs, since each rank leaves 1e-6 to those after it, of which constraints that are nearly parallel make much.
#[test]
fn what_cannot_be_kept_gives_way_in_the_order_of_its_rank() {
    let cases = reference().ranked;
    assert_eq!(cases.len(), 200);
    let mut gave_way = 0;
    for (k, case) in cases.iter().enumerate() {
        let normals: Vec<(Vec<f64>, Option<u32>)> = case
            .normals
            .chunks_exact(case.n)
            .zip(&case.ranks)
            .map(|(normal, rank)| (normal.to_vec(), (*rank > 0).then_some(*rank)))
            .collect();
        let g = DMatrix::from_row_slice(case.n, case.n, &case.g);
        let mut program = RankedProgram::new(&g, &normals).unwrap();
        let larger = |values: &[f64]| values.iter().map(|value| 100.0 * value).collect::<Vec<f64>>();
        let solved = program.solve(&larger(&case.a), &larger(&case.bounds), 1000);
        assert_eq!(solved.ending, Ending::Solved, "program {k}");
        for (row, missed) in larger(&case.missed).into_iter().enumerate() {
            let given = program.given(row);
            assert!((given - missed).abs() < 1e-4 * missed.max(100.0), "program {k}, row {row}: {given} {missed}");
        }
        for (own, theirs) in program.x().iter().zip(larger(&case.x)) {
            assert!((own - theirs).abs() < 1e-4 * theirs.abs().max(100.0), "program {k}: {own} {theirs}");
        }
        gave_way += usize::from(solved.gave_way);
    }
    assert!((50..200).contains(&gave_way), "{gave_way}");
}

#[test]
fn a_constant_load_leaves_no_offset_unless_nothing_is_thought_to_disturb() {
    let cells = wood_berry();
    let mut trial = trial(plant(&cells, 2), settings(&cells, 2, 60.0, vec![1, 1, 2, 4, 8]), 1.0, 400.0);
    trial.scenario.events = vec![Event::load(5.0, 1.0)];
    let off = |trace: &Trace| ["Y1.PV", "Y2.PV"].map(|tag| (column(trace, tag).last().unwrap() - 50.0).abs());
    let trace = trial.run().unwrap();
    assert!(off(&trace).iter().all(|off| *off < 1e-6), "{:?}", off(&trace));
    for cv in &mut predictive(&mut trial).cvs {
        cv.disturbance = Some(DisturbanceAt::Nowhere);
    }
    let trace = trial.run().unwrap();
    assert!(off(&trace)[0] > 1.0, "an offset must be seen: {:?}", off(&trace));
}

#[test]
fn an_integrating_level_and_an_unstable_process_are_held() {
    for model in [
        LinearSpec::Integrating { gain: 0.02, dead_time: 6.0 },
        LinearSpec::IntegratingLag { gain: -0.01, time_constant: 8.0, dead_time: 2.0 },
    ] {
        let whole = || Span::new(0.0, 100.0, "%");
        let own = |tag: &str| Signal { tag: tag.into(), span: whole() };
        let plant = Plant::plain(model.clone(), own("Y1.PV"), own("Y1.OP"), OperatingPoint::new(50.0, 40.0));
        let mut settings = settings(&vec![vec![[1.0, 1.0, 0.0]]], 1, 120.0, vec![1, 1, 2, 4, 8]);
        settings.model = ProcessSpec::from(model);
        (settings.cvs[0].output, settings.mvs[0].input) = ("output".into(), "input".into());
        let mut trial = trial(plant, settings, 2.0, 1200.0);
        trial.scenario.events = vec![Event::load(20.0, 10.0), Event::set_point(600.0, 5.0)];
        let trace = trial.run().unwrap();
        let pv = column(&trace, "Y1.PV");
        assert!((pv[295] - 50.0).abs() < 1e-3 && (pv[599] - 55.0).abs() < 1e-3, "{} {}", pv[295], pv[599]);
    }
}

#[test]
fn a_measured_disturbance_is_met_before_it_is_felt() {
    // The disturbance comes through a dead time longer than that of the MV: known, it need not be felt at all.
    let cells = vec![vec![[1.0, 10.0, 2.0], [2.0, 10.0, 12.0]]];
    let mut settings = settings(&cells, 1, 60.0, vec![1; 20]);
    settings.mvs[0].usual_move = 200.0;
    let mut trial = trial(plant(&cells, 1), settings.clone(), 1.0, 150.0);
    let event = Event::LoadStep { at: 10.0, by: 4.0, input: Some("u2".into()) };
    trial.scenario.events = vec![event];
    let worst = |trace: &Trace| column(trace, "Y1.PV").iter().map(|y| (y - 50.0).abs()).fold(0.0, f64::max);
    let unknown = worst(&trial.run().unwrap());
    predictive(&mut trial).dvs =
        vec![MeasuredDisturbance { signal: "u2".into(), input: "u2".into(), known_ahead: false }];
    let known = worst(&trial.run().unwrap());
    assert!(unknown > 1.0 && known < 0.05, "{unknown} {known}");
}

#[test]
fn seats_take_part_come_and_go_without_a_bump() {
    let cells = wood_berry();
    let mut trial = trial(plant(&cells, 2), settings(&cells, 2, 60.0, vec![1, 1, 2, 4]), 1.0, 600.0);
    trial.scenario.events = vec![Event::set_point(300.0, 2.0)];
    further(
        &mut trial,
        "Y2",
        vec![Event::ToManual { at: 100.0 }, Event::ToAutomatic { at: 200.0 }, Event::ToManual { at: 290.0 }],
    );
    let trace = trial.run().unwrap();
    let [y1, u1, u2] = ["Y1.PV", "Y1.OP", "Y2.OP"].map(|tag| column(&trace, tag));
    // At rest nothing moves, whoever takes part.
    assert!(u1[..299].iter().chain(&u2[..299]).all(|u| (u - 50.0).abs() < 1e-9));
    let available = |at: f64| trial.ahead(at).unwrap().mvs.iter().map(|mv| mv.available).collect::<Vec<_>>();
    assert_eq!((available(99.0), available(100.0)), (vec![true, true], vec![true, false]));
    // With one MV in manual it stands, and the other one leads where both set points together are nearest.
    assert!(u2[299..].iter().all(|u| *u == 50.0));
    assert!(u1[599] != 50.0 && (y1[599] - 50.0).abs() > 0.1);
}

#[test]
fn a_transmitter_that_fails_is_not_believed() {
    let cells = wood_berry();
    let mut trial = trial(plant(&cells, 2), settings(&cells, 2, 60.0, vec![1, 1, 2, 4]), 1.0, 300.0);
    let fails = Event::SensorFails { at: 50.0, lasts: 60.0, how: Failure::High, signal: None };
    further(&mut trial, "Y2", vec![fails]);
    let trace = trial.run().unwrap();
    assert_eq!(column(&trace, "Y2.PV")[60], 100.0);
    let true_value = column(&trace, "Y2.PV true value");
    assert!(true_value.iter().all(|y| (y - 50.0).abs() < 1e-9), "what is false was acted upon");
    let believed = |at: f64| trial.ahead(at).unwrap().cvs.iter().map(|cv| cv.believed).collect::<Vec<_>>();
    assert_eq!((believed(49.0), believed(60.0)), (vec![true, true], vec![true, false]));
    // What is beyond its span is still believed: there is more of it than can be shown, not none.
    trial.scenario.further.clear();
    trial.scenario.events = vec![Event::load(20.0, 45.0)];
    predictive(&mut trial).mvs[0].low = 45.0;
    let trace = trial.run().unwrap();
    let y = column(&trace, "Y1.PV");
    assert!(y.iter().any(|y| *y > 100.0) && column(&trace, "Y1.OP").iter().any(|u| *u < 46.0));
}

#[test]
fn over_the_set_points_of_controllers_below_it_hands_over_without_a_bump() {
    // The outer signal follows the inner one; a PI controller holds the inner one at the set point that the predictive one gives.
    let cells = vec![vec![[2.0, 40.0, 5.0]], vec![[1.0, 4.0, 1.0]]];
    let plant = plant(&cells, 1);
    let inner = PidSettings::pi(0.8, 4.0);
    let mut settings = settings(&vec![vec![[2.0, 43.0, 6.0]]], 1, 200.0, vec![1, 1, 2, 4, 8]);
    settings.mvs[0].tag = "inner.SP".into();
    settings.cvs.truncate(1);
    let mut trial = trial(plant, settings, 1.0, 900.0);
    trial.candidate.sets = vec![Wire::to("inner.SP")];
    trial.candidate.further = vec![Wired {
        name: "inner".into(),
        measures: "Y2.PV".into(),
        sets: vec![Wire::to("Y1.OP")],
        controller: ControllerSpec::Pid(inner),
        set_point_tracking: false,
    }];
    further(&mut trial, "inner", vec![Event::ToManual { at: 50.0 }, Event::ToAutomatic { at: 100.0 }]);
    trial.scenario.events = vec![Event::set_point(200.0, 6.0)];
    let trace = trial.run().unwrap();
    let [y1, sp] = ["Y1.PV", "inner.SP"].map(|tag| column(&trace, tag));
    assert!(sp[..199].iter().all(|value| (value - 50.0).abs() < 1e-9));
    assert!((y1[899] - 56.0).abs() < 0.01 && (sp[899] - 53.0).abs() < 0.01, "{} {}", y1[899], sp[899]);
    // Seen from the loop below, which then has another name, it is the same trial.
    let assessment = assess(&trial, &trace).unwrap();
    assert_eq!(assessment.further.iter().map(|one| one.name.as_str()).collect::<Vec<_>>(), ["inner"]);
    let seen = trial.seen_from("inner").unwrap().unwrap().run().unwrap();
    assert_eq!(column(&seen, "Y1.PV"), y1);
}

#[test]
fn a_range_is_kept_and_an_economic_push_rides_its_bound() {
    let cells = vec![vec![[1.5, 20.0, 4.0]]];
    let mut settings = settings(&cells, 1, 120.0, vec![1, 1, 2, 4, 8]);
    let cv = &mut settings.cvs[0];
    (cv.follows_set_point, cv.response_time) = (false, 10.0);
    cv.low = Some(RankedLimit { value: 44.0, rank: 1 });
    cv.high = Some(RankedLimit { value: 56.0, rank: 1 });
    let mut trial = trial(plant(&cells, 1), settings, 1.0, 600.0);
    trial.scenario.events = vec![Event::load(300.0, -6.0)];
    let quiet = trial.run().unwrap();
    let y = column(&quiet, "Y1.PV");
    // Nothing pushes: it stands while it may, and is held at the low end when the load would take it out.
    assert!(y[..300].iter().all(|y| (y - 50.0).abs() < 1e-9) && (y[599] - 44.0).abs() < 1e-3, "{}", y[599]);
    predictive(&mut trial).mvs[0].cost = 1.0;
    let pushed = trial.run().unwrap();
    let y = column(&pushed, "Y1.PV");
    assert!((y[299] - 44.0).abs() < 1e-3 && (y[599] - 44.0).abs() < 1e-3, "{} {}", y[299], y[599]);
}

#[test]
fn what_is_ahead_is_what_comes_when_nothing_else_does() {
    let cells = wood_berry();
    let mut settings = settings(&cells, 2, 40.0, vec![1, 1, 2, 4, 8]);
    settings.mvs[0].high = 50.4;
    let mut trial = trial(plant(&cells, 2), settings, 1.0, 200.0);
    trial.scenario.events = vec![Event::set_point(10.0, 4.0)];
    let ahead = trial.ahead(10.0).unwrap();
    assert_eq!((ahead.at, ahead.interval), (10.0, 1.0));
    // Played out as it was planned, in manual, the plan gives what was expected.
    let mut played = trial.clone();
    let steps = |k: usize| {
        let planned = &ahead.mvs[k].planned;
        let before = std::iter::once(&ahead.mvs[k].before).chain(planned);
        let moves = before.zip(planned).enumerate().filter(|(_, (before, now))| before != now);
        moves
            .map(|(scan, (before, now))| Event::OutputStep { at: 10.0 + scan as f64, by: now - before })
            .collect::<Vec<_>>()
    };
    played.candidate.controller = ControllerSpec::Manual;
    played.candidate.further[0].controller = ControllerSpec::Manual;
    played.scenario.events = steps(0);
    further(&mut played, "Y2", steps(1));
    let trace = played.run().unwrap();
    for (cv, tag) in ahead.cvs.iter().zip(["Y1.PV", "Y2.PV"]) {
        let played = column(&trace, tag);
        for (k, expected) in cv.expected.iter().enumerate() {
            assert!((played[11 + k] - expected).abs() < 1e-9, "{tag} {k}: {} {expected}", played[11 + k]);
        }
    }
    assert!(ahead.limits.iter().any(|limit| limit.tag == "Y1.OP" && limit.cost.unwrap() > 0.0), "{:?}", ahead.limits);
    assert!(ahead.verdict.contains("Y1.OP"), "{}", ahead.verdict);
    // At rest nothing is felt.
    let quiet = trial.ahead(0.0).unwrap();
    assert!(quiet.limits.is_empty() && quiet.verdict.contains("No limit"), "{}", quiet.verdict);
}

#[test]
fn what_does_not_fit_is_refused_at_its_field() {
    let cells = wood_berry();
    let good = || trial(plant(&cells, 2), settings(&cells, 2, 40.0, vec![1, 2]), 1.0, 60.0);
    let refused = |change: &dyn Fn(&mut Trial)| {
        let mut trial = good();
        change(&mut trial);
        let error = trial.run().unwrap_err();
        (error.field().unwrap_or_default().to_owned(), error.to_string())
    };
    type Change = fn(&mut Trial);
    let cases: [(&str, Change); 20] = [
        ("controller.horizon", |t| predictive(t).horizon = 2.0),
        ("controller.horizon", |t| predictive(t).horizon = 1e6),
        ("controller.moves", |t| predictive(t).moves = vec![]),
        ("controller.moves", |t| predictive(t).moves = vec![1, 0]),
        ("controller.moves", |t| predictive(t).moves = vec![1; 81]),
        ("controller.cvs[0].tag", |t| predictive(t).cvs[0].tag = "Z".into()),
        ("controller.cvs[1].output", |t| predictive(t).cvs[1].output = "z".into()),
        ("controller.cvs[1].disturbance", |t| {
            predictive(t).cvs[1].disturbance = Some(DisturbanceAt::Input("z".into()));
        }),
        ("controller.cvs[0].high.rank", |t| {
            predictive(t).cvs[0].high = Some(RankedLimit { value: 1.0, rank: 0 });
        }),
        ("controller.mvs[1].tag", |t| predictive(t).mvs[1].tag = "Y9.OP".into()),
        ("controller.mvs[0].high", |t| predictive(t).mvs[0].high = 0.0),
        ("controller.mvs[0].usual_move", |t| predictive(t).mvs[0].usual_move = 0.0),
        ("controller.cvs[1].set_point_known_ahead", |t| {
            (predictive(t).cvs[1].follows_set_point, predictive(t).cvs[1].set_point_known_ahead) = (false, true);
        }),
        ("controller.cvs[0].set_point_known_ahead", |t| {
            predictive(t).cvs[0].set_point_known_ahead = true;
            t.candidate.ratio = Some(Ratio { signal: "y2".into(), ratio: 1.0 });
        }),
        ("controller.dvs[0].known_ahead", |t| {
            predictive(t).model = process(&vec![vec![[1.0, 5.0, 0.0]; 3]; 2]);
            let signal = "Y2.PV".to_owned();
            predictive(t).dvs = vec![MeasuredDisturbance { signal, input: "u3".into(), known_ahead: true }];
        }),
        ("controller.beyond_horizon", |t| {
            predictive(t).model = ProcessSpec::library("stirred_heater", &[]);
        }),
        ("controller.mvs[0].input", |t| {
            predictive(t).model = ProcessSpec::library("stirred_heater", &[]);
            predictive(t).beyond_horizon = false;
        }),
        ("candidate.further[0].sets", |t| {
            predictive(t).mvs.truncate(1);
        }),
        ("candidate.further[0].controller.kind", |t| t.candidate.controller = ControllerSpec::Manual),
        ("scan", |t| {
            let DetailedSpec::TransferFunctions(spec) = (match &mut predictive(t).model {
                ProcessSpec::Detailed(spec) => spec,
                ProcessSpec::Linear(_) => panic!(),
            }) else {
                panic!()
            };
            spec.elements[0].dead_time = 1000.0;
        }),
    ];
    for (field, change) in cases {
        let (at, text) = refused(&change);
        assert_eq!(at, field, "{text}");
    }
    assert!(good().run().is_ok());
    let pid = Trial { candidate: Candidate::new(ControllerSpec::Manual), ..good() };
    assert_eq!(pid.ahead(0.0).unwrap_err().field(), Some("candidate.controller.kind"));
}

#[test]
fn a_document_leaves_out_what_is_usual_and_comes_back_as_it_was() {
    let cells = wood_berry();
    let mut settings = settings(&cells, 2, 40.0, vec![1, 2]);
    settings.cvs[1].disturbance = Some(DisturbanceAt::Input("u1".into()));
    settings.cvs[0].low = Some(RankedLimit { value: 12.0, rank: 3 });
    let spec = ControllerSpec::Predictive(Box::new(settings));
    let text = serde_json::to_string(&spec).unwrap();
    for usual in ["beyond_horizon", "most_steps", "weight", "follows_set_point", "dvs", "rests_at", "cost"] {
        assert!(!text.contains(usual), "{usual} in {text}");
    }
    assert_eq!(serde_json::from_str::<ControllerSpec>(&text).unwrap(), spec);
    assert_eq!(serde_json::to_string(&ControllerSpec::Seat).unwrap(), r#"{"kind":"seat"}"#);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Beyond the horizon a known future counts like within it: without limits a short plan with the cost of what comes after makes the
    /// moves of a long one, whatever is known to come before its end.
    #[test]
    fn a_short_plan_with_what_comes_after_is_a_long_one(
        gain in 0.4f64..2.0,
        lags in proptest::array::uniform2(4f64..30.0),
        dead in proptest::array::uniform2(0f64..6.0),
        usual_move in 0.3f64..3.0,
        steps in proptest::collection::vec((1u32..30, -4f64..4.0, any::<bool>()), 1..6),
    ) {
        let cells = vec![vec![[gain, lags[0], dead[0]], [1.5, lags[1], dead[1]]]];
        let outputs = [40u32, 160].map(|scans| {
            let mut settings = settings(&cells, 1, f64::from(scans), vec![1; scans.min(120) as usize]);
            settings.mvs[0].usual_move = usual_move;
            settings.cvs[0].set_point_known_ahead = true;
            settings.dvs = vec![MeasuredDisturbance { signal: "u2".into(), input: "u2".into(), known_ahead: true }];
            let mut trial = trial(plant(&cells, 1), settings, 1.0, 45.0);
            trial.scenario.events = steps
                .iter()
                .map(|(at, by, of_feed)| {
                    let at = f64::from(*at);
                    if *of_feed {
                        Event::LoadStep { at, by: *by, input: Some("u2".into()) }
                    } else {
                        Event::set_point(at, *by)
                    }
                })
                .collect();
            column(&trial.run().unwrap(), "Y1.OP").to_vec()
        });
        let inside = outputs.iter().flatten().all(|u| (0.5..99.5).contains(u));
        prop_assume!(inside);
        for (k, (short, long)) in outputs[0].iter().zip(&outputs[1]).enumerate() {
            prop_assert!((short - long).abs() < 1e-4, "scan {k}: {short} {long}");
        }
    }

    /// On random plants with gains 30 % off, under loads, and with MVs that are hard against their limits: no limit of an MV, and no rate, is
    /// ever passed, and where the limits leave room there is no offset in the end.
    #[test]
    fn limits_of_mvs_are_never_passed_and_no_offset_stays(
        gains in proptest::array::uniform4(0.3f64..2.0),
        lags in proptest::array::uniform4(5f64..40.0),
        dead in proptest::array::uniform4(0f64..8.0),
        off in proptest::array::uniform4(0.7f64..1.3),
        high in 52f64..90.0,
        rate in 0.2f64..3.0,
        load in -12f64..12.0,
        set_point in -8f64..8.0,
    ) {
        let cell = |i: usize, factor: f64| [gains[i] * factor, lags[i], dead[i]];
        // The diagonal is stronger, so that both can be moved apart.
        let cells = |factors: [f64; 4]| -> Cells {
            vec![
                vec![cell(0, 2.0 * factors[0]), cell(1, 0.3 * factors[1])],
                vec![cell(2, -0.3 * factors[2]), cell(3, 2.0 * factors[3])],
            ]
        };
        let mut settings = settings(&cells([1.0; 4]), 2, 100.0, vec![1, 1, 2, 4, 8]);
        for mv in &mut settings.mvs {
            (mv.high, mv.rate) = (high, Some(rate));
        }
        for cv in &mut settings.cvs {
            cv.response_time = 20.0;
        }
        let mut trial = trial(plant(&cells(off), 2), settings, 1.0, 1500.0);
        trial.scenario.events = vec![Event::load(10.0, load), Event::set_point(200.0, set_point)];
        let trace = trial.run().unwrap();
        prop_assert!(trace.stopped.is_none());
        let mut at_limit = false;
        for tag in ["Y1.OP", "Y2.OP"] {
            let op = column(&trace, tag);
            prop_assert!(op.iter().all(|u| (0.0..=high).contains(u)), "{tag}");
            prop_assert!(op.windows(2).all(|w| (w[1] - w[0]).abs() <= rate + 1e-9), "{tag}");
            at_limit |= op[1499] > high - 1e-6;
        }
        if !at_limit {
            for (tag, wanted) in [("Y1.PV", 50.0 + set_point), ("Y2.PV", 50.0)] {
                let y = column(&trace, tag)[1499];
                prop_assert!((y - wanted).abs() < 1e-3, "{tag}: {y} for {wanted}");
            }
        }
    }
}

#[test]
fn a_proposal_controls_everything_that_is_on_offer_from_its_first_scan() {
    let mut tried = 0;
    for offer in offers() {
        let plant = Plant::usual(offer.process, "Y1").unwrap();
        let Ok((first, _)) = first_trial_on(&plant, &SimcChoice::default()) else { continue };
        let scan = first.scenario.scan;
        let candidate = match begin_predictive(&plant, scan, &[]) {
            Ok(candidate) => candidate,
            Err(error) => panic!("{}: {error}", offer.title),
        };
        let proposed = Trial { candidate, ..first };
        let trace = proposed.run().unwrap_or_else(|error| panic!("{}: {error}", offer.title));
        assert!(trace.stopped.is_none(), "{}: {:?}", offer.title, trace.stopped);
        let error = |trace: &Trace| {
            let [sp, pv] = [ColumnRole::SetPoint, ColumnRole::ProcessVariable].map(|role| trace.values(role));
            let tail = sp.len() / 20;
            let off = sp.iter().zip(pv).rev().take(tail).map(|(sp, pv)| (sp - pv).abs()).sum::<f64>() / tail as f64;
            100.0 * off / proposed.plant.pv.span.width()
        };
        let by_rule = error(
            &Trial {
                candidate: first_trial_on(&plant, &SimcChoice::default()).unwrap().0.candidate,
                ..proposed.clone()
            }
            .run()
            .unwrap(),
        );
        let off = error(&trace);
        assert!(off < 0.15 + by_rule, "{}: {off} % off, PID {by_rule} %", offer.title);
        tried += 1;
    }
    assert!(tried > 15, "{tried}");
}

#[test]
fn what_cannot_be_reached_in_the_end_is_not_hastened_to() {
    // A known load that the MV cannot make good for ever, and that comes slowly: until it is there the set point is kept.
    let cells = vec![vec![[1.0, 10.0, 0.0], [1.0, 100.0, 0.0]]];
    let mut settings = settings(&cells, 1, 300.0, vec![1, 1, 2, 4, 8, 16, 32]);
    settings.dvs = vec![MeasuredDisturbance { signal: "u2".into(), input: "u2".into(), known_ahead: false }];
    settings.mvs[0].low = 40.0;
    let mut trial = trial(plant(&cells, 1), settings, 1.0, 600.0);
    trial.scenario.events = vec![Event::LoadStep { at: 10.0, by: 20.0, input: Some("u2".into()) }];
    let trace = trial.run().unwrap();
    let y = column(&trace, "Y1.PV");
    // 20·(1 − e^(−t/100)) passes 10, all that the MV can take away, after 69 s; then it goes on to 60 (exact mathematics).
    assert!(y[10..60].iter().all(|y| (y - 50.0).abs() < 0.7), "{:?}", &y[10..60]);
    assert!((y[599] - (50.0 + 10.0 - 20.0 * (-589.0f64 / 100.0).exp())).abs() < 0.1, "{}", y[599]);
    assert!(column(&trace, "Y1.OP").iter().all(|u| *u <= 50.0 + 1e-9));
}

#[test]
fn a_spare_mv_rests_where_it_is_told_and_helps_while_it_must() {
    let cells = vec![vec![[1.0, 20.0, 2.0], [0.5, 5.0, 0.0]]];
    let mut settings = settings(&cells, 2, 120.0, vec![1, 1, 2, 4, 8, 16]);
    settings.mvs[1].rests_at = Some(50.0);
    let mut trial = trial(plant(&cells, 2), settings, 1.0, 900.0);
    // The second MV has a seat of its own, which measures nothing of its own.
    trial.candidate.further = vec![Wired {
        name: "spare".into(),
        measures: "Y1.PV".into(),
        sets: vec![Wire::to("Y2.OP")],
        controller: ControllerSpec::Seat,
        set_point_tracking: false,
    }];
    trial.scenario.events = vec![Event::set_point(50.0, 5.0)];
    let trace = trial.run().unwrap();
    let [y, u1, u2] = ["Y1.PV", "Y1.OP", "Y2.OP"].map(|tag| column(&trace, tag));
    assert!(u2[50..70].iter().any(|u| *u > 51.0), "it does not help");
    assert!(
        (y[899] - 55.0).abs() < 1e-3 && (u1[899] - 55.0).abs() < 0.01 && (u2[899] - 50.0).abs() < 0.02,
        "{} {} {}",
        y[899],
        u1[899],
        u2[899]
    );
    assert!(trace.columns.iter().all(|column| column.tag != "spare.SP"), "a set point that leads nothing");
    assert!(assess(&trial, &trace).unwrap().further.is_empty());
}

#[test]
fn a_scan_that_is_too_short_for_a_plan_is_lengthened_and_told() {
    let cells = wood_berry();
    let before = trial(plant(&cells, 2), settings(&cells, 2, 40.0, vec![1, 2]), 0.01, 60.0);
    assert!(predictive_scan(&before.plant, 1.0).unwrap() == 1.0, "a scan that will do stays");
    let begun = begin_with(
        ControllerKind::Predictive,
        &Trial { candidate: Candidate::new(ControllerSpec::Manual), ..before.clone() },
    );
    let scan = begun.unwrap().scenario.scan;
    // The slowest lag of the column is 21 s, the longest dead time 7 s (Wood & Berry 1973).
    assert!((0.2..2.0).contains(&scan), "{scan}");
    let after = Trial { scenario: Scenario { scan, ..before.scenario.clone() }, ..before.clone() };
    assert!(after.difference(&before).join(", ").contains("scan"), "{:?}", after.difference(&before));
}

#[test]
fn a_row_of_the_trail_is_named_by_the_signal_that_was_changed() {
    let cells = wood_berry();
    let before = trial(plant(&cells, 2), settings(&cells, 2, 40.0, vec![1, 2]), 1.0, 60.0);
    let named = |change: &dyn Fn(&mut PredictiveSettings)| {
        let mut after = before.clone();
        change(predictive(&mut after));
        after.difference(&before).join(", ")
    };
    assert_eq!(named(&|s| s.mvs[1].usual_move = 2.0), "Y2.OP usual move 1 → 2");
    assert_eq!(
        named(&|s| s.cvs[0].high = Some(RankedLimit { value: 54.0, rank: 2 })).matches("Y1.PV high limit").count(),
        2
    );
    assert_eq!(named(&|s| s.cvs[1].response_time = 30.0), "Y2.PV response time 0 → 30");
    assert_eq!(named(&|s| s.moves = vec![1, 1, 4]), "moves 1, 2 → 1, 1, 4");
    assert_eq!(named(&|s| s.moves = vec![1, 2, 2, 2]), "moves 1, 2 → 1, 2 × 3");
    assert_eq!(named(&|s| s.cvs[0].set_point_known_ahead = true), "set points of Y1.PV known beforehand");
    let measured = |known_ahead| vec![MeasuredDisturbance { signal: "load".into(), input: "u3".into(), known_ahead }];
    let mut first = before.clone();
    predictive(&mut first).dvs = measured(false);
    let mut then = first.clone();
    predictive(&mut then).dvs = measured(true);
    assert_eq!(then.difference(&first).join(", "), "load forecast");
    assert_eq!(first.difference(&then).join(", "), "load no longer forecast");
    assert_eq!(
        named(&|s| s.dvs = vec![MeasuredDisturbance { signal: "load".into(), input: "u3".into(), known_ahead: false }]),
        "with load"
    );
}

#[test]
fn a_predictive_candidate_gives_way_to_one_pid_a_pair_whichever_pair_fits() {
    // Each OP moves the signal of the other loop: the pairs are crossed.
    let crossed = vec![vec![[0.3, 20.0, 2.0], [1.5, 20.0, 2.0]], vec![[1.5, 20.0, 2.0], [0.3, 20.0, 2.0]]];
    for cells in [wood_berry(), crossed] {
        let before = trial(plant(&cells, 2), settings(&cells, 2, 40.0, vec![1, 2]), 1.0, 60.0);
        let begun = begin_with(ControllerKind::Pid, &before).unwrap();
        let candidate = Candidate { sets: begun.sets, further: begun.further, ..Candidate::new(begun.controller) };
        let after = Trial { candidate, scenario: begun.scenario, ..before };
        let trace = after.run().unwrap();
        assert!(trace.stopped.is_none() && after.candidate.further.iter().all(|one| one.controller.pid().is_some()));
    }
}

/// What is left of a load decays as the slowest pole says: held against a trial, which knows nothing of poles; and an oscillation as its
/// period and damping say.
#[test]
fn what_is_left_decays_by_the_slowest_pole() {
    for (believed, usual_move) in [(20.0, 1.0), (6.0, 6.0), (35.0, 0.3)] {
        let cells = vec![vec![[1.5, 12.0, 2.0]]];
        let mut own = settings(&cells, 1, 60.0, vec![1, 1, 2, 4, 8]);
        (own.cvs[0].believed_after, own.mvs[0].usual_move) = (Some(believed), usual_move);
        let mut trial = trial(plant(&cells, 1), own, 1.0, 600.0);
        trial.scenario.events = vec![Event::load(5.0, 2.0)];
        let poles = trial.planned_over().unwrap().poles;
        let slowest = poles[0];
        assert!(poles.windows(2).all(|pair| pair[0].time_constant >= pair[1].time_constant), "{poles:?}");
        let trace = trial.run().unwrap();
        let error: Vec<f64> = column(&trace, "Y1.PV").iter().map(|pv| pv - 50.0).collect();
        // Late enough that only the slowest is left, early enough that it is more than rounding.
        let left = |at: usize| error[at..at + 30].iter().fold(0.0f64, |most, error| most.max(error.abs()));
        let time = slowest.time_constant.unwrap();
        let (from, to) = ((5.0 * time) as usize + 20, (11.0 * time) as usize + 20);
        let decay = (left(from) / left(to)).ln() / (to - from) as f64;
        assert!((decay * time - 1.0).abs() < 0.03, "believed after {believed} s: 1/{} for 1/{time}", decay.recip());
        assert!((0.0..=1.0).contains(&slowest.damping));
    }
}
