//! How long a fit and a closed-loop trial take, beside general-purpose libraries doing the same in the same run.
//!
//! - Fit: ours, and the crate `levenberg-marquardt` alone on the plain problem (all residuals, derivatives by central
//!   differences), as one would put it together without this project, from a good start.
//! - Trial: ours, and the crate `ode_solvers` (Dormand–Prince 5) carrying the same process through each scan between
//!   the same switching instants under the same controller.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::controller::{Controller, ControllerSpec, Pid, PidSettings, Reading};
use antistasis_core::identification::{
    DataSet, FitOptions, MovingHorizonOptions, NoiseModel, RecursiveOptions, Series, Structure, fit, fit_fopdt,
    moving_horizon, profile, recursive, validate,
};
use antistasis_core::instrument::SensorSpec;
use antistasis_core::lti::{DeadTime, Dynamics, Response};
use antistasis_core::process::{LinearSpec, ProcessSpec};
use antistasis_core::series::TimeAxis;
use antistasis_core::simulation::{
    Axis, Candidate, Drive, Event, OperatingPoint, Plant, Scenario, Signal, Simulation, Sweep, TRIAL_VERSION, Trial,
};
use antistasis_core::units::Span;
use criterion::{Criterion, criterion_group, criterion_main};
use levenberg_marquardt::{LeastSquaresProblem, LevenbergMarquardt};
use nalgebra::{DVector, Dyn, Owned, U5, Vector1, Vector2, Vector5};
use ode_solvers::{Dopri5, System};
use std::collections::VecDeque;
use std::hint::black_box;

const GAIN: f64 = 1.2;
const TIME_CONSTANT: f64 = 40.0;
const DEAD_TIME: f64 = 12.37;

/// A noisy record of steps up and down.
fn record(samples: usize) -> (TimeAxis, Vec<f64>, Vec<f64>) {
    let axis = TimeAxis::uniform(1.0, samples).unwrap();
    let input: Vec<f64> = (0..samples).map(|k| if k / 97 % 2 == 1 { 55.0 } else { 45.0 }).collect();
    let mut noise =
        antistasis_core::instrument::Sensor::new(&SensorSpec::with_noise(0.3), "bench", 1, 1.0, [0.0, 100.0]);
    let mut output = Vec::with_capacity(samples);
    for sample in respond(&axis, &input, TIME_CONSTANT, DEAD_TIME) {
        output.push(noise.measure(20.0 + GAIN * sample.value, None));
    }
    (axis, input, output)
}

/// The response of a lag that rested at the first input.
fn respond<'a>(axis: &'a TimeAxis, input: &'a [f64], time_constant: f64, dead_time: f64) -> Response<'a> {
    Response::new(Dynamics::Lag { time_constant }, axis, input, input[0], DeadTime::new(dead_time).unwrap())
}

/// The fit as a plain problem for a least-squares library.
struct PlainFit<'a> {
    data: &'a (TimeAxis, Vec<f64>, Vec<f64>),
    p: Vector5<f64>,
}

impl PlainFit<'_> {
    fn residuals_at(&self, p: &Vector5<f64>) -> DVector<f64> {
        let (axis, input, output) = self.data;
        let mut residuals = DVector::zeros(output.len());
        for (k, sample) in respond(axis, input, p[3].exp(), p[4].max(0.0)).enumerate() {
            residuals[k] = p[0] * sample.value + p[1] + p[2] * (-axis.at(k) / p[3].exp()).exp() - output[k];
        }
        residuals
    }
}

impl LeastSquaresProblem<f64, Dyn, U5> for PlainFit<'_> {
    type ResidualStorage = Owned<f64, Dyn>;
    type JacobianStorage = Owned<f64, Dyn, U5>;
    type ParameterStorage = Owned<f64, U5>;

    fn set_params(&mut self, p: &Vector5<f64>) {
        self.p = *p;
    }

    fn params(&self) -> Vector5<f64> {
        self.p
    }

    fn residuals(&self) -> Option<DVector<f64>> {
        Some(self.residuals_at(&self.p))
    }

    fn jacobian(&self) -> Option<nalgebra::OMatrix<f64, Dyn, U5>> {
        let mut jacobian = nalgebra::OMatrix::<f64, Dyn, U5>::zeros(self.data.2.len());
        for k in 0..5 {
            let h = 1e-6 * self.p[k].abs().max(1.0);
            let (mut up, mut down) = (self.p, self.p);
            up[k] += h;
            down[k] -= h;
            jacobian.set_column(k, &((self.residuals_at(&up) - self.residuals_at(&down)) / (2.0 * h)));
        }
        Some(jacobian)
    }
}

fn fits(criterion: &mut Criterion) {
    for (name, samples) in [("1000 samples", 1000), ("1 million samples", 1_000_000)] {
        let mut group = criterion.benchmark_group(format!("FOPDT fit, {name}"));
        if samples > 10_000 {
            group.sample_size(10);
        }
        let data = record(samples);
        group.bench_function("antistasis, from nothing", |bencher| {
            let (axis, input, output) = data.clone();
            let set = DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output));
            bencher.iter(|| fit_fopdt(black_box(&set)).unwrap());
        });
        if samples <= 10_000 {
            group.bench_function("antistasis, with a noise model, from nothing", |bencher| {
                let (axis, input, output) = data.clone();
                let set = DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output));
                let options = FitOptions { noise: NoiseModel::Autoregression, ..FitOptions::new(Structure::Fopdt) };
                bencher.iter(|| fit(black_box(&set), &options).unwrap());
            });
            group.bench_function("levenberg-marquardt alone, from a good start", |bencher| {
                bencher.iter(|| {
                    let p = Vector5::new(1.0, 20.0, 0.0, 30f64.ln(), 10.0);
                    let (problem, report) = LevenbergMarquardt::new().minimize(PlainFit { data: &data, p });
                    assert!(report.termination.was_successful());
                    black_box(problem.p)
                });
            });
        }
        group.finish();
    }
}

/// Other structures on the same record.
fn structures(criterion: &mut Criterion) {
    let (axis, input, output) = record(10_000);
    let data = DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output));
    let mut group = criterion.benchmark_group("other structures, 10000 samples");
    group.sample_size(10);
    for (name, structure) in [
        ("two lags with dead time", Structure::TwoLags),
        ("ARX 2,2,13", Structure::Arx { na: 2, nb: 2, nk: 13 }),
        ("output error 2,2,13", Structure::OutputError { nb: 2, nf: 2, nk: 13 }),
        ("state space, order found", Structure::StateSpace { order: 0 }),
    ] {
        let options = FitOptions::new(structure);
        group.bench_function(name, |bencher| bencher.iter(|| fit(black_box(&data), &options).unwrap()));
    }
    group.finish();
}

/// What is asked for after a fit, on a long record.
fn afterwards(criterion: &mut Criterion) {
    let (axis, input, output) = record(200_000);
    let data = DataSet::single(axis, Series::new("OP", "%", input), Series::new("PV", "°C", output));
    let options = FitOptions::new(Structure::Fopdt);
    let model = fit(&data, &options).unwrap();
    let mut group = criterion.benchmark_group("after a fit, 200,000 samples");
    group.sample_size(10);
    group.bench_function("profile of the dead time", |bencher| {
        let stretches = std::slice::from_ref(&data);
        bencher.iter(|| profile(stretches, &options, &model, "dead_time").unwrap());
    });
    group.bench_function("validation and responses with bands", |bencher| {
        bencher.iter(|| {
            let tests = validate(&model, black_box(&data), true).unwrap();
            let step = model.step_response(Some(&data), 0, 0, None).unwrap();
            (tests, step, model.frequency_response(Some(&data), 0, 0).unwrap())
        });
    });
    let recursive_options = RecursiveOptions { nk: 13, ..RecursiveOptions::default() };
    group.bench_function("recursive least squares", |bencher| {
        bencher.iter(|| recursive(black_box(&data), &recursive_options).unwrap());
    });
    let sliding: MovingHorizonOptions = serde_json::from_value(serde_json::json!({
        "window": 12.0 * (TIME_CONSTANT + DEAD_TIME), "dead_time": DEAD_TIME, "gain": [0.1, 5.0], "time_constant": [1.0, 400.0],
    }))
    .unwrap();
    group.bench_function("first order in a sliding window", |bencher| {
        bencher.iter(|| moving_horizon(black_box(&data), &sliding).unwrap());
    });
    group.finish();
}

fn trial(scans: usize) -> Trial {
    let signal = |tag: &str, span| Signal { tag: tag.to_owned(), span };
    let duration = scans as f64 - 1.0;
    Trial {
        version: TRIAL_VERSION,
        plant: Plant::plain(
            LinearSpec::Fopdt { gain: GAIN, time_constant: TIME_CONSTANT, dead_time: DEAD_TIME },
            signal("T.PV", Span::new(0.0, 150.0, "°C")),
            signal("T.OP", Span::new(0.0, 100.0, "%")),
            OperatingPoint::new(75.0, 45.0),
        ),
        candidate: Candidate::new(ControllerSpec::Pid(settings())),
        scenario: Scenario {
            duration,
            scan: 1.0,
            seed: 0,
            events: vec![Event::SetPointStep { at: 10.0, by: 6.0 }, Event::load(0.5 * duration + 0.3, -10.0)],
            further: Default::default(),
        },
    }
}

fn settings() -> PidSettings {
    PidSettings { derivative_time: 4.0, ..PidSettings::pi(1.8, 40.0) }
}

struct Lag {
    input: f64,
}

impl System<f64, Vector1<f64>> for Lag {
    fn system(&self, _: f64, x: &Vector1<f64>, derivatives: &mut Vector1<f64>) {
        derivatives[0] = (GAIN * self.input - x[0]) / TIME_CONSTANT;
    }
}

/// The same loop with the process integrated by a general library at a relative tolerance of 1e-8.
fn by_ode_library(scans: usize) -> f64 {
    let span = Span::new(0.0, 150.0, "°C");
    let mut controller = Pid::new(&settings(), 1.0).unwrap();
    let rest = span.to_percent(75.0);
    controller.track(Reading { set_point: rest, measurement: rest, further: &[] }, 45.0);
    let advance = |x: f64, input: f64, h: f64| {
        let mut stepper = Dopri5::new(Lag { input }, 0.0, h, h, Vector1::new(x), 1e-8, 1e-8);
        stepper.integrate().unwrap();
        stepper.y_out().last().unwrap()[0]
    };
    let mut under_way: VecDeque<f64> = std::iter::repeat_n(0.0, 12).collect();
    let (mut x, mut acting) = (0.0, 0.0);
    for k in 0..scans {
        let set_point = if k >= 10 { 81.0 } else { 75.0 };
        let reading =
            Reading { set_point: span.to_percent(set_point), measurement: span.to_percent(75.0 + x), further: &[] };
        under_way.push_back(controller.scan(reading) - 45.0);
        let load = if k as f64 > 0.5 * scans as f64 + 12.0 { -10.0 } else { 0.0 };
        x = advance(x, acting + load, 0.37);
        acting = under_way.pop_front().unwrap();
        x = advance(x, acting + load, 0.63);
    }
    x
}

fn trials(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("closed-loop trial, 100000 scans");
    group.sample_size(20);
    group.bench_function("antistasis", |bencher| {
        let trial = trial(100_000);
        bencher.iter(|| Simulation::new(black_box(&trial)).unwrap().run());
    });
    group.bench_function("ode_solvers, Dopri5", |bencher| bencher.iter(|| by_ode_library(black_box(100_000))));
    group.finish();
}

/// The stirred reactor under PI control: 14,400 scans.
fn reactor_trial() -> Trial {
    let signal = |tag: &str, span| Signal { tag: tag.to_owned(), span };
    let mut plant = Plant::plain(
        ProcessSpec::library("stirred_reactor", &[]),
        signal("T.PV", Span::new(0.0, 150.0, "°C")),
        signal("T.OP", Span::new(0.0, 100.0, "%")),
        OperatingPoint::new(76.85, 45.0),
    );
    plant.drive = Some(Drive { input: "coolant_temperature".to_owned(), at_0: 0.0, at_100: 60.0 });
    let load = |at: f64, by: f64| Event::LoadStep { at, by, input: Some("feed_temperature".to_owned()) };
    Trial {
        version: TRIAL_VERSION,
        plant,
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(8.0, 200.0))),
        scenario: Scenario {
            duration: 14_399.0,
            scan: 1.0,
            seed: 0,
            events: vec![Event::set_point(100.0, 2.0), load(4000.3, 3.0), load(9000.7, -5.0)],
            further: Default::default(),
        },
    }
}

struct PlainReactor {
    coolant: f64,
    feed: f64,
}

impl System<f64, Vector2<f64>> for PlainReactor {
    fn system(&self, _: f64, x: &Vector2<f64>, rates: &mut Vector2<f64>) {
        let k = 7.2e10 * (-8750.0 / (x[1] + 273.15)).exp();
        rates[0] = ((1.0 - x[0]) - k * x[0]) / 60.0;
        rates[1] = ((self.feed - x[1]) + 5e4 * k * x[0] / 239.0 + 5e4 * (self.coolant - x[1]) / 23_900.0) / 60.0;
    }
}

/// The same loop with the reactor integrated by a general library at the same relative tolerance, 1e-8.
fn reactor_by_ode_library() -> f64 {
    let span = Span::new(0.0, 150.0, "°C");
    let mut controller = Pid::new(&PidSettings::pi(8.0, 200.0), 1.0).unwrap();
    let rest = span.to_percent(76.85);
    controller.track(Reading { set_point: rest, measurement: rest, further: &[] }, 44.75);
    let mut x = Vector2::new(0.5, 76.85);
    for k in 0..14_400 {
        let set_point = if k >= 100 { 78.85 } else { 76.85 };
        let reading =
            Reading { set_point: span.to_percent(set_point), measurement: span.to_percent(x[1]), further: &[] };
        let coolant = 0.6 * controller.scan(reading);
        let feed = 76.85 + if k > 4000 { 3.0 } else { 0.0 } - if k > 9000 { 5.0 } else { 0.0 };
        let mut stepper = Dopri5::new(PlainReactor { coolant, feed }, 0.0, 1.0, 1.0, x, 1e-8, 1e-10);
        stepper.integrate().unwrap();
        x = *stepper.y_out().last().unwrap();
    }
    x[1]
}

fn reactors(criterion: &mut Criterion) {
    let trial = reactor_trial();
    let mut group = criterion.benchmark_group("stirred reactor in a PI loop, 14400 scans");
    group.sample_size(20);
    group.bench_function("antistasis", |bencher| {
        bencher.iter(|| Simulation::new(black_box(&trial)).unwrap().run());
    });
    group.bench_function("ode_solvers, Dopri5", |bencher| bencher.iter(|| black_box(reactor_by_ode_library())));
    group.finish();
    let mut group = criterion.benchmark_group("sweep of the stirred reactor, 400 trials of 14400 scans");
    group.sample_size(10);
    let axis = Axis { pointer: "/candidate/controller/gain".into(), from: 4.0, to: 12.0, count: 400, by_ratio: true };
    let sweep = Sweep { trial, axes: vec![axis] };
    for threads in [1, std::thread::available_parallelism().map_or(1, usize::from)] {
        group.bench_function(format!("{threads} threads"), |bencher| {
            bencher.iter(|| sweep.run(threads, |_, trace| Ok(trace.len()), |_| true).unwrap());
        });
    }
    group.finish();
}

// Criterion's macros make functions without documentation.
#[allow(missing_docs)]
mod groups {
    use super::*;
    criterion_group!(all, fits, structures, afterwards, trials, reactors);
}

criterion_main!(groups::all);
