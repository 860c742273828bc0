//! Records with one known fault each.

use super::{Inspection, Spans, Topic, inspect};
use crate::series::{Channel, Record, Role, TimeAxis};
use crate::units::Span;
use crate::verdict::Tone;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

fn noise(seed: u64) -> impl FnMut() -> f64 {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    move || StandardNormal.sample(&mut generator)
}

fn record(pv: Vec<f64>, op: Vec<f64>, sp: Option<Vec<f64>>) -> Record {
    let channel = |tag: &str, role, unit: &str, values| Channel { tag: tag.into(), role, unit: unit.into(), values };
    let mut channels = vec![channel("T.PV", Role::Pv, "°C", pv), channel("T.OP", Role::Op, "%", op)];
    channels.extend(sp.map(|values| channel("T.SP", Role::Sp, "°C", values)));
    Record::new(TimeAxis::uniform(2.0, channels[0].values.len()).unwrap(), channels).unwrap()
}

fn judged(record: &Record) -> Inspection {
    let (pv, op) = (Span::new(0.0, 150.0, "°C"), Span::new(0.0, 100.0, "%"));
    inspect(record, &Spans { pv: Some(&pv), op: Some(&op) }).unwrap()
}

fn tone(inspection: &Inspection, topic: Topic) -> Option<Tone> {
    inspection.findings.iter().find(|finding| finding.topic == topic).map(|finding| finding.verdict.tone)
}

/// A doublet through a lag of 20 samples with this gain and noise.
fn doublet(gain: f64, deviation: f64) -> (Vec<f64>, Vec<f64>) {
    let mut draw = noise(1);
    let op: Vec<f64> = (0..1200)
        .map(|k| {
            if (200..500).contains(&k) {
                46.0
            } else if (500..800).contains(&k) {
                34.0
            } else {
                40.0
            }
        })
        .collect();
    let mut x = 0.0;
    let pv = op
        .iter()
        .map(|op| {
            x += (gain * (op - 40.0) - x) / 20.0;
            70.0 + x + deviation * draw()
        })
        .collect();
    (pv, op)
}

#[test]
fn a_good_test_is_called_good() {
    let (pv, op) = doublet(1.0, 0.2);
    let found = judged(&record(pv, op, None));
    assert_eq!((tone(&found, Topic::Move), tone(&found, Topic::Excitation)), (Some(Tone::Good), Some(Tone::Good)));
    assert!(found.findings.iter().all(|finding| finding.verdict.tone == Tone::Good), "{:?}", found.findings);
    assert!((found.noise / 0.2 - 1.0).abs() < 0.1 && (40.0..70.0).contains(&found.move_to_noise.unwrap()), "{found:?}");
    assert_eq!(found.feedback, Some(false));
}

#[test]
fn small_moves_and_saturation_are_named_with_their_figures() {
    let (pv, op) = doublet(0.03, 0.2);
    let found = judged(&record(pv, op, None));
    assert_eq!(tone(&found, Topic::Move), Some(Tone::Bad));
    let (pv, mut op) = doublet(1.0, 0.2);
    op[600..700].fill(100.0);
    let found = judged(&record(pv, op, None));
    let finding = found.findings.iter().find(|finding| finding.topic == Topic::Saturation).unwrap();
    assert_eq!(finding.stretches, [[1200.0, 1398.0]]);
    assert!(finding.verdict.text.contains("8.26 %"), "{}", finding.verdict.text);
}

#[test]
fn a_frozen_and_a_quantised_pv_are_found() {
    let (mut pv, op) = doublet(1.0, 0.2);
    let stuck = pv[300];
    pv[300..420].fill(stuck);
    let found = judged(&record(pv, op, None));
    let finding = found.findings.iter().find(|finding| finding.topic == Topic::Frozen).unwrap();
    assert!(
        (finding.stretches[0][0] - 600.0).abs() <= 2.0 && (finding.stretches[0][1] - 838.0).abs() <= 2.0,
        "{finding:?}"
    );
    let (pv, op) = doublet(1.0, 0.05);
    let coarse = pv.iter().map(|value| (value / 0.5f64).round() * 0.5).collect();
    let found = judged(&record(coarse, op, None));
    let finding = found.findings.iter().find(|finding| finding.topic == Topic::Quantised).unwrap();
    assert!(finding.verdict.text.contains("steps of 0.5 °C"), "{}", finding.verdict.text);
}

#[test]
fn an_oscillation_at_rest_is_found_and_noise_is_not_taken_for_one() {
    let (pv, op) = doublet(1.0, 0.2);
    let shaken: Vec<f64> = pv
        .iter()
        .enumerate()
        .map(|(k, value)| value + 0.8 * (k as f64 * 2.0 * std::f64::consts::PI / 17.0).sin())
        .collect();
    let found = judged(&record(shaken, op.clone(), None));
    let oscillation = found.oscillation.clone().unwrap();
    assert!(oscillation.found && (oscillation.period / 34.0 - 1.0).abs() < 0.02, "{oscillation:?}");
    assert!((oscillation.amplitude / 0.8 - 1.0).abs() < 0.1, "{oscillation:?}");
    assert_eq!(tone(&found, Topic::Oscillation), Some(Tone::Bad));
    for seed in 0..20 {
        let mut draw = noise(100 + seed);
        let mut slow = 0.0;
        let wandering: Vec<f64> = pv
            .iter()
            .map(|value| {
                slow = 0.95 * slow + 0.1 * draw();
                value + slow
            })
            .collect();
        let found = judged(&record(wandering, op.clone(), None));
        assert_eq!(tone(&found, Topic::Oscillation), None, "seed {seed}: {:?}", found.oscillation);
    }
}

/// A PI loop around a lag with a valve that sticks within `band` (0: follows); the set point moves where it is asked
/// to.
fn loop_with_valve(band: f64, moves: bool, seed: u64) -> Record {
    let mut draw = noise(seed);
    let (mut x, mut integral, mut position) = (0.0, 0.0, 40.0);
    let (mut pv, mut op, mut sp) = (Vec::new(), Vec::new(), Vec::new());
    for k in 0..2000 {
        let target = if moves && k / 250 % 2 == 1 { 72.0 } else { 70.0 };
        let measured = 70.0 + x + 0.05 * draw();
        let error = target - measured;
        integral += 0.06 * error;
        let output: f64 = 40.0 + 0.8 * error + integral;
        if (output - position).abs() > band {
            position = output;
        }
        pv.push(measured);
        op.push(output);
        sp.push(target);
        x += (1.2 * (position - 40.0) - x) / 8.0;
    }
    record(pv, op, Some(sp))
}

#[test]
fn feedback_is_told_from_a_test_in_manual() {
    let moved = judged(&loop_with_valve(0.0, true, 3));
    assert_eq!((moved.feedback, tone(&moved, Topic::ClosedLoop)), (Some(true), Some(Tone::Caution)));
    let quiet = judged(&loop_with_valve(0.0, false, 4));
    assert_eq!(tone(&quiet, Topic::ClosedLoop), Some(Tone::Bad));
}

#[test]
fn a_long_test_in_manual_is_not_taken_for_a_closed_loop() {
    let mut draw = noise(8);
    let op: Vec<f64> = (0..60_000).map(|k| if k / 97 % 2 == 0 { 45.0 } else { 55.0 }).collect();
    let mut x = 0.0;
    let pv = op
        .iter()
        .map(|op| {
            x += (1.2 * (op - 45.0) - x) / 40.0;
            75.0 + x + 0.3 * draw()
        })
        .collect();
    let found = judged(&record(pv, op, None));
    assert_eq!((found.feedback, tone(&found, Topic::ClosedLoop)), (Some(false), None), "{:?}", found.findings);
    // Switches every 97 samples of 2 s: the power lies at a period of 388 s and its odd fractions.
    let [short, long] = found.band.unwrap();
    assert!((long - 388.0).abs() < 4.0 && short < 80.0, "{short} {long}");
}

#[test]
fn a_valve_that_sticks_is_found_with_its_band_and_one_that_follows_is_not() {
    for (band, seed) in [(1.0, 5), (2.0, 6), (3.0, 7)] {
        let stiction = judged(&loop_with_valve(band, true, seed)).stiction.unwrap();
        assert!(stiction.found && (stiction.band / band - 1.0).abs() < 0.3, "{band}: {stiction:?}");
    }
    for seed in 10..20 {
        let found = judged(&loop_with_valve(0.0, true, seed));
        assert!(!found.stiction.as_ref().unwrap().found, "{:?}", found.stiction);
    }
}

#[test]
fn gaps_and_uneven_samples_are_counted() {
    for (missing, words) in [
        ([50..51, 0..0], "1 sample of T.PV is missing: fill"),
        ([50..60, 0..0], "10 samples of T.PV are missing, in a gap of 20 s: fill"),
        ([50..60, 80..83], "13 samples of T.PV are missing in 2 gaps, the longest 20 s: fill"),
    ] {
        let (mut pv, op) = doublet(1.0, 0.2);
        for gap in missing {
            pv[gap].fill(f64::NAN);
        }
        let found = judged(&record(pv, op, None));
        let gap = found.findings.iter().find(|finding| finding.topic == Topic::Gaps).unwrap();
        assert!(gap.verdict.text.starts_with(words), "{}", gap.verdict.text);
    }
    let short = Record::new(
        TimeAxis::uniform(1.0, 5).unwrap(),
        vec![Channel { tag: "T".into(), role: Role::Pv, unit: String::new(), values: vec![0.0; 5] }],
    )
    .unwrap();
    assert!(inspect(&short, &Spans { pv: None, op: None }).unwrap_err().to_string().contains("5 samples"));
}
