//! How long a physical fit takes, beside what a user would otherwise write: the times of SciPy's `least_squares` over `solve_ivp` on the
//! same data stand in `reference/data/physical_models.json`, and are measured anew by `reference/physical_models.py`.

#![allow(clippy::unwrap_used)]

use antistasis_core::controller::ControllerSpec;
use antistasis_core::identification::{
    DataSet, FitOptions, MappedInput, MappedOutput, PhysicalOptions, Series, Sought, StartOfStates, Structure, fit,
};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::process::{DetailedSpec, ProcessSpec};
use antistasis_core::series::TimeAxis;
use antistasis_core::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, TRIAL_VERSION, Trial};
use criterion::{Criterion, criterion_group, criterion_main};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::hint::black_box;

const INPUTS: [&str; 5] = ["coolant_flow", "feed_flow", "feed_concentration", "feed_temperature", "coolant_inlet"];
const SOUGHT: [&str; 5] = ["activation_temperature", "reaction_heat", "transfer", "jacket_heat", "volume"];

/// The jacketed reactor of the reference, with its record.
fn reactor() -> (DataSet, FitOptions) {
    let cases: serde_json::Value =
        serde_json::from_str(include_str!("../../../reference/data/physical_models.json")).unwrap();
    let case = &cases[1];
    let series = |value: &serde_json::Value| -> Vec<f64> {
        value.as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect()
    };
    let start: Vec<f64> = case["start"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    let measured = series(&case["measured"][0]);
    let data = DataSet {
        axis: TimeAxis::uniform(case["interval"].as_f64().unwrap(), measured.len()).unwrap(),
        inputs: INPUTS
            .iter()
            .enumerate()
            .map(|(k, name)| Series::new(*name, UNITS[k], series(&case["inputs"][k])))
            .collect(),
        outputs: vec![Series::new("temperature", "°C", measured)],
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

/// A long record of the same reactor as the engine makes it: in manual, the OP and every other input moved at random, noise at the
/// sensor; five numbers sought from a tenth off.
fn long(samples: usize) -> (DataSet, FitOptions) {
    let process = ProcessSpec::library("jacketed_reactor", &[]);
    let mut plant = Plant::usual(process.clone(), "R").unwrap();
    plant.sensor = SensorSpec { noise: 0.1, ..SensorSpec::default() };
    let rest = plant.start().unwrap();
    plant.operating_point = OperatingPoint::new(plant.operating_point.pv, rest.op);
    let description = process.describe("").unwrap();
    let mut generator = ChaCha8Rng::seed_from_u64(20_261_201);
    let scan = 6.0;
    let mut moves = |largest: f64, pause: std::ops::Range<usize>| {
        let (mut at, mut level, mut made) = (20, 0.0, Vec::new());
        while at < samples {
            let to = generator.random_range(-largest..largest);
            made.push((at as f64 * scan, to - level));
            level = to;
            at += generator.random_range(pause.clone());
        }
        made
    };
    let mut events: Vec<Event> = moves(6.0, 20..60).into_iter().map(|(at, by)| Event::OutputStep { at, by }).collect();
    for input in description.inputs.iter().filter(|input| input.name != description.drive.input) {
        let name = Some(input.name.clone());
        let steps = moves(0.02 * input.value.abs(), 40..120).into_iter();
        events.extend(steps.map(|(at, by)| Event::LoadStep { at, by, input: name.clone() }));
    }
    events.sort_by(|a, b| a.at().total_cmp(&b.at()));
    let scenario = Scenario { duration: samples as f64 * scan, scan, seed: 1, events, further: Default::default() };
    let unit = plant.pv.span.unit.clone();
    let trial = Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(ControllerSpec::Manual), scenario };
    let record = trial.run().unwrap().as_record().unwrap();
    let detailed = DetailedSpec::Library { process: "jacketed_reactor".into(), parameters: Default::default() };
    let mut options = PhysicalOptions::begin(detailed, &record, &unit).unwrap();
    let truth = |name: &str| description.parameters.iter().find(|own| own.name == name).unwrap().value;
    options.sought = SOUGHT
        .iter()
        .map(|name| Sought { name: (*name).into(), value: Some(0.9 * truth(name)), ..Sought::default() })
        .collect();
    // The fall of the rate over temperature is known to a few percent at first.
    options.sought[0].value = Some(0.99 * truth(SOUGHT[0]));
    options.beginnings = 1;
    let (op, pv) = (trial.plant.op.tag.clone(), trial.plant.pv.tag.clone());
    let (inputs, outputs) = options.further_tags(&op, &pv);
    let data = DataSet::of_record(&record, &unit, &inputs, &outputs).unwrap();
    (data, FitOptions { physical: Some(Box::new(options)), ..FitOptions::new(Structure::Physical) })
}

fn fits(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("physical fit of the jacketed reactor, five numbers, one start");
    group.sample_size(10);
    for (name, (data, options)) in [("240 samples", reactor()), ("10000 samples", long(10_000))] {
        group.bench_function(name, |bencher| {
            bencher.iter(|| fit(black_box(&data), &options).unwrap());
        });
    }
    group.finish();
}

criterion_group!(all, fits);
criterion_main!(all);
