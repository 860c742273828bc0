//! Every controller from manual to automatic and back: the output does not bump, stands while a person has it, and the loop
//! holds its set point afterwards. And what is said of one that learned something that cannot hold the process.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::assess;
use antistasis_core::controller::adaptive::AdaptedGains;
use antistasis_core::controller::{
    Action, Algorithm, AntiWindup, CascadeSettings, ControllerSpec, ModelReferenceSettings, OutputLimits, PidSettings,
    SelfTuningSettings, SmithSettings,
};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::units::Span;
use antistasis_core::verdict::Tone;
use proptest::prelude::*;

fn trial(process: impl Into<ProcessSpec>, controller: ControllerSpec, events: Vec<Event>, duration: f64) -> Trial {
    let signal = |tag: &str, unit: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, unit) };
    let process = process.into();
    let unit = process.describe("%").unwrap().outputs[0].unit.clone();
    let plant = Plant::plain(process, signal("L.PV", &unit), signal("L.OP", "%"), OperatingPoint::new(50.0, 50.0));
    let scenario = Scenario { duration, scan: 1.0, seed: 1, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(controller), scenario }
}

fn output(trace: &Trace) -> &[f64] {
    trace.values(ColumnRole::Output)
}

fn pv(trace: &Trace) -> &[f64] {
    trace.values(ColumnRole::ProcessVariable)
}

/// In manual from 100 s on, moved by hand at 150 s, in automatic again at 600 s, when the PV has come to rest elsewhere.
fn by_hand(by: f64) -> Vec<Event> {
    vec![Event::ToManual { at: 100.0 }, Event::OutputStep { at: 150.0, by }, Event::ToAutomatic { at: 600.0 }]
}

/// What must hold of any of them: the output stands from 100 s, moves at 150 s by as much as it was moved and no more, and goes
/// on from there at 600 s by no more than `bump`.
fn check(what: &str, trace: &Trace, by: f64, bump: f64) {
    let op = output(trace);
    assert!(op[101..150].iter().all(|value| *value == op[101]), "{what}: moves in manual");
    assert!((op[151] - op[149] - by).abs() < 1e-9, "{what}: {} instead of {by}", op[151] - op[149]);
    assert!(op[151..600].iter().all(|value| *value == op[151]), "{what}: moves in manual");
    let jump = (op[600] - op[599]).abs();
    assert!(jump <= bump, "{what}: {jump} of {bump} on going to automatic");
}

const LAG: LinearSpec = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 4.0 };

#[test]
fn every_pid_goes_there_and_back_without_a_bump() {
    for algorithm in [Algorithm::Positional, Algorithm::Velocity] {
        for anti_windup in
            [AntiWindup::None, AntiWindup::Conditional, AntiWindup::Clamping, AntiWindup::BackCalculation]
        {
            for (weight, on_set_point, derivative, filter) in
                [(1.0, 0.0, 0.0, 0.0), (0.0, 0.0, 3.0, 0.0), (0.4, 1.0, 3.0, 2.0), (1.0, 1.0, 0.0, 5.0)]
            {
                let pid = PidSettings {
                    algorithm,
                    anti_windup,
                    set_point_weight: weight,
                    derivative_set_point_weight: on_set_point,
                    derivative_time: derivative,
                    filter_time: filter,
                    ..PidSettings::pi(1.5, 20.0)
                };
                let what = format!("{algorithm:?}, {anti_windup:?}, b {weight}, Td {derivative}");
                let trace = trial(LAG, ControllerSpec::Pid(pid), by_hand(6.0), 1200.0).run().unwrap();
                // One scan of integral action on an error of 6 %: 1.5 · 6 · 1/20.
                check(&what, &trace, 6.0, 1.5 * 6.0 / 20.0 + 1e-9);
                assert!((pv(&trace).last().unwrap() - 50.0).abs() < 0.05, "{what}: {}", pv(&trace).last().unwrap());
            }
        }
    }
}

#[test]
fn a_smith_predictor_goes_there_and_back_without_a_bump() {
    let pid = PidSettings::pi(1.5, 20.0);
    let smith = ControllerSpec::Smith(SmithSettings { pid, model: LAG, filter_time: 0.0 });
    let trace = trial(LAG, smith, by_hand(-6.0), 1200.0).run().unwrap();
    check("Smith", &trace, -6.0, 1.5 * 6.0 / 20.0 + 1e-6);
    assert!((pv(&trace).last().unwrap() - 50.0).abs() < 0.05);
}

#[test]
fn a_cascade_goes_there_and_back_without_a_bump() {
    let heater = ProcessSpec::library("stirred_heater", &[]);
    let outputs = heater.describe("").unwrap().outputs;
    let signal = outputs.iter().find(|output| output.name.contains("element")).unwrap().name.clone();
    let cascade = ControllerSpec::Cascade(Box::new(CascadeSettings {
        outer: PidSettings::pi(2.0, 60.0),
        inner: PidSettings::pi(2.0, 20.0),
        signal,
        span: Span::new(0.0, 400.0, "°C"),
    }));
    let mut trial = trial(heater, cascade, by_hand(3.0), 4000.0);
    trial.plant.operating_point = OperatingPoint::new(60.0, 50.0);
    let trace = trial.run().unwrap();
    // The outer controller moves the inner set point by its integral action, and the inner one answers: both times a scan.
    let error = (pv(&trace)[599] - 60.0).abs();
    let outer = 2.0 * error / 60.0;
    check("cascade", &trace, 3.0, 2.0 * outer * 1.1 + 1e-6);
    assert!((pv(&trace).last().unwrap() - 60.0).abs() < 0.1, "{}", pv(&trace).last().unwrap());
}

fn self_tuning(dead_time: f64, action: Action) -> ControllerSpec {
    ControllerSpec::SelfTuning(SelfTuningSettings {
        dead_time,
        identification_time: 200.0,
        amplitude: 2.0,
        clock: 5.0,
        forgetting: 1.0,
        keeps_learning: false,
        closed_loop_time_constant: 15.0,
        action,
        output_limits: OutputLimits::default(),
        seed: 3,
    })
}

fn model_reference(action: Action) -> ControllerSpec {
    ControllerSpec::ModelReference(ModelReferenceSettings {
        reference_time_constant: 10.0,
        reference_damping: None,
        learning_gain: 1e-4,
        normalised: false,
        leakage: 0.0,
        bound: Some(20.0),
        start: AdaptedGains { set_point: 1.0, measurement: 0.0, rate: 0.0 },
        action,
        output_limits: OutputLimits::default(),
    })
}

#[test]
fn adaptive_controllers_leave_the_output_to_a_person_too() {
    for controller in [self_tuning(4.0, Action::Reverse), model_reference(Action::Reverse)] {
        let events = vec![
            Event::ToManual { at: 400.0 },
            Event::OutputStep { at: 450.0, by: 4.0 },
            Event::ToAutomatic { at: 700.0 },
        ];
        let what = controller.title();
        let trace = trial(LAG, controller, events, 1600.0).run().unwrap();
        let op = output(&trace);
        assert!(op[401..450].iter().all(|value| *value == op[401]), "{what}: moves in manual");
        assert!((op[451] - op[449] - 4.0).abs() < 1e-9 && op[451..700].iter().all(|value| *value == op[451]), "{what}");
        assert!(trace.stopped.is_none() && op.iter().all(|value| (0.0..=100.0).contains(value)), "{what}");
    }
}

#[test]
fn of_one_that_learned_what_cannot_hold_the_process_it_is_said() {
    let step = vec![Event::set_point(300.0, 5.0)];
    let words = |controller: ControllerSpec, process: LinearSpec| {
        let trial = trial(process, controller, step.clone(), 1500.0);
        let trace = trial.run().unwrap();
        let verdicts = assess(&trial, &trace).unwrap().verdicts;
        verdicts.into_iter().map(|verdict| (verdict.tone, verdict.text)).collect::<Vec<_>>()
    };
    let says = |all: &[(Tone, String)]| {
        all.iter()
            .any(|(tone, text)| *tone == Tone::Bad && text.contains("what the controller has learned does not hold"))
    };
    let shortens = |all: &[(Tone, String)]| all.iter().any(|(_, text)| text.contains("shorten the integral time"));
    let late = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 60.0 };
    for (what, controller, process) in [
        ("wrong sign", model_reference(Action::Direct), LAG),
        ("dead time that nobody told", self_tuning(0.0, Action::Reverse), late),
    ] {
        let all = words(controller, process);
        assert!(says(&all) && !shortens(&all), "{what}: {all:?}");
    }
    // One that was told the truth is not accused.
    let all = words(self_tuning(4.0, Action::Reverse), LAG);
    assert!(!says(&all), "{all:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever the process and the settings: taking over by hand and giving back where everything rests moves nothing.
    #[test]
    fn at_rest_nothing_moves(
        gain in prop_oneof![0.2..5.0_f64, -5.0..-0.2_f64],
        time_constant in 2.0..80.0_f64,
        dead_time in 0.0..20.0_f64,
        share in 0.1..0.5_f64,
        derivative in 0.0..3.0_f64,
        weight in 0.0..=1.0_f64,
    ) {
        let process = LinearSpec::Fopdt { gain, time_constant, dead_time };
        // A share of what first order with dead time bears at least.
        let kc = share * (time_constant + 1.0) / (gain.abs() * (dead_time + 2.0));
        let pid = PidSettings {
            derivative_time: derivative,
            set_point_weight: weight,
            action: if gain > 0.0 { Action::Reverse } else { Action::Direct },
            ..PidSettings::pi(kc, time_constant + dead_time)
        };
        let events = vec![Event::ToManual { at: 20.0 }, Event::ToAutomatic { at: 60.0 }];
        let trace = trial(process, ControllerSpec::Pid(pid), events, 300.0).run().unwrap();
        prop_assert!(output(&trace).iter().all(|op| (op - 50.0).abs() < 1e-9));
        prop_assert!(pv(&trace).iter().all(|pv| (pv - 50.0).abs() < 1e-9));
    }
}
