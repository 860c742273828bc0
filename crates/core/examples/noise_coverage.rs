//! How often the 95 % interval holds the true value beside slow noise, with and without a noise model.
#![allow(clippy::unwrap_used)]

use antistasis_core::identification::{DataSet, FitOptions, NoiseModel, Series, Structure, fit};
use antistasis_core::process::LinearSpec;
use antistasis_core::series::TimeAxis;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use std::time::Instant;

const TRUTH: [f64; 3] = [0.8, 25.0, 6.4];

struct Case {
    name: &'static str,
    samples: usize,
    /// Samples of ordinary operation before the record.
    before: usize,
    /// When the OP steps, as a share of the record.
    steps: &'static [f64],
    pole: f64,
    noise: f64,
    drift: f64,
    closed: bool,
}

const OPEN: Case =
    Case { name: "", samples: 1200, before: 0, steps: &[], pole: 0.0, noise: 0.1, drift: 0.0, closed: false };

fn cases() -> Vec<Case> {
    vec![
        Case {
            name: "five steps, 3000 samples, AR 0.95",
            samples: 3000,
            steps: &[0.05, 0.25, 0.45, 0.6, 0.8],
            pole: 0.95,
            ..OPEN
        },
        Case { name: "four steps, AR 0.95", steps: &[0.1, 0.3, 0.5, 0.75], pole: 0.95, ..OPEN },
        Case { name: "two steps, AR 0.99", steps: &[0.2, 0.6], pole: 0.99, ..OPEN },
        Case { name: "four steps, drift", steps: &[0.1, 0.3, 0.5, 0.75], pole: 0.5, drift: 0.02, ..OPEN },
        Case {
            name: "50 samples of 4 s, AR 0.8",
            samples: 50,
            interval: 4.0,
            steps: &[0.2, 0.6],
            pole: 0.8,
            noise: 0.1,
            ..OPEN
        },
        Case { name: "closed loop, AR 0.95", closed: true, steps: &[0.1, 0.5], pole: 0.95, ..OPEN },
        Case { name: "closed loop, no set point, AR 0.95", closed: true, pole: 0.95, ..OPEN },
        Case {
            name: "cut out of operation, AR 0.95",
            before: 300,
            steps: &[0.3, 0.7],
            samples: 600,
            pole: 0.95,
            ..OPEN
        },
    ]
}

fn record(case: &Case, seed: u64) -> DataSet {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let total = case.samples + case.before;
    let a = (-1.0f64 / TRUTH[1]).exp();
    // Fractional dead time by the exact hold.
    let (whole, part) = (TRUTH[2].floor() as usize, TRUTH[2].fract());
    let late = (-(1.0 - part) / TRUTH[1]).exp();
    let (mut x, mut e, mut walk, mut integral) = (0.0f64, 0.0f64, 0.0f64, 0.0f64);
    let (mut op, mut pv) = (vec![0.0f64; total], vec![0.0f64; total]);
    for _ in 0..500 {
        let own: f64 = StandardNormal.sample(&mut generator);
        e = case.pole * e + (1.0 - case.pole * case.pole).sqrt() * case.noise * own;
    }
    let mut earlier = 0.0;
    for k in 0..total {
        let own: f64 = StandardNormal.sample(&mut generator);
        e = case.pole * e + (1.0 - case.pole * case.pole).sqrt() * case.noise * own;
        let step: f64 = StandardNormal.sample(&mut generator);
        walk += case.drift * step;
        pv[k] = x + e + walk;
        let moved = |share: &f64| k >= case.before + (share * case.samples as f64) as usize;
        let count = case.steps.iter().filter(|share| moved(share)).count();
        let level = if count % 2 == 1 { 4.0 } else { 0.0 };
        op[k] = if case.closed {
            // PI, Kc 1.5 %/unit, Ti 25 s, with an output that is not rounded.
            let error = level - pv[k];
            integral += 1.5 * error / 25.0;
            1.5 * error + integral
        } else {
            if k < case.before && k % 40 == 0 && k > 0 {
                earlier = 3.0 * step;
            }
            level + if k < case.before { earlier } else { earlier }
        };
        let delayed = |lag: usize| if k >= lag { op[k - lag] } else { 0.0 };
        // Up to the switching instant inside the sample the older value acts.
        let (old, new) = (delayed(whole + 1), delayed(whole));
        let middle = old + (x - old) * (-part / TRUTH[1]).exp();
        let _ = a;
        x = TRUTH[0] * 0.0 + new_state(middle, old, new, late, x, part);
    }
    // The state is in OP units; the gain is put on at the end.
    let pv: Vec<f64> = pv;
    let cut = |series: Vec<f64>| series[case.before..].to_vec();
    let axis = TimeAxis::uniform(1.0, case.samples).unwrap();
    let op = cut(op).into_iter().map(|value| 45.0 + value).collect();
    DataSet::single(
        axis,
        Series::new("OP", "%", op),
        Series::new("PV", "°C", cut(pv).into_iter().map(|v| 60.0 + v).collect()),
    )
}

fn new_state(_: f64, old: f64, new: f64, late: f64, x: f64, part: f64) -> f64 {
    let early = (-part / TRUTH[1]).exp();
    let middle = TRUTH[0] * old + (x - TRUTH[0] * old) * early;
    TRUTH[0] * new + (middle - TRUTH[0] * new) * late
}

fn main() {
    let records: u64 = std::env::args().nth(1).map_or(100, |text| text.parse().unwrap());
    let only = std::env::args().nth(2).unwrap_or_default();
    let _ = LinearSpec::Fopdt { gain: 1.0, time_constant: 1.0, dead_time: 1.0 };
    for case in cases().iter().filter(|case| case.name.contains(&only)) {
        println!("{}", case.name);
        for noise in [NoiseModel::White, NoiseModel::Autoregression, NoiseModel::Integrated] {
            let started = Instant::now();
            let (mut inside, mut sums, mut squares, mut width, mut order) =
                ([0u32; 3], [0.0; 3], [0.0; 3], [0.0; 3], 0);
            for seed in 0..records {
                let options = FitOptions { noise, ..FitOptions::new(Structure::Fopdt) };
                let model = fit(&record(case, seed), &options).unwrap();
                order += model.noise.as_ref().map_or(0, |noise| noise.coefficients.len());
                for (k, (parameter, truth)) in model.parameters.iter().zip(TRUTH).enumerate() {
                    let miss = parameter.value - truth;
                    let error = parameter.interval.map_or(0.0, |[low, high]| (high - low) / 3.92);
                    inside[k] += u32::from(miss.abs() < 1.96 * error);
                    sums[k] += miss;
                    squares[k] += miss * miss;
                    width[k] += error;
                }
            }
            let n = records as f64;
            let text: Vec<String> = (0..3)
                .map(|k| {
                    format!(
                        "{:5.1} % (bias {:+.3}, rms {:.3}, told {:.3})",
                        100.0 * f64::from(inside[k]) / n,
                        sums[k] / n,
                        (squares[k] / n).sqrt(),
                        width[k] / n
                    )
                })
                .collect();
            println!(
                "  {noise:?}: {}  order {:.1}, {:.1} ms",
                text.join(" | "),
                f64::from(order as u32) / n,
                1000.0 * started.elapsed().as_secs_f64() / n
            );
        }
    }
}
