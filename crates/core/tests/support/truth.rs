//! Records whose truth is known: processes carried by small steps of a method of their own, with noise that remembers.

use antistasis_core::identification::{
    FitOptions, MappedInput, MappedOutput, NoiseModel, PhysicalOptions, Series, Sought, StartOfStates, Structure,
};
use antistasis_core::process::DetailedSpec;
use rand::SeedableRng;
use rand_distr::{Distribution, StandardNormal};

/// What a process answers to inputs that stand from sample to sample, by the classical method of Runge and Kutta with `steps` a
/// sample; the outputs are read before the inputs of a sample act.
pub fn answer(
    rates: impl Fn(&[f64], &[f64]) -> Vec<f64>,
    start: &[f64],
    inputs: &[Vec<f64>],
    interval: f64,
    steps: usize,
) -> Vec<Vec<f64>> {
    let samples = inputs[0].len();
    let mut x = start.to_vec();
    let mut states = Vec::new();
    let h = interval / steps as f64;
    for k in 0..samples {
        states.push(x.clone());
        let u: Vec<f64> = inputs.iter().map(|values| values[k]).collect();
        for _ in 0..steps {
            let at = |x: &[f64], by: f64, k: &[f64]| -> Vec<f64> { x.iter().zip(k).map(|(x, k)| x + by * k).collect() };
            let k1 = rates(&x, &u);
            let k2 = rates(&at(&x, 0.5 * h, &k1), &u);
            let k3 = rates(&at(&x, 0.5 * h, &k2), &u);
            let k4 = rates(&at(&x, h, &k3), &u);
            for i in 0..x.len() {
                x[i] += h / 6.0 * (k1[i] + 2.0 * k2[i] + 2.0 * k3[i] + k4[i]);
            }
        }
    }
    states
}

/// Noise `e(t) = pole e(t−1) + w(t)` of this standard deviation.
pub fn noise(count: usize, deviation: f64, pole: f64, seed: u64) -> Vec<f64> {
    let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut value = 0.0;
    let own = deviation * (1.0 - pole * pole).sqrt();
    (0..count + 200)
        .map(|_| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            value = pole * value + own * deviate;
            value
        })
        .skip(200)
        .collect()
}

/// Levels that change at random times, `hold` samples apart on the average.
pub fn moves(count: usize, low: f64, high: f64, hold: f64, seed: u64) -> Vec<f64> {
    let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut level = 0.5 * (low + high);
    (0..count)
        .map(|k| {
            let deviate: f64 = StandardNormal.sample(&mut generator);
            let other: f64 = StandardNormal.sample(&mut generator);
            if k > 10 && (0.5 * (1.0 + spread_of(deviate))) < 1.0 / hold {
                level = low + (high - low) * 0.5 * (1.0 + spread_of(other));
            }
            level
        })
        .collect()
}

/// A smooth map of the normal distribution onto −1 to 1; any would do.
pub fn spread_of(x: f64) -> f64 {
    (0.8 * x + 0.036 * x * x * x).tanh()
}

pub fn named(name: &str, unit: &str, values: Vec<f64>) -> Series {
    Series::new(name, unit, values)
}

pub fn input(name: &str, tag: &str) -> MappedInput {
    MappedInput {
        input: name.into(),
        tag: tag.into(),
        range: None,
        straight: false,
        dead_time: 0.0,
        rangeability: None,
    }
}

pub fn output(name: &str, tag: &str) -> MappedOutput {
    MappedOutput { output: name.into(), tag: tag.into(), lag: 0.0, offset: 0.0 }
}

pub fn sought(name: &str, value: f64) -> Sought {
    Sought { name: name.into(), value: Some(value), ..Sought::default() }
}

pub fn physical(
    process: &str,
    known: &[(&str, f64)],
    inputs: Vec<MappedInput>,
    outputs: Vec<MappedOutput>,
    sought: Vec<Sought>,
) -> PhysicalOptions {
    PhysicalOptions {
        process: DetailedSpec::Library {
            process: process.into(),
            parameters: known.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect(),
        },
        inputs,
        rest: Default::default(),
        outputs,
        sought,
        tied: Vec::new(),
        start: StartOfStates::Estimated,
        beginnings: 3,
    }
}

pub fn options(physical: PhysicalOptions, noise: NoiseModel) -> FitOptions {
    FitOptions { physical: Some(Box::new(physical)), noise, ..FitOptions::new(Structure::Physical) }
}
