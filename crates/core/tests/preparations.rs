//! What holds of any preparation of any record: nothing is invented, nothing is moved, and a step does what its name says. The laws of
//! filters are the textbook's: a lag passes a constant, and a sine of ω with 1/√(1 + (ωτ)²), forth and back with the square of that.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::preparation::{Fill, Operation, Prepared, Removed, Replacement, Resampling, Step, prepare};
use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use proptest::prelude::*;
use std::f64::consts::TAU;

const SAMPLES: usize = 240;
const INTERVAL: f64 = 2.0;

fn record_of(pv: Vec<f64>, op: Vec<f64>) -> Record {
    let channel = |tag: &str, role, unit: &str, values| Channel { tag: tag.into(), role, unit: unit.into(), values };
    let axis = TimeAxis::uniform(INTERVAL, pv.len()).unwrap();
    Record::new(axis, vec![channel("T.PV", Role::Pv, "°C", pv), channel("T.OP", Role::Op, "%", op)]).unwrap()
}

/// A PV that wanders and an OP that steps, some samples missing.
fn records() -> impl Strategy<Value = Record> {
    let pv = prop::collection::vec(20.0..80.0_f64, SAMPLES);
    let missing = prop::collection::vec((0..SAMPLES, 1..12_usize), 0..4);
    (pv, prop::collection::vec(0.0..100.0_f64, 6), missing).prop_map(|(mut pv, levels, missing)| {
        for (from, count) in missing {
            let to = (from + count).min(SAMPLES);
            pv[from..to].fill(f64::NAN);
        }
        let op = (0..SAMPLES).map(|k| levels[k * levels.len() / SAMPLES]).collect();
        record_of(pv, op)
    })
}

/// Steps as a person might put them, some of which make no sense on this record.
fn operations() -> impl Strategy<Value = Operation> {
    let time = -50.0..600.0_f64;
    prop_oneof![
        (time.clone(), time.clone()).prop_map(|(from, to)| Operation::Window { from, to }),
        (time.clone(), time).prop_map(|(from, to)| Operation::CutOut { from, to }),
        (1..40_usize, 1.0..20.0_f64, any::<bool>()).prop_map(|(half_window, threshold, missing)| Operation::Outliers {
            tag: None,
            half_window,
            threshold,
            replacement: if missing { Replacement::Missing } else { Replacement::Median },
        }),
        (0.5..60.0_f64, any::<bool>()).prop_map(|(longest, hold)| Operation::FillGaps {
            longest,
            fill: if hold { Fill::Hold } else { Fill::Line }
        }),
        (1.0..60.0_f64, prop::option::of(0..4_usize))
            .prop_map(|(longer_than, part)| Operation::SplitAtGaps { longer_than, part }),
        (0.3..20.0_f64, any::<bool>()).prop_map(|(interval, mean)| Operation::Resample {
            interval,
            method: if mean { Resampling::Mean } else { Resampling::Line },
        }),
        (-1e3..1e3_f64).prop_map(|by| Operation::Shift { tag: None, by }),
        any::<bool>().prop_map(|trend| Operation::Remove {
            tag: None,
            what: if trend { Removed::Trend } else { Removed::Offset },
        }),
        (0.1..200.0_f64, 0..4_usize, any::<bool>(), any::<bool>()).prop_map(
            |(time_constant, order, zero_phase, all)| {
                Operation::LowPass { tag: None, all, time_constant, order, zero_phase }
            }
        ),
        prop::sample::select(vec!["K", "°F", "°C", "bar", "furlong", ""])
            .prop_map(|unit| Operation::Convert { tag: None, unit: unit.into() }),
        prop::sample::select(vec![
            "{T.PV} + 1",
            "2 * {T.OP}",
            "{T.PV} / ({T.OP} - {T.OP})",
            "{NONE}",
            "1 +",
            "sqrt(-{T.PV})"
        ])
        .prop_map(|formula| Operation::Compute {
            tag: "X".into(),
            unit: String::new(),
            role: Role::Other,
            formula: formula.into(),
        }),
    ]
}

fn steps(operations: &[Operation]) -> Vec<Step> {
    operations.iter().cloned().map(Step::new).collect()
}

fn done(record: &Record, operations: &[Operation]) -> Prepared {
    prepare(record, &steps(operations)).unwrap()
}

fn values<'a>(prepared: &'a Prepared, tag: &str) -> &'a [f64] {
    &prepared.record.channels.iter().find(|channel| channel.tag == tag).unwrap().values
}

fn same(a: &[f64], b: &[f64], tolerance: f64) -> Result<(), TestCaseError> {
    prop_assert_eq!(a.len(), b.len());
    for (k, (a, b)) in a.iter().zip(b).enumerate() {
        let close = (a - b).abs() <= tolerance * (1.0 + a.abs()) || (a.is_nan() && b.is_nan());
        prop_assert!(close, "{k}: {a} {b}");
    }
    Ok(())
}

fn mean(values: &[f64]) -> f64 {
    let known: Vec<f64> = values.iter().copied().filter(|value| value.is_finite()).collect();
    known.iter().sum::<f64>() / known.len() as f64
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(160))]

    /// Whatever is laid over a record: a record comes out, or words that name the step.
    #[test]
    fn any_steps_give_a_record_or_name_the_step(record in records(), operations in prop::collection::vec(operations(), 0..6)) {
        let untouched = record.clone();
        match prepare(&record, &steps(&operations)) {
            Err(error) => {
                let said = error.to_string();
                let place = error.field().unwrap_or_default().to_owned();
                let named = (0..operations.len())
                    .any(|k| place.starts_with(&format!("preparation[{k}]")) || said.contains(&format!("step {}", k + 1)));
                prop_assert!(named, "{place}: {said}");
            }
            Ok(prepared) => {
                let length = prepared.record.axis.len();
                prop_assert!(length > 0);
                prop_assert_eq!(prepared.notes.len(), operations.len());
                prop_assert!(prepared.notes.iter().all(Option::is_some), "each step says what it did");
                for channel in &prepared.record.channels {
                    prop_assert_eq!(channel.values.len(), length);
                    prop_assert!(channel.values.iter().all(|value| value.is_finite() || value.is_nan()), "no infinity");
                }
                prop_assert!((1..length).all(|k| prepared.time(k) > prepared.time(k - 1)), "time rises");
                let (first, last) = (prepared.time(0), prepared.time(length - 1));
                let end = INTERVAL * (SAMPLES - 1) as f64;
                prop_assert!(first >= -1e-6 && last <= end + 1e-6, "nothing lies outside of the record: {first} {last}");
                // Off, they are as if they were not there.
                let off: Vec<Step> =
                    operations.iter().map(|own| Step { operation: own.clone(), enabled: false }).collect();
                let idle = prepare(&record, &off).unwrap();
                for (a, b) in idle.record.channels.iter().zip(&untouched.channels) {
                    same(&a.values, &b.values, 0.0)?;
                }
            }
        }
        for (a, b) in record.channels.iter().zip(&untouched.channels) {
            same(&a.values, &b.values, 0.0)?;
        }
    }

    #[test]
    fn a_window_shows_what_was_there_and_nothing_else(record in records(), from in 0.0..200.0_f64, length in 40.0..200.0_f64) {
        let to = from + length;
        let prepared = done(&record, &[Operation::Window { from, to }]);
        for k in 0..prepared.record.axis.len() {
            let time = prepared.time(k);
            prop_assert!(time >= from - 1e-9 && time <= to + 1e-9);
            let place = (time / INTERVAL).round() as usize;
            prop_assert!((time - INTERVAL * place as f64).abs() < 1e-9, "samples keep their times");
            for (own, whole) in prepared.record.channels.iter().zip(&record.channels) {
                same(&own.values[k..=k], &whole.values[place..=place], 0.0)?;
            }
        }
        let wanted = (0..SAMPLES).filter(|k| (from..=to).contains(&(INTERVAL * *k as f64))).count();
        prop_assert_eq!(prepared.record.axis.len(), wanted);
    }

    #[test]
    fn what_is_undone_is_as_it_was(record in records(), by in -500.0..500.0_f64) {
        let pv = values(&done(&record, &[]), "T.PV").to_vec();
        let there_and_back = [Operation::Shift { tag: None, by }, Operation::Shift { tag: None, by: -by }];
        same(values(&done(&record, &there_and_back), "T.PV"), &pv, 1e-10)?;
        let convert = |unit: &str| Operation::Convert { tag: None, unit: unit.into() };
        for unit in ["°F", "K"] {
            same(values(&done(&record, &[convert(unit), convert("°C")]), "T.PV"), &pv, 1e-10)?;
        }
    }

    #[test]
    fn means_of_whole_blocks_keep_the_mean(pv in prop::collection::vec(-40.0..40.0_f64, SAMPLES), factor in 2..9_usize) {
        let record = record_of(pv.clone(), vec![50.0; SAMPLES]);
        let interval = INTERVAL * factor as f64;
        let prepared = done(&record, &[Operation::Resample { interval, method: Resampling::Mean }]);
        let made = values(&prepared, "T.PV");
        prop_assert!(made.len().abs_diff(SAMPLES / factor) <= 1, "{}", made.len());
        // Each lies within what it is the mean of, the whole keeps its mean but for what is at the ends.
        let (low, high) = pv.iter().fold((f64::MAX, f64::MIN), |(low, high), v| (low.min(*v), high.max(*v)));
        prop_assert!(made.iter().all(|value| *value >= low - 1e-9 && *value <= high + 1e-9));
        let allowed = 2.0 * (high - low) * factor as f64 / SAMPLES as f64;
        prop_assert!((mean(made) - mean(&pv)).abs() <= allowed, "{} {}", mean(made), mean(&pv));
        prop_assert!(values(&prepared, "T.OP").iter().all(|value| *value == 50.0));
    }

    #[test]
    fn what_is_removed_is_gone(record in records(), slope in -1.0..1.0_f64) {
        let offset = done(&record, &[Operation::Remove { tag: None, what: Removed::Offset }]);
        prop_assert!(mean(values(&offset, "T.PV")).abs() < 1e-9);
        let before = values(&done(&record, &[]), "T.PV").to_vec();
        // A trend that was laid on is taken off again with the record's own.
        let tilted: Vec<f64> = before.iter().enumerate().map(|(k, value)| value + slope * k as f64).collect();
        let tilted = record_of(tilted, vec![50.0; SAMPLES]);
        let trend = [Operation::Remove { tag: None, what: Removed::Trend }];
        let (own, other) = (done(&record, &trend), done(&tilted, &trend));
        let level = |values: &[f64]| -> Vec<f64> { values.iter().map(|value| value - mean(values)).collect() };
        same(&level(values(&own, "T.PV")), &level(values(&other, "T.PV")), 1e-7)?;
    }

    #[test]
    fn a_low_pass_keeps_a_constant_and_weakens_a_sine_as_the_textbook_says(
        level in -100.0..100.0_f64, ratio in 0.3..3.0_f64, order in 1..3_usize, zero_phase in any::<bool>(),
    ) {
        let low_pass = |time_constant| Operation::LowPass { tag: None, all: false, time_constant, order, zero_phase };
        let still = record_of(vec![level; SAMPLES], vec![50.0; SAMPLES]);
        same(values(&done(&still, &[low_pass(20.0)]), "T.PV"), &vec![level; SAMPLES], 1e-9)?;
        // A sine of a hundred samples a period, many periods: its size in the middle, where the ends are forgotten.
        let (period, samples) = (100.0 * INTERVAL, 3000);
        let omega = TAU / period;
        let sine: Vec<f64> = (0..samples).map(|k| level + (omega * INTERVAL * k as f64).sin()).collect();
        let prepared = done(&record_of(sine, vec![50.0; samples]), &[low_pass(ratio / omega)]);
        let middle = &values(&prepared, "T.PV")[1000..2000];
        let size = 0.5 * (middle.iter().copied().fold(f64::MIN, f64::max) - middle.iter().copied().fold(f64::MAX, f64::min));
        let lags = order as f64 * if zero_phase { 2.0 } else { 1.0 };
        let wanted = (1.0 + ratio * ratio).powf(-0.5 * lags);
        prop_assert!((size / wanted - 1.0).abs() < 0.02, "{size} for {wanted}");
    }

    #[test]
    fn a_filter_without_a_phase_shift_is_the_same_from_both_ends(pulse in prop::collection::vec(-10.0..10.0_f64, 1..30), time_constant in 3.0..30.0_f64) {
        let mut pv = vec![0.0; 401];
        for (k, value) in pulse.iter().enumerate() {
            pv[200 + k] = *value;
        }
        let low_pass = Operation::LowPass { tag: None, all: false, time_constant, order: 1, zero_phase: true };
        let forth = done(&record_of(pv.clone(), vec![50.0; 401]), std::slice::from_ref(&low_pass));
        pv.reverse();
        let back = done(&record_of(pv, vec![50.0; 401]), &[low_pass]);
        let mut turned = values(&back, "T.PV").to_vec();
        turned.reverse();
        // Up to what still rings at the ends of the record, eleven time constants away and more.
        same(values(&forth, "T.PV"), &turned, 1e-3)?;
    }

    #[test]
    fn a_gap_in_a_straight_line_is_filled_with_the_line(from in 5..200_usize, count in 1..30_usize, slope in -2.0..2.0_f64) {
        let line: Vec<f64> = (0..SAMPLES).map(|k| 50.0 + slope * k as f64).collect();
        let mut gappy = line.clone();
        let to = (from + count).min(SAMPLES - 5);
        gappy[from..to.max(from + 1)].fill(f64::NAN);
        let missing = to.max(from + 1) - from;
        let fill = |longest| [Operation::FillGaps { longest, fill: Fill::Line }];
        let record = record_of(gappy.clone(), vec![50.0; SAMPLES]);
        same(values(&done(&record, &fill(INTERVAL * (missing + 1) as f64 + 0.1)), "T.PV"), &line, 1e-9)?;
        // One that is longer than allowed stays as it is.
        if missing > 2 {
            same(values(&done(&record, &fill(INTERVAL * (missing - 1) as f64 - 0.1)), "T.PV"), &gappy, 0.0)?;
        }
    }

    #[test]
    fn a_formula_is_its_arithmetic(record in records(), factor in -3.0..3.0_f64) {
        let formula = format!("({{T.PV}} - 20) * {factor} + abs({{T.OP}} - 50) ^ 2 / 100");
        let compute = Operation::Compute { tag: "X".into(), unit: "kW".into(), role: Role::Dv, formula };
        let prepared = done(&record, &[compute]);
        let (pv, op) = (values(&prepared, "T.PV"), values(&prepared, "T.OP"));
        let by_hand: Vec<f64> =
            pv.iter().zip(op).map(|(pv, op)| (pv - 20.0) * factor + (op - 50.0).abs().powi(2) / 100.0).collect();
        same(values(&prepared, "X"), &by_hand, 1e-9)?;
        let made = prepared.record.channels.last().unwrap();
        prop_assert!(made.unit == "kW" && made.role == Role::Dv);
    }
}
