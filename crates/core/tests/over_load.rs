//! Plants over their range of operation: against what follows from their equations by hand, and by a schedule that proves itself.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::controller::{ControllerSpec, PidSettings, ScheduledOver};
use antistasis_core::process::{DetailedSpec, Equation, EquationsSpec, LinearSpec, NamedValue, OwnOutput, ProcessSpec};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial,
};
use antistasis_core::tuning::{LoadQuestion, over_load};
use antistasis_core::units::Span;
use antistasis_core::verdict::Tone;

fn named(name: &str, value: f64) -> NamedValue {
    NamedValue { name: name.into(), unit: String::new(), value, low: None, high: None }
}

/// `T' = (k u f − (T − 20) f)/τ`: at rest T = 20 + k u, and about it the gain is k and the lag τ/f, whatever T; with a gain that
/// grows with T where `curved`: k u² in place of k u.
fn plant(curved: bool) -> Plant {
    let equation = |name: &str, equals: &str| Equation { name: name.into(), equals: equals.into() };
    let push = if curved { "k*u^2/100" } else { "k*u" };
    let spec = EquationsSpec {
        title: String::new(),
        states: vec![named("temperature", 60.0)],
        inputs: vec![named("u", 50.0), named("f", 1.0)],
        parameters: vec![named("k", 0.8), named("tau", 100.0)],
        definitions: vec![],
        rates: vec![equation("temperature", &format!("f*({push} - (temperature - 20))/tau"))],
        outputs: vec![OwnOutput { name: "temperature".into(), unit: "°C".into(), equals: "temperature".into() }],
    };
    let process = ProcessSpec::Detailed(DetailedSpec::Equations(spec));
    let signal = |tag: &str, span: Span| Signal { tag: tag.into(), span };
    let (pv, op) = (signal("T.PV", Span::new(0.0, 120.0, "°C")), signal("T.OP", Span::new(0.0, 100.0, "%")));
    let mut plant = Plant::plain(process, pv, op, OperatingPoint::new(if curved { 40.0 } else { 60.0 }, 50.0));
    plant.sensor.dead_time = 10.0;
    plant
}

fn question(plant: Plant, pid: PidSettings, over: Option<&str>) -> LoadQuestion {
    let scenario = Scenario {
        duration: 600.0,
        scan: 1.0,
        seed: 1,
        events: vec![Event::set_point(60.0, 5.0)],
        further: Default::default(),
    };
    let trial = Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(ControllerSpec::Pid(pid)), scenario };
    LoadQuestion { trial, over: over.map(str::to_owned), from: None, to: None, points: 9 }
}

fn fopdt(process: &Option<LinearSpec>) -> [f64; 3] {
    match process {
        Some(LinearSpec::Fopdt { gain, time_constant, dead_time }) => [*gain, *time_constant, *dead_time],
        other => panic!("{other:?}"),
    }
}

#[test]
fn gain_lag_and_dead_time_are_those_of_the_equations_at_each_load() {
    // Over the flow: the lag falls as 1/f, gain and dead time stay.
    let found = over_load(&question(plant(false), PidSettings::pi(2.0, 60.0), Some("f"))).unwrap();
    assert_eq!((found.points.len(), found.points[0].at, found.points[8].at), (9, 0.5, 1.5));
    for point in &found.points {
        let [gain, lag, late] = fopdt(&point.process);
        assert!((gain - 0.8).abs() < 1e-3 && (lag * point.at / 100.0 - 1.0).abs() < 0.01, "{point:?}");
        assert!((late - 10.0).abs() < 0.2 && (point.op.unwrap() - 50.0).abs() < 1e-6, "{point:?}");
    }
    assert_eq!(found.verdict.tone, Tone::Good, "{}", found.verdict.text);
    // Over the PV of one whose gain is 2 k u/100 = 2 √(k (T − 20)/100): by hand at each.
    let found = over_load(&question(plant(true), PidSettings::pi(1.0, 60.0), None)).unwrap();
    assert!(found.points.iter().all(|point| point.op.is_some()), "where nothing is asked it looks where it can rest");
    assert!(found.points[0].at > 20.0 && found.points[8].at > 70.0, "below 20 °C it rests nowhere");
    for point in &found.points {
        let [gain, lag, _] = fopdt(&point.process);
        let wanted = 2.0 * (0.8 * (point.pv - 20.0) / 100.0).sqrt();
        assert!((gain / wanted - 1.0).abs() < 5e-3, "{} at {}: {gain}, by hand {wanted}", found.over, point.pv);
        assert!((lag - 100.0).abs() < 1.0);
    }
    let mut asked = question(plant(true), PidSettings::pi(1.0, 60.0), None);
    (asked.from, asked.to) = (Some(10.0), Some(60.0));
    let found = over_load(&asked).unwrap();
    assert!(found.points[0].op.is_none() && found.points[0].why_not.is_some(), "what was asked is told, rest or not");
}

#[test]
fn where_one_setting_does_not_do_a_schedule_is_proposed_that_does() {
    // Tuned where the gain is low, the loop is unstable where it is four times that.
    let mut question = question(plant(true), PidSettings::pi(17.0, 80.0), None);
    (question.from, question.to, question.points) = (Some(25.0), Some(95.0), 15);
    let found = over_load(&question).unwrap();
    assert_eq!(found.verdict.tone, Tone::Bad, "{}", found.verdict.text);
    assert!(
        found.verdict.text.contains("unstable") && found.verdict.text.contains("schedule"),
        "{}",
        found.verdict.text
    );
    let settings = found.scheduled.unwrap();
    let schedule = settings.schedule.as_ref().unwrap();
    assert_eq!((schedule.over.clone(), schedule.points.len()), (ScheduledOver::Measurement, 5));
    // SIMC: the controller gain goes as one over the gain of the process, and the integral time stays.
    let gain = |pv: f64| 2.0 * (0.8 * (pv - 20.0) / 100.0).sqrt();
    let pv = |percent: f64| 1.2 * percent;
    let [first, .., last] = &schedule.points[..] else { panic!() };
    let ratio = (first.gain_factor * gain(pv(first.at))) / (last.gain_factor * gain(pv(last.at)));
    assert!((ratio - 1.0).abs() < 0.02, "{schedule:?}");
    assert!(schedule.points.iter().all(|point| (point.time_factor - 1.0).abs() < 0.03), "{schedule:?}");
    // The trial that proves it goes through the range and comes to rest at every load; with one setting it does not.
    let proof = found.proof.unwrap();
    let trace = proof.run().unwrap();
    let error = |trace: &antistasis_core::simulation::Trace| {
        let (sp, pv) =
            (trace.values(ColumnRole::SetPoint).to_vec(), trace.values(ColumnRole::ProcessVariable).to_vec());
        let tail = sp.len() - 200;
        sp[tail..].iter().zip(&pv[tail..]).map(|(sp, pv)| (sp - pv).abs()).fold(0.0, f64::max)
    };
    assert!(error(&trace) < 0.2, "{}", error(&trace));
    let mut plain = proof.clone();
    plain.candidate.controller = question.trial.candidate.controller.clone();
    assert!(error(&plain.run().unwrap()) > 1.0, "{}", error(&plain.run().unwrap()));
}

#[test]
fn what_cannot_be_asked_is_refused_at_its_field() {
    let refused = |edit: &dyn Fn(&mut LoadQuestion)| {
        let mut own = question(plant(false), PidSettings::pi(2.0, 60.0), None);
        edit(&mut own);
        match over_load(&own) {
            Err(antistasis_core::Error::Invalid { field, .. } | antistasis_core::Error::Said { field, .. }) => field,
            Err(other) => other.to_string(),
            Ok(_) => String::new(),
        }
    };
    assert_eq!(refused(&|_| ()), "");
    assert_eq!(refused(&|own| own.points = 2), "points");
    assert_eq!(refused(&|own| own.over = Some("flow".into())), "over");
    assert_eq!(refused(&|own| own.over = Some("u".into())), "over", "the OP drives it");
    assert_eq!(refused(&|own| own.from = Some(-5.0)), "from");
    assert_eq!(refused(&|own| (own.from, own.to) = (Some(50.0), Some(40.0))), "to");
    assert_eq!(refused(&|own| own.trial.candidate.controller = ControllerSpec::Manual), "trial.candidate");
}
