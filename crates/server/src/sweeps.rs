//! A sweep at work: every trial assessed, on all cores.

use crate::jobs::Job;
use crate::problem::Problem;
use antistasis_core::assessment::{Assessment, Question, SignalMetrics, assess, measure};
use antistasis_core::simulation::{Axis, ColumnRole, Happening, Sweep, SweepPoint, Trace, Trial};
use serde::Serialize;
use utoipa::ToSchema;

/// Points of each curve of a family.
const CURVE_POINTS: usize = 400;
/// A family of more curves is not drawn, so that they are not sent.
const MOST_CURVES: usize = 100;

/// What came out of one trial of a sweep.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SweptTrial {
    /// Metrics and margins.
    pub assessment: Assessment,
    /// What was asked of a signal besides.
    pub answer: Option<SignalMetrics>,
    /// Why it was stopped before its end.
    pub stopped: Option<Happening>,
    /// The PV, thinned; empty in a sweep over two numbers and of very many trials.
    pub pv: Vec<f64>,
    /// Seconds between its values.
    pub interval: f64,
}

/// What came out of a sweep.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SweepOutcome {
    /// The values on each axis.
    pub axes: Vec<Vec<f64>>,
    /// The trials, the first axis changing slowest.
    pub points: Vec<SweepPoint<SweptTrial>>,
    /// Threads that it ran on.
    pub threads: usize,
    /// How long it took, s.
    pub seconds: f64,
}

/// Runs a sweep; the job is told how far it is, and ends it when it is no longer wanted.
pub(crate) fn run(
    sweep: &Sweep,
    question: Option<&Question>,
    job: &Job<SweepOutcome>,
) -> Result<SweepOutcome, Problem> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let began = std::time::Instant::now();
    let with_curves = sweep.axes.len() == 1 && sweep.len() <= MOST_CURVES;
    let measured = |trial: &Trial, trace: &Trace| {
        let thinned = if with_curves { trace.thinned(CURVE_POINTS) } else { Trace::default() };
        Ok(SweptTrial {
            assessment: assess(trial, trace)?,
            answer: question.map(|question| measure(trace, question)).transpose()?,
            stopped: trace.stopped.clone(),
            pv: thinned.values(ColumnRole::ProcessVariable).to_vec(),
            interval: thinned.scan,
        })
    };
    let points = sweep
        .run(threads, measured, |done| job.advance(done as f64 / sweep.len() as f64))?
        .ok_or_else(|| Problem::cancelled("The sweep was cancelled."))?;
    let axes = sweep.axes.iter().map(Axis::values).collect();
    Ok(SweepOutcome { axes, points, threads, seconds: began.elapsed().as_secs_f64() })
}
