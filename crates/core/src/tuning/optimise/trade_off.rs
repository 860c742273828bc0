//! The trade-off between how well a load is rejected and how wrong the model may be.

use super::{ControllerStructure, Figures, Task, bench::Bench, best_kept};
use crate::Result;
use crate::controller::ControllerSpec;
use crate::tuning::controlled::Controlled;
use crate::tuning::{Rule, RuleChoice, Terms, tune_by_rule};
use crate::units::Span;
use serde::{Deserialize, Serialize};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
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

/// The trade-off for a model: PI, PID and Smith predictor, and all rules. `progress` is called with the share done, and
/// stops the work when it returns false.
pub fn trade_off(
    plant: &Controlled,
    pv_span: &Span,
    scan: f64,
    threads: usize,
    progress: &(dyn Fn(f64) -> bool + Sync),
) -> Result<TradeOff> {
    let structures: &[ControllerStructure] = if plant.as_seen(0.0).dead_time() > 0.0 {
        &[ControllerStructure::Pi, ControllerStructure::Pid, ControllerStructure::Smith]
    } else {
        &[ControllerStructure::Pi, ControllerStructure::Pid]
    };
    let jobs: Vec<(usize, f64)> =
        (0..structures.len()).flat_map(|k| SENSITIVITIES.into_iter().map(move |limit| (k, limit))).collect();
    let (next, done) = (AtomicUsize::new(0), Mutex::new(Vec::<(usize, Option<(ControllerSpec, Figures)>)>::new()));
    let failed = Mutex::new(None);
    std::thread::scope(|scope| {
        for _ in 0..threads.clamp(1, jobs.len()) {
            scope.spawn(|| {
                while let Some((k, limit)) = jobs.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let mut task = Task::on(plant, pv_span, scan, structures[*k]);
                    task.demands.max_sensitivity = Some(*limit);
                    let found = best_kept(&task, &|_| progress(f64::NAN));
                    let mut done = done.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                    match found {
                        Ok(found) => done.push((*k, found)),
                        Err(error) => *failed.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(error),
                    }
                    if !progress(done.len() as f64 / jobs.len() as f64) {
                        return;
                    }
                }
            });
        }
    });
    let done = done.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    let curves: Vec<Vec<TradeOffPoint>> = (0..structures.len())
        .map(|k| {
            let mut points: Vec<TradeOffPoint> = done
                .iter()
                .filter(|(of, _)| *of == k)
                .filter_map(|(_, found)| found.as_ref())
                .map(|(controller, figures)| TradeOffPoint {
                    title: structures[k].title().to_owned(),
                    controller: controller.clone(),
                    figures: *figures,
                })
                .collect();
            points.sort_by(|a, b| a.figures.max_sensitivity.total_cmp(&b.figures.max_sensitivity));
            // A limit that is not active gives the point before once more.
            points.dedup_by(|b, a| (b.figures.max_sensitivity / a.figures.max_sensitivity - 1.0).abs() < 1e-3);
            points
        })
        .collect();
    if curves.iter().all(Vec::is_empty)
        && let Some(error) = failed.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)
    {
        return Err(error);
    }
    Ok(TradeOff { curves, rules: rules(plant, pv_span, scan)? })
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
            let families = bench.families(integral, derivative)?;
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
