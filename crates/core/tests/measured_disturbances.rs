//! Inputs that are measured: what their sensors show, what controllers make of it, and what happens when a sensor fails.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::controller::predictive::MeasuredDisturbance;
use antistasis_core::controller::{ControllerSpec, FeedForward, PidSettings};
use antistasis_core::instrument::{Failure, SensorSpec};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, MeasuredInput, Plant, Ratio, Scenario, TRIAL_VERSION, Trace, Trial, sweep_targets,
};
use antistasis_core::tuning::{ControllerKind, FurtherSignal, begin_with, with_further};
use antistasis_core::units::Span;
use planned::{column, plant, settings};
use proptest::prelude::*;

const FEED: &str = "FI-205";

/// One loop whose second input is a feed that a sensor measures.
fn fed(sensor: SensorSpec) -> Plant {
    let measured = MeasuredInput { tag: FEED.into(), span: Span::new(0.0, 100.0, "%"), input: "u2".into(), sensor };
    let cells = vec![vec![[1.2, 20.0, 3.0], [0.8, 12.0, 5.0]]];
    Plant { measured_disturbances: vec![measured], ..plant(&cells, 1) }
}

fn trial(plant: Plant, controller: ControllerSpec, events: Vec<Event>) -> Trial {
    let scenario = Scenario { duration: 600.0, scan: 1.0, seed: 3, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(controller), scenario }
}

fn step(at: f64, by: f64) -> Event {
    Event::LoadStep { at, by, input: Some("u2".into()) }
}

/// A PI controller, fed forward from a signal.
fn forward(signal: &str) -> ControllerSpec {
    let forward = FeedForward { signal: signal.into(), gain: -0.66, lead: 20.0, lag: 12.0, delay: 0.0 };
    ControllerSpec::Pid(PidSettings { feed_forward: Some(forward), ..PidSettings::pi(1.0, 20.0) })
}

fn error(trace: &Trace) -> f64 {
    trace.values(ColumnRole::ProcessVariable).iter().map(|pv| (pv - 50.0).abs()).sum()
}

#[test]
fn a_sensor_shows_a_step_behind_its_dead_time_and_lag() {
    let sensor = SensorSpec { time_constant: 20.0, dead_time: 7.4, bias: 0.5, ..SensorSpec::default() };
    let trace = trial(fed(sensor), ControllerSpec::Manual, vec![step(100.3, 2.0)]).run().unwrap();
    for (t, shown) in column(&trace, FEED).iter().enumerate() {
        let since = t as f64 - 107.7;
        // The answer of a lag to a step: exact mathematics.
        let exact = 50.5 + if since > 0.0 { 2.0 * (1.0 - (-since / 20.0).exp()) } else { 0.0 };
        assert!((shown - exact).abs() < 1e-9, "at {t} s: {shown} {exact}");
    }
    // The input itself is shown beside it.
    assert!((column(&trace, "u2")[101] - 52.0).abs() < 1e-12);
}

#[test]
fn what_a_sensor_shows_is_what_a_controller_feeds_forward() {
    let events = || vec![step(100.0, 10.0)];
    let by_name = trial(fed(SensorSpec::default()), forward("u2"), events()).run().unwrap();
    let by_tag = trial(fed(SensorSpec::default()), forward(FEED), events()).run().unwrap();
    assert_eq!(by_name.values(ColumnRole::ProcessVariable), by_tag.values(ColumnRole::ProcessVariable));
    // A slow sensor comes too late to help as much, and helps still.
    let slow = SensorSpec { time_constant: 30.0, ..SensorSpec::default() };
    let late = trial(fed(slow), forward(FEED), events()).run().unwrap();
    let alone = ControllerSpec::Pid(PidSettings::pi(1.0, 20.0));
    let without = trial(fed(SensorSpec::default()), alone, events()).run().unwrap();
    let (prompt, late, without) = (error(&by_tag), error(&late), error(&without));
    assert!(prompt < 0.5 * late && late < without, "{prompt} {late} {without}");
}

#[test]
fn a_set_point_in_ratio_follows_the_measured_flow() {
    let biased = SensorSpec { bias: 1.0, ..SensorSpec::default() };
    let mut ratio = trial(fed(biased), ControllerSpec::Pid(PidSettings::pi(1.0, 20.0)), vec![step(100.0, 4.0)]);
    ratio.candidate.ratio = Some(Ratio { signal: FEED.into(), ratio: 0.5 });
    let trace = ratio.run().unwrap();
    // From where it rested, the bias in it.
    let set_point = trace.values(ColumnRole::SetPoint);
    assert!((set_point[599] - set_point[50] - 2.0).abs() < 1e-9, "{} {}", set_point[50], set_point[599]);
}

/// A sensor at an end of its span is not believed by who plans: the last good value stands. A feed-forward knows no better.
#[test]
fn a_sensor_that_fails_fools_a_feed_forward_but_no_plan() {
    let cells = vec![vec![[1.2, 20.0, 3.0], [0.8, 12.0, 5.0]]];
    let mut own = settings(&cells, 1, 80.0, vec![1, 1, 2, 4, 8]);
    own.mvs.truncate(1);
    own.dvs = vec![MeasuredDisturbance { signal: FEED.into(), input: "u2".into(), known_ahead: false }];
    let planned = ControllerSpec::Predictive(Box::new(own));
    let fails = Event::SensorFails { at: 200.0, lasts: 100.0, how: Failure::High, signal: Some(FEED.into()) };
    let mut plant = fed(SensorSpec::default());
    plant.measured_disturbances[0].sensor.noise = 1e-6;
    let run = |controller: ControllerSpec, events: Vec<Event>| trial(plant.clone(), controller, events).run().unwrap();
    let failed = run(planned.clone(), vec![fails.clone()]);
    assert_eq!(column(&failed, FEED)[250], 100.0);
    let (calm, fooled) = (error(&failed), error(&run(forward(FEED), vec![fails])));
    assert!(calm < 1e-2 && fooled > 100.0, "{calm} {fooled}");
    // While it works it is met before it is felt.
    let with = error(&run(planned.clone(), vec![step(100.0, 10.0)]));
    let ControllerSpec::Predictive(mut blind) = planned else { panic!() };
    blind.dvs.clear();
    let without = error(&run(ControllerSpec::Predictive(blind), vec![step(100.0, 10.0)]));
    assert!(with < 0.5 * without, "{with} {without}");
}

#[test]
fn a_proposal_reads_what_is_measured() {
    let trial = trial(fed(SensorSpec::default()), ControllerSpec::Pid(PidSettings::pi(1.0, 20.0)), Vec::new());
    let begun = begin_with(ControllerKind::Predictive, &trial).unwrap();
    let ControllerSpec::Predictive(settings) = &begun.controller else { panic!() };
    let read: Vec<(&str, &str)> = settings.dvs.iter().map(|dv| (dv.signal.as_str(), dv.input.as_str())).collect();
    assert_eq!(read, [(FEED, "u2")]);
}

#[test]
fn a_forecast_of_a_measured_input_is_that_of_the_scenario() {
    let mut own = settings(&vec![vec![[1.2, 20.0, 3.0], [0.8, 12.0, 5.0]]], 1, 80.0, vec![1; 30]);
    own.mvs.truncate(1);
    // What the plan weighs: squares of errors and of moves, the usual move being 1 %.
    let error_with = |known_ahead: bool| -> f64 {
        let mut with = own.clone();
        with.dvs = vec![MeasuredDisturbance { signal: FEED.into(), input: "u2".into(), known_ahead }];
        let planned = ControllerSpec::Predictive(Box::new(with));
        let trace = trial(fed(SensorSpec::default()), planned, vec![step(100.0, 10.0)]).run().unwrap();
        let errors: f64 = trace.values(ColumnRole::ProcessVariable).iter().map(|pv| (pv - 50.0).powi(2)).sum();
        let moves = trace.values(ColumnRole::Output).windows(2).map(|pair| (pair[1] - pair[0]).powi(2));
        errors + moves.sum::<f64>()
    };
    let (known, measured) = (error_with(true), error_with(false));
    assert!(known < 0.9 * measured, "{known} {measured}");
}

#[test]
fn what_cannot_be_measured_is_told_where_it_stands() {
    let told = |change: &dyn Fn(&mut Trial)| -> String {
        let mut wrong = trial(fed(SensorSpec::default()), ControllerSpec::Manual, Vec::new());
        change(&mut wrong);
        let error = wrong.run().unwrap_err();
        format!("{:?} {error}", error.field())
    };
    let one = |wrong: &mut Trial| wrong.plant.measured_disturbances[0].clone();
    assert!(told(&|own| own.plant.measured_disturbances[0].input = "u1".into()).contains("driven by an OP"));
    assert!(
        told(&|own| own.plant.measured_disturbances[0].input = "u9".into()).contains("measured_disturbances[0].input")
    );
    assert!(told(&|own| own.plant.measured_disturbances[0].span.unit = "m³/h".into()).contains("the unit of u2"));
    assert!(told(&|own| own.plant.measured_disturbances[0].tag = "Y1.PV".into()).contains("no other signal"));
    assert!(
        told(&|own| {
            let twin = MeasuredInput { tag: "FI-206".into(), ..one(own) };
            own.plant.measured_disturbances.push(twin);
        })
        .contains("not measured already")
    );
    assert!(told(&|own| own.plant.measured_disturbances[0].sensor.noise = -1.0).contains("sensor.noise"));
    let fails = Event::SensorFails { at: 1.0, lasts: 2.0, how: Failure::Low, signal: Some("FI-999".into()) };
    let unknown = told(&|own| own.scenario.events = vec![fails.clone()]);
    assert!(unknown.contains("events[0].signal") && unknown.contains(FEED), "{unknown}");
    let reads = told(&|own| own.candidate.controller = forward("FI-999"));
    assert!(reads.contains(FEED), "{reads}");
}

#[test]
fn on_a_plant_without_the_sensor_its_failure_leaves_the_scenario() {
    let fails =
        |signal: &str| Event::SensorFails { at: 1.0, lasts: 2.0, how: Failure::Low, signal: Some(signal.into()) };
    let events = vec![fails(FEED), fails("Y1.PV"), step(100.0, 2.0)];
    let with = trial(fed(SensorSpec::default()), ControllerSpec::Manual, events);
    let bare = Plant { measured_disturbances: Vec::new(), ..fed(SensorSpec::default()) };
    let (moved, left) = with.on_plant(bare).unwrap();
    assert_eq!((moved.scenario.events.len(), left), (2, vec![fails(FEED)]));
    assert!(moved.run().is_ok());
}

#[test]
fn numbers_of_a_sensor_are_in_the_unit_of_what_it_measures() {
    let mut own = fed(SensorSpec { noise: 0.5, ..SensorSpec::default() });
    own.pv.span.unit = "°C".into();
    let targets = sweep_targets(&trial(own, ControllerSpec::Manual, Vec::new())).unwrap();
    let unit = |pointer: &str| &targets.iter().find(|target| target.pointer == pointer).unwrap().unit;
    assert_eq!(unit("/plant/measured_disturbances/0/sensor/noise"), "%");
    assert_eq!(unit("/plant/measured_disturbances/0/span/high"), "%");
    assert_eq!(unit("/plant/sensor/noise"), "°C");
}

#[test]
fn a_plant_gets_a_sensor_for_an_input_by_one_action() {
    let bare = Plant { measured_disturbances: Vec::new(), ..fed(SensorSpec::default()) };
    let with = with_further(&bare, &[FurtherSignal::Disturbance("u2")]).unwrap();
    let [one] = &with.measured_disturbances[..] else { panic!() };
    assert_eq!((one.input.as_str(), one.span.unit.as_str()), ("u2", "%"));
    assert!(one.span.low <= 50.0 && 50.0 <= one.span.high);
    assert!(with_further(&with, &[FurtherSignal::Disturbance("u2")]).is_err());
    assert!(with_further(&bare, &[FurtherSignal::Disturbance("u1")]).is_err());
    // What is measured cannot be driven besides.
    assert!(with_further(&with, &[FurtherSignal::Driven("u2")]).is_err());
    // What is not said is not written: a document without it is as short as it was.
    assert!(!serde_json::to_string(&bare).unwrap().contains("measured_disturbances"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// A plant is what it was, whatever is measured of its inputs: no sensor moves the process.
    #[test]
    fn measuring_an_input_changes_nothing_that_happens(
        noise in 0f64..3.0,
        time_constant in 0f64..40.0,
        dead_time in 0f64..30.0,
        resolution in 0f64..2.0,
        at in 0f64..300.0,
        by in -20f64..20.0,
    ) {
        let sensor = SensorSpec { noise, time_constant, dead_time, resolution, ..SensorSpec::default() };
        let pi = || ControllerSpec::Pid(PidSettings::pi(0.8, 20.0));
        let measured = trial(fed(sensor), pi(), vec![step(at, by)]).run().unwrap();
        let bare = Plant { measured_disturbances: Vec::new(), ..fed(SensorSpec::default()) };
        let plain = trial(bare, pi(), vec![step(at, by)]).run().unwrap();
        prop_assert_eq!(measured.values(ColumnRole::ProcessVariable), plain.values(ColumnRole::ProcessVariable));
        prop_assert!(column(&measured, FEED).iter().all(|value| value.is_finite()));
    }
}
