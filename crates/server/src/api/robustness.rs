//! How far a model may be wrong: frequency curves, the map of mismatch, the envelope over its uncertainty.

use crate::gate::compute;
use crate::problem::{Body, Problem, Query};
use crate::state::AppState;
use antistasis_core::assessment::{
    FrequencyCurves, LoopsTogether, Margins, OverFrequency, SampledLoop, over_frequency, robustness_verdicts,
    trial_margins,
};
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{Controlled, Envelope, MismatchMap, MismatchQuestion, envelope, mismatch_map};
use antistasis_core::{Error, Verdict};
use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(frequency_curves)).routes(routes!(mismatch)).routes(routes!(response_envelope))
}

/// The loop of a trial over frequency.
#[derive(Debug, Serialize, ToSchema)]
struct FrequencyOutcome {
    /// The curves; null in manual and for controllers that are not linear.
    curves: Option<FrequencyCurves>,
    /// The margins.
    margins: Option<Margins>,
    /// From noise at the PV to the output: the standard deviations of the output and of its move from scan to scan, in % for
    /// 1 % of noise, white from scan to scan; null where there are no curves or the loop is unstable.
    noise: Option<NoiseToOutput>,
    /// What they mean.
    verdicts: Vec<Verdict>,
    /// Of several controllers, all their loops together; null where there is one loop.
    together: Option<LoopsTogether>,
}

/// Which loop of several is looked at.
#[derive(Debug, Deserialize, IntoParams)]
struct OfController {
    /// Name of the controller; the first one where left out.
    controller: Option<String>,
}

/// What noise does to the output.
#[derive(Debug, Serialize, ToSchema)]
struct NoiseToOutput {
    /// Standard deviation of the output, % per %.
    output: f64,
    /// Standard deviation of its move from scan to scan, % per %.
    a_move: f64,
    /// Travel of the output by the noise of this trial's sensor alone, % per hour.
    travel_per_hour: f64,
}

/// Open loop, the four sensitivity functions, margins and noise amplification of the sampled loop of a trial. Of several
/// controllers those of one with the others closed around it, and all loops together: singular values of S and T, characteristic loci.
#[utoipa::path(post, path = "/api/v1/robustness/frequency", tag = "tuning", params(OfController), request_body = Trial,
    responses((status = 200, body = FrequencyOutcome), (status = 422, body = Problem)))]
async fn frequency_curves(
    Query(of): Query<OfController>,
    Body(trial): Body<Trial>,
) -> Result<Json<FrequencyOutcome>, Problem> {
    let outcome = compute(move || {
        trial.validate()?;
        if !trial.candidate.further.is_empty() || of.controller.is_some() {
            let found = over_frequency(&trial, of.controller.as_deref())?;
            let OverFrequency { curves, margins, together } = found.unwrap_or_default();
            let verdicts = robustness_verdicts(margins.as_ref(), &trial.candidate.controller);
            return Ok(FrequencyOutcome { curves, margins, noise: None, verdicts, together });
        }
        let margins = trial_margins(&trial)?;
        let Some(sampled) = SampledLoop::of(&trial)? else {
            return Ok(FrequencyOutcome { curves: None, margins, noise: None, verdicts: Vec::new(), together: None });
        };
        let controller = &trial.candidate.controller;
        let curves = FrequencyCurves::new(&sampled, controller)?;
        let noise = match (sampled.noise_to_output(controller)?, &margins) {
            (Some((output, a_move)), Some(margins)) if margins.stable => {
                let deviation = 100.0 * trial.plant.sensor.noise / trial.plant.pv.span.width();
                // The mean size of a normal deviate is √(2/π) standard deviations (exact mathematics).
                let travel = a_move * deviation * (2.0 / std::f64::consts::PI).sqrt();
                Some(NoiseToOutput { output, a_move, travel_per_hour: travel * 3600.0 / trial.scenario.scan })
            }
            _ => None,
        };
        let verdicts = robustness_verdicts(margins.as_ref(), &trial.candidate.controller);
        Ok::<_, Error>(FrequencyOutcome { curves, margins, noise, verdicts, together: None })
    });
    Ok(Json(outcome.await??))
}

/// A map of mismatch to be drawn.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct MismatchRequest {
    /// The trial whose controller and plant are meant.
    trial: Trial,
    /// How the map is drawn.
    #[serde(default)]
    question: MismatchQuestion,
}

/// What becomes of the loop of a trial when gain and dead time of the plant are not the model's. Of several loops the first is taken
/// as if the others stood still.
#[utoipa::path(post, path = "/api/v1/robustness/mismatch", tag = "tuning", request_body = MismatchRequest,
    responses((status = 200, body = MismatchMap), (status = 422, body = Problem)))]
async fn mismatch(Body(request): Body<MismatchRequest>) -> Result<Json<MismatchMap>, Problem> {
    let map = compute(move || {
        let MismatchRequest { trial, question } = request;
        trial.validate()?;
        trial.check_stands_alone()?;
        let plant = Controlled::of(&trial.plant)?;
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let (span, scan) = (&trial.plant.pv.span, trial.scenario.scan);
        mismatch_map(&plant, span, scan, &trial.candidate.controller, &question, threads)
    });
    Ok(Json(map.await??))
}

/// An envelope to be drawn.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct EnvelopeRequest {
    /// The trial; its process is a low-order model.
    trial: Trial,
    /// The model whose uncertainty is meant; null takes `relative_errors`.
    #[serde(default)]
    model_id: Option<Uuid>,
    /// Standard errors of all parameters as a share of their values, where there is no model; null for 0.1.
    #[serde(default)]
    relative_error: Option<f64>,
    /// Plants to be drawn, 2 to 2000; null for 200.
    #[serde(default)]
    draws: Option<usize>,
    /// Seed of the draws.
    #[serde(default)]
    seed: u64,
}

/// The responses of a trial over the uncertainty of its model, by seeded draws.
#[utoipa::path(post, path = "/api/v1/robustness/envelope", tag = "tuning", request_body = EnvelopeRequest,
    responses((status = 200, body = Envelope), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn response_envelope(
    State(state): State<AppState>,
    Body(request): Body<EnvelopeRequest>,
) -> Result<Json<Envelope>, Problem> {
    let covariance = match request.model_id {
        Some(id) => state.store.model(id).await?.model.process_covariance()?,
        None => {
            let share = request.relative_error.unwrap_or(0.1);
            let values: Vec<f64> = match request.trial.plant.process.as_linear() {
                Some(process) => process.parameters().into_iter().map(|parameter| parameter.2).collect(),
                None => Vec::new(),
            };
            let variance = |k: usize| (share * values[k]).powi(2);
            (0..values.len())
                .map(|i| (0..values.len()).map(|j| if i == j { variance(i) } else { 0.0 }).collect())
                .collect()
        }
    };
    let found = compute(move || envelope(&request.trial, &covariance, request.draws.unwrap_or(200), request.seed));
    Ok(Json(found.await??))
}
