//! How often the 95 % interval holds the true value, on 200 simulated records each of six structures with coloured
//! noise; printed as a
//! Markdown table: `./run coverage`.

#![allow(clippy::unwrap_used)]

use antistasis_core::identification::{DataSet, FitOptions, Series, Structure, fit};
use antistasis_core::process::LinearSpec;
use antistasis_core::series::TimeAxis;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use std::time::Instant;

const RECORDS: u64 = 200;
const SAMPLES: usize = 1200;
/// Pole of the noise: its memory is ten samples.
const COLOUR: f64 = 0.9;

struct Case {
    structure: Structure,
    process: LinearSpec,
    /// Standard deviation of the noise, in % of the PV's own.
    noise: f64,
    names: &'static [&'static str],
    truth: Vec<f64>,
}

fn cases() -> Vec<Case> {
    let lags = |lead| LinearSpec::TwoLags {
        gain: 1.5,
        time_constant_1: 30.0,
        time_constant_2: 9.0,
        lead_time_constant: lead,
        dead_time: 7.4,
    };
    let lag = LinearSpec::Fopdt { gain: 1.5, time_constant: 25.0, dead_time: 7.0 };
    // A lag with a whole number of samples of delay is a difference equation: a = exp(−1/25).
    let pole = (-1.0f64 / 25.0).exp();
    vec![
        Case {
            structure: Structure::Fopdt,
            process: LinearSpec::Fopdt { gain: 1.5, time_constant: 25.0, dead_time: 7.4 },
            noise: 10.0,
            names: &["gain", "time constant", "dead time"],
            truth: vec![1.5, 25.0, 7.4],
        },
        Case {
            structure: Structure::TwoLags,
            process: lags(0.0),
            noise: 3.0,
            names: &["gain", "slow lag", "fast lag", "dead time"],
            truth: vec![1.5, 30.0, 9.0, 7.4],
        },
        Case {
            structure: Structure::TwoLagsLead,
            process: lags(-12.0),
            noise: 2.0,
            names: &["gain", "lead", "slow lag", "fast lag", "dead time"],
            truth: vec![1.5, -12.0, 30.0, 9.0, 7.4],
        },
        Case {
            structure: Structure::Underdamped,
            process: LinearSpec::SecondOrder { gain: -0.8, time_constant: 8.0, damping: 0.3, dead_time: 3.3 },
            noise: 10.0,
            names: &["gain", "time constant", "damping", "dead time"],
            truth: vec![-0.8, 8.0, 0.3, 3.3],
        },
        Case {
            structure: Structure::IntegratingLag,
            process: LinearSpec::IntegratingLag { gain: 0.02, time_constant: 14.0, dead_time: 5.2 },
            noise: 1.0,
            names: &["gain", "time constant", "dead time"],
            truth: vec![0.02, 14.0, 5.2],
        },
        Case {
            structure: Structure::OutputError { nb: 1, nf: 1, nk: 8 },
            process: lag,
            noise: 10.0,
            names: &["b1", "f1"],
            truth: vec![1.5 * (1.0 - pole), -pole],
        },
    ]
}

/// A test of random switches between two levels, mean length 30 samples.
fn switches(generator: &mut ChaCha8Rng) -> Vec<f64> {
    let mut level = -5.0;
    (0..SAMPLES)
        .map(|k| {
            let deviate: f64 = StandardNormal.sample(generator);
            if k > 20 && k % 15 == 0 && deviate > 0.0 {
                level = -level;
            }
            level
        })
        .collect()
}

fn record(case: &Case, seed: u64) -> DataSet {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let axis = TimeAxis::uniform(1.0, SAMPLES).unwrap();
    let moves = switches(&mut generator);
    let response = case.process.response_to(&axis, &moves).unwrap();
    let mean = response.iter().sum::<f64>() / SAMPLES as f64;
    let swing = (response.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / SAMPLES as f64).sqrt();
    let deviation = case.noise / 100.0 * swing;
    let mut coloured = 0.0;
    let pv = response
        .iter()
        .map(|value| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            coloured = COLOUR * coloured + (1.0 - COLOUR * COLOUR).sqrt() * deviation * deviate;
            75.0 + value + coloured
        })
        .collect();
    let op = moves.iter().map(|value| 45.0 + value).collect();
    DataSet::single(axis, Series::new("OP", "%", op), Series::new("PV", "°C", pv))
}

fn main() {
    println!("| structure | parameter | true value | mean estimate | in the 95 % interval | if residuals were white |");
    println!("|---|---|---|---|---|---|");
    let started = Instant::now();
    for case in cases() {
        let mut inside = vec![[0u32; 2]; case.truth.len()];
        let mut sums = vec![0.0; case.truth.len()];
        for seed in 0..RECORDS {
            let model = fit(&record(&case, seed), &FitOptions::new(case.structure)).unwrap();
            let mut parameters = model.parameters.clone();
            // Which of two lags is listed first is chance.
            if let Structure::TwoLags | Structure::TwoLagsLead = case.structure {
                let slow = parameters.len() - 3;
                if parameters[slow].value < parameters[slow + 1].value {
                    parameters.swap(slow, slow + 1);
                }
            }
            for (k, (parameter, truth)) in parameters.iter().zip(&case.truth).enumerate() {
                let miss = (parameter.value - truth).abs();
                let holds = |error: Option<f64>| u32::from(error.is_some_and(|error| miss < 1.96 * error));
                inside[k][0] += holds(parameter.standard_error);
                inside[k][1] += holds(parameter.white_error);
                sums[k] += parameter.value;
            }
        }
        for (k, name) in case.names.iter().enumerate() {
            let share = |count: u32| 100.0 * f64::from(count) / RECORDS as f64;
            let structure = if k == 0 { case.structure.name() } else { String::new() };
            println!(
                "| {structure} | {name} | {:.4} | {:.4} | {:.1} % | {:.1} % |",
                case.truth[k],
                sums[k] / RECORDS as f64,
                share(inside[k][0]),
                share(inside[k][1])
            );
        }
    }
    eprintln!("{:.1} s", started.elapsed().as_secs_f64());
}
