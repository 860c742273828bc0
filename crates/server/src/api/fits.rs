//! Fits in the background: how far each is, with the best curve so far, and cancelled where it is no longer wanted.

use super::models::{Fit, IdentifyRequest};
use crate::gate::compute_job;
use crate::jobs::{Job, Stage};
use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use antistasis_core::identification::FitSoFar;
use antistasis_store::ModelRow;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Serialize;
use std::any::Any;
use std::sync::Arc;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(start_fit)).routes(routes!(fit_state, cancel_fit))
}

/// What a fit has made.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct FitOutcome {
    /// The best so far, while it is under way; null where the structure tells nothing on the way.
    so_far: Option<FitSoFar>,
    /// The model, once it is done.
    model: Option<ModelRow>,
}

/// A fit in the background.
#[derive(Debug, Serialize, ToSchema)]
struct FitState {
    /// Identifier, good for an hour.
    id: Uuid,
    /// How it stands.
    stage: Stage,
    /// Which share is done, 0 to 1, about.
    share: f64,
    /// The model, once it is done; the best so far before.
    #[schema(value_type = Option<FitOutcome>)]
    outcome: Option<Arc<FitOutcome>>,
    /// What is wrong.
    problem: Option<Problem>,
}

impl FitState {
    fn of(id: Uuid, job: &Job<FitOutcome>) -> Self {
        let (stage, outcome, problem) = job.standing();
        Self { id, stage, share: job.share(), outcome, problem }
    }
}

fn hear(job: &Job<FitOutcome>, told: &dyn Any) {
    if let Some(so_far) = told.downcast_ref::<FitSoFar>() {
        job.advance(so_far.share);
        job.show(FitOutcome { so_far: Some(so_far.clone()), model: None });
    }
}

/// Begins a fit in the background: the same as a fit that is waited for, with the best curve so far and an end when it is cancelled.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/fits", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = IdentifyRequest,
    responses((status = 202, body = FitState), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn start_fit(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(mut request): Body<IdentifyRequest>,
) -> Result<(StatusCode, Json<FitState>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let fit = Fit::new(&state, &found, &mut request).await?;
    let (id, job) = state.fits.begin()?;
    let running = Arc::clone(&job);
    tokio::spawn(async move {
        let working = Arc::clone(&running);
        let cancelled = || Problem::cancelled("The fit was cancelled.");
        let done = compute_job(move || working.heard(hear, || fit.identified(&request)));
        let outcome = match done.await {
            Ok(Ok(Ok((fit, fitted)))) if !running.is_cancelled() => fit.keep(&state, fitted).await,
            Ok(Ok(Err(problem))) | Err(problem) => Err(problem),
            Ok(Ok(Ok(_)) | Err(_)) => Err(cancelled()),
        };
        running.finish(outcome.map(|model| FitOutcome { so_far: None, model: Some(model) }));
    });
    Ok((StatusCode::ACCEPTED, Json(FitState::of(id, &job))))
}

/// How far a fit is, and what it found.
#[utoipa::path(get, path = "/api/v1/fits/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the fit")),
    responses((status = 200, body = FitState), (status = 404, body = Problem)))]
async fn fit_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<FitState>, Problem> {
    Ok(Json(FitState::of(id, &*state.fits.find(id)?)))
}

/// Ends a fit.
#[utoipa::path(delete, path = "/api/v1/fits/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the fit")),
    responses((status = 200, body = FitState), (status = 404, body = Problem)))]
async fn cancel_fit(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<FitState>, Problem> {
    let job = state.fits.find(id)?;
    job.cancel();
    Ok(Json(FitState::of(id, &job)))
}
