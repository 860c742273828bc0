//! Disturbances found in the record of a loop, held against those that the simulation let in.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::identification::{DataSet, Model, Series, fit_fopdt};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::process::LinearSpec;
use antistasis_core::proof::{Contender, PROOF_VERSION, Proof, Uncertainty, find_disturbances, propose_set, prove};
use antistasis_core::series::TimeAxis;
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::units::Span;

const SCAN: f64 = 2.0;

fn plant() -> Plant {
    let process = LinearSpec::Fopdt { gain: 1.4, time_constant: 60.0, dead_time: 15.0 };
    let signal = |tag: &str, span: Span| Signal { tag: tag.into(), span };
    let own = (signal("TIC-1.PV", Span::new(0.0, 150.0, "°C")), signal("TIC-1.OP", Span::new(0.0, 100.0, "%")));
    let sensor = SensorSpec { noise: 0.15, ..SensorSpec::default() };
    Plant { sensor, ..Plant::plain(process, own.0, own.1, OperatingPoint::new(70.0, 45.0)) }
}

fn trial(controller: ControllerSpec, duration: f64, events: Vec<Event>) -> Trial {
    Trial {
        version: TRIAL_VERSION,
        plant: plant(),
        candidate: Candidate::new(controller),
        scenario: Scenario { duration, scan: SCAN, seed: 11, events, further: Default::default() },
    }
}

fn pid() -> ControllerSpec {
    // Gain in % per %: τ/(2Kθ) on a span of 150 °C.
    ControllerSpec::Pid(PidSettings::pi(60.0 / (2.0 * 1.4 * 15.0) * 1.5, 60.0))
}

fn data(trace: &Trace) -> DataSet {
    let series = |tag: &str, unit: &str, role| Series::new(tag, unit, trace.values(role).to_vec());
    DataSet {
        axis: TimeAxis::uniform(SCAN, trace.len()).unwrap(),
        inputs: vec![series("TIC-1.OP", "%", ColumnRole::Output)],
        outputs: vec![series("TIC-1.PV", "°C", ColumnRole::ProcessVariable)],
    }
}

/// A model from a step test in manual.
fn model() -> Model {
    let steps = [(60.0, 8.0), (600.0, -12.0), (1200.0, 9.0)].map(|(at, by)| Event::OutputStep { at, by });
    let test = trial(ControllerSpec::Manual, 1800.0, steps.to_vec()).run().unwrap();
    fit_fopdt(&data(&test)).unwrap()
}

/// A day in automatic: the loads that came in, and what the record shows of it.
fn day() -> (Vec<(f64, f64)>, Trace) {
    let loads = vec![(9_000.0, 9.0), (21_000.0, -14.0), (40_000.0, 6.0), (61_000.0, -4.0)];
    let mut events: Vec<Event> = loads.iter().map(|(at, by)| Event::load(*at, *by)).collect();
    events.push(Event::set_point(50_000.0, 5.0));
    (loads, trial(pid(), 86_400.0, events).run().unwrap())
}

#[test]
fn what_came_in_is_found_when_and_how_big_and_how_often_it_was() {
    let (loads, trace) = day();
    let found = find_disturbances(&trial(pid(), 600.0, Vec::new()), &data(&trace), &model(), "tuesday").unwrap();
    let changes = &found.loads.changes;
    assert_eq!(changes.len(), 4, "{changes:?}");
    for (at, by) in &loads {
        let nearest = changes.iter().min_by(|a, b| (a.at - at).abs().total_cmp(&(b.at - at).abs())).unwrap();
        // A load enters a dead time before anything is seen of it.
        assert!((nearest.at - at).abs() < 15.0, "{nearest:?} for {at}");
        assert!((nearest.by - by).abs() < 0.1 * by.abs() + 2.0 * found.loads.error, "{nearest:?} for {by}");
    }
    // A move of the set point is none of them: it comes by the OP.
    assert!(changes.iter().all(|change| (change.at - 50_000.0).abs() > 500.0));
    let names: Vec<&str> = found.disturbances.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names.len(), 3, "{names:?}");
    assert_eq!(names[0], "load as in tuesday");
    assert!(names[1].starts_with("load +") && names[2].starts_with("load −"), "{names:?}");
    assert!(
        found.disturbances[2].reason.starts_with("the largest of 2 such changes in"),
        "{}",
        found.disturbances[2].reason
    );
    let says = &found.verdicts[0].text;
    assert!(says.contains("changed 4 times") && says.contains("of tuesday"), "{says}");
}

/// Something upstream cycles through the whole day, beside a step: it is found as what it is, and neither as changes nor as a walk.
#[test]
fn a_load_that_swings_is_found_as_a_sine() {
    let own = trial(pid(), 600.0, Vec::new());
    let events = |by: f64| {
        let sine = Event::LoadSine { at: 0.0, by, period: 1500.0, lasts: None, input: None };
        let mut events = vec![Event::load(30_000.0, 12.0), Event::load(61_000.0, -9.0)];
        events.extend((by > 0.0).then_some(sine));
        events
    };
    let of = |by: f64| {
        let trace = trial(pid(), 86_400.0, events(by)).run().unwrap();
        find_disturbances(&own, &data(&trace), &model(), "tuesday").unwrap()
    };
    let found = of(3.0);
    let swing = found.loads.swing.unwrap();
    assert!((swing.period / 1500.0 - 1.0).abs() < 0.002 && (swing.by / 3.0 - 1.0).abs() < 0.1, "{swing:?}");
    let mut sizes: Vec<f64> = found.loads.changes.iter().map(|change| change.by).collect();
    sizes.sort_by(f64::total_cmp);
    assert!(sizes.len() == 2 && (sizes[0] + 9.0).abs() < 1.5 && (sizes[1] - 12.0).abs() < 1.5, "{sizes:?}");
    let item = found.disturbances.iter().find(|one| one.name.starts_with("load ±")).unwrap();
    let Event::LoadSine { by, period, .. } = item.events[0] else { panic!("{item:?}") };
    assert!((by / swing.by - 1.0).abs() < 5e-3 && (period / swing.period - 1.0).abs() < 5e-3);
    assert!(item.duration > 5.0 * period && item.reason.contains("something upstream cycles"), "{item:?}");
    assert!(found.verdicts[0].text.contains("every 25 min all the time"), "{}", found.verdicts[0].text);
    // Without it there is none, and no word of it.
    let quiet = of(0.0);
    assert_eq!(quiet.loads.swing, None);
    assert!(!quiet.verdicts[0].text.contains("swings"));
}

/// The stretch that was cut out, laid on the plant under the controller that ran then, gives the PV of the record: what the noise of the
/// sensor hides aside.
#[test]
fn the_load_as_it_was_makes_the_pv_of_the_record() {
    let (_, trace) = day();
    let found = find_disturbances(&trial(pid(), 600.0, Vec::new()), &data(&trace), &model(), "tuesday").unwrap();
    let item = &found.disturbances[0];
    let Event::LoadChannel { at, interval, values, .. } = &item.events[0] else { panic!("{item:?}") };
    let mut again = trial(pid(), item.duration, item.events.clone());
    again.plant.sensor.noise = 0.0;
    let replayed = again.run().unwrap();
    // Where in the record it was: the liveliest stretch.
    let range = found.loads.liveliest(values.len() as f64 * interval);
    let start = (found.loads.begins + range.start as f64 * found.loads.interval - at) / SCAN;
    let pv = trace.values(ColumnRole::TrueValue);
    let replayed = &replayed.values(ColumnRole::ProcessVariable)[200..];
    let then: Vec<f64> = (200..200 + replayed.len()).map(|k| pv[(start + k as f64).round() as usize]).collect();
    let lowest = |values: &[f64]| values.iter().copied().fold(f64::MAX, f64::min);
    let size = 70.0 - lowest(&then);
    assert!(size > 4.0 && (70.0 - lowest(replayed) - size).abs() < 0.1 * size, "{} {size}", lowest(replayed));
    // The edge of a step is known to some seconds only: beside it they differ.
    let squares: f64 = replayed.iter().zip(&then).map(|(own, then)| (own - then).powi(2)).sum();
    let off = (squares / then.len() as f64).sqrt();
    assert!(off < 0.05 * size, "{off} of {size}");
}

#[test]
fn found_ones_become_items_of_a_proof_and_take_the_place_of_their_namesakes() {
    let (_, trace) = day();
    let own = trial(pid(), 600.0, Vec::new());
    let found = find_disturbances(&own, &data(&trace), &model(), "tuesday").unwrap();
    assert!(found.disturbances.iter().all(|one| one.criteria.iter().any(|criterion| criterion.most.is_some())));
    let mut set = propose_set(&own).unwrap();
    let before = set.disturbances.len();
    set.take_in(found.disturbances.clone());
    set.take_in(found.disturbances);
    assert_eq!(set.disturbances.len(), before + 3);
    set.disturbances.drain(..before);
    let slow = ControllerSpec::Pid(PidSettings::pi(0.2, 200.0));
    let contender =
        |name: &str, controller| Contender { name: name.into(), candidate: Candidate::new(controller), scan: None };
    let proof = Proof {
        version: PROOF_VERSION,
        plant: own.plant.clone(),
        scan: SCAN,
        candidates: vec![contender("quick", pid()), contender("slow", slow)],
        compared_with: None,
        set,
        uncertainty: Uncertainty::None,
        seed: 3,
    };
    let result = prove(&proof).unwrap();
    assert_eq!(result.holds, [Some(true), Some(false)]);
}

#[test]
fn what_no_load_can_be_told_of_says_why() {
    let (_, trace) = day();
    let own = trial(pid(), 600.0, Vec::new());
    let refused = |trial: &Trial, data: &DataSet, model: &Model| {
        find_disturbances(trial, data, model, "x").unwrap_err().to_string()
    };
    let short = data(&trace).slice(0..40);
    assert!(refused(&own, &short, &model()).contains("40 samples"));
    let mut level = own.clone();
    level.plant.pv.span.unit = "m".into();
    assert!(refused(&level, &data(&trace), &model()).contains("the plant has one in m"));
    // In manual the limits come from settings that are proposed for the plant.
    let manual = trial(ControllerSpec::Manual, 600.0, Vec::new());
    assert!(find_disturbances(&manual, &data(&trace), &model(), "x").is_ok());
}
