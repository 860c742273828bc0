//! A scan of a predictive controller, all its work, beside the quadratic program alone by `clarabel` in the same run: median, 99th
//! percentile, longest. Written to `target/predictive.md`.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{
    ControlledVariable, Drives, KnownAhead, ManipulatedVariable, PlanProgram, Predictive, PredictiveSettings,
    RankedLimit, Sight,
};
use antistasis_core::lti::Discrete;
use antistasis_core::numerics::{Constraints, Ending, QuadraticProgram};
use antistasis_core::process::{DetailedSpec, Element, NamedValue, ProcessSpec, TransferFunctionsSpec};
use antistasis_core::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use antistasis_core::units::Span;
use clarabel::algebra::CscMatrix;
use clarabel::solver::{DefaultSettings, DefaultSolver, IPSolver, NonnegativeConeT};
use nalgebra::DVector;
use std::time::Instant;

const SCANS: usize = 1500;

/// Gain, time constant, dead time of each cell.
type Cells = Vec<Vec<[f64; 3]>>;

fn settings(cells: &Cells, moves: usize, horizon: usize, scan: f64) -> PredictiveSettings {
    let named = |name: String| NamedValue { name, unit: "%".into(), value: 0.0, low: None, high: None };
    let columns = cells[0].len();
    let elements = cells.iter().enumerate().flat_map(|(i, row)| {
        row.iter().enumerate().map(move |(j, [gain, time_constant, dead_time])| Element {
            output: format!("y{i}"),
            input: format!("u{j}"),
            numerator: vec![*gain],
            denominator: vec![*time_constant, 1.0],
            dead_time: *dead_time,
        })
    });
    PredictiveSettings {
        model: ProcessSpec::from(DetailedSpec::TransferFunctions(TransferFunctionsSpec {
            inputs: (0..columns).map(|j| named(format!("u{j}"))).collect(),
            outputs: (0..cells.len()).map(|i| named(format!("y{i}"))).collect(),
            elements: elements.collect(),
        })),
        cvs: (0..cells.len())
            .map(|i| ControlledVariable {
                tag: format!("Y{i}"),
                output: format!("y{i}"),
                estimated: None,
                follows_set_point: true,
                set_point_known_ahead: false,
                low: None,
                // Above the first set points by a little: it is felt.
                high: (i == 0).then_some(RankedLimit { value: 54.2, rank: 1 }),
                bands: Vec::new(),
                response_time: 0.0,
                weight: 1.0,
                disturbance: None,
                believed_after: None,
            })
            .collect(),
        mvs: (0..columns)
            .map(|j| ManipulatedVariable {
                tag: format!("U{j}"),
                input: format!("u{j}"),
                low: 48.5,
                high: 51.5,
                rate: Some(0.2 / scan),
                usual_move: 2.0,
                follows_within: None,
                rests_at: None,
                cost: 0.0,
                drives: None,
            })
            .collect(),
        inputs: Default::default(),
        dvs: Vec::new(),
        horizon: horizon as f64 * scan,
        moves: vec![1; moves],
        beyond_horizon: false,
        learns: None,
        most_steps: 4000,
    }
}

/// The same program by an interior point method.
fn by_clarabel(program: &PlanProgram) -> (f64, Vec<f64>) {
    let n = program.linear.len();
    let upper: Vec<Vec<f64>> =
        (0..n).map(|i| (0..n).map(|j| if i <= j { program.matrix[(i, j)] } else { 0.0 }).collect()).collect();
    let (rows, bounds): (Vec<Vec<f64>>, Vec<f64>) = program
        .normals
        .iter()
        .zip(&program.bounds)
        .filter(|(_, bound)| bound.is_finite())
        .map(|(normal, bound)| (normal.iter().map(|value| -value).collect(), -bound))
        .unzip();
    let p = CscMatrix::from(&upper);
    let a = CscMatrix::from(&rows);
    let cones = [NonnegativeConeT(bounds.len())];
    let settings = DefaultSettings { verbose: false, ..DefaultSettings::default() };
    let begun = Instant::now();
    let mut solver = DefaultSolver::new(&p, &program.linear, &a, &bounds, &cones, settings).unwrap();
    solver.solve();
    (begun.elapsed().as_secs_f64(), solver.solution.x.clone())
}

/// The same program by our own solver alone; None where no point keeps all constraints.
fn by_own(program: &PlanProgram, solver: &mut QuadraticProgram) -> Option<f64> {
    let mut constraints = Constraints::new(program.linear.len());
    for (normal, bound) in program.normals.iter().zip(&program.bounds) {
        constraints.push(normal, *bound);
    }
    let begun = Instant::now();
    let ending = solver.solve(&program.linear, &constraints, 4000);
    (ending == Ending::Solved).then(|| begun.elapsed().as_secs_f64())
}

fn readable(seconds: f64) -> String {
    format!("{:.1} µs", seconds * 1e6)
}

fn of(times: &mut [f64]) -> [f64; 3] {
    times.sort_by(f64::total_cmp);
    [times[times.len() / 2], times[times.len() * 99 / 100], times[times.len() - 1]]
}

fn case(title: &str, cells: &Cells, moves: usize, horizon: usize, scan: f64) -> String {
    let settings = settings(cells, moves, horizon, scan);
    let spans: Vec<Span> = cells.iter().map(|_| Span::new(0.0, 100.0, "%")).collect();
    let mut controller = Predictive::new(&settings, &spans, scan).unwrap();
    let (p, m) = (cells.len(), cells[0].len());
    controller.rest(&vec![50.0; p], &vec![50.0; m], &[]);
    let linear = settings.model.linear_process("").unwrap().unwrap();
    let plant = Discrete::of(&linear.transfer_matrix(), scan).unwrap();
    let (phi, gamma, c) = plant.matrices();
    let (mut x, mut outputs) = (DVector::zeros(plant.order()), vec![50.0; m]);
    let mut own = QuadraticProgram::new(&controller.program().0.matrix).unwrap();
    let (mut scans, mut alone, mut theirs, mut steps) = (Vec::new(), Vec::new(), Vec::new(), 0);
    let mut noise = 1u64;
    for k in 0..SCANS {
        let measured: Vec<f64> = (c * &x)
            .iter()
            .map(|y| {
                noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                50.0 + y + 0.1 * ((noise >> 33) as f64 / f64::from(u32::MAX >> 1) - 0.5)
            })
            .collect();
        // Set points that go to and fro, apart from each other.
        let set_points: Vec<f64> = (0..p).map(|i| if ((k + 37 * i) / 100) % 2 == 0 { 50.0 } else { 54.0 }).collect();
        let sight = Sight {
            measured: &measured,
            set_points: &set_points,
            applied: &outputs.clone(),
            set: &outputs.clone(),
            available: &vec![true; m],
            disturbances: &[],
            ahead: KnownAhead::default(),
        };
        let begun = Instant::now();
        outputs.copy_from_slice(controller.scan(&sight));
        scans.push(begun.elapsed().as_secs_f64());
        steps += controller.steps();
        if k % 10 == 3 && !controller.gave_way() {
            let (program, found) = controller.program();
            if let Some(time) = by_own(&program, &mut own) {
                alone.push(time);
                let (time, solution) = by_clarabel(&program);
                theirs.push(time);
                // Both end at the same cost; an interior point method stops a little short of it.
                let cost = |x: &[f64]| {
                    let x = DVector::from_column_slice(x);
                    0.5 * (&program.matrix * &x).dot(&x) + DVector::from_column_slice(&program.linear).dot(&x)
                };
                let (ours, other) = (cost(found), cost(&solution));
                assert!((ours - other).abs() < 1e-5 * (1.0 + other.abs()), "{title}: {ours} {other}");
            }
        }
        x = phi * x + gamma * DVector::from_iterator(m, outputs.iter().map(|u| u - 50.0));
    }
    let [median, p99, longest] = of(&mut scans);
    let [program, program99, _] = of(&mut alone);
    let [clarabel, clarabel99, _] = of(&mut theirs);
    format!(
        "| {title}: {} unknowns, {} constraints | {} | {} | {} | {:.1} | {}, {} | {}, {} | {:.0} |\n",
        moves * m,
        controller.program().0.bounds.len(),
        readable(median),
        readable(p99),
        readable(longest),
        steps as f64 / SCANS as f64,
        readable(program),
        readable(program99),
        readable(clarabel),
        readable(clarabel99),
        clarabel / median
    )
}

/// A scan with the equations of a conical tank drained by gravity, by the time that a whole trial takes: set points to and fro, so that it
/// plans anew again and again.
fn with_equations() -> String {
    const WHOLE: f64 = 100.0;
    let process = ProcessSpec::library("cone_tank", &[]);
    let signal = |tag: &str, high: f64, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
    let mut settings = settings(&vec![vec![[1.0, 10.0, 0.0]]], 5, 40, 20.0);
    (settings.model, settings.moves, settings.beyond_horizon) = (process.clone(), vec![1, 1, 2, 4, 8], false);
    let (cv, mv) = (&mut settings.cvs[0], &mut settings.mvs[0]);
    (cv.tag, cv.output, cv.high) = ("L.PV".into(), "level".into(), None);
    (mv.tag, mv.input, mv.usual_move) = ("L.OP".into(), "inflow".into(), 0.5);
    mv.drives = Some(Drives { at_0: 0.0, at_100: 40.0 });
    let plant =
        Plant::plain(process, signal("L.PV", 4.0, "m"), signal("L.OP", WHOLE, "%"), OperatingPoint::new(1.0, 50.0));
    let events = (0..40).map(|k| Event::set_point(200.0 + 1000.0 * f64::from(k), if k % 2 == 0 { 1.5 } else { -1.5 }));
    let scenario =
        Scenario { duration: 40_000.0, scan: 20.0, seed: 1, events: events.collect(), further: Default::default() };
    let candidate = Candidate::new(ControllerSpec::Predictive(Box::new(settings)));
    let trial = Trial { version: TRIAL_VERSION, plant, candidate, scenario };
    let begun = Instant::now();
    let trace = trial.run().unwrap();
    assert!(trace.stopped.is_none());
    format!(
        "\nA scan with the equations of a conical tank, 40 scans ahead, 5 moves (a trial of 2,000 scans with a set point step every 50): {}\n",
        readable(begun.elapsed().as_secs_f64() / 2000.0)
    )
}

fn main() {
    let one: Cells = vec![vec![[1.2, 12.0, 2.5]]];
    let column: Cells = vec![vec![[12.8, 16.7, 1.0], [-18.9, 21.0, 3.0]], vec![[6.6, 10.9, 7.0], [-19.4, 14.4, 3.0]]];
    let four: Cells = (0..4)
        .map(|i| {
            (0..4)
                .map(|j| {
                    let apart = (i as f64 - j as f64).abs();
                    [2.0 * (-apart).exp() * if j > i { -1.0 } else { 1.0 }, 10.0 + 3.0 * (i + j) as f64, 1.0 + apart]
                })
                .collect()
        })
        .collect();
    let mut table = String::from(
        "| a scan of a predictive controller | median | 99 of 100 | longest | steps a scan | program alone: median, 99 of 100 | by `clarabel`: median, 99 of 100 | whole scan faster than `clarabel` alone |\n|---|---|---|---|---|---|---|---|\n",
    );
    table += &case("one loop, 10 moves, 60 scans ahead", &one, 10, 60, 1.0);
    for horizon in [60, 120] {
        table += &case(&format!("column of Wood & Berry, 30 moves, {horizon} scans ahead"), &column, 30, horizon, 1.0);
    }
    table += &case("4 × 4, 30 moves, 60 scans ahead", &four, 30, 60, 1.0);
    table += &with_equations();
    print!("{table}");
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    std::fs::write(root.join("target/predictive.md"), table).unwrap();
}
