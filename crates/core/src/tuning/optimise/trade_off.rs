//! The trade-off between how well a load is rejected and how wrong the model may be.

use super::bench::{Bench, models};
use super::{ControllerStructure, Figures, Task, best_kept};
use crate::Result;
use crate::controller::ControllerSpec;
use crate::numerics::on_threads;
use crate::tuning::controlled::Controlled;
use crate::tuning::{Rule, RuleChoice, Terms, tune_by_rule};
use crate::units::Span;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use utoipa::ToSchema;

/// A controller on the plane of load error and maximum sensitivity.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TradeOffPoint {
    /// What it is: the structure of a curve, or a rule.
    pub title: String,
    /// The controller with its settings.
    pub controller: ControllerSpec,
    /// What it achieves.
    pub figures: Figures,
}

/// The best load error for each maximum sensitivity, and where the rules stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TradeOff {
    /// A curve for each structure, by rising maximum sensitivity.
    pub curves: Vec<Vec<TradeOffPoint>>,
    /// The rules that have stable settings for the model.
    pub rules: Vec<TradeOffPoint>,
}

/// Maximum sensitivities of a curve.
const SENSITIVITIES: [f64; 9] = [1.15, 1.25, 1.35, 1.5, 1.65, 1.8, 2.0, 2.25, 2.6];

/// In which order: from limit to limit all structures, the one that takes longest first, so that the curves come about together.
const LIMITS_IN_TURN: [usize; 9] = [3, 8, 0, 6, 1, 4, 2, 7, 5];
const STRUCTURES_IN_TURN: [ControllerStructure; 3] =
    [ControllerStructure::Pid, ControllerStructure::Smith, ControllerStructure::Pi];

/// The trade-off for a model: PI, PID and Smith predictor, and all rules. `report` is called with the share done and what there is so
/// far; the work ends where `goes_on` says so.
pub fn trade_off(
    plant: &Controlled,
    pv_span: &Span,
    scan: f64,
    threads: usize,
    goes_on: &(dyn Fn() -> bool + Sync),
    report: &(dyn Fn(f64, TradeOff) + Sync),
) -> Result<TradeOff> {
    let structures: &[ControllerStructure] = if plant.as_seen(0.0).dead_time() > 0.0 {
        &[ControllerStructure::Pi, ControllerStructure::Pid, ControllerStructure::Smith]
    } else {
        &[ControllerStructure::Pi, ControllerStructure::Pid]
    };
    let rules = rules(plant, pv_span, scan)?;
    let so_far = |found: &[Found]| TradeOff {
        curves: structures.iter().map(|structure| curve(*structure, found)).collect(),
        rules: rules.clone(),
    };
    let jobs: Vec<(ControllerStructure, f64)> = LIMITS_IN_TURN
        .into_iter()
        .flat_map(|k| STRUCTURES_IN_TURN.into_iter().map(move |structure| (structure, SENSITIVITIES[k])))
        .filter(|(structure, _)| structures.contains(structure))
        .collect();
    let models = models(&Task::on(plant, pv_span, scan, ControllerStructure::Pi))?;
    let (next, done) = (AtomicUsize::new(0), Mutex::new((0, Vec::<Found>::new())));
    let failed = Mutex::new(None);
    on_threads(threads.min(jobs.len()), || {
        while let Some((structure, limit)) = jobs.get(next.fetch_add(1, Ordering::Relaxed)) {
            let mut task = Task::on(plant, pv_span, scan, *structure);
            task.demands.max_sensitivity = Some(*limit);
            let best =
                Bench::with(&task, Arc::clone(&models)).and_then(|bench| best_kept(&task, &bench, &|_| goes_on()));
            if !goes_on() {
                return;
            }
            let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
            done.0 += 1;
            match best {
                Ok(best) => done.1.extend(best.map(|(controller, figures)| (*structure, controller, figures))),
                Err(error) => *failed.lock().unwrap_or_else(PoisonError::into_inner) = Some(error),
            }
            report(done.0 as f64 / jobs.len() as f64, so_far(&done.1));
        }
    });
    let (_, found) = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    match failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
        Some(error) if found.is_empty() => Err(error),
        _ => Ok(so_far(&found)),
    }
}

/// The best settings of a structure under one of the limits.
type Found = (ControllerStructure, ControllerSpec, Figures);

/// What was found for a structure, by rising maximum sensitivity.
fn curve(structure: ControllerStructure, found: &[Found]) -> Vec<TradeOffPoint> {
    let mut points: Vec<TradeOffPoint> = found
        .iter()
        .filter(|(of, ..)| *of == structure)
        .map(|(_, controller, figures)| TradeOffPoint {
            title: structure.title().to_owned(),
            controller: controller.clone(),
            figures: *figures,
        })
        .collect();
    points.sort_by(|a, b| a.figures.max_sensitivity.total_cmp(&b.figures.max_sensitivity));
    // A limit that is not active gives the point before once more.
    points.dedup_by(|b, a| (b.figures.max_sensitivity / a.figures.max_sensitivity - 1.0).abs() < 1e-3);
    points
}

/// Where the rules stand.
fn rules(plant: &Controlled, pv_span: &Span, scan: f64) -> Result<Vec<TradeOffPoint>> {
    let mut points = Vec::new();
    for rule in Rule::ALL {
        for (terms, structure) in [(Terms::Pi, ControllerStructure::Pi), (Terms::Pid, ControllerStructure::Pid)] {
            let choice = RuleChoice { terms, ..RuleChoice::default() };
            let Ok(tuning) = tune_by_rule(&plant.as_seen(scan), pv_span, rule, &choice) else { continue };
            let task = Task::on(plant, pv_span, scan, structure);
            let bench = Bench::new(&task)?;
            let pid = tuning.to_type_in;
            let (integral, derivative) = (pid.integral_time.unwrap_or(f64::MAX), pid.derivative_time);
            let families = bench.families(integral, derivative);
            let point = bench.over_frequency(&families, pid.gain);
            if point.stable {
                let controller = ControllerSpec::Pid(pid);
                let figures = bench.figures(&controller, point)?;
                points.push(TradeOffPoint { title: tuning.title, controller, figures });
            }
        }
    }
    Ok(points)
}
