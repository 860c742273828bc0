//! Sweeps over one number of a trial or two, in the queue.

use crate::gate::compute;
use crate::problem::{Body, Path, Problem};
use crate::queue::{Asked, Standing, SweepJob, SweepOutcome};
use crate::state::AppState;
use antistasis_core::assessment::Question;
use antistasis_core::simulation::{Axis, Sweep, SweepTarget, Trial, sweep_targets};
use antistasis_store::JobStanding;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use serde_json::Value;
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
    #[serde(flatten)]
    standing: Standing,
    /// What came out, once it is done.
    #[schema(value_type = Option<SweepOutcome>)]
    outcome: Option<Value>,
}

impl SweepState {
    fn of(id: Uuid, found: JobStanding) -> Self {
        Self { standing: Standing::of(id, &found), outcome: found.outcome }
    }
}

/// Every number of a trial that can be varied, with its unit and, where known, the range of what can be.
#[utoipa::path(post, path = "/api/v1/sweeps/targets", tag = "control", request_body = Trial,
    responses((status = 200, body = Vec<SweepTarget>), (status = 422, body = Problem)))]
async fn list_targets(Body(trial): Body<Trial>) -> Result<Json<Vec<SweepTarget>>, Problem> {
    Ok(Json(compute(move || sweep_targets(&trial)).await??))
}

/// Begins a sweep: the workers of this database share it.
#[utoipa::path(post, path = "/api/v1/sweeps", tag = "control", request_body = SweepRequest,
    responses((status = 202, body = SweepState), (status = 422, body = Problem)))]
async fn start_sweep(
    State(state): State<AppState>,
    Body(request): Body<SweepRequest>,
) -> Result<(StatusCode, Json<SweepState>), Problem> {
    let sweep = Sweep { trial: request.trial, axes: request.axes };
    let sweep = compute(move || sweep.validate().map(|()| sweep)).await??;
    let id = state.queue.begin(&SweepJob { sweep, question: request.question }).await?;
    Ok((StatusCode::ACCEPTED, Json(SweepState::of(id, state.queue.standing(SweepJob::KIND, id).await?))))
}

/// How far a sweep is, and what came out.
#[utoipa::path(get, path = "/api/v1/sweeps/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the sweep")),
    responses((status = 200, body = SweepState), (status = 404, body = Problem)))]
async fn sweep_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<SweepState>, Problem> {
    Ok(Json(SweepState::of(id, state.queue.standing(SweepJob::KIND, id).await?)))
}

/// Ends a sweep that is under way.
#[utoipa::path(delete, path = "/api/v1/sweeps/{id}", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the sweep")),
    responses((status = 200, body = SweepState), (status = 404, body = Problem)))]
async fn cancel_sweep(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<SweepState>, Problem> {
    Ok(Json(SweepState::of(id, state.queue.cancel(SweepJob::KIND, id).await?)))
}
