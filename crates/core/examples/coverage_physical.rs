//! How often the 95 % interval of a physical number holds the true value, over simulated records with coloured noise of five
//! processes; printed as a Markdown table: part of `./run coverage`. The number of records can be given.

#![allow(clippy::unwrap_used)]

use antistasis_core::controller::ControllerSpec;
use antistasis_core::identification::{DataSet, FitOptions, NoiseModel, PhysicalOptions, Sought, Structure, fit};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::process::{DetailedSpec, ProcessSpec};
use antistasis_core::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, TRIAL_VERSION, Trial};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

const RECORDS: u64 = 400;

struct Case {
    process: &'static str,
    /// Parameters that are sought; all others are known.
    sought: &'static [&'static str],
    /// Largest step of the OP in %, of each input as a share of its value.
    step: f64,
    share: f64,
    scan: f64,
    scans: usize,
    /// Standard deviation of the noise in the unit of the PV; it remembers for five scans.
    noise: f64,
}

const CASES: [Case; 5] = [
    Case {
        process: "stirred_heater",
        sought: &["holdup", "heat_capacity", "loss"],
        step: 12.0,
        share: 0.2,
        scan: 10.0,
        scans: 500,
        noise: 0.15,
    },
    Case {
        process: "two_bodies",
        sought: &["body_capacity", "body_loss"],
        step: 20.0,
        share: 0.1,
        scan: 10.0,
        scans: 500,
        noise: 0.1,
    },
    Case {
        process: "upright_tank",
        sought: &["area", "outlet_area"],
        step: 10.0,
        share: 0.05,
        scan: 20.0,
        scans: 500,
        noise: 0.01,
    },
    Case {
        process: "jacketed_reactor",
        sought: &["transfer", "jacket_heat", "reaction_heat"],
        step: 6.0,
        share: 0.02,
        scan: 6.0,
        scans: 500,
        noise: 0.1,
    },
    Case {
        process: "heat_exchanger",
        sought: &["transfer", "cold_holdup"],
        step: 8.0,
        share: 0.1,
        scan: 2.0,
        scans: 400,
        noise: 0.1,
    },
];

/// The plant in manual, moved at random: the OP, and every other input.
fn record(case: &Case, seed: u64) -> (DataSet, PhysicalOptions, ProcessSpec) {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let process = ProcessSpec::library(case.process, &[]);
    let mut plant = Plant::usual(process.clone(), "X").unwrap();
    plant.sensor = SensorSpec { noise: case.noise, noise_time_constant: 5.0 * case.scan, ..SensorSpec::default() };
    let rest = plant.start().unwrap();
    plant.operating_point = OperatingPoint::new(plant.operating_point.pv, rest.op);
    let description = process.describe("").unwrap();
    let mut events = Vec::new();
    let (mut op, mut at) = (0.0, 20);
    while at < case.scans {
        let to = generator.random_range(-case.step..case.step);
        events.push(Event::OutputStep { at: at as f64 * case.scan, by: to - op });
        op = to;
        at += generator.random_range(20..60);
    }
    for input in description.inputs.iter().filter(|input| input.name != description.drive.input) {
        let (mut level, mut at) = (0.0, generator.random_range(20..60));
        while at < case.scans {
            let wanted = generator.random_range(-case.share..case.share) * input.value;
            let to = (input.value + wanted).clamp(input.low, input.high) - input.value;
            events.push(Event::LoadStep { at: at as f64 * case.scan, by: to - level, input: Some(input.name.clone()) });
            level = to;
            at += generator.random_range(40..120);
        }
    }
    events.sort_by(|a, b| a.at().total_cmp(&b.at()));
    let scenario = Scenario {
        duration: case.scans as f64 * case.scan,
        scan: case.scan,
        seed,
        events,
        further: Default::default(),
    };
    let unit = plant.pv.span.unit.clone();
    let trial = Trial { version: TRIAL_VERSION, plant, candidate: Candidate::new(ControllerSpec::Manual), scenario };
    let trace = trial.run().unwrap();
    assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
    let record = trace.as_record().unwrap();
    let detailed = DetailedSpec::Library { process: case.process.into(), parameters: Default::default() };
    let mut options = PhysicalOptions::begin(detailed, &record, &unit).unwrap();
    options.sought = case
        .sought
        .iter()
        .map(|name| {
            let truth = description.parameters.iter().find(|own| own.name == *name).unwrap().value;
            Sought { name: (*name).into(), value: Some(0.7 * truth), ..Sought::default() }
        })
        .collect();
    options.beginnings = 1;
    let (op, pv) = (trial.plant.op.tag.clone(), trial.plant.pv.tag.clone());
    let (inputs, outputs) = options.further_tags(&op, &pv);
    (DataSet::of_record(&record, &unit, &inputs, &outputs).unwrap(), options, process)
}

fn main() {
    let records: u64 = std::env::args().nth(1).map_or(RECORDS, |text| text.parse().unwrap());
    println!(
        "| process | number | true | inside its 95 % interval | mean standard error | spread about the truth | mean error |"
    );
    println!("|---|---|---|---|---|---|---|");
    for case in &CASES {
        let count = case.sought.len();
        let (mut inside, mut told) = (vec![0u32; count], vec![0u32; count]);
        let (mut errors, mut squares, mut sums) = (vec![0.0; count], vec![0.0; count], vec![0.0; count]);
        let mut truths = vec![0.0; count];
        for seed in 0..records {
            let (data, options, process) = record(case, seed);
            let description = process.describe("").unwrap();
            let options = FitOptions {
                noise: NoiseModel::Autoregression,
                physical: Some(Box::new(options)),
                ..FitOptions::new(Structure::Physical)
            };
            let model = fit(&data, &options).unwrap();
            for (k, parameter) in model.parameters.iter().enumerate() {
                truths[k] = description.parameters.iter().find(|own| own.name == parameter.name).unwrap().value;
                let Some(([low, high], error)) = parameter.interval.zip(parameter.standard_error) else { continue };
                told[k] += 1;
                inside[k] += u32::from((low..=high).contains(&truths[k]));
                errors[k] += error;
                sums[k] += parameter.value - truths[k];
                squares[k] += (parameter.value - truths[k]).powi(2);
            }
        }
        for k in 0..count {
            let n = f64::from(told[k]).max(1.0);
            println!(
                "| {} | {} | {} | {} of {} | {:.3} % | {:.3} % | {:.3} % |",
                if k == 0 { case.process.replace('_', " ") } else { String::new() },
                case.sought[k].replace('_', " "),
                truths[k],
                inside[k],
                told[k],
                100.0 * errors[k] / n / truths[k].abs(),
                100.0 * (squares[k] / n).sqrt() / truths[k].abs(),
                100.0 * sums[k] / n / truths[k].abs(),
            );
        }
    }
}
