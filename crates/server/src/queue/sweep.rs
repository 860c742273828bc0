//! A sweep in pieces: every trial assessed.

use super::{Asked, Divided, Ending, Making};
use antistasis_core::assessment::{Assessment, Question, SignalMetrics, assess, measure};
use antistasis_core::simulation::{Axis, ColumnRole, Happening, Sweep, SweepPoint, Trace, Trial};
use antistasis_store::Store;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::sync::Arc;
use utoipa::ToSchema;
use uuid::Uuid;

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
    /// How long it took, s.
    pub seconds: f64,
}

/// A sweep to be run.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct SweepJob {
    /// The trials.
    pub sweep: Sweep,
    /// A signal to be measured besides.
    pub question: Option<Question>,
}

impl Asked for SweepJob {
    const KIND: &'static str = "sweep";

    async fn fetch(self, _: &Store) -> antistasis_store::Result<Making> {
        Ok(Box::new(move || {
            self.sweep.validate()?;
            Ok(Arc::new(self))
        }))
    }
}

impl SweepJob {
    fn measured(&self, trial: &Trial, trace: &Trace) -> antistasis_core::Result<SweptTrial> {
        let with_curves = self.sweep.axes.len() == 1 && self.sweep.len() <= MOST_CURVES;
        let thinned = if with_curves { trace.thinned(CURVE_POINTS) } else { Trace::default() };
        Ok(SweptTrial {
            assessment: assess(trial, trace)?,
            answer: self.question.as_ref().map(|question| measure(trace, question)).transpose()?,
            stopped: trace.stopped.clone(),
            pv: thinned.values(ColumnRole::ProcessVariable).to_vec(),
            interval: thinned.scan,
        })
    }
}

impl Divided for SweepJob {
    fn trials(&self) -> usize {
        self.sweep.len()
    }

    fn scans(&self, _: usize) -> Option<(f64, usize)> {
        let scenario = &self.sweep.trial.scenario;
        Some((scenario.duration / scenario.scan, 0))
    }

    fn run(&self, trial: usize) -> Value {
        let point = self.sweep.point(trial, |trial, trace| self.measured(trial, trace));
        serde_json::to_value(point).unwrap_or_default()
    }

    fn finish<'a>(self: Arc<Self>, _: &'a Store, _: Uuid, points: Vec<Value>, seconds: f64) -> Ending<'a> {
        let axes: Vec<Vec<f64>> = self.sweep.axes.iter().map(Axis::values).collect();
        Box::pin(async move { Ok(json!({ "axes": axes, "points": points, "seconds": seconds })) })
    }
}
