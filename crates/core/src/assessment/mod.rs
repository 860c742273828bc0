//! Judging a record, a trace or a loop: metrics, stability margins, and what they mean in a sentence.

mod approach;
mod attribution;
mod frequency;
mod horizons;
mod inspection;
mod interaction;
mod judgement;
mod margins;
mod metrics;
mod operation;
mod rejection;
mod several;
mod signal;

pub(crate) use approach::{rises, settles};
pub use frequency::{Family, FrequencyCurves, FrequencyGrid, OnGrid, Prediction};
pub use inspection::{Finding, Inspection, Oscillation, Spans, Stiction, Topic, inspect, inspect_prepared};
pub(crate) use interaction::usual_span;
pub use interaction::{
    DrivenInput, Interaction, InteractionCurves, InteractionQuestion, MeasuredOutput, Pair, Pairing, SignalOffers, Zero,
};
pub use judgement::{judge, robustness_verdicts, scan_verdicts};
pub use margins::{LoopGain, Margins, SampledLoop, sampled_margins, trial_margins};
use metrics::metrics_from;
pub use metrics::{LoadResponse, LoadTotals, MetricUnits, Metrics, SetPointResponse, integral_absolute_error, metrics};
pub(crate) use metrics::{reversals, travel};
pub use operation::{LoopChannel, Nearest, PlantAnalysis, RestingPoint, analyse, loop_channel};
pub use rejection::{Arrived, LeastVariance, LoadChange, LoadSwing, LoadsFound, Rejected, Rejection};
pub(crate) use several::Network;
pub use several::{FurtherLoop, Locus, LoopsTogether, OverFrequency, Peak, over_frequency};
pub use signal::{Outside, Question, SignalMetrics, StepMetrics, Used, measure};

use crate::Result;
use crate::simulation::{Event, Trace, Trial};
use crate::verdict::Verdict;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Share of the PV span that a loop must come back into after a load, either side of the set point.
const RECOVERY_SHARE: f64 = 0.005;

/// All that is known of a trial besides its trace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Assessment {
    /// Metrics of the trace; the recovery band is ±0.5 % of the PV span.
    pub metrics: Metrics,
    /// Margins of the sampled loop, further loops closed; null in manual.
    pub margins: Option<Margins>,
    /// What they mean, the gravest first.
    pub verdicts: Vec<Verdict>,
    /// The loops of further controllers.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further: Vec<FurtherLoop>,
}

/// Assesses a trial by its trace and its loop.
pub fn assess(trial: &Trial, trace: &Trace) -> Result<Assessment> {
    let metrics = metrics_of(trial, trace)?;
    let margins = trial_margins(trial)?;
    let further = several::further_loops(trial, trace)?;
    let verdicts = judge(trial, trace, margins.as_ref(), &metrics, &further);
    Ok(Assessment { metrics, margins, verdicts, further })
}

/// The metrics of the first loop of a trial.
fn metrics_of(trial: &Trial, trace: &Trace) -> Result<Metrics> {
    let span = &trial.plant.pv.span;
    // A set point that moves at the very start came from where the plant rested.
    let moves_at_start = |event: &Event| matches!(event, Event::SetPointStep { at, .. } if *at <= 0.0);
    let before = trial.scenario.events.iter().any(moves_at_start).then_some(trial.plant.operating_point.pv);
    let band = RECOVERY_SHARE * span.width();
    let mut metrics = metrics_from(trace, band, before);
    attribution::attribute(trial, trace, band, &mut metrics)?;
    if let Some(put_out) = trace.put_out(trial.plant.loop_tag()) {
        // Where its range is split or it is overridden, an OP at its end is no limit of the controller.
        metrics.saturated_time = metrics::time_at_limits(put_out, trace);
    }
    Ok(metrics)
}
