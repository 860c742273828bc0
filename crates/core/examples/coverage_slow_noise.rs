//! How often the 95 % interval holds the true value beside slow noise, drift and feedback, with and without a noise model;
//! printed as a Markdown table: part of `./run coverage`. The number of records can be given, and a part of a case's name.

#![allow(clippy::unwrap_used)]

use antistasis_core::identification::{DataSet, FitOptions, NoiseModel, Series, Structure, fit};
use antistasis_core::lti::{DeadTime, Dynamics, Response};
use antistasis_core::series::TimeAxis;
use antistasis_core::verdict::Tone;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

const RECORDS: u64 = 200;
/// Gain, time constant and dead time in s.
const TRUTH: [f64; 3] = [0.8, 25.0, 6.4];
/// Standard deviation of the noise, about 3 % of the PV's swing.
const NOISE: f64 = 0.1;

#[derive(Clone, Copy)]
struct Case {
    name: &'static str,
    samples: usize,
    interval: f64,
    /// Samples of ordinary operation before the record.
    before: usize,
    /// When the OP (in a closed loop the set point) steps, as shares of the record.
    steps: &'static [f64],
    /// Pole of the noise.
    pole: f64,
    /// Standard deviation of a random walk's step.
    drift: f64,
    closed: bool,
}

const OPEN: Case =
    Case { name: "", samples: 1200, interval: 1.0, before: 0, steps: &[], pole: 0.95, drift: 0.0, closed: false };
const FOUR: &[f64] = &[0.1, 0.3, 0.5, 0.75];

const CASES: [Case; 8] = [
    Case { name: "five steps, 3000 samples, AR 0.95", samples: 3000, steps: &[0.05, 0.25, 0.45, 0.6, 0.8], ..OPEN },
    Case { name: "four steps, AR 0.95", steps: FOUR, ..OPEN },
    Case { name: "two steps, AR 0.99", steps: &[0.2, 0.6], pole: 0.99, ..OPEN },
    Case { name: "four steps, random walk", steps: FOUR, pole: 0.5, drift: 0.02, ..OPEN },
    Case { name: "50 samples of 4 s, AR 0.8", samples: 50, interval: 4.0, steps: &[0.2, 0.6], pole: 0.8, ..OPEN },
    Case { name: "closed loop, two set point moves, AR 0.95", closed: true, steps: &[0.1, 0.5], ..OPEN },
    Case { name: "closed loop, set point at rest, AR 0.95", closed: true, ..OPEN },
    Case { name: "600 samples cut out of operation, AR 0.95", before: 300, steps: &[0.3, 0.7], samples: 600, ..OPEN },
];

fn noise(case: &Case, generator: &mut ChaCha8Rng, count: usize) -> Vec<f64> {
    let (mut e, mut walk) = (0.0, 0.0);
    let mut next = || {
        let own: f64 = StandardNormal.sample(generator);
        e = case.pole * e + (1.0 - case.pole * case.pole).sqrt() * NOISE * own;
        let step: f64 = StandardNormal.sample(generator);
        walk += case.drift * step;
        e + walk
    };
    (0..500 + count).map(|_| next()).skip(500).collect()
}

/// The loop scan by scan: the answer of the process up to a scan depends on earlier outputs only.
fn record(case: &Case, seed: u64) -> DataSet {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let total = case.samples + case.before;
    let axis = TimeAxis::uniform(case.interval, total).unwrap();
    let disturbance = noise(case, &mut generator, total);
    let level = |k: usize| {
        let gone = |share: &&f64| k >= case.before + (**share * case.samples as f64) as usize;
        if case.steps.iter().filter(gone).count() % 2 == 1 { 4.0 } else { 0.0 }
    };
    let mut op = vec![0.0; total];
    let [gain, time_constant, dead_time] = TRUTH;
    let dynamics = Dynamics::Lag { time_constant };
    let answer = |op: &[f64]| -> Vec<f64> {
        let response = Response::new(dynamics, &axis, op, 0.0, DeadTime::new(dead_time).unwrap()).bare();
        response.zip(&disturbance).map(|(sample, e)| gain * sample.value + e).collect()
    };
    if case.closed {
        // PI control, Kc 1.5 %/°C and Ti 25 s, its output not rounded; in blocks as long as the dead time hides what comes.
        let (mut integral, block) = (0.0, (dead_time / case.interval).floor() as usize);
        for start in (0..total).step_by(block) {
            let pv = answer(&op);
            for k in start..(start + block).min(total) {
                let error = level(k) - pv[k];
                integral += 1.5 * error * case.interval / 25.0;
                op[k] = 1.5 * error + integral;
            }
        }
    } else {
        let mut operation = 0.0;
        for (k, value) in op.iter_mut().enumerate() {
            if k < case.before && k % 40 == 39 {
                let step: f64 = StandardNormal.sample(&mut generator);
                operation = 3.0 * step;
            }
            *value = operation + level(k);
        }
    }
    let pv = answer(&op);
    let cut = |series: &[f64], by: f64| series[case.before..].iter().map(|value| value + by).collect::<Vec<f64>>();
    DataSet::single(
        TimeAxis::uniform(case.interval, case.samples).unwrap(),
        Series::new("OP", "%", cut(&op, 45.0)),
        Series::new("PV", "°C", cut(&pv, 60.0)),
    )
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let records: u64 = arguments.next().map_or(RECORDS, |text| text.parse().unwrap());
    let only = arguments.next().unwrap_or_default();
    println!(
        "| record | noise model | gain: inside, error | time constant: inside, error | dead time: inside, error | not good |"
    );
    println!("|---|---|---|---|---|---|");
    for case in CASES.iter().filter(|case| case.name.contains(&only)) {
        let all = [NoiseModel::White, NoiseModel::Autoregression, NoiseModel::Integrated];
        for (noise, name) in all.into_iter().zip(["none", "found", "integrated"]) {
            let (mut inside, mut squares, mut warned) = ([0u32; 3], [0.0; 3], 0u32);
            for seed in 0..records {
                let options = FitOptions { noise, ..FitOptions::new(Structure::Fopdt) };
                let model = fit(&record(case, seed), &options).unwrap();
                warned += u32::from(model.verdicts.iter().any(|verdict| verdict.tone != Tone::Good));
                for (k, (parameter, truth)) in model.parameters.iter().zip(TRUTH).enumerate() {
                    inside[k] += u32::from(parameter.interval.is_some_and(|[low, high]| (low..=high).contains(&truth)));
                    squares[k] += (parameter.value - truth).powi(2);
                }
            }
            let n = records as f64;
            let cells: Vec<String> = (0..3)
                .map(|k| format!("{:.1} %, {:.3}", 100.0 * f64::from(inside[k]) / n, (squares[k] / n).sqrt()))
                .collect();
            let title = if noise == NoiseModel::White { case.name } else { "" };
            println!("| {title} | {name} | {} | {:.0} % |", cells.join(" | "), 100.0 * f64::from(warned) / n);
        }
    }
}
