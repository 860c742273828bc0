use super::*;
use crate::controller::{ControllerSpec, PidSettings};
use crate::identification::{FitOptions, Series, Structure, fit};
use crate::numerics::covariances;
use crate::preparation::prepare;
use crate::process::LinearSpec;
use crate::series::{Channel, TimeAxis};
use crate::simulation::{Candidate, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION};
use crate::units::Span;
use proptest::prelude::*;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use serde::Deserialize;

/// A loop of `reference/minimum_variance.py`, with what its transfer functions give.
#[derive(Debug, Clone, Deserialize)]
struct Known {
    gain: f64,
    time_constant: f64,
    dead_time: f64,
    scan: f64,
    controller_gain: f64,
    integral_time: f64,
    ar: f64,
    ma: f64,
    ahead: usize,
    deviation: f64,
    least_deviation: f64,
    index: f64,
    of_disturbance: Option<f64>,
}

fn known() -> Vec<Known> {
    serde_json::from_str(include_str!("../../../../../reference/data/minimum_variance.json")).unwrap()
}

impl Known {
    /// Error and OP of the loop in operation, sample by sample; the loop has forgotten its beginning.
    fn run(&self, samples: usize, seed: u64) -> (Vec<f64>, Vec<f64>) {
        const BEFORE: usize = 1500;
        let mut generator = ChaCha8Rng::seed_from_u64(seed);
        let memory = (-self.scan / self.time_constant).exp();
        let (mut x, mut v, mut last, mut integral) = (0.0, 0.0, 0.0, 0.0);
        let (mut error, mut op) = (Vec::new(), Vec::new());
        for k in 0..samples + BEFORE {
            let acting: f64 = if k >= self.ahead { op[k - self.ahead] } else { 0.0 };
            x = memory * x + self.gain * (1.0 - memory) * acting;
            let innovation: f64 = StandardNormal.sample(&mut generator);
            v = self.ar * v + innovation - self.ma * last;
            last = innovation;
            let e = -(x + v);
            integral += self.controller_gain * self.scan / self.integral_time * e;
            error.push(x + v);
            op.push(self.controller_gain * e + integral);
        }
        (error.split_off(BEFORE), op.split_off(BEFORE))
    }
}

/// The index of simulated loops against theory (`reference/minimum_variance.py`), 200 records of 1,500 samples each: the interval holds
/// it in at least 90 % of them, and the mean is not off by more than a tenth of what is left to gain or of the index.
#[test]
fn the_index_equals_theory_within_its_interval() {
    for case in known() {
        let mut held = 0;
        let mut sum = 0.0;
        for seed in 0..200 {
            let (error, op) = case.run(1500, seed);
            let found = LeastVariance::of(&error, &op, case.scan, case.dead_time).unwrap();
            assert_eq!(found.dead_samples, case.ahead);
            let [low, high] = found.interval;
            assert!(low <= found.index && found.index <= high, "{found:?}");
            held += usize::from((low..=high).contains(&case.index));
            sum += found.index;
        }
        let mean = sum / 200.0;
        eprintln!("index {:.3}: mean {mean:.3}, held {held} of 200", case.index);
        assert!(held >= 180, "{case:?}: {held} of 200");
        assert!((mean - case.index).abs() < 0.1 * case.index, "{case:?}: {mean}");
    }
}

/// A minimum-variance controller leaves a moving average over the dead time (Åström 1970): nothing is left to gain.
#[test]
fn a_minimum_variance_loop_cannot_be_better() {
    let (ahead, memory) = (6, 0.95f64);
    let (mut held, mut lowest) = (0, 1.0f64);
    for seed in 0..200 {
        let mut generator = ChaCha8Rng::seed_from_u64(seed);
        let (mut v, mut op): (f64, Vec<f64>) = (0.0, Vec::new());
        let mut error = Vec::new();
        for k in 0..1500usize {
            let innovation: f64 = StandardNormal.sample(&mut generator);
            v = memory * v + innovation;
            error.push(v + if k >= ahead { op[k - ahead] } else { 0.0 });
            // The process is a dead time: what is foreseen of the disturbance is taken away.
            op.push(-memory.powi(ahead as i32) * v);
        }
        let found = LeastVariance::of(&error, &op, 1.0, 5.0).unwrap();
        assert_eq!(found.dead_samples, ahead);
        held += usize::from(found.interval[1] >= 1.0);
        lowest = found.index.min(lowest);
    }
    eprintln!("minimum variance: held {held} of 200, lowest index {lowest:.3}");
    assert!(held >= 180 && lowest > 0.8, "{held} of 200, {lowest}");
}

#[test]
fn a_record_that_is_too_short_or_stands_still_is_refused() {
    let wave: Vec<f64> = (0..400).map(|k| (0.3 * f64::from(k)).sin()).collect();
    let short = LeastVariance::of(&wave[..150], &wave[..150], 1.0, 5.0).unwrap_err().to_string();
    assert!(short.contains("150 samples") && short.contains("200 samples"), "{short}");
    // Thirty samples of dead time need six hundred.
    let long = LeastVariance::of(&wave, &wave, 1.0, 29.0).unwrap_err().to_string();
    assert!(long.contains("600 samples"), "{long}");
    let still = LeastVariance::of(&wave, &[50.0; 400], 1.0, 5.0).unwrap_err().to_string();
    assert!(still.contains("stands still"), "{still}");
    assert!(LeastVariance::of(&wave, &wave, 1.0, -1.0).is_err());
    // A controller that acts between the samples could do better than any of them tells.
    let seldom = LeastVariance::of(&wave, &wave, 300.0, 35.0).unwrap_err().to_string();
    assert!(seldom.contains("every 300 s") && seldom.contains("every 17.5 s"), "{seldom}");
    assert_eq!(Arrived::of(&wave, 300.0, 35.0).unwrap().least_deviation, None);
}

#[test]
fn the_longest_run_is_the_first_of_its_length() {
    let run = |text: &str| longest_run(text.chars().map(|c| c == 'x'));
    assert_eq!(run(".xx.xxx..xxx"), 4..7);
    assert_eq!((run("xxx"), run("..x"), run("..."), run("")), (0..3, 2..3, 0..0, 0..0));
}

#[test]
fn lagged_products_are_those_of_the_definition() {
    let a: Vec<f64> = (0..57).map(|k| (0.7 * f64::from(k)).sin() + 0.2).collect();
    let b: Vec<f64> = (0..57).map(|k| (0.31 * f64::from(k * k)).cos()).collect();
    let found = covariances(&a, &b, 80);
    for (place, lag) in (-80i32..=80).enumerate() {
        let sum: f64 =
            (0..57i32).filter(|t| (0..57).contains(&(t + lag))).map(|t| a[(t + lag) as usize] * b[t as usize]).sum();
        assert!((found[place] - sum / 57.0).abs() < 1e-12, "lag {lag}: {} {}", found[place], sum / 57.0);
    }
    assert_eq!(covariances(&[], &[], 2), [0.0; 5]);
}

fn trial(case: &Known, controller: ControllerSpec) -> Trial {
    let process = LinearSpec::Fopdt { gain: case.gain, time_constant: case.time_constant, dead_time: case.dead_time };
    let signal = |tag: &str, unit: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, unit) };
    let (pv, op) = (signal("X.PV", "°C"), signal("X.OP", "%"));
    let plant = Plant::plain(process, pv, op, OperatingPoint::new(50.0, 50.0));
    let scenario =
        Scenario { duration: 100.0, scan: case.scan, seed: 0, events: Vec::new(), further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(controller), scenario }
}

fn pi(case: &Known) -> ControllerSpec {
    ControllerSpec::Pid(PidSettings {
        action: crate::controller::Action::for_gain(case.gain),
        ..PidSettings::pi(case.controller_gain.abs(), case.integral_time)
    })
}

/// What came in and what a loop leaves of it, from a long stretch of the disturbance alone, against the transfer functions.
#[test]
fn what_a_loop_leaves_is_what_its_transfer_function_leaves() {
    for case in known().into_iter().filter(|case| case.of_disturbance.is_some()) {
        let mut generator = ChaCha8Rng::seed_from_u64(5);
        let (mut v, mut last) = (0.0, 0.0);
        let disturbance: Vec<f64> = (0..40_000)
            .map(|_| {
                let innovation: f64 = StandardNormal.sample(&mut generator);
                v = case.ar * v + innovation - case.ma * last;
                last = innovation;
                v
            })
            .collect();
        let arrived = Arrived::of(&disturbance, case.scan, case.dead_time).unwrap();
        let near = |found: f64, wanted: f64, by: f64| (found / wanted - 1.0).abs() < by;
        assert!(near(arrived.deviation, case.of_disturbance.unwrap(), 0.08), "{case:?}: {}", arrived.deviation);
        assert!(
            near(arrived.least_deviation.unwrap(), case.least_deviation, 0.03),
            "{case:?}: {:?}",
            arrived.least_deviation
        );
        let left = arrived.through("A", &trial(&case, pi(&case)));
        assert!(near(left.deviation.unwrap(), case.deviation, 0.03), "{case:?}: {left:?}");
        assert!(left.helped + left.made_worse <= 1.0 + 1e-9 && left.helped > 0.1 && left.made_worse > 0.0, "{left:?}");
        // The area under what is drawn is the variance; the slowest, which came with the first point, is beside it.
        let decades: Vec<f64> = arrived.omega.iter().map(|omega| omega.log10()).collect();
        let drawn: f64 = (1..decades.len())
            .map(|k| {
                let both = arrived.variance_per_decade[k] + arrived.variance_per_decade[k - 1];
                0.5 * both * (decades[k] - decades[k - 1])
            })
            .sum();
        assert!(near(drawn, arrived.deviation.powi(2), 0.05), "{drawn} {}", arrived.deviation.powi(2));
    }
}

#[test]
fn what_cannot_be_looked_at_over_frequency_says_why() {
    let case = &known()[0];
    let noise = case.run(2000, 1).0;
    let arrived = Arrived::of(&noise, case.scan, case.dead_time).unwrap();
    let wild = ControllerSpec::Pid(PidSettings::pi(30.0, 5.0));
    let found = arrived.through("wild", &trial(case, wild));
    assert!(found.deviation.is_none() && found.refusal.contains("not stable"), "{found:?}");
    let found = arrived.through("manual", &trial(case, ControllerSpec::Manual));
    assert!(found.deviation.is_none_or(|left| (left / arrived.deviation - 1.0).abs() < 1e-9), "{found:?}");
    assert!(Arrived::of(&noise[..50], 1.0, 1.0).unwrap_err().to_string().contains("50 samples"));
    assert!(Arrived::of(&[3.0; 500], 1.0, 1.0).unwrap_err().to_string().contains("stands still"));
}

/// A record of the loop in operation, with a set point move in its first tenth.
fn record(case: &Known, samples: usize) -> crate::series::Record {
    let (error, op) = case.run(samples, 3);
    let moved = samples / 10;
    let sp: Vec<f64> = (0..samples).map(|k| if k < moved { 40.0 } else { 50.0 }).collect();
    let pv: Vec<f64> = error.iter().zip(&sp).map(|(e, sp)| e + sp).collect();
    let channel = |tag: &str, unit: &str, role, values| Channel { tag: tag.into(), unit: unit.into(), role, values };
    let channels = vec![
        channel("X.PV", "°C", Role::Pv, pv),
        channel("X.OP", "%", Role::Op, op.iter().map(|op| op + 50.0).collect()),
        channel("X.SP", "°C", Role::Sp, sp),
    ];
    crate::series::Record::new(TimeAxis::uniform(case.scan, samples).unwrap(), channels).unwrap()
}

/// The model of a step test without a disturbance.
fn of_step_test(case: &Known) -> Model {
    let process = LinearSpec::Fopdt { gain: case.gain, time_constant: case.time_constant, dead_time: case.dead_time };
    let axis = TimeAxis::uniform(case.scan, 400).unwrap();
    let moves: Vec<f64> = (0..400).map(|k| if (50..200).contains(&k) { 5.0 } else { 0.0 }).collect();
    let pv: Vec<f64> = process.response_to(&axis, &moves).unwrap().into_iter().map(|value| value + 50.0).collect();
    let op: Vec<f64> = moves.into_iter().map(|value| value + 50.0).collect();
    let data = DataSet::single(axis, Series::new("X.OP", "%", op), Series::new("X.PV", "°C", pv));
    fit(&data, &FitOptions::new(Structure::Fopdt)).unwrap()
}

#[test]
fn a_record_in_operation_tells_of_the_loop_and_of_candidates() {
    let case = &known()[0];
    let model = of_step_test(case);
    let prepared = prepare(&record(case, 3000), &[]).unwrap();
    let data = DataSet::of_record(&prepared.record, "°C", &[], &[]).unwrap();
    let gentle = Known { controller_gain: 0.1, integral_time: 80.0, ..case.clone() };
    let candidates = [("as it ran".to_owned(), trial(case, pi(case))), ("gentle".to_owned(), trial(case, pi(&gentle)))];
    let found = Rejection::of((&prepared, &data), &model, None, &candidates).unwrap();
    // From after the move of the set point on.
    let [from, to] = found.stretch.unwrap();
    assert!(from >= 300.0 * case.scan && to == 2999.0 * case.scan, "{from} {to}");
    let present = found.present.unwrap();
    assert!((0.4..0.9).contains(&present.index), "{present:?}");
    assert_eq!(found.candidates.len(), 2);
    let [own, gentle] = [&found.candidates[0], &found.candidates[1]].map(|own| own.deviation.unwrap());
    assert!(gentle > own, "{gentle} {own}");
    let said: Vec<&str> = found.verdicts.iter().map(|verdict| verdict.text.as_str()).collect();
    assert!(said[0].contains("there would be left: as it ran"), "{said:?}");
    assert!(said.iter().any(|text| text.contains("no feedback could have left less than")), "{said:?}");

    // Moved by hand: no loop is at work, and that is said; what came in is told all the same.
    let mut by_hand = record(case, 1200);
    for channel in &mut by_hand.channels {
        if channel.role == Role::Op {
            channel.values = (0..1200).map(|k| if k < 600 { 40.0 } else { 45.0 }).collect();
        }
    }
    let prepared = prepare(&by_hand, &[]).unwrap();
    let data = DataSet::of_record(&prepared.record, "°C", &[], &[]).unwrap();
    let found = Rejection::of((&prepared, &data), &model, Some(12.0), &candidates).unwrap();
    assert_eq!(found.dead_time, 12.0);
    assert!(Rejection::of((&prepared, &data), &model, Some(-1.0), &[]).is_err());
    assert!(found.present.is_none() && found.arrived.is_some());
    assert!(found.verdicts.iter().any(|own| own.text.contains("moved by hand")), "{:?}", found.verdicts);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Whatever comes, nothing panics, and what is told is within its bounds; units do not matter.
    #[test]
    fn an_index_is_a_share(
        values in prop::collection::vec((-1e3..1e3f64, -1e2..1e2f64), 200..400),
        dead_time in 2.0..9.0f64,
        scale in 1e-3..1e3f64,
    ) {
        let (error, op): (Vec<f64>, Vec<f64>) = values.into_iter().unzip();
        let found = LeastVariance::of(&error, &op, 1.0, dead_time).unwrap();
        prop_assert!(0.0 <= found.index && found.index <= 1.0);
        prop_assert!(found.interval[0] <= found.index && found.index <= found.interval[1] && found.interval[1] <= 1.0);
        prop_assert!(found.least_deviation <= found.deviation * (1.0 + 1e-12));
        let scaled: Vec<f64> = error.iter().map(|value| value * scale).collect();
        let again = LeastVariance::of(&scaled, &op, 1.0, dead_time).unwrap();
        prop_assert!((again.index - found.index).abs() < 1e-6, "{} {}", again.index, found.index);
    }
}
