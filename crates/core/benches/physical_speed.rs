//! How long a physical fit takes, beside what a user would otherwise write: the times of SciPy's `least_squares` over `solve_ivp` on the
//! same data stand in `reference/data/physical_models.json`, and are measured anew by `reference/physical_models.py`.

#![allow(clippy::unwrap_used)]

use antistasis_core::identification::{
    DataSet, FitOptions, MappedInput, MappedOutput, PhysicalOptions, Series, Sought, StartOfStates, Structure, fit,
};
use antistasis_core::process::DetailedSpec;
use antistasis_core::series::TimeAxis;
use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;

const INPUTS: [&str; 5] = ["coolant_flow", "feed_flow", "feed_concentration", "feed_temperature", "coolant_inlet"];
const SOUGHT: [&str; 5] = ["activation_temperature", "reaction_heat", "transfer", "jacket_heat", "volume"];

/// The jacketed reactor of the reference, its record repeated until it has so many samples.
fn reactor(samples: usize) -> (DataSet, FitOptions) {
    let cases: serde_json::Value =
        serde_json::from_str(include_str!("../../../reference/data/physical_models.json")).unwrap();
    let case = &cases[1];
    let series = |value: &serde_json::Value| -> Vec<f64> {
        let own: Vec<f64> = value.as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
        own.iter().cycle().take(samples).copied().collect()
    };
    let start: Vec<f64> = case["start"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    let data = DataSet {
        axis: TimeAxis::uniform(case["interval"].as_f64().unwrap(), samples).unwrap(),
        inputs: INPUTS
            .iter()
            .enumerate()
            .map(|(k, name)| Series::new(*name, UNITS[k], series(&case["inputs"][k])))
            .collect(),
        outputs: vec![Series::new("temperature", "°C", series(&case["measured"][0]))],
    };
    let physical = PhysicalOptions {
        process: DetailedSpec::Library { process: "jacketed_reactor".into(), parameters: Default::default() },
        inputs: INPUTS
            .iter()
            .map(|name| MappedInput {
                input: (*name).into(),
                tag: (*name).into(),
                range: None,
                straight: false,
                dead_time: 0.0,
                rangeability: None,
            })
            .collect(),
        rest: Default::default(),
        outputs: vec![MappedOutput { output: "temperature".into(), tag: "temperature".into(), lag: 0.0, offset: 0.0 }],
        sought: SOUGHT
            .iter()
            .zip(start)
            .map(|(name, value)| Sought { name: (*name).into(), value: Some(value), ..Sought::default() })
            .collect(),
        tied: Vec::new(),
        start: StartOfStates::Estimated,
        beginnings: 1,
    };
    (data, FitOptions { physical: Some(Box::new(physical)), ..FitOptions::new(Structure::Physical) })
}

const UNITS: [&str; 5] = ["L/min", "L/min", "mol/L", "°C", "°C"];

fn fits(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("physical fit of the jacketed reactor, five numbers, one start");
    group.sample_size(10);
    for samples in [240, 10_000] {
        let (data, options) = reactor(samples);
        group.bench_function(format!("{samples} samples"), |bencher| {
            bencher.iter(|| fit(black_box(&data), &options).unwrap());
        });
    }
    group.finish();
}

criterion_group!(all, fits);
criterion_main!(all);
