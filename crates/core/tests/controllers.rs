//! Controllers beyond plain PID at work in a loop: dead-time compensation, adaptation, anti-windup, feed-forward, ratio,
//! cascade. Expected values are exact mathematics or stated properties, named at each.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::{SampledLoop, metrics, trial_margins};
use antistasis_core::controller::adaptive::AdaptedGains;
use antistasis_core::controller::{
    Action, Algorithm, AntiWindup, CascadeSettings, ControllerSpec, FeedForward, ModelReferenceSettings, OutputLimits,
    PidSettings, SelfTuningSettings, SmithSettings,
};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Ratio, Scenario, Signal, Simulation, TRIAL_VERSION, Trace,
    Trial,
};
use antistasis_core::tuning::{ControllerStructure, Task, optimise};
use antistasis_core::units::Span;

/// K = 5, τ = 5 s, θ = 60 s: dead time twelve times the lag.
const LONG: LinearSpec = LinearSpec::Fopdt { gain: 5.0, time_constant: 5.0, dead_time: 60.0 };

fn span() -> Span {
    Span::new(0.0, 100.0, "%")
}

fn trial(process: LinearSpec, controller: ControllerSpec, events: Vec<Event>, duration: f64, scan: f64) -> Trial {
    let signal = |tag: &str| Signal { tag: tag.to_owned(), span: span() };
    Trial {
        version: TRIAL_VERSION,
        plant: Plant::plain(process, signal("L.PV"), signal("L.OP"), OperatingPoint::new(50.0, 50.0)),
        candidate: Candidate::new(controller),
        scenario: Scenario { duration, scan, seed: 1, events, further: Default::default() },
    }
}

fn run(trial: &Trial) -> Trace {
    trial.run().unwrap()
}

fn error_of(trace: &Trace) -> f64 {
    metrics(trace, 0.5).integral_absolute_error
}

fn of_tag(trace: &Trace, tag: &str) -> Vec<f64> {
    trace.columns.iter().find(|column| column.tag == tag).unwrap().values.clone()
}

fn smith(model: LinearSpec, gain: f64, integral: f64) -> ControllerSpec {
    ControllerSpec::Smith(SmithSettings { pid: PidSettings::pi(gain, integral), model, filter_time: 0.0 })
}

#[test]
fn a_predictor_beats_the_best_pi_on_a_long_dead_time_while_its_model_is_near() {
    let events = vec![Event::set_point(10.0, 10.0), Event::load(800.0, -2.0)];
    let mut task = Task::new(&LONG, &span(), 1.0, ControllerStructure::Pi);
    task.demands.max_sensitivity = Some(1.6);
    let best = optimise(&task, &|_| true).unwrap();
    let pi = error_of(&run(&trial(LONG, best.controller, events.clone(), 1600.0, 1.0)));
    // The undelayed loop with Ti = τ is of first order: τc = 10 s for Kc = τ/(K τc) = 0.1.
    let with = |dead_time: f64| {
        let model = LinearSpec::Fopdt { gain: 5.0, time_constant: 5.0, dead_time };
        let trial = trial(LONG, smith(model, 0.1, 5.0), events.clone(), 1600.0, 1.0);
        (error_of(&run(&trial)), trial_margins(&trial).unwrap().unwrap())
    };
    let rows = [("PI", pi), ("exact", with(60.0).0), ("+20 %", with(72.0).0), ("−20 %", with(48.0).0)];
    println!("{rows:?}");
    assert!(rows[1].1 < 0.9 * rows[0].1, "{rows:?}");
    assert!(rows[1].1 < rows[2].1 && rows[1].1 < rows[3].1, "{rows:?}");
    for dead_time in [48.0, 60.0, 72.0] {
        assert!(with(dead_time).1.stable);
    }
}

#[test]
fn with_an_exact_model_the_answer_is_that_of_the_loop_without_dead_time_later() {
    // The property for which the predictor was made (Smith 1957): exact also where the dead time is no whole number of scans.
    let without = LinearSpec::Fopdt { gain: 1.5, time_constant: 20.0, dead_time: 0.0 };
    let with = LinearSpec::Fopdt { gain: 1.5, time_constant: 20.0, dead_time: 7.5 };
    let step = vec![Event::set_point(5.0, 10.0)];
    let prompt = run(&trial(without, ControllerSpec::Pid(PidSettings::pi(2.0, 15.0)), step.clone(), 200.0, 0.5));
    let late = run(&trial(with.clone(), smith(with, 2.0, 15.0), step, 200.0, 0.5));
    let (prompt, late) = (prompt.values(ColumnRole::ProcessVariable), late.values(ColumnRole::ProcessVariable));
    for k in 15..late.len() {
        assert!((late[k] - prompt[k - 15]).abs() < 1e-9, "row {k}");
    }
}

#[test]
fn the_margins_of_a_predictor_are_where_the_simulated_loop_turns_unstable() {
    let plant = |factor: f64| LinearSpec::Fopdt { gain: 1.5 * factor, time_constant: 20.0, dead_time: 10.0 };
    let model = LinearSpec::Fopdt { gain: 1.5, time_constant: 20.0, dead_time: 8.0 };
    let loop_of =
        |factor| trial(plant(factor), smith(model.clone(), 2.0, 15.0), vec![Event::load(5.0, 1.0)], 3000.0, 0.5);
    let margins = trial_margins(&loop_of(1.0)).unwrap().unwrap();
    let limit = margins.gain_margin.unwrap();
    let late_swing = |factor: f64| {
        let trace = run(&loop_of(factor));
        let pv = trace.values(ColumnRole::ProcessVariable);
        let size = |values: &[f64]| values.iter().map(|y| (y - 50.0).abs()).fold(0.0, f64::max);
        size(&pv[pv.len() - 400..]) / size(&pv[1000..1400])
    };
    assert!(late_swing(0.98 * limit) < 1.0 && late_swing(1.02 * limit) > 1.0, "{limit}");
    assert!(!trial_margins(&loop_of(1.02 * limit)).unwrap().unwrap().stable);
}

#[test]
fn a_filtered_predictor_on_an_integrator_leaves_no_offset() {
    let model = LinearSpec::Integrating { gain: 0.02, dead_time: 20.0 };
    let pid = PidSettings::pi(2.0, 120.0);
    let controller =
        |filter_time| ControllerSpec::Smith(SmithSettings { pid: pid.clone(), model: model.clone(), filter_time });
    let trace = run(&trial(model.clone(), controller(20.0), vec![Event::load(20.0, -10.0)], 3000.0, 1.0));
    let last = *trace.values(ColumnRole::ProcessVariable).last().unwrap();
    assert!((last - 50.0).abs() < 1e-3, "{last}");
    let error = controller(0.0).validate().unwrap_err().to_string();
    assert!(error.contains("a load leaves an offset"), "{error}");
}

fn self_tuning() -> SelfTuningSettings {
    SelfTuningSettings {
        dead_time: 60.0,
        identification_time: 600.0,
        amplitude: 2.0,
        clock: 5.0,
        forgetting: 1.0,
        keeps_learning: false,
        closed_loop_time_constant: 10.0,
        action: Action::Reverse,
        output_limits: OutputLimits::default(),
        seed: 3,
    }
}

#[test]
fn self_tuning_finds_the_sampled_model_and_controls_with_it() {
    // α = exp(−1/5) = 0.8187 and β = 5 (1 − α) = 0.9063 (exact mathematics), under noise of 0.05 % of span.
    let mut trial =
        trial(LONG, ControllerSpec::SelfTuning(self_tuning()), vec![Event::set_point(700.0, 5.0)], 1400.0, 1.0);
    trial.plant.sensor.noise = 0.005;
    let trace = run(&trial);
    let (alpha, beta) = (of_tag(&trace, "alpha"), of_tag(&trace, "beta"));
    let alpha_true = (-0.2f64).exp();
    assert!((alpha.last().unwrap() / alpha_true - 1.0).abs() < 0.01, "{:?}", alpha.last());
    assert!((beta.last().unwrap() / (5.0 * (1.0 - alpha_true)) - 1.0).abs() < 0.01, "{:?}", beta.last());
    let last = *trace.values(ColumnRole::ProcessVariable).last().unwrap();
    assert!((last - 55.0).abs() < 0.1, "{last}");
    // It does not touch the set point while it learns, and keeps to its amplitude.
    let output = trace.values(ColumnRole::Output);
    assert!(output[..600].iter().all(|op| (op - 50.0).abs() == 2.0));
}

#[test]
fn self_tuning_that_keeps_learning_follows_a_gain_that_changes() {
    let settings = SelfTuningSettings { keeps_learning: true, forgetting: 0.99, ..self_tuning() };
    let mut events: Vec<Event> =
        (0..8).map(|k| Event::set_point(700.0 + 250.0 * f64::from(k), if k % 2 == 0 { 5.0 } else { -5.0 })).collect();
    events.push(Event::ParameterChange { at: 900.0, parameter: "gain".into(), to: 7.0, over: 0.0 });
    let trace = run(&trial(LONG, ControllerSpec::SelfTuning(settings), events, 2900.0, 1.0));
    let beta = *of_tag(&trace, "beta").last().unwrap();
    assert!((beta / (7.0 * (1.0 - (-0.2f64).exp())) - 1.0).abs() < 0.05, "{beta}");
}

fn adaptive(learning_gain: f64) -> ModelReferenceSettings {
    ModelReferenceSettings {
        reference_time_constant: 10.0,
        reference_damping: None,
        learning_gain,
        normalised: false,
        leakage: 0.0,
        bound: Some(20.0),
        start: AdaptedGains { set_point: 1.0, measurement: 0.0, rate: 0.0 },
        action: Action::Reverse,
        output_limits: OutputLimits::default(),
    }
}

fn square_wave(size: f64, half: f64, until: f64) -> Vec<Event> {
    let count = (until / half) as usize;
    (0..count).map(|k| Event::set_point(half * k as f64 + 10.0, if k % 2 == 0 { size } else { -size })).collect()
}

fn distance_from_reference(trace: &Trace, from: usize) -> f64 {
    let (pv, reference) = (trace.values(ColumnRole::ProcessVariable), of_tag(trace, "reference"));
    pv[from..].iter().zip(&reference[from..]).map(|(y, m)| (y - m).abs()).sum::<f64>() / (pv.len() - from) as f64
}

#[test]
fn model_reference_learns_until_the_loop_answers_as_the_reference() {
    let process = LinearSpec::Fopdt { gain: 0.8, time_constant: 30.0, dead_time: 0.0 };
    let events = square_wave(5.0, 100.0, 6000.0);
    // From no learning upward, the nominal case first.
    let far: Vec<f64> = [0.0, 1e-3, 1e-2]
        .into_iter()
        .map(|gain| {
            let trial =
                trial(process.clone(), ControllerSpec::ModelReference(adaptive(gain)), events.clone(), 6000.0, 0.2);
            distance_from_reference(&run(&trial), 25_000)
        })
        .collect();
    assert!(far[1] < 0.5 * far[0] && far[2] < 0.1 * far[0], "{far:?}");
    // The gains are those with which the plant is the reference (exact mathematics), within what a square wave tells.
    let settings = adaptive(1e-2);
    let matching = settings.matching(&process, &span()).unwrap();
    assert!((matching.set_point - 30.0 / 8.0).abs() < 1e-12 && (matching.measurement - 2.5).abs() < 1e-12);
    let trace = run(&trial(process, ControllerSpec::ModelReference(settings), events, 6000.0, 0.2));
    let found = (*of_tag(&trace, "gain on set point").last().unwrap(), *of_tag(&trace, "gain on PV").last().unwrap());
    assert!((found.0 / matching.set_point - 1.0).abs() < 0.1, "{found:?}");
    assert!((found.1 / matching.measurement - 1.0).abs() < 0.15, "{found:?}");
}

#[test]
fn model_reference_of_second_order_with_matching_gains_is_the_reference_and_learns_otherwise() {
    let process = LinearSpec::SecondOrder { gain: 1.2, time_constant: 15.0, damping: 0.4, dead_time: 0.0 };
    let mut settings = ModelReferenceSettings { reference_damping: Some(0.8), normalised: true, ..adaptive(0.0) };
    settings.start = settings.matching(&process, &span()).unwrap();
    let far = |settings: &ModelReferenceSettings| {
        let controller = ControllerSpec::ModelReference(settings.clone());
        distance_from_reference(
            &run(&trial(process.clone(), controller, square_wave(5.0, 150.0, 6000.0), 6000.0, 0.1)),
            30_000,
        )
    };
    // Near, not equal: the rate of the PV is measured through a filter.
    assert!(far(&settings) < 0.15, "{}", far(&settings));
    settings.start = AdaptedGains { set_point: 1.0, measurement: 0.3, rate: 0.3 };
    let nominal = far(&settings);
    settings.learning_gain = 0.05;
    assert!(far(&settings) < 0.4 * nominal, "{} instead of {nominal}", far(&settings));
}

#[test]
fn leakage_draws_the_gains_back_and_projection_bounds_them() {
    let process = LinearSpec::Fopdt { gain: 0.8, time_constant: 30.0, dead_time: 0.0 };
    let last = |settings: ModelReferenceSettings| {
        let trial = trial(
            process.clone(),
            ControllerSpec::ModelReference(settings),
            square_wave(5.0, 100.0, 3000.0),
            3000.0,
            0.2,
        );
        let trace = run(&trial);
        (
            of_tag(&trace, "gain on set point").into_iter().fold(0.0, f64::max),
            *of_tag(&trace, "gain on set point").last().unwrap(),
        )
    };
    let free = last(adaptive(1e-3));
    let leaking = last(ModelReferenceSettings { leakage: 0.01, ..adaptive(1e-3) });
    assert!(leaking.1 < free.1 && leaking.1 > 1.0, "{leaking:?} {free:?}");
    let bounded = last(ModelReferenceSettings { bound: Some(2.0), ..adaptive(1e-3) });
    assert!(bounded.0 <= 2.0 && free.0 > 2.0);
}

/// A large step on an integrator whose output saturates.
fn overshoot_with(settings: PidSettings) -> f64 {
    let process = LinearSpec::Integrating { gain: 0.02, dead_time: 2.0 };
    let trace = run(&trial(process, ControllerSpec::Pid(settings), vec![Event::set_point(10.0, 40.0)], 1500.0, 0.5));
    metrics(&trace, 0.5).set_point_responses[0].overshoot_percent
}

#[test]
fn a_saturated_integrator_overshoots_less_the_faster_it_tracks() {
    let base = PidSettings::pi(3.0, 40.0);
    let with = |anti_windup| overshoot_with(PidSettings { anti_windup, ..base.clone() });
    let tracking = |time| overshoot_with(PidSettings { tracking_time: Some(time), ..base.clone() });
    let none = with(AntiWindup::None);
    assert!(none > 25.0, "{none}");
    let by_time: Vec<f64> = [400.0, 100.0, 40.0, 10.0, 2.0].map(tracking).into();
    assert!(by_time.windows(2).all(|pair| pair[1] <= pair[0] + 1e-9), "{by_time:?}");
    assert!(by_time[0] < none && by_time[4] < 0.5 * none, "{by_time:?} {none}");
    let (conditional, clamping) = (with(AntiWindup::Conditional), with(AntiWindup::Clamping));
    assert!(conditional < none && clamping < none, "{conditional} {clamping} {none}");
    // Windless by construction.
    let velocity = overshoot_with(PidSettings { algorithm: Algorithm::Velocity, ..base.clone() });
    assert!((velocity - tracking(0.5)).abs() < 1e-9, "{velocity}");
}

#[test]
fn the_error_of_a_load_is_integral_time_over_gain_for_every_variant() {
    // ∫e dt = Ti/Kc·Δd, whatever derivative, filter, weights or algorithm (exact mathematics).
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 30.0, dead_time: 6.0 };
    let base = PidSettings { derivative_time: 3.0, ..PidSettings::pi(1.4, 25.0) };
    for settings in [
        base.clone(),
        PidSettings { derivative_set_point_weight: 1.0, set_point_weight: 0.4, ..base.clone() },
        PidSettings { filter_time: 2.0, ..base.clone() },
        PidSettings { algorithm: Algorithm::Velocity, ..base.clone() },
        PidSettings { rate_limit: Some(5.0), anti_windup: AntiWindup::Conditional, ..base },
    ] {
        let trace = run(&trial(
            process.clone(),
            ControllerSpec::Pid(settings.clone()),
            vec![Event::load(10.0, 8.0)],
            900.0,
            0.25,
        ));
        let sum: f64 = trace
            .values(ColumnRole::SetPoint)
            .iter()
            .zip(trace.values(ColumnRole::ProcessVariable))
            .map(|(r, y)| (r - y) * 0.25)
            .sum();
        assert!((sum / (-25.0 / 1.4 * 8.0) - 1.0).abs() < 1e-3, "{sum} {settings:?}");
    }
}

#[test]
fn a_rate_limit_and_a_gap_are_kept() {
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 30.0, dead_time: 6.0 };
    let limited = PidSettings { rate_limit: Some(0.4), ..PidSettings::pi(2.0, 30.0) };
    let trace =
        run(&trial(process.clone(), ControllerSpec::Pid(limited), vec![Event::set_point(10.0, 10.0)], 600.0, 0.5));
    let fastest = trace.values(ColumnRole::Output).windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f64::max);
    assert!(fastest <= 0.2 + 1e-12 && fastest > 0.19, "{fastest}");
    // Inside an error dead band nothing moves.
    let dead = PidSettings { gap: 3.0, ..PidSettings::pi(2.0, 30.0) };
    let trace = run(&trial(process, ControllerSpec::Pid(dead), vec![Event::set_point(10.0, 2.9)], 600.0, 0.5));
    assert!(trace.values(ColumnRole::Output).iter().all(|op| (op - 50.0).abs() < 1e-12));
}

#[test]
fn feed_forward_of_the_load_takes_it_away() {
    // A load where the OP acts is taken away by Kff = −1 from the next scan on (exact mathematics).
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 30.0, dead_time: 6.0 };
    let load = vec![Event::load(10.25, 8.0)];
    let with = |gain: f64| {
        let forward = FeedForward { signal: "load".into(), gain, lead: 0.0, lag: 0.0, delay: 0.0 };
        let settings = PidSettings { feed_forward: Some(forward), ..PidSettings::pi(1.4, 25.0) };
        error_of(&run(&trial(process.clone(), ControllerSpec::Pid(settings), load.clone(), 400.0, 0.5)))
    };
    assert!(with(-1.0) < 0.02 * with(0.0));
    let unknown = FeedForward { signal: "wind".into(), gain: 1.0, lead: 0.0, lag: 0.0, delay: 0.0 };
    let settings = PidSettings { feed_forward: Some(unknown), ..PidSettings::pi(1.4, 25.0) };
    let error = trial(process, ControllerSpec::Pid(settings), load, 400.0, 0.5).run().unwrap_err().to_string();
    assert!(error.contains("“wind”") && error.contains("load"), "{error}");
}

/// The jacketed heater with its own inputs and outputs.
fn heater(controller: ControllerSpec, events: Vec<Event>) -> Trial {
    let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
    let mut trial = trial(LONG, controller, events, 3000.0, 2.0);
    trial.plant = Plant::plain(
        ProcessSpec::library("stirred_heater", &[]),
        signal("T.PV", 150.0, "°C"),
        signal("T.OP", 100.0, "%"),
        OperatingPoint::new(60.0, 50.0),
    );
    trial
}

#[test]
fn a_ratio_moves_the_set_point_with_its_signal_and_manual_lets_it_follow() {
    let pid = ControllerSpec::Pid(PidSettings::pi(1.0, 90.0));
    let plant = heater(pid.clone(), Vec::new()).plant.describe().unwrap();
    let input =
        plant.inputs.iter().map(|input| input.name.clone()).find(|name| name.contains("feed_temperature")).unwrap();
    let step = Event::LoadStep { at: 200.0, by: 3.0, input: Some(input.clone()) };
    let mut trial = heater(pid.clone(), vec![step]);
    trial.candidate.ratio = Some(Ratio { signal: input, ratio: 0.5 });
    let trace = run(&trial);
    let set_point = trace.values(ColumnRole::SetPoint);
    assert!((set_point[50] - 60.0).abs() < 1e-9 && (set_point[200] - 61.5).abs() < 1e-9);
    // In manual the set point follows; back in automatic the output goes on without a bump.
    let mut tracked = heater(pid, vec![Event::OutputStep { at: 200.0, by: 5.0 }]);
    tracked.scenario.events.extend([Event::ToManual { at: 100.0 }, Event::ToAutomatic { at: 2100.0 }]);
    tracked.candidate.set_point_tracking = true;
    let trace = run(&tracked);
    let (set_point, pv, op) = (
        trace.values(ColumnRole::SetPoint),
        trace.values(ColumnRole::ProcessVariable),
        trace.values(ColumnRole::Output),
    );
    assert_eq!(set_point[900], pv[900]);
    let back = 1050;
    assert!((op[back] - op[back - 1]).abs() < 0.2 && (set_point[1400] - set_point[back]).abs() < 1e-9);
}

#[test]
fn a_cascade_catches_what_comes_in_inside() {
    // On the heater the element's temperature stands between OP and PV.
    let description = heater(ControllerSpec::Manual, Vec::new()).plant.describe().unwrap();
    let inner = description.outputs.iter().map(|output| output.name.clone()).find(|name| name.contains("element"));
    let Some(signal) = inner else { panic!("{:?}", description.outputs) };
    let settings = CascadeSettings {
        outer: PidSettings::pi(2.0, 60.0),
        inner: PidSettings::pi(4.0, 10.0),
        signal,
        span: Span::new(0.0, 400.0, "°C"),
    };
    let load = vec![Event::load(200.0, -10.0)];
    let cascade = run(&heater(ControllerSpec::Cascade(Box::new(settings.clone())), load.clone()));
    let single = run(&heater(ControllerSpec::Pid(PidSettings::pi(1.0, 90.0)), load.clone()));
    assert!(error_of(&cascade) < 0.5 * error_of(&single), "{} {}", error_of(&cascade), error_of(&single));
    // The terms that are shown are those of the inner controller, which makes the output.
    let trial = heater(ControllerSpec::Cascade(Box::new(settings)), load);
    let shown = Simulation::with_balances(&trial).unwrap().run();
    let terms = ["proportional term", "integral term"].map(|name| of_tag(&shown, &format!("inner {name}")));
    let unlimited = of_tag(&shown, "inner unlimited output");
    assert!((0..shown.len()).all(|k| (terms[0][k] + terms[1][k] - unlimited[k]).abs() < 1e-9));
    // At rest it starts without a bump.
    assert!((cascade.values(ColumnRole::Output)[0] - cascade.values(ColumnRole::Output)[50]).abs() < 0.05);
}

#[test]
fn noise_moves_the_output_as_much_as_its_frequency_response_says() {
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 30.0, dead_time: 6.0 };
    let settings = PidSettings { derivative_time: 3.0, ..PidSettings::pi(1.4, 25.0) };
    let mut trial = trial(process, ControllerSpec::Pid(settings), Vec::new(), 100_000.0, 0.5);
    trial.plant.sensor.noise = 0.3;
    let expected = SampledLoop::of(&trial).unwrap().unwrap();
    let (output, a_move) = expected.noise_to_output(&trial.candidate.controller).unwrap().unwrap();
    let trace = run(&trial);
    let op = &trace.values(ColumnRole::Output)[2000..];
    let deviation = |values: &mut dyn Iterator<Item = f64>| {
        let (mut n, mut sum) = (0.0, 0.0);
        values.for_each(|value| (n, sum) = (n + 1.0, sum + value * value));
        (sum / n).sqrt() / 0.3
    };
    let mean = op.iter().sum::<f64>() / op.len() as f64;
    let (seen, seen_move) =
        (deviation(&mut op.iter().map(|u| u - mean)), deviation(&mut op.windows(2).map(|pair| pair[1] - pair[0])));
    // Two hundred thousand samples: a per cent or two.
    assert!(
        (seen / output - 1.0).abs() < 0.03 && (seen_move / a_move - 1.0).abs() < 0.03,
        "{seen} {output} {seen_move} {a_move}"
    );
}

#[test]
fn self_tuning_goes_to_manual_and_back_without_a_bump() {
    let there_and_back = vec![Event::ToManual { at: 800.0 }, Event::ToAutomatic { at: 1000.0 }];
    for keeps_learning in [false, true] {
        let settings = SelfTuningSettings { keeps_learning, ..self_tuning() };
        let quiet = trial(LONG, ControllerSpec::SelfTuning(settings.clone()), vec![], 1600.0, 1.0);
        let switched = trial(LONG, ControllerSpec::SelfTuning(settings.clone()), there_and_back.clone(), 1600.0, 1.0);
        let (quiet, switched) = (run(&quiet), run(&switched));
        // Nothing disturbs it: it goes on as if nobody had switched, within what the rest of the learning left over.
        let from = 800;
        for tag in ["L.OP", "L.PV"] {
            let (a, b) = (of_tag(&quiet, tag), of_tag(&switched, tag));
            let apart = (from..a.len()).map(|k| (a[k] - b[k]).abs()).fold(0.0, f64::max);
            assert!(apart < 0.05, "{tag} goes {apart} apart, keeps learning: {keeps_learning}");
        }
    }
    // With the output moved by hand meanwhile it begins from there, and comes back to the set point.
    let moved = vec![
        Event::ToManual { at: 800.0 },
        Event::OutputStep { at: 820.0, by: 2.0 },
        Event::ToAutomatic { at: 1100.0 },
    ];
    let trace = run(&trial(LONG, ControllerSpec::SelfTuning(self_tuning()), moved, 2400.0, 1.0));
    let (op, pv) = (of_tag(&trace, "L.OP"), of_tag(&trace, "L.PV"));
    let step = (op[1101] - op[1099]).abs();
    // One scan of integral action on the error of 10 % that the hand made; the proportional part would be five times as much.
    assert!(step < 0.45, "the output jumps by {step} on going to automatic");
    assert!((pv.last().unwrap() - 50.0).abs() < 0.3, "{}", pv.last().unwrap());
}

#[test]
fn of_several_gain_crossovers_the_phase_margin_is_the_least_lag_that_any_bears() {
    // By NumPy from the difference equations: crossovers at 0.0113, 0.0661 and 0.0789 rad/s bear 69.41°, 294.98° and 188.56°.
    let model = LinearSpec::Fopdt { gain: 5.0, time_constant: 5.0, dead_time: 72.0 };
    let margins = trial_margins(&trial(LONG, smith(model, 0.05, 5.0), vec![], 100.0, 1.0)).unwrap().unwrap();
    assert!(margins.stable);
    let phase = margins.phase_margin.unwrap();
    assert!((phase - 69.41).abs() < 0.05, "{phase}");
}

#[test]
fn a_set_point_step_at_the_very_start_is_a_step() {
    let process = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 4.0 };
    let with = |at: f64| {
        let trial = trial(
            process.clone(),
            ControllerSpec::Pid(PidSettings::pi(2.0, 20.0)),
            vec![Event::set_point(at, 5.0)],
            400.0 + at,
            1.0,
        );
        antistasis_core::assessment::assess(&trial, &run(&trial)).unwrap().metrics.set_point_responses
    };
    let (early, late) = (with(0.0), with(50.0));
    assert_eq!((early.len(), late.len()), (1, 1));
    assert!(
        (early[0].step - 5.0).abs() < 1e-12 && (early[0].overshoot_percent - late[0].overshoot_percent).abs() < 1e-6
    );
    let rise = |response: &antistasis_core::assessment::SetPointResponse| response.rise_time.unwrap();
    assert!((rise(&early[0]) - rise(&late[0])).abs() < 1e-6);
}

#[test]
fn a_sensor_that_is_fast_beyond_measure_changes_no_margin() {
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 3.0 };
    let with = |lag: f64, damping: Option<f64>| {
        let mut trial = trial(process.clone(), ControllerSpec::Pid(PidSettings::pi(1.5, 20.0)), vec![], 100.0, 0.5);
        (trial.plant.sensor.time_constant, trial.plant.sensor.damping) = (lag, damping);
        trial_margins(&trial).unwrap().unwrap()
    };
    let bare = with(0.0, None).max_sensitivity.unwrap();
    for damping in [None, Some(0.7)] {
        for exponent in [-300, -200, -100, -20, -12, -9, -7, -6, -5, -4] {
            let margins = with(10f64.powi(exponent), damping);
            let sensitivity = margins.max_sensitivity.unwrap_or(f64::NAN);
            assert!((sensitivity / bare - 1.0).abs() < 1e-3, "1e{exponent} {damping:?}: {margins:?}");
        }
    }
}

#[test]
fn the_terms_that_are_shown_add_up_to_the_output_before_its_limits() {
    let process = LinearSpec::TwoLags {
        gain: 1.0,
        time_constant_1: 30.0,
        time_constant_2: 5.0,
        lead_time_constant: 0.0,
        dead_time: 2.0,
    };
    let pid = PidSettings { derivative_time: 3.0, set_point_weight: 0.6, ..PidSettings::pi(2.0, 25.0) };
    let velocity = PidSettings { algorithm: Algorithm::Velocity, ..pid.clone() };
    for controller in [
        ControllerSpec::Pid(pid.clone()),
        ControllerSpec::Pid(velocity),
        ControllerSpec::Pid(PidSettings { anti_windup: AntiWindup::Clamping, ..pid.clone() }),
        smith(LinearSpec::Fopdt { gain: 1.0, time_constant: 32.0, dead_time: 5.0 }, 2.0, 30.0),
    ] {
        let events = vec![Event::set_point(20.0, 10.0), Event::load(150.0, -30.0)];
        let trial = trial(process.clone(), controller.clone(), events, 300.0, 1.0);
        let trace = Simulation::with_balances(&trial).unwrap().run();
        let terms: Vec<&Vec<f64>> = trace
            .columns
            .iter()
            .filter(|column| column.role == ColumnRole::ControllerTerm && !column.tag.contains("unlimited"))
            .map(|column| &column.values)
            .collect();
        let unlimited = trace.columns.iter().find(|column| column.tag.contains("unlimited")).unwrap();
        assert!(terms.len() >= 2, "{controller:?}");
        for k in 0..trace.len() {
            let sum: f64 = terms.iter().map(|term| term[k]).sum();
            assert!((sum - unlimited.values[k]).abs() < 1e-9, "{controller:?} row {k}: {sum} {}", unlimited.values[k]);
        }
    }
}

#[test]
fn a_reactor_that_runs_away_says_that_the_gain_is_too_low_to_hold_it() {
    // The middle steady state of the stirred reactor is unstable (Seborg, Edgar & Mellichamp's reactor, at 350 K).
    let mut plant = Plant::usual(ProcessSpec::library("stirred_reactor", &[]), "R").unwrap();
    plant.operating_point.pv = 76.85;
    let with = |gain: f64| {
        let pid = PidSettings { integral_time: None, ..PidSettings::pi(gain, 1.0) };
        let trial = Trial {
            version: TRIAL_VERSION,
            plant: plant.clone(),
            candidate: Candidate::new(ControllerSpec::Pid(pid)),
            scenario: Scenario { duration: 600.0, scan: 1.0, seed: 1, events: vec![], further: Default::default() },
        };
        (trial_margins(&trial).unwrap().unwrap(), antistasis_core::assessment::assess(&trial, &run(&trial)).unwrap())
    };
    let gains = [0.02, 0.1, 0.5, 1.0, 2.0, 5.0, 10.0];
    let found: Vec<_> = gains.iter().map(|gain| (*gain, with(*gain).0)).collect();
    let held = found.iter().find(|(_, margins)| margins.stable).unwrap_or_else(|| panic!("{found:?}"));
    let lower = held.1.lower_gain_margin.unwrap();
    assert!(lower < 1.0, "{held:?}");
    // A little below the limit it is lost, and the verdict says what would hold it.
    let (margins, assessment) = with(0.8 * lower * held.0);
    assert!(!margins.stable && margins.needs_gain.is_some_and(|factor| factor >= 1.25), "{margins:?}");
    assert!(assessment.verdicts.iter().any(|verdict| verdict.text.contains("the gain is too low to hold it")));
    assert!(with(1.05 * lower * held.0).0.stable);
}
