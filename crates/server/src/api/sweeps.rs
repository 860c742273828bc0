//! Sweeps over one number of a trial or two, in the background.

use crate::gate::{compute, compute_job};
use crate::jobs::{Job, Stage};
use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use crate::sweeps::{SweepOutcome, run};
use antistasis_core::assessment::Question;
use antistasis_core::simulation::{Axis, Sweep, SweepTarget, Trial, sweep_targets};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_targets))
        .routes(routes!(start_sweep))
        .routes(routes!(sweep_state, cancel_sweep))
}

/// A sweep to be run.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct SweepRequest {
    /// The trial that is varied.
    trial: Trial,
    /// One axis or two.
    axes: Vec<Axis>,
    /// A signal to be measured besides; null for none.
    #[serde(default)]
    question: Option<Question>,
}

/// A sweep.
#[derive(Debug, Serialize, ToSchema)]
struct SweepState {
    /// Identifier, good for an hour.
    id: Uuid,
    /// How it stands.
    stage: Stage,
    /// Which share is done, 0 to 1.
    share: f64,
    /// What came out, once it is done.
    #[schema(value_type = Option<SweepOutcome>)]
    outcome: Option<Arc<SweepOutcome>>,
    /// What is wrong.
    problem: Option<Problem>,
}

impl SweepState {
    fn of(id: Uuid, job: &Job<SweepOutcome>) -> Self {
        let (stage, outcome, problem) = job.standing();
        Self { id, stage, share: job.share(), outcome, problem }
    }
}

/// Every number of a trial that can be varied, with its unit and, where known, the range of what can be.
#[utoipa::path(post, path = "/api/v1/sweeps/targets", tag = "control", request_body = Trial,
    responses((status = 200, body = Vec<SweepTarget>), (status = 422, body = Problem)))]
async fn list_targets(Body(trial): Body<Trial>) -> Result<Json<Vec<SweepTarget>>, Problem> {
    Ok(Json(compute(move || sweep_targets(&trial)).await??))
}

/// Begins a sweep on all cores.
#[utoipa::path(post, path = "/api/v1/sweeps", tag = "control", request_body = SweepRequest,
    responses((status = 202, body = SweepState), (status = 422, body = Problem)))]
async fn start_sweep(
    State(state): State<AppState>,
    Body(request): Body<SweepRequest>,
) -> Result<(StatusCode, Json<SweepState>), Problem> {
    let sweep = Sweep { trial: request.trial, axes: request.axes };
    let sweep = compute(move || sweep.validate().map(|()| sweep)).await??;
    let (id, job) = state.sweeps.begin()?;
    let running = Arc::clone(&job);
    tokio::spawn(async move {
        let working = Arc::clone(&running);
        let done = compute_job(move || run(&sweep, request.question.as_ref(), &working)).await;
        running.finish(done.and_then(|outcome| outcome));
    });
    Ok((StatusCode::ACCEPTED, Json(SweepState::of(id, &job))))
}

/// How far a sweep is, and what came out.
#[utoipa::path(get, path = "/api/v1/sweeps/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the sweep")),
    responses((status = 200, body = SweepState), (status = 404, body = Problem)))]
async fn sweep_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<SweepState>, Problem> {
    Ok(Json(SweepState::of(id, &*state.sweeps.find(id)?)))
}

/// Ends a sweep that is under way.
#[utoipa::path(delete, path = "/api/v1/sweeps/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the sweep")),
    responses((status = 200, body = SweepState), (status = 404, body = Problem)))]
async fn cancel_sweep(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<SweepState>, Problem> {
    let job = state.sweeps.find(id)?;
    job.cancel();
    Ok(Json(SweepState::of(id, &job)))
}
