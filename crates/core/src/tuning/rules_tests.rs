//! Every rule against its published formula or a worked example.

use super::*;
use crate::controller::{Action, ControllerSpec, PidSettings, RelaySettings};
use crate::process::LinearSpec;
use crate::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use crate::units::Span;
use proptest::prelude::*;

const FOPDT: LinearSpec = LinearSpec::Fopdt { gain: 1.25, time_constant: 10.0, dead_time: 4.0 };

fn span() -> Span {
    Span::new(0.0, 100.0, "%")
}

fn settings(process: &LinearSpec, rule: Rule, choice: RuleChoice) -> (f64, f64, f64) {
    let controller = tune_by_rule(process, &span(), rule, &choice).unwrap().controller;
    (controller.gain, controller.integral_time.unwrap_or(f64::INFINITY), controller.derivative_time)
}

fn with(terms: Terms) -> RuleChoice {
    RuleChoice { terms, ..RuleChoice::default() }
}

fn near(found: (f64, f64, f64), expected: (f64, f64, f64), tolerance: f64) {
    for (a, b) in [(found.0, expected.0), (found.1, expected.1), (found.2, expected.2)] {
        assert!(a == b || (a - b).abs() <= tolerance * b.abs(), "{found:?} is not {expected:?}");
    }
}

#[test]
fn ziegler_nichols_from_the_ultimate_point() {
    // Seborg, Edgar & Mellichamp, Process Dynamics and Control, example 12.8 of the second edition (from memory): G =
    // 2 exp(−s)/(5s + 1) has Ku = 4.25 and Pu = 3.7.
    let process = LinearSpec::Fopdt { gain: 2.0, time_constant: 5.0, dead_time: 1.0 };
    let point = ultimate_point(&process).unwrap();
    let omega = 2.0 * std::f64::consts::PI / point.period;
    // −ωθ − atan(ωτ) = −π and Ku = √(1 + (ωτ)²)/K (exact mathematics).
    assert!((omega + (5.0 * omega).atan() - std::f64::consts::PI).abs() < 1e-9);
    assert!((point.gain - (1.0 + 25.0 * omega * omega).sqrt() / 2.0).abs() < 1e-9);
    assert!((point.gain - 4.25).abs() < 0.01 && (point.period - 3.7).abs() < 0.03, "{point:?}");
    let (ku, tu) = (point.gain, point.period);
    let rule = Rule::ZieglerNicholsUltimate;
    near(settings(&process, rule, with(Terms::P)), (0.5 * ku, f64::INFINITY, 0.0), 1e-12);
    near(settings(&process, rule, with(Terms::Pi)), (0.45 * ku, tu / 1.2, 0.0), 1e-12);
    near(settings(&process, rule, with(Terms::Pid)), (0.6 * ku, tu / 2.0, tu / 8.0), 1e-12);
    // The same example's Tyreus–Luyben settings: Kc = 0.31 Ku = 1.33 at 2.2 Pu = 8.14 (from memory).
    near(settings(&process, Rule::TyreusLuyben, with(Terms::Pi)), (ku / 3.2, 2.2 * tu, 0.0), 1e-12);
    near(settings(&process, Rule::TyreusLuyben, with(Terms::Pid)), (ku / 2.2, 2.2 * tu, tu / 6.3), 1e-12);
}

#[test]
fn rules_from_the_reaction_curve() {
    // Published tables with K = 1.25, τ = 10, θ = 4, worked by hand: r = 0.4, a = Kr = 0.5.
    let zn = Rule::ZieglerNicholsReaction;
    near(settings(&FOPDT, zn, with(Terms::P)), (2.0, f64::INFINITY, 0.0), 1e-12);
    near(settings(&FOPDT, zn, with(Terms::Pi)), (1.8, 13.333_333, 0.0), 1e-6);
    near(settings(&FOPDT, zn, with(Terms::Pid)), (2.4, 8.0, 2.0), 1e-12);
    // Cohen–Coon PI: (1/(K r))(0.9 + r/12) = 1.866667, θ(30 + 3r)/(9 + 20r) = 4·31.2/17; PID 2.866667, 4·34.4/16.2, 16/11.8.
    near(settings(&FOPDT, Rule::CohenCoon, with(Terms::P)), (2.266_666_7, f64::INFINITY, 0.0), 1e-7);
    near(settings(&FOPDT, Rule::CohenCoon, with(Terms::Pi)), (1.866_666_7, 7.341_176_5, 0.0), 1e-7);
    near(settings(&FOPDT, Rule::CohenCoon, with(Terms::Pid)), (2.866_666_7, 8.493_827_2, 1.355_932_2), 1e-7);
    let chr = |terms, aim, overshoot| {
        settings(&FOPDT, Rule::ChienHronesReswick, RuleChoice { terms, aim, overshoot, ..RuleChoice::default() })
    };
    near(chr(Terms::Pi, Aim::SetPoint, false), (0.7, 12.0, 0.0), 1e-12);
    near(chr(Terms::Pid, Aim::SetPoint, true), (1.9, 14.0, 1.88), 1e-12);
    near(chr(Terms::Pi, Aim::Load, false), (1.2, 16.0, 0.0), 1e-12);
    near(chr(Terms::Pid, Aim::Load, true), (2.4, 8.0, 1.68), 1e-12);
}

#[test]
fn rules_for_the_integral_of_time_and_error() {
    // Seborg, Edgar & Mellichamp, example 12.3: G = 10 exp(−s)/(2s + 1); load: Kc = 0.169, Ti = 1.85; set point: Kc = 0.112,
    // Ti = 2.11 (worked from the relations: 0.1·0.859·0.5^−0.977 and so on).
    let process = LinearSpec::Fopdt { gain: 10.0, time_constant: 2.0, dead_time: 1.0 };
    let rule = Rule::TimeAbsoluteError;
    near(settings(&process, rule, with(Terms::Pi)), (0.169, 1.85, 0.0), 5e-3);
    let follow = |terms| RuleChoice { aim: Aim::SetPoint, ..with(terms) };
    near(settings(&process, rule, follow(Terms::Pi)), (0.1106, 2.11, 0.0), 5e-3);
    let (gain, integral, derivative) = settings(&process, rule, with(Terms::Pid));
    near((gain, integral, derivative), (0.2616, 1.424, 0.3823), 2e-3);
}

#[test]
fn rules_with_a_closed_loop_time_constant() {
    let chosen = |terms, tc| RuleChoice { closed_loop_time_constant: Some(tc), ..with(terms) };
    let rule = Rule::InternalModel;
    // Seborg, Edgar & Mellichamp, table 12.1, rows G, H, I, M, N.
    near(settings(&FOPDT, rule, chosen(Terms::Pi, 6.0)), (0.8, 10.0, 0.0), 1e-12);
    near(settings(&FOPDT, rule, chosen(Terms::Pid, 6.0)), (12.0 / (1.25 * 8.0), 12.0, 40.0 / 24.0), 1e-12);
    let integrating = LinearSpec::Integrating { gain: 0.05, dead_time: 4.0 };
    near(settings(&integrating, rule, chosen(Terms::Pi, 6.0)), (16.0 / (0.05 * 100.0), 16.0, 0.0), 1e-12);
    near(settings(&integrating, rule, chosen(Terms::Pid, 6.0)), (16.0 / (0.05 * 64.0), 16.0, 28.0 / 16.0), 1e-12);
    let two = LinearSpec::TwoLags {
        gain: 1.25,
        time_constant_1: 10.0,
        time_constant_2: 5.0,
        lead_time_constant: 0.0,
        dead_time: 4.0,
    };
    near(settings(&two, rule, chosen(Terms::Pid, 6.0)), (15.0 / 12.5, 15.0, 50.0 / 15.0), 1e-12);
    // SIMC, series (Skogestad 2003, equations 23 to 25): Kc' = 10/(1.25·8) = 1, Ti' = min(10, 32), Td' = 5.
    near(settings(&two, Rule::Simc, with(Terms::Pid)), (1.5, 15.0, 10.0 / 3.0), 1e-12);
    near(settings(&FOPDT, Rule::Simc, with(Terms::Pi)), (1.0, 10.0, 0.0), 1e-12);
    let lagging = LinearSpec::IntegratingLag { gain: 0.05, time_constant: 3.0, dead_time: 4.0 };
    near(
        settings(&lagging, Rule::Simc, with(Terms::Pid)),
        (2.5 * (1.0 + 3.0 / 32.0), 35.0, 3.0 / (1.0 + 3.0 / 32.0)),
        1e-12,
    );
}

#[test]
fn amigo_is_its_formulas() {
    // Åström & Hägglund 2004, equations for PI and PID, by hand for K = 1.25, τ = 10, θ = 4: PI gain (0.15 + (0.35 −
    // 40/196)·2.5)/1.25 = 0.4118367, Ti = 1.4 + 5200/692 = 8.914451; PID (0.2 + 1.125)/1.25 = 1.06, 4·9.6/5, 20/11.2.
    near(settings(&FOPDT, Rule::Amigo, with(Terms::Pi)), (0.411_836_7, 8.914_450_9, 0.0), 1e-7);
    near(settings(&FOPDT, Rule::Amigo, with(Terms::Pid)), (1.06, 7.68, 20.0 / 11.2), 1e-12);
    let integrating = LinearSpec::Integrating { gain: 0.05, dead_time: 4.0 };
    near(settings(&integrating, Rule::Amigo, with(Terms::Pi)), (1.75, 53.6, 0.0), 1e-12);
    assert_eq!(tune_by_rule(&FOPDT, &span(), Rule::Amigo, &with(Terms::Pi)).unwrap().controller.set_point_weight, 0.0);
}

#[test]
fn averaging_uses_the_swing_that_is_allowed() {
    let process = LinearSpec::Integrating { gain: -0.02, dead_time: 0.0 };
    let choice = RuleChoice { expected_load: Some(15.0), allowed_swing: Some(10.0), ..with(Terms::Pi) };
    let tuning = tune_by_rule(&process, &span(), Rule::AveragingLevel, &choice).unwrap();
    assert_eq!(tuning.controller.action, Action::Direct);
    let trial = trial(process, ControllerSpec::Pid(tuning.controller), vec![Event::load(10.0, 15.0)], 4000.0, 0.5);
    let metrics = crate::assessment::metrics(&trial.run().unwrap(), 1.0);
    let peak = metrics.loads.unwrap().max_deviation;
    assert!((peak - 10.0).abs() < 0.1, "swings by {peak}");
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

#[test]
fn a_relay_finds_the_ultimate_point_and_with_a_bias_the_gain() {
    let point = ultimate_point(&FOPDT).unwrap();
    let off = |a: f64, b: f64| (a / b - 1.0).abs();
    for (hysteresis, bias, by_sine) in [(0.0, 0.0, 0.17), (0.5, 0.0, 0.28), (0.2, 1.0, 0.25)] {
        let relay = RelaySettings { amplitude: 5.0, hysteresis, bias, action: Action::Reverse };
        let trial = trial(FOPDT, ControllerSpec::Relay(relay), Vec::new(), 300.0, 0.05);
        let reading = read_relay(&trial, &trial.run().unwrap()).unwrap();
        // What is identified has the ultimate point of the process; the describing function is an approximation.
        assert!(off(reading.ultimate_gain, point.gain) < 0.01, "{reading:?} {point:?}");
        assert!(off(reading.ultimate_period, point.period) < 0.01, "{reading:?} {point:?}");
        assert!(off(reading.describing_function_gain, point.gain) < by_sine, "{reading:?} {point:?}");
        assert_eq!(reading.static_gain.is_some(), bias != 0.0);
        if hysteresis == 0.0 && bias == 0.0 {
            // The limit cycle itself: amplitude K d (1 − e^(−θ/τ)), period 2τ ln(2 e^(θ/τ) − 1) (exact mathematics, solving
            // the lag between two switchings); the scan adds at most itself to the dead time.
            assert!(off(reading.amplitude, 1.25 * 5.0 * (1.0 - (-0.4f64).exp())) < 0.02, "{reading:?}");
            assert!(off(reading.cycle_period, 20.0 * (2.0 * 0.4f64.exp() - 1.0).ln()) < 0.02, "{reading:?}");
        }
        if let Some(gain) = reading.static_gain {
            // The means over a whole period of a limit cycle are exact for a linear process.
            assert!(off(gain, 1.25) < 0.01, "{gain}");
        }
    }
    let none = RelaySettings { amplitude: 0.1, hysteresis: 10.0, bias: 0.0, action: Action::Reverse };
    let trial = trial(FOPDT, ControllerSpec::Relay(none), Vec::new(), 300.0, 1.0);
    let error = read_relay(&trial, &trial.run().unwrap()).unwrap_err().to_string();
    assert!(error.contains("switched up 0 times"), "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// From a relay's swing comes the ultimate point of the process whatever its ratio of dead time and lags, where the
    /// describing function is up to a fifth off.
    #[test]
    fn a_relay_finds_the_ultimate_point_of_lags_with_dead_time(
        ratio in 0.1..3.0f64, second in 0.0..0.5f64, gain in 0.3..3.0f64, hysteresis in 0.0..0.3f64,
    ) {
        let (lag, dead_time) = (10.0, 10.0 * ratio);
        let process = if second < 0.1 {
            LinearSpec::Fopdt { gain, time_constant: lag, dead_time }
        } else {
            LinearSpec::TwoLags { gain, time_constant_1: lag, time_constant_2: second * lag, lead_time_constant: 0.0, dead_time }
        };
        let point = ultimate_point(&process).unwrap();
        let relay = RelaySettings { amplitude: 5.0, hysteresis, bias: 0.0, action: Action::Reverse };
        let trial = trial(process, ControllerSpec::Relay(relay), Vec::new(), 12.0 * point.period, 0.002 * point.period);
        let reading = read_relay(&trial, &trial.run().unwrap()).unwrap();
        prop_assert!((reading.ultimate_gain / point.gain - 1.0).abs() < 0.015, "{:?} {:?}", reading, point);
        prop_assert!((reading.ultimate_period / point.period - 1.0).abs() < 0.015, "{:?} {:?}", reading, point);
    }
}

#[test]
fn a_rule_says_where_it_does_not_hold() {
    let long = LinearSpec::Fopdt { gain: 5.0, time_constant: 5.0, dead_time: 60.0 };
    let tuning = tune_by_rule(&long, &span(), Rule::CohenCoon, &with(Terms::Pi)).unwrap();
    assert!(tuning.warnings[0].text.contains("θ/τ is 12"), "{:?}", tuning.warnings);
    let refused =
        |process: &LinearSpec, rule, terms| tune_by_rule(process, &span(), rule, &with(terms)).unwrap_err().to_string();
    assert!(refused(&FOPDT, Rule::AveragingLevel, Terms::Pi).contains("levels, which integrate"));
    let prompt = LinearSpec::Fopdt { gain: 1.0, time_constant: 5.0, dead_time: 0.0 };
    assert!(refused(&prompt, Rule::ZieglerNicholsUltimate, Terms::Pi).contains("never lags by 180°"));
    assert!(refused(&prompt, Rule::Amigo, Terms::Pi).contains("no dead time"));
    let level = LinearSpec::Integrating { gain: 0.1, dead_time: 1.0 };
    assert!(refused(&level, Rule::CohenCoon, Terms::Pi).contains("settle by themselves"));
}

#[test]
fn all_rules_agree_about_units() {
    // The same process in other units on another span has the same settings.
    let (narrow, wide) = (Span::new(0.0, 100.0, "%"), Span::new(-50.0, 200.0, "°C"));
    let other = LinearSpec::Fopdt { gain: 1.25 * 2.5, time_constant: 10.0, dead_time: 4.0 };
    for rule in Rule::ALL {
        let (Ok(a), Ok(b)) = (
            tune_by_rule(&FOPDT, &narrow, rule, &RuleChoice::default()),
            tune_by_rule(&other, &wide, rule, &RuleChoice::default()),
        ) else {
            assert_eq!(rule, Rule::AveragingLevel);
            continue;
        };
        let close = |x: &PidSettings, y: &PidSettings| (x.gain / y.gain - 1.0).abs() < 1e-9;
        assert!(close(&a.controller, &b.controller), "{rule:?}");
    }
}

#[test]
fn a_measured_ultimate_point_takes_the_place_of_the_models() {
    let measured = super::ultimate::UltimatePoint { gain: 4.0, period: 30.0 };
    let choice = RuleChoice { measured_point: Some(measured), ..with(Terms::Pi) };
    let found = tune_by_rule(&FOPDT, &Span::new(0.0, 100.0, "%"), Rule::ZieglerNicholsUltimate, &choice).unwrap();
    // Ziegler & Nichols 1942: 0.45 Ku and Pu/1.2, by hand.
    assert!((found.to_type_in.gain - 1.8).abs() < 1e-9 && found.to_type_in.integral_time == Some(25.0), "{found:?}");
    assert!(found.derivation.iter().any(|line| line.contains("of the relay experiment")));
    let none = RuleChoice {
        measured_point: Some(super::ultimate::UltimatePoint { gain: -1.0, ..measured }),
        ..with(Terms::Pi)
    };
    assert!(tune_by_rule(&FOPDT, &Span::new(0.0, 100.0, "%"), Rule::TyreusLuyben, &none).is_err());
}
