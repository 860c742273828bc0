//! How long the search for settings and the map of mismatch take, beside a general optimiser on the same cost.

#![allow(clippy::unwrap_used)]

use antistasis_core::assessment::sampled_margins;
use antistasis_core::controller::{ControllerSpec, OutputLimits, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{
    Candidate, Event, OperatingPoint, Plant, Scenario, Signal, Simulation, TRIAL_VERSION, Trial,
};
use antistasis_core::tuning::{
    Controlled, ControllerStructure, MismatchQuestion, Task, mismatch_map, optimise, trade_off,
};
use antistasis_core::units::Span;
use argmin::core::{CostFunction, Error, Executor};
use argmin::solver::neldermead::NelderMead;
use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;

fn span() -> Span {
    Span::new(0.0, 100.0, "%")
}

/// Lag-dominant, balanced, delay-dominant, two lags, inverse response, integrating: each with its scan in s.
fn plants() -> [(&'static str, LinearSpec, f64); 6] {
    let two = |lead_time_constant, dead_time| LinearSpec::TwoLags {
        gain: 1.5,
        time_constant_1: 20.0,
        time_constant_2: 8.0,
        lead_time_constant,
        dead_time,
    };
    [
        ("lag-dominant", LinearSpec::Fopdt { gain: 2.0, time_constant: 60.0, dead_time: 5.0 }, 0.5),
        ("balanced", LinearSpec::Fopdt { gain: -1.0, time_constant: 20.0, dead_time: 15.0 }, 0.5),
        ("delay-dominant", LinearSpec::Fopdt { gain: 5.0, time_constant: 5.0, dead_time: 30.0 }, 1.0),
        ("two lags", two(0.0, 4.0), 0.5),
        ("inverse response", two(-6.0, 2.0), 0.5),
        ("integrating", LinearSpec::Integrating { gain: 0.02, dead_time: 10.0 }, 0.5),
    ]
}

const LIMIT: f64 = 1.6;

/// The same cost for a general optimiser: load error, with a penalty on the maximum sensitivity above its limit.
struct Penalised {
    process: LinearSpec,
    scan: f64,
}

impl CostFunction for Penalised {
    type Param = Vec<f64>;
    type Output = f64;

    fn cost(&self, place: &Vec<f64>) -> Result<f64, Error> {
        let pid = PidSettings {
            output_limits: OutputLimits { low: -1000.0, high: 1000.0 },
            ..PidSettings::pi(place[0].exp(), place[1].exp())
        };
        let margins = sampled_margins(&self.process, &span(), &pid, self.scan)?;
        let Some(sensitivity) = margins.max_sensitivity else { return Ok(1e9) };
        let signal = |tag: &str| Signal { tag: tag.to_owned(), span: span() };
        let trial = Trial {
            version: TRIAL_VERSION,
            plant: Plant::plain(self.process.clone(), signal("PV"), signal("OP"), OperatingPoint::new(50.0, 50.0)),
            candidate: Candidate::new(ControllerSpec::Pid(pid)),
            scenario: Scenario {
                duration: 15.0 * self.process.time_scale(),
                scan: self.scan,
                seed: 0,
                events: vec![Event::load(0.0, 1.0)],
                further: Default::default(),
            },
        };
        let mut error = 0.0;
        let mut simulation = Simulation::new(&trial)?;
        while let Some(row) = simulation.step() {
            error += (row.set_point - row.measurement).abs() * self.scan;
        }
        Ok(error * (1.0 + 50.0 * (sensitivity / LIMIT - 1.0).max(0.0)))
    }
}

fn optima(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("optimum under a maximum sensitivity");
    group.sample_size(10);
    for (name, process, scan) in plants() {
        for structure in [ControllerStructure::Pi, ControllerStructure::Pid] {
            group.bench_function(format!("{name}, {}", structure.title()), |bencher| {
                let mut task = Task::new(&process, &span(), scan, structure);
                task.demands.max_sensitivity = Some(LIMIT);
                bencher.iter(|| optimise(black_box(&task), &|_| true).unwrap());
            });
        }
    }
    group.bench_function("lag-dominant, PI, argmin Nelder-Mead from a good start", |bencher| {
        let (_, process, scan) = &plants()[0];
        bencher.iter(|| {
            let cost = Penalised { process: process.clone(), scan: *scan };
            let start = [(2.0f64, 30.0f64), (2.4, 30.0), (2.0, 36.0)];
            let simplex = start.map(|(gain, time)| vec![gain.ln(), time.ln()]).to_vec();
            let solver = NelderMead::new(simplex).with_sd_tolerance(1e-4).unwrap();
            Executor::new(cost, solver).configure(|state| state.max_iters(200)).run().unwrap()
        });
    });
    group.finish();
}

fn maps(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("map of mismatch, 60 × 60");
    group.sample_size(10);
    let process = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 10.0 };
    let controller = ControllerSpec::Pid(PidSettings::pi(1.0, 20.0));
    for threads in [1, 2] {
        group.bench_function(format!("{threads} threads"), |bencher| {
            let question = MismatchQuestion::default();
            bencher.iter(|| {
                mismatch_map(
                    &Controlled::plain(process.clone()),
                    &span(),
                    0.5,
                    &controller,
                    black_box(&question),
                    threads,
                )
                .unwrap()
            });
        });
    }
    group.finish();
}

/// All curves and rules of the trade-off of one plant, as the interface asks for them.
fn trade_offs(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("trade-off: PI, PID, Smith predictor and all rules");
    group.sample_size(10);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    for (name, process, scan) in plants().into_iter().take(3) {
        let plant = Controlled::plain(process);
        group.bench_function(name, |bencher| {
            bencher.iter(|| trade_off(black_box(&plant), &span(), scan, threads, &|| true, &|_, _| {}).unwrap());
        });
    }
    group.finish();
}

criterion_group!(all, optima, maps, trade_offs);
criterion_main!(all);
