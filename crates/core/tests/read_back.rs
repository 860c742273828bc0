//! Predictive control over valves whose positions are read back: that follow, that are slow, that stop short, and that stick.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::instrument::{ActuatorSpec, ValveSpec};
use antistasis_core::simulation::{Event, Trace, Trial};
use planned::{Cells, column, further, plant, predictive, settings, trial, wood_berry};
use proptest::prelude::*;

const SCAN: f64 = 1.0;

/// One CV that two MVs move, at rest in the middle.
fn shared() -> Trial {
    let cells: Cells = vec![vec![[1.0, 10.0, 2.0], [0.8, 6.0, 1.0]]];
    let mut trial = trial(plant(&cells, 2), settings(&cells, 2, 60.0, vec![1, 1, 2, 4, 8]), SCAN, 400.0);
    // The second MV has a seat without a CV of its own.
    let seat = antistasis_core::simulation::Wired {
        name: "Y2".into(),
        measures: "Y1.PV".into(),
        sets: vec![antistasis_core::simulation::Wire::to("Y2.OP")],
        controller: antistasis_core::controller::ControllerSpec::Seat,
        set_point_tracking: false,
    };
    trial.candidate.further = vec![seat];
    let own = predictive(&mut trial);
    own.mvs[1].rests_at = Some(50.0);
    own.mvs.iter_mut().for_each(|mv| mv.usual_move = 2.0);
    trial
}

fn read_back(trial: &mut Trial, within: f64) {
    predictive(trial).mvs.iter_mut().for_each(|mv| mv.follows_within = Some(within));
}

fn valve(spec: ValveSpec) -> ActuatorSpec {
    ActuatorSpec::Valve(spec)
}

/// The furthest that a CV is from its set point in a stretch of time.
fn furthest(trace: &Trace, tag: &str, target: f64, between: std::ops::Range<f64>) -> f64 {
    let scans = (between.start / SCAN) as usize..(between.end / SCAN) as usize;
    column(trace, tag)[scans].iter().map(|value| (value - target).abs()).fold(0.0, f64::max)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// A valve that follows at once stands where it is set: that its position is read tells nothing new.
    #[test]
    fn a_valve_that_follows_at_once_changes_nothing(
        gains in proptest::array::uniform4(-3f64..3.0),
        lags in proptest::array::uniform4(4f64..30.0),
        size in -10f64..10.0,
        within in 0.1f64..20.0,
    ) {
        let cell = |k: usize| [gains[k] + 0.5f64.copysign(gains[k]), lags[k], 2.0];
        let cells = vec![vec![cell(0), cell(1)], vec![cell(2), cell(3)]];
        let mut plain = trial(plant(&cells, 2), settings(&cells, 2, 60.0, vec![1, 1, 2, 4]), SCAN, 120.0);
        plain.scenario.events = vec![Event::set_point(5.0, size), Event::load(60.0, -size)];
        let mut told = plain.clone();
        read_back(&mut told, within);
        let (one, other) = (plain.run().unwrap(), told.run().unwrap());
        for (a, b) in one.columns.iter().zip(&other.columns) {
            prop_assert!(a.values.iter().zip(&b.values).all(|(a, b)| (a - b).abs() < 1e-9), "{}", a.tag);
        }
    }
}

#[test]
fn where_a_valve_sticks_the_other_does_its_work_and_nothing_winds_up() {
    let mut trial = shared();
    let events = |trial: &mut Trial| {
        trial.scenario.events = vec![Event::ValveSticks { at: 10.0, lasts: 240.0 }, Event::set_point(20.0, 12.0)];
    };
    events(&mut trial);
    let mut told = trial.clone();
    read_back(&mut told, 3.0);
    let (unaware, aware) = (trial.run().unwrap(), told.run().unwrap());
    // What is set stays within what the valve may be off, and a move.
    let apart = |trace: &Trace| column(trace, "Y1.OP").iter().map(|op| (op - 50.0).abs()).take(245).fold(0.0, f64::max);
    assert!(apart(&aware) < 12.0 && apart(&aware) < 0.6 * apart(&unaware), "{} {}", apart(&aware), apart(&unaware));
    // The set point is reached by the other alone: 12 % by a gain of 0.8.
    let others = column(&aware, "Y2.OP")[240];
    assert!((others - 65.0).abs() < 0.1, "{others}");
    assert!(furthest(&aware, "Y1.PV", 62.0, 200.0..240.0) < 0.05);
    // When it comes loose it comes back with less of a bump.
    let bump = |trace: &Trace| furthest(trace, "Y1.PV", 62.0, 250.0..400.0);
    assert!(bump(&aware) < 0.6 * bump(&unaware), "{} {}", bump(&aware), bump(&unaware));
    let ahead = told.ahead(100.0).unwrap();
    assert!(!ahead.mvs[0].follows && !ahead.mvs[0].available && ahead.mvs[1].follows, "{:?}", ahead.mvs);
    assert!(ahead.verdict.contains("Y1.OP does not follow: it stands at 50 %"), "{}", ahead.verdict);
    // And it is taken in again.
    let later = told.ahead(300.0).unwrap();
    assert!(later.mvs[0].follows && later.mvs[0].available, "{}", later.verdict);
}

/// What the estimate of a disturbance is for: with the position read, a valve that stands still is no disturbance.
#[test]
fn a_valve_that_sticks_is_not_taken_for_a_disturbance() {
    let believed = |within: Option<f64>| {
        let mut trial = shared();
        predictive(&mut trial).mvs.iter_mut().for_each(|mv| mv.follows_within = within);
        trial.scenario.events = vec![Event::ValveSticks { at: 10.0, lasts: 1000.0 }, Event::set_point(20.0, 12.0)];
        trial.ahead(200.0).unwrap().cvs[0].disturbance.unwrap().abs()
    };
    let (aware, unaware) = (believed(Some(3.0)), believed(None));
    assert!(aware < 1e-6 && unaware > 1.0, "{aware} {unaware}");
}

#[test]
fn a_slow_valve_is_on_its_way_and_not_asked_for_more_than_is_meant() {
    let mut trial = shared();
    trial.plant.actuator = valve(ValveSpec { stroke_time: 100.0, ..ValveSpec::default() });
    read_back(&mut trial, 1.0);
    trial.scenario.events = vec![Event::set_point(20.0, 15.0)];
    let trace = trial.run().unwrap();
    // It travels by 1 % a scan, is far behind for long, and is never taken for one that does not follow.
    for at in [22.0, 25.0, 30.0] {
        assert!(trial.ahead(at).unwrap().mvs[0].follows, "at {at} s");
    }
    assert!(furthest(&trace, "Y1.PV", 65.0, 300.0..400.0) < 0.05);
    let highest = column(&trace, "Y1.OP").iter().copied().fold(0.0, f64::max);
    assert!(highest < 75.0, "wound up to {highest} %");
}

#[test]
fn a_valve_that_stops_short_leaves_no_offset() {
    let mut trial = shared();
    trial.plant.actuator = valve(ValveSpec { dead_band: 2.0, ..ValveSpec::default() });
    read_back(&mut trial, 5.0);
    trial.scenario.events = vec![Event::set_point(20.0, 8.0), Event::set_point(200.0, -6.0)];
    let trace = trial.run().unwrap();
    // 2 % of lost motion would be an offset of 2 % if what is set were led to where the valve should stand.
    assert!(furthest(&trace, "Y1.PV", 58.0, 170.0..200.0) < 0.1);
    assert!(furthest(&trace, "Y1.PV", 52.0, 370.0..400.0) < 0.1);
    assert!(trial.ahead(350.0).unwrap().mvs[0].follows);
}

#[test]
fn a_set_point_below_has_no_position() {
    let cells = wood_berry();
    let mut trial = trial(plant(&cells, 2), settings(&cells, 2, 40.0, vec![1, 2, 4]), SCAN, 60.0);
    further(&mut trial, "Y2", vec![Event::set_point(5.0, 1.0)]);
    let own = predictive(&mut trial);
    own.mvs[1].follows_within = Some(0.0);
    let refused = trial.run().unwrap_err().to_string();
    assert!(refused.contains("follows_within") || refused.contains("0.1"), "{refused}");
    predictive(&mut trial).mvs[1].follows_within = Some(2.0);
    trial.run().unwrap();
}
