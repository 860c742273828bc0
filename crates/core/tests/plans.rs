//! What holds of any plan of a test: the OP stays where it may be and moves no faster, the PV stays in its range with the gain off and the
//! noise on it, and the same words give the same plan. The errors that are promised are those of fits to such records.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::experiment::{ExperimentPlan, ExperimentSpec, SignalKind};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::OperatingPoint;
use proptest::prelude::*;

fn signals() -> impl Strategy<Value = SignalKind> {
    prop_oneof![
        Just(SignalKind::Step),
        Just(SignalKind::Doublet { width: None }),
        (1..8_usize).prop_map(|levels| SignalKind::Staircase { levels }),
        Just(SignalKind::Prbs { clock: None }),
        Just(SignalKind::GeneralisedBinaryNoise { mean_switching_time: None }),
        (2..20_usize).prop_map(|lines| SignalKind::Multisine { lines }),
    ]
}

fn processes() -> impl Strategy<Value = LinearSpec> {
    (0.2..4.0_f64, any::<bool>(), 10.0..60.0_f64, 0.0..30.0_f64, 0..3_usize).prop_map(
        |(size, negative, time_constant, dead_time, kind)| {
            let gain = if negative { -size } else { size };
            match kind {
                0 | 1 => LinearSpec::Fopdt { gain, time_constant, dead_time },
                _ => LinearSpec::Integrating { gain: 0.002 * gain, dead_time },
            }
        },
    )
}

fn specs() -> impl Strategy<Value = ExperimentSpec> {
    let rate = prop::option::of(0.5..20.0_f64);
    (processes(), signals(), 30.0..70.0_f64, 5.0..25.0_f64, 2.0..20.0_f64, rate, 0..1000_u64).prop_map(
        |(process, signal, op, op_room, pv_room, op_rate, seed)| ExperimentSpec {
            process,
            gain_uncertainty: 30.0,
            noise: 0.02,
            operating_point: OperatingPoint::new(70.0, op),
            pv_range: [70.0 - pv_room, 70.0 + pv_room],
            op_range: [op - op_room, op + op_room],
            op_rate,
            sample_time: 1.0,
            duration: 900.0,
            amplitude: None,
            signal,
            seed,
            pv_unit: "°C".into(),
            proposed: Vec::new(),
        },
    )
}

/// How far the PV goes from where it rests, its band included.
fn reach(plan: &ExperimentPlan) -> f64 {
    plan.pv.iter().zip(&plan.pv_half_width).map(|(pv, half)| (pv - 70.0).abs() + half).fold(0.0, f64::max)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn a_plan_keeps_to_what_is_allowed(spec in specs()) {
        let Ok(plan) = spec.plan() else { return Ok(()) };
        let samples = plan.times.len();
        prop_assert!([plan.op.len(), plan.pv.len(), plan.pv_half_width.len()].iter().all(|count| *count == samples));
        prop_assert!((plan.times[samples - 1] - plan.times[0] - 900.0).abs() <= 1.0 + 1e-9);
        let [low, high] = spec.op_range;
        for pair in plan.op.windows(2) {
            prop_assert!(pair.iter().all(|op| *op >= low - 1e-9 && *op <= high + 1e-9), "{:?}", pair);
            if let Some(rate) = spec.op_rate {
                prop_assert!((pair[1] - pair[0]).abs() <= rate * spec.sample_time + 1e-9, "{:?} at {rate} %/s", pair);
            }
        }
        // The PV with its gain off and its noise on it.
        let room = spec.pv_range[1] - 70.0;
        prop_assert!(reach(&plan) <= room * (1.0 + 1e-6), "{} of {room}", reach(&plan));
        // As bold as that allows, or as the OP does: a little more would leave one of the ranges.
        let bolder = ExperimentSpec { amplitude: Some((1.25 * plan.amplitude).min(100.0)), ..spec.clone() };
        if let Ok(bolder) = bolder.plan() {
            let cut = bolder.op.iter().any(|op| *op <= low + 1e-6 || *op >= high - 1e-6);
            prop_assert!(reach(&bolder) > 0.9 * room || cut || spec.op_rate.is_some(), "{} of {room}", reach(&bolder));
        }
        let power: f64 = plan.spectrum.iter().sum();
        prop_assert!((power - 100.0).abs() < 1e-6 && plan.spectrum.iter().all(|share| *share >= -1e-9), "{power}");
    }

    #[test]
    fn the_same_words_give_the_same_plan_and_another_seed_another_signal(spec in specs()) {
        let Ok(plan) = spec.plan() else { return Ok(()) };
        prop_assert_eq!(&plan, &spec.plan().unwrap());
        let document = serde_json::to_string(&spec).unwrap();
        prop_assert_eq!(&plan, &serde_json::from_str::<ExperimentSpec>(&document).unwrap().plan().unwrap());
        let other = ExperimentSpec { seed: spec.seed + 1, ..spec.clone() };
        let is_random = matches!(spec.signal, SignalKind::GeneralisedBinaryNoise { .. });
        if is_random && let Ok(other) = other.plan() {
            prop_assert!(other.op != plan.op, "two seeds, one signal");
        }
    }

    /// Twice the noise: twice the error. Twice the move: half of it. (The information matrix is a sum of squares.)
    #[test]
    fn errors_go_with_the_noise_and_against_the_move(spec in specs(), amplitude in 0.5..2.0_f64) {
        let with = |noise: f64, amplitude: f64| {
            ExperimentSpec { noise, amplitude: Some(amplitude), op_rate: None, ..spec.clone() }.plan()
        };
        let (Ok(plain), Ok(noisy), Ok(bold)) = (with(0.02, amplitude), with(0.04, amplitude), with(0.02, 2.0 * amplitude)) else {
            return Ok(());
        };
        for ((one, noisy), bold) in plain.expected.iter().zip(&noisy.expected).zip(&bold.expected) {
            prop_assert!(one.name == noisy.name && one.name == bold.name);
            if let (Some(one), Some(noisy), Some(bold)) = (one.standard_error, noisy.standard_error, bold.standard_error) {
                prop_assert!((noisy / one - 2.0).abs() < 0.02, "noise: {one} {noisy}");
                prop_assert!((bold / one - 0.5).abs() < 0.02, "move: {one} {bold}");
            }
        }
    }

    /// A binary signal has two levels; a doublet and a multisine come back to rest.
    #[test]
    fn signals_are_what_they_are_called(spec in specs()) {
        let spec = ExperimentSpec { op_rate: None, ..spec };
        let Ok(plan) = spec.plan() else { return Ok(()) };
        let rest = spec.operating_point.op;
        let moves: Vec<f64> = plan.op.iter().map(|op| op - rest).collect();
        let mut levels: Vec<i64> = moves.iter().map(|value| (value / plan.amplitude * 1e6).round() as i64).collect();
        levels.sort_unstable();
        levels.dedup();
        match spec.signal {
            SignalKind::Step => prop_assert_eq!(levels, vec![0, 1_000_000]),
            SignalKind::Doublet { .. } => {
                prop_assert_eq!(levels, vec![-1_000_000, 0, 1_000_000]);
                prop_assert!(moves[moves.len() - 1].abs() < 1e-9 && moves.iter().sum::<f64>().abs() <= 2.0 * plan.amplitude);
            }
            SignalKind::Staircase { levels: steps } => prop_assert_eq!(levels.len(), steps + 1),
            SignalKind::Prbs { .. } | SignalKind::GeneralisedBinaryNoise { .. } => {
                prop_assert!(levels.iter().all(|level| [-1_000_000, 0, 1_000_000].contains(level)), "{levels:?}");
                prop_assert!(levels.contains(&-1_000_000) && levels.contains(&1_000_000));
            }
            SignalKind::Multisine { .. } => {
                prop_assert!(moves.iter().all(|value| value.abs() <= plan.amplitude * (1.0 + 1e-9)));
                let mean = moves.iter().sum::<f64>() / moves.len() as f64;
                prop_assert!(mean.abs() < 0.02 * plan.amplitude, "{mean}");
            }
        }
    }
}

#[test]
fn every_number_that_cannot_be_is_named() {
    let spec = ExperimentSpec {
        process: LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 4.0 },
        gain_uncertainty: 30.0,
        noise: 0.02,
        operating_point: OperatingPoint::new(70.0, 50.0),
        pv_range: [65.0, 75.0],
        op_range: [30.0, 70.0],
        op_rate: None,
        sample_time: 1.0,
        duration: 600.0,
        amplitude: None,
        signal: SignalKind::Step,
        seed: 1,
        pv_unit: "°C".into(),
        proposed: Vec::new(),
    };
    spec.plan().unwrap();
    for (field, wrong) in [
        ("noise", ExperimentSpec { noise: 0.0, ..spec.clone() }),
        ("gain_uncertainty", ExperimentSpec { gain_uncertainty: -1.0, ..spec.clone() }),
        ("sample_time", ExperimentSpec { sample_time: -1.0, ..spec.clone() }),
        ("duration", ExperimentSpec { duration: 5.0, ..spec.clone() }),
        ("duration", ExperimentSpec { duration: 1e9, ..spec.clone() }),
        ("pv_range", ExperimentSpec { pv_range: [80.0, 90.0], ..spec.clone() }),
        ("pv_range", ExperimentSpec { pv_range: [f64::NAN, 90.0], ..spec.clone() }),
        ("op_range", ExperimentSpec { op_range: [50.0, 50.0], ..spec.clone() }),
        ("op_range", ExperimentSpec { op_range: [-20.0, 70.0], ..spec.clone() }),
        ("op_rate", ExperimentSpec { op_rate: Some(0.0), ..spec.clone() }),
        ("amplitude", ExperimentSpec { amplitude: Some(0.0), ..spec.clone() }),
        ("amplitude", ExperimentSpec { amplitude: Some(f64::INFINITY), ..spec.clone() }),
        ("signal.levels", ExperimentSpec { signal: SignalKind::Staircase { levels: 0 }, ..spec.clone() }),
        ("signal.lines", ExperimentSpec { signal: SignalKind::Multisine { lines: 1 }, ..spec.clone() }),
        ("signal.clock", ExperimentSpec { signal: SignalKind::Prbs { clock: Some(1e6) }, ..spec.clone() }),
    ] {
        let error = wrong.plan().unwrap_err();
        assert!(error.field().unwrap().starts_with(field), "{field}: {error}");
        assert!(error.to_string().contains("must be"), "{error}");
    }
}
