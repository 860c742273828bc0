//! Margins of random sampled loops against python-control, and against the simulated loop.

#![allow(clippy::unwrap_used)]

use antistasis_core::assessment::{sampled_margins, trial_margins};
use antistasis_core::controller::{Action, ControllerSpec, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial,
};
use antistasis_core::units::Span;

/// Made by `reference/margins.py`.
const REFERENCE: &str = include_str!("../../../reference/data/margins.json");

#[test]
fn fifty_random_loops() {
    let cases: Vec<serde_json::Value> = serde_json::from_str(REFERENCE).unwrap();
    let span = Span::new(0.0, 100.0, "°C");
    assert_eq!(cases.len(), 50);
    for case in cases {
        let number = |name: &str| case[name].as_f64().unwrap();
        let process = LinearSpec::Fopdt {
            gain: number("gain"),
            time_constant: number("time_constant"),
            dead_time: number("dead_time"),
        };
        let pid = PidSettings {
            derivative_time: number("derivative_time"),
            ..PidSettings::pi(number("controller_gain"), number("integral_time"))
        };
        let margins = sampled_margins(&process, &span, &pid, number("scan")).unwrap();
        assert_eq!(margins.stable, case["stable"].as_bool().unwrap(), "{case}");
        if !margins.stable {
            continue;
        }
        let agrees = |name: &str, ours: Option<f64>| match case[name].as_f64() {
            Some(theirs) => {
                let ours = ours.unwrap_or(f64::NAN);
                assert!((ours / theirs - 1.0).abs() < 1e-4, "{name}: {ours} is not {theirs} in {case}");
            }
            None => assert_eq!(ours, None, "{name} in {case}"),
        };
        agrees("gain_margin", margins.gain_margin);
        agrees("phase_margin", margins.phase_margin);
        agrees("max_sensitivity", margins.max_sensitivity);
    }
}

/// The loop as a trial: a small step of the set point, long enough to see whether a swing grows.
fn swinging(process: &LinearSpec, pid: &PidSettings, scan: f64, periods: f64) -> Trial {
    let signal = |tag: &str, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, 100.0, unit) };
    let plant =
        Plant::plain(process.clone(), signal("T.PV", "°C"), signal("T.OP", "%"), OperatingPoint::new(50.0, 50.0));
    let events = vec![Event::set_point(scan, 1e-3)];
    let scenario = Scenario { duration: periods, scan, seed: 1, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(ControllerSpec::Pid(pid.clone())), scenario }
}

/// Whether the swing of a simulated loop dies: the largest error late in the trial beside that of the middle.
fn dies(trial: &Trial) -> bool {
    let trace = trial.run().unwrap();
    let pv = trace.values(ColumnRole::ProcessVariable);
    let largest = |from: usize, to: usize| pv[from..to].iter().map(|pv| (pv - 50.001).abs()).fold(0.0, f64::max);
    let n = pv.len();
    // What has grown to a hundred steps only stops growing because the OP ends at its limits.
    largest(0, n) < 0.1 && largest(4 * n / 5, n) < largest(2 * n / 5, 3 * n / 5).max(1e-9)
}

#[test]
fn a_delay_margin_is_where_the_simulated_loop_begins_to_swing() {
    // Coarse scans, where dead time that is no whole number of scans changes what hold and sampler make of it: the
    // simulation knows nothing of a frequency response.
    for (gain, lag, dead, kc, ti, scan) in [
        (1.2, 20.0, 3.0, 1.5, 15.0, 1.0),
        (1.2, 20.0, 3.0, 1.5, 15.0, 5.0),
        (2.0, 10.0, 0.0, 1.2, 8.0, 4.0),
        (0.8, 3.0, 2.5, 0.9, 4.0, 2.0),
        (1.0, 5.0, 1.0, 2.0, 6.0, 3.0),
        (-1.5, 12.0, 6.4, -0.8, 12.0, 3.0),
    ] {
        let late = |by: f64| LinearSpec::Fopdt { gain, time_constant: lag, dead_time: dead + by };
        let mut pid = PidSettings::pi(f64::abs(kc), ti);
        if gain < 0.0 {
            pid.action = Action::Direct;
        }
        let margins = trial_margins(&swinging(&late(0.0), &pid, scan, 100.0)).unwrap().unwrap();
        let (margin, crossover) = (margins.delay_margin.unwrap(), margins.gain_crossover.unwrap());
        let long = 400.0 * std::f64::consts::TAU / crossover;
        let what = format!("{gain} {lag} {dead} {kc} {ti} {scan}: {margin}");
        assert!(dies(&swinging(&late(0.98 * margin), &pid, scan, long)), "{what} is too much");
        assert!(!dies(&swinging(&late(1.02 * margin), &pid, scan, long)), "{what} is too little");
    }
}
