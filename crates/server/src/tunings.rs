//! A search for settings at work.

use crate::jobs::Job;
use crate::problem::Problem;
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{
    Controlled, ControllerStructure, Demands, Objective, Optimum, Task, TradeOff, Variation, optimise, trade_off,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is to be found.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum TuningKind {
    /// The best settings under demands.
    #[default]
    Optimum,
    /// The best settings for each maximum sensitivity, and where the rules stand.
    TradeOff,
}

/// A search for settings.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TuningRequest {
    /// What is to be found.
    #[serde(default)]
    pub kind: TuningKind,
    /// The trial whose plant is to be controlled; its scan counts, and its scenario where that is asked.
    pub trial: Trial,
    /// The controller whose settings are sought.
    #[serde(default)]
    pub structure: ControllerStructure,
    /// What is made small.
    #[serde(default)]
    pub objective: Objective,
    /// What must be kept.
    #[serde(default)]
    pub demands: Demands,
    /// Demands in words, besides or instead: “overshoot below 20 %, rise below 1 min”.
    #[serde(default)]
    pub demands_in_words: Option<String>,
    /// Plants besides the model that must be kept in hand, as factors on it.
    #[serde(default)]
    pub family: Vec<Variation>,
    /// Whether all error of the trial's scenario on its own plant counts, instead of steps on the low-order process.
    #[serde(default)]
    pub whole_scenario: bool,
}

/// What was found.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct TuningOutcome {
    /// The low-order process that was tuned for.
    pub process: LinearSpec,
    /// The best settings.
    pub optimum: Option<Optimum>,
    /// The trade-off.
    pub trade_off: Option<TradeOff>,
    /// How long it took, s.
    pub seconds: f64,
}

/// Loops that a search simulates, about: for its progress only.
const ABOUT: f64 = 600.0;

/// Runs a search; the job is told how far it is, and ends it when it is no longer wanted.
pub(crate) fn run(request: TuningRequest, job: &Job<TuningOutcome>) -> Result<TuningOutcome, Problem> {
    let began = std::time::Instant::now();
    let plant = Controlled::of(&request.trial.plant)?;
    let process = plant.process.clone();
    let (span, scan) = (&request.trial.plant.pv.span, request.trial.scenario.scan);
    let (mut best, mut curves) = (None, None);
    if request.kind == TuningKind::TradeOff {
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let outcome = |so_far| TuningOutcome {
            process: process.clone(),
            optimum: None,
            trade_off: Some(so_far),
            seconds: began.elapsed().as_secs_f64(),
        };
        let report = |share: f64, so_far: TradeOff| {
            job.advance(share);
            job.show(outcome(so_far));
        };
        curves = Some(trade_off(&plant, span, scan, threads, &|| !job.is_cancelled(), &report)?);
    } else {
        let mut task = Task::on(&plant, span, scan, request.structure);
        if let Some(pid) = request.trial.candidate.controller.main_pid() {
            task.take_over(pid);
        }
        task.objective = request.objective;
        task.demands = request.demands;
        if let Some(words) = request.demands_in_words {
            for (demand, limit) in Demands::read(&words)?.asked() {
                task.demands = task.demands.with(demand, Some(limit));
            }
        }
        task.family = request.family;
        task.scenario = request.whole_scenario.then_some(request.trial);
        best = Some(optimise(&task, &|simulated| job.advance(1.0 - (-(simulated as f64) / ABOUT).exp()))?);
    }
    if job.is_cancelled() {
        return Err(Problem::cancelled("The search was cancelled."));
    }
    Ok(TuningOutcome { process, optimum: best, trade_off: curves, seconds: began.elapsed().as_secs_f64() })
}
