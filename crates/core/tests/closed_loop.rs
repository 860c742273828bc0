//! Whole loops against analytic solutions, an outside integrator, and what must hold for every loop.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::Error;
use antistasis_core::assessment::{metrics, sampled_margins};
use antistasis_core::controller::{Action, ControllerSpec, OutputLimits, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::tuning::{SimcChoice, simc};
use antistasis_core::units::Span;

/// Made by `reference/closed_loop.py` with SciPy's `solve_ivp`.
const REFERENCE: &str = include_str!("../../../reference/data/closed_loop.json");

fn trial(process: LinearSpec, pid: PidSettings, scan: f64, duration: f64, events: Vec<Event>) -> Trial {
    let signal = |tag: &str, span| Signal { tag: tag.to_owned(), span };
    Trial {
        version: TRIAL_VERSION,
        plant: Plant::plain(
            process,
            signal("TIC-1.PV", Span::new(0.0, 200.0, "°C")),
            signal("TIC-1.OP", Span::new(0.0, 100.0, "%")),
            OperatingPoint::new(60.0, 40.0),
        ),
        candidate: Candidate::new(ControllerSpec::Pid(pid)),
        scenario: Scenario { duration, scan, seed: 0, events, further: Default::default() },
    }
}

fn fopdt(gain: f64, time_constant: f64, dead_time: f64) -> LinearSpec {
    LinearSpec::Fopdt { gain, time_constant, dead_time }
}

fn pv(trace: &Trace) -> &[f64] {
    trace.values(ColumnRole::ProcessVariable)
}

const WIDE: OutputLimits = OutputLimits { low: -1000.0, high: 1000.0 };

#[test]
fn agrees_with_an_outside_integrator() {
    let cases: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
    for entry in cases.as_array().unwrap() {
        let number = |name: &str| entry["case"][name].as_f64().unwrap();
        let pid = PidSettings {
            derivative_time: number("derivative_time"),
            ..PidSettings::pi(number("controller_gain"), number("integral_time"))
        };
        let scan = number("scan");
        let events = vec![
            Event::load(number("load_at"), number("load")),
            Event::SetPointStep { at: number("step_at"), by: number("step") },
        ];
        let process = fopdt(number("gain"), number("time_constant"), number("dead_time"));
        let rows = number("rows");
        let trace = trial(process, pid, scan, (rows - 1.0) * scan, events).run().unwrap();
        let expected = entry["trace"].as_array().unwrap();
        assert_eq!(trace.len(), expected.len());
        let columns = [ColumnRole::SetPoint, ColumnRole::ProcessVariable, ColumnRole::Output];
        for (k, row) in expected.iter().enumerate() {
            assert!((trace.time(k) - row[0].as_f64().unwrap()).abs() < 1e-9);
            for (column, role) in columns.into_iter().enumerate() {
                let (value, wanted) = (trace.values(role)[k], row[column + 1].as_f64().unwrap());
                assert!((value - wanted).abs() < 1e-8, "{entry:.60} row {k} {role:?}: {value} is not {wanted}");
            }
        }
    }
}

#[test]
fn dead_time_of_a_fraction_of_scans_is_exact() {
    // Until its own effect comes back the controller sees a constant error, so OP[k] = OP0 + Kc e (1 + (k+1) h/Ti), and
    // the PV is the sum of the analytic step responses, each delayed by 2.37 scans.
    let (gain, tau, theta, kc, ti) = (1.5, 20.0, 2.37, 0.8, 12.0);
    let wide = PidSettings { output_limits: WIDE, ..PidSettings::pi(kc, ti) };
    let events = vec![Event::SetPointStep { at: 0.0, by: 10.0 }];
    let trace = trial(fopdt(gain, tau, theta), wide, 1.0, 10.0, events).run().unwrap();
    let error = 5.0;
    let moves = [kc * error * (1.0 + 1.0 / ti), kc * error / ti, kc * error / ti];
    for k in 0..=4 {
        let t = k as f64;
        let response: f64 = moves
            .iter()
            .enumerate()
            .map(|(j, size)| (t - j as f64 - theta, size))
            .filter(|(since, _)| *since > 0.0)
            .map(|(since, size)| gain * size * (1.0 - (-since / tau).exp()))
            .sum();
        assert!((pv(&trace)[k] - 60.0 - response).abs() < 1e-12, "scan {k}");
    }
}

#[test]
fn load_between_scans_arrives_when_it_should() {
    let pid = PidSettings { gain: 1e-9, integral_time: None, ..PidSettings::pi(1.0, 1.0) };
    let events = vec![Event::load(3.3, 10.0), Event::load(3.9, -4.0)];
    let trace = trial(fopdt(2.0, 7.0, 1.45), pid, 1.0, 30.0, events).run().unwrap();
    for (k, value) in pv(&trace).iter().enumerate() {
        let part = |at: f64, by: f64| {
            let since = k as f64 - at - 1.45;
            if since > 0.0 { 2.0 * by * (1.0 - (-since / 7.0).exp()) } else { 0.0 }
        };
        assert!((value - 60.0 - part(3.3, 10.0) - part(3.9, -4.0)).abs() < 1e-6, "scan {k}");
    }
}

#[test]
fn integrated_error_of_a_load_is_integral_time_over_gain() {
    // ∫e dt = Ti/Kc · Δd for integral action without saturation (exact mathematics, ideal form).
    for (process, tau_c) in [(fopdt(0.9, 60.0, 14.2), 10.0), (fopdt(-2.0, 5.0, 9.0), 9.0)] {
        let span = Span::new(0.0, 200.0, "°C");
        let pid = simc(&process, &span, &SimcChoice { closed_loop_time_constant: Some(tau_c) }).unwrap().controller;
        let (kc, ti) = (pid.gain, pid.integral_time.unwrap());
        let sign = if pid.action == Action::Direct { -1.0 } else { 1.0 };
        let events = vec![Event::load(50.0, 5.0)];
        let trace = trial(process, pid, 1.0, 3000.0, events).run().unwrap();
        let sum: f64 = pv(&trace).iter().map(|value| (60.0 - value) / 2.0).sum();
        assert!((sum + sign * ti / kc * 5.0).abs() < 1e-3 * ti / kc * 5.0, "{sum} {ti} {kc}");
    }
}

#[test]
fn the_loop_breaks_where_its_margins_say() {
    let process = |factor: f64, later: f64| fopdt(1.1 * factor, 30.0, 8.6 + later);
    let span = Span::new(0.0, 200.0, "°C");
    let pid = PidSettings { derivative_time: 3.0, output_limits: WIDE, ..PidSettings::pi(3.4, 25.0) };
    let margins = sampled_margins(&process(1.0, 0.0), &span, &pid, 2.0).unwrap();
    let grows = |process| {
        let events = vec![Event::SetPointStep { at: 0.0, by: 0.01 }];
        let trace = trial(process, pid.clone(), 2.0, 8000.0, events).run().unwrap();
        let swing = |rows: std::ops::Range<usize>| {
            pv(&trace)[rows].iter().map(|value| (value - 60.01).abs()).fold(0.0, f64::max)
        };
        swing(3500..4000) > swing(1000..1500)
    };
    let factor = margins.gain_margin.unwrap();
    assert!(!grows(process(0.99 * factor, 0.0)) && grows(process(1.01 * factor, 0.0)), "{margins:?}");
    let delay = margins.delay_margin.unwrap();
    assert!(!grows(process(1.0, 0.97 * delay)) && grows(process(1.0, 1.03 * delay)), "{margins:?}");
    let unstable = sampled_margins(&process(1.01 * factor, 0.0), &span, &pid, 2.0).unwrap();
    assert!(margins.stable && !unstable.stable);
}

#[test]
fn back_calculation_keeps_a_saturated_loop_from_overshooting() {
    let overshoot = |tracking_time| {
        let pid = PidSettings { tracking_time, ..PidSettings::pi(8.0, 12.0) };
        let events = vec![Event::SetPointStep { at: 10.0, by: 60.0 }];
        let trace = trial(fopdt(1.6, 60.0, 3.0), pid, 1.0, 800.0, events).run().unwrap();
        let metrics = metrics(&trace, 1.0);
        assert!(metrics.saturated_time > 10.0);
        metrics.set_point_responses[0].overshoot_percent
    };
    let (wound_up, loose, tight) = (overshoot(Some(1e9)), overshoot(Some(40.0)), overshoot(Some(4.0)));
    assert!(wound_up > loose && loose > tight && tight < 0.6 * wound_up, "{wound_up} {loose} {tight}");
}

#[test]
fn the_same_trial_gives_the_same_trace() {
    let events = vec![Event::SetPointStep { at: 10.0, by: 5.0 }, Event::load(100.0, -5.0)];
    let mut noisy = trial(fopdt(1.0, 30.0, 7.7), PidSettings::pi(1.5, 30.0), 1.0, 400.0, events);
    noisy.plant.sensor.noise = 0.3;
    let text = serde_json::to_string(&noisy).unwrap();
    let again: Trial = serde_json::from_str(&text).unwrap();
    assert_eq!((noisy.digest(), noisy.run().unwrap()), (again.digest(), again.run().unwrap()));
    let mut reseeded = noisy.clone();
    reseeded.scenario.seed = 1;
    assert_ne!(noisy.digest(), reseeded.digest());
    assert_ne!(pv(&noisy.run().unwrap()), pv(&reseeded.run().unwrap()));
    // The order in which events are written down is not the order in which they happen.
    let mut shuffled = noisy.clone();
    shuffled.scenario.events.reverse();
    assert_eq!(noisy.run().unwrap(), shuffled.run().unwrap());
}

#[test]
fn what_cannot_be_run_is_refused_by_name() {
    let good = || {
        let events = vec![Event::SetPointStep { at: 10.0, by: 5.0 }];
        trial(fopdt(1.0, 30.0, 7.7), PidSettings::pi(1.5, 30.0), 1.0, 400.0, events)
    };
    assert!(good().validate().is_ok());
    let refused = |change: &dyn Fn(&mut Trial)| {
        let mut trial = good();
        change(&mut trial);
        match trial.run().unwrap_err() {
            Error::Invalid { field, .. } => field,
            error => panic!("{error}"),
        }
    };
    assert_eq!(refused(&|t| t.version = 9), "version");
    assert_eq!(refused(&|t| t.scenario.scan = 0.0), "scenario.scan");
    assert_eq!(refused(&|t| t.scenario.scan = 500.0), "scenario.scan");
    assert_eq!(refused(&|t| t.scenario.duration = f64::INFINITY), "scenario.duration");
    assert_eq!(refused(&|t| t.scenario.scan = 1e-9), "scenario.duration");
    assert_eq!(refused(&|t| t.scenario.events[0] = Event::load(-1.0, 1.0)), "scenario.events[0].at");
    assert_eq!(refused(&|t| t.plant.process = fopdt(1.0, 0.0, 1.0).into()), "process.time_constant");
    assert_eq!(refused(&|t| t.plant.process = fopdt(1.0, 1.0, 1e9).into()), "process.dead_time");
    assert_eq!(refused(&|t| t.plant.pv.span.high = -5.0), "plant.pv.span.high");
    assert_eq!(refused(&|t| t.plant.op.span.high = 50.0), "plant.op.span");
    assert_eq!(refused(&|t| t.plant.sensor.noise = -1.0), "plant.sensor.noise");
    assert_eq!(refused(&|t| t.plant.pv.tag = " ".into()), "plant.pv.tag");
}

#[test]
fn in_manual_the_output_moves_by_hand_alone() {
    let events = vec![
        Event::OutputStep { at: 10.0, by: 5.0 },
        Event::SetPointStep { at: 20.0, by: 5.0 },
        Event::OutputStep { at: 200.0, by: -80.0 },
    ];
    let mut manual = trial(fopdt(2.0, 10.0, 3.0), PidSettings::pi(1.0, 1.0), 1.0, 400.0, events);
    assert!(manual.run().unwrap_err().to_string().contains("only with a controller in manual"));
    manual.candidate.controller = ControllerSpec::Manual;
    let trace = manual.run().unwrap();
    let output = trace.values(ColumnRole::Output);
    assert_eq!((output[9], output[10], output[199], output[200]), (40.0, 45.0, 45.0, 0.0));
    let expected = 60.0 + 10.0 * (1.0 - (-2.7f64).exp());
    assert!((pv(&trace)[40] - expected).abs() < 1e-12);
}

#[test]
fn a_trial_is_named_by_what_it_changed() {
    let events = vec![Event::SetPointStep { at: 10.0, by: 5.0 }];
    let before = trial(fopdt(1.0, 30.0, 7.7), PidSettings::pi(1.2, 96.0), 1.0, 400.0, events);
    assert!(before.difference(&before).is_empty());
    let mut after = before.clone();
    after.candidate.controller =
        ControllerSpec::Pid(PidSettings { derivative_time: 4.0, ..PidSettings::pi(1.5, 70.0) });
    after.plant.process = fopdt(1.0, 30.0, 9.25).into();
    after.scenario.events[0] = Event::SetPointStep { at: 10.0, by: -2.5 };
    assert_eq!(
        after.difference(&before),
        [
            "gain 1.2 → 1.5",
            "integral time 96 s → 70 s",
            "derivative time 0 s → 4 s",
            "dead time 7.7 s → 9.25 s",
            "set point step 5 → −2.5 °C"
        ]
    );
}
