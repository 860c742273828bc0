//! What must not depend on the units, the clock or the sign that somebody chose: the same loop twice as slow, measured in other units,
//! or with its valve turned round is the same loop. Laws of similarity, nothing published is needed for them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::assessment::trial_margins;
use antistasis_core::controller::{Action, ControllerSpec, PidSettings};
use antistasis_core::identification::{
    DataSet, FitOptions, Model, Series, Structure, fit, read_by_hand, suggested_marks,
};
use antistasis_core::process::LinearSpec;
use antistasis_core::series::TimeAxis;
use antistasis_core::simulation::{
    Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::tuning::{Rule, RuleChoice, Terms, tune_by_rule};
use antistasis_core::units::Span;
use proptest::prelude::*;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// A first-order loop under a PID, a set point step and a load.
#[derive(Debug, Clone)]
struct Loop {
    gain: f64,
    time_constant: f64,
    dead_time: f64,
    pid: PidSettings,
    scan: f64,
    span: [f64; 2],
}

impl Loop {
    fn process(&self) -> LinearSpec {
        LinearSpec::Fopdt { gain: self.gain, time_constant: self.time_constant, dead_time: self.dead_time }
    }

    fn trial(&self) -> Trial {
        let signal = |tag: &str, span: Span| Signal { tag: tag.into(), span };
        let [low, high] = self.span;
        let middle = 0.5 * (low + high);
        let plant = Plant::plain(
            self.process(),
            signal("T.PV", Span::new(low, high, "°C")),
            signal("T.OP", Span::new(0.0, 100.0, "%")),
            OperatingPoint::new(middle, 50.0),
        );
        let step = 0.02 * (high - low);
        let events = vec![Event::set_point(4.0 * self.scan, step), Event::load(200.0 * self.scan, 3.0)];
        Trial {
            version: TRIAL_VERSION,
            plant,
            candidate: Candidate::new(ControllerSpec::Pid(self.pid.clone())),
            scenario: Scenario {
                duration: 400.0 * self.scan,
                scan: self.scan,
                seed: 1,
                events,
                further: Default::default(),
            },
        }
    }

    /// Everything that lasts, longer by a factor.
    fn slower(&self, factor: f64) -> Self {
        Self {
            time_constant: self.time_constant * factor,
            dead_time: self.dead_time * factor,
            scan: self.scan * factor,
            pid: PidSettings {
                integral_time: self.pid.integral_time.map(|time| time * factor),
                derivative_time: self.pid.derivative_time * factor,
                ..self.pid.clone()
            },
            ..self.clone()
        }
    }

    /// The PV in units that are so many times smaller, from another zero; the settings are in % of span and stay.
    fn in_units(&self, factor: f64, zero: f64) -> Self {
        Self { gain: self.gain * factor, span: self.span.map(|end| zero + factor * end), ..self.clone() }
    }

    /// The valve turned round.
    fn reversed(&self) -> Self {
        let action = match self.pid.action {
            Action::Direct => Action::Reverse,
            Action::Reverse => Action::Direct,
        };
        Self { gain: -self.gain, pid: PidSettings { action, ..self.pid.clone() }, ..self.clone() }
    }
}

fn column<'a>(trace: &'a Trace, tag: &str) -> &'a [f64] {
    &trace.columns.iter().find(|column| column.tag == tag).unwrap_or_else(|| panic!("no {tag}")).values
}

fn loops() -> impl Strategy<Value = Loop> {
    (0.3..3.0_f64, 0.05..1.5_f64, 0.1..0.5_f64, 0.0..0.25_f64, 0.02..0.2_f64).prop_map(
        |(gain, ratio, strength, derivative, scan)| {
            let (time_constant, dead_time) = (20.0, 20.0 * ratio);
            let pid = PidSettings {
                // Of a PV span of 100: stable with room to spare (half and less of SIMC's gain).
                derivative_time: derivative * dead_time.min(10.0),
                ..PidSettings::pi(strength * time_constant / (gain * (dead_time + 1.0)), time_constant)
            };
            Loop { gain, time_constant, dead_time, pid, scan: 20.0 * scan, span: [0.0, 100.0] }
        },
    )
}

fn close(a: &[f64], b: &[f64], tolerance: f64) -> Result<(), TestCaseError> {
    prop_assert_eq!(a.len(), b.len());
    for (k, (a, b)) in a.iter().zip(b).enumerate() {
        prop_assert!((a - b).abs() <= tolerance * (1.0 + a.abs()), "{k}: {a} {b}");
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn a_loop_twice_as_slow_is_the_same_loop_on_a_slower_clock(own in loops(), factor in 0.01..300.0_f64) {
        let (trace, slow) = (own.trial().run().unwrap(), own.slower(factor).trial().run().unwrap());
        for tag in ["T.PV", "T.OP"] {
            close(column(&trace, tag), column(&slow, tag), 1e-6)?;
        }
        let [fast, slow] = [own.clone(), own.slower(factor)].map(|of| trial_margins(&of.trial()).unwrap().unwrap());
        prop_assert_eq!(fast.stable, slow.stable);
        for (a, b, scale) in [
            (fast.gain_margin, slow.gain_margin, 1.0),
            (fast.phase_margin, slow.phase_margin, 1.0),
            (fast.max_sensitivity, slow.max_sensitivity, 1.0),
            (fast.delay_margin, slow.delay_margin, factor),
        ] {
            if let (Some(a), Some(b)) = (a, b) {
                prop_assert!((b / (a * scale) - 1.0).abs() < 1e-3, "{a} {b}");
            }
        }
    }

    #[test]
    fn units_and_zero_of_the_pv_are_a_matter_of_words(own in loops(), factor in 0.001..1000.0_f64, zero in -500.0..500.0_f64) {
        let other = own.in_units(factor, zero);
        let (trace, told) = (own.trial().run().unwrap(), other.trial().run().unwrap());
        let back: Vec<f64> = column(&told, "T.PV").iter().map(|value| (value - zero) / factor).collect();
        close(column(&trace, "T.PV"), &back, 1e-6 * (1.0 + zero.abs() / factor))?;
        close(column(&trace, "T.OP"), column(&told, "T.OP"), 1e-6 * (1.0 + zero.abs() / factor))?;
        let [a, b] = [&own, &other].map(|of| trial_margins(&of.trial()).unwrap().unwrap());
        prop_assert_eq!(a.stable, b.stable);
        if let (Some(a), Some(b)) = (a.max_sensitivity, b.max_sensitivity) {
            prop_assert!((a / b - 1.0).abs() < 1e-6, "{a} {b}");
        }
    }

    #[test]
    fn a_valve_turned_round_moves_the_other_way_and_nothing_else_changes(own in loops()) {
        let mut reversed = own.reversed().trial();
        // The load comes in at the valve: it is turned, too.
        for event in &mut reversed.scenario.events {
            if let Event::LoadStep { by, .. } = event {
                *by = -*by;
            }
        }
        let (trace, other) = (own.trial().run().unwrap(), reversed.run().unwrap());
        close(column(&trace, "T.PV"), column(&other, "T.PV"), 1e-9)?;
        let mirrored: Vec<f64> = column(&other, "T.OP").iter().map(|value| 100.0 - value).collect();
        close(column(&trace, "T.OP"), &mirrored, 1e-9)?;
    }

    /// The gain margin is a factor, the delay margin a time: with them the loop stands where it begins to swing.
    #[test]
    fn what_a_loop_bears_is_gone_when_it_was_taken(own in loops()) {
        let margins = |of: &Loop, extra: f64| {
            let late = Loop { dead_time: of.dead_time + extra, ..of.clone() };
            trial_margins(&late.trial()).unwrap().unwrap()
        };
        let found = margins(&own, 0.0);
        prop_assert!(found.stable);
        let factor = found.gain_margin.unwrap();
        for (share, stable) in [(0.98, true), (1.02, false)] {
            let with = Loop { pid: PidSettings { gain: own.pid.gain * (1.0 + (factor - 1.0) * share), ..own.pid.clone() }, ..own.clone() };
            prop_assert_eq!(margins(&with, 0.0).stable, stable, "{} of the gain margin {}", share, factor);
        }
        if let Some(delay) = found.delay_margin {
            for (share, stable) in [(0.95, true), (1.05, false)] {
                prop_assert_eq!(margins(&own, delay * share).stable, stable, "{} of the delay margin {}", share, delay);
            }
        }
    }

    /// K, τ and θ stand in a rule as K, τ and θ/τ: gain times K, and times over τ, are functions of θ/τ alone.
    #[test]
    fn rules_know_shapes_and_no_clocks(ratio in 0.1..1.2_f64, gain in 0.1..10.0_f64, factor in 0.01..200.0_f64) {
        let span = Span::new(0.0, 100.0, "°C");
        let process = |gain: f64, scale: f64| LinearSpec::Fopdt { gain, time_constant: 10.0 * scale, dead_time: 10.0 * ratio * scale };
        for rule in Rule::ALL {
            for terms in [Terms::Pi, Terms::Pid] {
                let choice = RuleChoice { terms, ..RuleChoice::default() };
                let found = |process: &LinearSpec| tune_by_rule(process, &span, rule, &choice).map(|found| found.controller);
                let (Ok(one), Ok(other)) = (found(&process(1.0, 1.0)), found(&process(gain, factor))) else {
                    prop_assert!(found(&process(1.0, 1.0)).is_err() == found(&process(gain, factor)).is_err(), "{rule:?}");
                    continue;
                };
                prop_assert!((other.gain * gain / one.gain - 1.0).abs() < 1e-6, "{rule:?} {terms:?}: {} {}", one.gain, other.gain);
                if let (Some(a), Some(b)) = (one.integral_time, other.integral_time) {
                    prop_assert!((b / (a * factor) - 1.0).abs() < 1e-6, "{rule:?} {terms:?}: {a} {b}");
                }
                let (a, b) = (one.derivative_time, other.derivative_time);
                prop_assert!((b - a * factor).abs() <= 1e-6 * (a * factor).abs(), "{rule:?} {terms:?}: {a} {b}");
                // Turned round, the action changes and the settings stay.
                let turned = found(&process(-gain, factor)).unwrap();
                prop_assert!(turned.action != other.action && (turned.gain / other.gain - 1.0).abs() < 1e-9, "{rule:?}");
            }
        }
    }
}

/// A noisy record of moves up and down, and what a fit must find again.
fn record(structure: &Structure, seed: u64, clock: f64, scale: f64, zero: f64) -> DataSet {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let axis = TimeAxis::uniform(clock, 500).unwrap();
    let input: Vec<f64> = (0..500).map(|k| if k / 61 % 2 == 1 { 55.0 } else { 45.0 }).collect();
    let (mut first, mut second, mut sum) = (0.0_f64, 0.0_f64, 0.0_f64);
    let output = (0..500)
        .map(|k| {
            let u = if k >= 7 { input[k - 7] - 45.0 } else { 0.0 };
            let a = (-1.0_f64 / 18.0).exp();
            first = a * first + (1.0 - a) * 1.6 * u;
            let b = (-1.0_f64 / 6.0).exp();
            second = b * second + (1.0 - b) * first;
            sum += 0.01 * u;
            let noise: f64 = StandardNormal.sample(&mut generator);
            let clean = match structure {
                Structure::Fopdt => first,
                Structure::Integrating | Structure::IntegratingLag => sum,
                _ => second,
            };
            zero + scale * (clean + 0.05 * noise)
        })
        .collect();
    DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output))
}

/// How a parameter changes with the unit of the PV and with the clock.
fn scaled(structure: &Structure, name: &str, value: f64, scale: f64, clock: f64) -> f64 {
    match name {
        // An integrating process has a gain a second.
        "gain" if matches!(structure, Structure::Integrating | Structure::IntegratingLag) => value * scale / clock,
        "gain" => value * scale,
        "dead_time" | "lead" => value * clock,
        name if name.starts_with("time_constant") || name.starts_with("lag") => value * clock,
        _ => value,
    }
}

fn compare(structure: &Structure, own: &Model, other: &Model, scale: f64, clock: f64) {
    assert_eq!(own.parameters.len(), other.parameters.len());
    for (a, b) in own.parameters.iter().zip(&other.parameters) {
        assert_eq!(a.name, b.name);
        let wanted = scaled(structure, &a.name, a.value, scale, clock);
        assert!((b.value - wanted).abs() <= 2e-3 * wanted.abs(), "{structure:?} {}: {} for {wanted}", a.name, b.value);
        if let (Some(a_error), Some(b_error)) = (a.standard_error, b.standard_error) {
            let wanted = scaled(structure, &a.name, a_error, scale, clock).abs();
            // Errors allow for the memory of the residuals, whose order is chosen by a hair, and the response has a kink where the
            // dead time falls on a sample, as it does here.
            assert!((b_error - wanted).abs() <= 0.25 * wanted, "{structure:?} {}: ± {b_error} for {wanted}", a.name);
        }
    }
    let (a, b) = (own.estimation.fit_simulated, other.estimation.fit_simulated);
    assert!((a - b).abs() < 1e-2, "{structure:?}: fit {a} {b}");
}

#[test]
fn a_fit_knows_neither_unit_nor_zero_nor_clock() {
    for structure in [Structure::Fopdt, Structure::TwoLags, Structure::Integrating, Structure::IntegratingLag] {
        let options = FitOptions::new(structure);
        let own = fit(&record(&structure, 5, 1.0, 1.0, 0.0), &options).unwrap();
        for (clock, scale, zero) in [(1.0, 1.8, 32.0), (1.0, 1.0, 273.15), (60.0, 1.0, 0.0), (0.02, -250.0, 4000.0)] {
            let other = fit(&record(&structure, 5, clock, scale, zero), &options).unwrap();
            compare(&structure, &own, &other, scale, clock);
        }
    }
}

#[test]
fn reading_by_hand_knows_neither_unit_nor_clock() {
    let step = |clock: f64, scale: f64, zero: f64| {
        let axis = TimeAxis::uniform(clock, 300).unwrap();
        let input: Vec<f64> = (0..300).map(|k| if k < 30 { 40.0 } else { 48.0 }).collect();
        let output = (0..300)
            .map(|k| zero + scale * if k < 42 { 20.0 } else { 20.0 + 9.0 * (1.0 - (-f64::from(k - 42) / 25.0).exp()) })
            .collect();
        DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output))
    };
    let own_data = step(1.0, 1.0, 0.0);
    let own = read_by_hand(&own_data, &suggested_marks(&own_data).unwrap()).unwrap();
    // 9 °C for 8 %, by hand.
    assert!((own.gain / (9.0 / 8.0) - 1.0).abs() < 0.02, "{}", own.gain);
    for (clock, scale, zero) in [(1.0, 1.8, 32.0), (30.0, 1.0, 0.0), (0.1, -4.0, 100.0)] {
        let data = step(clock, scale, zero);
        let other = read_by_hand(&data, &suggested_marks(&data).unwrap()).unwrap();
        assert!((other.gain / (own.gain * scale) - 1.0).abs() < 1e-6, "{} {}", own.gain, other.gain);
        for (a, b) in own.readings.iter().zip(&other.readings) {
            assert_eq!(a.method, b.method);
            for (a_time, b_time) in [(a.dead_time, b.dead_time), (a.time_constant, b.time_constant)] {
                assert!(
                    (b_time - a_time * clock).abs() < 1e-6 * (1.0 + a_time * clock),
                    "{}: {a_time} {b_time}",
                    a.method
                );
            }
        }
    }
}
