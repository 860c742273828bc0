//! A proof of four candidates under eight disturbances on two hundred plants, 600 scans each: on a linear plant, and on the slaker of
//! the demo. Beside it one of those loops by the `ode_solvers` crate, carried from scan to scan as one would by hand.

#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::proof::{
    Changes, Contender, Criterion, Disturbance, Figure, PROOF_VERSION, ParameterRange, Proof, ProvingSet, Uncertainty,
    prove,
};
use antistasis_core::simulation::{Candidate, Event, OperatingPoint, Plant, Signal, Trial};
use antistasis_core::units::Span;
use criterion::{Criterion as Bench, criterion_group, criterion_main};
use nalgebra::Vector1;
use ode_solvers::{Dopri5, System};
use std::hint::black_box;
use std::time::Duration;

const SLAKER: &str = include_str!("../../../demo/trials/TIC-310-fouling.json");
const SCANS: f64 = 600.0;

fn proof(plant: Plant, scan: f64, gain: f64, integral: f64, load: f64, ranges: Vec<ParameterRange>) -> Proof {
    let candidates = (0..4).map(|k| Contender {
        name: format!("candidate {k}"),
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(gain * (0.6 + 0.2 * f64::from(k)), integral))),
        scan: None,
    });
    let duration = (SCANS - 1.0) * scan;
    let at = 20.0 * scan;
    let input = || None;
    let events = [
        Event::LoadStep { at, by: load, input: input() },
        Event::LoadStep { at, by: -load, input: input() },
        Event::LoadRamp { at, by: load, over: 100.0 * scan, input: input() },
        Event::LoadPulse { at, by: load, lasts: 30.0 * scan, input: input() },
        Event::LoadSine { at, by: 0.5 * load, period: 150.0 * scan, lasts: None, input: input() },
        Event::LoadWalk { at, by: load, lasts: None, input: input() },
        Event::SetPointStep { at, by: 0.02 * plant.pv.span.width() },
        Event::SetPointStep { at, by: -0.02 * plant.pv.span.width() },
    ];
    let disturbances = events.into_iter().enumerate().map(|(k, event)| Disturbance {
        name: format!("disturbance {k}"),
        reason: String::new(),
        duration,
        events: vec![event],
        further: Default::default(),
        changes: Changes::default(),
        criteria: vec![
            Criterion::at_most(Figure::LargestDeviation {}, 0.05 * plant.pv.span.width()),
            Criterion::at_most(Figure::RecoveryTime { band: 0.005 * plant.pv.span.width() }, 0.5 * duration),
        ],
    });
    Proof {
        version: PROOF_VERSION,
        scan,
        candidates: candidates.collect(),
        compared_with: None,
        set: ProvingSet { name: "eight".to_owned(), note: String::new(), disturbances: disturbances.collect() },
        uncertainty: Uncertainty::Ranges { plants: 200, ranges },
        seed: 1,
        plant,
    }
}

fn range(parameter: &str, low: f64, high: f64) -> ParameterRange {
    ParameterRange { parameter: parameter.to_owned(), low, high }
}

struct Fopdt {
    push: f64,
}

impl System<f64, Vector1<f64>> for Fopdt {
    fn system(&self, _: f64, x: &Vector1<f64>, dx: &mut Vector1<f64>) {
        dx[0] = (1.2 * self.push - x[0]) / 20.0;
    }
}

/// One loop of the linear proof, its dead time of eight scans a queue.
fn by_library() -> f64 {
    let (mut x, mut integral, mut largest) = (0.0, 0.0, 0.0f64);
    let mut queue = [0.0; 8];
    for k in 0..SCANS as usize {
        integral -= 0.9 / 22.0 * x;
        let push = queue[k % 8];
        queue[k % 8] = -0.9 * x + integral + if k >= 20 { 10.0 } else { 0.0 };
        let mut stepper = Dopri5::new(Fopdt { push }, 0.0, 1.0, 1.0, Vector1::new(x), 1e-8, 1e-10);
        stepper.integrate().unwrap();
        x = stepper.y_out().last().unwrap()[0];
        largest = largest.max(x.abs());
    }
    largest
}

fn proofs(bench: &mut Bench) {
    let signal = |tag: &str, unit: &str| Signal { tag: tag.to_owned(), span: Span::new(0.0, 100.0, unit) };
    let process = LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 8.0 };
    let plant = Plant::plain(process, signal("L.PV", "°C"), signal("L.OP", "%"), OperatingPoint::new(50.0, 50.0));
    let ranges = vec![range("gain", 0.9, 1.5), range("time_constant", 15.0, 25.0), range("dead_time", 5.0, 11.0)];
    let linear = proof(plant, 1.0, 0.9, 22.0, 10.0, ranges);
    let slaker: Trial = serde_json::from_str(SLAKER).unwrap();
    let ControllerSpec::Pid(pid) = slaker.candidate.controller.clone() else { panic!("no PID") };
    let ranges = vec![range("transfer", 1.6e5, 2.4e5)];
    let integral = pid.integral_time.unwrap_or(600.0);
    let mut slaker = proof(slaker.plant, slaker.scenario.scan, pid.gain, integral, 5.0, ranges);
    if let Uncertainty::Ranges { ranges, .. } = &mut slaker.uncertainty {
        let own = &slaker.plant.describe().unwrap().parameters;
        let own = own.iter().find(|parameter| parameter.name == "transfer").unwrap().value;
        let stated = serde_json::to_value(&slaker.plant.process).unwrap();
        let value = stated.pointer("/parameters/transfer").and_then(serde_json::Value::as_f64).unwrap_or(own);
        ranges[0] = range("transfer", 0.8 * value, 1.2 * value);
    }
    let mut group = bench.benchmark_group("proof, 4 candidates x 8 disturbances x 200 plants x 600 scans");
    group.sample_size(10).measurement_time(Duration::from_secs(20));
    group.bench_function("first order with dead time", |bench| bench.iter(|| prove(black_box(&linear)).unwrap()));
    group.bench_function("slaker", |bench| bench.iter(|| prove(black_box(&slaker)).unwrap()));
    group.bench_function("one of its loops by ode_solvers, of 6432", |bench| bench.iter(|| black_box(by_library())));
    group.finish();
}

criterion_group!(benches, proofs);
criterion_main!(benches);
