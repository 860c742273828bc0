//! Several loops on one plant against an outside integrator, against the same controllers in another form, and what must hold
//! for every wiring.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::assessment::{FrequencyCurves, SampledLoop, assess, over_frequency};
use antistasis_core::controller::{
    Action, AntiWindup, CascadeSettings, ControllerSpec, FeedForward, OutputLimits, PidSettings,
};
use antistasis_core::experiment::ExperimentSpec;
use antistasis_core::instrument::SensorSpec;
use antistasis_core::process::{DetailedSpec, Element, NamedValue, ProcessSpec, TransferFunctionsSpec};
use antistasis_core::simulation::{
    Candidate, Column, ColumnRole, Event, Manipulated, Measured, OperatingPoint, Plant, Scenario, Select, Signal,
    TRIAL_VERSION, Trace, Trial, Wire, Wired,
};
use antistasis_core::tuning::{another_controller, tune_in_order};
use antistasis_core::units::Span;
use proptest::prelude::*;
use std::collections::BTreeMap;

/// Made by `reference/several_loops.py` with SciPy's `solve_ivp`.
const REFERENCE: &str = include_str!("../../../reference/data/several_loops.json");

/// Made by `reference/loops_together.py` with NumPy.
const TOGETHER: &str = include_str!("../../../reference/data/loops_together.json");

/// Lags with dead time between `u1, u2, …` and `y1, y2, …`, all of them at rest at 50 %: gain, time constant, dead time.
fn lags(cells: &[&[Option<[f64; 3]>]]) -> ProcessSpec {
    let named = |name: String| NamedValue { name, unit: "%".into(), value: 50.0, low: None, high: None };
    let (rows, columns) = (cells.len(), cells[0].len());
    let cell = |i: usize, j: usize| {
        let [gain, time_constant, dead_time] = cells[i][j]?;
        Some(Element {
            output: format!("y{}", i + 1),
            input: format!("u{}", j + 1),
            numerator: vec![gain],
            denominator: vec![time_constant, 1.0],
            dead_time,
        })
    };
    ProcessSpec::from(DetailedSpec::TransferFunctions(TransferFunctionsSpec {
        inputs: (1..=columns).map(|k| named(format!("u{k}"))).collect(),
        outputs: (1..=rows).map(|k| named(format!("y{k}"))).collect(),
        elements: (0..rows).flat_map(|i| (0..columns).filter_map(move |j| cell(i, j))).collect(),
    }))
}

/// A plant of as many measured and driven signals as its process has, `Y1, Y2, …` and `U1, U2, …`.
fn plant(cells: &[&[Option<[f64; 3]>]]) -> Plant {
    let whole = || Span::new(0.0, 100.0, "%");
    let own = |tag: &str| Signal { tag: tag.into(), span: whole() };
    Plant {
        further_measured: (2..=cells.len())
            .map(|k| Measured {
                tag: format!("Y{k}.PV"),
                span: whole(),
                output: format!("y{k}"),
                rest: None,
                sensor: SensorSpec::default(),
            })
            .collect(),
        further_driven: (2..=cells[0].len())
            .map(|k| Manipulated {
                tag: format!("U{k}"),
                input: format!("u{k}"),
                at_0: 0.0,
                at_100: 100.0,
                at_start: 50.0,
                actuator: antistasis_core::instrument::ActuatorSpec::Direct {},
            })
            .collect(),
        ..Plant::plain(lags(cells), own("Y1.PV"), own("U1"), OperatingPoint::new(50.0, 50.0))
    }
}

fn wired(name: &str, measures: &str, sets: &[&str], pid: PidSettings) -> Wired {
    Wired {
        name: name.into(),
        measures: measures.into(),
        sets: sets.iter().map(|tag| Wire::to(*tag)).collect(),
        controller: ControllerSpec::Pid(pid),
        set_point_tracking: false,
    }
}

fn trial(plant: Plant, first: PidSettings, further: Vec<Wired>, scan: f64, rows: usize) -> Trial {
    Trial {
        version: TRIAL_VERSION,
        plant,
        candidate: Candidate { further, ..Candidate::new(ControllerSpec::Pid(first)) },
        scenario: Scenario {
            duration: (rows - 1) as f64 * scan,
            scan,
            seed: 1,
            events: Vec::new(),
            further: BTreeMap::new(),
        },
    }
}

/// The trial with these events at a further controller.
fn with(mut trial: Trial, name: &str, events: Vec<Event>) -> Trial {
    trial.scenario.further.insert(name.into(), events);
    trial
}

fn column<'a>(trace: &'a Trace, tag: &str) -> &'a [f64] {
    let tags: Vec<&str> = trace.columns.iter().map(|column| column.tag.as_str()).collect();
    let found = trace.columns.iter().find(|column| column.tag == tag);
    &found.unwrap_or_else(|| panic!("no {tag} among {tags:?}")).values
}

fn furthest(a: &[f64], b: &[f64]) -> f64 {
    assert_eq!(a.len(), b.len());
    a.iter().zip(b).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max)
}

const MINUTE: f64 = 60.0;

/// Wood & Berry, Chem. Eng. Sci. 28 (1973) 1707, in seconds.
fn column_of_wood_and_berry() -> Plant {
    let cell = |gain: f64, minutes: f64, late: f64| Some([gain, MINUTE * minutes, MINUTE * late]);
    plant(&[&[cell(12.8, 16.7, 1.0), cell(-18.9, 21.0, 3.0)], &[cell(6.6, 10.9, 7.0), cell(-19.4, 14.4, 3.0)]])
}

#[test]
fn two_loops_agree_with_an_outside_integrator() {
    let cases: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
    for entry in cases.as_array().unwrap() {
        let case = &entry["case"];
        let list = |value: &serde_json::Value| -> Vec<f64> {
            value.as_array().unwrap().iter().map(|one| one.as_f64().unwrap()).collect()
        };
        let pid = |k: usize, action, other: &str| {
            let settings = list(&case["settings"][k]);
            let gain = case["forward"][k].as_f64().unwrap();
            let signal = other.to_owned();
            let forward = FeedForward { signal, gain, lead: 0.0, lag: 0.0, delay: 0.0 };
            PidSettings {
                action,
                feed_forward: (gain != 0.0).then_some(forward),
                ..PidSettings::pi(settings[0], settings[1])
            }
        };
        let moves = |k: usize| -> Vec<Event> {
            case["moves"][k]
                .as_array()
                .unwrap()
                .iter()
                .map(list)
                .map(|step| Event::set_point(step[0], step[1]))
                .collect()
        };
        let second = wired("Y2", "Y2.PV", &["U2"], pid(1, Action::Direct, "U1"));
        let (scan, rows) = (case["scan"].as_f64().unwrap(), case["rows"].as_u64().unwrap() as usize);
        let first = pid(0, Action::Reverse, "U2");
        let mut trial = with(trial(column_of_wood_and_berry(), first, vec![second], scan, rows), "Y2", moves(1));
        trial.scenario.events = moves(0);
        let trace = trial.run().unwrap();
        for (k, tag) in ["Y1.PV", "Y2.PV", "U1", "U2"].iter().enumerate() {
            let expected: Vec<f64> = entry["trace"].as_array().unwrap().iter().map(|row| list(row)[k + 1]).collect();
            let off = furthest(column(&trace, tag), &expected);
            assert!(off < 1e-6, "{} {tag}: {off}", case["name"]);
        }
    }
}

#[test]
fn the_pairing_with_a_negative_index_runs_away_and_the_other_settles() {
    // Niederlinski, AIChE J. 17 (1971) 1261: no settings with integral action hold a pairing whose index is below 0. The relative
    // gain of the column is 2.009 on the diagonal, so that the other pairing is of that kind.
    let run = |pairs: [&str; 2], actions: [Action; 2]| {
        let pid = |k: usize| PidSettings { action: actions[k], ..PidSettings::pi(0.03, 20.0 * MINUTE) };
        let mut plant = column_of_wood_and_berry();
        if pairs[0] == "U2" {
            // The OP of the plant is U1; the first controller sets the other one.
            plant.op.tag = "U1".into();
        }
        let second = wired("Y2", "Y2.PV", &[pairs[1]], pid(1));
        let mut trial = trial(plant, pid(0), vec![second], 30.0, 4000);
        trial.candidate.sets = vec![Wire::to(pairs[0])];
        trial.scenario.events = vec![Event::set_point(600.0, 2.0)];
        let trace = trial.run().unwrap();
        let last = |tag: &str| *column(&trace, tag).last().unwrap();
        (last("Y1.SP") - last("Y1.PV"), last("Y2.SP") - last("Y2.PV"))
    };
    let right = run(["U1", "U2"], [Action::Reverse, Action::Direct]);
    assert!(right.0.abs() < 0.01 && right.1.abs() < 0.01, "{right:?}");
    let wrong = run(["U2", "U1"], [Action::Direct, Action::Reverse]);
    assert!(wrong.0.abs() > 5.0 || wrong.1.abs() > 5.0, "{wrong:?}");
}

#[test]
#[allow(clippy::approx_constant, reason = "a pump of the paper happens to give 3.14 cm³/(V s)")]
fn the_four_tanks_settle_in_both_phases() {
    // Johansson, IEEE Trans. Control Systems Technology 8 (2000) 456: two PIs, (3.0, 30 s) and (2.7, 40 s) with more water below,
    // (1.5, 110 s) and (−0.12, 220 s) with more above, where it takes ten times as long (settings from memory; there in V/V, and
    // with 0.5 V/cm over 20 cm and 10 V these are %/%).
    let phases = [
        ([0.70, 0.60, 3.33, 3.35], 12.4, 3.0, [3.0, 30.0, 2.7, 40.0], 400.0, true),
        ([0.43, 0.34, 3.14, 3.29], 12.6, 3.15, [1.5, 110.0, -0.12, 220.0], 4000.0, false),
    ];
    for ([split_1, split_2, gain_1, gain_2], level, volts, [k1, t1, k2, t2], within, prompt) in phases {
        let parameters = [("split_1", split_1), ("split_2", split_2), ("pump_gain_1", gain_1), ("pump_gain_2", gain_2)];
        let mut tanks = Plant::usual(ProcessSpec::library("four_tanks", &parameters), "L1").unwrap();
        tanks.pv.span = Span::new(0.0, 20.0, "cm");
        tanks.operating_point = OperatingPoint::new(level, 10.0 * volts);
        tanks.drive = Some(antistasis_core::simulation::Drive { input: "pump_1".into(), at_0: 0.0, at_100: 10.0 });
        tanks.further_measured = vec![Measured {
            tag: "L2.PV".into(),
            span: Span::new(0.0, 20.0, "cm"),
            output: "level_2".into(),
            rest: None,
            sensor: SensorSpec::default(),
        }];
        tanks.further_driven = vec![Manipulated {
            tag: "L2.OP".into(),
            input: "pump_2".into(),
            at_0: 0.0,
            at_100: 10.0,
            at_start: 10.0 * volts,
            actuator: antistasis_core::instrument::ActuatorSpec::Direct {},
        }];
        let pid = |gain: f64, time: f64| PidSettings {
            action: if gain < 0.0 { Action::Direct } else { Action::Reverse },
            ..PidSettings::pi(gain.abs(), time)
        };
        let second = wired("L2", "L2.PV", &["L2.OP"], pid(k2, t2));
        let mut trial = trial(tanks, pid(k1, t1), vec![second], 1.0, 6001);
        trial.scenario.events = vec![Event::set_point(100.0, 1.0)];
        let trace = trial.run().unwrap();
        let settled_after = |share: f64| {
            let both = column(&trace, "L1.PV").iter().zip(column(&trace, "L2.PV"));
            let target = [level + 1.0, *column(&trace, "L2.SP").last().unwrap()];
            let off: Vec<f64> = both.map(|(a, b)| (a - target[0]).abs().max((b - target[1]).abs())).collect();
            off.iter().rposition(|off| *off > share).map_or(0.0, |k| k as f64 - 100.0)
        };
        let time = settled_after(0.05);
        assert!(time < within, "settled after {time} s");
        assert_eq!(time < 400.0, prompt, "{time}");
        assert!(trace.stopped.is_none());
    }
}

/// A flow (y1, fast) below a temperature (y2) on one valve; the plant's own loop is the temperature.
fn cascade_plant() -> Plant {
    let mut plant = plant(&[&[Some([1.5, 60.0, 10.0])], &[Some([0.8, 4.0, 1.0])]]);
    plant.further_measured[0].tag = "FIC.PV".into();
    plant
}

#[test]
fn a_cascade_of_wires_is_the_cascade_controller() {
    // Through limits on both sides, the same controllers in two forms: one document with a cascade controller, one with wires.
    let limited =
        |pid: PidSettings, low: f64, high: f64| PidSettings { output_limits: OutputLimits { low, high }, ..pid };
    let outer = limited(PidSettings::pi(1.2, 50.0), 0.0, 100.0);
    for inner_action in [Action::Reverse, Action::Direct] {
        let mut plant = cascade_plant();
        if inner_action == Action::Direct {
            plant.drive = Some(antistasis_core::simulation::Drive { input: "u1".into(), at_0: 100.0, at_100: 0.0 });
        }
        let inner = limited(PidSettings { action: inner_action, ..PidSettings::pi(1.0, 5.0) }, 35.0, 62.0);
        let events = vec![
            Event::set_point(20.0, 12.0),
            Event::load(300.0, -8.0),
            Event::set_point(600.0, -30.0),
            Event::ToManual { at: 900.0 },
            Event::OutputStep { at: 950.0, by: 4.0 },
            Event::ToAutomatic { at: 1100.0 },
        ];
        let wires = {
            let below = wired("FIC", "FIC.PV", &["U1"], inner.clone());
            let mut trial = trial(plant.clone(), outer.clone(), vec![below], 1.0, 1400);
            trial.candidate.sets = vec![Wire::to("FIC.SP")];
            trial.scenario.events = events[..3].to_vec();
            with(trial, "FIC", events[3..].to_vec())
        };
        let mut one = trial(Plant { further_measured: Vec::new(), ..plant }, outer.clone(), Vec::new(), 1.0, 1400);
        one.candidate.controller = ControllerSpec::Cascade(Box::new(CascadeSettings {
            outer: outer.clone(),
            inner,
            signal: "y2".into(),
            span: Span::new(0.0, 100.0, "%"),
        }));
        one.scenario.events = events;
        let (wires, one) = (wires.run().unwrap(), one.run().unwrap());
        // Back in automatic the wired one takes over without the small kick that the cascade controller gives.
        for (a, b) in [("Y1.PV", "Y1.PV"), ("U1", "U1"), ("FIC.PV", "y2")] {
            let (a, b) = (column(&wires, a), column(&one, b));
            let off = furthest(&a[..1100], &b[..1100]);
            assert!(off < 1e-9 && (a[1399] - b[1399]).abs() < 0.2, "{inner_action:?}: {off}, {} {}", a[1399], b[1399]);
        }
        let op = column(&wires, "U1");
        assert!(op.contains(&62.0) && op.contains(&35.0), "both limits are reached");
    }
}

#[test]
fn an_override_takes_over_before_its_limit_is_passed_and_gives_back() {
    // A temperature on a heater whose wall must not pass 70 %: the second controller takes the lower output.
    let mut heater = plant(&[&[Some([1.0, 60.0, 5.0])], &[Some([1.3, 20.0, 1.0])]]);
    heater.further_measured[0].tag = "WALL.PV".into();
    let run = |anti_windup| {
        let pid = |gain, time| PidSettings { anti_windup, ..PidSettings::pi(gain, time) };
        let mut limiter = wired("WALL", "WALL.PV", &["U1"], pid(1.5, 15.0));
        limiter.sets[0].select = Some(Select::Lowest);
        let mut trial = trial(heater.clone(), pid(2.0, 40.0), vec![limiter], 1.0, 1500);
        trial.scenario.events = vec![Event::set_point(50.0, 30.0), Event::set_point(700.0, -35.0)];
        with(trial, "WALL", vec![Event::set_point(0.0, 20.0)]).run().unwrap()
    };
    let trace = run(AntiWindup::BackCalculation);
    let (wall, op) = (column(&trace, "WALL.PV"), column(&trace, "U1"));
    // It settles at its limit, 70 %, without passing it by more than a twentieth of the room that there was.
    assert!((wall[600] - 70.0).abs() < 0.01, "{}", wall[600]);
    let most = wall.iter().copied().fold(0.0, f64::max);
    assert!(most < 71.0, "{most}");
    // Given back, the temperature settles at its set point again.
    let pv = column(&trace, "Y1.PV");
    assert!((pv.last().unwrap() - 45.0).abs() < 0.05, "{}", pv.last().unwrap());
    // The OP is always the lower of what the two put out, and no selection makes it jump by itself.
    let (first, second) = (column(&trace, "Y1 puts out"), column(&trace, "WALL puts out"));
    for k in 0..op.len() {
        assert_eq!(op[k], first[k].min(second[k]));
    }
    // Unguarded, the first controller winds up while it is overridden: it gives back later.
    let late = run(AntiWindup::None);
    let given_back = |trace: &Trace| {
        let (first, second) = (column(trace, "Y1 puts out"), column(trace, "WALL puts out"));
        (700..1500).find(|k| first[*k] < second[*k]).unwrap()
    };
    assert!(given_back(&late) > given_back(&trace) + 50, "{} {}", given_back(&late), given_back(&trace));
}

#[test]
fn a_split_range_heats_above_and_cools_below_its_middle() {
    // Heating acts up, cooling down; at rest both are shut, at 50 % of the controller.
    let mut jacket = plant(&[&[Some([0.8, 40.0, 2.0]), Some([-0.6, 30.0, 2.0])]]);
    jacket.operating_point.op = 0.0;
    jacket.further_driven[0].at_start = 0.0;
    let range = |to: &str, range| Wire { range: Some(range), ..Wire::to(to) };
    let mut trial = trial(jacket.clone(), PidSettings::pi(1.0, 30.0), Vec::new(), 1.0, 2001);
    trial.candidate.sets = vec![range("U1", [50.0, 100.0]), range("U2", [50.0, 0.0])];
    trial.scenario.events = vec![Event::set_point(100.0, 20.0), Event::set_point(1000.0, -40.0)];
    let trace = trial.run().unwrap();
    let (pv, heat, cool) = (column(&trace, "Y1.PV"), column(&trace, "U1"), column(&trace, "U2"));
    // By hand: 20 up need 25 % of heat, 20 down 33.3 % of cooling.
    assert!((pv[999] - 70.0).abs() < 0.01 && (heat[999] - 25.0).abs() < 0.05 && cool[999] == 0.0);
    assert!((pv[2000] - 30.0).abs() < 0.01 && heat[2000] == 0.0 && (cool[2000] - 100.0 / 3.0).abs() < 0.05);
    assert!(heat.iter().zip(cool).all(|(heat, cool)| heat.min(*cool) == 0.0), "never both");
    // One that does not begin where its range says would jump: it is refused with what would be.
    trial.plant.further_driven[0].at_start = 30.0;
    trial.plant.operating_point.op = 20.0;
    let error = trial.run().unwrap_err();
    assert_eq!(error.field(), Some("candidate.sets"));
    assert!(error.to_string().contains("it would set"), "{error}");
}

#[test]
fn what_cannot_be_wired_is_refused_at_its_field() {
    let good = || {
        let second = wired("Y2", "Y2.PV", &["U2"], PidSettings::pi(0.1, 600.0));
        trial(column_of_wood_and_berry(), PidSettings::pi(0.1, 600.0), vec![second], 30.0, 50)
    };
    good().validate().unwrap();
    let refused = |change: &dyn Fn(&mut Trial)| {
        let mut trial = good();
        change(&mut trial);
        let error = trial.run().unwrap_err();
        (error.field().unwrap().to_owned(), error.to_string())
    };
    let (field, text) = refused(&|trial| trial.candidate.further[0].measures = "Y3.PV".into());
    assert_eq!(field, "candidate.further[0].measures");
    assert!(text.contains("Y1.PV, Y2.PV"), "{text}");
    let (field, text) = refused(&|trial| trial.candidate.further[0].sets[0].to = "U3".into());
    assert_eq!(field, "candidate.further[0].sets[0].to");
    assert!(text.contains("U1, U2, Y1.SP"), "{text}");
    let (field, text) = refused(&|trial| trial.candidate.further[0].sets[0].to = "U1".into());
    assert!(field == "candidate.sets" && text.contains("Several controllers set U1"), "{field} {text}");
    let (field, _) = refused(&|trial| trial.candidate.further[0].name = "Y1".into());
    assert_eq!(field, "candidate.further[0].name");
    let (field, text) = refused(&|trial| {
        trial.candidate.sets = vec![Wire::to("Y2.SP")];
        trial.candidate.further[0].sets = vec![Wire::to("Y1.SP")];
    });
    assert!(field == "candidate.further" && text.contains("Y1, Y2 set each other"), "{field} {text}");
    let (field, _) = refused(&|trial| trial.plant.further_driven[0].input = "u1".into());
    assert_eq!(field, "plant.further_driven[0].input");
    let (field, _) = refused(&|trial| trial.plant.further_measured[0].tag = "U1".into());
    assert_eq!(field, "plant.further_measured[0].tag");
    let (field, _) = refused(&|trial| trial.plant.further_measured[0].span.unit = "°C".into());
    assert_eq!(field, "plant.further_measured[0].span.unit");
    let (field, text) = refused(&|trial| {
        trial.scenario.further.insert("Y9".into(), vec![Event::set_point(1.0, 1.0)]);
    });
    assert!(field == "scenario.further" && text.contains("Y2"), "{field} {text}");
    let (field, _) = refused(&|trial| {
        trial.scenario.further.insert("Y2".into(), vec![Event::OutputStep { at: 1.0, by: 1.0 }]);
    });
    assert_eq!(field, "scenario.further.Y2[0].kind");
    let (field, _) = refused(&|trial| {
        trial.candidate.further[0].controller = ControllerSpec::Pid(PidSettings::pi(-1.0, 10.0));
    });
    assert_eq!(field, "candidate.further[0].controller.gain");
    let (field, text) = refused(&|trial| {
        trial.candidate.sets = vec![Wire::to("Y2.SP")];
        trial.scenario.further.insert("Y2".into(), vec![Event::set_point(1.0, 1.0)]);
    });
    assert!(field == "scenario.further.Y2[0].kind" && text.contains("move that one's"), "{field} {text}");
}

/// How two controllers are wired in a random trial.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Shape {
    Pair,
    Decoupled,
    Cascade,
    Split,
}

/// Two controllers with these settings, all at rest, set points following in manual.
fn shaped(shape: Shape, gains: [f64; 2], times: [f64; 2], rows: usize) -> Trial {
    let cells: [&[Option<[f64; 3]>]; 2] =
        [&[Some([1.2, 30.0, 2.5]), Some([0.4, 20.0, 4.0])], &[Some([0.5, 25.0, 1.0]), Some([0.9, 15.0, 3.3])]];
    let pid = |k: usize| PidSettings::pi(gains[k], times[k]);
    let mut second = wired("Y2", "Y2.PV", &["U2"], pid(1));
    second.set_point_tracking = true;
    let mut trial = trial(plant(&cells), pid(0), vec![second], 1.0, rows);
    trial.candidate.set_point_tracking = true;
    match shape {
        Shape::Pair => {}
        Shape::Decoupled => {
            let forward =
                |signal: &str, gain| FeedForward { signal: signal.into(), gain, lead: 0.0, lag: 0.0, delay: 0.0 };
            trial.candidate.controller =
                ControllerSpec::Pid(PidSettings { feed_forward: Some(forward("U2", -0.33)), ..pid(0) });
            trial.candidate.further[0].controller =
                ControllerSpec::Pid(PidSettings { feed_forward: Some(forward("U1", -0.55)), ..pid(1) });
        }
        Shape::Cascade => {
            trial.candidate.sets = vec![Wire::to("Y2.SP")];
            trial.candidate.further[0].set_point_tracking = false;
        }
        Shape::Split => {
            // The first controller alone on both OPs; the second stands by on nothing but its measurement.
            let range = |to: &str, range| Wire { range: Some(range), ..Wire::to(to) };
            trial.candidate.sets = vec![range("U1", [0.0, 50.0]), range("U2", [50.0, 100.0])];
            trial.candidate.further.clear();
            trial.plant.operating_point.op = 100.0;
            trial.plant.further_driven[0].at_start = 0.0;
        }
    }
    trial
}

#[test]
fn decouplers_that_drive_each_other_have_no_margins_and_are_not_proposed() {
    use antistasis_core::assessment::{DrivenInput, InteractionQuestion, MeasuredOutput};
    use antistasis_core::tuning::{Decoupler, LoopsMethod, LoopsQuestion, begin_loops};
    // By hand: fed forward both ways the OPs follow u₁ = d₁₂ u₂, u₂ = d₂₁ u₁, which runs away where d₁₂ d₂₁ is above 1.
    let ringing = |product: f64| {
        let mut trial = shaped(Shape::Decoupled, [0.3, 0.3], [60.0, 60.0], 300);
        let forwards = [("U2", -1.0), ("U1", -product)];
        let all = std::iter::once(&mut trial.candidate.controller)
            .chain(trial.candidate.further.iter_mut().map(|wired| &mut wired.controller));
        for (spec, (signal, gain)) in all.zip(forwards) {
            let ControllerSpec::Pid(pid) = spec else { continue };
            pid.feed_forward = Some(FeedForward { signal: signal.into(), gain, lead: 0.0, lag: 0.0, delay: 0.0 });
        }
        trial.scenario.events = vec![Event::set_point(20.0, 1.0)];
        assess(&trial, &trial.run().unwrap()).unwrap()
    };
    assert!(ringing(0.3).margins.is_some());
    let beyond = ringing(1.08);
    assert!(beyond.margins.is_none() && beyond.further[0].margins.is_none(), "{:?}", beyond.margins);
    // A plant whose loops move each other as much as themselves: only one way is proposed, and that is said.
    let cells: [&[Option<[f64; 3]>]; 2] =
        [&[Some([1.0, 30.0, 3.0]), Some([0.9, 30.0, 3.0])], &[Some([-0.9, 20.0, 2.0]), Some([1.0, 20.0, 2.0])]];
    let question = |decoupler| LoopsQuestion {
        plant: Plant { further_measured: Vec::new(), further_driven: Vec::new(), ..plant(&cells) },
        pairs: InteractionQuestion {
            outputs: ["y1", "y2"]
                .map(|output| MeasuredOutput { output: output.into(), span: Span::new(0.0, 100.0, "%") })
                .into(),
            inputs: ["u1", "u2"].map(|input| DrivenInput { input: input.into(), at_0: 0.0, at_100: 100.0 }).into(),
        },
        decoupler,
        method: LoopsMethod::default(),
        most_sensitivity: None,
    };
    for decoupler in [Decoupler::Static, Decoupler::Dynamic] {
        let answer = begin_loops(&question(decoupler)).unwrap();
        assert!(answer.trial.candidate.further[0].controller.reads().is_empty());
        assert!(!answer.trial.candidate.controller.reads().is_empty());
        assert!(answer.remarks.iter().any(|remark| remark.contains("drive each other")), "{:?}", answer.remarks);
    }
}

/// The trial with the gain of one controller times a factor, and limits that are never reached.
fn with_gain(trial: &Trial, controller: usize, factor: f64) -> Trial {
    let mut trial = trial.clone();
    let all = std::iter::once(&mut trial.candidate.controller)
        .chain(trial.candidate.further.iter_mut().map(|wired| &mut wired.controller));
    for (k, spec) in all.enumerate() {
        let ControllerSpec::Pid(pid) = spec else { continue };
        pid.output_limits = OutputLimits { low: -1000.0, high: 1000.0 };
        if k == controller {
            pid.gain *= factor;
        }
    }
    trial
}

/// Whether the swing of a loop dies down after a small kick.
fn dies_down(trial: &Trial) -> bool {
    let mut trial = trial.clone();
    trial.scenario.duration = 24_000.0 * trial.scenario.scan;
    trial.scenario.events =
        vec![Event::LoadPulse { at: 0.0, by: 0.01, lasts: 10.0 * trial.scenario.scan, input: None }];
    trial.scenario.further.clear();
    let trace = trial.run().unwrap();
    if trace.stopped.is_some() {
        return false;
    }
    let pv = trace.values(ColumnRole::ProcessVariable);
    let swing = |rows: &[f64]| rows.iter().map(|value| (value - 50.0).abs()).fold(0.0, f64::max);
    swing(&pv[22_000..]) < 0.5 * swing(&pv[2_000..4_000]) + 1e-9
}

/// At this frequency by a straight line in logarithms between the points that are drawn.
fn drawn_at(omegas: &[f64], values: &[f64], omega: f64) -> f64 {
    let k = omegas.partition_point(|known| *known <= omega).clamp(1, omegas.len() - 1);
    let share = (omega / omegas[k - 1]).ln() / (omegas[k] / omegas[k - 1]).ln();
    (values[k - 1].ln() * (1.0 - share) + values[k].ln() * share).exp()
}

/// The column under the two PIs of Luyben (1986), and what is fed forward from the second OP to the first loop.
fn column_under_two(scan: f64, decoupler: f64) -> Trial {
    let forward = FeedForward { signal: "U2".into(), gain: decoupler, lead: 0.0, lag: 0.0, delay: 0.0 };
    let first =
        PidSettings { feed_forward: (decoupler != 0.0).then_some(forward), ..PidSettings::pi(0.375, 8.29 * MINUTE) };
    let second = PidSettings { action: Action::Direct, ..PidSettings::pi(0.075, 23.6 * MINUTE) };
    trial(column_of_wood_and_berry(), first, vec![wired("Y2", "Y2.PV", &["U2"], second)], scan, 10)
}

#[test]
fn singular_values_and_loci_of_the_loops_together_are_those_of_numpy() {
    let known: serde_json::Value = serde_json::from_str(TOGETHER).unwrap();
    let number = |value: &serde_json::Value| value.as_f64().unwrap();
    for case in known["cases"].as_array().unwrap() {
        let own = column_under_two(number(&known["scan"]), number(&case["decoupler"]));
        let together = over_frequency(&own, None).unwrap().unwrap().together.unwrap();
        assert!(together.stable);
        assert_eq!(together.loops, ["Y1", "Y2"]);
        for point in case["points"].as_array().unwrap() {
            let omega = number(&point["omega"]);
            let curves = [
                (&together.largest_sensitivity, &point["s"][0]),
                (&together.smallest_sensitivity, &point["s"][1]),
                (&together.largest_complementary, &point["t"][0]),
                (&together.smallest_complementary, &point["t"][1]),
            ];
            for (curve, wanted) in curves {
                let own = drawn_at(&together.omega, curve, omega);
                // Points of the curves lie up to a twentieth apart.
                assert!((own / number(wanted) - 1.0).abs() < 3e-3, "{omega}: {own} for {wanted}");
            }
            let sorted = |mut sizes: Vec<f64>| {
                sizes.sort_by(f64::total_cmp);
                sizes
            };
            let size = |locus: &antistasis_core::assessment::Locus| -> Vec<f64> {
                locus.real.iter().zip(&locus.imaginary).map(|(a, b)| a.hypot(*b)).collect()
            };
            let own =
                sorted(together.loci.iter().map(|locus| drawn_at(&together.omega, &size(locus), omega)).collect());
            let pairs = point["loci"].as_array().unwrap();
            let wanted = sorted(pairs.iter().map(|pair| number(&pair[0]).hypot(number(&pair[1]))).collect());
            for (own, wanted) in own.iter().zip(&wanted) {
                assert!((own / wanted - 1.0).abs() < 5e-3, "{omega}: {own} for {wanted}");
            }
        }
        for (peak, wanted) in
            [(together.peak_sensitivity, &case["peak_s"]), (together.peak_complementary, &case["peak_t"])]
        {
            let peak = peak.unwrap();
            assert!((peak.height / number(&wanted[0]) - 1.0).abs() < 1e-5, "{peak:?} for {wanted}");
            assert!((peak.omega / number(&wanted[1]) - 1.0).abs() < 1e-2, "{peak:?} for {wanted}");
        }
    }
}

#[test]
fn loops_together_are_stable_just_as_far_as_a_simulation_dies_down() {
    let both = |factor: f64| with_gain(&with_gain(&column_under_two(30.0, 0.0), 0, factor), 1, factor);
    let stable = |factor: f64| over_frequency(&both(factor), None).unwrap().unwrap().together.unwrap().stable;
    let (mut low, mut high) = (1.0, 20.0);
    assert!(stable(low) && !stable(high));
    for _ in 0..12 {
        let middle = 0.5 * (low + high);
        if stable(middle) { low = middle } else { high = middle }
    }
    assert!(dies_down(&both(0.97 * low)), "at {low}");
    assert!(!dies_down(&both(1.03 * low)), "at {low}");
    let beyond = over_frequency(&both(1.03 * low), None).unwrap().unwrap().together.unwrap();
    assert!(beyond.peak_sensitivity.is_none() && beyond.verdicts[0].text.contains("not stable"));
}

#[test]
fn a_loop_over_frequency_is_that_of_its_margins_with_the_others_closed() {
    let own = column_under_two(30.0, 0.0);
    for name in [None, Some("Y2")] {
        let found = over_frequency(&own, name).unwrap().unwrap();
        let (curves, margins) = (found.curves.unwrap(), found.margins.unwrap());
        let highest = curves.sensitivity.iter().copied().fold(0.0, f64::max);
        assert!((highest / margins.max_sensitivity.unwrap() - 1.0).abs() < 2e-3, "{name:?}: {highest} for {margins:?}");
        let at = drawn_at(&curves.omega, &curves.loop_gain, margins.gain_crossover.unwrap());
        assert!((at - 1.0).abs() < 5e-3, "{at}");
    }
    let alone = SampledLoop::of(&own).unwrap().unwrap();
    let alone = FrequencyCurves::new(&alone, &own.candidate.controller).unwrap().unwrap();
    let closed = over_frequency(&own, None).unwrap().unwrap().curves.unwrap();
    // With the other loop closed the gain at rest falls by the relative gain of the pair, 2.009 (Bristol 1966).
    let slow = alone.omega[0].max(closed.omega[0]);
    let ratio = drawn_at(&alone.omega, &alone.loop_gain, slow) / drawn_at(&closed.omega, &closed.loop_gain, slow);
    assert!((ratio - 2.009).abs() < 0.01, "{ratio}");
    assert_eq!(over_frequency(&own, Some("Y3")).unwrap_err().field(), Some("controller"));
}

#[test]
fn a_cascade_is_one_loop_from_outside_and_does_not_stand_alone() {
    let pair = column_under_two(30.0, 0.0);
    assert!(pair.stands_alone() && pair.check_stands_alone().is_ok());
    let mut own = trial(cascade_plant(), PidSettings::pi(1.0, 60.0), Vec::new(), 1.0, 10);
    own.plant.further_measured.truncate(1);
    let inner = own.plant.further_measured[0].tag.clone();
    own.candidate.further = vec![wired("FIC", &inner, &["U1"], PidSettings::pi(0.8, 20.0))];
    own.candidate.sets = vec![Wire::to("FIC.SP")];
    own.validate().unwrap();
    let found = over_frequency(&own, None).unwrap().unwrap();
    assert!(found.together.is_none() && found.curves.is_some());
    assert!(!own.stands_alone());
    assert!(own.check_stands_alone().unwrap_err().to_string().contains("sets no OP by itself"));
}

#[test]
fn a_cascade_is_tuned_from_within() {
    let known: serde_json::Value = serde_json::from_str(TOGETHER).unwrap();
    let mut own = trial(cascade_plant(), PidSettings::pi(0.1, 600.0), Vec::new(), 1.0, 1500);
    own.plant.further_driven.clear();
    own.candidate.further = vec![wired("FIC", "FIC.PV", &["U1"], PidSettings::pi(0.1, 60.0))];
    own.candidate.sets = vec![Wire::to("FIC.SP")];
    let tuned = tune_in_order(&own).unwrap();
    assert_eq!(tuned.remarks, [] as [&str; 0]);
    for (one, name) in tuned.loops.iter().zip(["inner", "outer"]) {
        let wanted: Vec<f64> =
            known["cascade"][name].as_array().unwrap().iter().map(|own| own.as_f64().unwrap()).collect();
        // The reference takes an inner controller that is not rounded to three digits.
        assert!((one.ultimate_gain / wanted[0] - 1.0).abs() < 2e-3, "{one:?} for {wanted:?}");
        assert!((one.ultimate_period / wanted[1] - 1.0).abs() < 2e-3, "{one:?} for {wanted:?}");
    }
    assert_eq!((tuned.loops[0].name.as_str(), tuned.loops[1].name.as_str()), ("FIC", "Y1"));
    // It holds, and brings the temperature to its set point far sooner than what was there.
    let settles = |trial: &Trial| {
        let mut moved = trial.clone();
        moved.scenario.events = vec![Event::set_point(10.0, 5.0)];
        let trace = moved.run().unwrap();
        trace.values(ColumnRole::ProcessVariable)[300..].iter().map(|pv| (pv - 55.0).abs()).fold(0.0, f64::max)
    };
    assert!(settles(&tuned.trial) < 0.5 && settles(&own) > 1.0, "{} {}", settles(&tuned.trial), settles(&own));
    // A pair is tuned the quicker first, as from the view of interaction (continuous there: a scan makes the difference).
    let pair = tune_in_order(&column_under_two(1.0, 0.0)).unwrap();
    for (one, wanted) in pair.loops.iter().zip(known["one_by_one"]["ultimate"].as_array().unwrap()) {
        assert!((one.ultimate_gain / wanted[0].as_f64().unwrap() - 1.0).abs() < 0.02, "{one:?} for {wanted}");
    }
    // What is in manual stays as it is, and that is said.
    let mut manual = column_under_two(30.0, 0.0);
    manual.candidate.further[0].controller = ControllerSpec::Manual;
    let tuned = tune_in_order(&manual).unwrap();
    assert_eq!(tuned.remarks, ["Y2 was left as it is: it is in manual."]);
    assert_eq!(tuned.trial.candidate.further[0].controller, ControllerSpec::Manual);
}

#[test]
fn a_plan_moves_every_op_in_its_turn_whatever_they_are_called() {
    // The OP of the loop drives another pair, and one of the others has the name of the loop.
    let mut plant = column_of_wood_and_berry();
    plant.op.tag = "U2".into();
    plant.further_driven[0].tag = "Y1.OP".into();
    let spec = ExperimentSpec::first(&plant.pv.span, &plant.op.span, None, None);
    let trial = spec.plan().unwrap().trial(&plant, spec.sample_time, 1).unwrap();
    let trace = trial.run().unwrap();
    let moves = |tag: &str| -> Vec<usize> {
        let values = column(&trace, tag);
        (1..values.len()).filter(|k| values[*k] != values[k - 1]).collect()
    };
    let (first, second) = (moves("U2"), moves("Y1.OP"));
    assert!(!first.is_empty() && first.len() == second.len(), "{first:?} {second:?}");
    assert!(first.last() < second.first(), "one after the other: {first:?} {second:?}");
}

#[test]
fn another_controller_takes_what_is_free_and_holds_there() {
    let mut own = column_under_two(30.0, 0.0);
    let second = own.candidate.further.remove(0);
    let found = another_controller(&own).unwrap().wired;
    assert_eq!((found.name.as_str(), found.measures.as_str(), &found.sets), ("Y2", "Y2.PV", &second.sets));
    let ControllerSpec::Pid(pid) = &found.controller else { panic!("{found:?}") };
    assert_eq!(pid.action, Action::Direct);
    own.candidate.further.push(found);
    let together = over_frequency(&own, None).unwrap().unwrap().together.unwrap();
    assert!(together.stable, "{:?}", together.verdicts);
    // Where every OP is set it overrides the first one, under a name of its own.
    let overriding = another_controller(&own).unwrap();
    assert_eq!(overriding.wired.sets, [Wire { select: Some(Select::Lowest), ..Wire::to("U1") }]);
    assert_eq!((overriding.wired.measures.as_str(), overriding.wired.name.as_str()), ("Y1.PV", "Y1 2"));
    assert!(overriding.remark.contains("overrides"));
    own.candidate.further.push(overriding.wired);
    own.validate().unwrap();
    // A trial that cannot be run gets none.
    own.scenario.scan = -1.0;
    assert_eq!(another_controller(&own).unwrap_err().field(), Some("scenario.scan"));
}

#[test]
fn a_loop_bears_its_gain_margin_with_the_others_closed_and_no_more() {
    // The margin is computed from frequency responses; whether a loop with so much more gain dies down is simulated.
    let mut column = trial(
        column_of_wood_and_berry(),
        PidSettings::pi(0.375, 8.29 * MINUTE),
        vec![wired(
            "Y2",
            "Y2.PV",
            &["U2"],
            PidSettings { action: Action::Direct, ..PidSettings::pi(0.075, 23.6 * MINUTE) },
        )],
        24.0,
        400,
    );
    column.scenario.events = vec![Event::set_point(48.0, 1.0)];
    let mut trials = vec![column];
    trials.extend(
        [Shape::Pair, Shape::Decoupled, Shape::Cascade].map(|shape| shaped(shape, [0.6, 0.8], [30.0, 20.0], 400)),
    );
    for (which, trial) in trials.iter().enumerate() {
        let assessment = assess(trial, &trial.run().unwrap()).unwrap();
        let own = (0, assessment.margins.clone().unwrap());
        // An inner controller has an OP of its own, the outer one has none: it is the first one here.
        let further = assessment.further.iter().enumerate().map(|(k, one)| (k + 1, one.margins.clone().unwrap()));
        for (controller, margins) in std::iter::once(own).chain(further) {
            assert!(margins.stable);
            let bears = margins.gain_margin.unwrap();
            assert!(
                dies_down(&with_gain(trial, controller, 0.97 * bears)),
                "{which}: {controller} bears less than {bears}"
            );
            assert!(
                !dies_down(&with_gain(trial, controller, 1.03 * bears)),
                "{which}: {controller} bears more than {bears}"
            );
        }
    }
}

#[test]
fn a_trial_seen_from_another_loop_is_the_same_trial() {
    // One with decouplers would be scanned in another order, one reading what the other sets a scan later.
    let mut trials: Vec<Trial> =
        [Shape::Pair, Shape::Cascade].map(|shape| shaped(shape, [0.6, 0.8], [30.0, 20.0], 400)).into();
    for trial in &mut trials {
        trial.plant.further_measured[0].sensor = SensorSpec { dead_time: 1.5, ..SensorSpec::with_noise(0.2) };
        trial.scenario.events = vec![Event::set_point(20.0, 3.0), Event::load(200.0, 4.0)];
        if trial.candidate.sets.is_empty() {
            trial.scenario.further.insert("Y2".into(), vec![Event::set_point(100.0, -2.0), Event::load(300.5, 2.0)]);
        }
        let seen = trial.seen_from("Y2").unwrap().unwrap();
        assert_eq!(seen.plant.pv.tag, "Y2.PV");
        let (trace, other) = (trial.run().unwrap(), seen.run().unwrap());
        for tag in ["Y1.PV", "Y2.PV", "U1", "U2", "Y1.SP", "Y2.SP"] {
            let off = furthest(column(&trace, tag), column(&other, tag));
            assert!(off < 1e-9, "{tag}: {off}");
        }
        // And back again it is the trial that it was.
        let back = seen.seen_from("Y1").unwrap().unwrap();
        let again = back.run().unwrap();
        assert!(furthest(column(&trace, "Y1.PV"), column(&again, "Y1.PV")) < 1e-9);
        assert!(trial.seen_from("Y9").unwrap().is_none());
        // What is measured of its loop is what is measured of it where it comes first.
        let (a, b) = (assess(trial, &trace).unwrap(), assess(&seen, &other).unwrap());
        if let Some(further) = a.further.first() {
            assert_eq!(further.margins, b.margins);
            let close = |a: f64, b: f64| (a - b).abs() <= 1e-6 * (1.0 + b.abs());
            assert!(close(further.metrics.integral_absolute_error, b.metrics.integral_absolute_error));
            assert_eq!(further.metrics.set_point_responses.len(), b.metrics.set_point_responses.len());
        }
    }
}

#[test]
fn loops_are_set_up_from_pairs_of_signals() {
    use antistasis_core::assessment::{DrivenInput, InteractionQuestion, MeasuredOutput};
    use antistasis_core::tuning::{Decoupler, LoopsMethod, LoopsQuestion, begin_loops};
    // The blending of a strong and a weak stream: concentration by the one flow, temperature by the other.
    let mut plant = Plant::usual(ProcessSpec::library("blending_tank", &[]), "AIC-320").unwrap();
    plant.operating_point = OperatingPoint::new(31.0, 40.0);
    let pairs = |swapped: bool| {
        let mut inputs = vec![
            DrivenInput { input: "strong_flow".into(), at_0: 0.0, at_100: 15.0 },
            DrivenInput { input: "strong_temperature".into(), at_0: 20.0, at_100: 100.0 },
        ];
        if swapped {
            inputs.swap(0, 1);
        }
        InteractionQuestion {
            outputs: vec![
                MeasuredOutput { output: "temperature".into(), span: Span::new(0.0, 100.0, "°C") },
                MeasuredOutput { output: "concentration".into(), span: Span::new(0.0, 60.0, "g/L") },
            ],
            inputs,
        }
    };
    let ask = |swapped: bool, decoupler| {
        begin_loops(&LoopsQuestion { decoupler, ..LoopsQuestion::plain(plant.clone(), pairs(swapped)) })
    };
    for decoupler in [Decoupler::None, Decoupler::Static, Decoupler::Dynamic] {
        let answer = ask(true, decoupler).unwrap();
        let trial = &answer.trial;
        assert_eq!((trial.plant.pv.tag.as_str(), trial.plant.op.tag.as_str()), ("AIC-320.PV", "AIC-320.OP"));
        assert_eq!(trial.candidate.further[0].name, "temperature");
        let trace = trial.run().unwrap();
        assert!(trace.stopped.is_none());
        let assessment = assess(trial, &trace).unwrap();
        // All settle, and each bears half as much gain again at least.
        let all = std::iter::once((&assessment.metrics, &assessment.margins))
            .chain(assessment.further.iter().map(|one| (&one.metrics, &one.margins)));
        for (metrics, margins) in all {
            let margins = margins.as_ref().unwrap();
            assert!(
                margins.stable && margins.gain_margin.is_none_or(|margin| margin > 1.5),
                "{decoupler:?} {margins:?}"
            );
            assert!(metrics.set_point_responses[0].settling_time_5.is_some(), "{decoupler:?}");
        }
        // Decoupled, a step of the other set point moves the concentration less.
        let moved = |trace: &Trace| {
            let (pv, sp) = (column(trace, "AIC-320.PV"), column(trace, "temperature.SP"));
            let step = (1..sp.len()).find(|k| sp[*k] != sp[*k - 1]).unwrap();
            let end = (step + (step - step / 11) * 9 / 10).min(pv.len() - 1);
            pv[step..end].iter().map(|value| (value - pv[step]).abs()).fold(0.0, f64::max)
        };
        if decoupler != Decoupler::None {
            let bare = ask(true, Decoupler::None).unwrap().trial.run().unwrap();
            assert!(moved(&trace) <= moved(&bare) + 1e-9, "{decoupler:?}: {} {}", moved(&trace), moved(&bare));
        }
    }
    // The other way round the plant's own OP goes to the other loop with its tag.
    let question = LoopsQuestion {
        plant: Plant { further_measured: Vec::new(), further_driven: Vec::new(), ..column_of_wood_and_berry() },
        pairs: InteractionQuestion {
            outputs: ["y1", "y2"]
                .map(|output| MeasuredOutput { output: output.into(), span: Span::new(0.0, 100.0, "%") })
                .into(),
            inputs: ["u2", "u1"].map(|input| DrivenInput { input: input.into(), at_0: 0.0, at_100: 100.0 }).into(),
        },
        decoupler: Decoupler::None,
        method: LoopsMethod::default(),
        most_sensitivity: None,
    };
    let swapped = begin_loops(&question).unwrap().trial;
    assert_eq!((swapped.plant.op.tag.as_str(), swapped.plant.further_driven[0].tag.as_str()), ("u2.OP", "U1"));
    // A pair in which the one does not move the other is named.
    let refused = ask(false, Decoupler::None).unwrap_err();
    assert_eq!(refused.field(), Some("pairs.inputs"));
    let mut without = pairs(true);
    without.outputs[1] = MeasuredOutput { output: "product_flow".into(), span: Span::new(0.0, 30.0, "m³/h") };
    let question = LoopsQuestion::plain(plant.clone(), without);
    assert_eq!(begin_loops(&question).unwrap_err().field(), Some("pairs.outputs"));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is wired how: a switch to manual leaves every OP where it stands, and one to automatic moves it by what the
    /// integral makes of the error of that scan, and by no more.
    #[test]
    fn no_switch_bumps(
        shape in prop::sample::select(vec![Shape::Pair, Shape::Decoupled, Shape::Cascade, Shape::Split]),
        gains in [0.1..1.5f64, 0.1..1.5f64],
        times in [8.0..60.0f64, 8.0..60.0f64],
        loads in prop::collection::vec((0.0..300.0f64, -8.0..8.0f64), 1..4),
        switches in prop::collection::vec((0usize..2, 20usize..150, 1usize..80), 1..4),
    ) {
        let mut trial = shaped(shape, gains, times, 400);
        trial.scenario.events = loads.iter().map(|(at, by)| Event::load(*at, *by)).collect();
        let count = 1 + trial.candidate.further.len();
        let mut taken: Vec<(usize, usize)> = Vec::new();
        let mut at = 0;
        for (which, after, lasts) in switches {
            let (which, from) = (which % count, at + after);
            at = from + lasts;
            let events = [Event::ToManual { at: from as f64 }, Event::ToAutomatic { at: at as f64 }];
            if which == 0 {
                trial.scenario.events.extend(events);
            } else {
                trial.scenario.further.entry("Y2".into()).or_default().extend(events);
            }
            taken.extend([(which, from), (which, at)]);
        }
        let trace = trial.run().unwrap();
        let ops = [column(&trace, "U1"), column(&trace, "U2")];
        for (which, k) in taken.into_iter().filter(|(_, k)| *k < 400) {
            // What the switched controller sets: in the cascade the outer one sets a set point.
            let of: &[usize] = match (shape, which) {
                (Shape::Pair | Shape::Decoupled, which) => &[[0], [1]][which],
                (Shape::Cascade, 0) => &[],
                (Shape::Cascade, _) => &[1],
                (Shape::Split, _) => &[0, 1],
            };
            for op in of {
                // A decoupler passes on what the other OP does: it is no bump, but it moves.
                let passed = if shape == Shape::Decoupled { (ops[1 - op][k] - ops[1 - op][k - 1]).abs() } else { 0.0 };
                let name = ["Y1", "Y2"][which];
                let error = column(&trace, &format!("{name}.SP"))[k] - column(&trace, &format!("{name}.PV"))[k];
                // Half the range of the controller is all of an OP's.
                let steep = if shape == Shape::Split { 2.0 } else { 1.0 };
                let integral = steep * gains[which] / times[which] * error.abs();
                let jump = (ops[*op][k] - ops[*op][k - 1]).abs();
                prop_assert!(jump <= 1e-9 + integral + passed, "{shape:?}: controller {which} at {k}: {jump}");
            }
        }
    }

    /// Two loops that do not feel each other are two trials.
    #[test]
    fn loops_apart_are_two_trials(
        gains in [0.1..2.0f64, 0.1..2.0f64],
        times in [5.0..60.0f64, 5.0..60.0f64],
        late in [0.0..9.0f64, 0.0..9.0f64],
        noise in 0.0..0.3f64,
    ) {
        let cells = [Some([1.5, 30.0, late[0]]), Some([-0.7, 20.0, late[1]])];
        let sensor = SensorSpec { dead_time: 1.3, ..SensorSpec::with_noise(noise) };
        let mut both = plant(&[&[cells[0], None], &[None, cells[1]]]);
        both.further_measured[0].sensor = sensor.clone();
        let pid = [PidSettings::pi(gains[0], times[0]), PidSettings { action: Action::Direct, ..PidSettings::pi(gains[1], times[1]) }];
        let events = [vec![Event::set_point(10.0, 5.0), Event::load(150.0, 3.0)], vec![Event::load(40.5, -6.0), Event::set_point(90.0, 2.0)]];
        let second = wired("Y2", "Y2.PV", &["U2"], pid[1].clone());
        let mut trial_of_both = with(trial(both, pid[0].clone(), vec![second], 1.0, 300), "Y2", events[1].clone());
        trial_of_both.scenario.events = events[0].clone();
        let together = trial_of_both.run().unwrap();
        for k in 0..2 {
            let mut alone = plant(&[&[cells[k]]]);
            alone.pv.tag = format!("Y{}.PV", k + 1);
            if k == 1 {
                alone.sensor = sensor.clone();
            }
            let mut trial = trial(alone, pid[k].clone(), Vec::new(), 1.0, 300);
            trial.scenario.events = events[k].clone();
            let trace = trial.run().unwrap();
            let pairs = [(format!("Y{}.PV", k + 1), ColumnRole::ProcessVariable), (format!("U{}", k + 1), ColumnRole::Output)];
            for (tag, role) in pairs {
                let off = furthest(column(&together, &tag), trace.values(role));
                prop_assert!(off < 1e-9, "{tag} {off}");
            }
            if k == 1 {
                let seen = trial_of_both.trace_seen_from("Y2", &together).unwrap().unwrap();
                let tags = |columns: &[Column]| columns.iter().take(3).map(|one| one.role).collect::<Vec<_>>();
                prop_assert_eq!(tags(&seen.columns), tags(&trace.columns));
            }
        }
    }
}
